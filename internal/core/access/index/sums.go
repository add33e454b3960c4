package index

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// What is granted to one group reaches all who are in it, so that what its grants give together
// is worth working out once: an identity of a large organisation has a thousand grants by a dozen
// groups. What somebody is refused on every place of a grant is another thing for each, but of most
// the same: guardrails hold nearly everybody, and denials few. So a bundle says what its grants
// give whoever no guardrail spares, and is gone through grant by grant only for those whom one
// spares, and whom a denial holds that may concern one of the grants (Index.Sum).

// bundle is what the grants to one identity give together.
type bundle struct {
	all    access.Few // permissions
	left   access.Few // those that are left to somebody whom every guardrail holds
	grants []uint32
	nodes  []uint32 // where each of them stands; none: not on one node and below, or on several
	rails  []int    // guardrails at or above one of them
}

// bundleOf returns what the grants to an identity give, by its number.
func (x *Index) bundleOf(n uint32) *bundle {
	if b, ok := x.bundles.Load(n); ok {
		return b.(*bundle)
	}
	s := x.scratch()
	defer x.pool.Put(s)
	x.closureOf(s, none, model.Everyone) // nobody
	b, all, left := &bundle{}, x.NewSet(), x.NewSet()
	own, set, last := x.NewSet(), x.NewSet(), none
	for given, j := x.given.of(int(n)), 0; j < given.len(); j += givenWidth {
		g := given.at(j + givenGrant)
		if g == last { // by another place
			continue
		}
		last = g
		h := access.Holding{Number: int(g), Grant: x.grants.at(int(g)), Perms: x.SharedPerms(int(g))}
		all.OrFew(x.SharedFew(int(g)))
		x.block(&h, s, nil, set, func() {
			copy(own, h.Perms)
			h.Perms = own
		})
		left.Or(h.Perms)
		at := none
		if where := h.Grant.Where; len(where) > 0 {
			if up, ok := where[0].Anchor(); ok {
				x.railsAbove(up, func(i int) {
					if !slices.Contains(b.rails, i) {
						b.rails = append(b.rails, i)
					}
				})
			}
			if node, plain := where[0].Node(); plain {
				if i, ok := x.NodeNumber(node); ok {
					at = uint32(i)
				}
			}
		}
		b.grants, b.nodes = append(b.grants, g), append(b.nodes, at)
	}
	b.all = all.Few()
	if b.left = b.all; !all.Subset(left) { // as hardly ever
		b.left = left.Few()
	}
	out, _ := x.bundles.LoadOrStore(n, b)
	return out.(*bundle)
}

// denied is what a denial refuses, and where.
type denied struct {
	set access.Set
	on  Region
}

// denialOf returns what a denial refuses.
func (x *Index) denialOf(i int) *denied {
	if d, ok := x.deniedBy.Load(i); ok {
		return d.(*denied)
	}
	d := &denied{x.NewSet(), x.Region(x.denials.at(i).Where...)}
	x.bits(x.denialSet.at(i), d.set)
	out, _ := x.deniedBy.LoadOrStore(i, d)
	return out.(*denied)
}

// concerns reports whether a denial may refuse something on all places of a grant of a bundle. One
// that does holds the first of them.
func (x *Index) concerns(d *denied, b *bundle) bool {
	if !b.all.Meets(d.set) {
		return false
	}
	for k, node := range b.nodes {
		if (node == none || d.on.Has(node)) && x.SharedFew(int(b.grants[k])).Meets(d.set) {
			return true
		}
	}
	return false
}

// A Sum is how many grants reach an identity, and how many distinct permissions they give it by
// naming it, through its groups and through the crowds, less what denials, guardrails and ceilings
// refuse on every place of a grant.
type Sum struct{ Holdings, ByName, ByGroups, ByCrowds int }

// Sum sums up what [Index.EachHolding] yields. The sets are to work with.
func (x *Index) Sum(id model.ID, sets *[3]access.Set) (out Sum) {
	for i := range sets {
		clear(sets[i])
	}
	into := func(to model.ID) access.Set {
		switch {
		case to == id:
			return sets[0]
		case to.Open():
			return sets[2]
		}
		return sets[1]
	}
	s := x.scratch()
	x.closure(s, id)
	givers, denials := slices.Clone(s.ids), x.binding(s)
	ceilings := s.ids[0] != none && x.ceilings.of(int(s.ids[0])).len() > 0
	spared := func(i int) bool { return s.meets(x.railBut.of(i)) >= 0 }
	single := map[uint32]bool{}
	for _, n := range givers {
		if n == none {
			continue
		}
		b := x.bundleOf(n)
		out.Holdings += len(b.grants)
		if single[n] = ceilings || slices.ContainsFunc(b.rails, spared) || slices.ContainsFunc(denials,
			func(i int) bool { return x.concerns(x.denialOf(i), b) }); !single[n] {
			into(x.ID(int(n))).OrFew(b.left)
		}
	}
	x.pool.Put(s)
	x.eachHolding(id, func(n uint32) []uint32 {
		if single[n] {
			return x.bundleOf(n).grants
		}
		return nil
	}, nil, func(_ *scratch, _ int, h *access.Holding) { into(h.Grant.To).Or(h.Perms) })
	out.ByName, out.ByGroups, out.ByCrowds = sets[0].Count(), sets[1].Count(), sets[2].Count()
	return out
}

// Givers returns an identity, its groups at any distance and the crowds that it is in, by number:
// all whose grants reach it.
func (x *Index) Givers(id model.ID) []int {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	out := make([]int, 0, len(s.ids))
	for _, n := range s.ids {
		if n != none {
			out = append(out, int(n))
		}
	}
	return out
}

// ActsAs reports whether an act-as edge begins at an identity or at what it is in.
func (x *Index) ActsAs(id model.ID) bool {
	return slices.ContainsFunc(x.Givers(id), func(n int) bool { return x.mayAct.of(n).len() > 0 })
}

// GivenBy returns the permissions that the grants to exactly one identity give, by its number.
// Nobody may change them.
func (x *Index) GivenBy(n int) access.Few { return x.bundleOf(uint32(n)).all }
