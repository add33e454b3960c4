package usage

import (
	"fmt"
	"testing"

	"clipfence/internal/core/model"
)

// TestJoined: gaps that meet or overlap are one, which is a part of the log only where each of
// them is.
func TestJoined(t *testing.T) {
	for _, tt := range []struct {
		gaps []Gap
		want string
	}{
		{nil, ""},
		{[]Gap{{From: 5, To: 6}, {From: 1, To: 2}}, "1-2 5-6 "},
		{[]Gap{{From: 3, To: 6}, {From: 1, To: 2}}, "1-6 "},
		{[]Gap{{From: 1, To: 9}, {From: 3, To: 4}}, "1-9 "},
		{[]Gap{{From: 1, To: 3, Partly: true}, {From: 3, To: 5, Partly: true}}, "1-5 partly "},
		{[]Gap{{From: 1, To: 3, Partly: true}, {From: 3, To: 5}}, "1-5 "},
		{[]Gap{{From: 1, To: 3}, {From: 4, To: 5, Partly: true}}, "1-5 "},
		{[]Gap{{From: 1, To: 3}, {From: 5, To: 5, Partly: true}}, "1-3 5-5 partly "},
	} {
		got := ""
		for _, g := range joined(tt.gaps) {
			if got += fmt.Sprintf("%d-%d ", g.From, g.To); g.Partly {
				got += "partly "
			}
		}
		if got != tt.want {
			t.Errorf("%v: %s, want %s", tt.gaps, got, tt.want)
		}
	}
}

// TestLostIsHeldAgainstBothSides: what callers show in a gap is held against the same weekdays
// before and after it, and not against the gap itself.
func TestLostIsHeldAgainstBothSides(t *testing.T) {
	const day = 20_000
	for _, tt := range []struct {
		name          string
		before, after int64 // calls a day of each
		want          bool
	}{
		{"as much before and after", 10, 10, true},
		{"little before, much after", 1, 30, true},
		{"much before, little after", 30, 1, true},
		{"little before and after", 2, 2, false},
	} {
		callers := map[model.ID]*perDay{}
		for i := range 6 {
			c := &perDay{}
			for d := Day(day - 60); d <= day+60; d++ {
				switch {
				case d < day:
					c.add(d, tt.before)
				case d > day+2:
					c.add(d, tt.after)
				default:
					c.add(d, 2)
				}
			}
			callers[model.MustID(fmt.Sprint("workload/w", i))] = c
		}
		p := &profile{first: day, count: []float64{12, 12, 12}, usual: []float64{90, 90, 90}}
		if got := p.lost(Gap{From: day, To: day + 2}, callers); got != tt.want {
			t.Errorf("%s: lost %t", tt.name, got)
		}
	}
}
