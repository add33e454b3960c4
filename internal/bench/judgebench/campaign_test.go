package main

import (
	"fmt"
	"testing"

	"clipfence/internal/core/model"
)

// TestGrown: what a life brings comes to an estate that was narrowed meanwhile, what leaves it goes, and what was
// narrowed stays so.
func TestGrown(t *testing.T) {
	member := func(who, group string) model.Membership {
		return model.Membership{Member: model.MustID("person/" + who), Group: model.MustID("group/" + group)}
	}
	estate := func(people []string, members []model.Membership, grants ...string) *model.Estate {
		e := &model.Estate{Memberships: members}
		for _, p := range people {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID("person/" + p)})
		}
		for _, g := range grants {
			e.Grants = append(e.Grants, model.Grant{ID: g})
		}
		return e
	}
	was := estate([]string{"a", "b"}, []model.Membership{member("a", "g"), member("b", "g")}, "1", "2")
	is := estate([]string{"a", "b", "c"}, []model.Membership{member("b", "g"), member("a", "h"), member("c", "g")},
		"1", "2", "3")
	is.Nodes = []model.Node{{Path: model.MustPath("/w/box:new")}}
	// Meanwhile b left the group, and a grant was replaced.
	got := grown(estate([]string{"a", "b"}, []model.Membership{member("a", "g")}, "1", "narrow"), was, is)
	var people, members, grants []string
	for _, i := range got.Identities {
		people = append(people, i.ID.Name)
	}
	for _, m := range got.Memberships {
		members = append(members, m.Member.Name+">"+m.Group.Name)
	}
	for _, g := range got.Grants {
		grants = append(grants, g.ID)
	}
	if said := fmt.Sprint(people, members, grants, len(got.Nodes)); said != "[a b c] [a>h c>g] [1 narrow 3] 1" {
		t.Errorf("it is %s", said)
	}
}
