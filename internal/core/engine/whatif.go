package engine

import (
	"slices"

	"clipfence/internal/core/model"
)

// A Removal names what an estate is to be thought without.
type Removal struct {
	Grants      []string
	Roles       []string
	Memberships []model.Membership
	Identities  []model.ID
}

// Without returns the estate as it would be without some of its records. A grant of a
// role that goes gives nothing; an identity that goes takes its grants, memberships
// and act-as edges with it.
func Without(e *model.Estate, r Removal) *model.Estate {
	out := *e
	gone := func(id model.ID) bool { return slices.Contains(r.Identities, id) }
	out.Identities = slices.DeleteFunc(slices.Clone(e.Identities), func(i model.Identity) bool { return gone(i.ID) })
	out.Memberships = slices.DeleteFunc(slices.Clone(e.Memberships), func(m model.Membership) bool {
		return gone(m.Member) || gone(m.Group) || slices.ContainsFunc(r.Memberships, func(x model.Membership) bool { return x.Member == m.Member && x.Group == m.Group })
	})
	out.ActAs = slices.DeleteFunc(slices.Clone(e.ActAs), func(a model.ActAs) bool { return gone(a.From) || gone(a.To) })
	out.Roles = slices.DeleteFunc(slices.Clone(e.Roles), func(x model.Role) bool { return slices.Contains(r.Roles, x.Name) })
	out.Grants = slices.DeleteFunc(slices.Clone(e.Grants), func(g model.Grant) bool {
		return slices.Contains(r.Grants, g.ID) || gone(g.To) || g.Role != "" && slices.Contains(r.Roles, g.Role)
	})
	return &out
}

// A Place is a permission on a path pattern, and the grant that gives it.
type Place struct {
	Permission int // index into the catalogue
	Where      model.PathPattern
	Grant      *model.Grant
	Left       []model.PathPattern // of a lost one: where in it the permission is still there
}

// A Difference is what becomes of one identity's access between two estates. What
// goes and something else still gives is in Stays, with the grant that does.
type Difference struct {
	Lost   []Place
	Gained []Place
	Stays  []Place
}

// Compare says what an identity has before and not after, and the other way round, by
// containment of patterns, so that it holds for names nobody has seen yet. Both
// engines must share a catalogue. Denials, guardrails and ceilings count where they
// take a whole grant's permission away.
func Compare(before, after *Engine, id model.ID) Difference {
	had, has := places(before, id), places(after, id)
	var d Difference
	for _, p := range had {
		same := func(q Place) bool {
			return q.Permission == p.Permission && q.Grant.ID == p.Grant.ID && q.Where == p.Where
		}
		if slices.ContainsFunc(has, same) {
			continue
		}
		if by := given(has, p); by != nil {
			d.Stays = append(d.Stays, Place{Permission: p.Permission, Where: p.Where, Grant: by})
			continue
		}
		for _, q := range has {
			if q.Permission == p.Permission && q.Where.Overlaps(p.Where) && !slices.Contains(p.Left, q.Where) {
				p.Left = append(p.Left, q.Where)
			}
		}
		d.Lost = append(d.Lost, p)
	}
	for _, p := range has {
		if given(had, p) == nil {
			d.Gained = append(d.Gained, p)
		}
	}
	return d
}

func places(g *Engine, id model.ID) []Place {
	var out []Place
	for _, h := range g.Holdings(id) {
		gr := &g.Estate.Grants[h.Grant]
		for p := range h.Perms.All() {
			for _, on := range gr.Where {
				out = append(out, Place{Permission: p, Where: on, Grant: gr})
			}
		}
	}
	return out
}

// given returns a grant of the list that, with others, gives a place at least under
// the conditions under which it was given; nil when they do not.
func given(list []Place, p Place) *model.Grant {
	var on []model.PathPattern
	var by *model.Grant
	cond := p.Grant.Condition()
	for _, q := range list {
		if q.Permission == p.Permission && cond.Implies(q.Grant.Condition()) {
			on = append(on, q.Where)
			if by == nil || q.Where.Contains(p.Where) {
				by = q.Grant
			}
		}
	}
	if model.PathPatternsContain(on, p.Where) {
		return by
	}
	return nil
}

// A Near is one step that would turn a refusal into an allowance.
type Near struct {
	Grant *model.Grant // gives the permission elsewhere, or is given to a group
	Group model.ID     // whoever joins it may
	Depth int          // of the place that the grant and the path share
}

// Shared returns the depth of the deepest node that a path and one of some places lie
// under.
func Shared(on []model.PathPattern, path model.Path) int {
	depth := 0
	for _, p := range on {
		if at, ok := p.Anchor(); ok {
			for up, more := path, true; more; up, more = up.Parent() {
				if up.Covers(at) {
					depth = max(depth, up.Depth())
					break
				}
			}
		}
	}
	return depth
}

// NearMisses returns what comes closest to allowing a call that nothing grants:
// grants that give the permission to this identity on other places, nearest first, and
// groups whose members may.
func (g *Engine) NearMisses(id model.ID, p model.Permission, path model.Path) []Near {
	var out []Near
	closure := g.Closure(id)
	for _, s := range closure {
		for _, i := range g.grantsTo[s.ID] {
			gr := &g.Estate.Grants[i]
			if gr.Covers(path) || !Has(g.GrantSets(gr), p) {
				continue
			}
			out = append(out, Near{Grant: gr, Depth: Shared(gr.Where, path)})
		}
	}
	slices.SortStableFunc(out, func(a, b Near) int { return b.Depth - a.Depth })
	for _, i := range g.Estate.Identities {
		if i.ID.Kind == model.Group && !slices.ContainsFunc(closure, func(s Standing) bool { return s.ID == i.ID }) && g.Decide(i.ID, p, path, model.Context{}).Outcome == Allowed {
			out = append(out, Near{Group: i.ID})
		}
	}
	return out
}
