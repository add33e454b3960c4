package index

import (
	"maps"
	"math/bits"
	"slices"
	"sort"

	"clipfence/internal/core/model"
)

// A Change is what becomes of an identity's access between two estates with the same
// inventory and catalogue: pairs of permission and node, by the level the permission
// weighs as.
type Change struct {
	Lost, Gained [model.HandOut + 1]uint64
}

// Difference counts exactly, with every layer and on the kinds of node that permissions
// apply to, what an identity may do in one walk and not in another, and the other way round,
// on the nodes of the inventory. The walks go over the same part of indexes that hold the
// same nodes and the same catalogue.
func Difference(before, after *Walk, id model.ID) Change {
	x := before.x
	var c Change
	differ(before, after, id, func(perm int, from, to uint32, gained bool) {
		n := uint64(x.countClass(x.Class(perm), from, to))
		if gained {
			c.Gained[x.permLevel[perm]] += n
		} else {
			c.Lost[x.permLevel[perm]] += n
		}
	})
	return c
}

// A Gain is a permission that is there on more nodes of the inventory than before.
type Gain struct {
	Perm  int    // its number
	Nodes int    // more; of the kinds that it applies to
	First uint32 // node of them
}

// Gains lists what Difference counts as gained, by permission in the order of their numbers.
func Gains(before, after *Walk, id model.ID) []Gain {
	x := before.x
	by := map[int]*Gain{}
	differ(before, after, id, func(perm int, from, to uint32, gained bool) {
		n := x.countClass(x.Class(perm), from, to)
		if !gained || n == 0 {
			return
		}
		if by[perm] == nil {
			class := x.Class(perm)
			at := sort.Search(int(to-from), func(i int) bool {
				return x.countClass(class, from, from+uint32(i)+1) > 0
			})
			by[perm] = &Gain{Perm: perm, First: from + uint32(at)}
		}
		by[perm].Nodes += int(n)
	})
	out := make([]Gain, 0, len(by))
	for _, p := range slices.Sorted(maps.Keys(by)) {
		out = append(out, *by[p])
	}
	return out
}

// differ tells of each permission and run of nodes, from one up to before another, on which an
// identity may do it in one of two walks alone.
func differ(before, after *Walk, id model.ID, tell func(perm int, from, to uint32, gained bool)) {
	x := before.x
	a, b := runsOf(x, before.Pieces(id)), runsOf(after.x, after.Pieces(id))
	one, two := x.NewSet(), x.NewSet()
	fill := func(to []uint64, words []Word) {
		clear(to)
		for _, w := range words {
			to[w.At] = w.Bits
		}
	}
	const end = ^uint32(0)
	for at := uint32(0); len(a) > 0 || len(b) > 0; {
		// Up to where neither changes.
		next := end
		clear(one)
		clear(two)
		for i, runs := range [][]run{a, b} {
			if len(runs) == 0 {
				continue
			}
			if r := runs[0]; r.from > at {
				next = min(next, r.from)
			} else {
				next = min(next, r.to)
				fill([][]uint64{one, two}[i], r.words)
			}
		}
		from, to := x.listed(at), x.listed(next)
		for w := range one {
			for gained, b := range map[bool]uint64{false: one[w] &^ two[w], true: two[w] &^ one[w]} {
				for ; b != 0; b &= b - 1 {
					tell(64*w+bits.TrailingZeros64(b), from, to, gained)
				}
			}
		}
		at = next
		for len(a) > 0 && a[0].to <= at {
			a = a[1:]
		}
		for len(b) > 0 && b[0].to <= at {
			b = b[1:]
		}
	}
}

// listed returns the node before which there are just n nodes of the inventory.
func (x *Index) listed(n uint32) uint32 { return uint32(x.realBefore.search(n)) }

// run is a piece in numbers of the inventory's nodes, which two indexes of one
// inventory share.
type run struct {
	from, to uint32
	words    []Word
}

func runsOf(x *Index, pieces []Piece) []run {
	out := make([]run, len(pieces))
	for i, p := range pieces {
		out[i] = run{x.realBefore.at(p.From), x.realBefore.at(p.To), p.Words}
	}
	return out
}

// SameNodes reports whether two indexes list the same nodes of the inventory.
func (x *Index) SameNodes(o *Index) bool {
	if x.Shares(o) {
		return true
	}
	if x.Nodes() != o.Nodes() {
		return false
	}
	for n := range uint32(x.Nodes()) {
		if x.Path(int(x.listed(n+1))-1) != o.Path(int(o.listed(n+1))-1) {
			return false
		}
	}
	return true
}
