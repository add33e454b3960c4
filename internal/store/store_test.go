package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
	"clipfence/internal/store"
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

func batch(n int, cursor string) source.LogBatch {
	b := source.LogBatch{Cursor: cursor, Lines: n}
	for i := range n {
		c := usage.Call{Time: time.Unix(1_790_000_000+int64(i)*40_000, 0).UTC(), Identity: model.MustID(fmt.Sprintf("person/p%d", i%3)), Permission: model.MustPermission("a/b:c"), Path: model.MustPath(fmt.Sprintf("/m/x:%d", i%4)), Outcome: usage.Done}
		copy(c.EventID[:], fmt.Sprintf("%016d", i))
		b.Calls = append(b.Calls, c)
	}
	return b
}

// TestReadingTwiceChangesNothing gives the store the same events again, whole and
// in parts, and with another process's eyes.
func TestReadingTwiceChangesNothing(t *testing.T) {
	s, file := open(t)
	ctx := t.Context()
	if n, err := s.SaveLogs(ctx, "m", batch(50, "1")); err != nil || n != 50 {
		t.Fatalf("%d new, %v", n, err)
	}
	want, err := s.Uses(ctx, "m")
	if err != nil || len(want) == 0 {
		t.Fatal(err)
	}
	again := batch(50, "2")
	again.Calls = append(again.Calls[30:], again.Calls[:40]...)
	again.Rejected = []source.Reject{{File: "f", Line: 3, Why: "x"}}
	for range 2 {
		if n, err := s.SaveLogs(ctx, "m", again); err != nil || n != 0 {
			t.Fatalf("%d new, %v", n, err)
		}
	}
	s2, err := store.Open(ctx, file)
	if err != nil {
		t.Fatal(err)
	}
	defer s2.Close()
	got, err := s2.Uses(ctx, "m")
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Fatalf("%v\n%+v\nwant\n%+v", err, got, want)
	}
	l, err := s2.LogState(ctx, "m")
	if err != nil || l.Cursor != "2" || l.Rejected != 1 || !l.First.Equal(time.Unix(1_790_000_000, 0)) {
		t.Errorf("%+v, %v", l, err)
	}
	if r, total, err := s2.Rejected(ctx, "m", 10); err != nil || total != 1 || r[0].Line != 3 {
		t.Errorf("%+v, %d, %v", r, total, err)
	}
	if u, err := s2.Uses(ctx, "other"); err != nil || len(u) != 0 {
		t.Errorf("another source has %d uses, %v", len(u), err)
	}
}

// TestNothingHalf: a batch that fails is not kept in part, and can be given again.
func TestNothingHalf(t *testing.T) {
	s, _ := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.SaveLogs(ctx, "m", batch(50, "1")); err == nil {
		t.Fatal("kept under a context that was cancelled")
	}
	if l, err := s.LogState(t.Context(), "m"); err != nil || l.Cursor != "" {
		t.Errorf("%+v, %v", l, err)
	}
	if n, err := s.SaveLogs(t.Context(), "m", batch(50, "1")); err != nil || n != 50 {
		t.Errorf("%d new, %v", n, err)
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
		b := source.Batch{Version: "7", Cursor: "c1", Records: []source.Record{{Kind: source.Nodes, ID: "/m", Value: model.Node{Path: model.MustPath(fmt.Sprintf("/m/n:%d", i))}}}}
		if err := s.SaveBatch(ctx, v.ID, b); err != nil {
			t.Fatal(err)
		}
		if u, ok, err := s.Unfinished(ctx, "m"); err != nil || !ok || u.ID != v.ID || u.Cursor != "c1" || u.Version != "7" {
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
	if err != nil || len(all) != 20 || all[0].ID != ids[22] {
		t.Fatalf("%d surveys kept, %v", len(all), err)
	}
	e, v, err := s.Estate(ctx, "m", 0)
	if err != nil || v.ID != ids[22] || e.Nodes[0].Path.String() != "/m/n:22" {
		t.Errorf("newest: %+v, %v", e, err)
	}
	if e, _, err := s.Estate(ctx, "m", ids[10]); err != nil || e.Nodes[0].Path.String() != "/m/n:10" {
		t.Errorf("an older one: %+v, %v", e, err)
	}
	if _, _, err := s.Estate(ctx, "m", ids[0]); !errors.Is(err, store.ErrNone) {
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
		if err := os.WriteFile(file, []byte("this is a text that is no database at all, and long enough to be one\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	})
	if _, err := store.Open(t.Context(), rubbish); !errors.Is(err, store.ErrDamaged) {
		t.Errorf("rubbish: %v", err)
	}
}
