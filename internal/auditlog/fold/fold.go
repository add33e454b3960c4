// Package fold turns pieces of logs into uses, in parallel and in bounded memory.
//
// [Run] hands [Part]s to workers. Each worker reads records in whatever format
// they are, looks every name up once, and folds calls into a table of its own
// ([usage.Table]). When enough has come together the tables are merged and yielded
// as a [Batch], with the cursor behind its last part: a batch is kept or lost as a
// whole. Events are told apart by their ids in a [Seen], which the workers share.
package fold

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/cespare/xxhash/v2"

	"clipfence/internal/auditlog"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Part is a piece of a log.
type Part struct {
	Name   string // of the file, for messages
	Origin string // what the piece is of, where that is more than Name; see [Origin]
	Chunk  auditlog.Chunk
	Quoted bool   // records are CSV: a newline between quotes ends none
	Header []byte // the first line of the file, for CSV
	// Rows yields the events of a columnar file, in place of Chunk; n is the row.
	Rows func(yield func(n int, e *auditlog.Event, fault error) bool) error
	// behind this part, asked for when all before it is folded; nil when none stands here
	Cursor  func() (string, error)
	Message string // why the part ends here, when the stream broke off
	More    bool   // something is known to follow
}

// An Unmapped is an operation that is no permission of the catalogue.
type Unmapped struct {
	Permission model.Permission
	Example    string // a record, cut to a few hundred bytes
	File       string
	Line       int
}

// A Sighting is an identity in a group, as the events of a log showed it.
type Sighting struct {
	Identity, Group model.ID
	First, Last     int64 // ms since 1970
}

// An Origin is what a batch took from one file.
type Origin struct {
	File    string
	Lines   int
	Rejects int
	Skipped map[string]int    // understood, and no call, by why
	Formats map[string]int    // records by format
	Days    map[usage.Day]int // events, those counted before included
}

// A Batch is what some parts fold to.
type Batch struct {
	Table    *usage.Table
	Seen     map[usage.Day][]uint64 // events that were new
	Rejected []auditlog.Reject      // the first of them
	Rejects  int                    // all of them
	Skipped  map[string]int         // understood, and no call, by why
	Formats  map[string]int         // records by format
	Unmapped []Unmapped
	InGroups []Sighting // in order
	Records  int
	Events   int // new ones
	Repeated int // that were counted before
	Bytes    int64
	Cursor   string
	Origins  []Origin // by file
	Maps     string   // which version of the log maps they were read with; whoever runs says it
	ByHand   bool     // named by somebody, and not found as the source's own log
}

// Options steer a run. The zero Options are usable.
type Options struct {
	Formats func() []auditlog.Format // a fresh set for each worker
	Known   func(model.Permission) bool
	Seen    *Seen
	Workers int   // 0: one a processor
	Rows    int   // uses that make a batch full; 0: 400,000
	Bytes   int64 // bytes that make a batch full; 0: 512 MB
	// Progress is told now and then how far it came; may be nil.
	Progress func(bytes int64, records int)
}

const (
	maxRejects  = 1_000 // that a batch tells one by one
	exampleSize = 400   // bytes
	maxUnmapped = 1_000
)

// Run folds parts and yields batches. After an error nothing more comes; what came
// before it is good.
func Run(ctx context.Context, parts iter.Seq2[Part, error], o Options) iter.Seq2[*Batch, error] {
	if o.Workers == 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	if o.Rows == 0 {
		o.Rows = 400_000
	}
	if o.Bytes == 0 {
		o.Bytes = 512 << 20
	}
	if o.Known == nil {
		o.Known = func(model.Permission) bool { return true }
	}
	if o.Seen == nil {
		o.Seen = NewSeen(nil)
	}
	return func(yield func(*Batch, error) bool) {
		workers := make([]*worker, o.Workers)
		names := newDicts()
		for i := range workers {
			workers[i] = newWorker(o, names)
		}
		work := make(chan Part, o.Workers)
		var busy, all sync.WaitGroup
		for _, w := range workers {
			all.Go(func() {
				for p := range work {
					w.part(p)
					busy.Done()
				}
			})
		}
		defer func() { close(work); all.Wait() }()
		var bytes, total int64
		records := 0
		var cursor func() (string, error)
		flush := func() (*Batch, error) {
			busy.Wait()
			b, err := gather(workers, o)
			if err != nil {
				return nil, err
			}
			if cursor != nil {
				if b.Cursor, err = cursor(); err != nil {
					return nil, err
				}
			}
			b.Bytes = bytes
			bytes = 0
			names = newDicts()
			for _, w := range workers {
				w.reset(names)
			}
			return b, nil
		}
		var failed error
		for p, err := range parts {
			if err == nil {
				err = ctx.Err()
			}
			if err != nil {
				failed = err
				break
			}
			n := int64(len(p.Chunk.Data))
			busy.Add(1)
			if p.Message != "" || p.Chunk.Reject != "" || p.Rows == nil && n == 0 {
				workers[0].mu.Lock()
				workers[0].note(p)
				workers[0].mu.Unlock()
				busy.Done()
			} else {
				work <- p
			}
			bytes += n
			total += n
			if p.Cursor == nil {
				continue
			}
			cursor = p.Cursor
			if o.Progress != nil {
				for _, w := range workers {
					records += int(w.told.Swap(0))
				}
				o.Progress(total, records)
			}
			full := bytes >= o.Bytes
			for _, w := range workers {
				full = full || int(w.size.Load()) >= o.Rows
			}
			if full {
				b, err := flush()
				if !yield(b, err) || err != nil {
					return
				}
				cursor = nil
			}
		}
		if failed != nil {
			// What was folded is kept, also when somebody interrupts: parts after the last
			// cursor are read again, and their events are known by their ids.
			if b, err := flush(); err == nil && b.Cursor != "" {
				if !yield(b, nil) {
					return
				}
			}
			yield(nil, failed)
			return
		}
		if b, err := flush(); err != nil || cursor != nil || b.Records+b.Rejects > 0 {
			yield(b, err)
		}
	}
}

// gather merges what the workers have.
func gather(workers []*worker, o Options) (*Batch, error) {
	d := workers[0].dicts
	b := &Batch{Table: d.table, Skipped: map[string]int{}, Formats: map[string]int{}, Seen: o.Seen.take()}
	if err := o.Seen.err(); err != nil {
		return nil, err
	}
	d.uses.Into(b.Table)
	for _, w := range workers {
		for _, r := range w.rejected {
			b.Rejected = append(b.Rejected, auditlog.Reject{File: r.file, Line: r.line.Number(), Why: r.why})
		}
		b.Rejects += w.rejects
		b.Records += w.records
		b.Events += w.events
		b.Repeated += w.repeated
		for _, at := range w.origins {
			i := slices.IndexFunc(b.Origins, func(o Origin) bool { return o.File == at.File })
			if i < 0 {
				i = len(b.Origins)
				b.Origins = append(b.Origins, Origin{File: at.File, Skipped: map[string]int{},
					Formats: map[string]int{}, Days: map[usage.Day]int{}})
			}
			o := &b.Origins[i]
			o.Lines += at.Lines
			o.Rejects += at.Rejects
			add(at.Skipped, o.Skipped, b.Skipped)
			add(at.Formats, o.Formats, b.Formats)
			for d, n := range at.Days {
				o.Days[d] += n
			}
		}
		for _, e := range w.unmapped {
			u := Unmapped{e.permission, e.record, e.file, e.line.Number()}
			if !slices.ContainsFunc(b.Unmapped, func(x Unmapped) bool { return x.Permission == u.Permission }) {
				b.Unmapped = append(b.Unmapped, u)
			}
		}
	}
	b.InGroups = sightings(workers, d)
	slices.SortFunc(b.Origins, func(x, y Origin) int { return strings.Compare(x.File, y.File) })
	slices.SortFunc(b.Rejected, func(x, y auditlog.Reject) int {
		if x.File != y.File {
			return strings.Compare(x.File, y.File)
		}
		return x.Line - y.Line
	})
	if len(b.Rejected) > maxRejects {
		b.Rejected = b.Rejected[:maxRejects]
	}
	slices.SortFunc(b.Unmapped, func(x, y Unmapped) int { return x.Permission.Compare(y.Permission) })
	return b, nil
}

// groupsKey is an identity, by number, and the groups that an event says it is in, by hash: most
// events of somebody name the same ones.
type groupsKey struct {
	who  uint32
	list uint64
}

// inGroups is when events named some groups.
type inGroups struct {
	names       []string
	first, last int64
}

// inGroups notes in which groups the caller of an event was.
func (w *worker) inGroups(who uint32, groups [][]byte, at int64) {
	w.hash.Reset()
	for _, g := range groups {
		_, _ = w.hash.Write(g) // it never fails
		_, _ = w.hash.Write([]byte{0})
	}
	k := groupsKey{who, w.hash.Sum64()}
	in := w.groups[k]
	if in == nil {
		in = &inGroups{first: at, last: at}
		for _, g := range groups {
			if len(g) > 0 {
				in.names = append(in.names, string(g))
			}
		}
		w.groups[k] = in
	}
	in.first, in.last = min(in.first, at), max(in.last, at)
}

// sightings puts together what the workers noted.
func sightings(workers []*worker, d *dicts) []Sighting {
	type pair struct{ who, group model.ID }
	all := map[pair]*Sighting{}
	for _, w := range workers {
		for k, in := range w.groups {
			for _, name := range in.names {
				p := pair{d.ids.at(k.who), model.ID{Kind: model.Group, Name: name}}
				s := all[p]
				if s == nil {
					s = &Sighting{p.who, p.group, in.first, in.last}
					all[p] = s
				}
				s.First, s.Last = min(s.First, in.first), max(s.Last, in.last)
			}
		}
	}
	out := make([]Sighting, 0, len(all))
	for _, s := range all {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b Sighting) int {
		return cmp.Or(a.Identity.Compare(b.Identity), a.Group.Compare(b.Group))
	})
	return out
}

func add(from map[string]int, to ...map[string]int) {
	for k, n := range from {
		for _, m := range to {
			m[k] += n
		}
	}
}

// example is an Unmapped whose line has no number yet.
type example struct {
	permission model.Permission
	record     string
	file       string
	line       auditlog.Line
}

// dicts number every name that the workers meet.
type dicts struct {
	ids   *dict[model.ID]
	perms *dict[model.Permission]
	paths *dict[model.Path]
	nets  *dict[netip.Prefix]
	uses  usage.Shards
	table *usage.Table // whose names the dicts number
}

func newDicts() *dicts {
	t := &usage.Table{}
	return &dicts{ids: newDict(&t.IDs), perms: newDict(&t.Perms), paths: newDict(&t.Paths), nets: newDict(&t.Nets),
		table: t}
}

type worker struct {
	o       Options
	formats []auditlog.Format
	last    int // the format that fitted last

	dicts  *dicts
	ids    near[model.ID]
	perms  near[model.Permission]
	today  *day
	date   usage.Day
	blocks map[uint32]uint32 // number of a /24 block, by its first three bytes

	rejected                           []reject
	rejects, records, events, repeated int
	origins                            map[string]*Origin
	at                                 *Origin // of the part at hand
	ofDay                              int     // events of its day at hand, not in at yet
	unmapped                           map[uint32]example
	groups                             map[groupsKey]*inGroups
	hash                               xxhash.Digest
	met                                map[uint32]bool // permissions that were held against the catalogue
	yield                              func(*auditlog.Event) error

	// Of the record at hand.
	record []byte
	part0  string
	line   auditlog.Line
	nth    uint64 // event of the record

	mu   sync.Mutex // against notes from the reader
	size atomicInt  // about how many uses there are, for whoever decides when a batch is full
	told atomicInt  // records since it was asked last
}

func newWorker(o Options, d *dicts) *worker {
	w := &worker{o: o, formats: o.Formats()}
	w.yield = w.event
	w.reset(d)
	return w
}

func (w *worker) reset(d *dicts) {
	w.dicts = d
	w.ids.reset(d.ids)
	w.perms.reset(d.perms)
	w.blocks = map[uint32]uint32{}
	w.today = nil
	w.rejected, w.rejects, w.records, w.events, w.repeated = nil, 0, 0, 0, 0
	w.origins, w.unmapped, w.met = map[string]*Origin{}, map[uint32]example{}, map[uint32]bool{}
	w.groups = map[groupsKey]*inGroups{}
	w.size.Store(0)
}

// of makes a file the one at hand.
func (w *worker) of(file string) {
	if w.at = w.origins[file]; w.at == nil {
		w.at = &Origin{File: file, Skipped: map[string]int{}, Formats: map[string]int{}, Days: map[usage.Day]int{}}
		w.origins[file] = w.at
	}
}

// sum keeps how many events the day at hand had so far.
func (w *worker) sum() {
	if w.ofDay > 0 {
		w.at.Days[w.date] += w.ofDay
		w.ofDay = 0
	}
}

func (w *worker) reject(file string, line auditlog.Line, why string) {
	w.rejects++
	w.at.Rejects++
	if len(w.rejected) < maxRejects {
		w.rejected = append(w.rejected, reject{file, line, why})
	}
}

// reject is an auditlog.Reject whose line has no number yet.
type reject struct {
	file string
	line auditlog.Line
	why  string
}

// note keeps what the reader itself set aside.
func (w *worker) note(p Part) {
	w.of(cmp.Or(p.Origin, p.Name))
	if p.Chunk.Reject != "" {
		w.records++
		w.at.Lines++
		w.reject(p.Name, p.Chunk.Line, p.Chunk.Reject)
	}
	if p.Message != "" {
		w.reject(p.Name, p.Chunk.Line, p.Message)
	}
}

func (w *worker) part(p Part) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.part0 = p.Name
	w.of(cmp.Or(p.Origin, p.Name))
	before := w.records
	if p.Rows != nil {
		err := p.Rows(func(n int, e *auditlog.Event, fault error) bool {
			w.record, w.line, w.nth = nil, auditlog.At(n), 0
			w.records++
			w.at.Formats["parquet"]++
			if fault == nil {
				fault = w.event(e)
			}
			if fault != nil {
				w.fault(fault)
			}
			return true
		})
		if err != nil {
			w.reject(p.Name, w.line, err.Error())
		}
	} else {
		for _, f := range w.formats {
			if h, ok := f.(interface{ Header([]byte) }); ok && p.Quoted {
				h.Header(p.Header)
			}
		}
		for line, record := range p.Chunk.Records(p.Quoted) {
			w.record, w.line, w.nth = record, p.Chunk.Line.Next(line), 0
			w.records++
			if longest := auditlog.Longest(p.Quoted); len(record) > longest {
				w.reject(p.Name, w.line, fmt.Sprintf("record is longer than %d bytes (%d)", longest, len(record)))
				continue
			}
			if err := w.parse(record); err != nil {
				w.fault(err)
			}
		}
		p.Chunk.Free()
	}
	w.sum()
	w.at.Lines += w.records - before
	w.told.Add(int64(w.records - before))
}

func (w *worker) fault(err error) {
	if s := skip(err); s != nil {
		w.at.Skipped[s.Why]++
		return
	}
	w.reject(w.part0, w.line, err.Error())
}

// skip returns why a record shows no call, or nil for a fault.
func skip(err error) *auditlog.Skip {
	if s, ok := err.(*auditlog.Skip); ok { // as good as always, and cheaper
		return s
	}
	var s *auditlog.Skip
	errors.As(err, &s)
	return s
}

// parse reads a record in the format that fitted last, and else in the one that it
// looks like.
func (w *worker) parse(record []byte) error {
	f := w.formats[w.last]
	err := f.Parse(record, w.yield)
	if err == nil || skip(err) != nil {
		w.at.Formats[f.Name()]++
		return err
	}
	if w.nth > 0 || f.Sniff(record) {
		return err
	}
	for i, g := range w.formats {
		if i == w.last || !g.Sniff(record) {
			continue
		}
		w.last = i
		if err = g.Parse(record, w.yield); err == nil || skip(err) != nil {
			w.at.Formats[g.Name()]++
		}
		return err
	}
	switch {
	case bytes.IndexByte(record, 0) >= 0:
		return errors.New("not a log line: binary data (NUL bytes)")
	case !utf8.Valid(record):
		return errors.New("not a log line: not UTF-8")
	case len(w.formats) == 1 || errors.Is(err, auditlog.ErrForeign):
		return err
	case record[0] == '{' && !json.Valid(record):
		return err // the reader of JSON says where it breaks
	}
	return auditlog.ErrForeign
}

// event folds one event in.
func (w *worker) event(e *auditlog.Event) error {
	var k usage.RowKey
	var err error
	if k.Identity, err = w.who(e.Who); err != nil {
		return fmt.Errorf("caller: %w", err)
	}
	if len(e.ActingFor.Text) > 0 {
		if k.ActingFor, err = w.who(e.ActingFor); err != nil {
			return fmt.Errorf("acting for: %w", err)
		}
	}
	if k.Permission, err = w.perms.number(e.Operation, 0, permission); err != nil {
		return fmt.Errorf("operation: %w", err)
	}
	if k.Path, err = w.dicts.paths.number(e.Path, 0, model.ParsePath); err != nil {
		return fmt.Errorf("path: %w", err)
	}
	if len(e.Network) > 0 {
		if k.Network, err = w.network(e.Network); err != nil {
			return fmt.Errorf("network: %w", err)
		}
	}
	k.Outcome, k.SecondFactor = usage.CodeOf(e.Outcome), e.Factor
	if e.Time < auditlog.Earliest || e.Time > auditlog.Latest {
		return fmt.Errorf("time %d is not between 1990 and 2200 in milliseconds", e.Time)
	}
	if len(e.Groups) > 0 && len(e.Who.Text) > 0 {
		w.inGroups(k.Identity, e.Groups, e.Time)
	}
	hash := uint64(0)
	if len(e.ID) > 0 {
		hash = xxhash.Sum64(e.ID)
	} else {
		hash = xxhash.Sum64(w.record) // an event without an id is known by its whole text
	}
	if !e.Keyed {
		hash += w.nth * 0x9E3779B97F4A7C15
	}
	w.nth++
	d := usage.Day(e.Time / 86_400_000) // times are after 1970
	if w.today == nil || w.date != d {  // most calls are of the day of the one before
		w.sum()
		w.today, w.date = w.o.Seen.day(d), d
	}
	w.ofDay++
	if !w.today.add(hash) {
		if !e.Keyed {
			w.repeated++
		}
		return nil
	}
	w.events++
	w.size.Store(int64(w.dicts.uses.Add(k, e.Time)) * usage.Parts)
	if !w.met[k.Permission] && len(w.unmapped) < maxUnmapped {
		w.met[k.Permission] = true
		if p := w.dicts.perms.at(k.Permission); !w.o.Known(p) {
			w.unmapped[k.Permission] = example{p, strings.ToValidUTF8(string(w.record[:min(len(w.record),
				exampleSize)]), "?"), w.part0, w.line}
		}
	}
	return nil
}

// who returns the number of an identity's name. Its salt is the kind that a plain
// name has.
func (w *worker) who(n auditlog.Name) (uint32, error) {
	salt := uint32(0)
	for i := range len(n.Kind) {
		salt = salt*31 + uint32(n.Kind[i])
	}
	if n.Own {
		salt = ^salt
	}
	return w.ids.number(n.Text, salt, func(s string) (model.ID, error) { return identity(s, n.Kind, n.Own) })
}

// identity makes an identity of a name. Only where the log may write names in the model's
// own form is one taken for that: somebody may be called "everyone", or "workload/ci".
func identity(s string, kind model.IdentityKind, own bool) (model.ID, error) {
	if s == "" {
		return model.ID{Kind: model.Everyone}, nil
	}
	if own {
		if id, err := model.ParseID(s); err == nil && id.Source == "" && !id.Open() &&
			(kind == "" || id.Kind == kind) {
			return id, nil
		}
	}
	if kind == "" {
		kind = model.Unknown
	}
	return model.ID{Kind: kind, Name: s}, nil
}

// permission takes an operation in the model's own form as it is; any other is kept
// under the service "unmapped", so that a file can map it later.
func permission(s string) (model.Permission, error) {
	if s == "" {
		return model.Permission{}, errors.New("is missing")
	}
	if p, err := model.ParsePermission(s); err == nil {
		return p, nil
	}
	return model.ParsePermission(string(model.AppendEscaped([]byte("unmapped/"), []byte(s))) + ":call")
}

// network returns the number of an address's block. Plain IPv4 addresses are many
// and their blocks few, so they are read here.
func (w *worker) network(text []byte) (uint32, error) {
	v, n, dots := uint32(0), uint32(0), 0
	digits := 0
	for _, c := range text {
		switch {
		case '0' <= c && c <= '9' && digits < 3 && (digits == 0 || n > 0):
			n = 10*n + uint32(c-'0')
			digits++
		case c == '.' && digits > 0 && n < 256:
			v, n, digits = v<<8|n, 0, 0
			dots++
		default:
			dots = -100
		}
	}
	if dots != 3 || digits == 0 || n > 255 {
		return w.dicts.nets.number(text, 0, block)
	}
	if at, ok := w.blocks[v]; ok {
		return at, nil
	}
	at, err := w.dicts.nets.number(text, 0, block)
	if err == nil {
		w.blocks[v] = at
	}
	return at, err
}

func block(s string) (netip.Prefix, error) {
	a, err := netip.ParseAddr(s)
	if err != nil {
		if ap, perr := netip.ParseAddrPort(s); perr == nil {
			a, err = ap.Addr(), nil
		}
	}
	return usage.Block(a), err
}
