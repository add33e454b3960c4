package rehearse_test

import (
	"errors"
	"fmt"
	"testing"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/rehearse"
)

// TestTogether: what one fence leaves to another grant, the fence of that grant's holder may
// take; only both together break it.
func TestTogether(t *testing.T) {
	const estate = "grant g1 workload/a stow/item:* /m/**\ngrant g2 group/g stow/item:read,stow/item:find /m/**\n" +
		"member workload/a group/g\nmember workload/b group/g\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
		"used workload/b stow/item:find /m/berth:x/box:b1 1-80"
	for _, tt := range []struct{ name, own, group, want string }{
		{"each leaves it to the other", "-g1", "-g2; stow/item:find /m/**",
			"ok false; alone true true; 1 break, 1 of them together only; 2 touched"},
		{"one keeps it", "-g1; stow/item:read /m/**", "-g2; stow/item:find /m/**",
			"ok true; alone true true; 0 break, 0 of them together only; 2 touched"},
		{"the other keeps it", "-g1", "-g2; stow/item:* /m/berth:x/**",
			"ok false; alone true false; 0 break, 0 of them together only; 2 touched"}, // widens
		{"one breaks alone", "-g1; stow/item:read /m/**", "-g2; stow/item:read /m/**",
			"ok false; alone true false; 1 break, 0 of them together only; 2 touched"},
		{"given up by one of them", "-g1; gives up stow/item:read", "-g2; stow/item:find /m/**",
			"ok true; alone true true; 1 break, 0 of them together only; 2 touched"},
		{"given up by the group", "-g1", "-g2; stow/item:find /m/**; gives up stow/item:read on /m/berth:x/**",
			"ok true; alone true true; 1 break, 0 of them together only; 2 touched"},
		{"given up on another place", "-g1", "-g2; stow/item:find /m/**; gives up stow/item:read on /m/berth:y/**",
			"ok false; alone true true; 1 break, 1 of them together only; 2 touched"},
	} {
		in, err := gaugetest.Parse(estate)
		if err != nil {
			t.Fatal(err)
		}
		fs := []*fence.Fence{hand("workload/a", tt.own), hand("group/g", tt.group)}
		j, err := rehearse.Together(in.Index, fs, in.Uses, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprintf("ok %t; alone %t %t; %d break, %d of them together only; %d touched", j.OK(),
			j.Each[0].OK(), j.Each[1].OK(), len(j.Broken), len(j.Only), len(j.Touched)); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.name, got, tt.want)
		}
		if wider := len(j.Each[1].Widened) > 0; j.After >= j.Before != wider || j.Before <= j.Each[0].Before {
			t.Errorf("%s: danger %v to %v", tt.name, j.Before, j.After)
		}
		if _, err := rehearse.Together(in.Index, append(fs, fs[0]), in.Uses, nil,
			gauge.DefaultWeights); !errors.Is(err, rehearse.ErrTwice) {
			t.Errorf("the same fence twice: %v", err)
		}
	}
}

// TestTogetherOfACrowd: a fence for everybody touches those whom the estate lists, and not the
// crowd as if it were somebody.
func TestTogetherOfACrowd(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 everyone stow/item:* /m/**\nused workload/a stow/item:read " +
		"/m/berth:x/box:b1/x 1-80")
	if err != nil {
		t.Fatal(err)
	}
	j, err := rehearse.Together(in.Index, []*fence.Fence{hand("everyone", "-g1; stow/item:read /m/**")}, in.Uses, nil,
		gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(j.OK(), j.Touched); got != "true [person/p workload/a workload/b]" || j.After >= j.Before {
		t.Errorf("touched: %s; danger %v to %v", got, j.Before, j.After)
	}
}
