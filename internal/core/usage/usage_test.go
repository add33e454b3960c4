package usage_test

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

func calls(r *rand.Rand, n int) []usage.Call {
	out := make([]usage.Call, n)
	for i := range out {
		c := usage.Call{Time: time.Unix(1_700_000_000+r.Int64N(40_000_000)-20_000_000, 0).UTC(),
			Identity:   model.MustID(fmt.Sprintf("workload/w%d", r.IntN(3))),
			Permission: model.MustPermission(fmt.Sprintf("s/o:v%d", r.IntN(2))),
			Path:       model.MustPath(fmt.Sprintf("/m/b:%d", r.IntN(3))),
			Outcome:    []usage.Outcome{usage.Done, usage.Refused}[r.IntN(2)], SecondFactor: model.Truth(r.IntN(3))}
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
			if a[i].Key != b[i].Key || a[i].Count != b[i].Count || a[i].Hours != b[i].Hours ||
				!a[i].First.Equal(b[i].First) ||
				!a[i].Last.Equal(b[i].Last) || !reflect.DeepEqual(a[i].Days.List(), b[i].Days.List()) {
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
			t.Errorf("%s: %s, over %t (silent for %d); want %s, %t", tt.name, h.Rhythm, h.Over, h.Silence, tt.rhythm,
				tt.over)
		}
	}
}

func TestCoverage(t *testing.T) {
	now := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	w := usage.WindowOf(now, 90)
	rec := func(node, class string, on bool, since int) model.CoverageRecord {
		r := model.CoverageRecord{Node: model.MustPath(node), Service: "s", LogClass: class, Written: on}
		if since > 0 {
			r.Since = now.AddDate(0, 0, -since)
		}
		return r
	}
	records := []model.CoverageRecord{rec("/m/o:o", "read", true, 0), rec("/m/o:o/p:off", "read", false, 0),
		rec("/m/o:o/p:half", "read", true, 45), rec("/m/o:o/p:on", "read", true, 0), rec("/m/x:x", "read", false, 0),
		rec("/m/x:x/p:on", "read", true, 0)}
	for _, tt := range []struct {
		on    string
		start int // days ago of the first event; 0: none was read
		seen  bool
		apart bool // something lies there beside what has a record of its own
	}{
		{"/m/o:o/p:on/**", 200, true, false},
		{"/m/o:o/p:off/b:x/**", 200, false, false},
		{"/m/o:o/p:half/**", 200, false, false},
		{"/m/o:o/p:other/b:x/**", 200, true, false}, // the organisation's record decides
		{"/m/o:o/**", 200, false, false},            // reaches a place that is off
		{"/m/o:o/p:o*/**", 200, false, false},
		{"/m/o:o/p:on/**", 45, false, false}, // nothing before the first event
		{"/m/o:o/p:on/**", 0, false, false},
		{"/m/elsewhere", 200, false, false},
		{"/m/x:x/**", 200, true, false}, // a record below decides for all that is there
		{"/m/x:x/**", 200, false, true}, // and not for what is there besides
		{"/m/o:o/p:on/**", 200, true, true},
		{"/m/o:o", 200, true, false},
	} {
		var start time.Time
		if tt.start > 0 {
			start = now.AddDate(0, 0, -tt.start)
		}
		c := usage.NewCoverage(records, usage.Read{First: start, Ends: []time.Time{now}})
		on := model.MustPathPattern(tt.on)
		dark, _ := c.DarkBelow(on, "s", "read", w, func([]model.Path) (apart []model.PathPattern) {
			if tt.apart {
				apart = append(apart, on)
			}
			return apart
		})
		if got := len(dark) == 0; got != tt.seen {
			t.Errorf("%s with logs of %d days: seen %t, dark on %v", tt.on, tt.start, got, dark)
		}
		never := usage.NewCoverage(records, usage.Read{First: start}) // no reading ended
		if _, there := never.From(records[3]); there {
			t.Errorf("%s: a log that was never read to an end is there", tt.on)
		}
		if got := c.Share(model.MustPath("/m/o:o/p:on"), "s", "", w); got != 0 {
			t.Errorf("what has no log class is covered: %f", got)
		}
	}
}

func TestBlock(t *testing.T) {
	for in, want := range map[string]string{"10.1.2.3": "10.1.2.0/24", "::ffff:10.1.2.3": "10.1.2.0/24",
		"2001:db8:1:2::3": "2001:db8:1::/48", "fe80::1%eth0": "fe80::/48"} {
		if got := usage.Block(netip.MustParseAddr(in)); got.String() != want {
			t.Errorf("Block(%s) = %s, want %s", in, got, want)
		}
	}
	if usage.Block(netip.Addr{}).IsValid() {
		t.Error("an unknown address has a block")
	}
}

// TestGaps draws streams as one letter a day ('x' events, '.' none), three callers
// together unless said otherwise, and names the silences that are gaps.
func TestGaps(t *testing.T) {
	week := "xxxxx.."
	node := model.MustPath("/m/berth:p")
	rec := model.CoverageRecord{Node: node, Service: "stow", LogClass: "read", Written: true}
	for _, tt := range []struct {
		name    string
		days    string
		callers int
		want    string // first and last day of each gap, by number
	}{
		{"daily, three days silent", strings.Repeat("x", 120) + "..." + strings.Repeat("x", 60), 3, "[[120 122]]"},
		{"daily, one day silent", strings.Repeat("x", 120) + "." + strings.Repeat("x", 60), 3, "[]"},
		{"weekends are no gaps", strings.Repeat(week, 20), 3, "[]"},
		{"a working week silent", strings.Repeat(week, 12) + "......." + strings.Repeat(week, 8), 3, "[[82 90]]"},
		{"silent to the end", strings.Repeat("x", 100) + strings.Repeat(".", 10), 3, "[[100 109]]"},
		{"silent, and later to the end for long", strings.Repeat("x", 120) + "..." + strings.Repeat("x", 60) +
			strings.Repeat(".", 300), 3, "[[120 122] [183 482]]"},
		{"one caller stopped, or the log", strings.Repeat("x", 100) + strings.Repeat(".", 10), 1, "[[100 109]]"},
		{"one caller paused", strings.Repeat("x", 100) + strings.Repeat(".", 10) + "x", 1, "[]"},
		{"every third day", strings.Repeat("x..", 40) + "......" + strings.Repeat("x..", 10), 3, "[]"},
		{"too short to say", strings.Repeat("x", 10) + "....." + strings.Repeat("x", 5), 3, "[]"},
	} {
		start := usage.Day(20_000) // a Monday would do as well: profiles are by weekday
		start -= usage.Day((int(start)+4)%7 - 1)
		var uses []usage.Use
		for c := range tt.callers {
			f := usage.Fold{}
			for i, ch := range tt.days {
				if ch == 'x' {
					f.Add(usage.Call{Time: (start + usage.Day(i)).Time().Add(time.Hour),
						Identity:   model.MustID(fmt.Sprintf("person/p%d", c)),
						Permission: model.MustPermission("stow/item:read"), Path: node.Child("box", "b"),
						Outcome: usage.Done})
				}
			}
			uses = append(uses, f.Uses()...)
		}
		last := start + usage.Day(len(tt.days))
		cov := usage.NewCoverage([]model.CoverageRecord{rec},
			usage.Read{First: start.Time(), Ends: []time.Time{last.Time()}})
		cov.Observe(usage.ListOf(uses...), func(model.Permission) string { return "read" }, nil, nil)
		got, silent := [][2]usage.Day{}, 0
		for _, g := range cov.Stream(rec).Gaps {
			silent += g.Days()
			got = append(got, [2]usage.Day{g.From - start, g.To - start})
		}
		if fmt.Sprint(got) != tt.want {
			t.Errorf("%s: %v, want %v", tt.name, got, tt.want)
		}
		w := usage.Window{From: start.Time(), To: last.Time()}
		if want := 1 - float64(silent)/float64(len(tt.days)); math.Abs(cov.Share(node, "stow", "read",
			w)-want) > 1e-9 {
			t.Errorf("%s: share %v, want %v", tt.name, cov.Share(node, "stow", "read", w), want)
		}
		// A writer that may not write: from its last event on nothing arrives.
		cov.Observe(usage.ListOf(uses...), func(model.Permission) string { return "read" }, nil,
			func(model.CoverageRecord) bool { return true })
		if s := cov.Stream(rec); !s.Refused {
			t.Errorf("%s: a refused writer is not told", tt.name)
		}
	}
}

// TestResolver brings names and operations home.
func TestResolver(t *testing.T) {
	e := &model.Estate{Source: "m", Catalogue: model.Catalogue{{Permission: model.MustPermission("stow/item:read")},
		{Permission: model.MustPermission("stow/item:find")}},
		Identities: []model.Identity{{ID: model.MustID("person/ingrid.vaage"),
			Aliases: []string{"u-17", "ingrid@ternhaven.example", "external/iv"}}, {ID: model.MustID("workload/twin")},
			{ID: model.MustID("person/twin")}, {ID: model.MustID("workload/deploy")},
			{ID: model.MustID("group/crew")}}}
	pat := func(s string) model.PermissionPattern { return model.MustPermissionPattern(s) }
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	r := usage.NewResolver(x, []usage.Alias{{Log: "unknown/deploy:*", Is: model.MustID("workload/deploy")},
		{Log: "workload/*win", Is: model.MustID("workload/deploy")}, // whoever the estate lists is who it is
		{Log: "person/root", Is: model.MustID("m:person/ingrid.vaage")}},
		[]usage.Operation{{Log: pat("unmapped/FetchBlob:call"),
			Is: []model.Permission{model.MustPermission("stow/item:read"), model.MustPermission("stow/item:find")}},
			{Log: pat("unmapped/Ping*:call"), Is: []model.Permission{}}}, nil)
	for in, want := range map[string]string{
		"person/ingrid.vaage": "person/ingrid.vaage", "unknown/u-17": "person/ingrid.vaage",
		"person/ingrid%40ternhaven.example": "person/ingrid.vaage", "external/iv": "person/ingrid.vaage",
		"workload/twin": "workload/twin", "unknown/twin": "unknown/twin",
		"unknown/deploy:session-9": "workload/deploy", "person/deploy:x": "person/deploy%3Ax",
		"person/root": "person/ingrid.vaage",
		// A role may be called; whom a log calls a person is no group.
		"unknown/crew": "group/crew", "person/crew": "person/crew", "workload/crew": "workload/crew",
		"unknown/stranger": "unknown/stranger", "everyone": "everyone",
	} {
		if got := r.Identity(model.MustID(in)).String(); got != want {
			t.Errorf("Identity(%s) = %s, want %s", in, got, want)
		}
	}
	use := func(id, p string) usage.Use {
		return usage.Use{Key: usage.Key{Identity: model.MustID(id), Permission: model.MustPermission(p),
			Path: model.MustPath("/m/x"), Outcome: usage.Done}, Count: 2, First: time.Unix(0, 0).UTC(),
			Last: time.Unix(9, 0).UTC(), Days: usage.DaysOf(time.Unix(0, 0))}
	}
	got := r.Uses(usage.ListOf(use("unknown/u-17", "stow/item:read"),
		use("person/ingrid.vaage", "unmapped/FetchBlob:call"), use("person/root", "unmapped/Other:call"),
		use("person/root", "unmapped/PingAll:call")))
	said := ""
	for _, u := range got.All() {
		said += fmt.Sprintf("%s %s %d\n", u.Identity, u.Permission, u.Count)
	}
	if want := "person/ingrid.vaage stow/item:find 2\nperson/ingrid.vaage stow/item:read 4\n" +
		"person/ingrid.vaage unmapped/Other:call 2\n"; said != want {
		t.Errorf("got\n%swant\n%s", said, want)
	}
}

// FuzzTable: bytes that are no table are refused, and a table is read as it was.
func FuzzTable(f *testing.F) {
	t1 := &usage.Table{}
	for i, c := range calls(rand.New(rand.NewPCG(1, 1)), 40) {
		t1.MergeUse(usage.Use{Key: c.Key(), Count: int64(i + 1), First: c.Time, Last: c.Time,
			Days: usage.DaysOf(c.Time, c.Time.AddDate(1, 0, 0))})
	}
	b, _ := t1.AppendBinary(nil)
	f.Add(b)
	f.Add([]byte{1, 1, 1, 1, 1, 0})
	f.Fuzz(func(t *testing.T, in []byte) {
		x := &usage.Table{}
		if err := x.MergeBinary(in); err != nil {
			return
		}
		again, err := x.AppendBinary(nil)
		y := &usage.Table{}
		if err == nil {
			err = y.MergeBinary(again)
		}
		g := &usage.Gather{}
		if err := errors.Join(err, g.AddBinary(in)); err != nil {
			t.Fatal(err)
		}
		if same := g.Uses().List(); len(same) != x.Len() {
			t.Fatalf("%d uses gathered, %d in the table", len(same), x.Len())
		}
		a, b := x.Uses(), y.Uses()
		if err != nil || len(a) != len(b) {
			t.Fatalf("%v: %d uses, then %d", err, len(a), len(b))
		}
		for i := range a {
			if !reflect.DeepEqual(a[i], b[i]) {
				t.Fatalf("%#v\n%#v", a[i], b[i])
			}
		}
	})
}

// TestRead: a log is evidence for as long as it was there and read, and no longer.
func TestRead(t *testing.T) {
	now := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	node := model.MustPath("/m/berth:p")
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	every := func(from, step int) (out []int) {
		for d := from; d >= 0; d -= step {
			out = append(out, d)
		}
		return out
	}
	for _, tt := range []struct {
		name      string
		keep      int   // days; 0: for ever
		since     int   // days ago it was switched on; 0: always
		reads     []int // days ago
		events    []int // days ago on which this very log has some
		want      int   // covered days of the last 90
		forgotten bool
		asked     int // days ago: the window ends there
	}{
		{"read today", 0, 0, []int{0}, nil, 90, false, 0},
		{"never read", 0, 0, nil, nil, 0, false, 0},
		{"read a month ago", 0, 0, []int{30}, nil, 60, false, 0},
		{"read before the window", 0, 0, []int{120}, nil, 0, false, 0},
		{"kept long", 400, 0, []int{0}, nil, 90, false, 0},
		{"kept for a week, and first read today", 7, 0, []int{0}, nil, 7, true, 0},
		{"kept for a week, and older events were there after all", 7, 0, []int{0}, []int{50}, 50, true, 0},
		{"kept for a week, and events go back beyond the window", 7, 0, []int{0}, []int{150, 3}, 90, false, 0},
		{"kept for a week, read every day", 7, 0, every(100, 1), nil, 90, false, 0},
		{"kept for a week, read every five days", 7, 0, every(95, 5), nil, 90, false, 0},
		{"kept for a week, read every month", 7, 0, []int{90, 60, 30, 0}, nil, 90 - 3*22, false, 0},
		{"kept for a week, read every month, events in between", 7, 0, []int{90, 60, 30, 0}, []int{75, 45, 15}, 90,
			false, 0},
		{"kept for a week, first read a month ago", 7, 0, every(30, 5), nil, 37, true, 0},
		{"switched on after it was first read", 7, 20, every(30, 5), nil, 20, false, 0},
		{"asked about a time before the last reading", 0, 0, []int{60, 0}, nil, 90, false, 30},
		{"asked about a time before the first reading", 400, 0, []int{0}, nil, 90, false, 60},
		{"asked about a time that was forgotten when it was first read", 7, 0, []int{0}, nil, 0, true, 60},
		{"asked about a hole between two readings", 7, 0, []int{100, 0}, nil, 7, true, 60}, // 107 to 100 days ago
		{"a gap before it was switched on counts once", 7, 20, []int{80, 25, 20, 15, 10, 5, 0}, nil, 20, false, 0},
	} {
		r := model.CoverageRecord{Node: node, Service: "s", LogClass: "read", Written: true, Keep: tt.keep}
		if tt.since > 0 {
			r.Since = ago(tt.since)
		}
		read := usage.Read{First: ago(200), Until: ago(tt.asked)}
		for _, d := range tt.reads {
			read.Ends = append(read.Ends, ago(d))
		}
		fold := usage.Fold{}
		for _, d := range tt.events {
			fold.Add(usage.Call{Time: ago(d), Identity: model.MustID("person/p"),
				Permission: model.MustPermission("s/x:y"), Path: node, Outcome: usage.Done})
		}
		c := usage.NewCoverage([]model.CoverageRecord{r}, read)
		c.Observe(usage.ListOf(fold.Uses()...), func(model.Permission) string { return "read" }, nil, nil)
		w := usage.WindowOf(ago(tt.asked), 90)
		if got := c.Share(node, "s", "read", w) * 90; math.Abs(got-float64(tt.want)) > 0.01 {
			t.Errorf("%s: %.2f days, want %d", tt.name, got, tt.want)
		}
		if got := c.Forgotten(r, w); got != tt.forgotten {
			t.Errorf("%s: forgotten %t, want %t", tt.name, got, tt.forgotten)
		}
	}
}
