package index

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// Layers are the rules that take away from one identity, whatever the call.
type Layers struct {
	refused  []layer // by unconditional denials and guardrails
	ceilings []layer // what they admit
}

type layer struct {
	perms access.Set
	where []model.PathPattern
}

// Layers returns the denials, guardrails and ceilings of an identity that hang on no
// condition.
func (x *Index) Layers(id model.ID) *Layers {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	out := &Layers{}
	set := func(n uint32) access.Set {
		perms := x.NewSet()
		x.bits(n, perms)
		return perms
	}
	for _, n := range s.ids {
		if n == none {
			continue
		}
		for d, j := x.denied.of(int(n)), 0; j < d.len(); j++ {
			i := int(d.at(j))
			if dn := x.denials.at(i); dn.When.IsZero() && s.meets(x.denialBut.of(i)) < 0 {
				out.refused = append(out.refused, layer{set(x.denialSet.at(i)), dn.Where})
			}
		}
	}
	for i := range x.railSet.len() {
		if x.railSet.at(i) != none && s.meets(x.railBut.of(i)) < 0 {
			out.refused = append(out.refused, layer{set(x.railSet.at(i)),
				[]model.PathPattern{x.guardrails.at(i).Node.Below()}})
		}
	}
	if s.ids[0] != none {
		for of, j := x.ceilings.of(int(s.ids[0])), 0; j < of.len(); j++ {
			c := int(of.at(j))
			out.ceilings = append(out.ceilings, layer{set(x.ceilSet.at(c)), x.ceils.at(c).Where})
		}
	}
	return out
}

// Admit reports whether the layers let a permission through anywhere on a place.
func (l *Layers) Admit(perm int, on model.PathPattern) bool {
	var refused []model.PathPattern
	for _, r := range l.refused {
		if r.perms.Has(perm) {
			refused = append(refused, r.where...)
		}
	}
	return !model.PathPatternsContain(refused, on) && !slices.ContainsFunc(l.ceilings, func(c layer) bool {
		return !c.perms.Has(perm) || !slices.ContainsFunc(c.where, on.Overlaps)
	})
}
