package parallel_test

import (
	"cmp"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"

	"clipfence/internal/core/parallel"
)

// TestEach: every number below n comes once, whichever worker takes it, and all are done in the end.
func TestEach(t *testing.T) {
	for _, n := range []int{0, 1, 2, 7, 1000} {
		took := make([][]int, parallel.Workers())
		parallel.Each(n, func(worker, i int) { took[worker] = append(took[worker], i) })
		all := slices.Sorted(slices.Values(slices.Concat(took...)))
		if len(all) != n {
			t.Fatalf("%d of %d were done", len(all), n)
		}
		for i, got := range all {
			if got != i {
				t.Fatalf("of %d: %v", n, all)
			}
		}
	}
}

// TestBlocks: every number below n comes once, also where the last block is not full.
func TestBlocks(t *testing.T) {
	for _, n := range []int{0, 1, 1023, 1024, 1025, 5000} {
		times := make([]int, n)
		parallel.Blocks(n, func(i int) { times[i]++ })
		if slices.ContainsFunc(times, func(k int) bool { return k != 1 }) {
			t.Errorf("of %d not each came once", n)
		}
	}
}

// TestSorted: as a sort that is stable, of lists of every length and with many that are equal.
func TestSorted(t *testing.T) {
	type pair struct{ key, was int }
	rnd := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{0, 1, 2, 1023, 1024, 1025, 5000, 20011} {
		list := make([]pair, n)
		for i := range list {
			list[i] = pair{rnd.IntN(1 + n/7), i}
		}
		want := slices.Clone(list)
		slices.SortStableFunc(want, func(a, b pair) int { return cmp.Compare(a.key, b.key) })
		for _, procs := range []int{1, 2, 3, 8} {
			was := runtime.GOMAXPROCS(procs)
			got := parallel.Sorted(list, func(a, b *pair) int { return cmp.Compare(a.key, b.key) })
			runtime.GOMAXPROCS(was)
			if !slices.Equal(got, want) {
				t.Errorf("%d on %d processors are not in order", n, procs)
			}
		}
	}
}
