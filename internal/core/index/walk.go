package index

import (
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

// A Walk sums identities up, one at a time. It is not for several goroutines; each
// makes its own.
type Walk struct {
	x      *Index
	mode   Mode
	rails  [][]uint64 // what each guardrail comes to, as items
	masks  [][]uint64 // of each set: which words it has
	levels *[6][]uint64

	items            []uint64
	granted, refused []uint64
	mask             []uint64 // words that the identity's grants have
	touched          []uint32 // the same as a list
	one              []uint64 // a set as words
	dirty            []uint32 // words that changed since they were last looked at
	isDirty          []bool
	undo             []change
	stack            []frame
	at               uint32
	count            [6]uint32 // of permissions in effect, by level
	entered          []int     // how deep in the places of each ceiling
	outside          int       // of how many ceilings the walk is outside
	total            Totals
	pieces           *[]Piece
}

// change is a word to be put back.
type change struct {
	word    uint32
	refused bool
	value   uint64
}

type frame struct {
	rank, end uint32
	undo      int
	count     [6]uint32
	ceils     []uint32 // entered here
}

// The kinds of item: a rule on an interval. Ceilings come first, so that what is
// granted is granted inside them.
const (
	enters  = iota // the places of a ceiling
	gives          // a set
	refuses        // a set
	admits         // refuses everything but a set
)

// item packs the number of an interval, a kind and the number of a set or a ceiling.
func item(span uint32, kind int, of uint32) uint64 {
	return uint64(span)<<32 | uint64(kind)<<30 | uint64(of)
}

// NewWalk prepares a walk.
func (x *Index) NewWalk(mode Mode) *Walk {
	words := (x.perms.len() + 63) / 64
	w := &Walk{x: x, mode: mode, levels: x.byLevel(), granted: make([]uint64, words), refused: make([]uint64, words),
		mask: make([]uint64, (words+63)/64), one: make([]uint64, words), isDirty: make([]bool, words)}
	w.masks = make([][]uint64, x.setOff.len()-1)
	for s := range w.masks {
		m := make([]uint64, len(w.mask))
		for i := int(x.setOff.at(s)); i < int(x.setOff.at(s+1)); i++ {
			at := x.setWord.at(i)
			m[at>>6] |= 1 << (at & 63)
		}
		w.masks[s] = m
	}
	w.rails = make([][]uint64, x.railSet.len())
	for p := range x.placeText.len() {
		for rails, j := x.railsAt.of(p), 0; j < rails.len(); j++ {
			r := rails.at(j)
			for spans, k := x.span.of(p), 0; k < spans.len(); k++ {
				w.rails[r] = append(w.rails[r], item(spans.at(k), admits, x.railSet.at(int(r))))
			}
		}
	}
	return w
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
	slices.Sort(w.items)
	w.items = slices.Compact(w.items)
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
	t.Bypass, t.Nodes = true, w.x.Nodes()
	for l, b := range w.levels {
		n := 0
		for i, v := range b {
			t.Permissions[i] |= v
			n += bits.OnesCount64(v)
		}
		t.Pairs[l] = uint64(n) * uint64(t.Nodes)
	}
	if w.pieces != nil {
		p := Piece{To: w.x.nodeParent.len(), Nodes: t.Nodes}
		for i, v := range t.Permissions {
			p.Words = append(p.Words, Word{uint32(i), v})
		}
		*w.pieces = append(*w.pieces, p)
	}
}

// collect lists the rules that concern a closure as items.
func (w *Walk) collect(s *scratch) {
	x := w.x
	w.items = w.items[:0]
	clear(w.mask)
	on := func(spans ints, kind int, of uint32) {
		for j := range spans.len() {
			w.items = append(w.items, item(spans.at(j), kind, of))
		}
	}
	for _, n := range s.ids {
		if n == none {
			continue
		}
		given := x.given.of(int(n))
		for j := 0; j < given.len(); j += givenWidth {
			if given.at(j+givenKind) == open && w.mode == Certain {
				continue
			}
			set := given.at(j + givenSet)
			on(x.span.of(int(given.at(j+givenSpans))), gives, set)
			for i, m := range w.masks[set] {
				w.mask[i] |= m
			}
		}
		for denials, j := x.denied.of(int(n)), 0; j < denials.len(); j++ {
			s.rules = append(s.rules, denials.at(j))
		}
	}
	w.touched = w.touched[:0]
	for i, m := range w.mask {
		for ; m != 0; m &= m - 1 {
			w.touched = append(w.touched, uint32(64*i+bits.TrailingZeros64(m)))
		}
	}
	slices.Sort(s.rules)
	for _, i := range slices.Compact(s.rules) {
		if s.meets(x.denialBut.of(int(i))) >= 0 || x.denialKind[i] == open && w.mode == Possible {
			continue
		}
		for places, j := x.denialSpans.of(int(i)), 0; j < places.len(); j++ {
			on(x.span.of(int(places.at(j))), refuses, x.denialSet.at(int(i)))
		}
	}
	for i, items := range w.rails {
		if s.meets(x.railBut.of(i)) < 0 {
			w.items = append(w.items, items...)
		}
	}
	w.entered, w.outside = w.entered[:0], 0
	if s.ids[0] == none {
		return
	}
	of := x.ceilings.of(int(s.ids[0]))
	for j := range of.len() {
		c := int(of.at(j))
		for places, k := x.ceilOn.of(c), 0; k < places.len(); k++ {
			on(x.span.of(int(places.at(k))), enters, uint32(j))
		}
		w.entered = append(w.entered, 0)
		w.outside++
		clear(w.one)
		x.bits(x.ceilSet.at(c), w.one)
		for i, v := range w.one { // what the ceiling does not admit is refused from the start
			w.refused[i] |= ^v
		}
	}
}

// run goes through the items in depth-first order. Their intervals nest.
func (w *Walk) run() {
	w.at, w.count = 0, [6]uint32{}
	for _, it := range w.items {
		rank, of := uint32(it>>32), uint32(it&(1<<30-1))
		if len(w.stack) == 0 || w.stack[len(w.stack)-1].rank != rank {
			start := w.x.spanStart.at(int(rank))
			for len(w.stack) > 0 && w.stack[len(w.stack)-1].end <= start {
				w.pop()
			}
			w.advance(start)
			w.stack = append(w.stack, frame{rank: rank, end: w.x.spanEnd.at(int(rank)), undo: len(w.undo), count: w.count})
		}
		switch it >> 30 & 3 {
		case enters:
			w.enter(of)
		case gives:
			w.give(of)
		case refuses:
			w.refuse(of)
		default:
			w.admit(of)
		}
	}
	for len(w.stack) > 0 {
		w.pop()
	}
	for _, d := range w.dirty {
		w.isDirty[d] = false
	}
	w.dirty = w.dirty[:0]
	if len(w.entered) > 0 {
		clear(w.refused)
	}
}

// advance says that nothing changes up to a node.
func (w *Walk) advance(to uint32) {
	if to <= w.at {
		return
	}
	from := w.at
	w.at = to
	if w.outside > 0 || w.count == [6]uint32{} {
		return
	}
	n := w.x.realBefore.at(int(to)) - w.x.realBefore.at(int(from))
	if n == 0 {
		return
	}
	for _, d := range w.dirty {
		w.isDirty[d] = false
		w.total.Permissions[d] |= w.granted[d] &^ w.refused[d]
	}
	w.dirty = w.dirty[:0]
	w.total.Nodes += int(n)
	for l, c := range w.count {
		w.total.Pairs[l] += uint64(c) * uint64(n)
	}
	if w.pieces != nil {
		p := Piece{From: int(from), To: int(to), Nodes: int(n), Words: make([]Word, 0, len(w.touched))}
		for _, t := range w.touched {
			if v := w.granted[t] &^ w.refused[t]; v != 0 {
				p.Words = append(p.Words, Word{t, v})
			}
		}
		*w.pieces = append(*w.pieces, p)
	}
}

func (w *Walk) pop() {
	f := &w.stack[len(w.stack)-1]
	w.advance(f.end)
	for i := len(w.undo) - 1; i >= f.undo; i-- {
		if c := w.undo[i]; c.refused {
			w.refused[c.word] = c.value
			w.mark(c.word) // what was refused comes back
		} else {
			w.granted[c.word] = c.value
		}
	}
	w.undo = w.undo[:f.undo]
	w.count = f.count
	for _, c := range f.ceils {
		if w.entered[c]--; w.entered[c] == 0 {
			w.outside++
		}
	}
	w.stack = w.stack[:len(w.stack)-1]
}

func (w *Walk) mark(word uint32) {
	if !w.isDirty[word] {
		w.isDirty[word] = true
		w.dirty = append(w.dirty, word)
	}
}

// tally adds permissions that came into effect, or takes away those that went.
func (w *Walk) tally(word uint32, b uint64, sign uint32) {
	for l := range w.count {
		w.count[l] += sign * uint32(bits.OnesCount64(b&w.levels[l][word]))
	}
}

func (w *Walk) enter(c uint32) {
	if w.entered[c]++; w.entered[c] == 1 {
		w.outside--
		for _, t := range w.touched { // nothing of what is in effect was looked at outside
			w.mark(t)
		}
	}
	f := &w.stack[len(w.stack)-1]
	f.ceils = append(f.ceils, c)
}

func (w *Walk) give(set uint32) {
	x := w.x
	for i := int(x.setOff.at(int(set))); i < int(x.setOff.at(int(set)+1)); i++ {
		at := x.setWord.at(i)
		old := w.granted[at]
		fresh := x.setBits.at(i) &^ old
		if fresh == 0 {
			continue
		}
		w.undo = append(w.undo, change{at, false, old})
		w.granted[at] = old | fresh
		if fresh &^= w.refused[at]; fresh != 0 {
			w.tally(at, fresh, 1)
			w.mark(at)
		}
	}
}

func (w *Walk) refuse(set uint32) {
	x := w.x
	for i := int(x.setOff.at(int(set))); i < int(x.setOff.at(int(set)+1)); i++ {
		w.refuseWord(x.setWord.at(i), x.setBits.at(i))
	}
}

func (w *Walk) admit(set uint32) {
	x := w.x
	i, end := int(x.setOff.at(int(set))), int(x.setOff.at(int(set)+1))
	for _, t := range w.touched {
		for i < end && x.setWord.at(i) < t {
			i++
		}
		admitted := uint64(0)
		if i < end && x.setWord.at(i) == t {
			admitted = x.setBits.at(i)
		}
		w.refuseWord(t, ^admitted)
	}
}

func (w *Walk) refuseWord(at uint32, b uint64) {
	old := w.refused[at]
	fresh := b &^ old
	if fresh == 0 {
		return
	}
	w.undo = append(w.undo, change{at, true, old})
	w.refused[at] = old | fresh
	if fresh &= w.granted[at]; fresh != 0 {
		w.tally(at, fresh, ^uint32(0))
	}
}
