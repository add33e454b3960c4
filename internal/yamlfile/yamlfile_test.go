package yamlfile_test

import (
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/yamlfile"
)

type inner struct {
	Word string `json:"word,omitempty"`
}

type sample struct {
	N     int               `json:"n" doc:"a number"`
	F     float64           `json:"f,omitempty"`
	B     bool              `json:"b,omitempty"`
	S     string            `json:"s,omitempty"`
	List  []inner           `json:"list,omitempty"`
	Map   map[string]string `json:"map,omitempty"`
	At    model.Position    `json:"-"`
	P     *inner            `json:"p,omitempty"`
	T     time.Time         `json:"t,omitzero"`
	Path  model.Path        `json:"path,omitzero"`
	inner `yaml:",inline"`
}

func TestDecode(t *testing.T) {
	for _, tt := range []struct{ in, want, err string }{
		{"n: 3\nf: 1.5\nb: true\ns: x\nlist: [{word: a}, {word: b}]\nmap: {k: v}", `{"n":3,"f":1.5,"b":true,"s":"x","list":[{"word":"a"},{"word":"b"}],"map":{"k":"v"}}`, ""},
		{`{"n": 3, "s": "json is yaml"}`, `{"n":3,"s":"json is yaml"}`, ""},
		{"n: 1\nlist:\n", `{"n":1}`, ""},
		{"n: 1\npath: /x/a:b\nt: 2026-11-24T08:00:00Z", `{"n":1,"t":"2026-11-24T08:00:00Z","path":"/x/a:b"}`, ""},
		{"n: 1\nt: soon", "", `x.yaml:2:4: t: `},
		{"n: one", "", `x.yaml:1:4: n: want a whole number, have "one"`},
		{"n: 1\nb: yes-ish", "", `x.yaml:2:4: b: want true or false`},
		{"n: 1\nlist: {a: b}", "", `x.yaml:2:7: list: want a list, have a mapping`},
		{"n: 1\nlist:\n  - word: [x]", "", `x.yaml:3:11: list[0].word: want text, have a list`},
		{"n: 1\nn: 2", "", `x.yaml:2:1: field n is given twice`},
		{"n: 1\nmap: {k: v, k: w}", "", `given twice`},
		{"n: 1\nlst: []", "", `did you mean "list"?`},
		{"n: &a 1\nf: *a", "", "aliases"},
		{"", "", "the file is empty"},
		{"[1]", "", "want a mapping, have a list"},
		{"a: b: c", "", "x.yaml:1:1: not YAML"},
		{"n: 1\n---\nn: 2", "", "a second document"},
		{"n: 1\npath: x", "", `x.yaml:2:7: path: path "x": does not begin with '/'`},
		{strings.Repeat("z: 1\n", 50), "", "more faults follow"},
	} {
		var v sample
		err := yamlfile.Decode("x.yaml", []byte(tt.in), &v)
		if tt.err != "" {
			if err == nil || !strings.Contains(err.Error(), tt.err) || !errors.Is(err, yamlfile.ErrSyntax) {
				t.Errorf("%q: error %v, want %q", tt.in, err, tt.err)
			}
			continue
		}
		got, _ := json.Marshal(v)
		if err != nil || string(got) != tt.want {
			t.Errorf("%q = %s, %v; want %s", tt.in, got, err, tt.want)
		}
		if v.At.Line != 1 || v.At.File != "x.yaml" {
			t.Errorf("%q: at %v", tt.in, v.At)
		}
	}
}

func TestSchema(t *testing.T) {
	b, err := yamlfile.Schema("Sample", reflect.TypeFor[sample]())
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"required": [`, `"n"`, `"description": "a number"`, `"format": "date-time"`, `"additionalProperties": false`} {
		if !strings.Contains(string(b), want) {
			t.Errorf("schema lacks %s:\n%s", want, b)
		}
	}
}

// FuzzDecode: whatever the bytes, faults have a place, and what was read is read
// again from its own JSON.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{"n: 1", "{}", "n: [", "n: 1\nlist: [{word: a}]", "\x00", "a: &a [*a]", "n: 0x10\nb: True", "? [a]\n: b"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		var v, w sample
		if err := yamlfile.Decode("x", in, &v); err != nil {
			if !strings.HasPrefix(err.Error(), "x:") {
				t.Fatalf("%q: error without a place: %v", in, err)
			}
			return
		}
		b, err := json.Marshal(v)
		if err != nil {
			return // a float that JSON has no word for
		}
		if err := yamlfile.Decode("x", b, &w); err != nil {
			t.Fatalf("%q was read as %s, which is not read again: %v", in, b, err)
		}
	})
}
