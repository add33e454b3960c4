package store_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strconv"
	"sync"
	"testing"
	"time"

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
		if err := s.Waive(ctx, w); err != nil {
			t.Fatal(err)
		}
	}
	for id, body := range map[string]string{"q-1": "first", "q-2": ""} {
		if err := s.SaveGate(ctx, id, []byte(body)); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.SaveGate(ctx, "q-1", []byte("second\xff")); err != nil {
		t.Fatal(err)
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
	gates, err := again.Gates(ctx)
	if err != nil || !maps.EqualFunc(gates, map[string]string{"q-1": "second\xff", "q-2": ""}, func(a []byte, b string) bool { return string(a) == b }) {
		t.Errorf("%q, %v", gates, err)
	}
}

// TestLocked counts up in the ledger's head from two processes at once: no step is lost,
// and what fails changes nothing.
func TestLocked(t *testing.T) {
	s, file := open(t)
	other, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	failed := errors.New("no")
	var wg sync.WaitGroup
	const each = 40
	for _, one := range []*store.Store{s, other} {
		wg.Go(func() {
			for i := range each {
				err := one.Locked(t.Context(), func(head string) (string, error) {
					n := 0
					if head != "" {
						var err error
						if n, err = strconv.Atoi(head); err != nil {
							return "", err
						}
					}
					return fmt.Sprint(n + 1), nil
				})
				if err != nil {
					t.Errorf("step %d: %v", i, err)
				}
				if err := one.Locked(t.Context(), func(string) (string, error) { return "gone", failed }); !errors.Is(err, failed) {
					t.Errorf("a step that fails: %v", err)
				}
			}
		})
	}
	wg.Wait()
	if head, err := s.Head(t.Context()); err != nil || head != fmt.Sprint(2*each) {
		t.Errorf("the head is %q, %v; want %d", head, err, 2*each)
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
	if n != 1100 || !l.Reads[0].Equal(begin) || !l.Reads[n-1].Equal(begin.AddDate(0, 0, 1103).Add(time.Hour)) || !l.Reads[1].Equal(begin.AddDate(0, 0, 5)) {
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
