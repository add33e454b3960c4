package index

import (
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// Holdings returns what reaches an identity through itself and its groups at face
// value: conditions are not judged, unconditional refusals are taken out where they
// cover a whole grant.
func (x *Index) Holdings(id model.ID) []access.Holding {
	var out []access.Holding
	x.eachHolding(id, nil, nil, func(s *scratch, at int, h *access.Holding) {
		one := *h
		one.Chain, one.Perms = x.chain(s, id, at), h.Perms.Clone()
		out = append(out, one)
	})
	return out
}

// EachHolding yields what [Index.Holdings] returns, one after another and without chains. A
// holding and its permissions are of no use after yield returns, and nobody may change them.
func (x *Index) EachHolding(id model.ID, yield func(h *access.Holding)) {
	x.eachHolding(id, nil, nil, func(_ *scratch, _ int, h *access.Holding) { yield(h) })
}

// EachHoldingOf yields those of [Index.EachHolding] that are by grants of interest, by their numbers: the others are
// not looked at.
func (x *Index) EachHoldingOf(id model.ID, of func(grant int) bool, yield func(h *access.Holding)) {
	x.eachHolding(id, nil, of, func(_ *scratch, _ int, h *access.Holding) { yield(h) })
}

// eachHolding yields the holdings of an identity; some, if there is one, says which grants to
// somebody are of interest, and of, if there is one, whether a grant is.
func (x *Index) eachHolding(id model.ID, some func(n uint32) []uint32, of func(grant int) bool,
	yield func(s *scratch, at int, h *access.Holding)) {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	above, loose := map[model.Path][]int{}, []int(nil)
	denials := func() { // once there is a grant of interest
		// A place lies inside one that is anchored at or above its own anchor, or nowhere.
		for _, i := range x.binding(s) {
			for _, on := range x.denials.at(i).Where {
				if at, ok := on.Anchor(); !ok {
					loose = append(loose, i)
				} else if l := above[at]; len(l) == 0 || l[len(l)-1] != i {
					above[at] = append(l, i)
				}
			}
		}
	}
	var near []int
	var h access.Holding
	own, set := x.NewSet(), x.NewSet() // to work with
	last := none
	for at, n := range s.ids {
		if n == none {
			continue
		}
		list := s.hits[:0]
		if some != nil {
			for _, g := range some(n) {
				list = append(list, hit{grant: g})
			}
		} else {
			for given, j := x.given.of(int(n)), 0; j < given.len(); j += givenWidth {
				list = append(list, hit{grant: given.at(j + givenGrant)})
			}
		}
		s.hits = list
		for _, one := range list {
			g := one.grant
			if g == last { // by another place
				continue
			}
			last = g
			if of != nil && !of(int(g)) {
				continue
			}
			if denials != nil {
				denials()
				denials = nil
			}
			h.Number, h.Grant, h.Blocked = int(g), x.grants.at(int(g)), 0
			h.Perms = x.SharedPerms(int(g)) // until something is taken out of it
			near = append(near[:0], loose...)
			if len(h.Grant.Where) > 0 && len(above) > 0 {
				up, ok := h.Grant.Where[0].Anchor()
				for ; ok; up, ok = up.Parent() {
					near = append(near, above[up]...)
				}
			}
			before := 0
			changed := x.block(&h, s, near, set, func() {
				before = h.Perms.Count()
				copy(own, h.Perms)
				h.Perms = own
			})
			if changed {
				h.Blocked = before - h.Perms.Count()
			}
			yield(s, at, &h)
		}
	}
}

// binding returns the denials that hold whoever has a closure, whatever the call.
func (x *Index) binding(s *scratch) (denials []int) {
	for _, n := range s.ids {
		if n == none {
			continue
		}
		for d, j := x.denied.of(int(n)), 0; j < d.len(); j++ {
			i := int(d.at(j))
			if dn := x.denials.at(i); dn.When.IsZero() && s.meets(x.denialBut.of(i)) < 0 &&
				!slices.Contains(denials, i) {
				denials = append(denials, i)
			}
		}
	}
	return denials
}

// railsAbove yields the guardrails at a node and above it.
func (x *Index) railsAbove(at model.Path, yield func(i int)) {
	x.rails.once.Do(func() {
		x.rails.by = map[model.Path][]int{}
		for i := range x.railSet.len() {
			if x.railSet.at(i) != none {
				node := x.guardrails.at(i).Node
				x.rails.by[node] = append(x.rails.by[node], i)
			}
		}
	})
	if len(x.rails.by) == 0 {
		return
	}
	for up, ok := at, true; ok; up, ok = up.Parent() {
		for _, i := range x.rails.by[up] {
			yield(i)
		}
	}
}

// block takes out of a holding what is refused on every place of the grant, and reports
// whether anything may have been. begin is told before the first is.
func (x *Index) block(h *access.Holding, s *scratch, denials []int, set access.Set, begin func()) (changed bool) {
	start := func() {
		if !changed {
			changed = true
			begin()
		}
	}
	drop := func(n uint32) {
		start()
		clear(set)
		x.bits(n, set)
		h.Perms.AndNot(set)
	}
	for _, i := range denials {
		where := x.denials.at(i).Where
		if !slices.ContainsFunc(h.Grant.Where,
			func(p model.PathPattern) bool { return !model.PathPatternsContain(where, p) }) {
			drop(x.denialSet.at(i))
		}
	}
	if len(h.Grant.Where) > 0 {
		if at, ok := h.Grant.Where[0].Anchor(); ok {
			x.railsAbove(at, func(i int) {
				node := x.guardrails.at(i).Node
				if s.meets(x.railBut.of(i)) < 0 && !slices.ContainsFunc(h.Grant.Where[1:],
					func(p model.PathPattern) bool { at, ok := p.Anchor(); return !ok || !node.Covers(at) }) {
					drop(x.railSet.at(i))
				}
			})
		}
	}
	if s.ids[0] == none {
		return changed
	}
	for of, j := x.ceilings.of(int(s.ids[0])), 0; j < of.len(); j++ {
		c := x.ceils.at(int(of.at(j)))
		start()
		if !slices.ContainsFunc(h.Grant.Where, func(p model.PathPattern) bool {
			return slices.ContainsFunc(c.Where, p.Overlaps)
		}) {
			clear(h.Perms)
			return true
		}
		clear(set)
		x.bits(x.ceilSet.at(int(of.at(j))), set)
		h.Perms.And(set)
	}
	return changed
}

// An Access is what one identity may do at a path: whatever the call, and only under
// conditions. The two are disjoint, and by number.
type Access struct {
	Identity             int
	Certain, Conditional access.Set
}

// Into returns what everybody but groups may do at a path, in the order of their
// numbers.
func (x *Index) Into(path model.Path) []Access {
	s := x.scratch()
	defer x.pool.Put(s)
	s.crowd = crowdOf(s.crowd, x.Identities())
	node, same := x.nearest(path)
	ctx := model.Context{}
	ctx.Labels, _ = x.labelsOf(node, same)
	x.mark(s, path, node, same)
	c := s.crowd
	c.begin()
	for _, m := range s.matched {
		for grants, j := x.onPlace.of(int(m)), 0; j < grants.len(); j++ {
			for _, id := range x.below(c, x.grantTo.at(int(grants.at(j)))) {
				c.allow(id, 1)
			}
		}
	}
	for _, i := range x.masters {
		for _, id := range x.below(c, i) {
			c.allow(id, 1)
		}
	}
	var ids []uint32
	c.each(func(id uint32) {
		if x.kind(id) != model.Group {
			ids = append(ids, id)
		}
		c.allowed[id] = 0
	})
	clear(c.some)
	var out []Access
	for _, id := range ids {
		a := x.effective(s, id, ctx)
		if a.Certain.Count()+a.Conditional.Count() > 0 {
			out = append(out, a)
		}
	}
	return out
}

// mark finds the places that match a path.
func (x *Index) mark(s *scratch, path model.Path, node uint32, same bool) {
	x.matching(path, node, same, func(place int) {
		s.place[place] = s.stamp
		s.matched = append(s.matched, uint32(place))
	})
}

// Effective returns what an identity may do at a path.
func (x *Index) Effective(id model.ID, path model.Path) Access {
	n, ok := x.Number(id)
	if !ok { // what any like it may
		n, ok = x.Number(model.ID{Kind: crowds(id.Kind)[0]})
	}
	if !ok {
		return Access{Identity: -1, Certain: make(access.Set, x.words()), Conditional: make(access.Set, x.words())}
	}
	s := x.scratch()
	defer x.pool.Put(s)
	node, same := x.nearest(path)
	ctx := model.Context{}
	ctx.Labels, _ = x.labelsOf(node, same)
	x.mark(s, path, node, same)
	return x.effective(s, uint32(n), ctx)
}

// effective sums up the rules on the marked places for one identity.
func (x *Index) effective(s *scratch, id uint32, ctx model.Context) Access {
	x.closureOf(s, id, x.kind(id))
	words := x.words()
	a := Access{Identity: int(id), Certain: make(access.Set, words), Conditional: make(access.Set, words)}
	for _, n := range s.ids {
		if n != none && x.bypasses(n) {
			for i, l := range x.permLevel {
				if l != hole {
					a.Certain.Add(i)
				}
			}
			return a
		}
	}
	refused, perhaps := make(access.Set, words), make(access.Set, words)
	x.onHere(s, func(_ int, grant, set uint32) {
		met := model.True
		if x.grantKind.at(int(grant)) != always {
			met, _ = x.grants.at(int(grant)).Condition().Eval(ctx)
		}
		switch met {
		case model.True:
			x.bits(set, a.Certain)
		case model.Open:
			x.bits(set, a.Conditional)
		}
	})
	for _, i := range x.on(s, &x.denialOn) {
		if s.meets(x.denialTo.of(int(i))) < 0 || s.meets(x.denialBut.of(int(i))) >= 0 {
			continue
		}
		switch met, _ := x.denials.at(int(i)).When.Eval(ctx); met {
		case model.True:
			x.bits(x.denialSet.at(int(i)), refused)
		case model.Open:
			x.bits(x.denialSet.at(int(i)), perhaps)
		}
	}
	for _, i := range x.on(s, &x.railsAt) {
		if s.meets(x.railBut.of(int(i))) < 0 {
			x.bits(x.railSet.at(int(i)), refused)
		}
	}
	for of, j := x.ceilings.of(int(id)), 0; j < of.len(); j++ {
		c := int(of.at(j))
		if !x.covers(s, x.ceilOn.of(c)) {
			clear(a.Certain)
			clear(a.Conditional)
			return a
		}
		admitted := make(access.Set, words)
		x.bits(x.ceilSet.at(c), admitted)
		for i, v := range admitted {
			refused[i] |= ^v
		}
	}
	a.Certain.AndNot(refused)
	a.Conditional.AndNot(refused)
	for i := range a.Certain { // what a condition may refuse is only perhaps allowed
		a.Conditional[i] = (a.Conditional[i] | a.Certain[i]&perhaps[i]) &^ (a.Certain[i] &^ perhaps[i])
		a.Certain[i] &^= perhaps[i]
	}
	return a
}

// SameRules returns a key that two paths share if the same rules hold on both, so that
// what was answered for one need not be asked for the other.
func (x *Index) SameRules(path model.Path) string {
	s := x.scratch()
	defer x.pool.Put(s)
	node, same := x.nearest(path)
	x.mark(s, path, node, same)
	labels, known := x.labelsOf(node, same)
	return fmt.Sprintf("%d %q %t", s.matched, labels, known)
}

// Kinds returns the kinds of the nodes of the inventory at a path and below it, and the
// kind of the path itself.
func (x *Index) Kinds(path model.Path) map[string]bool {
	out := map[string]bool{}
	kind, _ := path.Last()
	for up, ok := path.Parent(); kind == "" && ok; up, ok = up.Parent() {
		kind, _ = up.Last() // the path continues the name of a node above it
	}
	out[kind] = true
	n, same := x.nearest(path)
	if !same {
		return out
	}
	for k := range x.kindNames.len() {
		if x.rank(k, x.nodeEnd.at(int(n))) > x.rank(k, n) {
			out[string(x.kindNames.at(k))] = true
		}
	}
	return out
}

// Held returns how many nodes of the inventory the places of a grant hold.
func (x *Index) Held(on []model.PathPattern) int { return x.CountClass(0, x.Region(on...)) }

// find returns the number of a place.
func (x *Index) find(p model.PathPattern) (int, bool) {
	if x.more != nil {
		if i, ok := x.more.placeAt.get(p); ok {
			return int(i), true
		}
	}
	node := none
	if at, ok := p.Anchor(); ok {
		n, same := x.nearest(at)
		if !same {
			return 0, false
		}
		node = n
	}
	for i := x.firstPlace(node); i < x.placeNode.len() && x.placeNode.at(i) == node; i++ {
		if x.place(i) == p {
			return i, true
		}
	}
	return 0, false
}

// NodesLike yields the paths of the inventory that one of some patterns matches.
func (x *Index) NodesLike(on []model.PathPattern, yield func(model.Path)) {
	for i := range x.nodeParent.len() {
		if !x.real(i) {
			continue
		}
		if p := x.Path(i); len(on) == 0 || slices.ContainsFunc(on,
			func(o model.PathPattern) bool { return o.Matches(p) }) {
			yield(p)
		}
	}
}

// NearMisses returns what comes closest to allowing a call that nothing grants, as
// [plain.Engine.NearMisses] does.
func (x *Index) NearMisses(id model.ID, p model.Permission, path model.Path) []access.Near {
	s := x.scratch()
	node, same := x.nearest(path)
	x.mark(s, path, node, same)
	x.closure(s, id)
	perm, listed := x.holds(p)
	in := map[uint32]bool{}
	var out []access.Near
	last := none
	for _, n := range s.ids {
		if n == none {
			continue
		}
		in[n] = true
		given := x.given.of(int(n))
		for j := 0; j < given.len(); j += givenWidth {
			g := given.at(j + givenGrant)
			if g == last || listed && !x.has(given.at(j+givenSet), perm) || !listed &&
				!access.Has(x.rights(x.grants.at(int(g))), p) {
				continue
			}
			last = g
			if gr := x.grants.at(int(g)); !gr.Covers(path) {
				out = append(out, access.Near{Grant: gr, Depth: access.Shared(gr.Where, path)})
			}
		}
	}
	x.pool.Put(s)
	slices.SortStableFunc(out, func(a, b access.Near) int { return b.Depth - a.Depth })
	for _, h := range x.who(p, path, true) {
		if h.Outcome == access.Allowed && x.kind(uint32(h.Identity)) == model.Group && !in[uint32(h.Identity)] &&
			x.idRecord.at(h.Identity) != none {
			out = append(out, access.Near{Group: x.ID(h.Identity)})
		}
	}
	return out
}

// Like returns an identity whose name is or begins with that of one that is not known.
func (x *Index) Like(id model.ID) (model.ID, bool) {
	for i := range x.Identities() {
		if x.idRecord.at(i) == none {
			continue
		}
		if i < x.ids.len() { // without reading it, whether it may be one
			if text := string(x.ids.at(i)); !strings.Contains(text, id.Name) && !strings.HasPrefix(text, id.String()) {
				continue
			}
		}
		if o := x.ID(i); o.Name == id.Name || o.Kind == id.Kind && len(id.Name) > 3 &&
			strings.HasPrefix(o.Name, id.Name) {
			return o, true
		}
	}
	return model.ID{}, false
}

// An Actor is somebody who can act as another, with the steps that lead there.
type Actor struct {
	Identity int
	Steps    []*model.ActAs // from the actor on
	As       int            // whom it acts as in the end
}

// Actors returns everybody but groups who can act as one of some identities, in any
// number of steps, nearest first; those identities themselves are left out.
func (x *Index) Actors(targets []int) []Actor {
	s := x.scratch()
	defer x.pool.Put(s)
	s.crowd = crowdOf(s.crowd, x.Identities())
	into := map[int][]*model.ActAs{}
	for a := range x.Edges() {
		if to, ok := x.Number(a.To); ok {
			into[to] = append(into[to], a)
		}
	}
	seen := map[int]bool{}
	queue := make([]Actor, 0, len(targets))
	for _, t := range targets {
		seen[t] = true
		queue = append(queue, Actor{t, nil, t})
	}
	var out []Actor
	for i := 0; i < len(queue); i++ {
		at := queue[i]
		for _, a := range into[at.Identity] {
			from, ok := x.Number(a.From)
			if !ok {
				continue
			}
			s.crowd.begin()
			for _, id := range x.below(s.crowd, uint32(from)) {
				if seen[int(id)] {
					continue
				}
				seen[int(id)] = true
				next := Actor{int(id), append([]*model.ActAs{a}, at.Steps...), at.As}
				queue = append(queue, next)
				if x.kind(id) != model.Group {
					out = append(out, next)
				}
			}
		}
	}
	return out
}

// Listed returns how many nodes of the inventory are from one number to another.
func (x *Index) Listed(from, to int) int {
	return int(x.realBefore.at(to) - x.realBefore.at(from))
}

// Scopes calls yield with the nodes of the inventory right below one that have nodes
// below themselves.
func (x *Index) Scopes(under model.Path, yield func(model.Path)) {
	n, same := x.nearest(under)
	if !same {
		return
	}
	for i := int(n) + 1; i < int(x.nodeEnd.at(int(n))); {
		end := int(x.nodeEnd.at(i))
		if x.real(i) && x.Listed(i, end) > 1 {
			yield(x.Path(i))
		}
		i = end
	}
}
