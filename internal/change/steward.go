package change

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
)

// Edit returns what becomes of an estate by what becomes of records. The last word about one counts.
func Edit(edits []source.Edited) (access.Edit, error) {
	type doc struct{ kind, id string }
	last := map[doc]int{}
	for i, s := range edits {
		last[doc{s.Kind, s.ID}] = i
	}
	var d access.Edit
	for i, s := range edits {
		if last[doc{s.Kind, s.ID}] != i {
			continue
		}
		var err error
		switch s.Kind {
		case source.Grants:
			err = put(&d.Come.Grants, &d.Gone.Grants, s, func(id string) (string, error) { return id, nil })
		case source.Roles:
			err = put(&d.Come.Roles, &d.Gone.Roles, s, func(id string) (string, error) { return id, nil })
		case source.Memberships:
			err = put(&d.Come.Memberships, &d.Gone.Memberships, s, member)
		case source.Denials:
			err = put(&d.Come.Denials, &d.Gone.Denials, s, func(id string) (string, error) { return id, nil })
		case source.LogSettings, source.Coverage: // say nothing about access
		default:
			err = fmt.Errorf("documents of kind %q are not changed", s.Kind)
		}
		if err != nil {
			return d, fmt.Errorf("%d. (%s %s): %w", i+1, kindWord(s.Kind), s.ID, err)
		}
	}
	return d, nil
}

// member reads the id of a membership's document.
func member(id string) (m model.Membership, err error) {
	who, group, _ := strings.Cut(id, ">")
	if m.Member, err = model.ParseID(who); err == nil {
		m.Group, err = model.ParseID(group)
	}
	return m, err
}

// put notes what an edit does to one list of an estate.
func put[T, K any](come *[]T, gone *[]K, s source.Edited, name func(id string) (K, error)) error {
	if s.After == nil {
		k, err := name(s.ID)
		if err == nil {
			*gone = append(*gone, k)
		}
		return err
	}
	var v T
	if err := json.Unmarshal(s.After, &v); err != nil {
		return err
	}
	*come = append(*come, v)
	return nil
}

// after returns an estate as it is when edits were made.
func after(x *index.Index, edits []source.Edited) (*index.Index, error) {
	d, err := Edit(edits)
	if err != nil {
		return nil, err
	}
	// What an edit removes may be gone already.
	d.Gone.Grants = slices.DeleteFunc(d.Gone.Grants, func(id string) bool { _, ok := x.GrantNamed(id); return !ok })
	d.Gone.Roles = slices.DeleteFunc(d.Gone.Roles, func(name string) bool { _, ok := x.Role(name); return !ok })
	d.Gone.Denials = slices.DeleteFunc(d.Gone.Denials, func(id string) bool {
		for r := range x.Denials() {
			if r.ID == id {
				return false
			}
		}
		return true
	})
	d.Gone.Memberships = slices.DeleteFunc(d.Gone.Memberships,
		func(m model.Membership) bool { return !slices.Contains(x.GroupsOf(m.Member), m.Group) })
	return x.With(d)
}

// touched returns whose access edits concern: holders, members, and everybody in a group.
func touched(x *index.Index, edits []source.Edited) []model.ID {
	named, all := map[model.ID]bool{}, map[model.ID]bool{}
	for _, s := range edits {
		for _, doc := range []json.RawMessage{s.Before, s.After} {
			if doc == nil {
				continue
			}
			var gr model.Grant
			var m model.Membership
			var r model.Role
			var d model.Denial
			switch {
			case s.Kind == source.Grants && json.Unmarshal(doc, &gr) == nil:
				named[gr.To] = true
			case s.Kind == source.Memberships && json.Unmarshal(doc, &m) == nil:
				named[m.Member] = true
			case s.Kind == source.Roles && json.Unmarshal(doc, &r) == nil:
				for name := range x.Roles() {
					if name != r.Name && !slices.Contains(includes(x, name), r.Name) {
						continue
					}
					for _, g := range x.GrantsOf(name) {
						named[x.Grant(g).To] = true
					}
				}
			case s.Kind == source.Denials && json.Unmarshal(doc, &d) == nil:
				for _, id := range refused(x, &d) {
					all[id] = true
				}
			}
		}
	}
	for id := range named {
		if id.IsZero() {
			continue
		}
		all[id] = true
		if n, ok := x.Number(id); ok {
			x.Members(n, func(i int) { all[x.ID(i)] = true })
		}
	}
	return slices.SortedFunc(maps.Keys(all), model.ID.Compare)
}

// refused returns to whom a denial refuses something that some grant gives them.
func refused(x *index.Index, d *model.Denial) []model.ID {
	perms := x.SetPerms([]model.Rights{d.Rights})
	among := func(id model.ID, list []model.ID) bool {
		return slices.ContainsFunc(list, func(of model.ID) bool { return id == of || x.In(id, of) })
	}
	meets := func(on model.PathPattern) bool { return slices.ContainsFunc(d.Where, on.Overlaps) }
	gives := func(n int) bool {
		return x.SharedFew(n).Meets(perms) && slices.ContainsFunc(x.Grant(n).Where, meets)
	}
	var out []model.ID
	for _, id := range x.Everybody() {
		if among(id.ID, d.To) && !among(id.ID, d.Unless) && slices.ContainsFunc(x.Given(id.ID), gives) {
			out = append(out, id.ID)
		}
	}
	return out
}

// Views are what a change is decided on: the estate as it was just read, and as it would be.
type Views struct {
	Before, After *index.Index
	Edits         []source.Edited
	Protected     map[model.ID]bool
	Self          []model.ID // the tool's own identities in the source
}

// StepGuards returns every reason against a change that holds whoever wants them: an undo, a
// resumed change and a mending are held to it as well as a fence.
func StepGuards(v Views) []string {
	var out []string
	no := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	for _, who := range touched(v.Before, v.Edits) {
		id, _ := v.Before.Identity(who)
		switch {
		case v.Protected[who]:
			no("%s is protected by clipfence.yaml", who)
		case id.BreakGlass():
			no("%s is labelled as kept for emergencies (purpose: break-glass)", who)
		case slices.Contains(v.Self, who):
			no("it would change what this tool itself works as: %s", who)
		}
	}
	for _, s := range v.Edits { // a role that others came to have meanwhile
		if s.Kind != source.Roles || s.After != nil {
			continue
		}
		for _, n := range v.Before.GrantsOf(s.ID) {
			g := v.Before.Grant(n)
			goes := slices.ContainsFunc(v.Edits, func(o source.Edited) bool {
				return o.Kind == source.Grants && o.ID == g.ID
			})
			if !goes {
				no("grant %s of %s gives role %s, which would go: take back first what made that grant", g.ID, g.To,
					s.ID)
			}
		}
	}
	for _, n := range escalate.Orphans(v.Before, v.After, v.Self) {
		no("nobody could hand out rights on %s any more: the last person who can, unaided and without a condition, "+
			"would lose it", n)
	}
	return out
}

// includes returns the roles that a role includes, each once.
func includes(x *index.Index, role string) []string {
	var out []string
	todo := []string{role}
	for len(todo) > 0 {
		r, _ := x.Role(todo[0])
		todo = todo[1:]
		for _, in := range r.Includes {
			if in != role && !slices.Contains(out, in) {
				out, todo = append(out, in), append(todo, in)
			}
		}
	}
	return out
}
