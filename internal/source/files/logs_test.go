package files_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	parquet "github.com/parquet-go/parquet-go"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
)

// logs is a folder of logs that is read again and again, each time from the last cursor.
type logs struct {
	t      *testing.T
	dir    string
	cursor string
	clock  time.Time
	in     io.Reader
	names  []string
}

func newLogs(t *testing.T, names ...string) *logs {
	return &logs{t: t, dir: t.TempDir(), clock: time.Unix(1_790_000_000, 0), names: names}
}

// write writes a file with a time of its own, so that a change is seen as one.
func (l *logs) write(name string, data []byte) {
	l.t.Helper()
	name = filepath.Join(l.dir, name)
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		l.t.Fatal(err)
	}
	if err := os.WriteFile(name, data, 0o600); err != nil {
		l.t.Fatal(err)
	}
	l.clock = l.clock.Add(time.Minute)
	if err := os.Chtimes(name, l.clock, l.clock); err != nil {
		l.t.Fatal(err)
	}
}

func (l *logs) remove(name string) {
	l.t.Helper()
	if err := os.Remove(filepath.Join(l.dir, name)); err != nil {
		l.t.Fatal(err)
	}
}

// read returns the lines that come, and what is said, and goes on to the cursor. It stops
// after so many parts; 0: at the end.
func (l *logs) read(most int) (lines, says []string) {
	l.t.Helper()
	r := &files.Reader{Name: "x", Stdin: l.in}
	for _, n := range l.names {
		if n != "-" {
			n = filepath.Join(l.dir, n)
		}
		r.LogFiles = append(r.LogFiles, n)
	}
	parts := 0
	var last func() (string, error)
	for p, err := range r.Logs(l.t.Context(), l.cursor) {
		if err != nil {
			return lines, append(says, err.Error())
		}
		lines = append(lines, words(p)...)
		if p.Message != "" {
			says = append(says, p.Message)
		}
		if p.Cursor != nil {
			last = p.Cursor
		}
		if parts++; parts == most {
			break
		}
	}
	if last != nil {
		c, err := last()
		if err != nil {
			l.t.Fatal(err)
		}
		l.cursor = c
	}
	return lines, says
}

func words(p fold.Part) (out []string) {
	for line := range strings.Lines(string(p.Chunk.Data)) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	if p.Rows != nil {
		if err := p.Rows(func(n int, _ *auditlog.Event,
			_ error) bool {
			out = append(out, fmt.Sprint(n))
			return true
		}); err != nil {
			out = append(out, err.Error())
		}
	}
	return out
}

func gz(text string) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = io.WriteString(w, text) // to memory
	_ = w.Close()
	return b.Bytes()
}

func zst(text string) []byte {
	w, err := zstd.NewWriter(nil)
	if err != nil {
		panic(err)
	}
	return w.EncodeAll([]byte(text), nil)
}

// TestLogs tells what happens to a folder of logs, step by step, and what each reading
// brings that was not read before.
func TestLogs(t *testing.T) {
	type step struct {
		does string // NAME=TEXT writes a file (.gz and .zst packed), -NAME removes it, OLD>NEW renames it
		want string
		says string
	}
	for _, tt := range []struct {
		name  string
		globs []string
		steps []step
	}{
		{"once", []string{"*.log"}, []step{{"a.log=1 2", "1 2", ""}, {"", "", ""}}},
		{"two files, in order", []string{"*.log"}, []step{{"b.log=3 a.log=1,2", "1 2 3", ""}, {"", "", ""}}},
		{"it grows", []string{"*.log"}, []step{{"a.log=1,2", "1 2", ""}, {"a.log=1,2,3", "3", ""},
			{"a.log=1,2,3,4,5", "4 5", ""}, {"", "", ""}}},
		{"another comes", []string{"*.log"}, []step{{"a.log=1", "1", ""}, {"b.log=7", "7", ""}}},
		{"rotated", []string{"*"}, []step{{"a.log=1,2", "1 2", ""}, {"a.log>a.log.1 a.log=3", "3", ""}, {"", "", ""}}},
		{"rotated while it grew", []string{"*"}, []step{{"a.log=1,2", "1 2", ""},
			{"a.log=1,2,3 a.log>a.log.1 a.log=4", "4 3", ""}, {"", "", ""}}},
		{"rotated and packed", []string{"*"}, []step{{"a.log=1,2", "1 2", ""},
			{"-a.log a.log.1.gz=1,2 a.log=3", "3", ""}, {"-a.log.1.gz a.log.1.zst=1,2", "", ""}}},
		{"rotated and packed, with more", []string{"*"},
			[]step{{"a.log=1,2", "1 2", ""}, {"-a.log a.log.1.gz=1,2,3 a.log=9", "9 3", ""}}},
		{"packed from the start", []string{"*"}, []step{{"a.gz=1,2 b.zst=3", "1 2 3", ""}, {"", "", ""},
			{"-a.gz a=1,2,4", "4", ""}}},
		{"renamed only", []string{"*"}, []step{{"a=1,2", "1 2", ""}, {"a>b", "", ""}}},
		{"a folder, and what is below it", []string{"."},
			[]step{{"x/y/a.log=1 b.log=2", "2 1", ""}, {"x/y/z/c.log=3", "3", ""}}},
		{"named twice", []string{"a.log", "*.log"}, []step{{"a.log=1", "1", ""}}},
		{"it was cut short", []string{"*.log"}, []step{{"a.log=1,2,3", "1 2 3", ""}, {"a.log=1,2", "1 2", ""},
			{"", "", ""}}},
		{"it was written anew", []string{"*.log"}, []step{{"a.log=1,2,3", "1 2 3", ""}, {"a.log=7,8", "7 8", ""}}},
		{"empty", []string{"*.log"}, []step{{"a.log=", "", ""}, {"a.log=1", "1", ""}}},
		{"one array", []string{"*.json"}, []step{{`a.json=[{"n":1},{"n":2}]`, `{"n":1} {"n":2}`, ""}, {"", "", ""}}},
		{"a file that is not there", []string{"a.log"}, []step{{"", "", "no such file"}}},
		{"a glob that nothing fits", []string{"*.log"}, []step{{"a.txt=1", "", "no log file is there"}}},
		{"a glob that is none", []string{"[.log"}, []step{{"", "", "syntax error in pattern"}}},
	} {
		l := newLogs(t, tt.globs...)
		for i, s := range tt.steps {
			for _, does := range strings.Fields(strings.ReplaceAll(s.does, "1 2", "1,2")) {
				switch from, to, moved := strings.Cut(does, ">"); {
				case moved:
					if err := os.Rename(filepath.Join(l.dir, from), filepath.Join(l.dir, to)); err != nil {
						t.Fatal(err)
					}
				case strings.HasPrefix(does, "-"):
					l.remove(does[1:])
				default:
					name, text, _ := strings.Cut(does, "=")
					if text != "" && text[0] != '[' {
						text = strings.ReplaceAll(text, ",", "\n") + "\n"
					}
					data := []byte(text)
					switch filepath.Ext(name) {
					case ".gz":
						data = gz(text)
					case ".zst":
						data = zst(text)
					}
					l.write(name, data)
				}
			}
			lines, says := l.read(0)
			if got := strings.Join(lines, " "); got != s.want {
				t.Errorf("%s, reading %d: %q, want %q", tt.name, i+1, got, s.want)
			}
			if got := strings.Join(says, "; "); s.says == "" && got != "" || !strings.Contains(got, s.says) {
				t.Errorf("%s, reading %d says %q, want %q", tt.name, i+1, got, s.says)
			}
		}
	}
}

// TestTorn: a last line that is still being written is left for the next time, unless it
// is whole already.
func TestTorn(t *testing.T) {
	l := newLogs(t, "*.log")
	for i, s := range []struct{ text, want string }{
		{`{"n":1}` + "\n" + `{"n":`, `{"n":1}`},
		{`{"n":1}` + "\n" + `{"n":2}` + "\n" + `{"n"`, `{"n":2}`},
		{`{"n":1}` + "\n" + `{"n":2}` + "\n" + `{"n":3}`, `{"n":3}`}, // whole, though no newline ends it
		{`{"n":1}` + "\n" + `{"n":2}` + "\n" + `{"n":3}` + "\n", ""},
		{`{"n":1}` + "\n" + `{"n":2}` + "\n" + `{"n":3}` + "\n" + `{"n":4}` + "\n", `{"n":4}`},
	} {
		l.write("a.log", []byte(s.text))
		lines, says := l.read(0)
		if got := strings.Join(lines, " "); got != s.want || len(says) > 0 {
			t.Errorf("reading %d: %q, %q; want %q", i+1, got, says, s.want)
		}
	}
}

// TestBroken: what comes before the break of a packed file is read once, what comes
// behind it when the file is whole again.
func TestBroken(t *testing.T) {
	var all []string
	for i := range 20000 {
		all = append(all, fmt.Sprintf("line-%d-%d", i, i*7919%10007))
	}
	text := strings.Join(all, "\n") + "\n"
	for name, whole := range map[string][]byte{"a.gz": gz(text), "a.zst": zst(text)} {
		l := newLogs(t, "*")
		l.write(name, whole[:len(whole)*2/3])
		before, says := l.read(0)
		if len(says) != 1 || !strings.Contains(says[0], "what follows in this file cannot be read") {
			t.Errorf("%s: it says %q", name, says)
		}
		if !slices.Equal(before, all[:len(before)]) {
			t.Errorf("%s: broken, it gives other lines", name)
		}
		l.write(name, whole)
		after, says := l.read(0)
		if got := append(before, after...); !slices.Equal(got, all) || len(says) > 0 {
			t.Errorf("%s: %d and %d lines, want %d in all; it says %q", name, len(before), len(after), len(all), says)
		}
	}
}

// TestStopsAnywhere reads large files, stops after some parts, and goes on from the last
// cursor: nothing before it comes again, and in the end all was there.
func TestStopsAnywhere(t *testing.T) {
	var text, array strings.Builder
	most := 0
	for ; text.Len() < 36<<20; most++ {
		fmt.Fprintf(&text, "%d %s\n", most, strings.Repeat("x", most*37%15000))
	}
	elements := 0
	for ; array.Len() < 18<<20; elements++ { // less: such a file is decoded from its beginning
		fmt.Fprintf(&array, "%c\"%d %s\"", "[,"[min(elements, 1)], elements, strings.Repeat("x", elements*37%15000))
	}
	array.WriteByte(']')
	for name, data := range map[string][]byte{"a.log": []byte(text.String()), "b.zst": zst(text.String()),
		"c.json": []byte(array.String())} {
		lines := most
		if name == "c.json" {
			lines = elements
		}
		l := newLogs(t, "*")
		l.write(name, data)
		seen, again := make([]bool, lines), 0
		for range 100 {
			cursor := l.cursor
			got, says := l.read(66) // a cursor stands behind the 64th part
			if len(says) > 0 {
				t.Fatalf("%s: %q", name, says)
			}
			for _, line := range got {
				var n int
				if _, err := fmt.Sscan(strings.Trim(line, `"`), &n); err != nil {
					t.Fatal(err)
				}
				if seen[n] {
					again++
				}
				seen[n] = true
			}
			if len(got) == 0 && l.cursor == cursor {
				break
			}
		}
		if i := slices.Index(seen, false); i >= 0 {
			t.Errorf("%s: line %d never came", name, i)
		}
		if again == 0 || again > 2*lines { // a stop falls between cursors
			t.Errorf("%s: %d of %d lines came again", name, again, lines)
		}
	}
}

// TestColumnsStopAnywhere does the same with the row groups of a Parquet file.
func TestColumnsStopAnywhere(t *testing.T) {
	type row struct {
		Class int32 `parquet:"class_uid"`
		Time  int64 `parquet:"time"`
		API   struct {
			Operation string `parquet:"operation"`
		} `parquet:"api"`
		Resources []struct {
			UID string `parquet:"uid"`
		} `parquet:"resources,list"`
	}
	const groups, each = 7, 5
	var b bytes.Buffer
	w := parquet.NewGenericWriter[row](&b, parquet.MaxRowsPerRowGroup(each))
	for i := range groups * each {
		if _, err := w.Write([]row{{Class: 6003, Time: 1_790_000_000_000 + int64(i)}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	for most := 1; most <= groups+1; most++ {
		l := newLogs(t, "*")
		l.write("a.parquet", b.Bytes())
		rows := 0
		for range 2 * groups {
			got, says := l.read(most)
			if len(says) > 0 {
				t.Fatal(says)
			}
			rows += len(got)
		}
		if rows != groups*each {
			t.Errorf("%d groups at a time: %d rows, want %d", most, rows, groups*each)
		}
	}
}

// TestStandardInput has no cursor: it is read whole each time.
func TestStandardInput(t *testing.T) {
	l := newLogs(t, "-")
	for range 2 {
		l.in = bytes.NewReader(gz("1\n2\n"))
		if lines, says := l.read(0); strings.Join(lines, " ") != "1 2" || len(says) > 0 {
			t.Errorf("%q, %q", lines, says)
		}
	}
}

// TestCancelled: who is told to stop does so, and says why.
func TestCancelled(t *testing.T) {
	l := newLogs(t)
	l.write("a.log", []byte("1\n"))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for _, err := range (&files.Reader{Name: "x", LogFiles: []string{l.dir}}).Logs(ctx, "") {
		if err != context.Canceled {
			t.Errorf("%v", err)
		}
	}
	for _, err := range (&files.Reader{Name: "x", LogFiles: []string{l.dir}}).Logs(t.Context(), "{broken") {
		if err == nil || !strings.Contains(err.Error(), "source x: log cursor") {
			t.Errorf("a broken cursor: %v", err)
		}
	}
}

// TestFaultyFolders: what cannot be read is told, at the end, and keeps nothing else from
// being read.
func TestFaultyFolders(t *testing.T) {
	for _, tt := range []struct {
		name   string
		make   func(t *testing.T, dir string) string // returns what the configuration names
		before string                                // the file that was read before
		lines  int
		says   string
	}{
		{"gone", func(_ *testing.T, dir string) string { return filepath.Join(dir, "nowhere") }, "", 0,
			"no such file"},
		{"empty", func(_ *testing.T, dir string) string { return dir }, "", 0, "no log file is there"},
		{"a link to a folder", func(t *testing.T, dir string) string {
			sub, link := filepath.Join(dir, "logs"), filepath.Join(dir, "link")
			put(t, filepath.Join(sub, "a.log"), "1\n")
			if err := os.Symlink(sub, link); err != nil {
				t.Fatal(err)
			}
			return link
		}, "", 0, "a link to a folder"},
		{"one that leads nowhere among others", func(t *testing.T, dir string) string {
			put(t, filepath.Join(dir, "a.log"), "1\n")
			put(t, filepath.Join(dir, "c.log"), "2\n")
			if err := os.Symlink(filepath.Join(dir, "nowhere"), filepath.Join(dir, "b.log")); err != nil {
				t.Fatal(err)
			}
			return dir
		}, "", 2, "b.log: no such file"},
		{"a named pipe", func(t *testing.T, dir string) string {
			name := filepath.Join(dir, "pipe")
			if out, err := exec.Command("mkfifo", name).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			return name
		}, "", 0, "a named pipe"},
		{"a device", func(*testing.T, string) string { return "/dev/zero" }, "", 0, "a device"},
		{"another folder in its place", func(t *testing.T, dir string) string {
			put(t, filepath.Join(dir, "z.log"), "something else altogether\n")
			return dir
		}, "a.log", 1, "none of the 1 log files that were read before is there any more"},
		{"rotated", func(t *testing.T, dir string) string {
			put(t, filepath.Join(dir, "a.log.1"), "what was there\n")
			put(t, filepath.Join(dir, "b.log"), "new\n")
			return dir
		}, "a.log", 1, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			dir := t.TempDir()
			cursor := ""
			read := func(name string) (lines []string, fault error) {
				r := &files.Reader{Name: "x", LogFiles: []string{name}}
				for p, err := range r.Logs(t.Context(), cursor) {
					if err != nil {
						return lines, err
					}
					lines = append(lines, words(p)...)
					if p.Cursor != nil {
						c, err := p.Cursor()
						if err != nil {
							t.Fatal(err)
						}
						cursor = c
					}
				}
				return lines, nil
			}
			if tt.before != "" {
				put(t, filepath.Join(dir, tt.before), "what was there\n")
				if _, err := read(dir); err != nil {
					t.Fatal(err)
				}
				if err := os.Remove(filepath.Join(dir, tt.before)); err != nil {
					t.Fatal(err)
				}
			}
			lines, err := read(tt.make(t, dir))
			if (err == nil) != (tt.says == "") || err != nil &&
				(!errors.Is(err, source.ErrLog) || !strings.Contains(err.Error(), tt.says)) {
				t.Errorf("%v, want %q", err, tt.says)
			}
			if len(strings.Fields(strings.Join(lines, " "))) < tt.lines {
				t.Errorf("%d lines were read, want %d: %q", len(lines), tt.lines, lines)
			}
		})
	}
}

func put(t *testing.T, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}
