package draft

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
)

// The other way round: access that somebody is to have and has not. What is written is as narrow as
// what is asked for, because nothing is asked for but single calls, or permissions on places.

// A Refused is a call that was refused, or that somebody says would be.
type Refused struct {
	Permission model.Permission
	Path       model.Path
	Context    model.Context // of the call; a second factor only where every one like it had one
	Count      int64         // 0: it is not in the logs
	Days       int
	First      time.Time
	Last       time.Time
}

// Help says what a line of a fence can do for a refused call.
type Help int

// What stands in the way of a call.
const (
	Line      Help = iota // nothing gives it: a line does
	Already               // nothing: it is allowed now
	Sometimes             // a condition that is not known of the call, such as the hour
	Condition             // a grant covers it, under a condition that the call did not meet
	Rule                  // a denial, a guardrail or a ceiling, against which no line helps
	Unlisted              // the catalogue knows no such permission
	TooMany               // the fence would have too many lines
)

// An Answer is what can be done about a refused call.
type Answer struct {
	Refused
	Help     Help
	Decision access.Decision
	Kinds    []string          // of a node of another kind than the permission is for: those
	Where    model.PathPattern // of the line, where it reaches further than the call did
}

// mostLines is how many lines a fence may have, so that somebody can read it.
const mostLines = 40

// ForRefused drafts the smallest access that allows calls which are refused: of each the
// permission, on the very place, and nothing where no line helps. Since every line that allows a
// call allows at least that, no line is less dangerous, on any estate: danger never falls when
// access grows. It returns nil for a fence without lines.
//
// Of lines that somebody is better given back, as [FromUse] drafts them of what it had, those stand in for the very
// places that are in them.
func ForRefused(x *index.Index, who model.ID, calls []Refused, back []fence.Allow, why string,
	now time.Time) (*fence.Fence, []Answer) {
	f := &fence.Fence{Version: fence.FormatVersion, For: model.ID{Source: x.Source(), Kind: who.Kind, Name: who.Name},
		Drafted: now, Widens: why}
	calls = slices.Clone(calls)
	slices.SortStableFunc(calls, func(a, b Refused) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), a.Path.Compare(b.Path), a.Permission.Compare(b.Permission))
	})
	answers := make([]Answer, len(calls))
	type bundle struct {
		do     []model.Permission
		of     []int // answers
		factor bool
		chance float64
	}
	on := map[model.PathPattern]*bundle{} // what is lacking on a place
	var places []model.PathPattern
	for i, c := range calls {
		d := x.Decide(who, c.Permission, c.Path, c.Context)
		answers[i] = Answer{Refused: c, Help: helpFor(x, c.Permission, d), Decision: d}
		if e, _ := x.Entry(c.Permission); len(e.Kinds) > 0 {
			kind, _ := c.Path.Last()
			if _, listed := x.Node(c.Path); listed && !slices.Contains(e.Kinds, kind) {
				answers[i].Kinds = e.Kinds
			}
		}
		if answers[i].Help != Line {
			continue
		}
		at, chance := backAt(x, back, c)
		if at != c.Path.Exactly() {
			answers[i].Where = at
		}
		b := on[at]
		if b == nil {
			b = &bundle{factor: true}
			on[at] = b
			places = append(places, at)
		}
		b.chance = max(b.chance, chance)
		b.of = append(b.of, i)
		b.factor = b.factor && c.Context.SecondFactor == model.True
		if !slices.Contains(b.do, c.Permission) {
			b.do = append(b.do, c.Permission)
		}
	}
	lines := map[string]int{} // by what they allow, from 1
	for _, at := range places {
		b := on[at]
		slices.SortFunc(b.do, model.Permission.Compare)
		var key strings.Builder
		for _, p := range b.do {
			key.WriteString(p.String() + " ")
		}
		if b.factor {
			key.WriteString("second factor")
		}
		n := lines[key.String()]
		if n == 0 {
			if len(f.Allow) == mostLines {
				for _, i := range b.of {
					answers[i].Help = TooMany
				}
				continue
			}
			a := fence.Allow{When: model.Condition{SecondFactor: b.factor}, Evidence: fence.Evidence{Class: "asked"}}
			for _, p := range b.do {
				a.Do = append(a.Do, p.Pattern())
			}
			f.Allow = append(f.Allow, a)
			n = len(f.Allow)
			lines[key.String()] = n
		}
		a := &f.Allow[n-1]
		a.Where = append(a.Where, at)
		a.Evidence.Chance = max(a.Evidence.Chance, b.chance)
		for _, i := range b.of {
			told(&a.Evidence, calls[i])
		}
	}
	if len(f.Allow) == 0 {
		return nil, answers
	}
	return f, answers
}

// backAt returns the narrowest place of some lines that allow a call, and with what chance another one comes in it;
// where none does, or it is the node of the call with what is below, the very place.
func backAt(x *index.Index, lines []fence.Allow, c Refused) (at model.PathPattern, chance float64) {
	at = c.Path.Exactly()
	p, _ := x.PermNumber(c.Permission)
	found := false
	for i := range lines {
		l := &lines[i]
		if !l.When.IsZero() || !x.SetPerms(l.Sets(x)).Has(p) {
			continue
		}
		for _, on := range l.Where {
			if on.Matches(c.Path) && (!found || at.Contains(on)) {
				at, chance, found = on, l.Evidence.Chance, true
			}
		}
	}
	if at == c.Path.Exactly() || at == c.Path.Below() {
		return c.Path.Exactly(), 0
	}
	return at, chance
}

// Probing counts the permissions of some calls that were refused on one day alone, where they are so many that
// somebody may be trying what works; else it is 0.
func Probing(calls []Refused) int {
	const many = 5
	once := map[model.Permission]bool{}
	for _, c := range calls {
		if c.Count > 0 {
			once[c.Permission] = c.Days == 1 && (once[c.Permission] || !slices.ContainsFunc(calls,
				func(o Refused) bool { return o.Permission == c.Permission && o.Days > 1 }))
		}
	}
	n := 0
	for _, yes := range once {
		if yes {
			n++
		}
	}
	if n < many {
		return 0
	}
	return n
}

// told adds a refused call to what a line rests on; of days it tells the most that one had.
func told(e *fence.Evidence, c Refused) {
	if c.Count == 0 {
		return
	}
	e.Class = "refused"
	e.Count += c.Count
	e.Days = max(e.Days, c.Days)
	if e.First.IsZero() || c.First.Before(e.First) {
		e.First = c.First
	}
	if c.Last.After(e.Last) {
		e.Last = c.Last
	}
}

// helpFor says what a line can do where a decision is as it is.
func helpFor(x *index.Index, p model.Permission, d access.Decision) Help {
	switch {
	case d.Outcome == access.Allowed:
		return Already
	case d.Outcome == access.Conditional:
		return Sometimes
	case slices.ContainsFunc(d.Refusals, func(r access.Refusal) bool { return r.Met != model.False }):
		return Rule
	case len(d.Unmet) > 0:
		return Condition
	}
	if _, ok := x.PermNumber(p); !ok {
		return Unlisted
	}
	return Line
}

// A Want is permissions that somebody is to have on some places, and what for.
type Want struct {
	Do    []model.PermissionPattern
	Where []model.PathPattern
	For   string
}

// A Lack is a permission of a want on a place.
type Lack struct {
	Permission model.Permission
	Where      model.PathPattern
	For        string
}

// Gap holds what is wanted against what is there.
type Gap struct {
	Missing  []Lack // wanted, and not granted there or not everywhere in it
	Granted  []Lack // wanted and granted
	Excess   []Lack // granted, and wanted nowhere in the place or not everywhere; For is the grant
	Unlisted []model.PermissionPattern
	Barred   []Barred // wanted, and refused by a rule, whatever a line says
}

// Barred is a permission of a want that a denial, a guardrail or a ceiling refuses.
type Barred struct {
	Lack
	By access.Refusal
}

// Against compares what somebody is granted, by grants of its own and of groups, with what it is
// to have. A permission on a place is one entry, as the grant or the want writes the place; a
// grant under a condition gives nothing that is surely there.
func Against(x *index.Index, who model.ID, wants []Want) Gap {
	var g Gap
	have := map[model.Permission][]model.PathPattern{}
	for _, h := range x.Holdings(who) {
		if !h.Grant.Condition().IsZero() {
			continue
		}
		for i := range h.Perms.All() {
			p := x.Permission(i).Permission
			have[p] = append(have[p], h.Grant.Where...)
		}
	}
	need := map[model.Permission][]model.PathPattern{}
	seen := map[Lack]bool{}
	for _, w := range wants {
		for _, pat := range w.Do {
			perms := x.SetPerms([]model.Rights{{Do: []model.PermissionPattern{pat}}})
			if perms.Count() == 0 {
				g.Unlisted = append(g.Unlisted, pat)
			}
			for i := range perms.All() {
				p := x.Permission(i).Permission
				for _, on := range w.Where {
					l := Lack{p, on, w.For}
					if key := (Lack{p, on, ""}); seen[key] {
						continue // of two features, the first is told
					} else {
						seen[key] = true
					}
					need[p] = append(need[p], on)
					if by, is := bars(x, who, p, on); is {
						g.Barred = append(g.Barred, Barred{l, by})
						continue
					}
					if model.PathPatternsContain(have[p], on) {
						g.Granted = append(g.Granted, l)
					} else {
						g.Missing = append(g.Missing, l)
					}
				}
			}
		}
	}
	for _, h := range x.Holdings(who) {
		for i := range h.Perms.All() {
			p := x.Permission(i).Permission
			for _, on := range h.Grant.Where {
				if !model.PathPatternsContain(need[p], on) {
					g.Excess = append(g.Excess, Lack{p, on, h.Grant.ID})
				}
			}
		}
	}
	return g
}

// bars returns the rule that refuses a permission on the node of a place whatever is granted.
func bars(x *index.Index, who model.ID, p model.Permission, on model.PathPattern) (access.Refusal, bool) {
	at, ok := on.Anchor()
	if !ok {
		return access.Refusal{}, false
	}
	d := x.Decide(who, p, at, model.Context{})
	i := slices.IndexFunc(d.Refusals, func(r access.Refusal) bool { return r.Met == model.True })
	if i < 0 {
		return access.Refusal{}, false
	}
	return d.Refusals[i], true
}

// ForTask drafts what is lacking of some wants, and takes nothing away. What somebody has already
// is not written again, so that no part of a line can be taken out. It returns nil where nothing
// is lacking.
func ForTask(x *index.Index, who model.ID, wants []Want, why string, now time.Time) *fence.Fence {
	f := &fence.Fence{Version: fence.FormatVersion, For: model.ID{Source: x.Source(), Kind: who.Kind, Name: who.Name},
		Drafted: now, Widens: why, Allow: linesOf(Against(x, who, wants).Missing, "task")}
	if len(f.Allow) == 0 {
		return nil
	}
	return f
}

// ForNeeds drafts what stands in place of every grant that is made to somebody by name: just what
// it needs. What groups give stays, and is told by [Against]. Nothing is named as given up: what it
// used and says not to need, a rehearsal finds.
func ForNeeds(x *index.Index, who model.ID, wants []Want, why string, now time.Time) *fence.Fence {
	f := &fence.Fence{Version: fence.FormatVersion, For: model.ID{Source: x.Source(), Kind: who.Kind, Name: who.Name},
		Drafted: now, Widens: why}
	g := Against(x, who, wants)
	f.Allow = linesOf(slices.Concat(g.Granted, g.Missing), "needs")
	for _, i := range x.GrantsTo(who) {
		f.Replaces = append(f.Replaces, x.Grant(i).ID)
	}
	return f
}

// linesOf bundles permissions on places into few lines: those of one purpose on the same places.
func linesOf(lacks []Lack, class string) []fence.Allow {
	type spot struct {
		on  model.PathPattern
		why string
	}
	do := map[spot][]model.PermissionPattern{}
	var spots []spot
	for i, l := range lacks {
		if slices.ContainsFunc(lacks, func(o Lack) bool { // a place inside another needs no line
			return o.Permission == l.Permission && o.Where != l.Where && o.Where.Contains(l.Where)
		}) || slices.ContainsFunc(lacks[:i], func(o Lack) bool {
			return o.Permission == l.Permission && o.Where == l.Where
		}) {
			continue
		}
		at := spot{l.Where, l.For}
		if do[at] == nil {
			spots = append(spots, at)
		}
		do[at] = append(do[at], l.Permission.Pattern())
	}
	out := []fence.Allow{}
	lines := map[string]int{} // from 1
	for _, at := range spots {
		var key strings.Builder
		for _, p := range do[at] {
			key.WriteString(p.String() + " ")
		}
		key.WriteString(at.why)
		if n := lines[key.String()]; n > 0 {
			out[n-1].Where = append(out[n-1].Where, at.on)
			continue
		}
		out = append(out, fence.Allow{Do: do[at], Where: []model.PathPattern{at.on},
			Evidence: fence.Evidence{Class: class, For: at.why}})
		lines[key.String()] = len(out)
	}
	return out
}
