package cli

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"regexp"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

type painter = func(string, render.Tone) string

// screen draws the draft at hand in so many columns and, as far as that goes, rows.
func (r *reviewer) screen(width, height int, paint painter) string {
	body, keys := r.parts(width, height, paint)
	return strings.Join(append(append(body, ""), keys...), "\n")
}

// parts are the lines of a screen, and those of what can be typed below them.
func (r *reviewer) parts(width, height int, paint painter) (body, keys []string) {
	d := r.all[r.at]
	keys = r.keys(width)
	body = r.head(width, paint)
	told := 0
	if r.told != "" {
		told = 2
	}
	room := max(9, height-len(body)-len(keys)-told-1)
	var bands [][]string
	switch {
	case d.Bad != nil:
		bands = [][]string{{paint("CANNOT BE LOOKED AT", render.Bad)}}
		for _, s := range flowed(render.Clean(d.Bad.Error()), width-2) {
			bands[0] = append(bands[0], "  "+s)
		}
	case d.Handed:
		bands = [][]string{{paint("HANDED OVER", render.Strong) + " as " + d.Applied + ", not seen yet"}}
	case d.Applied != "":
		bands = [][]string{{paint("CARRIED OUT", render.Good) + " by " + d.Applied}}
	default:
		bands = [][]string{r.goes(width, paint), r.stays(width, paint), r.unsure(width, paint)}
	}
	if !r.more {
		fit(bands, room, paint)
	}
	for _, band := range bands {
		body = append(append(body, ""), band...)
	}
	if r.told != "" {
		body = append(body, "", paint(render.Cut(render.Clean(strings.ReplaceAll(r.told, "\n", " ")), width),
			render.Strong))
	}
	return body, keys
}

// fit shortens the longest bands until all have room, and says how much is left out. The first lines
// of a band stay.
func fit(bands [][]string, room int, paint painter) {
	const least = 2
	room -= len(bands) // a blank line before each
	keep := make([]int, len(bands))
	for i, b := range bands {
		keep[i] = len(b)
	}
	shown := func() (n int) {
		for i, b := range bands {
			if n += keep[i]; keep[i] < len(b) {
				n++ // the line that says so
			}
		}
		return n
	}
	for shown() > room {
		longest := 0
		for i := range keep {
			if keep[i] > keep[longest] {
				longest = i
			}
		}
		if keep[longest] <= least {
			break
		}
		keep[longest]--
	}
	for i, b := range bands {
		if left := len(b) - keep[i]; left > 0 {
			bands[i] = append(b[:keep[i]:keep[i]], paint(fmt.Sprintf("  ... %s more (?)", render.Plural(left, "line")),
				render.Dim))
		}
	}
}

// head says which draft it is, and how far the walk has come.
func (r *reviewer) head(width int, paint painter) []string {
	d := r.all[r.at]
	total, sure, n := 0.0, 0.0, 0
	for _, x := range r.all {
		if x.Bad != nil || x.Applied != "" {
			continue
		}
		total += max(0, x.Removes)
		if x.Decision != nil {
			sure += max(0, x.Removes)
			n++
		}
	}
	share := 0.0
	if total > 0 {
		share = sure / total
	}
	const cells = 24
	done := int(share*cells + .5)
	bar := strings.Repeat("━", done) + paint(strings.Repeat("─", cells-done), render.Dim)
	out := []string{fmt.Sprintf("Draft %d of %d  %s  %d decided: %s of %s danger", r.at+1, len(r.all), bar, n,
		render.Count(int(sure+.5)), render.Count(int(total+.5)))}
	if d.Bad != nil {
		return append(out, paint(render.Cut(d.Name, width), render.Strong))
	}
	title := d.For.String()
	if i, ok := d.Source.Identity(d.For.In(d.Source.Name)); ok && i.Title != "" {
		title += "  " + i.Title
	}
	out = append(out, paint(render.Cut(render.Clean(title), width), render.Strong))
	if d.Applied != "" {
		return out
	}
	held := fmt.Sprintf("danger held %s", arrow(int(d.Rehearsal.Before+.5), int(d.Rehearsal.After+.5)))
	if d.Rehearsal.ReachBefore.Further(d.Rehearsal.Before) || d.Rehearsal.ReachAfter.Further(d.Rehearsal.After) {
		held += ", within reach " + arrow(int(d.Rehearsal.ReachBefore.Danger+.5),
			int(d.Rehearsal.ReachAfter.Danger+.5))
	}
	holds, tone := "its rehearsal holds", render.Good
	if d.Rehearsal.Going > 0 {
		holds, tone = holds+", and it gives up what is used"+goingOn(d.Rehearsal.Going), render.Warn
	}
	if !d.Holds {
		unnamed := 0
		for _, b := range d.Rehearsal.Broken {
			if !b.GivenUp {
				unnamed++
			}
		}
		holds, tone = "DOES NOT HOLD: "+strings.Join(why(d.Rehearsal, unnamed), ", "), render.Bad
	}
	out = append(out, held+"; "+paint(holds, tone))
	if d.Widens {
		out = append(out, paint("GIVES MORE: ", render.Warn)+render.Clean(d.Fence.Widens)+": "+
			gainWords(gainRows(d.Rehearsal)))
	}
	if text := askedWords(d.Fence, d.Rehearsal, d.Risk); text != "" {
		out = append(out, render.Clean(upper(text)))
	}
	if text := unseenWords(d.Fence); text != "" {
		out = append(out, paint("DECIDE: ", render.Warn)+render.Clean(text))
	}
	if d.Decision != nil {
		out = append(out, "Decided: "+render.Clean(decisionWords(d.Decision)))
	}
	if s := shadowOf(d); s != nil {
		out = append(out, "Watched: it "+s.words())
	}
	return out
}

// goes is the band of what goes.
func (r *reviewer) goes(width int, paint painter) []string {
	d := r.all[r.at]
	out := []string{fmt.Sprintf("%s  %s", paint("GOES", render.Bad), goesWords(d))}
	by := map[model.Level][]string{}
	for _, c := range d.Goes() {
		by[c.Weighs()] = append(by[c.Weighs()], c.Permission.String())
	}
	for l := model.HandOut; l >= model.See; l-- {
		list := by[l]
		if len(list) == 0 {
			continue
		}
		lead := fmt.Sprintf("  %-11s", l)
		text, shown := "", 0
		for _, p := range list {
			rest := len(list) - shown - 1
			if !r.more && len(lead)+len(text)+len(p)+len(fmt.Sprintf(", , and %d more", rest)) > width {
				break
			}
			if shown++; text != "" {
				text += ", "
			}
			text += p
		}
		if left := len(list) - shown; left > 0 {
			if text != "" {
				text += ", and "
			}
			text += fmt.Sprintf("%d more", left)
		}
		if r.more {
			for i, s := range flowed(text, width-len(lead)) {
				if i > 0 {
					lead = strings.Repeat(" ", len(lead))
				}
				out = append(out, lead+s)
			}
			continue
		}
		out = append(out, lead+text)
	}
	for i, b := range d.Rehearsal.Broken {
		if i == 3 && !r.more {
			out = append(out, fmt.Sprintf("  and %d more that were used", len(d.Rehearsal.Broken)-i))
			break
		}
		tone, what := render.Dim, "was used, given up"
		if !b.GivenUp {
			tone, what = render.Bad, "WAS USED, and not named as given up"
		}
		out = append(out, render.Cut(fmt.Sprintf("  %s: %s %s on %s, %s", paint(what, tone), b.Use.Principal(),
			b.Use.Permission, b.Use.Path, render.Plural(int(b.Use.Count), "call")), width+20))
	}
	return out
}

func goesWords(d *work.Reviewed) string {
	s := render.Plural(len(d.Goes()), "permission")
	if n := len(d.Fence.Replaces); n > 0 {
		s += ", " + render.Plural(n, "grant") + " replaced"
	}
	if n := len(d.Fence.Leaves); n > 0 {
		s += ", " + render.Plural(n, "group") + " left"
	}
	if n := len(d.Fence.Denies); n > 0 {
		s += ", " + render.Plural(n, "denial") + " against everybody else"
	}
	return s
}

// stays is the band of what stays, with the days on which it was used.
func (r *reviewer) stays(width int, paint painter) []string {
	d := r.all[r.at]
	out := []string{fmt.Sprintf("%s %s", paint("STAYS", render.Good), render.Plural(len(d.Fence.Allow), "line"))}
	if len(d.Fence.Allow) == 0 {
		out[0] = paint("STAYS", render.Good) + " nothing of it"
	}
	for i, a := range d.Fence.Allow {
		what := a.Role
		if what == "" {
			what = first(a.Do, 3)
		} else {
			what = "role " + what
		}
		where := ends(first(a.Where, 1))
		if r.more {
			if a.Role == "" {
				what = first(a.Do, len(a.Do))
			}
			where = places(a.Where)
		}
		text := fmt.Sprintf("%s on %s", what, where)
		if !a.To.IsZero() {
			text += ", for " + a.To.String() + " alone"
		}
		if c := a.When.WithUntil(a.Until); !c.IsZero() {
			text += ", when " + c.String()
		}
		use, strip := "not used in the window", ""
		if i < len(d.Lines) {
			if u := d.Lines[i]; u.Calls > 0 {
				use = fmt.Sprintf("%s on %s", render.Plural(int(u.Calls), "call"), render.Plural(u.Days, "day"))
			}
			strip = render.Strip(d.Lines[i].Strip)
		}
		if r.more {
			for _, s := range flowed(render.Clean(text), width-2) {
				out = append(out, "  "+s)
			}
		} else {
			out = append(out, "  "+render.Cut(render.Clean(text), width-2))
		}
		out = append(out, "    "+strip+"  "+paint(use, render.Dim))
	}
	return out
}

// unsure is the band of what is a guess, with its evidence.
func (r *reviewer) unsure(width int, paint painter) []string {
	d := r.all[r.at]
	risk := valueOf(d.Risk)
	var out []string
	for i, s := range flowed(risk.words(), width-7) {
		lead := "       "
		if i == 0 {
			lead = paint("UNSURE", render.Warn) + " "
		}
		out = append(out, lead+s)
	}
	add := func(s string) {
		if r.more || strings.HasPrefix(s, "Then ") { // what it can still get to is not cut short
			for _, x := range flowed(render.Clean(s), width-2) {
				out = append(out, "  "+x)
			}
			return
		}
		out = append(out, "  "+render.Cut(render.Clean(s), width-2))
	}
	if x := d.Rehearsal.ReachAfter; x.Nodes > 0 || x.Further(d.Rehearsal.After) {
		add("Then " + lowerFirst(reachWords(d.For.In(d.Source.Name), x, d.Rehearsal.After, d.Source)))
	}
	for _, s := range risk.lines(map[bool]int{false: 3, true: len(risk.Worst)}[r.more]) {
		s = strings.Replace(strings.TrimSpace(s), d.For.In(d.Source.Name).String()+" ", "", 1)
		if !r.more {
			s = ends(s)
		}
		add(s)
	}
	for _, u := range d.Rehearsal.Unplaced {
		add(fmt.Sprintf("%s of %s cannot be placed and may be of what goes", render.Plural(int(u.Use.Count), "call"),
			u.Use.Principal()))
		if !r.more {
			break
		}
	}
	kept := 0
	for _, a := range d.Fence.Allow {
		switch a.Evidence.Class {
		case "likely", "past", "unobservable", "undecidable":
			kept++
		}
	}
	if kept > 0 {
		add(fmt.Sprintf("%s stay by a guess, or because no log would show a use", render.Plural(kept, "line")))
	}
	return out
}

// longPath is a path of more than three segments, in a text.
var longPath = regexp.MustCompile(`/[^ ,/]+(?:/[^ ,/]+)*((?:/[^ ,/]+){2})`)

// ends leaves of each long path in a text its last two segments, which tell it from others.
func ends(s string) string { return longPath.ReplaceAllString(s, "…$1") }

// keys are the letters that can be typed.
func (r *reviewer) keys(width int) []string {
	var parts []string
	for _, x := range decisions {
		if x.letter != "u" || r.all[r.at].Decision != nil {
			parts = append(parts, x.letter+" "+x.word)
		}
	}
	parts = append(parts, "e edit", "? "+map[bool]string{false: "why, and all of it", true: "less"}[r.more],
		"k pass over",
		"b back", "q leave")
	var out []string
	line := ""
	for _, p := range parts {
		if line != "" && len(line)+3+len(p) > width {
			out = append(out, line)
			line = ""
		}
		if line != "" {
			line += "   "
		}
		line += p
	}
	return append(out, line)
}

// flowed breaks text at blanks, so that no line has more columns, but for a single long word.
func flowed(s string, width int) []string {
	var out []string
	line := ""
	for _, w := range strings.Fields(s) {
		if line != "" && len([]rune(line))+1+len([]rune(w)) > width {
			out = append(out, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return append(out, line)
}

// screens is the walk on a terminal.
type screens struct {
	*reviewer
	ctx           context.Context
	width, height int
	paint         painter
	from          int    // the line that is shown first, where all of it is more than a screen
	asks          string // the letter that wants more, such as a reason
	typed         string
	err           error
}

// reviewScreens walks through the drafts on a terminal, one a screen.
func (a *app) reviewScreens(ctx context.Context, r *reviewer) error {
	if err := r.place(); err != nil {
		return err
	}
	m := &screens{reviewer: r, ctx: ctx, width: 100, height: 40, paint: render.Painter(a.colourOn(a.out))}
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(a.in), tea.WithOutput(bare(a.out)),
		tea.WithoutSignalHandler())
	_, err := p.Run()
	if m.err != nil {
		return m.err
	}
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

func (m *screens) Init() tea.Cmd { return nil }

type edited struct{ err error }

func (m *screens) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(40, msg.Width), max(16, msg.Height)
	case edited:
		if msg.err != nil {
			m.told = "Not edited: " + msg.err.Error()
		} else if m.err = m.again(m.ctx); m.err != nil {
			return m, tea.Quit
		}
	case tea.PasteMsg:
		if m.asks != "" {
			m.typed += strings.Join(strings.Fields(msg.Content), " ")
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

// key takes one key: a letter, or what is typed behind one that wants more.
func (m *screens) key(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	if name == "ctrl+c" {
		m.ended = true
		return tea.Quit
	}
	if m.asks == "" {
		page := max(1, m.height-6)
		switch {
		case m.more && (name == "down" || name == "j"):
			m.from++
			return nil
		case m.more && name == "up":
			m.from = max(0, m.from-1)
			return nil
		case m.more && (name == "space" || name == "pgdown"):
			m.from += page
			return nil
		case m.more && name == "pgup":
			m.from = max(0, m.from-page)
			return nil
		case name == "space" || name == "right" || name == "down":
			name = "k"
		case name == "left" || name == "up":
			name = "b"
		}
		m.from = 0
		for _, x := range decisions {
			if x.letter == name && x.wants != "" {
				m.asks, m.typed, m.told = name, "", ""
				return nil
			}
		}
		return m.take(name)
	}
	switch name {
	case "esc":
		m.asks, m.told = "", "Nothing is decided"
	case "enter":
		line := m.asks + " " + m.typed
		m.asks = ""
		return m.take(line)
	case "backspace":
		if r := []rune(m.typed); len(r) > 0 {
			m.typed = string(r[:len(r)-1])
		}
	default:
		m.typed += k.Text
	}
	return nil
}

func (m *screens) take(line string) tea.Cmd {
	err := m.say(m.ctx, line)
	if errors.Is(err, errEdit) {
		var c *exec.Cmd
		if c, err = editor(m.w.Path(m.all[m.at].Name)); err != nil {
			m.told = "Not edited: " + err.Error()
			return nil
		}
		return tea.ExecProcess(c, func(err error) tea.Msg { return edited{err} })
	}
	if m.err = err; err != nil || m.ended {
		return tea.Quit
	}
	return nil
}

func (m *screens) View() tea.View {
	height := m.height
	var ask []string
	if m.asks != "" {
		for _, x := range decisions {
			if x.letter == m.asks {
				ask = []string{"", m.paint(x.word+": ", render.Strong) + x.wants + " (esc: do not)", "> " +
					render.Clean(m.typed)}
			}
		}
		height -= len(ask)
	}
	body, keys := m.parts(m.width, height, m.paint)
	if m.more { // it may be more than a screen
		room := max(1, height-len(keys)-2)
		m.from = max(0, min(m.from, len(body)-room))
		if to := m.from + room; len(body) > room {
			below := max(0, len(body)-to)
			body = body[m.from:min(to, len(body))]
			keys = append([]string{m.paint(fmt.Sprintf("up, down, space: %d lines above, %d below", m.from, below),
				render.Dim)}, keys...)
		}
	}
	lines := append(append(slices.Clone(body), ""), keys...)
	v := tea.NewView(strings.Join(append(lines, ask...), "\n"))
	v.AltScreen = true
	if ask != nil {
		v.Cursor = tea.NewCursor(2+len([]rune(render.Clean(m.typed))), len(lines)+len(ask)-1)
	}
	return v
}
