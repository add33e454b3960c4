package gauge

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Input is everything a comparison looks at.
type Input struct {
	Engine    *engine.Engine
	Uses      []usage.Use
	Coverage  *usage.Coverage
	AsOf      time.Time
	Window    int       // days
	History   time.Time // the first event ever read; zero: no log was read
	Protected map[model.ID]bool
	Weights   Weights
	Place     PlaceInput
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
	Paths       map[model.Path]*PathUse // where
	Nodes       map[model.Path]bool     // nearest nodes of the inventory
	Who         map[model.ID]usage.Days // whose calls they were, and when
}

// GrantResult is how one grant compares with its use. The seven sets are disjoint
// and together are Perms.
type GrantResult struct {
	Grant        *model.Grant
	Holders      []model.ID  // who has it, in the end: members of groups, not groups
	Perms        engine.Bits // of the catalogue
	Used         engine.Bits // in the window
	Rare         engine.Bits // before the window, by a habit that is not over
	TooNew       engine.Bits // the grant is younger than the window
	Undecidable  engine.Bits // a call that is not placed may have been a use of it
	Unobservable engine.Bits // no log would have shown it over the window
	Unused       engine.Bits
	Held         engine.Bits // its holders cannot be judged: see HeldBy
	HeldBy       State

	// Frozen are the permissions that a call which is not placed may have been a use of,
	// on whatever place of the grant, and Dark the places of the grant on which no log
	// would have shown a use, by permission. Both go also for permissions that were used
	// elsewhere.
	Frozen    engine.Bits
	Dark      map[int][]model.PathPattern
	Use       map[int]*PermUse // by index into the catalogue
	Danger    float64          // of all it gives
	Kept      float64          // of what is used, rare, too new or unobservable, where it is used
	Nodes     int              // of the inventory that the kept permissions reach
	UsedNodes int              // of those, on which they were used
}

// Keep returns the permissions that a cut must leave.
func (r *GrantResult) Keep() engine.Bits {
	k := r.Used.Clone()
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
	Granted      int // distinct permissions, after denials, guardrails and ceilings
	Used         int // distinct permissions in the window
	Unobservable int // of the granted, those that no log would have shown and that were not seen
	LastUse      time.Time
	Habit        usage.Habit
	Danger       float64 // of all that reaches it
	Removable    float64 // of its own grants: danger that nothing observed needs
	Holdings     []engine.Holding
	Grants       []*GrantResult // made to exactly this identity
}

// Result is a whole comparison.
type Result struct {
	Window     usage.Window
	Standings  []*Standing    // most removable danger first
	Grants     []*GrantResult // by index into Estate.Grants
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
	r := &runner{in: in, g: in.Engine, span: in.Span(), now: usage.DayOf(in.AsOf), perms: map[model.Permission]int{}, activity: map[model.ID]*activity{}, dark: map[seen][]model.PathPattern{}}
	r.out = &Result{Window: r.span, byID: map[model.ID]*Standing{}, Scale: NewScale(in.Engine)}
	for i, c := range r.g.Estate.Catalogue {
		r.perms[c.Permission] = i
	}
	r.prepare()
	r.out.Placement = Place(in.Engine, in.Uses, r.span, in.Place)
	r.frozen = freeze(r.out.Placement, in.Uses, r.perms, in.Engine.Estate.Catalogue, in.Place, func(p model.Path, service, class string) (model.Path, bool) {
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
	used engine.Bits // in the window
}

type runner struct {
	in       *Input
	g        *engine.Engine
	span     usage.Window
	now      usage.Day
	perms    map[model.Permission]int
	activity map[model.ID]*activity
	dark     map[seen][]model.PathPattern
	usesOf   map[model.ID][]*usage.Use // after wentDark was asked
	frozen   *frozen
	out      *Result
}

func (r *runner) prepare() {
	e := r.g.Estate
	n := len(e.Catalogue)
	for i := range e.Grants {
		r.out.Grants = append(r.out.Grants, &GrantResult{Grant: &e.Grants[i], Perms: r.g.GrantPerms(&e.Grants[i]),
			Used: engine.NewBits(n), Rare: engine.NewBits(n), TooNew: engine.NewBits(n), Undecidable: engine.NewBits(n), Held: engine.NewBits(n), Frozen: engine.NewBits(n), Dark: map[int][]model.PathPattern{}, Unobservable: engine.NewBits(n), Unused: engine.NewBits(n), Use: map[int]*PermUse{}})
	}
	for _, id := range e.Identities {
		s := &Standing{ID: id.ID, Identity: id, Holdings: r.g.Holdings(id.ID)}
		granted := engine.NewBits(n)
		var parts []Part
		for _, h := range s.Holdings {
			granted.Or(h.Perms)
			parts = append(parts, Part{h.Perms, e.Grants[h.Grant].Where})
			g := r.out.Grants[h.Grant]
			if id.ID.Kind != model.Group && !g.Grant.To.Open() {
				g.Holders = append(g.Holders, id.ID)
			}
		}
		for _, i := range r.g.GrantsTo(id.ID) {
			s.Grants = append(s.Grants, r.out.Grants[i])
		}
		s.Granted = granted.Count()
		s.Danger = r.in.Weights.Danger(r.out.Scale.Union(parts))
		r.out.Standings = append(r.out.Standings, s)
		r.out.byID[id.ID] = s
	}
}

func (r *runner) act(id model.ID) *activity {
	a := r.activity[id]
	if a == nil {
		a = &activity{used: engine.NewBits(len(r.g.Estate.Catalogue))}
		r.activity[id] = a
	}
	return a
}

func (r *runner) attribute() {
	closures := map[model.ID][]int{}
	strangers := map[model.ID]bool{}
	for i := range r.in.Uses {
		u := &r.in.Uses[i]
		past := *u
		if !past.Within(math.MinInt32, r.now) { // asked about the past: what came later is not known yet
			continue
		}
		u = &past
		who := u.Principal()
		for i, id := range [...]model.ID{u.Identity, who} {
			if i == 1 && who == u.Identity {
				break
			}
			a := r.act(id)
			a.days = a.days.Union(u.Days)
			if u.Last.After(a.last) {
				a.last = u.Last
			}
		}
		if _, ok := r.g.Identity(u.Identity); !ok && !u.Identity.Open() && !strangers[u.Identity] {
			strangers[u.Identity] = true
			r.out.Strangers = append(r.out.Strangers, u.Identity)
		}
		if !u.Outcome.Allowed() {
			continue
		}
		p, ok := r.perms[u.Permission]
		if !ok {
			r.out.Unmapped++
			continue
		}
		if why := r.out.Placement.Reasons[i]; why == NoPath || why == NoCaller {
			continue // a place that is not there, or nobody's call, is no use of a grant
		}
		if !u.Last.Before(r.span.From) {
			r.act(who).used.Set(p)
		}
		grants, ok := closures[who]
		if !ok {
			for _, s := range r.g.Closure(who) {
				grants = append(grants, r.g.GrantsTo(s.ID)...)
			}
			closures[who] = grants
		}
		for _, gi := range grants {
			res := r.out.Grants[gi]
			if !res.Perms.Has(p) || !res.Grant.Covers(u.Path) {
				continue
			}
			if met, _ := res.Grant.When.Eval(u.Context()); met == model.False {
				continue
			}
			r.credit(res, p, u, who)
		}
	}
	slices.SortFunc(r.out.Strangers, model.ID.Compare)
}

func (r *runner) credit(res *GrantResult, p int, u *usage.Use, who model.ID) {
	pu := res.Use[p]
	if pu == nil {
		pu = &PermUse{First: u.First, Paths: map[model.Path]*PathUse{}, Nodes: map[model.Path]bool{}, Who: map[model.ID]usage.Days{}}
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
	if n, ok := r.g.NearestNode(u.Path); ok {
		pu.Nodes[n] = true
	}
	pu.Who[who] = pu.Who[who].Union(u.Days)
}

// yearDays is how long a silence can be a yearly job's.
const yearDays = 400

func (r *runner) states() {
	for _, s := range r.out.Standings {
		a := r.act(s.ID)
		if s.ID.Kind == model.Group { // a group's grants are used by its members
			for _, h := range s.Holdings {
				for p, pu := range r.out.Grants[h.Grant].Use {
					a.days = a.days.Union(pu.Days)
					if pu.Last.After(a.last) {
						a.last = pu.Last
					}
					if !pu.Last.Before(r.span.From) {
						a.used.Set(p)
					}
				}
			}
		}
		s.LastUse, s.Used = a.last, a.used.Count()
		s.Habit = usage.HabitOf(a.days, r.now)
		s.State = r.state(s)
		if s.State == Idle && r.unknownMayBe(s) { // somebody unknown calls where it could
			s.State = Unproven
		}
	}
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
	case !id.LastSeen.IsZero() || r.g.Estate.Semantics.LastSeen:
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
		c, known := r.g.Entry(u.Permission)
		return known && !usage.Observable(r.in.Coverage.Share(u.Path, c.Permission.Service(), c.LogClass, r.span))
	})
}

// unknownMayBe reports whether a caller that nobody knows shows up in a log that would show
// what an identity does.
func (r *runner) unknownMayBe(s *Standing) bool {
	if !r.frozen.all && len(r.frozen.streams) == 0 {
		return false
	}
	for _, h := range s.Holdings {
		g := r.out.Grants[h.Grant].Grant
		for p := range h.Perms.All() {
			if !g.To.Open() && r.frozen.silent(r.g.Estate.Catalogue[p], g.Where) {
				return true
			}
		}
	}
	return false
}

// hidden reports whether something that is granted to an identity or to its groups would
// not have been seen over the window.
func (r *runner) hidden(s *Standing) bool {
	for _, h := range s.Holdings {
		g := r.out.Grants[h.Grant].Grant
		if g.To.Open() {
			continue
		}
		for p := range h.Perms.All() {
			if !r.observable(r.g.Estate.Catalogue[p], g) {
				return true
			}
		}
	}
	return false
}

// classify sorts the permissions of each grant.
func (r *runner) classify() {
	e := r.g.Estate
	for _, res := range r.out.Grants {
		g := res.Grant
		state, held := r.holderState(res)
		if held {
			res.HeldBy = state
		}
		for p := range res.Perms.All() {
			pu := res.Use[p]
			c := e.Catalogue[p]
			dark := r.darkPlaces(c, g)
			if len(dark) > 0 {
				res.Dark[p] = dark
			}
			frozen := slices.ContainsFunc(res.Holders, func(id model.ID) bool { return r.frozen.holds(id, p, c.Permission.Service(), g) })
			if frozen {
				res.Frozen.Set(p)
			}
			switch {
			case pu != nil && !pu.Last.Before(r.span.From):
				pu.Habit = usage.HabitOf(pu.Days, r.now)
				res.Used.Set(p)
			case pu != nil && r.goesOn(pu):
				res.Rare.Set(p)
			case held:
				res.Held.Set(p)
			case g.Created.After(r.span.From):
				res.TooNew.Set(p)
			case frozen:
				res.Undecidable.Set(p)
			case len(dark) > 0:
				res.Unobservable.Set(p)
			default:
				res.Unused.Set(p)
			}
		}
		all := r.out.Scale.Pairs(res.Perms, g.Where)
		res.Danger = r.in.Weights.Danger(all)
		res.Kept = min(res.Danger, r.in.Weights.Danger(r.kept(res)))
	}
}

// goesOn reports whether the habit of a use is not over: that of all callers together, or
// that of one of them, whose own calls the others' would hide.
func (r *runner) goesOn(pu *PermUse) bool {
	pu.Habit = usage.HabitOf(pu.Days, r.now)
	if !pu.Habit.Over {
		return true
	}
	for _, days := range pu.Who {
		if len(pu.Who) > 1 && !usage.HabitOf(days, r.now).Over {
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
func (r *runner) darkPlaces(c model.CatalogueEntry, g *model.Grant) []model.PathPattern {
	var out []model.PathPattern
	for _, on := range g.Where {
		k := seen{on, c.Permission.Service(), c.LogClass, strings.Join(c.Kinds, "\x00")}
		dark, ok := r.dark[k]
		if !ok {
			apart := func(below []model.Path) bool { return r.out.Scale.Apart(c, on, below) }
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
func (r *runner) observable(c model.CatalogueEntry, g *model.Grant) bool {
	return len(r.darkPlaces(c, g)) == 0
}

// seen is what decides whether a use of a permission on a place would have been seen.
type seen struct {
	on                    model.PathPattern
	service, class, kinds string
}

// kept counts the pairs that a cut would leave, and fills in the node counts.
func (r *runner) kept(res *GrantResult) Pairs {
	var p Pairs
	nodes := map[model.Path]bool{}
	for i := range res.Keep().All() {
		c := r.g.Estate.Catalogue[i]
		n := r.out.Scale.Nodes(c, res.Grant.Where)
		res.Nodes = max(res.Nodes, n)
		pu, dark := res.Use[i], res.Dark[i]
		if pu != nil {
			for path := range pu.Nodes {
				nodes[path] = true
			}
		}
		switch {
		case res.Frozen.Has(i) || res.Held.Has(i) || res.TooNew.Has(i):
		case res.Unobservable.Has(i):
			n = min(n, r.out.Scale.Nodes(c, dark))
		case pu != nil && len(dark) > 0:
			n = min(n, len(pu.Nodes)+r.out.Scale.Nodes(c, dark))
		case pu != nil:
			n = min(n, max(1, len(pu.Nodes)))
		}
		p[c.Weighs()] += n
	}
	res.UsedNodes = len(nodes)
	return p
}

func (r *runner) finish() {
	granted, unseen := 0, 0
	for _, res := range r.out.Grants {
		granted += res.Perms.Count()
		unseen += res.Unobservable.Count()
	}
	r.out.Observable = 1
	if granted > 0 {
		r.out.Observable = 1 - float64(unseen)/float64(granted)
	}
	for _, s := range r.out.Standings {
		un := engine.NewBits(len(r.g.Estate.Catalogue))
		for _, h := range s.Holdings {
			un.Or(r.out.Grants[h.Grant].Unobservable)
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
