package draft

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
)

// What can be read
//
// A large group does different things on many places. A fence that nobody can read is reviewed by nobody.
// So where it has more than [mostLines] lines, each permission of each grant may also stay further up: on
// the nodes above those that are kept, as far as the grant reaches. Each such choice has a danger, and a
// number of places, of which one that other permissions may stay on as well counts as a share. With a price
// of a place each permission takes the choice that is cheapest, and the price rises until the fence is short
// enough. A grant that makes it too long even so is left as it is, those first by which least is gained.
// One line that lists many places of the same few permissions is read as one, also where several grants
// gave them.

// rung is one choice of how far up a permission stays.
type rung struct {
	kept   []stays
	danger float64
}

// ladder are the choices of all permissions of a grant, and how many of them may stay on a place.
type ladder struct {
	of    map[int][]rung
	share map[model.PathPattern]float64
	lean  map[int]float64 // about 1, so that of many that are alike not all go up at one price
}

// short drafts, and if that is too long drafts again.
func (d *drafter) short(draft func()) {
	draft()
	if len(d.fence.Allow) <= mostLines {
		return
	}
	if d.join(sameRights); len(d.fence.Allow) <= mostLines {
		return
	}
	at := func(price float64) int {
		d.press = price
		draft()
		d.join(sameRights)
		d.join(samePlaces)
		return len(d.fence.Allow)
	}
	low, high := 0.0, 1.0
	for at(high) > mostLines && high < mostPrice {
		low, high = high, 8*high
	}
	for range 7 {
		middle := (low + high) / 2
		if at(middle) > mostLines {
			low = middle
		} else {
			high = middle
		}
	}
	for at(high) > mostLines {
		d.leaveSome()
	}
}

// sameRights tells apart lines that cannot be one with more places, and samePlaces those that cannot be one
// with more permissions, by what they say beside that; false for a line that shares nothing.
func sameRights(a *fence.Allow) (string, bool) {
	return fmt.Sprintf("%s %v %q %s %t %t", rest(a), a.Do, a.Role, a.Evidence.Class, a.Evidence.Ends,
		a.Evidence.Chance > 0), true
}

func samePlaces(a *fence.Allow) (string, bool) {
	where := slices.SortedFunc(slices.Values(a.Where), comparePatterns)
	return fmt.Sprintf("%s %v %t", rest(a), where, a.Evidence.Ends), a.Role == ""
}

func rest(a *fence.Allow) string {
	when, err := json.Marshal(a.When)
	if err != nil {
		panic(err) // of words in memory: cannot fail
	}
	return fmt.Sprintf("%s %s %s", a.To, when, a.Until)
}

// join makes one line of those that several grants give and that a key tells not apart. Each permission
// stays on each of its places as some grant gave it there, under the same conditions.
func (d *drafter) join(key func(*fence.Allow) (string, bool)) {
	at := map[string]int{}
	var lines []fence.Allow
	var from [][]drawn
	for i := range d.fence.Allow {
		a := &d.fence.Allow[i]
		k, joins := key(a)
		n, known := at[k]
		if !joins || !known {
			if joins {
				at[k] = len(lines)
			}
			lines, from = append(lines, *a), append(from, d.from[i])
			continue
		}
		b := &lines[n]
		b.Where = append(slices.Clip(b.Where), less(a.Where, b.Where)...)
		if a.Role == "" {
			b.Do = append(slices.Clip(b.Do), less(a.Do, b.Do)...)
			slices.SortFunc(b.Do, func(x, y model.PermissionPattern) int {
				return cmp.Compare(x.String(), y.String())
			})
		}
		class := a.Evidence.Class
		if slices.Index(evidenced, b.Evidence.Class) < slices.Index(evidenced, class) {
			class = b.Evidence.Class
		}
		from[n] = append(slices.Clip(from[n]), d.from[i]...)
		e := d.evidence(from[n], class)
		e.Chance, e.Short = max(a.Evidence.Chance, b.Evidence.Chance), a.Evidence.Short || b.Evidence.Short
		e.Ends = b.Evidence.Ends
		b.Evidence = e
	}
	d.fence.Allow, d.from = lines, from
}

// less returns what is in one list and not in another.
func less[T comparable](list, of []T) []T {
	var out []T
	for _, x := range list {
		if !slices.Contains(of, x) {
			out = append(out, x)
		}
	}
	return out
}

// leaveSome leaves as many of the grants that are narrowed as they are as there are lines too many, those
// by which least is gained.
func (d *drafter) leaveSome() {
	over := len(d.fence.Allow) - mostLines
	for _, n := range slices.SortedFunc(maps.Keys(d.gains), func(a, b int) int {
		return cmp.Or(cmp.Compare(d.gains[a].danger, d.gains[b].danger), cmp.Compare(a, b))
	}) {
		if g := d.gains[n]; over > 0 && g.lines > 0 {
			over -= g.lines
			d.as[n] = true
		}
	}
}

// gain is what it brings to narrow a grant, and how many lines that takes.
type gain struct {
	danger float64
	lines  int
}

// mostPrice is a price of a place, in danger, that is worth all of it.
const mostPrice = 1 << 30

// stay returns where a permission of a grant stays in the end, by what places cost where there are too
// many of them.
func (d *drafter) stay(t *gauge.GrantResult, perm int) []stays {
	if d.press == 0 {
		key := [2]int{t.Number, perm}
		kept, known := d.final[key]
		if !known {
			kept = d.search(t, perm, d.lambda(), true)
			d.final[key] = kept
		}
		return kept
	}
	l := d.climb(t)
	if len(l.of[perm]) == 0 { // the grant needed no lines before
		return d.search(t, perm, d.lambda(), true)
	}
	best, least := l.of[perm][0], math.Inf(1)
	for _, r := range l.of[perm] {
		cost := r.danger
		for _, s := range r.kept {
			cost += d.press * l.lean[perm] / l.share[s.on]
		}
		if cost < least-1e-9 {
			best, least = r, cost
		}
	}
	if len(best.kept) > 0 && !slices.Equal(best.kept, l.of[perm][0].kept) {
		delete(d.lent[t.Number], perm) // nobody has to ask for it
	}
	return best.kept
}

// climb works out how far up each permission of a grant may stay.
func (d *drafter) climb(t *gauge.GrantResult) *ladder {
	if l := d.ladders[t.Number]; l != nil {
		return l
	}
	l := &ladder{of: map[int][]rung{}, share: map[model.PathPattern]float64{}, lean: map[int]float64{}}
	d.ladders[t.Number] = l
	for perm := range t.Perms.All() {
		kept, some := d.final[[2]int{t.Number, perm}]
		if !some {
			continue
		}
		rungs := []rung{d.rung(t, perm, kept)}
		for up := 1; len(kept) > 0; up++ {
			higher, top := d.higher(t, kept, up)
			if !slices.Equal(higher, rungs[len(rungs)-1].kept) {
				rungs = append(rungs, d.rung(t, perm, higher))
			}
			if top {
				break
			}
		}
		l.of[perm], l.lean[perm] = rungs, 0.75+0.5*float64(len(l.of))/float64(t.Perms.Count())
		seen := map[model.PathPattern]bool{}
		for _, r := range rungs {
			for _, s := range r.kept {
				if !seen[s.on] {
					seen[s.on] = true
					l.share[s.on]++
				}
			}
		}
	}
	return l
}

// rung returns what it is to keep a permission of a grant on some places.
func (d *drafter) rung(t *gauge.GrantResult, perm int, kept []stays) rung {
	on := make([]model.PathPattern, len(kept))
	for i, s := range kept {
		on[i] = s.on
	}
	n := float64(d.x.Count(perm, d.x.Region(on...)))
	return rung{kept, d.in.Weights[d.x.Level(perm)] * float64(d.holders(t)) * math.Log2(1+n)}
}

// in reports whether some places hold what stays.
func (s *stays) in(places model.PathPattern) bool { return places.Contains(s.on) }

// higher returns the places so many nodes above those that are kept, as far as a grant reaches, and
// whether that is all of them.
func (d *drafter) higher(t *gauge.GrantResult, kept []stays, up int) (out []stays, top bool) {
	all := kept[0] // what is known of all of them
	all.to, top = model.ID{}, true
	seen, some := false, false
	for _, s := range kept {
		all.chance, all.used = max(all.chance, s.chance), all.used || s.used
		seen, some = seen || s.used || s.class == risk.Used, some || !dark(s.class)
	}
	switch {
	case seen:
		all.class = risk.Rest
	case some:
		all.class = risk.FirstRest
	}
	var where []model.PathPattern
	for _, s := range kept {
		on := s.on
		if node, ok := on.Anchor(); ok {
			for range up {
				above, some := node.Parent()
				if !some {
					break
				}
				node = above
			}
			on = node.Below()
		}
		if model.PathPatternsContain(t.Grant.Where, on) {
			top = top && slices.Contains(t.Grant.Where, on)
		} else if i := slices.IndexFunc(t.Grant.Where, s.in); i >= 0 {
			on = t.Grant.Where[i]
		} else {
			on = s.on // which only several of its places hold together
		}
		if !slices.Contains(where, on) {
			where = append(where, on)
		}
	}
	for _, on := range where {
		if !slices.ContainsFunc(where, func(o model.PathPattern) bool { return o != on && o.Contains(on) }) {
			all.on = on
			out = append(out, all)
		}
	}
	return out, top
}

// evidenced are the classes of evidence, the strongest first.
var evidenced = []string{"used", "rare", "past", "likely", "unobservable", "undecidable", "last", "decided"}

// joined puts what stays on the same place into one line of it, whatever it rests on.
func joined(places map[place]access.Set, chances map[place]float64) (map[place]access.Set, map[place]float64) {
	best := map[model.PathPattern]place{}
	for p := range places {
		p.to = model.ID{}
		b, some := best[p.on]
		if !some {
			b = p
		}
		b.wide = b.wide || p.wide
		if slices.Index(evidenced, p.class) < slices.Index(evidenced, b.class) {
			b.class = p.class
		}
		best[p.on] = b
	}
	out, likely := map[place]access.Set{}, map[place]float64{}
	for p, perms := range places {
		b := best[p.on]
		if out[b] == nil {
			out[b] = perms.Clone()
		} else {
			out[b].Or(perms)
		}
		likely[b] = max(likely[b], chances[p])
	}
	return out, likely
}
