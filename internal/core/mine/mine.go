// Package mine finds few roles that give many lines of access what they need.
//
// A [Line] is access that somebody has: the permissions that it needs, what it may have at most,
// and what each permission would cost there, as danger. A role is a set of permissions; a line can
// have it when the role holds all that the line needs and nothing that it may not have. With fewer
// roles lines have more than they need: [Curve] gives for each number of roles an assignment with
// little such excess. Given which lines share a role, the best role for them is the union of what
// they need; so what is looked for is a partition of the lines.
//
// Lines that need the same are one from the beginning, which costs nothing. Of few of them all
// partitions are looked at, by dynamic programming over subsets; of many, the two are joined whose
// union costs least (Ward's way of clustering, 1963, with another cost), and then lines are moved
// where that costs less. Beside danger each point of the curve tells its weighted structural
// complexity (Molloy et al., SACMAT 2008): roles, assignments and permissions of roles, all with
// weight 1.
package mine

import (
	"encoding/binary"
	"math"
	"math/bits"
	"slices"

	"clipfence/internal/core/access"
)

// A Line is access that may be given by a role.
type Line struct {
	Need access.Set
	May  access.Set             // holds Need
	Cost func(perm int) float64 // of giving a permission on the line's places; not below 0
}

// A Point is one number of roles.
type Point struct {
	Roles       []access.Set
	Of          []int   // the role of each line
	Extra       float64 // danger of what lines have beyond what they need
	Permissions int     // of all roles together
}

// Complexity is the weighted structural complexity, all weights 1.
func (p *Point) Complexity() int { return len(p.Roles) + len(p.Of) + p.Permissions }

// class is lines that need the same.
type class struct {
	lines []int
	need  access.Set
	may   access.Set
	cost  []float64 // by permission, of all lines
}

// cluster is classes that share a role.
type cluster struct {
	classes []int
	need    access.Set
	may     access.Set
	cost    []float64 // by permission, of all classes
	own     []float64 // by permission, of those classes that need it
	extra   float64
}

// exactly is up to how many classes all partitions are looked at: 3^n subsets of subsets.
const exactly = 11

// Curve returns for each number of roles that suffices, the most first, an assignment with little
// excess; the first has none. Without lines it is empty.
func Curve(lines []Line) []Point { return curve(lines, exactly) }

func curve(lines []Line, exactly int) []Point {
	classes := classesOf(lines)
	if len(classes) == 0 {
		return nil
	}
	var parts [][][]int // partitions of classes, by the number of parts, the most first
	if len(classes) <= exactly {
		parts = exact(classes)
	} else {
		parts = joined(classes)
	}
	var out []Point
	for _, partition := range parts {
		p := Point{Of: make([]int, len(lines))}
		for i, part := range partition {
			c := merged(classes, part)
			p.Roles = append(p.Roles, c.need)
			p.Extra += c.extra
			p.Permissions += c.need.Count()
			for _, k := range part {
				for _, l := range classes[k].lines {
					p.Of[l] = i
				}
			}
		}
		out = append(out, p)
	}
	return out
}

func classesOf(lines []Line) []class {
	by := map[string]int{}
	var out []class
	for i, l := range lines {
		var key []byte
		for _, w := range l.Need {
			key = binary.LittleEndian.AppendUint64(key, w)
		}
		k, ok := by[string(key)]
		if !ok {
			k = len(out)
			by[string(key)] = k
			out = append(out, class{need: l.Need, may: l.May.Clone(), cost: make([]float64, 64*len(l.Need))})
		}
		c := &out[k]
		c.lines = append(c.lines, i)
		c.may.And(l.May)
		for p := range l.May.All() {
			c.cost[p] += l.Cost(p)
		}
	}
	return out
}

// merged returns the cluster of some classes.
func merged(classes []class, of []int) *cluster {
	first := &classes[of[0]]
	c := &cluster{classes: of, need: first.need.Clone(), may: first.may.Clone(),
		cost: make([]float64, len(first.cost)), own: make([]float64, len(first.cost))}
	for _, k := range of {
		x := &classes[k]
		c.need.Or(x.need)
		c.may.And(x.may)
		for p, v := range x.cost {
			c.cost[p] += v
		}
		for p := range x.need.All() {
			c.own[p] += x.cost[p]
		}
	}
	c.extra = c.excess(c.need)
	return c
}

// excess is what the permissions of a role cost those of the cluster who do not need them.
func (c *cluster) excess(role access.Set) float64 {
	d := 0.0
	for p := range role.All() {
		d += c.cost[p] - c.own[p]
	}
	return max(0, d) // but for rounding
}

// join is what one cluster of two would cost more than the two; it is infinite where their union
// is more than one of them may have.
func join(a, b *cluster) float64 {
	for w := range a.need {
		if (a.need[w]|b.need[w])&^(a.may[w]&b.may[w]) != 0 {
			return math.Inf(1)
		}
	}
	d := 0.0
	for w := range a.need {
		for more := b.need[w] &^ a.need[w]; more != 0; more &= more - 1 {
			p := 64*w + bits.TrailingZeros64(more)
			d += a.cost[p] - a.own[p]
		}
		for more := a.need[w] &^ b.need[w]; more != 0; more &= more - 1 {
			p := 64*w + bits.TrailingZeros64(more)
			d += b.cost[p] - b.own[p]
		}
	}
	return max(0, d)
}

// exact looks at all partitions: best[k][s] is the least excess of the classes in s in k parts,
// where the part with the lowest class is cut off first.
func exact(classes []class) [][][]int {
	n := len(classes)
	full := 1<<n - 1
	cost := make([]float64, full+1)
	for s := 1; s <= full; s++ {
		c := merged(classes, members(s))
		cost[s] = c.extra
		for w := range c.need {
			if c.need[w]&^c.may[w] != 0 {
				cost[s] = math.Inf(1)
			}
		}
	}
	best := make([][]float64, n+1)
	from := make([][]int, n+1)
	best[0] = make([]float64, full+1)
	for s := 1; s <= full; s++ {
		best[0][s] = math.Inf(1)
	}
	for k := 1; k <= n; k++ {
		best[k], from[k] = make([]float64, full+1), make([]int, full+1)
		best[k][0] = math.Inf(1)
		for s := 1; s <= full; s++ {
			low := s & -s
			best[k][s] = math.Inf(1)
			for part := s; part > 0; part = (part - 1) & s {
				if part&low == 0 {
					continue
				}
				if d := cost[part] + best[k-1][s&^part]; d < best[k][s] {
					best[k][s], from[k][s] = d, part
				}
			}
		}
	}
	var out [][][]int
	for k := n; k >= 1; k-- {
		if math.IsInf(best[k][full], 1) {
			break // and fewer do not suffice either
		}
		var partition [][]int
		for s, left := full, k; left > 0; left-- {
			part := from[left][s]
			partition = append(partition, members(part))
			s &^= part
		}
		out = append(out, partition)
	}
	return out
}

func members(s int) []int {
	var out []int
	for ; s != 0; s &= s - 1 {
		out = append(out, bits.TrailingZeros(uint(s)))
	}
	return out
}

// joined joins two clusters at a time, those that cost least, and mends what that leaves.
func joined(classes []class) [][][]int {
	var now []*cluster
	for k := range classes {
		now = append(now, merged(classes, []int{k}))
	}
	pair := make([][]float64, len(now)) // what joining a cluster and an earlier one costs
	for i := range now {
		pair[i] = make([]float64, i)
		for j := range i {
			pair[i][j] = join(now[i], now[j])
		}
	}
	var out [][][]int
	for {
		var partition [][]int
		for _, c := range now {
			partition = append(partition, slices.Clone(c.classes))
		}
		out = append(out, partition)
		if len(now) == 1 {
			break
		}
		a, b, least := 0, 0, math.Inf(1)
		for i := range pair {
			for j, d := range pair[i] {
				if d < least {
					a, b, least = i, j, d
				}
			}
		}
		if math.IsInf(least, 1) {
			break
		}
		both := slices.Concat(now[b].classes, now[a].classes)
		slices.Sort(both)
		now[b] = merged(classes, both)
		now, pair = slices.Delete(now, a, a+1), slices.Delete(pair, a, a+1)
		for i := range pair {
			if len(pair[i]) > a {
				pair[i] = slices.Delete(pair[i], a, a+1)
			}
		}
		was := slices.Clone(now)
		was[b] = nil // it is new
		if len(classes) <= thorough {
			mended(classes, now, nil)
		} else {
			mended(classes, now, now[b])
		}
		for i := range now {
			for j := range i {
				if now[i] != was[i] || now[j] != was[j] {
					pair[i][j] = join(now[i], now[j])
				}
			}
		}
	}
	// One more role never costs more: where a partition of fewer parts does as well or better, a
	// part of it is cut in two.
	for i := len(out) - 2; i >= 0; i-- {
		if total(classes, out[i]) > total(classes, out[i+1]) {
			out[i] = cutOne(classes, out[i+1])
		}
	}
	return out
}

func total(classes []class, partition [][]int) float64 {
	d := 0.0
	for _, part := range partition {
		d += merged(classes, part).extra
	}
	return d
}

// cutOne takes the class out of its part whose going saves most.
func cutOne(classes []class, partition [][]int) [][]int {
	var best [][]int
	most := math.Inf(-1)
	for i, part := range partition {
		for j := range part {
			if len(part) == 1 {
				continue
			}
			rest := slices.Delete(slices.Clone(part), j, j+1)
			if saved := merged(classes, part).extra - merged(classes, rest).extra; saved > most {
				most = saved
				best = slices.Clone(partition)
				best[i] = rest
				best = append(best, []int{part[j]})
			}
		}
	}
	return best
}

// rounds bounds how often every class is looked at for a better cluster.
const rounds = 20

// thorough is up to how many classes each is looked at after every joining; of more only those that
// the new cluster may give away, and those that it may take.
const thorough = 120

// mended moves classes to the clusters where they cost least, as long as that helps: all, or those
// that go from one cluster or come to it.
func mended(classes []class, now []*cluster, only *cluster) {
	one := make([]*cluster, len(classes))
	at := -1
	for i := range now {
		if now[i] == only {
			at = i
		}
	}
	for range rounds {
		moved := false
		for i := range now {
			for n := 0; n < len(now[i].classes) && len(now[i].classes) > 1; n++ {
				k := now[i].classes[n]
				if one[k] == nil {
					one[k] = merged(classes, []int{k})
				}
				to := -1
				saved, known := 0.0, false
				var rest *cluster
				best := 0.0
				for j := range now {
					if j == i || at >= 0 && i != at && j != at {
						continue
					}
					if !known {
						rest = merged(classes, slices.Delete(slices.Clone(now[i].classes), n, n+1))
						saved, known = now[i].extra-rest.extra, true
						best = saved - tiny
					}
					if d := join(now[j], one[k]); d < best {
						best, to = d, j
					}
				}
				if to < 0 {
					continue
				}
				both := append(slices.Clone(now[to].classes), k)
				slices.Sort(both)
				now[i], now[to] = rest, merged(classes, both)
				moved = true
				n--
			}
		}
		if !moved {
			break
		}
	}
}

// tiny keeps rounding from moving a class back and forth.
const tiny = 1e-9
