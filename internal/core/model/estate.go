package model

import (
	"fmt"
	"time"
)

// A Level ranks what a permission lets its holder do.
type Level int

// The levels, from harmless to most dangerous. HandOut is the right to give
// rights.
const (
	LevelUnset Level = iota
	See
	Read
	Change
	Administer
	HandOut
)

var levelNames = []string{"", "see", "read", "change", "administer", "hand-out"}

// String returns the level's word.
func (l Level) String() string { return levelNames[l] }

// MarshalText writes the level's word.
func (l Level) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads a level's word.
func (l *Level) UnmarshalText(b []byte) error {
	for i, n := range levelNames {
		if n == string(b) && i > 0 {
			*l = Level(i)
			return nil
		}
	}
	return fmt.Errorf("level %q is none of see, read, change, administer, hand-out", b)
}

// Escalations: what a permission lets its holder give itself.
const (
	EditGrants     = "edit-grants"
	EditRole       = "edit-role"
	JoinGroup      = "join-group"
	MintCredential = "mint-credential"
	RunAs          = "run-as"
	LiftCeiling    = "lift-ceiling"
	LiftGuardrail  = "lift-guardrail"
	LiftDenial     = "lift-denial"
)

// Escalations lists the legal values of [CatalogueEntry].Escalates.
var Escalations = []string{EditGrants, EditRole, JoinGroup, MintCredential, RunAs, LiftCeiling, LiftGuardrail,
	LiftDenial}

// A CatalogueEntry is what is known about one permission of a source.
type CatalogueEntry struct {
	Permission Permission `json:"permission" doc:"service/noun:verb"`
	Level      Level      `json:"level" was:"list=see write=change" doc:"see, read, change, administer or hand-out"`
	Kinds      []string   `json:"kinds,omitempty" doc:"kinds of node it applies to; none: all"`
	LogClass   string     `json:"log_class,omitempty" doc:"class of log that shows its use; none: it is never logged"`
	Escalates  string     `json:"escalates,omitempty" doc:"what its holder can give itself, if anything"`
	At         Position   `json:"-"`
}

// Weighs returns the level that a permission counts as: what lets its holder give
// itself more counts as handing out rights.
func (c CatalogueEntry) Weighs() Level {
	if c.Escalates != "" {
		return HandOut
	}
	return c.Level
}

// A Catalogue lists every permission of a source.
type Catalogue []CatalogueEntry

// A Node is a scope or a resource of the inventory.
type Node struct {
	Path    Path              `json:"path" doc:"/source/kind:name/..."`
	Title   string            `json:"title,omitempty" doc:"a name for people to read"`
	Labels  map[string]string `json:"labels,omitempty" doc:"free labels, which conditions may ask for"`
	Created time.Time         `json:"created,omitzero" doc:"when it came into being"`
	RunsAs  ID                `json:"runs_as,omitzero" doc:"the identity that code here runs as, if any"`
	At      Position          `json:"-"`
}

// A Role is a named set of permissions.
type Role struct {
	Name     string `json:"name" doc:"the role's name in its source"`
	Title    string `json:"title,omitempty" doc:"a name for people to read"`
	Builtin  bool   `json:"builtin,omitempty" doc:"true when the source made it and nobody can change it"`
	Rights   `yaml:",inline"`
	Includes []string `json:"includes,omitempty" doc:"other roles whose permissions it has too"`
	At       Position `json:"-"`
}

// What a grant can be kept with: its holder, or the place that it is for.
const (
	WithHolder = "holder"
	WithPlace  = "place"
)

// A Grant gives an identity a role or a list of permissions on some places.
type Grant struct {
	ID       string `json:"id" doc:"the grant's own name in its source"`
	To       ID     `json:"to" doc:"who receives it"`
	Role     string `json:"role,omitempty" doc:"a role's name; this or do, not both"`
	Rights   `yaml:",inline"`
	Where    []PathPattern `json:"where" was:"on" doc:"path patterns; /x/** is x and everything below it"`
	When     Condition     `json:"when,omitzero" doc:"holds only under this condition"`
	Until    time.Time     `json:"until,omitzero" doc:"ends at this time; none: standing"`
	KeptWith string        `json:"kept_with,omitempty" was:"side identity=holder resource=place" doc:"holder (default) or place: with which of the two the source keeps it"`
	Created  time.Time     `json:"created,omitzero" doc:"when it was made"`
	At       Position      `json:"-"`
}

// Condition returns When with Until folded in.
func (g Grant) Condition() Condition { return g.When.WithUntil(g.Until) }

// Covers reports whether the grant's places hold p.
func (g Grant) Covers(p Path) bool {
	for _, on := range g.Where {
		if on.Matches(p) {
			return true
		}
	}
	return false
}

// A Denial refuses permissions on some places to identities, except some.
type Denial struct {
	ID     string `json:"id" doc:"the denial's own name in its source"`
	To     []ID   `json:"to" doc:"whom it refuses"`
	Unless []ID   `json:"unless,omitempty" doc:"identities that it spares"`
	Rights `yaml:",inline"`
	Where  []PathPattern `json:"where" was:"on" doc:"path patterns"`
	When   Condition     `json:"when,omitzero" doc:"refuses only under this condition"`
	At     Position      `json:"-"`
}

// A Ceiling is the most an identity can have, whatever it is granted.
type Ceiling struct {
	ID     string `json:"id" doc:"the ceiling's own name in its source"`
	Of     ID     `json:"of" doc:"whose ceiling it is"`
	Rights `yaml:",inline"`
	Where  []PathPattern `json:"where" was:"on" doc:"path patterns"`
	At     Position      `json:"-"`
}

// A Guardrail is the most anybody can have on a node and below, except some.
type Guardrail struct {
	ID     string `json:"id" doc:"the guardrail's own name in its source"`
	Node   Path   `json:"node" doc:"the node that it protects, with everything below"`
	Rights `yaml:",inline"`
	Unless []ID     `json:"unless,omitempty" doc:"identities that it spares"`
	At     Position `json:"-"`
}

// Semantics states as data how a source's rules differ from the common list.
type Semantics struct {
	Bypass   []ID `json:"bypass,omitempty" doc:"identities (or groups) that every check lets through"`
	Additive bool `json:"additive,omitempty" doc:"true: the source knows no denials, ceilings and guardrails"`
	LastSeen bool `json:"last_seen,omitempty" doc:"true: the source remembers when an identity last authenticated; none given then means never"`
	// Complete names the kinds of node of which every one is listed: a call on another
	// one cannot be placed.
	Complete []string `json:"complete,omitempty" doc:"kinds of node of which every one is listed; none: a kind counts as complete below each node that has some of it"`
}

// An Estate is everything one source says about access at one moment. Identities
// inside it are written without their source.
type Estate struct {
	Source      string           `json:"source" doc:"the source's name, first segment of every path"`
	Semantics   Semantics        `json:"semantics,omitzero" doc:"how the source's rules differ from the common list"`
	Catalogue   Catalogue        `json:"catalogue" doc:"what is known about each permission"`
	Nodes       []Node           `json:"nodes" doc:"scopes and resources"`
	Identities  []Identity       `json:"identities" doc:"people, workloads, groups, outsiders"`
	Memberships []Membership     `json:"memberships,omitempty" doc:"who is in which group"`
	ActAs       []ActAs          `json:"act_as,omitempty" doc:"who may act as whom"`
	Roles       []Role           `json:"roles,omitempty" doc:"named sets of rights"`
	Grants      []Grant          `json:"grants,omitempty" doc:"what is given"`
	Denials     []Denial         `json:"denials,omitempty" doc:"what is refused"`
	Ceilings    []Ceiling        `json:"ceilings,omitempty" doc:"the most an identity can have"`
	Guardrails  []Guardrail      `json:"guardrails,omitempty" doc:"the most anybody can have on a node"`
	Coverage    []CoverageRecord `json:"coverage,omitempty" doc:"which logs were kept, where and since when"`
}

// A CoverageRecord says for one node, service and log class whether uses are
// written to a log, since when, and for how long they are kept.
type CoverageRecord struct {
	Node     Path      `json:"node" doc:"the node whose logs these are, with everything below"`
	Service  string    `json:"service,omitempty" doc:"the service, first part of its permissions; an estate file may leave it out: all of them"`
	LogClass string    `json:"log_class,omitempty" doc:"the class, as in the catalogue; an estate file may leave it out: all of them"`
	Written  bool      `json:"written" was:"on" doc:"whether uses are written now"`
	Since    time.Time `json:"since,omitzero" doc:"since when without a break; none: since before the logs begin"`
	Keep     int       `json:"keep_days,omitempty" doc:"retention in days; 0: for ever"`
	Hides    string    `json:"hides,omitempty" doc:"what keeps requests out of the log though it is on, such as sampling or a level; none: it holds them all"`

	// Who writes the log, and the permission that takes at the node; where the
	// writer lacks it nothing arrives, and nobody is told.
	Writer      ID         `json:"writer,omitzero" doc:"the identity that writes the log"`
	WriterNeeds Permission `json:"writer_needs,omitzero" doc:"the permission that writing takes at the node"`

	At Position `json:"-"`
}
