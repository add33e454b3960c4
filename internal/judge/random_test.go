package judge

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/sandbox"
)

var (
	noon      = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	services  = []string{"a", "b"}
	nouns     = []string{"x", "x/y", "z"}
	verbs     = []string{"get", "set", "put"}
	networks  = []string{"10.0.0.0/8", "10.20.0.0/16", "192.0.2.0/24"}
	addresses = []string{"10.20.3.4", "10.9.9.9", "192.0.2.7", "203.0.113.5"}
)

// random is a small random estate in Mooring's words.
type random struct {
	r       *rand.Rand
	docs    map[string][]any
	world   *sandbox.World
	people  []string // everybody who can call
	groups  []string
	paths   []string // of nodes
	unknown []string // of nothing in the inventory
	perms   []string
	roles   []string
	rules   int
}

func newRandom(seed uint64) *random {
	g := &random{r: rand.New(rand.NewPCG(seed, 11)), docs: map[string][]any{}, world: sandbox.NewWorld()}
	levels := []string{"see", "read", "change", "administer", "hand-out"}
	for _, s := range services {
		for _, n := range nouns {
			for _, v := range verbs {
				p := fmt.Sprintf("%s/%s:%s", s, n, v)
				g.perms = append(g.perms, p)
				kinds := [][]string{nil, nil, {"p"}, {"q", "harbour"}, {"box"}}[len(g.perms)%5]
				g.add(sandbox.KindPermission, &sandbox.Permission{Permission: p,
					Level: levels[(2*len(g.perms)+len(g.perms)/5)%5], LogClass: "all", Kinds: kinds})
			}
		}
	}
	g.paths = []string{"/m/harbour:o"}
	for i := range 2 + g.r.IntN(6) {
		p := g.pick(g.paths) + fmt.Sprintf("/%s:%s", g.pick([]string{"p", "q"}),
			g.pick([]string{"n", "nn", "odd%2Fname", "%2A"}))
		if g.world.Nodes[p] == nil {
			g.node(p, i)
		}
	}
	g.node("/m/harbour:o", 0)
	for _, p := range g.paths {
		g.unknown = append(g.unknown, p+"/deep/er", p+"/p:new")
	}
	for i := range 3 + g.r.IntN(3) {
		g.people = append(g.people, g.identity(fmt.Sprintf("%s/i%d",
			g.pick([]string{"person", "workload", "external"}), i)))
	}
	for i := range 3 {
		g.groups = append(g.groups, g.identity(fmt.Sprintf("group/g%d", i)))
	}
	for range g.r.IntN(8) {
		g.add(sandbox.KindMembership, &sandbox.Membership{Member: g.pick(append(g.groups, g.people...)),
			Group: g.pick(g.groups)})
	}
	for i := range 3 {
		name := fmt.Sprintf("r%d", i)
		r := &sandbox.Role{Name: name, Do: g.permissions(), Except: g.maybe(g.permissions)}
		if i > 0 && g.r.IntN(3) == 0 {
			r.Includes = []string{g.pick(g.roles)}
		}
		g.roles = append(g.roles, name)
		g.add(sandbox.KindRole, r)
	}
	for range 2 + g.r.IntN(7) {
		g.add(sandbox.KindGrant, g.grant())
	}
	for range g.r.IntN(3) {
		g.add(sandbox.KindDenial, g.denial())
	}
	for range g.r.IntN(2) {
		g.add(sandbox.KindCeiling, &sandbox.Ceiling{ID: g.id("c"), Of: g.pick(g.people), Do: []string{"*"},
			Except: g.maybe(g.permissions), Where: g.places()})
		g.add(sandbox.KindGuardrail, &sandbox.Guardrail{ID: g.id("r"), Node: g.pick(g.paths),
			Do: []string{"a/*:*", g.pick(g.perms)}, Unless: g.maybe(g.crowd)})
	}
	return g
}

func (g *random) pick(xs []string) string { return xs[g.r.IntN(len(xs))] }

func (g *random) maybe(f func() []string) []string {
	if g.r.IntN(2) == 0 {
		return nil
	}
	return f()
}

func (g *random) id(kind string) string { g.rules++; return fmt.Sprintf("%s-%d", kind, g.rules) }

func (g *random) add(kind string, v any) {
	g.docs[kind] = append(g.docs[kind], v)
	g.world.Add(v)
}

func (g *random) node(p string, i int) {
	n := &sandbox.Node{Path: p}
	if i%2 == 0 {
		n.Labels = map[string]string{"tier": g.pick([]string{"gold", "tin"})}
	}
	if g.world.Nodes[p] == nil {
		g.add(sandbox.KindNode, n)
		if p != "/m/harbour:o" {
			g.paths = append(g.paths, p)
		}
	}
}

func (g *random) identity(id string) string {
	g.add(sandbox.KindIdentity, &sandbox.Identity{ID: id})
	return id
}

func (g *random) permissions() []string {
	var out []string
	for range 1 + g.r.IntN(3) {
		p := g.pick(g.perms)
		switch g.r.IntN(5) {
		case 0:
			p = g.pick([]string{"*", "a/*:*", "*/x:*", "*/*:get", "b/x*:s*", "*/*y:*"})
		}
		out = append(out, p)
	}
	return out
}

func (g *random) places() []string {
	var out []string
	for range 1 + g.r.IntN(2) {
		p := g.pick(g.paths)
		switch g.r.IntN(5) {
		case 0, 1, 2:
			p += "/**"
		case 3:
			p += "/*"
		}
		if g.r.IntN(12) == 0 {
			p = g.pick([]string{"/m/**", "/m/harbour:*/p:n*/**", "/m/*/q:*"})
		}
		out = append(out, p)
	}
	return out
}

func (g *random) crowd() []string {
	return []string{g.pick(append(append([]string{"everyone", "signed-in"}, g.groups...), g.people...))}
}

func (g *random) condition() *sandbox.Condition {
	if g.r.IntN(2) == 0 {
		return nil
	}
	c := &sandbox.Condition{}
	switch g.r.IntN(6) {
	case 0:
		c.Networks = []string{g.pick(networks)}
	case 1:
		c.SecondFactor = true
	case 2:
		c.Labels = map[string]string{"tier": "gold"}
	case 3:
		c.Until = noon.Add(time.Duration(g.r.IntN(3)-1) * time.Hour)
	case 4:
		c.Hours = &sandbox.Hours{Days: []string{"mon", "tue"}, From: g.pick([]string{"08:00", "22:00"}),
			To: g.pick([]string{"13:00", "06:00"}), Zone: g.pick([]string{"UTC", "Europe/Oslo"})}
	case 5:
		c.From, c.SecondFactor = noon.Add(-time.Hour), true
	}
	return c
}

func (g *random) grant() *sandbox.Grant {
	x := &sandbox.Grant{ID: g.id("g"), To: g.crowd()[0], Where: g.places(), When: g.condition()}
	if g.r.IntN(2) == 0 {
		x.Role = g.pick(g.roles)
	} else {
		x.Do, x.Except = g.permissions(), g.maybe(g.permissions)
	}
	if g.r.IntN(8) == 0 {
		x.Until = noon.Add(time.Duration(g.r.IntN(3)-1) * time.Hour)
	}
	return x
}

func (g *random) denial() *sandbox.Denial {
	return &sandbox.Denial{ID: g.id("d"), To: g.crowd(), Unless: g.maybe(g.crowd), Do: g.permissions(),
		Where: g.places(), When: g.condition()}
}

// question is one call with everything known about it.
type question struct {
	who, permission, path string
	ctx                   sandbox.CallContext
}

func (g *random) question() question {
	q := question{g.pick(g.people), g.pick(g.perms), g.pick(append(g.unknown, g.paths...)),
		sandbox.CallContext{Time: noon.Add(time.Duration(g.r.IntN(72)-36) * time.Hour),
			SecondFactor: g.r.IntN(2) == 0}}
	q.ctx.Network = netip.MustParseAddr(g.pick(addresses))
	return q
}

// labels returns what Mooring knows about the labels of a path: those of the
// inventory, and none for what it does not list.
func (g *random) labels(path string) map[string]string {
	if n := g.world.Nodes[path]; n != nil && n.Labels != nil {
		return n.Labels
	}
	return map[string]string{}
}

func (q question) context(labels map[string]string) model.Context {
	return model.Context{Time: q.ctx.Time, Network: q.ctx.Network, SecondFactor: model.TruthOf(q.ctx.SecondFactor),
		Labels: labels}
}

// estate carries Mooring's documents over into the model, as the bridge does.
func (g *random) estate(t testing.TB) *model.Estate {
	e := &model.Estate{Source: "m"}
	into(t, g.docs[sandbox.KindPermission], &e.Catalogue)
	into(t, g.docs[sandbox.KindNode], &e.Nodes)
	into(t, g.docs[sandbox.KindIdentity], &e.Identities)
	into(t, g.docs[sandbox.KindMembership], &e.Memberships)
	into(t, g.docs[sandbox.KindActAs], &e.ActAs)
	into(t, g.docs[sandbox.KindRole], &e.Roles)
	into(t, g.docs[sandbox.KindGrant], &e.Grants)
	into(t, g.docs[sandbox.KindDenial], &e.Denials)
	into(t, g.docs[sandbox.KindCeiling], &e.Ceilings)
	into(t, g.docs[sandbox.KindGuardrail], &e.Guardrails)
	return e
}

func into[T any](t testing.TB, docs []any, list *T) {
	t.Helper()
	b, err := json.Marshal(docs)
	if err == nil {
		err = json.Unmarshal(b, list)
	}
	if err != nil {
		t.Fatal(err)
	}
}
