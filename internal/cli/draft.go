package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

// cautionFlag is a flag that holds a caution: by its name, or as a number above 0.
type cautionFlag struct {
	text  string
	value work.Caution
}

func (c *cautionFlag) String() string { return c.text }
func (c *cautionFlag) Type() string   { return "caution" }
func (c *cautionFlag) Set(s string) error {
	v, named := work.Cautions[s]
	if !named {
		x, err := strconv.ParseFloat(s, 64)
		if err != nil || !(x > 0 && x <= 1000) {
			return fmt.Errorf("%q is none of bold, normal, careful, and no number above 0, up to 1000", s)
		}
		v = work.Caution(x)
	}
	c.text, c.value = s, v
	return nil
}

func (a *app) draftCmd() *cobra.Command {
	from := choice{value: "use", of: []string{"use", "refusals", "task", "needs", "ends"}}
	var more moreFlags
	caution := cautionFlag{"normal", work.Cautions["normal"]}
	var window windowFlag
	var who, out string
	var top int
	var giveUp, keep, force, all, roles, denials, limits, conditions, gates bool
	var plot string
	var number int
	share := 2.0
	cmd := &cobra.Command{
		Use: "draft --for IDENTITY", Short: "Write the narrower access as a fence file", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeIdentity,
		Long: `Write a fence file: the access that one identity or group should have in place of the
grants it replaces, drafted from what was used. Fewer permissions, fewer places; a
role of the source where one fits. What no log would have shown is kept where it is
likely used, judged by what people do where logs are on, and said so. A permission
stays on more places than it was used on, now and then where it was never used, where
that is worth its danger: by how often, in this estate's own past, a permission was
needed on such a place within 90 days. A draft has 40 lines at most: of what would
take more, permissions stay on wider places, the least dangerous first, and its lines
say so. --caution says what one avoided break is worth, as a multiple of the danger
that a caller holds on average: bold is 0.1, normal 0.64, careful 2.3. With --top N:
for the N identities with the most danger that can go, with --all for everybody: what
is there already is left, so that it can be interrupted and go on. Drafts know of each
other, those of one run and those that are there and not applied yet: what one leaves
to a group the group's own draft keeps. The last who can hand out rights somewhere
keeps that. With --conditions a line also gets what each of at least 20 calls on 10
days met: a second factor, at most three networks, and the hours (UTC, at most 14 of
the day) and weekdays outside of which whoever has it never called. With --time-limits
what was not used in the window ends by itself: a guess with the 90 days that it is
about, an older habit when it would be over. A grant that others make needless goes,
idle people leave the groups that their access comes by, and others those by which
they did nothing and will hardly do anything. With --gates what has power and people
use on a few days of the window is left to be asked for, where that is cheaper than
having it all the time: an ask counts a tenth of a refused call. The gate is written
beside the draft; apply wants it in the folder of gates first.

The other way round, for one who is to have more: --from refusals gives what calls that
were refused needed, each on the very place, the least that any line could give; --task
what a task takes on a place and is lacking; --needs, in place of all that is granted by
name, just what a product asks for with the features that are on. Such a fence says why
it widens, and the rehearsal shows what may be done then and not before. With --lend it is
gates, to be asked for, in place of a fence.

With --roles the drafts that are there are written once more, with few roles that they
share in place of one a line: a proposal, in a folder of its own, to be rehearsed. The curve
says what each number of roles would add to the danger; no line gets what its grants do not
give today. With --denials it is asked what the drafts take away from many and leave with few:
one denial may say it, with those few spared, and make drafts needless. That is a proposal as
well, and never takes away more than the drafts do.`,
		Example: "  clipfence draft --for workload/ticket-export\n  clipfence draft --top 5\n  clipfence draft " +
			"--all\n  clipfence draft --for workload/ticket-export --from refusals\n" +
			"  clipfence draft --for person/ingrid.vaage --task restart-rig --on PATH --until 2026-12-01T00:00:00Z\n" +
			"  clipfence draft --for workload/backup --needs backup.needs.yaml --with letters --at vault=PATH",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 { // as with gauge and reach
				if cmd.Flags().Changed("for") {
					return fmt.Errorf("--for %s and %s: say for whom once", who, args[0])
				}
				if err := cmd.Flags().Set("for", args[0]); err != nil {
					return err
				}
			}
			if err := more.from(cmd, &from); err != nil {
				return err
			}
			if roles {
				return a.withRoles(cmd, work.RolesRequest{Number: number, Most: share / 100, Force: force}, plot)
			}
			if denials {
				return a.withDenials(cmd, force)
			}
			for _, name := range []string{"number", "more-danger", "plot"} {
				if cmd.Flags().Changed(name) {
					return fmt.Errorf("--%s goes with --roles", name)
				}
			}
			if from.value != "use" {
				return a.draftFrom(cmd, &more, from.value, who, out, window.Duration, force)
			}
			said := 0
			for _, x := range []bool{who != "", top != 0, all} {
				if x {
					said++
				}
			}
			switch {
			case said != 1:
				return errors.New("say for whom: --for IDENTITY, --top N, or --all")
			case top < 0:
				return fmt.Errorf("--top: %d is below 1", top)
			case out != "" && who == "":
				return errors.New("--out is the file of one draft: it goes with --for")
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				out, err := w.Draft(cmd.Context(),
					work.DraftRequest{For: who, Top: top, All: all, Window: window.Duration,
						GiveUpUnobservable: giveUp, KeepUnobservable: keep, Conditions: conditions, Limits: limits,
						Gates:   gates,
						Caution: caution.value, File: out, Force: force})
				if err != nil {
					return err
				}
				logs, err := a.ofLogs(cmd.Context(), w, out.Source)
				if err != nil {
					return err
				}
				return a.drafted(w, out, logs)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&who, "for", "", "whose access to narrow")
	f.IntVar(&top, "top", 0, "the N identities with the most danger that can go")
	f.BoolVar(&all, "all", false, "everybody whose access can be narrowed")
	f.Var(&from, "from", "what to draft from: use, refusals, task, needs, ends")
	f.Var(&window, "window", "how far to look back (default: the window of clipfence.yaml)")
	f.Var(&caution, "caution", "how much is kept beyond the places of use: bold, normal, careful, or a number")
	f.StringVar(&out, "out", "", "file to write (default: drafts/IDENTITY.fence.yaml)")
	f.BoolVar(&giveUp, "give-up-unobservable", false, "drop also what no log could have shown")
	f.BoolVar(&keep, "keep-unobservable", false, "keep all that no log could have shown, however unlikely its use")
	cmd.MarkFlagsMutuallyExclusive("give-up-unobservable", "keep-unobservable")
	f.BoolVar(&conditions, "conditions", false, "add what every call of a line met: a second factor, networks, hours")
	f.BoolVar(&limits, "time-limits", false, "end by itself what was not used in the window: a guess, or "+
		"an older habit")
	f.BoolVar(&gates, "gates", false, "offer a gate in place of power that people use rarely, for them to ask for")
	f.BoolVar(&force, "force", false, "write over a fence file that is there")
	f.BoolVar(&roles, "roles", false, "propose few roles that the drafts share, for little more danger")
	f.BoolVar(&denials, "denials", false, "propose denials that say shorter what the drafts say")
	cmd.MarkFlagsMutuallyExclusive("roles", "denials")
	f.IntVar(&number, "number", 0, "of --roles: so many")
	f.Float64Var(&share, "more-danger", share, "of --roles: as few as add at most so many % to the danger that "+
		"drafts keep")
	f.StringVar(&plot, "plot", "", "of --roles: draw the curve into this file (.svg or .png)")
	more.add(cmd)
	_ = cmd.RegisterFlagCompletionFunc("for", a.completeIdentity)
	return cmd
}

// withDenials proposes denials in place of the drafts that are there.
func (a *app) withDenials(cmd *cobra.Command, force bool) error {
	if err := alone(cmd, "denials"); err != nil {
		return err
	}
	return a.with(cmd.Context(), func(w *work.Workspace) error { return a.draftDenials(cmd.Context(), w, force) })
}

// alone refuses every flag that does not go with one that is about the drafts that are there: with may.
func alone(cmd *cobra.Command, flag string, may ...string) error {
	var other error
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if f.Name != flag && f.Name != "force" && !slices.Contains(may, f.Name) &&
			cmd.InheritedFlags().Lookup(f.Name) == nil {
			other = fmt.Errorf("--%s does not go with --%s, which is about the drafts that are there", f.Name, flag)
		}
	})
	return other
}

// withRoles proposes roles for the drafts that are there.
func (a *app) withRoles(cmd *cobra.Command, q work.RolesRequest, plot string) error {
	if err := alone(cmd, "roles", "number", "more-danger", "plot"); err != nil {
		return err
	}
	switch {
	case q.Number < 0 || !(q.Most >= 0 && q.Most <= 10):
		return errors.New("--number is not below 0, --more-danger from 0 to 1000")
	}
	if plot != "" {
		if _, err := plotFormat(plot); err != nil {
			return err
		}
	}
	return a.with(cmd.Context(), func(w *work.Workspace) error { return a.draftRoles(cmd.Context(), w, q, plot) })
}

// draftFrom drafts for one who is to have more, or lists the tasks.
func (a *app) draftFrom(cmd *cobra.Command, more *moreFlags, from, who, out string, window model.Duration,
	force bool) error {
	if from == "ends" && (len(more.calls) > 0 || more.lend.Duration > 0) {
		return errors.New("--from ends puts off what somebody has: it takes --for and --until")
	}
	for _, name := range []string{"top", "all", "caution", "give-up-unobservable", "keep-unobservable", "conditions",
		"time-limits", "gates"} {
		if cmd.Flags().Changed(name) {
			return fmt.Errorf("--%s is for --from use", name)
		}
	}
	q, err := more.request(who, out, window, force)
	if err != nil {
		return err
	}
	q.Ends = from == "ends"
	return a.with(cmd.Context(), func(w *work.Workspace) error {
		switch {
		case from == "task" && q.Task == "":
			return a.listTasks(cmd.Context(), w)
		case from == "ends" && q.Until.IsZero():
			return errors.New("say how far it is put off: --until TIME (RFC 3339)")
		case who == "" && from == "refusals":
			return errors.New("say for whom: --for IDENTITY; who was refused what: clipfence uses --denied --by " +
				"identity,permission")
		case who == "":
			return errors.New("say for whom: --for IDENTITY")
		}
		return a.draftMore(cmd.Context(), w, q)
	})
}

func escalationOf(ids []model.ID) string {
	out := make([]string, 0, len(ids))
	for i, id := range ids {
		if i == 3 {
			out = append(out, fmt.Sprintf("and %d more", len(ids)-i))
			break
		}
		out = append(out, command("clipfence reach %s --escalation", id))
	}
	return strings.Join(out, ", ")
}

// arrow is a number before and after.
func arrow(before, after int) string {
	return fmt.Sprintf("%s -> %s", render.Count(before), render.Count(after))
}

func isAre(n int, what string) string {
	if n == 1 {
		return "1 " + what + " is"
	}
	return render.Plural(n, what) + " are"
}

// mayBreak is a risk in a few letters.
func mayBreak(v *riskValue) string {
	if v.Touched > 1 {
		return fmt.Sprintf("%.1f of %d", v.Expected, v.Touched)
	}
	return chance(v.Expected)
}

// drafted tells what was drafted.
func (a *app) drafted(w *work.Workspace, drafts *work.Drafts, logs []string) error {
	t := render.Table{Columns: []render.Column{{Name: "FOR"}, {Name: "REPLACES", Right: true},
		{Name: "LINES", Right: true}, {Name: "GIVES UP", Right: true}, {Name: "HELD", Right: true},
		{Name: "WITHIN REACH", Right: true}, {Name: "MAY BREAK", Right: true}, {Name: "FILE", Path: true}}}
	type row struct {
		For      model.ID  `json:"for"`
		Replaces int       `json:"replaces"`
		Leaves   int       `json:"leaves"`
		Lines    int       `json:"lines"`
		GivesUp  int       `json:"gives_up"`
		Before   int       `json:"danger_before"`
		After    int       `json:"danger_after"`
		Reach    int       `json:"danger_within_reach_before"`
		Still    int       `json:"danger_within_reach_after"`
		Risk     riskValue `json:"risk"`
		Gates    []string  `json:"gates,omitempty" doc:"gate files that it wrote: what is left to be asked for"`
		AllOn    int       `json:"can_have_everything_on" doc:"nodes of the inventory on which it, or one that it can become, can give itself anything then"`
		File     string    `json:"file"`
	}
	rows := []row{}
	var stuck []model.ID // who can get to as much as before
	d := &render.Doc{Lines: logs}
	for _, x := range drafts.Written {
		f, r := x.Fence, x.Rehearsal
		id := f.For
		id.Source = ""
		v := row{f.For, len(f.Replaces), len(f.Leaves), len(f.Allow), len(f.GivenUp()), int(r.Before + 0.5),
			int(r.After + 0.5), int(r.ReachBefore.Danger + 0.5), int(r.ReachAfter.Danger + 0.5), valueOf(x.Risk),
			x.Gates, r.ReachAfter.Nodes, x.File}
		if work.SameReach(r) {
			stuck = append(stuck, id)
		}
		rows = append(rows, v)
		t.Row(render.C(id.String()), render.C(fmt.Sprint(v.Replaces+v.Leaves)), render.C(fmt.Sprint(v.Lines)),
			render.C(render.Count(v.GivesUp)), render.C(arrow(v.Before, v.After)), render.C(arrow(v.Reach, v.Still)),
			render.C(mayBreak(&v.Risk)),
			render.C(w.Relative(v.File)))
	}
	there := 0
	for _, err := range drafts.Left {
		if errors.Is(err, work.ErrThere) {
			there++
		}
	}
	for i, err := range drafts.Left {
		if i == 5 {
			d.Notes = append(d.Notes, fmt.Sprintf("... and %d more", len(drafts.Left)-i))
			break
		}
		d.Notes = append(d.Notes, "Left alone: "+err.Error())
	}
	d.Value = rows
	if len(rows) == 0 && there > 0 {
		d.Head = fmt.Sprintf("No draft written: %s there already", isAre(there, "draft"))
		of := ofSource(w, drafts.Source)
		d.Next = []string{"clipfence rehearse --all" + of, "clipfence draft --all --force" + of}
		return a.print(d)
	}
	if len(rows) == 0 {
		d.Head = "Nothing to narrow: nobody has access that can go by what was observed"
		if drafts.Thin() {
			d.Head = fmt.Sprintf("Nothing to narrow: the evidence is complete for %s of what is granted, and by it "+
				"nobody has access that can go", render.Percent(drafts.Observable))
		}
		d.Next = []string{"clipfence coverage", "clipfence findings"}
		return a.print(d)
	}
	d.Head = render.Plural(len(rows), "draft") + " written; nothing is changed yet"
	switch {
	case len(stuck) == 1 && len(rows) == 1:
		d.Head += fmt.Sprintf("; but %s can still get to all that it could before", stuck[0])
	case len(stuck) > 0:
		d.Head += fmt.Sprintf("; but %d of them can still get to all that they could before", len(stuck))
	}
	if len(stuck) > 0 {
		d.Lines = append(d.Lines, "What lets them: "+escalationOf(stuck)+".")
	}
	for _, x := range drafts.Written { // the same is not said of every draft
		for _, s := range work.LessonsOf(x.Fence, drafts.Lessons) {
			if !slices.Contains(d.Lines, s) {
				d.Lines = append(d.Lines, s)
			}
		}
	}
	if n := drafts.Beside; n > 0 {
		them := "1 draft that is there and not applied: nothing that it takes away is counted on."
		if n > 1 {
			them = render.Count(n) +
				" drafts that are there and not applied: nothing that they take away is counted on."
		}
		d.Lines = append(d.Lines, "Drafted to stand beside "+them)
	}
	d.Tables = []render.Table{t}
	unseen := 0
	for _, x := range drafts.Written {
		if text := unseenWords(x.Fence); text != "" {
			if unseen++; len(rows) == 1 {
				d.Lines = append(d.Lines, "Decide: "+text+". They stay with --keep-unobservable.")
			}
		}
	}
	ends, soonest := 0, time.Time{}
	for _, x := range drafts.Written {
		if list := x.Fence.Ends(); len(list) > 0 && drafts.Limits {
			ends += len(list)
			if at := x.Fence.Allow[list[0]].Until; soonest.IsZero() || at.Before(soonest) {
				soonest = at
			}
		}
	}
	if ends > 0 {
		text := fmt.Sprintf("%d lines end by themselves, the first on ", ends)
		if ends == 1 {
			text = "1 line ends by itself, on "
		}
		d.Lines = append(d.Lines, text+soonest.UTC().Format(time.DateOnly)+": it rests on no use of the window. What "+
			"is used by then is told 30 days before (findings, status) and put off with --from ends.")
	}
	asks, files := 0.0, []string{}
	for _, x := range drafts.Written {
		asks += x.Risk.Asks
		for _, g := range x.Gates {
			files = append(files, w.Relative(g))
		}
	}
	if len(files) > 0 {
		few := files[:min(len(files), 3)]
		if n := len(files) - len(few); n > 0 {
			few = append(slices.Clone(few), fmt.Sprintf("and %d more", n))
		}
		d.Lines = append(d.Lines, fmt.Sprintf("To be asked for: about %.1f times in 90 days, through %s that %s "+
			"written beside the drafts: %s. Say in each who approves, put it into %s and sign it, before the "+
			"draft is applied.", asks, render.Plural(len(files), "gate"),
			map[bool]string{true: "is", false: "are"}[len(files) == 1],
			strings.Join(few, ", "), w.Relative(w.GateDir())))
	}
	if unseen > 0 && len(rows) > 1 {
		d.Lines = append(d.Lines, fmt.Sprintf("Decide: %s take away what has power on places where no log shows "+
			"whether it is used (unseen: under gives_up). It stays with --keep-unobservable.",
			render.Plural(unseen, "draft")))
	}
	if len(rows) == 1 {
		d.Lines = append(d.Lines, "Risk: "+rows[0].Risk.words()+".")
		d.Lines = append(d.Lines, rows[0].Risk.lines(3)...)
	}
	d.Notes = append(d.Notes, "REPLACES counts grants that go and groups that are left; HELD is the danger of "+
		"everything that reaches the identity, WITHIN REACH also of what it can give itself and get by acting as "+
		"others. MAY BREAK is a guess: with what chance a call is refused within 90 days, or of how many identities.")
	first := w.Relative(rows[0].File)
	d.Next = []string{command("clipfence rehearse %s", first), command("clipfence apply %s", first)}
	if len(rows) > 1 {
		d.Next = append([]string{"clipfence rehearse --all" + ofSource(w, drafts.Source)}, d.Next...)
	}
	return a.print(d)
}

// ofSource is what a command says of which source it is, where there are several.
func ofSource(w *work.Workspace, name string) string {
	if len(w.Sources) < 2 {
		return ""
	}
	return command(" --source %s", name)
}

// fewPlaces lists the first of some places.
func fewPlaces(on []model.PathPattern, most int) string {
	if len(on) <= most {
		return places(on)
	}
	return fmt.Sprintf("%s and %s more", places(on[:most]), render.Plural(len(on)-most, "place"))
}

// unseenWords tells what has power and goes where no log shows whether it is used, if anything.
func unseenWords(f *work.Fence) string {
	what, where := f.Unseen()
	if len(what) == 0 {
		return ""
	}
	return fmt.Sprintf("no log shows whether %s with power %s used where %s: %s on %s",
		render.Plural(len(what), "permission"), map[bool]string{true: "is", false: "are"}[len(what) == 1],
		map[bool]string{true: "it goes", false: "they go"}[len(what) == 1], first(what, 3), fewPlaces(where, 2))
}

// completes returns what completes a word by a list of the workspace; nothing where there is
// no workspace.
func (a *app) completes(list func(*work.Workspace, context.Context) []string,
	or cobra.ShellCompDirective) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		w, err := a.open(cmd.Context())
		if err != nil {
			return nil, or
		}
		out := list(w, cmd.Context())
		_ = w.Close() // nothing was written
		return out, or
	}
}

func (a *app) completeDraft(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	return a.completes((*work.Workspace).DraftNames, cobra.ShellCompDirectiveDefault)(cmd, args, word)
}

func (a *app) completeIdentity(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	return a.completes((*work.Workspace).IdentityNames, cobra.ShellCompDirectiveNoFileComp)(cmd, args, word)
}

func (a *app) completeRequest(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	return a.completes((*work.Workspace).RequestNames, cobra.ShellCompDirectiveNoFileComp)(cmd, args, word)
}
