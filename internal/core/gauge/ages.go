package gauge

import (
	"time"

	"clipfence/internal/core/usage"
)

// Since when something is granted
//
// A grant says when it was made, and that is when the record was made: who keeps grants as files, or
// moves them from one system to another, makes all of them again, and then all are young, nothing
// that they give can be judged, and of the past nothing can be learned. So a grant is as old
//
//   - as what a change of ours took for it, or as one that a kept survey shows in its place before, for the
//     same with the same rights on the same places ([Input.Since]);
//   - as the logs, where it was made again with many others: of those that were made on the same day,
//     or of all that are young, most of those that are used at all were used before they were made, when
//     nothing that is granted today allowed it.
//
// One grant alone that was used before it was made may have replaced one that gave less, and keeps
// its date. And what only holds from a day on is no older than that day, whenever it was written down.

// Of so many young grants that are used so many must have been used before they were made, for the
// date of all to count for nothing. Those of which it is known what they replaced do not count here: after
// a campaign there are many of them, and they were all used before.
const (
	leastOfDay   = 5
	leastOfAll   = 20
	shareOfAgain = 0.8
)

// Long is since when something is granted of which nobody says when it was made.
var Long = time.Unix(0, 0).UTC()

// soonAfter is how long before a record was made a use may seem to be, by the clocks of others.
const soonAfter = 24 * time.Hour

// predates notes, of a use of some grants, those that were made after it: all of them, or none.
func (r *part) predates(u *usage.Use, grants []int) {
	for _, g := range grants {
		made := r.x.Grant(g).Created
		if made.IsZero() || !u.First.Before(made.Add(-soonAfter)) {
			return
		}
	}
	for _, g := range grants {
		r.before[g] = true
	}
}

// ages works out since when each grant gives what it gives.
func (r *runner) ages() {
	before := map[int]bool{}
	for _, p := range r.parts {
		for g := range p.before {
			before[g] = true
		}
	}
	type count struct{ used, before int }
	var all count
	days := map[usage.Day]*count{}
	known := map[int]bool{} // what they replaced
	young := func(res *GrantResult) bool { return res != nil && res.Grant.Created.After(r.span.From) }
	for _, res := range r.out.Grants {
		if res == nil {
			continue
		}
		res.Since = res.Grant.Created
		if young(res) && r.in.Since != nil {
			if at := r.in.Since(res.Grant); !at.IsZero() && !at.After(res.Since) {
				if at.Equal(Long) { // as old as the logs
					at = r.in.History
				}
				if known[res.Number] = true; !at.IsZero() {
					res.Since = at
				}
			}
		}
		if !young(res) || len(res.Use) == 0 || known[res.Number] {
			continue
		}
		day := usage.DayOf(res.Grant.Created)
		if days[day] == nil {
			days[day] = &count{}
		}
		for _, c := range []*count{&all, days[day]} {
			if c.used++; before[res.Number] {
				c.before++
			}
		}
	}
	again := func(c *count, least int) bool {
		return c != nil && c.before >= least && float64(c.before) >= shareOfAgain*float64(c.used)
	}
	every := again(&all, leastOfAll)
	for _, res := range r.out.Grants {
		open := young(res) && !known[res.Number] && res.Since.After(r.span.From) // nobody says more of it
		if open && !r.in.History.IsZero() && r.in.History.Before(res.Since) &&
			(every || again(days[usage.DayOf(res.Grant.Created)], leastOfDay)) {
			res.Since = r.in.History
		}
		if res == nil {
			continue
		}
		if res.Since.Before(res.Grant.Created) {
			r.out.Again++
		}
		if from := res.Grant.When.From; res.Since.Before(from) { // what begins later gives nothing before
			res.Since = from
		}
	}
}
