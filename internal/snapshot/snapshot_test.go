package snapshot_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/snapshot"
)

func estate() *model.Estate {
	e := &model.Estate{Source: "s", Catalogue: model.Catalogue{{Permission: model.MustPermission("a/x:get"),
		Level: model.Read}, {Permission: model.MustPermission("b/x:get"), Level: model.Change}}}
	for i := range 30 {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/s/a:%d", i)),
			Labels: map[string]string{"n": fmt.Sprint(i % 3)}})
		e.Identities = append(e.Identities, model.Identity{ID: model.MustID(fmt.Sprintf("person/%d", i))})
		e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprint(i), To: model.MustID(fmt.Sprintf("person/%d", i)),
			Rights: model.Permissions(model.MustPermission("a/x:get")),
			Where:  []model.PathPattern{model.MustPathPattern(fmt.Sprintf("/s/a:%d/**", i))}})
	}
	return e
}

func write(t *testing.T) (file string, data []byte) {
	t.Helper()
	x, err := index.Build(estate())
	if err != nil {
		t.Fatal(err)
	}
	file = filepath.Join(t.TempDir(), "deep", "s.index")
	if err := snapshot.Write(file, "survey 1", x); err != nil {
		t.Fatal(err)
	}
	if data, err = os.ReadFile(file); err != nil {
		t.Fatal(err)
	}
	return file, data
}

func TestWriteAndOpen(t *testing.T) {
	file, _ := write(t)
	f, err := snapshot.Open(file, "survey 1")
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range map[int]access.Outcome{7: access.Allowed, 8: access.Denied} {
		if got := f.Decide(model.MustID("person/7"), model.MustPermission("a/x:get"),
			model.MustPath(fmt.Sprintf("/s/a:%d/new", i)), model.Context{}).Outcome; got != want {
			t.Errorf("person/7 on a:%d: %s", i, got)
		}
	}
	if err := f.Close(); err != nil {
		t.Error(err)
	}
	left, err := filepath.Glob(filepath.Join(filepath.Dir(file), ".snapshot-*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// TestNeverTrusted damages a file in every way that comes to mind: an answer is given
// from the file as it was written, or none.
func TestNeverTrusted(t *testing.T) {
	file, good := write(t)
	try := func(name string, data []byte, key string, want error) {
		t.Helper()
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
		f, err := snapshot.Open(file, key)
		if !errors.Is(err, want) {
			t.Errorf("%s: %v, want %v", name, err, want)
		}
		if err == nil {
			f.Close()
		}
	}
	try("as written", good, "survey 1", nil)
	try("another survey", good, "survey 2", snapshot.ErrOther)
	try("empty", nil, "survey 1", snapshot.ErrDamaged)
	try("text", []byte("hello, this is no snapshot at all"), "survey 1", snapshot.ErrDamaged)
	version := append([]byte(nil), good...)
	version[16]++
	try("another version", version, "survey 1", snapshot.ErrOther)
	for _, n := range []int{1, 20, 100, 4096, len(good) / 2, len(good) - 1, len(good) - 64} {
		f, err := cut(file, good, n)
		if err == nil { // only what pads the last page may be missing
			f.Close()
			if n < len(good)-64 {
				t.Errorf("cut to %d bytes it opens", n)
			}
		} else if !errors.Is(err, snapshot.ErrDamaged) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
	// One bit, anywhere: found, or in the padding between columns, where it says nothing.
	opened := 0
	for at := 0; at < len(good); at += 7 {
		bad := append([]byte(nil), good...)
		bad[at] ^= 1 << (at % 8)
		if err := os.WriteFile(file, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		f, err := snapshot.Open(file, "survey 1")
		if err == nil {
			opened++
			if good[at] != 0 {
				t.Errorf("a bit of byte %d is turned and nobody notices", at)
			}
			f.Close()
		}
	}
	if opened*7 > len(good)/2 {
		t.Errorf("%d of %d turned bits were not noticed", opened, len(good)/7)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if _, err := snapshot.Open(file, "survey 1"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("no file: %v", err)
	}
}

func cut(file string, data []byte, n int) (*snapshot.File, error) {
	if err := os.WriteFile(file, data[:n], 0o600); err != nil {
		return nil, err
	}
	return snapshot.Open(file, "survey 1")
}

// FuzzOpen opens whatever bytes there are: no panic, and no answer from what is not as
// it was written.
func FuzzOpen(f *testing.F) {
	x, err := index.Build(estate())
	if err != nil {
		f.Fatal(err)
	}
	file := filepath.Join(f.TempDir(), "s.index")
	if err := snapshot.Write(file, "k", x); err != nil {
		f.Fatal(err)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Add(data[:5000])
	f.Add([]byte("CLIPFENCE INDEX\n\x01\x00\x00\x00\x02\x00\x00\x00{}\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		name := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
		s, err := snapshot.Open(name, "k")
		if err != nil {
			return
		}
		if s.Decide(model.MustID("person/7"), model.MustPermission("a/x:get"), model.MustPath("/s/a:8"),
			model.Context{}).Outcome != access.Denied {
			t.Error("an answer from bytes that nobody wrote")
		}
		s.Close()
	})
}
