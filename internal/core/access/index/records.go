package index

import (
	"iter"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// places returns how many places there are.
func (x *Index) places() int {
	if x.more == nil {
		return len(x.patterns)
	}
	return len(x.patterns) + x.more.places.len()
}

// Semantics says how the source's rules differ from the common list.
func (x *Index) Semantics() model.Semantics { return x.meta.at(0).Semantics }

// Coverage returns which logs are kept, where and since when.
func (x *Index) Coverage() []model.CoverageRecord {
	out := make([]model.CoverageRecord, x.coverage.count())
	const run = 256 // there may be as many as nodes, and each is read
	parallel.Each((len(out)+run-1)/run, func(_, n int) {
		for i := n * run; i < min(len(out), (n+1)*run); i++ {
			out[i] = *x.coverage.at(i)
		}
	})
	return out
}

// Everybody yields every identity that the estate lists, with its number.
func (x *Index) Everybody() iter.Seq2[int, *model.Identity] {
	return func(yield func(int, *model.Identity) bool) {
		for i := range x.Identities() {
			if r := x.idRecord.at(i); r != none && !yield(i, x.identities.at(int(r))) {
				return
			}
		}
	}
}

// GrantNumbers returns the first number that no grant has: they go from 0 up to it, with
// gaps in an edited view.
func (x *Index) GrantNumbers() int { return x.grantTo.len() }

// Grants yields every grant with its number.
func (x *Index) Grants() iter.Seq2[int, *model.Grant] {
	return func(yield func(int, *model.Grant) bool) {
		for g := range x.GrantNumbers() {
			if x.grantTo.at(g) != none && !yield(g, x.grants.at(g)) {
				return
			}
		}
	}
}

// GrantNamed returns the number of the grant with an id, of several the first; one that is over has a
// name still, and is held by nobody (see [Index.InForce]).
func (x *Index) GrantNamed(id string) (int, bool) {
	if list := x.grantsNamed(id); len(list) > 0 {
		return int(list[0]), true
	}
	return 0, false
}

// grantsNamed returns the grants of an id.
func (x *Index) grantsNamed(id string) []uint32 {
	var out []uint32
	listed := func(g uint32) {
		if (x.grantTo.at(int(g)) != none || x.Over(int(g))) && x.grants.at(int(g)).ID == id {
			out = append(out, g)
		}
	}
	x.grantSlots.each(hash(fnvBasis, id), listed)
	if x.more != nil {
		for _, g := range x.more.come.at(id) {
			listed(g)
		}
	}
	return out
}

// GrantPerms returns the permissions that a grant gives, by number.
func (x *Index) GrantPerms(g int) access.Set {
	out := x.NewSet()
	x.bits(x.grantSet.at(g), out)
	return out
}

// SharedPerms returns what [Index.GrantPerms] does, in a set that all grants of the same
// rights share, and that nobody may change.
func (x *Index) SharedPerms(g int) access.Set { return x.sharedSet(x.grantSet.at(g)) }

// sharedSet returns a set of rights by its number, which nobody may change.
func (x *Index) sharedSet(n uint32) access.Set {
	if s, ok := x.shared.Load(n); ok {
		return s.(access.Set)
	}
	perms := x.NewSet()
	x.bits(n, perms)
	s, _ := x.shared.LoadOrStore(n, perms)
	return s.(access.Set)
}

// SharedFew returns what [Index.SharedPerms] does as the few words that have any.
func (x *Index) SharedFew(g int) access.Few {
	n := x.grantSet.at(g)
	if f, ok := x.fewer.Load(n); ok {
		return f.(access.Few)
	}
	f, _ := x.fewer.LoadOrStore(n, x.SharedPerms(g).Few())
	return f.(access.Few)
}

// GrantSets returns the rights that a grant gives; their union counts.
func (x *Index) GrantSets(g int) []model.Rights { return x.rights(x.grants.at(g)) }

// GrantsTo returns the numbers of the grants made to exactly this identity, in order.
func (x *Index) GrantsTo(id model.ID) []int {
	n, ok := x.Number(id)
	if !ok {
		return nil
	}
	var out []int
	given := x.given.of(n)
	for j := 0; j < given.len(); j += givenWidth {
		if g := int(given.at(j + givenGrant)); len(out) == 0 || out[len(out)-1] != g {
			out = append(out, g)
		}
	}
	return out
}

// SetPerms returns the permissions that are in some set, by number.
func (x *Index) SetPerms(sets []model.Rights) access.Set {
	f := filler{x, map[model.PermissionPattern]access.Set{}}
	return f.of(sets)
}

// Closure returns the identity, its groups at any distance, signed-in if it has an
// account, and everyone. Chains are shortest; the order is breadth first.
func (x *Index) Closure(id model.ID) []access.Member {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	out := make([]access.Member, 0, len(s.ids))
	for i, n := range s.ids {
		m := access.Member{ID: id, Chain: x.chain(s, id, i)}
		if n != none {
			m.ID = x.ID(int(n))
		}
		out = append(out, m)
	}
	return out
}

// In reports whether an identity is a group, or in it at any distance.
func (x *Index) In(id, group model.ID) bool {
	g, ok := x.Number(group)
	if !ok {
		return id == group
	}
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	return s.seen[g] == s.round
}

// MembersOf returns the direct members of a group.
func (x *Index) MembersOf(id model.ID) []model.ID { return x.beside(id, &x.down) }

// Empty reports whether nobody but groups is known to be in a group, at any distance: it is empty, or
// its source keeps no list of who is in it.
func (x *Index) Empty(group model.ID) bool {
	n, ok := x.Number(group)
	empty := true
	if ok {
		x.Members(n, func(i int) { empty = empty && x.ID(i).Kind == model.Group })
	}
	return empty
}

// GroupsOf returns the groups that an identity is a direct member of.
func (x *Index) GroupsOf(id model.ID) []model.ID { return x.beside(id, &x.up) }

func (x *Index) beside(id model.ID, of *lists) []model.ID {
	n, ok := x.Number(id)
	if !ok {
		return nil
	}
	var out []model.ID
	for list, i := of.of(n), 0; i < list.len(); i++ {
		out = append(out, x.ID(int(list.at(i))))
	}
	return out
}

// Role returns what is known about a role, without what it includes.
func (x *Index) Role(name string) (model.Role, bool) {
	r := x.role(name)
	if r == nil {
		return model.Role{}, false
	}
	return r.Role, true
}

// Roles yields the name of every role, in order.
func (x *Index) Roles() iter.Seq[string] {
	return func(yield func(string) bool) {
		var names []string
		for i := range x.roleNames.len() {
			names = append(names, string(x.roleNames.at(i)))
		}
		if x.more != nil {
			for _, layer := range x.more.roles {
				for name := range layer {
					if _, ok := x.roleNames.find(name); !ok {
						names = append(names, name)
					}
				}
			}
			slices.Sort(names)
			names = slices.Compact(names)
		}
		for _, name := range names {
			if _, there := x.roleAt(name); there && !yield(name) {
				return
			}
		}
	}
}

// roleAt returns where what is known about a role stands, and whether it is known what it gives.
func (x *Index) roleAt(name string) (i int, there bool) {
	i, there = x.roleNumber(name)
	switch {
	case !there:
		return 0, false
	case i < x.roleSet.len():
		return i, x.roleSet.at(i) != none
	}
	return i, !x.roles.at(i).Missing
}

// RolePerms returns which permissions of the catalogue a role gives, with those that it includes, in a set that
// nobody may change; false of one that is not there.
func (x *Index) RolePerms(name string) (access.Set, bool) {
	i, there := x.roleAt(name)
	switch {
	case !there:
		return nil, false
	case i < x.roleSet.len():
		return x.sharedSet(x.roleSet.at(i)), true
	}
	return x.SetPerms(x.roles.at(i).Sets), true
}

// Denials yields every denial.
func (x *Index) Denials() iter.Seq[*model.Denial] {
	return func(yield func(*model.Denial) bool) {
		for i := range x.denials.count() {
			if x.more != nil && x.more.deniesGone.at(uint32(i)) {
				continue
			}
			if !yield(x.denials.at(i)) {
				return
			}
		}
	}
}

// NewDenials yields the denials that a view has and another index, which it was made of, has not.
func (x *Index) NewDenials(before *Index) iter.Seq[*model.Denial] {
	return func(yield func(*model.Denial) bool) {
		for i := before.denials.count(); i < x.denials.count(); i++ {
			if !(x.more != nil && x.more.deniesGone.at(uint32(i))) && !yield(x.denials.at(i)) {
				return
			}
		}
	}
}

// Ceilings yields every ceiling.
func (x *Index) Ceilings() iter.Seq[*model.Ceiling] {
	return func(yield func(*model.Ceiling) bool) {
		for i := range x.ceils.count() {
			if x.more != nil && x.more.ceilsGone.at(uint32(i)) {
				continue
			}
			if !yield(x.ceils.at(i)) {
				return
			}
		}
	}
}

// Guardrails yields every guardrail.
func (x *Index) Guardrails() iter.Seq[*model.Guardrail] {
	return func(yield func(*model.Guardrail) bool) {
		for i := range x.guardrails.count() {
			if x.railSet.at(i) != none && !yield(x.guardrails.at(i)) {
				return
			}
		}
	}
}

// Nearest returns the deepest path of the inventory at or above p.
func (x *Index) Nearest(p model.Path) (model.Path, bool) {
	n, ok := x.NearestNumber(p)
	if !ok {
		return model.Path{}, false
	}
	depth := 0
	for ; n != none; n = x.nodeParent.at(int(n)) {
		depth++
	}
	for range p.Depth() - depth {
		p, _ = p.Parent()
	}
	return p, true
}

// Around returns the numbers of the nodes at and below the deepest one of the inventory at or above p; false where
// there is none. Of two paths of which one lies below the other they overlap.
func (x *Index) Around(p model.Path) (Interval, bool) {
	n, ok := x.NearestNumber(p)
	if !ok {
		return Interval{}, false
	}
	return Interval{From: uint32(n), To: x.nodeEnd.at(int(n))}, true
}

// Extent returns over which nodes places lie at most: those of two lists of which one has a place in the other's
// overlap. Asked of many places for each other, it leaves few.
func (x *Index) Extent(where []model.PathPattern) Interval {
	all := Interval{From: none}
	for _, on := range where {
		around := Interval{To: none} // anywhere
		if at, ok := on.Anchor(); ok {
			if in, ok := x.Around(at); ok {
				around = in
			}
		}
		all.From, all.To = min(all.From, around.From), max(all.To, around.To)
	}
	return all
}

// Meets reports whether two intervals share a node.
func (i Interval) Meets(o Interval) bool { return i.From < o.To && o.From < i.To }

// HasBelow reports whether the inventory lists a node below a path.
func (x *Index) HasBelow(p model.Path) bool {
	n, same := x.nearest(p)
	return same && x.Listed(int(n)+1, int(x.nodeEnd.at(int(n)))) > 0
}

// Bypasses reports whether the source lets an identity through every check.
func (x *Index) Bypasses(id model.ID) bool {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	return slices.ContainsFunc(s.ids, func(n uint32) bool { return n != none && x.bypasses(n) })
}

// GrantsOf returns the numbers of the grants of a role.
func (x *Index) GrantsOf(role string) []int {
	key := x.roleKey(role)
	if role == "" || key == none {
		return nil
	}
	var out []int
	for list, i := x.ofRole.of(int(key)), 0; i < list.len(); i++ {
		if g := int(list.at(i)); x.grantTo.at(g) != none {
			out = append(out, g)
		}
	}
	return out
}

// Applies reports whether permissions of a class can be used on the node of a number.
func (x *Index) Applies(class, node int) bool {
	return x.countClass(class, uint32(node), uint32(node)+1) > 0
}

// NodeNumber returns the number of a node of the inventory.
func (x *Index) NodeNumber(p model.Path) (int, bool) {
	n, same := x.nearest(p)
	return int(n), same && x.real(int(n))
}

// Within yields the numbers of the nodes of the inventory in a region.
func (x *Index) Within(r Region) iter.Seq[int] {
	return func(yield func(int) bool) {
		for _, i := range r {
			for n := int(i.From); n < int(i.To); n++ {
				if x.real(n) && !yield(n) {
					return
				}
			}
		}
	}
}

// Shares reports whether two indexes number nodes alike: one is a view of the other, or
// both are of one.
func (x *Index) Shares(o *Index) bool { return x.root() == o.root() }

func (x *Index) root() *Index {
	for x.before != nil {
		x = x.before
	}
	return x
}

// roleKey returns by which number the grants of a role are listed: that of its first record.
func (x *Index) roleKey(name string) uint32 {
	if i, ok := x.roleNames.find(name); ok {
		return uint32(i)
	}
	for i := len(x.roles.cache); i < x.roles.count(); i++ {
		if x.roles.at(i).Role.Name == name {
			return uint32(i)
		}
	}
	return none
}

// SpansWhere returns the spans of a grant's places, only of what has its labels.
func (x *Index) SpansWhere(g int) []uint32 {
	var out []uint32
	to := x.grantTo.at(g)
	if to == none {
		return nil
	}
	for given, j := x.given.of(int(to)), 0; j < given.len(); j += givenWidth {
		if given.at(j+givenGrant) == uint32(g) {
			out = append(out, x.span.of(int(given.at(j+givenSpans))).all()...)
		}
	}
	return out
}
