package judge

import (
	"fmt"
	"slices"
	"testing"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/posture"
)

// TestMeasured: what a comparison tells of somebody is the same whoever else it measures, and what is found does
// not hang on whom it measures.
func TestMeasured(t *testing.T) {
	findings := func(in *gauge.Input, res *gauge.Result) []string {
		list := gauge.Findings(in, res)
		nodes := []model.Path{model.MustPath("/m"), model.MustPath("/m/unit:u0")}
		list = append(list, posture.Findings(in, res, nodes, list)...)
		var out []string
		for _, f := range list {
			held := ""
			if s := f.Standing; s != nil && f.Kind == gauge.IdleIdentity {
				held = fmt.Sprint(s.Granted, s.State)
			}
			out = append(out, fmt.Sprintf("%s %s %s %.6f %d %s %v %v %s", f.ID, f.Kind, f.Identity, f.Danger, f.Count,
				f.Rule, f.Chain, f.Holders, held))
		}
		return out
	}
	told, kinds := 0, map[string]int{}
	for seed := range uint64(max(40, estates(t)/10)) {
		in := crowded(t, 700_000+seed)
		all := gauge.Run(in)
		want := findings(in, all)
		in.Measured = func(model.ID) bool { return false }
		none := gauge.Run(in)
		for _, s := range none.Standings {
			if s.Danger != 0 || s.Granted != 0 || s.Within.Danger != 0 {
				t.Fatalf("seed %d: %s is measured: %+v", seed, s.ID, s)
			}
		}
		if got := findings(in, none); !slices.Equal(got, want) {
			t.Fatalf("seed %d: found\n%q\nwhere everybody is measured\n%q", seed, got, want)
		}
		_, of := tellsOf(t, all, nil)
		again := gauge.Run(in)
		for id, body := range of {
			if err := again.Remember(id, body); err != nil {
				t.Fatal(err)
			}
		}
		if got := findings(in, again); !slices.Equal(got, want) {
			t.Fatalf("seed %d: by what was told, found\n%q\nwhere everybody is measured\n%q", seed, got, want)
		}
		for _, f := range want {
			kinds[f[11:20]]++
		}
		one := all.Standings[int(seed)%len(all.Standings)]
		in.Measured = func(id model.ID) bool { return id == one.ID }
		res := gauge.Run(in)
		got := res.Of(one.ID)
		if got.Danger != one.Danger || got.Granted != one.Granted || got.Within != one.Within ||
			got.Removable != one.Removable || got.State != one.State || res.Reach(one.ID) != one.Within {
			t.Fatalf("seed %d: %s alone is\n%+v\nand is among all\n%+v", seed, one.ID, got, one)
		}
		if one.Danger > 0 && one.Within.Danger > one.Danger {
			told++
		}
	}
	if told == 0 || len(kinds) < 5 {
		t.Errorf("%d have more within reach than they hold, findings are of %v: that says little", told, kinds)
	}
}
