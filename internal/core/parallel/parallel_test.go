package parallel_test

import (
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
