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
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
)

// Input is everything a comparison looks at.
type Input struct {
	Index     *index.Index
	Uses      *usage.Uses
	Coverage  *usage.Coverage
	AsOf      time.Time
	Window    int       // days
	History   time.Time // the first event ever read; zero: no log was read
	Protected map[model.ID]bool
	Weights   Weights
	Place     PlaceInput
	// Since says of a grant since when one that gave the same was in its place, by surveys that are
	// kept; the zero time where none was. Nil: no such surveys are kept.
	Since func(*model.Grant) time.Time
	// Before is what was granted once and is not any more, to learn from; nil: nothing is known of that.
	Before *Before
	// Joined says since when somebody is a direct member of a group, by surveys that are kept, to learn from; those
	// who are not in it were members for long.
	Joined map[model.Membership]time.Time
	// Paths says of which grants every use is kept, so that [Input.PathsOf] tells on which paths they were used,
	// for drafting; nil: of all.
	Paths func(*model.Grant) bool
	// Measured says of whom it is worked out what they hold and what is within their reach, which is half of
	// a comparison; nil: of everybody. Of others [Standing.Danger], Within, Granted and Removable say
	// nothing; [Result.Hold] and [Result.Reach] work them out.
	Measured func(model.ID) bool
	// Spent says that nobody looks at the uses any more once they are credited: they are let go of then, so that they
	// take no room while grants are judged.
	Spent bool
	// At is told what a comparison is at, and what is learned from it after, and how much of how many is done; nil:
	// nobody asks. It is called by whoever called.
	At func(s Stage, done, of int)
}

// A Stage is what a comparison is at.
type Stage uint8

// The stages, in their order, and what is counted in each.
const (
	Holding   Stage = iota // identities
	Reaching               // identities
	Crediting              // uses
	Judging                // grants
	Learning               // identities
)

func (in *Input) at(s Stage, done, of int) {
	if in.At != nil {
		in.At(s, done, of)
	}
}

// Before is what was granted once and is not any more, or not so.
type Before struct {
	Gone []Former
	// Index is that of the estate with all of them, numbered in their order behind its own grants.
	Index *index.Index
}

// A Former is a grant that is gone, with when it was there.
type Former struct {
	Grant    model.Grant
	From, To time.Time // from the zero time: for long
	Ours     bool      // a change of ours took it
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
	Perm  int // its number
	Days  usage.Days
	Nodes []uint32 // nearest nodes of the inventory, by number, in order
	Who   []Caller // whose calls they were, in order
	last  int64    // ms since 1970
	rows  []uint32 // by their places among all uses; nil: see [Input.Paths]
}

// Last returns when it was used last.
func (pu *PermUse) Last() time.Time { return time.UnixMilli(pu.last).UTC() }

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

// GrantResult is how one grant compares with its use. The seven sets from Used to Held are
// disjoint and together are Perms. Nobody may change what it holds: grants share it.
type GrantResult struct {
	Number       int
	Grant        *model.Grant
	Since        time.Time  // since when what it gives is granted: when it was made, or before
	Holders      []model.ID // who has it, in the end: members of groups, not groups
	Perms        access.Set // of the catalogue
	Used         access.Few // in the window
	Rare         access.Few // before the window, by a habit that is not over
	TooNew       access.Few // the grant is younger than the window
	Undecidable  access.Few // a call that is not placed may have been a use of it
	Unobservable access.Few // no log would have shown it over the window
	Unused       access.Few
	Held         access.Few // its holders cannot be judged: see HeldBy
	HeldBy       State      // and Held is empty where they may only go on where no log shows it

	// Refused are the permissions that denials, guardrails or a ceiling refuse to all its holders, on all its
	// places and at any time, so that taking them out of the grant takes nothing away. They have no danger.
	Refused access.Few
	bars    []bar // and where else rules refuse something to all of them

	// Frozen are the permissions that a call which is not placed may have been a use of,
	// on whatever place of the grant, and Dark the places of the grant on which no log
	// would have shown a use. Both go also for permissions that were used elsewhere.
	Frozen access.Few
	Dark   []Hidden

	Use       []PermUse // in the order of permissions, see UseOf
	Danger    float64   // of all it gives
	Blind     float64   // of what no log would have shown
	Kept      float64   // of what is used, rare, too new or unobservable, where it is used
	Nodes     int       // of the inventory that the kept permissions reach
	UsedNodes int       // of those, on which they were used
}

// Gives returns what the grant gives that no rule refuses to all who have it. Nobody may change it.
func (r *GrantResult) Gives() access.Set {
	if len(r.Refused) == 0 {
		return r.Perms
	}
	out := r.Perms.Clone()
	for p := range r.Refused.All() {
		out.Remove(p)
	}
	return out
}

// UseOf returns how a permission was used through the grant; nil where it was not.
func (r *GrantResult) UseOf(perm int) *PermUse {
	if at, found := r.useAt(perm); found {
		return &r.Use[at]
	}
	return nil
}

func (r *GrantResult) useAt(perm int) (int, bool) {
	return slices.BinarySearchFunc(r.Use, perm, func(pu PermUse, p int) int { return cmp.Compare(pu.Perm, p) })
}

// Hidden is permissions of which a use would not have been seen on some places.
type Hidden struct {
	Perms access.Few
	Where []model.PathPattern
}

// DarkAt returns the places of the grant on which no log would have shown a use of a permission.
func (r *GrantResult) DarkAt(perm int) []model.PathPattern {
	for i := range r.Dark {
		if r.Dark[i].Perms.Has(perm) {
			return r.Dark[i].Where
		}
	}
	return nil
}

// Unseen returns of some permissions that are dark on some places those of which no use is known:
// nobody can say that they are not used, whatever else keeps the grant from being judged.
func (r *GrantResult) Unseen(h *Hidden) access.Few { return h.Perms.Less(r.Used).Less(r.Rare) }

// Keep returns the permissions that a cut must leave.
func (r *GrantResult) Keep() access.Set {
	k := make(access.Set, len(r.Perms))
	r.keepIn(k)
	return k
}

// keepIn puts what [GrantResult.Keep] returns into a set.
func (r *GrantResult) keepIn(k access.Set) {
	clear(k)
	for _, f := range []access.Few{r.Used, r.Rare, r.TooNew, r.Unobservable, r.Undecidable, r.Held} {
		k.OrFew(f)
	}
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
	Dark         bool      // it is unproven for that it may go on where no log shows it, or MayBe, alone
	MayBe        bool      // somebody unknown who still calls may be it: what that one used is not judged
	Granted      int       // distinct permissions, after denials, guardrails and ceilings
	Used         int       // distinct permissions in the window; of a group, of its own grants
	Members      int       // of a group: who is in it at any distance and can sign in
	Silent       int       // of those, who used none of its own grants in the window
	Perhaps      int       // of a group in which nobody is known to be: callers who may be in it
	Unobservable int       // of the granted, those that no log would have shown and that were not seen
	LastUse      time.Time // its last call, also one that was refused
	LastDone     time.Time // its last call that was let through
	Habit        usage.Habit
	Danger       float64        // of all that reaches it
	Within       Reach          // what is within its reach
	Removable    float64        // of its own grants: danger that nothing observed needs
	Grants       []*GrantResult // made to exactly this identity
	reached      bool           // Within says something
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
	Again      int        // grants that were made again, and are older than they say
	Holes      int        // logs of which days of the window are missing that earlier ones make up for
	byID       map[model.ID]*Standing
	reaches    map[model.ID]Reach // of crowds and others, besides what standings say
	within     *Within            // while it is asked
	pillars    *pillars           // see [Within.Below]
	Scale      *Scale

	redundant sync.Once
	spare     map[int][]int // see Redundant
}

// Of returns the standing of an identity, or nil.
func (r *Result) Of(id model.ID) *Standing { return r.byID[id] }

// Hold works out what some hold, of whom that is not known yet. It is not for several goroutines.
func (r *Result) Hold(of ...*Standing) {
	var numbers []int
	for _, s := range of {
		if n, ok := r.Scale.x.Number(s.ID); ok {
			numbers = append(numbers, n)
		}
	}
	r.Scale.HoldAll(numbers)
	for _, s := range of {
		var perms access.Set
		s.Danger, perms = r.Scale.Held(s.ID)
		s.Granted = perms.Count()
	}
}

// Reach returns what is within reach of an identity, or of an open crowd; the first one that is not known yet
// takes long to prepare. It is not for several goroutines.
func (r *Result) Reach(id model.ID) Reach {
	if s := r.byID[id]; s != nil && s.reached {
		return s.Within
	}
	reach, known := r.reaches[id]
	if !known {
		reach = r.reach(id)
		r.reaches[id] = reach
	}
	return reach
}

// Escalate measures what is within reach by a graph that is at hand, of the same estate.
func (r *Result) Escalate(g *escalate.Graph) { r.within = withinOf(r.Scale, g) }

func (r *Result) reach(id model.ID) Reach {
	if r.within == nil {
		r.within = NewWithin(r.Scale)
	}
	return r.within.Of(id)
}

// Sums says of identities how many grants reach them, and what those give by name, through groups and
// through the crowds. It is asked for those alone that are told of, since it looks at every grant of those
// whom a denial names.
func (r *Result) Sums(of []*Standing) []index.Sum {
	x := r.Scale.x
	sets := make([]*[3]access.Set, parallel.Workers())
	out := make([]index.Sum, len(of))
	parallel.Each(len(of), func(k, i int) {
		if sets[k] == nil {
			sets[k] = &[3]access.Set{x.NewSet(), x.NewSet(), x.NewSet()}
		}
		out[i] = x.Sum(of[i].ID, sets[k])
	})
	return out
}

// Run compares.
func Run(in *Input) *Result {
	if in.Weights == (Weights{}) {
		in.Weights = DefaultWeights
	}
	r := &runner{in: in, x: in.Index, span: in.Span(), now: usage.DayOf(in.AsOf), activity: activities{},
		holders: map[model.ID]*together{}}
	r.out = &Result{Window: r.span, byID: map[model.ID]*Standing{}, reaches: map[model.ID]Reach{},
		Scale: NewScale(in.Index, in.Weights)}
	for range parallel.Workers() {
		r.parts = append(r.parts, newPart(r))
	}
	r.prepare()
	r.ruled()
	in.at(Crediting, 0, in.Uses.Len())
	r.attribute()
	in.at(Judging, 0, len(r.out.Grants))
	r.ages()
	r.frozen = freeze(r.out.Placement, in.Uses, in.Index, in.Place,
		func(p model.Path, service, class string) (model.Path, bool) {
			rec, ok := in.Coverage.Record(p, service, class)
			return rec.Node, ok
		},
		func(who model.ID) bool { a := r.activity[who]; return a != nil && usage.HabitOf(a.days, r.now).Over })
	r.states()
	if in.Spent {
		in.Uses = nil
	}
	r.classify()
	r.finish()
	for _, c := range r.x.Coverage() {
		if !usage.Observable(in.Coverage.Share(c.Node, c.Service, c.LogClass, r.span)) &&
			in.Coverage.Enough(c.Node, c.Service, c.LogClass, r.span) {
			r.out.Holes++
		}
	}
	return r.out
}

type activity struct {
	days usage.Days
	last time.Time
	done time.Time  // the last one that was let through
	used access.Few // in the window
}

type runner struct {
	in       *Input
	x        *index.Index
	span     usage.Window
	now      usage.Day
	activity activities
	locks    [64]sync.Mutex // of the results of grants, while uses are credited
	logs     []int32        // of each permission: which log would show it, see prepare
	parts    []*part
	frozen   *frozen
	seenTo   time.Time              // the last sign-in of anybody that the source remembers
	holders  map[model.ID]*together // by the identity that grants name
	rules    rules
	out      *Result
}

// part is what one worker finds out, and several cannot share.
type part struct {
	*runner
	scale *Scale
	dark  map[seen]darkness
	set   access.Set // to work with
	here  access.Set // and for refused
	all   access.Set

	spared   map[*refusal]bool // of who has the grants to sparedOf: whether a rule spares none of them
	sparedOf model.ID

	activities activities
	actors     [2]actor
	strangers  map[model.ID]bool
	unmapped   int
	before     map[int]bool // grants that were made after a use of them, see predates

	hides map[int]access.Few // see unseen

	byLog []loggedBy // of the grant that is looked at
	dim   []*loggedBy
	turn  int
	sets  [8]access.Few
}

func newPart(r *runner) *part {
	return &part{runner: r, scale: NewScale(r.x, r.in.Weights), dark: map[seen]darkness{}, spared: map[*refusal]bool{},
		set: r.x.NewSet(), here: r.x.NewSet(), all: r.x.NewSet(), hides: map[int]access.Few{},
		activities: activities{}, strangers: map[model.ID]bool{}, before: map[int]bool{}}
}

func (r *runner) prepare() {
	r.out.Grants = make([]*GrantResult, r.x.GrantNumbers())
	for i, g := range r.x.Grants() {
		r.out.Grants[i] = &GrantResult{Number: i, Grant: g, Perms: r.x.SharedPerms(i)}
	}
	for _, id := range r.x.Everybody() {
		if id.ID.Source != "" { // linked in from another source, which compares it
			continue
		}
		s := &Standing{ID: id.ID, Identity: *id}
		r.out.Standings = append(r.out.Standings, s)
		r.out.byID[id.ID] = s
	}
	for _, s := range r.out.Standings {
		for _, g := range r.x.GrantsTo(s.ID) {
			s.Grants = append(s.Grants, r.out.Grants[g])
		}
	}
	var measured []*Standing
	for _, s := range r.out.Standings {
		if r.in.Measured == nil || r.in.Measured(s.ID) {
			measured = append(measured, s)
		}
	}
	r.in.at(Holding, 0, len(measured))
	r.out.Hold(measured...)
	for i, s := range measured {
		r.in.at(Reaching, i, len(measured))
		s.Within = r.out.reach(s.ID)
		s.reached = true
	}
	if r.in.Measured == nil { // else who is asked about may be few, or nobody
		for _, kind := range []model.IdentityKind{model.SignedIn, model.Everyone} {
			id := model.ID{Kind: kind}
			if _, named := r.x.Number(id); named {
				r.out.reaches[id] = r.out.reach(id)
			}
		}
	}
	if within := r.out.within; within != nil && within.anybody != nil {
		r.out.pillars = &pillars{within.pillars, within.total()}
	}
	r.out.within = nil // it takes much room, and is asked again for few
	r.out.Scale.forget()
	holders := map[model.ID][]model.ID{} // of whom grants name, whom the estate need not list
	for _, g := range r.out.Grants {
		if g == nil {
			continue
		}
		list, ok := holders[g.Grant.To]
		if !ok {
			list = holdersOf(r.x, g.Grant.To)
			holders[g.Grant.To] = list
		}
		g.Holders = list
	}
	r.numberLogs()
}

// numberLogs tells the logs apart that would show permissions.
func (r *runner) numberLogs() {
	number := map[[3]any]int32{}
	for p := range r.x.Numbers() {
		c := r.x.Permission(p)
		k := [3]any{c.Permission.Service(), c.LogClass, r.x.Class(p)}
		if _, ok := number[k]; !ok {
			number[k] = int32(len(number))
		}
		for len(r.logs) <= p {
			r.logs = append(r.logs, 0)
		}
		r.logs[p] = number[k]
	}
	for _, p := range r.parts {
		p.byLog = make([]loggedBy, len(number))
	}
}

// holdersOf returns who has, in the end, what is granted to an identity.
func holdersOf(x *index.Index, to model.ID) []model.ID {
	n, ok := x.Number(to)
	listed := func(i int) bool { return x.Known(i) && x.ID(i).Source == "" }
	switch {
	case to.Open() || !ok:
		return nil
	case to.Kind != model.Group && !listed(n):
		return nil
	case to.Kind != model.Group:
		return []model.ID{to}
	}
	var in []int
	x.Members(n, func(i int) { in = append(in, i) })
	slices.Sort(in)
	var out []model.ID
	for _, i := range in {
		if id := x.ID(i); id.Kind != model.Group && listed(i) {
			out = append(out, id)
		}
	}
	return out
}

// activities are what identities did.
type activities map[model.ID]*activity

func (m activities) of(id model.ID) *activity {
	a := m[id]
	if a == nil {
		a = &activity{}
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
		if b.done.After(a.done) {
			a.done = b.done
		}
		for p := range b.used.All() {
			a.used.Add(p)
		}
	}
}

// attribute places uses and credits them to grants.
func (r *runner) attribute() {
	r.out.Placement = place(r.x, r.in.Uses, r.span, r.in.Place,
		func(k, row int, u *usage.Use, why Reason, perm int, at *index.Spot, grants []int) {
			r.parts[k].attribute(row, u, why, perm, at, grants)
		})
	strangers := map[model.ID]bool{}
	for _, p := range r.parts {
		r.activity.add(p.activities)
		maps.Copy(strangers, p.strangers)
		r.out.Unmapped += p.unmapped
	}
	r.out.Strangers = slices.SortedFunc(maps.Keys(strangers), model.ID.Compare)
}

func (r *part) attribute(row int, u *usage.Use, why Reason, perm int, at *index.Spot, grants []int) {
	who := u.Principal()
	by, as := r.acting(0, u.Identity), r.acting(1, who)
	for i, a := range [...]*activity{by.did, as.did} {
		if i == 1 && who == u.Identity {
			break
		}
		a.days = a.days.Union(u.Days)
		if u.Last.After(a.last) {
			a.last = u.Last
		}
		if u.Outcome.Allowed() && u.Last.After(a.done) {
			a.done = u.Last
		}
	}
	if !by.listed && !u.Identity.Open() {
		r.strangers[u.Identity] = true
	}
	if !u.Outcome.Allowed() {
		return
	}
	if perm < 0 {
		r.unmapped++
		return
	}
	if why == NoPath || why == NoCaller {
		return // a place that is not there, or nobody's call, is no use of a grant
	}
	if !u.Last.Before(r.span.From) {
		as.did.used.Add(perm)
	}
	r.predates(u, grants)
	if len(grants) == 0 {
		return
	}
	node, inside := at.Nearest()
	for _, g := range grants {
		if r.out.Grants[g] == nil { // it was not told of
			continue
		}
		mu := &r.locks[g%len(r.locks)]
		mu.Lock()
		pu := r.credit(r.out.Grants[g], perm, row, u)
		if inside {
			pu.Nodes = noted(pu.Nodes, node)
		}
		pu.called(as.number, u.Days)
		mu.Unlock()
	}
}

// actor is who calls, or whose rights are used.
type actor struct {
	id     model.ID
	did    *activity
	number int // -1: somebody whom the estate does not name, by what anybody has
	listed bool
}

// acting returns who calls (0), or whose rights are used (1). Uses come caller by caller, so the last of each is
// kept.
func (r *part) acting(i int, id model.ID) *actor {
	a := &r.actors[i]
	if a.did == nil || a.id != id {
		*a = actor{id: id, did: r.activities.of(id), number: -1}
		if n, named := r.x.Number(id); named {
			a.number, a.listed = n, r.x.Known(n)
		}
	}
	return a
}

// credit notes that a permission was used through a grant, by the use of a place.
func (r *runner) credit(res *GrantResult, p, row int, u *usage.Use) *PermUse {
	at, found := res.useAt(p)
	if !found {
		res.Use = slices.Insert(res.Use, at, PermUse{Perm: p, last: u.Last.UnixMilli()})
	}
	pu := &res.Use[at]
	pu.last = max(pu.last, u.Last.UnixMilli())
	pu.Days = pu.Days.Union(u.Days)
	if r.in.Paths == nil || r.in.Paths(res.Grant) {
		pu.rows = append(pu.rows, uint32(row))
	}
	return pu
}

// PathsOf tells how a permission was used through a grant on each path, of grants that [Input.Paths] says. It is put
// together anew each time, from the same uses as were compared: of all grants at once it would take far more room than
// the uses do.
func (in *Input) PathsOf(pu *PermUse) map[model.Path]*PathUse {
	span, out := in.Span(), map[model.Path]*PathUse{}
	for _, row := range pu.rows {
		u := in.Uses.At(int(row))
		u.Within(math.MinInt32, span.Last()) // as it was compared
		on := out[u.Path]
		if on == nil {
			on = &PathUse{First: u.First, Last: u.Last}
			out[u.Path] = on
		}
		on.Count += u.Count
		on.AtLeast = on.AtLeast || u.AtLeast
		on.Days = on.Days.Union(u.Days)
		if u.First.Before(on.First) {
			on.First = u.First
		}
		if u.Last.After(on.Last) {
			on.Last = u.Last
		}
		if n, least := u.Between(span.First(), span.Last()); n > 0 {
			on.InWindow += n
			on.AtLeast = on.AtLeast || least
		}
	}
	return out
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
	acts := make([]*activity, len(r.out.Standings))
	for i, s := range r.out.Standings {
		acts[i] = r.activity.of(s.ID)
		if seen := s.Identity.LastSeen; seen.After(r.seenTo) {
			r.seenTo = seen
		}
	}
	parallel.Each(len(acts), func(k, i int) { r.parts[k].stands(r.out.Standings[i], acts[i]) })
}

// stands says how an identity stands that did something.
func (r *part) stands(s *Standing, a *activity) {
	if s.ID.Kind == model.Group { // its own grants are used by its members
		used := map[int]bool{}
		for _, g := range s.Grants {
			for j := range g.Use {
				pu := &g.Use[j]
				for _, c := range pu.Who {
					used[c.Number] = used[c.Number] || c.Days.Any(r.span.First(), r.now)
				}
				a.days = a.days.Union(pu.Days)
				if last := pu.Last(); last.After(a.last) {
					a.last, a.done = last, last
				}
				if !pu.Last().Before(r.span.From) {
					a.used.Add(pu.Perm)
				}
			}
		}
		r.members(s, used)
	}
	s.LastUse, s.LastDone, s.Used = a.last, a.done, a.used.Count()
	s.Habit = usage.HabitOf(a.days, r.now)
	s.State = r.state(s, a.days)
	if (s.State == Idle || s.Dark) && r.unknownMayBe(s) { // somebody unknown calls where it could
		s.State, s.Dark, s.MayBe = Unproven, !r.frozen.all, !r.frozen.all
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

func (r *part) state(s *Standing, days usage.Days) State {
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
	case id.Created.After(r.span.From), slices.ContainsFunc(s.Grants, r.begins):
		return New
	case !id.LastSeen.IsZero() && !id.LastSeen.Before(r.span.From):
		return Unproven // it signs in, and does nothing that a log shows
	case s.Habit.Rhythm != usage.Never && s.Habit.Over && !r.remembered(s):
		dark, since := r.wentDark(s.ID)
		if !dark {
			dark, _ = r.hidden(s)
		}
		switch {
		case dark:
			s.Dark = true
			return Unproven // it may have gone on, or go on, where no log shows it
		case !s.LastUse.Before(since) || !usage.HabitOf(days, r.but(since)).Over:
			return Rare // as far as it would have been seen
		}
		return Idle
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
	case r.remembered(s):
		return Idle
	case r.in.AsOf.Sub(r.in.History) >= yearDays*24*time.Hour:
		switch dark, since := r.hidden(s); {
		case dark: // what a log would have shown it never did, if it was there all the time
			s.Dark = !id.Created.After(r.in.History)
		case id.Created.After(since):
			return New
		default:
			return Idle
		}
	}
	return Unproven
}

// begins reports whether a grant gives nothing yet: whoever has it is expected.
func (r *runner) begins(g *GrantResult) bool { return g.Grant.When.From.After(r.in.AsOf) }

// remembered reports whether the source's own memory of sign-ins proves a silence over the window,
// whatever the logs show. What it remembers is as new as the last sign-in of anybody that it knows:
// an estate that was exported months ago knows nothing of the months since. And where a log shows
// a use after the last sign-in, signing in is not what using takes.
func (r *runner) remembered(s *Standing) bool {
	seen := s.Identity.LastSeen
	if seen.IsZero() && !r.x.Semantics().LastSeen || s.LastUse.After(seen.Add(24*time.Hour)) {
		return false
	}
	return usage.Observable(float64(r.seenTo.Sub(r.span.From)) / float64(r.span.To.Sub(r.span.From)))
}

// wentDark reports whether something that an identity used to do would not have been seen
// over the window, so that its silence proves nothing; and since when the rest would have been.
func (r *runner) wentDark(id model.ID) (bool, time.Time) {
	since := r.span.From
	for _, u := range r.in.Uses.Of(id) {
		c, known := r.x.Entry(u.Permission)
		if !known || !u.Outcome.Allowed() || usage.DayOf(u.First) > r.now {
			continue
		}
		from, enough := r.in.Coverage.Since(u.Path, c.Permission.Service(), c.LogClass, r.span)
		if !enough {
			return true, since
		}
		if from.Before(since) {
			since = from
		}
	}
	return false, since
}

// unknownMayBe reports whether a caller that nobody knows shows up in a log that would show
// what an identity does.
func (r *runner) unknownMayBe(s *Standing) bool {
	if !r.frozen.all && len(r.frozen.streams) == 0 {
		return false
	}
	some := false
	more := func(g int) bool { return !some && !r.x.Grant(g).To.Open() }
	r.x.EachHoldingOf(s.ID, more, func(h *access.Holding) {
		for p := range h.Perms.All() {
			if some = r.frozen.silent(r.x.Permission(p), h.Grant.Where); some {
				return
			}
		}
	})
	return some
}

// hidden reports whether something that is granted to an identity or to its groups would
// not have been seen over the window; and since when the rest would have been.
func (r *part) hidden(s *Standing) (bool, time.Time) {
	some, since := false, r.span.From
	more := func(g int) bool { return !some && !r.x.Grant(g).To.Open() }
	r.x.EachHoldingOf(s.ID, more, func(h *access.Holding) {
		for p := range h.Perms.All() {
			dark := r.darkPlaces(p, h.Grant)
			if dark.since.Before(since) {
				since = dark.since
			}
			if some = len(dark.where) > 0; some {
				return
			}
		}
	})
	return some, since
}

// classify sorts the permissions of each grant.
func (r *runner) classify() {
	froze := r.frozen.whose()
	stray := slices.DeleteFunc(slices.Clone(froze), func(id model.ID) bool { // grants name them, and no list
		return r.out.byID[id] != nil || len(r.x.GrantsTo(id))+len(r.x.GroupsOf(id)) == 0
	})
	// There are sources that keep no list of who is in their groups: whoever is known to be in none may
	// be in one in which nobody is known to be.
	unknown := slices.DeleteFunc(slices.Clone(froze), func(id model.ID) bool {
		return !r.out.Placement.MayBeIn(r.x, id)
	})
	perhaps := r.frozen.of(unknown) // the same of every group in which nobody is known to be
	for _, res := range r.out.Grants {
		if res != nil && r.holders[res.Grant.To] == nil {
			h := &together{frozen: perhaps, denials: r.refusals(res.Grant.To)}
			if to := res.Grant.To; !r.out.Placement.Unlisted(r.x, to) {
				h.frozen = r.frozen.of(r.whose(res, froze, stray))
			} else if s := r.out.byID[to]; s != nil {
				s.Perhaps = len(unknown)
			}
			h.state, h.held = r.holderState(res)
			seen := func(id model.ID) bool { return !r.out.byID[id].Dark }
			h.dark = h.held && !slices.ContainsFunc(res.Holders, seen)
			maybe := func(id model.ID) bool { return r.out.byID[id].MayBe }
			if h.dark && slices.ContainsFunc(res.Holders, maybe) {
				h.frozen = h.frozen.unknown(r.frozen.unknown)
			}
			r.holders[res.Grant.To] = h
		}
	}
	parallel.Each(len(r.out.Grants), func(k, i int) {
		if res := r.out.Grants[i]; res != nil {
			r.parts[k].classify(res, r.holders[res.Grant.To])
		}
	})
}

// whose returns whose calls a grant may explain: its holders, members whom nobody lists, and of an
// open crowd whoever is in it, as far as they made a call that freezes something: froze, of whom
// nobody lists stray.
func (r *runner) whose(res *GrantResult, froze, stray []model.ID) []model.ID {
	to := res.Grant.To
	if to.Open() {
		return slices.DeleteFunc(slices.Clone(froze), func(id model.ID) bool { return !r.x.In(id, to) })
	}
	out := res.Holders
	for _, id := range stray {
		if id == to || to.Kind == model.Group && r.x.In(id, to) {
			out = append(out[:len(out):len(out)], id)
		}
	}
	return out
}

// together is what is known of all who have what is granted to one identity.
type together struct {
	frozen  *ofMany
	denials []*refusal // that name them
	state   State
	held    bool // see holderState
	dark    bool // each of them may only go on where no log shows it: what a log would have shown is judged
}

// loggedBy is what is known of one log and one grant.
type loggedBy struct {
	turn int // of which grant it is
	darkness
	perms access.Few // of the grant, where it is dark
}

func (r *part) classify(res *GrantResult, who *together) {
	g := res.Grant
	if who.held {
		res.HeldBy = who.state
	}
	const used, rare, isHeld, tooNew, undecidable, unobservable, unused, isFrozen = 0, 1, 2, 3, 4, 5, 6, 7
	for i := range r.sets {
		r.sets[i] = r.sets[i][:0]
	}
	r.begin()
	if len(res.Use) < cap(res.Use) { // no more come
		res.Use = slices.Clone(res.Use)
	}
	for p := range res.Perms.All() {
		pu, log := res.UseOf(p), r.log(p, g)
		is := who.frozen.holds(p, r.x.Permission(p).Permission.Service(), g)
		if is {
			r.sets[isFrozen].Add(p)
		}
		class := unused
		switch {
		case pu != nil && !pu.Last().Before(r.span.From):
			class = used
		case pu != nil && (!pu.Last().Before(log.since) || r.goesOn(pu, log.since)):
			class = rare
		case who.held && !who.dark:
			class = isHeld
		case res.Since.After(log.since):
			class = tooNew
		case is:
			class = undecidable
		case len(log.where) > 0:
			class = unobservable
		}
		r.sets[class].Add(p)
	}
	r.refused(res, who.denials)
	res.Dark = r.shadows()
	for i, to := range [...]*access.Few{used: &res.Used, rare: &res.Rare, isHeld: &res.Held, tooNew: &res.TooNew,
		undecidable: &res.Undecidable, unobservable: &res.Unobservable, unused: &res.Unused, isFrozen: &res.Frozen} {
		if len(r.sets[i]) > 0 {
			*to = slices.Clone(r.sets[i])
		}
	}
	res.Danger = r.scale.Of(res, res.Gives())
	res.Kept = min(res.Danger, r.kept(res))
	if len(res.Unobservable) > 0 {
		blind := r.x.NewSet()
		blind.OrFewLess(res.Unobservable, res.Refused, nil)
		res.Blind = min(res.Danger, r.scale.Danger(blind, g.Where))
	}
}

// begin forgets what is known of the logs and the grant looked at before.
func (r *part) begin() {
	r.turn++
	r.dim = r.dim[:0]
}

// log returns what is known of the log that would show a permission of a grant, and of that grant.
func (r *part) log(p int, g *model.Grant) *loggedBy {
	log := &r.byLog[r.logs[p]]
	if log.turn != r.turn {
		log.turn, log.darkness = r.turn, r.darkPlaces(p, g)
		if log.perms = log.perms[:0]; len(log.where) > 0 {
			r.dim = append(r.dim, log)
		}
	}
	if len(log.where) > 0 {
		log.perms.Add(p)
	}
	return log
}

// shadows returns where uses of the permissions looked at since begin would not have been seen.
func (r *part) shadows() []Hidden {
	if len(r.dim) == 0 {
		return nil
	}
	out := make([]Hidden, len(r.dim))
	for i, log := range r.dim {
		out[i] = Hidden{slices.Clone(log.perms), log.where}
	}
	return out
}

// goesOn reports whether the habit of a use is not over: that of all callers together, or
// that of one of them, whose own calls the others' would hide. Nothing came since a time from which
// on its log makes up for days that are missing of it.
func (r *runner) goesOn(pu *PermUse, since time.Time) bool {
	now := r.but(since)
	if !usage.HabitOf(pu.Days, now).Over {
		return true
	}
	for _, c := range pu.Who {
		if len(pu.Who) > 1 && !usage.HabitOf(c.Days, now).Over {
			return true
		}
	}
	return false
}

// but returns up to which day a silence counts that began before a time from which on a log makes up for
// days of the window that are missing of it: nobody would have seen anything on so many of them.
func (r *runner) but(since time.Time) usage.Day {
	return r.now - (r.span.First() - usage.DayOf(since))
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

// darkness is on which places of a grant a use of a permission would not have been seen, and since when it
// would have been on the others: since the window began, or before, where days of it are missing.
type darkness struct {
	where []model.PathPattern
	since time.Time
}

// darkPlaces returns on which places of a grant uses of a permission would not have been seen.
func (r *part) darkPlaces(p int, g *model.Grant) darkness {
	c := r.x.Permission(p)
	out := darkness{since: r.span.From}
	for _, on := range g.Where {
		k := seen{on, r.logs[p]}
		dark, ok := r.dark[k]
		if !ok {
			apart := func(below []model.Path) []model.PathPattern { return r.scale.Apart(p, on, below) }
			dark.where, dark.since = r.in.Coverage.DarkBelow(on, c.Permission.Service(), c.LogClass, r.span, apart)
			if len(r.dark) >= mostDark { // of places that few grants share, it is not worth keeping
				clear(r.dark)
			}
			r.dark[k] = dark
		}
		if len(g.Where) == 1 {
			return dark
		}
		if out.where = append(out.where, dark.where...); dark.since.Before(out.since) {
			out.since = dark.since
		}
	}
	return out
}

// mostDark bounds how many answers about logs are kept.
const mostDark = 1 << 16

// seen is what decides whether a use of a permission on a place would have been seen: the place,
// and the permission's log with the kinds of node that it applies to, by number.
type seen struct {
	on  model.PathPattern
	log int32
}

// kept measures what a cut would leave, and fills in the node counts.
func (r *part) kept(res *GrantResult) float64 {
	d := 0.0
	var nodes []uint32
	clear(r.set)
	r.set.Or(res.Perms)
	for i := range res.Unused.All() {
		r.set.Remove(i)
	}
	for i := range res.Refused.All() {
		r.set.Remove(i)
	}
	for i := range r.set.All() {
		n := r.scale.Nodes(i, res.Grant.Where)
		res.Nodes = max(res.Nodes, n)
		pu, dark := res.UseOf(i), res.DarkAt(i)
		if pu != nil {
			nodes = append(nodes, pu.Nodes...)
		}
		switch {
		case res.Frozen.Has(i) || res.Held.Has(i) || res.TooNew.Has(i):
		case res.Unobservable.Has(i):
			n = min(n, r.scale.Nodes(i, dark))
		case pu != nil && len(dark) > 0:
			n = min(n, len(pu.Nodes)+r.scale.Nodes(i, dark))
		case pu != nil:
			n = min(n, max(1, len(pu.Nodes)))
		}
		d += r.in.Weights.Of(r.x.Level(i), n)
	}
	slices.Sort(nodes)
	res.UsedNodes = len(slices.Compact(nodes))
	return d
}

// unseen returns what of the grants to exactly one identity no log would show, by its number.
func (r *part) unseen(n int) access.Few {
	few, ok := r.hides[n]
	if !ok {
		all := r.x.NewSet()
		for _, g := range r.x.GrantsTo(r.x.ID(n)) {
			for res, i := r.out.Grants[g], 0; i < len(res.Dark); i++ {
				all.OrFewLess(res.Dark[i].Perms, res.Used, res.Rare)
			}
		}
		few = all.Few()
		r.hides[n] = few
	}
	return few
}

func (r *runner) finish() {
	granted, unseen := 0, 0
	for _, res := range r.out.Grants {
		if res == nil {
			continue
		}
		granted += res.Perms.Count()
		for i := range res.Dark { // of each log once, and each permission is of one
			unseen += res.Dark[i].Perms.CountLess(res.Used, res.Rare)
		}
	}
	r.out.Observable = 1
	if granted > 0 {
		r.out.Observable = 1 - float64(unseen)/float64(granted)
	}
	parallel.Each(len(r.out.Standings), func(k, i int) {
		s, un := r.out.Standings[i], r.parts[k].set
		clear(un)
		for _, n := range r.x.Givers(s.ID) {
			un.OrFew(r.parts[k].unseen(n))
		}
		for p := range r.activity[s.ID].used.All() {
			un.Remove(p)
		}
		s.Unobservable = un.Count()
		needed := 0.0 // at least: what two grants give counts once
		for _, g := range s.Grants {
			switch s.State {
			case Idle, Disabled:
				s.Removable += g.Danger
			case Protected, Rare, New, Unproven:
				if !s.Dark {
					continue
				}
				fallthrough
			default:
				s.Removable += g.Danger - g.Kept
				needed = max(needed, g.Kept)
			}
		}
		s.Removable = min(s.Removable, max(0, s.Danger-needed))
	})
	slices.SortStableFunc(r.out.Standings, func(a, b *Standing) int {
		return cmp.Or(cmp.Compare(b.Removable, a.Removable), cmp.Compare(b.Danger, a.Danger), a.ID.Compare(b.ID))
	})
}
