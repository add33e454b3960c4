package risk

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Loss is a part that an edit takes from somebody, and how likely it is needed.
type Loss struct {
	Perm   int
	Part   Part
	At     int     // which of the clipped parts it is; -1 where no log shows it
	Chance float64 // within the horizon, of what is taken of the part
	Soon   float64 // and within [Soon] days
}

// Lost returns what an edit takes from somebody and how likely each part of that is needed within
// the horizon, the likeliest first. Parts of which some places stay count by those that go.
func Lost(p *Past, m *Model, after *index.Index, id model.ID, now usage.Day, held map[int]Held) []Loss {
	var out []Loss
	given := after.Given(id)
	for _, perm := range slices.Sorted(maps.Keys(held)) {
		h := held[perm]
		var where []model.PathPattern
		for _, n := range given {
			if after.SharedPerms(n).Has(perm) {
				where = append(where, after.Grant(n).Where...)
			}
		}
		if allInside(h.Where, where) {
			continue
		}
		left := p.x.Region(h.Where...)
		stays := p.x.Region(where...)
		dark := p.x.Region(h.Dark...)
		add := func(q Part, at int, in index.Region, on []model.PathPattern) {
			n := float64(p.x.Count(perm, in))
			share := 1.0
			goes := slices.DeleteFunc(slices.Clone(q.Where), func(w model.PathPattern) bool {
				node, one := w.Node()
				return one && slices.ContainsFunc(where,
					func(on model.PathPattern) bool { return on.Overlaps(node.Below()) })
			})
			if q.Class == Used && len(goes) < len(q.Where) {
				share = float64(len(goes)) / float64(len(q.Where)) // what of the others was used stays
			} else if n > 0 {
				share = float64(p.x.Count(perm, in.AndNot(stays))) / n
			} else if allInside(on, where) {
				share = 0
			}
			if chance := m.Chance(q) * share; chance > 0 {
				out = append(out, Loss{perm, q, at, chance, m.Soon(q) * share})
			}
		}
		all := float64(p.x.Count(perm, left))
		for _, q := range p.Hidden(id, perm, now, h.Dark) {
			in := p.x.Region(q.Where...).And(dark)
			if q.Class == DarkRest && all > 0 {
				n := float64(p.x.Count(perm, in))
				lost := float64(p.x.Count(perm, in.AndNot(stays)))
				if chance := m.Chance(q) * lost / all; n > 0 && chance > 0 {
					out = append(out, Loss{perm, q, -1, chance, m.Soon(q) * lost / all})
				}
			} else {
				add(q, -1, in, q.Where)
			}
			dark = dark.AndNot(in)
		}
		left = left.AndNot(p.x.Region(h.Dark...))
		for i, q := range h.Clip(p.Parts(id, perm, now, TenureOf(int(now-h.Since)))) {
			in := left
			if !q.Where[0].IsZero() {
				in = p.x.Region(q.Where...).And(left)
			}
			on := q.Where
			if on[0].IsZero() {
				on = h.Where
			}
			add(q, i, in, on)
			left = left.AndNot(in)
		}
	}
	slices.SortStableFunc(out, func(a, b Loss) int { return cmp.Compare(b.Chance, a.Chance) })
	return out
}

// Broken is how likely it is that somebody needs any of what is lost, within the horizon and soon.
// What is done on the same places is done together, so of the permissions that are lost there the
// likeliest counts; places count as if they were needed independently of each other.
func Broken(losses []Loss) (late, soon float64) {
	type spot struct {
		class Class
		where string
	}
	lates, soons := map[spot]float64{}, map[spot]float64{}
	for _, l := range losses {
		var where strings.Builder
		for _, on := range l.Part.Where {
			where.WriteString(on.String() + " ")
		}
		k := spot{l.Part.Class, where.String()}
		lates[k], soons[k] = max(lates[k], l.Chance), max(soons[k], l.Soon)
	}
	any := func(of map[spot]float64) float64 {
		h := 1.0
		for _, chance := range slices.Sorted(maps.Values(of)) { // in an order, so that it rounds the same
			h *= 1 - chance
		}
		return 1 - h
	}
	return any(lates), any(soons)
}
