package gauge_test

import (
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
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
			if less := g.Danger < bare.Grants[i].Danger; less != (len(g.Refused) > 0) || g.Kept > g.Danger ||
				g.Gives().Count() != g.Perms.Count()-g.Refused.Count() {
				t.Errorf("%s: %s: danger %v, kept %v of %v", name, g.Grant.ID, g.Danger, g.Kept, bare.Grants[i].Danger)
			}
		}
		if s := strings.Join(got, "; "); s != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", name, s, tt.want)
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
