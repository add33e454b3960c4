package draft_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// crowd is an estate in which many groups have one broad role, and fences for them.
type crowd struct {
	e  model.Estate
	fs []*fence.Fence
}

// TestDenials: what goes from many and stays with few is denied, as far up as that is so, and nothing
// else is: not what one keeps that anybody belongs to, not what many keep, not what may be asked for,
// and not where it takes more to read than what it stands for.
func TestDenials(t *testing.T) {
	keep := func(f *fence.Fence, do, where string) {
		f.Allow = append(f.Allow, fence.Allow{Do: []model.PermissionPattern{model.MustPermissionPattern(do)},
			Where: []model.PathPattern{model.MustPathPattern(where)}})
	}
	for name, tt := range map[string]struct {
		groups int
		change func(c *crowd)
		lent   string // a permission
		want   string // lines, needless drafts, pieces before and after
	}{
		"nobody needs it": {6, func(*crowd) {}, "",
			"s/box:share,s/box:scrap on /m/** but []; needless 0 1 2 3 4 5; 12 to 1; up s/box:scrap,s/box:share"},
		"one keeps it": {6, func(c *crowd) { keep(c.fs[0], "s/box:share", "/m/**") }, "",
			"s/box:share on /m/** but [group/g0]; s/box:scrap on /m/** but []; needless 0 1 2 3 4 5; 13 to 3; " +
				"up s/box:scrap,s/box:share"},
		"one keeps it on one place": {6, func(c *crowd) { keep(c.fs[0], "s/box:share", "/m/unit:a/**") }, "",
			"s/box:share on /m/** but [group/g0]; s/box:scrap on /m/** but []; needless 1 2 3 4 5; 13 to 6; " +
				"up s/box:scrap,s/box:share"},
		"one keeps it for a time": {6, func(c *crowd) {
			keep(c.fs[0], "s/box:share", "/m/**")
			f := c.fs[0]
			f.Allow[1].Until = asOf.AddDate(0, 0, 90)
			f.GivesUp = append(f.GivesUp, fence.GiveUp{Do: f.Allow[1].Do, Where: f.Allow[1].Where,
				From: f.Allow[1].Until})
			for _, f := range c.fs { // nothing else is named
				f.GivesUp = f.GivesUp[1:]
			}
		}, "", "s/box:share on /m/** but [group/g0]; s/box:scrap on /m/** but []; needless 0 1 2 3 4 5; 13 to 3; up "},
		"so few say it": {2, func(*crowd) {}, "", ""},
		"one keeps it whom nobody lists": {6, func(c *crowd) {
			c.grant("x", "person/nobody", "s/box:share", "/m/unit:a/box:0")
		}, "", ""}, // a denial could not spare them
		"anybody keeps it": {6, func(c *crowd) { c.grant("e", "everyone", "s/box:*", "/m/**") }, "", ""},
		"anybody keeps it elsewhere": {6, func(c *crowd) {
			c.grant("e", "everyone", "s/box:*", "/m/unit:b/**")
			for i := range c.e.Grants[:6] {
				c.e.Grants[i].Where = []model.PathPattern{model.MustPathPattern("/m/unit:a/**")}
			}
			for _, f := range c.fs {
				f.Allow[0].Where = c.e.Grants[0].Where
			}
		}, "", "s/box:share,s/box:scrap on /m/unit:a/** but []; needless 0 1 2 3 4 5; 12 to 1; " +
			"up s/box:scrap,s/box:share"},
		"it may be asked for": {6, func(*crowd) {}, "s/box:share", ""}, // the rest is not worth it
		"most keep it": {12, func(c *crowd) {
			for _, f := range c.fs[:8] {
				keep(f, "s/box:share", "/m/**")
			}
		}, "", "s/box:scrap on /m/** but []; needless 0 1 2 3 4 5 6 7; 32 to 9; up s/box:scrap"},
		"a protected one has nothing of it": {6, func(c *crowd) {
			c.e.Identities = append(c.e.Identities, model.Identity{ID: model.MustID("person/keeper"),
				Labels: map[string]string{"purpose": "break-glass"}})
		}, "", "s/box:share,s/box:scrap on /m/** but [person/keeper]; needless 0 1 2 3 4 5; 12 to 1; " +
			"up s/box:scrap,s/box:share"},
	} {
		c := teams(tt.groups)
		tt.change(c)
		in, r := c.gauged(t)
		d, err := draft.Denials(in, r, c.fs, func(p int, _ model.PathPattern) bool {
			return in.Index.Permission(p).Permission.String() == tt.lent
		})
		got := ""
		switch {
		case err == nil:
			var lines, up []string
			for _, l := range d.Fence.Denies {
				lines = append(lines, fmt.Sprintf("%s on %s but %v", joined(l.Do), joined(l.Where), l.Unless))
			}
			for _, p := range d.Fence.GivenUp() {
				up = append(up, p.String())
			}
			slices.Sort(up)
			got = fmt.Sprintf("%s; needless %s; %d to %d; up %s", strings.Join(lines, "; "),
				strings.Trim(fmt.Sprint(d.Needless), "[]"), d.Before, d.After, strings.Join(up, ","))
		case !errors.Is(err, draft.ErrNoDenial):
			t.Fatal(err)
		}
		if got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, tt.want)
		}
	}
}

// teams makes n groups of two that have one role, of which fences leave reading.
func teams(n int) *crowd {
	c := &crowd{}
	c.e.Source = "m"
	for _, p := range []string{"/m", "/m/unit:a", "/m/unit:b"} {
		c.e.Nodes = append(c.e.Nodes, model.Node{Path: model.MustPath(p)})
	}
	for i := range 8 {
		c.e.Nodes = append(c.e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/m/unit:%c/box:%d", 'a'+i%2, i))})
	}
	for _, p := range []struct {
		name  string
		level model.Level
	}{{"s/box:read", model.Read}, {"s/box:scrap", model.Administer}, {"s/box:share", model.HandOut}} {
		c.e.Catalogue = append(c.e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(p.name),
			Level: p.level, LogClass: "x", Kinds: []string{"box"}})
	}
	for i := range n {
		g := model.MustID(fmt.Sprintf("group/g%d", i))
		c.e.Identities = append(c.e.Identities, model.Identity{ID: g})
		for j := range 2 {
			p := model.MustID(fmt.Sprintf("person/p%d-%d", i, j))
			c.e.Identities = append(c.e.Identities, model.Identity{ID: p})
			c.e.Memberships = append(c.e.Memberships, model.Membership{Member: p, Group: g})
		}
		id := c.grant(fmt.Sprintf("r%d", i), g.String(), "s/*:*", "/m/**")
		c.fs = append(c.fs, &fence.Fence{Version: fence.FormatVersion, For: model.ID{Source: "m", Kind: g.Kind,
			Name: g.Name}, Replaces: []string{id}, Allow: []fence.Allow{{
			Do:    []model.PermissionPattern{model.MustPermissionPattern("s/box:read")},
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}}},
			GivesUp: []fence.GiveUp{{Do: []model.PermissionPattern{model.MustPermissionPattern("s/box:scrap"),
				model.MustPermissionPattern("s/box:share"), model.MustPermissionPattern("s/box:read")},
				Where: []model.PathPattern{model.MustPathPattern("/m/**")}}}})
	}
	return c
}

func (c *crowd) grant(id, to, do, where string) string {
	c.e.Grants = append(c.e.Grants, model.Grant{ID: id, To: model.MustID(to),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(do)}},
		Where:  []model.PathPattern{model.MustPathPattern(where)}})
	return id
}

func (c *crowd) gauged(t testing.TB) (*gauge.Input, *gauge.Result) {
	t.Helper()
	x, err := index.Build(&c.e)
	if err != nil {
		t.Fatal(err)
	}
	in := &gauge.Input{Index: x, Uses: usage.ListOf(), Coverage: usage.NewCoverage(nil, usage.Read{}), AsOf: asOf,
		Window: 90, Weights: gauge.DefaultWeights}
	return in, gauge.Run(in)
}

func joined[T fmt.Stringer](list []T) string {
	var out []string
	for _, x := range list {
		out = append(out, x.String())
	}
	return strings.Join(out, ",")
}

// TestDenialsTakeNoMore: whatever fences say, and whatever holds besides, everybody may do all with
// the denials and the fences that are left that they may do with all of the fences; and the fences that
// are called needless have next to nothing left to take away.
func TestDenialsTakeNoMore(t *testing.T) {
	found := 0
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 41))
		c := teams(3 + rnd.IntN(6))
		where := []string{"/m/**", "/m/unit:a/**", "/m/unit:b/**", "/m/unit:a/box:0/**"}
		do := []string{"s/box:read", "s/box:scrap", "s/box:share", "s/*:*"}
		someone := func() string { return c.e.Identities[rnd.IntN(len(c.e.Identities))].ID.String() }
		for i := range rnd.IntN(4) { // granted besides, to one or to a member alone
			c.grant(fmt.Sprintf("x%d", i), someone(), do[rnd.IntN(4)], where[rnd.IntN(4)])
		}
		for i := range rnd.IntN(2) {
			c.e.Denials = append(c.e.Denials, model.Denial{ID: fmt.Sprintf("d%d", i),
				To:     []model.ID{model.MustID(someone())},
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(do[rnd.IntN(4)])}},
				Where:  []model.PathPattern{model.MustPathPattern(where[rnd.IntN(4)])}})
		}
		for i, f := range c.fs {
			if rnd.IntN(5) == 0 {
				a := fence.Allow{Do: []model.PermissionPattern{model.MustPermissionPattern(do[1+rnd.IntN(2)])},
					Where: []model.PathPattern{model.MustPathPattern(where[rnd.IntN(4)])}}
				if rnd.IntN(2) == 0 {
					a.To = model.MustID(fmt.Sprintf("person/p%d-0", i))
				}
				f.Allow = append(f.Allow, a)
			}
		}
		in, r := c.gauged(t)
		d, err := draft.Denials(in, r, c.fs, func(int, model.PathPattern) bool { return false })
		if errors.Is(err, draft.ErrNoDenial) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		found++
		left := []*fence.Fence{d.Fence}
		for i, f := range c.fs {
			if !slices.Contains(d.Needless, i) {
				left = append(left, f)
			}
		}
		view := func(fs []*fence.Fence) *index.Index {
			j, err := rehearse.Together(in.Index, fs, in.Uses, nil, in.Weights)
			if err != nil {
				t.Fatal(err)
			}
			x, err := in.Index.With(j.Edit)
			if err != nil {
				t.Fatal(err)
			}
			return x
		}
		drafts, denials := view(c.fs), view(left)
		for _, id := range c.e.Identities {
			for _, p := range c.e.Catalogue {
				for _, n := range c.e.Nodes {
					was := drafts.Decide(id.ID, p.Permission, n.Path, model.Context{}).Outcome
					is := denials.Decide(id.ID, p.Permission, n.Path, model.Context{}).Outcome
					if was == access.Allowed && is != access.Allowed {
						t.Fatalf("seed %d: %s may %s on %s by the drafts, and not with the denials %+v", seed, id.ID,
							p.Permission, n.Path, d.Fence.Denies)
					}
				}
			}
		}
		for _, i := range d.Needless {
			f := c.fs[i]
			x, err := in.Index.With(d.Fence.Edit("m"))
			if err != nil {
				t.Fatal(err)
			}
			after, err := x.With(f.Edit("m"))
			if err != nil {
				t.Fatal(err)
			}
			alone, err := rehearse.Run(in.Index, f, nil, nil, in.Weights)
			if err != nil {
				t.Fatal(err)
			}
			one, two := gauge.NewScale(x, in.Weights), gauge.NewScale(after, in.Weights)
			for _, id := range c.e.Identities {
				had, _ := one.Held(id.ID)
				if has, _ := two.Held(id.ID); had-has > max(1, .06*(alone.Before-alone.After)) {
					t.Errorf("seed %d: the fence of %s is called needless, and takes %.1f of %.1f from %s", seed,
						f.For, had-has, had, id.ID)
				}
			}
		}
	}
	if found < 100 {
		t.Errorf("only %d of 300 have denials", found)
	}
}

// TestDenialsRisk: what a denial takes away is weighed as if the grants gave it no more on its places,
// to those whom it does not spare, and is nothing to those whom it does.
func TestDenialsRisk(t *testing.T) {
	c := newPlain(t)
	g := c.who("group/g")
	var in []model.ID
	for i := range 8 {
		id := c.who(fmt.Sprintf("person/m%d", i))
		in = append(in, id)
		c.e.Memberships = append(c.e.Memberships, model.Membership{Member: id, Group: g})
		c.uses(id, "read", "/m/project:p1/box:a", span(-399, -1)...)
		if i < 3 {
			c.uses(id, "scrap", "/m/project:p2/box:b", every(30, -399, -100)...)
		}
	}
	c.grant(g, "/m/**", 900, "s/item:read", "s/item:scrap", "s/item:share")
	input := c.input()
	x := input.Index
	worth := draft.NewWorth(input, gauge.Run(input))
	past, learned := worth.Risk()
	all := c.e.Grants[len(c.e.Grants)-1]
	lost := func(e access.Edit, id model.ID) string {
		after, err := x.With(e)
		if err != nil {
			t.Fatal(err)
		}
		now := usage.DayOf(asOf)
		var out []string
		for _, l := range risk.Lost(past, learned, after, id, now, worth.Having(id, now)) {
			out = append(out, fmt.Sprintf("%s %d %.4g %.4g", x.Permission(l.Perm).Permission, l.At, l.Chance, l.Soon))
		}
		slices.Sort(out)
		return strings.Join(out, "; ")
	}
	deny := func(on string, unless ...model.ID) access.Edit {
		return access.Edit{Come: access.Come{Denials: []model.Denial{{ID: "d",
			To: []model.ID{model.MustID("everyone")}, Unless: unless,
			Where:  []model.PathPattern{model.MustPathPattern(on)},
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:scrap")}}}}}}
	}
	less := all // without it
	less.Do = []model.PermissionPattern{model.MustPermissionPattern("s/item:read"),
		model.MustPermissionPattern("s/item:share")}
	part, parts := all, []model.PathPattern{} // everywhere but in one project
	part.ID, part.Do = "part", []model.PermissionPattern{model.MustPermissionPattern("s/item:scrap")}
	for p := range 10 {
		if p != 2 {
			parts = append(parts, model.MustPathPattern(project(p)+"/**"))
		}
	}
	part.Where = parts
	some := 0
	for i, id := range in {
		whole, denied := lost(access.Edit{Come: access.Come{Grants: []model.Grant{less}}}, id), lost(deny("/m/**"), id)
		if whole != denied {
			t.Errorf("%s: taken out of the grant:\n%s\ndenied:\n%s", id, whole, denied)
		}
		whole = lost(access.Edit{Come: access.Come{Grants: []model.Grant{less, part}}}, id)
		if denied = lost(deny("/m/project:p2/**"), id); whole != denied {
			t.Errorf("%s: taken out of the grant on a part:\n%s\ndenied:\n%s", id, whole, denied)
		}
		if i < 3 && denied != "" {
			some++
		}
		if s := lost(deny("/m/**", id), id) + lost(deny("/m/**", g), id); s != "" {
			t.Errorf("%s is spared, and loses %s", id, s)
		}
	}
	if some != 3 {
		t.Errorf("of %d of the three who did it something is expected", some)
	}
}
