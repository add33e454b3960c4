package review_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/kept"
)

// TestKept: of random decisions, and drafts to be decided on, the same is said as was.
func TestKept(t *testing.T) {
	verdicts := []review.Verdict{review.Accepted, review.Aside, review.Needed, review.Open}
	who := func(r *rand.Rand) model.ID { return model.MustID(fmt.Sprintf("workload/w%d", r.IntN(3))) }
	perm := func(r *rand.Rand) model.Permission { return model.MustPermission(fmt.Sprintf("a/b:p%d", r.IntN(3))) }
	kept.Same(t, 400, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 21))
		var b strings.Builder
		var all []review.Decision
		for range r.IntN(12) {
			d := review.Decision{Digest: fmt.Sprint(r.IntN(4)), For: who(r), Verdict: verdicts[r.IntN(4)]}
			if r.IntN(2) == 0 { // also to the moment
				d.Until = now.Add(time.Duration(r.IntN(3)-1) * time.Hour)
			}
			for range r.IntN(4) {
				d.Goes = append(d.Goes, perm(r))
			}
			if r.IntN(6) == 0 {
				d.Widens = "for a task"
			}
			fmt.Fprintf(&b, "%s watching %t stands %t\n", d.Verdict, d.Watching(now), d.Stands(now))
			all = append(all, d)
		}
		for digest := range 4 {
			if s := review.Standing(all, fmt.Sprint(digest), now); s != nil {
				fmt.Fprintf(&b, "%d: %s of %s\n", digest, s.Verdict, s.For)
			}
		}
		for _, l := range []*review.Lessons{review.Learn(all, now), nil} {
			fmt.Fprintf(&b, "empty %t\n", l.Empty())
			for p := range 3 {
				p := model.MustPermission(fmt.Sprintf("a/b:p%d", p))
				no, yes := l.Refused(p)
				fmt.Fprintf(&b, "%s %.6g %d %d", p, l.Chance(p), no, yes)
				for w := range 3 {
					id := model.MustID(fmt.Sprintf("workload/w%d", w))
					d, ok := l.Keeps(id, p)
					fmt.Fprintf(&b, " %t %s", ok, d.Digest)
					if l != nil {
						fmt.Fprintf(&b, " %d", len(l.Of(id)))
					}
				}
				b.WriteString("\n")
			}
		}
		var items []review.Item
		for range r.IntN(30) {
			items = append(items, review.Item{For: who(r), Removes: float64(r.IntN(4)),
				Expects: float64(r.IntN(3)) / 100,
				Holds:   r.IntN(4) > 0, Widens: r.IntN(4) == 0})
		}
		fmt.Fprintf(&b, "order %v\n", review.Order(items))
		for n := range 5 {
			fmt.Fprintf(&b, "stages %v\n", review.Stages(items, n))
		}
		return fmt.Sprint(i), b.String()
	})
}
