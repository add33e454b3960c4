package main

import (
	"fmt"
	"testing"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

func TestDebug(t *testing.T) {
	type tally struct{ n, want, got float64 }
	by := map[risk.Class]*tally{}
	dec := map[string]*tally{}
	kinds := map[string]float64{}
	for seed := 8; seed < 10; seed++ {
		for _, day := range days {
			j, err := newJudged(live(worldOf(seed), uint64(seed)), day)
			if err != nil {
				t.Fatal(err)
			}
			res := gauge.Run(j.in)
			w := draft.NewWorth(j.in, res)
			past, m := w.Peek()
			need := map[model.ID]map[int][]model.Path{}
			for _, c := range j.after {
				if !j.life.logged(c) {
					continue
				}
				id := j.life.who[c.who]
				p, _ := j.x.PermNumber(j.life.perms[c.perm])
				if need[id] == nil {
					need[id] = map[int][]model.Path{}
				}
				at := c.path
				need[id][p] = append(need[id][p], at)
			}
			for _, id := range j.callers {
				young := map[int]bool{}
				for _, n := range j.x.Given(id) {
					for p := range j.x.SharedPerms(n).All() {
						young[p] = true && j.x.Grant(n).Created.After(dayTime(day-90))
					}
				}
				for p, y := range young {
					parts := past.Parts(id, p, usage.DayOf(dayTime(day)), y)
					hit := make([]bool, len(parts))
					for _, at := range need[id][p] {
						for i := range parts {
							if parts[i].Holds(at) {
								hit[i] = true
								break
							}
						}
					}
					for i, q := range parts {
						c := m.Chance(q)
						b := by[q.Class]
						if b == nil {
							b = &tally{}
							by[q.Class] = b
						}
						k := fmt.Sprintf("%s %.1f", q.Class, float64(int(c*10))/10)
						e := dec[k]
						if e == nil {
							e = &tally{}
							dec[k] = e
						}
						for _, x := range []*tally{b, e} {
							x.n++
							x.want += c
							if hit[i] {
								x.got++
							}
						}
					}
				}
			}
			for _, id := range draft.Candidates(j.in, res) {
				f, err := draft.FromUse(j.in, res, id, draft.Options{Worth: w, Caution: draft.Bold})
				if err != nil {
					continue
				}
				members := 1.0
				if id.Kind == model.Group {
					members = float64(len(j.x.MembersOf(id)))
				}
				for _, a := range f.Allow {
					k := a.Evidence.Class
					if a.Evidence.Chance > 0 {
						k += " wide"
					}
					kinds[k] += res.Scale.Danger(j.x.SetPerms(a.Sets(j.x)), a.Where) * members
					kinds[k+" pieces"] += float64(len(a.Where))
				}
				kinds["fences"]++
			}
			kinds["held"] += j.held
			kinds["least"] += j.least
		}
	}
	for c := risk.Class(0); c < 9; c++ {
		if b := by[c]; b != nil {
			fmt.Printf("%-14s n %7.0f predicted %8.1f happened %6.0f\n", c, b.n, b.want, b.got)
		}
	}
	fmt.Println(kinds)
	for k, v := range draft.PeekBy {
		fmt.Printf("%-40s n %6.0f danger %8.0f hazard %7.1f\n", k, v[0], v[1], v[2])
	}
}
