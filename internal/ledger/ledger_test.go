package ledger_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
)

func filled(t *testing.T, n int) (*ledger.Ledger, *ledgertest.Memory) {
	t.Helper()
	m := &ledgertest.Memory{}
	l := &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Anchor: m, Now: func() time.Time { return time.Unix(1_790_000_000, 0) }, By: "ann"}
	for i := range n {
		if err := l.Append(t.Context(), "test", map[string]any{"i": i, "text": "a <b> \u2028 c"}); err != nil {
			t.Fatal(err)
		}
	}
	return l, m
}

// TestEveryEditIsFound changes every single byte of a ledger, one after the
// other, and expects each to be found.
func TestEveryEditIsFound(t *testing.T) {
	l, _ := filled(t, 4)
	whole, err := os.ReadFile(l.File)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := l.Read(t.Context()); err != nil || len(got) != 4 {
		t.Fatalf("%d entries, %v", len(got), err)
	}
	for i := range whole {
		bad := bytes.Clone(whole)
		bad[i] ^= 1
		if err := os.WriteFile(l.File, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
			t.Fatalf("byte %d (%q) changed to %q: %v", i, whole[i], bad[i], err)
		}
	}
}

func TestLinesMoved(t *testing.T) {
	for _, tt := range []struct {
		name string
		bend func(lines []string) []string
		want string
	}{
		{"first removed", func(l []string) []string { return l[1:] }, ":1: here stands entry 2"},
		{"middle removed", func(l []string) []string { return append(l[:1:1], l[2:]...) }, ":2: here stands entry 3"},
		{"last removed", func(l []string) []string { return l[:3] }, "ends after entry 3, but entry 4 was written"},
		{"all removed", func([]string) []string { return nil }, "ends after entry 0"},
		{"swapped", func(l []string) []string { return []string{l[0], l[2], l[1], l[3]} }, ":2: here stands entry 3"},
		{"repeated", func(l []string) []string { return append(l, l[3]) }, ":5: here stands entry 4"},
		{"rubbish", func(l []string) []string { return append(l, "rubbish") }, ":5: the line is not an entry"},
		{"spaces", func(l []string) []string { l[1] = " " + l[1]; return l }, ":2: the line was rewritten"},
	} {
		l, _ := filled(t, 4)
		data, _ := os.ReadFile(l.File)
		lines := tt.bend(strings.Split(strings.TrimSuffix(string(data), "\n"), "\n"))
		text := strings.Join(lines, "\n") + "\n"
		if len(lines) == 0 {
			text = ""
		}
		if err := os.WriteFile(l.File, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := l.Read(t.Context())
		if !errors.Is(err, ledger.ErrBroken) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
		if err := l.Append(t.Context(), "test", 1); !errors.Is(err, ledger.ErrBroken) {
			t.Errorf("%s: appending: %v", tt.name, err)
		}
	}
}

// TestRewrittenChain: somebody who rewrites the whole chain is found by the head
// that is kept elsewhere.
func TestRewrittenChain(t *testing.T) {
	l, m := filled(t, 3)
	forged, _ := filled(t, 2)
	if err := forged.Append(t.Context(), "forged", 1); err != nil {
		t.Fatal(err)
	}
	forged.Anchor = m
	if _, err := forged.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
		t.Errorf("a forged chain is taken: %v", err)
	}
	_ = l
}

// TestCrash: what a killed process left is taken up: an entry that the anchor does
// not know yet, and a line that was never finished.
func TestCrash(t *testing.T) {
	l, m := filled(t, 2)
	old := m.Last
	if err := l.Append(t.Context(), "test", 2); err != nil {
		t.Fatal(err)
	}
	m.Last = old // killed between file and anchor
	f, err := os.OpenFile(l.File, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteString(`{"n":4,"at":"2026`); err != nil { // killed inside a line
		t.Fatal(err)
	}
	f.Close()
	if got, err := l.Read(t.Context()); err != nil || len(got) != 3 {
		t.Fatalf("%d entries, %v", len(got), err)
	}
	if err := l.Append(t.Context(), "test", 3); err != nil {
		t.Fatal(err)
	}
	if got, err := l.Read(t.Context()); err != nil || len(got) != 4 || got[3].Number != 4 {
		t.Fatalf("%d entries, %v", len(got), err)
	}
}

// FuzzRead: whatever stands in the file, reading says what is whole or where it
// breaks, and an entry appended to what is whole keeps it whole.
func FuzzRead(f *testing.F) {
	f.Add([]byte("{}\n"))
	f.Add([]byte(`{"n":1,"at":"2026-11-24T08:00:00Z","by":"x","kind":"k","body":1,"prev":"","hash":"h"}` + "\n"))
	f.Add([]byte("torn"))
	f.Fuzz(func(t *testing.T, in []byte) {
		l := &ledger.Ledger{File: filepath.Join(t.TempDir(), "l"), Anchor: &ledgertest.Memory{}, Now: time.Now, By: "x"}
		if err := os.WriteFile(l.File, in, 0o600); err != nil {
			t.Fatal(err)
		}
		old, err := l.Read(t.Context())
		if err != nil {
			if !errors.Is(err, ledger.ErrBroken) {
				t.Fatal(err)
			}
			return
		}
		if err := l.Append(t.Context(), "k", "body"); err != nil {
			t.Fatal(err)
		}
		if now, err := l.Read(t.Context()); err != nil || len(now) != len(old)+1 {
			t.Fatalf("%d entries became %d, %v", len(old), len(now), err)
		}
	})
}
