package draft

import (
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestMissed: a call that was refused since a change of ours took the access for it is a need, or what was given
// back would look as if nobody had wanted it since; what others took, or never was there, and what was refused
// all the same while it was there, is none.
func TestMissed(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	ann, bob, ops := model.MustID("person/ann"), model.MustID("person/bob"), model.MustID("group/ops")
	read, put := model.MustPermission("s/box:read"), model.MustPermission("s/box:put")
	a, b := model.MustPath("/m/box:a"), model.MustPath("/m/box:b")
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	former := func(to model.ID, ours bool) gauge.Former {
		g := model.Grant{ID: "gone", To: to, Where: []model.PathPattern{a.Below()},
			Rights: model.Rights{Do: []model.PermissionPattern{read.Pattern()}}}
		return gauge.Former{Grant: g, From: ago(500), To: ago(40), Ours: ours}
	}
	for _, tt := range []struct {
		name string
		gone []gauge.Former
		perm model.Permission
		on   model.Path
		ago  int
		out  usage.Outcome
		want bool
	}{
		{"since our change", []gauge.Former{former(ann, true)}, read, a, 20, usage.Refused, true},
		{"below what it had", []gauge.Former{former(ann, true)}, read, a.Child("", "x"), 20, usage.Refused, true},
		{"had by a group", []gauge.Former{former(ops, true)}, read, a, 20, usage.Refused, true},
		{"taken by others", []gauge.Former{former(ann, false)}, read, a, 20, usage.Refused, false},
		{"while it was there", []gauge.Former{former(ann, true)}, read, a, 50, usage.Refused, false},
		{"another permission", []gauge.Former{former(ann, true)}, put, a, 20, usage.Refused, false},
		{"another place", []gauge.Former{former(ann, true)}, read, b, 20, usage.Refused, false},
		{"nothing is gone", nil, read, a, 20, usage.Refused, false},
		{"somebody else's", []gauge.Former{former(bob, true)}, read, a, 20, usage.Refused, false},
		{"let through", nil, put, b, 20, usage.Done, true},
		{"failed for another reason", nil, put, b, 20, usage.Failed, true},
	} {
		e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}, {Path: a}, {Path: b}},
			Identities:  []model.Identity{{ID: ann}, {ID: ops}, {ID: bob}},
			Memberships: []model.Membership{{Member: ann, Group: ops}}}
		for _, p := range []model.Permission{read, put} {
			e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: p, Level: model.Read, LogClass: "all"})
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		f := usage.Fold{}
		f.Add(usage.Call{Time: ago(tt.ago), Identity: ann, Permission: tt.perm, Path: tt.on, Outcome: tt.out})
		in := &gauge.Input{Index: x, Uses: usage.ListOf(f.Uses()...), AsOf: now, Window: 90, History: ago(400),
			Coverage: usage.NewCoverage(nil, usage.Read{First: ago(400), Ends: []time.Time{now}, Until: now})}
		if tt.gone != nil {
			var come access.Come
			for _, g := range tt.gone {
				come.Grants = append(come.Grants, g.Grant)
			}
			all, err := x.With(access.Edit{Come: come})
			if err != nil {
				t.Fatal(err)
			}
			in.Before = &gauge.Before{Gone: tt.gone, Index: all}
		}
		past, _ := NewWorth(in, gauge.Run(in)).Risk()
		n, _ := x.PermNumber(tt.perm)
		if got := past.Used(ann, n); got != tt.want {
			t.Errorf("%s: a need %t, want %t", tt.name, got, tt.want)
		}
	}
}
