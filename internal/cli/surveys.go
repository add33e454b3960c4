package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) surveyList() *cobra.Command {
	return &cobra.Command{Use: "list",
		Short: "List the surveys that are kept, newest first, and logs that were mapped with an older map",
		Args:  cobra.NoArgs, Example: "  clipfence survey list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				all, err := w.Surveys(cmd.Context(), a.source)
				if err != nil {
					return err
				}
				old := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "LOG FILE", Path: true},
					{Name: "LINES", Right: true}, {Name: "DAYS", Right: true}, {Name: "", Wrap: true}}}
				list := surveyListing{Surveys: append([]work.KeptSurvey{}, all...), Logs: []work.StaleLog{}}
				var notes []string
				stale, err := w.Stale(cmd.Context())
				if err != nil {
					return err
				}
				for _, x := range stale {
					if x.Err != nil { // the surveys are there all the same
						notes = append(notes, x.Err.Error())
						continue
					}
					list.Logs = append(list.Logs, x.Logs...)
					if note := staleNote(x.Logs); note != "" {
						notes = append(notes, note)
					}
				}
				for _, r := range list.Logs {
					days := ""
					if r.Days > 0 {
						days = render.Count(r.Days)
					}
					old.Row(render.C(r.Source), render.C(r.File), render.C(render.Count(int(r.Lines))), render.C(days),
						render.C(r.Why))
				}
				t := render.Table{Columns: []render.Column{{Name: "SURVEY", Right: true}, {Name: "SOURCE"},
					{Name: "FINISHED"}, {Name: "RECORDS", Right: true}}}
				for _, s := range all {
					t.Row(render.C(strconv.FormatInt(s.ID, 10)), render.C(s.Source),
						render.C(s.Finished.Format("2006-01-02 15:04:05")), render.C(render.Count(s.Records)))
				}
				d := &render.Doc{Head: render.Plural(len(all), "survey") + " kept", Value: list, Notes: notes,
					Next: []string{"clipfence survey compare"}}
				if len(all) > 0 {
					d.Tables = []render.Table{t}
				} else {
					d.Next = []string{"clipfence survey"}
				}
				if len(old.Rows) > 0 {
					d.Head += ", " + render.Plural(len(old.Rows), "log file") + " mapped with an older map"
					d.Tables = append(d.Tables, old)
				}
				return a.print(d)
			})
		}}
}

// surveyListing is what is kept of the sources.
type surveyListing struct {
	Surveys []work.KeptSurvey `json:"surveys"`
	Logs    []work.StaleLog   `json:"logs" doc:"log files that were mapped with an older map than that of now"`
}

func (a *app) surveyCompare() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "compare [OLDER [NEWER]]", Short: "What changed between two surveys of a source",
		Args: cobra.MaximumNArgs(2),
		Long: "Say which records were added, removed or changed between two surveys: by default the two newest " +
			"ones of the source. Numbers: clipfence survey list.",
		Example: "  clipfence survey compare\n  clipfence survey compare 3 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			var ids [2]int64
			for i, s := range args {
				n, err := strconv.ParseInt(s, 10, 64)
				if err != nil || n < 1 {
					return fmt.Errorf("survey %q is not a number (see: clipfence survey list)", s)
				}
				ids[i] = n
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				src, v, changes, err := w.CompareSurveys(cmd.Context(), ids)
				if err != nil {
					return err
				}
				return a.print(compareDoc(src, v, changes, all))
			})
		}}
	cmd.Flags().BoolVar(&all, "all", false, "every change, not only the first 30")
	return cmd
}

func compareDoc(src string, v [2]work.KeptSurvey, changes []work.RecordChange, all bool) *render.Doc {
	const most = 30
	t := render.Table{Columns: []render.Column{{Name: "CHANGE"}, {Name: "KIND"}, {Name: "ID", Path: true},
		{Name: "NOW (OR BEFORE)", Wrap: true}}}
	tones := map[string]render.Tone{"added": render.Warn, "removed": render.Good, "changed": render.Plain}
	for i, c := range changes {
		if i == most && !all {
			break
		}
		doc := c.After
		if doc == nil {
			doc = c.Before
		}
		t.Row(render.Cell{Text: c.Change, Tone: tones[c.Change]}, render.C(c.Kind), render.C(c.ID),
			render.C(compact(doc)))
	}
	when := func(s work.KeptSurvey) string {
		return fmt.Sprintf("%d (%s)", s.ID, s.Finished.Format("2006-01-02 15:04"))
	}
	d := &render.Doc{Head: fmt.Sprintf("%s: %s between survey %s and survey %s", src,
		render.Plural(len(changes), "change"), when(v[0]), when(v[1])), Value: changes}
	if len(changes) > 0 {
		d.Tables = []render.Table{t}
	}
	if len(t.Rows) < len(changes) {
		d.Notes = []string{fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), render.Count(len(changes)))}
	}
	return d
}
