package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) applyCmd() *cobra.Command {
	var yes, dry, accept bool
	var resume, reason string
	var wait durationFlag
	cmd := &cobra.Command{
		Use: "apply FENCE", Short: "Carry a fence out: guard, preview, ask, do, confirm, record",
		Args: cobra.MaximumNArgs(1),
		Long: `Carry a fence out. Guards refuse a protected identity, the last administrator of a
place, the tool's own rights, a stale survey and a failed rehearsal. The change is
shown and confirmed, written to the ledger before anything is touched, made with
what is narrower first, and read back until it is visible. One step undoes it:
clipfence undo. A change of a source that is files is written down for whoever carries
it out, and looked for in the next survey.`,
		Example: "  clipfence apply workload/ticket-export\n  clipfence apply workload/ticket-export " +
			"--dry-run\n  clipfence apply --resume c-1",
		ValidArgsFunction: a.completeDraft,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 1) == (resume != "") {
				return errors.New("say what to apply: a fence file, or --resume CHANGE")
			}
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if wait.Duration > 0 {
					w.Wait = wait.Duration
				}
				if resume != "" {
					p, err := w.PrepareResume(cmd.Context(), resume)
					if err != nil {
						return err
					}
					return a.carryOut(cmd.Context(), w, p,
						fmt.Sprintf("%s goes on at step %d of %d", resume, p.From+1, len(p.Change.Steps)), yes, dry)
				}
				p, err := w.PrepareApply(cmd.Context(), args[0], reason, accept)
				if err != nil {
					return err
				}
				head := fmt.Sprintf("%s: %s for %s, danger held %s", p.Change.ID,
					render.Plural(len(p.Change.Steps), "step"), p.Change.For,
					arrow(int(p.Rehearsal.Before+0.5), int(p.Rehearsal.After+0.5)))
				risk := valueOf(p.Risk)
				if len(p.Rehearsal.Goes) > 0 {
					head += "; risk: " + risk.words()
				}
				return a.carryOut(cmd.Context(), w, p, head, yes, dry)
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

func (a *app) undoCmd() *cobra.Command {
	var yes, dry bool
	cmd := &cobra.Command{
		Use: "undo CHANGE", Short: "Put back what one change took", Args: cobra.ExactArgs(1),
		Long: "Put every document that a change replaced back as it was, last step first. Also a change that " +
			"failed half-way can be undone. A document that somebody changed since is not overwritten.",
		Example: "  clipfence undo c-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				p, err := w.PrepareUndo(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				head := fmt.Sprintf("%s takes %s back: %s%s", p.Change.ID, p.Change.Undoes,
					render.Plural(len(p.Change.Steps), "step"), forWhom(p.Undoes.For))
				return a.carryOut(cmd.Context(), w, p, head, yes, dry)
			})
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "preview only")
	return cmd
}

// carryOut shows a change, asks, runs it and tells.
func (a *app) carryOut(ctx context.Context, w *work.Workspace, p *work.Prepared, head string, yes, dry bool) error {
	t := render.Table{Columns: []render.Column{{Name: "STEP", Right: true}, {Name: "WHAT"},
		{Name: "DOCUMENT", Wrap: true}}}
	for i, s := range p.Change.Steps {
		if i < p.From {
			continue
		}
		tone := render.Good
		if s.After == nil {
			tone = render.Bad
		}
		t.Row(render.C(fmt.Sprint(i+1)), render.Cell{Text: work.Say(s), Tone: tone}, render.C(document(s)))
	}
	d := &render.Doc{Head: head, Tables: []render.Table{t}, Value: p.Change}
	more := p.Rehearsal != nil && len(p.Rehearsal.Gives) > 0
	if more {
		r := p.Rehearsal
		d.Head = "GIVES MORE: " + head
		d.Lines = []string{"Why: " + p.Change.Widens, "May do then and not before: " + gainWords(gainRows(r))}
		if r.ReachAfter.Danger > r.ReachBefore.Danger+.5 && r.ReachAfter.Further(r.After) {
			d.Lines = append(d.Lines, "WITHIN REACH THEN IS MORE THAN IT HOLDS: danger "+
				arrow(int(r.ReachBefore.Danger+.5), int(r.ReachAfter.Danger+.5)))
		}
	}
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
	question := fmt.Sprintf("Do this in %s?", p.Source)
	if p.ByHand {
		question = fmt.Sprintf("Write this down for whoever keeps the files of %s?", p.Source)
	}
	if more {
		question = "This gives more access than there is. " + question
	}
	if err := a.confirm(yes, question); err != nil {
		return err
	}
	rec, err := p.Run(ctx, func(n int, s work.Step) {
		a.say("  %d of %d done, and visible: %s", n+1, len(p.Change.Steps), work.Say(s))
	})
	if err != nil {
		return err
	}
	if !machine {
		fmt.Fprintln(a.out)
	}
	out := &render.Doc{Head: fmt.Sprintf("%s done: %s, each seen in %s", rec.ID, render.Plural(len(rec.Steps), "step"),
		p.Source), Value: rec, Next: []string{"clipfence undo " + rec.ID}}
	if !p.ByHand && p.From == 0 {
		out.Notes = []string{"Without this program it is taken back by: " + w.Relative(p.WayBack())}
	}
	if p.ByHand {
		out.Head = fmt.Sprintf("%s handed over, nothing is changed yet: %s says what to do in %s", rec.ID,
			w.Relative(w.PatchFile(rec.ID)), render.Plural(len(rec.Steps), "step"))
		out.Notes = []string{"When it was carried out, the next survey of " + p.Source +
			" sees it and says so. To let this tool edit the estate file itself: changes: edit, at the source in " +
			"clipfence.yaml."}
		out.Next = []string{"clipfence survey"}
		return a.print(out)
	}
	if rec.Undoes != "" {
		out.Head = fmt.Sprintf("%s done: %s is taken back, %s is as it was", rec.ID, rec.Undoes, p.Source)
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
func document(s work.Step) string {
	switch {
	case s.Before == nil:
		return compact(s.After)
	case s.After == nil:
		return compact(s.Before)
	}
	return strings.Join(differences(s.Before, s.After), "; ")
}
