package risk

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestSide: what is looked up once for all permissions is what each grant says by itself, whatever its places
// are: nodes, what lies in them, patterns, and what is not listed.
func TestSide(t *testing.T) {
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}}}
	for i := range 4 {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{
			Permission: model.MustPermission(fmt.Sprintf("s/item:v%d", i)), Level: model.Read})
	}
	var on []model.PathPattern
	add := func(path string) {
		on = append(on, model.MustPathPattern(path), model.MustPathPattern(path+"/**"))
	}
	for p := range 3 {
		up := fmt.Sprintf("/m/project:p%d", p)
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(up)})
		add(up)
		on = append(on, model.MustPathPattern(up+"/box:*/**"))
		for b := range 3 {
			box := fmt.Sprintf("%s/box:b%d", up, b)
			e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(box)})
			add(box)
		}
		add(up + "/box:later")
	}
	on = append(on, model.MustPathPattern("/m/**"), model.MustPathPattern("/m/project:*/box:b1/**"),
		model.MustPathPattern("/m/project:p*/**"))
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	const seed = 7
	r := rand.New(rand.NewPCG(seed, 0))
	p := &Past{x: x}
	some := func() (list []Given) {
		for range r.IntN(5) {
			g := Given{Perms: x.NewSet()}
			for perm := range x.Numbers() {
				if r.IntN(2) == 0 {
					g.Perms.Add(perm)
				}
			}
			for range 1 + r.IntN(3) {
				g.Where = append(g.Where, on[r.IntN(len(on))])
			}
			list = append(list, g)
		}
		return list
	}
	for round := range 2000 {
		lists := [2][]Given{some(), some()}
		sides := [2]*side{p.regions().side(lists[0]), p.regions().side(lists[1])}
		for perm := range x.Numbers() {
			var where [2][]model.PathPattern
			for i, list := range lists {
				for _, g := range list {
					if g.Perms.Has(perm) {
						where[i] = append(where[i], g.Where...)
					}
				}
			}
			in := func(on model.PathPattern) bool {
				return slices.ContainsFunc(where[1], func(w model.PathPattern) bool { return w.Contains(on) })
			}
			if got, want := sides[0].less(sides[1]).Has(perm), !every(where[0], in); got != want {
				t.Fatalf("seed %d, round %d: of %v less than %v: %t", seed, round, where[0], where[1], got)
			}
			if got, want := sides[0].region(perm), x.Region(where[0]...); !slices.Equal(got, want) {
				t.Fatalf("seed %d, round %d: region of %v: %v, want %v", seed, round, where[0], got, want)
			}
			n := 0
			sides[0].every(perm, func(on model.PathPattern) bool {
				n++
				if !slices.Contains(where[0], on) {
					t.Fatalf("seed %d, round %d: %s is not of %v", seed, round, on, where[0])
				}
				return true
			})
			distinct := map[model.PathPattern]bool{}
			for _, w := range where[0] {
				distinct[w] = true
			}
			if n != len(distinct) {
				t.Fatalf("seed %d, round %d: %d places of %v", seed, round, n, where[0])
			}
			at := on[r.IntN(len(on))]
			b := sides[1].at(at)
			if got := b.over.Has(perm); got != in(at) {
				t.Fatalf("seed %d, round %d: %v over %s: %t", seed, round, where[1], at, got)
			}
			if got, want := sides[1].laps(at).Has(perm), slices.ContainsFunc(where[1], at.Overlaps); got != want {
				t.Fatalf("seed %d, round %d: %v laps %s: %t, want %t", seed, round, where[1], at, got, want)
			}
			got, want := map[model.PathPattern]bool{}, map[model.PathPattern]bool{}
			b.every(perm, func(w model.PathPattern) bool { got[w] = true; return true })
			for _, w := range where[1] {
				switch {
				case at.Contains(w):
					want[w] = true
				case w.Contains(at):
					want[at] = true
				}
				if w.Contains(at) {
					want[at] = true
				}
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Fatalf("seed %d, round %d: of %v at %s: %v, want %v", seed, round, where[1], at, got, want)
			}
			if node, one := at.Node(); one {
				stays := sides[1].staying(perm, []model.PathPattern{at}, nil)
				lap := slices.ContainsFunc(where[1], node.Below().Overlaps)
				if (stays == 1) != lap {
					t.Fatalf("seed %d, round %d: of %v on %s stay %d", seed, round, where[1], at, stays)
				}
				if sides[1].staying(perm, []model.PathPattern{at}, []model.PathPattern{at}) != 0 {
					t.Fatalf("seed %d, round %d: what is refused stays", seed, round)
				}
			}
		}
	}
}

// TestInTheFirst: a place counts to the first part that holds it, also where what is granted has something in common
// with that part and lies in none of its places.
func TestInTheFirst(t *testing.T) {
	of := func(on ...string) (out []model.PathPattern) {
		for _, p := range on {
			out = append(out, model.MustPathPattern(p))
		}
		return out
	}
	wide, near := Part{Class: Beside, Where: of("/m/yard:o/**")}, Part{Class: Beside, Where: of("/m/yard:o/p:n/**")}
	apart, all := Part{Class: Near, Where: of("/m/yard:p/**")}, Part{Class: Rest, Where: []model.PathPattern{{}}}
	for _, c := range []struct {
		name        string
		where, dark []model.PathPattern
		want        []Part
	}{
		{"a grant that reaches into it", of("/m/yard:*/p:n/**", "/m/yard:o/p:z/**"), nil, []Part{wide, all}},
		{"one that lies in it", of("/m/yard:o/p:n/**"), nil, []Part{wide}},
		{"one that holds it", of("/m/**"), nil, []Part{wide, apart, all}},
		{"no log shows the first one", of("/m/yard:o/**"), of("/m/yard:o/**"), nil},
		{"no log shows what lies in it", of("/m/yard:o/**"), of("/m/yard:o/p:n/**"), []Part{wide}},
	} {
		g := &Held{Where: c.where, Dark: c.dark}
		if got := g.Clip([]Part{wide, near, apart, all}); fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("%s: %v, wanted %v", c.name, got, c.want)
		}
	}
}
