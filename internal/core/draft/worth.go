package draft

import (
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// What a place is worth
//
// Most of what breaks after a cut keeps the right permission on the wrong places: the next
// container beside those that were used, or the same act in another project. And some of what
// was never used is needed next month. So each permission of a grant stays on as many places as
// are worth their danger. The places on which its holders may need it are cut into parts, each
// with a chance that it is needed there within 90 days (package risk); of these that choice is
// kept (drafter.search) which makes the most of
//
//	lambda * needs met - weight * log2(1 + places) - a price for each piece
//
// What is used now stays in any case, and what no log would show. Of a group the needs of all
// its members count together, and so does the danger of each. Lambda, what one avoided break is
// worth, is a share of the danger that is held by all over how many of them call, so an estate
// joined to a copy of itself gets the same drafts. A second break of one identity hurts less
// than a first of another: lambda is times (0.5 e^-H + 0.5) for one that H breaks are expected
// of, which is known once it is drafted, so it is drafted a few times.

// Caution is how much an avoided break is worth; a greater one keeps more.
type Caution float64

// The cautions that have names.
const (
	Bold    Caution = 0.10
	Normal  Caution = 0.64
	Careful Caution = 2.3
)

// Worth weighs places on one estate. It is read only once it is made.
type Worth struct {
	avoided float64 // what one avoided break is worth, for caution 1
	past    *risk.Past
	model   *risk.Model
	now     usage.Day
}

// NewWorth learns from the past of an estate what its places are worth.
func NewWorth(in *gauge.Input, r *gauge.Result) *Worth {
	w := &Worth{now: usage.DayOf(in.AsOf)}
	held, callers := 0.0, 0
	for _, s := range r.Standings {
		if s.ID.Kind != model.Group && !s.LastUse.IsZero() {
			held += s.Danger
			callers++
		}
	}
	if callers > 0 {
		w.avoided = held / float64(callers)
	}
	first := w.now
	if !in.History.IsZero() {
		first = usage.DayOf(in.History)
	}
	w.past = risk.NewPast(in.Index, in.Uses, first, w.now, func(i int) bool {
		why := r.Placement.Reasons[i]
		return why == gauge.NoPath || why == gauge.NoCaller
	})
	w.model = risk.Learn(w.past, w.now, func(id model.ID, day usage.Day) map[int]bool {
		young := map[int]bool{}
		for _, n := range in.Index.Given(id) {
			g := in.Index.Grant(n)
			since := usage.DayOf(g.Created)
			if since > day {
				continue
			}
			for i := range in.Index.SharedPerms(n).All() {
				if new := since > day-risk.Young; !new {
					young[i] = false
				} else if _, older := young[i]; !older {
					young[i] = true
				}
			}
		}
		return young
	})
	return w
}

// Risk returns what the chances come from: the past, and what was learned from it.
func (w *Worth) Risk() (*risk.Past, *risk.Model) { return w.past, w.model }

// lambda is what one avoided break is worth.
func (d *drafter) lambda() float64 { return float64(d.o.Caution) * d.worth.avoided * d.rate }
