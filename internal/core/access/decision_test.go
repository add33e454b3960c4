package access

import (
	"testing"

	"clipfence/internal/core/model"
)

// TestShared: how deep the node is that a path and the nearest of some places share.
func TestShared(t *testing.T) {
	for _, tt := range []struct {
		places []string
		path   string
		want   int
	}{
		{[]string{"/s/a:1/b:2/**"}, "/s/a:1/b:3", 2},
		{[]string{"/s/a:1/b:2/**"}, "/s/a:2", 1},
		{[]string{"/s/a:1/b:2"}, "/s/a:1/b:2", 3},
		{[]string{"/s/a:2", "/s/a:1/b:*/**"}, "/s/a:1/c:1/d:1", 2},
		{[]string{"/t/**"}, "/s/a:1", 0},
		{[]string{"/*/a:1"}, "/s/a:1", 0},
		{nil, "/s/a:1", 0},
	} {
		var on []model.PathPattern
		for _, p := range tt.places {
			on = append(on, model.MustPathPattern(p))
		}
		if got := Shared(on, model.MustPath(tt.path)); got != tt.want {
			t.Errorf("%v and %s share %d, want %d", tt.places, tt.path, got, tt.want)
		}
	}
}
