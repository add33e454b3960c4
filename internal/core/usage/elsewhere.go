package usage

import (
	"cmp"
	"maps"
	"slices"

	"clipfence/internal/core/model"
)

// Nodes are renamed and moved, people and services get other names, and the log goes on under the new one. What
// it says of the old one is lost then, unless somebody says what it is now ([Moved], [Alias]). Both are guessed
// here from when one fell silent and another began, and from who or what both have in common: a guess, with the
// evidence, and nothing is taken for said by it.

// Thresholds of both guesses. A successor begins as its predecessor ends; what is called by both on more days than
// these is something else.
const (
	latestBefore = 7  // days before the end of one on which another may have begun
	latestAfter  = 31 // days after it by which it must have begun
	recentDays   = 30 // before its end: who called it then
	mostGone     = 4096
	mostLike     = 256 // candidates of one
	mostBeside   = 2   // gone of one kind beside each other: of more, such nodes come and go
)

// beginsAt reports whether something that was seen first on a day may be what was seen last on another.
func beginsAt(first, last Day) bool { return first >= last-latestBefore && first <= last+latestAfter }

// A Move is the guess that a node which no survey knows is another that is listed now.
type Move struct {
	From, To    model.Path
	Went, Of    int // of those who called From in the last 30 days of it, how many call To since
	Last, First Day // when From was called last, and To first
}

// callers is who called something, and when first or last.
type callers struct {
	first, last Day
	who         map[model.ID]Day
	some        bool
}

func (c *callers) add(u *Use, first, last Day) {
	if !c.some {
		c.first, c.last, c.who, c.some = first, last, map[model.ID]Day{}, true
	}
	c.first, c.last = min(c.first, first), max(c.last, last)
	c.who[u.Principal()] = max(c.who[u.Principal()], last)
}

// recent returns who called in the last days of something.
func (c *callers) recent() []model.ID {
	var out []model.ID
	for id, last := range c.who {
		if last > c.last-recentDays {
			out = append(out, id)
		}
	}
	return out
}

type segment struct{ kind, name string }

// GuessMoves guesses where nodes went that were called and that no survey knows; unknown returns the topmost node of a
// path that should be listed and is not. A node that was moved is looked for under its own kind and name, one that was
// renamed among those of its kind beside it: one that nobody called before, and that at least half of those
// who called the other one last call since; of another name at least three, and two thirds. Where several of its kind
// are gone beside it none is guessed of another name: they come and go.
func GuessMoves(uses *Uses, now Nodes, unknown func(model.Path) (model.Path, bool)) []Move {
	gone := map[model.Path]*callers{}
	for _, u := range uses.All() {
		first, last, ok := span(&u)
		top, is := unknown(u.Path)
		if !ok || !is {
			continue
		}
		for at, up := u.Path, true; up && at.Depth() >= top.Depth(); at, up = at.Parent() {
			c := gone[at]
			if kind, _ := at.Last(); kind == "" || c == nil && len(gone) == mostGone {
				continue
			}
			if c == nil {
				c = &callers{}
				gone[at] = c
			}
			c.add(&u, first, last)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	like := likes(gone, now)
	since := map[model.Path]*callers{} // of nodes that may be one of them
	for _, list := range like {
		for _, q := range list {
			since[q] = &callers{}
		}
	}
	for _, u := range uses.All() {
		first, last, ok := span(&u)
		for at, up := u.Path, ok; up; at, up = at.Parent() {
			if c := since[at]; c != nil {
				c.add(&u, first, last)
			}
		}
	}
	var out []Move
	for _, p := range slices.SortedFunc(maps.Keys(gone), model.Path.Compare) { // from above
		if slices.ContainsFunc(out, func(m Move) bool { return m.From.Covers(p) }) {
			continue
		}
		if m, ok := moveOf(p, gone[p], like[p], since); ok {
			out = append(out, m)
		}
	}
	return out
}

// span returns the first and the last day of a use that was let through.
func span(u *Use) (first, last Day, ok bool) {
	last, ok = u.Days.Last()
	return u.Days.First(), last, ok && u.Outcome.Allowed()
}

// likes returns of each node that is gone those listed that may be it, of its own name first.
func likes(gone map[model.Path]*callers, now Nodes) map[model.Path][]model.Path {
	named, beside := map[segment][]model.Path{}, map[sibling][]model.Path{}
	for p := range gone {
		kind, name := p.Last()
		named[segment{kind, name}] = append(named[segment{kind, name}], p)
		if up, ok := p.Parent(); ok {
			beside[sibling{up, kind}] = append(beside[sibling{up, kind}], p)
		}
	}
	same, other := map[model.Path][]model.Path{}, map[model.Path][]model.Path{}
	now.NodesLike(nil, func(q model.Path) {
		kind, name := q.Last()
		for _, p := range named[segment{kind, name}] {
			if len(same[p]) < mostLike {
				same[p] = append(same[p], q)
			}
		}
		if up, ok := q.Parent(); ok && len(beside[sibling{up, kind}]) <= mostBeside {
			for _, p := range beside[sibling{up, kind}] {
				if len(other[p]) < mostLike {
					other[p] = append(other[p], q)
				}
			}
		}
	})
	for p, list := range other {
		same[p] = append(same[p], list...)
	}
	return same
}

// moveOf returns which of some nodes is most likely the one that is gone, where one is.
func moveOf(p model.Path, was *callers, like []model.Path, since map[model.Path]*callers) (Move, bool) {
	var best []Move
	recent := was.recent()
	kind, name := p.Last()
	for _, q := range like {
		c := since[q]
		if !c.some || !beginsAt(c.first, was.last) {
			continue
		}
		m := Move{p, q, 0, len(recent), was.last, c.first}
		for _, id := range recent {
			if last, ok := c.who[id]; ok && last >= was.last {
				m.Went++
			}
		}
		k, n := q.Last()
		other := k != kind || n != name
		if m.Went == 0 || 2*m.Went < m.Of || other && (m.Went < 3 || 3*m.Went < 2*m.Of) {
			continue
		}
		best = append(best, m)
	}
	slices.SortFunc(best, func(a, b Move) int {
		return cmp.Or(cmp.Compare(b.Went, a.Went), a.To.Compare(b.To))
	})
	if len(best) == 0 || len(best) > 1 && best[1].Went == best[0].Went {
		return Move{}, false // nobody can tell
	}
	return best[0], true
}

// A Renaming is the guess that a caller whom the estate does not list goes on as one whom it lists.
type Renaming struct {
	To          model.ID
	Same, Of    int // of what To does, permissions and places, how many the other one did in its last 30 days
	Last, First Day // when the one called last, and the other first
}

// GuessNames guesses under which names callers go on whom nobody lists: as one of the same kind, or of any where the
// log gives none, who began as they ended, and does at least three things of which they did at least three in five.
// Place returns the node to which a path counts.
func GuessNames(uses *Uses, known func(model.ID) bool, place func(model.Path) model.Path) map[model.ID]Renaming {
	when := map[model.ID]*callers{}
	for _, u := range uses.All() {
		first, last, ok := span(&u)
		if !ok || u.Identity.Open() || u.Identity.Kind == model.Group {
			continue
		}
		c := when[u.Identity]
		if c == nil {
			c = &callers{first: first, last: last}
			when[u.Identity] = c
		}
		c.first, c.last = min(c.first, first), max(c.last, last)
	}
	// Few are looked at closer: of all that a large organisation did there is too much.
	to := map[model.ID][]model.ID{} // of each of them, who may be it
	did := map[model.ID]map[deed]bool{}
	began := slices.DeleteFunc(slices.Collect(maps.Keys(when)), func(id model.ID) bool { return !known(id) })
	slices.SortFunc(began, func(a, b model.ID) int {
		return cmp.Or(cmp.Compare(when[a].first, when[b].first), a.Compare(b))
	})
	for id, was := range when {
		if known(id) {
			continue
		}
		from, _ := slices.BinarySearchFunc(began, was.last-latestBefore, func(b model.ID, d Day) int {
			return cmp.Compare(when[b].first, d)
		})
		for _, b := range began[from:] {
			if !beginsAt(when[b].first, was.last) {
				break
			}
			if id.Kind == b.Kind || id.Kind != model.Person && id.Kind != model.Workload {
				to[id] = append(to[id], b)
				did[id], did[b] = map[deed]bool{}, map[deed]bool{}
			}
		}
	}
	if len(to) == 0 {
		return nil
	}
	for _, u := range uses.All() {
		_, last, ok := span(&u)
		if d := did[u.Identity]; ok && d != nil && (known(u.Identity) || last > when[u.Identity].last-recentDays) {
			d[deed{u.Permission, place(u.Path)}] = true
		}
	}
	out := map[model.ID]Renaming{}
	for id, list := range to {
		var best []Renaming
		for _, b := range list {
			r := Renaming{To: b, Of: len(did[b]), Last: when[id].last, First: when[b].first}
			for what := range did[b] {
				if did[id][what] {
					r.Same++
				}
			}
			if r.Same >= 3 && 5*r.Same >= 3*r.Of {
				best = append(best, r)
			}
		}
		slices.SortFunc(best, func(a, b Renaming) int {
			return cmp.Or(cmp.Compare(b.Same, a.Same), a.To.Compare(b.To))
		})
		if len(best) == 1 || len(best) > 1 && best[0].Same > best[1].Same {
			out[id] = best[0]
		}
	}
	return out
}

// A deed is what somebody did, and on what.
type deed struct {
	perm model.Permission
	at   model.Path
}
