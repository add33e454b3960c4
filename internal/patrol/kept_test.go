package patrol_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/kept"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
)

// TestKeptPatrols: what becomes of gates while a source fails now and then, people change what was
// opened, rows are taken away or put back, and rounds are cut short.
func TestKeptPatrols(t *testing.T) {
	dir := t.TempDir()
	kept.Same(t, 300, func(i int) (string, string) {
		one := filepath.Join(dir, fmt.Sprint(i))
		return fmt.Sprint(i), strings.ReplaceAll(troubled(t, rand.New(rand.NewPCG(uint64(i), 31)), one), one, "DIR")
	})
}

func troubled(t *testing.T, r *rand.Rand, dir string) string {
	var out strings.Builder
	w := &rig{cloud: &cloud{grants: map[string]json.RawMessage{}}, mem: &ledgertest.Memory{}, now: start}
	w.Keeper = &patrol.Keeper{Requests: w.mem, Now: func() time.Time { return w.now }, Wait: 2 * time.Second,
		Settle: 5 * time.Minute,
		Ledger: &ledger.Ledger{File: filepath.Join(dir, "ledger.jsonl"), Book: w.mem,
			Now: func() time.Time { return w.now }, By: "test"},
		Changer: func(context.Context, string) (source.Changer, error) { return w.cloud, nil }}
	if r.IntN(3) == 0 {
		w.Workspace = "0123456789abcdef"
	}
	calls, failing := 0, -1
	var why error
	w.cloud.trouble = func(call, _ string) error {
		if calls++; calls == failing {
			return fmt.Errorf("%s: %w", call, why)
		}
		return nil
	}
	taken := map[string]json.RawMessage{}
	ids := []string{"q-1", "q-2", "q-3"}
	for range 8 + r.IntN(10) {
		id := ids[r.IntN(len(ids))]
		failing = -1
		if r.IntN(4) == 0 {
			failing = calls + 1 + r.IntN(4)
			why = []error{errors.New("down"), source.ErrGone, source.ErrDenied, source.ErrUnreachable}[r.IntN(4)]
		}
		q, err := w.Find(t.Context(), id)
		switch n := r.IntN(14); {
		case err != nil && n < 12, n == 0:
			q := asked(id, []gate.State{gate.Approved, gate.Approved, gate.Approved, gate.Asked}[r.IntN(4)])
			if q.AskedAt = w.now; r.IntN(8) == 0 {
				q.AskedAt = w.now.Add(-time.Duration(r.IntN(30)) * time.Hour)
			}
			if r.IntN(8) == 0 {
				q.Workspace = "fedcba9876543210"
			}
			fmt.Fprintf(&out, "ask %s %v\n", id, w.Save(t.Context(), q, "asked", "person/a"))
		case err != nil:
			fmt.Fprintf(&out, "find %v\n", err)
		case n < 5, q.State == gate.Approved && n < 12:
			fmt.Fprintf(&out, "open %s %v\n", id, w.Open(t.Context(), q, w.now))
		case n == 5:
			fmt.Fprintf(&out, "close %s %v\n", id, w.Close(t.Context(), q, "person/a"))
		case n == 6 && w.cloud.grants[grantOf(id)] != nil: // by somebody else
			taken[grantOf(id)] = w.cloud.grants[grantOf(id)]
			delete(w.cloud.grants, grantOf(id))
		case n == 6 && taken[grantOf(id)] != nil:
			w.cloud.grants[grantOf(id)] = taken[grantOf(id)]
		case n == 7 && w.cloud.grants[grantOf(id)] != nil:
			var g model.Grant
			if err := json.Unmarshal(w.cloud.grants[grantOf(id)], &g); err != nil {
				t.Error(err)
			}
			switch r.IntN(3) {
			case 0:
				g.Until = g.Until.Add(time.Hour)
			case 1:
				g.Role = "another"
			case 2:
				g.To = model.MustID("person/b")
			}
			b, err := json.Marshal(g)
			if err != nil {
				t.Error(err)
			}
			w.cloud.grants[grantOf(id)] = b
		case n == 8:
			delete(w.mem.Rows, id)
		case n == 9:
			q.State = []gate.State{gate.Closed, gate.Approved, gate.Closing, gate.Opening, gate.Refused}[r.IntN(5)]
			b, err := json.Marshal(q)
			if err != nil {
				t.Error(err)
			}
			w.mem.Rows[id] = ledgertest.Stored{Body: b, Version: w.mem.Rows[id].Version}
		case n == 10 && r.IntN(3) == 0:
			w.mem.Rows[id] = ledgertest.Stored{Body: []byte(`{"id":"q-9"}`), Version: 1}
		}
		w.now = w.now.Add([]time.Duration{0, 0, 0, time.Minute, time.Minute, 4 * time.Minute, 10 * time.Minute,
			30 * time.Minute, 48 * time.Hour, 200 * time.Hour}[r.IntN(10)])
		if r.IntN(2) == 0 {
			ctx, cancel := context.WithCancel(t.Context())
			if r.IntN(8) == 0 {
				cancel()
			}
			round, err := w.Once(ctx)
			cancel()
			fmt.Fprintf(&out, "%s; closing %s; rowless %s; unlooked %d; %v\n", say(round), names(round.Closing),
				names(round.Rowless), round.Unlooked, err)
		}
		all, err := w.All(t.Context())
		for _, q := range all {
			fmt.Fprintf(&out, "%s %s by %q at %s until %s row %d\n", q.ID, q.State, q.ClosedBy,
				q.ClosedAt.Format(time.RFC3339), q.Until.Format(time.RFC3339), q.Row)
		}
		fmt.Fprintf(&out, "%v; %d in the ledger; %v\n", slices.Sorted(maps.Keys(w.cloud.grants)), w.mem.End.Number,
			err)
	}
	return out.String()
}
