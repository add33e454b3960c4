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

type findingRow struct {
	ID       string           `json:"id"`
	Kind     work.FindingKind `json:"kind"`
	Severity string           `json:"severity"`
	Danger   int              `json:"danger"`
	Source   string           `json:"source"`
	Identity model.ID         `json:"identity"`
	Grant    string           `json:"grant,omitempty"`
	Rule     string           `json:"rule,omitempty" doc:"a denial or a ceiling"`
	Node     model.Path       `json:"node,omitzero" doc:"whose administrators it is about"`
	What     string           `json:"what"`
	Evidence []string         `json:"evidence"`
	Holders  []model.ID       `json:"holders,omitempty" doc:"of what is wrong by way of a group: those in it whom it is about"`
	Waived   *work.Waiver     `json:"waived,omitempty"`
}

func (a *app) findingsCmd() *cobra.Command {
	var window windowFlag
	severity := choice{value: "low", of: []string{"low", "medium", "high", "critical"}}
	failOn := choice{of: severity.of}
	var kinds []string
	for _, k := range work.FindingKinds() {
		kinds = append(kinds, string(k))
	}
	kind := choice{of: kinds}
	var all, waived bool
	cmd := &cobra.Command{
		Use: "findings", Short: "What is wrong, most dangerous first", Args: cobra.NoArgs,
		Long: `List what is wrong, most dangerous first. Each finding rests on evidence:
clipfence findings show ID tells it. A finding that was set aside with a reason
is not listed until that reason runs out.`,
		Example: "  clipfence findings\n  clipfence findings --fail-on high\n  clipfence findings show " +
			"f-1a2b3c4d\n  clipfence findings waive f-1a2b3c4d --reason 'renewal in March' --until " +
			"2027-03-31T00:00:00Z",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				found, err := w.Findings(cmd.Context(), window.Duration)
				if err != nil {
					return err
				}
				placed, err := a.placedOf(cmd.Context(), w, found)
				if err != nil {
					return err
				}
				return a.listFindings(found.List, placed, kind.value, severity.value, failOn.value, all, waived)
			})
		},
	}
	f := cmd.Flags()
	f.Var(&window, "window", "how far to look back (default: the window of clipfence.yaml)")
	f.Var(&severity, "severity", "only this severe or worse: low, medium, high, critical")
	f.Var(&failOn, "fail-on", "exit with 1 when a finding is this severe or worse")
	f.Var(&kind, "kind", "only this kind: "+strings.Join(kinds, ", "))
	f.BoolVar(&all, "all", false, "every finding, not only the first 20")
	f.BoolVar(&waived, "waived", false, "also those that were set aside")
	cmd.AddCommand(a.findingsShow(), a.findingsWaive())
	return cmd
}

var severityTone = map[string]render.Tone{"critical": render.Bad, "high": render.Bad, "medium": render.Warn,
	"low": render.Plain}

// printed returns how many of n rows are printed: so many at most, or all where all are asked for or a
// program reads them.
func (a *app) printed(n, most int, all bool) int {
	if all || a.format.value != "table" && a.format.value != "markdown" {
		return n
	}
	return min(n, most)
}

// listFindings tells findings. Of a large organisation there are hundreds of thousands, and what is told of
// one takes more room than the finding: rows are made of those alone that are printed.
func (a *app) listFindings(found []work.Finding, placed []string, kind, severity, failOn string, all,
	waived bool) error {
	const most = 20
	least, _ := work.ParseSeverity(severity)
	limit, limited := work.ParseSeverity(failOn)
	shown := a.printed(len(found), most, all)
	t := render.Table{Columns: []render.Column{{Name: "SEVERITY"}, {Name: "DANGER", Right: true}, {Name: "ID"},
		{Name: "KIND"}, {Name: "IDENTITY"}, {Name: "WHAT", Wrap: true}}}
	rows := []findingRow{} // of the first that are kept
	count := map[string]int{}
	kept, aside, fail := 0, 0, false
	for i := range found {
		f := &found[i]
		if f.Severity < least || kind != "" && string(f.Kind) != kind {
			continue
		}
		if f.Waived != nil {
			aside++
			if !waived {
				continue
			}
		}
		kept++
		count[f.Severity.String()]++
		fail = fail || limited && f.Severity >= limit && f.Waived == nil
		if len(rows) == shown {
			continue
		}
		r := findingRowOf(f)
		rows = append(rows, r)
		if !all && len(t.Rows) == most {
			continue
		}
		text := r.What
		if r.Waived != nil {
			text = "(set aside) " + text
		}
		t.Row(render.Cell{Text: r.Severity, Tone: severityTone[r.Severity]}, render.C(render.Count(r.Danger)),
			render.C(r.ID), render.C(string(r.Kind)), render.C(r.about()), render.C(text))
	}
	var parts []string
	for _, s := range []string{"critical", "high", "medium", "low"} {
		if count[s] > 0 {
			parts = append(parts, render.Count(count[s])+" "+s)
		}
	}
	d := &render.Doc{Head: "Nothing found", Lines: placed, Value: rows}
	if kept > 0 {
		d.Head = render.Plural(kept, "finding") + ": " + strings.Join(parts, ", ")
		d.Tables = []render.Table{t}
		d.Notes = append(d.Notes, "DANGER is what mending it takes away (how it is weighed: clipfence gauge --help).")
		d.Next = []string{"clipfence findings show " + rows[0].ID}
		if next := rows[0].next(); next != "" {
			d.Next = append(d.Next, next)
		}
	}
	if len(t.Rows) < kept {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), render.Count(kept)))
	}
	if aside > 0 && !waived {
		d.Notes = append(d.Notes, fmt.Sprintf("%s set aside with a reason; to see them: --waived",
			render.Plural(aside, "finding")))
	}
	if err := a.print(d); err != nil {
		return err
	}
	if fail {
		return errCheck
	}
	return nil
}

func (a *app) findingsShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Tell the evidence behind a finding", Args: cobra.ExactArgs(1),
		Example: "  clipfence findings show f-1a2b3c4d",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				r, err := oneFinding(cmd.Context(), w, args[0])
				if err != nil {
					return err
				}
				d := &render.Doc{Head: fmt.Sprintf("%s: %s %s", r.about(), r.Severity, r.Kind), Value: r}
				d.Lines = append(d.Lines, fmt.Sprintf("It %s. Mending it takes away %d of danger.", r.What, r.Danger))
				if slices.Contains([]work.FindingKind{work.IdleIdentity, work.PublicAccess, work.RedundantGrant,
					work.DeadGrant, work.IdleDenial, work.IdleCeiling, work.Wildcard, work.Administrators}, r.Kind) ||
					len(r.Holders) > 0 {
					d.Lines[0] = fmt.Sprintf("%s. Mending it takes away %d of danger.", upper(r.What), r.Danger)
				}
				if r.Kind == work.EndingAccess {
					d.Lines[0] = fmt.Sprintf("It %s.", r.What)
				}
				for _, e := range r.Evidence {
					d.Lines = append(d.Lines, "  "+e)
				}
				if r.Waived != nil {
					d.Lines = append(d.Lines, fmt.Sprintf("Set aside by %s until %s: %s", r.Waived.By,
						r.Waived.Until.Format(time.DateOnly), r.Waived.Reason))
				}
				if next := r.next(); next != "" {
					d.Next = append(d.Next, next)
				}
				d.Next = append(d.Next, fmt.Sprintf("clipfence findings waive %s --reason '...' --until ...", r.ID))
				return a.print(d)
			})
		},
	}
}

// about says whom or what a finding is about.
func (r *findingRow) about() string {
	if r.Identity.IsZero() {
		return r.Node.String()
	}
	return r.Identity.String()
}

// next is what to run to go on with a finding; "": nothing of ours.
func (r *findingRow) next() string {
	switch {
	case r.Kind == work.Escalation || r.Kind == work.Administrators:
		return command("clipfence reach --into %s --escalation", r.Node)
	case r.Kind == work.ActAsChain:
		return command("clipfence reach %s --through", r.Identity)
	case r.Kind == work.EndingAccess:
		return command("clipfence draft --for %s --from ends --until TIME", r.Identity)
	case r.Rule != "" || r.Identity.Open():
		return ""
	}
	return command("clipfence draft --for %s", r.Identity)
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (a *app) findingsWaive() *cobra.Command {
	var reason, key string
	var until timeFlag
	cmd := &cobra.Command{
		Use: "waive ID", Short: "Set a finding aside, with a reason and an end", Args: cobra.ExactArgs(1),
		Long: `Set a finding aside, with a reason and an end. It is signed with the SSH key of one of
the people in clipfence.yaml; a workspace that lists none keeps it unsigned.`,
		Example: "  clipfence findings waive f-1a2b3c4d --reason 'renewal in March' --until 2027-03-31T00:00:00Z",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			switch {
			case strings.TrimSpace(reason) == "":
				return errors.New("a finding is set aside with a reason: --reason")
			case !until.After(a.clock()):
				return errors.New("a finding is set aside until a time to come: --until")
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				r, err := oneFinding(cmd.Context(), w, args[0])
				if err != nil {
					return err
				}
				wv, err := w.Waive(cmd.Context(), r.ID, reason, until.Time, key)
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Head: fmt.Sprintf("Finding %s is set aside until %s", r.ID,
					until.Format(time.RFC3339)), Value: wv})
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().Var(&until, "until", "until when (RFC 3339)")
	cmd.Flags().StringVar(&key, "key", "", "SSH private key to sign with (default: the ssh-agent)")
	return cmd
}

// placedOf says what share of the calls behind findings is placed.
func (a *app) placedOf(ctx context.Context, w *work.Workspace, found *work.Findings) ([]string, error) {
	var placed []string
	for _, p := range found.Placed {
		logs, err := a.ofLogs(ctx, w, p.Source)
		if err != nil {
			return nil, err
		}
		placed = append(placed, of(p.Source, len(found.Placed) > 1, append(placedLines(p.Placement), logs...))...)
	}
	return placed, nil
}

// of says in front of each line of which source it is, where there are several.
func of(source string, several bool, lines []string) []string {
	if several {
		for i, l := range lines {
			lines[i] = source + ": " + l
		}
	}
	return lines
}

func findingRowOf(f *work.Finding) findingRow {
	row := findingRow{ID: f.ID, Kind: f.Kind, Severity: f.Severity.String(), Danger: int(f.Danger + 0.5),
		Source: f.Source, Identity: f.Identity, What: what(f.Finding), Evidence: evidenceOf(f), Rule: f.Rule,
		Node: f.Node, Waived: f.Waived, Holders: f.Holders}
	if f.Grant != nil {
		row.Grant = f.Grant.Grant.ID
	}
	return row
}

func oneFinding(ctx context.Context, w *work.Workspace, id string) (*findingRow, error) {
	found, err := w.Findings(ctx, 0)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(found.List, func(f work.Finding) bool { return f.ID == id })
	if i < 0 {
		return nil, fmt.Errorf("no finding %q now (see: clipfence findings --all --waived)", id)
	}
	row := findingRowOf(&found.List[i])
	return &row, nil
}
