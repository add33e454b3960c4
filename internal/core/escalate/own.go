package escalate

import (
	"slices"
	"sync"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// Closure returns everybody whom an identity can become by any number of steps, itself
// first, and whether that is anybody at all; then nobody else is listed.
func (g *Graph) Closure(id int) (become []int, anybody bool) {
	seen := map[int]bool{id: true}
	become = []int{id}
	for i := 0; i < len(become); i++ {
		s := g.saturate(become[i])
		if s.anybody != nil {
			return become[:1], true
		}
		for _, b := range s.becomes {
			if !seen[b.to] {
				seen[b.to] = true
				become = append(become, b.to)
			}
		}
	}
	slices.Sort(become[1:])
	return become, false
}

// AnybodyAtOnce reports whether an identity can become anybody by what it holds, at once: by minting credentials or
// running things at a top node. Whoever can by more steps is not reported; [Graph.Closure] tells.
func AnybodyAtOnce(x *index.Index, id model.ID) bool {
	tops := x.Tops()
	for i := range x.Numbers() {
		c := x.Permission(i)
		if c.Escalates != model.MintCredential && c.Escalates != model.RunAs {
			continue
		}
		if slices.ContainsFunc(tops, func(at model.Path) bool {
			return applies(c, at) && x.Decide(id, c.Permission, at, model.Context{}).Outcome != access.Denied
		}) {
			return true
		}
	}
	return false
}

// Administering returns those who are or can make themselves administrators of a top node.
func (g *Graph) Administering() []int {
	var out []int
	g.all()
	for _, id := range g.Everyone() {
		s := g.saturate(id)
		if slices.ContainsFunc(g.tops, func(top int) bool { return s.admin[top] != nil }) {
			out = append(out, id)
		}
	}
	return out
}

// Everyone returns every known identity but groups that can sign in, and the open crowds.
func (g *Graph) Everyone() []int {
	g.gathering.Do(func() { // each is read for it, and many a question is not about everybody
		for i := range g.x.Identities() {
			switch g.x.Kind(i) {
			case model.Group:
			case model.Everyone, model.SignedIn:
				g.people = append(g.people, i)
			default:
				if who, ok := g.x.Identity(g.x.ID(i)); ok && !who.Disabled {
					g.people = append(g.people, i)
				}
			}
		}
	})
	return g.people
}

// Own returns what an identity has that gives itself what it can without becoming another,
// as what a walk counts besides what it is granted; of several, as a member of a group each,
// all together count.
func (g *Graph) Own(id int) []index.Extra { return g.own(id, g.x.Everything(), nil) }

// OwnInside returns what Own does, as far as it counts in the region of a sieve: what gets
// nobody further there may be missing.
func (g *Graph) OwnInside(id int, v *Sieve) []index.Extra { return g.own(id, v.region, v) }

// OwnAlone returns what Own does, but for what an identity would get to by joining groups.
func (g *Graph) OwnAlone(id int) []index.Extra {
	return g.OwnAs(id, -1, g.x.Everything())
}

// OwnAs returns what Own does, as far as it counts in a region, but of the groups that an identity can join for one
// alone, by number, or for none.
func (g *Graph) OwnAs(id, group int, region index.Region) []index.Extra {
	v := &Sieve{g: g, memo: map[tried]bool{}}
	if group >= 0 {
		v.groups = []candidate{{group: group}}
	}
	return g.own(id, region, v)
}

// A Sieve tells which groups somebody who can join any may have to join to get to something
// of what is lacking so far. It is not for several goroutines.
//
// A group opens something by what it is granted, by what it may edit, by a role of its own that another group lets
// one edit, or because a rule spares it. What is lacking at last is mostly what rules refuse to everybody, so a group
// counts only if they let something of the first two through, or let more through by its sparing; that is the same for
// all whom the same rules hold. A role counts whatever it gives so far.
type Sieve struct {
	g      *Graph
	region index.Region
	free   index.Region // nodes on which nobody can give itself everything so far
	frees  []bool       // of each grant: whether it may edit grants on one of those; nil: any may
	lacks  []index.Piece
	counts []index.Piece // and what edits grants or roles
	groups []candidate
	rules  *index.Rules // nil: too many
	memo   map[tried]bool
}

// candidate is a group that may open something.
type candidate struct {
	group  int
	gives  []index.Piece // of what counts
	spared uint64        // by which rules
	frees  bool          // it may let its members edit grants on what is free
	bypass bool          // its members pass every check
	roled  bool          // it holds a role on something free that its members may be able to edit
}

// tried is a group under the rules that hold somebody.
type tried struct {
	group   int
	binding uint64
}

// NewSieve makes a sieve from an earlier one, for less that is lacking, or from nil. Free are
// the nodes on which nobody can give itself everything so far.
func (g *Graph) NewSieve(from *Sieve, lacks []index.Piece, free index.Region) *Sieve {
	region := index.NodesOf(lacks).Or(free)
	v := &Sieve{g: g, region: region, free: free, lacks: lacks, memo: map[tried]bool{}}
	groups := g.groups
	if from != nil {
		groups = nil
		for _, c := range from.groups {
			groups = append(groups, c.group)
		}
	}
	w := g.x.NewWalk(index.Possible)
	editors := g.editing()
	defer g.editors.Put(editors)
	nodes, above := index.NodesOf(lacks), g.above(region)
	edits := g.x.PiecesOf(g.editsOf(), above)
	v.counts = index.Merged(lacks, edits)
	if rules, ok := g.x.RulesIn(v.counts); ok {
		v.rules = rules
		v.frees = g.freeing(free)
	}
	for _, group := range groups {
		id := g.x.ID(group)
		c := candidate{group: group, gives: index.Merged(
			index.Shared(lacks, w.PassingInside(id, g.Unbound(), nodes)),
			index.Shared(edits, editors.PassingInside(id, g.Unbound(), above)))}
		if v.rules != nil {
			c.spared = v.rules.Sparing(group)
			c.frees, c.bypass = v.mayFree(id), g.x.Bypasses(id)
		}
		c.roled = len(free) > 0 && g.editsRoles() && g.hasRole(group, free)
		if c.bypass || c.roled || len(c.gives) > 0 || len(g.sparing(group).And(above)) > 0 {
			v.groups = append(v.groups, c)
		}
	}
	return v
}

// Copy returns a sieve of the same for another goroutine.
func (v *Sieve) Copy() *Sieve {
	out := *v
	out.memo = map[tried]bool{}
	return &out
}

// of returns the groups that somebody may have to join, and whether anything can be got to
// without.
func (v *Sieve) of(id int, e *index.Extra) (join []int, alone bool) {
	var out []int
	var binding uint64
	if v.rules != nil {
		binding = v.rules.Binding(id, e)
	}
	key := tried{-1, binding}
	alone, ok := v.memo[key]
	if !ok {
		alone = v.rules == nil || len(v.rules.Refused(v.lacks, binding)) > 0
		v.memo[key] = alone
	}
	if !alone {
		who := v.g.x.ID(id)
		alone = len(v.free) > 0 && (v.mayFree(who) || v.administers(id)) || v.g.x.Bypasses(who)
	}
	for i := range v.groups {
		c := &v.groups[i]
		key := tried{c.group, binding}
		opens, ok := v.memo[key]
		if !ok {
			opens = v.opens(c, binding)
			v.memo[key] = opens
		}
		if opens {
			out = append(out, c.group)
		}
	}
	return out, alone
}

func (v *Sieve) opens(c *candidate, binding uint64) bool {
	if v.rules == nil || c.bypass || c.roled {
		return true
	}
	less := binding &^ c.spared
	opens := len(v.rules.Refused(v.lacks, less)) > 0
	if !opens && len(v.free) == 0 {
		return false
	}
	return (opens || c.frees) && len(v.rules.Refused(c.gives, less)) > 0 || less != binding &&
		len(index.Less(v.rules.Refused(v.counts, less), v.rules.Refused(v.counts, binding))) > 0
}

// mayFree reports whether an identity may be granted to edit grants on something that is free.
func (v *Sieve) mayFree(id model.ID) bool {
	if v.frees == nil {
		return true
	}
	for g := range v.g.x.Gives(id) {
		if v.frees[g] {
			return true
		}
	}
	return false
}

// administers reports whether an identity can make itself administrator of something that is free.
func (v *Sieve) administers(id int) bool {
	for place := range v.g.saturate(id).admin {
		if len(v.g.x.Region(v.g.places[place].Below()).And(v.free)) > 0 {
			return true
		}
	}
	return false
}

// mostFree bounds the nodes that are looked at one by one for what frees them.
const mostFree = 4096

// freeing returns of each grant whether it gives what edits grants on some nodes or above them,
// whatever rules refuse; nil where that is not worth asking: there are many such nodes, or whoever
// edits roles may free any place that it has.
func (g *Graph) freeing(free index.Region) []bool {
	above, n := g.x.Upward(free), 0
	for _, r := range above {
		n += int(r.To - r.From)
	}
	if n > mostFree {
		return nil
	}
	if g.editsRoles() {
		return nil
	}
	edits, out := g.editsOf(), make([]bool, g.x.GrantNumbers())
	for i := range g.x.Grants() {
		perms := g.x.SharedPerms(i)
		if !perms.Meets(edits) {
			continue
		}
		on := g.x.RegionOf(g.x.SpansWhere(i)).And(above)
		for perm := range perms.All() {
			kinds, edits := g.edits[perm]
			out[i] = out[i] || edits && slices.ContainsFunc(on, func(r index.Interval) bool {
				return len(g.x.Below(int(r.From), int(r.To), g.editsOn[kinds])) > 0
			})
		}
	}
	return out
}

// editsRoles reports whether somebody is granted to edit roles, whatever rules refuse, once editing was asked.
func (g *Graph) editsRoles() bool {
	g.roling.Do(func() {
		for i := range g.x.Grants() {
			if perms := g.x.SharedFew(i); perms.Meets(g.roleEdits) {
				where := g.x.RegionOf(g.x.SpansWhere(i))
				for _, top := range g.tops {
					at, ok := g.x.NodeNumber(g.places[top])
					for p := range perms.All() {
						g.rolesEdited = g.rolesEdited || ok && where.Has(uint32(at)) && g.roleEdits.Has(p) &&
							applies(g.x.Permission(p), g.places[top])
					}
				}
			}
		}
	})
	return g.rolesEdited
}

// hasRole reports whether a group holds a role that is not built in on some of the nodes: whoever edits it then has
// everything there, whatever the role gives so far.
func (g *Graph) hasRole(group int, on index.Region) bool {
	return slices.ContainsFunc(g.editables(group), func(n int) bool {
		return len(g.x.RegionOf(g.x.SpansWhere(n)).And(on)) > 0
	})
}

// Unbound is somebody whom no rule holds. Nobody may change it.
func (g *Graph) Unbound() index.Extra {
	g.freely.Do(func() {
		g.free = index.Extra{Ceilings: true, Guardrails: true, Denials: map[string]bool{}}
		for d := range g.x.Denials() {
			g.free.Denials[d.ID] = true
		}
	})
	return g.free
}

// above returns a region, all nodes above it, and the tops.
func (g *Graph) above(region index.Region) index.Region {
	out := g.x.Upward(region)
	for _, top := range g.tops {
		if n, ok := g.x.NodeNumber(g.places[top]); ok {
			out = out.Or(index.Region{{From: uint32(n), To: uint32(n) + 1}})
		}
	}
	return out
}

// mostSpans is how many spans are gathered before they are settled.
const mostSpans = 1 << 16

func (g *Graph) own(id int, region index.Region, v *Sieve) []index.Extra {
	s := g.saturate(id)
	who := g.x.ID(id)
	g.liftAll(who, s)
	e := index.Extra{Ceilings: s.lifts[0] != nil, Guardrails: s.lifts[1] != nil}
	for denial := range s.denials {
		if e.Denials == nil {
			e.Denials = map[string]bool{}
		}
		e.Denials[denial] = true
	}
	for place := range s.admin {
		e.Spans = append(e.Spans, g.x.SpansOf(g.places[place].Below())...)
	}
	as := []index.Extra{e}
	groups := g.groups
	if v != nil {
		join, alone := v.of(id, &e)
		if !alone && (s.joined == nil || len(join) == 0) {
			return nil
		}
		groups = join
	}
	if s.joined != nil {
		for _, group := range groups {
			e.Group = &group
			as = append(as, e)
		}
	}
	// Grants can be edited on more nodes than those that lead further, and roles on the
	// places that one has them on.
	var more []uint32
	w := g.editing()
	defer g.editors.Put(w)
	roles := false
	settle := func() { // the same is found in many pieces
		slices.Sort(more)
		more = g.x.Outer(slices.Compact(more))
	}
	above := g.above(region)
	var found index.Interval // one subtree that was found: what lies inside it is, too
	looked := make([]int, len(g.editsOn))
	turn := 0
	for _, e := range as {
		for _, p := range w.PassingInside(who, e, above) {
			turn++
			inside := found.From <= uint32(p.From) && uint32(p.To) <= found.To
			for perm := range p.Permissions() {
				roles = roles || g.roleEdits.Has(perm) && g.atTop(&p, perm)
				kinds, edits := g.edits[perm]
				if inside || !edits || looked[kinds] == turn {
					continue
				}
				looked[kinds] = turn
				for _, r := range above.Within(p.From, p.To) {
					had := len(more)
					more = g.x.AppendBelow(more, int(r.From), int(r.To), g.editsOn[kinds])
					if len(more) > had {
						found = wider(found, g.x.Bounds(more[had]), g.x.Bounds(more[len(more)-1]))
					}
				}
				if len(more) > mostSpans {
					settle()
				}
			}
		}
	}
	if roles {
		given := g.x.Given(who)
		for _, e := range as[1:] {
			given = append(given, g.x.Given(g.x.ID(*e.Group))...)
		}
		for _, n := range given {
			if gr := g.x.Grant(n); !g.without[n] && !g.x.Builtin(gr) {
				more = append(more, g.x.SpansWhere(n)...)
			}
		}
	}
	settle()
	for i := range as {
		as[i].Spans = g.x.Outer(slices.Concat(as[i].Spans, more))
	}
	// A group that gives nothing beyond what one can give oneself, and that nothing spares,
	// is no way of its own.
	everything := g.x.RegionOf(as[0].Spans)
	return slices.DeleteFunc(as, func(e index.Extra) bool {
		return e.Group != nil && len(g.sparing(*e.Group).And(region)) == 0 &&
			len(g.groupRegion(*e.Group).And(region).AndNot(everything)) == 0
	})
}

// wider returns that of some intervals which is the longest.
func wider(list ...index.Interval) (most index.Interval) {
	for _, i := range list {
		if i.To-i.From > most.To-most.From {
			most = i
		}
	}
	return most
}

// sparing returns the nodes of the denials and guardrails that spare the members of a group.
func (g *Graph) sparing(group int) index.Region {
	g.sparings.Do(func() {
		g.spares = map[int]index.Region{}
		note := func(unless []model.ID, where ...model.PathPattern) {
			if len(unless) == 0 {
				return
			}
			r := g.x.Region(where...)
			for _, id := range unless {
				if n, ok := g.x.Number(id); ok {
					g.x.Members(n, func(i int) {
						if g.x.Kind(i) == model.Group {
							g.spares[i] = append(g.spares[i], r...)
						}
					})
				}
			}
		}
		for d := range g.x.Denials() {
			note(d.Unless, d.Where...)
		}
		for r := range g.x.Guardrails() {
			note(r.Unless, r.Node.Below())
		}
		for i, r := range g.spares {
			g.spares[i] = r.Or(nil)
		}
	})
	return g.spares[group]
}

// groupRegion returns the nodes on which a group is granted anything.
func (g *Graph) groupRegion(group int) index.Region {
	g.mu.Lock()
	defer g.mu.Unlock()
	r, ok := g.ofGroups[group]
	if !ok {
		var spans []uint32
		for _, n := range g.x.Given(g.x.ID(group)) {
			if !g.x.Grant(n).To.Open() {
				spans = append(spans, g.x.SpansWhere(n)...)
			}
		}
		r = g.x.RegionOf(spans)
		if g.ofGroups == nil {
			g.ofGroups = map[int]index.Region{}
		}
		g.ofGroups[group] = r
	}
	return r
}

// liftAll takes away every denial that an identity can, also those that stand against no
// step of it.
func (g *Graph) liftAll(who model.ID, s *state) {
	if len(g.unDeny) == 0 {
		return
	}
	for before := -1; before != len(s.denials); {
		before = len(s.denials)
		for d := range g.x.Denials() {
			if s.denials[d.ID] == nil && (s.joined != nil ||
				slices.ContainsFunc(d.To, func(to model.ID) bool { return g.x.In(who, to) })) {
				g.lift(who, d.ID, s)
			}
		}
	}
}

// atTop reports whether a permission of a piece can be used on a top node in it.
func (g *Graph) atTop(p *index.Piece, perm int) bool {
	return slices.ContainsFunc(g.tops, func(top int) bool {
		n, ok := g.x.NodeNumber(g.places[top])
		return ok && p.From <= n && n < p.To && applies(g.x.Permission(perm), g.places[top])
	})
}

// lazily is what a graph works out when it is first asked what somebody has.
type lazily struct {
	gathering   sync.Once
	people      []int // see Everyone
	once        sync.Once
	edits       map[int]int // of each permission that edits grants, on which kinds of node it does: see editsOn
	editsOn     [][]int     // lists of kinds: many permissions share one
	roleEdits   access.Set  // permissions that edit roles
	editors     sync.Pool   // of walks over both
	roling      sync.Once
	rolesEdited bool // see editsRoles
	freely      sync.Once
	free        index.Extra
	sparings    sync.Once
	spares      map[int]index.Region // see sparing
	mu          sync.Mutex
	ofGroups    map[int]index.Region
}

// editsOf returns the permissions that edit grants or roles, once editing was asked.
func (g *Graph) editsOf() access.Set {
	some := g.roleEdits.Clone()
	for i := range g.edits {
		some.Add(i)
	}
	return some
}

// editing returns a walk over what edits grants and roles only, which is put back into editors.
func (g *Graph) editing() *index.Walk {
	g.once.Do(func() {
		g.edits, g.roleEdits = map[int]int{}, g.x.NewSet()
		for i := range g.x.Numbers() {
			switch c := g.x.Permission(i); c.Escalates {
			case model.EditGrants:
				kinds := g.x.KindNumbers(func(kind string) bool { return appliesTo(c, kind) })
				at := slices.IndexFunc(g.editsOn, func(on []int) bool { return slices.Equal(on, kinds) })
				if at < 0 {
					at = len(g.editsOn)
					g.editsOn = append(g.editsOn, kinds)
				}
				g.edits[i] = at
			case model.EditRole:
				g.roleEdits.Add(i)
			}
		}
	})
	if w, ok := g.editors.Get().(*index.Walk); ok {
		return w
	}
	some := g.editsOf()
	w := g.x.NewWalk(index.Possible)
	w.Only(some, model.Path{})
	return w
}
