package draft

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
)

// doer is who does what of some verbs where, every week, or did until 250 days ago.
type doer struct {
	who  string
	verb int
	at   model.Path
	past bool
}

// worked is a life in which some people, who are all in one group, do things every week by grants to it
// and to them.
func worked(t *testing.T, verbs int, boxes []int, grants []model.Grant, does []doer,
	bend ...func(*model.Estate)) *gauge.Input {
	t.Helper()
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	group := model.MustID("group/all")
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Identities: []model.Identity{{ID: group, Created: now.AddDate(-3, 0, 0)}},
		Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "all",
			Written: true}}}
	for i := range verbs + 1 {
		c := model.CatalogueEntry{Permission: verb(i), Level: model.Change, Kinds: []string{"box"},
			LogClass: "all"}
		if i == verbs { // which nobody does
			c.Level = model.HandOut
		}
		e.Catalogue = append(e.Catalogue, c)
	}
	for p, n := range boxes {
		up := model.MustPath(fmt.Sprintf("/m/project:%s", word(p)))
		e.Nodes = append(e.Nodes, model.Node{Path: up})
		for b := range n {
			e.Nodes = append(e.Nodes, model.Node{Path: up.Child("box", word(b))})
		}
	}
	for i := range grants {
		grants[i].Created = now.AddDate(-2, 0, 0)
	}
	e.Grants = grants
	f := usage.Fold{}
	seen := map[string]bool{}
	for i, d := range does {
		id := model.MustID(d.who)
		if !seen[d.who] {
			seen[d.who] = true
			e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
			e.Memberships = append(e.Memberships, model.Membership{Member: id, Group: group})
		}
		end := 0
		if d.past {
			end = 250
		}
		for day := 300 - i%7; day >= end; day -= 7 {
			f.Add(usage.Call{Time: now.AddDate(0, 0, -day), Path: d.at, Outcome: usage.Done, Identity: id,
				Permission: verb(d.verb)})
		}
	}
	for _, b := range bend {
		b(e)
	}
	return lived(t, e, f, now)
}

func verb(i int) model.Permission { return model.MustPermission(fmt.Sprintf("s/box:do%d", i)) }

func in(p int) model.Path { return model.MustPath(fmt.Sprintf("/m/project:%s", word(p))) }

// grantOf is a grant of some verbs, of all where there are none.
func grantOf(id, to, on string, verbs ...int) model.Grant {
	g := model.Grant{ID: id, To: model.MustID(to), Where: []model.PathPattern{model.MustPathPattern(on)}}
	for _, v := range verbs {
		g.Do = append(g.Do, verb(v).Pattern())
	}
	if len(verbs) == 0 {
		g.Do = []model.PermissionPattern{model.MustPermissionPattern("s/box:*")}
	}
	return g
}

// TestShort: a fence has 40 lines at most, whatever is done on how many places. Nothing that is used goes for
// that, and what is most dangerous goes all the same.
func TestShort(t *testing.T) {
	const verbs = 60
	var scattered, same, other []doer
	var ofSame, ofOther []model.Grant
	var boxes []int
	for i := range 60 {
		boxes = append(boxes, 2+i/4)
		at := in(i).Child("box", word(0))
		scattered = append(scattered, doer{who: fmt.Sprint("person/p", i%20), verb: (7 * i) % verbs, at: at},
			doer{who: fmt.Sprint("person/p", i%20), verb: (7*i + 1) % verbs,
				at: in((i+11)%60).Child("box", word(1))})
		same = append(same, doer{who: "person/p", at: at})
		other = append(other, doer{who: "person/p", verb: i, at: at})
		on := in(i).Below().String()
		ofSame = append(ofSame, grantOf(fmt.Sprint("g", i), "person/p", on, 0, verbs))
		ofOther = append(ofOther, grantOf(fmt.Sprint("g", i), "person/p", on, i, verbs))
	}
	whole := []model.Grant{grantOf("g", "group/all", "/m/**")}
	two := []model.Grant{grantOf("g", "group/all", "/m/**"), grantOf("h", "group/all", "/m/*/**")}
	for _, tt := range []struct {
		name         string
		for_         string
		grants       []model.Grant
		does         []doer
		lines, goes  int  // lines of the fence, and grants that it replaces
		wide, placed bool // some line is wider than it is worth; some line is no wider than a project
	}{
		{"a group that does everything everywhere", "group/all", whole, scattered, mostLines, 1, true, true},
		{"by two grants that give the same", "group/all", two, scattered, mostLines, 2, true, true},
		{"the same by a grant each", "person/p", ofSame, same, 1, 60, false, true},
		{"something else by a grant each", "person/p", ofOther, other, mostLines, mostLines, false, true},
		{"what fits", "group/all", whole, scattered[:30], 30, 1, false, true},
	} {
		t.Run(tt.name, func(t *testing.T) {
			in := worked(t, verbs, boxes, slices.Clone(tt.grants), tt.does)
			res := gauge.Run(in)
			f, err := FromUse(in, res, model.MustID(tt.for_), Options{Caution: 1e-9})
			if err != nil {
				t.Fatal(err)
			}
			if len(f.Allow) > tt.lines || len(f.Allow) < tt.lines/2 || len(f.Replaces) != tt.goes {
				t.Errorf("%d lines for %d grants, want up to %d for %d", len(f.Allow), len(f.Replaces), tt.lines,
					tt.goes)
			}
			wide, placed := false, false
			for _, a := range f.Allow {
				wide = wide || a.Evidence.Short
				placed = placed || slices.ContainsFunc(a.Where, func(on model.PathPattern) bool {
					n, ok := on.Node()
					_, deep := n.Parent()
					return ok && deep && n != model.MustPath("/m")
				})
				if a.Evidence.Count == 0 {
					t.Errorf("a line rests on nothing: %+v", a)
				}
			}
			if wide != tt.wide || placed != tt.placed {
				t.Errorf("wider than it is worth: %t, on projects: %t; want %t, %t", wide, placed, tt.wide, tt.placed)
			}
			r, err := rehearse.Run(in.Index, f, in.Uses, res.Placement, in.Weights)
			if err != nil || !r.OK() || len(r.Broken) > 0 {
				t.Errorf("it does not hold: %v, %+v", err, r)
			}
			after, err := in.Index.With(f.Edit("m"))
			if err != nil {
				t.Fatal(err)
			}
			least := map[bool]int{false: 1 << 20, true: 1 << 20} // boxes of what is left, and of what is narrowed
			for _, g := range tt.grants {
				narrowed := slices.Contains(f.Replaces, g.ID)
				node, _ := g.Where[0].Anchor()
				who := model.MustID(tt.does[0].who)
				box := node.Child("box", word(0))
				if up, ok := node.Parent(); !ok || up != model.MustPath("/m") {
					box = model.MustPath("/m/project:" + word(0) + "/box:" + word(0))
				}
				is := after.Decide(who, verb(verbs), box, model.Context{})
				if still := is.Outcome == access.Allowed; still == narrowed {
					t.Errorf("%s: what nobody does is allowed: %t, where it is narrowed: %t", g.ID, still, narrowed)
				}
				for p, n := range boxes {
					if node == model.MustPath("/m/project:"+word(p)) {
						least[narrowed] = min(least[narrowed], n)
						if !narrowed && n > least[true] {
							t.Errorf("%s, with %d boxes, is left, and one with %d is not", g.ID, n, least[true])
						}
					}
				}
			}
		})
	}
}

// TestJoined: what several grants give becomes one line only under the same conditions, for the same ones,
// with evidence of the same sort, and rests on the calls of all.
func TestJoined(t *testing.T) {
	on := func(p int) []model.PathPattern { return []model.PathPattern{in(p).Below()} }
	do := func(v ...int) (out []model.PermissionPattern) {
		for _, i := range v {
			out = append(out, verb(i).Pattern())
		}
		return out
	}
	used, past := fence.Evidence{Class: "used"}, fence.Evidence{Class: "past"}
	for _, tt := range []struct {
		name           string
		a, b           fence.Allow
		rights, places int // lines that are left
	}{
		{"the same rights", fence.Allow{Do: do(1), Where: on(1), Evidence: used},
			fence.Allow{Do: do(1), Where: on(2), Evidence: used}, 1, 2},
		{"the same places", fence.Allow{Do: do(1), Where: on(1), Evidence: used},
			fence.Allow{Do: do(2), Where: on(1), Evidence: past}, 2, 1},
		{"another sort of evidence", fence.Allow{Do: do(1), Where: on(1), Evidence: used},
			fence.Allow{Do: do(1), Where: on(2), Evidence: past}, 2, 2},
		{"under a condition", fence.Allow{Do: do(1), Where: on(1), Evidence: used},
			fence.Allow{Do: do(1), Where: on(1), When: model.Condition{SecondFactor: true}, Evidence: used}, 2, 2},
		{"until another day", fence.Allow{Do: do(1), Where: on(1), Evidence: used},
			fence.Allow{Do: do(1), Where: on(1), Until: time.Unix(9e9, 0), Evidence: used}, 2, 2},
		{"for one member", fence.Allow{Do: do(1), Where: on(1), Evidence: used},
			fence.Allow{Do: do(1), Where: on(1), To: model.MustID("person/p"), Evidence: used}, 2, 2},
		{"one role", fence.Allow{Role: "r", Where: on(1), Evidence: used},
			fence.Allow{Role: "r", Where: on(2), Evidence: used}, 1, 2},
		{"two roles", fence.Allow{Role: "r", Where: on(1), Evidence: used},
			fence.Allow{Role: "s", Where: on(1), Evidence: used}, 2, 2},
	} {
		for i, key := range []func(*fence.Allow) (string, bool){sameRights, samePlaces} {
			in := worked(t, 3, []int{1, 1, 1}, nil, nil)
			d := &drafter{in: in, r: gauge.Run(in), x: in.Index, fence: &fence.Fence{Allow: []fence.Allow{tt.a, tt.b}},
				from: make([][]drawn, 2)}
			d.join(key)
			want := []int{tt.rights, tt.places}[i]
			if len(d.fence.Allow) != want || len(d.from) != want {
				t.Errorf("%s: joined by %d: %+v, want %d lines", tt.name, i, d.fence.Allow, want)
			}
			for _, l := range []fence.Allow{tt.a, tt.b} { // nothing is lost
				if !slices.ContainsFunc(d.fence.Allow, func(a fence.Allow) bool {
					return len(less(l.Do, a.Do))+len(less(l.Where, a.Where)) == 0 && a.Role == l.Role
				}) {
					t.Errorf("%s: joined by %d, %+v is gone: %+v", tt.name, i, l, d.fence.Allow)
				}
			}
		}
	}
}
