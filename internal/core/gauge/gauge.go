package gauge

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Input is everything a comparison looks at.
type Input struct {
	Index     *index.Index
	Uses      []usage.Use
	Coverage  *usage.Coverage
	AsOf      time.Time
	Window    int       // days
	History   time.Time // the first event ever read; zero: no log was read
	Protected map[model.ID]bool
	Weights   Weights
	Place     PlaceInput
	// Paths says of which grants every path is kept on which they were used, for drafting;
	// nil: of all.
	Paths func(*model.Grant) bool
}

// Span returns the window that ends at AsOf.
func (in *Input) Span() usage.Window { return usage.WindowOf(in.AsOf, in.Window) }

// PathUse is how one permission was used through one grant on one path.
type PathUse struct {
	Count    int64 // calls, over all that is known
	InWindow int64 // of those, in the window
	AtLeast  bool  // both are the least that there were
	Days     usage.Days
	First    time.Time
	Last     time.Time
}

// PermUse is how one permission was used through one grant.
type PermUse struct {
	Count       int64 // calls, over all that is known
	First, Last time.Time
	Days        usage.Days
	Habit       usage.Habit
	Paths       map[model.Path]*PathUse // where; see [Input.Paths]
	Nodes       []uint32                // nearest nodes of the inventory, by number, in order
	Who         []Caller                // whose calls they were, in order
}

// Caller is somebody who called, by number, -1 for whoever the estate does not list, and when.
type Caller struct {
	Number int
	Days   usage.Days
}

// called notes days on which somebody called.
func (pu *PermUse) called(number int, days usage.Days) {
	at, found := slices.BinarySearchFunc(pu.Who, number, func(c Caller, n int) int { return cmp.Compare(c.Number, n) })
	if !found {
		pu.Who = slices.Insert(pu.Who, at, Caller{Number: number})
	}
	pu.Who[at].Days = pu.Who[at].Days.Union(days)
}

// GrantResult is how one grant compares with its use. The seven sets are disjoint
// and together are Perms; one that is empty may be nil, and nobody may change them.
type GrantResult struct {
	Number       int
	Grant        *model.Grant
	Holders      []model.ID // who has it, in the end: members of groups, not groups
	Perms        access.Set // of the catalogue
	Used         access.Set // in the window
	Rare         access.Set // before the window, by a habit that is not over
	TooNew       access.Set // the grant is younger than the window
	Undecidable  access.Set // a call that is not placed may have been a use of it
	Unobservable access.Set // no log would have shown it over the window
	Unused       access.Set
	Held         access.Set // its holders cannot be judged: see HeldBy
	HeldBy       State

	// Frozen are the permissions that a call which is not placed may have been a use of,
	// on whatever place of the grant, and Dark the places of the grant on which no log
	// would have shown a use, by permission. Both go also for permissions that were used
	// elsewhere.
	Frozen    access.Set
	Dark      map[int][]model.PathPattern
	Use       map[int]*PermUse // by the number of the permission
	Danger    float64          // of all it gives
	Kept      float64          // of what is used, rare, too new or unobservable, where it is used
	Nodes     int              // of the inventory that the kept permissions reach
	UsedNodes int              // of those, on which they were used
}

// Keep returns the permissions that a cut must leave.
func (r *GrantResult) Keep() access.Set {
	k := make(access.Set, len(r.Perms))
	k.Or(r.Used)
	k.Or(r.Rare)
	k.Or(r.TooNew)
	k.Or(r.Unobservable)
	k.Or(r.Undecidable)
	k.Or(r.Held)
	return k
}

// State says how an identity stands as a whole.
type State string

// The states of an identity.
const (
	Active    State = "active"
	Idle      State = "idle"      // nothing for so long that its habit is over
	Disabled  State = "disabled"  // cannot authenticate, and still holds access
	Rare      State = "rare"      // silent, but perhaps yearly: keep
	New       State = "new"       // younger than the window
	Protected State = "protected" // by the configuration, or labelled break-glass
	Unproven  State = "unproven"  // silent, but the evidence is too thin to say so
)

// Standing is how one identity compares.
type Standing struct {
	ID           model.ID
	Identity     model.Identity
	State        State
	Dark         bool // it is unproven since it may go on where no log shows it, and for nothing else
	Granted      int  // distinct permissions, after denials, guardrails and ceilings
	Used         int  // distinct permissions in the window; of a group, of its own grants
	ByName       int  // distinct permissions of grants that name it
	ByGroups     int  // of grants to groups that it is in
	ByCrowds     int  // of grants to everyone and to signed-in
	Members      int  // of a group: who is in it at any distance and can sign in
	Silent       int  // of those, who used none of its own grants in the window
	Unobservable int  // of the granted, those that no log would have shown and that were not seen
	LastUse      time.Time
	Habit        usage.Habit
	Danger       float64        // of all that reaches it
	Within       Reach          // what is within its reach
	Removable    float64        // of its own grants: danger that nothing observed needs
	Holdings     int            // grants that reach it
	Grants       []*GrantResult // made to exactly this identity
}

// Result is a whole comparison.
type Result struct {
	Window     usage.Window
	Standings  []*Standing    // most removable danger first
	Grants     []*GrantResult // by number; nil where an edited view has none
	Unmapped   int            // uses of permissions that the catalogue lacks
	Placement  *Placement
	Strangers  []model.ID // callers that the estate does not list
	Observable float64    // share of granted permissions that a log would have shown
	byID       map[model.ID]*Standing
	Scale      *Scale

	redundant sync.Once
	spare     map[int][]int // see Redundant
}

// Of returns the standing of an identity, or nil.
func (r *Result) Of(id model.ID) *Standing { return r.byID[id] }

// Run compares.
func Run(in *Input) *Result {
	if in.Weights == (Weights{}) {
		in.Weights = DefaultWeights
	}
	r := &runner{in: in, x: in.Index, span: in.Span(), now: usage.DayOf(in.AsOf), activity: activities{},
		dark: map[seen][]model.PathPattern{}}
	r.out = &Result{Window: r.span, byID: map[model.ID]*Standing{}, Scale: NewScale(in.Index, in.Weights)}
	r.prepare()
	r.out.Placement = Place(in.Index, in.Uses, r.span, in.Place)
	r.frozen = freeze(r.out.Placement, in.Uses, in.Index, in.Place,
		func(p model.Path, service, class string) (model.Path, bool) {
			rec, ok := in.Coverage.Record(p, service, class)
			return rec.Node, ok
		})
	r.attribute()
	r.states()
	r.classify()
	r.finish()
	return r.out
}

type activity struct {
	days usage.Days
	last time.Time
	used access.Set // in the window
}

type runner struct {
	in       *Input
	x        *index.Index
	span     usage.Window
	now      usage.Day
	activity activities
	locks    [64]sync.Mutex // of the results of grants, while uses are credited
	dark     map[seen][]model.PathPattern
	usesOf   map[model.ID][]*usage.Use // after wentDark was asked
	frozen   *frozen
	out      *Result
}

func (r *runner) prepare() {
	r.out.Grants = make([]*GrantResult, r.x.GrantNumbers())
	set, within := r.x.NewSet, NewWithin(r.out.Scale)
	for i, g := range r.x.Grants() {
		r.out.Grants[i] = &GrantResult{Number: i, Grant: g, Perms: r.x.SharedPerms(i)}
	}
	name, groups, crowds := set(), set(), set()
	for _, id := range r.x.Everybody() {
		if id.ID.Source != "" { // linked in from another source, which compares it
			continue
		}
		s := &Standing{ID: id.ID, Identity: *id}
		clear(name)
		clear(groups)
		clear(crowds)
		r.x.EachHolding(id.ID, func(h *access.Holding) {
			s.Holdings++
			g := r.out.Grants[h.Number]
			if id.ID.Kind != model.Group && !g.Grant.To.Open() {
				g.Holders = append(g.Holders, id.ID)
			}
			switch {
			case g.Grant.To == id.ID:
				name.Or(h.Perms)
			case g.Grant.To.Open():
				crowds.Or(h.Perms)
			default:
				groups.Or(h.Perms)
			}
		})
		s.ByName, s.ByGroups, s.ByCrowds = name.Count(), groups.Count(), crowds.Count()
		for _, i := range r.x.GrantsTo(id.ID) {
			s.Grants = append(s.Grants, r.out.Grants[i])
		}
		var perms access.Set
		s.Danger, perms = r.out.Scale.Held(id.ID)
		s.Within = within.Of(id.ID)
		s.Granted = perms.Count()
		r.out.Standings = append(r.out.Standings, s)
		r.out.byID[id.ID] = s
	}
}

func (r *runner) act(id model.ID) *activity { return r.activity.of(id, r.x) }

// activities are what identities did.
type activities map[model.ID]*activity

func (m activities) of(id model.ID, x *index.Index) *activity {
	a := m[id]
	if a == nil {
		a = &activity{used: x.NewSet()}
		m[id] = a
	}
	return a
}

func (m activities) add(o activities) {
	for id, b := range o {
		a := m[id]
		if a == nil {
			m[id] = b
			continue
		}
		a.days = a.days.Union(b.days)
		if b.last.After(a.last) {
			a.last = b.last
		}
		a.used.Or(b.used)
	}
}

// attributor credits uses to grants; each worker has one.
type attributor struct {
	*runner
	activities activities
	strangers  map[model.ID]bool
	unmapped   int
	find       finders
}

func (r *runner) attribute() {
	parts := make([]attributor, workers())
	for k := range parts {
		parts[k] = attributor{r, activities{}, map[model.ID]bool{}, 0, finders{x: r.x}}
	}
	inRuns(r.in.Uses, func(k, from, to int) {
		for i := from; i < to; i++ {
			parts[k].attribute(i)
		}
	})
	strangers := map[model.ID]bool{}
	for k := range parts {
		r.activity.add(parts[k].activities)
		maps.Copy(strangers, parts[k].strangers)
		r.out.Unmapped += parts[k].unmapped
	}
	r.out.Strangers = slices.SortedFunc(maps.Keys(strangers), model.ID.Compare)
}

func (r *attributor) attribute(i int) {
	past := r.in.Uses[i]
	if !past.Within(math.MinInt32, r.now) { // asked about the past: what came later is not known yet
		return
	}
	u := &past
	who := u.Principal()
	for i, id := range [...]model.ID{u.Identity, who} {
		if i == 1 && who == u.Identity {
			break
		}
		a := r.activities.of(id, r.x)
		a.days = a.days.Union(u.Days)
		if u.Last.After(a.last) {
			a.last = u.Last
		}
	}
	if _, ok := r.x.Identity(u.Identity); !ok && !u.Identity.Open() {
		r.strangers[u.Identity] = true
	}
	if !u.Outcome.Allowed() {
		return
	}
	p, ok := r.x.PermNumber(u.Permission)
	if !ok {
		r.unmapped++
		return
	}
	if why := r.out.Placement.Reasons[i]; why == NoPath || why == NoCaller {
		return // a place that is not there, or nobody's call, is no use of a grant
	}
	if !u.Last.Before(r.span.From) {
		r.activities.of(who, r.x).used.Add(p)
	}
	r.find.of(who).Allowing(p, u.Path, func(g int) {
		res := r.out.Grants[g]
		if met, _ := res.Grant.When.Eval(u.Context()); met != model.False {
			mu := &r.locks[g%len(r.locks)]
			mu.Lock()
			defer mu.Unlock()
			r.credit(res, p, u, who)
		}
	})
}

func (r *runner) credit(res *GrantResult, p int, u *usage.Use, who model.ID) {
	pu := res.Use[p]
	if pu == nil {
		pu = &PermUse{First: u.First}
		if r.in.Paths == nil || r.in.Paths(res.Grant) {
			pu.Paths = map[model.Path]*PathUse{}
		}
		if res.Use == nil {
			res.Use = map[int]*PermUse{}
		}
		res.Use[p] = pu
	}
	pu.Count += u.Count
	if u.First.Before(pu.First) {
		pu.First = u.First
	}
	if u.Last.After(pu.Last) {
		pu.Last = u.Last
	}
	pu.Days = pu.Days.Union(u.Days)
	if n, ok := r.x.NearestNumber(u.Path); ok {
		pu.Nodes = noted(pu.Nodes, n)
	}
	n, ok := r.x.Number(who)
	if !ok { // somebody whom the estate does not list, by what anybody has
		n = -1
	}
	pu.called(n, u.Days)
	if pu.Paths == nil {
		return
	}
	at := pu.Paths[u.Path]
	if at == nil {
		at = &PathUse{First: u.First, Last: u.Last}
		pu.Paths[u.Path] = at
	}
	at.Count += u.Count
	at.AtLeast = at.AtLeast || u.AtLeast
	at.Days = at.Days.Union(u.Days)
	if u.First.Before(at.First) {
		at.First = u.First
	}
	if u.Last.After(at.Last) {
		at.Last = u.Last
	}
	if n, least := u.Between(r.span.First(), r.span.Last()); n > 0 {
		at.InWindow += n
		at.AtLeast = at.AtLeast || least
	}
}

// noted adds a number to a list in order; most come at its end.
func noted(list []uint32, n uint32) []uint32 {
	if k := len(list); k == 0 || list[k-1] < n {
		return append(list, n)
	}
	at, found := slices.BinarySearch(list, n)
	if found {
		return list
	}
	return slices.Insert(list, at, n)
}

// yearDays is how long a silence can be a yearly job's.
const yearDays = 400

func (r *runner) states() {
	for _, s := range r.out.Standings {
		a := r.act(s.ID)
		if s.ID.Kind == model.Group { // its own grants are used by its members
			used := map[int]bool{}
			for _, g := range s.Grants {
				for p, pu := range g.Use {
					for _, c := range pu.Who {
						used[c.Number] = used[c.Number] || c.Days.Between(r.span.First(), r.now).Count() > 0
					}
					a.days = a.days.Union(pu.Days)
					if pu.Last.After(a.last) {
						a.last = pu.Last
					}
					if !pu.Last.Before(r.span.From) {
						a.used.Add(p)
					}
				}
			}
			r.members(s, used)
		}
		s.LastUse, s.Used = a.last, a.used.Count()
		s.Habit = usage.HabitOf(a.days, r.now)
		s.State = r.state(s)
		if (s.State == Idle || s.Dark) && r.unknownMayBe(s) { // somebody unknown calls where it could
			s.State, s.Dark = Unproven, false
		}
	}
}

// members counts who is in a group, and who of them used none of its own grants.
func (r *runner) members(s *Standing, used map[int]bool) {
	n, ok := r.x.Number(s.ID)
	if !ok {
		return
	}
	r.x.Members(n, func(i int) {
		if r.x.Kind(i) == model.Group {
			return
		}
		id, known := r.x.Identity(r.x.ID(i))
		if !known || id.Disabled {
			return
		}
		s.Members++
		if !used[i] {
			s.Silent++
		}
	})
}

func (r *runner) state(s *Standing) State {
	id := s.Identity
	silentSince := id.LastSeen
	if s.LastUse.After(silentSince) {
		silentSince = s.LastUse
	}
	switch {
	case r.in.Protected[s.ID] || id.BreakGlass():
		return Protected
	case s.ID.Kind == model.Group:
		return Active // judged by its grants and its members
	case id.Disabled:
		return Disabled
	case !s.LastUse.Before(r.span.From):
		return Active
	case id.Created.After(r.span.From):
		return New
	case !id.LastSeen.IsZero() && !id.LastSeen.Before(r.span.From):
		return Unproven // it signs in, and does nothing that a log shows
	case s.Habit.Rhythm != usage.Never && s.Habit.Over && id.LastSeen.IsZero() && (r.wentDark(s.ID) || r.hidden(s)):
		s.Dark = true
		return Unproven // it may have gone on, or go on, where no log shows it
	case s.Habit.Rhythm != usage.Never && s.Habit.Over:
		return Idle
	case s.Habit.Rhythm != usage.Never:
		return Rare
	}
	// No log knows it. What the source remembers decides.
	switch {
	case r.in.History.IsZero():
		return Unproven
	case !id.LastSeen.IsZero() && r.in.AsOf.Sub(silentSince) < yearDays*24*time.Hour:
		return Rare
	case !id.LastSeen.IsZero() || r.x.Semantics().LastSeen:
		return Idle
	case r.in.AsOf.Sub(r.in.History) >= yearDays*24*time.Hour && !r.hidden(s):
		return Idle
	}
	return Unproven
}

// wentDark reports whether something that an identity used to do would not have been seen
// over the window, so that its silence proves nothing.
func (r *runner) wentDark(id model.ID) bool {
	if r.usesOf == nil {
		r.usesOf = map[model.ID][]*usage.Use{}
		for i := range r.in.Uses {
			u := &r.in.Uses[i]
			if !u.Outcome.Allowed() || usage.DayOf(u.First) > r.now {
				continue
			}
			r.usesOf[u.Identity] = append(r.usesOf[u.Identity], u)
			if who := u.Principal(); who != u.Identity {
				r.usesOf[who] = append(r.usesOf[who], u)
			}
		}
	}
	return slices.ContainsFunc(r.usesOf[id], func(u *usage.Use) bool {
		c, known := r.x.Entry(u.Permission)
		return known && !usage.Observable(r.in.Coverage.Share(u.Path, c.Permission.Service(), c.LogClass, r.span))
	})
}

// unknownMayBe reports whether a caller that nobody knows shows up in a log that would show
// what an identity does.
func (r *runner) unknownMayBe(s *Standing) bool {
	if !r.frozen.all && len(r.frozen.streams) == 0 {
		return false
	}
	some := false
	r.x.EachHolding(s.ID, func(h *access.Holding) {
		if some || h.Grant.To.Open() {
			return
		}
		for p := range h.Perms.All() {
			if some = r.frozen.silent(r.x.Permission(p), h.Grant.Where); some {
				return
			}
		}
	})
	return some
}

// hidden reports whether something that is granted to an identity or to its groups would
// not have been seen over the window.
func (r *runner) hidden(s *Standing) bool {
	some := false
	r.x.EachHolding(s.ID, func(h *access.Holding) {
		if some || h.Grant.To.Open() {
			return
		}
		for p := range h.Perms.All() {
			if some = !r.observable(p, h.Grant); some {
				return
			}
		}
	})
	return some
}

// classify sorts the permissions of each grant.
func (r *runner) classify() {
	for _, res := range r.out.Grants {
		if res == nil {
			continue
		}
		g := res.Grant
		state, held := r.holderState(res)
		if held {
			res.HeldBy = state
		}
		// Of most holders nothing is frozen.
		holders := slices.DeleteFunc(slices.Clone(res.Holders), func(id model.ID) bool { return !r.frozen.some(id) })
		into := func(set *access.Set, p int) {
			if *set == nil {
				*set = r.x.NewSet()
			}
			set.Add(p)
		}
		for p := range res.Perms.All() {
			pu := res.Use[p]
			dark := r.darkPlaces(p, g)
			if len(dark) > 0 {
				if res.Dark == nil {
					res.Dark = map[int][]model.PathPattern{}
				}
				res.Dark[p] = dark
			}
			frozen := len(holders) > 0 && slices.ContainsFunc(holders, func(id model.ID) bool {
				return r.frozen.holds(id, p, r.x.Permission(p).Permission.Service(), g)
			})
			if frozen {
				into(&res.Frozen, p)
			}
			switch {
			case pu != nil && !pu.Last.Before(r.span.From):
				pu.Habit = usage.HabitOf(pu.Days, r.now)
				into(&res.Used, p)
			case pu != nil && r.goesOn(pu):
				into(&res.Rare, p)
			case held:
				into(&res.Held, p)
			case g.Created.After(r.span.From):
				into(&res.TooNew, p)
			case frozen:
				into(&res.Undecidable, p)
			case len(dark) > 0:
				into(&res.Unobservable, p)
			default:
				into(&res.Unused, p)
			}
		}
		res.Danger = r.out.Scale.Danger(res.Perms, g.Where)
		res.Kept = min(res.Danger, r.kept(res))
	}
}

// goesOn reports whether the habit of a use is not over: that of all callers together, or
// that of one of them, whose own calls the others' would hide.
func (r *runner) goesOn(pu *PermUse) bool {
	pu.Habit = usage.HabitOf(pu.Days, r.now)
	if !pu.Habit.Over {
		return true
	}
	for _, c := range pu.Who {
		if len(pu.Who) > 1 && !usage.HabitOf(c.Days, r.now).Over {
			return true
		}
	}
	return false
}

// holderState says what it is about those who hold a grant that keeps it from being
// judged, if anything. A grant to a group is judged by those of its members that can be
// judged: one that is new, rare or silent does not hold it for all. A protected member does,
// since nothing that reaches it is changed.
func (r *runner) holderState(res *GrantResult) (State, bool) {
	counts := map[State]int{}
	for _, id := range res.Holders {
		counts[r.out.byID[id].State]++
	}
	if counts[Protected] > 0 {
		return Protected, true
	}
	waits := counts[Rare] + counts[New] + counts[Unproven]
	if waits == 0 || waits < len(res.Holders) && res.Grant.To.Kind == model.Group {
		return "", false
	}
	for _, s := range []State{Rare, New, Unproven} {
		if counts[s] > 0 {
			return s, true
		}
	}
	return "", false
}

// darkPlaces returns the places of a grant on which uses of a permission would not have
// been seen over the window.
func (r *runner) darkPlaces(p int, g *model.Grant) []model.PathPattern {
	c := r.x.Permission(p)
	var out []model.PathPattern
	for _, on := range g.Where {
		k := seen{on, c.Permission.Service(), c.LogClass, r.x.Class(p)}
		dark, ok := r.dark[k]
		if !ok {
			apart := func(below []model.Path) bool { return r.out.Scale.Apart(p, on, below) }
			dark = r.in.Coverage.DarkBelow(on, k.service, c.LogClass, r.span, apart)
			r.dark[k] = dark
		}
		if len(g.Where) == 1 {
			return dark
		}
		out = append(out, dark...)
	}
	return out
}

// observable reports whether uses of a permission through a grant would have been
// seen over the window, on every place the grant reaches.
func (r *runner) observable(p int, g *model.Grant) bool {
	return len(r.darkPlaces(p, g)) == 0
}

// seen is what decides whether a use of a permission on a place would have been seen.
type seen struct {
	on             model.PathPattern
	service, class string
	kinds          int
}

// kept measures what a cut would leave, and fills in the node counts.
func (r *runner) kept(res *GrantResult) float64 {
	d := 0.0
	var nodes []uint32
	for i := range res.Keep().All() {
		n := r.out.Scale.Nodes(i, res.Grant.Where)
		res.Nodes = max(res.Nodes, n)
		pu, dark := res.Use[i], res.Dark[i]
		if pu != nil {
			nodes = append(nodes, pu.Nodes...)
		}
		switch {
		case res.Frozen.Has(i) || res.Held.Has(i) || res.TooNew.Has(i):
		case res.Unobservable.Has(i):
			n = min(n, r.out.Scale.Nodes(i, dark))
		case pu != nil && len(dark) > 0:
			n = min(n, len(pu.Nodes)+r.out.Scale.Nodes(i, dark))
		case pu != nil:
			n = min(n, max(1, len(pu.Nodes)))
		}
		d += r.in.Weights.Of(r.x.Level(i), n)
	}
	slices.Sort(nodes)
	res.UsedNodes = len(slices.Compact(nodes))
	return d
}

func (r *runner) finish() {
	granted, unseen := 0, 0
	for _, res := range r.out.Grants {
		if res == nil {
			continue
		}
		granted += res.Perms.Count()
		unseen += res.Unobservable.Count()
	}
	r.out.Observable = 1
	if granted > 0 {
		r.out.Observable = 1 - float64(unseen)/float64(granted)
	}
	un := r.x.NewSet()
	for _, s := range r.out.Standings {
		clear(un)
		for _, g := range r.x.Given(s.ID) {
			un.Or(r.out.Grants[g].Unobservable)
		}
		un.AndNot(r.act(s.ID).used)
		s.Unobservable = un.Count()
		for _, g := range s.Grants {
			switch s.State {
			case Idle, Disabled:
				s.Removable += g.Danger
			case Protected, Rare, New, Unproven:
			default:
				s.Removable += g.Danger - g.Kept
			}
		}
		s.Removable = min(s.Removable, s.Danger) // what two grants give counts once
	}
	slices.SortStableFunc(r.out.Standings, func(a, b *Standing) int {
		return cmp.Or(cmp.Compare(b.Removable, a.Removable), cmp.Compare(b.Danger, a.Danger), a.ID.Compare(b.ID))
	})
}
