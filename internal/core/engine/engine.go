package engine

import (
	"slices"

	"clipfence/internal/core/model"
)

// An Engine answers questions about one estate, which must not change while the
// engine is in use. Its methods may be called from several goroutines.
type Engine struct {
	Estate *model.Estate

	index      map[model.Permission]int // into Estate.Catalogue
	groupsOf   map[model.ID][]model.ID
	membersOf  map[model.ID][]model.ID
	grantsTo   map[model.ID][]int
	actAsFrom  map[model.ID][]int
	ceilingsOf map[model.ID][]int
	roles      map[string]int
	roleSets   map[string][]model.Rights
	nodes      map[model.Path]int
	identities map[model.ID]int
}

// New indexes an estate. It does not validate it: references that lead nowhere
// give nothing.
func New(e *model.Estate) *Engine {
	g := &Engine{
		Estate:     e,
		index:      make(map[model.Permission]int, len(e.Catalogue)),
		groupsOf:   map[model.ID][]model.ID{},
		membersOf:  map[model.ID][]model.ID{},
		grantsTo:   map[model.ID][]int{},
		actAsFrom:  map[model.ID][]int{},
		ceilingsOf: map[model.ID][]int{},
		roles:      make(map[string]int, len(e.Roles)),
		roleSets:   make(map[string][]model.Rights, len(e.Roles)),
		nodes:      make(map[model.Path]int, len(e.Nodes)),
		identities: make(map[model.ID]int, len(e.Identities)),
	}
	for i, c := range e.Catalogue {
		g.index[c.Permission] = i
	}
	for i, n := range e.Nodes {
		g.nodes[n.Path] = i
	}
	for i, id := range e.Identities {
		g.identities[id.ID] = i
	}
	for _, m := range e.Memberships {
		g.groupsOf[m.Member] = append(g.groupsOf[m.Member], m.Group)
		g.membersOf[m.Group] = append(g.membersOf[m.Group], m.Member)
	}
	for i, gr := range e.Grants {
		g.grantsTo[gr.To] = append(g.grantsTo[gr.To], i)
	}
	for i, a := range e.ActAs {
		g.actAsFrom[a.From] = append(g.actAsFrom[a.From], i)
	}
	for i, c := range e.Ceilings {
		g.ceilingsOf[c.Of] = append(g.ceilingsOf[c.Of], i)
	}
	for i, r := range e.Roles {
		g.roles[r.Name] = i
	}
	for _, r := range e.Roles {
		g.roleSets[r.Name] = g.expand(r.Name, map[string]bool{})
	}
	return g
}

func (g *Engine) expand(role string, seen map[string]bool) []model.Rights {
	i, ok := g.roles[role]
	if !ok || seen[role] {
		return nil
	}
	seen[role] = true
	r := &g.Estate.Roles[i]
	sets := []model.Rights{r.Rights}
	for _, in := range r.Includes {
		sets = append(sets, g.expand(in, seen)...)
	}
	return sets
}

// RoleSets returns the rights of a role and of the roles it includes.
func (g *Engine) RoleSets(role string) []model.Rights { return g.roleSets[role] }

// GrantSets returns the rights that a grant gives; their union counts.
func (g *Engine) GrantSets(gr *model.Grant) []model.Rights {
	if gr.Role != "" {
		return g.roleSets[gr.Role]
	}
	return []model.Rights{gr.Rights}
}

// Has reports whether some set holds p.
func Has(sets []model.Rights, p model.Permission) bool {
	return slices.ContainsFunc(sets, func(s model.Rights) bool { return s.Has(p) })
}

// Entry returns what the catalogue knows about p.
func (g *Engine) Entry(p model.Permission) (model.CatalogueEntry, bool) {
	i, ok := g.index[p]
	if !ok {
		return model.CatalogueEntry{Permission: p}, false
	}
	return g.Estate.Catalogue[i], true
}

// Node returns the inventory's node at p.
func (g *Engine) Node(p model.Path) (model.Node, bool) {
	i, ok := g.nodes[p]
	if !ok {
		return model.Node{}, false
	}
	return g.Estate.Nodes[i], true
}

// NearestNode returns the deepest path of the inventory at or above p.
func (g *Engine) NearestNode(p model.Path) (model.Path, bool) {
	for ok := true; ok; p, ok = p.Parent() {
		if _, hit := g.nodes[p]; hit {
			return p, true
		}
	}
	return model.Path{}, false
}

// Identity returns what the estate knows about id.
func (g *Engine) Identity(id model.ID) (model.Identity, bool) {
	i, ok := g.identities[id]
	if !ok {
		return model.Identity{ID: id}, false
	}
	return g.Estate.Identities[i], true
}

// GrantsTo returns the indexes of the grants made to exactly this identity.
func (g *Engine) GrantsTo(id model.ID) []int { return g.grantsTo[id] }

// MembersOf returns the direct members of a group.
func (g *Engine) MembersOf(id model.ID) []model.ID { return g.membersOf[id] }

// A Standing is one member of a closure and how it was reached.
type Standing struct {
	ID    model.ID
	Chain []model.ID // from the identity asked about to ID, both included
}

// Closure returns the identity, its groups at any distance, signed-in if it has
// an account, and everyone. Chains are shortest; the order is breadth first.
func (g *Engine) Closure(id model.ID) []Standing {
	out := []Standing{{id, []model.ID{id}}}
	seen := map[model.ID]bool{id: true}
	for i := 0; i < len(out); i++ {
		for _, up := range g.groupsOf[out[i].ID] {
			if !seen[up] {
				seen[up] = true
				out = append(out, Standing{up, append(slices.Clip(out[i].Chain), up)})
			}
		}
	}
	open := []model.ID{{Kind: model.Everyone}}
	switch id.Kind {
	case model.Person, model.Workload, model.External:
		open = []model.ID{{Kind: model.SignedIn}, {Kind: model.Everyone}}
	case model.SignedIn:
		open = []model.ID{{Kind: model.Everyone}}
	case model.Everyone:
		open = nil
	}
	for _, o := range open {
		if !seen[o] {
			out = append(out, Standing{o, []model.ID{id, o}})
		}
	}
	return out
}

// Outcome is the three-valued answer of a decision.
type Outcome int

// The outcomes. The zero Outcome is Denied: the safe one.
const (
	Denied Outcome = iota
	Conditional
	Allowed
)

// String returns "denied", "allowed if" or "allowed".
func (o Outcome) String() string { return [...]string{"denied", "allowed if", "allowed"}[o] }

// A Way is one grant that would allow the call.
type Way struct {
	Grant  *model.Grant    // nil for a bypass
	Chain  []model.ID      // from the identity to whom the grant names
	Met    model.Truth     // True, or Open with Rest
	Rest   model.Condition // what is left of the grant's condition
	Bypass bool            // the source lets this identity through every check
}

// The layers that can refuse a call.
const (
	LayerDenial    = "denial"
	LayerGuardrail = "guardrail"
	LayerCeiling   = "ceiling"
)

// A Refusal is one rule that refuses the call, or would under its condition.
type Refusal struct {
	Layer  string
	ID     string
	Rights model.Rights        // of a denial those that it refuses, of the others those that they admit
	Where  []model.PathPattern // the places of the rule
	Chain  []model.ID          // from the identity to whom a denial names
	Met    model.Truth         // True, or Open with Rest
	Rest   model.Condition     // what is left of a denial's condition
}

// Denies is the refusal by a denial.
func Denies(d *model.Denial, chain []model.ID, met model.Truth, rest model.Condition) Refusal {
	return Refusal{LayerDenial, d.ID, d.Rights, d.Where, chain, met, rest}
}

// Bars is the refusal by a guardrail.
func Bars(g *model.Guardrail) Refusal {
	return Refusal{Layer: LayerGuardrail, ID: g.ID, Rights: g.Rights, Where: []model.PathPattern{g.Node.Below()}, Met: model.True}
}

// Caps is the refusal by a ceiling.
func Caps(c *model.Ceiling) Refusal {
	return Refusal{Layer: LayerCeiling, ID: c.ID, Rights: c.Rights, Where: c.Where, Met: model.True}
}

// A Decision is the answer to one question with every rule that had a say.
type Decision struct {
	Outcome  Outcome
	Refusals []Refusal // in the order of the layers
	Ways     []Way     // unconditional ones first
	Unmet    []Way     // grants that cover it, whose condition does not hold here
}

// Decide answers whether id may use permission p at path in ctx. When ctx holds
// no labels, those of the inventory's node at path are used.
func (g *Engine) Decide(id model.ID, p model.Permission, path model.Path, ctx model.Context) Decision {
	if ctx.Labels == nil {
		if n, ok := g.Node(path); ok {
			if ctx.Labels = n.Labels; ctx.Labels == nil {
				ctx.Labels = map[string]string{}
			}
		}
	}
	closure := g.Closure(id)
	var d Decision
	for _, s := range closure {
		if slices.Contains(g.Estate.Semantics.Bypass, s.ID) {
			return Decision{Outcome: Allowed, Ways: []Way{{Chain: s.Chain, Met: model.True, Bypass: true}}}
		}
	}
	g.refusals(&d, closure, id, p, path, ctx)
	for _, s := range closure {
		for _, i := range g.grantsTo[s.ID] {
			gr := &g.Estate.Grants[i]
			if !gr.Covers(path) || !Has(g.GrantSets(gr), p) {
				continue
			}
			met, rest := gr.Condition().Eval(ctx)
			way := Way{Grant: gr, Chain: s.Chain, Met: met, Rest: rest}
			if met == model.False {
				d.Unmet = append(d.Unmet, way)
			} else {
				d.Ways = append(d.Ways, way)
			}
		}
	}
	d.Settle()
	return d
}

// Settle puts the unconditional ways first and draws the outcome from what was found.
func (d *Decision) Settle() {
	slices.SortStableFunc(d.Ways, func(a, b Way) int { return int(b.Met) - int(a.Met) })
	d.Outcome = outcome(*d)
}

func outcome(d Decision) Outcome {
	refused := model.False
	for _, r := range d.Refusals {
		if r.Met == model.True {
			return Denied
		}
		refused = model.Open
	}
	switch {
	case len(d.Ways) == 0:
		return Denied
	case refused == model.False && d.Ways[0].Met == model.True:
		return Allowed
	}
	return Conditional
}

func (g *Engine) refusals(d *Decision, closure []Standing, id model.ID, p model.Permission, path model.Path, ctx model.Context) {
	e := g.Estate
	for i := range e.Denials {
		dn := &e.Denials[i]
		at := meets(closure, dn.To)
		if at < 0 || meets(closure, dn.Unless) >= 0 || !dn.Has(p) || !anyMatches(dn.Where, path) {
			continue
		}
		if met, rest := dn.When.Eval(ctx); met != model.False {
			d.Refusals = append(d.Refusals, Denies(dn, closure[at].Chain, met, rest))
		}
	}
	for i := range e.Guardrails {
		gr := &e.Guardrails[i]
		if gr.Node.Covers(path) && !gr.Has(p) && meets(closure, gr.Unless) < 0 {
			d.Refusals = append(d.Refusals, Bars(gr))
		}
	}
	for _, i := range g.ceilingsOf[id] {
		c := &e.Ceilings[i]
		if !c.Has(p) || !anyMatches(c.Where, path) {
			d.Refusals = append(d.Refusals, Caps(c))
		}
	}
}

func meets(closure []Standing, ids []model.ID) int {
	return slices.IndexFunc(closure, func(s Standing) bool { return slices.Contains(ids, s.ID) })
}

func anyMatches(on []model.PathPattern, p model.Path) bool {
	return slices.ContainsFunc(on, func(o model.PathPattern) bool { return o.Matches(p) })
}

// A Mask is an identity that another can act as, with the steps that lead there.
type Mask struct {
	ID    model.ID
	Steps []*model.ActAs // from the identity asked about to ID
}

// Masks returns everybody whom id can act as, in any number of steps, nearest
// first. Conditions of the steps are left to the reader of Steps.
func (g *Engine) Masks(id model.ID) []Mask {
	var out []Mask
	seen := map[model.ID]bool{id: true}
	queue := []Mask{{ID: id}}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, s := range g.Closure(at.ID) {
			for _, i := range g.actAsFrom[s.ID] {
				a := &g.Estate.ActAs[i]
				if seen[a.To] {
					continue
				}
				seen[a.To] = true
				m := Mask{a.To, append(slices.Clip(at.Steps), a)}
				out = append(out, m)
				queue = append(queue, m)
			}
		}
	}
	return out
}
