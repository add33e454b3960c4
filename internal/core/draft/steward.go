package draft

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// Who is the last
//
// Handing out rights is done on a few days of a year, if at all, so that drafts take it away. Where nobody
// else can, no change that does is ever let through, and with it all else that the draft would take away
// stays. So the last person who can hand out rights somewhere keeps that, there, and the fence says why.

// mostStewards is of how many people it is asked who is the last of them: of more hardly anybody is.
const mostStewards = 200

// alone returns on which places of a grant nobody could hand out rights any more if a permission of it
// went, and all that the drafts before it and this one so far take away; those that another permission of
// the grant stays on for that are not told again.
func (d *drafter) alone(t *gauge.GrantResult, perm int) []model.PathPattern {
	if d.x.Permission(perm).Escalates != model.EditGrants || !t.Grant.Condition().IsZero() {
		return nil
	}
	if d.worth.stewards == nil {
		d.worth.stewards, d.worth.fewSteward = escalate.FewStewards(d.x, mostStewards)
	}
	was, class := d.worth.stewards, d.x.Class(perm)
	held := d.x.Region(t.Grant.Where...)
	if !d.worth.fewSteward || len(was.In(class).And(held)) == 0 {
		return nil
	}
	if d.lasts == nil || d.lasts.grant != t.Number {
		after, err := d.stands().With(d.without(t))
		if err != nil {
			d.err = err
			return nil
		}
		d.lasts = &lasts{t.Number, escalate.StewardsOf(after, was.People), map[int]index.Region{}}
	}
	lost := was.In(class).And(held).AndNot(d.lasts.left.In(class)).AndNot(d.lasts.kept[class])
	if d.x.Count(perm, lost) == 0 {
		return nil
	}
	d.lasts.kept[class] = d.lasts.kept[class].Or(lost)
	on, few := d.x.Outermost(perm, lost, mostLines)
	outside := func(on model.PathPattern) bool { return !model.PathPatternsContain(t.Grant.Where, on) }
	if !few || slices.ContainsFunc(on, outside) { // it would also give what nobody lists yet
		return t.Grant.Where
	}
	return on
}

// lasts is where people can hand out rights without a grant.
type lasts struct {
	grant int
	left  *escalate.Stewarded
	kept  map[int]index.Region // where a permission of the grant stays, by the kinds that it applies to
}

// without returns what the draft so far does, and that a grant goes.
func (d *drafter) without(t *gauge.GrantResult) access.Edit {
	edit := d.fence.Edit(d.x.Source())
	edit.Gone.Grants = append(edit.Gone.Grants, t.Grant.ID)
	return edit
}
