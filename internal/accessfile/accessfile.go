// Package accessfile writes the access of an estate as a folder of files, and reads it back, so
// that it can be kept in a repository, reviewed as text and held against what stands.
//
// A file a holder (access/KIND/NAME.yaml: its groups, grants, ceilings, and as whom it may act), a
// file a role (roles/NAME.yaml), and one for denials and guardrails each (rules/). [Files] and
// [Read] are inverse: what is written and read is the same access, and two estates have the same
// files just when they have the same access. Of a name, bytes that a file name may not hold
// everywhere are written as %XX (RFC 3986, section 2.1).
package accessfile

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/yamlfile"
)

// Holder is what somebody has.
type Holder struct {
	Holder   model.ID        `json:"holder" doc:"who"`
	In       []model.ID      `json:"in,omitempty" doc:"groups that it is a direct member of"`
	Grants   []model.Grant   `json:"grants,omitempty" doc:"what is given to it by name"`
	ActAs    []model.ActAs   `json:"act_as,omitempty" doc:"as whom it may act"`
	Ceilings []model.Ceiling `json:"ceilings,omitempty" doc:"the most that it can have"`
	At       model.Position  `json:"-"`
}

// Denials is the content of rules/denials.yaml.
type Denials struct {
	Denials []model.Denial `json:"denials" doc:"what is refused"`
}

// Guardrails is the content of rules/guardrails.yaml.
type Guardrails struct {
	Guardrails []model.Guardrail `json:"guardrails" doc:"the most anybody can have on a node"`
}

const (
	accessDir  = "access"
	rolesDir   = "roles"
	denials    = "rules/denials.yaml"
	guardrails = "rules/guardrails.yaml"
	ext        = ".yaml"
)

// escaped makes a name one that every file system takes, and keeps different names different, also
// where case does not count.
func escaped(name string) string {
	var b strings.Builder
	for i := range len(name) {
		c := name[i]
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '-', c == '_', c == '.' && i > 0, c == '@':
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	switch {
	case name == "":
		return "%"
	case b.Len() > longest: // file systems take 255 bytes; no other name has a ~
		sum := sha256.Sum256([]byte(name))
		return b.String()[:longest/2] + "~" + hex.EncodeToString(sum[:16])
	}
	return b.String()
}

// longest is how long a name may become without being cut.
const longest = 160

// Name returns the file of a holder.
func Name(id model.ID) string {
	if id.Open() {
		return path.Join(accessDir, string(id.Kind)+ext)
	}
	return path.Join(accessDir, string(id.Kind), escaped(id.Name)+ext)
}

// RoleName returns the file of a role.
func RoleName(role string) string { return path.Join(rolesDir, escaped(role)+ext) }

// Ours reports whether a file of the folder, named with slashes, is one that this package writes.
func Ours(name string) bool {
	dir, _, _ := strings.Cut(name, "/")
	return strings.HasSuffix(name, ext) && (dir == accessDir || dir == rolesDir || name == denials ||
		name == guardrails)
}

// Files returns the files of an estate's access by their names.
func Files(e *model.Estate) (map[string][]byte, error) {
	holders := map[model.ID]*Holder{}
	of := func(id model.ID) *Holder {
		if holders[id] == nil {
			holders[id] = &Holder{Holder: id}
		}
		return holders[id]
	}
	for _, m := range e.Memberships {
		h := of(m.Member)
		h.In = append(h.In, m.Group)
	}
	for _, g := range e.Grants {
		h := of(g.To)
		h.Grants = append(h.Grants, g)
	}
	for _, a := range e.ActAs {
		h := of(a.From)
		h.ActAs = append(h.ActAs, a)
	}
	for _, c := range e.Ceilings {
		h := of(c.Of)
		h.Ceilings = append(h.Ceilings, c)
	}
	out := map[string][]byte{}
	put := func(name string, v any) error {
		if _, twice := out[name]; twice {
			return fmt.Errorf("%s: two of one name", name)
		}
		text, err := render.YAML(v)
		out[name] = text
		return err
	}
	for id, h := range holders {
		slices.SortFunc(h.In, model.ID.Compare)
		slices.SortFunc(h.Grants, func(a, b model.Grant) int { return cmp.Compare(a.ID, b.ID) })
		slices.SortFunc(h.ActAs, func(a, b model.ActAs) int { return cmp.Compare(a.ID, b.ID) })
		slices.SortFunc(h.Ceilings, func(a, b model.Ceiling) int { return cmp.Compare(a.ID, b.ID) })
		if err := put(Name(id), h); err != nil {
			return nil, err
		}
	}
	for _, r := range e.Roles {
		if err := put(RoleName(r.Name), r); err != nil {
			return nil, err
		}
	}
	if len(e.Denials) > 0 {
		list := slices.Clone(e.Denials)
		slices.SortFunc(list, func(a, b model.Denial) int { return cmp.Compare(a.ID, b.ID) })
		if err := put(denials, Denials{list}); err != nil {
			return nil, err
		}
	}
	if len(e.Guardrails) > 0 {
		list := slices.Clone(e.Guardrails)
		slices.SortFunc(list, func(a, b model.Guardrail) int { return cmp.Compare(a.ID, b.ID) })
		if err := put(guardrails, Guardrails{list}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Read reads files back into the access of an estate of a source: it lists no nodes and no
// identities, and its lists are in the order of their ids. What is wrong in a file is told with
// its place.
func Read(source string, files map[string][]byte) (*model.Estate, error) {
	e := &model.Estate{Source: source}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(files)) {
		var err error
		dir, _, _ := strings.Cut(name, "/")
		switch {
		case name == denials:
			var d Denials
			err = yamlfile.Decode(name, files[name], &d)
			e.Denials = d.Denials
		case name == guardrails:
			var g Guardrails
			err = yamlfile.Decode(name, files[name], &g)
			e.Guardrails = g.Guardrails
		case dir == rolesDir:
			var r model.Role
			if err = yamlfile.Decode(name, files[name], &r); err == nil && RoleName(r.Name) != name {
				err = fmt.Errorf("%s: name: the file of role %q is %s", name, r.Name, RoleName(r.Name))
			}
			e.Roles = append(e.Roles, r)
		case dir == accessDir:
			err = readHolder(e, name, files[name])
		default:
			err = fmt.Errorf("%s: no such file is known here", name)
		}
		errs = append(errs, err)
	}
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	sorted(e)
	return e, nil
}

func readHolder(e *model.Estate, name string, data []byte) error {
	var h Holder
	if err := yamlfile.Decode(name, data, &h); err != nil {
		return err
	}
	if h.Holder.IsZero() || Name(h.Holder) != name {
		return fmt.Errorf("%s: holder: the file of %q is %s", name, h.Holder, Name(h.Holder))
	}
	var errs []error
	other := func(at model.Position, what string, id string, who model.ID) {
		if who != h.Holder {
			errs = append(errs, &model.Fault{At: at, What: fmt.Sprintf("%s %q is %s's, and this is the file of %s",
				what, id,
				who, h.Holder)})
		}
	}
	for _, g := range h.In {
		e.Memberships = append(e.Memberships, model.Membership{Member: h.Holder, Group: g})
	}
	for _, g := range h.Grants {
		other(g.At, "grant", g.ID, g.To)
	}
	for _, a := range h.ActAs {
		other(a.At, "act_as", a.ID, a.From)
	}
	for _, c := range h.Ceilings {
		other(c.At, "ceiling", c.ID, c.Of)
	}
	e.Grants = append(e.Grants, h.Grants...)
	e.ActAs = append(e.ActAs, h.ActAs...)
	e.Ceilings = append(e.Ceilings, h.Ceilings...)
	return errors.Join(errs...)
}

// sorted puts the lists of an estate's access into the order of their ids.
func sorted(e *model.Estate) {
	slices.SortFunc(e.Memberships, func(a, b model.Membership) int {
		return cmp.Or(a.Member.Compare(b.Member), a.Group.Compare(b.Group))
	})
	slices.SortFunc(e.Roles, func(a, b model.Role) int { return cmp.Compare(a.Name, b.Name) })
	slices.SortFunc(e.Grants, func(a, b model.Grant) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(e.ActAs, func(a, b model.ActAs) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(e.Ceilings, func(a, b model.Ceiling) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(e.Denials, func(a, b model.Denial) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(e.Guardrails, func(a, b model.Guardrail) int { return cmp.Compare(a.ID, b.ID) })
}

// A Difference is one record that two estates do not have alike.
type Difference struct {
	Kind string // membership, role, grant, act_as, denial, ceiling or guardrail
	ID   string
	Here json.RawMessage // nil: not there
	Then json.RawMessage
}

// Differences lists what one estate's access has otherwise than another's, by kind and id.
func Differences(here, then *model.Estate) ([]Difference, error) {
	type key struct{ kind, id string }
	records := func(e *model.Estate) (map[key]json.RawMessage, error) {
		out := map[key]json.RawMessage{}
		var errs []error
		add := func(kind, id string, v any) {
			b, err := json.Marshal(v)
			out[key{kind, id}] = b
			errs = append(errs, err)
		}
		for _, r := range e.Memberships {
			add("membership", r.Member.String()+">"+r.Group.String(), r)
		}
		for _, r := range e.Roles {
			add("role", r.Name, r)
		}
		for _, r := range e.Grants {
			add("grant", r.ID, r)
		}
		for _, r := range e.ActAs {
			add("act_as", r.ID, r)
		}
		for _, r := range e.Denials {
			add("denial", r.ID, r)
		}
		for _, r := range e.Ceilings {
			add("ceiling", r.ID, r)
		}
		for _, r := range e.Guardrails {
			add("guardrail", r.ID, r)
		}
		return out, errors.Join(errs...)
	}
	a, err := records(here)
	if err != nil {
		return nil, err
	}
	b, err := records(then)
	if err != nil {
		return nil, err
	}
	keys := maps.Clone(a)
	maps.Copy(keys, b)
	var out []Difference
	for k := range keys {
		if string(a[k]) != string(b[k]) {
			out = append(out, Difference{k.kind, k.id, a[k], b[k]})
		}
	}
	slices.SortFunc(out, func(x, y Difference) int {
		return cmp.Or(cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.ID,
			y.ID))
	})
	return out, nil
}
