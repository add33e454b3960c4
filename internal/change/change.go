package change

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
)

// Errors that callers decide on.
var (
	// ErrGuard: a guard refuses the change.
	ErrGuard = errors.New("refused by a guard")
	// ErrUnconfirmed: a step was done and did not become visible in time.
	ErrUnconfirmed = errors.New("change is not visible yet")
	// ErrUnknown: the ledger knows no such change.
	ErrUnknown = errors.New("no such change")
)

// A Change is a list of steps and why they are taken.
type Change struct {
	ID     string   `json:"id"`
	Source string   `json:"source"`
	For    model.ID `json:"for,omitzero"`
	Fence  string   `json:"fence,omitempty"` // file it came from
	Undoes string   `json:"undoes,omitempty"`
	Reason string   `json:"reason,omitempty"`
	// Unplaced counts calls that are not placed and may be of what goes: whoever carried
	// the change out took the risk.
	Unplaced int64         `json:"accepted_unplaced_calls,omitempty"`
	Steps    []source.Step `json:"steps"`

	// Format is that of the documents in Steps; entries of before name none.
	Format int `json:"format,omitempty"`
}

// upgrade brings the documents of a change that was recorded by an earlier program to
// the words of now.
func (c *Change) upgrade() error {
	switch {
	case c.Format == source.FormatVersion:
		return nil
	case c.Format != 0:
		return fmt.Errorf("change %s is of format %d; this program knows %d", c.ID, c.Format, source.FormatVersion)
	}
	for i := range c.Steps {
		s := &c.Steps[i]
		for _, d := range []*json.RawMessage{&s.Before, &s.After} {
			var err error
			if *d, err = source.FromV1(s.Kind, *d); err != nil {
				return fmt.Errorf("change %s, step %d: %w", c.ID, i+1, err)
			}
		}
	}
	c.Format = source.FormatVersion
	return nil
}

// Plan turns a fence into steps. It reads the documents that go, so that the
// steps say exactly what will be replaced and an undo can put back exactly that.
func Plan(ctx context.Context, c source.Changer, g *engine.Engine, f *draft.Fence, now time.Time) ([]source.Step, error) {
	who := f.For.In(g.Estate.Source)
	h := sha256.Sum256([]byte(who.String() + f.Drafted.UTC().Format(time.RFC3339Nano) + strings.Join(f.Replaces, ",")))
	tag := "fence-" + slug(who.String()) + "-" + hex.EncodeToString(h[:3])
	var add, remove []source.Step
	for i, a := range f.Allow {
		name := fmt.Sprintf("%s-%d", tag, i+1)
		role := a.Role
		if role == "" {
			role = name
			s, err := replace(ctx, c, source.Roles, name, model.Role{Name: name, Title: "Clip Fence: access of " + who.String(), Rights: model.Rights{Do: a.Do}})
			if err != nil {
				return nil, err
			}
			add = append(add, s)
		}
		s, err := replace(ctx, c, source.Grants, name, model.Grant{ID: name, To: who, Role: role, Where: a.Where, When: a.When, Until: a.Until, KeptWith: model.WithHolder, Created: now.UTC().Truncate(time.Second)})
		if err != nil {
			return nil, err
		}
		add = append(add, s)
	}
	for _, id := range f.Replaces {
		s, err := replace(ctx, c, source.Grants, id, nil)
		if err != nil {
			return nil, err
		}
		if err := asSurveyed(g, id, s.Before); err != nil {
			return nil, err
		}
		remove = append(remove, s)
	}
	for _, grp := range f.Leaves {
		s, err := replace(ctx, c, source.Memberships, who.String()+">"+grp.String(), nil)
		if err != nil {
			return nil, err
		}
		remove = append(remove, s)
	}
	return append(add, remove...), nil
}

// replace reads a document as it stands and returns the step that puts another in its
// place; nil removes it.
func replace(ctx context.Context, c source.Changer, kind, id string, after any) (source.Step, error) {
	s := source.Step{Kind: kind, ID: id}
	d, err := c.Get(ctx, kind, id)
	if err != nil && !errors.Is(err, source.ErrGone) {
		return s, err
	}
	s.Before = d.Body
	if after != nil {
		s.After, err = json.Marshal(after)
		return s, err
	}
	if err != nil {
		return s, fmt.Errorf("%s %q: %w; survey again and draft anew", kind, id, source.ErrGone)
	}
	return s, nil
}

// asSurveyed refuses a grant that changed since the survey the fence rests on.
func asSurveyed(g *engine.Engine, id string, body json.RawMessage) error {
	i := slices.IndexFunc(g.Estate.Grants, func(x model.Grant) bool { return x.ID == id })
	if i < 0 {
		return fmt.Errorf("grant %q: %w", id, source.ErrGone)
	}
	var now model.Grant
	if err := json.Unmarshal(body, &now); err != nil {
		return fmt.Errorf("grant %q: %w", id, err)
	}
	was, err := json.Marshal(g.Estate.Grants[i])
	if err != nil {
		return err
	}
	is, err := json.Marshal(now)
	if err == nil && string(was) != string(is) {
		err = fmt.Errorf("grant %q: %w since the survey; survey again and draft anew", id, source.ErrConflict)
	}
	return err
}

func slug(s string) string {
	b := []byte(strings.ToLower(s))
	for i, c := range b {
		if c < 'a' || c > 'z' {
			if c < '0' || c > '9' {
				b[i] = '-'
			}
		}
	}
	return strings.Trim(string(b[:min(len(b), 40)]), "-")
}

// Undo returns the change that takes c back: its steps reversed, last first.
func (c *Change) Undo(id string) *Change {
	u := &Change{ID: id, Source: c.Source, For: c.For, Undoes: c.ID}
	for _, s := range slices.Backward(c.Steps) {
		u.Steps = append(u.Steps, s.Undo())
	}
	return u
}

// GuardInput is what the guards look at.
type GuardInput struct {
	Engine    *engine.Engine // as surveyed
	Fence     *draft.Fence
	Rehearsal *rehearse.Result
	Protected map[model.ID]bool
	Self      []model.ID // the tool's own identities in the source
	Surveyed  time.Time
	MaxAge    time.Duration
	Now       time.Time
}

// Guards returns every reason against a change; none means it may be made.
func Guards(in GuardInput) []string {
	var out []string
	no := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	g := in.Engine
	who := in.Fence.For.In(g.Estate.Source)
	if id, _ := g.Identity(who); in.Protected[who] {
		no("%s is protected by clipfence.yaml", who)
	} else if id.BreakGlass() {
		no("%s is labelled as kept for emergencies (purpose: break-glass)", who)
	}
	for _, self := range in.Self {
		for _, s := range g.Closure(self) {
			if s.ID == who {
				no("%s is what this tool itself works as (%s)", who, self)
			}
		}
	}
	if who.Kind == model.Group {
		for _, id := range g.Estate.Identities {
			if (in.Protected[id.ID] || id.BreakGlass()) && id.ID != who && slices.ContainsFunc(g.Closure(id.ID), func(s engine.Standing) bool { return s.ID == who }) {
				no("%s is a member of %s, and protected", id.ID, who)
			}
		}
	}
	if age := in.Now.Sub(in.Surveyed); age > in.MaxAge {
		no("the survey is %s old; at most %s is allowed (run: clipfence survey)", model.Duration(age.Truncate(time.Minute)), model.Duration(in.MaxAge))
	}
	if n := len(in.Rehearsal.Widened); n > 0 {
		no("the rehearsal failed: %d lines allow more than what they replace", n)
	}
	breaks := 0
	for _, b := range in.Rehearsal.Broken {
		if !b.GivenUp {
			breaks++
		}
	}
	if breaks > 0 {
		no("the rehearsal failed: %d uses would break (see: clipfence rehearse)", breaks)
	}
	if n := len(in.Rehearsal.Unplaced); n > 0 && !in.Rehearsal.Accepted {
		no("the rehearsal failed: %d uses are not placed and may be of what goes (see: clipfence rehearse; with --accept-unplaced the risk is yours, and in the ledger)", n)
	}
	for _, n := range orphaned(g, in.Fence) {
		no("nobody could change grants on %s any more: %s is the last administrator there", n, who)
	}
	return out
}

// orphaned returns the nodes under the replaced grants on which somebody can
// change grants now and nobody could afterwards.
func orphaned(g *engine.Engine, f *draft.Fence) []model.Path {
	var nodes []model.Path
	for _, gr := range g.Estate.Grants {
		affected := slices.Contains(f.Replaces, gr.ID) || slices.Contains(f.Leaves, gr.To)
		for _, on := range gr.Where {
			if at, ok := on.Anchor(); affected && ok && !slices.Contains(nodes, at) {
				nodes = append(nodes, at)
			}
		}
	}
	after := engine.New(f.Apply(g.Estate))
	var out []model.Path
	for _, n := range nodes {
		if canHandOut(g, n) && !canHandOut(after, n) {
			out = append(out, n)
		}
	}
	return out
}

func canHandOut(g *engine.Engine, n model.Path) bool {
	for _, c := range g.Estate.Catalogue {
		if c.Escalates != model.EditGrants {
			continue
		}
		for _, id := range g.Estate.Identities {
			if id.ID.Kind != model.Group && !id.Disabled && g.Decide(id.ID, c.Permission, n, model.Context{}).Outcome == engine.Allowed {
				return true
			}
		}
	}
	return false
}

// A Runner carries changes out.
type Runner struct {
	Changer source.Changer
	Ledger  *ledger.Ledger
	Wait    time.Duration // how long to wait until a step is visible
	// Progress is told when a step begins and when it is visible; may be nil.
	Progress func(n int, s source.Step, done bool)
}

// Kinds of ledger entry.
const (
	entryBegin = "change.begin"
	entryStep  = "change.step"
	entryEnd   = "change.end"
)

type stepEntry struct {
	Change string `json:"change"`
	Step   int    `json:"step"` // from 1
	State  string `json:"state"`
}

type endEntry struct {
	Change string `json:"change"`
	State  string `json:"state"` // done or failed
	Why    string `json:"why,omitempty"`
}

// Run carries a change out. When a step fails the change stops there, the failure
// is recorded, and what was done stays done: only an undo takes it back.
func (r *Runner) Run(ctx context.Context, c *Change) error {
	c.Format = source.FormatVersion
	if err := r.Ledger.Append(ctx, entryBegin, c); err != nil {
		return err
	}
	return r.Resume(ctx, c, 0)
}

// Resume goes on with a change that the ledger knows, after so many steps.
func (r *Runner) Resume(ctx context.Context, c *Change, from int) error {
	for i := from; i < len(c.Steps); i++ {
		s := c.Steps[i]
		if r.Progress != nil {
			r.Progress(i, s, false)
		}
		if err := r.Ledger.Append(ctx, entryStep, stepEntry{c.ID, i + 1, "doing"}); err != nil {
			return err
		}
		if err := r.step(ctx, s); err != nil {
			err = fmt.Errorf("change %s, step %d of %d (%s): %w", c.ID, i+1, len(c.Steps), Say(s), err)
			// The failure is recorded even when the context is what ended.
			return errors.Join(err, r.Ledger.Append(context.WithoutCancel(ctx), entryEnd, endEntry{c.ID, "failed", err.Error()}))
		}
		if err := r.Ledger.Append(ctx, entryStep, stepEntry{c.ID, i + 1, "done"}); err != nil {
			return err
		}
		if r.Progress != nil {
			r.Progress(i, s, true)
		}
	}
	return r.Ledger.Append(ctx, entryEnd, endEntry{c.ID, "done", ""})
}

// step does one step and reads it back until it is visible. A conflict can also
// mean that the step was done before and is not visible yet, so it is waited for
// as well, for a shorter time.
func (r *Runner) step(ctx context.Context, s source.Step) error {
	err := r.Changer.Do(ctx, s)
	wait := r.Wait
	if errors.Is(err, source.ErrConflict) || errors.Is(err, source.ErrGone) {
		wait = min(wait, 5*time.Second)
	} else if err != nil {
		return err
	}
	if seen := r.confirm(ctx, s, wait); seen != nil {
		return errors.Join(err, seen)
	}
	return nil
}

func (r *Runner) confirm(ctx context.Context, s source.Step, wait time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		d, err := r.Changer.Get(ctx, s.Kind, s.ID)
		switch {
		case err == nil && s.After != nil && same(d.Body, s.After),
			errors.Is(err, source.ErrGone) && s.After == nil:
			return nil
		case err != nil && !errors.Is(err, source.ErrGone) && ctx.Err() == nil:
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%w after %s; it may still come: look again with clipfence apply --resume", ErrUnconfirmed, wait)
		case <-time.After(pause):
		}
	}
}

func same(a, b json.RawMessage) bool {
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}

// Say names a step in a few words, such as "add grant g-1".
func Say(s source.Step) string {
	verb := "change"
	switch {
	case s.Before == nil:
		verb = "add"
	case s.After == nil:
		verb = "remove"
	}
	kind := map[string]string{source.Grants: "grant", source.Roles: "role", source.Memberships: "membership", source.LogSettings: "log settings of"}[s.Kind]
	if kind == "" {
		kind = s.Kind
	}
	return verb + " " + kind + " " + s.ID
}

// The states of a change.
const (
	StateDone    = "done"
	StateFailed  = "failed"
	StateRunning = "interrupted"
	StateUndone  = "undone"
)

// A Record is a change as the ledger tells it.
type Record struct {
	Change
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	State string    `json:"state"`
	Done  int       `json:"steps_done"`
	Why   string    `json:"why,omitempty"`
}

// History reads the changes off a ledger, oldest first.
func History(entries []ledger.Entry) ([]*Record, error) {
	var out []*Record
	byID := map[string]*Record{}
	for _, e := range entries {
		var err error
		switch e.Kind {
		case entryBegin:
			r := &Record{At: e.At, By: e.By, State: StateRunning}
			if err = json.Unmarshal(e.Body, &r.Change); err == nil {
				err = r.upgrade()
			}
			out = append(out, r)
			byID[r.ID] = r
		case entryStep:
			var s stepEntry
			err = json.Unmarshal(e.Body, &s)
			if r := byID[s.Change]; r != nil {
				r.State = StateRunning
				if s.State == "done" {
					r.Done = s.Step
				}
			}
		case entryEnd:
			var s endEntry
			err = json.Unmarshal(e.Body, &s)
			if r := byID[s.Change]; r != nil {
				r.State, r.Why = s.State, s.Why
				if u := byID[r.Undoes]; u != nil && s.State == StateDone {
					u.State = StateUndone
				}
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%w: entry %d: %v", ledger.ErrBroken, e.Number, err)
		}
	}
	return out, nil
}

// NextID returns the id of the next change.
func NextID(history []*Record) string { return fmt.Sprintf("c-%d", len(history)+1) }

// Find returns a change by id.
func Find(history []*Record, id string) (*Record, error) {
	for _, r := range history {
		if r.ID == id {
			return r, nil
		}
	}
	return nil, fmt.Errorf("%w: %q (see: clipfence ledger list)", ErrUnknown, id)
}
