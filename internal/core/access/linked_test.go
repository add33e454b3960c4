package access_test

import (
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
)

// TestLinked ends an answer about one source at the people of another.
func TestLinked(t *testing.T) {
	id := model.MustID
	cloud := &model.Estate{Source: "cloud",
		Catalogue:  model.Catalogue{{Permission: model.MustPermission("s/x:read")}},
		Nodes:      []model.Node{{Path: model.MustPath("/cloud/a:b")}},
		Identities: []model.Identity{{ID: id("group/ops")}, {ID: id("workload/robot")}, {ID: id("person/kari")}},
		Grants: []model.Grant{
			{ID: "g-1", To: id("group/ops"), Rights: model.Permissions(model.MustPermission("s/x:read")),
				Where: []model.PathPattern{model.MustPathPattern("/cloud/**")}},
			{ID: "g-2", To: id("workload/robot"), Rights: model.Permissions(model.MustPermission("s/x:read")),
				Where: []model.PathPattern{model.MustPathPattern("/cloud/**")}},
		}}
	directory := &model.Estate{Source: "dir",
		Identities: []model.Identity{{ID: id("group/operators")}, {ID: id("group/night")},
			{ID: id("person/ola"), Title: "On call"},
			{ID: id("person/kari")}, {ID: id("person/stranger")}},
		Memberships: []model.Membership{{Member: id("group/night"), Group: id("group/operators")},
			{Member: id("person/ola"), Group: id("group/night")},
			{Member: id("person/stranger"), Group: id("group/other")}}}
	cluster := &model.Estate{Source: "prod",
		Identities: []model.Identity{{ID: id("workload/ns/robot")}, {ID: id("person/dev")}},
		ActAs: []model.ActAs{{ID: "a-1", From: id("person/dev"), To: id("workload/ns/robot"), How: "token"},
			// Everybody of the cluster is nobody of the cloud.
			{ID: "a-2", From: id("everyone"), To: id("workload/ns/robot"), How: "token"}}}
	links := []model.Link{{A: id("cloud:group/ops"), B: id("dir:group/operators")},
		{A: id("prod:workload/ns/robot"), B: id("cloud:workload/robot")},
		{A: id("cloud:person/kari"), B: id("dir:person/kari")}, {A: id("prod:person/dev"), B: id("dir:person/ola")}}
	e := access.Linked(cloud, links, []*model.Estate{directory, cluster})
	for _, a := range e.ActAs {
		if a.From.Open() {
			t.Errorf("another source's crowd acts here: %+v", a)
		}
	}
	if len(cloud.Identities) != 3 || len(cloud.Memberships) != 0 || len(cloud.ActAs) != 0 {
		t.Error("the estate itself was changed")
	}
	g := plain.New(e)
	read, path := model.MustPermission("s/x:read"), model.MustPath("/cloud/a:b")
	for _, tt := range []struct {
		who   string
		may   bool
		masks string
	}{
		{"dir:person/ola", true, ""},       // by a group in a group of the directory
		{"dir:person/stranger", false, ""}, // leads to no link, is not taken over
		{"dir:person/kari", false, "person/kari"},
		{"prod:workload/ns/robot", false, "workload/robot"},
		{"prod:person/dev", false, "prod:workload/ns%2Frobot workload/robot"},
	} {
		if got := g.Decide(id(tt.who), read, path, model.Context{}).Outcome == access.Allowed; got != tt.may {
			t.Errorf("%s may read: %t", tt.who, got)
		}
		masks := ""
		for _, m := range g.Masks(id(tt.who)) {
			if masks != "" {
				masks += " "
			}
			masks += m.ID.String()
		}
		if masks != tt.masks {
			t.Errorf("%s can act as %q, want %q", tt.who, masks, tt.masks)
		}
	}
	if ola, ok := g.Identity(id("dir:person/ola")); !ok || ola.Title != "On call" {
		t.Errorf("ola is %+v", ola)
	}
	if n := len(e.Identities) - len(cloud.Identities); n != 6 { // each who leads to a link, once
		t.Errorf("%d identities are taken over: %+v", n, e.Identities)
	}
	if _, ok := g.Identity(id("dir:person/stranger")); ok {
		t.Error("somebody who leads nowhere was taken over")
	}
}
