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

// Blocks does what [Each] does, of many at a time: of millions for each of which little is done.
func Blocks(n int, do func(i int)) {
	const many = 1 << 10
	Each((n+many-1)/many, func(_, k int) {
		for i := many * k; i < min(many*(k+1), n); i++ {
			do(i)
		}
	})
}

// Sort returns a list in order, on all processors, and reorders what it is given; of what is equal nothing is said.
// Compare is called several at once.
func Sort[T any](list []T, compare func(a, b T) int) []T {
	runs := make([][]T, 0, Workers())
	for part := range slices.Chunk(list, max(leastRun, (len(list)+Workers()-1)/Workers())) {
		runs = append(runs, part)
	}
	Each(len(runs), func(_, i int) { slices.SortFunc(runs[i], compare) })
	for len(runs) > 1 {
		pairs := make([][]T, (len(runs)+1)/2)
		Each(len(pairs), func(_, i int) {
			if pairs[i] = runs[2*i]; 2*i+1 < len(runs) {
				pairs[i] = merged(runs[2*i], runs[2*i+1], compare)
			}
		})
		runs = pairs
	}
	if len(runs) == 0 {
		return list
	}
	return runs[0]
}

// leastRun is how many a worker sorts at least.
const leastRun = 1 << 10

// merged is two lists in order as one.
func merged[T any](a, b []T, compare func(a, b T) int) []T {
	out := make([]T, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if compare(a[0], b[0]) <= 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// Sorted returns a list in order, as [Sort] does; what is equal keeps its order, and the list is left as it is.
// Compare is given places in the list. Of long values it takes far less than sorting them where they are, since each
// is moved once.
func Sorted[T any](list []T, compare func(a, b *T) int) []T {
	order := make([]int32, len(list))
	for i := range order {
		order[i] = int32(i)
	}
	order = Sort(order, func(a, b int32) int { return cmp.Or(compare(&list[a], &list[b]), cmp.Compare(a, b)) })
	out := make([]T, len(list))
	for to, from := range order {
		out[to] = list[from]
	}
	return out
}
