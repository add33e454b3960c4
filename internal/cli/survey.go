package cli

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

	"github.com/spf13/cobra"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/auditlog/logmap"
	"clipfence/internal/config"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/source"
	"clipfence/internal/yamlfile"
)

func (a *app) surveyCmd() *cobra.Command {
	var rejected, noLogs bool
	var read []string
	var again bool
	var anew reread
	cmd := &cobra.Command{
		Use: "survey", Short: "Read who has what, and the new part of the logs", Args: cobra.NoArgs,
		Long: `Read nodes, identities, roles, grants, denials, ceilings, guardrails and
memberships of every source, and the part of its log that is new. An interrupted
survey goes on where it stopped; no event is counted twice, however often it is
read. Lines that cannot be read are set aside and counted: --show-rejected lists
them.

After a log map was mended, --reread counts the log anew, from its beginning, and puts
the new counts in the place of the old ones all at once at the end: interrupted, it has
changed nothing. With --file or --days only the days of these files, or these days,
are counted anew. A day of which not every counted call is found again stays as it is
and is marked; see: clipfence survey list.`,
		Example: "  clipfence survey\n  clipfence survey --reread --days 2026-09-01..2026-09-30\n  clipfence survey --show-rejected\n  clipfence survey --read old-logs/2026-0*.jsonl.gz\n  clipfence survey --read -",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				sources, err := w.each()
				if err != nil {
					return err
				}
				if (len(anew.files) > 0 || anew.days != "" || anew.anyway) && !again {
					return errors.New("--file, --days and --anyway say what to read anew: give --reread too (to read more files: --read)")
				}
				if again {
					s, err := w.pick("")
					if err != nil {
						return err
					}
					return w.readAnew(cmd.Context(), s, anew)
				}
				if rejected {
					return w.showRejected(cmd.Context(), sources)
				}
				if len(read) > 0 {
					return w.readAlso(cmd.Context(), read)
				}
				return w.survey(cmd.Context(), sources, noLogs)
			})
		},
	}
	cmd.Flags().BoolVar(&rejected, "show-rejected", false, "list the log lines that were set aside, and read nothing")
	cmd.Flags().BoolVar(&noLogs, "no-logs", false, "read the access only")
	cmd.Flags().StringArrayVar(&read, "read", nil, "read these log files, folders or globs, or - for standard input, into a source that was surveyed, and nothing else")
	cmd.Flags().BoolVar(&again, "reread", false, "count the log anew with the log maps of now, and swap it in at the end")
	cmd.Flags().StringArrayVar(&anew.files, "file", nil, "with --reread: only the days of these log files")
	cmd.Flags().StringVar(&anew.days, "days", "", "with --reread: only these days, FROM..TO, both included (UTC)")
	cmd.Flags().BoolVar(&anew.anyway, "anyway", false, "with --reread: also days on which not every call is found again, if their files have no fewer lines")
	cmd.MarkFlagsMutuallyExclusive("reread", "read", "no-logs", "show-rejected")
	cmd.AddCommand(a.surveyList(), a.surveyCompare())
	return cmd
}

// surveyRow is what a survey says about one source.
type surveyRow struct {
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
	Calls    placedRow      `json:"calls" doc:"of all that is kept of its log"`
}

func (w *workspace) survey(ctx context.Context, sources []config.Source, noLogs bool) error {
	var rows []surveyRow
	d := &render.Doc{}
	for _, s := range sources {
		start := time.Now()
		row, err := w.surveyOne(ctx, s)
		if err == nil && !noLogs {
			err = w.readLogs(ctx, s, &row)
		}
		if err != nil {
			return err
		}
		if !noLogs {
			placed, err := w.placed(ctx, s)
			if err != nil {
				return err
			}
			row.Calls = placedRowOf(&placed.Tally)
			stale, err := w.stale(ctx, s)
			if err != nil {
				return err
			}
			if note := staleNote(stale); note != "" {
				d.Notes = append(d.Notes, note)
			}
			d.Lines = append(d.Lines, placedLines(placed)...)
		}
		row.Seconds = time.Since(start).Seconds()
		rows = append(rows, row)
		t := render.Table{Columns: []render.Column{{Name: "READ"}, {Name: "COUNT", Right: true}, {Name: "", Wrap: true}}}
		for _, k := range []string{source.Nodes, source.Identities, source.Memberships, source.ActAs, source.Roles, source.Grants, source.Denials, source.Ceilings, source.Guardrails} {
			t.Row(render.C(k), render.C(render.Count(row.Records[k])), render.C(""))
		}
		if !noLogs {
			span := "the log is empty"
			if !row.LogFrom.IsZero() {
				span = "log from " + row.LogFrom.Format(time.DateOnly) + " to " + row.LogTo.Format(time.DateOnly)
			}
			t.Row(render.C("log lines"), render.C(render.Count(row.Lines)), render.C(span))
			t.Row(render.C("new events"), render.C(render.Count(row.Events)), render.C(""))
		}
		d.Tables = append(d.Tables, t)
		for i, f := range row.Faults {
			if i == 5 {
				d.Notes = append(d.Notes, fmt.Sprintf("... and %d more faults (--format json lists them)", len(row.Faults)-i))
				break
			}
			d.Notes = append(d.Notes, "Fault in "+s.Name+": "+f)
		}
		if row.Rejected > 0 {
			d.Notes = append(d.Notes, fmt.Sprintf("%s of %s set aside: they could not be read. See: clipfence survey --show-rejected", render.Plural(row.Rejected, "log line"), s.Name))
		}
		if ahead := row.LogTo.Sub(w.app.clock()); ahead > 10*time.Minute {
			d.Notes = append(d.Notes, fmt.Sprintf("The newest event of %s is of %s, ahead of this machine's clock: a clock is wrong, here or there. What lies ahead counts once its time has come.", s.Name, row.LogTo.Format(time.RFC3339)))
		}
		d.Head += fmt.Sprintf("%s surveyed in %.1f s", s.Name, row.Seconds)
		if row.Resumed {
			d.Head += " (went on with an interrupted survey)"
		}
		d.Head += ". "
	}
	d.Head = strings.TrimSuffix(d.Head, " ")
	d.Value = rows
	d.Next = []string{"clipfence coverage", "clipfence findings"}
	return w.app.print(d)
}

// surveyOne reads what a source says about access, going on with an interrupted
// survey. A source that changes while it is read is read again.
func (w *workspace) surveyOne(ctx context.Context, s config.Source) (surveyRow, error) {
	row := surveyRow{Source: s.Name}
	r, err := w.reader(ctx, s)
	if err != nil {
		return row, err
	}
	v, resume, err := w.store.Unfinished(ctx, s.Name)
	if err != nil {
		return row, err
	}
	progress := w.app.progress()
	defer progress("")
	for try := 1; ; try++ {
		if !resume {
			if v, err = w.store.BeginSurvey(ctx, s.Name, w.app.clock().UTC()); err != nil {
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
			progress("%s: %s read", s.Name, render.Plural(n, "record"))
		}
		if !torn {
			break
		}
		if try == 5 {
			return row, fmt.Errorf("source %s: %w five times while it was being read; try again when it is quieter", s.Name, source.ErrConflict)
		}
		w.app.log.Info("source changed while it was read; reading it again", "source", s.Name)
		resume = false
	}
	if err := w.store.FinishSurvey(ctx, v.ID, w.app.clock().UTC()); err != nil {
		return row, err
	}
	e, survey, err := w.store.Estate(ctx, s.Name, v.ID)
	if err != nil {
		return row, err
	}
	row.Survey = survey.ID
	row.Records = map[string]int{source.Permissions: len(e.Catalogue), source.Nodes: len(e.Nodes), source.Identities: len(e.Identities), source.Memberships: len(e.Memberships),
		source.ActAs: len(e.ActAs), source.Roles: len(e.Roles), source.Grants: len(e.Grants), source.Denials: len(e.Denials), source.Ceilings: len(e.Ceilings), source.Guardrails: len(e.Guardrails)}
	if err := e.Validate(); err != nil {
		row.Faults = strings.Split(err.Error(), "\n")
	}
	progress("%s: indexing %s", s.Name, render.Plural(len(e.Nodes), "node"))
	_, err = w.keepIndex(ctx, s, survey, e)
	return row, err
}

// readAlso reads logs by hand into a source. It keeps no cursor: what was read
// before is known by its events.
func (w *workspace) readAlso(ctx context.Context, names []string) error {
	src, err := w.pick("")
	if err != nil {
		return err
	}
	var logs []string
	for _, n := range names {
		if n != "-" {
			if n, err = filepath.Abs(n); err != nil {
				return err
			}
		}
		logs = append(logs, n)
	}
	if _, err := w.surveyed(ctx, src); err != nil { // what its operations are must be known
		return err
	}
	row := surveyRow{Source: src.Name}
	start := time.Now()
	r := w.files(src, logs)
	r.Strict = true
	if err := w.readFrom(ctx, src, r, into{src.Name, false}, &row); err != nil {
		return err
	}
	row.Seconds = time.Since(start).Seconds()
	d := &render.Doc{Head: fmt.Sprintf("%s read into %s in %.1f s: %s, %s counted before", render.Plural(row.Lines, "log line"), src.Name, row.Seconds, render.Plural(row.Events, "new event"), render.Count(row.Repeated)), Value: []surveyRow{row}, Next: []string{"clipfence coverage"}}
	if row.Rejected > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s of %s set aside so far. See: clipfence survey --show-rejected", render.Plural(row.Rejected, "log line"), src.Name))
	}
	return w.app.print(d)
}

func (w *workspace) readLogs(ctx context.Context, s config.Source, row *surveyRow) error {
	r, err := w.reader(ctx, s)
	if err != nil {
		return err
	}
	return w.readFrom(ctx, s, r, into{s.Name, true}, row)
}

// readFrom folds the log of a reader into the uses of a source, from the cursor on
// that was kept, or without one.
func (w *workspace) readFrom(ctx context.Context, s config.Source, r source.Reader, to into, row *surveyRow) error {
	began := w.app.clock() // what comes while it is read may be missed
	state, err := w.store.LogState(ctx, to.name)
	if err != nil {
		return err
	}
	known, err := w.knownPermissions(ctx, s.Name)
	if err != nil {
		return err
	}
	progress := w.app.progress()
	defer progress("")
	formats, err := w.logFormats(s)
	if err != nil {
		return err
	}
	version, err := w.mapsVersion(s)
	if err != nil {
		return err
	}
	o := fold.Options{Formats: formats, Known: known, Seen: w.store.Seen(ctx, to.name),
		Progress: func(bytes int64, records int) {
			progress("%s: %s log lines read (%d MB)", s.Name, render.Count(records), bytes/1e6)
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
func (w *workspace) knownPermissions(ctx context.Context, src string) (func(model.Permission) bool, error) {
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
func (w *workspace) logFormats(s config.Source) (func() []auditlog.Format, error) {
	var zone *time.Location
	if s.LogZone != "" {
		var err error
		if zone, err = time.LoadLocation(s.LogZone); err != nil {
			return nil, fmt.Errorf("source %s: log_zone: %w (want a name of the IANA list, such as Europe/Oslo)", s.Name, err)
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
func ahead(ctx context.Context, logs func(context.Context, string) iter.Seq2[fold.Part, error], cursor string) iter.Seq2[fold.Part, error] {
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

func (w *workspace) showRejected(ctx context.Context, sources []config.Source) error {
	const most = 50
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "FILE", Path: true}, {Name: "LINE", Right: true}, {Name: "WHY", Wrap: true}}}
	d := &render.Doc{}
	type row struct {
		Source string `json:"source"`
		source.Reject
	}
	rows := []row{}
	sum := int64(0)
	for _, s := range sources {
		list, total, err := w.store.Rejected(ctx, s.Name, most)
		if err != nil {
			return err
		}
		sum += total
		for _, r := range list {
			rows = append(rows, row{s.Name, r})
			t.Row(render.C(s.Name), render.C(r.File), render.C(render.Count(r.Line)), render.C(r.Why))
		}
		if total > int64(len(list)) {
			d.Notes = append(d.Notes, fmt.Sprintf("%s: the first %d of %s are shown", s.Name, len(list), render.Count(total)))
		}
	}
	d.Head = render.Plural(int(sum), "log line") + " set aside"
	if sum > 0 {
		d.Tables = []render.Table{t}
	}
	d.Value = rows
	return w.app.print(d)
}
