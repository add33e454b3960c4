package judge

import (
	"fmt"
	"slices"
	"testing"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/index"
	"clipfence/internal/core/model"
)

// told is a decision in words that can be compared.
func told(d engine.Decision) string {
	s := d.Outcome.String()
	for _, r := range d.Refusals {
		s += fmt.Sprintf("; %s %s %v %s %s", r.Layer, r.ID, r.Chain, r.Met, r.Rest)
	}
	ways := func(word string, ws []engine.Way) {
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
		plain := engine.New(e)
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
			id, p, path := model.MustID(callers[i%len(callers)]), model.MustPermission(g.pick(perms)), model.MustPath(q.path)
			ctx := model.Context{}
			if i%2 == 0 {
				ctx = q.context(g.labels(q.path))
			}
			want, got := told(plain.Decide(id, p, path, ctx)), told(x.Decide(id, p, path, ctx))
			if want != got {
				t.Fatalf("seed %d: %s %s %s:\nplain: %s\nindex: %s", seed, id, p, path, want, got)
			}
			if i%50 == 0 {
				held += whoAgrees(t, seed, plain, x, p, path)
			}
		}
		for _, text := range callers {
			id := model.MustID(text)
			if len(plain.Masks(id)) != len(x.Masks(id)) {
				t.Errorf("seed %d: %s: masks differ", seed, id)
			}
			pieces += totalsAgree(t, seed, plain, x, id)
		}
		if err := x.Err(); err != nil {
			t.Fatal(err)
		}
	}
	if held == 0 || pieces == 0 {
		t.Error("the random estates are too strict to say much")
	}
	t.Logf("%d holders, %d pieces", held, pieces)
}

func whoAgrees(t *testing.T, seed uint64, plain *engine.Engine, x *index.Index, p model.Permission, path model.Path) int {
	t.Helper()
	var want, got []string
	for _, i := range append([]model.Identity{{ID: model.MustID("everyone")}, {ID: model.MustID("signed-in")}}, plain.Estate.Identities...) {
		if o := plain.Decide(i.ID, p, path, model.Context{}).Outcome; o != engine.Denied && i.ID.Kind != model.Group {
			want = append(want, fmt.Sprint(i.ID, o))
		}
	}
	for _, h := range x.Who(p, path) {
		got = append(got, fmt.Sprint(x.ID(h.Identity), h.Outcome))
	}
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) {
		t.Fatalf("seed %d: who may %s on %s:\nplain: %v\nindex: %v", seed, p, path, want, got)
	}
	return len(got)
}

func totalsAgree(t *testing.T, seed uint64, plain *engine.Engine, x *index.Index, id model.ID) int {
	t.Helper()
	e := plain.Estate
	sweep := engine.NewSweep(plain)
	closure := plain.Closure(id)
	n := 0
	for _, mode := range []index.Mode{index.Possible, index.Certain} {
		var pairs [6]uint64
		var nodes int
		distinct := map[model.Permission]bool{}
		at := map[model.Path]int{}
		for _, node := range e.Nodes {
			certain, conditional := sweep.Effective(closure, node.Path)
			if mode == index.Possible {
				certain.Or(conditional)
			}
			if at[node.Path] = certain.Count(); at[node.Path] > 0 {
				nodes++
			}
			for i := range certain.All() {
				distinct[e.Catalogue[i].Permission] = true
				pairs[e.Catalogue[i].Weighs()]++
			}
		}
		w := x.NewWalk(mode)
		for range 2 { // a walk must leave nothing behind
			got := w.Totals(id)
			same := got.Permissions.Count() == len(distinct)
			for i := range got.Permissions.All() {
				same = same && distinct[x.Permission(i).Permission]
			}
			if !same || got.Nodes != nodes || got.Pairs != pairs {
				t.Fatalf("seed %d: %s, mode %d: %d permissions on %d nodes, pairs %v; want %d on %d, %v", seed, id, mode, got.Permissions.Count(), got.Nodes, got.Pairs, len(distinct), nodes, pairs)
			}
		}
		for _, piece := range w.Pieces(id) {
			count := 0
			for _, word := range piece.Words {
				count += engine.Bits{word.Bits}.Count()
			}
			for i := piece.From; i < piece.To; i++ {
				if want, ok := at[x.Path(i)]; ok && want != count {
					t.Fatalf("seed %d: %s on %s, mode %d: a piece of %d permissions, want %d", seed, id, x.Path(i), mode, count, want)
				}
			}
			n++
		}
	}
	return n
}
