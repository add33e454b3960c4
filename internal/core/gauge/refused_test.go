package gauge_test

import (
	"cmp"
	"math"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestRefused: what a denial refuses to all who have a grant, anywhere on its places and at any time,
// has no danger, whatever the grant says; and nothing else of it.
func TestRefused(t *testing.T) {
	const estate = "grant g1 group/g stow/item:*,stow/box:scrap /m/berth:x/**\nmember workload/a group/g\n" +
		"member workload/b group/g\ngrant g2 workload/a stow/box:scrap /m/**"
	const second = "g2 stow/box:scrap"
	const both = "g1 stow/box:scrap; g2 stow/box:scrap"
	ids := func(text string) (out []model.ID) {
		for id := range strings.FieldsSeq(text) {
			out = append(out, model.MustID(id))
		}
		return out
	}
	for name, tt := range map[string]struct {
		to, unless, do, where string
		factor                bool
		empty                 bool // nobody is in the group
		want                  string
	}{
		"everybody":           {"everyone", "", "stow/box:scrap", "/m/**", false, false, both},
		"the group":           {"group/g", "", "stow/box:scrap", "/m/**", false, false, both},
		"one of its members":  {"workload/a", "", "stow/box:scrap", "/m/**", false, false, second},
		"it spares one":       {"everyone", "workload/b", "stow/box:scrap", "/m/**", false, false, second},
		"it spares the group": {"everyone", "group/g", "stow/box:scrap", "/m/**", false, false, ""},
		"it spares another":   {"everyone", "person/p", "stow/box:scrap", "/m/**", false, false, both},
		"on a part":           {"everyone", "", "stow/box:scrap", "/m/berth:x/**", false, false, "g1 stow/box:scrap"},
		"on less than a part": {"everyone", "", "stow/box:scrap", "/m/berth:x/box:b1/**", false, false, ""},
		"under a condition":   {"everyone", "", "stow/box:scrap", "/m/**", true, false, ""},
		"all of it": {"everyone", "", "stow/*:*", "/m/**", false, false,
			"g1 stow/item:find stow/item:read stow/item:change stow/box:scrap; g2 stow/box:scrap"},
		"nobody is in it": {"everyone", "", "stow/box:scrap", "/m/**", false, true, both},
		"nobody is in it, and one is spared": {"everyone", "person/p", "stow/box:scrap", "/m/**", false, true,
			"g2 stow/box:scrap"},
	} {
		text := estate
		if tt.empty {
			text = strings.NewReplacer("\nmember workload/a group/g", "", "\nmember workload/b group/g", "").
				Replace(text)
		}
		in, err := gaugetest.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		bare := gauge.Run(in)
		e := in.Index
		d := model.Denial{ID: "d", To: ids(tt.to), Unless: ids(tt.unless),
			Where:  []model.PathPattern{model.MustPathPattern(tt.where)},
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(tt.do)}},
			When:   model.Condition{SecondFactor: tt.factor}}
		if in.Index, err = e.With(access.Edit{Come: access.Come{Denials: []model.Denial{d}}}); err != nil {
			t.Fatal(err)
		}
		r := gauge.Run(in)
		var got []string
		for i, g := range r.Grants {
			if g == nil {
				continue
			}
			if len(g.Refused) > 0 {
				got = append(got, g.Grant.ID+" "+strings.Join(perms(in.Index, g), " "))
			}
			was := bare.Grants[i].Danger
			if g.Danger > was || len(g.Refused) > 0 && g.Danger == was || g.Kept > g.Danger ||
				g.Gives().Count() != g.Perms.Count()-g.Refused.Count() {
				t.Errorf("%s: %s: danger %v, kept %v of %v", name, g.Grant.ID, g.Danger, g.Kept, bare.Grants[i].Danger)
			}
		}
		if s := strings.Join(got, "; "); s != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", name, s, tt.want)
		}
	}
}

// TestRailed: so has what a guardrail or a ceiling refuses to all who have a grant, wherever it can be used.
func TestRailed(t *testing.T) {
	for _, tt := range []struct {
		name, node, unless string // of a guardrail that refuses to drop
		ceiling, to        string
		more               bool // there is a box elsewhere
		want               string
		on                 string // of the grant; "": everything
	}{
		{"above the grant", "/m", "", "", "workload/a", false, "s/box:drop", ""},
		{"where all boxes are", "/m/hall:x", "", "", "workload/a", false, "", ""},
		{"where some are", "/m/hall:x", "", "", "workload/a", true, "", ""},
		{"below, where none is", "/m/hall:z", "", "", "workload/a", false, "", ""},
		{"that spares it", "/m", "workload/a", "", "workload/a", false, "", ""},
		{"that spares its group", "/m", "group/g", "", "group/g", false, "", ""},
		{"that spares somebody else", "/m", "workload/b", "", "group/g", false, "s/box:drop", ""},
		{"of a crowd", "/m", "", "", "signed-in", true, "s/box:drop", ""},
		{"of a crowd, that spares somebody", "/m", "workload/b", "", "signed-in", true, "", ""},
		{"between the grant and its boxes", "/m/hall:x", "", "", "workload/a", true, "", "/m/*/box:*"},
		{"a ceiling", "", "", "/m/hall:x/**", "workload/a", false, "s/box:drop s/hall:open", ""},
		{"a ceiling of other places", "", "", "/n/**", "workload/a", false, "s/box:drop s/box:read s/hall:open", ""},
		{"a ceiling of a member", "", "", "/m/hall:x/**", "group/g", false, "", ""},
	} {
		e := &model.Estate{Source: "m", Memberships: []model.Membership{{Member: model.MustID("workload/a"),
			Group: model.MustID("group/g")}}}
		paths := []string{"/m", "/m/hall:x", "/m/hall:x/box:a", "/m/hall:x/box:b", "/m/hall:z"}
		if tt.more {
			paths = append(paths, "/m/hall:y", "/m/hall:y/box:c")
		}
		for _, p := range paths {
			e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
		}
		for _, p := range []string{"s/box:drop", "s/box:read", "s/hall:open"} {
			kind := strings.Split(strings.TrimPrefix(p, "s/"), ":")[0]
			e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(p),
				Level: model.Change, LogClass: "l", Kinds: []string{kind}})
		}
		for _, id := range []string{"workload/a", "workload/b", "group/g"} {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(id)})
		}
		e.Grants = []model.Grant{{ID: "g1", To: model.MustID(tt.to), Where: []model.PathPattern{
			model.MustPathPattern(cmp.Or(tt.on, "/m/**"))}, Rights: model.Rights{Do: []model.PermissionPattern{
			model.MustPermissionPattern("*")}}}}
		if tt.node != "" {
			r := model.Guardrail{ID: "r", Node: model.MustPath(tt.node), Rights: model.Rights{
				Do:     []model.PermissionPattern{model.MustPermissionPattern("*")},
				Except: []model.PermissionPattern{model.MustPermissionPattern("s/box:drop")}}}
			if tt.unless != "" {
				r.Unless = []model.ID{model.MustID(tt.unless)}
			}
			e.Guardrails = []model.Guardrail{r}
		} else {
			e.Ceilings = []model.Ceiling{{ID: "c", Of: model.MustID("workload/a"),
				Where: []model.PathPattern{model.MustPathPattern(tt.ceiling)}, Rights: model.Rights{
					Do: []model.PermissionPattern{model.MustPermissionPattern("s/box:read")}}}}
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		r := gauge.Run(&gauge.Input{Index: x, Window: 90, Coverage: usage.NewCoverage(nil, usage.Read{})})
		if got := strings.Join(perms(x, r.Grants[0]), " "); got != tt.want {
			t.Errorf("%s: refused is %q, want %q", tt.name, got, tt.want)
		}
		s := r.Of(model.MustID("workload/a"))
		if tt.to == "workload/a" && math.Abs(s.Danger-r.Grants[0].Danger) > 1e-9 {
			t.Errorf("%s: it holds %g, and its only grant has %g", tt.name, s.Danger, r.Grants[0].Danger)
		}
	}
}

func perms(x *index.Index, g *gauge.GrantResult) []string {
	var out []string
	for p := range g.Refused.All() {
		out = append(out, x.Permission(p).Permission.String())
	}
	return out
}
