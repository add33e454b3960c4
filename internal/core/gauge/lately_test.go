package gauge

import (
	"math/rand/v2"
	"testing"

	"clipfence/internal/core/model"
)

// TestLately: what is kept of weights is what they are, in whatever order they are asked for.
func TestLately(t *testing.T) {
	var k lately
	r := rand.New(rand.NewPCG(1, 2))
	for range 200_000 {
		n := r.IntN(1 << (1 + r.IntN(22)))
		for _, l := range []model.Level{model.See, model.HandOut} {
			if got, want := k.weigh(DefaultWeights, l, n), DefaultWeights.Of(l, n); got != want {
				t.Fatalf("on %d places %v, want %v", n, got, want)
			}
		}
	}
}
