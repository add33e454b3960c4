package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) applyCmd() *cobra.Command {
	var yes, dry, accept, accepted bool
	var resume, reason string
	var wait, watch, every durationFlag
	stages := 3
	cmd := &cobra.Command{
		Use: "apply FENCE", Short: "Carry a fence out: guard, preview, ask, do, confirm, record",
		Args: cobra.MaximumNArgs(1),
		Long: `Carry a fence out. Guards refuse a protected identity, the last administrator of a
place, the tool's own rights, a stale survey and a failed rehearsal. The change is
shown and confirmed, written to the ledger before anything is touched, made with
what is narrower first, and read back until it is visible. One step undoes it:
clipfence undo. A change of a source that is files is written down for whoever carries
it out, and looked for in the next survey.

With --accepted every draft that was accepted in a review is carried out, in stages: a few
of the safest first, then more. After each stage the log is read until --watch is over; a
call that is refused since, and was allowed before, takes the stage back, and nothing comes
after it. Interrupted, the same command goes on there.`,
		Example: "  clipfence apply workload/ticket-export\n  clipfence apply workload/ticket-export " +
			"--dry-run\n  clipfence apply --resume c-1\n  clipfence apply --accepted --stages 4 --watch 2h",
		ValidArgsFunction: a.completeDraft,
		RunE: func(cmd *cobra.Command, args []string) error {
			said := len(args)
			for _, is := range []bool{resume != "", accepted} {
				if is {
					said++
				}
			}
			if said != 1 {
				return errors.New("say what to apply: a fence file, --accepted, or --resume CHANGE")
			}
			for _, name := range []string{"stages", "watch", "every"} {
				if cmd.Flags().Changed(name) && !accepted {
					return fmt.Errorf("--%s goes with --accepted", name)
				}
			}
			if stages < 1 {
				return fmt.Errorf("--stages: %d is below 1", stages)
			}
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if wait.Duration > 0 {
					w.Wait = wait.Duration
				}
				if accepted {
					if accept {
						return errors.New("--accept-unplaced is for one fence; mend or apply those one by one")
					}
					q := work.StagedRequest{Stages: stages, Watch: time.Duration(watch.Duration),
						Every: time.Duration(every.Duration), Reason: reason}
					return a.applyAccepted(cmd.Context(), w, q, yes, dry)
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
				if len(p.Rehearsal.Goes) > 0 || risk.Touched > 0 { // places may go, too
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
	f.BoolVar(&accepted, "accepted", false, "every draft that was accepted, in stages")
	f.IntVar(&stages, "stages", stages, "of --accepted: in so many stages at most")
	watch.Duration, every.Duration = model.Duration(30*time.Minute), model.Duration(time.Minute)
	f.Var(&watch, "watch", "of --accepted: how long the log is watched after each stage")
	f.Var(&every, "every", "of --accepted: how often it is read meanwhile")
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
	if p.Rehearsal != nil {
		logs, err := a.ofLogs(ctx, w, p.Source)
		if err != nil {
			return err
		}
		d.Lines = append(d.Lines, logs...)
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

type stagesValue struct {
	Source string              `json:"source"`
	OK     bool                `json:"ok" doc:"no stage broke a call"`
	Stages [][]stageRow        `json:"stages"`
	Left   []work.LeftOut      `json:"left"`
	Done   []string            `json:"changes"`
	Broke  []work.RefusedSince `json:"refused,omitempty" doc:"calls that were refused since, and allowed before"`
	Undone []string            `json:"undone_by,omitempty"`
}

type stageRow struct {
	For     model.ID `json:"for"`
	File    string   `json:"file"`
	Removes int      `json:"danger_removed"`
	Expects float64  `json:"expected_to_break"`
}

// applyAccepted carries out what was accepted, in stages.
func (a *app) applyAccepted(ctx context.Context, w *work.Workspace, q work.StagedRequest, yes, dry bool) error {
	p, err := w.PlanStages(ctx, q)
	if err != nil {
		return err
	}
	v := stagesValue{Source: p.Source, OK: true, Stages: [][]stageRow{}, Left: p.Left, Done: []string{}}
	t := render.Table{Columns: []render.Column{{Name: "STAGE", Right: true}, {Name: "FOR"},
		{Name: "REMOVES", Right: true}, {Name: "MAY BREAK", Right: true}, {Name: "FILE", Path: true}}}
	n := 0
	for i, list := range p.List {
		var rows []stageRow
		for _, r := range list {
			n++
			rows = append(rows, stageRow{r.For, r.Name, int(r.Removes + .5), round(r.Expects, 1000)})
			risk := valueOf(r.Risk)
			t.Row(render.C(fmt.Sprint(i+1)), render.C(r.For.String()), render.C(render.Count(int(r.Removes+.5))),
				render.C(mayBreak(&risk)), render.C(r.Name))
		}
		v.Stages = append(v.Stages, rows)
	}
	d := &render.Doc{Value: v}
	for _, l := range p.Left {
		d.Notes = append(d.Notes, "Left: "+l.Name+": "+l.Why)
	}
	stage, of := p.Open()
	if n == 0 && stage == 0 {
		d.Head = "Nothing to carry out: no accepted draft is due"
		d.Next = []string{"clipfence review"}
		return a.print(d)
	}
	d.Head = fmt.Sprintf("%s in %s, the safest first, each watched for %s", render.Plural(n, "draft"),
		render.Plural(len(p.List), "stage"), model.Duration(q.Watch))
	if stage > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("First stage %d of %d goes on, which was interrupted: it stands, and "+
			"is watched to its end.", stage, of))
	}
	if n > 0 {
		logs, err := a.ofLogs(ctx, w, p.Source)
		if err != nil {
			return err
		}
		d.Lines, d.Tables = append(d.Lines, logs...), []render.Table{t}
	}
	machine := a.format.value != "table"
	if dry {
		d.Notes = append(d.Notes, "Dry run: nothing was changed.")
		return a.print(d)
	}
	if !machine {
		if err := a.print(d); err != nil {
			return err
		}
	}
	if err := a.confirm(yes, fmt.Sprintf("Do this in %s?", p.Source)); err != nil {
		return err
	}
	progress := a.progress()
	err = p.Run(ctx, func(e work.StageEvent) {
		if e.Watching == 0 {
			progress("")
		}
		switch {
		case e.Applied != "":
			v.Done = append(v.Done, e.Applied)
			a.say("  stage %d of %d: %s for %s done", e.Stage, e.Of, e.Applied, e.For)
		case e.Left != nil:
			v.Left = append(v.Left, *e.Left)
			a.say("  stage %d of %d: %s is left: %s", e.Stage, e.Of, e.Left.Name, e.Left.Why)
		case e.Broke != nil:
			v.OK, v.Broke = false, e.Broke
			for i, r := range e.Broke {
				if i == 5 {
					a.say("  ... and %d more", len(e.Broke)-i)
					break
				}
				a.say("  stage %d of %d BROKE: %s %s on %s, refused since %s", e.Stage, e.Of, r.Identity,
					r.Permission, r.Path,
					r.Change)
			}
		case e.Undone != "":
			v.Undone = append(v.Undone, e.Undone)
			a.say("  stage %d of %d: %s takes the change for %s back", e.Stage, e.Of, e.Undone, e.For)
		case e.Held:
			a.say("  stage %d of %d held: no call was refused that was allowed before", e.Stage, e.Of)
		case e.Watching > 0:
			progress("  stage %d of %d stands; the log is watched for %s still", e.Stage, e.Of,
				model.Duration(e.Watching.Truncate(time.Second)))
		}
	})
	progress("")
	if err != nil && !errors.Is(err, work.ErrBroke) {
		return err
	}
	if !machine {
		fmt.Fprintln(a.out)
	}
	out := &render.Doc{Value: v}
	if err != nil {
		r := v.Broke[0]
		out.Head = fmt.Sprintf("STOPPED: %s. First refused: %s %s on %s", err, r.Identity, r.Permission, r.Path)
		out.Next = []string{command("clipfence uses %s --denied", r.Identity), "clipfence review list"}
		if perr := a.print(out); perr != nil {
			return perr
		}
		return errCheck
	}
	out.Head = fmt.Sprintf("%s carried out, and no call was refused that was allowed before",
		render.Plural(len(v.Done), "draft"))
	out.Next = []string{"clipfence review list", "clipfence ledger list"}
	return a.print(out)
}
