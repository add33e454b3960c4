package cli

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) whyCmd() *cobra.Command {
	var network string
	var at timeFlag
	factor := choice{of: []string{"yes", "no"}}
	var what work.WhatIf
	cmd := &cobra.Command{
		Use: "why IDENTITY PERMISSION PATH", Short: "Why an identity can or cannot do one thing",
		Args: cobra.ExactArgs(3),
		Long: `Decide one question and tell every rule that had a say. A call is allowed when some
grant gives it and no denial, guardrail or ceiling stands against it. What is not told about
the call stays open: then the answer can be "allowed if ...". Say more with
--network, --second-factor and --at. A refusal comes with what would come closest to
allowing it. With --without and --with the question is asked of the estate as it
would be.`,
		Example: "  clipfence why workload/ticket-export stow/item:throw-out " +
			"/mooring/harbour:ternhaven/pier:commercial/berth:ticketing/box:sales/2026-11-01/1.csv",
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := model.ParseID(args[0])
			if err != nil {
				return err
			}
			p, err := model.ParsePermission(args[1])
			if err != nil {
				return err
			}
			path, err := model.ParsePath(args[2])
			if err != nil {
				return err
			}
			ctx := model.Context{Time: at.Time}
			if network != "" {
				if ctx.Network, err = netip.ParseAddr(network); err != nil {
					return fmt.Errorf("--network: %w", err)
				}
			}
			if factor.value != "" {
				ctx.SecondFactor = model.TruthOf(factor.value == "yes")
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				src, err := w.About(&id, path.Source())
				if err != nil {
					return err
				}
				s, err := w.Question(cmd.Context(), src, &what)
				if err == nil {
					err = s.Known(id)
				}
				if err != nil {
					return err
				}
				if _, ok := s.Entry(p); !ok {
					return fmt.Errorf("permission %s is not in the catalogue of source %s", p, s.Name)
				}
				return a.why(cmd.Context(), w, s, id, p, path, ctx)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&network, "network", "", "the address that the call comes from")
	f.Var(&at, "at", "the time of the call (RFC 3339)")
	whatIfFlags(&what, f)
	f.Var(&factor, "second-factor", "whether the caller showed a second factor: yes, no")
	return cmd
}

// nearWords says what comes closest to allowing a refused call.
func nearWords(near []work.Near) []string {
	const most = 3
	var out []string
	groups, elsewhere := 0, 0
	for _, n := range near {
		if n.Grant != nil {
			if elsewhere++; elsewhere <= most {
				out = append(out, fmt.Sprintf("One step short: %s gives it on %s.", grantWords(n.Grant),
					places(n.Grant.Where)))
			}
		} else if groups++; groups <= most {
			out = append(out, fmt.Sprintf("One step short: whoever is in %s may.", n.Group))
		}
	}
	if more := max(0, groups-most) + max(0, elsewhere-most); more > 0 {
		out = append(out, fmt.Sprintf("... and %d more such steps", more))
	}
	return out
}

// whyRule is a rule that had a say.
type whyRule struct {
	Layer string `json:"rule" doc:"denial, guardrail, ceiling or grant"`
	Says  string `json:"says"`
	Holds string `json:"holds" doc:"yes, no or unknown"`
	Text  string `json:"text"`
}

// whyValue is one decision.
type whyValue struct {
	Identity   model.ID         `json:"identity"`
	Permission model.Permission `json:"permission"`
	Path       model.Path       `json:"path"`
	Outcome    string           `json:"outcome" doc:"allowed, allowed if or denied"`
	Rules      []whyRule        `json:"rules"`
	Seen       []work.SeenIn    `json:"members_by_the_log,omitempty" doc:"steps into groups in which the source lists nobody"`
}

func (a *app) why(cmd context.Context, w *work.Workspace, s *work.Source, id model.ID, p model.Permission,
	path model.Path, ctx model.Context) error {
	dec := s.DecideCall(id, p, path, ctx)
	var chains [][]model.ID
	for _, w := range slices.Concat(dec.Ways, dec.Unmet) {
		chains = append(chains, w.Chain)
	}
	seen, err := w.SeenIn(cmd, s, chains...)
	if err != nil {
		return err
	}
	rules := []whyRule{}
	t := render.Table{Columns: []render.Column{{Name: "RULE"}, {Name: "SAYS"}, {Name: "BECAUSE", Wrap: true}}}
	add := func(r whyRule, tone render.Tone) {
		rules = append(rules, r)
		t.Row(render.C(r.Layer), render.Cell{Text: r.Says, Tone: tone}, render.C(r.Text))
	}
	for _, r := range dec.Refusals {
		says := "refuses"
		if r.Met == model.Open {
			says = "may refuse"
		}
		add(whyRule{r.Layer, says, r.Met.String(), refusalWords(r)}, render.Bad)
	}
	for _, w := range dec.Ways {
		says, tone := "allows", render.Good
		if w.Met == model.Open {
			says, tone = "may allow", render.Warn
		}
		add(whyRule{"grant", says, w.Met.String(), wayWords(w)}, tone)
	}
	for _, w := range dec.Unmet {
		add(whyRule{"grant", "does not", w.Met.String(),
			fmt.Sprintf("%s: %s holds only %s", chainWords(w.Chain), grantWords(w.Grant), w.Grant.Condition())},
			render.Dim)
	}
	d := &render.Doc{Value: whyValue{id, p, path, dec.Outcome.String(), rules, seen}, Rows: rules,
		Notes: seenWords(seen)}
	switch dec.Outcome {
	case work.Allowed:
		d.Head = fmt.Sprintf("ALLOWED: %s may %s on %s", id, p, path)
	case work.Conditional:
		d.Head = fmt.Sprintf("ALLOWED ON CONDITION: %s may %s on %s, depending on the call", id, p, path)
	default:
		d.Head = fmt.Sprintf("DENIED: %s may not %s on %s", id, p, path)
		if len(dec.Refusals) == 0 && len(dec.Unmet) == 0 {
			d.Lines = append(d.Lines,
				"Nothing grants it: no grant to it, to its groups or to everybody covers this permission here.")
		}
		if len(dec.Ways) == 0 {
			d.Notes = append(d.Notes, nearWords(s.NearMisses(id, p, path))...)
		}
	}
	if len(t.Rows) > 0 {
		d.Tables = []render.Table{t}
	}
	for _, m := range s.Masks(id) {
		if s.Decide(m.ID, p, path, ctx).Outcome == work.Allowed && dec.Outcome != work.Allowed {
			d.Notes = append(d.Notes, fmt.Sprintf("It can act as %s, which may: %s.", m.ID,
				strings.Join(stepWords(m.Steps), ", then ")))
		}
	}
	if i, ok := s.Identity(id); ok && i.Disabled {
		d.Notes = append(d.Notes, "Its account is closed in the source: it cannot sign in to use any of this.")
	}
	return a.print(d)
}
