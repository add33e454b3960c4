// Package jsonscan takes a few fields out of JSON lines, fast, without trusting
// them.
//
// A log repeats its shape: line after line has the same keys in much the same
// order, and only values differ. A [Scanner] learns shapes from lines that it
// parses strictly (RFC 8259; a key given twice is an error) and keeps them as a
// graph: from each place in the object, by the bytes that stood between, to the
// value that came next. A later line is held against the graph, a comparison and a
// search for the closing quote at each step. Where it leaves every known way it is
// parsed strictly, and learned.
//
// # Why the graph accepts nothing that the strict parse would not
//
// A place is a path from the top of the object (its keys and array indexes), so it
// says which brackets are open there; the bytes on a way close and open just those
// between its two ends. Hence what follows a way is balanced. Keys cannot come
// twice: every place, and every object or array that is entered, has a rank, and a
// way is kept only if ranks rise along it. A line whose order contradicts the ranks
// is learned in another graph with an order of its own, up to a few; beyond that it
// is parsed strictly each time. What stands in strings is checked for control
// characters and broken text before anything else. A test holds the two ways, and
// the strict one against encoding/json.
//
// A Scanner is not for several goroutines; each makes its own.
package jsonscan

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"unicode/utf8"
)

// A Kind is what sort of value stands somewhere.
type Kind uint8

// The kinds. Absent is the zero Kind: nothing stands there. Other is an object or
// an array where a plain value was looked for.
const (
	Absent Kind = iota
	String
	Number
	True
	False
	Null
	Other
	word // true, false or null, in a shape
)

// A Value is what stands at one of the paths that a Scanner looks for.
type Value struct {
	Kind    Kind
	Escaped bool   // Raw holds escapes
	Raw     []byte // text without its quotes, or the number; valid as long as the line
}

// Text returns a string's text with its escapes undone. It returns nil for what is
// no string.
func (v Value) Text() []byte {
	if v.Kind != String {
		return nil
	}
	if !v.Escaped {
		return v.Raw
	}
	quoted := make([]byte, 0, len(v.Raw)+2)
	quoted = append(append(append(quoted, '"'), v.Raw...), '"')
	var s string
	if json.Unmarshal(quoted, &s) != nil { // the scan has checked it
		return nil
	}
	return []byte(s)
}

// Int returns a whole number; false for what is none, or does not fit.
func (v Value) Int() (int64, bool) {
	if v.Kind != Number || len(v.Raw) > 18 {
		return 0, false
	}
	raw, neg := v.Raw, false
	if raw[0] == '-' {
		raw, neg = raw[1:], true
	}
	var n int64
	for _, c := range raw {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = 10*n + int64(c-'0')
	}
	if neg {
		n = -n
	}
	return n, true
}

// Errors that callers decide on.
var (
	// ErrSyntax: the line is not one JSON object.
	ErrSyntax = errors.New("not JSON")
	// ErrDuplicate: an object has a key twice, and nothing says which one counts.
	ErrDuplicate = errors.New("a key is given twice")
	// ErrDeep: the nesting is deeper than any log's.
	ErrDeep = errors.New("nested too deep")
)

const (
	maxDepth  = 200
	maxEdges  = 32     // from one place; a line that needs more is parsed strictly each time
	maxPlaces = 20_000 // of all graphs: hostile shapes must not fill the memory
	maxLayers = 4
	maxTokens = 2_000 // of a line that is learned
)

// A Scanner looks for values at some paths.
type Scanner struct {
	fields  map[string]int
	roots   map[string]bool // prefixes of fields, so that others are not tracked
	values  []Value
	zero    []Value
	layers  []*layer // the one that fitted last comes first
	places  int
	toks    []token
	lines   int
	nextLay int
	before  []stop // of the line that lanes were looked for in last
	now     []stop
}

// stop is a place that a line came through, and where in the line.
type stop struct {
	at   *place
	pos  int
	free bool   // nobody looks for the value that ends here
	text string // from the stop before to here
}

const mostLay = 5_000 // lines between looking for short cuts, at the most

// layer is one graph, with an order of its own.
type layer struct {
	ranks map[string]float64 // of places, and of objects and arrays that are entered
	at    map[string]*place
	start *place
}

// place is where a value has just ended, or the beginning.
type place struct {
	ways []*way
	lane lane
}

// lane is a short cut over several values that nobody looks for and that have been
// the same of late: one comparison in place of many steps. Its text is a piece of a
// line that was followed from one place to the other, so a line that has it there
// goes the same way.
type lane struct {
	text       string
	to         *place
	hits, lost int
}

// way is one way on: some bytes, then a value.
type way struct {
	glue  string
	kind  Kind // String, Number, word, Other (nothing: the value is in the glue), or Absent for the end
	field int  // -1: not looked for
	to    *place
}

// joint stands between the parts of a path inside.
const joint = "\x00"

type token struct {
	path     string // "" for the end
	open     bool   // an object or array is entered
	glue     int    // the glue is line[glue:from], the value line[from:to]
	from, to int
	kind     Kind
	field    int
	escaped  bool
}

// New returns a scanner for paths such as "actor.user.uid" and "resources.0.uid". A
// dot that belongs to a key is written "\\.".
func New(paths ...string) *Scanner {
	s := &Scanner{fields: map[string]int{}, roots: map[string]bool{"": true}, values: make([]Value, len(paths)),
		zero: make([]Value, len(paths))}
	for i, p := range paths {
		p = strings.NewReplacer(`\.`, ".", ".", joint).Replace(p)
		s.fields[p] = i
		for j := 0; j < len(p); j++ {
			if p[j] == joint[0] {
				s.roots[p[:j]] = true
			}
		}
	}
	return s
}

// Scan reads one line, which must be one JSON object. The values are in the order
// of the paths, and valid until the next call.
func (s *Scanner) Scan(line []byte) ([]Value, error) {
	for i, l := range s.layers {
		copy(s.values, s.zero)
		if l.follow(s.values, line, nil) {
			if i > 0 {
				s.layers[0], s.layers[i] = l, s.layers[0]
			}
			if s.lines++; s.lines >= s.nextLay {
				s.nextLay = s.lines + min(s.lines, mostLay)
				s.lay(l, line)
			}
			return s.values, nil
		}
	}
	flags := look(line)
	if flags&hasHigh != 0 && !utf8.Valid(line) {
		return nil, fmt.Errorf("%w: not UTF-8", ErrSyntax)
	}
	if flags&hasControl != 0 && bytes.IndexByte(line, 0) >= 0 {
		return nil, fmt.Errorf("%w: binary data (NUL bytes)", ErrSyntax)
	}
	if err := s.strict(line); err != nil {
		return nil, err
	}
	copy(s.values, s.zero)
	for _, t := range s.toks {
		if t.field >= 0 {
			s.values[t.field] = valueOf(t.kind, t.escaped, line[t.from:t.to])
		}
	}
	if flags&hasControl == 0 {
		s.learn(line)
	}
	return s.values, nil
}

func valueOf(kind Kind, escaped bool, raw []byte) Value {
	switch kind {
	case word:
		switch raw[0] {
		case 't':
			return Value{Kind: True}
		case 'f':
			return Value{Kind: False}
		}
		return Value{Kind: Null}
	case Other:
		return Value{Kind: Other}
	}
	return Value{kind, escaped, raw}
}

const (
	hasControl = 1 << iota
	hasHigh
	hasBackslash
)

// look goes over a line eight bytes at a time and says what is in it.
func look(b []byte) (flags int) {
	const (
		ones = 0x0101010101010101
		high = 0x8080808080808080
	)
	var control, top, back uint64
	for ; len(b) >= 8; b = b[8:] {
		w := binary.LittleEndian.Uint64(b)
		x := w ^ ones*'\\'
		control |= (w - ones*0x20) &^ w
		top |= w
		back |= (x - ones) &^ x
	}
	for _, c := range b {
		if c < 0x20 {
			control |= high
		}
		if c >= 0x80 {
			top |= high
		}
		if c == '\\' {
			back |= high
		}
	}
	if control&high != 0 {
		flags |= hasControl
	}
	if top&high != 0 {
		flags |= hasHigh
	}
	if back&high != 0 {
		flags |= hasBackslash
	}
	return flags
}

// follow holds a line against a graph. It reports false when the line leaves it.
// With stops, no short cut is taken and the places are told.
func (l *layer) follow(values []Value, line []byte, stops *[]stop) bool {
	at, pos := l.start, 0
next:
	for {
		if c := &at.lane; c.to != nil && stops == nil {
			if n := len(c.text); len(line)-pos >= n && string(line[pos:pos+n]) == c.text {
				c.hits++
				at, pos = c.to, pos+n
				continue
			}
			if c.lost++; c.lost > 16 && c.lost > c.hits/4 {
				*c = lane{}
			}
		}
		for i, e := range at.ways {
			n := len(e.glue)
			if len(line)-pos < n || string(line[pos:pos+n]) != e.glue {
				continue
			}
			from := pos + n
			to, end, escaped := from, from, false
			switch e.kind {
			case Absent:
				if from != len(line) {
					continue
				}
				return true
			case String:
				var clean bool
				if to, clean = plainEnd(line, from); to < 0 {
					return false
				}
				if !clean {
					flags := look(line[from:to])
					if flags&hasBackslash != 0 {
						if to, escaped = stringEnd(line, from); to < 0 {
							return false
						}
						flags = look(line[from:to])
					}
					if flags&hasControl != 0 || flags&hasHigh != 0 && !utf8.Valid(line[from:to]) {
						return false
					}
				}
				end = to + 1
			case Number:
				if to = numberEnd(line, from); to < 0 {
					continue
				}
				end = to
			case word:
				if to = wordEnd(line, from); to < 0 {
					continue
				}
				end = to
			}
			if e.field >= 0 {
				values[e.field] = valueOf(e.kind, escaped, line[from:to])
			}
			if stops != nil {
				*stops = append(*stops, stop{e.to, end, e.field < 0, string(line[pos:end])})
			}
			pos = end
			if i > 0 { // what was met last is met next
				at.ways[i], at.ways[i-1] = at.ways[i-1], e
			}
			at = e.to
			continue next
		}
		return false
	}
}

// lay looks for runs of values that nobody looks for and that are as they were in
// the line before, and makes them lanes.
func (s *Scanner) lay(l *layer, line []byte) {
	s.before, s.now = s.now, s.before[:0]
	scratch := make([]Value, len(s.values))
	if !l.follow(scratch, line, &s.now) || len(s.before) != len(s.now) {
		return
	}
	at, pos := l.start, 0
	for i := 0; i < len(s.now); {
		j := i
		for j < len(s.now) && s.now[j].free && s.now[j].at == s.before[j].at && s.now[j].text == s.before[j].text {
			j++
		}
		if j > i {
			if at.lane.to == nil {
				at.lane = lane{text: string(line[pos:s.now[j-1].pos]), to: s.now[j-1].at}
			}
			i = j
		} else {
			i++
		}
		at, pos = s.now[i-1].at, s.now[i-1].pos
	}
}

// learn adds the shape of the line that was just parsed to the first graph whose
// order it does not contradict.
func (s *Scanner) learn(line []byte) {
	if len(s.toks) > maxTokens || s.places > maxPlaces {
		return
	}
	for _, l := range s.layers {
		if l.order(s.toks) {
			s.add(l, line)
			return
		}
	}
	if len(s.layers) == maxLayers {
		return
	}
	l := &layer{ranks: map[string]float64{}, at: map[string]*place{}, start: &place{}}
	s.layers = append(s.layers, l)
	if l.order(s.toks) {
		s.add(l, line)
	}
}

// order gives every new place of a line a rank between its neighbours', or reports
// false when the known ones do not rise.
func (l *layer) order(toks []token) bool {
	toks = toks[:len(toks)-1] // the end comes last anyway
	last := 0.0
	for _, t := range toks {
		if r, ok := l.ranks[t.path]; ok {
			if r <= last {
				return false
			}
			last = r
		}
	}
	last = 0
	for i := 0; i < len(toks); {
		if r, ok := l.ranks[toks[i].path]; ok {
			last = r
			i++
			continue
		}
		j := i
		for j < len(toks) {
			if _, ok := l.ranks[toks[j].path]; ok {
				break
			}
			j++
		}
		step := 1.0
		if j < len(toks) {
			step = (l.ranks[toks[j].path] - last) / float64(j-i+1)
		}
		for ; i < j; i++ {
			r := last + step
			if r <= last || j < len(toks) && r >= l.ranks[toks[j].path] {
				return false // no room is left between the two
			}
			l.ranks[toks[i].path] = r
			last = r
		}
	}
	return true
}

func (s *Scanner) add(l *layer, line []byte) {
	at := l.start
	for _, t := range s.toks {
		if t.open {
			continue
		}
		glue := line[t.glue:t.from]
		var hit *way
		for _, e := range at.ways {
			if e.kind == t.kind && e.field == t.field && e.glue == string(glue) {
				hit = e
				break
			}
		}
		if hit == nil {
			if len(at.ways) >= maxEdges || len(glue) > 1<<12 {
				return
			}
			to := l.at[t.path]
			if to == nil {
				to = &place{}
				l.at[t.path] = to
				s.places++
			}
			hit = &way{string(glue), t.kind, t.field, to}
			at.ways = append(at.ways, hit)
		}
		at = hit.to
	}
}

// wordEnd returns where true, false or null ends, or -1.
func wordEnd(b []byte, i int) int {
	for _, w := range []string{"true", "false", "null"} {
		if len(b)-i >= len(w) && string(b[i:i+len(w)]) == w {
			return i + len(w)
		}
	}
	return -1
}

// plainEnd returns where the next double quote stands, or -1, and whether all before
// it is plain ASCII without escapes and control characters. It goes eight bytes at a
// time; the marks are those of "has a byte less than n" and "has a zero byte" (S. E.
// Anderson, Bit Twiddling Hacks), exact up to the first byte that is marked.
func plainEnd(b []byte, i int) (int, bool) {
	const (
		ones = 0x0101010101010101
		high = 0x8080808080808080
	)
	clean := true
	for ; len(b)-i >= 8; i += 8 {
		w := binary.LittleEndian.Uint64(b[i:])
		q, e := w^ones*'"', w^ones*'\\'
		quote := (q - ones) &^ q & high
		odd := ((w-ones*0x20)&^w | (e-ones)&^e | w) & high
		if quote != 0 {
			at := bits.TrailingZeros64(quote) / 8
			// What is odd after the quote is another value's business.
			return i + at, clean && odd&(1<<(8*at)-1) == 0
		}
		clean = clean && odd == 0
	}
	for ; i < len(b); i++ {
		switch c := b[i]; {
		case c == '"':
			return i, clean
		case c < 0x20 || c >= 0x80 || c == '\\':
			clean = false
		}
	}
	return -1, false
}

// stringEnd returns where a string's closing quote stands, and whether it holds
// escapes; -1 when there is none or an escape is broken.
func stringEnd(b []byte, i int) (int, bool) {
	escaped := false
	for {
		n := bytes.IndexByte(b[i:], '"')
		if n < 0 {
			return -1, false
		}
		k := bytes.IndexByte(b[i:i+n], '\\')
		if k < 0 {
			return i + n, escaped
		}
		escaped = true
		i += k + 1
		if i >= len(b) {
			return -1, false
		}
		switch b[i] {
		case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
			i++
		case 'u':
			if len(b)-i < 5 {
				return -1, false
			}
			for _, c := range b[i+1 : i+5] {
				if !('0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'f') {
					return -1, false
				}
			}
			i += 5
		default:
			return -1, false
		}
	}
}

// numberEnd returns where a number ends, by the grammar of RFC 8259, section 6;
// -1 when none stands there.
func numberEnd(b []byte, i int) int {
	if i < len(b) && b[i] == '-' {
		i++
	}
	if i < len(b) && b[i] == '0' {
		i++
	} else if i = digits(b, i); i < 0 {
		return -1
	}
	if i < len(b) && b[i] == '.' {
		if i = digits(b, i+1); i < 0 {
			return -1
		}
	}
	if i < len(b) && b[i]|0x20 == 'e' {
		i++
		if i < len(b) && (b[i] == '+' || b[i] == '-') {
			i++
		}
		return digits(b, i)
	}
	return i
}

// digits returns where a run of digits ends; -1 when none stands there.
func digits(b []byte, i int) int {
	from := i
	for i < len(b) && b[i]-'0' <= 9 {
		i++
	}
	if i == from {
		return -1
	}
	return i
}

// parser is one strict parse.
type parser struct {
	s     *Scanner
	b     []byte
	i     int
	glue  int // where the bytes before the next value begin
	place []byte
	depth int
}

func (s *Scanner) strict(line []byte) error {
	s.toks = s.toks[:0]
	p := &parser{s: s, b: line}
	p.space()
	if p.i >= len(line) || line[p.i] != '{' {
		return fmt.Errorf("%w: an object is wanted, here begins %s", ErrSyntax, p.here())
	}
	if err := p.value("", true); err != nil {
		return err
	}
	p.space()
	if p.i != len(line) {
		return fmt.Errorf("%w: after the object, at byte %d, stands %s", ErrSyntax, p.i, p.here())
	}
	s.toks = append(s.toks, token{glue: p.glue, from: p.i, to: p.i, kind: Absent, field: -1})
	return nil
}

func (p *parser) here() string {
	if p.i >= len(p.b) {
		return "the end of the line"
	}
	return fmt.Sprintf("%q", p.b[p.i:min(len(p.b), p.i+12)])
}

func (p *parser) space() {
	for p.i < len(p.b) && (p.b[p.i] == ' ' || p.b[p.i] == '\t' || p.b[p.i] == '\r' || p.b[p.i] == '\n') {
		p.i++
	}
}

func (p *parser) wrong(want string) error {
	return fmt.Errorf("%w: at byte %d %s is wanted, here stands %s", ErrSyntax, p.i, want, p.here())
}

func (p *parser) token(t token) {
	t.path = string(p.place)
	if !t.open {
		t.glue = p.glue
	}
	p.s.toks = append(p.s.toks, t)
}

// value reads a value. path is its place as callers write it, when something there
// or below is looked for.
func (p *parser) value(path string, tracked bool) error {
	field := -1
	if tracked {
		if f, ok := p.s.fields[path]; ok {
			field = f
		}
	}
	if p.i >= len(p.b) {
		return p.wrong("a value")
	}
	switch c := p.b[p.i]; {
	case c == '{' || c == '[':
		return p.container(c, path, tracked && p.s.roots[path], field)
	case c == '"':
		from := p.i + 1
		to, escaped := stringEnd(p.b, from)
		if to < 0 {
			return fmt.Errorf("%w: the text that begins at byte %d has no end, or a broken escape", ErrSyntax, p.i)
		}
		if look(p.b[from:to])&hasControl != 0 {
			return fmt.Errorf("%w: the text that begins at byte %d holds a control character", ErrSyntax, p.i)
		}
		p.token(token{from: from, to: to, kind: String, field: field, escaped: escaped})
		p.i, p.glue = to+1, to+1
		return nil
	case c == '-' || '0' <= c && c <= '9':
		to := numberEnd(p.b, p.i)
		if to < 0 {
			return p.wrong("a number")
		}
		p.token(token{from: p.i, to: to, kind: Number, field: field})
		p.i, p.glue = to, to
		return nil
	}
	to := wordEnd(p.b, p.i)
	if to < 0 {
		return p.wrong("a value")
	}
	p.token(token{from: p.i, to: to, kind: word, field: field})
	p.i, p.glue = to, to
	return nil
}

func (p *parser) container(c byte, path string, tracked bool, field int) error {
	if p.depth++; p.depth > maxDepth {
		return fmt.Errorf("%w: more than %d levels", ErrDeep, maxDepth)
	}
	defer func() { p.depth-- }()
	// That it is an object or an array is itself a value, when it is looked for.
	if field >= 0 {
		p.place = append(p.place, '?')
		p.token(token{from: p.i, to: p.i, kind: Other, field: field})
		p.glue = p.i
		p.place = p.place[:len(p.place)-1]
	}
	opened := len(p.s.toks)
	p.token(token{open: true, field: -1})
	p.i++
	p.space()
	if closing := c + 2; p.i < len(p.b) && p.b[p.i] == closing { // '{' and '}', '[' and ']' are two apart
		p.i++
		// An empty one is a value of its own, so that no key goes without a place.
		p.s.toks = p.s.toks[:opened]
		p.token(token{from: p.i, to: p.i, kind: Other, field: -1})
		p.glue = p.i
		return nil
	}
	if c == '[' {
		return p.array(path, tracked)
	}
	return p.object(path, tracked)
}

func (p *parser) object(path string, tracked bool) error {
	seen := make(map[string]struct{}, 8)
	place := len(p.place)
	for {
		p.space()
		if p.i >= len(p.b) || p.b[p.i] != '"' {
			return p.wrong("a key")
		}
		from := p.i + 1
		to, escaped := stringEnd(p.b, from)
		if to < 0 || look(p.b[from:to])&hasControl != 0 {
			return p.wrong("a key")
		}
		key := string(Value{String, escaped, p.b[from:to]}.Text())
		if _, twice := seen[key]; twice {
			return fmt.Errorf("%w: %.40q", ErrDuplicate, key)
		}
		seen[key] = struct{}{}
		p.i = to + 1
		p.space()
		if p.i >= len(p.b) || p.b[p.i] != ':' {
			return p.wrong("':'")
		}
		p.i++
		p.space()
		below := key
		if p.depth > 1 {
			below = path + joint + key
		}
		p.place = strconv.AppendQuote(append(p.place[:place], '{'), key)
		if err := p.value(below, tracked && key != "" && !strings.Contains(key, joint)); err != nil {
			return err
		}
		p.place = p.place[:place]
		p.space()
		switch {
		case p.i < len(p.b) && p.b[p.i] == ',':
			p.i++
		case p.i < len(p.b) && p.b[p.i] == '}':
			p.i++
			return nil
		default:
			return p.wrong("',' or '}'")
		}
	}
}

func (p *parser) array(path string, tracked bool) error {
	place := len(p.place)
	for n := 0; ; n++ {
		p.space()
		below := ""
		if tracked {
			below = path + joint + strconv.Itoa(n)
		}
		p.place = strconv.AppendInt(append(p.place[:place], '['), int64(n), 10)
		if err := p.value(below, tracked); err != nil {
			return err
		}
		p.place = p.place[:place]
		p.space()
		switch {
		case p.i < len(p.b) && p.b[p.i] == ',':
			p.i++
		case p.i < len(p.b) && p.b[p.i] == ']':
			p.i++
			return nil
		default:
			return p.wrong("',' or ']'")
		}
	}
}
