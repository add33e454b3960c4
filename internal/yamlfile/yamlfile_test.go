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
		{"n: 3\nf: 1.5\nb: true\ns: x\nlist: [{word: a}, {word: b}]\nmap: {k: v}",
			`{"n":3,"f":1.5,"b":true,"s":"x","list":[{"word":"a"},{"word":"b"}],"map":{"k":"v"}}`, ""},
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
	for _, want := range []string{`"required": [`, `"n"`, `"description": "a number"`, `"format": "date-time"`,
		`"additionalProperties": false`} {
		if !strings.Contains(string(b), want) {
			t.Errorf("schema lacks %s:\n%s", want, b)
		}
	}
}

// FuzzDecode: whatever the bytes, faults have a place, and what was read is read
// again from its own JSON.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{"n: 1", "{}", "n: [", "n: 1\nlist: [{word: a}]", "\x00", "a: &a [*a]",
		"n: 0x10\nb: True", "? [a]\n: b"} {
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

type renamed struct {
	N       int            `json:"n"`
	Places  []string       `json:"places,omitempty" was:"on"`
	Level   string         `json:"level,omitempty" was:"list=see write=change"`
	Side    string         `json:"kept_with,omitempty" was:"side left=holder"`
	Old     []oldForm      `json:"old,omitempty"`
	Remarks []model.Remark `json:"-"`
}

type oldForm struct {
	Do string `json:"do"`
}

func (o *oldForm) FromText(s string) (string, error) {
	if s == "" {
		return "", errors.New("says nothing")
	}
	o.Do = s
	return "{do: " + s + "}", nil
}

// TestWordsOfBefore: keys, values and forms of an earlier format mean what they meant,
// and each kind of them is told once, with its place.
func TestWordsOfBefore(t *testing.T) {
	for _, tt := range []struct{ in, want, remarks string }{
		{"n: 1\nplaces: [a]\nlevel: see", `{"n":1,"places":["a"],"level":"see"}`, ""},
		{"n: 1\nlevel: list", `{"n":1,"level":"see"}`, `x:2:8: level: "list" is called "see" now`},
		{"n: 1\nside: left", `{"n":1,"kept_with":"holder"}`,
			`x:2:1: side is called kept_with now; x:2:7: kept_with: "left" is called "holder" now`},
		{"n: 1\nold: [a, b, {do: c}]", `{"n":1,"old":[{"do":"a"},{"do":"b"},{"do":"c"}]}`,
			"x:2:7: old[0]: a text stood here once; write {do: a} (and so on 1 more lines)"},
		{"n: 1\nold: ['']", "", "x:2:7: old[0]: says nothing"},
		{"n: 1\nside: left\nkept_with: holder", "", "x:3:1: field kept_with is given twice"},
	} {
		var v renamed
		err := yamlfile.Decode("x", []byte(tt.in), &v)
		var told []string
		for _, r := range v.Remarks {
			told = append(told, r.String())
		}
		got, _ := json.Marshal(v)
		if tt.want == "" {
			if err == nil || !strings.Contains(err.Error(), tt.remarks) {
				t.Errorf("%q: %v, want %s", tt.in, err, tt.remarks)
			}
		} else if err != nil || string(got) != tt.want || strings.Join(told, "; ") != tt.remarks {
			t.Errorf("%q: %s %v, remarks %q, want %s, %q", tt.in, got, err, strings.Join(told, "; "), tt.want,
				tt.remarks)
		}
	}
	var said []model.Remark
	for have, want := range map[int]string{0: "format 0 is not known", 1: "", 2: "",
		3: "format 3 is not known to this program (want 2)"} {
		if err := yamlfile.Version("x", "estate", have, 2, &said); (err == nil) != (want == "") || err != nil &&
			!strings.Contains(err.Error(), want) {
			t.Errorf("version %d: %v", have, err)
		}
	}
	if len(said) != 1 || !strings.Contains(said[0].Text, "write estate: 2") {
		t.Errorf("versions: %v", said)
	}
}
