package jsonscan_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"clipfence/internal/auditlog/jsonscan"
)

var paths = []string{"a", "b.c", "b.d.e", "list.0.x", "list.1", "n"}

// render says what a scan took out.
func render(vs []jsonscan.Value, err error) string {
	if err != nil {
		return "error"
	}
	var b strings.Builder
	for i, v := range vs {
		switch v.Kind {
		case jsonscan.Absent:
		case jsonscan.String:
			fmt.Fprintf(&b, "%s=%q ", paths[i], v.Text())
		case jsonscan.Number:
			fmt.Fprintf(&b, "%s=%s ", paths[i], v.Raw)
		case jsonscan.Other:
			fmt.Fprintf(&b, "%s=container ", paths[i])
		default:
			fmt.Fprintf(&b, "%s=%s ", paths[i], map[jsonscan.Kind]string{jsonscan.True: "true",
				jsonscan.False: "false", jsonscan.Null: "null"}[v.Kind])
		}
	}
	return b.String()
}

// want is the same by encoding/json.
func want(line []byte) string {
	dec := json.NewDecoder(bytes.NewReader(line))
	dec.UseNumber()
	var v any
	if !bytes.HasPrefix(bytes.TrimLeft(line, " \t\r\n"), []byte("{")) || dec.Decode(&v) != nil || dec.More() ||
		!json.Valid(line) {
		return "error"
	}
	var b strings.Builder
	for _, p := range paths {
		at, ok := v, true
		for _, k := range strings.Split(p, ".") {
			switch c := at.(type) {
			case map[string]any:
				at, ok = c[k]
			case []any:
				var n int
				if _, err := fmt.Sscanf(k, "%d", &n); err != nil || n >= len(c) {
					ok = false
				} else {
					at = c[n]
				}
			default:
				ok = false
			}
			if !ok {
				break
			}
		}
		if !ok {
			continue
		}
		switch c := at.(type) {
		case string:
			fmt.Fprintf(&b, "%s=%q ", p, c)
		case json.Number:
			fmt.Fprintf(&b, "%s=%s ", p, c)
		case bool:
			fmt.Fprintf(&b, "%s=%t ", p, c)
		case nil:
			fmt.Fprintf(&b, "%s=null ", p)
		default:
			fmt.Fprintf(&b, "%s=container ", p)
		}
	}
	return b.String()
}

func TestScan(t *testing.T) {
	s := jsonscan.New(paths...)
	for _, line := range []string{
		`{}`, `{"a":"x"}`, `{"a":"y"}`, ` { "a" : "z" } `, `{"a":"q\"\u00e9\\"}`, `{"a":"\ud800"}`,
		`{"a":1,"b":{"c":true,"d":{"e":null}},"list":[{"x":"1"},2,3],"n":-1.5e+3}`,
		`{"a":2,"b":{"c":false,"d":{"e":"s"}},"list":[{"x":"2"},"t"],"n":0}`,
		`{"n":0,"list":[{"x":"2"},"t"],"b":{"d":{"e":"s"},"c":false},"a":2}`,
		`{"a":{},"b":[],"list":{"0":{"x":1}}}`, `{"b":{}}`, `{"b":{"c":{"z":1}}}`, `{"list":[[],[]]}`,
		`{"\u0061":"escaped key"}`, `{"a.b":1,"b.c":2}`, `{"":{"a":1}}`,
		`{"a":01}`, `{"a":1.}`, `{"a":+1}`, `{"a":1e}`, `{"a":-}`, `{"a":tru}`, `{"a":"\x"}`, `{"a":"\u12g4"}`,
		`{"a":"` + "\t" + `"}`, "{\t\"a\":\t1}",
		`{"a":1,}`, `{"a"}`, `{a:1}`, `[1]`, `1`, ``, `{"a":1}x`, `{"a":1}{"a":2}`, `{"a":"x`, `{"a":[1}`, `{"a":1`,
		"{\"a\":\"\xff\"}", "{\"a\":\"\x00\"}", `nul`,
		strings.Repeat(`{"a":`, 150) + "1" + strings.Repeat("}", 150),
	} {
		for pass := range 3 { // strictly, then by what was learned
			got, w := render(s.Scan([]byte(line))), want([]byte(line))
			if strings.Contains(line, "\xff") {
				w = "error" // encoding/json replaces broken text; a log's is set aside
			}
			if got != w {
				t.Errorf("pass %d: Scan(%.80q) = %s, want %s", pass, line, got, w)
			}
		}
	}
	for line, want := range map[string]error{
		`{"a":1,"a":2}`: jsonscan.ErrDuplicate, `{"b":{"c":1},"b":{"c":2}}`: jsonscan.ErrDuplicate,
		`{"a":1,"\u0061":2}`:         jsonscan.ErrDuplicate,
		strings.Repeat("[", 100_000): jsonscan.ErrSyntax, strings.Repeat(`{"a":`, 100_000): jsonscan.ErrDeep,
	} {
		if _, err := s.Scan([]byte(line)); !errors.Is(err, want) {
			t.Errorf("Scan(%.40q): %v, want %v", line, err, want)
		}
	}
}

// object makes a random object that has some of the paths in it, in any order.
func object(r *rand.Rand, depth int) string {
	keys := []string{"a", "b", "c", "d", "e", "x", "n", "list", "other", "k\\n"}
	r.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
	var parts []string
	for _, k := range keys[:r.IntN(len(keys))] {
		parts = append(parts, `"`+k+`":`+value(r, depth))
	}
	if r.IntN(30) == 0 && len(parts) > 0 {
		parts = append(parts, parts[0]) // a key given twice
	}
	return "{" + strings.Join(parts, ",") + "}"
}

func value(r *rand.Rand, depth int) string {
	switch n := r.IntN(9); {
	case n < 3:
		return []string{`""`, `"x"`, `"a\"b"`, `"é"`, `"}{]["`, `"\\"`}[r.IntN(6)]
	case n < 5:
		return []string{"0", "-1", "12.5e3", "true", "null", "false"}[r.IntN(6)]
	case depth == 0:
		return "1"
	case n < 7:
		return object(r, depth-1)
	}
	var parts []string
	for range r.IntN(3) {
		parts = append(parts, value(r, depth-1))
	}
	return "[" + strings.Join(parts, ",") + "]"
}

// TestLearnedAgreesWithStrict: a scanner that has seen many lines takes out, and
// refuses, just what a fresh one does; and mixing halves of lines fools neither.
func TestLearnedAgreesWithStrict(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		s := jsonscan.New(paths...)
		var lines []string
		for range 150 {
			lines = append(lines, object(r, 3))
		}
		for range 1500 {
			line := lines[r.IntN(len(lines))]
			if r.IntN(2) == 0 { // cross two of them where a member ends
				other := lines[r.IntN(len(lines))]
				if i, j := strings.LastIndex(line[:r.IntN(len(line))+1],
					","), strings.IndexByte(other[r.IntN(len(other)):], ','); i > 0 && j >= 0 {
					line = line[:i] + other[len(other)-len(other[strings.IndexByte(other, ','):]):]
				}
			}
			got, fresh := render(s.Scan([]byte(line))), render(jsonscan.New(paths...).Scan([]byte(line)))
			if got != fresh {
				t.Fatalf("seed %d: %s: learned %s, strict %s", seed, line, got, fresh)
			}
		}
	}
}

// FuzzScan holds the strict parse against encoding/json, and the learned one
// against the strict one, over two lines at once.
func FuzzScan(f *testing.F) {
	f.Add(`{"a":"x","b":{"c":1}}`, `{"b":{"c":1},"a":"y"}`)
	f.Add(`{"a":1,"list":[{"x":1}]}`, `{"list":[{"x":1},2],"a":1}`)
	f.Add(`{"u":{"x":1},"z":1}`, `{"z":1,"u":{"y":1}}`)
	f.Fuzz(func(t *testing.T, one, two string) {
		s := jsonscan.New(paths...)
		for _, line := range []string{one, two, one + two, one, two} {
			vs, err := s.Scan([]byte(line))
			got := render(vs, err)
			if _, ferr := jsonscan.New(paths...).Scan([]byte(line)); (ferr == nil) != (err == nil) {
				t.Fatalf("%q: learned %v, strict %v", line, err, ferr)
			}
			if errors.Is(err, jsonscan.ErrDuplicate) || errors.Is(err, jsonscan.ErrDeep) ||
				!json.Valid([]byte(line)) && err != nil || strings.ContainsRune(line, '\ufffd') {
				continue
			}
			if w := want([]byte(line)); got != w && !(err != nil && strings.Contains(err.Error(), "UTF-8")) {
				t.Fatalf("%q: %s, want %s", line, got, w)
			}
		}
	})
}
