// Package draft writes the access that should stand in place of what is granted.
//
// [FromUse] drafts a [fence.Fence] from a comparison: fewer permissions, fewer places, the
// same conditions. It narrows only: each line of the fence lies inside one of the
// grants that it replaces, which package rehearse proves again from the fence
// alone. What no log could have shown is kept where it is likely used, and said so. A permission
// stays on more places than it was used on where they are worth their danger ([Worth]).
package draft

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// Errors that callers decide on.
var (
	// ErrNothing: the access fits; there is nothing to narrow.
	ErrNothing = errors.New("nothing to narrow")
	// ErrProtected: the identity's access is never changed.
	ErrProtected = errors.New("identity is protected")
	// ErrUnknown: the estate has no such identity.
	ErrUnknown = errors.New("no such identity")
)

// Options steer a draft.
type Options struct {
	// GiveUpUnobservable drops what no log could have shown. Without it, such
	// permissions stay where they were.
	GiveUpUnobservable bool
	// KeepUnobservable keeps it, however unlikely it is that it is used; not with the other.
	KeepUnobservable bool
	// Caution says how much an avoided break is worth; 0 stands for [Normal].
	Caution Caution
	// Stop is asked before each draft for everybody; an error of it ends them. Nil: nobody stops them.
	Stop func() error
	// Conditions adds to lines what each of their calls met: a second factor, and networks.
	Conditions bool
	// Limits ends what rests on no use of the window: see drafter.limits.
	Limits bool
	// Gates offers to lend what has power and people use rarely, in place of leaving it with them.
	Gates bool
	// Lessons are what people said about earlier drafts; may be nil.
	Lessons *review.Lessons
	// Worth is what places are worth on this estate, for several drafts; nil: it is counted.
	Worth *Worth
	// Made are drafts that are to stand beside this one: see [Order]. May be nil.
	Made *Made
}

// worth returns what places are worth; it is worked out once.
func (o *Options) worth(in *gauge.Input, r *gauge.Result) *Worth {
	if o.Worth == nil {
		o.Worth = NewWorth(in, r)
	}
	return o.Worth
}

// through says by whom somebody has what it has whom no grant names.
func through(x *index.Index, who model.ID) string {
	const most = 3
	var by []string
	for _, n := range x.Givers(who) {
		if id := x.ID(n); id != who && len(x.GrantsTo(id)) > 0 {
			by = append(by, id.String())
		}
	}
	if len(by) == 0 {
		return "no grant names it, nor a group that it is in"
	}
	slices.Sort(by)
	if n := len(by); n > most {
		by = append(by[:most:most], fmt.Sprintf("%d more", n-most))
	}
	all := by[len(by)-1]
	if rest := by[:len(by)-1]; len(rest) > 0 {
		all = strings.Join(rest, ", ") + " and " + all
	}
	return "no grant names it; what it has comes by " + all + ", which can be drafted for"
}

// fitting says why nothing of some grants can go.
func fitting(x *index.Index, who model.ID, targets []*gauge.GrantResult) string {
	if len(targets) == 0 {
		return through(x, who)
	}
	n, all, sorts := [7]int{}, 0, []string{"used", "used before, by a habit that is not over",
		"that no log would have shown (clipfence coverage)", "that a call which is not placed may have used",
		"granted too short a time ago", "whose holders cannot be judged", "unused, but likely enough needed to stay"}
	for _, t := range targets {
		all += t.Perms.Count()
		for i, of := range [...]access.Few{t.Used, t.Rare, t.Unobservable, t.Undecidable, t.TooNew, t.Held, t.Unused} {
			n[i] += of.Count()
		}
	}
	var of []string
	for i, sort := range sorts {
		if n[i] > 0 {
			of = append(of, fmt.Sprintf("%d %s", n[i], sort))
		}
	}
	give := "grant gives"
	if len(targets) > 1 {
		give = fmt.Sprintf("%d grants give", len(targets))
	}
	what := "permissions"
	if all == 1 {
		what = "permission"
	}
	return fmt.Sprintf("its %s %d %s: %s", give, all, what, strings.Join(of, ", "))
}

// FromUse drafts the narrower access of one identity or group. An idle one gets
// none and leaves its groups, unless those like it were seen to come back; an active one leaves
// those by which it did nothing, where that is worth it. Grants that fit are
// left alone, and so are those that are too new to judge as long as little is known of how
// new ones are used.
func FromUse(in *gauge.Input, r *gauge.Result, who model.ID, o Options) (*fence.Fence, error) {
	x := in.Index
	f := &fence.Fence{Version: fence.FormatVersion, For: model.ID{Source: x.Source(), Kind: who.Kind, Name: who.Name},
		Drafted: in.AsOf, Window: fmt.Sprintf("%dd", in.Window), Allow: []fence.Allow{}}
	s := r.Of(who)
	switch {
	case who.Open():
	case s == nil:
		return nil, fmt.Errorf("%s in source %q: %w", who, x.Source(), ErrUnknown)
	case s.State == gauge.Protected:
		return nil, fmt.Errorf("%s: %w", who, ErrProtected)
	case s.State == gauge.Rare && s.LastUse.IsZero():
		return nil, fmt.Errorf("%s: %w: its source saw it within a year, and no log says what it does", who,
			ErrNothing)
	case (s.State == gauge.Idle || s.State == gauge.Disabled) && saidNeeded(in, s, o.Lessons, f.For):
		return nil, fmt.Errorf("%s: %w: nobody uses what it has, and a review said that it is needed", who, ErrNothing)
	case s.State == gauge.Disabled,
		s.State == gauge.Idle && !unsettled(in, r, who) && o.worth(in, r).returns(s, in.Index.Given(who)) < comesBack:
		return idle(f, in, s)
	case s.State == gauge.New && o.worth(in, r).unfledged(s) || s.State == gauge.Unproven && !s.Dark:
		return nil, fmt.Errorf("%s: %w: its silence proves nothing yet (%s)", who, ErrNothing, s.State)
	}
	if o.Caution == 0 {
		o.Caution = Normal
	}
	d := &drafter{in: in, r: r, x: x, o: o, worth: o.worth(in, r), fence: f, known: map[[2]int][]*candidate{},
		hopes: map[asked][]hoped{}, besides: map[reach][]model.PathPattern{},
		on: map[[2]int]map[model.Path]*gauge.PathUse{}, lately: map[[2]int]map[model.PathPattern]int{},
		spots: map[[2]int]map[model.Path][]model.Path{}, lent: map[int]map[int]float64{}, final: map[[2]int][]stays{},
		ladders: map[int]*ladder{}, as: map[int]bool{}}
	var targets []*gauge.GrantResult
	for _, i := range x.GrantsTo(who) {
		targets = append(targets, r.Grants[i])
	}
	// The broadest first, so that what a narrower grant gives too is not written twice.
	slices.SortStableFunc(targets, func(a, b *gauge.GrantResult) int { return cmp.Compare(b.Danger, a.Danger) })
	// A grant that others make needless goes, and nothing with it. What groups give stays.
	spare := r.Redundant(in)
	needless := func(t *gauge.GrantResult, but func(model.ID) bool) bool {
		by := spare[t.Number]
		return len(by) > 0 && !slices.Contains(f.Replaces, t.Grant.ID) && !slices.ContainsFunc(by, func(j int) bool {
			g := r.Grants[j].Grant
			_, stands := d.stands().GrantNamed(g.ID)
			return but(g.To) || slices.Contains(f.Replaces, g.ID) || !stands || !d.stands().In(who, g.To)
		})
	}
	// A second break of one identity hurts less than a first: how much is expected to break is
	// known once it is drafted, so it is drafted a few times.
	d.rate = 1
	for range rounds - 1 {
		d.again()
		for _, t := range targets {
			if d.left(t) {
				continue
			}
			for i := range t.Perms.All() {
				if !t.Frozen.Has(i) && !d.decided(i) {
					d.search(t, i, d.lambda(), false)
				}
			}
		}
		unmet := 0.0
		for _, key := range slices.Sorted(maps.Keys(d.missing)) {
			most := 0.0
			for _, n := range d.missing[key] {
				most = max(most, n.hazard)
			}
			unmet += most
		}
		d.rate = 0.5*math.Exp(-unmet/float64(d.members(targets))) + 0.5
	}
	before := d.missing
	d.short(func() {
		d.missing = before
		d.again()
		f.Replaces, f.Allow, d.from, d.gone, d.gains = nil, []fence.Allow{}, nil, nil, map[int]gain{}
		d.lasts = nil
		for _, t := range targets {
			if needless(t, func(to model.ID) bool { return to == who }) {
				f.Replaces = append(f.Replaces, t.Grant.ID)
			} else {
				d.target(t)
			}
		}
		for _, t := range targets {
			if needless(t, func(model.ID) bool { return false }) {
				f.Replaces = append(f.Replaces, t.Grant.ID)
			}
		}
	})
	if d.err != nil {
		return nil, fmt.Errorf("%s: %w", who, d.err)
	}
	// An idle one that likely comes back, but not for what these groups give.
	if s != nil && s.State == gauge.Idle && !unsettled(in, r, who) {
		for _, group := range x.GroupsOf(who) {
			if fence.MayLeave(x, group) && d.worth.returns(s, x.Given(group)) < comesBack {
				f.Leaves = append(f.Leaves, group)
				d.giveUpGroup(group)
			}
		}
	}
	if s != nil && s.State == gauge.Active && who.Kind != model.Group {
		if err := d.leave(s); err != nil {
			return nil, err
		}
	}
	if len(f.Replaces)+len(f.Leaves) == 0 {
		return nil, fmt.Errorf("%s: %w: %s", who, ErrNothing, fitting(x, who, targets))
	}
	f.GivesUp = d.givesUp()
	f.Asks = d.asks(targets)
	if o.Conditions {
		d.conditions(f)
	}
	return f, nil
}

// unsettled reports whether somebody made a call that is not placed and may come again, so that
// what it may have been a use of stays.
func unsettled(in *gauge.Input, r *gauge.Result, who model.ID) bool {
	for i := range in.Uses.As(who) {
		if r.Placement.Live(i) {
			return true
		}
	}
	return false
}

// saidNeeded reports whether a review refused to take something away that an idle identity has.
func saidNeeded(in *gauge.Input, s *gauge.Standing, l *review.Lessons, who model.ID) bool {
	for _, n := range in.Index.Given(s.ID) {
		for i := range in.Index.GrantPerms(n).All() {
			if _, ok := l.Keeps(who, in.Index.Permission(i).Permission); ok {
				return true
			}
		}
	}
	return false
}

// decided reports whether a review said of the one who is drafted for that a permission is needed.
func (d *drafter) decided(perm int) bool {
	_, ok := d.o.Lessons.Keeps(d.fence.For, d.x.Permission(perm).Permission)
	return ok
}

// comesBack is how likely an idle identity must need something again to keep what it may need.
const comesBack = 0.25

// rounds is how often an identity is drafted.
const rounds = 4

// members returns how many hold what is drafted.
func (d *drafter) members(targets []*gauge.GrantResult) int {
	n := 1
	for _, t := range targets {
		n = max(n, d.holders(t))
	}
	return n
}

// Candidates returns whose access a draft may make smaller, by the danger that can go: of
// their own grants, of groups by which they do nothing, or of everything that reaches them when
// they are idle; and the crowds that anybody belongs to, by what was not used of what they are
// given. Those come last who only have grants that others make needless.
func Candidates(in *gauge.Input, r *gauge.Result, w *Worth) []model.ID {
	danger := map[model.ID]float64{}
	for _, s := range r.Standings {
		x := max(s.Removable, r.IdleDanger(in, s))
		for _, g := range s.Grants {
			if s.State == gauge.Rare && !s.LastUse.IsZero() || s.Dark || // judged by what it ever used
				(s.State == gauge.New || g.TooNew.Count() > 0) && !w.tooNew(g) {
				x += g.Danger
			}
			if s.State == gauge.Active && w.judgesDark(g) {
				x += g.Blind
			}
			x += peculiar(in, g)
		}
		if s.ID.Kind != model.Group {
			x = min(x, s.Danger)
		}
		if x >= 1 {
			danger[s.ID] = x
		}
	}
	by := newDoers(r, in.Index, w, false)
	for n, id := range in.Index.Everybody() { // those who do nothing by a group that they are in
		s := r.Of(id.ID)
		if s == nil || s.State != gauge.Active || id.ID.Kind == model.Group {
			continue
		}
		for _, g := range in.Index.GroupsOf(id.ID) {
			of := r.Of(g)
			if of != nil && of.Danger >= max(1, leastLeft*s.Danger) && by.mayLeave(g) && !by.did(n, g) {
				danger[id.ID] = min(s.Danger, danger[id.ID]+of.Danger)
			}
		}
	}
	for _, t := range r.Grants { // nobody's own, and everybody's
		if t != nil && t.Grant.To.Open() && t.Danger-t.Kept >= 1 {
			danger[t.Grant.To] += t.Danger - t.Kept
		}
	}
	for i := range r.Redundant(in) {
		if to := r.Grants[i].Grant.To; danger[to] == 0 {
			danger[to] = 0
		}
	}
	return slices.SortedFunc(maps.Keys(danger), func(a, b model.ID) int {
		return cmp.Or(cmp.Compare(danger[b], danger[a]), a.Compare(b))
	})
}

// peculiar is the danger of power that few members of a small group use, and all have: it may be kept for those
// alone.
func peculiar(in *gauge.Input, g *gauge.GrantResult) float64 {
	n := len(g.Holders)
	if g.Grant.To.Kind != model.Group || n < leastMoved || n > mostMoved || g.HeldBy != "" {
		return 0
	}
	d := 0.0
	for i := range g.Use {
		pu := &g.Use[i]
		if l := in.Index.Level(pu.Perm); l >= model.Change && len(pu.Who) > 0 && len(pu.Who) <= movedEach {
			d += in.Weights.Of(l, len(pu.Nodes)) * float64(n-len(pu.Who)) / float64(n)
		}
	}
	return d
}

func idle(f *fence.Fence, in *gauge.Input, s *gauge.Standing) (*fence.Fence, error) {
	x := in.Index
	for _, g := range s.Grants {
		f.Replaces = append(f.Replaces, g.Grant.ID)
	}
	for _, group := range x.GroupsOf(s.ID) {
		if !slices.Contains(f.Leaves, group) && fence.MayLeave(x, group) { // whoever leaves a denial behind gains
			f.Leaves = append(f.Leaves, group)
		}
	}
	if len(f.Replaces)+len(f.Leaves) == 0 {
		for _, group := range x.GroupsOf(s.ID) {
			if !fence.Listed(x, group) {
				return nil, fmt.Errorf("%s: %w: what it has comes by %s, and the source keeps no list of who is in "+
					"it: whoever lets people in takes it out", s.ID, ErrNothing, group)
			}
		}
		return nil, fmt.Errorf("%s: %w: it has no grant and no group", s.ID, ErrNothing)
	}
	d := &drafter{x: x}
	// Also what some rule refuses today, at some times or places, was used once.
	for _, st := range x.Closure(s.ID) {
		if st.ID.Open() {
			continue
		}
		for _, i := range x.GrantsTo(st.ID) {
			d.giveUp(x.Grant(i).Where, x.GrantPerms(i))
		}
	}
	// And what only a group that is left spares it.
	spared := func(unless []model.ID) bool {
		return slices.ContainsFunc(f.Leaves, func(left model.ID) bool { return spares(x, unless, left) })
	}
	for r := range x.Denials() {
		if spared(r.Unless) {
			d.giveUp(r.Where, x.SetPerms([]model.Rights{r.Rights}))
		}
	}
	for r := range x.Guardrails() {
		if spared(r.Unless) {
			refused := x.NewSet()
			for i := range x.Numbers() {
				refused.Add(i)
			}
			refused.AndNot(x.SetPerms([]model.Rights{r.Rights}))
			d.giveUp([]model.PathPattern{r.Node.Below()}, refused)
		}
	}
	f.GivesUp = d.givesUp()
	return f, nil
}

type drafter struct {
	in        *gauge.Input
	r         *gauge.Result
	x         *index.Index
	o         Options
	worth     *Worth
	fence     *fence.Fence
	from      [][]drawn // what the lines of the fence stand for
	gone      []*given
	known     map[[2]int][]*candidate // by grant and permission
	hopes     map[asked][]hoped
	everybody int // how many identities there are that are no group; see holders

	rate float64 // what one more break of this identity is worth, as a share of a first one

	// What goes, by its places and permissions, after the last round, and as far as this one is, which chose
	// about some permissions so far.
	misses, missing map[string]map[int]need
	chosen          map[int]bool

	on      map[[2]int]map[model.Path]*gauge.PathUse // answers of paths
	lately  map[[2]int]map[model.PathPattern]int     // and of recent, by grant and permission
	besides map[reach][]model.PathPattern            // answers of elsewhere
	spots   map[[2]int]map[model.Path][]model.Path   // see allIn
	lent    map[int]map[int]float64                  // how often what goes is asked for, by grant and permission

	// Of a fence that is too long: see short.go.
	press   float64            // what a place costs; 0: it is not looked at
	final   map[[2]int][]stays // answers of search in the last round, by grant and permission
	ladders map[int]*ladder    // by grant
	as      map[int]bool       // the grants that are left as they are
	gains   map[int]gain       // of the grants that are narrowed

	lasts *lasts // of the grant that is drafted
	err   error  // why that could not be worked out
}

// given is what goes on the places of some grants.
type given struct {
	where  []model.PathPattern
	perms  access.Set
	unseen bool      // no log shows whether it is used there, and it has power
	from   time.Time // it goes only then
}

// giveUp notes that permissions go on some places.
func (d *drafter) giveUp(where []model.PathPattern, perms access.Set) {
	d.drop(given{where: where, perms: perms})
}

// giveUpGroup notes that what a group gives goes, but for what anybody is given.
func (d *drafter) giveUpGroup(group model.ID) {
	for _, i := range d.x.Given(group) {
		if g := d.x.Grant(i); !g.To.Open() {
			d.giveUp(g.Where, d.x.GrantPerms(i))
		}
	}
}

func (d *drafter) drop(more given) {
	if more.perms.Count() == 0 {
		return
	}
	var where []model.PathPattern // each once
	for _, on := range more.where {
		if !slices.Contains(where, on) {
			where = append(where, on)
		}
	}
	more.where = where
	for _, g := range d.gone {
		if slices.Equal(g.where, more.where) && g.unseen == more.unseen && g.from.Equal(more.from) {
			g.perms.Or(more.perms)
			return
		}
	}
	more.perms = more.perms.Clone()
	d.gone = append(d.gone, &more)
}

// givesUp returns what was noted as the lines of a fence.
func (d *drafter) givesUp() []fence.GiveUp {
	var out []fence.GiveUp
	for _, g := range d.gone {
		out = append(out, fence.GiveUp{Do: d.names(g.perms), Where: g.where, Unseen: g.unseen, From: g.from})
	}
	return out
}

// names lists permissions, most dangerous first.
func (d *drafter) names(perms access.Set) []model.PermissionPattern {
	var list []*model.CatalogueEntry
	for i := range perms.All() {
		list = append(list, d.x.Permission(i))
	}
	slices.SortStableFunc(list, func(a, b *model.CatalogueEntry) int {
		return cmp.Or(cmp.Compare(b.Weighs(), a.Weighs()), a.Permission.Compare(b.Permission))
	})
	out := make([]model.PermissionPattern, len(list))
	for i, c := range list {
		out[i] = c.Permission.Pattern()
	}
	return out
}

// A place is where some permissions of a grant are needed, and why: what is used
// and what is only feared to be needed never share a line, so that no line claims
// more evidence than it has.
type place struct {
	on    model.PathPattern
	class string
	wide  bool     // reaches beyond the places of use: a guess
	to    model.ID // a member of a group that keeps it for itself; zero: all do
}

// target narrows one grant, if that makes it smaller.
func (d *drafter) target(t *gauge.GrantResult) {
	if d.left(t) || d.as[t.Number] {
		return
	}
	lines, from, gone := d.lines(t)
	before := d.r.Scale.Danger(t.Gives(), t.Grant.Where)
	less := before - d.kept(t, lines)
	if len(lines) > 0 && less < max(1, 0.05*before) {
		return // not worth a change
	}
	d.gains[t.Number] = gain{less, len(lines)}
	if d.o.Limits {
		gone = append(gone, d.limits(t, lines)...)
	}
	d.fence.Replaces = append(d.fence.Replaces, t.Grant.ID)
	d.fence.Allow, d.from = append(d.fence.Allow, lines...), append(d.from, from...)
	for _, g := range gone {
		d.drop(g)
	}
}

// kept is the danger of the lines that stand in place of a grant, for a holder in the mean: what is for one
// member alone the others do not have.
func (d *drafter) kept(t *gauge.GrantResult, lines []fence.Allow) float64 {
	own := map[model.ID][]gauge.Part{} // of all under the zero ID
	for _, a := range lines {
		perms := d.x.SetPerms(a.Sets(d.x))
		for i := range t.Refused.All() {
			perms.Remove(i)
		}
		own[a.To] = append(own[a.To], gauge.Part{Perms: perms, Where: a.Where})
	}
	all := d.r.Scale.Union(own[model.ID{}])
	kept := all
	for _, to := range slices.SortedFunc(maps.Keys(own), model.ID.Compare) {
		if !to.IsZero() {
			more := d.r.Scale.Union(slices.Concat(own[model.ID{}], own[to])) - all
			kept += more / float64(max(1, d.holders(t)))
		}
	}
	return kept
}

// left reports whether a grant is left alone: it is too new to judge, or its holders are, or
// protected.
func (d *drafter) left(t *gauge.GrantResult) bool {
	return (t.TooNew.Count() > 0 || t.HeldBy == gauge.New) && d.worth.tooNew(t) ||
		t.HeldBy == gauge.Rare && !d.logged(t) ||
		t.HeldBy == gauge.Protected ||
		t.HeldBy == gauge.Unproven && !d.seen(t)
}

// logged reports whether some log says what a holder of a grant does.
func (d *drafter) logged(t *gauge.GrantResult) bool {
	return slices.ContainsFunc(t.Holders, func(id model.ID) bool { return !d.r.Of(id).LastUse.IsZero() })
}

// seen reports whether some log knows a holder of a grant that is unproven, which may only go
// on where no log shows it.
func (d *drafter) seen(t *gauge.GrantResult) bool {
	return slices.ContainsFunc(t.Holders, func(id model.ID) bool { return d.r.Of(id).Dark })
}

// drawn is what of a grant a line of a fence stands for.
type drawn struct {
	t     *gauge.GrantResult
	perms access.Set
	on    []model.PathPattern
}

// lines returns what stands in place of a grant, line by line also as what, and what goes.
func (d *drafter) lines(t *gauge.GrantResult) (lines []fence.Allow, from [][]drawn, gone []given) {
	places, chances := map[place]access.Set{}, map[place]float64{}
	of := func(p place) access.Set {
		if places[p] == nil {
			places[p] = d.x.NewSet()
		}
		return places[p]
	}
	at := func(on model.PathPattern, class string) access.Set { return of(place{on: on, class: class}) }
	narrow := d.narrowed(t)
	all := func(i int, class string) {
		for _, on := range t.Grant.Where {
			at(on, class).Add(i)
		}
	}
	goes := d.x.NewSet()
	lost, hidden := map[model.PathPattern]access.Set{}, map[model.PathPattern]access.Set{}
	note := func(to map[model.PathPattern]access.Set) func(on model.PathPattern, i int) {
		return func(on model.PathPattern, i int) {
			if to[on] == nil {
				to[on] = d.x.NewSet()
			}
			to[on].Add(i)
		}
	}
	lose, hide := note(lost), note(hidden)
	for i := range t.Perms.All() {
		// A call that is not placed may have been anywhere.
		if t.Frozen.Has(i) {
			all(i, "undecidable")
			continue
		}
		if d.decided(i) {
			all(i, "decided")
			continue
		}
		unseen := t.DarkAt(i)
		if d.o.GiveUpUnobservable {
			unseen = nil
		}
		kept := d.stay(t, i)
		var stay []model.PathPattern
		var own []stays // what single members keep
		for _, s := range kept {
			if dark(s.class) {
				at(s.on, "unobservable").Add(i)
				stay = append(stay, s.on)
				continue
			}
			class := "likely"
			switch {
			case !s.used && (s.class == risk.Peer || s.class >= risk.FirstHere):
			case t.Used.Has(i):
				class = "used"
			case t.Rare.Has(i):
				class = "rare"
			case t.UseOf(i) != nil:
				class = "past"
			}
			if s.to.IsZero() {
				stay = append(stay, s.on)
			} else {
				own = append(own, s)
			}
			if s.class != risk.Used {
				// Where one used it and others may, it is not said twice that it is needed.
				same := s.used && (s.class == risk.Peer || s.class >= risk.FirstHere)
				p := place{s.on, class, !same, s.to}
				if of(p).Add(i); !same {
					chances[p] = max(chances[p], s.chance)
				}
				continue
			}
			node, _ := s.on.Node()
			where := t.Grant.Where
			if on, known := narrow[node]; !known || s.on != d.worth.past.At(node) && s.on != node.Exactly() {
				where = []model.PathPattern{s.on} // no node of use, but what stands for some
			} else if !on.IsZero() {
				where = []model.PathPattern{on}
			}
			if s.to.IsZero() {
				stay = append(stay, where...)
			}
			for _, on := range where {
				p := place{on: on, class: class, to: s.to}
				if of(p).Add(i); class == "past" {
					chances[p] = max(chances[p], s.chance)
				}
			}
		}
		for _, on := range d.alone(t, i) {
			if !model.PathPatternsContain(stay, on) {
				for p, perms := range places { // all of that lies in it
					if on.Contains(p.on) {
						perms.Remove(i)
					}
				}
				at(on, "last").Add(i)
				stay = append(stay, on)
			}
		}
		for _, on := range unseen { // where no log shows it and it does not stay
			switch power := d.x.Level(i) >= model.Administer; {
			case model.PathPatternsContain(stay, on):
			case power:
				hide(on, i)
			case len(stay) > 0:
				lose(on, i)
			}
		}
		if len(stay)+len(own) == 0 || t.Unobservable.Has(i) && t.UseOf(i) != nil {
			goes.Add(i)
		} else if pu := t.UseOf(i); pu != nil { // where it was used and does not stay
			for path := range d.paths(t, i) {
				if slices.ContainsFunc(stay, func(on model.PathPattern) bool { return on.Matches(path) }) ||
					d.keeps(t, i, path, own) {
					continue
				}
				for _, on := range d.lost(t, path) {
					lose(on, i)
				}
			}
		}
	}
	if goes.Count() > 0 {
		gone = append(gone, given{where: t.Grant.Where, perms: goes})
	}
	for _, on := range slices.SortedFunc(maps.Keys(lost), comparePatterns) {
		gone = append(gone, given{where: []model.PathPattern{on}, perms: lost[on]})
	}
	for _, on := range slices.SortedFunc(maps.Keys(hidden), comparePatterns) {
		gone = append(gone, given{where: []model.PathPattern{on}, perms: hidden[on], unseen: true})
	}
	d.dropCovered(t, places)
	if d.press > 0 {
		places, chances = joined(places, chances)
	}
	lines, from = d.merge(t, places, chances)
	return lines, from, gone
}

// keeps reports whether everybody who used a permission on a path keeps it there alone, or by
// another grant.
func (d *drafter) keeps(t *gauge.GrantResult, perm int, path model.Path, own []stays) bool {
	node, who := d.container(path), t.Holders
	switch {
	case t.Grant.To.Open():
		who = d.callers(t)
	case len(own) == 0:
		return false
	}
	some := false
	for _, id := range who {
		if d.worth.past.Days(id, perm, node).Count() == 0 {
			continue
		}
		here := func(on model.PathPattern) bool { return on.Matches(path) }
		some = slices.ContainsFunc(own, func(s stays) bool { return s.to == id && here(s.on) }) ||
			slices.ContainsFunc(d.elsewhere(t, id, perm), here)
		if !some {
			return false
		}
	}
	return some
}

// lost returns the places of a grant that are said to go for a use on a path that does not stay.
func (d *drafter) lost(t *gauge.GrantResult, path model.Path) []model.PathPattern {
	out := d.inside(t, []model.PathPattern{d.container(path).Below()})
	if slices.ContainsFunc(out, func(on model.PathPattern) bool { return on.Matches(path) }) {
		return out
	}
	for _, w := range t.Grant.Where {
		if w.Matches(path) {
			out = append(out, w)
		}
	}
	return out
}

func comparePatterns(a, b model.PathPattern) int { return cmp.Compare(a.String(), b.String()) }

// narrowed returns of each node on which a grant was used the smallest pattern for that.
func (d *drafter) narrowed(t *gauge.GrantResult) map[model.Path]model.PathPattern {
	spots := map[model.Path]map[model.Path]usage.Days{}
	for i := range t.Perms.All() {
		if t.Frozen.Has(i) {
			continue
		}
		for path, at := range d.paths(t, i) {
			c := d.container(path)
			if spots[c] == nil {
				spots[c] = map[model.Path]usage.Days{}
			}
			spots[c][path] = spots[c][path].Union(at.Days)
		}
	}
	narrow := map[model.Path]model.PathPattern{}
	for c, paths := range spots {
		narrow[c] = d.narrowest(c, paths, t.Grant.Where)
	}
	return narrow
}

// paths returns how a permission of a grant was used on each path; nil where it was not.
func (d *drafter) paths(t *gauge.GrantResult, perm int) map[model.Path]*gauge.PathUse {
	key := [2]int{t.Number, perm}
	out, known := d.on[key]
	if !known {
		if pu := t.UseOf(perm); pu != nil {
			out = d.in.PathsOf(pu)
		}
		d.on[key] = out
	}
	return out
}

// container returns the node of the inventory that holds a path, or held it: a node with
// others below it stands for itself alone.
func (d *drafter) container(p model.Path) model.Path { return d.worth.past.Node(p) }

// FewDays is on how many days one and the same path must have been used to be
// taken for a fixed name, and fewNames how many different ones make a folder.
const (
	FewDays  = 5
	fewNames = 3
)

// narrowest returns the smallest pattern for what was used in a container, such
// that tomorrow's names fit as well, and that lies inside the grant's places: a folder is
// left at the first name in it that is [risk.Dated]. It is zero when there is none but the
// places themselves.
func (d *drafter) narrowest(c model.Path, paths map[model.Path]usage.Days,
	within []model.PathPattern) model.PathPattern {
	var want []model.PathPattern
	var all usage.Days
	below := 0
	common := model.Path{}
	for p, days := range paths {
		all = all.Union(days)
		if p == c {
			continue
		}
		up, _ := p.Parent()
		if below == 0 {
			common = up
		}
		for !common.Covers(up) {
			common, _ = common.Parent()
		}
		below++
	}
	switch {
	case below == 0 && d.x.HasBelow(c):
		want = append(want, c.Exactly())
	case below == 0 || len(paths) > below:
		// The container itself is touched: it and its contents go together.
	case below == 1:
		for p, days := range paths {
			if days.Count() >= FewDays && d.lasting(c, p, all) == p {
				want = append(want, p.Exactly())
			}
		}
	case below >= fewNames && c.Covers(common):
		if common = d.lasting(c, common, all); common != c {
			want = append(want, common.Below())
		}
	}
	if !d.x.HasBelow(c) {
		want = append(want, c.Below())
	}
	for _, w := range want {
		if model.PathPatternsContain(within, w) {
			return w
		}
	}
	return model.PathPattern{}
}

// lasting returns the lowest node from a container down to a path above which no name is dated.
func (d *drafter) lasting(c, p model.Path, days usage.Days) model.Path {
	out := p
	for ; p != c; p, _ = p.Parent() {
		if _, name := p.Last(); risk.Dated(name, days, d.worth.now) {
			out, _ = p.Parent()
		}
	}
	return out
}

// dropCovered takes out of places what grants that stay give as well. What is for one member alone is left to
// what that member has otherwise where drafts stand beside each other: its own draft comes later, and keeps what
// it uses.
func (d *drafter) dropCovered(t *gauge.GrantResult, places map[place]access.Set) {
	spare, x := d.r.Redundant(d.in), d.stands()
	covered := func(p int, on model.PathPattern, to model.ID) bool {
		if to.IsZero() || d.o.Made == nil {
			to = t.Grant.To
		}
		for _, st := range x.Closure(to) {
			// Of two groups that are in each other not both leave it to the other.
			same := st.ID == t.Grant.To || st.ID != to && x.In(st.ID, t.Grant.To)
			for _, j := range x.GrantsTo(st.ID) {
				o := d.was(j)
				if o == nil { // a draft keeps that
					if g := x.Grant(j); !g.To.Open() && g.Condition().IsZero() &&
						x.SharedPerms(j).Has(p) && model.PathPatternsContain(g.Where, on) {
						return true
					}
					continue
				}
				if o == t || slices.Contains(d.fence.Replaces, o.Grant.ID) || !o.Perms.Has(p) ||
					same && o.Danger >= t.Danger {
					continue
				}
				// A grant that ends, or holds only at times, is no replacement, and one of an
				// open crowd, or that others make needless, is due to go itself.
				if o.Grant.Condition().IsZero() && !o.Grant.To.Open() && len(spare[j]) == 0 &&
					model.PathPatternsContain(o.Grant.Where, on) {
					return true
				}
			}
		}
		return false
	}
	for p, perms := range places {
		for i := range perms.All() {
			if covered(i, p.on, p.to) {
				perms.Remove(i)
			}
		}
		if perms.Count() == 0 {
			delete(places, p)
		}
	}
}

// merge turns places into lines: places that need the same permissions share one,
// and a role of the source takes the place of a list where it fits well.
func (d *drafter) merge(t *gauge.GrantResult, places map[place]access.Set,
	chances map[place]float64) (out []fence.Allow, from [][]drawn) {
	type group struct {
		place
		perms  access.Set
		on     []model.PathPattern
		chance float64
	}
	var groups []*group
	order := slices.SortedFunc(maps.Keys(places), func(a, b place) int {
		return cmp.Or(a.to.Compare(b.to), cmp.Compare(a.on.String(), b.on.String()), cmp.Compare(b.class, a.class),
			cmp.Compare(chances[a], chances[b]))
	})
next:
	for _, p := range order {
		for _, g := range groups {
			if g.class == p.class && g.wide == p.wide && g.to == p.to && slices.Equal(g.perms, places[p]) {
				g.on, g.chance = append(g.on, p.on), max(g.chance, chances[p])
				continue next
			}
		}
		groups = append(groups, &group{p, places[p], []model.PathPattern{p.on}, chances[p]})
	}
	for _, g := range groups {
		of := []drawn{{t, g.perms, g.on}}
		a := fence.Allow{To: g.to, Where: g.on, When: t.Grant.When, Until: t.Grant.Until,
			Evidence: d.evidence(of, g.class)}
		a.Evidence.Chance, a.Evidence.Short = g.chance, d.press > 0 && g.wide
		if role := d.fits(t, g.perms, g.on); role != "" {
			a.Role = role
		} else {
			for i := range g.perms.All() {
				a.Do = append(a.Do, d.x.Permission(i).Permission.Pattern())
			}
			slices.SortFunc(a.Do, func(x, y model.PermissionPattern) int {
				return cmp.Compare(x.String(),
					y.String())
			})
		}
		out, from = append(out, a), append(from, of)
	}
	return out, from
}

// evidence sums up what a line rests on: the calls on its places, those in the window or,
// where there are none in it, all that are known.
func (d *drafter) evidence(from []drawn, class string) fence.Evidence {
	in, ever := fence.Evidence{Class: class}, fence.Evidence{Class: class}
	var days usage.Days
	nodes, recent := map[model.Path]bool{}, map[model.Path]bool{}
	for _, of := range from {
		for i := range of.perms.All() {
			for path, at := range d.paths(of.t, i) {
				if !slices.ContainsFunc(of.on, func(o model.PathPattern) bool { return o.Matches(path) }) {
					continue
				}
				days = days.Union(at.Days)
				nodes[d.container(path)] = true
				note(&ever, at.Count, at)
				if at.InWindow > 0 {
					note(&in, at.InWindow, at)
					recent[d.container(path)] = true
				}
			}
		}
	}
	ever.Places, in.Places = len(nodes), len(recent)
	ever.Days, in.Days = days.Count(), days.Between(d.r.Window.First(), d.r.Window.Last()).Count()
	if in.Count > 0 && class != "rare" {
		return in
	}
	ever.Earlier = class == "used"
	return ever
}

// note adds calls on one path to what a line rests on.
func note(e *fence.Evidence, n int64, at *gauge.PathUse) {
	e.Count += n
	e.AtLeast = e.AtLeast || at.AtLeast
	if e.First.IsZero() || at.First.Before(e.First) {
		e.First = at.First
	}
	if at.Last.After(e.Last) {
		e.Last = at.Last
	}
}

// fits finds the role that gives the permissions, nothing that the grant did not
// give, and little else: at most a tenth more danger.
func (d *drafter) fits(t *gauge.GrantResult, perms access.Set, on []model.PathPattern) string {
	need := d.r.Scale.Danger(perms, on)
	best, bestDanger := "", need*1.1+0.5
	for name := range d.x.Roles() {
		if fence.MadeForOne(name) { // it goes when that one's fence is taken back or drafted anew
			continue
		}
		has, _ := d.x.RolePerms(name)
		if !perms.Subset(has) || !has.Subset(t.Perms) || !fence.Within(d.x.RoleSets(name), d.x.GrantSets(t.Number)) {
			continue
		}
		if x := d.r.Scale.Danger(has, on); x < bestDanger {
			best, bestDanger = name, x
		}
	}
	return best
}
