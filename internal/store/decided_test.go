package store_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"clipfence/internal/ledger"
	"clipfence/internal/store"
)

// TestDecided: what was decided is found again, by another process too, the newest in
// place of what it replaces.
func TestDecided(t *testing.T) {
	s, file := open(t)
	ctx := t.Context()
	at := time.Date(2026, 11, 24, 8, 0, 0, 0, time.FixedZone("", 3600))
	for _, w := range []store.Waiver{
		{Finding: "f-1", Reason: "old", By: "ann", At: at},
		{Finding: "f-2", Reason: "'); drop table waivers; --", By: "bo\x00", Until: at.AddDate(0, 1, 0), At: at},
		{Finding: "f-1", Reason: "new", By: "ann", Until: at.AddDate(0, 2, 0), At: at},
	} {
		if err := s.Write(ctx, func(p ledger.Page) error { return s.Waive(p, w) }); err != nil {
			t.Fatal(err)
		}
	}
	put := func(id, body string, version int64) error {
		return s.Write(ctx, func(p ledger.Page) error { return s.PutGate(p, id, []byte(body), version) })
	}
	for _, step := range []struct {
		id, body string
		version  int64
		stale    bool
	}{
		{"q-1", "first", 0, false}, {"q-2", "", 0, false}, {"q-1", "second\xff", 1, false},
		{"q-1", "late", 1, true}, {"q-1", "from nowhere", 0, true}, {"q-3", "never there", 7, true},
	} {
		if err := put(step.id, step.body, step.version); errors.Is(err, ledger.ErrStale) != step.stale || err != nil &&
			!step.stale {
			t.Errorf("%s %q over version %d: %v", step.id, step.body, step.version, err)
		}
	}
	again, err := store.Open(ctx, file)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	waivers, err := again.Waivers(ctx)
	if err != nil || len(waivers) != 2 {
		t.Fatalf("%v, %v", waivers, err)
	}
	if w := waivers["f-1"]; w.Reason != "new" || !w.Until.Equal(at.AddDate(0, 2, 0)) || !w.At.Equal(at) {
		t.Errorf("%+v", w)
	}
	if w := waivers["f-2"]; w.Reason != "'); drop table waivers; --" || w.By != "bo\x00" {
		t.Errorf("%+v", w)
	}
	gates, versions, err := again.Gates(ctx)
	if err != nil || versions["q-1"] != 2 || versions["q-2"] != 1 ||
		!maps.EqualFunc(gates, map[string]string{"q-1": "second\xff", "q-2": ""},
			func(a []byte, b string) bool { return string(a) == b }) {
		t.Errorf("%q, %v", gates, err)
	}
}

// TestWrite adds entries from two processes at once: none is lost, their numbers follow
// each other, and what fails changes nothing.
func TestWrite(t *testing.T) {
	s, file := open(t)
	other, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	failed := errors.New("no")
	var wg sync.WaitGroup
	const each = 40
	add := func(fail error) func(ledger.Page) error {
		return func(p ledger.Page) error {
			h, err := p.Head()
			if err != nil {
				return err
			}
			line := fmt.Appendf(nil, "line %d\n", h.Number+1)
			err = p.Put(ledger.Head{Number: h.Number + 1, Hash: fmt.Sprint("h", h.Number+1), Size: h.Size +
				int64(len(line))}, "k", line)
			return errors.Join(err, fail)
		}
	}
	for _, one := range []*store.Store{s, other} {
		wg.Go(func() {
			for i := range each {
				if err := one.Write(t.Context(), add(nil)); err != nil {
					t.Errorf("step %d: %v", i, err)
				}
				if err := one.Write(t.Context(), add(failed)); !errors.Is(err, failed) {
					t.Errorf("a step that fails: %v", err)
				}
			}
		})
	}
	wg.Wait()
	lines, _, err := s.Lines(t.Context(), 0)
	if h, herr := s.Head(t.Context()); err != nil || herr != nil || h.Number != 2*each || h.Hash != "h80" ||
		len(lines) != 2*each || h.Size != int64(len(bytes.Join(lines, nil))) {
		t.Errorf("the head is %+v, %v, %d lines, %v", h, herr, len(lines), err)
	}
	for i, want := range []string{"line 80\n", "line 79\n"} {
		tail, begin, err := s.Lines(t.Context(), int64(len(bytes.Join(lines[:2*each-1-i], nil))))
		if err != nil || len(tail) != i+1 || string(tail[0]) != want ||
			begin != int64(len(bytes.Join(lines[:2*each-1-i], nil))) {
			t.Errorf("behind: %q at %d, %v", tail, begin, err)
		}
	}
}

// TestLease: one holder at a time, renewed by nobody else.
func TestLease(t *testing.T) {
	s, _ := open(t)
	ctx := t.Context()
	end := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	err := s.Write(ctx, func(p ledger.Page) error {
		if _, _, _, held, err := s.Leased(p, "m"); held || err != nil {
			t.Errorf("held before: %t, %v", held, err)
		}
		return s.Lend(p, "m", "one", "c-1", end)
	})
	if err != nil {
		t.Fatal(err)
	}
	if ok, err := s.Renew(ctx, "m", "two", end); ok || err != nil {
		t.Errorf("another renews it: %t, %v", ok, err)
	}
	end = end.Add(time.Hour)
	if ok, err := s.Renew(ctx, "m", "one", end); !ok || err != nil {
		t.Errorf("renewing: %t, %v", ok, err)
	}
	for _, releases := range []string{"two", "one"} {
		if err := s.Release(ctx, "m", releases); err != nil {
			t.Fatal(err)
		}
		_ = s.Write(ctx, func(p ledger.Page) error {
			holder, change, until, held, err := s.Leased(p, "m")
			if held != (releases == "two") || err != nil || held &&
				(holder != "one" || change != "c-1" || !until.Equal(end)) {
				t.Errorf("after %s: %s, %s, %s, %t, %v", releases, holder, change, until, held, err)
			}
			return nil
		})
	}
	one, err := s.Workspace(ctx)
	if two, err2 := s.Workspace(ctx); err != nil || err2 != nil || one != two || len(one) != 32 {
		t.Errorf("workspace %q, %q, %v", one, two, err)
	}
}

// TestLogRead keeps one reading a day, in order, and the first one for ever.
func TestLogRead(t *testing.T) {
	s, _ := open(t)
	ctx := t.Context()
	begin := time.Date(2020, 1, 1, 6, 0, 0, 0, time.UTC)
	if err := s.SaveFold(ctx, "m", batch(t, s, 0, 3, "c")); err != nil {
		t.Fatal(err)
	}
	l, err := s.LogState(ctx, "m")
	if err != nil || len(l.Reads) != 1 || !l.Reads[0].Equal(l.Last) {
		t.Errorf("read by hand only: %v, %v; the newest event is of %s", l.Reads, err, l.Last)
	}
	var long []time.Time
	for day := range 1098 {
		long = append(long, begin.AddDate(0, 0, day))
	}
	body, err := json.Marshal(long)
	if err == nil {
		err = s.SetSetting(ctx, "logs.read.m", string(body))
	}
	if err != nil {
		t.Fatal(err)
	}
	for day := 1098; day < 1104; day++ {
		for hour := range 2 {
			if err := s.LogRead(ctx, "m", begin.AddDate(0, 0, day).Add(time.Duration(hour)*time.Hour)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if l, err = s.LogState(ctx, "m"); err != nil {
		t.Fatal(err)
	}
	n := len(l.Reads)
	if n != 1100 || !l.Reads[0].Equal(begin) || !l.Reads[n-1].Equal(begin.AddDate(0, 0, 1103).Add(time.Hour)) ||
		!l.Reads[1].Equal(begin.AddDate(0, 0, 5)) {
		t.Errorf("%d readings: %v, %v ... %v", n, l.Reads[0], l.Reads[1], l.Reads[n-1])
	}
	if other, err := s.LogState(ctx, "other"); err != nil || len(other.Reads) != 0 {
		t.Errorf("another source: %v, %v", other.Reads, err)
	}
	if err := s.SetSetting(ctx, "logs.read.m", "{"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.LogState(ctx, "m"); !errors.Is(err, store.ErrDamaged) {
		t.Errorf("damaged: %v", err)
	}
}

// BenchmarkAppend: an entry costs the same however many there are.
func BenchmarkAppend(b *testing.B) {
	for _, n := range []int{1_000, 1_000_000} {
		b.Run(fmt.Sprint(n, " entries"), func(b *testing.B) {
			dir := b.TempDir()
			s, err := store.Open(b.Context(), filepath.Join(dir, "store.db"))
			if err != nil {
				b.Fatal(err)
			}
			line := append(bytes.Repeat([]byte("x"), 300), '\n')
			err = s.Write(b.Context(), func(p ledger.Page) error {
				for i := range n {
					if err := p.Put(ledger.Head{Number: i + 1, Hash: "h", Size: int64(i+1) * int64(len(line))}, "k",
						line); err != nil {
						return err
					}
				}
				return nil
			})
			if err == nil { // as another process would find it
				err = s.Close()
			}
			if err == nil {
				s, err = store.Open(b.Context(), filepath.Join(dir, "store.db"))
			}
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			file := filepath.Join(dir, "ledger.jsonl")
			if err == nil {
				err = os.WriteFile(file, bytes.Repeat(line, n), 0o600)
			}
			if err != nil {
				b.Fatal(err)
			}
			l := &ledger.Ledger{File: file, Book: s, Now: time.Now, By: "x",
				Key: ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))}
			for b.Loop() {
				if err := l.Append(b.Context(), "k", "body"); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
