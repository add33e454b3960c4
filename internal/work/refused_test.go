package work

import (
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestRefusedContext: of calls that were refused on one place only what all of them show is known.
func TestRefusedContext(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	call := func(hour int, factor model.Truth) usage.Use {
		f := usage.Fold{}
		f.Add(usage.Call{Time: now.Add(-time.Duration(36-hour) * time.Hour), Identity: model.MustID("workload/w"),
			Permission: model.MustPermission("a/b:c"), Path: model.MustPath("/m"), Outcome: usage.Refused,
			SecondFactor: factor})
		return f.Uses()[0]
	}
	for _, tt := range []struct {
		calls  []usage.Use
		hours  uint32
		factor model.Truth
	}{
		{[]usage.Use{call(9, model.True)}, 1 << 9, model.True},
		{[]usage.Use{call(9, model.True), call(15, model.False)}, 0, model.False},
		{[]usage.Use{call(9, model.True), call(15, model.Open)}, 0, model.Open},
	} {
		got := refused(usage.ListOf(tt.calls...), func(model.ID) bool { return true }, usage.WindowOf(now, 90))
		if len(got) != 1 || got[0].Context.Times.Hours != tt.hours || got[0].Context.SecondFactor != tt.factor {
			t.Errorf("%d calls: %+v, want hours %b, second factor %s", len(tt.calls), got, tt.hours, tt.factor)
		}
	}
}
