package draft

import (
	"cmp"
	"maps"
	"slices"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// What has power and is used now and then need not be had all the time: a person can ask for it.
// Asking costs less than a call that is refused, and is paid each time: so what is used often
// stays, and what a workload uses, which asks nobody.
const (
	askPrice  = 0.1  // of a break
	mostAsks  = 10   // days of use in the window from which on it stays with its people
	leastAsks = 0.25 // within 90 days, of all that one grant gives: once in a year
)

// lends reports whether what somebody needs of a permission by a grant can be asked for. What has
// ended is not lent.
func (d *drafter) lends(t *gauge.GrantResult, perm int, id model.ID) bool {
	if !d.o.Gates || d.x.Level(perm) < model.Administer || id.Kind != model.Person || t.Grant.To.Open() {
		return false
	}
	end := t.Grant.Condition().Until
	return end.IsZero() || end.After(d.in.AsOf)
}

// often returns how often somebody is expected to ask for a permission on some places in the next 90
// days: as often as now, or as likely as it is needed.
func (d *drafter) often(id model.ID, perm int, q risk.Part, chance float64) float64 {
	if q.Class != risk.Used {
		return chance
	}
	days := usage.Days{}
	for _, on := range q.Where {
		if node, ok := on.Anchor(); ok {
			days = days.Union(d.worth.past.Days(id, perm, node))
		}
	}
	return max(chance, float64(days.Between(d.r.Window.First(), d.r.Window.Last()).Count()))
}

// lend notes that what is dropped of a permission of a grant is asked for so often.
func (d *drafter) lend(t *gauge.GrantResult, perm int, often float64) {
	if d.lent[t.Number] == nil {
		d.lent[t.Number] = map[int]float64{}
	}
	d.lent[t.Number][perm] += often
}

// asks returns what goes of some grants and may be asked for.
func (d *drafter) asks(targets []*gauge.GrantResult) []fence.Ask {
	var out []fence.Ask
	for _, t := range targets {
		a := fence.Ask{Where: t.Grant.Where, When: t.Grant.Condition()}
		for _, i := range slices.SortedFunc(maps.Keys(d.lent[t.Number]), func(i, j int) int {
			return cmp.Or(cmp.Compare(d.x.Level(j), d.x.Level(i)),
				d.x.Permission(i).Permission.Compare(d.x.Permission(j).Permission))
		}) { // in an order, so that sums round the same
			a.Do = append(a.Do, d.x.Permission(i).Permission.Pattern())
			a.Expected += d.lent[t.Number][i]
		}
		if a.Expected >= leastAsks && slices.Contains(d.fence.Replaces, t.Grant.ID) {
			out = append(out, a)
		}
	}
	return out
}
