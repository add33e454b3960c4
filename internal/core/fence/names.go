package fence

import (
	"regexp"
	"strings"

	"clipfence/internal/core/model"
)

// NamedAfter returns how the names of grants and roles begin that a fence for somebody makes: of which
// fence and which line follows, in hexadecimal digits and as a number.
func NamedAfter(who model.ID) string { return "fence-" + Slug(who.String()) + "-" }

var madeForOne = regexp.MustCompile(`^fence-.*-[0-9a-f]{6}-[0-9]+$`)

// MadeForOne reports whether a role is one that a fence for somebody made, by its name: nobody else
// should be given it.
func MadeForOne(role string) bool { return madeForOne.MatchString(role) }

// Slug returns a text in small letters, digits and hyphens, cut after 40 of them.
func Slug(s string) string {
	b := []byte(strings.ToLower(s))
	for i, c := range b {
		if c < 'a' || c > 'z' {
			if c < '0' || c > '9' {
				b[i] = '-'
			}
		}
	}
	return strings.Trim(string(b[:min(len(b), 40)]), "-")
}
