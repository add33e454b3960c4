package index

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// What is granted to one group reaches all who are in it, so that what its grants give together
// is worth working out once: an identity of a large organisation has a thousand grants by a dozen
// groups. What somebody is refused on every place of a grant is another thing for each, but most
// grants lie where no rule can: those are told apart (bundle), and only the others are looked at
// for each identity (Index.Sum).

// bundle is what the grants to one identity give together.
type bundle struct {
	all    access.Few // permissions
	safe   access.Few // those of grants that no denial and no guardrail takes anything of
	grants int
	risky  []uint32 // the other grants
}

// bundleOf returns what the grants to an identity give, by its number.
func (x *Index) bundleOf(n uint32) *bundle {
	if b, ok := x.bundles.Load(n); ok {
		return b.(*bundle)
	}
	b, all, safe := &bundle{}, x.NewSet(), x.NewSet()
	last := none
	for given, j := x.given.of(int(n)), 0; j < given.len(); j += givenWidth {
		g := given.at(j + givenGrant)
		if g == last { // by another place
			continue
		}
		last = g
		b.grants++
		few := x.SharedFew(int(g))
		all.OrFew(few)
		if x.ruled(x.grants.at(int(g)).Where, few) {
			b.risky = append(b.risky, g)
		} else {
			safe.OrFew(few)
		}
	}
	b.all, b.safe = all.Few(), safe.Few()
	out, _ := x.bundles.LoadOrStore(n, b)
	return out.(*bundle)
}

// ruled reports whether a denial or a guardrail may refuse some of a grant's permissions on all of
// its places: one that stands at or above the first.
func (x *Index) ruled(where []model.PathPattern, perms access.Few) bool {
	x.ruling.once.Do(func() {
		x.ruling.at = map[model.Path][]access.Set{}
		sets := map[uint32]access.Set{}
		add := func(at model.Path, set uint32) {
			if sets[set] == nil {
				sets[set] = x.NewSet()
				x.bits(set, sets[set])
			}
			x.ruling.at[at] = append(x.ruling.at[at], sets[set])
		}
		for i := range x.denialSet.len() {
			if x.more != nil && x.more.deniesGone[uint32(i)] {
				continue
			}
			for _, on := range x.denials.at(i).Where {
				at, _ := on.Anchor() // without one: anywhere
				add(at, x.denialSet.at(i))
			}
		}
		for i := range x.railSet.len() {
			if x.railSet.at(i) != none {
				add(x.guardrails.at(i).Node, x.railSet.at(i))
			}
		}
	})
	if len(where) == 0 {
		return true
	}
	refuses := func(at model.Path) bool { return slices.ContainsFunc(x.ruling.at[at], perms.Meets) }
	at, ok := where[0].Anchor()
	for ; ok; at, ok = at.Parent() {
		if refuses(at) {
			return true
		}
	}
	return refuses(model.Path{})
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
	kind := func(to model.ID) access.Set {
		switch {
		case to == id:
			return sets[0]
		case to.Open():
			return sets[2]
		}
		return sets[1]
	}
	held := func(h *access.Holding) { kind(h.Grant.To).Or(h.Perms) }
	s := x.scratch()
	x.closure(s, id)
	givers := slices.Clone(s.ids)
	ceilings := s.ids[0] != none && x.ceilings.of(int(s.ids[0])).len() > 0
	x.pool.Put(s)
	for _, n := range givers {
		if n == none {
			continue
		}
		b := x.bundleOf(n)
		if out.Holdings += b.grants; !ceilings {
			kind(x.ID(int(n))).OrFew(b.safe)
		}
	}
	if ceilings {
		x.eachHolding(id, nil, func(_ *scratch, _ int, h *access.Holding) { held(h) })
	} else {
		x.eachHolding(id, func(n uint32) []uint32 { return x.bundleOf(n).risky },
			func(_ *scratch, _ int, h *access.Holding) { held(h) })
	}
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

// GivenBy returns the permissions that the grants to exactly one identity give, by its number.
// Nobody may change them.
func (x *Index) GivenBy(n int) access.Few { return x.bundleOf(uint32(n)).all }
