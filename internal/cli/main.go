package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

// Exit codes, a documented contract.
const (
	exitOK      = 0
	exitCheck   = 1 // a check that was asked for did not hold
	exitCall    = 2 // the call, or a file it names, was wrong
	exitSource  = 3 // a source failed
	exitRefused = 4 // refused by a guard
	exitDamaged = 5 // the workspace or the ledger is damaged, or cannot be written
)

// errCheck ends a command whose check did not hold; its answer is printed already.
var errCheck = errors.New("check did not hold")

// Version is set when a release is built: -ldflags "-X clipfence/internal/cli.Version=1.2.3".
var Version = ""

// Main runs one command line and returns the exit code.
func Main(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	takeSignals()
	ctx, stop := signal.NotifyContext(context.Background(), endings()...)
	defer stop()
	a := &app{in: stdin, clock: time.Now}
	raw := stderr
	defer leave(ctx, patience, func() bool { return a.thinks.Load() && !a.acts.Load() }, func() {
		clear := ""
		if isTerminal(raw) {
			clear = "\r\x1b[K" // what was shown of the progress
		}
		fmt.Fprintln(raw, clear+"clipfence: "+interrupted)
		os.Exit(exitCode(ctx.Err()))
	})()
	a.out, a.err = &veil{w: &unread{stdout, a}}, &veil{w: &unread{stderr, a}}
	stdout, stderr = a.out, a.err
	a.ctx = ctx
	cmd := a.root()
	cmd.SetArgs(args)
	cmd.SetIn(stdin)
	cmd.SetOut(stdout)
	cmd.SetErr(stderr)
	err := cmd.ExecuteContext(ctx)
	if err == nil {
		return exitOK
	}
	if errors.Is(err, errCheck) {
		return exitCheck
	}
	text := strings.TrimPrefix(err.Error(), "check did not hold\n")
	if ctx.Err() != nil {
		text = interrupted
		if errors.Is(err, work.ErrUnchanged) {
			text = "interrupted; nothing was changed, and the same command begins anew"
		}
	}
	for i, line := range strings.Split(strings.TrimRight(a.masked(text), "\n"), "\n") {
		lead := "clipfence: "
		if i > 0 {
			lead = "  "
		}
		fmt.Fprintln(stderr, lead+render.Clean(line))
	}
	return exitCode(err)
}

const interrupted = "interrupted; what was finished is kept, and the same command goes on from there"

// patience is how long a question may go on thinking when nobody waits for the answer any more: on a large estate that
// may be minutes.
const patience = time.Second

// leave calls away if something is interrupted, so long after, as soon as it may, unless it has ended by then. What it
// returns is to be called at the end.
func leave(ctx context.Context, after time.Duration, may func() bool, away func()) (ended func()) {
	done := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(after):
				if may() {
					away()
					return
				}
			}
		}
	})
	return func() {
		stop()
		close(done)
	}
}

// app is what every command shares.
type app struct {
	ctx      context.Context // of the whole command: what waits for somebody ends with it
	in       io.Reader
	out, err io.Writer
	clock    func() time.Time
	log      *slog.Logger

	dir    string
	format choice
	colour choice
	asOf   timeFlag
	source string
	quiet  bool
	veiled bool              // people are named by pseudonyms
	people *strings.Replacer // puts them there; nil: nothing does
	debug  bool
	closes bool        // the command takes an elevation away, whatever is broken here
	acts   atomic.Bool // the command changes something, and goes on though nobody reads what it prints
	thinks atomic.Bool // the heart is at work: see [work.Doing.Thinks]
}

func (a *app) root() *cobra.Command {
	a.format = choice{value: "table", of: render.Formats}
	a.colour = choice{value: "auto", of: []string{"auto", "always", "never"}}
	cmd := &cobra.Command{
		Use:   "clipfence",
		Short: "Compare granted with used access, narrow it, and lend the rest for a time",
		Long: `Clip Fence compares what people and service identities are granted with what
they use, says where the two differ and how sure that is, writes the narrower
policy, tries it, carries it out without breaking work, and turns what must stay
powerful into access that is asked for, approved, short, and gone again.

Begin with:  clipfence demo`,
		SilenceUsage:      true,
		SilenceErrors:     true,
		Args:              cobra.NoArgs,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			level := slog.LevelWarn
			if a.debug {
				level = slog.LevelDebug
			}
			if a.quiet {
				level = slog.LevelError
			}
			a.log = slog.New(slog.NewTextHandler(safeWriter{a.err}, &slog.HandlerOptions{Level: level}))
			return nil
		},
	}
	f := cmd.PersistentFlags()
	f.StringVarP(&a.dir, "workspace", "C", ".", "folder of the workspace, or one below it")
	f.VarP(&a.format, "format", "f", "how results are printed: "+strings.Join(render.Formats, ", "))
	f.Var(&a.colour, "color", "colour: auto (on a terminal), always, never; NO_COLOR is honoured")
	f.Var(&a.asOf, "as-of", "answer as if it were this time (RFC 3339), for questions that change nothing")
	f.StringVar(&a.source, "source", "", "the source in question, where there are several")
	f.BoolVar(&a.veiled, "pseudonyms", false, "name people by pseudonyms in what is printed and exported; only this "+
		"workspace's key tells whose they are (clipfence uses reveal)")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "no progress and no remarks on stderr")
	f.BoolVar(&a.debug, "debug", false, "say more on stderr about what is done")
	cmd.AddGroup(&cobra.Group{ID: "look", Title: "Look:"}, &cobra.Group{ID: "act", Title: "Act:"},
		&cobra.Group{ID: "set", Title: "Set up:"})
	add := func(group string, cmds ...*cobra.Command) {
		for _, c := range cmds {
			c.GroupID = group
			cmd.AddCommand(c)
		}
	}
	add("set", a.demoCmd(), a.initCmd(), a.sourceCmd(), a.surveyCmd(), a.trustCmd(), a.schemaCmd(), a.sandboxCmd(),
		a.versionCmd())
	add("look", a.statusCmd(), a.coverageCmd(), a.reachCmd(), a.whyCmd(), a.usesCmd(), a.gaugeCmd(), a.findingsCmd(),
		a.ledgerCmd())
	add("act", a.draftCmd(), a.rehearseCmd(), a.reviewCmd(), a.applyCmd(), a.undoCmd(), a.exportCmd(), a.gateCmd(),
		a.patrolCmd())
	cmd.AddCommand(a.manCmd())
	cmd.SetFlagErrorFunc(flagError)
	explainWords(cmd)
	return cmd
}

// flagError says what a flag wants, in place of how reading it failed.
func flagError(c *cobra.Command, err error) error {
	var bad *pflag.InvalidValueError
	if errors.As(err, &bad) {
		what := bad.Unwrap()
		switch kind := bad.GetFlag().Value.Type(); {
		case kind == "bool":
			what = fmt.Errorf("%q is not true or false", bad.GetValue())
		case strings.HasPrefix(kind, "int") || strings.HasPrefix(kind, "uint"):
			what = fmt.Errorf("%q is no whole number", bad.GetValue())
		}
		err = fmt.Errorf("--%s: %w", bad.GetFlag().Name, what)
	}
	return fmt.Errorf("%w; see: %s --help", err, c.CommandPath())
}

// explainWords makes a command and those below it say what words they want when they get
// too few or too many, or which command may be meant.
func explainWords(c *cobra.Command) {
	if fits := c.Args; fits != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if fits(c, args) == nil {
				return nil
			}
			if c.HasAvailableSubCommands() && len(args) > 0 {
				if c.SuggestionsMinimumDistance == 0 {
					c.SuggestionsMinimumDistance = 2
				}
				var maybe string
				if near := c.SuggestionsFor(args[0]); len(near) > 0 {
					maybe = "; did you mean " + strings.Join(near, " or ") + "?"
				}
				return fmt.Errorf("there is no command %q%s; see: %s --help", c.CommandPath()+" "+args[0], maybe,
					c.CommandPath())
			}
			example, _, _ := strings.Cut(strings.TrimSpace(c.Example), "\n")
			wants := strings.TrimSuffix(c.UseLine(), " [flags]")
			what := "too many words"
			if fits(c, make([]string, len(args)+1)) == nil || fits(c, make([]string, len(args)+2)) == nil ||
				fits(c, make([]string, len(args)+3)) == nil {
				what = "a word is missing"
			}
			return fmt.Errorf("%s; use: %s, such as: %s", what, wants, example)
		}
	}
	for _, sub := range c.Commands() {
		explainWords(sub)
	}
}

// safeWriter keeps terminal escapes out of log lines.
type safeWriter struct{ w io.Writer }

func (s safeWriter) Write(p []byte) (int, error) {
	_, err := io.WriteString(s.w, render.Clean(strings.TrimRight(string(p), "\n"))+"\n")
	return len(p), err
}

// now is the time that questions are answered for.
func (a *app) now() time.Time {
	if !a.asOf.IsZero() {
		return a.asOf.Time
	}
	return a.clock().UTC()
}

// An unread writer is for what may be read no more, as behind `| head`: a question ends with that, as programs
// do, and whatever changes something does not stop half-way.
type unread struct {
	w io.Writer
	a *app
}

// exitUnread is what a shell says of programs that ended since nobody read what they print.
const exitUnread = 128 + 13

func (u *unread) Write(p []byte) (int, error) {
	n, err := u.w.Write(p)
	if !errors.Is(err, syscall.EPIPE) {
		return n, err
	}
	if !u.a.acts.Load() {
		os.Exit(exitUnread)
	}
	return len(p), nil
}

// real refuses --as-of for commands that change something.
func (a *app) real() error {
	a.acts.Store(true)
	if !a.asOf.IsZero() {
		return errors.New("--as-of is for questions; what changes something happens now")
	}
	return nil
}

// print writes an answer to stdout.
func (a *app) print(d *render.Doc) error {
	style := render.Style{Format: a.format.value, Width: a.width(), Colour: a.colourOn(a.out)}
	if a.people == nil {
		return d.Write(a.out, style)
	}
	mask := a.people.Replace
	d = d.Map(mask) // before names are cut to fit a column
	switch style.Format {
	case "json", "yaml": // before they are quoted in another way
		value, err := json.Marshal(d.Value)
		if err != nil {
			return err
		}
		d.Value = json.RawMessage(mask(string(value)))
	case "csv":
		var b bytes.Buffer
		if err := d.Write(&b, style); err != nil {
			return err
		}
		rows, err := csv.NewReader(&b).ReadAll()
		if err != nil {
			return err
		}
		for _, row := range rows {
			for i := range row {
				row[i] = mask(row[i])
			}
		}
		return csv.NewWriter(a.out).WriteAll(rows)
	}
	return d.Write(a.out, style)
}

// masked puts pseudonyms into a text, where they are asked for.
func (a *app) masked(s string) string {
	if a.people == nil {
		return s
	}
	return a.people.Replace(s)
}

// named refuses --pseudonyms for what must name people.
func (a *app) named(what string) error {
	if a.veiled {
		return fmt.Errorf("--pseudonyms is for what others are to see: %s names people", what)
	}
	return nil
}

// say writes a remark to stderr.
func (a *app) say(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintln(a.err, render.Clean(a.masked(fmt.Sprintf(format, args...))))
	}
}

func (a *app) width() int {
	if f, ok := bare(a.out).(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			return w
		}
	}
	if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w >= 40 {
		return w
	}
	return 0
}

func isTerminal(x any) bool {
	if w, ok := x.(io.Writer); ok {
		x = bare(w)
	}
	f, ok := x.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (a *app) colourOn(w io.Writer) bool {
	switch a.colour.value {
	case "always":
		return true
	case "never":
		return false
	}
	return isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// progress returns a function that shows one changing line on a terminal, and
// nothing elsewhere; calling it with "" ends the line.
func (a *app) progress() func(format string, args ...any) {
	if a.quiet || !isTerminal(a.err) {
		return func(string, ...any) {}
	}
	var last time.Time
	shown := "" // what is told of; what comes next is told at once, since it may take long
	return func(format string, args ...any) {
		if format == "" {
			if shown != "" {
				fmt.Fprint(a.err, "\r\x1b[K")
			}
			shown = ""
			return
		}
		if format == shown && time.Since(last) < 100*time.Millisecond {
			return
		}
		last, shown = time.Now(), format
		fmt.Fprint(a.err, "\r\x1b[K"+render.Cut(render.Clean(fmt.Sprintf(format, args...)), 100))
	}
}

// confirm asks on a terminal, and elsewhere wants --yes.
func (a *app) confirm(yes bool, question string) error {
	if yes {
		return nil
	}
	if !isTerminal(a.in) {
		return fmt.Errorf("%w: there is no terminal to ask on (%s); give --yes to do it without being asked",
			work.ErrGuard, render.Clean(question))
	}
	fmt.Fprintf(a.err, "%s [y/N] ", render.Clean(question))
	var answer string
	if _, err := fmt.Fscanln(&waiting{a.ctx, a.in}, &answer); err != nil ||
		!slices.Contains([]string{"y", "yes"}, strings.ToLower(answer)) {
		return fmt.Errorf("%w: not confirmed; nothing was changed", work.ErrGuard)
	}
	return nil
}

// choice is a flag with a fixed list of values.
type choice struct {
	value string
	of    []string
}

func (c *choice) String() string { return c.value }
func (c *choice) Type() string   { return "word" }
func (c *choice) Set(s string) error {
	if !slices.Contains(c.of, s) {
		return fmt.Errorf("%q is none of %s", s, strings.Join(c.of, ", "))
	}
	c.value = s
	return nil
}

// timeFlag is a flag that holds a time.
type timeFlag struct{ time.Time }

func (t *timeFlag) String() string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.RFC3339)
}
func (t *timeFlag) Type() string { return "time" }
func (t *timeFlag) Set(s string) (err error) {
	if t.Time, err = time.Parse(time.RFC3339, s); err != nil {
		return fmt.Errorf("%q is not a time like 2026-11-24T08:00:00Z (RFC 3339)", s)
	}
	return nil
}

// pathFlag is a flag that holds a path.
type pathFlag struct{ model.Path }

func (p *pathFlag) String() string {
	if p.IsZero() {
		return ""
	}
	return p.Path.String()
}
func (p *pathFlag) Type() string { return "path" }
func (p *pathFlag) Set(s string) (err error) {
	p.Path, err = model.ParsePath(s)
	return err
}

// windowFlag is a flag that holds a window: whole days.
type windowFlag struct{ model.Duration }

func (d *windowFlag) Type() string { return "days" }
func (d *windowFlag) Set(s string) error {
	v, err := model.ParseDuration(s)
	if err == nil {
		err = work.WholeDays(v)
	}
	d.Duration = v
	return err
}

func (d *windowFlag) String() string {
	if d.Duration == 0 {
		return ""
	}
	return d.Duration.String()
}

// spanWords says which days a window has.
func spanWords(w work.Window) string {
	return fmt.Sprintf("%s to %s and %s so far (%s, UTC)", w.From.Format(time.DateOnly),
		(w.Last() - 1).Time().Format(time.DateOnly), w.Last().Time().Format(time.DateOnly),
		render.Plural(w.Days(), "whole day"))
}

// durationFlag is a flag that holds a duration.
type durationFlag struct{ model.Duration }

func (d *durationFlag) Type() string { return "duration" }
func (d *durationFlag) Set(s string) (err error) {
	d.Duration, err = model.ParseDuration(s)
	return err
}
func (d *durationFlag) String() string {
	if d.Duration == 0 {
		return ""
	}
	return d.Duration.String()
}

func (a *app) versionCmd() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: cobra.NoArgs,
		Example: "  clipfence version --format json",
		RunE: func(*cobra.Command, []string) error {
			v := struct {
				Version string `json:"version"`
				Commit  string `json:"commit"`
				Go      string `json:"go"`
				System  string `json:"system"`
			}{Version, "", runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH}
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, s := range info.Settings {
					if s.Key == "vcs.revision" {
						v.Commit = s.Value
					}
				}
			}
			if v.Version == "" {
				v.Version = "development"
			}
			head := "clipfence " + v.Version
			if v.Commit != "" {
				head += " (" + v.Commit[:min(12, len(v.Commit))] + ")"
			}
			return a.print(&render.Doc{Head: head + ", " + v.Go + ", " + v.System, Value: v})
		},
	}
}

func exitCode(err error) int {
	switch work.BlameOf(err) {
	case work.BlameCheck:
		return exitCheck
	case work.BlameSource:
		return exitSource
	case work.BlameRefused:
		return exitRefused
	case work.BlameDamaged:
		return exitDamaged
	}
	return exitCall
}
