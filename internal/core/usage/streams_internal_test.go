package usage

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
)

// TestJoined: gaps that meet or overlap are one, which is a part of the log only where each of
// them is.
func TestJoined(t *testing.T) {
	for _, tt := range []struct {
		gaps []Gap
		want string
	}{
		{nil, ""},
		{[]Gap{{From: 5, To: 6}, {From: 1, To: 2}}, "1-2 5-6 "},
		{[]Gap{{From: 3, To: 6}, {From: 1, To: 2}}, "1-6 "},
		{[]Gap{{From: 1, To: 9}, {From: 3, To: 4}}, "1-9 "},
		{[]Gap{{From: 1, To: 3, Partly: true}, {From: 3, To: 5, Partly: true}}, "1-5 partly "},
		{[]Gap{{From: 1, To: 3, Partly: true}, {From: 3, To: 5}}, "1-5 "},
		{[]Gap{{From: 1, To: 3}, {From: 4, To: 5, Partly: true}}, "1-5 "},
		{[]Gap{{From: 1, To: 3}, {From: 5, To: 5, Partly: true}}, "1-3 5-5 partly "},
	} {
		got := ""
		for _, g := range joined(tt.gaps) {
			if got += fmt.Sprintf("%d-%d ", g.From, g.To); g.Partly {
				got += "partly "
			}
		}
		if got != tt.want {
			t.Errorf("%v: %s, want %s", tt.gaps, got, tt.want)
		}
	}
}

// TestLostIsHeldAgainstBothSides: what callers show in a gap is held against the same weekdays
// before and after it, and not against the gap itself.
func TestLostIsHeldAgainstBothSides(t *testing.T) {
	const day = 20_000
	for _, tt := range []struct {
		name          string
		before, after int64 // calls a day of each
		want          bool
	}{
		{"as much before and after", 10, 10, true},
		{"little before, much after", 1, 30, true},
		{"much before, little after", 30, 1, true},
		{"little before and after", 2, 2, false},
	} {
		callers := map[model.ID]*perDay{}
		for i := range 6 {
			c := &perDay{}
			for d := Day(day - 60); d <= day+60; d++ {
				switch {
				case d < day:
					c.add(d, tt.before)
				case d > day+2:
					c.add(d, tt.after)
				default:
					c.add(d, 2)
				}
			}
			callers[model.MustID(fmt.Sprint("workload/w", i))] = c
		}
		p := &profile{first: day, count: []float64{12, 12, 12}, usual: []float64{90, 90, 90}}
		if got := p.lost(Gap{From: day, To: day + 2}, callers); got != tt.want {
			t.Errorf("%s: lost %t", tt.name, got)
		}
	}
}

// TestMute: a log of looking that no event ever came in is taken for one that is not written where
// several change what it is about, day after day; not where few do, or somewhere somebody was seen
// to look.
func TestMute(t *testing.T) {
	now := time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		name          string
		callers, days int
		looked, off   bool
		noLevels      bool
		want          int
	}{
		{"three change things for a month", 3, 30, false, false, false, 3},
		{"two do", 2, 30, false, false, false, 0},
		{"for a week only", 3, 7, false, false, false, 0},
		{"one looked, in another place", 3, 30, true, false, false, 0},
		{"it is off, and known to be", 3, 30, false, true, false, 0},
		{"nobody knows what is looking", 3, 30, false, false, true, 0},
	} {
		var records []model.CoverageRecord
		for _, p := range []string{"/m/project:a", "/m/project:b"} {
			for _, class := range []string{"read", "change"} {
				records = append(records, model.CoverageRecord{Node: model.MustPath(p), Service: "s", LogClass: class,
					Written: class == "change" || !tt.off})
			}
		}
		f := Fold{}
		add := func(who int, verb, project string, ago int) {
			f.Add(Call{Time: now.AddDate(0, 0, -ago), Identity: model.MustID(fmt.Sprint("workload/w", who)),
				Permission: model.MustPermission("s/box:" + verb), Path: model.MustPath("/m/project:" + project),
				Outcome: Done})
		}
		for d := range tt.days {
			for who := range tt.callers {
				add(who, "change", "a", d)
			}
		}
		if tt.looked {
			add(0, "read", "b", 3)
		}
		c := NewCoverage(records, Read{First: now.AddDate(0, 0, -tt.days), Ends: []time.Time{now}})
		looks := func(service, class string) bool { return service == "s" && class == "read" }
		if tt.noLevels {
			looks = nil
		}
		c.Observe(ListOf(f.Uses()...), func(p model.Permission) string {
			_, verb, _ := strings.Cut(p.String(), ":")
			return verb
		}, looks, nil)
		for _, r := range records {
			mute, share := 0, c.Share(r.Node, "s", r.LogClass, WindowOf(now, tt.days-1))
			if s := c.Stream(r); s != nil {
				mute = s.Mute
			}
			if want := map[bool]int{r.LogClass == "read": tt.want}[true]; mute != want {
				t.Errorf("%s: %s at %s is mute by %d, want %d", tt.name, r.LogClass, r.Node, mute, want)
			}
			if seen := r.Written && mute == 0; (share > .9) != seen || !seen && share != 0 {
				t.Errorf("%s: %s at %s covers %.2f", tt.name, r.LogClass, r.Node, share)
			}
		}
	}
}

// TestCountsOfNoDay: counts that name a day which there is not, or no calls, are refused.
func TestCountsOfNoDay(t *testing.T) {
	for _, tt := range []struct {
		packed []byte // least, bits a count, exceptions, then each: the days since the last, and what is more
		days   int
		want   []int64
	}{
		{[]byte{1, 0, 1, 1, 4}, 2, []int64{1, 5}},
		{[]byte{1, 0, 1, 0, 4}, 2, []int64{5, 1}},
		{[]byte{1, 0, 1, 2, 4}, 2, nil},
		{[]byte{1, 0, 1, 3, 4}, 2, nil},
		{[]byte{1, 0, 2, 0, 4, 1, 6}, 2, []int64{5, 7}},
		{[]byte{1, 0, 2, 0, 4, 0, 6}, 2, nil},
		{[]byte{1, 0, 2, 1, 4, 1, 6}, 2, nil},
		{[]byte{1, 0, 3, 0, 4, 1, 6, 1, 8}, 2, nil},
		{[]byte{0, 0, 0}, 2, nil},
		{[]byte{1, 0, 0}, 2, []int64{1, 1}},
		{[]byte{1, 0, 0, 0}, 2, nil},
		{[]byte{2, 1, 0, 0b10}, 2, []int64{2, 3}},
		{[]byte{2, 1, 0}, 2, nil},
		{[]byte{2, 64, 0, 0}, 2, nil},
		{[]byte{1, 0, 0}, 0, []int64{}},
	} {
		got, ok := Counts{string(tt.packed)}.List(tt.days)
		if ok != (tt.want != nil) || ok && !slices.Equal(got, tt.want) {
			t.Errorf("%v of %d days: %v %t, want %v", tt.packed, tt.days, got, ok, tt.want)
		}
	}
}

// TestCovers: no day is in every set of days, also one of none.
func TestCovers(t *testing.T) {
	of := func(days ...Day) Days {
		var on []time.Time
		for _, x := range days {
			on = append(on, x.Time())
		}
		return DaysOf(on...)
	}
	for _, tt := range []struct {
		d, o Days
		want bool
	}{
		{of(), of(), true}, {of(1), of(), true}, {of(), of(1), false}, {of(1), of(1), true},
		{of(1, 200), of(200), true}, {of(200), of(1, 200), false}, {of(1), of(200), false},
		{of(200), of(1), false}, {of(64, 65), of(65, 66), false},
	} {
		if got := tt.d.covers(tt.o); got != tt.want {
			t.Errorf("%v covers %v: %t", tt.d.List(), tt.o.List(), got)
		}
	}
}

// TestGapReachesTheEnd: a silence that goes on to the last day is a gap up to that day, and one that a
// day with events ends is a gap up to the day before.
func TestGapReachesTheEnd(t *testing.T) {
	for _, tt := range []struct {
		more []Day // besides 20,000 to 20,099
		end  Day
		want string
	}{
		{nil, 20_099, ""},
		{nil, 20_130, "20100-20130 "},
		{[]Day{20_125}, 20_125, "20100-20124 "},
		{[]Day{20_125}, 20_090, "20100-20124 "}, // an event after the end moves it
		{[]Day{20_125}, 20_160, "20100-20124 20126-20160 "},
	} {
		all := Days{}
		for d := Day(20_000); d < 20_100; d++ {
			all = all.Union(DaysOf(d.Time()))
		}
		for _, d := range tt.more {
			all = all.Union(DaysOf(d.Time()))
		}
		callers := map[model.ID]Days{}
		for i := range 4 {
			callers[model.MustID(fmt.Sprint("workload/w", i))] = all
		}
		got := ""
		for _, g := range gapsOf(all, tt.end, leastDays, leastCallers, callers) {
			got += fmt.Sprintf("%d-%d ", g.From, g.To)
		}
		if got != tt.want {
			t.Errorf("%v to %d: %q, want %q", tt.more, tt.end, got, tt.want)
		}
	}
}

// TestShownRecord: which log shows a use is what [Coverage.Record] says, whether a service has one log or several, or
// none there.
func TestShownRecord(t *testing.T) {
	at := []string{"/m", "/m/a:x", "/m/a:x/b:y", "/m/a:xy", "/m/a:z"}
	var records []model.CoverageRecord
	for _, r := range []struct{ node, service, class string }{{"/m/a:x", "one", "c"}, {"/m", "two", "c"},
		{"/m/a:x/b:y", "two", "c"}, {"/m", "one", "d"}} {
		records = append(records, model.CoverageRecord{Node: model.MustPath(r.node), Service: r.service,
			LogClass: r.class, Written: true})
	}
	c := NewCoverage(records, Read{})
	g := &Gather{}
	for _, p := range at {
		for _, do := range []string{"one/t:see", "two/t:see", "three/t:see", "one/t:do"} {
			g.Add(Use{Key: Key{Identity: model.MustID("person/p"), Permission: model.MustPermission(do),
				Path: model.MustPath(p), Outcome: Done}, Count: 1, Days: Days{words: []uint64{1}}})
		}
	}
	uses := g.Uses()
	class := func(p model.Permission) string {
		if p.Verb() == "do" {
			return "d"
		}
		return "c"
	}
	logs, some := map[coverageKey]*held{}, 0
	of := c.shownIn(uses, class).logOf(logs)
	for i, u := range uses.All() {
		r, ok := c.Record(u.Path, u.Permission.Service(), class(u.Permission))
		h := of(i)
		if (h != nil) != ok || ok && h != logs[coverageKey{r.Node, r.Service, r.LogClass}] {
			t.Errorf("%s on %s: found %t, and its log is that of %s: %t", u.Permission, u.Path, h != nil, r.Node, ok)
		}
		if ok {
			some++
		}
	}
	if some != 2+5+5 || len(logs) != 4 {
		t.Errorf("%d of %d uses stand in %d logs", some, uses.Len(), len(logs))
	}
}
