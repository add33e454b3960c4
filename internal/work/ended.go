package work

import (
	"fmt"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// What is over
//
// A source may go on listing a grant after its end, as it does a step into another identity, or a
// denial. Nobody has anything by it, so nobody is told that they have. What was done by it in its time
// it still explains, and whoever asks what could be done then gets an answer of then.

// inForce returns a source with what is in force at a time, and what is named in but besides.
func (s *Source) inForce(at time.Time, but ...string) *Source {
	out := *s
	out.listed, out.at = s.Listed(), at
	out.Index = out.listed.InForce(at, but...)
	return &out
}

// Listed returns what the source lists, whether it is over or not.
func (s *Source) Listed() *index.Index {
	if s.listed != nil {
		return s.listed
	}
	return s.Index
}

// Over returns the grants to some that are over and still listed, the last to end first.
func (s *Source) Over(to func(model.ID) bool) []Ending {
	out := []Ending{}
	for g := range s.Listed().Ended(s.at) {
		if to(g.To) {
			out = append(out, Ending{g.ID, g.To, g.Condition().Until.UTC()})
		}
	}
	slices.SortStableFunc(out, func(a, b Ending) int { return b.Until.Compare(a.Until) })
	return out
}

// OverFor returns the grants to an identity, and to groups that it is in, that are over and still listed.
func (s *Source) OverFor(id model.ID) []Ending {
	return s.Over(func(to model.ID) bool { return to == id || s.In(id, to) })
}

// DecideCall decides one call. Of one whose time is told what was, or will be, in force then counts. Of
// any other grants that would allow it and are over stand among those that do not hold.
func (s *Source) DecideCall(id model.ID, p model.Permission, path model.Path, c model.Context) access.Decision {
	if !c.Time.IsZero() {
		return s.Listed().Decide(id, p, path, c)
	}
	out := s.Decide(id, p, path, c)
	if s.Listed() != s.Index {
		c.Time = s.at
		for _, way := range s.Listed().Decide(id, p, path, c).Unmet {
			if end := way.Grant.Condition().Until; !end.IsZero() && !s.at.Before(end) {
				out.Unmet = append(out.Unmet, way)
			}
		}
	}
	return out
}

// explainedBy reports whether a use began while something allowed it that an index lists, over or not.
func explainedBy(x *index.Index, u *usage.Use, at model.Path) bool {
	d := x.Decide(u.Principal(), u.Permission, at, u.Context())
	return d.Outcome != access.Denied && (len(d.Ways) == 0 || slices.ContainsFunc(d.Ways, func(way access.Way) bool {
		end := way.Grant.Condition().Until
		return end.IsZero() || u.First.Before(end)
	}))
}

// as returns a source as it would be.
func (s *Source) as(d access.Edit) (*Source, error) {
	x, err := s.Listed().With(d)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", s.Name, err)
	}
	out := *s
	out.Index, out.listed = x, nil
	return out.inForce(s.at), nil
}
