package rehearse_test

import (
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
)

// TestMember: a line of a group's fence may be for one member alone; for somebody who is not in
// the group it widens, and what the member keeps counts as held.
func TestMember(t *testing.T) {
	id := model.MustID
	e := &model.Estate{Source: "m",
		Nodes: []model.Node{{Path: model.MustPath("/m")}, {Path: model.MustPath("/m/box:a")}},
		Identities: []model.Identity{{ID: id("group/g")}, {ID: id("group/in")}, {ID: id("person/a")},
			{ID: id("person/b")}, {ID: id("person/far")}, {ID: id("group/other")}},
		Memberships: []model.Membership{{Member: id("person/a"), Group: id("group/g")},
			{Member: id("group/in"), Group: id("group/g")}, {Member: id("person/b"), Group: id("group/in")},
			// What both have by another group is no matter of this one.
			{Member: id("person/a"), Group: id("group/other")}, {Member: id("person/b"), Group: id("group/other")}},
		Grants: []model.Grant{{ID: "g1", To: id("group/g"), Where: []model.PathPattern{model.MustPathPattern("/m/**")},
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/item:*")}}},
			{ID: "g2", To: id("group/other"), Where: []model.PathPattern{model.MustPathPattern("/m/**")},
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("t/thing:do")}}}}}
	e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("t/thing:do"),
		Level: model.Change, Kinds: []string{"box"}})
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
		if r.Before != 22 || r.After != 22 || r.ReachBefore.Danger != 22 || r.ReachAfter.Danger != 22 ||
			len(r.Goes) != 0 {
			t.Errorf("%s: held %f -> %f, within reach %f -> %f, %d go", tt.to, r.Before, r.After,
				r.ReachBefore.Danger, r.ReachAfter.Danger, len(r.Goes))
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

// TestLeavesOneOfTwo: whoever leaves a group that another group of theirs is in is in it all the same,
// and keeps what it gives; who leaves the other as well does not.
func TestLeavesOneOfTwo(t *testing.T) {
	id := model.MustID
	perm := model.MustPermission("s/item:read")
	e := &model.Estate{Source: "m",
		Nodes:      []model.Node{{Path: model.MustPath("/m")}, {Path: model.MustPath("/m/box:a")}},
		Catalogue:  []model.CatalogueEntry{{Permission: perm, Level: model.Read}},
		Identities: []model.Identity{{ID: id("group/g")}, {ID: id("group/in")}, {ID: id("person/a")}},
		Memberships: []model.Membership{{Member: id("person/a"), Group: id("group/g")},
			{Member: id("person/a"), Group: id("group/in")}, {Member: id("group/in"), Group: id("group/g")}},
		Grants: []model.Grant{{ID: "g1", To: id("group/g"), Where: []model.PathPattern{model.MustPathPattern("/m/**")},
			Rights: model.Permissions(perm)}}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	fold := usage.Fold{}
	fold.Add(usage.Call{Time: time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC), Identity: id("person/a"),
		Permission: perm,
		Path:       model.MustPath("/m/box:a"), Outcome: usage.Done})
	for _, tt := range []struct {
		leaves []model.ID
		broken int
	}{
		{[]model.ID{id("group/g")}, 0},
		{[]model.ID{id("group/in")}, 0},
		{[]model.ID{id("group/g"), id("group/in")}, 1},
	} {
		f := &fence.Fence{Version: 2, For: id("m:person/a"), Leaves: tt.leaves, Allow: []fence.Allow{}}
		r, err := rehearse.Run(x, f, usage.ListOf(fold.Uses()...), nil, gauge.DefaultWeights)
		if err != nil || len(r.Broken) != tt.broken || len(r.Doubts) > 0 {
			t.Errorf("leaves %v: %v, broken %v, doubts %v", tt.leaves, err, r.Broken, r.Doubts)
		}
	}
}
