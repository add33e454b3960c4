package fence

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// Proven says on what a fence was rehearsed when it was drafted, so that what has changed since
// is seen before it is put up. The zero value says nothing.
type Proven struct {
	Until   time.Time `json:"until,omitzero" doc:"the last call that was known then"`
	Expects *float64  `json:"expects,omitempty" doc:"of how many identities a call was expected to be refused within 90 days: a guess; none where too little was known"`
	Rights  []Rights  `json:"rights,omitempty" doc:"what it replaces and gives, as it was then"`
}

// Rights tells one state of a grant or a role from others.
type Rights struct {
	Grant  string `json:"grant,omitempty" doc:"a grant that the fence replaces; this or role"`
	Role   string `json:"role,omitempty" doc:"a role that the fence gives"`
	Digest string `json:"digest" doc:"the first 16 hexadecimal digits of the SHA-256 of what it gives, to whom, where and when"`
}

// IsZero reports whether nothing is said.
func (p Proven) IsZero() bool { return p.Until.IsZero() && p.Expects == nil && len(p.Rights) == 0 }

// digest returns what tells one state of some rights from others: the first 64 bits of the
// SHA-256 (FIPS 180-4) of their JSON.
func digest(v ...any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // of patterns and conditions: cannot fail
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

// texts returns patterns as text, in order: a source may list them in another one each time.
func texts[T fmt.Stringer](list []T) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = v.String()
	}
	slices.Sort(out)
	return out
}

// inOrder returns what sets of rights hold, in an order of their own.
func inOrder(sets []model.Rights) [][2][]string {
	out := make([][2][]string, len(sets))
	for i, s := range sets {
		out[i] = [2][]string{texts(s.Do), texts(s.Except)}
	}
	slices.SortFunc(out, func(a, b [2][]string) int {
		return cmp.Or(slices.Compare(a[0], b[0]), slices.Compare(a[1], b[1]))
	})
	return out
}

// now returns what the fence replaces and gives, as it is.
func (f *Fence) now(x *index.Index) []Rights {
	var out []Rights
	for _, id := range f.Replaces {
		if n, ok := x.GrantNamed(id); ok {
			g := x.Grant(n)
			out = append(out, Rights{Grant: id, Digest: digest(g.To, inOrder(x.GrantSets(n)), texts(g.Where), g.When,
				g.Until.UTC())})
		}
	}
	for _, a := range f.Allow {
		named := func(r Rights) bool { return r.Role == a.Role }
		if _, ok := x.Role(a.Role); ok && !slices.ContainsFunc(out, named) {
			out = append(out, Rights{Role: a.Role, Digest: digest(inOrder(x.RoleSets(a.Role)))})
		}
	}
	return out
}

// Prove notes on what a fence rests: what it replaces and gives is taken from an estate.
func (f *Fence) Prove(x *index.Index, until time.Time, expects *float64) {
	f.Proven = Proven{Until: until, Expects: expects, Rights: f.now(x)}
}

// Changed says what is not as it was when the fence was proven, a sentence each. Grants and roles
// that were written into the fence since are not known, and not told.
func (f *Fence) Changed(x *index.Index) []string {
	var out []string
	now := f.now(x)
	for _, was := range f.Proven.Rights {
		for _, is := range now {
			if is.Grant != was.Grant || is.Role != was.Role || is.Digest == was.Digest {
				continue
			}
			if was.Role != "" {
				out = append(out, fmt.Sprintf("role %s, which it gives, is not what it was when it was drafted",
					was.Role))
			} else {
				out = append(out, fmt.Sprintf("grant %s, which it replaces, is not what it was when it was drafted",
					was.Grant))
			}
		}
	}
	return out
}
