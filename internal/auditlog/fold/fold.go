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
	"context"
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/cespare/xxhash/v2"

	"clipfence/internal/auditlog"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Part is a piece of a log.
type Part struct {
	Name   string // of the file, for messages
	Chunk  auditlog.Chunk
	Quoted bool // records are CSV: a newline between quotes ends none
	// Rows yields the events of a columnar file, in place of Chunk; n is the row.
	Rows    func(yield func(n int, e *auditlog.Event, fault error) bool) error
	Cursor  string // behind this part; "" when a cursor does not stand here
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

// A Batch is what some parts fold to.
type Batch struct {
	Table    *usage.Table
	Seen     map[usage.Day][]uint64 // events that were new
	Rejected []auditlog.Reject      // the first of them
	Rejects  int                    // all of them
	Skipped  map[string]int         // understood, and no call, by why
	Formats  map[string]int         // records by format
	Unmapped []Unmapped
	Records  int
	Events   int // new ones
	Repeated int // that were counted before
	Bytes    int64
	Cursor   string
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
		for i := range workers {
			workers[i] = newWorker(o)
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
		cursor := ""
		flush := func() (*Batch, error) {
			busy.Wait()
			b, err := gather(workers, o)
			if err != nil {
				return nil, err
			}
			b.Cursor, b.Bytes = cursor, bytes
			bytes = 0
			for _, w := range workers {
				w.reset()
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
			if p.Cursor == "" {
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
				full = full || int(w.size.Load()) >= o.Rows/o.Workers
			}
			if full {
				b, err := flush()
				if !yield(b, err) || err != nil {
					return
				}
				cursor = ""
			}
		}
		if failed != nil {
			// Parts after the last cursor are lost; those before it were asked for by
			// nobody twice, so they are kept.
			if b, err := flush(); err == nil && b.Cursor != "" && !o.partial(ctx) {
				if !yield(b, nil) {
					return
				}
			}
			yield(nil, failed)
			return
		}
		if b, err := flush(); err != nil || cursor != "" || b.Records+b.Rejects > 0 {
			yield(b, err)
		}
	}
}

// partial reports whether what came last cannot be kept.
func (o Options) partial(ctx context.Context) bool { return ctx.Err() != nil }

// gather merges what the workers have.
func gather(workers []*worker, o Options) (*Batch, error) {
	b := &Batch{Table: workers[0].table, Skipped: map[string]int{}, Formats: map[string]int{}, Seen: o.Seen.take()}
	if err := o.Seen.err(); err != nil {
		return nil, err
	}
	for i, w := range workers {
		if i > 0 {
			b.Table.Merge(w.table)
		}
		b.Rejected = append(b.Rejected, w.rejected...)
		b.Rejects += w.rejects
		b.Records += w.records
		b.Events += w.events
		b.Repeated += w.repeated
		for k, n := range w.skipped {
			b.Skipped[k] += n
		}
		for k, n := range w.byFormat {
			b.Formats[k] += n
		}
		for _, u := range w.unmapped {
			if !slices.ContainsFunc(b.Unmapped, func(x Unmapped) bool { return x.Permission == u.Permission }) {
				b.Unmapped = append(b.Unmapped, u)
			}
		}
	}
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

// found is a name that was looked up: its number, or why it is none.
type found struct {
	n   uint32
	err error
}

type worker struct {
	o       Options
	formats []auditlog.Format
	last    int // the format that fitted last

	table *usage.Table
	ids   [5]map[string]found // by kind of plain name
	perms map[string]found
	paths map[string]found
	nets  map[string]found

	rejected                           []auditlog.Reject
	rejects, records, events, repeated int
	skipped, byFormat                  map[string]int
	unmapped                           map[uint32]Unmapped
	yield                              func(*auditlog.Event) error

	// Of the record at hand.
	record []byte
	part0  string
	line   int
	nth    uint64 // event of the record

	mu   sync.Mutex // against notes from the reader
	size atomicInt  // rows, for whoever decides when a batch is full
	told atomicInt  // records since it was asked last
}

func newWorker(o Options) *worker {
	w := &worker{o: o, formats: o.Formats()}
	w.yield = w.event
	w.reset()
	return w
}

func (w *worker) reset() {
	w.table = &usage.Table{}
	for i := range w.ids {
		w.ids[i] = map[string]found{}
	}
	w.perms, w.paths, w.nets = map[string]found{}, map[string]found{}, map[string]found{}
	w.rejected, w.rejects, w.records, w.events, w.repeated = nil, 0, 0, 0, 0
	w.skipped, w.byFormat, w.unmapped = map[string]int{}, map[string]int{}, map[uint32]Unmapped{}
	w.size.Store(0)
}

func (w *worker) reject(file string, line int, why string) {
	w.rejects++
	if len(w.rejected) < maxRejects {
		w.rejected = append(w.rejected, auditlog.Reject{File: file, Line: line, Why: why})
	}
}

// note keeps what the reader itself set aside.
func (w *worker) note(p Part) {
	if p.Chunk.Reject != "" {
		w.records++
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
	before := w.records
	if p.Rows != nil {
		err := p.Rows(func(n int, e *auditlog.Event, fault error) bool {
			w.record, w.line, w.nth = nil, n, 0
			w.records++
			w.byFormat["parquet"]++
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
		for line, record := range p.Chunk.Records(p.Quoted) {
			w.record, w.line, w.nth = record, line, 0
			w.records++
			if len(record) > auditlog.MaxLine {
				w.reject(p.Name, line, fmt.Sprintf("line is longer than %d bytes (%d)", auditlog.MaxLine, len(record)))
				continue
			}
			if err := w.parse(record); err != nil {
				w.fault(err)
			}
		}
		p.Chunk.Free()
	}
	w.size.Store(int64(w.table.Len()))
	w.told.Add(int64(w.records - before))
}

func (w *worker) fault(err error) {
	var skip *auditlog.Skip
	if errors.As(err, &skip) {
		w.skipped[skip.Why]++
		return
	}
	w.reject(w.part0, w.line, err.Error())
}

// parse reads a record in the format that fitted last, and else in the one that it
// looks like.
func (w *worker) parse(record []byte) error {
	f := w.formats[w.last]
	err := f.Parse(record, w.yield)
	var skip *auditlog.Skip
	if err == nil || errors.As(err, &skip) {
		w.byFormat[f.Name()]++
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
		if err = g.Parse(record, w.yield); err == nil || errors.As(err, &skip) {
			w.byFormat[g.Name()]++
		}
		return err
	}
	switch {
	case bytes.IndexByte(record, 0) >= 0:
		return errors.New("not a log line: binary data (NUL bytes)")
	case len(w.formats) == 1 || record[0] == '{':
		return err // the reader of JSON says where it breaks
	}
	return auditlog.ErrForeign
}

// event folds one event in.
func (w *worker) event(e *auditlog.Event) error {
	kind := 0
	switch e.Who.Kind {
	case model.Person:
		kind = 1
	case model.Workload:
		kind = 2
	case model.Group:
		kind = 3
	case model.External:
		kind = 4
	}
	id, ok := w.ids[kind][string(e.Who.Text)]
	if !ok {
		id = lookUp(w.ids[kind], e.Who.Text, &w.table.IDs, func(s string) (model.ID, error) { return identity(s, e.Who.Kind) })
	}
	perm, ok := w.perms[string(e.Operation)]
	if !ok {
		perm = lookUp(w.perms, e.Operation, &w.table.Perms, permission)
	}
	path, ok := w.paths[string(e.Path)]
	if !ok {
		path = lookUp(w.paths, e.Path, &w.table.Paths, model.ParsePath)
	}
	net := found{}
	if len(e.Network) > 0 {
		if net, ok = w.nets[string(e.Network)]; !ok {
			net = lookUp(w.nets, e.Network, &w.table.Nets, block)
		}
	}
	acting := found{}
	if len(e.ActingFor.Text) > 0 {
		if acting, ok = w.ids[0][string(e.ActingFor.Text)]; !ok || e.ActingFor.Kind != "" {
			acting = lookUp(w.ids[0], e.ActingFor.Text, &w.table.IDs, func(s string) (model.ID, error) { return identity(s, e.ActingFor.Kind) })
		}
	}
	for i, f := range [...]found{id, perm, path, net, acting} {
		if f.err != nil {
			return fmt.Errorf("%s: %w", [...]string{"caller", "operation", "path", "network", "acting for"}[i], f.err)
		}
	}
	if e.Time < auditlog.Earliest || e.Time > auditlog.Latest {
		return fmt.Errorf("time %d is not between 1990 and 2200 in milliseconds", e.Time)
	}
	hash := uint64(0)
	if len(e.ID) > 0 {
		hash = xxhash.Sum64(e.ID)
	} else {
		hash = xxhash.Sum64(w.record) // an event without an id is known by its whole text
	}
	hash += w.nth * 0x9E3779B97F4A7C15
	w.nth++
	d := usage.Day(e.Time / 86_400_000) // times are after 1970
	if !w.o.Seen.Add(d, hash) {
		w.repeated++
		return nil
	}
	w.events++
	w.table.Add(usage.RowKey{Identity: id.n, ActingFor: acting.n, Permission: perm.n, Path: path.n, Network: net.n, Outcome: usage.CodeOf(e.Outcome), SecondFactor: e.Factor}, e.Time)
	if len(w.unmapped) < maxUnmapped {
		if _, told := w.unmapped[perm.n]; !told && !w.o.Known(w.table.Perms.At(perm.n)) {
			w.unmapped[perm.n] = Unmapped{w.table.Perms.At(perm.n), strings.ToValidUTF8(string(w.record[:min(len(w.record), exampleSize)]), "?"), w.part0, w.line}
		}
	}
	return nil
}

func lookUp[T comparable](m map[string]found, text []byte, names *usage.Names[T], parse func(string) (T, error)) found {
	s := string(text)
	v, err := parse(s)
	f := found{err: err}
	if err == nil {
		names.Number(*new(T)) // number 0 stays the zero value's
		f.n = names.Number(v)
	}
	m[s] = f
	return f
}

// identity takes a name in the model's own form as it is; a plain one becomes one
// of its kind, or unknown.
func identity(s string, kind model.IdentityKind) (model.ID, error) {
	if s == "" || s == "anonymous" && kind == "" {
		return model.ID{Kind: model.Everyone}, nil
	}
	if kind == "" {
		if id, err := model.ParseID(s); err == nil {
			return id, nil
		}
		kind = model.Unknown
	} else if id, err := model.ParseID(s); err == nil && id.Source == "" {
		return id, nil
	}
	return model.ParseID(string(model.AppendEscaped([]byte(string(kind)+"/"), []byte(s))))
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

func block(s string) (netip.Prefix, error) {
	a, err := netip.ParseAddr(s)
	if err != nil {
		if ap, perr := netip.ParseAddrPort(s); perr == nil {
			a, err = ap.Addr(), nil
		}
	}
	return usage.Block(a), err
}
