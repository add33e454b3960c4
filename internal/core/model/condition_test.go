package model_test

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
)

var (
	harbour = netip.MustParsePrefix("10.20.0.0/16")
	office  = netip.MustParsePrefix("10.20.3.0/24")
	noon    = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC) // a Tuesday
)

func TestConditionEval(t *testing.T) {
	full := model.Context{Time: noon, Network: netip.MustParseAddr("10.20.3.4"), SecondFactor: model.True,
		Labels: map[string]string{"data": "internal"}}
	for _, tt := range []struct {
		name string
		c    model.Condition
		ctx  model.Context
		want model.Truth
		rest string
	}{
		{"none", model.Condition{}, model.Context{}, model.True, "always"},
		{"network in", model.Condition{Networks: []netip.Prefix{office}}, full, model.True, "always"},
		{"network out", model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}, full,
			model.False, "always"},
		{"network mapped", model.Condition{Networks: []netip.Prefix{office}},
			model.Context{Network: netip.MustParseAddr("::ffff:10.20.3.9")}, model.True, "always"},
		// Uses know only the block of an address: what lies partly inside is not decided.
		{"block inside", model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("10.20.0.0/16")}},
			model.Context{Block: office}, model.True, "always"},
		{"block outside", model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}},
			model.Context{Block: office}, model.False, "always"},
		{"block half inside", model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("10.20.3.128/25")}},
			model.Context{Block: office}, model.Open, "from network 10.20.3.128/25"},
		{"network unknown", model.Condition{Networks: []netip.Prefix{office}, SecondFactor: true},
			model.Context{SecondFactor: model.True}, model.Open, "from network 10.20.3.0/24"},
		{"factor no", model.Condition{SecondFactor: true}, model.Context{SecondFactor: model.False}, model.False,
			"always"},
		{"factor unknown", model.Condition{SecondFactor: true}, model.Context{}, model.Open, "with a second factor"},
		{"labels met", model.Condition{Labels: map[string]string{"data": "internal"}}, full, model.True, "always"},
		{"labels not", model.Condition{Labels: map[string]string{"data": "public"}}, full, model.False, "always"},
		{"labels absent", model.Condition{Labels: map[string]string{"x": ""}}, full, model.False, "always"},
		{"labels unknown", model.Condition{Labels: map[string]string{"x": "y"}}, model.Context{}, model.Open,
			"on resources labelled x=y"},
		{"until is not included", model.Condition{Until: noon}, full, model.False, "always"},
		{"from is included", model.Condition{From: noon}, full, model.True, "always"},
		{"until open", model.Condition{Until: noon}, model.Context{}, model.Open, "until 2026-11-24T12:00:00Z"},
		// An opaque condition is never met and never unmet.
		{"opaque", model.Condition{Opaque: []string{"ip in (x)"}}, full, model.Open,
			`as the source says: "ip in (x)"`},
		{"opaque and false", model.Condition{Opaque: []string{"x"}, Until: noon}, full, model.False, "always"},
	} {
		got, rest := tt.c.Eval(tt.ctx)
		if got != tt.want || rest.String() != tt.rest {
			t.Errorf("%s: Eval = %s, %s, want %s, %s", tt.name, got, rest, tt.want, tt.rest)
		}
	}
}

func TestHours(t *testing.T) {
	work := model.Hours{Days: []string{"mon", "tue"}, From: "08:00", To: "16:00", Zone: "Europe/Oslo"}
	night := model.Hours{Days: []string{"mon"}, From: "22:00", To: "06:00", Zone: "UTC"}
	for _, tt := range []struct {
		h    model.Hours
		at   string
		want bool
	}{
		{work, "2026-11-24T07:00:00Z", true}, // 08:00 in Oslo
		{work, "2026-11-24T06:59:59Z", false},
		{work, "2026-11-24T15:00:00Z", false}, // 16:00 is not included
		{work, "2026-11-25T10:00:00Z", false}, // a Wednesday
		{work, "2026-07-28T06:00:00Z", true},  // summer time
		{night, "2026-11-23T23:00:00Z", true},
		{night, "2026-11-24T05:59:00Z", true}, // still Monday's night
		{night, "2026-11-23T05:00:00Z", false},
		{night, "2026-11-24T22:00:00Z", false},
	} {
		at, _ := time.Parse(time.RFC3339, tt.at)
		if got := tt.h.Hold(at); got != tt.want {
			t.Errorf("%v holds at %s = %t, want %t", tt.h, tt.at, got, tt.want)
		}
	}
	for _, bad := range []model.Hours{{}, {Days: []string{"moon"}, From: "08:00", To: "09:00", Zone: "UTC"},
		{Days: []string{"mon"}, From: "8", To: "09:00", Zone: "UTC"},
		{Days: []string{"mon"}, From: "08:00", To: "09:00", Zone: "Oslo"},
		{Days: []string{"mon"}, From: "08:00", To: "09:00", Zone: "Local"}} {
		if bad.Validate() == nil {
			t.Errorf("%v validates", bad)
		}
	}
}

func randomCondition(r *rand.Rand) model.Condition {
	var c model.Condition
	if r.IntN(2) == 0 {
		c.Networks = [][]netip.Prefix{{harbour}, {office}, {office, netip.MustParsePrefix("192.0.2.0/24")}}[r.IntN(3)]
	}
	c.SecondFactor = r.IntN(3) == 0
	if r.IntN(3) == 0 {
		c.Labels = map[string]string{"data": []string{"internal", "public"}[r.IntN(2)]}
	}
	if r.IntN(3) == 0 {
		c.Until = noon.Add(time.Duration(r.IntN(3)-1) * time.Hour)
	}
	if r.IntN(3) == 0 {
		c.From = noon.Add(time.Duration(r.IntN(3)-1) * time.Hour)
	}
	if r.IntN(4) == 0 {
		c.Hours = &model.Hours{Days: [][]string{{"tue"}, {"mon", "tue"}}[r.IntN(2)], From: "08:00", To: "16:00",
			Zone: "UTC"}
	}
	if r.IntN(6) == 0 {
		c.Opaque = []string{"x"}
	}
	return c
}

// TestImplies checks that an implication that is seen is one: no context meets
// the stronger condition and misses the weaker. And what is left of a condition
// decides like the whole.
func TestImplies(t *testing.T) {
	const seed = 7
	r := rand.New(rand.NewPCG(seed, 0))
	var contexts []model.Context
	for _, n := range []string{"10.20.3.1", "10.20.9.1", "192.0.2.1", "203.0.113.1"} {
		for _, f := range []model.Truth{model.True, model.False} {
			for _, h := range []int{-2, 0, 2} {
				for _, l := range []string{"internal", "public"} {
					contexts = append(contexts, model.Context{Time: noon.Add(time.Duration(h) * time.Hour),
						Network: netip.MustParseAddr(n), SecondFactor: f, Labels: map[string]string{"data": l}})
				}
			}
		}
	}
	seen := 0
	for range 5000 {
		c, d := randomCondition(r), randomCondition(r)
		if !c.Implies(c) || !c.Equal(c) || !c.Implies(model.Condition{}) {
			t.Fatalf("seed %d: %s does not imply itself, or always", seed, c)
		}
		implied := c.Implies(d)
		if implied {
			seen++
		}
		for _, ctx := range contexts {
			ct, _ := c.Eval(ctx)
			dt, _ := d.Eval(ctx)
			if implied && ct == model.True && dt != model.True {
				t.Fatalf("seed %d: (%s) implies (%s), but not at %v", seed, c, d, ctx)
			}
			part := ctx
			part.Network, part.SecondFactor = netip.Addr{}, model.Open
			pt, rest := c.Eval(part)
			if pt == model.Open {
				if rt, _ := rest.Eval(ctx); rt != ct {
					t.Fatalf("seed %d: what is left of (%s) is (%s), which is %s where the whole is %s", seed, c, rest,
						rt, ct)
				}
			} else if pt != ct {
				t.Fatalf("seed %d: (%s) is %s with less known and %s with more", seed, c, pt, ct)
			}
		}
	}
	if seen < 100 {
		t.Errorf("only %d implications were tried", seen)
	}
}

func TestValidate(t *testing.T) {
	good := func() *model.Estate {
		return &model.Estate{Source: "m",
			Catalogue: model.Catalogue{{Permission: model.MustPermission("s/o:r"), Level: model.Read}},
			Nodes: []model.Node{{Path: model.MustPath("/m/harbour:a")},
				{Path: model.MustPath("/m/harbour:a/b:c")}},
			Identities: []model.Identity{{ID: model.MustID("person/a")}, {ID: model.MustID("group/g")},
				{ID: model.MustID("group/h")}},
			// Cycles are legal.
			Memberships: []model.Membership{{Member: model.MustID("group/g"), Group: model.MustID("group/h")},
				{Member: model.MustID("group/h"), Group: model.MustID("group/g")}},
			ActAs: []model.ActAs{{ID: "1", From: model.MustID("person/a"), To: model.MustID("person/a")}},
			Roles: []model.Role{{Name: "r",
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}}}},
			Grants: []model.Grant{{ID: "g1", To: model.MustID("everyone"), Role: "r",
				Where: []model.PathPattern{model.MustPathPattern("/m/harbour:a/**")}}},
		}
	}
	if err := good().Validate(); err != nil {
		t.Fatalf("a good estate: %v", err)
	}
	pats := func(s string) []model.PermissionPattern {
		return []model.PermissionPattern{model.MustPermissionPattern(s)}
	}
	on := []model.PathPattern{model.MustPathPattern("/m/**")}
	for _, tt := range []struct {
		name string
		bend func(*model.Estate)
		want string
	}{
		{"no source", func(e *model.Estate) { e.Source = "" }, "names no source"},
		{"double node", func(e *model.Estate) { e.Nodes = append(e.Nodes, e.Nodes[0]) }, "listed twice"},
		{"floating node", func(e *model.Estate) {
			e.Nodes = append(e.Nodes,
				model.Node{Path: model.MustPath("/m/harbour:x/b:c")})
		}, "hangs in the air"},
		{"foreign node", func(e *model.Estate) {
			e.Nodes = append(e.Nodes,
				model.Node{Path: model.MustPath("/other")})
		}, `outside source "m"`},
		{"double identity", func(e *model.Estate) { e.Identities = append(e.Identities, e.Identities[0]) },
			"listed twice"},
		{"crowd", func(e *model.Estate) {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID("everyone")})
		}, "stands for a crowd"},
		{"sourced identity", func(e *model.Estate) {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID("m:person/x")})
		}, "must not"},
		{"dangling member", func(e *model.Estate) { e.Memberships[0].Member = model.MustID("person/gone") },
			"refers to person/gone"},
		{"dangling group", func(e *model.Estate) { e.Memberships[0].Group = model.MustID("group/gone") },
			"refers to group/gone"},
		{"member of a person", func(e *model.Estate) { e.Memberships[0].Group = model.MustID("person/a") },
			"is not a group"},
		{"act as a crowd", func(e *model.Estate) { e.ActAs[0].To = model.MustID("everyone") }, "nobody can act as"},
		{"unknown permission", func(e *model.Estate) { e.Roles[0].Do = pats("s/x:y") }, "does not know"},
		{"unknown role", func(e *model.Estate) { e.Grants[0].Role = "gone" }, `role "gone", which is not listed`},
		{"role and list", func(e *model.Estate) { e.Grants[0].Do = pats("s/o:r") }, "both a role"},
		{"neither", func(e *model.Estate) { e.Grants[0].Role = "" }, "neither a role"},
		{"nowhere", func(e *model.Estate) { e.Grants[0].Where = nil }, "names no place"},
		{"bad side", func(e *model.Estate) { e.Grants[0].KeptWith = "left" }, "neither holder nor place"},
		{"a grant without an id", func(e *model.Estate) { e.Grants[0].ID = "" }, "grant has no id"},
		{"a denial without an id", func(e *model.Estate) {
			e.Denials = []model.Denial{{To: []model.ID{model.MustID("everyone")},
				Rights: model.Rights{Do: pats("*")}, Where: on}}
		}, "denial has no id"},
		{"double grant", func(e *model.Estate) { e.Grants = append(e.Grants, e.Grants[0]) }, "listed twice"},
		{"included role gone", func(e *model.Estate) { e.Roles[0].Includes = []string{"gone"} },
			`includes role "gone"`},
		{"no level", func(e *model.Estate) { e.Catalogue[0].Level = 0 }, "has no level"},
		{"odd escalation", func(e *model.Estate) { e.Catalogue[0].Escalates = "magic" }, "which is none of"},
		{"double permission", func(e *model.Estate) { e.Catalogue = append(e.Catalogue, e.Catalogue[0]) },
			"catalogue twice"},
		{"additive with denials", func(e *model.Estate) {
			e.Semantics.Additive = true
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{model.MustID("everyone")},
				Rights: model.Rights{Do: pats("*")}, Where: on}}
		}, "additive"},
		{"ceiling of nobody", func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c", Rights: model.Rights{Do: pats("*")}, Where: on}}
		}, "names nobody"},
		{"a denial that spares nobody known", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{model.MustID("everyone")},
				Unless: []model.ID{model.MustID("person/nobody")}, Rights: model.Rights{Do: pats("*")}, Where: on}}
		}, "person/nobody"},
		{"a denial nowhere", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{model.MustID("everyone")},
				Rights: model.Rights{Do: pats("*")}}}
		}, `denial "d" names no place`},
		{"a ceiling nowhere", func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c", Of: model.MustID("person/a"), Rights: model.Rights{Do: pats("*")}}}
		}, `ceiling "c" names no place`},
		{"guardrail outside", func(e *model.Estate) {
			e.Guardrails = []model.Guardrail{{ID: "r", Node: model.MustPath("/x"),
				Rights: model.Rights{Do: pats("*")}}}
		}, "outside source"},
		{"acting as somebody at bad hours", func(e *model.Estate) {
			e.ActAs[0].When = model.Condition{Hours: &model.Hours{}}
		}, "name no days"},
		{"a denial of bad hours", func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{model.MustID("everyone")},
				Rights: model.Rights{Do: pats("*")}, Where: on, When: model.Condition{Hours: &model.Hours{}}}}
		}, "name no days"},
		{"bad hours", func(e *model.Estate) { e.Grants[0].When.Hours = &model.Hours{} }, "name no days"},
	} {
		e := good()
		tt.bend(e)
		err := e.Validate()
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
	}
}

func TestDuration(t *testing.T) {
	for in, want := range map[string]string{"90d": "90d", "4h": "4h", "59m": "59m", "48h": "2d", "60m": "1h",
		"90s": "90s"} {
		d, err := model.ParseDuration(in)
		if err != nil || d.String() != want {
			t.Errorf("ParseDuration(%q) = %s, %v, want %s", in, d, err, want)
		}
	}
	for _, in := range []string{"", "0d", "-1h", "1w", "1.5h", "4 h", "99999999d"} {
		if _, err := model.ParseDuration(in); err == nil {
			t.Errorf("ParseDuration(%q) is taken", in)
		}
	}
}

// TestConditionEqual: conditions are the same when each part is, in the same words.
func TestConditionEqual(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	make := func() model.Condition {
		return model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}, SecondFactor: true,
			Hours:  &model.Hours{Days: []string{"mon"}, From: "08:00", To: "17:00", Zone: "UTC"},
			Labels: map[string]string{"a": "b"}, From: at, Until: at.AddDate(0, 1, 0), Opaque: []string{"x"}}
	}
	one := make()
	if !one.Equal(make()) || !(model.Condition{}).Equal(model.Condition{}) {
		t.Error("the same is not the same")
	}
	for name, bend := range map[string]func(c *model.Condition){
		"a network":            func(c *model.Condition) { c.Networks = nil },
		"the second factor":    func(c *model.Condition) { c.SecondFactor = false },
		"no hours":             func(c *model.Condition) { c.Hours = nil },
		"the days":             func(c *model.Condition) { c.Hours.Days = []string{"tue"} },
		"when they begin":      func(c *model.Condition) { c.Hours.From = "09:00" },
		"when they end":        func(c *model.Condition) { c.Hours.To = "18:00" },
		"where":                func(c *model.Condition) { c.Hours.Zone = "Europe/Oslo" },
		"a label":              func(c *model.Condition) { c.Labels["a"] = "c" },
		"from when on":         func(c *model.Condition) { c.From = at.Add(time.Second) },
		"until when":           func(c *model.Condition) { c.Until = at.AddDate(0, 2, 0) },
		"what cannot be known": func(c *model.Condition) { c.Opaque = nil },
	} {
		two := make()
		if bend(&two); one.Equal(two) || two.Equal(one) {
			t.Errorf("another is the same but for %s", name)
		}
	}
}
