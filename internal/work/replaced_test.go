package work

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// TestSinceReplaced: what a change gave in the place of what it took is as old as that, as far as it gives no more;
// of several as old as the last one that it takes, and of one that was made by an earlier change as what
// that one took.
func TestSinceReplaced(t *testing.T) {
	begin := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return begin.AddDate(0, 0, n) }
	// A grant is said as ID@DAY:VERBS:PLACE, or ID@DAY:role ROLE:PLACE; without a day it does not say when.
	grant := func(text string) model.Grant {
		parts := strings.SplitN(text, ":", 3)
		id, made, _ := strings.Cut(parts[0], "@")
		g := model.Grant{ID: id, To: model.MustID("person/a"),
			Where: []model.PathPattern{model.MustPathPattern(parts[2])}}
		if made != "" {
			var n int
			if _, err := fmt.Sscan(made, &n); err != nil {
				t.Fatal(err)
			}
			g.Created = day(n)
		}
		if role, ok := strings.CutPrefix(parts[1], "role "); ok {
			g.Role = role
			return g
		}
		for verb := range strings.SplitSeq(parts[1], ",") {
			g.Do = append(g.Do, model.MustPermissionPattern("s/box:"+verb))
		}
		return g
	}
	for _, tt := range []struct {
		name   string
		now    string // the grant in question, made by the last change
		took   string // what changes took, the first first, apart by " / "; each made what comes next
		left   string // a group that somebody left by the last change
		want   int    // day; none: 1000, long: 999
		groups string // what groups are granted
	}{
		{"one", "f@90:read:/m/box:a", "g@20:read,put:/m/**", "", 20, ""},
		{"nothing", "f@90:read:/m/box:a", "", "", 1000, ""},
		{"wider in place", "f@90:read:/m/**", "g@20:read:/m/box:a", "", 1000, ""},
		{"wider in what it gives", "f@90:read,put:/m/box:a", "g@20:read:/m/**", "", 1000, ""},
		{"two, each half", "f@90:read,put:/m/box:a", "g@20:read:/m/** h@30:put:/m/box:a", "", 30, ""},
		{"two, the older one all of it", "f@90:read:/m/box:a", "g@20:read:/m/** h@30:read,put:/m/**", "", 20, ""},
		{"one that does not say when", "f@90:read:/m/box:a", "g@:read:/m/**", "", 999, ""},
		{"half of one that does not say when", "f@90:read,put:/m/box:a", "g@:read:/m/** h@40:put:/m/**", "", 40, ""},
		{"a group that was left", "f@90:read:/m/box:a", "", "group/in", 50, "t@50:read:/m/**"},
		{"a group above it", "f@90:put:/m/box:a", "", "group/in", 60, "t@50:read:/m/** u@60:put:/m/**"},
		{"a role", "f@90:read,put:/m/box:a", "g@20:role both:/m/**", "", 20, ""},
		{"a role that is gone", "f@90:read,put:/m/box:a", "g@20:role former:/m/**", "", 20, ""},
		{"a role that nobody knows", "f@90:read:/m/box:a", "g@20:role never:/m/**", "", 1000, ""},
		{"twice", "f@90:read:/m/box:a", "g@20:read,put:/m/** / e@70:read:/m/**", "", 20, ""},
		{"given back, and taken again, and again", "f@90:read:/m/box:a",
			"g@20:read,put:/m/** / f@60:read:/m/box:a h@60:put:/m/** / g@70:read,put:/m/**", "", 20, ""},
		{"twice, more than at first", "f@90:read:/m/box:a", "g@20:put:/m/** / e@70:read:/m/**", "", 70, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			now := grant(tt.now)
			e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")},
				{Path: model.MustPath("/m/box:a")}},
				Roles: []model.Role{{Name: "both", Rights: model.Rights{Do: []model.PermissionPattern{
					model.MustPermissionPattern("s/box:*")}}}}, Grants: []model.Grant{now}}
			for _, verb := range []string{"read", "put"} {
				p := model.MustPermission("s/box:" + verb)
				e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: p})
			}
			for _, id := range []string{"person/a", "group/in", "group/above"} {
				e.Identities = append(e.Identities, model.Identity{ID: model.MustID(id)})
			}
			e.Memberships = []model.Membership{{Member: model.MustID("group/in"), Group: model.MustID("group/above")}}
			for i, text := range strings.Fields(tt.groups) {
				g := grant(text)
				g.To = model.MustID([]string{"group/in", "group/above"}[i])
				e.Grants = append(e.Grants, g)
			}
			x, err := index.Build(e)
			if err != nil {
				t.Fatal(err)
			}
			r := &replacements{by: map[string][]*replaced{}, roles: map[string]model.Role{"former": e.Roles[0]}}
			var changes []*replaced
			for text := range strings.SplitSeq(tt.took, " / ") {
				one := &replaced{n: len(changes)}
				for g := range strings.SplitSeq(strings.ReplaceAll(text, "role ", "role_"), " ") {
					if g != "" {
						one.grants = append(one.grants, grant(strings.ReplaceAll(g, "role_", "role ")))
					}
				}
				if changes = append(changes, one); len(changes) > 1 { // what it took the one before it made
					for _, g := range one.grants {
						r.by[g.ID] = append(r.by[g.ID], changes[len(changes)-2])
					}
				}
			}
			last := changes[len(changes)-1]
			if r.by[now.ID] = append(r.by[now.ID], last); tt.left != "" {
				last.groups = []model.ID{model.MustID(tt.left)}
			}
			want := day(tt.want)
			switch tt.want {
			case 1000:
				want = time.Time{}
			case 999:
				want = gauge.Long
			}
			if got := r.since(&Source{Index: x}, &now); !got.Equal(want) {
				t.Errorf("since %s, want %s", got, want)
			}
		})
	}
}
