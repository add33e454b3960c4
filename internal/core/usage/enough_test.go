package usage_test

import (
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestEnough: a gap of some days that is over is made up for by looking further back, one that goes on
// is not, nor is what no log can say. A log has three callers and is read every day, but in its gaps,
// which are days ago, from and to.
func TestEnough(t *testing.T) {
	now := usage.Day(20_000).Time().Add(12 * time.Hour)
	for _, tt := range []struct {
		name    string
		history int // days
		gaps    [][2]int
		since   int // days ago that it was switched on; 0: long ago
		want    bool
	}{
		{"no gap", 400, nil, 0, true},
		{"four days", 100, [][2]int{{33, 30}}, 0, true},
		{"seven days", 95, [][2]int{{36, 30}}, 0, true},
		{"and there are fewer", 91, [][2]int{{36, 30}}, 0, false},
		{"since it was switched on", 400, [][2]int{{36, 30}}, 91, false},
		{"a good while before", 400, [][2]int{{36, 30}}, 95, true},
		{"half of it", 400, [][2]int{{74, 30}}, 0, true},
		{"more than that", 400, [][2]int{{75, 30}}, 0, false},
		{"two gaps", 400, [][2]int{{66, 60}, {33, 30}}, 0, true},
		{"another in what is looked at besides", 112, [][2]int{{36, 30}, {104, 90}}, 0, true},
		{"which takes longer", 105, [][2]int{{36, 30}, {104, 90}}, 0, false},
		{"it goes on", 400, [][2]int{{7, 1}}, 0, false},
		{"it goes on, and is short", 400, [][2]int{{36, 33}, {3, 1}}, 0, true},
		{"it begins late in the window", 83, nil, 0, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := model.CoverageRecord{Node: model.MustPath("/m"), Service: "stow", LogClass: "c", Written: true}
			if tt.since > 0 {
				r.Since = now.AddDate(0, 0, -tt.since)
			}
			f := usage.Fold{}
			for d := range tt.history {
				if slices.ContainsFunc(tt.gaps, func(g [2]int) bool { return d <= g[0] && d >= g[1] }) {
					continue
				}
				for _, who := range []string{"a", "b", "c"} {
					f.Add(usage.Call{Time: now.AddDate(0, 0, -d).Add(-time.Hour),
						Identity: model.MustID("person/" + who), Permission: model.MustPermission("stow/item:read"),
						Path: r.Node, Outcome: usage.Done})
				}
			}
			first := now.AddDate(0, 0, 1-tt.history)
			c := usage.NewCoverage([]model.CoverageRecord{r}, usage.Read{First: first, Ends: []time.Time{now}})
			c.Observe(usage.ListOf(f.Uses()...), func(model.Permission) string { return "c" }, nil, nil)
			w := usage.WindowOf(now, 90)
			if got := c.Enough(r.Node.Child("box", "b"), "stow", "c", w); got != tt.want {
				t.Errorf("%t, want %t; of the window %.3f", got, tt.want, c.Share(r.Node, "stow", "c", w))
			}
			dark, _ := c.DarkBelow(r.Node.Below(), "stow", "c", w,
				func([]model.Path) []model.PathPattern { return nil })
			if len(dark) == 0 != tt.want {
				t.Errorf("dark at %v", dark)
			}
			if c.Enough(r.Node, "stow", "", w) || c.Enough(r.Node, "stow", "d", w) ||
				c.Enough(model.MustPath("/n"), "stow", "c", w) {
				t.Error("a log that nobody keeps is enough")
			}
		})
	}
}
