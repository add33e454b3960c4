package main

import (
	"fmt"
	"io"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// tally is how many parts of a class there were, how many were expected to be needed in the
// next 90 days, and how many were.
type tally struct{ n, expected, happened float64 }

// calibration is a tally a class.
type calibration [risk.FirstRest + 1]tally

func (c *calibration) add(o *calibration) {
	for i := range c {
		c[i].n += o[i].n
		c[i].expected += o[i].expected
		c[i].happened += o[i].happened
	}
}

// calibrate holds what is expected of every caller and permission against what happened, as far
// as a log shows it.
func (j *judged) calibrate() *calibration {
	out := &calibration{}
	in := *j.in
	past, learned := draft.NewWorth(&in, gauge.Run(&in)).Risk()
	need := map[model.ID]map[int][]model.Path{}
	for _, c := range j.after {
		if !j.life.logged(c) {
			continue
		}
		id := j.life.who[c.who]
		if need[id] == nil {
			need[id] = map[int][]model.Path{}
		}
		p, _ := j.x.PermNumber(j.life.perms[c.perm])
		need[id][p] = append(need[id][p], c.path)
	}
	for _, id := range j.callers {
		young := map[int]bool{}
		for _, n := range j.x.Given(id) {
			late := j.x.Grant(n).Created.After(dayTime(j.day - risk.Young))
			for p := range j.x.SharedPerms(n).All() {
				if before, some := young[p]; !some || before {
					young[p] = late
				}
			}
		}
		for p, late := range young {
			parts := past.Parts(id, p, usage.DayOf(dayTime(j.day)), late)
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
				t := &out[q.Class]
				t.n++
				t.expected += learned.Chance(q)
				if hit[i] {
					t.happened++
				}
			}
		}
	}
	return out
}

func (c *calibration) print(w io.Writer) {
	fmt.Fprintln(w, "\nsort of place\tparts\texpected to be needed\thappened")
	for i, t := range c {
		fmt.Fprintf(w, "%s\t%.0f\t%.0f\t%.0f\n", risk.Class(i), t.n, t.expected, t.happened)
	}
}
