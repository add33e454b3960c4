package usage_test

import (
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestBegan: a log that is there now says nothing of the time before it began; one that began a few days late still
// answers for a window, and of what was before the first log of all nothing is known of any.
func TestBegan(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	at := func(name string) model.Path { return model.MustPath("/m/project:" + name) }
	var records []model.CoverageRecord
	for _, r := range []struct {
		name    string
		written bool
		since   time.Time
	}{{"always", true, time.Time{}}, {"never", false, ago(50)}, {"lately", true, ago(50)},
		{"long-since", true, ago(200)}, {"before", true, ago(900)}} {
		records = append(records, model.CoverageRecord{Node: at(r.name), Service: "s", LogClass: "read",
			Written: r.written, Since: r.since})
	}
	c := usage.NewCoverage(records, usage.Read{First: ago(400), Ends: []time.Time{now}, Until: now})
	for _, tt := range []struct {
		at, class string
		until     int // days ago a window of 90 days ends
		want      bool
	}{
		{"always", "read", 120, false}, {"never", "read", 120, false}, {"unheard-of", "read", 120, false},
		{"lately", "put", 120, false}, {"before", "read", 390, false},
		{"lately", "read", 120, true}, {"lately", "read", 51, true}, {"lately", "read", 0, true},
		{"long-since", "read", 201, true}, {"long-since", "read", 150, true}, {"long-since", "read", 115, true},
		{"long-since", "read", 114, false}, {"long-since", "read", 0, false},
	} {
		w := usage.WindowOf(ago(tt.until), 90)
		if got := c.Began(at(tt.at).Child("box", "b"), "s", tt.class, w); got != tt.want {
			t.Errorf("%s, %s, as of %d days ago: began too late: %t", tt.at, tt.class, tt.until, got)
		}
	}
	if !c.Later(ago(120))("s", "read") || c.Later(ago(120))("s", "put") || c.Later(ago(49))("s", "read") {
		t.Error("it is not told of which services and classes a log began later")
	}
}
