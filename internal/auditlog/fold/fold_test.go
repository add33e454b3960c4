package fold_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// calls makes events and, by the plain fold, what they must fold to.
func calls(r *rand.Rand, n int) (lines [][]byte, want []usage.Use) {
	f := usage.Fold{}
	for i := range n {
		at := time.UnixMilli(1_790_000_000_000 + r.Int64N(300*86_400_000)).UTC()
		c := usage.Call{Time: at, Identity: model.MustID(fmt.Sprintf("person/p%d", r.IntN(5))),
			Permission: model.MustPermission(fmt.Sprintf("a/b:c%d", r.IntN(3))),
			Path:       model.MustPath(fmt.Sprintf("/m/x:%d", r.IntN(6))), Outcome: usage.Done}
		code, acting, mfa, ip := 200, "", "", ""
		if r.IntN(4) == 0 {
			c.Outcome, code = usage.Refused, 403
		}
		if r.IntN(4) == 0 {
			c.ActingFor = model.MustID("workload/w")
			acting = `,"unmapped":{"acting_for":"workload/w"}`
		}
		if r.IntN(3) == 0 {
			c.SecondFactor, mfa = model.True, `,"session":{"is_mfa":true}`
		}
		if r.IntN(3) > 0 {
			c.Network = netip.MustParseAddr(fmt.Sprintf("10.0.%d.%d", r.IntN(3), r.IntN(250)))
			ip = fmt.Sprintf(`,"src_endpoint":{"ip":"%s"}`, c.Network)
		}
		f.Add(c)
		lines = append(lines, fmt.Appendf(nil,
			`{"class_uid":6003,"time":%d,"metadata":{"uid":"e%d"},"actor":{"user":{"uid":"%s"}%s},"api":{"operation":"%s","response":{"code":%d}},"resources":[{"uid":"%s"}]%s%s}`,
			at.UnixMilli(), i, c.Identity, mfa, c.Permission, code, c.Path, ip, acting))
	}
	return lines, f.Uses()
}

func at(s string) func() (string, error) { return func() (string, error) { return s, nil } }

// parts cuts lines into pieces, with a cursor behind each.
func parts(r *rand.Rand, lines [][]byte) iter.Seq2[fold.Part, error] {
	return func(yield func(fold.Part, error) bool) {
		for i := 0; len(lines) > 0; i++ {
			n := 1 + r.IntN(len(lines))
			if !yield(fold.Part{Name: "f", Chunk: auditlog.Chunk{Line: auditlog.At(1),
				Data: append(bytes.Join(lines[:n], []byte("\n")), '\n')}, Cursor: at(fmt.Sprint(i))}, nil) {
				return
			}
			lines = lines[n:]
		}
	}
}

// TestLawSeven: any split of the log, in any order, any number of times, by any
// number of workers and in batches of any size, gives the same uses as folding each
// call once.
func TestLawSeven(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 5))
		lines, want := calls(r, 1+r.IntN(400))
		all := append([][]byte{}, lines...)
		for range r.IntN(3) {
			all = append(all, lines[r.IntN(len(lines)):]...)
		}
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		got := &usage.Table{}
		events, repeated := 0, 0
		o := fold.Options{Formats: formats.For("m", nil), Workers: 1 + r.IntN(4), Rows: 1 + r.IntN(500), Bytes: 1 +
			r.Int64N(1<<16)}
		for b, err := range fold.Run(context.Background(), parts(r, all), o) {
			if err != nil {
				t.Fatal(err)
			}
			if b.Rejects > 0 {
				t.Fatalf("seed %d: %+v", seed, b.Rejected)
			}
			raw, err := b.Table.AppendBinary(nil) // as the store keeps it
			if err == nil {
				err = got.MergeBinary(raw)
			}
			if err != nil {
				t.Fatal(err)
			}
			events += b.Events
			repeated += b.Repeated
		}
		if events != len(lines) || repeated != len(all)-len(lines) {
			t.Errorf("seed %d: %d events and %d repeated of %d lines, %d of them different", seed, events, repeated,
				len(all), len(lines))
		}
		if uses := got.Uses(); !sameUses(uses, want) {
			t.Fatalf("seed %d:\n%+v\nwant\n%+v", seed, uses, want)
		}
	}
}

func sameUses(a, b []usage.Use) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		x, y := a[i], b[i]
		if !reflect.DeepEqual(x.Days.List(), y.Days.List()) || !x.First.Equal(y.First) || !x.Last.Equal(y.Last) ||
			x.Key != y.Key || x.Count != y.Count {
			return false
		}
	}
	return true
}

// TestBroken: an error of the source comes last, and what came before it is kept
// with its cursor; a context that ends keeps nothing that has no end.
func TestBroken(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	lines, _ := calls(r, 50)
	boom := errors.New("boom")
	broken := func(yield func(fold.Part, error) bool) {
		for p := range parts(r, lines) {
			if !yield(p, nil) {
				return
			}
		}
		yield(fold.Part{}, boom)
	}
	events, cursor, last := 0, "", error(nil)
	for b, err := range fold.Run(context.Background(), broken, fold.Options{Formats: formats.For("m", nil)}) {
		if last = err; err == nil {
			events += b.Events
			cursor = b.Cursor
		}
	}
	if events != 50 || cursor == "" || !errors.Is(last, boom) {
		t.Errorf("%d events up to cursor %q, then %v", events, cursor, last)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for _, err := range fold.Run(ctx, parts(r, lines), fold.Options{Formats: formats.For("m", nil)}) {
		if !errors.Is(err, context.Canceled) {
			t.Errorf("under a context that was cancelled: %v", err)
		}
	}
	// What the memory of events cannot be read from is an error, not a double count.
	seen := fold.NewSeen(func(usage.Day) ([]uint64, error) { return nil, boom })
	for _, err := range fold.Run(context.Background(), parts(r, lines),
		fold.Options{Formats: formats.For("m", nil), Seen: seen}) {
		if !errors.Is(err, boom) {
			t.Errorf("without the memory of events: %v", err)
		}
	}
}

func BenchmarkFold(b *testing.B) {
	lines, _ := calls(rand.New(rand.NewPCG(1, 1)), 20_000)
	data := append(bytes.Join(lines, []byte("\n")), '\n')
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		part := func(yield func(fold.Part, error) bool) {
			yield(fold.Part{Chunk: auditlog.Chunk{Line: auditlog.At(1), Data: data}, Cursor: at("x")}, nil)
		}
		for _, err := range fold.Run(context.Background(), part, fold.Options{Formats: formats.For("m", nil)}) {
			if err != nil {
				b.Fatal(err)
			}
		}
	}
}
