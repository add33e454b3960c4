package judge

import (
	"fmt"
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
	"clipfence/internal/sandbox"
)

// told is a decision in words that can be compared.
func told(d access.Decision) string {
	s := d.Outcome.String()
	for _, r := range d.Refusals {
		s += fmt.Sprintf("; %s %s %v %v %v %s %s", r.Layer, r.ID, r.Rights, r.Where, r.Chain, r.Met, r.Rest)
	}
	ways := func(word string, ws []access.Way) {
		for _, w := range ws {
			id := "bypass"
			if w.Grant != nil {
				id = w.Grant.ID
			}
			s += fmt.Sprintf("; %s %s %v %s %s", word, id, w.Chain, w.Met, w.Rest)
		}
	}
	ways("way", d.Ways)
	ways("unmet", d.Unmet)
	return s
}

// reloaded returns the index as it is after it was written and read.
func reloaded(t testing.TB, x *index.Index) *index.Index {
	t.Helper()
	columns := map[string][]byte{}
	for name, data := range x.Sections {
		columns[name] = data
	}
	y, err := index.Load(func(name string) ([]byte, bool) { b, ok := columns[name]; return b, ok })
	if err != nil {
		t.Fatal(err)
	}
	return y
}

// TestIndexAgrees holds the index against the plain engine: each answer way by way, on
// paths of the inventory and others, with the call known and not; who may do
// something; and the sums over everything an identity may do.
func TestIndexAgrees(t *testing.T) {
	held, pieces := 0, 0
	for seed := range uint64(estates(t)) {
		g := newRandom(seed)
		e := g.estate(t)
		if seed%7 == 0 {
			e.Semantics.Bypass = []model.ID{model.MustID(g.pick(append(g.groups, g.people...)))}
		}
		plain := plain.New(e)
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		if seed%2 == 0 {
			x = reloaded(t, x)
		}
		perms := append([]string{"c/new:get", "a/x:never"}, g.perms...) // two that no catalogue lists
		callers := append([]string{"person/nobody", "everyone", "signed-in"}, append(g.people, g.groups...)...)
		for i := range questions {
			q := g.question()
			id, p, path := model.MustID(callers[i%len(callers)]), model.MustPermission(g.pick(perms)),
				model.MustPath(q.path)
			ctx := model.Context{}
			if i%2 == 0 {
				ctx = q.context(g.labels(q.path))
			}
			want, got := told(plain.Decide(id, p, path, ctx)), told(x.Decide(id, p, path, ctx))
			if want != got {
				t.Fatalf("seed %d: %s %s %s:\nplain: %s\nindex: %s", seed, id, p, path, want, got)
			}
			// not reloaded: the same grants
			if i%25 == 0 && fmt.Sprint(plain.NearMisses(id, p, path)) != fmt.Sprint(x.NearMisses(id, p, path)) &&
				seed%2 == 1 {
				t.Fatalf("seed %d: %s %s %s: near misses differ", seed, id, p, path)
			}
			if i%50 == 0 {
				held += whoAgrees(t, seed, plain, x, p, path)
			}
		}
		masker := x.Masker() // one for all, as whoever asks about many does
		for _, text := range callers {
			id := model.MustID(text)
			masksAgree(t, seed, plain, x, masker, id)
			pieces += totalsAgree(t, seed, plain, x, id)
			holdingsAgree(t, seed, plain, x, id)
		}
		intoAgrees(t, seed, g, plain, x)
		if err := x.Err(); err != nil {
			t.Fatal(err)
		}
	}
	if held == 0 || pieces == 0 {
		t.Error("the random estates are too strict to say much")
	}
	t.Logf("%d holders, %d pieces", held, pieces)
}

func whoAgrees(t *testing.T, seed uint64, plain *plain.Engine, x *index.Index, p model.Permission,
	path model.Path) int {
	t.Helper()
	var want, got []string
	for _, i := range append([]model.Identity{{ID: model.MustID("everyone")}, {ID: model.MustID("signed-in")}},
		plain.Estate.Identities...) {
		if o := plain.Decide(i.ID, p, path, model.Context{}).Outcome; o != access.Denied && i.ID.Kind != model.Group {
			want = append(want, fmt.Sprint(i.ID, o))
		}
	}
	for _, h := range x.Who(p, path) {
		if id := x.ID(h.Identity); id.Open() || x.Known(h.Identity) {
			got = append(got, fmt.Sprint(id, h.Outcome))
		}
	}
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) {
		t.Fatalf("seed %d: who may %s on %s:\nplain: %v\nindex: %v", seed, p, path, want, got)
	}
	return len(got)
}

// masksAgree holds whom somebody can act as, and by which steps, against the plain evaluator.
func masksAgree(t *testing.T, seed uint64, plain *plain.Engine, x *index.Index, m *index.Masker, id model.ID) {
	t.Helper()
	want := plain.Masks(id)
	if n := m.Of(id); n != len(want) {
		t.Errorf("seed %d: %s can act as %d, want %d", seed, id, n, len(want))
		return
	}
	steps := func(m access.Mask) (out []string) {
		for _, s := range m.Steps {
			out = append(out, s.ID)
		}
		return out
	}
	alone := x.Masks(id)
	for i, w := range want {
		got := m.Mask(i)
		if to, far := m.ID(i); to != w.ID || got.ID != w.ID || far != (len(w.Steps) > 1) ||
			!slices.Equal(steps(got), steps(w)) || !slices.Equal(steps(alone[i]), steps(w)) {
			t.Errorf("seed %d: %s acts as %s by %v, want %s by %v", seed, id, got.ID, steps(got), w.ID, steps(w))
		}
	}
}

func totalsAgree(t *testing.T, seed uint64, plain *plain.Engine, x *index.Index, id model.ID) int {
	t.Helper()
	e := plain.Estate
	swept := newSweep(plain)
	closure := plain.Closure(id)
	n := 0
	for _, mode := range []index.Mode{index.Possible, index.Certain} {
		var pairs [model.HandOut + 1]uint64
		var nodes int
		places := map[model.Permission]uint32{}
		distinct := map[model.Permission]bool{}
		at := map[model.Path]int{}
		for _, node := range e.Nodes {
			certain, conditional := swept.effective(closure, node.Path)
			if mode == index.Possible {
				certain.Or(conditional)
			}
			at[node.Path] = certain.Count()
			any := false
			for i := range certain.All() {
				if applies(&e.Catalogue[i], node.Path) {
					any = true
					places[e.Catalogue[i].Permission]++
					distinct[e.Catalogue[i].Permission] = true
					pairs[e.Catalogue[i].Weighs()]++
				}
			}
			if any {
				nodes++
			}
		}
		w := x.NewWalk(mode)
		for range 2 { // a walk must leave nothing behind
			got := w.Totals(id)
			same := got.Permissions.Count() == len(distinct)
			for i := range got.Permissions.All() {
				same = same && distinct[x.Permission(i).Permission] &&
					got.Places[i] == places[x.Permission(i).Permission]
			}
			if !same || got.Pairs != pairs {
				t.Fatalf("seed %d: %s, mode %d: %d permissions, pairs %v; want %d, %v", seed, id, mode,
					got.Permissions.Count(), got.Pairs, len(distinct), pairs)
			}
		}
		if got := w.Pairs(id); got != pairs {
			t.Fatalf("seed %d: %s, mode %d: pairs %v, want %v", seed, id, mode, got, pairs)
		}
		if got := x.Usable(w.Pieces(id)); got != nodes {
			t.Fatalf("seed %d: %s, mode %d: something can be used on %d nodes, want %d", seed, id, mode, got, nodes)
		}
		onlyAgrees(t, seed, plain, x, id, mode)
		for _, piece := range w.Pieces(id) {
			count := 0
			for _, word := range piece.Words {
				count += access.Set{word.Bits}.Count()
			}
			for i := piece.From; i < piece.To; i++ {
				if want, ok := at[x.Path(i)]; ok && want != count {
					t.Fatalf("seed %d: %s on %s, mode %d: a piece of %d permissions, want %d", seed, id, x.Path(i),
						mode, count, want)
				}
			}
			n++
		}
	}
	return n
}

// applies reports whether a permission can be used on a node of a kind.
func applies(c *model.CatalogueEntry, at model.Path) bool {
	kind, _ := at.Last()
	return len(c.Kinds) == 0 || slices.Contains(c.Kinds, kind)
}

// named returns the permissions of a set over the numbers of an index, in order.
func named(x *index.Index, b access.Set) string {
	var out []string
	for i := range b.All() {
		out = append(out, x.Permission(i).Permission.String())
	}
	slices.Sort(out)
	return fmt.Sprint(out)
}

func listed(g *plain.Engine, b access.Set) string {
	var out []string
	for i := range b.All() {
		out = append(out, g.Estate.Catalogue[i].Permission.String())
	}
	slices.Sort(out)
	return fmt.Sprint(out)
}

func holdingsAgree(t *testing.T, seed uint64, plain *plain.Engine, x *index.Index, id model.ID) {
	t.Helper()
	want, got := plain.Holdings(id), x.Holdings(id)
	for i := range max(len(want), len(got)) {
		if i >= len(want) || i >= len(got) || want[i].Grant.ID != got[i].Grant.ID ||
			fmt.Sprint(want[i].Chain) != fmt.Sprint(got[i].Chain) ||
			want[i].Blocked != got[i].Blocked || listed(plain, want[i].Perms) != named(x, got[i].Perms) {
			t.Fatalf("seed %d: %s: holding %d of %d differs (%d in the index)", seed, id, i, len(want), len(got))
		}
	}
}

func intoAgrees(t *testing.T, seed uint64, g *random, plain *plain.Engine, x *index.Index) {
	t.Helper()
	swept := newSweep(plain)
	same := map[string]string{}
	for _, text := range append(g.unknown[:2:2], g.paths...) {
		path := model.MustPath(text)
		var who, want, lines []string
		for _, i := range append([]model.Identity{{ID: model.MustID("everyone")}, {ID: model.MustID("signed-in")}},
			plain.Estate.Identities...) {
			if i.ID.Kind != model.Group {
				who = append(who, i.ID.String())
			}
		}
		for _, text := range who {
			certain, conditional := swept.effective(plain.Closure(model.MustID(text)), path)
			if certain.Count()+conditional.Count() > 0 {
				want = append(want, fmt.Sprintln(text, listed(plain, certain), listed(plain, conditional)))
			}
			a := x.Effective(model.MustID(text), path)
			if named(x, a.Certain) != listed(plain, certain) || named(x, a.Conditional) != listed(plain, conditional) {
				t.Fatalf("seed %d: %s on %s: effective access differs", seed, text, path)
			}
		}
		for _, a := range x.Into(path) {
			if id := x.ID(a.Identity); !id.Open() && !x.Known(a.Identity) {
				continue
			}
			lines = append(lines, fmt.Sprintln(x.ID(a.Identity), named(x, a.Certain), named(x, a.Conditional)))
		}
		slices.Sort(want)
		slices.Sort(lines)
		got := fmt.Sprint(lines)
		if fmt.Sprint(want) != got {
			t.Fatalf("seed %d: into %s:\nplain: %s\nindex: %s", seed, path, want, got)
		}
		rules := x.SameRules(path)
		if same[rules] != "" && same[rules] != got {
			t.Fatalf("seed %d: %s has the rules of another path and another answer", seed, path)
		}
		same[rules] = got
	}
	for i := range plain.Estate.Grants {
		n := 0
		for _, node := range plain.Estate.Nodes {
			if plain.Estate.Grants[i].Covers(node.Path) {
				n++
			}
		}
		if got := x.Held(plain.Estate.Grants[i].Where); got != n {
			t.Fatalf("seed %d: grant %s holds %d nodes, want %d", seed, plain.Estate.Grants[i].ID, got, n)
		}
	}
}

// onlyAgrees holds a walk over some permissions below some node.
func onlyAgrees(t *testing.T, seed uint64, plain *plain.Engine, x *index.Index, id model.ID, mode index.Mode) {
	t.Helper()
	e := plain.Estate
	swept := newSweep(plain)
	under := e.Nodes[int(seed)%len(e.Nodes)].Path
	w := x.NewWalk(mode)
	some := x.NewSet()
	want, nodes := map[model.Permission]bool{}, 0
	asked := func(p model.Permission) bool { return p.Service() == "a" }
	for i := range x.Numbers() {
		if asked(x.Permission(i).Permission) {
			some.Add(i)
		}
	}
	if !w.Only(some, under) {
		t.Fatalf("seed %d: %s is not known", seed, under)
	}
	for _, n := range e.Nodes {
		certain, conditional := swept.effective(plain.Closure(id), n.Path)
		if mode == index.Possible {
			certain.Or(conditional)
		}
		any := false
		for i := range certain.All() {
			if p := e.Catalogue[i].Permission; asked(p) && under.Covers(n.Path) && applies(&e.Catalogue[i], n.Path) {
				want[p], any = true, true
			}
		}
		if any {
			nodes++
		}
	}
	permissions := w.Totals(id).Permissions.Count()
	if n := x.Usable(w.Pieces(id)); n != nodes || permissions != len(want) {
		t.Fatalf("seed %d: %s under %s, mode %d: %d permissions on %d nodes, want %d on %d", seed, id, under, mode,
			permissions, n, len(want), nodes)
	}
}

// TestDifference counts what a change does to everybody's access, and counts again node
// by node with the sweep.
func TestDifference(t *testing.T) {
	changed := 0
	for seed := range uint64(estates(t) / 2) {
		g := newRandom(seed)
		before := g.estate(t)
		g.add(sandbox.KindGrant, g.grant())
		g.add(sandbox.KindDenial, g.denial())
		after := g.estate(t)
		if seed%2 == 0 {
			after.Grants = after.Grants[1:]
		}
		a, err := index.Build(before)
		if err != nil {
			t.Fatal(err)
		}
		b, err := index.Build(after)
		if err != nil {
			t.Fatal(err)
		}
		one, two := plain.New(before), plain.New(after)
		had, has := newSweep(one), newSweep(two)
		for _, text := range append(g.groups[:1:1], g.people...) {
			id := model.MustID(text)
			var want index.Change
			for _, n := range before.Nodes {
				x, conditional := had.effective(one.Closure(id), n.Path)
				x.Or(conditional)
				y, conditional := has.effective(two.Closure(id), n.Path)
				y.Or(conditional)
				for i, c := range before.Catalogue {
					switch {
					case !applies(&before.Catalogue[i], n.Path):
					case x.Has(i) && !y.Has(i):
						want.Lost[c.Weighs()]++
					case !x.Has(i) && y.Has(i):
						want.Gained[c.Weighs()]++
					}
				}
			}
			got := index.Difference(a.NewWalk(index.Possible), b.NewWalk(index.Possible), id)
			if got != want {
				t.Fatalf("seed %d: %s: %+v, want %+v", seed, id, got, want)
			}
			if got != (index.Change{}) {
				changed++
			}
		}
	}
	if changed < 50 && !testing.Short() {
		t.Errorf("only %d identities were touched", changed)
	}
}

// TestReaches: whether anything that is granted to somebody reaches a path is what going over the
// grants finds.
func TestReaches(t *testing.T) {
	reached, not := 0, 0
	for seed := range uint64(estates(t) / 4) {
		g := newRandom(seed + 50_000)
		x := built(t, g.estate(t))
		for _, who := range append(append([]string{"person/nobody"}, g.people...), g.groups...) {
			id := model.MustID(who)
			f := x.Finder(id)
			for _, p := range append(append([]string{"/elsewhere/x"}, g.paths...), g.unknown...) {
				path, want := model.MustPath(p), false
				for _, n := range x.Given(id) {
					want = want || x.Grant(n).Covers(path)
				}
				if got := f.Reaches(path); got != want {
					t.Fatalf("seed %d: %s on %s: %t", seed, who, p, got)
				}
				if want {
					reached++
				} else {
					not++
				}
			}
		}
	}
	if reached == 0 || not == 0 {
		t.Errorf("%d reached, %d not", reached, not)
	}
}

// TestSameNodes: two estates that are read one after the other list the same nodes, in whatever
// order, and whatever else they say; one node more, less or another is told.
func TestSameNodes(t *testing.T) {
	of := func(grants int, paths ...string) *index.Index {
		e := &model.Estate{Source: "m"}
		for _, p := range paths {
			e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
		}
		for i := range grants { // places that nobody lists are no nodes
			e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprint(i), To: model.MustID("person/a"),
				Where: []model.PathPattern{model.MustPathPattern("/m/z:1/**")}})
		}
		return built(t, e)
	}
	x := of(0, "/m", "/m/a:1", "/m/b:1")
	for _, tt := range []struct {
		o    *index.Index
		want bool
	}{
		{of(0, "/m/b:1", "/m", "/m/a:1"), true}, {of(1, "/m", "/m/a:1", "/m/b:1"), true},
		{of(0, "/m", "/m/a:1"), false},
		{of(0, "/m", "/m/a:1", "/m/b:2"), false}, {of(0, "/m", "/m/a:1", "/m/b:1", "/m/c:1"), false},
	} {
		if x.SameNodes(tt.o) != tt.want || tt.o.SameNodes(x) != tt.want {
			t.Errorf("the same as %d nodes: %t", tt.o.Nodes(), !tt.want)
		}
	}
}
