package gauge

import (
	"math/bits"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// Blindness is what cannot be judged for want of one log: granted permissions that were
// not seen and that it would have shown, counted once an identity.
type Blindness struct{ Permissions, Identities int }

// Blind counts, for each coverage record of the estate, what cannot be judged because its
// log was not there over the window; nothing where it was.
func Blind(in *Input, res *Result) []Blindness {
	coverage := in.Index.Coverage()
	type log struct{ service, class string }
	of := map[log][]int{} // records
	for i, r := range coverage {
		if !in.Coverage.Enough(r.Node, r.Service, r.LogClass, res.Window) {
			k := log{r.Service, r.LogClass}
			of[k] = append(of[k], i)
		}
	}
	perms := map[log]access.Set{}
	for i := range in.Index.Numbers() {
		c := in.Index.Permission(i)
		k := log{c.Permission.Service(), c.LogClass}
		if of[k] == nil {
			continue
		}
		if perms[k] == nil {
			perms[k] = in.Index.NewSet()
		}
		perms[k].Add(i)
	}
	out := make([]Blindness, len(coverage))
	for k, records := range of {
		if perms[k] == nil {
			continue
		}
		d := darkOf(res, perms[k])
		for _, i := range records {
			out[i] = d.at(coverage[i].Node)
		}
	}
	return out
}

// dark is what grants give of the permissions that one log would show, and that cannot be
// judged.
type dark struct {
	anchors  []model.Path             // of places, in depth-first order
	anchored map[model.Path][]*shadow // the grants' places by anchor
	loose    []*shadow                // places without an anchor
	ids      map[model.ID]*tally
	round    int
}

// shadow is one dark place of a grant.
type shadow struct {
	on      model.PathPattern
	words   []uint64 // permissions, from the first word of the log's on
	holders []*tally
}

// tally is what one identity cannot be judged on, at one node.
type tally struct {
	round int
	words []uint64
}

func darkOf(res *Result, perms access.Set) *dark {
	d := &dark{anchored: map[model.Path][]*shadow{}, ids: map[model.ID]*tally{}}
	first, last := 0, len(perms)
	for perms[first] == 0 {
		first++
	}
	for perms[last-1] == 0 {
		last--
	}
	each := func(g *GrantResult, h *Hidden) {
		both := perms.AndFew(g.Unseen(h))
		if both == nil {
			return
		}
		all := make(access.Set, last)
		all.OrFew(both)
		words := all[first:]
		var holders []*tally
		for _, id := range g.Holders {
			if d.ids[id] == nil {
				d.ids[id] = &tally{words: make([]uint64, len(words))}
			}
			holders = append(holders, d.ids[id])
		}
		for _, on := range h.Where {
			s := &shadow{on, words, holders}
			if at, ok := on.Anchor(); ok {
				d.anchored[at] = append(d.anchored[at], s)
			} else {
				d.loose = append(d.loose, s)
			}
		}
	}
	for _, g := range res.Grants {
		for i := 0; g != nil && i < len(g.Dark); i++ {
			each(g, &g.Dark[i])
		}
	}
	for at := range d.anchored {
		d.anchors = append(d.anchors, at)
	}
	slices.SortFunc(d.anchors, model.Path.Compare)
	return d
}

// at counts what grants that reach a node or anything below it cannot be judged on.
func (d *dark) at(node model.Path) Blindness {
	d.round++
	var out Blindness
	below := node.Below()
	add := func(list []*shadow) {
		for _, s := range list {
			if !s.on.Overlaps(below) {
				continue
			}
			for _, t := range s.holders {
				if t.round != d.round {
					t.round = d.round
					clear(t.words)
					out.Identities++
				}
				for i, w := range s.words {
					out.Permissions += bits.OnesCount64(w &^ t.words[i])
					t.words[i] |= w
				}
			}
		}
	}
	add(d.loose)
	for up, ok := node.Parent(); ok; up, ok = up.Parent() {
		add(d.anchored[up])
	}
	from, _ := slices.BinarySearchFunc(d.anchors, node, model.Path.Compare)
	for _, at := range d.anchors[from:] {
		if !node.Covers(at) {
			break
		}
		add(d.anchored[at])
	}
	return out
}
