package gauge

import (
	"math"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
)

// Weights are the danger of one permission of each level on one place, indexed by
// [model.Level].
type Weights [model.HandOut + 1]float64

// DefaultWeights are used where the configuration says nothing.
var DefaultWeights = Weights{model.See: 1, model.Read: 2, model.Change: 6, model.Administer: 20, model.HandOut: 60}

// Of is the danger of one permission of a level on so many places.
func (w Weights) Of(l model.Level, places int) float64 {
	if places >= 0 && places < len(logs) {
		return w[l] * logs[places]
	}
	return w[l] * math.Log2(1+float64(places))
}

// logs are log2(1 + n) of the n that are asked for most: a large estate asks some 10^9 times.
var logs = func() (out [4096]float64) {
	for n := range out {
		out[n] = math.Log2(1 + float64(n))
	}
	return out
}()

// lately keeps the last of the larger ones, which come again and again.
type lately struct {
	n  [1 << 13]int
	of [1 << 13]float64
}

// weigh returns what [Weights.Of] does.
func (k *lately) weigh(w Weights, l model.Level, places int) float64 {
	if places < len(logs) {
		return w.Of(l, places)
	}
	i := uint32(places) * 2654435769 >> 19 // Fibonacci hashing, Knuth, The Art of Computer Programming 6.4
	if k.n[i] != places {
		k.n[i], k.of[i] = places, math.Log2(1+float64(places))
	}
	return w[l] * k.of[i]
}

// A Scale measures danger on one estate, see the package comment. It is not for several
// goroutines.
type Scale struct {
	x       *index.Index
	w       Weights
	walk    *index.Walk
	logs    lately
	regions map[list]index.Region // by the lists of places, which nobody changes
	one     map[model.PathPattern]index.Region
	texts   map[string]index.Region
	held    map[model.ID]holds
}

// holds is what somebody holds: it is asked for once to be told, and once for each closure.
type holds struct {
	danger float64
	perms  access.Set // nil: forgotten
}

// list tells a list of places from any other.
type list struct {
	first *model.PathPattern
	n     int
}

// NewScale returns a scale for an estate.
func NewScale(x *index.Index, w Weights) *Scale {
	return &Scale{x: x, w: w, walk: x.NewWalk(index.Possible), regions: map[list]index.Region{},
		one: map[model.PathPattern]index.Region{}, texts: map[string]index.Region{}, held: map[model.ID]holds{}}
}

// Nodes returns on how many nodes of the inventory a permission can be used that places
// hold; at least one, because places hold more than the inventory lists.
func (s *Scale) Nodes(perm int, on []model.PathPattern) int {
	return max(1, s.x.Count(perm, s.on(on)))
}

// Dark returns on which of some places no log would have shown a use of a permission over a window.
func (s *Scale) Dark(c *usage.Coverage, perm int, where []model.PathPattern, w usage.Window) []model.PathPattern {
	p := s.x.Permission(perm)
	var out []model.PathPattern
	for _, on := range where {
		apart := func(below []model.Path) []model.PathPattern { return s.Apart(perm, on, below) }
		dark, _ := c.DarkBelow(on, p.Permission.Service(), p.LogClass, w, apart)
		out = append(out, dark...)
	}
	return out
}

// mostApart is how many places are told apart at most.
const mostApart = 64

// Apart returns places inside a pattern that hold every node of the inventory on which a
// permission can be used and that lies at or below none of some nodes: the pattern itself where
// they cannot be said in a few places. Of a permission that can be used on any kind of node
// those count that nothing lies below.
func (s *Scale) Apart(perm int, on model.PathPattern, from []model.Path) []model.PathPattern {
	var out index.Region
	for _, p := range from {
		out = append(out, s.x.Region(p.Below())...)
	}
	tops, few := s.x.Outermost(perm, s.on([]model.PathPattern{on}).AndNot(out.Or(nil)), mostApart)
	if !few || slices.ContainsFunc(tops, func(p model.PathPattern) bool { return !on.Contains(p) }) {
		return []model.PathPattern{on}
	}
	return tops
}

// on returns the nodes that places hold.
func (s *Scale) on(places []model.PathPattern) index.Region {
	switch len(places) {
	case 0:
		return nil
	case 1:
		r, ok := s.one[places[0]]
		if !ok {
			r = s.x.Region(places...)
			s.one[places[0]] = r
		}
		return r
	}
	at := list{&places[0], len(places)}
	if r, ok := s.regions[at]; ok {
		return r
	}
	var b strings.Builder
	for _, p := range places {
		b.WriteString(p.String())
		b.WriteByte(' ')
	}
	r, ok := s.texts[b.String()]
	if !ok {
		r = s.x.Region(places...)
		s.texts[b.String()] = r
	}
	s.regions[at] = r
	return r
}

// Danger measures a set of permissions on places.
func (s *Scale) Danger(perms access.Set, on []model.PathPattern) float64 {
	return s.sum(perms, s.on(on))
}

// sum measures a set of permissions in a region; permissions of one class are counted once.
func (s *Scale) sum(perms access.Set, r index.Region) float64 {
	d := 0.0
	counts := map[int]int{}
	for i := range perms.All() {
		c := s.x.Class(i)
		n, ok := counts[c]
		if !ok {
			n = max(1, s.x.CountClass(c, r))
			counts[c] = n
		}
		d += s.w.Of(s.x.Level(i), n)
	}
	return d
}

// A Part is some permissions on some places.
type Part struct {
	Perms access.Set
	Where []model.PathPattern
}

// Union measures all parts together: what two parts both give counts once.
func (s *Scale) Union(parts []Part) float64 {
	if len(parts) == 1 {
		return s.Danger(parts[0].Perms, parts[0].Where)
	}
	// Permissions that the same parts give are on the same places.
	by := map[string]access.Set{}
	var sigs []string // in the order in which they come: sums in another one differ in their last digit
	sig := make([]byte, (len(parts)+7)/8)
	for i := range s.x.Numbers() {
		clear(sig)
		hit := false
		for j, p := range parts {
			if p.Perms.Has(i) {
				sig[j/8] |= 1 << (j % 8)
				hit = true
			}
		}
		if !hit {
			continue
		}
		if by[string(sig)] == nil {
			by[string(sig)] = s.x.NewSet()
			sigs = append(sigs, string(sig))
		}
		by[string(sig)].Add(i)
	}
	d := 0.0
	for _, sig := range sigs {
		var r index.Region
		for j, p := range parts {
			if sig[j/8]>>(j%8)&1 == 1 {
				r = append(r, s.on(p.Where)...)
			}
		}
		d += s.sum(by[sig], r.Or(nil))
	}
	return d
}

// Held measures everything that an identity may do, after denials, guardrails and ceilings,
// and returns the permissions that it has, which nobody may change. Conditions are taken for
// met.
func (s *Scale) Held(id model.ID) (danger float64, perms access.Set) {
	h, ok := s.held[id]
	if !ok || h.perms == nil {
		h = s.holds(s.walk, &s.logs, id)
		s.held[id] = h
	}
	return h.danger, h.perms
}

// HeldDanger measures what [Scale.Held] does.
func (s *Scale) HeldDanger(id model.ID) float64 {
	h, ok := s.held[id]
	if !ok {
		h.danger, _ = s.Held(id)
	}
	return h.danger
}

// forget gives up the permissions of all who were asked about: of many they take more room than
// anything else here, and are worked out again for the few who are asked about once more.
func (s *Scale) forget() {
	for id, h := range s.held {
		s.held[id] = holds{danger: h.danger}
	}
}

// HoldAll works out what many hold, on all processors, so that [Scale.Held] knows it.
func (s *Scale) HoldAll(ids []int) {
	out := make([]holds, len(ids))
	walks, logs := make([]*index.Walk, parallel.Workers()), make([]lately, parallel.Workers())
	parallel.Each(len(ids), func(k, i int) {
		if walks[k] == nil {
			walks[k] = s.x.NewWalk(index.Possible)
		}
		if id := s.x.ID(ids[i]); s.held[id].perms == nil {
			out[i] = s.holds(walks[k], &logs[k], id)
		}
	})
	for i, h := range out {
		if h.perms != nil {
			s.held[s.x.ID(ids[i])] = h
		}
	}
}

// HeldDangers works out what many hold of whom it is not known, on all processors, so that [Scale.HeldDanger] knows
// it.
func (s *Scale) HeldDangers(ids []int) {
	s.HoldAll(slices.DeleteFunc(slices.Clone(ids), func(n int) bool { _, known := s.held[s.x.ID(n)]; return known }))
}

// join adds the permissions that an identity has anywhere. Of most all are there already.
func (s *Scale) join(all access.Set, walk *index.Walk, logs *lately, n int) {
	id := s.x.ID(n)
	more := s.x.Bypasses(id)
	for _, giver := range s.x.Givers(id) {
		more = more || !s.x.GivenBy(giver).In(all)
	}
	if !more {
		return
	}
	h, known := s.held[id] // nobody writes there meanwhile
	if !known || h.perms == nil {
		h = s.holds(walk, logs, id)
	}
	all.Or(h.perms)
}

func (s *Scale) holds(walk *index.Walk, logs *lately, id model.ID) holds {
	t := walk.Totals(id)
	d, one := 0.0, 0.0
	level, places := model.LevelUnset, uint32(0) // whose danger one is: those next to each other are often alike
	for i := range t.Permissions.All() {
		if l, n := s.x.Level(i), t.Places[i]; l != level || n != places {
			level, places, one = l, n, logs.weigh(s.w, l, int(n))
		}
		d += one
	}
	perms := t.Permissions.Clone()
	if !t.Bypass {
		for i := range s.elsewhere(id, perms).All() { // on places that nobody lists
			d += s.w.Of(s.x.Level(i), 1)
			perms.Add(i)
		}
	}
	return holds{d, perms}
}

// elsewhere returns the permissions that an identity has on no node of the inventory, and on
// places all the same: grants reach more than it lists.
func (s *Scale) elsewhere(id model.ID, have access.Set) access.Set {
	out := s.x.NewSet()
	rest := s.x.NewSet()
	var layers *index.Layers
	var given []int
	for _, n := range s.x.Givers(id) {
		if !s.x.GivenBy(n).In(have) { // as hardly ever
			given = append(given, s.x.GrantsTo(s.x.ID(n))...)
		}
	}
	for _, g := range given {
		if s.x.SharedFew(g).In(have) {
			continue
		}
		copy(rest, s.x.SharedPerms(g))
		rest.AndNot(have)
		rest.AndNot(out)
		if layers == nil {
			layers = s.x.Layers(id)
		}
		for _, on := range s.x.Grant(g).Where {
			for i := range rest.All() {
				if !out.Has(i) && layers.Admit(i, on) {
					out.Add(i)
				}
			}
		}
	}
	return out
}
