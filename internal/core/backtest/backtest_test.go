package backtest_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/backtest"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

var then = time.Date(2026, 8, 28, 12, 0, 0, 0, time.UTC)

// case_ is an estate of two projects of four boxes, on all of which everybody may do
// everything, the uses up to then, and those since.
type case_ struct {
	e             *model.Estate
	before, after usage.Fold
	stop          int // when it was told of so often; 0: never
}

func newCase() *case_ {
	c := &case_{e: &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "all", Written: true}}},
		before: usage.Fold{}, after: usage.Fold{}}
	for i, verb := range []string{"read", "put", "scrap"} {
		c.e.Catalogue = append(c.e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/item:" + verb),
			LogClass: "all", Kinds: []string{"box"},
			Level: []model.Level{model.Read, model.Change, model.Administer}[i]})
	}
	for p := range 2 {
		c.e.Nodes = append(c.e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/m/project:p%d", p))})
		for b := range 4 {
			c.e.Nodes = append(c.e.Nodes, model.Node{Path: box(p, b)})
		}
	}
	return c
}

func box(p, b int) model.Path { return model.MustPath(fmt.Sprintf("/m/project:p%d/box:%c", p, 'a'+b)) }

func (c *case_) who(name string) model.ID {
	id := model.MustID("workload/" + name)
	c.e.Identities = append(c.e.Identities, model.Identity{ID: id, Created: then.AddDate(-3, 0, 0)})
	c.e.Grants = append(c.e.Grants, model.Grant{ID: "g-" + name, To: id, Created: then.AddDate(-3, 0, 0),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}},
		Where:  []model.PathPattern{model.MustPathPattern("/m/**")}})
	return id
}

// does is a use of a verb so many days after then, or before it.
func (c *case_) does(id model.ID, verb string, at model.Path, days ...int) {
	for _, d := range days {
		f := c.before
		if d > 0 {
			f = c.after
		}
		f.Add(usage.Call{Time: then.AddDate(0, 0, d), Identity: id, Path: at, Outcome: usage.Done,
			Permission: model.MustPermission("s/item:" + verb)})
	}
}

func (c *case_) run(t *testing.T) (*backtest.Result, error)   { return c.try(t, ways(false)) }
func (c *case_) curve(t *testing.T) (*backtest.Result, error) { return c.try(t, backtest.Curve) }

// ways tries all there are, with conditions where asked for.
func ways(when bool) func(*gauge.Input, *usage.Uses, func(int, int) error) (*backtest.Result, error) {
	return func(in *gauge.Input, after *usage.Uses, tell func(int, int) error) (*backtest.Result, error) {
		return backtest.Run(in, after, when, tell)
	}
}

// TestWithConditions: what every call of a line met is asked for besides, and a call from elsewhere is refused.
func TestWithConditions(t *testing.T) {
	for _, tt := range []struct {
		name, from string
		factor     model.Truth
		broken     int
	}{
		{"as ever", "10.1.2.7", model.True, 0},
		{"from another network", "192.0.2.1", model.True, 1},
		{"without a second factor", "10.1.2.8", model.False, 1},
	} {
		c := newCase()
		id := c.who("a")
		call := func(day int, from string, factor model.Truth) {
			f := c.before
			if day > 0 {
				f = c.after
			}
			f.Add(usage.Call{Time: then.AddDate(0, 0, day), Identity: id, Path: box(1, 1), Outcome: usage.Done,
				Permission: model.MustPermission("s/item:read"), Network: netip.MustParseAddr(from),
				SecondFactor: factor})
		}
		for d := range 120 {
			call(-d-1, "10.1.2.3", model.True)
		}
		call(5, tt.from, tt.factor)
		r, err := c.try(t, ways(true))
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, row := range r.Rows {
			switch {
			case row.When:
				if n++; row.Broken != tt.broken || row.Curved() ||
					row.Name != "drafts, caution normal, with conditions" {
					t.Errorf("%s: %+v, want %d broken", tt.name, row, tt.broken)
				}
			case row.Broken != 0:
				t.Errorf("%s: %+v", tt.name, row)
			}
		}
		if n != 1 {
			t.Errorf("%s: %d rows with conditions", tt.name, n)
		}
		if best, ok := backtest.Boldest(r.Rows, 1); !ok || best.When || best.Gates {
			t.Errorf("%s: picked %+v", tt.name, best)
		}
	}
}

func (c *case_) try(t *testing.T,
	do func(*gauge.Input, *usage.Uses, func(int, int) error) (*backtest.Result, error)) (*backtest.Result, error) {
	t.Helper()
	x, err := index.Build(c.e)
	if err != nil {
		t.Fatal(err)
	}
	first := then.AddDate(0, 0, -200)
	in := &gauge.Input{Index: x, Uses: usage.ListOf(c.before.Uses()...), AsOf: then, Window: 90, History: first,
		Weights: gauge.DefaultWeights, Coverage: usage.NewCoverage(c.e.Coverage,
			usage.Read{First: first, Ends: []time.Time{then}, Until: then})}
	done, told := 0, 0
	r, err := do(in, usage.ListOf(c.after.Uses()...), func(n, of int) error {
		told++
		if n < done || n > done+1 || n > of {
			t.Errorf("%d of %d are done, after %d", n, of, done)
		}
		if done = n; told == c.stop {
			return errStopped
		}
		return nil
	})
	if err == nil && done != len(r.Rows) {
		t.Errorf("%d of %d rows were told of", done, len(r.Rows))
	}
	if c.stop > 0 && told > c.stop {
		t.Errorf("it went on %d times after it was stopped", told-c.stop)
	}
	return r, err
}

var errStopped = errors.New("stopped")

// TestStopped: it may be stopped before every draft, and goes no further.
func TestStopped(t *testing.T) {
	for _, try := range []func(*case_, *testing.T) (*backtest.Result, error){(*case_).run, (*case_).curve} {
		for stop := 1; ; stop++ {
			c := newCase()
			c.stop = stop
			for _, name := range []string{"a", "b", "c"} {
				c.does(c.who(name), "read", box(0, 0), daily(-150, 90)...)
			}
			_, err := try(c, t)
			if err == nil && stop > 3*len(backtest.Cautions) {
				break // it came to its end before
			}
			if !errors.Is(err, errStopped) {
				t.Fatalf("stopped when it told the %d. time: %v", stop, err)
			}
		}
	}
}

func daily(from, to int) (out []int) {
	for d := from; d <= to; d++ {
		out = append(out, d)
	}
	return out
}

func row(t *testing.T, r *backtest.Result, name string) backtest.Row {
	t.Helper()
	for _, x := range r.Rows {
		if x.Name == name {
			return x
		}
	}
	t.Fatalf("no row %q", name)
	return backtest.Row{}
}

// TestRules: what each rule breaks and removes is what a count by hand says.
func TestRules(t *testing.T) {
	c := newCase()
	steady, moves, far, asleep := c.who("steady"), c.who("moves"), c.who("far"), c.who("asleep")
	c.does(steady, "read", box(0, 0), daily(-150, 90)...)
	c.does(moves, "read", box(0, 1), daily(-150, 0)...) // goes on to the box beside it
	c.does(moves, "read", box(0, 2), daily(40, 90)...)
	c.does(far, "put", box(1, 3), daily(-150, 0)...) // and to another project
	c.does(far, "put", box(0, 3), daily(10, 20)...)
	c.does(asleep, "read", box(1, 0), -150)
	r, err := c.run(t)
	if err != nil {
		t.Fatal(err)
	}
	if r.Callers != 4 {
		t.Errorf("%d callers", r.Callers)
	}
	eight := math.Log2(9)
	if want := 4 * (2 + 6 + 20) * eight; math.Abs(r.Held-want) > 1e-6 {
		t.Errorf("%f held, want %f", r.Held, want)
	}
	if want := 2.0 + 2 + 6; math.Abs(r.Least-want) > 1e-6 { // one box each
		t.Errorf("%f with hindsight, want %f", r.Least, want)
	}
	for _, tt := range []struct {
		rule                  backtest.Rule
		early, broken, places int
		left                  float64
	}{
		{backtest.Seen, 1, 2, 2, 2 + 2 + 6},
		{backtest.Projects, 1, 1, 1, (2 + 2 + 2 + 6) * math.Log2(5)},
		{backtest.Page, 1, 2, 2, 2 + 2 + 2 + 6},
	} {
		x := row(t, r, string(tt.rule))
		if x.Early != tt.early || x.Broken != tt.broken || x.Places != tt.places || math.Abs(x.Left-tt.left) > 1e-6 {
			t.Errorf("%s: %+v, want %+v", tt.rule, x, tt)
		}
		if want := (r.Held - tt.left) / (r.Held - r.Least); math.Abs(x.Removed-want) > 1e-9 {
			t.Errorf("%s: %f removed, want %f", tt.rule, x.Removed, want)
		}
	}
	if x := row(t, r, "drafts, caution bold"); x.Broken < 1 || x.Drafts != 4 { // nobody can know of the other project
		t.Errorf("bold: %+v", x)
	}
}

// TestRulesAtTop: what is done on the top node lies in no project, and stays there alone.
func TestRulesAtTop(t *testing.T) {
	c := newCase()
	top := c.who("top")
	c.does(top, "read", model.MustPath("/m"), daily(-150, 90)...)
	c.does(top, "read", model.MustPath("/elsewhere/box"), daily(-150, 90)...) // what no estate lists is no place
	r, err := c.run(t)
	if err != nil {
		t.Fatal(err)
	}
	for _, rule := range []backtest.Rule{backtest.Seen, backtest.Projects, backtest.Page} {
		if x := row(t, r, string(rule)); x.Broken != 0 || math.Abs(x.Left-2) > 1e-6 {
			t.Errorf("%s: %+v, want 2 left, and nothing broken", rule, x)
		}
	}
}

// TestRulesLeaveAlone: a rule leaves a grant alone that is younger than the window, as drafts do, and a name
// that was used from two networks is no two names that are alike.
func TestRulesLeaveAlone(t *testing.T) {
	c := newCase()
	young := c.who("young")
	c.e.Grants[0].Created = then.AddDate(0, 0, -40)
	c.does(young, "read", box(0, 0), daily(-39, 90)...)
	job := c.who("job")
	day := model.MustPath("/m/project:p0/box:day-1")
	c.e.Nodes = append(c.e.Nodes, model.Node{Path: day}, model.Node{Path: model.MustPath("/m/project:p0/box:day-2")})
	for i, from := range []string{"10.1.2.7", "192.0.2.1"} {
		c.before.Add(usage.Call{Time: then.AddDate(0, 0, -5-i), Identity: job, Path: day, Outcome: usage.Done,
			Permission: model.MustPermission("s/item:read"), Network: netip.MustParseAddr(from)})
	}
	r, err := c.run(t)
	if err != nil {
		t.Fatal(err)
	}
	all := (2 + 6 + 20) * math.Log2(11) // on ten boxes
	if x := row(t, r, string(backtest.Seen)); math.Abs(x.Left-all-2) > 1e-6 {
		t.Errorf("%f left, want all of the young grant, %f, and 2", x.Left, all)
	}
	if x := row(t, r, string(backtest.Page)); math.Abs(x.Left-all-2) > 1e-6 {
		t.Errorf("%f left, want all of the young grant, %f, and one box of ten", x.Left, all)
	}
}

// TestAsked: what people use of power now and then, and is refused, they ask for where gates are
// offered: it breaks nothing, and each day of it is an ask.
func TestAsked(t *testing.T) {
	c := newCase()
	for i := range 8 {
		c.does(c.who(fmt.Sprint("steady", i)), "scrap", box(i%2, i%4), daily(-199, 90)...)
	}
	rare := model.MustID("person/rare")
	c.e.Identities = append(c.e.Identities, model.Identity{ID: rare, Created: then.AddDate(-3, 0, 0)})
	c.e.Grants = append(c.e.Grants, model.Grant{ID: "g-rare", To: rare, Created: then.AddDate(-3, 0, 0),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/*:*")}},
		Where:  []model.PathPattern{model.MustPathPattern("/m/**")}})
	c.does(rare, "read", box(0, 0), daily(-150, 90)...)
	c.does(rare, "scrap", box(0, 0), -150, -95, -60, -20)
	c.does(rare, "scrap", box(1, 2), 9, 40) // elsewhere, as nobody can know
	c.does(rare, "scrap", box(1, 3), 40)
	r, err := c.run(t)
	if err != nil {
		t.Fatal(err)
	}
	x, plain := row(t, r, "drafts, caution normal, with gates"), row(t, r, "drafts, caution normal")
	if x.Broken != 0 || x.Asks != 2 || plain.Broken != 1 || plain.Asks != 0 || x.Removed < plain.Removed ||
		x.Expected > plain.Expected {
		t.Errorf("with gates %+v, without %+v", x, plain)
	}
}

// TestBoldest: what removes most of what breaks few enough is picked, and nothing bolder than
// what broke too many, however lucky it was.
func TestBoldest(t *testing.T) {
	of := func(caution float64, broken int, removed float64) backtest.Row {
		return backtest.Row{Caution: draft.Caution(caution), Broken: broken, Removed: removed}
	}
	gates := of(.64, 0, .99)
	gates.Gates = true
	for _, tt := range []struct {
		name string
		rows []backtest.Row
		most int
		want float64 // caution; 0: none
	}{
		{"the boldest", []backtest.Row{of(.1, 9, .95), of(.3, 4, .93), of(.64, 2, .9), of(2.3, 1, .85)}, 4, .3},
		{"exactly as many", []backtest.Row{of(.1, 9, .95), of(.3, 4, .93), of(.64, 2, .9), of(2.3, 1, .85)}, 2, .64},
		{"none may", []backtest.Row{of(.1, 9, .95), of(2.3, 1, .85)}, 0, 0},
		{"nothing breaks", []backtest.Row{of(.1, 0, .95), of(2.3, 0, .85)}, 0, .1},
		{"luck", []backtest.Row{of(.1, 2, .95), of(.3, 5, .93), of(.64, 2, .9), of(2.3, 1, .85)}, 2, .64},
		{"bolder for nothing", []backtest.Row{of(.1, 2, .89), of(.64, 2, .9), of(2.3, 1, .85)}, 2, .64},
		{"as much", []backtest.Row{of(.3, 2, .9), of(.64, 2, .9), of(2.3, 2, .9)}, 2, .3},
		{"rules and gates", []backtest.Row{of(2.3, 1, .85), gates, {Name: "rule", Removed: .99}}, 2, 2.3},
		{"in any order", []backtest.Row{of(2.3, 1, .85), of(.3, 4, .93), of(.64, 2, .9), of(.1, 9, .95)}, 4, .3},
		{"nothing", nil, 9, 0},
	} {
		got, ok := backtest.Boldest(tt.rows, tt.most)
		if float64(got.Caution) != tt.want || ok != (tt.want > 0) || got.Gates {
			t.Errorf("%s: %v, %t, want %v", tt.name, got.Caution, ok, tt.want)
		}
	}
}

// TestNobody: where nobody called there is nothing to try.
func TestNobody(t *testing.T) {
	c := newCase()
	c.does(c.who("later"), "read", box(0, 0), 3)
	if _, err := c.run(t); !errors.Is(err, backtest.ErrNobody) {
		t.Errorf("%v", err)
	}
	if _, err := c.curve(t); !errors.Is(err, backtest.ErrNobody) {
		t.Errorf("%v", err)
	}
}

// TestLaws: on random lives every row is within what can be, the same comes again, each use is
// of a part, and what a draft drops is never more than there is.
func TestLaws(t *testing.T) {
	for seed := range uint64(6) {
		rnd := rand.New(rand.NewPCG(seed, 5))
		c := newCase()
		for i := range 12 {
			id := c.who(fmt.Sprint("w", i))
			p, b := rnd.IntN(2), rnd.IntN(4)
			for d := -199; d <= 90; d++ {
				if rnd.IntN(40) == 0 {
					if b = rnd.IntN(4); rnd.IntN(3) == 0 {
						p = rnd.IntN(2)
					}
				}
				if i%3 > 0 || rnd.IntN(30) == 0 {
					c.does(id, []string{"read", "put", "scrap"}[i%3], box(p, b), d)
				}
			}
		}
		r, err := c.run(t)
		if err != nil {
			t.Fatal(err)
		}
		again, err := c.run(t)
		if err != nil || !reflect.DeepEqual(r, again) {
			t.Errorf("seed %d: the second time it is another: %v", seed, err)
		}
		curve, err := c.curve(t)
		if n := len(backtest.Cautions); err != nil || !reflect.DeepEqual(curve.Rows, r.Rows[:n]) {
			t.Errorf("seed %d: the curve alone is another, %v: %+v, want %+v", seed, err, curve.Rows, r.Rows[:n])
		}
		if len(r.Rows) != len(backtest.Cautions)+1+3 {
			t.Fatalf("%d rows", len(r.Rows))
		}
		last := 1.0
		for _, x := range r.Rows {
			if x.Early > x.Broken || x.Broken > r.Callers || x.Broken > x.Places || x.Left > r.Held+1e-9 ||
				x.Removed > 1.2 || x.Expected < 0 || x.Expected > float64(r.Callers) {
				t.Errorf("seed %d: %+v of %d callers and %f held", seed, x, r.Callers, r.Held)
			}
			if x.Gates { // nobody here can ask
				if normal := row(t, r, "drafts, caution normal"); x.Asks > 0 || x.Broken != normal.Broken ||
					x.Removed != normal.Removed {
					t.Errorf("seed %d: with gates %+v, without %+v", seed, x, normal)
				}
				continue
			}
			if x.Caution > 0 && x.Removed > last+.02 {
				t.Errorf("seed %d: %s removes %f, the bolder one %f", seed, x.Name, x.Removed, last)
			}
			if x.Caution > 0 {
				last = x.Removed
			}
		}
		all, needed := 0, 0
		for i := range r.All {
			all, needed = all+r.All[i].Parts, needed+r.All[i].Needed
			if r.Dropped[i].Needed > r.Dropped[i].Parts || r.All[i].Needed > r.All[i].Parts {
				t.Errorf("seed %d: %+v %+v", seed, r.All[i], r.Dropped[i])
			}
		}
		if all == 0 || needed == 0 {
			t.Errorf("seed %d: %d parts, %d needed", seed, all, needed)
		}
	}
}
