// Package rehearse tries a fence before it is put up.
//
// [Run] proves by containment that nothing is widened, replays every observed
// call of everybody whom the fence touches, and weighs the access before and
// after; package check looks at proof and replay again. It works from the fence
// alone, so that one written or edited by hand is held to the same rules as a
// drafted one.
package rehearse

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/check"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Widening is a line of a fence that allows more than what it replaces.
type Widening struct {
	Line       int // of Allow, from 0
	Permission model.PermissionPattern
	Where      model.PathPattern

	// A group that is left (Line is -1 then), and the denial that holds those in it.
	Group  model.ID
	Denial string
}

// A Break is a use that was allowed and would be refused.
type Break struct {
	Use     usage.Use
	GivenUp bool      // the fence names it as given up there
	Until   time.Time // of one that goes on until then
	Asked   bool      // and whoever made it may ask for it
}

// An Unplaced is a use that is not placed, and that may have been one of something that
// the fence takes away.
type Unplaced struct {
	Use usage.Use
	Why gauge.Reason
}

// A Gain is a permission that comes, and on how many nodes of the inventory: exactly, with
// every layer. It is 0 where the inventory lists none of the places, or none of a kind that the
// permission is for; First is the place then.
type Gain struct {
	model.CatalogueEntry
	Nodes int
	First model.Path // the first of them
}

func (g Gain) same(o Gain) bool {
	return g.Permission == o.Permission && g.Nodes == o.Nodes && g.First == o.First
}

// Result is what a rehearsal found.
type Result struct {
	Widened  []Widening
	Gives    []Widening // of a fence that says why it widens: the lines that do
	Gains    []Gain     // what its identity may do more then, most powerful first
	Broken   []Break    // most used first; given-up ones last
	Ending   []Break    // go on until a line ends, as the fence says; the first to end first
	Unplaced []Unplaced // most used first
	// Changed is what the fence replaces or gives and is not as it was when it was proven.
	Changed []string
	// Riskier says how much more is expected to break than when it was proven; whoever knows the
	// risk sets it. It is empty where there is not much more.
	Riskier string
	// Doubts are what a second look by other means ([check.Fence]) says otherwise: a fault of
	// this program.
	Doubts []check.Doubt
	// Cannot is what the source cannot say of the fence, a sentence each; whoever knows the
	// source sets it.
	Cannot []string
	// Accepted is set by whoever takes the risk of what is not placed.
	Accepted bool
	// Going is how many of the uses that the fence names as given up go on: they were made on
	// more than one day of the window. Whoever knows the window sets it, see [GoingOn].
	Going    int
	Lately   int   // of Ending those that were made on more than one day of the window; set likewise
	Asked    int   // of the given-up uses, those that their people may ask for
	Replayed int   // uses that were tried
	Calls    int64 // calls behind them
	Odd      int   // uses that only a grant explains that is gone since
	Goes     []model.CatalogueEntry
	Stays    []model.CatalogueEntry
	Before   float64 // danger of everything that reaches the identity
	After    float64

	// What is within reach of it, before and after, by acting as others and giving itself more.
	ReachBefore, ReachAfter gauge.Reach

	// Of a fence with denials Before and After are of all whom it touches together, and Fewer is how
	// many of them hold less. What is within reach is of whoever can get furthest: Furthest, after.
	Fewer    int
	Furthest model.ID
}

// GoingOn counts the given-up uses that were made on more than one day of a window, and that
// nobody may ask for.
func GoingOn(broken []Break, w usage.Window) int {
	n := 0
	for _, b := range broken {
		if b.GivenUp && !b.Asked && b.often(w) {
			n++
		}
	}
	return n
}

// Often counts the uses that were made on more than one day of a window.
func Often(uses []Break, w usage.Window) int {
	n := 0
	for _, b := range uses {
		if b.often(w) {
			n++
		}
	}
	return n
}

func (b *Break) often(w usage.Window) bool {
	return b.Use.Days.Between(w.First(), usage.DayOf(w.To)).Count() > 1
}

// OK reports whether the fence widens nothing, breaks nothing that it does not name as
// given up, takes away nothing that a call may have been a use of that is not placed, can be
// said by its source, and rests on what it was proven on.
func (r *Result) OK() bool {
	return len(r.Widened) == 0 && len(r.Doubts) == 0 && len(r.Cannot) == 0 && len(r.Changed) == 0 && r.Riskier == "" &&
		(r.Accepted || len(r.Unplaced) == 0) &&
		!slices.ContainsFunc(r.Broken, func(b Break) bool { return !b.GivenUp })
}

// A Stage is an estate on which fences are rehearsed, one after the other: what is known of the estate is
// worked out once. It is not for several goroutines.
type Stage struct {
	before  *index.Index
	weights gauge.Weights
	scale   *gauge.Scale
	within  *gauge.Within
	checks  *check.Estate
	known   *gauge.Result // see Know; nil: nothing is
}

// NewStage prepares an estate.
func NewStage(before *index.Index, w gauge.Weights) *Stage {
	scale := gauge.NewScale(before, w)
	return &Stage{before, w, scale, gauge.NewWithin(scale), check.Of(before), nil}
}

// Know takes from a comparison of the estate, with the same weights, what is within whose reach, which takes long
// to work out anew.
func (s *Stage) Know(r *gauge.Result) *Stage {
	s.within.Know(r)
	s.known = r
	return s
}

// Run rehearses a fence on an estate: see [Stage.Run].
func Run(before *index.Index, f *fence.Fence, uses *usage.Uses, p *gauge.Placement, w gauge.Weights) (*Result, error) {
	return NewStage(before, w).Run(f, uses, p)
}

// Run rehearses a fence on an estate and its uses. Which of them are placed is p's to say;
// nil takes them all for placed. The fence is one that [fence.Fence.Validate] accepts.
func (s *Stage) Run(f *fence.Fence, uses *usage.Uses, p *gauge.Placement) (*Result, error) {
	before := s.before
	after, err := before.With(f.Edit(before.Source()))
	if err != nil {
		return nil, err
	}
	r := &Result{Widened: widened(before, f), Changed: f.Changed(before)}
	if f.Widens != "" {
		r.declared(before, after, f)
	}
	kept := r.replay(before, after, touched(before, f), func(u *usage.Use) (time.Time, bool) {
		return f.Names(u.Permission, u.Path)
	}, uses, p)
	if who := f.For.In(before.Source()); p != nil && p.Unlisted(before, who) {
		r.perhaps(before, after, who, uses, p)
	}
	for i := range r.Broken {
		b := &r.Broken[i]
		if b.Asked = b.asked(before, f); b.Asked {
			r.Asked++
		}
	}
	r.Doubts = s.checks.Fence(f, uses, func(i int) bool { return !kept[i] })
	s.weigh(r, after, f)
	return r, nil
}

// asked reports whether whoever made a use that is given up may ask for it by one of some fences.
func (b *Break) asked(x *index.Index, by ...*fence.Fence) bool {
	return b.GivenUp && fence.Lends(by, x, b.Use.Principal(), b.Use.Permission,
		[]model.PathPattern{b.Use.Path.Exactly()})
}

// declared sorts out what a fence that says why it widens may do: give its own identity more, by
// lines. Nobody else gets anything by it, and nobody slips out of a denial.
func (r *Result) declared(before, after *index.Index, f *fence.Fence) {
	var no []Widening
	for _, w := range r.Widened {
		if w.Line < 0 || !w.Group.IsZero() || !f.Allow[w.Line].To.IsZero() { // a member of it is another
			no = append(no, w)
		} else {
			r.Gives = append(r.Gives, w)
		}
	}
	r.Widened = no
	one, two := before.NewWalk(index.Possible), after.NewWalk(index.Possible)
	for _, g := range index.Gains(one, two, f.For.In(before.Source())) {
		r.Gains = append(r.Gains, Gain{*before.Permission(g.Perm), g.Nodes, before.Path(int(g.First))})
	}
	for _, w := range r.Gives {
		at, ok := w.Where.Anchor()
		if !ok {
			continue
		}
		on := before.Region(w.Where)
		for i := range before.SetPerms([]model.Rights{{Do: []model.PermissionPattern{w.Permission}}}).All() {
			g := Gain{*before.Permission(i), 0, at}
			if before.Count(i, on) == 0 && !slices.ContainsFunc(r.Gains, g.same) {
				r.Gains = append(r.Gains, g)
			}
		}
	}
	slices.SortStableFunc(r.Gains, func(a, b Gain) int { return cmp.Compare(b.Weighs(), a.Weighs()) })
}

// widened proves line by line that a fence lies inside the grants it replaces.
// Permissions without '*' are compared one by one against every replaced grant
// together; a pattern, which also means permissions that no catalogue lists yet,
// must lie inside a single set of rights.
func widened(g *index.Index, f *fence.Fence) []Widening {
	who := f.For.In(g.Source())
	var old []int
	for _, i := range g.GrantsTo(who) {
		if slices.Contains(f.Replaces, g.Grant(i).ID) {
			old = append(old, i)
		}
	}
	var out []Widening
	for _, group := range f.Leaves {
		if d := fence.Denied(g, group); d != "" {
			out = append(out, Widening{Line: -1, Group: group, Denial: d})
		}
	}
	for n, a := range f.Allow {
		if to := f.Receiver(&a, g.Source()); to != who && !g.In(to, who) { // it has none of what goes
			for _, on := range a.Where {
				out = append(out, Widening{Line: n, Where: on, Group: to})
			}
			continue
		}
		cond := a.When.WithUntil(a.Until)
		for _, set := range a.Sets(g) {
			for _, p := range set.Do {
				one := []model.Rights{{Do: []model.PermissionPattern{p}, Except: set.Except}}
				var places []model.PathPattern
				for _, i := range old {
					if o := g.Grant(i); cond.Implies(o.Condition()) && fence.Within(one, g.GrantSets(i)) {
						places = append(places, o.Where...)
					}
				}
				for _, on := range a.Where {
					if !model.PathPatternsContain(places, on) {
						out = append(out, Widening{Line: n, Permission: p, Where: on})
					}
				}
			}
		}
	}
	return out
}

// replay tries every use of somebody who is touched, and returns which of them are allowed as
// before; named says which are given up.
func (r *Result) replay(before, after *index.Index, touched map[model.ID]bool, named naming,
	uses *usage.Uses, p *gauge.Placement) map[int]bool {
	kept := map[int]bool{}
	taken := &taken{before: before, after: after, perms: map[takenKey]bool{}, hours: map[model.ID]bool{}}
	for i, u := range uses.AsEach(slices.Collect(maps.Keys(touched))) {
		r.once(i, &u, taken, named, p, kept)
	}
	slices.SortStableFunc(r.Unplaced, func(a, b Unplaced) int { return cmp.Compare(b.Use.Count, a.Use.Count) })
	slices.SortStableFunc(r.Ending, func(a, b Break) int { return a.Until.Compare(b.Until) })
	slices.SortStableFunc(r.Broken, func(a, b Break) int {
		if a.GivenUp != b.GivenUp {
			if b.GivenUp {
				return -1
			}
			return 1
		}
		return cmp.Compare(b.Use.Count, a.Use.Count)
	})
	return kept
}

// perhaps looks, of a group in which nobody is known to be, at what callers did who are known to be in
// no group: they may be in it, and have used what goes.
func (r *Result) perhaps(before, after *index.Index, group model.ID, uses *usage.Uses, p *gauge.Placement) {
	t := &taken{before: before, after: after, perms: map[takenKey]bool{}, hours: map[model.ID]bool{}}
	for i, u := range uses.By(func(who model.ID) bool {
		if t := p.Of[who]; t == nil || t.Placed == t.Calls {
			return false // all that it did is placed
		}
		id, _ := before.Identity(who)
		return !id.Disabled && p.MayBeIn(before, who)
	}) {
		why := p.Reason(i)
		if u.Outcome.Allowed() && why != gauge.Placed && p.Live(i) && t.mayBeOf(group, &u, why) {
			r.Unplaced = append(r.Unplaced, Unplaced{u, why})
		}
	}
	slices.SortStableFunc(r.Unplaced, func(a, b Unplaced) int { return cmp.Compare(b.Use.Count, a.Use.Count) })
}

// once tries one use.
func (r *Result) once(i int, u *usage.Use, t *taken, named naming, p *gauge.Placement, kept map[int]bool) {
	if !u.Outcome.Allowed() {
		return
	}
	if p != nil && p.Reason(i) != gauge.Placed {
		// Of whoever cannot sign in nothing breaks; what is placed is said all the same.
		if id, _ := t.before.Identity(u.Principal()); !id.Disabled && p.Live(i) && t.mayBe(u, p.Reason(i)) {
			r.Unplaced = append(r.Unplaced, Unplaced{*u, p.Reason(i)})
		}
		return
	}
	r.Replayed++
	r.Calls += u.Count
	// When a single call was is not kept in a use, so beginnings and ends stay open, and hours do
	// that only some of the calls may have met: such a grant counts on both sides alike.
	ctx := u.Context()
	was := t.before.Decide(u.Principal(), u.Permission, u.Path, ctx).Outcome
	is := t.after.Decide(u.Principal(), u.Permission, u.Path, ctx).Outcome
	switch {
	case was == access.Denied:
		r.Odd++
	case is < was:
		from, given := named(u)
		switch {
		case given && from.IsZero():
			r.Broken = append(r.Broken, Break{Use: *u, GivenUp: true})
		case given && t.goesOn(u, from):
			r.Ending = append(r.Ending, Break{Use: *u, Until: from})
		default:
			r.Broken = append(r.Broken, Break{Use: *u})
		}
	default:
		kept[i] = true
	}
}

// naming says whether a fence names a use as given up, and from when on; the zero time: at once.
type naming func(u *usage.Use) (from time.Time, named bool)

// goesOn reports whether a use stays possible until a time as it was: at its own hour of its own
// weekday, the last one before.
func (t *taken) goesOn(u *usage.Use, until time.Time) bool {
	const week = 7 * 24 * time.Hour
	if !u.Last.Before(until) {
		return false
	}
	ctx := u.Context()
	ctx.Time = u.Last.Add((until.Sub(u.Last) - 1) / week * week)
	return t.after.Decide(u.Principal(), u.Permission, u.Path, ctx).Outcome >= t.before.Decide(u.Principal(),
		u.Permission, u.Path, ctx).Outcome
}

// taken tells what a fence takes away from somebody.
type taken struct {
	before, after *index.Index
	perms         map[takenKey]bool
	hours         map[model.ID]bool // whether something that somebody has holds at some hours
}

type takenKey struct {
	who     model.ID
	perm    model.Permission
	network netip.Prefix
	factor  model.Truth
	times   model.Times // where something holds at some hours
}

// mayBe reports whether a use that is not placed may have been one of something that is
// taken away: its permission on any place, or any permission of its service, if that is
// known, on its path.
func (t *taken) mayBe(u *usage.Use, why gauge.Reason) bool { return t.mayBeOf(u.Principal(), u, why) }

// mayBeOf reports whether a use may have been one of something that is taken away from somebody, with
// whose rights it may have been made.
func (t *taken) mayBeOf(who model.ID, u *usage.Use, why gauge.Reason) bool {
	if _, mapped := t.before.PermNumber(u.Permission); why != gauge.NoOperation && mapped {
		return t.somewhere(u, who, u.Permission)
	}
	service, known := u.Permission.Service(), false
	for i := range t.before.Numbers() {
		known = known || t.before.Permission(i).Permission.Service() == service
	}
	covered := false // a path that no grant reaches may be wrong itself
	for _, id := range [...]model.ID{who, u.Principal()} {
		for _, g := range t.before.Given(id) {
			covered = covered || t.before.Grant(g).Covers(u.Path)
		}
	}
	for i := range t.before.Numbers() {
		p := t.before.Permission(i).Permission
		if known && p.Service() != service {
			continue
		}
		if !covered && t.somewhere(u, who, p) {
			return true
		}
		if ctx := u.Context(); covered && t.after.Decide(who, p, u.Path, ctx).Outcome < t.before.Decide(who, p, u.Path,
			ctx).Outcome {
			return true
		}
	}
	return false
}

// timed reports whether something that an identity has, before or after, holds at some hours.
func (t *taken) timed(who model.ID) bool {
	is, known := t.hours[who]
	if !known {
		for _, g := range []*index.Index{t.before, t.after} {
			is = is || slices.ContainsFunc(g.Given(who), func(i int) bool { return g.Grant(i).When.Hours != nil })
		}
		t.hours[who] = is
	}
	return is
}

// somewhere reports whether an identity loses a permission on some place on which a grant
// gives it, or keeps it there only under conditions that a use may not have met.
func (t *taken) somewhere(u *usage.Use, who model.ID, p model.Permission) bool {
	k := takenKey{who: who, perm: p, network: u.Network, factor: u.SecondFactor}
	if t.timed(who) {
		k.times = u.Context().Times
	}
	lost, known := t.perms[k]
	if known {
		return lost
	}
	type way struct {
		where []model.PathPattern
		when  model.Condition
	}
	ways := func(g *index.Index) (out []way) {
		for _, i := range g.Given(who) {
			gr := g.Grant(i)
			if met, rest := gr.Condition().Eval(u.Context()); met != model.False && access.Has(g.GrantSets(i), p) {
				out = append(out, way{gr.Where, rest})
			}
		}
		return out
	}
	now := ways(t.after)
	for _, had := range ways(t.before) {
		var still []model.PathPattern
		for _, has := range now {
			if had.when.Implies(has.when) {
				still = append(still, has.where...)
			}
		}
		for _, on := range had.where {
			lost = lost || !model.PathPatternsContain(still, on)
		}
	}
	t.perms[k] = lost
	return lost
}

// touched returns the identity of the fence and, for a group, all its members; of an open
// crowd, everybody.
func touched(g *index.Index, f *fence.Fence) map[model.ID]bool {
	who := f.For.In(g.Source())
	out := map[model.ID]bool{who: true}
	if n, ok := g.Number(who); ok {
		g.Members(n, func(i int) { out[g.ID(i)] = true })
	}
	return out
}

// weigh says how dangerous what a fence touches is, before and after.
func (s *Stage) weigh(r *Result, after *index.Index, f *fence.Fence) {
	before, one, two := s.before, s.scale, gauge.NewScale(after, s.weights)
	was, within := s.within, gauge.NewWithin(two)
	if s.known != nil && f.Widens == "" && len(r.Widened)+len(f.Denies) == 0 && !slices.ContainsFunc(f.Allow,
		func(a fence.Allow) bool { return a.Role != "" }) { // of a role somebody may make more
		of := touched(before, f)
		within.Below(s.known, func(n int) bool { return of[before.ID(n)] })
	}
	who := f.For.In(before.Source())
	if len(f.Denies) > 0 {
		s.weighAll(r, f, two, within)
		return
	}
	danger, had := one.Held(who)
	left, has := two.Held(who)
	r.ReachBefore, r.ReachAfter = was.Of(who), within.Of(who)
	// What single members keep of it is still held: as much counts as whoever keeps most has by
	// the group and its own lines.
	var shared []gauge.Part
	for _, n := range after.Given(who) {
		shared = append(shared, gauge.Part{Perms: after.SharedPerms(n), Where: after.Grant(n).Where})
	}
	own := map[model.ID][]gauge.Part{}
	for _, a := range f.Allow {
		if to := f.Receiver(&a, before.Source()); to != who {
			perms := before.SetPerms(a.Sets(before))
			own[to] = append(own[to], gauge.Part{Perms: perms, Where: a.Where})
			has = has.Clone()
			has.Or(perms)
		}
	}
	// A member gets to what it has by the group and to what it can get to beyond what it holds: what it has by
	// other groups is another matter.
	further := func(reach gauge.Reach, s *gauge.Scale, id model.ID, has float64, most *gauge.Reach) {
		held, _ := s.Held(id)
		if !reach.Further(held) {
			return
		}
		if reach.Danger = has + reach.Danger - held; reach.Danger > most.Danger {
			*most = reach // of the member that can get furthest
		}
	}
	for _, to := range slices.SortedFunc(maps.Keys(own), model.ID.Compare) {
		had := by(before, one, to, who)
		danger = max(danger, had) // a denial may spare the member, and not the group
		further(was.Of(to), one, to, had, &r.ReachBefore)
		kept := two.Union(slices.Concat(shared, own[to]))
		if f.Widens == "" {
			kept = min(danger, kept)
		}
		left = max(left, kept)
		further(within.Of(to), two, to, kept, &r.ReachAfter)
	}
	r.ReachBefore.Danger = max(r.ReachBefore.Danger, danger)
	r.ReachAfter.Danger = max(r.ReachAfter.Danger, left)
	r.Before, r.After = danger, left
	r.list(before, had, has)
}

// by returns the danger of what somebody has by what is granted to a group that it is in.
func by(x *index.Index, s *gauge.Scale, id, group model.ID) float64 {
	given := x.Given(group)
	var parts []gauge.Part
	for _, h := range x.Holdings(id) {
		if slices.Contains(given, h.Number) {
			parts = append(parts, gauge.Part{Perms: h.Perms, Where: h.Grant.Where})
		}
	}
	return s.Union(parts)
}

// weighAll weighs what a fence with denials leaves to all whom it touches: what it refuses is not what
// its identity is granted, but what each is who belongs to it.
func (s *Stage) weighAll(r *Result, f *fence.Fence, two *gauge.Scale, still *gauge.Within) {
	before, one, within := s.before, s.scale, s.within
	had, has := before.NewSet(), before.NewSet()
	who := f.For.In(before.Source())
	ids := slices.SortedFunc(maps.Keys(touched(before, f)), model.ID.Compare)
	ids = slices.DeleteFunc(ids, func(id model.ID) bool { return id.Open() || id.Kind == model.Group && id != who })
	for _, s := range [...]*gauge.Scale{one, two} {
		s.HoldAll(numbers(before, ids))
	}
	for _, id := range ids {
		was, perms := one.Held(id)
		is, kept := two.Held(id)
		had.Or(perms)
		has.Or(kept)
		if id.Kind != model.Group {
			if is < was {
				r.Fewer++
			}
			r.Before, r.After = r.Before+was, r.After+is
		}
		if reach := within.Of(id); reach.Danger > r.ReachBefore.Danger {
			r.ReachBefore = reach
		}
		if reach := still.Of(id); reach.Danger > r.ReachAfter.Danger {
			r.ReachAfter, r.Furthest = reach, id
		}
	}
	r.list(before, had, has)
}

// numbers returns the numbers of identities, those that the estate knows.
func numbers(x *index.Index, ids []model.ID) []int {
	var out []int
	for _, id := range ids {
		if n, ok := x.Number(id); ok {
			out = append(out, n)
		}
	}
	return out
}

// list sorts out what goes and what stays, most powerful first.
func (r *Result) list(x *index.Index, had, has access.Set) {
	for i := range had.All() {
		c := *x.Permission(i)
		if has.Has(i) {
			r.Stays = append(r.Stays, c)
		} else {
			r.Goes = append(r.Goes, c)
		}
	}
	byLevel := func(a, b model.CatalogueEntry) int {
		return cmp.Or(cmp.Compare(b.Weighs(), a.Weighs()), a.Permission.Compare(b.Permission))
	}
	slices.SortFunc(r.Goes, byLevel)
	slices.SortFunc(r.Stays, byLevel)
}
