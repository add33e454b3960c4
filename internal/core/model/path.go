package model

import (
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// A Path names a node: /source/kind:name/kind:name/... A segment without
// "kind:" continues the name above it. Reserved characters inside a segment are
// percent-encoded (RFC 3986). Path is comparable, so it can be a map key. The
// zero Path is invalid.
type Path struct{ c string }

// A PathPattern names paths: '*' stands for any run of characters inside one
// segment, and a last segment '**' for the node before it and everything below.
// It is comparable. The zero PathPattern is invalid.
type PathPattern struct{ c string }

// ParsePath reads a path. The error quotes the part that is wrong.
func ParsePath(s string) (Path, error) {
	c, err := parsePath(s, false)
	if err != nil {
		return Path{}, fmt.Errorf("path %s: %w", short(s), err)
	}
	return Path{c}, nil
}

// ParsePathPattern reads a path pattern. Every path is one too.
func ParsePathPattern(s string) (PathPattern, error) {
	c, err := parsePath(s, true)
	if err != nil {
		return PathPattern{}, fmt.Errorf("path pattern %s: %w", short(s), err)
	}
	return PathPattern{c}, nil
}

// MustPath is ParsePath for constants in tests and tables; it panics on an error.
func MustPath(s string) Path {
	p, err := ParsePath(s)
	if err != nil {
		panic(err)
	}
	return p
}

// MustPathPattern is ParsePathPattern for constants; it panics on an error.
func MustPathPattern(s string) PathPattern {
	p, err := ParsePathPattern(s)
	if err != nil {
		panic(err)
	}
	return p
}

// short quotes s for an error, cut to what a reader can take in.
func short(s string) string {
	if len(s) > 120 {
		return fmt.Sprintf("%.120q... (%d bytes)", s, len(s))
	}
	return fmt.Sprintf("%q", s)
}

// plainPath reads a path that holds nothing to decode, as most do; "" sends the
// caller the long way, also for whatever is wrong.
func plainPath(s string) string {
	if len(s) < 2 || s[0] != '/' || len(s) > maxName {
		return ""
	}
	b := make([]byte, len(s))
	start, kinded := 0, false // of the segment at hand, its '/' included
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '/':
			if i > 0 && i == start+1 || b[max(0, i-1)] == colon {
				return ""
			}
			start, kinded = i, false
			c = sep
		case c == ':' && !kinded:
			if i == start+1 {
				return ""
			}
			kinded = true
			c = colon
		case c < 0x20 || c >= 0x7f || c == '%' || c == '*':
			return ""
		}
		b[i] = c
	}
	if start == len(s)-1 || b[len(s)-1] == colon {
		return ""
	}
	return string(b)
}

func parsePath(s string, stars bool) (string, error) {
	if c := plainPath(s); c != "" {
		return c, nil
	}
	if s == "" {
		return "", fmt.Errorf("is empty")
	}
	if s[0] != '/' {
		return "", fmt.Errorf("does not begin with '/'")
	}
	if len(s) > maxName {
		return "", fmt.Errorf("is longer than %d bytes", maxName)
	}
	var b strings.Builder
	segs := strings.Split(s[1:], "/")
	for i, seg := range segs {
		if seg == "" {
			return "", fmt.Errorf("has an empty segment (number %d)", i+1)
		}
		if seg == "**" {
			if !stars {
				return "", fmt.Errorf("ends in '**', which only a pattern may")
			}
			if i != len(segs)-1 {
				return "", fmt.Errorf("has '**' before its last segment")
			}
			b.WriteByte(deep)
			break
		}
		b.WriteByte(sep)
		kind, name, kinded := strings.Cut(seg, ":")
		if !kinded {
			name = kind
		} else {
			if kind == "" {
				return "", fmt.Errorf("segment %q has no kind before ':'", seg)
			}
			k, err := decode(kind, stars)
			if err != nil {
				return "", err
			}
			b.WriteString(k)
			b.WriteByte(colon)
		}
		if name == "" {
			return "", fmt.Errorf("segment %q has no name after ':'", seg)
		}
		n, err := decode(strings.ReplaceAll(name, ":", "%3A"), stars)
		if err != nil {
			return "", err
		}
		b.WriteString(n)
	}
	return b.String(), nil
}

// appendPlain appends a path in which nothing is to be encoded, as most; false sends the
// caller the long way.
func appendPlain(b []byte, c string) ([]byte, bool) {
	kinded := true // a ':' before any '/' would be no mark
	for i := 0; i < len(c); i++ {
		switch x := c[i]; {
		case x == sep:
			b, kinded = append(b, '/'), false
		case x == colon && !kinded:
			b, kinded = append(b, ':'), true
		case 'a' <= x && x <= 'z' || 'A' <= x && x <= 'Z' || '0' <= x && x <= '9' || x == '-' || x == '.' || x == '_':
			b = append(b, x)
		default:
			return nil, false
		}
	}
	return b, len(c) > 0
}

func printPath(c string) string {
	var room [128]byte
	if s, ok := appendPlain(room[:0], c); ok {
		return string(s)
	}
	var b strings.Builder
	for _, seg := range segments(strings.TrimSuffix(c, "\xfc")) {
		b.WriteByte('/')
		if kind, name, ok := strings.Cut(seg, "\xfe"); ok {
			encode(&b, kind, "")
			b.WriteByte(':')
			seg = name
		}
		encode(&b, seg, "")
	}
	if strings.HasSuffix(c, "\xfc") {
		b.WriteString("/**")
	}
	return b.String()
}

// String returns the canonical form, which ParsePath reads back.
func (p Path) String() string { return printPath(p.c) }

// AppendString appends what String returns.
func (p Path) AppendString(b []byte) []byte {
	if out, ok := appendPlain(b, p.c); ok {
		return out
	}
	return append(b, p.String()...)
}

// String returns the canonical form, which ParsePathPattern reads back.
func (p PathPattern) String() string { return printPath(p.c) }

// IsZero reports whether p is the invalid zero value.
func (p Path) IsZero() bool { return p.c == "" }

// IsZero reports whether p is the invalid zero value.
func (p PathPattern) IsZero() bool { return p.c == "" }

// MarshalText writes the canonical form.
func (p Path) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what ParsePath does.
func (p *Path) UnmarshalText(b []byte) (err error) { *p, err = ParsePath(string(b)); return err }

// MarshalText writes the canonical form.
func (p PathPattern) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what ParsePathPattern does.
func (p *PathPattern) UnmarshalText(b []byte) (err error) {
	*p, err = ParsePathPattern(string(b))
	return err
}

// Parent returns the path one segment up, and false at the top.
func (p Path) Parent() (Path, bool) {
	i := strings.LastIndexByte(p.c, sep)
	if i <= 0 {
		return Path{}, false
	}
	return Path{p.c[:i]}, true
}

// Source returns the first segment, decoded.
func (p Path) Source() string {
	s := strings.TrimPrefix(p.c, "\xfd")
	s, _, _ = strings.Cut(s, "\xfd")
	return s
}

// Depth returns the number of segments.
func (p Path) Depth() int { return strings.Count(p.c, "\xfd") }

// Last returns kind and name of the last segment, decoded. The kind is empty
// where the segment continues the one above.
func (p Path) Last() (kind, name string) {
	s := p.c[strings.LastIndexByte(p.c, sep)+1:]
	if k, n, ok := strings.Cut(s, "\xfe"); ok {
		return k, n
	}
	return "", s
}

// Child returns the path of a segment below p. An empty kind continues p's name.
func (p Path) Child(kind, name string) Path {
	if kind == "" {
		return Path{p.c + "\xfd" + name}
	}
	return Path{p.c + "\xfd" + kind + "\xfe" + name}
}

// Covers reports whether q is p or lies below it.
func (p Path) Covers(q Path) bool {
	return strings.HasPrefix(q.c, p.c) && (len(q.c) == len(p.c) || q.c[len(p.c)] == sep)
}

// Moved returns what p is once from, which is p or lies above it, is to.
func (p Path) Moved(from, to Path) Path { return Path{to.c + p.c[len(from.c):]} }

// Compare orders paths so that a node comes right before what lies below it.
func (p Path) Compare(q Path) int {
	for i := range min(len(p.c), len(q.c)) {
		a, b := p.c[i], q.c[i]
		if a == b {
			continue
		}
		if a == sep {
			a = 0 // before everything that may stand in a name
		}
		if b == sep {
			b = 0
		}
		return int(a) - int(b)
	}
	return len(p.c) - len(q.c)
}

// Below returns the pattern p/**: p and everything below it.
func (p Path) Below() PathPattern { return PathPattern{p.c + "\xfc"} }

// Exactly returns the pattern that matches p alone.
func (p Path) Exactly() PathPattern { return PathPattern(p) }

// Matches reports whether the pattern covers path q.
func (p PathPattern) Matches(q Path) bool { return matches(p.c, q.c) }

// Deep reports whether the pattern ends in '**'.
func (p PathPattern) Deep() bool { return strings.HasSuffix(p.c, "\xfc") }

// Node returns the path of a pattern that names one node, with or without what
// is below it; false when the pattern holds a '*' or names no node.
func (p PathPattern) Node() (Path, bool) {
	c := strings.TrimSuffix(p.c, "\xfc")
	if c == "" || strings.IndexByte(c, star) >= 0 {
		return Path{}, false
	}
	return Path{c}, true
}

// Anchor returns the deepest node that lies above or at everything the pattern
// matches; false for a pattern that begins with a wildcard.
func (p PathPattern) Anchor() (Path, bool) {
	c := strings.TrimSuffix(p.c, "\xfc")
	if i := strings.IndexByte(c, star); i >= 0 {
		c = c[:strings.LastIndexByte(c[:i], sep)]
	}
	return Path{c}, c != ""
}

// Prefixes returns the pattern of each node on the way down to what p matches, the top
// first and p itself, without a last '**', at the end.
func (p PathPattern) Prefixes() []PathPattern {
	c := strings.TrimSuffix(p.c, "\xfc")
	var out []PathPattern
	for i := 1; i <= len(c); i++ {
		if i == len(c) || c[i] == sep {
			out = append(out, PathPattern{c[:i]})
		}
	}
	return out
}

// AppendKey appends what tells the pattern from any other, also where others come before and after.
func (p PathPattern) AppendKey(dst []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(p.c))), p.c...)
}

// Contains reports whether every path that q matches is matched by p.
func (p PathPattern) Contains(q PathPattern) bool {
	if p.plain() {
		return plainContains(p.c, q.c)
	}
	// What q matches begins as p does up to its first star, where q begins so, and only there.
	if i := strings.IndexByte(p.c, star); i > 0 && !strings.HasPrefix(q.c, p.c[:i]) {
		return false
	}
	return contain([]PathPattern{p}, q)
}

// plain reports whether a pattern names one node, with or without what is below it.
func (p PathPattern) plain() bool { return len(p.c) > 1 && strings.IndexByte(p.c, star) < 0 }

// plainContains is Contains for the form of a plain pattern. No number of plain patterns
// matches together all that another pattern does, unless one of them does alone: what a star or
// '**' of that stands for has no end.
func plainContains(p, q string) bool {
	n := len(p) - 1
	if p[n] != deep {
		return p == q
	}
	return len(q) >= n && q[:n] == p[:n] && (len(q) == n || q[n] == sep || q[n] == deep)
}

// PathPatternsContain reports whether every path that q matches is matched by
// some member of ps.
func PathPatternsContain(ps []PathPattern, q PathPattern) bool {
	plain := true
	for _, p := range ps {
		if !p.plain() {
			plain = false
		} else if plainContains(p.c, q.c) {
			return true
		}
	}
	return !plain && contain(ps, q)
}

func contain(ps []PathPattern, q PathPattern) bool {
	match := func(w string) bool {
		for _, p := range ps {
			if matches(p.c, w) {
				return true
			}
		}
		return false
	}
	if !q.Deep() {
		return match(q.c)
	}
	// q is the union over every depth n of q's node followed by n segments "*".
	// Beyond the deepest member of ps only its '**' patterns matter, and those
	// answer alike for all further depths.
	w := strings.TrimSuffix(q.c, "\xfc")
	most := 0
	for _, p := range ps {
		most = max(most, strings.Count(p.c, "\xfd"))
	}
	for n := strings.Count(w, "\xfd"); ; n++ {
		if w != "" && !match(w) { // no path is empty
			return false
		}
		if n > most {
			return true
		}
		w += "\xfd\xff"
	}
}

// Patterns are path patterns that are asked often whether they contain others. The zero
// Patterns has none.
type Patterns struct {
	list   []PathPattern
	plain  map[string]struct{} // the form of those that name one node
	stars  []PathPattern       // the others
	sorted []string            // the plain ones once more, for [Patterns.Inside]
}

// PatternsOf puts some patterns together.
func PatternsOf(list []PathPattern) *Patterns {
	s := &Patterns{list: make([]PathPattern, 0, len(list)), plain: make(map[string]struct{}, len(list))}
	for _, p := range list {
		s.Add(p)
	}
	return s
}

// Add adds a pattern.
func (s *Patterns) Add(p PathPattern) {
	s.list, s.sorted = append(s.list, p), nil
	if !p.plain() {
		s.stars = append(s.stars, p)
		return
	}
	if s.plain == nil {
		s.plain = map[string]struct{}{}
	}
	s.plain[p.c] = struct{}{}
}

// Contain answers as [PathPatternsContain] does, in a time that plain patterns do not add to.
func (s *Patterns) Contain(q PathPattern) bool {
	return s.plainContain(q) || len(s.stars) > 0 && contain(s.list, q)
}

// One reports whether one of the patterns, by itself, contains q.
func (s *Patterns) One(q PathPattern) bool {
	return s.plainContain(q) || slices.ContainsFunc(s.stars, func(p PathPattern) bool { return p.Contains(q) })
}

// Stars returns the patterns that name no single node; nobody may change the list.
func (s *Patterns) Stars() []PathPattern { return s.stars }

// Inside returns those of the patterns that q contains, each once.
func (s *Patterns) Inside(q PathPattern) []PathPattern {
	var out []PathPattern
	add := func(p PathPattern) {
		if q.Contains(p) {
			out = append(out, p)
		}
	}
	for _, p := range s.stars {
		if !slices.Contains(out, p) {
			add(p)
		}
	}
	switch _, one := s.plain[q.c]; {
	case !q.plain():
		for c := range s.plain {
			add(PathPattern{c})
		}
		return out
	case !q.Deep():
		if one {
			out = append(out, q)
		}
		return out
	}
	if len(s.sorted) != len(s.plain) {
		s.sorted = slices.Sorted(maps.Keys(s.plain))
	}
	node := q.c[:len(q.c)-1]
	at, _ := slices.BinarySearch(s.sorted, node)
	for ; at < len(s.sorted) && strings.HasPrefix(s.sorted[at], node); at++ {
		add(PathPattern{s.sorted[at]})
	}
	return out
}

// Over returns those of the patterns that contain q by themselves, each once.
func (s *Patterns) Over(q PathPattern) []PathPattern {
	var out []PathPattern
	if s.has(q.c) && !q.Deep() {
		out = append(out, q)
	}
	if len(s.plain) > 0 {
		for i := 1; i <= len(q.c); i++ {
			if i < len(q.c) && q.c[i] != sep && q.c[i] != deep {
				continue
			}
			if form := q.c[:i] + "\xfc"; s.has(form) {
				out = append(out, PathPattern{form})
			}
		}
	}
	for _, p := range s.stars {
		if p.Contains(q) && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

func (s *Patterns) has(form string) bool {
	_, in := s.plain[form]
	return in
}

// plainContain is One for the plain ones.
func (s *Patterns) plainContain(q PathPattern) bool {
	if _, same := s.plain[q.c]; same && q.c != "" {
		return true
	}
	if len(s.plain) > 0 {
		var form [128]byte
		for i := 1; i <= len(q.c); i++ {
			if i < len(q.c) && q.c[i] != sep && q.c[i] != deep {
				continue
			}
			if _, in := s.plain[string(append(append(form[:0], q.c[:i]...), deep))]; in {
				return true
			}
		}
	}
	return false
}

// Overlaps reports whether some path is matched by both p and q.
func (p PathPattern) Overlaps(q PathPattern) bool {
	a, b := strings.TrimSuffix(p.c, "\xfc"), strings.TrimSuffix(q.c, "\xfc")
	// Up to the first star of either they agree letter by letter, or on nothing.
	at := 0
	for at < min(len(a), len(b)) && a[at] != star && b[at] != star {
		if a[at] != b[at] {
			return false
		}
		at++
	}
	switch {
	case at == len(a) && at == len(b):
		return true
	case at == len(a) && b[at] == sep:
		return p.Deep()
	case at == len(b) && a[at] == sep:
		return q.Deep()
	}
	as, bs := segments(a), segments(b)
	if len(as) < len(bs) && !p.Deep() || len(bs) < len(as) && !q.Deep() {
		return false
	}
	for i := range min(len(as), len(bs)) {
		if !globOverlap(as[i], bs[i]) {
			return false
		}
	}
	return true
}

func segments(c string) []string {
	if c == "" {
		return nil
	}
	return strings.Split(c[1:], "\xfd")
}

// AppendLast appends the canonical form of p's last segment.
func (p Path) AppendLast(dst []byte) []byte {
	text := printPath(p.c[strings.LastIndexByte(p.c, sep):])
	return append(dst, text[1:]...)
}

// AppendLiteral appends the canonical form of p's last segment up to its first '*': what every node that p matches
// begins with there. It is not for patterns that end in '**'.
func (p PathPattern) AppendLiteral(dst []byte) []byte {
	last := p.c[strings.LastIndexByte(p.c, sep):]
	if i := strings.IndexByte(last, star); i >= 0 {
		last = last[:i]
	}
	return append(dst, printPath(last)[1:]...)
}
