package model

import (
	"fmt"
	"regexp"
	"strconv"
	"time"
)

// A Duration is written like 90d, 4h, 59m or 30s.
type Duration time.Duration

var durationText = regexp.MustCompile(`^([0-9]{1,6})([dhms])$`)

// longest is the longest duration that is taken: a hundred years.
const longest = 36_525 * 24 * time.Hour

// ParseDuration reads a duration, of a second to a hundred years.
func ParseDuration(s string) (Duration, error) {
	m := durationText.FindStringSubmatch(s)
	if m == nil {
		return 0, fmt.Errorf("duration %q is not like 90d, 4h, 59m or 30s", s)
	}
	n, err := strconv.Atoi(m[1])
	if err != nil || n == 0 {
		return 0, fmt.Errorf("duration %q is not positive", s)
	}
	unit := map[string]time.Duration{"d": 24 * time.Hour, "h": time.Hour, "m": time.Minute, "s": time.Second}[m[2]]
	if n > int(longest/unit) {
		return 0, fmt.Errorf("duration %q is longer than %s, which nobody means", s, Duration(longest))
	}
	return Duration(time.Duration(n) * unit), nil
}

// UnmarshalText reads what ParseDuration does.
func (d *Duration) UnmarshalText(b []byte) (err error) {
	*d, err = ParseDuration(string(b))
	return err
}

// MarshalText writes the shortest form.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// String writes the shortest form.
func (d Duration) String() string {
	t := time.Duration(d)
	for _, u := range []struct {
		unit time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}} {
		if t >= u.unit && t%u.unit == 0 {
			return strconv.Itoa(int(t/u.unit)) + u.name
		}
	}
	return strconv.Itoa(int(t/time.Second)) + "s"
}
