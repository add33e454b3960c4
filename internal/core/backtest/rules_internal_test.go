package backtest

import "testing"

// TestDigit: every digit becomes a 0, and nothing else.
func TestDigit(t *testing.T) {
	for r := rune(0); r < 0x300; r++ {
		want := r
		if r >= 0x30 && r < 0x3a {
			want = 0x30
		}
		if got := digit(r); got != want {
			t.Errorf("%q becomes %q", r, got)
		}
	}
}
