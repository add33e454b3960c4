package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

type gaugeRow struct {
	Identity     model.ID           `json:"identity"`
	Danger       int                `json:"danger" doc:"of all that reaches it"`
	Removable    int                `json:"removable_danger" doc:"of its own grants, what nothing observed needs"`
	Within       int                `json:"danger_within_reach" doc:"of what it holds, can give itself and gets by acting as others"`
	Becomes      int                `json:"can_become" doc:"how many others, in any number of steps"`
	AllOn        int                `json:"can_have_everything_on" doc:"nodes of the inventory on which it, or one that it can become, can give itself anything"`
	Granted      int                `json:"granted"`
	ByName       int                `json:"granted_by_name" doc:"permissions of grants that name it"`
	ByGroups     int                `json:"granted_through_groups"`
	ByCrowds     int                `json:"granted_to_anybody" doc:"permissions of grants to everyone and signed-in"`
	Used         int                `json:"used"`
	Members      int                `json:"members,omitempty" doc:"of a group: who is in it at any distance and can sign in"`
	Silent       int                `json:"silent_members,omitempty" doc:"of those, who used none of its own grants in the window"`
	Unobservable int                `json:"unobservable"`
	LastUse      time.Time          `json:"last_use,omitzero" doc:"its last call that was let through"`
	LastCall     time.Time          `json:"last_call,omitzero" doc:"its last call, also one that was refused"`
	LastSeen     time.Time          `json:"last_seen,omitzero"`
	Habit        string             `json:"habit"`
	State        work.StandingState `json:"state"`
	Judgement    string             `json:"judgement"`
	Calls        int64              `json:"calls" doc:"that were let through, over all that is known"`
	Placed       int64              `json:"placed_calls" doc:"of those, how many could be placed"`
}

type gaugeValue struct {
	Source     string           `json:"source"`
	From       time.Time        `json:"from"`
	To         time.Time        `json:"to"`
	Days       int              `json:"days"`
	Observable float64          `json:"observable_share"`
	Identities []gaugeRow       `json:"identities"`
	Strangers  []model.ID       `json:"callers_not_in_the_estate,omitempty"`
	Unmapped   int              `json:"uses_of_unknown_permissions,omitempty"`
	Placed     work.PlacedCalls `json:"calls"`
	Holes      int              `json:"logs_with_holes,omitempty" doc:"days of the window are missing of them, and earlier ones make up for it"`
	Again      int              `json:"grants_made_again,omitempty" doc:"that are older than they say"`
}

func (a *app) gaugeCmd() *cobra.Command {
	kind := choice{of: []string{"person", "workload", "group", "external"}}
	var window windowFlag
	var all bool
	cmd := &cobra.Command{
		Use: "gauge [IDENTITY]", Short: "Compare what is granted with what was used", Args: cobra.MaximumNArgs(1),
		Long: `Compare what is granted with what was used, identity by identity, most removable
danger first. With an identity: grant by grant.

The danger of a permission is the weight of its level times log2(1 + the places of the
inventory that it can be used on): list 1, read 2, change 6, administer 20, hand out 60
(weights in clipfence.yaml). That of an access is the sum over its permissions; what two
grants both give counts once. NOT NEEDED is the danger of what is granted and nothing
observed needs; HELD that of all that reaches the identity; WITHIN REACH, that of what it
can get to as well: by acting as others and by giving itself more, in any number of steps.`,
		Example:           "  clipfence gauge --kind workload\n  clipfence gauge workload/ticket-export",
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				id, s, in, res, err := w.GaugedFor(cmd.Context(), strings.Join(args, ""), window.Duration)
				if err != nil {
					return err
				}
				stale, err := a.stale(cmd.Context(), w, s.Name)
				if err != nil {
					return err
				}
				groups, err := w.LogGroups(cmd.Context(), s.Name)
				if err != nil {
					return err
				}
				logs := append(stale, groupsLine(groups)...)
				if !id.IsZero() {
					return a.gaugeOne(s, in, res, id, logs, len(stale) > 0)
				}
				return a.gaugeAll(s, in, res, kind.value, all, logs, len(stale) > 0)
			})
		},
	}
	cmd.Flags().Var(&kind, "kind", "only person, workload, group or external")
	cmd.Flags().Var(&window, "window", "how far to look back (default: the window of clipfence.yaml)")
	cmd.Flags().BoolVar(&all, "all", false, "every identity, not only the first 20")
	return cmd
}

func (a *app) gaugeHead(in *work.GaugeInput, res *work.GaugeResult) string {
	span := in.Span()
	return fmt.Sprintf("Granted against used, %s; evidence complete for %s of what is granted", spanWords(span),
		render.Percent(res.Observable))
}

// gaugeRowsOf tells how identities stand.
func gaugeRowsOf(res *work.GaugeResult, of []*work.Standing, now time.Time) []gaugeRow {
	rows := make([]gaugeRow, 0, len(of))
	for i, sum := range res.Sums(of) {
		r := gaugeRowOf(of[i], res.Placement.Of[of[i].ID], now)
		r.ByName, r.ByGroups, r.ByCrowds = sum.ByName, sum.ByGroups, sum.ByCrowds
		rows = append(rows, r)
	}
	return rows
}

func gaugeRowOf(s *work.Standing, placed *work.Tally, now time.Time) gaugeRow {
	j, _ := judgement(s, now)
	p := work.PlacedCallsOf(placed)
	if p.Placed < p.Calls {
		if j == "fits" {
			j = "cannot be judged whole"
		}
		j += fmt.Sprintf("; %s of %s not placed", render.Count(p.Calls-p.Placed), render.Plural(int(p.Calls), "call"))
	}
	return gaugeRow{Identity: s.ID, Danger: int(s.Danger + 0.5), Removable: int(s.Removable + 0.5),
		Within: int(s.Within.Danger + 0.5), Becomes: s.Within.Becomes, AllOn: s.Within.Nodes, Granted: s.Granted,
		Used: s.Used, Members: s.Members, Silent: s.Silent, Unobservable: s.Unobservable, LastUse: s.LastDone,
		LastCall: s.LastUse, LastSeen: s.Identity.LastSeen, Habit: habit(s), State: s.State, Judgement: j,
		Calls: p.Calls, Placed: p.Placed}
}

func (a *app) gaugeAll(s *work.Source, in *work.GaugeInput, res *work.GaugeResult, kind string, all bool,
	logs []string, stale bool) error {
	const most = 20
	now := in.AsOf
	v := gaugeValue{Source: s.Name, From: in.Span().From, To: in.Span().To, Days: in.Window,
		Observable: res.Observable, Identities: []gaugeRow{}, Strangers: res.Strangers, Unmapped: res.Unmapped,
		Placed: work.PlacedCallsOf(&res.Placement.Tally), Again: res.Again, Holes: res.Holes}
	t := render.Table{Columns: []render.Column{{Name: "NOT NEEDED", Right: true}, {Name: "HELD", Right: true},
		{Name: "WITHIN REACH", Right: true}, {Name: "IDENTITY"}, {Name: "GRANTED", Right: true},
		{Name: "USED", Right: true}, {Name: "LAST USE"}, {Name: "HABIT"}, {Name: "JUDGEMENT", Wrap: true}}}
	of, blind := []*work.Standing{}, 0
	for _, st := range res.Standings {
		if kind == "" || string(st.ID.Kind) == kind {
			of, blind = append(of, st), blind+st.Unobservable
		}
	}
	v.Identities = gaugeRowsOf(res, of[:a.printed(len(of), most, all)], now)
	for i, row := range v.Identities {
		if !all && i == most {
			break
		}
		st := of[i]
		_, tone := judgement(st, now)
		t.Row(render.C(render.Count(row.Removable)), render.C(render.Count(row.Danger)), reachCell(st),
			render.C(st.ID.String()), render.C(render.Count(row.Granted)), render.C(render.Count(row.Used)),
			render.C(lastUse(st, now)), render.C(row.Habit), render.Cell{Text: row.Judgement, Tone: tone})
	}
	d := &render.Doc{Head: a.gaugeHead(in, res), Lines: placedLines(res.Placement), Tables: []render.Table{t},
		Value: v, Rows: v.Identities}
	d.Lines = append(d.Lines, logs...)
	d.Notes = append(d.Notes, "NOT NEEDED, HELD and WITHIN REACH are danger (clipfence gauge --help); GRANTED and "+
		"USED count distinct permissions.")
	if len(t.Rows) < len(of) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), identities(len(of))))
	}
	if blind > 0 {
		d.Notes = append(d.Notes,
			fmt.Sprintf("Not judged: %s granted permissions that no log would have shown (clipfence coverage).",
				render.Count(blind)))
	}
	if n := len(res.Strangers); n > 0 {
		d.Notes = append(d.Notes,
			fmt.Sprintf("Callers in the log that the estate does not list: %d, such as %s (clipfence uses "+
				"--strangers).", n, res.Strangers[0]))
	}
	if res.Holes > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("Days of %s are missing from the window, and earlier ones make up "+
			"for them (clipfence coverage).", render.Plural(res.Holes, "log")))
	}
	if res.Again > 0 {
		d.Notes = append(d.Notes, againWords(res.Again))
	}
	if len(t.Rows) > 0 {
		who := t.Rows[0][3].Text
		d.Next = []string{command("clipfence draft --for %s", who), command("clipfence gauge %s", who)}
	}
	if stale {
		d.Next = slices.Insert(d.Next, 0, "clipfence coverage")
	}
	return a.print(d)
}

func (a *app) gaugeOne(s *work.Source, in *work.GaugeInput, res *work.GaugeResult, id model.ID,
	logs []string, stale bool) error {
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
		Since        time.Time  `json:"since,omitzero" doc:"when it was made, or since when the same was granted before"`
		Unused       int        `json:"unused"`
	}
	d := &render.Doc{Head: a.gaugeHead(in, res)}
	var row any
	holdings := []work.Holding{}
	if st := res.Of(id); st != nil {
		j, _ := judgement(st, in.AsOf)
		d.Lines = append(d.Lines,
			fmt.Sprintf("%s: %s. Last use %s, habit %s. It holds danger %s, of which %s is not needed.", id, j,
				lastUse(st, in.AsOf), habit(st), render.Count(int(st.Danger+0.5)),
				render.Count(int(st.Removable+0.5))))
		told := gaugeRowsOf(res, []*work.Standing{st}, in.AsOf)[0]
		d.Lines = append(d.Lines, fmt.Sprintf("Granted: %s by name, %s through groups, %s to anybody.",
			render.Plural(told.ByName, "permission"), render.Count(told.ByGroups), render.Count(told.ByCrowds)))
		if id.Kind == model.Group {
			d.Lines = append(d.Lines,
				fmt.Sprintf("%s in it can sign in; %s of them used none of its own grants in the window.",
					identities(st.Members), render.Count(st.Silent)))
		}
		d.Lines = append(d.Lines, reachWords(id, st.Within, st.Danger, s))
		row, holdings = told, s.Holdings(id)
		if id.Kind != model.Group { // its members call
			d.Lines = append(d.Lines, "Of its calls: "+lowerFirst(placedWords(res.Placement.Of[id])))
		}
	} else {
		for _, i := range s.GrantsTo(id) {
			holdings = append(holdings, work.Holding{Number: i, Grant: s.Grant(i), Chain: []model.ID{id}})
		}
	}
	t := render.Table{Columns: []render.Column{{Name: "GRANT"}, {Name: "THROUGH"}, {Name: "ROLE"},
		{Name: "WHERE", Path: true}, {Name: "GRANTED", Right: true}, {Name: "USED", Right: true},
		{Name: "KEPT", Right: true}, {Name: "UNUSED", Right: true}, {Name: "DANGER", Right: true}}}
	rows := []grantRow{}
	var older olderGrants
	for _, h := range holdings {
		g := res.Grants[h.Number]
		gr := g.Grant
		through := "direct"
		if len(h.Chain) > 1 {
			through = h.Chain[len(h.Chain)-1].String()
		}
		role := gr.Role
		switch role {
		case "":
			role = "(list)"
		case gr.ID: // a fence calls both alike
			role = "(its own)"
		}
		kept := g.Rare.Count() + g.TooNew.Count() + g.Unobservable.Count() + g.Undecidable.Count() + g.Held.Count()
		rows = append(rows, grantRow{gr.ID, h.Chain, gr.Role, places(gr.Where), int(g.Danger + 0.5), int(g.Kept + 0.5),
			g.Perms.Count(), g.Used.Count(), g.Rare.Count(), g.TooNew.Count(), g.Unobservable.Count(),
			g.Undecidable.Count(), g.Held.Count(), g.Since, g.Unused.Count()})
		older.note(g)
		t.Row(render.C(gr.ID), render.C(through), render.C(role), render.C(places(gr.Where)),
			render.C(render.Count(g.Perms.Count())), render.C(render.Count(g.Used.Count())),
			render.C(render.Count(kept)), render.C(render.Count(g.Unused.Count())),
			render.C(render.Count(int(g.Danger+0.5))))
	}
	d.Tables = []render.Table{t}
	d.Notes = []string{"KEPT: used before the window by a habit that is not over, too new to judge, not " +
		"observable, perhaps used by a call that could not be placed, or held by somebody whose silence proves " +
		"nothing yet; never taken for unused."}
	over := s.OverFor(id)
	d.Notes = append(append(d.Notes, older.words()...), overWords(over)...)
	switch st := res.Of(id); {
	case st == nil:
	case st.State == work.Protected: // it is never changed
	case len(holdings) == 0: // nothing can be taken, and what is over can be given again
		if len(over) > 0 {
			d.Next = []string{command("clipfence draft --for %s --from ends --until TIME", over[0].To)}
		}
	case st.State == work.Rare && st.LastUse.IsZero(), st.State == work.Unproven && !st.Dark:
		d.Next = []string{"clipfence coverage", command("clipfence reach %s", id)} // a draft has nothing to go by
	default:
		who := id
		listed := func(h work.Holding) bool { return !onlyByLog(s, h.Chain) }
		if len(holdings) > 0 && !slices.ContainsFunc(holdings, listed) {
			who = holdings[0].Chain[1] // its groups can be narrowed, and not left
		}
		d.Next = []string{command("clipfence draft --for %s", who)}
	}
	if d.Lines = append(d.Lines, logs...); stale {
		d.Next = slices.Insert(d.Next, 0, "clipfence coverage")
	}
	d.Value, d.Rows = map[string]any{"identity": row, "grants": rows, "over": over}, rows
	return a.print(d)
}

// olderGrants are grants that are judged as older than they say, by when they were made and since when they are
// judged.
type olderGrants struct {
	spans [][2]string
	ids   map[[2]string][]string
}

func (o *olderGrants) note(g *work.GrantResult) {
	if !g.Since.Before(g.Grant.Created) {
		return
	}
	span := [2]string{g.Grant.Created.UTC().Format(time.DateOnly), g.Since.UTC().Format(time.DateOnly)}
	if o.ids == nil {
		o.ids = map[[2]string][]string{}
	}
	if len(o.ids[span]) == 0 {
		o.spans = append(o.spans, span)
	}
	o.ids[span] = append(o.ids[span], g.Grant.ID)
}

// words tells of them, those of the same days together.
func (o *olderGrants) words() (out []string) {
	for _, span := range o.spans {
		const most = 3
		ids := o.ids[span]
		was, is, it := "was", "is", "it"
		if len(ids) > 1 {
			was, is, it = "were", "are", "them"
		}
		names := strings.Join(ids[:min(most, len(ids))], ", ")
		if more := len(ids) - most; more > 0 {
			names += fmt.Sprintf(" and %d more", more)
		}
		out = append(out, fmt.Sprintf("%s %s made on %s, and %s judged as granted since %s: the same was there, "+
			"a change of ours replaced what gave it, or most of what was made with %s was used before.", names, was,
			span[0], is, span[1], it))
	}
	return out
}

// onlyByLog reports whether something reaches an identity by a group in which its source lists nobody.
func onlyByLog(s *work.Source, chain []model.ID) bool {
	if len(chain) < 2 {
		return false
	}
	g, _ := s.Identity(chain[1])
	return g.ByLog && chain[1].Kind == model.Group
}

// againWords says that the dates of some grants are not those since when they are granted.
func againWords(n int) string {
	return fmt.Sprintf("Made again, and judged as older than they say: %s. Earlier surveys show the same, a change "+
		"of ours replaced what gave it, or most of those that were made with them were used before (clipfence gauge "+
		"IDENTITY says since when).",
		render.Plural(n, "grant"))
}

func lowerFirst(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// reachCell is the danger within reach, marked where it is more than what is held.
func reachCell(s *work.Standing) render.Cell {
	c := render.C(render.Count(int(s.Within.Danger + 0.5)))
	if s.Within.Further(s.Danger) {
		c.Tone = render.Bad
	}
	return c
}

// reachWords says what is within reach of an identity beside what it holds.
func reachWords(id model.ID, r work.WithinReach, held float64, s *work.Source) string {
	if !r.Further(held) && r.Nodes == 0 {
		return "Within its reach is nothing more: it cannot give itself more, nor act as anybody who has more."
	}
	var how []string
	switch {
	case r.Nodes > 0 && r.Becomes == 0:
		how = append(how, fmt.Sprintf("it can give itself anything on %s of %s", render.Count(r.Nodes),
			render.Plural(s.Nodes(), "node")))
	case r.Nodes > 0:
		how = append(how, fmt.Sprintf("it or one whom it can become can give itself anything on %s of %s",
			render.Count(r.Nodes), render.Plural(s.Nodes(), "node")))
	}
	switch {
	case r.Anybody:
		how = append(how, "it can become anybody")
	case r.Becomes > 0:
		how = append(how, "it can become "+identities(r.Becomes))
	}
	if len(how) == 0 { // by rights that it can give itself on no place that the inventory lists
		how = append(how, "it can give itself more")
	}
	return fmt.Sprintf("Within its reach is danger %s: %s. How: %s", render.Count(int(r.Danger+0.5)),
		strings.Join(how, ", and "), command("clipfence reach %s --escalation", id))
}
