package gauge

import (
	"math"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// Weights are the danger of one permission of each level on one node, indexed by
// [model.Level].
type Weights [model.HandOut + 1]float64

// DefaultWeights are used where the configuration says nothing.
var DefaultWeights = Weights{model.List: 1, model.Read: 2, model.Write: 6, model.Administer: 20, model.HandOut: 60}

// Pairs counts pairs of permission and node by the level they weigh as.
type Pairs [model.HandOut + 1]int

// Danger sums weights over pairs.
func (w Weights) Danger(p Pairs) float64 {
	d := 0.0
	for l, n := range p {
		d += w[l] * math.Log2(1+float64(n))
	}
	return d
}

// A Scale counts nodes for places, by kind, once per list of patterns.
type Scale struct {
	g     *engine.Engine
	kinds map[string]map[string]int
}

// NewScale returns a scale for an estate.
func NewScale(g *engine.Engine) *Scale { return &Scale{g, map[string]map[string]int{}} }

// Nodes returns how many nodes of the inventory a permission reaches on places;
// at least one, because places hold more than the inventory lists.
func (s *Scale) Nodes(c model.CatalogueEntry, on []model.PathPattern) int {
	key := ""
	for _, p := range on {
		key += p.String() + " "
	}
	byKind, ok := s.kinds[key]
	if !ok {
		byKind = map[string]int{}
		for _, n := range s.g.Estate.Nodes {
			for _, p := range on {
				if p.Matches(n.Path) {
					kind, _ := n.Path.Last()
					byKind[kind]++
					byKind["*"]++
					break
				}
			}
		}
		s.kinds[key] = byKind
	}
	if len(c.Kinds) == 0 {
		return max(1, byKind["*"])
	}
	n := 0
	for _, k := range c.Kinds {
		n += byKind[k]
	}
	return max(1, n)
}

// Pairs counts the pairs of a set of permissions on places.
func (s *Scale) Pairs(perms engine.Bits, on []model.PathPattern) Pairs {
	var p Pairs
	for i := range perms.All() {
		c := s.g.Estate.Catalogue[i]
		p[c.Weighs()] += s.Nodes(c, on)
	}
	return p
}

// A Part is some permissions on some places.
type Part struct {
	Perms engine.Bits
	On    []model.PathPattern
}

// Union counts the distinct pairs of all parts together: what two parts both give
// counts once.
func (s *Scale) Union(parts []Part) Pairs {
	var p Pairs
	places := map[string][]model.PathPattern{} // by which parts give a permission
	sig := make([]byte, len(parts))
	for i, c := range s.g.Estate.Catalogue {
		hit := false
		for j, x := range parts {
			sig[j] = '0'
			if x.Perms.Has(i) {
				sig[j] = '1'
				hit = true
			}
		}
		if !hit {
			continue
		}
		on, ok := places[string(sig)]
		if !ok {
			for j, x := range parts {
				if sig[j] == '1' {
					on = append(on, x.On...)
				}
			}
			places[string(sig)] = on
		}
		p[c.Weighs()] += s.Nodes(c, on)
	}
	return p
}
