package cli

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/render"
)

// TestFit: bands are cut to the room there is, the longest first; what is left out is counted.
func TestFit(t *testing.T) {
	plain := render.Painter(false)
	for _, tt := range []struct {
		lens []int
		room int
		want []int // lines that are shown, with the one that counts the others
	}{
		{[]int{6, 5, 4}, 18, []int{6, 5, 4}},
		{[]int{6, 5, 4}, 17, []int{5, 5, 4}},
		{[]int{20, 3, 3}, 15, []int{6, 3, 3}},
		{[]int{20, 20, 20}, 15, []int{4, 4, 4}},
		{[]int{20, 20, 20}, 3, []int{3, 3, 3}}, // never less than two lines of each
		{[]int{1, 1, 1}, 0, []int{1, 1, 1}},
		{[]int{4}, 4, []int{3}},
	} {
		bands := make([][]string, len(tt.lens))
		for i, n := range tt.lens {
			for k := range n {
				bands[i] = append(bands[i], fmt.Sprintf("line %d", k))
			}
		}
		fit(bands, tt.room, plain)
		var got []int
		for i, b := range bands {
			got = append(got, len(b))
			last := b[len(b)-1]
			if cut := len(b) <= tt.lens[i] && strings.HasPrefix(last, "  ..."); cut {
				if want := fmt.Sprintf("  ... %s more (?)", render.Plural(tt.lens[i]-len(b)+1, "line")); last != want {
					t.Errorf("%v in %d: %q, want %q", tt.lens, tt.room, last, want)
				}
			} else if len(b) != tt.lens[i] {
				t.Errorf("%v in %d: band %d lost lines and does not say so", tt.lens, tt.room, i)
			}
		}
		if !slices.Equal(got, tt.want) {
			t.Errorf("%v in %d: %v, want %v", tt.lens, tt.room, got, tt.want)
		}
	}
}

// TestEnds: of a long path the end is shown, which tells it from others.
func TestEnds(t *testing.T) {
	for in, want := range map[string]string{
		"a/b:c on /m/p:1/q:2/box:x/**":      "a/b:c on …/box:x/**",
		"a/b:c on /m/box:x":                 "a/b:c on /m/box:x",
		"on /m/a:1/b:2/c:3, /m/a:1/b:2/d:4": "on …/b:2/c:3, …/b:2/d:4",
		"nothing":                           "nothing",
	} {
		if got := ends(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}

// TestFlowed: no line is longer than it may be, but for a single long word, and no word is lost.
func TestFlowed(t *testing.T) {
	text := "a bb ccc dddd eeeee " + strings.Repeat("x", 30) + " f"
	for width := 1; width < 40; width++ {
		lines := flowed(text, width)
		for _, l := range lines {
			if len(l) > width && strings.Contains(l, " ") {
				t.Errorf("%d: %q", width, l)
			}
		}
		if strings.Join(lines, " ") != text {
			t.Errorf("%d: %q", width, lines)
		}
	}
}
