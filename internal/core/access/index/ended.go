package index

import (
	"iter"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// The lists of what has an end, whether that is over or not.
const (
	endsGrants = iota
	endsDenials
	endsActAs
	kindsOfEnds
)

// ending keeps that what comes has an end, if it has.
func (e *editor) ending(kind int, c model.Condition, n uint32) {
	if !c.Until.IsZero() {
		e.ends.add(kind, n)
	}
}

// over reports whether a condition holds at no time from t on.
func over(c model.Condition, t time.Time) bool { return !c.Until.IsZero() && !t.Before(c.Until) }

// Ended yields the grants that are over at t, though the source may go on listing them.
func (x *Index) Ended(t time.Time) iter.Seq[*model.Grant] {
	return func(yield func(*model.Grant) bool) {
		for _, n := range x.ends.of(endsGrants).all() {
			if x.grantTo.at(int(n)) == none && !x.Over(int(n)) {
				continue
			}
			if g := x.grants.at(int(n)); over(g.Condition(), t) && !yield(g) {
				return
			}
		}
	}
}

// Over reports whether the grant of a number is listed, and over, in a view of what is in force.
func (x *Index) Over(n int) bool { return x.more != nil && x.more.over[uint32(n)] }

// InForce returns a view of the estate without the grants, denials and act-as edges that are over at
// t; x itself where there are none. Of calls from t on it decides as x does. Without it, what x is
// asked of no time in particular counts them as what holds under a condition.
//
// What is over and named in but, by id, stays. A grant that is over is still found by its name
// ([Index.GrantNamed], [Index.Ended]), and an edit may take it away.
func (x *Index) InForce(t time.Time, but ...string) *Index {
	var e *editor
	goes := func(id string, c model.Condition) bool {
		if !over(c, t) || slices.Contains(but, id) {
			return false
		}
		if e == nil {
			e = x.editor(&access.Edit{})
		}
		return true
	}
	for _, n := range x.ends.of(endsGrants).all() {
		if x.grantTo.at(int(n)) == none {
			continue
		}
		if g := x.grants.at(int(n)); goes(g.ID, g.Condition()) {
			e.dropGrant(n)
			e.more.over[n] = true
		}
	}
	for _, n := range x.ends.of(endsDenials).all() {
		if x.more != nil && x.more.deniesGone[n] {
			continue
		}
		if d := x.denials.at(int(n)); goes(d.ID, d.When) {
			e.dropDenial(int(n), d)
		}
	}
	for _, n := range x.ends.of(endsActAs).all() {
		if x.more != nil && x.more.edgesGone[n] {
			continue
		}
		if a := x.actAs.at(int(n)); goes(a.ID, a.Condition()) {
			e.dropEdge(n, a)
		}
	}
	if e == nil {
		return x
	}
	e.settle()
	return e.Index
}
