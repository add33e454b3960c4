package check

import (
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/core/model"
)

// TestTokens: what no part of a name can hold is read as it stands, and stops nothing.
func TestTokens(t *testing.T) {
	for part, want := range map[string]string{"a%2Ab": "[97 42 98]", "a*": "[97 256]", "k:x:y": "[107 257 120 58 121]",
		"%zz": "[37 122 122]", "%4": "[37 52]", "%": "[37]", "%%41": "[37 65]"} {
		if got := fmt.Sprint(tokens(part)); got != want {
			t.Errorf("%s: %s, want %s", part, got, want)
		}
	}
}

// FuzzNames: names are matched as package model matches them, and examples of a pattern are
// matched by it.
func FuzzNames(f *testing.F) {
	for _, s := range [][2]string{{"/m/box:a*/**", "/m/box:ab/c"}, {"/m/*/b", "/m/k:x%2Fy/b"}, {"/m/%2A", "/m/%2A"},
		{"/m/a*a*b", "/m/aaab"}, {"/**", "/m"}, {"/m/*:*", "/m/kind:%3A"}, {"/m/*%3A", "/m/x%3A"}, {"/m/**", "/m"},
		{"a/*:get", "a/x/y:get"}, {"a/x:*", "a/x:y:get"}, {"*", "a/b:c"}, {"a%2Fb/*:c", "a%2Fb/:c"},
		{"/m/*x", "/m/" + strings.Repeat("x", 40)}, {"/m/a*:b", "/m/a:b"}} {
		f.Add(s[0], s[1])
	}
	f.Fuzz(func(t *testing.T, pat, name string) {
		if p, err := model.ParsePathPattern(pat); err == nil {
			ours := spell([]model.PathPattern{p}, path)[0]
			if n, err := model.ParsePath(name); err == nil && ours.matches(path(n.String())) != p.Matches(n) {
				t.Fatalf("%s matches %s: %t", p, n, !p.Matches(n))
			}
			for _, e := range ours.examples(nil) {
				text := "/" + strings.Join(e, "/")
				if n, err := model.ParsePath(text); err == nil && (!p.Matches(n) || !ours.matches(e)) {
					t.Fatalf("%s is no example of %s", n, p)
				}
			}
		}
		if p, err := model.ParsePermissionPattern(pat); err == nil {
			ours := spell([]model.PermissionPattern{p}, permission)[0]
			if n, err := model.ParsePermission(name); err == nil &&
				ours.matches(permission(n.String())) != p.Matches(n) {
				t.Fatalf("%s matches %s: %t", p, n, !p.Matches(n))
			}
		}
	})
}

// TestExamples: what a union of patterns misses of another is among the examples.
func TestExamples(t *testing.T) {
	on := func(list ...string) (out []pattern) {
		for _, s := range list {
			out = append(out, spell([]model.PathPattern{model.MustPathPattern(s)}, path)...)
		}
		return out
	}
	for _, tt := range []struct {
		of     string
		in     []pattern
		inside bool
	}{
		{"/m/a/**", on("/m/**"), true},
		{"/m/a/**", on("/m/a", "/m/a/*/**"), true},
		{"/m/a/**", on("/m/a", "/m/a/*"), false},
		{"/m/a/**", on("/m/a/*/**"), false},
		{"/m/a*", on("/m/ab*", "/m/a"), false},
		{"/m/*", on("/m/*:*"), false},
		{"/m/box:*", on("/m/*:*"), true},
		{"/m/box:log-*/**", on("/m/box:log-1*/**", "/m/box:log-2*/**"), false},
		{"/m/*/b", on("/m/a/*", "/m/c/*"), false},
		{"/m/a", on("/m/*"), true},
		{"/m/**", on("/m", "/m/a/**", "/m/b/**"), false},
	} {
		p := on(tt.of)[0]
		inside := true
		for _, e := range p.examples(tt.in) {
			inside = inside && some(tt.in, e)
		}
		if inside != tt.inside {
			t.Errorf("%s in %v: %t", tt.of, tt.in, inside)
		}
	}
}
