package backtest

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// Cautions are those that are tried, the boldest first.
var Cautions = []draft.Caution{.05, draft.Bold, .3, draft.Normal, draft.Careful, 7}

// Soon is within how many days a break is an early one.
const Soon = 30

// A Row is what became of one way to narrow everybody's access.
type Row struct {
	Name     string
	Caution  draft.Caution // 0: a rule
	Gates    bool          // gates were offered
	When     bool          // lines got the conditions that their calls met
	Asks     int           // for what goes then: one of one person a day
	Early    int           // identities with a refused call within [Soon] days
	Broken   int           // and until the end
	Expected float64       // as the drafts' own chances say, until the end
	Hasty    float64       // and within [Soon]
	Places   int           // refused identity, permission and node
	Calls    int64
	Left     float64 // danger that is still held
	Removed  float64 // share of the danger beyond hindsight that is gone
	Drafts   int     // how many were narrowed
	Pieces   int     // the most places of one draft, and the median
	Median   int
}

// A Bin is how often what was said to be so likely was needed.
type Bin struct {
	From, To float64
	Parts    int
	Expected float64
	Needed   int
}

// Result is what a backtest shows.
type Result struct {
	Callers      int
	Held, Least  float64 // danger held by the callers, and with hindsight
	Rows         []Row   // drafts by caution, then with gates, then rules
	All, Dropped []Bin   // of all parts, and of those that drafts of normal caution take away
}

// Curved reports whether a row is one of the curve of cautions: drafts, and nothing beside them.
func (r *Row) Curved() bool { return r.Caution > 0 && !r.Gates && !r.When }

// Run drafts for everybody as of then, and makes the calls of the days after again; where asked for, also
// with the conditions that calls met until then. What after holds are uses of those days alone. Tell is told
// how far it is, before each draft as well, and ends the test by an error.
func Run(in *gauge.Input, after *usage.Uses, when bool, tell func(done, of int) error) (*Result, error) {
	b, out, err := newTest(in, after)
	if err != nil {
		return nil, err
	}
	rules := []Rule{Seen, Projects, Page}
	ways := []draft.Options{}
	for _, c := range Cautions {
		ways = append(ways, draft.Options{Caution: c})
	}
	ways = append(ways, draft.Options{Caution: draft.Normal, Gates: true})
	if when {
		ways = append(ways, draft.Options{Caution: draft.Normal, Conditions: true})
	}
	of := len(ways) + len(rules)
	for i, o := range ways {
		o.Stop = func() error { return tell(len(out.Rows), of) }
		x, err := b.tried(out, o)
		if err != nil {
			return nil, err
		}
		if o.Caution == draft.Normal && i < len(Cautions) {
			b.reliability(out, x)
		}
	}
	for _, r := range rules {
		if err := tell(len(out.Rows), of); err != nil {
			return nil, err
		}
		if _, err := b.judge(out, &Row{Name: string(r)}, r.Edit(in, b.res)); err != nil {
			return nil, err
		}
	}
	return out, tell(len(out.Rows), of)
}

// Curve does what [Run] does for drafts without gates alone, at each of [Cautions].
func Curve(in *gauge.Input, after *usage.Uses, tell func(done, of int) error) (*Result, error) {
	b, out, err := newTest(in, after)
	for i := 0; i < len(Cautions) && err == nil; i++ {
		stop := func() error { return tell(len(out.Rows), len(Cautions)) }
		if _, err = b.tried(out, draft.Options{Caution: Cautions[i], Stop: stop}); err == nil {
			err = stop()
		}
	}
	return out, err
}

// Boldest returns of drafts without gates that which removes most danger of those that broke at
// most so many identities, and no more careful one more than that; false: there is none.
func Boldest(rows []Row, most int) (best Row, ok bool) {
	drafts := slices.DeleteFunc(slices.Clone(rows), func(r Row) bool { return !r.Curved() })
	slices.SortStableFunc(drafts, func(a, b Row) int { return cmp.Compare(b.Caution, a.Caution) })
	for _, r := range drafts { // from the most careful one on: what breaks less by luck is not bolder
		if r.Broken > most {
			break
		}
		if !ok || r.Removed >= best.Removed {
			best, ok = r, true
		}
	}
	return best, ok
}

// newTest compares as of then, and learns.
func newTest(in *gauge.Input, after *usage.Uses) (*test, *Result, error) {
	b := &test{in: in, x: in.Index, res: gauge.Run(in)}
	out := &Result{All: bins(), Dropped: bins()}
	for _, s := range b.res.Standings {
		if s.ID.Kind != model.Group && !s.LastUse.IsZero() && s.State != gauge.Protected {
			b.callers = append(b.callers, s.ID)
		}
	}
	out.Callers = len(b.callers)
	if out.Callers == 0 {
		return nil, nil, ErrNobody
	}
	for _, u := range after.All() {
		if u.Outcome.Allowed() &&
			b.x.Decide(u.Principal(), u.Permission, u.Path, u.Context()).Outcome != access.Denied {
			b.after = append(b.after, &u)
		}
	}
	b.worth = draft.NewWorth(in, b.res)
	out.Held, out.Least = b.danger(b.x), b.hindsight()
	return b, out, nil
}

// tried drafts for everybody and judges that.
func (b *test) tried(out *Result, o draft.Options) (*index.Index, error) {
	edit, row, err := b.drafts(o)
	if err != nil {
		return nil, err
	}
	return b.judge(out, row, edit)
}

// ErrNobody is returned where nobody called before the day.
var ErrNobody = errors.New("nobody called before that day")

type test struct {
	in      *gauge.Input
	x       *index.Index
	res     *gauge.Result
	worth   *draft.Worth
	callers []model.ID
	after   []*usage.Use
	lent    []*fence.Fence // that offer gates, of the way that is tried
}

// danger is what the callers hold together.
func (b *test) danger(x *index.Index) float64 {
	s, d := gauge.NewScale(x, b.in.Weights), 0.0
	for _, id := range b.callers {
		one, _ := s.Held(id)
		d += one
	}
	return d
}

// hindsight is the danger of what was called after the day, and nothing else.
func (b *test) hindsight() float64 {
	nodes := map[model.ID]map[int]map[model.Path]bool{}
	for _, u := range b.after {
		p, ok := b.x.PermNumber(u.Permission)
		if !ok {
			continue
		}
		if _, gone := b.in.Place.Inventory.Gone(u.Path); gone {
			continue // danger is of what is there
		}
		who := u.Principal()
		if nodes[who] == nil {
			nodes[who] = map[int]map[model.Path]bool{}
		}
		if nodes[who][p] == nil {
			nodes[who][p] = map[model.Path]bool{}
		}
		nodes[who][p][b.node(u.Path)] = true
	}
	d := 0.0
	for _, id := range b.callers {
		for p := range b.x.Numbers() {
			if n := len(nodes[id][p]); n > 0 {
				d += b.in.Weights.Of(b.x.Level(p), n)
			}
		}
	}
	return d
}

func (b *test) node(path model.Path) model.Path {
	if n, ok := b.in.Place.Inventory.Gone(path); ok {
		return n
	}
	if n, ok := b.x.Nearest(path); ok {
		return n
	}
	return path
}

// drafts returns what drafts for everybody do together.
func (b *test) drafts(o draft.Options) (access.Edit, *Row, error) {
	row := &Row{Name: fmt.Sprintf("drafts, caution %s", o.Caution), Caution: o.Caution, Gates: o.Gates,
		When: o.Conditions}
	switch {
	case o.Gates:
		row.Name += ", with gates"
	case o.Conditions:
		row.Name += ", with conditions"
	}
	o.Worth = b.worth
	b.lent = nil
	var pieces []int
	fences, err := draft.Everybody(b.in, b.res, o)
	if err != nil {
		return access.Edit{}, nil, err
	}
	for _, f := range fences {
		n := 0
		for _, a := range f.Allow {
			n += len(a.Where)
		}
		pieces = append(pieces, n)
		if len(f.Asks) > 0 {
			b.lent = append(b.lent, f)
		}
	}
	if row.Drafts = len(pieces); row.Drafts > 0 {
		slices.Sort(pieces)
		row.Pieces, row.Median = pieces[len(pieces)-1], pieces[len(pieces)/2]
	}
	return fence.EditOf(fences, b.x.Source()), row, nil
}

// judge makes the calls again under an edit.
func (b *test) judge(out *Result, row *Row, edit access.Edit) (*index.Index, error) {
	x, err := b.x.With(edit)
	if err != nil {
		return nil, err
	}
	type triple struct {
		who  model.ID
		perm model.Permission
		at   model.Path
	}
	type ask struct {
		who model.ID
		day usage.Day
	}
	asked := map[ask]bool{}
	early, broken, places := map[model.ID]bool{}, map[model.ID]bool{}, map[triple]bool{}
	soon := usage.DayOf(b.in.AsOf) + Soon
	for _, u := range b.after {
		if !b.refuses(x, row, u) {
			continue
		}
		who := u.Principal()
		if row.Gates && fence.Lends(b.lent, b.x, who, u.Permission,
			[]model.PathPattern{u.Path.Exactly()}) {
			for _, day := range u.Days.List() {
				asked[ask{who, day}] = true
			}
			continue
		}
		broken[who] = true
		places[triple{who, u.Permission, b.node(u.Path)}] = true
		row.Calls += u.Count
		if u.Days.First() <= soon {
			early[who] = true
		}
	}
	row.Early, row.Broken, row.Places, row.Asks = len(early), len(broken), len(places), len(asked)
	row.Left = b.danger(x)
	if out.Held > out.Least {
		row.Removed = (out.Held - row.Left) / (out.Held - out.Least)
	}
	if row.Caution > 0 {
		past, learned := b.worth.Risk()
		now := usage.DayOf(b.in.AsOf)
		for _, id := range b.callers {
			losses := risk.Lost(past, learned, x, id, now, b.worth.Having(id, now))
			if row.Gates {
				losses = slices.DeleteFunc(losses, func(l risk.Loss) bool {
					return fence.Lends(b.lent, b.x, id, b.x.Permission(l.Perm).Permission, l.Part.Where)
				})
			}
			late, soon := learned.Broken(losses)
			row.Expected, row.Hasty = row.Expected+late, row.Hasty+soon
		}
	}
	out.Rows = append(out.Rows, *row)
	return x, nil
}

// refuses reports whether calls that were let through are refused. Of the calls of one use it is known together
// at which hours and on which weekdays they were: where a condition that a draft adds does not hold for all of
// them it does not hold for one. Of what was done before as well, the hours are those of both times.
func (b *test) refuses(x *index.Index, row *Row, u *usage.Use) bool {
	ask := func(x *index.Index) access.Outcome {
		return x.Decide(u.Principal(), u.Permission, u.Path, u.Context()).Outcome
	}
	is := ask(x)
	return is == access.Denied || row.When && is != access.Allowed && ask(b.x) == access.Allowed
}

// bounds are where the bins of chances begin.
var bounds = []float64{0, .01, .03, .1, .2, .3, .4, .5, .6, .7, .8, .9, 1}

func bins() []Bin {
	var out []Bin
	for i, from := range bounds[:len(bounds)-1] {
		out = append(out, Bin{From: from, To: bounds[i+1]})
	}
	return out
}

func note(to []Bin, chance float64, needed bool) {
	i, found := slices.BinarySearchFunc(to, chance, func(b Bin, c float64) int {
		switch {
		case c < b.From:
			return 1
		case c >= b.To && b.To < 1:
			return -1
		}
		return 0
	})
	if !found || math.IsNaN(chance) {
		return
	}
	to[i].Parts++
	to[i].Expected += chance
	if needed {
		to[i].Needed++
	}
}

// reliability holds what was said to be likely against what was called.
func (b *test) reliability(out *Result, x *index.Index) {
	past, learned := b.worth.Risk()
	now := usage.DayOf(b.in.AsOf)
	need := map[model.ID]map[int][]*usage.Use{}
	for _, u := range b.after {
		if p, ok := b.x.PermNumber(u.Permission); ok {
			who := u.Principal()
			if need[who] == nil {
				need[who] = map[int][]*usage.Use{}
			}
			need[who][p] = append(need[who][p], u)
		}
	}
	for _, id := range b.callers {
		held := b.worth.Granted(id, now)
		lost := map[int]map[int]float64{}
		for _, l := range risk.Lost(past, learned, x, id, now, b.worth.Having(id, now)) {
			if l.At >= 0 {
				if lost[l.Perm] == nil {
					lost[l.Perm] = map[int]float64{}
				}
				lost[l.Perm][l.At] = l.Chance
			}
		}
		for _, p := range slices.Sorted(maps.Keys(held)) { // in an order, so that sums round the same
			h := held[p]
			parts := h.Clip(past.Parts(id, p, now, risk.TenureOf(int(now-h.Since))))
			needed, refused := make([]bool, len(parts)), make([]bool, len(parts))
			for _, u := range need[id][p] {
				at := b.node(u.Path)
				if i := slices.IndexFunc(parts, func(q risk.Part) bool { return q.Holds(at) }); i >= 0 {
					needed[i] = true
					refused[i] = refused[i] ||
						x.Decide(id, u.Permission, u.Path, u.Context()).Outcome == access.Denied
				}
			}
			for i, q := range parts {
				note(out.All, learned.Chance(q), needed[i])
				if chance, gone := lost[p][i]; gone {
					note(out.Dropped, chance, refused[i])
				}
			}
		}
	}
}
