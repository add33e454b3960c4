package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/config"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/render"
)

type coverageRow struct {
	Source   string     `json:"source"`
	Node     model.Path `json:"node"`
	Service  string     `json:"service"`
	LogClass string     `json:"log_class"`
	On       bool       `json:"on"`
	Since    time.Time  `json:"since,omitzero"`
	Keep     int        `json:"keep_days"`
	Share    float64    `json:"share_of_window"`
}

func (a *app) coverageCmd() *cobra.Command {
	var window durationFlag
	var all bool
	cmd := &cobra.Command{
		Use: "coverage", Short: "How far the evidence can be trusted", Args: cobra.NoArgs,
		Long: `Say, per node, service and log class, whether a log was really there over the
window. What no log would have shown is not unused: it is unobservable. By default
only the gaps are listed.`,
		Example: "  clipfence coverage\n  clipfence coverage --all --window 30d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *workspace) error { return w.coverage(cmd.Context(), window.Duration, all) })
		},
	}
	cmd.Flags().Var(&window, "window", "how far to look back (default: the window of clipfence.yaml)")
	cmd.Flags().BoolVar(&all, "all", false, "also what is covered")
	return cmd
}

func (w *workspace) coverage(ctx context.Context, window config.Duration, all bool) error {
	sources, err := w.each()
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "WHERE", Path: true}, {Name: "SERVICE"}, {Name: "LOG CLASS"}, {Name: "NOW"}, {Name: "COVERED", Right: true}, {Name: "SINCE"}}}
	rows := []coverageRow{}
	d := &render.Doc{}
	gaps, total, shown := 0, 0, 0
	for _, src := range sources {
		s, in, res, err := w.gauged(ctx, src, window)
		if err != nil {
			return err
		}
		span := in.Span()
		for _, r := range s.engine.Estate.Coverage {
			row := coverageRow{Source: src.Name, Node: r.Node, Service: r.Service, LogClass: r.LogClass, On: r.On, Since: r.Since, Keep: r.Keep, Share: in.Coverage.Share(r.Node, r.Service, r.LogClass, span)}
			total++
			if !usage.Observable(row.Share) {
				gaps++
			} else if !all {
				continue
			}
			rows = append(rows, row)
		}
		d.Head += fmt.Sprintf("%s, %s to %s (%d days): evidence complete for %s of what is granted. ", src.Name, span.From.Format(time.DateOnly), span.To.Format(time.DateOnly), in.Window, render.Percent(res.Observable))
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
		if logs, err := w.store.LogState(ctx, src.Name); err != nil {
			return err
		} else if logs.First.IsZero() {
			d.Lines = append(d.Lines, "No log of "+src.Name+" was read yet: nothing can be judged.")
		} else {
			d.Lines = append(d.Lines, fmt.Sprintf("Log read from %s to %s, %s lines, %s set aside.", logs.First.Format(time.DateOnly), logs.Last.Format(time.DateOnly), render.Count(logs.Lines), render.Count(logs.Rejected)))
		}
	}
	slices.SortFunc(rows, func(x, y coverageRow) int {
		return cmp.Or(cmp.Compare(x.Share, y.Share), x.Node.Compare(y.Node), cmp.Compare(x.Service, y.Service), cmp.Compare(x.LogClass, y.LogClass))
	})
	for _, r := range rows {
		if shown == 30 && !all {
			break
		}
		shown++
		now, since := render.Cell{Text: "on", Tone: render.Good}, "before the logs read"
		if !r.On {
			now, since = render.Cell{Text: "off", Tone: render.Bad}, ""
		}
		if !r.Since.IsZero() {
			since = r.Since.Format(time.DateOnly)
		}
		t.Row(render.C(r.Node.String()), render.C(r.Service), render.C(r.LogClass), now, render.C(render.Percent(r.Share)), render.C(since))
	}
	d.Head = d.Head[:max(0, len(d.Head)-1)]
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
	}
	if shown < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %d gaps shown; all: --all", shown, len(rows)))
	}
	d.Notes = append(d.Notes, fmt.Sprintf("%d of %s have a gap. To close one, switch that class on in the source's log settings.", gaps, render.Plural(total, "log")))
	d.Next = []string{"clipfence gauge"}
	d.Value = rows
	return w.app.print(d)
}

func identities(n int) string {
	if n == 1 {
		return "1 identity"
	}
	return render.Count(n) + " identities"
}
