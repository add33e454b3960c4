// Package source says what Clip Fence asks of a connected system, and what it
// may do to one.
//
// A [Reader] lists what its system says about access, in the words of the model,
// and streams its log as calls. A [Changer] is another type with credentials of
// its own; it knows one verb, [Changer.Do]: replace a document that is still as
// it was read. A change and its undoing are both lists of such [Step]s.
//
// How a wish in the words of the model is said in the source's own documents is the
// connector's business: its [Planner] turns a [Diff] into steps, and says what the source
// cannot say before anything is drafted. One document may say many records, one record may
// need several documents; a planner names the documents that it has to see first.
// [Planned] reads them and plans again until none is missing. Package documents is the
// planner of sources in which each record is a document of its own.
package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"reflect"
	"strings"
	"time"

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
	// ErrLog: a part of a log could not be read; what could is kept.
	ErrLog = errors.New("not all of its log could be read; what could is kept, and the evidence ends where it ended")
	// ErrCannot: the source has no words for what is wanted.
	ErrCannot = errors.New("source cannot say it")
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

// A Ref names one document of a source.
type Ref struct{ Kind, ID string }

// A Diff is a wish in the words of the model: records to stand as they are here, and others
// to be gone. What is put is to stand before anything goes.
type Diff struct {
	Put  []Record
	Drop []Ref // by the kind and id of the record
}

// A Plan is how a source would fulfil a wish.
type Plan struct {
	Steps   []Step
	Missing []Ref    // documents that must be read first; Steps is of no use then
	Cannot  []string // what the source cannot say; nothing is to be done then
}

// A Planner says wishes in a source's own documents. It is pure: it reads nothing and writes
// nothing, and of the same documents it makes the same plan.
type Planner interface {
	// Says returns why the source cannot say a grant as it is, a sentence each; none: it can.
	Says(g *model.Grant) []string
	// Plan turns a wish into steps, given the documents that were read so far. A document
	// that was read and is not there has no body.
	Plan(now map[Ref]Document, want Diff) (Plan, error)
}

// Planned reads what a planner has to see, and plans. It returns [ErrCannot] where the source
// cannot say the wish.
func Planned(ctx context.Context, c Changer, want Diff) ([]Step, error) {
	now := map[Ref]Document{}
	for {
		p, err := c.Planner().Plan(now, want)
		if err != nil {
			return nil, err
		}
		if len(p.Cannot) > 0 {
			return nil, fmt.Errorf("%w: %s", ErrCannot, strings.Join(p.Cannot, "; "))
		}
		if len(p.Missing) == 0 {
			return p.Steps, nil
		}
		for _, r := range p.Missing {
			if _, again := now[r]; again {
				return nil, fmt.Errorf("%s %q: planned to be read twice", r.Kind, r.ID)
			}
			d, err := c.Get(ctx, r.Kind, r.ID)
			if err != nil && !errors.Is(err, ErrGone) {
				return nil, err
			}
			now[r] = d
		}
	}
}

// Same reports whether two documents say the same; nil equals only nil.
func Same(a, b json.RawMessage) bool {
	if len(a) == 0 || len(b) == 0 {
		return len(a) == len(b)
	}
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}

// Until asks again and again, after longer and longer pauses, until the answer is yes, an
// error, or that long has passed; it reports whether the answer was yes.
func Until(ctx context.Context, wait time.Duration, ask func(context.Context) (bool, error)) (bool, error) {
	within, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		switch yes, err := ask(within); {
		case err != nil && within.Err() == nil:
			return false, err
		case err == nil && yes:
			return true, nil
		}
		select {
		case <-within.Done():
			return false, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// A Step replaces one document of a source: Before must still stand, After is
// what shall stand then. A nil document is none. Undoing swaps the two.
type Step struct {
	Kind   string          `json:"kind"`
	ID     string          `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
	// Sentence says the step for whoever would do it by hand; earlier programs wrote none.
	Sentence string `json:"sentence,omitempty"`
}

// Undo returns the step that takes s back.
func (s Step) Undo() Step {
	return Step{Kind: s.Kind, ID: s.ID, Before: s.After, After: s.Before}
}

// A Document is a source's own words about one thing.
type Document struct {
	ETag string
	Body json.RawMessage
}

// A Peer is who a source says it is.
type Peer struct {
	ID   string    // its own identity, whatever the configuration calls it
	Time time.Time // by its own clock; zero where it tells none
}

// A Changer changes one source. Its methods may be called by several goroutines at once.
// Each document is replaced whole or not at all; several documents are several steps, and
// what was done of them stays done when a later one fails. Doing a step again is harmless.
type Changer interface {
	// Planner returns how this source says things.
	Planner() Planner
	// Check tries the tool's own rights for changing.
	Check(ctx context.Context) ([]Right, error)
	// Self returns the identity with which changes are made.
	Self(ctx context.Context) (model.ID, error)
	// Peer returns what tells this source from every other, and its clock.
	Peer(ctx context.Context) (Peer, error)
	// Get reads a document; [ErrGone] when there is none.
	Get(ctx context.Context, kind, id string) (Document, error)
	// Do carries a step out, with the precondition that Before still stands, or
	// returns [ErrConflict]. A step whose After stands already is done.
	Do(ctx context.Context, s Step) error
}
