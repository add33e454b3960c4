package gauge

import (
	"cmp"
	"math"
	"slices"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
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
	Inventory *usage.Inventory      // nil: every path can be one
	Waived    func(model.ID) bool   // whether a caller is known to be nobody here
	Past      func(*usage.Use) bool // whether a grant that is gone since explains a use
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
	Of      map[model.ID]*Tally // by caller, and by the identity whose rights were used
	Reasons []Reason            // by index into the uses
	Live    []bool              // whether a use that is not placed still freezes something
}

// Place works out which uses are placed. Those after the window are not looked at.
func Place(g *index.Index, uses []usage.Use, w usage.Window, in PlaceInput) *Placement {
	p := &Placement{Of: map[model.ID]*Tally{}, Reasons: make([]Reason, len(uses)), Live: make([]bool, len(uses))}
	x := &explainer{x: g}
	now := w.Last()
	explained := x.explained(uses)
	for i := range uses {
		u := uses[i]
		if !u.Outcome.Allowed() || !u.Within(math.MinInt32, now) {
			continue
		}
		why, past := x.why(&u, in, explained[i])
		p.Reasons[i] = why
		p.add(why, past, u.Count)
		p.of(u.Identity).add(why, past, u.Count)
		if who := u.Principal(); who != u.Identity {
			p.of(who).add(why, past, u.Count)
		}
		if why != Placed {
			windowed := u
			p.Live[i] = windowed.Within(w.First(), now) || !usage.HabitOf(u.Days, now).Over
		}
	}
	return p
}

func (p *Placement) of(id model.ID) *Tally {
	t := p.Of[id]
	if t == nil {
		t = &Tally{}
		p.Of[id] = t
	}
	return t
}

// explainer looks for the grants that explain uses.
type explainer struct{ x *index.Index }

func (x *explainer) why(u *usage.Use, in PlaceInput, explained bool) (why Reason, past bool) {
	who := u.Principal()
	waived := in.Waived != nil && in.Waived(u.Identity)
	_, mapped := x.x.PermNumber(u.Permission)
	_, nowhere := in.Inventory.Unknown(u.Path)
	switch {
	case !waived && !x.known(u.Identity) || !x.known(who) && who != u.Identity:
		return NoCaller, false
	case waived && who == u.Identity:
		return Placed, false // whoever it is has nothing here
	case !mapped:
		return NoOperation, false
	case nowhere:
		return NoPath, false
	case explained:
		return Placed, false
	case in.Past != nil && in.Past(u):
		return Placed, true
	}
	return NoGrant, false
}

func (x *explainer) known(id model.ID) bool {
	if id.Open() {
		return true
	}
	_, ok := x.x.Identity(id)
	return ok
}

// explained reports of each use whether a grant of today explains it, or the source's own
// word that it lets an identity through every check.
func (x *explainer) explained(uses []usage.Use) []bool {
	out := make([]bool, len(uses))
	find := make([]finders, workers())
	bypass := make([]map[model.ID]bool, workers())
	for k := range find {
		find[k].x, bypass[k] = x.x, map[model.ID]bool{}
	}
	inRuns(uses, func(k, from, to int) {
		for i := from; i < to; i++ {
			u := &uses[i]
			perm, ok := x.x.PermNumber(u.Permission)
			if !ok || !u.Outcome.Allowed() {
				continue
			}
			who := u.Principal()
			through, asked := bypass[k][who]
			if !asked {
				through = x.x.Bypasses(who)
				bypass[k][who] = through
			}
			if out[i] = through; through {
				continue
			}
			find[k].of(who).Allowing(perm, u.Path, func(g int) {
				if !out[i] {
					met, _ := x.x.Grant(g).When.Eval(u.Context())
					out[i] = met != model.False
				}
			})
		}
	})
	return out
}

// frozen is what calls that are not placed may have been.
type frozen struct {
	perms map[model.ID]map[int]bool // permissions of an identity, wherever granted
	// services, "" for every one, on grants that reach a path; none: everywhere
	services map[model.ID]map[string][]model.Path
	streams  []stream // in whose logs somebody unknown called
	all      bool     // somebody unknown called, and no log can be told
}

type stream struct {
	node           model.Path
	service, class string
}

// freeze collects what the uses that are not placed freeze. record returns the node whose
// log shows a permission at a path.
func freeze(p *Placement, uses []usage.Use, x *index.Index, in PlaceInput,
	record func(path model.Path, service, class string) (model.Path, bool)) *frozen {
	f := &frozen{perms: map[model.ID]map[int]bool{}, services: map[model.ID]map[string][]model.Path{}}
	services := map[string]bool{}
	for i := range x.Numbers() {
		services[x.Permission(i).Permission.Service()] = true
	}
	for i := range uses {
		if !p.Live[i] {
			continue
		}
		u := &uses[i]
		who := u.Principal()
		perm, mapped := x.PermNumber(u.Permission)
		_, nowhere := in.Inventory.Unknown(u.Path)
		switch p.Reasons[i] {
		case NoPath, NoGrant:
			if f.perms[who] == nil {
				f.perms[who] = map[int]bool{}
			}
			f.perms[who][perm] = true
		case NoOperation:
			service := u.Permission.Service()
			if !services[service] {
				service = "" // what service that is nobody can tell
			}
			if f.services[who] == nil {
				f.services[who] = map[string][]model.Path{}
			}
			at := u.Path
			if nowhere {
				at = model.Path{}
			}
			if list := f.services[who][service]; !slices.Contains(list, at) {
				f.services[who][service] = append(list, at)
			}
		case NoCaller:
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
			if s := (stream{node, c.Permission.Service(), c.LogClass}); !slices.Contains(f.streams, s) {
				f.streams = append(f.streams, s)
			}
		}
	}
	return f
}

// holds reports whether a permission that a grant gives an identity is frozen.
func (f *frozen) holds(who model.ID, perm int, service string, g *model.Grant) bool {
	if f.perms[who][perm] {
		return true
	}
	for _, s := range []string{service, ""} {
		for _, at := range f.services[who][s] {
			if at.IsZero() || g.Covers(at) {
				return true
			}
		}
	}
	return false
}

// some reports whether anything that an identity holds may be frozen.
func (f *frozen) some(who model.ID) bool { return f.perms[who] != nil || f.services[who] != nil }

// silent reports whether the silence of whoever holds a permission on some places may be
// that of somebody unknown.
func (f *frozen) silent(c *model.CatalogueEntry, where []model.PathPattern) bool {
	return f.all || slices.ContainsFunc(f.streams, func(s stream) bool {
		return s.service == c.Permission.Service() && s.class == c.LogClass &&
			slices.ContainsFunc(where, s.node.Below().Overlaps)
	})
}

// Unplaced returns the uses that are not placed, as indices, most calls first.
func (p *Placement) Unplaced(uses []usage.Use) []int {
	var out []int
	for i, r := range p.Reasons {
		if r != Placed {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(i, j int) int { return cmp.Compare(uses[j].Count, uses[i].Count) })
	return out
}
