package index

import (
	"maps"
	"math/rand/v2"
	"testing"
)

// TestLayered: a map of layers holds what a map that is copied for each view would, also for those that
// went on from an earlier one, and has few layers.
func TestLayered(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 5))
		type view struct {
			is     layered[int, int]
			copied map[int]int
		}
		views := []view{{nil, map[int]int{}}}
		for range 60 {
			from := views[len(views)-1]
			if r.IntN(4) == 0 {
				from = views[r.IntN(len(views))]
			}
			v := view{from.is, maps.Clone(from.copied)}
			v.is.fork()
			for range r.IntN(6) {
				k, n := r.IntN(40), r.IntN(3)
				v.is.put(k, n)
				v.copied[k] = n
			}
			v.is.settle()
			views = append(views, v)
		}
		for i, v := range views {
			for k := range 40 {
				want, known := v.copied[k]
				if got, ok := v.is.get(k); got != want || ok != known || v.is.at(k) != want {
					t.Fatalf("seed %d: view %d has %d, %v under %d, want %d, %v", seed, i, got, ok, k, want, known)
				}
			}
			for j := 1; j < len(v.is); j++ {
				if below, above := len(v.is[j-1]), len(v.is[j]); above == 0 || 2*above >= below {
					t.Fatalf("seed %d: view %d has a layer of %d on one of %d", seed, i, above, below)
				}
			}
		}
	}
}
