package draft

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// What many grants give and few need
//
// Where forty grants of a broad role give the same power and two of those who have it need it, the
// drafts say so forty times, and each new grant of the role brings it back. One denial says it once:
// to everyone, but for the two. So of drafts that stand together it is asked which permissions nobody,
// or only a few, have left on a place and below, and those become denials there. A denial never takes
// away more than the drafts do: whoever keeps a permission anywhere on its place is spared, by the
// identity or the group that the grant is made to. The drafts that have next to nothing left to take
// away then are needless. A denial that makes no draft needless is left out, and so is one of what may
// be asked for through a gate, which it would bar.

// ErrNoDenial is returned where denials would say nothing shorter than the drafts do.
var ErrNoDenial = errors.New("no denial says shorter what they say")

// Denied is what some fences say, said by denials.
type Denied struct {
	Fence    *fence.Fence // for everyone: the denials
	Needless []int        // of the fences, those that have nothing left to take away then, in order
	Before   int          // pieces of all fences: what each replaces, leaves, allows and denies
	After    int          // pieces of the denials and of the fences that are left
}

const (
	// mostSpared is how many a denial may spare: with more it is no shorter than what it stands for.
	mostSpared = 6
	// leastDenied is of how many fences a permission must go for a denial to say it.
	leastDenied = 3
	// mostDenials is how many denials are tried, those of most danger first.
	mostDenials = 24
	// deepest is how many steps below the top of the inventory a denial is tried.
	deepest = 4
	// leastOver is what a fence must have left to take away, as a share of what it takes away alone, to be
	// worth standing beside denials.
	leastOver = 0.05
)

// Denials looks for what fences of one source say that few denials say as well. lent reports of a
// permission, by number, on a place whether it may be asked for there, so that no denial may bar it.
func Denials(in *gauge.Input, r *gauge.Result, fs []*fence.Fence,
	lent func(perm int, on model.PathPattern) bool) (*Denied, error) {
	d := &denier{in: in, r: r, x: in.Index, fs: fs, lent: lent}
	var err error
	if d.after, err = d.x.With(fence.EditOf(fs, d.x.Source())); err != nil {
		return nil, err
	}
	lines := d.lines()
	if len(lines) == 0 {
		return nil, ErrNoDenial
	}
	out, err := d.choose(lines)
	if err != nil {
		return nil, err
	}
	out.Fence.GivesUp = d.givesUp(out.Fence.Denies)
	return out, nil
}

// denier looks for denials.
type denier struct {
	in    *gauge.Input
	r     *gauge.Result
	x     *index.Index
	after *index.Index // when all fences stand
	fs    []*fence.Fence
	lent  func(perm int, on model.PathPattern) bool
}

// loses is a grant that a fence takes away or makes less.
type loses struct {
	fence int
	above [][]model.Path // of each place, the nodes from the top down to it
}

// lines returns the denials that say no more than the fences, those of most danger first.
func (d *denier) lines() []fence.Deny {
	gone := map[int][]*loses{} // by permission
	for n, f := range d.fs {
		for _, id := range f.Replaces {
			g, ok := d.x.GrantNamed(id)
			if !ok {
				continue
			}
			l := &loses{fence: n}
			for _, on := range d.x.Grant(g).Where {
				at, _ := on.Anchor()
				l.above = append(l.above, ancestors(at))
			}
			for p := range d.x.SharedPerms(g).All() {
				gone[p] = append(gone[p], l)
			}
		}
	}
	maps.DeleteFunc(gone, func(_ int, of []*loses) bool { return fencesOf(of) < leastDenied })
	left := map[int][]*model.Grant{} // what still gives it when all fences stand
	for n, g := range d.after.Grants() {
		for p := range d.after.SharedPerms(n).All() {
			if gone[p] != nil {
				left[p] = append(left[p], g)
			}
		}
	}
	type line struct {
		on     model.PathPattern
		unless string
	}
	perms, spares := map[line]access.Set{}, map[line][]model.ID{}
	for _, p := range slices.Sorted(maps.Keys(gone)) {
		d.places(p, gone[p], left[p], 0, func(on model.PathPattern, unless []model.ID) {
			k := line{on, texts(unless)}
			if perms[k] == nil {
				perms[k], spares[k] = d.x.NewSet(), unless
			}
			perms[k].Add(p)
		})
	}
	// The same permissions that spare the same are one line, on several places.
	type together struct {
		fence.Deny
		danger float64
	}
	var out []*together
	of := map[string]*together{}
	for _, k := range slices.SortedFunc(maps.Keys(perms), func(a, b line) int {
		return cmp.Or(comparePatterns(a.on, b.on), cmp.Compare(a.unless, b.unless))
	}) {
		same := fmt.Sprint(perms[k], k.unless)
		t := of[same]
		if t == nil {
			t = &together{Deny: fence.Deny{Do: (&drafter{x: d.x}).names(perms[k]), Unless: spares[k]}}
			of[same], out = t, append(out, t)
		}
		t.Where = append(t.Where, k.on)
		for p := range perms[k].All() {
			t.danger += float64(len(gone[p])) * d.in.Weights.Of(d.x.Level(p), 1)
		}
	}
	slices.SortStableFunc(out, func(a, b *together) int { return cmp.Compare(b.danger, a.danger) })
	var lines []fence.Deny
	for _, t := range out[:min(len(out), mostDenials)] {
		lines = append(lines, t.Deny)
	}
	return lines
}

// ancestors returns the nodes above a path from the top down, and itself.
func ancestors(p model.Path) []model.Path {
	out := []model.Path{p}
	for {
		up, ok := p.Parent()
		if !ok || up.IsZero() {
			slices.Reverse(out)
			return out
		}
		out, p = append(out, up), up
	}
}

// fencesOf counts the fences of some grants that go.
func fencesOf(of []*loses) int {
	seen := map[int]bool{}
	for _, l := range of {
		seen[l.fence] = true
	}
	return len(seen)
}

// texts joins identities.
func texts(ids []model.ID) string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = id.String()
	}
	return strings.Join(out, " ")
}

// places tells where a denial of a permission spares few: as far up as that is so, from a depth on.
func (d *denier) places(perm int, gone []*loses, left []*model.Grant, depth int,
	yield func(model.PathPattern, []model.ID)) {
	if depth > deepest {
		return
	}
	below := map[model.Path][]*loses{} // all places of which are on a node or below
	for _, l := range gone {
		var at model.Path
		for i, above := range l.above {
			if len(above) <= depth || i > 0 && above[depth] != at {
				at = model.Path{}
				break
			}
			at = above[depth]
		}
		if !at.IsZero() {
			below[at] = append(below[at], l)
		}
	}
	for _, at := range slices.SortedFunc(maps.Keys(below), model.Path.Compare) {
		if fencesOf(below[at]) < leastDenied {
			continue
		}
		on := at.Below()
		var unless []model.ID
		open := false
		for _, g := range left {
			if !slices.Contains(unless, g.To) && slices.ContainsFunc(g.Where, on.Overlaps) {
				// Whom the source does not list it cannot be told to spare.
				_, listed := d.x.Identity(g.To)
				unless, open = append(unless, g.To), open || g.To.Open() || g.To.Source != "" || !listed
			}
			if open || len(unless) > mostSpared { // as nearly always
				break
			}
		}
		if open || len(unless) > mostSpared || d.lent(perm, on) {
			d.places(perm, below[at], left, depth+1, yield)
			continue
		}
		slices.SortFunc(unless, model.ID.Compare)
		yield(on, unless)
	}
}

// pieces is how much there is to read in a fence.
func pieces(f *fence.Fence) int {
	n := len(f.Replaces) + len(f.Leaves) + len(f.Allow)
	for _, l := range f.Denies {
		n += 1 + len(l.Unless)
	}
	return n
}

// choose picks the denials that make most fences needless for fewest pieces: of all those that are tried
// one after the other is left out, where that needs no more pieces.
func (d *denier) choose(lines []fence.Deny) (*Denied, error) {
	before := 0
	for _, f := range d.fs {
		before += pieces(f)
	}
	gains := map[int]float64{} // what each fence takes away alone
	for i, f := range d.fs {
		g, err := d.gain(d.x, f, nil)
		if err != nil {
			return nil, err
		}
		gains[i] = g
	}
	try := func(lines []fence.Deny) (*Denied, error) {
		out := &Denied{Before: before, Fence: &fence.Fence{Version: fence.FormatVersion,
			For:     model.ID{Source: d.x.Source(), Kind: model.Everyone},
			Drafted: d.in.AsOf, Window: fmt.Sprintf("%dd", d.in.Window), Allow: []fence.Allow{}, Denies: lines}}
		x, err := d.x.With(out.Fence.Edit(d.x.Source()))
		if err != nil {
			return nil, err
		}
		out.After = pieces(out.Fence)
		for i, f := range d.fs {
			if gains[i] >= 1 {
				left, err := d.gain(x, f, lines)
				if err != nil {
					return nil, err
				}
				if left < max(1, leastOver*gains[i]) {
					out.Needless = append(out.Needless, i)
					continue
				}
			}
			out.After += pieces(f)
		}
		return out, nil
	}
	best, err := try(lines)
	if err != nil {
		return nil, err
	}
	for i := len(lines) - 1; i >= 0 && len(best.Needless) > 0; i-- { // the least dangerous first
		some := slices.Concat(lines[:i], lines[i+1:])
		without, err := try(some)
		if err != nil {
			return nil, err
		}
		if without.After <= best.After {
			best, lines = without, some
		}
	}
	if len(best.Needless) < leastDenied || best.After >= best.Before {
		return nil, ErrNoDenial
	}
	for i := range best.Fence.Denies { // and whoever is protected: nobody takes anything from them
		l := &best.Fence.Denies[i]
		l.Unless = slices.Clone(l.Unless)
		for _, s := range d.r.Standings {
			if s.State == gauge.Protected && !slices.ContainsFunc(l.Unless, func(id model.ID) bool {
				return s.ID == id || d.x.In(s.ID, id)
			}) {
				l.Unless = append(l.Unless, s.ID)
			}
		}
		slices.SortFunc(l.Unless, model.ID.Compare)
	}
	return best, nil
}

// gain is what a fence takes away in a view: of whom it is for, or of one of its members whom denials
// spare, whichever is more.
func (d *denier) gain(x *index.Index, f *fence.Fence, lines []fence.Deny) (float64, error) {
	after, err := x.With(f.Edit(x.Source()))
	if err != nil {
		return 0, err
	}
	one, two := gauge.NewScale(x, d.in.Weights), gauge.NewScale(after, d.in.Weights)
	who := f.For.In(x.Source())
	ids := []model.ID{who}
	for _, l := range lines {
		for _, id := range l.Unless {
			if id != who && x.In(id, who) && !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	}
	most := 0.0
	for _, id := range ids {
		had, _ := one.Held(id)
		has, _ := two.Held(id)
		most = max(most, had-has)
	}
	return most, nil
}

// givesUp returns what the fences give up of what denials refuse, so that a use of anything else that
// denials would break is no use that somebody named.
func (d *denier) givesUp(lines []fence.Deny) []fence.GiveUp {
	var out []fence.GiveUp
	for _, f := range d.fs {
		for _, g := range f.GivesUp {
			if !g.From.IsZero() {
				continue // it stays till then, and whoever has it is spared
			}
			some := fence.GiveUp{Where: g.Where, Unseen: g.Unseen}
			for _, do := range g.Do {
				if slices.ContainsFunc(lines, func(l fence.Deny) bool {
					there := func(on model.PathPattern) bool { return slices.ContainsFunc(l.Where, on.Overlaps) }
					return slices.ContainsFunc(l.Do, do.Contains) && slices.ContainsFunc(g.Where, there)
				}) {
					some.Do = append(some.Do, do)
				}
			}
			if len(some.Do) == 0 {
				continue
			}
			i := slices.IndexFunc(out, func(o fence.GiveUp) bool {
				return o.Unseen == g.Unseen && slices.Equal(o.Where, g.Where)
			})
			if i < 0 {
				out = append(out, some)
				continue
			}
			for _, do := range some.Do {
				if !slices.Contains(out[i].Do, do) {
					out[i].Do = append(out[i].Do, do)
				}
			}
		}
	}
	return out
}
