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

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/render"
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
	f := usesFlags{outcome: choice{of: []string{string(usage.Done), string(usage.Failed), string(usage.Refused)}}}
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
With --out FILE.parquet the rows go on to whatever reads Parquet.`,
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
			return a.with(cmd.Context(), func(w *workspace) error {
				switch {
				case f.strangers:
					return w.strangers(cmd.Context())
				case f.unmapped:
					return w.unmapped(cmd.Context())
				case f.unplaced:
					return w.unplaced(cmd.Context(), f.all)
				}
				return w.showUses(cmd.Context(), &f)
			})
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.actingFor, "acting-for", "", "only calls with this identity's rights")
	fl.StringVar(&f.permission, "permission", "", "only permissions like this pattern")
	fl.StringVar(&f.path, "path", "", "only paths like this pattern")
	fl.StringVar(&f.by, "by", "identity,permission", "group by: "+joinFields())
	fl.StringVar(&f.out, "out", "", "write the rows as a Parquet file, in place of printing them")
	fl.Var(&f.window, "window", "how far to look back (default: the window of clipfence.yaml)")
	fl.Var(&f.outcome, "outcome", "only calls that were done, failed or refused (default: done and failed)")
	fl.BoolVar(&f.denied, "denied", false, "only calls that were refused: --outcome refused")
	fl.BoolVar(&f.whole, "whole-paths", false, "with --by path: every path, not the node of the inventory that it belongs to")
	fl.BoolVar(&f.all, "all", false, "every group, not only the first 30")
	fl.BoolVar(&f.strangers, "strangers", false, "callers that the estate does not know")
	fl.BoolVar(&f.unplaced, "unplaced", false, "calls that cannot be placed, and why")
	fl.BoolVar(&f.unmapped, "unmapped", false, "operations that the catalogue does not know")
	return cmd
}

func joinFields() string {
	var out []string
	for _, f := range usage.Fields {
		out = append(out, string(f))
	}
	return strings.Join(out, ", ")
}

// parse turns the flags into what the core asks.
func (f *usesFlags) parse() (*usage.Filter, []usage.Field, error) {
	q := &usage.Filter{Outcomes: []usage.Outcome{usage.Done, usage.Failed}}
	switch {
	case f.denied && f.outcome.value != "" && f.outcome.value != string(usage.Refused):
		return nil, nil, fmt.Errorf("--denied and --outcome %s shut each other out", f.outcome.value)
	case f.denied:
		f.outcome.value = string(usage.Refused)
	}
	if f.outcome.value != "" {
		q.Outcomes = []usage.Outcome{usage.Outcome(f.outcome.value)}
	}
	var err error
	if f.identity != "" {
		if q.Identity, _, err = parseID(f.identity); err != nil {
			return nil, nil, err
		}
	}
	if f.actingFor != "" {
		if q.ActingFor, _, err = parseID(f.actingFor); err != nil {
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
	var by []usage.Field
	for name := range strings.SplitSeq(f.by, ",") {
		field := usage.Field(strings.TrimSpace(name))
		if !slices.Contains(usage.Fields, field) {
			return nil, nil, fmt.Errorf("--by: %q is none of %s", name, joinFields())
		}
		if field == usage.ByOutcome && f.outcome.value == "" {
			q.Outcomes = nil
		}
		by = append(by, field)
	}
	return q, by, nil
}

func (w *workspace) showUses(ctx context.Context, f *usesFlags) error {
	const most, cells = 30, 45
	q, by, err := f.parse()
	if err != nil {
		return err
	}
	window := f.window.Duration
	if window == 0 {
		window = w.Window
	}
	q.Window = usage.WindowOf(w.app.now(), int(time.Duration(window).Hours()/24))
	named := ""
	if f.identity != "" {
		_, named, _ = parseID(f.identity)
	}
	src, err := w.pick(named)
	if err != nil {
		return err
	}
	s, err := w.surveyed(ctx, src)
	if err != nil {
		return err
	}
	uses, _, err := w.uses(ctx, s)
	if err != nil {
		return err
	}
	place := func(p model.Path) model.Path {
		if n, ok := s.engine.NearestNode(p); ok {
			return n
		}
		return p
	}
	if f.whole {
		place = nil
	}
	groups := usage.GroupBy(uses, q, by, place)
	t := render.Table{}
	for _, field := range usage.Fields {
		if slices.Contains(by, field) {
			t.Columns = append(t.Columns, render.Column{Name: strings.ToUpper(string(field)), Path: field == usage.ByPath})
		}
	}
	t.Columns = append(t.Columns, render.Column{Name: "CALLS", Right: true}, render.Column{Name: "DAYS", Right: true}, render.Column{Name: "LAST"}, render.Column{Name: "HABIT"}, render.Column{Name: q.Window.From.Format(time.DateOnly) + " ... " + q.Window.To.Format(time.DateOnly)})
	rows := []useRow{}
	calls, least := int64(0), false
	now := usage.DayOf(w.app.now())
	for _, g := range groups {
		r := useRow{Source: s.Name, Service: g.Service, Calls: g.Count, AtLeast: g.AtLeast, First: g.First, Last: g.Last, Days: int32(g.Days.Count())}
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
		for _, field := range usage.Fields {
			if slices.Contains(by, field) {
				cellsOf = append(cellsOf, render.C(map[usage.Field]string{usage.ByIdentity: r.Identity, usage.ByActingFor: r.ActingFor, usage.ByService: r.Service, usage.ByPermission: r.Permission, usage.ByPath: r.Path, usage.ByOutcome: r.Outcome, usage.ByNetwork: r.Network}[field]))
			}
		}
		count := render.Count(r.Calls)
		if r.AtLeast {
			count = ">= " + count
		}
		t.Row(append(cellsOf, render.C(count), render.C(render.Count(int64(r.Days))), render.C(render.Day(r.Last, w.app.now())), render.C(string(usage.HabitOf(g.Days, now).Rhythm)), render.C(render.Strip(g.Days.Strip(q.Window, cells))))...)
	}
	what := render.Plural(int(calls), "call")
	if f.outcome.value == string(usage.Refused) {
		what = render.Plural(int(calls), "refused call")
	} else if f.outcome.value != "" {
		what = render.Plural(int(calls), "call") + " " + f.outcome.value
	}
	d := &render.Doc{Head: fmt.Sprintf("%s in %s of %s, %s", what, render.Plural(len(groups), "group"), s.Name, spanWords(q.Window)), Value: rows}
	if f.out != "" {
		if err := writeParquet(f.out, rows); err != nil {
			return err
		}
		d.Head += "; written to " + f.out
		return w.app.print(d)
	}
	if len(groups) > 0 {
		d.Tables = []render.Table{t}
	}
	if len(groups) == 0 && f.identity != "" {
		if err := s.known(q.Identity); err != nil {
			d.Notes = append(d.Notes, render.Clean(err.Error())+". Callers that the estate does not list: clipfence uses --strangers")
		}
	}
	if least {
		d.Notes = append(d.Notes, ">= : a part of the log was read before calls a day were kept; there may have been more in this window. To count exactly: clipfence survey --reread")
	}
	if len(t.Rows) < len(groups) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), render.Plural(len(groups), "group")))
	}
	if f.outcome.value == "" && len(groups) > 0 {
		d.Next = []string{"clipfence uses --denied"}
	}
	return w.app.print(d)
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

// eachUses calls f with the uses of each source that the command is about.
func (w *workspace) eachUses(ctx context.Context, f func(*surveyed, []usage.Use, *usage.Resolver) error) error {
	sources, err := w.each()
	if err != nil {
		return err
	}
	for _, src := range sources {
		s, err := w.surveyed(ctx, src)
		if err != nil {
			return err
		}
		uses, r, err := w.uses(ctx, s)
		if err != nil {
			return err
		}
		if err := f(s, uses, r); err != nil {
			return err
		}
	}
	return nil
}

// strangers lists callers that no survey knows.
func (w *workspace) strangers(ctx context.Context) error {
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "CALLER"}, {Name: "CALLS", Right: true}, {Name: "REFUSED", Right: true}, {Name: "DAYS", Right: true}, {Name: "LAST"}, {Name: "SUCH AS", Wrap: true}}}
	type row struct {
		Source  string   `json:"source"`
		Caller  model.ID `json:"caller"`
		Calls   int64    `json:"calls"`
		Refused int64    `json:"refused"`
		Days    int      `json:"days"`
		Last    string   `json:"last"`
		Example string   `json:"example"`
	}
	rows := []row{}
	err := w.eachUses(ctx, func(s *surveyed, uses []usage.Use, r *usage.Resolver) error {
		unknown := slices.DeleteFunc(uses, func(u usage.Use) bool { return r.Known(u.Identity) })
		refused := map[model.ID]int64{}
		example := map[model.ID]string{}
		for _, u := range unknown {
			if u.Outcome == usage.Refused {
				refused[u.Identity] += u.Count
			}
			if example[u.Identity] == "" {
				example[u.Identity] = u.Permission.String() + " on " + u.Path.String()
			}
		}
		for _, g := range usage.GroupBy(unknown, &usage.Filter{}, []usage.Field{usage.ByIdentity}, nil) {
			x := row{s.Name, g.Key.Identity, g.Count, refused[g.Key.Identity], g.Days.Count(), g.Last.Format(time.DateOnly), example[g.Key.Identity]}
			rows = append(rows, x)
			t.Row(render.C(x.Source), render.C(x.Caller.String()), render.C(render.Count(x.Calls)), render.C(render.Count(x.Refused)), render.C(fmt.Sprint(x.Days)), render.C(x.Last), render.C(x.Example))
		}
		return nil
	})
	if err != nil {
		return err
	}
	d := &render.Doc{Head: render.Plural(len(rows), "caller") + " in the logs that the estate does not list", Value: rows}
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = []string{"If one is an identity of the estate under another name, say so in clipfence.yaml: aliases: [{log: " + rows[0].Caller.String() + ", is: kind/name}]; if it is nobody here, waive it: strangers: [" + rows[0].Caller.String() + "]. Until then nobody whose work the same log shows is called idle."}
	}
	return w.app.print(d)
}

// unmapped lists operations that are no permission of the catalogue.
func (w *workspace) unmapped(ctx context.Context) error {
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "OPERATION"}, {Name: "CALLS", Right: true}, {Name: "CALLERS", Right: true}, {Name: "LAST"}, {Name: "EXAMPLE", Wrap: true}}}
	type row struct {
		Source    string           `json:"source"`
		Operation model.Permission `json:"operation"`
		Calls     int64            `json:"calls"`
		Callers   int              `json:"callers"`
		Last      time.Time        `json:"last"`
		File      string           `json:"file"`
		Line      int              `json:"line"`
		Example   string           `json:"example"`
	}
	rows := []row{}
	err := w.eachUses(ctx, func(s *surveyed, uses []usage.Use, r *usage.Resolver) error {
		examples, err := w.store.Examples(ctx, s.Name)
		if err != nil {
			return err
		}
		unmapped := slices.DeleteFunc(uses, func(u usage.Use) bool { return r.Permissions(u.Permission) != nil })
		callers := map[model.Permission]map[model.ID]bool{}
		for _, u := range unmapped {
			if callers[u.Permission] == nil {
				callers[u.Permission] = map[model.ID]bool{}
			}
			callers[u.Permission][u.Identity] = true
		}
		for _, g := range usage.GroupBy(unmapped, &usage.Filter{}, []usage.Field{usage.ByPermission}, nil) {
			p := g.Key.Permission
			x := row{s.Name, p, g.Count, len(callers[p]), g.Last, examples[p].File, examples[p].Line, examples[p].Example}
			rows = append(rows, x)
			t.Row(render.C(x.Source), render.C(p.String()), render.C(render.Count(x.Calls)), render.C(fmt.Sprint(x.Callers)), render.C(x.Last.Format(time.DateOnly)), render.C(x.Example))
		}
		return nil
	})
	if err != nil {
		return err
	}
	d := &render.Doc{Head: render.Plural(len(rows), "operation") + " in the logs that the catalogue does not list", Value: rows}
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = []string{"They count as activity of their caller; until they are mapped, what their caller has of the service is not called unused. An operations file maps them (clipfence schema operations):",
			"  operations: 1", "  map: [{log: \"" + rows[0].Operation.String() + "\", is: [service/noun:verb]}]"}
	}
	return w.app.print(d)
}

// unplaced lists the calls that cannot be placed.
func (w *workspace) unplaced(ctx context.Context, all bool) error {
	const most = 30
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "CALLS", Right: true}, {Name: "CALLER"}, {Name: "OPERATION"}, {Name: "PATH", Path: true}, {Name: "LAST"}, {Name: "NOT PLACED: IT IS", Wrap: true}}}
	type row struct {
		Source     string           `json:"source"`
		Caller     model.ID         `json:"caller"`
		ActingFor  model.ID         `json:"acting_for,omitzero"`
		Operation  model.Permission `json:"operation"`
		Path       model.Path       `json:"path"`
		Calls      int64            `json:"calls"`
		Last       time.Time        `json:"last"`
		Why        gauge.Reason     `json:"why" doc:"path, operation, caller or grant"`
		NoNode     model.Path       `json:"no_such_node,omitzero"`
		StillHolds bool             `json:"keeps_permissions" doc:"it still keeps permissions from being called unused"`
	}
	rows := []row{}
	d := &render.Doc{}
	sources, err := w.each()
	if err != nil {
		return err
	}
	for _, src := range sources {
		_, in, res, err := w.gauged(ctx, src, 0)
		if err != nil {
			return err
		}
		d.Lines = append(d.Lines, src.Name+": "+placedWords(&res.Placement.Tally))
		for _, i := range res.Placement.Unplaced(in.Uses) {
			u := &in.Uses[i]
			x := row{src.Name, u.Identity, u.ActingFor, u.Permission, u.Path, u.Count, u.Last, res.Placement.Reasons[i], model.Path{}, res.Placement.Live[i]}
			why := reasonWords[x.Why]
			if x.Why == gauge.NoPath {
				x.NoNode, _ = in.Place.Inventory.Unknown(u.Path)
				why = "on a path whose " + x.NoNode.String() + " no survey knows"
			}
			if !x.StillHolds {
				why += " (long ago: it keeps nothing any more)"
			}
			rows = append(rows, x)
			if len(t.Rows) < most || all {
				t.Row(render.C(x.Source), render.C(render.Count(x.Calls)), render.C(x.Caller.String()), render.C(x.Operation.String()), render.C(x.Path.String()), render.C(render.Day(x.Last, w.app.now())), render.C(why))
			}
		}
	}
	d.Head, d.Value = render.Plural(len(rows), "use")+" that cannot be placed", rows
	if len(rows) > 0 {
		d.Tables = []render.Table{t}
		d.Notes = append(d.Notes, "Mend a path or operation in the log map, or map the operation (operations), then: clipfence survey --reread. Give a caller an alias, or waive it (strangers). Kinds of node that are not listed one and all: semantics.complete of the estate.")
	}
	if len(t.Rows) < len(rows) {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), render.Plural(len(rows), "use")))
	}
	return w.app.print(d)
}
