package risk

import (
	"fmt"
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
