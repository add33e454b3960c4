package risk

import (
	"cmp"
	"math"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Loss is a part that an edit takes from somebody, and how likely it is needed.
type Loss struct {
	Perm   int
	Part   Part
	At     int        // which of the clipped parts it is; -1 where no log shows it
	Chance float64    // within the horizon, of what is taken of the part
	Soon   float64    // and within [Soon] days
	Back   [2]float64 // how likely whoever it is taken from does anything again, if it stopped: see [Model.Back]

	// All is what the chances of all permissions on the places of the part come to, also of those that stay,
	// within the horizon and soon; 0 where it is not known.
	All [2]float64
}

// Needed is how likely a call of it is refused within the horizon, as [Model.Broken] of it alone.
func (l *Loss) Needed() float64 {
	switch {
	case l.Back[0] == 0 || l.Part.Class == DarkHere || l.Part.Class == DarkRest:
		return l.Chance
	case stopped(l.Part.Class, l.Part.Bin):
		return min(l.Chance, l.Back[0])
	}
	return l.Chance * l.Back[0]
}

// Lost returns what an edit takes from somebody and how likely each part of that is needed within
// the horizon, the likeliest first. Parts of which some places stay count by those that go.
func Lost(p *Past, m *Model, after *index.Index, id model.ID, now usage.Day, had *Having) []Loss {
	var out []Loss
	at, denied := p.regions(), p.denied(after, id)
	was, is := at.side(had.Grants), at.side(givenBy(after, id))
	less := was.less(is)
	taken := less.Clone()
	sums, counted := map[spot]*[2]float64{}, at.x.NewSet() // of all permissions, and which are in it
	for perm := range denied {
		taken.Add(perm)
	}
	all := func(perm int) []Part { return p.Parts(id, perm, now, TenureOf(int(now-had.Since(perm)))) }
	shared := func(where []model.PathPattern) *model.Patterns { return at.often(where).Patterns }
	clipped := func(perm int, all []Part, dark *model.Patterns) []Part {
		all = slices.DeleteFunc(all, func(q Part) bool { return !was.any(q.Where, perm) })
		return clip(all, dark, shared, func(on model.PathPattern, each func(model.PathPattern) bool) bool {
			if on.IsZero() {
				return was.every(perm, each)
			}
			return was.at(on).every(perm, each)
		})
	}
	for perm := range taken.All() {
		shut := had.Dark(perm)
		hidden, no := at.places(shut), at.places(denied[perm])
		kept := func(on model.PathPattern) bool { return is.at(on).over.Has(perm) && !no.some(on) }
		if !less.Has(perm) && was.every(perm, func(on model.PathPattern) bool { return !no.some(on) }) {
			continue
		}
		counted.Add(perm)
		left, stays, dark := was.region(perm), is.region(perm).AndNot(no.region), hidden.region
		add := func(q Part, nth int, in index.Region) {
			n := float64(p.x.Count(perm, in))
			share := 1.0
			goes := len(q.Where)
			if q.Class == Used {
				goes -= is.staying(perm, q.Where, denied[perm])
			}
			if goes < len(q.Where) {
				share = float64(goes) / float64(len(q.Where)) // what of the others was used stays
			} else if n > 0 {
				share = float64(p.x.Count(perm, in.AndNot(stays))) / n
			} else if every(q.Where, func(on model.PathPattern) bool {
				return !on.IsZero() && kept(on) || on.IsZero() && was.every(perm, kept)
			}) {
				share = 0
			}
			if q.Class != DarkHere && q.Class != DarkRest {
				m.sum(sums, q, true)
			}
			if share == 0 {
				return
			}
			if chance := m.Chance(q) * share; chance > 0 {
				out = append(out, Loss{Perm: perm, Part: q, At: nth, Chance: chance, Soon: m.Soon(q) * share})
			}
		}
		whole := float64(p.x.Count(perm, left))
		for _, q := range p.Hidden(id, perm, now, shut) {
			in := at.of(q.Where...).And(dark)
			if q.Class == DarkRest && whole > 0 {
				n := float64(p.x.Count(perm, in))
				lost := float64(p.x.Count(perm, in.AndNot(stays)))
				if chance := m.Chance(q) * lost / whole; n > 0 && chance > 0 {
					soon := m.Soon(q) * lost / whole
					out = append(out, Loss{Perm: perm, Part: q, At: -1, Chance: chance, Soon: soon})
				}
			} else {
				add(q, -1, in)
			}
			dark = dark.AndNot(in)
		}
		left = left.AndNot(hidden.region)
		for i, q := range clipped(perm, all(perm), hidden.Patterns) {
			in := left
			if !q.Where[0].IsZero() {
				in = at.often(q.Where).region.And(left)
			}
			add(q, i, in)
			left = left.AndNot(in)
		}
	}
	if len(out) > 0 {
		for perm := range was.all().All() {
			if counted.Has(perm) {
				continue
			}
			parts, last := all(perm), -1 // the last that adds to a sum
			for i, q := range parts {
				if sums[spotOf(q)] != nil {
					last = i
				}
			}
			if last < 0 {
				continue
			}
			for _, q := range clipped(perm, parts[:last+1], at.places(had.Dark(perm)).Patterns) {
				m.sum(sums, q, false)
			}
		}
	}
	late, soon := m.Back(p, id, now)
	for i := range out {
		out[i].Back = [2]float64{late, soon}
		if sum := sums[spotOf(out[i].Part)]; sum != nil {
			out[i].All = *sum
		}
	}
	slices.SortStableFunc(out, func(a, b Loss) int { return cmp.Compare(b.Chance, a.Chance) })
	return out
}

// sum adds the chances of a part to those of its places, if there are any yet, or it may be the first.
func (m *Model) sum(of map[spot]*[2]float64, q Part, first bool) {
	k := spotOf(q)
	t := of[k]
	if t == nil {
		if !first {
			return
		}
		t = &[2]float64{}
		of[k] = t
	}
	t[0], t[1] = t[0]+m.Chance(q), t[1]+m.Soon(q)
}

// A side is what somebody is granted before an edit, or after it. Thousands of permissions come by hundreds
// of grants, and ask of the same places: so each place is looked at once, and answers for all of them.
type side struct {
	x      *index.Index
	on     []model.PathPattern // each once
	gives  []access.Set        // what is given on each
	number map[model.PathPattern]int
	spans  []span // of all places, by where they begin
	places *model.Patterns
	known  map[model.PathPattern]*beside
	onAny  map[many]access.Set // of lists of places, what is given on any of each
}

// span is a run of nodes on one of the places of a side.
type span struct {
	index.Interval
	gives access.Set
}

// beside is what a side gives of a place.
type beside struct {
	on     model.PathPattern
	over   access.Set          // by itself, or by what it lies in
	inside []model.PathPattern // the places that lie in it
	gives  []access.Set        // what each of them gives
	laps   access.Set          // see [side.laps]; nil: nobody asked
}

func (r *regions) side(list []Given) *side {
	s := &side{x: r.x, number: map[model.PathPattern]int{}, places: &model.Patterns{},
		known: map[model.PathPattern]*beside{}, onAny: map[many]access.Set{}}
	for _, g := range list {
		for _, on := range g.Where {
			i, known := s.number[on]
			if !known {
				i = len(s.on)
				s.number[on], s.on, s.gives = i, append(s.on, on), append(s.gives, r.x.NewSet())
				s.places.Add(on)
			}
			s.gives[i].Or(g.Perms)
		}
	}
	for i, on := range s.on {
		for _, in := range r.x.RegionOf(r.spansOf(on)) {
			s.spans = append(s.spans, span{in, s.gives[i]})
		}
	}
	slices.SortFunc(s.spans, func(a, b span) int { return cmp.Compare(a.From, b.From) })
	return s
}

// at returns what is given of a place.
func (s *side) at(on model.PathPattern) *beside {
	b := s.known[on]
	if b == nil {
		b = &beside{on: on, over: s.over(on)}
		for _, w := range s.places.Inside(on) {
			b.inside, b.gives = append(b.inside, w), append(b.gives, s.gives[s.number[w]])
		}
		s.known[on] = b
	}
	return b
}

// laps returns what is given on a place that has something in common with another one.
func (s *side) laps(on model.PathPattern) access.Set {
	b := s.at(on)
	if b.laps != nil {
		return b.laps
	}
	b.laps = b.over.Clone()
	for _, gives := range b.gives {
		b.laps.Or(gives)
	}
	more := s.places.Stars()
	if _, one := on.Node(); !one { // it may share something with any
		more = s.on
	}
	for _, w := range more {
		if w.Overlaps(on) {
			b.laps.Or(s.gives[s.number[w]])
		}
	}
	return b.laps
}

// over returns what is given on a place or on what it lies in.
func (s *side) over(on model.PathPattern) access.Set {
	out := s.x.NewSet()
	for _, w := range s.places.Over(on) {
		out.Or(s.gives[s.number[w]])
	}
	return out
}

// every asks of each place of a permission there.
func (b *beside) every(perm int, is func(model.PathPattern) bool) bool {
	for i, w := range b.inside {
		if b.gives[i].Has(perm) && !is(w) {
			return false
		}
	}
	return !b.over.Has(perm) || is(b.on)
}

// every asks of each place of a permission, up to the first that is not as asked for.
func (s *side) every(perm int, is func(model.PathPattern) bool) bool {
	for i, gives := range s.gives {
		if gives.Has(perm) && !is(s.on[i]) {
			return false
		}
	}
	return true
}

// any reports whether a permission may be given on one of some places, around it or in it; nobody changes the list. Of
// few it says that it may be.
func (s *side) any(where []model.PathPattern, perm int) bool {
	if len(where) <= oneByOne {
		return true
	}
	k := many{&where[0], len(where)}
	gives, known := s.onAny[k]
	if !known {
		gives = s.x.NewSet()
		for _, on := range where {
			b := s.at(on)
			gives.Or(b.over)
			for _, in := range b.gives {
				gives.Or(in)
			}
		}
		s.onAny[k] = gives
	}
	return gives.Has(perm)
}

// all returns the permissions that are given anywhere.
func (s *side) all() access.Set {
	out := s.x.NewSet()
	for _, gives := range s.gives {
		out.Or(gives)
	}
	return out
}

// less returns the permissions that are given on a place that lies in none where another side gives them.
func (s *side) less(than *side) access.Set {
	out := s.x.NewSet()
	for i, on := range s.on {
		if j, same := than.number[on]; same && s.gives[i].Subset(than.gives[j]) {
			continue // nothing goes of most
		}
		over := than.over(on)
		for k, word := range s.gives[i] {
			out[k] |= word &^ over[k]
		}
	}
	return out
}

// region returns the nodes on which a permission is given.
func (s *side) region(perm int) index.Region {
	var out index.Region
	for i := range s.spans {
		in := &s.spans[i]
		if !in.gives.Has(perm) {
			continue
		}
		if n := len(out); n > 0 && in.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, in.To)
		} else {
			out = append(out, in.Interval)
		}
	}
	return out
}

// staying counts the nodes on or below which a permission is given still, and not all refused.
func (s *side) staying(perm int, nodes, denied []model.PathPattern) int {
	n := 0
	for _, w := range nodes {
		node, one := w.Node()
		if one && !model.PathPatternsContain(denied, w) && s.laps(node.Below()).Has(perm) {
			n++
		}
	}
	return n
}

// givenBy returns what grants give somebody.
func givenBy(x *index.Index, id model.ID) []Given {
	var out []Given
	for _, n := range x.Given(id) {
		out = append(out, Given{x.SharedPerms(n), x.Grant(n).Where})
	}
	return out
}

// regions finds the nodes of places, of which many permissions and members of a group have the same.
type regions struct {
	x     *index.Index
	spans map[model.PathPattern][]uint32
	lists map[string]*places
	many  map[many]*places
	key   []byte
}

// many are places by where they are kept: the same that many permissions ask about.
type many struct {
	first *model.PathPattern
	n     int
}

// mostKnown is how many answers are kept.
const mostKnown = 20_000

// regions returns what is known of places so far.
func (p *Past) regions() *regions {
	if r := p.found; r == nil || len(r.spans) > mostKnown || len(r.lists) > mostKnown || len(r.many) > mostKnown {
		p.found = &regions{x: p.x, spans: map[model.PathPattern][]uint32{}, lists: map[string]*places{},
			many: map[many]*places{}}
	}
	return p.found
}

// Region returns the nodes that some places hold; many ask about the same.
func (p *Past) Region(where ...model.PathPattern) index.Region { return p.regions().of(where...) }

// places are a list of places, put together.
type places struct {
	*model.Patterns
	list   []model.PathPattern
	region index.Region
}

// some reports whether a pattern has something in common with one of the places.
func (p *places) some(on model.PathPattern) bool { return slices.ContainsFunc(p.list, on.Overlaps) }

// places puts a list together, each once.
func (r *regions) places(list []model.PathPattern) *places {
	r.key = r.key[:0]
	for _, on := range list {
		r.key = on.AppendKey(r.key)
	}
	p := r.lists[string(r.key)]
	if p == nil {
		p = &places{model.PatternsOf(list), list, r.of(list...)}
		r.lists[string(r.key)] = p
	}
	return p
}

func (r *regions) of(where ...model.PathPattern) index.Region {
	var all []uint32
	for _, on := range where {
		all = append(all, r.spansOf(on)...)
	}
	return r.x.RegionOf(all)
}

func (r *regions) spansOf(on model.PathPattern) []uint32 {
	spans, known := r.spans[on]
	if !known {
		spans = r.x.SpansOf(on)
		r.spans[on] = spans
	}
	return spans
}

// often is places for lists that nobody changes, and that are asked about for many permissions.
func (r *regions) often(where []model.PathPattern) *places {
	if len(where) <= oneByOne {
		return r.places(where)
	}
	k := many{&where[0], len(where)}
	p := r.many[k]
	if p == nil {
		p = &places{model.PatternsOf(where), where, r.of(where...)}
		r.many[k] = p
	}
	return p
}

// coming are the denials that an edit brings.
type coming struct {
	after *index.Index
	list  []*model.Denial
	perms []access.Set
}

// denied returns which permissions the denials that an edit brings refuse somebody, and where.
func (p *Past) denied(after *index.Index, id model.ID) map[int][]model.PathPattern {
	if p.coming == nil || p.coming.after != after {
		p.coming = &coming{after: after}
		for d := range after.NewDenials(p.x) {
			p.coming.list = append(p.coming.list, d)
			p.coming.perms = append(p.coming.perms, after.SetPerms([]model.Rights{d.Rights}))
		}
	}
	var out map[int][]model.PathPattern
	in := func(of model.ID) bool { return id == of || after.In(id, of) }
	for i, d := range p.coming.list {
		if !slices.ContainsFunc(d.To, in) || slices.ContainsFunc(d.Unless, in) {
			continue
		}
		for perm := range p.coming.perms[i].All() {
			if out == nil {
				out = map[int][]model.PathPattern{}
			}
			out[perm] = append(out[perm], d.Where...)
		}
	}
	return out
}

// hit is how likely something of what is lost is needed, by what the chances of that and of all come to, where what
// is needed comes so many at a time, whichever: how often any is needed, times how likely one of so many is lost.
// Where all is lost so many count as one; where one of very many is, it counts by itself.
func hit(lost, all, n float64) float64 {
	if all == 0 {
		return 0
	}
	return all / n * (1 - math.Pow(1-lost/all, n))
}

// Broken is how likely it is that somebody needs any of what is lost, within the horizon and soon.
// What is done on the same places is done together, so many permissions at a time as the past shows, and of
// those that are lost there something is needed as often as one of them is among so many, and no less often than
// the likeliest. Places count as if they were needed independently of each other. Whoever stopped
// comes back as a whole, if at all: places are needed independently once it is back, and what no log shows
// it may have gone on doing.
func (m *Model) Broken(losses []Loss) (late, soon float64) {
	type sum struct{ lost, most, all float64 }
	of := [2]map[spot]sum{{}, {}}
	var spots []spot // as they come, so that it rounds the same
	back := [2]float64{1, 1}
	if len(losses) > 0 && losses[0].Back[0] > 0 {
		back = losses[0].Back
	}
	for _, l := range losses {
		k := spotOf(l.Part)
		if _, there := of[0][k]; !there {
			spots = append(spots, k)
		}
		for i, chance := range [2]float64{l.Chance, l.Soon} {
			all := l.All[i]
			if stopped(l.Part.Class, l.Part.Bin) {
				chance, all = min(1, chance/back[i]), all/back[i] // once it is back
			}
			s := of[i][k]
			of[i][k] = sum{s.lost + chance, max(s.most, chance), max(s.all, all)}
		}
	}
	any := func(of map[spot]sum, back float64) float64 {
		h, dark := 1.0, 1.0
		for _, k := range spots {
			s := of[k]
			chance := s.most
			if n := m.among(k.class); n > 0 {
				chance = min(1, max(chance, hit(s.lost, max(s.lost, s.all), n)))
			}
			if k.class == DarkHere || k.class == DarkRest {
				dark *= 1 - chance
			} else {
				h *= 1 - chance
			}
		}
		return 1 - dark*(1-back*(1-h))
	}
	return any(of[0], back[0]), any(of[1], back[1])
}
