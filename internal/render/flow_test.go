package render

import (
	"strings"
	"testing"
)

// TestFlow: lines break at blanks, nothing is lost, and no line is longer than its longest word
// makes it.
func TestFlow(t *testing.T) {
	for _, tt := range []struct {
		text  string
		width int
		want  string
	}{
		{"as long as it is", 0, "as long as it is"},
		{"as long as it is", 16, "as long as it is"},
		{"as long as it is", 8, "as long|as it is"},
		{"  ok   one two three", 14, "  ok   one two|       three"},
		{"  note risk: a b", 13, "  note risk:|       a b"},
		{"    four deep here", 10, "    four|    deep|    here"},
		{"see /a/very/long/path/of/it now", 10, "see|/a/very/long/path/of/it|now"},
		{"two  blanks kept", 12, "two  blanks|kept"},
	} {
		if got := strings.Join(flow(tt.text, tt.width), "|"); got != tt.want {
			t.Errorf("%q in %d cells: %q, want %q", tt.text, tt.width, got, tt.want)
		}
	}
}
