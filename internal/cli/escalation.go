package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
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
func told(steps []work.EscalationStep) []stepRow {
	out := []stepRow{}
	for _, s := range steps {
		r := stepRow{Who: s.Who, Kind: s.Kind, Permission: s.Permission, At: s.At, As: s.By, Becomes: s.Becomes,
			Admin: s.Admin, Conditional: s.Conditional}
		switch s.Kind {
		case work.StepActAs:
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

// escalationFrom says what an identity can give itself.
func (a *app) escalationFrom(s *work.Source, id model.ID, f *reachFlags) error {
	const most = 20
	e, err := s.EscalationFrom(id)
	if err != nil {
		return err
	}
	anybody := e.Anybody
	rows, becomes := []nodeRow{}, []routeRow{}
	gains := 0
	for _, n := range e.Nodes {
		rows = append(rows, nodeRow{n.Node, n.Already, told(n.Steps)})
		if !n.Already {
			gains++
		}
	}
	for _, r := range e.Becomes {
		becomes = append(becomes, routeRow{r.Identity, told(r.Steps)})
	}
	d := &render.Doc{Value: escalationValue{id, rows, becomes, anybody != nil}, Rows: rows}
	switch {
	case gains > 0:
		d.Head = fmt.Sprintf("ESCALATION: %s can make itself administrator of %d more of %s that matter", id, gains,
			render.Plural(e.Matter, "node"))
	case len(rows) > 0:
		d.Head = fmt.Sprintf("%s is administrator of %d of %s that matter, and cannot become one of more", id,
			len(rows), render.Plural(e.Matter, "node"))
	default:
		d.Head = fmt.Sprintf("%s cannot make itself administrator of any of %s that matter", id,
			render.Plural(e.Matter, "node"))
	}
	if len(rows) > 0 {
		t := render.Table{Columns: []render.Column{{Name: "ADMINISTRATOR OF", Path: true}, {Name: "HOW", Wrap: true}}}
		for i, r := range rows {
			if i == most && !f.all {
				d.Notes = append(d.Notes, fmt.Sprintf("%d of %s nodes shown; all: --all", most,
					render.Count(len(rows))))
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
				d.Notes = append(d.Notes, fmt.Sprintf("%d of %s identities shown; all: --all", most,
					render.Count(len(becomes))))
				break
			}
			t.Row(render.C(r.Identity.String()), render.C(sentence(r.Steps)))
		}
		d.Tables = append(d.Tables, t)
	}
	d.Notes = append(d.Notes, "Nodes that matter here: the top of the source and the two levels below it; another: "+
		"clipfence reach --into NODE --escalation")
	if len(rows) > 0 {
		d.Next = []string{command("clipfence reach --into %s --escalation", rows[0].Node)}
	}
	return a.print(d)
}

// escalationInto says who can become administrator of a node, and what to take away so
// that nobody can.
func (a *app) escalationInto(ctx context.Context, w *work.Workspace, src work.SourceConfig, s *work.Source,
	path model.Path, f *reachFlags) error {
	const most = 20
	e, err := w.EscalationInto(ctx, src, s, path, f.kind.value)
	if err != nil {
		return err
	}
	names, rows := e.Administrators, []routeRow{}
	for _, r := range e.CanBecome {
		rows = append(rows, routeRow{r.Identity, told(r.Steps)})
	}
	cuts := []cutRow{}
	d := &render.Doc{Head: fmt.Sprintf("%s can edit grants on %s; nobody else can make itself administrator of it",
		identities(len(names)), path)}
	if len(rows) > 0 {
		d.Head = fmt.Sprintf("ESCALATION: %s can make themselves administrator of %s, beside %s who can edit "+
			"grants on it", identities(len(rows)), path, identities(len(names)))
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
		t := render.Table{Columns: []render.Column{{Name: "IDENTITY"}, {Name: "STEPS", Right: true},
			{Name: "HOW", Wrap: true}}}
		for i, r := range rows {
			if i == most && !f.all {
				d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown, the shortest ways; all: --all", most,
					len(rows)))
				break
			}
			t.Row(render.C(r.Identity.String()), render.C(fmt.Sprint(len(r.Steps))), render.C(sentence(r.Steps)))
		}
		d.Tables = append(d.Tables, t)
		if e.Cut == nil {
			d.Notes = append(d.Notes,
				"Nothing that may be taken away breaks every way: what is left belongs to protected identities, or "+
					"the source lets somebody through every check.")
		} else {
			cut := e.Cut
			t := render.Table{Title: "Smallest set to take away, so that nobody can (what is used counts dearer):",
				Columns: []render.Column{{Name: "TAKE AWAY"}, {Name: "OF"}, {Name: "USED", Wrap: true}}}
			without := ""
			for _, gr := range cut.Grants {
				c := cutRow{Grant: gr.ID, Of: gr.To, Used: usedWords(e.Used[gr.ID], e.Days)}
				cuts = append(cuts, c)
				t.Row(render.C(grantWords(gr)), render.C(gr.To.String()), render.C(c.Used))
				without += command(" --without %s", "grant:"+gr.ID)
			}
			for _, a := range cut.ActAs {
				c := cutRow{ActAs: a.ID, Of: a.From, Used: "not known"}
				cuts = append(cuts, c)
				t.Row(render.C(fmt.Sprintf("act-as %s: to act as %s", a.ID, a.To)), render.C(a.From.String()),
					render.C(c.Used))
			}
			d.Tables = append(d.Tables, t)
			if len(cut.Lose) > 0 {
				var names []string
				for _, i := range cut.Lose[:min(len(cut.Lose), 5)] {
					names = append(names, i.String())
				}
				d.Notes = append(d.Notes, fmt.Sprintf("%s can edit grants there now, and could no longer: %s.",
					identities(len(cut.Lose)), strings.Join(names, ", ")))
			}
			if len(cut.ActAs) == 0 && len(cut.Grants) < 10 && without != "" {
				d.Next = append(d.Next, command("clipfence reach --into %s --escalation", path)+without)
			}
		}
	}
	d.Notes = append(d.Notes, "Proven from the survey, with every denial, guardrail and ceiling; a credential or "+
		"code whose owner the inventory does not tell (runs_as) is not counted.")
	if len(d.Next) == 0 && len(rows) > 0 {
		d.Next = []string{command("clipfence reach %s --escalation", rows[0].Identity)}
	}
	d.Value, d.Rows = administratorsValue{path, names, rows, cuts}, rows
	return a.print(d)
}

// usedWords says how much a grant was used that may be taken away.
func usedWords(r *work.GrantResult, days int) string {
	switch {
	case r == nil:
		return "not known"
	case r.Used.Count()+r.Rare.Count() > 0:
		return fmt.Sprintf("%d of %s", r.Used.Count()+r.Rare.Count(), render.Plural(r.Perms.Count(), "permission"))
	case r.Unobservable.Count() > 0:
		return fmt.Sprintf("not seen; for %s no log would show it",
			render.Plural(r.Unobservable.Count(), "permission"))
	}
	return fmt.Sprintf("never in %d days", days)
}
