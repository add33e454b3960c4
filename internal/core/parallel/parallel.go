// Package parallel goes over many things on all processors.
//
// What is done for one thing must not depend on what is done for another, nor on the order; each
// worker has a number, so that it can have a place of its own for what it keeps between two things.
package parallel

import (
	"runtime"
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
