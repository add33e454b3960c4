package draft_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
)

// TestHours: the hours outside of which somebody never called are added, with one to spare, where
// that is asked for, there are enough days, and they are not most of the day; weekends are left out
// of what was never called on any. Every call that was made meets them, for sure.
func TestHours(t *testing.T) {
	all := span(-89, -1)
	work := slices.DeleteFunc(slices.Clone(all), func(d int) bool {
		w := asOf.AddDate(0, 0, d).Weekday()
		return w == time.Saturday || w == time.Sunday
	})
	saturday := all[slices.IndexFunc(all, func(d int) bool {
		return asOf.AddDate(0, 0, d).Weekday() == time.Saturday
	})]
	at := func(hours ...int) func(i int) time.Duration {
		return func(i int) time.Duration { return time.Duration(hours[i%len(hours)]) * time.Hour }
	}
	const daily, weekdays = " mon tue wed thu fri sat sun", " mon tue wed thu fri"
	for name, tt := range map[string]struct {
		days []int
		hour func(i int) time.Duration // of the call, from midnight
		want string
	}{
		"a job":             {all, at(3), "02:00-05:00" + daily},
		"an office":         {work, at(8, 9, 12, 15), "07:00-17:00" + weekdays},
		"and a weekend":     {all, at(8, 9, 12, 15), "07:00-17:00" + daily},
		"a few weeks of it": {work[:35], at(8, 15), "07:00-17:00" + daily},
		"too few days":      {all[:29], at(8), ""},
		"just enough":       {all[:30], at(8), "07:00-10:00" + daily},
		"past midnight":     {work, at(22, 23, 0, 1), "21:00-03:00" + daily},
		"to midnight":       {work, at(20, 22), "19:00-00:00" + weekdays},
		"and one Saturday":  {append(slices.Clone(work), saturday), at(8, 9, 12, 15), "07:00-17:00" + daily},
		"and one Sunday":    {append(slices.Clone(work), saturday+1), at(8, 9, 12, 15), "07:00-17:00" + daily},
		"from midnight":     {work, at(0, 2), "23:00-04:00" + daily},
		"twelve hours":      {work, at(6, 17), "05:00-19:00" + weekdays},
		"thirteen":          {work, at(6, 18), ""},
		"around the clock":  {work, at(0, 6, 12, 18), ""},
		"once at night": {work,
			func(i int) time.Duration { return time.Duration(9-7*b2i(i == 40)) * time.Hour }, "01:00-11:00" +
				weekdays},
		"to the last instant": {work, func(int) time.Duration { return 9*time.Hour + time.Hour - time.Millisecond },
			"08:00-11:00" + weekdays},
	} {
		t.Run(name, func(t *testing.T) {
			c := newPlain(t)
			who := c.who("person/a")
			c.grant(who, "/m/project:p1/**", 900, "s/item:*")
			for i, d := range tt.days {
				c.before.Add(usage.Call{Time: usage.DayOf(asOf.AddDate(0, 0, d)).Time().Add(tt.hour(i)), Identity: who,
					Permission: model.MustPermission("s/item:read"), Path: model.MustPath("/m/project:p1/box:a"),
					Outcome: usage.Done})
			}
			in := c.input()
			x := in.Index
			for _, ask := range []bool{true, false} {
				f, err := draft.FromUse(in, gauge.Run(in), who, draft.Options{Conditions: ask})
				if err != nil {
					t.Fatal(err)
				}
				got := ""
				for _, a := range f.Allow {
					if h := a.When.Hours; h != nil && a.Where[0].Matches(model.MustPath("/m/project:p1/box:a")) {
						got += h.From + "-" + h.To + " " + strings.Join(h.Days, " ")
						if err := h.Validate(); err != nil || a.Evidence.Met == 0 {
							t.Errorf("%+v %v, evidence %+v", h, err, a.Evidence)
						}
					}
				}
				if want := tt.want; ask && got != want || !ask && got != "" {
					t.Errorf("asked %t: %q, want %q", ask, got, want)
				}
				r, err := rehearse.Run(x, f, in.Uses, nil, gauge.DefaultWeights)
				if err != nil || len(r.Widened)+len(r.Doubts)+len(r.Broken) > 0 || r.Odd > 0 {
					t.Errorf("rehearsal: %v, %+v", err, r)
				}
			}
		})
	}
}

// TestHoursNotKnown: of calls that were folded before hours were kept nothing is said, nor of those
// beside them.
func TestHoursNotKnown(t *testing.T) {
	c := newPlain(t)
	who := c.who("person/a")
	c.grant(who, "/m/project:p1/**", 900, "s/item:*")
	c.uses(who, "read", "/m/project:p1/box:a", span(-89, -1)...)
	uses := c.before.Uses()
	old := uses[0]
	old.Hours, old.Path = 0, model.MustPath("/m/project:p1/box:b")
	x, err := index.Build(c.e)
	if err != nil {
		t.Fatal(err)
	}
	in := &gauge.Input{Index: x, Uses: usage.ListOf(append(uses, old)...), AsOf: asOf, Window: 90,
		History: asOf.AddDate(0, 0, -420)}
	in.Coverage = usage.NewCoverage(c.e.Coverage, usage.Read{First: in.History, Ends: []time.Time{asOf}, Until: asOf})
	f, err := draft.FromUse(in, gauge.Run(in), who, draft.Options{Conditions: true})
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range f.Allow {
		if a.When.Hours != nil {
			t.Errorf("%+v", a)
		}
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}
