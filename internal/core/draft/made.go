package draft

import (
	"cmp"
	"errors"
	"slices"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Made are drafts that are to stand beside the ones that are still to be made. The zero Made has none.
type Made struct {
	all []*fence.Fence
	x   *index.Index // the estate once they stand; nil: they are none
}

// Add adds a draft of an estate.
func (m *Made) Add(x *index.Index, f *fence.Fence) error {
	if m.x == nil {
		m.x = x
	}
	after, err := m.x.With(f.Edit(x.Source()))
	if err != nil {
		return err
	}
	m.all, m.x = append(m.all, f), after
	return nil
}

// Fences returns them in the order in which they were added.
func (m *Made) Fences() []*fence.Fence { return m.all }

// stands returns the estate as it is once the drafts stand that were made before this one.
func (d *drafter) stands() *index.Index {
	if d.o.Made == nil || d.o.Made.x == nil {
		return d.x
	}
	return d.o.Made.x
}

// was returns a grant by its number; nil: a draft brings it.
func (d *drafter) was(n int) *gauge.GrantResult {
	if n >= len(d.r.Grants) {
		return nil
	}
	return d.r.Grants[n]
}

// Everybody drafts for everybody whose access can be narrowed, so that the drafts stand beside each other.
func Everybody(in *gauge.Input, r *gauge.Result, o Options) ([]*fence.Fence, error) {
	o.Made = &Made{}
	for _, id := range Order(r, in.Index, Candidates(in, r, o.worth(in, r))) {
		if o.Stop != nil {
			if err := o.Stop(); err != nil {
				return nil, err
			}
		}
		f, err := FromUse(in, r, id, o)
		if errors.Is(err, ErrNothing) || errors.Is(err, ErrProtected) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if err := o.Made.Add(in.Index, f); err != nil {
			return nil, err
		}
	}
	return o.Made.Fences(), nil
}

// Order returns some identities so that each group comes before who is in it, and the crowds that anybody is
// in last: so a draft knows of those that it leaves something to. Whoever comes last of those who can hand out
// rights somewhere keeps that, see alone: so groups come first, and among the others those who never hand any out
// before those who do, the most often last.
func Order(r *gauge.Result, x *index.Index, ids []model.ID) []model.ID {
	var out, crowds []model.ID
	is, done := map[model.ID]bool{}, map[model.ID]bool{}
	for _, id := range ids {
		is[id] = true
	}
	var visit func(id model.ID)
	visit = func(id model.ID) {
		if done[id] {
			return
		}
		done[id] = true
		for _, st := range x.Closure(id) {
			if is[st.ID] && !st.ID.Open() {
				visit(st.ID)
			}
		}
		out = append(out, id)
	}
	hands := handing(r, x)
	for _, id := range slices.SortedStableFunc(slices.Values(ids), func(a, b model.ID) int {
		if (a.Kind == model.Group) != (b.Kind == model.Group) {
			if a.Kind == model.Group {
				return -1
			}
			return 1
		}
		return cmp.Compare(hands[a], hands[b])
	}) {
		if id.Open() {
			crowds = append(crowds, id)
		} else {
			visit(id)
		}
	}
	return slices.Concat(out, crowds)
}

// handing returns on how many days each identity, or the members of a group, handed out rights by what it is granted
// itself.
func handing(r *gauge.Result, x *index.Index) map[model.ID]int {
	days := map[model.ID]usage.Days{}
	for _, g := range r.Grants {
		for i := 0; g != nil && i < len(g.Use); i++ {
			if pu := &g.Use[i]; x.Permission(pu.Perm).Escalates == model.EditGrants {
				days[g.Grant.To] = days[g.Grant.To].Union(pu.Days)
			}
		}
	}
	out := map[model.ID]int{}
	for id, d := range days {
		out[id] = d.Count()
	}
	return out
}
