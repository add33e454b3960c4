package draft

import (
	"maps"
	"math"
	"slices"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
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

// horizon is how far ahead a break counts, and shortest the least that a chance is counted over,
// both in days.
const (
	horizon  = 90
	shortest = 14
)

// steps is how far up a place is looked at, beyond the last all the way to the grant.
const steps = 3

// Worth weighs places on one estate. It is read only once it is made.
type Worth struct {
	avoided float64                 // what one avoided break is worth, for caution 1
	chance  [steps][buckets]float64 // that a permission is needed so much further up, and no nearer
}

// buckets tells how many places a permission was used on: one, two or three, more.
const buckets = 3

func bucket(places int) int {
	switch {
	case places <= 1:
		return 0
	case places <= 3:
		return 1
	}
	return 2
}

// prior is what the chances are taken for without a past, and how many observations that is
// worth.
var prior = [steps][buckets]float64{{.08, .16, .40}, {.03, .05, .08}, {.02, .02, .03}}

const priorWeight = 10

// NewWorth counts on the past of an estate what its places are worth.
func NewWorth(in *gauge.Input, r *gauge.Result) *Worth {
	w := &Worth{}
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
	now := usage.DayOf(in.AsOf)
	over := usage.Day(horizon)
	if !in.History.IsZero() {
		over = min(over, (now-usage.DayOf(in.History))/2)
	}
	landmark := now - over
	type unit struct {
		who  model.ID
		perm model.Permission
	}
	type places struct{ before, since map[model.Path]bool }
	units := map[unit]*places{}
	near := func(p model.Path) model.Path {
		if n, ok := in.Index.Nearest(p); ok {
			return n
		}
		return p
	}
	for i := range in.Uses {
		u := &in.Uses[i]
		if !u.Outcome.Allowed() || usage.DayOf(u.First) > now {
			continue
		}
		k := unit{u.Principal(), u.Permission}
		p := units[k]
		if p == nil {
			p = &places{map[model.Path]bool{}, map[model.Path]bool{}}
			units[k] = p
		}
		if at := near(u.Path); usage.DayOf(u.First) < landmark {
			p.before[at] = true
		} else {
			p.since[at] = true
		}
	}
	var n [buckets]int
	var came [steps][buckets]int
	for _, p := range units {
		if len(p.before) == 0 {
			continue
		}
		b := bucket(len(p.before))
		n[b]++
		up := p.before
		known := p.before
		for step := range steps {
			up = above(up)
			some := false
			for at := range p.since {
				some = some || !covered(known, at) && covered(up, at)
			}
			if some {
				came[step][b]++
			}
			known = up
		}
	}
	ahead := horizon / float64(max(over, shortest))
	for step := range steps {
		for b := range buckets {
			w.chance[step][b] = prior[step][b]
			if over >= shortest {
				soon := 1 - math.Pow(1-prior[step][b], 1/ahead)
				soon = (float64(came[step][b]) + priorWeight*soon) / (float64(n[b]) + priorWeight)
				w.chance[step][b] = 1 - math.Pow(1-soon, ahead)
			}
		}
	}
	return w
}

// above returns the nodes above some nodes.
func above(nodes map[model.Path]bool) map[model.Path]bool {
	out := map[model.Path]bool{}
	for p := range nodes {
		if up, ok := p.Parent(); ok {
			out[up] = true
		} else {
			out[p] = true
		}
	}
	return out
}

// covered reports whether a node is one of some, or lies below one.
func covered(nodes map[model.Path]bool, p model.Path) bool {
	for up, ok := p, true; ok; up, ok = up.Parent() {
		if nodes[up] {
			return true
		}
	}
	return false
}

// wider returns the places on which a permission of a grant stays that was used on some of
// them, where that is more than those are worth, and the chance that it is needed there besides
// within the horizon; none: those alone.
func (d *drafter) wider(t *gauge.GrantResult, perm int, used []model.PathPattern) (best []model.PathPattern,
	chance float64) {
	pu := t.Use[perm]
	if pu.Days.Count() < fewDays { // calls in a burst open nothing beyond the places they were on
		return nil, 0
	}
	nodes := map[model.Path]bool{}
	for path := range pu.Paths {
		nodes[d.container(path)] = true
	}
	b := bucket(len(nodes))
	weight := d.in.Weights[d.x.Level(perm)] * float64(max(1, len(t.Holders)))
	lambda := float64(d.o.Caution) * d.worth.avoided
	few := math.Log2(1 + float64(d.r.Scale.Nodes(perm, used)))
	gain, spared, whole := 0.0, 1.0, false
	for step := 0; !whole; step++ {
		nodes = above(nodes)
		var wide []model.PathPattern
		for _, p := range slices.SortedFunc(maps.Keys(nodes), model.Path.Compare) {
			wide = append(wide, p.Below())
		}
		for _, on := range wide {
			whole = whole || !model.PathPatternsContain(t.Grant.Where, on)
		}
		whole = whole || !slices.ContainsFunc(t.Grant.Where,
			func(on model.PathPattern) bool { return !model.PathPatternsContain(wide, on) })
		if whole { // as far as the grant goes
			wide = t.Grant.Where
		}
		// More users are more who may need it; of many each is not on its own.
		each := math.Pow(1-d.worth.chance[min(step, steps-1)][b], float64(min(max(1, len(pu.Who)), 8)))
		spared *= each
		more := math.Log2(1+float64(d.r.Scale.Nodes(perm, wide))) - few
		if more <= 0 {
			continue // nothing that is listed is in there besides: how names go on says what is needed
		}
		if x := lambda*(1-spared) - weight*more; x > gain {
			gain, best, chance = x, wide, 1-spared
		}
	}
	return best, chance
}
