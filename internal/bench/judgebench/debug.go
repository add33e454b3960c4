package main

import (
	"fmt"
	"os"
	"sort"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

func (j *judged) debug(w way) {
	edit, err := w.edit(j)
	if err != nil {
		panic(err)
	}
	x, err := j.x.With(edit)
	if err != nil {
		panic(err)
	}
	res := gauge.Run(j.in)
	a, b := gauge.NewScale(j.x, gauge.DefaultWeights), gauge.NewScale(x, gauge.DefaultWeights)
	best, _ := j.x.With(j.hindsight())
	c := gauge.NewScale(best, gauge.DefaultWeights)
	by := map[string][3]float64{}
	for _, id := range j.callers {
		s := res.Of(id)
		d0, _ := a.Held(id)
		d1, p1 := b.Held(id)
		d2, _ := c.Held(id)
		add := func(k string) { v := by[k]; v[0] += d0; v[1] += d1; v[2] += d2; by[k] = v }
		add("state " + string(s.State) + " " + string(id.Kind))
		for p := range p1.All() {
			l := j.x.Level(p)
			t := b
			_ = t
			v := by["level "+l.String()]
			v[1]++
			by["level "+l.String()] = v
		}
	}
	// grants that stay
	gone := map[string]bool{}
	for _, g := range edit.Gone.Grants {
		gone[g] = true
	}
	for _, g := range res.Grants {
		if g == nil {
			continue
		}
		n := float64(max(1, len(g.Holders)))
		k := "grant narrowed"
		if !gone[g.Grant.ID] {
			k = "grant left: "
			switch {
			case g.TooNew.Count() > 0:
				k += "new"
			case g.Held.Count() > 0:
				k += "held " + string(g.HeldBy)
			default:
				k += "other"
			}
			if g.Grant.To.Kind == model.Group {
				k += " group"
			}
		}
		v := by[k]
		v[0] += g.Danger * n
		v[1]++
		by[k] = v
	}
	var keys []string
	for k := range by {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	fmt.Fprintf(os.Stderr, "held %.0f least %.0f\n", j.held, j.least)
	for _, k := range keys {
		fmt.Fprintf(os.Stderr, "%-40s %8.0f %8.0f %8.0f\n", k, by[k][0], by[k][1], by[k][2])
	}
	// lines by class
	cls := map[string]float64{}
	for _, g := range edit.Come.Grants {
		n, _ := x.GrantNamed(g.ID)
		members := 1.0
		if g.To.Kind == model.Group {
			members = float64(len(j.x.MembersOf(g.To)))
		}
		cls[string(g.To.Kind)] += b.Danger(x.GrantPerms(n), g.Where) * members
	}
	fmt.Fprintln(os.Stderr, cls)
}
