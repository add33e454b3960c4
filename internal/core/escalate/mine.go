package escalate

import (
	"slices"
	"sync"
	"sync/atomic"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// Who holds which move
//
// There are two ways to it, which say the same. Whoever asks about one identity, and those it becomes, goes
// through the grants of each (Graph.mine): a few hundred; and through those of all groups, once somebody may
// join any (Graph.join); what one is granted itself is looked at once, however many are in it. Whoever asks
// about everybody goes through the moves, and spreads each over everybody who is granted it (Graph.settle): on
// a large estate that is seconds of all processors, and once for all.

// holders are numbers in order, each twice, and one more where it is held whatever the call: of the identities
// that hold a move, or of the moves that an identity holds.
type holders []uint32

func (h holders) get(n int) (sure, has bool) {
	i, _ := slices.BinarySearch(h, uint32(2*n))
	if i < len(h) && h[i]>>1 == uint32(n) {
		return h[i]&1 == 1, true
	}
	return false, false
}

// ordered puts them in order, each once: whatever the call where it is held so by one of them.
func (h holders) ordered() holders {
	slices.Sort(h)
	out := h[:0]
	for _, n := range h {
		if last := len(out) - 1; last >= 0 && out[last]>>1 == n>>1 {
			out[last] = n // the sure one comes last
		} else {
			out = append(out, n)
		}
	}
	return out
}

func holder(n int, sure bool) uint32 {
	if sure {
		return uint32(2*n + 1)
	}
	return uint32(2 * n)
}

// holding is who holds which move, as far as that was asked.
type holding struct {
	turning sync.Once
	settled atomic.Bool
	of      []holders // of every identity and group, once settled

	joining sync.Once
	ofGroup []int32 // moves that some group has

	sorting sync.Once
	byPerm  map[int][]*move // moves by the number of their permission, in the order of their places
	edges   map[int][]*move // act-as edges by who may take them, or whose members
	further access.Set      // the permissions of byPerm
	lock    sync.Mutex
	few     map[int]holders // of those that were asked about before
	byGiver map[int]holders // what identities and groups are granted themselves
	roled   map[int][]int   // of those, the grants of roles that are not built in, in order
	opens   map[int][]int   // see opening
}

// mine returns the moves that an identity or a group holds.
func (g *Graph) mine(id int) holders {
	h := &g.holding
	if h.settled.Load() {
		return h.of[id]
	}
	return once(h, &h.few, id, func() holders { return g.look(id) })
}

// once returns what is kept under a number, and works it out where it is not kept yet.
func once[V any](h *holding, kept *map[int]V, n int, work func() V) V {
	h.lock.Lock()
	out, known := (*kept)[n]
	h.lock.Unlock()
	if known {
		return out
	}
	out = work()
	h.lock.Lock()
	defer h.lock.Unlock()
	if *kept == nil {
		*kept = map[int]V{}
	}
	(*kept)[n] = out
	return out
}

// sort puts the moves where they are looked for.
func (g *Graph) sort() {
	h := &g.holding
	h.sorting.Do(func() {
		h.byPerm, h.edges = map[int][]*move{}, map[int][]*move{}
		further := g.x.NewSet()
		for i := range g.moves {
			m := &g.moves[i]
			if m.edge != nil {
				from, _ := g.x.Number(m.edge.From)
				h.edges[from] = append(h.edges[from], m)
			} else if perm, known := g.x.PermNumber(m.perm); known {
				h.byPerm[perm] = append(h.byPerm[perm], m)
				further.Add(perm)
			}
		}
		for _, list := range h.byPerm {
			slices.SortStableFunc(list, func(a, b *move) int { return a.at.Compare(b.at) })
		}
		h.further = further
	})
}

// look puts together what an identity, and each that it is in, is granted itself: many are in the same.
func (g *Graph) look(id int) holders {
	g.sort()
	h, who := &g.holding, g.x.ID(id)
	var out holders
	for _, n := range g.x.Givers(who) {
		out = append(out, once(h, &h.byGiver, n, func() holders { return g.granted(n) })...)
	}
	if g.x.Bypasses(who) {
		for _, list := range h.byPerm {
			for _, m := range list {
				out = append(out, holder(m.number, true))
			}
		}
	}
	return out.ordered()
}

// granted goes through the grants to exactly one identity, and the act-as edges that begin at it.
func (g *Graph) granted(giver int) (out holders) {
	h := &g.holding
	for _, m := range h.edges[giver] {
		out = append(out, holder(m.number, m.edge.Condition().IsZero()))
	}
	for _, n := range g.x.GrantsTo(g.x.ID(giver)) {
		if g.without[n] || !g.x.SharedFew(n).Meets(h.further) {
			continue
		}
		perms := g.x.SharedPerms(n)
		for perm, list := range h.byPerm {
			if perms.Has(perm) {
				g.within(n, list, func(m *move, met model.Truth) {
					out = append(out, holder(m.number, met == model.True))
				})
			}
		}
	}
	return out.ordered()
}

// within yields those of some moves, in the order of their places, that lie in the places of a grant, but where its
// condition is not met.
func (g *Graph) within(n int, list []*move, yield func(m *move, met model.Truth)) {
	for _, on := range g.x.Grant(n).Where {
		part := list
		anchor, ok := on.Anchor()
		if ok {
			from, _ := slices.BinarySearchFunc(list, anchor,
				func(m *move, p model.Path) int { return m.at.Compare(p) })
			part = list[from:]
		}
		var at model.Path
		var met model.Truth
		for _, m := range part {
			if ok && !anchor.Covers(m.at) {
				break
			}
			if m.at != at { // many lead on from one place
				if at, met = m.at, model.False; on.Matches(at) {
					met = g.x.MetAt(n, at)
				}
			}
			if met != model.False {
				yield(m, met)
			}
		}
	}
}

// holds reports whether an identity or a group is granted what a move takes.
func (g *Graph) holds(m *move, id int) (sure, has bool) {
	if m.number >= 0 {
		return g.mine(id).get(m.number)
	}
	who := g.x.ID(id)
	if g.x.Bypasses(who) {
		return true, true
	}
	perm, known := g.x.PermNumber(m.perm)
	for n := range g.x.Gives(who) {
		if known && !g.without[n] && g.x.SharedPerms(n).Has(perm) {
			g.within(n, []*move{m}, func(_ *move, met model.Truth) { sure, has = sure || met == model.True, true })
		}
	}
	return sure, has
}

// roleOf returns by which grant an identity or a group holds a role on the place of a move that edits one; -1: by
// none. One that holds whatever the call goes before others.
func (g *Graph) roleOf(m *move, id int) (grant int, sure bool) {
	if g.holding.settled.Load() {
		if sure, has := m.also.get(id); has {
			return m.role[id], sure
		}
		return -1, false
	}
	grant = -1
	at := g.places[m.place]
	for _, n := range g.editables(id) {
		gr := g.x.Grant(n)
		if !slices.ContainsFunc(gr.Where, func(on model.PathPattern) bool { return on.Matches(at) }) ||
			g.x.MetAt(n, at) == model.False {
			continue
		}
		if is := gr.Condition().IsZero(); is || grant < 0 {
			grant, sure = n, is
		}
	}
	return grant, sure
}

// editables returns the grants of an identity or a group that give roles that are not built in, in order.
func (g *Graph) editables(id int) []int {
	h := &g.holding
	return once(h, &h.roled, id, func() (out []int) {
		for n := range g.x.Gives(g.x.ID(id)) {
			if g.editable(n) {
				out = append(out, n)
			}
		}
		slices.Sort(out)
		return slices.Compact(out)
	})
}

// isSafe reports whether no denial and no guardrail refuses a move to anybody.
func (g *Graph) isSafe(m *move) bool {
	if m.number < 0 || g.holding.settled.Load() {
		return m.safe
	}
	return !g.x.MayRefuse(m.perm, m.at)
}

// settle works out who holds which move, of everybody.
func (g *Graph) settle() {
	h := &g.holding
	h.turning.Do(func() {
		var roles []int // places
		seen := make([]bool, len(g.places))
		for i := range g.moves {
			if m := &g.moves[i]; m.kind == model.EditRole && !seen[m.place] {
				seen[m.place] = true
				roles = append(roles, m.place)
			}
		}
		also, by := make([]holders, len(g.places)), make([]map[int]int, len(g.places))
		parallel.Each(len(roles), func(_, i int) { also[roles[i]], by[roles[i]] = g.holdRoles(roles[i]) })
		who := make([]holders, len(g.moves))
		parallel.Each(len(g.moves), func(_, n int) {
			m := &g.moves[n]
			if m.edge != nil {
				from, _ := g.x.Number(m.edge.From)
				g.x.Members(from, func(i int) { who[n] = append(who[n], holder(i, m.edge.Condition().IsZero())) })
			} else {
				for _, h := range g.x.Granted(m.perm, m.at, func(n int) bool { return g.without[n] }) {
					who[n] = append(who[n], holder(h.Identity, h.Outcome == access.Allowed))
				}
				m.safe = !g.x.MayRefuse(m.perm, m.at)
			}
			if m.kind == model.EditRole {
				m.also, m.role = also[m.place], by[m.place]
			}
		})
		h.of = turned(who, g.x.Identities())
		h.settled.Store(true)
	})
}

// join works out which moves groups hold.
func (g *Graph) join() {
	h := &g.holding
	h.joining.Do(func() {
		moves := make([]holders, len(g.groups))
		parallel.Each(len(g.groups), func(_, i int) { moves[i] = g.mine(g.groups[i]) })
		for i, list := range moves {
			for _, h := range list {
				m := &g.moves[h>>1]
				m.groups = append(m.groups, g.groups[i])
			}
		}
		for i := range g.moves {
			if len(g.moves[i].groups) > 0 {
				h.ofGroup = append(h.ofGroup, int32(i))
			}
		}
	})
}

// opening returns the groups, in order, that may let somebody take a move who may join any of them: those that are
// granted what it takes; to edit a role also those that hold one there. By those alone it is taken by nobody who is
// not granted it otherwise, so that they need not count for [holding.ofGroup].
func (g *Graph) opening(m *move) []int {
	g.join()
	if m.kind != model.EditRole {
		return m.groups
	}
	h := &g.holding
	return once(h, &h.opens, m.number, func() []int {
		also := m.also
		if !h.settled.Load() {
			also, _ = g.holdRoles(m.place)
		}
		out := slices.Clone(m.groups)
		for _, h := range also {
			if i := int(h >> 1); g.x.Kind(i) == model.Group {
				out = append(out, i)
			}
		}
		slices.Sort(out)
		return slices.Compact(out)
	})
}

// turned returns of each identity what it holds, by who holds each.
func turned(who []holders, identities int) []holders {
	counts, all := make([]int, identities), 0
	for _, list := range who {
		for _, h := range list {
			counts[h>>1]++
		}
		all += len(list)
	}
	room, out := make(holders, all), make([]holders, identities)
	for i, n := range counts {
		out[i], room = room[:0:n], room[n:]
	}
	for n, list := range who {
		for _, h := range list {
			out[h>>1] = append(out[h>>1], holder(n, h&1 == 1))
		}
	}
	return out
}

// holdRoles returns who holds a role on a place that is not built in, and by which grant: see roleOf.
func (g *Graph) holdRoles(place int) (holders, map[int]int) {
	also, by := map[int]bool{}, map[int]int{}
	for _, n := range g.x.OnPath(g.places[place]) {
		if !g.editable(n) {
			continue
		}
		gr := g.x.Grant(n)
		to, _ := g.x.Number(gr.To)
		sure := gr.Condition().IsZero()
		g.x.Members(to, func(i int) {
			if _, has := by[i]; sure || !has {
				also[i], by[i] = sure, n
			}
		})
	}
	out := make(holders, 0, len(also))
	for i, sure := range also {
		out = append(out, holder(i, sure))
	}
	slices.Sort(out)
	return out, by
}
