package gauge

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// A Kind names a sort of finding.
type Kind string

// The kinds of finding.
const (
	IdleIdentity   Kind = "idle-identity"    // nobody works with it any more
	UnusedGrant    Kind = "unused-grant"     // its holders work, never through it
	OverBroadRole  Kind = "over-broad-role"  // most of its danger is never used
	OverBroadPlace Kind = "over-broad-place" // its permissions are used on few of its places
	StandingAdmin  Kind = "standing-admin"   // can hand out rights, day and night
	PublicAccess   Kind = "public-access"    // anybody has it
	RedundantGrant Kind = "redundant-grant"  // another grant gives all of it
	EndingAccess   Kind = "ending-access"    // it ends soon, and is used
)

// Kinds lists the kinds of finding.
var Kinds = []Kind{IdleIdentity, UnusedGrant, OverBroadRole, OverBroadPlace, StandingAdmin, PublicAccess,
	RedundantGrant, EndingAccess}

// Severity ranks findings by danger.
type Severity int

// The severities.
const (
	Low Severity = iota
	Medium
	High
	Critical
)

var severityNames = []string{"low", "medium", "high", "critical"}

// String returns the severity's word.
func (s Severity) String() string { return severityNames[s] }

// ParseSeverity reads a severity's word.
func ParseSeverity(s string) (Severity, bool) {
	i := slices.Index(severityNames, s)
	return Severity(max(i, 0)), i >= 0
}

func severityOf(danger float64) Severity {
	switch {
	case danger >= 1000:
		return Critical
	case danger >= 250:
		return High
	case danger >= 60:
		return Medium
	}
	return Low
}

// A Finding is one thing that is wrong, with the data behind the claim.
type Finding struct {
	ID       string // stable as long as it is about the same thing
	Kind     Kind
	Severity Severity
	Danger   float64 // that mending it takes away
	Identity model.ID
	Grant    *GrantResult // nil for an idle identity
	Standing *Standing    // nil for open identities
	Other    *model.Grant // for a redundant grant: the one that gives the same; nil: several do
	Example  []model.Permission

	// Of findings about the shape of an estate.
	Source string
	Rule   string     // a denial or a ceiling
	Node   model.Path // whose administrators it is about
	Count  int        // of administrators, of steps, or of grants: that together give the same, or reach who is idle
	Chain  []model.ID // of acting as others

	// Of a grant to a group: those in it whom the finding is about, in order.
	Holders []model.ID
}

// Settle gives a finding its id, of one thing of its kind that key names, and a
// severity by its danger where that is more.
func (x *Finding) Settle(key string) {
	x.ID = findingID(x.Kind, x.Source, x.Identity, key)
	x.Severity = max(x.Severity, severityOf(x.Danger))
}

func findingID(k Kind, src string, id model.ID, grant string) string {
	h := sha256.Sum256([]byte(strings.Join([]string{string(k), src, id.String(), grant}, "\x00")))
	return "f-" + hex.EncodeToString(h[:4])
}

// Thresholds below which a difference is not worth a finding.
const (
	leastShare  = 0.40 // of the danger of a role must be unused
	leastDanger = 25.0 // and at least this much
	leastNodes  = 4    // a place is too broad only when it holds at least so many nodes
	mostUsed    = 0.25 // and at most this share of its pairs of permission and node is used
)

// Findings reads off a result what is wrong, most dangerous first.
func Findings(in *Input, r *Result) []Finding {
	f := &finder{in: in, r: r, x: in.Index, scale: r.Scale, spare: r.Redundant(in)}
	if in.Measured != nil {
		var idle []*Standing
		for _, s := range r.Standings {
			if s.State == Idle || s.State == Disabled {
				idle = append(idle, s)
			}
		}
		r.Hold(idle...)
	}
	for _, s := range r.Standings {
		if s.State == Idle || s.State == Disabled {
			if d, grants := f.ownDanger(s); d > 0 {
				f.add(Finding{Kind: IdleIdentity, Danger: d, Identity: s.ID, Standing: s, Count: grants})
			}
		}
	}
	f.weighed()
	looks := make([]*finder, parallel.Workers())
	of := make([][]Finding, len(r.Grants))
	parallel.Each(len(r.Grants), func(k, i int) {
		if looks[k] == nil {
			one := *f
			one.scale, one.out = NewScale(in.Index, r.Scale.w), nil
			one.all, one.seen = f.x.NewSet(), f.x.NewSet()
			looks[k] = &one
		}
		if g := r.Grants[i]; g != nil {
			look := looks[k]
			look.grant(i, g)
			of[i] = slices.Clone(look.out)
			look.out = look.out[:0]
		}
	})
	n := len(f.out)
	for _, list := range of {
		n += len(list)
	}
	all := append(make([]Finding, 0, n), f.out...)
	for i, list := range of {
		all, of[i] = append(all, list...), nil
	}
	return Worst(all)
}

// Worst returns findings in the order in which they are told: the worst first.
func Worst(list []Finding) []Finding {
	return parallel.Sorted(list, func(a, b *Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(b.Danger, a.Danger),
			a.Identity.Compare(b.Identity), cmp.Compare(a.Kind, b.Kind))
	})
}

type finder struct {
	in    *Input
	r     *Result
	x     *index.Index
	scale *Scale
	out   []Finding

	spare map[int][]int // grants that are redundant, and those that give the same, by index
	who   model.ID      // whose grants has are
	has   []spread
	wide  []spread   // of every grant
	near  []int      // grants that give something of the one looked at, on places that overlap
	all   access.Set // to work with
	seen  access.Set // likewise

	powers, hands access.Set // permissions that administer or hand out, and those that hand out
}

// weighed notes which permissions administer and hand out.
func (f *finder) weighed() {
	f.powers, f.hands = f.x.NewSet(), f.x.NewSet()
	for i := range f.x.Numbers() {
		switch l := f.x.Level(i); {
		case l == model.HandOut:
			f.hands.Add(i)
			f.powers.Add(i)
		case l >= model.Administer:
			f.powers.Add(i)
		}
	}
}

// Redundant returns the grants that others make needless, by index, each with those that
// give all of it. All of them can go together.
//
// Whether one is depends on which were found before it, and so they are looked at one after
// another. But what is found before only takes away from what gives the same: a grant that
// nothing gives the same as, with none found, needs no second look. That is asked of all on all
// processors, and leaves few.
func (r *Result) Redundant(in *Input) map[int][]int {
	r.redundant.Do(func() {
		f := &finder{in: in, r: r, x: in.Index, spare: map[int][]int{}}
		f.spread()
		near := make([][]int, len(r.Grants)) // of grants that something gives the same as
		var looks []finder
		for range parallel.Workers() {
			one := *f
			one.all = f.x.NewSet()
			looks = append(looks, one)
		}
		parallel.Each(len(r.Standings), func(k, n int) {
			s := r.Standings[n]
			if s.State == Idle || s.State == Disabled || s.State == Protected {
				return
			}
			for _, g := range s.Grants {
				look := &looks[k]
				if look.beside(g.Number, g); len(look.givenBy(g.Number, g)) > 0 {
					near[g.Number] = slices.Clone(look.near)
				}
			}
		})
		f.all = f.x.NewSet()
		for i, g := range r.Grants {
			if f.near = near[i]; f.near != nil {
				f.near = slices.DeleteFunc(f.near, func(j int) bool { return f.spare[j] != nil })
				if others := f.givenBy(i, g); len(others) > 0 {
					f.spare[i] = others
				}
			}
		}
		r.spare = f.spare
	})
	return r.spare
}

// spread is over which nodes the places of a grant lie at most: see [index.Index.Extent].
type spread struct {
	index.Interval
	grant uint32
	open  bool // it is to anybody
}

// spread works out how far the places of all grants lie apart.
func (f *finder) spread() {
	f.wide = make([]spread, len(f.r.Grants))
	parallel.Each(len(f.wide), func(_, i int) {
		g := f.r.Grants[i]
		if g == nil {
			return
		}
		f.wide[i] = spread{f.x.Extent(g.Grant.Where), uint32(i), g.Grant.To.Open()}
	})
}

// beside notes the other grants that give something of what g gives, on places that overlap.
func (f *finder) beside(i int, g *GrantResult) {
	f.near = f.near[:0]
	perms, mine := f.x.SharedFew(i), f.wide[i]
	for _, s := range f.given(g.Grant.To) {
		if !s.Meets(mine.Interval) || int(s.grant) == i {
			continue
		}
		o := f.r.Grants[s.grant]
		if !perms.Meets(o.Perms) || !g.Grant.Condition().Implies(o.Grant.Condition()) {
			continue
		}
		if slices.ContainsFunc(o.Grant.Where,
			func(p model.PathPattern) bool { return slices.ContainsFunc(g.Grant.Where, p.Overlaps) }) {
			f.near = append(f.near, int(s.grant))
		}
	}
}

// givenBy returns the one grant near by, or else the several, that give a holder everything that g
// gives.
func (f *finder) givenBy(i int, g *GrantResult) []int {
	if other := f.givenByOther(i, g); other >= 0 {
		return []int{other}
	}
	return f.givenByOthers(i, g)
}

// given returns the grants that reach an identity, but for those to anybody; the last answer is kept.
func (f *finder) given(id model.ID) []spread {
	if f.who != id {
		f.who, f.has = id, f.has[:0]
		for g := range f.x.Gives(id) {
			if s := &f.wide[g]; !s.open {
				f.has = append(f.has, *s)
			}
		}
	}
	return f.has
}

// IdleDanger returns the danger of what reaches an idle or disabled identity through
// itself and its groups, all of which can go; 0 for any other.
func (r *Result) IdleDanger(in *Input, s *Standing) float64 {
	if s.State != Idle && s.State != Disabled {
		return 0
	}
	danger, _ := (&finder{in: in, r: r, x: in.Index, scale: r.Scale}).ownDanger(s)
	return danger
}

func (f *finder) add(x Finding) {
	grant := ""
	if x.Grant != nil {
		grant = x.Grant.Grant.ID
	}
	x.Source = f.x.Source()
	x.Settle(grant)
	f.out = append(f.out, x)
}

// ownDanger is the danger of what reaches an identity through itself and its
// groups, without what anybody has, and how many grants reach it in all.
func (f *finder) ownDanger(s *Standing) (danger float64, grants int) {
	var parts []Part
	all := f.x.Holdings(s.ID)
	for _, h := range all {
		if !h.Grant.To.Open() {
			parts = append(parts, Part{h.Perms, h.Grant.Where})
		}
	}
	return f.scale.Union(parts), len(all)
}

func (f *finder) grant(i int, g *GrantResult) {
	to := g.Grant.To
	s := f.r.Of(to)
	x := Finding{Identity: to, Grant: g, Standing: s}
	if EndsSoon(g.Grant, f.in.AsOf) && len(g.Used) > 0 {
		y := x
		y.Kind, y.Severity = EndingAccess, Medium
		f.add(y)
	}
	if to.Open() {
		x.Kind, x.Danger = PublicAccess, g.Danger
		if f.highest(g.Gives()) >= model.Change {
			x.Severity = High
		}
		f.add(x)
		return
	}
	if s == nil || s.State == Idle || s.State == Disabled || s.State == Protected {
		return // told as a whole, or not to be touched
	}
	if x.Danger = f.handOut(g); x.Danger > 0 && f.standing(g) {
		y := x
		y.Kind, y.Severity, y.Example = StandingAdmin, High, f.examples(g.Perms.All())
		f.add(y)
	}
	if others := f.spare[i]; len(others) > 0 {
		y := x
		y.Kind, y.Danger = RedundantGrant, 0
		if y.Count = len(others); y.Count == 1 {
			y.Count, y.Other = 0, f.r.Grants[others[0]].Grant
		}
		f.add(y)
	}
	if g.Unused.Count() == 0 {
		f.place(x, g)
		return
	}
	keep := f.all // and nothing that is called here works with it
	g.keepIn(keep)
	if keep.Count() == 0 {
		x.Kind, x.Danger, x.Example = UnusedGrant, g.Danger, f.examples(g.Unused.All())
		f.add(x)
		return
	}
	// Where a part cannot be judged (no log would show it, or a call that could not be placed
	// may have used it), the grant is not called unused: only that part of it which can go.
	all := g.Danger
	for i := range g.Refused.All() {
		keep.Remove(i)
	}
	kept := f.scale.Of(g, keep)
	if gone := all - kept; gone >= leastDanger && gone >= leastShare*all {
		y := x
		y.Kind, y.Danger, y.Example = OverBroadRole, gone, f.examples(g.Unused.All())
		f.add(y)
	}
	f.place(x, g)
}

// leastEnding is how near the end of a grant must be to be told.
const leastEnding = 30 * 24 * time.Hour

// EndsSoon reports whether a grant ends within thirty days that was given for longer than that: what
// is lent for a time ends as it should.
func EndsSoon(g *model.Grant, now time.Time) bool {
	end := g.Condition().Until
	return end.After(now) && end.Sub(now) <= leastEnding &&
		(g.Created.IsZero() || end.Sub(g.Created) > leastEnding)
}

func (f *finder) place(x Finding, g *GrantResult) {
	if g.Used.Count() == 0 || g.Rare.Count() > 0 && g.UsedNodes == 0 {
		return
	}
	// Only the permissions that were seen used say anything about places.
	seen := f.seen
	clear(seen)
	seen.OrFew(g.Used)
	seen.OrFew(g.Rare)
	// Counted in pairs of permission and node: a holder that does one thing on each
	// of many nodes, and could do all of it on all of them, has too many places too.
	nodes, pairs, used := 0, 0, 0
	narrow := 0.0
	for i := range seen.All() {
		n, u := f.scale.Nodes(i, g.Grant.Where), 1
		if pu := g.UseOf(i); pu != nil {
			u = max(1, len(pu.Nodes))
		}
		nodes, pairs, used = max(nodes, n), pairs+n, used+u
		narrow += f.in.Weights.Of(f.x.Level(i), u)
	}
	if nodes < leastNodes || float64(used) > mostUsed*float64(pairs) {
		return
	}
	wide := f.scale.Of(g, seen)
	x.Kind, x.Danger, x.Example = OverBroadPlace, max(0, wide-narrow), f.examples(seen.All())
	f.add(x)
}

func (f *finder) highest(perms access.Set) model.Level {
	top := model.LevelUnset
	for i := range perms.All() {
		top = max(top, f.x.Level(i))
	}
	return top
}

// handOut is the danger of the administering and handing-out part of a grant; 0
// when it cannot hand out anything.
func (f *finder) handOut(g *GrantResult) float64 {
	powerful := f.seen
	copy(powerful, g.Perms)
	for i := range g.Refused.All() {
		powerful.Remove(i)
	}
	if !powerful.Meets(f.hands) {
		return 0
	}
	powerful.And(f.powers)
	return f.scale.Of(g, powerful)
}

// standing reports whether a grant holds at all times on a node that has others
// below it: a scope, not a single resource.
func (f *finder) standing(g *GrantResult) bool {
	if c := g.Grant.Condition(); !c.Until.IsZero() || c.Hours != nil {
		return false
	}
	for _, on := range g.Grant.Where {
		if at, ok := on.Node(); !ok || on.Deep() && f.x.HasBelow(at) {
			return true
		}
	}
	return false
}

// givenByOther returns a grant near by that gives a holder everything that g gives, or -1.
func (f *finder) givenByOther(i int, g *GrantResult) int {
	for _, j := range f.near {
		o := f.r.Grants[j]
		if !f.x.SharedFew(i).In(o.Perms) {
			continue
		}
		if o.Grant.To == g.Grant.To && j > i && g.Perms.Count() == o.Perms.Count() {
			continue // of two equal ones, only the later is too much
		}
		if !slices.ContainsFunc(g.Grant.Where,
			func(p model.PathPattern) bool { return !model.PathPatternsContain(o.Grant.Where, p) }) {
			return j
		}
	}
	return -1
}

// givenByOthers returns the other grants near by that together give a holder everything that g
// gives; none when they do not. Grants that are called redundant so themselves do not count,
// so that all of them can go.
func (f *finder) givenByOthers(i int, g *GrantResult) []int {
	others, all := f.near, f.all
	clear(all)
	for _, j := range others {
		all.OrFew(f.x.SharedFew(j))
	}
	if !f.x.SharedFew(i).In(all) { // as nearly always
		return nil
	}
	by := map[int][]model.PathPattern{} // places by permission
	used := map[int]bool{}
	for _, j := range others {
		for p := range g.Perms.All() {
			if o := f.r.Grants[j]; o.Perms.Has(p) {
				by[p] = append(by[p], o.Grant.Where...)
				used[j] = true
			}
		}
	}
	for p := range g.Perms.All() {
		for _, on := range g.Grant.Where {
			if !model.PathPatternsContain(by[p], on) {
				return nil
			}
		}
	}
	return slices.Sorted(maps.Keys(used))
}

// mostExamples is how many permissions a finding names.
const mostExamples = 3

// examples picks the most telling permissions of a set: the highest levels first.
func (f *finder) examples(perms iter.Seq[int]) []model.Permission {
	var top [mostExamples]int // the heaviest first, of the same weight the first ones
	n := 0
	for i := range perms {
		at, level := n, f.x.Level(i)
		for at > 0 && level > f.x.Level(top[at-1]) {
			at--
		}
		if at < mostExamples {
			n = min(n+1, mostExamples)
			copy(top[at+1:n], top[at:])
			if top[at] = i; f.x.Level(top[mostExamples-1]) == model.HandOut && n == mostExamples {
				break // none is heavier
			}
		}
	}
	var out []model.Permission
	for _, i := range top[:n] {
		out = append(out, f.x.Permission(i).Permission)
	}
	return out
}
