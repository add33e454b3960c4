package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
	"clipfence/internal/patrol"
	"clipfence/internal/render"
	"clipfence/internal/sshsig"
)

func (a *app) gateCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "gate", Short: "Time-limited elevation: ask, approve, open, close", Args: cobra.NoArgs,
		Long: `Time-limited elevation. A gate file (gates/NAME.gate.yaml) says who may ask for
what, for how long at most, and who approves. Who asks and who approves is proven
by an SSH key that clipfence.yaml lists under people: from the ssh-agent, or from
the file named with --key.`,
		Example: "  clipfence gate ask ticketing-admin --for 30m --reason 'refund run is stuck'\n  clipfence gate approve q-1a2b3c\n  clipfence gate open q-1a2b3c",
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.gateList(), a.gateAsk(), a.gateAnswer(true), a.gateAnswer(false), a.gateOpen(), a.gateClose(), a.gateRun())
	return cmd
}

// policies reads every gate file of the workspace.
func (w *workspace) policies() ([]*gate.Policy, error) {
	names, err := filepath.Glob(filepath.Join(w.GateDir(), "*"+fencefile.GateSuffix))
	if err != nil {
		return nil, err
	}
	var out []*gate.Policy
	for _, n := range names {
		data, err := os.ReadFile(n)
		if err != nil {
			return nil, err
		}
		p, err := fencefile.ReadGate(n, data)
		if err != nil {
			return nil, err
		}
		w.remark(p.Remarks...)
		out = append(out, p)
	}
	return out, nil
}

func (w *workspace) policy(name string) (*gate.Policy, error) {
	ps, err := w.policies()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range ps {
		if p.Name == name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	return nil, fmt.Errorf("no gate %q in %s; there are: %s", name, w.GateDir(), strings.Join(names, ", "))
}

// member answers who belongs to whom, from the newest survey of a source.
func (w *workspace) member(ctx context.Context, src string) (gate.Member, *engine.Engine, error) {
	s, err := w.Source(src)
	if err != nil {
		return nil, nil, err
	}
	sv, err := w.surveyed(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	return func(who model.ID, of []model.ID) bool {
		if id, ok := sv.engine.Identity(who); !ok || id.Disabled {
			return false
		}
		return slices.ContainsFunc(sv.engine.Closure(who), func(st engine.Standing) bool { return slices.Contains(of, st.ID) })
	}, sv.engine, nil
}

func (a *app) gateList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List the gates, and who asked for what", Args: cobra.NoArgs, Example: "  clipfence gate list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *workspace) error {
				ps, err := w.policies()
				if err != nil {
					return err
				}
				rs, err := w.keeper().All(cmd.Context())
				if err != nil {
					return err
				}
				g := render.Table{Title: "Gates", Columns: []render.Column{{Name: "GATE"}, {Name: "OPENS"}, {Name: "WHERE", Path: true}, {Name: "LONGEST"}, {Name: "APPROVALS", Right: true}, {Name: "MAY ASK", Wrap: true}}}
				for _, p := range ps {
					g.Row(render.C(p.Name), render.C(opensWords(p)), render.C(places(p.Opens.Where)), render.C(p.Longest.String()), render.C(fmt.Sprint(p.Approvals)), render.C(first(p.MayAsk, 3)))
				}
				t := render.Table{Title: "Requests", Columns: []render.Column{{Name: "REQUEST"}, {Name: "GATE"}, {Name: "BY"}, {Name: "STAY"}, {Name: "STATE"}, {Name: "UNTIL"}, {Name: "REASON", Wrap: true}}}
				kept := []*gate.Request{}
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
					if !r.State.Ended() && r.State != gate.Asked && r.State != gate.Approved {
						open++
					}
					t.Row(render.C(r.ID), render.C(r.Gate), render.C(r.By.String()), render.C(r.Stay.String()), render.C(string(r.State)), render.Cell{Text: until, Tone: tone}, render.C(r.Reason))
				}
				d := &render.Doc{Head: fmt.Sprintf("%s, %d open now", render.Plural(len(ps), "gate"), open), Value: map[string]any{"gates": append([]*gate.Policy{}, ps...), "requests": kept}, Rows: kept}
				if len(ps) > 0 {
					d.Tables = append(d.Tables, g)
				}
				if len(kept) > 0 {
					d.Tables = append(d.Tables, t)
				}
				if n := len(rs) - len(kept); n > 0 {
					d.Notes = []string{fmt.Sprintf("%s that ended not shown; all: --all", render.Plural(n, "request"))}
				}
				if len(ps) > 0 {
					d.Next = []string{fmt.Sprintf("clipfence gate ask %s --for %s --reason '...'", ps[0].Name, ps[0].Longest)}
				} else {
					d.Notes = append(d.Notes, "A gate is a file, gates/NAME.gate.yaml; its fields: clipfence schema gate")
				}
				return a.print(d)
			})
		}}
	cmd.Flags().BoolVar(&all, "all", false, "also requests that ended")
	return cmd
}

func opensWords(p *gate.Policy) string {
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
			return a.with(cmd.Context(), func(w *workspace) error {
				p, err := w.policy(args[0])
				if err != nil {
					return err
				}
				in, g, err := w.member(cmd.Context(), p.Source)
				if err != nil {
					return err
				}
				if _, ok := namedRole(g.Estate, p.Opens.Role); !ok {
					return fmt.Errorf("gate %s opens role %q, which source %s does not have", p.Name, p.Opens.Role, p.Source)
				}
				s, done, err := w.signer(key)
				defer done()
				if err != nil {
					return err
				}
				var b [4]byte
				_, _ = rand.Read(b[:]) // never fails (crypto/rand)
				r, err := gate.Ask(p, "q-"+hex.EncodeToString(b[:]), s.who, time.Duration(stay.Duration), reason, a.clock().UTC().Truncate(time.Millisecond), in)
				if err != nil {
					return err
				}
				if r.Signature, err = sshsig.Sign(s, askNamespace, r.AskText()); err != nil {
					return err
				}
				if err := w.keeper().Save(cmd.Context(), r, string(gate.Asked)); err != nil {
					return damaged(err)
				}
				d := &render.Doc{Head: fmt.Sprintf("Request %s: %s asks for %s for %s", r.ID, r.By, r.Gate, r.Stay), Value: r}
				if r.State == gate.Asked {
					d.Lines = []string{fmt.Sprintf("It needs %s, by somebody else of %s, within 24 hours.", render.Plural(p.Approvals, "approval"), first(p.Approvers, 4))}
					d.Next = []string{"clipfence gate approve " + r.ID}
				} else {
					d.Next = []string{"clipfence gate open " + r.ID}
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

func namedRole(e *model.Estate, name string) (*model.Role, bool) {
	for i := range e.Roles {
		if e.Roles[i].Name == name {
			return &e.Roles[i], true
		}
	}
	return nil, name == ""
}

func (a *app) gateAnswer(yes bool) *cobra.Command {
	verb, short := "approve", "Approve somebody else's request"
	if !yes {
		verb, short = "refuse", "Refuse somebody else's request"
	}
	var reason, key string
	cmd := &cobra.Command{Use: verb + " REQUEST", Short: short, Args: cobra.ExactArgs(1), Example: "  clipfence gate " + verb + " q-1a2b3c4d",
		ValidArgsFunction: a.completeRequest,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRequest(cmd.Context(), args[0], func(w *workspace, k *patrol.Keeper, r *gate.Request) error {
				in, _, err := w.member(cmd.Context(), r.Source)
				if err != nil {
					return err
				}
				s, done, err := w.signer(key)
				defer done()
				if err != nil {
					return err
				}
				ans := gate.Answer{By: s.who, At: a.clock().UTC().Truncate(time.Millisecond), Yes: yes, Reason: reason}
				if ans.Signature, err = sshsig.Sign(s, answerNamespace, r.AnswerText(ans)); err != nil {
					return err
				}
				if err := r.Answer(ans, in); err != nil {
					return err
				}
				if err := k.Save(cmd.Context(), r, verb); err != nil {
					return damaged(err)
				}
				d := &render.Doc{Head: fmt.Sprintf("Request %s of %s is %s", r.ID, r.By, r.State), Value: r}
				if r.State == gate.Approved {
					d.Next = []string{"clipfence gate open " + r.ID}
				}
				return a.print(d)
			})
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().StringVar(&key, "key", "", "SSH private key to sign with (default: the ssh-agent)")
	return cmd
}

// withRequest calls f with a request that is to be answered, opened or closed.
func (a *app) withRequest(ctx context.Context, id string, f func(*workspace, *patrol.Keeper, *gate.Request) error) error {
	if err := a.real(); err != nil {
		return err
	}
	return a.with(ctx, func(w *workspace) error {
		k := w.keeper()
		r, err := k.Find(ctx, id)
		if err != nil {
			return err
		}
		return f(w, k, r)
	})
}

// openRequest opens an approved request, after checking its signatures and whom
// it would concern.
func (w *workspace) openRequest(ctx context.Context, id string) (*gate.Request, error) {
	k := w.keeper()
	r, err := k.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := w.proven(r); err != nil {
		return nil, err
	}
	if w.ProtectedIn(r.Source)[r.By] {
		return nil, fmt.Errorf("%w: %s is protected", gate.ErrNotAllowed, r.By)
	}
	return r, damaged(k.Open(ctx, r))
}

func (a *app) gateOpen() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "open REQUEST", Short: "Open an approved gate: the access is there, until its time is over", Args: cobra.ExactArgs(1),
		Example: "  clipfence gate open q-1a2b3c4d", ValidArgsFunction: a.completeRequest,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRequest(cmd.Context(), args[0], func(w *workspace, _ *patrol.Keeper, r *gate.Request) error {
				if r.State != gate.Approved {
					return fmt.Errorf("%w: request %s is %s, not approved", gate.ErrState, r.ID, r.State)
				}
				a.say("Grants %s on %s to %s for %s: %s", opensWords(&r.Policy), places(r.Policy.Opens.Where), r.By, r.Stay, r.Reason)
				if err := a.confirm(yes, "Open it?"); err != nil {
					return err
				}
				r, err := w.openRequest(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("Open until %s: %s has %s on %s", r.Until.Format(time.RFC3339), r.By, opensWords(&r.Policy), places(r.Policy.Opens.Where)), Value: r,
					Lines: []string{"It ends by itself; clipfence patrol takes the grant away when its time is over."}, Next: []string{"clipfence gate close " + r.ID}})
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	return cmd
}

func (a *app) gateClose() *cobra.Command {
	return &cobra.Command{Use: "close REQUEST", Short: "Give an open gate back, or take it away, before its time", Args: cobra.ExactArgs(1),
		Example: "  clipfence gate close q-1a2b3c4d", ValidArgsFunction: a.completeRequest,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRequest(cmd.Context(), args[0], func(w *workspace, k *patrol.Keeper, r *gate.Request) error {
				if err := k.Close(cmd.Context(), r, systemUser()); err != nil {
					return damaged(err)
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("Closed: %s has %s no more", r.By, opensWords(&r.Policy)), Value: r})
			})
		}}
}

func (a *app) gateRun() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "run REQUEST -- COMMAND", Short: "Open a gate, run one command, close the gate", Args: cobra.MinimumNArgs(2),
		Example: "  clipfence gate run q-1a2b3c4d -- ./restart-refunds.sh",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) (err error) {
				if err := a.confirm(yes, "Open "+args[0]+" and run the command?"); err != nil {
					return err
				}
				r, err := w.openRequest(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				defer func() { // closed also when the command fails or we are interrupted
					ctx := context.WithoutCancel(cmd.Context())
					now, ferr := w.keeper().Find(ctx, r.ID)
					if ferr == nil && !now.State.Ended() {
						ferr = w.keeper().Close(ctx, now, systemUser())
					}
					err = errors.Join(err, ferr)
					a.say("Gate %s is closed again.", r.ID)
				}()
				ctx, cancel := context.WithDeadline(cmd.Context(), r.Until)
				defer cancel()
				c := exec.CommandContext(ctx, args[1], args[2:]...)
				c.Stdin, c.Stdout, c.Stderr = a.in, a.out, a.err
				if err := c.Run(); err != nil {
					if ctx.Err() != nil && cmd.Context().Err() == nil {
						return fmt.Errorf("the stay was over at %s; the command was ended", r.Until.Format(time.RFC3339))
					}
					return fmt.Errorf("%s: %w", args[1], err)
				}
				return nil
			})
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	return cmd
}

func (a *app) completeRequest(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	w, err := a.open(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer w.close()
	bodies, _ := w.store.Gates(cmd.Context())
	var out []string
	for id, b := range bodies {
		var r gate.Request
		if json.Unmarshal(b, &r) == nil && !r.State.Ended() {
			out = append(out, id)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
