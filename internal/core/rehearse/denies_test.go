package rehearse_test

import (
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/core/check"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
)

// TestDenies: a fence with denials holds where nobody did what they refuse but those whom they spare,
// or where that is named as given up; it is weighed over all whom it touches. A second look agrees.
func TestDenies(t *testing.T) {
	const estate = "grant g1 workload/a stow/item:* /m/**\ngrant g2 group/g stow/item:*,stow/box:scrap /m/**\n" +
		"member workload/b group/g\nmember person/p group/g\n" +
		"used workload/a stow/item:change /m/berth:x/box:b1/x 1-80\n" +
		"used workload/b stow/item:read /m/berth:x/box:b2/x 1-80\ngrant g3 group/h stow/item:find /m/**"
	for name, tt := range map[string]struct {
		who, do, on, unless, up string
		want                    string
	}{
		"nobody did it": {"everyone", "stow/box:scrap", "/m/**", "", "", "ok true; broken []; 2 hold less; 1 goes"},
		"one did it": {"everyone", "stow/item:change", "/m/**", "", "",
			"ok false; broken [workload/a stow/item:change]; 3 hold less; 1 goes"},
		"one did it, and is spared": {"everyone", "stow/item:change", "/m/**", "workload/a", "",
			"ok true; broken []; 2 hold less; 0 goes"},
		"one did it, and it is named": {"everyone", "stow/item:change", "/m/**", "", "stow/item:change",
			"ok true; broken [workload/a stow/item:change given up]; 3 hold less; 1 goes"},
		"a group is spared": {"everyone", "stow/item:*", "/m/**", "group/g", "",
			"ok false; broken [workload/a stow/item:change]; 1 hold less; 0 goes"},
		"elsewhere": {"everyone", "stow/item:change", "/m/berth:x/box:b2/**", "", "",
			"ok true; broken []; 3 hold less; 0 goes"},
		"of a group alone": {"group/g", "stow/item:change", "/m/**", "", "",
			"ok true; broken []; 2 hold less; 1 goes"}, // of those whom it touches
		"of a group in which nobody is": {"group/h", "stow/item:find", "/m/**", "", "",
			"ok true; broken []; 0 hold less; 1 goes"},
		"of one alone": {"workload/a", "stow/item:read", "/m/**", "", "", "ok true; broken []; 1 hold less; 1 goes"},
	} {
		in, err := gaugetest.Parse(estate)
		if err != nil {
			t.Fatal(err)
		}
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("m:" + tt.who), Denies: []fence.Deny{{
			Do:    []model.PermissionPattern{model.MustPermissionPattern(tt.do)},
			Where: []model.PathPattern{model.MustPathPattern(tt.on)}}}}
		if tt.unless != "" {
			f.Denies[0].Unless = []model.ID{model.MustID(tt.unless)}
		}
		if tt.up != "" {
			f.GivesUp = []fence.GiveUp{{Do: []model.PermissionPattern{model.MustPermissionPattern(tt.up)},
				Where: []model.PathPattern{model.MustPathPattern("/m/**")}}}
		}
		if err := f.Validate(in.Index); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		r, err := rehearse.Run(in.Index, f, in.Uses, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		broken := []string{}
		for _, b := range r.Broken {
			text := b.Use.Principal().String() + " " + b.Use.Permission.String()
			if b.GivenUp {
				text += " given up"
			}
			broken = append(broken, text)
		}
		if got := fmt.Sprintf("ok %t; broken [%s]; %d hold less; %d goes", r.OK(), strings.Join(broken, ", "), r.Fewer,
			len(r.Goes)); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, tt.want)
		}
		if len(r.Doubts) > 0 || len(r.Widened) > 0 {
			t.Errorf("%s: %v %v", name, r.Doubts, r.Widened)
		}
		if (r.After < r.Before) != (r.Fewer > 0) || r.ReachAfter.Danger > r.ReachBefore.Danger ||
			r.After > 0 && (r.ReachAfter.Danger <= 0 || r.Furthest.IsZero()) {
			t.Errorf("%s: danger %v to %v, within reach %v to %v", name, r.Before, r.After, r.ReachBefore.Danger,
				r.ReachAfter.Danger)
		}
		// The second look finds by itself which uses the denials refuse.
		doubts := check.Of(in.Index).Fence(f, in.Uses, func(int) bool { return false })
		if len(doubts) != len(broken) {
			t.Errorf("%s: the second look finds %v, the first %v", name, doubts, broken)
		}
		for _, d := range doubts {
			if !d.Denied || !strings.Contains(d.String(), "would be denied") {
				t.Errorf("%s: %+v: %s", name, d, d)
			}
		}
	}
}

// TestDeniesTogether: two fences with denials are tried together with one that replaces a grant, and
// what only all of them break is told.
func TestDeniesTogether(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 workload/a stow/item:* /m/**\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80")
	if err != nil {
		t.Fatal(err)
	}
	deny := func(do string) *fence.Fence {
		return &fence.Fence{Version: fence.FormatVersion, For: model.MustID("m:everyone"), Denies: []fence.Deny{{
			Do:    []model.PermissionPattern{model.MustPermissionPattern(do)},
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}}}}
	}
	fs := []*fence.Fence{deny("stow/item:change"), deny("stow/item:find"), hand("workload/a",
		"-g1; stow/item:read,stow/item:change /m/**")}
	j, err := rehearse.Together(in.Index, fs, in.Uses, nil, gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(j.Edit.Come.Denials); n != 2 || j.Edit.Come.Denials[0].ID == j.Edit.Come.Denials[1].ID {
		t.Errorf("%d denials come: %+v", n, j.Edit.Come.Denials)
	}
	after, err := in.Index.With(j.Edit)
	if err != nil {
		t.Fatal(err)
	}
	one := gauge.NewScale(after, gauge.DefaultWeights)
	if _, perms := one.Held(model.MustID("workload/a")); perms.Count() != 1 || !j.OK() {
		t.Errorf("%d permissions are left, want reading alone; ok %t", perms.Count(), j.OK())
	}
}

// TestMemberWhomADenialSpares: what a member keeps alone of what a denial refuses to its group is
// weighed on both sides, so that a fence that takes from it is not said to give it more.
func TestMemberWhomADenialSpares(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 group/g stow/item:*,stow/box:scrap /m/**\nmember workload/a group/g\n" +
		"member workload/b group/g")
	if err != nil {
		t.Fatal(err)
	}
	deny := &fence.Fence{For: model.MustID("m:everyone"), Denies: []fence.Deny{{
		Do:     []model.PermissionPattern{model.MustPermissionPattern("stow/box:scrap")},
		Where:  []model.PathPattern{model.MustPathPattern("/m/**")},
		Unless: []model.ID{model.MustID("workload/a")}}}}
	x, err := in.Index.With(deny.Edit("m"))
	if err != nil {
		t.Fatal(err)
	}
	f := hand("group/g", "-g1; stow/item:* /m/**; stow/box:scrap /m/berth:x/box:b1/**")
	f.Allow[1].To = model.MustID("workload/a")
	r, err := rehearse.Run(x, f, nil, nil, gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	if !(r.After < r.Before) || r.ReachBefore.Danger < r.Before || r.ReachAfter.Danger > r.ReachBefore.Danger {
		t.Errorf("danger %v to %v, within reach %v to %v", r.Before, r.After, r.ReachBefore.Danger,
			r.ReachAfter.Danger)
	}
}
