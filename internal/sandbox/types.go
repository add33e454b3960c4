package sandbox

import "time"

// The kinds of document, which are also the names of the collections.
const (
	KindNode       = "nodes"
	KindIdentity   = "identities"
	KindMembership = "memberships"
	KindActAs      = "act-as"
	KindRole       = "roles"
	KindGrant      = "grants"
	KindDenial     = "denials"
	KindCeiling    = "ceilings"
	KindGuardrail  = "guardrails"
	KindLogSetting = "log-settings"
	KindPermission = "catalogue"
)

// Kinds lists every collection in the order in which a survey reads them.
var Kinds = []string{KindPermission, KindNode, KindIdentity, KindMembership, KindActAs, KindRole, KindGrant,
	KindDenial, KindCeiling, KindGuardrail, KindLogSetting}

// Node is a scope or a resource.
type Node struct {
	Path    string            `json:"path"`
	Title   string            `json:"title,omitempty"`
	Labels  map[string]string `json:"labels,omitempty"`
	Created time.Time         `json:"created,omitzero"`
	RunsAs  string            `json:"runs_as,omitempty"` // the identity that code here runs as
}

// Identity is a person, workload, group or outsider.
type Identity struct {
	ID       string            `json:"id"`
	Title    string            `json:"title,omitempty"`
	Created  time.Time         `json:"created,omitzero"`
	Disabled bool              `json:"disabled,omitempty"`
	LastSeen time.Time         `json:"last_seen,omitzero"`
	Labels   map[string]string `json:"labels,omitempty"`
}

// Membership puts an identity into a group.
type Membership struct {
	Member string `json:"member"`
	Group  string `json:"group"`
}

// ActAs lets one identity act as another.
type ActAs struct {
	ID    string     `json:"id"`
	From  string     `json:"from"`
	To    string     `json:"to"`
	How   string     `json:"how,omitempty"`
	When  *Condition `json:"when,omitempty"`
	Until time.Time  `json:"until,omitzero"`
}

// Permission is an entry of the catalogue.
type Permission struct {
	Permission string   `json:"permission"`
	Level      string   `json:"level"`
	Kinds      []string `json:"kinds,omitempty"`
	LogClass   string   `json:"log_class,omitempty"`
	Escalates  string   `json:"escalates,omitempty"`
}

// Role is a named list of permissions.
type Role struct {
	Name     string   `json:"name"`
	Title    string   `json:"title,omitempty"`
	Builtin  bool     `json:"builtin,omitempty"`
	Do       []string `json:"do,omitempty"`
	Except   []string `json:"except,omitempty"`
	Includes []string `json:"includes,omitempty"`
}

// Grant gives a role or permissions to an identity on places.
type Grant struct {
	ID       string     `json:"id"`
	To       string     `json:"to"`
	Role     string     `json:"role,omitempty"`
	Do       []string   `json:"do,omitempty"`
	Except   []string   `json:"except,omitempty"`
	Where    []string   `json:"where"`
	When     *Condition `json:"when,omitempty"`
	Until    time.Time  `json:"until,omitzero"`
	KeptWith string     `json:"kept_with,omitempty"`
	Created  time.Time  `json:"created,omitzero"`
}

// Denial refuses permissions.
type Denial struct {
	ID     string     `json:"id"`
	To     []string   `json:"to"`
	Unless []string   `json:"unless,omitempty"`
	Do     []string   `json:"do,omitempty"`
	Except []string   `json:"except,omitempty"`
	Where  []string   `json:"where"`
	When   *Condition `json:"when,omitempty"`
}

// Ceiling bounds one identity.
type Ceiling struct {
	ID     string   `json:"id"`
	Of     string   `json:"of"`
	Do     []string `json:"do,omitempty"`
	Except []string `json:"except,omitempty"`
	Where  []string `json:"where"`
}

// Guardrail bounds everybody on a node and below.
type Guardrail struct {
	ID     string   `json:"id"`
	Node   string   `json:"node"`
	Do     []string `json:"do,omitempty"`
	Except []string `json:"except,omitempty"`
	Unless []string `json:"unless,omitempty"`
}

// Condition is a conjunction; the zero Condition always holds.
type Condition struct {
	Networks     []string          `json:"networks,omitempty"`
	SecondFactor bool              `json:"second_factor,omitempty"`
	Hours        *Hours            `json:"hours,omitempty"`
	Labels       map[string]string `json:"labels,omitempty"`
	From         time.Time         `json:"from,omitzero"`
	Until        time.Time         `json:"until,omitzero"`
}

// Hours are weekly hours in a zone.
type Hours struct {
	Days []string `json:"days"`
	From string   `json:"from"`
	To   string   `json:"to"`
	Zone string   `json:"zone"`
}

// LogSetting says for one node which services write which classes of log.
type LogSetting struct {
	Node string `json:"node"`
	// Writer must be allowed to write log entries at the node, or nothing is
	// written and nobody is told.
	Writer string      `json:"writer"`
	Keep   int         `json:"keep_days,omitempty"`
	Logs   []LogSwitch `json:"logs"`
}

// LogSwitch is one service and class of a LogSetting.
type LogSwitch struct {
	Service  string    `json:"service"`
	LogClass string    `json:"log_class"`
	Written  bool      `json:"written"`
	Since    time.Time `json:"since,omitzero"`
}

// key returns the name of a document inside its collection.
func key(doc any) string {
	switch d := doc.(type) {
	case *Node:
		return d.Path
	case *Identity:
		return d.ID
	case *Membership:
		return d.Member + ">" + d.Group
	case *ActAs:
		return d.ID
	case *Permission:
		return d.Permission
	case *Role:
		return d.Name
	case *Grant:
		return d.ID
	case *Denial:
		return d.ID
	case *Ceiling:
		return d.ID
	case *Guardrail:
		return d.ID
	case *LogSetting:
		return d.Node
	}
	return ""
}

// blank returns an empty document of a kind, or nil.
func blank(kind string) any {
	switch kind {
	case KindNode:
		return new(Node)
	case KindIdentity:
		return new(Identity)
	case KindMembership:
		return new(Membership)
	case KindActAs:
		return new(ActAs)
	case KindPermission:
		return new(Permission)
	case KindRole:
		return new(Role)
	case KindGrant:
		return new(Grant)
	case KindDenial:
		return new(Denial)
	case KindCeiling:
		return new(Ceiling)
	case KindGuardrail:
		return new(Guardrail)
	case KindLogSetting:
		return new(LogSetting)
	}
	return nil
}
