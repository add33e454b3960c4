package model

import (
	"cmp"
	"fmt"
	"strings"
	"time"
)

// An IdentityKind says what sort of holder an identity is.
type IdentityKind string

// The kinds of identity. Everyone and SignedIn are open: they have no name and
// stand for anybody without, and anybody with, an account anywhere. Unknown is
// for a caller in a log that no survey knows; no estate lists one.
const (
	Person   IdentityKind = "person"
	Workload IdentityKind = "workload"
	Group    IdentityKind = "group"
	External IdentityKind = "external"
	Everyone IdentityKind = "everyone"
	SignedIn IdentityKind = "signed-in"
	Unknown  IdentityKind = "unknown"
)

// An ID names an identity: kind/name, or source:kind/name where several sources
// meet. It is comparable. The zero ID is invalid.
type ID struct {
	Source string // empty: the source at hand
	Kind   IdentityKind
	Name   string // decoded; empty for the open kinds
}

// ParseID reads an identity's name.
func ParseID(s string) (ID, error) {
	fail := func(why string) (ID, error) { return ID{}, fmt.Errorf("identity %s: %s", short(s), why) }
	if len(s) > maxName {
		return fail("is too long")
	}
	head, name, named := strings.Cut(s, "/")
	var id ID
	if src, kind, ok := strings.Cut(head, ":"); ok {
		d, err := decode(src, false)
		if err != nil || d == "" {
			return fail("has a broken source before ':'")
		}
		id.Source, head = d, kind
	}
	id.Kind = IdentityKind(head)
	switch id.Kind {
	case Everyone, SignedIn:
		if named {
			return fail("is open and takes no name")
		}
		return id, nil
	case Person, Workload, Group, External, Unknown:
		if name == "" {
			return fail("has no name after the kind (want " + head + "/name)")
		}
	default:
		return fail("its kind is none of person, workload, group, external, everyone, signed-in")
	}
	d, err := decode(name, false)
	if err != nil {
		return fail(err.Error())
	}
	id.Name = d
	return id, nil
}

// MustID is ParseID for constants; it panics on an error.
func MustID(s string) ID {
	id, err := ParseID(s)
	if err != nil {
		panic(err)
	}
	return id
}

// String returns the canonical form, which ParseID reads back.
func (id ID) String() string {
	var b strings.Builder
	if id.Source != "" {
		encode(&b, id.Source, "")
		b.WriteByte(':')
	}
	b.WriteString(string(id.Kind))
	if id.Name != "" {
		b.WriteByte('/')
		encode(&b, id.Name, "")
	}
	return b.String()
}

// IsZero reports whether id is the invalid zero value.
func (id ID) IsZero() bool { return id.Kind == "" }

// Open reports whether id stands for an open crowd: everyone or signed-in.
func (id ID) Open() bool { return id.Kind == Everyone || id.Kind == SignedIn }

// In returns id without its source when that is src.
func (id ID) In(src string) ID {
	if id.Source == src {
		id.Source = ""
	}
	return id
}

// Compare orders identities by source, kind, name.
func (id ID) Compare(o ID) int {
	return cmp.Or(cmp.Compare(id.Source, o.Source), cmp.Compare(id.Kind, o.Kind), cmp.Compare(id.Name, o.Name))
}

// MarshalText writes the canonical form; the zero ID is the empty text.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText reads what ParseID does.
func (id *ID) UnmarshalText(b []byte) (err error) { *id, err = ParseID(string(b)); return err }

// An Identity is a holder of access and what its source says about it.
type Identity struct {
	ID       ID                `json:"id" doc:"kind/name; kinds are person, workload, group, external"`
	Title    string            `json:"title,omitempty" doc:"a name for people to read"`
	Created  time.Time         `json:"created,omitzero" doc:"when it came into being"`
	Disabled bool              `json:"disabled,omitempty" doc:"true when it can no longer authenticate"`
	LastSeen time.Time         `json:"last_seen,omitzero" doc:"last authentication, where the source itself remembers one"`
	Labels   map[string]string `json:"labels,omitempty" doc:"free labels; purpose: break-glass protects the identity"`
	Aliases  []string          `json:"aliases,omitempty" doc:"other names it has in logs: a user id, an e-mail address, kind/name"`
	// ByLog says that the source does not list it, or, of a group, nobody in it, and that this is
	// known of the log alone.
	ByLog bool     `json:"by_log,omitempty" doc:"the source does not list it, or of a group nobody in it: the log shows it"`
	At    Position `json:"-"`
}

// BreakGlass reports whether the source labels the identity as kept for emergencies.
func (i Identity) BreakGlass() bool { return i.Labels["purpose"] == "break-glass" }

// A Membership puts an identity into a group. Groups nest; cycles are legal.
type Membership struct {
	Member ID       `json:"member" doc:"the identity that belongs"`
	Group  ID       `json:"group" doc:"the group it belongs to"`
	At     Position `json:"-"`
}

// An ActAs lets one identity take on another: impersonate it, assume it, mint a
// token for it, run code as it.
type ActAs struct {
	ID    string    `json:"id" doc:"the edge's own name in its source"`
	From  ID        `json:"from" doc:"who may act"`
	To    ID        `json:"to" doc:"as whom"`
	How   string    `json:"how,omitempty" doc:"the step in the source's words, such as run-as or mint-token"`
	When  Condition `json:"when,omitzero" doc:"holds only under this condition"`
	Until time.Time `json:"until,omitzero" doc:"ends at this time"`
	At    Position  `json:"-"`
}

// Condition returns When with Until folded in.
func (a ActAs) Condition() Condition { return a.When.WithUntil(a.Until) }

// A Link says that two identities, usually of two sources, are the same person
// or the same workload.
type Link struct {
	A  ID       `json:"a" doc:"one identity, source:kind/name"`
	B  ID       `json:"b" doc:"the other"`
	At Position `json:"-"`
}

// A Position points at the place in a file that a value came from. The zero
// Position means that it came from elsewhere.
type Position struct {
	File   string
	Line   int // from 1
	Column int // from 1, in characters
}

// A Remark is something to mend in a file that could be read all the same.
type Remark struct {
	At   Position
	Text string
}

// String returns "file:line:column: text".
func (r Remark) String() string { return r.At.String() + ": " + r.Text }

// String returns file:line:column, or the empty string.
func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}
