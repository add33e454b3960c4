package escalate

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// layers makes rules of grants, groups, roles and layers that hold somebody, some of which can be lifted.
func layers(r *rand.Rand) string {
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	places := []string{"/s/harbour:o/**", "/s/harbour:o", "/s/harbour:o/berth:p/**", "/s/harbour:o/berth:p",
		"/s/harbour:o/berth:p/errand:j"}
	who := []string{"person/a", "person/b", "workload/w", "group/g", "group/admins", "signed-in"}
	perms := []string{"id/grant:create", "id/group:join", "id/role:update", "id/ceiling:lift", "id/rail:lift",
		"id/denial:lift", "run/errand:edit", "run/errand:read", "id/*:*"}
	rules := []string{one("person/a", "person/b") + " may id/group:join on /s/harbour:o"}
	for range 1 + r.IntN(7) {
		rules = append(rules, one(who...)+" may "+one(perms...)+" on "+one(places...))
	}
	for _, rule := range []string{one(who...) + " has team on " + one(places...),
		one("group/g", "group/admins") + " has team on " + one(places...),
		one("group/g", "group/admins") + " may id/role:update on /s/harbour:o",
		one("person/a in group/g", "person/b in group/admins", "group/g in group/admins"),
		"ceiling " + one("person/a", "person/b") + " " + one("run/*:*", "id/*:*", "id/group:*"),
		"guardrail " + one("/s/harbour:o", "/s/harbour:o/berth:p") + " " + one("id/grant:*", "run/*:*") +
			one("", " group/g", " group/admins"),
		"deny " + one(who...) + " " + one(perms...) + " " + one(places...) + one("", " group/g", " group/admins")} {
		if r.IntN(2) == 0 {
			rules = append(rules, rule)
		}
	}
	return strings.Join(rules, "; ")
}

// TestSieve: what an identity gets to of what is lacking is the same, whether all groups that it may join are tried or
// those that a sieve lets through, be it made at once or from an earlier one; and so is where it can give itself
// everything.
func TestSieve(t *testing.T) {
	opened, joined := 0, 0
	for seed := range uint64(4500) {
		r := rand.New(rand.NewPCG(seed, 36))
		rules := layers(r)
		e := scene(t, rules)
		if r.IntN(6) == 0 {
			e.Semantics.Bypass = []model.ID{e.Identities[r.IntN(len(e.Identities))].ID}
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		nodes := []model.Path{model.MustPath("/s/harbour:o"), model.MustPath("/s/harbour:o/berth:p")}
		g := New(x, nodes)
		// Lacking is what others do not get to, as where everybody is asked one after the other.
		walk := x.NewWalk(index.Possible)
		some, more := x.Whole(), x.Whole()
		free, less := x.Everything(), x.Everything()
		for i, n := range r.Perm(x.Identities()) {
			if g.x.Kind(n) == model.Group || r.IntN(2) == 0 {
				continue
			}
			for _, extra := range g.Own(n) {
				less = less.AndNot(x.RegionOf(extra.Spans))
				more = x.Inventoried(index.Less(more, walk.PiecesWith(x.ID(n), extra)))
			}
			if i < 3 {
				some, free = more, less
			}
		}
		if r.IntN(2) == 0 { // in the end that is what rules refuse to nearly everybody
			few, perms := x.NewSet(), slices.Collect(x.Numbers())
			for range 1 + r.IntN(2) {
				few.Add(perms[r.IntN(len(perms))])
			}
			on := x.Everything()
			if r.IntN(2) == 0 {
				on = x.Region(model.MustPath("/s/harbour:o/berth:p").Below())
			}
			some, more = index.Shared(some, x.PiecesOf(few, on)), index.Shared(more, x.PiecesOf(few, on))
		}
		first := g.NewSieve(nil, some, free)
		sieves := []*Sieve{g.NewSieve(nil, more, less), g.NewSieve(first, more, less).Copy()}
		for n := range x.Identities() {
			if x.Kind(n) == model.Group {
				continue
			}
			gets := func(as []index.Extra) (all index.Region, left []index.Piece) {
				left = more
				for _, extra := range as {
					all = all.Or(x.RegionOf(extra.Spans).And(less))
					left = x.Inventoried(index.Less(left, walk.PiecesWith(x.ID(n), extra)))
					if extra.Group != nil {
						joined++
					}
				}
				return all, left
			}
			all, left := gets(g.Own(n))
			if len(left) < len(more) || len(all) > 0 {
				opened++
			}
			for i, v := range sieves {
				gotAll, gotLeft := gets(g.OwnInside(n, v))
				if !slices.Equal(gotAll, all) || index.Meet(gotLeft, index.Less(more, left)) {
					t.Fatalf("seed %d: %s by sieve %d: everything on %v, want %v; and lacking %v, want %v\n%s", seed,
						x.ID(n), i, gotAll, all, gotLeft, left, strings.ReplaceAll(rules, "; ", "\n"))
				}
			}
		}
	}
	if opened < 500 || joined < 5000 {
		t.Errorf("only %d got to anything that was lacking, by %d ways through groups", opened, joined)
	}
}
