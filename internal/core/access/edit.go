package access

import (
	"slices"

	"clipfence/internal/core/model"
)

// An Edit is what an estate is to be thought without and with. What comes takes the place
// of what has the same name, of several of one name the last.
type Edit struct {
	Gone Gone
	Come Come
}

// Gone names records that are not there any more.
type Gone struct {
	Identities  []model.ID // with the grants to them, their memberships and act-as edges
	Memberships []model.Membership
	Roles       []string // with the grants of them, but where a role of that name comes
	Grants      []string // by id, as all that follow
	Denials     []string
	Ceilings    []string
	Guardrails  []string
	ActAs       []string
}

// Come holds records that are there besides.
type Come struct {
	Identities  []model.Identity
	Memberships []model.Membership
	Roles       []model.Role
	Grants      []model.Grant
	Denials     []model.Denial
	Ceilings    []model.Ceiling
	Guardrails  []model.Guardrail
	ActAs       []model.ActAs
}

// Drops reports whether a grant goes by an edit: itself, its role or its holder.
func (d *Edit) Drops(g *model.Grant) bool {
	return slices.Contains(d.Gone.Grants, g.ID) || slices.Contains(d.Gone.Identities, g.To) || g.Role != "" &&
		d.DropsRole(g.Role)
}

// DropsRole reports whether a role goes and none of its name comes.
func (d *Edit) DropsRole(name string) bool {
	return slices.Contains(d.Gone.Roles, name) && !slices.ContainsFunc(d.Come.Roles,
		func(r model.Role) bool { return r.Name == name })
}

// DropsMember reports whether a membership goes by an edit.
func (d *Edit) DropsMember(m model.Membership) bool {
	return slices.Contains(d.Gone.Identities, m.Member) || slices.Contains(d.Gone.Identities, m.Group) ||
		slices.ContainsFunc(d.Gone.Memberships, func(x model.Membership) bool {
			return x.Member == m.Member &&
				x.Group == m.Group
		})
}

// DropsEdge reports whether an act-as edge goes by an edit.
func (d *Edit) DropsEdge(a *model.ActAs) bool {
	return slices.Contains(d.Gone.ActAs, a.ID) || slices.Contains(d.Gone.Identities, a.From) ||
		slices.Contains(d.Gone.Identities, a.To)
}

// Apply returns an estate as it would be. The estate itself stays as it is.
func (d *Edit) Apply(e *model.Estate) *model.Estate {
	out := *e
	out.Identities = replaced(e.Identities, d.Come.Identities, func(i model.Identity) model.ID { return i.ID },
		func(i *model.Identity) bool { return slices.Contains(d.Gone.Identities, i.ID) })
	out.Memberships = replaced(e.Memberships, d.Come.Memberships,
		func(m model.Membership) [2]model.ID { return [2]model.ID{m.Member, m.Group} },
		func(m *model.Membership) bool { return d.DropsMember(*m) })
	out.Roles = replaced(e.Roles, d.Come.Roles, func(r model.Role) string { return r.Name },
		func(r *model.Role) bool { return slices.Contains(d.Gone.Roles, r.Name) })
	out.Grants = replaced(e.Grants, d.Come.Grants, func(g model.Grant) string { return g.ID }, d.Drops)
	out.Denials = replaced(e.Denials, d.Come.Denials, func(r model.Denial) string { return r.ID },
		func(r *model.Denial) bool { return slices.Contains(d.Gone.Denials, r.ID) })
	out.Ceilings = replaced(e.Ceilings, d.Come.Ceilings, func(r model.Ceiling) string { return r.ID },
		func(r *model.Ceiling) bool { return slices.Contains(d.Gone.Ceilings, r.ID) })
	out.Guardrails = replaced(e.Guardrails, d.Come.Guardrails, func(r model.Guardrail) string { return r.ID },
		func(r *model.Guardrail) bool { return slices.Contains(d.Gone.Guardrails, r.ID) })
	out.ActAs = replaced(e.ActAs, d.Come.ActAs, func(a model.ActAs) string { return a.ID }, d.DropsEdge)
	return &out
}

// replaced returns a list without what goes and what has the name of something that comes,
// and then what comes.
func replaced[T any, K comparable](list, come []T, name func(T) K, goes func(*T) bool) []T {
	names := map[K]int{} // where the last of a name stands
	for i, x := range come {
		names[name(x)] = i
	}
	if len(come) == 0 && !slices.ContainsFunc(list, func(x T) bool { return goes(&x) }) {
		return list
	}
	out := make([]T, 0, len(list)+len(come))
	for i := range list {
		if _, again := names[name(list[i])]; !again && !goes(&list[i]) {
			out = append(out, list[i])
		}
	}
	for i, x := range come {
		if names[name(x)] == i {
			out = append(out, x)
		}
	}
	return out
}
