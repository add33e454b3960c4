package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) trustCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "trust",
		Short: "Whose word counts: pin trustees outside the workspace, sign people, gates, protected",
		Args:  cobra.NoArgs,
		Long: `Whoever can write a workspace could name their own key under people, widen a gate,
or take an identity off the protected ones. So these count only when a trustee signed
them, once one is pinned: by the fingerprint of an SSH key, in a folder of your own
account (CLIPFENCE_HOME, or clipfence in the account's folder for configurations),
which the workspace cannot reach. It is checked when somebody asks, approves or opens.

Without a trustee nothing of this is checked, and every answer that rests on approvals
says so.`,
		Example: "  clipfence trust pin ~/.ssh/id_ed25519.pub\n  clipfence trust sign --key ~/.ssh/id_ed25519\n  " +
			"clipfence trust show",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	var key string
	var yes bool
	sign := &cobra.Command{Use: "sign", Short: "Sign people, gates and protected identities as they stand",
		Args: cobra.NoArgs, Example: "  clipfence trust sign --key ~/.ssh/id_ed25519",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				return a.trustSign(cmd.Context(), w, key,
					yes)
			})
		}}
	sign.Flags().StringVar(&key, "key", "", "SSH private key to sign with (default: the ssh-agent)")
	sign.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	forget := &cobra.Command{Use: "forget", Short: "Forget everything pinned for this workspace's folder",
		Args: cobra.NoArgs, Example: "  clipfence trust forget --yes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				folder, err := w.ForgetTrust(func(folder string) error {
					return a.confirm(yes, "Forget the trustees and the ledger's key of "+folder+"?")
				})
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: "Nothing is pinned for " + folder + " any more",
					Value: map[string]any{"folder": folder, "trustees": []string{}}})
			})
		}}
	forget.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	cmd.AddCommand(
		&cobra.Command{Use: "show", Short: "Show who is pinned, and whether what stands is what was signed",
			Args: cobra.NoArgs, Example: "  clipfence trust show",
			RunE: func(cmd *cobra.Command, _ []string) error {
				return a.with(cmd.Context(), func(w *work.Workspace) error { return a.trustShow(cmd.Context(), w) })
			}},
		&cobra.Command{Use: "pin KEY", Short: "Pin a trustee on this account: a public key file, or a fingerprint",
			Args: cobra.ExactArgs(1),
			Example: "  clipfence trust pin ~/.ssh/id_ed25519.pub\n  clipfence trust pin " +
				"SHA256:nThbg6kXUpJWGl7E1IGOCspRomTxdCARLviKw6E5SY8",
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.with(cmd.Context(), func(w *work.Workspace) error {
					return a.trustPin(cmd.Context(), w,
						args[0], true)
				})
			}},
		&cobra.Command{Use: "unpin KEY", Short: "Take a trustee's pin away", Args: cobra.ExactArgs(1),
			Example: "  clipfence trust unpin SHA256:nThbg6kXUpJWGl7E1IGOCspRomTxdCARLviKw6E5SY8",
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.with(cmd.Context(), func(w *work.Workspace) error {
					return a.trustPin(cmd.Context(), w,
						args[0], false)
				})
			}},
		sign, forget)
	return cmd
}

func (a *app) trustShow(ctx context.Context, w *work.Workspace) error {
	st, err := w.Trust(ctx)
	if err != nil {
		return err
	}
	p, now, bad := st.Pins, st.Now, st.Bad
	head := fmt.Sprintf("People, gates and protected identities are as a trustee signed them: %s, %s, %d protected",
		peopleWords(len(now.People)), render.Plural(len(now.Gates), "gate"), len(now.Protected))
	switch {
	case st.Unpinned:
		head = "Nothing of this workspace is vouched for: no trustee is pinned on this account"
	case bad != nil:
		head = upper(bad.Error())
	}
	d := &render.Doc{Head: head, Value: map[string]any{"folder": p.Folder,
		"trustees": append([]string{}, p.Trustees...), "ledger_keys": append([]string{}, p.Ledger...),
		"holds": !st.Unpinned && bad == nil, "says": now}}
	t := render.Table{Title: "As it stands", Columns: []render.Column{{Name: "WHAT"}, {Name: "", Wrap: true}}}
	for _, person := range now.People {
		t.Row(render.C("person"), render.C(person.ID+": "+strings.Join(work.Prints(person.Keys), ", ")))
	}
	for _, g := range sortedKeys(now.Gates) {
		t.Row(render.C("gate"), render.C(g+": SHA-256 "+now.Gates[g]))
	}
	for _, id := range now.Protected {
		t.Row(render.C("protected"), render.C(id))
	}
	d.Tables = []render.Table{t}
	for _, f := range p.Trustees {
		d.Notes = append(d.Notes, "Trustee "+f+" is pinned on this account.")
	}
	switch {
	case len(p.Trustees) == 0:
		d.Next = []string{"clipfence trust pin ~/.ssh/id_ed25519.pub"}
	case bad != nil:
		d.Next = []string{"clipfence trust sign"}
	}
	if err := a.print(d); err != nil {
		return err
	}
	if bad != nil {
		return errCheck
	}
	return nil
}

func peopleWords(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

func sortedKeys(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (a *app) trustPin(ctx context.Context, w *work.Workspace, key string, add bool) error {
	out, err := w.Pin(ctx, key, add)
	if err != nil {
		return err
	}
	head := "Trustee " + out.Fingerprint + " is no longer pinned"
	switch {
	case out.Already:
		head = "Trustee " + out.Fingerprint + " was pinned already"
	case add:
		head = "Trustee " + out.Fingerprint + " is pinned on this account for " + out.Pins.Folder
	}
	d := &render.Doc{Head: head, Value: out.Pins}
	if out.Bad != nil {
		d.Notes, d.Next = []string{upper(out.Bad.Error())}, []string{"clipfence trust sign"}
	}
	return a.print(d)
}

func (a *app) trustSign(ctx context.Context, w *work.Workspace, file string, yes bool) error {
	signed, err := w.SignTrust(ctx, file, func(by string, now work.TrustContent, since []string) error {
		a.say("People: %d; protected: %d; gates: %s", len(now.People), len(now.Protected),
			strings.Join(sortedKeys(now.Gates), ", "))
		for _, person := range now.People {
			a.say("  %s signs with %s", person.ID, strings.Join(work.Prints(person.Keys), ", "))
		}
		for _, d := range since {
			a.say("  since the last signature: %s", d)
		}
		return a.confirm(yes, "Sign this as "+by+"?")
	})
	if err != nil {
		return err
	}
	d := &render.Doc{Head: "Signed by " + signed.By + ": " + work.TrustFile, Value: signed.Signature}
	if !signed.Pinned {
		d.Notes = []string{"This key is not pinned on this account, so here it counts for nothing yet."}
		d.Next = []string{command("clipfence trust pin %s", signed.By)}
	}
	return a.print(d)
}
