package gauge_test

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// tree is a random inventory, with some nodes missing in the middle, and patterns on it.
type tree struct {
	r     *rand.Rand
	paths []model.Path
}

func newTree(seed uint64) *tree {
	t := &tree{r: rand.New(rand.NewPCG(seed, 1))}
	at := []model.Path{model.MustPath("/m")}
	for range 40 {
		up := at[t.r.IntN(len(at))]
		p := up.Child([]string{"org", "unit", "box", ""}[t.r.IntN(4)], fmt.Sprint(t.r.IntN(4)))
		at = append(at, p)
		if t.r.IntN(5) > 0 && !slices.Contains(t.paths, p) {
			t.paths = append(t.paths, p)
		}
	}
	return t
}

func (t *tree) estate() *model.Estate {
	e := &model.Estate{Source: "m"}
	for _, p := range t.paths {
		e.Nodes = append(e.Nodes, model.Node{Path: p})
	}
	return e
}

func (t *tree) pattern() model.PathPattern {
	p := t.paths[t.r.IntN(len(t.paths))]
	text := p.String()
	if t.r.IntN(4) == 0 { // a wildcard in place of the last name
		up, _ := p.Parent()
		text = up.String() + "/" + []string{"box:*", "*", "pier:*", "harbour:1*"}[t.r.IntN(4)]
	}
	if t.r.IntN(8) == 0 {
		text = "/*/harbour:*"
	}
	if t.r.IntN(2) == 0 {
		text += "/**"
	}
	return model.MustPathPattern(text)
}

var everyKind = [][]string{nil, {"box"}, {"org", "unit"}, {"nothing"}}

// indexed returns an index of a tree with a permission for each of everyKind, and their
// numbers.
func indexed(t *testing.T, e *model.Estate) (x *index.Index, perms []int) {
	t.Helper()
	for i, kinds := range everyKind {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(fmt.Sprintf("k/x:v%d",
			i)), Level: model.Read, Kinds: kinds})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	for i := range everyKind {
		n, _ := x.PermNumber(e.Catalogue[i].Permission)
		perms = append(perms, n)
	}
	return x, perms
}

// TestScale counts nodes by spans and counts them again one by one.
func TestScale(t *testing.T) {
	told := 0
	for seed := range uint64(300) {
		tr := newTree(seed)
		e := tr.estate()
		x, perms := indexed(t, e)
		s := gauge.NewScale(x, gauge.DefaultWeights)
		for range 20 {
			on := []model.PathPattern{tr.pattern()}
			for tr.r.IntN(2) == 0 {
				on = append(on, tr.pattern())
			}
			var from []model.Path
			for tr.r.IntN(3) > 0 {
				from = append(from, tr.paths[tr.r.IntN(len(tr.paths))])
			}
			n := tr.r.IntN(len(everyKind))
			c, perm := e.Catalogue[n], perms[n]
			count := 0
			apart := map[model.Path]bool{}
			for _, p := range tr.paths {
				kind, _ := p.Last()
				fits := len(c.Kinds) == 0 || slices.Contains(c.Kinds, kind)
				if fits && slices.ContainsFunc(on, func(o model.PathPattern) bool { return o.Matches(p) }) {
					count++
				}
				leaf := !slices.ContainsFunc(tr.paths, func(q model.Path) bool { return p != q && p.Covers(q) })
				if (fits && len(c.Kinds) > 0 || leaf && len(c.Kinds) == 0) && on[0].Matches(p) &&
					!slices.ContainsFunc(from, func(f model.Path) bool { return f.Covers(p) }) {
					apart[p] = true
				}
			}
			if got := s.Nodes(perm, on); got != max(1, count) {
				t.Fatalf("seed %d: %v on %v: %d nodes, want %d", seed, c.Kinds, on, got, max(1, count))
			}
			// What lies apart is in the places that are said, which are inside the pattern; and none of
			// those is without it or holds one of the others, unless they cannot be told apart.
			got := s.Apart(perm, on[0], from)
			for p := range apart {
				if !slices.ContainsFunc(got, func(o model.PathPattern) bool { return o.Matches(p) }) {
					t.Fatalf("seed %d: %v on %s apart from %v: %v, without %s", seed, c.Kinds, on[0], from, got, p)
				}
			}
			for _, o := range got {
				if !on[0].Contains(o) || len(apart) == 0 {
					t.Fatalf("seed %d: %v on %s apart from %v: %s", seed, c.Kinds, on[0], from, o)
				}
				some := slices.ContainsFunc(slices.Collect(maps.Keys(apart)), o.Matches)
				if o != on[0] && (!some || slices.ContainsFunc(from, o.Matches)) {
					t.Fatalf("seed %d: %v on %s apart from %v: %s too", seed, c.Kinds, on[0], from, o)
				}
				if o != on[0] {
					told++
				}
			}
		}
	}
	if told < 100 {
		t.Errorf("only %d places were told apart: the trees are too tame", told)
	}
}

// TestDarkBelow holds what is dark of a place against each of its nodes, decided by the
// nearest record: what nobody would have seen is never called seen.
func TestDarkBelow(t *testing.T) {
	now := gaugetest.Now
	w := usage.WindowOf(now, 90)
	less := 0
	for seed := range uint64(500) {
		tr := newTree(seed)
		e := tr.estate()
		var records []model.CoverageRecord
		for _, p := range append(slices.Clone(tr.paths), model.MustPath("/m")) {
			if tr.r.IntN(4) == 0 {
				records = append(records, model.CoverageRecord{Node: p, Service: "s", LogClass: "read",
					Written: tr.r.IntN(3) > 0, Since: now.AddDate(0, 0, -tr.r.IntN(120))})
			}
		}
		c := usage.NewCoverage(records, usage.Read{First: now.AddDate(-1, 0, 0), Ends: []time.Time{now}})
		x, perms := indexed(t, e)
		s := gauge.NewScale(x, gauge.DefaultWeights)
		for range 20 {
			n := 1 + tr.r.IntN(2)
			on, entry := tr.pattern(), e.Catalogue[n]
			dark, _ := c.DarkBelow(on, "s", "read", w,
				func(below []model.Path) []model.PathPattern { return s.Apart(perms[n], on, below) })
			some, seen := false, true
			for _, p := range tr.paths {
				if kind, _ := p.Last(); !on.Matches(p) || !slices.Contains(entry.Kinds, kind) {
					continue
				}
				some = true
				if usage.Observable(c.Share(p, "s", "read", w)) {
					continue
				}
				seen = false
				if !slices.ContainsFunc(dark, func(d model.PathPattern) bool { return d.Matches(p) }) {
					t.Fatalf("seed %d: %s for %v: %s is dark, and not in %v", seed, on, entry.Kinds, p, dark)
				}
			}
			if some && seen && len(dark) > 0 {
				less++ // by a record where nothing of these kinds is: careful, and not wrong
			}
		}
	}
	if less == 0 {
		t.Error("no record bore on a place without nodes: the trees are too tame")
	}
}

// TestBlind counts what cannot be judged for want of each log, and counts it again pair
// by pair.
func TestBlind(t *testing.T) {
	blind := 0
	for seed := range uint64(200) {
		tr := newTree(seed)
		e := tr.estate()
		for i := range 90 { // more than a word of one log
			e.Catalogue = append(e.Catalogue,
				model.CatalogueEntry{Permission: model.MustPermission(fmt.Sprintf("s%d/x:v%d", i%2, i)),
					Level: model.Read, LogClass: []string{"read", "write"}[i/80]})
		}
		for i := range 6 {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(fmt.Sprintf("person/p%d", i)),
				LastSeen: gaugetest.Now.AddDate(-2, 0, 0)})
		}
		e.Identities = append(e.Identities, model.Identity{ID: model.MustID("group/g")})
		e.Memberships = []model.Membership{{Member: e.Identities[0].ID, Group: model.MustID("group/g")},
			{Member: e.Identities[1].ID, Group: model.MustID("group/g")}}
		for i := range 12 {
			g := model.Grant{ID: fmt.Sprint(i), To: e.Identities[tr.r.IntN(len(e.Identities))].ID,
				Where: []model.PathPattern{tr.pattern(), tr.pattern()}}
			for range 1 + tr.r.IntN(20) {
				g.Do = append(g.Do, e.Catalogue[tr.r.IntN(len(e.Catalogue))].Permission.Pattern())
			}
			e.Grants = append(e.Grants, g)
		}
		for _, p := range append(slices.Clone(tr.paths), model.MustPath("/m")) {
			for _, service := range []string{"s0", "s1", "s2"} {
				if tr.r.IntN(5) == 0 {
					e.Coverage = append(e.Coverage,
						model.CoverageRecord{Node: p, Service: service,
							LogClass: []string{"read", "write"}[tr.r.IntN(2)], Written: tr.r.IntN(2) == 0})
				}
			}
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		in := &gauge.Input{AsOf: gaugetest.Now, Window: 90, History: gaugetest.Now.AddDate(-2, 0, 0), Index: x}
		in.Coverage = usage.NewCoverage(e.Coverage, usage.Read{First: in.History, Ends: []time.Time{in.AsOf}})
		res := gauge.Run(in)
		for i, got := range gauge.Blind(in, res) {
			r := e.Coverage[i]
			pairs, ids := map[string]bool{}, map[model.ID]bool{}
			if !usage.Observable(in.Coverage.Share(r.Node, r.Service, r.LogClass, res.Window)) {
				for _, g := range res.Grants {
					for p := range g.Perms.All() { // nobody used anything
						c := x.Permission(p)
						if c.LogClass == r.LogClass && c.Permission.Service() == r.Service &&
							slices.ContainsFunc(g.DarkAt(p), func(p model.PathPattern) bool {
								return p.Overlaps(r.Node.Below())
							}) {
							for _, id := range g.Holders {
								pairs[fmt.Sprint(id, p)], ids[id] = true, true
							}
						}
					}
				}
			}
			blind += len(pairs)
			if want := (gauge.Blindness{Permissions: len(pairs), Identities: len(ids)}); got != want {
				t.Fatalf("seed %d: %s/%s at %s: %+v, want %+v", seed, r.Service, r.LogClass, r.Node, got, want)
			}
		}
	}
	if blind == 0 {
		t.Error("nothing was blind")
	}
}

// TestWeightOfPlaces: danger is the weight of the level times log2(1 + places), to the last digit however
// many there are.
func TestWeightOfPlaces(t *testing.T) {
	for places := range 10_000 {
		want := gauge.DefaultWeights[model.Change] * math.Log2(1+float64(places))
		if got := gauge.DefaultWeights.Of(model.Change, places); got != want {
			t.Fatalf("on %d places %v, want %v", places, got, want)
		}
	}
}

// TestUnionIsOne: what several parts measure together is the same to the last digit, however often it is asked.
func TestUnionIsOne(t *testing.T) {
	in, err := gaugetest.Parse("grant a workload/a stow/item:read /m/**\n" +
		"grant b workload/a stow/item:change /m/berth:x/box:b1/**\n" +
		"grant c workload/a stow/item:* /m/berth:x/box:b*/**\n" +
		"grant d workload/a stow/box:scrap /m/berth:x/**\n" +
		"grant e workload/a * /m/berth:x/box:b2/**\n" +
		"grant f workload/a muster/grant:give /m/**")
	if err != nil {
		t.Fatal(err)
	}
	var parts []gauge.Part
	for n, g := range in.Index.Grants() {
		parts = append(parts, gauge.Part{Perms: in.Index.SharedPerms(n), Where: g.Where})
	}
	want := gauge.NewScale(in.Index, gauge.DefaultWeights).Union(parts)
	for range 200 {
		if got := gauge.NewScale(in.Index, gauge.DefaultWeights).Union(parts); got != want {
			t.Fatalf("together they measure %v, and %v before", got, want)
		}
	}
}
