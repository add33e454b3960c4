package index

import (
	"iter"
	"math/bits"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// A Holder is somebody who may do what was asked, perhaps only under conditions.
type Holder struct {
	Identity int // its number
	Outcome  access.Outcome
}

// crowd marks identities: how far each is allowed and refused, 2 for certain and 1
// perhaps.
type crowd struct {
	allowed, refused []uint8
	some             []uint64 // bits of those that are allowed at all
	visited          []uint32
	round            uint32
	queue            []uint32
	marked           []uint32 // whose refused is set
}

// crowdOf returns room for so many identities: some that there is, or more.
func crowdOf(c *crowd, n int) *crowd {
	if c != nil && len(c.visited) >= n {
		return c
	}
	return &crowd{allowed: make([]uint8, n), refused: make([]uint8, n), some: make([]uint64, (n+63)/64),
		visited: make([]uint32, n)}
}

// begin starts another set of visited identities.
func (c *crowd) begin() {
	if c.round++; c.round == 0 {
		clear(c.visited)
		c.round = 1
	}
}

// below returns an identity and everybody whose closure holds it, except those visited
// since begin. What it returns is overwritten by the next call.
func (x *Index) below(c *crowd, to uint32) []uint32 {
	queue, visited, round := c.queue[:0], c.visited, c.round
	if visited[to] != round {
		visited[to] = round
		queue = append(queue, to)
	}
	if k := x.kind(to); k == model.Everyone || k == model.SignedIn {
		for i := range x.idKind.len() {
			if visited[i] != round && x.idKind.at(i)&absent == 0 && slices.Contains(crowds(x.kind(uint32(i))), k) {
				visited[i] = round
				queue = append(queue, uint32(i))
			}
		}
	}
	for i := 0; i < len(queue); i++ {
		for members, j := x.down.of(int(queue[i])), 0; j < members.len(); j++ {
			if id := members.at(j); visited[id] != round {
				visited[id] = round
				queue = append(queue, id)
			}
		}
	}
	c.queue = queue
	return queue
}

func (c *crowd) allow(id uint32, value uint8) {
	if c.allowed[id] < value {
		c.allowed[id] = value
		c.some[id>>6] |= 1 << (id & 63)
	}
}

func (c *crowd) refuse(id uint32, value uint8) {
	if c.refused[id] < value {
		if c.refused[id] == 0 {
			c.marked = append(c.marked, id)
		}
		c.refused[id] = value
	}
}

// each yields everybody who is allowed at all.
func (c *crowd) each(yield func(id uint32)) {
	for i, b := range c.some {
		for ; b != 0; b &= b - 1 {
			yield(uint32(64*i + bits.TrailingZeros64(b)))
		}
	}
}

// kind returns the kind of an identity's number.
func (x *Index) kind(id uint32) model.IdentityKind {
	return kinds[x.idKind.at(int(id))&^(bypass|absent)]
}

// Who returns every identity but groups that may use a permission at a path, in the
// order of their numbers, and what the crowds of everyone and signed-in may. Nothing
// is known about the call.
func (x *Index) Who(p model.Permission, path model.Path) []Holder { return x.who(p, path, false) }

func (x *Index) who(p model.Permission, path model.Path, groups bool) []Holder {
	s := x.scratch()
	defer x.pool.Put(s)
	s.crowd = crowdOf(s.crowd, x.Identities())
	c := s.crowd
	ctx := model.Context{}
	node, same := x.nearest(path)
	ctx.Labels, _ = x.labelsOf(node, same)
	x.mark(s, path, node, same)
	perm, listed := x.holds(p)
	var given [3][]uint32 // to whom it is granted: perhaps, and for certain
	for _, m := range s.matched {
		for grants, j := x.onPlace.of(int(m)), 0; j < grants.len(); j++ {
			g := int(grants.at(j))
			if listed && !x.has(x.grantSet.at(g), perm) || !listed && !access.Has(x.rights(x.grants.at(g)), p) {
				continue
			}
			met := model.True
			if x.grantKind.at(g) != always {
				met, _ = x.grants.at(g).Condition().Eval(ctx)
			}
			switch met {
			case model.True:
				given[2] = append(given[2], x.grantTo.at(g))
			case model.Open:
				given[1] = append(given[1], x.grantTo.at(g))
			}
		}
	}
	for _, value := range []uint8{2, 1} {
		c.begin()
		for _, to := range given[value] {
			for _, id := range x.below(c, to) {
				c.allow(id, value)
			}
		}
	}
	x.refuse(s, c, p, perm, listed, ctx)
	for _, i := range x.masters {
		c.begin()
		for _, id := range x.below(c, i) {
			c.allow(id, 2)
			c.refused[id] = 0
		}
	}
	n := 0
	c.each(func(uint32) { n++ })
	out := make([]Holder, 0, n)
	c.each(func(id uint32) {
		if c.refused[id] < 2 && (groups || x.kind(id) != model.Group) {
			h := Holder{int(id), access.Conditional}
			if c.allowed[id] == 2 && c.refused[id] == 0 {
				h.Outcome = access.Allowed
			}
			out = append(out, h)
		}
		c.allowed[id] = 0
	})
	clear(c.some)
	for _, id := range c.marked {
		c.refused[id] = 0
	}
	c.marked = c.marked[:0]
	return out
}

// refuse marks whom the layers keep out.
func (x *Index) refuse(s *scratch, c *crowd, p model.Permission, perm int, listed bool, ctx model.Context) {
	spare := func(but ints) {
		c.begin()
		for j := range but.len() {
			x.below(c, but.at(j))
		}
	}
	for _, i := range x.on(s, &x.denialOn) {
		dn := func() *model.Denial { return x.denials.at(int(i)) }
		if listed && !x.has(x.denialSet.at(int(i)), perm) || !listed && !dn().Has(p) {
			continue
		}
		value := uint8(2)
		switch met, _ := dn().When.Eval(ctx); met {
		case model.False:
			continue
		case model.Open:
			value = 1
		}
		// Who is spared is visited first, with everybody below, and then passed over.
		spare(x.denialBut.of(int(i)))
		for to, j := x.denialTo.of(int(i)), 0; j < to.len(); j++ {
			for _, id := range x.below(c, to.at(j)) {
				c.refuse(id, value)
			}
		}
	}
	for _, i := range x.on(s, &x.railsAt) {
		if !x.railRefuses(i, p, perm, listed) {
			continue
		}
		spare(x.railBut.of(int(i)))
		c.each(func(id uint32) {
			if c.visited[id] != c.round {
				c.refuse(id, 2)
			}
		})
	}
	c.each(func(id uint32) {
		of := x.ceilings.of(int(id))
		for j := range of.len() {
			i := int(of.at(j))
			if !x.covers(s, x.ceilOn.of(i)) || listed && !x.has(x.ceilSet.at(i), perm) || !listed &&
				!x.ceils.at(i).Has(p) {
				c.refuse(id, 2)
			}
		}
	})
}

// Granted returns everybody, groups too, to whom a grant gives a permission at a path,
// whatever denials, guardrails and ceilings say, in the order of their numbers. Grants
// for which without holds are left out.
func (x *Index) Granted(p model.Permission, path model.Path, without func(grant int) bool) []Holder {
	s := x.scratch()
	defer x.pool.Put(s)
	s.crowd = crowdOf(s.crowd, x.Identities())
	c := s.crowd
	var given [3][]uint32
	x.giving(s, p, path, func(g int, met model.Truth) {
		value := 2
		if met == model.Open {
			value = 1
		}
		if without == nil || !without(g) {
			given[value] = append(given[value], x.grantTo.at(g))
		}
	})
	for _, value := range []uint8{2, 1} {
		c.begin()
		for _, to := range given[value] {
			for _, id := range x.below(c, to) {
				c.allow(id, value)
			}
		}
	}
	for _, i := range x.masters {
		c.begin()
		for _, id := range x.below(c, i) {
			c.allow(id, 2)
		}
	}
	var out []Holder
	c.each(func(id uint32) {
		h := Holder{int(id), access.Conditional}
		if c.allowed[id] == 2 {
			h.Outcome = access.Allowed
		}
		out = append(out, h)
		c.allowed[id] = 0
	})
	clear(c.some)
	return out
}

// Bypass returns the identities that every check lets through.
func (x *Index) Bypass() []int {
	var out []int
	for _, i := range x.masters {
		out = append(out, int(i))
	}
	return out
}

// Giving returns the numbers of the grants that give a permission at a path.
func (x *Index) Giving(p model.Permission, path model.Path) []int {
	s := x.scratch()
	defer x.pool.Put(s)
	var out []int
	x.giving(s, p, path, func(g int, _ model.Truth) { out = append(out, g) })
	slices.Sort(out)
	return slices.Compact(out)
}

// OnPath returns the numbers of the grants whose places hold a path and whose condition
// the labels of the path do not rule out.
func (x *Index) OnPath(path model.Path) []int {
	s := x.scratch()
	defer x.pool.Put(s)
	var out []int
	x.grantsAt(s, path, func(g int, _ model.Truth) { out = append(out, g) })
	slices.Sort(out)
	return slices.Compact(out)
}

// MetAt returns whether the condition of a grant is met at a path, as far as the labels of the path tell.
func (x *Index) MetAt(g int, path model.Path) model.Truth {
	ctx := model.Context{}
	if x.grantKind.at(g)&labelled != 0 { // no other condition asks for the node
		ctx.Labels, _ = x.labelsOf(x.nearest(path))
	}
	return x.metBy(g, ctx)
}

// metBy returns whether the condition of a grant is met by what is known of a call.
func (x *Index) metBy(g int, ctx model.Context) model.Truth {
	if x.grantKind.at(g) == always {
		return model.True
	}
	met, _ := x.grants.at(g).Condition().Eval(ctx)
	return met
}

func (x *Index) giving(s *scratch, p model.Permission, path model.Path, yield func(g int, met model.Truth)) {
	perm, listed := x.holds(p)
	x.grantsAt(s, path, func(g int, met model.Truth) {
		if listed && x.has(x.grantSet.at(g), perm) || !listed && access.Has(x.rights(x.grants.at(g)), p) {
			yield(g, met)
		}
	})
}

func (x *Index) grantsAt(s *scratch, path model.Path, yield func(g int, met model.Truth)) {
	node, same := x.nearest(path)
	ctx := model.Context{}
	ctx.Labels, _ = x.labelsOf(node, same)
	x.mark(s, path, node, same)
	for _, m := range s.matched {
		for grants, j := x.onPlace.of(int(m)), 0; j < grants.len(); j++ {
			g := int(grants.at(j))
			if met := x.metBy(g, ctx); met != model.False {
				yield(g, met)
			}
		}
	}
}

// Grant returns the grant of a number.
func (x *Index) Grant(g int) *model.Grant { return x.grants.at(g) }

// Builtin reports whether the source made the role of a grant and nobody can change it;
// a grant without a role has none that could be changed.
func (x *Index) Builtin(g *model.Grant) bool {
	r := x.role(g.Role)
	return g.Role == "" || r == nil || r.Role.Builtin
}

// AllIn returns some identities with everybody who is in them.
func (x *Index) AllIn(ids []model.ID) map[model.ID]bool {
	out := map[model.ID]bool{}
	for _, id := range ids {
		if n, ok := x.Number(id); ok {
			x.Members(n, func(i int) { out[x.ID(i)] = true })
		}
	}
	return out
}

// Number returns the number of an identity.
func (x *Index) Number(id model.ID) (int, bool) { return x.named(id.String()) }

func (x *Index) named(text string) (int, bool) {
	if x.more != nil {
		if n, ok := x.more.idNumber.get(text); ok {
			return int(n), true
		}
	}
	return x.ids.named(x.idSlots, text)
}

// Kind returns the kind of an identity's number.
func (x *Index) Kind(i int) model.IdentityKind { return x.kind(uint32(i)) }

// Known reports whether the estate lists the identity of a number.
func (x *Index) Known(i int) bool { return x.idRecord.at(i) != none }

// Members calls yield with an identity and everybody in it, at any distance.
func (x *Index) Members(i int, yield func(int)) {
	s := x.scratch()
	defer x.pool.Put(s)
	s.crowd = crowdOf(s.crowd, x.Identities())
	s.crowd.begin()
	for _, id := range x.below(s.crowd, uint32(i)) {
		yield(int(id))
	}
}

// Joined yields the groups that an identity is a direct member of.
func (x *Index) Joined(i int, yield func(int)) {
	for up, j := x.up.of(i), 0; j < up.len(); j++ {
		yield(int(up.at(j)))
	}
}

// Edges yields every act-as edge.
func (x *Index) Edges() iter.Seq[*model.ActAs] {
	return func(yield func(*model.ActAs) bool) {
		for i := range x.actAs.count() {
			if x.more != nil && x.more.edgesGone.at(uint32(i)) {
				continue
			}
			if !yield(x.actAs.at(i)) {
				return
			}
		}
	}
}

// Tops returns the nodes of the inventory that no other node of it lies above.
func (x *Index) Tops() []model.Path {
	var out []model.Path
	for n := 0; n < x.nodeParent.len(); {
		if x.real(n) {
			out = append(out, x.Path(n))
			n = int(x.nodeEnd.at(n))
			continue
		}
		n++
	}
	return out
}

// Running returns the nodes whose code runs as somebody, and as whom.
func (x *Index) Running() (nodes []model.Path, as []model.ID) {
	for i := range x.runsNode.len() {
		nodes, as = append(nodes, x.Path(int(x.runsNode.at(i)))), append(as, x.ID(int(x.runsAs.at(i))))
	}
	return nodes, as
}
