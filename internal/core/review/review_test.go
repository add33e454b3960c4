package review_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
)

var now = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// TestStanding: the last decision on a content counts, as long as it stands.
func TestStanding(t *testing.T) {
	d := func(digest string, v review.Verdict, until int) review.Decision {
		x := review.Decision{Digest: digest, Verdict: v}
		if until != 0 {
			x.Until = now.AddDate(0, 0, until)
		}
		return x
	}
	for name, tt := range map[string]struct {
		all  []review.Decision
		want review.Verdict
	}{
		"none":                 {nil, ""},
		"another content":      {[]review.Decision{d("b", review.Accepted, 0)}, ""},
		"accepted":             {[]review.Decision{d("a", review.Accepted, 0)}, review.Accepted},
		"accepted and watched": {[]review.Decision{d("a", review.Accepted, 5)}, review.Accepted},
		"watched long enough":  {[]review.Decision{d("a", review.Accepted, -5)}, review.Accepted},
		"aside for good":       {[]review.Decision{d("a", review.Aside, 0)}, review.Aside},
		"aside, and over":      {[]review.Decision{d("a", review.Aside, -1)}, ""},
		"needed, and over":     {[]review.Decision{d("a", review.Needed, -1)}, ""},
		"taken back":           {[]review.Decision{d("a", review.Accepted, 0), d("a", review.Open, 0)}, ""},
		"the last counts": {[]review.Decision{d("a", review.Aside, 0), d("a", review.Accepted, 0),
			d("b", review.Aside, 0)}, review.Accepted},
		"the last is over": {[]review.Decision{d("a", review.Accepted, 0), d("a", review.Aside, -1)}, ""},
	} {
		got := review.Verdict("")
		if s := review.Standing(tt.all, "a", now); s != nil {
			got = s.Verdict
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
	x := d("a", review.Accepted, 5)
	if !x.Watching(now) || x.Watching(now.AddDate(0, 0, 5)) {
		t.Error("watched until the day is there, and not then")
	}
}

// TestOrder: danger for risk; what does not hold or widens comes last.
func TestOrder(t *testing.T) {
	id := func(n string) model.ID { return model.MustID("workload/" + n) }
	items := []review.Item{
		{For: id("fails"), Removes: 900, Holds: false},
		{For: id("widens"), Removes: 800, Holds: true, Widens: true},
		{For: id("much"), Removes: 100, Expects: .5, Holds: true},
		{For: id("safe"), Removes: 20, Expects: 0, Holds: true},
		{For: id("b"), Removes: 10, Expects: .1, Holds: true},
		{For: id("a"), Removes: 10, Expects: .1, Holds: true},
	}
	var got []string
	for _, i := range review.Order(items) {
		got = append(got, items[i].For.Name)
	}
	if want := []string{"safe", "much", "a", "b", "widens", "fails"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

// TestStages: each draft in one stage, the safest first, and stages that grow.
func TestStages(t *testing.T) {
	for _, tt := range []struct{ n, stages, want int }{{0, 3, 0}, {1, 4, 1}, {2, 4, 2}, {4, 4, 4}, {100, 3, 3}, {7, 1,
		1},
		{15, 4, 4}, {5, 0, 1}} {
		items := make([]review.Item, tt.n)
		r := rand.New(rand.NewPCG(uint64(tt.n), 3))
		for i := range items {
			items[i] = review.Item{For: model.MustID(fmt.Sprintf("workload/w%d", i)), Expects: r.Float64()}
		}
		stages := review.Stages(items, tt.stages)
		if len(stages) != tt.want {
			t.Errorf("%d in %d stages: %d", tt.n, tt.stages, len(stages))
		}
		seen := map[int]bool{}
		last, size := -1.0, 0
		for i, s := range stages {
			if len(s) < size {
				t.Errorf("%d in %d: stage %d has %d after one of %d", tt.n, tt.stages, i+1, len(s), size)
			}
			size = len(s)
			for _, x := range s {
				if seen[x] || items[x].Expects < last {
					t.Errorf("%d in %d: %v", tt.n, tt.stages, stages)
				}
				seen[x], last = true, items[x].Expects
			}
		}
		if len(seen) != tt.n {
			t.Errorf("%d in %d: %d in all", tt.n, tt.stages, len(seen))
		}
	}
	for _, tt := range []struct {
		n, stages int
		want      string
	}{{100, 3, "[14 29 57]"}, {15, 4, "[1 2 4 8]"}, {7, 3, "[1 2 4]"}, {2, 2, "[1 1]"}, {3, 2, "[1 2]"},
		{3, 3, "[1 1 1]"}} {
		var sizes []int
		for _, s := range review.Stages(make([]review.Item, tt.n), tt.stages) {
			sizes = append(sizes, len(s))
		}
		if fmt.Sprint(sizes) != tt.want {
			t.Errorf("%d in %d stages: %v, want %s", tt.n, tt.stages, sizes, tt.want)
		}
	}
	wide := []review.Item{{For: model.MustID("person/a"), Widens: true}, {For: model.MustID("person/b"), Expects: 1}}
	if s := review.Stages(wide, 2); s[0][0] != 1 {
		t.Error("what widens comes last")
	}
}

// TestLessons: a cut that was refused as needed stays for the same identity, and is less likely
// proposed to others; what was accepted since, or is over, teaches otherwise.
func TestLessons(t *testing.T) {
	p, q := model.MustPermission("a/b:c"), model.MustPermission("a/b:d")
	one, two := model.MustID("s:person/one"), model.MustID("s:person/two")
	d := func(digest string, who model.ID, v review.Verdict, until int, goes ...model.Permission) review.Decision {
		x := review.Decision{Digest: digest, For: who, Verdict: v, Goes: goes, At: now}
		if until != 0 {
			x.Until = now.AddDate(0, 0, until)
		}
		return x
	}
	l := review.Learn([]review.Decision{d("1", one, review.Needed, 0, p), d("2", two, review.Accepted, 0, p, q),
		d("3", two, review.Aside, 0, q)}, now)
	if _, ok := l.Keeps(one, p); !ok {
		t.Error("what one needs is not kept")
	}
	if l.Empty() || !review.Learn(nil, now).Empty() {
		t.Error("decisions teach, and none do not")
	}
	for _, x := range []struct {
		who model.ID
		p   model.Permission
	}{{two, p}, {one, q}} {
		if _, ok := l.Keeps(x.who, x.p); ok {
			t.Errorf("%s %s is kept", x.who, x.p)
		}
	}
	if a, b := l.Chance(p), l.Chance(q); a != 1.0/12 || b != 0 {
		t.Errorf("chances %v and %v, want 1/12 and 0", a, b)
	}
	for name, all := range map[string][]review.Decision{
		"over":             {d("1", one, review.Needed, -1, p)},
		"accepted since":   {d("1", one, review.Needed, 0, p), d("1", one, review.Accepted, 0, p)},
		"another accepted": {d("1", one, review.Needed, 0, p), d("2", one, review.Accepted, 0, p)},
		"taken back":       {d("1", one, review.Needed, 0, p), d("1", one, review.Open, 0, p)},
	} {
		l := review.Learn(all, now)
		if _, ok := l.Keeps(one, p); ok || l.Chance(p) != 0 && name != "another accepted" {
			t.Errorf("%s: it still teaches", name)
		}
	}
	var none *review.Lessons
	if _, ok := none.Keeps(one, p); ok || none.Chance(p) != 0 || !none.Empty() {
		t.Error("no lessons teach")
	}
}
