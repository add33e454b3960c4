package cli

import (
	"testing"

	"clipfence/internal/core/gauge"
	"clipfence/internal/work"
)

func TestPlacedWords(t *testing.T) {
	for _, tt := range []struct {
		tally *work.Tally
		want  string
	}{
		{nil, "No call that was let through is known."},
		{&work.Tally{}, "No call that was let through is known."},
		{&work.Tally{Calls: 1, Placed: 1}, "The one call that was let through, on all days kept, is placed."},
		{&work.Tally{Calls: 2, Placed: 2}, "All 2 calls that were let through, on all days kept, are placed."},
		{&work.Tally{Calls: 1000, Placed: 999, Why: map[gauge.Reason]int64{gauge.NoGrant: 1}},
			"over 99 % of 1,000 calls that were let through, on all days kept, are placed; not placed: " +
				"1 that no grant of then or now explains."},
	} {
		if got := placedWords(tt.tally); got != tt.want {
			t.Errorf("%+v: %s, want %s", tt.tally, got, tt.want)
		}
	}
}
