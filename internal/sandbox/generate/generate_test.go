package generate

import (
	"context"
	"testing"
	"time"
)

func TestQuick(t *testing.T) {
	dir := t.TempDir()
	f := Estate(Options{Seed: 1, Days: 200, Until: time.Date(2026, 11, 24, 4, 0, 0, 0, time.UTC)})
	start := time.Now()
	w, err := Write(context.Background(), dir, f, nil)
	t.Log(w, err, time.Since(start))
	n := map[string]int{}
	for k, v := range f.Docs {
		n[k] = len(v)
	}
	t.Log(n)
}
