package draft_test

import (
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
)

// TestGates: what has power and is used on a few days is left to people to be asked for, and stays
// with workloads, with those who use it often, and with whoever has it by an open crowd. Nothing
// else changes, and the fence holds.
func TestGates(t *testing.T) {
	const box = "/m/project:p1/box:a"
	often := span(-80, -1)
	for _, tt := range []struct {
		name, to, by, verb string
		days               []int
		asked              bool
		most               float64 // asks that are expected
	}{
		{"on two days", "person/a", "person/a", "scrap", []int{-70, -20}, true, 2.5},
		{"on nine days", "person/a", "person/a", "scrap", span(-30, -22), true, 9.5},
		{"on ten days", "person/a", "person/a", "scrap", span(-31, -22), false, 0},
		{"every day", "person/a", "person/a", "scrap", often, false, 0},
		{"a workload", "workload/a", "workload/a", "scrap", []int{-70, -20}, false, 0},
		{"a member of a group", "group/g", "person/a", "scrap", []int{-70, -20}, true, 2.5},
		{"a workload of a group", "group/g", "workload/w", "scrap", []int{-70, -20}, false, 0},
		{"by an open crowd", "signed-in", "person/a", "scrap", []int{-70, -20}, false, 0},
		{"no power", "person/a", "person/a", "put", []int{-70, -20}, false, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			c := newPlain(t)
			var to model.ID
			switch tt.to {
			case "group/g":
				to = model.MustID("group/g")
				for _, id := range []string{"person/a", "person/b", "workload/w"} {
					c.e.Memberships = append(c.e.Memberships, model.Membership{Member: c.who(id), Group: to})
				}
				c.who("group/g")
			case "signed-in":
				c.who("person/a")
				to = model.MustID("signed-in")
			default:
				to = c.who(tt.to)
			}
			c.grant(to, "/m/project:p1/**", 900, "s/item:*")
			who := model.MustID(tt.by)
			c.uses(who, "read", box, often...)
			c.uses(who, tt.verb, box, tt.days...)
			in := c.input()
			x := in.Index
			res := gauge.Run(in)
			f, err := draft.FromUse(in, res, to, draft.Options{Gates: true})
			if err != nil {
				t.Fatal(err)
			}
			if err := f.Validate(x); err != nil {
				t.Fatal(err)
			}
			p, at := model.MustPermission("s/item:"+tt.verb), model.MustPath(box).Exactly()
			if f.AsksFor(p, at) != tt.asked {
				t.Fatalf("to be asked for: %t; %+v", !tt.asked, f)
			}
			sum := 0.0
			for _, a := range f.Asks {
				sum += a.Expected
			}
			if tt.asked && (sum < float64(len(tt.days))-.5 || sum > tt.most) {
				t.Errorf("it is expected to be asked for %.2f times", sum)
			}
			r, err := rehearse.Run(x, f, in.Uses, res.Placement, gauge.DefaultWeights)
			if err != nil {
				t.Fatal(err)
			}
			if !r.OK() || (r.Asked > 0) != tt.asked || rehearse.GoingOn(r.Broken, res.Window) > 0 {
				t.Errorf("%d asked for; widened %v, broken %v, not placed %v", r.Asked, r.Widened, r.Broken,
					r.Unplaced)
			}
			plain, err := draft.FromUse(in, res, to, draft.Options{})
			if err != nil || len(plain.Asks) > 0 {
				t.Fatalf("nobody asked for gates: %+v, %v", plain, err)
			}
			if !tt.asked && fmt.Sprint(plain.Allow) != fmt.Sprint(f.Allow) {
				t.Errorf("with gates %v, without %v", f.Allow, plain.Allow)
			}
		})
	}
}

// TestAsksAreInside: what is to be asked for by a fence that somebody wrote lies inside what goes,
// and is for somebody who can ask.
func TestAsksAreInside(t *testing.T) {
	c := newPlain(t)
	who := c.who("person/a")
	c.grant(who, "/m/project:p1/**", 900, "s/item:*")
	c.grant(c.who("workload/w"), "/m/project:p1/**", 900, "s/item:*")
	x, err := index.Build(c.e)
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		who, do, where string
		factor         bool
		bad            string
	}{
		{"person/a", "s/item:scrap", "/m/project:p1/box:a", false, ""},
		{"person/a", "s/item:*", "/m/project:p1/**", true, ""},
		{"person/a", "s/item:scrap", "/m/**", false, "lies inside the grants that go"},
		{"person/a", "s/*:scrap", "/m/project:p1/**", false, "lies inside the grants that go"},
		{"workload/w", "s/item:scrap", "/m/project:p1/**", false, "asks nobody"},
		{"person/a", "", "/m/project:p1/**", false, "names permissions"},
	} {
		ask := fence.Ask{Where: []model.PathPattern{model.MustPathPattern(tt.where)}}
		if tt.do != "" {
			ask.Do = []model.PermissionPattern{model.MustPermissionPattern(tt.do)}
		}
		ask.When.SecondFactor = tt.factor
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("m:" + tt.who), Asks: []fence.Ask{ask},
			Replaces: []string{x.Grant(x.GrantsTo(model.MustID(tt.who))[0]).ID}}
		if err := f.Validate(x); tt.bad == "" && err != nil || tt.bad != "" && (err == nil ||
			!strings.Contains(err.Error(), tt.bad)) {
			t.Errorf("%+v: %v", tt, err)
		}
	}
}
