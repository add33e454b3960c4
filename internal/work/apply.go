package work

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
)

// Prepared is a change that the guards let pass: shown and agreed to, it is run.
type Prepared struct {
	Change    *change.Change
	From      int              // the step that comes first
	Source    string           // where
	Rehearsal *rehearse.Result // of a fence
	Risk      *Risk            // of a fence
	Undoes    *change.Record   // of an undo

	ByHand bool // running it writes down what somebody else is to do

	w     *Workspace
	src   config.Source
	run   *change.Runner
	fresh bool // the ledger does not know it yet
}

// prepare asks the guards about the steps that are left of a change.
func (w *Workspace) prepare(ctx context.Context, c source.Changer, src config.Source, ch *change.Change, from int,
	fresh bool) (*Prepared, error) {
	run, err := w.runner(ctx, c, src)
	if err != nil {
		return nil, err
	}
	if err := run.Guard(ctx, ch.Left(from)); err != nil {
		return nil, err
	}
	return &Prepared{Change: ch, From: from, Source: src.Name, ByHand: ChangesOf(src) == ByPeople, w: w, src: src,
		run: run, fresh: fresh}, nil
}

// PrepareApply plans what makes a fence true, named by its file, its name or its identity.
// Nothing is prepared that the rehearsal or a guard refuses: [change.ErrGuard]. With accept
// calls that cannot be placed do not count against it; the ledger tells of them.
func (w *Workspace) PrepareApply(ctx context.Context, name, reason string, accept bool) (*Prepared, error) {
	return w.prepareApply(ctx, name, reason, accept, w.Rehearse)
}

// rehearsing is [Workspace.Rehearse], or says what one of before said that holds still.
type rehearsing func(ctx context.Context, f *fence.Fence, s *Source, accept bool) (*rehearse.Result, *Risk, error)

func (w *Workspace) prepareApply(ctx context.Context, name, reason string, accept bool,
	rehearse rehearsing) (*Prepared, error) {
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	file, f, s, err := w.ReadFence(ctx, name)
	if err != nil {
		return nil, err
	}
	if was := carried(history)[f.Digest]; was != nil && was.State == ChangeHanded {
		return nil, fmt.Errorf("%w: %s was handed over as %s already, and no survey saw that done; %s says what to do",
			change.ErrGuard, w.Relative(file), was.ID, w.Relative(w.PatchFile(was.ID)))
	}
	c, err := w.changer(ctx, s.Source)
	if err != nil {
		return nil, err
	}
	r, k, err := rehearse(ctx, f, s, accept)
	if err != nil {
		return nil, err
	}
	self, err := w.self(ctx, s.Source, c)
	if err != nil {
		return nil, err
	}
	in := change.GuardInput{Index: s.Index, Fence: f, Rehearsal: r, Protected: w.ProtectedIn(s.Name), Self: self,
		Surveyed: s.Survey.Finished, MaxAge: time.Duration(w.MaxAge), Now: w.Clock().UTC()}
	lacking, err := w.unlent(f, s)
	if err != nil {
		return nil, err
	}
	if why := append(change.Guards(in), lacking...); len(why) > 0 {
		return nil, fmt.Errorf("%w: nothing was changed\n%s", change.ErrGuard, strings.Join(why, "\n"))
	}
	steps, edits, err := change.Plan(ctx, c, s.Index, f, w.Clock())
	if err != nil {
		return nil, err
	}
	ch := &change.Change{ID: change.NextID(history), Source: s.Name, For: f.For, Fence: w.Relative(file),
		Digest: f.Digest,
		Reason: reason, Widens: f.Widens}
	ch.Set(steps, edits)
	for _, u := range r.Unplaced {
		ch.Unplaced += u.Use.Count
	}
	p, err := w.prepare(ctx, c, s.Source, ch, 0, true)
	if err == nil {
		p.Rehearsal, p.Risk = r, k
	}
	return p, err
}

// PrepareResume goes on with a change that was interrupted or failed.
func (w *Workspace) PrepareResume(ctx context.Context, id string) (*Prepared, error) {
	r, history, err := w.recordOf(ctx, id)
	if err == nil {
		err = change.MayResume(history, id)
	}
	if err != nil {
		return nil, err
	}
	src, c, err := w.changerOf(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	return w.prepare(ctx, c, src, &r.Change, r.Done, false)
}

// PrepareUndo puts back what one change took.
func (w *Workspace) PrepareUndo(ctx context.Context, id string) (*Prepared, error) {
	r, history, err := w.recordOf(ctx, id)
	if err == nil {
		err = change.MayUndo(history, r.ID)
	}
	if err != nil {
		return nil, err
	}
	src, c, err := w.changerOf(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	steps, edits, err := change.PlanUndo(ctx, c, r)
	if err != nil {
		return nil, err
	}
	u := &change.Change{ID: change.NextID(history), Source: r.Source, For: r.For, Undoes: r.ID}
	u.Set(steps, edits)
	p, err := w.prepare(ctx, c, src, u, 0, true)
	if err == nil {
		p.Undoes = r
	}
	return p, err
}

// recordOf finds a change of the ledger.
func (w *Workspace) recordOf(ctx context.Context, id string) (*change.Record, []*change.Record, error) {
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, nil, damaged(err)
	}
	r, err := change.Find(history, id)
	return r, history, err
}

func (w *Workspace) changerOf(ctx context.Context, name string) (src config.Source, c source.Changer, err error) {
	if src, err = w.Source(name); err == nil {
		c, err = w.changer(ctx, src)
	}
	return src, c, err
}

// Run carries a prepared change out, and reads the source again. It tells of each step once
// it is done and visible. What it has begun and not finished is in the ledger, to be gone on
// with or taken back.
func (p *Prepared) Run(ctx context.Context, done func(n int, s source.Step)) (*change.Record, error) {
	w, ch := p.w, p.Change
	p.run.Progress = func(n int, s source.Step, ok bool) {
		if ok && done != nil {
			done(n, s)
		}
	}
	start := p.run.Run
	switch {
	case p.ByHand:
		start = p.handOver
	case !p.fresh:
		start = p.run.Resume
	}
	if err := start(ctx, ch); err != nil {
		if ch.ID == "" || errors.Is(err, change.ErrGuard) && p.fresh {
			return nil, damaged(err)
		}
		return nil, fmt.Errorf("%w\nto go on: clipfence apply --resume %s; to take back what was done: clipfence "+
			"undo %s", damaged(err), ch.ID, ch.ID)
	}
	// What was just changed is read again, so that the next question is answered
	// from the source as it is now; of what is handed over nothing is done yet.
	if !p.ByHand {
		if _, err := w.surveyOne(ctx, p.src); err != nil {
			w.say("The change is done, but reading the source again failed; run: clipfence survey (%v)", err)
		}
	}
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, err
	}
	return change.Find(history, ch.ID)
}

// runner carries changes out in a source: one at a time, guarded by what the source says
// just before and just after.
func (w *Workspace) runner(ctx context.Context, c source.Changer, src config.Source) (*change.Runner, error) {
	if _, err := w.trusted(ctx); err != nil { // who is protected counts as it was signed
		return nil, err
	}
	self, err := w.self(ctx, src, c)
	if err != nil {
		return nil, err
	}
	return &change.Runner{Changer: c, Ledger: w.ledger, Wait: time.Duration(w.Wait), Leases: w.store, Holder: holder(),
		Alive: alive,
		Estate: func(ctx context.Context) (*index.Index, error) {
			e, err := w.current(ctx, src)
			if err == nil {
				e, err = w.withSighted(ctx, src, e)
			}
			if err != nil {
				return nil, err
			}
			return index.Build(e)
		}, Protected: w.ProtectedIn(src.Name), Self: self, First: w.writeWayBack(src)}, nil
}

// current reads what a source says about access now, and keeps none of it.
func (w *Workspace) current(ctx context.Context, src config.Source) (*model.Estate, error) {
	r, err := w.reader(ctx, src)
	if err != nil {
		return nil, err
	}
	for range 5 {
		e := &model.Estate{Source: src.Name}
		version, torn := "", false
		for b, err := range r.Survey(ctx, "") {
			if err != nil {
				return nil, err
			}
			if torn = version != "" && b.Version != version; torn {
				break
			}
			version = b.Version
			for _, rec := range b.Records {
				if err := source.Put(e, rec.Kind, rec.Value); err != nil {
					return nil, fmt.Errorf("source %s: %w", src.Name, err)
				}
			}
		}
		if !torn {
			return e, nil
		}
	}
	return nil, fmt.Errorf("source %s: %w five times while it was being read; try again when it is quieter", src.Name,
		source.ErrConflict)
}

// self returns the identities that the tool works as in a source.
func (w *Workspace) self(ctx context.Context, src config.Source, c source.Changer) ([]model.ID, error) {
	changing, err := c.Self(ctx)
	if err != nil {
		return nil, err
	}
	var out []model.ID
	if !changing.IsZero() {
		out = append(out, changing)
	}
	r, err := w.reader(ctx, src)
	if err != nil {
		return nil, err
	}
	if rd, ok := r.(interface {
		Self(context.Context) (model.ID, error)
	}); ok {
		reading, err := rd.Self(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, reading)
	}
	return out, nil
}

// damaged adds what to do to an error of a broken ledger.
func damaged(err error) error {
	if errors.Is(err, ledger.ErrStale) {
		return fmt.Errorf("%w; look again, and decide on what stands now", err)
	}
	if errors.Is(err, ledger.ErrBroken) {
		return fmt.Errorf("%w\nnothing is changed while the history cannot be trusted; put the ledger back from a "+
			"backup, or move the workspace aside and survey into a fresh one", err)
	}
	return err
}
