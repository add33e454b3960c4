package main

import (
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestShapes: whatever way a life is written down, the same calls are allowed on a day; and logs that
// fail know less, and nothing else.
func TestShapes(t *testing.T) {
	day := days[1]
	w := worldOf(3)
	plain := live(w, 3)
	allowed := func(l *life) (out []bool) {
		x, err := index.Build(l.at(day))
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(l.calls); i += 7 {
			if c := l.calls[i]; c.day > day && c.day <= day+90 {
				d := x.Decide(l.who[c.who], l.perms[c.perm], c.path, model.Context{})
				out = append(out, d.Outcome == access.Allowed)
			}
		}
		return out
	}
	calls := func(l *life) (n int64) {
		for _, u := range l.uses(day) {
			n += u.Count
		}
		return n
	}
	want, all := allowed(plain), calls(plain)
	if len(want) < 100 || !slices.Contains(want, true) {
		t.Fatalf("%d calls, %d logged", len(want), all)
	}
	for _, as := range shapes {
		w.as = map[string]bool{as: true}
		l := *plain
		if l.known = w; as == "objects" || as == "renamed" { // its calls are others
			l = *live(w, 3)
		}
		if slices.Contains([]string{"sampled", "gaps", "outage", "paused", "stopped", "shed", "late"}, as) {
			if n := calls(&l); n >= all || n < all/4 {
				t.Errorf("%s: the log shows %d calls of %d", as, n, all)
			}
		} else if !slices.Equal(allowed(&l), want) {
			t.Errorf("%s: other calls are allowed", as)
		}
	}
}
