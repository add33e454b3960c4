package posture_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/posture"
	"clipfence/internal/core/usage"
)

func id(s string) model.ID { return model.MustID(s) }

func on(ps ...string) []model.PathPattern {
	var out []model.PathPattern
	for _, p := range ps {
		out = append(out, model.MustPathPattern(p))
	}
	return out
}

func do(ps ...string) model.Rights {
	var r model.Rights
	for _, p := range ps {
		r.Do = append(r.Do, model.MustPermissionPattern(p))
	}
	return r
}

// estate is a small one in which nothing is wrong.
func estate() *model.Estate {
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s/harbour:o")},
		{Path: model.MustPath("/s/harbour:o/berth:p")}, {Path: model.MustPath("/s/harbour:o/berth:p/box:b")}}}
	for _, c := range []struct {
		p         string
		level     model.Level
		escalates string
	}{{"stow/item:read", model.Read, ""}, {"stow/item:change", model.Change, ""},
		{"muster/grant:give", model.HandOut, model.EditGrants},
		{"muster/roll:let-in", model.HandOut, model.JoinGroup}} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(c.p), Level: c.level,
			Escalates: c.escalates})
	}
	for _, i := range []string{"person/a", "person/b", "workload/w", "workload/v", "external/x", "group/g",
		"group/admins"} {
		e.Identities = append(e.Identities, model.Identity{ID: id(i)})
	}
	e.Grants = []model.Grant{{ID: "g-read", To: id("person/a"), Rights: do("stow/item:read"),
		Where: on("/s/harbour:o/berth:p/**")}}
	return e
}

// TestFindings plants one fault at a time and reads the findings.
func TestFindings(t *testing.T) {
	for _, tt := range []struct {
		name  string
		plant func(e *model.Estate)
		want  string // kind identity rule-or-grant-or-node, more by "; "
	}{
		{"nothing", func(*model.Estate) {}, ""},
		{"an outsider", func(e *model.Estate) {
			e.Grants = append(e.Grants, model.Grant{ID: "g-x", To: id("external/x"), Rights: do("stow/item:read"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, "outsider-access external/x g-x low"},
		{"an outsider in a group that writes", func(e *model.Estate) {
			e.Memberships = []model.Membership{{Member: id("external/x"), Group: id("group/g")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-x", To: id("group/g"), Rights: do("stow/item:change"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, "outsider-access group/g g-x high of 1"},
		{"two outsiders in it, of whom a denial leaves one reading, and one of their own", func(e *model.Estate) {
			e.Identities = append(e.Identities, model.Identity{ID: id("external/y")},
				model.Identity{ID: id("external/z"), Disabled: true})
			e.Memberships = []model.Membership{{Member: id("external/x"), Group: id("group/g")},
				{Member: id("external/y"), Group: id("group/g")}, {Member: id("external/z"), Group: id("group/g")}}
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{id("external/x")}, Rights: do("stow/item:change"),
				Where: on("/s/**")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-x", To: id("group/g"), Rights: do("stow/item:*"),
				Where: on("/s/harbour:o/berth:p/**")}, model.Grant{ID: "g-y", To: id("external/y"),
				Rights: do("stow/item:read"), Where: on("/s/harbour:o/berth:p/**")})
		}, "outsider-access group/g g-x high of 2; outsider-access external/y g-y low"},
		{"a grant that a denial swallows", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("person/a")}, Rights: do("stow/*:*"),
				Where: on("/s/**")}}
		}, "dead-grant person/a g-read low"},
		{"a grant of a role that gives nothing is not one that something swallows", func(e *model.Estate) {
			e.Roles = append(e.Roles, model.Role{Name: "empty"})
			e.Grants = append(e.Grants, model.Grant{ID: "g-e", To: id("person/a"), Role: "empty", Where: on("/s/**")})
		}, ""},
		{"a denial of a part is no dead grant", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("person/a")}, Rights: do("stow/*:*"),
				Where: on("/s/harbour:o/berth:p/box:b/**")}}
		}, ""},
		{"a denial that refuses nothing", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("person/b")}, Rights: do("stow/*:*"),
				Where: on("/s/**")}}
		}, "idle-denial person/b d-1 low"},
		{"a denial of everybody that refuses nothing", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", Rights: do("muster/*:*"), Where: on("/s/**")}}
		}, "idle-denial everyone d-1 low"},
		{"a denial that spares all it could refuse", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("signed-in")}, Unless: []model.ID{id("person/a")},
				Rights: do("stow/*:*"), Where: on("/s/**")}}
		}, "idle-denial signed-in d-1 low"},
		{"a denial elsewhere", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("person/a")}, Rights: do("stow/*:*"),
				Where: on("/s/harbour:o/berth:q/**")}}
		}, "idle-denial person/a d-1 low"},
		{"a ceiling above everything", func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c-1", Of: id("person/a"), Rights: do("stow/*:*"),
				Where: on("/s/harbour:o/**")}}
		}, "idle-ceiling person/a c-1 low"},
		{"a ceiling that cuts places", func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c-1", Of: id("person/a"), Rights: do("stow/*:*"),
				Where: on("/s/harbour:o/berth:p/box:b/**")}}
		}, ""},
		{"a ceiling that cuts permissions", func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c-1", Of: id("person/a"), Rights: do("stow/item:change"),
				Where: on("/s/**")}}
		}, "dead-grant person/a g-read low"},
		{"a wildcard", func(e *model.Estate) { e.Grants[0].Rights = do("stow/*:*") },
			"wildcard-grant person/a g-read low"},
		{"a wildcard in a role", func(e *model.Estate) {
			e.Roles = []model.Role{{Name: "r", Rights: do("*")}}
			e.Grants[0] = model.Grant{ID: "g-read", To: id("group/g"), Role: "r", Where: on("/s/harbour:o/berth:p/**")}
		}, "wildcard-grant group/g g-read medium"},
		{"a wildcard in a built-in role is the source's", func(e *model.Estate) {
			e.Roles = []model.Role{{Name: "r", Builtin: true, Rights: do("*")}}
			e.Grants[0] = model.Grant{ID: "g-read", To: id("group/g"), Role: "r", Where: on("/s/harbour:o/berth:p/**")}
		}, ""},
		{"all verbs of one noun are no wildcard", func(e *model.Estate) { e.Grants[0].Rights = do("stow/item:*") },
			""},
		{"a workload that can hand out rights", func(e *model.Estate) {
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/berth:p/box:b/**")})
		}, "workload-hand-out workload/w g-w high"},
		{"two workloads that can by their group", func(e *model.Estate) {
			e.Identities = append(e.Identities, model.Identity{ID: id("workload/u")})
			e.Memberships = []model.Membership{{Member: id("workload/w"), Group: id("group/g")},
				{Member: id("workload/u"), Group: id("group/g")}, {Member: id("person/a"), Group: id("group/g")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("group/g"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/berth:p/box:b/**")})
		}, "workload-hand-out group/g g-w high of 2"},
		{"for an hour it is none", func(e *model.Estate) {
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/berth:p/box:b/**"), Until: time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)})
		}, ""},
		{"many administrators", func(e *model.Estate) {
			for i := range 6 {
				who := id(fmt.Sprintf("person/n%d", i))
				e.Identities = append(e.Identities, model.Identity{ID: who})
				e.Memberships = append(e.Memberships, model.Membership{Member: who, Group: id("group/admins")})
			}
			e.Grants = append(e.Grants, model.Grant{ID: "g-n", To: id("group/admins"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/**")})
		}, "many-administrators /s/harbour:o medium"},
		{"as many, of whom some are disabled or kept for emergencies", func(e *model.Estate) {
			for i := range 6 {
				who := id(fmt.Sprintf("person/n%d", i))
				one := model.Identity{ID: who, Disabled: i == 0}
				if i > 3 {
					one.Labels = map[string]string{"purpose": "break-glass"}
				}
				e.Identities = append(e.Identities, one)
				e.Memberships = append(e.Memberships, model.Membership{Member: who, Group: id("group/admins")})
			}
			e.Grants = append(e.Grants, model.Grant{ID: "g-n", To: id("group/admins"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/**")})
		}, ""},
		{"a chain, at whose end somebody writes", func(e *model.Estate) {
			e.ActAs = []model.ActAs{{ID: "a-1", From: id("person/b"), To: id("workload/v")},
				{ID: "a-2", From: id("workload/v"), To: id("workload/w")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("stow/item:change"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, "act-as-chain person/b person/b > workload/v > workload/w medium"},
		{"a chain that begins with a group is one finding, of the group", func(e *model.Estate) {
			e.ActAs = []model.ActAs{{ID: "a-1", From: id("group/g"), To: id("workload/v")},
				{ID: "a-2", From: id("workload/v"), To: id("workload/w")},
				{ID: "a-3", From: id("workload/w"), To: id("person/a")}}
			e.Memberships = []model.Membership{{Member: id("person/a"), Group: id("group/g")},
				{Member: id("person/b"), Group: id("group/g")}, {Member: id("workload/w"), Group: id("group/g")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("stow/item:change"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, "act-as-chain group/g group/g > workload/v > workload/w medium of 2; " +
			"act-as-chain workload/v workload/v > workload/w > person/a medium"},
		{"who may act as the worst at once has no chain to it", func(e *model.Estate) {
			e.ActAs = []model.ActAs{{ID: "a-1", From: id("person/b"), To: id("workload/v")},
				{ID: "a-2", From: id("workload/v"), To: id("workload/w")},
				{ID: "a-3", From: id("person/b"), To: id("workload/w")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("stow/item:change"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, ""},
		{"a chain that leads to nothing", func(e *model.Estate) {
			e.ActAs = []model.ActAs{{ID: "a-1", From: id("person/b"), To: id("workload/v")},
				{ID: "a-2", From: id("workload/v"), To: id("workload/w")}}
		}, ""},
		{"joins the administrators", func(e *model.Estate) {
			e.Grants = append(e.Grants, model.Grant{ID: "g-n", To: id("group/admins"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/**")},
				model.Grant{ID: "g-j", To: id("person/b"), Rights: do("muster/roll:let-in"),
					Where: on("/s/harbour:o")})
		}, "escalation person/b /s/harbour:o high"},
		{"an account for emergencies may get further", func(e *model.Estate) {
			e.Identities[1].Labels = map[string]string{"purpose": "break-glass"}
			e.Grants = append(e.Grants, model.Grant{ID: "g-n", To: id("group/admins"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/**")},
				model.Grant{ID: "g-j", To: id("person/b"), Rights: do("muster/roll:let-in"),
					Where: on("/s/harbour:o")})
		}, ""},
		{"a closed outsider is gone already", func(e *model.Estate) {
			e.Identities[4].Disabled = true
			e.Grants = append(e.Grants, model.Grant{ID: "g-x", To: id("external/x"), Rights: do("stow/item:read"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, ""},
		{"what a denial swallows is told of who has it, not of its group", func(e *model.Estate) {
			e.Memberships = []model.Membership{{Member: id("person/b"), Group: id("group/g")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-g", To: id("group/g"), Rights: do("stow/item:change"),
				Where: on("/s/harbour:o/berth:p/**")})
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("group/g")}, Rights: do("stow/*:*"),
				Where: on("/s/**")}}
		}, ""},
		{"by day it is none either", func(e *model.Estate) {
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/berth:p/box:b/**"), When: model.Condition{Hours: &model.Hours{
					Days: []string{"mon"}, From: "08:00", To: "17:00", Zone: "UTC"}}})
		}, ""},
		{"a role that gives nothing is not what a ceiling cuts", func(e *model.Estate) {
			e.Roles = append(e.Roles, model.Role{Name: "empty"})
			e.Grants = append(e.Grants, model.Grant{ID: "g-e", To: id("person/a"), Role: "empty", Where: on("/s/**")})
			e.Ceilings = []model.Ceiling{{ID: "c-1", Of: id("person/a"), Rights: do("stow/*:*"),
				Where: on("/s/harbour:o/**")}}
		}, "idle-ceiling person/a c-1 low"},
		{"many administrators of one part alone", func(e *model.Estate) {
			for i := range 6 {
				who := id(fmt.Sprintf("person/n%d", i))
				e.Identities = append(e.Identities, model.Identity{ID: who})
				e.Memberships = append(e.Memberships, model.Membership{Member: who, Group: id("group/admins")})
			}
			e.Grants = append(e.Grants, model.Grant{ID: "g-n", To: id("group/admins"), Rights: do("muster/grant:give"),
				Where: on("/s/harbour:o/berth:p/**")})
		}, "many-administrators /s/harbour:o/berth:p medium"},
		{"of two chains the worse one, wherever it stands", func(e *model.Estate) {
			e.ActAs = []model.ActAs{{ID: "a-1", From: id("person/b"), To: id("workload/v")},
				{ID: "a-2", From: id("workload/v"), To: id("workload/w")},
				{ID: "a-3", From: id("workload/v"), To: id("external/x")}}
			e.Grants = append(e.Grants, model.Grant{ID: "g-w", To: id("workload/w"), Rights: do("stow/item:change"),
				Where: on("/s/harbour:o/berth:p/**")}, model.Grant{ID: "g-x", To: id("external/x"),
				Rights: do("stow/item:read"), Where: on("/s/harbour:o/berth:p/box:b")})
		}, "act-as-chain person/b person/b > workload/v > workload/w medium; outsider-access external/x g-x low"},
		{"protected, it is left alone", func(e *model.Estate) {
			e.Identities[0].Labels = map[string]string{"purpose": "break-glass"}
			e.Grants[0].Rights = do("*")
		}, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			e := estate()
			tt.plant(e)
			if err := e.Validate(); err != nil {
				t.Fatal(err)
			}
			x, err := index.Build(e)
			if err != nil {
				t.Fatal(err)
			}
			in := &gauge.Input{Index: x, Coverage: usage.NewCoverage(nil, usage.Read{}),
				AsOf: time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC), Window: 90}
			var got []string
			for _, f := range posture.Findings(in, gauge.Run(in),
				[]model.Path{model.MustPath("/s/harbour:o"), model.MustPath("/s/harbour:o/berth:p")}, nil) {
				words := []string{string(f.Kind), f.Identity.String(), f.Rule}
				if f.Grant != nil {
					words = append(words, f.Grant.Grant.ID)
				}
				var chain []string
				for _, c := range f.Chain {
					chain = append(chain, c.String())
				}
				words = append(words, f.Node.String(), strings.Join(chain, " > "), f.Severity.String())
				if n := len(f.Holders); n > 0 {
					words = append(words, fmt.Sprintf("of %d", n))
				}
				got = append(got, strings.Join(slices.DeleteFunc(words, func(s string) bool { return s == "" }), " "))
			}
			if text := strings.Join(got, "; "); text != tt.want {
				t.Errorf("found %q, want %q", text, tt.want)
			}
		})
	}
}

// TestEscalationDanger: what is told of somebody who can make itself administrator is the danger that it gains,
// whether anything is granted to it or not, also of one of another source who is linked in.
func TestEscalationDanger(t *testing.T) {
	for _, who := range []string{"person/b", "signed-in", "dir:person/z"} {
		e := estate()
		to := who
		if who == "dir:person/z" {
			to = "group/g"
			e.Identities = append(e.Identities, model.Identity{ID: id(who)})
			e.Memberships = append(e.Memberships, model.Membership{Member: id(who), Group: id(to)})
		}
		e.Grants = append(e.Grants, model.Grant{ID: "g-n", To: id("group/admins"), Rights: do("muster/grant:give"),
			Where: on("/s/harbour:o/**")}, model.Grant{ID: "g-j", To: id(to), Rights: do("muster/roll:let-in"),
			Where: on("/s/harbour:o")})
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		in := &gauge.Input{Index: x, Coverage: usage.NewCoverage(nil, usage.Read{}), Weights: gauge.DefaultWeights,
			AsOf: time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC), Window: 90}
		w := gauge.DefaultWeights
		// Whoever may hand out rights on the top has all there is: four permissions on three places.
		all := 2*w.Of(model.HandOut, 3) + w.Of(model.Change, 3) + w.Of(model.Read, 3)
		told := false
		for _, f := range posture.Findings(in, gauge.Run(in), []model.Path{model.MustPath("/s/harbour:o")}, nil) {
			if f.Kind != posture.Escalation || f.Identity != id(who) {
				continue
			}
			if want := all - w.Of(model.HandOut, 1); math.Abs(f.Danger-want) > 1e-9 {
				t.Errorf("%s gains %.1f, want %.1f", who, f.Danger, want)
			}
			told = true
		}
		if !told {
			t.Errorf("%s is not told", who)
		}
	}
}
