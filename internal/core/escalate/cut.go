package escalate

import (
	"errors"
	"math"
	"slices"

	"clipfence/internal/core/model"
)

// ErrUncuttable: every way to keep somebody from becoming administrator takes something
// from a protected identity.
var ErrUncuttable = errors.New("nothing that may be taken away breaks every path")

// Costs say what may be taken away, and how dear that is.
type Costs struct {
	// Grant returns what it costs to take a grant away, at least 1; negative: it must
	// stay.
	Grant func(*model.Grant) int64
	// ActAs is the same for an act-as edge.
	ActAs func(*model.ActAs) int64
	// Protected are left alone: what they can become is not looked at.
	Protected map[model.ID]bool
}

// A Cut is a set of grants and act-as edges without which nobody who is not
// administrator of some nodes can become one.
type Cut struct {
	Grants []*model.Grant
	ActAs  []*model.ActAs
	Cost   int64
	Breaks int   // how many identities could become administrator of one of the nodes
	Lose   []int // administrators now who are none without it
}

// SmallestCut returns the cheapest such set for the first nodes of a list, of those
// that were asked for; it was tried, and nothing in it is without need.
func (g *Graph) SmallestCut(c Costs) (*Cut, error) {
	sources := map[int]bool{}
	add := func(h *Graph) bool {
		more := false
		for n := range h.asked {
			for _, id := range h.Climbers(n) {
				if !c.Protected[g.x.ID(id)] && !sources[id] {
					sources[id], more = true, true
				}
			}
		}
		return more
	}
	add(g)
	cut := &Cut{Breaks: len(sources)}
	if len(sources) == 0 {
		return cut, nil
	}
	var grants map[int]bool
	var edges map[*model.ActAs]bool
	for {
		var err error
		if grants, edges, err = g.flow(c, sources); err != nil {
			return nil, err
		}
		// Whoever loses administration by it must not get it back by steps.
		if !add(build(g.x, g.nodes(), grants, edges)) {
			break
		}
	}
	g.prune(c, grants, edges)
	after := build(g.x, g.nodes(), grants, edges)
	for n := range g.asked {
		stay := after.Administrators(n)
		for _, id := range g.Administrators(n) {
			if !slices.Contains(stay, id) && !slices.Contains(cut.Lose, id) {
				cut.Lose = append(cut.Lose, id)
			}
		}
	}
	for n := range grants {
		cut.Grants = append(cut.Grants, g.x.Grant(n))
		cut.Cost += c.Grant(g.x.Grant(n))
	}
	for a := range edges {
		cut.ActAs = append(cut.ActAs, a)
		cut.Cost += c.ActAs(a)
	}
	slices.SortFunc(cut.Grants, func(a, b *model.Grant) int {
		if d := c.Grant(a) - c.Grant(b); d != 0 {
			return int(max(-1, min(1, d)))
		}
		return slices.Compare([]byte(a.ID), []byte(b.ID))
	})
	slices.SortFunc(cut.ActAs, func(a, b *model.ActAs) int { return slices.Compare([]byte(a.ID), []byte(b.ID)) })
	return cut, nil
}

// nodes returns the nodes that were asked for.
func (g *Graph) nodes() []model.Path {
	var out []model.Path
	for _, i := range g.asked {
		out = append(out, g.places[i])
	}
	return out
}

// prune puts back what is not needed, the dearest first: the flow does not see that a
// layer refuses some steps.
func (g *Graph) prune(c Costs, grants map[int]bool, edges map[*model.ActAs]bool) {
	holds := func() bool {
		h := build(g.x, g.nodes(), grants, edges)
		for n := range h.asked {
			for _, id := range h.Climbers(n) {
				if !c.Protected[g.x.ID(id)] {
					return false
				}
			}
		}
		return true
	}
	order := []int{}
	for n := range grants {
		order = append(order, n)
	}
	slices.SortFunc(order, func(a, b int) int {
		if d := c.Grant(g.x.Grant(b)) - c.Grant(g.x.Grant(a)); d != 0 {
			return int(max(-1, min(1, d)))
		}
		return a - b
	})
	for _, n := range order {
		if delete(grants, n); !holds() {
			grants[n] = true
		}
	}
	for a := range edges {
		if delete(edges, a); !holds() {
			edges[a] = true
		}
	}
}

// flow finds a minimum cut. Identities, groups, grants, act-as edges, moves and nodes
// are vertices; only grants and act-as edges have a price.
func (g *Graph) flow(c Costs, sources map[int]bool) (map[int]bool, map[*model.ActAs]bool, error) {
	x, n := g.x, g.x.Identities()
	f := &network{}
	f.vertices(n) // the identities
	source, sink, anyGroup, anybody := f.vertex(), f.vertex(), f.vertex(), f.vertex()
	admin := make([]int, len(g.places))
	for i := range g.places { // whoever administers a place does what lies below it
		admin[i] = f.vertex()
		if g.up[i] >= 0 {
			f.edge(admin[g.up[i]], admin[i], math.MaxInt64)
		}
	}
	for _, i := range g.asked {
		f.edge(admin[i], sink, math.MaxInt64)
	}
	for i := range sources {
		f.edge(source, i, math.MaxInt64)
	}
	everyone, _ := x.Number(model.ID{Kind: model.Everyone})
	signedIn, _ := x.Number(model.ID{Kind: model.SignedIn})
	for i := range n {
		x.Joined(i, func(up int) { f.edge(i, up, math.MaxInt64) })
		switch x.Kind(i) {
		case model.Person, model.Workload, model.External:
			f.edge(i, signedIn, math.MaxInt64)
			f.edge(i, everyone, math.MaxInt64)
		case model.SignedIn:
			f.edge(i, everyone, math.MaxInt64)
		}
	}
	for _, i := range g.groups {
		f.edge(anyGroup, i, math.MaxInt64)
	}
	for _, i := range g.Everyone() {
		f.edge(anybody, i, math.MaxInt64)
	}
	priced := func(cost int64) int64 {
		if cost < 0 {
			return math.MaxInt64
		}
		return max(1, cost)
	}
	in, out := map[int]int{}, map[int]int{}
	edgeIn := map[*model.ActAs]int{}
	edgeOut := map[*model.ActAs]int{}
	for i := range g.moves {
		m := &g.moves[i]
		v := f.vertex()
		switch {
		case m.join:
			f.edge(v, anyGroup, math.MaxInt64)
		case m.become == all:
			f.edge(v, anybody, math.MaxInt64)
		case m.become >= 0:
			f.edge(v, m.become, math.MaxInt64)
		case m.place >= 0:
			f.edge(v, admin[m.place], math.MaxInt64)
		}
		if a := m.edge; a != nil {
			edgeIn[a], edgeOut[a] = f.vertex(), f.vertex()
			if from, ok := x.Number(a.From); ok {
				f.edge(from, edgeIn[a], math.MaxInt64)
			}
			f.edge(edgeIn[a], edgeOut[a], priced(c.ActAs(a)))
			f.edge(edgeOut[a], v, math.MaxInt64)
			continue
		}
		for _, n := range x.Giving(m.perm, m.at) {
			if _, ok := in[n]; !ok {
				in[n], out[n] = f.vertex(), f.vertex()
				if to, ok := x.Number(x.Grant(n).To); ok {
					f.edge(to, in[n], math.MaxInt64)
				}
				f.edge(in[n], out[n], priced(c.Grant(x.Grant(n))))
			}
			f.edge(out[n], v, math.MaxInt64)
		}
		for _, b := range x.Bypass() {
			f.edge(b, v, math.MaxInt64)
		}
		f.edge(admin[m.where], v, math.MaxInt64) // an administrator may grant itself the move
	}
	if f.max(source, sink) {
		return nil, nil, ErrUncuttable
	}
	side := f.side(source)
	grants, edges := map[int]bool{}, map[*model.ActAs]bool{}
	for n := range in {
		if side[in[n]] && !side[out[n]] {
			grants[n] = true
		}
	}
	for a := range edgeIn {
		if side[edgeIn[a]] && !side[edgeOut[a]] {
			edges[a] = true
		}
	}
	return grants, edges, nil
}

// network is a flow network, solved by blocking flows.
//
// Source: E. A. Dinic, Algorithm for solution of a problem of maximum flow in networks
// with power estimation, Soviet Math. Doklady 11 (1970).
type network struct {
	first []int // of a vertex: its first arc; -1: none
	next  []int // arc after an arc
	to    []int
	left  []int64 // what can still flow; math.MaxInt64: without bound
	depth []int
	at    []int // the arc to be tried next
}

func (f *network) vertex() int {
	f.first = append(f.first, -1)
	return len(f.first) - 1
}

func (f *network) vertices(n int) {
	for range n {
		f.vertex()
	}
}

func (f *network) edge(from, to int, capacity int64) {
	for _, a := range [][3]int64{{int64(from), int64(to), capacity}, {int64(to), int64(from), 0}} {
		f.to, f.left, f.next = append(f.to, int(a[1])), append(f.left, a[2]), append(f.next, f.first[a[0]])
		f.first[a[0]] = len(f.to) - 1
	}
}

// max lets as much flow as can. It reports whether that is without bound.
func (f *network) max(source, sink int) (unbounded bool) {
	for f.levels(source)[sink] >= 0 {
		f.at = slices.Clone(f.first)
		for {
			n := f.push(source, sink, math.MaxInt64)
			if n == math.MaxInt64 {
				return true
			}
			if n == 0 {
				break
			}
		}
	}
	return false
}

// levels numbers the vertices by their distance from the source; -1: not reached.
func (f *network) levels(source int) []int {
	f.depth = slices.Repeat([]int{-1}, len(f.first))
	f.depth[source] = 0
	queue := []int{source}
	for i := 0; i < len(queue); i++ {
		for a := f.first[queue[i]]; a >= 0; a = f.next[a] {
			if v := f.to[a]; f.left[a] > 0 && f.depth[v] < 0 {
				f.depth[v] = f.depth[queue[i]] + 1
				queue = append(queue, v)
			}
		}
	}
	return f.depth
}

// push sends flow along one path of rising levels and returns how much.
func (f *network) push(v, sink int, most int64) int64 {
	if v == sink {
		return most
	}
	for ; f.at[v] >= 0; f.at[v] = f.next[f.at[v]] {
		a := f.at[v]
		if f.left[a] == 0 || f.depth[f.to[a]] != f.depth[v]+1 {
			continue
		}
		if n := f.push(f.to[a], sink, min(most, f.left[a])); n > 0 {
			if n < math.MaxInt64 {
				if f.left[a] < math.MaxInt64 {
					f.left[a] -= n
				}
				if f.left[a^1] < math.MaxInt64-n {
					f.left[a^1] += n
				}
			}
			return n
		}
	}
	return 0
}

// side returns which vertices the source still reaches.
func (f *network) side(source int) []bool {
	out := make([]bool, len(f.first))
	for v, d := range f.levels(source) {
		out[v] = d >= 0
	}
	return out
}
