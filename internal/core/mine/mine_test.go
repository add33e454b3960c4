package mine

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/access"
)

func setOf(perms ...int) access.Set {
	s := make(access.Set, 1)
	for _, p := range perms {
		s.Add(p)
	}
	return s
}

// random lines around a few roles that were there once.
func random(r *rand.Rand, n, perms int, narrow bool) []Line {
	var hidden []access.Set
	for range 2 + r.IntN(3) {
		s := setOf()
		for range 2 + r.IntN(4) {
			s.Add(r.IntN(perms))
		}
		hidden = append(hidden, s)
	}
	all := setOf()
	for p := range perms {
		all.Add(p)
	}
	out := make([]Line, n)
	for i := range out {
		need := hidden[r.IntN(len(hidden))].Clone()
		for p := range need.All() {
			if r.IntN(4) == 0 {
				need.Remove(p)
			}
		}
		need.Add(r.IntN(perms))
		may := all
		if narrow && r.IntN(2) == 0 {
			may = need.Clone()
			for range r.IntN(perms) {
				may.Add(r.IntN(perms))
			}
		}
		places := float64(1 + r.IntN(20))
		out[i] = Line{need, may, func(p int) float64 {
			return []float64{1, 2, 6, 20, 60}[p%5] * math.Log2(1+places)
		}}
	}
	return out
}

// holds checks a point by itself: every line has what it needs and nothing it may not have, and
// the excess is what is told.
func holds(t *testing.T, lines []Line, p *Point) {
	t.Helper()
	extra, perms := 0.0, 0
	used := map[int]bool{}
	for i, l := range lines {
		role := p.Roles[p.Of[i]]
		used[p.Of[i]] = true
		for q := range 64 {
			if l.Need.Has(q) && !role.Has(q) || role.Has(q) && !l.May.Has(q) {
				t.Fatalf("line %d needs %v, may have %v, and gets %v", i, l.Need, l.May, role)
			}
			if role.Has(q) && !l.Need.Has(q) {
				extra += l.Cost(q)
			}
		}
	}
	for _, r := range p.Roles {
		perms += r.Count()
	}
	if math.Abs(extra-p.Extra) > 1e-6 || perms != p.Permissions || len(used) != len(p.Roles) {
		t.Fatalf("excess %.3f, told %.3f; permissions %d, told %d; roles used %d of %d", extra, p.Extra, perms,
			p.Permissions, len(used), len(p.Roles))
	}
}

// TestCurve: each point holds, one role more never costs more, the first costs nothing; and on
// small cases joining and mending comes near the best of all partitions.
func TestCurve(t *testing.T) {
	points, sum, worst, over := 0, 0.0, 1.0, 0
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 17))
		lines := random(r, 4+r.IntN(14), 6+r.IntN(10), seed%2 == 1)
		best := Curve(lines)
		ours := curve(lines, 0)
		if len(best) == 0 || best[0].Extra != 0 || ours[0].Extra != 0 {
			t.Fatalf("seed %d: the first of %d points", seed, len(best))
		}
		for _, c := range [][]Point{best, ours} {
			for i := range c {
				holds(t, lines, &c[i])
				if i > 0 && (c[i].Extra < c[i-1].Extra-1e-9 || len(c[i].Roles) != len(c[i-1].Roles)-1) {
					t.Fatalf("seed %d: %d roles cost %.2f, %d cost %.2f", seed, len(c[i].Roles), c[i].Extra,
						len(c[i-1].Roles),
						c[i-1].Extra)
				}
			}
		}
		if len(classesOf(lines)) > exactly {
			continue
		}
		for i := range best {
			if i >= len(ours) { // with so few roles it found none that suffice
				if len(best[i].Roles) > 1 {
					over++
				}
				continue
			}
			x := 1.0
			if best[i].Extra > 0 {
				x = ours[i].Extra / best[i].Extra
			} else if ours[i].Extra > 1e-9 {
				x = 2
			}
			points++
			sum += x
			worst = max(worst, x)
			if x > 1.05 {
				over++
			}
		}
	}
	t.Logf("%d points: on average %.4f of the best, at worst %.3f, %d beyond 5 %%", points, sum/float64(points),
		worst, over)
	if points < 1000 || over*50 > points {
		t.Errorf("%d of %d points are more than 5 %% from the best", over, points)
	}
}

// TestMany: of more needs than are looked at each after every joining the points hold all the same, and what
// is mended, of the role that is new and only of that, costs a twentieth less than joining alone.
func TestMany(t *testing.T) {
	sum, alone := 0.0, 0.0
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 23))
		lines := random(r, 360, 16, seed%2 == 1)
		if n := len(classesOf(lines)); n <= thorough {
			t.Fatalf("seed %d: %d needs", seed, n)
		}
		c := Curve(lines)
		for i := range c {
			holds(t, lines, &c[i])
			if i > 0 && (c[i].Extra < c[i-1].Extra-1e-9 || len(c[i].Roles) != len(c[i-1].Roles)-1) {
				t.Fatalf("seed %d: %d roles cost %.2f, %d cost %.2f", seed, len(c[i].Roles), c[i].Extra,
					len(c[i-1].Roles), c[i-1].Extra)
			}
			if len(c[i].Roles) <= 40 {
				sum += c[i].Extra
			}
		}
		alone += joinedAlone(lines)
	}
	t.Logf("mended %.0f, joined alone %.0f: %.3f", sum, alone, sum/alone)
	if sum > 0.955*alone {
		t.Errorf("the points cost %.0f, and joining alone %.0f", sum, alone)
	}
}

// joinedAlone is what the points of 40 roles and fewer cost where needs are joined, the two first that cost
// least, and never taken apart.
func joinedAlone(lines []Line) float64 {
	classes := classesOf(lines)
	var now []*cluster
	for i := range classes {
		now = append(now, merged(classes, []int{i}))
	}
	sum := 0.0
	for len(now) > 1 {
		a, b, least := 0, 0, math.Inf(1)
		for i := range now {
			for j := range i {
				if d := join(now[i], now[j]); d < least {
					a, b, least = i, j, d
				}
			}
		}
		if math.IsInf(least, 1) {
			break
		}
		now[b] = merged(classes, slices.Sorted(slices.Values(slices.Concat(now[a].classes, now[b].classes))))
		now = slices.Delete(now, a, a+1)
		if len(now) <= 40 {
			for _, c := range now {
				sum += c.extra
			}
		}
	}
	return sum
}

// TestSame: lines that need the same have one role from the beginning, and what may not be shared
// is not.
func TestSame(t *testing.T) {
	cost := func(int) float64 { return 1 }
	all := setOf(0, 1, 2, 3)
	c := Curve([]Line{{setOf(0), all, cost}, {setOf(0), all, cost}, {setOf(1), setOf(1), cost}, {setOf(0, 2), all,
		cost}})
	if len(c) != 2 || len(c[0].Roles) != 3 || c[0].Of[0] != c[0].Of[1] || len(c[1].Roles) != 2 || c[1].Extra != 2 {
		t.Errorf("%+v", c)
	}
	if got := c[1].Complexity(); got != 2+4+3 {
		t.Errorf("complexity %d, want 9", got)
	}
	if Curve(nil) != nil {
		t.Error("without lines there is a curve")
	}
}

// BenchmarkCurve joins a thousand lines of fifty kinds of need.
func BenchmarkCurve(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	lines := random(r, 1000, 60, false)
	for b.Loop() {
		Curve(lines)
	}
}

// TestCutOne: cut off is the class that costs its part most; what is alone stays.
func TestCutOne(t *testing.T) {
	cost := []float64{1, 1, 1, 50}
	var classes []class
	for i, need := range [][]int{{0}, {0, 1}, {0, 1, 2}, {0, 3}} {
		classes = append(classes, class{lines: []int{i}, need: setOf(need...), may: setOf(0, 1, 2, 3), cost: cost})
	}
	for _, tt := range []struct{ of, want [][]int }{
		{[][]int{{0, 1, 2, 3}}, [][]int{{0, 1, 2}, {3}}}, // it alone needs what is dear
		{[][]int{{3}, {0, 1, 2}}, [][]int{{3}, {1, 2}, {0}}},
		{[][]int{{0}, {1, 2, 3}}, [][]int{{0}, {1, 2}, {3}}},
		{[][]int{{1}, {0, 2}}, [][]int{{1}, {2}, {0}}},
	} {
		if got := cutOne(classes, tt.of); !slices.EqualFunc(got, tt.want, slices.Equal[[]int]) {
			t.Errorf("%v is cut into %v, want %v", tt.of, got, tt.want)
		}
	}
}
