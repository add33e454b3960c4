package draft

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestRestsOn: what a line rests on began with the first call on any of its paths and ended with the last, in
// whatever order they come.
func TestRestsOn(t *testing.T) {
	day := func(n int) time.Time { return gaugetest.Now.AddDate(0, 0, -n) }
	paths := []*gauge.PathUse{{First: day(30), Last: day(20)}, {First: day(50), Last: day(40), AtLeast: true},
		{First: day(10), Last: day(5)}}
	for _, order := range [][]int{{0, 1, 2}, {2, 1, 0}, {1, 2, 0}} {
		var e fence.Evidence
		for i, k := range order {
			note(&e, int64(i+1), paths[k])
		}
		if !e.First.Equal(day(50)) || !e.Last.Equal(day(5)) || e.Count != 6 || !e.AtLeast {
			t.Errorf("%v: %+v", order, e)
		}
	}
	if ended(1) != "1 grant" || ended(2) != "2 grants" {
		t.Errorf("%s, %s", ended(1), ended(2))
	}
}

// TestHeldBefore: a grant that is gone counts on days on which it was there, to the end of what is looked
// ahead from them; and what stands in its place is as old as it, as far as it lies inside.
func TestHeldBefore(t *testing.T) {
	now := usage.DayOf(gaugetest.Now)
	who, read := model.MustID("workload/a"), model.MustPermission("stow/item:read")
	for _, tt := range []struct {
		name         string
		today        string // the grant that is there, "" for none
		from, to     int    // days ago, of the one that is gone
		gone         string // its places
		day          int    // days ago
		held, places int    // since how many days, -1: not at all; on how many patterns
	}{
		{"long before", "", 500, 0, "/m/**", 90, 500, 1},
		{"today", "", 500, 0, "/m/**", 0, -1, 0},
		{"a short look ahead", "", 500, 0, "/m/**", 60, 500, 1},
		{"before it was made", "", 80, 0, "/m/**", 90, -1, 0},
		{"on its first day", "", 90, 0, "/m/**", 90, 90, 1},
		{"it went within the horizon", "", 500, 10, "/m/**", 90, -1, 0},
		{"at its end", "", 500, 10, "/m/**", 100, 500, 1},
		{"something narrower came, asked of then", "grant g workload/a stow/item:read /m/berth:x/** made-5", 500, 0,
			"/m/**", 90, 500, 2},
		{"and asked of today", "grant g workload/a stow/item:read /m/berth:x/** made-5", 500, 0, "/m/**", 0, 500, 1},
		{"long after it", "grant g workload/a stow/item:read /m/berth:x/** made-5", 500, 36, "/m/**", 0, 5, 1},
		{"soon after it", "grant g workload/a stow/item:read /m/berth:x/** made-5", 500, 35, "/m/**", 0, 500, 1},
		{"something wider came", "grant g workload/a stow/item:read /m/** made-5", 500, 0, "/m/berth:x/**", 0, 5, 1},
	} {
		in, err := gaugetest.Parse(tt.today)
		if err != nil {
			t.Fatal(err)
		}
		at := func(ago int) time.Time { return gaugetest.Now.AddDate(0, 0, -ago) }
		f := gauge.Former{From: at(tt.from), To: at(tt.to), Grant: model.Grant{ID: "gone", To: who,
			Where:  []model.PathPattern{model.MustPathPattern(tt.gone)},
			Rights: model.Rights{Do: []model.PermissionPattern{read.Pattern()}}}}
		x, err := in.Index.With(access.Edit{Come: access.Come{Grants: []model.Grant{f.Grant}}})
		if err != nil {
			t.Fatal(err)
		}
		in.Before = &gauge.Before{Gone: []gauge.Former{f}, Index: x}
		w := NewWorth(in, gauge.Run(in))
		n, _ := in.Index.PermNumber(read)
		h, held := w.Granted(who, now-usage.Day(tt.day))[n]
		since := int(now - h.Since)
		if !held {
			since = -1
		}
		if since != tt.held || len(h.Where) != tt.places {
			t.Errorf("%s: held since %d days on %v, want since %d on %d places", tt.name, since, h.Where, tt.held,
				tt.places)
		}
	}
}

// TestHeldSinceJoined: who joined a group has what the group was granted since then, by whichever way it got
// there first; what it was granted by name it has since that was made, and so has who was always there.
func TestHeldSinceJoined(t *testing.T) {
	in, err := gaugetest.Parse("grant g1 group/g stow/item:read /m/** made-500\n" +
		"grant g2 person/p stow/item:change /m/** made-400\ngrant g3 group/h stow/item:find /m/** made-300\n" +
		"member person/p group/g\nmember person/q group/g\nmember group/g group/h\nmember person/p group/h\n" +
		"member person/r group/h\nused person/q stow/item:read /m/berth:x/box:b1 1-80")
	if err != nil {
		t.Fatal(err)
	}
	now := usage.DayOf(gaugetest.Now)
	joined := func(member, group string, ago int) {
		if in.Joined == nil {
			in.Joined = map[model.Membership]time.Time{}
		}
		in.Joined[model.Membership{Member: model.MustID(member), Group: model.MustID(group)}] =
			gaugetest.Now.AddDate(0, 0, -ago)
	}
	joined("person/p", "group/g", 60)
	joined("person/p", "group/h", 20) // which it was in by group/g before
	joined("group/g", "group/h", 90)
	joined("person/r", "group/h", 10)
	w := NewWorth(in, gauge.Run(in))
	for _, tt := range []struct{ who, perm, want string }{
		{"person/p", "stow/item:read", "60"}, {"person/p", "stow/item:change", "400"},
		{"person/p", "stow/item:find", "60"}, {"person/q", "stow/item:read", "500"},
		{"person/q", "stow/item:find", "90"}, {"person/r", "stow/item:find", "10"},
		{"person/r", "stow/item:read", "not at all"},
	} {
		n, _ := in.Index.PermNumber(model.MustPermission(tt.perm))
		got := "not at all"
		if h, has := w.Granted(model.MustID(tt.who), now)[n]; has {
			got = fmt.Sprint(int(now - h.Since))
			for _, before := range []usage.Day{h.Since - 1, h.Since} {
				if _, had := w.Granted(model.MustID(tt.who), before)[n]; had != (before == h.Since) {
					t.Errorf("%s %s on day %d of %d: %v", tt.who, tt.perm, before, h.Since, had)
				}
			}
		}
		if got != tt.want {
			t.Errorf("%s has %s since %s days, want %s", tt.who, tt.perm, got, tt.want)
		}
	}
}

// TestWorthBefore: what an avoided break is worth goes by what was held before, too, but not by what was held for
// a while.
func TestWorthBefore(t *testing.T) {
	const used = "used workload/a stow/item:read /m/berth:x/box:b1 1-80\n"
	worth := func(text string, gone string, from, to int) float64 {
		in, err := gaugetest.Parse(used + text)
		if err != nil {
			t.Fatal(err)
		}
		if gone != "" {
			before, err := gaugetest.Parse(gone)
			if err != nil {
				t.Fatal(err)
			}
			f := gauge.Former{Grant: *before.Index.Grant(0), From: gaugetest.Now.AddDate(0, 0, -from),
				To: gaugetest.Now.AddDate(0, 0, -to)}
			x, err := in.Index.With(access.Edit{Come: access.Come{Grants: []model.Grant{f.Grant}}})
			if err != nil {
				t.Fatal(err)
			}
			in.Before = &gauge.Before{Gone: []gauge.Former{f}, Index: x}
		}
		return NewWorth(in, gauge.Run(in)).avoided
	}
	const wide, narrow = "grant wide workload/a stow/*:* /m/**", "grant g workload/a stow/item:read /m/berth:x/**"
	all, some := worth(wide, "", 0, 0), worth(narrow, "", 0, 0)
	if all <= some {
		t.Fatalf("everything is worth %v, something %v", all, some)
	}
	for _, tt := range []struct {
		name     string
		from, to int
		want     float64
	}{{"until today", 500, 0, all}, {"until last year", 900, 400, all}, {"for three months", 100, 10, all},
		{"for less", 100, 11, some}, {"for a day", 1, 0, some}} {
		if got := worth(narrow, wide, tt.from, tt.to); got != tt.want {
			t.Errorf("%s: %v, want %v", tt.name, got, tt.want)
		}
	}
}

// TestDrop: what goes on the same places is noted once, but what goes only later, or unseen, apart.
func TestDrop(t *testing.T) {
	where := []model.PathPattern{model.MustPathPattern("/m/**")}
	later := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	perms := func(n ...int) access.Set {
		s := make(access.Set, 1)
		for _, i := range n {
			s.Add(i)
		}
		return s
	}
	d := &drafter{}
	for _, g := range []given{{where: where, perms: perms(1)}, {where: where, perms: perms(2), from: later},
		{where: append(where, where...), perms: perms(3)}, {where: where, perms: perms(4), unseen: true},
		{where: where, perms: perms(5), from: later}, {where: where, perms: perms()}} {
		d.drop(g)
	}
	var got []string
	for _, g := range d.gone {
		got = append(got, fmt.Sprint(slices.Collect(g.perms.All()), len(g.where), g.unseen, g.from.Year()))
	}
	if s := strings.Join(got, "; "); s != "[1 3] 1 false 1; [2 5] 1 false 2027; [4] 1 true 1" {
		t.Errorf("it notes %s", s)
	}
}
