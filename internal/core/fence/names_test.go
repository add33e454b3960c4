package fence

import (
	"testing"

	"clipfence/internal/core/model"
)

// TestMadeForOne tells roles that a fence for somebody made from all others, by their names.
func TestMadeForOne(t *testing.T) {
	for name, want := range map[string]bool{
		NamedAfter(model.MustID("person/ingrid.vaage")) + "0a1b2c-1": true,
		NamedAfter(model.MustID("group/%20")) + "ffffff-12":          true,
		"fence-keeper":          false, // somebody's own
		"fence-shared-reader-1": false,
		"reader":                false,
		"my-fence-a-0a1b2c-1":   false,
	} {
		if got := MadeForOne(name); got != want {
			t.Errorf("%s: %t", name, got)
		}
	}
}
