package backtest_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/backtest"
	"clipfence/internal/core/model"
	"clipfence/internal/kept"
)

// TestKept: on random lives, of people and workloads, with habits that end, move on and come back,
// with groups, and with a project of which no log is kept, every way does what it did.
func TestKept(t *testing.T) {
	kept.Same(t, 60, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 6))
		c := newCase()
		names := []string{"a", "b", "c", "d"}
		if r.IntN(2) == 0 { // of names with numbers, and of numbers alone
			names = [][]string{{"run-1", "run-2", "run-17", "zone-b"}, {"1", "22", "x9y", "x8y"}}[r.IntN(2)]
			for p := range 2 {
				for _, name := range names {
					c.e.Nodes = append(c.e.Nodes, model.Node{Path: named(p, name)})
				}
			}
		}
		if r.IntN(3) == 0 {
			c.e.Coverage = append(c.e.Coverage, model.CoverageRecord{Node: model.MustPath("/m/project:p1"),
				Service:  "s",
				LogClass: "all"})
		}
		var who []model.ID
		for k := range 10 {
			if k%3 > 0 {
				who = append(who, c.who(fmt.Sprint("w", k)))
				continue
			}
			id := model.MustID(fmt.Sprint("person/p", k))
			c.e.Identities = append(c.e.Identities, model.Identity{ID: id, Created: then.AddDate(-3, 0, 0)})
			who = append(who, id)
			if team := model.MustID(fmt.Sprint("group/t", k%2)); r.IntN(2) == 0 {
				if !slices.ContainsFunc(c.e.Identities, func(o model.Identity) bool { return o.ID == team }) {
					c.e.Identities = append(c.e.Identities, model.Identity{ID: team})
					c.e.Grants = append(c.e.Grants, grantTo(team))
				}
				c.e.Memberships = append(c.e.Memberships, model.Membership{Member: id, Group: team})
			} else {
				c.e.Grants = append(c.e.Grants, grantTo(id))
			}
		}
		for k, id := range who {
			p, b := r.IntN(2), r.IntN(4)
			often := []int{1, 3, 12, 40}[r.IntN(4)]
			from, to := -199+r.IntN(120), 90
			if r.IntN(4) == 0 {
				to = r.IntN(120) - 60
			}
			for d := from; d <= to; d++ {
				if r.IntN(30) == 0 {
					if b = r.IntN(4); r.IntN(3) == 0 {
						p = r.IntN(2)
					}
				}
				if r.IntN(often) == 0 {
					c.does(id, []string{"read", "put", "scrap"}[(k+r.IntN(5)/4)%3], named(p, names[b]), d)
				}
			}
		}
		var b strings.Builder
		res, err := c.run(t)
		if err != nil {
			return fmt.Sprint(i), err.Error()
		}
		fmt.Fprintf(&b, "%d callers %.6g held %.6g least\n", res.Callers, res.Held, res.Least)
		for _, x := range res.Rows {
			fmt.Fprintf(&b, "%s %g gates %t: asks %d broken %d %d expected %.5g %.5g places %d calls %d left %.6g "+
				"removed %.6g drafts %d pieces %d %d\n", x.Name, float64(x.Caution), x.Gates, x.Asks, x.Early,
				x.Broken,
				x.Expected, x.Hasty, x.Places, x.Calls, x.Left, x.Removed, x.Drafts, x.Pieces, x.Median)
		}
		for _, bins := range [][]backtest.Bin{res.All, res.Dropped} {
			for _, x := range bins {
				fmt.Fprintf(&b, " %g-%g %d %.5g %d", x.From, x.To, x.Parts, x.Expected, x.Needed)
			}
		}
		return fmt.Sprint(i), b.String()
	})
}

func named(p int, name string) model.Path {
	return model.MustPath(fmt.Sprintf("/m/project:p%d/box:%s", p, name))
}

func grantTo(id model.ID) model.Grant {
	return model.Grant{ID: "g-" + id.Name, To: id, Created: then.AddDate(-3, 0, 0),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}},
		Where:  []model.PathPattern{model.MustPathPattern("/m/**")}}
}
