// Package draft writes the access that should stand in place of what is granted.
//
// A [Fence] names the grants it replaces and what it allows instead. [FromUse]
// drafts one from a comparison: fewer permissions, fewer places, the same
// conditions. It narrows only: each line of the fence lies inside one of the
// grants that it replaces, which package rehearse proves again from the fence
// alone. What no log could have shown is kept, and said so.
package draft

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Errors that callers decide on.
var (
	// ErrNothing: the access fits; there is nothing to narrow.
	ErrNothing = errors.New("nothing to narrow")
	// ErrProtected: the identity's access is never changed.
	ErrProtected = errors.New("identity is protected")
	// ErrUnknown: the estate has no such identity.
	ErrUnknown = errors.New("no such identity")
)

// A Fence is the content of a fence file: the access that one identity should
// have in one source in place of the grants it replaces.
type Fence struct {
	Version  int            `json:"fence" doc:"version of this format: 2"`
	For      model.ID       `json:"for" doc:"whose access, source:kind/name"`
	Drafted  time.Time      `json:"drafted" doc:"when, RFC 3339"`
	Window   string         `json:"window" doc:"how far back the draft looked, such as 90d"`
	Survey   int64          `json:"survey,omitempty" doc:"the survey it was drafted from"`
	Replaces []string       `json:"replaces,omitempty" doc:"grants that go"`
	Leaves   []model.ID     `json:"leaves,omitempty" doc:"groups that the identity leaves"`
	Allow    []Allow        `json:"allow" doc:"what stands in their place; may be empty"`
	GivesUp  []GiveUp       `json:"gives_up,omitempty" doc:"what goes; a use that goes must be named here, with its place, or the rehearsal fails"`
	At       model.Position `json:"-"`
	Remarks  []model.Remark `json:"-"` // what to write otherwise now
}

// FormatVersion is the version of the fence file's format.
const FormatVersion = 2

// A GiveUp names permissions that go on some places, but for what the lines of the
// fence still allow there. It says nothing about other places.
type GiveUp struct {
	Do    []model.PermissionPattern `json:"do" doc:"permissions that go"`
	Where []model.PathPattern       `json:"where" doc:"path patterns on which they go"`
	At    model.Position            `json:"-"`
}

// FromText reads how fence: 1 named a permission, which excused it on every place.
func (g *GiveUp) FromText(text string) (string, error) {
	p, err := model.ParsePermissionPattern(text)
	if err != nil {
		return "", err
	}
	everywhere, err := model.ParsePathPattern("/**")
	if err != nil {
		return "", err
	}
	g.Do, g.Where = []model.PermissionPattern{p}, []model.PathPattern{everywhere}
	return fmt.Sprintf("{do: [%s], where: [the places on which it goes]}; until then it goes on every place", p), nil
}

// Names reports whether a fence says that a permission on a path goes.
func (f *Fence) Names(p model.Permission, path model.Path) bool {
	return slices.ContainsFunc(f.GivesUp, func(g GiveUp) bool {
		return slices.ContainsFunc(g.Do, func(d model.PermissionPattern) bool { return d.Matches(p) }) &&
			slices.ContainsFunc(g.Where, func(w model.PathPattern) bool { return w.Matches(path) })
	})
}

// GivenUp returns the permissions that go somewhere, each once, in the order in which
// they are named.
func (f *Fence) GivenUp() []model.PermissionPattern {
	var out []model.PermissionPattern
	seen := map[model.PermissionPattern]bool{}
	for _, g := range f.GivesUp {
		for _, p := range g.Do {
			if !seen[p] {
				seen[p] = true
				out = append(out, p)
			}
		}
	}
	return out
}

// An Allow is one line of a fence: a role of the source, or permissions, on places.
type Allow struct {
	Role     string                    `json:"role,omitempty" doc:"a role of the source that fits; this or do"`
	Do       []model.PermissionPattern `json:"do,omitempty" doc:"permissions"`
	Where    []model.PathPattern       `json:"where" was:"on" doc:"path patterns"`
	When     model.Condition           `json:"when,omitzero" doc:"only under this condition"`
	Until    time.Time                 `json:"until,omitzero" doc:"ends at this time"`
	At       model.Position            `json:"-"`
	Evidence Evidence                  `json:"-"` // told in a comment beside it
}

// Evidence is what an [Allow] rests on.
type Evidence struct {
	Class string // used, rare, unobservable or undecidable
	Count int64  // calls on the places of the line: in the window, or of a rare one ever
	Days  int

	AtLeast bool // Count is the least that there were
	Earlier bool // all of it is from before the window, in which the permission was used elsewhere
	First   time.Time
	Last    time.Time
}

// Sets returns the permissions of a line.
func (a *Allow) Sets(g *engine.Engine) []model.Rights {
	if a.Role != "" {
		return g.RoleSets(a.Role)
	}
	return []model.Rights{{Do: a.Do}}
}

// Validate reports what is wrong with a fence that somebody wrote, or nil.
func (f *Fence) Validate(e *model.Estate) error {
	var errs []error
	fault := func(at model.Position, format string, args ...any) {
		errs = append(errs, &model.Fault{At: at, What: fmt.Sprintf(format, args...)})
	}
	grants := map[string]*model.Grant{}
	for i := range e.Grants {
		grants[e.Grants[i].ID] = &e.Grants[i]
	}
	for _, id := range f.Replaces {
		switch g := grants[id]; {
		case g == nil:
			fault(f.At, "replaces: no grant %q in source %q; survey again, or draft anew", id, e.Source)
		case g.To != f.For.In(e.Source):
			fault(f.At, "replaces: grant %q is made to %s, not to %s", id, g.To, f.For)
		}
	}
	roles := map[string]bool{}
	for _, r := range e.Roles {
		roles[r.Name] = true
	}
	known := func(p model.PermissionPattern) bool {
		return slices.ContainsFunc(e.Catalogue, func(c model.CatalogueEntry) bool { return p.Matches(c.Permission) })
	}
	for _, a := range f.Allow {
		switch {
		case (a.Role == "") == (len(a.Do) == 0):
			fault(a.At, "allow: a line has a role or do, one of the two")
		case a.Role != "" && !roles[a.Role]:
			fault(a.At, "allow: no role %q in source %q", a.Role, e.Source)
		case len(a.Where) == 0:
			fault(a.At, "allow: a line names at least one place (where)")
		}
		for _, p := range a.Do {
			if !known(p) {
				fault(a.At, "allow: permission %q is not in the catalogue of source %q", p, e.Source)
			}
		}
		if a.When.Hours != nil {
			if err := a.When.Hours.Validate(); err != nil {
				fault(a.At, "allow: %v", err)
			}
		}
	}
	return errors.Join(errs...)
}

// Apply returns the estate as it would be with the fence in force. New grants are
// named after the identity.
func (f *Fence) Apply(e *model.Estate) *model.Estate {
	out := *e
	who := f.For.In(e.Source)
	out.Grants = slices.DeleteFunc(slices.Clone(e.Grants), func(g model.Grant) bool { return g.To == who && slices.Contains(f.Replaces, g.ID) })
	for i, a := range f.Allow {
		g := model.Grant{ID: fmt.Sprintf("fence:%s:%d", who, i+1), To: who, Role: a.Role, Where: a.Where, When: a.When, Until: a.Until, KeptWith: model.WithHolder}
		g.Do = a.Do
		out.Grants = append(out.Grants, g)
	}
	out.Memberships = slices.DeleteFunc(slices.Clone(e.Memberships), func(m model.Membership) bool { return m.Member == who && slices.Contains(f.Leaves, m.Group) })
	return &out
}

// Options steer a draft.
type Options struct {
	// GiveUpUnobservable drops what no log could have shown. Without it, such
	// permissions stay where they were.
	GiveUpUnobservable bool
}

// FromUse drafts the narrower access of one identity or group. An idle one gets
// none and leaves its groups. Grants that are too new to judge, or that fit, are
// left alone.
func FromUse(in *gauge.Input, r *gauge.Result, who model.ID, o Options) (*Fence, error) {
	e := in.Engine.Estate
	f := &Fence{Version: FormatVersion, For: model.ID{Source: e.Source, Kind: who.Kind, Name: who.Name}, Drafted: in.AsOf, Window: fmt.Sprintf("%dd", in.Window), Allow: []Allow{}}
	s := r.Of(who)
	switch {
	case who.Open():
	case s == nil:
		return nil, fmt.Errorf("%s in source %q: %w", who, e.Source, ErrUnknown)
	case s.State == gauge.Protected:
		return nil, fmt.Errorf("%s: %w", who, ErrProtected)
	case s.State == gauge.Idle || s.State == gauge.Disabled:
		return idle(f, in, s)
	case s.State == gauge.Rare || s.State == gauge.Unproven || s.State == gauge.New:
		return nil, fmt.Errorf("%s: %w: its silence proves nothing yet (%s)", who, ErrNothing, s.State)
	}
	d := &drafter{in: in, r: r, g: in.Engine, e: e, o: o, fence: f}
	var targets []*gauge.GrantResult
	for _, i := range in.Engine.GrantsTo(who) {
		targets = append(targets, r.Grants[i])
	}
	// The broadest first, so that what a narrower grant gives too is not written twice.
	slices.SortStableFunc(targets, func(a, b *gauge.GrantResult) int { return cmp.Compare(b.Danger, a.Danger) })
	// A grant that others make needless goes, and nothing with it. What groups give stays.
	spare := r.Redundant(in)
	needless := func(t *gauge.GrantResult, but func(model.ID) bool) bool {
		by := spare[slices.Index(r.Grants, t)]
		return len(by) > 0 && !slices.Contains(f.Replaces, t.Grant.ID) && !slices.ContainsFunc(by, func(j int) bool {
			g := r.Grants[j].Grant
			return but(g.To) || slices.Contains(f.Replaces, g.ID)
		})
	}
	for _, t := range targets {
		if needless(t, func(to model.ID) bool { return to == who }) {
			f.Replaces = append(f.Replaces, t.Grant.ID)
		} else {
			d.target(t)
		}
	}
	for _, t := range targets {
		if needless(t, func(model.ID) bool { return false }) {
			f.Replaces = append(f.Replaces, t.Grant.ID)
		}
	}
	if len(f.Replaces) == 0 {
		return nil, fmt.Errorf("%s: %w: every grant of its own is used, too new or cannot be judged", who, ErrNothing)
	}
	f.GivesUp = d.givesUp()
	return f, nil
}

// Candidates returns whose access a draft may make smaller, by the danger that can go: of
// their own grants, or of everything that reaches them when they are idle. Those come last
// who only have grants that others make needless.
func Candidates(in *gauge.Input, r *gauge.Result) []model.ID {
	danger := map[model.ID]float64{}
	for _, s := range r.Standings {
		if x := max(s.Removable, r.IdleDanger(in, s)); x >= 1 {
			danger[s.ID] = x
		}
	}
	for i := range r.Redundant(in) {
		if to := r.Grants[i].Grant.To; danger[to] == 0 {
			danger[to] = 0
		}
	}
	return slices.SortedFunc(maps.Keys(danger), func(a, b model.ID) int { return cmp.Or(cmp.Compare(danger[b], danger[a]), a.Compare(b)) })
}

func idle(f *Fence, in *gauge.Input, s *gauge.Standing) (*Fence, error) {
	e := in.Engine.Estate
	for _, g := range s.Grants {
		f.Replaces = append(f.Replaces, g.Grant.ID)
	}
	for _, m := range e.Memberships {
		if m.Member == s.ID && Denied(in.Engine, m.Group) == "" { // whoever leaves a denial behind gains
			f.Leaves = append(f.Leaves, m.Group)
		}
	}
	if len(f.Replaces)+len(f.Leaves) == 0 {
		return nil, fmt.Errorf("%s: %w: it has no grant and no group", s.ID, ErrNothing)
	}
	d := &drafter{e: e}
	// Also what some rule refuses today, at some times or places, was used once.
	for _, st := range in.Engine.Closure(s.ID) {
		if st.ID.Open() {
			continue
		}
		for _, i := range in.Engine.GrantsTo(st.ID) {
			d.giveUp(e.Grants[i].Where, in.Engine.GrantPerms(&e.Grants[i]))
		}
	}
	// And what only a group that is left spares it.
	spares := func(unless []model.ID) bool {
		return slices.ContainsFunc(f.Leaves, func(left model.ID) bool {
			return slices.ContainsFunc(in.Engine.Closure(left), func(st engine.Standing) bool { return !st.ID.Open() && slices.Contains(unless, st.ID) })
		})
	}
	for _, r := range e.Denials {
		if spares(r.Unless) {
			d.giveUp(r.Where, in.Engine.SetPerms([]model.Rights{r.Rights}))
		}
	}
	for _, r := range e.Guardrails {
		if spares(r.Unless) {
			refused := engine.NewBits(len(e.Catalogue))
			for i := range e.Catalogue {
				refused.Set(i)
			}
			refused.AndNot(in.Engine.SetPerms([]model.Rights{r.Rights}))
			d.giveUp([]model.PathPattern{r.Node.Below()}, refused)
		}
	}
	f.GivesUp = d.givesUp()
	return f, nil
}

// Denied returns a denial that holds members of a group because they are in it, or "":
// who leaves such a group may do more than before.
func Denied(g *engine.Engine, group model.ID) string {
	for _, s := range g.Closure(group) {
		for i := range g.Estate.Denials {
			if d := &g.Estate.Denials[i]; !s.ID.Open() && slices.Contains(d.To, s.ID) {
				return d.ID
			}
		}
	}
	return ""
}

type drafter struct {
	in    *gauge.Input
	r     *gauge.Result
	g     *engine.Engine
	e     *model.Estate
	o     Options
	fence *Fence
	gone  []*given
}

// given is what goes on the places of some grants.
type given struct {
	where []model.PathPattern
	perms engine.Bits
}

// giveUp notes that permissions go on some places.
func (d *drafter) giveUp(where []model.PathPattern, perms engine.Bits) {
	if perms.Count() == 0 {
		return
	}
	for _, g := range d.gone {
		if slices.Equal(g.where, where) {
			g.perms.Or(perms)
			return
		}
	}
	d.gone = append(d.gone, &given{where, perms.Clone()})
}

// givesUp returns what was noted as the lines of a fence.
func (d *drafter) givesUp() []GiveUp {
	var out []GiveUp
	for _, g := range d.gone {
		out = append(out, GiveUp{Do: d.names(g.perms), Where: g.where})
	}
	return out
}

// names lists permissions, most dangerous first.
func (d *drafter) names(perms engine.Bits) []model.PermissionPattern {
	var list []model.CatalogueEntry
	for i := range perms.All() {
		list = append(list, d.e.Catalogue[i])
	}
	slices.SortStableFunc(list, func(a, b model.CatalogueEntry) int {
		return cmp.Or(cmp.Compare(b.Weighs(), a.Weighs()), a.Permission.Compare(b.Permission))
	})
	out := make([]model.PermissionPattern, len(list))
	for i, c := range list {
		out[i] = c.Permission.Pattern()
	}
	return out
}

// A place is where some permissions of a grant are needed, and why: what is used
// and what is only feared to be needed never share a line, so that no line claims
// more evidence than it has.
type place struct {
	on    model.PathPattern
	class string
}

// target narrows one grant, if that makes it smaller.
func (d *drafter) target(t *gauge.GrantResult) {
	if t.TooNew.Count() > 0 {
		return
	}
	if t.Held.Count() > 0 {
		return
	}
	keep := t.Keep()
	if d.o.GiveUpUnobservable {
		keep.AndNot(t.Unobservable)
	}
	lines := d.lines(t, keep)
	before := d.in.Weights.Danger(d.r.Scale.Pairs(t.Perms, t.Grant.Where))
	var after []gauge.Part
	for _, a := range lines {
		after = append(after, gauge.Part{Perms: d.g.SetPerms(a.Sets(d.g)), Where: a.Where})
	}
	if len(lines) > 0 && before-d.in.Weights.Danger(d.r.Scale.Union(after)) < max(1, 0.05*before) {
		return // not worth a change
	}
	d.fence.Replaces = append(d.fence.Replaces, t.Grant.ID)
	d.fence.Allow = append(d.fence.Allow, lines...)
	// What is kept, if only somewhere, is not named: a use of it that would be refused is
	// a fault of the draft.
	gone := t.Perms.Clone()
	gone.AndNot(keep)
	for i := range t.Unobservable.All() { // kept where it is blind; where it was used once, that is over
		if t.Use[i] != nil {
			gone.Set(i)
		}
	}
	d.giveUp(t.Grant.Where, gone)
}

// lines returns what stands in place of a grant.
func (d *drafter) lines(t *gauge.GrantResult, keep engine.Bits) []Allow {
	places := map[place]engine.Bits{}
	at := func(on model.PathPattern, class string) engine.Bits {
		p := place{on, class}
		if places[p] == nil {
			places[p] = engine.NewBits(len(d.e.Catalogue))
		}
		return places[p]
	}
	// What was used goes where it was used, container by container.
	type spot struct{ paths map[model.Path]usage.Days }
	spots := map[model.Path]*spot{}
	for i := range keep.All() {
		pu := t.Use[i]
		if pu == nil || !t.Used.Has(i) && !t.Rare.Has(i) || t.Frozen.Has(i) {
			continue
		}
		for path, at := range pu.Paths {
			days := at.Days
			c := d.container(path)
			if spots[c] == nil {
				spots[c] = &spot{map[model.Path]usage.Days{}}
			}
			spots[c].paths[path] = spots[c].paths[path].Union(days)
		}
	}
	narrow := map[model.Path]model.PathPattern{}
	for c, s := range spots {
		narrow[c] = d.narrowest(c, s.paths, t.Grant.Where)
	}
	all := func(i int, class string) {
		for _, on := range t.Grant.Where {
			at(on, class).Set(i)
		}
	}
	for i := range keep.All() {
		// A call that is not placed may have been anywhere.
		if t.Frozen.Has(i) {
			all(i, "undecidable")
			continue
		}
		dark := t.Dark[i]
		if d.o.GiveUpUnobservable {
			dark = nil
		}
		for _, on := range dark {
			at(on, "unobservable").Set(i)
		}
		class := "used"
		switch {
		case t.Unobservable.Has(i):
			continue
		case t.Rare.Has(i):
			class = "rare"
		}
		for path := range t.Use[i].Paths {
			on := narrow[d.container(path)]
			switch {
			case on.IsZero():
				all(i, class)
			case !model.PathPatternsContain(dark, on):
				at(on, class).Set(i)
			}
		}
	}
	d.dropCovered(t, places)
	return d.merge(t, places)
}

// container returns the node of the inventory that holds a path: a node with
// others below it stands for itself alone.
func (d *drafter) container(p model.Path) model.Path {
	n, ok := d.g.NearestNode(p)
	if !ok {
		return p
	}
	return n
}

func (d *drafter) hasChildren(n model.Path) bool {
	return slices.ContainsFunc(d.e.Nodes, func(x model.Node) bool { return x.Path != n && n.Covers(x.Path) })
}

// fewDays is on how many days one and the same path must have been used to be
// taken for a fixed name, and fewNames how many different ones make a folder.
const (
	fewDays  = 5
	fewNames = 3
)

// narrowest returns the smallest pattern for what was used in a container, such
// that tomorrow's names fit as well, and that lies inside the grant's places. It
// is zero when there is none but the places themselves.
func (d *drafter) narrowest(c model.Path, paths map[model.Path]usage.Days, within []model.PathPattern) model.PathPattern {
	var want []model.PathPattern
	below := 0
	common := model.Path{}
	for p := range paths {
		if p == c {
			continue
		}
		up, _ := p.Parent()
		if below == 0 {
			common = up
		}
		for !common.Covers(up) {
			common, _ = common.Parent()
		}
		below++
	}
	switch {
	case below == 0 && d.hasChildren(c):
		want = append(want, c.Exactly())
	case below == 0 || len(paths) > below:
		// The container itself is touched: it and its contents go together.
	case below == 1:
		for p, days := range paths {
			if days.Count() >= fewDays {
				want = append(want, p.Exactly())
			}
		}
	case below >= fewNames && common != c && c.Covers(common):
		want = append(want, common.Below())
	}
	if !d.hasChildren(c) {
		want = append(want, c.Below())
	}
	for _, w := range want {
		if model.PathPatternsContain(within, w) {
			return w
		}
	}
	return model.PathPattern{}
}

// dropCovered takes out of places what grants that stay give as well.
func (d *drafter) dropCovered(t *gauge.GrantResult, places map[place]engine.Bits) {
	cond := t.Grant.Condition()
	covered := func(p int, on model.PathPattern) bool {
		for _, st := range d.g.Closure(t.Grant.To) {
			for _, j := range d.g.GrantsTo(st.ID) {
				o := d.r.Grants[j]
				if o == t || slices.Contains(d.fence.Replaces, o.Grant.ID) || !o.Perms.Has(p) || o.Danger >= t.Danger && st.ID == t.Grant.To {
					continue
				}
				// A grant that ends, or holds only at times, is no replacement, and
				// one of an open crowd is due to go itself.
				if oc := o.Grant.Condition(); oc.IsZero() && !o.Grant.To.Open() && cond.Implies(oc) && model.PathPatternsContain(o.Grant.Where, on) {
					return true
				}
			}
		}
		return false
	}
	for p, perms := range places {
		for i := range perms.All() {
			if covered(i, p.on) {
				perms.Clear(i)
			}
		}
		if perms.Count() == 0 {
			delete(places, p)
		}
	}
}

// merge turns places into lines: places that need the same permissions share one,
// and a role of the source takes the place of a list where it fits well.
func (d *drafter) merge(t *gauge.GrantResult, places map[place]engine.Bits) []Allow {
	type group struct {
		perms engine.Bits
		class string
		on    []model.PathPattern
	}
	var groups []*group
	order := slices.SortedFunc(maps.Keys(places), func(a, b place) int {
		return cmp.Or(cmp.Compare(a.on.String(), b.on.String()), cmp.Compare(b.class, a.class))
	})
next:
	for _, p := range order {
		for _, g := range groups {
			if g.class == p.class && slices.Equal(g.perms, places[p]) {
				g.on = append(g.on, p.on)
				continue next
			}
		}
		groups = append(groups, &group{places[p], p.class, []model.PathPattern{p.on}})
	}
	var out []Allow
	for _, g := range groups {
		a := Allow{Where: g.on, When: t.Grant.When, Until: t.Grant.Until, Evidence: d.evidence(t, g.perms, g.on, g.class)}
		if role := d.fits(t, g.perms, g.on); role != "" {
			a.Role = role
		} else {
			for i := range g.perms.All() {
				a.Do = append(a.Do, d.e.Catalogue[i].Permission.Pattern())
			}
			slices.SortFunc(a.Do, func(x, y model.PermissionPattern) int { return cmp.Compare(x.String(), y.String()) })
		}
		out = append(out, a)
	}
	return out
}

// evidence sums up what a line rests on: the calls on its places, those in the window or,
// where there are none in it, all that are known.
func (d *drafter) evidence(t *gauge.GrantResult, perms engine.Bits, on []model.PathPattern, class string) Evidence {
	in, ever := Evidence{Class: class}, Evidence{Class: class}
	var days usage.Days
	for i := range perms.All() {
		pu := t.Use[i]
		if pu == nil {
			continue
		}
		for path, at := range pu.Paths {
			if !slices.ContainsFunc(on, func(o model.PathPattern) bool { return o.Matches(path) }) {
				continue
			}
			days = days.Union(at.Days)
			ever.add(at.Count, at)
			if at.InWindow > 0 {
				in.add(at.InWindow, at)
			}
		}
	}
	ever.Days, in.Days = days.Count(), days.Between(d.r.Window.First(), d.r.Window.Last()).Count()
	if in.Count > 0 && class != "rare" {
		return in
	}
	ever.Earlier = class == "used"
	return ever
}

func (e *Evidence) add(n int64, at *gauge.PathUse) {
	e.Count += n
	e.AtLeast = e.AtLeast || at.AtLeast
	if e.First.IsZero() || at.First.Before(e.First) {
		e.First = at.First
	}
	if at.Last.After(e.Last) {
		e.Last = at.Last
	}
}

// fits finds the role that gives the permissions, nothing that the grant did not
// give, and little else: at most a tenth more danger.
func (d *drafter) fits(t *gauge.GrantResult, perms engine.Bits, on []model.PathPattern) string {
	need := d.in.Weights.Danger(d.r.Scale.Pairs(perms, on))
	best, bestDanger := "", need*1.1+0.5
	for i := range d.e.Roles {
		r := &d.e.Roles[i]
		sets := d.g.RoleSets(r.Name)
		has := d.g.SetPerms(sets)
		if !perms.Subset(has) || !has.Subset(t.Perms) || !Within(sets, d.g.GrantSets(t.Grant)) {
			continue
		}
		if x := d.in.Weights.Danger(d.r.Scale.Pairs(has, on)); x < bestDanger {
			best, bestDanger = r.Name, x
		}
	}
	return best
}

// Within reports whether every permission of some set of inner, known to a
// catalogue or not, is in one set of outer.
func Within(inner, outer []model.Rights) bool {
	for _, in := range inner {
		for _, p := range in.Do {
			one := model.Rights{Do: []model.PermissionPattern{p}, Except: in.Except}
			if one.Empty() {
				continue
			}
			if !slices.ContainsFunc(outer, func(o model.Rights) bool { return o.Contains(one) }) {
				return false
			}
		}
	}
	return true
}
