package index_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
)

func id(s string) model.ID            { return model.MustID(s) }
func path(s string) model.Path        { return model.MustPath(s) }
func on(s string) []model.PathPattern { return []model.PathPattern{model.MustPathPattern(s)} }
func perms(ps ...string) (r model.Rights) {
	for _, p := range ps {
		r.Do = append(r.Do, model.MustPermissionPattern(p))
	}
	return r
}

// harbour is a small estate whose answers can be worked out by hand.
func harbour() *model.Estate {
	e := &model.Estate{Source: "s"}
	for _, p := range []string{"/s/harbour:o", "/s/harbour:o/berth:p", "/s/harbour:o/berth:p/box:b",
		"/s/harbour:o/berth:p/box:c", "/s/harbour:o/berth:p/errand:j", "/s/harbour:o/berth:q"} {
		e.Nodes = append(e.Nodes, model.Node{Path: path(p)})
	}
	e.Nodes[2].Labels = map[string]string{"tier": "gold"}
	e.Nodes[4].RunsAs = id("workload/w")
	for _, c := range []struct {
		p string
		l model.Level
	}{{"a/x:list", model.See}, {"a/x:get", model.Read}, {"a/x:set", model.Change}, {"b/y:admin", model.Administer}} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(c.p), Level: c.l})
	}
	for _, i := range []string{"person/a", "person/b", "workload/w", "group/g", "group/h"} {
		e.Identities = append(e.Identities, model.Identity{ID: id(i)})
	}
	e.Memberships = []model.Membership{{Member: id("person/a"), Group: id("group/g")},
		{Member: id("group/g"), Group: id("group/h")}}
	e.ActAs = []model.ActAs{{ID: "1", From: id("person/b"), To: id("workload/w")},
		{ID: "2", From: id("workload/w"), To: id("person/a")}}
	e.Grants = []model.Grant{
		{ID: "g-1", To: id("group/h"), Rights: perms("a/*:*"), Where: on("/s/harbour:o/berth:p/**")},
		{ID: "g-2", To: id("person/a"), Rights: perms("b/y:admin"), Where: on("/s/harbour:o/berth:p/box:b")},
		{ID: "g-3", To: id("workload/w"), Rights: perms("a/x:get"), Where: on("/s/harbour:o/berth:*/box:*/**"),
			When: model.Condition{Labels: map[string]string{"tier": "gold"}}},
		{ID: "g-4", To: id("person/b"), Rights: perms("a/x:list"), Where: on("/s/harbour:o/**"),
			When: model.Condition{SecondFactor: true}},
	}
	e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("person/a")}, Rights: perms("a/x:set"),
		Where: on("/s/harbour:o/berth:p/box:c/**")}}
	return e
}

func build(t testing.TB, e *model.Estate) *index.Index {
	t.Helper()
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// TestSparedStranger: somebody whom only a guardrail, or only a denial, names is known to both engines: it is
// spared, and nobody else.
func TestSparedStranger(t *testing.T) {
	e := harbour()
	e.Grants = append(e.Grants, model.Grant{ID: "g-5", To: id("everyone"), Rights: perms("a/x:*"),
		Where: on("/s/harbour:o/berth:q/**")})
	e.Guardrails = []model.Guardrail{{ID: "r-1", Node: path("/s/harbour:o/berth:q"), Rights: perms("a/x:list"),
		Unless: []model.ID{id("external/guest")}}}
	e.Denials = append(e.Denials, model.Denial{ID: "d-2", To: []model.ID{id("everyone")}, Rights: perms("a/x:set"),
		Where: on("/s/harbour:o/berth:q/**"), Unless: []model.ID{id("external/friend")}})
	x, p := build(t, e), plain.New(e)
	for _, tt := range []struct {
		who, perm string
		may       bool
	}{
		{"external/guest", "a/x:get", true}, {"external/friend", "a/x:get", false}, {"person/b", "a/x:get", false},
		{"external/guest", "a/x:set", false}, {"external/friend", "a/x:set", false}, {"person/b", "a/x:list", true},
	} {
		at := path("/s/harbour:o/berth:q")
		one := x.Decide(id(tt.who), model.MustPermission(tt.perm), at, model.Context{}).Outcome
		two := p.Decide(id(tt.who), model.MustPermission(tt.perm), at, model.Context{}).Outcome
		if one != two || (one == access.Allowed) != tt.may {
			t.Errorf("%s %s: %s, plainly %s, want allowed: %t", tt.who, tt.perm, one, two, tt.may)
		}
	}
}

// TestActAsGoes: an edit that takes an act-as edge away takes that one, for who can act as whom and for who may
// be acted as; what it does not name stays, and one that is not there is an error.
func TestActAsGoes(t *testing.T) {
	e := harbour()
	e.ActAs = []model.ActAs{{ID: "a-1", From: id("person/a"), To: id("workload/w")},
		{ID: "a-2", From: id("person/b"), To: id("workload/w")}}
	x := build(t, e)
	target, _ := x.Number(id("workload/w"))
	actors := func(x *index.Index) string {
		var out []string
		for _, a := range x.Actors([]int{target}) {
			out = append(out, x.ID(a.Identity).String())
		}
		slices.Sort(out)
		return strings.Join(out, " ")
	}
	v, err := x.With(access.Edit{Gone: access.Gone{ActAs: []string{"a-1"}}})
	if err != nil {
		t.Fatal(err)
	}
	if actors(x) != "person/a person/b" || actors(v) != "person/b" {
		t.Errorf("%q act as it before, %q after", actors(x), actors(v))
	}
	if !x.ActsAs(id("person/a")) || v.ActsAs(id("person/a")) || !v.ActsAs(id("person/b")) {
		t.Error("who acts as somebody")
	}
	if _, err := v.With(access.Edit{Gone: access.Gone{ActAs: []string{"a-1"}}}); !errors.Is(err, index.ErrUnknown) {
		t.Errorf("it goes once more: %v", err)
	}
}

// TestNewDenials: a view tells the denials that it has beyond what it was made of, also where some of those are gone
// again.
func TestNewDenials(t *testing.T) {
	x := build(t, harbour())
	denial := func(name string) model.Denial {
		return model.Denial{ID: name, To: []model.ID{id("person/a")}, Rights: model.Rights{
			Do: []model.PermissionPattern{model.MustPermissionPattern("*")}}, Where: []model.PathPattern{
			model.MustPathPattern("/s/**")}}
	}
	v, want := x, ""
	for i, d := range []access.Edit{
		{Come: access.Come{Denials: []model.Denial{denial("d-1"), denial("d-2")}}},
		{Gone: access.Gone{Denials: []string{"d-1"}}},
		{Come: access.Come{Denials: []model.Denial{denial("d-3")}}, Gone: access.Gone{Denials: []string{"d-2"}}},
	} {
		var err error
		if v, err = v.With(d); err != nil {
			t.Fatal(err)
		}
		var got []string
		for d := range v.NewDenials(x) {
			got = append(got, d.ID)
		}
		want = []string{"d-1 d-2", "d-2", "d-3"}[i]
		if strings.Join(got, " ") != want {
			t.Errorf("after %d edits: %v, want %s", i+1, got, want)
		}
	}
	for d := range x.NewDenials(x) {
		t.Errorf("%s is new in what it is in", d.ID)
	}
}

// TestSparing: the rules that spare the members of a group are told, guardrails and denials.
func TestSparing(t *testing.T) {
	e := harbour()
	e.Grants = append(e.Grants, model.Grant{ID: "g-5", To: id("everyone"), Rights: perms("a/x:*"),
		Where: on("/s/harbour:o/berth:q/**")})
	e.Guardrails = []model.Guardrail{{ID: "r-1", Node: path("/s/harbour:o/berth:q"), Rights: perms("a/x:list"),
		Unless: []model.ID{id("group/g")}}}
	e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{id("everyone")}, Rights: perms("a/x:set"),
		Where: on("/s/harbour:o/berth:q/**"), Unless: []model.ID{id("group/h")}}}
	x := build(t, e)
	r, ok := x.RulesIn(x.Whole())
	if !ok {
		t.Fatal("too many rules")
	}
	bits := map[string]uint64{}
	for _, g := range []string{"group/g", "group/h"} {
		n, _ := x.Number(id(g))
		bits[g] = r.Sparing(n)
	}
	g, h := bits["group/g"], bits["group/h"] // group/g is in group/h, and spared by both
	if h == 0 || g&h != h || g == h {
		t.Errorf("group/g is spared by %b, group/h by %b", g, h)
	}
}

// TestTotals sums up by hand what the walk sums up.
func TestTotals(t *testing.T) {
	x := build(t, harbour())
	for _, tt := range []struct {
		who  string
		mode index.Mode
		want string // permissions, nodes, pairs of list, read, write and administer
	}{
		{"person/a", index.Possible, "4 on 4: 4 4 3 1"}, // p, b, c and j; set is refused on c
		{"person/a", index.Certain, "4 on 4: 4 4 3 1"},
		{"group/g", index.Possible, "3 on 4: 4 4 4 0"}, // the denial names the person
		{"person/b", index.Possible, "1 on 6: 6 0 0 0"},
		{"person/b", index.Certain, "0 on 0: 0 0 0 0"}, // under a condition
		{"workload/w", index.Certain, "1 on 1: 0 1 0 0"},
		{"person/nobody", index.Possible, "0 on 0: 0 0 0 0"},
	} {
		w := x.NewWalk(tt.mode)
		nodes := x.Usable(w.Pieces(id(tt.who)))
		got := w.Totals(id(tt.who))
		if s := fmt.Sprintf("%d on %d: %d %d %d %d", got.Permissions.Count(), nodes, got.Pairs[model.See],
			got.Pairs[model.Read], got.Pairs[model.Change], got.Pairs[model.Administer]); s != tt.want {
			t.Errorf("%s, mode %d: %s, want %s", tt.who, tt.mode, s, tt.want)
		}
		if sums := w.Pairs(id(tt.who)); sums != got.Pairs { // what is refused inside is taken off
			t.Errorf("%s, mode %d: pairs %v, want %v", tt.who, tt.mode, sums, got.Pairs)
		}
		back := slices.Clone(w.Pieces(id(tt.who))) // of several identities they come in any order
		slices.Reverse(back)
		if n := x.Usable(back); n != nodes {
			t.Errorf("%s, mode %d: %d nodes from the last piece on, %d from the first", tt.who, tt.mode, n, nodes)
		}
	}
	w := x.NewWalk(index.Possible)
	some := x.NewSet()
	for i := range x.Numbers() {
		if x.Level(i) == model.Change {
			some.Add(i)
		}
	}
	if !w.Only(some, path("/s/harbour:o/berth:p/box:b")) {
		t.Error("the bucket is not known")
	}
	if got := w.Totals(id("person/a")); got.Permissions.Count() != 1 || got.Pairs[model.Change] != 1 {
		t.Errorf("write on the bucket: %+v", got)
	}
	if w.Only(some, path("/s/harbour:o/elsewhere")) {
		t.Error("a node that nobody lists is known")
	}
	if got := w.Totals(id("person/a")); got.Permissions.Count() != 0 {
		t.Errorf("below a node that nobody lists: %+v", got)
	}
}

// TestWalkAgain: a walk that summed up somebody whom every check lets through sums up the next one as a fresh one.
func TestWalkAgain(t *testing.T) {
	e := harbour()
	e.Semantics.Bypass = []model.ID{id("person/b")}
	x := build(t, e)
	w := x.NewWalk(index.Possible)
	for _, who := range []string{"person/b", "workload/w", "person/b", "person/a", "person/nobody", "person/a"} {
		got, want := w.Totals(id(who)), x.NewWalk(index.Possible).Totals(id(who))
		if !slices.Equal(got.Places, want.Places) || !slices.Equal(got.Permissions, want.Permissions) ||
			got.Pairs != want.Pairs || got.Bypass != (who == "person/b") {
			t.Errorf("%s: %+v, want %+v", who, got, want)
		}
	}
}

// TestListedDepth: what counts is what the inventory lists, also of what lies below it, and not what only
// stands above what is listed.
func TestListedDepth(t *testing.T) {
	x := build(t, harbour())
	for at, want := range map[string]int{"/s/harbour:o": 2, "/s/harbour:o/berth:p/box:b": 4,
		"/s/harbour:o/berth:p/box:b/leaf/2026": 4, "/s/harbour:o/berth:p/box:z": 3, "/s": 0, "/s/harbour:z": 0,
		"/elsewhere": 0} {
		if got := x.ListedDepth(path(at)); got != want {
			t.Errorf("%s: %d, want %d", at, got, want)
		}
	}
}

// TestListsBeside holds it against going through the inventory, on trees in which kinds lie in their like, and in the
// order of each: what was asked before must not count for what comes.
func TestListsBeside(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 31))
		e := harbour()
		e.Nodes = e.Nodes[:1]
		paths := []model.Path{e.Nodes[0].Path}
		for i := range 1 + r.IntN(30) {
			kind := []string{"hall", "berth", "box"}[r.IntN(3)]
			at := path(fmt.Sprintf("%s/%s:%d", paths[r.IntN(len(paths))], kind, i))
			paths = append(paths, at)
			e.Nodes = append(e.Nodes, model.Node{Path: at})
		}
		x := build(t, e)
		type child struct {
			of   model.Path
			kind string
		}
		want := map[child]bool{}
		for _, at := range paths {
			if up, ok := at.Parent(); ok {
				kind, _ := at.Last()
				want[child{up, kind}] = true
			}
		}
		for range 200 {
			c := child{paths[r.IntN(len(paths))], []string{"hall", "berth", "box", "crate", "harbour"}[r.IntN(5)]}
			if got := x.ListsBeside(c.of, c.kind); got != want[c] {
				t.Fatalf("seed %d: a %s right below %s: %t, want %t", seed, c.kind, c.of, got, want[c])
			}
		}
		if x.ListsBeside(path("/s/harbour:z"), "box") {
			t.Errorf("below what is not listed")
		}
	}
}

// TestWho names who may, on listed paths and others.
func TestWho(t *testing.T) {
	x := build(t, harbour())
	for _, tt := range []struct{ what, where, want string }{
		{"a/x:set", "/s/harbour:o/berth:p/box:b", "person/a allowed"},
		{"a/x:set", "/s/harbour:o/berth:p/box:c", ""},
		{"a/x:set", "/s/harbour:o/berth:p/box:c/new/thing", ""},
		{"a/x:set", "/s/harbour:o/berth:p/box:new", "person/a allowed"},
		{"a/x:get", "/s/harbour:o/berth:p/box:b", "person/a allowed, workload/w allowed"},
		{"a/x:get", "/s/harbour:o/berth:p/box:c", "person/a allowed"},
		{"a/x:get", "/s/harbour:o/berth:q/box:new/1", "workload/w allowed if"}, // its labels are not known
		{"a/x:list", "/s/harbour:o/berth:q", "person/b allowed if"},
		{"b/y:admin", "/s/harbour:o/berth:p/box:b/1", ""},
		{"c/not:listed", "/s/harbour:o", ""},
		{"a/not:listed", "/s/harbour:o/berth:p", "person/a allowed"}, // by pattern
	} {
		var got []string
		for _, h := range x.Who(model.MustPermission(tt.what), path(tt.where)) {
			got = append(got, fmt.Sprint(x.ID(h.Identity), " ", h.Outcome))
		}
		if s := strings.Join(got, ", "); s != tt.want {
			t.Errorf("who may %s on %s: %q, want %q", tt.what, tt.where, s, tt.want)
		}
	}
	var actors []string
	a, _ := x.Number(id("person/a"))
	for _, act := range x.Actors([]int{a}) {
		actors = append(actors, fmt.Sprintf("%s in %d", x.ID(act.Identity), len(act.Steps)))
	}
	if got := strings.Join(actors, ", "); got != "workload/w in 1, person/b in 2" {
		t.Errorf("who can act as person/a: %s", got)
	}
}

// TestTree asks for nodes.
func TestTree(t *testing.T) {
	e := harbour()
	e.Nodes = append(e.Nodes, model.Node{Path: path("/s/other:top")})
	x := build(t, e)
	if got := fmt.Sprint(x.Tops()); got != "[/s/harbour:o /s/other:top]" {
		t.Errorf("tops %s", got)
	}
	var scopes []string
	x.Scopes(path("/s/harbour:o"), func(p model.Path) { scopes = append(scopes, p.String()) })
	if got := strings.Join(scopes, " "); got != "/s/harbour:o/berth:p" { // q has nothing below it
		t.Errorf("scopes %s", got)
	}
	if got := fmt.Sprint(slices.Sorted(maps.Keys(x.Kinds(path(
		"/s/harbour:o/berth:p"))))); got != "[berth box errand]" {
		t.Errorf("kinds %s", got)
	}
	if got := x.Kinds(path("/s")); !got[""] || !got["harbour"] {
		t.Errorf("kinds from the top on: %v", got)
	}
	if got := fmt.Sprint(slices.Sorted(maps.Keys(x.Kinds(path("/s/harbour:o/berth:p/crate:9"))))); got != "[crate]" {
		t.Errorf("kinds of what nobody lists, beside others: %s", got)
	}
	if got := fmt.Sprint(slices.Sorted(maps.Keys(x.Kinds(path("/s/harbour:o/berth:p/box:b/deep"))))); got != "[box]" {
		t.Errorf("kinds of what continues a name: %s", got)
	}
	nodes, as := x.Running()
	if fmt.Sprint(nodes, as) != "[/s/harbour:o/berth:p/errand:j] [workload/w]" {
		t.Errorf("running %v as %v", nodes, as)
	}
	n := 0
	x.NodesLike(on("/s/*/*/box:*"), func(model.Path) { n++ })
	if n != 2 || x.Nodes() != 7 {
		t.Errorf("%d buckets of %d nodes", n, x.Nodes())
	}
	if l, ok := x.Node(path("/s/harbour:o/berth:p/box:b")); !ok || l["tier"] != "gold" {
		t.Errorf("labels %v, %t", l, ok)
	}
	if _, ok := x.Node(path("/s")); ok {
		t.Error("what lies above the tops is no node of the inventory")
	}
	if o, ok := x.Like(id("workload/a")); !ok || o != id("person/a") {
		t.Errorf("near workload/a is %s, %t", o, ok)
	}
}

// TestPaths finds every node again, and nothing else, in trees with hostile names.
func TestPaths(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		e := &model.Estate{Source: "s"}
		seen := map[model.Path]bool{path("/s"): true}
		all := []model.Path{path("/s")}
		names := []string{"a", "aa", "b/c", "b", "*", "%", "ø", "a:b", " ", "~", "**"}
		for range 200 {
			p := all[r.IntN(len(all))].Child([]string{"", "k", "kk"}[r.IntN(3)], names[r.IntN(len(names))])
			if !seen[p] && p.Depth() < 8 {
				seen[p] = true
				all = append(all, p)
				e.Nodes = append(e.Nodes, model.Node{Path: p})
			}
		}
		r.Shuffle(len(e.Nodes), func(i, j int) { e.Nodes[i], e.Nodes[j] = e.Nodes[j], e.Nodes[i] })
		e.Grants = []model.Grant{{ID: "g", To: id("person/a"), Rights: perms("*"),
			Where: []model.PathPattern{all[1+r.IntN(len(all)-1)].Below()}}}
		e.Catalogue = model.Catalogue{{Permission: model.MustPermission("a/x:get")}}
		x := build(t, e)
		found := 0
		x.NodesLike(nil, func(p model.Path) {
			if found++; !seen[p] {
				t.Errorf("seed %d: %s is no node", seed, p)
			}
		})
		if found != len(e.Nodes) || x.Nodes() != found {
			t.Errorf("seed %d: %d nodes, want %d", seed, found, len(e.Nodes))
		}
		plain := plain.New(e)
		for _, p := range all[1:] {
			for _, q := range []model.Path{p, p.Child("", "new"), p.Child("k", "a/"),
				p.Child("kk", "zz").Child("", "*")} {
				if _, ok := x.Node(q); ok != seen[q] {
					t.Errorf("seed %d: %s listed: %t", seed, q, ok)
				}
				perm := model.MustPermission("a/x:get")
				if want, got := plain.Decide(id("person/a"), perm, q,
					model.Context{}).Outcome, x.Decide(id("person/a"), perm, q, model.Context{}).Outcome; want != got {
					t.Errorf("seed %d: %s: %s, want %s", seed, q, got, want)
				}
			}
		}
	}
}

// TestLoad takes columns as they were written, and nothing less.
func TestLoad(t *testing.T) {
	x := build(t, harbour())
	columns := map[string][]byte{}
	for name, data := range x.Sections {
		columns[name] = data
	}
	load := func(c map[string][]byte) (*index.Index, error) {
		return index.Load(func(name string) ([]byte, bool) { b, ok := c[name]; return b, ok })
	}
	y, err := load(columns)
	if err != nil {
		t.Fatal(err)
	}
	if y.Source() != "s" || y.Identities() != x.Identities() || y.Permissions() != 4 || y.Size() != x.Size() {
		t.Errorf("loaded: %s, %d identities, %d permissions", y.Source(), y.Identities(), y.Permissions())
	}
	for name := range columns {
		less := maps.Clone(columns)
		delete(less, name)
		if _, err := load(less); !errors.Is(err, index.ErrDamaged) {
			t.Errorf("without %s: %v", name, err)
		}
	}
	for _, name := range []string{"identity", "permission", "place", "record.grant", "meta", "node.segment"} {
		less := maps.Clone(columns)
		less[name] = less[name][:len(less[name])-1]
		if _, err := load(less); !errors.Is(err, index.ErrDamaged) {
			t.Errorf("%s a byte short: %v", name, err)
		}
	}
	bad := maps.Clone(columns)
	bad["record.grant"] = []byte(strings.Repeat("?", len(bad["record.grant"])))
	z, err := load(bad)
	if err != nil {
		t.Fatal(err)
	}
	z.Decide(id("person/a"), model.MustPermission("a/x:get"), path("/s/harbour:o/berth:p"), model.Context{})
	if !errors.Is(z.Err(), index.ErrDamaged) {
		t.Errorf("a record that cannot be read: %v", z.Err())
	}
}

// TestSumOfPatterns: what a denial refuses on all places of a group's grant is not summed up, also
// where those are said by a pattern, which no single node stands for.
func TestSumOfPatterns(t *testing.T) {
	for _, tt := range []struct {
		where, denied string
		want          index.Sum
	}{
		{"/m/berth:a*/**", "", index.Sum{Holdings: 1, ByGroups: 1}},
		{"/m/berth:a*/**", "/m/**", index.Sum{Holdings: 1}},
		{"/m/berth:a*/**", "/m/berth:*/**", index.Sum{Holdings: 1}},
		{"/m/berth:a*/**", "/m/berth:b*/**", index.Sum{Holdings: 1, ByGroups: 1}},
		{"/m/berth:a1/**", "/m/**", index.Sum{Holdings: 1}},
		{"/m/berth:a1/**", "/m/berth:a1", index.Sum{Holdings: 1, ByGroups: 1}},
	} {
		e := &model.Estate{Source: "m", Catalogue: []model.CatalogueEntry{{Permission: model.MustPermission("a/b:c")}},
			Nodes:       []model.Node{{Path: path("/m")}, {Path: path("/m/berth:a1")}, {Path: path("/m/berth:b1")}},
			Identities:  []model.Identity{{ID: id("person/p")}, {ID: id("group/g")}},
			Memberships: []model.Membership{{Member: id("person/p"), Group: id("group/g")}},
			Grants:      []model.Grant{{ID: "g", To: id("group/g"), Rights: perms("a/b:c"), Where: on(tt.where)}}}
		if tt.denied != "" {
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{id("group/g")}, Rights: perms("a/*:*"),
				Where: on(tt.denied)}}
		}
		x := build(t, e)
		sets := [3]access.Set{x.NewSet(), x.NewSet(), x.NewSet()}
		listed := 0
		x.EachHolding(id("person/p"), func(h *access.Holding) { listed += h.Perms.Count() })
		if got := x.Sum(id("person/p"), &sets); got != tt.want || listed != tt.want.ByGroups {
			t.Errorf("on %s, denied on %q: %+v and %d listed, want %+v", tt.where, tt.denied, got, listed, tt.want)
		}
	}
}

// TestRegionHas: a region holds the nodes of its intervals, the first of each and not the one
// behind it.
func TestRegionHas(t *testing.T) {
	r := index.Region{{From: 2, To: 4}, {From: 6, To: 7}}
	for n, want := range []bool{false, false, true, true, false, false, true, false, false} {
		if got := r.Has(uint32(n)); got != want {
			t.Errorf("%d: %t", n, got)
		}
	}
	if (index.Region)(nil).Has(0) {
		t.Error("nothing has a node")
	}
}
