package escalate

import (
	"cmp"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// How it is found who can get where
//
// There are millions of pairs of identity and node, and few things that get anybody further. So
// the search is over moves: one escalating permission at one place. Of places only those count
// at which something leads somewhere: the nodes that were asked about, the top nodes, nodes that
// code runs on as somebody, the places of denials, and what lies above any of these.
//
// First, what an identity gets to by itself, before it becomes another (Graph.saturate). It has
// a state: of which places it made itself administrator, whether it can join any group, which
// layers and denials it lifted. Moves are tried until the state does not grow any more, since
// each may open others:
//
//	has edit-grants at X        -> administrator of X and below
//	administrator of a top node -> may give itself join-group, lift-denial, ... there
//	joined any group            -> has whatever moves some group has, one group at a time
//	lifted a denial             -> moves that were refused are not any more
//
// States only grow and there are finitely many moves, so this ends; and since no step takes
// anything away, the order does not matter. A move is refused to an identity by the layers
// as they are for it, less what it lifted by then (Graph.refused): so steps are exact, and
// not what a graph without denials would say.
//
// Then, who becomes whom. A state ends in edges to identities (a credential, code that runs as
// another, an act-as edge) or to everybody. Who can become administrator of a node is a search
// backwards over these edges from those who can by themselves (Graph.climb), so that it costs
// what leads there and not what everybody can reach. What is within reach of one identity is
// the closure forwards (Graph.Closure); many have the same, which is then weighed once.
//
// Each step is kept with the steps that it needs (taken), as a shared tree, and told only for
// those who are asked about: there are many more routes than anybody reads.

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
	where  int          // the place of at; -1: none
	inside bool         // where lies above at
	place  int          // edit-grants and edit-role: whose administrator one becomes; -1: of none
	become int          // an identity; all: any; -1: none
	join   bool         // any group
	edge   *model.ActAs // of an act-as edge
	denial string       // lift-denial: which

	// See mine.go.
	number int         // among the moves; -1: it is none of them
	groups []int       // that are granted it, once joined
	also   holders     // edit-role: who holds a role there that is not built in, once settled
	role   map[int]int // edit-role: by which grant, once settled
	safe   bool        // no denial and no guardrail refuses the permission there to anybody, once settled
}

const all = -2

// A Graph knows who can get further how, on one estate.
type Graph struct {
	x       *index.Index
	without map[int]bool // grants that are thought away, by number
	noEdge  map[*model.ActAs]bool
	asked   []int        // places: the nodes that were asked for
	places  []model.Path // those, the tops, nodes that run as somebody, those of denials, and all above them
	at      map[model.Path]int
	up      []int // of a place: the one above; -1: none
	tops    []int
	moves   []move
	hubs    []int32          // moves at the tops
	runs    []int32          // moves at nodes that run as somebody, in the order of paths
	inPlace map[int][]int32  // moves at a place, but act-as edges
	states  []*state         // of identities; nil: not worked out yet
	into    map[int][]onward // see backward
	anybody []onward
	groups  []int
	unDeny  []*model.CatalogueEntry
	spared  []int // groups whose members a denial or a guardrail spares

	holding
	lazily
}

// New prepares a graph for the administrators of some nodes.
func New(x *index.Index, nodes []model.Path) *Graph { return build(x, nodes, nil, nil) }

func build(x *index.Index, nodes []model.Path, without map[int]bool, noEdge map[*model.ActAs]bool) *Graph {
	g := &Graph{x: x, without: without, noEdge: noEdge, at: map[model.Path]int{}, inPlace: map[int][]int32{},
		states: make([]*state, x.Identities())}
	for i := range x.Identities() {
		if x.Kind(i) == model.Group {
			g.groups = append(g.groups, i)
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
	var above, denied []model.Path
	lifts := false
	for i := range x.Numbers() {
		lifts = lifts || x.Permission(i).Escalates == model.LiftDenial
	}
	for d := range x.Denials() {
		if !lifts {
			break
		}
		for _, on := range d.Where {
			if at, ok := on.Anchor(); ok {
				denied = append(denied, at) // where it may be lifted
			}
		}
	}
	for _, p := range slices.Concat(nodes, tops, running, denied) {
		for at, ok := p, true; ok; at, ok = at.Parent() {
			above = append(above, at)
		}
	}
	slices.SortFunc(above, model.Path.Compare) // what lies above comes first
	g.places = slices.Compact(above)
	for i, p := range g.places {
		g.at[p] = i
		above := -1
		if p, ok := p.Parent(); ok {
			above = g.at[p]
		}
		g.up = append(g.up, above)
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
	for a := range x.Edges() {
		_, ok1 := x.Number(a.From)
		to, ok2 := x.Number(a.To)
		if !ok1 || !ok2 || noEdge[a] {
			continue
		}
		g.moves = append(g.moves, move{kind: ActAs, where: -1, place: -1, become: to, edge: a})
	}
	for i := range g.moves {
		m := &g.moves[i]
		if m.number = i; m.edge == nil {
			g.inPlace[m.where] = append(g.inPlace[m.where], int32(i))
		}
	}
	return g
}

// applies reports whether a permission can be used on just this node. One whose noun is
// itself a kind of node that it applies to concerns nodes of that kind only, wherever it
// is held.
func applies(c *model.CatalogueEntry, at model.Path) bool {
	kind, _ := at.Last()
	return appliesTo(c, kind)
}

func appliesTo(c *model.CatalogueEntry, kind string) bool {
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
		m.kind, m.perm, m.at, m.where = c.Escalates, c.Permission, at, g.at[at]
		// It stays also where nobody holds it: an administrator of the node may take it.
		g.moves = append(g.moves, m)
	}
}

// roles adds the move of editing a role that one holds on a node.
func (g *Graph) roles(place int, perms []*model.CatalogueEntry, top model.Path) {
	if len(perms) == 0 || !slices.ContainsFunc(g.x.OnPath(g.places[place]), g.editable) {
		return
	}
	g.hub(perms, top, move{place: place, become: -1})
}

// editable reports whether a grant gives a role to somebody that is not built in.
func (g *Graph) editable(n int) bool {
	gr := g.x.Grant(n)
	_, known := g.x.Number(gr.To)
	return known && !g.without[n] && !g.x.Builtin(gr)
}

// taken is a move that an identity takes, and what comes before it. Steps are told from
// it: there are many of these.
type taken struct {
	m     *move
	needs []*taken
	group int32 // joined for it; -1: none
	grant int32 // of the role that is edited; -1: none
	self  bool  // held only as administrator there
	sure  bool  // whatever the call
}

// step tells a move that an identity takes.
func (g *Graph) step(id int, t *taken) Step {
	m := t.m
	s := Step{Who: g.x.ID(id), Kind: m.kind, Permission: m.perm, At: m.at, Self: t.self, Denial: m.denial,
		Edge: m.edge, Conditional: !t.sure}
	if t.group >= 0 {
		s.By = g.x.ID(int(t.group))
	}
	if t.grant >= 0 {
		s.Grant = g.x.Grant(int(t.grant)).ID
	}
	if m.place >= 0 {
		s.Admin = g.places[m.place]
	}
	return s
}

// state is everything an identity can get to by itself, before it becomes another.
type state struct {
	joined  *taken            // any group
	admin   map[int]*taken    // of places, and everything below
	roles   map[int]*taken    // places, without what is below, on which it has everything by a role it edited
	lifts   [2]*taken         // ceilings, guardrails
	denials map[string]*taken // that it lifted, by id
	trying  string            // a denial, while it is tried to lift it
	becomes []onward
	anybody *onward
}

type onward struct {
	to   int
	step *taken
}

// lifted kinds, in the order of state.lifts.
var lifted = []string{model.LiftCeiling, model.LiftGuardrail}

// saturate works out what an identity can get to by itself.
func (g *Graph) saturate(id int) *state {
	if s := g.states[id]; s != nil {
		return s
	}
	s := &state{}
	g.states[id] = s
	who := g.x.ID(id)
	var done []int32 // moves that were taken, in order
	for before := -1; before != s.size(); {
		before = s.size()
		was := done
		for _, n := range g.open(id, s) { // each once
			if _, taken := slices.BinarySearch(was, n); !taken && g.take(who, id, s, &g.moves[n]) {
				done = append(done, n)
			}
		}
		slices.Sort(done)
	}
	return s
}

// size counts what may open further moves.
func (s *state) size() int {
	n := len(s.admin) + len(s.roles) + len(s.denials)
	for _, step := range []*taken{s.joined, s.lifts[0], s.lifts[1]} {
		if step != nil {
			n++
		}
	}
	return n
}

// open lists the moves that an identity may have in a state, in order.
func (g *Graph) open(id int, s *state) []int32 {
	var out []int32
	for _, h := range g.mine(id) {
		out = append(out, int32(h>>1))
	}
	if s.joined != nil {
		g.join()
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
			from, _ := slices.BinarySearchFunc(g.runs, at,
				func(n int32, p model.Path) int { return g.moves[n].at.Compare(p) })
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

// covers returns the step that made one administrator of a place, or of one above it, or
// gave one everything on it, where just it is meant.
func (s *state) covers(g *Graph, place int, exact bool) *taken {
	if len(s.admin)+len(s.roles) == 0 || place < 0 {
		return nil
	}
	for p := place; p >= 0; p = g.up[p] {
		if t := s.admin[p]; t != nil {
			return t
		}
	}
	if !exact {
		return nil
	}
	return s.roles[place]
}

// take tries a move, and notes what it gives. It returns false while it is refused, or
// not held yet.
func (g *Graph) take(who model.ID, id int, s *state, m *move) bool {
	i := slices.Index(lifted, m.kind)
	switch { // what it gives is there already
	case i >= 0 && s.lifts[i] != nil, m.join && s.joined != nil, m.become != -1 && s.anybody != nil, m.place >= 0 &&
		s.has(g, m):
		return true
	}
	step := g.held(who, id, s, m)
	if step == nil {
		return false
	}
	switch {
	case i >= 0:
		s.lifts[i] = step
	case m.join:
		s.joined = step
	case m.become == all:
		s.anybody = &onward{all, step}
	case m.become >= 0:
		s.becomes = append(s.becomes, onward{m.become, step})
	case m.kind == model.EditRole:
		put(&s.roles, m.place, step)
	default:
		put(&s.admin, m.place, step)
	}
	return true
}

func put[K comparable](m *map[K]*taken, k K, step *taken) {
	if *m == nil {
		*m = map[K]*taken{}
	}
	(*m)[k] = step
}

// has reports whether one has already what a move would give.
func (s *state) has(g *Graph, m *move) bool {
	step := s.covers(g, m.place, true)
	return step != nil && (m.kind == model.EditRole || step != s.roles[m.place])
}

// held returns how an identity may take a move in a state: by itself, as administrator
// there, or as a member of one group that it joins, which may also be what a denial or a
// guardrail spares; nil: it may not.
func (g *Graph) held(who model.ID, id int, s *state, m *move) *taken {
	admin := s.covers(g, m.where, !m.inside)
	var out *taken
	try := func(group int) bool {
		t := taken{m: m, group: int32(group), grant: -1}
		has := false
		if t.sure, has = either(id, group, func(i int) (sure, has bool) { return g.holds(m, i) }); !has {
			if admin == nil {
				return false
			}
			t.self, t.sure = true, true
		}
		if m.kind == model.EditRole {
			by := -1
			sure, has := either(id, group, func(i int) (sure, has bool) {
				n, sure := g.roleOf(m, i)
				if by < 0 {
					by = n
				}
				return sure, n >= 0
			})
			if !has {
				return false
			}
			t.grant, t.sure = int32(by), t.sure && sure
		}
		var lifts []*taken
		if m.edge == nil && (!g.isSafe(m) || g.x.HasCeiling(id)) {
			refused := false
			if lifts, refused = g.refused(who, group, m.perm, m.at, s); refused {
				return false
			}
		}
		if group >= 0 {
			t.needs = append(t.needs, s.joined)
		}
		if t.self {
			t.needs = append(t.needs, admin)
		}
		t.needs = append(t.needs, lifts...)
		out = &t
		return true
	}
	if try(-1) || s.joined == nil {
		return out
	}
	for _, list := range [][]int{g.opening(m), g.spared} {
		if slices.ContainsFunc(list, try) {
			break
		}
	}
	return out
}

// either looks an identity and a group up.
func either(id, group int, of func(i int) (sure, has bool)) (sure, has bool) {
	a, ok1 := of(id)
	if group < 0 {
		return a, ok1
	}
	b, ok2 := of(group)
	return a || b, ok1 || ok2
}

// refused reports whether a layer keeps an identity that joined a group from a
// permission, and which steps lift what otherwise would.
func (g *Graph) refused(who model.ID, group int, p model.Permission, at model.Path, s *state) (lifts []*taken,
	refused bool) {
	for _, r := range g.x.Refusals(who, group, p, at) {
		if r.Met != model.True {
			continue
		}
		var by *taken
		switch r.Layer {
		case access.LayerCeiling:
			by = s.lifts[0]
		case access.LayerGuardrail:
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
func (g *Graph) lift(who model.ID, id string, s *state) *taken {
	number, _ := g.x.Number(who)
	var step *taken
	var needs []*taken
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
			m := &move{kind: model.LiftDenial, perm: c.Permission, at: at, where: g.nearest(at), inside: true,
				place: -1, become: -1, denial: id, number: -1}
			if place, known := g.at[at]; known {
				m.where, m.inside = place, false
			}
			if t := g.held(who, number, s, m); t != nil {
				step, found = t, true
				needs = append(needs, t.needs...)
				break
			}
		}
		if !found {
			return nil
		}
	}
	if step != nil {
		step.needs = needs
		put(&s.denials, id, step)
	}
	return step
}

// nearest returns the deepest place at or above a path; -1: none.
func (g *Graph) nearest(at model.Path) int {
	for ok := true; ok; at, ok = at.Parent() {
		if place, known := g.at[at]; known {
			return place
		}
	}
	return -1
}

// told returns the steps of an identity up to and including one, in order.
func (g *Graph) told(id int, step *taken) []Step {
	var order []*taken
	var visit func(step *taken)
	visit = func(step *taken) {
		for _, n := range step.needs {
			visit(n)
		}
		if !slices.Contains(order, step) {
			order = append(order, step)
		}
	}
	visit(step)
	out := make([]Step, len(order))
	for i, t := range order {
		out[i] = g.step(id, t)
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
func (g *Graph) administrator(id, place int) (s *state, step *taken, already bool) {
	s = g.saturate(id)
	step = s.covers(g, place, true)
	return s, step, step != nil && step.m.kind == model.EditGrants && step.group < 0 && len(step.needs) == 0
}

// Administrators returns who can edit grants on a node that was asked for already.
func (g *Graph) Administrators(node int) []int {
	g.all()
	var out []int
	for _, id := range g.Everyone() {
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
	next := make(map[int]*onward, len(g.Everyone())) // how somebody gets on; nil: by itself
	level := []int{}
	for _, id := range g.Everyone() {
		if _, step, _ := g.administrator(id, g.asked[node]); step != nil {
			next[id] = nil
			level = append(level, id)
		}
	}
	into, anybody := g.backward()
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
					if to != from.to { // who can become anybody can also call as nobody
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

// backward returns who becomes somebody by itself (to is who), and who can become anybody.
func (g *Graph) backward() (into map[int][]onward, anybody []onward) {
	if g.into == nil {
		g.into = map[int][]onward{}
		for _, id := range g.Everyone() {
			s := g.saturate(id)
			for _, b := range s.becomes {
				g.into[b.to] = append(g.into[b.to], onward{id, b.step})
			}
			if s.anybody != nil {
				g.anybody = append(g.anybody, onward{id, s.anybody.step})
			}
		}
	}
	return g.into, g.anybody
}

// Climbers returns everybody who is not administrator of a node that was asked for and
// can become one, in the order of numbers.
func (g *Graph) Climbers(node int) []int {
	next := g.climb(node)
	var out []int
	for _, id := range g.Everyone() {
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
	return g.CanBecomeBut(node, func(int) bool { return false })
}

// CanBecomeBut returns [Graph.CanBecome] without some identities, whose steps are not looked for.
func (g *Graph) CanBecomeBut(node int, but func(id int) bool) []Route {
	next := g.climb(node)
	var out []Route
	for _, id := range g.Everyone() {
		if but(id) {
			continue
		}
		if steps, already := g.route(node, id, next); steps != nil && !already {
			out = append(out, Route{id, steps})
		}
	}
	return out
}

// Route returns the steps by which one identity becomes administrator of a node that was
// asked for, none if it cannot, and whether it is one already.
func (g *Graph) Route(node, id int) (steps []Step, already bool) {
	return g.route(node, id, g.climb(node))
}

func (g *Graph) route(node, id int, next map[int]*onward) (steps []Step, already bool) {
	on, ok := next[id]
	if !ok {
		return nil, false
	}
	if _, _, already := g.administrator(id, g.asked[node]); already {
		return nil, true
	}
	for on != nil {
		steps = append(steps, g.become(id, on)...)
		id, on = on.to, next[on.to]
	}
	_, step, _ := g.administrator(id, g.asked[node])
	return append(steps, g.told(id, step)...), false
}

// become tells the steps by which somebody becomes another.
func (g *Graph) become(id int, on *onward) []Step {
	steps := g.told(id, on.step)
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
			anybody = &Route{Identity: all, Steps: append(slices.Clip(at.Steps),
				g.told(at.Identity, s.anybody.step)...)}
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
	g.settle()
	parallel.Each(len(g.Everyone()), func(_, i int) { g.saturate(g.Everyone()[i]) })
}

// States works out every identity's own steps, and returns how many have any.
func (g *Graph) States() int {
	g.all()
	n := 0
	for _, id := range g.Everyone() {
		if s := g.saturate(id); len(s.admin)+len(s.roles)+len(s.becomes) > 0 || s.joined != nil || s.anybody != nil {
			n++
		}
	}
	return n
}
