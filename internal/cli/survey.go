package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) surveyCmd() *cobra.Command {
	var rejected, noLogs bool
	var read []string
	var again bool
	var anew work.Reread
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
		Example: "  clipfence survey\n  clipfence survey --reread --days 2026-09-01..2026-09-30\n  clipfence " +
			"survey --show-rejected\n  clipfence survey --read old-logs/2026-0*.jsonl.gz\n  clipfence survey --read -",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.real(); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if (len(anew.Files) > 0 || anew.Days != "" || anew.Anyway) && !again {
					return errors.New("--file, --days and --anyway say what to read anew: give --reread too (to " +
						"read more files: --read)")
				}
				switch {
				case again:
					return a.readAnew(cmd.Context(), w, anew)
				case rejected:
					return a.showRejected(cmd.Context(), w)
				case len(read) > 0:
					return a.readAlso(cmd.Context(), w, read)
				}
				return a.survey(cmd.Context(), w, noLogs)
			})
		},
	}
	cmd.Flags().BoolVar(&rejected, "show-rejected", false, "list the log lines that were set aside, and read nothing")
	cmd.Flags().BoolVar(&noLogs, "no-logs", false, "read the access only")
	cmd.Flags().StringArrayVar(&read, "read", nil,
		"read these log files, folders or globs, or - for standard input, into a source that was surveyed, and "+
			"nothing else")
	cmd.Flags().BoolVar(&again, "reread", false,
		"count the log anew with the log maps of now, and swap it in at the end")
	cmd.Flags().StringArrayVar(&anew.Files, "file", nil, "with --reread: only the days of these log files")
	cmd.Flags().StringVar(&anew.Days, "days", "", "with --reread: only these days, FROM..TO, both included (UTC)")
	cmd.Flags().BoolVar(&anew.Anyway, "anyway", false,
		"with --reread: also days on which not every call is found again, if their files have no fewer lines")
	cmd.MarkFlagsMutuallyExclusive("reread", "read", "no-logs", "show-rejected")
	cmd.AddCommand(a.surveyList(), a.surveyCompare())
	return cmd
}

// survey reads every source in question, and tells what came of it.
func (a *app) survey(ctx context.Context, w *work.Workspace, noLogs bool) error {
	var rows []work.SurveyRow
	d := &render.Doc{}
	several := w.Only == "" && len(w.Sources) > 1
	err := w.Survey(ctx, noLogs, func(x work.SurveyResult) {
		row := x.Row
		if !noLogs {
			if note := staleNote(x.Stale); note != "" {
				d.Notes = append(d.Notes, note)
			}
			lines := placedLines(x.Placed)
			logs, err := a.ofLogs(ctx, w, row.Source)
			if err != nil {
				d.Notes = append(d.Notes, err.Error())
			}
			d.Lines = append(d.Lines, of(row.Source, several, slices.Concat(lines, logs, watchedLines(x.Watched)))...)
		}
		rows = append(rows, row)
		t := render.Table{Columns: []render.Column{{Name: "READ"}, {Name: "COUNT", Right: true},
			{Name: "", Wrap: true}}}
		if several {
			t.Title = row.Source
		}
		for _, k := range work.RecordKinds {
			t.Row(render.C(k), render.C(render.Count(row.Records[k])), render.C(""))
		}
		if !noLogs {
			span := "the log is empty"
			if end, err := w.LogEnd(ctx, row.Source); err == nil && end.None {
				span = "no logs named"
			}
			if !row.LogFrom.IsZero() {
				span = "log from " + row.LogFrom.Format(time.DateOnly) + " to " + row.LogTo.Format(time.DateOnly)
			}
			t.Row(render.C("log lines"), render.C(render.Count(row.Lines)), render.C(span))
			t.Row(render.C("new events"), render.C(render.Count(row.Events)), render.C(""))
		}
		d.Tables = append(d.Tables, t)
		for i, f := range row.Faults {
			if i == 5 {
				d.Notes = append(d.Notes, fmt.Sprintf("... and %d more faults (--format json lists them)",
					len(row.Faults)-i))
				break
			}
			d.Notes = append(d.Notes, "Fault in "+row.Source+": "+f)
		}
		for _, h := range row.Handed {
			if h.Done {
				d.Notes = append(d.Notes, fmt.Sprintf("Change %s, which was handed over, is done: %s seen.", h.Change,
					render.Plural(h.Steps, "step")))
				continue
			}
			d.Notes = append(d.Notes,
				fmt.Sprintf("Change %s, which was handed over, is not done: of %s %d not seen, such as: %s.", h.Change,
					render.Plural(h.Steps, "step"), len(h.Open), h.Open[0]))
		}
		if row.Rejected > 0 {
			d.Notes = append(d.Notes,
				fmt.Sprintf("%s of %s set aside: they could not be read. See: clipfence survey --show-rejected",
					render.Plural(row.Rejected, "log line"), row.Source))
		}
		if ahead := row.LogTo.Sub(a.clock()); ahead > 10*time.Minute {
			d.Notes = append(d.Notes,
				fmt.Sprintf("The newest event of %s is of %s, ahead of this machine's clock: a clock is wrong, "+
					"here or there. What lies ahead counts once its time has come.", row.Source,
					row.LogTo.Format(time.RFC3339)))
		}
		d.Head += fmt.Sprintf("%s surveyed in %.1f s", row.Source, row.Seconds)
		if row.Resumed {
			d.Head += " (went on with an interrupted survey)"
		}
		d.Head += ". "
	})
	if len(rows) == 0 {
		return err
	}
	d.Head = strings.TrimSuffix(d.Head, " ")
	d.Value = rows
	d.Next = []string{"clipfence coverage", "clipfence findings"}
	return errors.Join(err, a.print(d))
}

// readAlso reads logs by hand into a source.
func (a *app) readAlso(ctx context.Context, w *work.Workspace, names []string) error {
	row, err := w.ReadAlso(ctx, names)
	if err != nil {
		return err
	}
	d := &render.Doc{Head: fmt.Sprintf("%s read into %s in %.1f s: %s, %s counted before",
		render.Plural(row.Lines, "log line"), row.Source, row.Seconds, render.Plural(row.Events, "new event"),
		render.Count(row.Repeated)), Value: []work.SurveyRow{*row}, Next: []string{"clipfence coverage"}}
	if row.Rejected > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s of %s set aside so far. See: clipfence survey --show-rejected",
			render.Plural(row.Rejected, "log line"), row.Source))
	}
	return a.print(d)
}

func (a *app) showRejected(ctx context.Context, w *work.Workspace) error {
	const most = 50
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "FILE", Path: true},
		{Name: "LINE", Right: true}, {Name: "WHY", Wrap: true}}}
	d := &render.Doc{}
	rows, sums, err := w.Rejected(ctx, most)
	if err != nil {
		return err
	}
	for _, r := range rows {
		t.Row(render.C(r.Source), render.C(r.File), render.C(render.Count(r.Line)), render.C(r.Why))
	}
	sum := int64(0)
	for _, s := range sums {
		sum += s.Total
		if s.Total > int64(s.Listed) {
			d.Notes = append(d.Notes, fmt.Sprintf("%s: the first %d of %s are shown", s.Source, s.Listed,
				render.Count(s.Total)))
		}
	}
	d.Head = render.Plural(int(sum), "log line") + " set aside"
	if sum > 0 {
		d.Tables = []render.Table{t}
		d.Next = []string{"mend what does not fit, in the log map or clipfence.yaml, and count the log anew: " +
			"clipfence survey --reread"}
		if len(sums) > 1 {
			d.Next[0] += " --source SOURCE"
		}
	}
	d.Value = rows
	return a.print(d)
}

// watchedLines say what drafts that are watched would have done to the calls since.
func watchedLines(list []*work.Reviewed) []string {
	var out []string
	for _, r := range list {
		s := shadowOf(r)
		lead := "Watched: "
		if s.Refused > 0 {
			lead = "WATCHED, AND WOULD BREAK: "
		}
		out = append(out, lead+r.For.String()+" "+s.words())
	}
	return out
}
