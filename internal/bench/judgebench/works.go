package main

import (
	"fmt"
	"math/rand/v2"
	"time"

	"clipfence/internal/core/model"
)

// works makes a life of a third build: a maker of things with areas, some of which have lines, and shops, in
// which programs do most. They were given far more than they need, many of them on the whole organisation: copies
// are made of every sheet each night, presses come and go by the hour, releases go through the shops of an area, a
// look-out lists everything once a week, somebody's move left a program behind that may do anything. People are in
// teams, teams in departments, everybody in one crowd; support opens one customer's folder after the other,
// accounts go through all shops of an area at the end of a month, auditors through one area a year; who mended what
// broke was given power for that, and kept it; who left is still listed. Shops are founded, a team takes over half
// of what another did, and some logs were switched on not long ago.
func works(seed uint64) *life {
	w := &factory{house: &house{maker: &maker{r: rand.New(rand.NewPCG(seed, 4711)), number: map[string]int{},
		nodes: map[model.Path][]model.Path{}, life: &life{born: map[model.Path]int{},
			logless: map[model.Path]string{}, lit: map[model.Path]int{}, ended: map[model.Path]int{}}}}}
	w.estate.Source = "w"
	w.offer()
	w.found()
	w.people()
	w.programs()
	w.run()
	return w.life
}

type factory struct {
	*house
	top   model.Path
	areas []*area
}

// area is a part of the works with its shops, in the order of founding.
type area struct {
	at    model.Path
	shops []model.Path
	since []int // of each shop
}

var wares = []ware{
	{"drawer", []string{"show", "open", "fill", "clear", "entrust"}},
	{"folder", []string{"show", "open", "fill", "clear", "entrust"}},
	{"sheet", []string{"show", "open", "write", "clear", "entrust"}},
	{"press", []string{"show", "watch", "set", "scrap", "entrust"}},
	{"feed", []string{"show", "taste", "push", "clear", "entrust"}},
	{"lock", []string{"show", "unlock", "turn", "scrap", "entrust"}},
}

func (w *factory) offer() {
	w.sell(wares)
	w.role("onlooker", model.See, wares)
	w.role("reader", model.Read, wares)
	w.role("maker", model.Change, wares)
	w.role("master", model.HandOut, wares)
	w.role("presser", model.Administer, wares[3:4])
}

func (w *factory) found() {
	w.top = w.node(model.MustPath("/w/org:o"), -1)
	for n := range 5 {
		a := &area{at: w.node(w.top.Child("area", fmt.Sprint("a", n)), -1)}
		w.areas = append(w.areas, a)
		for range 3 + w.r.IntN(4) {
			w.shop(a, -1)
		}
		for range w.r.IntN(3) {
			w.shop(a, 30+w.r.IntN(livedFor-60))
		}
	}
}

// shop founds one, in the area or in a line of it.
func (w *factory) shop(a *area, day int) {
	up := a.at
	if w.r.IntN(3) == 0 {
		up = w.node(a.at.Child("line", []string{"left", "right"}[w.r.IntN(2)]), -1)
	}
	s := w.node(up.Child("shop", w.word()), day)
	a.shops, a.since = append(a.shops, s), append(a.since, day)
	w.projects = append(w.projects, s)
	for range 6 + w.r.IntN(10) {
		n := wares[2+w.r.IntN(4)]
		name := w.word()
		if w.r.IntN(2) == 0 {
			name = fmt.Sprintf("%s%d", n.kind[:2], w.r.IntN(40))
		}
		w.put(s, n.kind, name, day)
	}
	for range 2 {
		w.put(s, "drawer", w.word(), day)
	}
	class := ""
	switch n := w.r.IntN(12); {
	case n == 0:
		class = []string{"read", "read", "change"}[w.r.IntN(3)]
		w.logless[s] = class
	case n < 3 && day < 0:
		w.lit[s] = 120 + w.r.IntN(livedFor-120)
	}
	w.log(s, wares, func(_, c string) bool { return c != class })
}

// there returns the shops of an area that there are on a day.
func (a *area) there(day int) []model.Path {
	var out []model.Path
	for i, s := range a.shops {
		if a.since[i] <= day {
			out = append(out, s)
		}
	}
	return out
}

func (w *factory) pick(of []model.Path) model.Path { return of[w.r.IntN(len(of))] }

func (w *factory) ware() string { return wares[2+w.r.IntN(4)].kind }

func weekday(day int) bool {
	d := dayTime(day).Weekday()
	return d != time.Saturday && d != time.Sunday
}

// some returns a node of a kind in a shop, of those that there are on a day.
func (w *factory) some(shop model.Path, kind string, day int) model.Path {
	for range 30 {
		at := w.house.some(shop, kind, day)
		if end, ends := w.ended[at]; !ends || end > day {
			return at
		}
	}
	return w.put(shop, kind, w.word(), day)
}

// all returns the nodes of a kind that there are in a shop on a day.
func (w *factory) all(shop model.Path, kind string, day int) (out []model.Path) {
	for _, at := range w.nodes[shop] {
		end, ends := w.ended[at]
		if k, _ := at.Last(); k == kind && w.born[at] <= day && (!ends || end > day) {
			out = append(out, at)
		}
	}
	return out
}

// share returns days of which so many are on, of the week's where it is people's work.
func (w *factory) share(of float64, people bool) func(int) bool {
	seed := w.r.Uint64()
	return func(day int) bool {
		return (!people || weekday(day)) && rand.New(rand.NewPCG(seed, uint64(day))).Float64() < of
	}
}

// few are one or two places of a kind in a shop, of which another one is taken up now and then.
func (w *factory) few(shop model.Path, kind string, born int) func(int) []model.Path {
	set := []model.Path{w.some(shop, kind, born)}
	for w.r.IntN(2) == 0 {
		set = append(set, w.some(shop, kind, born))
	}
	moves := []float64{0, 0, 0.004, 0.015}[w.r.IntN(4)]
	return func(day int) []model.Path {
		if w.r.Float64() < moves {
			if w.r.IntN(2) == 0 {
				w.put(shop, kind, w.word(), day)
			}
			set[w.r.IntN(len(set))] = w.some(shop, kind, day)
		}
		return set
	}
}

func (w *factory) people() {
	all := w.group("everybody")
	w.give(all, "onlooker", w.top, -900)
	person := func(name string, day int, in ...model.ID) int {
		i := w.enter(model.Person, name, day)
		for _, g := range in {
			w.join(i, g, day, livedFor)
		}
		w.join(i, all, day, livedFor)
		if w.r.IntN(5) == 0 { // looks around in what all may see, now and then
			a, kind := w.areas[w.r.IntN(len(w.areas))], w.ware()
			w.does(act{i, w.verbs(kind, 0), func(day int) []model.Path {
				return []model.Path{w.some(w.pick(a.there(day)), kind, day)}
			}, w.share(.02, true), max(0, day), livedFor, "look"})
		}
		return i
	}
	var teams [][]int
	for n, a := range w.areas {
		dept := w.group(fmt.Sprint("dept", n))
		w.give(dept, "reader", a.at, -800)
		for t := range 2 {
			g := w.group(fmt.Sprintf("team%d-%d", n, t))
			w.joined = append(w.joined, membership{model.Membership{Member: g, Group: dept}, -800, livedFor})
			on := a.at
			home := w.pick(a.there(-1))
			if w.r.IntN(2) == 0 {
				on = home
			}
			w.give(g, []string{"maker", "maker", "master"}[w.r.IntN(3)], on, -700)
			var in []int
			shared := []string{w.ware(), w.ware()}
			for k := range 3 + w.r.IntN(4) {
				day := -600
				if w.r.IntN(8) == 0 {
					day = w.r.IntN(livedFor - 30)
				}
				i := person(fmt.Sprintf("a%dt%dp%d", n, t, k), day, g)
				in = append(in, i)
				to := livedFor
				if w.r.IntN(9) == 0 { // left, and nobody noticed
					to = max(day, 0) + w.r.IntN(livedFor-max(day, 0))
				}
				for c := range 1 + w.r.IntN(3) {
					kind, shop := shared[c%2], home
					if c > 1 && on == a.at {
						shop = w.pick(a.there(-1))
					}
					w.does(act{i, w.verbs(kind, 1+w.r.IntN(2)), w.few(shop, kind, -1),
						w.share([]float64{.7, .3, .1, .03}[w.r.IntN(4)], true), max(0, day), to, "work"})
				}
				if w.r.IntN(3) == 0 { // reads in what the department may read
					w.does(act{i, w.verbs("sheet", 1), func(day int) []model.Path {
						return []model.Path{w.some(w.pick(a.there(day)), "sheet", day)}
					}, w.share(.04, true), max(0, day), to, "reading"})
				}
				if w.r.IntN(6) == 0 { // was given power once
					w.give(w.who[i], "master", a.at, max(day, -500))
					if w.r.IntN(3) == 0 {
						w.does(act{i, w.verbs("press", 4), w.few(home, "press", -1), w.share(.02, true),
							max(0, day), to, "power"})
					}
				}
			}
			teams = append(teams, in)
			w.duty(in, a, home, on == a.at)
		}
	}
	w.takeOver(teams)
	w.support(person)
	w.offices(person)
}

// duty: each week another one of a team looks at what goes wrong, in its shop or in the area's.
func (w *factory) duty(in []int, a *area, home model.Path, wide bool) {
	for day := range livedFor {
		if w.r.IntN(12) > 0 {
			continue
		}
		i, shop := in[day/7%len(in)], home
		if wide && w.r.IntN(3) == 0 {
			shop = w.pick(a.there(day))
		}
		kind := w.ware()
		at := w.some(shop, kind, day)
		for _, p := range w.verbs(kind, 1+w.r.IntN(2)) {
			w.calls = append(w.calls, call{day, i, p, at, "duty"})
		}
	}
}

// takeOver: a team takes over half of what another one does.
func (w *factory) takeOver(teams [][]int) {
	day := 100 + w.r.IntN(livedFor-130)
	from, to := w.r.IntN(len(teams)), w.r.IntN(len(teams))
	if from == to {
		return
	}
	one := w.who[teams[from][0]]
	for _, i := range teams[to] {
		for _, j := range w.joined {
			if j.Member == one && j.Group.Name != "everybody" {
				w.join(i, j.Group, day, livedFor)
			}
		}
	}
	for k, n := 0, len(w.acts); k < n; k++ {
		x := w.acts[k]
		if x.who != teams[from][0] && x.who != teams[from][len(teams[from])-1] || x.why != "work" || x.to <= day {
			continue
		}
		w.acts[k].to = day
		x.who, x.from, x.why = teams[to][w.r.IntN(len(teams[to]))], max(x.from, day), "take-over"
		w.does(x)
	}
}

// support: one customer's folder after the other, mostly of those who came of late.
func (w *factory) support(person func(string, int, ...model.ID) int) {
	a := w.areas[0]
	drawer := w.put(a.shops[0], "drawer", "customers", -1)
	g := w.group("support")
	w.give(g, "master", a.shops[0], -700)
	var folders []model.Path
	for n := range 120 {
		folders = append(folders, w.node(drawer.Child("folder", fmt.Sprintf("c%05d", 311*n)), -1))
	}
	for k := range 6 {
		i := person(fmt.Sprint("support", k), -600, g)
		verbs := w.verbs("folder", 2)
		w.does(act{i, verbs[:2], func(day int) []model.Path {
			if k == 0 && day%4 == 0 {
				folders = append(folders, w.node(drawer.Child("folder", fmt.Sprintf("c%05d", 311*len(folders))), day))
			}
			n := len(folders)
			if w.r.IntN(2) == 0 {
				return []model.Path{folders[n-1-w.r.IntN(min(n, 15))]}
			}
			return []model.Path{folders[w.r.IntN(n)]}
		}, w.share(.7, true), 0, livedFor, "customer"})
		w.does(act{i, verbs[2:], func(int) []model.Path { return []model.Path{folders[w.r.IntN(len(folders))]} },
			w.share(.06, true), 0, livedFor, "customer"})
	}
}

// offices: accounts, auditors, masters of everything.
func (w *factory) offices(person func(string, int, ...model.ID) int) {
	g := w.group("accounts")
	w.give(g, "maker", w.top, -700)
	for k := range 4 {
		i := person(fmt.Sprint("accounts", k), -600, g)
		a := w.areas[k%len(w.areas)]
		for _, shop := range a.shops {
			w.does(act{i, w.verbs("sheet", 1), w.few(shop, "sheet", -1), func(day int) bool {
				return dayTime(day).Day() <= 2 && w.born[shop] <= day
			}, 0, livedFor, "month end"})
		}
		drawer := w.put(a.shops[0], "drawer", "closing", -1)
		w.does(act{i, w.verbs("folder", 2), func(day int) []model.Path {
			return []model.Path{w.node(drawer.Child("folder", dayTime(day).Format("2006-01")), day)}
		}, func(day int) bool { return dayTime(day).Day() == 3 }, 0, livedFor, "month end"})
	}
	g = w.group("auditors")
	w.give(g, "reader", w.top, -700)
	month := time.Month(1 + w.r.IntN(12))
	for k := range 3 {
		i := person(fmt.Sprint("auditor", k), -600, g)
		w.does(act{i, w.verbs("sheet", 1), func(day int) []model.Path {
			a := w.areas[(day/365+k)%len(w.areas)]
			return []model.Path{w.some(w.pick(a.there(day)), "sheet", day)}
		}, func(day int) bool { return dayTime(day).Month() == month && dayTime(day).Day() < 22 && weekday(day) }, 0,
			livedFor, "audit"})
	}
	g = w.group("masters")
	w.give(g, "master", w.top, -700)
	for k := range 4 {
		i := person(fmt.Sprint("master", k), -600, g)
		for range 3 {
			kind := w.ware()
			w.does(act{i, w.verbs(kind, 4), func(day int) []model.Path {
				return []model.Path{w.some(w.pick(w.areas[w.r.IntN(5)].there(day)), kind, day)}
			}, w.share(.03, true), 0, livedFor, "mastery"})
		}
	}
	for range 14 { // power for two days, and for ever
		i, day := w.r.IntN(len(w.who)), w.r.IntN(livedFor)
		shop := w.pick(w.areas[w.r.IntN(5)].there(day))
		w.give(w.who[i], "master", shop, day)
		kind := w.ware()
		at := w.some(shop, kind, day)
		for _, p := range w.verbs(kind, 3) {
			for _, d := range []int{day, min(day+1, livedFor-1)} {
				w.calls = append(w.calls, call{d, i, p, at, "mending"})
			}
		}
	}
}

func (w *factory) program(name string, role string, on model.Path, day int) int {
	i := w.enter(model.Workload, name, day)
	w.give(w.who[i], role, on, day)
	return i
}

func (w *factory) programs() {
	always := func(int) bool { return true }
	for n, a := range w.areas {
		for s, shop := range a.shops {
			for k := range 3 {
				on := []model.Path{shop, a.at, a.at, w.top}[w.r.IntN(4)]
				born := a.since[s]
				role := []string{"maker", "maker", "master"}[w.r.IntN(3)]
				i := w.program(fmt.Sprintf("svc%d-%d-%d", n, s, k), role, on, max(born, -600))
				for range 1 + w.r.IntN(3) {
					kind := wares[w.r.IntN(len(wares))].kind
					if kind == "folder" {
						kind = "drawer"
					}
					when := []func(int) bool{always, always, w.share(.5, false), w.share(.06, false),
						func(d int) bool { return d%7 == n }, func(d int) bool { return dayTime(d).Day() == 1+n },
						func(d int) bool { t := dayTime(d); return t.Month()%3 == 0 && t.Day() == 9 }}[w.r.IntN(7)]
					w.does(act{i, w.verbs(kind, w.r.IntN(3)), w.few(shop, kind, born), when, max(0, born), livedFor,
						"work"})
				}
				if w.r.IntN(6) == 0 { // writes a new folder each day, or month
					drawer := w.some(shop, "drawer", born)
					form := []string{"2006-01-02", "2006-01"}[w.r.IntN(2)]
					w.does(act{i, w.verbs("folder", 2), func(day int) []model.Path {
						return []model.Path{w.node(drawer.Child("folder", "run-"+dayTime(day).Format(form)), day)}
					}, always, max(0, born), livedFor, "dated"})
				}
			}
		}
		i := w.program(fmt.Sprint("copies", n), []string{"master", "maker"}[w.r.IntN(2)], a.at, -600)
		w.does(act{i, w.verbs("sheet", 1), func(day int) []model.Path { // of all sheets that there are
			var out []model.Path
			for _, shop := range a.there(day) {
				out = append(out, w.all(shop, "sheet", day)...)
			}
			return out
		}, func(d int) bool { return d%7 == 6 || n%2 == 0 }, 0, livedFor, "copies"})
		if n < 3 {
			w.scaler(a, n)
		}
		i = w.program(fmt.Sprint("release", n), "master", a.at, -600)
		for _, shop := range a.shops {
			each := w.share([]float64{.1, .04, .012}[w.r.IntN(3)], true)
			for _, kind := range []string{"lock", "press"} {
				w.does(act{i, w.verbs(kind, 2), func(day int) []model.Path {
					return []model.Path{w.some(shop, kind, day)}
				}, each, max(0, w.born[shop]), livedFor, "release"})
			}
		}
	}
	i := w.program("look-out", "reader", w.top, -600)
	for _, kind := range []string{"sheet", "drawer", "press", "lock"} {
		w.does(act{i, w.verbs(kind, 0), func(day int) (out []model.Path) {
			for _, a := range w.areas {
				for _, shop := range a.there(day) {
					out = append(out, w.all(shop, kind, day)...)
				}
			}
			return out
		}, func(d int) bool { return d%7 == 3 }, 0, livedFor, "look-out"})
	}
	for k := range 3 { // moves something, and stays
		day := w.r.IntN(livedFor)
		i := w.program(fmt.Sprint("mover", k), "master", w.areas[w.r.IntN(5)].at, day)
		on, _ := w.estate.Grants[len(w.estate.Grants)-1].Where[0].Anchor()
		for _, a := range w.areas {
			if a.at == on {
				w.does(act{i, w.verbs("sheet", 3), w.few(w.pick(a.there(day)), "sheet", day), always, day, day + 20,
					"moving"})
			}
		}
	}
}

// scaler puts up presses as there is work, and takes them away some days later.
func (w *factory) scaler(a *area, n int) {
	i := w.program(fmt.Sprint("scaler", n), []string{"presser", "master"}[w.r.IntN(2)], a.at, -600)
	shops := a.shops[:2]
	for day := range livedFor {
		if w.r.IntN(3) == 0 {
			shop := w.pick(shops)
			at := w.put(shop, "press", "p-"+w.word(), day)
			w.ended[at] = day + 3 + w.r.IntN(10)
			for d := day; d < min(w.ended[at], livedFor); d++ {
				for verb := range 3 {
					w.calls = append(w.calls, call{d, i, w.number["press:"+fmt.Sprint(verb)], at, "scaling"})
				}
			}
			if d := w.ended[at] - 1; d < livedFor {
				w.calls = append(w.calls, call{d, i, w.number["press:3"], at, "scaling"})
			}
		}
	}
}
