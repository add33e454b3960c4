package risk

import (
	"fmt"
	"math"
	"testing"

	"clipfence/internal/core/model"
)

// TestTogetherParts: up to so many parts stay as they are; those behind them are one, as likely as the
// one of them that was used last.
func TestTogetherParts(t *testing.T) {
	for _, n := range []int{0, 1, mostParts - 1, mostParts, mostParts + 1, mostParts + 7} {
		var parts []Part
		for i := range n {
			parts = append(parts, Part{Class: Used, Bin: uint32(1000 - i), Where: []model.PathPattern{
				model.MustPathPattern(fmt.Sprintf("/m/box:b%d/**", i))}})
		}
		got := together(parts)
		if len(got) != min(n, mostParts+1) {
			t.Fatalf("%d parts become %d", n, len(got))
		}
		for i := range min(n, mostParts) {
			if got[i].Bin != parts[i].Bin || len(got[i].Where) != 1 {
				t.Errorf("%d parts: part %d is %+v", n, i, got[i])
			}
		}
		if n > mostParts {
			if rest := got[mostParts]; rest.Bin != uint32(1000-n+1) || len(rest.Where) != n-mostParts {
				t.Errorf("%d parts: the rest is %d on %d places", n, rest.Bin, len(rest.Where))
			}
		}
	}
}

// TestBroken: places are needed independently of each other, what is done on the same ones as many at a
// time as the past shows; and whoever stopped comes back as a whole, before which it does nothing.
func TestBroken(t *testing.T) {
	used := func(quiet int, where string, chance float64) Loss {
		q := Part{Class: Used, Bin: bin([2]int{3, 6}, [2]int{3, 4}, [2]int{quiet, 3}, [2]int{0, 4}, [2]int{0, 4},
			[2]int{0, 2}), Where: []model.PathPattern{model.MustPathPattern(where)}}
		return Loss{Part: q, Chance: chance, Soon: chance / 2}
	}
	of := func(c Class, chance float64) Loss {
		return Loss{Part: Part{Class: c, Where: []model.PathPattern{{}}}, Chance: chance, Soon: chance / 2}
	}
	back := func(late, soon float64, losses ...Loss) []Loss {
		for i := range losses {
			losses[i].Back = [2]float64{late, soon}
		}
		return losses
	}
	among := func(all float64, losses ...Loss) []Loss {
		for i := range losses {
			losses[i].All = [2]float64{all, all / 2}
		}
		return losses
	}
	for _, tt := range []struct {
		name       string
		losses     []Loss
		late, soon float64
	}{
		{"nothing", nil, 0, 0},
		{"two places", []Loss{used(0, "/s/a", .1), used(1, "/s/b", .2)}, 1 - .9*.8, 1 - .95*.9},
		{"two permissions on one", []Loss{used(0, "/s/a", .1), used(0, "/s/a", .2)}, .2, .1},
		{"likeliest soon is another", []Loss{{Part: used(0, "/s/a", 0).Part, Chance: .5, Soon: .1},
			{Part: used(0, "/s/a", 0).Part, Chance: .2, Soon: .2}}, .5, .2},
		{"something new", []Loss{used(0, "/s/a", .1), of(FirstHere, .2)}, 1 - .9*.8, 1 - .95*.9},
		{"two places of one who stopped", back(.4, .2, used(2, "/s/a", .1), used(2, "/s/b", .2)),
			.4 * (1 - .75*.5), .2 * (1 - .75*.5)},
		{"likelier than a comeback", back(.15, .1, used(2, "/s/a", .2), used(2, "/s/b", .1)), .15, .1},
		{"something new besides", back(.4, .2, used(2, "/s/a", .1), of(Name, .2), of(FirstHere, .3)),
			.4 * (1 - .75*.8*.7), .2 * (1 - .75*.9*.85)},
		{"many permissions at once", []Loss{of(FirstRest, .02), of(FirstRest, .03), of(FirstRest, .04)},
			(.02 + .03 + .04) / 2, (.02 + .03 + .04) / 4},
		{"one of many", []Loss{of(FirstRest, .04), of(FirstRest, .01)}, .04, .02},
		{"most of which stay", among(.5, of(FirstRest, .02), of(FirstRest, .03)),
			.5 / 2 * (1 - .9*.9), .25 / 2 * (1 - .9*.9)},
		{"half of which stay", among(.1, of(FirstRest, .02), of(FirstRest, .03)),
			.1 / 2 * (1 - .5*.5), .05 / 2 * (1 - .5*.5)},
		{"none soon", []Loss{{Part: Part{Class: FirstRest, Where: []model.PathPattern{{}}}, Chance: .2}}, .2, 0},
		{"where no log shows it", back(.4, .2, used(2, "/s/a", .1), of(DarkHere, .2)), 1 - .9*.8, 1 - .95*.9},
	} {
		m := &Model{}
		m.together[FirstRest] = tally{n: 60, k: 30} // two at a time
		m.together[FirstHere] = tally{n: 19, k: 19} // seen too seldom
		if late, soon := m.Broken(tt.losses); math.Abs(late-tt.late) > 1e-12 || math.Abs(soon-tt.soon) > 1e-12 {
			t.Errorf("%s: %v, %v, want %v, %v", tt.name, late, soon, tt.late, tt.soon)
		}
		for _, l := range tt.losses {
			l.All = [2]float64{}
			if late, _ := m.Broken([]Loss{l}); math.Abs(late-l.Needed()) > 1e-12 {
				t.Errorf("%s: %+v alone is needed with %v, and breaks with %v", tt.name, l, l.Needed(), late)
			}
		}
	}
}
