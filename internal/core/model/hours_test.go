package model_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"clipfence/internal/core/model"
)

// TestTimes: of calls of which only hours and weekdays are known hours hold for sure when they hold
// for each call that there may have been, do not when they hold for none, and else it is open;
// zones that turn their clocks, by half an hour too, included.
func TestTimes(t *testing.T) {
	zones := []string{"UTC", "Europe/Oslo", "Asia/Kolkata", "America/St_Johns", "Pacific/Chatham",
		"Australia/Lord_Howe", "America/Los_Angeles"}
	clocks := []string{"00:00", "06:00", "08:00", "08:30", "12:00", "17:00", "17:45", "22:00"}
	days := []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}
	seen := map[model.Truth]int{}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 9))
		h := &model.Hours{From: clocks[r.IntN(len(clocks))], To: clocks[r.IntN(len(clocks))],
			Zone: zones[r.IntN(len(zones))]}
		for i, d := range days {
			if r.IntN(3) > 0 || i == 0 {
				h.Days = append(h.Days, d)
			}
		}
		at := time.Date(2026, time.Month(1+r.IntN(12)), 1+r.IntN(28), 0, 0, 0, 0, time.UTC)
		x := model.Times{First: at.AddDate(1, 0, 0)}
		hours := []int{r.IntN(24)}
		for range r.IntN(3) {
			hours = append(hours, (hours[0]+r.IntN(8))%24)
		}
		long := 1 + r.IntN(3)*r.IntN(60)
		var calls []time.Time
		for range 1 + r.IntN(8) {
			c := at.AddDate(0, 0, r.IntN(long)).Add(time.Duration(hours[r.IntN(len(hours))])*time.Hour +
				time.Duration(r.IntN(3600))*time.Second)
			calls = append(calls, c)
			x.Hours |= 1 << c.Hour()
			x.Weekdays |= 1 << int(c.Weekday())
			if c.Before(x.First) {
				x.First = c
			}
			if c.After(x.Last) {
				x.Last = c
			}
		}
		got, rest := model.Condition{Hours: h}.Eval(model.Context{Times: x})
		seen[got]++
		if (got == model.Open) != (rest.Hours != nil) {
			t.Errorf("seed %d: %v, and %v is left", seed, got, rest)
		}
		for _, c := range calls {
			if one := h.Hold(c); got == model.True && !one || got == model.False && one {
				t.Errorf("seed %d: %+v at %s is %t, and of all it is said: %v", seed, *h, c, one, got)
			}
		}
		// What is open is so since what is known allows both: each whole hour is looked at.
		if got == model.Open && h.Zone == "UTC" {
			in, out := false, false
			for d := range 7 {
				for hour := range 24 {
					for _, m := range []int{0, 29, 30, 44, 45, 59} {
						c := time.Date(2026, 3, 1+d, hour, m, 0, 0, time.UTC)
						if x.Hours>>hour&1 == 1 && x.Weekdays>>int(c.Weekday())&1 == 1 {
							in, out = in || h.Hold(c), out || !h.Hold(c)
						}
					}
				}
			}
			if !in || !out {
				t.Errorf("seed %d: %+v is open of %+v, inside %t, outside %t", seed, *h, x, in, out)
			}
		}
	}
	if seen[model.True] < 50 || seen[model.False] < 50 || seen[model.Open] < 50 {
		t.Errorf("too few of some: %v", seen)
	}
	h := &model.Hours{Days: days, From: "00:00", To: "00:00", Zone: "UTC"}
	for _, x := range []model.Times{{}, {Hours: 1}, {Weekdays: 1}} {
		if got, _ := (model.Condition{Hours: h}).Eval(model.Context{Times: x}); got != model.Open {
			t.Errorf("of %+v nothing is known, and it is %v", x, got)
		}
	}
	whole := model.Times{First: time.Unix(0, 0), Last: time.Unix(1e6, 0), Hours: 1<<24 - 1, Weekdays: 1<<7 - 1}
	if got, _ := (model.Condition{Hours: h}).Eval(model.Context{Times: whole}); got != model.True {
		t.Errorf("all day, every day: %v", got)
	}
	h.Zone = "Nowhere/At_All"
	if got, _ := (model.Condition{Hours: h}).Eval(model.Context{Times: whole}); got == model.True {
		t.Error("hours that do not validate hold")
	}
}

// TestHoursSaid: what is said of weekdays is short.
func TestHoursSaid(t *testing.T) {
	for _, tt := range []struct {
		days []string
		want string
	}{
		{[]string{"mon", "tue", "wed", "thu", "fri"}, "mon to fri 08:00-17:00 UTC"},
		{[]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}, "every day 08:00-17:00 UTC"},
		{[]string{"sat", "sun"}, "sat, sun 08:00-17:00 UTC"},
		{[]string{"mon"}, "mon 08:00-17:00 UTC"},
		{[]string{"fri", "sat", "sun", "mon"}, "mon, fri to sun 08:00-17:00 UTC"},
		{[]string{"mon", "wed", "fri"}, "mon, wed, fri 08:00-17:00 UTC"},
		{[]string{"sun"}, "sun 08:00-17:00 UTC"},
		{[]string{"mon", "tue", "sun"}, "mon, tue, sun 08:00-17:00 UTC"},
	} {
		h := model.Hours{Days: tt.days, From: "08:00", To: "17:00", Zone: "UTC"}
		if got := h.String(); got != tt.want {
			t.Errorf("%q, want %q", got, tt.want)
		}
	}
}

// TestNights: of hours over midnight each part belongs to the day on which they began.
func TestNights(t *testing.T) {
	days := []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}
	for i, d := range days {
		h := model.Hours{Days: []string{d}, From: "22:00", To: "06:00", Zone: "UTC"}
		for day := range 7 {
			for hour := range 24 {
				at := time.Date(2026, 11, 22+day, hour, 30, 0, 0, time.UTC) // the 22nd is a Sunday
				want := day == i && hour >= 22 || day == (i+1)%7 && hour < 6
				if h.Hold(at) != want {
					t.Errorf("nights from %s hold at %s: %t", d, at.Format("Mon 15:04"), !want)
				}
			}
		}
	}
}
