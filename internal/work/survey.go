package work

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/auditlog/logmap"
	"clipfence/internal/config"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/yamlfile"
)

// RecordKinds are the kinds of record that a survey counts, in the order in which they are
// told.
var RecordKinds = []string{source.Nodes, source.Identities, source.Memberships, source.ActAs, source.Roles,
	source.Grants, source.Denials, source.Ceilings, source.Guardrails}

// SurveyResult is what surveying one source came to.
type SurveyResult struct {
	Row     SurveyRow
	Placed  *gauge.Placement // nil where no log was read
	Watched []*Reviewed      // drafts that are watched, with what they would have done so far
	Stale   []StaleLog
}

// Survey reads the access, and with logs the new part of the log, of every source in
// question, and tells of each when it is done. Interrupted, it keeps what is finished; the
// next one goes on there.
func (w *Workspace) Survey(ctx context.Context, noLogs bool, done func(SurveyResult)) error {
	sources, err := w.each()
	if err != nil {
		return err
	}
	var told []func() error
	tell := func(s config.Source, x SurveyResult) (err error) {
		start := time.Now()
		if !noLogs {
			if x.Placed, err = w.placed(ctx, s); err != nil {
				return err
			}
			x.Row.Calls = PlacedCallsOf(&x.Placed.Tally)
			if x.Stale, err = w.stale(ctx, s); err != nil {
				return err
			}
			if x.Watched, err = w.Shadows(ctx, s.Name); err != nil {
				return err
			}
		}
		x.Row.Seconds += time.Since(start).Seconds()
		done(x)
		return nil
	}
	for _, s := range sources {
		start := time.Now()
		var x SurveyResult
		x.Row, err = w.surveyOne(ctx, s)
		if err == nil && !noLogs {
			if err = w.readLogs(ctx, s, &x.Row); err == nil {
				err = w.trim(ctx, s)
			}
		}
		if err != nil {
			break
		}
		x.Row.Seconds = time.Since(start).Seconds()
		told = append(told, func() error { return tell(s, x) })
		if len(w.Links) == 0 { // else who called here may be known only once the others are surveyed
			if err = told[0](); err != nil {
				return err
			}
			told = nil
		}
	}
	for _, t := range told {
		if failed := t(); failed != nil {
			return errors.Join(err, failed)
		}
	}
	return err
}

// ReadAlso reads logs by hand into a source. It keeps no cursor: what was read before is
// Known by its events.
func (w *Workspace) ReadAlso(ctx context.Context, names []string) (*SurveyRow, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	var logs []string
	for _, n := range names {
		if n != "-" {
			if n, err = filepath.Abs(n); err != nil {
				return nil, err
			}
		}
		logs = append(logs, n)
	}
	if _, err := w.Surveyed(ctx, src); err != nil { // what its operations are must be known
		return nil, err
	}
	row := &SurveyRow{Source: src.Name}
	start := time.Now()
	if err := w.readFrom(ctx, src, w.files(src, logs), into{src.Name, false}, row); err != nil {
		return nil, err
	}
	row.Seconds = time.Since(start).Seconds()
	return row, nil
}

// RejectedLine is a line of a log that was set aside.
type RejectedLine struct {
	Source string `json:"source"`
	source.Reject
}

// RejectedSum says how many lines of a source's log were set aside, and how many of them are
// listed.
type RejectedSum struct {
	Source string
	Total  int64
	Listed int
}

// Rejected lists lines that were set aside, at most so many of a source.
func (w *Workspace) Rejected(ctx context.Context, most int) ([]RejectedLine, []RejectedSum, error) {
	sources, err := w.each()
	if err != nil {
		return nil, nil, err
	}
	rows := []RejectedLine{}
	var sums []RejectedSum
	for _, s := range sources {
		list, total, err := w.store.Rejected(ctx, s.Name, most)
		if err != nil {
			return nil, nil, err
		}
		for _, r := range list {
			rows = append(rows, RejectedLine{s.Name, r})
		}
		sums = append(sums, RejectedSum{s.Name, total, len(list)})
	}
	return rows, sums, nil
}

// SurveyRow is what a survey says about one source.
type SurveyRow struct {
	Source   string         `json:"source"`
	Survey   int64          `json:"survey"`
	Resumed  bool           `json:"resumed,omitempty"`
	Records  map[string]int `json:"records"`
	Faults   []string       `json:"faults,omitempty"`
	Lines    int            `json:"log_lines"`
	Events   int            `json:"new_events"`
	Repeated int            `json:"repeated_events"`
	Unmapped int            `json:"operations_not_in_the_catalogue"`
	Rejected int            `json:"rejected_lines"`
	LogFrom  time.Time      `json:"log_from,omitzero"`
	LogTo    time.Time      `json:"log_to,omitzero"`
	Seconds  float64        `json:"seconds"`
	Calls    PlacedCalls    `json:"calls" doc:"of all that is kept of its log"`
	Handed   []HandedOver   `json:"handed_over,omitempty" doc:"changes that somebody carries out by hand"`
}

// surveyOne reads what a source says about access, going on with an interrupted
// survey. A source that changes while it is read is read again.
func (w *Workspace) surveyOne(ctx context.Context, s config.Source) (SurveyRow, error) {
	row := SurveyRow{Source: s.Name}
	r, err := w.reader(ctx, s)
	if err != nil {
		return row, err
	}
	v, resume, err := w.store.Unfinished(ctx, s.Name)
	if err != nil {
		return row, err
	}
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	for try := 1; ; try++ {
		if !resume {
			if v, err = w.store.BeginSurvey(ctx, s.Name, w.Clock().UTC()); err != nil {
				return row, err
			}
		}
		row.Resumed = resume
		torn, n := false, 0
		for b, err := range r.Survey(ctx, v.Cursor) {
			if err != nil {
				return row, err
			}
			if v.Version != "" && b.Version != v.Version {
				torn = true
				break
			}
			if err := w.store.SaveBatch(ctx, v.ID, b); err != nil {
				return row, err
			}
			v.Version = b.Version
			n += len(b.Records)
			w.progress(Event{Source: s.Name, Doing: Surveying, Count: n})
		}
		if !torn {
			break
		}
		if try == 5 {
			return row, fmt.Errorf("source %s: %w five times while it was being read; try again when it is quieter",
				s.Name, source.ErrConflict)
		}
		w.Log.Info("source changed while it was read; reading it again", "source", s.Name)
		resume = false
	}
	if err := w.store.FinishSurvey(ctx, v.ID, w.Clock().UTC()); err != nil {
		return row, err
	}
	e, survey, err := w.store.Estate(ctx, s.Name, v.ID)
	if err != nil {
		return row, err
	}
	row.Survey = survey.ID
	row.Records = map[string]int{source.Permissions: len(e.Catalogue), source.Nodes: len(e.Nodes),
		source.Identities: len(e.Identities), source.Memberships: len(e.Memberships),
		source.ActAs: len(e.ActAs), source.Roles: len(e.Roles), source.Grants: len(e.Grants),
		source.Denials: len(e.Denials), source.Ceilings: len(e.Ceilings), source.Guardrails: len(e.Guardrails)}
	if err := e.Validate(); err != nil {
		row.Faults = strings.Split(err.Error(), "\n")
	}
	w.progress(Event{Source: s.Name, Doing: Indexing, Count: len(e.Nodes)})
	if _, err = w.keepIndex(ctx, s, survey, e); err != nil || s.Kind != "files" {
		return row, err
	}
	// A survey is a reading: whoever may not write the ledger, or finds it broken, reads all the same.
	var lerr error
	if row.Handed, lerr = w.lookForHanded(ctx, s, e); lerr != nil {
		w.say("remark: whether what was handed over is done cannot be recorded: %v", lerr)
	}
	return row, nil
}

func (w *Workspace) readLogs(ctx context.Context, s config.Source, row *SurveyRow) error {
	r, err := w.reader(ctx, s)
	if err != nil {
		return err
	}
	return w.readFrom(ctx, s, r, into{s.Name, true}, row)
}

// readFrom folds the log of a reader into the uses of a source, from the cursor on
// that was kept, or without one.
func (w *Workspace) readFrom(ctx context.Context, s config.Source, r source.Reader, to into, row *SurveyRow) error {
	began := w.Clock() // what comes while it is read may be missed
	state, err := w.store.LogState(ctx, to.name)
	if err != nil {
		return err
	}
	known, err := w.knownPermissions(ctx, s.Name)
	if err != nil {
		return err
	}
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	formats, err := w.logFormats(s)
	if err != nil {
		return err
	}
	version, err := w.mapsVersion(s)
	if err != nil {
		return err
	}
	gone, err := w.forgotten(ctx)
	if err != nil {
		return err
	}
	var means func(model.ID) model.ID
	if len(gone) > 0 {
		if means, err = w.means(ctx, s); err != nil {
			return err
		}
	}
	o := fold.Options{Formats: formats, Known: known, Seen: w.store.Seen(ctx, to.name),
		Progress: func(bytes int64, records int) {
			w.progress(Event{Source: s.Name, Doing: Reading, Count: records, Bytes: bytes})
		}}
	if !to.cursor {
		state.Cursor = ""
	}
	// Folding makes much garbage for a short time; what stays is small.
	defer debug.SetGCPercent(debug.SetGCPercent(60))
	for b, err := range fold.Run(ctx, ahead(ctx, r.Logs, state.Cursor), o) {
		if err != nil {
			return err
		}
		if !to.cursor {
			b.Cursor = ""
		}
		b.Maps, b.ByHand = version, !to.cursor
		if err = w.dropForgotten(b, gone, means); err != nil {
			return err
		}
		// An interrupt keeps what is folded: the next survey goes on there.
		if err := w.store.SaveFold(context.WithoutCancel(ctx), to.name, b); err != nil {
			return err
		}
		row.Lines += b.Records
		row.Events += b.Events
		row.Repeated += b.Repeated
		row.Unmapped += len(b.Unmapped)
	}
	if to.cursor && to.name == s.Name { // what is read by hand is a piece
		if err := w.store.LogRead(ctx, s.Name, began); err != nil {
			return err
		}
	}
	if err := w.store.Compact(ctx, to.name); err != nil {
		return err
	}
	if state, err = w.store.LogState(ctx, s.Name); err != nil {
		return err
	}
	row.LogFrom, row.LogTo, row.Rejected = state.First, state.Last, int(state.Rejected)
	return nil
}

// knownPermissions answers which permissions the newest survey of a source lists.
func (w *Workspace) knownPermissions(ctx context.Context, src string) (func(model.Permission) bool, error) {
	e, _, err := w.store.Estate(ctx, src, 0)
	if err != nil {
		return nil, err
	}
	known := make(map[model.Permission]bool, len(e.Catalogue))
	for _, c := range e.Catalogue {
		known[c.Permission] = true
	}
	return func(p model.Permission) bool { return known[p] }, nil
}

// logFormats are the formats that the log of a source is tried in: those that are
// known, and its log maps.
func (w *Workspace) logFormats(s config.Source) (func() []auditlog.Format, error) {
	var zone *time.Location
	if s.LogZone != "" {
		var err error
		if zone, err = time.LoadLocation(s.LogZone); err != nil {
			return nil, fmt.Errorf("source %s: log_zone: %w (want a name of the IANA list, such as Europe/Oslo)",
				s.Name, err)
		}
	}
	var maps []func() auditlog.Format
	for _, name := range s.LogMaps {
		name = w.Path(name)
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("source %s: log_maps: %w", s.Name, err)
		}
		m := &logmap.Map{}
		if err := yamlfile.Decode(name, data, m); err != nil {
			return nil, err
		}
		make, err := m.Compile()
		if err != nil {
			return nil, err
		}
		w.remark(m.Remarks...)
		maps = append(maps, make)
	}
	return formats.For(s.Name, zone, maps...), nil
}

// ahead reads a few parts ahead of whoever folds them, so that fetching and
// folding overlap.
func ahead(ctx context.Context, logs func(context.Context, string) iter.Seq2[fold.Part, error],
	cursor string) iter.Seq2[fold.Part, error] {
	type item struct {
		p   fold.Part
		err error
	}
	return func(yield func(fold.Part, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		ch := make(chan item, 4)
		done := make(chan struct{})
		go func() {
			defer close(done)
			defer close(ch)
			for p, err := range logs(ctx, cursor) {
				select {
				case ch <- item{p, err}:
				case <-ctx.Done():
					return
				}
			}
		}()
		defer func() { cancel(); <-done }()
		for it := range ch {
			if !yield(it.p, it.err) {
				return
			}
		}
		if err := ctx.Err(); err != nil { // cut short, not finished
			yield(fold.Part{}, err)
		}
	}
}

// into says where a log is folded to.
type into struct {
	name   string // of the source, or what is kept beside it
	cursor bool   // from its cursor on; else as something read by hand
}
