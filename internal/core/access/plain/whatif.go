package plain

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// NearMisses returns what comes closest to allowing a call that nothing grants:
// grants that give the permission to this identity on other places, nearest first, and
// groups whose members may.
func (g *Engine) NearMisses(id model.ID, p model.Permission, path model.Path) []access.Near {
	var out []access.Near
	closure := g.Closure(id)
	for _, s := range closure {
		for _, i := range g.grantsTo[s.ID] {
			gr := &g.Estate.Grants[i]
			if gr.Covers(path) || !access.Has(g.GrantSets(gr), p) {
				continue
			}
			out = append(out, access.Near{Grant: gr, Depth: access.Shared(gr.Where, path)})
		}
	}
	slices.SortStableFunc(out, func(a, b access.Near) int { return b.Depth - a.Depth })
	for _, i := range g.Estate.Identities {
		if i.ID.Kind == model.Group && !slices.ContainsFunc(closure,
			func(s access.Member) bool { return s.ID == i.ID }) &&
			g.Decide(i.ID, p, path, model.Context{}).Outcome == access.Allowed {
			out = append(out, access.Near{Group: i.ID})
		}
	}
	return out
}
