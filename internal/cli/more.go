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

// moreFlags are those of draft that are about somebody who is to have more.
type moreFlags struct {
	task, needs     string
	on, with, at    []string
	calls, approves []string
	until           timeFlag
	lend            durationFlag
	exactly         bool
}

func (f *moreFlags) add(cmd *cobra.Command) {
	s := cmd.Flags()
	s.StringVar(&f.task, "task", "", "draft what a task takes; --from task lists them")
	s.StringArrayVar(&f.on, "on", nil, "of a task: the place that it is done on; may be repeated")
	s.StringVar(&f.needs, "needs", "", "draft what a needs file asks for, and nothing else")
	s.StringSliceVar(&f.with, "with", nil, "of needs: the features that are on")
	s.StringArrayVar(&f.at, "at", nil, "of needs: where a place is, NAME=PATH; may be repeated")
	s.StringArrayVar(&f.calls, "call", nil, "of refusals: only this call, \"PERMISSION PATH\", in the logs or not; "+
		"may be repeated")
	s.BoolVar(&f.exactly, "exactly", false, "of refusals: give the very places of the calls, whatever it had before")
	s.Var(&f.until, "until", "what is given, or put off, ends at this time (RFC 3339)")
	s.Var(&f.lend, "lend", "write gates, to be open so long at most, in place of a fence")
	s.StringArrayVar(&f.approves, "approver", nil, "of --lend: who approves; may be repeated")
}

// from sets what is drafted from, where another flag says it.
func (f *moreFlags) from(cmd *cobra.Command, from *choice) error {
	implied := map[string]string{"task": "task", "on": "task", "needs": "needs", "with": "needs", "at": "needs",
		"call": "refusals", "exactly": "refusals"}
	by := ""
	for _, name := range []string{"task", "on", "needs", "with", "at", "call", "exactly"} {
		if !cmd.Flags().Changed(name) {
			continue
		}
		is := implied[name]
		if cmd.Flags().Changed("from") || by != "" {
			if from.value != is {
				return fmt.Errorf("--%s is for --from %s, not for --from %s", name, is, from.value)
			}
		}
		from.value, by = is, name
	}
	for _, name := range []string{"until", "lend", "approver"} {
		if cmd.Flags().Changed(name) && from.value == "use" {
			return fmt.Errorf("--%s is for --from refusals, task and ends: what is drafted from use gives nothing "+
				"new",
				name)
		}
	}
	switch {
	case f.lend.Duration > 0 && from.value == "needs":
		return errors.New("--lend is for --from refusals and --from task: what a product needs it needs always")
	case f.lend.Duration > 0 && !f.until.IsZero():
		return errors.New("--lend is for a time already: leave --until out")
	case len(f.approves) > 0 && f.lend.Duration == 0:
		return errors.New("--approver goes with --lend")
	case from.value == "needs" && f.needs == "":
		return errors.New("say what needs it: --needs FILE (its format: clipfence schema needs)")
	}
	return nil
}

// request reads what is asked for.
func (f *moreFlags) request(who, out string, window model.Duration, force bool) (*work.MoreRequest, error) {
	q := &work.MoreRequest{For: who, Task: f.task, Needs: f.needs, With: f.with, Window: window, Until: f.until.Time,
		Exactly: f.exactly,
		File:    out, Force: force, Lend: f.lend.Duration, At: map[string]model.Path{}}
	for _, text := range f.on {
		p, err := model.ParsePath(text)
		if err != nil {
			return nil, fmt.Errorf("--on: %w", err)
		}
		q.On = append(q.On, p)
	}
	for _, text := range f.at {
		name, path, ok := strings.Cut(text, "=")
		if !ok {
			return nil, fmt.Errorf("--at %q: want NAME=PATH", text)
		}
		p, err := model.ParsePath(path)
		if err != nil {
			return nil, fmt.Errorf("--at %s: %w", name, err)
		}
		q.At[name] = p
	}
	for _, text := range f.calls {
		do, on, ok := strings.Cut(strings.TrimSpace(text), " ")
		if !ok {
			return nil, fmt.Errorf("--call %q: want \"PERMISSION PATH\"", text)
		}
		p, err := model.ParsePermission(do)
		if err != nil {
			return nil, fmt.Errorf("--call: %w", err)
		}
		path, err := model.ParsePath(strings.TrimSpace(on))
		if err != nil {
			return nil, fmt.Errorf("--call: %w", err)
		}
		q.Calls = append(q.Calls, work.RefusedCall{Permission: p, Path: path})
	}
	for _, text := range f.approves {
		id, err := model.ParseID(text)
		if err != nil {
			return nil, fmt.Errorf("--approver: %w", err)
		}
		q.Approvers = append(q.Approvers, id)
	}
	return q, nil
}

type moreValue struct {
	For     model.ID    `json:"for"`
	File    string      `json:"file,omitempty" doc:"the fence file that was written"`
	Gates   []string    `json:"gates,omitempty" doc:"the gate files that were written in place of it"`
	Why     string      `json:"widens,omitempty"`
	Lines   int         `json:"lines"`
	Calls   []answerRow `json:"calls,omitempty" doc:"that were refused"`
	Missing []lackRow   `json:"missing,omitempty" doc:"wanted, and not granted there or not everywhere in it"`
	Excess  []lackRow   `json:"excess,omitempty" doc:"granted, and wanted nowhere in it or not everywhere"`
	Barred  []lackRow   `json:"barred,omitempty" doc:"wanted, and refused by a rule against which no line helps; for names it"`
	Never   []lackRow   `json:"never_seen,omitempty" doc:"wanted and granted, and no call of it is known"`
	Beyond  []brokenRow `json:"used_beyond,omitempty" doc:"used, and not wanted: it would be refused"`
	Gains   []gainRow   `json:"gains,omitempty" doc:"what may be done then and not before, exactly, on the inventory"`
	Before  int         `json:"danger_before"`
	After   int         `json:"danger_after"`
	Reach   int         `json:"danger_within_reach_before"`
	Still   int         `json:"danger_within_reach_after"`
}

type answerRow struct {
	Permission model.Permission `json:"permission"`
	Path       model.Path       `json:"path"`
	Calls      int64            `json:"calls" doc:"0: it is not in the logs"`
	Days       int              `json:"days"`
	Last       time.Time        `json:"last,omitzero"`
	Line       bool             `json:"line" doc:"a line allows it"`
	Answer     string           `json:"answer"`

	Where model.PathPattern `json:"where,omitzero" doc:"of the line, where it reaches further than the call did"`
}

type lackRow struct {
	Permission model.Permission  `json:"permission"`
	Where      model.PathPattern `json:"where"`
	For        string            `json:"for" doc:"what wants it, or the grant that gives it"`
}

type gainRow struct {
	Permission model.Permission `json:"permission"`
	Level      string           `json:"level"`
	Nodes      int              `json:"nodes" doc:"of the inventory"`
	First      model.Path       `json:"first"`
}

func gainRows(r *work.Rehearsal) []gainRow {
	var out []gainRow
	for _, g := range r.Gains {
		out = append(out, gainRow{g.Permission, g.Level.String(), g.Nodes, g.First})
	}
	return out
}

// gainWords say what may be done then and not before.
func gainWords(gains []gainRow) string {
	const most = 3
	if len(gains) == 0 {
		return "nothing that it may not do already"
	}
	pairs, off := 0, 0
	for _, g := range gains {
		pairs += g.Nodes
		if g.Nodes == 0 {
			off++
		}
	}
	if len(gains) <= most {
		var out []string
		for _, g := range gains {
			switch g.Nodes {
			case 0:
				out = append(out, fmt.Sprintf("%s on %s, which the inventory does not list as a place for it",
					g.Permission, g.First))
			case 1:
				out = append(out, fmt.Sprintf("%s on %s", g.Permission, g.First))
			default:
				out = append(out, fmt.Sprintf("%s on %s", g.Permission, render.Plural(g.Nodes, "node")))
			}
		}
		return strings.Join(out, "; ")
	}
	top := map[string]map[model.Permission]bool{}
	var levels []string
	for _, g := range gains {
		if top[g.Level] == nil {
			top[g.Level] = map[model.Permission]bool{}
			levels = append(levels, g.Level)
		}
		top[g.Level][g.Permission] = true
	}
	n := 0
	for i, l := range levels {
		n += len(top[l])
		levels[i] = fmt.Sprintf("%d %s", len(top[l]), l)
	}
	out := fmt.Sprintf("%d permissions (%s), %s of permission and node", n, strings.Join(levels, ", "),
		render.Plural(pairs, "pair"))
	if off > 0 {
		out += fmt.Sprintf(", and %s on places that the inventory does not list", render.Plural(off, "pair"))
	}
	return out
}

// answerWords say what can be done about a refused call.
func answerWords(a *work.RefusedAnswer) string {
	switch a.Help {
	case work.HelpLine:
		if len(a.Kinds) > 0 {
			return "a line gives it, but it is for " + strings.Join(a.Kinds, ", ") + ": such a call may be a mistake"
		}
		if !a.Where.IsZero() {
			return "a line gives it back on " + a.Where.String()
		}
		return "a line gives it"
	case work.HelpAlready:
		return "allowed now"
	case work.HelpSometimes:
		if len(a.Decision.Ways) > 0 && a.Decision.Ways[0].Grant != nil {
			return fmt.Sprintf("allowed by %s: %s", grantWords(a.Decision.Ways[0].Grant), a.Decision.Ways[0].Rest)
		}
		return "allowed under a condition that the log does not show"
	case work.HelpCondition:
		g := a.Decision.Unmet[0].Grant
		return fmt.Sprintf("%s gives it %s: meet that", grantWords(g), g.Condition())
	case work.HelpRule:
		return "no line helps: " + refusalWords(a.Decision.Refusals[0])
	case work.HelpTooMany:
		return "left out: a fence has at most 40 lines; apply this one and draft again"
	}
	return "the catalogue knows no such permission"
}

func lackRows(list []work.Lack) []lackRow {
	var out []lackRow
	for _, l := range list {
		out = append(out, lackRow{l.Permission, l.Where, l.For})
	}
	return out
}

// draftMore writes what somebody is to have besides.
func (a *app) draftMore(ctx context.Context, w *work.Workspace, q *work.MoreRequest) error {
	m, err := w.DraftMore(ctx, *q)
	none := errors.Is(err, work.ErrNoLine)
	if err != nil && !none {
		return err
	}
	v := moreValue{Gates: m.Gates, File: m.File}
	if v.For, err = model.ParseID(q.For); err != nil {
		return err
	}
	d := &render.Doc{}
	helped, back := 0, 0
	for i := range m.Answers {
		x := &m.Answers[i]
		v.Calls = append(v.Calls, answerRow{x.Permission, x.Path, x.Count, x.Days, x.Last, x.Help == work.HelpLine,
			answerWords(x), x.Where})
		if !x.Where.IsZero() {
			back++
		}
		if x.Help == work.HelpLine {
			helped++
		}
	}
	if m.Gap != nil {
		v.Missing = lackRows(m.Gap.Missing)
		for _, b := range m.Gap.Barred {
			v.Barred = append(v.Barred, lackRow{b.Permission, b.Where, refusalWords(b.By)})
		}
		if q.Needs != "" {
			v.Excess, v.Never = lackRows(m.Gap.Excess), lackRows(m.NeverUsed)
		}
	}
	calls := int64(0)
	for _, u := range m.Beyond {
		v.Beyond = append(v.Beyond, brokenRow{u.Identity, u.Permission, u.Node, u.Calls, u.Last, false})
		calls += u.Calls
	}
	if m.Fence != nil {
		v.For, v.Why, v.Lines = m.Fence.For, m.Fence.Widens, len(m.Fence.Allow)
	}
	if r := m.Rehearsal; r != nil {
		v.Gains = gainRows(r)
		v.Before, v.After = int(r.Before+.5), int(r.After+.5)
		v.Reach, v.Still = int(r.ReachBefore.Danger+.5), int(r.ReachAfter.Danger+.5)
	}
	d.Value = v
	switch {
	case none && len(v.Barred) > 0:
		d.Head = fmt.Sprintf("Nothing is written: a rule refuses %s of it to %s, whatever is granted",
			render.Plural(len(v.Barred), "permission"), v.For)
	case none && q.Needs != "":
		d.Head = fmt.Sprintf("Fits: %s has just what %s needs (%s), and nothing is written", v.For, m.Product,
			strings.Join(m.On, ", "))
	case none && q.Task != "":
		d.Head = fmt.Sprintf("Nothing is written: %s may do all of task %s there already", v.For, q.Task)
	case none && q.Ends:
		d.Head = fmt.Sprintf("Nothing is written: nothing that %s has ends within 30 days, or ended in the window, "+
			"and was used in it, or it ends later than that already", v.For)
	case none && len(m.Answers) == 0:
		d.Head = fmt.Sprintf("Nothing is written: no call of %s was refused in the window", v.For)
		d.Next = []string{command("clipfence uses %s --denied --window 400d", q.For)}
	case none:
		d.Head = fmt.Sprintf("Nothing is written: for none of %s of %s is a line needed, or of any help",
			render.Plural(len(m.Answers), "refused call"), v.For)
	case len(v.Gates) > 0:
		d.Head = fmt.Sprintf("%s drafted for %s, in place of giving it for good; they open nothing yet",
			render.Plural(len(v.Gates), "gate"), v.For)
	case q.Needs != "":
		d.Head = fmt.Sprintf("%s: %d missing, %d in excess, %d never seen used; the draft gives %s just what it "+
			"needs, danger "+
			"held %s", m.Product, len(v.Missing), len(v.Excess), len(v.Never), v.For, arrow(v.Before, v.After))
	case q.Ends:
		d.Head = fmt.Sprintf("PUT OFF: the end of %s of %s, to %s", render.Plural(v.Lines, "grant"), v.For,
			q.Until.UTC().Format(time.DateOnly))
	default:
		d.Head = fmt.Sprintf("GIVES MORE: %s for %s, danger held %s", render.Plural(v.Lines, "line"), v.For,
			arrow(v.Before, v.After))
		if v.Still > v.Reach && v.Still > v.After {
			d.Head += ", within reach " + arrow(v.Reach, v.Still)
		}
	}
	if m.Rehearsal != nil {
		d.Lines = append(d.Lines, "What it may do then and not before: "+gainWords(v.Gains)+".")
		if r := m.Rehearsal; r.ReachAfter.Danger > r.ReachBefore.Danger+.5 && r.ReachAfter.Further(r.After) {
			d.Lines = append(d.Lines, "MORE THAN THAT IS WITHIN REACH THEN, so leave such a line out, or lend it "+
				"(--lend): "+lowerFirst(reachWords(m.Who, r.ReachAfter, r.After, m.In)))
		}
		if n := m.Members; n > 0 {
			d.Lines = append(d.Lines, fmt.Sprintf("So may everybody in it: %s.", render.Plural(n, "identity")))
		}
	}
	if q.Needs != "" {
		on := "Features on: " + strings.Join(m.On, ", ")
		if len(m.Off) > 0 {
			on += "; off: " + strings.Join(m.Off, ", ")
		}
		d.Lines = append(d.Lines, on+".")
	}
	if m.Answers != nil && (helped > 0 || !none) {
		d.Lines = append(d.Lines, fmt.Sprintf("Of %s %s a line.", render.Plural(len(m.Answers), "refused call"),
			needWords(helped)))
	}
	if back > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("Of %s of them the line reaches further than the call did: to what a "+
			"draft would have left of what it had before, had it known of the calls, since the next ones would be "+
			"refused else. On the very places alone: --exactly.", render.Count(back)))
	}
	if n := m.Probing; n > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("Look before you give: %d different permissions were tried on a "+
			"single day each. So it looks, too, when somebody tries what a stolen key opens.", n))
	}
	if n := len(v.Barred); n > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("NO LINE HELPS with %s of it: %s. Lift that first, or do it as "+
			"somebody else.", render.Plural(n, "permission"), v.Barred[0].For))
	}
	if n := len(v.Beyond); n > 0 {
		d.Head += fmt.Sprintf("; BUT IT USES MORE: %s of %s would be refused", render.Plural(int(calls), "call"),
			render.Plural(n, "permission"))
		d.Lines = append(d.Lines, "What it uses and does not say to need is below. The rehearsal fails until that "+
			"is named under "+
			"gives_up, or the feature that needs it is on (--with).")
	}
	d.Tables = moreTables(&v)
	for i, f := range v.Gates {
		if i < 3 {
			d.Next = append(d.Next, command("mv %s gates/", w.Relative(f)))
		}
	}
	if len(v.Gates) > 0 {
		d.Next = append(d.Next, "clipfence trust sign")
	}
	if v.File != "" {
		f := w.Relative(v.File)
		d.Next = append(d.Next, command("clipfence rehearse %s", f), command("clipfence apply %s", f))
	}
	return a.print(d)
}

func needWords(n int) string {
	switch n {
	case 0:
		return "none needs"
	case 1:
		return "1 needs"
	}
	return fmt.Sprintf("%d need", n)
}

// mostRows is how many rows of a table are shown; --format json has all.
const mostRows = 20

func moreTables(v *moreValue) []render.Table {
	var out []render.Table
	if len(v.Calls) > 0 {
		t := render.Table{Title: "Refused", Columns: []render.Column{{Name: "CALLS", Right: true},
			{Name: "DAYS", Right: true}, {Name: "LAST"}, {Name: "PERMISSION"}, {Name: "ANSWER", Wrap: true},
			{Name: "PATH", Path: true}}}
		for i, c := range v.Calls {
			if i == mostRows {
				t.Row(render.C(""), render.C(""), render.C(""), render.C(fmt.Sprintf("... and %d more",
					len(v.Calls)-i)),
					render.C(""), render.C(""))
				break
			}
			tone, last := render.Plain, "not in the logs"
			if c.Line {
				tone = render.Warn
			}
			if c.Calls > 0 {
				last = c.Last.Format(time.DateOnly)
			}
			t.Row(render.C(render.Count(int(c.Calls))), render.C(fmt.Sprint(c.Days)), render.C(last),
				render.C(c.Permission.String()), render.Cell{Text: c.Answer, Tone: tone}, render.C(c.Path.String()))
		}
		out = append(out, t)
	}
	lacks := func(title, what string, list []lackRow) {
		if len(list) == 0 {
			return
		}
		t := render.Table{Title: title, Columns: []render.Column{{Name: "PERMISSION"}, {Name: what, Wrap: true},
			{Name: "WHERE", Path: true}}}
		for i, l := range list {
			if i == mostRows {
				t.Row(render.C(fmt.Sprintf("... and %d more", len(list)-i)), render.C(""), render.C(""))
				break
			}
			t.Row(render.C(l.Permission.String()), render.C(l.For), render.C(l.Where.String()))
		}
		out = append(out, t)
	}
	lacks("Refused by a rule", "BY", v.Barred)
	lacks("Missing", "FOR", v.Missing)
	lacks("Never seen used", "FOR", v.Never)
	lacks("In excess", "BY GRANT", v.Excess)
	if len(v.Beyond) > 0 {
		t := render.Table{Title: "Used, and not said to be needed", Columns: []render.Column{
			{Name: "CALLS", Right: true}, {Name: "LAST"}, {Name: "PERMISSION"}, {Name: "PATH", Path: true}}}
		for i, b := range v.Beyond {
			if i == mostRows {
				t.Row(render.C(""), render.C(""), render.C(fmt.Sprintf("... and %d more", len(v.Beyond)-i)),
					render.C(""))
				break
			}
			t.Row(render.C(render.Count(int(b.Calls))), render.C(b.Last.Format(time.DateOnly)),
				render.C(b.Permission.String()), render.C(b.Path.String()))
		}
		out = append(out, t)
	}
	return out
}

// listTasks shows the tasks that can be drafted from.
func (a *app) listTasks(ctx context.Context, w *work.Workspace) error {
	tasks, err := w.Tasks(ctx)
	if err != nil {
		return err
	}
	type row struct {
		Name  string   `json:"name"`
		Title string   `json:"title"`
		Kinds []string `json:"kinds"`
		Do    []string `json:"do"`
	}
	rows := []row{}
	t := render.Table{Columns: []render.Column{{Name: "TASK"}, {Name: "ON"}, {Name: "TAKES", Right: true},
		{Name: "TO", Wrap: true}}}
	for _, x := range tasks {
		r := row{x.Name, x.Title, x.Kinds, nil}
		for _, s := range slices.Concat(x.Steps, x.Companions) {
			for _, p := range s.Do {
				r.Do = append(r.Do, p.String())
			}
		}
		rows = append(rows, r)
		on := strings.Join(x.Kinds, ", ")
		if on == "" {
			on = "any place"
		}
		t.Row(render.C(x.Name), render.C(on), render.C(fmt.Sprint(len(r.Do))), render.C(x.Title))
	}
	d := &render.Doc{Head: render.Plural(len(rows), "task") + " to draft from", Value: rows}
	if len(rows) == 0 {
		d.Head = "No task fits this source; write some into a file and name it under tasks in clipfence.yaml"
		d.Next = []string{"clipfence schema tasks"}
		return a.print(d)
	}
	d.Tables = []render.Table{t}
	d.Notes = []string{"TAKES counts permissions, with those that people's tools ask besides. More come from files " +
		"that clipfence.yaml names under tasks (their format: clipfence schema tasks)."}
	d.Next = []string{command("clipfence draft --task %s --for IDENTITY --on PATH", rows[0].Name)}
	return a.print(d)
}
