package main

import (
	"cmp"
	"fmt"
	"io"
	"slices"

	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// tally is how many parts of a class there were, how many were expected to be needed in the
// next 90 days, and how many were.
type tally struct{ n, expected, happened float64 }

// calibration is a tally a class.
type calibration [risk.Dark]tally

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
	worth := j.worth
	past, learned := worth.Risk()
	need := map[model.ID]map[int][]model.Path{}
	for _, c := range j.after {
		j.need(need, c)
	}
	for _, id := range j.callers {
		for p, g := range worth.Granted(id, usage.DayOf(dayTime(j.day))) {
			now := usage.DayOf(dayTime(j.day))
			var parts []risk.Part
			if past.Shows(p) { // else nothing is told of where it is dark
				parts = past.Hidden(id, p, now, g.Dark)
			}
			parts = append(parts, g.Clip(past.Parts(id, p, now, risk.TenureOf(int(now-g.Since))))...)
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
				chance := learned.Chance(q)
				if q.Class == risk.DarkRest { // the chance is that of everything: see package draft
					chance *= float64(j.x.Count(p, j.x.Region(q.Where...))) /
						float64(max(1, j.x.Count(p, j.x.Region(g.Where...))))
				}
				t.expected += chance
				if hit[i] {
					t.happened++
				}
			}
		}
	}
	return out
}

// need notes where a call needs what.
func (j *judged) need(of map[model.ID]map[int][]model.Path, c call) {
	id := j.life.who[c.who]
	if of[id] == nil {
		of[id] = map[int][]model.Path{}
	}
	p, _ := j.x.PermNumber(j.life.perms[c.perm])
	of[id][p] = append(of[id][p], c.path)
}

// lose notes what drafts take from somebody and how likely they say that it is needed, and where calls were
// refused: a place counts to the nearest part that holds it.
func (c *calibration) lose(losses []risk.Loss, refused map[int][]model.Path) {
	losses = slices.Clone(losses)
	slices.SortStableFunc(losses, func(a, b risk.Loss) int { return cmp.Compare(a.At, b.At) })
	hit := make([]bool, len(losses))
	for p, on := range refused {
		for _, at := range on {
			i := slices.IndexFunc(losses, func(l risk.Loss) bool { return l.Perm == p && l.Part.Holds(at) })
			if i >= 0 {
				hit[i] = true
			}
		}
	}
	for i, l := range losses {
		t := &c[l.Part.Class]
		t.n++
		t.expected += l.Needed()
		if hit[i] {
			t.happened++
		}
	}
}

func (c *calibration) print(w io.Writer, of string) {
	fmt.Fprintln(w, "\n"+of+"\tparts\texpected to be needed\thappened")
	for i, t := range c {
		if risk.Class(i) == risk.Comeback { // no place
			continue
		}
		fmt.Fprintf(w, "%s\t%.0f\t%.0f\t%.0f\n", risk.Class(i), t.n, t.expected, t.happened)
	}
}
