// Package source says what Clip Fence asks of a connected system, and what it
// may do to one.
//
// A [Reader] lists what its system says about access, in the words of the model,
// and streams its log as calls. A [Changer] is another type with credentials of
// its own; it knows one verb, [Changer.Do]: replace a document that is still as
// it was read. A change and its undoing are both lists of such [Step]s.
package source

import (
	"context"
	"encoding/json"
	"errors"
	"iter"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
)

// Errors that callers decide on.
var (
	// ErrUnreachable: the system did not answer, also after trying again.
	ErrUnreachable = errors.New("source did not answer")
	// ErrDenied: the system refused the tool's own identity.
	ErrDenied = errors.New("source refused")
	// ErrConflict: a document is no longer as it was read.
	ErrConflict = errors.New("source was changed meanwhile")
	// ErrGone: a document is not there.
	ErrGone = errors.New("no such document")
	// ErrReadOnly: the source cannot be changed through this tool.
	ErrReadOnly = errors.New("source is read-only")
)

// The kinds of record a survey yields; each has one type of the model as value.
const (
	Permissions = "catalogue"   // model.CatalogueEntry
	Nodes       = "nodes"       // model.Node
	Identities  = "identities"  // model.Identity
	Memberships = "memberships" // model.Membership
	ActAs       = "act-as"      // model.ActAs
	Roles       = "roles"       // model.Role
	Grants      = "grants"      // model.Grant
	Denials     = "denials"     // model.Denial
	Ceilings    = "ceilings"    // model.Ceiling
	Guardrails  = "guardrails"  // model.Guardrail
	Coverage    = "coverage"    // model.CoverageRecord
	Semantics   = "semantics"   // model.Semantics

	LogSettings = "log-settings" // of a changer's documents only: what Coverage is read from
)

// A Record is one thing that a source says.
type Record struct {
	Kind  string
	ID    string // unique within its kind
	ETag  string // version, for the precondition of a change; may be empty
	Value any
}

// A Batch is a part of a survey that is kept or lost as a whole.
type Batch struct {
	Records []Record
	Cursor  string // from here a survey that was interrupted goes on
	Version string // of the estate; a survey whose batches disagree is torn
}

// A Reject is a record of a log that was set aside.
type Reject = auditlog.Reject

// A Right is one thing the tool's own identity needs, and whether it has it.
type Right struct {
	For        string `json:"for"` // "reading" or "changing"
	What       string `json:"what"`
	Permission string `json:"permission"`
	Where      string `json:"where"`
	OK         bool   `json:"ok"`
	Why        string `json:"why"`
	Mend       string `json:"mend,omitempty"` // the smallest grant that mends a lack
}

// A Reader reads one source.
type Reader interface {
	// Check tries the tool's own rights for reading.
	Check(ctx context.Context) ([]Right, error)
	// Survey yields everything the source says about access, from a cursor on;
	// "" is the beginning. After an error nothing more comes.
	Survey(ctx context.Context, cursor string) iter.Seq2[Batch, error]
	// Logs yields the log from a cursor on, in pieces that follow each other.
	Logs(ctx context.Context, cursor string) iter.Seq2[fold.Part, error]
}

// A Step replaces one document of a source: Before must still stand, After is
// what shall stand then. A nil document is none. Undoing swaps the two.
type Step struct {
	Kind   string          `json:"kind"`
	ID     string          `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// Undo returns the step that takes s back.
func (s Step) Undo() Step { return Step{s.Kind, s.ID, s.After, s.Before} }

// A Document is a source's own words about one thing.
type Document struct {
	ETag string
	Body json.RawMessage
}

// A Changer changes one source.
type Changer interface {
	// Check tries the tool's own rights for changing.
	Check(ctx context.Context) ([]Right, error)
	// Self returns the identity with which changes are made.
	Self(ctx context.Context) (model.ID, error)
	// Get reads a document; [ErrGone] when there is none.
	Get(ctx context.Context, kind, id string) (Document, error)
	// Do carries a step out, with the precondition that Before still stands, or
	// returns [ErrConflict]. A step whose After stands already is done.
	Do(ctx context.Context, s Step) error
}
