package risk

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestUnseen: what was granted all the time and never used counts for as much longer as the logs are by now, and what
// lies further from where something is used for half of that; what was granted lately, was used, or is another sort of
// place counts as it is; and what is told of it is what there was.
func TestUnseen(t *testing.T) {
	first := func(c Class, tenure Tenure, had int) Part {
		facts := [][2]int{{2, 6}, {1, 3}, {1, 2}, {int(tenure), 3}, {had, 2}, {1, 2}, {2, 3}, {1, 3}, {3, 4}}
		return Part{Class: c, Bin: bin(facts...)}
	}
	for _, tt := range []struct {
		name string
		q    Part
		less float64
	}{
		{"here", first(FirstHere, Old, 0), 1},
		{"beside", first(FirstBeside, Old, 0), 1},
		{"anywhere", first(FirstRest, Old, 0), 1},
		{"granted lately", first(FirstRest, Recent, 0), 0},
		{"granted just now", first(FirstRest, Fresh, 0), 0},
		{"used on a few days", first(FirstBeside, Old, 1), 0},
		{"a place of use", Part{Class: Used}, 0},
		{"what no log shows", Part{Class: DarkRest}, 0},
		{"a name", Part{Class: Name}, 0},
		{"further from where it is used", Part{Class: Near}, .5},
		{"beside where it is used", Part{Class: Beside}, 0},
		{"where peers use it", Part{Class: Peer}, 0},
	} {
		learned := func(longer float64) *Model {
			m := &Model{late: newOutlook(Horizon, Horizon), soon: newOutlook(Soon, Soon)}
			for i := range 20_000 {
				m.note(tt.q, need{late: i%100 == 0, soon: i%400 == 0}, 1, longer)
			}
			m.fit()
			return m
		}
		was, is := learned(1), learned(1.5)
		want := math.Pow(1.5, -tt.less)
		if got := is.Chance(tt.q) / was.Chance(tt.q); math.Abs(got-want) > .03 {
			t.Errorf("%s: after half as long again a chance of %.4f is %.3f times that, want %.3f", tt.name,
				was.Chance(tt.q), got, want)
		}
		if got := is.Soon(tt.q) / was.Soon(tt.q); math.Abs(got-want) > .05 {
			t.Errorf("%s: soon it is %.3f times that, want %.3f", tt.name, got, want)
		}
		if n, k, _ := is.Like(tt.q); n != 20_000 || k != 200 {
			t.Errorf("%s: %d of %d like it", tt.name, k, n)
		}
	}
}

// crowd is an estate of people who all may do everything, and what they do: each has a rate of its own for each
// permission, spread evenly over its logarithm.
func crowd(t *testing.T, seed uint64, people, perms int, days int) (*index.Index, []usage.Use) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 0))
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}}}
	for i := range 4 {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(fmt.Sprint("/m/box:b", i))})
	}
	for i := range perms {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Level: model.Read,
			Permission: model.MustPermission(fmt.Sprintf("s/box:v%d", i)), Kinds: []string{"box"}})
	}
	f := usage.Fold{}
	for i := range people {
		id := model.MustID(fmt.Sprint("person/p", i))
		e.Identities = append(e.Identities, model.Identity{ID: id})
		for k := range perms {
			rate, at := math.Exp(-2-10*r.Float64()), r.IntN(4)
			for d := range days {
				if r.Float64() < rate {
					f.Add(usage.Call{Time: (now - 399 + usage.Day(d)).Time(), Identity: id, Outcome: usage.Done,
						Permission: e.Catalogue[k].Permission, Path: e.Nodes[1+at].Path})
				}
			}
		}
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	return x, f.Uses()
}

// TestFirstUse: where people differ widely in how often they do what, as many do something for the first time as
// is expected by what earlier days showed, when less was known.
func TestFirstUse(t *testing.T) {
	expected, happened := 0.0, 0.0
	for seed := range uint64(4) {
		x, uses := crowd(t, seed, 120, 20, 400+Horizon)
		p := NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed)
		m := Learn(p, now, everything{x: x}, nil)
		after := NewPast(x, nil, usage.ListOf(uses...), now-399, now+Horizon, allowed)
		for i := range 120 {
			id := model.MustID(fmt.Sprint("person/p", i))
			for perm := range x.Numbers() {
				if p.Used(id, perm) {
					continue
				}
				never := 1.0
				for _, q := range p.Parts(id, perm, now, Old) {
					never *= 1 - m.Chance(q)
				}
				expected += 1 - never
				if after.Used(id, perm) {
					happened++
				}
			}
		}
	}
	if happened < 150 || expected < .8*happened || expected > 1.25*happened {
		t.Errorf("%.0f were expected to do something for the first time, and %.0f did", expected, happened)
	}
}

// TestPopularThen: how many use what they hold is told as of a landmark, where that is what is looked at: whoever
// begins with it later does not count yet.
func TestPopularThen(t *testing.T) {
	x := estate(t)
	perm, _ := x.PermNumber(model.MustPermission("s/box:put"))
	f := usage.Fold{}
	for i := range 40 {
		id := model.MustID(fmt.Sprint("person/p", i))
		for d := now - 399; d <= now; d += 3 {
			f.Add(usage.Call{Time: d.Time(), Identity: id, Path: box(0, 0, 0), Outcome: usage.Done,
				Permission: model.MustPermission("s/box:read")})
			if i == 0 || i < 10 && d > now-80 {
				f.Add(usage.Call{Time: d.Time(), Identity: id, Path: box(0, 0, 0), Outcome: usage.Done,
					Permission: model.MustPermission("s/box:put")})
			}
		}
	}
	p := NewPast(x, nil, usage.ListOf(f.Uses()...), now-399, now, allowed)
	Learn(p, now, everything{x: x}, nil)
	for _, tt := range []struct {
		day  usage.Day
		want int
	}{{now, 3}, {now - 90, 1}, {now - 120, 1}} {
		if got := p.popularity(perm, tt.day)[0]; got != tt.want {
			t.Errorf("%d days ago: popularity %d, want %d", now-tt.day, got, tt.want)
		}
	}
}

// TestLostAll: with each part that goes it is told what all permissions on its places come to, of what stays as
// well, so that one of many that come together counts by itself, and all of them as one.
func TestLostAll(t *testing.T) {
	x, uses := crowd(t, 9, 60, 8, 400)
	p := NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed)
	m := Learn(p, now, everything{x: x}, nil)
	everywhere := []model.PathPattern{model.MustPathPattern("/m/**")}
	all := Given{Perms: x.NewSet(), Where: everywhere}
	for perm := range x.Numbers() {
		all.Perms.Add(perm)
	}
	const dark = 3 // which no log shows, so that nothing of it is expected there
	had := &Having{Grants: []Given{all}, Since: func(int) usage.Day { return now - 999 },
		Dark: func(perm int) []model.PathPattern {
			if perm == dark {
				return everywhere
			}
			return nil
		}}
	told := 0
	for i := range 60 {
		id := model.MustID(fmt.Sprint("person/p", i))
		whole := Lost(p, m, x, id, now, had)
		sums := map[spot]float64{}
		for _, l := range whole {
			sums[spotOf(l.Part)] += l.Chance
		}
		for gone := range x.Numbers() {
			if gone == dark {
				continue
			}
			stays := model.Grant{ID: "g", To: id, Where: everywhere}
			for perm := range x.Numbers() {
				if perm != gone {
					stays.Do = append(stays.Do, x.Permission(perm).Permission.Pattern())
				}
			}
			after, err := x.With(access.Edit{Come: access.Come{Grants: []model.Grant{stays}}})
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range Lost(p, m, after, id, now, had) {
				told++
				if l.Perm != gone || math.Abs(l.All[0]-sums[spotOf(l.Part)]) > 1e-9 || l.All[1] > l.All[0]+1e-9 {
					t.Fatalf("%s without %d loses %d, %s: of %v, want of %v", id, gone, l.Perm, l.Part.Class, l.All,
						sums[spotOf(l.Part)])
				}
			}
		}
	}
	if told < 200 {
		t.Errorf("only %d losses", told)
	}
}

// TestLearnAlike: of so many identities that only some are counted, and of logs of any length, the same is learned
// each time, from no more than five days of the past.
func TestLearnAlike(t *testing.T) {
	x, f := estate(t), usage.Fold{}
	for i := range mostCounted + 60 {
		for k := range 3 {
			f.Add(usage.Call{Time: (now - usage.Day((7*i+97*k)%1000)).Time(), Path: box(i%3, i%4, i%6),
				Identity: model.MustID(fmt.Sprint("person/q", i)), Outcome: usage.Done,
				Permission: model.MustPermission([]string{"s/box:read", "s/box:put"}[i*i%7%2])})
		}
	}
	first := ""
	for range 3 {
		p := NewPast(x, nil, usage.ListOf(f.Uses()...), now-999, now, allowed)
		m := Learn(p, now, everything{x: x}, nil)
		b, err := m.Keep(p)
		if err != nil {
			t.Fatal(err)
		}
		if first == "" {
			first = string(b)
		}
		if string(b) != first {
			t.Fatalf("it learned\n%s\nand then\n%s", first, b)
		}
		if want := seenAgain(5, Horizon); m.late.again != want {
			t.Errorf("what was counted was counted %g times, want %g", m.late.again, want)
		}
	}
}
