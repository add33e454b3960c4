package judge

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/model"
)

// TestOneAlone: what somebody can become and give itself is the same, step for step, whether it is asked of it alone
// or once everybody was worked out, on random estates and after an edit. Whoever is asked about alone is asked in
// a graph that nobody was asked about before, or only some.
func TestOneAlone(t *testing.T) {
	further, conditional, groups := 0, 0, 0
	for seed := range uint64(max(1500, estates(t))) {
		e := escalating(t, 640_000+seed)
		r := rand.New(rand.NewPCG(seed, 41))
		for i := range e.Catalogue {
			if c := &e.Catalogue[i]; c.Escalates != "" && r.IntN(3) == 0 {
				c.Escalates, c.Kinds = []string{model.EditRole, model.LiftDenial}[r.IntN(2)], nil
			}
		}
		for i := range e.Grants {
			if r.IntN(3) == 0 {
				e.Grants[i].When.SecondFactor = true
			}
		}
		if r.IntN(4) == 0 {
			e.Semantics.Bypass = []model.ID{e.Identities[r.IntN(len(e.Identities))].ID}
		}
		x := built(t, e)
		if r.IntN(2) == 0 {
			var d access.Edit
			for _, g := range e.Grants {
				if r.IntN(6) == 0 {
					d.Gone.Grants = append(d.Gone.Grants, g.ID)
				}
			}
			var err error
			if x, err = x.With(d); err != nil {
				t.Fatal(err)
			}
		}
		var nodes []model.Path
		for _, n := range e.Nodes[:1+r.IntN(len(e.Nodes))] {
			nodes = append(nodes, n.Path)
		}
		all := escalate.New(x, nodes)
		all.States() // everybody
		few := escalate.New(x, nodes)
		for _, i := range r.Perm(x.Identities()) {
			if i%3 == 0 {
				few = escalate.New(x, nodes)
			}
			want := alone(x, all, i)
			if got := alone(x, few, i); got != want {
				t.Fatalf("seed %d, %s: alone %s\nwith everybody %s", seed, x.ID(i), got, want)
			}
			routes, _ := few.From(i)
			for _, to := range routes {
				further++
				for _, s := range to.Steps {
					if s.Conditional {
						conditional++
					}
				}
			}
			if x.Kind(i) == model.Group {
				groups++
			}
		}
	}
	if further < 100 || conditional < 10 || groups < 100 {
		t.Errorf("%d can be become, %d steps under a condition, %d groups: too plain to say much", further,
			conditional, groups)
	}
}

// alone writes down what is within reach of an identity or a group.
func alone(x *index.Index, g *escalate.Graph, i int) string {
	become, anybody := g.Closure(i)
	routes, how := g.From(i)
	own := ""
	for _, extra := range g.Own(i) {
		group := "alone"
		if extra.Group != nil {
			group = x.ID(*extra.Group).String()
		}
		own += fmt.Sprint(group, extra.Ceilings, extra.Guardrails, extra.Denials, extra.Spans, "; ")
	}
	text := fmt.Sprint(become, anybody, " own ", own)
	if how != nil {
		routes = append(routes, *how)
	}
	for _, r := range routes {
		text += fmt.Sprintf("\n%d", r.Identity)
		for _, s := range r.Steps {
			edge := ""
			if s.Edge != nil {
				edge, s.Edge = s.Edge.ID, nil
			}
			text += fmt.Sprintf(" %+v %s", s, edge)
		}
	}
	return text
}
