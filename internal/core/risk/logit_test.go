package risk

import (
	"cmp"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/usage"
)

// TestMean: the quadrature is the integral.
func TestMean(t *testing.T) {
	for _, odds := range []float64{-8, -3, -.5, 0, 2} {
		for _, variance := range []float64{0, .2, 1, 2.5} {
			sum, all := 0.0, 0.0
			for z := -9.0; z <= 9; z += .001 {
				w := math.Exp(-z * z / 2)
				sum, all = sum+w/(1+math.Exp(-odds-z*math.Sqrt(variance))), all+w
			}
			if got, want := mean(odds, variance), sum/all; math.Abs(got-want) > .002*want {
				t.Errorf("%g with variance %g: %g, want %g", odds, variance, got, want)
			}
		}
	}
}

// counted are cells of three facts with a chance of their own, of each of which so many parts were seen.
func counted(r *rand.Rand, sizes []int, n int) (bins map[uint32]tally, truth map[uint32]float64) {
	effects := make([]float64, width(sizes))
	for i := range effects {
		effects[i] = r.NormFloat64() / 2
	}
	bins, truth = map[uint32]tally{}, map[uint32]float64{}
	all := 1
	for _, s := range sizes {
		all *= s
	}
	for b := range uint32(all) {
		odds := -4.0
		for _, i := range columns(sizes, b) {
			odds += effects[i]
		}
		truth[b] = 1 / (1 + math.Exp(-odds))
		c := tally{n: float64(n)}
		for range n {
			if r.Float64() < truth[b] {
				c.k++
			}
		}
		bins[b] = c
	}
	return bins, truth
}

// TestLeast: of the quarter that looks least likely about as much happens as is said, where each need was
// seen three times over; taken for so much more evidence, that says far too little.
func TestLeast(t *testing.T) {
	sizes := []int{6, 4, 2, 3}
	const again = 3
	var said, happens [2]float64
	for seed := range uint64(60) {
		bins, truth := counted(rand.New(rand.NewPCG(seed, 1)), sizes, 10)
		for b, c := range bins {
			bins[b] = tally{n: again * c.n, k: again * c.k}
		}
		for i, known := range []float64{again, 1} {
			l := &logit{sizes: sizes, from: func(uint32) float64 { return -4 }, firm: priorWeight * .018}
			l.fit(bins, known)
			order := slices.Sorted(maps.Keys(bins))
			slices.SortStableFunc(order, func(a, b uint32) int { return cmp.Compare(l.chance(a), l.chance(b)) })
			for _, b := range order[:len(order)/4] {
				said[i], happens[i] = said[i]+l.chance(b), happens[i]+truth[b]
			}
		}
	}
	t.Logf("%.2f said, %.2f happen; taken for news %.2f of %.2f", said[0], happens[0], said[1], happens[1])
	if said[0] < .85*happens[0] || said[0] > 1.3*happens[0] {
		t.Errorf("%.2f said, %.2f happen", said[0], happens[0])
	}
	if said[1] > .85*happens[1] {
		t.Errorf("taken for news: %.2f said of %.2f, so nothing is shown", said[1], happens[1])
	}
}

// TestKnown: what is said is never less than the likeliest chance; the prior where nothing was counted;
// and the more was counted, the less is added, of what was counted again less than of what is new.
func TestKnown(t *testing.T) {
	sizes := []int{3, 2}
	added := func(n, again float64) float64 {
		l := &logit{sizes: sizes, from: func(uint32) float64 { return -3 }, firm: priorWeight * .045}
		bins := map[uint32]tally{}
		for b := range uint32(6) {
			if n > 0 {
				bins[b] = tally{n: n, k: n / 50}
			}
		}
		l.fit(bins, again)
		likeliest := l.at(columns(sizes, 1), -3)
		if l.chance(1) < likeliest-1e-12 {
			t.Errorf("%g counted: %g, less than %g", n, l.chance(1), likeliest)
		}
		return l.chance(1)/likeliest - 1
	}
	if x := added(0, 1); math.Abs(x) > 1e-9 {
		t.Errorf("nothing counted: %g is added to the prior", x)
	}
	last := math.Inf(1)
	for _, n := range []float64{50, 200, 1000, 10000} {
		x, twice := added(n, 1), added(n, 2)
		if x <= 0 || x >= last || n > 50 && twice <= x { // of hardly anything the prior speaks, which is a mean
			t.Errorf("%g counted: %g is added, %g where they were seen twice; before %g", n, x, twice, last)
		}
		last = x
	}
	if last > .02 {
		t.Errorf("%g is added to what is well known", last)
	}
}

// TestSeenAgain: landmarks a month apart that look three months ahead see a need twice and more.
func TestSeenAgain(t *testing.T) {
	for _, tt := range []struct {
		landmarks, over int
		want            float64
	}{{1, 90, 1}, {1, 40, 1}, {2, 90, 1.5}, {5, 90, 450.0 / 210}, {5, 30, 1}, {1, 20, 1}} {
		if got := seenAgain(tt.landmarks, usage.Day(tt.over)); math.Abs(got-tt.want) > 1e-12 {
			t.Errorf("%d landmarks that look %d days ahead: %g, want %g", tt.landmarks, tt.over, got, tt.want)
		}
	}
}
