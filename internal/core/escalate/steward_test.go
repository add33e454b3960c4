package escalate

import (
	"fmt"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestOrphans: a node is left without anybody who hands out rights when the last person goes who can sign in and may;
// a closed account, a workload and whoever does not count do not, and an account that is closed then does no more.
func TestOrphans(t *testing.T) {
	const two = "person/a may id/grant:create on /s/harbour:o/**; " +
		"person/b may id/grant:create on /s/harbour:o/berth:p/**; workload/w may id/grant:create on /s/harbour:o/**"
	const both = "/s/harbour:o /s/harbour:o/berth:p"
	for _, tt := range []struct {
		name      string
		closed    string // before
		goes      string // a grant
		closes    string // an account
		but, want string
	}{
		{"the one of the top", "", "g-1", "", "", "/s/harbour:o"},
		{"one of two", "", "g-2", "", "", ""},
		{"the last that is not closed", "person/b", "g-1", "", "", both},
		{"one that is closed already", "person/a", "g-1", "", "", ""},
		{"the account and not the grant", "", "", "person/a", "", "/s/harbour:o"},
		{"the last beside one that does not count", "", "g-1", "", "person/b", both},
		{"a workload", "", "g-3", "", "", ""},
	} {
		e := scene(t, two)
		e.Nodes = e.Nodes[:2] // rights are handed out on these
		closed := func(e *model.Estate, id string) {
			for i := range e.Identities {
				if id != "" && e.Identities[i].ID == model.MustID(id) {
					e.Identities[i].Disabled = true
				}
			}
		}
		closed(e, tt.closed)
		before, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		var but []model.ID
		if tt.but != "" {
			but = []model.ID{model.MustID(tt.but)}
		}
		var after []*index.Index // as a view, and read anew
		var gone access.Edit
		if tt.goes != "" {
			gone.Gone.Grants = []string{tt.goes}
			view, err := before.With(gone)
			if err != nil {
				t.Fatal(err)
			}
			after = append(after, view)
		}
		left := *e
		left.Identities = append([]model.Identity(nil), e.Identities...)
		closed(&left, tt.closes)
		left.Grants = nil
		for _, g := range e.Grants {
			if g.ID != tt.goes {
				left.Grants = append(left.Grants, g)
			}
		}
		anew, err := index.Build(&left)
		if err != nil {
			t.Fatal(err)
		}
		for i, x := range append(after, anew) {
			got := fmt.Sprint(Orphans(before, x, but))
			if want := "[" + tt.want + "]"; got != want {
				t.Errorf("%s, %d: %s, want %s", tt.name, i, got, want)
			}
		}
	}
}
