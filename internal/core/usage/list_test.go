package usage_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestGather: however calls are cut into parts, folded, written and gathered, what comes out is
// what folding them at once gives, in the same order; and what is asked of one identity is what
// going over everything finds.
func TestGather(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 7))
		all := calls(r, 40+r.IntN(300))
		whole := usage.Fold{}
		g := &usage.Gather{}
		for rest := all; len(rest) > 0; {
			n := min(len(rest), 1+r.IntN(80))
			part, table := usage.Fold{}, &usage.Table{}
			for _, c := range rest[:n] {
				whole.Add(c)
				part.Add(c)
			}
			if rest = rest[n:]; r.IntN(2) == 0 {
				for _, u := range part.Uses() {
					g.Add(u)
				}
				continue
			}
			for _, u := range part.Uses() {
				table.MergeUse(u)
			}
			b, err := table.AppendBinary(nil)
			if err == nil {
				err = g.AddBinary(b)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		want, got := whole.Uses(), g.Uses()
		if got.Len() != len(want) {
			t.Fatalf("seed %d: %d uses, want %d", seed, got.Len(), len(want))
		}
		names := map[model.ID]bool{}
		for i, u := range got.All() {
			w := want[i]
			if !alike(u, w) {
				t.Fatalf("seed %d: use %d is\n%+v\nwant\n%+v", seed, i, u, w)
			}
			names[u.Identity], names[u.ActingFor] = true, true
		}
		delete(names, model.ID{})
		if n := len(slices.Collect(got.Principals())); n != len(names) {
			t.Fatalf("seed %d: %d names, want %d", seed, n, len(names))
		}
		names[model.MustID("person/nobody")] = true
		for id := range names {
			made, used := []int{}, []int{}
			for i, w := range want {
				if w.Identity == id || w.ActingFor == id {
					made = append(made, i)
				}
				if w.Principal() == id {
					used = append(used, i)
				}
			}
			if list := places(got.Of(id)); !slices.Equal(list, made) {
				t.Fatalf("seed %d: uses of %s: %v, want %v", seed, id, list, made)
			}
			if list := places(got.As(id)); !slices.Equal(list, used) {
				t.Fatalf("seed %d: uses with the rights of %s: %v, want %v", seed, id, list, used)
			}
			if some := slices.Contains(slices.Collect(got.Principals()), id); some != (len(used) > 0 ||
				len(made) > 0 &&
					slices.ContainsFunc(want, func(w usage.Use) bool { return w.Identity == id })) {
				t.Fatalf("seed %d: %s is a principal: %t, of %v", seed, id, some, used)
			}
		}
		first := usage.DayOf(want[0].First) + usage.Day(r.IntN(40)) - 10
		last := first + usage.Day(r.IntN(60))
		cut, plain := got.Cut(first, last), got.Select(func(u *usage.Use) bool { return u.Within(first, last) })
		if !slices.EqualFunc(cut.List(), plain.List(), alike) ||
			!slices.Equal(slices.Collect(cut.Principals()), slices.Collect(plain.Principals())) {
			t.Fatalf("seed %d: what is left from %d to %d is\n%+v\nnot\n%+v", seed, first, last, cut.List(),
				plain.List())
		}
		if d := usage.DayOf(want[0].First) - 1000; got.Cut(d, d+10000) != got {
			t.Fatalf("seed %d: what lies inside as a whole is copied", seed)
		}
		odd := func(u *usage.Use) bool { return u.Only(func(d usage.Day) bool { return d%2 == 1 }) }
		for _, u := range got.Select(odd).All() {
			for d := range u.Daily() {
				if d%2 == 0 {
					t.Fatalf("seed %d: day %d is left of %+v", seed, d, u)
				}
			}
		}
	}
}

// TestHours: the hours of calls are kept, in UTC and also before 1970, whatever way they are folded;
// beside calls of which they are not known nothing is known of any. They answer of weekdays and hours
// alone.
func TestHours(t *testing.T) {
	oslo := time.FixedZone("", 2*3600)
	for _, tt := range []struct {
		at   []time.Time
		want usage.Hours
		week uint8 // from Sunday
	}{
		{[]time.Time{time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)}, 1, 1 << 5},
		{[]time.Time{time.Date(2026, 11, 27, 23, 59, 59, 999e6, time.UTC)}, 1 << 23, 1 << 5},
		{[]time.Time{time.Date(2026, 11, 28, 1, 30, 0, 0, oslo)}, 1 << 23, 1 << 5}, // by UTC the day before
		{[]time.Time{time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC), time.Date(2026, 11, 29, 9, 59, 0, 0, time.UTC),
			time.Date(2026, 11, 29, 17, 0, 0, 0, time.UTC)}, 1<<9 | 1<<17, 1<<4 | 1},
		{[]time.Time{time.UnixMilli(-1), time.UnixMilli(-3_600_000), time.UnixMilli(-3_600_001)}, 1<<23 | 1<<22,
			1 << 3},
	} {
		fold, table, shards := usage.Fold{}, &usage.Table{}, &usage.Shards{}
		k := usage.Key{Identity: model.MustID("workload/w"), Permission: model.MustPermission("a/b:c"),
			Path: model.MustPath("/m"), Outcome: usage.Done}
		row := usage.RowKey{Identity: table.IDs.Number(k.Identity), Permission: table.Perms.Number(k.Permission),
			Path: table.Paths.Number(k.Path), Outcome: usage.CodeOf(k.Outcome)}
		for _, at := range tt.at {
			fold.Add(usage.Call{Time: at, Identity: k.Identity, Permission: k.Permission, Path: k.Path,
				Outcome: k.Outcome})
			table.Add(row, at.UnixMilli())
			shards.Add(row, at.UnixMilli())
		}
		other := &usage.Table{IDs: table.IDs, Perms: table.Perms, Paths: table.Paths}
		shards.Into(other)
		for _, u := range []usage.Use{fold.Uses()[0], table.Uses()[0], other.Uses()[0],
			usage.ListOf(fold.Uses()...).At(0)} {
			if u.Hours != tt.want {
				t.Errorf("%v: %b, want %b", tt.at, u.Hours, tt.want)
			}
			if c := u.Context().Times; c.Hours != uint32(tt.want) || c.Weekdays != tt.week ||
				!c.First.Equal(u.First) ||
				!c.Last.Equal(u.Last) {
				t.Errorf("%v: %+v", tt.at, c)
			}
			old := u
			old.Hours = 0
			if c := old.Context().Times; c != (model.Times{}) {
				t.Errorf("of hours that are not known: %+v", c)
			}
			for _, both := range [][]usage.Use{{u, old}, {old, u}} {
				again := usage.Fold{}
				part := &usage.Table{}
				for _, x := range both {
					again.Merge(x)
					part.MergeUse(x)
				}
				if a, b, c := again.Uses()[0].Hours, part.Uses()[0].Hours,
					usage.ListOf(both...).At(0).Hours; a+b+c != 0 {
					t.Errorf("%v, and others: %b %b %b", tt.at, a, b, c)
				}
			}
		}
	}
}

// TestNoUses: what holds no use answers as one that holds none.
func TestNoUses(t *testing.T) {
	var none *usage.Uses
	for _, u := range []*usage.Uses{none, usage.ListOf(), (&usage.Gather{}).Uses()} {
		first, last := u.Span()
		n := len(places(u.All())) + len(places(u.Of(model.MustID("person/p")))) + len(places(u.As(model.ID{}))) +
			len(slices.Collect(u.Principals())) + len(u.List())
		for range u.Runs() {
			n++
		}
		if u.Len() != 0 || n != 0 || !first.IsZero() || !last.IsZero() {
			t.Errorf("%d uses, %d answers, from %s to %s", u.Len(), n, first, last)
		}
	}
}

func places(uses func(func(int, usage.Use) bool)) []int {
	out := []int{}
	for i := range uses {
		out = append(out, i)
	}
	slices.Sort(out)
	return out
}

// alike reports whether two uses say the same.
func alike(a, b usage.Use) bool {
	return a.Key == b.Key && a.Count == b.Count && a.AtLeast == b.AtLeast && a.Hours == b.Hours &&
		a.First.Equal(b.First) && a.Last.Equal(b.Last) &&
		reflect.DeepEqual(slices.Collect(daily(a)), slices.Collect(daily(b)))
}

func daily(u usage.Use) func(func([2]int64) bool) {
	return func(yield func([2]int64) bool) {
		for d, n := range u.Daily() {
			if !yield([2]int64{int64(d), n}) {
				return
			}
		}
	}
}

// TestFarDays: however far the days of a use lie apart and however many there are, they are
// those that were gathered, also of uses that are put together.
func TestFarDays(t *testing.T) {
	for seed := range uint64(600) {
		r := rand.New(rand.NewPCG(seed, 12))
		far := []int{60, 200, 1000, 65_400, 65_600, 200_000}[r.IntN(6)]
		var days usage.Days
		g := &usage.Gather{}
		for range 1 + r.IntN(3) {
			var d usage.Days
			for range r.IntN(10) {
				d = d.Union(usage.DaysOf(usage.Day(r.IntN(far)).Time()))
			}
			days = days.Union(d)
			g.Add(usage.Use{Key: usage.Key{Identity: model.MustID("person/a")}, Count: 1, Days: d})
		}
		if got := g.Uses().At(0).Days; !slices.Equal(got.List(), days.List()) {
			t.Fatalf("seed %d: %v, want %v", seed, got.List(), days.List())
		}
	}
}

// TestDaysWithin: which days of a set fall into a span, and whether any does, is what asking day by
// day finds; the set stays as it was.
func TestDaysWithin(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 11))
		var d usage.Days
		for range r.IntN(12) {
			d = d.Union(usage.DaysOf(usage.Day(20_000 + r.IntN(300)).Time()))
		}
		all := d.List()
		first := usage.Day(19_950 + r.IntN(400))
		last := first + usage.Day(r.IntN(200)-20)
		var want []usage.Day
		for _, day := range all {
			if first <= day && day <= last {
				want = append(want, day)
			}
		}
		if got := d.Between(first, last).List(); !slices.Equal(got, want) {
			t.Fatalf("seed %d: %v from %d to %d: %v, want %v", seed, all, first, last, got, want)
		}
		if d.Any(first, last) != (len(want) > 0) {
			t.Fatalf("seed %d: %v from %d to %d: some: %t", seed, all, first, last, d.Any(first, last))
		}
		if !slices.Equal(d.List(), all) {
			t.Fatalf("seed %d: %v, was %v", seed, d.List(), all)
		}
	}
}

// TestOdd: what does not fit into a row comes out as it went in.
func TestOdd(t *testing.T) {
	for _, tt := range []usage.Use{
		{Count: 1<<32 - 1, First: time.UnixMilli(0), Last: time.UnixMilli(1000*(1<<32-1) + 999)},
		{Count: 1 << 32, First: time.UnixMilli(5), Last: time.UnixMilli(1999), AtLeast: true},
		{Count: 3, First: time.UnixMilli(-1), Last: time.UnixMilli(1001)},
		{Count: 4, First: time.UnixMilli(7), Last: time.UnixMilli(1000 << 32)},
		{Count: 0, First: time.Time{}, Last: time.Time{}, AtLeast: true},
	} {
		tt.Identity = model.MustID("person/a")
		got := usage.ListOf(tt, usage.Use{Key: usage.Key{Identity: model.MustID("person/b")}, Count: 9}).At(0)
		if got.Count != tt.Count || !got.First.Equal(tt.First) || !got.Last.Equal(tt.Last) ||
			got.AtLeast != tt.AtLeast {
			t.Errorf("%+v, want %+v", got, tt)
		}
		from, to := usage.ListOf(tt).Span()
		if !from.Equal(tt.First) || !to.Equal(tt.Last) {
			t.Errorf("from %s to %s, want %+v", from, to, tt)
		}
	}
}

// TestOfStops: whoever has seen enough of what somebody did is told no more, also among what was done
// for them.
func TestOfStops(t *testing.T) {
	me, other := model.MustID("workload/a"), model.MustID("workload/z")
	fold := usage.Fold{}
	for i := range 6 {
		c := usage.Call{Time: start, Identity: other, ActingFor: me, Permission: model.MustPermission("a/b:c"),
			Path: model.MustPath(fmt.Sprintf("/m/q:%d", i)), Outcome: usage.Done}
		if i < 2 {
			c.Identity, c.ActingFor = me, model.ID{}
		}
		fold.Add(c)
	}
	list := usage.ListOf(fold.Uses()...)
	for most := 1; most <= 6; most++ {
		n := 0
		for range list.Of(me) {
			if n++; n == most {
				break
			}
		}
		if n != most {
			t.Errorf("%d of %d were told", n, most)
		}
	}
	if n := len(places(list.Of(me))); n != 6 {
		t.Errorf("%d in all", n)
	}
}

// TestActedFor: whoever did nothing itself, and others did something with its rights, is a principal.
func TestActedFor(t *testing.T) {
	f := usage.Fold{}
	for _, as := range []string{"", "person/a", "person/z"} {
		c := usage.Call{Time: time.Unix(1_790_000_000, 0), Identity: model.MustID("workload/m"),
			Permission: model.MustPermission("stow/item:read"), Path: model.MustPath("/m"), Outcome: usage.Done}
		if as != "" {
			c.ActingFor = model.MustID(as)
		}
		f.Add(c)
	}
	u := usage.ListOf(f.Uses()...)
	if got := fmt.Sprint(slices.Collect(u.Principals())); got != "[workload/m person/a person/z]" {
		t.Error(got)
	}
	for range u.Principals() { // whoever stops is asked no more
		break
	}
	n := 0
	for range u.Principals() {
		if n++; n == 2 {
			break
		}
	}
}

// TestAsEach: asked about those of a list, in whatever order and twice, it tells what By does of them.
func TestAsEach(t *testing.T) {
	var nobody *usage.Uses
	for range nobody.AsEach([]model.ID{model.MustID("person/a")}) {
		t.Error("nobody did something")
	}
	told := 0
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 31))
		ids := []model.ID{model.MustID("person/a"), model.MustID("person/b"), model.MustID("workload/m"),
			model.MustID("workload/n"), model.MustID("person/silent")}
		f := usage.Fold{}
		for range r.IntN(30) {
			c := usage.Call{Time: time.Unix(1_790_000_000, 0), Identity: ids[r.IntN(3)], Outcome: usage.Done,
				Permission: model.MustPermission("stow/item:read"),
				Path:       model.MustPath(fmt.Sprintf("/m/box:%d", r.IntN(4)))}
			if r.IntN(2) == 0 {
				c.ActingFor = ids[r.IntN(4)]
			}
			f.Add(c)
		}
		u := usage.ListOf(f.Uses()...)
		var asked []model.ID
		for range r.IntN(5) {
			asked = append(asked, ids[r.IntN(len(ids))])
		}
		var got, want []int
		for i := range u.AsEach(asked) {
			got = append(got, i)
		}
		for i := range u.By(func(id model.ID) bool { return slices.Contains(asked, id) }) {
			want = append(want, i)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("seed %d: of %v it tells %v, want %v", seed, asked, got, want)
		}
		told += len(got)
		for range u.AsEach(asked) { // whoever stops is told no more
			break
		}
	}
	if told == 0 {
		t.Error("nobody did anything")
	}
}

// TestSame: what the rights of an account explain is its own, and the rest is of the first of those whom its
// person has elsewhere whose rights do; what was refused, and what nobody's rights explain, stays where it was.
func TestSame(t *testing.T) {
	here, there, also := model.MustID("person/k2"), model.MustID("dir:person/k"), model.MustID("hr:person/k")
	as := map[model.ID][]model.ID{here: {there, also}}
	explains := func(u *usage.Use) bool {
		switch u.Principal() {
		case here:
			return u.Path == model.MustPath("/m/own:1")
		case there:
			return u.Path == model.MustPath("/m/there:1") || u.Path == model.MustPath("/m/own:1")
		case also:
			return u.Path != model.MustPath("/m/nobody:1")
		}
		return false
	}
	for _, tt := range []struct {
		who, actingFor, path string
		refused              bool
		want                 string
	}{
		{who: "person/k2", path: "/m/own:1", want: "person/k2 "},
		{who: "person/k2", path: "/m/there:1", want: "dir:person/k "},
		{who: "person/k2", path: "/m/also:1", want: "hr:person/k "},
		{who: "person/k2", path: "/m/nobody:1", want: "person/k2 "},
		{who: "person/k2", path: "/m/there:1", refused: true, want: "person/k2 "},
		{who: "workload/a", actingFor: "person/k2", path: "/m/there:1", want: "workload/a dir:person/k"},
		{who: "workload/a", path: "/m/there:1", want: "workload/a "},
		{who: "person/k2", actingFor: "workload/a", path: "/m/there:1", want: "person/k2 workload/a"},
	} {
		c := usage.Call{Time: start, Identity: model.MustID(tt.who), Permission: model.MustPermission("a/b:c"),
			Path: model.MustPath(tt.path), Outcome: usage.Done}
		if tt.actingFor != "" {
			c.ActingFor = model.MustID(tt.actingFor)
		}
		if tt.refused {
			c.Outcome = usage.Refused
		}
		f := usage.Fold{}
		f.Add(c)
		n := 0
		for _, u := range usage.Same(usage.ListOf(f.Uses()...), as, explains).All() {
			n++
			acting := ""
			if !u.ActingFor.IsZero() {
				acting = u.ActingFor.String()
			}
			if got := u.Identity.String() + " " + acting; got != tt.want || u.Count != 1 {
				t.Errorf("%+v: %s, %d", tt, got, u.Count)
			}
		}
		if n != 1 {
			t.Errorf("%+v: %d uses", tt, n)
		}
	}
}
