package risk

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

var now = usage.DayOf(time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC))

// estate has units of projects of boxes, and people in groups of four.
func estate(t testing.TB) *index.Index {
	t.Helper()
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}}}
	for i, verb := range []string{"read", "put", "share"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/box:" + verb),
			Level: []model.Level{model.Read, model.Change, model.HandOut}[i], Kinds: []string{"box"}})
	}
	for u := range 3 {
		for p := range 4 {
			for b := range 6 {
				e.Nodes = append(e.Nodes, model.Node{Path: box(u, p, b)})
			}
		}
	}
	for i := range 40 {
		id := model.MustID(fmt.Sprint("person/p", i))
		e.Identities = append(e.Identities, model.Identity{ID: id})
		group := model.MustID(fmt.Sprint("group/g", i/4))
		e.Memberships = append(e.Memberships, model.Membership{Member: id, Group: group})
	}
	for i := range 10 {
		e.Identities = append(e.Identities, model.Identity{ID: model.MustID(fmt.Sprint("group/g", i))})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

func box(u, p, b int) model.Path {
	return model.MustPath(fmt.Sprintf("/m/unit:u%d/project:p%d/box:day-%d", u, p, b))
}

// walk is a life in which everybody reads boxes of a project and now and then another one,
// with a chance a day.
func walk(r *rand.Rand, moves float64) []usage.Use {
	f := usage.Fold{}
	for i := range 40 {
		id := model.MustID(fmt.Sprint("person/p", i))
		u, p, b := i%3, i%4, r.IntN(6)
		for d := now - 399; d <= now; d++ {
			if r.Float64() < moves {
				if b = r.IntN(6); r.IntN(4) == 0 {
					p = r.IntN(4)
				}
			}
			f.Add(usage.Call{Time: d.Time(), Identity: id, Permission: model.MustPermission("s/box:read"),
				Path: box(u, p, b).Child("", "x"), Outcome: usage.Done})
		}
	}
	return f.Uses()
}

func allowed(_ int, u *usage.Use) bool { return u.Outcome.Allowed() }

// everything is granted for long; dark is where no log shows a permission.
type everything struct {
	x    *index.Index
	on   []model.PathPattern
	dark map[int][]model.PathPattern
}

func (e everything) Held(model.ID, usage.Day) map[int]Held {
	out := map[int]Held{}
	for perm := range e.x.Numbers() {
		out[perm] = Held{Since: now - 999, Where: e.on, Dark: e.dark[perm]}
	}
	return out
}

// TestParts: every place belongs to some part, the nodes of use to parts of use, and the same
// parts come again.
func TestParts(t *testing.T) {
	x := estate(t)
	p := NewPast(x, nil, usage.ListOf(walk(rand.New(rand.NewPCG(1, 1)), .02)...), now-399, now, allowed)
	read, _ := x.PermNumber(model.MustPermission("s/box:read"))
	for i := range 40 {
		id := model.MustID(fmt.Sprint("person/p", i))
		for perm := range x.Numbers() {
			parts := p.Parts(id, perm, now, Old)
			if len(parts) == 0 && perm != read {
				continue // nobody ever used it
			}
			if fmt.Sprint(parts) != fmt.Sprint(p.Parts(id, perm, now, Old)) {
				t.Fatalf("%s: the parts differ", id)
			}
			used := p.who[id].before(perm, now)
			for u := range 3 {
				for pr := range 4 {
					for b := range 7 { // one that nobody lists
						at := box(u, pr, b)
						k := slices.IndexFunc(parts, func(q Part) bool { return q.Holds(at) })
						if k < 0 {
							t.Fatalf("%s: no part holds %s", id, at)
						}
						if _, is := used[at]; is != (parts[k].Class == Used) {
							t.Fatalf("%s: %s is %s", id, at, parts[k].Class)
						}
					}
				}
			}
		}
	}
}

// TestFewDays: calls on fewer than five days open nothing around the nodes they were on, and
// neither does what peers did on as few.
func TestFewDays(t *testing.T) {
	x := estate(t)
	f := usage.Fold{}
	id := model.MustID("person/p0")
	for d := range 5 {
		for b := range 6 {
			f.Add(usage.Call{Time: (now - usage.Day(d)).Time(), Identity: id, Path: box(0, 0, b),
				Permission: model.MustPermission("s/box:share"), Outcome: usage.Done})
		}
		perm, _ := x.PermNumber(model.MustPermission("s/box:share"))
		p := NewPast(x, nil, usage.ListOf(f.Uses()...), now-399, now, allowed)
		peers := slices.ContainsFunc(p.Parts(model.MustID("person/p1"), perm, now, Old),
			func(q Part) bool { return q.Class == Peer })
		if peers != (d == 4) {
			t.Errorf("%d days of calls are evidence for peers: %t", d+1, peers)
		}
		around := slices.ContainsFunc(p.Parts(id, perm, now, Old), func(q Part) bool {
			return q.Class == Name || q.Class == Beside || q.Class == Near || q.Class == Rest
		})
		if around != (d == 4) {
			t.Errorf("%d days of calls open what lies around: %t", d+1, around)
		}
	}
}

// TestLearn: what is learned on a life is true of the days that come after it, class by class.
func TestLearn(t *testing.T) {
	x := estate(t)
	var want, got [classes]float64
	perm, _ := x.PermNumber(model.MustPermission("s/box:read"))
	for seed := range uint64(12) {
		uses := walk(rand.New(rand.NewPCG(seed, 2)), []float64{.002, .01, .03}[seed%3])
		then := now - Horizon
		p := NewPast(x, nil, usage.ListOf(uses...), now-399, then, allowed)
		m := Learn(p, then, everything{x: x}, nil)
		after := NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed)
		for id, h := range after.who {
			parts := p.Parts(id, perm, then, Old)
			hit := make([]bool, len(parts))
			for at, days := range h.perms()[perm].at {
				if days.Between(then+1, now).Count() > 0 {
					hit[slices.IndexFunc(parts, func(q Part) bool { return q.Holds(at) })] = true
				}
			}
			for i, q := range parts {
				want[q.Class] += m.Chance(q)
				if hit[i] {
					got[q.Class]++
				}
			}
		}
	}
	for _, c := range []Class{Used, Name, Beside, Near} {
		if got[c] > 20 && (want[c] < .7*got[c] || want[c] > 1.4*got[c]) {
			t.Errorf("%s: %.0f expected, %.0f happened", c, want[c], got[c])
		}
	}
}

// TestNoPast: without a past the priors speak, and what was never done has no chance.
func TestNoPast(t *testing.T) {
	m := Learn(NewPast(estate(t), nil, nil, now, now, allowed), now, everything{x: estate(t)}, nil)
	for c := range classes {
		prior := priors[c][0]
		if c == Used {
			prior = usedPriors[0][0]
		}
		if c == Comeback {
			prior = backPriors[0][0]
		} else if c == Peer || c == Near || c == Rest || c >= FirstHere {
			prior = 0
		}
		if x := m.Chance(Part{Class: c}); x < prior-1e-9 || x > prior+1e-9 {
			t.Errorf("%s: %f, want %f", c, x, prior)
		}
	}
}

// TestPattern: what names have in common is a pattern that all of them match, and no more
// than their numbers; a name that looks like a pattern stays a name.
func TestPattern(t *testing.T) {
	up := model.MustPath("/m/project:p")
	for _, tt := range []struct {
		names []string
		want  string
	}{
		{[]string{"day-1"}, "/m/project:p/box:day-*/**"},
		{[]string{"day-2024-01", "day-2024-12"}, "/m/project:p/box:day-2024-*/**"},
		{[]string{"day-2026-01", "day-2026-12"}, "/m/project:p/box:day-*-*/**"}, // a year ends,
		{[]string{"7", "8"}, "/m/project:p/box:*/**"},
		{[]string{"a*1", "a*2"}, "/m/project:p/box:a%2A*/**"},
	} {
		var like []model.Path
		for _, n := range tt.names {
			like = append(like, up.Child("box", n))
		}
		on, ok := pattern(up, like, 2026)
		if !ok || on.String() != tt.want {
			t.Errorf("%v: %s, %t, want %s", tt.names, on, ok, tt.want)
		}
		for _, n := range like {
			if !on.Matches(n) {
				t.Errorf("%s does not hold %s", on, n)
			}
		}
	}
}

// TestShortPast: a past of 60 days is looked at with half of it, and one of 20 days with nothing.
func TestShortPast(t *testing.T) {
	x := estate(t)
	for days, want := range map[usage.Day]float64{60: 3, 20: 1} {
		f := usage.Fold{}
		for ago := usage.Day(0); ago < days; ago++ {
			f.Add(usage.Call{Time: (now - ago).Time(), Identity: model.MustID("person/p1"), Path: box(0, 0, 0),
				Permission: model.MustPermission("s/box:read"), Outcome: usage.Done})
		}
		m := Learn(NewPast(x, nil, usage.ListOf(f.Uses()...), now-days+1, now, allowed), now, everything{x: x}, nil)
		if knows := m.seen[Used] > 0; knows != (days == 60) {
			t.Errorf("of %d days it is learned: %t", days, knows)
		} else if days == 60 && math.Abs(m.late.ahead-want) > .2 {
			t.Errorf("what was counted on 30 days is taken %g times", m.late.ahead)
		}
	}
}

// TestLike: the evidence is of parts with the same facts; where there are hardly any, of those
// that share the first ones, and never of parts that differ in all.
func TestLike(t *testing.T) {
	m := &Model{late: newOutlook(Horizon, Horizon), soon: newOutlook(Soon, Soon)}
	of := func(silence, days, quiet, sort, rhythm, newer int) Part {
		return Part{Class: Used, Bin: bin([2]int{silence, 6}, [2]int{days, 4}, [2]int{quiet, 3}, [2]int{sort, 4},
			[2]int{rhythm, 4}, [2]int{newer, 2})}
	}
	note := func(q Part, n, k int) {
		for i := range n {
			m.note(q, need{late: i < k}, 1, 1)
		}
	}
	note(of(0, 3, 0, 1, 1, 0), 2000, 1990)
	note(of(4, 1, 0, 0, 0, 0), 30, 6)
	note(of(4, 1, 0, 0, 0, 1), 10, 9)
	note(of(4, 3, 1, 2, 2, 1), 7, 3)
	note(of(5, 0, 0, 0, 0, 0), 4, 4)
	for _, tt := range []struct {
		q    Part
		n, k int
	}{
		{of(0, 3, 0, 1, 1, 0), 2000, 1990},
		{of(4, 1, 0, 0, 0, 0), 30, 6},
		{of(4, 1, 0, 0, 0, 1), 40, 15}, // too few with a newer one: with and without
		{of(4, 3, 1, 2, 2, 1), 47, 18}, // all of that silence
		{of(5, 0, 0, 0, 0, 0), 4, 4},   // no others, and it says how few
		{of(2, 0, 0, 0, 0, 0), 0, 0},
	} {
		if n, k, days := m.Like(tt.q); n != tt.n || k != tt.k || days != 90 {
			t.Errorf("%v: %d of %d within %d days, want %d of %d", tt.q.Bin, k, n, days, tt.k, tt.n)
		}
	}
}

// TestSoon: what is needed soon is needed within the horizon, so no chance of it is greater; what
// goes on all the time is needed soon, and what comes now and then about a third as likely as
// within three times as long. Also of a past that is shorter than the horizon.
func TestSoon(t *testing.T) {
	x := estate(t)
	read, _ := x.PermNumber(model.MustPermission("s/box:read"))
	for _, days := range []usage.Day{399, 120, 50} {
		first := now - days
		uses := walk(rand.New(rand.NewPCG(2, 2)), .01)
		for i := range uses {
			uses[i].Days = uses[i].Days.Between(first, now)
		}
		p := NewPast(x, nil, usage.ListOf(uses...), first, now, allowed)
		m := Learn(p, now, everything{x: x}, nil)
		var late, soon [classes]float64
		for i := range 40 {
			for _, q := range p.Parts(model.MustID(fmt.Sprint("person/p", i)), read, now, Old) {
				a, b := m.Chance(q), m.Soon(q)
				if b < 0 || b > a {
					t.Fatalf("%d days, %s: %f soon, %f within the horizon", days, q.Class, b, a)
				}
				if q.Class != Used || q.Bin/(4*3*4*4*2) == 0 { // used within two weeks
					late[q.Class], soon[q.Class] = late[q.Class]+a, soon[q.Class]+b
				}
			}
		}
		if r := soon[Used] / late[Used]; r < .6 {
			t.Errorf("%d days: of what is used now %.2f are expected soon, where %.2f are at all", days, soon[Used],
				late[Used])
		}
		if r := soon[Beside] / late[Beside]; r < .2 || r > .8 {
			t.Errorf("%d days: beside that, %.2f of %.2f", days, soon[Beside], late[Beside])
		}
	}
}

// TestKin: who works in one container after another, all called alike, is expected in the next one; what
// was done in those that are gone was not done on what they lay in.
func TestKin(t *testing.T) {
	e := &model.Estate{Source: "m", Catalogue: []model.CatalogueEntry{{Permission: model.MustPermission("s/box:put"),
		Level: model.Change, Kinds: []string{"box"}}, {Permission: model.MustPermission("s/space:delete"),
		Level: model.Change, Kinds: []string{"space"}}}}
	for _, p := range []string{"/m", "/m/space:try-60", "/m/space:try-60/box:a", "/m/space:other-1",
		"/m/space:other-1/box:a", "/m/space:main", "/m/space:main/box:a"} {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
	}
	ci, boss := model.MustID("workload/ci"), model.MustID("person/boss")
	e.Identities = []model.Identity{{ID: ci}, {ID: boss}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	f := usage.Fold{}
	call := func(d usage.Day, id model.ID, perm, at string) {
		f.Add(usage.Call{Time: d.Time(), Identity: id, Permission: model.MustPermission(perm),
			Path: model.MustPath(at), Outcome: usage.Done})
	}
	for n := range 61 { // one a week, the last one is there
		d := now - 7*usage.Day(60-n)
		at := fmt.Sprintf("/m/space:try-%d", n)
		for i := range usage.Day(6) {
			call(d-6+i, ci, "s/box:put", at+"/box:a")
		}
		if n < 60 {
			call(d, ci, "s/space:delete", at)
		}
	}
	for d := now - 399; d <= now; d += 5 {
		call(d, boss, "s/box:put", "/m/space:other-1/box:a")
	}
	uses := usage.ListOf(f.Uses()...)
	nodes := usage.InventoryOf(x, nil, nil)
	nodes.Witness(uses, func(p model.Permission) []string { c, _ := x.Entry(p); return c.Kinds })
	p := NewPast(x, nodes, uses, now-399, now, allowed)
	put, _ := x.PermNumber(model.MustPermission("s/box:put"))
	if at := model.MustPath("/m/space:try-3/box:a"); p.Node(at.Child("", "x")) != at ||
		p.Days(ci, put, at).Count() != 6 {
		t.Errorf("%s counts as %s, with %d days", at, p.Node(at.Child("", "x")), p.Days(ci, put, at).Count())
	}
	of := func(id model.ID, at string) Class {
		parts := p.Parts(id, put, now, Old)
		k := slices.IndexFunc(parts, func(q Part) bool { return q.Holds(model.MustPath(at)) })
		return parts[k].Class
	}
	for _, c := range []struct {
		id   model.ID
		at   string
		want Class
	}{
		{ci, "/m/space:try-60/box:a", Used},
		{ci, "/m/space:try-3/box:a", Used},
		{ci, "/m/space:try-60/box:b", Beside},
		{ci, "/m/space:try-61/box:a", Kin},
		{ci, "/m/space:other-1/box:a", Near},
		{ci, "/m/space:main/box:a", Near},
		{boss, "/m/space:other-1/box:a", Used},
		{boss, "/m/space:other-2/box:a", Near}, // one is no row
	} {
		if got := of(c.id, c.at); got != c.want {
			t.Errorf("%s on %s: %s, want %s", c.id, c.at, got, c.want)
		}
	}
	m := Learn(p, now, everything{x: x, on: []model.PathPattern{model.MustPathPattern("/m/**")}}, nil)
	for _, q := range p.Parts(ci, put, now, Old) {
		if q.Class == Kin && m.Chance(q) < .7 {
			t.Errorf("the next one is needed with %.2f", m.Chance(q))
		}
	}
}

// TestSeason: who did all that it ever did within one season, seen from its start and over, may come back in
// a year; nobody else is said to.
func TestSeason(t *testing.T) {
	x := estate(t)
	for _, c := range []struct {
		name        string
		from, to, n usage.Day // days ago, and each how many
		more        usage.Day // something else, so many days ago; 0: nothing
		want        bool
	}{
		{"a month in spring", 270, 240, 1, 0, true},
		{"a season of four months", 330, 211, 1, 0, true},
		{"a longer one", 330, 209, 1, 0, false},
		{"and something lately", 270, 240, 1, 3, false},
		{"over since 90 days", 120, 90, 1, 0, false},
		{"over since 91 days", 120, 91, 1, 0, true},
		{"on four days", 253, 250, 1, 0, false},
		{"on five days", 254, 250, 1, 0, true},
		{"from the start of the logs on", 399, 370, 1, 0, false},
		{"more than a year ago", 366, 340, 1, 0, false},
		{"a year ago", 365, 340, 1, 0, false},
		{"almost a year ago", 364, 340, 1, 0, true},
	} {
		f := usage.Fold{}
		id := model.MustID("person/p1")
		call := func(ago usage.Day) {
			f.Add(usage.Call{Time: (now - ago).Time(), Identity: id, Permission: model.MustPermission("s/box:read"),
				Path: box(0, 0, int(ago)%3), Outcome: usage.Done})
		}
		for ago := c.from; ago >= c.to; ago -= c.n {
			call(ago)
		}
		if c.more > 0 {
			call(c.more)
		}
		p := NewPast(x, nil, usage.ListOf(f.Uses()...), now-399, now, allowed)
		from, to, is := p.Season(id, now)
		if is != c.want || is && (from != now-c.from || to != now-c.to) {
			t.Errorf("%s: %t, %d to %d days ago", c.name, is, now-from, now-to)
		}
	}
	p := NewPast(x, nil, nil, now-399, now, allowed)
	if _, _, is := p.Season(model.MustID("person/p2"), now); is {
		t.Error("of who did nothing")
	}
}

// TestLaterUse: what was done after the day that is looked at is not known.
func TestLaterUse(t *testing.T) {
	x := estate(t)
	f := usage.Fold{}
	read := model.MustPermission("s/box:read")
	for i, ago := range []usage.Day{3, 30} {
		f.Add(usage.Call{Time: (now - ago).Time(), Identity: model.MustID(fmt.Sprint("person/p", i)), Permission: read,
			Path: box(0, 0, 0), Outcome: usage.Done})
	}
	p := NewPast(x, nil, usage.ListOf(f.Uses()...), now-399, now-10, allowed)
	perm, _ := x.PermNumber(read)
	if p.Used(model.MustID("person/p0"), perm) || !p.Used(model.MustID("person/p1"), perm) {
		t.Error("a use counts before it happened, or one of before does not")
	}
}
