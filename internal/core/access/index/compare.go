package index

import (
	"slices"

	"clipfence/internal/core/model"
)

// A Place is a permission on a path pattern, and the grant that gives it.
type Place struct {
	Permission model.Permission
	Level      model.Level // as the catalogue has it
	Where      model.PathPattern
	Grant      *model.Grant
	Left       []model.PathPattern // of a lost one: where in it the permission is still there
}

// Changes is what becomes of one identity's access between two estates. What goes and
// something else still gives is in Stays, with the grant that does.
type Changes struct {
	Lost   []Place
	Gained []Place
	Stays  []Place
}

// Compare says what an identity has before and not after, and the other way round, by
// containment of patterns, so that it holds for names nobody has seen yet. Denials,
// guardrails and ceilings count where they take a whole grant's permission away.
func Compare(before, after *Index, id model.ID) Changes {
	had, has := granted(before, id), granted(after, id)
	was, is := byPermission(had), byPermission(has)
	var d Changes
	for _, p := range had {
		now := is[p.Permission]
		same := func(q Place) bool { return q.Grant.ID == p.Grant.ID && q.Where == p.Where }
		if slices.ContainsFunc(now, same) {
			continue
		}
		if by := given(now, p); by != nil {
			p.Grant = by
			d.Stays = append(d.Stays, p)
			continue
		}
		for _, q := range now {
			if q.Where.Overlaps(p.Where) && !slices.Contains(p.Left, q.Where) {
				p.Left = append(p.Left, q.Where)
			}
		}
		d.Lost = append(d.Lost, p)
	}
	for _, p := range has {
		if given(was[p.Permission], p) == nil {
			d.Gained = append(d.Gained, p)
		}
	}
	return d
}

func granted(x *Index, id model.ID) []Place {
	var out []Place
	for _, h := range x.Holdings(id) {
		for p := range h.Perms.All() {
			c := x.Permission(p)
			for _, on := range h.Grant.Where {
				out = append(out, Place{Permission: c.Permission, Level: c.Level, Where: on, Grant: h.Grant})
			}
		}
	}
	return out
}

func byPermission(list []Place) map[model.Permission][]Place {
	out := map[model.Permission][]Place{}
	for _, p := range list {
		out[p.Permission] = append(out[p.Permission], p)
	}
	return out
}

// given returns a grant of a list of one permission's places that, with others, gives a
// place at least under the conditions under which it was given; nil when they do not.
func given(list []Place, p Place) *model.Grant {
	var on []model.PathPattern
	var by *model.Grant
	cond := p.Grant.Condition()
	for _, q := range list {
		if cond.Implies(q.Grant.Condition()) {
			on = append(on, q.Where)
			if by == nil || q.Where.Contains(p.Where) {
				by = q.Grant
			}
		}
	}
	if model.PathPatternsContain(on, p.Where) {
		return by
	}
	return nil
}
