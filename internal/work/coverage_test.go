package work

import (
	"fmt"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestLateWords says of a log that is on why it covers too little, and what helps.
func TestLateWords(t *testing.T) {
	now := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	const shorter = "; or set window: %dd in clipfence.yaml, which shows less of what is done seldom"
	for _, tt := range []struct {
		first, keep, since int // days ago, days, days ago
		reads              []int
		want               string
	}{
		{200, 0, 0, nil, "survey: no log was read yet"},
		{200, 0, 0, []int{40}, "survey: it was last read 2026-10-15"},
		{200, 0, 60, []int{20}, "wait: it was switched on 2026-09-25"}, // that is the larger part
		{200, 0, 60, []int{31}, "survey: it was last read 2026-10-24"},
		{200, 0, 30, []int{0}, "wait: it was switched on 2026-10-25"},
		{200, 0, 30, []int{10, 1}, "wait: it was switched on 2026-10-25"},
		{200, 7, 0, []int{0}, "wait, and keep it 90 days: it is kept 7, and what came before was forgotten when it " +
			"was first read"},
		{200, 7, 3, []int{0}, "wait: it was switched on 2026-11-21"},
		{20, 0, 0, []int{0}, "wait: what was read begins 2026-11-04"},
		{75, 0, 0, []int{0}, "wait: what was read begins 2026-09-10" + fmt.Sprintf(shorter, 75)},
	} {
		r := model.CoverageRecord{Node: model.MustPath("/m"), Service: "s", LogClass: "read", Written: true,
			Keep: tt.keep}
		if tt.since > 0 {
			r.Since = ago(tt.since)
		}
		read := usage.Read{First: ago(tt.first)}
		for _, d := range tt.reads {
			read.Ends = append(read.Ends, ago(d))
		}
		if got := lateWords(usage.NewCoverage([]model.CoverageRecord{r}, read), r, usage.WindowOf(now, 90),
			90); got != tt.want {
			t.Errorf("%+v: %q, want %q", tt, got, tt.want)
		}
	}
}
