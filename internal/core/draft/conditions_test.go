package draft_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
)

// TestConditions: what every call of a line met is added where that is asked for and there is
// enough to go by; the fence still narrows and breaks nothing.
func TestConditions(t *testing.T) {
	const box = "/m/project:p1/box:a"
	days := span(-89, -1)
	for name, tt := range map[string]struct {
		days    []int
		call    func(i int, c *usage.Call)
		ask     bool
		factor  bool
		network string // blocks
	}{
		"both":         {days, func(int, *usage.Call) {}, true, true, "10.1.2.0/24"},
		"another desk": {days, func(int, *usage.Call) {}, true, true, "10.1.2.0/24 10.9.9.0/24"},
		"not asked":    {days, func(int, *usage.Call) {}, false, false, ""},
		"too few":      {days[:19], func(int, *usage.Call) {}, true, false, ""},
		"just enough":  {days[:20], func(int, *usage.Call) {}, true, true, "10.1.2.0/24"},
		"few days":     {slices.Repeat(days[:9], 5), func(int, *usage.Call) {}, true, false, ""},
		"once without": {days, func(i int, c *usage.Call) {
			if i == 40 {
				c.SecondFactor = model.False
			}
		}, true, false, "10.1.2.0/24"},
		"once not known": {days, func(i int, c *usage.Call) {
			if i == 40 {
				c.SecondFactor, c.Network = model.Open, netip.Addr{}
			}
		}, true, false, ""},
		"before the window without": {append(slices.Clone(days), -200), func(i int, c *usage.Call) {
			if i == len(days) {
				c.SecondFactor = model.False
			}
		}, true, false, "10.1.2.0/24"},
		"not placed: once without": {append(slices.Clone(days), -20), func(i int, c *usage.Call) {
			if i == len(days) {
				c.Permission, c.SecondFactor = model.MustPermission("s/item:fly"), model.False
			}
		}, true, false, "10.1.2.0/24"},
		"not placed: once without, elsewhere": {append(slices.Clone(days), -20), func(i int, c *usage.Call) {
			if i == len(days) {
				c.Permission, c.SecondFactor = model.MustPermission("s/item:fly"), model.False
				c.Path = model.MustPath("/m/project:p2/box:a")
			}
		}, true, true, "10.1.2.0/24"},
		"not placed: no grant": {append(slices.Clone(days), -20), func(i int, c *usage.Call) {
			if i == len(days) {
				c.SecondFactor, c.Path = model.False, model.MustPath("/m/project:p2/box:a")
			}
		}, true, false, "10.1.2.0/24"},
		"three networks": {days, func(i int, c *usage.Call) {
			c.Network = netip.AddrFrom4([4]byte{10, 1, byte(i % 3),
				4})
		},
			true, true, "10.1.0.0/24 10.1.1.0/24 10.1.2.0/24"},
		"four networks": {days, func(i int, c *usage.Call) {
			c.Network = netip.AddrFrom4([4]byte{10, 1, byte(i % 4),
				4})
		},
			true, true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			c := newPlain(t)
			who := c.who("person/a")
			if strings.HasPrefix(name, "not placed") {
				c.grant(who, "/m/project:p1/**", 900, "s/item:read", "s/item:put", "big/item:*")
			} else {
				c.grant(who, "/m/project:p1/**", 900, "s/item:*")
			}
			for i, d := range tt.days {
				call := usage.Call{Time: asOf.AddDate(0, 0, d), Identity: who,
					Permission: model.MustPermission("s/item:read"),
					Path:       model.MustPath(box), Outcome: usage.Done, SecondFactor: model.True,
					Network: netip.MustParseAddr("10.1.2.3")}
				tt.call(i, &call)
				c.before.Add(call)
			}
			if name == "another desk" { // for something else
				for _, d := range days {
					c.before.Add(usage.Call{Time: asOf.AddDate(0, 0, d), Identity: who, Path: model.MustPath(box +
						"2"),
						Permission: model.MustPermission("s/item:list"), Outcome: usage.Done, SecondFactor: model.True,
						Network: netip.MustParseAddr("10.9.9.9")})
				}
			}
			in := c.input()
			x := in.Index
			f, err := draft.FromUse(in, gauge.Run(in), who, draft.Options{Conditions: tt.ask})
			if err != nil {
				t.Fatal(err)
			}
			factor, network := false, ""
			for _, a := range f.Allow {
				if !a.Where[0].Matches(model.MustPath(box)) {
					continue
				}
				factor = factor || a.When.SecondFactor
				var blocks []string
				for _, n := range a.When.Networks {
					blocks = append(blocks, n.String())
				}
				network += strings.Join(blocks, " ")
				if (a.Evidence.Met > 0) != !a.When.IsZero() {
					t.Errorf("evidence %+v of %+v", a.Evidence, a.When)
				}
			}
			if factor != tt.factor || network != tt.network {
				t.Errorf("second factor %t, networks %q; want %t, %q", factor, network, tt.factor, tt.network)
			}
			r, err := rehearse.Run(x, f, in.Uses, nil, gauge.DefaultWeights)
			if err != nil || len(r.Widened)+len(r.Doubts) > 0 || slices.ContainsFunc(r.Broken,
				func(b rehearse.Break) bool { return !b.GivenUp }) {
				t.Errorf("rehearsal: %v, %+v", err, r)
			}
		})
	}
}
