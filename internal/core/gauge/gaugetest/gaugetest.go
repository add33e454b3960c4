// Package gaugetest builds small estates with their uses from a few lines of text,
// for the tables of tests that compare, draft and rehearse.
package gaugetest

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Now is when every scenario is looked at.
var Now = time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)

// Parse builds an input from lines of a small language:
//
//	grant ID TO PERMS ON [new] [until] [by-day] [second-factor]
//	used WHO PERM PATH DAYS        DAYS: 1-90 for each day that many days ago, /7 for every seventh
//	refused WHO PERM PATH DAYS
//	acted WHO PERM PATH DAYS       by workload/b, with the rights of WHO
//	role NAME PERMS
//	log off|since-N                the reading class of service store, for everything
//	log NODE on|off|since-N        the same, from a node down
//	node PATH
//	inventory                      what is beside the nodes that are listed is not there
//	seen WHO DAYS                  the source remembers a sign-in so many days ago
//	disabled WHO, protected WHO, young WHO, member WHO GROUP
//
// The estate has the workloads a and b, the person p, the group g, six containers in
// one project, and 400 days of log.
func Parse(text string) (*gauge.Input, error) {
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")},
		{Path: model.MustPath("/m/berth:x")}}}
	for i := range 6 {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/m/berth:x/box:b%d", i))})
	}
	levels := map[string]model.Level{"stow/item:find": model.See, "stow/item:read": model.Read,
		"stow/item:change": model.Change, "stow/box:scrap": model.Administer, "muster/grant:give": model.HandOut,
		"quiet/thing:do": model.Change}
	for _, p := range slices.Sorted(maps.Keys(levels)) {
		l := levels[p]
		c := model.CatalogueEntry{Permission: model.MustPermission(p), Level: l, LogClass: "read"}
		switch {
		case l == model.HandOut:
			c.Escalates, c.Kinds = model.EditGrants, []string{"berth"}
		case c.Permission.Service() == "stow":
			c.Kinds = []string{"box"}
		default:
			c.LogClass = "" // no log ever shows it
		}
		e.Catalogue = append(e.Catalogue, c)
	}
	for _, id := range []string{"workload/a", "workload/b", "person/p", "group/g"} {
		e.Identities = append(e.Identities, model.Identity{ID: model.MustID(id), Created: Now.AddDate(-2, 0, 0)})
	}
	identity := func(who string) *model.Identity {
		return &e.Identities[slices.IndexFunc(e.Identities,
			func(i model.Identity) bool { return i.ID == model.MustID(who) })]
	}
	for _, s := range []string{"stow", "muster"} {
		e.Coverage = append(e.Coverage, model.CoverageRecord{Node: model.MustPath("/m"), Service: s, LogClass: "read",
			Written: true})
	}
	listed, grouped, emptied := false, map[model.ID]bool{}, map[model.ID]bool{}
	in := &gauge.Input{AsOf: Now, Window: 90, History: Now.AddDate(0, 0, -400), Protected: map[model.ID]bool{}}
	fold := usage.Fold{}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		switch f[0] {
		case "grant":
			g := model.Grant{ID: f[1], To: model.MustID(f[2]), Created: Now.AddDate(-1, 0, 0)}
			for p := range strings.SplitSeq(f[3], ",") {
				g.Do = append(g.Do, model.MustPermissionPattern(p))
			}
			g.Where = []model.PathPattern{model.MustPathPattern(f[4])}
			for _, opt := range f[5:] {
				n := 0
				if _, err := fmt.Sscanf(opt, "made-%d", &n); err == nil {
					g.Created = Now.AddDate(0, 0, -n)
				}
				switch opt {
				case "new":
					g.Created = Now.AddDate(0, 0, -7)
				case "until":
					g.Until = Now.AddDate(0, 0, 3)
				case "by-day":
					g.When.Hours = &model.Hours{Days: []string{"mon"}, From: "08:00", To: "17:00", Zone: "UTC"}
				case "second-factor":
					g.When.SecondFactor = true
				}
			}
			e.Grants = append(e.Grants, g)
		case "used", "refused", "acted":
			span, step, _ := strings.Cut(f[4], "/")
			from, to, each := 0, 0, 1
			if _, err := fmt.Sscanf(span, "%d-%d", &from, &to); err != nil {
				return nil, err
			}
			if step != "" {
				if _, err := fmt.Sscan(step, &each); err != nil {
					return nil, err
				}
			}
			for d := from; d <= to; d += each {
				c := usage.Call{Time: Now.AddDate(0, 0, -d), Identity: model.MustID(f[1]),
					Permission: model.MustPermission(f[2]), Path: model.MustPath(f[3]), Outcome: usage.Done}
				switch f[0] {
				case "refused":
					c.Outcome = usage.Refused
				case "acted":
					c.ActingFor, c.Identity = c.Identity, model.MustID("workload/b")
				}
				fold.Add(c)
			}
		case "log":
			r := &e.Coverage[0]
			if len(f) > 2 {
				e.Coverage = append(e.Coverage, model.CoverageRecord{Node: model.MustPath(f[1]), Service: "stow",
					LogClass: "read"})
				r, f = &e.Coverage[len(e.Coverage)-1], f[1:]
			}
			r.Written = f[1] != "off"
			n := 0
			if _, err := fmt.Sscanf(f[1], "since-%d", &n); err == nil {
				r.Since = Now.AddDate(0, 0, -n)
			}
		case "inventory":
			listed = true
		case "node":
			e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(f[1])})
		case "seen":
			n := 0
			fmt.Sscan(f[2], &n)
			identity(f[1]).LastSeen = Now.AddDate(0, 0, -n)
		case "grouped": // the log tells its groups
			grouped[model.MustID(f[1])] = true
		case "bypass": // every check lets it through
			e.Semantics.Bypass = append(e.Semantics.Bypass, model.MustID(f[1]))
		case "emptied": // the group had members that left it
			emptied[model.MustID(f[1])] = true
		case "disabled":
			identity(f[1]).Disabled = true
		case "role":
			r := model.Role{Name: f[1]}
			for p := range strings.SplitSeq(f[2], ",") {
				r.Do = append(r.Do, model.MustPermissionPattern(p))
			}
			e.Roles = append(e.Roles, r)
		case "young":
			n := 9
			if len(f) > 2 {
				if _, err := fmt.Sscan(f[2], &n); err != nil {
					return nil, err
				}
			}
			identity(f[1]).Created = Now.AddDate(0, 0, -n)
		case "protected":
			in.Protected[model.MustID(f[1])] = true
		case "member":
			e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID(f[1]),
				Group: model.MustID(f[2])})
		default:
			return nil, fmt.Errorf("what is %q?", f[0])
		}
	}
	var err error
	if in.Index, err = index.Build(e); err != nil {
		return nil, err
	}
	in.Uses = usage.ListOf(fold.Uses()...)
	if listed {
		var nodes []model.Path
		for _, n := range e.Nodes {
			nodes = append(nodes, n.Path)
		}
		in.Place.Inventory = usage.NewInventory(e.Source, nodes, nil)
	}
	in.Place.Grouped = func(id model.ID) bool { return grouped[id] }
	in.Place.Emptied = func(group model.ID) bool { return emptied[group] }
	in.Coverage = usage.NewCoverage(e.Coverage, usage.Read{First: in.History, Ends: []time.Time{Now}})
	return in, nil
}
