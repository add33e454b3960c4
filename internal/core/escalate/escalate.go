package escalate

import (
	"cmp"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/index"
	"clipfence/internal/core/model"
)

// ActAs is the kind of a step along an act-as edge; the kinds of the others are the
// escalations of package model.
const ActAs = "act-as"

// A Step is one thing that somebody does to get further.
type Step struct {
	Who         model.ID // who takes it: the identity asked about, or one that it became
	Kind        string
	Permission  model.Permission // that it takes; zero for an act-as edge
	At          model.Path       // where that is held
	By          model.ID         // a group joined before, as whose member it is held; zero: held already
	Self        bool             // held only because Who is administrator there by the steps before
	Becomes     model.ID         // an identity or, by joining it, a group; zero for others
	Admin       model.Path       // the node whose administrator Who becomes; zero for others
	Grant       string           // of the role that is edited
	Denial      string           // that is lifted
	Edge        *model.ActAs
	Conditional bool
}

// A Route is how an identity gets somewhere, step by step.
type Route struct {
	Identity int
	Steps    []Step
}

// move is a permission at a place that gets its holders further.
type move struct {
	kind   string
	perm   model.Permission
	at     model.Path
	place  int          // edit-grants and edit-role: whose administrator one becomes; -1: of none
	become int          // an identity; all: any; -1: none
	join   bool         // any group
	edge   *model.ActAs // of an act-as edge
	who    holders      // everybody granted it, groups too
	also   holders      // edit-role: who holds a role there that is not built in
	role   map[int]int  // edit-role: by which grant
	groups []int        // those among who and also
	safe   bool         // no denial and no guardrail refuses the permission there to anybody
}

const all = -2

// holders are identities in order, twice their number, and one more for those who hold
// it whatever the call.
type holders []uint32

func (h holders) get(id int) (sure, has bool) {
	i, _ := slices.BinarySearch(h, uint32(2*id))
	if i < len(h) && h[i]>>1 == uint32(id) {
		return h[i]&1 == 1, true
	}
	return false, false
}

func holder(id int, sure bool) uint32 {
	if sure {
		return uint32(2*id + 1)
	}
	return uint32(2 * id)
}

// A Graph knows who can get further how, on one estate.
type Graph struct {
	x       *index.Index
	without map[int]bool // grants that are thought away, by number
	noEdge  map[*model.ActAs]bool
	asked   []int        // places: the nodes that were asked for
	places  []model.Path // those, the tops, nodes that run as somebody, and all above them
	at      map[model.Path]int
	tops    []int
	moves   []move
	of      [][]int32       // the moves of an identity or a group, in order
	ofGroup []int32         // moves that some group has
	hubs    []int32         // moves at the tops
	runs    []int32         // moves at nodes that run as somebody, in the order of paths
	inPlace map[int][]int32 // moves at a place, but act-as edges
	states  []*state        // of identities; nil: not worked out yet
	groups  []int
	unDeny  []*model.CatalogueEntry
	spared  []int // groups whose members a denial or a guardrail spares
	people  []int // every known identity but groups that can sign in, and the crowds
}

// New prepares a graph for the administrators of some nodes.
func New(x *index.Index, nodes []model.Path) *Graph { return build(x, nodes, nil, nil) }

func build(x *index.Index, nodes []model.Path, without map[int]bool, noEdge map[*model.ActAs]bool) *Graph {
	g := &Graph{x: x, without: without, noEdge: noEdge, at: map[model.Path]int{}, of: make([][]int32, x.Identities()), inPlace: map[int][]int32{}, states: make([]*state, x.Identities())}
	for i := range x.Identities() {
		if k := x.Kind(i); k == model.Group {
			g.groups = append(g.groups, i)
		} else if k == model.Everyone || k == model.SignedIn {
			g.people = append(g.people, i)
		} else if who, ok := x.Identity(x.ID(i)); ok && !who.Disabled {
			g.people = append(g.people, i)
		}
	}
	spared := map[int]bool{}
	x.Spared(func(id int) {
		x.Members(id, func(i int) { spared[i] = true })
	})
	for _, i := range g.groups {
		if spared[i] {
			g.spared = append(g.spared, i)
		}
	}
	running, as := x.Running()
	tops := x.Tops()
	var above []model.Path
	for _, p := range slices.Concat(nodes, tops, running) {
		for at, ok := p, true; ok; at, ok = at.Parent() {
			above = append(above, at)
		}
	}
	slices.SortFunc(above, model.Path.Compare) // what lies above comes first
	g.places = slices.Compact(above)
	for i, p := range g.places {
		g.at[p] = i
	}
	for _, p := range nodes {
		g.asked = append(g.asked, g.at[p])
	}
	for _, p := range tops {
		g.tops = append(g.tops, g.at[p])
	}
	byKind := map[string][]*model.CatalogueEntry{}
	for i := range x.Numbers() {
		if c := x.Permission(i); c.Escalates != "" {
			byKind[c.Escalates] = append(byKind[c.Escalates], c)
		}
	}
	for _, list := range byKind { // what can be used most widely is told first
		slices.SortStableFunc(list, func(a, b *model.CatalogueEntry) int {
			return cmp.Or(cmp.Compare(len(b.Kinds), len(a.Kinds)), a.Permission.Compare(b.Permission))
		})
	}
	g.unDeny = byKind[model.LiftDenial]
	// What somebody is administrator of already comes first, then the tops, where one
	// move may lead to everybody.
	for i, at := range g.places {
		g.hub(byKind[model.EditGrants], at, move{place: i, become: -1})
	}
	from := len(g.moves)
	for _, top := range tops {
		g.hub(byKind[model.JoinGroup], top, move{place: -1, become: -1, join: true})
		g.hub(byKind[model.MintCredential], top, move{place: -1, become: all})
		g.hub(byKind[model.RunAs], top, move{place: -1, become: all})
		g.hub(byKind[model.LiftCeiling], top, move{place: -1, become: -1})
		g.hub(byKind[model.LiftGuardrail], top, move{place: -1, become: -1})
		for i := range g.places {
			g.roles(i, byKind[model.EditRole], top)
		}
	}
	for n := from; n < len(g.moves); n++ {
		g.hubs = append(g.hubs, int32(n))
	}
	from = len(g.moves)
	for i, p := range running {
		if to, ok := x.Number(as[i]); ok && !slices.Contains(tops, p) {
			g.hub(byKind[model.RunAs], p, move{place: -1, become: to})
		}
	}
	for n := from; n < len(g.moves); n++ {
		g.runs = append(g.runs, int32(n))
	}
	for _, a := range x.ActAs() {
		from, ok1 := x.Number(a.From)
		to, ok2 := x.Number(a.To)
		if !ok1 || !ok2 || noEdge[a] {
			continue
		}
		m := move{kind: ActAs, place: -1, become: to, edge: a}
		x.Members(from, func(i int) { m.who = append(m.who, holder(i, a.When.WithUntil(a.Until).IsZero())) })
		slices.Sort(m.who)
		g.add(m)
	}
	return g
}

// applies reports whether a permission can be used on just this node. One whose noun is
// itself a kind of node that it applies to concerns nodes of that kind only, wherever it
// is held.
func applies(c *model.CatalogueEntry, at model.Path) bool {
	kind, _ := at.Last()
	if noun := c.Permission.Noun(); slices.Contains(c.Kinds, noun) {
		return kind == noun
	}
	return len(c.Kinds) == 0 || slices.Contains(c.Kinds, kind)
}

// hub adds a move for each of some permissions that can be used at a place.
func (g *Graph) hub(perms []*model.CatalogueEntry, at model.Path, like move) {
	for _, c := range perms {
		if !applies(c, at) {
			continue
		}
		m := like
		m.kind, m.perm, m.at = c.Escalates, c.Permission, at
		m.who, m.safe = g.granted(c.Permission, at), !g.x.MayRefuse(c.Permission, at)
		// It stays also where nobody holds it: an administrator of the node may take it.
		g.add(m)
	}
}

func (g *Graph) granted(p model.Permission, at model.Path) holders {
	var out holders
	for _, h := range g.x.Granted(p, at, func(n int) bool { return g.without[n] }) {
		out = append(out, holder(h.Identity, h.Outcome == engine.Allowed))
	}
	return out
}

// roles adds the move of editing a role that one holds on a node.
func (g *Graph) roles(place int, perms []*model.CatalogueEntry, top model.Path) {
	if len(perms) == 0 {
		return
	}
	also, by := map[int]bool{}, map[int]int{}
	for _, n := range g.x.OnPath(g.places[place]) {
		gr := g.x.Grant(n)
		if g.without[n] || g.x.Builtin(gr) {
			continue
		}
		if to, ok := g.x.Number(gr.To); ok {
			g.x.Members(to, func(i int) {
				if sure := gr.Condition().IsZero(); sure || !also[i] {
					if _, has := by[i]; !has || sure {
						also[i], by[i] = sure, n
					}
				}
			})
		}
	}
	if len(also) == 0 {
		return
	}
	m := move{place: place, become: -1, role: by}
	for i, sure := range also {
		m.also = append(m.also, holder(i, sure))
	}
	slices.Sort(m.also)
	g.hub(perms, top, m)
}

func (g *Graph) add(m move) {
	n := int32(len(g.moves))
	for _, list := range []holders{m.who, m.also} {
		for _, h := range list {
			if i := int(h >> 1); g.x.Kind(i) == model.Group {
				m.groups = append(m.groups, i)
			}
		}
	}
	slices.Sort(m.groups)
	m.groups = slices.Compact(m.groups)
	g.moves = append(g.moves, m)
	if m.edge == nil {
		g.inPlace[g.at[m.at]] = append(g.inPlace[g.at[m.at]], n)
	}
	for _, h := range m.who {
		g.of[h>>1] = append(g.of[h>>1], n)
	}
	if len(m.groups) > 0 {
		g.ofGroup = append(g.ofGroup, n)
	}
}

// state is everything an identity can get to by itself, before it becomes another.
type state struct {
	joined  *Step            // any group
	admin   map[int]*Step    // of places, and everything below
	roles   map[int]*Step    // places, without what is below, on which it has everything by a role it edited
	lifts   [2]*Step         // ceilings, guardrails
	denials map[string]*Step // that it lifted, by id
	trying  string           // a denial, while it is tried to lift it
	becomes []onward
	anybody *onward
	needs   map[*Step][]*Step // the steps that must come before one
}

type onward struct {
	to   int
	step *Step
}

// lifted kinds, in the order of state.lifts.
var lifted = []string{model.LiftCeiling, model.LiftGuardrail}

// saturate works out what an identity can get to by itself.
func (g *Graph) saturate(id int) *state {
	if s := g.states[id]; s != nil {
		return s
	}
	s := &state{admin: map[int]*Step{}, roles: map[int]*Step{}, denials: map[string]*Step{}, needs: map[*Step][]*Step{}}
	g.states[id] = s
	who := g.x.ID(id)
	done := map[int32]bool{}
	for before := -1; before != s.size(); {
		before = s.size()
		for _, n := range g.open(id, s) {
			if !done[n] && g.take(who, id, s, &g.moves[n]) {
				done[n] = true
			}
		}
	}
	return s
}

// size counts what may open further moves.
func (s *state) size() int {
	n := len(s.admin) + len(s.roles) + len(s.denials)
	for _, step := range []*Step{s.joined, s.lifts[0], s.lifts[1]} {
		if step != nil {
			n++
		}
	}
	return n
}

// open lists the moves that an identity may have in a state, in order.
func (g *Graph) open(id int, s *state) []int32 {
	if s.joined == nil && len(s.admin)+len(s.roles) == 0 {
		return g.of[id]
	}
	out := slices.Clone(g.of[id])
	if s.joined != nil {
		out = append(out, g.ofGroup...)
	}
	for place := range s.admin { // an administrator may grant itself what it takes
		at := g.places[place]
		for _, n := range g.hubs {
			if at.Covers(g.moves[n].at) {
				out = append(out, n)
			}
		}
		if s.anybody == nil {
			from, _ := slices.BinarySearchFunc(g.runs, at, func(n int32, p model.Path) int { return g.moves[n].at.Compare(p) })
			for ; from < len(g.runs) && at.Covers(g.moves[g.runs[from]].at); from++ {
				out = append(out, g.runs[from])
			}
		}
	}
	for place := range s.roles {
		out = append(out, g.inPlace[place]...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// covers returns the step that made one administrator of a node at or above a path.
func (s *state) covers(g *Graph, at model.Path) *Step {
	for p, ok := at, true; ok && len(s.admin) > 0; p, ok = p.Parent() {
		if place, known := g.at[p]; known && s.admin[place] != nil {
			return s.admin[place]
		}
	}
	if place, known := g.at[at]; known {
		return s.roles[place]
	}
	return nil
}

// take tries a move, and notes what it gives. It returns false while it is refused, or
// not held yet.
func (g *Graph) take(who model.ID, id int, s *state, m *move) bool {
	i := slices.Index(lifted, m.kind)
	switch { // what it gives is there already
	case i >= 0 && s.lifts[i] != nil, m.join && s.joined != nil, m.become != -1 && s.anybody != nil, m.place >= 0 && s.has(g, m):
		return true
	}
	step, needs, ok := g.held(who, id, s, m)
	if !ok {
		return false
	}
	s.needs[step] = needs
	switch {
	case i >= 0:
		s.lifts[i] = step
	case m.join:
		s.joined = step
	case m.become == all:
		s.anybody = &onward{all, step}
	case m.become >= 0:
		step.Becomes = g.x.ID(m.become)
		s.becomes = append(s.becomes, onward{m.become, step})
	case m.kind == model.EditRole:
		step.Admin = g.places[m.place]
		s.roles[m.place] = step
	default:
		step.Admin = g.places[m.place]
		s.admin[m.place] = step
	}
	return true
}

// has reports whether one has already what a move would give.
func (s *state) has(g *Graph, m *move) bool {
	step := s.covers(g, g.places[m.place])
	return step != nil && (m.kind == model.EditRole || step != s.roles[m.place])
}

// held reports whether an identity may take a move in a state: by itself, as
// administrator there, or as a member of one group that it joins, which may also be what
// a denial or a guardrail spares. It returns the step, and the one that comes before it.
func (g *Graph) held(who model.ID, id int, s *state, m *move) (step *Step, needs []*Step, ok bool) {
	admin := (*Step)(nil)
	if m.edge == nil {
		admin = s.covers(g, m.at)
	}
	try := func(group int) bool {
		step, needs = &Step{Who: who, Kind: m.kind, Permission: m.perm, At: m.at, Edge: m.edge}, nil
		if group >= 0 {
			step.By, needs = g.x.ID(group), append(needs, s.joined)
		}
		sure, has := either(m.who, id, group)
		if !has {
			if admin == nil {
				return false
			}
			step.Self, needs, sure = true, append(needs, admin), true
		}
		step.Conditional = !sure
		if m.also != nil {
			sure, has := either(m.also, id, group)
			if !has {
				return false
			}
			by, own := m.role[id]
			if !own {
				by = m.role[group]
			}
			step.Grant, step.Conditional = g.x.Grant(by).ID, step.Conditional || !sure
		}
		if m.edge != nil {
			return true
		}
		if m.safe && !g.x.HasCeiling(id) {
			return true
		}
		lifts, refused := g.refused(who, group, m.perm, m.at, s)
		needs = append(needs, lifts...)
		return !refused
	}
	if try(-1) {
		return step, needs, true
	}
	if s.joined == nil {
		return nil, nil, false
	}
	for _, list := range [][]int{m.groups, g.spared} {
		if slices.ContainsFunc(list, try) {
			return step, needs, true
		}
	}
	return nil, nil, false
}

// either looks an identity and a group up.
func either(set holders, id, group int) (sure, has bool) {
	a, ok1 := set.get(id)
	if group < 0 {
		return a, ok1
	}
	b, ok2 := set.get(group)
	return a || b, ok1 || ok2
}

// refused reports whether a layer keeps an identity that joined a group from a
// permission, and which steps lift what otherwise would.
func (g *Graph) refused(who model.ID, group int, p model.Permission, at model.Path, s *state) (lifts []*Step, refused bool) {
	for _, r := range g.x.Refusals(who, group, p, at) {
		if r.Met != model.True {
			continue
		}
		var by *Step
		switch r.Layer {
		case engine.LayerCeiling:
			by = s.lifts[0]
		case engine.LayerGuardrail:
			by = s.lifts[1]
		default:
			by = s.denials[r.ID]
			if by == nil && s.trying == "" {
				s.trying = r.ID
				by = g.lift(who, r.ID, s)
				s.trying = ""
			}
		}
		if by == nil {
			return nil, true
		}
		if !slices.Contains(lifts, by) {
			lifts = append(lifts, by)
		}
	}
	return lifts, false
}

// lift tries to take a denial away, which takes the right to on each of its places.
func (g *Graph) lift(who model.ID, id string, s *state) *Step {
	var step *Step
	var needs []*Step
	for _, on := range g.x.DenialOn(id) {
		at, ok := on.Anchor()
		if !ok {
			return nil
		}
		found := false
		for _, c := range g.unDeny {
			if !applies(c, at) {
				continue
			}
			if st, before, ok := g.mayAt(who, c.Permission, at, s); ok {
				step, found = st, true
				needs = append(needs, before...)
				break
			}
		}
		if !found {
			return nil
		}
	}
	if step != nil {
		step.Kind, step.Denial = model.LiftDenial, id
		s.denials[id] = step
		s.needs[step] = needs
	}
	return step
}

// mayAt reports whether an identity in a state may use a permission at a place: what
// held answers for a move.
func (g *Graph) mayAt(who model.ID, p model.Permission, at model.Path, s *state) (step *Step, needs []*Step, ok bool) {
	id, _ := g.x.Number(who)
	return g.held(who, id, s, &move{perm: p, at: at, who: g.granted(p, at)})
}

// told returns the steps up to and including one, in order.
func (s *state) told(step *Step) []Step {
	var order []*Step
	var visit func(step *Step)
	visit = func(step *Step) {
		for _, n := range s.needs[step] {
			visit(n)
		}
		if !slices.Contains(order, step) {
			order = append(order, step)
		}
	}
	visit(step)
	out := make([]Step, len(order))
	for i, st := range order {
		out[i] = *st
	}
	for i := range out { // a group that is joined for what comes next
		if out[i].Kind != model.JoinGroup {
			continue
		}
		for _, later := range out[i+1:] {
			if !later.By.IsZero() {
				out[i].Becomes = later.By
				break
			}
		}
	}
	return out
}

// administrator returns the step that makes an identity administrator of a place by
// itself, and whether it is one without any step: it holds the right already.
func (g *Graph) administrator(id, place int) (s *state, step *Step, already bool) {
	s = g.saturate(id)
	step = s.covers(g, g.places[place])
	return s, step, step != nil && step.Kind == model.EditGrants && step.By.IsZero() && !step.Self && len(s.needs[step]) == 0
}

// Administrators returns who can edit grants on a node that was asked for already.
func (g *Graph) Administrators(node int) []int {
	var out []int
	for _, id := range g.people {
		if _, _, already := g.administrator(id, g.asked[node]); already {
			out = append(out, id)
		}
	}
	return out
}

// climb says of everybody who can become administrator of a node as whom it goes on, the
// fewest identities in between; nil: by itself.
func (g *Graph) climb(node int) map[int]*onward {
	g.all()
	// Back from those who are or make themselves administrators, level by level.
	next := map[int]*onward{} // how somebody gets on; nil: by itself
	level := []int{}
	into := map[int][]onward{} // who becomes somebody: to is who
	var anybody []onward
	for _, id := range g.people {
		s, step, _ := g.administrator(id, g.asked[node])
		if step != nil {
			next[id] = nil
			level = append(level, id)
		}
		for _, b := range s.becomes {
			into[b.to] = append(into[b.to], onward{id, b.step})
		}
		if s.anybody != nil {
			anybody = append(anybody, onward{id, s.anybody.step})
		}
	}
	used := false
	for len(level) > 0 {
		var further []int
		reach := func(to int, from onward) {
			if _, seen := next[from.to]; !seen && from.to != to {
				next[from.to] = &onward{to, from.step}
				further = append(further, from.to)
			}
		}
		for _, to := range level {
			for _, from := range into[to] {
				reach(to, from)
			}
		}
		if !used {
			for _, from := range anybody {
				for _, to := range level {
					if k := g.x.Kind(to); k != model.Everyone && k != model.SignedIn && to != from.to {
						reach(to, from)
						break
					}
				}
			}
			used = true
		}
		level = further
	}
	return next
}

// Climbers returns everybody who is not administrator of a node that was asked for and
// can become one, in the order of numbers.
func (g *Graph) Climbers(node int) []int {
	next := g.climb(node)
	var out []int
	for _, id := range g.people {
		if _, ok := next[id]; ok {
			if _, _, already := g.administrator(id, g.asked[node]); !already {
				out = append(out, id)
			}
		}
	}
	return out
}

// CanBecome returns [Graph.Climbers] with the steps of each.
func (g *Graph) CanBecome(node int) []Route {
	next := g.climb(node)
	var out []Route
	for _, id := range g.people {
		on, ok := next[id]
		if _, _, already := g.administrator(id, g.asked[node]); !ok || already {
			continue
		}
		r := Route{Identity: id}
		at := id
		for on != nil {
			r.Steps = append(r.Steps, g.become(at, on)...)
			at, on = on.to, next[on.to]
		}
		s, step, _ := g.administrator(at, g.asked[node])
		r.Steps = append(r.Steps, s.told(step)...)
		out = append(out, r)
	}
	return out
}

// become tells the steps by which somebody becomes another.
func (g *Graph) become(id int, on *onward) []Step {
	steps := g.saturate(id).told(on.step)
	steps[len(steps)-1].Becomes = g.x.ID(on.to)
	return steps
}

// From returns everybody whom an identity can become, nearest first, each with the
// steps that lead there. Where it can become anybody at all, anybody tells how, and
// those whom it can become only for that are left out.
func (g *Graph) From(id int) (routes []Route, anybody *Route) {
	seen := map[int]bool{id: true}
	queue := []Route{{Identity: id}}
	for i := 0; i < len(queue); i++ {
		at := queue[i]
		s := g.saturate(at.Identity)
		if s.anybody != nil && anybody == nil {
			anybody = &Route{Identity: all, Steps: append(slices.Clip(at.Steps), s.told(s.anybody.step)...)}
		}
		for _, b := range s.becomes {
			if !seen[b.to] {
				seen[b.to] = true
				queue = append(queue, Route{b.to, append(slices.Clip(at.Steps), g.become(at.Identity, &b)...)})
			}
		}
	}
	return queue[1:], anybody
}

// all works out everybody's own steps.
func (g *Graph) all() {
	var wg sync.WaitGroup
	var next atomic.Int64
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(g.people); i = int(next.Add(1)) - 1 {
				g.saturate(g.people[i])
			}
		})
	}
	wg.Wait()
}

// States works out every identity's own steps, and returns how many have any.
func (g *Graph) States() int {
	g.all()
	n := 0
	for _, id := range g.people {
		if s := g.saturate(id); len(s.admin)+len(s.roles)+len(s.becomes) > 0 || s.joined != nil || s.anybody != nil {
			n++
		}
	}
	return n
}
