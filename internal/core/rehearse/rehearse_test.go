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

// hand writes a fence in a small language, parts between semicolons: "-g1,g2" what
// it replaces, "leaves G", "gives up PERM,… [on PLACE]", and lines "PERMS ON… [second-factor]".
func hand(who, text string) *fence.Fence {
	f := &fence.Fence{Version: 1, For: model.MustID("m:" + who)}
	for part := range strings.SplitSeq(text, "; ") {
		w := strings.Fields(part)
		switch {
		case strings.HasPrefix(part, "-"):
			f.Replaces = strings.Split(part[1:], ",")
		case w[0] == "leaves":
			f.Leaves = append(f.Leaves, model.MustID(w[1]))
		case w[0] == "gives":
			g := fence.GiveUp{Where: []model.PathPattern{model.MustPathPattern("/m/**")}}
			if len(w) > 4 { // gives up PERMISSIONS on PLACE
				g.Where[0] = model.MustPathPattern(w[4])
			}
			for p := range strings.SplitSeq(w[2], ",") {
				g.Do = append(g.Do, model.MustPermissionPattern(p))
			}
			f.GivesUp = append(f.GivesUp, g)
		default:
			var a fence.Allow
			for p := range strings.SplitSeq(w[0], ",") {
				if strings.Contains(p, ":") {
					a.Do = append(a.Do, model.MustPermissionPattern(p))
				} else {
					a.Role = p
				}
			}
			for _, on := range w[1:] {
				switch on {
				case "second-factor":
					a.When.SecondFactor = true
				case "until":
					a.Until = gaugetest.Now.AddDate(0, 0, 1)
				case "until-later":
					a.Until = gaugetest.Now.AddDate(0, 0, 9)
				default:
					a.Where = append(a.Where, model.MustPathPattern(on))
				}
			}
			f.Allow = append(f.Allow, a)
		}
	}
	return f
}

// TestRun: what the rehearsal of a fence by hand says. The fence is workload/a's, or
// of whom the name says in brackets.
func TestRun(t *testing.T) {
	for _, tt := range []struct{ name, estate, fence, want string }{
		{"narrower and enough",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/**", "ok true; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"nothing left", "grant g1 workload/a stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 3 go, 0 stay"},
		{"nothing left, and said so",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; gives up stow/item:read",
			"ok true; breaks workload/a stow/item:read /m/berth:x/box:b1/x (given up); 1 replayed, 0 odd, 3 go, " +
				"0 stay"},
		{"the wrong bucket", "grant g1 workload/a stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1; stow/item:read /m/berth:x/box:b2/**",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"the wrong permission",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:find /m/berth:x/box:b1/**",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"given up on another place",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; gives up stow/item:read on /m/berth:x/box:b2/**",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 3 go, 0 stay"},
		{"given up is another permission",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; gives up stow/item:change",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 3 go, 0 stay"},
		{"the same", "grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:* /m/**", "ok true; 1 replayed, 0 odd, 0 go, 3 stay"},
		{"a permission more", "grant g1 workload/a stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1; stow/item:*,stow/box:scrap /m/**",
			"ok false; widens line 0 stow/box:scrap /m/**; 1 replayed, 0 odd, 0 go, 3 stay"},
		{"a pattern more than the sum",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/*:* /m/**", "ok false; widens line 0 stow/*:* /m/**; 1 replayed, 0 odd, 0 go, 3 stay"},
		{"places more", "grant g1 workload/a stow/item:* /m/berth:x/box:b1/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1; stow/item:read /m/berth:x/box:b*/**",
			"ok false; widens line 0 stow/item:read /m/berth:x/box:b*/**; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"of a grant that stays",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"grant g2 workload/a stow/box:* /m/**", "-g1; stow/item:read,stow/box:scrap /m/berth:x/box:b1/**",
			"ok false; widens line 0 stow/box:scrap /m/berth:x/box:b1/**; 1 replayed, 0 odd, 2 go, 2 stay"},
		{"of two replaced grants together",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"grant g2 workload/a stow/box:* /m/**", "-g1,g2; stow/item:read,stow/box:scrap /m/berth:x/box:b1/**",
			"ok true; 1 replayed, 0 odd, 2 go, 2 stay"},
		{"two grants' places together",
			"grant g1 workload/a stow/item:read /m/berth:x/box:b1/**\ngrant g2 workload/a stow/item:read " +
				"/m/berth:x/box:b2/**", "-g1,g2; stow/item:read /m/berth:x/box:b1/** /m/berth:x/box:b2/**",
			"ok true; 0 replayed, 0 odd, 0 go, 1 stay"},
		{"a condition dropped", "grant g1 workload/a stow/item:* /m/** second-factor", "-g1; stow/item:read /m/**",
			"ok false; widens line 0 stow/item:read /m/**; 0 replayed, 0 odd, 2 go, 1 stay"},
		{"a condition kept", "grant g1 workload/a stow/item:* /m/** second-factor",
			"-g1; stow/item:read /m/** second-factor", "ok true; 0 replayed, 0 odd, 2 go, 1 stay"},
		{"a condition more", "grant g1 workload/a stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1; stow/item:read /m/** second-factor",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"an end dropped", "grant g1 workload/a stow/item:* /m/** until", "-g1; stow/item:read /m/**",
			"ok false; widens line 0 stow/item:read /m/**; 0 replayed, 0 odd, 2 go, 1 stay"},
		{"an earlier end", "grant g1 workload/a stow/item:* /m/** until", "-g1; stow/item:read /m/** until",
			"ok true; 0 replayed, 0 odd, 2 go, 1 stay"},
		{"a later end", "grant g1 workload/a stow/item:* /m/** until", "-g1; stow/item:read /m/** until-later",
			"ok false; widens line 0 stow/item:read /m/**; 0 replayed, 0 odd, 2 go, 1 stay"},
		{"a role inside", "grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x 1-80\nrole reader stow/item:read", "-g1; reader /m/berth:x/box:b1/**",
			"ok true; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"a role with more", "grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x 1-80\nrole odd stow/item:read,muster/grant:give", "-g1; odd /m/berth:x/box:b1/**",
			"ok false; widens line 0 muster/grant:give /m/berth:x/box:b1/**; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"leaves the group that gave it",
			"grant g1 group/g stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"member workload/a group/g", "leaves group/g",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; 1 replayed, 0 odd, 3 go, 0 stay"},
		{"leaves a group, keeps its own",
			"grant g2 group/g stow/item:* /m/**\nmember workload/a group/g\n" +
				"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"leaves group/g; -g1; stow/item:read /m/berth:x/box:b1/**", "ok true; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"a group, one member of it broken [group/g]",
			"grant g1 group/g stow/item:* /m/**\nmember person/p group/g\nmember workload/b group/g\nused person/p " +
				"stow/item:change /m/berth:x/box:b0/2 3-60\nused workload/b stow/item:read /m/berth:x/box:b3/2 3-60",
			"-g1; stow/item:read /m/**",
			"ok false; breaks person/p stow/item:change /m/berth:x/box:b0/2; 2 replayed, 0 odd, 2 go, 1 stay"},
		{"another's use is not looked at",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"grant g3 workload/b stow/item:* /m/**\nused workload/b stow/item:change /m/berth:x/box:b3/2 3-60",
			"-g1; stow/item:read /m/berth:x/box:b1/**", "ok true; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"a use that the estate never allowed",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"used workload/a muster/grant:give /m/berth:x 1-3", "-g1; stow/item:read /m/berth:x/box:b1/**",
			"ok true; 2 replayed, 1 odd, 2 go, 1 stay"},
		{"refused calls are not replayed",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x " +
				"1-80\nrefused workload/a stow/item:change /m/berth:x/box:b1/x 1-9",
			"-g1; stow/item:read /m/berth:x/box:b1/**", "ok true; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"kept by the group", "grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x 1-80\ngrant g2 group/g stow/item:read /m/**\nmember workload/a group/g", "-g1",
			"ok true; 1 replayed, 0 odd, 2 go, 1 stay"},
		{"the most used break first",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:find /m/berth:x/box:b1 1-3\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1; gives up stow/item:change",
			"ok false; breaks workload/a stow/item:read /m/berth:x/box:b1/x; breaks workload/a stow/item:find " +
				"/m/berth:x/box:b1; 2 replayed, 0 odd, 3 go, 0 stay"},
		{"given up breaks last",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:find /m/berth:x/box:b1 1-3\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "-g1; gives up stow/item:read",
			"ok false; breaks workload/a stow/item:find /m/berth:x/box:b1; breaks workload/a stow/item:read " +
				"/m/berth:x/box:b1/x (given up); 2 replayed, 0 odd, 3 go, 0 stay"},
	} {
		in, err := gaugetest.Parse(tt.estate)
		if err != nil {
			t.Fatal(err)
		}
		who := "workload/a"
		if _, s, ok := strings.Cut(tt.name, "["); ok {
			who = strings.TrimSuffix(s, "]")
		}
		r, err := rehearse.Run(in.Index, hand(who, tt.fence), in.Uses, nil, in.Weights)
		if err != nil {
			t.Fatal(err)
		}
		got := fmt.Sprintf("ok %v", r.OK())
		for _, w := range r.Widened {
			got += fmt.Sprintf("; widens line %d %s %s", w.Line, w.Permission, w.Where)
		}
		for _, b := range r.Broken {
			got += fmt.Sprintf("; breaks %s %s %s", b.Use.Principal(), b.Use.Permission, b.Use.Path)
			if b.GivenUp {
				got += " (given up)"
			}
		}
		got += fmt.Sprintf("; %d replayed, %d odd, %d go, %d stay", r.Replayed, r.Odd, len(r.Goes), len(r.Stays))
		if got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.name, got, tt.want)
		}
		if len(r.Widened) == 0 && r.After > r.Before {
			t.Errorf("%s: widens nothing, and danger grows from %v to %v", tt.name, r.Before, r.After)
		}
	}
}

// TestOK: a fence that is riskier than it was when it was drafted is not fine, nor is any other that has something
// against it.
func TestOK(t *testing.T) {
	for name, r := range map[string]*rehearse.Result{"riskier": {Riskier: "more"},
		"widened": {Widened: make([]rehearse.Widening, 1)}, "cannot be said": {Cannot: []string{"x"}},
		"in doubt": {Doubts: make([]check.Doubt, 1)}, "rests on what changed": {Changed: []string{"x"}},
		"broken": {Broken: make([]rehearse.Break, 1)}, "not placed": {Unplaced: make([]rehearse.Unplaced, 1)}} {
		if r.OK() {
			t.Errorf("%s: it is fine", name)
		}
	}
	for name, r := range map[string]*rehearse.Result{"nothing": {},
		"given up": {Broken: []rehearse.Break{{GivenUp: true}}},
		"accepted": {Unplaced: make([]rehearse.Unplaced, 1), Accepted: true}} {
		if !r.OK() {
			t.Errorf("%s: it is not fine", name)
		}
	}
}

// TestOrder: what a rehearsal tells comes most dangerous, or most used, first, and what is
// given up last.
func TestOrder(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 workload/a stow/*:*,muster/grant:give /m/**\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1 1-9\nused workload/a stow/item:read /m/berth:x/box:b2 " +
		"1-30\n" +
		"used workload/a stow/item:change /m/berth:x/box:b1 1-80\n")
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ fence, goes, stays, broken string }{
		{"-g1; gives up stow/item:change; stow/item:find,stow/box:scrap,muster/grant:give /m/berth:x/**",
			"stow/item:change stow/item:read", "muster/grant:give stow/box:scrap stow/item:find",
			"stow/item:read 30, stow/item:read 9, stow/item:change 80"},
		{"-g1; stow/item:find /m/berth:x/**", "muster/grant:give stow/box:scrap stow/item:change stow/item:read",
			"stow/item:find", "stow/item:change 80, stow/item:read 30, stow/item:read 9"},
	} {
		r, err := rehearse.Run(in.Index, hand("workload/a", tt.fence), in.Uses, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		names := func(list []model.CatalogueEntry) string {
			var out []string
			for _, c := range list {
				out = append(out, c.Permission.String())
			}
			return strings.Join(out, " ")
		}
		var broken []string
		for _, b := range r.Broken {
			broken = append(broken, fmt.Sprintf("%s %d", b.Use.Permission, b.Use.Count))
		}
		if got := strings.Join(broken, ", "); got != tt.broken || names(r.Goes) != tt.goes ||
			names(r.Stays) != tt.stays {
			t.Errorf("%s: goes %s, stays %s, breaks %s", tt.fence, names(r.Goes), names(r.Stays), got)
		}
	}
}

// TestEndingFirst: of what ends, that comes first which ends first, however often it was used.
func TestEndingFirst(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 workload/a stow/item:* /m/**\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1 1-80\n" +
		"used workload/a stow/item:change /m/berth:x/box:b1 1-9\n" +
		"used workload/a stow/item:find /m/berth:x/box:b1 1-3")
	if err != nil {
		t.Fatal(err)
	}
	f := hand("workload/a", "-g1; stow/item:change /m/** until-later; stow/item:find,stow/item:read /m/** until")
	for i, p := range []string{"stow/item:change", "stow/item:find", "stow/item:read"} {
		f.GivesUp = append(f.GivesUp, fence.GiveUp{Do: []model.PermissionPattern{model.MustPermissionPattern(p)},
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}, From: f.Allow[min(i, 1)].Until})
	}
	r, err := rehearse.Run(in.Index, f, in.Uses, nil, gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, b := range r.Ending {
		got = append(got, b.Use.Permission.Verb())
	}
	if s := strings.Join(got, " "); s != "find read change" || len(r.Broken) > 0 {
		t.Errorf("%s end, %d break", s, len(r.Broken))
	}
}

// TestGoingOn: of what a fence names as given up that goes on which was done on several days of the
// window.
func TestGoingOn(t *testing.T) {
	for _, tt := range []struct {
		days, fence string
		want        int
	}{
		{"1-80", "-g1; gives up stow/item:read", 1},
		{"1-2", "-g1; gives up stow/item:read", 1},
		{"5-5", "-g1; gives up stow/item:read", 0},
		{"90-91", "-g1; gives up stow/item:read", 0}, // one day of them lies in it
		{"89-90", "-g1; gives up stow/item:read", 1},
		{"100-380", "-g1; gives up stow/item:read", 0},
		{"1-80", "-g1; stow/item:find /m/**", 0}, // it fails, and is told as that
		{"1-80", "-g1; stow/item:read /m/**; gives up stow/item:read", 0},
	} {
		in, err := gaugetest.Parse("grant g1 workload/a stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x " + tt.days)
		if err != nil {
			t.Fatal(err)
		}
		r, err := rehearse.Run(in.Index, hand("workload/a", tt.fence), in.Uses, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if got := rehearse.GoingOn(r.Broken, in.Span()); got != tt.want {
			t.Errorf("%s days ago, %s: %d go on, want %d", tt.days, tt.fence, got, tt.want)
		}
	}
}
