package risk

import (
	"cmp"
	"maps"
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
func Lost(p *Past, m *Model, after *index.Index, id model.ID, now usage.Day, held map[int]Held) []Loss {
	var out []Loss
	gone, still := changes(p.x, after, id)
	at, denied := p.regions(), p.denied(after, id)
	for perm := range denied {
		gone.Add(perm)
		if _, known := still[perm]; !known {
			still[perm] = given(after, id, perm)
		}
	}
	for _, perm := range slices.Sorted(maps.Keys(held)) {
		if !gone.Has(perm) {
			continue // all that gave it before is there
		}
		h, where := held[perm], still[perm]
		had, has, hidden, no := at.places(h.Where), at.places(where), at.places(h.Dark), at.places(denied[perm])
		kept := func(on []model.PathPattern) bool { return has.all(on) && !no.some(on) }
		if kept(h.Where) {
			continue
		}
		left, stays, dark := had.region, has.region.AndNot(no.region), hidden.region
		add := func(q Part, nth int, in index.Region, on []model.PathPattern) {
			n := float64(p.x.Count(perm, in))
			share := 1.0
			goes := len(q.Where)
			if q.Class == Used {
				goes -= staying(q.Where, where, denied[perm])
			}
			if goes < len(q.Where) {
				share = float64(goes) / float64(len(q.Where)) // what of the others was used stays
			} else if n > 0 {
				share = float64(p.x.Count(perm, in.AndNot(stays))) / n
			} else if kept(on) {
				share = 0
			}
			if chance := m.Chance(q) * share; chance > 0 {
				out = append(out, Loss{Perm: perm, Part: q, At: nth, Chance: chance, Soon: m.Soon(q) * share})
			}
		}
		all := float64(p.x.Count(perm, left))
		for _, q := range p.Hidden(id, perm, now, h.Dark) {
			in := at.of(q.Where...).And(dark)
			if q.Class == DarkRest && all > 0 {
				n := float64(p.x.Count(perm, in))
				lost := float64(p.x.Count(perm, in.AndNot(stays)))
				if chance := m.Chance(q) * lost / all; n > 0 && chance > 0 {
					out = append(out, Loss{Perm: perm, Part: q, At: -1, Chance: chance, Soon: m.Soon(q) * lost / all})
				}
			} else {
				add(q, -1, in, q.Where)
			}
			dark = dark.AndNot(in)
		}
		left = left.AndNot(hidden.region)
		parts := p.Parts(id, perm, now, TenureOf(int(now-h.Since)))
		for i, q := range clip(parts, h.Where, had.Patterns, hidden.Patterns) {
			in := left
			if !q.Where[0].IsZero() {
				in = at.of(q.Where...).And(left)
			}
			on := q.Where
			if on[0].IsZero() {
				on = h.Where
			}
			add(q, i, in, on)
			left = left.AndNot(in)
		}
	}
	late, soon := m.Back(p, id, now)
	for i := range out {
		out[i].Back = [2]float64{late, soon}
	}
	slices.SortStableFunc(out, func(a, b Loss) int { return cmp.Compare(b.Chance, a.Chance) })
	return out
}

// staying counts the nodes on or below which something is given still, and not all refused.
func staying(nodes, given, denied []model.PathPattern) int {
	n := 0
	for _, w := range nodes {
		node, one := w.Node()
		if below := node.Below(); one && !model.PathPatternsContain(denied, w) && slices.ContainsFunc(given,
			func(on model.PathPattern) bool { return on.Overlaps(below) }) {
			n++
		}
	}
	return n
}

// regions finds the nodes of places, of which many permissions and members of a group have the same.
type regions struct {
	x     *index.Index
	spans map[model.PathPattern][]uint32
	lists map[string]*places
	key   []byte
}

// mostKnown is how many answers are kept.
const mostKnown = 20_000

// regions returns what is known of places so far.
func (p *Past) regions() *regions {
	if r := p.found; r == nil || len(r.spans) > mostKnown || len(r.lists) > mostKnown {
		p.found = &regions{x: p.x, spans: map[model.PathPattern][]uint32{}, lists: map[string]*places{}}
	}
	return p.found
}

// places are a list of places, put together.
type places struct {
	*model.Patterns
	list   []model.PathPattern
	region index.Region
	none   bool
}

// all reports whether each of some patterns lies inside one of the places.
func (p *places) all(in []model.PathPattern) bool {
	return !p.none && !slices.ContainsFunc(in, func(on model.PathPattern) bool { return !p.One(on) })
}

// some reports whether one of some patterns has something in common with one of the places.
func (p *places) some(in []model.PathPattern) bool {
	return !p.none && slices.ContainsFunc(in, func(on model.PathPattern) bool {
		return slices.ContainsFunc(p.list, on.Overlaps)
	})
}

// places puts a list together, each once.
func (r *regions) places(list []model.PathPattern) *places {
	r.key = r.key[:0]
	for _, on := range list {
		r.key = on.AppendKey(r.key)
	}
	p := r.lists[string(r.key)]
	if p == nil {
		p = &places{model.PatternsOf(list), list, r.of(list...), len(list) == 0}
		r.lists[string(r.key)] = p
	}
	return p
}

func (r *regions) of(where ...model.PathPattern) index.Region {
	var all []uint32
	for _, on := range where {
		spans, known := r.spans[on]
		if !known {
			spans = r.x.SpansOf(on)
			r.spans[on] = spans
		}
		all = append(all, spans...)
	}
	return r.x.RegionOf(all)
}

// changes returns which permissions somebody had by grants that an edit takes away or makes less, and of
// those where what comes and stays gives them.
func changes(before, after *index.Index, id model.ID) (gone access.Set, still map[int][]model.PathPattern) {
	gone, still = before.NewSet(), map[int][]model.PathPattern{}
	given := after.Given(id)
	stays := make(map[int]bool, len(given))
	for _, n := range given {
		stays[n] = true
	}
	for _, n := range before.Given(id) {
		perms := before.SharedPerms(n)
		if stays[n] {
			was, is := before.Grant(n), after.Grant(n)
			if was.ID == is.ID && slices.Equal(was.Where, is.Where) && perms.Subset(after.SharedPerms(n)) {
				continue
			}
		}
		gone.Or(perms)
	}
	for _, n := range given {
		perms := after.SharedPerms(n)
		if !perms.Meets(gone) {
			continue
		}
		where := after.Grant(n).Where
		for perm := range perms.All() {
			if gone.Has(perm) {
				still[perm] = append(still[perm], where...)
			}
		}
	}
	return gone, still
}

// given returns where grants give somebody a permission.
func given(x *index.Index, id model.ID, perm int) []model.PathPattern {
	var out []model.PathPattern
	for _, n := range x.Given(id) {
		if x.SharedPerms(n).Has(perm) {
			out = append(out, x.Grant(n).Where...)
		}
	}
	return out
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

// Broken is how likely it is that somebody needs any of what is lost, within the horizon and soon.
// What is done on the same places is done together: of the permissions that are lost there as much as so
// many are expected to be needed, where those that are come so many at a time, and no less than the
// likeliest. Places count as if they were needed independently of each other. Whoever stopped
// comes back as a whole, if at all: places are needed independently once it is back, and what no log shows
// it may have gone on doing.
func (m *Model) Broken(losses []Loss) (late, soon float64) {
	type sum struct{ all, most float64 }
	of := [2]map[spot]sum{{}, {}}
	back := [2]float64{1, 1}
	if len(losses) > 0 && losses[0].Back[0] > 0 {
		back = losses[0].Back
	}
	for _, l := range losses {
		k := spotOf(l.Part)
		for i, chance := range [2]float64{l.Chance, l.Soon} {
			if stopped(l.Part.Class, l.Part.Bin) {
				chance = min(1, chance/back[i]) // once it is back
			}
			s := of[i][k]
			of[i][k] = sum{s.all + chance, max(s.most, chance)}
		}
	}
	any := func(of map[spot]sum, back float64) float64 {
		h, dark := 1.0, 1.0
		for _, k := range slices.SortedFunc(maps.Keys(of), func(a, b spot) int { // so that it rounds the same
			return cmp.Or(cmp.Compare(a.class, b.class), cmp.Compare(a.where, b.where))
		}) {
			chance := of[k].most
			if n := m.among(k.class); n > 0 {
				chance = min(1, max(chance, of[k].all/n))
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
