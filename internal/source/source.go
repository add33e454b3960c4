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
	"maps"
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
	Body  json.RawMessage // of one that is put back: the Value as it was read
}

// JSON returns what a record says.
func (r *Record) JSON() (json.RawMessage, error) {
	if r.Body != nil {
		return r.Body, nil
	}
	b, err := json.Marshal(r.Value)
	if err != nil {
		return nil, fmt.Errorf("%s %q: %w", r.Kind, r.ID, err)
	}
	return b, nil
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
	Optional   bool   `json:"optional,omitempty" doc:"only denials take it (draft --denials)"`
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

// LogID names the record of one log in a change: its node, service and class.
func LogID(r *model.CoverageRecord) string {
	return fmt.Sprintf("%s %s/%s", r.Node, r.Service, r.LogClass)
}

// A Ref names one document of a source, or one record.
type Ref struct{ Kind, ID string }

// A Diff is a wish in the words of the model: records to stand as they are here, and others
// to be gone. What is put is to stand before anything goes.
type Diff struct {
	Put  []Record
	Drop []Ref // records
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
	// that was read and is not there has no body; [ErrGone] for a record that is to go and is
	// not there.
	Plan(now map[Ref]Document, want Diff) (Plan, error)
	// Record returns what documents say of a record, as JSON in the words of the model; nil: it
	// is not there. Missing are documents that must be read first; body is of no use then.
	Record(now map[Ref]Document, r Ref) (body json.RawMessage, missing []Ref, err error)
	// Stands reports whether a document, nil where there is none, is as a step leaves it,
	// whatever the source itself adds to what is written, such as a version.
	Stands(s Step, now json.RawMessage) bool
}

// An Edited is what becomes of one record, as JSON in the words of the model; nil: it is not there.
type Edited struct {
	Kind   string          `json:"kind"`
	ID     string          `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// reading keeps the documents that were read for one plan.
type reading struct {
	c   Changer
	now map[Ref]Document
}

// read reads documents that are missing.
func (r *reading) read(ctx context.Context, missing []Ref) error {
	for _, ref := range missing {
		if _, again := r.now[ref]; again {
			return fmt.Errorf("%s %q: planned to be read twice", ref.Kind, ref.ID)
		}
		d, err := r.c.Get(ctx, ref.Kind, ref.ID)
		if err != nil && !errors.Is(err, ErrGone) {
			return err
		}
		r.now[ref] = d
	}
	return nil
}

// record returns what the source says of a record.
func (r *reading) record(ctx context.Context, ref Ref) (json.RawMessage, error) {
	for {
		body, missing, err := r.c.Planner().Record(r.now, ref)
		if err != nil || len(missing) == 0 {
			return body, err
		}
		if err := r.read(ctx, missing); err != nil {
			return nil, err
		}
	}
}

// RecordOf reads what a source says of a record now, as JSON in the words of the model; nil: it
// is not there.
func RecordOf(ctx context.Context, c Changer, kind, id string) (json.RawMessage, error) {
	r := &reading{c, map[Ref]Document{}}
	return r.record(ctx, Ref{kind, id})
}

// Planned reads what a planner has to see, and plans; it also tells what becomes of each record.
// It returns [ErrCannot] where the source cannot say the wish.
func Planned(ctx context.Context, c Changer, want Diff) ([]Step, []Edited, error) {
	r := &reading{c, map[Ref]Document{}}
	var steps []Step
	for {
		p, err := c.Planner().Plan(r.now, want)
		if err != nil {
			return nil, nil, err
		}
		if len(p.Cannot) > 0 {
			return nil, nil, fmt.Errorf("%w: %s", ErrCannot, strings.Join(p.Cannot, "; "))
		}
		if len(p.Missing) == 0 {
			steps = p.Steps
			break
		}
		if err := r.read(ctx, p.Missing); err != nil {
			return nil, nil, err
		}
	}
	// What the source says of a record may be less than the wish, such as a role without a title.
	then := &reading{c, maps.Clone(r.now)}
	for _, s := range steps {
		then.now[Ref{s.Kind, s.ID}] = Document{Body: s.After}
	}
	var refs []Ref
	for _, rec := range want.Put {
		refs = append(refs, Ref{rec.Kind, rec.ID})
	}
	var edits []Edited
	for _, ref := range append(refs, want.Drop...) {
		e := Edited{Kind: ref.Kind, ID: ref.ID}
		var err error
		if e.Before, err = r.record(ctx, ref); err == nil {
			e.After, err = then.record(ctx, ref)
		}
		if err != nil {
			return nil, nil, err
		}
		edits = append(edits, e)
	}
	return steps, edits, nil
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

// AtOnce is a changer of a source that can do several steps in one: whoever reads it sees all of them, or none. Nobody
// reads what is between, and a step that is in conflict keeps all from being done.
type AtOnce interface {
	Changer
	// DoAll carries steps out as Do does each. No two are about the same document.
	DoAll(ctx context.Context, steps []Step) error
}
