// Package parallel goes over many things on all processors, and sorts them.
//
// What is done for one thing must not depend on what is done for another, nor on the order; each
// worker has a number, so that it can have a place of its own for what it keeps between two things.
package parallel

import (
	"cmp"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
)

// Workers returns how many things are done at once.
func Workers() int { return runtime.GOMAXPROCS(0) }

// Each goes over the numbers below n, each once, and returns when all are done; do is told its
// worker's number, below [Workers].
func Each(n int, do func(worker, i int)) {
	var wg sync.WaitGroup
	var next atomic.Int64
	for k := range Workers() {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(k, i)
			}
		})
	}
	wg.Wait()
}

// Sorted returns a list in order, on all processors; what is equal keeps its order. Compare is given places in the
// list and called several at once. Of long values it takes far less than sorting them where they are, since each is
// moved once.
func Sorted[T any](list []T, compare func(a, b *T) int) []T {
	order := make([]int32, len(list))
	for i := range order {
		order[i] = int32(i)
	}
	before := func(a, b int32) int { return cmp.Or(compare(&list[a], &list[b]), cmp.Compare(a, b)) }
	runs := make([][]int32, 0, Workers())
	for part := range slices.Chunk(order, max(leastRun, (len(order)+Workers()-1)/Workers())) {
		runs = append(runs, part)
	}
	Each(len(runs), func(_, i int) { slices.SortFunc(runs[i], before) })
	for len(runs) > 1 {
		pairs := make([][]int32, (len(runs)+1)/2)
		Each(len(pairs), func(_, i int) {
			if pairs[i] = runs[2*i]; 2*i+1 < len(runs) {
				pairs[i] = merged(runs[2*i], runs[2*i+1], before)
			}
		})
		runs = pairs
	}
	out := make([]T, len(list))
	if len(runs) > 0 {
		for to, from := range runs[0] {
			out[to] = list[from]
		}
	}
	return out
}

// leastRun is how many a worker sorts at least.
const leastRun = 1 << 10

// merged is two lists in order as one.
func merged(a, b []int32, before func(a, b int32) int) []int32 {
	out := make([]int32, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if before(a[0], b[0]) < 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}
