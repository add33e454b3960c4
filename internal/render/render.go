package render

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"

	"charm.land/lipgloss/v2"
	yaml "go.yaml.in/yaml/v3"
)

// Formats are what a Doc can be written as.
var Formats = []string{"table", "json", "yaml", "csv", "markdown"}

// A Tone colours a cell; nothing is said by it alone.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Strong
	Dim
	Bad
	Warn
	Good
)

// A Cell is one field of a table.
type Cell struct {
	Text string
	Tone Tone
}

// C makes a plain cell.
func C(s string) Cell { return Cell{Text: s} }

// A Column is one column of a table.
type Column struct {
	Name  string
	Right bool // aligned to the right, for numbers
	Path  bool // may be cut in its middle when the screen is narrow
	Wrap  bool // takes the space that is left, and goes on in the next line
}

// A Table is rows under columns.
type Table struct {
	Title   string
	Columns []Column
	Rows    [][]Cell
}

// Row adds a row.
func (t *Table) Row(cells ...Cell) { t.Rows = append(t.Rows, cells) }

// A Doc is one answer.
type Doc struct {
	Head   string   // the answer, in a line
	Lines  []string // more of it, as text
	Tables []Table
	Notes  []string // what was left out, and how to see it
	Next   []string // commands that go on from here
	Value  any      // the same answer for JSON and YAML
	Rows   any      // a slice of structs for CSV; nil: Value, where it is one
}

// Map returns the doc with every text of it, but for what is in its values, as f makes it.
func (d *Doc) Map(f func(string) string) *Doc {
	out := *d
	all := func(list []string) []string {
		out := make([]string, len(list))
		for i, s := range list {
			out[i] = f(s)
		}
		return out
	}
	out.Head, out.Lines, out.Notes, out.Next = f(d.Head), all(d.Lines), all(d.Notes), all(d.Next)
	out.Tables = slices.Clone(d.Tables)
	for i := range out.Tables {
		t := &out.Tables[i]
		t.Title = f(t.Title)
		rows := make([][]Cell, len(t.Rows))
		for j, row := range t.Rows {
			rows[j] = slices.Clone(row)
			for k := range rows[j] {
				rows[j][k].Text = f(rows[j][k].Text)
			}
		}
		t.Rows = rows
	}
	return &out
}

// Style says how to write a Doc.
type Style struct {
	Format string
	Width  int // of the terminal, in cells; 0: without limit
	Colour bool
}

// Write writes the doc.
func (d *Doc) Write(w io.Writer, s Style) error {
	switch s.Format {
	case "json":
		var b bytes.Buffer
		enc := json.NewEncoder(&b)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		if err := enc.Encode(d.Value); err != nil {
			return err
		}
		_, err := io.WriteString(w, escapeHidden(b.String(), jsonEscape))
		return err
	case "yaml":
		return writeYAML(w, d.Value)
	case "csv":
		return d.csv(w)
	case "markdown":
		return d.markdown(w)
	}
	return d.text(w, s)
}

// YAML returns a value as YAML, by the names of its JSON.
func YAML(v any) ([]byte, error) {
	var b bytes.Buffer
	err := writeYAML(&b, v)
	return b.Bytes(), err
}

// writeYAML goes through JSON, so that both say the same under the same names.
func writeYAML(w io.Writer, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	var n yaml.Node
	if err := yaml.Unmarshal([]byte(escapeHidden(string(b), yamlEscape)), &n); err != nil {
		return err
	}
	block(&n)
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := errors.Join(enc.Encode(&n), enc.Close()); err != nil {
		return err
	}
	_, err = io.WriteString(w, escapeHidden(out.String(), yamlEscape))
	return err
}

// escapeHidden writes the C1 controls and the marks that turn the direction of text as
// escapes; they can stand nowhere but in quotes.
func escapeHidden(s string, escape func(rune) string) string {
	if strings.IndexFunc(s, hidden) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if !hidden(r) {
			b.WriteRune(r)
			continue
		}
		b.WriteString(escape(r))
	}
	return b.String()
}

// jsonEscape is RFC 8259, section 7; yamlEscape YAML 1.2, 5.7, in double quotes.
func jsonEscape(r rune) string {
	out := ""
	for _, u := range utf16.Encode([]rune{r}) {
		out += fmt.Sprintf(`\u%04x`, u)
	}
	return out
}

func yamlEscape(r rune) string {
	if r > 0xffff {
		return fmt.Sprintf(`\U%08x`, r)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

func hidden(r rune) bool {
	return r >= 0x7f && unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029'
}

// block takes JSON's flow style and quotes off a tree; the encoder quotes again
// where it must.
func block(n *yaml.Node) {
	if n.Kind != yaml.ScalarNode {
		n.Style = 0
	} else if n.Tag == "!!str" {
		n.Style = 0
		if strings.IndexFunc(n.Value, hidden) >= 0 {
			n.Style = yaml.DoubleQuotedStyle
		}
	}
	for _, c := range n.Content {
		block(c)
	}
}

var markdownSpecial = strings.NewReplacer(`\`, `\\`, "|", `\|`, "`", "\\`", "*", `\*`, "_", `\_`, "<", "&lt;", "[",
	`\[`, "#", `\#`)

func (d *Doc) markdown(w io.Writer) error {
	var b strings.Builder
	md := func(s string) string { return markdownSpecial.Replace(Clean(s)) }
	if d.Head != "" {
		fmt.Fprintf(&b, "**%s**\n\n", md(d.Head))
	}
	for _, l := range d.Lines {
		fmt.Fprintf(&b, "%s\n\n", md(strings.TrimSpace(l)))
	}
	for _, t := range d.Tables {
		if t.Title != "" {
			fmt.Fprintf(&b, "### %s\n\n", md(t.Title))
		}
		for _, c := range t.Columns {
			b.WriteString("| " + md(strings.ToLower(c.Name)) + " ")
		}
		b.WriteString("|\n")
		for _, c := range t.Columns {
			if c.Right {
				b.WriteString("|---:")
			} else {
				b.WriteString("|---")
			}
		}
		b.WriteString("|\n")
		for _, row := range t.Rows {
			for _, c := range row {
				b.WriteString("| " + md(c.Text) + " ")
			}
			b.WriteString("|\n")
		}
		b.WriteString("\n")
	}
	for _, n := range append(slices.Clone(d.Notes), d.Next...) {
		fmt.Fprintf(&b, "- %s\n", md(n))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// Painter returns a function that colours text, or leaves it as it is.
func Painter(colour bool) func(string, Tone) string {
	if !colour {
		return func(s string, _ Tone) string { return s }
	}
	styles := []lipgloss.Style{lipgloss.NewStyle(), lipgloss.NewStyle().Bold(true), lipgloss.NewStyle().Faint(true),
		lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true),
		lipgloss.NewStyle().Foreground(lipgloss.Color("3")), lipgloss.NewStyle().Foreground(lipgloss.Color("2"))}
	return func(s string, t Tone) string {
		if s == "" || t == Plain {
			return s
		}
		return styles[t].Render(s)
	}
}

func (d *Doc) text(w io.Writer, s Style) error {
	var b strings.Builder
	paint := Painter(s.Colour)
	if d.Head != "" {
		for _, l := range flow(Clean(d.Head), s.Width) {
			b.WriteString(paint(l, Strong) + "\n")
		}
	}
	for _, l := range d.Lines {
		b.WriteString(strings.Join(flow(Clean(l), s.Width), "\n") + "\n")
	}
	for i := range d.Tables {
		if b.Len() > 0 {
			b.WriteString("\n")
		}
		d.Tables[i].text(&b, s, paint)
	}
	if len(d.Notes)+len(d.Next) > 0 && b.Len() > 0 {
		b.WriteString("\n")
	}
	for _, n := range d.Notes {
		for _, l := range flow(Clean(n), s.Width) {
			b.WriteString(paint(l, Dim) + "\n")
		}
	}
	for i, n := range d.Next {
		lead := "Next: "
		if i > 0 {
			lead = "      "
		}
		b.WriteString(lead + paint(Clean(n), Strong) + "\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

const gap = 2 // blanks between columns

func (t *Table) text(b *strings.Builder, s Style, paint func(string, Tone) string) {
	if t.Title != "" {
		b.WriteString(paint(Clean(t.Title), Strong) + "\n")
	}
	n := len(t.Columns)
	width := make([]int, n)
	cells := make([][]string, len(t.Rows))
	for i, c := range t.Columns {
		width[i] = lipgloss.Width(c.Name)
	}
	for r, row := range t.Rows {
		cells[r] = make([]string, n)
		for i, c := range row {
			cells[r][i] = Clean(c.Text)
			width[i] = max(width[i], lipgloss.Width(cells[r][i]))
		}
	}
	t.fit(width, s.Width)
	line := func(get func(i int) (string, Tone)) {
		parts, tones, tall := make([][]string, n), make([]Tone, n), 1
		for i, c := range t.Columns {
			text, tone := get(i)
			tones[i] = tone
			switch {
			case c.Wrap:
				parts[i] = wrap(text, width[i])
			case c.Path:
				parts[i] = []string{cutMiddle(text, width[i])}
			default:
				parts[i] = []string{Cut(text, width[i])}
			}
			tall = max(tall, len(parts[i]))
		}
		for k := range tall {
			var out strings.Builder
			for i, c := range t.Columns {
				text := ""
				if k < len(parts[i]) {
					text = parts[i][k]
				}
				pad := strings.Repeat(" ", max(0, width[i]-lipgloss.Width(text)))
				if c.Right {
					out.WriteString(pad + paint(text, tones[i]))
				} else {
					out.WriteString(paint(text, tones[i]) + pad)
				}
				out.WriteString(strings.Repeat(" ", gap))
			}
			b.WriteString("  " + strings.TrimRight(out.String(), " ") + "\n")
		}
	}
	line(func(i int) (string, Tone) { return t.Columns[i].Name, Dim })
	for r, row := range t.Rows {
		line(func(i int) (string, Tone) {
			if i < len(row) {
				return cells[r][i], row[i].Tone
			}
			return "", Plain
		})
	}
}

// marked is how a line begins that says first what it is.
var marked = regexp.MustCompile(`^ +(?:ok  |note|FAIL) +`)

// flow breaks text into lines of a width at blanks; the lines after the first are indented like
// it. A longer word stays whole, so that what is copied from the terminal is one.
func flow(s string, width int) []string {
	if width == 0 || lipgloss.Width(s) <= width {
		return []string{s}
	}
	body := strings.TrimLeft(s, " ")
	indent := len(s) - len(body)
	if m := marked.FindString(s); m != "" {
		indent = len(m)
	}
	var out []string
	line, fresh := s[:len(s)-len(body)], true
	for word := range strings.SplitSeq(body, " ") {
		if !fresh && lipgloss.Width(line)+1+lipgloss.Width(word) > width {
			out = append(out, line)
			line, fresh = strings.Repeat(" ", indent), true
		}
		if !fresh {
			line += " "
		}
		line, fresh = line+word, false
	}
	return append(out, line)
}

// mostLines bounds how far one cell goes on.
const mostLines = 8

// wrap breaks text into lines of a width, at blanks and between the parts of
// lists and paths.
func wrap(s string, width int) []string {
	if lipgloss.Width(s) <= width {
		return []string{s}
	}
	lines := strings.Split(lipgloss.Wrap(s, max(1, width), ",/"), "\n")
	if len(lines) > mostLines {
		lines = append(lines[:mostLines-1], Cut(lines[mostLines-1], width-1)+"…")
	}
	return lines
}

// fit narrows columns until the table fits the screen: those that wrap first,
// then paths, then those that wrap again, then whatever is widest.
func (t *Table) fit(width []int, screen int) {
	if screen <= 0 {
		return
	}
	total := func() int {
		sum := 2 + gap*(len(width)-1)
		for _, w := range width {
			sum += w
		}
		return sum
	}
	for _, pass := range []struct {
		least int
		of    func(c Column) bool
	}{
		{44, func(c Column) bool { return c.Wrap }},
		{30, func(c Column) bool { return c.Path }},
		{18, func(c Column) bool { return c.Wrap || c.Path }},
		{18, func(c Column) bool { return !c.Right }},
	} {
		for over := total() - screen; over > 0; over = total() - screen {
			widest := -1
			for i, c := range t.Columns {
				if pass.of(c) && width[i] > pass.least && (widest < 0 || width[i] > width[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			width[widest] -= min(over, max(1, (width[widest]-pass.least+3)/4))
		}
	}
}
