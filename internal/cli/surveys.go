package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

func (a *app) surveyList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the surveys that are kept, newest first, and logs that were mapped with an older map", Args: cobra.NoArgs, Example: "  clipfence survey list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *workspace) error {
				all, err := w.store.Surveys(cmd.Context(), a.source)
				if err != nil {
					return err
				}
				sources, err := w.each()
				if err != nil {
					return err
				}
				old := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "LOG FILE", Path: true}, {Name: "LINES", Right: true}, {Name: "DAYS", Right: true}, {Name: "", Wrap: true}}}
				list := surveyListing{Surveys: append([]store.Survey{}, all...), Logs: []staleRow{}}
				var notes []string
				for _, s := range sources {
					rows, err := w.stale(cmd.Context(), s)
					if err != nil { // the surveys are there all the same
						notes = append(notes, err.Error())
						continue
					}
					list.Logs = append(list.Logs, rows...)
					if note := staleNote(rows); note != "" {
						notes = append(notes, note)
					}
				}
				for _, r := range list.Logs {
					days := ""
					if r.Days > 0 {
						days = render.Count(r.Days)
					}
					old.Row(render.C(r.Source), render.C(r.File), render.C(render.Count(int(r.Lines))), render.C(days), render.C(r.Why))
				}
				t := render.Table{Columns: []render.Column{{Name: "SURVEY", Right: true}, {Name: "SOURCE"}, {Name: "FINISHED"}, {Name: "RECORDS", Right: true}}}
				for _, s := range all {
					t.Row(render.C(strconv.FormatInt(s.ID, 10)), render.C(s.Source), render.C(s.Finished.Format("2006-01-02 15:04:05")), render.C(render.Count(s.Records)))
				}
				d := &render.Doc{Head: render.Plural(len(all), "survey") + " kept", Value: list, Notes: notes, Next: []string{"clipfence survey compare"}}
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
	Surveys []store.Survey `json:"surveys"`
	Logs    []staleRow     `json:"logs" doc:"log files that were mapped with an older map than that of now"`
}

// surveyChange is one record that differs between two surveys.
type surveyChange struct {
	Change string          `json:"change" doc:"added, removed or changed"`
	Kind   string          `json:"kind"`
	ID     string          `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

func (a *app) surveyCompare() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "compare [OLDER [NEWER]]", Short: "What changed between two surveys of a source", Args: cobra.MaximumNArgs(2),
		Long:    "Say which records were added, removed or changed between two surveys: by default the two newest ones of the source. Numbers: clipfence survey list.",
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
			return a.with(cmd.Context(), func(w *workspace) error {
				src, err := w.pick("")
				if err != nil {
					return err
				}
				list, err := w.store.Surveys(cmd.Context(), src.Name)
				if err != nil {
					return err
				}
				if len(list) < 2 && len(args) < 2 {
					return fmt.Errorf("source %s has %s; two are needed (run: clipfence survey)", src.Name, render.Plural(len(list), "survey"))
				}
				if ids[0] == 0 {
					ids[0] = list[1].ID
				}
				if ids[1] == 0 {
					ids[1] = list[0].ID
				}
				var e [2]*model.Estate
				var v [2]store.Survey
				for i := range e {
					if e[i], v[i], err = w.estate(cmd.Context(), src, ids[i]); err != nil {
						return err
					}
				}
				changes, err := compareEstates(e[0], e[1])
				if err != nil {
					return err
				}
				return a.print(compareDoc(src.Name, v, changes, all))
			})
		}}
	cmd.Flags().BoolVar(&all, "all", false, "every change, not only the first 30")
	return cmd
}

func compareEstates(a, b *model.Estate) ([]surveyChange, error) {
	type key struct{ kind, id string }
	read := func(e *model.Estate) (map[key]json.RawMessage, error) {
		out := map[key]json.RawMessage{}
		for _, r := range files.Records(e) {
			body, err := json.Marshal(r.Value)
			if err != nil {
				return nil, err
			}
			out[key{r.Kind, r.ID}] = body
		}
		return out, nil
	}
	before, err := read(a)
	if err != nil {
		return nil, err
	}
	after, err := read(b)
	if err != nil {
		return nil, err
	}
	out := []surveyChange{}
	union := maps.Clone(before)
	maps.Copy(union, after)
	for k := range union {
		was, is := before[k], after[k]
		switch {
		case was == nil:
			out = append(out, surveyChange{"added", k.kind, k.id, nil, is})
		case is == nil:
			out = append(out, surveyChange{"removed", k.kind, k.id, was, nil})
		case string(was) != string(is):
			out = append(out, surveyChange{"changed", k.kind, k.id, was, is})
		}
	}
	// What gives access first, then what the rest of it hangs on.
	order := []string{source.Grants, source.Memberships, source.ActAs, source.Roles, source.Denials, source.Ceilings, source.Guardrails, source.Identities, source.Nodes, source.Coverage, source.Permissions, source.Semantics}
	slices.SortFunc(out, func(x, y surveyChange) int {
		if d := slices.Index(order, x.Kind) - slices.Index(order, y.Kind); d != 0 {
			return d
		}
		if x.ID < y.ID {
			return -1
		}
		return 1
	})
	return out, nil
}

func compareDoc(src string, v [2]store.Survey, changes []surveyChange, all bool) *render.Doc {
	const most = 30
	t := render.Table{Columns: []render.Column{{Name: "CHANGE"}, {Name: "KIND"}, {Name: "ID", Path: true}, {Name: "NOW (OR BEFORE)", Wrap: true}}}
	tones := map[string]render.Tone{"added": render.Warn, "removed": render.Good, "changed": render.Plain}
	for i, c := range changes {
		if i == most && !all {
			break
		}
		doc := c.After
		if doc == nil {
			doc = c.Before
		}
		t.Row(render.Cell{Text: c.Change, Tone: tones[c.Change]}, render.C(c.Kind), render.C(c.ID), render.C(compact(doc)))
	}
	when := func(s store.Survey) string {
		return fmt.Sprintf("%d (%s)", s.ID, s.Finished.Format("2006-01-02 15:04"))
	}
	d := &render.Doc{Head: fmt.Sprintf("%s: %s between survey %s and survey %s", src, render.Plural(len(changes), "change"), when(v[0]), when(v[1])), Value: changes}
	if len(changes) > 0 {
		d.Tables = []render.Table{t}
	}
	if len(t.Rows) < len(changes) {
		d.Notes = []string{fmt.Sprintf("%d of %d shown; all: --all", len(t.Rows), len(changes))}
	}
	return d
}
