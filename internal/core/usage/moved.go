package usage

import (
	"slices"

	"clipfence/internal/core/model"
)

// A Moved node is called otherwise now, or lies elsewhere, than earlier days of the logs say: it and all that
// is below it.
type Moved struct {
	From model.Path `json:"from" doc:"the node as earlier calls in the logs name it"`
	To   model.Path `json:"to" doc:"the same node as the estate lists it now"`
}

// Moves are all that is said to have moved.
type Moves []Moved

// Now returns where a path lies now. What moved twice is told in two steps.
func (m Moves) Now(p model.Path) model.Path {
	for range m { // each at most once, whatever they say in a circle
		at := -1
		for i, one := range m { // the deepest node above it counts
			if one.From.Covers(p) && (at < 0 || one.From.Depth() > m[at].From.Depth()) {
				at = i
			}
		}
		if at < 0 {
			break
		}
		p = p.Moved(m[at].From, m[at].To)
	}
	return p
}

// Before returns where a path may have lain before.
func (m Moves) Before(p model.Path) []model.Path {
	all := []model.Path{p}
	for i := 0; i < len(all) && i <= len(m); i++ {
		for _, one := range m {
			if !one.To.Covers(all[i]) {
				continue
			}
			if was := all[i].Moved(one.To, one.From); !slices.Contains(all, was) {
				all = append(all, was)
			}
		}
	}
	return all[1:]
}
