// Package rehearse tries a fence before it is put up.
//
// [Run] proves by containment that nothing is widened, replays every observed
// call of everybody whom the fence touches, and weighs the access before and
// after. It works from the fence alone, so that one written or edited by hand is
// held to the same rules as a drafted one.
package rehearse

import (
	"cmp"
	"slices"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Widening is a line of a fence that allows more than what it replaces.
type Widening struct {
	Line       int // of Allow, from 0
	Permission model.PermissionPattern
	Where      model.PathPattern
}

// A Break is a use that was allowed and would be refused.
type Break struct {
	Use     usage.Use
	GivenUp bool // the fence names it as given up there
}

// Result is what a rehearsal found.
type Result struct {
	Widened  []Widening
	Broken   []Break // most used first; given-up ones last
	Replayed int     // uses that were tried
	Calls    int64   // calls behind them
	Odd      int     // uses that the log says were allowed and the estate says are not, before and after
	Goes     []model.CatalogueEntry
	Stays    []model.CatalogueEntry
	Before   float64 // danger of everything that reaches the identity
	After    float64
}

// OK reports whether the fence widens nothing and breaks nothing that it does
// not name as given up.
func (r *Result) OK() bool {
	return len(r.Widened) == 0 && !slices.ContainsFunc(r.Broken, func(b Break) bool { return !b.GivenUp })
}

// Run rehearses a fence on an estate and its uses.
func Run(before *engine.Engine, f *draft.Fence, uses []usage.Use, w gauge.Weights) *Result {
	after := engine.New(f.Apply(before.Estate))
	r := &Result{Widened: widened(before, f)}
	r.replay(before, after, f, uses)
	r.weigh(before, after, f, w)
	return r
}

// widened proves line by line that a fence lies inside the grants it replaces.
// Permissions without '*' are compared one by one against every replaced grant
// together; a pattern, which also means permissions that no catalogue lists yet,
// must lie inside a single set of rights.
func widened(g *engine.Engine, f *draft.Fence) []Widening {
	who := f.For.In(g.Estate.Source)
	var old []*model.Grant
	for _, i := range g.GrantsTo(who) {
		if gr := &g.Estate.Grants[i]; slices.Contains(f.Replaces, gr.ID) {
			old = append(old, gr)
		}
	}
	var out []Widening
	for n, a := range f.Allow {
		cond := a.When.WithUntil(a.Until)
		for _, set := range a.Sets(g) {
			for _, p := range set.Do {
				one := []model.Rights{{Do: []model.PermissionPattern{p}, Except: set.Except}}
				var places []model.PathPattern
				for _, o := range old {
					if cond.Implies(o.Condition()) && draft.Within(one, g.GrantSets(o)) {
						places = append(places, o.Where...)
					}
				}
				for _, on := range a.Where {
					if !model.PathPatternsContain(places, on) {
						out = append(out, Widening{n, p, on})
					}
				}
			}
		}
	}
	return out
}

func (r *Result) replay(before, after *engine.Engine, f *draft.Fence, uses []usage.Use) {
	touched := touched(before, f)
	for _, u := range uses {
		if !u.Outcome.Allowed() || !touched[u.Principal()] {
			continue
		}
		r.Replayed++
		r.Calls += u.Count
		// The hour of a single call is not kept in a use, so times stay open and
		// a grant that holds at some hours counts on both sides alike.
		ctx := u.Context()
		was := before.Decide(u.Principal(), u.Permission, u.Path, ctx).Outcome
		is := after.Decide(u.Principal(), u.Permission, u.Path, ctx).Outcome
		switch {
		case was == engine.Denied:
			r.Odd++
		case is < was:
			r.Broken = append(r.Broken, Break{u, f.Names(u.Permission, u.Path)})
		}
	}
	slices.SortStableFunc(r.Broken, func(a, b Break) int {
		if a.GivenUp != b.GivenUp {
			if b.GivenUp {
				return -1
			}
			return 1
		}
		return cmp.Compare(b.Use.Count, a.Use.Count)
	})
}

// touched returns the identity of the fence and, for a group, all its members.
func touched(g *engine.Engine, f *draft.Fence) map[model.ID]bool {
	who := f.For.In(g.Estate.Source)
	out := map[model.ID]bool{who: true}
	queue := []model.ID{who}
	if who.Open() {
		for _, id := range g.Estate.Identities {
			out[id.ID] = true
		}
	}
	for len(queue) > 0 {
		for _, m := range g.MembersOf(queue[0]) {
			if !out[m] {
				out[m] = true
				queue = append(queue, m)
			}
		}
		queue = queue[1:]
	}
	return out
}

func (r *Result) weigh(before, after *engine.Engine, f *draft.Fence, w gauge.Weights) {
	who := f.For.In(before.Estate.Source)
	had, beforePairs := holdings(before, who)
	has, afterPairs := holdings(after, who)
	r.Before, r.After = w.Danger(beforePairs), w.Danger(afterPairs)
	for i := range had.All() {
		c := before.Estate.Catalogue[i]
		if has.Has(i) {
			r.Stays = append(r.Stays, c)
		} else {
			r.Goes = append(r.Goes, c)
		}
	}
	byLevel := func(a, b model.CatalogueEntry) int {
		return cmp.Or(cmp.Compare(b.Weighs(), a.Weighs()), a.Permission.Compare(b.Permission))
	}
	slices.SortFunc(r.Goes, byLevel)
	slices.SortFunc(r.Stays, byLevel)
}

func holdings(g *engine.Engine, who model.ID) (engine.Bits, gauge.Pairs) {
	scale := gauge.NewScale(g)
	bits := engine.NewBits(len(g.Estate.Catalogue))
	var parts []gauge.Part
	for _, h := range g.Holdings(who) {
		bits.Or(h.Perms)
		parts = append(parts, gauge.Part{Perms: h.Perms, Where: g.Estate.Grants[h.Grant].Where})
	}
	return bits, scale.Union(parts)
}
