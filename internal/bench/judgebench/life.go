package main

import (
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"slices"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// livedFor is how many days a life has.
const livedFor = 495

// A world says which of the mechanisms of a life are at work in it.
type world struct {
	dated, siblings, handOver, standIn, leave, drift, incidents, calendar, seasons, movers, accidents, dark,
	young bool

	deep  bool // projects have folders, which what is in them is put into without a system
	plain bool // most names have no numbers, and are like no other

	hospital, works bool // lives of other builds: see [hospital] and [works]

	// What is known of it: no survey of before is kept; what was not used for a month, nor ever will
	// be, is thrown away, a third of it; and all grants were made again three weeks ago.
	once, churn, again bool
	undated            bool // nothing says when it was made
	logs               int  // so many days of logs are kept, or 0 for all

	as     map[string]bool // how it is written down, see [shapes]
	things int             // written down as objects: so many are below each node, or 0 for one for each call
}

// worldOf returns a world by number: of eight one has all mechanisms, each other lacks one.
func worldOf(n int) world {
	w := world{dated: true, siblings: true, handOver: true, standIn: true, leave: true, drift: true,
		incidents: true, calendar: true, seasons: true, movers: true, accidents: true, dark: true, young: true}
	off := []*bool{nil, &w.dated, &w.siblings, &w.incidents, &w.standIn, &w.drift, &w.dark, &w.movers}
	if f := off[n%len(off)]; f != nil {
		*f = false
	}
	return w
}

// call is what somebody does on a day.
type call struct {
	day  int
	who  int
	perm int
	path model.Path
	why  cause
}

// cause is what a call came of.
type cause string

// life is a made-up organisation and what it did, day by day.
type life struct {
	estate  model.Estate // with everything that ever was; see at
	born    map[model.Path]int
	joined  []membership
	since   []int // of each grant
	who     []model.ID
	calls   []call
	perms   []model.Permission
	logless map[model.Path]string // the class of calls that is not logged in a project
	unread  string                // the kind of node whose reading is logged nowhere
	lit     map[model.Path]int    // since when there are logs of a project that had none before
	ended   map[model.Path]int    // since when a node is gone
	known   world                 // of which what is known of it counts
}

type membership struct {
	model.Membership
	from, to int
}

var start = time.Date(2025, 7, 1, 12, 0, 0, 0, time.UTC)

func dayTime(d int) time.Time { return start.AddDate(0, 0, d) }

// act is something that somebody does again and again.
type act struct {
	who      int
	perms    []int
	on       func(day int) []model.Path
	when     func(day int) bool
	from, to int
	why      cause
}

var nouns = []struct {
	kind  string
	verbs []string
}{
	{"box", []string{"list", "read", "put", "scrap", "share"}},
	{"table", []string{"list", "read", "change", "drop", "lend"}},
	{"queue", []string{"list", "take", "send", "purge"}},
	{"machine", []string{"list", "look", "restart", "remove"}},
	{"vault", []string{"list", "open", "fill", "wipe"}},
	{"project", []string{"list", "edit", "hand"}},
}

var levelOf = map[string]model.Level{"list": model.See, "read": model.Read, "look": model.Read, "open": model.Read,
	"take": model.Read, "put": model.Change, "change": model.Change, "send": model.Change, "restart": model.Change,
	"fill": model.Change, "edit": model.Change, "scrap": model.Administer, "drop": model.Administer,
	"purge": model.Administer, "remove": model.Administer, "wipe": model.Administer, "share": model.HandOut,
	"lend": model.HandOut, "hand": model.HandOut}

// maker makes a life.
type maker struct {
	*life
	r        *rand.Rand
	w        world
	projects []model.Path
	units    map[model.Path][]model.Path // projects by unit
	nodes    map[model.Path][]model.Path // of a project, in the order of birth
	number   map[string]int              // of a permission
	acts     []act
	teams    []team
	scope    map[int][]scope
}

type team struct {
	group   model.ID
	home    model.Path // project
	members []int
	pool    []act // what its members do, most of it together
}

// scope is what somebody was given: a role on a place.
type scope struct {
	role string
	on   model.Path
}

// live makes a life of a world from a seed.
func live(w world, seed uint64) *life {
	if w.hospital {
		l := hospital(seed)
		l.known = w
		l.reshape()
		return l
	}
	if w.works {
		l := works(seed)
		l.known = w
		l.reshape()
		return l
	}
	m := &maker{life: &life{born: map[model.Path]int{}, logless: map[model.Path]string{}, known: w},
		r: rand.New(rand.NewPCG(seed, 77)), w: w, units: map[model.Path][]model.Path{},
		nodes: map[model.Path][]model.Path{}, number: map[string]int{}, scope: map[int][]scope{}}
	m.estate.Source = "w"
	m.catalogue()
	m.tree()
	m.people()
	for i := range m.who {
		m.work(i)
	}
	m.happen()
	m.run()
	m.reshape()
	return m.life
}

func (m *maker) catalogue() {
	for _, n := range nouns {
		for _, verb := range n.verbs {
			p := model.MustPermission(n.kind + "s/" + n.kind + ":" + verb)
			class := "change"
			if levelOf[verb] <= model.Read {
				class = "read"
			}
			m.number[n.kind+":"+verb] = len(m.perms)
			m.perms = append(m.perms, p)
			m.estate.Catalogue = append(m.estate.Catalogue, model.CatalogueEntry{Permission: p, Level: levelOf[verb],
				LogClass: class, Kinds: []string{n.kind}})
		}
	}
	role := func(name string, is func(kind, verb string) bool) {
		r := model.Role{Name: name}
		for _, n := range nouns {
			for _, verb := range n.verbs {
				if is(n.kind, verb) {
					r.Do = append(r.Do, model.MustPermissionPattern(n.kind+"s/"+n.kind+":"+verb))
				}
			}
		}
		m.estate.Roles = append(m.estate.Roles, r)
	}
	role("viewer", func(_, v string) bool { return levelOf[v] <= model.Read })
	role("editor", func(_, v string) bool { return levelOf[v] <= model.Change })
	role("admin", func(_, v string) bool { return true })
	for _, n := range nouns[:5] {
		role(n.kind+"-worker", func(k, v string) bool { return k == n.kind && levelOf[v] <= model.Administer })
	}
}

func (m *maker) node(p model.Path, day int) model.Path {
	if _, ok := m.born[p]; !ok {
		m.born[p] = day
		m.estate.Nodes = append(m.estate.Nodes, model.Node{Path: p})
	}
	return p
}

func (m *maker) tree() {
	root := m.node(model.MustPath("/w/org:o"), -1)
	for u := range 6 {
		unit := m.node(root.Child("unit", fmt.Sprint("u", u)), -1)
		for p := range 3 + m.r.IntN(4) {
			stage := []string{"dev", "test", "prod"}[p%3]
			project := m.node(unit.Child("project", fmt.Sprintf("p%d-%s", p, stage)), -1)
			m.projects = append(m.projects, project)
			m.units[unit] = append(m.units[unit], project)
			for range 8 + m.r.IntN(16) {
				m.grow(project, -1)
			}
			if m.w.dark && m.r.IntN(8) == 0 {
				m.logless[project] = "read"
			}
		}
	}
	for _, p := range m.projects {
		for _, n := range nouns {
			for _, class := range []string{"read", "change"} {
				m.estate.Coverage = append(m.estate.Coverage, model.CoverageRecord{Node: p, Service: n.kind + "s",
					LogClass: class, Written: class != m.logless[p]})
			}
		}
	}
}

// child returns the path of a node in a project.
func (m *maker) child(project model.Path, kind, name string) model.Path {
	if m.w.deep {
		h := fnv.New32a()
		h.Write([]byte(name)) // never fails
		project = m.node(project.Child("area", []string{"core", "edge", "lab"}[h.Sum32()%3]), -1)
	}
	return project.Child(kind, name)
}

// projectOf returns the project that a node is in.
func projectOf(p model.Path) model.Path {
	for {
		up, ok := p.Parent()
		if kind, _ := p.Last(); kind == "project" || kind == "system" || kind == "shop" || !ok {
			return p
		}
		p = up
	}
}

// grow adds a node to a project: a sibling of one that is there, or one of a new name.
func (m *maker) grow(project model.Path, day int) model.Path {
	n := nouns[m.r.IntN(5)]
	words := []string{"orders", "stock", "mail", "bills", "maps", "tides"}
	name := fmt.Sprintf("%s-%d", words[m.r.IntN(6)], m.r.IntN(30))
	if list := m.nodes[project]; len(list) > 0 && m.r.IntN(2) == 0 {
		kind, like := list[m.r.IntN(len(list))].Last()
		name = fmt.Sprintf("%s-%d", like[:max(1, len(like)/2)], m.r.IntN(90))
		for _, o := range nouns {
			if o.kind == kind {
				n = o
			}
		}
	}
	if m.w.plain {
		var b []byte
		for range 6 {
			b = append(b, byte('a'+m.r.IntN(26)))
		}
		name = string(b)
	}
	p := m.child(project, n.kind, name)
	if _, ok := m.born[p]; !ok {
		m.nodes[project] = append(m.nodes[project], p)
	}
	return m.node(p, day)
}

func (m *maker) people() {
	add := func(id model.ID, day int) int {
		m.who = append(m.who, id)
		m.estate.Identities = append(m.estate.Identities, model.Identity{ID: id, Created: dayTime(day)})
		return len(m.who) - 1
	}
	grant := func(to model.ID, role string, on model.Path, day int) {
		m.estate.Grants = append(m.estate.Grants, model.Grant{ID: fmt.Sprint("g", len(m.estate.Grants)), To: to,
			Role: role, Where: []model.PathPattern{on.Below()}, Created: dayTime(day)})
		m.since = append(m.since, day)
	}
	unit := func(p model.Path) model.Path { up, _ := p.Parent(); return up }
	for t := range 14 {
		g := model.ID{Kind: model.Group, Name: fmt.Sprint("team", t)}
		m.estate.Identities = append(m.estate.Identities, model.Identity{ID: g, Created: dayTime(-900)})
		home := m.projects[m.r.IntN(len(m.projects))]
		on, role := home, "editor"
		if m.r.IntN(3) > 0 {
			on = unit(home)
		}
		if m.r.IntN(4) == 0 {
			role = "admin"
		}
		grant(g, role, on, -800)
		tm := team{group: g, home: home}
		for k := range 3 + m.r.IntN(4) {
			day := -700
			if m.w.young && m.r.IntN(10) == 0 {
				day = m.r.IntN(livedFor)
			}
			i := add(model.ID{Kind: model.Person, Name: fmt.Sprintf("t%dp%d", t, k)}, day)
			m.joined = append(m.joined, membership{model.Membership{Member: m.who[i], Group: g}, day, livedFor})
			tm.members = append(tm.members, i)
			m.scope[i] = append(m.scope[i], scope{role, on})
			switch m.r.IntN(5) {
			case 0:
				grant(m.who[i], "admin", home, max(day, -600))
				m.scope[i] = append(m.scope[i], scope{"admin", home})
			case 1:
				grant(m.who[i], "viewer", model.MustPath("/w/org:o"), max(day, -600))
				m.scope[i] = append(m.scope[i], scope{"viewer", model.MustPath("/w/org:o")})
			}
		}
		m.teams = append(m.teams, tm)
	}
	for k := range 66 {
		home := m.projects[m.r.IntN(len(m.projects))]
		day := -600
		if m.w.young && m.r.IntN(8) == 0 {
			day = m.r.IntN(livedFor)
		}
		i := add(model.ID{Kind: model.Workload, Name: fmt.Sprint("job", k)}, day)
		on := home
		if m.r.IntN(2) == 0 {
			on = unit(home)
		}
		role := []string{"editor", "admin", "editor", nouns[m.r.IntN(5)].kind + "-worker"}[m.r.IntN(4)]
		grant(m.who[i], role, on, day)
		m.scope[i] = append(m.scope[i], scope{role, on})
		m.scope[i] = append(m.scope[i], scope{"home", home})
	}
}

// may reports whether a role has a verb of a kind of node.
func may(role, kind, verb string) bool {
	l := levelOf[verb]
	switch role {
	case "viewer":
		return l <= model.Read
	case "editor":
		return l <= model.Change
	case "admin":
		return true
	}
	return role == kind+"-worker" && l <= model.Administer
}

// home returns where somebody mostly works.
func (m *maker) home(i int) model.Path {
	for _, s := range m.scope[i] {
		if s.role == "home" {
			return s.on
		}
	}
	if t := m.teamOf(i); t != nil {
		return t.home
	}
	return m.projects[0]
}

// schedule returns on which days something is done.
func (m *maker) schedule(person bool) func(day int) bool {
	seed := m.r.Uint64()
	chance := func(day int, p float64) bool {
		return rand.New(rand.NewPCG(seed, uint64(day))).Float64() < p
	}
	weekday := func(day int) bool { w := dayTime(day).Weekday(); return w != time.Saturday && w != time.Sunday }
	n := m.r.IntN(100)
	if !m.w.calendar {
		n = m.r.IntN(70)
	}
	off := m.r.IntN(5)
	switch {
	case n < 30:
		return func(day int) bool { return (!person || weekday(day)) && chance(day, 0.8) }
	case n < 48:
		return func(day int) bool { return day%7 == off }
	case n < 62:
		return func(day int) bool { return chance(day, 0.08) }
	case n < 70:
		return func(day int) bool { return chance(day, 0.02) }
	case n < 82:
		return func(day int) bool { return dayTime(day).Day() <= 2 }
	case n < 89:
		return func(day int) bool { t := dayTime(day); return t.Month()%3 == 1 && t.Day() == 2+off }
	case n < 92:
		return func(day int) bool { return dayTime(day).YearDay()/2 == 40+10*off }
	}
	if !m.w.seasons {
		return func(day int) bool { return weekday(day) && chance(day, 0.5) }
	}
	return func(day int) bool { // a season of three months
		return (int(dayTime(day).Month())+off)%12 < 3 && chance(day, 0.5)
	}
}

// work gives somebody things to do, all of which it may.
func (m *maker) work(i int) {
	home := m.home(i)
	person := m.who[i].Kind == model.Person
	from := int(m.estateCreated(i))
	for range 1 + m.r.IntN(4) {
		if t := m.teamOf(i); t != nil && len(t.pool) >= 4 && m.r.IntN(10) < 7 {
			x := t.pool[m.r.IntN(len(t.pool))]
			x.who, x.when, x.from = i, m.schedule(person), from
			m.acts = append(m.acts, x)
			continue
		}
		s := m.scope[i][m.r.IntN(len(m.scope[i]))]
		if s.role == "home" {
			s = m.scope[i][0]
		}
		project := home
		if !s.on.Covers(home) && home != s.on || m.r.IntN(6) == 0 {
			project = m.projectIn(s.on)
		}
		kind := nouns[m.r.IntN(5)]
		for k := 0; k < 9 && !may(s.role, kind.kind, kind.verbs[0]); k++ {
			kind = nouns[m.r.IntN(5)]
		}
		var perms []int
		most := model.Read + model.Level(m.r.IntN(2))
		if m.r.IntN(6) == 0 {
			most = model.HandOut
		}
		for _, v := range kind.verbs {
			if may(s.role, kind.kind, v) && levelOf[v] <= most && (levelOf[v] <= model.Change || m.r.IntN(3) == 0) {
				perms = append(perms, m.number[kind.kind+":"+v])
			}
		}
		if len(perms) == 0 {
			continue
		}
		x := act{i, perms, m.places(project, s.on, kind.kind), m.schedule(person), from, livedFor, "work"}
		m.acts = append(m.acts, x)
		if t := m.teamOf(i); t != nil && s == m.scope[i][0] {
			t.pool = append(t.pool, x)
		}
	}
}

func (m *maker) teamOf(i int) *team {
	for k := range m.teams {
		if slices.Contains(m.teams[k].members, i) {
			return &m.teams[k]
		}
	}
	return nil
}

func (m *maker) estateCreated(i int) int {
	for _, id := range m.estate.Identities {
		if id.ID == m.who[i] {
			return max(0, int(id.Created.Sub(start).Hours()/24))
		}
	}
	return 0
}

func (m *maker) projectIn(on model.Path) model.Path {
	var in []model.Path
	for _, p := range m.projects {
		if on == p || on.Covers(p) {
			in = append(in, p)
		}
	}
	return in[m.r.IntN(len(in))]
}

// of returns a node of a kind in a project; it makes one where there is none.
func (m *maker) of(project model.Path, kind string, day int) model.Path {
	var in []model.Path
	for _, n := range m.nodes[project] {
		if k, _ := n.Last(); k == kind {
			in = append(in, n)
		}
	}
	if len(in) == 0 {
		p := m.child(project, kind, fmt.Sprint("first-", m.r.IntN(9)))
		m.nodes[project] = append(m.nodes[project], m.node(p, day))
		return p
	}
	return in[m.r.IntN(len(in))]
}

// places returns where something is done: on fixed nodes, on this month's node of a name,
// or on some that change now and then.
func (m *maker) places(project, within model.Path, kind string) func(day int) []model.Path {
	n := m.r.IntN(10)
	switch {
	case n < 3 && m.w.dated:
		name := fmt.Sprintf("%s-%d", []string{"day", "run", "month"}[m.r.IntN(3)], m.r.IntN(40))
		week := m.r.IntN(3) == 0
		last := map[string]model.Path{}
		return func(day int) []model.Path {
			t := dayTime(day)
			text := t.Format("2006-01")
			if week {
				y, w := t.ISOWeek()
				text = fmt.Sprintf("%d-w%02d", y, w)
			}
			p, ok := last[text]
			if !ok {
				p = m.node(m.child(project, kind, name+"-"+text), max(day-3, -1))
				last[text] = p
			}
			return []model.Path{p}
		}
	case n < 6:
		return func() func(int) []model.Path {
			set := []model.Path{m.of(project, kind, -1)}
			for m.r.IntN(2) == 0 {
				set = append(set, m.of(project, kind, -1))
			}
			return func(int) []model.Path { return set }
		}()
	}
	set := []model.Path{m.of(project, kind, -1), m.of(project, kind, -1)}
	moves := []float64{0.004, 0.01, 0.03}[m.r.IntN(3)]
	return func(day int) []model.Path {
		if m.w.siblings && m.r.Float64() < moves {
			at := project
			if m.w.drift && m.r.IntN(8) == 0 {
				at = m.projectIn(within)
			}
			if m.r.IntN(3) == 0 {
				for range 30 {
					p := m.grow(at, day)
					if k, _ := p.Last(); k == kind {
						break
					}
				}
			}
			set[m.r.IntN(len(set))] = m.of(at, kind, day)
		}
		return set
	}
}

// happen lets things happen to people's work.
func (m *maker) happen() {
	for _, t := range m.teams {
		for range 4 {
			if len(t.members) < 2 {
				break
			}
			a, b := t.members[m.r.IntN(len(t.members))], t.members[m.r.IntN(len(t.members))]
			day, length := m.r.IntN(livedFor), 10+m.r.IntN(15)
			switch n := m.r.IntN(3); {
			case a == b:
			case n == 0 && m.w.standIn:
				m.instead(a, b, day, day+length, false, "stand-in")
			case n == 1 && m.w.handOver:
				m.instead(a, b, day, livedFor, true, "hand-over")
			case n == 2 && m.w.leave:
				length = 60 + m.r.IntN(60)
				for i := range m.acts {
					if x := m.acts[i]; x.who == a {
						m.acts[i].when = func(d int) bool { return (d < day || d > day+length) && x.when(d) }
					}
				}
			}
		}
		if m.w.movers && m.r.IntN(3) == 0 && len(t.members) > 3 { // somebody goes over to another team
			a, day := t.members[m.r.IntN(len(t.members))], m.r.IntN(livedFor)
			to := m.teams[m.r.IntN(len(m.teams))]
			for i := range m.joined {
				if m.joined[i].Member == m.who[a] {
					m.joined[i].to = day
				}
			}
			m.joined = append(m.joined, membership{model.Membership{Member: m.who[a], Group: to.group}, day, livedFor})
			for i := range m.acts {
				if m.acts[i].who == a {
					m.acts[i].to = min(m.acts[i].to, day)
				}
			}
			if len(to.members) > 0 {
				m.instead(to.members[0], a, day+3, livedFor, false, "move")
			}
		}
	}
	if m.w.incidents {
		var call []int // who is called, mostly
		for range 8 {
			call = append(call, m.r.IntN(len(m.who)))
		}
		for day := 10; day < livedFor; day += 10 + m.r.IntN(30) {
			i := call[m.r.IntN(len(call))]
			if m.r.IntN(4) == 0 {
				i = m.r.IntN(len(m.who))
			}
			m.trouble(i, day)
		}
	}
	if m.w.accidents {
		for range 14 {
			m.once(m.r.IntN(len(m.who)), m.r.IntN(livedFor), model.Administer)
		}
	}
}

// instead lets somebody do what another does, for some days; its own are over from then on
// where it is handed over. Only what team-mates may, both, is done.
func (m *maker) instead(a, b, from, to int, over bool, why cause) {
	for i, n := 0, len(m.acts); i < n; i++ {
		if x := m.acts[i]; x.who == a && x.to > from {
			y := x
			y.who, y.from, y.to, y.why = b, max(x.from, from), min(x.to, to), why
			m.acts = append(m.acts, y)
			if over {
				m.acts[i].to = from
			}
		}
	}
}

// trouble is a day or three of looking around and mending elsewhere.
func (m *maker) trouble(i, day int) {
	s := m.scope[i][0]
	project := m.projectIn(s.on)
	for range 3 + m.r.IntN(6) {
		kind := nouns[m.r.IntN(5)]
		at := m.of(project, kind.kind, -1)
		for _, v := range kind.verbs {
			if may(s.role, kind.kind, v) && (levelOf[v] <= model.Read || m.r.IntN(4) == 0) {
				m.calls = append(m.calls, call{day + m.r.IntN(3), i, m.number[kind.kind+":"+v], at, "incident"})
			}
		}
	}
}

// once is a call by mistake.
func (m *maker) once(i, day int, l model.Level) {
	s := m.scope[i][0]
	project := m.projectIn(s.on)
	kind := nouns[m.r.IntN(5)]
	for _, v := range kind.verbs {
		if levelOf[v] == l && may(s.role, kind.kind, v) {
			at := m.of(project, kind.kind, -1)
			m.calls = append(m.calls, call{day, i, m.number[kind.kind+":"+v], at, "accident"})
		}
	}
}

func (m *maker) run() {
	for day := range livedFor {
		for i := range m.acts {
			a := &m.acts[i]
			if day < a.from || day >= a.to || !a.when(day) {
				continue
			}
			for _, p := range a.on(day) {
				for k, perm := range a.perms {
					if k == 0 || m.r.IntN(10) > 0 {
						m.calls = append(m.calls, call{day, a.who, perm, p, a.why})
					}
				}
			}
		}
	}
}

// at returns the estate as it was on a day.
func (l *life) at(day int) *model.Estate {
	e := l.estate
	e.Nodes, e.Identities, e.Memberships, e.Grants, e.Coverage = nil, nil, nil, nil, nil
	for _, c := range l.estate.Coverage {
		if l.born[c.Node] <= day {
			if since, off := l.lit[c.Node]; off {
				if c.Written = c.Written && since <= day; c.Written {
					c.Since = dayTime(since)
				}
			}
			e.Coverage = append(e.Coverage, c)
		}
	}
	e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath("/w")})
	gone := l.gone(day)
	for _, n := range l.estate.Nodes {
		if end, ends := l.ended[n.Path]; ends && end <= day {
			continue
		}
		if l.born[n.Path] <= day && !gone[n.Path] {
			e.Nodes = append(e.Nodes, n)
		}
	}
	for _, i := range l.estate.Identities {
		if !i.Created.After(dayTime(day)) {
			e.Identities = append(e.Identities, i)
		}
	}
	for _, j := range l.joined {
		if j.from <= day && day < j.to {
			e.Memberships = append(e.Memberships, j.Membership)
		}
	}
	for i, g := range l.estate.Grants {
		if l.since[i] <= day {
			if again := dayTime(day - 21); l.known.again && g.Created.Before(again) {
				g.Created = again
			}
			if l.known.undated {
				g.Created = time.Time{}
			}
			e.Grants = append(e.Grants, g)
		}
	}
	for i := range e.Identities {
		if l.known.undated {
			e.Identities[i].Created = time.Time{}
		}
	}
	l.reshaped(&e, day)
	return &e
}

// gone returns what was thrown away by a day: a third of the nodes without any below them that were
// used, and not for a month, nor will be.
func (l *life) gone(day int) map[model.Path]bool {
	out := map[model.Path]bool{}
	if !l.known.churn {
		return out
	}
	last, inner := map[model.Path]int{}, map[model.Path]bool{}
	for _, c := range l.calls {
		last[c.path] = max(last[c.path], c.day)
	}
	for _, n := range l.estate.Nodes {
		if up, ok := n.Path.Parent(); ok {
			inner[up] = true
		}
	}
	for i, n := range l.estate.Nodes {
		if used, ok := last[n.Path]; ok && i%3 == 0 && used < day-30 && !inner[n.Path] {
			out[n.Path] = true
		}
	}
	return out
}

// uses returns what the logs show up to a day.
func (l *life) uses(day int) []usage.Use {
	f := usage.Fold{}
	for i, c := range l.calls {
		if c.day > day || !l.logged(c) || !l.keeps(i, c, day) || l.known.logs > 0 && c.day <= day-l.known.logs {
			continue
		}
		f.Add(usage.Call{Time: dayTime(c.day), Identity: l.who[c.who], Permission: l.perms[c.perm], Path: c.path,
			Outcome: usage.Done})
	}
	return f.Uses()
}

// logged reports whether a log shows a call.
func (l *life) logged(c call) bool {
	project := projectOf(c.path)
	verb := l.estate.Catalogue[c.perm]
	return c.day >= l.lit[project] && verb.LogClass != l.logless[project] &&
		(verb.LogClass != "read" || verb.Kinds[0] != l.unread)
}
