package auditlog

import (
	"fmt"
	"time"
)

// ParseTime reads a time as RFC 3339 writes it, with or without a 'T', in
// milliseconds since 1970. The form that most logs use is read without help from
// package time.
func ParseTime(b []byte) (int64, error) {
	if ms, ok := plainTime(b); ok {
		return bounded(ms)
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00",
		"2006-01-02 15:04:05.999999999 MST", "2006-01-02T15:04:05.999999999-0700",
		"2006-01-02 15:04:05.999999999-07"} {
		if t, err := time.Parse(layout, string(b)); err == nil {
			if z, off := t.Zone(); off == 0 && z != "UTC" && z != "GMT" && z != "" &&
				layout == "2006-01-02 15:04:05.999999999 MST" {
				// A zone by its abbreviation alone: package time only knows its own.
				return 0, fmt.Errorf("time %.40q: the zone %q does not say how far it is from UTC; log in UTC", b, z)
			}
			return bounded(t.UnixMilli())
		}
	}
	return 0, fmt.Errorf("time %.40q is not RFC 3339", b)
}

func bounded(ms int64) (int64, error) {
	if ms < Earliest || ms > Latest {
		return 0, fmt.Errorf("time %s is not between 1990 and 2200", time.UnixMilli(ms).UTC().Format(time.RFC3339))
	}
	return ms, nil
}

// plainTime reads 2006-01-02T15:04:05 with an optional fraction, and a Z.
func plainTime(b []byte) (int64, bool) {
	if len(b) < 20 || b[4] != '-' || b[7] != '-' || b[10] != 'T' || b[13] != ':' || b[16] != ':' ||
		b[len(b)-1] != 'Z' {
		return 0, false
	}
	num := func(from, to int) int {
		n := 0
		for _, c := range b[from:to] {
			if c < '0' || c > '9' {
				return -1
			}
			n = 10*n + int(c-'0')
		}
		return n
	}
	y, m, d, h, mi, s := num(0, 4), num(5, 7), num(8, 10), num(11, 13), num(14, 16), num(17, 19)
	if y < 1 || m < 1 || m > 12 || d < 1 || d > 31 || h < 0 || h > 23 || mi < 0 || mi > 59 || s < 0 || s > 59 {
		return 0, false
	}
	ms := 0
	if frac := b[19 : len(b)-1]; len(frac) > 0 {
		if frac[0] != '.' || len(frac) < 2 {
			return 0, false
		}
		for i, scale := 1, 100; i < len(frac); i, scale = i+1, scale/10 {
			if frac[i] < '0' || frac[i] > '9' {
				return 0, false
			}
			ms += int(frac[i]-'0') * scale
		}
	}
	// Days since 1970-01-01 in the proleptic Gregorian calendar (H. Hinnant,
	// "chrono-compatible low-level date algorithms").
	if m <= 2 {
		y--
	}
	era := y / 400
	yoe := y - era*400
	mp := (m + 9) % 12
	doy := (153*mp+2)/5 + d - 1
	days := era*146097 + yoe*365 + yoe/4 - yoe/100 + doy - 719468
	return ((int64(days)*24+int64(h))*60+int64(mi))*60_000 + int64(s)*1000 + int64(ms), lastDay(num(0, 4), m) >= d
}

func lastDay(y, m int) int {
	switch m {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}
