package render_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"maps"
	"strings"
	"testing"
	"time"
	"unicode"

	"clipfence/internal/render"

	"charm.land/lipgloss/v2"
	yaml "go.yaml.in/yaml/v3"
)

var hostile = []string{"", "plain", "\x1b[31mred", "a\nb", "a\rb", "=1+1", "-x", "@x", "+x", "tab\there", "\u202eevil",
	"\u2028", "\xff\xfe", "naïve ☃", "|x|", "`x`", "<b>", "*", "a,b", `q"q`, "\x00", strings.Repeat("x", 300)}

func doc() *render.Doc {
	d := &render.Doc{Head: "Head \x1b[2J", Lines: []string{"line\x07"}, Notes: []string{"note\x1b"},
		Next: []string{"clipfence x"}, Value: map[string]any{"names": hostile[:len(hostile)-10]}}
	t := render.Table{Title: "T", Columns: []render.Column{{Name: "N", Right: true}, {Name: "PATH", Path: true},
		{Name: "WHY", Wrap: true}}}
	for _, h := range hostile {
		t.Row(render.C("1"), render.C(h), render.Cell{Text: h, Tone: render.Bad})
	}
	d.Tables = []render.Table{t}
	return d
}

// TestNothingHostileGetsThrough: in every format, no control character but the
// newline, and for CSV no cell that a spreadsheet takes for a formula.
func TestNothingHostileGetsThrough(t *testing.T) {
	for _, f := range render.Formats {
		for _, width := range []int{0, 60, 80, 200} {
			var b bytes.Buffer
			if err := doc().Write(&b, render.Style{Format: f, Width: width}); err != nil {
				t.Fatalf("%s: %v", f, err)
			}
			for _, r := range b.String() {
				if r != '\n' && r != '\ufffd' && unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' {
					t.Errorf("%s: %U gets through", f, r)
				}
			}
			switch f {
			case "table":
				for line := range strings.Lines(b.String()) {
					if w := lipgloss.Width(strings.TrimRight(line, "\n")); width > 0 &&
						strings.HasPrefix(line, "  ") && w > width {
						t.Errorf("width %d: a line of %d: %q", width, w, line)
					}
				}
			case "csv":
				rows, err := csv.NewReader(&b).ReadAll()
				if err != nil || len(rows) != len(hostile)+1 {
					t.Fatalf("csv: %d rows, %v", len(rows), err)
				}
				for _, row := range rows[1:] {
					if row[1] != "" && strings.ContainsRune("=+-@", rune(row[1][0])) {
						t.Errorf("csv: a formula: %q", row[1])
					}
				}
			case "json", "yaml":
				var v map[string]any
				err := json.Unmarshal(b.Bytes(), &v)
				if f == "yaml" {
					err = yaml.Unmarshal(b.Bytes(), &v)
				}
				if err != nil || len(v) == 0 {
					t.Errorf("%s is not read again: %v", f, err)
				}
			}
		}
	}
}

// TestRows: CSV holds what JSON holds, under its names, all of it and in columns that do
// not hang on what is empty.
func TestRows(t *testing.T) {
	type inner struct {
		Why   string    `json:"why"`
		Until time.Time `json:"until,omitzero"`
	}
	type Base struct {
		Source string `json:"source"`
	}
	type row struct {
		Base
		ID     string   `json:"id"`
		Calls  int64    `json:"calls"`
		Share  float64  `json:"share"`
		Sure   bool     `json:"sure"`
		On     []string `json:"where,omitempty"`
		Waived *inner   `json:"waived,omitempty"`
		hidden int
		Secret string `json:"-"`
	}
	at := time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	rows := []row{
		{Base{"m"}, "=cmd", -1204, 0.5, true, []string{"/a/**", "/b"}, &inner{"+because", at}, 1, "s"},
		{ID: "a\x1b[31mb", Waived: &inner{}},
		{},
	}
	const want = "source,id,calls,share,sure,where,waived.why,waived.until\n" +
		"m,'=cmd,-1204,0.5,true,\"[\"\"/a/**\"\",\"\"/b\"\"]\",'+because,2026-11-24T08:00:00Z\n" +
		",a\\x1b[31mb,0,0,false,,,\n" +
		",,0,0,false,,,\n"
	pointers := []*row{&rows[0], &rows[1], &rows[2]}
	for _, d := range []*render.Doc{{Value: rows}, {Rows: rows, Value: map[string]int{"a": 1}}, {Rows: pointers}} {
		d.Tables = []render.Table{{Columns: []render.Column{{Name: "NOT THIS"}}}}
		var b bytes.Buffer
		if err := d.Write(&b, render.Style{Format: "csv"}); err != nil || b.String() != want {
			t.Errorf("%v\n%s\nwant\n%s", err, b.String(), want)
		}
	}
	var b bytes.Buffer
	if err := (&render.Doc{Value: rows[:0]}).Write(&b, render.Style{Format: "csv"}); err != nil ||
		b.String() != want[:strings.Index(want, "\n")+1] {
		t.Errorf("no rows: %v, %q", err, b.String())
	}
}

func TestWords(t *testing.T) {
	now := time.Date(2026, 11, 24, 1, 0, 0, 0, time.UTC)
	for _, tt := range []struct{ got, want string }{
		{render.Count(0), "0"}, {render.Count(999), "999"}, {render.Count(1000), "1,000"},
		{render.Count(-1234567), "-1,234,567"},
		{render.Plural(1, "grant"), "1 grant"}, {render.Plural(2, "entry"), "2 entries"},
		{render.Plural(0, "day"), "0 days"}, {render.Plural(2, "survey"), "2 surveys"},
		{render.Percent(1), "100 %"}, {render.Percent(0.999), "99 %"}, {render.Percent(0.001), "1 %"},
		{render.Percent(0), "0 %"},
		{render.Day(now.Add(-2*time.Hour), now), "yesterday"}, {render.Day(now, now), "today"},
		{render.Day(time.Time{}, now), "never"}, {render.Day(now.AddDate(0, 0, -9), now), "2026-11-15"},
		{render.Clean("a\x1b[31m"), `a\x1b[31m`}, {render.Clean("a\xffb"), `a\xffb`}, {render.Clean("ok ☃"), "ok ☃"},
		{render.Cut("abcdef", 4), "abc…"}, {render.Cut("abc", 4), "abc"}, {render.Cut("☃☃☃☃", 2), "☃…"},
	} {
		if tt.got != tt.want {
			t.Errorf("%q, want %q", tt.got, tt.want)
		}
	}
}

func FuzzClean(f *testing.F) {
	for _, h := range hostile {
		f.Add(h)
	}
	f.Fuzz(func(t *testing.T, s string) {
		c := render.Clean(s)
		if render.Clean(c) != c {
			t.Fatalf("Clean(%q) = %q is not clean", s, c)
		}
		if strings.ContainsFunc(c, unicode.IsControl) {
			t.Fatalf("Clean(%q) = %q", s, c)
		}
	})
}

// TestHiddenMarks: C1 controls and the marks that turn the direction of text are escapes in
// JSON and YAML, keys included, and read back they are what they were.
func TestHiddenMarks(t *testing.T) {
	value := map[string]string{"turn \u202e": "\u0085 \u009b31m \u2066 \u200f \u061c \u2028 \U000e0041 plain é",
		"x": "none"}
	for _, f := range []string{"json", "yaml"} {
		var b bytes.Buffer
		if err := (&render.Doc{Value: value}).Write(&b, render.Style{Format: f}); err != nil {
			t.Fatal(err)
		}
		for _, r := range b.String() {
			if r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028') {
				t.Errorf("%s: %U gets through:\n%s", f, r, b.String())
			}
		}
		var back map[string]string
		err := json.Unmarshal(b.Bytes(), &back)
		if f == "yaml" {
			err = yaml.Unmarshal(b.Bytes(), &back)
		}
		if err != nil || !maps.Equal(back, value) {
			t.Errorf("%s: read back as %q, %v", f, back, err)
		}
	}
}
