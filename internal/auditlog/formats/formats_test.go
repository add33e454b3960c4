package formats_test

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/auditlog/logmap"
	"clipfence/internal/yamlfile"
)

var update = flag.Bool("update", false, "write the .want files anew; read the diff")

func maps(t testing.TB) []func() auditlog.Format {
	t.Helper()
	var out []func() auditlog.Format
	names, err := filepath.Glob("testdata/*.logmap.yaml")
	if err != nil || len(names) == 0 {
		t.Fatal("no log maps", err)
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		m := &logmap.Map{}
		if err := yamlfile.Decode(name, data, m); err != nil {
			t.Fatal(err)
		}
		mk, err := m.Compile()
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, mk)
	}
	return out
}

// one folds a whole file at once.
func one(name string, data []byte) iter.Seq2[fold.Part, error] {
	quoted := auditlog.LooksQuoted(data)
	header, _, _ := bytes.Cut(data, []byte{'\n'})
	return func(yield func(fold.Part, error) bool) {
		yield(fold.Part{Name: name, Chunk: auditlog.Chunk{Line: auditlog.At(1), Data: bytes.Clone(data)},
			Quoted: quoted, Header: header, Cursor: func() (string, error) { return "end", nil }}, nil)
	}
}

// told says what a log folds to: each use, what was set aside and why.
func told(t testing.TB, name string, data []byte) string {
	t.Helper()
	var b strings.Builder
	for batch, err := range fold.Run(context.Background(), one(name, data),
		fold.Options{Formats: formats.For("x", nil, maps(t)...), Workers: 1}) {
		if err != nil {
			t.Fatal(err)
		}
		for _, u := range batch.Table.Uses() {
			acting := ""
			if !u.ActingFor.IsZero() {
				acting = " for " + u.ActingFor.String()
			}
			fmt.Fprintf(&b, "%s%s %s %s %s from %s mfa %s x%d %s\n", u.Identity, acting, u.Permission, u.Path,
				u.Outcome, u.Network, u.SecondFactor, u.Count, u.First.Format("2006-01-02T15:04:05.000Z"))
		}
		for _, r := range batch.Rejected {
			fmt.Fprintf(&b, "! line %d: %s\n", r.Line, r.Why)
		}
		for why, n := range batch.Skipped {
			fmt.Fprintf(&b, "~ %d: %s\n", n, why)
		}
		fmt.Fprintf(&b, "%d records, %d events, %d repeated, formats %v\n", batch.Records, batch.Events,
			batch.Repeated, batch.Formats)
	}
	lines := strings.SplitAfter(b.String(), "\n")
	var skips []string
	for _, l := range lines { // a map's order is none
		if strings.HasPrefix(l, "~") {
			skips = append(skips, l)
		}
	}
	if len(skips) > 1 {
		for i, l := range lines {
			if strings.HasPrefix(l, "~") {
				least := 0
				for j := range skips {
					if skips[j] < skips[least] {
						least = j
					}
				}
				lines[i] = skips[least]
				skips = append(skips[:least], skips[least+1:]...)
			}
		}
	}
	return strings.Join(lines, "")
}

// TestSamples holds each recorded log against what it must fold to.
func TestSamples(t *testing.T) {
	names, err := filepath.Glob("testdata/*")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, name := range names {
		if strings.HasSuffix(name, ".want") || strings.HasSuffix(name, ".yaml") {
			continue
		}
		n++
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		got := told(t, filepath.Base(name), data)
		if *update {
			if err := os.WriteFile(name+".want", []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		want, err := os.ReadFile(name + ".want")
		if err != nil {
			t.Fatal(err)
		}
		if got != string(want) {
			t.Errorf("%s folds to\n%s\nwant\n%s\n(after looking: go test ./internal/auditlog/formats -update)", name,
				got, want)
		}
	}
	if n < 7 {
		t.Errorf("only %d samples", n)
	}
}

// FuzzRecord: no record of any format makes a reader fall over, and what is taken
// is taken again from its own bytes.
func FuzzRecord(f *testing.F) {
	names, _ := filepath.Glob("testdata/*")
	for _, name := range names {
		if data, err := os.ReadFile(name); err == nil && !strings.HasSuffix(name, ".want") &&
			!strings.HasSuffix(name, ".yaml") {
			for line := range strings.Lines(string(data)) {
				f.Add([]byte(line))
			}
		}
	}
	mk := maps(f)
	f.Fuzz(func(t *testing.T, record []byte) {
		if len(bytes.TrimSpace(record)) == 0 {
			return
		}
		for _, format := range formats.For("x", nil, mk...)() {
			if h, ok := format.(interface{ Header([]byte) }); ok {
				h.Header([]byte("when,who,what,where,ok,note"))
			}
			for range 2 { // as learned, and by what was learned
				n := 0
				err := format.Parse(record, func(e *auditlog.Event) error {
					if n++; e.Time < auditlog.Earliest || e.Time > auditlog.Latest || e.Outcome == "" {
						t.Fatalf("%s: %q gives %+v", format.Name(), record, e)
					}
					return nil
				})
				if err == nil && n == 0 {
					t.Fatalf("%s: %q is taken and shows no call", format.Name(), record)
				}
			}
			format.Sniff(record)
		}
	})
}
