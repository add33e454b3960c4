package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) ledgerCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "ledger",
		Short: "What was changed, asked and approved, and proof that nobody edited it", Args: cobra.NoArgs,
		Example: "  clipfence ledger list\n  clipfence ledger verify\n  clipfence ledger witness --to " +
			"/mnt/elsewhere/heads.jsonl",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(
		&cobra.Command{Use: "list", Short: "List the changes, newest first", Args: cobra.NoArgs,
			Example: "  clipfence ledger list",
			RunE: func(cmd *cobra.Command, _ []string) error {
				return a.with(cmd.Context(), func(w *work.Workspace) error { return a.ledgerList(cmd.Context(), w) })
			}},
		&cobra.Command{Use: "show NUMBER|CHANGE", Short: "Show one entry, or one change step by step",
			Args: cobra.ExactArgs(1), Example: "  clipfence ledger show c-1",
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.with(cmd.Context(), func(w *work.Workspace) error {
					return a.ledgerShow(cmd.Context(), w,
						args[0])
				})
			}},
		a.ledgerVerify(), a.ledgerWitness(), a.ledgerKey())
	return cmd
}

func (a *app) ledgerVerify() *cobra.Command {
	var files, keys []string
	cmd := &cobra.Command{Use: "verify", Short: "Prove that no entry was edited, removed, moved or added",
		Args: cobra.NoArgs,
		Long: `Prove that no entry was edited, removed, moved or added: each follows the one before
and is signed by a key that this account pinned, or that a person vouched for. What
this cannot show is that an old store and an old ledger were put back together; a
witness shows it: a head that was kept elsewhere (clipfence ledger witness).`,
		Example: "  clipfence ledger verify\n  clipfence ledger verify --witness /mnt/elsewhere/heads.jsonl",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				return a.ledgerVerified(cmd.Context(), w,
					files, keys)
			})
		}}
	cmd.Flags().StringArrayVar(&files, "witness", nil, "file of heads that were kept elsewhere; may be given again")
	cmd.Flags().StringArrayVar(&keys, "ledger-key", nil,
		"public key that signed it, base64, where this account pinned none")
	return cmd
}

func (a *app) ledgerWitness() *cobra.Command {
	var to string
	var with []string
	cmd := &cobra.Command{Use: "witness", Short: "Put the ledger's head elsewhere, for a later verify",
		Args: cobra.NoArgs,
		Long: `Put the ledger's head elsewhere: append it to a file that the workspace's keeper cannot
change later, give it to a command on its standard input, or print it. Kept there, it
shows later whether an old store and ledger were put back together.`,
		Example: "  clipfence ledger witness --to /mnt/elsewhere/heads.jsonl\n  clipfence ledger witness --with " +
			"logger --with=-t --with=clipfence\n  clipfence ledger witness",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if to != "" && len(with) > 0 {
				return errors.New("a head goes to a file (--to) or to a command (--with), one of the two")
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				h, line, err := w.Head(cmd.Context())
				if err != nil {
					return err
				}
				if to == "" && len(with) == 0 {
					_, err := a.out.Write(line)
					return err
				}
				where, err := w.KeepHead(cmd.Context(), line, to, with, a.err)
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("The head, entry %d, is kept: %s", h.Number, where),
					Value: h, Next: []string{"clipfence ledger verify --witness FILE"}})
			})
		}}
	cmd.Flags().StringVar(&to, "to", "", "file to append the head to")
	cmd.Flags().StringArrayVar(&with, "with", nil,
		"command that gets the head on its standard input; its words one by one")
	return cmd
}

func (a *app) ledgerKey() *cobra.Command {
	var key string
	var yes bool
	cmd := &cobra.Command{Use: "key", Short: "Let this account's key sign the ledger too, by a person's word",
		Args: cobra.NoArgs,
		Long: `Entries are signed by a key that each account keeps outside the workspace. The first
account's enrols itself; for any other, and for a key that was lost, one of the people
in clipfence.yaml vouches with their SSH key.`,
		Example: "  clipfence ledger key --key ~/.ssh/id_ed25519",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				enrolled, who, err := w.Enrol(cmd.Context(), key, func(who model.ID) error {
					return a.confirm(yes, "Let this account's key sign the ledger, by the word of "+who.String()+"?")
				})
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("This account's key %s signs the ledger from now on, "+
					"by the word of %s", enrolled, who),
					Value: map[string]string{"key": enrolled, "by": who.String()}})
			})
		}}
	cmd.Flags().StringVar(&key, "key", "", "SSH private key to vouch with (default: the ssh-agent)")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	return cmd
}

func (a *app) ledgerList(ctx context.Context, w *work.Workspace) error {
	entries, history, err := w.History(ctx)
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "CHANGE"}, {Name: "WHEN"}, {Name: "BY"}, {Name: "FOR"},
		{Name: "STEPS", Right: true}, {Name: "STATE"}, {Name: "", Wrap: true}}}
	for i := len(history) - 1; i >= 0; i-- {
		r := history[i]
		note := r.Why
		if r.Widens != "" && note == "" {
			note = "GIVES MORE: " + r.Widens
		}
		if r.Undoes != "" {
			note = "undoes " + r.Undoes
		} else if note == "" {
			if note = r.Fence; note == "" {
				note = r.Reason
			}
		}
		tone := render.Good
		if r.State == work.ChangeFailed || r.State == work.ChangeRunning {
			tone = render.Bad
		}
		t.Row(render.C(r.ID), render.C(r.At.Format("2006-01-02 15:04:05")), render.C(r.By), render.C(r.For.String()),
			render.C(fmt.Sprintf("%d/%d", r.Done, len(r.Steps))), render.Cell{Text: r.State, Tone: tone},
			render.C(note))
	}
	d := &render.Doc{Head: fmt.Sprintf("%s, %s in the ledger", render.Plural(len(history), "change"),
		render.Plural(len(entries), "entry")), Value: history}
	if len(history) > 0 {
		d.Tables = []render.Table{t}
		d.Next = []string{"clipfence ledger show " + history[len(history)-1].ID}
	}
	if gates := work.AboutGates(entries); gates > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s about gates; see: clipfence gate list --all",
			render.Plural(gates, "entry")))
	}
	return a.print(d)
}

func (a *app) ledgerShow(ctx context.Context, w *work.Workspace, what string) error {
	entries, history, err := w.History(ctx)
	if err != nil {
		return err
	}
	var n int
	if _, err := fmt.Sscanf(what, "%d", &n); err == nil {
		if n < 1 || n > len(entries) {
			return fmt.Errorf("the ledger has entries 1 to %d", len(entries))
		}
		e := entries[n-1]
		d := &render.Doc{Head: fmt.Sprintf("Entry %d: %s, %s by %s", e.Number, e.Kind, e.At.Format(time.RFC3339),
			e.By), Value: e}
		d.Lines = []string{"hash " + e.Hash, "body " + string(e.Body)}
		return a.print(d)
	}
	r, err := work.FindChange(history, what)
	if err != nil {
		return err
	}
	d := &render.Doc{Head: fmt.Sprintf("Change %s%s: %s", r.ID, forWhom(r.For), r.State), Value: r}
	if r.Why != "" {
		d.Lines = append(d.Lines, r.Why)
	}
	t := render.Table{Columns: []render.Column{{Name: "STEP", Right: true}, {Name: "DONE"}, {Name: "WHAT"},
		{Name: "DOCUMENT", Wrap: true}}}
	for i, s := range r.Steps {
		t.Row(render.C(fmt.Sprint(i+1)), render.C(yesNo(i < r.Done)), render.C(work.Say(s)), render.C(document(s)))
	}
	d.Tables = []render.Table{t}
	switch {
	case r.State == work.ChangeDone && r.Undoes == "":
		d.Next = []string{"clipfence undo " + r.ID}
	case r.State == work.ChangeFailed || r.State == work.ChangeRunning:
		d.Next = []string{"clipfence apply --resume " + r.ID, "clipfence undo " + r.ID}
	}
	return a.print(d)
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

func (a *app) ledgerVerified(ctx context.Context, w *work.Workspace, files, keys []string) error {
	v, err := w.Verify(ctx, files, keys)
	if err != nil {
		return err
	}
	d := &render.Doc{Head: fmt.Sprintf("The ledger is whole: %s, each follows the one before",
		render.Plural(v.Entries, "entry"))}
	switch {
	case v.Entries == 0:
	case len(v.Keys) == 0:
		d.Lines = append(d.Lines, "No entry is signed: an earlier version wrote them. The next one will be.")
	case v.Pinned:
		d.Lines = append(d.Lines,
			fmt.Sprintf("Proven: no entry was edited, removed or added by anybody without the key %s.", v.Keys[0]))
	default:
		d.Lines = append(d.Lines,
			fmt.Sprintf("It is signed by %s, which this account did not pin: compare it with whoever keeps the "+
				"workspace (--ledger-key).", v.Keys[0]))
	}
	if len(v.Keys) > 1 {
		d.Lines = append(d.Lines, fmt.Sprintf("Or without one of %s, each vouched for by a person.",
			render.Plural(len(v.Keys)-1, "more key")))
	}
	if v.Unsigned > 0 && len(v.Keys) > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("The first %s are not signed: an earlier version wrote them.",
			render.Plural(v.Unsigned, "entry")))
	}
	if v.Witnessed > 0 {
		d.Lines = append(d.Lines,
			fmt.Sprintf("%s kept elsewhere agree: nothing up to the newest of them was put back.",
				render.Plural(v.Witnessed, "head")))
	} else if v.Entries > 0 {
		d.Lines = append(d.Lines,
			"Not proven: that no old store and ledger were put back together. Only a head kept elsewhere shows that.")
		d.Next = []string{"clipfence ledger witness --to FILE"}
	}
	if v.Entries > 0 {
		d.Lines = append(d.Lines, "Its head is "+v.Head+".")
	}
	d.Value = v
	return a.print(d)
}
