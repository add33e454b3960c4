package store_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
	"clipfence/internal/store"
	"clipfence/internal/uses"
	"clipfence/internal/uses/usestest"
)

func open(t *testing.T) (*store.Store, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "sub", "store ?#%.db") // a name that a URL would misread
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if _, err := os.Stat(file); err != nil {
		t.Fatal(err)
	}
	return s, file
}

// batch is n events of one log, the first of them number from.
func batch(t *testing.T, s *store.Store, from, n int, cursor string) *fold.Batch {
	t.Helper()
	seen := s.Seen(t.Context(), "m")
	b := &fold.Batch{Table: &usage.Table{}, Seen: map[usage.Day][]uint64{}, Cursor: cursor, Records: n}
	for i := from; i < from+n; i++ {
		at := 1_790_000_000_000 + int64(i)*40_000_000
		d, h := usage.Day(at/86_400_000), uint64(i)*0x9E3779B97F4A7C15
		if !seen.Add(d, h) {
			b.Repeated++
			continue
		}
		b.Seen[d] = append(b.Seen[d], h)
		b.Events++
		b.Table.Add(usage.RowKey{Identity: b.Table.IDs.Number(model.MustID(fmt.Sprintf("person/p%d", i%3))),
			Permission: b.Table.Perms.Number(model.MustPermission("a/b:c")),
			Path:       b.Table.Paths.Number(model.MustPath(fmt.Sprintf("/m/x:%d", i%4)))}, at)
	}
	return b
}

// TestReadingTwiceChangesNothing gives the store the same events again, whole and
// in parts, merges its batches, and looks with another process's eyes.
func TestReadingTwiceChangesNothing(t *testing.T) {
	s, file := open(t)
	ctx := t.Context()
	if b := batch(t, s, 0, 50, "1"); s.SaveFold(ctx, "m", b) != nil || b.Events != 50 {
		t.Fatalf("%d new", b.Events)
	}
	want, err := s.Uses(ctx, "m")
	if err != nil || want.Len() != 12 {
		t.Fatalf("%d uses, %v", want.Len(), err)
	}
	for i := range 12 {
		b := batch(t, s, i, 50-i, "2")
		if b.Events != 0 || b.Repeated != 50-i {
			t.Fatalf("%d new, %d repeated", b.Events, b.Repeated)
		}
		b.Rejected, b.Rejects = []source.Reject{{File: "f", Line: 3, Why: "x"}}, 1
		b.Formats, b.Skipped = map[string]int{"ocsf": 2}, map[string]int{"why": 1}
		if err := s.SaveFold(ctx, "m", b); err != nil {
			t.Fatal(err)
		}
	}
	// More events in many batches, then one.
	for i := range 12 {
		if err := s.SaveFold(ctx, "m", batch(t, s, 50+10*i, 10, "3")); err != nil {
			t.Fatal(err)
		}
	}
	many, err := s.Uses(ctx, "m")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Compact(ctx, "m"); err != nil {
		t.Fatal(err)
	}
	s2, err := store.Open(ctx, file)
	if err != nil {
		t.Fatal(err)
	}
	defer s2.Close()
	got, err := s2.Uses(ctx, "m")
	n := int64(0)
	for _, u := range got.All() {
		n += u.Count
	}
	if err != nil || !reflect.DeepEqual(got.List(), many.List()) || n != 170 {
		t.Fatalf("%v, %d calls\n%+v\nwant\n%+v", err, n, got.List(), many.List())
	}
	l, err := s2.LogState(ctx, "m")
	if err != nil || l.Cursor != "3" || l.Rejected != 12 || !l.First.Equal(time.Unix(1_790_000_000, 0)) ||
		l.Repeated == 0 {
		t.Errorf("%+v, %v", l, err)
	}
	if r, total, err := s2.Rejected(ctx, "m", 10); err != nil || total != 12 || len(r) != 1 || r[0].Line != 3 {
		t.Errorf("%+v, %d, %v", r, total, err)
	}
	if m, err := s2.Tallies(ctx, "m", "format"); err != nil || m["ocsf"] != 24 {
		t.Errorf("%v, %v", m, err)
	}
	if u, err := s2.Uses(ctx, "other"); err != nil || u.Len() != 0 {
		t.Errorf("another source has %d uses, %v", u.Len(), err)
	}
}

// TestNothingHalf: a batch that fails is not kept in part, and can be given again.
func TestNothingHalf(t *testing.T) {
	s, _ := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := s.SaveFold(ctx, "m", batch(t, s, 0, 50, "1")); err == nil {
		t.Fatal("kept under a context that was cancelled")
	}
	if l, err := s.LogState(t.Context(), "m"); err != nil || l.Cursor != "" {
		t.Errorf("%+v, %v", l, err)
	}
	if b := batch(t, s, 0, 50, "1"); b.Events != 50 || s.SaveFold(t.Context(), "m", b) != nil {
		t.Errorf("%d new", b.Events)
	}
}

func TestSurveys(t *testing.T) {
	s, _ := open(t)
	ctx := t.Context()
	now := time.Now().UTC()
	if _, _, err := s.Estate(ctx, "m", 0); !errors.Is(err, store.ErrNone) {
		t.Errorf("never surveyed: %v", err)
	}
	var ids []int64
	for i := range 23 {
		v, err := s.BeginSurvey(ctx, "m", now)
		if err != nil {
			t.Fatal(err)
		}
		b := source.Batch{Version: "7", Cursor: "c1",
			Records: []source.Record{{Kind: source.Nodes, ID: "/m",
				Value: model.Node{Path: model.MustPath(fmt.Sprintf("/m/n:%d", i))}}}}
		if err := s.SaveBatch(ctx, v.ID, b); err != nil {
			t.Fatal(err)
		}
		if u, ok, err := s.Unfinished(ctx, "m"); err != nil || !ok || u.ID != v.ID || u.Cursor != "c1" ||
			u.Version != "7" {
			t.Fatalf("unfinished: %+v, %t, %v", u, ok, err)
		}
		if err := s.FinishSurvey(ctx, v.ID, now); err != nil {
			t.Fatal(err)
		}
		ids = append(ids, v.ID)
	}
	if _, ok, _ := s.Unfinished(ctx, "m"); ok {
		t.Error("a finished survey is unfinished")
	}
	all, err := s.Surveys(ctx, "m")
	if err != nil || len(all) != 21 || all[0].ID != ids[22] || all[20].ID != ids[0] { // and the first one of the week
		t.Fatalf("%d surveys kept, %v", len(all), err)
	}
	e, v, err := s.Estate(ctx, "m", 0)
	if err != nil || v.ID != ids[22] || e.Nodes[0].Path.String() != "/m/n:22" {
		t.Errorf("newest: %+v, %v", e, err)
	}
	if e, _, err := s.Estate(ctx, "m", ids[10]); err != nil || e.Nodes[0].Path.String() != "/m/n:10" {
		t.Errorf("an older one: %+v, %v", e, err)
	}
	if _, _, err := s.Estate(ctx, "m", ids[1]); !errors.Is(err, store.ErrNone) {
		t.Errorf("one that was let go: %v", err)
	}
	// One that was begun and left is dropped by the next.
	a, _ := s.BeginSurvey(ctx, "m", now)
	b, err := s.BeginSurvey(ctx, "m", now)
	if u, _, _ := s.Unfinished(ctx, "m"); err != nil || u.ID != b.ID {
		t.Errorf("%d is unfinished after %d and %d, %v", u.ID, a.ID, b.ID, err)
	}
}

func TestDamage(t *testing.T) {
	dir := t.TempDir()
	bend := func(name string, f func(file string)) string {
		file := filepath.Join(dir, name)
		s, err := store.Open(t.Context(), file)
		if err != nil {
			t.Fatal(err)
		}
		s.Close()
		f(file)
		return file
	}
	newer := bend("newer.db", func(file string) {
		db, err := sql.Open("sqlite", file)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(`pragma user_version = 99`); err != nil {
			t.Fatal(err)
		}
		db.Close()
	})
	if _, err := store.Open(t.Context(), newer); !errors.Is(err, store.ErrNewer) {
		t.Errorf("newer: %v", err)
	}
	rubbish := bend("rubbish.db", func(file string) {
		if err := os.WriteFile(file, []byte("this is a text that is no database at all, and long enough to be one\n"),
			0o600); err != nil {
			t.Fatal(err)
		}
	})
	if _, err := store.Open(t.Context(), rubbish); !errors.Is(err, store.ErrDamaged) {
		t.Errorf("rubbish: %v", err)
	}
}

func TestHoldsUses(t *testing.T) {
	_, file := open(t)
	usestest.Conform(t, func() uses.Holder {
		s, err := store.Open(t.Context(), file)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		return s
	})
}

// TestDiffering: what differs between two kept surveys is what differs between the estates that they found.
func TestDiffering(t *testing.T) {
	ctx, r := t.Context(), rand.New(rand.NewPCG(5, 5))
	s, err := store.Open(ctx, filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var ids []int64
	found := map[int64]map[string]string{}
	for n := range 8 {
		at := time.Date(2026, 11, 1+n, 0, 0, 0, 0, time.UTC)
		v, err := s.BeginSurvey(ctx, "m", at)
		if err != nil {
			t.Fatal(err)
		}
		var b source.Batch
		is := map[string]string{}
		for k := range 12 {
			if r.IntN(3) == 0 {
				continue
			}
			id := model.ID{Kind: model.Person, Name: fmt.Sprint("p", k)}
			one := model.Identity{ID: id, Title: fmt.Sprint("t", r.IntN(2))}
			b.Records = append(b.Records, source.Record{Kind: source.Identities, ID: id.String(), Value: one})
			is[id.String()] = one.Title
		}
		if err := s.SaveBatch(ctx, v.ID, b); err != nil {
			t.Fatal(err)
		}
		if err := s.FinishSurvey(ctx, v.ID, at); err != nil {
			t.Fatal(err)
		}
		ids = append(ids, v.ID)
		found[v.ID] = is
	}
	title := func(body []byte) string {
		var i model.Identity
		if len(body) > 0 && json.Unmarshal(body, &i) != nil {
			t.Errorf("%s", body)
		}
		return i.Title
	}
	for _, from := range ids {
		for _, to := range ids {
			differ, err := s.Differing(ctx, "m", from, to)
			if err != nil {
				t.Fatal(err)
			}
			want := map[string][2]string{}
			for k := range 12 {
				id := fmt.Sprint("person/p", k)
				if was, is := found[from][id], found[to][id]; was != is {
					want[id] = [2]string{was, is}
				}
			}
			got := map[string][2]string{}
			for _, d := range differ {
				if _, twice := got[d.ID]; twice || d.Kind != source.Identities {
					t.Errorf("%d to %d: %+v", from, to, d)
				}
				got[d.ID] = [2]string{title(d.Before), title(d.After)}
			}
			if !maps.Equal(got, want) {
				t.Errorf("%d to %d: %v, want %v", from, to, got, want)
			}
		}
	}
	for _, none := range [][2]int64{{ids[0], 99}, {99, ids[0]}} {
		if _, err := s.Differing(ctx, "m", none[0], none[1]); !errors.Is(err, store.ErrNone) {
			t.Errorf("%v: %v", none, err)
		}
	}
	if _, err := s.Differing(ctx, "other", ids[0], ids[1]); !errors.Is(err, store.ErrNone) {
		t.Errorf("of another source: %v", err)
	}
}
