// Package usestest holds any [uses.Holder] to its contract.
package usestest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/uses"
)

// Conform runs the contract against holders that open makes; each call of open
// opens the same, empty at first, as another process would.
func Conform(t *testing.T, open func() uses.Holder) {
	t.Helper()
	ctx := t.Context()
	h := open()
	if c, err := h.Cursor(ctx, "m"); err != nil || c != "" {
		t.Fatalf("before the first batch: cursor %q, %v", c, err)
	}
	r := rand.New(rand.NewPCG(11, 7))
	all := calls(r, 600)
	plain := usage.Fold{}
	for _, c := range all {
		plain.Add(c)
	}
	// In random order, with repetitions, in batches of random sizes.
	again := append(append([]usage.Call{}, all...), all[:200]...)
	r.Shuffle(len(again), func(i, j int) { again[i], again[j] = again[j], again[i] })
	for n := 0; len(again) > 0; n++ {
		k := min(len(again), 1+r.IntN(90))
		b := Batch(h.Seen(ctx, "m"), again[:k], fmt.Sprint(n))
		if n == 3 { // one that fails is not kept in part
			dead, cancel := context.WithCancel(ctx)
			cancel()
			if err := h.SaveFold(dead, "m", b); err == nil {
				t.Fatal("kept under a context that was cancelled")
			}
		}
		if err := h.SaveFold(ctx, "m", b); err != nil {
			t.Fatal(err)
		}
		if c, err := open().Cursor(ctx, "m"); err != nil || c != fmt.Sprint(n) {
			t.Fatalf("after batch %d: cursor %q, %v", n, c, err)
		}
		again = again[k:]
	}
	if err := h.SaveFold(ctx, "m", Batch(h.Seen(ctx, "m"), nil, "")); err != nil {
		t.Fatal(err)
	}
	if c, _ := h.Cursor(ctx, "m"); c == "" {
		t.Error("an empty cursor took the kept one away")
	}
	check := func(when string) {
		t.Helper()
		got, err := open().Uses(ctx, "m")
		if err != nil {
			t.Fatal(err)
		}
		same(t, when, got.List(), plain.Uses())
		for _, q := range []struct {
			f  usage.Filter
			by []usage.Field
		}{
			{usage.Filter{}, []usage.Field{usage.ByIdentity}},
			{usage.Filter{Outcomes: []usage.Outcome{usage.Refused}}, []usage.Field{usage.ByPermission, usage.ByPath}},
			{usage.Filter{Identity: model.MustID("person/p1")}, []usage.Field{usage.ByActingFor, usage.ByOutcome}},
			{usage.Filter{Permission: model.MustPermissionPattern("s0/*:*"), Path: model.MustPathPattern("/m/b:1/**")},
				usage.Fields},
			{usage.Filter{Window: usage.Window{From: time.Unix(1_750_000_000, 0), To: time.Unix(1_760_000_000, 0)}},
				[]usage.Field{usage.ByService}},
		} {
			got, err := h.Groups(ctx, "m", &q.f, q.by)
			if err != nil {
				t.Fatal(err)
			}
			if want := usage.GroupBy(slices.All(plain.Uses()), &q.f, q.by, nil); !reflect.DeepEqual(summary(got),
				summary(want)) {
				t.Errorf("%s: groups by %v:\n%v\nwant\n%v", when, q.by, summary(got), summary(want))
			}
		}
	}
	check("as it was kept")
	if err := h.Compact(ctx, "m"); err != nil {
		t.Fatal(err)
	}
	check("compacted")
	if u, err := h.Uses(ctx, "other"); err != nil || u.Len() != 0 {
		t.Errorf("another source has %d uses, %v", u.Len(), err)
	}
}

func calls(r *rand.Rand, n int) []usage.Call {
	out := make([]usage.Call, n)
	for i := range out {
		c := usage.Call{Time: time.UnixMilli(1_740_000_000_000 + r.Int64N(200*86_400_000)).UTC(),
			Identity:     model.MustID(fmt.Sprintf("person/p%d", r.IntN(3))),
			Permission:   model.MustPermission(fmt.Sprintf("s%d/o:v", r.IntN(2))),
			Path:         model.MustPath(fmt.Sprintf("/m/b:%d/x", r.IntN(3))),
			Outcome:      []usage.Outcome{usage.Done, usage.Refused, usage.Failed}[r.IntN(3)],
			SecondFactor: model.Truth(r.IntN(3))}
		if r.IntN(4) == 0 {
			c.ActingFor = model.MustID("workload/w")
		}
		c.EventID = [16]byte{byte(i), byte(i >> 8)}
		out[i] = c
	}
	return out
}

// Batch folds calls into a batch, counting only events that were not seen.
func Batch(seen *fold.Seen, calls []usage.Call, cursor string) *fold.Batch {
	b := &fold.Batch{Table: &usage.Table{}, Seen: map[usage.Day][]uint64{}, Cursor: cursor, Records: len(calls)}
	for _, c := range calls {
		h := (uint64(c.EventID[0]) | uint64(c.EventID[1])<<8) * 0x9E3779B97F4A7C15
		d := usage.DayOf(c.Time)
		if !seen.Add(d, h) {
			b.Repeated++
			continue
		}
		b.Events++
		b.Seen[d] = append(b.Seen[d], h)
		b.Table.MergeUse(usage.Use{Key: c.Key(), Count: 1, First: c.Time, Last: c.Time, Days: usage.DaysOf(c.Time)})
	}
	return b
}

func same(t *testing.T, when string, got, want []usage.Use) {
	t.Helper()
	if len(got) != len(want) {
		t.Fatalf("%s: %d uses, want %d", when, len(got), len(want))
	}
	for i := range got {
		g, w := got[i], want[i]
		if g.Key != w.Key || g.Count != w.Count || !g.First.Equal(w.First) || !g.Last.Equal(w.Last) ||
			!reflect.DeepEqual(g.Days.List(), w.Days.List()) {
			t.Fatalf("%s: use %d is\n%+v\nwant\n%+v", when, i, g, w)
		}
	}
}

func summary(gs []usage.Group) []string {
	var out []string
	for _, g := range gs {
		out = append(out, fmt.Sprint(g.Key, g.Service, g.Uses, g.Count, g.AtLeast, g.First.UTC(), g.Last.UTC(),
			g.Days.List()))
	}
	return out
}
