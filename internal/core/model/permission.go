package model

import (
	"fmt"
	"slices"
	"strings"
)

// A Permission names one action of one service: service/noun:verb. The service
// ends at the first '/', the verb begins after the last ':'; the noun may hold
// further '/'. It is comparable. The zero Permission is invalid.
type Permission struct{ c string }

// A PermissionPattern is a permission with '*' in any part. In the noun, '*'
// also stands for runs with '/'. A lone "*" means every permission.
type PermissionPattern struct{ c string }

// ParsePermission reads a permission.
func ParsePermission(s string) (Permission, error) {
	c, err := parsePermission(s, false)
	if err != nil {
		return Permission{}, fmt.Errorf("permission %s: %w", short(s), err)
	}
	return Permission{c}, nil
}

// ParsePermissionPattern reads a permission pattern.
func ParsePermissionPattern(s string) (PermissionPattern, error) {
	if s == "*" {
		s = "*/*:*"
	}
	c, err := parsePermission(s, true)
	if err != nil {
		return PermissionPattern{}, fmt.Errorf("permission pattern %s: %w", short(s), err)
	}
	return PermissionPattern{c}, nil
}

// MustPermission is ParsePermission for constants; it panics on an error.
func MustPermission(s string) Permission {
	p, err := ParsePermission(s)
	if err != nil {
		panic(err)
	}
	return p
}

// MustPermissionPattern is ParsePermissionPattern for constants; it panics on an error.
func MustPermissionPattern(s string) PermissionPattern {
	p, err := ParsePermissionPattern(s)
	if err != nil {
		panic(err)
	}
	return p
}

func parsePermission(s string, stars bool) (string, error) {
	if len(s) > maxName {
		return "", fmt.Errorf("is longer than %d bytes", maxName)
	}
	slash := strings.IndexByte(s, '/')
	if slash < 0 {
		return "", fmt.Errorf("missing '/' after the service (want service/noun:verb)")
	}
	verbAt := strings.LastIndexByte(s, ':')
	if verbAt < slash {
		if stars && s[slash:] == "/*" {
			return "", fmt.Errorf("missing ':' before the verb (everything of the service is %s:*)", s)
		}
		return "", fmt.Errorf("missing ':' before the verb (want service/noun:verb)")
	}
	parts := [3]string{s[:slash], s[slash+1 : verbAt], s[verbAt+1:]}
	for i, name := range []string{"service", "noun", "verb"} {
		if parts[i] == "" {
			return "", fmt.Errorf("has an empty %s (want service/noun:verb)", name)
		}
		d, err := decode(parts[i], stars)
		if err != nil {
			return "", err
		}
		parts[i] = d
	}
	return strings.Join(parts[:], "\xfd"), nil
}

func printPermission(c string) string {
	var b strings.Builder
	parts := strings.SplitN(c, "\xfd", 3)
	if len(parts) < 3 {
		return ""
	}
	encode(&b, parts[0], "")
	b.WriteByte('/')
	encode(&b, parts[1], "/:")
	b.WriteByte(':')
	encode(&b, parts[2], "")
	return b.String()
}

// String returns the canonical form.
func (p Permission) String() string { return printPermission(p.c) }

// String returns the canonical form.
func (p PermissionPattern) String() string { return printPermission(p.c) }

// IsZero reports whether p is the invalid zero value.
func (p Permission) IsZero() bool { return p.c == "" }

// Service returns the part before the first '/', decoded.
func (p Permission) Service() string { s, _, _ := strings.Cut(p.c, "\xfd"); return s }

// Noun returns the part between service and verb, decoded.
func (p Permission) Noun() string {
	parts := strings.SplitN(p.c, "\xfd", 3)
	if len(parts) < 3 {
		return ""
	}
	return parts[1]
}

// Verb returns the part after the noun, decoded.
func (p Permission) Verb() string {
	if parts := strings.SplitN(p.c, "\xfd", 3); len(parts) == 3 {
		return parts[2]
	}
	return ""
}

// Compare orders permissions by service, noun, verb.
func (p Permission) Compare(q Permission) int { return strings.Compare(p.c, q.c) }

// Pattern returns the pattern that matches p alone.
func (p Permission) Pattern() PermissionPattern { return PermissionPattern(p) }

// MarshalText writes the canonical form.
func (p Permission) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what ParsePermission does.
func (p *Permission) UnmarshalText(b []byte) (err error) {
	*p, err = ParsePermission(string(b))
	return err
}

// MarshalText writes the canonical form.
func (p PermissionPattern) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what ParsePermissionPattern does.
func (p *PermissionPattern) UnmarshalText(b []byte) (err error) {
	*p, err = ParsePermissionPattern(string(b))
	return err
}

// Exact returns the one permission of a pattern without '*'.
func (p PermissionPattern) Exact() (Permission, bool) {
	return Permission(p), strings.IndexByte(p.c, star) < 0
}

// Service returns the pattern of everything in the services that p names.
func (p PermissionPattern) Service() PermissionPattern {
	s, _, _ := strings.Cut(p.c, "\xfd")
	return PermissionPattern{s + "\xfd\xff\xfd\xff"}
}

// Matches reports whether the pattern covers q.
func (p PermissionPattern) Matches(q Permission) bool { return matches(p.c, q.c) }

// Contains reports whether every permission that q matches is matched by p.
func (p PermissionPattern) Contains(q PermissionPattern) bool { return matches(p.c, q.c) }

// meet returns patterns whose union is the intersection of p and q.
func (p PermissionPattern) meet(q PermissionPattern) []PermissionPattern {
	ps, qs := strings.Split(p.c, "\xfd"), strings.Split(q.c, "\xfd")
	acc := []string{""}
	for i := range 3 {
		var next []string
		for _, m := range globMeet(ps[i], qs[i]) {
			for _, a := range acc {
				if i > 0 {
					a += "\xfd"
				}
				next = append(next, a+m)
			}
		}
		acc = next
	}
	out := make([]PermissionPattern, len(acc))
	for i, a := range acc {
		out[i] = PermissionPattern{a}
	}
	return out
}

// Rights are every permission that some pattern of Do matches and no
// pattern of Except does. The zero Rights are none.
type Rights struct {
	Do     []PermissionPattern `json:"do,omitempty" doc:"permission patterns, service/noun:verb with * in any part"`
	Except []PermissionPattern `json:"except,omitempty" doc:"permission patterns taken out of do again"`
}

// Permissions returns the set of exactly the listed permissions.
func Permissions(ps ...Permission) Rights {
	s := Rights{Do: make([]PermissionPattern, len(ps))}
	for i, p := range ps {
		s.Do[i] = p.Pattern()
	}
	return s
}

func anyContains(ps []PermissionPattern, q PermissionPattern) bool {
	return slices.ContainsFunc(ps, func(p PermissionPattern) bool { return p.Contains(q) })
}

// Has reports whether p is in the set.
func (s Rights) Has(p Permission) bool {
	has := func(q PermissionPattern) bool { return q.Matches(p) }
	return slices.ContainsFunc(s.Do, has) && !slices.ContainsFunc(s.Except, has)
}

// Empty reports whether no permission is in the set, of those known or not.
func (s Rights) Empty() bool {
	for _, d := range s.Do {
		if !anyContains(s.Except, d) {
			return false
		}
	}
	return true
}

// Contains reports whether every permission of t is in s.
//
// s\E contains t\F when t lies in s or F, and what t shares with E lies in F.
func (s Rights) Contains(t Rights) bool {
	for _, d := range t.Do {
		if !anyContains(s.Do, d) && !anyContains(t.Except, d) {
			return false
		}
		for _, e := range s.Except {
			for _, m := range d.meet(e) {
				if !anyContains(t.Except, m) {
					return false
				}
			}
		}
	}
	return true
}

// Overlaps reports whether s and t share a permission.
func (s Rights) Overlaps(t Rights) bool {
	for _, a := range s.Do {
		for _, b := range t.Do {
			for _, m := range a.meet(b) {
				if !anyContains(s.Except, m) && !anyContains(t.Except, m) {
					return true
				}
			}
		}
	}
	return false
}
