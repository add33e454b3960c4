package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

type reachFlags struct {
	into, set, permission, under string
	level, kind, by              choice
	direct, through, escalation  bool
	all                          bool
	compare                      int64
	what                         work.WhatIf
}

func (a *app) reachCmd() *cobra.Command {
	var f reachFlags
	f.level.of = []string{"see", "read", "change", "administer", "hand-out"}
	f.kind.of = []string{"person", "workload", "external"}
	f.by.of = []string{"grant", "role", "place", "level"}
	cmd := &cobra.Command{
		Use: "reach [IDENTITY]", Short: "Effective access from an identity, into a place, or into a set of resources",
		Args: cobra.MaximumNArgs(1),
		Long: `Say what an identity can do, after groups, denials, guardrails and ceilings: summed
up, and then grant by grant, or --by role, place or level. With --into PATH: who can do
what on that place. With --set NAME: who can do what in a set of resources that
clipfence.yaml names under resource_sets.

With --escalation: what an identity can give itself, step by step; with --into NODE: who
can make itself administrator there, and the smallest set of grants without which nobody
can.

--permission, --level and --under look at a part; --direct leaves out what comes by
groups; --through adds what can be done by acting as others, in any number of steps.

With --without (grant:ID, role:NAME, member:WHO>GROUP or an identity) and --with
FENCE the question is asked of the estate as it would be, and for an identity it is
told what it would lose, gain, and keep because something else gives it too. With
--compare SURVEY the same is told of what changed since an earlier survey.

Identities of other sources that clipfence.yaml links into this one are counted in;
name them with their source and say --source: reach dir:person/a --source mooring.`,
		Example: `  clipfence reach workload/build-runner --through
  clipfence reach person/ingrid.vaage --by place --level change
  clipfence reach --into /mooring/harbour:ternhaven/pier:commercial/berth:ticketing/box:sales --level change
  clipfence reach --set ticketing --level administer
  clipfence reach --into /mooring/harbour:ternhaven/pier:platform --escalation
  clipfence reach workload/ticket-export --without grant:g-0428
  clipfence reach workload/ticket-export --compare 1`,
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			asked := len(args)
			for _, s := range []string{f.into, f.set} {
				if s != "" {
					asked++
				}
			}
			if asked != 1 {
				return fmt.Errorf("say from whom (an identity), into what place (--into PATH) or into which set " +
					"(--set NAME), one of the three, such as: clipfence reach workload/ticket-export")
			}
			switch {
			case f.direct && f.through:
				return fmt.Errorf("--direct leaves out what --through adds: say one of the two")
			case f.escalation && (f.compare != 0 || f.direct || f.through || f.by.value != "" || f.permission != "" ||
				f.level.value != "" || f.under != ""):
				return fmt.Errorf("--escalation is asked of the whole: only --kind, --without, --with and --all go " +
					"with it")
			case f.by.value != "" && (f.into != "" || f.set != ""):
				return fmt.Errorf("--by sums up what an identity can do; into a place or a set everybody is listed")
			case f.kind.value != "" && len(args) == 1:
				return fmt.Errorf("--kind says of whom to tell: it goes with --into and --set")
			}
			filter, err := work.NewPart(f.permission, f.level.value, f.under)
			if err != nil {
				return err
			}
			filter.Kind, filter.Direct = f.kind.value, f.direct
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				return a.reach(cmd.Context(), w, args, filter,
					&f)
			})
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.into, "into", "", "a place: who can do what there")
	fl.StringVar(&f.set, "set", "", "a set of resources of clipfence.yaml: who can do what in it")
	fl.StringVar(&f.permission, "permission", "", "only permissions like this pattern")
	fl.Var(&f.level, "level", "only permissions of this level: "+strings.Join(f.level.of, ", "))
	fl.StringVar(&f.under, "under", "", "only this node and what is below it")
	fl.Var(&f.kind, "kind", "with --into and --set: only "+strings.Join(f.kind.of, ", "))
	fl.Var(&f.by, "by", "of an identity: by grant (default), role, place or level")
	fl.BoolVar(&f.direct, "direct", false, "only what is granted to it by name")
	fl.BoolVar(&f.through, "through", false, "also by acting as others, any number of steps")
	fl.BoolVar(&f.escalation, "escalation", false,
		"what an identity can give itself; with --into: who can become administrator there, and what to take away")
	fl.Int64Var(&f.compare, "compare", 0, "what changed since this survey (see: clipfence survey list)")
	fl.BoolVar(&f.all, "all", false, "everything, not only the first 30")
	whatIfFlags(&f.what, fl)
	return cmd
}

// reachValue is what an identity can do.
type reachValue struct {
	Identity    model.ID      `json:"identity"`
	Permissions int           `json:"permissions" doc:"different ones, on any node"`
	Certain     int           `json:"certain_permissions" doc:"of them those that hang on no condition"`
	Nodes       int           `json:"nodes" doc:"nodes of the inventory on which it has any"`
	CanActAs    int           `json:"can_act_as" doc:"how many identities, in any number of steps"`
	Ways        []reachRow    `json:"ways"`
	Groups      []work.WaySum `json:"groups,omitempty" doc:"with --by role, place or level: the ways summed up"`
	Seen        []work.SeenIn `json:"members_by_the_log,omitempty" doc:"steps into groups in which the source lists nobody"`
	Over        []work.Ending `json:"over,omitempty" doc:"grants to it and its groups that are over, and still listed"`
}

// stepWords says the steps by which one acts as another.
func stepWords(steps []*model.ActAs) []string {
	var out []string
	for _, st := range steps {
		word := cmp.Or(st.How, "act as")
		if c := st.Condition(); !c.IsZero() {
			word += " if " + c.String()
		}
		out = append(out, fmt.Sprintf("as %s (%s)", st.To, word))
	}
	return out
}

func levelTone(l model.Level) render.Tone {
	switch {
	case l >= model.Administer:
		return render.Bad
	case l == model.Change:
		return render.Warn
	}
	return render.Plain
}

// intoValue is who can do what on some nodes.
type intoValue struct {
	Into       string            `json:"into" doc:"a path, or a resource set"`
	Nodes      []model.Path      `json:"nodes"`
	Distinct   int               `json:"permissions" doc:"different ones, of anybody on any of the nodes"`
	Identities []work.IntoRow    `json:"identities"`
	Changes    []work.IntoChange `json:"changes,omitempty" doc:"with --compare, --without and --with: what became of whom"`
}

// changeWords says who lost, gained, has more and has less.
func changeWords(changes []work.IntoChange, all bool) string {
	const most = 5
	by := map[string][]string{}
	for _, c := range changes {
		text := c.Identity.String()
		switch {
		case c.Becomes == "lost", c.Becomes == "gained":
		case c.Before != c.After:
			text += fmt.Sprintf(" (%d -> %d permissions)", c.Before, c.After)
		case c.Lost+c.Gained == 0:
			text += " (by conditions)"
		default: // as many permissions, on other nodes
			text += fmt.Sprintf(" (%s lost, %d gained, of permission and node)", render.Plural(c.Lost, "pair"),
				c.Gained)
		}
		by[c.Becomes] = append(by[c.Becomes], text)
	}
	var out []string
	for _, kind := range [][2]string{{"lost", "no longer"}, {"less", "with less"}, {"more", "with more"},
		{"other", "with other access"}, {"gained", "new"}} {
		if list := by[kind[0]]; len(list) > 0 {
			if n := len(list); n > most && !all {
				list = append(list[:most:most], fmt.Sprintf("and %d more (--all)", n-most))
			}
			out = append(out, kind[1]+" "+strings.Join(list, ", "))
		}
	}
	if len(out) == 0 {
		return "nobody lost or gained anything here"
	}
	return strings.Join(out, "; ")
}

// reachInto says who can do what on some nodes, and what changed against before, which
// may be nil.
func (a *app) reachInto(s, before *work.Source, title string, nodes []model.Path, filter *work.Part,
	f *reachFlags, notes []string) error {
	const most = 30
	in := s.Into(before, nodes, filter, f.through)
	permissions, changes := in.Permissions, in.Changes
	var rows []work.IntoRow
	for _, r := range in.Rows {
		if r.Acting != nil {
			r.Steps = stepWords(r.Acting)
		}
		rows = append(rows, r)
	}
	kinds, levels := map[string]int{}, map[string]int{}
	t := render.Table{Columns: []render.Column{{Name: "IDENTITY"}, {Name: "NODES", Right: true},
		{Name: "PERMISSIONS", Right: true}, {Name: "ON CONDITION", Right: true}, {Name: "HIGHEST"}, {Name: "SUCH AS"}}}
	if f.through {
		t.Columns = append(t.Columns, render.Column{Name: "BY ACTING", Wrap: true})
	}
	for i, r := range rows {
		kinds[string(r.Identity.Kind)]++
		levels[r.Highest]++
		if i >= most && !f.all {
			continue
		}
		cells := []render.Cell{render.C(r.Identity.String()), render.C(render.Count(r.Nodes)),
			render.C(render.Count(r.Certain)), render.C(render.Count(r.Conditional)),
			{Text: r.Highest, Tone: levelTone(r.Top)}, render.C(r.Example)}
		if f.through {
			cells = append(cells, render.C(strings.Join(r.Steps, ", ")))
		}
		t.Row(cells...)
	}
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(kinds)) {
		switch word := render.Plural(kinds[k], k); model.IdentityKind(k) {
		case model.Everyone, model.SignedIn:
			parts = append(parts, k)
		case model.Person:
			parts = append(parts, strings.Replace(word, "persons", "people", 1))
		default:
			parts = append(parts, word)
		}
	}
	var byLevel []string
	for l := model.HandOut; l >= model.See; l-- {
		if n := levels[l.String()]; n > 0 {
			byLevel = append(byLevel, fmt.Sprintf("%d up to %s", n, l))
		}
	}
	public := "not public"
	if kinds[string(model.Everyone)] > 0 {
		public = "PUBLIC: anybody has access"
	} else if kinds[string(model.SignedIn)] > 0 {
		public = "open to anybody with an account"
	}
	if rows == nil {
		rows = []work.IntoRow{}
	}
	d := &render.Doc{Head: fmt.Sprintf("%s can touch %s (%s)", identities(len(rows)), title, public), Notes: notes}
	value := intoValue{Into: title, Nodes: nodes, Distinct: permissions, Identities: rows}
	if len(nodes) > 1 {
		d.Lines = append(d.Lines, render.Plural(len(nodes), "node")+" in it")
	}
	if len(rows) > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("%s; %s; %s in all", strings.Join(parts, ", "),
			strings.Join(byLevel, ", "), render.Plural(permissions, "permission")))
		d.Tables = []render.Table{t}
		d.Next = []string{command("clipfence why %s %s %s", rows[0].Identity, rows[0].Example, rows[0].Place)}
	}
	if before != nil {
		words := "As it would be, against now"
		if f.compare != 0 {
			words = fmt.Sprintf("Since survey %d of %s", before.Survey.ID,
				before.Survey.Finished.Format(time.DateTime))
		}
		d.Lines = append(d.Lines, words+": "+changeWords(changes, f.all)+".")
		value.Changes = changes
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), render.Count(len(rows))))
	}
	if !f.through && !f.direct {
		d.Notes = append(d.Notes, "As themselves and by their groups; also who can act as them: --through")
	}
	if len(nodes) == 1 {
		if _, ok := s.Node(nodes[0]); !ok {
			d.Notes = append(d.Notes,
				"The inventory does not list this place; the answer holds for anything of that name.")
		}
	}
	d.Value, d.Rows = value, rows
	return a.print(d)
}

func (a *app) reach(ctx context.Context, w *work.Workspace, args []string, filter *work.Part, f *reachFlags) error {
	var id model.ID
	var path model.Path
	var err error
	named := ""
	switch {
	case f.into != "":
		if path, err = model.ParsePath(f.into); err == nil {
			named = path.Source()
		}
	case f.set == "":
		id, err = model.ParseID(args[0])
		named = id.Source
	}
	if err != nil {
		return err
	}
	src, err := w.About(&id, named)
	if err != nil {
		return err
	}
	if !id.IsZero() && !f.escalation && (f.what.Asked() || f.compare != 0) {
		return a.compareReach(ctx, w, src, id, filter, f)
	}
	s, err := w.Question(ctx, src, &f.what)
	if err == nil && !id.IsZero() {
		err = s.Known(id)
	}
	if err != nil {
		return err
	}
	switch {
	case f.escalation && f.set != "":
		return fmt.Errorf("--escalation is asked of an identity or of one node: --into NODE")
	case f.escalation && f.into != "":
		return a.escalationInto(ctx, w, src, s, path, f)
	case f.escalation:
		return a.escalationFrom(s, id, f)
	case f.into != "" || f.set != "":
		title, nodes := path.String(), []model.Path{path}
		if f.set != "" {
			if nodes, err = w.Set(s, f.set, filter.Under); err != nil {
				return err
			}
			title = "resource set " + f.set
		}
		var before *work.Source
		switch {
		case f.compare != 0:
			before, err = w.AsSurveyed(ctx, src, f.compare)
		case f.what.Asked():
			before, err = w.Surveyed(ctx, src)
		}
		if err != nil {
			return err
		}
		groups, err := w.LogGroups(ctx, s.Name)
		if err != nil {
			return err
		}
		return a.reachInto(s, before, title, nodes, filter, f, groupsLine(groups))
	}
	return a.reachFrom(ctx, w, s, id, filter, f)
}

type reachRow struct {
	As      model.ID   `json:"as,omitzero"`
	Steps   []string   `json:"steps,omitempty"`
	Chain   []model.ID `json:"chain"`
	Grant   string     `json:"grant"`
	Role    string     `json:"role,omitempty"`
	Where   []string   `json:"where"`
	When    string     `json:"when,omitempty"`
	Count   int        `json:"permissions"`
	Highest string     `json:"highest_level"`
	Blocked int        `json:"refused_everywhere"`
}

// wayRow says a way by which access reaches somebody, for people and for programs.
func wayRow(w *work.WayIn) (row reachRow, way string) {
	g := w.Grant
	row = reachRow{As: w.As, Steps: stepWords(w.Steps), Chain: w.Chain, Grant: g.ID, Role: g.Role,
		Count: w.Permissions.Count(), Highest: w.Highest.String(), Blocked: w.Blocked}
	if len(row.Steps) > 0 {
		way = strings.Join(row.Steps, ", ") + "; "
	}
	if len(w.Chain) > 1 {
		way += "in " + chainWords(w.Chain[1:])
	} else {
		way += "direct"
	}
	for _, on := range g.Where {
		row.Where = append(row.Where, on.String())
	}
	if c := g.Condition(); !c.IsZero() {
		row.When = c.String()
		way += ", if " + row.When
	}
	return row, way
}

func (a *app) reachFrom(ctx context.Context, w *work.Workspace, s *work.Source, id model.ID, filter *work.Part,
	f *reachFlags) error {
	r := s.From(id, filter, f.through)
	var chains [][]model.ID
	for i := range r.Ways {
		chains = append(chains, r.Ways[i].Chain)
	}
	seen, err := w.SeenIn(ctx, s, chains...)
	if err != nil {
		return err
	}
	d := &render.Doc{Notes: seenWords(seen)}
	acts := identities(len(r.Masks))
	if f.direct {
		d.Head = fmt.Sprintf("%s is granted %s by name, in %s", id, render.Plural(r.Permissions, "permission"),
			render.Plural(len(r.Ways), "grant"))
	} else {
		if !f.through && len(r.Masks) > 0 {
			d.Notes = append(d.Notes, fmt.Sprintf("It can also act as %s; with their access: --through", acts))
		}
		d.Head = fmt.Sprintf("%s can use %s on %s of the inventory", id, render.Plural(r.Permissions, "permission"),
			render.Plural(r.Nodes, "node"))
		if f.through {
			d.Head += fmt.Sprintf(", by itself and by acting as %s", acts)
		}
		if r.Certain < r.Permissions {
			d.Head += fmt.Sprintf(", %d of them only under conditions", r.Permissions-r.Certain)
		}
	}
	if filter.Some {
		d.Head += " (of the part asked for)"
	}
	if _, ok := s.Node(filter.Under); !filter.Under.IsZero() && !ok {
		d.Notes = append(d.Notes,
			fmt.Sprintf("The inventory lists no node %s. Of a place that nobody lists ask: %s", filter.Under,
				command("clipfence reach --into %s", filter.Under)))
	}
	if r.Nowhere > 0 {
		d.Notes = append(d.Notes,
			fmt.Sprintf("%s granted besides, on places where the inventory has no node of a kind that such a "+
				"permission applies to.", render.Plural(r.Nowhere, "permission")))
	}
	if words := levelWords(r.ByLevel); words != "" {
		d.Lines = append(d.Lines, "By level: "+words+".")
	}
	over := s.OverFor(id)
	d.Notes = append(d.Notes, overWords(over)...)
	rows := []reachRow{}
	t, sums, groups := a.reachTable(s, r.Ways, &rows, f)
	if len(t.Rows) > 0 {
		d.Tables = []render.Table{t}
	}
	if shown := len(t.Rows); shown < groups {
		d.Notes = append(d.Notes,
			fmt.Sprintf("%d of %d shown, the most dangerous; all: --all; summed up: --by role, --by place", shown,
				groups))
	}
	example := "PERMISSION PATH"
	if p, at, ok := s.Example(r.Ways); ok {
		example = command("%s %s", p, at)
	}
	d.Next = []string{command("clipfence why %s ", id) + example}
	d.Value, d.Rows = reachValue{id, r.Permissions, r.Certain, r.Nodes, len(r.Masks), rows, sums, seen, over}, rows
	if sums != nil {
		d.Rows = sums
	}
	return a.print(d)
}

// levelWords counts permissions by level, the most dangerous first.
func levelWords(n [model.HandOut + 1]int) string {
	var out []string
	for l := model.HandOut; l >= model.See; l-- {
		if n[l] > 0 {
			out = append(out, fmt.Sprintf("%s %s", render.Count(n[l]), l))
		}
	}
	return strings.Join(out, ", ")
}

// reachTable lists ways one by one, or summed up, and how many rows that makes in all.
func (a *app) reachTable(s *work.Source, ways []work.WayIn, rows *[]reachRow, f *reachFlags) (t render.Table,
	sums []work.WaySum, groups int) {
	const most = 30
	single := f.by.value == "" || f.by.value == "grant"
	if single {
		t.Columns = []render.Column{{Name: "WAY", Wrap: true}, {Name: "GRANT"}, {Name: "ROLE"},
			{Name: "PERMISSIONS", Right: true}, {Name: "HIGHEST"}, {Name: "WHERE", Path: true}}
	}
	for i := range ways {
		r, way := wayRow(&ways[i])
		*rows = append(*rows, r)
		if single && (i < most || f.all) {
			t.Row(render.C(way), render.C(r.Grant), render.C(cmp.Or(r.Role, "(list)")),
				render.C(render.Count(r.Count)), render.Cell{Text: r.Highest, Tone: levelTone(ways[i].Highest)},
				render.C(places(ways[i].Grant.Where)))
		}
	}
	if single {
		return t, nil, len(ways)
	}
	sums = s.SumWays(ways, f.by.value)
	t.Columns = []render.Column{{Name: strings.ToUpper(f.by.value), Path: f.by.value == "place"},
		{Name: "GRANTS", Right: true}, {Name: "PERMISSIONS", Right: true}, {Name: "HIGHEST"},
		{Name: "NODES", Right: true}}
	for i, r := range sums {
		if i < most || f.all {
			t.Row(render.C(r.Group), render.C(render.Count(r.Grants)), render.C(render.Count(r.Permissions)),
				render.Cell{Text: r.Highest, Tone: levelTone(r.Top)}, render.C(render.Count(r.Nodes)))
		}
	}
	return t, sums, len(sums)
}
