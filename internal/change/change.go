package change

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/fence"
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
	Fence  string   `json:"fence,omitempty"`        // file it came from
	Digest string   `json:"fence_digest,omitempty"` // SHA-256 of that file, in hexadecimal digits
	Undoes string   `json:"undoes,omitempty"`
	Reason string   `json:"reason,omitempty"`
	Widens string   `json:"widens,omitempty"` // why it gives more than what it replaces, as its fence says
	// Unplaced counts calls that are not placed and may be of what goes: whoever carried
	// the change out took the risk.
	Unplaced int64         `json:"accepted_unplaced_calls,omitempty"`
	Steps    []source.Step `json:"steps"`
	// Records is what becomes of which records; none where each step is about one record whose
	// document it is, as in every change of an earlier program.
	Records []source.Edited `json:"records,omitempty"`

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

// Edits returns what becomes of which records.
func (c *Change) Edits() []source.Edited {
	if c.Records != nil {
		return c.Records
	}
	var out []source.Edited
	for _, s := range c.Steps {
		out = append(out, source.Edited{Kind: s.Kind, ID: s.ID, Before: s.Before, After: s.After})
	}
	return out
}

// Left returns what becomes of which records by the steps from one on. Where a step may be about
// several records, that is all of them: what is done already is as it will be.
func (c *Change) Left(from int) []source.Edited {
	if c.Records != nil {
		return c.Records
	}
	return c.Edits()[from:]
}

// Set gives a change its steps and what becomes of which records by them.
func (c *Change) Set(steps []source.Step, edits []source.Edited) {
	c.Steps, c.Records = steps, nil
	if !reflect.DeepEqual(c.Edits(), edits) {
		c.Records = edits
	}
}

// Plan turns a fence into steps, and says what becomes of which records. It reads what goes, so
// that the steps say exactly what will be replaced and an undo can put back exactly that.
func Plan(ctx context.Context, c source.Changer, x *index.Index, f *fence.Fence, now time.Time) ([]source.Step,
	[]source.Edited, error) {
	who := f.For.In(x.Source())
	h := sha256.Sum256([]byte(who.String() + f.Drafted.UTC().Format(time.RFC3339Nano) + strings.Join(f.Replaces, ",")))
	tag := fence.NamedAfter(who) + hex.EncodeToString(h[:3])
	var want source.Diff
	shared := map[string]bool{}
	for i, a := range f.Allow {
		name := fmt.Sprintf("%s-%d", tag, i+1)
		role := a.Role
		if role != "" {
			if err := asRehearsed(ctx, c, x, role); err != nil {
				return nil, nil, err
			}
		} else if _, there := x.Role(a.As); there { // another fence made it; Validate says that it is the same
			role = a.As
			if err := asRehearsed(ctx, c, x, role); err != nil {
				return nil, nil, err
			}
		} else if a.As != "" {
			role = a.As
			if !shared[role] {
				want.Put = append(want.Put, source.Record{Kind: source.Roles, ID: role,
					Value: model.Role{Name: role, Title: "Clip Fence: shared", Rights: model.Rights{Do: a.Do}}})
			}
			shared[role] = true
		} else {
			role = name
			want.Put = append(want.Put, source.Record{Kind: source.Roles, ID: name,
				Value: model.Role{Name: name, Title: "Clip Fence: access of " + who.String(),
					Rights: model.Rights{Do: a.Do}}})
		}
		g := model.Grant{ID: name, To: f.Receiver(&a, x.Source()), Role: role, Where: a.Where,
			When: a.When, Until: a.Until, KeptWith: model.WithHolder, Created: now.UTC().Truncate(time.Second)}
		want.Put = append(want.Put, source.Record{Kind: source.Grants, ID: name, Value: g})
	}
	for i := range f.Denies {
		id := fmt.Sprintf("%s-denies-%d", tag, i+1)
		want.Put = append(want.Put, source.Record{Kind: source.Denials, ID: id,
			Value: f.Denial(&f.Denies[i], id, x.Source())})
	}
	for _, id := range f.Replaces {
		want.Drop = append(want.Drop, source.Ref{Kind: source.Grants, ID: id})
	}
	for _, grp := range f.Leaves {
		want.Drop = append(want.Drop, source.Ref{Kind: source.Memberships, ID: who.String() + ">" + grp.String()})
	}
	steps, edits, err := source.Planned(ctx, c, want)
	if err != nil {
		return nil, nil, err
	}
	for _, e := range edits {
		if e.Kind == source.Grants && e.After == nil {
			if err := asSurveyed(x, e.ID, e.Before); err != nil {
				return nil, nil, err
			}
		}
	}
	return steps, edits, nil
}

// PlanUndo plans what takes back what a change did, on the records as they are now: documents
// that were kept from before the change are not written again, since others may have changed what
// else they say. It returns [source.ErrConflict] for a record that is neither as the change found
// it nor as it left it. What was not begun is left as it is. A step of which nobody knows whether it
// was done is taken back as it was written, which does nothing where it was not done.
func PlanUndo(ctx context.Context, c source.Changer, r *Record) ([]source.Step, []source.Edited, error) {
	var want source.Diff
	edits := r.Edits()
	if r.State == StateHanded { // whoever carries it out may do so yet
		u := r.Undo("")
		return u.Steps, u.Edits(), nil
	}
	doubt := map[int]bool{} // steps
	limit := min(len(r.Steps), max(r.Begun, r.Done+1))
	for i := r.Done; i < limit && r.State != StateDone; i++ {
		doubt[i] = true
	}
	for i, e := range slices.Backward(edits) {
		begun := r.Records != nil || i < limit || r.State == StateDone
		if !begun {
			continue
		}
		now, err := source.RecordOf(ctx, c, e.Kind, e.ID)
		if err != nil {
			return nil, nil, err
		}
		switch ref := (source.Ref{Kind: e.Kind, ID: e.ID}); {
		case source.Same(now, e.Before): // not done, or taken back already
		case !source.Same(now, e.After) && doubt[i] && r.Records == nil:
			delete(doubt, i) // others changed it before it could be done
		case !source.Same(now, e.After):
			return nil, nil, fmt.Errorf("%s %s: %w since the change; look at it, and take the change back by hand",
				kindWord(e.Kind), e.ID, source.ErrConflict)
		case e.Before == nil:
			want.Drop = append(want.Drop, ref)
		default:
			v, err := valueOf(e.Kind, e.Before)
			if err != nil {
				return nil, nil, fmt.Errorf("%s %s: %w", kindWord(e.Kind), e.ID, err)
			}
			want.Put = append(want.Put, source.Record{Kind: e.Kind, ID: e.ID, Value: v, Body: e.Before})
		}
	}
	steps, edited, err := source.Planned(ctx, c, want)
	if err != nil {
		return nil, nil, err
	}
	for _, k := range slices.Sorted(maps.Keys(doubt)) {
		step := r.Steps[k]
		if slices.ContainsFunc(steps, func(s source.Step) bool { return s.Kind == step.Kind && s.ID == step.ID }) {
			continue // it was done, as is seen
		}
		steps = append([]source.Step{step.Undo()}, steps...)
		for i, e := range edits { // of it, or where nobody can tell of which, of all
			if r.Records == nil && i != k {
				continue
			}
			if !slices.ContainsFunc(edited, func(o source.Edited) bool { return o.Kind == e.Kind && o.ID == e.ID }) {
				edited = append(edited, source.Edited{Kind: e.Kind, ID: e.ID, Before: e.After, After: e.Before})
			}
		}
	}
	return steps, edited, nil
}

// valueOf reads a record in the words of the model.
func valueOf(kind string, body json.RawMessage) (any, error) {
	switch kind {
	case source.Grants:
		return as[model.Grant](body)
	case source.Roles:
		return as[model.Role](body)
	case source.Memberships:
		return as[model.Membership](body)
	case source.Denials:
		return as[model.Denial](body)
	case source.Coverage:
		return as[model.CoverageRecord](body)
	}
	return body, nil
}

func as[T any](body json.RawMessage) (any, error) {
	var v T
	err := json.Unmarshal(body, &v)
	return v, err
}

// asRehearsed refuses a role that a fence gives and that is no longer as it was surveyed, and
// so rehearsed; also one of those that it includes.
func asRehearsed(ctx context.Context, c source.Changer, x *index.Index, name string) error {
	for _, role := range append([]string{name}, includes(x, name)...) {
		surveyed, ok := x.Role(role)
		if !ok {
			return fmt.Errorf("role %q: %w; survey again and draft anew", role, source.ErrGone)
		}
		d, err := c.Get(ctx, source.Roles, role)
		if err != nil {
			return fmt.Errorf("role %q: %w", role, err)
		}
		var now model.Role
		if err := json.Unmarshal(d.Body, &now); err != nil {
			return fmt.Errorf("role %q: %w", role, err)
		}
		was, err := json.Marshal(surveyed)
		if err != nil {
			return err
		}
		is, err := json.Marshal(now)
		if err == nil && string(was) != string(is) {
			err = fmt.Errorf("role %q: %w since the survey that the fence was rehearsed on; survey again and "+
				"draft anew", role, source.ErrConflict)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// asSurveyed refuses a grant that changed since the survey the fence rests on.
func asSurveyed(x *index.Index, id string, body json.RawMessage) error {
	n, ok := x.GrantNamed(id)
	if !ok {
		return fmt.Errorf("grant %q: %w", id, source.ErrGone)
	}
	var now model.Grant
	if err := json.Unmarshal(body, &now); err != nil {
		return fmt.Errorf("grant %q: %w", id, err)
	}
	was, err := json.Marshal(x.Grant(n))
	if err != nil {
		return err
	}
	is, err := json.Marshal(now)
	if err == nil && string(was) != string(is) {
		err = fmt.Errorf("grant %q: %w since the survey; survey again and draft anew", id, source.ErrConflict)
	}
	return err
}

// Undo returns the change that takes c back on the documents as they were: its steps reversed, last
// first. It is for whoever takes it back by hand; see [PlanUndo].
func (c *Change) Undo(id string) *Change {
	u := &Change{ID: id, Source: c.Source, For: c.For, Undoes: c.ID}
	for _, s := range slices.Backward(c.Steps) {
		u.Steps = append(u.Steps, s.Undo())
	}
	for _, e := range slices.Backward(c.Records) {
		u.Records = append(u.Records, source.Edited{Kind: e.Kind, ID: e.ID, Before: e.After, After: e.Before})
	}
	return u
}

// GuardInput is what the guards look at.
type GuardInput struct {
	Index     *index.Index // as surveyed
	Fence     *fence.Fence
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
	x := in.Index
	who := in.Fence.For.In(x.Source())
	if id, _ := x.Identity(who); in.Protected[who] {
		no("%s is protected by clipfence.yaml", who)
	} else if id.BreakGlass() {
		no("%s is labelled as kept for emergencies (purpose: break-glass)", who)
	}
	// A denial alone does not concern those whom it spares.
	concerns := func(id model.ID) bool { return x.In(id, who) }
	if f := in.Fence; len(f.Denies) > 0 && len(f.Replaces)+len(f.Leaves)+len(f.Allow) == 0 {
		named := map[model.ID]bool{}
		for i := range f.Denies {
			d := f.Denial(&f.Denies[i], "", x.Source())
			for _, id := range refused(x, &d) {
				named[id] = true
			}
		}
		concerns = func(id model.ID) bool { return named[id] }
	}
	for _, self := range in.Self {
		if concerns(self) {
			no("%s is what this tool itself works as (%s)", who, self)
		}
	}
	if who.Kind == model.Group || len(in.Fence.Denies) > 0 {
		for _, id := range x.Everybody() {
			if (in.Protected[id.ID] || id.BreakGlass()) && id.ID != who && concerns(id.ID) {
				no("%s is a member of %s, and protected", id.ID, who)
			}
		}
	}
	if why := TooOld(in.Surveyed, in.Now, in.MaxAge); why != "" {
		no("%s", why)
	}
	if n := len(in.Rehearsal.Widened); n > 0 {
		no("the rehearsal failed: %d lines allow more than what they replace", n)
	}
	for _, d := range in.Rehearsal.Doubts {
		no("a second look at the rehearsal says otherwise, which is a fault of this program: %s", d)
	}
	for _, what := range in.Rehearsal.Changed {
		no("%s (see: clipfence rehearse; then draft anew, or take `proven` out of the file)", what)
	}
	if in.Rehearsal.Riskier != "" {
		no("%s (see: clipfence rehearse; then draft anew, or take `proven` out of the file)", in.Rehearsal.Riskier)
	}
	if n := len(in.Rehearsal.Cannot); n > 0 {
		no("the rehearsal failed: the source cannot say %d lines: %s", n, in.Rehearsal.Cannot[0])
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
		no("the rehearsal failed: %d uses are not placed and may be of what goes (see: clipfence rehearse; with "+
			"--accept-unplaced the risk is yours, and in the ledger)", n)
	}
	return out
}

// skew is how far clocks may differ.
const skew = 5 * time.Minute

// TooOld says why a survey is none to decide on, or "". One that is dated in the future is
// no fresh one.
func TooOld(surveyed, now time.Time, most time.Duration) string {
	switch age := now.Sub(surveyed); {
	case age > most:
		unit := time.Minute // nobody counts the minutes of a week
		switch {
		case age >= 2*24*time.Hour:
			unit = 24 * time.Hour
		case age >= 2*time.Hour:
			unit = time.Hour
		}
		return fmt.Sprintf("the survey is %s old; at most %s is allowed (run: clipfence survey)",
			model.Duration(age.Truncate(unit)), model.Duration(most))
	case age < -skew:
		return fmt.Sprintf("the survey is dated %s, which is to come; a clock is wrong (run: clipfence survey)",
			surveyed.UTC().Format(time.RFC3339))
	}
	return ""
}

// Leases see to it that one change at a time is carried out in a source. A lease is renewed
// while its holder lives, and that of the dead is taken over.
type Leases interface {
	Leased(p ledger.Page, src string) (holder, change string, until time.Time, held bool, err error)
	Lend(p ledger.Page, src, holder, change string, until time.Time) error
	Renew(ctx context.Context, src, holder string, until time.Time) (bool, error)
	Release(ctx context.Context, src, holder string) error
}

const (
	leaseFor   = 30 * time.Second
	leaseEvery = 8 * time.Second
)

// A Runner carries changes out.
type Runner struct {
	Changer source.Changer
	Ledger  *ledger.Ledger
	Wait    time.Duration // how long to wait until a step is visible
	// First is called with a change that is new to the ledger, before its first step; an error
	// ends the change. It may be nil.
	First func(*Change) error
	// Progress is told when a step begins and when it is visible; may be nil.
	Progress func(n int, s source.Step, done bool)

	// Leases keeps others from the source meanwhile, as Holder; nil keeps nobody. Alive
	// reports whether a holder may still be at work; nil knows only the lease's own end.
	Leases Leases
	Holder string
	Alive  func(holder string) bool

	// Estate reads the source anew, just before a change and just after, for the guards:
	// nil, and there are none.
	Estate    func(ctx context.Context) (*index.Index, error)
	Protected map[model.ID]bool
	Self      []model.ID
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

// lease takes the source for a change, and gives back a context that ends when the lease is
// lost, and what releases it.
func (r *Runner) lease(ctx context.Context, src, change string) (context.Context, func(), error) {
	if r.Leases == nil {
		return ctx, func() {}, nil
	}
	err := r.Ledger.Book.Write(ctx, func(p ledger.Page) error {
		holder, other, until, held, err := r.Leases.Leased(p, src)
		if err != nil {
			return err
		}
		if held && holder != r.Holder && time.Now().Before(until) && (r.Alive == nil || r.Alive(holder)) {
			if other == "" {
				other = "a change"
			}
			return fmt.Errorf("%w: %s is being carried out in %s just now, by %s; wait for it to end", ErrGuard, other,
				src, holder)
		}
		return r.Leases.Lend(p, src, r.Holder, change, time.Now().Add(leaseFor))
	})
	if err != nil {
		return ctx, nil, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(leaseEvery)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				if ok, err := r.Leases.Renew(context.WithoutCancel(ctx), src, r.Holder,
					time.Now().Add(leaseFor)); err == nil && !ok {
					cancel(fmt.Errorf("%w: another process took over the work in %s", ErrGuard, src))
					return
				}
			}
		}
	}()
	return ctx, func() {
		close(done)
		cancel(nil)
		_ = r.Leases.Release(context.WithoutCancel(ctx), src, r.Holder) // it runs out by itself as well
	}, nil
}

// views reads the source and works out what edits would make of it; nil without a way to
// read.
func (r *Runner) views(ctx context.Context, edits []source.Edited) (*Views, error) {
	if r.Estate == nil {
		return nil, nil
	}
	before, err := r.Estate(ctx)
	if err != nil {
		return nil, err
	}
	then, err := after(before, edits)
	if err != nil {
		return nil, err
	}
	return &Views{Before: before, After: then, Edits: edits, Protected: r.Protected, Self: r.Self}, nil
}

// Guard reads the source and returns [ErrGuard] with every reason against what is to become of
// some records.
func (r *Runner) Guard(ctx context.Context, edits []source.Edited) error {
	_, err := r.guard(ctx, edits)
	return err
}

func (r *Runner) guard(ctx context.Context, edits []source.Edited) (*Views, error) {
	v, err := r.views(ctx, edits)
	if err != nil || v == nil {
		return nil, err
	}
	if why := StepGuards(*v); len(why) > 0 {
		return nil, fmt.Errorf("%w: nothing was changed\n%s", ErrGuard, strings.Join(why, "\n"))
	}
	return v, nil
}

// recorded returns the changes that the ledger tells of, as of a transaction.
func recorded(p ledger.Page) ([]*Record, error) {
	var entries []ledger.Entry
	for _, kind := range []string{entryBegin, entryStep, entryEnd} {
		lines, err := p.OfKind(kind)
		if err != nil {
			return nil, err
		}
		for _, line := range lines {
			var e ledger.Entry
			if err := json.Unmarshal(line, &e); err != nil {
				return nil, fmt.Errorf("%w: %v", ledger.ErrBroken, err)
			}
			entries = append(entries, e)
		}
	}
	slices.SortFunc(entries, func(a, b ledger.Entry) int { return a.Number - b.Number })
	return History(entries)
}

// MayUndo reports why a change cannot be taken back, or nil: it is undone, its undoing has
// begun, or a newer change stands on the same documents.
func MayUndo(history []*Record, id string) error {
	r, err := Find(history, id)
	if err != nil {
		return err
	}
	if r.State == StateUndone {
		return fmt.Errorf("%w: change %s is undone already", ErrGuard, id)
	}
	newer := false
	for _, o := range history {
		if o.ID == id {
			newer = true
			continue
		}
		if o.Undoes == id && o.State != StateDone {
			return fmt.Errorf("%w: %s, which takes %s back, has begun (%s); go on with it: clipfence apply "+
				"--resume %s", ErrGuard, o.ID, id, o.State, o.ID)
		}
		if newer && o.Source == r.Source && o.State != StateUndone && o.Undoes == "" &&
			!(o.Done == 0 && o.State == StateFailed) {
			if doc := shared(&r.Change, &o.Change); doc != "" {
				return fmt.Errorf("%w: change %s came after %s and stands on the same %s; take back %s first",
					ErrGuard, o.ID, id, doc, o.ID)
			}
		}
	}
	return nil
}

// shared names a record that two changes both replace, or a document where one of them knows no
// records.
func shared(a, b *Change) string {
	if a.Records == nil || b.Records == nil {
		a, b = &Change{Steps: a.Steps}, &Change{Steps: b.Steps}
	}
	for _, x := range a.Edits() {
		for _, y := range b.Edits() {
			if x.Kind == y.Kind && x.ID == y.ID {
				return kindWord(x.Kind) + " " + x.ID
			}
		}
	}
	return ""
}

// MayResume reports why a change cannot be gone on with, or nil.
func MayResume(history []*Record, id string) error {
	r, err := Find(history, id)
	if err != nil {
		return err
	}
	if r.State != StateFailed && r.State != StateRunning {
		return fmt.Errorf("%w: change %s is %s; there is nothing to resume", ErrGuard, id, r.State)
	}
	for _, o := range history {
		if o.Undoes == id {
			return fmt.Errorf("%w: %s, which takes %s back, has begun (%s); going on with both would leave neither",
				ErrGuard, o.ID, id, o.State)
		}
	}
	return nil
}

// Run carries a change out, and gives it the next number. When a step fails the change stops
// there, the failure is recorded, and what was done stays done: only an undo takes it back.
// When nobody could hand out rights somewhere once it was done, because somebody else
// changed something at the same time, it is put back.
func (r *Runner) Run(ctx context.Context, c *Change) error {
	ctx, release, err := r.lease(ctx, c.Source, "")
	if err != nil {
		return err
	}
	defer release()
	v, err := r.guard(ctx, c.Edits())
	if err != nil {
		return err
	}
	if err := r.begin(ctx, c); err != nil {
		return err
	}
	if r.First != nil {
		if err := r.First(c); err != nil {
			return errors.Join(err, r.Ledger.Append(context.WithoutCancel(ctx), entryEnd,
				endEntry{c.ID, StateFailed, err.Error()}))
		}
	}
	return r.finish(ctx, c, 0, v)
}

// begin writes down what will be done.
func (r *Runner) begin(ctx context.Context, c *Change) error {
	c.Format = source.FormatVersion
	return r.Ledger.AppendWith(ctx, entryBegin, "", func(p ledger.Page) (any, error) {
		history, err := recorded(p)
		if err != nil {
			return nil, err
		}
		if c.Undoes != "" {
			if err := MayUndo(history, c.Undoes); err != nil {
				return nil, err
			}
		}
		c.ID = NextID(history)
		return c, nil
	})
}

// Resume goes on with a change that the ledger knows.
func (r *Runner) Resume(ctx context.Context, c *Change) error {
	ctx, release, err := r.lease(ctx, c.Source, c.ID)
	if err != nil {
		return err
	}
	defer release()
	from := 0
	err = r.Ledger.Book.Write(ctx, func(p ledger.Page) error {
		history, err := recorded(p)
		if err != nil {
			return err
		}
		if err := MayResume(history, c.ID); err != nil {
			return err
		}
		now, err := Find(history, c.ID)
		if err != nil {
			return err
		}
		from, *c = now.Done, now.Change
		return nil
	})
	if err != nil {
		return err
	}
	v, err := r.guard(ctx, c.Left(from))
	if err != nil {
		return err
	}
	return r.finish(ctx, c, from, v)
}

// HandOver writes a change down by a function, for whoever carries it out by hand, after the
// guards had their say; the source is not touched. The change is [StateHanded] until
// [Found] says that it was done, or it is taken back.
func (r *Runner) HandOver(ctx context.Context, c *Change, write func(*Change) error) error {
	ctx, release, err := r.lease(ctx, c.Source, "")
	if err != nil {
		return err
	}
	defer release()
	if _, err := r.guard(ctx, c.Edits()); err != nil {
		return err
	}
	if err := r.begin(ctx, c); err != nil {
		return err
	}
	if err := write(c); err != nil {
		return errors.Join(err, r.Ledger.Append(context.WithoutCancel(ctx), entryEnd,
			endEntry{c.ID, StateFailed, err.Error()}))
	}
	return r.Ledger.Append(ctx, entryEnd, endEntry{c.ID, StateHanded, ""})
}

// Found records that a change which was handed over is done, since every step of it is seen.
func Found(ctx context.Context, l *ledger.Ledger, r *Record) error {
	if err := l.Append(ctx, entryStep, stepEntry{r.ID, len(r.Steps), StateDone}); err != nil {
		return err
	}
	return l.Append(ctx, entryEnd, endEntry{r.ID, StateDone, ""})
}

// finish does the steps from one on, and looks at what became of the estate.
func (r *Runner) finish(ctx context.Context, c *Change, from int, v *Views) error {
	if err := r.steps(ctx, c, from); err != nil {
		return err
	}
	if v == nil {
		return nil
	}
	now, err := r.Estate(ctx)
	if err != nil {
		return fmt.Errorf("change %s is done, but looking at what became of it failed: %w", c.ID, err)
	}
	lost := escalate.Orphans(v.Before, now, r.Self)
	if len(lost) == 0 {
		return nil
	}
	u := &Change{Source: c.Source, For: c.For, Undoes: c.ID}
	steps, edits, err := PlanUndo(ctx, r.Changer, &Record{Change: *c, State: StateDone, Done: len(c.Steps)})
	if err != nil {
		return fmt.Errorf("%w: once %s was done nobody could hand out rights on %s any more; putting it back "+
			"failed: %w", ErrGuard, c.ID, lost[0], err)
	}
	u.Set(steps, edits)
	u.Reason = fmt.Sprintf("put back: nobody could hand out rights on %s any more", lost[0])
	if err := r.begin(ctx, u); err != nil {
		return err
	}
	err = r.steps(ctx, u, 0)
	return errors.Join(fmt.Errorf("%w: once %s was done nobody could hand out rights on %s any more, since "+
		"somebody else changed something at the same time; it was put back (%s)", ErrGuard, c.ID, lost[0], u.ID), err)
}

// steps does the steps of a change from one on, one by one, or all at once where the source can.
func (r *Runner) steps(ctx context.Context, c *Change, from int) error {
	if all, can := r.Changer.(source.AtOnce); can && len(c.Steps)-from > 1 {
		return r.atOnce(ctx, c, from, all)
	}
	for i := from; i < len(c.Steps); i++ {
		s := c.Steps[i]
		err := context.Cause(ctx) // where the lease is lost, or somebody interrupts, nothing more is begun
		if err == nil {
			if r.Progress != nil {
				r.Progress(i, s, false)
			}
			if err := r.Ledger.Append(ctx, entryStep, stepEntry{c.ID, i + 1, "doing"}); err != nil {
				return err
			}
			if err = r.stands(ctx, c, i); err == nil {
				err = r.step(ctx, s)
			}
		}
		if err != nil {
			return r.failed(ctx, c, fmt.Sprintf("step %d of %d (%s)", i+1, len(c.Steps), Say(s)), err)
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

// atOnce does the steps of a change from one on together: they are begun as one, and done as one.
func (r *Runner) atOnce(ctx context.Context, c *Change, from int, all source.AtOnce) error {
	n, rest := len(c.Steps), c.Steps[from:]
	err := context.Cause(ctx)
	if err == nil {
		if err := r.Ledger.Append(ctx, entryStep, stepEntry{c.ID, n, "doing"}); err != nil {
			return err
		}
		// What was made before, by an earlier program or run, must stand when something goes.
		if slices.ContainsFunc(rest, func(s source.Step) bool { return s.After == nil }) {
			err = r.stand(ctx, c.Steps[:from])
		}
		if err == nil {
			err = all.DoAll(ctx, rest)
		}
		for i := 0; i < len(rest) && err == nil; i++ {
			err = r.confirm(ctx, rest[i], r.Wait)
		}
	}
	if err != nil {
		return r.failed(ctx, c, fmt.Sprintf("steps %d to %d, done at once", from+1, n), err)
	}
	if err := r.Ledger.Append(ctx, entryStep, stepEntry{c.ID, n, "done"}); err != nil {
		return err
	}
	if r.Progress != nil {
		for i, s := range rest {
			r.Progress(from+i, s, true)
		}
	}
	return r.Ledger.Append(ctx, entryEnd, endEntry{c.ID, "done", ""})
}

// failed records that a change failed at something, even when the context is what ended.
func (r *Runner) failed(ctx context.Context, c *Change, at string, err error) error {
	if cause := context.Cause(ctx); cause != nil && !errors.Is(err, cause) && errors.Is(cause, ErrGuard) {
		err = cause
	}
	err = fmt.Errorf("change %s, %s: %w", c.ID, at, err)
	return errors.Join(err, r.Ledger.Append(context.WithoutCancel(ctx), entryEnd,
		endEntry{c.ID, StateFailed, err.Error()}))
}

// stands sees to it, before something is taken away, that what takes its place is there
// still, as it was made.
func (r *Runner) stands(ctx context.Context, c *Change, at int) error {
	if c.Steps[at].After != nil {
		return nil
	}
	return r.stand(ctx, c.Steps[:at])
}

// stand sees to it that what some steps made is there still, as it was made.
func (r *Runner) stand(ctx context.Context, steps []source.Step) error {
	for _, s := range steps {
		if s.After == nil {
			continue
		}
		d, err := r.Changer.Get(ctx, s.Kind, s.ID)
		if err != nil && !errors.Is(err, source.ErrGone) {
			return err
		}
		if err != nil || !r.Changer.Planner().Stands(s, d.Body) {
			return fmt.Errorf("%s, which takes its place, is no longer as it was made: %w; nothing more was "+
				"taken away", document(s), source.ErrConflict)
		}
	}
	return nil
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

// confirm reads a step back until it is visible.
func (r *Runner) confirm(ctx context.Context, s source.Step, wait time.Duration) error {
	seen, err := source.Until(ctx, wait, func(ctx context.Context) (bool, error) {
		d, err := r.Changer.Get(ctx, s.Kind, s.ID)
		if err != nil && !errors.Is(err, source.ErrGone) {
			return false, err
		}
		return r.Changer.Planner().Stands(s, d.Body), nil
	})
	if err == nil && !seen {
		err = fmt.Errorf("%w after %s; it may still come: look again with clipfence apply --resume", ErrUnconfirmed,
			wait)
	}
	return err
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
	return verb + " " + document(s)
}

// document names what a step is about, such as "grant g-1".
func document(s source.Step) string { return kindWord(s.Kind) + " " + s.ID }

func kindWord(of string) string {
	kind := map[string]string{source.Grants: "grant", source.Roles: "role", source.Memberships: "membership",
		source.Denials: "denial", source.LogSettings: "log settings of", source.Coverage: "log"}[of]
	if kind == "" {
		kind = of
	}
	return kind
}

// The states of a change.
const (
	StateDone    = "done"
	StateFailed  = "failed"
	StateRunning = "interrupted"
	StateUndone  = "undone"
	StateHanded  = "handed over"
)

// A Record is a change as the ledger tells it.
type Record struct {
	Change
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	State string    `json:"state"`
	Done  int       `json:"steps_done"`
	Entry int       `json:"-"` // the number of the ledger's entry that began it
	Begun int       `json:"-"` // so many steps were begun; more than one that was not done, where that is at once
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
			r := &Record{At: e.At, By: e.By, State: StateRunning, Entry: e.Number}
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
				if r.Begun = s.Step; s.State == "done" {
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
