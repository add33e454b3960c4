package draft

import (
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// What a narrower place is worth
//
// Most of what breaks after a cut keeps the right permission on the wrong places: the next
// container beside those that were used, or the same act in another project. So a permission
// that was used stays on as many places as are worth their danger. Around the places on which
// it was used lie wider and wider ones: what the same node holds, what the one above holds, and
// so on up to what the grant gave. Each has a chance that the permission is needed there, and
// nowhere nearer, within the next 90 days, and adds danger:
//
//	gain = lambda * chance that it is needed in there - weight * (log2(1 + places) - log2(1 + places used))
//
// The widest place with the best gain is kept; the narrowest costs nothing. Lambda, what one
// avoided break is worth, is a share of the danger that is held by all over how many of them
// call, so an estate joined to a copy of itself gets the same drafts.
//
// The chances are counted on the estate's own past: as of a landmark, of those who had used a
// permission on one, on two or three, or on more places, how many needed it since on a new one
// that near (landmarking: van Houwelingen, Dynamic prediction by landmarking in event history
// analysis, 2007). The landmark is 90 days ago, or half of a shorter past, lest what was used all
// along seem new; a chance over fewer days is carried to 90 as one that is the same every day. A
// short past leans on a prior that is worth ten of them; one under four weeks has no say.

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

// lambda is what one avoided break is worth.
func (d *drafter) lambda() float64 { return float64(d.o.Caution) * d.worth.avoided * d.rate }
