package index_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestCompare asks what would be without something, and with something else.
func TestCompare(t *testing.T) {
	const all, box = "/s/harbour:o/**", "/s/harbour:o/berth:p/box:b/**"
	e := harbour()
	e.Denials, e.ActAs = nil, nil
	e.Memberships = append(e.Memberships, model.Membership{Member: id("group/h"), Group: id("group/g")}) // a circle
	e.Roles = []model.Role{
		{Name: "reader", Rights: perms("a/x:get")},
		{Name: "editor", Rights: perms("a/x:set"), Includes: []string{"reader", "lister"}},
		{Name: "lister", Rights: perms("a/x:list"), Includes: []string{"editor"}},
	}
	e.Grants = []model.Grant{
		{ID: "g-1", To: id("person/a"), Role: "editor", Where: on(all)},
		{ID: "g-2", To: id("group/h"), Role: "reader", Where: on(all)},
		{ID: "g-3", To: id("group/g"), Rights: perms("a/x:set"), Where: on(box)},
	}
	x := build(t, e)
	for _, tt := range []struct {
		name string
		edit access.Edit
		want string
	}{
		{"nothing", access.Edit{}, ""},
		{"a grant that another gives a part of", access.Edit{Gone: access.Gone{Grants: []string{"g-1"}}},
			"lost a/x:list; narrowed a/x:set to " + box + "; stays a/x:get by g-2"},
		{"a role that another includes", access.Edit{Gone: access.Gone{Roles: []string{"reader"}}},
			"lost a/x:get; lost a/x:get"},
		{"a role with less in it", access.Edit{Come: access.Come{Roles: []model.Role{{Name: "editor",
			Rights: perms("a/x:set")}}}}, "lost a/x:list; stays a/x:get by g-2"},
		{"a membership", access.Edit{Gone: access.Gone{Memberships: []model.Membership{{Member: id("person/a"),
			Group: id("group/g")}}}}, "stays a/x:set by g-1; stays a/x:get by g-1"},
		{"a group", access.Edit{Gone: access.Gone{Identities: []model.ID{id("group/h")}}}, "stays a/x:get by g-1"},
		{"a grant in place of another", access.Edit{Come: access.Come{Grants: []model.Grant{{ID: "g-1",
			To: id("person/a"), Rights: perms("b/y:admin"), Where: on(box)}}}},
			"lost a/x:list; narrowed a/x:set to " + box + "; stays a/x:get by g-2; gains b/y:admin"},
		{"a denial", access.Edit{Come: access.Come{Denials: []model.Denial{{ID: "d-9", To: []model.ID{id("group/g")},
			Rights: perms("a/x:list"), Where: on("/s/**")}}}}, "lost a/x:list"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			y, err := x.With(tt.edit)
			if err != nil {
				t.Fatal(err)
			}
			d := index.Compare(x, y, id("person/a"))
			var lost, narrowed, rest []string
			for _, p := range d.Lost {
				if len(p.Left) > 0 {
					narrowed = append(narrowed, fmt.Sprintf("narrowed %s to %s", p.Permission, p.Left[0]))
				} else {
					lost = append(lost, "lost "+p.Permission.String())
				}
			}
			for _, p := range d.Stays {
				rest = append(rest, fmt.Sprintf("stays %s by %s", p.Permission, p.Grant.ID))
			}
			for _, p := range d.Gained {
				rest = append(rest, "gains "+p.Permission.String())
			}
			if got := strings.Join(append(append(lost, narrowed...), rest...), "; "); got != tt.want {
				t.Errorf("%q, want %q", got, tt.want)
			}
		})
	}
	for _, gone := range []access.Gone{
		{Grants: []string{"g-9"}}, {Roles: []string{"none"}}, {Identities: []model.ID{id("person/nobody")}},
		{Denials: []string{"d"}}, {Ceilings: []string{"c"}}, {Guardrails: []string{"r"}}, {ActAs: []string{"a"}},
		{Memberships: []model.Membership{{Member: id("person/b"), Group: id("group/g")}}},
	} {
		if _, err := x.With(access.Edit{Gone: gone}); !errors.Is(err, index.ErrUnknown) {
			t.Errorf("without %+v, which is not there: %v", gone, err)
		}
	}
}
