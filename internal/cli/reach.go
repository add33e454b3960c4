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

	"clipfence/internal/config"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/index"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

type reachFlags struct {
	into, set, permission, under string
	level, kind, by              choice
	direct, through, escalation  bool
	all                          bool
	compare                      int64
	what                         whatIf
}

func (a *app) reachCmd() *cobra.Command {
	var f reachFlags
	f.level.of = []string{"see", "read", "change", "administer", "hand-out"}
	f.kind.of = []string{"person", "workload", "external"}
	f.by.of = []string{"grant", "role", "place", "level"}
	cmd := &cobra.Command{
		Use: "reach [IDENTITY]", Short: "Effective access from an identity, into a place, or into a set of resources", Args: cobra.MaximumNArgs(1),
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
				return fmt.Errorf("say from whom (an identity), into what place (--into PATH) or into which set (--set NAME), one of the three, such as: clipfence reach workload/ticket-export")
			}
			switch {
			case f.direct && f.through:
				return fmt.Errorf("--direct leaves out what --through adds: say one of the two")
			case f.escalation && (f.compare != 0 || f.direct || f.through || f.by.value != "" || f.permission != "" || f.level.value != "" || f.under != ""):
				return fmt.Errorf("--escalation is asked of the whole: only --kind, --without, --with and --all go with it")
			case f.by.value != "" && (f.into != "" || f.set != ""):
				return fmt.Errorf("--by sums up what an identity can do; into a place or a set everybody is listed")
			case f.kind.value != "" && len(args) == 1:
				return fmt.Errorf("--kind says of whom to tell: it goes with --into and --set")
			}
			filter, err := newFilter(f.permission, f.level.value, f.under)
			if err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) error { return w.reach(cmd.Context(), args, filter, &f) })
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
	fl.BoolVar(&f.escalation, "escalation", false, "what an identity can give itself; with --into: who can become administrator there, and what to take away")
	fl.Int64Var(&f.compare, "compare", 0, "what changed since this survey (see: clipfence survey list)")
	fl.BoolVar(&f.all, "all", false, "everything, not only the first 30")
	f.what.flags(fl)
	return cmd
}

func (w *workspace) reach(ctx context.Context, args []string, filter *permissionFilter, f *reachFlags) error {
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
	src, err := w.about(&id, named)
	if err != nil {
		return err
	}
	if !id.IsZero() && !f.escalation && (f.what.asked() || f.compare != 0) {
		return w.compareReach(ctx, src, id, filter, f)
	}
	s, err := w.question(ctx, src, &f.what)
	if err == nil && !id.IsZero() {
		err = s.known(id)
	}
	if err != nil {
		return err
	}
	switch {
	case f.escalation && f.set != "":
		return fmt.Errorf("--escalation is asked of an identity or of one node: --into NODE")
	case f.escalation && f.into != "":
		return w.escalationInto(ctx, src, s, path, f)
	case f.escalation:
		return w.escalationFrom(s, id, f)
	case f.into != "" || f.set != "":
		title, nodes := path.String(), []model.Path{path}
		if f.set != "" {
			if nodes, err = w.set(s, f.set, filter.under); err != nil {
				return err
			}
			title = "resource set " + f.set
		}
		var before *indexed
		switch {
		case f.compare != 0:
			before, err = w.asSurveyed(ctx, src, f.compare)
		case f.what.asked():
			before, err = w.indexed(ctx, src)
		}
		if err != nil {
			return err
		}
		return w.app.reachInto(s, before, title, nodes, filter, f)
	}
	return w.app.reachFrom(s, id, filter, f)
}

// about returns the source that a question is about. An identity of another source
// keeps its name, since it may be linked into this one.
func (w *workspace) about(id *model.ID, named string) (config.Source, error) {
	if w.app.source != "" {
		named = w.app.source
	}
	src, err := w.Source(named)
	if err == nil {
		*id = id.In(src.Name)
	}
	return src, err
}

// set returns the nodes of a resource set.
func (w *workspace) set(s *indexed, name string, under model.Path) ([]model.Path, error) {
	var names []string
	for _, set := range w.Sets {
		names = append(names, set.Name)
		if set.Name != name {
			continue
		}
		var out []model.Path
		s.NodesLike(set.Where, func(p model.Path) {
			if s.labelled(p, set.Labels) && (under.IsZero() || under.Covers(p)) {
				out = append(out, p)
			}
		})
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
func (s *indexed) labelled(p model.Path, labels map[string]string) bool {
	for k, v := range labels {
		found := false
		for up, ok := p, true; ok && !found; up, ok = up.Parent() {
			l, hit := s.Node(up)
			found = hit && l[k] == v
		}
		if !found {
			return false
		}
	}
	return true
}

// permissionFilter says which part of an answer is asked for.
type permissionFilter struct {
	pattern model.PermissionPattern
	level   string
	under   model.Path
	part    bool // not everything is asked for
}

func (f *permissionFilter) has(c model.CatalogueEntry) bool {
	return f.pattern.Matches(c.Permission) && (f.level == "" || c.Level.String() == f.level)
}

// bits returns the permissions that are asked for.
func (f *permissionFilter) bits(s *indexed) engine.Bits {
	out := s.NewBits()
	for i := range s.Numbers() {
		if f.has(*s.Permission(i)) {
			out.Set(i)
		}
	}
	return out
}

func newFilter(permission, level, under string) (*permissionFilter, error) {
	f := &permissionFilter{pattern: model.MustPermissionPattern("*"), level: level, part: permission != "" || level != "" || under != ""}
	var err error
	if permission != "" {
		if f.pattern, err = model.ParsePermissionPattern(permission); err != nil {
			return nil, err
		}
	}
	if under != "" {
		f.under, err = model.ParsePath(under)
	}
	return f, err
}

// reachValue is what an identity can do.
type reachValue struct {
	Identity    model.ID   `json:"identity"`
	Permissions int        `json:"permissions" doc:"different ones, on any node"`
	Certain     int        `json:"certain_permissions" doc:"of them those that hang on no condition"`
	Nodes       int        `json:"nodes" doc:"nodes of the inventory on which it has any"`
	CanActAs    int        `json:"can_act_as" doc:"how many identities, in any number of steps"`
	Ways        []reachRow `json:"ways"`
	Groups      []sumRow   `json:"groups,omitempty" doc:"with --by role, place or level: the ways summed up"`
}

// sumRow is what several grants give together.
type sumRow struct {
	Group       string `json:"group" doc:"a role, a place or a level"`
	Grants      int    `json:"grants"`
	Permissions int    `json:"permissions"`
	Highest     string `json:"highest_level"`
	Nodes       int    `json:"nodes" doc:"of the inventory"`
}

type reachRow struct {
	As      model.ID    `json:"as,omitzero"`
	Steps   []string    `json:"steps,omitempty"`
	Chain   []model.ID  `json:"chain"`
	Grant   string      `json:"grant"`
	Role    string      `json:"role,omitempty"`
	Where   []string    `json:"where"`
	When    string      `json:"when,omitempty"`
	Count   int         `json:"permissions"`
	Highest string      `json:"highest_level"`
	Blocked int         `json:"refused_everywhere"`
	top     model.Level // as Highest
	perms   engine.Bits
	places  []model.PathPattern
	way     string
}

// ways lists how access reaches an identity, or one that it acts as, the most
// dangerous first.
func (s *indexed) ways(id model.ID, as *engine.Mask, asked engine.Bits, under model.Path, direct bool) []reachRow {
	var out []reachRow
	who, prefix := id, ""
	var told []string
	if as != nil {
		who, told = as.ID, stepWords(as.Steps)
		prefix = strings.Join(told, ", ") + "; "
	}
	for _, h := range s.Holdings(who) {
		g := h.Grant
		if as != nil && g.To.Open() || direct && len(h.Chain) > 1 {
			continue // it has that as itself
		}
		if !under.IsZero() && !slices.ContainsFunc(g.Where, under.Below().Overlaps) {
			continue
		}
		h.Perms.And(asked)
		row := reachRow{Steps: told, Chain: h.Chain, Grant: g.ID, Role: g.Role, Count: h.Perms.Count(), Blocked: h.Blocked, perms: h.Perms, places: g.Where}
		if row.Count == 0 {
			continue
		}
		for i := range h.Perms.All() {
			row.top = max(row.top, s.Level(i))
		}
		row.Highest = row.top.String()
		if row.way = prefix + "direct"; len(h.Chain) > 1 {
			row.way = prefix + "in " + chainWords(h.Chain[1:])
		}
		if as != nil {
			row.As = who
		}
		for _, on := range g.Where {
			row.Where = append(row.Where, on.String())
		}
		if c := g.Condition(); !c.IsZero() {
			row.When = c.String()
			row.way += ", if " + row.When
		}
		out = append(out, row)
	}
	slices.SortStableFunc(out, func(x, y reachRow) int { return cmp.Or(cmp.Compare(y.top, x.top), cmp.Compare(y.Count, x.Count)) })
	return out
}

// stepWords says the steps by which one acts as another.
func stepWords(steps []*model.ActAs) []string {
	var out []string
	for _, st := range steps {
		word := cmp.Or(st.How, "act as")
		if c := st.When.WithUntil(st.Until); !c.IsZero() {
			word += " if " + c.String()
		}
		out = append(out, fmt.Sprintf("as %s (%s)", st.To, word))
	}
	return out
}

func (a *app) reachFrom(s *indexed, id model.ID, filter *permissionFilter, f *reachFlags) error {
	asked := filter.bits(s)
	rows := s.ways(id, nil, asked, filter.under, f.direct)
	masks := s.Masks(id)
	d := &render.Doc{}
	total := s.sums(index.Possible, asked, filter.under)
	certain := s.sums(index.Certain, asked, filter.under)
	perms, sure, nodes := s.NewBits(), s.NewBits(), nodeSet{}
	count := func(who model.ID) {
		t := total.Totals(who)
		perms.Or(t.Permissions)
		for _, p := range total.Pieces(who) {
			nodes.add(p.From, p.To)
		}
		sure.Or(certain.Totals(who).Permissions)
	}
	count(id)
	if f.through {
		for i := range masks {
			rows = append(rows, s.ways(id, &masks[i], asked, filter.under, false)...)
			count(masks[i].ID)
		}
	} else if len(masks) > 0 && !f.direct {
		d.Notes = append(d.Notes, fmt.Sprintf("It can also act as %s; with their access: --through", identities(len(masks))))
	}
	if f.direct {
		perms, nodes = s.NewBits(), nodeSet{}
		for _, r := range rows {
			perms.Or(r.perms)
		}
		d.Head = fmt.Sprintf("%s is granted %s by name, in %s", id, render.Plural(perms.Count(), "permission"), render.Plural(len(rows), "grant"))
	} else {
		d.Head = fmt.Sprintf("%s can use %s on %s of the inventory", id, render.Plural(perms.Count(), "permission"), render.Plural(nodes.count(s), "node"))
		if f.through {
			d.Head += fmt.Sprintf(", by itself and by acting as %s", identities(len(masks)))
		}
		if sure.Count() < perms.Count() {
			d.Head += fmt.Sprintf(", %d of them only under conditions", perms.Count()-sure.Count())
		}
	}
	if filter.part {
		d.Head += " (of the part asked for)"
	}
	if _, ok := s.Node(filter.under); !filter.under.IsZero() && !ok {
		d.Notes = append(d.Notes, fmt.Sprintf("The inventory lists no node %s. Of a place that nobody lists ask: clipfence reach --into %s", filter.under, filter.under))
	}
	if words := levelWords(s, perms); words != "" {
		d.Lines = append(d.Lines, "By level: "+words+".")
	}
	t, sums, groups := a.reachTable(s, rows, f)
	if len(t.Rows) > 0 {
		d.Tables = []render.Table{t}
	}
	if shown := len(t.Rows); shown < groups {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown, the most dangerous; all: --all; summed up: --by role, --by place", shown, groups))
	}
	example := "PERMISSION PATH"
	if len(rows) > 0 {
		for i := range rows[0].perms.All() {
			if at, ok := rows[0].places[0].Node(); ok && s.Level(i) == rows[0].top {
				example = fmt.Sprintf("%s %s", s.Permission(i).Permission, at)
				break
			}
		}
	}
	d.Next = []string{fmt.Sprintf("clipfence why %s %s", id, example)}
	if rows == nil {
		rows = []reachRow{}
	}
	d.Value, d.Rows = reachValue{id, perms.Count(), sure.Count(), nodes.count(s), len(masks), rows, sums}, rows
	if sums != nil {
		d.Rows = sums
	}
	return a.print(d)
}

// sums prepares a walk over a part of an estate.
func (s *indexed) sums(mode index.Mode, asked engine.Bits, under model.Path) *index.Walk {
	w := s.NewWalk(mode)
	w.Only(asked, under)
	return w
}

// nodeSet is a union of runs of nodes.
type nodeSet struct{ runs [][2]int }

func (n *nodeSet) add(from, to int) { n.runs = append(n.runs, [2]int{from, to}) }

// count returns how many nodes of the inventory the set holds.
func (n *nodeSet) count(s *indexed) int {
	slices.SortFunc(n.runs, func(a, b [2]int) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	sum, at := 0, 0
	for _, r := range n.runs {
		if r[1] > at {
			sum += s.Listed(max(r[0], at), r[1])
			at = r[1]
		}
	}
	return sum
}

// levelWords counts permissions by level, the most dangerous first.
func levelWords(s *indexed, perms engine.Bits) string {
	var n [model.HandOut + 1]int
	for i := range perms.All() {
		n[s.Level(i)]++
	}
	var out []string
	for l := model.HandOut; l >= model.See; l-- {
		if n[l] > 0 {
			out = append(out, fmt.Sprintf("%s %s", render.Count(n[l]), l))
		}
	}
	return strings.Join(out, ", ")
}

// reachTable lists ways one by one, or summed up, and how many rows that makes in all.
func (a *app) reachTable(s *indexed, rows []reachRow, f *reachFlags) (t render.Table, sums []sumRow, groups int) {
	const most = 30
	if f.by.value == "" || f.by.value == "grant" {
		t.Columns = []render.Column{{Name: "WAY", Wrap: true}, {Name: "GRANT"}, {Name: "ROLE"}, {Name: "PERMISSIONS", Right: true}, {Name: "HIGHEST"}, {Name: "WHERE", Path: true}}
		for i, r := range rows {
			if i == most && !f.all {
				break
			}
			t.Row(render.C(r.way), render.C(r.Grant), render.C(cmp.Or(r.Role, "(list)")), render.C(render.Count(r.Count)), render.Cell{Text: r.Highest, Tone: levelTone(r.top)}, render.C(places(r.places)))
		}
		return t, nil, len(rows)
	}
	type sum struct {
		name   string
		grants map[string]bool
		perms  engine.Bits
		places []model.PathPattern
		top    model.Level
	}
	var order []*sum
	by := map[string]*sum{}
	add := func(name string, r *reachRow, perms engine.Bits, on []model.PathPattern, top model.Level) {
		g := by[name]
		if g == nil {
			g = &sum{name: name, grants: map[string]bool{}, perms: s.NewBits()}
			by[name] = g
			order = append(order, g)
		}
		g.grants[r.Grant] = true
		g.perms.Or(perms)
		g.places = append(g.places, on...)
		g.top = max(g.top, top)
	}
	title := "ROLE"
	for i := range rows {
		r := &rows[i]
		switch f.by.value {
		case "role":
			add(cmp.Or(r.Role, "(list)"), r, r.perms, r.places, r.top)
		case "place":
			title = "PLACE"
			for _, on := range r.places {
				add(on.String(), r, r.perms, []model.PathPattern{on}, r.top)
			}
		default:
			title = "LEVEL"
			for l := model.See; l <= model.HandOut; l++ {
				some := s.NewBits()
				for i := range r.perms.All() {
					if s.Level(i) == l {
						some.Set(i)
					}
				}
				if some.Count() > 0 {
					add(l.String(), r, some, r.places, l)
				}
			}
		}
	}
	slices.SortStableFunc(order, func(x, y *sum) int {
		return cmp.Or(cmp.Compare(y.top, x.top), cmp.Compare(y.perms.Count(), x.perms.Count()))
	})
	t.Columns = []render.Column{{Name: title, Path: title == "PLACE"}, {Name: "GRANTS", Right: true}, {Name: "PERMISSIONS", Right: true}, {Name: "HIGHEST"}, {Name: "NODES", Right: true}}
	for i, g := range order {
		r := sumRow{g.name, len(g.grants), g.perms.Count(), g.top.String(), s.Within(g.places)}
		sums = append(sums, r)
		if i < most || f.all {
			t.Row(render.C(r.Group), render.C(render.Count(r.Grants)), render.C(render.Count(r.Permissions)), render.Cell{Text: r.Highest, Tone: levelTone(g.top)}, render.C(render.Count(r.Nodes)))
		}
	}
	return t, sums, len(order)
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
	Into       string       `json:"into" doc:"a path, or a resource set"`
	Nodes      []model.Path `json:"nodes"`
	Distinct   int          `json:"permissions" doc:"different ones, of anybody on any of the nodes"`
	Identities []intoRow    `json:"identities"`
	Changes    []intoChange `json:"changes,omitempty" doc:"with --compare, --without and --with: what became of whom"`
}

type intoRow struct {
	Identity    model.ID    `json:"identity"`
	Nodes       int         `json:"nodes"`
	Certain     int         `json:"permissions"`
	Conditional int         `json:"only_under_conditions"`
	Highest     string      `json:"highest_level"`
	Example     string      `json:"example"`
	Place       string      `json:"example_place"`
	As          model.ID    `json:"by_acting_as,omitzero"`
	Steps       []string    `json:"steps,omitempty"`
	top         model.Level // as Highest
	number      int
	always      engine.Bits
	sometimes   engine.Bits
}

// asking is a question about who may do what on nodes. Nodes on which the same rules hold
// and the same can be used have the same answer, which is worked out once.
type asking struct {
	*indexed
	f      *reachFlags
	asked  engine.Bits
	usable map[string]engine.Bits // by the kinds of a node and of those below it
}

func (s *indexed) asking(filter *permissionFilter, f *reachFlags) *asking {
	return &asking{s, f, filter.bits(s), map[string]engine.Bits{}}
}

// like returns what two nodes with the same answer have in common.
func (a *asking) like(path model.Path) string {
	return a.SameRules(path) + "\x00" + kindsKey(a.Kinds(path))
}

func kindsKey(kinds map[string]bool) string {
	return fmt.Sprintf("%q", slices.Sorted(maps.Keys(kinds)))
}

// on returns who may do what is asked for on a node, if it can be used there.
func (a *asking) on(path model.Path) []index.Access {
	kinds := a.Kinds(path)
	key := kindsKey(kinds)
	can, ok := a.usable[key]
	if !ok {
		can = a.NewBits()
		for i := range a.asked.All() {
			if c := a.Permission(i); len(c.Kinds) == 0 || slices.ContainsFunc(c.Kinds, func(k string) bool { return kinds[k] }) {
				can.Set(i)
			}
		}
		a.usable[key] = can
	}
	var out []index.Access
	for _, acc := range a.Into(path) {
		id := a.ID(acc.Identity)
		if a.f.kind.value != "" && string(id.Kind) != a.f.kind.value && !id.Open() {
			continue
		}
		if a.f.direct {
			named := a.NewBits()
			for _, h := range a.Holdings(id) {
				if len(h.Chain) == 1 && h.Grant.Covers(path) {
					named.Or(h.Perms)
				}
			}
			acc.Certain.And(named)
			acc.Conditional.And(named)
		}
		acc.Certain.And(can)
		acc.Conditional.And(can)
		if acc.Certain.Count()+acc.Conditional.Count() > 0 {
			out = append(out, acc)
		}
	}
	return out
}

// alike groups nodes by a key, in the order of each group's first node.
func alike(nodes []model.Path, key func(model.Path) string) [][]model.Path {
	var out [][]model.Path
	at := map[string]int{}
	for _, p := range nodes {
		k := key(p)
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k], out = i, append(out, nil)
		}
		out[i] = append(out[i], p)
	}
	return out
}

// into sums up who can do what on some nodes, without regard to acting as others, and how
// many different permissions that makes.
func (a *asking) into(nodes []model.Path) (out []intoRow, permissions int) {
	rows, all := map[int]*intoRow{}, a.NewBits()
	for _, group := range alike(nodes, a.like) {
		for _, acc := range a.on(group[0]) {
			r := rows[acc.Identity]
			if r == nil {
				r = &intoRow{Identity: a.ID(acc.Identity), number: acc.Identity, always: a.NewBits(), sometimes: a.NewBits()}
				rows[acc.Identity] = r
			}
			r.Nodes += len(group)
			r.always.Or(acc.Certain)
			r.sometimes.Or(acc.Conditional)
			for _, b := range []engine.Bits{acc.Certain, acc.Conditional} {
				all.Or(b)
				for i := range b.All() {
					if l := a.Level(i); l > r.top {
						r.top, r.Highest, r.Example, r.Place = l, l.String(), a.Permission(i).Permission.String(), group[0].String()
					}
				}
			}
		}
	}
	for _, r := range rows {
		r.sometimes.AndNot(r.always)
		r.Certain, r.Conditional = r.always.Count(), r.sometimes.Count()
		out = append(out, *r)
	}
	return out, all.Count()
}

// intoChange is what became of one identity's access to a place.
type intoChange struct {
	Identity model.ID `json:"identity"`
	Becomes  string   `json:"becomes" doc:"lost, gained, less, more or other; less and more also where only conditions came or went"`
	Before   int      `json:"permissions_before"`
	After    int      `json:"permissions_after"`
	Lost     int      `json:"lost" doc:"pairs of permission and node"`
	Gained   int      `json:"gained" doc:"pairs of permission and node"`
}

// granted is what one identity had and has on a node, by permission: whatever the call,
// and only under conditions.
type granted [2]map[model.Permission]bool

// changed compares what everybody may do on some nodes in two estates, node by node.
func changed(before, after *asking, nodes []model.Path) []intoChange {
	type sum struct {
		intoChange
		nodes      [2]int
		had        granted // anywhere on the nodes
		tied, free int     // pairs that came under conditions, and that no longer are
	}
	sums := map[model.ID]*sum{}
	for _, group := range alike(nodes, func(p model.Path) string { return before.like(p) + "\x00" + after.like(p) }) {
		n := len(group)
		here := map[model.ID]*granted{}
		for side, a := range []*asking{before, after} {
			for _, acc := range a.on(group[0]) {
				id := a.ID(acc.Identity)
				if here[id] == nil {
					here[id] = &granted{}
				}
				if sums[id] == nil {
					sums[id] = &sum{intoChange: intoChange{Identity: id}, had: granted{{}, {}}}
				}
				has := map[model.Permission]bool{} // and whether for certain
				for i := range acc.Conditional.All() {
					has[a.Permission(i).Permission] = false
				}
				for i := range acc.Certain.All() {
					has[a.Permission(i).Permission] = true
				}
				here[id][side] = has
				sums[id].nodes[side] += n
				maps.Copy(sums[id].had[side], has)
			}
		}
		for id, g := range here {
			x := sums[id]
			for p, was := range g[0] {
				switch is, ok := g[1][p]; {
				case !ok:
					x.Lost += n
				case was && !is:
					x.tied += n
				case is && !was:
					x.free += n
				}
			}
			for p := range g[1] {
				if _, ok := g[0][p]; !ok {
					x.Gained += n
				}
			}
		}
	}
	out := []intoChange{}
	for _, x := range sums {
		less, more := x.Lost+x.tied > 0, x.Gained+x.free > 0
		switch {
		case x.nodes[1] == 0:
			x.Becomes = "lost"
		case x.nodes[0] == 0:
			x.Becomes = "gained"
		case less && more:
			x.Becomes = "other"
		case less:
			x.Becomes = "less"
		case more:
			x.Becomes = "more"
		default:
			continue
		}
		x.Before, x.After = len(x.had[0]), len(x.had[1])
		out = append(out, x.intoChange)
	}
	slices.SortFunc(out, func(a, b intoChange) int {
		return cmp.Or(cmp.Compare(a.Becomes, b.Becomes), a.Identity.Compare(b.Identity))
	})
	return out
}

// changeWords says who lost, gained, has more and has less.
func changeWords(changes []intoChange, all bool) string {
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
			text += fmt.Sprintf(" (%s lost, %d gained, of permission and node)", render.Plural(c.Lost, "pair"), c.Gained)
		}
		by[c.Becomes] = append(by[c.Becomes], text)
	}
	var out []string
	for _, kind := range [][2]string{{"lost", "no longer"}, {"less", "with less"}, {"more", "with more"}, {"other", "with other access"}, {"gained", "new"}} {
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
func (a *app) reachInto(s, before *indexed, title string, nodes []model.Path, filter *permissionFilter, f *reachFlags) error {
	const most = 30
	now := s.asking(filter, f)
	rows, permissions := now.into(nodes)
	var changes []intoChange
	if before != nil {
		changes = changed(before.asking(filter, f), now, nodes)
	}
	if f.through {
		targets, at := []int{}, map[int]*intoRow{}
		for i := range rows {
			targets = append(targets, rows[i].number)
			at[rows[i].number] = &rows[i]
		}
		for _, actor := range s.Actors(targets) {
			r, id := *at[actor.As], s.ID(actor.Identity)
			if f.kind.value == "" || string(id.Kind) == f.kind.value {
				r.As, r.Identity, r.Steps = r.Identity, id, stepWords(actor.Steps)
				rows = append(rows, r)
			}
		}
	}
	slices.SortStableFunc(rows, func(x, y intoRow) int {
		return cmp.Or(cmp.Compare(y.top, x.top), cmp.Compare(y.Nodes, x.Nodes), cmp.Compare(y.Certain, x.Certain), x.Identity.Compare(y.Identity))
	})
	kinds, levels := map[string]int{}, map[string]int{}
	t := render.Table{Columns: []render.Column{{Name: "IDENTITY"}, {Name: "NODES", Right: true}, {Name: "PERMISSIONS", Right: true}, {Name: "ON CONDITION", Right: true}, {Name: "HIGHEST"}, {Name: "SUCH AS"}}}
	if f.through {
		t.Columns = append(t.Columns, render.Column{Name: "BY ACTING", Wrap: true})
	}
	for i, r := range rows {
		kinds[string(r.Identity.Kind)]++
		levels[r.Highest]++
		if i >= most && !f.all {
			continue
		}
		cells := []render.Cell{render.C(r.Identity.String()), render.C(render.Count(r.Nodes)), render.C(render.Count(r.Certain)), render.C(render.Count(r.Conditional)), {Text: r.Highest, Tone: levelTone(r.top)}, render.C(r.Example)}
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
		rows = []intoRow{}
	}
	d := &render.Doc{Head: fmt.Sprintf("%s can touch %s (%s)", identities(len(rows)), title, public)}
	value := intoValue{Into: title, Nodes: nodes, Distinct: permissions, Identities: rows}
	if len(nodes) > 1 {
		d.Lines = append(d.Lines, render.Plural(len(nodes), "node")+" in it")
	}
	if len(rows) > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("%s; %s; %s in all", strings.Join(parts, ", "), strings.Join(byLevel, ", "), render.Plural(permissions, "permission")))
		d.Tables = []render.Table{t}
		d.Next = []string{fmt.Sprintf("clipfence why %s %s %s", rows[0].Identity, rows[0].Example, rows[0].Place)}
	}
	if before != nil {
		words := "As it would be, against now"
		if f.compare != 0 {
			words = fmt.Sprintf("Since survey %d of %s", before.survey.ID, before.survey.Finished.Format(time.DateTime))
		}
		d.Lines = append(d.Lines, words+": "+changeWords(changes, f.all)+".")
		value.Changes = changes
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(rows)))
	}
	if !f.through && !f.direct {
		d.Notes = append(d.Notes, "As themselves and by their groups; also who can act as them: --through")
	}
	if len(nodes) == 1 {
		if _, ok := s.Node(nodes[0]); !ok {
			d.Notes = append(d.Notes, "The inventory does not list this place; the answer holds for anything of that name.")
		}
	}
	d.Value, d.Rows = value, rows
	return a.print(d)
}
