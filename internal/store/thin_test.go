package store_test

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// TestThin: of surveys on random days those that are kept say what they said, and the others are gone, with all that
// only they showed.
func TestThin(t *testing.T) {
	seeds := uint64(12)
	if testing.Short() {
		seeds = 3
	}
	for seed := range seeds {
		r := rand.New(rand.NewPCG(seed, 7))
		s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
		if err != nil {
			t.Fatal(err)
		}
		type one struct {
			id    int64
			day   int
			roles map[string]string
		}
		var kept []one
		roles := map[string]string{}
		day := 20_000 + r.IntN(400) // since 1970
		var dropped []int64
		for range 90 {
			day += r.IntN([]int{2, 5, 25}[r.IntN(3)])
			for range r.IntN(3) {
				name := fmt.Sprint("role", r.IntN(5))
				if roles[name] != "" && r.IntN(2) == 0 {
					delete(roles, name)
				} else {
					roles[name] = fmt.Sprint("verb", r.IntN(3))
				}
			}
			id := surveyedAt(t, s, "s", roles, time.Unix(int64(day)*86400+int64(r.IntN(86400)), 0))
			kept = append(kept, one{id, day, maps.Clone(roles)})
			// The newest twenty, of half a year the first one of each week, and of 430 days the first of each thirty.
			first := map[string]int64{}
			var still []one
			for i, k := range kept {
				age, is := day-k.day, i >= len(kept)-20
				week, step := fmt.Sprint("week", k.day/7), fmt.Sprint("step", k.day/30)
				switch {
				case is:
				case age <= 182:
					is = first[week] == 0
				case age <= 430:
					is = first[step] == 0
				}
				if !is {
					dropped = append(dropped, k.id)
					continue
				}
				still, first[week], first[step] = append(still, k), k.id, k.id
			}
			kept = still
		}
		var ids []int64
		for _, k := range kept {
			ids = append(ids, k.id)
			if got := rolesOf(t, s, "s", k.id); fmt.Sprint(got) != fmt.Sprint(k.roles) {
				t.Fatalf("seed %d: survey %d is %v, was %v", seed, k.id, got, k.roles)
			}
		}
		if len(dropped) < 20 || len(ids)+len(dropped) != 90 {
			t.Fatalf("seed %d: %d are kept and %d are not", seed, len(ids), len(dropped))
		}
		for _, id := range dropped {
			if _, _, err := s.Estate(t.Context(), "s", id); !errors.Is(err, store.ErrNone) {
				t.Fatalf("seed %d: survey %d is kept: %v", seed, id, err)
			}
		}
		err = s.EachShown(t.Context(), "s", source.Roles, func(e *model.Estate, first, last int64) {
			if !slices.Contains(ids, first) || last != math.MaxInt64 && !slices.Contains(ids, last) || first > last {
				t.Errorf("seed %d: %v was shown from %d to %d, of %v", seed, e.Roles, first, last, ids)
			}
		})
		if err := errors.Join(err, s.Close()); err != nil {
			t.Fatal(err)
		}
	}
}

// TestDailySurveys: who surveys every day still knows what was there a year ago, and keeps some fifty surveys.
func TestDailySurveys(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	begin := time.Date(2025, 1, 1, 6, 0, 0, 0, time.UTC)
	every := 1 // days
	if testing.Short() {
		every = 3
	}
	last := 0
	for i := 0; i < 500; i += every {
		surveyedAt(t, s, "s", map[string]string{"r": fmt.Sprint("verb", i)}, begin.AddDate(0, 0, i))
		last = i
	}
	list, err := s.Surveys(t.Context(), "s") // the newest first
	if err != nil || len(list) < 44 || len(list) > 56 {
		t.Fatalf("%d are kept, %v", len(list), err)
	}
	now := begin.AddDate(0, 0, last)
	before := now
	for i, v := range list {
		age, gap := now.Sub(v.Finished).Hours()/24, before.Sub(v.Finished).Hours()/24
		most := map[bool]float64{true: 9, false: 39}[age <= 170]
		if gap > most || i < 20 && gap > float64(every) {
			t.Errorf("%.0f days ago there are %.0f days between two", age, gap)
		}
		before = v.Finished
	}
	if oldest := now.Sub(before).Hours() / 24; oldest < 400 || oldest > 430 {
		t.Errorf("the oldest one is of %.0f days ago", oldest)
	}
	if e, _, err := s.Estate(t.Context(), "s", list[30].ID); err != nil || len(e.Roles) != 1 {
		t.Errorf("%v %v", e, err)
	}
}

// TestShown: what surveys showed comes with which of them did, and of nodes those that are asked for.
func TestShown(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	surveyed(t, s, "other", map[string]string{"a": "read"})
	one := surveyed(t, s, "s", map[string]string{"a": "read", "b": "read"})
	surveyed(t, s, "other", map[string]string{"a": "list"})
	two := surveyed(t, s, "s", map[string]string{"a": "list", "b": "read"})
	three := surveyed(t, s, "s", map[string]string{"a": "list"})
	var got []string
	err = s.EachShown(t.Context(), "s", source.Roles, func(e *model.Estate, first, last int64) {
		got = append(got, fmt.Sprintln(e.Roles[0].Name, e.Roles[0].Do[0], first, last))
	})
	want := []string{fmt.Sprintln("a", "s/n:read", one, one),
		fmt.Sprintln("a", "s/n:list", two, int64(math.MaxInt64)), fmt.Sprintln("b", "s/n:read", one, two)}
	if err != nil || !slices.Equal(got, want) || three <= two {
		t.Errorf("%v, want %v: %v", got, want, err)
	}

	v, err := s.BeginSurvey(t.Context(), "s", time.Now())
	if err != nil {
		t.Fatal(err)
	}
	var b source.Batch
	for _, p := range []string{"/s", `/s/box:it"s`, "/s/box:c"} {
		b.Records = append(b.Records, source.Record{Kind: source.Nodes, ID: model.MustPath(p).String(),
			Value: model.Node{Path: model.MustPath(p)}})
	}
	if err := errors.Join(s.SaveBatch(t.Context(), v.ID, b),
		s.FinishSurvey(t.Context(), v.ID, time.Now())); err != nil {
		t.Fatal(err)
	}
	for _, of := range [][]model.Path{nil, {model.MustPath("/s/box:d")},
		{model.MustPath("/s/box:d"), model.MustPath(`/s/box:it"s`), model.MustPath("/s")}} {
		var nodes []model.Path
		err := s.EachNodeShown(t.Context(), "s", of, func(e *model.Estate, _, _ int64) {
			nodes = append(nodes, e.Nodes[0].Path)
		})
		if want := max(0, len(of)-1); err != nil || len(nodes) != want {
			t.Errorf("of %v: %v, %v", of, nodes, err)
		}
	}
}
