package draft_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// narrowest is a caution that keeps nothing beyond the places of use.
const narrowest = draft.Caution(1e-9)

// town is an estate of units of projects of boxes, in which each of some workloads may do
// everything in its unit, and a life: each works on a few boxes, and every now and then takes
// up another one, mostly of the same project, with a chance of moves a day.
func town(t *testing.T, seed uint64, moves float64) *gauge.Input {
	t.Helper()
	const units, projects, boxes, workers, days = 4, 5, 8, 24, 300
	r := rand.New(rand.NewPCG(seed, 0))
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "all", Written: true}}}
	perms := []model.Permission{}
	for i, verb := range []string{"read", "put", "scrap", "share", "drop", "list"} {
		p := model.MustPermission("s/item:" + verb)
		perms = append(perms, p)
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: p, LogClass: "all", Kinds: []string{"box"},
			Level: []model.Level{model.Read, model.Change, model.Administer, model.HandOut, model.Administer,
				model.See}[i]})
	}
	path := func(format string, args ...any) model.Path { return model.MustPath(fmt.Sprintf(format, args...)) }
	for u := range units {
		e.Nodes = append(e.Nodes, model.Node{Path: path("/m/unit:u%d", u)})
		for p := range projects {
			e.Nodes = append(e.Nodes, model.Node{Path: path("/m/unit:u%d/project:p%d", u, p)})
			for b := range boxes {
				e.Nodes = append(e.Nodes, model.Node{Path: path("/m/unit:u%d/project:p%d/box:b%d", u, p, b)})
			}
		}
	}
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	fold := usage.Fold{}
	for w := range workers {
		id := model.MustID(fmt.Sprintf("workload/w%d", w))
		u, p := r.IntN(units), r.IntN(projects)
		e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
		e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprint("g", w), To: id, Created: now.AddDate(-3, 0, 0),
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}},
			Where:  []model.PathPattern{path("/m/unit:u%d", u).Below()}})
		at := func() model.Path {
			if r.IntN(5) == 0 {
				return path("/m/unit:u%d/project:p%d/box:b%d", u, r.IntN(projects), r.IntN(boxes))
			}
			return path("/m/unit:u%d/project:p%d/box:b%d", u, p, r.IntN(boxes))
		}
		set := []model.Path{at(), at()}
		for d := days; d >= 0; d-- {
			if r.Float64() < moves {
				set[r.IntN(len(set))] = at()
			}
			for _, box := range set {
				for _, perm := range perms[:1+w%2] {
					fold.Add(usage.Call{Time: now.AddDate(0, 0, -d), Identity: id, Permission: perm, Path: box,
						Outcome: usage.Done})
				}
			}
		}
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	cover := usage.NewCoverage(e.Coverage, usage.Read{First: now.AddDate(0, 0, -days), Ends: []time.Time{now},
		Until: now})
	return &gauge.Input{Index: x, Uses: usage.ListOf(fold.Uses()...), Coverage: cover, AsOf: now, Window: 90,
		History: now.AddDate(0, 0, -days)}
}

// judged drafts for everybody as of 90 days ago, and says whose calls since would have been
// refused, and what share of the danger would have gone.
func judged(t *testing.T, in *gauge.Input, c draft.Caution) (broken int, removed float64) {
	t.Helper()
	then := *in
	then.AsOf = in.AsOf.AddDate(0, 0, -90)
	then.Uses = in.Uses.Select(func(u *usage.Use) bool {
		return u.Within(usage.DayOf(in.History), usage.DayOf(then.AsOf))
	})
	res := gauge.Run(&then)
	worth := draft.NewWorth(&then, res)
	var edit access.Edit
	for _, id := range draft.Candidates(&then, res, worth) {
		f, err := draft.FromUse(&then, res, id, draft.Options{Caution: c, Worth: worth})
		if errors.Is(err, draft.ErrNothing) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		d := f.Edit("m")
		edit.Gone.Grants = append(edit.Gone.Grants, d.Gone.Grants...)
		edit.Come.Grants = append(edit.Come.Grants, d.Come.Grants...)
	}
	after, err := in.Index.With(edit)
	if err != nil {
		t.Fatal(err)
	}
	ids := map[model.ID]bool{}
	for _, u := range in.Uses.All() {
		if u.Within(usage.DayOf(then.AsOf)+1, usage.DayOf(in.AsOf)) &&
			after.Decide(u.Principal(), u.Permission, u.Path, u.Context()).Outcome == access.Denied {
			ids[u.Principal()] = true
		}
	}
	one, two := gauge.NewScale(in.Index, gauge.DefaultWeights), gauge.NewScale(after, gauge.DefaultWeights)
	before, left := 0.0, 0.0
	for _, s := range res.Standings {
		d, _ := one.Held(s.ID)
		before += d
		d, _ = two.Held(s.ID)
		left += d
	}
	return len(ids), 1 - left/before
}

// TestWorth: where people and programs go on to further places, a draft of normal caution
// breaks none of what the narrowest breaks half of, and gives up little for it; more caution
// never breaks more; and where nobody goes anywhere it costs little.
func TestWorth(t *testing.T) {
	for _, tt := range []struct {
		moves           float64
		seed            uint64
		least           int // that the narrowest breaks
		removed, dearer float64
	}{{0, 7, 0, 0.95, 0.03}, {0.02, 7, 5, 0.93, 0.03}, {0.1, 8, 10, 0.93, 0.03}} {
		in := town(t, tt.seed, tt.moves)
		last, first := in.Uses.Len(), 0.0
		for _, c := range []draft.Caution{narrowest, draft.Bold, draft.Normal, draft.Careful} {
			broken, removed := judged(t, in, c)
			t.Logf("moves %g, caution %g: %d broken, %.3f removed", tt.moves, c, broken, removed)
			if c == narrowest {
				first = removed
			}
			if c == narrowest && broken < tt.least || c == draft.Normal && broken > 0 || broken > last {
				t.Errorf("moves %g, caution %g: %d broken, after %d", tt.moves, c, broken, last)
			}
			if c == draft.Normal && (removed < tt.removed || removed < first-tt.dearer) {
				t.Errorf("moves %g: %.3f of the danger goes, of the narrowest %.3f", tt.moves, removed, first)
			}
			last = broken
		}
	}
}

// TestBurst: calls on a few days open nothing beyond the places that they were on, however
// many there are.
func TestBurst(t *testing.T) {
	in := town(t, 9, 0.1)
	who := in.Index.Grant(0).To
	scrap := model.MustPermission("s/item:drop")
	fold := usage.Fold{}
	for _, u := range in.Uses.All() {
		fold.Merge(u)
	}
	var on []model.Path
	for n := range 8 {
		at := in.Index.Grant(0).Where[0]
		unit, _ := at.Node()
		box := model.MustPath(fmt.Sprintf("%s/project:p%d/box:b%d", unit, n%5, n))
		on = append(on, box)
		for d := 1; d < 4; d++ {
			fold.Add(usage.Call{Time: in.AsOf.AddDate(0, 0, -d), Identity: who, Permission: scrap, Path: box,
				Outcome: usage.Done})
		}
	}
	in.Uses = usage.ListOf(fold.Uses()...)
	f, err := draft.FromUse(in, gauge.Run(in), who, draft.Options{Caution: draft.Careful})
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, a := range f.Allow {
		for _, p := range a.Do {
			if !p.Matches(scrap) {
				continue
			}
			for _, w := range a.Where {
				n++
				if at, ok := w.Node(); !ok || !slices.Contains(on, at) {
					t.Errorf("a burst opens %s", w)
				}
			}
		}
	}
	if n != len(on) {
		t.Errorf("%d places stay, of %d that were used", n, len(on))
	}
}

// TestGuessIsSaid: a line that reaches beyond the places of use says so, with the chance that
// it rests on; one that does not claims none.
func TestGuessIsSaid(t *testing.T) {
	in := town(t, 3, 0.1)
	r := gauge.Run(in)
	for _, c := range []draft.Caution{narrowest, draft.Normal, draft.Careful} {
		guesses := 0
		for i := range 24 {
			who := in.Index.Grant(i).To
			f, err := draft.FromUse(in, r, who, draft.Options{Caution: c})
			if errors.Is(err, draft.ErrNothing) {
				continue
			} else if err != nil {
				t.Fatal(err)
			}
			for _, a := range f.Allow {
				used := map[model.Path]bool{}
				for _, u := range in.Uses.All() {
					if u.Principal() == who && slices.ContainsFunc(a.Do,
						func(p model.PermissionPattern) bool { return p.Matches(u.Permission) }) {
						at, _ := in.Index.Nearest(u.Path)
						used[at] = true
					}
				}
				more := false
				in.Index.NodesLike(a.Where, func(at model.Path) { more = more || !used[at] })
				if e := a.Evidence; (e.Chance > 0) && !more || e.Chance < 0 || e.Chance >= 1 {
					t.Errorf("caution %g: %v on %v: chance %g, further places: %v", c, a.Do, a.Where, e.Chance, more)
				} else if e.Chance > 0 {
					guesses++
					if e.Places == 0 {
						t.Errorf("caution %g: %v on %v: used on no place", c, a.Do, a.Where)
					}
				}
			}
		}
		if (guesses > 0) != (c > narrowest) {
			t.Errorf("caution %g: %d lines are guesses", c, guesses)
		}
	}
}

// TestRoundIsNotNew: those who go round the same boxes take up nothing new, however short the
// past is that shows it, and so are no reason to keep more for those who stay on one.
func TestRoundIsNotNew(t *testing.T) {
	const steady = 8
	for _, days := range []int{60, 100, 130, 170, 300} {
		in := town(t, 5, 0)
		in.Uses, in.History = nil, in.AsOf.AddDate(0, 0, -days)
		fold := usage.Fold{}
		for g := range 24 {
			top, _ := in.Index.Grant(g).Where[0].Node()
			for d := range days {
				box := 0
				if g >= steady { // four boxes, twenty days each
					box = d / 20 % 4
				}
				fold.Add(usage.Call{Time: in.AsOf.AddDate(0, 0, -d), Identity: in.Index.Grant(g).To,
					Outcome:    usage.Done,
					Permission: model.MustPermission("s/item:list"),
					Path:       model.MustPath(fmt.Sprintf("%s/project:p%d/box:b%d", top, g%5, box))})
			}
		}
		in.Uses = usage.ListOf(fold.Uses()...)
		r := gauge.Run(in)
		worth := draft.NewWorth(in, r)
		for g := range steady {
			f, err := draft.FromUse(in, r, in.Index.Grant(g).To,
				draft.Options{Caution: draft.Careful, Worth: worth})
			if err != nil {
				t.Fatal(err)
			}
			for _, a := range f.Allow {
				if c := a.Evidence.Chance; c == 0 || c > .15 {
					t.Errorf("%d days, %d: %v: chance %.2f of somebody who stays", days, g, a.Where, c)
				}
			}
		}
	}
}

// TestLeaver: of somebody who worked daily all over the place and stopped nothing stays, though all who go
// on come back everywhere after months, and though one thing that it did looks like a season of every
// year. How those go on who stay says nothing of those who left.
func TestLeaver(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	c := newPlain(t)
	anywhere := func() string { return project(r.IntN(10)) + fmt.Sprintf("/box:%c", 'a'+r.IntN(8)) }
	for i := range 8 {
		id := c.who(fmt.Sprintf("person/p%d", i))
		c.grant(id, "/m/**", 900, "s/item:read", "s/item:put", "s/item:scrap")
		for d := -399; d <= 0; d++ {
			if i > 0 || d < -105 {
				c.uses(id, "read", anywhere(), d)
			}
			if i > 0 && d%7 == 0 || i == 0 && d > -310 && d < -240 && d%10 == 0 {
				c.uses(id, "put", anywhere(), d)
			}
		}
	}
	in := c.input()
	res := gauge.Run(in)
	if s := res.Of(model.MustID("person/p0")); s.State != gauge.Idle {
		t.Fatalf("whoever left is %s", s.State)
	}
	f, err := draft.FromUse(in, res, model.MustID("person/p0"), draft.Options{Worth: draft.NewWorth(in, res)})
	if err != nil || len(f.Allow) > 0 || len(f.Replaces) != 1 {
		t.Errorf("whoever left keeps %+v, %v", f, err)
	}
	for _, who := range []string{"person/p1", "person/p5"} {
		f, err := draft.FromUse(in, res, model.MustID(who), draft.Options{Worth: draft.NewWorth(in, res)})
		if err == nil && len(f.Allow) == 0 {
			t.Errorf("%s, who goes on, keeps nothing", who)
		}
	}
}
