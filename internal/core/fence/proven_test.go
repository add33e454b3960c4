package fence_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
)

// TestChanged: whatever changes what a grant or a role gives is noticed, and nothing else is.
func TestChanged(t *testing.T) {
	do := func(s ...string) (out []model.PermissionPattern) {
		for _, p := range s {
			out = append(out, model.MustPermissionPattern(p))
		}
		return out
	}
	on := func(s ...string) (out []model.PathPattern) {
		for _, p := range s {
			out = append(out, model.MustPathPattern(p))
		}
		return out
	}
	estate := func() *model.Estate {
		return &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s/a:1")}},
			Catalogue: model.Catalogue{{Permission: model.MustPermission("p/q:r")},
				{Permission: model.MustPermission("p/q:w")}},
			Identities: []model.Identity{{ID: model.MustID("person/a")}, {ID: model.MustID("person/b")}},
			Roles: []model.Role{{Name: "r", Rights: model.Rights{Do: do("p/q:r", "p/q:w")}},
				{Name: "o", Rights: model.Rights{Do: do("p/q:r")}},
				{Name: "both", Includes: []string{"o", "r"}}},
			Grants: []model.Grant{
				{ID: "1", To: model.MustID("person/a"), Role: "r", Where: on("/s/a:1/**", "/s/a:2/**")},
				{ID: "3", To: model.MustID("person/a"), Role: "both", Where: on("/s/a:1")},
				{ID: "2", To: model.MustID("person/a"), Rights: model.Rights{Do: do("p/q:r")}, Where: on("/s/**")}}}
	}
	f := &fence.Fence{For: model.MustID("s:person/a"), Replaces: []string{"1", "3"},
		Allow: []fence.Allow{{Role: "o", Where: on("/s/a:1/**")}, {Role: "r", Where: on("/s/a:2/**")},
			{Role: "o", Where: on("/s/a:2/**")}}} // one role twice
	changed := func(e *model.Estate) []string {
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		return f.Changed(x)
	}
	if got := changed(estate()); got != nil {
		t.Fatalf("what was never proven has changed: %v", got)
	}
	x, err := index.Build(estate())
	if err != nil {
		t.Fatal(err)
	}
	if !f.Proven.IsZero() {
		t.Error("a fence that was never proven says something")
	}
	f.Prove(x, time.Time{}, nil)
	if expects := 0.0; f.Proven.IsZero() || (fence.Proven{Expects: &expects}).IsZero() ||
		(fence.Proven{Until: time.Unix(1, 0)}).IsZero() {
		t.Error("a fence that was proven says nothing")
	}
	if n := len(f.Proven.Rights); n != 4 {
		t.Fatalf("%d grants and roles, want 4", n)
	}
	for _, tt := range []struct {
		what string
		do   func(e *model.Estate)
		want string
	}{
		{"nothing", func(*model.Estate) {}, ""},
		{"a grant it does not replace", func(e *model.Estate) { e.Grants[2].Where = on("/s/a:1") }, ""},
		{"the order of places", func(e *model.Estate) { e.Grants[0].Where = on("/s/a:2/**", "/s/a:1/**") }, ""},
		{"the order of permissions", func(e *model.Estate) { e.Roles[0].Do = do("p/q:w", "p/q:r") }, ""},
		{"the order of what a role includes", func(e *model.Estate) { e.Roles[2].Includes = []string{"r", "o"} }, ""},
		{"what a role includes", func(e *model.Estate) { e.Roles[2].Includes = []string{"o"} }, "grant 3"},
		{"one more place", func(e *model.Estate) { e.Grants[0].Where = append(e.Grants[0].Where, on("/s/b:1")...) },
			"grant 1"},
		{"less of a place", func(e *model.Estate) { e.Grants[0].Where = on("/s/a:1", "/s/a:2/**") }, "grant 1"},
		{"the role behind a grant", func(e *model.Estate) { e.Roles[0].Do = do("p/q:*") }, "grant 1"},
		{"a role it had included", func(e *model.Estate) { e.Roles[0].Includes = []string{"o"} }, "grant 1"},
		{"what a role leaves out", func(e *model.Estate) { e.Roles[0].Except = do("p/q:w") }, "grant 1"},
		{"an end", func(e *model.Estate) { e.Grants[0].Until = time.Unix(2e9, 0) }, "grant 1"},
		{"a condition", func(e *model.Estate) { e.Grants[0].When.SecondFactor = true }, "grant 1"},
		{"the role that it gives", func(e *model.Estate) { e.Roles[1].Do = do("p/q:w") }, "role o"},
	} {
		e := estate()
		tt.do(e)
		if got := strings.Join(changed(e), "; "); !strings.Contains(got, tt.want) || tt.want == "" && got != "" {
			t.Errorf("%s changed: %q, want one of %q", tt.what, got, tt.want)
		}
	}
}

// TestGrantedSince: a denial holds against grants that were not there when it was drafted, so those are named
// before it is put up; and only those.
func TestGrantedSince(t *testing.T) {
	do, on := model.MustPermissionPattern, model.MustPathPattern
	created := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	drafted := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	grant := func(id, to, what, where string) model.Grant {
		return model.Grant{ID: id, To: model.MustID(to), Created: created, Where: []model.PathPattern{on(where)},
			Rights: model.Rights{Do: []model.PermissionPattern{do(what)}}}
	}
	estate := func() *model.Estate {
		e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s/a:1")}},
			Catalogue: model.Catalogue{{Permission: model.MustPermission("p/q:r")},
				{Permission: model.MustPermission("p/q:w")}}}
		for _, id := range []string{"person/a", "person/b", "person/kept", "person/root", "group/g", "group/kept"} {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(id)})
		}
		e.Semantics.Bypass = []model.ID{model.MustID("person/root")}
		for _, who := range []string{"person/b", "person/kept"} {
			e.Memberships = append(e.Memberships,
				model.Membership{Member: model.MustID(who), Group: model.MustID("group/g")})
		}
		e.Memberships = append(e.Memberships,
			model.Membership{Member: model.MustID("person/kept"), Group: model.MustID("group/kept")})
		e.Grants = []model.Grant{grant("old", "person/a", "p/q:*", "/s/a:1/**")}
		return e
	}
	fresh := func() *fence.Fence {
		return &fence.Fence{For: model.MustID("s:everyone"), Drafted: drafted, Denies: []fence.Deny{{
			Do: []model.PermissionPattern{do("p/q:w")}, Where: []model.PathPattern{on("/s/a:1/**")},
			Unless: []model.ID{model.MustID("group/kept")}}}}
	}
	for _, tt := range []struct {
		name string
		do   func(e *model.Estate, f *fence.Fence)
		want string // the grants that are named
	}{
		{"nothing", func(*model.Estate, *fence.Fence) {}, ""},
		{"made since", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "person/b", "p/q:*", "/s/a:1/x:2/**"))
		}, "new to person/b"},
		{"made since, to a group one of whom it does not spare", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "group/g", "p/q:w", "/s/**"))
		}, "new to group/g"},
		{"changed since", func(e *model.Estate, _ *fence.Fence) {
			e.Grants[0].Where = append(e.Grants[0].Where, on("/s/a:1/x:3"))
		}, "old to person/a"},
		{"gone since", func(e *model.Estate, _ *fence.Fence) { e.Grants = nil }, ""},
		{"made since, of what is not denied", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "person/b", "p/q:r", "/s/a:1/**"))
		}, ""},
		{"made since, elsewhere", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "person/b", "p/q:w", "/s/a:2/**"))
		}, ""},
		{"made since, to those whom it spares", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "group/kept", "p/q:w", "/s/a:1/**"),
				grant("newer", "person/kept", "p/q:w", "/s/a:1/**"))
		}, ""},
		{"made since, to one whom nothing is denied", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "person/root", "p/q:w", "/s/a:1/**"))
		}, ""},
		{"made since, to anybody", func(e *model.Estate, _ *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "everyone", "p/q:w", "/s/a:1/**"))
		}, "new to everyone"},
		{"very many", func(e *model.Estate, _ *fence.Fence) {
			for i := range 12 {
				e.Grants = append(e.Grants, grant(fmt.Sprint("n", i), "person/b", "p/q:w", "/s/a:1/**"))
			}
		}, "n0 to person/b; n1 to person/b; n2 to person/b; n3 to person/b; n4 to person/b; n5 to person/b; " +
			"n6 to person/b; n7 to person/b; n8 to person/b; n9 to person/b; a denial refuses some of 2 more " +
			"grants that were made or changed since it was drafted: draft anew"},
		{"spared since", func(e *model.Estate, f *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "person/b", "p/q:w", "/s/a:1/**"))
			f.Denies[0].Unless = append(f.Denies[0].Unless, model.MustID("person/b"))
		}, ""},
		{"a line that somebody wrote since refuses what was there", func(e *model.Estate, f *fence.Fence) {
			f.Denies[0].Do = append(f.Denies[0].Do, do("p/q:r"))
			e.Grants[0].Where = append(e.Grants[0].Where, on("/s/a:1/x:3"))
		}, ""},
		{"and what came later", func(e *model.Estate, f *fence.Fence) {
			f.Denies[0].Do = append(f.Denies[0].Do, do("p/q:r"))
			e.Grants = append(e.Grants, grant("new", "person/b", "p/q:r", "/s/a:1/**"))
			e.Grants[1].Created = drafted.Add(time.Hour)
		}, "new to person/b"},
		{"of a fence that was never proven", func(e *model.Estate, f *fence.Fence) {
			e.Grants = append(e.Grants, grant("new", "person/b", "p/q:w", "/s/a:1/**"))
			f.Proven = fence.Proven{}
		}, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			f, e := fresh(), estate()
			x, err := index.Build(e)
			if err != nil {
				t.Fatal(err)
			}
			f.Prove(x, drafted, nil)
			if n := len(f.Proven.Refuses.Grants); n != 1 {
				t.Fatalf("it refuses some of %d grants, want 1", n)
			}
			tt.do(e, f)
			if x, err = index.Build(e); err != nil {
				t.Fatal(err)
			}
			got := f.Changed(x)
			for i, s := range got {
				anybody := strings.Contains(s, " to everyone ") // nobody can spare it
				if strings.HasPrefix(s, "grant ") &&
					(strings.Contains(s, " in unless") == anybody || strings.Contains(s, "draft anew") != anybody) {
					t.Errorf("what to do: %s", s)
				}
				s, _ = strings.CutPrefix(s, "grant ")
				got[i], _, _ = strings.Cut(s, " was made")
			}
			if text := strings.Join(got, "; "); text != tt.want {
				t.Errorf("named %q, want %q", text, tt.want)
			}
		})
	}
}
