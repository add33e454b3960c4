package fence_test

import (
	"testing"

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
