package access_test

import (
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// TestApply: with an identity goes what it is in, who is in it, who may act as it, and what it is granted;
// of everything else
// what is named goes, and what comes takes the place of what is called so.
func TestApply(t *testing.T) {
	id := model.MustID
	a, b, c, g := id("person/a"), id("workload/b"), id("workload/c"), id("group/g")
	e := &model.Estate{
		Identities:  []model.Identity{{ID: a}, {ID: b}, {ID: c}, {ID: g}},
		Memberships: []model.Membership{{Member: a, Group: g}, {Member: b, Group: g}},
		ActAs: []model.ActAs{{ID: "a-b", From: a, To: b}, {ID: "b-c", From: b, To: c},
			{ID: "c-a", From: c, To: a}},
		Grants: []model.Grant{{ID: "g-1", To: a, Role: "r"}, {ID: "g-2", To: b, Role: "r"}},
	}
	ids := func(e *model.Estate) (out []string) {
		for _, x := range e.Identities {
			out = append(out, x.ID.String())
		}
		for _, x := range e.Memberships {
			out = append(out, x.Member.Name+">"+x.Group.Name)
		}
		for _, x := range e.ActAs {
			out = append(out, x.ID)
		}
		for _, x := range e.Grants {
			out = append(out, x.ID+" "+x.Role)
		}
		return out
	}
	whole := ids(e)
	for _, tt := range []struct {
		name string
		edit func(d *access.Edit)
		want []string
	}{
		{"nothing", func(*access.Edit) {}, whole},
		{"an identity", func(d *access.Edit) { d.Gone.Identities = []model.ID{b} },
			[]string{"person/a", "workload/c", "group/g", "a>g", "c-a", "g-1 r"}},
		{"a group", func(d *access.Edit) { d.Gone.Identities = []model.ID{g} },
			[]string{"person/a", "workload/b", "workload/c", "a-b", "b-c", "c-a", "g-1 r", "g-2 r"}},
		{"a membership", func(d *access.Edit) { d.Gone.Memberships = []model.Membership{{Member: b, Group: g}} },
			[]string{"person/a", "workload/b", "workload/c", "group/g", "a>g", "a-b", "b-c", "c-a", "g-1 r", "g-2 r"}},
		{"one that is not there", func(d *access.Edit) {
			d.Gone.Memberships = []model.Membership{{Member: c, Group: g}}
		}, whole},
		{"an edge and a grant", func(d *access.Edit) {
			d.Gone.ActAs, d.Gone.Grants = []string{"b-c"}, []string{"g-2"}
		}, []string{"person/a", "workload/b", "workload/c", "group/g", "a>g", "b>g", "a-b", "c-a", "g-1 r"}},
		{"a grant that says another thing", func(d *access.Edit) {
			d.Come.Grants = []model.Grant{{ID: "g-1", To: a, Role: "other"}, {ID: "g-3", To: c, Role: "r"}}
		}, []string{"person/a", "workload/b", "workload/c", "group/g", "a>g", "b>g", "a-b", "b-c", "c-a", "g-1 other",
			"g-2 r", "g-3 r"}},
	} {
		var d access.Edit
		tt.edit(&d)
		got := ids(d.Apply(e))
		slices.Sort(got)
		want := slices.Sorted(slices.Values(tt.want))
		if !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", tt.name, got, want)
		}
		if !slices.Equal(ids(e), whole) {
			t.Fatalf("%s: the estate itself changed", tt.name)
		}
	}
}
