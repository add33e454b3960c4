package index

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// A Holding is one grant as it reaches an identity, with what it gives there after the
// layers that take away, as [engine.Holding] has it. Permissions are by number.
type Holding struct {
	Grant   *model.Grant
	Chain   []model.ID
	Perms   engine.Bits
	Blocked int // permissions of the grant that no layer lets through anywhere it reaches
}

// Holdings returns what reaches an identity through itself and its groups at face
// value: conditions are not judged, unconditional refusals are taken out where they
// cover a whole grant.
func (x *Index) Holdings(id model.ID) []Holding {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	var denials, rails []int
	for _, n := range s.ids {
		if n == none {
			continue
		}
		for d, j := x.denied.of(int(n)), 0; j < d.len(); j++ {
			i := int(d.at(j))
			if dn := x.denials.at(i); dn.When.IsZero() && s.meets(x.denialBut.of(i)) < 0 && !slices.Contains(denials, i) {
				denials = append(denials, i)
			}
		}
	}
	for i := range x.railSet.len() {
		if s.meets(x.railBut.of(i)) < 0 {
			rails = append(rails, i)
		}
	}
	var out []Holding
	last := none
	for at, n := range s.ids {
		if n == none {
			continue
		}
		given := x.given.of(int(n))
		for j := 0; j < given.len(); j += givenWidth {
			g := given.at(j + givenGrant)
			if g == last { // by another place
				continue
			}
			last = g
			h := Holding{Grant: x.grants.at(int(g)), Chain: x.chain(s, id, at), Perms: make(engine.Bits, x.words())}
			x.bits(given.at(j+givenSet), h.Perms)
			before := h.Perms.Count()
			x.block(&h, s, denials, rails)
			h.Blocked = before - h.Perms.Count()
			out = append(out, h)
		}
	}
	return out
}

// block takes out of a holding what is refused on every place of the grant.
func (x *Index) block(h *Holding, s *scratch, denials, rails []int) {
	covers := func(on []model.PathPattern) bool {
		return !slices.ContainsFunc(h.Grant.Where, func(p model.PathPattern) bool { return !model.PathPatternsContain(on, p) })
	}
	set := make(engine.Bits, x.words())
	drop := func(n uint32) {
		clear(set)
		x.bits(n, set)
		h.Perms.AndNot(set)
	}
	for _, i := range denials {
		if covers(x.denials.at(i).Where) {
			drop(x.denialSet.at(i))
		}
	}
	for _, i := range rails {
		node := x.guardrails.at(i).Node
		if !slices.ContainsFunc(h.Grant.Where, func(p model.PathPattern) bool { at, ok := p.Anchor(); return !ok || !node.Covers(at) }) {
			drop(x.railSet.at(i))
		}
	}
	if s.ids[0] == none {
		return
	}
	for of, j := x.ceilings.of(int(s.ids[0])), 0; j < of.len(); j++ {
		c := x.ceils.at(int(of.at(j)))
		if !slices.ContainsFunc(h.Grant.Where, func(p model.PathPattern) bool { return slices.ContainsFunc(c.Where, p.Overlaps) }) {
			clear(h.Perms)
			return
		}
		clear(set)
		x.bits(x.ceilSet.at(int(of.at(j))), set)
		h.Perms.And(set)
	}
}

// An Access is what one identity may do at a path: whatever the call, and only under
// conditions. The two are disjoint, and by number.
type Access struct {
	Identity             int
	Certain, Conditional engine.Bits
}

// Into returns what everybody but groups may do at a path, in the order of their
// numbers.
func (x *Index) Into(path model.Path) []Access {
	s := x.scratch()
	defer x.pool.Put(s)
	if s.crowd == nil {
		s.crowd = newCrowd(x.ids.len())
	}
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
		return Access{Identity: -1, Certain: make(engine.Bits, x.words()), Conditional: make(engine.Bits, x.words())}
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
	a := Access{Identity: int(id), Certain: make(engine.Bits, words), Conditional: make(engine.Bits, words)}
	for _, n := range s.ids {
		if n != none && x.bypasses(n) {
			for i, l := range x.permLevel {
				if l != hole {
					a.Certain.Set(i)
				}
			}
			return a
		}
	}
	refused, perhaps := make(engine.Bits, words), make(engine.Bits, words)
	x.onHere(s, func(_ int, grant, set uint32) {
		met := model.True
		if x.grantKind[grant] != always {
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
		admitted := make(engine.Bits, words)
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
	for i := int(n); i < int(x.nodeEnd.at(int(n))); i++ {
		if x.real(i) {
			seg := x.nodeSeg.at(i)
			k := seg[:max(0, bytes.IndexByte(seg, ':'))]
			if !out[string(k)] {
				out[string(k)] = true
			}
		}
	}
	return out
}

// Within returns how many nodes of the inventory the places of a grant hold.
func (x *Index) Within(on []model.PathPattern) int {
	var spans []span
	for _, p := range on {
		i, ok := x.find(p)
		if !ok {
			continue
		}
		for list, j := x.span.of(i), 0; j < list.len(); j++ {
			spans = append(spans, span{x.spanFrom.at(int(list.at(j))), x.spanTo.at(int(list.at(j)))})
		}
	}
	slices.SortFunc(spans, func(a, b span) int { return int(a.from) - int(b.from) })
	n, at := 0, uint32(0)
	for _, s := range spans {
		if s.to > at {
			n += int(s.to - max(s.from, at))
			at = s.to
		}
	}
	return n
}

// find returns the number of a place.
func (x *Index) find(p model.PathPattern) (int, bool) {
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
		if p := x.Path(i); len(on) == 0 || slices.ContainsFunc(on, func(o model.PathPattern) bool { return o.Matches(p) }) {
			yield(p)
		}
	}
}

// NearMisses returns what comes closest to allowing a call that nothing grants, as
// [engine.Engine.NearMisses] does.
func (x *Index) NearMisses(id model.ID, p model.Permission, path model.Path) []engine.Near {
	s := x.scratch()
	node, same := x.nearest(path)
	x.mark(s, path, node, same)
	x.closure(s, id)
	perm, listed := x.holds(p)
	in := map[uint32]bool{}
	var out []engine.Near
	last := none
	for _, n := range s.ids {
		if n == none {
			continue
		}
		in[n] = true
		given := x.given.of(int(n))
		for j := 0; j < given.len(); j += givenWidth {
			g := given.at(j + givenGrant)
			if g == last || listed && !x.has(given.at(j+givenSet), perm) || !listed && !engine.Has(x.rights(x.grants.at(int(g))), p) {
				continue
			}
			last = g
			if gr := x.grants.at(int(g)); !gr.Covers(path) {
				out = append(out, engine.Near{Grant: gr, Depth: engine.Shared(gr.Where, path)})
			}
		}
	}
	x.pool.Put(s)
	slices.SortStableFunc(out, func(a, b engine.Near) int { return b.Depth - a.Depth })
	for _, h := range x.who(p, path, true) {
		if h.Outcome == engine.Allowed && x.kind(uint32(h.Identity)) == model.Group && !in[uint32(h.Identity)] && x.idRecord.at(h.Identity) != none {
			out = append(out, engine.Near{Group: x.ID(h.Identity)})
		}
	}
	return out
}

// Like returns an identity whose name is or begins with that of one that is not known.
func (x *Index) Like(id model.ID) (model.ID, bool) {
	for i := range x.ids.len() {
		text := string(x.ids.at(i))
		if x.idRecord.at(i) == none || !strings.Contains(text, id.Name) && !strings.HasPrefix(text, id.String()) {
			continue
		}
		if o := x.ID(i); o.Name == id.Name || o.Kind == id.Kind && len(id.Name) > 3 && strings.HasPrefix(o.Name, id.Name) {
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
	if s.crowd == nil {
		s.crowd = newCrowd(x.ids.len())
	}
	into := map[int][]*model.ActAs{}
	for i := range x.actAs.texts.len() {
		a := x.actAs.at(i)
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
