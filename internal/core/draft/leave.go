package draft

import (
	"cmp"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
)

// Who needs nothing of a group
//
// What a group is granted stays while some of its members need it, and is as dangerous with each of
// the others. So somebody leaves a group by which they did nothing, and will hardly do anything,
// where the danger that goes is worth more than what is expected to break. All of what is observed
// must stay possible without the group, whose grants may have made their own needless.

// leastLeft is what leaving a group must take away, as a share of the danger that somebody holds.
const leastLeft = 0.05

// leave adds the groups that one who is active leaves.
func (d *drafter) leave(s *gauge.Standing) error {
	n, _ := d.x.Number(s.ID)
	by := newDoers(d.r, d.x, d.worth, d.o.GiveUpUnobservable)
	groups := slices.DeleteFunc(d.x.GroupsOf(s.ID), func(g model.ID) bool {
		return !by.mayLeave(g) || by.did(n, g) || d.needed(by.of(g))
	})
	if len(groups) == 0 || unsettled(d.in, d.r, s.ID) {
		return nil
	}
	scale := func(x *index.Index) float64 {
		held, _ := gauge.NewScale(x, d.in.Weights).Held(s.ID)
		return held
	}
	view := func() (*index.Index, error) { return d.x.With(d.fence.Edit(d.x.Source())) }
	had := d.worth.Having(s.ID, d.worth.now)
	late := func(x *index.Index) float64 {
		l, _ := d.worth.model.Broken(risk.Lost(d.worth.past, d.worth.model, x, s.ID, d.worth.now, had))
		return l
	}
	at, err := view()
	if err != nil {
		return err
	}
	has, breaks := scale(at), late(at)
	least := max(1, leastLeft*s.Danger)
	type way struct {
		group  model.ID
		danger float64
	}
	var ways []way
	for _, g := range groups {
		d.fence.Leaves = []model.ID{g}
		x, err := view()
		if err != nil {
			return err
		}
		if less := has - scale(x); less >= least {
			ways = append(ways, way{g, less})
		}
	}
	d.fence.Leaves = nil
	slices.SortStableFunc(ways, func(a, b way) int { return cmp.Compare(b.danger, a.danger) })
	try := func(more ...model.ID) error {
		was := d.fence.Leaves
		d.fence.Leaves = append(was[:len(was):len(was)], more...)
		x, err := view()
		if err != nil {
			return err
		}
		if less := has - scale(x); less >= least && d.goesOn(s.ID, x) {
			if l := late(x); d.lambda()*(l-breaks) < less {
				has, breaks = has-less, l
				return nil
			}
		}
		d.fence.Leaves = was
		return nil
	}
	for _, w := range ways[:min(len(ways), mostLeft)] {
		if err := try(w.group); err != nil {
			return err
		}
	}
	if len(ways) == 0 && len(groups) > 1 && len(groups) <= mostLeft { // each gives what another gives
		if err := try(groups...); err != nil {
			return err
		}
	}
	for _, g := range d.fence.Leaves {
		d.giveUpGroup(g)
	}
	return nil
}

// doers tells who did something by what groups give. Of each grant and group what was looked up is
// kept.
type doers struct {
	r     *gauge.Result
	x     *index.Index
	worth *Worth
	blind bool          // what no log shows counts for nothing
	users map[int][]int // of a grant, by number, in order
	given map[model.ID][]int
	may   map[model.ID]bool // see mayLeave
}

func newDoers(r *gauge.Result, x *index.Index, w *Worth, blind bool) *doers {
	return &doers{r, x, w, blind, map[int][]int{}, map[model.ID][]int{}, map[model.ID]bool{}}
}

// of returns the grants that somebody has by a group.
func (d *doers) of(group model.ID) []int {
	given, ok := d.given[group]
	if !ok {
		given = slices.DeleteFunc(d.x.Given(group), func(g int) bool {
			return d.r.Grants[g] == nil || d.r.Grants[g].Grant.To.Open()
		})
		d.given[group] = given
	}
	return given
}

// did reports whether somebody, by number, did something by a group.
func (d *doers) did(n int, group model.ID) bool {
	return slices.ContainsFunc(d.of(group), func(g int) bool {
		t := d.r.Grants[g]
		if len(t.Use) == 0 {
			return false
		}
		users, ok := d.users[g]
		if !ok {
			for i := range t.Use {
				for _, c := range t.Use[i].Who {
					users = append(users, c.Number)
				}
			}
			slices.Sort(users)
			users = slices.Clip(slices.Compact(users))
			d.users[g] = users
		}
		_, found := slices.BinarySearch(users, n)
		return found
	})
}

// mostLeft is how many groups somebody is asked of, those with most danger first.
const mostLeft = 12

// goesOn reports whether everything that somebody did is possible in a view that was before.
func (d *drafter) goesOn(id model.ID, after *index.Index) bool {
	for _, u := range d.in.Uses.As(id) {
		if u.Outcome.Allowed() &&
			after.Decide(id, u.Permission, u.Path, u.Context()).Outcome < d.x.Decide(id, u.Permission, u.Path,
				u.Context()).Outcome {
			return false
		}
	}
	return true
}

// needed reports whether a review said that somebody needs something of what some grants give.
func (d *drafter) needed(grants []int) bool {
	for _, i := range grants {
		for p := range d.x.SharedPerms(i).All() {
			if d.decided(p) {
				return true
			}
		}
	}
	return false
}

// mayLeave reports whether a group is one that somebody may leave who does nothing by it: no rule
// holds or spares those who are in it, which would let whoever leaves do more, or less besides; nothing
// that it gives is too new to judge; and all of it is in some log, so that it is known who does it.
func (d *doers) mayLeave(group model.ID) bool {
	may, ok := d.may[group]
	if !ok {
		may = group.Source == "" && fence.MayLeave(d.x, group) && !d.spared(group) &&
			!slices.ContainsFunc(d.of(group), func(g int) bool {
				t := d.r.Grants[g]
				return t.TooNew.Count() > 0 && d.worth.tooNew(t) || len(t.Dark) > 0 && !d.blind
			})
		d.may[group] = may
	}
	return may
}

// spared reports whether some rule spares those who are in a group.
func (d *doers) spared(group model.ID) bool {
	for r := range d.x.Denials() {
		if spares(d.x, r.Unless, group) {
			return true
		}
	}
	for r := range d.x.Guardrails() {
		if spares(d.x, r.Unless, group) {
			return true
		}
	}
	return false
}

// spares reports whether a rule that holds for all unless they are some spares those in a group.
func spares(x *index.Index, unless []model.ID, group model.ID) bool {
	return len(unless) > 0 && slices.ContainsFunc(x.Closure(group), func(st access.Member) bool {
		return !st.ID.Open() && slices.Contains(unless, st.ID)
	})
}
