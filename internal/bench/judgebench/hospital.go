package main

import (
	"fmt"
	"math/rand/v2"
	"time"

	"clipfence/internal/core/model"
)

// hospital makes a life of another build than [live]: sites, houses, wards and systems in four
// storeys; places that come at random, with names that are like no other; staff that works on
// few places and now and then on another of its house, a rota that looks after a whole site in
// turn, interns who come into a group that was empty, studies that begin, pipelines that do in
// test and in production what they did in development a few weeks ago, work that goes over from
// one service to another, and people who break the glass.
func hospital(seed uint64) *life {
	h := &house{maker: &maker{life: &life{born: map[model.Path]int{}, logless: map[model.Path]string{}},
		r: rand.New(rand.NewPCG(seed, 991)), units: map[model.Path][]model.Path{},
		nodes: map[model.Path][]model.Path{}, number: map[string]int{}, scope: map[int][]scope{}}}
	h.estate.Source = "w"
	h.offer()
	h.unread = things[h.r.IntN(5)].kind
	h.build()
	h.staff()
	h.run()
	return h.life
}

type house struct {
	*maker
	wards []ward
}

// ward is one ward and its systems: of each, the nodes by kind.
type ward struct {
	site, at model.Path
	systems  []model.Path // in the order of stages
}

// ware is a kind of node and what can be done with it, in the order of [rungs].
type ware struct {
	kind  string
	verbs []string
}

var things = []ware{
	{"record", []string{"browse", "view", "amend", "erase", "release"}},
	{"chart", []string{"browse", "view", "amend", "erase", "release"}},
	{"scan", []string{"browse", "view", "annotate", "erase", "release"}},
	{"rota", []string{"browse", "view", "shift", "void", "delegate"}},
	{"device", []string{"browse", "poll", "tune", "retire", "delegate"}},
}

var rungs = []model.Level{model.See, model.Read, model.Change, model.Administer, model.HandOut}

func (h *house) offer() {
	h.sell(things)
	h.role("clerk", model.Change, things)
	h.role("guest", model.Read, things)
	h.role("head", model.HandOut, things)
}

// sell puts what can be done with some kinds into the catalogue.
func (h *house) sell(kinds []ware) {
	for _, n := range kinds {
		for i, verb := range n.verbs {
			p := model.MustPermission(n.kind + "s/" + n.kind + ":" + verb)
			class := "change"
			if rungs[i] <= model.Read {
				class = "read"
			}
			h.number[n.kind+":"+fmt.Sprint(i)] = len(h.perms)
			h.perms = append(h.perms, p)
			h.estate.Catalogue = append(h.estate.Catalogue, model.CatalogueEntry{Permission: p, Level: rungs[i],
				LogClass: class, Kinds: []string{n.kind}})
		}
	}
}

// role makes one of what can be done with some kinds, up to a level.
func (h *house) role(name string, top model.Level, kinds []ware) {
	r := model.Role{Name: name}
	for _, n := range kinds {
		for i, verb := range n.verbs {
			if rungs[i] <= top {
				r.Do = append(r.Do, model.MustPermissionPattern(n.kind+"s/"+n.kind+":"+verb))
			}
		}
	}
	h.estate.Roles = append(h.estate.Roles, r)
}

// word returns a name that is like no other.
func (h *house) word() string {
	var b []byte
	for range 7 {
		b = append(b, byte('a'+h.r.IntN(26)))
	}
	return string(b)
}

func (h *house) put(system model.Path, kind, name string, day int) model.Path {
	p := system.Child(kind, name)
	if _, ok := h.born[p]; !ok {
		h.nodes[system] = append(h.nodes[system], p)
	}
	return h.node(p, day)
}

func (h *house) build() {
	root := h.node(model.MustPath("/w/trust:t"), -1)
	for s := range 3 {
		site := h.node(root.Child("site", fmt.Sprint("s", s)), -1)
		for b := range 2 {
			house := h.node(site.Child("house", fmt.Sprint("h", b)), -1)
			for w := range 3 {
				at := h.node(house.Child("ward", fmt.Sprint("w", w)), -1)
				one := ward{site: site, at: at}
				for _, stage := range []string{"dev", "test", "live"} {
					system := h.node(at.Child("system", stage), -1)
					one.systems = append(one.systems, system)
					for range 8 + h.r.IntN(14) {
						h.put(system, things[h.r.IntN(5)].kind, h.word(), -1)
					}
					h.projects = append(h.projects, system)
					if h.r.IntN(9) == 0 {
						h.logless[system] = []string{"read", "read", "change"}[h.r.IntN(3)]
					}
				}
				h.wards = append(h.wards, one)
			}
		}
	}
	for _, p := range h.projects {
		h.logged(p)
	}
}

// logged says of which calls in a system there are logs.
func (h *house) logged(system model.Path) {
	h.log(system, things, func(kind, class string) bool {
		return class != h.logless[system] && (class != "read" || kind != h.unread)
	})
}

// log says of which calls below a node there are logs.
func (h *house) log(at model.Path, kinds []ware, written func(kind, class string) bool) {
	for _, n := range kinds {
		for _, class := range []string{"read", "change"} {
			h.estate.Coverage = append(h.estate.Coverage, model.CoverageRecord{Node: at, Service: n.kind + "s",
				LogClass: class, Written: written(n.kind, class)})
		}
	}
}

func (h *house) enter(kind model.IdentityKind, name string, day int) int {
	id := model.ID{Kind: kind, Name: name}
	h.who = append(h.who, id)
	h.estate.Identities = append(h.estate.Identities, model.Identity{ID: id, Created: dayTime(day)})
	return len(h.who) - 1
}

func (h *house) group(name string) model.ID {
	g := model.ID{Kind: model.Group, Name: name}
	h.estate.Identities = append(h.estate.Identities, model.Identity{ID: g, Created: dayTime(-900)})
	return g
}

func (h *house) give(to model.ID, role string, on model.Path, day int) {
	h.estate.Grants = append(h.estate.Grants, model.Grant{ID: fmt.Sprint("g", len(h.estate.Grants)), To: to,
		Role: role, Where: []model.PathPattern{on.Below()}, Created: dayTime(day)})
	h.since = append(h.since, day)
}

func (h *house) join(i int, g model.ID, from, to int) {
	h.joined = append(h.joined, membership{model.Membership{Member: h.who[i], Group: g}, from, to})
}

// some returns a node of a kind in a system, as of a day.
func (h *house) some(system model.Path, kind string, day int) model.Path {
	var in []model.Path
	for _, n := range h.nodes[system] {
		if k, _ := n.Last(); k == kind && h.born[n] <= day {
			in = append(in, n)
		}
	}
	if len(in) == 0 {
		return h.put(system, kind, h.word(), day)
	}
	return in[h.r.IntN(len(in))]
}

// verbs returns the permissions of a kind up to a level, of the highest ones only some.
func (h *house) verbs(kind string, top int) []int {
	var out []int
	for i := range top + 1 {
		if i < 3 || h.r.IntN(2) == 0 {
			out = append(out, h.number[kind+":"+fmt.Sprint(i)])
		}
	}
	return out
}

// rounds is work on one or two places that change now and then: mostly for another one of the
// system, at times for one of another system of the ward, or for one that is new.
func (h *house) rounds(w ward, system model.Path, kind string) func(day int) []model.Path {
	set := []model.Path{h.some(system, kind, -1)}
	if h.r.IntN(2) == 0 {
		set = append(set, h.some(system, kind, -1))
	}
	moves := []float64{0, 0.004, 0.012}[h.r.IntN(3)]
	return func(day int) []model.Path {
		if h.r.Float64() < moves {
			at := system
			if h.r.IntN(6) == 0 {
				at = w.systems[h.r.IntN(len(w.systems))]
			}
			if h.r.IntN(3) == 0 {
				h.put(at, kind, h.word(), day)
			}
			set[h.r.IntN(len(set))] = h.some(at, kind, day)
		}
		return set
	}
}

func (h *house) does(x act) { h.acts = append(h.acts, x) }

func (h *house) staff() {
	weekday := func(day int) bool { w := dayTime(day).Weekday(); return w != time.Saturday && w != time.Sunday }
	often := func(share float64) func(int) bool {
		seed := h.r.Uint64()
		return func(day int) bool {
			return weekday(day) && rand.New(rand.NewPCG(seed, uint64(day))).Float64() < share
		}
	}
	shares := []float64{0.8, 0.4, 0.12, 0.04}
	kindOf := func() string { return things[h.r.IntN(len(things))].kind }
	for n, w := range h.wards {
		g := h.group(fmt.Sprint("ward", n))
		role := "clerk"
		if h.r.IntN(4) == 0 {
			role = "head"
		}
		on := w.at
		if h.r.IntN(3) == 0 {
			on, _ = w.at.Parent()
		}
		h.give(g, role, on, -800)
		shared := kindOf()
		for k := range 3 + h.r.IntN(4) {
			day := -600
			if h.r.IntN(12) == 0 {
				day = h.r.IntN(livedFor - 40)
			}
			i := h.enter(model.Person, fmt.Sprintf("w%dp%d", n, k), day)
			h.join(i, g, day, livedFor)
			from := max(0, day)
			to := livedFor
			if h.r.IntN(12) == 0 { // leaves
				to = from + h.r.IntN(livedFor-from)
			}
			for c := range 1 + h.r.IntN(3) {
				kind := kindOf()
				if c == 0 {
					kind = shared
				}
				top := h.r.IntN(3)
				if role == "head" && h.r.IntN(4) == 0 {
					top = 4
				}
				h.does(act{i, h.verbs(kind, top), h.rounds(w, w.systems[min(2, h.r.IntN(5))], kind),
					often(shares[h.r.IntN(4)]), from, to, "work"})
			}
			if h.r.IntN(6) == 0 { // month ends, over the whole ward
				kind := kindOf()
				all := w.systems
				h.does(act{i, h.verbs(kind, 1), func(day int) []model.Path {
					return []model.Path{h.some(all[day/31%len(all)], kind, day)}
				}, func(day int) bool { return dayTime(day).Day() == 3 }, from, to, "month end"})
			}
			if h.r.IntN(8) == 0 {
				h.give(h.who[i], "head", w.at, max(day, -500))
			}
		}
	}
	for s := range 3 { // rotas: one of four looks after a site each week, and mends what is broken
		g := h.group(fmt.Sprint("rota", s))
		var in []int
		for n, w := range h.wards {
			if n == 6*s {
				h.give(g, "head", w.site, -700)
			}
		}
		for k := range 4 {
			i := h.enter(model.Person, fmt.Sprintf("rota%dp%d", s, k), -600)
			h.join(i, g, -600, livedFor)
			in = append(in, i)
		}
		for day := range livedFor {
			i := in[day/7%len(in)]
			if h.r.IntN(5) > 0 {
				continue
			}
			w := h.wards[6*s+h.r.IntN(6)]
			kind := kindOf()
			at := h.some(w.systems[h.r.IntN(3)], kind, day)
			for _, p := range h.verbs(kind, 1+h.r.IntN(3)) {
				h.calls = append(h.calls, call{day, i, p, at, "rota"})
			}
		}
	}
	for s := range 4 { // interns: three months, then nobody for one
		w := h.wards[h.r.IntN(len(h.wards))]
		g := h.group(fmt.Sprint("interns", s))
		h.give(g, "clerk", w.at, -700)
		kinds := []string{kindOf(), kindOf()}
		for from := -100 + h.r.IntN(60); from < livedFor; from += 120 {
			for k := range 1 + h.r.IntN(2) {
				i := h.enter(model.Person, fmt.Sprintf("intern%d-%d-%d", s, from+100, k), from)
				h.join(i, g, from, from+90)
				for _, kind := range kinds {
					h.does(act{i, h.verbs(kind, 2), h.rounds(w, w.systems[h.r.IntN(3)], kind), often(0.5),
						max(0, from+3), from + 90, "intern"})
				}
			}
		}
	}
	for n, w := range h.wards { // services of each ward
		for k := range 3 {
			i := h.enter(model.Workload, fmt.Sprintf("svc%d-%d", n, k), -600)
			on, role := w.at, "clerk"
			switch h.r.IntN(5) {
			case 0:
				on, _ = w.at.Parent()
			case 1:
				role = "head"
			}
			h.give(h.who[i], role, on, -600)
			kind := kindOf()
			when := []func(int) bool{func(int) bool { return true }, func(d int) bool { return d%7 == n%7 },
				func(d int) bool { return dayTime(d).Day() == 1 }}[h.r.IntN(3)]
			switch {
			case k == 0: // what is put up in development comes to the other stages later
				h.promoted(i, w, kind)
			case h.r.IntN(6) == 0: // goes over to another service
				day := 60 + h.r.IntN(livedFor-60)
				to := kindOf()
				h.does(act{i, h.verbs(kind, 2), h.rounds(w, w.systems[2], kind), when, 0, day, "work"})
				h.does(act{i, h.verbs(to, 2), h.rounds(w, w.systems[2], to), when, day - 7, livedFor, "migration"})
			default:
				top := 1 + h.r.IntN(2)
				if role == "head" && h.r.IntN(2) == 0 {
					top = 4
				}
				at := w.systems[h.r.IntN(3)]
				h.does(act{i, h.verbs(kind, top), h.rounds(w, at, kind), when, 0, livedFor, "work"})
			}
		}
	}
	for range 7 { // studies
		w := h.wards[h.r.IntN(len(h.wards))]
		begin := h.r.IntN(livedFor)
		kind := kindOf()
		var study func(day int) []model.Path
		var at model.Path
		study = func(day int) []model.Path {
			if at.IsZero() {
				at = h.node(w.at.Child("system", "study-"+h.word()), begin)
				h.projects = append(h.projects, at)
				if h.r.IntN(2) == 0 { // of the others nothing is known
					h.logged(at)
				}
				for range 4 {
					h.put(at, kind, h.word(), begin)
				}
			}
			return []model.Path{h.some(at, kind, day)}
		}
		for i, id := range h.who {
			var n, k int
			if c, _ := fmt.Sscanf(id.Name, "w%dp%d", &n, &k); c == 2 && h.wards[n].at == w.at && k < 2 {
				h.does(act{i, h.verbs(kind, 2), study, often(0.3), begin, begin + 120, "study"})
			}
		}
	}
	g := h.group("glass")
	h.give(g, "head", model.MustPath("/w/trust:t"), -800)
	for k := range 3 {
		i := h.enter(model.Person, fmt.Sprint("glass", k), -600)
		h.join(i, g, -600, livedFor)
		for day := h.r.IntN(90); day < livedFor; day += 60 + h.r.IntN(90) {
			for range 3 {
				kind := kindOf()
				at := h.some(h.wards[h.r.IntN(len(h.wards))].systems[2], kind, day)
				for _, p := range h.verbs(kind, 3) {
					h.calls = append(h.calls, call{day, i, p, at, "glass"})
				}
			}
		}
	}
}

// promoted lets a workload put up something in development now and then, and tend it there, in
// test three weeks later and in production three weeks after that.
func (h *house) promoted(i int, w ward, kind string) {
	verbs := h.verbs(kind, 2)
	for day := 0; day < livedFor; day++ {
		if day == 0 || h.r.IntN(40) == 0 {
			name := h.word()
			for stage, system := range w.systems {
				from := day + 21*stage
				if from >= livedFor {
					break
				}
				at := h.put(system, kind, name, max(from-1, -1))
				h.does(act{i, verbs, func(int) []model.Path { return []model.Path{at} },
					func(d int) bool { return d%2 == 0 }, from, from + 80, "promotion"})
			}
		}
	}
}
