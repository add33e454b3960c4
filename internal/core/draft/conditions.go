package draft

import (
	"net/netip"
	"slices"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A condition that every call met is a guess about the next one, as a place is. It takes no danger
// away that is measured, so it is added where somebody asks for it, and only where there is enough
// to go by. Of the hour of a call nothing is kept, so hours are no such condition.
const (
	leastCalls  = 20 // of a line, each of which met the condition
	leastDays   = 10 // on which they were
	mostNetwork = 3  // blocks that calls came from
)

// conditions adds to the lines of a fence what each of their calls in the window met: a second
// factor, and a few networks: those that whoever has the line called from at all, since today's
// desk for one thing is tomorrow's for another.
func (d *drafter) conditions(f *fence.Fence) {
	span := d.in.Span()
	who := f.For.In(d.x.Source())
	networks := map[model.ID][]netip.Prefix{}
	for i := range f.Allow {
		a := &f.Allow[i]
		perms := d.x.SetPerms(a.Sets(d.x))
		to := f.Receiver(a, d.x.Source())
		factor := true
		calls := int64(0)
		days := usage.Days{}
		blocks, asked := networks[to]
		known := !asked || blocks != nil
		for n, u := range d.in.Uses.By(func(of model.ID) bool {
			return of == to || to == who && (who.Open() || d.x.In(of, who))
		}) {
			if !u.Outcome.Allowed() {
				continue
			}
			if known = known && u.Network.IsValid(); known && !asked && !slices.Contains(blocks, u.Network) {
				blocks = append(blocks, u.Network)
			}
			p, ok := d.x.PermNumber(u.Permission)
			here := slices.ContainsFunc(a.Where, func(on model.PathPattern) bool { return on.Matches(u.Path) })
			_, nowhere := d.in.Place.Inventory.Unknown(u.Path)
			switch d.r.Placement.Reason(n) { // one that is not placed may have been of this line
			case gauge.NoOperation:
				ok, here = here || nowhere, false
			case gauge.NoPath, gauge.NoGrant:
				ok, here = ok && perms.Has(p), false
			default:
				ok = ok && perms.Has(p) && here
			}
			if !ok {
				continue
			}
			// Also what was done before the window must have met it.
			factor = factor && u.SecondFactor == model.True
			if here && u.Within(span.First(), span.Last()) {
				calls += u.Count
				days = days.Union(u.Days)
			}
		}
		if !known || len(blocks) > mostNetwork {
			blocks = nil
		}
		slices.SortFunc(blocks, func(x, y netip.Prefix) int { return x.Addr().Compare(y.Addr()) })
		networks[to] = blocks
		if calls < leastCalls || days.Count() < leastDays {
			continue
		}
		met := false
		if factor && !a.When.SecondFactor {
			a.When.SecondFactor, met = true, true
		}
		if len(blocks) > 0 && len(a.When.Networks) == 0 {
			a.When.Networks, met = blocks, true
		}
		if met {
			a.Evidence.Met, a.Evidence.MetDays = calls, days.Count()
		}
	}
}
