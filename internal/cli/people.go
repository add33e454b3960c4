package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) usesForget() *cobra.Command {
	var yes bool
	var reason string
	cmd := &cobra.Command{Use: "forget IDENTITY", Short: "Take out everything that one identity did",
		Args: cobra.ExactArgs(1),
		Long: `Take everything that one identity did out of the kept uses of every source, and what was
set aside of its log lines; what of it is read again later is dropped. The ledger tells of
it by a pseudonym. While it is still in the estate it counts as new from then on: its
silence proves nothing, until a window has gone by. It cannot be taken back, but from the
logs themselves.`,
		Example:           "  clipfence uses forget person/ingrid.vaage --reason 'asked for it'",
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			id, err := model.ParseID(args[0])
			if err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if err := a.confirm(yes, fmt.Sprintf("Forget everything that %s did, for good?", id)); err != nil {
					return err
				}
				f, err := w.Forget(cmd.Context(), id, reason)
				if err != nil {
					return err
				}
				d := &render.Doc{Value: f, Head: fmt.Sprintf("Forgotten: %s of %s; the ledger calls it %s",
					render.Plural(int(f.Calls), "call"), id, f.Who)}
				if f.Lives {
					d.Notes = []string{"It is still in the estate, and counts as new from now on: nothing is " +
						"judged by its silence " +
						"until a window has gone by. Drafts of its groups do not know any more what it needed of " +
						"them."}
				}
				return a.print(d)
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	cmd.Flags().StringVar(&reason, "reason", "", "why; kept in the ledger")
	return cmd
}

func (a *app) usesReveal() *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: "reveal PSEUDONYM", Short: "Say whose a pseudonym is", Args: cobra.ExactArgs(1),
		Long: `Say which person a pseudonym stands for, of those whom surveys and logs know. It needs this
workspace's key (.clipfence/people.key), and the ledger tells that somebody asked.`,
		Example: "  clipfence uses reveal p-xk3f9w2mqa7c --reason 'incident 12'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.named("what is revealed"); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				id, err := w.Reveal(cmd.Context(), args[0], reason)
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("%s is %s", args[0], id),
					Value: map[string]string{"pseudonym": args[0], "identity": id.String()}})
			})
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; kept in the ledger")
	return cmd
}
