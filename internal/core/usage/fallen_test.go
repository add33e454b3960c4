package usage_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestFallen: a log whose own callers are too few to tell whether it stopped or they did is a log that
// stopped where all logs of its service did, all at a place, or all there are. Each has one caller.
func TestFallen(t *testing.T) {
	const to = "xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx" // 40 days
	on, off, pause := to+to+to, to+to+strings.Repeat(".", 40), to+to+"...."+strings.Repeat("x", 36)
	late := strings.Repeat(".", 80) + to
	for _, tt := range []struct {
		name string
		logs map[string]string // the days of each
		want string            // the gap of each, and of the logs that never had an event
	}{
		{"one stops", map[string]string{"a1": off, "a2": on, "a3": on, "z1": on}, ""},
		{"all of a service", map[string]string{"a1": off, "a2": off, "a3": off, "z1": on},
			"a0 80-119, a1 80-119, a2 80-119, a3 80-119"},
		{"two of two are too few to tell", map[string]string{"a1": off, "a2": off, "z1": on}, ""},
		{"all there are", map[string]string{"a1": off, "z1": off}, "a0 80-119, a1 80-119, z0 80-119, z1 80-119"},
		{"the only one", map[string]string{"z1": off}, "a0 80-119, z0 80-119, z1 80-119"},
		{"all at a place and below it", map[string]string{"a1": off, "b1": off, "z1": off, "a2": on, "b2": on},
			"a1 80-119, b1 80-119, z1 80-119"},
		{"all at a place, but one", map[string]string{"a1": off, "b1": off, "z1": on, "a2": on, "b2": on}, ""},
		{"all pause", map[string]string{"a1": pause, "z1": pause, "z2": pause},
			"a0 80-83, a1 80-83, z0 80-83, z1 80-83, z2 80-83"},
		{"two pause", map[string]string{"a1": pause, "z1": pause}, ""},
		{"six events, and none any more", map[string]string{"a1": "xxxxxx" + strings.Repeat(".", 90)},
			"a0 6-95, a1 6-95, z0 6-95"},
		{"nothing of the only one for a month and more", map[string]string{"z1": to + strings.Repeat(".", 40) + to},
			"a0 40-79, z0 40-79, z1 40-79"},
		{"nothing for three weeks", map[string]string{"z1": to + strings.Repeat(".", 21) + to}, ""},
		{"three of a service begin on one day", map[string]string{"a1": late, "a2": late, "a3": late, "z1": on},
			"a0 0-79, a1 0-79, a2 0-79, a3 0-79"},
		{"two do", map[string]string{"a1": late, "a2": late, "z1": on}, ""},
		{"three of two services do", map[string]string{"a1": late, "a2": late, "b1": late, "z1": on}, ""},
		{"four events", map[string]string{"a1": "xxxx" + strings.Repeat(".", 90)}, ""},
		{"once a month", map[string]string{"a1": strings.Repeat("x"+strings.Repeat(".", 29), 8)}, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			start := usage.Day(20_000)
			var records []model.CoverageRecord
			f, last := usage.Fold{}, start
			for _, log := range []string{"a0", "a1", "a2", "a3", "b1", "b2", "z0", "z1", "z2"} {
				days := tt.logs[log]
				if days == "" && log[1:] != "0" {
					continue
				}
				node := model.MustPath("/m/u:" + log[1:] + "/p:" + log)
				records = append(records,
					model.CoverageRecord{Node: node, Service: log[:1], LogClass: "c", Written: true})
				for i, ch := range days {
					if last = max(last, start+usage.Day(i)+1); ch == 'x' {
						f.Add(usage.Call{Time: (start + usage.Day(i)).Time().Add(time.Hour), Path: node,
							Identity:   model.MustID("workload/" + log),
							Permission: model.MustPermission(log[:1] + "/item:read"), Outcome: usage.Done})
					}
				}
			}
			off := model.CoverageRecord{Node: model.MustPath("/m/p:off"), Service: "a", LogClass: "c"}
			c := usage.NewCoverage(append(records, off),
				usage.Read{First: start.Time(), Ends: []time.Time{last.Time()}})
			c.Observe(usage.ListOf(f.Uses()...), func(model.Permission) string { return "c" }, nil, nil)
			var got []string
			for _, r := range records {
				if s := c.Stream(r); s != nil {
					for _, g := range s.Gaps {
						_, log := r.Node.Last()
						got = append(got, fmt.Sprintf("%s %d-%d", log, g.From-start, g.To-start))
					}
				}
			}
			if s := strings.Join(got, ", "); s != tt.want {
				t.Errorf("%s, want %s", s, tt.want)
			}
			for i, r := range records { // where work is over silence is no loss
				c := usage.NewCoverage(records, usage.Read{First: start.Time(), Ends: []time.Time{last.Time()},
					Over: []model.PathPattern{r.Node.Below()}})
				c.Observe(usage.ListOf(f.Uses()...), func(model.Permission) string { return "c" }, nil, nil)
				for k, o := range records {
					gaps := c.Stream(o) != nil && len(c.Stream(o).Gaps) > 0
					_, log := o.Node.Last()
					if want := k != i && strings.Contains(tt.want, log); gaps != want {
						t.Errorf("over at %s: gaps at %s: %t", r.Node, log, gaps)
					}
				}
			}
			if s := c.Stream(off); s != nil {
				t.Errorf("a log that is not written: %+v", s)
			}
		})
	}
}

// TestBegin: a few days long before a log is busy are no beginning of it: one event of a clock that is
// wrong made years of evidence. What was there for weeks is one, and so are rare events alone.
func TestBegin(t *testing.T) {
	busy := strings.Repeat("xxxxx..", 12)
	for _, tt := range []struct {
		name, days string
		want       int // day
	}{
		{"busy", busy, 0},
		{"one event long before", "x" + strings.Repeat(".", 300) + busy, 301},
		{"several, and long before", "xxx" + strings.Repeat(".", 60) + "xx" + strings.Repeat(".", 50) + busy, 115},
		{"not that long before", "x" + strings.Repeat(".", 29) + busy, 0},
		{"weeks, and long before", strings.Repeat("x", 20) + strings.Repeat(".", 60) + busy, 0},
		{"one day less than that", strings.Repeat("x", 19) + strings.Repeat(".", 60) + busy, 79},
		{"once in two months", strings.Repeat("x"+strings.Repeat(".", 60), 5), 0},
		{"and busy never", "x" + strings.Repeat(".", 100) + strings.Repeat("x......", 10), 0},
		{"nothing", "", 0},
	} {
		start, f := usage.Day(20_000), usage.Fold{}
		for i, ch := range tt.days {
			if ch == 'x' {
				f.Add(usage.Call{Time: (start + usage.Day(i)).Time().Add(time.Hour), Path: model.MustPath("/m"),
					Identity: model.MustID("workload/a"), Permission: model.MustPermission("a/b:c"),
					Outcome: usage.Done})
			}
		}
		r := model.CoverageRecord{Node: model.MustPath("/m"), Service: "a", LogClass: "c", Written: true}
		first := start.Time().Add(time.Hour)
		c := usage.NewCoverage([]model.CoverageRecord{r},
			usage.Read{First: first, Ends: []time.Time{(start + usage.Day(len(tt.days))).Time()}})
		c.Observe(usage.ListOf(f.Uses()...), func(model.Permission) string { return "c" }, nil, nil)
		if got := int(usage.DayOf(c.Begin()) - start); got != tt.want {
			t.Errorf("%s: day %d, want %d", tt.name, got, tt.want)
		}
	}
}
