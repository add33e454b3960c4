package ledger_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
)

// key is a made-up key, told apart by a letter.
func key(letter byte) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(bytes.Repeat([]byte{letter}, ed25519.SeedSize))
}

func empty(t *testing.T) (*ledger.Ledger, *ledgertest.Memory) {
	t.Helper()
	m := &ledgertest.Memory{}
	return &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Book: m,
		Now: func() time.Time { return time.Unix(1_790_000_000, 0) }, By: "ann", Key: key('k')}, m
}

// filled holds n entries, behind the one that enrols the key.
func filled(t *testing.T, n int) (*ledger.Ledger, *ledgertest.Memory) {
	t.Helper()
	l, m := empty(t)
	for i := range n {
		if err := l.Append(t.Context(), "test", map[string]any{"i": i, "text": "a <b> \u2028 c"}); err != nil {
			t.Fatal(err)
		}
	}
	return l, m
}

// TestEveryEditIsFound changes every single byte of a ledger's file, and of the book behind
// it, one after the other, and expects each to be found.
func TestEveryEditIsFound(t *testing.T) {
	l, m := filled(t, 3)
	whole, err := os.ReadFile(l.File)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := l.Read(t.Context()); err != nil || len(got) != 4 {
		t.Fatalf("%d entries, %v", len(got), err)
	}
	for i := 0; i < len(whole); i += 2 {
		bad := bytes.Clone(whole)
		bad[i] ^= 1
		if err := os.WriteFile(l.File, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
			t.Fatalf("byte %d (%q) changed to %q: %v", i, whole[i], bad[i], err)
		}
	}
	lines := m.Kept
	for n, line := range lines {
		for i := n % 3; i < len(line); i += 3 {
			m.Kept = append([][]byte{}, lines...)
			m.Kept[n] = bytes.Clone(line)
			m.Kept[n][i] ^= 1
			if err := os.WriteFile(l.File, bytes.Join(m.Kept, nil), 0o600); err != nil { // in both
				t.Fatal(err)
			}
			if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
				t.Fatalf("entry %d, byte %d changed in file and book: %v", n+1, i, err)
			}
		}
	}
}

// TestLinesMoved: what is done to the file is found, but for lines missing at its end: they
// are written anew from the book.
func TestLinesMoved(t *testing.T) {
	for _, tt := range []struct {
		name string
		bend func(lines []string) []string
		want string // "": whole again
	}{
		{"first removed", func(l []string) []string { return l[1:] },
			":1: the line is not the one that was written: here stands entry 2"},
		{"middle removed", func(l []string) []string { return append(l[:1:1], l[2:]...) },
			":2: the line is not the one that was written: here stands entry 3"},
		{"last removed", func(l []string) []string { return l[:3] }, ""},
		{"all removed", func([]string) []string { return nil }, ""},
		{"swapped", func(l []string) []string { return []string{l[0], l[2], l[1], l[3]} },
			":2: the line is not the one that was written: here stands entry 3"},
		{"repeated", func(l []string) []string { return append(l, l[3]) },
			":5: entries were added behind the last one"},
		{"rubbish", func(l []string) []string { return append(l, "rubbish") }, ":5: entries were added"},
		{"spaces", func(l []string) []string { l[1] = " " + l[1]; return l },
			":2: the line is not the one that was written: it was edited"},
	} {
		l, _ := filled(t, 3)
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
		if tt.want == "" {
			if again, rerr := os.ReadFile(l.File); err != nil || rerr != nil || !bytes.Equal(again, data) {
				t.Errorf("%s: %v; the file is not whole again (%v)", tt.name, err, rerr)
			}
			continue
		}
		if !errors.Is(err, ledger.ErrBroken) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
	}
}

// TestForged: whoever cannot sign cannot add an entry, whatever else they can write.
func TestForged(t *testing.T) {
	for _, tt := range []struct {
		name  string
		forge func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory)
		want  string
	}{
		{"behind the head, in the file", func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory) {
			copied := &ledgertest.Memory{Kept: slices.Clone(m.Kept), Kinds: slices.Clone(m.Kinds), End: m.End}
			f := &ledger.Ledger{File: l.File, Book: copied, Now: l.Now, By: "ann", Key: l.Key}
			// even with the key: the book knows nothing of it
			if err := f.Append(t.Context(), "change.begin", "mine"); err != nil {
				t.Fatal(err)
			}
		}, "entries were added behind the last one"},
		{"in file and book, signed by a key that nobody enrolled",
			func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory) {
				// A book of their own, in which their key is enrolled, and which ends where ours does.
				own := &ledgertest.Memory{End: m.End, Kinds: []string{ledger.KindKey},
					Kept: [][]byte{fmt.Appendf(nil, `{"body":{"key":%q}}`, ledger.Public(key('e')))}}
				f := &ledger.Ledger{File: filepath.Join(t.TempDir(), "l"), Book: own, Now: l.Now, By: "ann",
					Key: key('e')}
				if err := f.Append(t.Context(), "change.begin", "mine"); err != nil {
					t.Fatal(err)
				}
				m.Kept, m.Kinds, m.End = append(m.Kept, own.Kept[1]), append(m.Kinds, "change.begin"), own.End
				if err := os.WriteFile(l.File, bytes.Join(m.Kept, nil), 0o600); err != nil {
					t.Fatal(err)
				}
			}, "signed by a key that nobody enrolled"},
		{"in file and book, by another key", func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory) {
			f := &ledger.Ledger{File: l.File, Book: m, Now: l.Now, By: "ann", Key: key('e')}
			if err := f.Append(t.Context(), "change.begin", "mine"); !errors.Is(err, ledger.ErrKey) {
				t.Errorf("a key that nobody enrolled appends: %v", err)
			}
			if err := f.Enrol(t.Context(), "w", "person/eve",
				func(ledger.KeyEntry) (string, error) { return "me", nil }); err != nil {
				t.Fatal(err)
			}
		}, "it enrols a further key: not vouched"},
		{"in file and book, unsigned", func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory) {
			f := &ledger.Ledger{File: l.File, Book: m, Now: l.Now, By: "ann"}
			if err := f.Append(t.Context(), "change.begin", "mine"); !errors.Is(err, ledger.ErrKey) {
				t.Errorf("an unsigned entry is appended: %v", err)
			}
			if err := f.AppendWith(t.Context(), ledger.KindKey, "",
				func(ledger.Page) (any, error) {
					return ledger.KeyEntry{Key: ledger.Public(l.Key)},
						nil
				}); err != nil {
				t.Fatal(err)
			}
		}, "the entry is not signed"},
		{"the whole chain anew, by another key", func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory) {
			m.Kept, m.Kinds, m.End = nil, nil, ledger.Head{}
			if err := os.Remove(l.File); err != nil {
				t.Fatal(err)
			}
			f := &ledger.Ledger{File: l.File, Book: m, Now: l.Now, By: "ann", Key: key('e')}
			if err := f.Append(t.Context(), "change.begin", "mine"); err != nil {
				t.Fatal(err)
			}
		}, ""}, // whole in itself: only whoever pinned the key sees it, see Keys
		{"an older store below a newer file", func(t *testing.T, l *ledger.Ledger, m *ledgertest.Memory) {
			m.Kept, m.Kinds = m.Kept[:2], m.Kinds[:2]
			var e ledger.Entry
			_ = json.Unmarshal(m.Kept[1], &e)
			m.End = ledger.Head{Number: 2, Hash: e.Hash, Size: int64(len(m.Kept[0]) + len(m.Kept[1]))}
		}, "or the store is an older one"},
	} {
		l, m := filled(t, 3)
		l.Vouched = func(ledger.KeyEntry) error { return errors.New("not vouched") }
		tt.forge(t, l, m)
		entries, err := l.Read(t.Context())
		if tt.want == "" {
			if keys := ledger.Keys(entries); err != nil || len(keys) != 1 || keys[0] == ledger.Public(l.Key) {
				t.Errorf("%s: %v, keys %v", tt.name, err, keys)
			}
			continue
		}
		if !errors.Is(err, ledger.ErrBroken) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
		if size, err := os.Stat(l.File); err == nil && size.Size() > m.End.Size { // nor is anything put behind it
			if err := l.Append(t.Context(), "test", 1); !errors.Is(err, ledger.ErrBroken) {
				t.Errorf("%s: appending: %v", tt.name, err)
			}
		}
	}
}

// TestVerified: what was verified before, up to a head that is kept outside, is not checked
// by its signatures again, and is no less proven: another head, and all are.
func TestVerified(t *testing.T) {
	l, m := filled(t, 5)
	entries, err := l.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	forge := func(at int) { // an entry with a signature that is none, its chain made anew behind it
		prev, size := "", int64(0)
		m.Kept = nil
		for i, e := range entries {
			if e.Prev = prev; i == at {
				e.Body = json.RawMessage(`"forged"`)
			}
			e.Hash = sumOf(&e)
			line, _ := json.Marshal(e)
			line = append(line, '\n')
			prev, size = e.Hash, size+int64(len(line))
			m.Kept = append(m.Kept, line)
			m.End = ledger.Head{Number: e.Number, Hash: e.Hash, Size: size}
		}
		if err := os.WriteFile(l.File, bytes.Join(m.Kept, nil), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	l.Verified = ledger.Head{Number: 4, Hash: entries[3].Hash}
	forge(-1)
	if got, err := l.Read(t.Context()); err != nil || len(got) != 6 {
		t.Errorf("untouched: %d entries, %v", len(got), err)
	}
	for _, head := range []int{4, len(entries)} { // also where nothing came after it
		l.Verified = ledger.Head{Number: head, Hash: entries[head-1].Hash}
		for at := range entries {
			forge(at)
			if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
				t.Errorf("entry %d forged, with head %d verified before: %v", at+1, head, err)
			}
		}
	}
}

// TestFurtherKey: a person's word enrols a key, for one place in one ledger.
func TestFurtherKey(t *testing.T) {
	l, m := filled(t, 2)
	other := &ledger.Ledger{File: l.File, Book: m, Now: l.Now, By: "bo", Key: key('o')}
	vouch := func(k ledger.KeyEntry) string {
		return fmt.Sprint("word of ", k.By, " for ", k.Key, " in ", k.Workspace, " after ", k.After)
	}
	if err := other.Enrol(t.Context(), "w", "person/bo",
		func(k ledger.KeyEntry) (string, error) { return vouch(k), nil }); err != nil {
		t.Fatal(err)
	}
	for _, one := range []*ledger.Ledger{other, l} { // both may go on
		if err := one.Append(t.Context(), "test", one.By); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) ||
		!strings.Contains(err.Error(), "cannot be checked here") {
		t.Errorf("nobody checked the word: %v", err)
	}
	l.Vouched = func(k ledger.KeyEntry) error {
		if k.Signature != vouch(k) {
			return errors.New("not vouched")
		}
		return nil
	}
	// A word that was given for another place in the ledger is not taken.
	moved := &ledger.Ledger{File: filepath.Join(t.TempDir(), "l"),
		Book: &ledgertest.Memory{Kept: slices.Clone(m.Kept), Kinds: slices.Clone(m.Kinds), End: m.End}, Now: l.Now,
		By: "bo", Key: key('p'), Vouched: l.Vouched}
	err := moved.AppendWith(t.Context(), ledger.KindKey, "person/bo", func(ledger.Page) (any, error) {
		k := ledger.KeyEntry{Key: ledger.Public(key('p')), Workspace: "w", After: "an earlier entry", By: "person/bo"}
		k.Signature = vouch(k)
		return k, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := moved.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) ||
		!strings.Contains(err.Error(), "vouched for elsewhere") {
		t.Errorf("a word for another place: %v", err)
	}
	entries, err := l.Read(t.Context())
	if err != nil || len(entries) != 6 || len(ledger.Keys(entries)) != 2 || entries[3].By != "person/bo" {
		t.Errorf("%d entries, %v", len(entries), err)
	}
}

// TestNoKey: an entry that says it enrols a key, and names none, is not taken for one that nobody signed.
func TestNoKey(t *testing.T) {
	m := &ledgertest.Memory{}
	l := &ledger.Ledger{File: filepath.Join(t.TempDir(), "l"), Book: m, Now: time.Now, By: "ann"}
	for _, k := range []ledger.KeyEntry{{}, {Key: ledger.Public(key('e'))}} {
		m.Kept, m.Kinds, m.End = nil, nil, ledger.Head{}
		os.Remove(l.File)
		body := func(ledger.Page) (any, error) { return k, nil }
		if err := l.AppendWith(t.Context(), ledger.KindKey, "", body); err != nil {
			t.Fatal(err)
		}
		if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) ||
			!strings.Contains(err.Error(), "enrols no key") {
			t.Errorf("key %q: %v", k.Key, err)
		}
	}
}

// TestCrash: a process that was killed between book and file left a file that is behind,
// perhaps inside a line; whoever comes next writes what is missing.
func TestCrash(t *testing.T) {
	for cut := 1; cut < 700; cut += 7 {
		l, _ := filled(t, 2)
		whole, err := os.ReadFile(l.File)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Truncate(l.File, int64(max(0, len(whole)-cut))); err != nil {
			t.Fatal(err)
		}
		if cut%2 == 0 {
			if got, err := l.Read(t.Context()); err != nil || len(got) != 3 {
				t.Fatalf("%d bytes short: %d entries, %v", cut, len(got), err)
			}
		}
		if err := l.Append(t.Context(), "test", 3); err != nil {
			t.Fatal(err)
		}
		if got, err := l.Read(t.Context()); err != nil || len(got) != 4 || got[3].Number != 4 {
			t.Fatalf("%d bytes short: %d entries, %v", cut, len(got), err)
		}
		if now, err := os.ReadFile(l.File); err != nil || !bytes.HasPrefix(now, whole) {
			t.Fatalf("%d bytes short: the file is not what was written", cut)
		}
	}
}

// TestUnwritableFile: the entry is kept, the caller hears of the file, and it is written
// later.
func TestUnwritableFile(t *testing.T) {
	l, _ := filled(t, 1)
	good := l.File
	l.File = filepath.Join(good, "not", "a", "folder")
	if err := l.Append(t.Context(), "test", 1); err == nil {
		t.Error("no word of the file")
	}
	l.File = good
	if err := l.Append(t.Context(), "test", 2); err != nil {
		t.Fatal(err)
	}
	if got, err := l.Read(t.Context()); err != nil || len(got) < 3 {
		t.Errorf("%d entries, %v", len(got), err)
	}
}

// TestNothingToCatchUp: reading a ledger in which nothing stands makes no file, and a file of before
// that is gone is told as that.
func TestNothingToCatchUp(t *testing.T) {
	l, m := empty(t)
	if got, err := l.Read(t.Context()); err != nil || len(got) != 0 {
		t.Errorf("%d entries, %v", len(got), err)
	}
	if _, err := os.Stat(l.File); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file was made: %v", err)
	}
	m.Old = "2 abc"
	if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) ||
		!strings.Contains(err.Error(), "ends after entry 0") {
		t.Errorf("the file of before is gone: %v", err)
	}
	if err := os.Mkdir(l.File, 0o700); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Read(t.Context()); err == nil || errors.Is(err, ledger.ErrBroken) {
		t.Errorf("the file of before cannot be read: %v", err)
	}
}

// TestTogether: many append at once; none is lost, and the file is what the book says.
func TestTogether(t *testing.T) {
	l, m := filled(t, 1)
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			for range 10 {
				if err := l.Append(t.Context(), "test", i); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	got, err := l.Read(t.Context())
	data, rerr := os.ReadFile(l.File)
	if err != nil || rerr != nil || len(got) != 82 || !bytes.Equal(data, bytes.Join(m.Kept, nil)) {
		t.Errorf("%d entries, %v, %v", len(got), err, rerr)
	}
}

// TestBefore: the file of an earlier program, whose head was kept apart, is taken over up
// to that head.
func TestBefore(t *testing.T) {
	const one = `{"n":1,"at":"2026-11-24T08:00:00Z","by":"ann","kind":"change.begin","body":{"id":"c-1"},"prev":"","hash":"7ce5c6a7f26b7ce9d6a7c7ae0a8a84c1c5a5f9f3c2d1d1c5e8ed5b4e8cf0f1b2"}`
	old, _ := empty(t)
	old.Key = nil
	for i := range 3 {
		if err := old.Append(t.Context(), "test", i); err != nil {
			t.Fatal(err)
		}
	}
	data, err := os.ReadFile(old.File)
	if err != nil {
		t.Fatal(err)
	}
	entries, err := old.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name, head string
		file       []byte
		want       int
		fault      string
	}{
		{"whole", fmt.Sprint("3 ", entries[2].Hash), data, 3, ""},
		{"killed before the head was kept", fmt.Sprint("2 ", entries[1].Hash), data, 2, ""},
		{"killed inside a line", fmt.Sprint("3 ", entries[2].Hash), append(bytes.Clone(data), `{"n":4,"at":"2026`...),
			3, ""},
		{"cut off", fmt.Sprint("3 ", entries[2].Hash), data[:len(data)/2], 0, "but entry 3 was written"},
		{"another", fmt.Sprint("3 ", entries[0].Hash), data, 0, "entry 3 is not the one that was written"},
		{"gone", fmt.Sprint("3 ", entries[2].Hash), nil, 0, "ends after entry 0"},
		{"no head", "what", data, 0, "makes no sense"},
		{"a head of nothing", fmt.Sprint("0 ", entries[0].Hash), data, 0, "makes no sense"},
		{"a head before the first", fmt.Sprint("-1 ", entries[0].Hash), data, 0, "makes no sense"},
		{"rewritten", fmt.Sprint("1 ", entries[0].Hash), []byte(one + "\n"), 0, "its hash does not match"},
		{"a store that knows nothing", "", data, 0, "or the store is an older one"},
	} {
		l, m := empty(t)
		m.Old = tt.head
		if err := os.WriteFile(l.File, tt.file, 0o600); err != nil {
			t.Fatal(err)
		}
		got, err := l.Read(t.Context())
		if tt.fault != "" {
			if !errors.Is(err, ledger.ErrBroken) || !strings.Contains(err.Error(), tt.fault) {
				t.Errorf("%s: %v, want %q", tt.name, err, tt.fault)
			}
			continue
		}
		if err != nil || len(got) != tt.want {
			t.Errorf("%s: %d entries, %v", tt.name, len(got), err)
		}
		if err := l.Append(t.Context(), "test", "signed from now on"); err != nil {
			t.Errorf("%s: %v", tt.name, err)
		}
		if got, err = l.Read(t.Context()); err != nil || len(got) != tt.want+2 || got[tt.want].Kind != ledger.KindKey {
			t.Errorf("%s, going on: %d entries, %v", tt.name, len(got), err)
		}
	}
}

// FuzzRead: whatever stands in book and file, reading says what is whole or where it
// breaks, and an entry appended to what is whole keeps it whole.
func FuzzRead(f *testing.F) {
	f.Add([]byte("{}\n"))
	f.Add([]byte(`{"n":1,"at":"2026-11-24T08:00:00Z","by":"x","kind":"k","body":1,"prev":"","hash":"h"}` + "\n"))
	f.Add([]byte(`{"n":1,"at":"2026-11-24T08:00:00Z","by":"x","kind":"ledger.key","body":{"key":"AA=="},"prev":"","hash":"h","key":"AA==","sig":"AA=="}` + "\n"))
	f.Add([]byte("torn"))
	f.Fuzz(func(t *testing.T, in []byte) {
		m := &ledgertest.Memory{}
		for _, line := range bytes.SplitAfter(in, []byte("\n")) {
			if len(line) > 0 {
				var e ledger.Entry
				_ = json.Unmarshal(line, &e)
				m.Kept, m.Kinds = append(m.Kept, line), append(m.Kinds, e.Kind)
				m.End = ledger.Head{Number: len(m.Kept), Hash: e.Hash, Size: m.End.Size + int64(len(line))}
			}
		}
		l := &ledger.Ledger{File: filepath.Join(t.TempDir(), "l"), Book: m, Now: time.Now, By: "x"}
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
		l.Key = key('k')
		if err := l.Append(t.Context(), "k", "body"); err != nil {
			if errors.Is(err, ledger.ErrKey) {
				return
			}
			t.Fatal(err)
		}
		if now, err := l.Read(t.Context()); err != nil || len(now) <= len(old) {
			t.Fatalf("%d entries became %d, %v", len(old), len(now), err)
		}
	})
}

// TestReadAgain: who reads a ledger again in the same process is told what one is who never did, though what was
// checked is not checked again: as it grows, where what was checked is changed, and where signatures were not looked
// at.
func TestReadAgain(t *testing.T) {
	l, m := filled(t, 2)
	fresh := func() *ledger.Ledger {
		return &ledger.Ledger{File: l.File, Book: m, Now: l.Now, By: l.By, Key: l.Key, Verified: l.Verified}
	}
	for n := range 6 {
		again, err := l.Read(t.Context())
		first, ferr := fresh().Read(t.Context())
		if err != nil || ferr != nil || !reflect.DeepEqual(again, first) || len(again) != 3+n {
			t.Fatalf("%d entries, %v; for whoever never read it %d, %v", len(again), err, len(first), ferr)
		}
		own := append(again, ledger.Entry{Kind: "the caller's own"}) // nobody else sees it, or writes over it
		if err := l.Append(t.Context(), "test", n); err != nil {
			t.Fatal(err)
		}
		if _, err := l.Read(t.Context()); err != nil || own[len(own)-1].Kind != "the caller's own" {
			t.Fatalf("%+v, %v", own[len(own)-1], err)
		}
	}
	lines, end := m.Kept, m.End
	write := func(kept [][]byte) {
		t.Helper()
		m.Kept = kept
		if err := os.WriteFile(l.File, bytes.Join(kept, nil), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for n, line := range lines {
		for i := 0; i < len(line); i += 7 {
			write(lines)
			if _, err := l.Read(t.Context()); err != nil {
				t.Fatal(err)
			}
			bad := slices.Clone(lines)
			bad[n] = bytes.Clone(line)
			bad[n][i] ^= 1
			write(bad)
			if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
				t.Fatalf("entry %d, byte %d, changed since it was read: %v", n+1, i, err)
			}
		}
	}
	// Shorter than it was read, with its head.
	write(lines)
	if _, err := l.Read(t.Context()); err != nil {
		t.Fatal(err)
	}
	write(lines[:4])
	if _, err := l.Read(t.Context()); !errors.Is(err, ledger.ErrBroken) {
		t.Errorf("cut short since it was read: %v", err)
	}
	// What was taken on the word of a head is looked at by whoever has none.
	entries, err := func() ([]ledger.Entry, error) { write(lines); return l.Read(t.Context()) }()
	if err != nil {
		t.Fatal(err)
	}
	entries[2].Sig = entries[3].Sig
	line, err := json.Marshal(entries[2])
	if err != nil {
		t.Fatal(err)
	}
	forged := slices.Clone(lines)
	forged[2] = append(line, '\n')
	for i := range forged {
		end.Size += int64(len(forged[i]) - len(lines[i]))
	}
	m.End = end
	write(forged)
	l = fresh()
	l.Verified = ledger.Head{Number: 6, Hash: entries[5].Hash}
	if _, err := l.Read(t.Context()); err != nil {
		t.Fatalf("its hashes hold: %v", err)
	}
	l.Verified = ledger.Head{}
	_, err = l.Read(t.Context())
	if !errors.Is(err, ledger.ErrBroken) || !strings.Contains(err.Error(), "signature") {
		t.Errorf("a signature that was not checked before does not hold: %v", err)
	}
	// And so is what came since, where the head that is trusted is another ledger's.
	whole := m.End
	for _, head := range []string{entries[5].Hash, entries[4].Hash} {
		write(forged[:2])
		m.End = ledger.Head{Number: 2, Hash: entries[1].Hash, Size: int64(len(lines[0]) + len(lines[1]))}
		l = fresh()
		l.Verified = ledger.Head{}
		if _, err := l.Read(t.Context()); err != nil {
			t.Fatal(err)
		}
		write(forged)
		m.End = whole
		l.Verified = ledger.Head{Number: 6, Hash: head}
		if _, err := l.Read(t.Context()); (err == nil) != (head == entries[5].Hash) {
			t.Errorf("with a head that is, or is not, this ledger's: %v", err)
		}
	}
}
