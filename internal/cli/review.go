package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) reviewCmd() *cobra.Command {
	var key string
	var anew bool
	cmd := &cobra.Command{
		Use: "review", Short: "Walk through the drafts and decide on each", Args: cobra.NoArgs,
		Long: `Walk through the drafts, one a screen: what goes, what stays with a strip of the days
on which it was used, and what is unsure, with the risk and its evidence. Those come
first that take away the most danger for their risk. Accept one, have it watched first,
set it aside until a day, say that what it takes is needed, edit it, or pass it over.
Each decision is in the ledger, signed; where clipfence.yaml lists people, by one of them,
and only such decisions count. What is said to be needed is learned from: it stays in later drafts for the same identity, and
such cuts are proposed less to others. Left or killed, it goes on where it was.

On no terminal it asks line by line: the same letters on its standard input.`,
		Example: "  clipfence review\n  clipfence review --key ~/.ssh/id_ed25519\n  clipfence review list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := errors.Join(a.real(), a.named("a decision")); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				return a.review(cmd.Context(), w, key,
					anew)
			})
		},
	}
	cmd.Flags().BoolVar(&anew, "anew", false, "begin at the first draft, also with those that were passed over")
	keyFlag(cmd, &key)
	cmd.AddCommand(a.reviewList(), a.reviewDecide())
	return cmd
}

func keyFlag(cmd *cobra.Command, key *string) {
	cmd.Flags().StringVar(key, "key", "", "SSH private key to sign with, of one of the people in clipfence.yaml "+
		"(default: the ssh-agent; nobody signs where clipfence.yaml lists no people)")
}

// decisions are what can be said of a draft, by their letters.
var decisions = []struct {
	letter, word, wants string
	verdict             work.Verdict
}{
	{"a", "accept", "", work.DraftAccepted},
	{"w", "watch first", "for how many days, such as 14d", work.DraftAccepted},
	{"s", "set aside", "until when (such as 30d or 2027-01-31), and why", work.DraftAside},
	{"n", "needed", "why what it takes away is needed; kept for 180d", work.DraftNeeded},
	{"u", "take back", "", work.DraftOpen},
}

// keptNeeded is how long it counts that something is needed, where nothing else is said.
const keptNeeded = 180 * 24 * time.Hour

// reviewer is a walk through the drafts. It knows no terminal: what is typed comes as a line, a
// letter with what it wants behind it, and what is seen is a screen of text.
type reviewer struct {
	w     *work.Workspace
	who   *work.Decider
	all   []*work.Reviewed
	skip  map[string]bool
	at    int
	more  bool   // everything is shown
	told  string // what came of the last line
	ended bool
	now   func() time.Time
}

func (a *app) newReviewer(ctx context.Context, w *work.Workspace, key string, anew bool) (*reviewer, error) {
	all, err := w.Review(ctx)
	if err != nil {
		return nil, err
	}
	who, err := w.Decider(ctx, key)
	if err != nil {
		return nil, err
	}
	r := &reviewer{w: w, who: who, all: all, skip: map[string]bool{}, now: a.clock}
	place := w.ReviewPlace()
	if anew {
		place = work.ReviewPlace{}
	}
	for _, name := range place.Skipped {
		r.skip[name] = true
	}
	r.at = slices.IndexFunc(all, func(d *work.Reviewed) bool { return d.Name == place.At })
	if r.at < 0 || !all[r.at].Waits() {
		r.at = max(0, r.at)
		r.next(0)
	}
	return r, nil
}

// next goes to the next draft that waits, from one on; where none does, the walk has ended.
func (r *reviewer) next(from int) {
	for i := range r.all {
		at := (from + i) % len(r.all)
		if d := r.all[at]; d.Waits() && !r.skip[d.Name] {
			r.at, r.more = at, false
			return
		}
	}
	r.ended = true
}

func (r *reviewer) place() error {
	p := work.ReviewPlace{}
	if !r.ended {
		p.At = r.all[r.at].Name
	}
	for name := range r.skip {
		p.Skipped = append(p.Skipped, name)
	}
	slices.Sort(p.Skipped)
	return r.w.KeepReviewPlace(p)
}

// errEdit asks whoever has the terminal to edit the draft at hand.
var errEdit = errors.New("edit")

// say takes a line. What is wrong with it is told on the screen; an error ends the walk, but for
// errEdit.
func (r *reviewer) say(ctx context.Context, line string) error {
	letter, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	rest = strings.TrimSpace(rest)
	d := r.all[r.at]
	r.told = ""
	switch letter {
	case "":
		return nil
	case "q":
		err := r.place() // it goes on here
		r.ended = true
		return err
	case "?":
		r.more = !r.more
		return nil
	case "k":
		r.skip[d.Name] = true
		r.told = "Passed over: " + d.Name
		r.next(r.at + 1)
		return r.place()
	case "b":
		r.more = false
		r.at = (r.at + len(r.all) - 1) % len(r.all)
		delete(r.skip, r.all[r.at].Name)
		return r.place()
	case "e":
		return errEdit
	}
	i := slices.IndexFunc(decisions, func(x struct {
		letter, word, wants string
		verdict             work.Verdict
	}) bool {
		return x.letter == letter
	})
	if i < 0 {
		r.told = fmt.Sprintf("%q is none of the letters below", letter)
		return nil
	}
	if d.Bad != nil || d.Applied != "" {
		r.told = "There is nothing to decide on here: pass it over (k)"
		return nil
	}
	reason, until, err := decided(letter, rest, r.now())
	if err != nil {
		r.told = err.Error()
		return nil
	}
	v := decisions[i].verdict
	if _, err := r.w.Decide(ctx, d, v, reason, until, r.who); err != nil {
		if errors.Is(err, work.ErrGuard) || errors.Is(err, work.ErrChanged) {
			r.told = err.Error()
			return nil
		}
		return err
	}
	r.told = fmt.Sprintf("%s: %s", d.Name, decisionWords(d.Decision))
	if v == work.DraftOpen {
		r.told = d.Name + ": nothing is decided"
		return r.place()
	}
	delete(r.skip, d.Name)
	r.next(r.at + 1)
	return r.place()
}

// decided reads what comes with the letter of a decision.
func decided(letter, rest string, now time.Time) (reason string, until time.Time, err error) {
	first, more, _ := strings.Cut(rest, " ")
	day := func() error {
		if d, err := model.ParseDuration(first); err == nil && d > 0 {
			until = now.Add(time.Duration(d))
			return nil
		}
		if until, err = time.Parse(time.DateOnly, first); err == nil {
			if !until.After(now) {
				return fmt.Errorf("%s is over", first)
			}
			return nil
		}
		return fmt.Errorf("%q is neither a time such as 30d nor a day such as 2027-01-31", first)
	}
	switch letter {
	case "w":
		if err := day(); err != nil {
			return "", until, fmt.Errorf("for how long? %w", err)
		}
		return strings.TrimSpace(more), until, nil
	case "s":
		if err := day(); err != nil {
			return "", until, fmt.Errorf("until when? %w", err)
		}
		if more = strings.TrimSpace(more); more == "" {
			return "", until, errors.New("say why it is set aside")
		}
		return more, until, nil
	case "n":
		if rest == "" {
			return "", until, errors.New("say why what it takes away is needed")
		}
		return rest, now.Add(keptNeeded), nil
	}
	return rest, until, nil
}

// decisionWords say what was decided.
func decisionWords(d *work.Decision) string {
	if d == nil {
		return "open"
	}
	s := string(d.Verdict)
	switch {
	case d.Verdict == work.DraftAccepted && !d.Until.IsZero():
		s = "accepted, to be watched until " + d.Until.Format(time.DateOnly)
	case d.Verdict == work.DraftAside:
		s = "set aside until " + d.Until.Format(time.DateOnly)
	case d.Verdict == work.DraftNeeded:
		s = "needed, until " + d.Until.Format(time.DateOnly)
	}
	if d.Reason != "" {
		s += ": " + d.Reason
	}
	if !d.By.IsZero() {
		s += " (" + d.By.String() + ")"
	}
	return s
}

// review walks through the drafts, on a terminal or line by line.
func (a *app) review(ctx context.Context, w *work.Workspace, key string, anew bool) error {
	r, err := a.newReviewer(ctx, w, key, anew)
	if err != nil {
		return err
	}
	defer r.who.Close()
	switch {
	case len(r.all) == 0:
		return a.print(&render.Doc{Head: "There are no drafts to decide on", Value: []reviewRow{},
			Next: []string{"clipfence draft --all"}})
	case r.ended: // all are decided on, or were passed over
	case isTerminal(a.in) && isTerminal(a.out):
		if err := a.reviewScreens(ctx, r); err != nil {
			return err
		}
	default:
		if err := a.reviewLines(ctx, r); err != nil {
			return err
		}
	}
	return a.print(reviewDoc(r.w, r.all, r.skip))
}

// reviewLines asks line by line.
func (a *app) reviewLines(ctx context.Context, r *reviewer) error {
	in := bufio.NewReader(&waiting{ctx, a.in})
	width := a.width()
	if width == 0 {
		width = 100
	}
	for !r.ended {
		if err := r.place(); err != nil {
			return err
		}
		fmt.Fprintln(a.out, r.screen(width, 1<<20, render.Painter(a.colourOn(a.out))))
		fmt.Fprint(a.out, "> ")
		line, err := in.ReadString('\n')
		if err != nil && (line == "" || !errors.Is(err, io.EOF)) {
			fmt.Fprintln(a.out)
			if errors.Is(err, io.EOF) {
				return nil // it goes on here
			}
			return err
		}
		fmt.Fprintln(a.out, strings.TrimSpace(line))
		err = r.say(ctx, line)
		if errors.Is(err, errEdit) {
			err = a.edited(ctx, r)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// editor returns what edits a file, with the words that the environment gives it.
func editor(file string) (*exec.Cmd, error) {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if words := strings.Fields(os.Getenv(name)); len(words) > 0 {
			return exec.Command(words[0], append(words[1:], file)...), nil
		}
	}
	return nil, errors.New("no editor is known: set VISUAL or EDITOR")
}

// edited lets somebody edit the draft at hand and looks at everything anew.
func (a *app) edited(ctx context.Context, r *reviewer) error {
	c, err := editor(r.w.Path(r.all[r.at].Name))
	if err == nil {
		c.Stdin, c.Stdout, c.Stderr = a.in, a.out, a.err
		err = c.Run()
	}
	if err != nil {
		r.told = "Not edited: " + err.Error()
		return nil
	}
	return r.again(ctx)
}

// again looks at the drafts anew, and stays at the one at hand.
func (r *reviewer) again(ctx context.Context) error {
	name := r.all[r.at].Name
	all, err := r.w.Review(ctx)
	if err != nil {
		return err
	}
	r.all = all
	r.at = max(0, slices.IndexFunc(all, func(d *work.Reviewed) bool { return d.Name == name }))
	r.told = "Edited, and rehearsed anew"
	return r.place()
}

type reviewRow struct {
	For     model.ID   `json:"for,omitzero"`
	File    string     `json:"file"`
	State   string     `json:"state" doc:"open, passed over, accepted, aside, needed, handed over, applied or unreadable"`
	Holds   bool       `json:"holds" doc:"its rehearsal"`
	Widens  bool       `json:"widens,omitempty"`
	Removes int        `json:"danger_removed"`
	Expects float64    `json:"expected_to_break"`
	Told    string     `json:"decision,omitempty"`
	By      model.ID   `json:"decided_by,omitzero" doc:"a person, with a key"`
	Until   time.Time  `json:"until,omitzero"`
	Shadow  *shadowRow `json:"watched,omitempty"`
	Change  string     `json:"change,omitempty" doc:"that carried it out"`
}

type shadowRow struct {
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"`
	Days    int       `json:"days" doc:"so far"`
	Calls   int64     `json:"calls" doc:"that were tried"`
	Refused int64     `json:"would_have_refused"`
	Named   int64     `json:"named_as_given_up" doc:"would have been refused, too, and the draft says so"`
	Unread  bool      `json:"unread,omitempty" doc:"its days are over, and the log was not read to its end since"`
	Silent  bool      `json:"silent,omitempty" doc:"they are over, and the log shows nothing of the end of them"`
	Over    bool      `json:"over" doc:"its days are over, and all of them were seen"`
}

func shadowOf(r *work.Reviewed) *shadowRow {
	s := r.Shadow
	if s == nil {
		return nil
	}
	return &shadowRow{s.Since, s.Until, s.Days, s.Calls, s.Refused, s.Named, s.Unread, s.Silent, s.Over}
}

// words say what a draft that is watched would have done.
func (s *shadowRow) words() string {
	if s.Over || s.Unread || s.Silent {
		return s.soFar()
	}
	return s.soFar() + ", watched until " + s.Until.Format(time.DateOnly)
}

func (s *shadowRow) soFar() string {
	out := fmt.Sprintf("would have refused %s of %s in %s", render.Count(s.Refused), render.Plural(int(s.Calls),
		"call"),
		render.Plural(s.Days, "day"))
	if s.Named > 0 {
		out += fmt.Sprintf(", and %s that it names as given up", render.Count(s.Named))
	}
	if s.Over {
		return out + "; its time is over"
	}
	if s.Unread {
		return out + "; its time is over, and the log was not read since: clipfence survey"
	}
	if s.Silent {
		return out + "; its time is over, and the log shows nothing of the end of it: clipfence coverage"
	}
	return out
}

// stateOf says where a draft stands.
func stateOf(r *work.Reviewed, skipped bool) string {
	switch {
	case r.Bad != nil:
		return "unreadable"
	case r.Handed:
		return work.ChangeHanded
	case r.Applied != "":
		return "applied"
	case r.Decision != nil:
		return string(r.Decision.Verdict)
	case skipped:
		return "passed over"
	}
	return "open"
}

// applyNext is what carries an accepted draft out: all of them together, or, where changes are handed over,
// this one.
func applyNext(w *work.Workspace, r *work.Reviewed) string {
	switch {
	case r.Source == nil:
		return "clipfence apply --accepted"
	case work.ChangesOf(r.Source.Source) == work.ByPeople:
		return command("clipfence apply %s", r.Name)
	}
	return "clipfence apply --accepted" + ofSource(w, r.Source.Name)
}

func reviewDoc(w *work.Workspace, all []*work.Reviewed, skip map[string]bool) *render.Doc {
	rows := []reviewRow{}
	t := render.Table{Columns: []render.Column{{Name: "FOR"}, {Name: "STATE"}, {Name: "REMOVES", Right: true},
		{Name: "MAY BREAK", Right: true}, {Name: "DECISION", Wrap: true}}}
	count := map[string]int{}
	total, sure := 0.0, 0.0
	for _, r := range all {
		x := reviewRow{For: r.For, File: r.Name, State: stateOf(r, skip[r.Name]), Holds: r.Holds, Widens: r.Widens,
			Removes: int(r.Removes + .5), Expects: round(r.Expects, 1000), Shadow: shadowOf(r), Change: r.Applied}
		count[x.State]++
		breaks, tone := "", render.Plain
		if r.Risk != nil {
			risk := valueOf(r.Risk)
			breaks = mayBreak(&risk)
		}
		switch {
		case r.Bad != nil:
			x.Told, tone = r.Bad.Error(), render.Bad
		case r.Handed:
			x.Told = "handed over as " + r.Applied + ", not seen yet"
		case r.Applied != "":
			x.Told, tone = "carried out by "+r.Applied, render.Good
		case !r.Holds:
			x.Told, tone = "its rehearsal does not hold", render.Bad
		case r.Decision != nil:
			x.Told, x.By, x.Until = decisionWords(r.Decision), r.Decision.By, r.Decision.Until
			if r.Decision.Verdict == work.DraftAccepted {
				tone = render.Good
			}
			if x.Shadow != nil {
				x.Told += "; " + x.Shadow.soFar()
			}
		case r.Widens:
			x.Told, tone = "GIVES MORE: "+r.Fence.Widens, render.Warn
		}
		if r.Applied == "" && r.Bad == nil {
			total += max(0, r.Removes)
			if r.Decision != nil {
				sure += max(0, r.Removes)
			}
		}
		rows = append(rows, x)
		who := x.For.String()
		if x.For.IsZero() {
			who = x.File
		}
		t.Row(render.C(who), render.Cell{Text: x.State, Tone: tone}, render.C(render.Count(x.Removes)),
			render.C(breaks),
			render.C(x.Told))
	}
	d := &render.Doc{Value: rows, Tables: []render.Table{t}}
	var parts []string
	for _, s := range []string{"open", "passed over", "accepted", "aside", "needed", "handed over", "applied",
		"unreadable"} {
		if n := count[s]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, map[string]string{"aside": "set aside"}[s]+
				map[bool]string{true: s}[s != "aside"]))
		}
	}
	d.Head = fmt.Sprintf("%s: %s; decided on %s of %s danger that they take away", render.Plural(len(all), "draft"),
		strings.Join(parts, ", "), render.Count(int(sure+.5)), render.Count(int(total+.5)))
	if i := slices.IndexFunc(all, func(r *work.Reviewed) bool {
		return stateOf(r, skip[r.Name]) == string(work.DraftAccepted)
	}); i >= 0 {
		d.Next = append(d.Next, applyNext(w, all[i]))
	}
	if count["open"]+count["passed over"] > 0 {
		d.Next = append(d.Next, "clipfence review"+map[bool]string{true: " --anew"}[count["open"] == 0])
	}
	d.Notes = []string{"REMOVES is danger; MAY BREAK is how many identities are expected to have a call refused " +
		"within 90 days, a guess."}
	return d
}

func (a *app) reviewList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Where every draft stands, and what those that are watched would " +
		"have done",
		Args: cobra.NoArgs, Example: "  clipfence review list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				all, err := w.Review(cmd.Context())
				if err != nil {
					return err
				}
				if len(all) == 0 {
					return a.print(&render.Doc{Head: "There are no drafts", Value: []reviewRow{},
						Next: []string{"clipfence draft --all"}})
				}
				skip := map[string]bool{}
				for _, name := range w.ReviewPlace().Skipped {
					skip[name] = true
				}
				return a.print(reviewDoc(w, all, skip))
			})
		}}
}

func (a *app) reviewDecide() *cobra.Command {
	var key, reason, until string
	words := map[string]string{"accept": "a", "watch": "w", "aside": "s", "needed": "n", "open": "u"}
	cmd := &cobra.Command{
		Use: "decide FENCE accept|watch|aside|needed|open", Short: "Decide on one draft, without the walk",
		Args: cobra.ExactArgs(2),
		Long: `Decide on one draft without the walk: accept it, have it watched first (--until), set it
aside (--until and --reason), say that what it takes away is needed (--reason), or take
a decision back (open).`,
		Example: "  clipfence review decide workload/ticket-export accept\n" +
			"  clipfence review decide workload/ticket-export watch --until 14d\n" +
			"  clipfence review decide workload/ticket-export aside --until 30d --reason 'after the sale'",
		ValidArgsFunction: a.completeDraft,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.real(); err != nil {
				return err
			}
			letter, ok := words[args[1]]
			if !ok {
				return fmt.Errorf("%q is none of accept, watch, aside, needed, open", args[1])
			}
			line := reason
			if until != "" || letter == "w" || letter == "s" {
				line = until + " " + reason
			}
			if letter == "a" && until != "" {
				return errors.New("--until is for watch and aside: what is accepted stays so until it is taken back")
			}
			if letter == "n" {
				line = reason
			}
			why, end, err := decided(letter, strings.TrimSpace(line), a.clock())
			if err != nil {
				return fmt.Errorf("%w (--until, --reason)", err)
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				name, _, _, err := w.ReadFence(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				all, err := w.Review(cmd.Context())
				if err != nil {
					return err
				}
				i := slices.IndexFunc(all, func(r *work.Reviewed) bool { return r.Name == w.Relative(name) })
				switch {
				case i < 0:
					return fmt.Errorf("%s is not in the folder of drafts, which is what is decided on", name)
				case all[i].Bad != nil:
					return all[i].Bad
				case all[i].Handed:
					return fmt.Errorf("%w: %s was handed over as %s", work.ErrGuard, all[i].Name, all[i].Applied)
				case all[i].Applied != "":
					return fmt.Errorf("%w: %s was carried out by %s", work.ErrGuard, all[i].Name, all[i].Applied)
				}
				v := work.DraftOpen
				for _, x := range decisions {
					if x.letter == letter {
						v = x.verdict
					}
				}
				who, err := w.Decider(cmd.Context(), key)
				if err != nil {
					return err
				}
				defer who.Close()
				d, err := w.Decide(cmd.Context(), all[i], v, why, end, who)
				if err != nil {
					return err
				}
				out := &render.Doc{Head: fmt.Sprintf("%s: %s", all[i].Name, decisionWords(all[i].Decision)), Value: d}
				if v == work.DraftAccepted {
					out.Next = []string{applyNext(w, all[i])}
				}
				return a.print(out)
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().StringVar(&until, "until", "", "until when, such as 30d or 2027-01-31")
	keyFlag(cmd, &key)
	return cmd
}
