package gauge

import (
	"cmp"
	"math"
	"slices"
	"sort"
	"strings"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// Weights are the danger of one permission of each level on one node, indexed by
// [model.Level].
type Weights [model.HandOut + 1]float64

// DefaultWeights are used where the configuration says nothing.
var DefaultWeights = Weights{model.See: 1, model.Read: 2, model.Change: 6, model.Administer: 20, model.HandOut: 60}

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
	g      *engine.Engine
	paths  []model.Path     // of the inventory, in depth-first order
	kinds  map[string][]int // where in paths the nodes of a kind stand
	leaves []int            // where those stand that nothing lies below
	spans  map[string][]span
	asked  map[list][]span              // the same by the lists themselves, which nobody changes
	one    map[model.PathPattern][]span // the same of lists of one
}

// list tells a list of places from any other.
type list struct {
	first *model.PathPattern
	n     int
}

// A span is an interval of paths; spans of one list neither meet nor overlap.
type span struct{ from, to int }

// NewScale returns a scale for an estate.
func NewScale(g *engine.Engine) *Scale {
	s := &Scale{g: g, kinds: map[string][]int{}, spans: map[string][]span{}, asked: map[list][]span{}, one: map[model.PathPattern][]span{}}
	for i := range g.Estate.Nodes {
		s.paths = append(s.paths, g.Estate.Nodes[i].Path)
	}
	slices.SortFunc(s.paths, model.Path.Compare)
	s.paths = slices.Compact(s.paths)
	for i, p := range s.paths {
		kind, _ := p.Last()
		s.kinds[kind] = append(s.kinds[kind], i)
		if i+1 == len(s.paths) || !p.Covers(s.paths[i+1]) {
			s.leaves = append(s.leaves, i)
		}
	}
	return s
}

// Nodes returns how many nodes of the inventory a permission reaches on places;
// at least one, because places hold more than the inventory lists.
func (s *Scale) Nodes(c model.CatalogueEntry, on []model.PathPattern) int {
	spans := s.on(on)
	n := 0
	if len(c.Kinds) == 0 {
		for _, x := range spans {
			n += x.to - x.from
		}
	}
	for _, k := range c.Kinds {
		n += within(s.kinds[k], spans)
	}
	return max(1, n)
}

// Apart reports whether a permission can be used on a node of the inventory that a
// pattern holds and that lies at or below none of some nodes. Of a permission that can be
// used on any kind of node those count that nothing lies below.
func (s *Scale) Apart(c model.CatalogueEntry, on model.PathPattern, from []model.Path) bool {
	var out []span
	for _, p := range from {
		out = append(out, s.below(p))
	}
	rest := without(s.on([]model.PathPattern{on}), merged(out))
	if len(c.Kinds) == 0 {
		return within(s.leaves, rest) > 0
	}
	return slices.ContainsFunc(c.Kinds, func(k string) bool { return within(s.kinds[k], rest) > 0 })
}

// on returns where the nodes stand that places hold.
func (s *Scale) on(places []model.PathPattern) []span {
	if len(places) == 0 {
		return nil
	}
	at := list{&places[0], len(places)}
	var spans []span
	ok := false
	if len(places) == 1 {
		spans, ok = s.one[places[0]]
	} else {
		spans, ok = s.asked[at]
	}
	if ok {
		return spans
	}
	if len(places) == 1 {
		spans = s.find(places)
		s.one[places[0]] = spans
		return spans
	}
	var b strings.Builder
	for _, p := range places {
		b.WriteString(p.String())
		b.WriteByte(' ')
	}
	key := b.String()
	if spans, ok = s.spans[key]; ok {
		s.asked[at] = spans
		return spans
	}
	spans = s.find(places)
	s.spans[key], s.asked[at] = spans, spans
	return spans
}

func (s *Scale) find(places []model.PathPattern) (spans []span) {
	for _, p := range places {
		all := span{0, len(s.paths)}
		anchor, anchored := p.Anchor()
		if anchored {
			all = s.below(anchor)
		}
		switch _, exact := p.Node(); {
		case exact && p.Deep():
			spans = append(spans, all)
		case exact:
			if all.from < all.to && s.paths[all.from] == anchor {
				spans = append(spans, span{all.from, all.from + 1})
			}
		default:
			for i := all.from; i < all.to; i++ {
				if p.Matches(s.paths[i]) {
					spans = append(spans, span{i, i + 1})
				}
			}
		}
	}
	return merged(spans)
}

// below returns where a node and everything below it stand.
func (s *Scale) below(p model.Path) span {
	from, _ := slices.BinarySearchFunc(s.paths, p, model.Path.Compare)
	return span{from, from + sort.Search(len(s.paths)-from, func(i int) bool { return !p.Covers(s.paths[from+i]) })}
}

// merged sorts spans and joins those that meet or overlap.
func merged(spans []span) []span {
	slices.SortFunc(spans, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	var out []span
	for _, x := range spans {
		if n := len(out); n > 0 && x.from <= out[n-1].to {
			out[n-1].to = max(out[n-1].to, x.to)
		} else if x.from < x.to {
			out = append(out, x)
		}
	}
	return out
}

// without returns what is left of some spans when others are taken out.
func without(spans, gone []span) []span {
	var out []span
	for _, x := range spans {
		for _, g := range gone {
			if g.to <= x.from || g.from >= x.to {
				continue
			}
			if x.from < g.from {
				out = append(out, span{x.from, g.from})
			}
			x.from = g.to
			if x.from >= x.to {
				break
			}
		}
		if x.from < x.to {
			out = append(out, x)
		}
	}
	return out
}

// within counts the numbers of a sorted list that lie in spans.
func within(sorted []int, spans []span) int {
	n := 0
	for _, x := range spans {
		from, _ := slices.BinarySearch(sorted, x.from)
		to, _ := slices.BinarySearch(sorted, x.to)
		n += to - from
	}
	return n
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
	Where []model.PathPattern
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
					on = append(on, x.Where...)
				}
			}
			places[string(sig)] = on
		}
		p[c.Weighs()] += s.Nodes(c, on)
	}
	return p
}
