package risk

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Past is who used what where and when. It is not for several goroutines.
//
// Most questions are about one identity and its peers, and there may be ten million uses: so it keeps numbers of each,
// and the maps that questions go by are made of an identity's uses when it is asked about, and kept of those that were
// asked about lately.
type Past struct {
	x     *index.Index
	uses  *usage.Uses
	last  usage.Day    // of the uses that count
	nodes []model.Path // of use
	laid  []*history   // whose uses are in maps, the first that was asked about first
	rows  int          // how many uses those have
	most  int          // how many they may have: see mostLaid

	were  *usage.Inventory  // which nodes there were; may be nil
	ever  map[int]usage.Day // of each permission, the first day on which anybody used it
	who   map[model.ID]*history
	mute  map[model.ID]*history // of those who did nothing, which have peers all the same
	crews map[model.ID]*Crew    // by group
	first usage.Day             // of the logs

	asked   []*history                       // whose peers were asked about last
	holds   map[inside]int                   // how many nodes there are, see holding
	stands  map[model.Path]model.PathPattern // answers of At
	popular map[int]float64                  // which share of those who hold a permission use it; see Learn
	then    map[usage.Day]map[int]float64    // and which did as of a landmark
	blinds  map[hidden]bool
	found   *regions        // answers of regions
	coming  *coming         // answers of denied
	holders map[int]float64 // how many of those that were looked at hold it where a log shows it
}

// inside are the nodes of some kinds on some places.
type inside struct {
	on    model.PathPattern
	kinds int
}

// history is what one identity used.
type history struct {
	id    model.ID
	past  *Past
	rows  []row
	list  []uint32          // the permissions, in order
	laid  map[int]*used     // see perms; nil: they are not
	peers map[*history]bool // who is in a group with it; nil: nobody asked, see near
	doing *doing            // the last answer of known
	seen  *seen             // the last answer of where

	counted struct { // answers of days, as of one day
		day usage.Day
		of  map[int]int
	}
	silence *silent            // the last answer of silent
	does    map[int][]*history // which of its peers used a permission, see doers
}

// used is where one permission was used.
type used struct{ at map[model.Path]usage.Days } // by the node that holds the path

// row is a use by its numbers.
type row struct{ perm, node, use uint32 }

// mostLaid is of so many uses at most that maps are kept, of one identity at least.
const mostLaid = 1_000_000

// perms returns where somebody used what.
func (h *history) perms() map[int]*used {
	if h.laid != nil || len(h.rows) == 0 {
		return h.laid
	}
	p := h.past
	h.laid = make(map[int]*used, len(h.list))
	for _, r := range h.rows {
		s := h.laid[int(r.perm)]
		if s == nil {
			s = &used{map[model.Path]usage.Days{}}
			h.laid[int(r.perm)] = s
		}
		at := p.nodes[r.node]
		s.at[at] = s.at[at].Union(p.uses.Days(int(r.use)).Until(p.last))
	}
	p.laid, p.rows = append(p.laid, h), p.rows+len(h.rows)
	for p.rows > p.most && len(p.laid) > 1 {
		first := p.laid[0]
		p.laid, p.rows = p.laid[1:], p.rows-len(first.rows)
		first.laid, first.doing, first.seen, first.counted.of = nil, nil, nil, nil
	}
	return h.laid
}

// used reports whether a permission was ever used.
func (h *history) used(perm int) bool {
	_, is := slices.BinarySearch(h.list, uint32(perm))
	return is
}

// NewPast reads a past from uses, up to a day; counts says which show a need, by index, which a call that was
// refused does as well where it was refused because access was taken that is needed; and were, which may be nil, which
// nodes there were that are gone.
func NewPast(x *index.Index, were *usage.Inventory, uses *usage.Uses, first, last usage.Day,
	counts func(i int, u *usage.Use) bool) *Past {
	p := &Past{x: x, uses: uses, last: last, most: mostLaid, were: were, ever: map[int]usage.Day{},
		who: map[model.ID]*history{}, mute: map[model.ID]*history{}, crews: map[model.ID]*Crew{},
		first: first, holds: map[inside]int{}, blinds: map[hidden]bool{},
		stands: map[model.Path]model.PathPattern{}, then: map[usage.Day]map[int]float64{}}
	number := map[model.Path]uint32{}
	var h *history
	for i, u := range uses.All() {
		perm, ok := x.PermNumber(u.Permission)
		if !ok || !counts(i, &u) {
			continue
		}
		days := u.Days.Until(last)
		if days.Count() == 0 {
			continue
		}
		if who := u.Principal(); h == nil || h.id != who { // mostly one after the other
			if h = p.who[who]; h == nil {
				h = &history{id: who, past: p}
				p.who[who] = h
			}
		}
		if on, some := p.ever[perm]; !some || days.First() < on {
			p.ever[perm] = days.First()
		}
		at := p.Node(u.Path)
		n, known := number[at]
		if !known {
			n = uint32(len(p.nodes))
			number[at], p.nodes = n, append(p.nodes, at)
		}
		h.rows, h.list = append(h.rows, row{uint32(perm), n, uint32(i)}), append(h.list, uint32(perm))
	}
	for _, h := range p.who { // thousands, so without the room to grow
		slices.Sort(h.list)
		h.rows, h.list = append([]row(nil), h.rows...), append([]uint32(nil), slices.Compact(h.list)...)
	}
	return p
}

// Others is what a past made from the uses of a few has to be told of all, for [Past.Know].
type Others struct {
	Ever  map[int]usage.Day  // of each permission, by number, the first day on which anybody used it
	Crews map[model.ID]*Crew // by group
}

// A Crew is who of the direct members of a group did anything: how many, and the first ones by name, one more than are
// looked at, who may be the one that asks.
type Crew struct {
	N     int
	First []model.ID
}

// Ever returns of each permission, by number, the first day on which anybody used it. Nobody may change it.
func (p *Past) Ever() map[int]usage.Day { return p.ever }

// Know tells a past that was made from the uses of a few what all did. The uses must be all those of whom it is asked
// about, and of all whom the crews of their groups name, which must all be told.
func (p *Past) Know(o Others) { p.ever, p.crews = o.Ever, o.Crews }

// of returns the history of an identity.
func (p *Past) of(id model.ID) *history {
	if h := p.who[id]; h != nil {
		return h
	}
	h := p.mute[id]
	if h == nil {
		h = &history{id: id}
		p.mute[id] = h
	}
	return h
}

// Days returns on which days somebody used a permission on a node.
func (p *Past) Days(id model.ID, perm int, node model.Path) usage.Days {
	h := p.who[id]
	if h == nil || !h.used(perm) {
		return usage.Days{}
	}
	return h.perms()[perm].at[node]
}

// Used reports whether somebody ever used a permission.
func (p *Past) Used(id model.ID, perm int) bool {
	h := p.who[id]
	return h != nil && h.used(perm)
}

// Node returns the node of the inventory that holds a path, or held it: what was used on something
// that is gone was not used on what it lay in.
func (p *Past) Node(path model.Path) model.Path {
	if n, ok := p.were.Gone(path); ok {
		return n
	}
	if n, ok := p.x.Nearest(path); ok {
		return n
	}
	return path
}

// At returns what stands for a node of use: the node with what is in it, or, where other nodes
// lie below it, the node alone.
func (p *Past) At(n model.Path) model.PathPattern {
	on, ok := p.stands[n]
	if !ok {
		if on = n.Below(); p.x.HasBelow(n) {
			on = n.Exactly()
		}
		p.stands[n] = on
	}
	return on
}

// mostPeers is how many peers are looked at: of a large group the first ones by name.
const mostPeers = 40

// peersOf returns who shares the smallest of an identity's groups in which somebody else did anything.
func (p *Past) peersOf(id model.ID) map[*history]bool {
	self := 0 // it is one of those who did, in each of its groups
	if p.who[id] != nil && id.Kind != model.Group {
		self = 1
	}
	var best *Crew
	for _, g := range p.x.GroupsOf(id) {
		if c := p.Crew(g); c.N > self && (best == nil || c.N < best.N) {
			best = c
		}
	}
	peers := map[*history]bool{}
	if best == nil {
		return peers
	}
	for _, m := range best.First {
		if m != id && len(peers) < mostPeers {
			peers[p.who[m]] = true
		}
	}
	return peers
}

// near returns who is a peer of somebody.
func (p *Past) near(h *history) map[*history]bool {
	if h.peers == nil {
		h.peers = p.peersOf(h.id)
	}
	return h.peers
}

// Crew looks at a group, once for all of its members. Nobody may change it.
func (p *Past) Crew(g model.ID) *Crew {
	c := p.crews[g]
	if c == nil {
		var in []model.ID
		for _, m := range p.x.MembersOf(g) {
			if m.Kind != model.Group && p.who[m] != nil {
				in = append(in, m)
			}
		}
		slices.SortFunc(in, model.ID.Compare)
		c = &Crew{len(in), slices.Clone(in[:min(len(in), mostPeers+1)])}
		p.crews[g] = c
	}
	return c
}

// mostAsked is of how many histories it is kept which of their peers do what.
const mostAsked = 1000

// doers returns who of the peers of somebody used a permission.
func (p *Past) doers(h *history, perm int) []*history {
	if h.does == nil {
		h.does = map[int][]*history{}
		for o := range p.near(h) {
			for _, perm := range o.list {
				h.does[int(perm)] = append(h.does[int(perm)], o)
			}
		}
		if p.asked = append(p.asked, h); len(p.asked) > mostAsked {
			p.asked[0].does, p.asked = nil, p.asked[1:]
		}
	}
	return h.does[perm]
}

// A Class is a sort of part.
type Class uint8

// The classes. Of a permission that was used: nodes of use, names like those, what lies
// beside them, further up, and everything else; of one that was not: the nodes on which other
// things were done, what lies beside, and everything else. Peer are nodes of others' use.
const (
	Used Class = iota
	Peer
	Name
	Beside
	Kin // in containers that are called like those of its use
	Near
	Rest
	FirstHere
	FirstBeside
	FirstRest
	DarkHere // where no log shows it and other things are done
	DarkRest // everything else where no log shows it
	Comeback // no part: that somebody who stopped does anything again
	Dark     // where no log shows it: an assumption, of which nothing was learned
	classes
)

// factors are the facts of each class, each with its number of values; the order is that in
// which they are packed. Of names and what lies beside, the first is the size.
var factors = [classes][]int{
	Used:        {6, 4, 3, 4, 4, 2},          // silence, days, quiet, sort, rhythm, a newer one
	Peer:        {2, 2, 3, 2},                // half of them, used elsewhere, how many, power
	Name:        {3, 3, 2, 4, 4},             // how many, new ones, active, sort, days
	Beside:      {3, 3, 3, 2, 4, 3, 4},       // how many, new ones, moves, active, sort, left, days
	Kin:         {3, 3, 2, 4, 4},             // how many containers, new ones, active, sort, days
	Near:        {3, 2, 2, 4, 3, 4},          // how many, new ones, active, sort, roams, days
	Rest:        {3, 2, 4, 3},                // how many, units, sort, roams
	FirstHere:   {6, 3, 2, 3, 2, 2, 3, 3, 4}, // level, peers, bold, tenure, had, workload, restless, noun, popular
	FirstBeside: {6, 3, 2, 3, 2, 2, 3, 3, 4},
	FirstRest:   {6, 3, 2, 3, 2, 2, 3, 3, 4},
	DarkHere:    {12, 4, 4, 2}, // level and sort of caller, popular, elsewhere, same service
	Comeback:    {6, 4},        // silence and days of whatever it did
	DarkRest:    {12, 4, 4, 2}, // level and sort of caller, popular, elsewhere, nothing seen
}

// fact returns one of the facts of a part, by its place among [factors].
func fact(q Part, i int) int {
	bin := q.Bin
	for _, n := range factors[q.Class][i+1:] {
		bin /= uint32(n)
	}
	return int(bin) % factors[q.Class][i]
}

// Where among the facts of what was hardly used it stands since when it is granted, and whether it was used.
const (
	firstTenure = 3
	firstHad    = 4
)

// String returns a name for people.
func (c Class) String() string {
	return [...]string{"used", "peers", "names", "beside", "kin", "near", "rest", "first-here", "first-beside",
		"first-rest", "dark-here", "dark-rest", "comeback", "dark"}[c]
}

// A Part is some places that an identity may reach with a permission, and what tells it from
// others of its class. The zero pattern in Where stands for everywhere.
type Part struct {
	Class Class
	Bin   uint32 // the facts, packed: see factors
	Where []model.PathPattern

	// Yearly: the permission was used in one season, whose anniversary is near. No past of a few
	// hundred days can teach how often such comes back.
	Yearly bool

	// Turns: what is used is called after a month, or a year that ends within the horizon, and
	// these are the places that would be called after the next one.
	Turns bool
}

// Holds reports whether a node is in the part.
func (q *Part) Holds(at model.Path) bool {
	return slices.ContainsFunc(q.Where, func(on model.PathPattern) bool { return on.IsZero() || on.Matches(at) })
}

// bin packs facts, each below its size.
func bin(facts ...[2]int) uint32 {
	n := 0
	for _, f := range facts {
		n = n*f[1] + min(f[0], f[1]-1)
	}
	return uint32(n)
}

func flag(b bool) [2]int {
	if b {
		return [2]int{1, 2}
	}
	return [2]int{0, 2}
}

// few puts a number into one of three sizes: up to one, up to three, more.
func few(n int) [2]int {
	switch {
	case n <= 1:
		return [2]int{0, 3}
	case n <= 3:
		return [2]int{1, 3}
	}
	return [2]int{2, 3}
}

// FewDays is on how many days something must have been done to be taken for a habit.
const FewDays = 5

// Tenure is for how long something was granted.
type Tenure uint8

// The tenures: for longer than [Young] days, for less, and for less than a third of that.
const (
	Old Tenure = iota
	Recent
	Fresh
)

// TenureOf returns the tenure of something that was granted so many days ago.
func TenureOf(days int) Tenure {
	switch {
	case days < Young/3:
		return Fresh
	case days < Young:
		return Recent
	}
	return Old
}

// mostParts bounds how many single nodes are parts of their own: the others are one together.
const mostParts = 200

// UsedParts returns the nodes on which somebody used a permission up to a day, each as a part.
func (p *Past) UsedParts(id model.ID, perm int, day usage.Day) []Part {
	h := p.of(id)
	return p.usedParts(h, id, perm, day, h.before(perm, day))
}

func (p *Past) usedParts(h *history, id model.ID, perm int, day usage.Day, at map[model.Path]usage.Days) []Part {
	if len(at) == 0 {
		return nil
	}
	var all usage.Days
	for _, days := range at {
		all = all.Union(days)
	}
	quiet, high := h.quiet(day), p.sort(id, perm)
	yearly := p.yearly(all, day) && !h.silent(day).left
	out, news := make([]Part, 0, len(at)), newest(at)
	for _, n := range slices.SortedFunc(maps.Keys(at), model.Path.Compare) {
		days := at[n]
		last, _ := days.Last()
		newer := false // one of the same name, but for its numbers, took over since
		if f, some := familyOf(n); some {
			newer = news[f] > last
		}
		out = append(out, Part{Class: Used, Bin: bin(silence(int(day-last)), daysOf(days.Count()), quiet, high,
			rhythm(days, day), flag(newer)), Where: []model.PathPattern{p.At(n)}, Yearly: yearly})
	}
	return out
}

// together puts those behind the first so many parts together, as likely as the one of them that was
// used last.
func together(parts []Part) []Part {
	if len(parts) <= mostParts {
		return parts
	}
	rest := parts[mostParts]
	rest.Where = nil
	for _, q := range parts[mostParts:] {
		rest.Bin = min(rest.Bin, q.Bin) // silence is its first fact
		rest.Where = append(rest.Where, q.Where...)
	}
	return append(slices.Clip(parts[:mostParts]), rest)
}

// Parts returns the parts of what somebody may reach with a permission, as of a day, nearer
// ones first: a place counts to the first part that holds it. There are none of a permission
// that nobody ever used.
//
// Calls on fewer than [FewDays] days open nothing beyond the nodes they were on: what lies
// around those is as that of a permission that was never used.
func (p *Past) Parts(id model.ID, perm int, day usage.Day, t Tenure) []Part {
	h := p.of(id)
	high := p.sort(id, perm)
	at := h.before(perm, day)
	if since, some := p.ever[perm]; !some || since > day {
		return nil // what nobody ever used is not guessed at
	}
	if len(at) == 0 {
		return p.firsts(h, perm, day, t, id.Kind == model.Workload, nil)
	}
	out := together(p.usedParts(h, id, perm, day, at))
	var all usage.Days
	for _, days := range at {
		all = all.Union(days)
	}
	nodes := slices.SortedFunc(maps.Keys(at), model.Path.Compare)
	type around struct {
		nodes, fresh, moves int
		last                usage.Day
	}
	note := func(m map[model.Path]*around, up model.Path, n, fresh, moves int, last usage.Day) {
		a := m[up]
		if a == nil {
			a = &around{last: last}
			m[up] = a
		}
		a.nodes, a.fresh, a.moves, a.last = a.nodes+n, a.fresh+fresh, a.moves+moves, max(a.last, last)
	}
	began := all.First()
	often := daysIn(all.Between(day-180, day).Count())
	beside := map[model.Path]*around{}
	like := map[family][]model.Path{}
	for _, n := range nodes {
		days := at[n]
		last, _ := days.Last()
		up, ok := n.Parent()
		if !ok || all.Count() < FewDays {
			continue
		}
		fresh, moves := 0, 0
		if first := days.First(); first > p.first+30 && first > began+14 { // what is seen at first is not new
			if first > day-240 {
				moves = 1
			}
			if first > day-120 {
				fresh = 1
			}
		}
		note(beside, up, 1, fresh, moves, last)
		if f, some := familyOf(n); some {
			like[f] = append(like[f], n)
		}
	}
	if all.Count() < FewDays {
		return append(out, p.firsts(h, perm, day, t, id.Kind == model.Workload, at)...)
	}
	out = append(out, p.peers(h, p.doers(h, perm), perm, day, at)...)
	_, roams := p.known(h, day).restless()
	near := map[model.Path]*around{}
	for up, a := range beside {
		if top, ok := up.Parent(); ok {
			note(near, top, 1, min(a.fresh, 1), 0, a.last)
		}
	}
	active := func(last usage.Day) [2]int { return flag(day-last <= 60) }
	for _, k := range slices.SortedFunc(maps.Keys(like), family.compare) {
		last, fresh := usage.Day(0), 0
		for _, n := range like[k] {
			l, _ := at[n].Last()
			last = max(last, l)
			if first := at[n].First(); first > day-120 && first > p.first+30 && first > began+14 {
				fresh++
			}
		}
		if on, ok := pattern(k.up, like[k], day.Time().Year()); ok {
			out = append(out, Part{Class: Name,
				Bin:   bin(few(len(like[k])), [2]int{fresh, 3}, active(last), high, often),
				Where: []model.PathPattern{on}, Turns: day-last <= 60 && turns(like[k], day)})
		}
	}
	for _, up := range slices.SortedFunc(maps.Keys(beside), model.Path.Compare) {
		a := beside[up]
		out = append(out, Part{Class: Beside, Bin: bin(few(a.nodes), [2]int{a.fresh, 3}, [2]int{a.moves, 3},
			active(a.last), high, p.left(perm, up, a.nodes), often),
			Where: []model.PathPattern{up.Below()}})
	}
	kin := map[family][]model.Path{}
	for _, up := range slices.SortedFunc(maps.Keys(beside), model.Path.Compare) {
		if f, some := familyOf(up); some && !f.up.IsZero() {
			kin[f] = append(kin[f], up)
		}
	}
	for _, k := range slices.SortedFunc(maps.Keys(kin), family.compare) {
		last, fresh := usage.Day(0), 0
		for _, up := range kin[k] {
			if a := beside[up]; a.fresh == a.nodes {
				fresh++
			}
			last = max(last, beside[up].last)
		}
		over := day-last <= 60 && turns(kin[k], day)
		// Where all that is there is called alike, names tell nothing.
		if on, ok := pattern(k.up, kin[k], day.Time().Year()); ok && (over || len(kin[k]) >= leastKin &&
			p.holding(perm, on) < p.holding(perm, k.up.Below())) {
			out = append(out, Part{Class: Kin,
				Bin:   bin(few(len(kin[k])), [2]int{min(fresh, 2), 3}, active(last), high, often),
				Where: []model.PathPattern{on}, Turns: over})
		}
	}
	for _, top := range slices.SortedFunc(maps.Keys(near), model.Path.Compare) {
		a := near[top]
		out = append(out, Part{Class: Near, Bin: bin(few(a.nodes), [2]int{a.fresh, 2}, active(a.last), high, roams,
			often), Where: []model.PathPattern{top.Below()}})
	}
	return append(out, Part{Class: Rest, Bin: bin(few(len(beside)), flag(len(near) > 1), high, roams),
		Where: []model.PathPattern{{}}})
}

// left puts into one of three sizes on how many nodes of a container a permission was not used.
func (p *Past) left(perm int, up model.Path, used int) [2]int {
	switch n := p.holding(perm, up.Below()) - used; {
	case n <= 0:
		return [2]int{0, 3}
	case n <= 3:
		return [2]int{1, 3}
	}
	return [2]int{2, 3}
}

// holding returns on how many nodes of some places a permission can be used.
func (p *Past) holding(perm int, on model.PathPattern) int {
	key := inside{on, p.x.Class(perm)}
	n, ok := p.holds[key]
	if !ok {
		n = p.x.Count(perm, p.x.Region(on))
		p.holds[key] = n
	}
	return n
}

// sort tells people from workloads, and what only looks or changes from what has power.
func (p *Past) sort(id model.ID, perm int) [2]int {
	n := 0
	if p.x.Level(perm) >= model.Administer {
		n = 2
	}
	if id.Kind == model.Workload {
		n++
	}
	return [2]int{n, 4}
}

// silence puts days of silence into one of six sizes.
func silence(days int) [2]int {
	for i, most := range []int{14, 45, 90, 180, 330} {
		if days <= most {
			return [2]int{i, 6}
		}
	}
	return [2]int{5, 6}
}

// daysOf puts a number of days of use into one of four sizes.
func daysOf(n int) [2]int {
	for i, most := range []int{1, 4, 19} {
		if n <= most {
			return [2]int{i, 4}
		}
	}
	return [2]int{3, 4}
}

// daysIn puts on how many of the last 180 days something was done into one of four sizes.
func daysIn(n int) [2]int {
	for i, most := range []int{4, 19, 80} {
		if n <= most {
			return [2]int{i, 4}
		}
	}
	return [2]int{3, 4}
}

// rhythm holds the silence since some days against the mean gap between them: no rhythm yet,
// within it, within twice it, longer.
func rhythm(days usage.Days, day usage.Day) [2]int {
	n := days.Count()
	if n < 3 {
		return [2]int{0, 4}
	}
	last, _ := days.Last()
	gap := float64(last-days.First()) / float64(n-1)
	switch silent := float64(day - last); {
	case silent <= gap:
		return [2]int{1, 4}
	case silent <= 2*gap:
		return [2]int{2, 4}
	}
	return [2]int{3, 4}
}

// longestSeason is how long a season is at most, in days.
const longestSeason = 120

// yearly reports whether some days are one season, seen from its start, that comes again within
// the horizon if it comes every year. A few days are none.
func (p *Past) yearly(days usage.Days, day usage.Day) bool {
	first := days.First()
	last, _ := days.Last()
	return days.Count() >= FewDays && first > p.first+14 && last-first <= longestSeason &&
		first+365 <= day+Horizon && last+365 > day
}

// Season returns the days within which somebody did all that it ever did, where that looks like a season of
// a year: it was seen from its start, is over for longer than the horizon, and was not a year ago. What
// comes every year, and lies further off than the horizon, is in no chance.
func (p *Past) Season(id model.ID, day usage.Day) (from, to usage.Day, ok bool) {
	h := p.who[id]
	if h == nil || h.silent(day).days <= Horizon {
		return 0, 0, false
	}
	all := h.all(day)
	from = all.First()
	to, _ = all.Last()
	return from, to, all.Count() >= FewDays && from > p.first+14 && to-from <= longestSeason && from+365 > day
}

// all returns the days on which anything was done, up to one.
func (h *history) all(day usage.Day) (all usage.Days) {
	for _, u := range h.perms() {
		for _, days := range u.at {
			all = all.Union(days.Until(day))
		}
	}
	return all
}

// family is what the names of some nodes of a container have in common.
type family struct {
	up         model.Path
	kind, mask string
}

func (f family) compare(g family) int {
	return cmp.Or(f.up.Compare(g.up), cmp.Compare(f.kind+":"+f.mask, g.kind+":"+g.mask))
}

// familyOf returns the family of a node, if its name has numbers in it.
func familyOf(n model.Path) (family, bool) {
	kind, name := n.Last()
	mask, some := masked(name)
	up, _ := n.Parent()
	return family{up, kind, mask}, some
}

// leastKin is how many containers must have names alike for others to be expected.
const leastKin = 2

// newest returns of each family the last day on which one of it was used for the first time.
// Kindred returns what nodes have in common that lie beside each other and are called alike but for numbers
// and dates, as text; false for one whose name has none.
func Kindred(n model.Path) (string, bool) {
	f, ok := familyOf(n)
	return f.up.String() + " " + f.kind + " " + f.mask, ok
}

func newest(at map[model.Path]usage.Days) map[family]usage.Day {
	out := map[family]usage.Day{}
	for n, days := range at {
		if f, some := familyOf(n); some {
			out[f] = max(out[f], days.First())
		}
	}
	return out
}

// before returns where a permission was used up to a day.
func (h *history) before(perm int, day usage.Day) map[model.Path]usage.Days {
	u := h.perms()[perm]
	if u == nil {
		return nil
	}
	out := map[model.Path]usage.Days{}
	for at, days := range u.at {
		if d := days.Until(day); d.Count() > 0 {
			out[at] = d
		}
	}
	return out
}

// days returns on how many days a permission was used up to one.
func (h *history) days(perm int, day usage.Day) int {
	u := h.perms()[perm]
	if u == nil {
		return 0
	}
	if h.counted.day != day || h.counted.of == nil {
		h.counted.day, h.counted.of = day, map[int]int{}
	}
	n, ok := h.counted.of[perm]
	if !ok {
		var all usage.Days
		for _, days := range u.at {
			all = all.Union(days.Until(day))
		}
		n = all.Count()
		h.counted.of[perm] = n
	}
	return n
}

// silent is for how many days nothing was done before a day, and whether the habit of doing anything was
// over by that. Whoever did something daily through more than a season, and stopped, left: not even what would
// be due every year comes back by itself.
type silent struct {
	day        usage.Day
	days       int
	did        int // on how many days anything was done, where the silence is not short
	over, left bool
}

func (h *history) silent(day usage.Day) *silent {
	if h.silence != nil && h.silence.day == day {
		return h.silence
	}
	last := usage.Day(-1 << 20)
	for _, u := range h.perms() {
		for _, days := range u.at {
			if l, ok := days.Until(day).Last(); ok {
				last = max(last, l)
			}
		}
	}
	h.silence = &silent{day: day, days: int(day - last)}
	if h.silence.days > quietDays {
		all := h.all(day)
		habit := usage.HabitOf(all, day)
		h.silence.did = all.Count()
		h.silence.over = habit.Over
		h.silence.left = habit.Over && habit.Rhythm == usage.Daily && last-all.First() > longestSeason
	}
	return h.silence
}

// comeback is what is known of whether somebody who stopped comes back; false of who goes on.
func (h *history) comeback(day usage.Day) (Part, bool) {
	s := h.silent(day)
	if !s.over || s.did == 0 {
		return Part{}, false
	}
	return Part{Class: Comeback, Bin: bin(silence(s.days), daysOf(s.did))}, true
}

// again reports whether anything was done from one day to another, both included, but where no log showed it that was
// switched on after what was held.
func (h *history) again(from, to usage.Day, held map[int]Held) bool {
	for perm, u := range h.perms() {
		g := held[perm]
		for at, days := range u.at {
			if days.Any(from, to) && !g.hid(at) {
				return true
			}
		}
	}
	return false
}

// quietDays is how long a silence of somebody is short, in days.
const quietDays = 45

// quiet puts the silence of somebody into one of three sizes: a short one, a longer one, and one that is
// too long for what its habit was.
func (h *history) quiet(day usage.Day) [2]int {
	switch s := h.silent(day); {
	case s.days <= quietDays:
		return [2]int{0, 3}
	case !s.over:
		return [2]int{1, 3}
	}
	return [2]int{2, 3}
}

// peers returns the nodes on which peers used a permission within a year and that are not
// had, as two parts: what at least half of them used, and the others. What has power counts
// for peers only where it is a habit.
func (p *Past) peers(h *history, doers []*history, perm int, day usage.Day, had map[model.Path]usage.Days) []Part {
	if len(doers) == 0 {
		return nil
	}
	n := map[model.Path]int{}
	for _, o := range doers {
		if p.x.Level(perm) >= model.Administer && o.days(perm, day) < FewDays { // calls in a burst
			continue
		}
		for at, days := range o.perms()[perm].at {
			if _, mine := had[at]; !mine && days.Any(day-365, day) {
				n[at]++
			}
		}
	}
	var many, some []model.PathPattern
	for _, at := range slices.SortedFunc(maps.Keys(n), model.Path.Compare) {
		if 2*n[at] >= len(p.near(h)) && len(p.near(h)) > 1 {
			many = append(many, p.At(at))
		} else {
			some = append(some, p.At(at))
		}
	}
	var out []Part
	high := flag(p.x.Level(perm) >= model.Administer)
	for i, where := range [][]model.PathPattern{some, many} {
		if len(where) > 0 {
			out = append(out, Part{Class: Peer, Bin: bin([2]int{i, 2}, flag(len(had) > 0), few(len(where)), high),
				Where: where})
		}
	}
	return out
}

// firsts returns the parts of a permission that was hardly used, but for the nodes it was used
// on: where other things are done within half a year, what lies beside those, and all else.
func (p *Past) firsts(h *history, perm int, day usage.Day, t Tenure, workload bool,
	had map[model.Path]usage.Days) []Part {
	share, doers := 0, p.doers(h, perm)
	for _, o := range doers {
		if o.days(perm, day) >= FewDays {
			share++
		}
	}
	peers := [2]int{0, 3}
	switch {
	case share > 0 && 3*share >= len(p.near(h)):
		peers[0] = 2
	case share > 0:
		peers[0] = 1
	}
	known := p.known(h, day)
	here, listed := known.here[p.x.Class(perm)]
	if !listed {
		for _, n := range known.nodes {
			if p.x.Count(perm, p.x.Region(n.Exactly())) > 0 {
				here = append(here, p.At(n))
			}
		}
		known.here[p.x.Class(perm)] = here
	}
	bold := known.level >= p.x.Level(perm) // it does as much with something else already
	perms, _ := known.restless()
	facts := bin([2]int{int(p.x.Level(perm)), 6}, peers, flag(bold), [2]int{int(t), 3},
		flag(len(had) > 0), flag(workload),
		perms, p.noun(known, perm), p.popularity(perm, day))
	out := p.peers(h, doers, perm, day, had)
	if len(here) > 0 {
		out = append(out, Part{Class: FirstHere, Bin: facts, Where: here})
	}
	if len(known.beside) > 0 {
		out = append(out, Part{Class: FirstBeside, Bin: facts, Where: known.beside})
	}
	return append(out, Part{Class: FirstRest, Bin: facts, Where: []model.PathPattern{{}}})
}

// doing is what somebody does within half a year before a day, whatever it is.
type doing struct {
	day    usage.Day
	nodes  []model.Path // on [FewDays] days or more
	here   map[int][]model.PathPattern
	beside []model.PathPattern
	level  model.Level            // the highest of what it uses
	nouns  map[string]model.Level // of each service and noun, the highest level of use
	news   [2]int                 // permissions, and containers, that it used for the first time
}

// restless puts what somebody did for the first time in half a year into three sizes:
// permissions, and containers.
func (d *doing) restless() (perms, places [2]int) {
	of := func(n int) [2]int {
		switch {
		case n == 0:
			return [2]int{0, 3}
		case n <= 2:
			return [2]int{1, 3}
		}
		return [2]int{2, 3}
	}
	return of(d.news[0]), of(d.news[1])
}

// known works out what somebody was doing as of a day; the last answer is kept.
func (p *Past) known(h *history, day usage.Day) *doing {
	if h.doing != nil && h.doing.day == day {
		return h.doing
	}
	d := &doing{day: day, here: map[int][]model.PathPattern{}, nouns: map[string]model.Level{}}
	at, around := map[model.Path]usage.Days{}, map[model.Path]usage.Days{}
	began := usage.Day(1 << 30) // the first day on which it was seen
	entered, begun := map[model.Path]usage.Day{}, map[int]usage.Day{}
	for perm, u := range h.perms() {
		for n, days := range u.at {
			if first := days.First(); first <= day {
				began = min(began, first)
				if on, some := begun[perm]; !some || first < on {
					begun[perm] = first
				}
				if up, ok := n.Parent(); ok {
					if on, some := entered[up]; !some || first < on {
						entered[up] = first
					}
				}
			}
			if days = days.Between(day-180, day); days.Count() == 0 {
				continue
			}
			if up, ok := n.Parent(); ok {
				around[up] = around[up].Union(days)
			}
			at[n] = at[n].Union(days)
			d.level = max(d.level, p.x.Level(perm))
			key := p.nounOf(perm)
			d.nouns[key] = max(d.nouns[key], p.x.Level(perm))
		}
	}
	late := max(began+60, day-180)
	for _, first := range begun {
		if first > late {
			d.news[0]++
		}
	}
	for _, first := range entered {
		if first > late {
			d.news[1]++
		}
	}
	for _, n := range slices.SortedFunc(maps.Keys(at), model.Path.Compare) {
		if at[n].Count() >= FewDays {
			d.nodes = append(d.nodes, n)
		}
	}
	for _, n := range slices.SortedFunc(maps.Keys(around), model.Path.Compare) {
		if around[n].Count() >= FewDays {
			d.beside = append(d.beside, n.Below())
		}
	}
	h.doing = d
	return d
}

// nounOf returns what a permission is about.
func (p *Past) nounOf(perm int) string {
	c := p.x.Permission(perm).Permission
	return c.Service() + " " + c.Noun()
}

// noun says whether somebody does something else with what a permission is about: nothing, less
// than it, as much.
func (p *Past) noun(d *doing, perm int) [2]int {
	level, some := d.nouns[p.nounOf(perm)]
	switch {
	case !some:
		return [2]int{0, 3}
	case level < p.x.Level(perm):
		return [2]int{1, 3}
	}
	return [2]int{2, 3}
}

// masked returns a name with each run of digits as one '#', and whether there is any.
func masked(name string) (string, bool) {
	var b strings.Builder
	some, last := false, false
	for _, r := range name {
		if digit := unicode.IsDigit(r); !digit {
			b.WriteRune(r)
			last = false
		} else {
			if !last {
				b.WriteByte('#')
			}
			some, last = true, true
		}
	}
	return b.String(), some
}

// runs cuts a name into runs of digits and of others.
func runs(name string) []string {
	var out []string
	last := false
	for i, r := range name {
		if digit := unicode.IsDigit(r); i == 0 || digit != last {
			out, last = append(out, ""), digit
		}
		out[len(out)-1] += string(r)
	}
	return out
}

// pattern returns the pattern of names like some of one mask below a node: numbers that all
// of them share stay, the others become stars; all of them where there is one name only, and
// this year and the last one, which end. What looks like a pattern itself is none.
func pattern(up model.Path, like []model.Path, year int) (model.PathPattern, bool) {
	kind, name := like[0].Last()
	parts := runs(name)
	same := make([]bool, len(parts))
	for i := range same {
		same[i] = len(like) > 1 && parts[i] != strconv.Itoa(year) && parts[i] != strconv.Itoa(year-1)
	}
	for _, n := range like[1:] {
		_, other := n.Last()
		for i, part := range runs(other) {
			same[i] = same[i] && part == parts[i]
		}
	}
	var b strings.Builder
	for i, part := range parts {
		if unicode.IsDigit(rune(part[0])) && !same[i] {
			b.WriteByte('*')
		} else {
			b.Write(model.AppendEscaped(nil, []byte(part)))
		}
	}
	on, err := model.ParsePathPattern(up.String() + "/" + kind + ":" + b.String() + "/**")
	return on, err == nil && kind != ""
}
