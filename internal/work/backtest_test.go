package work

import (
	"testing"
	"time"

	"clipfence/internal/core/model"
)

// TestAsOf: what is known today of an account that somebody asks about as of an earlier day. One that
// signed in since may have signed in before as well.
func TestAsOf(t *testing.T) {
	at := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	before, after := at.AddDate(0, 0, -5), at.AddDate(0, 0, 5)
	for _, tt := range []struct {
		name   string
		is     model.Identity
		called bool
		want   model.Identity
	}{
		{"old", model.Identity{Created: before, LastSeen: before}, false,
			model.Identity{Created: before, LastSeen: before}},
		{"never seen", model.Identity{Created: before}, false, model.Identity{Created: before}},
		{"seen since", model.Identity{Created: before, LastSeen: after}, false,
			model.Identity{Created: before, LastSeen: at}},
		{"made since", model.Identity{Created: after, LastSeen: after}, true,
			model.Identity{Created: at, LastSeen: at}},
		{"closed", model.Identity{Disabled: true}, false, model.Identity{Disabled: true}},
		{"closed since", model.Identity{Disabled: true}, true, model.Identity{}},
	} {
		got := asOf(tt.is, at, tt.called)
		if !got.Created.Equal(tt.want.Created) || !got.LastSeen.Equal(tt.want.LastSeen) ||
			got.Disabled != tt.want.Disabled {
			t.Errorf("%s: %+v, want %+v", tt.name, got, tt.want)
		}
	}
}
