package main

import (
	"testing"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/index"
	"clipfence/internal/core/model"
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
	plain := engine.New(e)
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
	b.Run("build", func(b *testing.B) {
		for b.Loop() {
			if _, err := index.Build(e); err != nil {
				b.Fatal(err)
			}
		}
	})
}
