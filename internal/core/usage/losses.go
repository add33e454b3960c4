package usage

import (
	"math"
	"slices"

	"clipfence/internal/core/model"
)

// A log can lose a part of its events for a while, and no day is silent then. What gives it
// away is its own weekdays: three days or more on which it holds far less than the same
// weekdays of the weeks around, by more than its counts vary anyway (they vary more than a
// Poisson process would), and all of its callers at once. On holidays those rest who rest at
// weekends: whoever does not tells a loss from a holiday, and where all do, days like the
// stream's own Saturdays or Sundays are taken for holidays.

const (
	lossDays    = 3    // of the shortest loss that is looked for
	lossAround  = 56   // days on either side that say what is usual
	lossNear    = 18   // days on either side that say how busy these weeks are
	lossWeeks   = 5    // same weekdays in them, at least
	lossShare   = 0.72 // of what is usual; above it nothing is called a loss
	lossSpread  = 3.6  // standard deviations of the log of such sums
	lossAlike   = 1.5  // how much larger or smaller a sum may be to be compared with
	lossCallers = 0.8  // of the callers that show less
	lossLeast   = 40.0 // events a day, below which nothing can be told
	holidayMost = 1.6  // of what its weekends hold, below which a day may be a holiday
)

// profile is what a stream usually holds on each day.
type profile struct {
	first Day
	count []float64 // by day from first
	usual []float64 // NaN where nothing can be said
	same  []float64 // at hand for around
}

func profileOf(counts *perDay, first, last Day) *profile {
	n := int(last-first) + 1
	p := &profile{first: first, count: make([]float64, n), usual: make([]float64, n)}
	for i := range n {
		p.count[i] = float64(counts.at(first + Day(i)))
	}
	for i := range n {
		p.usual[i] = p.around(i)
	}
	return p
}

// around returns what a day usually holds, by the same weekdays of the weeks around it.
func (p *profile) around(i int) float64 {
	same := p.same[:0]
	for k := 7; k <= lossAround; k += 7 {
		for _, j := range [...]int{i - k, i + k} {
			if j >= 0 && j < len(p.count) {
				same = append(same, p.count[j])
			}
		}
	}
	p.same = same
	if len(same) < lossWeeks {
		return math.NaN()
	}
	return median(same)
}

// like returns what a day would hold if it were the weekday, by the weeks around it.
func (p *profile) like(i, day int) float64 {
	at := i + (day-weekday(p.first+Day(i))+7)%7
	if at >= len(p.count) {
		at -= 7
	}
	if at < 0 {
		return math.NaN()
	}
	return p.around(at)
}

// perDay counts by day.
type perDay struct {
	first Day
	n     []int64
}

func (p *perDay) at(d Day) int64 {
	if i := int(d - p.first); 0 <= i && i < len(p.n) {
		return p.n[i]
	}
	return 0
}

func (p *perDay) add(d Day, n int64) {
	switch i := int(d - p.first); {
	case len(p.n) == 0:
		p.first, p.n = d, append(p.n, n)
	case i < 0:
		p.n = append(make([]int64, -i, -i+len(p.n)), p.n...)
		p.first, p.n[0] = d, n
	case i >= len(p.n):
		p.n = append(p.n, make([]int64, i+1-len(p.n))...)
		p.n[i] = n
	default:
		p.n[i] += n
	}
}

func median(x []float64) float64 {
	slices.Sort(x)
	n := len(x)
	if n%2 == 1 {
		return x[n/2]
	}
	return (x[n/2-1] + x[n/2]) / 2
}

// losses returns the days, lossDays together, on which a stream held far less than usual,
// but not nothing. They may overlap.
func (p *profile) losses() []Gap {
	n := len(p.count)
	logs, size := make([]float64, n), make([]float64, n) // of the sum of three days over what is usual
	for i := range n {
		logs[i] = math.NaN()
		if i+lossDays > n {
			continue
		}
		sum := 0.0
		for j := i; j < i+lossDays; j++ {
			sum += p.count[j]
			size[i] += p.usual[j]
		}
		if size[i] >= lossLeast*lossDays {
			logs[i] = math.Log((sum + 0.5) / size[i])
		}
	}
	level := make([]float64, n) // of the weeks around: somebody is away, a job was added
	for i := range n {
		var near []float64
		for j := max(0, i-lossNear); j < min(n, i+lossNear+1); j++ {
			if !math.IsNaN(logs[j]) && (j <= i-lossDays || j >= i+lossDays) {
				near = append(near, logs[j])
			}
		}
		if len(near) > 0 {
			level[i] = median(near)
		}
	}
	var out []Gap
	for i := range n {
		if !(logs[i] < math.Log(lossShare)) {
			continue
		}
		// How much such sums vary: those of about the same size, since small ones vary more.
		var alike []float64
		for j, x := range logs {
			if !math.IsNaN(x) && size[j] > size[i]/lossAlike && size[j] < size[i]*lossAlike &&
				(j < i-lossDays || j > i+lossDays) {
				alike = append(alike, x-level[j])
			}
		}
		if len(alike) < lossAround/2 {
			continue
		}
		middle := median(alike)
		for j, x := range alike {
			alike[j] = math.Abs(x - middle)
		}
		spread := 1.4826 * median(alike) // of a normal distribution (Hampel 1974)
		if logs[i]-level[i]-middle > -lossSpread*max(spread, 0.02) {
			continue
		}
		low := true
		for j := i; j < i+lossDays; j++ {
			low = low && p.count[j] > 0 && p.count[j] <= 0.85*p.usual[j]
		}
		if !low {
			continue
		}
		out = append(out, Gap{From: p.first + Day(i), To: p.first + Day(i+lossDays-1), Partly: true})
	}
	return out
}

// holiday reports whether a day holds about what a weekend of the stream does, where its
// weekends differ from its other days.
func (p *profile) holiday(i int) bool {
	rest := math.Min(p.like(i, 0), p.like(i, 6)) // Sunday is 0
	if !(rest > 0) || rest > 0.8*p.usual[i] {
		return false
	}
	return p.count[i] < holidayMost*rest
}

// lost reports whether a part of the log is missing on some days, and not a part of the
// work: whether the callers of the stream all show less than on the same weekdays around.
func (p *profile) lost(g Gap, callers map[model.ID]*perDay) bool {
	var all, steady tally
	for _, days := range callers {
		around := func(d Day) float64 {
			var same []float64
			for k := Day(7); k <= lossAround; k += 7 {
				for _, at := range [...]Day{d - k, d + k} {
					if at < g.From || at > g.To {
						same = append(same, float64(days.at(at)))
					}
				}
			}
			return median(same)
		}
		got, usual := 0.0, 0.0
		for d := g.From; d <= g.To; d++ {
			got += float64(days.at(d))
			usual += around(d)
		}
		if usual < 6 {
			continue
		}
		less := got < 0.8*usual
		all.add(less)
		week, weekend := 0.0, 0.0
		for d := g.From - 7; d < g.From; d++ {
			if w := weekday(d); w == 0 || w == 6 {
				weekend += around(d) / 2
			} else {
				week += around(d) / 5
			}
		}
		if weekend > 0.7*week {
			steady.add(less)
		}
	}
	if all.n < leastCallers || !all.most() {
		return false
	}
	if steady.n >= 2 {
		return steady.most()
	}
	for d := g.From; d <= g.To; d++ {
		if i := int(d - p.first); p.holiday(i) || p.count[i] > lossShare*p.usual[i] {
			return false
		}
	}
	return true
}

type tally struct{ n, less int }

func (t *tally) add(less bool) {
	t.n++
	if less {
		t.less++
	}
}

// most reports whether about all of them show less.
func (t *tally) most() bool { return float64(t.less) >= lossCallers*float64(t.n) }
