package cli

import (
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/model"
	"clipfence/internal/work"
)

// estateOf makes an estate of two buckets from grants, each "identity permission place" and
// "if" where it holds on a condition.
func estateOf(t *testing.T, grants ...string) *work.Source {
	t.Helper()
	e := &model.Estate{Source: "s"}
	for _, p := range []string{"/s/harbour:o", "/s/harbour:o/box:x", "/s/harbour:o/box:y"} {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
	}
	for _, p := range []string{"s/object:read", "s/object:write", "s/object:delete"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(p), Level: model.Read})
	}
	for i, text := range grants {
		f := strings.Fields(text)
		g := model.Grant{ID: fmt.Sprint(i), To: model.MustID(f[0]),
			Rights: model.Permissions(model.MustPermission("s/object:" + f[1])),
			Where:  []model.PathPattern{model.MustPathPattern("/s/harbour:o/" + f[2])}}
		g.When.SecondFactor = len(f) > 3
		e.Grants = append(e.Grants, g)
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	return &work.Source{Index: x}
}

// TestChanged compares two estates on two places, identity by identity.
func TestChanged(t *testing.T) {
	filter, err := work.NewPart("", "", "")
	if err != nil {
		t.Fatal(err)
	}
	nodes := []model.Path{model.MustPath("/s/harbour:o/box:x"), model.MustPath("/s/harbour:o/box:y")}
	compare := func(before, after []string) []work.IntoChange {
		return estateOf(t, after...).Into(estateOf(t, before...), nodes, filter, false).Changes
	}
	type list = []string
	for _, tt := range []struct {
		name          string
		before, after list
		want          string
	}{
		{"nothing", nil, nil, "nobody lost or gained anything here"},
		{"the same", list{"person/a read **"}, list{"person/a read **"}, "nobody lost or gained anything here"},
		{"the same in another way", list{"person/a read **"}, list{"person/a read box:x", "person/a read box:y/**"},
			"nobody lost or gained anything here"},
		{"elsewhere", list{"person/a read box:z"}, nil, "nobody lost or gained anything here"},
		{"lost", list{"person/a read **"}, nil, "no longer person/a"},
		{"gained", nil, list{"person/a read box:y"}, "new person/a"},
		{"more", list{"person/a read **"}, list{"person/a read **", "person/a write box:x"},
			"with more person/a (1 -> 2 permissions)"},
		{"less", list{"person/a read **", "person/a write **"}, list{"person/a read **"},
			"with less person/a (2 -> 1 permissions)"},
		{"on fewer nodes", list{"person/a read **"}, list{"person/a read box:x"},
			"with less person/a (1 pair lost, 0 gained, of permission and node)"},
		{"on more nodes", list{"person/a read box:x"}, list{"person/a read **"},
			"with more person/a (0 pairs lost, 1 gained, of permission and node)"},
		{"as many others", list{"person/a read **"}, list{"person/a write **"},
			"with other access person/a (2 pairs lost, 2 gained, of permission and node)"},
		{"as many elsewhere", list{"person/a read box:x"}, list{"person/a read box:y"},
			"with other access person/a (1 pair lost, 1 gained, of permission and node)"},
		{"other and fewer", list{"person/a read **", "person/a write **"}, list{"person/a delete **"},
			"with other access person/a (2 -> 1 permissions)"},
		{"under a condition", list{"person/a read **"}, list{"person/a read ** if"},
			"with less person/a (by conditions)"},
		{"free of a condition", list{"person/a read ** if"}, list{"person/a read **"},
			"with more person/a (by conditions)"},
		{"all of it", list{"person/a read **", "person/b read **", "person/b write **", "person/c read **"},
			list{"person/b read **", "person/c read **", "person/c write **", "person/d read **"},
			"no longer person/a; with less person/b (2 -> 1 permissions); with more person/c (1 -> 2 permissions); " +
				"new person/d"},
	} {
		if got := changeWords(compare(tt.before, tt.after), false); got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
	var many list
	for i := range 9 {
		many = append(many, fmt.Sprintf("person/p%d read **", i))
	}
	if got := changeWords(compare(many, nil), false); !strings.HasSuffix(got, "person/p4, and 4 more (--all)") {
		t.Errorf("many: %q", got)
	}
	if got := changeWords(compare(many, nil), true); !strings.HasSuffix(got, "person/p8") {
		t.Errorf("all of many: %q", got)
	}
}

// TestSentence tells steps so that a person can follow them.
func TestSentence(t *testing.T) {
	a, w, g := model.MustID("person/a"), model.MustID("workload/w"), model.MustID("group/g")
	top, project := model.MustPath("/s/harbour:o"), model.MustPath("/s/harbour:o/berth:p")
	p := model.MustPermission
	for _, tt := range []struct {
		name  string
		steps []escalate.Step
		want  string
	}{
		{"grants itself", []escalate.Step{{Who: a, Kind: model.EditGrants, Permission: p("id/grant:create"), At: top,
			Admin: top}}, "1. grants itself anything on /s/harbour:o (id/grant:create there)"},
		{"from above", []escalate.Step{{Who: a, Kind: model.EditGrants, Permission: p("id/grant:create"), At: top,
			Admin: project}}, "1. grants itself anything on /s/harbour:o/berth:p (id/grant:create on /s/harbour:o)"},
		{"joins", []escalate.Step{{Who: a, Kind: model.JoinGroup, Permission: p("id/group:join"), At: top, Becomes: g},
			{Who: a, Kind: model.EditGrants, Permission: p("id/grant:create"), At: top, Admin: top, By: g}},
			"1. joins group/g (id/group:join on /s/harbour:o); 2. grants itself anything on /s/harbour:o " +
				"(id/grant:create there, as a member of group/g)"},
		{"acts as another", []escalate.Step{{Who: a, Kind: escalate.ActAs, Becomes: w,
			Edge: &model.ActAs{How: "mint-token"}},
			{Who: w, Kind: model.EditGrants, Permission: p("id/grant:create"), At: top, Admin: top}},
			"1. acts as workload/w (mint-token); 2. as workload/w grants itself anything on /s/harbour:o " +
				"(id/grant:create there)"},
		{"in a way that nobody named", []escalate.Step{{Who: a, Kind: escalate.ActAs, Becomes: w, Edge: &model.ActAs{},
			Conditional: true}}, "1. acts as workload/w (act as), under conditions"},
		{"mints", []escalate.Step{{Who: a, Kind: model.MintCredential, Permission: p("id/key:mint"), At: top,
			Becomes: w}}, "1. mints a credential of workload/w (id/key:mint on /s/harbour:o)"},
		{"of anybody", []escalate.Step{{Who: a, Kind: model.MintCredential, Permission: p("id/key:mint"), At: top}},
			"1. mints a credential of anybody (id/key:mint on /s/harbour:o)"},
		{"runs as", []escalate.Step{{Who: a, Kind: model.RunAs, Permission: p("run/errand:edit"), At: project,
			Becomes: w, Self: true}},
			"1. makes code run as workload/w (run/errand:edit on /s/harbour:o/berth:p, which it grants itself)"},
		{"edits its role", []escalate.Step{{Who: a, Kind: model.EditRole, Permission: p("id/role:update"), At: top,
			Admin: project, Grant: "g-7"}},
			"1. puts anything into the role of grant g-7 (id/role:update on /s/harbour:o)"},
		{"lifts", []escalate.Step{{Who: a, Kind: model.LiftCeiling, Permission: p("id/ceiling:lift"), At: top},
			{Who: a, Kind: model.LiftGuardrail, Permission: p("id/rail:lift"), At: top},
			{Who: a, Kind: model.LiftDenial, Permission: p("id/denial:lift"), At: top, Denial: "d-1"}},
			"1. lifts its ceiling (id/ceiling:lift on /s/harbour:o); 2. lifts guardrails (id/rail:lift on " +
				"/s/harbour:o); 3. lifts denial d-1 (id/denial:lift on /s/harbour:o)"},
	} {
		if got := sentence(told(tt.steps)); got != tt.want {
			t.Errorf("%s:\n%s\nwant\n%s", tt.name, got, tt.want)
		}
	}
}

func TestPairWords(t *testing.T) {
	for _, tt := range []struct {
		pairs [model.HandOut + 1]uint64
		want  string
	}{
		{[model.HandOut + 1]uint64{}, "none"},
		{[model.HandOut + 1]uint64{model.Read: 1}, "1 (1 read)"},
		{[model.HandOut + 1]uint64{model.See: 2, model.HandOut: 1500}, "1,502 (1,500 hand-out, 2 see)"},
	} {
		if got := pairWords(tt.pairs); got != tt.want {
			t.Errorf("%v: %q, want %q", tt.pairs, got, tt.want)
		}
	}
}

// TestFilter takes the part of an answer that is asked for, and says what is wrong with
// what is asked.
func TestFilter(t *testing.T) {
	entry := model.CatalogueEntry{Permission: model.MustPermission("stow/item:read"), Level: model.Read}
	for _, tt := range []struct {
		permission, level, under string
		has                      bool
		err                      string
	}{
		{"", "", "", true, ""},
		{"stow/*:*", "", "", true, ""},
		{"post/*:*", "", "", false, ""},
		{"", "read", "", true, ""},
		{"", "change", "", false, ""},
		{"", "", "/s/harbour:o", true, ""},
		{"stow", "", "", false, "missing '/' after the service"},
		{"", "", "harbour:o", false, "does not begin with '/'"},
	} {
		f, err := work.NewPart(tt.permission, tt.level, tt.under)
		if tt.err != "" {
			if err == nil || !strings.Contains(err.Error(), tt.err) {
				t.Errorf("%+v: %v", tt, err)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		if f.Has(entry) != tt.has || f.Some != (tt.permission+tt.level+tt.under != "") {
			t.Errorf("%+v: has %t, a part: %t", tt, f.Has(entry), f.Some)
		}
	}
}

func TestComparisonWords(t *testing.T) {
	id := model.MustID("person/ann")
	for _, tt := range []struct {
		past                          bool
		lost, narrowed, gained, stays int
		want                          string
	}{
		{false, 0, 0, 0, 0, "person/ann would lose and gain nothing"},
		{true, 0, 0, 0, 0, "person/ann lost and gained nothing"},
		{false, 0, 0, 0, 3, "person/ann would lose nothing, gain nothing, keep 3 by other grants (permissions on " +
			"places)"},
		{true, 1204, 1, 2, 0, "person/ann lost 1,204, gained 2, keeps 1 on fewer places (permissions on places)"},
	} {
		count := map[string]int{}
		for k, n := range map[string]int{"lost": tt.lost, "narrowed": tt.narrowed, "gained": tt.gained,
			"stays": tt.stays} {
			if n > 0 {
				count[k] = n
			}
		}
		if got := comparisonWords(id, tt.past, count); got != tt.want {
			t.Errorf("%+v: %q, want %q", tt, got, tt.want)
		}
	}
}

// TestRefusalWords says of each layer what its rule is about.
func TestRefusalWords(t *testing.T) {
	do := func(patterns ...string) (out []model.PermissionPattern) {
		for _, p := range patterns {
			out = append(out, model.MustPermissionPattern(p))
		}
		return out
	}
	on := []model.PathPattern{model.MustPathPattern("/s/a/**"), model.MustPathPattern("/s/b"),
		model.MustPathPattern("/s/c")}
	ann, team := model.MustID("person/ann"), model.MustID("group/team")
	denial := &model.Denial{ID: "d-1", Rights: model.Rights{Do: do("stow/*:throw-out")}, Where: on[:1]}
	for _, tt := range []struct {
		name string
		r    access.Refusal
		want string
	}{
		{"denial", access.Denies(denial, []model.ID{ann, team}, model.True, model.Condition{}),
			"d-1 denies stow/*:throw-out on /s/a/**, named for person/ann in group/team"},
		{"denial by name", access.Denies(denial, []model.ID{ann}, model.True, model.Condition{}),
			"d-1 denies stow/*:throw-out on /s/a/**, named for person/ann"},
		{"denial under a condition", access.Denies(denial, []model.ID{ann}, model.Open,
			model.Condition{SecondFactor: true}),
			"d-1 denies stow/*:throw-out on /s/a/**, if " + model.Condition{SecondFactor: true}.String() +
				", named for person/ann"},
		{"guardrail", access.Bars(&model.Guardrail{ID: "l-1", Node: model.MustPath("/s/a"),
			Rights: model.Rights{Do: do("*"), Except: do("id/*:*")}}),
			"l-1 admits only */*:* but id/*:* on /s/a/**"},
		{"ceiling", access.Caps(&model.Ceiling{ID: "c-1", Of: ann,
			Rights: model.Rights{Do: do("a/*:*", "b/*:*", "c/*:*", "d/*:*")}, Where: on}),
			"c-1 admits only a/*:*, b/*:*, c/*:* and 1 more on /s/a/**, /s/b and 1 more"},
		{"a ceiling of nothing", access.Caps(&model.Ceiling{ID: "c-2", Of: ann, Where: on[1:2]}),
			"c-2 admits only nothing on /s/b"},
	} {
		if got := refusalWords(tt.r); got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}
