package index

import (
	"cmp"
	"math/bits"
	"slices"
	"sort"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// bounds returns the nodes of a span: the first, and the first behind it.
func (x *Index) bounds(span uint32) (from, to uint32) {
	n := span >> 1
	if span&1 == 1 {
		return n, n + 1
	}
	return n, x.nodeEnd.at(int(n))
}

// Bounds returns the nodes of a span.
func (x *Index) Bounds(span uint32) Interval {
	from, to := x.bounds(span)
	return Interval{from, to}
}

// spansOf returns the spans of a place.
func (x *Index) spansOf(place int) ints {
	if n := len(x.patterns); place >= n {
		return x.span.of(int(x.more.placeSpans.at(place - n)))
	}
	return x.span.of(place)
}

// spansOfPattern returns the spans of any pattern.
func (x *Index) spansOfPattern(on model.PathPattern) []uint32 {
	if i, ok := x.find(on); ok {
		return x.spansOf(i).all()
	}
	node := none
	if at, ok := on.Anchor(); ok {
		n, same := x.nearest(at)
		if !same {
			return nil
		}
		node = n
	}
	if _, exact := on.Node(); exact {
		return []uint32{spanOf(node, !on.Deep())}
	}
	return x.spansLike(on, node, x.Path)
}

// rank returns how many nodes of a kind come before a node.
func (x *Index) rank(kind int, node uint32) uint32 {
	words := x.nodeParent.len()/64 + 1
	at := kind*words + int(node)/64
	return x.kindRank.at(at) + uint32(bits.OnesCount64(x.kindBits.at(at)&(1<<(node%64)-1)))
}

// countClass counts the nodes of the inventory from one to another that a class of
// permissions applies to.
func (x *Index) countClass(class int, from, to uint32) int {
	if class == 0 {
		return int(x.realBefore.at(int(to)) - x.realBefore.at(int(from)))
	}
	n := uint32(0)
	for kinds, i := x.classKinds.of(class), 0; i < kinds.len(); i++ {
		n += x.rank(int(kinds.at(i)), to) - x.rank(int(kinds.at(i)), from)
	}
	return int(n)
}

func (x *Index) countClasses(from, to uint32) []int {
	out := make([]int, x.classKinds.off.len()-1)
	for c := range out {
		out[c] = x.countClass(c, from, to)
	}
	return out
}

// An Interval is a run of nodes by number; To is the first behind it.
type Interval struct{ From, To uint32 }

// A Region is some nodes: intervals in order that neither meet nor overlap.
type Region []Interval

// Region returns the nodes that some places hold.
func (x *Index) Region(where ...model.PathPattern) Region {
	return x.RegionOf(x.SpansOf(where...))
}

// Everything returns every node.
func (x *Index) Everything() Region { return Region{{0, uint32(x.nodeParent.len())}} }

// RegionOf returns the nodes of some spans.
func (x *Index) RegionOf(spans []uint32) Region {
	var out Region
	for _, s := range spans {
		from, to := x.bounds(s)
		out = append(out, Interval{from, to})
	}
	return out.settled()
}

// settled sorts intervals and joins those that meet or overlap.
func (r Region) settled() Region {
	slices.SortFunc(r, func(a, b Interval) int { return cmp.Compare(a.From, b.From) })
	out := r[:0]
	for _, i := range r {
		if n := len(out); n > 0 && i.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, i.To)
		} else if i.From < i.To {
			out = append(out, i)
		}
	}
	return out
}

// Or returns the nodes of either region.
func (r Region) Or(o Region) Region { return slices.Concat(r, o).settled() }

// AndNot returns the nodes of r that are not in o.
func (r Region) AndNot(o Region) Region {
	var out Region
	for _, i := range r {
		for len(o) > 0 && o[0].To <= i.From {
			o = o[1:]
		}
		for _, g := range o {
			if g.From >= i.To {
				break
			}
			if i.From < g.From {
				out = append(out, Interval{i.From, g.From})
			}
			i.From = g.To
		}
		if i.From < i.To {
			out = append(out, i)
		}
	}
	return out
}

// And returns the nodes that are in both regions.
func (r Region) And(o Region) Region {
	var out Region
	for _, i := range r {
		out = append(out, o.Within(int(i.From), int(i.To))...)
	}
	return out
}

// Has reports whether a node is in the region.
func (r Region) Has(node uint32) bool {
	i := sort.Search(len(r), func(i int) bool { return r[i].To > node })
	return i < len(r) && r[i].From <= node
}

// Count returns on how many nodes of the inventory in a region a permission can be used.
func (x *Index) Count(perm int, r Region) int { return x.CountClass(x.Class(perm), r) }

// Class returns the number of the kinds of node that a permission applies to: those of one
// class apply to the same. Class 0 is for every kind.
func (x *Index) Class(perm int) int { return int(x.permClass.at(perm)) }

// CountClass counts the nodes of the inventory in a region that a class applies to.
func (x *Index) CountClass(class int, r Region) int {
	n := 0
	for _, i := range r {
		n += x.countClass(class, i.From, i.To)
	}
	return n
}

// Outermost returns places that hold every node of a region on which a permission can be used, and
// nothing outside of the region: of each such node the highest one above it that lies in the
// region with all that is below it, and itself alone where more lies below it than the region
// holds. Of a permission for every kind of node those count that nothing lies below. It is false
// where that takes more than some places.
func (x *Index) Outermost(perm int, r Region, most int) ([]model.PathPattern, bool) {
	var out []model.PathPattern
	class := x.Class(perm)
	for _, i := range r {
		for n := i.From; n < i.To && (class == 0 || x.countClass(class, n, i.To) > 0); {
			end := x.nodeEnd.at(int(n))
			is := x.real(int(n))
			if class != 0 {
				is = is && x.Applies(class, int(n))
			} else {
				is = is && x.Listed(int(n), int(end)) == 1
			}
			if !is {
				n++
				continue
			}
			if len(out) == most {
				return nil, false
			}
			if end > i.To {
				out = append(out, x.Path(int(n)).Exactly())
				n++
				continue
			}
			top := n
			for up := x.nodeParent.at(int(top)); up != none && up >= i.From && x.nodeEnd.at(int(up)) <= i.To; {
				top, up = up, x.nodeParent.at(int(up))
			}
			out = append(out, x.Path(int(top)).Below())
			n = x.nodeEnd.at(int(top))
		}
	}
	return out, true
}

// Usable counts the nodes of the inventory on which pieces of access can be used: on which
// some permission of theirs applies to the kind of the node. Several identities' pieces
// count a node once.
func (x *Index) Usable(pieces []Piece) int {
	type edge struct {
		at    uint32
		kinds []uint64 // a bit a kind, and one more for every kind
		ends  bool
	}
	kinds := x.kindNames.len()
	var edges []edge
	for _, p := range pieces {
		set := make([]uint64, kinds/64+1)
		for _, w := range p.Words {
			for b := w.Bits; b != 0; b &= b - 1 {
				c := x.Class(int(64*w.At) + bits.TrailingZeros64(b))
				if c == 0 {
					set[kinds/64] |= 1 << (kinds % 64)
				}
				for list, i := x.classKinds.of(c), 0; i < list.len(); i++ {
					k := list.at(i)
					set[k/64] |= 1 << (k % 64)
				}
			}
		}
		edges = append(edges, edge{uint32(p.From), set, false}, edge{uint32(p.To), set, true})
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	open := make([]int, kinds+1) // how many pieces here can be used on a kind
	n, at := 0, uint32(0)
	for _, e := range edges {
		if e.at > at {
			if open[kinds] > 0 {
				n += x.countClass(0, at, e.at)
			} else {
				for k, pieces := range open[:kinds] {
					if pieces > 0 {
						n += int(x.rank(k, e.at) - x.rank(k, at))
					}
				}
			}
			at = e.at
		}
		for i, set := range e.kinds {
			for ; set != 0; set &= set - 1 {
				k := 64*i + bits.TrailingZeros64(set)
				if e.ends {
					open[k]--
				} else {
					open[k]++
				}
			}
		}
	}
	return n
}

// SpansOf returns the spans of some places, for [Extra].
func (x *Index) SpansOf(where ...model.PathPattern) []uint32 {
	var out []uint32
	for _, on := range where {
		out = append(out, x.spansOfPattern(on)...)
	}
	return out
}

// Outer returns spans without those that lie inside others; it reorders what it is given.
func (x *Index) Outer(spans []uint32) []uint32 {
	slices.SortFunc(spans, func(a, b uint32) int {
		from, to := x.bounds(a)
		start, end := x.bounds(b)
		return cmp.Or(cmp.Compare(from, start), cmp.Compare(end, to)) // the wider one first
	})
	out, reach := spans[:0], uint32(0)
	for _, s := range spans {
		if from, to := x.bounds(s); from >= reach { // spans nest
			out, reach = append(out, s), to
		}
	}
	return out
}

// KindNumbers returns the numbers of the kinds of node that is accepts.
func (x *Index) KindNumbers(is func(kind string) bool) []int {
	var out []int
	for k := range x.kindNames.len() {
		if is(string(x.kindNames.at(k))) {
			out = append(out, k)
		}
	}
	return out
}

// Below returns the spans of everything at and below the nodes of the inventory from one to
// another that are of some kinds, by number; each subtree once.
func (x *Index) Below(from, to int, kinds []int) []uint32 { return x.AppendBelow(nil, from, to, kinds) }

// AppendBelow appends what [Index.Below] returns.
func (x *Index) AppendBelow(out []uint32, from, to int, kinds []int) []uint32 {
	var few [8]int
	heads := few[:0] // the next node of each kind; looked for again once it is passed
	for range kinds {
		heads = append(heads, -1)
	}
	for n := from; n < to; {
		next := to
		for i, k := range kinds {
			if heads[i] < n {
				heads[i] = x.nextOf(k, n, to)
			}
			next = min(next, heads[i])
		}
		if next == to {
			break
		}
		out = append(out, spanOf(uint32(next), false))
		n = int(x.nodeEnd.at(next))
	}
	return out
}

// nextOf returns the first node of a kind from one on, or to.
func (x *Index) nextOf(kind, from, to int) int {
	words := x.nodeParent.len()/64 + 1
	for w := from / 64; w*64 < to; w++ {
		v := x.kindBits.at(kind*words + w)
		if w == from/64 {
			v &= ^uint64(0) << (from % 64)
		}
		if v != 0 {
			return min(to, 64*w+bits.TrailingZeros64(v))
		}
	}
	return to
}

// Merged returns what either of two lists of pieces holds, as pieces.
func Merged(a, b []Piece) []Piece {
	if len(a) == 0 {
		return b
	}
	return together(a, b, either)
}

// Less returns what the first of two lists of pieces holds and the second does not, as pieces.
func Less(a, b []Piece) []Piece { return together(a, b, without) }

// Shared returns what both of two lists of pieces hold, as pieces.
func Shared(a, b []Piece) []Piece { return together(a, b, both) }

// Meet reports whether two lists of pieces hold something both.
func Meet(a, b []Piece) bool {
	for len(a) > 0 && len(b) > 0 {
		switch p, q := &a[0], &b[0]; {
		case p.To <= q.From:
			a = a[1:]
		case q.To <= p.From:
			b = b[1:]
		case meet(p.Words, q.Words):
			return true
		case p.To <= q.To:
			a = a[1:]
		default:
			b = b[1:]
		}
	}
	return false
}

func meet(a, b []Word) bool {
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0].At < b[0].At:
			a = a[1:]
		case b[0].At < a[0].At:
			b = b[1:]
		case a[0].Bits&b[0].Bits != 0:
			return true
		default:
			a, b = a[1:], b[1:]
		}
	}
	return false
}

// together goes along two lists of pieces, in order both, and makes pieces of what op makes of
// the words of either at each place.
func together(a, b []Piece, op func(a, b []Word) []Word) []Piece {
	var out []Piece
	put := func(from, to int, words []Word) {
		if n := len(out); n > 0 && out[n-1].To == from && slices.Equal(out[n-1].Words, words) {
			out[n-1].To = to
		} else if from < to && len(words) > 0 {
			out = append(out, Piece{from, to, words})
		}
	}
	at := 0
	for len(a) > 0 && len(b) > 0 {
		p, q := &a[0], &b[0]
		from := max(at, min(p.From, q.From))
		switch {
		case q.From > from: // only the first is here
			to := min(p.To, q.From)
			put(from, to, op(p.Words, nil))
			at = to
		case p.From > from:
			to := min(q.To, p.From)
			put(from, to, op(nil, q.Words))
			at = to
		default:
			to := min(p.To, q.To)
			put(from, to, op(p.Words, q.Words))
			at = to
		}
		if p.To <= at {
			a = a[1:]
		}
		if q.To <= at {
			b = b[1:]
		}
	}
	for _, p := range a {
		put(max(at, p.From), p.To, op(p.Words, nil))
	}
	for _, p := range b {
		put(max(at, p.From), p.To, op(nil, p.Words))
	}
	return out
}

// either returns the permissions of two lists of words.
func either(a, b []Word) []Word {
	switch {
	case len(a) == 0:
		return b
	case len(b) == 0:
		return a
	}
	out := make([]Word, 0, max(len(a), len(b)))
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0].At < b[0].At:
			out, a = append(out, a[0]), a[1:]
		case b[0].At < a[0].At:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, Word{a[0].At, a[0].Bits | b[0].Bits}), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// without returns the permissions of the first list of words that the second does not have.
func without(a, b []Word) []Word {
	if len(a) == 0 || len(b) == 0 {
		return a
	}
	var out []Word
	for _, w := range a {
		for len(b) > 0 && b[0].At < w.At {
			b = b[1:]
		}
		if len(b) > 0 && b[0].At == w.At {
			w.Bits &^= b[0].Bits
		}
		if w.Bits != 0 {
			out = append(out, w)
		}
	}
	return out
}

// both returns the permissions that two lists of words have.
func both(a, b []Word) []Word {
	var out []Word
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0].At < b[0].At:
			a = a[1:]
		case b[0].At < a[0].At:
			b = b[1:]
		default:
			if v := a[0].Bits & b[0].Bits; v != 0 {
				out = append(out, Word{a[0].At, v})
			}
			a, b = a[1:], b[1:]
		}
	}
	return out
}

// Whole returns every permission on every node, as pieces.
func (x *Index) Whole() []Piece {
	set := x.NewSet()
	for i := range x.Numbers() {
		set.Add(i)
	}
	return x.PiecesOf(set, x.Everything())
}

// PiecesOf returns permissions on a region, as pieces.
func (x *Index) PiecesOf(perms access.Set, on Region) []Piece {
	var words []Word
	for i, v := range perms {
		if v != 0 {
			words = append(words, Word{uint32(i), v})
		}
	}
	var out []Piece
	for _, i := range on {
		if len(words) > 0 {
			out = append(out, Piece{int(i.From), int(i.To), words})
		}
	}
	return out
}

// Inventoried returns the pieces in which some node of the inventory is.
func (x *Index) Inventoried(pieces []Piece) []Piece {
	return slices.DeleteFunc(pieces, func(p Piece) bool { return x.Listed(p.From, p.To) == 0 })
}

// NodesOf returns the nodes of pieces.
func NodesOf(pieces []Piece) Region {
	var out Region
	for i := range pieces {
		from, to := uint32(pieces[i].From), uint32(pieces[i].To)
		if n := len(out); n > 0 && out[n-1].To == from {
			out[n-1].To = to
		} else {
			out = append(out, Interval{from, to})
		}
	}
	return out
}

// Upward returns a region with all nodes above it.
func (x *Index) Upward(r Region) Region {
	out := slices.Clone(r)
	// What lies above a node of an interval and not in it lies above the first node of it.
	for _, i := range r {
		for n := x.nodeParent.at(int(i.From)); n != none; n = x.nodeParent.at(int(n)) {
			out = append(out, Interval{n, n + 1})
		}
	}
	return out.settled()
}

// Within returns the part of a region from one node to another.
func (r Region) Within(from, to int) Region {
	i := sort.Search(len(r), func(i int) bool { return int(r[i].To) > from })
	var out Region
	for ; i < len(r) && int(r[i].From) < to; i++ {
		out = append(out, Interval{max(r[i].From, uint32(from)), min(r[i].To, uint32(to))})
	}
	return out
}

// meets reports whether some node from one to another is in the region.
func (r Region) meets(from, to uint32) bool {
	i := sort.Search(len(r), func(i int) bool { return r[i].To > from })
	return i < len(r) && r[i].From < to
}

// Places counts on how many nodes of the inventory each permission of pieces can be used, by
// its number.
func (x *Index) Places(pieces []Piece) []uint32 {
	out := make([]uint32, len(x.permLevel))
	for i := range pieces {
		p := &pieces[i]
		counts := x.countClasses(uint32(p.From), uint32(p.To))
		for perm := range p.Permissions() {
			out[perm] += uint32(counts[x.Class(perm)])
		}
	}
	return out
}
