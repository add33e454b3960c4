package risk

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// blind is a life of forty programs of two projects each: all put every few days, every other
// one also reads where it puts. In the projects that are dark no log shows reading.
func blind(t *testing.T, dark func(project int) bool, kinds ...string) (*index.Index, []usage.Use) {
	t.Helper()
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}}}
	for i, verb := range []string{"read", "put"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/box:" + verb),
			Level: []model.Level{model.Read, model.Change}[i], LogClass: verb, Kinds: kinds})
	}
	for p := range 12 {
		for b := range 6 {
			e.Nodes = append(e.Nodes, model.Node{Path: box(0, p, b)})
		}
	}
	f := usage.Fold{}
	for i := range 40 {
		id := model.MustID(fmt.Sprint("workload/w", i))
		e.Identities = append(e.Identities, model.Identity{ID: id})
		for d := now - 399 + usage.Day(i%3); d <= now; d += 3 {
			for _, p := range []int{i % 12, (i + 5) % 12} {
				for k, verb := range []string{"put", "read"} {
					if k == 1 && (i%2 == 1 || dark(p)) {
						continue
					}
					f.Add(usage.Call{Time: d.Time(), Identity: id, Path: box(0, p, i%6),
						Permission: model.MustPermission("s/box:" + verb), Outcome: usage.Done})
				}
			}
		}
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	return x, f.Uses()
}

// TestDark: what is done where no log shows it is judged by what is done where logs are on: who
// reads elsewhere is expected to read there too, and who does not is not.
func TestDark(t *testing.T) {
	place := func(p int) model.PathPattern {
		return model.MustPathPattern(fmt.Sprintf("/m/unit:u0/project:p%d/**", p))
	}
	x, uses := blind(t, func(p int) bool { return p == 0 }, "box")
	read, _ := x.PermNumber(model.MustPermission("s/box:read"))
	p := NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed)
	m := Learn(p, now, everything{x, []model.PathPattern{model.MustPathPattern("/m/**")},
		map[int][]model.PathPattern{read: {place(0)}}}, nil)
	if !m.KnowsDark(model.Read) {
		t.Fatal("a year of forty programs is too little")
	}
	for i := range 40 {
		if i%12 != 0 && (i+5)%12 != 0 {
			continue
		}
		parts := p.Hidden(model.MustID(fmt.Sprint("workload/w", i)), read, now, []model.PathPattern{place(0)})
		if len(parts) != 1 || parts[0].Class != DarkHere {
			t.Fatalf("w%d: %v", i, parts)
		}
		if c := m.Chance(parts[0]); i%2 == 0 && c < .6 || i%2 == 1 && c > .2 {
			t.Errorf("w%d reads in the dark with %.2f", i, c)
		}
	}
	// Somebody who is never seen there, and does not read elsewhere.
	parts := p.Hidden(model.MustID("workload/w1"), read, now, []model.PathPattern{place(0)})
	if len(parts) != 1 || parts[0].Class != DarkRest || m.Chance(parts[0]) > .1 {
		t.Errorf("%v, %f", parts, m.Chance(parts[0]))
	}
}

// TestNowhere: of what no log shows anywhere nobody knows whether it is used, however many records
// say so, and nothing is learned from it; also where the catalogue does not say on what kinds of
// node it is used, and the projects themselves, of which nobody reads anything, have no record.
func TestNowhere(t *testing.T) {
	for _, tt := range []struct {
		dark  int // projects of 12
		kinds []string
	}{{0, []string{"box"}}, {6, []string{"box"}}, {11, []string{"box"}}, {12, []string{"box"}}, {11, nil}, {12, nil}} {
		x, uses := blind(t, func(p int) bool { return p < tt.dark }, tt.kinds...)
		read, _ := x.PermNumber(model.MustPermission("s/box:read"))
		put, _ := x.PermNumber(model.MustPermission("s/box:put"))
		p := NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed)
		where := []model.PathPattern{model.MustPathPattern("/m/**")}
		var hidden []model.PathPattern
		for p := range tt.dark {
			hidden = append(hidden, model.MustPathPattern(fmt.Sprintf("/m/unit:u0/project:p%d/**", p)))
		}
		m := Learn(p, now, everything{x, where, map[int][]model.PathPattern{read: hidden}}, nil)
		all := tt.dark == 12
		if got := p.Shows(read); got == all || !p.Shows(put) {
			t.Errorf("%v: reading is shown %t, putting %t", tt, got, p.Shows(put))
		}
		g := Held{Where: where, Dark: hidden}
		if got := p.blind(read, &g); got != all {
			t.Errorf("%v: blind %t", tt, got)
		}
		if m.KnowsDark(model.Administer) {
			t.Errorf("%v: nobody has power, and something was learned of it", tt)
		}
		know := 0.0
		for bin, t := range m.late.bins[DarkHere] {
			if model.Level(bin/32/2) == model.Read {
				know += t.n
			}
		}
		if (know > 0) == all {
			t.Errorf("%v: learned from %.0f parts", tt, know)
		}
	}
}

// TestHiddenCovers: whatever is dark belongs to some part, and no part reaches beyond it.
func TestHiddenCovers(t *testing.T) {
	x, uses := blind(t, func(p int) bool { return p < 3 }, "box")
	read, _ := x.PermNumber(model.MustPermission("s/box:read"))
	p := NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed)
	for _, dark := range [][]string{{"/m/**"}, {"/m/unit:u0/project:p0/**"},
		{"/m/unit:u0/project:p0/box:day-1/**", "/m/unit:u0/project:p2/**"}, {"/m/unit:u0"}} {
		var on []model.PathPattern
		for _, d := range dark {
			on = append(on, model.MustPathPattern(d))
		}
		for i := range 40 {
			parts := p.Hidden(model.MustID(fmt.Sprint("workload/w", i)), read, now, on)
			for pr := range 12 {
				for b := range 6 {
					inside := false
					for _, d := range on {
						inside = inside || d.Matches(box(0, pr, b))
					}
					held := 0
					for _, q := range parts {
						if q.Holds(box(0, pr, b)) {
							held++
						}
					}
					if inside != (held > 0) {
						t.Fatalf("%v, w%d: %s is in %d parts: %v", dark, i, box(0, pr, b), held, parts)
					}
				}
			}
		}
	}
}

// TestNewYear: a pattern of names holds next year's as well.
func TestNewYear(t *testing.T) {
	up := model.MustPath("/m/project:p")
	like := []model.Path{up.Child("box", "log-2026-11"), up.Child("box", "log-2026-12")}
	on, ok := pattern(up, like, 2026)
	if !ok || !on.Matches(up.Child("box", "log-2027-01")) {
		t.Errorf("%s, %t", on, ok)
	}
}

// lately is granted everything, where no log showed some places of a permission until it was switched on.
type lately struct {
	everything
	on usage.Day
}

func (l lately) Held(id model.ID, day usage.Day) map[int]Held {
	if day >= l.on {
		return everything{l.x, l.everything.on, nil}.Held(id, day)
	}
	out := l.everything.Held(id, day)
	for perm, h := range out {
		h.Hid = func(at model.Path) bool {
			return slices.ContainsFunc(h.Dark, func(on model.PathPattern) bool { return on.Matches(at) })
		}
		out[perm] = h
	}
	return out
}

// TestSwitchedOn: what a log shows that was switched on after a landmark says nothing of what was to be expected as
// of that day: what is learned is the same whether anything was done there or not, in the places themselves, in those
// that lie beside and around them and in what stands for what no log shows.
func TestSwitchedOn(t *testing.T) {
	x := estate(t)
	read, _ := x.PermNumber(model.MustPermission("s/box:read"))
	const on = 60 // days ago
	uses := walk(rand.New(rand.NewPCG(5, 0)), .02)
	hidden := model.MustPathPattern("/m/unit:*/project:p1/**")
	shown, without := usage.Fold{}, usage.Fold{}
	for i := range 40 { // everybody is known by something, or counts for nobody's peer
		c := usage.Call{Time: (now - 390).Time(), Identity: model.MustID(fmt.Sprint("person/p", i)),
			Permission: model.MustPermission("s/box:read"), Path: box(0, 0, 0), Outcome: usage.Done}
		shown.Add(c)
		without.Add(c)
	}
	there := 0
	for _, u := range uses {
		for _, day := range u.Days.List() {
			c := usage.Call{Time: day.Time(), Identity: u.Identity, Permission: u.Permission, Path: u.Path,
				Outcome: u.Outcome}
			if hidden.Matches(u.Path) {
				if day <= now-on {
					continue // no log shows it
				}
				shown.Add(c)
				there++
				continue
			}
			shown.Add(c)
			without.Add(c)
		}
	}
	if there < 300 {
		t.Fatalf("%d days of use where a log was switched on", there)
	}
	granted := lately{everything{x, []model.PathPattern{model.MustPathPattern("/m/**")},
		map[int][]model.PathPattern{read: {hidden}}}, now - on}
	learned := func(uses []usage.Use) *Model {
		return Learn(NewPast(x, nil, usage.ListOf(uses...), now-399, now, allowed), now, granted, nil)
	}
	was, is := learned(without.Uses()), learned(shown.Uses())
	same := func(a, b tally) bool { return a.n == b.n && a.k == b.k && math.Abs(a.more-b.more) < 1e-9 }
	for c := range Dark {
		if got, want := is.late.bins[c], was.late.bins[c]; !maps.EqualFunc(got, want, same) {
			t.Errorf("%v: learned %v, and %v where nothing is done there", c, got, want)
		}
		if got, want := is.soon.bins[c], was.soon.bins[c]; !maps.EqualFunc(got, want, same) {
			t.Errorf("%v: soon: learned %v, and %v where nothing is done there", c, got, want)
		}
	}
}
