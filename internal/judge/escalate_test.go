package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// escalating returns a random estate some of whose permissions let their holders give
// themselves more.
func escalating(t testing.TB, seed uint64) *model.Estate {
	g := newRandom(seed)
	e := g.estate(t)
	r := rand.New(rand.NewPCG(seed, 99))
	for i := range e.Catalogue {
		if r.IntN(4) == 0 {
			e.Catalogue[i].Escalates = model.Escalations[r.IntN(len(model.Escalations))]
			if r.IntN(4) == 0 {
				e.Catalogue[i].Kinds = []string{[]string{"org", "p", "q"}[r.IntN(3)]}
				if r.IntN(2) == 0 {
					e.Catalogue[i].Kinds = append(e.Catalogue[i].Kinds, e.Catalogue[i].Permission.Noun())
				}
			}
		}
	}
	who := append(append([]string{}, g.people...), g.groups...)
	for i := range r.IntN(4) {
		e.ActAs = append(e.ActAs, model.ActAs{ID: fmt.Sprintf("a-%d", i), From: model.MustID(g.pick(who)),
			To: model.MustID(g.pick(g.people))})
	}
	for i := range e.Nodes {
		if r.IntN(3) == 0 {
			e.Nodes[i].RunsAs = model.MustID(g.pick(g.people))
		}
	}
	return e
}

// oracle works out who can become administrator of a node by doing it: it edits the
// estate, step by step, and asks the plain engine.
type oracle struct {
	e    *model.Estate
	tops []model.Path
	ids  []model.ID
	memo map[model.ID]*deeds
}

// deeds is what somebody can do by itself.
type deeds struct {
	admin   map[model.Path]bool
	already map[model.Path]bool
	becomes map[model.ID]bool
	worlds  []*plain.Engine // as what it may do what it may
}

func newOracle(e *model.Estate) *oracle {
	o := &oracle{e: e, memo: map[model.ID]*deeds{}, ids: []model.ID{{Kind: model.Everyone}, {Kind: model.SignedIn}}}
	for _, i := range e.Identities {
		if i.ID.Kind != model.Group {
			o.ids = append(o.ids, i.ID)
		}
	}
	for _, n := range e.Nodes {
		if !slices.ContainsFunc(e.Nodes, func(m model.Node) bool {
			return m.Path != n.Path &&
				m.Path.Covers(n.Path)
		}) {
			o.tops = append(o.tops, n.Path)
		}
	}
	return o
}

func usable(c model.CatalogueEntry, at model.Path) bool {
	kind, _ := at.Last()
	noun, _, _ := strings.Cut(strings.TrimPrefix(c.Permission.String(), c.Permission.Service()+"/"), ":")
	if slices.Contains(c.Kinds, noun) {
		return kind == noun
	}
	return len(c.Kinds) == 0 || slices.Contains(c.Kinds, kind)
}

func (o *oracle) by(id model.ID) *deeds {
	if d := o.memo[id]; d != nil {
		return d
	}
	d := &deeds{admin: map[model.Path]bool{}, already: map[model.Path]bool{}, becomes: map[model.ID]bool{}}
	o.memo[id] = d
	e := *o.e
	joins, noCeiling, noRail := false, false, false
	edited, lifted := map[string]bool{}, map[string]bool{}
	granted := map[model.Path]bool{} // places on which it gave itself everything
	var unDeny []model.CatalogueEntry
	for _, c := range e.Catalogue {
		if c.Escalates == model.LiftDenial {
			unDeny = append(unDeny, c)
		}
	}
	for round := 0; ; round++ {
		changed := false
		note := func(b *bool) {
			if !*b {
				*b, changed = true, true
			}
		}
		now := e
		if noCeiling {
			now.Ceilings = nil
		}
		if noRail {
			now.Guardrails = nil
		}
		now.Denials = slices.DeleteFunc(slices.Clone(e.Denials), func(d model.Denial) bool { return lifted[d.ID] })
		// What it is, and what it is as a member of one more group.
		worlds := []*plain.Engine{plain.New(&now)}
		if joins {
			for _, i := range e.Identities {
				if i.ID.Kind == model.Group {
					as := now
					as.Memberships = append(slices.Clone(now.Memberships), model.Membership{Member: id, Group: i.ID})
					worlds = append(worlds, plain.New(&as))
				}
			}
		}
		for _, g := range worlds {
			may := func(c model.CatalogueEntry, at model.Path) bool {
				return usable(c, at) && g.Decide(id, c.Permission, at, model.Context{}).Outcome != access.Denied
			}
			for _, s := range g.Closure(id) {
				for _, a := range e.ActAs {
					if a.From == s.ID {
						d.becomes[a.To] = true
					}
				}
			}
			for _, c := range e.Catalogue {
				for _, n := range e.Nodes {
					for at, ok := n.Path, true; ok && c.Escalates == model.EditGrants; at, ok = at.Parent() {
						if !may(c, at) {
							continue
						}
						if !granted[at] {
							granted[at], changed = true, true
							e.Grants = append(slices.Clone(e.Grants),
								model.Grant{ID: "own", To: id,
									Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(
										"*")}}, Where: []model.PathPattern{at.Below()}})
						}
						d.admin[n.Path] = true
						if round == 0 {
							d.already[n.Path] = true
						}
					}
					if c.Escalates == model.RunAs && !n.RunsAs.IsZero() && may(c, n.Path) {
						d.becomes[n.RunsAs] = true
					}
				}
				if c.Escalates == model.LiftDenial {
					for i := range e.Denials {
						if !lifted[e.Denials[i].ID] &&
							!slices.ContainsFunc(e.Denials[i].Where,
								func(on model.PathPattern) bool { return !mayAnywhere(worlds, id, unDeny, on) }) {
							lifted[e.Denials[i].ID], changed = true, true
						}
					}
				}
				for _, top := range o.tops {
					if !may(c, top) {
						continue
					}
					switch c.Escalates {
					case model.JoinGroup:
						note(&joins)
					case model.MintCredential, model.RunAs:
						for _, other := range o.ids {
							d.becomes[other] = true
						}
					case model.LiftCeiling:
						note(&noCeiling)
					case model.LiftGuardrail:
						note(&noRail)
					case model.EditRole:
						for _, s := range g.Closure(id) {
							for _, gr := range o.e.Grants {
								if gr.To != s.ID || gr.Role == "" || edited[gr.ID] {
									continue
								}
								edited[gr.ID], changed = true, true
								for _, n := range e.Nodes {
									ctx := model.Context{Labels: n.Labels}
									if ctx.Labels == nil {
										ctx.Labels = map[string]string{}
									}
									if met, _ := gr.Condition().Eval(ctx); gr.Covers(n.Path) && met != model.False &&
										!d.admin[n.Path] {
										d.admin[n.Path] = true // of this node, not of what is below
										e.Grants = append(slices.Clone(e.Grants),
											model.Grant{ID: "own", To: id,
												Rights: model.Rights{Do: []model.PermissionPattern{
													model.MustPermissionPattern("*")}},
												Where: []model.PathPattern{n.Path.Exactly()}})
									}
								}
							}
						}
					}
				}
			}
		}
		if d.worlds = worlds; !changed {
			return d
		}
	}
}

// mayAnywhere reports whether somebody may use one of some permissions at the node that
// a place hangs on, in one of some worlds.
func mayAnywhere(worlds []*plain.Engine, id model.ID, perms []model.CatalogueEntry, on model.PathPattern) bool {
	at, ok := on.Anchor()
	return ok && slices.ContainsFunc(worlds, func(g *plain.Engine) bool {
		return slices.ContainsFunc(perms, func(c model.CatalogueEntry) bool {
			return usable(c, at) && g.Decide(id, c.Permission, at, model.Context{}).Outcome != access.Denied
		})
	})
}

// can returns who is administrator of a node and who can become one.
func (o *oracle) can(node model.Path) (already, can []string) {
	for _, id := range o.ids {
		if o.by(id).already[node] {
			already = append(already, id.String())
			continue
		}
		seen := map[model.ID]bool{id: true}
		queue := []model.ID{id}
		for i := 0; i < len(queue); i++ {
			if d := o.by(queue[i]); d.admin[node] {
				can = append(can, id.String())
				break
			}
			for to := range o.by(queue[i]).becomes {
				if !seen[to] {
					seen[to] = true
					queue = append(queue, to)
				}
			}
		}
	}
	slices.Sort(already)
	slices.Sort(can)
	return already, can
}

// TestEscalation holds the graph against an oracle that carries the steps out.
func TestEscalation(t *testing.T) {
	routes, cuts, becomes := 0, 0, 0
	for seed := range uint64(estates(t)) {
		e := escalating(t, seed)
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		var nodes []model.Path
		for _, n := range e.Nodes {
			nodes = append(nodes, n.Path)
		}
		g := escalate.New(x, nodes)
		o := newOracle(e)
		for i, n := range nodes {
			wantAlready, wantCan := o.can(n)
			var already, can []string
			for _, a := range g.Administrators(i) {
				already = append(already, x.ID(a).String())
			}
			for _, r := range g.CanBecome(i) {
				can = append(can, x.ID(r.Identity).String())
				if last := r.Steps[len(r.Steps)-1]; last.Admin.IsZero() || !last.Admin.Covers(n) {
					t.Errorf("seed %d: the route of %s to %s ends in %+v", seed, x.ID(r.Identity), n, last)
				}
				if r.Steps[0].Who != x.ID(r.Identity) {
					t.Errorf("seed %d: the route of %s begins with %s", seed, x.ID(r.Identity), r.Steps[0].Who)
				}
				routes++
			}
			slices.Sort(already)
			slices.Sort(can)
			if !slices.Equal(already, wantAlready) || !slices.Equal(can, wantCan) {
				t.Fatalf("seed %d, %s:\nadministrators %v, want %v\ncan become %v\nwant       %v", seed, n, already,
					wantAlready, can, wantCan)
			}
		}
		becomes += fromAgrees(t, seed, e, x, g, o)
		if seed%2 == 0 {
			cuts += cutHolds(t, seed, e, nodes[:1])
		}
	}
	if !testing.Short() && (routes < 100 || cuts < 20) || routes == 0 || cuts == 0 || becomes == 0 {
		t.Errorf("%d routes, %d cuts: the estates are too plain to say much", routes, cuts)
	}
	t.Logf("%d routes, %d cuts", routes, cuts)
}

// fromAgrees asks for each identity by itself whom it can become, and as which it becomes
// administrator, and holds that against the oracle and the answers for all.
func fromAgrees(t *testing.T, seed uint64, e *model.Estate, x *index.Index, g *escalate.Graph,
	o *oracle) (becomes int) {
	t.Helper()
	all := map[model.ID][]escalate.Step{}
	for _, r := range g.CanBecome(0) {
		all[x.ID(r.Identity)] = r.Steps
	}
	administrators := g.Administrators(0)
	for _, who := range e.Identities {
		id := who.ID
		n, ok := x.Number(id)
		if !ok || id.Kind == model.Group || who.Disabled {
			continue
		}
		steps, already := g.Route(0, n)
		if !reflect.DeepEqual(steps, all[id]) || already != slices.Contains(administrators, n) {
			t.Fatalf("seed %d: %s alone: %v, already %t; among all: %v", seed, id, steps, already, all[id])
		}
		want := map[model.ID]bool{}
		for queue := []model.ID{id}; len(queue) > 0; queue = queue[1:] {
			for to := range o.by(queue[0]).becomes {
				if to != id && !want[to] {
					want[to] = true
					queue = append(queue, to)
				}
			}
		}
		routes, anybody := g.From(n)
		got := map[model.ID]bool{}
		for _, r := range routes {
			to := x.ID(r.Identity)
			got[to] = true
			if last := r.Steps[len(r.Steps)-1]; last.Becomes != to || r.Steps[0].Who != id {
				t.Fatalf("seed %d: %s becomes %s by %+v", seed, id, to, r.Steps)
			}
			if !want[to] {
				t.Fatalf("seed %d: %s cannot become %s", seed, id, to)
			}
		}
		if anybody == nil && len(got) != len(want) {
			t.Fatalf("seed %d: %s can become %v, want %v", seed, id, got, want)
		}
		if anybody != nil && len(want) < len(got) {
			t.Fatalf("seed %d: %s can become anybody, and the oracle says %v", seed, id, want)
		}
		becomes += len(got)
	}
	return becomes
}

// cutHolds takes a cut away and asks the oracle; and tries whether fewer would do.
func cutHolds(t *testing.T, seed uint64, e *model.Estate, nodes []model.Path) int {
	t.Helper()
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	g := escalate.New(x, nodes)
	one := escalate.Costs{Grant: func(*model.Grant) int64 { return 1 }, ActAs: func(*model.ActAs) int64 { return 1 }}
	cut, err := g.SmallestCut(one)
	if err != nil {
		return 0 // nothing breaks it
	}
	open := func(grants, edges []string) bool {
		less := *e
		less.Grants = slices.DeleteFunc(slices.Clone(e.Grants),
			func(x model.Grant) bool { return slices.Contains(grants, x.ID) })
		less.ActAs = slices.DeleteFunc(slices.Clone(e.ActAs),
			func(x model.ActAs) bool { return slices.Contains(edges, x.ID) })
		_, can := newOracle(&less).can(nodes[0])
		return len(can) > 0
	}
	var grants, edges []string
	for _, gr := range cut.Grants {
		grants = append(grants, gr.ID)
	}
	for _, a := range cut.ActAs {
		edges = append(edges, a.ID)
	}
	if open(grants, edges) {
		t.Errorf("seed %d: without %v %v somebody still can", seed, grants, edges)
	}
	for i := range grants {
		if !open(slices.Concat(grants[:i:i], grants[i+1:]), edges) {
			t.Errorf("seed %d: %s need not go", seed, grants[i])
		}
	}
	return len(grants) + len(edges)
}

// TestWithinReach holds what is within reach against the oracle: everything that somebody
// may do in the end, or one whom it can become, permission by permission and node by node.
// It also holds what is held against the plain engine.
func TestWithinReach(t *testing.T) {
	further := 0
	w := gauge.DefaultWeights
	for seed := range uint64(estates(t) / 2) {
		e := escalating(t, seed)
		x := built(t, e)
		o := newOracle(e)
		scale := gauge.NewScale(x, w)
		within := gauge.NewWithin(scale)
		for _, i := range e.Identities { // groups, too: what is within reach is never less than what is held
			if held, _ := scale.Held(i.ID); within.Of(i.ID).Danger < held-1e-6 {
				t.Fatalf("seed %d: %s holds %f, and less is within its reach", seed, i.ID, held)
			}
		}
		for _, id := range o.ids {
			seen := map[model.ID]bool{id: true}
			queue := []model.ID{id}
			for i := 0; i < len(queue); i++ {
				for to := range o.by(queue[i]).becomes {
					if !seen[to] {
						seen[to] = true
						queue = append(queue, to)
					}
				}
			}
			held, perms := scale.Held(id)
			got := within.Of(id)
			had, reach := 0.0, 0.0
			first := plain.New(e)
			for i := range e.Catalogue {
				c := &e.Catalogue[i]
				number, _ := x.PermNumber(c.Permission)
				n, all := 0, 0
				for _, node := range e.Nodes {
					if !applies(c, node.Path) {
						continue
					}
					may := func(g *plain.Engine, who model.ID) bool {
						return g.Decide(who, c.Permission, node.Path, model.Context{}).Outcome != access.Denied
					}
					if may(first, id) {
						n++
					}
					if slices.ContainsFunc(queue, func(who model.ID) bool {
						return slices.ContainsFunc(o.by(who).worlds, func(g *plain.Engine) bool { return may(g, who) })
					}) {
						all++
					}
				}
				if n > 0 && !perms.Has(number) {
					t.Fatalf("seed %d: %s has %s, and it is not said", seed, id, c.Permission)
				}
				if n == 0 && perms.Has(number) {
					n = 1 // on places that nobody lists
				}
				if all == 0 && slices.ContainsFunc(queue,
					func(who model.ID) bool { _, p := scale.Held(who); return p.Has(number) }) {
					all = 1
				}
				had, reach = had+w.Of(c.Weighs(), n), reach+w.Of(c.Weighs(), all)
			}
			if math.Abs(held-had) > 1e-6 {
				t.Fatalf("seed %d: %s holds %f, want %f", seed, id, held, had)
			}
			if math.Abs(got.Danger-reach) > 1e-6 {
				t.Fatalf("seed %d: within reach of %s: %f, want %f (holds %f, becomes %v)", seed, id, got.Danger,
					reach, held, queue)
			}
			if got.Further(held) {
				further++
			}
			if got.Danger < held-1e-6 || got.Becomes != len(queue)-1 {
				t.Fatalf("seed %d: %s reaches %f and holds %f; becomes %d, want %d", seed, id, got.Danger, held,
					got.Becomes, len(queue)-1)
			}
		}
	}
	if further < estates(t)/10 {
		t.Errorf("only %d get further than what they hold", further)
	}
}
