package main

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// anatomy is why danger stays, and what broke: for whoever makes drafts better.
type anatomy struct {
	stays map[string]float64 // share of the danger beyond hindsight, by why it is there
	// Identity, permission and place in 90 days, by what it came of, the sort of place and the level.
	broke map[string]float64
}

func newAnatomy() *anatomy { return &anatomy{map[string]float64{}, map[string]float64{}} }

func (a *anatomy) add(o *anatomy, share float64) {
	for why, x := range o.stays {
		a.stays[why] += x * share
	}
	for why, x := range o.broke {
		a.broke[why] += x * share
	}
}

// pair is somebody and a permission.
type pair struct{ who, perm int }

// anatomy looks at what is left of everybody's access after an edit.
func (j *judged) anatomy(edit access.Edit) (*anatomy, error) {
	x, err := j.x.With(edit)
	if err != nil {
		return nil, err
	}
	out := newAnatomy()
	need, used := map[pair]map[model.Path]bool{}, map[pair]map[model.Path]bool{}
	note := func(m map[pair]map[model.Path]bool, c call) {
		if m[pair{c.who, c.perm}] == nil {
			m[pair{c.who, c.perm}] = map[model.Path]bool{}
		}
		m[pair{c.who, c.perm}][c.path] = true
	}
	for _, c := range j.after {
		note(need, c)
	}
	for _, c := range j.life.calls {
		if c.day <= j.day && j.life.logged(c) {
			note(used, c)
		}
	}
	left := map[string]bool{} // grants that are as they were
	for _, g := range j.x.Grants() {
		left[g.ID] = true
	}
	number := map[model.ID]int{}
	for who, id := range j.life.who {
		number[id] = who
	}
	for who, id := range j.life.who {
		if !slices.Contains(j.callers, id) {
			continue
		}
		for perm, p := range j.life.perms {
			e := j.life.estate.Catalogue[perm]
			k := pair{who, perm}
			n, why := 0, map[string]float64{}
			for _, node := range j.life.estate.Nodes {
				if kind, _ := node.Path.Last(); kind != e.Kinds[0] || j.life.born[node.Path] > j.day {
					continue
				}
				d := x.Decide(id, p, node.Path, model.Context{})
				if d.Outcome != access.Allowed {
					continue
				}
				n++
				if need[k][node.Path] {
					continue
				}
				g := d.Ways[0].Grant
				of := "used by nobody who has it"
				switch {
				case used[k][node.Path]:
					of = "used by it before"
				case !j.life.logged(call{perm: perm, path: node.Path}):
					of = "no log shows it"
				case left[g.ID]:
					of = "a grant that is left alone"
				case slices.ContainsFunc(j.x.MembersOf(g.To), func(m model.ID) bool {
					return used[pair{number[m], perm}][node.Path]
				}):
					of = "used by another member"
				case len(used[k]) > 0:
					of = "used by it elsewhere"
				}
				if g.To.Kind == model.Group {
					of += " (group)"
				}
				why[of+", "+e.Level.String()]++
			}
			more := gauge.DefaultWeights[e.Level] * (math.Log2(1+float64(n)) - math.Log2(1+float64(len(need[k]))))
			all := 0.0
			for _, nodes := range why {
				all += nodes
			}
			for of, nodes := range why {
				out.stays[of] += more * nodes / all / (j.held - j.least)
			}
		}
	}
	past, _ := j.worth.Risk()
	now := usage.DayOf(dayTime(j.day))
	seen := map[pair]map[model.Path]bool{}
	for _, c := range j.after {
		id := j.life.who[c.who]
		if x.Decide(id, j.life.perms[c.perm], c.path, model.Context{}).Outcome != access.Denied ||
			seen[pair{c.who, c.perm}][c.path] {
			continue
		}
		note(seen, c)
		perm, _ := j.x.PermNumber(j.life.perms[c.perm])
		g := j.worth.Granted(id, now)[perm]
		parts := append(past.Hidden(id, perm, now, g.Dark),
			g.Clip(past.Parts(id, perm, now, risk.TenureOf(int(now-g.Since))))...)
		sort := "no sort"
		if i := slices.IndexFunc(parts, func(q risk.Part) bool { return q.Holds(c.path) }); i >= 0 {
			sort = parts[i].Class.String()
		}
		out.broke[string(c.why)+", "+sort+", "+j.life.estate.Catalogue[c.perm].Level.String()]++
	}
	return out, nil
}

func (a *anatomy) print(w io.Writer) {
	fmt.Fprintln(w, "\nwhy danger stays, and of what level\tshare of all beyond hindsight")
	whole := map[string]float64{}
	for why, x := range a.stays {
		of, _, _ := strings.Cut(why, ", ")
		whole[of] += x
	}
	for _, m := range []map[string]float64{whole, a.stays} {
		for _, why := range most(m) {
			if m[why] >= .0005 {
				fmt.Fprintf(w, "%s\t%.4f\n", why, m[why])
			}
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w, "what was refused came of, the sort of place, and the level\tin 90 days")
	for _, why := range most(a.broke) {
		fmt.Fprintf(w, "%s\t%.1f\n", why, a.broke[why])
	}
}

// most returns the keys of a map, the greatest first.
func most(m map[string]float64) []string {
	return slices.SortedFunc(maps.Keys(m), func(a, b string) int {
		return cmp.Or(cmp.Compare(m[b], m[a]), cmp.Compare(a, b))
	})
}
