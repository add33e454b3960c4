package main

import (
	"fmt"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

func TestBreaks(t *testing.T) {
	ids := map[string]map[string]bool{}
	for seed := 1; seed < 5; seed++ {
		for _, day := range days {
			j, err := newJudged(live(worldOf(seed), uint64(seed)), day)
			if err != nil {
				t.Fatal(err)
			}
			res := gauge.Run(j.in)
			w := draft.NewWorth(j.in, res)
			past, m := w.Peek()
			edit, _ := drafted(draft.Normal)(j)
			x, _ := j.x.With(edit)
			for _, c := range j.after {
				id := j.life.who[c.who]
				if x.Decide(id, j.life.perms[c.perm], c.path, model.Context{}).Outcome != access.Denied {
					continue
				}
				p, _ := j.x.PermNumber(j.life.perms[c.perm])
				parts := past.Parts(id, p, usage.DayOf(dayTime(day)), false)
				k := "?"
				for _, q := range parts {
					if q.Holds(c.path) {
						k = fmt.Sprintf("%s %.2f", q.Class, m.Chance(q))
						break
					}
				}
				k += fmt.Sprintf(" logged %v level %v state %s kind %s", j.life.logged(c), j.x.Level(p), res.Of(id).State, id.Kind)
				if ids[k] == nil {
					ids[k] = map[string]bool{}
				}
				ids[k][fmt.Sprint(seed, day, id)] = true
			}
		}
	}
	for k, v := range ids {
		fmt.Printf("%3d %s\n", len(v), k)
	}
}
