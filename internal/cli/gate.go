package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) gateCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "gate", Short: "Time-limited elevation: ask, approve, open, close", Args: cobra.NoArgs,
		Long: `Time-limited elevation. A gate file (gates/NAME.gate.yaml) says who may ask for
what, for how long at most, and who approves. Who asks and who approves is proven
by an SSH key that clipfence.yaml lists under people: from the ssh-agent, or from
the file named with --key.`,
		Example: "  clipfence gate ask ticketing-admin --for 30m --reason 'refund run is stuck'\n  clipfence gate " +
			"approve q-1a2b3c\n  clipfence gate open q-1a2b3c",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.gateList(), a.gateAsk(), a.gateAnswer(true), a.gateAnswer(false), a.gateOpen(), a.gateClose(),
		a.gateRun())
	return cmd
}

// asks is what a request opens, for people: exactly what is signed, and what of it weighs
// most first.
func asks(r *work.Request, gives []model.Permission) (lines []string, t render.Table) {
	g := r.Grant()
	t = render.Table{Columns: []render.Column{{Name: "OPENS"}, {Name: "", Wrap: true}}}
	nouns, verbs := []string{}, map[string][]string{}
	for _, p := range r.Rights {
		noun, verb, _ := strings.Cut(p.String(), ":")
		if verbs[noun] == nil {
			nouns = append(nouns, noun)
		}
		verbs[noun] = append(verbs[noun], verb)
	}
	for _, n := range nouns {
		t.Row(render.C(n), render.C(strings.Join(verbs[n], ", ")))
	}
	role := ""
	if r.Role != "" {
		role = fmt.Sprintf(", which is what role %s holds now", r.Role)
	}
	lines = []string{
		fmt.Sprintf("%s asked at %s, for %s: %q", r.By, r.AskedAt.Format(time.RFC3339), r.Stay, r.Reason),
		fmt.Sprintf("It gives %s %s on %s%s.", g.To, render.Plural(len(r.Rights), "permission"), places(g.Where),
			role),
		fmt.Sprintf("Gate %s, its file %.12s…; source %s, which is %s; workspace %.12s….", r.Gate, r.Digest, r.Source,
			r.Peer, r.Workspace),
	}
	if len(gives) > 0 {
		lines = append(lines[:2],
			append([]string{fmt.Sprintf("Of these %d can give their holder, or others, more than this: %s", len(gives),
				first(gives, 6))}, lines[2:]...)...)
	}
	if !g.When.IsZero() {
		lines = append(lines, "It holds only "+g.When.String())
	}
	for _, a := range r.Answers {
		verb := "approved"
		if !a.Yes {
			verb = "refused"
		}
		lines = append(lines, fmt.Sprintf("%s %s it at %s", a.By, verb, a.At.Format(time.RFC3339)))
	}
	return lines, t
}

func (a *app) gateList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List the gates, and who asked for what", Args: cobra.NoArgs,
		Example: "  clipfence gate list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				gs, err := w.Gates(cmd.Context())
				if err != nil {
					return err
				}
				ps, rs, unread := gs.Policies, gs.Requests, gs.Unread
				g := render.Table{Title: "Gates", Columns: []render.Column{{Name: "GATE"}, {Name: "OPENS"},
					{Name: "WHERE", Path: true}, {Name: "LONGEST"}, {Name: "APPROVALS", Right: true},
					{Name: "MAY ASK", Wrap: true}}}
				for _, p := range ps {
					g.Row(render.C(p.Name), render.C(opensWords(p)), render.C(places(p.Opens.Where)),
						render.C(p.Longest.String()), render.C(fmt.Sprint(p.Need())), render.C(first(p.MayAsk, 3)))
				}
				t := render.Table{Title: "Requests",
					Columns: []render.Column{{Name: "REQUEST"}, {Name: "GATE"}, {Name: "BY"}, {Name: "STAY"},
						{Name: "STATE"}, {Name: "UNTIL"}, {Name: "REASON", Wrap: true}}}
				kept := []*work.Request{}
				open := 0
				for _, r := range slices.Backward(rs) {
					if r.State.Ended() && !all {
						continue
					}
					kept = append(kept, r)
					until, tone := "", render.Plain
					if !r.Until.IsZero() {
						until = r.Until.Format("2006-01-02 15:04:05")
					}
					if due, _ := r.Due(a.now()); due {
						until, tone = until+" OVERDUE", render.Bad
					}
					if !r.State.Ended() && r.State != work.RequestAsked && r.State != work.RequestApproved {
						open++
					}
					t.Row(render.C(r.ID), render.C(r.Gate), render.C(r.By.String()), render.C(r.Stay.String()),
						render.C(string(r.State)), render.Cell{Text: until, Tone: tone}, render.C(r.Reason))
				}
				d := &render.Doc{Head: fmt.Sprintf("%s, %d open now", render.Plural(len(ps), "gate"), open),
					Value: map[string]any{"gates": append([]*work.Policy{}, ps...), "requests": kept}, Rows: kept}
				if len(ps) > 0 {
					d.Tables = append(d.Tables, g)
				}
				if len(kept) > 0 {
					d.Tables = append(d.Tables, t)
				}
				if n := len(rs) - len(kept); n > 0 {
					d.Notes = []string{fmt.Sprintf("%s that ended not shown; all: --all", render.Plural(n, "request"))}
				}
				if gs.Bad != nil {
					d.Notes = append(d.Notes, upper(gs.Bad.Error()))
				} else if gs.Note != "" && len(ps) > 0 {
					d.Notes = append(d.Notes, gs.Note)
				}
				if unread != nil {
					d.Notes = append(d.Notes, upper(unread.Error()))
				}
				if len(ps) > 0 {
					d.Next = []string{command("clipfence gate ask %s --for %s --reason '...'", ps[0].Name,
						ps[0].Longest)}
					for _, r := range slices.Backward(kept) {
						if verb := map[work.RequestState]string{work.RequestAsked: "approve",
							work.RequestApproved: "open", work.RequestOpen: "close"}[r.State]; verb != "" {
							d.Next = []string{"clipfence gate " + verb + " " + r.ID}
						}
					}
				} else {
					d.Notes = append(d.Notes,
						"A gate is a file, gates/NAME.gate.yaml; its fields: clipfence schema gate")
				}
				return a.print(d)
			})
		}}
	cmd.Flags().BoolVar(&all, "all", false, "also requests that ended")
	return cmd
}

func opensWords(p *work.Policy) string {
	if p.Opens.Role != "" {
		return p.Opens.Role
	}
	return first(p.Opens.Do, 2)
}

func (a *app) gateAsk() *cobra.Command {
	var stay durationFlag
	var reason, key string
	cmd := &cobra.Command{Use: "ask GATE", Short: "Ask for a gate to be opened for you", Args: cobra.ExactArgs(1),
		Example: "  clipfence gate ask ticketing-admin --for 30m --reason 'refund run is stuck'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			if stay.Duration == 0 {
				return errors.New("say for how long: --for 30m")
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				out, err := w.Ask(cmd.Context(), args[0], time.Duration(stay.Duration), reason, key)
				if err != nil {
					return err
				}
				r, p, note := out.Request, out.Policy, out.Note
				lines, _ := asks(r, out.Gives)
				d := &render.Doc{Head: fmt.Sprintf("Request %s: %s asks for %s for %s", r.ID, r.By, r.Gate, r.Stay),
					Lines: lines[1:], Value: r}
				if r.State == work.RequestAsked {
					d.Lines = append(d.Lines, fmt.Sprintf("It needs %s, by somebody else of %s, within 24 hours.",
						render.Plural(p.Need(), "approval"), first(p.Approvers, 4)))
					d.Next = []string{"clipfence gate approve " + r.ID}
				} else {
					d.Next = []string{"clipfence gate open " + r.ID}
				}
				if note != "" {
					d.Notes = []string{note}
				}
				return a.print(d)
			})
		}}
	f := cmd.Flags()
	f.Var(&stay, "for", "for how long, such as 30m")
	f.StringVar(&reason, "reason", "", "why")
	f.StringVar(&key, "key", "", "SSH private key to sign with (default: the ssh-agent)")
	return cmd
}

func (a *app) gateAnswer(yes bool) *cobra.Command {
	verb, short := "approve", "Approve somebody else's request"
	if !yes {
		verb, short = "refuse", "Refuse somebody else's request"
	}
	var reason, key string
	var sure bool
	cmd := &cobra.Command{Use: verb + " REQUEST", Short: short, Args: cobra.ExactArgs(1),
		Example:           "  clipfence gate " + verb + " q-1a2b3c4d",
		Long:              short + `. What would open is shown, exactly as it is signed, and asked about first.`,
		ValidArgsFunction: a.completeRequest,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				r, note, err := w.Answer(cmd.Context(), args[0], yes, reason, key, func(q *work.Question) error {
					lines, t := asks(q.Request, q.Gives)
					if a.format.value == "table" {
						// The list may be long: what weighs most stands below it, above the question.
						if err := a.print(&render.Doc{Head: fmt.Sprintf("Request %s would open %s:", q.Request.ID,
							render.Plural(len(q.Request.Rights), "permission")),
							Tables: []render.Table{t}}); err != nil {
							return err
						}
						fmt.Fprintln(a.out)
						if err := a.print(&render.Doc{Head: fmt.Sprintf("%s wants %s for %s", q.Request.By,
							q.Request.Gate, q.Request.Stay), Lines: lines}); err != nil {
							return err
						}
						fmt.Fprintln(a.out)
					}
					return a.confirm(sure, upper(verb)+" it as "+q.Who.String()+"?")
				})
				if err != nil {
					return err
				}
				d := &render.Doc{Head: fmt.Sprintf("Request %s of %s is %s", r.ID, r.By, r.State), Value: r}
				if r.State == work.RequestApproved {
					d.Next = []string{"clipfence gate open " + r.ID}
				}
				if note != "" {
					d.Notes = []string{note}
				}
				return a.print(d)
			})
		}}
	cmd.Flags().BoolVar(&sure, "yes", false, "do it without being asked")
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().StringVar(&key, "key", "", "SSH private key to sign with (default: the ssh-agent)")
	return cmd
}

func (a *app) gateOpen() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "open REQUEST",
		Short: "Open an approved gate: the access is there, until its time is over", Args: cobra.ExactArgs(1),
		Example: "  clipfence gate open q-1a2b3c4d", ValidArgsFunction: a.completeRequest,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				r, err := w.Request(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				if r.State != work.RequestApproved {
					return fmt.Errorf("%w: request %s is %s, not approved", work.ErrState, r.ID, r.State)
				}
				a.say("Grants %s on %s to %s for %s: %s", r.Opens(), places(r.Grant().Where), r.Grant().To, r.Stay,
					r.Reason)
				if err := a.confirm(yes, "Open it?"); err != nil {
					return err
				}
				r, note, err := w.OpenRequest(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				d := &render.Doc{Head: fmt.Sprintf("Open until %s: %s has %s on %s", r.Until.Format(time.RFC3339),
					r.Subject, r.Opens(), places(r.Where)), Value: r,
					Lines: []string{"It ends by itself; clipfence patrol takes the grant away when its time is over."},
					Next:  []string{"clipfence gate close " + r.ID}}
				if note != "" {
					d.Notes = []string{note}
				}
				return a.print(d)
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	return cmd
}

func (a *app) gateClose() *cobra.Command {
	return &cobra.Command{Use: "close REQUEST", Short: "Give an open gate back, or take it away, before its time",
		Args:    cobra.ExactArgs(1),
		Example: "  clipfence gate close q-1a2b3c4d", ValidArgsFunction: a.completeRequest,
		RunE: func(cmd *cobra.Command, args []string) error {
			a.closes = true
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				r, err := w.CloseRequest(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("Closed: %s has %s no more", r.Grant().To, r.Opens()),
					Value: r})
			})
		}}
}

func (a *app) gateRun() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "run REQUEST -- COMMAND", Short: "Open a gate, run one command, close the gate",
		Args:    cobra.MinimumNArgs(2),
		Example: "  clipfence gate run q-1a2b3c4d -- ./restart-refunds.sh",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) (err error) {
				if err := a.confirm(yes, "Open "+args[0]+" and run the command?"); err != nil {
					return err
				}
				open := ""
				defer func() {
					if open != "" {
						a.say("Gate %s is closed again.", open)
					}
				}()
				return w.Lend(cmd.Context(), args[0], func(ctx context.Context, r *work.Request) error {
					open = r.ID
					c := exec.CommandContext(ctx, args[1], args[2:]...)
					c.Stdin, c.Stdout, c.Stderr = a.in, bare(a.out), bare(a.err) // its own, and not ours
					c.Env = w.WithoutTokens(os.Environ())
					if err := c.Run(); err != nil {
						return fmt.Errorf("%s: %w", args[1], err)
					}
					return nil
				})
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	return cmd
}
