package judge_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
	"clipfence/internal/source/files"
)

// TestSystemsDecideAsTheyDo holds hand-written small estates of real kinds of
// system against what those systems answer, line by line.
func TestSystemsDecideAsTheyDo(t *testing.T) {
	names, err := filepath.Glob("testdata/systems/*.yaml")
	if err != nil || len(names) != 4 {
		t.Fatalf("%d estates, want 4: %v", len(names), err)
	}
	ctx := model.Context{Time: time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		e, err := files.ParseEstate(name, data)
		if err != nil {
			t.Error(err)
			continue
		}
		table := strings.TrimSuffix(name, ".yaml") + ".decisions"
		text, err := os.ReadFile(table)
		if err != nil {
			t.Fatal(err)
		}
		g := plain.New(&e.Estate)
		n := 0
		for i, line := range strings.Split(string(text), "\n") {
			f := strings.Fields(line)
			if len(f) == 0 || f[0] == "#" {
				continue
			}
			n++
			id, err1 := model.ParseID(f[1])
			p, err2 := model.ParsePermission(f[2])
			path, err3 := model.ParsePath(f[3])
			if err1 != nil || err2 != nil || err3 != nil {
				t.Fatalf("%s:%d: %v %v %v", table, i+1, err1, err2, err3)
			}
			if _, ok := g.Entry(p); !ok {
				t.Errorf("%s:%d: %s is not in the catalogue", table, i+1, p)
			}
			if got := strings.ReplaceAll(g.Decide(id, p, path, ctx).Outcome.String(), " ", "-"); got != f[0] {
				t.Errorf("%s:%d: %s %s %s: %s, want %s", table, i+1, id, p, path, got, f[0])
			}
		}
		if n < 10 {
			t.Errorf("%s: only %d decisions", table, n)
		}
	}
}
