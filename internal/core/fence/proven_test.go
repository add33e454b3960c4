package fence_test

import (
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
