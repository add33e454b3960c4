// Package posture reads findings off the shape of an estate alone: what is wrong with
// who may do what, whether or not it is used.
//
// [Findings] needs no log, so each is proven by the survey it rests on: outsiders with
// access, grants that no layer lets through, denials and ceilings that do nothing,
// wildcards that hold more than anybody listed, workloads that can hand out rights,
// nodes with many administrators, chains of acting as others, and who can make itself
// administrator. What use says is package gauge's.
package posture

import (
	"fmt"
	"math"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// The kinds of finding.
const (
	Outsider       gauge.Kind = "outsider-access"   // somebody from outside the organisation has it
	DeadGrant      gauge.Kind = "dead-grant"        // no layer lets any of it through
	IdleDenial     gauge.Kind = "idle-denial"       // nothing that is granted is refused by it
	IdleCeiling    gauge.Kind = "idle-ceiling"      // its identity has nothing above it
	Wildcard       gauge.Kind = "wildcard-grant"    // gives whatever a service will have, too
	WorkloadHands  gauge.Kind = "workload-hand-out" // a workload that can hand out rights
	Administrators gauge.Kind = "many-administrators"
	ActAsChain     gauge.Kind = "act-as-chain" // more than one step of acting as others
	Escalation     gauge.Kind = "escalation"   // can make itself administrator
)

// Kinds lists the kinds of finding.
var Kinds = []gauge.Kind{Outsider, DeadGrant, IdleDenial, IdleCeiling, Wildcard, WorkloadHands, Administrators,
	ActAsChain, Escalation}

// mostAdministrators of one node is how many raise no finding.
const mostAdministrators = 5

// finder collects findings.
type finder struct {
	in  *gauge.Input
	res *gauge.Result
	x   *index.Index
	out []gauge.Finding

	admin map[string]bool // grants that are told as standing administration
	given []grant         // by number
	hands access.Set      // permissions that let their holder hand out rights
}

// grant is what is asked of every grant for many: looked up once.
type grant struct {
	index.Interval       // over which nodes its places lie at most
	to             int32 // to whom it is, by number
	open           bool  // to anybody
	hands          bool  // it lets its holder hand out rights day and night, and is not told as such yet
}

// gather looks at every grant.
func (f *finder) gather() {
	f.hands = f.x.NewSet()
	for i := range f.x.Numbers() {
		if f.x.Permission(i).Escalates == model.EditGrants {
			f.hands.Add(i)
		}
	}
	f.given = make([]grant, f.x.GrantNumbers())
	parallel.Each(len(f.given), func(_, i int) {
		g := f.x.Grant(i)
		to, named := f.x.Number(g.To)
		if !named {
			to = -1
		}
		f.given[i] = grant{f.x.Extent(g.Where), int32(to), g.To.Open(),
			f.x.SharedFew(i).Meets(f.hands) && f.standing(g) && !f.admin[g.ID]}
	})
}

// Findings reads an estate. Nodes are those whose administrators matter; what is known
// from use is not told again.
func Findings(in *gauge.Input, res *gauge.Result, nodes []model.Path, known []gauge.Finding) []gauge.Finding {
	f := &finder{in: in, res: res, x: in.Index, admin: map[string]bool{}}
	for _, k := range known {
		if k.Kind == gauge.StandingAdmin {
			f.admin[k.Grant.Grant.ID] = true
		}
	}
	f.gather()
	f.grants()
	f.denials()
	f.ceilings()
	f.chains()
	f.escalation(nodes)
	return gauge.Worst(f.out)
}

// add adds a finding about one thing, which key names.
func (f *finder) add(x gauge.Finding, key string) {
	x.Source = f.x.Source()
	x.Settle(key)
	f.out = append(f.out, x)
}

// untouched reports whether an identity is not to be changed, or gone already.
func (f *finder) untouched(id model.ID) bool {
	i, _ := f.x.Identity(id)
	return f.in.Protected[id] || i.BreakGlass() || i.Disabled
}

func (f *finder) grants() {
	var who []model.ID
	for _, i := range f.x.Everybody() {
		if i.ID.Kind != model.Group && !f.untouched(i.ID) {
			who = append(who, i.ID)
		}
	}
	found := make([][]wrong, len(who))
	parallel.Each(len(who), func(_, i int) { found[i] = f.held(who[i]) })
	// What is wrong with many by one grant to their group is wrong with that grant, and mended there.
	of := map[wrong]int{}
	for i, list := range found {
		for _, w := range list {
			r := f.res.Grants[w.grant]
			to, severity := who[i], w.severity
			if r.Grant.To.Kind == model.Group {
				to, w.severity = r.Grant.To, 0
				if at, known := of[w]; known {
					x := &f.out[at]
					x.Holders, x.Severity = append(x.Holders, who[i]), max(x.Severity, severity)
					continue
				}
				of[w] = len(f.out)
			}
			x := gauge.Finding{Kind: w.kind, Identity: to, Grant: r, Standing: f.res.Of(to), Severity: severity}
			if w.kind != DeadGrant {
				x.Danger = r.Danger
			}
			if to != who[i] {
				x.Holders = []model.ID{who[i]}
			}
			f.add(x, r.Grant.ID)
		}
	}
	counted := map[string]bool{}
	for n, g := range f.x.Grants() {
		role, ok := f.x.Role(g.Role)
		if counted[g.Role] && g.Role != "" || ok && role.Builtin || f.untouched(g.To) ||
			!slices.ContainsFunc(f.x.GrantSets(n), wild) {
			continue
		}
		counted[g.Role] = true
		r := f.res.Grants[n]
		f.add(gauge.Finding{Kind: Wildcard, Identity: g.To, Grant: r, Standing: f.res.Of(g.To), Danger: r.Danger},
			g.ID)
	}
}

// wrong is what is wrong with somebody who has a grant, by number.
type wrong struct {
	kind     gauge.Kind
	grant    int
	severity gauge.Severity
}

// held finds what is wrong with what reaches somebody. It is for several at once.
func (f *finder) held(id model.ID) (out []wrong) {
	n, _ := f.x.Number(id)
	of := func(i int) bool {
		g := &f.given[i]
		return !g.open && (id.Kind == model.External || int(g.to) == n || id.Kind == model.Workload && g.hands)
	}
	f.x.EachHoldingOf(id, of, func(h *access.Holding) {
		some := h.Perms.Count() > 0
		if id.Kind == model.External && some {
			severity := gauge.Low
			if f.highest(h.Perms) >= model.Change {
				severity = gauge.High
			}
			out = append(out, wrong{Outsider, h.Number, severity})
		}
		if id.Kind == model.Workload && f.given[h.Number].hands && h.Perms.Meets(f.hands) {
			out = append(out, wrong{WorkloadHands, h.Number, gauge.High})
		}
		if h.Grant.To == id && h.Blocked > 0 && !some {
			out = append(out, wrong{DeadGrant, h.Number, gauge.Low})
		}
	})
	return out
}

// wild reports whether rights hold everything of a service, known or not.
func wild(r model.Rights) bool {
	return slices.ContainsFunc(r.Do, func(p model.PermissionPattern) bool { return p.Contains(p.Service()) })
}

func (f *finder) highest(perms access.Set) model.Level {
	top := model.LevelUnset
	for i := range perms.All() {
		top = max(top, f.x.Level(i))
	}
	return top
}

// standing reports whether a grant holds day and night.
func (f *finder) standing(g *model.Grant) bool {
	c := g.Condition()
	return c.Until.IsZero() && c.Hours == nil
}

// denials finds those that refuse nothing that anybody whom they name is granted.
func (f *finder) denials() {
	all := slices.Collect(f.x.Denials())
	idle := make([]bool, len(all))
	asked := make([][]int, parallel.Workers()) // of each grant, which denial was last asked about it
	parallel.Each(len(all), func(k, i int) {
		if asked[k] == nil {
			asked[k] = make([]int, f.x.GrantNumbers())
		}
		idle[i] = !f.refuses(all[i], asked[k], i+1)
	})
	for i, d := range all {
		if !idle[i] {
			continue
		}
		who := model.ID{Kind: model.Everyone}
		if len(d.To) > 0 {
			who = d.To[0]
		}
		f.add(gauge.Finding{Kind: IdleDenial, Identity: who, Rule: d.ID}, d.ID)
	}
}

// refuses reports whether a denial refuses something that somebody whom it names is granted. Of many who
// have the same grants each grant is asked about once: those that say turn were.
func (f *finder) refuses(d *model.Denial, asked []int, turn int) bool {
	set := f.x.SetPerms([]model.Rights{d.Rights})
	on := f.x.Extent(d.Where)
	spared := f.x.AllIn(d.Unless)
	there := func(on model.PathPattern) bool { return slices.ContainsFunc(d.Where, on.Overlaps) }
	for id := range f.x.AllIn(d.To) {
		if spared[id] {
			continue
		}
		for _, j := range f.x.Given(id) {
			if asked[j] == turn {
				continue
			}
			if asked[j] = turn; !f.given[j].Meets(on) {
				continue
			}
			if f.x.SharedFew(j).Meets(set) && slices.ContainsFunc(f.x.Grant(j).Where, there) {
				return true
			}
		}
	}
	return false
}

// ceilings finds those whose identity has nothing above them.
func (f *finder) ceilings() {
	for c := range f.x.Ceilings() {
		admitted := f.x.SetPerms([]model.Rights{c.Rights})
		above := false
		for _, j := range f.x.Given(c.Of) {
			perms := f.x.SharedFew(j)
			inside := !slices.ContainsFunc(f.x.Grant(j).Where,
				func(p model.PathPattern) bool { return !model.PathPatternsContain(c.Where, p) })
			above = above || len(perms) > 0 && (!inside || !perms.In(admitted))
		}
		if !above {
			f.add(gauge.Finding{Kind: IdleCeiling, Identity: c.Of, Rule: c.ID}, c.ID)
		}
	}
}

// chains finds who gets to somebody that can hand out rights by acting as others more
// than once.
func (f *finder) chains() {
	var who []model.ID
	dangers := make([][]float64, parallel.Workers()) // the same by the numbers of a masker: most get to the same few
	for _, i := range f.x.Everybody() {
		if i.ID.Kind != model.Group && !f.untouched(i.ID) {
			who = append(who, i.ID)
		}
	}
	worst := make([]gauge.Finding, len(who))
	by := make([]*model.ActAs, len(who)) // the first step
	maskers := make([]*index.Masker, parallel.Workers())
	held := f.heldByChains(who, maskers)
	parallel.Each(len(who), func(k, n int) {
		if maskers[k] == nil {
			maskers[k] = f.x.Masker()
		}
		id, m := who[n], maskers[k]
		best, own := -1, held[id]
		for i := range m.Of(id) {
			to, far := m.ID(i)
			if !far {
				continue
			}
			for j := m.Number(i); j >= len(dangers[k]); {
				dangers[k] = append(dangers[k], math.NaN())
			}
			danger := &dangers[k][m.Number(i)]
			if math.IsNaN(*danger) {
				*danger = held[to]
			}
			if gain := *danger - own; gain > worst[n].Danger {
				worst[n].Danger, best = gain, i
			}
		}
		if best < 0 {
			return
		}
		mask := m.Mask(best)
		by[n] = mask.Steps[0]
		worst[n] = gauge.Finding{Kind: ActAsChain, Identity: id, Standing: f.res.Of(id), Danger: worst[n].Danger,
			Severity: gauge.Medium, Chain: append([]model.ID{id}, steps(mask)...)}
	})
	// Many who get there because of the group that they are in are one finding, of that group.
	of := map[string]int{}
	for n, x := range worst {
		if x.Danger == 0 {
			continue
		}
		if from := by[n].From; from != x.Identity {
			x.Chain[0] = from
			key := fmt.Sprint(x.Chain)
			if at, known := of[key]; known {
				all := &f.out[at]
				all.Holders, all.Danger = append(all.Holders, who[n]), max(all.Danger, x.Danger)
				continue
			}
			of[key] = len(f.out)
			x.Identity, x.Standing, x.Holders = from, f.res.Of(from), []model.ID{who[n]}
			f.add(x, key)
			continue
		}
		f.add(x, "")
	}
}

// heldByChains returns what is held by those who act as others in more than one step, and by those whom
// they act as.
func (f *finder) heldByChains(who []model.ID, maskers []*index.Masker) map[model.ID]float64 {
	ends := make([]map[int]model.ID, len(maskers)) // by the numbers of a masker: most get to the same few
	begins := make([]bool, len(who))
	parallel.Each(len(who), func(k, n int) {
		if maskers[k] == nil {
			maskers[k] = f.x.Masker()
		}
		if ends[k] == nil {
			ends[k] = map[int]model.ID{}
		}
		m := maskers[k]
		for i := range m.Of(who[n]) {
			if to, far := m.ID(i); far {
				ends[k][m.Number(i)], begins[n] = to, true
			}
		}
	})
	held := map[model.ID]float64{}
	for n, id := range who {
		if begins[n] {
			held[id] = 0
		}
	}
	for _, some := range ends {
		for _, id := range some {
			held[id] = 0
		}
	}
	var numbers []int
	for id := range held {
		if n, ok := f.x.Number(id); ok {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	f.res.Scale.HeldDangers(numbers)
	for id := range held {
		held[id] = f.res.Scale.HeldDanger(id)
	}
	return held
}

func steps(m access.Mask) []model.ID {
	out := make([]model.ID, len(m.Steps))
	for i, s := range m.Steps {
		out[i] = s.To
	}
	return out
}

// escalation finds who can make itself administrator, and nodes with many of them.
func (f *finder) escalation(nodes []model.Path) {
	if len(nodes) == 0 {
		return
	}
	g := escalate.New(f.x, nodes)
	f.res.Escalate(g)
	told := map[int]bool{}
	before := map[model.Path]int{}
	for n, node := range nodes {
		count := 0
		for _, a := range g.Administrators(n) {
			if !f.untouched(f.x.ID(a)) {
				count++
			}
		}
		inherited := 0
		for up, c := range before {
			if up.Covers(node) {
				inherited = max(inherited, c)
			}
		}
		before[node] = count
		if count > mostAdministrators && count > inherited {
			f.add(gauge.Finding{Kind: Administrators, Identity: model.ID{}, Node: node, Count: count,
				Severity: gauge.Medium}, node.String())
		}
		// The top-most node, which comes first, says it.
		for _, r := range g.CanBecomeBut(n, func(i int) bool { return told[i] || f.untouched(f.x.ID(i)) }) {
			id := f.x.ID(r.Identity)
			told[r.Identity] = true
			x := gauge.Finding{Kind: Escalation, Identity: id, Standing: f.res.Of(id), Node: node,
				Severity: gauge.High, Count: len(r.Steps)}
			x.Danger = f.res.Reach(id).Danger - f.res.Scale.HeldDanger(id)
			f.add(x, node.String())
		}
	}
}
