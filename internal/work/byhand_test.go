package work

import "testing"

// TestOneLine: whatever a name holds, it stays on its line of what is handed over, and is
// told from every other.
func TestOneLine(t *testing.T) {
	for _, tt := range []struct{ in, want string }{
		{"remove role r", "remove role r"},
		{"remove role a\n  2. remove role b", `remove role a\n  2. remove role b`},
		{`remove role "r"`, `remove role \"r\"`},
		{`remove role r"`, `remove role r\"`},
		{`remove role r\`, `remove role r\\`},
		{"remove role \x1b[2Jr\u202e", `remove role \x1b[2Jr\u202e`},
		{"", ""},
	} {
		if got := oneLine(tt.in); got != tt.want {
			t.Errorf("%q is written %s, want %s", tt.in, got, tt.want)
		}
	}
}
