package work

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"os"
	"os/user"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/ledger"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
	"clipfence/internal/source/bridge"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

// Options say how a workspace is opened, and who hears of what happens. Only Folder and Clock
// must be given.
type Options struct {
	Folder string           // of the workspace, or one below it
	Only   string           // the source in question, where there are several
	Clock  func() time.Time // what changes something happens at its time
	AsOf   time.Time        // questions are answered for this time; zero: for the clock's
	In     io.Reader        // what a log file named "-" is read from
	Log    *slog.Logger     // what a developer may want to know
	Events func(Event)      // what people may want to know while they wait
	Hide   func(token string)
	// Passphrase asks somebody for the passphrase of a key file; nil: nobody can be asked.
	Passphrase func(file string) ([]byte, error)
	// Closing says that the work takes an elevation away: it goes on over a store that
	// cannot be written.
	Closing bool
	// Asking says that nothing is changed, neither here nor in a source: a store that cannot be written is
	// read.
	Asking bool
}

// Event is something that whoever waits may want to know: a remark, or how far long work has
// come. Events come one at a time, from the goroutine that called.
type Event struct {
	Remark string // a sentence; else it is progress
	Source string
	Doing  Doing
	Count  int   // of what is counted, so far
	Of     int   // how much there is in all, where it is known
	Bytes  int64 // of logs, so far
}

// Doing is what long work is at.
type Doing string

// Thinks reports whether somebody who interrupts it has to wait for its end: the heart works things out on what is in
// memory, and asks nobody whether it is to go on. Nothing is lost where it is left alone.
func (d Doing) Thinks() bool {
	return slices.Contains([]Doing{Measuring, Reaching, Crediting, Judging, Looking, Learning}, d)
}

const (
	Surveying Doing = "surveying" // Count: records
	Indexing  Doing = "indexing"  // Count: nodes
	Reading   Doing = "reading"   // Count: log lines
	Awaiting  Doing = "awaiting"  // Count: logs of which no event has come
	Trying    Doing = "trying"    // Count, Of: ways to narrow
	Drafting  Doing = "drafting"  // Count, Of: identities
	Weighing  Doing = "weighing"  // Count, Of: fences
	Measuring Doing = "measuring" // Of: identities whose holdings are measured
	Reaching  Doing = "reaching"  // Count, Of: identities whose reach is
	Crediting Doing = "crediting" // Of: uses
	Judging   Doing = "judging"   // Of: grants
	Looking   Doing = "looking"   // for findings; Of: grants
	Learning  Doing = "learning"  // Count, Of: identities, as many as are enough
	Keeping   Doing = "keeping"   // what drafts look at; Count, Of: identities
	Finished  Doing = "finished"  // with what went on
)

// Workspace is an opened workspace: every use case is one of its methods. It is used by one
// goroutine at a time.
type Workspace struct {
	*config.Config
	Options
	store  *store.Store
	ledger *ledger.Ledger

	thorough bool            // every signature of the ledger is checked, also what was checked before
	told     map[string]bool // remarks that are made once
	partly   bool            // a comparison could not read something that it looks at, and said so
	room     int64           // bytes that comparisons take at most, see perUse
	closers  []func() error
	known    sync.Map // *files.Known of sources that are changed here, by name
}

// Open finds and opens a workspace; close it when done.
func Open(ctx context.Context, o Options) (*Workspace, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Hide == nil {
		o.Hide = func(string) {}
	}
	c, err := config.Find(o.Folder)
	if err != nil {
		return nil, err
	}
	w := &Workspace{Config: c, Options: o, told: map[string]bool{}}
	w.store, err = store.Open(ctx, c.StoreFile())
	switch {
	case !errors.Is(err, store.ErrUnwritable):
	case o.Closing: // closing comes first
		w.say("remark: %v; it is read only, and what is due is closed all the same", err)
		w.store, err = store.OpenToRead(ctx, c.StoreFile(), false)
	case o.Asking: // whoever audits may read, and no more
		if there, rerr := store.OpenToRead(ctx, c.StoreFile(), true); rerr == nil {
			w.say("remark: %s cannot be written; questions are answered all the same", c.StoreFile())
			w.store, err = there, nil
		} else {
			err = errors.Join(err, rerr)
		}
	}
	if err != nil {
		return nil, err
	}
	if w.store.Before != "" {
		w.say("This workspace was made by an earlier version and was brought up to date; its store as it was: %s",
			w.store.Before)
	}
	w.remark(c.Remarks...)
	w.ledger = &ledger.Ledger{File: c.LedgerFile(), Book: w.store, Now: o.Clock, By: systemUser(),
		NewKey:  func() (ed25519.PrivateKey, error) { return w.ledgerKey(ctx) },
		Vouched: func(k ledger.KeyEntry) error { return w.vouched(ctx, k) }}
	return w, nil
}

// now is the time that questions are answered for.
func (w *Workspace) now() time.Time {
	if !w.AsOf.IsZero() {
		return w.AsOf
	}
	return w.Clock().UTC()
}

// say makes a remark.
func (w *Workspace) say(format string, args ...any) {
	if w.Events != nil {
		w.Events(Event{Remark: fmt.Sprintf(format, args...)})
	}
}

// progress tells how far long work has come.
func (w *Workspace) progress(e Event) {
	if w.Events != nil {
		w.Events(e)
	}
}

// remark tells what to write otherwise now in a file that was read all the same.
func (w *Workspace) remark(rs ...model.Remark) {
	for _, r := range rs {
		if text := r.String(); !w.told[text] { // a file may be read a few times
			w.told[text] = true
			w.say("remark: %s", text)
		}
	}
}

func (w *Workspace) Close() error { return errors.Join(w.closeSince(0), w.store.Close()) }

// closeSince closes what was opened since there were so many.
func (w *Workspace) closeSince(n int) (err error) {
	for _, c := range w.closers[n:] {
		err = errors.Join(err, c())
	}
	w.closers = w.closers[:n]
	return err
}

// systemUser is the operating system's user, by the id of the process and not by what its
// environment says.
func systemUser() string {
	if runtime.GOOS == "windows" {
		if u, err := user.Current(); err == nil {
			return u.Username
		}
		return "unknown"
	}
	id := strconv.Itoa(os.Getuid())
	if u, err := user.LookupId(id); err == nil {
		return u.Username
	}
	return "user " + id
}

// reader connects a source for reading.
func (w *Workspace) reader(ctx context.Context, s config.Source) (source.Reader, error) {
	if s.Kind == "files" {
		return w.files(s, s.Logs), nil
	}
	c, err := w.client(ctx, s, s.Token)
	if err != nil {
		return nil, err
	}
	return bridge.Reader{Client: c}, nil
}

// files reads a files source with some logs.
func (w *Workspace) files(s config.Source, logs []string) *files.Reader {
	r := &files.Reader{Name: s.Name, Estate: w.Path(s.Estate), Stdin: w.In,
		Remark: func(m model.Remark) { w.remark(m) }, Known: w.knownOf(s)}
	for _, l := range logs {
		if l != "-" {
			l = w.Path(l)
		}
		r.LogFiles = append(r.LogFiles, l)
	}
	return r
}

// knownOf returns what a source that is files said when it was looked at last; nil where it is not changed here.
func (w *Workspace) knownOf(s config.Source) *files.Known {
	k, _ := w.known.Load(s.Name)
	known, _ := k.(*files.Known)
	return known
}

// changer connects a source for changing.
func (w *Workspace) changer(ctx context.Context, s config.Source) (source.Changer, error) {
	if s.Kind == "files" {
		w.known.LoadOrStore(s.Name, &files.Known{})
		return files.Changer{Reader: w.files(s, nil)}, nil
	}
	if s.ChangeToken.IsZero() {
		return nil, fmt.Errorf("source %s names no change_token in %s: %w", s.Name, w.Path(config.File),
			source.ErrReadOnly)
	}
	c, err := w.client(ctx, s, s.ChangeToken)
	if err != nil {
		return nil, err
	}
	return bridge.Changer{Client: c}, nil
}

func (w *Workspace) client(ctx context.Context, s config.Source, secret config.Secret) (*bridge.Client, error) {
	token, err := secret.Get(ctx, w.Dir)
	if err != nil {
		return nil, fmt.Errorf("source %s: token: %w", s.Name, err)
	}
	w.Hide(token)
	o := bridge.Options{Name: s.Name, URL: s.URL, Token: token, Log: w.Log}
	if s.CA != "" {
		if o.CA, err = os.ReadFile(w.Path(s.CA)); err != nil {
			return nil, fmt.Errorf("source %s: ca: %w", s.Name, err)
		}
	}
	return bridge.NewClient(o)
}

// pick returns the source that a command is about: the one an identity names, the
// one --source names, or the only one.
func (w *Workspace) pick(named string) (config.Source, error) {
	if named != "" && w.Only != "" && named != w.Only {
		return config.Source{}, fmt.Errorf("the identity is of source %q, --source says %q", named, w.Only)
	}
	if named == "" {
		named = w.Only
	}
	return w.Source(named)
}

// each returns the sources that a command is about: the named one, or all.
func (w *Workspace) each() ([]config.Source, error) {
	if w.Only == "" && len(w.Sources) > 0 {
		return w.Sources, nil
	}
	s, err := w.Source(w.Only)
	return []config.Source{s}, err
}

// estate reads a source as it was surveyed; 0 is its newest survey.
func (w *Workspace) estate(ctx context.Context, s config.Source, id int64) (*model.Estate, store.Survey, error) {
	e, survey, err := w.store.Estate(ctx, s.Name, id)
	switch {
	case errors.Is(err, store.ErrNone) && id == 0:
		err = fmt.Errorf("source %s was not surveyed yet; run: clipfence survey", s.Name)
	case errors.Is(err, store.ErrNone):
		err = fmt.Errorf("source %s keeps no survey %d (see: clipfence survey list)", s.Name, id)
	}
	return e, survey, err
}

func (w *Workspace) weights() gauge.Weights {
	d := gauge.DefaultWeights
	for l, v := range map[model.Level]float64{model.See: w.Weights.See, model.Read: w.Weights.Read,
		model.Change: w.Weights.Change, model.Administer: w.Weights.Administer, model.HandOut: w.Weights.HandOut} {
		if v > 0 {
			d[l] = v
		}
	}
	return d
}

// GaugedFor picks the source of an identity, or the only one where who is "", compares
// its grants with its uses, and sees to it that the estate lists the identity. What is told of one identity may be
// what the last comparison of everybody told of it, which keeps no uses: see [gauge.Retell].
func (w *Workspace) GaugedFor(ctx context.Context, who string, window config.Duration) (id model.ID, s *Source,
	in *gauge.Input, res *gauge.Result, err error) {
	id, src, err := w.about(who)
	if err != nil {
		return id, nil, nil, nil, err
	}
	if s, err = w.Surveyed(ctx, src); err != nil {
		return id, nil, nil, nil, err
	}
	if who == "" {
		in, res, err = w.tellAll(ctx, s, window)
		return id, s, in, res, err
	}
	if err = s.Known(id); err != nil {
		return id, s, nil, nil, err
	}
	if in, res, err = w.retold(ctx, s, id, window); res == nil && err == nil {
		s, in, res, err = w.gaugedOf(ctx, s, window, looking{measured: func(of model.ID) bool { return of == id }})
	}
	return id, s, in, res, err
}

// about reads an identity argument, "" for nobody, and returns the source that it is about.
func (w *Workspace) about(who string) (id model.ID, src config.Source, err error) {
	named := ""
	if who != "" {
		if id, named, err = SplitID(who); err != nil {
			return id, src, err
		}
	}
	src, err = w.pick(named)
	return id, src, err
}

// days returns how many days a window has; 0 stands for that of clipfence.yaml.
func (w *Workspace) days(window config.Duration) int {
	if window == 0 {
		window = w.Window
	}
	return int(time.Duration(window).Hours() / 24)
}

// looking says what of a comparison is worked out.
type looking struct {
	// paths says of which grants it is kept on which paths they were used, as drafts need it; nil: of none.
	paths    func(*model.Grant) bool
	measured func(model.ID) bool // whose holdings and reach are measured; nil: everybody's
	spent    bool                // the uses are not looked at after
}

var (
	everyPath  = looking{paths: func(*model.Grant) bool { return true }}
	noPaths    = looking{}
	unmeasured = looking{measured: func(model.ID) bool { return false }}
	counted    = looking{spent: true}
	shapes     = looking{measured: unmeasured.measured, spent: true}
)

// Of a source with more uses than this, the garbage collector gets less room: a quarter of what is
// kept, in place of as much again. Where no paths are kept it gets less than that near what a
// comparison takes at most: so many bytes for each byte of the index, and for each use.
const (
	manyUses = 1_000_000
	largeGC  = 25
	draftGC  = 15 // what is known of the past is far more than what a draft works with
	perByte  = 8
	perUse   = 160
)

// gauged compares a source's grants with its uses.
func (w *Workspace) gauged(ctx context.Context, src config.Source, window config.Duration,
	what looking) (*Source, *gauge.Input, *gauge.Result, error) {
	s, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, nil, nil, err
	}
	return w.gaugedOf(ctx, s, window, what)
}

// gaugedOf compares what is in force of a source with its uses.
func (w *Workspace) gaugedOf(ctx context.Context, s *Source, window config.Duration,
	what looking) (*Source, *gauge.Input, *gauge.Result, error) {
	uses, _, err := w.uses(ctx, s)
	if err != nil {
		return nil, nil, nil, err
	}
	in, res, err := w.gaugedWith(ctx, s, uses, window, what)
	return s, in, res, err
}

// gaugedWith compares what is in force of a source with some uses.
func (w *Workspace) gaugedWith(ctx context.Context, s *Source, uses *usage.Uses, window config.Duration,
	what looking) (*gauge.Input, *gauge.Result, error) {
	in, err := w.input(ctx, s, uses, window, nil)
	if err != nil {
		return nil, nil, err
	}
	in.Paths, in.Measured, in.Spent = what.paths, what.measured, what.spent
	if what.paths == nil {
		in.Paths = func(*model.Grant) bool { return false }
	}
	if in.Since, err = w.grantedSince(ctx, s); err != nil {
		return nil, nil, err
	}
	w.room += int64(perByte*s.Size()) + int64(perUse*uses.Len())
	switch {
	case what.paths != nil: // drafts learn, and take what they take
		debug.SetMemoryLimit(math.MaxInt64)
		if uses.Len() > manyUses {
			debug.SetGCPercent(draftGC)
		}
	case uses.Len() > manyUses: // of several sources one may be kept while another is compared
		debug.SetMemoryLimit(w.room)
		debug.SetGCPercent(100) // as long as there is room
	}
	in.At = func(at gauge.Stage, done, of int) {
		if of == 0 {
			return
		}
		w.progress(Event{Source: s.Name, Doing: stages[at], Count: done, Of: of})
	}
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	res := gauge.Run(in)
	return in, res, ctx.Err() // what was interrupted is not all
}

// input gathers what a comparison of some uses with what is in force looks at; of uses of a few, with what is kept of
// all.
func (w *Workspace) input(ctx context.Context, s *Source, uses *usage.Uses, window config.Duration,
	kept *fewHead) (*gauge.Input, error) {
	logs, err := w.store.LogState(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	cover := s.logs(usage.Read{First: logs.First, Ends: logs.Reads, Until: w.now()})
	if kept == nil {
		s.observe(cover, uses)
	} else {
		seen, err := kept.observed()
		if err != nil {
			return nil, err
		}
		cover.Take(seen)
	}
	in := &gauge.Input{Index: s.Index, Uses: uses, Coverage: cover, AsOf: w.now(), Window: w.days(window),
		History: cover.Begin(), Protected: w.ProtectedIn(s.Name), Weights: w.weights()}
	in.Place, err = w.placing(ctx, s, uses, kept)
	return in, err
}

// stages say what a comparison is at.
var stages = [...]Doing{gauge.Holding: Measuring, gauge.Reaching: Reaching, gauge.Crediting: Crediting,
	gauge.Judging: Judging, gauge.Learning: Learning}

// covered returns what the logs of a source would have shown, as they were read, and as far as somebody says
// when and where nobody worked.
func (s *Source) covered(uses *usage.Uses, read usage.Read) *usage.Coverage {
	cover := s.logs(read)
	s.observe(cover, uses)
	return cover
}

// logs does what covered does, but for what uses show of it.
func (s *Source) logs(read usage.Read) *usage.Coverage {
	read.Over = s.Source.Over
	for _, q := range s.Source.Quiet {
		if from, to, err := q.Days(); err == nil { // as the configuration was checked
			read.Quiet = append(read.Quiet, usage.Quiet{On: q.On, Service: q.Service, From: usage.DayOf(from),
				To: usage.DayOf(to)})
		}
	}
	return usage.NewCoverage(s.Coverage(), read)
}

// observe looks at uses for what the logs of a source really held.
func (s *Source) observe(cover *usage.Coverage, uses *usage.Uses) {
	cover.Observe(uses, func(p model.Permission) string { e, _ := s.Entry(p); return e.LogClass }, s.looks(),
		s.writerRefused)
}

// looks returns which logs, by service and class, show looking only.
func (s *Source) looks() func(service, class string) bool {
	type log struct{ service, class string }
	most := map[log]model.Level{}
	for i := range s.Numbers() {
		c := s.Permission(i)
		k := log{c.Permission.Service(), c.LogClass}
		most[k] = max(most[k], c.Weighs())
	}
	return func(service, class string) bool {
		l, listed := most[log{service, class}]
		return listed && l <= model.Read
	}
}

// writerRefused reports whether the writer of a log is not allowed to write it.
func (s *Source) writerRefused(r model.CoverageRecord) bool {
	return !r.Writer.IsZero() && !r.WriterNeeds.IsZero() &&
		s.Decide(r.Writer, r.WriterNeeds, r.Node, model.Context{}).Outcome == access.Denied
}

// resolver brings the names of a source's logs to those of its estate.
func (w *Workspace) resolver(s *Source) (*usage.Resolver, error) {
	var ops []usage.Operation
	if s.Operations != "" {
		name := w.Path(s.Operations)
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("source %s: operations: %w", s.Name, err)
		}
		if ops, err = config.ParseOperations(name, data); err != nil {
			return nil, err
		}
	}
	return usage.NewResolver(s.Index, w.aliases(s.Source), ops, s.Source.Moved), nil
}

// aliases returns what names in the log of a source mean, as clipfence.yaml says.
func (w *Workspace) aliases(s config.Source) []usage.Alias {
	aliases := slices.Clone(s.Aliases)
	for _, l := range w.Links { // the same person here and there
		for _, pair := range [][2]model.ID{{l.A, l.B}, {l.B, l.A}} {
			if pair[0].Source == s.Name && pair[1].Source != s.Name {
				other := pair[1]
				other.Source = ""
				aliases = append(aliases, usage.Alias{Log: other.String(), Is: pair[0]})
			}
		}
	}
	return aliases
}

// same returns of whom in a source it is said whom of others it is the same as.
func (w *Workspace) same(name string) map[model.ID][]model.ID {
	out := map[model.ID][]model.ID{}
	for _, l := range w.Links {
		for _, pair := range [][2]model.ID{{l.A, l.B}, {l.B, l.A}} {
			here := pair[0].In(name)
			if here.Source == "" && here.Kind != model.Group && pair[1].Source != name {
				out[here] = append(out[here], pair[1])
			}
		}
	}
	return out
}

// uses returns the uses of a source in the words of its estate.
func (w *Workspace) uses(ctx context.Context, s *Source) (*usage.Uses, *usage.Resolver, error) {
	r, err := w.resolver(s)
	if err != nil {
		return nil, nil, err
	}
	if n, err := w.store.Rows(ctx, s.Name); err == nil && n > manyUses {
		debug.SetGCPercent(largeGC) // what is kept stays, and what is worked with goes soon
	}
	uses, err := w.store.Uses(ctx, s.Name)
	if err != nil {
		return nil, nil, err
	}
	listed := s.Listed()
	explains := func(u *usage.Use) bool {
		return listed.Decide(u.Principal(), u.Permission, u.Path, u.Context()).Outcome != access.Denied
	}
	uses = usage.Same(usage.Settle(r.Uses(uses), explains), w.same(s.Name), explains)
	if !w.AsOf.IsZero() { // asked about the past: nothing after that day is known yet
		uses = uses.Cut(math.MinInt32, usage.DayOf(w.AsOf))
	}
	return uses, r, nil
}

// History reads the ledger and the changes it tells of.
func (w *Workspace) History(ctx context.Context) ([]ledger.Entry, []*change.Record, error) {
	if p, err := w.pins(); err == nil && !w.thorough {
		w.ledger.Verified = ledger.Head{Number: p.Checked, Hash: p.Hash}
	}
	entries, err := w.ledger.Read(ctx)
	if err == nil {
		err = w.pinnedKeys(ctx, entries)
	}
	if err != nil {
		return entries, nil, err
	}
	h, err := change.History(entries)
	return entries, h, err
}

// settle is how long a source may take at least to show a grant for the first time.
const settle = 10 * time.Second

func (w *Workspace) keeper(ctx context.Context) *patrol.Keeper {
	id, err := w.store.Workspace(ctx)
	if err != nil {
		id = "" // nothing is told apart then; closing comes first
	}
	return &patrol.Keeper{Workspace: id, Requests: w.store, Ledger: w.ledger,
		Now: func() time.Time { return w.Clock().UTC() }, Wait: time.Duration(w.Wait),
		Settle: max(time.Duration(w.Wait), settle),
		Changer: func(ctx context.Context, src string) (source.Changer, error) {
			s, err := w.Source(src)
			if err != nil {
				return nil, err
			}
			return w.changer(ctx, s)
		}}
}

// SplitID reads an identity argument and takes its source off.
func SplitID(arg string) (id model.ID, src string, err error) {
	id, err = model.ParseID(arg)
	src = id.Source
	id.Source = ""
	return id, src, err
}
