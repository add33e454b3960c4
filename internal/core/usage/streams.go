package usage

import (
	"cmp"
	"math"
	"slices"
	"time"

	"clipfence/internal/core/model"
)

// A Stream is what one log really held: the events of one service and class under
// one node's setting.
type Stream struct {
	First, Last time.Time
	Days        Days
	Events      int64
	Callers     int
	Gaps        []Gap
	Refused     bool // its writer is not allowed to write
}

// A Gap is a run of days on which a log was silent, or lost a good part of its events,
// though its own weekdays say that it should not have been.
type Gap struct {
	From, To Day  // both included
	Partly   bool // it held some events, and far fewer than usual
}

// Days returns how long the gap is.
func (g Gap) Days() int { return int(g.To-g.From) + 1 }

const (
	leastDays    = 20   // with events, before a stream's silence means anything
	leastCallers = 3    // who fell silent together: one alone may just have stopped
	beforeGap    = 14   // days before a gap in which a caller counts as active
	unlikely     = 1e-5 // chance of a silence, below which it is a gap: hundreds of logs are looked at every day
)

// Observe looks at the uses for what each log really held, up to the last reading: gaps
// come out of the shares from then on. classOf says in which class of log a permission's
// use appears; refused, whose writer cannot write.
func (c *Coverage) Observe(uses []Use, classOf func(model.Permission) string, refused func(model.CoverageRecord) bool) {
	c.streams = map[coverageKey]*Stream{}
	callers := map[coverageKey]map[model.ID]Days{}
	counts := map[coverageKey]*perDay{}
	vague := map[coverageKey]bool{}
	type memoKey struct {
		path           model.Path
		service, class string
	}
	memo := map[memoKey]coverageKey{}
	for i := range uses {
		u := &uses[i]
		m := memoKey{u.Path, u.Permission.Service(), classOf(u.Permission)}
		k, ok := memo[m]
		if !ok {
			if r, hit := c.Record(m.path, m.service, m.class); hit {
				k = coverageKey{r.Node, r.Service, r.LogClass}
			}
			memo[m] = k
		}
		if k.node.IsZero() {
			continue
		}
		s := c.streams[k]
		if s == nil {
			s = &Stream{First: u.First, Last: u.Last}
			c.streams[k] = s
			callers[k] = map[model.ID]Days{}
		}
		if u.First.Before(s.First) {
			s.First = u.First
		}
		if u.Last.After(s.Last) {
			s.Last = u.Last
		}
		s.Days = s.Days.Union(u.Days)
		s.Events += u.Count
		of := counts[k]
		if of == nil {
			of = &perDay{}
			counts[k] = of
		}
		sum := int64(0)
		for d, n := range u.Daily() {
			of.add(d, n)
			sum += n
		}
		if u.AtLeast || sum < u.Count { // counts a day are not known: a day that holds less proves nothing
			vague[k] = true
		}
		callers[k][u.Identity] = callers[k][u.Identity].Union(u.Days)
	}
	end := DayOf(c.ReadTo()) - 1 // the last day may not be over
	lost, profiles := map[coverageKey][]Gap{}, map[coverageKey]*profile{}
	for k, s := range c.streams {
		if last := min(end, DayOf(s.Last)-1); !vague[k] && len(callers[k]) >= leastCallers && last-DayOf(s.First) > 2*lossAround {
			profiles[k] = profileOf(counts[k], DayOf(s.First)+1, last)
			if gaps := profiles[k].losses(); len(gaps) > 0 {
				lost[k] = gaps
			}
		}
	}
	if len(lost) > 0 {
		by := map[coverageKey]map[model.ID]*perDay{}
		for i := range uses {
			u := &uses[i]
			k := memo[memoKey{u.Path, u.Permission.Service(), classOf(u.Permission)}]
			if lost[k] == nil {
				continue
			}
			if by[k] == nil {
				by[k] = map[model.ID]*perDay{}
			}
			of := by[k][u.Identity]
			if of == nil {
				of = &perDay{}
				by[k][u.Identity] = of
			}
			for d, n := range u.Daily() {
				of.add(d, n)
			}
		}
		for k, gaps := range lost {
			lost[k] = slices.DeleteFunc(gaps, func(g Gap) bool { return !profiles[k].lost(g, by[k]) })
		}
	}
	for k, r := range c.records {
		s := c.streams[k]
		if s != nil {
			s.Callers = len(callers[k])
			s.Gaps = gapsOf(s.Days, end, callers[k])
			s.Gaps = joined(append(s.Gaps, lost[k]...))
		}
		if gaps := c.missed(r, s); len(gaps) > 0 {
			if s == nil {
				s = &Stream{}
				c.streams[k] = s
			}
			s.Gaps = joined(append(s.Gaps, gaps...))
		}
		if refused != nil && r.Written && refused(r) {
			if s == nil {
				s = &Stream{}
				c.streams[k] = s
			}
			s.Refused = true
			from := DayOf(s.Last) + 1
			if s.Last.IsZero() {
				from = DayOf(c.read.First)
			}
			if from <= end+1 {
				s.Gaps = joined(append(s.Gaps, Gap{From: from, To: end + 1}))
			}
		}
	}
}

// missed returns the days that a log had forgotten already when it was read again, unless
// events of them were to be had after all.
func (c *Coverage) missed(r model.CoverageRecord, s *Stream) []Gap {
	var out []Gap
	for i := 1; i < len(c.read.Ends) && r.Written && r.Keep > 0; i++ {
		g := Gap{From: DayOf(c.read.Ends[i-1]) + 1, To: DayOf(c.read.Ends[i]) - Day(r.Keep) - 1}
		if g.From <= g.To && (s == nil || s.Days.Between(g.From, g.To).Count() == 0) {
			out = append(out, g)
		}
	}
	return out
}

// joined sorts gaps and joins those that meet or overlap.
func joined(gaps []Gap) []Gap {
	slices.SortFunc(gaps, func(a, b Gap) int { return cmp.Compare(a.From, b.From) })
	out := gaps[:0]
	for _, g := range gaps {
		if n := len(out); n > 0 && g.From <= out[n-1].To+1 {
			out[n-1].To = max(out[n-1].To, g.To)
			out[n-1].Partly = out[n-1].Partly && g.Partly
		} else {
			out = append(out, g)
		}
	}
	return out
}

// Stream returns what the log of a record held; nil before [Coverage.Observe], and
// for a log without events.
func (c *Coverage) Stream(r model.CoverageRecord) *Stream {
	return c.streams[coverageKey{r.Node, r.Service, r.LogClass}]
}

// gapsOf finds the silences of a stream that its weekdays make unlikely.
func gapsOf(days Days, end Day, callers map[model.ID]Days) []Gap {
	list := days.List()
	if len(list) < leastDays || len(callers) < leastCallers {
		return nil
	}
	first, last := list[0], list[len(list)-1]
	end = max(end, last)
	var on, of [7]float64
	active := map[Day]bool{}
	for _, d := range list {
		active[d] = true
	}
	for d := first; d <= last; d++ { // a silence to the end must not excuse others
		of[weekday(d)]++
		if active[d] {
			on[weekday(d)]++
		}
	}
	var out []Gap
	for d := first; d <= end; {
		if active[d] {
			d++
			continue
		}
		// The profile is that of the other days: a gap must not excuse itself.
		from, in := d, [7]float64{}
		for ; d <= end && !active[d]; d++ {
			in[weekday(d)]++
		}
		chance := 1.0
		for w, n := range in {
			others := of[w]
			if from < last {
				others -= n
			}
			chance *= math.Pow(1-(on[w]+0.5)/(others+1), n)
		}
		if chance >= unlikely {
			continue
		}
		together := 0
		for _, days := range callers {
			if days.Between(from-beforeGap, from-1).Count() > 0 {
				together++
			}
		}
		if together >= leastCallers {
			out = append(out, Gap{From: from, To: d - 1})
		}
	}
	return out
}

func weekday(d Day) int { return int(((d+4)%7 + 7) % 7) }

// silent returns how much of a window the gaps of a record's log take, in days.
func (c *Coverage) silent(r model.CoverageRecord, w Window) float64 {
	s := c.Stream(r)
	if s == nil {
		return 0
	}
	n := 0
	for _, g := range s.Gaps {
		from, to := max(g.From, DayOf(w.From)), min(g.To, DayOf(w.To))
		n += max(0, int(to-from)+1)
	}
	return float64(n)
}
