package index

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// Layers are the rules that take away from one identity, whatever the call. They are not for
// several goroutines.
type Layers struct {
	refused  map[model.Path][]layer // by unconditional denials and guardrails, by where they are anchored
	loose    []layer                // that are anchored nowhere
	ceilings []layer                // what they admit
	last     model.PathPattern      // asked about, and what of refused may hold it
	near     []layer
}

type layer struct {
	perms access.Set
	where []model.PathPattern
}

// refuse notes permissions that are refused on places.
func (l *Layers) refuse(perms access.Set, where []model.PathPattern) {
	for i, on := range where {
		of := layer{perms, where[i : i+1]}
		if at, ok := on.Anchor(); ok {
			l.refused[at] = append(l.refused[at], of)
		} else {
			l.loose = append(l.loose, of)
		}
	}
}

// at returns what may refuse something on all of a place: that lies inside what is anchored
// at or above its own anchor, or nowhere.
func (l *Layers) at(on model.PathPattern) []layer {
	if on != l.last {
		l.last, l.near = on, append(l.near[:0], l.loose...)
		for at, ok := on.Anchor(); ok; at, ok = at.Parent() {
			l.near = append(l.near, l.refused[at]...)
		}
	}
	return l.near
}

// Layers returns the denials, guardrails and ceilings of an identity that hang on no
// condition.
func (x *Index) Layers(id model.ID) *Layers {
	s := x.scratch()
	defer x.pool.Put(s)
	x.closure(s, id)
	out := &Layers{refused: map[model.Path][]layer{}}
	for _, n := range s.ids {
		if n == none {
			continue
		}
		for d, j := x.denied.of(int(n)), 0; j < d.len(); j++ {
			i := int(d.at(j))
			if dn := x.denials.at(i); dn.When.IsZero() && s.meets(x.denialBut.of(i)) < 0 {
				out.refuse(x.sharedSet(x.denialSet.at(i)), dn.Where)
			}
		}
	}
	for i := range x.railSet.len() {
		if x.railSet.at(i) != none && s.meets(x.railBut.of(i)) < 0 {
			out.refuse(x.sharedSet(x.railSet.at(i)), []model.PathPattern{x.guardrails.at(i).Node.Below()})
		}
	}
	if s.ids[0] != none {
		for of, j := x.ceilings.of(int(s.ids[0])), 0; j < of.len(); j++ {
			c := int(of.at(j))
			out.ceilings = append(out.ceilings, layer{x.sharedSet(x.ceilSet.at(c)), x.ceils.at(c).Where})
		}
	}
	return out
}

// Admit reports whether the layers let a permission through anywhere on a place.
func (l *Layers) Admit(perm int, on model.PathPattern) bool {
	var refused []model.PathPattern
	for _, r := range l.at(on) {
		if r.perms.Has(perm) {
			refused = append(refused, r.where...)
		}
	}
	return !model.PathPatternsContain(refused, on) && !slices.ContainsFunc(l.ceilings, func(c layer) bool {
		return !c.perms.Has(perm) || !slices.ContainsFunc(c.where, on.Overlaps)
	})
}
