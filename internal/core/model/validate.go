package model

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// ErrInvalid is wrapped by every fault that [Estate.Validate] reports.
var ErrInvalid = errors.New("estate does not hold together")

// A Fault is one thing wrong with an estate.
type Fault struct {
	At   Position // where it was written; zero when it came over a wire
	What string
}

// Error returns "file:line:column: what".
func (f *Fault) Error() string {
	if at := f.At.String(); at != "" {
		return at + ": " + f.What
	}
	return f.What
}

// Unwrap returns [ErrInvalid].
func (f *Fault) Unwrap() error { return ErrInvalid }

// Validate reports everything wrong with the estate, joined: dangling
// references, ids used twice, paths outside the tree, permissions that the
// catalogue lacks, and records that say nothing. Cycles in groups and in act-as
// are legal. Each error is a [*Fault].
func (e *Estate) Validate() error {
	v := validator{e: e}
	v.catalogue()
	v.nodes()
	v.identities()
	v.roles()
	v.rules()
	v.coverage()
	return errors.Join(v.errs...)
}

type validator struct {
	e     *Estate
	errs  []error
	ids   map[ID]bool
	known map[string]bool // roles
	tree  map[Path]bool
	perms map[Permission]bool
}

func (v *validator) fault(at Position, format string, args ...any) {
	v.errs = append(v.errs, &Fault{at, fmt.Sprintf(format, args...)})
}

func (v *validator) catalogue() {
	seen := map[Permission]bool{}
	for _, c := range v.e.Catalogue {
		switch {
		case c.Permission.IsZero():
			v.fault(c.At, "catalogue entry names no permission")
		case seen[c.Permission]:
			v.fault(c.At, "permission %q is in the catalogue twice", c.Permission)
		case c.Level == LevelUnset:
			v.fault(c.At, "permission %q has no level (see, read, change, administer or hand-out)", c.Permission)
		case c.Escalates != "" && !slices.Contains(Escalations, c.Escalates):
			v.fault(c.At, "permission %q escalates by %q, which is none of %s", c.Permission, c.Escalates,
				strings.Join(Escalations, ", "))
		}
		seen[c.Permission] = true
	}
	v.perms = seen
}

func (v *validator) nodes() {
	v.tree = make(map[Path]bool, len(v.e.Nodes))
	if v.e.Source == "" {
		v.fault(Position{}, "estate names no source")
	}
	for _, n := range v.e.Nodes {
		if v.tree[n.Path] {
			v.fault(n.At, "node %s is listed twice", n.Path)
		}
		v.tree[n.Path] = true
	}
	for _, n := range v.e.Nodes {
		if n.Path.IsZero() {
			v.fault(n.At, "node has no path")
			continue
		}
		v.inside(n.At, "node", n.Path)
		if up, ok := n.Path.Parent(); ok && up.Depth() > 1 && !v.tree[up] {
			v.fault(n.At, "node %s hangs in the air: the node above it, %s, is not listed", n.Path, up)
		}
	}
}

func (v *validator) inside(at Position, what string, p Path) {
	if !p.IsZero() && v.e.Source != "" && p.Source() != v.e.Source {
		v.fault(at, "%s %s lies outside source %q", what, p, v.e.Source)
	}
}

func (v *validator) identities() {
	v.ids = make(map[ID]bool, len(v.e.Identities))
	for _, i := range v.e.Identities {
		switch {
		case i.ID.IsZero():
			v.fault(i.At, "identity has no id")
		case i.ID.Open() || i.ID.Kind == Unknown:
			v.fault(i.At, "%s cannot be listed: it stands for a crowd", i.ID)
		case i.ID.Source != "":
			v.fault(i.At, "identity %s names a source; inside an estate it must not", i.ID)
		case v.ids[i.ID]:
			v.fault(i.At, "identity %s is listed twice", i.ID)
		}
		v.ids[i.ID] = true
	}
	for _, m := range v.e.Memberships {
		v.ref(m.At, "membership", m.Member)
		v.ref(m.At, "membership", m.Group)
		if m.Group.Kind != Group && !m.Group.IsZero() {
			v.fault(m.At, "%s is not a group and can have no members", m.Group)
		}
	}
	for _, a := range v.e.ActAs {
		v.ref(a.At, "act-as "+a.ID, a.From)
		v.ref(a.At, "act-as "+a.ID, a.To)
		v.condition(a.At, "act-as "+a.ID, a.When)
		if a.To.Open() {
			v.fault(a.At, "act-as %q: nobody can act as %s", a.ID, a.To)
		}
	}
	for _, b := range v.e.Semantics.Bypass {
		v.ref(Position{}, "semantics.bypass", b)
	}
}

func (v *validator) ref(at Position, what string, id ID) {
	if id.IsZero() {
		v.fault(at, "%s names nobody", what)
	} else if !id.Open() && !v.ids[id] {
		v.fault(at, "%s refers to %s, which is not among the identities", what, id)
	}
}

func (v *validator) refs(at Position, what string, ids []ID) {
	for _, id := range ids {
		v.ref(at, what, id)
	}
}

func (v *validator) condition(at Position, what string, c Condition) {
	if c.Hours != nil {
		if err := c.Hours.Validate(); err != nil {
			v.fault(at, "%s: %v", what, err)
		}
	}
}

// permissions checks that each pattern names something of the catalogue.
func (v *validator) permissions(at Position, what string, s Rights) {
	for _, list := range [][]PermissionPattern{s.Do, s.Except} {
		for _, p := range list {
			if one, ok := p.Exact(); ok && v.perms[one] {
				continue
			}
			if !slices.ContainsFunc(v.e.Catalogue, func(c CatalogueEntry) bool { return p.Matches(c.Permission) }) {
				v.fault(at, "%s names permission %q, which the catalogue does not know", what, p)
			}
		}
	}
}

func (v *validator) places(at Position, what string, on []PathPattern) {
	if len(on) == 0 {
		v.fault(at, "%s names no place (where)", what)
	}
	for _, p := range on {
		if a, ok := p.Anchor(); ok {
			v.inside(at, what+": place", a)
		}
	}
}

func (v *validator) roles() {
	v.known = map[string]bool{}
	for _, r := range v.e.Roles {
		if r.Name == "" {
			v.fault(r.At, "role has no name")
		} else if v.known[r.Name] {
			v.fault(r.At, "role %q is listed twice", r.Name)
		}
		v.known[r.Name] = true
	}
	for _, r := range v.e.Roles {
		v.permissions(r.At, fmt.Sprintf("role %q", r.Name), r.Rights)
		for _, in := range r.Includes {
			if !v.known[in] {
				v.fault(r.At, "role %q includes role %q, which is not listed", r.Name, in)
			}
		}
	}
}

func (v *validator) rules() {
	seen := map[string]bool{}
	once := func(at Position, what, id string) string {
		name := fmt.Sprintf("%s %q", what, id)
		if id == "" {
			v.fault(at, "%s has no id", what)
		} else if seen[name] {
			v.fault(at, "%s is listed twice", name)
		}
		seen[name] = true
		return name
	}
	for _, g := range v.e.Grants {
		name := once(g.At, "grant", g.ID)
		v.ref(g.At, name, g.To)
		v.places(g.At, name, g.Where)
		v.condition(g.At, name, g.When)
		v.permissions(g.At, name, g.Rights)
		switch {
		case g.Role != "" && len(g.Do) > 0:
			v.fault(g.At, "%s has both a role and permissions of its own; it must have one", name)
		case g.Role == "" && len(g.Do) == 0:
			v.fault(g.At, "%s gives neither a role nor permissions", name)
		case g.Role != "" && !v.known[g.Role]:
			v.fault(g.At, "%s gives role %q, which is not listed", name, g.Role)
		}
		if g.KeptWith != "" && g.KeptWith != WithHolder && g.KeptWith != WithPlace {
			v.fault(g.At, "%s is kept with %q, which is neither holder nor place", name, g.KeptWith)
		}
	}
	if v.e.Semantics.Additive && len(v.e.Denials)+len(v.e.Ceilings)+len(v.e.Guardrails) > 0 {
		v.fault(Position{}, "semantics say that the source is additive, yet denials, ceilings or guardrails are "+
			"listed")
	}
	for _, d := range v.e.Denials {
		name := once(d.At, "denial", d.ID)
		v.refs(d.At, name, d.To)
		v.refs(d.At, name, d.Unless)
		v.places(d.At, name, d.Where)
		v.condition(d.At, name, d.When)
		v.permissions(d.At, name, d.Rights)
	}
	for _, c := range v.e.Ceilings {
		name := once(c.At, "ceiling", c.ID)
		v.ref(c.At, name, c.Of)
		v.places(c.At, name, c.Where)
		v.permissions(c.At, name, c.Rights)
	}
	for _, g := range v.e.Guardrails {
		name := once(g.At, "guardrail", g.ID)
		v.inside(g.At, name, g.Node)
		v.refs(g.At, name, g.Unless)
		v.permissions(g.At, name, g.Rights)
	}
}

func (v *validator) coverage() {
	type log struct {
		node           Path
		service, class string
	}
	seen := map[log]bool{}
	for _, r := range v.e.Coverage {
		l := log{r.Node, r.Service, r.LogClass}
		switch {
		case r.Node.IsZero():
			v.fault(r.At, "coverage names no node")
		case seen[l]:
			v.fault(r.At, "coverage of service %q, log_class %q at %s is listed twice", r.Service, r.LogClass, r.Node)
		}
		v.inside(r.At, "coverage: node", r.Node)
		seen[l] = true
	}
}
