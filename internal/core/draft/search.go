package draft

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
)

// candidate is some places on which a permission may stay.
type candidate struct {
	class  risk.Class
	where  []model.PathPattern
	region index.Region
	hazard float64 // how many of the holders will need it there
}

// stays is one place on which a permission stays.
type stays struct {
	on     model.PathPattern
	class  risk.Class
	chance float64
}

// mostHolders bounds how many holders of a grant are looked at; they stand for all.
const mostHolders = 60

// asked is a question that several grants and rounds ask again.
type asked struct {
	who     model.ID
	perm    int
	young   bool
	holders int
}

// hoped is a part with how likely it is needed.
type hoped struct {
	risk.Part
	chance float64
}

// parts returns where somebody may need a permission, of what is likely enough among so many
// who hold it.
func (d *drafter) parts(id model.ID, perm int, young bool, holders int) []hoped {
	key := asked{id, perm, young, holders}
	out, ok := d.hopes[key]
	if !ok {
		for _, q := range d.worth.past.Parts(id, perm, d.worth.now, young) {
			chance := d.worth.model.Chance(q)
			if guessed(q.Class) && chance*float64(holders) < leastGuess {
				continue
			}
			out = append(out, hoped{q, chance})
		}
		d.hopes[key] = out
	}
	return out
}

// guessed reports whether parts of a class are of what was never used.
func guessed(c risk.Class) bool { return c == risk.Peer || c >= risk.FirstHere && c != risk.Dark }

// candidates returns on which places of a grant a permission may be needed by its holders.
func (d *drafter) candidates(t *gauge.GrantResult, perm int) []*candidate {
	who := t.Holders
	if len(who) == 0 {
		who = d.callers(t)
	}
	each := 1.0
	if len(who) > mostHolders {
		each = float64(len(who)) / mostHolders
		some := make([]model.ID, 0, mostHolders)
		for i := range mostHolders {
			some = append(some, who[i*len(who)/mostHolders])
		}
		who = some
	}
	dark := t.Dark[perm]
	if d.o.GiveUpUnobservable {
		dark = nil
	}
	young := t.Grant.Created.After(d.in.AsOf.AddDate(0, 0, -risk.Young))
	by := map[string]*candidate{}
	var out []*candidate
	for _, on := range dark {
		c := &candidate{class: risk.Dark, where: []model.PathPattern{on}, region: d.x.Region(on)}
		by[on.String()+" "] = c
		out = append(out, c)
	}
	for _, id := range who {
		for _, q := range d.parts(id, perm, young, len(who)) {
			where := d.inside(t, q.Where)
			if node, one := q.Where[0].Node(); one && q.Class == risk.Used {
				where = d.around(t, node)
			}
			if len(where) == 0 {
				continue
			}
			var text strings.Builder
			for _, on := range where {
				text.WriteString(on.String() + " ")
			}
			c := by[text.String()]
			if c == nil {
				c = &candidate{class: q.Class, where: where, region: d.x.Region(where...)}
				by[text.String()] = c
				out = append(out, c)
			}
			if c.class != risk.Dark {
				c.class = min(c.class, q.Class)
			}
			c.hazard += each * q.chance
		}
	}
	return out
}

// callers returns who used a grant.
func (d *drafter) callers(t *gauge.GrantResult) []model.ID {
	seen := map[int]bool{}
	var out []model.ID
	for _, pu := range t.Use {
		for _, c := range pu.Who {
			if c.Number >= 0 && !seen[c.Number] {
				seen[c.Number] = true
				out = append(out, d.x.ID(c.Number))
			}
		}
	}
	slices.SortFunc(out, model.ID.Compare)
	return out
}

// inside returns the part of some places that lies inside a grant's.
func (d *drafter) inside(t *gauge.GrantResult, where []model.PathPattern) []model.PathPattern {
	var out []model.PathPattern
	add := func(on model.PathPattern) {
		if !slices.Contains(out, on) {
			out = append(out, on)
		}
	}
	for _, on := range where {
		switch {
		case on.IsZero():
			for _, w := range t.Grant.Where {
				add(w)
			}
		case model.PathPatternsContain(t.Grant.Where, on):
			add(on)
		default:
			for _, w := range t.Grant.Where {
				if on.Contains(w) {
					add(w)
				}
			}
		}
	}
	return out
}

// around returns what of a grant's places stands for a node of use: the node, or what of it
// lies inside them, or, where no pattern says that, those that reach into it.
func (d *drafter) around(t *gauge.GrantResult, node model.Path) []model.PathPattern {
	whole := d.worth.past.At(node)
	out := d.inside(t, []model.PathPattern{whole})
	if slices.Contains(out, whole) {
		return out
	}
	if out = append(out, d.inside(t, []model.PathPattern{node.Exactly()})...); len(out) > 0 {
		return out
	}
	for _, w := range t.Grant.Where {
		if w.Overlaps(node.Below()) {
			out = append(out, w)
		}
	}
	return out
}

// search picks the places of a grant on which a permission stays: of all candidates, in the
// order of what they save by what they cost, the prefix with the most
//
//	worth * needs met - weight * log2(1 + places) - price of each piece
//
// and how many needs that leaves unmet.
func (d *drafter) search(t *gauge.GrantResult, perm int, worth float64) (out []stays, unmet float64) {
	weight := d.in.Weights[d.x.Level(perm)] * float64(max(1, len(t.Holders)))
	key := [2]int{t.Number, perm}
	if _, ok := d.known[key]; !ok {
		d.known[key] = d.candidates(t, perm)
	}
	rest := slices.Clone(d.known[key])
	price := pieceShare * weight
	var taken []*candidate
	var region index.Region
	places, met, best, prefix := 0.0, 0.0, 0.0, 0
	total := 0.0
	recent := d.recent(t, perm)
	for _, c := range rest {
		total += c.hazard
	}
	rest = slices.DeleteFunc(rest, func(c *candidate) bool {
		return guessed(c.class) && c.hazard < leastGuess
	})
	for _, c := range rest {
		// What no log would show stays, what is used now, and what a habit that may be yearly, or
		// somebody silent, did use.
		if c.class == risk.Dark || c.class == risk.Used && (t.Rare.Has(perm) || t.Held.Has(perm) ||
			slices.ContainsFunc(c.where, func(on model.PathPattern) bool { return recent[on] })) {
			taken = append(taken, c)
			met, region = met+c.hazard, region.Or(c.region)
		}
	}
	if len(taken) == 0 && worth*total <= price {
		return nil, total
	}
	prefix = len(taken)
	rest = slices.DeleteFunc(rest, func(c *candidate) bool { return slices.Contains(taken, c) })
	places = float64(d.x.Count(perm, region))
	bestMet, cost := met, 0.0
	best = worth*met - weight*math.Log2(1+places)
	for len(rest) > 0 {
		var pick *candidate
		var pickRegion index.Region
		var ratio, gain, now float64
		for _, c := range rest {
			with := region
			if len(c.region.AndNot(region)) > 0 {
				with = region.Or(c.region)
			}
			n := float64(d.x.Count(perm, with))
			if n == places && c.class >= risk.Beside {
				continue // nothing that is listed is in there besides: how names go on says what is needed
			}
			h := 0.0
			for _, o := range rest {
				if o == c || within(o, c) {
					h += o.hazard
				}
			}
			dear := weight*(math.Log2(1+n)-math.Log2(1+places)) + price*float64(len(c.where))
			if r := h / dear; pick == nil || r > ratio {
				pick, pickRegion, ratio, gain, now = c, with, r, h, n
			}
		}
		if pick == nil {
			break
		}
		taken = append(taken, pick)
		met, region, places = met+gain, pickRegion, now
		cost += price * float64(len(pick.where))
		rest = slices.DeleteFunc(rest, func(o *candidate) bool { return o == pick || within(o, pick) })
		if x := worth*met - weight*math.Log2(1+places) - cost; x > best+1e-9 {
			best, prefix, bestMet = x, len(taken), met
		}
	}
	for _, c := range taken[:prefix] {
		for _, on := range c.where {
			out = append(out, stays{on, c.class, min(1, c.hazard)})
		}
	}
	// The widest first: what lies inside another place is not said again.
	slices.SortStableFunc(out, func(a, b stays) int { return cmp.Compare(b.class, a.class) })
	var kept []stays
	for i, s := range out {
		if !slices.ContainsFunc(out, func(o stays) bool { return o.on != s.on && o.on.Contains(s.on) }) &&
			!slices.ContainsFunc(out[:i], func(o stays) bool { return o.on == s.on }) {
			kept = append(kept, s)
		}
	}
	return kept, total - bestMet
}

// recent returns where a permission of a grant was used in the window.
func (d *drafter) recent(t *gauge.GrantResult, perm int) map[model.PathPattern]bool {
	out := map[model.PathPattern]bool{}
	if pu := t.Use[perm]; pu != nil {
		for path, at := range pu.Paths {
			if at.InWindow == 0 {
				continue
			}
			for _, on := range d.around(t, d.container(path)) {
				out[on] = true
			}
		}
	}
	return out
}

// leastGuess is how likely something that was never used must be needed to be kept: a fence
// that keeps a long list at a percent each is read by nobody.
const leastGuess = 0.03

// pieceShare is what a piece of a fence costs, as a share of the weight of its permission.
const pieceShare = 0.02

// within reports whether all places of one candidate lie inside those of another.
func within(o, c *candidate) bool {
	return !slices.ContainsFunc(o.where,
		func(on model.PathPattern) bool { return !model.PathPatternsContain(c.where, on) })
}
