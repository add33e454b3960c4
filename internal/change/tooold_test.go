package change_test

import (
	"strings"
	"testing"
	"time"

	"clipfence/internal/change"
)

// TestTooOld: an age is told in the unit that one would say it in.
func TestTooOld(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		age  time.Duration
		most time.Duration
		want string // "": fits
	}{
		{time.Hour, time.Hour, ""},
		{time.Hour + time.Second, time.Hour, "1h old; at most 1h"},
		{119*time.Minute + 59*time.Second, time.Hour, "119m old; at most 1h"},
		{2*time.Hour + 59*time.Minute, time.Hour, "2h old"},
		{47*time.Hour + 59*time.Minute, 24 * time.Hour, "47h old; at most 1d"},
		{48 * time.Hour, 24 * time.Hour, "2d old"},
		{12*24*time.Hour + 7*time.Hour, 24 * time.Hour, "12d old"},
		{-time.Minute, time.Hour, ""},
		{-time.Hour, time.Hour, "which is to come; a clock is wrong"},
	} {
		got := change.TooOld(now.Add(-tt.age), now, tt.most)
		if (got == "") != (tt.want == "") || !strings.Contains(got, tt.want) {
			t.Errorf("%s old, %s allowed: %q, want %q", tt.age, tt.most, got, tt.want)
		}
	}
}
