package main

import (
	"math"
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/model"
)

// TestJudged: a life is the same each time; hindsight breaks nothing and is all that can go,
// nothing done breaks and removes nothing; and drafts break less than half of what the
// narrowest break, the less the more caution there is.
func TestJudged(t *testing.T) {
	for _, name := range []string{"city", "hospital", "works"} {
		w := worldOf(3)
		w.hospital, w.works = name == "hospital", name == "works"
		t.Run(name, func(t *testing.T) { judgedLife(t, w) })
	}
}

func judgedLife(t *testing.T, w world) {
	l := live(w, 3)
	if other := live(w, 3); !slices.Equal(l.calls, other.calls) || len(l.calls) < 10_000 {
		t.Fatalf("two lives of one seed differ, or are short: %d and %d calls", len(l.calls), len(other.calls))
	}
	j, err := newJudged(l, days[1])
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name    string
		edit    func(*judged) (access.Edit, error)
		removed float64
	}{
		{"nothing", func(*judged) (access.Edit, error) { return access.Edit{}, nil }, 0},
		{"hindsight", func(j *judged) (access.Edit, error) { return j.hindsight(), nil }, 1},
	} {
		s, err := j.score(tt.edit)
		if err != nil || s.late+s.soon+s.triples != 0 || math.Abs(s.removed-tt.removed) > 1e-9 {
			t.Errorf("%s: %+v, %v", tt.name, s, err)
		}
	}
	last := score{late: math.Inf(1), removed: 1}
	for i, c := range []draft.Caution{1e-9, draft.Normal, draft.Careful} {
		edit, err := drafted(c)(j)
		if err != nil {
			t.Fatal(err)
		}
		s, err := j.score(func(*judged) (access.Edit, error) { return edit, nil })
		if err != nil {
			t.Fatal(err)
		}
		if c == draft.Normal {
			keptDrafts(t, edit, func(id string) model.ID {
				n, _ := j.x.GrantNamed(id)
				return j.x.Grant(n).To
			})
		}
		if i > 0 && s.removed < .75 || i == 1 && s.late > last.late/2 || s.late > last.late ||
			s.removed > last.removed {
			t.Errorf("caution %g: %+v after %+v", float64(c), s, last)
		}
		last = s
	}
}
