package draft

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// candidate is some places on which a permission may stay.
type candidate struct {
	class  risk.Class
	where  []model.PathPattern
	region index.Region
	key    string  // the places, as text
	hazard float64 // how many of the holders will need it there
	most   float64 // how likely the one of them needs it there who does most likely
	gain   float64 // how many of them would break without it who do not break for what else goes
	often  float64 // how often they would ask for it, where they may
	needs  int     // of so many it is what they may need
	lent   int     // of so many of those, something to ask for

	by    map[model.ID]float64 // of a small group: of whom the hazard is
	users map[model.ID]bool    // and who of it did use it there

	number int
	inside []bool // inside which of the candidates of the same permission, by number, it lies
}

// without returns the candidate as it is for a group without a member, and of that member alone.
func (c *candidate) without(id model.ID) (rest, own candidate) {
	rest, own = *c, *c
	rest.hazard, own.hazard = c.hazard-c.by[id], c.by[id]
	rest.gain, own.gain = 0, 0
	if c.hazard > 0 {
		rest.gain, own.gain = c.gain*rest.hazard/c.hazard, c.gain*own.hazard/c.hazard
	}
	return rest, own
}

func (c *candidate) need() *need { return &need{c.hazard, c.by} }

// goes is what is needed of a candidate by those who do not keep it, or more, by lines for themselves.
func (c *candidate) goes(lines []stays) need {
	out := need{c.hazard, c.by}
	for i, l := range lines {
		at := func(on model.PathPattern) bool { // it goes there
			return !slices.ContainsFunc(lines, func(s stays) bool { return s.to == l.to && s.on.Contains(on) })
		}
		first := !slices.ContainsFunc(lines[:i], func(s stays) bool { return s.to == l.to })
		if _, needs := c.by[l.to]; !first || !needs || slices.ContainsFunc(c.where, at) {
			continue
		}
		if len(out.by) == len(c.by) {
			out.by = maps.Clone(c.by)
		}
		delete(out.by, l.to)
		if out.hazard -= c.by[l.to]; len(out.by) == 0 {
			out.hazard = 0 // and not what adding up left
		}
	}
	return out
}

// need is how many of the holders will need something, and, of a small group, of whom that is.
type need struct {
	hazard float64
	by     map[model.ID]float64
}

// with returns how much of a need is of those who need something else as well.
func (n *need) with(o *need) float64 {
	if n.by == nil || o.by == nil {
		return min(n.hazard, o.hazard)
	}
	both := 0.0
	for id, x := range n.by {
		both += min(x, o.by[id])
	}
	return min(both, n.hazard, o.hazard)
}

// beside is the likeliest need of another permission that goes on some places: as chosen in this round, or, of what
// was not chosen about yet, in the last one.
func (d *drafter) beside(key string, perm int) *need {
	out, of := need{}, -1
	look := func(in map[int]need, all bool) {
		for p, n := range in {
			if p == perm || !all && d.chosen[p] {
				continue
			}
			if of < 0 || n.hazard > out.hazard || n.hazard == out.hazard && p < of {
				out, of = n, p
			}
		}
	}
	look(d.missing[key], true)
	look(d.misses[key], false)
	return &out
}

func (d *drafter) miss(key string, perm int, what need) {
	m := d.missing[key]
	if m == nil {
		m = map[int]need{}
		d.missing[key] = m
	}
	if what.hazard > m[perm].hazard {
		m[perm] = what
	}
}

// again begins a round of choosing.
func (d *drafter) again() {
	d.misses, d.missing, d.chosen = d.missing, map[string]map[int]need{}, map[int]bool{}
}

// alone is which share of a need counts where another permission goes on the same places that is
// needed as likely: what is done together breaks together.
const alone = 0.3

// stays is one place on which a permission stays.
type stays struct {
	on     model.PathPattern
	class  risk.Class
	chance float64
	to     model.ID // a member of the group that keeps it for itself; zero: all do
	used   bool     // it was used there, whatever it is kept for besides
}

// mostHolders bounds how many holders of a grant are looked at for what they never used, of those
// who used a permission and of those who did not; they stand for all.
const mostHolders = 60

// asked is a question that several grants and rounds ask again.
type asked struct {
	who     model.ID
	perm    int
	tenure  risk.Tenure
	holders int
	more    bool
}

// hoped is a part with how likely it is needed.
type hoped struct {
	risk.Part
	chance float64
}

// parts returns where somebody may need a permission, of what is likely enough among so many
// who hold it: where it used it, and, if more is asked for, where else.
func (d *drafter) parts(id model.ID, perm int, tenure risk.Tenure, holders int, more bool) []hoped {
	key := asked{id, perm, tenure, holders, more}
	out, ok := d.hopes[key]
	if !ok {
		parts := d.worth.past.UsedParts(id, perm, d.worth.now)
		if more {
			for _, q := range d.worth.past.Parts(id, perm, d.worth.now, tenure) {
				if q.Class != risk.Used {
					parts = append(parts, q)
				}
			}
		}
		for _, q := range parts {
			chance := d.worth.model.Chance(q)
			if said := d.o.Lessons.Chance(d.x.Permission(perm).Permission); said > 0 {
				chance = 1 - (1-chance)*(1-said) // such cuts were refused
			}
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
func guessed(c risk.Class) bool { return c == risk.Peer || c >= risk.FirstHere && !dark(c) }

// dark reports whether parts of a class are where no log shows a permission.
func dark(c risk.Class) bool { return c == risk.Dark || c == risk.DarkHere || c == risk.DarkRest }

// reach is a grant of an open crowd, somebody who used it, and a permission of it.
type reach struct {
	grant int
	who   model.ID
	perm  int
}

// elsewhere returns the places on which somebody who uses what an open crowd is given has the
// permission by a grant of its own or of its groups: there the crowd's need not stay. Of two groups
// neither leaves it to the other, which cost more calls than danger when it was tried.
func (d *drafter) elsewhere(t *gauge.GrantResult, id model.ID, perm int) []model.PathPattern {
	if !t.Grant.To.Open() {
		return nil
	}
	key := reach{t.Number, id, perm}
	out, ok := d.besides[key]
	if ok {
		return out
	}
	spare := d.r.Redundant(d.in)
	x := d.stands()
	for _, n := range x.Given(id) {
		// A grant that holds at times takes the place of nothing, and one that this one makes
		// needless is due to go itself.
		g := x.Grant(n)
		if !g.To.Open() && x.SharedPerms(n).Has(perm) && g.Condition().IsZero() && len(spare[n]) == 0 {
			out = append(out, g.Where...)
		}
	}
	d.besides[key] = out
	return out
}

// allIn reports whether every path on which a permission was used through a grant, and whose
// container is a node of use, lies in some places. The path may be of a node that nobody lists.
func (d *drafter) allIn(t *gauge.GrantResult, perm int, used, in []model.PathPattern) bool {
	if t.UseOf(perm) == nil {
		return true
	}
	key := [2]int{t.Number, perm}
	if d.spots[key] == nil {
		by := map[model.Path][]model.Path{}
		for p := range d.paths(t, perm) {
			c := d.container(p)
			by[c] = append(by[c], p)
		}
		d.spots[key] = by
	}
	for _, on := range used {
		node, _ := on.Anchor()
		for _, p := range d.spots[key][node] {
			if !slices.ContainsFunc(in, func(w model.PathPattern) bool { return w.Matches(p) }) {
				return false
			}
		}
	}
	return true
}

// some returns who of the holders of a grant is looked at for more than what they used of a
// permission, and for how many each of them stands: some of those who used it for all of those,
// and some of the others.
func (d *drafter) some(who []model.ID, perm int) (stand map[model.ID]float64) {
	stand = map[model.ID]float64{}
	var users, others []model.ID
	for _, id := range who {
		if d.worth.past.Used(id, perm) {
			users = append(users, id)
		} else {
			others = append(others, id)
		}
	}
	for _, list := range [][]model.ID{users, others} {
		n := min(len(list), mostHolders)
		for i := range n {
			stand[list[i*len(list)/n]] = float64(len(list)) / float64(n)
		}
	}
	return stand
}

// candidates returns on which places of a grant a permission may be needed by its holders.
func (d *drafter) candidates(t *gauge.GrantResult, perm int) []*candidate {
	who := t.Holders
	if len(who) == 0 {
		who = d.callers(t)
	}
	stand := map[model.ID]float64(nil) // all look at everything
	if len(who) > 2*mostHolders {
		stand = d.some(who, perm)
	}
	unseen := t.DarkAt(perm)
	if d.o.GiveUpUnobservable {
		unseen = nil
	}
	tenure := risk.TenureOf(int(d.in.AsOf.Sub(t.Since).Hours() / 24))
	by := map[string]*candidate{}
	var out []*candidate
	few := len(t.Holders) >= leastMoved && len(t.Holders) <= mostMoved && t.Grant.To.Kind == model.Group
	add := func(id model.ID, class risk.Class, where []model.PathPattern, hazard, often float64) {
		lent := d.lends(t, perm, id) && !dark(class) && often < mostAsks
		if lent {
			hazard = askPrice * often
		}
		var text strings.Builder
		if dark(class) {
			text.WriteString("dark ")
		}
		for _, on := range where {
			text.WriteString(on.String() + " ")
		}
		c := by[text.String()]
		if c == nil {
			c = &candidate{class: class, where: where, region: d.worth.past.Region(where...), key: text.String()}
			by[text.String()] = c
			out = append(out, c)
		}
		c.class = min(c.class, class)
		c.hazard += hazard
		if c.needs++; lent {
			c.lent++
			c.often += often
		}
		c.most = max(c.most, min(1, hazard))
		if few {
			if c.by == nil {
				c.by, c.users = map[model.ID]float64{}, map[model.ID]bool{}
			}
			if c.by[id] += hazard; class == risk.Used {
				c.users[id] = true
			}
		}
	}
	// What no log shows stays, as long as nothing is learned of it.
	judged := !d.o.KeepUnobservable && t.HeldBy != gauge.Unproven && d.worth.seesThrough(perm)
	for _, on := range unseen {
		if !judged {
			add(model.ID{}, risk.Dark, []model.PathPattern{on}, 0, 0)
		}
	}
	all := 0.0
	if judged && len(unseen) > 0 {
		all = float64(d.x.Count(perm, d.x.Region(t.Grant.Where...)))
	}
	for _, id := range who {
		each, looks := 1.0, true
		if stand != nil {
			each, looks = stand[id]
		}
		if judged && len(unseen) > 0 {
			for _, q := range d.worth.past.Hidden(id, perm, d.worth.now, unseen) {
				switch chance := d.worth.model.Chance(q); {
				case q.Class == risk.DarkHere: // where it works, as likely used as seen elsewhere
					add(id, q.Class, q.Where, chance, 0)
				case looks: // the chance is that of everything: mostly one place of it is used
					share := float64(d.x.Count(perm, d.x.Region(q.Where...))) / max(1, all)
					add(id, q.Class, q.Where, each*chance*share, 0)
				}
			}
		}
		if !looks && !d.worth.past.Used(id, perm) {
			continue
		}
		for _, q := range d.parts(id, perm, tenure, min(len(who), mostHolders), looks) {
			where, each := d.inside(t, q.Where), each
			if q.Class == risk.Used {
				each = 1 // everybody's count
			}
			if node, one := q.Where[0].Node(); one && q.Class == risk.Used {
				where = d.around(t, node)
			}
			if others := d.elsewhere(t, id, perm); len(others) > 0 && (q.Class != risk.Used ||
				d.allIn(t, perm, q.Where, others)) {
				where = slices.DeleteFunc(slices.Clone(where), func(on model.PathPattern) bool {
					return model.PathPatternsContain(others, on)
				})
			}
			if len(where) == 0 {
				continue
			}
			add(id, q.Class, where, each*q.chance, each*d.often(id, perm, q.Part, q.chance))
		}
	}
	out = d.bundled(t, perm, out)
	number(out)
	return out
}

// mostUsed is how many nodes of use are weighed one by one.
const mostUsed = 200

// bundled puts nodes of use together where there are very many: those of one container, and if
// that is not enough of one higher up, those that were used lately apart from the others.
func (d *drafter) bundled(t *gauge.GrantResult, perm int, all []*candidate) []*candidate {
	var used, others []*candidate
	for _, c := range all {
		if c.class == risk.Used {
			used = append(used, c)
		} else {
			others = append(others, c)
		}
	}
	if len(used) <= mostUsed {
		return all
	}
	recent := d.recent(t, perm)
	type bundle struct {
		up   model.Path
		late bool
	}
	for height := 1; ; height++ {
		by := map[bundle]*candidate{}
		var out []*candidate
		for _, c := range used {
			up, _ := c.where[0].Anchor()
			ok := true
			for range height {
				if above, some := up.Parent(); some && ok {
					up = above
				} else {
					ok = false
				}
			}
			k := bundle{up, slices.ContainsFunc(c.where, func(on model.PathPattern) bool { return recent[on] > 0 })}
			b := by[k]
			if b == nil {
				b = &candidate{class: risk.Used, key: fmt.Sprintf("of %s, lately %t", up, k.late),
					by: map[model.ID]float64{}, users: map[model.ID]bool{}}
				by[k] = b
				out = append(out, b)
			}
			b.where, b.hazard = append(b.where, c.where...), b.hazard+c.hazard
			b.needs, b.lent, b.often = b.needs+c.needs, b.lent+c.lent, b.often+c.often
			for id, x := range c.by {
				b.by[id] += x
				b.users[id] = b.users[id] || c.users[id]
			}
		}
		if len(out) <= mostUsed || height == mostHeight {
			for _, b := range out {
				b.region = d.x.Region(b.where...)
			}
			return append(out, others...)
		}
	}
}

// mostHeight is how far up nodes are put together.
const mostHeight = 8

// number notes which of the candidates of a permission lie inside which.
func number(all []*candidate) {
	for i, c := range all {
		c.number, c.inside = i, make([]bool, len(all))
		for j, o := range all {
			c.inside[j] = i == j || !slices.ContainsFunc(c.where,
				func(on model.PathPattern) bool { return !model.PathPatternsContain(o.where, on) })
		}
	}
}

// holders returns how many hold a grant: of one to anybody, all whom the estate knows.
func (d *drafter) holders(t *gauge.GrantResult) int {
	if !t.Grant.To.Open() {
		return max(1, len(t.Holders))
	}
	if d.everybody == 0 {
		for _, s := range d.r.Standings {
			if s.ID.Kind != model.Group {
				d.everybody++
			}
		}
	}
	return max(1, d.everybody)
}

// callers returns who used a grant.
func (d *drafter) callers(t *gauge.GrantResult) []model.ID {
	seen := map[int]bool{}
	var out []model.ID
	for i := range t.Use {
		pu := &t.Use[i]
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

// search picks the places of a grant on which a permission stays, for all its holders, and in the
// end also for single members of a group alone.
func (d *drafter) search(t *gauge.GrantResult, perm int, worth float64, end bool) []stays {
	weight := d.in.Weights[d.x.Level(perm)]
	key := [2]int{t.Number, perm}
	if _, ok := d.known[key]; !ok {
		d.known[key] = d.candidates(t, perm)
	}
	all := d.known[key]
	for _, c := range all {
		c.gain = c.hazard - (1-alone)*c.need().with(d.beside(c.key, perm))
	}
	recent := d.recent(t, perm)
	// What was done on one day in all may go when such calls do not come back.
	stay := func(c *candidate, on model.PathPattern) bool {
		days := recent[on]
		return days > 1 || days == 1 && (c.hazard >= onceBack || !d.worth.model.KnowsUsed())
	}
	// Silence where no log shows anything is none.
	blind := func(on model.PathPattern) bool {
		return !d.o.GiveUpUnobservable && model.PathPatternsContain(t.DarkAt(perm), on)
	}
	// What no log would show stays, what is used now, and what a habit that may be yearly, or
	// somebody silent, did use.
	forced := map[*candidate]bool{}
	for _, c := range all {
		hidden := c.class == risk.Dark || c.class == risk.DarkHere && c.most >= likely
		if c.needs > 0 && c.lent == c.needs && !hidden && !t.Held.Has(perm) { // it can be asked for
			continue
		}
		forced[c] = hidden || c.class == risk.Used && (t.Rare.Has(perm) || t.Held.Has(perm) ||
			slices.ContainsFunc(c.where, func(on model.PathPattern) bool { return stay(c, on) || blind(on) }))
	}
	taken, best := d.choose(perm, all, weight*float64(d.holders(t)), worth,
		forced, end)
	var out []stays
	if end && d.x.Level(perm) >= model.Change {
		taken, out = d.moved(t, perm, all, taken, best, forced, worth)
	}
	for _, c := range all {
		if !slices.ContainsFunc(taken, func(o *candidate) bool { return o.key == c.key || within(c, o) }) {
			goes := c.goes(out)
			d.miss(c.key, perm, goes)
			if end && c.often > 0 && goes.hazard > 0 {
				d.lend(t, perm, c.often*goes.hazard/c.hazard)
			}
		}
	}
	d.chosen[perm] = true
	return append(widest(taken, model.ID{}), out...)
}

// Members of a group of so many may keep something for themselves, so many of them at most of
// one permission.
const (
	leastMoved = 3
	mostMoved  = 20
	movedEach  = 2
)

// moved looks for members of a small group whose need is so much their own that it is better
// kept for each of them alone than for all. It returns what is left for all, and what for whom.
func (d *drafter) moved(t *gauge.GrantResult, perm int, all, taken []*candidate, best float64,
	forced map[*candidate]bool, worth float64) ([]*candidate, []stays) {
	weight := d.in.Weights[d.x.Level(perm)]
	group := weight * float64(d.holders(t))
	var out []stays
	for range movedEach {
		var who model.ID
		var left, rest, own []*candidate
		var at map[*candidate]bool
		gain := lineShare * group
		remains := func(c *candidate) bool {
			return slices.ContainsFunc(taken, func(o *candidate) bool { return within(c, o) })
		}
		for _, id := range t.Holders {
			if !slices.ContainsFunc(all, func(c *candidate) bool {
				return c.users[id] && len(c.users) == 1 && remains(c)
			}) {
				continue
			}
			var others, mine []*candidate
			stay, my := map[*candidate]bool{}, map[*candidate]bool{}
			for _, c := range all {
				a, b := c.without(id)
				a.users = maps.Clone(c.users)
				delete(a.users, id)
				others, mine = append(others, &a), append(mine, &b)
				stay[&a] = forced[c] && (c.class != risk.Used || len(a.users) > 0)
				my[&b] = forced[c] && c.users[id]
			}
			mine = slices.DeleteFunc(mine, func(c *candidate) bool { return c.hazard == 0 })
			kept, x := d.choose(perm, others, group, worth, stay, true)
			alone, y := d.choose(perm, mine, weight, worth, my, true)
			if more := x + y - best; more > gain && len(alone) > 0 {
				gain, who, left, rest, own, at = more, id, kept, others, alone, stay
			}
		}
		if who.IsZero() {
			break
		}
		_, best = d.choose(perm, rest, group, worth, at, true) // without the line, which is kept
		all, taken, forced = rest, left, at
		out = append(out, widest(own, who)...)
	}
	return taken, out
}

// lineShare is what a line for one member must gain, as a share of the weight of the permission
// for its group.
const lineShare = 0.2

// choose picks of some candidates, in the order of what they save by what they cost, the prefix
// with the most
//
//	worth * needs met - weight * log2(1 + places) - price of each piece
//
// after those that are forced, and returns that as well; in the end, the choice is mended.
func (d *drafter) choose(perm int, all []*candidate, weight, worth float64,
	forced map[*candidate]bool, end bool) ([]*candidate, float64) {
	price := pieceShare * weight
	var taken []*candidate
	var region index.Region
	met, total := 0.0, 0.0
	rest := make([]*candidate, 0, len(all))
	for _, c := range all {
		total += c.gain
		switch {
		case guessed(c.class) && c.hazard < leastGuess:
		case forced[c]:
			taken = append(taken, c)
			met, region = met+c.gain, region.Or(c.region)
		default:
			rest = append(rest, c)
		}
	}
	if len(taken) == 0 && worth*total <= price {
		return nil, 0
	}
	prefix, cost := len(taken), 0.0
	places := float64(d.x.Count(perm, region))
	best, more := worth*met-weight*math.Log2(1+places), 0.0
	for len(rest) > 0 {
		var pick *candidate
		var pickRegion index.Region
		var ratio, gain, now float64
		for _, c := range rest {
			with := region
			if len(c.region.AndNot(region)) > 0 {
				with = region.Or(c.region)
			}
			n := float64(d.x.Count(perm, with)) + more
			if n == places && c.class >= risk.Beside && !dark(c.class) && more == 0 {
				n++ // nothing that is listed is in there besides: what will be costs as one place
			}
			h := 0.0
			for _, o := range rest {
				if o == c || within(o, c) {
					h += o.gain
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
		more = places - float64(d.x.Count(perm, region))
		cost += price * float64(len(pick.where))
		rest = slices.DeleteFunc(rest, func(o *candidate) bool { return o == pick || within(o, pick) })
		if x := worth*met - weight*math.Log2(1+places) - cost; x > best+1e-9 {
			best, prefix = x, len(taken)
		}
	}
	if !end {
		return taken[:prefix], best
	}
	return d.mended(perm, all, taken[:prefix], best, weight, worth, forced)
}

// mostMended is of how many candidates a choice is looked at once more.
const mostMended = 24

// mended takes single candidates into a choice and out of it as long as that is better: a prefix
// in one order is not always the best of all sets.
func (d *drafter) mended(perm int, all, taken []*candidate, best, weight, worth float64,
	forced map[*candidate]bool) ([]*candidate, float64) {
	if len(all) > mostMended {
		return taken, best
	}
	n := len(all)
	var in, must, may set
	lies := make([]set, n) // what each lies in, itself included
	price := make([]float64, n)
	for i, c := range all {
		if slices.Contains(taken, c) {
			in |= 1 << i
		}
		if forced[c] {
			must |= 1 << i
		}
		if forced[c] || !guessed(c.class) || c.hazard >= leastGuess {
			may |= 1 << i
		}
		for j, o := range all {
			if i == j || within(c, o) {
				lies[i] |= 1 << j
			}
		}
		price[i] = pieceShare * weight * float64(len(c.where))
	}
	// Where nothing is listed in a wide place besides what is nearer, it counts as one place more:
	// see choose.
	listed := d.overlays(perm, all)
	var empty set
	for i, c := range all {
		if c.class < risk.Beside || dark(c.class) {
			continue
		}
		var nearer set
		for j, o := range all {
			if o.class < c.class && lies[j].has(i) {
				nearer |= 1 << j
			}
		}
		if listed.in(nearer) == listed.in(1<<i) {
			empty |= 1 << i
		}
	}
	known := map[set]float64{} // climbing comes by the same choices again and again
	value := func(in set) float64 {
		x, is := known[in]
		if is {
			return x
		}
		met, cost, more := 0.0, 0.0, 0
		if in&empty != 0 {
			more = 1
		}
		for i, c := range all {
			if (in &^ must).has(i) {
				cost += price[i]
			}
			if may.has(i) && in&lies[i] != 0 {
				met += c.gain
			}
		}
		x = worth*met - weight*math.Log2(1+float64(listed.in(in)+more)) - cost
		known[in] = x
		return x
	}
	climb := func(in set) (set, float64) {
		best := value(in)
		for {
			pick, gain := -1, 1e-9
			for i := range all {
				if (may &^ must).has(i) {
					if more := value(in^1<<i) - best; more > gain {
						pick, gain = i, more
					}
				}
			}
			if pick < 0 {
				return in, best
			}
			in ^= 1 << pick
			best += gain
		}
	}
	top, best := climb(in)
	// A second place costs less than a first one, and while a wide place stays nothing that lies
	// in it does any good: so from everything, from each wide place alone, and from everything
	// without it, one may climb to different tops.
	again := func(from set) {
		if in, x := climb(from); x > best+1e-9 {
			top, best = in, x
		}
	}
	again(may)
	for i, c := range all {
		if (may &^ must).has(i) && c.class != risk.Used {
			again(must | 1<<i)
			again(may &^ (lies[i] &^ must)) // without it, and what holds it: what a wide place hides comes out
		}
	}
	var out []*candidate
	for i, c := range all {
		if top.has(i) {
			out = append(out, c)
		}
	}
	return out, best
}

// set is some candidates by their numbers, [mostMended] of them at most.
type set uint32

func (s set) has(i int) bool { return s>>i&1 == 1 }

// overlay is how many nodes lie in the places of some candidates and in those of no others.
type overlay struct {
	of    set
	count int
}

// overlays are all of some candidates.
type overlays []overlay

// overlays lays the places of some candidates over each other, by where each begins and ends, and counts where a
// permission can be used.
func (d *drafter) overlays(perm int, all []*candidate) overlays {
	type edge struct {
		at uint32
		of set
	}
	var edges []edge
	for i, c := range all {
		for _, span := range c.region {
			edges = append(edges, edge{span.From, 1 << i}, edge{span.To, 1 << i})
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	var out overlays
	number, over := map[set]int{}, set(0)
	for i, e := range edges {
		if over != 0 && edges[i-1].at < e.at {
			n, known := number[over]
			if !known {
				n = len(out)
				number[over], out = n, append(out, overlay{of: over})
			}
			out[n].count += d.x.Count(perm, index.Region{{From: edges[i-1].at, To: e.at}})
		}
		over ^= e.of
	}
	return out
}

// in counts the nodes in the places of any of some candidates.
func (o overlays) in(any set) int {
	n := 0
	for _, at := range o {
		if at.of&any != 0 {
			n += at.count
		}
	}
	return n
}

// widest returns the places of candidates: what lies inside another place is not said again.
func widest(taken []*candidate, to model.ID) []stays {
	var out, kept []stays
	for _, c := range taken {
		for _, on := range c.where {
			out = append(out, stays{on, c.class, min(1, c.hazard), to, c.class == risk.Used})
		}
	}
	slices.SortStableFunc(out, func(a, b stays) int { return cmp.Compare(b.class, a.class) })
	for i, s := range out {
		if !slices.ContainsFunc(out, func(o stays) bool { return o.on != s.on && o.on.Contains(s.on) }) &&
			!slices.ContainsFunc(out[:i], func(o stays) bool { return o.on == s.on }) {
			s.used = slices.ContainsFunc(out, func(o stays) bool { return o.on == s.on && o.used })
			if s.used && !s.on.Deep() {
				s.class = risk.Used // which tells what of what lies below a node alone was used
			}
			kept = append(kept, s)
		}
	}
	return kept
}

// recent returns where a permission of a grant was used in the window, and on how many days ever. What is
// done once each on nodes that are called alike, the next month's and the one after, is done on all days on
// which it is done on any of them.
func (d *drafter) recent(t *gauge.GrantResult, perm int) map[model.PathPattern]int {
	key := [2]int{t.Number, perm}
	out, known := d.lately[key]
	if known {
		return out
	}
	out = map[model.PathPattern]int{}
	d.lately[key] = out
	type family struct {
		nodes map[model.Path]bool
		days  usage.Days
	}
	type used struct {
		node model.Path
		at   *gauge.PathUse
		like *family // nil: its name has no numbers
	}
	alike := map[string]*family{}
	paths := d.paths(t, perm)
	all := make([]used, 0, len(paths))
	for path, at := range paths {
		u := used{node: d.container(path), at: at}
		if name, some := risk.Kindred(u.node); some {
			if u.like = alike[name]; u.like == nil {
				u.like = &family{nodes: map[model.Path]bool{}}
				alike[name] = u.like
			}
			u.like.nodes[u.node], u.like.days = true, u.like.days.Union(at.Days)
		}
		all = append(all, u)
	}
	for _, u := range all {
		if u.at.InWindow == 0 {
			continue
		}
		days := u.at.Days.Count()
		if f := u.like; f != nil && len(f.nodes) >= leastAlike && f.days.Count() >= risk.FewDays {
			days = f.days.Count()
		}
		for _, on := range d.around(t, u.node) {
			out[on] = max(out[on], days)
		}
	}
	return out
}

// leastAlike is how many nodes that are called alike are a habit, where something is done on them on
// [risk.FewDays] days in all.
const leastAlike = 3

// likely is from what chance on something that no log shows is taken for used.
const likely = 0.5

// onceBack is how likely what was done on a single day must come back to stay in any case.
const onceBack = 0.2

// leastGuess is how likely something that was never used must be needed to be kept: a fence
// that keeps a long list at a percent each is read by nobody.
const leastGuess = 0.03

// pieceShare is what a piece of a fence costs, as a share of the weight of its permission.
const pieceShare = 0.02

// within reports whether all places of one candidate lie inside those of another.
func within(o, c *candidate) bool { return o.inside[c.number] }
