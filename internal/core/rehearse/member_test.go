package rehearse_test

import (
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
)

// TestMember: a line of a group's fence may be for one member alone; for somebody who is not in
// the group it widens, and what the member keeps counts as held.
func TestMember(t *testing.T) {
	id := model.MustID
	e := &model.Estate{Source: "m",
		Nodes: []model.Node{{Path: model.MustPath("/m")}, {Path: model.MustPath("/m/box:a")}},
		Identities: []model.Identity{{ID: id("group/g")}, {ID: id("group/in")}, {ID: id("person/a")},
			{ID: id("person/b")}, {ID: id("person/far")}},
		Memberships: []model.Membership{{Member: id("person/a"), Group: id("group/g")},
			{Member: id("group/in"), Group: id("group/g")}, {Member: id("person/b"), Group: id("group/in")}},
		Grants: []model.Grant{{ID: "g1", To: id("group/g"), Where: []model.PathPattern{model.MustPathPattern("/m/**")},
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:*")}}}}}
	for i, verb := range []string{"read", "scrap"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/item:" + verb),
			Level: []model.Level{model.Read, model.Administer}[i], Kinds: []string{"box"}})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	at := []model.PathPattern{model.MustPathPattern("/m/box:a/**")}
	for _, tt := range []struct {
		to, fault string
		widened   int
	}{
		{"person/a", "", 0},
		{"m:person/b", "", 0}, // by a group that is in the group
		{"person/far", "is no person and no workload in m:group/g", 1},
		{"person/nobody", "is no person and no workload", 1},
		{"group/in", "is no person and no workload", 0},
		{"everyone", "is no person and no workload", 1},
		{"other:person/a", "is no person and no workload", 1},
	} {
		f := &fence.Fence{Version: 2, For: id("m:group/g"), Replaces: []string{"g1"}, Allow: []fence.Allow{
			{Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:read")}, Where: at},
			{To: id(tt.to), Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:scrap")}, Where: at}}}
		if err := f.Validate(x); (err == nil) != (tt.fault == "") ||
			err != nil && !strings.Contains(err.Error(), tt.fault) {
			t.Errorf("%s: %v", tt.to, err)
		}
		r, err := rehearse.Run(x, f, nil, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if len(r.Widened) != tt.widened {
			t.Errorf("%s: widened: %+v", tt.to, r.Widened)
		}
		if tt.fault != "" {
			continue
		}
		// One box: 2 for reading it, 20 for scrapping it.
		if r.Before != 22 || r.After != 22 || r.ReachAfter.Danger < 22 || len(r.Goes) != 0 {
			t.Errorf("%s: held %f -> %f, %d go", tt.to, r.Before, r.After, len(r.Goes))
		}
		after, err := x.With(f.Edit("m"))
		if err != nil {
			t.Fatal(err)
		}
		for who, want := range map[string]access.Outcome{"person/a": access.Denied, "person/b": access.Denied,
			id(tt.to).In("m").String(): access.Allowed} {
			got := after.Decide(id(who), model.MustPermission("s/item:scrap"), model.MustPath("/m/box:a"),
				model.Context{}).Outcome
			if got != want && !strings.HasSuffix(tt.to, who) {
				t.Errorf("to %s: %s may scrap: %v, want %v", tt.to, who, got, want)
			}
		}
	}
	// A fence of a person has nobody else to give a line to.
	f := &fence.Fence{Version: 2, For: id("m:person/a"), Allow: []fence.Allow{{To: id("person/a"),
		Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:read")}, Where: at}}}
	if err := f.Validate(x); err == nil {
		t.Error("a line to a member of a person")
	}
}
