package usage_test

import (
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestGone: what was made or thrown away under a name was there, and what lay in it counts to it; a
// name that nothing speaks for stays unknown.
func TestGone(t *testing.T) {
	e := &model.Estate{Source: "m"}
	for _, p := range []string{"/m", "/m/hall:east", "/m/hall:east/space:one", "/m/hall:east/space:one/app:web"} {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
	}
	kinds := map[string][]string{"s/space:create": {"hall", "space"}, "s/item:delete": {"space"},
		"s/spaces:destroy": {"space"}, "s/space:delete": {"space"},
		"s/app:drop": {"app"}, "s/app:view": {"app"}, "s/all:delete": nil}
	for p, on := range kinds {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(p), Level: model.See,
			Kinds: on})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	f := usage.Fold{}
	for _, c := range []struct {
		perm, at string
		outcome  usage.Outcome
	}{
		{"s/space:create", "/m/hall:east/space:made", usage.Done},
		{"s/space:delete", "/m/hall:east/space:thrown", usage.Done},
		{"s/space:delete", "/m/hall:east/space:kept", usage.Refused}, // it was not
		{"s/space:delete", "/m/hall:east/space:seen", usage.Failed},  // it found none
		{"s/space:create", "/m/hall:east", usage.Done},               // in which, not what
		{"s/item:delete", "/m/hall:east/space:seen", usage.Done},     // something in it
		{"s/spaces:destroy", "/m/hall:east/space:many", usage.Done},
		{"s/app:view", "/m/hall:east/space:seen/app:web", usage.Done},     // proves no name
		{"s/app:view", "/m/hall:east/space:one/app:web", usage.Done},      // that is there
		{"s/app:drop", "/m/hall:east/space:one/app:old", usage.Done},      // in one that is there
		{"s/space:delete", "/m/hall:east/space:ONE", usage.Done},          // no other one: a name that is wrong
		{"s/space:delete", "/m/hall:mist/space:made", usage.Done},         // in one that nobody knows
		{"s/space:delete", "/m/hall:west/space:made", usage.Done},         // where none is that is called right
		{"s/all:delete", "/m/hall:east/space:whatever", usage.Done},       // of any kind of node
		{"s/space:delete", "/m/hall:east/space:thrown/app:x", usage.Done}, // of another kind
	} {
		f.Add(usage.Call{Time: time.Date(2026, 11, 1, 9, 0, 0, 0, time.UTC), Identity: model.MustID("workload/w"),
			Permission: model.MustPermission(c.perm), Path: model.MustPath(c.at), Outcome: c.outcome})
	}
	surveyed := func() *usage.Inventory {
		return usage.InventoryOf(x, []model.Path{model.MustPath("/m/hall:west"),
			model.MustPath("/m/hall:east/space:one")}, nil)
	}
	nodes, again := surveyed(), surveyed()
	nodes.Witness(usage.ListOf(f.Uses()...), func(p model.Permission) []string { return kinds[p.String()] })
	again.Recall(nodes.Witnessed())
	for _, c := range []struct{ path, unknown, gone string }{
		{"/m/hall:east/space:one/app:web", "", ""},
		{"/m/hall:east/space:one/app:new", "/m/hall:east/space:one/app:new", ""},
		{"/m/hall:east/space:one/app:old", "", "/m/hall:east/space:one/app:old"},
		{"/m/hall:east/space:made", "", "/m/hall:east/space:made"},
		{"/m/hall:east/space:made/app:web", "", "/m/hall:east/space:made/app:web"}, // as apps are listed
		{"/m/hall:east/space:made/app:web/file:x", "", "/m/hall:east/space:made/app:web"},
		{"/m/hall:east/space:thrown/file:x/y", "", "/m/hall:east/space:thrown"},
		{"/m/hall:east/space:seen/app:web", "/m/hall:east/space:seen", ""},
		{"/m/hall:east/space:kept", "/m/hall:east/space:kept", ""},
		{"/m/hall:east/space:many", "", "/m/hall:east/space:many"},
		{"/m/hall:east/space:ONE", "/m/hall:east/space:ONE", ""},
		{"/m/hall:mist/space:made/app:web", "/m/hall:mist", ""},
		{"/m/hall:west/space:two", "", "/m/hall:west/space:two"}, // of a survey of before
		{"/m/hall:north", "/m/hall:north", ""},
		{"/m/hall:east/desk:3", "", ""}, // of which none is listed
		{"/n/hall:east", "/n/hall:east", ""},
	} {
		p := model.MustPath(c.path)
		unknown, _ := nodes.Unknown(p)
		gone, is := nodes.Gone(p)
		if unknown.String() != c.unknown && !unknown.IsZero() || unknown.IsZero() != (c.unknown == "") ||
			is != (c.gone != "") || is && gone.String() != c.gone {
			t.Errorf("%s: unknown %s, gone %s, want %q and %q", c.path, unknown, gone, c.unknown, c.gone)
		}
		first, _ := again.Unknown(p)
		if held, there := again.Gone(p); first != unknown || held != gone || there != is {
			t.Errorf("%s: recalled, unknown %s, gone %s", c.path, first, held)
		}
	}
	// Where nothing that is listed there is called by its name, names may be wrong one and all.
	alone := usage.InventoryOf(x, nil, nil)
	alone.Witness(usage.ListOf(f.Uses()...).Select(func(u *usage.Use) bool {
		return u.Path != model.MustPath("/m/hall:east/space:one/app:web") &&
			u.Path != model.MustPath("/m/hall:east/space:one/app:old")
	}), func(p model.Permission) []string { return kinds[p.String()] })
	if _, unknown := alone.Unknown(model.MustPath("/m/hall:east/space:thrown")); !unknown {
		t.Error("a log that calls nothing by its name is a witness")
	}
	// What somebody says to come and go, says the same of what it is called.
	nodes.ComeAndGo([]model.PathPattern{model.MustPathPattern("/m/*/space:try-*")})
	for _, c := range []struct{ path, gone string }{
		{"/m/hall:east/space:try-1/app:web/file:x", "/m/hall:east/space:try-1/app:web"},
		{"/m/hall:east/space:try-1", "/m/hall:east/space:try-1"},
		{"/m/hall:east/space:tried/app:web", ""},
	} {
		p := model.MustPath(c.path)
		_, unknown := nodes.Unknown(p)
		gone, is := nodes.Gone(p)
		if unknown == is || is != (c.gone != "") || is && gone.String() != c.gone {
			t.Errorf("%s, where some come and go: unknown %t, gone %s, want %q", c.path, unknown, gone, c.gone)
		}
	}
	usage.NewInventory("m", nil, nil).Witness(usage.ListOf(f.Uses()...), nil) // of no nodes of today it says nothing
	var none *usage.Inventory
	if _, is := none.Gone(model.MustPath("/m/hall:west")); is {
		t.Error("no inventory knows of something that is gone")
	}
}
