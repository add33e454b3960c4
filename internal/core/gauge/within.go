package gauge

import (
	"fmt"
	"slices"

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
	g       *escalate.Graph
	memo    map[string]Reach
	own     map[int]*gets
	kept    int // pieces in own
	anybody *gets
}

// gets is what somebody gets to.
type gets struct {
	pieces []index.Piece
	held   access.Set   // permissions, on whatever place
	all    index.Region // nodes on which it can give itself everything
}

// NewWithin prepares a measure. It costs what [escalate.New] does.
func NewWithin(s *Scale) *Within {
	return &Within{s: s, g: escalate.New(s.x, nil), memo: map[string]Reach{}, own: map[int]*gets{}}
}

// Of measures what is within reach of an identity.
func (w *Within) Of(id model.ID) Reach {
	n, ok := w.s.x.Number(id)
	if !ok {
		d, _ := w.s.Held(id)
		return Reach{Danger: d}
	}
	who, anybody := w.g.Closure(n)
	key := fmt.Sprint(slices.Sorted(slices.Values(who)))
	if anybody { // and what it is itself, if that is nobody whom one becomes: a group, a closed account
		if who = nil; !slices.Contains(w.g.Everyone(), n) {
			who = []int{n}
		}
		key = fmt.Sprint("anybody ", who)
	}
	r, ok := w.memo[key]
	if !ok {
		var all *gets
		switch {
		case !anybody:
			all = w.union(who)
		case len(who) == 0:
			all = w.everybody()
		default:
			all = joined(w.everybody(), w.by(n))
		}
		r = w.measure(all)
		w.memo[key] = r
	}
	if r.Becomes, r.Anybody = len(who)-1, anybody; anybody {
		r.Becomes = len(w.g.Everyone()) - 1 + len(who)
	}
	return r
}

// measure weighs what somebody gets to.
func (w *Within) measure(g *gets) Reach {
	r := Reach{Nodes: w.s.x.CountClass(0, g.all)}
	places := w.s.x.Places(g.pieces)
	for i, n := range places {
		if n == 0 && !g.held.Has(i) {
			continue
		}
		r.Danger += w.s.w.Of(w.s.x.Level(i), max(1, int(n)))
	}
	return r
}

// everybody is what anybody can become, together.
func (w *Within) everybody() *gets {
	if w.anybody != nil {
		return w.anybody
	}
	// Those who administer a top node are enough, where they get to everything.
	all := 0.0
	for i := range w.s.x.Numbers() {
		all += w.s.w.Of(w.s.x.Level(i), max(1, w.s.x.CountClass(w.s.x.Class(i), w.s.x.Everything())))
	}
	if some := w.g.Administering(); len(some) > 0 {
		if g := w.union(some); w.measure(g).Danger >= all-1e-9 {
			w.anybody = g
			return g
		}
	}
	w.anybody = w.union(w.g.Everyone())
	return w.anybody
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
	for _, extra := range w.g.Own(n) {
		g.pieces = index.Merged(g.pieces, w.s.walk.PiecesWith(id, extra))
		g.all = x.RegionOf(extra.Spans)
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
