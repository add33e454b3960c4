package model_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/model"
)

func TestParsePath(t *testing.T) {
	for _, tt := range []struct{ in, want, wantErr string }{
		{"/mooring", "/mooring", ""},
		{"/mooring/harbour:ternhaven/berth:tides/box:forecasts/runs/2026-11-01",
			"/mooring/harbour:ternhaven/berth:tides/box:forecasts/runs/2026-11-01", ""},
		{"/a/b:c%3ad", "/a/b:c%3Ad", ""},    // hex is written in capitals
		{"/a/b:c:d", "/a/b:c%3Ad", ""},      // only the first colon ends the kind
		{"/a/%6f", "/a/o", ""},              // what needs no encoding loses it
		{"/a/x y/é", "/a/x%20y/%C3%A9", ""}, // raw text is taken, and encoded
		{"/a/%2F%2A%25", "/a/%2F%2A%25", ""},
		{"/a/..", "/a/..", ""}, // a name like any other
		{"", "", "is empty"},
		{"a/b", "", "does not begin with '/'"},
		{"/a//b", "", "empty segment (number 2)"},
		{"/a/", "", "empty segment"},
		{"/a/:x", "", "no kind"},
		{"/a/x:", "", "no name"},
		{"/a/b*", "", "no pattern is allowed"},
		{"/a/**", "", "only a pattern may"},
		{"/a/%4", "", "broken percent-encoding"},
		{"/a/%zz", "", "broken percent-encoding"},
		{"/a/%FF", "", "not valid UTF-8"}, // would be one of our own marks
		{"/a/%FC", "", "not valid UTF-8"},
		{"/a/\xff", "", "not valid UTF-8"},
		{"/a/%C3", "", "not valid UTF-8"},
		{"/" + strings.Repeat("x", 70_000), "", "longer than"},
	} {
		p, err := model.ParsePath(tt.in)
		if got := p.String(); err == nil && (tt.wantErr != "" || got != tt.want) {
			t.Errorf("ParsePath(%q) = %q, want %q, error %q", tt.in, got, tt.want, tt.wantErr)
		}
		if err != nil && (tt.wantErr == "" || !strings.Contains(err.Error(), tt.wantErr)) {
			t.Errorf("ParsePath(%.40q): error %v, want %q", tt.in, err, tt.wantErr)
		}
	}
}

func TestPathPatternMatches(t *testing.T) {
	for _, tt := range []struct {
		pattern, path string
		want          bool
	}{
		{"/m/b:x/**", "/m/b:x", true}, // the container and its contents
		{"/m/b:x/**", "/m/b:x/o/p", true},
		{"/m/b:x/**", "/m/b:xy", false},
		{"/m/b:x", "/m/b:x/o", false},
		{"/m/b:*/o", "/m/b:x/o", true},
		{"/m/b:*", "/m/b:x/o", false}, // never across a segment
		{"/m/*", "/m/b:x", true},      // a whole segment, kind and all
		{"/m/b:*a*c", "/m/b:xaybac", true},
		{"/m/b:*a*c", "/m/b:xcab", false},
		{"/m/*F", "/m/%2F", false}, // the name is '/', not "%2F"
		{"/m/%2A", "/m/%2A", true}, // a literal star
		{"/m/%2A", "/m/x", false},
		{"/m/a*", "/m/a%2Fb", true},
		{"/**", "/m", true},
		{"/m/a:*/**", "/m/a:b/c/d", true},
	} {
		if got := model.MustPathPattern(tt.pattern).Matches(model.MustPath(tt.path)); got != tt.want {
			t.Errorf("%s matches %s = %t, want %t", tt.pattern, tt.path, got, tt.want)
		}
	}
}

// words enumerates every path of at most depth segments over the given segments,
// below /m.
func words(segs []string, depth int) []model.Path {
	out := []model.Path{model.MustPath("/m")}
	for last := out; depth > 0; depth-- {
		var next []model.Path
		for _, p := range last {
			for _, s := range segs {
				next = append(next, model.MustPath(p.String()+"/"+s))
			}
		}
		out = append(out, next...)
		last = next
	}
	return out
}

// randomPattern makes patterns over the letters a and b; 'f' is left to be the
// letter that no pattern knows.
func randomPattern(r *rand.Rand) model.PathPattern {
	s := "/m"
	for range r.IntN(3) {
		seg := ""
		for range 1 + r.IntN(2) {
			seg += []string{"a", "b", "*", "*"}[r.IntN(4)]
		}
		if seg == "**" || seg == "***" {
			seg = "*"
		}
		if r.IntN(3) == 0 {
			seg = []string{"k:", "a:", "*:", "k*:"}[r.IntN(4)] + seg
		}
		s += "/" + strings.ReplaceAll(strings.ReplaceAll(seg, "***", "*"), "**", "*")
	}
	if r.IntN(2) == 0 {
		s += "/**"
	}
	return model.MustPathPattern(s)
}

// smallSegs is every name of up to three letters: patterns of two tokens, with
// their stars read as f, and what two of them share, are all in it.
var smallSegs = func() (out []string) {
	var names []string
	last := []string{""}
	for range 3 {
		var next []string
		for _, w := range last {
			for _, l := range []string{"a", "b", "f"} {
				next = append(next, w+l)
			}
		}
		names = append(names, next...)
		last = next
	}
	for _, k := range []string{"", "k:", "a:", "kf:", "f:", "b:"} {
		for _, n := range names {
			out = append(out, k+n)
		}
	}
	return out
}()

// TestContainmentIsExact holds law 3: containment and overlap of patterns agree
// with counting through every path of a small alphabet.
func TestContainmentIsExact(t *testing.T) {
	const seed = 3
	r := rand.New(rand.NewPCG(seed, 0))
	all := words(smallSegs, 2)
	deepOnes := []model.Path{model.MustPath("/m/a/b/f"), model.MustPath("/m/f/f/f"), model.MustPath("/m/k:f/f/f/f"),
		model.MustPath("/m/kf:afb/f/f")}
	all = append(all, deepOnes...)
	n := 500
	if testing.Short() {
		n = 100
	}
	for range n {
		var as []model.PathPattern
		for range 1 + r.IntN(3) {
			as = append(as, randomPattern(r))
		}
		b := randomPattern(r)
		inA := func(p model.Path) bool {
			for _, a := range as {
				if a.Matches(p) {
					return true
				}
			}
			return false
		}
		contains, overlaps := true, false
		for _, p := range all {
			if b.Matches(p) {
				contains = contains && inA(p)
				overlaps = overlaps || as[0].Matches(p)
			}
		}
		if got := model.PathPatternsContain(as, b); got != contains {
			t.Fatalf("seed %d: %v contain %s = %t, counting says %t", seed, as, b, got, contains)
		}
		var ready model.Patterns
		for _, a := range as {
			ready.Add(a)
		}
		if got := ready.Contain(b); got != contains {
			t.Fatalf("seed %d: made ready, %v contain %s = %t, counting says %t", seed, as, b, got, contains)
		}
		if got, want := as[0].Contains(b), model.PathPatternsContain(as[:1], b); got != want {
			t.Fatalf("seed %d: %s contains %s = %t, as one of a list %t", seed, as[0], b, got, want)
		}
		if got := as[0].Overlaps(b); got != overlaps {
			t.Fatalf("seed %d: %s overlaps %s = %t, counting says %t", seed, as[0], b, got, overlaps)
		}
		if !b.Contains(b) || as[0].Overlaps(b) != b.Overlaps(as[0]) {
			t.Fatalf("seed %d: %s: not reflexive, or overlap with %s not symmetric", seed, b, as[0])
		}
	}
}

// TestPatterns: put together, patterns answer as one after another does, however many and whatever they
// are, and their keys tell lists apart.
func TestPatterns(t *testing.T) {
	const seed = 4
	r := rand.New(rand.NewPCG(seed, 0))
	keys := map[string]string{}
	for range 3000 {
		var as []model.PathPattern
		for range r.IntN(14) {
			as = append(as, randomPattern(r))
		}
		b := randomPattern(r)
		inside, over := map[model.PathPattern]bool{}, map[model.PathPattern]bool{}
		var key []byte
		for _, a := range as {
			if a.Contains(b) {
				over[a] = true
			}
			if b.Contains(a) {
				inside[a] = true
			}
			key = a.AppendKey(key)
		}
		together := model.PatternsOf(as)
		if got := together.One(b); got != (len(over) > 0) {
			t.Fatalf("seed %d: one of %v contains %s: %t, one by one %v", seed, as, b, got, over)
		}
		for _, tt := range []struct {
			what string
			got  []model.PathPattern
			want map[model.PathPattern]bool
		}{{"inside", together.Inside(b), inside}, {"over", together.Over(b), over}} {
			if len(tt.got) != len(tt.want) || slices.ContainsFunc(tt.got, func(a model.PathPattern) bool {
				return !tt.want[a]
			}) {
				t.Fatalf("seed %d: of %v %s %s is %v, want %v", seed, as, tt.what, b, tt.got, tt.want)
			}
		}
		together.Add(b) // also once it was asked
		if !together.One(b) || !slices.Contains(together.Inside(b), b) {
			t.Fatalf("seed %d: %s was added to %v, and is not there", seed, b, as)
		}
		if old, known := keys[string(key)]; known && old != fmt.Sprint(as) {
			t.Fatalf("seed %d: %v and %s have one key", seed, as, old)
		}
		keys[string(key)] = fmt.Sprint(as)
	}
}

func randomSet(r *rand.Rand) model.Rights {
	part := func() string {
		return []string{"*", "a", "b", "a*", "*b", "*a*", "a*b", "ab"}[r.IntN(8)]
	}
	pats := func(n int) (out []model.PermissionPattern) {
		for range n {
			out = append(out, model.MustPermissionPattern(part()+"/"+part()+":"+part()))
		}
		return out
	}
	return model.Rights{Do: pats(1 + r.IntN(2)), Except: pats(r.IntN(3))}
}

// TestRightsAreExact is law 3 for permissions with exceptions.
func TestRightsAreExact(t *testing.T) {
	const seed = 5
	r := rand.New(rand.NewPCG(seed, 0))
	parts := []string{"a", "b", "f", "ab", "ba", "af", "fa", "fb", "bf", "afb", "aba", "bab", "aab", "abb", "faf",
		"fbf", "fafb", "afbf", "bfa"}
	var all []model.Permission
	for _, s := range parts {
		for _, n := range parts {
			for _, v := range parts {
				all = append(all, model.MustPermission(s+"/"+n+":"+v))
			}
		}
	}
	n := 400
	if testing.Short() {
		n = 60
	}
	for range n {
		s, u := randomSet(r), randomSet(r)
		contains, overlaps, empty := true, false, true
		for _, p := range all {
			inS, inU := s.Has(p), u.Has(p)
			contains = contains && (!inU || inS)
			overlaps = overlaps || inS && inU
			empty = empty && !inS
		}
		if got := s.Contains(u); got != contains {
			t.Fatalf("seed %d: %v contains %v = %t, counting says %t", seed, s, u, got, contains)
		}
		if got := s.Overlaps(u); got != overlaps {
			t.Fatalf("seed %d: %v overlaps %v = %t, counting says %t", seed, s, u, got, overlaps)
		}
		if got := s.Empty(); got != empty {
			t.Fatalf("seed %d: %v empty = %t, counting says %t", seed, s, got, empty)
		}
	}
}

// TestEverythingOf: who leaves the verb out of everything of a service is told how that is said.
func TestEverythingOf(t *testing.T) {
	for in, want := range map[string]string{"stow/*": "everything of the service is stow/*:*",
		"*/*": "everything of the service is */*:*", "stow/item": "want service/noun:verb",
		"stow/*x": "want service/noun:verb"} {
		if p, err := model.ParsePermissionPattern(in); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is %q, %v; want %q", in, p, err, want)
		}
	}
	if _, err := model.ParsePermission("stow/*"); err == nil || strings.Contains(err.Error(), "everything") {
		t.Errorf("a permission is no pattern: %v", err)
	}
}

func TestParsePermission(t *testing.T) {
	for _, tt := range []struct{ in, want, wantErr string }{
		{"stow/item:read", "stow/item:read", ""},
		{"core/pods/exec:create", "core/pods/exec:create", ""},
		{"url/healthz/x:get", "url/healthz/x:get", ""},
		{"a/b:c:d", "a/b:c:d", ""}, // the verb begins after the last ':'
		{"storage", "", "missing '/'"},
		{"stow/item", "", "missing ':'"},
		{"a:b/c", "", "missing ':'"},
		{"/x:y", "", "empty service"},
		{"a/:y", "", "empty noun"},
		{"a/b:", "", "empty verb"},
		{"a/*:b", "", "no pattern is allowed"},
	} {
		p, err := model.ParsePermission(tt.in)
		if err == nil && (tt.wantErr != "" || p.String() != tt.want) || err != nil &&
			(tt.wantErr == "" || !strings.Contains(err.Error(), tt.wantErr)) {
			t.Errorf("ParsePermission(%q) = %q, %v, want %q, %q", tt.in, p, err, tt.want, tt.wantErr)
		}
	}
	if got := model.MustPermissionPattern("*").String(); got != "*/*:*" {
		t.Errorf("* = %s", got)
	}
}

func TestPathHelpers(t *testing.T) {
	p := model.MustPath("/m/harbour:t/box:x/a")
	up, _ := p.Parent()
	kind, name := up.Last()
	if up.String() != "/m/harbour:t/box:x" || kind != "box" || name != "x" || p.Source() != "m" || p.Depth() != 4 {
		t.Errorf("up %s, last %s:%s, source %s, depth %d", up, kind, name, p.Source(), p.Depth())
	}
	if !up.Covers(p) || !up.Covers(up) || up.Covers(model.MustPath("/m/harbour:t/box:xy")) {
		t.Error("Covers is wrong about what lies below")
	}
	if _, ok := model.MustPath("/m").Parent(); ok {
		t.Error("the top has a parent")
	}
	for pat, want := range map[string]string{"/m/a/**": "/m/a", "/m/a:*/b": "/m", "/m/a:b": "/m/a:b",
		"/m/x/y*": "/m/x"} {
		if got, ok := model.MustPathPattern(pat).Anchor(); !ok || got.String() != want {
			t.Errorf("anchor of %s = %s, want %s", pat, got, want)
		}
	}
	if _, ok := model.MustPathPattern("/**").Anchor(); ok {
		t.Error("/** has an anchor")
	}
}

func TestID(t *testing.T) {
	for _, tt := range []struct{ in, want, wantErr string }{
		{"person/ingrid.vaage", "person/ingrid.vaage", ""},
		{"mooring:person/ingrid.vaage", "mooring:person/ingrid.vaage", ""},
		{"everyone", "everyone", ""},
		{"workload/a/b", "workload/a%2Fb", ""},
		{"person/\x1b[31m", "person/%1B%5B31m", ""},
		{"everyone/x", "", "takes no name"},
		{"person/", "", "no name"},
		{"person", "", "no name"},
		{"robot/x", "", "none of person"},
		{":person/x", "", "broken source"},
		{"person/" + strings.Repeat("x", 70_000), "", "too long"},
	} {
		id, err := model.ParseID(tt.in)
		if err == nil && (tt.wantErr != "" || id.String() != tt.want) || err != nil &&
			(tt.wantErr == "" || !strings.Contains(err.Error(), tt.wantErr)) {
			t.Errorf("ParseID(%.40q) = %q, %v, want %q, %q", tt.in, id, err, tt.want, tt.wantErr)
		}
	}
}

// The fuzz targets: whatever parses prints to a canonical form that parses to the
// same value, and matching and containment agree about it.

func FuzzPath(f *testing.F) {
	for _, s := range []string{"/m/a:b/c", "/m/%2F", "/m/a*b/**", "/m/%ff", "/m/x:*:y", "/**", "/\xff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if p, err := model.ParsePath(s); err == nil {
			if q, err := model.ParsePath(p.String()); err != nil || q != p {
				t.Fatalf("ParsePath(%q) = %q does not round-trip: %q, %v", s, p, q, err)
			}
			if !p.Exactly().Matches(p) || !p.Below().Matches(p) || !p.Below().Contains(p.Exactly()) {
				t.Fatalf("%q does not match itself", p)
			}
		}
		if p, err := model.ParsePathPattern(s); err == nil {
			if q, err := model.ParsePathPattern(p.String()); err != nil || q != p {
				t.Fatalf("ParsePathPattern(%q) = %q does not round-trip: %q, %v", s, p, q, err)
			}
			if !p.Contains(p) || !p.Overlaps(p) {
				t.Fatalf("%q does not contain itself", p)
			}
		}
	})
}

func FuzzPermission(f *testing.F) {
	for _, s := range []string{"a/b:c", "*", "core/pods/exec:create", "a/%2F:*", "a*b*c/*:x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if p, err := model.ParsePermissionPattern(s); err == nil {
			q, err := model.ParsePermissionPattern(p.String())
			if err != nil || q != p || !p.Contains(p) {
				t.Fatalf("ParsePermissionPattern(%q) = %q does not round-trip: %q, %v", s, p, q, err)
			}
			one := model.Rights{Do: []model.PermissionPattern{p}}
			if !one.Contains(one) || one.Empty() || !(model.Rights{Do: one.Do, Except: one.Do}).Empty() {
				t.Fatalf("set of %q is wrong about itself", p)
			}
		}
	})
}

func FuzzID(f *testing.F) {
	for _, s := range []string{"person/x", "m:group/a%2Fb", "everyone", "signed-in", "a:b:person/c"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if id, err := model.ParseID(s); err == nil {
			if again, err := model.ParseID(id.String()); err != nil || again != id {
				t.Fatalf("ParseID(%q) = %q does not round-trip: %q, %v", s, id, again, err)
			}
		}
	})
}

// TestPlainPaths: a path that is read the short way is the one that is read the long
// way, which an encoded letter in front of it enforces; and the same things are wrong.
func TestPlainPaths(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	letters := "ab:/:/ .-~"
	for range 200_000 {
		b := []byte("/")
		for range r.IntN(9) {
			b = append(b, letters[r.IntN(len(letters))])
		}
		s := string(b)
		short, err := model.ParsePath("/x" + s)
		long, lerr := model.ParsePath("/%78" + s)
		if short != long || (err == nil) != (lerr == nil) {
			t.Fatalf("%q: %v, %v; the long way %v, %v", s, short, err, long, lerr)
		}
	}
}

// What a pattern matches begins, in its last segment, with what the pattern says there before its first star.
func TestAppendLiteral(t *testing.T) {
	for _, c := range []struct{ pattern, want string }{
		{"/s/box:a*", "box:a"}, {"/s/box:*", "box:"}, {"/s/b*:a", "b"}, {"/s/*", ""}, {"/s/box:a", "box:a"},
		{"/s/box:a%2Ab*", "box:a%2Ab"}, {"/s/box:a%2Fb*c", "box:a%2Fb"}, {"/s/box:%20*", "box:%20"},
		{"/s/more*", "more"}, {"/*", ""}, {"/s/box:%C3%A9*", "box:%C3%A9"},
	} {
		if got := string(model.MustPathPattern(c.pattern).AppendLiteral([]byte("x"))); got != "x"+c.want {
			t.Errorf("%s: %q, wanted %q", c.pattern, got, "x"+c.want)
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	matched := 0
	for range 200_000 {
		var path, pattern strings.Builder
		for range 1 + r.IntN(2) {
			seg := make([]string, 1+r.IntN(3))
			for i := range seg {
				seg[i] = []string{"a", "b", "%2A", "%25", "%3A", ":", "%E9", "%FE"}[r.IntN(8)]
			}
			path.WriteString("/" + strings.Join(seg, ""))
			seg[r.IntN(len(seg))] = "*"
			pattern.WriteString("/" + strings.Join(seg, ""))
		}
		p, err := model.ParsePath(path.String())
		on, e := model.ParsePathPattern(pattern.String())
		if err != nil || e != nil || !on.Matches(p) {
			continue
		}
		matched++
		if last := p.AppendLast(nil); !bytes.HasPrefix(last, on.AppendLiteral(nil)) {
			t.Fatalf("%s matches %s, which begins with %q and not with %q", on, p, last, on.AppendLiteral(nil))
		}
	}
	if matched < 10_000 {
		t.Fatalf("only %d matched", matched)
	}
}
