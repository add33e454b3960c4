package usage_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/kept"
)

// TestKeptHabits: of days on which something happened, in runs, at intervals and at random, also to
// the day of a bound, the same habit is read, and the same is told of windows.
func TestKeptHabits(t *testing.T) {
	kept.Same(t, 200, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 14))
		var b strings.Builder
		for range 40 {
			now := usage.Day(20_000 + r.IntN(3))
			var days usage.Days
			every, runs := 1+r.IntN([]int{3, 10, 40, 130, 400}[r.IntN(5)]), 1+r.IntN(4)
			last := now - usage.Day([]int{0, 1, 44, 45, 46, 90, 399, 400, 401}[r.IntN(9)]+r.IntN(2)*r.IntN(500))
			for n := range r.IntN(14) {
				for k := range 1 + r.IntN(runs) {
					d := last - usage.Day(n*every+k+r.IntN(1+every/8))
					days = days.Union(usage.DaysOf(d.Time()))
				}
			}
			fmt.Fprintf(&b, "%+v", usage.HabitOf(days, now))
			w := usage.WindowOf(now.Time().Add(time.Hour), 1+r.IntN(120))
			fmt.Fprintf(&b, " %d %d %t %.4g", days.Between(w.First(), w.Last()).Count(), days.Since(w.First()),
				days.Any(w.First(), w.Last()), days.Strip(w, 1+r.IntN(30)))
			end, some := days.Last()
			fmt.Fprintf(&b, " %d %d %t\n", days.First(), end, some)
		}
		return fmt.Sprint(i), b.String()
	})
}

// TestKeptLogs: of logs that are silent, lose a part, are switched on late, are not kept for long or
// hold one sort of call alone, the same is told, and the same share of windows is covered.
func TestKeptLogs(t *testing.T) {
	kept.Same(t, 300, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 15))
		const days = 300
		m := teams[r.IntN(len(teams))]
		type lost struct {
			from, to int
			share    float64
		}
		var losses []lost
		for range r.IntN(4) {
			from := r.IntN(days)
			losses = append(losses, lost{from, from + r.IntN(14), []float64{1, 1, .97, .6, .4}[r.IntN(5)]})
		}
		uses := m.life(r, days, func(d int) float64 {
			for _, l := range losses {
				if d >= l.from && d <= l.to {
					return l.share
				}
			}
			return 0
		})
		node := []model.Path{model.MustPath("/m"), model.MustPath("/m/p:a"), model.MustPath("/m/p:a/q:b"),
			model.MustPath("/m/p:c")}
		together := r.IntN(2) == 0 // else a log has few callers, of which nothing can be told
		for k := range uses {
			if together && r.IntN(8) > 0 {
				continue
			}
			uses[k].Path = node[r.IntN(len(node))]
			uses[k].Permission = model.MustPermission([]string{"a/b:c", "a/b:look", "z/b:c"}[min(r.IntN(6), 2)])
			if r.IntN(20) == 0 {
				uses[k].Counts = usage.Counts{}
			}
		}
		var records []model.CoverageRecord
		for _, n := range node {
			for _, class := range []string{"l", "looking"} {
				for _, service := range []string{"a", "z"} {
					if r.IntN(2) == 0 && (n != node[0] || service != "a") {
						continue
					}
					x := model.CoverageRecord{Node: n, Service: service, LogClass: class, Written: r.IntN(5) > 0}
					if r.IntN(4) == 0 {
						x.Since = start.AddDate(0, 0, r.IntN(days))
					}
					if r.IntN(4) == 0 {
						x.Keep = 1 + r.IntN(days)
					}
					if r.IntN(12) == 0 {
						x.Hides = "what is refused"
					}
					if r.IntN(6) == 0 {
						x.Writer = model.MustID("workload/writer")
					}
					records = append(records, x)
				}
			}
		}
		read := usage.Read{First: start.AddDate(0, 0, r.IntN(20))}
		for d := 200; d <= days; d += 1 + r.IntN(60) {
			read.Ends = append(read.Ends, start.AddDate(0, 0, d))
		}
		if r.IntN(4) == 0 {
			read.Until = start.AddDate(0, 0, days-r.IntN(60))
		}
		c := usage.NewCoverage(records, read)
		looking := func(p model.Permission) bool { return strings.HasSuffix(p.String(), "look") }
		c.Observe(usage.ListOf(uses...), func(p model.Permission) string {
			if looking(p) {
				return "looking"
			}
			return "l"
		}, func(_, class string) bool { return class == "looking" }, func(x model.CoverageRecord) bool {
			return !x.Writer.IsZero()
		})
		if i%2 == 1 { // and all the same once it was written down, and recalled
			c = recalled(t, c, records, read)
		}
		var b strings.Builder
		fmt.Fprintf(&b, "read to %s\n", c.ReadTo())
		w := usage.WindowOf(start.AddDate(0, 0, days-r.IntN(40)), 30+r.IntN(120))
		for _, x := range records {
			from, some := c.From(x)
			fmt.Fprintf(&b, "%s %s %s: from %s %t forgotten %t share %.6g %t", x.Node, x.Service, x.LogClass, from,
				some, c.Forgotten(x, w), c.Share(x.Node, x.Service, x.LogClass, w),
				c.Enough(x.Node, x.Service, x.LogClass, w))
			if s := c.Stream(x); s != nil {
				fmt.Fprintf(&b, " %s %s %d of %d callers refused %t mute %d", s.First, s.Last, s.Events, s.Callers,
					s.Refused,
					s.Mute)
				for _, g := range s.Gaps {
					fmt.Fprintf(&b, " %d-%d %t", g.From, g.To, g.Partly)
				}
			}
			b.WriteString("\n")
		}
		for _, n := range node {
			for _, on := range []model.PathPattern{n.Exactly(), n.Below()} {
				for _, class := range []string{"l", "looking", ""} {
					besides := func([]model.Path) []model.PathPattern {
						return [][]model.PathPattern{nil, {on}, {n.Exactly()}}[r.IntN(3)]
					}
					dark, since := c.DarkBelow(on, "a", class, w, besides)
					fmt.Fprintf(&b, "%s %s dark %v, seen since %s\n", on, class, dark, since)
				}
			}
		}
		return fmt.Sprint(i), b.String()
	})
}

// TestKeptUses: of random calls, put together, cut to windows, looked for and gathered by fields, the
// same is told, whatever way they are held.
func TestKeptUses(t *testing.T) {
	kept.Same(t, 200, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 16))
		fold := usage.Fold{}
		id := func() model.ID { return model.MustID(fmt.Sprintf("workload/w%d", r.IntN(4))) }
		for range 1 + r.IntN(120) {
			c := usage.Call{Identity: id(), Path: model.MustPath(fmt.Sprintf("/m/p:%d/q:%d", r.IntN(2), r.IntN(3))),
				Permission: model.MustPermission(fmt.Sprintf("s%d/b:c%d", r.IntN(2), r.IntN(2))),
				Outcome:    []usage.Outcome{usage.Done, usage.Refused, usage.Failed}[r.IntN(3)],
				Time:       start.Add(time.Duration(r.IntN(200*24*60)) * time.Minute)}
			if r.IntN(5) == 0 {
				c.ActingFor = id()
			}
			for range 1 + r.IntN(3) {
				fold.Add(c)
				c.Time = c.Time.Add(time.Duration(r.IntN(40)) * time.Hour)
			}
		}
		all := usage.ListOf(fold.Uses()...)
		var b strings.Builder
		say := func(u *usage.Use) {
			fmt.Fprintf(&b, "%+v %d %s %s %v %b", u.Key, u.Count, u.First, u.Last, u.Days.List(), u.Hours)
			for d, n := range u.Daily() {
				fmt.Fprintf(&b, " %d:%d", d, n)
			}
			b.WriteString("\n")
		}
		first := usage.DayOf(start) + usage.Day(r.IntN(100))
		last := first + usage.Day(r.IntN(90))
		for _, u := range all.All() {
			say(&u)
			n, least := u.Between(first, last)
			in := u.Within(first, last)
			fmt.Fprintf(&b, "of them %d %t %t:", n, least, in)
			say(&u)
		}
		who := id()
		for _, list := range []*usage.Uses{all, all.Select(func(u *usage.Use) bool { return u.Within(first, last) })} {
			from, to := list.Span()
			fmt.Fprintf(&b, "%d uses %s %s\n", list.Len(), from, to)
			for k := range list.Of(who) {
				fmt.Fprintf(&b, " of %d", k)
			}
			for k := range list.As(who) {
				fmt.Fprintf(&b, " as %d", k)
			}
			f := &usage.Filter{Window: usage.Window{From: first.Time(), To: last.Time().Add(time.Hour)}}
			switch r.IntN(4) {
			case 0:
				f.Identity = who
			case 1:
				f.ActingFor = who
			case 2:
				f.Outcomes = []usage.Outcome{usage.Refused, usage.Failed}[:1+r.IntN(2)]
			case 3:
				f.Path = model.MustPathPattern("/m/p:1/**")
				f.Window = usage.Window{}
			}
			for _, g := range usage.GroupBy(list.All(), f, usage.Fields[:1+r.IntN(len(usage.Fields))],
				func(p model.Path) model.Path { up, _ := p.Parent(); return up }) {
				fmt.Fprintf(&b, "\n%+v %s %d %d %t %s %s %v", g.Key, g.Service, g.Uses, g.Count, g.AtLeast, g.First,
					g.Last,
					g.Days.List())
			}
		}
		return fmt.Sprint(i), b.String()
	})
}

// recalled returns a coverage that was told what another one observed.
func recalled(t *testing.T, c *usage.Coverage, records []model.CoverageRecord, read usage.Read) *usage.Coverage {
	t.Helper()
	out := usage.NewCoverage(records, read)
	b, err := c.Observed()
	if err == nil {
		err = out.Recall(b)
	}
	if err != nil {
		t.Fatal(err)
	}
	if !out.Begin().Equal(c.Begin()) {
		t.Errorf("it begins %s, and did %s", out.Begin(), c.Begin())
	}
	for _, x := range records {
		is, was := out.Stream(x), c.Stream(x)
		if (is == nil) != (was == nil) || is != nil && !slices.Equal(is.Days.List(), was.Days.List()) {
			t.Errorf("the log of %s is %+v, and was %+v", x.Node, is, was)
		}
	}
	for _, bad := range []string{"", "[]", `{"Logs":[{"Node":"/m","Days":"eA=="}]}`} {
		if err := usage.NewCoverage(records, read).Recall([]byte(bad)); err == nil {
			t.Errorf("%q is recalled", bad)
		}
	}
	return out
}
