package usage

import (
	"cmp"
	"math"
	"slices"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
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

	// Mute: it is said to be written, and in no log of its sort an event ever came, though so many
	// callers change what it would show somebody looking at.
	Mute int
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
	longSilence  = 30   // days: nobody at all pauses for so long
	busyDays     = 10   // of those, with events: a log that is busy
	leastEnd     = 5    // with events, before a silence of all logs to the end means anything
	leastDays    = 20   // with events, before a stream's silence means anything
	leastCallers = 3    // who fell silent together: one alone may just have stopped
	beforeGap    = 14   // days before a gap in which a caller counts as active
	unlikely     = 1e-5 // chance of a silence, below which it is a gap: hundreds of logs are looked at every day
)

// held is what one log held, while it is added up.
type held struct {
	Stream
	callers map[model.ID]Days
	lately  model.ID // who called last, whose days are not among those of callers yet
	days    Days
	counts  perDay
	vague   bool // counts a day are not known of all: a day that holds less proves nothing
}

// Observe looks at the uses for what each log really held, up to the last reading: gaps
// come out of the shares from then on. classOf says in which class of log a permission's
// use appears; refused, whose writer cannot write.
//
// looks says of a class whether it shows looking only; where many change things of a service and
// nobody ever looked at any, its log of that is taken for one that is not written. It may be nil.
func (c *Coverage) Observe(uses *Uses, classOf func(model.Permission) string, looks func(service, class string) bool,
	refused func(model.CoverageRecord) bool) {
	logs := c.heldIn(uses, classOf)
	c.streams = map[coverageKey]*Stream{}
	end := DayOf(c.ReadTo()) - 1 // the last day may not be over
	c.begin(logs)
	type looked struct {
		*held
		last    Day
		profile *profile
		may     []Gap // in which it may have lost events
	}
	var list []looked
	for k, h := range logs {
		s := h.Stream // and nothing of what it was added up from
		c.streams[k] = &s
		if last := min(end, DayOf(h.Last)-1); !h.vague && len(h.callers) >= leastCallers &&
			last-DayOf(h.First) > 2*lossAround {
			list = append(list, looked{held: h, last: last})
		}
	}
	parallel.Each(len(list), func(_, i int) {
		l := &list[i]
		l.profile = profileOf(&l.counts, DayOf(l.First)+1, l.last)
		l.may = l.profile.losses()
	})
	lost, profiles := map[*held][]Gap{}, map[*held]*profile{}
	for _, l := range list {
		if profiles[l.held] = l.profile; len(l.may) > 0 {
			lost[l.held] = l.may
		}
	}
	if len(lost) > 0 {
		by := map[*held]map[model.ID]*perDay{}
		of := c.shownIn(uses, classOf).logOf(logs)
		for i := range uses.Len() {
			h := of(i)
			if lost[h] == nil {
				continue
			}
			u := uses.At(i)
			if by[h] == nil {
				by[h] = map[model.ID]*perDay{}
			}
			one := by[h][u.Identity]
			if one == nil {
				one = &perDay{}
				by[h][u.Identity] = one
			}
			for d, n := range u.Daily() {
				one.add(d, n)
			}
		}
		for h, gaps := range lost {
			lost[h] = slices.DeleteFunc(gaps, func(g Gap) bool { return !profiles[h].lost(g, by[h]) })
		}
	}
	changed := changers(logs, looks)
	fell := fallen(logs, DayOf(c.read.First), end)
	for k, r := range c.records {
		s := c.streams[k]
		if n := changed[k.service]; n > 0 && r.Written && looks(k.service, k.class) {
			s = &Stream{Mute: n, Gaps: []Gap{{From: DayOf(c.read.First), To: end + 1}}}
			c.streams[k] = s
		}
		over := c.read.over(k.node)
		if h := logs[k]; h != nil {
			if s.Callers = len(h.callers); !over {
				s.Gaps = joined(append(gapsOf(s.Days, end, leastDays, leastCallers, h.callers), lost[h]...))
			}
		}
		var gaps []Gap
		for _, of := range k.with() {
			if !over {
				gaps = append(gaps, fell[of]...)
			}
		}
		if r.Written && len(gaps) > 0 {
			if s == nil {
				s = &Stream{}
				c.streams[k] = s
			}
			s.Gaps = joined(append(s.Gaps, gaps...))
		}
		if s != nil && s.Mute == 0 {
			s.Gaps = c.read.besides(k.node, k.service, s.Gaps)
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

// heldIn adds up what each log held. Every worker adds up what it is given, and all of it is put together.
func (c *Coverage) heldIn(uses *Uses, classOf func(model.Permission) string) map[coverageKey]*held {
	parts := make([]map[coverageKey]*held, parallel.Workers())
	finds := make([]func(int) *held, len(parts))
	shown := c.shownIn(uses, classOf)
	for k := range parts {
		parts[k] = map[coverageKey]*held{}
		finds[k] = shown.logOf(parts[k])
	}
	uses.InRuns(func(k, from, to int) {
		u := new(Use) // one for all: nobody keeps it
		for i := from; i < to; i++ {
			if h := finds[k](i); h != nil {
				*u = uses.At(i)
				h.add(u)
			}
		}
	})
	logs := map[coverageKey]*held{}
	for _, part := range parts {
		for k, h := range part {
			h.settle()
			if logs[k] == nil {
				logs[k] = h
			} else {
				logs[k].merge(h)
			}
		}
	}
	return logs
}

func (h *held) add(u *Use) {
	h.during(u.First, u.Last)
	h.Days = h.Days.Union(u.Days)
	h.Events += u.Count
	sum := int64(0)
	for d, n := range u.Daily() {
		h.counts.add(d, n)
		sum += n
	}
	h.vague = h.vague || u.AtLeast || sum < u.Count
	h.called(u.Identity, u.Days)
}

// merge adds what another worker saw of the same log.
func (h *held) merge(o *held) {
	h.during(o.First, o.Last)
	h.Days = h.Days.Union(o.Days)
	h.Events += o.Events
	for i, n := range o.counts.n {
		h.counts.add(o.counts.first+Day(i), n)
	}
	h.vague = h.vague || o.vague
	for id, days := range o.callers {
		h.all(id, days)
	}
}

// during notes that something was in a log from one time to another.
func (h *held) during(first, last time.Time) {
	if h.callers == nil {
		h.First, h.Last, h.callers = first, last, map[model.ID]Days{}
	}
	if first.Before(h.First) {
		h.First = first
	}
	if last.After(h.Last) {
		h.Last = last
	}
}

// called notes days on which somebody called. Uses come caller by caller, so those of the last one are kept apart.
func (h *held) called(id model.ID, days Days) {
	if h.lately != id {
		h.settle()
		h.lately = id
	}
	h.days = h.days.Union(days)
}

// settle notes the days of the last caller among those of all.
func (h *held) settle() {
	h.all(h.lately, h.days)
	h.lately, h.days = model.ID{}, Days{}
}

// all notes days of somebody among those of all callers.
func (h *held) all(id model.ID, days Days) {
	if len(days.words) == 0 {
		return
	}
	was := h.callers[id]
	if all := was.Union(days); len(was.words) == 0 || !was.covers(all) {
		h.callers[id] = all
	}
}

// together is several logs: all there are, those of one service, or those at a node and below it.
type together struct {
	service string
	node    model.Path
}

// with returns the sets of logs that a log is one of.
func (k coverageKey) with() []together {
	out := []together{{}, {service: k.service}}
	for p, ok := k.node, true; ok; p, ok = p.Parent() {
		out = append(out, together{node: p})
	}
	return out
}

// fallen finds silences of several logs together, whose own callers are too few to tell a log that
// is not there any more from somebody who stopped. Where nothing at all comes any more up to the
// end, or for a month, not even one caller is needed who fell silent: that everybody stopped and that
// the log did look the same. And a service whose log begins with several callers at once, on a day on
// which others were there for long, was not logged before.
func fallen(logs map[coverageKey]*held, first, end Day) map[together][]Gap {
	days, callers := map[together]Days{}, map[together][]map[model.ID]Days{}
	for k, h := range logs {
		for _, of := range k.with() {
			days[of] = days[of].Union(h.Days)
			callers[of] = append(callers[of], h.callers)
		}
	}
	out := map[together][]Gap{}
	for of, d := range days {
		gaps := slices.DeleteFunc(gapsOf(d, end, leastDays, leastCallers, callers[of]...), func(g Gap) bool {
			return g.To < first // before there was any evidence
		})
		if from, ok := begins(d, first, callers[of]); ok && of.service != "" {
			gaps = joined(append(gaps, Gap{From: first, To: from - 1}))
		}
		if len(gaps) > 0 {
			out[of] = gaps
		}
	}
	all := together{}
	for _, g := range gapsOf(days[all], end, leastEnd, 0) {
		if g.To == end || g.Days() >= longSilence && g.To >= first {
			out[all] = joined(append(out[all], g))
		}
	}
	return out
}

// begins returns on which day logs begin, and whether it is unlikely by their own weekdays that they
// were there before, since a day: several callers are there from the beginning.
func begins(days Days, since Day, callers []map[model.ID]Days) (Day, bool) {
	list := days.List()
	if len(list) < leastDays {
		return 0, false
	}
	from, last := list[0], list[len(list)-1]
	var on, of [7]float64
	for d := from; d <= last; d++ {
		of[weekday(d)]++
	}
	for _, d := range list {
		on[weekday(d)]++
	}
	chance := 1.0
	for d := since; d < from && chance >= unlikely; d++ {
		chance *= 1 - (on[weekday(d)]+0.5)/(of[weekday(d)]+1)
	}
	return from, chance < unlikely &&
		several(callers, leastCallers, func(d Days) bool { return d.Any(from, from+beforeGap-1) })
}

// begin moves the beginning of the evidence behind a few days that lie far before a log that is busy
// from then on: one event of a clock that is wrong, or one old file, makes no history.
func (c *Coverage) begin(logs map[coverageKey]*held) {
	var all Days
	for _, h := range logs {
		all = all.Union(h.Days)
	}
	list := all.List()
	for i := 1; i < min(len(list), leastDays); i++ {
		busy := all.Between(list[i], list[i]+longSilence-1).Count()
		if first := list[i].Time(); list[i]-list[i-1] > longSilence && busy >= busyDays && first.After(c.read.First) {
			c.read.First = first
		}
	}
}

// Begin returns since when there is evidence: the first event, but for a few days long before the
// log of a source is busy. After [Coverage.Observe].
func (c *Coverage) Begin() time.Time { return c.read.First }

// changers returns of each service of which nobody is ever seen to look at anything how many change
// something, if those are several and do it on many days.
func changers(logs map[coverageKey]*held, looks func(service, class string) bool) map[string]int {
	if looks == nil {
		return nil
	}
	type changes struct {
		who  map[model.ID]bool
		days Days
	}
	of, seen := map[string]*changes{}, map[string]bool{}
	for k, h := range logs {
		if h.Events == 0 {
			continue
		}
		if looks(k.service, k.class) {
			seen[k.service] = true
			continue
		}
		x := of[k.service]
		if x == nil {
			x = &changes{who: map[model.ID]bool{}}
			of[k.service] = x
		}
		x.days = x.days.Union(h.Days)
		for id := range h.callers {
			x.who[id] = true
		}
	}
	out := map[string]int{}
	for service, x := range of {
		if !seen[service] && len(x.who) >= leastCallers && x.days.Count() >= leastDays {
			out[service] = len(x.who)
		}
	}
	return out
}

// mostPlaced bounds how many places are remembered with the log that they stand in.
const mostPlaced = 1 << 16

// shown says of uses which logs show them.
type shown struct {
	c     *Coverage
	uses  *Uses
	of    []uint32                         // of each permission: the service and the class of log, below
	logs  []logKey                         // the services and classes
	alone map[logKey]*model.CoverageRecord // the only record there is of one; nil: there are several
}

// shownIn looks up which permissions the same logs show.
func (c *Coverage) shownIn(uses *Uses, classOf func(model.Permission) string) *shown {
	s := &shown{c: c, uses: uses, alone: map[logKey]*model.CoverageRecord{}}
	for k, r := range c.records {
		log := logKey{k.service, k.class}
		if _, more := s.alone[log]; more {
			s.alone[log] = nil
		} else {
			s.alone[log] = &r
		}
	}
	if uses.Len() == 0 {
		return s
	}
	number := map[logKey]uint32{}
	for _, p := range uses.perms {
		k := logKey{p.Service(), classOf(p)}
		n, known := number[k]
		if !known {
			n = uint32(len(s.logs))
			number[k], s.logs = n, append(s.logs, k)
		}
		s.of = append(s.of, n)
	}
	return s
}

// record returns the record that decides for a use: [Coverage.Record], and sooner where there is one alone.
func (s *shown) record(path model.Path, k logKey) (model.CoverageRecord, bool) {
	r, some := s.alone[k]
	if r != nil {
		return *r, r.Node.Covers(path)
	}
	if !some {
		return model.CoverageRecord{}, false
	}
	return s.c.Record(path, k.service, k.class)
}

// logOf returns what finds, or begins, the log that a use stands in, by its place in the order; nil for a use that
// no log shows. Uses come in order, so the one before is remembered.
func (s *shown) logOf(logs map[coverageKey]*held) func(int) *held {
	memo := map[uint64]*held{}
	last, found := uint64(math.MaxUint64), (*held)(nil)
	return func(i int) *held {
		row := &s.uses.rows[i]
		n := s.of[row.Permission]
		at := uint64(row.Path)<<32 | uint64(n)
		if at == last {
			return found
		}
		h, ok := memo[at]
		if !ok {
			if r, hit := s.record(s.uses.paths[row.Path], s.logs[n]); hit {
				k := coverageKey{r.Node, r.Service, r.LogClass}
				if h = logs[k]; h == nil {
					h = &held{}
					logs[k] = h
				}
			}
			if len(memo) >= mostPlaced { // uses of one caller are near each other
				clear(memo)
			}
			memo[at] = h
		}
		last, found = at, h
		return h
	}
}

// missed returns the days that a log had forgotten already when it was read again, unless
// events of them were to be had after all.
func (c *Coverage) missed(r model.CoverageRecord, s *Stream) []Gap {
	var out []Gap
	for i := 1; i < len(c.read.Ends) && r.Written && r.Keep > 0; i++ {
		g := Gap{From: DayOf(c.read.Ends[i-1]) + 1, To: DayOf(c.read.Ends[i]) - Day(r.Keep) - 1}
		if g.From <= g.To && (s == nil || !s.Days.Any(g.From, g.To)) {
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

// gapsOf finds the silences of one log or several with so many days that their weekdays make unlikely,
// and in which so many fell silent: callers, with the days on which they called.
func gapsOf(days Days, end Day, least, many int, callers ...map[model.ID]Days) []Gap {
	list := days.List()
	if len(list) < least || len(callers) == 1 && len(callers[0]) < many {
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
		before := func(days Days) bool { return days.Any(from-beforeGap, from-1) }
		if several(callers, many, before) {
			out = append(out, Gap{From: from, To: d - 1})
		}
	}
	return out
}

// several reports whether so many callers, each once, have days as asked for.
func several(callers []map[model.ID]Days, least int, ask func(Days) bool) bool {
	found := map[model.ID]bool{}
	for _, of := range callers {
		for id, days := range of {
			if len(found) == least {
				return true
			}
			if ask(days) {
				found[id] = true
			}
		}
	}
	return len(found) == least
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
