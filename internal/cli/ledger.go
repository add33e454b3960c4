package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/change"
	"clipfence/internal/ledger"
	"clipfence/internal/render"
)

func (a *app) ledgerCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "ledger", Short: "What was changed, asked and approved, and proof that nobody edited it", Args: cobra.NoArgs,
		Example: "  clipfence ledger list\n  clipfence ledger verify",
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(
		&cobra.Command{Use: "list", Short: "List the changes, newest first", Args: cobra.NoArgs, Example: "  clipfence ledger list",
			RunE: func(cmd *cobra.Command, _ []string) error {
				return a.with(cmd.Context(), func(w *workspace) error { return w.ledgerList(cmd) })
			}},
		&cobra.Command{Use: "show NUMBER|CHANGE", Short: "Show one entry, or one change step by step", Args: cobra.ExactArgs(1), Example: "  clipfence ledger show c-1",
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.with(cmd.Context(), func(w *workspace) error { return w.ledgerShow(cmd, args[0]) })
			}},
		&cobra.Command{Use: "verify", Short: "Prove that no entry was edited, removed or moved", Args: cobra.NoArgs, Example: "  clipfence ledger verify",
			RunE: func(cmd *cobra.Command, _ []string) error {
				return a.with(cmd.Context(), func(w *workspace) error {
					entries, err := w.ledger.Read(cmd.Context())
					if err != nil {
						return fmt.Errorf("%w\n%d entries before that place are whole; the file is %s", err, len(entries), w.LedgerFile())
					}
					d := &render.Doc{Head: fmt.Sprintf("The ledger is whole: %d entries, each follows the one before", len(entries)), Value: map[string]any{"entries": len(entries), "whole": true}}
					if len(entries) > 0 {
						d.Lines = []string{"Its head is " + entries[len(entries)-1].Hash + "; whoever keeps that hash elsewhere can prove it later."}
					}
					return a.print(d)
				})
			}})
	return cmd
}

func (w *workspace) ledgerList(cmd *cobra.Command) error {
	entries, history, err := w.history(cmd.Context())
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "CHANGE"}, {Name: "WHEN"}, {Name: "BY"}, {Name: "FOR"}, {Name: "STEPS", Right: true}, {Name: "STATE"}, {Name: "", Wrap: true}}}
	for i := len(history) - 1; i >= 0; i-- {
		r := history[i]
		note := r.Why
		if r.Undoes != "" {
			note = "undoes " + r.Undoes
		} else if note == "" {
			if note = r.Fence; note == "" {
				note = r.Reason
			}
		}
		tone := render.Good
		if r.State == change.StateFailed || r.State == change.StateRunning {
			tone = render.Bad
		}
		t.Row(render.C(r.ID), render.C(r.At.Format("2006-01-02 15:04:05")), render.C(r.By), render.C(r.For.String()), render.C(fmt.Sprintf("%d/%d", r.Done, len(r.Steps))), render.Cell{Text: r.State, Tone: tone}, render.C(note))
	}
	d := &render.Doc{Head: fmt.Sprintf("%s, %s in the ledger", render.Plural(len(history), "change"), render.Plural(len(entries), "entry")), Value: history}
	if len(history) > 0 {
		d.Tables = []render.Table{t}
		d.Next = []string{"clipfence ledger show " + history[len(history)-1].ID}
	}
	if gates := ledger.ByKind(entries, "gate."); len(gates) > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s about gates; see: clipfence gate list --all", render.Plural(len(gates), "entry")))
	}
	return w.app.print(d)
}

func (w *workspace) ledgerShow(cmd *cobra.Command, what string) error {
	entries, history, err := w.history(cmd.Context())
	if err != nil {
		return err
	}
	var n int
	if _, err := fmt.Sscanf(what, "%d", &n); err == nil {
		if n < 1 || n > len(entries) {
			return fmt.Errorf("the ledger has entries 1 to %d", len(entries))
		}
		e := entries[n-1]
		d := &render.Doc{Head: fmt.Sprintf("Entry %d: %s, %s by %s", e.Number, e.Kind, e.At.Format(time.RFC3339), e.By), Value: e}
		d.Lines = []string{"hash " + e.Hash, "body " + string(e.Body)}
		return w.app.print(d)
	}
	r, err := change.Find(history, what)
	if err != nil {
		return err
	}
	d := &render.Doc{Head: fmt.Sprintf("Change %s%s: %s", r.ID, forWhom(r.For), r.State), Value: r}
	if r.Why != "" {
		d.Lines = append(d.Lines, r.Why)
	}
	t := render.Table{Columns: []render.Column{{Name: "STEP", Right: true}, {Name: "DONE"}, {Name: "WHAT"}, {Name: "DOCUMENT", Wrap: true}}}
	for i, s := range r.Steps {
		t.Row(render.C(fmt.Sprint(i+1)), render.C(yesNo(i < r.Done)), render.C(change.Say(s)), render.C(document(s)))
	}
	d.Tables = []render.Table{t}
	switch {
	case r.State == change.StateDone && r.Undoes == "":
		d.Next = []string{"clipfence undo " + r.ID}
	case r.State == change.StateFailed || r.State == change.StateRunning:
		d.Next = []string{"clipfence apply --resume " + r.ID, "clipfence undo " + r.ID}
	}
	return w.app.print(d)
}

func compact(doc json.RawMessage) string {
	var v map[string]any
	if err := json.Unmarshal(doc, &v); err != nil {
		return string(doc)
	}
	for _, k := range []string{"id", "created", "side", "title"} {
		delete(v, k)
	}
	b, err := json.Marshal(v)
	if err != nil {
		return string(doc)
	}
	return string(b)
}

// damaged adds what to do to an error of a broken ledger.
func damaged(err error) error {
	if errors.Is(err, ledger.ErrBroken) {
		return fmt.Errorf("%w\nnothing is changed while the history cannot be trusted; put the ledger back from a backup, or move the workspace aside and survey into a fresh one", err)
	}
	return err
}
