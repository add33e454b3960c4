package judge

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
)

// A sweep answers for all permissions of the catalogue at once what Decide answers for
// one, with nothing known about the call: rules as bitmaps, made once, and algebra on
// them. TestSweepAgrees holds it to Decide; it then judges the index on whole estates,
// where asking Decide for every pair would take too long.
type sweep struct {
	g          *plain.Engine
	grants     []access.Set
	denials    []access.Set
	guardrails []access.Set // what they refuse
	ceilings   []access.Set // what they admit
	all        access.Set
}

func newSweep(g *plain.Engine) *sweep {
	e := g.Estate
	n := len(e.Catalogue)
	s := &sweep{g: g, all: access.NewSet(n)}
	for i := range n {
		s.all.Add(i)
	}
	roles := map[string]access.Set{}
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
	one := func(p model.Rights) access.Set { return g.SetPerms([]model.Rights{p}) }
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

// effective returns which permissions an identity of a closure has at a path whatever
// the call, and which only under conditions. The two are disjoint.
func (s *sweep) effective(closure []access.Member, path model.Path) (certain, conditional access.Set) {
	e := s.g.Estate
	for _, st := range closure {
		if slices.Contains(e.Semantics.Bypass, st.ID) {
			return s.all.Clone(), access.NewSet(len(e.Catalogue))
		}
	}
	ctx := model.Context{}
	if n, ok := s.g.Node(path); ok {
		if ctx.Labels = n.Labels; ctx.Labels == nil {
			ctx.Labels = map[string]string{}
		}
	}
	certain, conditional = access.NewSet(len(e.Catalogue)), access.NewSet(len(e.Catalogue))
	meets := func(ids []model.ID) bool {
		return slices.ContainsFunc(closure, func(st access.Member) bool { return slices.Contains(ids, st.ID) })
	}
	for _, st := range closure {
		for _, i := range s.g.GrantsTo(st.ID) {
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
	refused, perhaps := access.NewSet(len(e.Catalogue)), access.NewSet(len(e.Catalogue))
	for i := range e.Denials {
		d := &e.Denials[i]
		if !matches(d.Where, path) || !meets(d.To) || meets(d.Unless) {
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
		if r := &e.Guardrails[i]; r.Node.Covers(path) && !meets(r.Unless) {
			refused.Or(s.guardrails[i])
		}
	}
	for i := range e.Ceilings {
		if e.Ceilings[i].Of != closure[0].ID {
			continue
		}
		if !matches(e.Ceilings[i].Where, path) {
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
			conditional.Add(i)
			certain.Remove(i)
		}
	}
	conditional.AndNot(certain)
	return certain, conditional
}

func matches(on []model.PathPattern, p model.Path) bool {
	return slices.ContainsFunc(on, func(o model.PathPattern) bool { return o.Matches(p) })
}
