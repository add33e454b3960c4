// Package fence holds the access that should stand in place of what is granted.
//
// A [Fence] names the grants it replaces and what it allows instead, line by line, or what it
// refuses whatever grants give. It is the content of a fence file: drafted from use or written by
// hand, and held to the same rules either way. [Fence.Edit] is what it does to an estate.
package fence

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// A Fence is the content of a fence file: the access that one identity should
// have in one source in place of the grants it replaces.
type Fence struct {
	Version  int            `json:"fence" doc:"version of this format: 2"`
	For      model.ID       `json:"for" doc:"whose access, source:kind/name"`
	Drafted  time.Time      `json:"drafted" doc:"when, RFC 3339"`
	Window   string         `json:"window" doc:"how far back the draft looked, such as 90d"`
	Survey   int64          `json:"survey,omitempty" doc:"the survey it was drafted from"`
	Proven   Proven         `json:"proven,omitzero" doc:"on what it rests: apply refuses when that got worse; take it out to put up the fence all the same"`
	Widens   string         `json:"widens,omitempty" doc:"why it may allow more than what it replaces; without it, it may not"`
	Replaces []string       `json:"replaces,omitempty" doc:"grants that go"`
	Leaves   []model.ID     `json:"leaves,omitempty" doc:"groups that the identity leaves"`
	Allow    []Allow        `json:"allow" doc:"what stands in their place; may be empty"`
	Denies   []Deny         `json:"denies,omitempty" doc:"what is refused, whatever grants give, now or later"`
	Asks     []Ask          `json:"asks,omitempty" doc:"what goes and may be asked for, through a gate that must be there; people only"`
	GivesUp  []GiveUp       `json:"gives_up,omitempty" doc:"what goes; a use that goes must be named here, with its place, or the rehearsal fails"`
	Digest   string         `json:"-"` // SHA-256 of the file as it was read, in hexadecimal digits
	At       model.Position `json:"-"`
	Remarks  []model.Remark `json:"-"` // what to write otherwise now
}

// FormatVersion is the version of the fence file's format.
const FormatVersion = 2

// A GiveUp names permissions that go on some places, but for what the lines of the
// fence still allow there. It says nothing about other places.
type GiveUp struct {
	Do    []model.PermissionPattern `json:"do" doc:"permissions that go"`
	Where []model.PathPattern       `json:"where" doc:"path patterns on which they go"`
	// Unseen: no log shows whether they are used there. Nothing replayed can tell.
	Unseen bool `json:"unseen,omitempty" doc:"they have power, and no log shows whether they are used there: decide whether they go"`
	// From says that they go only then, when lines of the fence that give them end.
	From time.Time      `json:"from,omitzero" doc:"they go only from this time on, when the lines that give them end"`
	At   model.Position `json:"-"`
}

// An Ask is power that goes and that people may ask for when they need it, for a time, through a
// gate. A use of it is named as given up all the same: it is one to ask for.
type Ask struct {
	Do       []model.PermissionPattern `json:"do" doc:"permissions"`
	Where    []model.PathPattern       `json:"where" doc:"path patterns"`
	When     model.Condition           `json:"when,omitzero" doc:"the condition of what it was granted by"`
	Expected float64                   `json:"expected,omitempty" doc:"how often it is expected to be asked for within 90 days: a guess"`
	At       model.Position            `json:"-"`
}

// AsksFor reports whether whoever the fence is for may ask for a permission on all of a place.
func (f *Fence) AsksFor(p model.Permission, on model.PathPattern) bool {
	return slices.ContainsFunc(f.Asks, func(a Ask) bool {
		return slices.ContainsFunc(a.Do, func(d model.PermissionPattern) bool { return d.Matches(p) }) &&
			model.PathPatternsContain(a.Where, on)
	})
}

// Lends reports whether somebody may ask, by one of some fences, for a permission on all of some
// places. The zero pattern stands for everywhere else, and is passed over.
func Lends(fs []*Fence, x *index.Index, who model.ID, p model.Permission, where []model.PathPattern) bool {
	return who.Kind == model.Person && slices.ContainsFunc(fs, func(f *Fence) bool {
		if len(f.Asks) == 0 {
			return false
		}
		of := f.For.In(x.Source())
		return (of == who || x.In(who, of)) && !slices.ContainsFunc(where, func(on model.PathPattern) bool {
			return !on.IsZero() && !f.AsksFor(p, on)
		})
	})
}

// FromText reads how fence: 1 named a permission, which excused it on every place.
func (g *GiveUp) FromText(text string) (string, error) {
	p, err := model.ParsePermissionPattern(text)
	if err != nil {
		return "", err
	}
	everywhere, err := model.ParsePathPattern("/**")
	if err != nil {
		return "", err
	}
	g.Do, g.Where = []model.PermissionPattern{p}, []model.PathPattern{everywhere}
	return fmt.Sprintf("{do: [%s], where: [the places on which it goes]}; until then it goes on every place", p), nil
}

// Names reports whether a fence says that a permission on a path goes, and from when on: the zero
// time where it goes at once.
func (f *Fence) Names(p model.Permission, path model.Path) (from time.Time, named bool) {
	for _, g := range f.GivesUp {
		if !slices.ContainsFunc(g.Do, func(d model.PermissionPattern) bool { return d.Matches(p) }) ||
			!slices.ContainsFunc(g.Where, func(w model.PathPattern) bool { return w.Matches(path) }) {
			continue
		}
		if !named || g.From.Before(from) {
			from, named = g.From, true
		}
	}
	return from, named
}

// Ends returns the lines of a fence that end by themselves, by number, the first to end first.
func (f *Fence) Ends() []int {
	var out []int
	for i := range f.Allow {
		if !f.Allow[i].Until.IsZero() {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return f.Allow[a].Until.Compare(f.Allow[b].Until) })
	return out
}

// GivenUp returns the permissions that go somewhere at once, each once, in the order in which
// they are named.
func (f *Fence) GivenUp() []model.PermissionPattern {
	var out []model.PermissionPattern
	seen := map[model.PermissionPattern]bool{}
	for _, g := range f.GivesUp {
		for _, p := range g.Do {
			if g.From.IsZero() && !seen[p] {
				seen[p] = true
				out = append(out, p)
			}
		}
	}
	return out
}

// Unseen returns the permissions with power that go where no log shows whether they are used, each
// once, and all places of such.
func (f *Fence) Unseen() (do []model.PermissionPattern, where []model.PathPattern) {
	for _, g := range f.GivesUp {
		if !g.Unseen {
			continue
		}
		for _, p := range g.Do {
			if !slices.Contains(do, p) {
				do = append(do, p)
			}
		}
		for _, on := range g.Where {
			if !slices.Contains(where, on) {
				where = append(where, on)
			}
		}
	}
	return do, where
}

// An Allow is one line of a fence: a role of the source, or permissions, on places.
type Allow struct {
	To       model.ID                  `json:"to,omitzero" doc:"of a fence for a group: the one member that gets the line; else all do"`
	Role     string                    `json:"role,omitempty" doc:"a role of the source that fits; this or do"`
	Do       []model.PermissionPattern `json:"do,omitempty" doc:"permissions"`
	As       string                    `json:"as,omitempty" doc:"with do: the name of the role that is made for it, which lines with the same do share; without one each has its own"`
	Where    []model.PathPattern       `json:"where" was:"on" doc:"path patterns"`
	When     model.Condition           `json:"when,omitzero" doc:"only under this condition"`
	Until    time.Time                 `json:"until,omitzero" doc:"ends at this time"`
	At       model.Position            `json:"-"`
	Evidence Evidence                  `json:"-"` // told in a comment beside it
}

// Evidence is what an [Allow] rests on.
type Evidence struct {
	// Class is used, rare, past, likely, unobservable, undecidable, last or decided; of a widening refused,
	// asked, task or needs; of one with a shared role mined.
	Class string
	For   string // of a task, needs or a mined role: what it is for
	Count int64  // calls on the places of the line: in the window, or of a rare one ever
	Days  int

	Places int // nodes that the calls were on

	// Chance, 0 to 1, that a call comes on another place of the line within 90 days, or of past
	// and likely lines any call: a guess. It is 0 for a line that has no other places.
	Chance float64

	// Met is how many calls of the window each met a condition that was added, on MetDays days.
	Met     int64
	MetDays int

	Ends bool // a draft has it end: it rests on no use of the window

	Short   bool // the line is wider than is worth it, so that the fence can be read
	AtLeast bool // Count is the least that there were
	Earlier bool // all of it is from before the window, in which the permission was used elsewhere
	First   time.Time
	Last    time.Time
}

// A Deny is one line of what a fence refuses: it holds against every grant, also one that comes
// later, and spares a few. Where many grants give the same that few need, it is one line in place of
// a fence for each.
type Deny struct {
	Do     []model.PermissionPattern `json:"do" doc:"permissions"`
	Where  []model.PathPattern       `json:"where" doc:"path patterns"`
	Unless []model.ID                `json:"unless,omitempty" doc:"people, workloads and groups that it spares"`
	At     model.Position            `json:"-"`
}

// Denial returns the record of a line in a source.
func (f *Fence) Denial(d *Deny, id, source string) model.Denial {
	r := model.Denial{ID: id, To: []model.ID{f.For.In(source)}, Where: d.Where, Rights: model.Rights{Do: d.Do}}
	for _, who := range d.Unless {
		r.Unless = append(r.Unless, who.In(source))
	}
	return r
}

// Sets returns the permissions of a line.
func (a *Allow) Sets(x *index.Index) []model.Rights {
	if a.Role != "" {
		return x.RoleSets(a.Role)
	}
	return []model.Rights{{Do: a.Do}}
}

// Validate reports what is wrong with a fence that somebody wrote, or nil.
func (f *Fence) Validate(x *index.Index) error {
	var errs []error
	fault := func(at model.Position, format string, args ...any) {
		errs = append(errs, &model.Fault{At: at, What: fmt.Sprintf(format, args...)})
	}
	source := x.Source()
	for _, id := range f.Replaces {
		n, ok := x.GrantNamed(id)
		if !ok {
			fault(f.At, "replaces: no grant %q in source %q; survey again, or draft anew", id, source)
		} else if g := x.Grant(n); g.To != f.For.In(source) {
			fault(f.At, "replaces: grant %q is made to %s, not to %s", id, g.To, f.For)
		} else if f.Widens == "" && x.Over(n) {
			fault(f.At, "replaces: grant %q is over since %s and gives nothing any more; draft anew", id,
				g.Condition().Until.UTC().Format(time.RFC3339))
		}
	}
	groups := x.GroupsOf(f.For.In(source))
	for _, g := range f.Leaves {
		if !slices.Contains(groups, g) {
			fault(f.At, "leaves: %s is not a direct member of %s in source %q; survey again, or draft anew", f.For, g,
				source)
		} else if !Listed(x, g) {
			fault(f.At, "leaves: source %q keeps no list of who is in %s: only the log shows it, and whoever lets "+
				"people in says it; take it out of the list", source, g)
		}
	}
	for _, a := range f.Allow {
		_, known := x.Role(a.Role)
		if to := a.To.In(source); !a.To.IsZero() && (a.To.Source != "" && a.To.Source != f.For.Source ||
			to.Kind == model.Group || to.Open() || f.For.Kind != model.Group || !x.In(to, f.For.In(source))) {
			fault(a.At, "allow: to: %s is no person and no workload in %s of source %q; a line is for all of the "+
				"fence, or, of a group, for a member of it", a.To, f.For, source)
		}
		switch {
		case (a.Role == "") == (len(a.Do) == 0):
			fault(a.At, "allow: a line has a role or do, one of the two")
		case a.Role != "" && !known:
			fault(a.At, "allow: no role %q in source %q", a.Role, source)
		case len(a.Where) == 0:
			fault(a.At, "allow: a line names at least one place (where)")
		}
		switch r, there := x.Role(a.As); {
		case a.As == "":
		case a.Role != "" || !plainName(a.As):
			fault(a.At, "allow: as: %q names the role that is made for do: small letters, digits and '-', at most "+
				"60", a.As)
		case there && !same(r, a.Do):
			fault(a.At, "allow: as: role %q of source %q holds something else than this line does", a.As, source)
		}
		for _, p := range a.Do {
			if x.SetPerms([]model.Rights{{Do: []model.PermissionPattern{p}}}).Count() == 0 {
				fault(a.At, "allow: permission %q is not in the catalogue of source %q", p, source)
			}
		}
		if a.When.Hours != nil {
			if err := a.When.Hours.Validate(); err != nil {
				fault(a.At, "allow: %v", err)
			}
		}
	}
	if len(f.Denies) > 0 && x.Semantics().Additive {
		fault(f.Denies[0].At, "denies: source %q knows no denials: what is to go is taken out of the grants "+
			"(replaces, allow)", source)
	}
	for _, d := range f.Denies {
		if len(d.Do) == 0 || len(d.Where) == 0 {
			fault(d.At, "denies: a line names permissions (do) and places (where)")
		}
		for _, p := range d.Do {
			if x.SetPerms([]model.Rights{{Do: []model.PermissionPattern{p}}}).Count() == 0 {
				fault(d.At, "denies: permission %q is not in the catalogue of source %q", p, source)
			}
		}
		for _, id := range d.Unless {
			_, known := x.Identity(id.In(source))
			if !known || id.Open() || id.Source != "" && id.Source != f.For.Source {
				fault(d.At, "denies: unless: %s is no person, workload or group of source %q", id, source)
			}
		}
	}
	for _, a := range f.Asks {
		switch {
		case f.For.Open():
			fault(a.At, "asks: nobody can ask for what %s has: name people or a group", f.For)
		case f.For.Kind == model.Workload:
			fault(a.At, "asks: %s is a workload, which asks nobody", f.For)
		case len(a.Do) == 0 || len(a.Where) == 0:
			fault(a.At, "asks: an entry names permissions (do) and places (where)")
		case !f.replaced(x, &a):
			fault(a.At, "asks: what is to be asked for lies inside the grants that go, and this does not: %s on %s",
				a.Do[0], a.Where[0])
		}
	}
	return errors.Join(errs...)
}

// replaced reports whether what may be asked for lies inside the grants that go.
func (f *Fence) replaced(x *index.Index, a *Ask) bool {
	for _, p := range a.Do {
		one := []model.Rights{{Do: []model.PermissionPattern{p}}}
		var places []model.PathPattern
		for _, id := range f.Replaces {
			if n, ok := x.GrantNamed(id); ok && a.When.Implies(x.Grant(n).Condition()) && Within(one, x.GrantSets(n)) {
				places = append(places, x.Grant(n).Where...)
			}
		}
		for _, on := range a.Where {
			if !model.PathPatternsContain(places, on) {
				return false
			}
		}
	}
	return true
}

// plainName reports whether a name can be one of a shared role.
func plainName(s string) bool {
	return len(s) <= 60 && strings.Trim(s, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// same reports whether a role holds just what a line does.
func same(r model.Role, do []model.PermissionPattern) bool {
	return len(r.Includes) == 0 && len(r.Except) == 0 && slices.Equal(texts(r.Do), texts(do))
}

// Edit returns what the fence does to the estate of a source. New grants are named after
// the identity.
func (f *Fence) Edit(source string) access.Edit {
	who := f.For.In(source)
	d := access.Edit{Gone: access.Gone{Grants: f.Replaces}}
	for _, g := range f.Leaves {
		d.Gone.Memberships = append(d.Gone.Memberships, model.Membership{Member: who, Group: g})
	}
	for i, a := range f.Allow {
		g := model.Grant{ID: fmt.Sprintf("fence:%s:%d", who, i+1), To: f.Receiver(&a, source), Role: a.Role,
			Where: a.Where, When: a.When, Until: a.Until, KeptWith: model.WithHolder}
		g.Do = a.Do
		d.Come.Grants = append(d.Come.Grants, g)
	}
	for i := range f.Denies {
		d.Come.Denials = append(d.Come.Denials, f.Denial(&f.Denies[i], fmt.Sprintf("fence:%s:denies:%d", who, i+1),
			source))
	}
	return d
}

// EditOf returns what several fences do to the estate of a source together. Two for one identity name
// what they bring alike, so here the name of each tells of which fence it is.
func EditOf(fs []*Fence, source string) access.Edit {
	var all access.Edit
	for n, f := range fs {
		e := f.Edit(source)
		for i := range e.Come.Grants {
			e.Come.Grants[i].ID += fmt.Sprintf(":%d", n)
		}
		for i := range e.Come.Denials {
			e.Come.Denials[i].ID += fmt.Sprintf(":%d", n)
		}
		all.Gone.Grants = append(all.Gone.Grants, e.Gone.Grants...)
		all.Gone.Memberships = append(all.Gone.Memberships, e.Gone.Memberships...)
		all.Come.Grants = append(all.Come.Grants, e.Come.Grants...)
		all.Come.Denials = append(all.Come.Denials, e.Come.Denials...)
	}
	return all
}

// Receiver returns who gets a line in a source: the identity of the fence, or a member of it.
func (f *Fence) Receiver(a *Allow, source string) model.ID {
	if a.To.IsZero() {
		return f.For.In(source)
	}
	return a.To.In(source)
}

// Denied returns a denial that holds members of a group because they are in it, or "":
// who leaves such a group may do more than before.
func Denied(x *index.Index, group model.ID) string {
	for _, s := range x.Closure(group) {
		for d := range x.Denials() {
			if !s.ID.Open() && slices.Contains(d.To, s.ID) {
				return d.ID
			}
		}
	}
	return ""
}

// MayLeave reports whether a fence may take somebody out of a group: no denial holds those who are in
// it, and the source lists who is.
func MayLeave(x *index.Index, group model.ID) bool {
	return Denied(x, group) == "" && Listed(x, group)
}

// Listed reports whether the source lists who is in a group: of a group whose members only the log
// shows, it knows of no membership that could be taken away.
func Listed(x *index.Index, group model.ID) bool {
	i, _ := x.Identity(group)
	return !i.ByLog
}

// Within reports whether every permission of some set of inner, known to a
// catalogue or not, is in one set of outer.
func Within(inner, outer []model.Rights) bool {
	for _, in := range inner {
		for _, p := range in.Do {
			one := model.Rights{Do: []model.PermissionPattern{p}, Except: in.Except}
			if one.Empty() {
				continue
			}
			if !slices.ContainsFunc(outer, func(o model.Rights) bool { return o.Contains(one) }) {
				return false
			}
		}
	}
	return true
}
