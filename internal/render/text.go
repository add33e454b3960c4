package render

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
)

// Clean makes text safe to show on a terminal: control characters, invalid UTF-8
// and the marks that turn the direction of text are shown as escapes.
func Clean(s string) string {
	ok := true
	for _, r := range s {
		if unsafe(r) {
			ok = false
			break
		}
	}
	if ok {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n <= 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case unsafe(r):
			q := strconv.QuoteRuneToASCII(r)
			b.WriteString(q[1 : len(q)-1])
		default:
			b.WriteRune(r)
		}
		i += n
	}
	return b.String()
}

func unsafe(r rune) bool {
	return unicode.IsControl(r) || r == utf8.RuneError || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029'
}

// Cut shortens text to a width in terminal cells, ending it in "…".
func Cut(s string, width int) string {
	if lipgloss.Width(s) <= width {
		return s
	}
	if width < 2 {
		return "…"
	}
	var b strings.Builder
	w := 0
	for _, r := range s {
		rw := lipgloss.Width(string(r))
		if w+rw > width-1 {
			break
		}
		b.WriteRune(r)
		w += rw
	}
	return b.String() + "…"
}

// cutMiddle shortens a path or name from its middle, where it says least.
func cutMiddle(s string, width int) string {
	if lipgloss.Width(s) <= width {
		return s
	}
	rs := []rune(s)
	if width < 8 || len(rs) < width {
		return Cut(s, width)
	}
	tail := (width - 1) * 2 / 3
	return string(rs[:width-1-tail]) + "…" + string(rs[len(rs)-tail:])
}

// Count writes a whole number with commas, such as 1,291.
func Count[N int | int64](n N) string {
	s := strconv.FormatInt(int64(n), 10)
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	if neg {
		s = "-" + s
	}
	return s
}

// Plural writes a count with its noun, such as "1 grant" or "3 grants".
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if l := len(noun); l > 1 && noun[l-1] == 'y' && !strings.ContainsRune("aeiou", rune(noun[l-2])) {
		return Count(n) + " " + noun[:len(noun)-1] + "ies"
	}
	return Count(n) + " " + noun + "s"
}

// Day writes a day as people say it, seen from now: today, yesterday, or a date.
func Day(t, now time.Time) string {
	if t.IsZero() {
		return "never"
	}
	d := t.UTC().Format(time.DateOnly)
	switch d {
	case now.UTC().Format(time.DateOnly):
		return "today"
	case now.UTC().AddDate(0, 0, -1).Format(time.DateOnly):
		return "yesterday"
	}
	return d
}

// Percent writes a share from 0 to 1, never rounding up to 100 % or down to 0 %.
func Percent(share float64) string {
	p := int(share*100 + 0.5)
	if p >= 100 && share < 1 {
		p = 99
	}
	if p <= 0 && share > 0 {
		p = 1
	}
	return fmt.Sprintf("%d %%", p)
}
