package risk

import (
	"testing"
	"time"

	"clipfence/internal/core/usage"
)

// TestDated: which names of folders are over when their day, month or year is.
func TestDated(t *testing.T) {
	day := func(s string) time.Time {
		at, err := time.Parse(time.DateOnly, s)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	const now = "2026-11-24"
	year := []string{"2026-02-01", "2026-11-20"}
	for _, c := range []struct {
		name string
		used []string
		want bool
	}{
		{"2026", year, true},
		{"2025", year, true}, // of the year before, until next year
		{"2027", year, true},
		{"2024", year, false}, // an archive
		{"2028", year, false},
		{"s17", year, false},
		{"v2", year, false},
		{"20260", year, false}, // a number of five digits is no date
		{"budget-2026-final", year, true},
		{"logs_202611", year, true},
		{"logs_202613", year, false}, // no month
		{"2026-11", year, true},
		{"20261124", year, true},
		{"20261144", year, false},
		{"20261124T101500", year, true},
		{"20261124101500", year, true},
		{"FY27", year, true},
		{"fy-26", year, true},
		{"fy21", year, false},
		{"27", year, false},
		{"26", year, true},
		{"26", []string{"2025-11-25", "2026-11-20"}, false}, // it was that in two years
		{"x26", year, false},
		{"11", year, false}, // it was that in other months
		{"11", []string{"2026-11-02", "2026-11-20"}, true},
		{"M11", []string{"2026-11-02", "2026-11-20"}, true},
		{"november", []string{"2026-11-02", "2026-11-20"}, true},
		{"Nov", []string{"2026-11-02", "2026-11-20"}, true},
		{"oct", []string{"2026-11-02", "2026-11-20"}, false},
		{"nov", []string{"2025-11-26", "2026-11-20"}, false},
		{"03", []string{"2026-03-02", "2026-03-20"}, true},
		{"3", []string{"2026-03-02", "2026-03-20"}, true},
		{"q4", []string{"2026-10-02", "2026-11-20"}, true},
		{"Q4", []string{"2026-09-30", "2026-11-20"}, false},
		{"q3", []string{"2026-10-02", "2026-11-20"}, false},
		{"q4-close", year, false},
		{"w47", []string{"2026-11-16", "2026-11-20"}, true},
		{"47", []string{"2026-11-16", "2026-11-20"}, true},
		{"w47", []string{"2026-11-13", "2026-11-20"}, false},
		{"20", []string{"2026-11-20"}, true},
		{"20", []string{"2026-11-19", "2026-11-20"}, false},
		{"reports", year, false},
		{"", year, false},
		{"2026", nil, true},
		{"11", nil, false},
	} {
		var used []time.Time
		for _, s := range c.used {
			used = append(used, day(s))
		}
		if got := Dated(c.name, usage.DaysOf(used...), usage.DayOf(day(now))); got != c.want {
			t.Errorf("%q, used on %v: %t", c.name, c.used, got)
		}
	}
}

// TestTurning: which names are over soon, and another one comes in their place.
func TestTurning(t *testing.T) {
	day := func(text string) usage.Day {
		at, err := time.Parse(time.DateOnly, text)
		if err != nil {
			t.Fatal(err)
		}
		return usage.DayOf(at)
	}
	for _, c := range []struct {
		name, day string
		want      bool
	}{
		{"sales_2026", "2026-11-24", true},
		{"sales_2026", "2026-10-03", true}, // 90 days on is the first of January
		{"sales_2026", "2026-10-02", false},
		{"sales_2026", "2027-01-02", false}, // it is over
		{"sales_2027", "2026-11-24", false},
		{"2026", "2026-12-31", true},
		{"audit2-2026", "2026-11-24", true},
		{"case-2026-0417", "2026-11-24", false}, // one of many of the year
		{"log-2026-11", "2026-11-24", true},
		{"log-2026-11", "2026-12-24", true},
		{"log-2026-11", "2027-01-01", false},
		{"log-2026-12", "2027-01-31", true},
		{"log-2026-02", "2026-03-31", true},
		{"log-2026-02", "2026-04-01", false},
		{"log-2026-11-24", "2026-11-24", true},
		{"log-2026-13", "2026-11-24", false},
		{"log202611", "2026-11-24", true},
		{"log_20261101", "2026-11-24", true},
		{"log_20261001", "2026-11-24", true},
		{"log_20260901", "2026-11-24", false},
		{"box-11", "2026-11-24", false},
		{"plain", "2026-11-24", false},
		{"", "2026-11-24", false},
	} {
		if got := turning(c.name, day(c.day)); got != c.want {
			t.Errorf("%q on %s: %t", c.name, c.day, got)
		}
	}
}
