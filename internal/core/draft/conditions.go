package draft

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A condition that every call met is a guess about the next one, as a place is. It takes no danger
// away that is measured, so it is added where somebody asks for it, and only where there is enough
// to go by.
const (
	leastCalls  = 20 // of a line, each of which met the condition
	leastDays   = 10 // on which they were
	mostNetwork = 3  // blocks that calls came from

	leastHourDays = 30 // on which somebody called at all, before the hours of it say anything
	mostHours     = 14 // of a day that it may be, with one to spare before and after
	leastWeekDays = 40 // on which somebody called, none on a weekend, before weekends are left out
)

// habits are what all calls of somebody have in common: the blocks and the hours that they came from
// and at, if they are known.
type habits struct {
	blocks  []netip.Prefix
	network bool // of every call the block is known
	hours   usage.Hours
	timed   bool // of every call the hour is known
	days    usage.Days
}

func (h *habits) add(u *usage.Use) {
	if h.network = h.network && u.Network.IsValid(); h.network && !slices.Contains(h.blocks, u.Network) {
		h.blocks = append(h.blocks, u.Network)
	}
	h.timed = h.timed && u.Hours != 0
	h.hours |= u.Hours
	h.days = h.days.Union(u.Days)
}

// networks returns the blocks, if they are few.
func (h *habits) networks() []netip.Prefix {
	if !h.network || len(h.blocks) > mostNetwork {
		return nil
	}
	slices.SortFunc(h.blocks, func(x, y netip.Prefix) int { return x.Addr().Compare(y.Addr()) })
	return h.blocks
}

// times returns the hours of the day outside of which there never was a call, with an hour to spare
// before and after: clocks are turned twice a year where the habit is by a clock. Nil: calls come
// around the clock, or it is not known when, or there were too few.
func (h *habits) times() *model.Hours {
	if !h.timed || h.days.Count() < leastHourDays {
		return nil
	}
	// The longest pause of the day ends where the span of it begins.
	from, pause := 0, 0
	for hour := range 24 {
		n := 0
		for n < 24 && h.hours>>((hour+n)%24)&1 == 0 {
			n++
		}
		if n > pause {
			from, pause = (hour+n)%24, n
		}
	}
	long := 24 - pause + 2
	if long > mostHours {
		return nil
	}
	from = (from + 23) % 24
	to := from + long
	clock := func(hour int) string { return fmt.Sprintf("%02d:00", hour%24) }
	out := &model.Hours{Days: []string{"mon", "tue", "wed", "thu", "fri"}, From: clock(from), To: clock(to),
		Zone: "UTC"}
	weekend := to > 24 || h.days.Count() < leastWeekDays // past midnight it is the next day
	for _, d := range h.days.List() {
		w := d.Time().Weekday()
		weekend = weekend || w == time.Saturday || w == time.Sunday
	}
	if weekend {
		out.Days = append(out.Days, "sat", "sun")
	}
	return out
}

// conditions adds to the lines of a fence what each of their calls in the window met: a second
// factor, a few networks, and hours: those from and at which whoever has the line called at all,
// since today's desk for one thing is tomorrow's for another.
func (d *drafter) conditions(f *fence.Fence) {
	span := d.in.Span()
	who := f.For.In(d.x.Source())
	habit := map[model.ID]*habits{}
	for i := range f.Allow {
		a := &f.Allow[i]
		perms := d.x.SetPerms(a.Sets(d.x))
		to := f.Receiver(a, d.x.Source())
		factor := true
		calls := int64(0)
		days := usage.Days{}
		h, asked := habit[to]
		if !asked {
			h = &habits{network: true, timed: true}
			habit[to] = h
		}
		for n, u := range d.in.Uses.By(func(of model.ID) bool {
			return of == to || to == who && (who.Open() || d.x.In(of, who))
		}) {
			if !u.Outcome.Allowed() {
				continue
			}
			if !asked {
				h.add(&u)
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
		if calls < leastCalls || days.Count() < leastDays {
			continue
		}
		met := false
		if factor && !a.When.SecondFactor {
			a.When.SecondFactor, met = true, true
		}
		if blocks := h.networks(); len(blocks) > 0 && len(a.When.Networks) == 0 {
			a.When.Networks, met = blocks, true
		}
		if times := h.times(); times != nil && a.When.Hours == nil {
			a.When.Hours, met = times, true
		}
		if met {
			a.Evidence.Met, a.Evidence.MetDays = calls, days.Count()
		}
	}
}
