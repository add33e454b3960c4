package plain

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// GrantPerms returns the permissions of the catalogue that a grant gives and
// that can apply somewhere below its places.
func (g *Engine) GrantPerms(gr *model.Grant) access.Set {
	return g.SetPerms(g.GrantSets(gr))
}

// SetPerms returns the permissions of the catalogue that are in some set.
func (g *Engine) SetPerms(sets []model.Rights) access.Set {
	b := access.NewSet(len(g.Estate.Catalogue))
	for _, s := range sets {
		for _, d := range s.Do {
			if one, ok := d.Exact(); ok && len(s.Except) == 0 {
				if i, ok := g.index[one]; ok {
					b.Add(i)
				}
				continue
			}
			for i, c := range g.Estate.Catalogue {
				if !b.Has(i) && d.Matches(c.Permission) && s.Has(c.Permission) {
					b.Add(i)
				}
			}
		}
	}
	return b
}

// Holdings returns what reaches id through itself and its groups at time-less
// face value: conditions are not judged, unconditional refusals are taken out
// where they cover a whole grant.
func (g *Engine) Holdings(id model.ID) []access.Holding {
	closure := g.Closure(id)
	var out []access.Holding
	for _, s := range closure {
		for _, i := range g.grantsTo[s.ID] {
			gr := &g.Estate.Grants[i]
			h := access.Holding{Number: i, Grant: gr, Chain: s.Chain, Perms: g.GrantPerms(gr)}
			before := h.Perms.Count()
			g.block(&h, closure, id, gr)
			h.Blocked = before - h.Perms.Count()
			out = append(out, h)
		}
	}
	return out
}

// block removes from h what is refused on every place of the grant.
func (g *Engine) block(h *access.Holding, closure []access.Member, id model.ID, gr *model.Grant) {
	e := g.Estate
	covers := func(on []model.PathPattern) bool {
		for _, p := range gr.Where {
			if !model.PathPatternsContain(on, p) {
				return false
			}
		}
		return true
	}
	drop := func(refused func(p model.Permission) bool) {
		for i := range h.Perms.All() {
			if refused(e.Catalogue[i].Permission) {
				h.Perms.Remove(i)
			}
		}
	}
	for i := range e.Denials {
		d := &e.Denials[i]
		if d.When.IsZero() && meets(closure, d.To) >= 0 && meets(closure, d.Unless) < 0 && covers(d.Where) {
			drop(d.Has)
		}
	}
	for i := range e.Guardrails {
		r := &e.Guardrails[i]
		if meets(closure, r.Unless) < 0 && covers([]model.PathPattern{r.Node.Below()}) {
			drop(func(p model.Permission) bool { return !r.Has(p) })
		}
	}
	for _, i := range g.ceilingsOf[id] {
		c := &e.Ceilings[i]
		if !slices.ContainsFunc(gr.Where, func(p model.PathPattern) bool {
			return slices.ContainsFunc(c.Where, p.Overlaps)
		}) {
			drop(func(model.Permission) bool { return true })
			continue
		}
		drop(func(p model.Permission) bool { return !c.Has(p) })
	}
}
