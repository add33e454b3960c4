package draft

import (
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// What ends by itself
//
// Some of what stays was not used in the window: it was used before, by a habit that is not over or that
// may come back, or never, and is likely needed. Such a line need not stand for good. What is a guess
// about the next [risk.Horizon] days ends with them; what rests on a habit ends when the habit would be
// over, were nothing to come, and not before that. Used until then, it is drafted anew; not used, nobody
// has to think of it again. What no log would show is not ended: nobody would see that it is used.

// limits ends the lines that rest on no use of the window, and returns what goes by that, and when.
func (d *drafter) limits(t *gauge.GrantResult, lines []fence.Allow) []given {
	now := usage.DayOf(d.in.AsOf)
	var out []given
	for i := range lines {
		a := &lines[i]
		end := now + risk.Horizon
		perms := d.x.SetPerms(a.Sets(d.x))
		switch a.Evidence.Class {
		case "past", "likely":
		case "rare":
			for p := range perms.All() {
				pu := t.UseOf(p)
				if pu == nil {
					continue
				}
				end = max(end, overOn(pu.Days, now))
				for _, c := range pu.Who {
					end = max(end, overOn(c.Days, now))
				}
			}
		default:
			continue
		}
		until := (end + 1).Time()
		if !a.Until.IsZero() && !a.Until.After(until) {
			continue // it ends before that
		}
		a.Until, a.Evidence.Ends = until, true
		out = append(out, given{where: a.Where, perms: perms, from: until})
	}
	return out
}

// overOn returns the day on which a habit would be over if nothing came any more, or today where it is.
func overOn(days usage.Days, now usage.Day) usage.Day {
	for at := now; at < now+mostAhead; at++ {
		if usage.HabitOf(days, at).Over {
			return at
		}
	}
	return now + mostAhead
}

// mostAhead is after how many days every habit is over.
const mostAhead = 401
