package index_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// nested is an estate in which few roles, of hundreds of permissions on several kinds of node, are granted again and
// again on places that lie in each other, and are refused there.
func nested(rnd *rand.Rand) *model.Estate {
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: path("/s")}}}
	kinds := []string{"box", "bay", "bin"}
	for range 40 {
		up := e.Nodes[rnd.IntN(len(e.Nodes))].Path
		p := up.Child(kinds[rnd.IntN(3)], fmt.Sprint("n", rnd.IntN(3)))
		if !slices.ContainsFunc(e.Nodes, func(n model.Node) bool { return n.Path == p }) {
			e.Nodes = append(e.Nodes, model.Node{Path: p})
		}
	}
	for i := range 200 {
		c := model.CatalogueEntry{Permission: model.MustPermission(fmt.Sprintf("s/thing%d:do", i)),
			Level: model.Level(rnd.IntN(5)) + model.See}
		for _, k := range kinds {
			if rnd.IntN(3) > 0 {
				c.Kinds = append(c.Kinds, k)
			}
		}
		e.Catalogue = append(e.Catalogue, c)
	}
	some := func(n int) (r model.Rights) {
		for range n {
			r.Do = append(r.Do, e.Catalogue[rnd.IntN(len(e.Catalogue))].Permission.Pattern())
		}
		return r
	}
	on := func() []model.PathPattern {
		p := e.Nodes[rnd.IntN(len(e.Nodes))].Path
		if rnd.IntN(3) == 0 {
			return []model.PathPattern{p.Exactly()}
		}
		return []model.PathPattern{p.Below()}
	}
	for i := range 4 {
		e.Roles = append(e.Roles, model.Role{Name: fmt.Sprint("r", i), Rights: some(1 + rnd.IntN(80))})
	}
	who := []string{"person/a", "person/b", "person/c", "group/g", "group/h"}
	for _, w := range who {
		e.Identities = append(e.Identities, model.Identity{ID: id(w)})
	}
	e.Memberships = []model.Membership{{Member: id("person/a"), Group: id("group/g")},
		{Member: id("person/b"), Group: id("group/g")}, {Member: id("group/g"), Group: id("group/h")}}
	for i := range 24 {
		e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprint("g", i), To: id(who[rnd.IntN(len(who))]),
			Role: fmt.Sprint("r", rnd.IntN(4)), Where: on()})
	}
	for i := range rnd.IntN(6) {
		to := []model.ID{id(who[rnd.IntN(len(who))])}
		e.Denials = append(e.Denials, model.Denial{ID: fmt.Sprint("d", i), To: to, Where: on(),
			Rights: some(1 + rnd.IntN(60))})
	}
	for i := range rnd.IntN(3) {
		e.Guardrails = append(e.Guardrails, model.Guardrail{ID: fmt.Sprint("r", i), Rights: some(1 + rnd.IntN(60)),
			Node: e.Nodes[rnd.IntN(len(e.Nodes))].Path})
	}
	if rnd.IntN(3) == 0 {
		e.Ceilings = []model.Ceiling{{ID: "c", Of: id("person/a"), Rights: some(150), Where: on()}}
	}
	return e
}

// TestTotalsOfPieces: what a walk counts as it goes, role by role, is what is counted of the pieces that it would
// write down, whoever it summed up before; of views that bring roles, too.
func TestTotalsOfPieces(t *testing.T) {
	for seed := range uint64(60) {
		rnd := rand.New(rand.NewPCG(seed, 7))
		x := build(t, nested(rnd))
		more := model.Grant{ID: "more", To: id("person/b"), Rights: model.Rights{
			Do: []model.PermissionPattern{model.MustPermissionPattern("s/thing1*:*")}},
			Where: []model.PathPattern{path("/s").Below()}}
		view, err := x.With(access.Edit{Come: access.Come{Grants: []model.Grant{more}}})
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range []*index.Index{x, view} {
			w := x.NewWalk(index.Possible)
			for _, who := range []string{"person/a", "group/h", "person/b", "person/c", "group/g", "person/a"} {
				want := x.Places(x.NewWalk(index.Possible).Pieces(id(who)))
				got := w.Totals(id(who))
				if !slices.Equal(got.Places, want) {
					t.Fatalf("seed %d, %s: on %v nodes, by its pieces on %v", seed, who, got.Places, want)
				}
				var pairs [model.HandOut + 1]uint64
				for i := range x.Numbers() {
					pairs[x.Level(i)] += uint64(want[i])
				}
				if got.Pairs != pairs {
					t.Fatalf("seed %d, %s: pairs %v, by its pieces %v", seed, who, got.Pairs, pairs)
				}
			}
		}
	}
}

// TestSpots: paths that are looked up together are where each is alone.
func TestSpots(t *testing.T) {
	x := build(t, harbour())
	var all []model.Path
	for range 700 { // more than one worker takes at a time
		for _, p := range []string{"/s/harbour:o", "/s/harbour:o/berth:p/box:b/leaf/2026", "/elsewhere"} {
			all = append(all, path(p))
		}
	}
	spots := x.Spots(len(all), func(i int) model.Path { return all[i] })
	for i, p := range all {
		if got, want := spots.At(i, p), x.Spot(p); got != want {
			t.Fatalf("%s: %+v, want %+v", p, got, want)
		}
	}
}

// TestExtent: places of which one lies in the other have extents that meet, whatever patterns they are.
func TestExtent(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	meet, apart := 0, 0
	for range 20 {
		e := nested(rnd)
		x := build(t, e)
		var on []model.PathPattern
		for _, n := range e.Nodes {
			on = append(on, n.Path.Exactly(), n.Path.Below(), n.Path.Child("box", "unlisted").Below())
		}
		on = append(on, model.MustPathPattern("/s/box:*/**"), model.MustPathPattern("/s/box:*"))
		for range 3000 {
			a := []model.PathPattern{on[rnd.IntN(len(on))], on[rnd.IntN(len(on))]}
			b := []model.PathPattern{on[rnd.IntN(len(on))]}
			switch met := x.Extent(a).Meets(x.Extent(b)); {
			case !met:
				apart++
				if slices.ContainsFunc(a, b[0].Overlaps) {
					t.Fatalf("%v and %v overlap, and their extents do not meet", a, b)
				}
			default:
				meet++
			}
		}
	}
	if meet < 1000 || apart < 1000 {
		t.Errorf("%d meet and %d do not: that is no test", meet, apart)
	}
}
