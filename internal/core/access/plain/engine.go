package plain

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// An Engine answers questions about one estate, which must not change while the
// engine is in use. Its methods may be called from several goroutines.
type Engine struct {
	Estate *model.Estate

	index      map[model.Permission]int // into Estate.Catalogue
	groupsOf   map[model.ID][]model.ID
	membersOf  map[model.ID][]model.ID
	grantsTo   map[model.ID][]int
	actAsFrom  map[model.ID][]int
	ceilingsOf map[model.ID][]int
	roles      map[string]int
	roleSets   map[string][]model.Rights
	nodes      map[model.Path]int
	identities map[model.ID]int
}

// New indexes an estate. It does not validate it: references that lead nowhere
// give nothing.
func New(e *model.Estate) *Engine {
	g := &Engine{
		Estate:     e,
		index:      make(map[model.Permission]int, len(e.Catalogue)),
		groupsOf:   map[model.ID][]model.ID{},
		membersOf:  map[model.ID][]model.ID{},
		grantsTo:   map[model.ID][]int{},
		actAsFrom:  map[model.ID][]int{},
		ceilingsOf: map[model.ID][]int{},
		roles:      make(map[string]int, len(e.Roles)),
		roleSets:   make(map[string][]model.Rights, len(e.Roles)),
		nodes:      make(map[model.Path]int, len(e.Nodes)),
		identities: make(map[model.ID]int, len(e.Identities)),
	}
	for i, c := range e.Catalogue {
		g.index[c.Permission] = i
	}
	for i, n := range e.Nodes {
		g.nodes[n.Path] = i
	}
	for i, id := range e.Identities {
		g.identities[id.ID] = i
	}
	for _, m := range e.Memberships {
		g.groupsOf[m.Member] = append(g.groupsOf[m.Member], m.Group)
		g.membersOf[m.Group] = append(g.membersOf[m.Group], m.Member)
	}
	for i, gr := range e.Grants {
		g.grantsTo[gr.To] = append(g.grantsTo[gr.To], i)
	}
	for i, a := range e.ActAs {
		g.actAsFrom[a.From] = append(g.actAsFrom[a.From], i)
	}
	for i, c := range e.Ceilings {
		g.ceilingsOf[c.Of] = append(g.ceilingsOf[c.Of], i)
	}
	for i, r := range e.Roles {
		g.roles[r.Name] = i
	}
	for _, r := range e.Roles {
		g.roleSets[r.Name] = g.expand(r.Name, map[string]bool{})
	}
	return g
}

func (g *Engine) expand(role string, seen map[string]bool) []model.Rights {
	i, ok := g.roles[role]
	if !ok || seen[role] {
		return nil
	}
	seen[role] = true
	r := &g.Estate.Roles[i]
	sets := []model.Rights{r.Rights}
	for _, in := range r.Includes {
		sets = append(sets, g.expand(in, seen)...)
	}
	return sets
}

// RoleSets returns the rights of a role and of the roles it includes.
func (g *Engine) RoleSets(role string) []model.Rights { return g.roleSets[role] }

// GrantSets returns the rights that a grant gives; their union counts.
func (g *Engine) GrantSets(gr *model.Grant) []model.Rights {
	if gr.Role != "" {
		return g.roleSets[gr.Role]
	}
	return []model.Rights{gr.Rights}
}

// Entry returns what the catalogue knows about p.
func (g *Engine) Entry(p model.Permission) (model.CatalogueEntry, bool) {
	i, ok := g.index[p]
	if !ok {
		return model.CatalogueEntry{Permission: p}, false
	}
	return g.Estate.Catalogue[i], true
}

// Node returns the inventory's node at p.
func (g *Engine) Node(p model.Path) (model.Node, bool) {
	i, ok := g.nodes[p]
	if !ok {
		return model.Node{}, false
	}
	return g.Estate.Nodes[i], true
}

// Identity returns what the estate knows about id.
func (g *Engine) Identity(id model.ID) (model.Identity, bool) {
	i, ok := g.identities[id]
	if !ok {
		return model.Identity{ID: id}, false
	}
	return g.Estate.Identities[i], true
}

// GrantsTo returns the indexes of the grants made to exactly this identity.
func (g *Engine) GrantsTo(id model.ID) []int { return g.grantsTo[id] }

// MembersOf returns the direct members of a group.
func (g *Engine) MembersOf(id model.ID) []model.ID { return g.membersOf[id] }

// Closure returns the identity, its groups at any distance, signed-in if it has
// an account, and everyone. Chains are shortest; the order is breadth first.
func (g *Engine) Closure(id model.ID) []access.Member {
	out := []access.Member{{ID: id, Chain: []model.ID{id}}}
	seen := map[model.ID]bool{id: true}
	for i := 0; i < len(out); i++ {
		for _, up := range g.groupsOf[out[i].ID] {
			if !seen[up] {
				seen[up] = true
				out = append(out, access.Member{ID: up, Chain: append(slices.Clip(out[i].Chain), up)})
			}
		}
	}
	open := []model.ID{{Kind: model.Everyone}}
	switch id.Kind {
	case model.Person, model.Workload, model.External:
		open = []model.ID{{Kind: model.SignedIn}, {Kind: model.Everyone}}
	case model.SignedIn:
		open = []model.ID{{Kind: model.Everyone}}
	case model.Everyone:
		open = nil
	}
	for _, o := range open {
		if !seen[o] {
			out = append(out, access.Member{ID: o, Chain: []model.ID{id, o}})
		}
	}
	return out
}

// Decide answers whether id may use permission p at path in ctx. When ctx holds
// no labels, those of the inventory's node at path are used.
func (g *Engine) Decide(id model.ID, p model.Permission, path model.Path, ctx model.Context) access.Decision {
	if ctx.Labels == nil {
		if n, ok := g.Node(path); ok {
			if ctx.Labels = n.Labels; ctx.Labels == nil {
				ctx.Labels = map[string]string{}
			}
		}
	}
	closure := g.Closure(id)
	var d access.Decision
	for _, s := range closure {
		if slices.Contains(g.Estate.Semantics.Bypass, s.ID) {
			return access.Decision{Outcome: access.Allowed,
				Ways: []access.Way{{Chain: s.Chain, Met: model.True, Bypass: true}}}
		}
	}
	g.refusals(&d, closure, id, p, path, ctx)
	for _, s := range closure {
		for _, i := range g.grantsTo[s.ID] {
			gr := &g.Estate.Grants[i]
			if !gr.Covers(path) || !access.Has(g.GrantSets(gr), p) {
				continue
			}
			met, rest := gr.Condition().Eval(ctx)
			way := access.Way{Grant: gr, Chain: s.Chain, Met: met, Rest: rest}
			if met == model.False {
				d.Unmet = append(d.Unmet, way)
			} else {
				d.Ways = append(d.Ways, way)
			}
		}
	}
	d.Settle()
	return d
}

func (g *Engine) refusals(d *access.Decision, closure []access.Member, id model.ID, p model.Permission,
	path model.Path, ctx model.Context) {
	e := g.Estate
	for i := range e.Denials {
		dn := &e.Denials[i]
		at := meets(closure, dn.To)
		if at < 0 || meets(closure, dn.Unless) >= 0 || !dn.Has(p) || !anyMatches(dn.Where, path) {
			continue
		}
		if met, rest := dn.When.Eval(ctx); met != model.False {
			d.Refusals = append(d.Refusals, access.Denies(dn, closure[at].Chain, met, rest))
		}
	}
	for i := range e.Guardrails {
		gr := &e.Guardrails[i]
		if gr.Node.Covers(path) && !gr.Has(p) && meets(closure, gr.Unless) < 0 {
			d.Refusals = append(d.Refusals, access.Bars(gr))
		}
	}
	for _, i := range g.ceilingsOf[id] {
		c := &e.Ceilings[i]
		if !c.Has(p) || !anyMatches(c.Where, path) {
			d.Refusals = append(d.Refusals, access.Caps(c))
		}
	}
}

func meets(closure []access.Member, ids []model.ID) int {
	return slices.IndexFunc(closure, func(s access.Member) bool { return slices.Contains(ids, s.ID) })
}

func anyMatches(on []model.PathPattern, p model.Path) bool {
	return slices.ContainsFunc(on, func(o model.PathPattern) bool { return o.Matches(p) })
}

// Masks returns everybody whom id can act as, in any number of steps, nearest
// first. Conditions of the steps are left to the reader of Steps.
func (g *Engine) Masks(id model.ID) []access.Mask {
	var out []access.Mask
	seen := map[model.ID]bool{id: true}
	queue := []access.Mask{{ID: id}}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, s := range g.Closure(at.ID) {
			for _, i := range g.actAsFrom[s.ID] {
				a := &g.Estate.ActAs[i]
				if seen[a.To] {
					continue
				}
				seen[a.To] = true
				m := access.Mask{ID: a.To, Steps: append(slices.Clip(at.Steps), a)}
				out = append(out, m)
				queue = append(queue, m)
			}
		}
	}
	return out
}
