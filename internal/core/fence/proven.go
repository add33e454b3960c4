package fence

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// Proven says on what a fence was rehearsed when it was drafted, so that what has changed since
// is seen before it is put up. The zero value says nothing.
type Proven struct {
	Until   time.Time `json:"until,omitzero" doc:"the last call that was known then"`
	Expects *float64  `json:"expects,omitempty" doc:"of how many identities a call was expected to be refused within 90 days: a guess; none where too little was known"`
	Rights  []Rights  `json:"rights,omitempty" doc:"what it replaces and gives, as it was then"`
	Refuses Refuses   `json:"refuses,omitzero" doc:"what its denials refuse something of, as it was then"`
}

// Refuses tells what denials refused something of from what was granted since: a denial holds against
// what comes as well, and nobody has said of that whether it is to go.
type Refuses struct {
	Lines  string   `json:"lines,omitempty" doc:"the first 16 hexadecimal digits of the SHA-256 of what they refuse, and where"`
	Grants []string `json:"grants,omitempty" doc:"of each grant of which they refuse something, the first 8 hexadecimal digits of the SHA-256 of what it gives, to whom, where and when"`
}

// Rights tells one state of a grant or a role from others.
type Rights struct {
	Grant  string `json:"grant,omitempty" doc:"a grant that the fence replaces; this or role"`
	Role   string `json:"role,omitempty" doc:"a role that the fence gives"`
	Digest string `json:"digest" doc:"the first 16 hexadecimal digits of the SHA-256 of what it gives, to whom, where and when"`
}

// IsZero reports whether nothing is said.
func (p Proven) IsZero() bool {
	return p.Until.IsZero() && p.Expects == nil && len(p.Rights) == 0 && p.Refuses.Lines == ""
}

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
			out = append(out, Rights{Grant: id, Digest: ofGrant(x, n, g)})
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

// ofGrant returns what tells one state of a grant from others.
func ofGrant(x *index.Index, n int, g *model.Grant) string {
	return digest(g.To, inOrder(x.GrantSets(n)), texts(g.Where), g.When, g.Until.UTC())
}

// grantDigits is how many digits tell a grant that a denial refuses: of ten thousand such grants and as many
// new ones, one is taken for another in one case of forty.
const grantDigits = 8

// refused calls yield with every grant of which a denial of the fence refuses something to somebody.
func (f *Fence) refused(x *index.Index, yield func(n int, g *model.Grant)) {
	type line struct {
		model.Denial
		set    access.Set
		to     map[model.ID]bool
		spared map[model.ID]bool
	}
	lines := make([]line, len(f.Denies))
	for i := range f.Denies {
		d := f.Denial(&f.Denies[i], "", x.Source())
		lines[i] = line{d, x.SetPerms([]model.Rights{d.Rights}), x.AllIn(d.To), x.AllIn(d.Unless)}
	}
	for n, g := range x.Grants() {
		var holders map[model.ID]bool
		if slices.ContainsFunc(lines, func(l line) bool {
			if !x.SharedFew(n).Meets(l.set) || !slices.ContainsFunc(g.Where, func(on model.PathPattern) bool {
				return slices.ContainsFunc(l.Where, on.Overlaps)
			}) {
				return false
			}
			if holders == nil {
				holders = x.AllIn([]model.ID{g.To})
			}
			for id := range holders {
				if l.to[id] && !l.spared[id] && !x.Bypasses(id) {
					return true
				}
			}
			return false
		}) {
			yield(n, g)
		}
	}
}

// ofDenies returns what tells what the denials of the fence refuse, and where, from what others do.
func (f *Fence) ofDenies() string {
	var lines [][2][]string
	for _, d := range f.Denies {
		lines = append(lines, [2][]string{texts(d.Do), texts(d.Where)})
	}
	return digest(lines)
}

// refusesNow returns what the denials of the fence refuse something of, as it is.
func (f *Fence) refusesNow(x *index.Index) Refuses {
	if len(f.Denies) == 0 {
		return Refuses{}
	}
	out := Refuses{Lines: f.ofDenies()}
	f.refused(x, func(n int, g *model.Grant) {
		out.Grants = append(out.Grants, ofGrant(x, n, g)[:grantDigits])
	})
	slices.Sort(out.Grants)
	out.Grants = slices.Compact(out.Grants)
	return out
}

// since returns the grants that were made or changed since the fence was proven and of which its denials
// refuse something. Where somebody has written other denials since, only those count that are known to have
// been made later: of the others it is the new line that refuses them, and no news to whoever wrote it.
func (f *Fence) since(x *index.Index) (out []*model.Grant) {
	was := f.Proven.Refuses
	if was.Lines == "" {
		return nil
	}
	same := f.ofDenies() == was.Lines
	f.refused(x, func(n int, g *model.Grant) {
		_, known := slices.BinarySearch(was.Grants, ofGrant(x, n, g)[:grantDigits])
		if !known && (same || g.Created.After(f.Drafted)) {
			out = append(out, g)
		}
	})
	return out
}

// Prove notes on what a fence rests: what it replaces, gives and denies is taken from an estate.
func (f *Fence) Prove(x *index.Index, until time.Time, expects *float64) {
	f.Proven = Proven{Until: until, Expects: expects, Rights: f.now(x), Refuses: f.refusesNow(x)}
}

// mostNamed is how many grants that a denial would refuse some of are named.
const mostNamed = 10

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
	since := f.since(x)
	for _, g := range since[:min(len(since), mostNamed)] {
		spare := "name " + g.To.String() + " in unless"
		if g.To.Open() {
			spare = "draft anew"
		}
		out = append(out, fmt.Sprintf("grant %s to %s was made or changed since it was drafted, and a denial "+
			"refuses some of it: %s, or take the grant back", g.ID, g.To, spare))
	}
	if n := len(since) - mostNamed; n > 0 {
		out = append(out, fmt.Sprintf("a denial refuses some of %d more grants that were made or changed since it "+
			"was drafted: draft anew", n))
	}
	return out
}
