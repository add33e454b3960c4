package risk

import (
	"maps"
	"math"
	"math/rand/v2"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Horizon is how far ahead a need counts, in days, and Soon how far of that it is told besides.
const (
	Horizon = 90
	Soon    = 30
)

// priorWeight is how many observations a prior is worth.
const priorWeight = 10

// priors are what the chances of the classes are taken for without a past, by size.
var priors = [classes][3]float64{Peer: {.05, .05, .05}, Name: {.04, .10, .30},
	Beside: {.04, .06, .10}, Kin: {.04, .10, .25}, Near: {.03, .05, .08}, Rest: {.02, .02, .03},
	FirstHere: {.02, .02, .02}, FirstBeside: {.01, .01, .01}, FirstRest: {.005, .005, .005},
	DarkHere: {.2, .2, .2}, DarkRest: {.05, .05, .05}}

// usedPriors are those of a node of use, by how long it is silent and on how many days it was used: what
// was done on one day only seldom comes back, and what is done daily and fell silent for months has ended.
var usedPriors = [6][4]float64{{.4, .6, .8, .95}, {.15, .3, .5, .6}, {.06, .2, .3, .4}, {.04, .1, .15, .2},
	{.03, .05, .08, .1}, {.02, .03, .04, .05}}

// priorOver is what is left of those where somebody's whole habit is over: few come back who stopped. In the
// two lives that were tuned on, of what they had used three to six months before none to 15 % was needed
// again, by the number of days.
const priorOver = .4

// stopped reports whether a part is a node of use of somebody whose whole habit is over. How often such a
// node is needed again is another thing than with those who go on, and is learned apart: an estate may
// have seen nobody leave, and knows nothing about those who do by how those go on who stay.
func stopped(c Class, bin uint32) bool {
	if c != Used {
		return false
	}
	rest := uint32(1) // of the facts after the third
	for _, n := range factors[Used][3:] {
		rest *= uint32(n)
	}
	quiet := uint32(factors[Used][2])
	return bin/rest%quiet == quiet-1
}

// backPriors are those of a comeback, by how long somebody is silent and on how many days anything was done:
// after weeks it may be a long leave, after months it seldom is.
var backPriors = [6][4]float64{{.5, .5, .5, .5}, {.3, .3, .4, .5}, {.1, .1, .2, .3}, {.05, .08, .1, .12},
	{.04, .05, .05, .06}, {.03, .03, .03, .03}}

// prior is what the chance of a part is taken for without a past.
func prior(c Class, bin uint32) float64 {
	rest := uint32(1) // of the facts after the first
	for _, n := range factors[c][min(1, len(factors[c])):] {
		rest *= uint32(n)
	}
	switch c {
	case Used:
		of := rest / uint32(factors[Used][1]) // of the facts after the second
		chance := usedPriors[bin/rest][bin/of%uint32(factors[Used][1])]
		if stopped(c, bin) {
			chance *= priorOver
		}
		return chance
	case Comeback:
		return backPriors[bin/rest][bin%rest]
	case Name, Beside, Kin: // their first fact is the size
		return priors[c][bin/rest]
	}
	return priors[c][0]
}

// A Model knows how often parts were needed. It is not for several goroutines.
type Model struct {
	late, soon outlook
	seen       [classes]float64 // how many parts of a class there were
	young      tally            // parts of what was young, and of how many identities
	together   [classes]tally   // of spots of which something was needed: how many parts were, and how many spots
}

// spot is where what is done is done together: parts of one class on the same places. Lists of places that are as
// long, begin and end alike are the same: they come of one list.
type spot struct {
	class       Class
	places      int
	first, last model.PathPattern
}

func spotOf(q Part) spot {
	n := len(q.Where)
	if n == 0 {
		return spot{class: q.Class}
	}
	return spot{q.Class, n, q.Where[0], q.Where[n-1]}
}

// among returns how many parts of a spot are needed where any is, in the mean; 0: too few were seen to
// tell.
func (m *Model) among(c Class) float64 {
	if t := m.together[c]; t.k >= Enough {
		return t.n / t.k
	}
	return 0
}

// outlook is how often parts were needed within one horizon.
type outlook struct {
	days  float64 // the horizon
	ahead float64 // how many times the counted span it is
	again float64 // how many landmarks see one need, in the mean
	bins  [classes]map[uint32]tally
	fits  [classes]logit
	over  logit // of the nodes of use of those who stopped: see stopped
}

func newOutlook(days, over float64) outlook {
	o := outlook{days: days, ahead: days / min(days, over), again: 1}
	for c := range o.bins {
		o.bins[c] = map[uint32]tally{}
	}
	return o
}

// note counts a part as so many; what was not seen in the days of its landmark, by how many times longer it has not
// been seen by now: see [falls].
func (o *outlook) note(q Part, needed bool, w, longer float64) {
	t := o.bins[q.Class][q.Bin]
	if t.n += w; needed {
		t.k += w
	}
	t.more += w * (math.Pow(longer, falls(q)) - 1)
	o.bins[q.Class][q.Bin] = t
}

// chance returns how likely it is that a part is needed within the horizon.
func (o *outlook) chance(q Part) float64 {
	fit := &o.fits[q.Class]
	if stopped(q.Class, q.Bin) {
		fit = &o.over
	}
	return 1 - math.Pow(1-fit.chance(q.Bin), o.ahead)
}

// tally is how many parts there were, how many of them were needed, and as how many more they count: see [falls].
type tally struct{ n, k, more float64 }

// falls is the power of the length of the logs by which a part falls that was not seen in them yet. How likely what
// somebody was granted all the time and never used is used next falls in inverse proportion: what is used at all was
// mostly seen by then. So is it where rates differ as widely as those of species in a trap (Fisher, Corbet and
// Williams, The relation between the number of species and the number of individuals in a random sample of an animal
// population, Journal of Animal Ecology, 1943: the number that was seen grows with the logarithm of the catch). What
// lies further from where something is used is half of it such, and half of it where work goes that moves on, as
// likely now as ever. A landmark has a shorter past than today has: a part that it looks at is evidence of as many of
// today as those fell by since.
func falls(q Part) float64 {
	switch q.Class {
	case Near:
		return .5
	case FirstHere, FirstBeside, FirstRest:
		if fact(q, firstHad) == 0 && fact(q, firstTenure) == int(Old) {
			return 1
		}
	}
	return 0
}

// shortest is the least span that a chance is counted over, in days.
const shortest = 14

// most bounds how many parts are learned from, about: of many identities some are taken, in an
// order that has nothing to do with their names. Of some two thousand identities with a few dozen permissions
// each all count: what a seventh of them did was too few to tell of the others.
const most = 600_000

// Held is a permission that somebody was granted.
type Held struct {
	Since usage.Day           // the first day on which it was
	Where []model.PathPattern // its places
	Dark  []model.PathPattern // those of them on which no log shows it
	// Hid reports of a place whether no log showed it there as of the day that is asked about, and one does that was
	// switched on since. What it shows says nothing of what was to be expected by what was known then. nil: none was.
	Hid func(at model.Path) bool
}

// Given is a grant as somebody had it: the permissions that count of it, and where.
type Given struct {
	Perms access.Set
	Where []model.PathPattern
}

// Having is what somebody is granted, grant by grant; and of one permission since when, and on which places no
// log shows it.
type Having struct {
	Grants []Given
	Since  func(perm int) usage.Day
	Dark   func(perm int) []model.PathPattern
}

// Grants say what somebody was granted as of a day.
type Grants interface {
	// Held returns it by permission.
	Held(id model.ID, day usage.Day) map[int]Held
}

// Young is how long what was granted is young, in days.
const Young = 90

// Learn counts on a past, up to a day, how often parts were needed. What it is at is told by how many of how many
// identities it looked at, to nobody if at is nil.
func Learn(p *Past, now usage.Day, granted Grants, at func(done, of int)) *Model {
	m := &Model{late: newOutlook(Horizon, Horizon), soon: newOutlook(Soon, Soon)}
	defer m.fit()
	var landmarks []usage.Day
	for t := now - Horizon; t >= p.first+max(Horizon, (now-p.first)/2) && len(landmarks) < 5; t -= apart {
		landmarks = append(landmarks, t)
	}
	over := usage.Day(Horizon)
	if len(landmarks) == 0 {
		if over = min(over, (now-p.first)/2); over < shortest {
			return m
		}
		landmarks = append(landmarks, now-over)
	}
	m.late, m.soon = newOutlook(Horizon, float64(over)), newOutlook(Soon, float64(over))
	m.late.again, m.soon.again = seenAgain(len(landmarks), over), seenAgain(len(landmarks), min(over, Soon))
	ids := make([]model.ID, 0, len(p.who))
	for id := range p.who {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, model.ID.Compare)
	rand.New(rand.NewPCG(1, 0)).Shuffle(len(ids), func(i, j int) { ids[i], ids[j] = ids[j], ids[i] })
	p.count(ids[:min(len(ids), mostCounted)], now, landmarks, granted)
	n := 0
	for i, id := range ids {
		if at != nil {
			at(i, len(ids))
		}
		for _, t := range landmarks {
			n += m.learn(p, id, t, t+over, now, granted)
		}
		if n > most {
			break
		}
	}
	return m
}

// apart is how many days lie between landmarks.
const apart = 30

// seenAgain returns how many of so many landmarks see one day of those that they look at, in the mean: so
// many times is what was counted no news.
func seenAgain(landmarks int, over usage.Day) float64 {
	return float64(landmarks) * float64(over) / float64(min(apart, over)*usage.Day(landmarks-1)+over)
}

// mostOthers is how many permissions that somebody did not use are looked at.
const mostOthers = 60

// between reports whether a permission was used on some days.
func (h *history) between(perm int, from, to usage.Day) bool {
	if u := h.perms()[perm]; u != nil {
		for _, days := range u.at {
			if days.Any(from, to) {
				return true
			}
		}
	}
	return false
}

// mostCounted is of how many identities it is counted who uses what they hold.
const mostCounted = 300

// count notes how large a share of those who hold a permission where a log shows it use it, and had used it by each
// landmark.
func (p *Past) count(ids []model.ID, now usage.Day, landmarks []usage.Day, granted Grants) {
	hold, use := map[int]float64{}, map[int]float64{}
	for _, t := range landmarks {
		p.then[t] = map[int]float64{}
	}
	for _, id := range ids {
		h := p.who[id]
		held := granted.Held(id, now)
		for perm, g := range granted.Held(id, now-Horizon) { // what was narrowed since was not used either
			if _, still := held[perm]; !still {
				held[perm] = g
			}
		}
		var does []int
		for perm, g := range held {
			if !p.blind(perm, &g) {
				hold[perm]++
				if h.used(perm) {
					use[perm]++
					does = append(does, perm)
				}
			}
		}
		for _, t := range landmarks {
			for _, perm := range does {
				if h.days(perm, t) > 0 {
					p.then[t][perm]++
				}
			}
		}
	}
	p.popular, p.holders = map[int]float64{}, hold
	for perm, n := range hold {
		p.popular[perm] = use[perm] / n
		for _, t := range landmarks {
			p.then[t][perm] /= n
		}
	}
}

// need is whether something was needed within the horizon, and soon.
type need struct{ late, soon bool }

func (n *need) or(o need) { n.late, n.soon = n.late || o.late, n.soon || o.soon }

func (m *Model) learn(p *Past, id model.ID, from, to, now usage.Day, granted Grants) (n int) {
	h := p.who[id]
	if h.silent(from).days > 1<<19 {
		return 0 // nothing was known of it then
	}
	young, longer := false, float64(now-p.first)/float64(from-p.first)
	// Of what was not used before, and is not after, some stand for all.
	var some, others []int
	held := granted.Held(id, from)
	n += len(held) / 4 // looking takes as long
	if q, is := h.comeback(from); is {
		again := func(to usage.Day) bool { return h.again(from+1, to, held) }
		m.note(q, need{again(to), again(min(to, from+Soon))}, 1, 1)
	}
	for _, perm := range slices.Sorted(maps.Keys(held)) {
		if h.days(perm, from) > 0 || h.between(perm, from+1, to) {
			some = append(some, perm)
		} else {
			others = append(others, perm)
		}
	}
	spots := map[spot]float64{}
	certain, weight := len(some), 1.0
	if len(others) > mostOthers {
		r := rand.New(rand.NewPCG(uint64(from), uint64(len(others))))
		for i := range mostOthers {
			j := i + r.IntN(len(others)-i)
			others[i], others[j] = others[j], others[i]
		}
		weight = float64(len(others)) / mostOthers
		others = others[:mostOthers]
	}
	for k, perm := range append(some, others...) {
		g := held[perm]
		if p.blind(perm, &g) {
			continue
		}
		w := 1.0
		if k >= certain {
			w = weight
		}
		tenure := TenureOf(int(from - g.Since))
		parts := g.Clip(p.Parts(id, perm, from, tenure))
		hidden, cover := p.covered(h, id, perm, from, g)
		needed, felt := make([]need, len(parts)), make([]need, len(hidden))
		if u := h.perms()[perm]; u != nil {
			for at, days := range u.at {
				if !days.Any(from+1, to) || g.hid(at) {
					continue
				}
				is := need{true, days.Any(from+1, min(to, from+Soon))}
				if i := slices.IndexFunc(parts, func(q Part) bool { return q.Holds(at) }); i >= 0 {
					needed[i].or(is)
				}
				if i := cover(at); i >= 0 {
					felt[i].or(is)
				}
			}
		}
		for i, q := range parts {
			if m.note(q, needed[i], w, longer); needed[i].late {
				spots[spotOf(q)]++
			}
		}
		for i, q := range hidden {
			if m.note(q, felt[i], w, 1); felt[i].late {
				spots[spotOf(q)]++
			}
		}
		if tenure != Old && len(parts) > 0 {
			m.young.n += float64(len(parts))
			young = true
		}
		n += len(parts) + len(hidden)
	}
	if young {
		m.young.k++
	}
	for at, parts := range spots {
		t := &m.together[at.class]
		t.n, t.k = t.n+parts, t.k+1
	}
	return n
}

// KnowsYoung reports whether enough was seen of what is young to judge it by its chances.
func (m *Model) KnowsYoung() bool { return m.young.n >= 100 && m.young.k >= 5 }

// KnowsDark reports whether enough was learned where logs are on for what they would show where
// they are not of permissions of a level: of power by power alone.
func (m *Model) KnowsDark(l model.Level) bool {
	for _, c := range []Class{DarkHere, DarkRest} {
		width := uint32(1) // of the facts after the first
		for _, n := range factors[c][1:] {
			width *= uint32(n)
		}
		n := 0.0
		for bin, t := range m.late.bins[c] {
			if of := model.Level(bin / width / 2); l < model.Administer || of >= model.Administer {
				n += t.n
			}
		}
		if n < enoughDark {
			return false
		}
	}
	return true
}

// enoughDark is of how many parts it must be known whether they were needed.
const enoughDark = 100

// KnowsUsed reports whether enough was seen of what was used to let it go by its chance.
func (m *Model) KnowsUsed() bool { return m.seen[Used] >= 100 }

// blind reports whether no log shows a permission on any node on which it is held.
func (p *Past) blind(perm int, g *Held) bool {
	switch {
	case len(g.Where) == 0 || len(g.Dark) == 0:
		return false
	case slices.Equal(g.Where, g.Dark) || allInside(g.Where, g.Dark):
		return true
	}
	k := hidden{&g.Where[0], &g.Dark[0], len(g.Where), len(g.Dark), p.x.Class(perm)}
	is, known := p.blinds[k]
	if !known {
		on := p.x.Region(g.Where...)
		lit, few := p.x.Outermost(perm, on.AndNot(p.x.Region(g.Dark...)), 1)
		is = few && len(lit) == 0 && p.x.Count(perm, on) > 0
		if len(p.blinds) >= mostBlinds {
			clear(p.blinds)
		}
		p.blinds[k] = is
	}
	return is
}

// mostBlinds bounds how many answers of blind are kept.
const mostBlinds = 1 << 14

// hidden is what decides whether a log shows anything: places, those of them that are dark, and
// a class of permissions.
type hidden struct {
	where, dark *model.PathPattern
	n, m, class int
}

func (g *Held) hid(at model.Path) bool { return g.Hid != nil && g.Hid(at) }

// Clip returns the parts that lie in what was granted and that a log shows, as far as they do.
func (g *Held) Clip(parts []Part) []Part {
	if g.Where == nil {
		return parts
	}
	var of *model.Patterns
	if len(g.Where) > oneByOne {
		of = model.PatternsOf(g.Where)
	}
	granted := func(on model.PathPattern, each func(model.PathPattern) bool) bool {
		switch {
		case on.IsZero():
			return every(g.Where, each)
		case of != nil:
			return every(of.Inside(on), each) && (!of.One(on) || each(on))
		}
		return every(g.Where, func(w model.PathPattern) bool {
			switch {
			case on.Contains(w):
				return each(w)
			case w.Contains(on):
				return each(on)
			}
			return true
		})
	}
	return clip(parts, model.PatternsOf(g.Dark), model.PatternsOf, granted)
}

// every reports whether each of some places is as asked for, up to the first that is not.
func every(of []model.PathPattern, is func(model.PathPattern) bool) bool {
	return !slices.ContainsFunc(of, func(on model.PathPattern) bool { return !is(on) })
}

// oneByOne is how many places are looked at one by one, and not put together.
const oneByOne = 8

// clip is [Held.Clip] by what tells of each place that was granted of some others, as long as it is as asked
// for: of everywhere where they are the zero pattern. What was granted of a part lies in its places, so those of the
// parts before, which many permissions have the same (of puts a list together), stand for it.
func clip(parts []Part, dark *model.Patterns, of func([]model.PathPattern) *model.Patterns,
	granted func(on model.PathPattern, each func(model.PathPattern) bool) bool) []Part {
	var out []Part
	var before []*model.Patterns
	var last []model.PathPattern // to come to those
	for _, q := range parts {
		if last != nil {
			before, last = append(before, of(last)), nil
		}
		shown, rest := false, false // by a log, and not in a part before it
		for _, on := range q.Where {
			if shown && rest {
				break
			}
			granted(on, func(w model.PathPattern) bool {
				shown = shown || !dark.Contain(w)
				rest = rest || !slices.ContainsFunc(before, func(b *model.Patterns) bool { return b.Contain(w) })
				return !shown || !rest
			})
		}
		if !shown || !rest {
			continue
		}
		out = append(out, q)
		if slices.ContainsFunc(q.Where, model.PathPattern.IsZero) {
			break // nothing is left
		}
		if q.Class != Used {
			last = q.Where
		}
	}
	return out
}

// allInside reports whether each of some patterns lies inside one of others.
func allInside(in, of []model.PathPattern) bool {
	return len(of) > 0 && !slices.ContainsFunc(in, func(on model.PathPattern) bool {
		return !slices.ContainsFunc(of, func(o model.PathPattern) bool { return o.Contains(on) })
	})
}

func (m *Model) note(q Part, needed need, w, longer float64) {
	m.late.note(q, needed.late, w, longer)
	m.soon.note(q, needed.soon, w, longer)
	m.seen[q.Class] += w
}

// yearlyFloor is the least chance of what may come every year, and turnsFloor that of what is called after
// the next one. A past of a year or so saw one such, or none.
const (
	yearlyFloor = 0.35
	turnsFloor  = 0.6
)

// Enough is of how many parts a class must have been seen for its chances to count where
// they have no prior: what was never done is not guessed at without a past.
const Enough = 20

// Chance returns how likely it is that a part is needed within the horizon.
func (m *Model) Chance(q Part) float64 {
	switch {
	case m.unknown(q):
		return 0
	case q.Yearly:
		return max(m.late.chance(q), yearlyFloor)
	case q.Turns:
		return max(m.late.chance(q), turnsFloor)
	}
	return m.late.chance(q)
}

// Soon returns how likely it is that a part is needed within [Soon] days; no more than [Model.Chance].
func (m *Model) Soon(q Part) float64 {
	if m.unknown(q) {
		return 0
	}
	return min(m.soon.chance(q), m.Chance(q))
}

// unknown reports whether nothing is guessed of a part.
func (m *Model) unknown(q Part) bool {
	switch q.Class {
	case Used, Name, Beside, Kin, Comeback:
		return false
	case Dark:
		return true
	}
	return m.seen[q.Class] < Enough
}

// Back returns how likely somebody who stopped does anything again within the horizon, and soon; both are 0
// of who goes on.
func (m *Model) Back(p *Past, id model.ID, day usage.Day) (late, soon float64) {
	q, is := p.of(id).comeback(day)
	if !is {
		return 0, 0
	}
	return m.Chance(q), m.Soon(q)
}

// Like returns how many parts with the same facts there were in the past, and how many of them
// were needed within so many days after. Where there were hardly any, the last facts do not
// count, one after the other, but for the first.
func (m *Model) Like(q Part) (n, needed, days int) {
	days = int(math.Round(Horizon / m.late.ahead))
	sizes := factors[q.Class]
	width := uint32(1) // of the facts that do not count
	for k := len(sizes); ; k-- {
		var t tally
		for bin, o := range m.late.bins[q.Class] {
			if bin/width == q.Bin/width && stopped(q.Class, bin) == stopped(q.Class, q.Bin) {
				t.n, t.k = t.n+o.n, t.k+o.k
			}
		}
		if t.n >= Enough || k <= 1 {
			return int(math.Round(t.n)), int(math.Round(t.k)), days
		}
		width *= uint32(sizes[k-1])
	}
}

// fit fits what was counted. Without a past the priors speak, which weigh [priorWeight]
// observations: as much as the curvature of the likelihood of so many.
func (m *Model) fit() {
	m.late.fit()
	m.soon.fit()
}

func (o *outlook) fit() {
	odds := func(c Class, bin uint32) float64 {
		// A prior is for the horizon of [Horizon] days: it is taken for the same every day.
		counted := 1 - math.Pow(1-prior(c, bin), o.days/Horizon/o.ahead)
		return math.Log(counted) - math.Log(1-counted)
	}
	fit := func(l *logit, c Class, bins map[uint32]tally, firm uint32) {
		l.sizes, l.from = factors[c], func(bin uint32) float64 { return odds(c, bin) }
		counted := 1 / (1 + math.Exp(-odds(c, firm)))
		l.firm = priorWeight * counted * (1 - counted)
		l.fit(bins, o.again)
	}
	for c := range Dark {
		if c != Used {
			fit(&o.fits[c], c, o.bins[c], 0)
		}
	}
	on, over := map[uint32]tally{}, map[uint32]tally{}
	for bin, t := range o.bins[Used] {
		if stopped(Used, bin) {
			over[bin] = t
		} else {
			on[bin] = t
		}
	}
	fit(&o.fits[Used], Used, on, 0)
	// The prior of those who stopped is firm as that of what was used on a few days and is not any more for
	// three months.
	fit(&o.over, Used, over, bin([2]int{3, 6}, [2]int{1, 4}, [2]int{2, 3}, [2]int{0, 4}, [2]int{0, 4}, [2]int{0, 2}))
}
