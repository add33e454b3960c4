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
	by := newDoers(d.r, d.x)
	groups := slices.DeleteFunc(d.x.GroupsOf(s.ID), func(g model.ID) bool {
		return g.Source != "" || by.did(n, g) || fence.Denied(d.x, g) != "" || d.spared(g) || d.stays(g)
	})
	if len(groups) == 0 || unsettled(d.in, d.r, s.ID) {
		return nil
	}
	scale := func(x *index.Index) float64 {
		held, _ := gauge.NewScale(x, d.in.Weights).Held(s.ID)
		return held
	}
	view := func() (*index.Index, error) { return d.x.With(d.fence.Edit(d.x.Source())) }
	now := d.worth.now
	held := d.worth.Granted(s.ID, now)
	late := func(x *index.Index) float64 {
		l, _ := risk.Broken(risk.Lost(d.worth.past, d.worth.model, x, s.ID, now, held))
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
	for _, w := range ways[:min(len(ways), mostLeft)] {
		d.fence.Leaves = append(d.fence.Leaves, w.group)
		x, err := view()
		if err != nil {
			return err
		}
		less, more := has-scale(x), 0.0
		if less >= least && d.goesOn(s.ID, x) {
			more = late(x)
			if d.lambda()*(more-breaks) < less {
				has, breaks = has-less, more
				continue
			}
		}
		d.fence.Leaves = d.fence.Leaves[:len(d.fence.Leaves)-1]
	}
	for _, g := range d.fence.Leaves {
		for _, i := range d.x.Given(g) {
			d.giveUp(d.x.Grant(i).Where, d.x.GrantPerms(i))
		}
	}
	return nil
}

// doers tells who did something by what groups give. Of each grant and group what was looked up is
// kept.
type doers struct {
	r     *gauge.Result
	x     *index.Index
	users map[int][]int // of a grant, by number, in order
	given map[model.ID][]int
}

func newDoers(r *gauge.Result, x *index.Index) *doers {
	return &doers{r, x, map[int][]int{}, map[model.ID][]int{}}
}

// did reports whether somebody, by number, did something by a group.
func (d *doers) did(n int, group model.ID) bool {
	given, ok := d.given[group]
	if !ok {
		given = d.x.Given(group)
		d.given[group] = given
	}
	return slices.ContainsFunc(given, func(g int) bool {
		t := d.r.Grants[g]
		if t == nil || t.Grant.To.Open() || len(t.Use) == 0 {
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

// stays reports whether something that a group gives is too new to judge, in no log, so that nobody
// knows who does it, or said to be needed by a review.
func (d *drafter) stays(g model.ID) bool {
	return slices.ContainsFunc(d.x.Given(g), func(i int) bool {
		t := d.r.Grants[i]
		switch {
		case t == nil || t.Grant.To.Open():
			return false
		case t.TooNew.Count() > 0 && !d.worth.model.KnowsYoung(), len(t.Dark) > 0 && !d.o.GiveUpUnobservable:
			return true
		}
		for p := range t.Perms.All() {
			if d.decided(p) {
				return true
			}
		}
		return false
	})
}

// spared reports whether some rule spares those who are in a group.
func (d *drafter) spared(g model.ID) bool {
	spares := func(unless []model.ID) bool {
		return slices.ContainsFunc(d.x.Closure(g), func(st access.Member) bool {
			return !st.ID.Open() && slices.Contains(unless, st.ID)
		})
	}
	for r := range d.x.Denials() {
		if spares(r.Unless) {
			return true
		}
	}
	for r := range d.x.Guardrails() {
		if spares(r.Unless) {
			return true
		}
	}
	return false
}
