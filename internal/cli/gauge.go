package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

type gaugeRow struct {
	Identity     model.ID    `json:"identity"`
	Danger       int         `json:"danger"`
	Removable    int         `json:"removable_danger"`
	Granted      int         `json:"granted"`
	Used         int         `json:"used"`
	Unobservable int         `json:"unobservable"`
	LastUse      time.Time   `json:"last_use,omitzero"`
	LastSeen     time.Time   `json:"last_seen,omitzero"`
	Habit        string      `json:"habit"`
	State        gauge.State `json:"state"`
	Judgement    string      `json:"judgement"`
	Calls        int64       `json:"calls" doc:"that were let through, over all that is known"`
	Placed       int64       `json:"placed_calls" doc:"of those, how many could be placed"`
}

type gaugeValue struct {
	Source     string     `json:"source"`
	From       time.Time  `json:"from"`
	To         time.Time  `json:"to"`
	Days       int        `json:"days"`
	Observable float64    `json:"observable_share"`
	Identities []gaugeRow `json:"identities"`
	Strangers  []model.ID `json:"callers_not_in_the_estate,omitempty"`
	Unmapped   int        `json:"uses_of_unknown_permissions,omitempty"`
	Placed     placedRow  `json:"calls"`
}

// placedRow says which calls could be placed, and why the rest could not.
type placedRow struct {
	Calls  int64                  `json:"let_through"`
	Placed int64                  `json:"placed"`
	Past   int64                  `json:"explained_by_the_past" doc:"of placed, those whose grant is gone since"`
	Why    map[gauge.Reason]int64 `json:"not_placed,omitempty" doc:"by what keeps them from it: path, operation, caller or grant"`
}

func placedRowOf(t *gauge.Tally) placedRow {
	if t == nil {
		return placedRow{}
	}
	return placedRow{t.Calls, t.Placed, t.Past, t.Why}
}

func (a *app) gaugeCmd() *cobra.Command {
	kind := choice{of: []string{"person", "workload", "group", "external"}}
	var window windowFlag
	var all bool
	cmd := &cobra.Command{
		Use: "gauge [IDENTITY]", Short: "Compare what is granted with what was used", Args: cobra.MaximumNArgs(1),
		Long: `Compare what is granted with what was used, identity by identity, most removable
danger first. With an identity: grant by grant.

DANGER is the weight of what is granted and not needed: for each level of
permission its weight times log2(1 + pairs of permission and place). A right to
hand out rights weighs 60 times a right to list.`,
		Example:           "  clipfence gauge --kind workload\n  clipfence gauge workload/ticket-export",
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace) error {
				id, s, in, res, err := w.gaugedFor(cmd.Context(), strings.Join(args, ""), window.Duration)
				if err != nil {
					return err
				}
				if !id.IsZero() {
					return a.gaugeOne(s, in, res, id)
				}
				return a.gaugeAll(s, in, res, kind.value, all)
			})
		},
	}
	cmd.Flags().Var(&kind, "kind", "only person, workload, group or external")
	cmd.Flags().Var(&window, "window", "how far to look back (default: the window of clipfence.yaml)")
	cmd.Flags().BoolVar(&all, "all", false, "every identity, not only the first 20")
	return cmd
}

func (a *app) gaugeHead(in *gauge.Input, res *gauge.Result) string {
	span := in.Span()
	return fmt.Sprintf("Granted against used, %s; evidence complete for %s of what is granted", spanWords(span), render.Percent(res.Observable))
}

func gaugeRowOf(s *gauge.Standing, placed *gauge.Tally, now time.Time) gaugeRow {
	j, _ := judgement(s, now)
	p := placedRowOf(placed)
	if p.Placed < p.Calls {
		if j == "fits" {
			j = "cannot be judged whole"
		}
		j += fmt.Sprintf("; %s of %s not placed", render.Count(p.Calls-p.Placed), render.Plural(int(p.Calls), "call"))
	}
	return gaugeRow{s.ID, int(s.Danger + 0.5), int(s.Removable + 0.5), s.Granted, s.Used, s.Unobservable, s.LastUse, s.Identity.LastSeen, habit(s), s.State, j, p.Calls, p.Placed}
}

func (a *app) gaugeAll(s *surveyed, in *gauge.Input, res *gauge.Result, kind string, all bool) error {
	const most = 20
	now := in.AsOf
	v := gaugeValue{Source: s.Name, From: in.Span().From, To: in.Span().To, Days: in.Window, Observable: res.Observable, Identities: []gaugeRow{}, Strangers: res.Strangers, Unmapped: res.Unmapped, Placed: placedRowOf(&res.Placement.Tally)}
	t := render.Table{Columns: []render.Column{{Name: "DANGER", Right: true}, {Name: "IDENTITY"}, {Name: "GRANTED", Right: true}, {Name: "USED", Right: true}, {Name: "LAST USE"}, {Name: "HABIT"}, {Name: "JUDGEMENT", Wrap: true}}}
	blind := 0
	for _, st := range res.Standings {
		if kind != "" && string(st.ID.Kind) != kind {
			continue
		}
		row := gaugeRowOf(st, res.Placement.Of[st.ID], now)
		v.Identities = append(v.Identities, row)
		blind += row.Unobservable
		if !all && len(t.Rows) == most {
			continue
		}
		_, tone := judgement(st, now)
		t.Row(render.C(render.Count(row.Removable)), render.C(st.ID.String()), render.C(render.Count(row.Granted)), render.C(render.Count(row.Used)), render.C(lastUse(st, now)), render.C(row.Habit), render.Cell{Text: row.Judgement, Tone: tone})
	}
	d := &render.Doc{Head: a.gaugeHead(in, res), Lines: placedLines(res.Placement), Tables: []render.Table{t}, Value: v, Rows: v.Identities}
	d.Notes = append(d.Notes, "DANGER is what is granted and not needed; GRANTED and USED count distinct permissions.")
	if len(t.Rows) < len(v.Identities) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), identities(len(v.Identities))))
	}
	if blind > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("Not judged: %s granted permissions that no log would have shown (clipfence coverage).", render.Count(blind)))
	}
	if n := len(res.Strangers); n > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("Callers in the log that the estate does not list: %d, such as %s (clipfence uses --strangers).", n, res.Strangers[0]))
	}
	if len(t.Rows) > 0 {
		d.Next = []string{"clipfence draft --for " + t.Rows[0][1].Text, "clipfence gauge " + t.Rows[0][1].Text}
	}
	return a.print(d)
}

func (a *app) gaugeOne(s *surveyed, in *gauge.Input, res *gauge.Result, id model.ID) error {
	type grantRow struct {
		Grant        string     `json:"grant"`
		Through      []model.ID `json:"through"`
		Role         string     `json:"role,omitempty"`
		Where        string     `json:"where"`
		Danger       int        `json:"danger"`
		Needed       int        `json:"needed_danger"`
		Granted      int        `json:"granted"`
		Used         int        `json:"used"`
		Rare         int        `json:"rare"`
		TooNew       int        `json:"too_new"`
		Unobservable int        `json:"unobservable"`
		Undecidable  int        `json:"undecidable" doc:"a call that could not be placed may have used it"`
		Held         int        `json:"held" doc:"its holders cannot be judged"`
		Unused       int        `json:"unused"`
	}
	d := &render.Doc{Head: a.gaugeHead(in, res)}
	var row any
	holdings := []engine.Holding{}
	if st := res.Of(id); st != nil {
		j, _ := judgement(st, in.AsOf)
		d.Lines = append(d.Lines, fmt.Sprintf("%s: %s. Last use %s, habit %s. Danger %d, of which %d is not needed.", id, j, lastUse(st, in.AsOf), habit(st), int(st.Danger+0.5), int(st.Removable+0.5)))
		row, holdings = gaugeRowOf(st, res.Placement.Of[id], in.AsOf), st.Holdings
		d.Lines = append(d.Lines, "Of its calls: "+lowerFirst(placedWords(res.Placement.Of[id])))
	} else {
		for _, i := range s.engine.GrantsTo(id) {
			holdings = append(holdings, engine.Holding{Grant: i, Chain: []model.ID{id}})
		}
	}
	t := render.Table{Columns: []render.Column{{Name: "GRANT"}, {Name: "THROUGH"}, {Name: "ROLE"}, {Name: "WHERE", Path: true}, {Name: "GRANTED", Right: true}, {Name: "USED", Right: true}, {Name: "KEPT", Right: true}, {Name: "UNUSED", Right: true}, {Name: "DANGER", Right: true}}}
	rows := []grantRow{}
	for _, h := range holdings {
		g := res.Grants[h.Grant]
		gr := g.Grant
		through := "direct"
		if len(h.Chain) > 1 {
			through = h.Chain[len(h.Chain)-1].String()
		}
		role := gr.Role
		if role == "" {
			role = "(list)"
		}
		kept := g.Rare.Count() + g.TooNew.Count() + g.Unobservable.Count() + g.Undecidable.Count() + g.Held.Count()
		rows = append(rows, grantRow{gr.ID, h.Chain, gr.Role, places(gr.Where), int(g.Danger + 0.5), int(g.Kept + 0.5), g.Perms.Count(), g.Used.Count(), g.Rare.Count(), g.TooNew.Count(), g.Unobservable.Count(), g.Undecidable.Count(), g.Held.Count(), g.Unused.Count()})
		t.Row(render.C(gr.ID), render.C(through), render.C(role), render.C(places(gr.Where)), render.C(render.Count(g.Perms.Count())), render.C(render.Count(g.Used.Count())), render.C(render.Count(kept)), render.C(render.Count(g.Unused.Count())), render.C(render.Count(int(g.Danger+0.5))))
	}
	d.Tables = []render.Table{t}
	d.Notes = []string{"KEPT: used before the window by a habit that is not over, too new to judge, not observable, perhaps used by a call that could not be placed, or held by somebody whose silence proves nothing yet; never taken for unused."}
	d.Next = []string{"clipfence draft --for " + id.String()}
	d.Value, d.Rows = map[string]any{"identity": row, "grants": rows}, rows
	return a.print(d)
}

func lowerFirst(s string) string { return strings.ToLower(s[:1]) + s[1:] }
