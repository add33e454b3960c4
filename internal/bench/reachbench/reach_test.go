package main

import (
	"fmt"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// BenchmarkQuestions asks a sixteenth of the large estate.
func BenchmarkQuestions(b *testing.B) {
	e := generate(16, 1)
	x, err := index.Build(e)
	if err != nil {
		b.Fatal(err)
	}
	qs := questions(e, 20000, 3)
	i := 0
	next := func() *question { i = (i + 1) % len(qs); return &qs[i] }
	plain := plain.New(e)
	b.Run("why", func(b *testing.B) {
		for b.Loop() {
			q := next()
			x.Decide(q.id, q.p, q.path, model.Context{})
		}
	})
	b.Run("why/plain", func(b *testing.B) {
		for b.Loop() {
			q := next()
			plain.Decide(q.id, q.p, q.path, model.Context{})
		}
	})
	b.Run("who", func(b *testing.B) {
		for b.Loop() {
			q := next()
			x.Who(q.p, q.path)
		}
	})
	b.Run("pieces", func(b *testing.B) {
		w := x.NewWalk(index.Possible)
		for b.Loop() {
			w.Pieces(next().id)
		}
	})
	b.Run("totals", func(b *testing.B) {
		w := x.NewWalk(index.Possible)
		for b.Loop() {
			w.Totals(next().id)
		}
	})
	b.Run("held", func(b *testing.B) {
		s := gauge.NewScale(x, gauge.DefaultWeights)
		for b.Loop() {
			s.Held(next().id)
		}
	})
	b.Run("with", func(b *testing.B) { // a grant goes, and a narrower one comes
		for b.Loop() {
			g := *x.Grant(i % len(e.Grants))
			i++
			come := g
			come.ID, come.Where = "narrower", e.Grants[i%len(e.Grants)].Where
			if _, err := x.With(access.Edit{Gone: access.Gone{Grants: []string{g.ID}},
				Come: access.Come{Grants: []model.Grant{come}}}); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("build", func(b *testing.B) {
		for b.Loop() {
			if _, err := index.Build(e); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// BenchmarkCompare compares everything that is granted with no use at all, on four parts of
// the large estate: how the comparison grows.
func BenchmarkCompare(b *testing.B) {
	for _, part := range []int{512, 256, 128, 64} {
		e := generate(part, 1)
		b.Run(fmt.Sprintf("%d nodes", len(e.Nodes)), func(b *testing.B) {
			x, err := index.Build(e)
			if err != nil {
				b.Fatal(err)
			}
			in := &gauge.Input{Index: x, Coverage: usage.NewCoverage(nil, usage.Read{}),
				AsOf: time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC), Window: 90}
			for b.Loop() {
				gauge.Run(in)
			}
		})
	}
}
