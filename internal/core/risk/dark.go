package risk

import (
	"maps"
	"slices"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Where no log shows it
//
// What is done where a log is off has no outcome to learn from. What is done where it is on has
// one, and can be looked at as if the log were off: of a service and a sort of records, one
// container is covered up, its features are made from what is left (is the identity seen there
// otherwise, with the same service, does it use the permission elsewhere, how many of those who
// hold it do), and it is looked up what happened under the cover. Peers' use is no feature:
// where the log is off, theirs is off as well.

// seen is what is known of where somebody does what: of each container the permissions.
type seen struct {
	day  usage.Day
	list []model.Path
	at   map[model.Path][]int
}

// where returns in which containers somebody used what within a year; the last answer is kept.
func (h *history) where(day usage.Day) *seen {
	if h.seen != nil && h.seen.day == day {
		return h.seen
	}
	s := &seen{day: day, at: map[model.Path][]int{}}
	for perm, u := range h.perms() {
		for at, days := range u.at {
			up, ok := at.Parent()
			if ok && !slices.Contains(s.at[up], perm) && days.Any(day-365, day) {
				s.at[up] = append(s.at[up], perm)
			}
		}
	}
	s.list = slices.SortedFunc(maps.Keys(s.at), model.Path.Compare)
	h.seen = s
	return s
}

// using returns in how many containers a permission was used.
func (s *seen) using(perm int) int {
	n := 0
	for _, perms := range s.at {
		if slices.Contains(perms, perm) {
			n++
		}
	}
	return n
}

// log returns which records show a permission.
func (p *Past) log(perm int) (service, class string) {
	c := p.x.Permission(perm)
	return c.Permission.Service(), c.LogClass
}

// visible says what can be seen of somebody in a container when one log is covered up there:
// 0 nothing, 1 something, 2 something of the same service.
func (p *Past) visible(perms []int, service, class string) int {
	n := 0
	for _, o := range perms {
		s, c := p.log(o)
		switch {
		case s == service && c != class:
			return 2
		case s != service:
			n = 1
		}
	}
	return n
}

// fewHolders is of how many who hold a permission where a log shows it it must be known whether
// they use it.
const fewHolders = 5

// Shows reports whether some log shows enough of a permission for what nobody sees of it to be
// judged by that: of what no log shows anywhere it is not known whether anybody ever uses it.
func (p *Past) Shows(perm int) bool { return p.holders[perm] >= fewHolders }

// popularity puts into one of four sizes how many of those who hold a permission used it, as of a landmark or of
// today; all may, of one that no log shows.
func (p *Past) popularity(perm int, day usage.Day) [2]int {
	popular, past := p.then[day]
	if !past {
		popular = p.popular
	}
	if p.holders[perm] == 0 {
		return [2]int{3, 4}
	}
	n := 0
	for _, least := range []float64{.005, .05, .2} {
		if popular[perm] > least {
			n++
		}
	}
	return [2]int{n, 4}
}

// habits returns the facts about somebody and a permission that no cover hides, with a number
// of containers where it is seen to use it.
func (p *Past) habits(id model.ID, perm, elsewhere int, day usage.Day) [][2]int {
	used := 0
	if elsewhere > 0 {
		used = 1 + few(elsewhere)[0]
	}
	who := 0
	if id.Kind == model.Workload {
		who = 1
	}
	return [][2]int{{2*int(p.x.Level(perm)) + who, 12}, p.popularity(perm, day), {used, 4}}
}

// Hidden returns the parts of places on which no log shows a permission: the containers where
// somebody is seen to do other things, and the rest.
func (p *Past) Hidden(id model.ID, perm int, day usage.Day, dark []model.PathPattern) []Part {
	if len(dark) == 0 {
		return nil
	}
	s := p.of(id).where(day)
	service, class := p.log(perm)
	elsewhere := s.using(perm)
	facts := p.habits(id, perm, elsewhere, day)
	var out []Part
	var here []model.PathPattern
	silent := true
	for _, up := range s.list {
		v := p.visible(s.at[up], service, class)
		silent = silent && v == 0
		in := overlap(up.Below(), dark)
		if v == 0 || len(in) == 0 {
			continue
		}
		here = append(here, in...)
		out = append(out, Part{Class: DarkHere, Bin: bin(append(facts, [2]int{v - 1, 2})...),
			Where: in})
	}
	var rest []model.PathPattern
	for _, on := range dark {
		if !slices.ContainsFunc(here, func(h model.PathPattern) bool { return h.Contains(on) }) {
			rest = append(rest, on)
		}
	}
	if len(rest) > 0 {
		out = append(out, Part{Class: DarkRest, Bin: bin(append(facts, flag(silent))...), Where: rest})
	}
	return out
}

// overlap returns what of some patterns lies inside one, or that one where they hold it.
func overlap(on model.PathPattern, of []model.PathPattern) []model.PathPattern {
	var out []model.PathPattern
	for _, o := range of {
		switch {
		case o.Contains(on):
			return []model.PathPattern{on}
		case on.Contains(o):
			out = append(out, o)
		}
	}
	return out
}

// covered makes the parts of [Past.Hidden] where logs are on, as if they were not, and returns
// which of them holds a node, -1 for none.
func (p *Past) covered(h *history, id model.ID, perm int, day usage.Day, g Held) ([]Part,
	func(model.Path) int) {
	s := h.where(day)
	service, class := p.log(perm)
	elsewhere := s.using(perm)
	of := map[model.Path]int{}
	var out []Part
	silent := true
	for _, up := range s.list {
		v := p.visible(s.at[up], service, class)
		silent = silent && v == 0
		on := []model.PathPattern{up.Below()}
		if v == 0 || g.Where != nil && len(overlap(on[0], g.Where)) == 0 || allInside(on, g.Dark) {
			continue
		}
		n := elsewhere
		if slices.Contains(s.at[up], perm) {
			n--
		}
		of[up] = len(out)
		out = append(out, Part{Class: DarkHere, Bin: bin(append(p.habits(id, perm, n, day), [2]int{v - 1, 2})...),
			Where: on})
	}
	rest := -1
	if g.Where == nil || !allInside(g.Where, append(slices.Clone(g.Dark), patterns(out)...)) {
		n := 0
		for _, up := range s.list {
			if _, is := of[up]; is && slices.Contains(s.at[up], perm) {
				n++
			}
		}
		rest = len(out)
		out = append(out, Part{Class: DarkRest, Bin: bin(append(p.habits(id, perm, n, day), flag(silent))...),
			Where: g.Where})
	}
	return out, func(at model.Path) int {
		if up, ok := at.Parent(); ok {
			if i, is := of[up]; is {
				return i
			}
		}
		return rest
	}
}

func patterns(parts []Part) []model.PathPattern {
	var out []model.PathPattern
	for _, q := range parts {
		out = append(out, q.Where...)
	}
	return out
}
