package escalate

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestNetwork holds the cut against trying every set of vertices.
func TestNetwork(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 5))
		n := 3 + r.IntN(5)
		type edge struct {
			from, to int
			cap      int64
		}
		var edges []edge
		f := &network{}
		f.vertices(n)
		for range r.IntN(3 * n) {
			e := edge{r.IntN(n), r.IntN(n), int64(r.IntN(6))}
			if r.IntN(8) == 0 {
				e.cap = math.MaxInt64
			}
			edges = append(edges, e)
			f.edge(e.from, e.to, e.cap)
		}
		value := func(in func(v int) bool) (sum int64, bounded bool) {
			for _, e := range edges {
				if in(e.from) && !in(e.to) {
					if e.cap == math.MaxInt64 {
						return 0, false
					}
					sum += e.cap
				}
			}
			return sum, true
		}
		best := int64(-1) // without bound
		for set := range 1 << n {
			if set&1 == 0 || set>>(n-1)&1 == 1 { // with the source, without the sink
				continue
			}
			if v, ok := value(func(v int) bool { return set>>v&1 == 1 }); ok && (best < 0 || v < best) {
				best = v
			}
		}
		if unbounded := f.max(0, n-1); unbounded != (best < 0) {
			t.Fatalf("seed %d: without bound: %t, want %t", seed, unbounded, best < 0)
		}
		if best < 0 {
			continue
		}
		side := f.side(0)
		if got, ok := value(func(v int) bool { return side[v] }); !ok || got != best {
			t.Fatalf("seed %d: a cut of %d, want %d", seed, got, best)
		}
	}
}

// scene builds an estate: a harbour with a berth and an errand in it that runs as
// somebody, and rules in short.
//
//	WHO may PERMISSION on PATH       a grant g-1, g-2, ...
//	WHO has ROLE on PATH             a grant of a role; "team" is not built in
//	WHO in GROUP                     a membership
//	WHO as WHO                       an act-as edge
//	deny|ceiling|guardrail WHO ...   a layer; behind a denial or a guardrail: whom it spares
func scene(t *testing.T, rules string) *model.Estate {
	t.Helper()
	e := &model.Estate{Source: "s"}
	for _, n := range []string{"/s/harbour:o", "/s/harbour:o/berth:p", "/s/harbour:o/berth:p/errand:j"} {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(n)})
	}
	e.Nodes[2].RunsAs = model.MustID("workload/root")
	for _, c := range []struct{ p, escalates, kinds string }{
		{"id/grant:create", model.EditGrants, "harbour berth"}, {"id/role:update", model.EditRole, "harbour"},
		{"id/group:join", model.JoinGroup, "harbour"},
		{"id/key:mint", model.MintCredential, "harbour"}, {"id/ceiling:lift", model.LiftCeiling, "harbour"},
		{"id/rail:lift", model.LiftGuardrail, "harbour"},
		{"id/denial:lift", model.LiftDenial, "harbour berth"}, {"run/errand:edit", model.RunAs, "errand berth"},
		{"run/errand:read", "", ""},
	} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(c.p),
			Level: model.Change, Escalates: c.escalates, Kinds: strings.Fields(c.kinds)})
	}
	e.Roles = []model.Role{{Name: "team", Rights: model.Permissions(model.MustPermission("run/errand:read"))},
		{Name: "fixed", Builtin: true, Rights: model.Permissions(model.MustPermission("run/errand:read"))}}
	for _, i := range []string{"person/a", "person/b", "person/boss", "workload/root", "workload/w", "group/g",
		"group/admins"} {
		e.Identities = append(e.Identities, model.Identity{ID: model.MustID(i)})
	}
	for rule := range strings.SplitSeq(rules, "; ") {
		f := strings.Fields(rule)
		on := func(s string) []model.PathPattern { return []model.PathPattern{model.MustPathPattern(s)} }
		do := func(s string) model.Rights {
			return model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(s)}}
		}
		id := fmt.Sprintf("g-%d", len(e.Grants)+1)
		switch {
		case rule == "":
		case f[0] == "deny":
			d := model.Denial{ID: "d-1", To: []model.ID{model.MustID(f[1])}, Rights: do(f[2]), Where: on(f[3])}
			for _, who := range f[4:] {
				d.Unless = append(d.Unless, model.MustID(who))
			}
			e.Denials = append(e.Denials, d)
		case f[0] == "ceiling":
			e.Ceilings = append(e.Ceilings, model.Ceiling{ID: "c-1", Of: model.MustID(f[1]), Rights: do(f[2]),
				Where: on("/s/**")})
		case f[0] == "guardrail":
			r := model.Guardrail{ID: "r-1", Node: model.MustPath(f[1]),
				Rights: model.Rights{Do: do("*").Do, Except: do(f[2]).Do}}
			for _, who := range f[3:] {
				r.Unless = append(r.Unless, model.MustID(who))
			}
			e.Guardrails = append(e.Guardrails, r)
		case f[1] == "may":
			e.Grants = append(e.Grants, model.Grant{ID: id, To: model.MustID(f[0]), Rights: do(f[2]), Where: on(f[4])})
		case f[1] == "has":
			e.Grants = append(e.Grants, model.Grant{ID: id, To: model.MustID(f[0]), Role: f[2], Where: on(f[4])})
		case f[1] == "in":
			e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID(f[0]),
				Group: model.MustID(f[2])})
		case f[1] == "as":
			e.ActAs = append(e.ActAs, model.ActAs{ID: fmt.Sprintf("a-%d", len(e.ActAs)+1), From: model.MustID(f[0]),
				To: model.MustID(f[2])})
		default:
			t.Fatalf("rule %q", rule)
		}
	}
	if err := e.Validate(); err != nil {
		t.Fatal(err)
	}
	return e
}

// TestRoutes tells the steps of person/a to the administration of a node, and what to
// take away.
func TestRoutes(t *testing.T) {
	for _, tt := range []struct {
		name, rules, node string
		want              string // kinds of the steps; "already"; "" for no way
		cut               string
	}{
		{"nothing", "", "/s/harbour:o", "", ""},
		{"is administrator", "person/a may id/grant:create on /s/harbour:o/**", "/s/harbour:o", "already", ""},
		{"above the node", "person/a may id/grant:create on /s/harbour:o", "/s/harbour:o/berth:p/errand:j", "already",
			""},
		{"not below it", "person/a may id/grant:create on /s/harbour:o/berth:p/**", "/s/harbour:o", "", ""},
		{"by a group", "group/g may id/grant:create on /s/harbour:o/**; person/a in group/g", "/s/harbour:o",
			"already", ""},
		{"joins the administrators",
			"group/admins may id/grant:create on /s/harbour:o/**; person/a may id/group:join on /s/harbour:o",
			"/s/harbour:o", "join-group edit-grants", "g-2"},
		{"joins another group",
			"group/g may id/grant:create on /s/harbour:o/**; person/a may id/group:join on /s/harbour:o",
			"/s/harbour:o", "join-group edit-grants", "g-2"},
		{"joining counts at the top only",
			"group/admins may id/grant:create on /s/harbour:o/**; person/a may id/group:join on " +
				"/s/harbour:o/berth:p/**", "/s/harbour:o", "", ""},
		{"mints the key of one",
			"person/boss may id/grant:create on /s/harbour:o/**; person/a may id/key:mint on /s/harbour:o",
			"/s/harbour:o", "mint-credential edit-grants", "g-2"},
		{"acts as one", "workload/w may id/grant:create on /s/harbour:o/**; person/a as workload/w", "/s/harbour:o",
			"act-as edit-grants", "g-1"},
		{"in two steps", "workload/root may id/grant:create on /s/harbour:o/**; person/a as workload/w; workload/w " +
			"as workload/root", "/s/harbour:o", "act-as act-as edit-grants", "g-1"},
		{"edits its role", "person/a has team on /s/harbour:o/**; person/a may id/role:update on /s/harbour:o",
			"/s/harbour:o", "edit-role edit-grants", "g-2"},
		{"no built-in one", "person/a has fixed on /s/harbour:o/**; person/a may id/role:update on /s/harbour:o",
			"/s/harbour:o", "", ""},
		{"edits a role to edit grants above",
			"person/a has team on /s/harbour:o; person/a may id/role:update on /s/harbour:o", "/s/harbour:o/berth:p",
			"edit-role edit-grants", "g-2"},
		{"changes a job", "workload/root may id/grant:create on /s/harbour:o/**; person/a may run/errand:edit on " +
			"/s/harbour:o/berth:p/**", "/s/harbour:o", "run-as edit-grants", "g-2"},
		{"grants itself to change it",
			"workload/root may id/grant:create on /s/harbour:o/**; person/a may id/grant:create on " +
				"/s/harbour:o/berth:p/**", "/s/harbour:o", "edit-grants run-as edit-grants", "g-2"},
		{"a denial stops it", "person/a may id/grant:create on /s/harbour:o/**; deny person/a id/grant:* /s/**",
			"/s/harbour:o", "", ""},
		{"a denial that a group is spared, which gives nothing else",
			"person/a may id/grant:create on /s/harbour:o/**; person/a may id/group:join on /s/harbour:o; " +
				"deny signed-in id/grant:* /s/** group/g", "/s/harbour:o", "join-group edit-grants", "g-1"},
		{"that it can lift", "person/a may id/*:* on /s/harbour:o/**; deny person/a id/grant:create /s/harbour:o",
			"/s/harbour:o", "lift-denial edit-grants", "g-1"},
		{"and none that refuses to be lifted", "person/a may id/*:* on /s/harbour:o/**; " +
			"deny person/a id/*:* /s/harbour:o", "/s/harbour:o", "", ""},
		{"a ceiling stops it", "person/a may id/grant:create on /s/harbour:o/**; ceiling person/a run/*:*",
			"/s/harbour:o", "", ""},
		{"that it can lift", "person/a may id/grant:create on /s/harbour:o/**; person/a may id/ceiling:lift on " +
			"/s/harbour:o; ceiling person/a id/ceiling:*", "/s/harbour:o", "lift-ceiling edit-grants", "g-1"},
		{"a guardrail stops it", "person/a may id/grant:create on /s/harbour:o/**; guardrail /s/harbour:o id/grant:*",
			"/s/harbour:o", "", ""},
		{"that it can lift", "person/a may id/grant:create on /s/harbour:o/**; person/a may id/rail:lift on " +
			"/s/harbour:o; guardrail /s/harbour:o id/grant:*", "/s/harbour:o", "lift-guardrail edit-grants", "g-1"},
		{"round a circle", "person/a as person/b; person/b as person/a; workload/w may id/grant:create on " +
			"/s/harbour:o/**; person/b as workload/w", "/s/harbour:o", "act-as act-as edit-grants", "g-1"},
		{"what everybody can", "signed-in may id/key:mint on /s/harbour:o; person/boss may id/grant:create on " +
			"/s/harbour:o/**", "/s/harbour:o", "mint-credential edit-grants", "g-1"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			x, err := index.Build(scene(t, tt.rules))
			if err != nil {
				t.Fatal(err)
			}
			g := New(x, []model.Path{model.MustPath(tt.node)})
			a, _ := x.Number(model.MustID("person/a"))
			got := ""
			for _, i := range g.Administrators(0) {
				if i == a {
					got = "already"
				}
			}
			for _, r := range g.CanBecome(0) {
				if r.Identity == a {
					var kinds []string
					for _, s := range r.Steps {
						kinds = append(kinds, s.Kind)
					}
					got = strings.Join(kinds, " ")
				}
			}
			if got != tt.want {
				t.Errorf("steps %q, want %q", got, tt.want)
			}
			cut, err := g.SmallestCut(Costs{Grant: func(*model.Grant) int64 { return 1 },
				ActAs: func(*model.ActAs) int64 { return 3 }})
			if err != nil {
				t.Fatal(err)
			}
			var names []string
			for _, gr := range cut.Grants {
				names = append(names, gr.ID)
			}
			for _, e := range cut.ActAs {
				names = append(names, e.ID)
			}
			if got := strings.Join(names, " "); got != tt.cut {
				t.Errorf("to take away %q, want %q", got, tt.cut)
			}
		})
	}
}

// TestConditional: a step that somebody may take whatever the call is none under a condition, by whichever
// of its grants that is so; each other one is.
func TestConditional(t *testing.T) {
	const both = "person/a may id/grant:create on /s/harbour:o/**; group/admins may id/grant:create on " +
		"/s/harbour:o/**; person/a may id/group:join on /s/harbour:o"
	steps := func(rules string, bound ...string) string {
		e := scene(t, rules)
		for i := range e.Grants {
			e.Grants[i].When.SecondFactor = slices.Contains(bound, e.Grants[i].ID)
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		g := New(x, []model.Path{model.MustPath("/s/harbour:o")})
		a, _ := x.Number(model.MustID("person/a"))
		var out []string
		for _, r := range g.CanBecome(0) {
			for _, s := range r.Steps {
				if r.Identity == a {
					out = append(out, fmt.Sprint(s.Kind, " ", s.Conditional))
				}
			}
		}
		return strings.Join(out, ", ")
	}
	const admins = "group/admins may id/grant:create on /s/harbour:o/**; person/a may id/group:join on /s/harbour:o"
	const refused = "person/a may id/grant:create on /s/harbour:o/**; person/a may id/denial:lift on /s/harbour:o; " +
		"deny person/a id/grant:create /s/harbour:o"
	for _, tt := range []struct {
		rules string
		bound []string
		want  string
	}{
		{admins, nil, "join-group false, edit-grants false"},
		{admins, []string{"g-1"}, "join-group false, edit-grants true"},
		{admins, []string{"g-2"}, "join-group true, edit-grants false"},
		{admins + "; person/a has team on /s/harbour:o/**; group/g has team on /s/harbour:o/**; " +
			"group/g may id/role:update on /s/harbour:o", []string{"g-1"}, "join-group false, edit-grants true"},
		{refused, nil, "lift-denial false, edit-grants false"},
		{refused, []string{"g-2"}, "lift-denial true, edit-grants false"},
		{refused + "; person/a may id/denial:lift on /s/harbour:o", []string{"g-2"},
			"lift-denial false, edit-grants false"},
	} {
		if got := steps(tt.rules, tt.bound...); got != tt.want {
			t.Errorf("%s, %v under a condition: %s, want %s", tt.rules, tt.bound, got, tt.want)
		}
	}
	e := scene(t, both)
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	a, _ := x.Number(model.MustID("person/a"))
	admin, _ := x.Number(model.MustID("group/admins"))
	for _, tt := range []struct {
		alone, by string
		sure, has bool
	}{{"sure", "sure", true, true}, {"sure", "", true, true}, {"", "sure", true, true},
		{"some", "sure", true, true}, {"sure", "some", true, true}, {"some", "some", false, true},
		{"", "some", false, true}, {"", "", false, false}} {
		var set holders
		for id, how := range map[int]string{a: tt.alone, admin: tt.by} {
			if how != "" {
				set = append(set, holder(id, how == "sure"))
			}
		}
		slices.Sort(set)
		if sure, has := either(a, admin, set.get); sure != tt.sure || has != tt.has {
			t.Errorf("alone %q, by a group %q: %v, %v", tt.alone, tt.by, sure, has)
		}
	}
}

// TestRoleHeld: whoever edits roles gets what it holds one by, where the labels of the place let it; and by one that
// it holds whatever the call rather than by another.
func TestRoleHeld(t *testing.T) {
	const two = "person/a may id/role:update on /s/harbour:o; person/a has team on /s/harbour:o"
	for _, tt := range []struct {
		rules   string
		at      string // the label of the place
		by      string
		sure    bool
		settled bool // everybody was worked out
	}{
		{two, "", "", false, false}, {two, "sea", "", false, false}, {two, "quay", "g-2", false, false},
		{two + "; person/a has team on /s/harbour:o/**", "quay", "g-3", true, false},
		{two + "; person/a has team on /s/harbour:o/**", "sea", "g-3", true, false},
		{two + "; person/a has fixed on /s/harbour:o/**", "sea", "", false, false},
		{two, "", "", false, true}, {two, "sea", "", false, true}, {two, "quay", "g-2", false, true},
		{two + "; person/a has team on /s/harbour:o/**", "quay", "g-3", true, true},
		{two + "; person/a has team on /s/harbour:o/**", "sea", "g-3", true, true},
	} {
		e := scene(t, tt.rules)
		e.Grants[1].When.Labels = map[string]string{"at": "quay"}
		e.Nodes[0].Labels = map[string]string{"at": tt.at}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		g := New(x, []model.Path{model.MustPath("/s/harbour:o")})
		if tt.settled {
			g.settle()
		}
		a, _ := x.Number(model.MustID("person/a"))
		var by *taken
		for _, by = range g.saturate(a).roles {
		}
		if is := by != nil; is != (tt.by != "") || is && (x.Grant(int(by.grant)).ID != tt.by || by.sure != tt.sure) {
			t.Errorf("%+v: %+v", tt, by)
		}
	}
}

// TestStates: who can take any step is counted, and nobody else.
func TestStates(t *testing.T) {
	for rules, want := range map[string]int{"": 0, "person/a may run/errand:read on /s/harbour:o/**": 0,
		"person/a may id/key:mint on /s/harbour:o":                                1,
		"person/a may id/grant:create on /s/harbour:o/**; person/b as workload/w": 2,
		"person/a may id/group:join on /s/harbour:o; person/b has team on /s/harbour:o/**; " +
			"person/b may id/role:update on /s/harbour:o": 2} {
		x, err := index.Build(scene(t, rules))
		if err != nil {
			t.Fatal(err)
		}
		if got := New(x, []model.Path{model.MustPath("/s/harbour:o")}).States(); got != want {
			t.Errorf("%q: %d can take a step, want %d", rules, got, want)
		}
	}
}

// TestCosts: what is dear stays, what must stay stays, and protected identities are
// left alone.
func TestCosts(t *testing.T) {
	const rules = "group/admins may id/grant:create on /s/harbour:o/**; person/a may id/group:join on " +
		"/s/harbour:o; person/b may id/group:join on /s/harbour:o"
	cost := func(prices map[string]int64) func(*model.Grant) int64 {
		return func(g *model.Grant) int64 { return prices[g.ID] }
	}
	for _, tt := range []struct {
		name      string
		prices    map[string]int64
		protected string
		want      string
	}{
		{"one for two", map[string]int64{"g-1": 1, "g-2": 1, "g-3": 1}, "", "g-1"},
		{"two that are cheaper", map[string]int64{"g-1": 9, "g-2": 2, "g-3": 3}, "", "g-2 g-3"},
		{"the one that may go", map[string]int64{"g-1": 9, "g-2": -1, "g-3": 1}, "", "g-1"},
		{"nothing may go", map[string]int64{"g-1": -1, "g-2": -1, "g-3": 1}, "", "uncuttable"},
		{"one of them is protected", map[string]int64{"g-1": 9, "g-2": 2, "g-3": 3}, "person/b", "g-2"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			x, err := index.Build(scene(t, rules))
			if err != nil {
				t.Fatal(err)
			}
			c := Costs{Grant: cost(tt.prices), ActAs: func(*model.ActAs) int64 { return 1 },
				Protected: map[model.ID]bool{}}
			if tt.protected != "" {
				c.Protected[model.MustID(tt.protected)] = true
			}
			cut, err := New(x, []model.Path{model.MustPath("/s/harbour:o")}).SmallestCut(c)
			got := "uncuttable"
			if !errors.Is(err, ErrUncuttable) {
				if err != nil {
					t.Fatal(err)
				}
				var names []string
				sum := int64(0)
				for _, gr := range cut.Grants {
					names = append(names, gr.ID)
					sum += tt.prices[gr.ID]
				}
				if sum != cut.Cost {
					t.Errorf("it costs %d, want %d", cut.Cost, sum)
				}
				got = strings.Join(names, " ")
			}
			if got != tt.want {
				t.Errorf("to take away %q, want %q", got, tt.want)
			}
		})
	}
}

// TestCutOrder: the edges of a cut come in the order of their names, whichever way they are found.
func TestCutOrder(t *testing.T) {
	for range 20 {
		e := scene(t, "workload/w may id/grant:create on /s/harbour:o/**; person/a as workload/w")
		for _, name := range []string{"person/q", "person/r", "person/s"} {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(name)})
			e.ActAs = append(e.ActAs, model.ActAs{ID: "a-of-" + name, From: model.MustID(name),
				To: model.MustID("workload/w")})
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		cut, err := New(x, []model.Path{model.MustPath("/s/harbour:o")}).SmallestCut(Costs{
			Grant: func(*model.Grant) int64 { return 100 }, ActAs: func(*model.ActAs) int64 { return 1 },
			Protected: map[model.ID]bool{model.MustID("workload/w"): true}})
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, a := range cut.ActAs {
			names = append(names, a.ID)
		}
		if len(names) != 4 || !slices.IsSorted(names) {
			t.Fatalf("to take away %v", names)
		}
	}
}

// TestBecomes: by joining a group one becomes that, by acting or running as somebody that one, by what one does
// before, nobody.
func TestBecomes(t *testing.T) {
	for rules, want := range map[string]string{
		"group/admins may id/grant:create on /s/harbour:o/**; person/a may id/group:join on /s/harbour:o; " +
			"person/a may id/denial:lift on /s/harbour:o; deny person/a id/group:join /s/harbour:o": "lift-denial, " +
			"join-group group/admins, edit-grants",
		"workload/w may id/grant:create on /s/harbour:o/**; person/a as workload/w": "act-as workload/w, edit-grants",
		"workload/root may id/grant:create on /s/harbour:o/**; person/a may run/errand:edit on " +
			"/s/harbour:o/berth:p/**": "run-as workload/root, edit-grants",
	} {
		x, err := index.Build(scene(t, rules))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range New(x, []model.Path{model.MustPath("/s/harbour:o")}).CanBecome(0) {
			for _, s := range r.Steps {
				got = append(got, strings.TrimSpace(fmt.Sprint(s.Kind, " ", s.Becomes)))
			}
		}
		if s := strings.Join(got, ", "); s != want {
			t.Errorf("%s: steps %q, want %q", rules, s, want)
		}
	}
}

// TestPruned: what the cut by flow takes away for the sake of steps that a denial refuses anyway is put back, also
// beside an act-as edge that has to go; and who loses administration of the node by the cut is told.
func TestPruned(t *testing.T) {
	const minted = "person/a may id/key:mint on /s/harbour:o; person/boss may id/grant:create on /s/harbour:o/**; " +
		"deny person/a id/key:mint /s/harbour:o"
	for _, tt := range []struct {
		rules, want, lose string
	}{
		{minted + "; person/a may id/group:join on /s/harbour:o; group/admins may id/grant:create on /s/harbour:o/**",
			"g-3", ""},
		{minted + "; person/a may id/group:join on /s/harbour:o; group/g may id/grant:create on /s/harbour:o/**; " +
			"person/b in group/g", "g-4", "person/b"},
		{minted + "; workload/w may id/grant:create on /s/harbour:o/**; person/a as workload/w", "a-1", ""},
	} {
		x, err := index.Build(scene(t, tt.rules))
		if err != nil {
			t.Fatal(err)
		}
		cut, err := New(x, []model.Path{model.MustPath("/s/harbour:o")}).SmallestCut(Costs{
			Grant: func(g *model.Grant) int64 {
				switch g.To.String() {
				case "person/a":
					return 5
				case "group/g":
					return 1
				}
				return -1
			}, ActAs: func(*model.ActAs) int64 { return 9 },
			Protected: map[model.ID]bool{model.MustID("person/boss"): true, model.MustID("workload/w"): true}})
		if err != nil {
			t.Fatal(err)
		}
		var got, lose []string
		for _, g := range cut.Grants {
			got = append(got, g.ID)
		}
		for _, a := range cut.ActAs {
			got = append(got, a.ID)
		}
		for _, n := range cut.Lose {
			lose = append(lose, x.ID(n).String())
		}
		if s, l := strings.Join(got, " "), strings.Join(lose, " "); s != tt.want || l != tt.lose {
			t.Errorf("%s:\nto take away %q, want %q; %q lose it, want %q", tt.rules, s, tt.want, l, tt.lose)
		}
	}
}

// TestLiftedByRole: whoever has everything on just the place of a denial by a role that it edits may lift it there.
func TestLiftedByRole(t *testing.T) {
	for on, want := range map[string]string{"/s/harbour:o/berth:p": "edit-role lift-denial edit-grants",
		"/s/harbour:o/berth:p/errand:j": ""} {
		x, err := index.Build(scene(t, "person/a has team on "+on+"; person/a may id/role:update on /s/harbour:o; "+
			"person/a may id/grant:create on /s/harbour:o/berth:p; "+
			"deny person/a id/grant:create /s/harbour:o/berth:p"))
		if err != nil {
			t.Fatal(err)
		}
		var kinds []string
		for _, r := range New(x, []model.Path{model.MustPath("/s/harbour:o/berth:p")}).CanBecome(0) {
			for _, s := range r.Steps {
				kinds = append(kinds, s.Kind)
			}
		}
		if got := strings.Join(kinds, " "); got != want {
			t.Errorf("by a role on %s: steps %q, want %q", on, got, want)
		}
	}
}
