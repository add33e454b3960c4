package escalate

import (
	"slices"
	"sync"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// Closure returns everybody whom an identity can become by any number of steps, itself
// first, and whether that is anybody at all; then nobody else is listed.
func (g *Graph) Closure(id int) (become []int, anybody bool) {
	seen := map[int]bool{id: true}
	become = []int{id}
	for i := 0; i < len(become); i++ {
		s := g.saturate(become[i])
		if s.anybody != nil {
			return become[:1], true
		}
		for _, b := range s.becomes {
			if !seen[b.to] {
				seen[b.to] = true
				become = append(become, b.to)
			}
		}
	}
	slices.Sort(become[1:])
	return become, false
}

// Administering returns those who are or can make themselves administrators of a top node.
func (g *Graph) Administering() []int {
	var out []int
	g.all()
	for _, id := range g.people {
		s := g.saturate(id)
		if slices.ContainsFunc(g.tops, func(top int) bool { return s.admin[top] != nil }) {
			out = append(out, id)
		}
	}
	return out
}

// Everyone returns every known identity but groups that can sign in, and the open crowds.
func (g *Graph) Everyone() []int { return g.people }

// Own returns what an identity has that gives itself what it can without becoming another,
// as what a walk counts besides what it is granted; of several, as a member of a group each,
// all together count.
func (g *Graph) Own(id int) []index.Extra { return g.OwnInside(id, g.x.Everything()) }

// OwnInside returns what Own does, as far as it counts in a region: what an identity can give
// itself on no node of it may be missing.
func (g *Graph) OwnInside(id int, region index.Region) []index.Extra {
	s := g.saturate(id)
	who := g.x.ID(id)
	g.liftAll(who, s)
	e := index.Extra{Ceilings: s.lifts[0] != nil, Guardrails: s.lifts[1] != nil}
	for denial := range s.denials {
		if e.Denials == nil {
			e.Denials = map[string]bool{}
		}
		e.Denials[denial] = true
	}
	for place := range s.admin {
		e.Spans = append(e.Spans, g.x.SpansOf(g.places[place].Below())...)
	}
	as := []index.Extra{e}
	if s.joined != nil {
		for _, group := range g.groups {
			e.Group = &group
			as = append(as, e)
		}
	}
	// Grants can be edited on more nodes than those that lead further, and roles on the
	// places that one has them on.
	var more []uint32
	w := g.editing()
	defer g.editors.Put(w)
	roles := false
	region = g.x.Upward(region)
	for _, e := range as {
		for _, p := range w.PiecesInside(who, e, region) {
			for perm := range p.Permissions() {
				if kinds := g.edits[perm]; kinds != nil {
					for _, r := range region.Within(p.From, p.To) {
						more = append(more, g.x.Below(int(r.From), int(r.To), kinds)...)
					}
				}
				roles = roles || g.roleEdits.Has(perm) && g.atTop(&p, perm)
			}
		}
	}
	if roles {
		given := g.x.Given(who)
		for _, e := range as[1:] {
			given = append(given, g.x.Given(g.x.ID(*e.Group))...)
		}
		for _, n := range given {
			if gr := g.x.Grant(n); !g.without[n] && !g.x.Builtin(gr) {
				more = append(more, g.x.SpansWhere(n)...)
			}
		}
	}
	slices.Sort(more)
	more = slices.Compact(more)
	for i := range as {
		as[i].Spans = slices.Concat(as[i].Spans, more)
	}
	// A group that gives nothing beyond what one can give oneself, and that nothing spares,
	// is no way of its own.
	everything := g.x.RegionOf(as[0].Spans)
	return slices.DeleteFunc(as, func(e index.Extra) bool {
		return e.Group != nil && !slices.Contains(g.spared, *e.Group) &&
			len(g.groupRegion(*e.Group).AndNot(everything)) == 0
	})
}

// groupRegion returns the nodes on which a group is granted anything.
func (g *Graph) groupRegion(group int) index.Region {
	g.mu.Lock()
	defer g.mu.Unlock()
	r, ok := g.ofGroups[group]
	if !ok {
		var spans []uint32
		for _, n := range g.x.Given(g.x.ID(group)) {
			if !g.x.Grant(n).To.Open() {
				spans = append(spans, g.x.SpansWhere(n)...)
			}
		}
		r = g.x.RegionOf(spans)
		if g.ofGroups == nil {
			g.ofGroups = map[int]index.Region{}
		}
		g.ofGroups[group] = r
	}
	return r
}

// liftAll takes away every denial that an identity can, also those that stand against no
// step of it.
func (g *Graph) liftAll(who model.ID, s *state) {
	if len(g.unDeny) == 0 {
		return
	}
	for before := -1; before != len(s.denials); {
		before = len(s.denials)
		for d := range g.x.Denials() {
			if s.denials[d.ID] == nil && (s.joined != nil ||
				slices.ContainsFunc(d.To, func(to model.ID) bool { return g.x.In(who, to) })) {
				g.lift(who, d.ID, s)
			}
		}
	}
}

// atTop reports whether a permission of a piece can be used on a top node in it.
func (g *Graph) atTop(p *index.Piece, perm int) bool {
	return slices.ContainsFunc(g.tops, func(top int) bool {
		n, ok := g.x.NodeNumber(g.places[top])
		return ok && p.From <= n && n < p.To && applies(g.x.Permission(perm), g.places[top])
	})
}

// lazily is what a graph works out when it is first asked what somebody has.
type lazily struct {
	once      sync.Once
	edits     map[int][]int // of each permission that edits grants, the kinds of node on which it does
	roleEdits access.Set    // permissions that edit roles
	editors   sync.Pool     // of walks over both
	mu        sync.Mutex
	ofGroups  map[int]index.Region
}

// editing returns a walk over what edits grants and roles only, which is put back into editors.
func (g *Graph) editing() *index.Walk {
	g.once.Do(func() {
		g.edits, g.roleEdits = map[int][]int{}, g.x.NewSet()
		for i := range g.x.Numbers() {
			switch c := g.x.Permission(i); c.Escalates {
			case model.EditGrants:
				g.edits[i] = g.x.KindNumbers(func(kind string) bool { return appliesTo(c, kind) })
			case model.EditRole:
				g.roleEdits.Add(i)
			}
		}
	})
	if w, ok := g.editors.Get().(*index.Walk); ok {
		return w
	}
	some := g.roleEdits.Clone()
	for i := range g.edits {
		some.Add(i)
	}
	w := g.x.NewWalk(index.Possible)
	w.Only(some, model.Path{})
	return w
}
