package escalate

import (
	"cmp"
	"slices"

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
	node   int          // edit-grants and edit-role: whose administrator one becomes; run-as and the like on a node: the node
	become int          // an identity; all: any; -1: none
	join   int          // a group; all: any; -1: none
	edge   *model.ActAs // of an act-as edge
	who    map[int]bool // everybody granted it, groups too; the value: whatever the call
	also   map[int]bool // edit-role: who holds a role there that is not built in
	role   map[int]int  // edit-role: by which grant
}

const all = -2

// A Graph knows who can get further how, on one estate.
type Graph struct {
	x       *index.Index
	without map[int]bool // grants that are thought away, by number
	noEdge  map[*model.ActAs]bool
	nodes   []model.Path // whose administrators matter: those asked for, tops and nodes that run as somebody
	asked   int          // how many of them were asked for
	at      map[model.Path]int
	tops    []int
	moves   []move
	of      map[int][]int // the moves of an identity or a group
	ofGroup []int         // moves that some group has
	states  map[int]*state
	groups  []int
	unDeny  []*model.CatalogueEntry
	spared  map[int]bool // groups whose members a denial or a guardrail spares
	people  []int        // every known identity but groups that can sign in, and the crowds
}

// New prepares a graph for the administrators of some nodes.
func New(x *index.Index, nodes []model.Path) *Graph { return build(x, nodes, nil, nil) }

func build(x *index.Index, nodes []model.Path, without map[int]bool, noEdge map[*model.ActAs]bool) *Graph {
	g := &Graph{x: x, without: without, noEdge: noEdge, at: map[model.Path]int{}, spared: map[int]bool{}, of: map[int][]int{}, states: map[int]*state{}}
	for i := range x.Identities() {
		if k := x.Kind(i); k == model.Group {
			g.groups = append(g.groups, i)
		} else if k == model.Everyone || k == model.SignedIn {
			g.people = append(g.people, i)
		} else if who, ok := x.Identity(x.ID(i)); ok && !who.Disabled {
			g.people = append(g.people, i)
		}
	}
	x.Spared(func(id int) {
		x.Members(id, func(i int) { g.spared[i] = true })
	})
	node := func(p model.Path) int {
		i, ok := g.at[p]
		if !ok {
			i = len(g.nodes)
			g.at[p] = i
			g.nodes = append(g.nodes, p)
		}
		return i
	}
	for _, p := range nodes {
		node(p)
	}
	g.asked = len(g.nodes)
	for _, p := range x.Tops() {
		g.tops = append(g.tops, node(p))
	}
	running, as := x.Running()
	for _, p := range running {
		node(p)
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
	for i := range g.nodes {
		g.administrators(i, byKind[model.EditGrants])
	}
	for _, top := range g.tops {
		at := g.nodes[top]
		g.hub(byKind[model.JoinGroup], at, move{node: top, become: -1, join: all})
		g.hub(byKind[model.MintCredential], at, move{node: top, become: all, join: -1})
		g.hub(byKind[model.RunAs], at, move{node: top, become: all, join: -1})
		g.hub(byKind[model.LiftCeiling], at, move{node: top, become: -1, join: -1})
		g.hub(byKind[model.LiftGuardrail], at, move{node: top, become: -1, join: -1})
		for i := range g.nodes {
			g.roles(i, byKind[model.EditRole], at)
		}
	}
	for i, p := range running {
		if to, ok := x.Number(as[i]); ok && !slices.Contains(g.tops, g.at[p]) {
			g.hub(byKind[model.RunAs], p, move{node: g.at[p], become: to, join: -1})
		}
	}
	for _, a := range x.ActAs() {
		from, ok1 := x.Number(a.From)
		to, ok2 := x.Number(a.To)
		if !ok1 || !ok2 || noEdge[a] {
			continue
		}
		m := move{kind: ActAs, node: -1, become: to, join: -1, edge: a, who: map[int]bool{}}
		x.Members(from, func(i int) { m.who[i] = a.When.WithUntil(a.Until).IsZero() })
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

// administrators adds the moves that make somebody administrator of a node: editing
// grants there or on a node above.
func (g *Graph) administrators(node int, perms []*model.CatalogueEntry) {
	for at, ok := g.nodes[node], true; ok; at, ok = at.Parent() {
		g.hub(perms, at, move{node: node, become: -1, join: -1})
	}
}

// hub adds a move for each of some permissions that can be used at a place.
func (g *Graph) hub(perms []*model.CatalogueEntry, at model.Path, like move) {
	for _, c := range perms {
		if !applies(c, at) {
			continue
		}
		m := like
		m.kind, m.perm, m.at = c.Escalates, c.Permission, at
		m.who = g.granted(c.Permission, at)
		// It stays also where nobody holds it: an administrator of the node may take it.
		g.add(m)
	}
}

func (g *Graph) granted(p model.Permission, at model.Path) map[int]bool {
	out := map[int]bool{}
	for _, h := range g.x.Granted(p, at, func(n int) bool { return g.without[n] }) {
		out[h.Identity] = h.Outcome == engine.Allowed
	}
	return out
}

// roles adds the move of editing a role that one holds on a node.
func (g *Graph) roles(node int, perms []*model.CatalogueEntry, top model.Path) {
	if len(perms) == 0 {
		return
	}
	also, by := map[int]bool{}, map[int]int{}
	for _, n := range g.x.OnPath(g.nodes[node]) {
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
	if len(also) > 0 {
		g.hub(perms, top, move{node: node, become: -1, join: -1, also: also, role: by})
	}
}

func (g *Graph) add(m move) {
	n := len(g.moves)
	g.moves = append(g.moves, m)
	group := false
	for i := range m.who {
		g.of[i] = append(g.of[i], n)
		group = group || g.x.Kind(i) == model.Group
	}
	for i := range m.also {
		group = group || g.x.Kind(i) == model.Group
	}
	if group {
		g.ofGroup = append(g.ofGroup, n)
	}
}

// state is everything an identity can get to by itself, before it becomes another.
type state struct {
	joined  *Step            // any group
	admin   map[int]*Step    // nodes
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
	if s, ok := g.states[id]; ok {
		return s
	}
	s := &state{admin: map[int]*Step{}, denials: map[string]*Step{}, needs: map[*Step][]*Step{}}
	g.states[id] = s
	who := g.x.ID(id)
	done := map[int]bool{}
	for before := -1; before != s.size(); {
		before = s.size()
		for _, n := range g.open(id, s) {
			if !done[n] && g.take(who, id, s, n) {
				done[n] = true
			}
		}
	}
	return s
}

// size counts what may open further moves.
func (s *state) size() int {
	n := len(s.admin) + len(s.denials)
	for _, step := range []*Step{s.joined, s.lifts[0], s.lifts[1]} {
		if step != nil {
			n++
		}
	}
	return n
}

// open lists the moves that an identity may have in a state.
func (g *Graph) open(id int, s *state) []int {
	out := slices.Clone(g.of[id])
	if s.joined != nil {
		out = append(out, g.ofGroup...)
	}
	if len(s.admin) > 0 {
		for n := range g.moves {
			if m := &g.moves[n]; m.edge == nil && s.covers(g, m.at) != nil {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// covers returns the step that made one administrator of a node at or above a path.
func (s *state) covers(g *Graph, at model.Path) *Step {
	best := -1
	for n := range s.admin {
		if g.nodes[n].Covers(at) && (best < 0 || n < best) {
			best = n
		}
	}
	return s.admin[best]
}

// take tries a move, and notes what it gives. It returns false while it is refused, or
// not held yet.
func (g *Graph) take(who model.ID, id int, s *state, n int) bool {
	m := &g.moves[n]
	step, needs, ok := g.held(who, id, s, m)
	if !ok {
		return false
	}
	s.needs[step] = needs
	switch {
	case m.kind == model.LiftCeiling || m.kind == model.LiftGuardrail:
		i := slices.Index(lifted, m.kind)
		if s.lifts[i] == nil {
			s.lifts[i] = step
		}
	case m.join == all:
		if s.joined == nil {
			s.joined = step
		}
	case m.become == all:
		if s.anybody == nil {
			s.anybody = &onward{all, step}
		}
	case m.become >= 0:
		step.Becomes = g.x.ID(m.become)
		s.becomes = append(s.becomes, onward{m.become, step})
	default:
		if s.admin[m.node] == nil {
			step.Admin = g.nodes[m.node]
			s.admin[m.node] = step
		}
	}
	return true
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
	for _, group := range g.groups {
		if _, has := m.who[group]; !has {
			if _, has = m.also[group]; !has && !g.spared[group] {
				continue
			}
		}
		if try(group) {
			return step, needs, true
		}
	}
	return nil, nil, false
}

// either looks an identity and a group up.
func either(set map[int]bool, id, group int) (sure, has bool) {
	a, ok1 := set[id]
	b, ok2 := set[group]
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

// administrator returns the step that makes an identity administrator of a node by
// itself, and whether it is one without any step: it holds the right already.
func (g *Graph) administrator(id, node int) (s *state, step *Step, already bool) {
	s = g.saturate(id)
	if step = s.admin[node]; step == nil {
		return s, nil, false
	}
	return s, step, step.Kind == model.EditGrants && step.By.IsZero() && !step.Self && len(s.needs[step]) == 0
}

// Administrators returns who can edit grants on a node that was asked for already.
func (g *Graph) Administrators(node int) []int {
	var out []int
	for _, id := range g.people {
		if _, _, already := g.administrator(id, node); already {
			out = append(out, id)
		}
	}
	return out
}

// CanBecome returns everybody who is not administrator of a node that was asked for and
// can become one, each by the fewest identities in between, in the order of numbers.
func (g *Graph) CanBecome(node int) []Route {
	// Back from those who are or make themselves administrators, level by level.
	next := map[int]*onward{} // how somebody gets on; nil: by itself
	level := []int{}
	into := map[int][]onward{} // who becomes somebody: to is who
	var anybody []onward
	for _, id := range g.people {
		s := g.saturate(id)
		if s.admin[node] != nil {
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
	var out []Route
	for _, id := range g.people {
		on, ok := next[id]
		if _, _, already := g.administrator(id, node); !ok || already {
			continue
		}
		r := Route{Identity: id}
		at := id
		for on != nil {
			r.Steps = append(r.Steps, g.become(at, on)...)
			at, on = on.to, next[on.to]
		}
		s := g.saturate(at)
		if step := s.admin[node]; len(r.Steps) == 0 || step.Kind != model.EditGrants || step.Self || len(s.needs[step]) > 0 {
			r.Steps = append(r.Steps, s.told(step)...)
		} else { // it became somebody who is administrator
			r.Steps = append(r.Steps, *step)
		}
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
// steps that lead there. Where it can become anybody at all, anybody is true and those
// whom it can become only for that are left out.
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

// Own returns the nodes that were asked for, or are tops, whose administrator an
// identity is or makes itself, with the steps.
func (g *Graph) Own(id int) map[model.Path][]Step {
	s := g.saturate(id)
	out := map[model.Path][]Step{}
	for n, step := range s.admin {
		out[g.nodes[n]] = s.told(step)
	}
	return out
}

// States works out every identity's own steps, and returns how many have any.
func (g *Graph) States() int {
	n := 0
	for _, id := range g.people {
		if s := g.saturate(id); len(s.admin)+len(s.becomes) > 0 || s.joined != nil || s.anybody != nil {
			n++
		}
	}
	return n
}
