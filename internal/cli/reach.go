package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/config"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

type reachFlags struct {
	into, set, permission string
	level, kind           choice
	through, all          bool
	what                  whatIf
}

func (a *app) reachCmd() *cobra.Command {
	var f reachFlags
	f.level.of = []string{"list", "read", "write", "administer", "hand-out"}
	f.kind.of = []string{"person", "workload", "external"}
	cmd := &cobra.Command{
		Use: "reach [IDENTITY]", Short: "Effective access from an identity, into a place, or into a set of resources", Args: cobra.MaximumNArgs(1),
		Long: `Say what an identity can do, grant by grant, after groups, denials, guardrails
and ceilings; with --through also what it can do by acting as others. With
--into PATH: who can do what on that place. With --set NAME: who can do what in a
set of resources that clipfence.yaml names under resource_sets.

With --without (grant:ID, role:NAME, member:WHO>GROUP or an identity) and --with
FENCE the question is asked of the estate as it would be, and for an identity it is
told what it would lose, gain, and keep because something else gives it too.`,
		Example: `  clipfence reach workload/build-runner --through
  clipfence reach --into /mooring/org:ternhaven/unit:commercial/project:ticketing/bucket:sales --level write
  clipfence reach --set ticketing --level administer
  clipfence reach workload/ticket-export --without grant:g-0428`,
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			asked := len(args)
			for _, s := range []string{f.into, f.set} {
				if s != "" {
					asked++
				}
			}
			if asked != 1 {
				return fmt.Errorf("say from whom (an identity), into what place (--into PATH) or into which set (--set NAME), one of the three")
			}
			filter, err := newFilter(f.permission, f.level.value)
			if err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				var id model.ID
				var path model.Path
				named := ""
				var err error
				switch {
				case f.into != "":
					if path, err = model.ParsePath(f.into); err == nil {
						named = path.Source()
					}
				case f.set == "":
					id, named, err = parseID(args[0])
				}
				if err != nil {
					return err
				}
				src, err := w.pick(named)
				if err != nil {
					return err
				}
				before, err := w.surveyed(cmd.Context(), src)
				if err == nil && !id.IsZero() {
					err = before.known(id)
				}
				if err != nil {
					return err
				}
				s, changed, err := f.what.apply(w, before)
				switch {
				case err != nil:
					return err
				case f.into != "":
					return a.reachInto(s, path.String(), []model.Path{path}, filter, &f)
				case f.set != "":
					nodes, err := w.set(s, f.set)
					if err != nil {
						return err
					}
					return a.reachInto(s, "resource set "+f.set, nodes, filter, &f)
				case changed:
					return a.compareReach(before, s, id, filter, f.all)
				}
				return a.reachFrom(s, id, filter, f.through, f.all)
			})
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.into, "into", "", "a place: who can do what there")
	fl.StringVar(&f.set, "set", "", "a set of resources of clipfence.yaml: who can do what in it")
	fl.StringVar(&f.permission, "permission", "", "only permissions like this pattern")
	fl.Var(&f.level, "level", "only permissions of this level: "+strings.Join(f.level.of, ", "))
	fl.Var(&f.kind, "kind", "with --into and --set: only "+strings.Join(f.kind.of, ", "))
	fl.BoolVar(&f.through, "through", false, "also by acting as others, any number of steps")
	fl.BoolVar(&f.all, "all", false, "everything, not only the first 30")
	f.what.flags(fl)
	return cmd
}

// set returns the nodes of a resource set.
func (w *workspace) set(s *surveyed, name string) ([]model.Path, error) {
	var names []string
	for _, set := range w.Sets {
		names = append(names, set.Name)
		if set.Name != name {
			continue
		}
		var out []model.Path
		for _, n := range s.engine.Estate.Nodes {
			inside := len(set.On) == 0 || slices.ContainsFunc(set.On, func(p model.PathPattern) bool { return p.Matches(n.Path) })
			if inside && s.labelled(n.Path, set.Labels) {
				out = append(out, n.Path)
			}
		}
		if len(out) == 0 {
			return nil, fmt.Errorf("resource set %q holds no node of source %s", name, s.Name)
		}
		return out, nil
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("no resource set %q: %s names none (resource_sets: [{name: %s, on: [...]}])", name, w.Path(config.File), name)
	}
	return nil, fmt.Errorf("no resource set %q; there are: %s", name, strings.Join(names, ", "))
}

// labelled reports whether a node carries labels, itself or by a node above it.
func (s *surveyed) labelled(p model.Path, labels map[string]string) bool {
	for k, v := range labels {
		found := false
		for up, ok := p, true; ok && !found; up, ok = up.Parent() {
			n, hit := s.engine.Node(up)
			found = hit && n.Labels[k] == v
		}
		if !found {
			return false
		}
	}
	return true
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

func (a *app) reachFrom(s *surveyed, id model.ID, filter permissionFilter, through, all bool) error {
	const most = 30
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
					top = max(top, e.Catalogue[i].Weighs())
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
			if len(t.Rows) == most && !all {
				continue
			}
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
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d ways shown; all: --all", len(t.Rows), len(rows)))
	}
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

// reachInto says who can do what on some nodes.
func (a *app) reachInto(s *surveyed, title string, nodes []model.Path, filter permissionFilter, f *reachFlags) error {
	const most = 30
	e := s.engine.Estate
	type row struct {
		Identity    model.ID `json:"identity"`
		Nodes       int      `json:"nodes"`
		Certain     int      `json:"permissions"`
		Conditional int      `json:"only_under_conditions"`
		Highest     string   `json:"highest_level"`
		Example     string   `json:"example"`
		On          string   `json:"example_on"`
		top         model.Level
	}
	rows := []row{}
	ids := []model.ID{{Kind: model.Everyone}, {Kind: model.SignedIn}}
	for _, i := range e.Identities {
		if i.ID.Kind != model.Group {
			ids = append(ids, i.ID)
		}
	}
	// What can be used on each node, by its kind and those below it.
	can := make([]engine.Bits, len(nodes))
	for n, path := range nodes {
		can[n] = engine.NewBits(len(e.Catalogue))
		for i, c := range e.Catalogue {
			if filter(c) && s.engine.Applies(c, path) {
				can[n].Set(i)
			}
		}
	}
	sweep := engine.NewSweep(s.engine)
	kinds, levels := map[string]int{}, map[string]int{}
	for _, id := range ids {
		if f.kind.value != "" && string(id.Kind) != f.kind.value && !id.Open() {
			continue
		}
		r := row{Identity: id}
		closure := s.engine.Closure(id)
		always, sometimes := engine.NewBits(len(e.Catalogue)), engine.NewBits(len(e.Catalogue))
		for n, path := range nodes {
			certain, conditional := sweep.Effective(closure, path)
			certain.And(can[n])
			conditional.And(can[n])
			if certain.Count()+conditional.Count() == 0 {
				continue
			}
			r.Nodes++
			always.Or(certain)
			sometimes.Or(conditional)
			for _, b := range []engine.Bits{certain, conditional} {
				for i := range b.All() {
					if l := e.Catalogue[i].Weighs(); l > r.top {
						r.top, r.Highest, r.Example, r.On = l, l.String(), e.Catalogue[i].Permission.String(), path.String()
					}
				}
			}
		}
		if r.Nodes == 0 {
			continue
		}
		sometimes.AndNot(always)
		r.Certain, r.Conditional = always.Count(), sometimes.Count()
		rows = append(rows, r)
		kinds[string(id.Kind)]++
		levels[r.Highest]++
	}
	slices.SortStableFunc(rows, func(x, y row) int {
		return cmp.Or(cmp.Compare(y.top, x.top), cmp.Compare(y.Nodes, x.Nodes), cmp.Compare(y.Certain, x.Certain), x.Identity.Compare(y.Identity))
	})
	t := render.Table{Columns: []render.Column{{Name: "IDENTITY"}, {Name: "NODES", Right: true}, {Name: "PERMISSIONS", Right: true}, {Name: "ON CONDITION", Right: true}, {Name: "HIGHEST"}, {Name: "SUCH AS"}}}
	for i, r := range rows {
		if i == most && !f.all {
			break
		}
		t.Row(render.C(r.Identity.String()), render.C(render.Count(r.Nodes)), render.C(render.Count(r.Certain)), render.C(render.Count(r.Conditional)), render.Cell{Text: r.Highest, Tone: levelTone(r.top)}, render.C(r.Example))
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
	for l := model.HandOut; l >= model.List; l-- {
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
	d := &render.Doc{Head: fmt.Sprintf("%s can touch %s (%s)", identities(len(rows)), title, public), Value: map[string]any{"into": title, "nodes": nodes, "identities": rows}}
	if len(nodes) > 1 {
		d.Lines = append(d.Lines, render.Plural(len(nodes), "node")+" in it")
	}
	if len(rows) > 0 {
		d.Lines = append(d.Lines, strings.Join(parts, ", ")+"; "+strings.Join(byLevel, ", "))
		d.Tables = []render.Table{t}
		d.Next = []string{fmt.Sprintf("clipfence why %s %s %s", rows[0].Identity, rows[0].Example, rows[0].On)}
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(rows)))
	}
	if len(nodes) == 1 {
		if _, ok := s.engine.Node(nodes[0]); !ok {
			d.Notes = append(d.Notes, "The inventory does not list this place; the answer holds for anything of that name.")
		}
	}
	return a.print(d)
}
