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

// TestSlug: letters and digits stay, everything else is a hyphen, none at the ends.
func TestSlug(t *testing.T) {
	for text, want := range map[string]string{
		"person/Zara.az09": "person-zara-az09",
		"`{@[/:":           "", // what stands beside letters and digits in ASCII
		"a`z{0/9:b":        "a-z-0-9-b",
		"--a--":            "a",
		"größe":            "gr----e",
		"":                 "",
		"workload/a-name-that-is-longer-than-forty-letters-and-digits": "workload-a-name-that-is-longer-than-fort",
		"workload/a-name-that-is-longer-than-for y":                    "workload-a-name-that-is-longer-than-for",
	} {
		if got := Slug(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
