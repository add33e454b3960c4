package draft_test

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// plain is an estate of projects of boxes with a life of 400 days in which thirty programs do
// the same every day, so that habits are known to go on, and whatever a case adds.
type plain struct {
	t             *testing.T
	e             *model.Estate
	before, after usage.Fold
}

var asOf = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

var verbs = []struct {
	name  string
	level model.Level
}{{"list", model.See}, {"read", model.Read}, {"put", model.Change}, {"scrap", model.Administer},
	{"share", model.HandOut}}

func newPlain(t *testing.T) *plain {
	t.Helper()
	c := &plain{t: t, e: &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}}},
		before: usage.Fold{}, after: usage.Fold{}}
	for _, v := range verbs {
		class := "change"
		if v.level <= model.Read {
			class = "read"
		}
		c.e.Catalogue = append(c.e.Catalogue, model.CatalogueEntry{Level: v.level, LogClass: class,
			Permission: model.MustPermission("s/item:" + v.name), Kinds: []string{"box"}})
	}
	for i := range 244 { // of another service
		c.e.Catalogue = append(c.e.Catalogue, model.CatalogueEntry{Level: verbs[i%4].level, LogClass: "change",
			Permission: model.MustPermission(fmt.Sprintf("big/item:do-%d", i)), Kinds: []string{"box"}})
	}
	for p := range 10 {
		c.node(project(p))
		for b := range 8 {
			c.node(project(p) + fmt.Sprintf("/box:%c", 'a'+b))
		}
	}
	c.log("/m", "s", "read", true)
	c.log("/m", "s", "change", true)
	c.log("/m", "big", "change", true)
	for i := range 30 {
		c.grant(c.who(fmt.Sprintf("workload/steady%d", i)), steadyAt(i)+"/**", 900, "s/item:read", "s/item:put")
	}
	return c
}

// input is the estate with what is done before asOf, as logs of 420 days show it.
func (c *plain) input() *gauge.Input {
	c.t.Helper()
	x, err := index.Build(c.e)
	if err != nil {
		c.t.Fatal(err)
	}
	first := asOf.AddDate(0, 0, -420)
	uses := usage.ListOf(slices.Concat(steady(), c.before.Uses())...)
	nodes := usage.InventoryOf(x, nil, nil)
	nodes.Witness(uses, func(p model.Permission) []string { e, _ := x.Entry(p); return e.Kinds })
	return &gauge.Input{Index: x, Uses: uses, AsOf: asOf, Place: gauge.PlaceInput{Inventory: nodes},
		Window: 90, History: first, Coverage: usage.NewCoverage(c.e.Coverage,
			usage.Read{First: first, Ends: []time.Time{asOf}, Until: asOf})}
}

func steadyAt(i int) string { return project(i%10) + fmt.Sprintf("/box:%c", 'a'+i%8) }

// steady is what the thirty do.
var steady = sync.OnceValue(func() []usage.Use {
	c := &plain{before: usage.Fold{}, after: usage.Fold{}}
	for i := range 30 {
		for _, verb := range []string{"read", "put"} {
			c.uses(model.MustID(fmt.Sprintf("workload/steady%d", i)), verb, steadyAt(i), span(-399, 0)...)
		}
	}
	return c.before.Uses()
})

func project(p int) string { return fmt.Sprintf("/m/project:p%d", p) }

func (c *plain) node(p string) { c.e.Nodes = append(c.e.Nodes, model.Node{Path: model.MustPath(p)}) }

func (c *plain) log(at, service, class string, on bool) {
	c.e.Coverage = append(c.e.Coverage, model.CoverageRecord{Node: model.MustPath(at), Service: service,
		LogClass: class, Written: on})
}

func (c *plain) who(name string) model.ID {
	id := model.MustID(name)
	c.e.Identities = append(c.e.Identities, model.Identity{ID: id, Created: asOf.AddDate(0, 0, -900)})
	return id
}

// group makes a group of so many people.
func (c *plain) group(n int) (model.ID, []model.ID) {
	g := c.who("group/g")
	var in []model.ID
	for i := range n {
		id := c.who(fmt.Sprintf("person/m%d", i))
		c.e.Memberships = append(c.e.Memberships, model.Membership{Member: id, Group: g})
		in = append(in, id)
	}
	return g, in
}

// grant gives something that was given so many days ago.
func (c *plain) grant(to model.ID, where string, age int, do ...string) {
	g := model.Grant{ID: fmt.Sprint("g", len(c.e.Grants)), To: to, Created: asOf.AddDate(0, 0, -age),
		Where: []model.PathPattern{model.MustPathPattern(where)}}
	for _, p := range do {
		g.Do = append(g.Do, model.MustPermissionPattern(p))
	}
	c.e.Grants = append(c.e.Grants, g)
}

// uses are calls so many days after the day that is drafted on, or before it.
func (c *plain) uses(id model.ID, verb, at string, days ...int) {
	p := "s/item:" + verb
	if verb[:3] == "do-" {
		p = "big/item:" + verb
	}
	c.calls(id, p, at, days...)
}

func (c *plain) calls(id model.ID, p, at string, days ...int) {
	for _, d := range days {
		f := c.before
		if d > 0 {
			f = c.after
		}
		f.Add(usage.Call{Time: asOf.AddDate(0, 0, d), Identity: id, Permission: model.MustPermission(p),
			Path: model.MustPath(at), Outcome: usage.Done})
	}
}

func span(from, to int) (out []int) {
	for d := from; d <= to; d++ {
		out = append(out, d)
	}
	return out
}

// every is one day of so many.
func every(n, from, to int) (out []int) {
	for d := from; d <= to; d += n {
		out = append(out, d)
	}
	return out
}

// drafted drafts for everybody at normal caution, and returns what all but the steady ones hold
// before and after, and how many of the later calls are refused.
func (c *plain) drafted() (before, after float64, refused int) {
	c.t.Helper()
	in := c.input()
	x := in.Index
	res := gauge.Run(in)
	worth := draft.NewWorth(in, res)
	var edit access.Edit
	for _, id := range draft.Candidates(in, res, worth) {
		f, err := draft.FromUse(in, res, id, draft.Options{Worth: worth})
		if errors.Is(err, draft.ErrNothing) {
			continue
		}
		if err != nil {
			c.t.Fatal(err)
		}
		d := f.Edit("m")
		edit.Gone.Grants = append(edit.Gone.Grants, d.Gone.Grants...)
		edit.Gone.Memberships = append(edit.Gone.Memberships, d.Gone.Memberships...)
		edit.Come.Grants = append(edit.Come.Grants, d.Come.Grants...)
	}
	y, err := x.With(edit)
	if err != nil {
		c.t.Fatal(err)
	}
	one, two := gauge.NewScale(x, gauge.DefaultWeights), gauge.NewScale(y, gauge.DefaultWeights)
	for _, s := range res.Standings {
		if s.ID.Kind == model.Group || s.ID.Name[:min(6, len(s.ID.Name))] == "steady" {
			continue
		}
		d, _ := one.Held(s.ID)
		before += d
		d, _ = two.Held(s.ID)
		after += d
	}
	for _, u := range c.after.Uses() {
		if x.Decide(u.Identity, u.Permission, u.Path, model.Context{}).Outcome == access.Allowed &&
			y.Decide(u.Identity, u.Permission, u.Path, model.Context{}).Outcome != access.Allowed {
			refused++
		}
	}
	return before, after, refused
}

// on is the danger of some levels on so many places.
func on(places int, levels ...model.Level) float64 {
	d := 0.0
	for _, l := range levels {
		d += gauge.DefaultWeights.Of(l, places)
	}
	return d
}

// TestCases: where it is obvious what should stay, it is what stays, or little more, and nothing
// that is needed is refused. The optimum is what stays needed; most is what a draft may leave.
func TestCases(t *testing.T) {
	all := []string{"s/item:*"}
	box := project(0) + "/box:a"
	for _, tt := range []struct {
		name          string
		make          func(c *plain)
		optimum, most float64
		refused       int
	}{
		{"2 of 244 permissions in a bucket", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, box+"/**", 900, "big/item:*")
			c.uses(id, "do-1", box, span(-399, 90)...)
			c.uses(id, "do-2", box, span(-399, 90)...)
		}, on(1, model.Read, model.Change), on(1, model.Read, model.Change), 0},
		{"one user among eight", func(c *plain) {
			g, in := c.group(8)
			c.grant(g, project(0)+"/**", 900, all...)
			c.uses(in[0], "read", box, span(-399, 90)...)
			for _, id := range in[1:] {
				c.grant(id, project(1)+"/**", 900, "s/item:read")
				c.uses(id, "read", project(1)+"/box:b", span(-399, 90)...)
			}
		}, 8 * on(1, model.Read), 8*on(1, model.Read) + 8*on(8, model.Read), 0},
		{"one administrator among eight members", func(c *plain) {
			g, in := c.group(8)
			c.grant(g, project(0)+"/**", 900, all...)
			for i, id := range in {
				c.uses(id, "read", box, span(-399, 90)...)
				if i == 0 {
					c.uses(id, "scrap", box, every(5, -399, 90)...)
				}
			}
		}, 8*on(1, model.Read) + on(1, model.Administer), 8*on(1, model.Read) + on(1, model.Administer), 0},
		{"power that one of three members uses, of a grant of which all is used", func(c *plain) {
			g, in := c.group(3)
			c.grant(g, box+"/**", 900, "s/item:read", "s/item:scrap")
			for _, id := range in {
				c.uses(id, "read", box, span(-399, 90)...)
			}
			c.uses(in[0], "scrap", box, every(5, -399, 90)...)
		}, 3*on(1, model.Read) + on(1, model.Administer), 3*on(1, model.Read) + on(1, model.Administer), 0},
		{"a direct grant that a group gives too", func(c *plain) {
			g, in := c.group(2)
			c.grant(g, box+"/**", 900, "s/item:read")
			c.grant(in[0], box+"/**", 900, "s/item:read")
			for _, id := range in {
				c.uses(id, "read", box, span(-399, 90)...)
			}
		}, 2 * on(1, model.Read), 2 * on(1, model.Read), 0},
		{"an idle member", func(c *plain) {
			g, in := c.group(3)
			c.grant(g, box+"/**", 900, "s/item:read", "s/item:scrap")
			for _, id := range in[1:] {
				c.uses(id, "read", box, span(-399, 90)...)
			}
			c.uses(in[0], "read", box, span(-399, -200)...)
		}, 2 * on(1, model.Read), 2 * on(1, model.Read), 0},
		{"a yearly job alone", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "put", box, -330, -331, 35, 36)
		}, on(1, model.Change), on(1, model.Change), 0},
		{"a yearly job that only its source remembers", func(c *plain) {
			id := c.who("workload/w")
			c.e.Identities[len(c.e.Identities)-1].LastSeen = asOf.AddDate(0, 0, -330)
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "put", box, 35, 36)
		}, on(8, model.See, model.Read, model.Change, model.Administer, model.HandOut),
			on(8, model.See, model.Read, model.Change, model.Administer, model.HandOut), 0},
		{"a yearly job beside a daily one", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "read", box, span(-399, 90)...)
			c.uses(id, "put", project(0)+"/box:b", -330, -331, 35, 36)
		}, on(1, model.Read, model.Change), on(1, model.Read, model.Change), 0},
		{"a quarterly job", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "put", box, every(91, -360, 90)...)
		}, on(1, model.Change), on(1, model.Change), 0},
		{"a season of three months", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "read", box, span(-362, -280)...)
			c.uses(id, "read", box, span(3, 85)...)
		}, on(1, model.Read), on(1, model.Read), 0},
		{"a role that fits", func(c *plain) {
			c.e.Roles = append(c.e.Roles, model.Role{Name: "looker", Rights: model.Rights{
				Do: []model.PermissionPattern{
					model.MustPermissionPattern("s/item:list"), model.MustPermissionPattern("s/item:read")}}})
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "read", box, span(-399, 90)...)
			c.uses(id, "list", box, span(-399, 90)...)
		}, on(1, model.See, model.Read), on(1, model.See, model.Read), 0},
		{"dated buckets", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			for m := -12; m <= 2; m++ {
				at := project(0) + "/box:log-" + asOf.AddDate(0, m, 0).Format("2006-01")
				if m <= 0 {
					c.node(at)
				}
				c.uses(id, "put", at, 30*m-1, 30*m-5, 30*m-9)
			}
		}, on(3, model.Change), on(13, model.Change), 0},
		{"a month at a time, and of three members one puts and another scraps", func(c *plain) {
			g, in := c.group(3)
			c.grant(g, project(0)+"/**", 900, all...)
			for m := -12; m <= 2; m++ {
				at := project(0) + "/box:log-" + asOf.AddDate(0, m, 0).Format("2006-01")
				if m <= 0 {
					c.node(at)
				}
				for _, id := range in {
					c.uses(id, "read", at, 30*m-1, 30*m-2, 30*m-3)
				}
				c.uses(in[0], "put", at, 30*m-2)
				c.uses(in[1], "scrap", at, 30*m-2)
			}
			// In an estate of so little else power over all months' boxes weighs more than two breaks.
		}, 3*on(3, model.Read) + on(3, model.Change) + on(3, model.Administer),
			3*on(13, model.Read) + on(13, model.Change) + on(3, model.Administer), 2},
		{"a month at a time, and of three members two do what the others do not", func(c *plain) {
			g, in := c.group(3)
			c.grant(g, project(0)+"/**", 900, append([]string{"big/item:do-2"}, all...)...)
			for m := -12; m <= 2; m++ {
				at := project(0) + "/box:log-" + asOf.AddDate(0, m, 0).Format("2006-01")
				if m <= 0 {
					c.node(at)
				}
				for _, id := range in {
					c.uses(id, "read", at, 30*m-1, 30*m-2, 30*m-3)
				}
				c.uses(in[0], "put", at, 30*m-2)
				c.uses(in[1], "do-2", at, 30*m-2)
			}
		}, 3*on(3, model.Read) + 2*on(3, model.Change), 3*on(13, model.Read) + 2*on(13, model.Change), 0},
		{"dated objects, and a reader younger than a month", func(c *plain) {
			w, r := c.who("workload/writer"), c.who("workload/reader")
			c.grant(w, project(0)+"/**", 900, all...)
			c.grant(r, box+"/**", 20, "s/item:read")
			for d := -399; d <= 90; d++ {
				at := box + asOf.AddDate(0, 0, d).Format("/2006/01/02")
				c.uses(w, "put", at, d)
				if d > -20 {
					c.uses(r, "read", at, d)
				}
			}
		}, on(1, model.Change) + on(1, model.Read), on(1, model.Change) + on(1, model.Read), 0},
		{"the year's folder and file, and a year that ends", func(c *plain) {
			id, other := c.who("workload/w"), c.who("workload/v")
			c.grant(id, box+"/**", 300, all...)
			c.grant(other, box+"/**", 300, all...)
			for d := -300; d <= 90; d++ {
				at := asOf.AddDate(0, 0, d)
				c.uses(id, "put", box+"/in"+at.Format("/2006/01/02"), d)
				c.uses(other, "put", box+"/"+at.Format("sums-2006"), d)
			}
		}, 2 * on(1, model.Change), 2 * on(1, model.Change), 0},
		{"containers of a year that ends", func(c *plain) {
			id, other, near := c.who("workload/w"), c.who("workload/v"), c.who("workload/x")
			c.grant(id, "/m/**", 300, all...)
			c.grant(other, "/m/**", 300, all...)
			c.grant(near, "/m/**", 300, all...)
			for _, y := range []string{"2025", "2026"} {
				c.node("/m/project:books-" + y)
				c.node("/m/project:books-" + y + "/box:sums")
				c.node(project(0) + "/box:sales_" + y)
			}
			for d := -280; d <= 90; d++ { // since February
				y := asOf.AddDate(0, 0, d).Format("2006")
				c.uses(id, "put", project(0)+"/box:sales_"+y, d)
				c.uses(other, "put", "/m/project:books-"+y+"/box:sums", d)
				c.uses(near, "put", box, d)
			}
		}, on(1, model.Change) + 2*on(2, model.Change), on(1, model.Change) + 2*on(2, model.Change), 0},
		{"a bucket of each month, by one who began this month", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			for d := -18; d <= 90; d++ {
				at := project(0) + "/box:log-" + asOf.AddDate(0, 0, d).Format("2006-01")
				if d == 0 {
					c.node(at)
				}
				c.uses(id, "put", at, d)
			}
		}, on(1, model.Change), on(1, model.Change), 0},
		{"containers that come and go", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, "/m/**", 900, "s/*:*")
			for _, verb := range []string{"create", "delete"} {
				c.e.Catalogue = append(c.e.Catalogue, model.CatalogueEntry{Level: model.Change, LogClass: "change",
					Permission: model.MustPermission("s/space:" + verb), Kinds: []string{"space"}})
			}
			for n := -57; n <= 12; n++ { // each is there for ten days
				at := fmt.Sprintf("/m/space:try-%d", 400+n)
				if n == -1 || n == 0 {
					c.node(at)
					c.node(at + "/box:a")
					c.node(at + "/box:b")
				}
				c.calls(id, "s/space:create", at, 7*n-3)
				c.uses(id, "put", at+"/box:a", span(7*n-3, 7*n+6)...)
				c.uses(id, "put", at+"/box:b", 7*n, 7*n+4)
				c.calls(id, "s/space:delete", at, 7*n+7)
			}
			c.uses(id, "put", box, span(-399, 90)...)
		}, on(5, model.Change) + 2*on(2, model.Change), on(5, model.Change) + 2*on(2, model.Change), 0},
		{"17 of 20 siblings", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, "/m/**", 900, all...)
			c.node("/m/project:row")
			for b := range 20 {
				at := fmt.Sprintf("/m/project:row/box:n%d", b)
				c.node(at)
				if b < 17 {
					c.uses(id, "read", at, every(7, -399+b, -1)...)
				}
				c.uses(id, "read", at, b+1)
			}
		}, on(20, model.Read), on(20, model.Read), 0},
		{"a customer folder at a time", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, project(0)+"/**", 900, all...)
			for k := range 49 {
				at := fmt.Sprintf("%s/customers/c%d/file", box, k)
				c.uses(id, "read", at, span(-399+10*k, -390+10*k)...)
			}
		}, on(1, model.Read), on(1, model.Read), 0},
		{"peers", func(c *plain) {
			g, in := c.group(6)
			c.grant(g, project(0)+"/**", 900, all...)
			for _, id := range in[1:] {
				c.uses(id, "read", box, span(-399, 90)...)
			}
			c.uses(in[0], "read", project(0)+"/box:b", span(-399, -1)...)
			c.uses(in[0], "read", box, 20, 21, 22)
		}, 6 * on(2, model.Read), 6 * on(2, model.Read), 0},
		{"one rare member of eight", func(c *plain) {
			g, in := c.group(8)
			c.grant(g, project(0)+"/**", 900, all...)
			for i, id := range in {
				if i > 0 {
					c.uses(id, "read", box, span(-399, 90)...)
				} else {
					c.uses(id, "read", project(0)+"/box:c", every(91, -360, 90)...)
				}
			}
		}, 8 * on(2, model.Read), 8 * on(2, model.Read), 0},
		{"a log off in one project of ten", func(c *plain) {
			id := c.who("workload/w")
			c.log(project(9), "s", "read", false)
			c.grant(id, "/m/**", 900, "s/item:read", "s/item:put")
			c.uses(id, "put", project(9)+"/box:a", span(-399, 90)...)
			c.uses(id, "read", box, span(-399, 90)...)
			c.uses(id, "read", project(9)+"/box:a", span(1, 90)...)
		}, on(2, model.Read) + on(1, model.Change), on(16, model.Read) + on(8, model.Change), 0},
		{"one accidental delete", func(c *plain) {
			id := c.who("person/p")
			c.grant(id, project(0)+"/**", 900, all...)
			c.uses(id, "read", box, span(-399, 90)...)
			c.uses(id, "scrap", box, -40)
			for i := range 30 { // others slipped as well, and never did it again
				o := model.MustID(fmt.Sprintf("workload/steady%d", i))
				c.grant(o, project(i%10)+"/**", 900, "s/item:scrap")
				c.uses(o, "scrap", project(i%10)+"/box:a", -380+9*i)
			}
		}, on(1, model.Read), on(1, model.Read), 0},
		{"the same use in three projects", func(c *plain) {
			id := c.who("workload/w")
			c.grant(id, "/m/**", 900, all...)
			for p := range 3 {
				c.uses(id, "read", project(p)+"/box:a", span(-399, 90)...)
			}
		}, on(3, model.Read), on(3, model.Read), 0},
		{"a direct grant on everything, used nowhere", func(c *plain) {
			c.grant(c.who("workload/w"), "/m/**", 900, all...)
		}, 0, 0, 0},
		{"administrator of all, who reads one box", func(c *plain) {
			id := c.who("person/p")
			c.grant(id, "/m/**", 900, all...)
			c.uses(id, "read", box, span(-399, 90)...)
		}, on(1, model.Read), on(1, model.Read), 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			c := newPlain(t)
			tt.make(c)
			before, after, refused := c.drafted()
			t.Logf("danger %.1f before, %.1f after, %.1f the optimum; %d refused later", before, after, tt.optimum,
				refused)
			if after > tt.most+1e-6 || refused != tt.refused {
				t.Errorf("%.1f left, at most %.1f expected; %d refused, want %d", after, tt.most, refused, tt.refused)
			}
			if tt.refused == 0 && after < tt.optimum-1e-6 {
				t.Errorf("%.1f left, less than what is needed, %.1f", after, tt.optimum)
			}
			if math.IsNaN(after) {
				t.Error("no number")
			}
		})
	}
}
