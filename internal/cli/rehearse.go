package cli

import (
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

func (a *app) rehearseCmd() *cobra.Command {
	var all, accept bool
	back := backtestFlags{ago: windowFlag{model.Duration(90 * 24 * time.Hour)}}
	cmd := &cobra.Command{
		Use: "rehearse FENCE... | --backtest", Short: "Try a fence: what goes, what stays, what would break",
		Long: `Replay every observed call of everybody whom a fence touches, prove by containment
that it widens nothing, and say what goes and what stays. Exit code 1 when it
would break something that it does not name under gives_up, widens anything, or takes
away what a call may have been a use of that cannot be placed, or when what it replaces
or gives, or its risk, is not what it was when it was drafted.

Of several fences, or with --all of every draft, each is rehearsed alone and then all as
if they stood together: what one leaves to the grant of a group, that group's fence may take.

With --backtest, drafts are tried on this estate's own past: everybody is drafted for as
if it were --ago days ago, at several cautions, all drafts stand together, and the calls
since are made again. It says how many would have had a call refused, how much danger
would have gone, how three simple rules would have done, and whether the chances that
drafts speak of were true. Nothing is changed. With --at-most N or N%, the caution that
removes most danger and breaks no more than that is picked on the days before those, as
many of them: what it did since is then told of days that it was not picked for. With
--conditions it is told besides what drafts of normal caution that ask for a second factor
and networks would have refused.`,
		Example: "  clipfence rehearse workload/ticket-export\n" +
			"  clipfence rehearse --all\n  clipfence rehearse --backtest --ago 90d --plot curve.svg\n" +
			"  clipfence rehearse --backtest --ago 45d --at-most 2%",
		ValidArgsFunction: a.completeDraft,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := back.check(cmd, args); err != nil {
				return err
			}
			if back.on {
				return a.backtest(cmd, &back)
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if len(args) == 0 {
					switch there := w.DraftNames(cmd.Context()); len(there) {
					case 0:
						return errors.New("there are no drafts to rehearse; write some with: clipfence draft --top 5")
					case 1:
						args = there
					}
				}
				if len(args) != 1 {
					j, err := w.RehearseTogether(cmd.Context(), args, accept)
					if err != nil {
						return err
					}
					logs, err := a.ofLogs(cmd.Context(), w, j.Source)
					if err != nil {
						return err
					}
					d := jointly(j, all)
					d.Lines = append(logs, d.Lines...)
					if err := a.print(d); err != nil || j.OK() {
						return err
					}
					return errCheck
				}
				name, f, s, err := w.ReadFence(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				r, k, err := w.Rehearse(cmd.Context(), f, s, accept)
				if err != nil {
					return err
				}
				logs, err := a.ofLogs(cmd.Context(), w, s.Name)
				if err != nil {
					return err
				}
				d := a.rehearsal(f, s, r, k, w.Relative(name), all)
				d.Lines = append(logs, d.Lines...)
				if err := a.print(d); err != nil {
					return err
				}
				if !r.OK() {
					return errCheck
				}
				return nil
			})
		},
	}
	back.add(cmd)
	cmd.Flags().BoolVar(&all, "all", false, "list everything, not only the first lines; without FENCE: every draft")
	cmd.Flags().BoolVar(&accept, "accept-unplaced", false, acceptUsage)
	return cmd
}

type rehearsalValue struct {
	For      model.ID           `json:"for"`
	OK       bool               `json:"ok"`
	Before   int                `json:"danger_before"`
	After    int                `json:"danger_after"`
	Reach    int                `json:"danger_within_reach_before"`
	Still    int                `json:"danger_within_reach_after"`
	AllOn    int                `json:"can_have_everything_on" doc:"nodes of the inventory on which it, or one that it can become, can give itself anything then"`
	Becomes  int                `json:"can_become" doc:"how many others then, in any number of steps"`
	Replayed int                `json:"uses_replayed"`
	Calls    int64              `json:"calls_replayed"`
	Odd      int                `json:"uses_that_only_the_past_explains"`
	Unplaced []unplacedRow      `json:"unplaced"`
	Widened  []string           `json:"widened"`
	Widens   string             `json:"widens,omitempty" doc:"why the fence may give more, as it says"`
	Gains    []gainRow          `json:"gains,omitempty" doc:"of a fence that widens: what may be done then and not before"`
	Broken   []brokenRow        `json:"broken"`
	Asked    int                `json:"given_up_and_to_be_asked_for,omitempty" doc:"of those uses, the ones that their people may ask for"`
	Ending   []brokenRow        `json:"ending,omitempty" doc:"uses that go on until a line ends, as the fence says"`
	Going    int                `json:"given_up_and_going_on,omitempty" doc:"of the uses that it names as given up, those that were made on several days of the window"`
	Risk     riskValue          `json:"risk"`
	Doubts   []string           `json:"doubts,omitempty" doc:"what a second look by other means says otherwise: a fault of Clip Fence"`
	Changed  []string           `json:"changed_since,omitempty" doc:"what it replaces or gives and is not as it was when it was drafted"`
	Riskier  string             `json:"riskier,omitempty" doc:"how much more is expected to break than when it was drafted"`
	Cannot   []string           `json:"cannot_be_said,omitempty" doc:"what the source has no words for"`
	Goes     []model.Permission `json:"goes"`
	Stays    []model.Permission `json:"stays"`
}

const acceptUsage = "take the risk of calls that cannot be placed and may be of what goes; a change records it in " +
	"the ledger"

type unplacedRow struct {
	Identity   model.ID         `json:"identity"`
	Permission model.Permission `json:"permission"`
	Path       model.Path       `json:"path"`
	Calls      int64            `json:"calls"`
	Last       time.Time        `json:"last"`
	Why        work.Reason      `json:"why" doc:"path, operation, caller or grant: what keeps it from being placed"`
}

type brokenRow struct {
	Identity   model.ID         `json:"identity"`
	Permission model.Permission `json:"permission"`
	Path       model.Path       `json:"path"`
	Calls      int64            `json:"calls"`
	Last       time.Time        `json:"last"`
	GivenUp    bool             `json:"given_up"`
}

// goingOn tells how many given-up uses go on: a draft names none, somebody has put them there.
func goingOn(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d of them GO ON: made on several days of the window)", n)
}

// deniedWords names whom the denials of a fence refuse something.
func deniedWords(f *work.Fence) string {
	spared := map[model.ID]bool{}
	for _, l := range f.Denies {
		for _, id := range l.Unless {
			spared[id] = true
		}
	}
	text := f.For.String()
	if len(spared) > 0 {
		text += fmt.Sprintf(" but %d", len(spared))
	}
	return text
}

// holdWords counts those who hold something.
func holdWords(n int) string {
	if n == 1 {
		return "1 identity holds"
	}
	return identities(n) + " hold"
}

// endsWords tells which lines of a fence end by themselves, if any, and how many uses go on until then.
func endsWords(f *work.Fence, r *work.Rehearsal) string {
	ends := f.Ends()
	if len(ends) == 0 {
		return ""
	}
	first := f.Allow[ends[0]].Until.UTC().Format(time.DateOnly)
	if len(ends) == 1 {
		first = "1 line ends by itself, on " + first
	} else {
		first = fmt.Sprintf("%d lines end by themselves, the first on %s", len(ends), first)
	}
	if n := len(r.Ending); n > 0 {
		first += fmt.Sprintf("; %s may be made again until then%s", render.Plural(n, "use"), goingOn(r.Lately))
	}
	return first + "; what is used by then is put off with: " +
		command("clipfence draft --for %s --from ends --until TIME", model.ID{Kind: f.For.Kind, Name: f.For.Name})
}

// asksOf counts the permissions that a fence leaves to be asked for.
func asksOf(f *work.Fence) int {
	seen := map[model.PermissionPattern]bool{}
	for _, a := range f.Asks {
		for _, p := range a.Do {
			seen[p] = true
		}
	}
	return len(seen)
}

// askedWords tells what a fence leaves to be asked for, if anything.
func askedWords(f *work.Fence, r *work.Rehearsal, k *work.Risk) string {
	if len(f.Asks) == 0 {
		return ""
	}
	return fmt.Sprintf("%s of what goes may be asked for through a gate: so %s would have been, and about %.1f times "+
		"in the next 90 days (a guess)", render.Plural(asksOf(f), "permission"), render.Plural(r.Asked, "use"), k.Asks)
}

func (a *app) rehearsal(f *work.Fence, s *work.Source, r *work.Rehearsal, k *work.Risk, name string,
	all bool) *render.Doc {
	v := rehearsalValue{For: f.For, OK: r.OK(), Before: int(r.Before + 0.5), After: int(r.After + 0.5),
		Reach: int(r.ReachBefore.Danger + 0.5), Still: int(r.ReachAfter.Danger + 0.5), AllOn: r.ReachAfter.Nodes,
		Becomes: r.ReachAfter.Becomes, Replayed: r.Replayed, Calls: r.Calls, Odd: r.Odd, Cannot: r.Cannot,
		Asked: r.Asked, Going: r.Going,
		Changed: r.Changed, Riskier: r.Riskier, Widens: f.Widens, Gains: gainRows(r),
		Risk: valueOf(k), Unplaced: []unplacedRow{}, Widened: []string{}, Broken: []brokenRow{},
		Goes:  []model.Permission{},
		Stays: []model.Permission{}}
	d := &render.Doc{}
	add := func(ok bool, good, bad string) {
		if ok {
			d.Lines = append(d.Lines, "  ok   "+good)
		} else {
			d.Lines = append(d.Lines, "  FAIL "+bad)
		}
	}
	unnamed := 0
	for _, b := range r.Broken {
		if !b.GivenUp {
			unnamed++
		}
		v.Broken = append(v.Broken, brokenRow{b.Use.Principal(), b.Use.Permission, b.Use.Path, b.Use.Count, b.Use.Last,
			b.GivenUp})
	}
	for _, b := range r.Ending {
		v.Ending = append(v.Ending, brokenRow{b.Use.Principal(), b.Use.Permission, b.Use.Path, b.Use.Count, b.Use.Last,
			true})
	}
	if r.OK() {
		breaks := "nothing observed breaks"
		if n := len(r.Broken); n > 0 {
			breaks = fmt.Sprintf("nothing observed breaks but %s that it names as given up%s", render.Plural(n, "use"),
				goingOn(r.Going))
		}
		d.Head = fmt.Sprintf("Holds: %s loses %s, keeps %d, and %s; danger held %s", f.For,
			render.Plural(len(r.Goes), "permission"), len(r.Stays), breaks, arrow(v.Before, v.After))
		if len(r.Gives) > 0 {
			d.Head = fmt.Sprintf("Holds, and GIVES MORE, as it says: %s gets %s; %s; danger held %s", f.For,
				render.Plural(len(f.Allow), "line"), breaks, arrow(v.Before, v.After))
		}
		if len(f.Denies) > 0 {
			d.Head = fmt.Sprintf("Holds: %s refused to %s; %s less, and %s; danger held by all of them %s",
				isAre(work.RefusedTo(f), "permission"), deniedWords(f), holdWords(r.Fewer), breaks,
				arrow(v.Before, v.After))
		}
		switch {
		case len(f.Denies) > 0:
		case len(r.Gives) > 0 && !r.ReachAfter.Further(max(r.After, r.ReachBefore.Danger)):
		case work.SameReach(r) && len(r.Gives) == 0:
			d.Head += fmt.Sprintf(", but it can still get to all that it could before: %s within reach",
				render.Count(v.Still))
		case r.ReachBefore.Further(r.Before) || r.ReachAfter.Further(r.After):
			d.Head += ", within reach " + arrow(v.Reach, v.Still)
		}
	} else {
		d.Head = fmt.Sprintf("DOES NOT HOLD: %s: %s", f.For, strings.Join(why(r, unnamed), ", "))
	}
	if len(r.Gives) > 0 && len(r.Widened) == 0 {
		d.Lines = append(d.Lines, "  MORE it widens: "+f.Widens, "       may do then and not before: "+
			""+gainWords(v.Gains))
	} else {
		good := "widens nothing: every line lies inside a grant that it replaces (proven, also for names nobody has " +
			"seen yet)"
		if len(f.Allow)+len(f.Leaves) == 0 && len(f.Denies) > 0 {
			good = "widens nothing: a denial gives nobody anything"
		}
		add(len(r.Widened) == 0, good, fmt.Sprintf("%s would allow more than what goes",
			render.Plural(len(r.Widened), "line")))
	}
	add(unnamed == 0, fmt.Sprintf("breaks nothing observed: %s replayed, %s calls", render.Plural(r.Replayed, "use"),
		render.Count(r.Calls)), fmt.Sprintf("%s of %s replayed would be refused", render.Plural(unnamed, "use"),
		render.Count(r.Replayed)))
	for _, doubt := range r.Doubts {
		add(false, "", "a second look by other means says otherwise, which is a fault of Clip Fence: "+doubt.String())
		v.Doubts = append(v.Doubts, doubt.String())
	}
	for _, what := range r.Changed {
		add(false, "", what)
	}
	if r.Riskier != "" {
		add(false, "", r.Riskier)
	}
	if len(r.Doubts) == 0 {
		add(true, "a second look at both, by other means, agrees", "")
	}
	if len(r.Cannot) > 0 {
		add(false, "", "the source has no words for this: "+strings.Join(r.Cannot, "; "))
	}
	switch {
	case len(f.Denies) > 0 && !r.Furthest.IsZero():
		d.Lines = append(d.Lines, fmt.Sprintf("  note who can still get furthest of them is %s: danger %s within "+
			"reach", r.Furthest, render.Count(v.Still)))
	case len(f.Denies) > 0:
	case r.ReachAfter.Nodes > 0 || r.ReachAfter.Further(r.After):
		d.Lines = append(d.Lines, "  note "+lowerFirst(reachWords(f.For.In(s.Name), r.ReachAfter, r.After, s)))
	}
	if given := len(r.Broken) - unnamed; given > 0 {
		d.Lines = append(d.Lines, fmt.Sprintf("  note %s would be refused; the fence names them as given up there%s",
			render.Plural(given, "use"), goingOn(r.Going)))
	}
	if text := endsWords(f, r); text != "" {
		d.Lines = append(d.Lines, "  note "+text)
	}
	if text := askedWords(f, r, k); text != "" {
		d.Lines = append(d.Lines, "  note "+text)
	}
	if text := unseenWords(f); text != "" {
		d.Lines = append(d.Lines, "  note decide: "+text)
	}
	d.Lines = append(d.Lines, "  note risk: "+v.Risk.words())
	d.Lines = append(d.Lines, v.Risk.lines(map[bool]int{false: 3, true: len(v.Risk.Worst)}[all])...)
	if n := work.KeptElsewhere(f, r); n > 0 && len(f.Denies) == 0 {
		d.Lines = append(d.Lines,
			fmt.Sprintf("  note %s that the fence gives up here still reach it elsewhere, through grants that stay",
				render.Plural(n, "permission")))
	}
	if r.Odd > 0 {
		d.Lines = append(d.Lines,
			fmt.Sprintf("  note %s of the log are explained by the past only: what allowed them is gone already",
				render.Plural(r.Odd, "use")))
	}
	if n := len(r.Unplaced); n > 0 {
		calls := int64(0)
		for i, u := range r.Unplaced {
			calls += u.Use.Count
			v.Unplaced = append(v.Unplaced, unplacedRow{u.Use.Principal(), u.Use.Permission, u.Use.Path, u.Use.Count,
				u.Use.Last, u.Why})
			if i < 5 || all {
				d.Lines = append(d.Lines, fmt.Sprintf("       %s: %s on %s, %s", u.Use.Principal(), u.Use.Permission,
					u.Use.Path, reasonWords[u.Why]))
			}
		}
		text := fmt.Sprintf("%s, %s, cannot be placed and may be of what goes", render.Plural(n, "use"),
			render.Plural(int(calls), "call"))
		at := len(d.Lines) - min(n, 5)
		if all {
			at = len(d.Lines) - n
		}
		word := "  FAIL "
		if r.Accepted {
			word, text = "  note ", text+": taken at your risk (--accept-unplaced)"
		}
		d.Lines = slices.Insert(d.Lines, at, word+text)
	}
	for i, wd := range r.Widened {
		text := fmt.Sprintf("line %d of allow: %s on %s", wd.Line+1, wd.Permission, wd.Where)
		if wd.Line >= 0 && !wd.Group.IsZero() {
			text = fmt.Sprintf("line %d of allow: %s is not in %s", wd.Line+1, wd.Group, f.For)
		}
		if wd.Line < 0 {
			text = fmt.Sprintf("leaves: denial %s holds those in %s; who leaves it may do more", wd.Denial, wd.Group)
		}
		v.Widened = append(v.Widened, text)
		if i < 10 || all {
			d.Lines = append(d.Lines, "       "+text)
		}
	}
	if len(r.Broken) > 0 {
		t := render.Table{Title: "Would be refused",
			Columns: []render.Column{{Name: "CALLS", Right: true}, {Name: "IDENTITY"}, {Name: "PERMISSION"},
				{Name: "LAST"}, {Name: "PATH", Path: true}}}
		for i, b := range v.Broken {
			if i == 10 && !all {
				d.Notes = append(d.Notes, fmt.Sprintf("10 of %s refused uses shown; all: --all",
					render.Count(len(v.Broken))))
				break
			}
			t.Row(render.C(render.Count(b.Calls)), render.C(b.Identity.String()), render.C(b.Permission.String()),
				render.C(b.Last.Format(time.DateOnly)), render.C(b.Path.String()))
		}
		d.Tables = append(d.Tables, t)
	}
	if len(f.Replaces)+len(f.Leaves)+len(f.Allow)+len(f.Denies) > 0 {
		title := "In place of " + render.Plural(len(f.Replaces), "grant")
		switch {
		case len(f.Replaces) == 0 && len(f.Allow) == 0:
			title = "What changes"
		case len(f.Replaces) == 0:
			title = "Beside what is granted"
		}
		t := render.Table{Title: title,
			Columns: []render.Column{{Name: ""}, {Name: "WHAT", Wrap: true}, {Name: "WHERE", Path: true}}}
		for _, id := range f.Replaces {
			if n, ok := s.GrantNamed(id); ok {
				g := s.Grant(n)
				t.Row(render.Cell{Text: "- goes", Tone: render.Bad}, render.C(grantWords(g)),
					render.C(places(g.Where)))
			}
		}
		for _, l := range f.Leaves {
			t.Row(render.Cell{Text: "- leaves", Tone: render.Bad}, render.C(l.String()), render.C(""))
		}
		for _, al := range f.Allow {
			what := "role " + al.Role
			if al.Role == "" {
				what = fmt.Sprintf("%s: %s", render.Plural(len(al.Do), "permission"), first(al.Do, 4))
			}
			if !al.To.IsZero() {
				what += ", to " + al.To.String() + " alone"
			}
			if c := al.When.WithUntil(al.Until); !c.IsZero() {
				what += ", if " + c.String()
			}
			t.Row(render.Cell{Text: "+ comes", Tone: render.Good}, render.C(what), render.C(places(al.Where)))
		}
		for _, l := range f.Denies {
			what := fmt.Sprintf("%s: %s", render.Plural(len(l.Do), "permission"), first(l.Do, 4))
			if len(l.Unless) > 0 {
				what += ", but not to " + first(l.Unless, 6)
			}
			t.Row(render.Cell{Text: "- refused", Tone: render.Bad}, render.C(what), render.C(places(l.Where)))
		}
		d.Tables = append(d.Tables, t)
	}
	level := render.Table{Title: "Permissions by level",
		Columns: []render.Column{{Name: "LEVEL"}, {Name: "GOES", Right: true}, {Name: "STAYS", Right: true},
			{Name: "SUCH AS", Wrap: true}}}
	for l := model.HandOut; l >= model.See; l-- {
		goes, stays, example := 0, 0, ""
		for _, c := range r.Goes {
			if c.Weighs() == l {
				goes++
				if example == "" {
					example = c.Permission.String()
				}
			}
		}
		for _, c := range r.Stays {
			if c.Weighs() == l {
				stays++
			}
		}
		level.Row(render.C(l.String()), render.C(fmt.Sprint(goes)), render.C(fmt.Sprint(stays)), render.C(example))
	}
	if len(f.Replaces)+len(f.Leaves)+len(f.Allow) > 0 || len(f.Denies) == 0 { // who is spared keeps what is refused
		d.Tables = append(d.Tables, level)
	}
	for _, c := range r.Goes {
		v.Goes = append(v.Goes, c.Permission)
	}
	for _, c := range r.Stays {
		v.Stays = append(v.Stays, c.Permission)
	}
	d.Value, d.Rows = v, v.Broken
	if r.OK() {
		d.Next = []string{command("clipfence apply %s", name)}
	} else {
		d.Next = []string{"edit " + name + " and rehearse again"}
		if len(r.Changed) > 0 || r.Riskier != "" {
			d.Next = append(d.Next, command("clipfence draft --force --for %s", f.For),
				"or, to put it up as it is: take `proven` out of the file")
		}
		if len(r.Unplaced) > 0 {
			d.Next = append(d.Next, "clipfence uses --unplaced")
		}
	}
	return d
}

// why says in a few words each why a rehearsal fails, of which so many uses break.
func why(r *work.Rehearsal, unnamed int) []string {
	var out []string
	unplaced := len(r.Unplaced)
	if r.Accepted {
		unplaced = 0
	}
	for _, x := range []struct {
		n    int
		what string
	}{{len(r.Widened), "line would widen access"}, {len(r.Doubts), "doubt of a second look"},
		{len(r.Cannot), "line cannot be said by the source"},
		{len(r.Changed), "grant or role changed since it was drafted"}, {unnamed, "use would break"},
		{unplaced, "use cannot be placed and may be of what goes"}} {
		if x.n > 0 {
			one, rest, _ := strings.Cut(x.what, " ")
			out = append(out, render.Plural(x.n, one)+" "+rest)
		}
	}
	if r.Riskier != "" {
		out = append(out, r.Riskier)
	}
	return out
}

func first[T fmt.Stringer](xs []T, n int) string {
	s := ""
	for i, x := range xs {
		if i == n {
			return fmt.Sprintf("%s and %d more", s, len(xs)-n)
		}
		if i > 0 {
			s += ", "
		}
		s += x.String()
	}
	return s
}
