package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

// useRow is one line of clipfence uses, also in Parquet.
type useRow struct {
	Source     string    `json:"source" parquet:"source,dict"`
	Identity   string    `json:"identity,omitempty" parquet:"identity,dict"`
	ActingFor  string    `json:"acting_for,omitempty" parquet:"acting_for,dict"`
	Service    string    `json:"service,omitempty" parquet:"service,dict"`
	Permission string    `json:"permission,omitempty" parquet:"permission,dict"`
	Path       string    `json:"path,omitempty" parquet:"path"`
	Outcome    string    `json:"outcome,omitempty" parquet:"outcome,dict"`
	Network    string    `json:"network,omitempty" parquet:"network,dict"`
	Calls      int64     `json:"calls" parquet:"calls"`
	AtLeast    bool      `json:"calls_are_at_least,omitempty" parquet:"calls_are_at_least"`
	First      time.Time `json:"first" parquet:"first,timestamp"`
	Last       time.Time `json:"last" parquet:"last,timestamp"`
	Days       int32     `json:"days" parquet:"days"`
}

type usesFlags struct {
	identity, actingFor, permission, path, by, out    string
	window                                            windowFlag
	outcome                                           choice
	denied, all, strangers, unmapped, whole, unplaced bool
}

func (a *app) usesCmd() *cobra.Command {
	f := usesFlags{outcome: choice{of: []string{string(work.Done), string(work.Failed), string(work.Refused)}}}
	cmd := &cobra.Command{
		Use: "uses [IDENTITY]", Short: "Who did what, where and when", Args: cobra.MaximumNArgs(1),
		Long: `Look at what the logs show: who did what, where and when, in the words of the
estate. By default uses are grouped by identity and permission, most calls first,
with a strip of the window that shows habits at a glance: a dot for days without a
call, a bar as high as the share of days with one.

--denied shows the calls that were refused. --strangers lists callers that the
estate does not know, --unmapped the operations that its catalogue does not, with an
example each: aliases and an operations file in clipfence.yaml bring them home; a caller
that is nobody here is waived under strangers. --unplaced lists every call that cannot be
placed, and why: what it may have been is not called unused.
With --out FILE.parquet the rows go on to whatever reads Parquet. With --pseudonyms people
are named by pseudonyms in either; keep_uses in clipfence.yaml says how long calls are kept.`,
		Example: `  clipfence uses workload/ticket-export
  clipfence uses --permission 'stow/*:*' --path '/mooring/**' --by identity,path
  clipfence uses --denied --by identity,permission --window 30d
  clipfence uses person/ingrid.vaage --as-of 2026-10-01T00:00:00Z --window 7d
  clipfence uses --strangers
  clipfence uses --unmapped
  clipfence uses --unplaced
  clipfence uses --by identity,permission,path --all --out uses.parquet`,
		ValidArgsFunction: a.completeIdentity,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				f.identity = args[0]
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				switch {
				case f.strangers:
					return a.strangers(cmd.Context(), w)
				case f.unmapped:
					return a.unmapped(cmd.Context(), w)
				case f.unplaced:
					return a.unplaced(cmd.Context(), w, f.all)
				}
				return a.showUses(cmd.Context(), w, &f)
			})
		},
	}
	cmd.AddCommand(a.usesForget(), a.usesReveal())
	fl := cmd.Flags()
	fl.StringVar(&f.actingFor, "acting-for", "", "only calls with this identity's rights")
	fl.StringVar(&f.permission, "permission", "", "only permissions like this pattern")
	fl.StringVar(&f.path, "path", "", "only paths like this pattern")
	fl.StringVar(&f.by, "by", "identity,permission", "group by: "+joinFields())
	fl.StringVar(&f.out, "out", "", "write the rows as a Parquet file, in place of printing them")
	fl.Var(&f.window, "window", "how far to look back (default: the window of clipfence.yaml)")
	fl.Var(&f.outcome, "outcome", "only calls that were done, failed or refused (default: done and failed)")
	fl.BoolVar(&f.denied, "denied", false, "only calls that were refused: --outcome refused")
	fl.BoolVar(&f.whole, "whole-paths", false,
		"with --by path: every path, not the node of the inventory that it belongs to")
	fl.BoolVar(&f.all, "all", false, "every group, not only the first 30")
	fl.BoolVar(&f.strangers, "strangers", false, "callers that the estate does not know")
	fl.BoolVar(&f.unplaced, "unplaced", false, "calls that cannot be placed, and why")
	fl.BoolVar(&f.unmapped, "unmapped", false, "operations that the catalogue does not know")
	return cmd
}

func joinFields() string {
	var out []string
	for _, f := range work.UseFields {
		out = append(out, string(f))
	}
	return strings.Join(out, ", ")
}

// parse turns the flags into what the core asks.
func (f *usesFlags) parse() (*work.UseFilter, []work.UseField, error) {
	q := &work.UseFilter{Outcomes: []work.Outcome{work.Done, work.Failed}}
	switch {
	case f.denied && f.outcome.value != "" && f.outcome.value != string(work.Refused):
		return nil, nil, fmt.Errorf("--denied and --outcome %s shut each other out", f.outcome.value)
	case f.denied:
		f.outcome.value = string(work.Refused)
	}
	if f.outcome.value != "" {
		q.Outcomes = []work.Outcome{work.Outcome(f.outcome.value)}
	}
	var err error
	if f.identity != "" {
		if q.Identity, err = model.ParseID(f.identity); err != nil {
			return nil, nil, err
		}
	}
	if f.actingFor != "" {
		if q.ActingFor, err = model.ParseID(f.actingFor); err != nil {
			return nil, nil, err
		}
	}
	if f.permission != "" {
		if q.Permission, err = model.ParsePermissionPattern(f.permission); err != nil {
			return nil, nil, err
		}
	}
	if f.path != "" {
		if q.Path, err = model.ParsePathPattern(f.path); err != nil {
			return nil, nil, err
		}
	}
	var by []work.UseField
	for name := range strings.SplitSeq(f.by, ",") {
		field := work.UseField(strings.TrimSpace(name))
		if !slices.Contains(work.UseFields, field) {
			return nil, nil, fmt.Errorf("--by: %q is none of %s", name, joinFields())
		}
		if field == work.ByOutcome && f.outcome.value == "" {
			q.Outcomes = nil
		}
		by = append(by, field)
	}
	return q, by, nil
}

func (a *app) showUses(ctx context.Context, w *work.Workspace, f *usesFlags) error {
	const most, cells = 30, 45
	q, by, err := f.parse()
	if err != nil {
		return err
	}
	src, err := w.About(&q.Identity, q.Identity.Source)
	if err != nil {
		return err
	}
	named := src.Name
	q.ActingFor = q.ActingFor.In(named)
	window, s, groups, err := w.GroupUses(ctx, named, q, by, f.window.Duration, f.whole)
	if err != nil {
		return err
	}
	q.Window = window
	t := render.Table{}
	for _, field := range work.UseFields {
		if slices.Contains(by, field) {
			t.Columns = append(t.Columns, render.Column{Name: strings.ToUpper(string(field)),
				Path: field == work.ByPath})
		}
	}
	t.Columns = append(t.Columns, render.Column{Name: "CALLS", Right: true}, render.Column{Name: "DAYS", Right: true},
		render.Column{Name: "LAST"}, render.Column{Name: "HABIT"},
		render.Column{Name: q.Window.From.Format(time.DateOnly) + " ... " + q.Window.To.Format(time.DateOnly)})
	rows := []useRow{}
	calls, least := int64(0), false
	for _, g := range groups {
		r := useRow{Source: s.Name, Service: g.Service, Calls: g.Count, AtLeast: g.AtLeast, First: g.First,
			Last: g.Last, Days: int32(g.Days.Count())}
		if !g.Key.Identity.IsZero() {
			r.Identity = g.Key.Identity.String()
		}
		if !g.Key.ActingFor.IsZero() {
			r.ActingFor = g.Key.ActingFor.String()
		}
		if !g.Key.Permission.IsZero() {
			r.Permission = g.Key.Permission.String()
		}
		if !g.Key.Path.IsZero() {
			r.Path = g.Key.Path.String()
		}
		r.Outcome = string(g.Key.Outcome)
		if g.Key.Network.IsValid() {
			r.Network = g.Key.Network.String()
		}
		rows = append(rows, r)
		calls += r.Calls
		least = least || r.AtLeast
		if len(t.Rows) == most && !f.all {
			continue
		}
		var cellsOf []render.Cell
		for _, field := range work.UseFields {
			if slices.Contains(by, field) {
				cellsOf = append(cellsOf, render.C(map[work.UseField]string{work.ByIdentity: r.Identity,
					work.ByActingFor: r.ActingFor, work.ByService: r.Service, work.ByPermission: r.Permission,
					work.ByPath: r.Path, work.ByOutcome: r.Outcome, work.ByNetwork: r.Network}[field]))
			}
		}
		count := render.Count(r.Calls)
		if r.AtLeast {
			count = ">= " + count
		}
		t.Row(append(cellsOf, render.C(count), render.C(render.Count(int64(r.Days))),
			render.C(render.Day(r.Last, a.now())), render.C(g.Habit),
			render.C(render.Strip(g.Days.Strip(q.Window, cells))))...)
	}
	what := render.Plural(int(calls), "call")
	if f.outcome.value == string(work.Refused) {
		what = render.Plural(int(calls), "refused call")
	} else if f.outcome.value != "" {
		what = render.Plural(int(calls), "call") + " " + f.outcome.value
	}
	d := &render.Doc{Head: fmt.Sprintf("%s in %s of %s, %s", what, render.Plural(len(groups), "group"), s.Name,
		spanWords(q.Window)), Value: rows}
	if f.out != "" {
		for i := range rows {
			for _, s := range []*string{&rows[i].Identity, &rows[i].ActingFor, &rows[i].Path} {
				*s = a.masked(*s)
			}
		}
		if err := writeParquet(f.out, rows); err != nil {
			return err
		}
		d.Head += "; written to " + f.out
		return a.print(d)
	}
	if len(groups) > 0 {
		d.Tables = []render.Table{t}
	}
	if len(groups) == 0 && f.identity != "" {
		if err := s.Known(q.Identity); err != nil {
			d.Notes = append(d.Notes, render.Clean(err.Error())+
				". Callers that the estate does not list: clipfence uses --strangers")
		}
	}
	if least {
		d.Notes = append(d.Notes,
			">= : a part of the log was read before calls a day were kept; there may have been more in this "+
				"window. To count exactly: clipfence survey --reread")
	}
	if len(t.Rows) < len(groups) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows),
			render.Plural(len(groups), "group")))
	}
	if f.outcome.value == "" && len(groups) > 0 {
		d.Next = []string{"clipfence uses --denied"}
	}
	return a.print(d)
}

func writeParquet(name string, rows []useRow) (err error) {
	if !strings.HasSuffix(name, ".parquet") {
		return fmt.Errorf("--out: %q does not end in .parquet", name)
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s is there already; it is not written over", name)
	}
	if err != nil {
		return err
	}
	return errors.Join(render.Parquet(f, rows), f.Close())
}

// strangers lists callers that no survey knows.
func (a *app) strangers(ctx context.Context, w *work.Workspace) error {
	rows, err := w.StrangersSeen(ctx)
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "CALLER"}, {Name: "CALLS", Right: true},
		{Name: "REFUSED", Right: true}, {Name: "DAYS", Right: true}, {Name: "LAST"}, {Name: "SUCH AS", Wrap: true}}}
	some := slices.ContainsFunc(rows, func(x work.StrangerSeen) bool { return !x.Perhaps.IsZero() })
	if some {
		t.Columns = slices.Insert(t.Columns, 2, render.Column{Name: "PERHAPS"})
	}
	is := "kind/name"
	for _, x := range rows {
		row := []render.Cell{render.C(x.Source), render.C(x.Caller.String()), render.C(render.Count(x.Calls)),
			render.C(render.Count(x.Refused)), render.C(fmt.Sprint(x.Days)), render.C(x.Last), render.C(x.Example)}
		if some {
			perhaps := "-"
			if !x.Perhaps.IsZero() {
				perhaps = x.Perhaps.String()
			}
			row = slices.Insert(row, 2, render.C(perhaps))
		}
		t.Row(row...)
	}
	d := &render.Doc{Head: render.Plural(len(rows), "caller") + " in the logs that the estate does not list",
		Value: rows}
	if len(rows) > 0 {
		if p := rows[0].Perhaps; !p.IsZero() {
			is = work.YAML(p.String())
		}
		d.Tables = []render.Table{t}
		caller := work.YAML(rows[0].Caller.String())
		d.Notes = []string{"If one is an identity of the estate under another name, say so in clipfence.yaml: " +
			"aliases: [{log: " + caller + ", is: " + is + "}]; if it is nobody here, waive it: strangers: [" + caller +
			"]. Until then nobody whose work the same log shows is called idle, and what they did stays with groups " +
			"in which nobody is listed: list the caller and its memberships in the estate to have it told by member."}
		named := false
		for _, x := range rows {
			if o := x.GoesOn; o != nil {
				d.Lines = append(d.Lines, fmt.Sprintf("Perhaps %s is %s now, or %s came after it: it called last "+
					"on %s, the other first on %s, and did in its last 30 days %d of the %s that the other does.",
					x.Caller, x.Perhaps, x.Perhaps, o.Last, o.First, o.Same, render.Plural(o.Of, "thing")))
			}
			named = named || !x.Perhaps.IsZero() && x.GoesOn == nil
		}
		if named {
			d.Notes = append(d.Notes, "PERHAPS is the only identity of the estate with such a name: a guess, and "+
				"whoever calls may have chosen the name. Look at what it did first.")
		}
	}
	return a.print(d)
}

// unmapped lists operations that are no permission of the catalogue.
func (a *app) unmapped(ctx context.Context, w *work.Workspace) error {
	rows, err := w.UnmappedOperations(ctx)
	if err != nil {
		return err
	}
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "OPERATION"}, {Name: "CALLS", Right: true},
		{Name: "CALLERS", Right: true}, {Name: "LAST"}, {Name: "EXAMPLE", Wrap: true}}}
	for _, x := range rows {
		t.Row(render.C(x.Source), render.C(x.Operation.String()), render.C(render.Count(x.Calls)),
			render.C(fmt.Sprint(x.Callers)), render.C(x.Last.Format(time.DateOnly)), render.C(x.Example))
	}
	d := &render.Doc{Head: render.Plural(len(rows), "operation") + " in the logs that the catalogue does not list",
		Value: rows}
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = []string{"They count as activity of their caller; until they are mapped, what their caller has " +
			"of the service is not called unused. An operations file maps them (clipfence schema operations):",
			"  operations: 1", "  map: [{log: \"" + rows[0].Operation.String() + "\", is: [service/noun:verb]}]"}
	}
	return a.print(d)
}

// unplaced lists the calls that cannot be placed.
func (a *app) unplaced(ctx context.Context, w *work.Workspace, all bool) error {
	const most = 30
	found, err := w.Unplaced(ctx)
	if err != nil {
		return err
	}
	rows := found.Rows
	d := &render.Doc{Head: render.Plural(len(rows), "use") + " that cannot be placed", Value: rows}
	for _, p := range found.Placed {
		d.Lines = append(d.Lines, p.Source+": "+placedWords(&p.Placement.Tally))
	}
	for _, m := range found.Moved {
		d.Lines = append(d.Lines, fmt.Sprintf("Perhaps %s is %s now: it was called last on %s, the other first "+
			"on %s, by %d of the %s who called it in its last 30 days. A guess; if it is so, say under source %s in "+
			"clipfence.yaml: moved: [{from: %s, to: %s}]", m.From, m.To, m.Last, m.First, m.Went, identities(m.Of),
			m.Source, work.YAML(m.From.String()), work.YAML(m.To.String())))
	}
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "CALLS", Right: true}, {Name: "CALLER"},
		{Name: "OPERATION"}, {Name: "PATH", Path: true}, {Name: "LAST"}, {Name: "NOT PLACED: IT IS", Wrap: true}}}
	for _, x := range rows {
		why := reasonWords[x.Why]
		if !x.NoNode.IsZero() {
			why = "on a path whose " + x.NoNode.String() + " no survey knows"
		}
		if !x.MayBe.IsZero() {
			why = "perhaps on " + x.MayBe.String() + " now"
		}
		if !x.StillHolds {
			why += " (long ago: it keeps nothing any more)"
		}
		if len(t.Rows) < most || all {
			t.Row(render.C(x.Source), render.C(render.Count(x.Calls)), render.C(x.Caller.String()),
				render.C(x.Operation.String()), render.C(x.Path.String()), render.C(render.Day(x.Last, a.now())),
				render.C(why))
		}
	}
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = append(d.Notes,
			"Mend a path or operation in the log map, or map the operation (operations), then: clipfence survey "+
				"--reread. Give a caller an alias, or waive it (strangers). Nodes that were moved or renamed: moved "+
				"of the source, in clipfence.yaml; that come and go between surveys: fleeting. Kinds of node that "+
				"are not listed one and all: semantics.complete of the estate.")
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows),
			render.Plural(len(rows), "use")))
	}
	return a.print(d)
}
