package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/config"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

type stepRow struct {
	Who         model.ID         `json:"who"`
	Kind        string           `json:"kind"`
	Permission  model.Permission `json:"permission,omitzero"`
	At          model.Path       `json:"at,omitzero"`
	As          model.ID         `json:"as_member_of,omitzero"`
	Becomes     model.ID         `json:"becomes,omitzero"`
	Admin       model.Path       `json:"administrator_of,omitzero"`
	Conditional bool             `json:"only_under_conditions,omitempty"`
	Text        string           `json:"text"`
}

type routeRow struct {
	Identity model.ID  `json:"identity"`
	Steps    []stepRow `json:"steps"`
}

// nodeRow is a node whose administrator an identity is, or can become.
type nodeRow struct {
	Node    model.Path `json:"node"`
	Already bool       `json:"already"`
	Steps   []stepRow  `json:"steps"`
}

// escalationValue is what an identity can give itself.
type escalationValue struct {
	Identity      model.ID   `json:"identity"`
	Administrator []nodeRow  `json:"administrator" doc:"of the nodes that matter"`
	Becomes       []routeRow `json:"becomes" doc:"whom it can become; where it can become anybody, those only for that are left out"`
	Anybody       bool       `json:"anybody" doc:"it can become anybody at all"`
}

// cutRow is a grant or an act-as edge to take away.
type cutRow struct {
	Grant string   `json:"grant,omitempty"`
	ActAs string   `json:"act_as,omitempty"`
	Of    model.ID `json:"of"`
	Used  string   `json:"used"`
}

// administratorsValue is who can become administrator of a node.
type administratorsValue struct {
	Node           model.Path `json:"node"`
	Administrators []model.ID `json:"administrators" doc:"who can edit grants on it already"`
	CanBecome      []routeRow `json:"can_become"`
	Cut            []cutRow   `json:"smallest_cut" doc:"without it nobody who is not administrator can become one"`
}

// told says the steps of a route, for people and for programs.
func told(steps []escalate.Step) []stepRow {
	out := []stepRow{}
	for _, s := range steps {
		r := stepRow{Who: s.Who, Kind: s.Kind, Permission: s.Permission, At: s.At, As: s.By, Becomes: s.Becomes, Admin: s.Admin, Conditional: s.Conditional}
		switch s.Kind {
		case escalate.ActAs:
			r.Text = fmt.Sprintf("acts as %s (%s)", s.Becomes, cmp.Or(s.Edge.How, "act as"))
		case model.EditGrants:
			r.Text = fmt.Sprintf("grants itself anything on %s", s.Admin)
		case model.EditRole:
			r.Text = fmt.Sprintf("puts anything into the role of grant %s", s.Grant)
		case model.JoinGroup:
			r.Text = "joins a group"
			if !s.Becomes.IsZero() {
				r.Text = "joins " + s.Becomes.String()
			}
		case model.MintCredential:
			r.Text = "mints a credential of " + who(s.Becomes)
		case model.RunAs:
			r.Text = "makes code run as " + who(s.Becomes)
		case model.LiftCeiling:
			r.Text = "lifts its ceiling"
		case model.LiftGuardrail:
			r.Text = "lifts guardrails"
		case model.LiftDenial:
			r.Text = "lifts denial " + s.Denial
		}
		if !s.Permission.IsZero() {
			r.Text += fmt.Sprintf(" (%s on %s", s.Permission, s.At)
			if s.At == s.Admin {
				r.Text = strings.TrimSuffix(r.Text, " on "+s.At.String()) + " there"
			}
			if !s.By.IsZero() {
				r.Text += ", as a member of " + s.By.String()
			}
			if s.Self {
				r.Text += ", which it grants itself"
			}
			r.Text += ")"
		}
		if s.Conditional {
			r.Text += ", under conditions"
		}
		out = append(out, r)
	}
	return out
}

func who(id model.ID) string {
	if id.IsZero() {
		return "anybody"
	}
	return id.String()
}

// sentence says a route in one line.
func sentence(steps []stepRow) string {
	var out []string
	last := model.ID{}
	for i, s := range steps {
		text := s.Text
		if i > 0 && s.Who != last { // it is another by now
			text = "as " + s.Who.String() + " " + text
		}
		last = s.Who
		out = append(out, fmt.Sprintf("%d. %s", i+1, text))
	}
	return strings.Join(out, "; ")
}

// matter returns the nodes whose administrators matter most: the top ones and the two
// levels below them that have something below themselves.
func (s *indexed) matter() []model.Path {
	const most = 64
	out := s.Tops()
	for i, depth := 0, 0; i < len(out) && len(out) < most; i++ {
		if i == 0 {
			depth = out[0].Depth()
		}
		if out[i].Depth() < depth+2 {
			s.Scopes(out[i], func(p model.Path) {
				if len(out) < most {
					out = append(out, p)
				}
			})
		}
	}
	return out
}

// escalationFrom says what an identity can give itself.
func (w *workspace) escalationFrom(s *indexed, id model.ID, f *reachFlags) error {
	const most = 20
	nodes := s.matter()
	n, ok := s.Number(id)
	if !ok {
		return s.known(id)
	}
	g := escalate.New(s.Index, nodes)
	routes, anybody := g.From(n)
	rows, becomes := []nodeRow{}, []routeRow{}
	gains := 0
	for i, p := range nodes {
		switch steps, already := g.Route(i, n); {
		case already:
			rows = append(rows, nodeRow{p, true, []stepRow{}})
		case len(steps) > 0:
			rows = append(rows, nodeRow{p, false, told(steps)})
			gains++
		}
	}
	for _, r := range routes {
		becomes = append(becomes, routeRow{s.ID(r.Identity), told(r.Steps)})
	}
	d := &render.Doc{Value: escalationValue{id, rows, becomes, anybody != nil}, Rows: rows}
	switch {
	case gains > 0:
		d.Head = fmt.Sprintf("ESCALATION: %s can make itself administrator of %d more of %s that matter", id, gains, render.Plural(len(nodes), "node"))
	case len(rows) > 0:
		d.Head = fmt.Sprintf("%s is administrator of %d of %s that matter, and cannot become one of more", id, len(rows), render.Plural(len(nodes), "node"))
	default:
		d.Head = fmt.Sprintf("%s cannot make itself administrator of any of %s that matter", id, render.Plural(len(nodes), "node"))
	}
	if len(rows) > 0 {
		t := render.Table{Columns: []render.Column{{Name: "ADMINISTRATOR OF", Path: true}, {Name: "HOW", Wrap: true}}}
		for i, r := range rows {
			if i == most && !f.all {
				d.Notes = append(d.Notes, fmt.Sprintf("%d of %d nodes shown; all: --all", most, len(rows)))
				break
			}
			how := "already"
			if !r.Already {
				how = sentence(r.Steps)
			}
			t.Row(render.C(r.Node.String()), render.C(how))
		}
		d.Tables = append(d.Tables, t)
	}
	if anybody != nil {
		d.Lines = append(d.Lines, "It can become anybody at all: "+sentence(told(anybody.Steps)))
	} else if len(becomes) > 0 {
		t := render.Table{Columns: []render.Column{{Name: "CAN BECOME"}, {Name: "HOW", Wrap: true}}}
		for i, r := range becomes {
			if i == most && !f.all {
				d.Notes = append(d.Notes, fmt.Sprintf("%d of %d identities shown; all: --all", most, len(becomes)))
				break
			}
			t.Row(render.C(r.Identity.String()), render.C(sentence(r.Steps)))
		}
		d.Tables = append(d.Tables, t)
	}
	d.Notes = append(d.Notes, "Nodes that matter here: the top of the source and the two levels below it; another: clipfence reach --into NODE --escalation")
	if len(rows) > 0 {
		d.Next = []string{"clipfence reach --into " + rows[0].Node.String() + " --escalation"}
	}
	return w.app.print(d)
}

// escalationInto says who can become administrator of a node, and what to take away so
// that nobody can.
func (w *workspace) escalationInto(ctx context.Context, src config.Source, s *indexed, path model.Path, f *reachFlags) error {
	const most = 20
	if _, ok := s.Node(path); !ok {
		return fmt.Errorf("the inventory of source %s lists no node %s: nobody can be its administrator", s.Name, path)
	}
	g := escalate.New(s.Index, []model.Path{path})
	already, routes := g.Administrators(0), g.CanBecome(0)
	names, rows := []model.ID{}, []routeRow{}
	for _, a := range already {
		names = append(names, s.ID(a))
	}
	for _, r := range routes {
		if id := s.ID(r.Identity); f.kind.value == "" || string(id.Kind) == f.kind.value {
			rows = append(rows, routeRow{id, told(r.Steps)})
		}
	}
	slices.SortStableFunc(rows, func(a, b routeRow) int { return cmp.Compare(len(a.Steps), len(b.Steps)) })
	cuts := []cutRow{}
	d := &render.Doc{Head: fmt.Sprintf("%s can edit grants on %s; nobody else can make itself administrator of it", identities(len(names)), path)}
	if len(rows) > 0 {
		d.Head = fmt.Sprintf("ESCALATION: %s can make themselves administrator of %s, beside %s who can edit grants on it", identities(len(rows)), path, identities(len(names)))
		if len(rows) == 1 {
			d.Head = strings.Replace(d.Head, "themselves", "itself", 1)
		}
	}
	list := names[:min(len(names), 8)]
	var texts []string
	for _, id := range list {
		texts = append(texts, id.String())
	}
	if len(list) < len(names) {
		texts = append(texts, fmt.Sprintf("and %d more", len(names)-len(list)))
	}
	if len(texts) > 0 {
		d.Lines = append(d.Lines, "Administrators: "+strings.Join(texts, ", ")+".")
	}
	if len(rows) > 0 {
		t := render.Table{Columns: []render.Column{{Name: "IDENTITY"}, {Name: "STEPS", Right: true}, {Name: "HOW", Wrap: true}}}
		for i, r := range rows {
			if i == most && !f.all {
				d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown, the shortest ways; all: --all", most, len(rows)))
				break
			}
			t.Row(render.C(r.Identity.String()), render.C(fmt.Sprint(len(r.Steps))), render.C(sentence(r.Steps)))
		}
		d.Tables = append(d.Tables, t)
		costs, used, err := w.costs(ctx, src)
		if err != nil {
			return err
		}
		cut, err := g.SmallestCut(costs)
		switch {
		case errors.Is(err, escalate.ErrUncuttable):
			d.Notes = append(d.Notes, "Nothing that may be taken away breaks every way: what is left belongs to protected identities, or the source lets somebody through every check.")
		case err != nil:
			return err
		default:
			t := render.Table{Title: "Smallest set to take away, so that nobody can (what is used counts dearer):", Columns: []render.Column{{Name: "TAKE AWAY"}, {Name: "OF"}, {Name: "USED", Wrap: true}}}
			without := ""
			for _, gr := range cut.Grants {
				c := cutRow{Grant: gr.ID, Of: gr.To, Used: used(gr.ID)}
				cuts = append(cuts, c)
				t.Row(render.C(grantWords(gr)), render.C(gr.To.String()), render.C(c.Used))
				without += " --without grant:" + gr.ID
			}
			for _, a := range cut.ActAs {
				c := cutRow{ActAs: a.ID, Of: a.From, Used: "not known"}
				cuts = append(cuts, c)
				t.Row(render.C(fmt.Sprintf("act-as %s: to act as %s", a.ID, a.To)), render.C(a.From.String()), render.C(c.Used))
			}
			d.Tables = append(d.Tables, t)
			if len(cut.Lose) > 0 {
				var names []string
				for _, i := range cut.Lose[:min(len(cut.Lose), 5)] {
					names = append(names, s.ID(i).String())
				}
				d.Notes = append(d.Notes, fmt.Sprintf("%s can edit grants there now, and could no longer: %s.", identities(len(cut.Lose)), strings.Join(names, ", ")))
			}
			if len(cut.ActAs) == 0 && len(cut.Grants) < 10 && without != "" {
				d.Next = append(d.Next, fmt.Sprintf("clipfence reach --into %s --escalation%s", path, without))
			}
		}
	}
	d.Notes = append(d.Notes, "Proven from the survey, with every denial, guardrail and ceiling; a credential or code whose owner the inventory does not tell (runs_as) is not counted.")
	if len(d.Next) == 0 && len(rows) > 0 {
		d.Next = []string{fmt.Sprintf("clipfence reach %s --escalation", rows[0].Identity)}
	}
	d.Value, d.Rows = administratorsValue{path, names, rows, cuts}, rows
	return w.app.print(d)
}

// costs weighs what may be taken away by how much it was used.
func (w *workspace) costs(ctx context.Context, src config.Source) (escalate.Costs, func(grant string) string, error) {
	_, in, res, err := w.gauged(ctx, src, 0)
	if err != nil {
		return escalate.Costs{}, nil, err
	}
	by := map[string]*gauge.GrantResult{}
	for _, g := range res.Grants {
		by[g.Grant.ID] = g
	}
	protected := maps.Clone(in.Protected)
	if protected == nil {
		protected = map[model.ID]bool{}
	}
	for _, i := range in.Engine.Estate.Identities {
		if i.BreakGlass() {
			protected[i.ID] = true
		}
	}
	var under func(id model.ID, seen map[model.ID]bool) bool // whether somebody protected is in it
	under = func(id model.ID, seen map[model.ID]bool) bool {
		if protected[id] {
			return true
		}
		seen[id] = true
		return slices.ContainsFunc(in.Engine.MembersOf(id), func(m model.ID) bool { return !seen[m] && under(m, seen) })
	}
	costs := escalate.Costs{Protected: protected,
		Grant: func(g *model.Grant) int64 {
			if under(g.To, map[model.ID]bool{}) {
				return -1
			}
			r := by[g.ID]
			if r == nil {
				return 10
			}
			return int64(1 + 3*r.Used.Count() + r.Rare.Count() + min(r.Unobservable.Count(), 5))
		},
		ActAs: func(a *model.ActAs) int64 {
			if under(a.From, map[model.ID]bool{}) {
				return -1
			}
			return 20 // no log tells how much it is used
		}}
	used := func(id string) string {
		r := by[id]
		switch {
		case r == nil:
			return "not known"
		case r.Used.Count()+r.Rare.Count() > 0:
			return fmt.Sprintf("%d of %s", r.Used.Count()+r.Rare.Count(), render.Plural(r.Perms.Count(), "permission"))
		case r.Unobservable.Count() > 0:
			return fmt.Sprintf("not seen; for %s no log would show it", render.Plural(r.Unobservable.Count(), "permission"))
		}
		return fmt.Sprintf("never in %d days", in.Window)
	}
	return costs, used, nil
}
