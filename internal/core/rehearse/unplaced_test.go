package rehearse_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
)

// TestUnplacedOrder: of calls that are not placed those come first that were made most often, and of as many
// those that the uses have first.
func TestUnplacedOrder(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 workload/a stow/item:read /m/berth:x/box:b1/**\n" +
		"used workload/a stow/item:change /m/berth:x/box:b0 1-9\n" +
		"used workload/a stow/item:change /m/berth:x/box:b1 1-30\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1 1-80\n" +
		"used workload/a stow/item:find /m/berth:x/box:b2 1-9\n" +
		"used workload/b stow/item:find /m/berth:x/box:b3 1-50")
	if err != nil {
		t.Fatal(err)
	}
	p := gauge.Place(in.Index, in.Uses, in.Span(), in.Place)
	var got []string
	for _, i := range p.Unplaced(in.Uses) {
		u := in.Uses.At(i)
		got = append(got, fmt.Sprintf("%s %d", u.Path, u.Count))
	}
	want := "/m/berth:x/box:b3 50, /m/berth:x/box:b1 30, /m/berth:x/box:b0 9, /m/berth:x/box:b2 9"
	if strings.Join(got, ", ") != want {
		t.Errorf("got %s, want %s", strings.Join(got, ", "), want)
	}
}

// TestUnplacedFirst: of calls that may have been of what goes those come first that were made most often.
func TestUnplacedFirst(t *testing.T) {
	in, err := gaugetest.Parse("inventory\ngrant g1 workload/a stow/item:change,stow/item:read /m/**\n" +
		"used workload/a stow/item:change /m/berth:q/box:b1 1-9\n" +
		"used workload/a stow/item:change /m/berth:w/box:b1 1-30\n" +
		"used workload/a stow/item:change /m/berth:z/box:b1 1-20\n")
	if err != nil {
		t.Fatal(err)
	}
	p := gauge.Place(in.Index, in.Uses, in.Span(), in.Place)
	r, err := rehearse.Run(in.Index, hand("workload/a", "-g1; stow/item:read /m/**"), in.Uses, p,
		gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, u := range r.Unplaced {
		got += fmt.Sprintf(" %d", u.Use.Count)
	}
	if got != " 30 20 9" {
		t.Errorf("got%s", got)
	}
}

// TestUnplaced: a call that cannot be placed fails a fence that takes away what it may have
// been a use of, and no other; whoever accepts the risk takes it.
func TestUnplaced(t *testing.T) {
	const grant = "inventory\n" +
		"grant g1 workload/a stow/item:change,stow/item:find,stow/item:read,stow/box:scrap,muster/grant:give /m/**\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80\n"
	for _, tt := range []struct{ name, used, fence, want string }{
		{"all is placed", "", "-g1; stow/item:read /m/**", "ok true, 0 not placed"},
		{"on a place that is not there, and its permission goes",
			"used workload/a stow/item:change /m/berth:z/box:b1 1-9", "-g1; stow/item:read /m/**",
			"ok false, 1 not placed"},
		{"on a place that is not there, and its permission stays",
			"used workload/a stow/item:change /m/berth:z/box:b1 1-9", "-g1; stow/item:read,stow/item:change /m/**",
			"ok true, 0 not placed"},
		{"an operation that nothing maps, of a service of which something goes",
			"used workload/a stow/item:fly /m/berth:x/box:b1 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok false, 1 not placed"},
		{"an operation that nothing maps, where a grant beside the one that goes reaches",
			"grant g2 workload/a stow/item:find /m/berth:x/box:b5/**\n" +
				"used workload/a stow/item:fly /m/berth:x/box:b5 1-9",
			"-g2; stow/item:find /m/berth:x/box:b5/**", "ok true, 0 not placed"},
		{"an operation that nothing maps, of a service that stays whole",
			"used workload/a muster/roll:call /m/berth:x 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok true, 0 not placed"},
		{"an operation that nothing maps, where nothing reaches, of a service of which something goes",
			"used workload/a stow/item:fly /elsewhere/box:b1 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok false, 1 not placed"},
		{"the same, of a service that stays whole",
			"used workload/a muster/roll:call /elsewhere/box:b1 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok true, 0 not placed"},
		{"an operation of no service that is known", "used workload/a mystery/box:open /m/berth:x/box:b1 1-9",
			"-g1; stow/item:read /m/**", "ok false, 1 not placed"},
		{"so long ago that its habit is over", "used workload/a stow/item:fly /m/berth:x/box:b1 300-390",
			"-g1; stow/item:read,muster/grant:give /m/**", "ok true, 0 not placed"},
		{"of one who cannot sign in any more",
			"used workload/a stow/item:fly /m/berth:x/box:b1 1-9\ndisabled workload/a",
			"-g1; stow/item:read /m/**", "ok true, 0 not placed"},
		{"another's", "used workload/b stow/item:fly /m/berth:x/box:b1 1-9", "-g1; stow/item:read /m/**",
			"ok true, 0 not placed"},
	} {
		in, err := gaugetest.Parse(grant + tt.used)
		if err != nil {
			t.Fatal(err)
		}
		p := gauge.Place(in.Index, in.Uses, in.Span(), in.Place)
		r, err := rehearse.Run(in.Index, hand("workload/a", tt.fence), in.Uses, p, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprintf("ok %t, %d not placed", r.OK(), len(r.Unplaced)); got != tt.want {
			t.Errorf("%s: %s, want %s; broken %v, widened %v", tt.name, got, tt.want, r.Broken, r.Widened)
		}
		if r.Accepted = true; !r.OK() {
			t.Errorf("%s: accepted, and it does not hold", tt.name)
		}
		if r.Cannot = []string{"a line"}; r.OK() {
			t.Errorf("%s: it holds, and the source cannot say it", tt.name)
		}
	}
}

// TestPerhapsMembers: of a group in which nobody is known to be, what unknown callers did may have been
// done by it.
func TestPerhapsMembers(t *testing.T) {
	const grant = "grant g1 group/g stow/item:change,stow/item:find,stow/item:read /m/berth:x/**\n" +
		"grant g9 workload/a stow/item:read /m/**\nused workload/a stow/item:read /m/berth:x/box:b1 1-9\n"
	for _, tt := range []struct{ name, more, fence, want string }{
		{"nobody unknown calls", "", "-g1", "ok true, 0 not placed"},
		{"somebody does, and it goes", "used person/x stow/item:find /m/berth:x/box:b1 1-80", "-g1",
			"ok false, 1 not placed"},
		{"somebody does, and whoever was in it left",
			"emptied group/g\nused person/x stow/item:find /m/berth:x/box:b1 1-80", "-g1", "ok true, 0 not placed"},
		{"it stays", "used person/x stow/item:find /m/berth:x/box:b1 1-80", "-g1; stow/item:find /m/berth:x/**",
			"ok true, 0 not placed"},
		{"it stays elsewhere", "used person/x stow/item:find /m/berth:x/box:b1 1-80",
			"-g1; stow/item:find /m/berth:x/box:b2/**", "ok false, 1 not placed"},
		{"something that the group does not give", "used person/x stow/box:scrap /m/berth:x/box:b1 1-80", "-g1",
			"ok true, 0 not placed"},
		{"it was refused", "refused person/x stow/item:find /m/berth:x/box:b1 1-80", "-g1", "ok true, 0 not placed"},
		{"so long ago that its habit is over", "used person/x stow/item:find /m/berth:x/box:b1 300-390", "-g1",
			"ok true, 0 not placed"},
		{"somebody is listed", "used person/x stow/item:find /m/berth:x/box:b1 1-80\nmember workload/b group/g", "-g1",
			"ok true, 0 not placed"},
		{"somebody listed, whom nothing explains", "used workload/b stow/item:find /m/berth:x/box:b1 1-80", "-g1",
			"ok false, 1 not placed"},
		{"who is in another group", "used workload/b stow/item:find /m/berth:x/box:b1 1-80\nmember workload/b group/h",
			"-g1", "ok true, 0 not placed"},
		{"of whom the log tells the groups", "used person/x stow/item:find /m/berth:x/box:b1 1-80\ngrouped person/x",
			"-g1", "ok true, 0 not placed"},
		{"who cannot sign in any more", "used workload/b stow/item:find /m/berth:x/box:b1 1-80\ndisabled workload/b",
			"-g1", "ok true, 0 not placed"},
		{"an open crowd gives it as well", "used person/x stow/item:find /m/berth:x/box:b1 1-80\n" +
			"grant g2 signed-in stow/item:find /m/**", "-g1", "ok false, 1 not placed"},
	} {
		in, err := gaugetest.Parse(grant + tt.more)
		if err != nil {
			t.Fatal(err)
		}
		p := gauge.Place(in.Index, in.Uses, in.Span(), in.Place)
		r, err := rehearse.Run(in.Index, hand("group/g", tt.fence), in.Uses, p, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprintf("ok %t, %d not placed", r.OK(), len(r.Unplaced)); got != tt.want {
			t.Errorf("%s: %s, want %s; broken %v, widened %v", tt.name, got, tt.want, r.Broken, r.Widened)
		}
	}
}

// TestUnplacedHours: of calls that are not placed each is asked by its own hours: a line that holds at
// some hours keeps what was done in them, and not what was done outside or when nobody knows.
func TestUnplacedHours(t *testing.T) {
	who, put := model.MustID("workload/a"), model.MustPermission("s/item:put")
	all := []model.PathPattern{model.MustPathPattern("/m/**")}
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")},
		{Path: model.MustPath("/m/box:a")}},
		Catalogue:  []model.CatalogueEntry{{Permission: put, Level: model.Change}},
		Identities: []model.Identity{{ID: who}},
		Grants:     []model.Grant{{ID: "g1", To: who, Rights: model.Permissions(put), Where: all}}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	f := &fence.Fence{Version: 2, For: model.MustID("m:workload/a"), Replaces: []string{"g1"}, Allow: []fence.Allow{{
		Do: []model.PermissionPattern{put.Pattern()}, Where: all, When: model.Condition{Hours: &model.Hours{
			Days: []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}, From: "08:00", To: "17:00",
			Zone: "UTC"}}}}}
	for _, tt := range []struct {
		hours []int // of a call each, on a place of its own that is not there; -1: it is not known
		want  int   // that may have been of what goes
	}{
		{[]int{9}, 0}, {[]int{22}, 1}, {[]int{9, 22}, 1}, {[]int{22, 9}, 1}, {[]int{9, 16, 10}, 0}, {[]int{9, 17}, 1},
		{[]int{-1, 9}, 1}, {[]int{9, -1}, 1},
	} {
		var uses []usage.Use
		for i, hour := range tt.hours {
			fold := usage.Fold{}
			fold.Add(usage.Call{Time: time.Date(2026, 11, 20, max(hour, 0), 30, 0, 0, time.UTC), Identity: who,
				Permission: put, Path: model.MustPath(fmt.Sprintf("/m/box:gone%d", i)), Outcome: usage.Done})
			u := fold.Uses()[0]
			if hour < 0 {
				u.Hours = 0
			}
			uses = append(uses, u)
		}
		list := usage.ListOf(uses...)
		w := usage.WindowOf(time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC), 90)
		p := gauge.Place(x, list, w, gauge.PlaceInput{Inventory: usage.NewInventory("m",
			[]model.Path{model.MustPath("/m"), model.MustPath("/m/box:a")}, nil)})
		r, err := rehearse.Run(x, f, list, p, gauge.DefaultWeights)
		if err != nil || len(r.Unplaced) != tt.want {
			t.Errorf("at %v: %v, %d may be of what goes, want %d", tt.hours, err, len(r.Unplaced), tt.want)
		}
	}
}
