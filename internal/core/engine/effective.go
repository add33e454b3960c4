package engine

import (
	"slices"

	"clipfence/internal/core/model"
)

// A Sweep answers for all permissions of the catalogue at once what [Engine.Decide]
// answers for one, with nothing known about the call: rules as bitmaps, made once, and
// algebra on them. It may be used by several goroutines.
type Sweep struct {
	g          *Engine
	grants     []Bits
	denials    []Bits
	guardrails []Bits // what they refuse
	ceilings   []Bits // what they admit
	all        Bits
}

// NewSweep prepares the rules of an engine's estate.
func NewSweep(g *Engine) *Sweep {
	e := g.Estate
	n := len(e.Catalogue)
	s := &Sweep{g: g, all: NewBits(n)}
	for i := range n {
		s.all.Set(i)
	}
	roles := map[string]Bits{}
	for i := range e.Grants {
		gr := &e.Grants[i]
		if gr.Role == "" {
			s.grants = append(s.grants, g.GrantPerms(gr))
			continue
		}
		b, ok := roles[gr.Role]
		if !ok {
			b = g.GrantPerms(gr)
			roles[gr.Role] = b
		}
		s.grants = append(s.grants, b)
	}
	one := func(p model.Rights) Bits { return g.SetPerms([]model.Rights{p}) }
	for _, d := range e.Denials {
		s.denials = append(s.denials, one(d.Rights))
	}
	for _, r := range e.Guardrails {
		refused := s.all.Clone()
		refused.AndNot(one(r.Rights))
		s.guardrails = append(s.guardrails, refused)
	}
	for _, c := range e.Ceilings {
		s.ceilings = append(s.ceilings, one(c.Rights))
	}
	return s
}

// Effective returns which permissions an identity of a closure has at a path whatever
// the call, and which only under conditions. The two are disjoint.
func (s *Sweep) Effective(closure []Standing, path model.Path) (certain, conditional Bits) {
	e := s.g.Estate
	for _, st := range closure {
		if slices.Contains(e.Semantics.Bypass, st.ID) {
			return s.all.Clone(), NewBits(len(e.Catalogue))
		}
	}
	ctx := model.Context{}
	if n, ok := s.g.Node(path); ok {
		if ctx.Labels = n.Labels; ctx.Labels == nil {
			ctx.Labels = map[string]string{}
		}
	}
	certain, conditional = NewBits(len(e.Catalogue)), NewBits(len(e.Catalogue))
	for _, st := range closure {
		for _, i := range s.g.grantsTo[st.ID] {
			gr := &e.Grants[i]
			if !gr.Covers(path) {
				continue
			}
			switch met, _ := gr.Condition().Eval(ctx); met {
			case model.True:
				certain.Or(s.grants[i])
			case model.Open:
				conditional.Or(s.grants[i])
			}
		}
	}
	refused, perhaps := NewBits(len(e.Catalogue)), NewBits(len(e.Catalogue))
	for i := range e.Denials {
		d := &e.Denials[i]
		if !anyMatches(d.On, path) || meets(closure, d.To) < 0 || meets(closure, d.Unless) >= 0 {
			continue
		}
		switch met, _ := d.When.Eval(ctx); met {
		case model.True:
			refused.Or(s.denials[i])
		case model.Open:
			perhaps.Or(s.denials[i])
		}
	}
	for i := range e.Guardrails {
		if r := &e.Guardrails[i]; r.Node.Covers(path) && meets(closure, r.Unless) < 0 {
			refused.Or(s.guardrails[i])
		}
	}
	for _, i := range s.g.ceilingsOf[closure[0].ID] {
		if !anyMatches(e.Ceilings[i].On, path) {
			refused.Or(s.all)
			break
		}
		over := s.all.Clone()
		over.AndNot(s.ceilings[i])
		refused.Or(over)
	}
	certain.AndNot(refused)
	conditional.AndNot(refused)
	// What a condition may refuse is only perhaps allowed.
	for i := range certain.All() {
		if perhaps.Has(i) {
			conditional.Set(i)
			certain.Clear(i)
		}
	}
	conditional.AndNot(certain)
	return certain, conditional
}
