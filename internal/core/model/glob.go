package model

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Names are kept decoded, and the four marks that structure them are bytes that
// never occur in UTF-8. So a name may hold '/', ':', '*' or '%' itself and still
// be told apart from the marks, and two names are equal when their strings are.
const (
	star  = '\xff' // any run of characters, never across sep
	colon = '\xfe' // between kind and name
	sep   = '\xfd' // before each segment of a path; between the parts of a permission
	deep  = '\xfc' // a last "/**"
)

// maxName bounds a whole path or permission, in bytes of its decoded form.
// It is far above what real systems allow, and keeps hostile input small.
const maxName = 64 << 10

const upperHex = "0123456789ABCDEF"

// encode writes a decoded name with everything outside RFC 3986 "unreserved",
// "sub-delims" without '*', and '@' percent-encoded. keep lists further bytes
// that may stand as they are.
func encode(dst *strings.Builder, s, keep string) {
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == star:
			dst.WriteByte('*')
		case 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', '0' <= c && c <= '9',
			strings.IndexByte("-._~!$&'()+,;=@", c) >= 0, keep != "" && strings.IndexByte(keep, c) >= 0:
			dst.WriteByte(c)
		default:
			dst.WriteByte('%')
			dst.WriteByte(upperHex[c>>4])
			dst.WriteByte(upperHex[c&15])
		}
	}
}

// decode undoes percent-encoding (RFC 3986, section 2.1). With stars, a bare
// '*' becomes the wildcard and runs of them fold into one; without, it is an error.
func decode(s string, stars bool) (string, error) {
	if !strings.ContainsAny(s, "%*") && utf8.ValidString(s) {
		return s, nil
	}
	b := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '%':
			if i+2 >= len(s) {
				return "", fmt.Errorf("%q ends in a broken percent-encoding", s)
			}
			hi, lo := unhex(s[i+1]), unhex(s[i+2])
			if hi < 0 || lo < 0 {
				return "", fmt.Errorf("%q holds the broken percent-encoding %q", s, s[i:i+3])
			}
			v := byte(hi<<4 | lo)
			if v >= 0xf8 { // never in UTF-8, and our marks live there
				return "", fmt.Errorf("%q is not valid UTF-8", s)
			}
			b = append(b, v)
			i += 2
		case '*':
			if !stars {
				return "", fmt.Errorf("%q holds a '*' where no pattern is allowed (a literal one is written %%2A)", s)
			}
			if len(b) == 0 || b[len(b)-1] != star {
				b = append(b, star)
			}
		default:
			if c >= 0xf8 {
				return "", fmt.Errorf("%q is not valid UTF-8", s)
			}
			b = append(b, c)
		}
	}
	if !utf8.ValidString(strings.ReplaceAll(string(b), "\xff", "")) {
		return "", fmt.Errorf("%q is not valid UTF-8", s)
	}
	return string(b), nil
}

func unhex(c byte) int {
	switch {
	case '0' <= c && c <= '9':
		return int(c - '0')
	case 'a' <= c && c <= 'f':
		return int(c-'a') + 10
	case 'A' <= c && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// matches reports whether pattern p matches s. When s is itself a pattern its
// marks count as letters that only a wildcard of p can swallow, so the answer
// then is containment (see the package comment). deep in s must be handled by
// the caller.
func matches(p, s string) bool {
	i, j := 0, 0
	starAt, resume := -1, 0
	for j < len(s) || i < len(p) {
		if i < len(p) {
			switch {
			case p[i] == star:
				starAt, resume = i, j
				i++
				continue
			case p[i] == deep:
				if j == len(s) || s[j] == sep {
					return true
				}
			case j < len(s) && p[i] == s[j]:
				i, j = i+1, j+1
				continue
			}
		}
		// A star never reaches into the next segment, and segments before the
		// current one are settled, so only the last star can still give way.
		if starAt < 0 || resume >= len(s) || s[resume] == sep {
			return false
		}
		resume++
		i, j = starAt+1, resume
	}
	return true
}

// globOverlap reports whether some non-empty name matches both patterns of a
// single segment or part.
func globOverlap(p, q string) bool {
	// A segment has one kind at most, so two structural colons must coincide.
	if pk, pn, ok := strings.Cut(p, "\xfe"); ok {
		if qk, qn, ok := strings.Cut(q, "\xfe"); ok {
			return globOverlap(pk, qk) && globOverlap(pn, qn)
		}
	}
	// reach[j] after row i: the prefixes p[:i] and q[:j] share a word.
	reach := make([]bool, len(q)+1)
	next := make([]bool, len(q)+1)
	reach[0] = true
	for j := 1; j <= len(q); j++ {
		reach[j] = reach[j-1] && q[j-1] == star
	}
	for i := 1; i <= len(p); i++ {
		for j := 0; j <= len(q); j++ {
			switch {
			case p[i-1] == star:
				next[j] = reach[j] || j > 0 && next[j-1]
			case j == 0:
				next[j] = false
			case q[j-1] == star:
				next[j] = next[j-1] || reach[j]
			default:
				next[j] = reach[j-1] && p[i-1] == q[j-1]
			}
		}
		reach, next = next, reach
	}
	return reach[len(q)]
}

// globMeet returns patterns whose union is exactly the intersection of p and q.
// Its size can grow with the number of interleavings of literal runs; the parts
// of real permissions hold one or two stars.
func globMeet(p, q string) []string {
	seen := map[string]bool{}
	var out []string
	var walk func(p, q string, acc []byte)
	walk = func(p, q string, acc []byte) {
		if p == "" && q == "" {
			if s := string(acc); !seen[s] {
				seen[s] = true
				out = append(out, s)
			}
			return
		}
		if !globOverlap(p, q) {
			return
		}
		ps, qs := p != "" && p[0] == star, q != "" && q[0] == star
		add := func(c byte) []byte {
			if c == star && len(acc) > 0 && acc[len(acc)-1] == star {
				return acc
			}
			return append(acc[:len(acc):len(acc)], c)
		}
		switch {
		case ps && qs:
			walk(p[1:], q, add(star))
			walk(p, q[1:], add(star))
		case ps:
			walk(p[1:], q, acc)
			if q != "" {
				walk(p, q[1:], add(q[0]))
			}
		case qs:
			walk(p, q[1:], acc)
			if p != "" {
				walk(p[1:], q, add(p[0]))
			}
		case p != "" && q != "" && p[0] == q[0]:
			walk(p[1:], q[1:], add(p[0]))
		}
	}
	walk(p, q, nil)
	return out
}

// AppendEscaped writes name after dst as one segment of a path or one part of a
// permission, with everything percent-encoded that has a meaning there.
func AppendEscaped(dst, name []byte) []byte {
	var b strings.Builder
	encode(&b, string(name), "")
	return append(dst, b.String()...)
}
