package index

import (
	"cmp"
	"iter"
	"math/bits"
	"slices"
	"sync"
	"sync/atomic"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// How an identity is summed up
//
// Nodes are numbered in depth-first order, so what a rule stands on, a node alone or a node
// with everything below it, is an interval of numbers, and two such intervals either nest or
// lie apart. Let an identity be granted A on all of the tree and B on the subtree of 2, and be
// refused A on the subtree of 5:
//
//	nodes    0 1 2 3 4 5 6 7 8 9
//	A        [=================]        granted at 0
//	B            [=========]            granted at 2
//	not A              [===]            refused at 5
//
// Rules sorted by where they begin, the wider one first, are met in the order 0, 2, 5. A stack
// holds those whose interval has not ended, and a log what each of them changed in the bitmaps
// granted and refused; leaving an interval puts that back (Walk.pop). So at each rule it is
// known what is granted and refused there already by what lies around it, and it is counted
// for what it changes alone, once, on all the nodes of its interval:
//
//	at 0     A is new: + nodes of A's kinds in 0..9
//	at 2     B is new: + nodes of B's kinds in 2..7
//	at 5     A is granted and refused from here: - nodes of A's kinds in 5..7
//
// What lies inside corrects what lies around it, so no node is looked at, and no pair of
// permission and node either: the cost is that of the rules. How many nodes of a kind lie in an
// interval is two look-ups in a bitmap with ranks (Index.countClass), done once for all
// permissions of the same kinds (Walk.nodes). Most rules have nothing inside them and nothing
// beside them on the same interval; those are counted without touching the bitmaps (Walk.leaf).
// And an identity has the same role on many places: what of a role is granted or refused there
// already is taken off at each of them, and its permissions are gone through once, in the end,
// for the nodes of all (Walk.noteWhole, Walk.addWholes).
//
// A ceiling would be the same for everything: what it does not admit is refused from the start,
// and each grant is cut to its places beforehand (Walk.under), which keeps intervals nesting.
//
// Where the answer itself is wanted and not its sum, the same pass writes down a piece whenever
// it comes to where something changes (Walk.advance): between two such places the bitmaps stay
// as they are.
//
// Everything that is asked often is worked out once for all walks (prepared): the items of what
// is granted to each identity, in order, so that those of a closure are only merged (Walk.merge,
// two runs at a time), and each set as the words that are not zero. An edited view takes from
// what it is a view of whatever the edit did not touch.

// A Mode says what counts while nothing is known about the call.
type Mode int

// The modes. What may be: grants under conditions count, denials under conditions do
// not. What is certain: the other way round.
const (
	Possible Mode = iota
	Certain
)

// Totals is everything an identity can do on the nodes of the inventory, summed up. A
// permission counts on the kinds of node that it applies to.
type Totals struct {
	Permissions access.Set                // that it can use on some node, by number
	Places      []uint32                  // on how many nodes, by the number of the permission
	Pairs       [model.HandOut + 1]uint64 // of permission and node, by the level the permission weighs as
	Bypass      bool                      // the source lets it through every check
}

// A Piece is a run of nodes in depth-first order on which the same is granted and not
// refused to an identity.
type Piece struct {
	From, To int // nodes; To is the first behind it
	Words    []Word
}

// A Word is 64 permissions, the first of which has the number 64*At.
type Word struct {
	At   uint32
	Bits uint64
}

// Permissions yields what a piece holds, by number.
func (p *Piece) Permissions() iter.Seq[int] {
	return func(yield func(int) bool) {
		for _, w := range p.Words {
			for b := w.Bits; b != 0; b &= b - 1 {
				if !yield(int(64*w.At) + bits.TrailingZeros64(b)) {
					return
				}
			}
		}
	}
}

// prepared is what all walks of a mode share: rules as items, in order. It is filled in as
// identities are asked about; an edited view takes what it did not touch from what it is a
// view of.
type prepared struct {
	x       *Index
	mode    Mode
	before  *prepared                  // of an edited view: that of the estate at the bottom
	given   []atomic.Pointer[[]uint64] // of each identity; nil of a view
	denials []atomic.Pointer[[]uint64]
	edited  *sync.Map  // of a view: the same of those that it edited, by number
	brought *sync.Map  // and of denials that it brought
	rails   []rail     // sorted by their first item
	sets    []words    // of a view: those of the estate at the bottom
	masks   [][]uint64 // of each set: which words it has
	later   *sync.Map  // of a view: the sets behind those, a *later each
	only    access.Set // see Walk.Only; nil: every permission counts
	kinds   [][]uint16 // of each set: the classes of its permissions
	all     words      // every permission
	allMask []uint64
	class   []uint16 // of each permission
	uniform []int32  // of each word of permissions: their class; -1: they are of several
}

// everySet stands in an item for every permission.
const everySet = 1<<itemSetBits - 1

func (p *prepared) set(n uint32) *words {
	if int(n) < len(p.sets) {
		return &p.sets[n]
	}
	if n == everySet {
		return &p.all
	}
	return &p.behind(n).words
}

func (p *prepared) maskOf(n uint32) []uint64 {
	if int(n) < len(p.masks) {
		return p.masks[n]
	}
	if n == everySet {
		return p.allMask
	}
	return p.behind(n).mask
}

// later is a set that a view brought, with which words it has.
type later struct {
	words
	mask []uint64
}

func (p *prepared) behind(n uint32) *later {
	if v, ok := p.later.Load(n); ok {
		return v.(*later)
	}
	l := &later{}
	l.words, l.mask = p.wordsOf(int(n))
	if p.only != nil {
		l.words, l.mask = p.part(l.words)
	}
	p.later.Store(n, l)
	return l
}

// wordsOf returns a set as words.
func (p *prepared) wordsOf(n int) (set words, mask []uint64) {
	x := p.x
	mask = make([]uint64, (x.words()+63)/64)
	r := x.rightsOf(n)
	for i := range r.word.len() {
		at := uint16(r.word.at(i))
		set.at, set.bits = append(set.at, at), append(set.bits, r.bits.at(i))
		mask[at>>6] |= 1 << (at & 63)
	}
	return set, mask
}

// kindsOf returns the classes of the permissions of a set.
func (p *prepared) kindsOf(s words) (classes []uint16) {
	for j, at := range s.at {
		for b := s.bits[j]; b != 0; b &= b - 1 {
			if c := p.class[64*int(at)+bits.TrailingZeros64(b)]; !slices.Contains(classes, c) {
				classes = append(classes, c)
			}
		}
	}
	return classes
}

// part returns what of a set counts.
func (p *prepared) part(s words) (some words, mask []uint64) {
	mask = make([]uint64, len(p.allMask))
	for j, at := range s.at {
		if v := s.bits[j] & p.only[at]; v != 0 {
			some.at, some.bits = append(some.at, at), append(some.bits, v)
			mask[at>>6] |= 1 << (at & 63)
		}
	}
	return some, mask
}

// rail is a guardrail, which stands on one span.
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
//
// The spans of rules nest: each is a node alone or a subtree. So the rules that concern an
// identity, sorted by span, are met on the way down before what lies inside them, and a
// stack of the spans that are open, with a log of what each changed, is enough to know at
// every rule what is granted and refused there already. What a rule gives beyond that holds
// on all nodes of its span, less what rules inside take away again: so permissions are
// counted once a rule, and not once a node or once a run of nodes.
type Walk struct {
	*prepared
	items, spare     []uint64
	runs             []int // where in items a sorted run begins
	granted, refused []uint64
	mask             []uint64 // words that the identity's grants have
	touched          []uint16 // the same as a list
	one              []uint64 // a set as words
	undo             []change
	stack            []frame
	counts           []int32 // nodes by class of the frames on the stack; -1: not counted yet
	classes          int     // of permissions
	whole            wholes
	at               uint32 // how far it came
	ceiling          bool   // what a ceiling does not admit is refused from the start
	total            Totals
	pieces           *[]Piece
	sum              bool // only pairs are asked for
	arena            []Word
	passing          passing
	extra            *Extra
	low, high        uint32 // only nodes from here to there count
	inside           Region // see PiecesInside; nil: everywhere
}

// passing is room for pieces that are looked at once, see [Walk.PassingInside].
type passing struct {
	on     bool
	arena  []Word
	pieces []Piece
}

// change is a word to be put back.
type change struct {
	word    uint16
	refused bool
	value   uint64
}

type frame struct {
	span     uint32
	from, to uint32 // nodes that count
	end      uint32
	undo     int
}

// The kinds of item: a set of rights on a span.
const (
	gives = iota
	refuses
)

// An item is a span, a kind and the number of a set, so that sorting items is sorting
// spans.
const itemSetBits = 30

func itemSet(it uint64) uint32   { return uint32(it & (1<<itemSetBits - 1)) }
func itemRefuses(it uint64) bool { return it>>itemSetBits&3 == refuses }
func itemSpan(it uint64) uint32  { return uint32(it >> 32) }

func item(span uint32, kind int, of uint32) uint64 {
	return uint64(span)<<32 | uint64(kind)<<itemSetBits | uint64(of)
}

// NewWalk prepares a walk.
func (x *Index) NewWalk(mode Mode) *Walk {
	n := x.words()
	return &Walk{prepared: x.prepare(mode), granted: make([]uint64, n), refused: make([]uint64, n),
		mask: make([]uint64, (n+63)/64), one: make([]uint64, n), high: none,
		classes: x.classKinds.off.len() - 1}
}

// Only lets a walk count some permissions only, and only at and below a node; the zero
// path means everywhere. It reports whether the node is one that is known.
func (w *Walk) Only(perms access.Set, under model.Path) bool {
	p := *w.prepared
	p.sets, p.masks, p.later, p.only = make([]words, len(w.sets)), make([][]uint64, len(w.sets)), &sync.Map{}, perms
	for i, s := range w.sets {
		p.sets[i], p.masks[i] = p.part(s)
	}
	p.all, p.allMask = p.part(w.all)
	w.prepared = &p
	if under.IsZero() {
		return true
	}
	n, same := w.x.nearest(under)
	if !same {
		w.low, w.high = 0, 0
		return false
	}
	w.low, w.high = n, w.x.nodeEnd.at(int(n))
	return true
}

func (x *Index) prepare(mode Mode) *prepared {
	m := &x.modes[mode]
	m.once.Do(func() {
		p := &prepared{x: x, mode: mode}
		m.prepared = p
		if x.before != nil {
			p.before, p.later, p.edited, p.brought = x.before.prepare(mode), &sync.Map{}, &sync.Map{}, &sync.Map{}
			p.class, p.uniform, p.sets, p.masks = p.before.class, p.before.uniform, p.before.sets, p.before.masks
			p.kinds = p.before.kinds
		} else {
			p.given = make([]atomic.Pointer[[]uint64], x.Identities())
			p.denials = make([]atomic.Pointer[[]uint64], x.denialSet.len())
			p.class = make([]uint16, len(x.permLevel))
			p.uniform = slices.Repeat([]int32{-2}, x.words()) // no permission yet
			for i := range p.class {
				p.class[i] = uint16(x.permClass.at(i))
				if x.permLevel[i] == hole {
					continue
				}
				switch c := int32(p.class[i]); p.uniform[i/64] {
				case -2, c:
					p.uniform[i/64] = c
				default:
					p.uniform[i/64] = -1
				}
			}
			for s := range x.sets() {
				set, mask := p.wordsOf(s)
				p.sets, p.masks, p.kinds = append(p.sets, set), append(p.masks, mask), append(p.kinds, p.kindsOf(set))
			}
		}
		p.allMask = make([]uint64, (x.words()+63)/64)
		every := x.NewSet()
		for i := range x.Numbers() {
			every.Add(i)
		}
		for at, v := range every {
			if v != 0 {
				p.all.at, p.all.bits = append(p.all.at, uint16(at)), append(p.all.bits, v)
				p.allMask[at>>6] |= 1 << (at & 63)
			}
		}
		for r := range x.railSet.len() {
			if x.railSet.at(r) == none { // it is gone
				continue
			}
			for _, s := range x.spansOfPattern(x.guardrails.at(r).Node.Below()) {
				p.rails = append(p.rails, rail{r, item(s, refuses, x.railSet.at(r))})
			}
		}
		slices.SortFunc(p.rails, func(a, b rail) int { return cmp.Compare(a.item, b.item) })
	})
	return m.prepared
}

// grantsOf returns what is granted to just an identity, as items in order.
func (p *prepared) grantsOf(id uint32) []uint64 {
	x := p.x
	if p.before == nil {
		if v := p.given[id].Load(); v != nil {
			return *v
		}
	} else {
		if _, own := x.given.edits.get(int(id)); !own && int(id) < len(p.before.given) {
			return p.before.grantsOf(id)
		}
		if v, ok := p.edited.Load(id); ok {
			return v.([]uint64)
		}
	}
	var out []uint64
	given := x.given.of(int(id))
	for j := 0; j < given.len(); j += givenWidth {
		if given.at(j+givenKind) == always || p.mode == Possible {
			out = p.on(out, given.at(j+givenSpans), gives, given.at(j+givenSet))
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	if p.before == nil {
		p.given[id].Store(&out)
	} else {
		p.edited.Store(id, out)
	}
	return out
}

// denies returns what a denial refuses, as items in order.
func (p *prepared) denies(i uint32) []uint64 {
	if p.before != nil {
		if int(i) < len(p.before.denials) {
			return p.before.denies(i)
		}
		if v, ok := p.brought.Load(i); ok {
			return v.([]uint64)
		}
	} else if v := p.denials[i].Load(); v != nil {
		return *v
	}
	var out []uint64
	if p.x.denialKind.at(int(i)) == always || p.mode == Certain {
		for places, j := p.x.denialSpans.of(int(i)), 0; j < places.len(); j++ {
			out = p.on(out, places.at(j), refuses, p.x.denialSet.at(int(i)))
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	if p.before == nil {
		p.denials[i].Store(&out)
	} else {
		p.brought.Store(i, out)
	}
	return out
}

func (p *prepared) on(list []uint64, spans uint32, kind int, of uint32) []uint64 {
	for s, j := p.x.span.of(int(spans)), 0; j < s.len(); j++ {
		list = append(list, item(s.at(j), kind, of))
	}
	return list
}

// Totals sums an identity up. What it returns is overwritten by the next call.
func (w *Walk) Totals(id model.ID) Totals {
	x := w.x
	if w.total.Places == nil {
		w.total = Totals{Permissions: x.NewSet(), Places: make([]uint32, len(x.permLevel))}
	}
	if clear(w.total.Permissions); w.total.Bypass {
		clear(w.total.Places)
	}
	for _, t := range w.touched { // by the last one
		clear(w.total.Places[64*int(t) : min(64*int(t)+64, len(w.total.Places))])
	}
	w.touched = w.touched[:0]
	w.total.Pairs, w.total.Bypass = [model.HandOut + 1]uint64{}, false
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
	w.addWholes()
	for _, t := range w.touched {
		for i := 64 * int(t); i < min(64*int(t)+64, len(w.total.Places)); i++ {
			if n := w.total.Places[i]; n > 0 {
				w.total.Permissions.Add(i)
				w.total.Pairs[x.permLevel[i]] += uint64(n)
			}
		}
	}
	return w.total
}

// Pairs counts what an identity can do in pairs of permission and node, by the level that the
// permission weighs as: quicker than [Walk.Totals], which says of which permissions.
func (w *Walk) Pairs(id model.ID) [model.HandOut + 1]uint64 {
	w.sum = true
	defer func() { w.sum = false }()
	return w.Totals(id).Pairs
}

// Pieces returns everything that is granted to an identity and not refused on the nodes of
// the inventory as runs of nodes, in depth-first order.
func (w *Walk) Pieces(id model.ID) []Piece {
	var out []Piece
	w.pieces = &out
	w.Totals(id)
	w.pieces = nil
	return out
}

// Extra is what an identity has besides what it is granted, or what it does not have to
// heed.
type Extra struct {
	Group      *int            // by number: it is a member of this group as well
	Spans      []uint32        // on which it may give itself everything, see [Index.SpansOf]
	Ceilings   bool            // no ceiling holds it
	Guardrails bool            // no guardrail holds it
	Denials    map[string]bool // that do not hold it, by id
}

// PiecesWith returns the pieces of an identity that has more than it is granted.
func (w *Walk) PiecesWith(id model.ID, e Extra) []Piece {
	w.extra = &e
	defer func() { w.extra = nil }()
	return w.Pieces(id)
}

// PiecesInside returns what PiecesWith does, and looks only at the rules that say something
// of a region: what the pieces say of other nodes, if anything, is not to be used.
func (w *Walk) PiecesInside(id model.ID, e Extra, r Region) []Piece {
	if len(r) == 0 {
		return nil
	}
	w.inside = r
	defer func() { w.inside = nil }()
	return w.PiecesWith(id, e)
}

// PassingInside returns what PiecesInside does, in room that the next question of its kind uses again:
// nothing of it, nor a word of one of the pieces, may be kept.
func (w *Walk) PassingInside(id model.ID, e Extra, r Region) []Piece {
	if len(r) == 0 {
		return nil
	}
	arena := w.arena
	w.arena, w.passing.on = w.passing.arena[:0], true
	w.inside, w.extra, w.pieces = r, &e, new([]Piece)
	*w.pieces = w.passing.pieces[:0]
	w.Totals(id)
	w.passing = passing{arena: w.arena, pieces: *w.pieces}
	w.arena, w.inside, w.extra, w.pieces = arena, nil, nil, nil
	return w.passing.pieces
}

// everything is what somebody has whom no check stops.
func (w *Walk) everything() {
	t := &w.total
	t.Bypass = true
	all := frame{from: w.low, to: min(w.high, uint32(w.x.nodeParent.len()))}
	counts := w.x.countClasses(all.from, all.to)
	some := w.x.NewSet()
	for i := range w.x.Numbers() {
		if w.only != nil && !w.only.Has(i) {
			continue
		}
		some.Add(i)
		if n := uint32(counts[w.class[i]]); n > 0 {
			t.Permissions.Add(i)
			t.Places[i] = n
			t.Pairs[w.x.permLevel[i]] += uint64(n)
		}
	}
	if w.pieces != nil && all.from < all.to {
		p := Piece{From: int(all.from), To: int(all.to)}
		for i, v := range some {
			if v != 0 {
				p.Words = append(p.Words, Word{uint32(i), v})
			}
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
		if w.inside == nil {
			w.items = append(w.items, run...)
			return
		}
		for _, it := range run {
			if w.inside.meets(x.bounds(itemSpan(it))) {
				w.items = append(w.items, it)
			}
		}
	}
	give := func(given []uint64) {
		for _, it := range given {
			for i, m := range w.maskOf(itemSet(it)) {
				w.mask[i] |= m
			}
		}
		add(given)
	}
	if w.extra != nil {
		var all []uint64
		for _, span := range w.extra.Spans {
			all = append(all, item(span, gives, everySet))
		}
		slices.Sort(all)
		give(slices.Compact(all))
		if w.extra.Group != nil {
			x.joinGroup(s, uint32(*w.extra.Group))
		}
	}
	for _, n := range s.ids {
		if n == none {
			continue
		}
		give(w.grantsOf(n))
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
		if w.extra != nil && len(w.extra.Denials) > 0 && w.extra.Denials[x.denials.at(int(i)).ID] {
			continue
		}
		if s.meets(x.denialBut.of(int(i))) < 0 {
			w.items = append(w.items, w.denies(i)...)
		}
	}
	slices.Sort(w.items[from:])
	w.runs = append(w.runs, len(w.items))
	for _, r := range w.rails {
		if w.extra != nil && w.extra.Guardrails {
			break
		}
		if s.meets(x.railBut.of(r.number)) < 0 {
			w.items = append(w.items, r.item)
		}
	}
	if w.ceiling = (w.extra == nil || !w.extra.Ceilings) && s.ids[0] != none &&
		x.ceilings.of(int(s.ids[0])).len() > 0; w.ceiling {
		w.under(x.ceilings.of(int(s.ids[0])))
	}
}

// under cuts what is given to the places of ceilings, and refuses what they do not
// admit. Spans nest, so what two share is the smaller one.
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
			from, to := x.bounds(itemSpan(it))
			for places, k := x.ceilOn.of(c), 0; k < places.len(); k++ {
				for spans, l := x.spansOf(int(places.at(k))), 0; l < spans.len(); l++ {
					switch start, end := x.bounds(spans.at(l)); {
					case start <= from && to <= end:
						out = append(out, it)
					case from <= start && end <= to:
						out = append(out, item(spans.at(l), gives, itemSet(it)))
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

// run goes through the items in depth-first order.
func (w *Walk) run() {
	x := w.x
	w.at = w.low
	for i, it := range w.items {
		s := itemSpan(it)
		if n := len(w.stack); n == 0 || w.stack[n-1].span != s {
			start, end := x.bounds(s)
			for ; n > 0 && w.stack[n-1].end <= start; n-- {
				w.pop()
			}
			from, to := max(start, w.low), min(end, w.high)
			if from >= to || x.realBefore.at(int(from)) == x.realBefore.at(int(to)) {
				continue // no node of the inventory is in it, nor in what lies inside
			}
			w.advance(from)
			w.push(frame{span: s, from: from, to: to, end: end, undo: len(w.undo)})
			if w.pieces == nil && w.alone(i, s, end) {
				w.leaf(it)
				w.drop()
				continue
			}
		}
		if itemRefuses(it) {
			w.refuse(w.set(itemSet(it)))
		} else {
			w.give(itemSet(it))
		}
	}
	for len(w.stack) > 0 {
		w.pop()
	}
	if w.ceiling {
		clear(w.refused)
	}
}

// alone reports whether an item is the only one on its span and inside it.
func (w *Walk) alone(i int, s, end uint32) bool {
	if i+1 == len(w.items) {
		return true
	}
	next := itemSpan(w.items[i+1])
	return next != s && next>>1 >= end
}

func (w *Walk) push(f frame) {
	w.stack = append(w.stack, f)
	for range w.classes {
		w.counts = append(w.counts, -1)
	}
}

func (w *Walk) drop() {
	w.stack = w.stack[:len(w.stack)-1]
	w.counts = w.counts[:len(w.counts)-w.classes]
}

// nodes returns on how many nodes of the innermost span permissions of a class can be used.
func (w *Walk) nodes(c int) uint32 {
	at := len(w.counts) - w.classes + c
	if w.counts[at] < 0 {
		f := &w.stack[len(w.stack)-1]
		w.counts[at] = int32(w.x.countClass(c, f.from, f.to))
	}
	return uint32(w.counts[at])
}

// leaf does with a rule that is alone, as most are, without touching what is granted
// and refused around it.
func (w *Walk) leaf(it uint64) {
	n := itemSet(it)
	set := w.set(n)
	switch whole := !w.sum && int(n) < len(w.kinds); {
	case itemRefuses(it):
		for i, at := range set.at {
			if b := set.bits[i] & w.granted[at]; b != 0 {
				w.less(int(at), b&^w.refused[at])
			}
		}
	case whole: // what is granted or refused there already is taken off at once, and the rest is added in the end
		w.noteWhole(n)
		for i, at := range set.at {
			if b := set.bits[i] & (w.granted[at] | w.refused[at]); b != 0 {
				w.less(int(at), b)
			}
		}
	default:
		for i, at := range set.at {
			w.add(int(at), set.bits[i]&^w.granted[at]&^w.refused[at])
		}
	}
}

// wholes are sets that are given whole, with how many nodes of each class they are given on: an identity has
// the same role on many places, and its permissions are gone through once.
type wholes struct {
	at     []uint32 // of each set: its place below, counted from 1; 0: it has none
	sets   []uint32
	counts []uint32 // of each of those, and of each class
}

// noteWhole notes that a set is given on the innermost span.
func (w *Walk) noteWhole(set uint32) {
	t := &w.whole
	if t.at == nil {
		t.at = make([]uint32, len(w.kinds))
	}
	if t.at[set] == 0 {
		t.sets = append(t.sets, set)
		t.at[set] = uint32(len(t.sets))
		for range w.classes {
			t.counts = append(t.counts, 0)
		}
	}
	from := int(t.at[set]-1) * w.classes
	for _, c := range w.kinds[set] {
		t.counts[from+int(c)] += w.nodes(int(c))
	}
}

// addWholes counts what was given whole.
func (w *Walk) addWholes() {
	t := &w.whole
	for i, n := range t.sets {
		counts := t.counts[i*w.classes:][:w.classes]
		set := w.set(n)
		for j, at := range set.at {
			b, places := set.bits[j], w.total.Places[64*int(at):]
			if c := w.uniform[at]; c >= 0 {
				for k := counts[c]; b != 0; b &= b - 1 {
					places[bits.TrailingZeros64(b)] += k
				}
			}
			for ; b != 0; b &= b - 1 {
				i := bits.TrailingZeros64(b)
				places[i] += counts[w.class[64*int(at)+i]]
			}
		}
		t.at[n] = 0
	}
	t.sets, t.counts = t.sets[:0], t.counts[:0]
}

// add and less count permissions of a word on the innermost span.
func (w *Walk) add(word int, b uint64) {
	if w.pieces != nil {
		return // they are counted from the pieces
	}
	places := w.total.Places[64*word:]
	if c := w.uniform[word]; b != 0 && c >= 0 {
		n := w.nodes(int(c))
		if w.sum { // a word holds permissions of one level
			w.total.Pairs[w.x.permLevel[64*word+bits.TrailingZeros64(b)]] += uint64(n) * uint64(bits.OnesCount64(b))
			return
		}
		for ; b != 0; b &= b - 1 {
			places[bits.TrailingZeros64(b)] += n
		}
	}
	for ; b != 0; b &= b - 1 {
		i := bits.TrailingZeros64(b)
		places[i] += w.nodes(int(w.class[64*word+i]))
	}
}

func (w *Walk) less(word int, b uint64) {
	if w.pieces != nil {
		return
	}
	places := w.total.Places[64*word:]
	if c := w.uniform[word]; b != 0 && c >= 0 {
		n := w.nodes(int(c))
		if w.sum {
			w.total.Pairs[w.x.permLevel[64*word+bits.TrailingZeros64(b)]] -= uint64(n) * uint64(bits.OnesCount64(b))
			return
		}
		for ; b != 0; b &= b - 1 {
			places[bits.TrailingZeros64(b)] -= n
		}
	}
	for ; b != 0; b &= b - 1 {
		i := bits.TrailingZeros64(b)
		places[i] -= w.nodes(int(w.class[64*word+i]))
	}
}

// How many words room is made for at a time, and at most where it is used again; a word takes 16 bytes.
const (
	wordsAtOnce = 1 << 14
	mostPassing = 1 << 18
)

// advance says that nothing changes up to a node.
func (w *Walk) advance(to uint32) {
	from := w.at
	w.at = to
	if w.inside != nil && !w.inside.meets(from, to) {
		return
	}
	if w.pieces == nil || from >= to || w.x.realBefore.at(int(from)) == w.x.realBefore.at(int(to)) {
		return
	}
	if cap(w.arena)-len(w.arena) < len(w.touched) {
		size := max(wordsAtOnce, len(w.touched))
		if w.passing.on { // what was found lies in the room of before, which is too small
			size = max(size, min(2*cap(w.arena), mostPassing))
		}
		w.arena = make([]Word, 0, size)
	}
	begin := len(w.arena)
	for _, t := range w.touched {
		if v := w.granted[t] &^ w.refused[t]; v != 0 {
			w.arena = append(w.arena, Word{uint32(t), v})
		}
	}
	if begin < len(w.arena) {
		*w.pieces = append(*w.pieces, Piece{From: int(from), To: int(to),
			Words: w.arena[begin:len(w.arena):len(w.arena)]})
	}
}

func (w *Walk) pop() {
	f := &w.stack[len(w.stack)-1]
	w.advance(f.to)
	for i := len(w.undo) - 1; i >= f.undo; i-- {
		if c := w.undo[i]; c.refused {
			w.refused[c.word] = c.value
		} else {
			w.granted[c.word] = c.value
		}
	}
	w.undo = w.undo[:f.undo]
	w.drop()
}

func (w *Walk) give(n uint32) {
	set, whole := w.set(n), w.pieces == nil && !w.sum && int(n) < len(w.kinds)
	if whole {
		w.noteWhole(n)
	}
	for i, at := range set.at {
		old, b := w.granted[at], set.bits[i]
		if whole {
			if there := b & (old | w.refused[at]); there != 0 {
				w.less(int(at), there)
			}
		}
		if fresh := b &^ old; fresh != 0 {
			w.undo = append(w.undo, change{at, false, old})
			w.granted[at] = old | fresh
			if !whole {
				w.add(int(at), fresh&^w.refused[at])
			}
		}
	}
}

func (w *Walk) refuse(set *words) {
	for i, at := range set.at {
		old := w.refused[at]
		fresh := set.bits[i] &^ old
		if fresh == 0 || w.mask[at>>6]>>(at&63)&1 == 0 { // nothing is granted in other words
			continue
		}
		w.undo = append(w.undo, change{at, true, old})
		w.refused[at] = old | fresh
		w.less(int(at), fresh&w.granted[at])
	}
}
