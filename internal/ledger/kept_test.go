package ledger_test

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/kept"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
)

// sumOf is the hash of an entry, worked out once more: SHA-256 over its parts, each with its length.
func sumOf(e *ledger.Entry) string {
	parts := []string{e.Prev, fmt.Sprint(e.Number), e.At.UTC().Format(time.RFC3339Nano), e.By, e.Kind, string(e.Body)}
	if e.Key != "" {
		parts = append(parts, e.Key)
	}
	h := sha256.New()
	for _, part := range parts {
		fmt.Fprintf(h, "%d:%s", len(part), part)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// TestKeptLedgers: what is said of ledgers that somebody bent: an entry changed, moved, added or left
// out, with the chain made anew behind it or not, and signed anew by this key or another; in the
// file, in the book or in both; with a file that ends early or late, or is of an earlier program.
func TestKeptLedgers(t *testing.T) {
	dir := t.TempDir()
	kept.Same(t, 400, func(i int) (string, string) {
		r := rand.New(rand.NewPCG(uint64(i), 17))
		one := filepath.Join(dir, fmt.Sprint(i))
		return fmt.Sprint(i), strings.ReplaceAll(bent(t, r, one), one, "DIR")
	})
}

func bent(t *testing.T, r *rand.Rand, dir string) string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	m := &ledgertest.Memory{}
	clock := time.Unix(1_790_000_000, 0)
	with := func(k ed25519.PrivateKey, by string) *ledger.Ledger {
		return &ledger.Ledger{File: filepath.Join(dir, "ledger.jsonl"), Book: m, By: by, Key: k,
			Now: func() time.Time { clock = clock.Add(time.Minute); return clock }}
	}
	l, other := with(key('k'), "ann"), with(key('o'), "bo")
	if r.IntN(6) == 0 {
		l.Key = nil
	}
	vouched := r.IntN(3)
	l.Vouched = [](func(ledger.KeyEntry) error){nil, func(ledger.KeyEntry) error { return errors.New("not his word") },
		func(k ledger.KeyEntry) error {
			if k.Signature != "word for "+k.Key+k.After {
				return errors.New("another word")
			}
			return nil
		}}[vouched]
	for n := range 1 + r.IntN(5) {
		if n == 2 && r.IntN(2) == 0 {
			say("enrol %v", other.Enrol(t.Context(), "w", "person/bo", func(k ledger.KeyEntry) (string, error) {
				return "word for " + k.Key + k.After, nil
			}))
			say("other %v", other.Append(t.Context(), "change.begin", "his"))
		}
		say("append %v", l.Append(t.Context(), []string{"test", "change.done"}[r.IntN(2)], map[string]int{"n": n}))
	}
	was, err := l.Read(t.Context())
	say("read %d of keys %d %v", len(was), len(ledger.Keys(was)), err)
	if len(was) > 0 && r.IntN(3) == 0 {
		n := r.IntN(len(was))
		l.Verified = ledger.Head{Number: was[n].Number, Hash: was[n].Hash}
		if r.IntN(4) == 0 {
			l.Verified.Hash = "00"
		}
	}
	was = nil
	for _, line := range m.Kept {
		var e ledger.Entry
		if err := json.Unmarshal(line, &e); err != nil {
			t.Error(err)
		}
		was = append(was, e)
	}
	entries := bendEntries(r, slices.Clone(was), m)
	text := bendText(r, entries)
	if r.IntN(5) > 0 {
		if err := os.WriteFile(l.File, text, 0o600); err != nil {
			t.Error(err)
		}
	}
	if r.IntN(8) == 0 { // of a program that had no book yet
		m.Kept, m.Kinds, m.End = nil, nil, ledger.Head{}
		if n := r.IntN(len(was) + 1); n < len(was) {
			m.Old = fmt.Sprintf("%d %s", n+r.IntN(2), was[n].Hash)
		} else {
			m.Old = "nonsense"
		}
	}
	for range 2 {
		got, err := l.Read(t.Context())
		say("# read\n%d %v, %v", len(got), ledger.Keys(got), err)
		say("append %v", l.Append(t.Context(), "test", "more"))
		data, err := os.ReadFile(l.File)
		say("%d %x %v; %d %x", m.End.Number, sha256.Sum256(data), err, m.End.Size, m.End.Hash)
	}
	files, _ := filepath.Glob(l.File + "*")
	say("%v", files)
	return out.String()
}

// bendEntries bends entries, and mostly the book with them.
func bendEntries(r *rand.Rand, entries []ledger.Entry, m *ledgertest.Memory) []ledger.Entry {
	if r.IntN(4) == 0 || len(entries) == 0 {
		return entries
	}
	n := r.IntN(len(entries))
	e := &entries[n]
	switch r.IntN(12) {
	case 0:
		e.Body = json.RawMessage(`"forged"`)
	case 1:
		e.Number += 1 - 2*r.IntN(2)
	case 2:
		e.Kind = []string{ledger.KindKey, "change.undo"}[r.IntN(2)]
	case 3:
		e.By = "eve"
	case 4:
		e.At = e.At.Add(time.Second)
	case 5:
		e.Key = []string{"", "AA==", "?", ledger.Public(key('e')), ledger.Public(key('o'))}[r.IntN(5)]
	case 6:
		e.Sig = []string{"", "AA==", "?", entries[0].Sig}[r.IntN(4)]
	case 7:
		e.Prev = ""
	case 8:
		e.Key, e.Sig = "", ""
	case 9:
		entries = slices.Delete(entries, n, n+1)
	case 10:
		entries = slices.Insert(entries, n, *e)
	case 11:
		entries[0], *e = *e, entries[0]
	}
	if r.IntN(2) == 0 { // the chain made anew
		prev, by := "", []byte{'k', 'o', 'e', 0}[r.IntN(4)]
		for i := range entries {
			e := &entries[i]
			if e.Prev = prev; r.IntN(3) == 0 {
				e.Number = i + 1
			}
			e.Hash = sumOf(e)
			if by != 0 && e.Key != "" {
				sig := ed25519.Sign(key(by), []byte("clipfence ledger entry 1\n"+e.Hash))
				e.Sig = base64.StdEncoding.EncodeToString(sig)
			}
			prev = e.Hash
		}
	}
	if r.IntN(3) > 0 {
		m.Kept, m.Kinds, m.End = nil, nil, ledger.Head{}
		for _, e := range entries {
			line, _ := json.Marshal(e)
			line = append(line, '\n')
			m.Kept, m.Kinds = append(m.Kept, line), append(m.Kinds, e.Kind)
			m.End = ledger.Head{Number: e.Number, Hash: e.Hash, Size: m.End.Size + int64(len(line))}
		}
	}
	return entries
}

// bendText writes entries down, and bends what is written.
func bendText(r *rand.Rand, entries []ledger.Entry) []byte {
	var text []byte
	for _, e := range entries {
		line, _ := json.Marshal(e)
		text = append(append(text, line...), '\n')
	}
	switch r.IntN(8) {
	case 0:
		text = text[:r.IntN(len(text)+1)]
	case 1:
		text = append(text, "rubbish\n"[:1+r.IntN(8)]...)
	case 2:
		text = bytes.Replace(text, []byte(`{"`), []byte(`{ "`), 1)
	case 3:
		text = bytes.Replace(text, []byte(`{"`), []byte(`{"more":1,"`), 1)
	}
	return text
}
