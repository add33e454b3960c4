package work

import (
	"slices"
	"testing"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
)

// terse is a source that has no conditions, and grants on whole nodes only.
type terse struct{ documents.Planner }

func (terse) Says(g *model.Grant) (why []string) {
	if !g.Condition().IsZero() {
		why = append(why, "it has no conditions")
	}
	for _, on := range g.Where {
		if !on.Deep() {
			why = append(why, "it grants on whole nodes only")
		}
	}
	return why
}

// TestCannot names the lines of a fence that a source has no words for.
func TestCannot(t *testing.T) {
	f := &fence.Fence{For: model.MustID("s:person/a")}
	for _, on := range []string{"/s/**", "/s/x"} {
		f.Allow = append(f.Allow, fence.Allow{Role: "r", Where: []model.PathPattern{model.MustPathPattern(on)}})
	}
	f.Allow[1].When.SecondFactor = true
	for _, tt := range []struct {
		p    source.Planner
		want []string
	}{
		{documents.Planner{}, nil},
		{terse{}, []string{"line 2 of allow: it has no conditions", "line 2 of allow: it grants on whole nodes only"}},
	} {
		if got := cannot(tt.p, f, "s"); !slices.Equal(got, tt.want) {
			t.Errorf("%T: %q, want %q", tt.p, got, tt.want)
		}
	}
}
