package risk

import (
	"math"
	"math/rand/v2"
	"slices"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Horizon is how far ahead a need counts, in days.
const Horizon = 90

// priorWeight is how many observations the class weighs for a bin, and a prior for a class.
const priorWeight = 10

// priors are what the chances of the classes are taken for without a past, by size.
var priors = [classes][3]float64{Used: {.6, .6, .6}, Peer: {.05, .05, .05}, Name: {.04, .10, .30},
	Beside: {.04, .06, .10}, Near: {.03, .05, .08}, Rest: {.02, .02, .03}, FirstHere: {.02, .02, .02},
	FirstBeside: {.01, .01, .01}, FirstRest: {.005, .005, .005}}

// A Model knows how often parts were needed.
type Model struct {
	ahead float64 // how many times the counted span the horizon is
	bins  map[key]tally
	sizes [classes][3]tally
}

type key struct {
	class Class
	bin   uint16
}

// tally is how many parts there were, and how many of them were needed.
type tally struct{ n, k float64 }

// shortest is the least span that a chance is counted over, in days.
const shortest = 14

// most bounds how many parts are learned from, about: of many identities some are taken, in an
// order that has nothing to do with their names.
const most = 300_000

// Granted are the permissions that somebody was granted as of a day, by number, and of each
// whether it was granted within [Young] days.
type Granted func(id model.ID, day usage.Day) map[int]bool

// Young is how long what was granted is young, in days.
const Young = 90

// Learn counts on a past, up to a day, how often parts were needed.
func Learn(p *Past, now usage.Day, granted Granted) *Model {
	m := &Model{ahead: 1, bins: map[key]tally{}}
	var landmarks []usage.Day
	for t := now - Horizon; t >= p.first+max(Horizon, (now-p.first)/2) && len(landmarks) < 5; t -= 30 {
		landmarks = append(landmarks, t)
	}
	over := usage.Day(Horizon)
	if len(landmarks) == 0 {
		if over = min(over, (now-p.first)/2); over < shortest {
			return m
		}
		landmarks = append(landmarks, now-over)
	}
	m.ahead = Horizon / float64(over)
	ids := make([]model.ID, 0, len(p.who))
	for id := range p.who {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, model.ID.Compare)
	rand.New(rand.NewPCG(1, 0)).Shuffle(len(ids), func(i, j int) { ids[i], ids[j] = ids[j], ids[i] })
	n := 0
	for _, id := range ids {
		for _, t := range landmarks {
			n += m.learn(p, id, t, t+over, granted)
		}
		if n > most {
			break
		}
	}
	return m
}

func (m *Model) learn(p *Past, id model.ID, from, to usage.Day, granted Granted) (n int) {
	h := p.who[id]
	if h.silent(from) > 1<<19 {
		return 0 // nothing was known of it then
	}
	for perm, young := range granted(id, from) {
		parts := p.Parts(id, perm, from, young)
		needed := make([]bool, len(parts))
		if u := h.perms[perm]; u != nil {
			for at, days := range u.at {
				if days.Between(from+1, to).Count() == 0 {
					continue
				}
				if i := slices.IndexFunc(parts, func(q Part) bool { return q.Holds(at) }); i >= 0 {
					needed[i] = true
				}
			}
		}
		for i, q := range parts {
			m.note(q, needed[i])
		}
		n += len(parts)
	}
	return n
}

func (m *Model) note(q Part, needed bool) {
	t := m.bins[key{q.Class, q.Bin}]
	t.n++
	all := &m.sizes[q.Class][q.Size]
	all.n++
	if needed {
		t.k++
		all.k++
	}
	m.bins[key{q.Class, q.Bin}] = t
}

// enough is of how many parts a class must have been seen for its chances to count where
// they have no prior: what was never done is not guessed at without a past.
const enough = 20

// Chance returns how likely it is that a part is needed within the horizon.
func (m *Model) Chance(q Part) float64 {
	all, bin := m.sizes[q.Class][q.Size], m.bins[key{q.Class, q.Bin}]
	if q.Class != Used && q.Class != Name && q.Class != Beside && m.seen(q.Class) < enough {
		return 0
	}
	prior := 1 - math.Pow(1-priors[q.Class][q.Size], 1/m.ahead)
	class := (all.k + priorWeight*prior) / (all.n + priorWeight)
	soon := (bin.k + priorWeight*class) / (bin.n + priorWeight)
	return 1 - math.Pow(1-soon, m.ahead)
}

// seen returns how many parts of a class there were.
func (m *Model) seen(c Class) float64 {
	n := 0.0
	for _, t := range m.sizes[c] {
		n += t.n
	}
	return n
}
