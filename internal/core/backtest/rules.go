package backtest

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Rule is a simple way to narrow, which drafts are held against.
type Rule string

// The rules. Each keeps what no log shows, and grants that are younger than the window.
const (
	Seen     Rule = "only what was seen in the window"
	Projects Rule = "whole containers where it was ever used"
	Page     Rule = "used places, names like them, siblings"
)

// kept is where somebody keeps a permission.
type kept map[int]map[model.PathPattern]bool

func (k kept) add(perm int, on model.PathPattern) {
	if k[perm] == nil {
		k[perm] = map[model.PathPattern]bool{}
	}
	k[perm][on] = true
}

// Edit applies a rule grant by grant: a group keeps what any of its members would keep.
func (r Rule) Edit(in *gauge.Input, res *gauge.Result) access.Edit {
	x := in.Index
	of := r.keeps(in)
	var out access.Edit
	for n, t := range res.Grants {
		if t == nil || t.HeldBy == gauge.Protected || t.Since.After(in.Span().From) {
			continue
		}
		out.Gone.Grants = append(out.Gone.Grants, t.Grant.ID)
		who := t.Holders
		if t.Grant.To.Open() { // anybody who called
			who = slices.SortedFunc(maps.Keys(of), model.ID.Compare)
		}
		perms := map[string][]model.PermissionPattern{} // by places
		places := map[string][]model.PathPattern{}
		for p := range t.Perms.All() {
			on := map[model.PathPattern]bool{}
			for _, d := range t.DarkAt(p) {
				on[d] = true
			}
			for _, id := range who {
				for at := range of[id][p] {
					for _, w := range t.Grant.Where {
						if w.Contains(at) {
							on[at] = true
						} else if at.Contains(w) {
							on[w] = true
						}
					}
				}
			}
			if len(on) == 0 {
				continue
			}
			var where []model.PathPattern
			var text []string
			for w := range on {
				where = append(where, w)
			}
			slices.SortFunc(where, func(a, b model.PathPattern) int { return cmp.Compare(a.String(), b.String()) })
			for _, w := range where {
				text = append(text, w.String())
			}
			key := strings.Join(text, " ")
			perms[key], places[key] = append(perms[key], x.Permission(p).Permission.Pattern()), where
		}
		for i, key := range slices.Sorted(maps.Keys(places)) {
			g := *t.Grant
			g.ID, g.Role, g.Rights = fmt.Sprintf("rule-%d-%d", n, i), "", model.Rights{Do: perms[key]}
			g.Where = places[key]
			out.Come.Grants = append(out.Come.Grants, g)
		}
	}
	return out
}

// keeps returns where each caller keeps what.
func (r Rule) keeps(in *gauge.Input) map[model.ID]kept {
	x := in.Index
	out := map[model.ID]kept{}
	type spot struct {
		who  model.ID
		perm int
		up   model.Path
		kind string
	}
	nodes, masks := map[spot]map[model.Path]bool{}, map[spot]map[string]int{}
	span := in.Span()
	for _, u := range in.Uses.All() {
		perm, ok := x.PermNumber(u.Permission)
		at, listed := x.Nearest(u.Path)
		if !ok || !listed || !u.Outcome.Allowed() {
			continue
		}
		who := u.Principal()
		k := out[who]
		if k == nil {
			k = kept{}
			out[who] = k
		}
		here := at.Below()
		if x.HasBelow(at) {
			here = at.Exactly()
		}
		up, inside := at.Parent()
		switch {
		case r == Seen:
			if u.Days.Between(span.First(), span.Last()).Count() > 0 {
				k.add(perm, here)
			}
		case r == Projects && inside:
			k.add(perm, up.Below())
		case u.Days.Between(usage.DayOf(in.AsOf)-400, usage.DayOf(in.AsOf)).Count() > 0:
			k.add(perm, here)
			kind, name := at.Last()
			s := spot{who, perm, up, kind}
			if !inside || nodes[s][at] {
				continue
			}
			if nodes[s] == nil {
				nodes[s], masks[s] = map[model.Path]bool{}, map[string]int{}
			}
			nodes[s][at] = true
			stem, _, numbered := strings.Cut(strings.Map(digit, name), "0")
			if numbered && stem != "" {
				masks[s][stem]++
			}
		}
	}
	like := func(s spot, stem string) {
		text := s.up.String() + "/" + s.kind + ":" + string(model.AppendEscaped(nil, []byte(stem))) + "*/**"
		if on, err := model.ParsePathPattern(text); err == nil && s.kind != "" {
			out[s.who].add(s.perm, on)
		}
	}
	for s, paths := range nodes {
		if len(paths) >= 3 {
			like(s, "")
		}
		for stem, n := range masks[s] {
			if n >= 2 {
				like(s, stem)
			}
		}
	}
	return out
}

// digit makes every digit a 0.
func digit(r rune) rune {
	if r >= '0' && r <= '9' {
		return '0'
	}
	return r
}
