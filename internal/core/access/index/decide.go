package index

import (
	"cmp"
	"iter"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// scratch is what one question at a time marks its way with.
type scratch struct {
	stamp   uint32   // of the question
	round   uint32   // of the closure
	place   []uint32 // stamp of the last question that a place matched in
	seen    []uint32 // the same of identities; of a closure
	pos     []uint32 // where in the closure
	ids     []uint32 // the closure; none for an identity that nothing names
	from    []int32  // where in the closure the step began; -1 for the first
	matched []uint32 // places
	rules   []uint32
	hits    []hit
	crowd   *crowd // of Who
}

type hit struct{ at, grant uint32 }

// fit sees to it that there is room for what an index has. What was for another view stays: no question
// has its stamp any more.
func (s *scratch) fit(x *Index) {
	s.place = room(s.place, x.places())
	s.seen, s.pos = room(s.seen, x.Identities()), room(s.pos, x.Identities())
}

// room returns a list with so many numbers at least, those that come being 0.
func room(list []uint32, n int) []uint32 {
	if len(list) >= n {
		return list
	}
	return append(list, make([]uint32, n-len(list))...)
}

func (x *Index) scratch() *scratch {
	s := x.pool.Get().(*scratch)
	s.fit(x)
	if s.stamp++; s.stamp == 0 { // after four billion
		clear(s.place)
		s.stamp = 1
	}
	s.matched, s.rules, s.hits = s.matched[:0], s.rules[:0], s.hits[:0]
	return s
}

func (s *scratch) join(id uint32, from int) {
	if id != none {
		if s.seen[id] == s.round {
			return
		}
		s.seen[id], s.pos[id] = s.round, uint32(len(s.ids))
	}
	s.ids, s.from = append(s.ids, id), append(s.from, int32(from))
}

// closure fills the identity, its groups at any distance, signed-in and everyone, in
// the order of [plain.Engine.Closure].
func (x *Index) closure(s *scratch, id model.ID) {
	first := none
	if n, ok := x.Number(id); ok {
		first = uint32(n)
	}
	x.closureOf(s, first, id.Kind)
}

func (x *Index) closureOf(s *scratch, first uint32, kind model.IdentityKind) {
	if s.round++; s.round == 0 { // after four billion
		clear(s.seen)
		s.round = 1
	}
	s.ids, s.from = s.ids[:0], s.from[:0]
	s.join(first, -1)
	for i := 0; i < len(s.ids); i++ {
		if s.ids[i] == none {
			continue
		}
		for up, j := x.up.of(int(s.ids[i])), 0; j < up.len(); j++ {
			s.join(up.at(j), i)
		}
	}
	for i := len(bothCrowds) - len(crowds(kind)); i < len(bothCrowds); i++ { // a tail of bothCrowds
		if n := x.crowds[i]; n != none {
			s.join(n, 0)
		}
	}
}

// crowds returns the open identities that one of a kind belongs to.
func crowds(k model.IdentityKind) []model.IdentityKind {
	switch k {
	case model.Person, model.Workload, model.External:
		return bothCrowds
	case model.Everyone:
		return nil
	}
	return bothCrowds[1:]
}

var bothCrowds = []model.IdentityKind{model.SignedIn, model.Everyone}

// chain returns the way from the identity asked about to a member of its closure.
func (x *Index) chain(s *scratch, id model.ID, at int) []model.ID {
	var out []model.ID
	for i := at; i > 0; i = int(s.from[i]) {
		out = append(out, x.ID(int(s.ids[i])))
	}
	out = append(out, id)
	slices.Reverse(out)
	return out
}

// meets returns where in the closure the first of some identities stands; -1: none does.
func (s *scratch) meets(ids ints) int {
	at := -1
	for i := range ids.len() {
		if id := ids.at(i); s.seen[id] == s.round && (at < 0 || int(s.pos[id]) < at) {
			at = int(s.pos[id])
		}
	}
	return at
}

// Decide answers as [plain.Engine.Decide] does.
func (x *Index) Decide(id model.ID, p model.Permission, path model.Path, ctx model.Context) access.Decision {
	node, same := x.nearest(path)
	if ctx.Labels == nil {
		ctx.Labels, _ = x.labelsOf(node, same)
	}
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	for i, n := range s.ids {
		if n != none && x.bypasses(n) {
			return access.Decision{Outcome: access.Allowed,
				Ways: []access.Way{{Chain: x.chain(s, id, i), Met: model.True, Bypass: true}}}
		}
	}
	x.mark(s, path, node, same)
	var d access.Decision
	perm, listed := x.holds(p)
	x.refusals(s, &d, id, p, perm, listed, ctx)
	x.onHere(s, func(at int, grant, set uint32) {
		h := hit{uint32(at), grant}
		if n := len(s.hits); n > 0 && s.hits[n-1] == h { // by another place of it
			return
		}
		if listed && x.has(set, perm) || !listed && access.Has(x.rights(x.grants.at(int(grant))), p) {
			s.hits = append(s.hits, h)
		}
	})
	for _, h := range s.hits {
		gr := x.grants.at(int(h.grant))
		met, rest := gr.Condition().Eval(ctx)
		way := access.Way{Grant: gr, Chain: x.chain(s, id, int(h.at)), Met: met, Rest: rest}
		if met == model.False {
			d.Unmet = append(d.Unmet, way)
		} else {
			d.Ways = append(d.Ways, way)
		}
	}
	d.Settle()
	return d
}

// A Finder finds what gives one identity a permission at a path, for many of them: where its
// grants are is looked up once. It is not for several goroutines.
type Finder struct {
	x     *Index
	gifts []gift // by place, and then in order
	hits  []gift
	all   []gift             // room for the next one
	order []uint64           // likewise
	on    [placeWords]uint64 // a filter of the places that they are on
}

// placeWords is how large the filter of places is: some thousand grants fill a tenth of it.
const placeWords = 256

// gift is a grant to somebody on a place, where it comes among all of them, and its set of rights.
type gift struct{ place, order, grant, set uint32 }

// Finder returns a finder for an identity.
func (x *Index) Finder(id model.ID) *Finder {
	f := &Finder{x: x}
	f.For(id)
	return f
}

// For makes it a finder for another identity.
func (f *Finder) For(id model.ID) {
	x := f.x
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	all, order := f.all[:0], f.order[:0]
	for _, n := range s.ids {
		if n == none {
			continue
		}
		places, list := x.givenAt.of(int(n)), x.given.of(int(n))
		for j := range places.len() {
			p := places.at(j)
			grant, set := list.at(j*givenWidth+givenGrant), list.at(j*givenWidth+givenSet)
			order = append(order, uint64(p)<<32|uint64(len(all)))
			all = append(all, gift{p, uint32(len(all)), grant, set})
		}
	}
	slices.Sort(order) // numbers are sorted sooner than what they stand for
	f.gifts = f.gifts[:0]
	clear(f.on[:])
	for _, at := range order {
		g := all[uint32(at)]
		f.gifts = append(f.gifts, g)
		f.on[g.place>>6%placeWords] |= 1 << (g.place & 63)
	}
	f.all, f.order = all, order
}

// at returns the grants on a place.
func (f *Finder) at(place int) []gift {
	if f.on[place>>6%placeWords]>>(place&63)&1 == 0 {
		return nil // as of most places
	}
	from, _ := slices.BinarySearchFunc(f.gifts, uint32(place), func(g gift, p uint32) int {
		return cmp.Compare(g.place, p)
	})
	to := from
	for to < len(f.gifts) && f.gifts[to].place == uint32(place) {
		to++
	}
	return f.gifts[from:to]
}

// Allowing yields the grants that give the identity a permission at a spot, in the order in
// which [Index.Decide] looks at them: at face value, whatever their conditions, and whatever
// rule refuses it.
func (f *Finder) Allowing(perm int, at Spot, yield func(grant int)) {
	f.hits = f.hits[:0]
	f.x.matching(at.path, at.node, at.same, func(place int) {
		for _, g := range f.at(place) {
			if f.x.has(g.set, perm) {
				f.hits = append(f.hits, g)
			}
		}
	})
	slices.SortFunc(f.hits, func(a, b gift) int { return cmp.Compare(a.order, b.order) })
	for i, h := range f.hits {
		// A grant on several places that match comes once.
		if !slices.ContainsFunc(f.hits[:i], func(o gift) bool { return o.grant == h.grant }) {
			yield(int(h.grant))
		}
	}
}

// Reaches reports whether some grant to the identity reaches a path, whatever it gives there.
func (f *Finder) Reaches(path model.Path) bool {
	some := false
	node, same := f.x.nearest(path)
	f.x.matching(path, node, same, func(place int) { some = some || len(f.at(place)) > 0 })
	return some
}

// onHere calls yield with the grants to the closure whose places match, in order, once
// for each of those places: where in the closure it is given, and its set of rights.
func (x *Index) onHere(s *scratch, yield func(at int, grant, set uint32)) {
	// Few of the places that grants are on match. Most others fall through a filter, four
	// at a time, so that nothing is looked up for them.
	var few filter
	for _, place := range s.matched {
		few.add(place)
	}
	for i, n := range s.ids {
		if n == none {
			continue
		}
		places, given := x.givenAt.of(int(n)), x.given.of(int(n))
		for j := few.next(places, 0); j < places.len(); j = few.next(places, j+1) {
			if s.place[places.at(j)] == s.stamp {
				yield(i, given.at(j*givenWidth+givenGrant), given.at(j*givenWidth+givenSet))
			}
		}
	}
}

// filter tells most numbers that are not in a set from those that are, by two of their
// parts (Bloom, Space/Time Trade-offs in Hash Coding, 1970).
type filter struct{ low, high uint64 }

func (f *filter) add(v uint32) {
	f.low |= 1 << (v & 63)
	f.high |= 1 << (v >> 6 & 63)
}

// may is odd when v may be in the set.
func (f *filter) may(v uint32) uint64 { return f.low >> (v & 63) & (f.high >> (v >> 6 & 63)) }

// next returns where at or after j a number stands that may be in the set; the end: nowhere.
func (f *filter) next(c ints, j int) int {
	rest := c[4*j:]
	for len(rest) >= 16 && (f.may(rest.at(0))|f.may(rest.at(1))|f.may(rest.at(2))|f.may(rest.at(3)))&1 == 0 {
		rest = rest[16:]
	}
	for len(rest) >= 4 && f.may(rest.at(0))&1 == 0 {
		rest = rest[4:]
	}
	return (len(c) - len(rest)) / 4
}

func (x *Index) bypasses(n uint32) bool { return x.idKind.at(int(n))&bypass != 0 }

// refusals collects the rules that refuse, in the order of the layers.
func (x *Index) refusals(s *scratch, d *access.Decision, id model.ID, p model.Permission, perm int, listed bool,
	ctx model.Context) {
	holds := func(set *numbers, i uint32, r func() model.Rights) bool {
		if listed {
			return x.has(set.at(int(i)), perm)
		}
		return r().Has(p)
	}
	for _, i := range x.on(s, &x.denialOn) {
		at := s.meets(x.denialTo.of(int(i)))
		if at < 0 || s.meets(x.denialBut.of(int(i))) >= 0 {
			continue
		}
		if !holds(&x.denialSet, i, func() model.Rights { return x.denials.at(int(i)).Rights }) {
			continue
		}
		dn := x.denials.at(int(i))
		if met, rest := dn.When.Eval(ctx); met != model.False {
			d.Refusals = append(d.Refusals, access.Denies(dn, x.chain(s, id, at), met, rest))
		}
	}
	for _, i := range x.on(s, &x.railsAt) {
		if s.meets(x.railBut.of(int(i))) < 0 && x.railRefuses(i, p, perm, listed) {
			d.Refusals = append(d.Refusals, access.Bars(x.guardrails.at(int(i))))
		}
	}
	if s.ids[0] == none {
		return
	}
	of := x.ceilings.of(int(s.ids[0]))
	for j := range of.len() {
		i := of.at(j)
		if !x.covers(s, x.ceilOn.of(int(i))) || !holds(&x.ceilSet, i,
			func() model.Rights { return x.ceils.at(int(i)).Rights }) {
			d.Refusals = append(d.Refusals, access.Caps(x.ceils.at(int(i))))
		}
	}
}

// Refusals returns the rules that refuse an identity a permission at a path, or would
// under their conditions, if it were a member of a group besides; -1: of no other.
func (x *Index) Refusals(id model.ID, group int, p model.Permission, path model.Path) []access.Refusal {
	s := x.scratch()
	defer x.pool.Put(s)
	node, same := x.nearest(path)
	ctx := model.Context{}
	ctx.Labels, _ = x.labelsOf(node, same)
	x.closure(s, id)
	if group >= 0 {
		x.joinGroup(s, uint32(group))
	}
	for _, n := range s.ids {
		if n != none && x.bypasses(n) {
			return nil
		}
	}
	x.mark(s, path, node, same)
	var d access.Decision
	perm, listed := x.holds(p)
	x.refusals(s, &d, id, p, perm, listed, ctx)
	return d.Refusals
}

// joinGroup adds a group and those that it is in to a closure.
func (x *Index) joinGroup(s *scratch, group uint32) {
	from := len(s.ids)
	s.join(group, 0)
	for i := from; i < len(s.ids); i++ {
		for up, j := x.up.of(int(s.ids[i])), 0; j < up.len(); j++ {
			s.join(up.at(j), i)
		}
	}
}

// DenialOn returns the places of a denial.
func (x *Index) DenialOn(id string) []model.PathPattern {
	for d := range x.Denials() {
		if d.ID == id {
			return d.Where
		}
	}
	return nil
}

// MayRefuse reports whether a denial or a guardrail on a path holds a permission, for
// anybody.
func (x *Index) MayRefuse(p model.Permission, path model.Path) bool {
	s := x.scratch()
	defer x.pool.Put(s)
	node, same := x.nearest(path)
	x.mark(s, path, node, same)
	perm, listed := x.holds(p)
	for _, i := range x.on(s, &x.denialOn) {
		if !listed || x.has(x.denialSet.at(int(i)), perm) {
			return true
		}
	}
	for _, i := range x.on(s, &x.railsAt) {
		if x.railRefuses(i, p, perm, listed) {
			return true
		}
	}
	return false
}

// HasCeiling reports whether the identity of a number has one.
func (x *Index) HasCeiling(i int) bool { return x.ceilings.of(i).len() > 0 }

// Spared calls yield with each identity that a denial or a guardrail spares.
func (x *Index) Spared(yield func(id int)) {
	seen := map[uint32]bool{}
	spare := func(but ints) {
		for i := range but.len() {
			if id := but.at(i); !seen[id] {
				seen[id] = true
				yield(int(id))
			}
		}
	}
	for i := range x.denials.count() {
		spare(x.denialBut.of(i))
	}
	for i := range x.guardrails.count() {
		spare(x.railBut.of(i))
	}
}

func (x *Index) railRefuses(i uint32, p model.Permission, perm int, listed bool) bool {
	if listed {
		return x.has(x.railSet.at(int(i)), perm)
	}
	return !x.guardrails.at(int(i)).Has(p)
}

// on returns the rules on the matched places, each once, in their order.
func (x *Index) on(s *scratch, rules *lists) []uint32 {
	s.rules = s.rules[:0]
	for _, p := range s.matched {
		for l, j := rules.of(int(p)), 0; j < l.len(); j++ {
			s.rules = append(s.rules, l.at(j))
		}
	}
	slices.Sort(s.rules)
	return slices.Compact(s.rules)
}

// covers reports whether one of some places matched.
func (x *Index) covers(s *scratch, places ints) bool {
	for i := range places.len() {
		if s.place[places.at(i)] == s.stamp {
			return true
		}
	}
	return false
}

// Given returns the grants that reach an identity through itself, its groups and the
// crowds, by number, in the order in which [Index.Decide] looks at them.
func (x *Index) Given(id model.ID) []int { return slices.Collect(x.Gives(id)) }

// Gives yields what [Index.Given] returns.
func (x *Index) Gives(id model.ID) iter.Seq[int] {
	return func(yield func(int) bool) {
		s := x.scratch()
		defer x.pool.Put(s)
		x.closure(s, id)
		last := -1
		for _, n := range s.ids {
			if n == none {
				continue
			}
			given := x.given.of(int(n))
			for j := 0; j < given.len(); j += givenWidth {
				g := int(given.at(j + givenGrant))
				if g != last && !yield(g) {
					return
				}
				last = g
			}
		}
	}
}
