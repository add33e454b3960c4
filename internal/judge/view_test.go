package judge

import (
	"fmt"
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
	"clipfence/internal/sandbox"
)

// edit makes a random edit of an estate: of everything that there is something goes, and
// something comes, some of it in place of what is there, on places nobody lists, for
// identities nobody knows.
func (g *random) edit(t testing.TB, e *model.Estate) access.Edit {
	var d access.Edit
	maybe := func() bool { return g.r.IntN(3) == 0 }
	for i := range e.Grants {
		if maybe() {
			d.Gone.Grants = append(d.Gone.Grants, e.Grants[i].ID)
		}
	}
	if len(e.Roles) > 0 && maybe() {
		d.Gone.Roles = []string{e.Roles[g.r.IntN(len(e.Roles))].Name}
	}
	if n := len(e.Memberships); n > 0 && maybe() {
		d.Gone.Memberships = e.Memberships[g.r.IntN(n):][:1]
	}
	if n := len(e.Identities); n > 3 && maybe() {
		d.Gone.Identities = []model.ID{e.Identities[g.r.IntN(n)].ID}
	}
	for i := range e.Denials {
		if maybe() {
			d.Gone.Denials = append(d.Gone.Denials, e.Denials[i].ID)
		}
	}
	for i := range e.Ceilings {
		if maybe() {
			d.Gone.Ceilings = append(d.Gone.Ceilings, e.Ceilings[i].ID)
		}
	}
	for i := range e.Guardrails {
		if maybe() {
			d.Gone.Guardrails = append(d.Gone.Guardrails, e.Guardrails[i].ID)
		}
	}
	paths := g.paths
	g.paths = append(slices.Clone(paths), g.unknown[:2]...)
	defer func() { g.paths = paths }()
	var grants, denials, ceilings, guardrails, roles, members []any
	for range g.r.IntN(4) {
		x := g.grant()
		if len(e.Grants) > 0 && maybe() {
			x.ID = e.Grants[g.r.IntN(len(e.Grants))].ID
		}
		if g.r.IntN(6) == 0 {
			x.Role, x.Do, x.Except = "unheard-of", nil, nil
		}
		grants = append(grants, x)
	}
	if maybe() {
		denials = append(denials, g.denial())
	}
	if maybe() {
		ceilings = append(ceilings, &sandbox.Ceiling{ID: g.id("c"), Of: g.pick(g.people), Do: []string{"*"},
			Except: g.maybe(g.permissions), Where: g.places()})
	}
	if maybe() {
		guardrails = append(guardrails, &sandbox.Guardrail{ID: g.id("r"), Node: g.pick(g.paths),
			Do: []string{"a/*:*", g.pick(g.perms)}, Unless: g.maybe(g.crowd)})
	}
	if maybe() {
		roles = append(roles, &sandbox.Role{Name: g.pick(append([]string{"unheard-of", "fresh"}, g.roles...)),
			Do: g.permissions(), Except: g.maybe(g.permissions), Includes: []string{g.pick(g.roles)}})
	}
	if maybe() {
		members = append(members, &sandbox.Membership{Member: g.pick(append([]string{"person/fresh"}, g.people...)),
			Group: g.pick(append([]string{"group/fresh"}, g.groups...))})
		d.Come.Identities = append(d.Come.Identities, model.Identity{ID: model.MustID("person/fresh")},
			model.Identity{ID: model.MustID("group/fresh")})
	}
	into(t, grants, &d.Come.Grants)
	into(t, denials, &d.Come.Denials)
	into(t, ceilings, &d.Come.Ceilings)
	into(t, guardrails, &d.Come.Guardrails)
	into(t, roles, &d.Come.Roles)
	into(t, members, &d.Come.Memberships)
	return d
}

// TestViewsAgree holds edited views, and views of views, against the plain engine on the
// edited estate, and against an index that is built anew.
func TestViewsAgree(t *testing.T) {
	pieces := 0
	for seed := range uint64(estates(t)) {
		g := newRandom(seed)
		e := g.estate(t)
		base, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		was := told(base.Decide(model.MustID(g.people[0]), model.MustPermission(g.perms[0]),
			model.MustPath(g.paths[0]), model.Context{}))
		sums := fmt.Sprint(base.NewWalk(index.Possible).Totals(model.MustID(g.people[0])))
		if seed%2 == 0 {
			base = reloaded(t, base)
		}
		x, depth := base, 1+seed%3
		if seed%16 == 0 {
			depth = 14 // what one view wrote is joined with what others did
		}
		mid, then := base, e
		for step := range depth {
			d := g.edit(t, e)
			if x, err = x.With(d); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			e = d.Apply(e)
			if step == depth/2 { // two views go on from this one
				mid, then = x, e
				if _, err := x.With(g.edit(t, e)); err != nil {
					t.Fatalf("seed %d: %v", seed, err)
				}
			}
		}
		built, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		now, midway := plain.New(e), plain.New(then)
		perms := append([]string{"c/new:get", "a/x:never"}, g.perms...)
		callers := append([]string{"person/nobody", "person/fresh", "group/fresh", "everyone", "signed-in"},
			append(g.people, g.groups...)...)
		for i := range questions / 2 {
			q := g.question()
			id, p, path := model.MustID(callers[i%len(callers)]), model.MustPermission(g.pick(perms)),
				model.MustPath(q.path)
			ctx := model.Context{}
			if i%2 == 0 {
				ctx = q.context(g.labels(q.path))
			}
			want, got := told(now.Decide(id, p, path, ctx)), told(x.Decide(id, p, path, ctx))
			if want != got {
				t.Fatalf("seed %d: %s %s %s:\nplain: %s\nview:  %s", seed, id, p, path, want, got)
			}
			if want, got := told(midway.Decide(id, p, path, ctx)), told(mid.Decide(id, p, path, ctx)); want != got {
				t.Fatalf("seed %d: %s %s %s midway:\nplain: %s\nview:  %s", seed, id, p, path, want, got)
			}
			if i%50 == 0 {
				whoAgrees(t, seed, now, x, p, path)
			}
		}
		for _, text := range callers {
			id := model.MustID(text)
			pieces += totalsAgree(t, seed, now, x, id)
			holdingsAgree(t, seed, now, x, id)
			if a, b := fmt.Sprint(now.Closure(id)), fmt.Sprint(x.Closure(id)); a != b {
				t.Fatalf("seed %d: %s: closure %s, want %s", seed, id, b, a)
			}
			if c := index.Difference(built.NewWalk(index.Certain), x.NewWalk(index.Certain),
				id); c != (index.Change{}) {
				t.Fatalf("seed %d: %s: the view and an index built anew differ: %+v", seed, id, c)
			}
		}
		if a, b := rolesOf(built), rolesOf(x); a != b {
			t.Fatalf("seed %d: the view has roles\n%s, want\n%s", seed, b, a)
		}
		intoAgrees(t, seed, g, now, x)
		if again := told(base.Decide(model.MustID(g.people[0]), model.MustPermission(g.perms[0]),
			model.MustPath(g.paths[0]), model.Context{})); again != was {
			t.Fatalf("seed %d: a view changed what it is a view of: %s, was %s", seed, again, was)
		}
		if again := fmt.Sprint(base.NewWalk(index.Possible).Totals(model.MustID(g.people[0]))); again != sums {
			t.Fatalf("seed %d: a view changed the sums of what it is a view of", seed)
		}
		for _, y := range []*index.Index{base, x} {
			if err := y.Err(); err != nil {
				t.Fatal(err)
			}
		}
	}
	if pieces == 0 {
		t.Error("the views are too strict to say much")
	}
}

// rolesOf writes down what each role gives, by its permissions, which must be what its rights say.
func rolesOf(x *index.Index) string {
	text := ""
	for name := range x.Roles() {
		perms, there := x.RolePerms(name)
		if by := x.SetPerms(x.RoleSets(name)); !there || !perms.Subset(by) || !by.Subset(perms) {
			text += fmt.Sprintf("%s gives %v, by its rights %v ", name, perms, by)
		}
		text += name
		for i := range perms.All() {
			text += " " + x.Permission(i).Permission.String()
		}
		text += "\n"
	}
	if _, there := x.RolePerms("nobody's"); there {
		text += "and one that nobody has"
	}
	return text
}
