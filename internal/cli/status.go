package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

type statusValue struct {
	Sources    []work.SourceStatus       `json:"sources"`
	Drafts     map[string]int            `json:"drafts" doc:"by state"`
	Watched    []watchedRow              `json:"watched"`
	Unfinished []unfinishedRow           `json:"unfinished_changes"`
	Requests   map[work.RequestState]int `json:"requests" doc:"that have not ended, by state"`
}

type watchedRow struct {
	For  model.ID `json:"for"`
	File string   `json:"file"`
	shadowRow
}

type unfinishedRow struct {
	Change string   `json:"change"`
	For    model.ID `json:"for,omitzero"`
	State  string   `json:"state"`
	Why    string   `json:"why,omitempty"`
}

func (a *app) statusCmd() *cobra.Command {
	return &cobra.Command{Use: "status", Short: "Where the workspace stands, and what waits", Args: cobra.NoArgs,
		Long: `Say where the workspace stands, from what is kept: how old what is known of each source is,
which drafts wait or are watched and what these would have refused, which changes broke off
or were handed over, what ends within 30 days, and which requests for elevation are open. Exit code 0, also when
something waits.`,
		Example: "  clipfence status",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				s, err := w.Status(cmd.Context())
				if err != nil {
					return err
				}
				return a.print(statusDoc(s, a.now()))
			})
		}}
}

func statusDoc(s *work.Status, now time.Time) *render.Doc {
	v := statusValue{Sources: s.Sources, Drafts: s.Drafts, Watched: []watchedRow{}, Unfinished: []unfinishedRow{},
		Requests: s.Requests}
	d := &render.Doc{}
	var waits []string
	next := func(cmd string) { d.Next = append(d.Next, "clipfence "+cmd) }
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "SURVEYED"}, {Name: "LOG KNOWN TO"},
		{Name: "", Wrap: true}}}
	stale, quietLogs, logless, unread := 0, 0, 0, 0
	for _, x := range s.Sources {
		at, to, note := "never", "never read", render.C("")
		if x.Survey > 0 {
			at = x.Surveyed.UTC().Format("2006-01-02 15:04")
			end := work.LogEnd{Source: x.Name, Read: x.LogRead, Newest: x.LogTo}
			if line := staleLine(end, now); x.Old != "" {
				stale++
				note = render.Cell{Text: x.Old, Tone: render.Warn}
			} else if !x.LogRead.IsZero() && line != "" {
				quietLogs++
				note = render.Cell{Text: line, Tone: render.Warn}
			}
		} else {
			stale++
		}
		if x.NoLogs {
			logless++
			to = "no logs named"
		}
		if x.LogTo.IsZero() && x.LogLines > 0 {
			to = "no event read"
		}
		if x.Rejected > 0 && x.Rejected*20 >= x.LogLines {
			unread++
			if note.Text == "" {
				note = render.Cell{Text: fmt.Sprintf("%s of %s log lines could not be read and are set aside",
					render.Count(x.Rejected), render.Count(x.LogLines)), Tone: render.Warn}
			}
		}
		if !x.LogTo.IsZero() {
			to = render.Day(x.LogTo, now)
		}
		t.Row(render.C(x.Name), render.C(at), render.C(to), note)
	}
	d.Tables = []render.Table{t}
	if stale > 0 {
		waits = append(waits, fmt.Sprintf("%s to be surveyed", render.Plural(stale, "source")))
		next("survey")
	}
	if logless > 0 {
		waits = append(waits, fmt.Sprintf("logs of %s to be named in clipfence.yaml",
			render.Plural(logless, "source")))
	}
	if quietLogs > 0 {
		waits = append(waits, fmt.Sprintf("logs of %s to be looked after", render.Plural(quietLogs, "source")))
	}
	if logless+quietLogs > 0 {
		next("coverage")
	}
	if unread > 0 {
		waits = append(waits, fmt.Sprintf("log lines of %s that could not be read", render.Plural(unread, "source")))
		next("survey --show-rejected")
	}
	for _, r := range s.Unfinished {
		v.Unfinished = append(v.Unfinished, unfinishedRow{r.ID, r.For, r.State, r.Why})
		d.Lines = append(d.Lines, fmt.Sprintf("Change %s%s: %s.", r.ID, forWhom(r.For), r.State))
	}
	if n := len(s.Unfinished); n > 0 {
		waits = append(waits, render.Plural(n, "change")+" not finished")
		next("ledger show " + s.Unfinished[0].ID)
	}
	for _, r := range s.Watched {
		x := *shadowOf(r)
		v.Watched = append(v.Watched, watchedRow{r.For, r.Name, x})
		d.Lines = append(d.Lines, fmt.Sprintf("Watched: %s %s.", r.For, x.words()))
	}
	total := 0
	var drafts []string
	for _, state := range []string{"open", "accepted", "aside", "needed", "handed over", "applied",
		"unreadable"} {
		if n := s.Drafts[state]; n > 0 {
			total += n
			drafts = append(drafts, fmt.Sprintf("%d %s", n, strings.Replace(state, "aside", "set aside", 1)))
		}
	}
	if total > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("%s: %s.", render.Plural(total, "draft"), strings.Join(drafts, ", ")))
	}
	if n := s.Drafts["open"]; n > 0 {
		waits = append(waits, render.Plural(n, "draft")+" to decide on")
		next("review")
	}
	if n := s.Drafts["accepted"] - len(s.Watched); n > 0 {
		waits = append(waits, render.Plural(n, "accepted draft")+" to carry out")
		if n > len(s.ByHand) {
			of := ""
			if len(s.Sources) > 1 {
				of = " --source SOURCE"
			}
			next("apply --accepted" + of)
		}
		for _, name := range s.ByHand[:min(3, len(s.ByHand))] {
			d.Next = append(d.Next, command("clipfence apply %s", name))
		}
	}
	for _, x := range s.Sources {
		for i, e := range x.Ending {
			if i == 3 {
				more := render.Plural(len(x.Ending)-i, "grant")
				d.Lines = append(d.Lines, fmt.Sprintf("... and %s more of %s.", more, x.Name))
				break
			}
			on := e.Until.Format(time.DateOnly)
			d.Lines = append(d.Lines, fmt.Sprintf("Ends on %s: grant %s of %s.", on, e.Grant, e.To))
		}
		if n := len(x.Ending); n > 0 {
			waits = append(waits, fmt.Sprintf("%s of %s within 30 days",
				map[bool]string{true: "1 grant ends", false: render.Plural(n, "grant") + " end"}[n == 1], x.Name))
			next("findings --kind ending-access")
		}
	}
	for _, x := range s.Sources {
		for _, line := range overWords(x.Over) {
			d.Notes = append(d.Notes, x.Name+": "+line)
		}
	}
	open := 0
	for _, n := range s.Requests {
		open += n
	}
	if open > 0 {
		waits = append(waits, render.Plural(open, "request")+" for elevation")
		next("gate list")
	}
	d.Head = "Nothing waits"
	if len(waits) > 0 {
		d.Head = "Waiting: " + strings.Join(waits, "; ")
	}
	d.Value, d.Rows = v, v.Sources
	return d
}
