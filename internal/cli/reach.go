package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

func (a *app) reachCmd() *cobra.Command {
	var into, permission string
	var level choice
	level.of = []string{"list", "read", "write", "administer", "hand-out"}
	var through, all bool
	cmd := &cobra.Command{
		Use: "reach [IDENTITY]", Short: "Effective access from an identity, or into a place", Args: cobra.MaximumNArgs(1),
		Long: `Say what an identity can do, grant by grant, after groups, denials, guardrails
and ceilings; with --through also what it can do by acting as others. With
--into PATH: who can do what on that place.`,
		Example:           "  clipfence reach workload/build-runner --through\n  clipfence reach --into /mooring/org:ternhaven/unit:commercial/project:ticketing/bucket:sales --level write",
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 1) == (into != "") {
				return fmt.Errorf("say from whom (an identity) or into what (--into PATH), one of the two")
			}
			filter, err := newFilter(permission, level.value)
			if err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				if into != "" {
					path, err := model.ParsePath(into)
					if err != nil {
						return err
					}
					src, err := w.pick(path.Source())
					if err != nil {
						return err
					}
					s, err := w.surveyed(cmd.Context(), src)
					if err != nil {
						return err
					}
					return a.reachInto(s, path, filter, all)
				}
				id, named, err := parseID(args[0])
				if err != nil {
					return err
				}
				src, err := w.pick(named)
				if err != nil {
					return err
				}
				s, err := w.surveyed(cmd.Context(), src)
				if err == nil {
					err = s.known(id)
				}
				if err != nil {
					return err
				}
				return a.reachFrom(s, id, filter, through)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&into, "into", "", "a place: who can do what there")
	f.StringVar(&permission, "permission", "", "only permissions like this pattern")
	f.Var(&level, "level", "only permissions of this level: "+strings.Join(level.of, ", "))
	f.BoolVar(&through, "through", false, "also by acting as others, any number of steps")
	f.BoolVar(&all, "all", false, "every identity, not only the first 30")
	return cmd
}

type permissionFilter func(model.CatalogueEntry) bool

func newFilter(permission, level string) (permissionFilter, error) {
	pat := model.MustPermissionPattern("*")
	if permission != "" {
		var err error
		if pat, err = model.ParsePermissionPattern(permission); err != nil {
			return nil, err
		}
	}
	return func(c model.CatalogueEntry) bool {
		return pat.Matches(c.Permission) && (level == "" || c.Level.String() == level)
	}, nil
}

type reachRow struct {
	As      model.ID   `json:"as,omitzero"`
	Steps   []string   `json:"steps,omitempty"`
	Chain   []model.ID `json:"chain"`
	Grant   string     `json:"grant"`
	Role    string     `json:"role,omitempty"`
	On      []string   `json:"on"`
	When    string     `json:"when,omitempty"`
	Count   int        `json:"permissions"`
	Highest string     `json:"highest_level"`
	Blocked int        `json:"refused_everywhere"`
}

func (a *app) reachFrom(s *surveyed, id model.ID, filter permissionFilter, through bool) error {
	e := s.engine.Estate
	t := render.Table{Columns: []render.Column{{Name: "WAY", Wrap: true}, {Name: "GRANT"}, {Name: "ROLE"}, {Name: "PERMISSIONS", Right: true}, {Name: "HIGHEST"}, {Name: "ON", Path: true}}}
	rows := []reachRow{}
	distinct := engine.NewBits(len(e.Catalogue))
	nodes := map[model.Path]bool{}
	list := func(who model.ID, steps []*model.ActAs) {
		way := ""
		var told []string
		for _, st := range steps {
			word := cmp.Or(st.How, "act as")
			if !st.When.IsZero() {
				word += " if " + st.When.String()
			}
			told = append(told, fmt.Sprintf("as %s (%s)", st.To, word))
		}
		for _, h := range s.engine.Holdings(who) {
			g := &e.Grants[h.Grant]
			if steps != nil && g.To.Open() {
				continue // it has that as itself
			}
			perms, top := h.Perms.Clone(), model.LevelUnset
			for i := range h.Perms.All() {
				if !filter(e.Catalogue[i]) {
					perms.Clear(i)
				} else {
					top = max(top, gauge.LevelOf(e.Catalogue[i]))
				}
			}
			if perms.Count() == 0 {
				continue
			}
			distinct.Or(perms)
			for _, n := range e.Nodes {
				if g.Covers(n.Path) {
					nodes[n.Path] = true
				}
			}
			way = "direct"
			if len(h.Chain) > 1 {
				way = "in " + chainWords(h.Chain[1:])
			}
			if told != nil {
				way = strings.Join(told, ", ") + "; " + way
			}
			row := reachRow{Steps: told, Chain: h.Chain, Grant: g.ID, Role: g.Role, Count: perms.Count(), Highest: top.String(), Blocked: h.Blocked}
			if who != id {
				row.As = who
			}
			for _, on := range g.On {
				row.On = append(row.On, on.String())
			}
			if c := g.Condition(); !c.IsZero() {
				row.When = c.String()
				way += ", if " + row.When
			}
			rows = append(rows, row)
			t.Row(render.C(way), render.C(g.ID), render.C(cmp.Or(g.Role, "(list)")), render.C(render.Count(row.Count)), render.Cell{Text: row.Highest, Tone: levelTone(top)}, render.C(places(g.On)))
		}
	}
	list(id, nil)
	masks := s.engine.Masks(id)
	d := &render.Doc{}
	if through {
		for _, m := range masks {
			list(m.ID, m.Steps)
		}
	} else if len(masks) > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("It can also act as %s; with their access: --through", identities(len(masks))))
	}
	d.Head = fmt.Sprintf("%s can use %s on %s of the inventory", id, render.Plural(distinct.Count(), "permission"), render.Plural(len(nodes), "node"))
	if d.Tables = []render.Table{t}; len(t.Rows) == 0 {
		d.Tables = nil
	}
	d.Next = []string{fmt.Sprintf("clipfence why %s PERMISSION PATH", id)}
	d.Value = map[string]any{"identity": id, "permissions": distinct.Count(), "nodes": len(nodes), "can_act_as": len(masks), "ways": rows}
	return a.print(d)
}

func levelTone(l model.Level) render.Tone {
	switch {
	case l >= model.Administer:
		return render.Bad
	case l == model.Write:
		return render.Warn
	}
	return render.Plain
}

func (a *app) reachInto(s *surveyed, path model.Path, filter permissionFilter, all bool) error {
	const most = 30
	e := s.engine.Estate
	type row struct {
		Identity    model.ID `json:"identity"`
		Certain     int      `json:"permissions"`
		Conditional int      `json:"only_under_conditions"`
		Highest     string   `json:"highest_level"`
		Example     string   `json:"example"`
		top         model.Level
	}
	rows := []row{}
	ids := []model.ID{{Kind: model.Everyone}, {Kind: model.SignedIn}}
	for _, i := range e.Identities {
		if i.ID.Kind != model.Group {
			ids = append(ids, i.ID)
		}
	}
	can := slices.DeleteFunc(slices.Clone(e.Catalogue), func(c model.CatalogueEntry) bool { return !filter(c) || !s.engine.Applies(c, path) })
	kinds := map[string]int{}
	for _, id := range ids {
		r := row{Identity: id}
		for _, c := range can {
			switch s.engine.Decide(id, c.Permission, path, model.Context{}).Outcome {
			case engine.Allowed:
				r.Certain++
			case engine.Conditional:
				r.Conditional++
			default:
				continue
			}
			if l := gauge.LevelOf(c); l > r.top {
				r.top, r.Highest, r.Example = l, l.String(), c.Permission.String()
			}
		}
		if r.Certain+r.Conditional > 0 {
			rows = append(rows, r)
			kinds[string(id.Kind)]++
		}
	}
	slices.SortStableFunc(rows, func(x, y row) int {
		return cmp.Or(cmp.Compare(y.top, x.top), cmp.Compare(y.Certain, x.Certain), x.Identity.Compare(y.Identity))
	})
	t := render.Table{Columns: []render.Column{{Name: "IDENTITY"}, {Name: "PERMISSIONS", Right: true}, {Name: "ON CONDITION", Right: true}, {Name: "HIGHEST"}, {Name: "SUCH AS"}}}
	for i, r := range rows {
		if i == most && !all {
			break
		}
		t.Row(render.C(r.Identity.String()), render.C(render.Count(r.Certain)), render.C(render.Count(r.Conditional)), render.Cell{Text: r.Highest, Tone: levelTone(r.top)}, render.C(r.Example))
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
	public := "not public"
	if kinds[string(model.Everyone)] > 0 {
		public = "PUBLIC: anybody has access"
	} else if kinds[string(model.SignedIn)] > 0 {
		public = "open to anybody with an account"
	}
	d := &render.Doc{Head: fmt.Sprintf("%s can touch %s (%s)", identities(len(rows)), path, public), Value: map[string]any{"path": path, "identities": rows}}
	if len(rows) > 0 {
		d.Lines = []string{strings.Join(parts, ", ")}
		d.Tables = []render.Table{t}
		d.Next = []string{fmt.Sprintf("clipfence why %s %s %s", rows[0].Identity, rows[0].Example, path)}
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(rows)))
	}
	if _, ok := s.engine.Node(path); !ok {
		d.Notes = append(d.Notes, "The inventory does not list this place; the answer holds for anything of that name.")
	}
	return a.print(d)
}
