package draft_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
)

// TestLeaves: who does nothing by what a group gives leaves it, where that takes danger away and
// nothing observed breaks; whoever did something by it stays, and so does everybody whom leaving would
// let do more, or of whom a call may have been of the group's. The drafts hold.
func TestLeaves(t *testing.T) {
	const here, there = "/m/project:p1/box:a", "/m/project:p2/box:b"
	daily := span(-399, -1)
	for name, tt := range map[string]struct {
		change func(c *plain, g model.ID, in []model.ID)
		leave  string // members
	}{
		"five of eight": {func(*plain, model.ID, []model.ID) {}, "m3 m4 m5 m6 m7"},
		"one did it once": {func(c *plain, _ model.ID, in []model.ID) { c.uses(in[4], "scrap", there, -300) },
			"m3 m5 m6 m7"},
		"one did what its own grant gives as well": {func(c *plain, _ model.ID, in []model.ID) {
			c.uses(in[4], "put", here, daily...)
			c.grant(in[4], "/m/project:p1/**", 900, "s/item:put")
		}, "m3 m5 m6 m7"},
		"one made a call that is not placed": {func(c *plain, _ model.ID, in []model.ID) {
			c.before.Add(usage.Call{Time: asOf.AddDate(0, 0, -5), Identity: in[4], Outcome: usage.Done,
				Permission: model.MustPermission("s/item:fly"), Path: model.MustPath(here)})
		}, "m3 m5 m6 m7"},
		"a denial holds those in it": {func(c *plain, g model.ID, _ []model.ID) {
			c.e.Denials = append(c.e.Denials, model.Denial{ID: "d", To: []model.ID{g},
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:share")}},
				Where:  []model.PathPattern{model.MustPathPattern("/m/**")}})
		}, ""},
		"only the log shows who is in it": {func(c *plain, g model.ID, _ []model.ID) {
			for i := range c.e.Identities {
				if c.e.Identities[i].ID == g {
					c.e.Identities[i].ByLog = true
				}
			}
		}, ""},
		"a denial spares those in it": {func(c *plain, g model.ID, _ []model.ID) {
			c.e.Denials = append(c.e.Denials, model.Denial{ID: "d", To: []model.ID{model.MustID("everyone")},
				Unless: []model.ID{g},
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("big/item:do-3")}},
				Where:  []model.PathPattern{model.MustPathPattern("/m/**")}})
		}, ""},
		"another group gives the same": {func(c *plain, _ model.ID, in []model.ID) {
			other := c.who("group/other")
			c.grant(other, "/m/**", 900, "s/item:read", "s/item:put", "s/item:scrap", "s/item:share")
			for _, id := range in {
				c.e.Memberships = append(c.e.Memberships, model.Membership{Member: id, Group: other})
			}
		}, "m3 m4 m5 m6 m7"}, // and leave that as well
		"no log shows some of it": {func(c *plain, _ model.ID, _ []model.ID) {
			c.log(project(7), "s", "read", false)
		}, ""},
		"it was given lately": {func(c *plain, _ model.ID, _ []model.ID) {
			c.e.Grants[slices.IndexFunc(c.e.Grants, func(g model.Grant) bool { return g.To.Name == "g" })].Created =
				asOf.AddDate(0, 0, -20)
		}, ""},
		"a review said that one needs it": {func(*plain, model.ID, []model.ID) {}, "m3 m4 m6 m7"},
		"anybody is given something besides": {func(c *plain, _ model.ID, _ []model.ID) {
			c.grant(model.MustID("everyone"), "/m/**", 900, "s/item:list")
		}, "m3 m4 m5 m6 m7"},
		"it was silent of late": {func(c *plain, _ model.ID, in []model.ID) {
			quiet := c.who("person/m8")
			c.e.Memberships = append(c.e.Memberships, model.Membership{Member: quiet, Group: model.MustID("group/g")})
			c.grant(quiet, here+"/**", 900, "s/item:list")
			c.uses(quiet, "list", here, every(100, -390, -95)...)
		}, "m3 m4 m5 m6 m7"},
	} {
		t.Run(name, func(t *testing.T) {
			c := newPlain(t)
			g, in := c.group(8)
			c.grant(g, "/m/**", 900, "s/item:read", "s/item:put", "s/item:scrap", "s/item:share")
			for i, id := range in {
				c.grant(id, here+"/**", 900, "s/item:list")
				c.uses(id, "list", here, daily...)
				if i < 3 {
					c.uses(id, "scrap", there, every(3, -399, -1)...)
				}
			}
			tt.change(c, g, in)
			input := c.input()
			x := input.Index
			res := gauge.Run(input)
			worth := draft.NewWorth(input, res)
			var lessons *review.Lessons
			if strings.HasPrefix(name, "a review") {
				lessons = review.Learn([]review.Decision{{Digest: "d", For: model.MustID("m:person/m5"),
					Verdict: review.Needed, At: asOf,
					Goes: []model.Permission{model.MustPermission("s/item:share")}}}, asOf)
			}
			var left []string
			for _, id := range draft.Candidates(input, res, worth) {
				f, err := draft.FromUse(input, res, id, draft.Options{Worth: worth, Lessons: lessons})
				if errors.Is(err, draft.ErrNothing) {
					continue
				}
				if err != nil {
					t.Fatal(err)
				}
				list := model.MustPermission("s/item:list")
				if strings.HasPrefix(name, "anybody") && id.Kind == model.Person && slices.ContainsFunc(f.GivesUp,
					func(g fence.GiveUp) bool { return slices.Contains(g.Do, list.Pattern()) }) {
					t.Errorf("%s gives up what anybody is given", id)
				}
				if strings.HasPrefix(name, "another group") && len(f.Leaves)%2 != 0 {
					t.Errorf("%s leaves %v", id, f.Leaves)
				}
				for _, l := range f.Leaves {
					if l != g && l.Name != "other" {
						t.Errorf("%s leaves %s", id, l)
					} else if l == g {
						left = append(left, id.Name)
					}
				}
				r, err := rehearse.Run(x, f, input.Uses, res.Placement, gauge.DefaultWeights)
				if err != nil || !r.OK() || len(r.Broken) > 0 && id.Kind == model.Person {
					t.Errorf("%s: %v, %+v", id, err, r)
				}
			}
			slices.Sort(left)
			if got := strings.Join(left, " "); got != tt.leave {
				t.Errorf("%q leave, want %q", got, tt.leave)
			}
		})
	}
}
