package draft

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
)

// TestChoose: what is chosen costs hardly more than the best of all choices: danger kept, needs
// not met, and pieces.
func TestChoose(t *testing.T) {
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Catalogue: []model.CatalogueEntry{{Permission: model.MustPermission("s/item:read"), Level: model.Read,
			Kinds: []string{"box"}}}}
	var all []candidate
	add := func(class risk.Class, on model.PathPattern) {
		all = append(all, candidate{class: class, where: []model.PathPattern{on}, key: on.String()})
	}
	for p := range 3 {
		project := model.MustPath(fmt.Sprintf("/m/project:p%d", p))
		add(risk.Beside, project.Below())
		for b := range 3 + p {
			at := project.Child("box", string(rune('a'+b)))
			e.Nodes = append(e.Nodes, model.Node{Path: at})
			if b < 3 {
				add(risk.Used, at.Below())
			}
		}
	}
	add(risk.Rest, model.MustPathPattern("/m/**"))
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	perm, _ := x.PermNumber(model.MustPermission("s/item:read"))
	d := &drafter{x: x}
	sum, worst, n, close := 0.0, 0.0, 0, 0
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 3))
		var some []*candidate
		total := 0.0
		for _, c := range all {
			c.hazard = math.Pow(r.Float64(), 1+4*r.Float64())
			if c.class != risk.Used {
				c.hazard /= 5
			}
			c.gain, c.region = c.hazard, x.Region(c.where...)
			total += c.gain
			some = append(some, &c)
		}
		number(some)
		weight, worth := 2.0, 40*r.Float64()
		cost := func(chosen []*candidate) float64 {
			var region index.Region
			met, pieces, more := 0.0, 0.0, 0
			for _, c := range chosen {
				region = region.Or(c.region)
				pieces += pieceShare * weight
				var nearer index.Region
				for _, o := range some {
					if o.class < c.class && within(o, c) {
						nearer = nearer.Or(o.region)
					}
				}
				if c.class >= risk.Beside && x.Count(perm, nearer) == x.Count(perm, c.region) {
					more = 1 // what will be there
				}
			}
			for _, c := range some {
				for _, o := range chosen {
					if c == o || within(c, o) {
						met += c.gain
						break
					}
				}
			}
			return weight*math.Log2(1+float64(x.Count(perm, region)+more)) + worth*(total-met) + pieces
		}
		taken, best := d.choose(perm, some, weight, worth, nil, true)
		ours := cost(taken)
		if said := worth*total - best; math.Abs(said-ours) > 1e-6 && len(taken) > 0 {
			t.Errorf("seed %d: it says %f, which is %f", seed, said, ours)
		}
		optimum := math.Inf(1)
		for set := range 1 << len(some) {
			var chosen []*candidate
			for i, c := range some {
				if set>>i&1 == 1 {
					chosen = append(chosen, c)
				}
			}
			optimum = min(optimum, cost(chosen))
		}
		if n++; ours <= 1.05*optimum {
			close++
		}
		sum += ours / optimum
		worst = max(worst, ours/optimum)
	}
	t.Logf("mean %.4f of the optimum, at worst %.3f; %d of %d within 5 %%", sum/float64(n), worst, close, n)
	if sum/float64(n) > 1.01 || worst > 1.05 || close < n {
		t.Error("that is too far from the optimum")
	}
}

// TestWidest: what one used and others may need is said to be used; what lies inside another
// place is not said again.
func TestWidest(t *testing.T) {
	on := func(list ...string) (out []model.PathPattern) {
		for _, s := range list {
			out = append(out, model.MustPathPattern(s))
		}
		return out
	}
	got := map[string]bool{}
	for _, s := range widest([]*candidate{{class: risk.Used, where: on("/m/a/**")},
		{class: risk.Used, where: on("/m/c/d/**")}, {class: risk.Peer, where: on("/m/a/**", "/m/b/**")},
		{class: risk.Beside, where: on("/m/c/**")}}, model.ID{}) {
		got[s.on.String()] = s.used
	}
	want := map[string]bool{"/m/a/**": true, "/m/b/**": false, "/m/c/**": false}
	if !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

// TestTold: what a line rests on is the first and the last of its refused calls, in whatever order they
// come, and the most days that one of them had; a call that is in no log is none.
func TestTold(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 1, n, 0, 0, 0, 0, time.UTC) }
	calls := []Refused{{Count: 2, Days: 2, First: day(5), Last: day(9)},
		{Count: 1, Days: 1, First: day(3), Last: day(3)}, {Count: 4, Days: 3, First: day(4), Last: day(12)}, {}}
	for _, order := range [][]int{{0, 1, 2, 3}, {3, 2, 1, 0}, {1, 2, 0, 3}} {
		var e fence.Evidence
		for _, i := range order {
			told(&e, calls[i])
		}
		if e.Class != "refused" || e.Count != 7 || e.Days != 3 || !e.First.Equal(day(3)) || !e.Last.Equal(day(12)) {
			t.Errorf("%v: %+v", order, e)
		}
	}
	var none fence.Evidence
	if told(&none, Refused{}); none.Class != "" || none.Count != 0 {
		t.Errorf("%+v", none)
	}
}
