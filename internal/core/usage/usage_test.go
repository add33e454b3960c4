package usage_test

import (
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

func calls(r *rand.Rand, n int) []usage.Call {
	out := make([]usage.Call, n)
	for i := range out {
		c := usage.Call{Time: time.Unix(1_700_000_000+r.Int64N(40_000_000)-20_000_000, 0).UTC(), Identity: model.MustID(fmt.Sprintf("workload/w%d", r.IntN(3))), Permission: model.MustPermission(fmt.Sprintf("s/o:v%d", r.IntN(2))),
			Path: model.MustPath(fmt.Sprintf("/m/b:%d", r.IntN(3))), Outcome: []usage.Outcome{usage.Done, usage.Refused}[r.IntN(2)], SecondFactor: model.Truth(r.IntN(3))}
		if r.IntN(2) == 0 {
			c.Network = netip.MustParseAddr([]string{"10.0.0.1", "10.0.0.200", "2001:db8::1", "10.0.1.1"}[r.IntN(4)])
		}
		c.EventID = func() [16]byte { h := sha256.Sum256(fmt.Append(nil, i)); return [16]byte(h[:16]) }()
		out[i] = c
	}
	return out
}

// TestFoldingIsOrderFree is law 7: any split into files, read in any order, any
// number of times, gives the same uses.
func TestFoldingIsOrderFree(t *testing.T) {
	const seed = 9
	r := rand.New(rand.NewPCG(seed, 0))
	for range 60 {
		cs := calls(r, 1+r.IntN(200))
		whole := usage.Fold{}
		for _, c := range cs {
			whole.Add(c)
		}
		// Events are shuffled, some delivered again, and cut into files; the files
		// are folded apart and merged in another order.
		again := append([]usage.Call{}, cs...)
		for range r.IntN(50) {
			again = append(again, cs[r.IntN(len(cs))])
		}
		r.Shuffle(len(again), func(i, j int) { again[i], again[j] = again[j], again[i] })
		seen := usage.Seen{}
		var parts []usage.Fold
		for len(again) > 0 {
			n := 1 + r.IntN(len(again))
			f := usage.Fold{}
			for i := range again[:n] {
				if seen.Add(&again[i]) {
					f.Add(again[i])
				}
			}
			parts = append(parts, f)
			again = again[n:]
		}
		r.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		merged := usage.Fold{}
		for _, p := range parts {
			for _, u := range p.Uses() {
				merged.Merge(u)
			}
		}
		a, b := whole.Uses(), merged.Uses()
		if len(a) != len(b) {
			t.Fatalf("seed %d: %d uses, then %d", seed, len(a), len(b))
		}
		for i := range a {
			if a[i].Key != b[i].Key || a[i].Count != b[i].Count || !a[i].First.Equal(b[i].First) || !a[i].Last.Equal(b[i].Last) || !reflect.DeepEqual(a[i].Days.List(), b[i].Days.List()) {
				t.Fatalf("seed %d: %+v, then %+v", seed, a[i], b[i])
			}
		}
	}
}

func TestDays(t *testing.T) {
	for _, in := range [][]int64{{}, {0}, {-1}, {-86400*70 - 1, 0, 86400 * 200}, {86399, 86400}, {1 << 35}} {
		var ts []time.Time
		want := map[usage.Day]bool{}
		for _, s := range in {
			ts = append(ts, time.Unix(s, 0))
			want[usage.DayOf(time.Unix(s, 0))] = true
		}
		d := usage.DaysOf(ts...)
		b, _ := d.MarshalBinary()
		var back usage.Days
		if err := back.UnmarshalBinary(b); err != nil || !reflect.DeepEqual(back.List(), d.List()) {
			t.Errorf("%v: does not round-trip: %v, %v", in, back.List(), err)
		}
		if d.Count() != len(want) {
			t.Errorf("%v: %d days, want %d", in, d.Count(), len(want))
		}
		for i, day := range d.List() {
			if d.Until(day).Count() != i+1 || d.Until(day-1).Count() != i {
				t.Errorf("%v: Until(%d) = %v", in, day, d.Until(day).List())
			}
			if !want[day] || usage.DayOf(day.Time()) != day {
				t.Errorf("%v: day %d", in, day)
			}
		}
	}
	if usage.DayOf(time.Unix(-1, 0)) != -1 {
		t.Error("the day before 1970 is not -1")
	}
	for _, bad := range [][]byte{nil, {1, 2, 3}, {1, 0, 0, 0}, {0, 0, 0, 0, 1}} {
		var d usage.Days
		if d.UnmarshalBinary(bad) == nil {
			t.Errorf("%v is taken for days", bad)
		}
	}
}

func FuzzDays(f *testing.F) {
	b, _ := usage.DaysOf(time.Unix(0, 0), time.Unix(1e9, 0)).MarshalBinary()
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		var d usage.Days
		if d.UnmarshalBinary(b) == nil && len(b) < 4096 {
			if c, _ := d.MarshalBinary(); string(c) != string(b) || d.Count() != len(d.List()) {
				t.Fatalf("%x reads as %v", b, d.List())
			}
		}
	})
}

func TestHabit(t *testing.T) {
	const now = usage.Day(20_000)
	ago := func(days ...int) (ts []time.Time) {
		for _, d := range days {
			ts = append(ts, (now - usage.Day(d)).Time())
		}
		return ts
	}
	every := func(from, to, step int) []int { // days ago, from older to newer
		var out []int
		for d := from; d >= to; d -= step {
			out = append(out, d)
		}
		return out
	}
	for _, tt := range []struct {
		name   string
		days   []int
		rhythm usage.Rhythm
		over   bool
	}{
		{"nothing", nil, usage.Never, true},
		{"daily, today", every(190, 0, 1), usage.Daily, false},
		{"daily, on holiday", every(190, 21, 1), usage.Daily, false},
		{"daily, then stopped", every(190, 100, 1), usage.Daily, true},
		{"weekly", every(190, 1, 7), usage.Weekly, false},
		{"weekly, missed a month", every(190, 30, 7), usage.Weekly, false},
		{"weekly, stopped", every(190, 70, 7), usage.Weekly, true},
		{"monthly", every(185, 3, 30), usage.Monthly, false},
		{"monthly, one run late", every(185, 40, 30), usage.Monthly, false},
		{"monthly, stopped", every(195, 95, 30), usage.Monthly, true},
		// A single season may be a yearly job: never over within a year.
		{"three days in July", []int{150, 149, 148}, usage.Once, false},
		{"once with a dry run", []int{180, 179, 160, 159}, usage.Once, false},
		{"once, two years ago", []int{700, 699}, usage.Once, true},
		{"two seasons a year apart", []int{520, 519, 155, 154}, usage.Yearly, false},
		{"just begun", []int{5, 3, 1}, usage.Irregular, false},
		{"later days do not count", append(every(190, 100, 1), -5), usage.Daily, true},
	} {
		if h := usage.HabitOf(usage.DaysOf(ago(tt.days...)...), now); h.Rhythm != tt.rhythm || h.Over != tt.over {
			t.Errorf("%s: %s, over %t (silent for %d); want %s, %t", tt.name, h.Rhythm, h.Over, h.Silence, tt.rhythm, tt.over)
		}
	}
}

func TestCoverage(t *testing.T) {
	now := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	w := usage.WindowOf(now, 90)
	rec := func(node, class string, on bool, since int) model.CoverageRecord {
		r := model.CoverageRecord{Node: model.MustPath(node), Service: "s", LogClass: class, On: on}
		if since > 0 {
			r.Since = now.AddDate(0, 0, -since)
		}
		return r
	}
	records := []model.CoverageRecord{rec("/m/o:o", "read", true, 0), rec("/m/o:o/p:off", "read", false, 0), rec("/m/o:o/p:half", "read", true, 45), rec("/m/o:o/p:on", "read", true, 0)}
	for _, tt := range []struct {
		on    string
		start int // days ago of the first event; 0: none was read
		want  float64
	}{
		{"/m/o:o/p:on/**", 200, 1},
		{"/m/o:o/p:off/b:x/**", 200, 0},
		{"/m/o:o/p:half/**", 200, 0.5},
		{"/m/o:o/p:other/b:x/**", 200, 1}, // the organisation's record decides
		{"/m/o:o/**", 200, 0},             // reaches a place that is off
		{"/m/o:o/p:o*/**", 200, 0},
		{"/m/o:o/p:on/**", 45, 0.5}, // nothing before the first event
		{"/m/o:o/p:on/**", 0, 0},
		{"/m/elsewhere", 200, 0},
		{"/m/o:o", 200, 1},
	} {
		var start time.Time
		if tt.start > 0 {
			start = now.AddDate(0, 0, -tt.start)
		}
		c := usage.NewCoverage(records, start)
		if got := c.ShareBelow(model.MustPathPattern(tt.on), "s", "read", w); got < tt.want-0.01 || got > tt.want+0.01 {
			t.Errorf("share of %s with logs of %d days = %.2f, want %.2f", tt.on, tt.start, got, tt.want)
		}
		if got := c.Share(model.MustPath("/m/o:o/p:on"), "s", "", w); got != 0 {
			t.Errorf("what has no log class is covered: %f", got)
		}
	}
}

func TestBlock(t *testing.T) {
	for in, want := range map[string]string{"10.1.2.3": "10.1.2.0/24", "::ffff:10.1.2.3": "10.1.2.0/24", "2001:db8:1:2::3": "2001:db8:1::/48", "fe80::1%eth0": "fe80::/48"} {
		if got := usage.Block(netip.MustParseAddr(in)); got.String() != want {
			t.Errorf("Block(%s) = %s, want %s", in, got, want)
		}
	}
	if usage.Block(netip.Addr{}).IsValid() {
		t.Error("an unknown address has a block")
	}
}
