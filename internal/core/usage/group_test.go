package usage_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestGroupsAddUp: whatever they are grouped by, groups hold each use that is asked
// for once, and their days are those of the uses.
func TestGroupsAddUp(t *testing.T) {
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 9))
		f := usage.Fold{}
		for _, c := range calls(r, 150) {
			f.Add(c)
		}
		uses := f.Uses()
		var by []usage.Field
		for _, field := range usage.Fields {
			if r.IntN(2) == 0 {
				by = append(by, field)
			}
		}
		q := &usage.Filter{}
		if r.IntN(2) == 0 {
			q.Identity = model.MustID("workload/w1")
		}
		if r.IntN(2) == 0 {
			q.Window = usage.Window{From: time.Unix(1_690_000_000, 0), To: time.Unix(1_700_000_000, 0)}
		}
		n, count, days := 0, int64(0), usage.Days{}
		for _, u := range uses {
			if q.Match(&u) {
				n++
				count += u.Count
				days = days.Union(u.Days)
			}
		}
		groups := usage.GroupBy(slices.All(uses), q, by, nil)
		gn, gcount, gdays := 0, int64(0), usage.Days{}
		last := int64(1 << 62)
		for _, g := range groups {
			gn += g.Uses
			gcount += g.Count
			gdays = gdays.Union(g.Days)
			if g.Count > last {
				t.Errorf("seed %d: groups are not in order", seed)
			}
			last = g.Count
			for _, d := range g.Days.List() {
				if !q.Window.To.IsZero() && (d < usage.DayOf(q.Window.From) || d > usage.DayOf(q.Window.To)) {
					t.Errorf("seed %d: a day outside the window", seed)
				}
			}
		}
		if gn != n || gcount != count || fmt.Sprint(gdays.List()) != fmt.Sprint(days.List()) || len(by) == 0 &&
			len(groups) > 1 {
			t.Errorf("seed %d by %v: %d uses, %d calls in groups; %d, %d asked for", seed, by, gn, gcount, n, count)
		}
	}
}

func TestStrip(t *testing.T) {
	to := time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	day := func(ago int) time.Time { return to.AddDate(0, 0, -ago) }
	for _, tt := range []struct {
		window, cells int
		days          []time.Time
		want          string
	}{
		{4, 4, []time.Time{day(0), day(3)}, "[1 0 0 1]"},
		{4, 2, []time.Time{day(0), day(3)}, "[0.5 0.5]"},
		{5, 2, []time.Time{day(0), day(1), day(2), day(3)}, "[0.3333333333333333 1]"},
		{4, 4, []time.Time{day(9), day(-2)}, "[0 0 0 0]"},
		{90, 45, nil, "45 cells"},
		{3, 0, nil, "[]"},
	} {
		got := usage.DaysOf(tt.days...).Strip(usage.WindowOf(to, tt.window), tt.cells)
		text := fmt.Sprint(got)
		if tt.days == nil && tt.cells > 0 {
			text = fmt.Sprintf("%d cells", len(got))
		}
		if text != tt.want {
			t.Errorf("%d days in %d cells: %s, want %s", tt.window, tt.cells, text, tt.want)
		}
	}
}
