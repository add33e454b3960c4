package gauge

import (
	"fmt"
	"runtime"
	"slices"
	"sync"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/model"
)

// A Reach is what an identity can get to: what it holds, what it can give itself, and what
// those have whom it can become.
type Reach struct {
	Danger  float64
	Becomes int  // how many others it can become, in any number of steps
	Anybody bool // it can become anybody; Becomes is everybody else then
	Nodes   int  // of the inventory on which it can give itself, or as another, everything
}

// Further reports whether there is more within reach than is held.
func (r Reach) Further(held float64) bool { return r.Danger > held+1e-9 }

// Within measures what is within reach on one estate, once for each distinct closure. It is
// not for several goroutines.
type Within struct {
	s       *Scale
	g       *escalate.Graph // nil: nobody was asked about who can get any further
	further access.Set      // permissions that get their holder further
	memo    map[string]Reach
	own     map[int]*gets
	kept    int // pieces in own
	few     int // how many are looked at before groups are
	anybody *total
	told    *Result // a comparison of the same estate; nil: none is at hand
	before  *Result // one of an estate that gives everybody as much or more: see Below
	touched func(n int) bool
	still   *bool    // what keeps says
	pillars []pillar // of everybody: see there
}

// pillars are those by whom everybody gets as far as it does.
type pillars struct {
	By []pillar
	Reach
}

// pillar is somebody by whom everybody gets further than by those before it: alone, or as a member of a group as well,
// by number.
type pillar struct {
	Who   int
	Group int // -1: alone
}

func pillarOf(who int, extra index.Extra) pillar {
	if extra.Group == nil {
		return pillar{who, -1}
	}
	return pillar{who, *extra.Group}
}

// gets is what somebody gets to.
type gets struct {
	pieces []index.Piece
	held   access.Set   // permissions, on whatever place
	all    index.Region // nodes on which it can give itself everything
}

// total is what everybody gets to together, and what nobody does.
type total struct {
	gets
	lacks  []index.Piece
	places []uint32 // on how many nodes each permission can be used
	sieve  *escalate.Sieve
}

// NewWithin prepares a measure. The first one asked about who is granted what gets further, or may act as
// others, costs what [escalate.New] does.
func NewWithin(s *Scale) *Within { return withinOf(s, nil) }

func withinOf(s *Scale, g *escalate.Graph) *Within {
	w := &Within{s: s, g: g, memo: map[string]Reach{}, own: map[int]*gets{}, few: firstFew, further: s.x.NewSet()}
	for p := range s.x.Numbers() {
		if s.x.Permission(p).Escalates != "" {
			w.further.Add(p)
		}
	}
	return w
}

// Know takes what a comparison of the same estate, with the same weights, measured of anybody as it is.
func (w *Within) Know(r *Result) { w.told = r }

// Below says that a comparison measured an estate that gives everybody what this one does, or more, and whom it
// gives more, by number: identities, and groups. Nobody may be able to give itself more here than there, as by a role
// that was granted otherwise.
func (w *Within) Below(r *Result, touched func(n int) bool) { w.before, w.touched = r, touched }

// graph returns who can get further how.
func (w *Within) graph() *escalate.Graph {
	if w.g == nil {
		w.g = escalate.New(w.s.x, nil)
	}
	return w.g
}

// climbs reports whether somebody may get further than what it is granted: each step takes a permission that
// escalates, an act-as edge, or a source that lets it through every check.
func (w *Within) climbs(id model.ID) bool {
	x := w.s.x
	return x.Bypasses(id) || x.ActsAs(id) || slices.ContainsFunc(x.Givers(id), func(giver int) bool {
		return x.GivenBy(giver).Meets(w.further)
	})
}

// Of measures what is within reach of an identity.
func (w *Within) Of(id model.ID) Reach {
	n, ok := w.s.x.Number(id)
	if !ok {
		return Reach{Danger: w.s.HeldDanger(id)}
	}
	if w.told != nil {
		if s := w.told.byID[id]; s != nil && s.reached {
			return s.Within
		}
	}
	if w.g == nil && !w.climbs(id) {
		_, held := w.s.Held(id)
		pieces := w.s.walk.PiecesWith(id, index.Extra{})
		return w.measure(&gets{held: held}, w.s.x.Places(pieces))
	}
	as, same := w.asBefore(n)
	if same && w.g == nil && escalate.AnybodyAtOnce(w.s.x, id) { // which is known sooner than the graph is made
		return as
	}
	who, anybody := w.graph().Closure(n)
	if same && anybody {
		return as
	}
	key := fmt.Sprint(slices.Sorted(slices.Values(who)))
	if anybody { // and what it is itself, if that is nobody whom one becomes: a group, a closed account
		if who = nil; !slices.Contains(w.graph().Everyone(), n) {
			who = []int{n}
		}
		key = fmt.Sprint("anybody ", who)
	}
	r, ok := w.memo[key]
	if !ok {
		switch {
		case !anybody:
			g := w.union(who)
			r = w.measure(g, w.s.x.Places(g.pieces))
		case len(who) == 0:
			r = w.total()
		default:
			r = w.besides(n)
		}
		w.memo[key] = r
	}
	if r.Becomes, r.Anybody = len(who)-1, anybody; anybody {
		r.Becomes = len(w.graph().Everyone()) - 1 + len(who)
	}
	return r
}

// measure weighs what somebody gets to, on so many places of each permission.
func (w *Within) measure(g *gets, places []uint32) Reach {
	r := Reach{Nodes: w.s.x.CountClass(0, g.all)}
	for i, n := range places {
		if n == 0 && !g.held.Has(i) {
			continue
		}
		r.Danger += w.s.w.Of(w.s.x.Level(i), max(1, int(n)))
	}
	return r
}

// total weighs what everybody gets to together.
func (w *Within) total() Reach { return w.measure(&w.everybody().gets, w.everybody().places) }

// besides weighs what everybody gets to together with somebody who is none of them.
func (w *Within) besides(n int) Reach {
	all, x := w.everybody(), w.s.x
	out := gets{held: all.held.Clone(), all: all.all}
	lacks, nodes := all.lacks, index.NodesOf(all.lacks)
	places := slices.Clone(all.places)
	for _, extra := range w.graph().OwnInside(n, all.sieve) {
		out.all = out.all.Or(x.RegionOf(extra.Spans))
		pieces := index.Shared(lacks, w.s.walk.PassingInside(x.ID(n), extra, nodes))
		for i, k := range x.Places(pieces) {
			places[i] += k
		}
		lacks = index.Less(lacks, pieces)
	}
	_, perms := w.s.Held(x.ID(n))
	out.held.Or(perms)
	return w.measure(&out, places)
}

// asBefore returns what is within reach of somebody who can become anybody, if that is what everybody got to before.
// It cannot be more, and it is no less where those by whom everybody got so far get to it still.
func (w *Within) asBefore(n int) (Reach, bool) {
	if w.before == nil || w.before.pillars == nil {
		return Reach{}, false
	}
	id, all := w.s.x.ID(n), w.before.pillars
	s := w.before.byID[id]
	if s == nil || !s.reached || !s.Within.Anybody || !w.keeps() {
		return Reach{}, false
	}
	r := Reach{all.Danger, s.Within.Becomes, true, all.Nodes}
	// One who is none of those whom anybody can become, as a group, may get to more than they do.
	return r, id.Kind != model.Group && !s.Identity.Disabled || s.Within == r
}

// keeps reports whether those by whom everybody got as far as it did get to all of that still. Where one of them has
// less than before, what all of them get to is measured: it is no more than before, so it is the same if it weighs the
// same.
func (w *Within) keeps() bool {
	all := w.before.pillars
	if w.still == nil {
		still := !slices.ContainsFunc(all.By, func(p pillar) bool {
			return w.touched(p.Who) || p.Group >= 0 && w.touched(p.Group)
		}) || w.together(all.By) == all.Reach
		w.still = &still
	}
	return *w.still
}

// together measures what some get to together.
func (w *Within) together(by []pillar) Reach {
	x := w.s.x
	sum, walk, logs := total{lacks: x.Whole()}, x.NewWalk(index.Possible), &lately{}
	sum.held = x.NewSet()
	for _, p := range by {
		lacking := index.NodesOf(sum.lacks).Or(x.Everything().AndNot(sum.all))
		for _, extra := range w.graph().OwnAs(p.Who, p.Group, lacking) {
			sum.add(x, walk, p.Who, extra)
		}
		w.s.join(sum.held, walk, logs, p.Who)
	}
	return w.measure(&sum.gets, x.Places(index.Less(x.Whole(), sum.lacks)))
}

// everybody is what anybody can become, together. What is still lacking is kept, and of each
// identity only that is looked at: who administers a top node comes first, and leaves little.
func (w *Within) everybody() *total {
	if w.anybody != nil {
		return w.anybody
	}
	x := w.s.x
	people := w.graph().Administering() // works everybody's own steps out
	first := map[int]bool{}
	for _, n := range people {
		first[n] = true
	}
	for _, n := range w.graph().Everyone() {
		if !first[n] {
			people = append(people, n)
		}
	}
	// What groups would open is only asked when a few have left little.
	begun := total{lacks: x.Whole()}
	walk := x.NewWalk(index.Possible)
	for _, n := range people[:min(len(people), w.few)] {
		for _, extra := range w.graph().OwnAlone(n) {
			begun.add(x, walk, n, extra)
		}
		w.pillars = append(w.pillars, pillar{n, -1})
	}
	sieve := w.graph().NewSieve(nil, begun.lacks, x.Everything().AndNot(begun.all))
	parts := make([]total, runtime.GOMAXPROCS(0))
	by := make([][]pillar, len(parts))
	var wg sync.WaitGroup
	for k := range parts {
		wg.Go(func() {
			t, logs := &parts[k], &lately{}
			t.held, t.lacks, t.all = x.NewSet(), begun.lacks, begun.all
			walk := x.NewWalk(index.Possible)
			t.sieve = sieve.Copy()
			for i := k; i < len(people); i += len(parts) {
				less := false
				for _, extra := range w.graph().OwnInside(people[i], t.sieve) {
					if t.add(x, walk, people[i], extra) {
						less = true
						by[k] = append(by[k], pillarOf(people[i], extra))
					}
				}
				if less {
					t.sieve = w.graph().NewSieve(t.sieve, t.lacks, x.Everything().AndNot(t.all))
				}
				has := t.held.Count()
				if w.s.join(t.held, walk, logs, people[i]); t.held.Count() > has {
					by[k] = append(by[k], pillar{people[i], -1})
				}
			}
		})
	}
	wg.Wait()
	out := parts[0]
	for _, t := range parts[1:] {
		out.held.Or(t.held)
		out.all = out.all.Or(t.all)
		out.lacks = index.Shared(out.lacks, t.lacks)
	}
	out.places = x.Places(index.Less(x.Whole(), out.lacks))
	out.sieve = w.graph().NewSieve(nil, out.lacks, x.Everything().AndNot(out.all))
	for _, more := range by {
		w.pillars = append(w.pillars, more...)
	}
	w.anybody = &out
	return w.anybody
}

// firstFew are looked at before groups are asked about: mostly one of them administers a top node.
const firstFew = 4

// add takes what an identity gets to off what is lacking, and reports whether there is less.
func (t *total) add(x *index.Index, walk *index.Walk, n int, extra index.Extra) (less bool) {
	if mine := x.RegionOf(extra.Spans); len(mine.AndNot(t.all)) > 0 {
		t.all, less = t.all.Or(mine), true
	}
	pieces := walk.PassingInside(x.ID(n), extra, index.NodesOf(t.lacks))
	if index.Meet(t.lacks, pieces) {
		t.lacks, less = x.Inventoried(index.Less(t.lacks, pieces)), true
	}
	return less
}

// union is what several get to together. Two halves are joined at a time, so that what many
// have is not walked over again and again.
func (w *Within) union(who []int) *gets {
	if len(who) == 1 {
		return w.by(who[0])
	}
	return joined(w.union(who[:len(who)/2]), w.union(who[len(who)/2:]))
}

// joined is what two get to together.
func joined(a, b *gets) *gets {
	out := &gets{pieces: index.Merged(a.pieces, b.pieces), held: a.held.Clone(), all: a.all.Or(b.all)}
	out.held.Or(b.held)
	return out
}

// by is what an identity gets to without becoming another.
func (w *Within) by(n int) *gets {
	if g := w.own[n]; g != nil {
		return g
	}
	x, id := w.s.x, w.s.x.ID(n)
	g := &gets{}
	for _, extra := range w.graph().Own(n) {
		g.pieces = index.Merged(g.pieces, w.s.walk.PiecesWith(id, extra))
		g.all = g.all.Or(x.RegionOf(extra.Spans))
	}
	_, g.held = w.s.Held(id)
	if w.kept+len(g.pieces) <= mostKept {
		w.kept += len(g.pieces)
		w.own[n] = g
	}
	return g
}

// mostKept bounds how many pieces of identities' access are kept while closures are joined:
// some hundred bytes each.
const mostKept = 200_000
