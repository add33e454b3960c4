package usage

import (
	"iter"
	"slices"
	"strings"

	"clipfence/internal/core/model"
)

// An Alias says which identity of the estate a name in the logs means.
type Alias struct {
	Log string   `json:"log" doc:"the identity as the logs write it, kind/name; * in the name stands for any run of characters"`
	Is  model.ID `json:"is" doc:"the identity of the estate"`
}

// An Operation says which permissions an operation of the logs takes.
type Operation struct {
	Log model.PermissionPattern `json:"log" doc:"the operation as clipfence uses --unmapped lists it; * stands for any run of characters"`
	Is  []model.Permission      `json:"is" doc:"the permissions it takes; none: it takes none"`
}

// A Resolver brings what the logs call things to what the estate calls them: an
// identity's other names, operations that are no permissions, and nodes that have moved. It is asked when
// uses are looked at, not when they are folded, so that a better list needs no
// second reading of the logs.
type Resolver struct {
	exact map[model.ID]model.ID
	named map[string]model.ID // by bare name, where just one identity has it
	globs []glob
	ops   []Operation
	moved Moves
	known map[model.ID]bool
	names Listing
	memo  map[model.ID]model.ID
}

type glob struct {
	kind string
	name model.PermissionPattern
	is   model.ID
}

// namePattern reads a name with stars. It is matched as a permission's noun, which may
// hold anything.
func namePattern(name string) (model.PermissionPattern, error) {
	return model.ParsePermissionPattern("x/" + strings.ReplaceAll(name, "/", "%2F") + ":x")
}

func (g glob) matches(id model.ID) bool {
	p, err := model.ParsePermission("x/" + string(model.AppendEscaped(nil, []byte(id.Name))) + ":x")
	return g.kind == string(id.Kind) && err == nil && g.name.Matches(p)
}

// Listing is what a resolver asks of an estate.
type Listing interface {
	Source() string
	// Everybody yields every identity that is listed, with a number of its own.
	Everybody() iter.Seq2[int, *model.Identity]
	// PermNumber reports whether the catalogue lists a permission.
	PermNumber(model.Permission) (int, bool)
}

// NewResolver makes a resolver of an estate's own aliases and further lists, which
// come first. A bare name that only one identity of the estate has means that one.
func NewResolver(e Listing, aliases []Alias, ops []Operation, moved Moves) *Resolver {
	r := &Resolver{exact: map[model.ID]model.ID{}, named: map[string]model.ID{}, ops: ops, moved: moved,
		known: map[model.ID]bool{}, names: e, memo: map[model.ID]model.ID{}}
	twice := map[string]bool{}
	own := func(name string, id model.ID) {
		if old, ok := r.named[name]; ok && old != id {
			twice[name] = true
		}
		r.named[name] = id
	}
	for _, i := range e.Everybody() {
		r.known[i.ID] = true
		own(i.ID.Name, i.ID)
		for _, a := range i.Aliases {
			if id, err := model.ParseID(a); err == nil {
				r.exact[id] = i.ID
			} else {
				own(a, i.ID)
			}
		}
	}
	for name := range twice {
		delete(r.named, name)
	}
	for _, a := range aliases {
		kind, name, _ := strings.Cut(a.Log, "/")
		if !strings.Contains(name, "*") {
			if id, err := model.ParseID(a.Log); err == nil {
				r.exact[id] = a.Is.In(e.Source())
			}
			continue
		}
		if p, err := namePattern(name); err == nil {
			r.globs = append(r.globs, glob{kind, p, a.Is.In(e.Source())})
		}
	}
	return r
}

// Identity returns the identity of the estate that a name in the logs means, or the
// name itself where there is none.
func (r *Resolver) Identity(id model.ID) model.ID {
	if is, ok := r.memo[id]; ok {
		return is
	}
	is := r.identity(id)
	r.memo[id] = is
	return is
}

func (r *Resolver) identity(id model.ID) model.ID {
	if is, ok := r.exact[id]; ok {
		return is
	}
	if id.Open() || r.known[id] || id.IsZero() {
		return id
	}
	for _, g := range r.globs {
		if g.matches(id) {
			return g.is
		}
	}
	// Whom a log calls a person or a workload is no group, whatever they are called.
	says := id.Kind == model.Person || id.Kind == model.Workload
	if is, ok := r.named[id.Name]; ok && !(says && is.Kind == model.Group) {
		return is
	}
	return id
}

// Known reports whether the estate lists an identity.
func (r *Resolver) Known(id model.ID) bool { return id.Open() || r.known[id] }

func (r *Resolver) lists(p model.Permission) bool { _, ok := r.names.PermNumber(p); return ok }

// Permissions returns the permissions that an operation takes; nil when nothing maps
// one that the catalogue lacks.
func (r *Resolver) Permissions(p model.Permission) []model.Permission {
	if r.lists(p) {
		return []model.Permission{p}
	}
	for _, o := range r.ops {
		if o.Log.Matches(p) {
			return o.Is
		}
	}
	return nil
}

// Uses brings uses to the words of the estate. What nothing maps stays as it is.
func (r *Resolver) Uses(uses *Uses) *Uses {
	return uses.renamed(r.Identity, func(p model.Permission) []model.Permission {
		if ps := r.Permissions(p); ps != nil {
			return ps
		}
		return []model.Permission{p}
	}, r.moved)
}

// Through ends the verb of a permission that a log shows for what was reached through
// something else, such as the table behind a view: whether the caller's own right was used
// the log does not tell, see [Settle].
const Through = "-through"

// Settle decides over uses that were [Through] something: where one of the caller's own
// rights explains such a use it counts as one of that right, and else as none.
func Settle(uses *Uses, explains func(*Use) bool) *Uses {
	if uses == nil || !slices.ContainsFunc(uses.perms,
		func(p model.Permission) bool { return strings.HasSuffix(p.String(), Through) }) {
		return uses
	}
	return uses.Select(func(u *Use) bool {
		base, ok := strings.CutSuffix(u.Permission.String(), Through)
		if !ok {
			return true
		}
		p, err := model.ParsePermission(base)
		if err != nil {
			return false
		}
		u.Permission = p
		return explains(u)
	})
}

// Same brings to others what somebody did by no right of its own: one person has accounts in several sources,
// and which of them a name in a log means is not told. What its own rights explain stays its own; what else was
// let through is of the first of those whom it is the same as whose rights do.
func Same(uses *Uses, as map[model.ID][]model.ID, explains func(*Use) bool) *Uses {
	if uses == nil || !slices.ContainsFunc(uses.ids, func(id model.ID) bool { return len(as[id]) > 0 }) {
		return uses
	}
	return uses.Select(func(u *Use) bool {
		others := as[u.Principal()]
		if len(others) == 0 || !u.Outcome.Allowed() || explains(u) {
			return true
		}
		for _, id := range others {
			other := *u
			if other.Identity = id; !u.ActingFor.IsZero() {
				other.Identity, other.ActingFor = u.Identity, id
			}
			if explains(&other) {
				*u = other
				break
			}
		}
		return true
	})
}
