package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/source"
)

func (a *app) applyCmd() *cobra.Command {
	var yes, dry, accept bool
	var resume, reason string
	var wait durationFlag
	cmd := &cobra.Command{
		Use: "apply FENCE", Short: "Carry a fence out: guard, preview, ask, do, confirm, record", Args: cobra.MaximumNArgs(1),
		Long: `Carry a fence out. Guards refuse a protected identity, the last administrator of a
place, the tool's own rights, a stale survey and a failed rehearsal. The change is
shown and confirmed, written to the ledger before anything is touched, made with
what is narrower first, and read back until it is visible. One step undoes it:
clipfence undo.`,
		Example:           "  clipfence apply workload/ticket-export\n  clipfence apply workload/ticket-export --dry-run\n  clipfence apply --resume c-1",
		ValidArgsFunction: a.completeDraft,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 1) == (resume != "") {
				return errors.New("say what to apply: a fence file, or --resume CHANGE")
			}
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				if wait.Duration > 0 {
					w.Wait = wait.Duration
				}
				if resume != "" {
					return w.resume(cmd, resume, yes, dry)
				}
				return w.apply(cmd, args[0], reason, yes, dry, accept)
			})
		},
	}
	f := cmd.Flags()
	f.BoolVar(&yes, "yes", false, "do it without being asked")
	f.BoolVar(&dry, "dry-run", false, "guard and preview only")
	f.BoolVar(&accept, "accept-unplaced", false, acceptUsage)
	f.StringVar(&resume, "resume", "", "go on with a change that was interrupted or failed")
	f.StringVar(&reason, "reason", "", "why; kept in the ledger")
	f.Var(&wait, "wait", "how long to wait until a step is visible (default: wait of clipfence.yaml)")
	return cmd
}

func (w *workspace) apply(cmd *cobra.Command, arg, reason string, yes, dry, accept bool) error {
	ctx := cmd.Context()
	_, history, err := w.history(ctx)
	if err != nil {
		return damaged(err)
	}
	name, f, s, err := w.readFence(cmd, arg)
	if err != nil {
		return err
	}
	c, err := w.changer(ctx, s.Source)
	if err != nil {
		return err
	}
	r, err := w.rehearse(cmd, f, s, accept)
	if err != nil {
		return err
	}
	self, err := w.self(ctx, s.Source, c)
	if err != nil {
		return err
	}
	in := change.GuardInput{Engine: s.engine, Fence: f, Rehearsal: r, Protected: w.ProtectedIn(s.Name), Self: self, Surveyed: s.survey.Finished, MaxAge: time.Duration(w.MaxAge), Now: w.app.clock().UTC()}
	if why := change.Guards(in); len(why) > 0 {
		return fmt.Errorf("%w: nothing was changed\n%s", change.ErrGuard, strings.Join(why, "\n"))
	}
	steps, err := change.Plan(ctx, c, s.engine, f, w.app.clock())
	if err != nil {
		return err
	}
	ch := &change.Change{ID: change.NextID(history), Source: s.Name, For: f.For, Fence: w.relative(name), Reason: reason, Steps: steps}
	for _, u := range r.Unplaced {
		ch.Unplaced += u.Use.Count
	}
	head := fmt.Sprintf("%s: %s for %s, danger %d -> %d", ch.ID, render.Plural(len(steps), "step"), f.For, int(r.Before+0.5), int(r.After+0.5))
	return w.carryOut(ctx, c, s.Source, ch, fresh, head, yes, dry)
}

// self returns the identities that the tool works as in a source.
func (w *workspace) self(ctx context.Context, src config.Source, c source.Changer) ([]model.ID, error) {
	changing, err := c.Self(ctx)
	if err != nil {
		return nil, err
	}
	out := []model.ID{changing}
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

// fresh is the place to start from of a change that the ledger does not know yet.
const fresh = -1

// carryOut previews, asks, runs and tells. It starts after so many steps of a
// change that is resumed, or [fresh].
func (w *workspace) carryOut(ctx context.Context, c source.Changer, src config.Source, ch *change.Change, from int, head string, yes, dry bool) error {
	a := w.app
	t := render.Table{Columns: []render.Column{{Name: "STEP", Right: true}, {Name: "WHAT"}, {Name: "DOCUMENT", Wrap: true}}}
	for i, s := range ch.Steps {
		if i < from {
			continue
		}
		tone := render.Good
		if s.After == nil {
			tone = render.Bad
		}
		t.Row(render.C(fmt.Sprint(i+1)), render.Cell{Text: change.Say(s), Tone: tone}, render.C(document(s)))
	}
	d := &render.Doc{Head: head, Tables: []render.Table{t}, Value: ch}
	if dry {
		d.Notes = []string{"Dry run: the guards let it pass; nothing was changed."}
		return a.print(d)
	}
	machine := a.format.value != "table"
	if !machine { // the preview is for people; programs get one answer, at the end
		if err := a.print(d); err != nil {
			return err
		}
	}
	if err := a.confirm(yes, fmt.Sprintf("Do this in %s?", src.Name)); err != nil {
		return err
	}
	run := &change.Runner{Changer: c, Ledger: w.ledger, Wait: time.Duration(w.Wait), Progress: func(n int, s source.Step, done bool) {
		if done {
			a.say("  %d of %d done, and visible: %s", n+1, len(ch.Steps), change.Say(s))
		}
	}}
	start := run.Run
	if from >= 0 {
		start = func(ctx context.Context, c *change.Change) error { return run.Resume(ctx, c, from) }
	}
	if err := start(ctx, ch); err != nil {
		return fmt.Errorf("%w\nto go on: clipfence apply --resume %s; to take back what was done: clipfence undo %s", damaged(err), ch.ID, ch.ID)
	}
	// What was just changed is read again, so that the next question is answered
	// from the source as it is now.
	if _, err := w.surveyOne(ctx, src); err != nil {
		a.say("The change is done, but reading the source again failed; run: clipfence survey (%v)", err)
	}
	_, history, err := w.history(ctx)
	if err != nil {
		return err
	}
	rec, err := change.Find(history, ch.ID)
	if err != nil {
		return err
	}
	if !machine {
		fmt.Fprintln(a.out)
	}
	out := &render.Doc{Head: fmt.Sprintf("%s done: %s, each seen in %s", ch.ID, render.Plural(len(ch.Steps), "step"), src.Name), Value: rec, Next: []string{"clipfence undo " + ch.ID}}
	if ch.Undoes != "" {
		out.Head = fmt.Sprintf("%s done: %s is taken back, %s is as it was", ch.ID, ch.Undoes, src.Name)
		out.Next = []string{"clipfence ledger list"}
	}
	return a.print(out)
}

// forWhom says for whom a change is, where it is for somebody.
func forWhom(id model.ID) string {
	if id.IsZero() {
		return ""
	}
	return " for " + id.String()
}

// document says what a step writes: for a change only what differs.
func document(s source.Step) string {
	switch {
	case s.Before == nil:
		return compact(s.After)
	case s.After == nil:
		return compact(s.Before)
	}
	return strings.Join(differences(s.Before, s.After), "; ")
}

func (w *workspace) resume(cmd *cobra.Command, id string, yes, dry bool) error {
	ctx := cmd.Context()
	_, history, err := w.history(ctx)
	if err != nil {
		return damaged(err)
	}
	r, err := change.Find(history, id)
	if err != nil {
		return err
	}
	if r.State != change.StateFailed && r.State != change.StateRunning {
		return fmt.Errorf("%w: change %s is %s; there is nothing to resume", change.ErrGuard, id, r.State)
	}
	src, err := w.Source(r.Source)
	if err != nil {
		return err
	}
	c, err := w.changer(ctx, src)
	if err != nil {
		return err
	}
	head := fmt.Sprintf("%s goes on at step %d of %d", id, r.Done+1, len(r.Steps))
	return w.carryOut(ctx, c, src, &r.Change, r.Done, head, yes, dry)
}

func (a *app) undoCmd() *cobra.Command {
	var yes, dry bool
	cmd := &cobra.Command{
		Use: "undo CHANGE", Short: "Put back what one change took", Args: cobra.ExactArgs(1),
		Long:    "Put every document that a change replaced back as it was, last step first. Also a change that failed half-way can be undone. A document that somebody changed since is not overwritten.",
		Example: "  clipfence undo c-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				ctx := cmd.Context()
				_, history, err := w.history(ctx)
				if err != nil {
					return damaged(err)
				}
				r, err := change.Find(history, args[0])
				if err != nil {
					return err
				}
				if r.State == change.StateUndone {
					return fmt.Errorf("%w: change %s is undone already", change.ErrGuard, r.ID)
				}
				src, err := w.Source(r.Source)
				if err != nil {
					return err
				}
				c, err := w.changer(ctx, src)
				if err != nil {
					return err
				}
				u := r.Change.Undo(change.NextID(history))
				return w.carryOut(ctx, c, src, u, fresh, fmt.Sprintf("%s takes %s back: %s%s", u.ID, r.ID, render.Plural(len(u.Steps), "step"), forWhom(r.For)), yes, dry)
			})
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "preview only")
	return cmd
}
