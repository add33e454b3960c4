package draft

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestSwitchedOn: what was done before a log was switched on looks as if it began then, and teaches nothing: as of
// a day before that, or so shortly after that nobody could tell, its places are as dark as where there is no log yet.
// Logs that were there all the time are as they are, and what is asked as of today is.
func TestSwitchedOn(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}}}
	for _, verb := range []string{"read", "put"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/box:" + verb),
			Level: model.Change, LogClass: verb, Kinds: []string{"box"}})
	}
	for p := range 3 {
		project := model.MustPath(fmt.Sprintf("/m/project:p%d", p))
		e.Nodes = append(e.Nodes, model.Node{Path: project}, model.Node{Path: project.Child("box", "b")})
		for _, class := range []string{"read", "put"} {
			r := model.CoverageRecord{Node: project, Service: "s", LogClass: class, Written: p < 2 || class == "put"}
			if p == 1 && class == "read" {
				r.Since = now.AddDate(0, 0, -200)
			}
			e.Coverage = append(e.Coverage, r)
		}
	}
	id := model.MustID("workload/w")
	e.Identities = []model.Identity{{ID: id, Created: now.AddDate(-3, 0, 0)}}
	g := grantOf("g", id.String(), "/m/**")
	g.Rights.Do = []model.PermissionPattern{model.MustPermissionPattern("s/box:*")}
	g.Created = now.AddDate(-2, 0, 0)
	e.Grants = []model.Grant{g}
	f := usage.Fold{}
	f.Add(usage.Call{Time: now, Identity: id, Permission: model.MustPermission("s/box:put"), Outcome: usage.Done,
		Path: model.MustPath("/m/project:p0/box:b")})
	in := lived(t, e, f, now)
	w := NewWorth(in, gauge.Run(in))
	for _, tt := range []struct {
		ago       int
		read, put string
	}{
		{0, "[/m/project:p2/**]", "[]"},
		{90, "[/m/project:p2/**]", "[]"},
		{110, "[/m/project:p2/**]", "[]"}, // it was there for 90 days
		{120, "[/m/project:p2/** /m/project:p1/**]", "[]"},
		{201, "[/m/project:p2/** /m/project:p1/**]", "[]"},
		{300, "[/m/project:p2/** /m/project:p1/**]", "[]"},
	} {
		held := w.Granted(id, usage.DayOf(now)-usage.Day(tt.ago))
		for verb, want := range map[string]string{"read": tt.read, "put": tt.put} {
			perm, _ := in.Index.PermNumber(model.MustPermission("s/box:" + verb))
			if got := fmt.Sprint(held[perm].Dark); got != want {
				t.Errorf("%d days ago: no log shows %s on %s, want %s", tt.ago, verb, got, want)
			}
			for p, lit := range []bool{false, strings.Contains(want, "p1"), false} { // p2 has no log today
				at := model.MustPath(fmt.Sprintf("/m/project:p%d/box:b", p))
				if got := held[perm].Hid != nil && held[perm].Hid(at); got != lit {
					t.Errorf("%d days ago: of %s on %s a log was switched on since: %t", tt.ago, verb, at, got)
				}
			}
		}
	}
	// Where all logs are short nothing is lighter than it is today.
	in.History = now.AddDate(0, 0, -50)
	in.Coverage = usage.NewCoverage(e.Coverage, usage.Read{First: in.History, Ends: []time.Time{now}, Until: now})
	r := gauge.Run(in)
	for _, ago := range []int{10, 25, 49} {
		held := NewWorth(in, r).Granted(id, usage.DayOf(now)-usage.Day(ago))
		for perm, h := range held {
			if want := r.Grants[0].DarkAt(perm); len(want) == 0 || fmt.Sprint(h.Dark) != fmt.Sprint(want) {
				t.Errorf("%d days ago, of logs of 50: no log shows %d on %v, want %v", ago, perm, h.Dark, want)
			}
		}
	}
}
