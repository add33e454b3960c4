package gauge_test

import (
	"fmt"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestMadeAgain: grants that were made again with many others are as old as the logs; one alone, or
// many that were new indeed, keep their dates, and so do those among them that say they are old.
func TestMadeAgain(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	const made = -20 // days
	perm := model.MustPermission("s/item:read")
	for name, tt := range map[string]struct {
		grants int               // made on one day
		spread bool              // or each on a day of its own
		used   func(i int) []int // on which days each is used
		old    bool              // a grant of long ago gives everybody the same
		again  int
	}{
		"all were used before": {8, false, func(int) []int { return []int{-60, -5} }, false, 8},
		"half of them are used at all": {12, false, func(i int) []int {
			return []int{-60, -5}[:2*(i%2)]
		}, false, 12},
		"four are too few": {8, false, func(i int) []int {
			if i < 4 {
				return []int{-60, -5}
			}
			return nil
		}, false, 0},
		"five are enough": {8, false, func(i int) []int {
			if i < 5 {
				return []int{-60, -5}
			}
			return nil
		}, false, 8},
		"used since alone":  {8, false, func(int) []int { return []int{-19, -5} }, false, 0},
		"on the day before": {8, false, func(int) []int { return []int{made - 1, -5} }, false, 0},
		"two days before":   {8, false, func(int) []int { return []int{made - 2, -5} }, false, 8},
		"four of five": {10, false, func(i int) []int { return []int{-60 + 50*b2i(i >= 8), -5} }, false,
			10},
		"fewer":                   {10, false, func(i int) []int { return []int{-60 + 50*b2i(i >= 7), -5} }, false, 0},
		"another allowed it":      {8, false, func(int) []int { return []int{-60, -5} }, true, 0},
		"each on a day, too few":  {19, true, func(int) []int { return []int{-80, -5} }, false, 0},
		"each on a day, and many": {20, true, func(int) []int { return []int{-80, -5} }, false, 20},
	} {
		t.Run(name, func(t *testing.T) {
			e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")},
				{Path: model.MustPath("/m/box:a")}}, Catalogue: []model.CatalogueEntry{
				{Permission: perm, Level: model.Read, LogClass: "l"},
				{Permission: model.MustPermission("s/item:scrap"), Level: model.Administer, LogClass: "l"}},
				Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "l",
					Written: true}}}
			fold := usage.Fold{}
			grant := func(to model.ID, created time.Time) {
				e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprintf("g%d", len(e.Grants)), To: to,
					Created: created,
					Rights:  model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}},
					Where:   []model.PathPattern{model.MustPathPattern("/m/**")}})
			}
			for i := range tt.grants {
				id := model.MustID(fmt.Sprintf("workload/w%d", i))
				e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
				day := made
				if tt.spread {
					day = made - i
				}
				grant(id, now.AddDate(0, 0, day))
				for _, d := range tt.used(i) {
					fold.Add(usage.Call{Time: now.AddDate(0, 0, d), Identity: id, Permission: perm,
						Path: model.MustPath("/m/box:a"), Outcome: usage.Done})
				}
			}
			long := model.MustID("workload/long")
			e.Identities = append(e.Identities, model.Identity{ID: long, Created: now.AddDate(-3, 0, 0)})
			grant(long, now.AddDate(-2, 0, 0))
			if tt.old {
				grant(model.MustID("everyone"), now.AddDate(-2, 0, 0))
			}
			x, err := index.Build(e)
			if err != nil {
				t.Fatal(err)
			}
			first := now.AddDate(0, 0, -300)
			in := &gauge.Input{Index: x, Uses: usage.ListOf(fold.Uses()...), AsOf: now, Window: 90, History: first,
				Coverage: usage.NewCoverage(e.Coverage, usage.Read{First: first, Ends: []time.Time{now}})}
			check := func(want int, since time.Time) {
				t.Helper()
				r := gauge.Run(in)
				if r.Again != want {
					t.Errorf("%d were made again, want %d", r.Again, want)
				}
				for i, g := range r.Grants {
					again := i < tt.grants && want > 0
					if again != g.Since.Equal(since) || !again && !g.Since.Equal(g.Grant.Created) {
						t.Errorf("%s of %s is since %s", g.Grant.ID, g.Grant.Created, g.Since)
					}
					if i < tt.grants && len(tt.used(i)) == 0 {
						continue // its holder cannot be judged either
					}
					if young := g.TooNew.Count() > 0; young != (i < tt.grants && want == 0) {
						t.Errorf("%s: too new %t", g.Grant.ID, young)
					}
				}
			}
			check(tt.again, first)
			// Surveys that are kept say more.
			was := now.AddDate(0, 0, -200)
			in.Since = func(g *model.Grant) time.Time {
				if g.To == long {
					t.Error("asked of one that is old")
				}
				return was
			}
			check(tt.grants, was)
			in.Since = func(*model.Grant) time.Time { return time.Time{} }
			check(tt.again, first)
			in.Since = func(g *model.Grant) time.Time { return g.Created.AddDate(0, 0, 5) } // makes none younger
			check(tt.again, first)
			// What they replaced is known of all of them: that they were used before says nothing more.
			for was, want := range map[time.Time]time.Time{now.AddDate(0, 0, -50): now.AddDate(0, 0, -50),
				gauge.Long: first} {
				in.Since = func(*model.Grant) time.Time { return was }
				for _, g := range gauge.Run(in).Grants[:tt.grants] {
					if !g.Since.Equal(want) && g.Grant.Created.After(was) {
						t.Errorf("%s replaced what was granted since %s, and is since %s", g.Grant.ID, was, g.Since)
					}
				}
			}
		})
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestRedundantOfDisabled: what a disabled identity has twice is no redundancy: all of it goes.
func TestRedundantOfDisabled(t *testing.T) {
	const both = "grant g1 workload/a stow/item:read /m/**\ngrant g2 workload/a stow/item:read /m/**\n"
	for text, want := range map[string]int{both: 1, both + "disabled workload/a\n": 0,
		both + "protected workload/a\n": 0} {
		in, err := gaugetest.Parse(text + "used workload/a stow/item:read /m/berth:x/box:b1 1-90\n")
		if err != nil {
			t.Fatal(err)
		}
		if got := gauge.Run(in).Redundant(in); len(got) != want {
			t.Errorf("%s: %v", text, got)
		}
	}
}

// TestStrayFreezes: a call of one whom nobody lists freezes what the groups give that it is in by
// memberships, and not what others give.
func TestStrayFreezes(t *testing.T) {
	stray := model.MustID("person/nobody")
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")},
		{Path: model.MustPath("/m/box:a")}},
		Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "l", Written: true}}}
	for _, verb := range []string{"read", "put"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/item:" + verb),
			Level: model.Read, LogClass: "l"})
	}
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	for _, g := range []string{"group/in", "group/out"} {
		id := model.MustID(g)
		e.Identities = append(e.Identities, model.Identity{ID: id})
		e.Grants = append(e.Grants, model.Grant{ID: g, To: id, Created: now.AddDate(-2, 0, 0),
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}},
			Where:  []model.PathPattern{model.MustPathPattern("/m/**")}})
	}
	e.Memberships = []model.Membership{{Member: stray, Group: model.MustID("group/in")}}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	fold := usage.Fold{}
	fold.Add(usage.Call{Time: now.AddDate(0, 0, -3), Identity: stray, Permission: model.MustPermission("s/item:put"),
		Path: model.MustPath("/m/box:a"), Outcome: usage.Done})
	first := now.AddDate(0, 0, -300)
	r := gauge.Run(&gauge.Input{Index: x, Uses: usage.ListOf(fold.Uses()...), AsOf: now, Window: 90, History: first,
		Coverage: usage.NewCoverage(e.Coverage, usage.Read{First: first, Ends: []time.Time{now}})})
	for _, g := range r.Grants {
		if want := b2i(g.Grant.ID == "group/in"); g.Frozen.Count() != want {
			t.Errorf("%s: %d permissions are frozen, want %d", g.Grant.ID, g.Frozen.Count(), want)
		}
	}
}
