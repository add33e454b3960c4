package draft

import (
	"encoding/json"
	"math"
	"slices"
	"strconv"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// What a place is worth
//
// Most of what breaks after a cut keeps the right permission on the wrong places: the next
// container beside those that were used, or the same act in another project. And some of what
// was never used is needed next month. So each permission of a grant stays on as many places as
// are worth their danger. The places on which its holders may need it are cut into parts, each
// with a chance that it is needed there within 90 days (package risk); of these that choice is
// kept (drafter.search) which makes the most of
//
//	lambda * needs met - weight * log2(1 + places) - a price for each piece
//
// What was used on several days stays in any case. What no log would show is weighed like the
// rest once enough was seen of the like where logs are on; else it stays. What has power and goes
// there is named, for somebody to decide. What is done together breaks together: while another
// permission goes on the same places that is needed as likely, only a part of a need counts. Of a
// group the needs of all its members count together, and so does the danger of each; what one or
// two of them alone need is theirs alone where that is worth a line; of very many what each of
// them used counts, and what they may need besides is looked at of some. Lambda, what one avoided
// break is worth, is a share of the danger that is held by all over how many of them call, so an
// estate joined to a copy of itself gets the same drafts. A second break of one identity hurts
// less than a first of another: lambda is times (0.5 e^-H + 0.5) for one that H breaks are expected
// of, which is known once it is drafted, so it is drafted a few times.

// Caution is how much an avoided break is worth; a greater one keeps more.
type Caution float64

// The cautions that have names.
const (
	Bold    Caution = 0.10
	Normal  Caution = 0.64
	Careful Caution = 2.3
)

// String returns the name, or the number of one that has none.
func (c Caution) String() string {
	switch c {
	case Bold:
		return "bold"
	case Normal:
		return "normal"
	case Careful:
		return "careful"
	}
	return strconv.FormatFloat(float64(c), 'g', -1, 64)
}

// Worth weighs places on one estate. It is not for several goroutines.
type Worth struct {
	avoided float64 // what one avoided break is worth, for caution 1
	past    *risk.Past
	model   *risk.Model
	now     usage.Day
	index   *index.Index

	grants     *grants
	stewards   *escalate.Stewarded  // nil: not asked yet
	fewSteward bool                 // they are no more than are looked at
	knows      map[model.Level]bool // whether enough was learned of what no log shows
}

// leastAge is for how many days something must be granted to be judged at all: what is done once a week has had its
// turn by then, and what is there since this morning is cut to what it did until noon else.
const leastAge = 7

// tooNew reports whether a grant that is young cannot be judged by how others go on that were.
func (w *Worth) tooNew(t *gauge.GrantResult) bool {
	return !w.model.KnowsYoung() || w.now-usage.DayOf(t.Since) < leastAge
}

// unfledged reports whether nothing that somebody new was given can be judged.
func (w *Worth) unfledged(s *gauge.Standing) bool {
	return !w.model.KnowsYoung() || len(s.Grants) > 0 && !slices.ContainsFunc(s.Grants,
		func(t *gauge.GrantResult) bool { return !w.tooNew(t) })
}

// seesThrough reports whether a permission is judged where no log shows it, by its like where logs are on.
func (w *Worth) seesThrough(perm int) bool {
	l := w.index.Level(perm)
	known, asked := w.knows[l]
	if !asked {
		known = w.model.KnowsDark(l)
		w.knows[l] = known
	}
	return known && w.past.Shows(perm)
}

// judgesDark reports whether some of what a grant gives where no log shows it is judged by its like where logs are on.
func (w *Worth) judgesDark(t *gauge.GrantResult) bool {
	return slices.ContainsFunc(t.Dark, func(h gauge.Hidden) bool {
		for perm := range h.Perms.All() {
			if w.seesThrough(perm) {
				return true
			}
		}
		return false
	})
}

// Granted returns what somebody was granted as of a day, by permission, as far as today's grants
// tell and those that are gone since.
func (w *Worth) Granted(id model.ID, day usage.Day) map[int]risk.Held { return w.grants.Held(id, day) }

// Having is Granted for [risk.Lost], which asks of some permissions only.
func (w *Worth) Having(id model.ID, day usage.Day) *risk.Having {
	list := w.grants.as(id, day)
	out := &risk.Having{Since: func(perm int) usage.Day {
		first := day
		for i := range list {
			if list[i].Perms.Has(perm) {
				first = min(first, list[i].since(perm))
			}
		}
		return first
	}, Dark: func(perm int) (dark []model.PathPattern) {
		for i := range list {
			if list[i].dark != nil && list[i].Perms.Has(perm) {
				dark = append(dark, list[i].dark(perm)...)
			}
		}
		return dark
	}}
	for _, o := range list {
		out.Grants = append(out.Grants, o.Given)
	}
	return out
}

// grants tells what was granted as of a day, by today's grants and those that are gone since; the last
// identity is kept.
type grants struct {
	in     *gauge.Input
	r      *gauge.Result
	x      *index.Index // with the grants that are gone
	scale  *gauge.Scale // of that; nil: none are
	now    usage.Day
	id     model.ID
	given  []int // today's
	gone   []int
	joined map[int]usage.Day              // of those that it has by joining a group: since when, where that is known
	dark   map[[2]int][]model.PathPattern // of grants that are gone, by number and permission

	lit  *gauge.Scale // of today's
	then map[usage.Day]*darkness
}

// darkness is what no log showed as of a day in the past, of logs that began later than it takes to tell.
type darkness struct {
	later func(service, class string) bool
	known map[[2]int][]model.PathPattern // by number of grant and permission
}

// mostThen bounds how many places of darkness are kept of a day.
const mostThen = 1 << 14

// spanAt is over which time a log must show something for its silence as of a day to say anything.
func (g *grants) spanAt(day usage.Day) usage.Window {
	span := usage.WindowOf(day.Time(), g.in.Window)
	if span.From.Before(g.in.History) { // as far as anything is known
		span.From = usage.DayOf(g.in.History).Time()
	}
	return span
}

func (g *grants) darkness(day usage.Day) *darkness {
	d := g.then[day]
	if d == nil {
		d = &darkness{later: g.in.Coverage.Later(g.spanAt(day).From), known: map[[2]int][]model.PathPattern{}}
		g.then[day] = d
	}
	return d
}

// hid returns what reports of a place whether no log showed a permission there as of a day in the past, and one does
// that was switched on since; nil: none was.
func (g *grants) hid(perm int, day usage.Day) func(at model.Path) bool {
	c := g.in.Index.Permission(perm)
	service := c.Permission.Service()
	if day >= g.now || !g.darkness(day).later(service, c.LogClass) {
		return nil
	}
	span := g.spanAt(day)
	return func(at model.Path) bool { return g.in.Coverage.Began(at, service, c.LogClass, span) }
}

// darkAt returns on which places of a grant no log showed a permission as of a day in the past, or does today: what
// was done there before a log was switched on looks as if it began then.
func (g *grants) darkAt(n, perm int, day usage.Day, where, today []model.PathPattern) []model.PathPattern {
	d := g.darkness(day)
	if c := g.in.Index.Permission(perm); !d.later(c.Permission.Service(), c.LogClass) {
		return today
	}
	dark, known := d.known[[2]int{n, perm}]
	if !known {
		if g.lit == nil {
			g.lit = gauge.NewScale(g.in.Index, g.in.Weights)
		}
		dark = slices.Clone(today)
		for _, on := range g.lit.Dark(g.in.Coverage, perm, where, g.spanAt(day)) {
			if !model.PathPatternsContain(dark, on) {
				dark = append(dark, on)
			}
		}
		if len(d.known) >= mostThen {
			clear(d.known)
		}
		d.known[[2]int{n, perm}] = dark
	}
	return dark
}

func (g *grants) of(id model.ID) {
	if g.id == id {
		return
	}
	g.id, g.given, g.gone, g.joined = id, nil, nil, nil
	for _, n := range g.x.Given(id) {
		if n < g.in.Index.GrantNumbers() {
			g.given = append(g.given, n)
		} else {
			g.gone = append(g.gone, n)
		}
	}
	if len(g.in.Joined) > 0 && id.Kind != model.Group {
		g.joins(id)
	}
}

// joins notes since when somebody has what was granted to groups that it joined: the first day on which it
// was in one by some way.
func (g *grants) joins(id model.ID) {
	x := g.in.Index
	in := map[model.ID]usage.Day{id: math.MinInt32}
	for queue := []model.ID{id}; len(queue) > 0; queue = queue[1:] {
		for _, up := range x.GroupsOf(queue[0]) {
			day := in[queue[0]]
			if at, joined := g.in.Joined[model.Membership{Member: queue[0], Group: up}]; joined {
				day = max(day, usage.DayOf(at))
			}
			if was, known := in[up]; !known || day < was {
				in[up] = day
				queue = append(queue, up)
			}
		}
	}
	g.joined = map[int]usage.Day{}
	for group, day := range in {
		if day == math.MinInt32 {
			continue
		}
		for _, n := range x.GrantsTo(group) {
			g.joined[n] = day
		}
	}
}

// former returns a grant that is gone, by its number, and the days on which it was there.
func (g *grants) former(n int) (grant *model.Grant, from, to usage.Day) {
	f := &g.in.Before.Gone[n-g.in.Index.GrantNumbers()]
	return &f.Grant, usage.DayOf(f.From), usage.DayOf(f.To)
}

// once is the danger of what somebody holds and held together; 0 where it held nothing else, but for what was
// lent for a while.
func (g *grants) once(id model.ID) float64 {
	g.of(id)
	var parts []gauge.Part
	for _, n := range g.gone {
		if grant, from, to := g.former(n); to-from >= risk.Horizon {
			parts = append(parts, gauge.Part{Perms: g.x.SharedPerms(n), Where: grant.Where})
		}
	}
	if len(parts) == 0 {
		return 0
	}
	for _, n := range g.given {
		parts = append(parts, gauge.Part{Perms: g.x.SharedPerms(n), Where: g.in.Index.Grant(n).Where})
	}
	return g.scale.Union(parts)
}

// missed reports whether a call was refused that a change of ours took the access for: what it shows is a need, which
// would look as if it were over else. Who was refused while it still had that, or since others took it, shows none.
func (g *grants) missed(u *usage.Use) bool {
	if g.in.Before == nil {
		return false
	}
	perm, known := g.in.Index.PermNumber(u.Permission)
	if g.of(u.Principal()); !known {
		return false
	}
	return slices.ContainsFunc(g.gone, func(n int) bool {
		f := &g.in.Before.Gone[n-g.in.Index.GrantNumbers()]
		return f.Ours && !u.First.Before(f.To) && g.x.SharedPerms(n).Has(perm) && f.Grant.Covers(u.Path)
	})
}

// one is a grant as somebody had it on a day.
type one struct {
	risk.Given
	since func(perm int) usage.Day
	dark  func(perm int) []model.PathPattern // nil: a log shows it everywhere
}

// as returns what was granted as of a day, grant by grant. What is gone counts where it was there to the end
// of the horizon: what could not be used any more shows no need.
func (g *grants) as(id model.ID, day usage.Day) []one {
	g.of(id)
	var out []one
	for _, n := range g.given {
		grant, t := g.in.Index.Grant(n), g.r.Grants[n]
		made := usage.DayOf(grant.Created)
		if t != nil {
			made = usage.DayOf(t.Since)
		}
		if day, joined := g.joined[n]; joined {
			made = max(made, day)
		}
		o := one{risk.Given{Perms: g.in.Index.SharedPerms(n), Where: grant.Where},
			func(int) usage.Day { return made }, nil}
		if len(g.gone) > 0 {
			o.since = func(perm int) usage.Day { return g.since(perm, grant.Where, made) }
		}
		if made > day { // but for what a wider one gave before
			perms := g.in.Index.NewSet()
			for perm := range o.Perms.All() {
				if o.since(perm) <= day {
					perms.Add(perm)
				}
			}
			o.Perms = perms
		}
		switch {
		case t != nil && day < g.now:
			o.dark = func(perm int) []model.PathPattern { return g.darkAt(n, perm, day, grant.Where, t.DarkAt(perm)) }
		case t != nil && len(t.Dark) > 0:
			o.dark = t.DarkAt
		}
		out = append(out, o)
	}
	for _, n := range g.gone {
		grant, from, to := g.former(n)
		if day >= g.now || from > day || to < min(day+risk.Horizon, g.now) {
			continue
		}
		out = append(out, one{risk.Given{Perms: g.x.SharedPerms(n), Where: grant.Where},
			func(int) usage.Day { return from }, func(perm int) []model.PathPattern {
				dark, known := g.dark[[2]int{n, perm}]
				if !known {
					dark = g.scale.Dark(g.in.Coverage, perm, grant.Where, g.in.Span())
					g.dark[[2]int{n, perm}] = dark
				}
				return g.darkAt(n, perm, day, grant.Where, dark)
			}})
	}
	return out
}

// add adds what a grant gave of a permission to what others gave.
func (o *one) add(h *risk.Held, perm int) {
	if since := o.since(perm); h.Where == nil || since < h.Since {
		h.Since = since
	}
	h.Where = append(h.Where, o.Where...)
	if o.dark != nil {
		h.Dark = append(h.Dark, o.dark(perm)...)
	}
}

// Held implements [risk.Grants].
func (g *grants) Held(id model.ID, day usage.Day) map[int]risk.Held {
	out := map[int]risk.Held{}
	for _, o := range g.as(id, day) {
		for perm := range o.Perms.All() {
			h, again := out[perm]
			if o.add(&h, perm); !again {
				h.Hid = g.hid(perm, day)
			}
			out[perm] = h
		}
	}
	return out
}

// since returns since when somebody has a permission on some places, of which a grant was made on a day: a
// wider one may have been there until then.
func (g *grants) since(perm int, where []model.PathPattern, made usage.Day) usage.Day {
	since := made
	for _, n := range g.gone {
		grant, from, to := g.former(n)
		within := func(on model.PathPattern) bool { return model.PathPatternsContain(grant.Where, on) }
		if from < since && to >= made-overlap && g.x.SharedPerms(n).Has(perm) &&
			!slices.ContainsFunc(where, func(on model.PathPattern) bool { return !within(on) }) {
			since = from
		}
	}
	return since
}

// overlap is how many days may lie between a grant that goes and the one that is made in its place.
const overlap = 30

// NewWorth learns from the past of an estate what its places are worth.
func NewWorth(in *gauge.Input, r *gauge.Result) *Worth {
	w, _ := WorthOf(in, r, nil)
	return w
}

// Learned returns what was learned, for [WorthOf].
func (w *Worth) Learned() ([]byte, error) { return w.model.Keep(w.past) }

// WorthOf is NewWorth with what was learned from the same estate, uses and day before; without that,
// or where it cannot be read, it learns, and says so.
func WorthOf(in *gauge.Input, r *gauge.Result, learned []byte) (w *Worth, anew bool) {
	w = newWorth(in, r)
	held, callers := 0.0, 0
	for _, s := range r.Standings {
		if s.ID.Kind != model.Group && !s.LastUse.IsZero() {
			held += max(s.Danger, w.grants.once(s.ID))
			callers++
		}
	}
	if callers > 0 {
		w.avoided = held / float64(callers)
	}
	if len(learned) > 0 {
		if m, err := risk.Recall(w.past, learned); err == nil {
			w.model = m
			return w, false
		}
	}
	var at func(done, of int)
	if in.At != nil {
		at = func(done, of int) { in.At(gauge.Learning, done, of) }
	}
	w.model = risk.Learn(w.past, w.now, w.grants, at)
	return w, true
}

// Whole is what weighing the places of a few takes to be known of all.
type Whole struct {
	Avoided float64           // what one avoided break is worth, for caution 1
	Ever    map[int]usage.Day // see [risk.Others]
	Learned json.RawMessage
}

// Whole tells what is known of all, for [WorthOfFew], and who of the members of a group did anything.
func (w *Worth) Whole() (all Whole, crew func(model.ID) *risk.Crew, err error) {
	learned, err := w.Learned()
	return Whole{w.avoided, w.past.Ever(), learned}, w.past.Crew, err
}

// WorthOfFew weighs the places of a few, whose uses in has and whose grants r has, by what is known of all.
// Crews are those of all groups in which somebody is whose places are asked about. An error is of what was learned.
func WorthOfFew(in *gauge.Input, r *gauge.Result, all *Whole, crews map[model.ID]*risk.Crew) (*Worth, error) {
	w := newWorth(in, r)
	w.avoided = all.Avoided
	w.past.Know(risk.Others{Ever: all.Ever, Crews: crews})
	var err error
	w.model, err = risk.Recall(w.past, all.Learned)
	return w, err
}

// newWorth reads the past.
func newWorth(in *gauge.Input, r *gauge.Result) *Worth {
	w := &Worth{now: usage.DayOf(in.AsOf), index: in.Index,
		knows: map[model.Level]bool{}}
	w.grants = &grants{in: in, r: r, x: in.Index, now: w.now, dark: map[[2]int][]model.PathPattern{},
		then: map[usage.Day]*darkness{}}
	if in.Before != nil {
		w.grants.x = in.Before.Index
		w.grants.scale = gauge.NewScale(w.grants.x, in.Weights)
	}
	first := w.now
	if !in.History.IsZero() {
		first = usage.DayOf(in.History)
	}
	w.past = risk.NewPast(in.Index, in.Place.Inventory, in.Uses, first, w.now, func(i int, u *usage.Use) bool {
		if !u.Outcome.Allowed() {
			return w.grants.missed(u)
		}
		why := r.Placement.Reason(i)
		return why != gauge.NoPath && why != gauge.NoCaller
	})
	return w
}

// Risk returns what the chances come from: the past, and what was learned from it.
func (w *Worth) Risk() (*risk.Past, *risk.Model) { return w.past, w.model }

// returns is how likely it is that somebody does something again that some grants give, as far
// as it is learned: of all that it did, the likeliest.
func (w *Worth) returns(s *gauge.Standing, grants []int) float64 {
	if !w.model.KnowsUsed() {
		return 0
	}
	most := 0.0
	for _, n := range grants {
		g := w.index.Grant(n)
		for i := range w.index.SharedPerms(n).All() {
			for _, q := range w.past.UsedParts(s.ID, i, w.now) {
				node, one := q.Where[0].Node()
				given := func(on model.PathPattern) bool { return on.Overlaps(node.Below()) }
				if one && slices.ContainsFunc(g.Where, given) {
					most = max(most, w.model.Chance(q))
				}
			}
		}
	}
	return most
}

// lambda is what one avoided break is worth.
func (d *drafter) lambda() float64 { return float64(d.o.Caution) * d.worth.avoided * d.rate }
