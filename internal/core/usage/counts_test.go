package usage_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestCounts: what is packed is read back, whatever its shape.
func TestCounts(t *testing.T) {
	const seed = 21
	r := rand.New(rand.NewPCG(seed, 0))
	shapes := []func(i int) int64{
		func(int) int64 { return 1 },
		func(int) int64 { return 4 },
		func(int) int64 { return 1 + r.Int64N(3) },
		func(int) int64 { return 990 + r.Int64N(30) },
		func(i int) int64 { // an outlier now and then
			if i%50 == 49 {
				return 1 + r.Int64N(1<<40)
			}
			return 1 + r.Int64N(8)
		},
		func(int) int64 { return 1 + r.Int64N(1<<47) },
	}
	for k, shape := range shapes {
		for _, n := range []int{1, 2, 7, 8, 63, 64, 65, 400} {
			ns := make([]int64, n)
			for i := range ns {
				ns[i] = shape(i)
			}
			c := usage.PackCounts(ns)
			if got, ok := c.List(n); !ok || !slices.Equal(got, ns) {
				t.Fatalf("seed %d, shape %d: %v, %t, want %v", seed, k, got, ok, ns)
			}
		}
	}
}

// TestOnceADay: the commonest habit takes nothing.
func TestOnceADay(t *testing.T) {
	for _, c := range []struct {
		ns   []int64
		none bool
	}{{[]int64{1}, true}, {[]int64{1, 1, 1}, true}, {[]int64{2, 2}, false}, {[]int64{1, 2}, false}} {
		if got := usage.PackCounts(c.ns).Bytes() == 0; got != c.none {
			t.Errorf("%v takes nothing: %t", c.ns, got)
		}
	}
}

// TestCountsAreSmall: habits of years take at most 6 bits for a day on which something
// happened, the day itself included.
func TestCountsAreSmall(t *testing.T) {
	const seed, years = 22, 3 * 365
	r := rand.New(rand.NewPCG(seed, 0))
	day := func(d int) time.Time { return time.Date(2023, 1, 1+d, 9, 0, 0, 0, time.UTC) }
	for name, calls := range map[string]func(d int) int64{
		"once a day":               func(int) int64 { return 1 },
		"the same number a day":    func(int) int64 { return 24 },
		"nine a day, more or less": func(int) int64 { return 6 + r.Int64N(7) },
		"every working day": func(d int) int64 {
			return []int64{0, 3, 4, 2, 3, 5, 0}[int(day(d).Weekday())] + r.Int64N(2)*int64(min(1, d%7))
		},
		"quarter of an hour": func(int) int64 { return 88 + r.Int64N(9) },
		"a run that went wild": func(d int) int64 {
			if d == 200 {
				return 250_000
			}
			return 12
		},
	} {
		f := usage.Fold{}
		var days []time.Time
		var ns []int64
		for d := range years {
			if n := calls(d); n > 0 {
				days, ns = append(days, day(d)), append(ns, n)
			}
		}
		f.Merge(usage.Use{Days: usage.DaysOf(days...), Counts: usage.PackCounts(ns), First: days[0],
			Last: days[len(days)-1]})
		u := f.Uses()[0]
		b, _ := u.Days.MarshalBinary()
		if bits := float64(8*(len(b)+u.Counts.Bytes())) / float64(len(days)); bits > 6 {
			t.Errorf("%s: %.1f bits a day", name, bits)
		}
	}
}

func FuzzCounts(f *testing.F) {
	f.Add([]byte{1, 2, 3}, 3)
	f.Fuzz(func(t *testing.T, in []byte, n int) {
		ns := make([]int64, len(in))
		for i, b := range in {
			ns[i] = 1 + int64(b)<<(n&31)
		}
		if got, ok := usage.PackCounts(ns).List(len(ns)); !ok || !slices.Equal(got, ns) {
			t.Fatalf("%v, %t, want %v", got, ok, ns)
		}
	})
}

// TestEveryWindowIsExact: uses in any window, of any table that was folded, merged,
// written and read back in any way, are the calls that a brute count finds there.
func TestEveryWindowIsExact(t *testing.T) {
	const seed = 23
	r := rand.New(rand.NewPCG(seed, 0))
	for round := range 150 {
		cs := calls(r, 1+r.IntN(400))
		if round%3 == 0 { // many on few days
			for i := range cs {
				cs[i].Time = time.Unix(1_700_000_000+r.Int64N(5*86400), 0).UTC()
			}
		}
		number := func(t *usage.Table, c usage.Call) usage.RowKey {
			k := c.Key()
			return usage.RowKey{Identity: t.IDs.Number(k.Identity), ActingFor: t.IDs.Number(k.ActingFor),
				Permission: t.Perms.Number(k.Permission), Path: t.Paths.Number(k.Path),
				Network: t.Nets.Number(k.Network), Outcome: usage.CodeOf(k.Outcome), SecondFactor: k.SecondFactor}
		}
		// The calls are cut into tables, which are merged in one way or another.
		var whole usage.Table
		for rest := cs; len(rest) > 0; {
			n := 1 + r.IntN(len(rest))
			part := &usage.Table{}
			if r.IntN(3) == 0 { // by hand of a shard
				var s usage.Shards
				for _, c := range rest[:n] {
					s.Add(number(part, c), c.Time.UnixMilli())
				}
				s.Into(part)
			} else {
				for _, c := range rest[:n] {
					part.Add(number(part, c), c.Time.UnixMilli())
				}
			}
			switch r.IntN(3) {
			case 0:
				whole.Merge(part)
			case 1:
				b, err := part.AppendBinary(nil)
				if err == nil {
					err = whole.MergeBinary(b)
				}
				if err != nil {
					t.Fatal(err)
				}
			case 2:
				for _, u := range part.Uses() {
					whole.MergeUse(u)
				}
			}
			if rest = rest[n:]; len(rest) > 0 && r.IntN(4) == 0 { // and one more, added to what was read
				whole.Add(number(&whole, rest[0]), rest[0].Time.UnixMilli())
				rest = rest[1:]
			}
		}
		uses := whole.Uses()
		for range 20 {
			w := usage.WindowOf(cs[r.IntN(len(cs))].Time, r.IntN(60))
			want := map[usage.Key]map[usage.Day]int64{}
			sum := int64(0)
			for _, c := range cs {
				if d := usage.DayOf(c.Time); d >= w.First() && d <= w.Last() {
					if want[c.Key()] == nil {
						want[c.Key()] = map[usage.Day]int64{}
					}
					want[c.Key()][d]++
					sum++
				}
			}
			got, found := int64(0), 0
			for _, u := range uses {
				n, least := u.Between(w.First(), w.Last())
				if !u.Within(w.First(), w.Last()) {
					if n > 0 {
						t.Fatalf("seed %d, round %d: %d calls between, and none within", seed, round, n)
					}
					continue
				}
				if n != u.Count || least != u.AtLeast {
					t.Fatalf("seed %d, round %d: %d calls between, %d within", seed, round, n, u.Count)
				}
				found++
				got += u.Count
				days := int64(0)
				for d, n := range u.Daily() {
					if days += n; want[u.Key][d] != n {
						t.Fatalf("seed %d, round %d: %d calls on %s, want %d", seed, round, n, d.Time(),
							want[u.Key][d])
					}
				}
				if days != u.Count || u.AtLeast || u.Days.Count() != len(want[u.Key]) ||
					usage.DayOf(u.First) < w.First() || usage.DayOf(u.Last) > w.Last() {
					t.Fatalf("seed %d, round %d: %+v adds up to %d", seed, round, u, days)
				}
			}
			if got != sum || found != len(want) {
				t.Fatalf("seed %d, round %d: %d calls in %d uses from %s to %s, want %d in %d", seed, round, got,
					found, w.From, w.To, sum, len(want))
			}
			if groups := usage.GroupBy(slices.All(uses), &usage.Filter{Window: w}, nil, nil); sum > 0 &&
				groups[0].Count != sum {
				t.Fatalf("seed %d: one group of %d calls, want %d", seed, groups[0].Count, sum)
			}
		}
	}
}

// TestCountsOfBefore: what was folded before counts a day were kept has its sum and its
// days exactly, and the least for a part of them.
func TestCountsOfBefore(t *testing.T) {
	day := func(d int) time.Time { return time.Date(2026, 3, d, 9, 0, 0, 0, time.UTC) }
	old := usage.Use{Key: usage.Key{Network: netip.MustParsePrefix("10.0.0.0/24")}, Count: 100, First: day(1),
		Last: day(9), Days: usage.DaysOf(day(1), day(5), day(9))}
	now := usage.Use{Key: old.Key, Count: 7, First: day(9), Last: day(20), Days: usage.DaysOf(day(9), day(20)),
		Counts: usage.PackCounts([]int64{4, 3})}
	for _, order := range [][]usage.Use{{old, now}, {now, old}} {
		table, f := &usage.Table{}, usage.Fold{}
		for _, u := range order {
			table.MergeUse(u)
			f.Merge(u)
		}
		for _, uses := range [][]usage.Use{table.Uses(), f.Uses()} {
			for _, tt := range []struct {
				from, to int
				want     string
			}{{1, 20, "107 on 4 days"}, {10, 20, "at least 3 on 1 days"}, {1, 8, "at least 2 on 2 days"},
				{9, 9, "at least 5 on 1 days"}, {21, 25, "nothing"}} {
				u := uses[0]
				got := "nothing"
				if u.Within(usage.DayOf(day(tt.from)), usage.DayOf(day(tt.to))) {
					got = fmt.Sprintf("%d on %d days", u.Count, u.Days.Count())
					if u.AtLeast {
						got = "at least " + got
					}
				}
				if got != tt.want {
					t.Errorf("%d to %d: %s, want %s", tt.from, tt.to, got, tt.want)
				}
			}
		}
	}
}

// TestTableOfBefore: a table that the first version wrote is read, and its counts are the
// least of their days.
func TestTableOfBefore(t *testing.T) {
	b, err := hex.DecodeString(
		"01020a776f726b6c6f61642f77" +
			"0205612f623a6302042f6d2f7800010100010100000a80a0a484ce6780d4d4ab01820501000000000000000e")
	if err != nil {
		t.Fatal(err)
	}
	var table usage.Table
	if err := table.MergeBinary(b); err != nil {
		t.Fatal(err)
	}
	u := table.Uses()[0]
	if u.Count != 10 || u.Days.Count() != 3 || u.AtLeast || u.Path.String() != "/m/x" {
		t.Errorf("%+v", u)
	}
	first, _ := u.Days.Last()
	if !u.Within(first, first) || u.Count != 1 || !u.AtLeast {
		t.Errorf("on its last day: %+v", u)
	}
	for i := range b { // a part of it, or one with a wrong byte, is refused or read as a table
		_ = (&usage.Table{}).MergeBinary(b[:i])
		c := bytes.Clone(b)
		c[i] ^= 0x55
		_ = (&usage.Table{}).MergeBinary(c)
	}
	// As the second version wrote it: with counts, and without hours, which are not known then.
	second := slices.Insert(append([]byte{2}, b[1:]...), bytes.Index(b, []byte{0x80, 0xa0}), 0)
	table = usage.Table{}
	if err := table.MergeBinary(second); err != nil || table.Uses()[0].Count != 10 || table.Uses()[0].Hours != 0 {
		t.Errorf("of the second version: %v", err)
	}
	now, err := table.AppendBinary(nil)
	if err != nil {
		t.Fatal(err)
	}
	before := bytes.Clone(b)
	if before[0] = 0; !errors.Is((&usage.Table{}).MergeBinary(before), usage.ErrTable) {
		t.Error("a version before the first is read")
	}
	now[0]++
	if err := (&usage.Table{}).MergeBinary(now); !errors.Is(err, usage.ErrTable) {
		t.Errorf("a version to come: %v", err)
	}
}

// TestFirstYear: what a log dates into the first year that can be written is read as it was kept.
func TestFirstYear(t *testing.T) {
	for _, at := range []time.Time{time.Date(1, 1, 1, 12, 0, 0, 0, time.UTC),
		time.Date(9999, 12, 31, 12, 0, 0, 0, time.UTC)} {
		f := usage.Fold{}
		f.Add(usage.Call{Time: at, Identity: model.MustID("person/a"), Permission: model.MustPermission("a/b:c"),
			Path: model.MustPath("/m"), Outcome: usage.Done})
		var table, again usage.Table
		for _, u := range f.Uses() {
			table.MergeUse(u)
		}
		b, err := table.AppendBinary(nil)
		if err == nil {
			err = again.MergeBinary(b)
		}
		if err != nil || again.Len() != 1 || !again.Uses()[0].Last.Equal(at) ||
			!slices.Equal(again.Uses()[0].Days.List(), []usage.Day{usage.DayOf(at)}) {
			t.Errorf("%s: %v, %+v", at, err, again.Uses())
		}
	}
}
