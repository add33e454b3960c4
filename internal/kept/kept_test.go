package kept

import (
	"strings"
	"testing"
)

// TestDigest: what is said of a case is kept part by part, so that a change is told where it is.
func TestDigest(t *testing.T) {
	const text = "first\n# some grants\ng1\ng2\n# findings\nf1"
	was := strings.Fields(digest("case7", text))
	var names []string
	for _, f := range was {
		name, _, _ := strings.Cut(f, "=")
		names = append(names, name)
	}
	if got := strings.Join(names, " "); got != "case7 text some-grants findings" {
		t.Errorf("the parts are %q", got)
	}
	for change, part := range map[string]int{"first": 1, "g2": 2, "f1": 3} {
		now := strings.Fields(digest("case7", strings.Replace(text, change, change+"!", 1)))
		for i := range was {
			if (was[i] != now[i]) != (i == part) {
				t.Errorf("%s is another: %v, was %v", change, now, was)
			}
		}
	}
	if got := digest("c", "# one\nx"); !strings.HasPrefix(got, "c one=") {
		t.Errorf("a text that begins with a part: %q", got)
	}
}
