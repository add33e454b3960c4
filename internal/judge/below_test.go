package judge

import (
	"math/rand/v2"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestBelow: once somebody, or a group, has less, what is within reach of each is by those by whom everybody got
// furthest before just what it is without that, on random estates on which permissions let their holders give
// themselves more.
func TestBelow(t *testing.T) {
	same, less := 0, 0
	for seed := range uint64(max(2000, 4*estates(t))) {
		e := escalating(t, 910_000+seed)
		x := built(t, e)
		res := gauge.Run(&gauge.Input{Index: x, Uses: usage.ListOf(), AsOf: noon, Window: 90,
			Coverage: usage.NewCoverage(e.Coverage, usage.Read{First: noon.AddDate(-1, 0, 0)})})
		r := rand.New(rand.NewPCG(seed, 31))
		who := e.Grants[r.IntN(len(e.Grants))].To
		n, named := x.Number(who)
		if !named || who.Open() {
			continue
		}
		touched := map[int]bool{}
		x.Members(n, func(i int) { touched[i] = true })
		var d access.Edit
		for _, g := range e.Grants {
			if g.To != who || r.IntN(3) == 0 {
				continue
			}
			d.Gone.Grants = append(d.Gone.Grants, g.ID)
			if r.IntN(2) == 0 || g.Role != "" { // some of it stays, on some place of it
				continue
			}
			g.ID += "-less"
			g.Do = g.Do[:1+r.IntN(len(g.Do))]
			g.Where = g.Where[:1+r.IntN(len(g.Where))]
			d.Come.Grants = append(d.Come.Grants, g)
		}
		after, err := x.With(d)
		if err != nil {
			t.Fatal(err)
		}
		w := func() *gauge.Within { return gauge.NewWithin(gauge.NewScale(after, gauge.DefaultWeights)) }
		by, without := w(), w()
		by.Below(res, func(n int) bool { return touched[n] })
		for _, i := range e.Identities {
			got, want := by.Of(i.ID), without.Of(i.ID)
			if got != want {
				t.Fatalf("seed %d, %s: within reach is %+v, want %+v; before %+v", seed, i.ID, got, want,
					res.Of(i.ID).Within)
			}
			if s := res.Of(i.ID); want.Anybody && s.Within.Anybody {
				if want.Danger == s.Within.Danger {
					same++
				} else {
					less++
				}
			}
		}
	}
	t.Logf("of those who can become anybody before and after %d get as far, %d less far", same, less)
	if same < 200 || less < 60 {
		t.Error("too few to say much")
	}
}

// TestBelowGroup: what everybody gets to by somebody who joins a group is less once the group has less, though nobody
// is in it.
func TestBelowGroup(t *testing.T) {
	entry := func(p string, l model.Level, as string) model.CatalogueEntry {
		return model.CatalogueEntry{Permission: model.MustPermission(p), Level: l, Escalates: as, LogClass: "w"}
	}
	grant := func(id, to, do string) model.Grant {
		return model.Grant{ID: id, To: model.MustID(to), Rights: model.Rights{
			Do: []model.PermissionPattern{model.MustPermissionPattern(do)}},
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}}
	}
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Catalogue: []model.CatalogueEntry{entry("id/key:mint", model.HandOut, model.MintCredential),
			entry("id/group:join", model.HandOut, model.JoinGroup), entry("s/box:own", model.Administer, ""),
			entry("s/box:read", model.Read, "")},
		Identities: []model.Identity{{ID: model.MustID("person/a")}, {ID: model.MustID("person/b")},
			{ID: model.MustID("person/c")}, {ID: model.MustID("group/x")}, {ID: model.MustID("group/y")}},
		Grants: []model.Grant{grant("g-a", "person/a", "id/key:mint"), grant("g-b", "person/b", "id/group:join"),
			grant("g-x", "group/x", "s/box:own"), grant("g-y", "group/y", "s/box:read")}}
	x := built(t, e)
	res := gauge.Run(&gauge.Input{Index: x, Uses: usage.ListOf(), AsOf: noon, Window: 90,
		Coverage: usage.NewCoverage(nil, usage.Read{})})
	a, group := model.MustID("person/a"), model.MustID("group/x")
	number, _ := x.Number(group)
	after, err := x.With(access.Edit{Gone: access.Gone{Grants: []string{"g-x"}}})
	if err != nil {
		t.Fatal(err)
	}
	by := gauge.NewWithin(gauge.NewScale(after, gauge.DefaultWeights))
	by.Below(res, func(n int) bool { return n == number })
	got, want := by.Of(a), gauge.NewWithin(gauge.NewScale(after, gauge.DefaultWeights)).Of(a)
	if was := res.Of(a).Within; got != want || !got.Anybody || got.Danger >= was.Danger {
		t.Errorf("within reach is %+v, want %+v; before %+v", got, want, was)
	}
}
