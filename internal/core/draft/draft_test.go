package draft_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
)

func fenceText(f *fence.Fence, err error) string {
	for _, e := range []error{draft.ErrNothing, draft.ErrProtected, draft.ErrUnknown} {
		if errors.Is(err, e) {
			return e.Error()
		}
	}
	if err != nil {
		return "unexpected: " + err.Error()
	}
	var b strings.Builder
	fmt.Fprintf(&b, "-%s", strings.Join(f.Replaces, ","))
	for _, g := range f.Leaves {
		fmt.Fprintf(&b, " leaves %s", g)
	}
	for _, a := range f.Allow {
		if what := a.Role; what != "" {
			fmt.Fprintf(&b, "; role %s", what)
		} else {
			b.WriteString("; ")
			for i, p := range a.Do {
				if i > 0 {
					b.WriteByte(',')
				}
				b.WriteString(p.String())
			}
		}
		for _, on := range a.Where {
			fmt.Fprintf(&b, " %s", on)
		}
		if a.When.SecondFactor {
			b.WriteString(" second-factor")
		}
		if !a.Until.IsZero() {
			b.WriteString(" until")
		}
		fmt.Fprintf(&b, " (%s)", a.Evidence.Class)
	}
	if len(f.GivesUp) > 0 {
		var gone []string
		for _, p := range f.GivenUp() {
			gone = append(gone, p.String())
		}
		fmt.Fprintf(&b, "; gives up %s", strings.Join(gone, ","))
	}
	return b.String()
}

// TestFromUse: the fence of workload/a, or of who the name says in brackets. Every
// fence of the table also passes its own rehearsal, is valid, and leaves nothing
// more to narrow when everything it keeps was used.
func TestFromUse(t *testing.T) {
	for _, tt := range []struct{ name, text, want string }{
		{"one permission in one bucket",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:change,stow/item:find"},
		{"one uses it where its peers may [group/g]",
			"grant g1 group/g stow/item:* /m/**\nmember workload/a group/g\nmember workload/b group/g\n" +
				"member person/p group/g\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"used workload/b stow/item:find /m/berth:x/box:b2 1-80\n" +
				"used person/p stow/item:find /m/berth:x/box:b2 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); stow/item:find /m/berth:x/box:b2/** (used); " +
				"gives up stow/item:change"},
		{"two buckets, the same need, share a line",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:change /m/berth:x/box:b1/x 1-80\n" +
				"used workload/a stow/item:change /m/berth:x/box:b2/y 1-80",
			"-g1; stow/item:change /m/berth:x/box:b1/x /m/berth:x/box:b2/y (used); gives up " +
				"stow/item:read,stow/item:find"},
		{"two buckets, different needs",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80\n" +
				"used workload/a stow/item:change /m/berth:x/box:b2/y 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); stow/item:change /m/berth:x/box:b2/y (used); gives up " +
				"stow/item:find"},
		{"a name touched on few days is not the only name",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-3",
			"-g1; stow/item:read /m/berth:x/box:b1/** (used); gives up stow/item:change,stow/item:find"},
		{"three names in one folder",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/in/1 " +
				"1-9\nused workload/a stow/item:read /m/berth:x/box:b1/in/2 2-9\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/in/3 3-9",
			"-g1; stow/item:read /m/berth:x/box:b1/in/** (used); gives up stow/item:change,stow/item:find"},
		{"two names in one folder are no folder yet",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/in/1 " +
				"1-9\nused workload/a stow/item:read /m/berth:x/box:b1/in/2 2-9",
			"-g1; stow/item:read /m/berth:x/box:b1/** (used); gives up stow/item:change,stow/item:find"},
		{"the bucket itself and what is in it",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:find /m/berth:x/box:b1 1-80\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:find,stow/item:read /m/berth:x/box:b1/** (used); gives up stow/item:change"},
		{"a narrower grant keeps its place",
			"grant g1 workload/a stow/item:* /m/berth:x/box:b1/in/**\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/in/x 1-3",
			"-g1; stow/item:read /m/berth:x/box:b1/in/** (used); gives up stow/item:change,stow/item:find"},
		{"fits already", "grant g1 workload/a stow/item:read /m/berth:x/box:b1/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x 1-3\nused workload/a stow/item:read /m/berth:x/box:b1/y 1-3", "nothing to narrow"},
		{"conditions stay", "grant g1 workload/a stow/item:* /m/** second-factor\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x second-factor (used); gives up stow/item:change,stow/item:find"},
		{"an end stays", "grant g1 workload/a stow/item:* /m/** until\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x until (used); gives up stow/item:change,stow/item:find"},
		{"too new", "grant g1 workload/a stow/item:* /m/** new\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-5", "nothing to narrow"},
		{"no log", "grant g1 workload/a stow/item:* /m/**\nlog off\nused workload/a muster/grant:give /m/berth:x 1-9",
			"nothing to narrow"},
		{"what anybody is given, and somebody uses [everyone]",
			"grant g1 everyone stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:change,stow/item:find"},
		{"some without a log", "grant g1 workload/a quiet/*:*,stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; quiet/thing:do /m/** (unobservable); stow/item:read /m/berth:x/box:b1/x (used); gives up " +
				"stow/item:change,stow/item:find"},
		{"used where the log is on, and blind where it is off",
			"grant g1 workload/a stow/item:* /m/**\nnode /m/berth:y\nnode /m/berth:y/box:c\n" +
				"log /m/berth:y off\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); stow/item:change,stow/item:find,stow/item:read " +
				"/m/berth:y/** (unobservable)"},
		{"a call on a place that is not there [workload/a]",
			"grant g1 workload/a stow/item:* /m/**\ninventory\nused workload/a stow/item:change " +
				"/m/berth:x/box:bl/x 1-80\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:change /m/** (undecidable); stow/item:read /m/berth:x/box:b1/x (used); gives up " +
				"stow/item:find"},
		{"used, and perhaps elsewhere as well [workload/a]",
			"grant g1 workload/a stow/item:* /m/**\ninventory\nused workload/a stow/item:read /m/berth:x/box:bl/x " +
				"1-80\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/** (undecidable); gives up stow/item:change,stow/item:find"},
		{"long ago on a place that is not there [workload/a]",
			"grant g1 workload/a stow/item:* /m/**\ninventory\nused workload/a stow/item:change " +
				"/m/berth:x/box:bl/x 300-380\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:change,stow/item:find"},
		{"given up: some without a log",
			"grant g1 workload/a quiet/*:*,stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up quiet/thing:do,stow/item:change,stow/item:find"},
		{"idle, and one call that is not placed may come again",
			"grant g1 workload/a stow/item:*,stow/box:scrap,muster/grant:give /m/**\nmember workload/a group/g\n" +
				"grant g2 group/g stow/item:find /m/berth:x\n" +
				"used workload/a stow/item:find /m/berth:x/box:b1/x 100-250\n" +
				"used workload/a stow/item:fly /m/berth:x/box:b1/x 200-203",
			"-g1; stow/box:scrap,stow/item:change,stow/item:find,stow/item:read /m/** (undecidable); gives up " +
				"muster/grant:give"},
		{"idle", "grant g1 workload/a stow/item:* /m/**\nmember workload/a group/g\n" +
			"grant g2 group/g stow/item:read /m/**\nused workload/b stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1 leaves group/g; gives up stow/item:change,stow/item:read,stow/item:find"},
		{"disabled", "grant g1 workload/a stow/item:* /m/**\ndisabled workload/a\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x 100-120", "-g1; gives up stow/item:change,stow/item:read,stow/item:find"},
		{"young", "grant g1 workload/a stow/item:* /m/**\nyoung workload/a\n" +
			"used workload/b stow/item:read /m/berth:x/box:b1/x 1-80", "nothing to narrow"},
		{"protected", "grant g1 workload/a stow/item:* /m/**\nprotected workload/a\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80", "identity is protected"},
		{"nobody [workload/zed]", "grant g1 workload/a stow/item:* /m/**", "no such identity"},
		{"a season is kept", "grant g1 workload/a stow/item:read,stow/item:find,stow/item:change /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 200-203\n" +
			"used workload/a stow/item:find /m/berth:x/box:b1 1-200",
			"-g1; stow/item:find /m/berth:x/box:b1/** (used); stow/item:read /m/berth:x/box:b1/** (rare); gives up " +
				"stow/item:change"},
		{"a yearly job keeps where it ever worked", "grant g1 workload/a stow/*:* /m/**\n" +
			"used workload/a stow/box:scrap /m/berth:x/box:b1 350-351\n" +
			"used workload/a stow/item:read /m/berth:x/box:b2/x 350-352",
			"-g1; stow/box:scrap /m/berth:x/box:b1/** (rare); stow/item:read /m/berth:x/box:b2/** (rare); gives up " +
				"stow/item:change,stow/item:find"},
		{"a powerful act of a season beside daily work", "grant g1 workload/a stow/*:* /m/**\n" +
			"used workload/a stow/box:scrap /m/berth:x/box:b1 350-351\n" +
			"used workload/a stow/item:read /m/berth:x/box:b2/x 1-80",
			"-g1; stow/item:read /m/berth:x/** (used); stow/box:scrap /m/berth:x/box:b1/** (rare); gives up " +
				"stow/item:change,stow/item:find"},
		{"a role that fits", "grant g1 workload/a stow/item:* /m/**\nrole reader stow/item:read\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; role reader /m/berth:x/box:b1/x (used); gives up stow/item:change,stow/item:find"},
		{"a role that gives much more",
			"grant g1 workload/a stow/item:* /m/**\nrole all stow/item:read,stow/item:change\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:change,stow/item:find"},
		{"a role that the grant did not give",
			"grant g1 workload/a stow/item:read,stow/item:find /m/**\n" +
				"role admin stow/item:read,muster/grant:give\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:find"},
		{"the group gives it too",
			"grant g1 workload/a stow/item:read,stow/item:change /m/**\nmember workload/a group/g\ngrant g2 " +
				"group/g stow/item:read /m/berth:x/box:b1/**\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; gives up stow/item:change"},
		{"a grant that ends is no replacement",
			"grant g1 workload/a stow/item:read,stow/item:change /m/**\nmember workload/a group/g\n" +
				"grant g2 group/g stow/item:read /m/berth:x/box:b1/** until\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:change"},
		{"two grants, one of them idle",
			"grant g1 workload/a stow/item:* /m/berth:x/box:b1/**\ngrant g2 workload/a stow/box:* /m/**\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g2,g1; stow/item:read /m/berth:x/box:b1/x (used); gives up " +
				"stow/box:scrap,stow/item:change,stow/item:find"},
		{"of a group, by what its members do [group/g]",
			"grant g1 group/g stow/item:* /m/**\nmember person/p group/g\nmember workload/b group/g\nused person/p " +
				"stow/item:change /m/berth:x/box:b0/2 3-60\nused workload/b stow/item:read /m/berth:x/box:b3/2 3-60",
			"-g1; stow/item:change /m/berth:x/box:b0/2 (used); stow/item:read /m/berth:x/box:b3/2 (used); gives up " +
				"stow/item:find"},
		{"needless beside one of its own that fits",
			"grant g1 workload/a stow/item:read /m/berth:x/box:b1/**\ngrant g2 workload/a stow/item:read " +
				"/m/berth:x/box:b1\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-80\nused workload/a " +
				"stow/item:read /m/berth:x/box:b1/2 1-80\nused workload/a stow/item:read /m/berth:x/box:b1/3 " +
				"1-80\nused workload/a stow/item:read /m/berth:x/box:b1 1-80", "-g2"},
		{"refused calls are no need",
			"grant g1 workload/a stow/item:* /m/**\nrefused workload/a stow/item:change /m/berth:x/box:b1/x " +
				"1-80\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-80",
			"-g1; stow/item:read /m/berth:x/box:b1/x (used); gives up stow/item:change,stow/item:find"},
		{"handing out on the project",
			"grant g1 workload/a muster/*:*,stow/*:* /m/**\nused workload/a muster/grant:give /m/berth:x 1-60/3",
			"-g1; muster/grant:give /m/berth:x (used); gives up " +
				"stow/box:scrap,stow/item:change,stow/item:read,stow/item:find"},
	} {
		in, err := gaugetest.Parse(tt.text)
		if err != nil {
			t.Fatal(err)
		}
		who := model.MustID("workload/a")
		if _, s, ok := strings.Cut(tt.name, "["); ok {
			who = model.MustID(strings.TrimSuffix(s, "]"))
		}
		compared := gauge.Run(in)
		f, err := draft.FromUse(in, compared, who,
			draft.Options{GiveUpUnobservable: strings.HasPrefix(tt.name, "given up")})
		if got := fenceText(f, err); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.name, got, tt.want)
		}
		if err != nil {
			continue
		}
		if err := f.Validate(in.Index); err != nil {
			t.Errorf("%s: %v", tt.name, err)
		}
		r, err := rehearse.Run(in.Index, f, in.Uses, compared.Placement, in.Weights)
		if err != nil {
			t.Fatal(err)
		}
		if !r.OK() || r.After > r.Before {
			t.Errorf("%s: widened %v, broken %v, not placed %v, doubts %v, danger %v to %v", tt.name, r.Widened,
				r.Broken, r.Unplaced, r.Doubts, r.Before, r.After)
		}
		if slices.ContainsFunc(r.Broken,
			func(b rehearse.Break) bool { return gaugetest.Now.Sub(b.Use.Last).Hours() < 90*24 }) {
			t.Errorf("%s: breaks a use of the window: %v", tt.name, r.Broken)
		}
	}
}

// TestValidate: what a hand-written fence is told.
func TestValidate(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 workload/a stow/item:* /m/**\ngrant g2 workload/b stow/item:* /m/**\n" +
		"role reader stow/item:read")
	if err != nil {
		t.Fatal(err)
	}
	do := []model.PermissionPattern{model.MustPermissionPattern("stow/item:read")}
	on := []model.PathPattern{model.MustPathPattern("/m/**")}
	for _, tt := range []struct {
		f    fence.Fence
		want []string
	}{
		{fence.Fence{Replaces: []string{"g1"}, Allow: []fence.Allow{{Do: do, Where: on}, {Role: "reader", Where: on}}},
			nil},
		{fence.Fence{Replaces: []string{"g1"}}, nil},
		{fence.Fence{Replaces: []string{"g9"}}, []string{`no grant "g9"`, "survey again"}},
		{fence.Fence{Replaces: []string{"g2"}}, []string{`grant "g2" is made to`, "not to"}},
		{fence.Fence{Allow: []fence.Allow{{Where: on}}}, []string{"a role or do"}},
		{fence.Fence{Allow: []fence.Allow{{Role: "reader", Do: do, Where: on}}}, []string{"a role or do"}},
		{fence.Fence{Allow: []fence.Allow{{Role: "writer", Where: on}}}, []string{`no role "writer"`}},
		{fence.Fence{Allow: []fence.Allow{{Do: do}}}, []string{"at least one place"}},
		{fence.Fence{Allow: []fence.Allow{{Do: []model.PermissionPattern{model.MustPermissionPattern(
			"shop/cart:read")}, Where: on}}}, []string{"not in the catalogue"}},
		{fence.Fence{Replaces: []string{"g9"}, Allow: []fence.Allow{{Do: do}}}, []string{"g9", "at least one place"}},
	} {
		tt.f.For = model.MustID("m:workload/a")
		err := tt.f.Validate(in.Index)
		if (err == nil) != (tt.want == nil) {
			t.Errorf("%+v: %v", tt.f, err)
		}
		for _, w := range tt.want {
			if err == nil || !strings.Contains(err.Error(), w) {
				t.Errorf("%v does not say %q", err, w)
			}
		}
	}
}

// TestWithin: containment of rights, the unknown permissions of a pattern included.
func TestWithin(t *testing.T) {
	sets := func(text string) (out []model.Rights) {
		for set := range strings.SplitSeq(text, " | ") {
			var r model.Rights
			for f := range strings.FieldsSeq(set) {
				if p, ok := strings.CutPrefix(f, "-"); ok {
					r.Except = append(r.Except, model.MustPermissionPattern(p))
				} else {
					r.Do = append(r.Do, model.MustPermissionPattern(f))
				}
			}
			out = append(out, r)
		}
		return out
	}
	for _, tt := range []struct {
		inner, outer string
		want         bool
	}{
		{"a/b:c", "a/b:c", true}, {"a/b:c", "a/b:*", true}, {"a/b:*", "a/b:c", false}, {"a/b:c", "a/b:d", false},
		{"a/b:c a/b:d", "a/b:c | a/b:d", true}, {"a/b:*", "a/b:c | a/b:d", false}, {"a/b:c", "a/b:* -a/b:c", false},
		{"a/b:d", "a/b:* -a/b:c", true}, {"a/b:*", "a/b:* -a/b:c", false}, {"a/b:* -a/b:c", "a/b:* -a/b:c", true},
		{"a/b:* -a/b:c -a/b:d", "a/b:* -a/b:c", true}, {"a/b:c -a/b:c", "x/y:z", true}, {"*/*:*", "*/*:*", true},
		{"a/b:c", "a/b:* -a/b:c | a/b:c", true},
	} {
		if got := fence.Within(sets(tt.inner), sets(tt.outer)); got != tt.want {
			t.Errorf("%s within %s: %v", tt.inner, tt.outer, got)
		}
	}
}
