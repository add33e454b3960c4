package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

// whatIf asks a question of an estate as it would be.
type whatIf struct{ without, with []string }

func (q *whatIf) flags(f *pflag.FlagSet) {
	f.StringArrayVar(&q.without, "without", nil, "as if this were gone: grant:ID, role:NAME, member:WHO>GROUP or an identity")
	f.StringArrayVar(&q.with, "with", nil, "as if this fence were in force")
}

// apply returns the estate as it would be, and whether it differs from what is.
func (q *whatIf) apply(w *workspace, s *surveyed) (*surveyed, bool, error) {
	if len(q.without)+len(q.with) == 0 {
		return s, false, nil
	}
	r, err := q.removal(s.engine.Estate)
	if err != nil {
		return nil, false, err
	}
	e := engine.Without(s.engine.Estate, r)
	for _, name := range q.with {
		_, f, _, err := w.fence(name, s)
		if err != nil {
			return nil, false, err
		}
		e = f.Apply(e)
	}
	out := *s
	out.engine = engine.New(e)
	return &out, true, nil
}

func (q *whatIf) removal(e *model.Estate) (engine.Removal, error) {
	var r engine.Removal
	for _, text := range q.without {
		kind, rest, _ := strings.Cut(text, ":")
		fail := func(format string, args ...any) (engine.Removal, error) {
			return r, fmt.Errorf("--without %s: %s", text, fmt.Sprintf(format, args...))
		}
		switch kind {
		case "grant":
			if !slices.ContainsFunc(e.Grants, func(g model.Grant) bool { return g.ID == rest }) {
				return fail("source %s has no grant %q", e.Source, rest)
			}
			r.Grants = append(r.Grants, rest)
		case "role":
			if _, ok := namedRole(e, rest); !ok || rest == "" {
				return fail("source %s has no role %q", e.Source, rest)
			}
			r.Roles = append(r.Roles, rest)
		case "member":
			who, group, _ := strings.Cut(rest, ">")
			m, err1 := model.ParseID(who)
			g, err2 := model.ParseID(group)
			if err1 != nil || err2 != nil {
				return fail("want member:WHO>GROUP, such as member:person/a>group/b")
			}
			if !slices.ContainsFunc(e.Memberships, func(x model.Membership) bool { return x.Member == m && x.Group == g }) {
				return fail("%s is not a direct member of %s", m, g)
			}
			r.Memberships = append(r.Memberships, model.Membership{Member: m, Group: g})
		default:
			id, err := model.ParseID(text)
			if err != nil {
				return fail("want grant:ID, role:NAME, member:WHO>GROUP or an identity")
			}
			id.Source = ""
			if !slices.ContainsFunc(e.Identities, func(i model.Identity) bool { return i.ID == id }) {
				return fail("source %s has no such identity", e.Source)
			}
			r.Identities = append(r.Identities, id)
		}
	}
	return r, nil
}

// compareReach says what an identity would lose, gain and keep.
func (a *app) compareReach(before, after *surveyed, id model.ID, filter permissionFilter, all bool) error {
	const most = 30
	e := before.engine.Estate
	d := engine.Compare(before.engine, after.engine, id)
	type row struct {
		Becomes    string           `json:"becomes"`
		Permission model.Permission `json:"permission"`
		Level      string           `json:"level"`
		On         string           `json:"on"`
		Grant      string           `json:"grant"`
		Left       []string         `json:"left_on,omitempty"`
	}
	rows := []row{}
	count := map[string]int{}
	add := func(what string, ps []engine.Place) {
		slices.SortStableFunc(ps, func(x, y engine.Place) int {
			return int(e.Catalogue[y.Permission].Level) - int(e.Catalogue[x.Permission].Level)
		})
		for _, p := range ps {
			c := e.Catalogue[p.Permission]
			if filter(c) {
				r := row{what, c.Permission, c.Level.String(), p.On.String(), p.Grant.ID, nil}
				for _, on := range p.Left {
					r.Becomes = "narrowed"
					r.Left = append(r.Left, on.String())
				}
				rows = append(rows, r)
				count[r.Becomes]++
			}
		}
	}
	add("lost", d.Lost)
	add("gained", d.Gained)
	add("stays", d.Stays)
	t := render.Table{Columns: []render.Column{{Name: "BECOMES"}, {Name: "PERMISSION"}, {Name: "LEVEL"}, {Name: "BY GRANT"}, {Name: "ON", Wrap: true}}}
	tone := map[string]render.Tone{"lost": render.Bad, "narrowed": render.Plain, "gained": render.Warn, "stays": render.Good}
	for i, r := range rows {
		if i == most && !all {
			break
		}
		on := r.On
		if len(r.Left) > 0 {
			on += " -> " + strings.Join(r.Left, ", ")
		}
		t.Row(render.Cell{Text: r.Becomes, Tone: tone[r.Becomes]}, render.C(r.Permission.String()), render.C(r.Level), render.C(r.Grant), render.C(on))
	}
	doc := &render.Doc{Head: fmt.Sprintf("%s would lose %d, keep %d on fewer places, gain %d and keep %d by other grants, counted in permissions on places", id, count["lost"], count["narrowed"], count["gained"], count["stays"]), Value: rows}
	if len(rows) > 0 {
		doc.Tables = []render.Table{t}
	}
	if len(t.Rows) < len(rows) {
		doc.Notes = append(doc.Notes, fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(rows)))
	}
	return a.print(doc)
}
