package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// SourceCoverage is how far the evidence of a source can be trusted.
type SourceCoverage struct {
	Source          string
	Window          usage.Window
	Observable      float64 // share of what is granted that the evidence is complete for
	Placement       *gauge.Placement
	Logs            []LogCoverage // those that make most undecidable first
	Blind           int           // granted permissions that cannot be judged, once an identity
	BlindIdentities int
	Log             store.LogState
	Begin           time.Time // since when there is evidence: [usage.Coverage.Begin]

	Unlogged []string // services no permission of which is shown by a log, as the catalogue has it
	Untold   []string // services of which nothing says whether a log is written
	Files    bool     // both are said in an estate file
}

// Quiet is how long no event may come before a log may have stopped: a long weekend, and one day.
const Quiet = 4 * 24 * time.Hour

// LogEnd is how far the logs of a source go.
type LogEnd struct {
	Source string
	Read   time.Time // when they were last read to their end, or the time that is asked about; zero: never
	Newest time.Time // the newest event; zero: there is none
	None   bool      // clipfence.yaml names none
}

// LogEnd returns how far the logs of a source go.
func (w *Workspace) LogEnd(ctx context.Context, src string) (LogEnd, error) {
	logs, err := w.store.LogState(ctx, src)
	if err != nil {
		return LogEnd{}, err
	}
	read := usage.NewCoverage(nil, usage.Read{First: logs.First, Ends: logs.Reads, Until: w.now()})
	of, err := w.Source(src)
	return LogEnd{src, read.ReadTo(), logs.Last, logless(of)}, err
}

// logless reports whether clipfence.yaml names no logs of a source that has none of its own.
func logless(of config.Source) bool { return of.Kind == "files" && len(of.Logs) == 0 }

// Coverage says how far the evidence of every source in question can be trusted; 0 stands for
// the window of clipfence.yaml.
func (w *Workspace) Coverage(ctx context.Context, window model.Duration) ([]SourceCoverage, error) {
	sources, err := w.each()
	if err != nil {
		return nil, err
	}
	var out []SourceCoverage
	for _, src := range sources {
		_, in, res, err := w.gauged(ctx, src, window, unmeasured)
		if err != nil {
			return nil, err
		}
		x := SourceCoverage{Source: src.Name, Window: in.Span(), Observable: res.Observable, Placement: res.Placement,
			Begin: in.History, Files: src.Kind == "files",
			Logs: coverageRows(src, in, res, !src.ChangeToken.IsZero())}
		for _, st := range res.Standings {
			if st.Unobservable > 0 {
				x.Blind += st.Unobservable
				x.BlindIdentities++
			}
		}
		if x.Blind > 0 {
			x.Unlogged, x.Untold = untold(in.Index)
		}
		if x.Log, err = w.store.LogState(ctx, src.Name); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// untold returns the services of the catalogue of which no permission is shown by a log, and those that
// have a sort of log of which no record says whether it is written.
func untold(x *index.Index) (unlogged, untold []string) {
	type log struct{ service, class string }
	has, known := map[string]bool{}, map[log]bool{}
	for _, r := range x.Coverage() {
		known[log{r.Service, r.LogClass}] = true
	}
	note := func(to *[]string, service string) {
		if !slices.Contains(*to, service) {
			*to = append(*to, service)
		}
	}
	for c := range x.Catalogue() {
		if c.LogClass == "" {
			continue
		}
		service := c.Permission.Service()
		if has[service] = true; !known[log{service, c.LogClass}] {
			note(&untold, service)
		}
	}
	for c := range x.Catalogue() {
		if service := c.Permission.Service(); !has[service] {
			note(&unlogged, service)
		}
	}
	slices.Sort(untold)
	slices.Sort(unlogged)
	return unlogged, untold
}

// PrepareMend plans what switches logs on and lets writers write, of those that pick returns
// and that can be mended here; nil where there is nothing to mend. Where pick returns none,
// none may say what is wrong with that.
func (w *Workspace) PrepareMend(ctx context.Context, window model.Duration, pick func([]LogCoverage) []LogCoverage,
	none func([]LogCoverage) error) (*Prepared, []LogCoverage, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, nil, err
	}
	if src.Kind == "files" {
		return nil, nil, fmt.Errorf("source %s is made of files: %w; switch the logs on where they are written "+
			"(clipfence coverage says which)", src.Name, source.ErrReadOnly)
	}
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, nil, damaged(err)
	}
	s, in, res, err := w.gauged(ctx, src, window, unmeasured)
	if err != nil {
		return nil, nil, err
	}
	c, err := w.changer(ctx, src)
	if err != nil {
		return nil, nil, err
	}
	if why := change.TooOld(s.Survey.Finished, w.Clock(), time.Duration(w.MaxAge)); why != "" {
		return nil, nil, fmt.Errorf("%w: %s", change.ErrGuard, why)
	}
	self, err := w.self(ctx, src, c)
	if err != nil {
		return nil, nil, err
	}
	every := coverageRows(src, in, res, true)
	fit := pick(every)
	if len(fit) == 0 {
		if err := none(every); err != nil {
			return nil, nil, err
		}
	}
	var picked []LogCoverage
	var logs []model.CoverageRecord
	for _, r := range fit {
		if r.CanBeMended {
			picked, logs = append(picked, r), append(logs, r.Record)
		}
	}
	if len(picked) == 0 {
		return nil, nil, nil
	}
	steps, edits, err := change.Mend(ctx, c, in.Index, logs, self, w.Clock())
	if err != nil {
		return nil, nil, err
	}
	ch := &change.Change{ID: change.NextID(history), Source: src.Name, Reason: "coverage --mend"}
	ch.Set(steps, edits)
	p, err := w.prepare(ctx, c, src, ch, 0, true)
	return p, picked, err
}

// Await reads the log of a source until an event of each log has come since now, or that long
// Has passed, and returns those of which none has.
func (w *Workspace) Await(ctx context.Context, name string, logs []LogCoverage, wait time.Duration) ([]LogCoverage,
	error) {
	src, err := w.Source(name)
	if err != nil {
		return nil, err
	}
	since := w.Clock()
	defer w.progress(Event{Source: name, Doing: Finished})
	missing, first := logs, true
	_, err = source.Until(ctx, wait, func(context.Context) (bool, error) {
		// What is being read when the time is over is read to its end.
		row := SurveyRow{Source: name}
		if err := w.readLogs(ctx, src, &row); err != nil {
			return false, err
		}
		if row.Events > 0 || first { // without a new event nothing has changed
			first = false
			_, in, _, err := w.gauged(ctx, src, 0, unmeasured)
			if err != nil {
				return false, err
			}
			missing = nil
			for _, r := range logs {
				rec, _ := in.Coverage.Record(r.Node, r.Service, r.LogClass)
				if st := in.Coverage.Stream(rec); st == nil || st.Last.Before(since.Add(-time.Minute)) {
					missing = append(missing, r)
				}
			}
		}
		w.progress(Event{Source: name, Doing: Awaiting, Count: len(missing)})
		return len(missing) == 0, nil
	})
	return missing, err
}

type Gap struct {
	From string `json:"from"`
	To   string `json:"to"`
	Days int    `json:"days"`
	Part bool   `json:"partly,omitempty"` // it held some events, and far fewer than usual
}

type LogCoverage struct {
	Source      string               `json:"source"`
	Node        model.Path           `json:"node"`
	Service     string               `json:"service"`
	LogClass    string               `json:"log_class"`
	State       string               `json:"state" doc:"on, off, hides, refused (its writer may not write), mute (it is said to be written, and nothing of its sort ever came), thin or silent"`
	Since       time.Time            `json:"since,omitzero"`
	Keep        int                  `json:"keep_days"`
	Share       float64              `json:"share_of_window"`
	First       time.Time            `json:"first_event,omitzero"`
	Last        time.Time            `json:"last_event,omitzero"`
	Events      int64                `json:"events"`
	Gaps        []Gap                `json:"gaps,omitempty"`
	Undecided   int                  `json:"undecided_permissions" doc:"granted permissions that cannot be judged because of it, counted once an identity"`
	Identities  int                  `json:"undecided_identities"`
	Mend        string               `json:"mend,omitempty" doc:"the smallest change that mends it"`
	CanBeMended bool                 `json:"can_be_mended_here" doc:"clipfence coverage --mend can make that change"`
	Record      model.CoverageRecord `json:"-"`
}

// lateWords says why a log that is on covers too little of a window, and what helps.
func lateWords(c *usage.Coverage, r model.CoverageRecord, span usage.Window, days int) string {
	from, _ := c.From(r)
	to := c.ReadTo()
	switch {
	case to.IsZero():
		return "survey: no log was read yet"
	case span.To.Sub(to) > max(0, from.Sub(span.From)):
		return "survey: it was last read " + to.Format(time.DateOnly)
	case c.Forgotten(r, span):
		return fmt.Sprintf("wait, and keep it %d days: it is kept %d, and what came before was forgotten when it "+
			"was first read", days, r.Keep)
	case r.Since.After(span.From):
		return "wait: it was switched on " + r.Since.Format(time.DateOnly)
	}
	return "wait: what was read begins " + from.Format(time.DateOnly) + shorter(from, span)
}

// shortest is how many days a window should have at least: people are away for weeks.
const shortest = 30

// shorter offers a window that begins with all that was read.
func shorter(from time.Time, span usage.Window) string {
	if n := int(span.To.Sub(from).Hours() / 24); n >= shortest {
		return fmt.Sprintf("; or set window: %dd in clipfence.yaml, which shows less of what is done seldom", n)
	}
	return ""
}

// coverageRows says of each log of a source how far it can be trusted.
func coverageRows(src config.Source, in *gauge.Input, res *gauge.Result, changeable bool) []LogCoverage {
	span := in.Span()
	blind := gauge.Blind(in, res)
	var rows []LogCoverage
	for i, r := range in.Index.Coverage() {
		x := LogCoverage{Source: src.Name, Node: r.Node, Service: r.Service, LogClass: r.LogClass, Record: r,
			State: "on", Since: r.Since, Keep: r.Keep, Share: in.Coverage.Share(r.Node, r.Service, r.LogClass, span)}
		_, needed, blocked := change.LogGrant(in.Index, r)
		s := in.Coverage.Stream(r)
		if s != nil {
			x.First, x.Last, x.Events = s.First, s.Last, s.Events
			for _, g := range s.Gaps {
				if g.To < usage.DayOf(span.From) || g.From > usage.DayOf(span.To) {
					continue
				}
				x.Gaps = append(x.Gaps, Gap{g.From.Time().Format(time.DateOnly), g.To.Time().Format(time.DateOnly),
					g.Days(), g.Partly})
			}
		}
		switch {
		case !r.Written:
			x.State, x.CanBeMended = "off", changeable && blocked == ""
			x.Mend = fmt.Sprintf("switch %s/%s on at %s", r.Service, r.LogClass, r.Node)
			if needed {
				x.Mend += fmt.Sprintf(", and grant %s: do [%s] on [%s]", r.Writer, r.WriterNeeds, r.Node)
			} else if blocked != "" {
				x.Mend += ", and lift what keeps its writer out: " + blocked
			}
		case r.Hides != "":
			x.State, x.Mend = "hides", "log every request: "+r.Hides
		case s != nil && s.Refused:
			x.State, x.CanBeMended = "refused", changeable && needed
			if x.Mend = fmt.Sprintf("grant %s: do [%s] on [%s]", r.Writer, r.WriterNeeds, r.Node); blocked != "" {
				x.Mend = "lift what keeps its writer out: " + blocked
			}
		case s != nil && s.Mute > 0:
			x.State, x.Gaps = "mute", nil
			x.Mend = fmt.Sprintf("find out whether it is written: %d callers change things of %s, and no log ever "+
				"showed anybody looking at one", s.Mute, r.Service)
		case len(x.Gaps) > 0:
			x.State, x.Mend = "silent", "find out why it did not arrive; the days stay blind, unless nobody worked "+
				"on them: say so then, under quiet in clipfence.yaml"
			if !slices.ContainsFunc(x.Gaps, func(g Gap) bool { return !g.Part }) {
				x.State, x.Mend = "thin", "find out where the rest went; the days stay blind"
			}
			yesterday := (usage.DayOf(span.To) - 1).Time().Format(time.DateOnly)
			if last := x.Gaps[len(x.Gaps)-1]; x.State == "silent" && last.To >= yesterday {
				x.Mend = "find out why nothing comes any more; where work is over, say so: over in clipfence.yaml"
			}
			if !usage.Observable(x.Share) && in.Coverage.Enough(r.Node, r.Service, r.LogClass, span) {
				x.Mend += "; looking further back makes up for them"
			}
		case !usage.Observable(x.Share) && in.Coverage.ReadTo().IsZero() && logless(src):
			x.Mend = "name its logs in clipfence.yaml, and survey"
		case !usage.Observable(x.Share):
			x.Mend = lateWords(in.Coverage, r, span, in.Window)
		}
		if r.Written && r.Keep > 0 && r.Keep < in.Window && x.Mend == "" {
			x.Mend = fmt.Sprintf("keep it %d days, or survey more often than every %d", in.Window, r.Keep)
		}
		x.Undecided, x.Identities = blind[i].Permissions, blind[i].Identities
		rows = append(rows, x)
	}
	slices.SortStableFunc(rows, func(x, y LogCoverage) int {
		return cmp.Or(cmp.Compare(y.Undecided, x.Undecided), cmp.Compare(x.Share, y.Share), x.Node.Compare(y.Node),
			cmp.Compare(x.Service, y.Service), cmp.Compare(x.LogClass, y.LogClass))
	})
	return rows
}
