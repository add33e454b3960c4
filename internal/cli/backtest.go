package cli

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/report"
	"clipfence/internal/work"
)

// backtestFlags are those of rehearse --backtest.
type backtestFlags struct {
	on    bool
	ago   windowFlag
	plot  string
	force bool
	most  mostFlag
	when  bool
}

// mostFlag is how many identities may break: a number, or a share of those that call.
type mostFlag struct {
	text string
	n    int
	of   float64 // a share, 0: n is meant
}

func (m *mostFlag) String() string { return m.text }
func (m *mostFlag) Type() string   { return "number or %" }

func (m *mostFlag) Set(text string) error {
	share, percent := strings.CutSuffix(text, "%")
	if percent {
		x, err := strconv.ParseFloat(strings.TrimSpace(share), 64)
		if err != nil || !(x > 0 && x <= 100) {
			return errors.New("it is a share of the callers above 0 % and up to 100 %")
		}
		*m = mostFlag{text: text, of: x / 100}
		return nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return errors.New("it is a number of identities, such as 3, or a share of those that call, such as 2%")
	}
	*m = mostFlag{text: text, n: n}
	return nil
}

// among returns how many of so many callers may break; nil where nothing was said.
func (m *mostFlag) among() func(callers int) int {
	if m.text == "" {
		return nil
	}
	return func(callers int) int {
		if m.of > 0 {
			return int(m.of*float64(callers) + 1e-9)
		}
		return m.n
	}
}

func (b *backtestFlags) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.BoolVar(&b.on, "backtest", false, "try drafts for everybody on this estate's own past, and change nothing")
	f.Var(&b.ago, "ago", "with --backtest: as of how long ago is drafted")
	f.Var(&b.most, "at-most", "with --backtest: pick a caution that broke at most so many identities, 3 or 2%, "+
		"on the days before those it is told of")
	f.StringVar(&b.plot, "plot", "", "with --backtest: draw the curve into a file, .svg or .png")
	f.BoolVar(&b.when, "conditions", false, "with --backtest: also what drafts with --conditions would have broken")
	f.BoolVar(&b.force, "force", false, "with --plot: write over a file that is there")
}

// check reports what does not go together.
func (b *backtestFlags) check(cmd *cobra.Command, args []string) error {
	for _, name := range []string{"all", "accept-unplaced"} {
		if b.on && cmd.Flags().Changed(name) {
			return fmt.Errorf("--%s is about one fence, and --backtest about drafts for everybody", name)
		}
	}
	switch {
	case b.on && len(args) > 0:
		return errors.New("--backtest drafts for everybody: say no fence with it")
	case !b.on && (b.plot != "" || b.force || b.most.text != "" || b.when || cmd.Flags().Changed("ago")):
		return errors.New("--ago, --at-most, --conditions, --plot and --force go with --backtest")
	case !b.on && len(args) == 0 && !cmd.Flags().Changed("all"):
		return errors.New("say which fence: clipfence rehearse FENCE, --all for every draft, or --backtest")
	}
	if b.plot != "" {
		if _, err := plotFormat(b.plot); err != nil {
			return err
		}
		if _, err := os.Stat(b.plot); err == nil && !b.force {
			return fmt.Errorf("%s is there already; to write over it: --force", b.plot)
		}
	}
	return nil
}

func plotFormat(file string) (string, error) {
	format := strings.ToLower(strings.TrimPrefix(filepath.Ext(file), "."))
	if !slices.Contains(report.Formats, format) {
		return "", fmt.Errorf("--plot %s: the name ends in none of .%s", file, strings.Join(report.Formats, ", ."))
	}
	return format, nil
}

type backtestValue struct {
	Source      string        `json:"source"`
	Then        time.Time     `json:"drafted_as_of"`
	Days        int           `json:"days_since"`
	Survey      int64         `json:"survey" doc:"the one that shows the estate of then; 0: none was kept, so it is today's without younger grants"`
	Callers     int           `json:"callers" doc:"identities that called before then"`
	Calls       int64         `json:"calls_since"`
	Held        int           `json:"danger_held" doc:"by the callers, then"`
	Least       int           `json:"danger_with_hindsight" doc:"of what was called since, and nothing else"`
	Picked      *pickedValue  `json:"picked,omitempty" doc:"with --at-most: the caution that was picked on earlier days, and what it did on these"`
	Ways        []wayValue    `json:"ways"`
	All         []chanceValue `json:"chances_of_all" doc:"what was said of all places where something may be needed"`
	Dropped     []chanceValue `json:"chances_of_dropped" doc:"and of those that drafts of normal caution take away"`
	Reliability string        `json:"reliability" doc:"the second in words"`
}

type pickedValue struct {
	Caution string    `json:"caution"`
	Then    time.Time `json:"drafted_as_of" doc:"as many days before those that it is told of"`
	Survey  int64     `json:"survey" doc:"the one that shows the estate of then; 0: none was kept"`
	Most    int       `json:"at_most" doc:"identities that might break"`
	Met     bool      `json:"met" doc:"false: each caution broke more then, and this one fewest"`
	Callers int       `json:"callers" doc:"identities that called before then"`
	Before  wayValue  `json:"before" doc:"on the days that it was picked on"`
	Now     wayValue  `json:"since" doc:"on these"`
}

type wayValue struct {
	Way      string  `json:"way"`
	Drafts   int     `json:"drafts"`
	Early    int     `json:"broken_in_30_days" doc:"identities with a refused call"`
	Broken   int     `json:"broken" doc:"identities with a refused call, until now"`
	Expected float64 `json:"expected" doc:"how many the drafts themselves expect to break; 0 for rules"`
	Hasty    float64 `json:"expected_in_30_days" doc:"and how many of them within 30 days"`
	Places   int     `json:"refused" doc:"combinations of identity, permission and node"`
	Calls    int64   `json:"calls"`
	Asks     float64 `json:"asks_a_month,omitempty" doc:"where gates are offered: one of one person a day"`
	Removed  float64 `json:"danger_removed" doc:"share of the danger beyond hindsight"`
	Median   int     `json:"places_in_a_draft" doc:"the median"`
	Most     int     `json:"places_in_the_longest_draft"`
}

type chanceValue struct {
	From     float64 `json:"from"`
	To       float64 `json:"to"`
	Places   int     `json:"places"`
	Expected float64 `json:"expected"`
	Needed   int     `json:"needed"`
}

func (a *app) backtest(cmd *cobra.Command, b *backtestFlags) error {
	return a.with(cmd.Context(), func(w *work.Workspace) error {
		r, err := w.Backtest(cmd.Context(), work.BacktestRequest{Ago: b.ago.Duration, Most: b.most.among(),
			Conditions: b.when})
		if err != nil {
			return err
		}
		d := backtested(r)
		if b.plot != "" {
			format, err := plotFormat(b.plot)
			if err != nil {
				return err
			}
			var out bytes.Buffer
			if err := curveOf(r).Write(&out, format); err != nil {
				return fmt.Errorf("--plot %s: %w", b.plot, err)
			}
			if err := os.WriteFile(b.plot, out.Bytes(), 0o644); err != nil {
				return fmt.Errorf("--plot: %w", err)
			}
			d.Notes = append(d.Notes, "The curve is drawn in "+b.plot+".")
		}
		return a.print(d)
	})
}

// curveOf draws what was tried: identities broken against danger removed.
func curveOf(r *work.Backtested) *report.Curve {
	c := &report.Curve{Title: fmt.Sprintf("Drafts as of %s, and the %d days since",
		r.Then.UTC().Format(time.DateOnly), r.Days),
		X: fmt.Sprintf("identities with a refused call, of %d", r.Callers), Y: "danger removed, % of what can go"}
	for _, row := range r.Rows {
		p := report.Point{Name: row.Name, X: float64(row.Broken), Y: 100 * row.Removed}
		switch {
		case row.Curved():
			p.Name = row.Caution.String()
			c.Line = append(c.Line, p)
			continue
		case row.Gates:
			p.Name = row.Caution.String() + ", with gates"
		case row.When:
			p.Name = row.Caution.String() + ", with conditions"
		}
		c.Beside = append(c.Beside, p)
	}
	c.Beside = append(c.Beside, report.Point{Name: "hindsight", X: 0, Y: 100})
	return c
}

func backtested(r *work.Backtested) *render.Doc {
	v := backtestValue{Source: r.Source, Then: r.Then, Days: r.Days, Survey: r.Survey, Callers: r.Callers,
		Calls: r.Since, Held: int(r.Held + .5), Least: int(r.Least + .5)}
	t := render.Table{Columns: []render.Column{{Name: "WAY", Wrap: true}, {Name: "BROKEN", Right: true},
		{Name: "IN 30 DAYS", Right: true}, {Name: "EXPECTED", Right: true}, {Name: "REFUSED", Right: true},
		{Name: "REMOVED", Right: true}, {Name: "PLACES", Right: true}}}
	d := &render.Doc{}
	drafts := 0
	for _, row := range r.Rows {
		v.Ways = append(v.Ways, wayOf(&row, r.Days))
		drafts += row.Drafts
		expected, places := "", ""
		if row.Caution > 0 && !row.When { // a condition has no chance yet that it does not hold
			expected = fmt.Sprintf("%.1f", row.Expected)
		}
		if row.Caution > 0 {
			places = fmt.Sprintf("%d, up to %d", row.Median, row.Pieces)
		}
		name := row.Name
		if row.Gates {
			name += fmt.Sprintf(": %s asks a month", strconv.FormatFloat(monthly(row.Asks, r.Days), 'f', -1, 64))
		}
		t.Row(render.C(name), render.C(fmt.Sprint(row.Broken)), render.C(fmt.Sprint(row.Early)),
			render.C(expected), render.C(fmt.Sprint(row.Places)),
			render.C(fmt.Sprintf("%.1f %%", 100*row.Removed)), render.C(places))
		if row.Caution == work.Cautions["normal"] && row.Curved() {
			d.Head = fmt.Sprintf("Drafted as of %s, normal caution would have broken %d of %d in %d days, and "+
				"removed %.0f %% of the danger that can go", r.Then.UTC().Format(time.DateOnly), row.Broken,
				r.Callers, r.Days,
				100*row.Removed)
		}
	}
	next := "clipfence draft --top 5 --caution normal"
	if p := r.Picked; p != nil {
		v.Picked = &pickedValue{p.Before.Caution.String(), p.Then, p.Survey, p.Most, p.Met, p.Callers,
			wayOf(&p.Before, r.Days), wayOf(&p.Now, r.Days)}
		d.Head = pickedHead(r)
		next = "clipfence draft --top 5 --caution " + p.Before.Caution.String()
	}
	if drafts == 0 {
		d.Head = fmt.Sprintf("Drafted as of %s, nobody's access could be narrowed: what is granted was too new or "+
			"not in any log then, so nothing can be learned from it; try a shorter --ago",
			r.Then.UTC().Format(time.DateOnly))
	}
	chances := func(bins []work.Bin) []chanceValue {
		out := []chanceValue{}
		for _, b := range bins {
			out = append(out, chanceValue{b.From, b.To, b.Parts, round(b.Expected, 10), b.Needed})
		}
		return out
	}
	v.All, v.Dropped = chances(r.All), chances(r.Dropped)
	n, expected, needed := 0, 0.0, 0
	rel := render.Table{
		Title: "Whether the chances said were true: of all places, and of those that normal drafts drop",
		Columns: []render.Column{{Name: "SAID"}, {Name: "PLACES", Right: true}, {Name: "EXPECTED", Right: true},
			{Name: "NEEDED", Right: true}, {Name: "DROPPED", Right: true}, {Name: "EXPECTED", Right: true},
			{Name: "NEEDED", Right: true}}}
	for i, b := range r.All {
		o := r.Dropped[i]
		n, expected, needed = n+o.Parts, expected+o.Expected, needed+o.Needed
		if b.Parts+o.Parts == 0 {
			continue
		}
		rel.Row(render.C(fmt.Sprintf("%g to %g %%", math.Round(100*b.From), math.Round(100*b.To))),
			render.C(render.Count(b.Parts)), render.C(fmt.Sprintf("%.1f", b.Expected)),
			render.C(render.Count(b.Needed)), render.C(render.Count(o.Parts)),
			render.C(fmt.Sprintf("%.1f", o.Expected)), render.C(render.Count(o.Needed)))
	}
	v.Reliability = fmt.Sprintf("Of %s that normal drafts drop, %.1f were expected to be needed, and %d were",
		render.Plural(n, "place"), expected, needed)
	d.Lines = []string{v.Reliability + ".",
		fmt.Sprintf("%s made since then; danger held then %s, of which %s was needed since.",
			render.Plural(int(r.Since), "call"), render.Count(v.Held), render.Count(v.Least))}
	d.Tables = []render.Table{t, rel}
	if r.Survey == 0 {
		d.Notes = append(d.Notes, "No survey of then is kept: tried on today's estate without younger grants, from "+
			"which whoever left or moved since is missing. What is said is less sure by that.")
	}
	d.Notes = append(d.Notes, "BROKEN counts identities with a refused call until now, EXPECTED what the drafts "+
		"expected of themselves, REFUSED their permissions and nodes, REMOVED the danger that is gone of what "+
		"hindsight shows could go, PLACES how many a draft lists (median, most). Rules are applied grant by grant "+
		"and keep what no log shows. What no log shows cannot be seen to break, here neither. "+
		"With gates people ask for power that they use rarely, in place of having it: an ask is one of "+
		"one person a day.")
	if slices.ContainsFunc(r.Rows, func(row work.BacktestRow) bool { return row.When }) {
		d.Notes = append(d.Notes, "With conditions a draft asks besides for what every call of a line met. At which "+
			"hours calls were is known of all days together only: of hours only what is done on new places is seen "+
			"to break, of networks and second factors everything.")
	}
	d.Next = []string{next}
	d.Value, d.Rows = v, v.Ways
	return d
}

// pickedHead says which caution was picked, on what, and what it did since.
func pickedHead(r *work.Backtested) string {
	p := r.Picked
	said := fmt.Sprintf("Caution %s broke %d of %d in the %d days to %s, where at most %d may break",
		p.Before.Caution, p.Before.Broken, p.Callers, r.Days, r.Then.UTC().Format(time.DateOnly), p.Most)
	if !p.Met {
		said = fmt.Sprintf("No caution broke at most %d in the %d days to %s; %s broke fewest, %d of %d", p.Most,
			r.Days, r.Then.UTC().Format(time.DateOnly), p.Before.Caution, p.Before.Broken, p.Callers)
	}
	return fmt.Sprintf("%s. In the %d days since it would have broken %d of %d, and removed %.0f %% of the danger "+
		"that can go", said, r.Days, p.Now.Broken, r.Callers, 100*p.Now.Removed)
}

func wayOf(row *work.BacktestRow, days int) wayValue {
	return wayValue{row.Name, row.Drafts, row.Early, row.Broken, round(row.Expected, 10), round(row.Hasty, 10),
		row.Places, row.Calls, monthly(row.Asks, days), round(row.Removed, 1000), row.Median, row.Pieces}
}

// monthly is how often something is in 30 days.
func monthly(n, days int) float64 { return round(30*float64(n)/float64(max(1, days)), 10) }

func round(x, by float64) float64 { return math.Round(x*by) / by }
