package index

import (
	"iter"
	"math"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// The lists of what has an end, whether that is over or not: the numbers of records, each with the second that
// its end lies in, so that few need be read to know which are over.
const (
	endsGrants = iota
	endsDenials
	endsActAs
	kindsOfEnds
)

// secondOf returns the second since 1970 that a time lies in, as near as 32 bits tell.
func secondOf(t time.Time) uint32 { return uint32(min(max(t.Unix(), 0), math.MaxUint32)) }

// ending keeps that what comes has an end, if it has.
func (e *editor) ending(kind int, c model.Condition, n uint32) {
	if !c.Until.IsZero() {
		e.ends.add(kind, n)
		e.ends.add(kind, secondOf(c.Until))
	}
}

// over yields the numbers of what is over at t, of one kind: what holds at no time from then on. Of what
// ends in the very second it is read when.
func (x *Index) over(kind int, t time.Time, condition func(n int) model.Condition) iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		second := secondOf(t)
		for list, j := x.ends.of(kind).all(), 0; j < len(list); j += 2 {
			n, end := list[j], list[j+1]
			if (end < second || end == second && !t.Before(condition(int(n)).Until)) && !yield(n) {
				return
			}
		}
	}
}

func (x *Index) grantsOver(t time.Time) iter.Seq[uint32] {
	return x.over(endsGrants, t, func(n int) model.Condition { return x.grants.at(n).Condition() })
}

// Ended yields the grants that are over at t, though the source may go on listing them.
func (x *Index) Ended(t time.Time) iter.Seq[*model.Grant] {
	return func(yield func(*model.Grant) bool) {
		for n := range x.grantsOver(t) {
			if there := x.grantTo.at(int(n)) != none || x.Over(int(n)); there && !yield(x.grants.at(int(n))) {
				return
			}
		}
	}
}

// NextTurn returns when, after t, the first of the grants, denials and act-as edges begins or ends to hold; the zero
// time: none does.
func (x *Index) NextTurn(t time.Time) time.Time {
	var next time.Time
	note := func(c model.Condition) {
		for _, turn := range []time.Time{c.From, c.Until} {
			if turn.After(t) && (next.IsZero() || turn.Before(next)) {
				next = turn
			}
		}
	}
	for _, g := range x.Grants() {
		note(g.Condition())
	}
	for i := range x.denials.count() {
		note(x.denials.at(i).When)
	}
	for i := range x.actAs.count() {
		note(x.actAs.at(i).Condition())
	}
	return next
}

// Over reports whether the grant of a number is listed, and over, in a view of what is in force.
func (x *Index) Over(n int) bool { return x.more != nil && x.more.over.at(uint32(n)) }

// InForce returns a view of the estate without the grants, denials and act-as edges that are over at
// t; x itself where there are none. Of calls from t on it decides as x does. Without it, what x is
// asked of no time in particular counts them as what holds under a condition.
//
// A grant that is over and named in but, by id, stays. One that goes is still found by its name
// ([Index.GrantNamed], [Index.Ended]), and an edit may take it away.
func (x *Index) InForce(t time.Time, but ...string) *Index {
	var grants, denials, edges []uint32
	for n := range x.grantsOver(t) {
		if x.grantTo.at(int(n)) != none && (len(but) == 0 || !slices.Contains(but, x.grants.at(int(n)).ID)) {
			grants = append(grants, n)
		}
	}
	for n := range x.over(endsDenials, t, func(n int) model.Condition { return x.denials.at(n).When }) {
		if x.more == nil || !x.more.deniesGone.at(n) {
			denials = append(denials, n)
		}
	}
	for n := range x.over(endsActAs, t, func(n int) model.Condition { return x.actAs.at(n).Condition() }) {
		if x.more == nil || !x.more.edgesGone.at(n) {
			edges = append(edges, n)
		}
	}
	if len(grants)+len(denials)+len(edges) == 0 {
		return x
	}
	e := x.editor(&access.Edit{})
	e.dropGrants(grants)
	for _, n := range grants {
		e.more.over.put(n, true)
	}
	for _, n := range denials {
		e.dropDenial(int(n), e.denials.at(int(n)))
	}
	for _, n := range edges {
		e.dropEdge(n, e.actAs.at(int(n)))
	}
	return e.view()
}
