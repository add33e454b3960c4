package backtest

import (
	"math"
	"testing"
)

// TestNote: a chance falls into the bin that begins at or below it and ends above it; what is certain
// into the last one, and what is no number into none.
func TestNote(t *testing.T) {
	for _, tt := range []struct {
		chance float64
		bin    int // -1: none
	}{{0, 0}, {.009, 0}, {.01, 1}, {.0299, 1}, {.03, 2}, {.5, 7}, {.899, 10}, {.9, 11}, {.999, 11}, {1, 11},
		{math.NaN(), -1}} {
		for _, needed := range []bool{true, false} {
			all := bins()
			note(all, tt.chance, needed)
			for i, b := range all {
				want := Bin{From: bounds[i], To: bounds[i+1]}
				if i == tt.bin {
					want.Parts, want.Expected = 1, tt.chance
					if needed {
						want.Needed = 1
					}
				}
				if b != want {
					t.Errorf("%v, needed %t: bin %d is %+v, want %+v", tt.chance, needed, i, b, want)
				}
			}
		}
	}
}
