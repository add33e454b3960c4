package usage

import (
	"slices"
	"sort"
	"time"

	"clipfence/internal/core/model"
)

// A Window is the span of days that a question looks back over: whole days in UTC, and
// with them the day that is not over at To.
type Window struct {
	From time.Time // the first instant of a day
	To   time.Time
}

// WindowOf returns the window of so many whole days before the day of to, and of that
// day so far.
func WindowOf(to time.Time, days int) Window {
	return Window{(DayOf(to) - Day(days)).Time(), to.UTC()}
}

// First returns the first day of the window.
func (w Window) First() Day { return DayOf(w.From) }

// Last returns the last day of the window, which may not be over.
func (w Window) Last() Day { return DayOf(w.To) }

// Days returns how many whole days the window has, without the one that is not over.
func (w Window) Days() int { return int(w.Last() - w.First()) }

// Coverage answers which permissions a log would have shown. Make one with
// [NewCoverage].
type Coverage struct {
	records map[coverageKey]model.CoverageRecord
	nodes   map[logKey][]model.Path // that have a record, in depth-first order
	read    Read
	streams map[coverageKey]*Stream // after Observe
}

type coverageKey struct {
	node           model.Path
	service, class string
}

type logKey struct{ service, class string }

// A Read says what was read of a source's logs.
type Read struct {
	First time.Time   // the first event; zero: there was none
	Ends  []time.Time // when the logs were read to their end, in order
	Until time.Time   // who asks about the past does not learn what was silent later; zero: of now

	Over  []model.PathPattern // where work is over, so that silence is no loss
	Quiet []Quiet             // when nobody worked
}

// Quiet is days, both included, on which nobody worked on some places, so that silence of the logs of a
// service, or of all where none is named, is no loss.
type Quiet struct {
	On       model.PathPattern
	Service  string
	From, To Day
}

// besides returns what of the gaps of a log at a node lies on other days than those on which nobody worked
// there.
func (r *Read) besides(node model.Path, service string, gaps []Gap) []Gap {
	for _, q := range r.Quiet {
		if !q.On.Contains(node.Below()) || q.Service != "" && q.Service != service {
			continue
		}
		var rest []Gap
		for _, g := range gaps {
			before, after := g, g
			before.To, after.From = min(g.To, q.From-1), max(g.From, q.To+1)
			for _, part := range [...]Gap{before, after} {
				if part.From <= part.To {
					rest = append(rest, part)
				}
			}
		}
		gaps = joined(rest)
	}
	return gaps
}

// over reports whether work is over at a node and everywhere below it.
func (r *Read) over(node model.Path) bool {
	return slices.ContainsFunc(r.Over, func(on model.PathPattern) bool { return on.Contains(node.Below()) })
}

// NewCoverage returns what the records of a source and what was read of its logs give
// together: nothing is covered before the first event and after the last reading.
func NewCoverage(records []model.CoverageRecord, read Read) *Coverage {
	c := &Coverage{records: make(map[coverageKey]model.CoverageRecord, len(records)), nodes: map[logKey][]model.Path{},
		read: read}
	for _, r := range records {
		k := coverageKey{r.Node, r.Service, r.LogClass}
		if _, twice := c.records[k]; !twice {
			c.nodes[logKey{r.Service, r.LogClass}] = append(c.nodes[logKey{r.Service, r.LogClass}], r.Node)
		}
		c.records[k] = r
	}
	for _, nodes := range c.nodes {
		slices.SortFunc(nodes, model.Path.Compare)
	}
	return c
}

// Record returns the record that decides for a place: the one on the nearest
// node at or above it.
func (c *Coverage) Record(p model.Path, service, class string) (model.CoverageRecord, bool) {
	for ok := !p.IsZero(); ok; p, ok = p.Parent() {
		if r, hit := c.records[coverageKey{p, service, class}]; hit {
			return r, true
		}
	}
	return model.CoverageRecord{}, false
}

// From returns since when a record's log was really there. It returns false
// when the log is off or nothing was ever read. What was read before the source
// forgot it counts: retention bounds the first reading, not the evidence, and not even
// that where older events were to be had after all.
func (c *Coverage) From(r model.CoverageRecord) (time.Time, bool) {
	if !r.Written || c.read.First.IsZero() || len(c.read.Ends) == 0 || r.Hides != "" {
		return time.Time{}, false
	}
	from := c.read.First
	if kept, ok := c.keptFrom(r); ok && kept.After(from) {
		from = kept
	}
	if r.Since.After(from) {
		from = r.Since
	}
	return from, true
}

// Later returns of which services and log classes some log that is there now was not there yet at a time, and began
// later than the first one: what was done there until then is not known.
func (c *Coverage) Later(than time.Time) func(service, class string) bool {
	later := map[logKey]bool{}
	for k, r := range c.records {
		if c.began(r, than) {
			later[logKey{k.service, k.class}] = true
		}
	}
	return func(service, class string) bool { return later[logKey{service, class}] }
}

// Began reports whether the log that decides for a place is there now and began too late, or after a window, for what
// it did not show in it to count as unused; the first log of all did not: what was before it is not known of any.
func (c *Coverage) Began(at model.Path, service, class string, w Window) bool {
	r, ok := c.Record(at, service, class)
	late := time.Duration((1 - observableFrom) * float64(w.To.Sub(w.From)))
	return ok && c.began(r, w.From.Add(late))
}

func (c *Coverage) began(r model.CoverageRecord, after time.Time) bool {
	from, lit := c.From(r)
	return lit && from.After(after) && from.After(c.read.First)
}

// ReadTo returns where the evidence ends: when the logs were last read to their end, or
// the time that is asked about; zero: they never were.
func (c *Coverage) ReadTo() time.Time {
	if len(c.read.Ends) == 0 {
		return time.Time{}
	}
	last := c.read.Ends[len(c.read.Ends)-1]
	if until := c.read.Until; !until.IsZero() && until.Before(last) {
		return until
	}
	return last
}

// keptFrom returns since when a log was still there when it was first read, if it is
// forgotten after a time.
func (c *Coverage) keptFrom(r model.CoverageRecord) (time.Time, bool) {
	if r.Keep <= 0 {
		return time.Time{}, false
	}
	from := c.read.Ends[0].AddDate(0, 0, -r.Keep)
	if s := c.Stream(r); s != nil && !s.First.IsZero() && s.First.Before(from) {
		from = s.First
	}
	return from, true
}

// Forgotten reports whether a part of a window is not covered because the log was not
// kept until it was first read.
func (c *Coverage) Forgotten(r model.CoverageRecord, w Window) bool {
	from, ok := c.From(r)
	kept, bound := c.keptFrom(r)
	return ok && bound && from.Equal(kept) && from.After(w.From)
}

// Share returns over which part of the window, from 0 to 1, uses of a service
// and log class at a place would have been seen.
func (c *Coverage) Share(p model.Path, service, class string, w Window) float64 {
	if class == "" {
		return 0
	}
	r, ok := c.Record(p, service, class)
	if !ok {
		return 0
	}
	return c.share(r, w)
}

func (c *Coverage) share(r model.CoverageRecord, w Window) float64 {
	from, ok := c.From(r)
	if !ok {
		return 0
	}
	if from.Before(w.From) {
		from = w.From
	}
	to := w.To
	if end := c.ReadTo(); end.Before(to) {
		to = end
	}
	covered := to.Sub(from) - time.Duration(c.silent(r, Window{from, to})*24*float64(time.Hour))
	return max(0, float64(covered)/float64(w.To.Sub(w.From)))
}

// DarkBelow returns the places that a path pattern reaches on which uses would not have
// been seen over enough of a window: the pattern itself where that goes for all of it, and
// otherwise the nodes of the records beneath it that were not there, with everything below
// them. Records below decide for what lies below them only.
// What is asked about and lies on the pattern but below none of those, so that the record above
// has a say, is what apart answers, in places. The time is the earliest since when the others would have been
// seen on enough days, see [Coverage.Since].
func (c *Coverage) DarkBelow(on model.PathPattern, service, class string, w Window,
	apart func(below []model.Path) []model.PathPattern) ([]model.PathPattern, time.Time) {
	since := w.From
	dark := c.darkBelow(on, service, class, w, apart, func(from time.Time) {
		if from.Before(since) {
			since = from
		}
	})
	return dark, since
}

func (c *Coverage) darkBelow(on model.PathPattern, service, class string, w Window,
	apart func(below []model.Path) []model.PathPattern, seen func(since time.Time)) []model.PathPattern {
	if class == "" {
		return []model.PathPattern{on}
	}
	anchor, ok := on.Anchor()
	since, lit := c.Since(anchor, service, class, w)
	if lit = lit && ok; lit {
		seen(since)
	}
	var top []model.Path // the topmost records
	var dark []model.PathPattern
	for _, node := range c.logsBelow(anchor, service, class) {
		if !on.Overlaps(node.Below()) {
			continue
		}
		if n := len(top); n == 0 || !top[n-1].Covers(node) {
			top = append(top, node)
		}
		if since, ok := c.since(c.records[coverageKey{node, service, class}], w); ok {
			seen(since)
			continue
		}
		below := node.Below()
		if !on.Contains(below) { // it cannot be told apart in the words of the pattern
			return []model.PathPattern{on}
		}
		if n := len(dark); n == 0 || !dark[n-1].Contains(below) { // nodes come in depth-first order
			dark = append(dark, below)
		}
	}
	switch {
	case len(top) == 0 && lit:
		return nil
	case len(top) == 0:
		return []model.PathPattern{on}
	}
	all, rest := true, dark // both are in depth-first order
	for _, n := range top {
		i := slices.Index(rest, n.Below())
		if all = i >= 0; !all {
			break
		}
		rest = rest[i+1:]
	}
	switch {
	case lit && !all:
		return dark
	case !lit && all: // nothing in it is seen
		return []model.PathPattern{on}
	}
	besides := apart(top)
	switch {
	case lit && len(besides) == 0:
		return []model.PathPattern{on}
	case lit:
		return dark
	case slices.Contains(besides, on):
		return besides
	}
	return slices.Concat(dark, besides)
}

// logsBelow returns the nodes below one, or all where it is zero, that have a record of
// their own, in depth-first order.
func (c *Coverage) logsBelow(node model.Path, service, class string) []model.Path {
	nodes := c.nodes[logKey{service, class}]
	if node.IsZero() {
		return nodes
	}
	from, found := slices.BinarySearchFunc(nodes, node, model.Path.Compare)
	if found {
		from++
	}
	to := from + sort.Search(len(nodes)-from, func(i int) bool { return !node.Covers(nodes[from+i]) })
	return nodes[from:to]
}

// mostBlind is the share of a window that gaps may take which are made up for by looking further
// back, and lookBack how far at most, in days.
const (
	mostBlind = 0.5
	lookBack  = conclusiveDays
)

// Enough reports whether uses of a service and log class at a place would have been seen over
// enough of a window to call what was not seen unused, see [Coverage.Since].
func (c *Coverage) Enough(p model.Path, service, class string, w Window) bool {
	_, enough := c.Since(p, service, class, w)
	return enough
}

// Since returns since when uses of a service and log class at a place would have been seen on as many
// days as to call what was not seen unused takes: since the window began, where they would have been seen
// over [observableFrom] of it; or, where no more than [mostBlind] of it is missing and the log is there
// at its end, since as many days before as make up for what is missing. False where it is not seen on so many.
// What is younger than that cannot be judged by it.
func (c *Coverage) Since(p model.Path, service, class string, w Window) (time.Time, bool) {
	if class == "" {
		return time.Time{}, false
	}
	r, ok := c.Record(p, service, class)
	if !ok {
		return time.Time{}, false
	}
	return c.since(r, w)
}

func (c *Coverage) since(r model.CoverageRecord, w Window) (time.Time, bool) {
	share := c.share(r, w)
	if Observable(share) {
		return w.From, true
	}
	if share < 1-mostBlind {
		return time.Time{}, false
	}
	length := w.To.Sub(w.From)
	end := Window{w.To.Add(-time.Duration((1 - observableFrom) * float64(length))), w.To}
	from, ok := c.From(r)
	if !ok || c.share(r, end) == 0 || from.After(w.From) {
		return time.Time{}, false
	}
	need := time.Duration(observableFrom * float64(length))
	for {
		lacks := need - time.Duration(share*float64(w.To.Sub(w.From)))
		if lacks <= 0 {
			return w.From, true
		}
		w.From = DayOf(w.From.Add(-lacks)).Time() // if nothing of it is missing
		if from.After(w.From) || w.Days() > lookBack {
			return time.Time{}, false
		}
		share = c.share(r, w)
	}
}

// observableFrom is the least share of a window at which a permission counts as
// observed: a log that began a few days late still answers for the window.
const observableFrom = 0.95

// Observable reports whether a share of a window is enough to call what was not
// seen unused.
func Observable(share float64) bool { return share >= observableFrom }
