package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/render"
	"clipfence/internal/source"
)

type gapRow struct {
	From string `json:"from"`
	To   string `json:"to"`
	Days int    `json:"days"`
	Part bool   `json:"partly,omitempty"` // it held some events, and far fewer than usual
}

type coverageRow struct {
	Source      string     `json:"source"`
	Node        model.Path `json:"node"`
	Service     string     `json:"service"`
	LogClass    string     `json:"log_class"`
	State       string     `json:"state" doc:"on, off, hides, refused (its writer may not write) or silent"`
	Since       time.Time  `json:"since,omitzero"`
	Keep        int        `json:"keep_days"`
	Share       float64    `json:"share_of_window"`
	First       time.Time  `json:"first_event,omitzero"`
	Last        time.Time  `json:"last_event,omitzero"`
	Events      int64      `json:"events"`
	Gaps        []gapRow   `json:"gaps,omitempty"`
	Undecided   int        `json:"undecided_permissions" doc:"granted permissions that cannot be judged because of it, counted once an identity"`
	Identities  int        `json:"undecided_identities"`
	Mend        string     `json:"mend,omitempty" doc:"the smallest change that mends it"`
	CanBeMended bool       `json:"can_be_mended_here" doc:"clipfence coverage --mend can make that change"`
	record      model.CoverageRecord
}

type coverageFlags struct {
	window         windowFlag
	all            bool
	mend, yes, dry bool
	node           pathFlag
	service, class string
	arrive         durationFlag
	mustArrive     bool // --arrive was said
}

func (a *app) coverageCmd() *cobra.Command {
	var f coverageFlags
	cmd := &cobra.Command{
		Use: "coverage", Short: "How far the evidence can be trusted, and how to mend it", Args: cobra.NoArgs,
		Long: `Say, per node, service and log class, whether a log was really there over the
window: whether it is on, since when, how long it is kept, when its first and last
event came, and on which days it was silent though its own weekdays say that it
should not have been. What no log would have shown is not unused: it is
unobservable. By default only what is blind is listed, what makes most undecidable
first.

--mend switches on what is off, and gives a writer that may not write its log the one
permission it lacks, at that node alone. It goes the guarded way of every change: shown
and confirmed, each settings document under the condition that it is still as it
was read and otherwise left as it is, read back, recorded, undone in one step. It then
reads the log until an event of each has come, for half a minute or as --arrive says.`,
		Example: `  clipfence coverage
  clipfence coverage --all --window 30d
  clipfence coverage --mend --dry-run
  clipfence coverage --mend --node /mooring/harbour:ternhaven/pier:operations/berth:crew --service stow --arrive 1m`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f.mustArrive = cmd.Flags().Changed("arrive")
			return a.with(cmd.Context(), func(w *workspace) error {
				if f.mend {
					if err := a.real(); err != nil {
						return err
					}
					return w.mend(cmd.Context(), &f)
				}
				return w.coverage(cmd.Context(), &f)
			})
		},
	}
	fl := cmd.Flags()
	f.arrive.Duration = model.Duration(30 * time.Second)
	fl.Var(&f.window, "window", "how far to look back (default: the window of clipfence.yaml)")
	fl.BoolVar(&f.all, "all", false, "also what is covered")
	fl.BoolVar(&f.mend, "mend", false, "switch on what is off, and let writers write")
	fl.Var(&f.node, "node", "only the logs of this node and of those below it")
	fl.StringVar(&f.service, "service", "", "only the logs of this service")
	fl.StringVar(&f.class, "class", "", "only this class of log")
	fl.BoolVar(&f.yes, "yes", false, "with --mend: do it without being asked")
	fl.BoolVar(&f.dry, "dry-run", false, "with --mend: preview only")
	fl.Var(&f.arrive, "arrive", "with --mend: wait so long for the first event of each log, and exit with 1 when one is missing")
	return cmd
}

// pick returns the logs that are asked for.
func (f *coverageFlags) pick(rows []coverageRow) (out []coverageRow) {
	for _, r := range rows {
		if (f.node.IsZero() || f.node.Covers(r.Node)) && (f.service == "" || r.Service == f.service) && (f.class == "" || r.LogClass == f.class) {
			out = append(out, r)
		}
	}
	return out
}

// part reports whether only some logs are asked for.
func (f *coverageFlags) part() bool { return !f.node.IsZero() || f.service != "" || f.class != "" }

// none says that no log is picked, and which there are to pick from.
func (f *coverageFlags) none(rows []coverageRow) error {
	var there []string
	below := 0
	for _, r := range rows {
		there = append(there, r.Service+"/"+r.LogClass)
		if f.node.IsZero() || f.node.Covers(r.Node) {
			below++
		}
	}
	slices.Sort(there)
	if there = slices.Compact(there); len(there) == 0 {
		return errors.New("no source says which logs it keeps")
	}
	if below == 0 {
		return fmt.Errorf("no log is kept at %s or below it; all logs: clipfence coverage --all", f.node.Path)
	}
	var asked []string
	for name, value := range map[string]string{"--service": f.service, "--class": f.class} {
		if value != "" {
			asked = append(asked, name+" "+value)
		}
	}
	slices.Sort(asked)
	return fmt.Errorf("no log is kept for %s; there are: %s", strings.Join(asked, " "), strings.Join(there, ", "))
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
		return fmt.Sprintf("wait, and keep it %d days: it is kept %d, and what came before was forgotten when it was first read", days, r.Keep)
	case r.Since.After(span.From):
		return "wait: it was switched on " + r.Since.Format(time.DateOnly)
	}
	return "wait: what was read begins " + from.Format(time.DateOnly)
}

// coverageRows says of each log of a source how far it can be trusted.
func coverageRows(src string, in *gauge.Input, res *gauge.Result, changeable bool) []coverageRow {
	span := in.Span()
	blind := gauge.Blind(in, res)
	var rows []coverageRow
	for i, r := range in.Engine.Estate.Coverage {
		x := coverageRow{Source: src, Node: r.Node, Service: r.Service, LogClass: r.LogClass, record: r, State: "on", Since: r.Since, Keep: r.Keep, Share: in.Coverage.Share(r.Node, r.Service, r.LogClass, span)}
		_, needed, blocked := change.LogGrant(in.Engine, r)
		s := in.Coverage.Stream(r)
		if s != nil {
			x.First, x.Last, x.Events = s.First, s.Last, s.Events
			for _, g := range s.Gaps {
				if g.To < usage.DayOf(span.From) || g.From > usage.DayOf(span.To) {
					continue
				}
				x.Gaps = append(x.Gaps, gapRow{g.From.Time().Format(time.DateOnly), g.To.Time().Format(time.DateOnly), g.Days(), g.Partly})
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
		case len(x.Gaps) > 0:
			x.State, x.Mend = "silent", "find out why it did not arrive; the days stay blind"
			if !slices.ContainsFunc(x.Gaps, func(g gapRow) bool { return !g.Part }) {
				x.State, x.Mend = "thin", "find out where the rest went; the days stay blind"
			}
		case !usage.Observable(x.Share):
			x.Mend = lateWords(in.Coverage, r, span, in.Window)
		}
		if r.Written && r.Keep > 0 && r.Keep < in.Window && x.Mend == "" {
			x.Mend = fmt.Sprintf("keep it %d days, or survey more often than every %d", in.Window, r.Keep)
		}
		x.Undecided, x.Identities = blind[i].Permissions, blind[i].Identities
		rows = append(rows, x)
	}
	slices.SortStableFunc(rows, func(x, y coverageRow) int {
		return cmp.Or(cmp.Compare(y.Undecided, x.Undecided), cmp.Compare(x.Share, y.Share), x.Node.Compare(y.Node), cmp.Compare(x.Service, y.Service), cmp.Compare(x.LogClass, y.LogClass))
	})
	return rows
}

func (w *workspace) coverage(ctx context.Context, f *coverageFlags) error {
	const most = 30
	sources, err := w.each()
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "WHERE", Path: true}, {Name: "LOG"}, {Name: "STATE"}, {Name: "COVERED", Right: true}, {Name: "LAST EVENT"}, {Name: "CANNOT JUDGE", Right: true}, {Name: "MEND", Wrap: true}}}
	rows := []coverageRow{}
	var every []coverageRow
	d := &render.Doc{}
	total, mendable := 0, 0
	for _, src := range sources {
		_, in, res, err := w.gauged(ctx, src, f.window.Duration)
		if err != nil {
			return err
		}
		span := in.Span()
		logsOf := coverageRows(src.Name, in, res, !src.ChangeToken.IsZero())
		every = append(every, logsOf...)
		for _, r := range f.pick(logsOf) {
			total++
			if r.Mend == "" && !f.all {
				continue
			}
			if r.CanBeMended {
				mendable++
			}
			rows = append(rows, r)
		}
		d.Head += fmt.Sprintf("%s, %s: evidence complete for %s of what is granted. ", src.Name, spanWords(span), render.Percent(res.Observable))
		d.Lines = append(d.Lines, placedLines(res.Placement)...)
		blind, who := 0, 0
		for _, st := range res.Standings {
			if st.Unobservable > 0 {
				blind += st.Unobservable
				who++
			}
		}
		if blind > 0 {
			d.Lines = append(d.Lines, fmt.Sprintf("%s granted permissions of %s cannot be judged: they were not seen, and no log would have shown them.", render.Count(blind), identities(who)))
		}
		logs, err := w.store.LogState(ctx, src.Name)
		if err != nil {
			return err
		}
		if logs.First.IsZero() {
			d.Lines = append(d.Lines, "No log of "+src.Name+" was read yet: nothing can be judged. Run: clipfence survey")
			continue
		}
		d.Lines = append(d.Lines, fmt.Sprintf("Log read from %s to %s, %s lines, %s set aside, %s repeated.", logs.First.Format(time.DateOnly), logs.Last.Format(time.DateOnly), render.Count(logs.Lines), render.Count(logs.Rejected), render.Count(logs.Repeated)))
		read := logs.Reads[len(logs.Reads)-1]
		if age := w.app.now().Sub(read); age > 48*time.Hour {
			d.Lines = append(d.Lines, fmt.Sprintf("It was last read %d days ago: what came since is not known, and counts as blind. Run: clipfence survey", int(age.Hours()/24)))
		} else if age := min(w.app.now().Sub(logs.Last), read.Sub(logs.Last)); age > 48*time.Hour {
			d.Lines = append(d.Lines, fmt.Sprintf("Its newest event is %d days older than the last reading: find out whether events still arrive.", int(age.Hours()/24)))
		}
	}
	if total == 0 && f.part() {
		return f.none(every)
	}
	for _, r := range rows {
		if len(t.Rows) == most && !f.all {
			break
		}
		tone := render.Good
		if r.Mend != "" {
			tone = render.Warn
		}
		if r.State == "off" || r.State == "refused" {
			tone = render.Bad
		}
		last := "none"
		if !r.Last.IsZero() {
			last = render.Day(r.Last, w.app.now())
		}
		judge := ""
		if r.Undecided > 0 {
			judge = fmt.Sprintf("%s of %s", render.Count(r.Undecided), identities(r.Identities))
		}
		mend := r.Mend
		if r.CanBeMended { // where and which is told beside it
			if mend = "switch it on: --mend"; r.State == "refused" {
				mend = fmt.Sprintf("let %s write it: --mend", r.record.Writer)
			}
		}
		for _, g := range r.Gaps {
			how := "silent"
			if g.Part {
				how = "far fewer events than usual, from all of its callers,"
			}
			mend = fmt.Sprintf("%s %s to %s (%s); ", how, g.From, g.To, render.Plural(g.Days, "day")) + mend
		}
		t.Row(render.C(r.Node.String()), render.C(r.Service+"/"+r.LogClass), render.Cell{Text: r.State, Tone: tone}, render.C(render.Percent(r.Share)), render.C(last), render.C(judge), render.C(mend))
	}
	d.Head = d.Head[:max(0, len(d.Head)-1)]
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = append(d.Notes, "CANNOT JUDGE: granted permissions that are neither used nor unused for want of this log, once an identity.")
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(rows)))
	}
	if !f.all {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s want mending; all of them: --all", len(rows), render.Plural(total, "log")))
	}
	if mendable > 0 {
		d.Next = append(d.Next, "clipfence coverage --mend --dry-run")
	}
	d.Next = append(d.Next, "clipfence gauge")
	d.Value = rows
	return w.app.print(d)
}

func identities(n int) string {
	if n == 1 {
		return "1 identity"
	}
	return render.Count(n) + " identities"
}

// mend switches on what is off, and lets writers write.
func (w *workspace) mend(ctx context.Context, f *coverageFlags) error {
	src, err := w.pick("")
	if err != nil {
		return err
	}
	_, history, err := w.history(ctx)
	if err != nil {
		return damaged(err)
	}
	s, in, res, err := w.gauged(ctx, src, f.window.Duration)
	if err != nil {
		return err
	}
	c, err := w.changer(ctx, src)
	if err != nil {
		return err
	}
	if age := w.app.clock().Sub(s.survey.Finished); age > time.Duration(w.MaxAge) {
		return fmt.Errorf("%w: the survey is %s old; at most %s is allowed (run: clipfence survey)", change.ErrGuard, model.Duration(age.Truncate(time.Minute)), w.MaxAge)
	}
	self, err := w.self(ctx, src, c)
	if err != nil {
		return err
	}
	var picked []coverageRow
	var logs []model.CoverageRecord
	every := coverageRows(src.Name, in, res, true)
	fit := f.pick(every)
	if len(fit) == 0 && f.part() {
		return f.none(every)
	}
	for _, r := range fit {
		if r.CanBeMended {
			picked, logs = append(picked, r), append(logs, r.record)
		}
	}
	if len(picked) == 0 {
		return w.app.print(&render.Doc{Head: "Nothing to mend: no log that is asked for is off or refused, or what refuses it is no lack of a grant (clipfence coverage)", Value: []source.Step{}})
	}
	steps, err := change.Mend(ctx, c, in.Engine, logs, self, w.app.clock())
	if err != nil {
		return err
	}
	ch := &change.Change{ID: change.NextID(history), Source: src.Name, Reason: "coverage --mend", Steps: steps}
	head := fmt.Sprintf("%s: %s", ch.ID, strings.Join(mendWords(picked, steps), "; "))
	if err := w.carryOut(ctx, c, src, ch, fresh, head, f.yes, f.dry); err != nil || f.dry || f.arrive.Duration == 0 || !f.mustArrive && w.app.format.value != "table" {
		return err
	}
	return w.arrive(ctx, src, picked, time.Duration(f.arrive.Duration), f.mustArrive)
}

// mendWords says what a mending does; a right that it gives is called one.
func mendWords(picked []coverageRow, steps []source.Step) []string {
	const most = 4
	var off, refused []string
	for _, r := range picked {
		log := fmt.Sprintf("%s/%s at %s", r.Service, r.LogClass, r.Node)
		if r.State == "off" {
			off = append(off, log)
		} else {
			refused = append(refused, log)
		}
	}
	var out []string
	say := func(verb string, logs []string) {
		if n := len(logs); n > most {
			logs = append(logs[:most:most], fmt.Sprintf("and %d more", n-most))
		}
		if len(logs) > 0 {
			out = append(out, verb+" "+strings.Join(logs, ", "))
		}
	}
	for _, s := range steps {
		var g model.Grant
		if s.Kind == source.Grants && json.Unmarshal(s.After, &g) == nil {
			out = append(out, fmt.Sprintf("it WIDENS what %s may do, by role %s on %s", g.To, g.Role, render.Plural(len(g.Where), "node")))
		}
	}
	say("switch on "+render.Plural(len(off), "log")+":", off)
	say("let the writer write "+render.Plural(len(refused), "log")+":", refused)
	return out
}

// arrive reads the log until an event of each stream that was switched on has come.
func (w *workspace) arrive(ctx context.Context, src config.Source, off []coverageRow, wait time.Duration, must bool) error {
	since := w.app.clock()
	deadline := time.Now().Add(wait)
	w.app.say("Waiting up to %s for the first events; an interrupt leaves what was done as it is.", model.Duration(wait))
	progress := w.app.progress()
	defer progress("")
	var missing []string
	for {
		row := surveyRow{Source: src.Name}
		if err := w.readLogs(ctx, src, &row); err != nil {
			return err
		}
		if row.Events > 0 || missing == nil { // without a new event nothing has changed
			_, in, _, err := w.gauged(ctx, src, 0)
			if err != nil {
				return err
			}
			missing = []string{}
			for _, r := range off {
				rec, _ := in.Coverage.Record(r.Node, r.Service, r.LogClass)
				if st := in.Coverage.Stream(rec); st == nil || st.Last.Before(since.Add(-time.Minute)) {
					missing = append(missing, fmt.Sprintf("%s/%s at %s", r.Service, r.LogClass, r.Node))
				}
			}
		}
		if len(missing) == 0 {
			progress("")
			return w.app.print(&render.Doc{Head: fmt.Sprintf("Events of %s arrive", render.Plural(len(off), "log")), Value: map[string]any{"arrived": len(off), "missing": missing}})
		}
		progress("waiting for events of %d of %s", len(missing), render.Plural(len(off), "log"))
		if time.Now().After(deadline) {
			progress("")
			d := &render.Doc{Head: fmt.Sprintf("Mended, but of %d of %s no event has come within %s", len(missing), render.Plural(len(off), "log"), model.Duration(wait)), Value: map[string]any{"arrived": len(off) - len(missing), "missing": missing}}
			for _, m := range missing[:min(len(missing), 10)] {
				d.Lines = append(d.Lines, "  "+m)
			}
			d.Notes = []string{"That may be because nobody did anything there; look again: clipfence survey && clipfence coverage --all"}

			if err := w.app.print(d); err != nil || !must {
				return err
			}
			return errCheck
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}
