package fence_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
)

// TestDenied: whoever leaves a group leaves the denials behind that name it or a group that
// it is in; those of everybody stay.
func TestDenied(t *testing.T) {
	id := model.MustID
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s/a:1")}}}
	for _, g := range []string{"group/held", "group/below", "group/free"} {
		e.Identities = append(e.Identities, model.Identity{ID: id(g)})
	}
	e.Memberships = []model.Membership{{Member: id("group/below"), Group: id("group/held")}}
	all := []model.PathPattern{model.MustPathPattern("/s/**")}
	e.Denials = []model.Denial{{ID: "d-all", To: []model.ID{{Kind: model.Everyone}}, Where: all},
		{ID: "d-1", To: []model.ID{id("group/held")}, Where: all}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	for group, want := range map[string]string{"group/held": "d-1", "group/below": "d-1", "group/free": "",
		"group/unheard-of": ""} {
		if got := fence.Denied(x, id(group)); got != want {
			t.Errorf("leaving %s leaves %q behind, want %q", group, got, want)
		}
	}
}

// TestEnds: the lines that end are told, those first that end first, and of those that end together the upper.
func TestEnds(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 12, n, 0, 0, 0, 0, time.UTC) }
	f := &fence.Fence{Allow: []fence.Allow{{Until: day(9)}, {}, {Until: day(3)}, {Until: day(9)}, {}}}
	if got := f.Ends(); !slices.Equal(got, []int{2, 0, 3}) {
		t.Errorf("%v", got)
	}
	if got := (&fence.Fence{Allow: []fence.Allow{{}}}).Ends(); got != nil {
		t.Errorf("of what lasts: %v", got)
	}
}

// TestNobodyListed: out of a group whose members only the log shows, a fence can take nobody.
func TestNobodyListed(t *testing.T) {
	id := model.MustID
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s")}},
		Identities: []model.Identity{{ID: id("person/a"), ByLog: true}, {ID: id("group/log"), ByLog: true},
			{ID: id("group/list")}},
		Memberships: []model.Membership{{Member: id("person/a"), Group: id("group/log")},
			{Member: id("person/a"), Group: id("group/list")}}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	for group, may := range map[string]bool{"group/log": false, "group/list": true} {
		if got := fence.MayLeave(x, id(group)); got != may {
			t.Errorf("MayLeave %s: %t", group, got)
		}
		f := &fence.Fence{Version: fence.FormatVersion, For: id("s:person/a"), Leaves: []model.ID{id(group)}}
		err := f.Validate(x)
		const why = "keeps no list of who is in group/log"
		if (err == nil) != may || err != nil && !strings.Contains(err.Error(), why) {
			t.Errorf("leaving %s: %v", group, err)
		}
	}
}

// TestSharedRoleOfALine: a line may name the role that is made for it, also one that is there, if that
// holds just what the line does; and each fault of a line is told by itself.
func TestSharedRoleOfALine(t *testing.T) {
	do := func(s ...string) (out []model.PermissionPattern) {
		for _, p := range s {
			out = append(out, model.MustPermissionPattern(p))
		}
		return out
	}
	who := model.MustID("person/a")
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s")}},
		Identities: []model.Identity{{ID: who}, {ID: model.MustID("group/g")}},
		Catalogue: []model.CatalogueEntry{{Permission: model.MustPermission("s/n:read")},
			{Permission: model.MustPermission("s/n:write")}},
		Roles: []model.Role{
			{Name: "same", Rights: model.Rights{Do: do("s/n:write", "s/n:read")}},
			{Name: "less", Rights: model.Rights{Do: do("s/n:write", "s/n:read"), Except: do("s/n:read")}},
			{Name: "more", Rights: model.Rights{Do: do("s/n:write", "s/n:read")}, Includes: []string{"same"}},
			{Name: "other", Rights: model.Rights{Do: do("s/n:read")}}},
		Grants: []model.Grant{{ID: "g", To: who, Rights: model.Rights{Do: do("s/*:*")},
			Where: []model.PathPattern{model.MustPathPattern("/s/**")}}}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	on := []model.PathPattern{model.MustPathPattern("/s")}
	both := do("s/n:read", "s/n:write")
	for _, tt := range []struct {
		line fence.Allow
		ok   bool
	}{
		{fence.Allow{Do: both, Where: on}, true},
		{fence.Allow{Do: both, As: "fresh-1", Where: on}, true},
		{fence.Allow{Do: both, As: "same", Where: on}, true}, // in whatever order
		{fence.Allow{Do: both, As: "less", Where: on}, false},
		{fence.Allow{Do: both, As: "more", Where: on}, false},
		{fence.Allow{Do: both, As: "other", Where: on}, false},
		{fence.Allow{Role: "same", As: "same", Where: on}, false},
		{fence.Allow{Do: both, As: "Big", Where: on}, false},
		{fence.Allow{Do: both, As: strings.Repeat("a", 60), Where: on}, true},
		{fence.Allow{Do: both, As: strings.Repeat("a", 61), Where: on}, false},
		{fence.Allow{Role: "same", Do: both, Where: on}, false},
		{fence.Allow{Where: on}, false},
		{fence.Allow{Role: "none", Where: on}, false},
		{fence.Allow{Role: "same"}, false},
		{fence.Allow{Do: both, Where: on, To: model.MustID("person/b")}, false}, // of a person there is no member
	} {
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("s:person/a"), Replaces: []string{"g"},
			Allow: []fence.Allow{tt.line}}
		if err := f.Validate(x); (err == nil) != tt.ok {
			t.Errorf("%+v: %v", tt.line, err)
		}
	}
}

// TestValidateDenies: a denial names permissions of the catalogue, places, and whom it spares in the
// source; a source that knows no denials is told so.
func TestValidateDenies(t *testing.T) {
	do := []model.PermissionPattern{model.MustPermissionPattern("a/b:c")}
	on := []model.PathPattern{model.MustPathPattern("/s/**")}
	for name, tt := range map[string]struct {
		line     fence.Deny
		additive bool
		want     string // a part of the fault
	}{
		"all of it": {fence.Deny{Do: do, Where: on}, false, ""},
		"it spares": {fence.Deny{Do: do, Where: on, Unless: []model.ID{model.MustID("person/p")}}, false, ""},
		"it spares, by name": {fence.Deny{Do: do, Where: on, Unless: []model.ID{model.MustID("s:person/p")}}, false,
			""},
		"it spares nobody that is there": {fence.Deny{Do: do, Where: on, Unless: []model.ID{model.MustID("person/q")}},
			false, "unless: person/q is no person"},
		"it spares everybody": {fence.Deny{Do: do, Where: on, Unless: []model.ID{model.MustID("everyone")}}, false,
			"unless: everyone is no person"},
		"it spares one of another source": {fence.Deny{Do: do, Where: on,
			Unless: []model.ID{model.MustID("t:person/p")}}, false,
			"unless: t:person/p is no person"},
		"no place":      {fence.Deny{Do: do}, false, "places (where)"},
		"no permission": {fence.Deny{Where: on}, false, "permissions (do)"},
		"no such permission": {fence.Deny{Do: []model.PermissionPattern{model.MustPermissionPattern("a/b:d")},
			Where: on}, false, "a/b:d\" is not in the catalogue"},
		"the source knows none": {fence.Deny{Do: do, Where: on}, true, "knows no denials"},
	} {
		x, err := index.Build(&model.Estate{Source: "s", Semantics: model.Semantics{Additive: tt.additive},
			Catalogue:  []model.CatalogueEntry{{Permission: model.MustPermission("a/b:c")}},
			Identities: []model.Identity{{ID: model.MustID("person/p")}}})
		if err != nil {
			t.Fatal(err)
		}
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("s:everyone"), Denies: []fence.Deny{tt.line}}
		err = f.Validate(x)
		if (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
		}
	}
}

// TestLends: a person may ask by the fence that is for them, or for a group that they are in, for what
// it leaves to be asked for on all of the places; nobody else, no workload, and not by one that leaves
// nothing.
func TestLends(t *testing.T) {
	id, all := model.MustID, model.MustPathPattern("/s/**")
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s/a:1")}}}
	for _, who := range []string{"person/a", "person/b", "workload/w", "group/g"} {
		e.Identities = append(e.Identities, model.Identity{ID: id(who)})
	}
	e.Memberships = []model.Membership{{Member: id("person/b"), Group: id("group/g")},
		{Member: id("workload/w"), Group: id("group/g")}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	ask := func(who string, where ...string) *fence.Fence {
		f := &fence.Fence{For: id("s:" + who)}
		for _, on := range where {
			f.Asks = append(f.Asks, fence.Ask{Where: []model.PathPattern{model.MustPathPattern(on)},
				Do: []model.PermissionPattern{model.MustPermissionPattern("a/b:c")}})
		}
		return f
	}
	here := model.MustPathPattern("/s/a:1/**")
	type (
		fences []*fence.Fence
		on     []model.PathPattern
	)
	for name, tt := range map[string]struct {
		fences fences
		who    string
		perm   string
		where  on
		want   bool
	}{
		"for themselves":        {fences{ask("person/a", "/s/**")}, "person/a", "a/b:c", on{here}, true},
		"for their group":       {fences{ask("group/g", "/s/**")}, "person/b", "a/b:c", on{here}, true},
		"for another":           {fences{ask("person/a", "/s/**")}, "person/b", "a/b:c", on{here}, false},
		"for another group":     {fences{ask("group/g", "/s/**")}, "person/a", "a/b:c", on{here}, false},
		"a workload asks not":   {fences{ask("group/g", "/s/**")}, "workload/w", "a/b:c", on{here}, false},
		"another permission":    {fences{ask("person/a", "/s/**")}, "person/a", "a/b:d", on{here}, false},
		"a part of the places":  {fences{ask("person/a", "/s/a:1/**")}, "person/a", "a/b:c", on{here, all}, false},
		"everywhere else":       {fences{ask("person/a", "/s/a:1/**")}, "person/a", "a/b:c", on{here, {}}, true},
		"nothing is left to it": {fences{ask("person/a")}, "person/a", "a/b:c", nil, false},
		"one of two": {fences{ask("person/b", "/s/**"), ask("person/a", "/s/**")}, "person/a", "a/b:c",
			on{here}, true},
		"no fence": {nil, "person/a", "a/b:c", on{here}, false},
	} {
		if got := fence.Lends(tt.fences, x, id(tt.who), model.MustPermission(tt.perm), tt.where); got != tt.want {
			t.Errorf("%s: %t, want %t", name, got, tt.want)
		}
	}
}

// TestValidateAsks: what may be asked for lies inside the grants that go, with all that they are bound to.
func TestValidateAsks(t *testing.T) {
	do := func(p string) []model.PermissionPattern {
		return []model.PermissionPattern{model.MustPermissionPattern(p)}
	}
	on := func(p string) []model.PathPattern { return []model.PathPattern{model.MustPathPattern(p)} }
	strong := model.Condition{SecondFactor: true}
	for _, tt := range []struct {
		name string
		ask  fence.Ask
		who  string
		want string // a part of the fault
	}{
		{"a part of a grant", fence.Ask{Do: do("a/b:c"), Where: on("/s/box:x/**")}, "s:person/p", ""},
		{"another permission", fence.Ask{Do: do("a/b:e"), Where: on("/s/box:x/**")}, "s:person/p", "lies inside"},
		{"another place", fence.Ask{Do: do("a/b:c"), Where: on("/s/box:z/**")}, "s:person/p", "lies inside"},
		{"two grants together", fence.Ask{Do: do("a/b:c"), Where: append(on("/s/box:x/**"), on("/s/box:y/**")...),
			When: strong}, "s:person/p", ""},
		{"as the grant is bound", fence.Ask{Do: do("a/b:c"), Where: on("/s/box:y/**"), When: strong}, "s:person/p",
			""},
		{"and without that", fence.Ask{Do: do("a/b:c"), Where: on("/s/box:y/**")}, "s:person/p", "lies inside"},
		{"a grant that stays", fence.Ask{Do: do("a/b:d"), Where: on("/s/box:x/**")}, "s:person/p", "lies inside"},
		{"a workload", fence.Ask{Do: do("a/b:c"), Where: on("/s/box:x/**")}, "s:workload/w", "asks nobody"},
		{"everybody", fence.Ask{Do: do("a/b:c"), Where: on("/s/box:x/**")}, "s:everyone", "nobody can ask"},
		{"nothing", fence.Ask{Where: on("/s/box:x/**")}, "s:person/p", "names permissions"},
	} {
		p := model.MustID("person/p")
		e := &model.Estate{Source: "s", Identities: []model.Identity{{ID: p}, {ID: model.MustID("workload/w")}}}
		for _, perm := range []string{"a/b:c", "a/b:d", "a/b:e"} {
			e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(perm)})
		}
		e.Grants = []model.Grant{{ID: "g-1", To: p, Rights: model.Rights{Do: do("a/b:c")}, Where: on("/s/box:x/**")},
			{ID: "g-2", To: p, Rights: model.Rights{Do: do("a/b:c")}, Where: on("/s/box:y/**"), When: strong},
			{ID: "g-3", To: p, Rights: model.Rights{Do: do("a/b:d")}, Where: on("/s/box:x/**")}}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID(tt.who), Replaces: []string{"g-1", "g-2"},
			Asks: []fence.Ask{tt.ask}}
		if tt.who != "s:person/p" {
			f.Replaces = nil
		}
		err = f.Validate(x)
		if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
	}
}
