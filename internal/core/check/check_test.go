package check_test

import (
	"fmt"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/check"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// crowd is a group of many with many grants, a fence for it, and what its members did.
func crowd(t testing.TB, members, grants, calls int) (*index.Index, *fence.Fence, *usage.Uses) {
	e := &model.Estate{Source: "m", Identities: []model.Identity{{ID: model.MustID("group/g")}}}
	for i := range 200 {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Level: model.Read,
			Permission: model.MustPermission(fmt.Sprintf("s%d/o%d:v%d", i%5, i%20, i))})
	}
	for i := range members {
		id := model.MustID(fmt.Sprint("person/p", i))
		e.Identities = append(e.Identities, model.Identity{ID: id})
		e.Memberships = append(e.Memberships, model.Membership{Member: id, Group: model.MustID("group/g")})
	}
	f := &fence.Fence{For: model.MustID("m:group/g"), Replaces: []string{"g-0"}}
	for i := range grants {
		p := e.Catalogue[i%200].Permission.Pattern()
		if i == 0 {
			p = model.MustPermissionPattern("*")
		}
		g := model.Grant{ID: fmt.Sprint("g-", i), To: model.MustID("group/g"),
			Rights: model.Rights{Do: []model.PermissionPattern{p}},
			Where:  []model.PathPattern{model.MustPathPattern(fmt.Sprintf("/m/box:b%d*/**", i%50))}}
		if i == 0 {
			g.Where[0] = model.MustPathPattern("/m/**")
		}
		e.Grants = append(e.Grants, g)
	}
	for i := range 30 {
		f.Allow = append(f.Allow, fence.Allow{Do: []model.PermissionPattern{model.MustPermissionPattern("s1/*:*")},
			Where: []model.PathPattern{model.MustPathPattern(fmt.Sprintf("/m/box:c%d/*/**", i))}})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	var uses []usage.Use
	for i := range calls {
		c := usage.Call{Time: time.Unix(1.7e9, 0), Outcome: usage.Done, Permission: e.Catalogue[i%200].Permission,
			Identity: model.MustID(fmt.Sprint("person/p", i%members)),
			Path:     model.MustPath(fmt.Sprintf("/m/box:b%d/x/y:%d", i%50, i))}
		uses = append(uses, usage.Use{Key: c.Key(), Count: 1})
	}
	return x, f, usage.ListOf(uses...)
}

// TestFence: of what a crowd did exactly that is doubted which no grant is left for, but for what
// is known to break.
func TestFence(t *testing.T) {
	x, f, uses := crowd(t, 3, 200, 400)
	lost := check.Of(x).Fence(f, uses, func(int) bool { return false })
	for _, d := range lost {
		if d.Line >= 0 {
			t.Errorf("what lies inside /m/** is doubted: %s", d)
		}
	}
	// Use i is of permission i%200 on box i%50, which grant i%200 gives on boxes that begin so; the
	// one that goes gave the rest.
	if len(lost) != 2 {
		t.Errorf("%d uses are left without a grant, want those two of permission 0: %v", len(lost), lost)
	}
	if d := check.Of(x).Fence(f, uses, func(i int) bool {
		return uses.At(i).Permission == x.Permission(0).Permission
	}); len(d) > 0 {
		t.Errorf("what is known to break is doubted: %v", d)
	}
	f.Allow[3].Where[0] = model.MustPathPattern("/**")
	if d := check.Of(x).Fence(f, nil, nil); len(d) == 0 || d[0].Line != 3 {
		t.Errorf("a line that widens is not doubted: %v", d)
	}
}

func BenchmarkFence(b *testing.B) {
	x, f, uses := crowd(b, 500, 700, 20_000)
	for b.Loop() {
		check.Of(x).Fence(f, uses, func(i int) bool { return false })
	}
}

// TestRolesInACircle: roles that include each other give what all of them do, and a line with one
// of them lies inside a grant of another.
func TestRolesInACircle(t *testing.T) {
	perms := func(p string) model.Rights {
		return model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(p)}}
	}
	here := []model.PathPattern{model.MustPathPattern("/m/**")}
	e := &model.Estate{Source: "m", Identities: []model.Identity{{ID: model.MustID("person/p")}},
		Catalogue: []model.CatalogueEntry{{Permission: model.MustPermission("a/b:c")},
			{Permission: model.MustPermission("a/b:d")}},
		Roles: []model.Role{{Name: "one", Rights: perms("a/b:c"), Includes: []string{"two"}},
			{Name: "two", Rights: perms("a/b:d"), Includes: []string{"one"}}},
		Grants: []model.Grant{{ID: "g", To: model.MustID("person/p"), Role: "one", Where: here}}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	f := &fence.Fence{For: model.MustID("m:person/p"), Replaces: []string{"g"},
		Allow: []fence.Allow{{Role: "two", Where: here}, {Do: perms("a/b:*").Do, Where: here}}}
	d := check.Of(x).Fence(f, nil, nil)
	for _, doubt := range d {
		if doubt.Line != 1 { // which holds more than the two that are listed
			t.Errorf("doubt: %s", doubt)
		}
	}
	if len(d) == 0 {
		t.Error("a line that gives more is not doubted")
	}
}

// TestDoubtSaysWhere: a doubt of a line counts lines from one, as people do, and one of a use names
// who did it.
func TestDoubtSaysWhere(t *testing.T) {
	for _, tt := range []struct {
		d    check.Doubt
		want string
	}{
		{check.Doubt{Line: 0, Permission: "a/b:c", Path: "/m"},
			"line 1 of allow gives a/b:c on /m, which nothing that it replaces gives"},
		{check.Doubt{Line: -1, Identity: model.MustID("person/p"), Permission: "a/b:c", Path: "/m"},
			"person/p would have no grant left for a/b:c on /m, which it used"},
		{check.Doubt{Line: -1, Identity: model.MustID("person/p"), Permission: "a/b:c", Path: "/m", Denied: true},
			"person/p would be denied a/b:c on /m, which it used"},
	} {
		if got := tt.d.String(); got != tt.want {
			t.Errorf("%q, want %q", got, tt.want)
		}
	}
}

// TestLeaving: who leaves a group has what it gives no more, however far up that lies, and others keep it.
func TestLeaving(t *testing.T) {
	read := model.MustPermission("a/b:c")
	p, q, g, h := model.MustID("person/p"), model.MustID("person/q"), model.MustID("group/g"), model.MustID("group/h")
	e := &model.Estate{Source: "m", Identities: []model.Identity{{ID: p}, {ID: q}, {ID: g}, {ID: h}},
		Memberships: []model.Membership{{Member: p, Group: g}, {Member: q, Group: g}, {Member: g, Group: h}},
		Catalogue:   []model.CatalogueEntry{{Permission: read}},
		Grants: []model.Grant{{ID: "g", To: h, Rights: model.Permissions(read),
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}}}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	f := usage.Fold{}
	for _, id := range []model.ID{p, q} {
		f.Add(usage.Call{Time: time.Date(2026, 11, 1, 9, 0, 0, 0, time.UTC), Identity: id, Permission: read,
			Path: model.MustPath("/m/box:x"), Outcome: usage.Done})
	}
	d := check.Of(x).Fence(&fence.Fence{For: model.MustID("m:person/p"), Leaves: []model.ID{g}},
		usage.ListOf(f.Uses()...), func(int) bool { return false })
	if len(d) != 1 || d[0].Identity != p || d[0].Line != -1 {
		t.Errorf("doubts: %v", d)
	}
}
