package generate_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/sandbox"
	"clipfence/internal/sandbox/generate"
)

var until = time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)

// TestSameSeedSameBytes: an estate and its log follow from the seed alone.
func TestSameSeedSameBytes(t *testing.T) {
	sum := func(seed uint64) string {
		dir := t.TempDir()
		if _, err := generate.Write(t.Context(), dir,
			generate.Estate(generate.Options{Seed: seed, Days: 12, Until: until}), nil); err != nil {
			t.Fatal(err)
		}
		h := sha256.New()
		err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.Contains(name, "mooring.db") {
				return err
			}
			b, err := os.ReadFile(name)
			h.Write([]byte(filepath.Base(name)))
			h.Write(b)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		return hex.EncodeToString(h.Sum(nil))
	}
	if a, b := sum(1), sum(1); a != b {
		t.Error("the same seed makes different bytes")
	}
	if sum(1) == sum(2) {
		t.Error("different seeds make the same bytes")
	}
}

// TestTernhaven: the sample estate has the size and the life that is promised of it.
func TestTernhaven(t *testing.T) {
	f := generate.Estate(generate.Options{Seed: 1, Days: 200, Until: until})
	n := map[string]int{}
	for id := range f.World.Identities {
		kind, _, _ := strings.Cut(id, "/")
		n[kind]++
	}
	for _, node := range f.Docs[sandbox.KindNode] {
		if p := node.(*sandbox.Node).Path; strings.Contains(p, "/berth:") && strings.Count(p, "/") == 4 {
			n["berth"]++
		}
	}
	for what, want := range map[string][2]int{"person": {55, 65}, "workload": {85, 95}, "group": {22, 28},
		"berth": {12, 12}} {
		if n[what] < want[0] || n[what] > want[1] {
			t.Errorf("%d of %s, want %d to %d", n[what], what, want[0], want[1])
		}
	}
	kinds := map[string]bool{}
	for _, p := range f.Truth.Planted {
		kinds[p.Kind] = true
	}
	if len(kinds) < 7 || len(f.Truth.Keep) < 8 {
		t.Errorf("planted %v, %d to keep", kinds, len(f.Truth.Keep))
	}
	// Nobody needs what they are not allowed.
	for _, need := range f.Truth.Needs {
		if v := f.World.Decide(need.Identity, need.Permission, need.Where,
			sandbox.CallContext{Time: until, SecondFactor: true}); !v.Allowed {
			t.Errorf("%s needs %s on %s: %s", need.Identity, need.Permission, need.Where, v.Because)
		}
	}
}

func TestWriteIsCareful(t *testing.T) {
	dir := t.TempDir()
	f := generate.Estate(generate.Options{Seed: 1, Days: 3, Until: until})
	if _, err := generate.Write(t.Context(), dir, f, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := generate.Write(t.Context(), dir, f, nil); err == nil ||
		!strings.Contains(err.Error(), "holds a Mooring already") {
		t.Errorf("over another Mooring: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := generate.Write(ctx, t.TempDir(), f, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}
