package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"clipfence/internal/config"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/index"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
)

// whatIf asks a question of an estate as it would be.
type whatIf struct{ without, with []string }

func (q *whatIf) flags(f *pflag.FlagSet) {
	f.StringArrayVar(&q.without, "without", nil, "as if this were gone: grant:ID, role:NAME, member:WHO>GROUP or an identity")
	f.StringArrayVar(&q.with, "with", nil, "as if this fence were in force")
}

func (q *whatIf) asked() bool { return len(q.without)+len(q.with) > 0 }

// question returns a source ready to be questioned, as it is or as it would be.
func (w *workspace) question(ctx context.Context, src config.Source, q *whatIf) (*indexed, error) {
	if !q.asked() {
		return w.indexed(ctx, src)
	}
	s, err := w.surveyed(ctx, src)
	if err == nil {
		s, _, err = q.apply(w, s)
	}
	if err != nil {
		return nil, err
	}
	return w.asIndexed(ctx, s)
}

// asIndexed indexes an estate that no survey found just so.
func (w *workspace) asIndexed(ctx context.Context, s *surveyed) (*indexed, error) {
	e, err := w.link(ctx, s.engine.Estate, w.linkedSources(s.Name))
	if err != nil {
		return nil, err
	}
	x, err := index.Build(e)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", s.Name, err)
	}
	return &indexed{s.Source, x, s.survey}, nil
}

// apply returns the estate as it would be, and whether it differs from what is.
func (q *whatIf) apply(w *workspace, s *surveyed) (*surveyed, bool, error) {
	if !q.asked() {
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

// compareReach says what an identity would lose, gain and keep, or what it did since an
// earlier survey.
func (w *workspace) compareReach(ctx context.Context, src config.Source, id model.ID, filter *permissionFilter, f *reachFlags) error {
	const most = 30
	a := w.app
	before, err := w.surveyed(ctx, src)
	if err != nil {
		return err
	}
	if id.Source == "" {
		if err := before.known(id); err != nil {
			return err
		}
	}
	after, _, err := f.what.apply(w, before)
	if err != nil {
		return err
	}
	if f.compare != 0 {
		if f.what.asked() {
			return fmt.Errorf("--compare looks back and --with and --without ahead: say one of the two")
		}
		old, survey, err := w.estate(ctx, src, f.compare)
		if err != nil {
			return err
		}
		now := *before.engine.Estate
		old.Catalogue, now.Catalogue = union(old.Catalogue, now.Catalogue), union(old.Catalogue, now.Catalogue)
		before, after = &surveyed{src, engine.New(old), survey}, &surveyed{src, engine.New(&now), before.survey}
	}
	e := before.engine.Estate
	all := f.all
	d := engine.Compare(before.engine, after.engine, id)
	rows := []compareRow{}
	count := map[string]int{}
	add := func(what string, ps []engine.Place) {
		slices.SortStableFunc(ps, func(x, y engine.Place) int {
			return int(e.Catalogue[y.Permission].Level) - int(e.Catalogue[x.Permission].Level)
		})
		for _, p := range ps {
			c := e.Catalogue[p.Permission]
			if filter.has(c) && (filter.under.IsZero() || p.Where.Overlaps(filter.under.Below())) {
				r := compareRow{what, c.Permission, c.Level.String(), p.Where.String(), p.Grant.ID, nil}
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
	t := render.Table{Columns: []render.Column{{Name: "BECOMES"}, {Name: "PERMISSION"}, {Name: "LEVEL"}, {Name: "BY GRANT"}, {Name: "WHERE", Wrap: true}}}
	tone := map[string]render.Tone{"lost": render.Bad, "narrowed": render.Plain, "gained": render.Warn, "stays": render.Good}
	for i, r := range rows {
		if i == most && !all {
			break
		}
		on := r.Where
		if len(r.Left) > 0 {
			on += " -> " + strings.Join(r.Left, ", ")
		}
		t.Row(render.Cell{Text: r.Becomes, Tone: tone[r.Becomes]}, render.C(r.Permission.String()), render.C(r.Level), render.C(r.Grant), render.C(on))
	}
	doc := &render.Doc{Head: comparisonWords(id, f.compare != 0, count), Value: rows}
	if f.compare != 0 {
		doc.Lines = append(doc.Lines, fmt.Sprintf("Between survey %d of %s and survey %d of %s.", before.survey.ID, before.survey.Finished.Format(time.DateTime), after.survey.ID, after.survey.Finished.Format(time.DateTime)))
	}
	exact, err := exactly(before, after, id, filter)
	if err != nil {
		return err
	}
	if exact != "" {
		doc.Lines = append(doc.Lines, exact)
	}
	if len(rows) > 0 {
		doc.Tables = []render.Table{t}
	}
	if len(t.Rows) < len(rows) {
		doc.Notes = append(doc.Notes, fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(rows)))
	}
	return a.print(doc)
}

// comparisonWords says in one line what becomes of an identity's access, or became of it.
func comparisonWords(id model.ID, past bool, count map[string]int) string {
	tense := func(then, now string) string {
		if past {
			return then
		}
		return now
	}
	number := func(n int) string {
		if n == 0 {
			return "nothing"
		}
		return render.Count(n)
	}
	lost, gained := number(count["lost"]), number(count["gained"])
	if len(count) == 0 {
		return fmt.Sprintf("%s %s and %s nothing", id, tense("lost", "would lose"), tense("gained", "gain"))
	}
	out := fmt.Sprintf("%s %s %s, %s %s", id, tense("lost", "would lose"), lost, tense("gained", "gain"), gained)
	if n := count["narrowed"]; n > 0 {
		out += fmt.Sprintf(", %s %s on fewer places", tense("keeps", "keep"), render.Count(n))
	}
	if n := count["stays"]; n > 0 {
		out += fmt.Sprintf(", %s %s by other grants", tense("keeps", "keep"), render.Count(n))
	}
	return out + " (permissions on places)"
}

// exactly counts on the inventory, with every layer, what an identity loses and gains;
// "" where the inventories are not the same.
func exactly(before, after *surveyed, id model.ID, filter *permissionFilter) (string, error) {
	a, b := before.engine.Estate, after.engine.Estate
	if !slices.EqualFunc(a.Nodes, b.Nodes, func(x, y model.Node) bool { return x.Path == y.Path }) || len(a.Catalogue) != len(b.Catalogue) {
		return "", nil
	}
	x, err := index.Build(a)
	if err != nil {
		return "", err
	}
	y, err := index.Build(b)
	if err != nil {
		return "", err
	}
	walk := func(x *index.Index) *index.Walk {
		s := &indexed{Index: x}
		return s.sums(index.Possible, filter.bits(s), filter.under)
	}
	d := index.Difference(walk(x), walk(y), id)
	return fmt.Sprintf("Pairs of permission and node on the inventory, with every layer: less %s; more %s.", pairWords(d.Lost), pairWords(d.Gained)), nil
}

// pairWords counts pairs of permission and node, the most dangerous first.
func pairWords(pairs [model.HandOut + 1]uint64) string {
	sum := 0
	var levels []string
	for l := model.HandOut; l >= model.See; l-- {
		if n := int(pairs[l]); n > 0 {
			levels = append(levels, fmt.Sprintf("%s %s", render.Count(n), l))
			sum += n
		}
	}
	if sum == 0 {
		return "none"
	}
	return fmt.Sprintf("%s (%s)", render.Count(sum), strings.Join(levels, ", "))
}

// compareRow is what becomes of one permission on one place.
type compareRow struct {
	Becomes    string           `json:"becomes" doc:"lost, narrowed, gained or stays"`
	Permission model.Permission `json:"permission"`
	Level      string           `json:"level"`
	Where      string           `json:"where"`
	Grant      string           `json:"grant" doc:"that gave it, or gives it then"`
	Left       []string         `json:"left_on,omitempty" doc:"of one that is narrowed: where it is still there"`
}

// union returns a catalogue with everything of both; of an entry in both the second's.
func union(a, b model.Catalogue) model.Catalogue {
	out := slices.Clone(b)
	have := map[model.Permission]bool{}
	for _, c := range b {
		have[c.Permission] = true
	}
	for _, c := range a {
		if !have[c.Permission] {
			out = append(out, c)
		}
	}
	return out
}
