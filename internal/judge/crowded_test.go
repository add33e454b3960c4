package judge

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"runtime"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
)

// crowded is an estate of many people in a few groups that overlap and hold each other, on a tree
// with many nodes of a kind, some of which are listed and some of which only calls show; with
// callers that nobody lists, and people who act for others.
func crowded(t testing.TB, seed uint64) *gauge.Input {
	r := rand.New(rand.NewPCG(seed, 55))
	e := &model.Estate{Source: "m"}
	levels := []model.Level{model.See, model.Read, model.Change, model.Administer, model.HandOut}
	var perms []model.Permission
	for _, s := range []string{"a", "b"} {
		for _, n := range []string{"x", "y"} {
			for i, v := range []string{"look", "get", "set", "run", "own"} {
				p := model.MustPermission(fmt.Sprintf("%s/%s:%s", s, n, v))
				perms = append(perms, p)
				c := model.CatalogueEntry{Permission: p, Level: levels[i], LogClass: []string{"r", "w"}[min(i/2, 1)]}
				if n == "x" {
					c.Kinds = []string{"box"}
				}
				if v == "own" && s == "a" {
					c.Escalates = model.Escalations[r.IntN(len(model.Escalations))]
				}
				e.Catalogue = append(e.Catalogue, c)
			}
		}
	}
	var places []model.Path // of use
	add := func(p string, listed bool) {
		at := model.MustPath(p)
		if listed {
			e.Nodes = append(e.Nodes, model.Node{Path: at})
		}
		places = append(places, at)
	}
	add("/m", true)
	units := 1 + r.IntN(4)
	for u := range units {
		unit := fmt.Sprintf("/m/unit:u%d", u)
		add(unit, true)
		for b := range 1 + r.IntN([]int{4, 30, 120}[r.IntN(3)]) {
			name := []string{"%s/box:log-2026-%02d", "%s/box:n%d", "%s/box:%%2A%d"}[u%3]
			add(fmt.Sprintf(name, unit, b), r.IntN(12) > 0)
			if r.IntN(5) == 0 {
				add(fmt.Sprintf(name, unit, b)+"/thing:t", false)
			}
		}
	}
	now := func(ago int) time.Time { return noon.AddDate(0, 0, -ago) }
	n := 3 + r.IntN([]int{6, 40, 160}[r.IntN(3)])
	var people, groups []model.ID
	for i := range n {
		id := model.Identity{ID: model.MustID(fmt.Sprintf("%s/p%d", []string{"person", "person", "workload"}[i%3], i))}
		if r.IntN(3) == 0 {
			id.Created = now(r.IntN(500))
		}
		switch r.IntN(25) {
		case 0:
			id.Disabled = true
		case 1:
			id.LastSeen = now(r.IntN(500))
		case 2:
			id.Labels = map[string]string{"purpose": "break-glass"}
		}
		if r.IntN(15) > 0 {
			e.Identities = append(e.Identities, id)
		}
		people = append(people, id.ID)
	}
	for i := range 1 + r.IntN(5) {
		id := model.MustID(fmt.Sprintf("group/g%d", i))
		groups = append(groups, id)
		e.Identities = append(e.Identities, model.Identity{ID: id})
	}
	for _, id := range people {
		for _, g := range groups {
			if r.IntN(3) == 0 {
				e.Memberships = append(e.Memberships, model.Membership{Member: id, Group: g})
			}
		}
	}
	for range r.IntN(3) {
		e.Memberships = append(e.Memberships, model.Membership{Member: groups[r.IntN(len(groups))],
			Group: groups[r.IntN(len(groups))]})
	}
	for i := range r.IntN(3) {
		e.ActAs = append(e.ActAs, model.ActAs{ID: fmt.Sprint(i), From: people[r.IntN(n)], To: people[r.IntN(n)]})
	}
	e.Roles = []model.Role{
		{Name: "reader", Builtin: true, Rights: model.Rights{Do: []model.PermissionPattern{
			model.MustPermissionPattern("*/*:look"), model.MustPermissionPattern("*/*:get")}}},
		{Name: "all", Builtin: true, Rights: model.Rights{Do: []model.PermissionPattern{
			model.MustPermissionPattern("*")}}},
		{Name: "most", Includes: []string{"reader"}, Rights: model.Rights{Do: []model.PermissionPattern{
			model.MustPermissionPattern("a/*:*")}, Except: []model.PermissionPattern{
			model.MustPermissionPattern("a/*:own")}}},
	}
	where := func() []model.PathPattern {
		var out []model.PathPattern
		for range 1 + r.IntN(2) {
			on := places[r.IntN(len(places))]
			if r.IntN(2) == 0 {
				on = places[0]
			}
			switch r.IntN(5) {
			case 0:
				out = append(out, on.Exactly())
			case 1:
				out = append(out, model.MustPathPattern([]string{"/m/unit:*/box:n*/**", "/m/unit:*/**",
					"/m/*/box:*"}[r.IntN(3)]))
			default:
				out = append(out, on.Below())
			}
		}
		return out
	}
	for i := range 3 + r.IntN(9) {
		g := model.Grant{ID: fmt.Sprintf("g%d", i), Where: where()}
		switch r.IntN(6) {
		case 0:
			g.To = model.MustID([]string{"everyone", "signed-in"}[r.IntN(2)])
		case 1, 2:
			g.To = people[r.IntN(n)]
		default:
			g.To = groups[r.IntN(len(groups))]
		}
		if r.IntN(3) > 0 {
			g.Role = e.Roles[r.IntN(3)].Name
		} else {
			g.Do = []model.PermissionPattern{perms[r.IntN(len(perms))].Pattern(),
				model.MustPermissionPattern("b/*:set")}
		}
		if r.IntN(2) == 0 {
			g.Created = now(r.IntN(600))
		}
		switch r.IntN(8) {
		case 0:
			g.When.SecondFactor = true
		case 1:
			g.Until = now(-r.IntN(60))
		}
		e.Grants = append(e.Grants, g)
	}
	for i := range r.IntN(2) {
		e.Denials = append(e.Denials, model.Denial{ID: fmt.Sprint(i), To: []model.ID{groups[0]},
			Unless: []model.ID{people[0]}, Rights: model.Permissions(perms[r.IntN(len(perms))]), Where: where()})
	}
	for _, s := range []string{"a", "b"} {
		for _, class := range []string{"r", "w"} {
			e.Coverage = append(e.Coverage, model.CoverageRecord{Node: model.MustPath("/m"), Service: s,
				LogClass: class, Written: r.IntN(8) > 0})
			for range r.IntN(2) {
				e.Coverage = append(e.Coverage, model.CoverageRecord{Node: places[r.IntN(len(places))], Service: s,
					LogClass: class, Written: r.IntN(2) == 0, Since: now(r.IntN(300))})
			}
		}
	}
	x := built(t, e)
	fold := usage.Fold{}
	for i := range 60 + 3*n {
		who := people[r.IntN(n)]
		p, at := perms[r.IntN(len(perms))], places[r.IntN(len(places))]
		if r.IntN(3) == 0 { // of one kind of work
			p, at = perms[i%4], places[(7*i)%len(places)]
		}
		allowed := x.Decide(who, p, at, model.Context{SecondFactor: model.True}).Outcome > 0
		c := usage.Call{Identity: who, Permission: p, Path: at, Outcome: usage.Done, SecondFactor: model.True}
		switch r.IntN(40) {
		case 0:
			c.Identity = model.MustID("person/nobody")
		case 1:
			c.Permission = model.MustPermission("a/x:unheard")
		case 2:
			c.Path = model.MustPath("/m/unit:gone/box:q")
		case 3:
			c.ActingFor = people[r.IntN(n)]
		default:
			if !allowed {
				continue
			}
		}
		from, step := r.IntN(400), 1+r.IntN(30)
		if r.IntN(3) == 0 {
			step = 1
		}
		for k := range 1 + r.IntN(25) {
			if from-k*step >= 0 {
				c.Time = now(from - k*step)
				fold.Add(c)
			}
		}
	}
	uses := usage.ListOf(fold.Uses()...)
	cover := usage.NewCoverage(e.Coverage, usage.Read{First: now(400), Ends: []time.Time{noon}})
	if seed%2 == 0 {
		cover.Observe(uses, func(p model.Permission) string {
			c, _ := x.Entry(p)
			return c.LogClass
		}, func(_, class string) bool { return class == "r" }, nil)
	}
	in := &gauge.Input{Index: x, Uses: uses, Coverage: cover, AsOf: noon, Window: 90, History: now(400),
		Place: gauge.PlaceInput{Past: func(n int, _ func(int) usage.Use) []bool {
			return slices.Repeat([]bool{seed%3 > 0}, n)
		}}}
	if seed%2 == 1 {
		var listed []model.Path
		for _, n := range e.Nodes {
			listed = append(listed, n.Path)
		}
		in.Place.Inventory = usage.NewInventory("m", listed, [][]string{nil, {"unit"}}[seed/2%2])
	}
	if seed%5 == 0 {
		in.Place.Waived = func(id model.ID) bool { return id == model.MustID("person/nobody") }
	}
	return in
}

// TestCrowdedDraftsHold: whatever is drafted on crowded estates holds, alone and together, and
// gives up nothing that goes on.
func TestCrowdedDraftsHold(t *testing.T) {
	seeds := []uint64{
		402_080, // two groups that are in each other: one's grants needless, the other's covered
		405_854, // of an open crowd, on a node that nobody lists
	}
	for i := range uint64(estates(t) / 4) {
		seeds = append(seeds, 400_001+i)
	}
	var next, drafts, calls atomic.Int64
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(seeds) || t.Failed() {
					return
				}
				seed := seeds[i]
				in := crowded(t, seed)
				res := gauge.Run(in)
				worth := draft.NewWorth(in, res)
				o := draft.Options{Worth: worth, Conditions: seed%3 == 0,
					Caution:            []draft.Caution{0, draft.Bold, draft.Careful, 1e-6}[seed%4],
					GiveUpUnobservable: seed%7 == 0, KeepUnobservable: seed%7 == 1, Gates: seed%5 < 2}
				if seed%6 == 0 {
					o.Lessons = review.Learn([]review.Decision{{For: in.Index.Grant(0).To, Verdict: review.Needed,
						At:   noon,
						Goes: []model.Permission{model.MustPermission("a/x:set")}}}, noon)
				}
				var all []*fence.Fence
				made, err := draft.Everybody(in, res, o)
				if err != nil {
					t.Errorf("seed %d: %v", seed, err)
					return
				}
				x := in.Index
				for _, f := range made {
					text := fencefile.Write(f, "")
					if f, err = fencefile.Read("x.fence.yaml", text); err == nil {
						err = f.Validate(in.Index)
					}
					if err != nil {
						t.Errorf("seed %d: %v\n%s", seed, err, text)
						return
					}
					all = append(all, f)
					// And one after the other, as they are carried out.
					r, err := rehearse.Run(x, f, in.Uses, res.Placement, gauge.DefaultWeights)
					if err == nil {
						x, err = x.With(f.Edit("m"))
					}
					if err != nil || !r.OK() {
						t.Errorf("seed %d: %s once those before it are carried out: %v, %+v\n%s", seed, f.For, err, r,
							text)
						return
					}
				}
				j, err := rehearse.Together(in.Index, all, in.Uses, res.Placement, gauge.DefaultWeights)
				if err != nil {
					t.Errorf("seed %d: %v", seed, err)
					return
				}
				for i, r := range j.Each {
					drafts.Add(1)
					calls.Add(r.Calls)
					if !r.OK() || r.After > r.Before+1e-9 {
						t.Errorf("seed %d: %s: widened %v, not placed %v, doubts %v, broken %v, danger %f to %f\n%s",
							seed, all[i].For, r.Widened, r.Unplaced, r.Doubts, broken(r.Broken), r.Before, r.After,
							fencefile.Write(all[i], ""))
						return
					}
					st := res.Of(all[i].For.In("m"))
					if n := rehearse.GoingOn(r.Broken, res.Window); n > 0 && o.Caution != 1e-6 && (st == nil ||
						st.State != gauge.Disabled) {
						t.Errorf("seed %d: %s gives up %d uses that go on: %v\n%s", seed, all[i].For, n, r.Broken,
							fencefile.Write(all[i], ""))
						return
					}
				}
				if !j.OK() {
					t.Errorf("seed %d: drafts do not hold together: %v", seed, j.Only)
				}
			}
		})
	}
	wg.Wait()
	t.Logf("%d drafts, %d calls replayed", drafts.Load(), calls.Load())
	if drafts.Load() < int64(estates(t))/8 {
		t.Error("too few drafts to say much")
	}
}

// broken are the uses that break and are not named.
func broken(list []rehearse.Break) []rehearse.Break {
	return slices.DeleteFunc(slices.Clone(list), func(b rehearse.Break) bool { return b.GivenUp })
}
