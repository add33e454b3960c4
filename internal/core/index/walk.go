package index

import (
	"cmp"
	"math/bits"
	"slices"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// A Mode says what counts while nothing is known about the call.
type Mode int

// The modes. What may be: grants under conditions count, denials under conditions do
// not. What is certain: the other way round.
const (
	Possible Mode = iota
	Certain
)

// Totals is everything an identity can do on the nodes of the inventory, summed up.
type Totals struct {
	Permissions engine.Bits // that it has somewhere, by number
	Nodes       int         // where it has any
	Pairs       [6]uint64   // of permission and node, by the level the permission weighs as
	Bypass      bool        // the source lets it through every check
}

// A Piece is a run of nodes in depth-first order on which an identity can do the same.
type Piece struct {
	From, To int // nodes; To is the first behind it
	Nodes    int // of the inventory
	Words    []Word
}

// A Word is 64 permissions, the first of which has the number 64*At.
type Word struct {
	At   uint32
	Bits uint64
}

// prepared is what all walks of a mode share: rules as items, in order.
type prepared struct {
	given   [][]uint64 // of each identity
	denials [][]uint64
	rails   []rail // sorted by their first item
	sets    []words
	masks   [][]uint64 // of each set: which words it has
	level   []uint8    // of each word's permissions
}

// rail is a guardrail, which stands on one interval.
type rail struct {
	number int
	item   uint64
}

// words is a set as the words that are not zero.
type words struct {
	at   []uint16
	bits []uint64
}

// A Walk sums identities up, one at a time. It is not for several goroutines; each
// makes its own.
type Walk struct {
	*prepared
	x *Index

	items, spare     []uint64
	runs             []int // where in items a sorted run begins
	granted, refused []uint64
	mask             []uint64 // words that the identity's grants have
	touched          []uint16 // the same as a list
	one              []uint64 // a set as words
	dirty            []uint16 // words that changed since they were last looked at
	isDirty          []bool
	undo             []change
	stack            []frame
	at, real         uint32 // how far it came, and how many nodes of the inventory that is
	effect           int    // how many permissions are in effect
	ceiling          bool   // what a ceiling does not admit is refused from the start
	total            Totals
	pieces           *[]Piece
	arena            []Word
	only             engine.Bits
	limited          bool
	low, high        uint32 // only nodes of the inventory from here to there count
}

// change is a word to be put back.
type change struct {
	word    uint16
	refused bool
	value   uint64
}

type frame struct {
	rank, end    uint32
	real         uint32 // nodes of the inventory before its end
	nodes        uint32 // in it
	undo, effect int
}

// The kinds of item: a set of rights on an interval.
const (
	gives = iota
	refuses
)

// An item is the number of an interval, a kind and the number of a set, so that sorting
// items is sorting intervals.
const itemSetBits = 30

func itemSet(it uint64) uint32   { return uint32(it & (1<<itemSetBits - 1)) }
func itemRefuses(it uint64) bool { return it>>itemSetBits&3 == refuses }
func itemSpan(it uint64) uint32  { return uint32(it >> 32) }

// item packs the number of an interval, a kind and the number of a set.
func item(span uint32, kind int, of uint32) uint64 {
	return uint64(span)<<32 | uint64(kind)<<itemSetBits | uint64(of)
}

// NewWalk prepares a walk.
func (x *Index) NewWalk(mode Mode) *Walk {
	n := x.words()
	x.modes[mode].once.Do(func() { x.modes[mode].prepared = x.prepare(mode) })
	return &Walk{x: x, prepared: x.modes[mode].prepared, granted: make([]uint64, n), refused: make([]uint64, n),
		mask: make([]uint64, (n+63)/64), one: make([]uint64, n), isDirty: make([]bool, n), high: none}
}

// Only lets a walk count some permissions only, and only at and below a node; the zero
// path means everywhere. It reports whether the node is one that is known.
func (w *Walk) Only(perms engine.Bits, under model.Path) bool {
	p := *w.prepared
	p.sets, p.masks = make([]words, len(w.sets)), make([][]uint64, len(w.sets))
	for i, s := range w.sets {
		p.masks[i] = make([]uint64, len(w.mask))
		for j, at := range s.at {
			if v := s.bits[j] & perms[at]; v != 0 {
				p.sets[i].at, p.sets[i].bits = append(p.sets[i].at, at), append(p.sets[i].bits, v)
				p.masks[i][at>>6] |= 1 << (at & 63)
			}
		}
	}
	w.prepared, w.only = &p, perms
	if under.IsZero() {
		return true
	}
	w.limited = true
	n, same := w.x.nearest(under)
	if !same {
		w.low, w.high = 0, 0
		return false
	}
	w.low, w.high = w.x.realBefore.at(int(n)), w.x.realBefore.at(int(w.x.nodeEnd.at(int(n))))
	return true
}

func (x *Index) prepare(mode Mode) *prepared {
	p := &prepared{masks: make([][]uint64, x.setOff.len()-1), sets: make([]words, x.setOff.len()-1)}
	n := x.words()
	all := words{make([]uint16, x.setWord.len()), make([]uint64, x.setWord.len())}
	for i := range all.at {
		all.at[i], all.bits[i] = uint16(x.setWord.at(i)), x.setBits.at(i)
	}
	for s := range p.sets {
		from, to := x.setOff.at(s), x.setOff.at(s+1)
		p.sets[s] = words{all.at[from:to], all.bits[from:to]}
		p.masks[s] = make([]uint64, (n+63)/64)
		for _, at := range p.sets[s].at {
			p.masks[s][at>>6] |= 1 << (at & 63)
		}
	}
	p.level = make([]uint8, n)
	for i, l := range x.permLevel {
		if l != hole {
			p.level[i>>6] = min(l, 5)
		}
	}
	items := func(list []uint64, spans uint32, kind int, of uint32) []uint64 {
		for s, j := x.span.of(int(spans)), 0; j < s.len(); j++ {
			list = append(list, item(s.at(j), kind, of))
		}
		return list
	}
	sorted := func(list []uint64) []uint64 {
		slices.Sort(list)
		return slices.Compact(list)
	}
	p.given = make([][]uint64, x.ids.len())
	for id := range p.given {
		given := x.given.of(id)
		for j := 0; j < given.len(); j += givenWidth {
			if given.at(j+givenKind) == always || mode == Possible {
				p.given[id] = items(p.given[id], given.at(j+givenSpans), gives, given.at(j+givenSet))
			}
		}
		p.given[id] = sorted(p.given[id])
	}
	p.denials = make([][]uint64, x.denialSet.len())
	for i := range p.denials {
		if x.denialKind[i] == always || mode == Certain {
			for places, j := x.denialSpans.of(i), 0; j < places.len(); j++ {
				p.denials[i] = items(p.denials[i], places.at(j), refuses, x.denialSet.at(i))
			}
		}
		p.denials[i] = sorted(p.denials[i])
	}
	for place := range x.placeText.len() {
		for rails, j := x.railsAt.of(place), 0; j < rails.len(); j++ {
			r := int(rails.at(j))
			p.rails = append(p.rails, rail{r, items(nil, uint32(place), refuses, x.railSet.at(r))[0]})
		}
	}
	slices.SortFunc(p.rails, func(a, b rail) int { return cmp.Compare(a.item, b.item) })
	return p
}

// Totals sums an identity up.
func (w *Walk) Totals(id model.ID) Totals {
	x := w.x
	w.total = Totals{Permissions: make(engine.Bits, len(w.granted))}
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	for _, n := range s.ids {
		if n != none && x.bypasses(n) {
			w.everything()
			return w.total
		}
	}
	w.collect(s)
	w.merge()
	w.run()
	return w.total
}

// Pieces returns everything an identity can do on the nodes of the inventory as runs
// of nodes, in depth-first order.
func (w *Walk) Pieces(id model.ID) []Piece {
	var out []Piece
	w.pieces = &out
	w.Totals(id)
	w.pieces = nil
	return out
}

// everything is what somebody has whom no check stops.
func (w *Walk) everything() {
	t := &w.total
	t.Bypass, t.Nodes = true, int(min(w.high, uint32(w.x.Nodes()))-w.low)
	for i, l := range w.x.permLevel {
		if l != hole && (w.only == nil || w.only.Has(i)) {
			t.Permissions.Set(i)
			t.Pairs[min(l, 5)] += uint64(t.Nodes)
		}
	}
	if w.pieces != nil {
		p := Piece{To: w.x.nodeParent.len(), Nodes: t.Nodes}
		for i, v := range t.Permissions {
			p.Words = append(p.Words, Word{uint32(i), v})
		}
		*w.pieces = append(*w.pieces, p)
	}
}

// collect lists the rules that concern a closure as items, in sorted runs.
func (w *Walk) collect(s *scratch) {
	x := w.x
	w.items, w.runs = w.items[:0], w.runs[:0]
	clear(w.mask)
	add := func(run []uint64) {
		if n := len(w.items); n == 0 || len(run) > 0 && run[0] < w.items[n-1] {
			w.runs = append(w.runs, n)
		}
		w.items = append(w.items, run...)
	}
	for _, n := range s.ids {
		if n == none {
			continue
		}
		for _, it := range w.given[n] {
			for i, m := range w.masks[itemSet(it)] {
				w.mask[i] |= m
			}
		}
		add(w.given[n])
		for denials, j := x.denied.of(int(n)), 0; j < denials.len(); j++ {
			s.rules = append(s.rules, denials.at(j))
		}
	}
	w.touched = w.touched[:0]
	for i, m := range w.mask {
		for ; m != 0; m &= m - 1 {
			w.touched = append(w.touched, uint16(64*i+bits.TrailingZeros64(m)))
		}
	}
	slices.Sort(s.rules)
	from := len(w.items)
	w.runs = append(w.runs, from)
	for _, i := range slices.Compact(s.rules) {
		if s.meets(x.denialBut.of(int(i))) < 0 {
			w.items = append(w.items, w.denials[i]...)
		}
	}
	slices.Sort(w.items[from:])
	w.runs = append(w.runs, len(w.items))
	for _, r := range w.rails {
		if s.meets(x.railBut.of(r.number)) < 0 {
			w.items = append(w.items, r.item)
		}
	}
	if w.ceiling = s.ids[0] != none && x.ceilings.of(int(s.ids[0])).len() > 0; w.ceiling {
		w.under(x.ceilings.of(int(s.ids[0])))
	}
}

// under cuts what is given to the places of ceilings, and refuses what they do not
// admit. Intervals nest, so what two share is the smaller one.
func (w *Walk) under(ceilings ints) {
	x := w.x
	for j := range ceilings.len() {
		c := int(ceilings.at(j))
		var out []uint64
		for _, it := range w.items {
			if itemRefuses(it) {
				out = append(out, it)
				continue
			}
			from, to := x.spanStart.at(int(itemSpan(it))), x.spanEnd.at(int(itemSpan(it)))
			for places, k := x.ceilOn.of(c), 0; k < places.len(); k++ {
				for spans, l := x.span.of(int(places.at(k))), 0; l < spans.len(); l++ {
					s := int(spans.at(l))
					switch start, end := x.spanStart.at(s), x.spanEnd.at(s); {
					case start <= from && to <= end:
						out = append(out, it)
					case from <= start && end <= to:
						out = append(out, item(uint32(s), gives, itemSet(it)))
					}
				}
			}
		}
		slices.Sort(out)
		w.items, w.runs = append(w.items[:0], out...), append(w.runs[:0], 0)
		clear(w.one)
		x.bits(x.ceilSet.at(c), w.one)
		for i, v := range w.one {
			w.refused[i] |= ^v
		}
	}
}

// merge sorts the runs of items into one, each item once.
func (w *Walk) merge() {
	for len(w.runs) > 1 {
		out, runs := w.spare[:0], w.runs[:0]
		for i := 0; i < len(w.runs); i += 2 {
			a := w.items[w.runs[i]:]
			var b []uint64
			if i+1 < len(w.runs) {
				a = w.items[w.runs[i]:w.runs[i+1]]
				if b = w.items[w.runs[i+1]:]; i+2 < len(w.runs) {
					b = w.items[w.runs[i+1]:w.runs[i+2]]
				}
			}
			runs = append(runs, len(out))
			for len(a) > 0 && len(b) > 0 {
				if a[0] <= b[0] {
					out, a = append(out, a[0]), a[1:]
				} else {
					out, b = append(out, b[0]), b[1:]
				}
			}
			out = append(append(out, a...), b...)
		}
		w.items, w.spare, w.runs = out, w.items, runs
	}
	w.items = slices.Compact(w.items)
}

// run goes through the items in depth-first order. Their intervals nest, so what a rule
// gives or refuses beyond those around it holds on all its nodes, less what rules
// inside take away again: pairs are counted once a rule, not once a run of nodes.
func (w *Walk) run() {
	w.at, w.real, w.effect = 0, w.low, 0
	for i, it := range w.items {
		rank := itemSpan(it)
		if n := len(w.stack); n == 0 || w.stack[n-1].rank != rank {
			start := w.x.spanStart.at(int(rank))
			for ; n > 0 && w.stack[n-1].end <= start; n-- {
				w.pop()
			}
			from, to, end := w.x.spanFrom.at(int(rank)), w.x.spanTo.at(int(rank)), w.x.spanEnd.at(int(rank))
			if w.limited {
				from, to = w.clamp(from), w.clamp(to)
			}
			w.advance(start, from)
			if w.pieces == nil && w.alone(i, rank, end) && w.leaf(it, end, to) {
				continue
			}
			w.stack = append(w.stack, frame{rank: rank, end: end, real: to, nodes: to - from, undo: len(w.undo), effect: w.effect})
		}
		n := uint64(w.stack[len(w.stack)-1].nodes)
		if set := &w.sets[itemSet(it)]; itemRefuses(it) {
			w.refuse(set, n)
		} else {
			w.give(set, n)
		}
	}
	for len(w.stack) > 0 {
		w.pop()
	}
	for _, d := range w.dirty {
		w.isDirty[d] = false
	}
	w.dirty = w.dirty[:0]
	if w.ceiling {
		clear(w.refused)
	}
}

func (w *Walk) clamp(real uint32) uint32 { return min(max(real, w.low), w.high) }

// alone reports whether an item is the only one on its interval and inside it.
func (w *Walk) alone(i int, rank, end uint32) bool {
	if i+1 == len(w.items) {
		return true
	}
	next := itemSpan(w.items[i+1])
	return next != rank && w.x.spanStart.at(int(next)) >= end
}

// leaf does with a rule that is alone, as most are, without touching what is granted
// and refused around it; false: it cannot.
func (w *Walk) leaf(it uint64, end, real uint32) bool {
	if itemRefuses(it) && len(w.dirty) > 0 {
		return false // what came into effect just before it may be refused here, and seen nowhere
	}
	n := uint64(real - w.real)
	w.at, w.real = end, real
	if n == 0 {
		return true
	}
	effect := w.effect
	set := &w.sets[itemSet(it)]
	if itemRefuses(it) {
		if effect == 0 {
			return true
		}
		for i, at := range set.at {
			if gone := set.bits[i] & w.granted[at] &^ w.refused[at]; gone != 0 {
				k := bits.OnesCount64(gone)
				effect -= k
				w.total.Pairs[w.level[at]] -= uint64(k) * n
			}
		}
	} else {
		w.flush()
		level, sum := uint8(0), 0 // words rise by level
		for i, at := range set.at {
			if fresh := set.bits[i] &^ w.granted[at] &^ w.refused[at]; fresh != 0 {
				if l := w.level[at]; l != level {
					w.total.Pairs[level] += uint64(sum) * n
					effect += sum
					level, sum = l, 0
				}
				sum += bits.OnesCount64(fresh)
				w.total.Permissions[at] |= fresh
			}
		}
		w.total.Pairs[level] += uint64(sum) * n
		effect += sum
	}
	if effect > 0 {
		w.total.Nodes += int(n)
	}
	return true
}

// advance says that nothing changes up to a node, and how many nodes of the inventory
// come before it.
func (w *Walk) advance(to, real uint32) {
	from, n := w.at, real-w.real
	w.at, w.real = to, real
	if n == 0 || w.effect == 0 {
		return
	}
	w.flush()
	w.total.Nodes += int(n)
	if w.pieces != nil {
		if cap(w.arena)-len(w.arena) < len(w.touched) {
			w.arena = make([]Word, 0, max(1<<14, len(w.touched)))
		}
		begin := len(w.arena)
		for _, t := range w.touched {
			if v := w.granted[t] &^ w.refused[t]; v != 0 {
				w.arena = append(w.arena, Word{uint32(t), v})
			}
		}
		*w.pieces = append(*w.pieces, Piece{From: int(from), To: int(to), Nodes: int(n), Words: w.arena[begin:len(w.arena):len(w.arena)]})
	}
}

// flush notes what has come into effect since it was last called; there is a node on
// which it is.
func (w *Walk) flush() {
	for _, d := range w.dirty {
		w.isDirty[d] = false
		w.total.Permissions[d] |= w.granted[d] &^ w.refused[d]
	}
	w.dirty = w.dirty[:0]
}

// mark says that permissions came into effect; those that were seen somewhere need no
// second look.
func (w *Walk) mark(word uint16, fresh uint64) {
	if fresh&^w.total.Permissions[word] != 0 && !w.isDirty[word] {
		w.isDirty[word] = true
		w.dirty = append(w.dirty, word)
	}
}

func (w *Walk) pop() {
	f := &w.stack[len(w.stack)-1]
	w.advance(f.end, f.real)
	for i := len(w.undo) - 1; i >= f.undo; i-- {
		if c := w.undo[i]; c.refused {
			w.refused[c.word] = c.value
			w.mark(c.word, w.granted[c.word]&^c.value) // what was refused comes back
		} else {
			w.granted[c.word] = c.value
		}
	}
	w.undo = w.undo[:f.undo]
	w.effect = f.effect
	w.stack = w.stack[:len(w.stack)-1]
}

func (w *Walk) give(set *words, n uint64) {
	for i, at := range set.at {
		old := w.granted[at]
		fresh := set.bits[i] &^ old
		if fresh == 0 {
			continue
		}
		w.undo = append(w.undo, change{at, false, old})
		w.granted[at] = old | fresh
		if fresh &^= w.refused[at]; fresh != 0 {
			k := bits.OnesCount64(fresh)
			w.effect += k
			w.total.Pairs[w.level[at]] += uint64(k) * n
			w.mark(at, fresh)
		}
	}
}

func (w *Walk) refuse(set *words, n uint64) {
	for i, at := range set.at {
		old := w.refused[at]
		fresh := set.bits[i] &^ old
		if fresh == 0 || w.mask[at>>6]>>(at&63)&1 == 0 { // nothing is granted in other words
			continue
		}
		w.undo = append(w.undo, change{at, true, old})
		w.refused[at] = old | fresh
		if fresh &= w.granted[at]; fresh != 0 {
			k := bits.OnesCount64(fresh)
			w.effect -= k
			w.total.Pairs[w.level[at]] -= uint64(k) * n
		}
	}
}
