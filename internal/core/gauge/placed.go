package gauge

import (
	"cmp"
	"maps"
	"math"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
)

// A call that cannot be placed is no silence: whoever made it did something, and what was
// done is not known. A call is placed when its caller is known, its operation is a
// permission of the catalogue, its path is one that the inventory can have, and a grant in
// force then explains it. What is not placed freezes what it may have been, and no more:
//
//	caller      nobody is idle who holds something that the same log would show
//	operation   what its caller holds of that service, where the path lies
//	path        its caller's permission, everywhere
//	grant       its caller's permission, everywhere
//
// It freezes as long as it would keep a permission if it were placed: when it falls into
// the window, or by a habit that is not over. Refused calls freeze nothing.

// A Reason says why a use is not placed; the empty one says that it is.
type Reason string

// The reasons. Past is none: the use is placed by a grant that is gone since.
const (
	Placed      Reason = ""
	NoCaller    Reason = "caller"    // no identity, alias, link or waived stranger
	NoOperation Reason = "operation" // no permission of the catalogue
	NoPath      Reason = "path"      // names a node that is not there
	NoGrant     Reason = "grant"     // no grant in force then explains it
)

// Reasons lists the reasons in the order in which they are told.
var Reasons = []Reason{NoPath, NoOperation, NoCaller, NoGrant}

// PlaceInput is what placing looks at beside the estate and the uses. The zero PlaceInput
// knows no inventory, no past and no strangers.
type PlaceInput struct {
	Inventory *usage.Inventory    // nil: every path can be one
	Waived    func(model.ID) bool // whether a caller that nobody lists is known to be nobody; asked several at once
	// Past says of so many uses, each as the function returns it, whether a grant that is gone since explains it. It
	// is asked once of all that no grant of today does; use may be called several at once.
	Past    func(n int, use func(i int) usage.Use) []bool
	Grouped func(model.ID) bool // whether the log says in which groups a caller is
	Emptied func(model.ID) bool // whether members of a group were listed that left it; asked one at a time
}

// A Tally counts calls that were let through.
type Tally struct {
	Calls  int64
	Placed int64
	Past   int64 // of Placed, those that only a grant explains that is gone since
	Why    map[Reason]int64
}

func (t *Tally) add(why Reason, past bool, n int64) {
	t.Calls += n
	switch {
	case why == Placed:
		t.Placed += n
		if past {
			t.Past += n
		}
	case t.Why == nil:
		t.Why = map[Reason]int64{why: n}
	default:
		t.Why[why] += n
	}
}

func (t *Tally) merge(o *Tally) {
	t.Calls, t.Placed, t.Past = t.Calls+o.Calls, t.Placed+o.Placed, t.Past+o.Past
	for why, n := range o.Why {
		if t.Why == nil {
			t.Why = map[Reason]int64{}
		}
		t.Why[why] += n
	}
}

// Share returns the share of the calls that are placed; 1 where there are none.
func (t *Tally) Share() float64 {
	if t == nil || t.Calls == 0 {
		return 1
	}
	return float64(t.Placed) / float64(t.Calls)
}

// Placement says of each use whether it is placed.
type Placement struct {
	Tally
	Of   map[model.ID]*Tally // by caller, and by the identity whose rights were used
	says []said              // by index into the uses

	grouped, emptied func(model.ID) bool
}

// Unlisted reports whether a group is one in which nobody is known to be, now or before: its source may keep
// no list.
func (p *Placement) Unlisted(x *index.Index, group model.ID) bool {
	return group.Kind == model.Group && x.Empty(group) && (p.emptied == nil || !p.emptied(group))
}

// MayBeIn reports whether somebody may be in a group in which nobody is known to be: it is known to be in
// none, and no log says in which it is.
func (p *Placement) MayBeIn(x *index.Index, who model.ID) bool {
	return !who.Open() && who.Kind != model.Group && len(x.GroupsOf(who)) == 0 && (p.grouped == nil || !p.grouped(who))
}

// said is what is said of one use: which of [Reasons], counted from 1, and whether it is live.
type said uint8

const (
	saidLive said = 1 << 7
	saidGone said = 1 << 6 // what is said is not settled: a grant that is gone since may explain it
)

func sayOf(why Reason) said {
	return said(slices.Index(Reasons, why) + 1)
}

// Reason says why a use is not placed, by its index.
func (p *Placement) Reason(i int) Reason {
	if n := int(p.says[i] &^ (saidLive | saidGone)); n > 0 {
		return Reasons[n-1]
	}
	return Placed
}

// Live reports whether a use that is not placed still freezes something, by its index.
func (p *Placement) Live(i int) bool { return p.says[i]&saidLive != 0 }

// Place works out which uses are placed. Those after the window are not looked at.
func Place(x *index.Index, uses *usage.Uses, w usage.Window, in PlaceInput) *Placement {
	return place(x, uses, w, in, nil)
}

// place does what [Place] does, and tells credit of each use up to the end of the window, cut
// down to it: which worker looked, why it is not placed but for want of a grant, where its path was looked up,
// if it was let through, and which grants allow it. Credit is told several at once, one after another by each
// worker.
func place(x *index.Index, uses *usage.Uses, w usage.Window, in PlaceInput,
	credit func(worker, row int, u *usage.Use, why Reason, perm int, at *index.Spot, grants []int)) *Placement {
	p := &Placement{says: make([]said, uses.Len()), grouped: in.Grouped, emptied: in.Emptied}
	looks := make([]*look, parallel.Workers())
	paths := pathsOf(x, uses, in)
	for k := range looks {
		looks[k] = &look{x: x, in: in, paths: paths, find: finders{x: x}, callers: map[model.ID]caller{},
			perms:     map[model.Permission]int{},
			Placement: Placement{Of: map[model.ID]*Tally{}, says: p.says}}
	}
	uses.InRuns(func(k, from, to int) {
		u := new(usage.Use) // one for all: nobody keeps it
		for i := from; i < to; i++ {
			*u = uses.At(i)
			// Asked about the past: what came later is not known yet.
			if !u.Within(math.MinInt32, w.Last()) {
				continue
			}
			why, perm := looks[k].at(i, uses.PathOf(i), u, w)
			if credit != nil {
				credit(k, i, u, why, perm, &looks[k].spot, looks[k].grants)
			}
		}
	})
	p.Of = looks[0].Of
	p.Tally = looks[0].Tally
	for _, l := range looks[1:] {
		p.merge(&l.Tally)
		for id, t := range l.Of {
			p.of(id).merge(t)
		}
	}
	var open []int
	for i, s := range p.says {
		if s&saidGone != 0 {
			open = append(open, i)
		}
	}
	use := func(k int) usage.Use {
		u := uses.At(open[k])
		u.Within(math.MinInt32, w.Last())
		return u
	}
	past := make([]bool, len(open))
	if in.Past != nil && len(open) > 0 {
		past = in.Past(len(open), use)
	}
	for k, i := range open {
		p.says[i] = 0
		if !past[k] {
			p.says[i] = sayOf(NoGrant)
		}
		u := use(k)
		p.settle(i, &u, w, past[k])
	}
	return p
}

// settle counts a use whose reason stands, and says whether it freezes something.
func (p *Placement) settle(i int, u *usage.Use, w usage.Window, past bool) {
	why := p.Reason(i)
	p.add(why, past, u.Count)
	p.of(u.Identity).add(why, past, u.Count)
	if who := u.Principal(); who != u.Identity {
		p.of(who).add(why, past, u.Count)
	}
	if why != Placed {
		windowed := *u
		if windowed.Within(w.First(), w.Last()) || !usage.HabitOf(u.Days, w.Last()).Over {
			p.says[i] |= saidLive
		}
	}
}

func (p *Placement) of(id model.ID) *Tally {
	t := p.Of[id]
	if t == nil {
		t = &Tally{}
		p.Of[id] = t
	}
	return t
}

// paths are those of all uses, by number: the same come again and again.
type paths struct {
	spots   *index.Spots
	nowhere []bool // it names a node that is not there
}

func pathsOf(x *index.Index, uses *usage.Uses, in PlaceInput) *paths {
	p := &paths{x.Spots(uses.Paths(), uses.Path), make([]bool, uses.Paths())}
	parallel.Blocks(len(p.nowhere), func(i int) {
		path := uses.Path(i)
		spot := p.spots.At(i, path)
		_, p.nowhere[i] = in.Inventory.UnknownBelow(path, x, spot.ListedDepth())
	})
	return p
}

// look places uses, one caller after another. Each worker has one.
type look struct {
	Placement
	x       *index.Index
	in      PlaceInput
	paths   *paths
	find    finders
	callers map[model.ID]caller
	lately  caller // the last of them, once called
	called  bool
	perms   map[model.Permission]int // their numbers; -1: of none
	grants  []int                    // that allow the use looked at last
	spot    index.Spot               // where that was
}

// caller is what is known of somebody who called.
type caller struct {
	id                    model.ID
	known, waived, bypass bool
}

func (l *look) caller(id model.ID) caller {
	if l.called && l.lately.id == id { // uses come caller by caller
		return l.lately
	}
	c, ok := l.callers[id]
	if !ok {
		c.id = id
		_, c.known = l.x.Identity(id)
		c.known = c.known || id.Open()
		c.waived = !c.known && l.in.Waived != nil && l.in.Waived(id)
		c.bypass = l.x.Bypasses(id)
		l.callers[id] = c
	}
	l.lately, l.called = c, true
	return c
}

// at places one use. Why says what it lacks but for a grant; perm is -1 for what is no permission.
func (l *look) at(i, path int, u *usage.Use, w usage.Window) (why Reason, perm int) {
	l.grants = l.grants[:0]
	if !u.Outcome.Allowed() {
		return Placed, -1
	}
	who := u.Principal()
	by, as := l.caller(u.Identity), l.caller(who)
	perm, known := l.perms[u.Permission]
	if !known {
		var mapped bool
		if perm, mapped = l.x.PermNumber(u.Permission); !mapped {
			perm = -1
		}
		l.perms[u.Permission] = perm
	}
	l.spot = l.paths.spots.At(path, u.Path)
	nowhere := l.paths.nowhere[path]
	if perm >= 0 {
		// A grant of today explains it, or the source's own word that it lets an identity
		// through every check.
		l.find.of(who).Allowing(perm, l.spot, func(g int) {
			if met, _ := l.x.Grant(g).When.Eval(u.Context()); met != model.False {
				l.grants = append(l.grants, g)
			}
		})
	}
	switch {
	case !by.waived && !by.known || !as.known && who != u.Identity:
		why = NoCaller
	case by.waived && who == u.Identity: // whoever it is has nothing here
	case perm < 0:
		why = NoOperation
	case nowhere:
		why = NoPath
	case len(l.grants) == 0 && !as.bypass:
		l.says[i] = saidGone
		return Placed, perm
	}
	l.says[i] = sayOf(why)
	l.settle(i, u, w, false)
	return why, perm
}

// frozen is what calls that are not placed may have been.
type frozen struct {
	perms map[model.ID]*access.Few // permissions of an identity, wherever granted
	// services, "" for every one, on grants that reach a path; none: everywhere
	services map[model.ID]map[string][]model.Path
	streams  []stream   // in whose logs somebody unknown called
	unknown  access.Few // permissions that somebody unknown used there
	all      bool       // somebody unknown called, and no log can be told
}

type stream struct {
	node           model.Path
	service, class string
}

// freeze collects what the uses that are not placed freeze. record returns the node whose
// log shows a permission at a path; left reports whether a caller stopped calling for good, as it is told of anybody:
// whoever else it was is as silent as if it had never called.
func freeze(p *Placement, uses *usage.Uses, x *index.Index, in PlaceInput,
	record func(path model.Path, service, class string) (model.Path, bool), left func(model.ID) bool) *frozen {
	f := &frozen{perms: map[model.ID]*access.Few{}, services: map[model.ID]map[string][]model.Path{}}
	find := finders{x: x}
	services := map[string]bool{}
	for i := range x.Numbers() {
		services[x.Permission(i).Permission.Service()] = true
	}
	for i := range p.says {
		if !p.Live(i) {
			continue
		}
		u := uses.At(i)
		who := u.Principal()
		perm, mapped := x.PermNumber(u.Permission)
		_, nowhere := in.Inventory.Unknown(u.Path)
		// Also of somebody unknown, who may have it by an open crowd.
		if mapped {
			if f.perms[who] == nil {
				f.perms[who] = &access.Few{}
			}
			f.perms[who].Add(perm)
		} else {
			service := u.Permission.Service()
			if !services[service] {
				service = "" // what service that is nobody can tell
			}
			if f.services[who] == nil {
				f.services[who] = map[string][]model.Path{}
			}
			at := u.Path // one that no grant reaches may be wrong itself
			if nowhere || !find.of(who).Reaches(u.Path) {
				at = model.Path{}
			}
			if list := f.services[who][service]; !slices.Contains(list, at) {
				f.services[who][service] = append(list, at)
			}
		}
		if p.Reason(i) == NoCaller && !left(u.Identity) {
			if !mapped || nowhere {
				f.all = true
				continue
			}
			c := x.Permission(perm)
			node, ok := record(u.Path, c.Permission.Service(), c.LogClass)
			if !ok {
				f.all = true
				continue
			}
			f.unknown.Add(perm)
			if s := (stream{node, c.Permission.Service(), c.LogClass}); !slices.Contains(f.streams, s) {
				f.streams = append(f.streams, s)
			}
		}
	}
	return f
}

// whose returns of whom something is frozen, in order.
func (f *frozen) whose() []model.ID {
	all := map[model.ID]bool{}
	for id := range f.perms {
		all[id] = true
	}
	for id := range f.services {
		all[id] = true
	}
	return slices.SortedFunc(maps.Keys(all), model.ID.Compare)
}

// ofMany is what is frozen of several who have the same grants.
type ofMany struct {
	perms    access.Few
	services []map[string][]model.Path // see frozen
}

// of puts together what is frozen of several; nil where nothing is, as of most.
func (f *frozen) of(who []model.ID) *ofMany {
	var out *ofMany
	for _, id := range who {
		perms, services := f.perms[id], f.services[id]
		if perms == nil && services == nil {
			continue
		}
		if out == nil {
			out = &ofMany{}
		}
		if perms != nil {
			for p := range perms.All() {
				out.perms.Add(p)
			}
		}
		if services != nil {
			out.services = append(out.services, services)
		}
	}
	return out
}

// unknown adds what somebody unknown used, whom one of them may be.
func (f *ofMany) unknown(perms access.Few) *ofMany {
	if f == nil {
		f = &ofMany{}
	}
	for p := range perms.All() {
		f.perms.Add(p)
	}
	return f
}

// holds reports whether a permission that a grant gives is frozen.
func (f *ofMany) holds(perm int, service string, g *model.Grant) bool {
	if f == nil {
		return false
	}
	return f.perms.Has(perm) || slices.ContainsFunc(f.services, func(of map[string][]model.Path) bool {
		for _, s := range [...]string{service, ""} {
			for _, at := range of[s] {
				if at.IsZero() || g.Covers(at) {
					return true
				}
			}
		}
		return false
	})
}

// silent reports whether the silence of whoever holds a permission on some places may be
// that of somebody unknown.
func (f *frozen) silent(c *model.CatalogueEntry, where []model.PathPattern) bool {
	return f.all || slices.ContainsFunc(f.streams, func(s stream) bool {
		return s.service == c.Permission.Service() && s.class == c.LogClass &&
			slices.ContainsFunc(where, s.node.Below().Overlaps)
	})
}

// Unplaced returns the uses that are not placed, as indices, most calls first.
func (p *Placement) Unplaced(uses *usage.Uses) []int {
	var out []int
	for i := range p.says {
		if p.Reason(i) != Placed {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(i, j int) int { return cmp.Compare(uses.At(j).Count, uses.At(i).Count) })
	return out
}
