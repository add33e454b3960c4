package gauge

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// What a denial refuses
//
// A grant may give what a denial refuses to everybody who has it. Nobody can do anything by that, so it
// has no danger, and a draft that takes it out of the grant takes nothing away. Only what is certain
// counts: a denial without a condition, on all places of the grant, that spares nobody who has it.

// refusal is what one denial refuses.
type refusal struct {
	perms  access.Set
	where  *model.Patterns
	unless []model.ID
}

// denied notes the denials that hold at any time.
func (r *runner) denied() {
	r.denials = map[model.ID][]*refusal{}
	for d := range r.x.Denials() {
		if !d.When.IsZero() {
			continue
		}
		no := &refusal{r.x.SetPerms([]model.Rights{d.Rights}), model.PatternsOf(d.Where), d.Unless}
		for _, to := range d.To {
			r.denials[to] = append(r.denials[to], no)
		}
	}
}

// refusals returns the denials that name whoever has what is granted to an identity.
func (r *runner) refusals(to model.ID) []*refusal {
	if len(r.denials) == 0 {
		return nil
	}
	out := slices.Clone(r.denials[to])
	for _, n := range r.x.Givers(to) {
		if of := r.x.ID(n); of != to {
			out = append(out, r.denials[of]...)
		}
	}
	return out
}

// refused returns what denials, of those that name all who have a grant, refuse to them; nil: nothing. Of
// a crowd, and of a group in which nobody is known to be, a denial that spares somebody says nothing.
func (r *runner) refused(res *GrantResult, denials []*refusal) access.Few {
	var all access.Set
	for _, no := range denials {
		if !no.perms.Meets(res.Perms) || !r.holdsFor(no, res) {
			continue
		}
		if all == nil {
			all = r.x.NewSet()
		}
		all.Or(no.perms)
	}
	to := res.Grant.To
	if all == nil || slices.ContainsFunc(res.Holders, r.x.Bypasses) || r.x.Bypasses(to) {
		return nil
	}
	all.And(res.Perms)
	return all.Few()
}

// holdsFor reports whether a denial holds on all places of a grant for all who have it.
func (r *runner) holdsFor(no *refusal, res *GrantResult) bool {
	if slices.ContainsFunc(res.Grant.Where, func(on model.PathPattern) bool { return !no.where.One(on) }) {
		return false
	}
	if len(no.unless) == 0 {
		return true
	}
	to := res.Grant.To
	if to.Open() || len(res.Holders) == 0 {
		return false
	}
	return !slices.ContainsFunc(append(res.Holders[:len(res.Holders):len(res.Holders)], to), func(id model.ID) bool {
		return slices.ContainsFunc(no.unless, func(but model.ID) bool { return id == but || r.x.In(id, but) })
	})
}
