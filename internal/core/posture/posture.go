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
	"cmp"
	"slices"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/index"
	"clipfence/internal/core/model"
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
var Kinds = []gauge.Kind{Outsider, DeadGrant, IdleDenial, IdleCeiling, Wildcard, WorkloadHands, Administrators, ActAsChain, Escalation}

// mostAdministrators of one node is how many raise no finding.
const mostAdministrators = 5

// finder collects findings.
type finder struct {
	in  *gauge.Input
	res *gauge.Result
	x   *index.Index
	e   *model.Estate
	out []gauge.Finding

	admin map[string]bool // grants that are told as standing administration
	by    map[string]*gauge.GrantResult
	walk  *index.Walk
}

// Findings reads an estate. Nodes are those whose administrators matter; what is known
// from use is not told again.
func Findings(in *gauge.Input, res *gauge.Result, x *index.Index, nodes []model.Path, known []gauge.Finding) []gauge.Finding {
	f := &finder{in: in, res: res, x: x, e: in.Engine.Estate, admin: map[string]bool{}, by: map[string]*gauge.GrantResult{}, walk: x.NewWalk(index.Possible)}
	for _, r := range res.Grants {
		f.by[r.Grant.ID] = r
	}
	for _, k := range known {
		if k.Kind == gauge.StandingAdmin {
			f.admin[k.Grant.Grant.ID] = true
		}
	}
	f.grants()
	f.denials()
	f.ceilings()
	f.chains()
	f.escalation(nodes)
	slices.SortStableFunc(f.out, func(a, b gauge.Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(b.Danger, a.Danger), a.Identity.Compare(b.Identity), cmp.Compare(a.Kind, b.Kind))
	})
	return f.out
}

// add adds a finding about one thing, which key names.
func (f *finder) add(x gauge.Finding, key string) {
	x.Source = f.e.Source
	x.Settle(key)
	f.out = append(f.out, x)
}

// untouched reports whether an identity is not to be changed, or gone already.
func (f *finder) untouched(id model.ID) bool {
	i, _ := f.in.Engine.Identity(id)
	return f.in.Protected[id] || i.BreakGlass() || i.Disabled
}

func (f *finder) grants() {
	counted := map[string]bool{}
	for i := range f.e.Identities {
		id := f.e.Identities[i].ID
		if id.Kind == model.Group || f.untouched(id) {
			continue
		}
		for _, h := range f.x.Holdings(id) {
			g := h.Grant
			if g.To.Open() {
				continue
			}
			r := f.of(g)
			x := gauge.Finding{Identity: id, Grant: r, Standing: f.res.Of(id), Danger: r.Danger}
			if id.Kind == model.External && h.Perms.Count() > 0 {
				y := x
				y.Kind, y.Severity = Outsider, gauge.Low
				if f.highest(h.Perms) >= model.Change {
					y.Severity = gauge.High
				}
				f.add(y, g.ID)
			}
			if id.Kind == model.Workload && f.hands(h.Perms) && f.standing(g) && !f.admin[g.ID] {
				y := x
				y.Kind, y.Severity = WorkloadHands, gauge.High
				f.add(y, g.ID)
			}
			if g.To == id && h.Blocked > 0 && h.Perms.Count() == 0 {
				y := x
				y.Kind, y.Danger = DeadGrant, 0
				f.add(y, g.ID)
			}
		}
	}
	for i := range f.e.Grants {
		g := &f.e.Grants[i]
		sets := f.in.Engine.GrantSets(g)
		role, ok := f.role(g.Role)
		if counted[g.Role] && g.Role != "" || ok && role.Builtin || f.untouched(g.To) || !slices.ContainsFunc(sets, wild) {
			continue
		}
		counted[g.Role] = true
		r := f.of(g)
		f.add(gauge.Finding{Kind: Wildcard, Identity: g.To, Grant: r, Standing: f.res.Of(g.To), Danger: r.Danger}, g.ID)
	}
}

func (f *finder) role(name string) (model.Role, bool) {
	i := slices.IndexFunc(f.e.Roles, func(r model.Role) bool { return r.Name == name })
	if i < 0 {
		return model.Role{}, false
	}
	return f.e.Roles[i], true
}

// wild reports whether rights hold everything of a service, known or not.
func wild(r model.Rights) bool {
	return slices.ContainsFunc(r.Do, func(p model.PermissionPattern) bool { return p.Contains(p.Service()) })
}

func (f *finder) of(g *model.Grant) *gauge.GrantResult {
	if r := f.by[g.ID]; r != nil {
		return r
	}
	return &gauge.GrantResult{Grant: g}
}

func (f *finder) highest(perms engine.Bits) model.Level {
	top := model.LevelUnset
	for i := range perms.All() {
		top = max(top, f.x.Level(i))
	}
	return top
}

// hands reports whether some permissions let their holder hand out rights.
func (f *finder) hands(perms engine.Bits) bool {
	for i := range perms.All() {
		if f.x.Permission(i).Escalates == model.EditGrants {
			return true
		}
	}
	return false
}

// standing reports whether a grant holds day and night.
func (f *finder) standing(g *model.Grant) bool {
	c := g.Condition()
	return c.Until.IsZero() && c.Hours == nil
}

// denials finds those that refuse nothing that anybody whom they name is granted.
func (f *finder) denials() {
	for i := range f.e.Denials {
		d := &f.e.Denials[i]
		set := f.in.Engine.SetPerms([]model.Rights{d.Rights})
		spared := f.everybody(d.Unless)
		refuses := false
		for id := range f.everybody(d.To) {
			if spared[id] {
				continue
			}
			for _, s := range f.in.Engine.Closure(id) {
				for _, j := range f.in.Engine.GrantsTo(s.ID) {
					g := &f.e.Grants[j]
					perms := f.in.Engine.GrantPerms(g)
					perms.And(set)
					refuses = refuses || perms.Count() > 0 && slices.ContainsFunc(g.Where, func(p model.PathPattern) bool { return slices.ContainsFunc(d.Where, p.Overlaps) })
				}
			}
			if refuses {
				break
			}
		}
		if !refuses {
			who := model.ID{Kind: model.Everyone}
			if len(d.To) > 0 {
				who = d.To[0]
			}
			f.add(gauge.Finding{Kind: IdleDenial, Identity: who, Rule: d.ID}, d.ID)
		}
	}
}

// everybody returns some identities with everybody in them.
func (f *finder) everybody(ids []model.ID) map[model.ID]bool {
	out := map[model.ID]bool{}
	for _, id := range ids {
		if n, ok := f.x.Number(id); ok {
			f.x.Members(n, func(i int) { out[f.x.ID(i)] = true })
		}
	}
	return out
}

// ceilings finds those whose identity has nothing above them.
func (f *finder) ceilings() {
	for i := range f.e.Ceilings {
		c := &f.e.Ceilings[i]
		admitted := f.in.Engine.SetPerms([]model.Rights{c.Rights})
		above := false
		for _, s := range f.in.Engine.Closure(c.Of) {
			for _, j := range f.in.Engine.GrantsTo(s.ID) {
				g := &f.e.Grants[j]
				perms := f.in.Engine.GrantPerms(g)
				inside := !slices.ContainsFunc(g.Where, func(p model.PathPattern) bool { return !model.PathPatternsContain(c.Where, p) })
				above = above || perms.Count() > 0 && (!inside || !perms.Subset(admitted))
			}
		}
		if !above {
			f.add(gauge.Finding{Kind: IdleCeiling, Identity: c.Of, Rule: c.ID}, c.ID)
		}
	}
}

// chains finds who gets to somebody that can hand out rights by acting as others more
// than once.
func (f *finder) chains() {
	for i := range f.e.Identities {
		id := f.e.Identities[i].ID
		if id.Kind == model.Group || f.untouched(id) {
			continue
		}
		own := f.in.Weights.Danger(f.pairs(id))
		var worst gauge.Finding
		for _, m := range f.x.Masks(id) {
			if gain := f.in.Weights.Danger(f.pairs(m.ID)) - own; len(m.Steps) > 1 && gain > worst.Danger {
				worst = gauge.Finding{Kind: ActAsChain, Identity: id, Standing: f.res.Of(id), Danger: gain, Severity: gauge.Medium, Chain: append([]model.ID{id}, steps(m)...)}
			}
		}
		if worst.Danger > 0 {
			f.add(worst, "")
		}
	}
}

func steps(m engine.Mask) []model.ID {
	out := make([]model.ID, len(m.Steps))
	for i, s := range m.Steps {
		out[i] = s.To
	}
	return out
}

func (f *finder) pairs(id model.ID) gauge.Pairs {
	var out gauge.Pairs
	for l, n := range f.walk.Totals(id).Pairs {
		out[l] = int(n)
	}
	return out
}

// escalation finds who can make itself administrator, and nodes with many of them.
func (f *finder) escalation(nodes []model.Path) {
	if len(nodes) == 0 {
		return
	}
	g := escalate.New(f.x, nodes)
	told := map[int]bool{}
	before := map[model.Path]int{}
	levels := gauge.Pairs{} // permissions of the catalogue
	for i := range f.x.Numbers() {
		levels[f.x.Level(i)]++
	}
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
			f.add(gauge.Finding{Kind: Administrators, Identity: model.ID{}, Node: node, Count: count, Severity: gauge.Medium}, node.String())
		}
		for _, r := range g.CanBecome(n) {
			id := f.x.ID(r.Identity)
			if told[r.Identity] || f.untouched(id) {
				continue // the top-most node, which comes first, says it
			}
			told[r.Identity] = true
			all, below := levels, f.x.Within([]model.PathPattern{node.Below()})
			for l := range all {
				all[l] *= below
			}
			f.add(gauge.Finding{Kind: Escalation, Identity: id, Standing: f.res.Of(id), Node: node, Severity: gauge.High, Danger: f.in.Weights.Danger(all), Count: len(r.Steps)}, node.String())
		}
	}
}
