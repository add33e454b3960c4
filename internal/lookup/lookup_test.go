package lookup_test

import (
	"bytes"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/lookup"
)

// all yields lines.
func all(lines []lookup.Line) iter.Seq2[lookup.Line, error] {
	return func(yield func(lookup.Line, error) bool) {
		for _, l := range lines {
			if !yield(l, nil) {
				return
			}
		}
	}
}

// TestGet: of files of any size each key is found, and no other; so are names that look like what stands between them.
func TestGet(t *testing.T) {
	file := filepath.Join(t.TempDir(), "f")
	for _, n := range []int{0, 1, 2, 3, 7, 500} {
		r := rand.New(rand.NewPCG(uint64(n), 3))
		want := map[string]string{}
		for i := range n {
			key := fmt.Sprint("person/", r.IntN(10*n), strings.Repeat("x", r.IntN(5)))
			want[key] = fmt.Sprintf(`{"n":%d,"more":%q}`, i, strings.Repeat("y", r.IntN(300)))
		}
		if n > 5 {
			for i, key := range []string{"a\tb", "a\nb", "\x00", `"`, `\`, "\xff", "\xfe", "\ufffd", "ö", "a\u2028b"} {
				want[key] = fmt.Sprint(i)
			}
		}
		var lines []lookup.Line
		for k, v := range want {
			lines = append(lines, lookup.Line{Key: k, Body: []byte(v)})
		}
		slices.SortFunc(lines, func(a, b lookup.Line) int { return lookup.Compare(a.Key, b.Key) })
		if err := lookup.Write(file, []byte(`"it"`), all(lines)); err != nil {
			t.Fatal(err)
		}
		f, err := lookup.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if head, err := f.Head(); err != nil || string(head) != `"it"` {
			t.Errorf("%d lines: it is of %s, %v", n, head, err)
		}
		for k, v := range want {
			if got, found, err := f.Get(k); err != nil || !found || string(got) != v {
				t.Errorf("%d lines: %q is %s %v %v, want %s", n, k, got, found, err, v)
			}
		}
		seen := 0
		for l, err := range f.All() {
			if seen++; err != nil || want[l.Key] != string(l.Body) {
				t.Errorf("%d lines: %q is %s, %v", n, l.Key, l.Body, err)
			}
		}
		if seen != len(want) {
			t.Errorf("%d of %d lines", seen, len(want))
		}
		for _, k := range []string{"person/", "person/1y", "zzz", "\x01", "\xfd"} {
			if got, found, err := f.Get(k); found || err != nil {
				t.Errorf("%d lines: %q is %s %v", n, k, got, err)
			}
		}
	}
}

// TestWhole: a file is written as a whole or not at all, and nothing lies beside it.
func TestWhole(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "f")
	if err := lookup.Write(file, []byte("1"), all(nil)); err != nil {
		t.Fatal(err)
	}
	one := []byte("{}")
	for what, lines := range map[string][]lookup.Line{"of two lines": {{Key: "a", Body: []byte("{\n}")}},
		"out of order": {{Key: "b", Body: one}, {Key: "a", Body: one}},
		"twice":        {{Key: "a", Body: one}, {Key: "a", Body: one}}} {
		if err := lookup.Write(file, []byte("2"), all(lines)); err == nil {
			t.Errorf("what is %s is written", what)
		}
	}
	failed := errors.New("it failed")
	if err := lookup.Write(file, []byte("2"), func(yield func(lookup.Line, error) bool) {
		_ = yield(lookup.Line{Key: "a", Body: one}, nil) && yield(lookup.Line{}, failed)
	}); !errors.Is(err, failed) {
		t.Errorf("what fails is written: %v", err)
	}
	f, err := lookup.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if head, err := f.Head(); err != nil || string(head) != "1" {
		t.Errorf("it is of %s, %v", head, err)
	}
	if list, err := os.ReadDir(dir); err != nil || len(list) != 1 {
		t.Errorf("there are %v, %v", list, err)
	}
	if _, err := lookup.Open(filepath.Join(dir, "none")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("of none: %v", err)
	}
}

// FuzzDamaged: whatever becomes of a file, what is read of it is what was written or an error, and never of another
// key.
func FuzzDamaged(f *testing.F) {
	file := filepath.Join(f.TempDir(), "f")
	var lines []lookup.Line
	for i := range 40 {
		lines = append(lines, lookup.Line{Key: fmt.Sprint("k", i), Body: fmt.Appendf(nil, `{"of":"k%d"}`, i)})
	}
	slices.SortFunc(lines, func(a, b lookup.Line) int { return lookup.Compare(a.Key, b.Key) })
	if err := lookup.Write(file, []byte("{}"), all(lines)); err != nil {
		f.Fatal(err)
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(0, byte(0), 0)
	f.Add(11, byte('x'), 3)
	f.Add(900, byte('\n'), 100)
	f.Add(0, byte(0), len(whole))
	f.Add(300, byte('\t'), 1)
	f.Fuzz(func(t *testing.T, at int, b byte, cut int) {
		data := bytes.Clone(whole)
		data[uint(at)%uint(len(data))] = b
		data = data[:uint(len(data))-uint(cut)%uint(len(data))]
		broken := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(broken, data, 0o600); err != nil {
			t.Fatal(err)
		}
		f, err := lookup.Open(broken)
		if uint(cut)%uint(len(whole)) > 0 && err == nil {
			t.Fatal("a file without its end is opened")
		}
		if errors.Is(err, lookup.ErrDamaged) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		seen := 0
		for l, err := range f.All() {
			if want := fmt.Sprintf(`{"of":"%s"}`, l.Key); err == nil && string(l.Body) != want ||
				err != nil && !errors.Is(err, lookup.ErrDamaged) {
				t.Fatalf("%s is %s %v", l.Key, l.Body, err)
			}
			if seen++; err != nil {
				seen = 40
			}
		}
		if seen < 40 {
			t.Fatalf("%d lines, and no error", seen)
		}
		for i := range 40 {
			key := fmt.Sprint("k", i)
			got, found, err := f.Get(key)
			if want := fmt.Sprintf(`{"of":"%s"}`, key); found && string(got) != want || found == (err != nil) ||
				err != nil && !errors.Is(err, lookup.ErrDamaged) {
				t.Fatalf("%s is %s %v %v", key, got, found, err)
			}
		}
	})
}

// TestPack: what is packed is unpacked as it was, and what is no such thing is [lookup.ErrDamaged].
func TestPack(t *testing.T) {
	for _, text := range []string{"", "a", strings.Repeat("path/of/something ", 5000)} {
		b, err := lookup.Pack([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := lookup.Unpack(b); err != nil || string(got) != text {
			t.Errorf("%d bytes are %d, %v", len(text), len(got), err)
		}
		for _, bad := range [][]byte{b[:len(b)-1], append([]byte("x"), b...)} {
			if got, err := lookup.Unpack(bad); len(b) > 0 && !errors.Is(err, lookup.ErrDamaged) {
				t.Errorf("what is damaged is %q, %v", got, err)
			}
		}
	}
}

// TestSweep: what a process left behind that was killed is taken away by who writes next, and nothing else is.
func TestSweep(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a[b]*")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for name, ago := range map[string]time.Duration{".lookup-1": 2 * time.Hour, ".lookup-2": time.Minute,
		"lookup-3": 2 * time.Hour, ".other": 2 * time.Hour} {
		at := filepath.Join(dir, name)
		if err := os.WriteFile(at, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(at, time.Time{}, time.Now().Add(-ago)); err != nil {
			t.Fatal(err)
		}
	}
	if err := lookup.Write(filepath.Join(dir, "f"), []byte("1"), all(nil)); err != nil {
		t.Fatal(err)
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, e := range list {
		names = append(names, e.Name())
	}
	if got := strings.Join(names, " "); got != ".lookup-2 .other f lookup-3" {
		t.Errorf("there are %s", got)
	}
}
