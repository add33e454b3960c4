package store_test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/store"
)

const aDay = 86_400_000

// sighting is who was in which group, from a day to a day.
func sighting(who, group string, from, to int) fold.Sighting {
	return fold.Sighting{Identity: model.MustID(who), Group: model.MustID("group/" + group), First: int64(from) * aDay,
		Last: int64(to)*aDay + 1000}
}

// saw keeps a batch that saw nothing but groups.
func saw(t *testing.T, s *store.Store, src string, list ...fold.Sighting) {
	t.Helper()
	if err := s.SaveFold(t.Context(), src, &fold.Batch{Table: &usage.Table{}, InGroups: list}); err != nil {
		t.Fatal(err)
	}
}

// seen returns what a store says of groups, such as "person/ada group/x 100..105".
func seen(t *testing.T, s *store.Store) []string {
	t.Helper()
	list, err := s.Sightings(t.Context(), "m")
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, g := range list {
		out = append(out, fmt.Sprintf("%s %s %d..%d", g.Identity, g.Group, g.First/aDay, g.Last/aDay))
	}
	return out
}

func opened(t *testing.T) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// TestSightings: what batches saw adds up in any order, names are kept whatever they are, and somebody
// whose newest events name other groups is no longer in those of more than thirty days before.
func TestSightings(t *testing.T) {
	hostile := "unknown/" + string(model.AppendEscaped(nil, []byte("a b:c/d\n\x1b[31m%' or 1=1 --")))
	for _, tt := range []struct {
		list []fold.Sighting
		want []string
	}{
		{nil, nil},
		{[]fold.Sighting{sighting("person/ada", "x", 100, 105)}, []string{"person/ada group/x 100..105"}},
		{[]fold.Sighting{sighting("person/ada", "x", 103, 105), sighting("person/ada", "x", 100, 101)},
			[]string{"person/ada group/x 100..105"}},
		{[]fold.Sighting{sighting("person/ada", "x", 100, 105), sighting("person/ada", "y", 100, 135)},
			[]string{"person/ada group/x 100..105", "person/ada group/y 100..135"}},
		{[]fold.Sighting{sighting("person/ada", "x", 100, 104), sighting("person/ada", "y", 100, 135)},
			[]string{"person/ada group/y 100..135"}},
		{[]fold.Sighting{sighting("person/ada", "x", 100, 104), sighting("person/bob", "y", 100, 135)},
			[]string{"person/ada group/x 100..104", "person/bob group/y 100..135"}},
		{[]fold.Sighting{sighting(hostile, "x", 1, 2)}, []string{hostile + " group/x 1..2"}},
	} {
		for turn := range 2 {
			s := opened(t)
			list := slices.Clone(tt.list)
			if turn == 1 {
				slices.Reverse(list)
			}
			marks := map[string]bool{}
			for _, g := range list {
				saw(t, s, "m", g)
				mark, err := s.SightingsMark(t.Context(), "m")
				if err != nil || mark == "" {
					t.Errorf("%v: mark %q, %v", tt.want, mark, err)
				}
				marks[mark] = true
			}
			saw(t, s, "other", sighting("person/zoe", "z", 1, 900))
			if got := seen(t, s); !slices.Equal(got, tt.want) {
				t.Errorf("%v: got %v", tt.want, got)
			}
		}
	}
}

// TestSightingsMark: the mark changes when who is in which group does, and only then.
func TestSightingsMark(t *testing.T) {
	s := opened(t)
	mark := func() string {
		t.Helper()
		m, err := s.SightingsMark(t.Context(), "m")
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	if m := mark(); m != "" {
		t.Errorf("of nothing: %q", m)
	}
	saw(t, s, "m", sighting("person/ada", "x", 100, 101))
	one := mark()
	saw(t, s, "m", sighting("person/ada", "x", 102, 110))
	if mark() != one {
		t.Error("later, and the same")
	}
	saw(t, s, "m", sighting("person/ada", "y", 110, 115))
	two := mark()
	if two == one {
		t.Error("another group, and the same mark")
	}
	saw(t, s, "m", sighting("person/ada", "y", 110, 141)) // x was 110, and is over
	if mark() == two {
		t.Error("a group that is over, and the same mark")
	}
}

// TestSightingsGo: they go with what is trimmed, with who is forgotten, and with what is counted anew.
func TestSightingsGo(t *testing.T) {
	all := []fold.Sighting{sighting("person/ada", "x", 100, 110), sighting("person/ada", "y", 90, 95),
		sighting("person/bob", "x", 100, 100)}
	trim := func(from usage.Day, who string) []string {
		t.Helper()
		s := opened(t)
		saw(t, s, "m", all...)
		var drop func(model.ID) bool
		if who != "" {
			drop = func(id model.ID) bool { return id == model.MustID(who) }
		}
		if _, err := s.Trim(t.Context(), "m", from, drop, nil); err != nil {
			t.Fatal(err)
		}
		return seen(t, s)
	}
	for _, tt := range []struct {
		from usage.Day
		who  string
		want []string
	}{
		{0, "", []string{"person/ada group/x 100..110", "person/ada group/y 90..95", "person/bob group/x 100..100"}},
		{95, "", []string{"person/ada group/x 100..110", "person/ada group/y 95..95", "person/bob group/x 100..100"}},
		{96, "", []string{"person/ada group/x 100..110", "person/bob group/x 100..100"}},
		{105, "", []string{"person/ada group/x 105..110"}},
		{0, "person/ada", []string{"person/bob group/x 100..100"}},
	} {
		if got := trim(tt.from, tt.who); !slices.Equal(got, tt.want) {
			t.Errorf("from %d, less %s: got %v, want %v", tt.from, tt.who, got, tt.want)
		}
	}
}

// TestSightingsAnew: counted anew, a sighting all of whose days were read again is as it was read now,
// and every other one stays beside what was read.
func TestSightingsAnew(t *testing.T) {
	const seed = 8
	r := rand.New(rand.NewPCG(seed, 0))
	for range 30 {
		s := opened(t)
		const day = 20_000
		var calls []call
		for d := range usage.Day(4) {
			calls = append(calls, call{"f", day + d, "w"})
		}
		b := folded(calls, "a", map[string]bool{})
		b.InGroups = []fold.Sighting{sighting("person/old", "wrong", day, day+r.IntN(4)),
			sighting("person/long", "x", day-1, day+2)}
		if err := s.SaveFold(t.Context(), "m", b); err != nil {
			t.Fatal(err)
		}
		b = folded(calls, "b", map[string]bool{})
		b.InGroups = []fold.Sighting{sighting("person/new", "right", day, day+3)}
		if err := s.SaveFold(t.Context(), store.Staged("m"), b); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Swap(t.Context(), "m", func(usage.Day) bool { return true }, true, false); err != nil {
			t.Fatal(err)
		}
		want := []string{fmt.Sprintf("person/long group/x %d..%d", day-1, day+2),
			fmt.Sprintf("person/new group/right %d..%d", day, day+3)}
		if got := seen(t, s); !slices.Equal(got, want) {
			t.Fatalf("got %v, want %v", got, want)
		}
		if list, err := s.Sightings(t.Context(), store.Staged("m")); err != nil || len(list) > 0 {
			t.Fatalf("staged: %v, %v", list, err)
		}
		if m, err := s.SightingsMark(t.Context(), store.Staged("m")); err != nil || m != "" {
			t.Fatalf("the mark of what was staged: %q, %v", m, err)
		}
	}
}
