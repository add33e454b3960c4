package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

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
should not have been. A log is mute when it is said to be written, many change what
it is about, and no log ever showed anybody looking at any of it. What no log would
have shown is not unused: it is unobservable. By default only what is blind is listed,
what makes most undecidable first.

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
			if f.mend {
				if err := a.real(); err != nil {
					return err
				}
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if f.mend {
					return a.mend(cmd.Context(), w, &f)
				}
				return a.coverage(cmd.Context(), w, &f)
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
	fl.Var(&f.arrive, "arrive",
		"with --mend: wait so long for the first event of each log, and exit with 1 when one is missing")
	return cmd
}

// pick returns the logs that are asked for.
func (f *coverageFlags) pick(rows []work.LogCoverage) (out []work.LogCoverage) {
	for _, r := range rows {
		if (f.node.IsZero() || f.node.Covers(r.Node)) && (f.service == "" || r.Service == f.service) &&
			(f.class == "" || r.LogClass == f.class) {
			out = append(out, r)
		}
	}
	return out
}

// part reports whether only some logs are asked for.
func (f *coverageFlags) part() bool { return !f.node.IsZero() || f.service != "" || f.class != "" }

// none says that no log is picked, and which there are to pick from.
func (f *coverageFlags) none(rows []work.LogCoverage) error {
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

func (a *app) coverage(ctx context.Context, w *work.Workspace, f *coverageFlags) error {
	const most = 30
	sources, err := w.Coverage(ctx, f.window.Duration)
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "WHERE", Path: true}, {Name: "LOG"}, {Name: "STATE"},
		{Name: "COVERED", Right: true}, {Name: "LAST EVENT"}, {Name: "CANNOT JUDGE", Right: true},
		{Name: "MEND", Wrap: true}}}
	rows := []work.LogCoverage{}
	var every []work.LogCoverage
	d := &render.Doc{}
	total, mendable := 0, 0
	for _, src := range sources {
		every = append(every, src.Logs...)
		for _, r := range f.pick(src.Logs) {
			total++
			if r.Mend == "" && !f.all {
				continue
			}
			if r.CanBeMended {
				mendable++
			}
			rows = append(rows, r)
		}
		d.Head += fmt.Sprintf("%s, %s: evidence complete for %s of what is granted. ", src.Source,
			spanWords(src.Window), render.Percent(src.Observable))
		about, err := a.aboutCoverage(ctx, w, &src)
		if err != nil {
			return err
		}
		d.Lines = append(d.Lines, of(src.Source, len(sources) > 1, about)...)
	}
	if total == 0 && f.part() {
		return f.none(every)
	}
	like, shown := map[string]*sameLogs{}, 0
	for _, r := range rows {
		if len(t.Rows) == most && !f.all {
			break
		}
		shown++
		tone := render.Good
		if r.Mend != "" {
			tone = render.Warn
		}
		if r.State == "off" || r.State == "refused" {
			tone = render.Bad
		}
		last := "none"
		if !r.Last.IsZero() {
			last = render.Day(r.Last, a.now())
		}
		judge := ""
		if r.Undecided > 0 {
			judge = fmt.Sprintf("%s (%s)", render.Count(r.Undecided), identities(r.Identities))
		}
		mend := r.Mend
		if r.CanBeMended { // where and which is told beside it
			if mend = "switch it on: --mend"; r.State == "refused" {
				mend = fmt.Sprintf("let %s write it: --mend", r.Record.Writer)
			}
		}
		for _, g := range r.Gaps {
			how := "silent"
			if g.Part {
				how = "far fewer events than usual, from all of its callers,"
			}
			mend = fmt.Sprintf("%s %s to %s (%s); ", how, g.From, g.To, render.Plural(g.Days, "day")) + mend
		}
		if judge == "" && !f.all { // of one place and with the same to say: one row
			key := fmt.Sprintf("%s %s %s %s", r.Node, r.State, render.Percent(r.Share), mend)
			if s := like[key]; s != nil {
				s.more++
				s.last = later(s.last, r.Last)
				row := t.Rows[s.row]
				row[1].Text = fmt.Sprintf("%s and %d more", s.name, s.more)
				if !s.last.IsZero() {
					row[4].Text = render.Day(s.last, a.now())
				}
				continue
			}
			like[key] = &sameLogs{len(t.Rows), r.Service + "/" + r.LogClass, 0, r.Last}
		}
		t.Row(render.C(r.Node.String()), render.C(r.Service+"/"+r.LogClass), render.Cell{Text: r.State, Tone: tone},
			render.C(render.Percent(r.Share)), render.C(last), render.C(judge), render.C(mend))
	}
	d.Head = d.Head[:max(0, len(d.Head)-1)]
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = append(d.Notes,
			"CANNOT JUDGE: granted permissions that are neither used nor unused for want of this log, once an "+
				"identity.")
	}
	if shown < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", shown, render.Count(len(rows))))
	}
	if !f.all && total > 0 {
		want := "want"
		if total == 1 {
			want = "wants"
		}
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s %s mending; all of them: --all", len(rows),
			render.Plural(total, "log"), want))
	}
	if mendable > 0 {
		d.Next = append(d.Next, "clipfence coverage --mend --dry-run")
	}
	d.Next = append(d.Next, "clipfence gauge")
	d.Value = rows
	return a.print(d)
}

// aboutCoverage says what is to be said of a source beside its logs.
func (a *app) aboutCoverage(ctx context.Context, w *work.Workspace, src *work.SourceCoverage) ([]string, error) {
	out := placedLines(src.Placement)
	if src.Blind > 0 {
		out = append(out, fmt.Sprintf("%s granted permissions of %s cannot be judged: they were not seen, and no log "+
			"would have shown them.", render.Count(src.Blind), identities(src.BlindIdentities)))
	}
	out = append(out, untoldWords(src)...)
	if logs := src.Log; !logs.First.IsZero() {
		out = append(out, fmt.Sprintf("Log read from %s to %s, %s lines, %s set aside, %s repeated.",
			logs.First.Format(time.DateOnly), logs.Last.Format(time.DateOnly), render.Count(logs.Lines),
			render.Count(logs.Rejected), render.Count(logs.Repeated)))
		if src.Begin.After(logs.First.Add(24 * time.Hour)) {
			out = append(out, fmt.Sprintf("Of before %s it holds hardly anything: the evidence begins there.",
				src.Begin.Format(time.DateOnly)))
		}
	}
	about, err := a.ofLogs(ctx, w, src.Source)
	return append(out, about...), err
}

// untoldWords says of which services nobody knows whether a log shows them, and where to say so.
func untoldWords(src *work.SourceCoverage) (out []string) {
	names := func(of []string) string {
		const most = 5
		if n := len(of) - most; n > 0 {
			of = append(of[:most:most], fmt.Sprintf("%d more", n))
		}
		return strings.Join(of, ", ")
	}
	record := fmt.Sprintf(`coverage: [{node: "/%s", written: true}]`, src.Source)
	if len(src.Unlogged) > 0 {
		line := fmt.Sprintf("As the catalogue of %s has it, no log shows any permission of %s.", src.Source,
			names(src.Unlogged))
		if src.Files {
			line += " Where one does, give them a log_class there, and say that it is written: " + record
		}
		out = append(out, line)
	}
	if len(src.Untold) > 0 {
		line := fmt.Sprintf("Nothing says whether the log of %s is written.", names(src.Untold))
		if src.Files {
			line += " If it is, and shows all that is done, write into the estate file: " + record
		}
		out = append(out, line)
	}
	return out
}

func identities(n int) string {
	if n == 1 {
		return "1 identity"
	}
	return render.Count(n) + " identities"
}

// mendWords says what a mending does; a right that it gives is called one.
func mendWords(picked []work.LogCoverage, steps []work.Step) []string {
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
		if g, ok := work.GivesGrant(s); ok {
			out = append(out, fmt.Sprintf("it WIDENS what %s may do, by role %s on %s", g.To, g.Role,
				render.Plural(len(g.Where), "node")))
		}
	}
	say("switch on "+render.Plural(len(off), "log")+":", off)
	say("let the writer write "+render.Plural(len(refused), "log")+":", refused)
	return out
}

// mend switches on what is off, and lets writers write.
func (a *app) mend(ctx context.Context, w *work.Workspace, f *coverageFlags) error {
	p, picked, err := w.PrepareMend(ctx, f.window.Duration, f.pick, func(every []work.LogCoverage) error {
		if f.part() {
			return f.none(every)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if p == nil {
		return a.print(&render.Doc{Head: "Nothing to mend: no log that is asked for is off or refused, or what " +
			"refuses it is no lack of a grant (clipfence coverage)", Value: []work.Step{}})
	}
	head := fmt.Sprintf("%s: %s", p.Change.ID, strings.Join(mendWords(picked, p.Change.Steps), "; "))
	if err := a.carryOut(ctx, w, p, head, f.yes, f.dry); err != nil || f.dry || f.arrive.Duration == 0 ||
		!f.mustArrive && a.format.value != "table" {
		return err
	}
	wait := f.arrive.Duration
	a.say("Waiting up to %s for the first events; an interrupt leaves what was done as it is.", wait)
	late, err := w.Await(ctx, p.Source, picked, time.Duration(wait))
	if err != nil {
		return err
	}
	missing := []string{}
	for _, r := range late {
		missing = append(missing, fmt.Sprintf("%s/%s at %s", r.Service, r.LogClass, r.Node))
	}
	value := map[string]any{"arrived": len(picked) - len(missing), "missing": missing}
	if len(missing) == 0 {
		return a.print(&render.Doc{Head: fmt.Sprintf("Events of %s arrive", render.Plural(len(picked), "log")),
			Value: value})
	}
	d := &render.Doc{Head: fmt.Sprintf("Mended, but of %d of %s no event has come within %s", len(missing),
		render.Plural(len(picked), "log"), wait), Value: value}
	for _, m := range missing[:min(len(missing), 10)] {
		d.Lines = append(d.Lines, "  "+m)
	}
	d.Notes = []string{"That may be because nobody did anything there; look again: clipfence survey && clipfence " +
		"coverage --all"}
	if err := a.print(d); err != nil || !f.mustArrive {
		return err
	}
	return errCheck
}

// sameLogs are logs of one place of which the same is told, in one row.
type sameLogs struct {
	row  int
	name string // of the first
	more int
	last time.Time // the newest event of all of them
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
