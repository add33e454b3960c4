package logmap_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/logmap"
)

// ticket is a map that uses every field.
func ticket() *logmap.Map {
	return &logmap.Map{Version: 1, Name: "tickets", Form: "json", Match: `has(r.verb)`, Skip: `r.verb == "ping"`,
		Time: "r.at", ID: "r.?id.orValue('')",
		Identity: "r.who", ActingFor: "r.?sub.orValue('')", Permission: `"tickets/ticket:" + lower(r.verb)`,
		Path:    `"/m/ticket:" + escape(r.object)`,
		Outcome: "r.?status.orValue('done')", Network: "r.?ip.orValue('')", Factor: "r.?mfa.orValue(false)"}
}

// read parses one record and says what it came to.
func read(t *testing.T, m *logmap.Map, header, record string) string {
	t.Helper()
	mk, err := m.Compile()
	if err != nil {
		t.Fatal(err)
	}
	f := mk()
	if h, ok := f.(interface{ Header([]byte) }); ok && header != "" {
		h.Header([]byte(header))
	}
	var out []string
	err = f.Parse([]byte(record), func(e *auditlog.Event) error {
		s := fmt.Sprintf("%s %s %s %s %s", time.UnixMilli(e.Time).UTC().Format(time.RFC3339), e.Who.Text, e.Operation,
			e.Path, e.Outcome)
		if len(e.ActingFor.Text) > 0 {
			s += " for " + string(e.ActingFor.Text)
		}
		if len(e.ID) > 0 {
			s += " id " + string(e.ID)
		}
		if len(e.Network) > 0 {
			s += " from " + string(e.Network)
		}
		out = append(out, s+" "+e.Factor.String())
		return nil
	})
	var skip *auditlog.Skip
	switch {
	case errors.As(err, &skip):
		return "skip: " + skip.Why
	case err != nil:
		return "error: " + err.Error()
	}
	return strings.Join(out, "; ")
}

// TestRecords reads records by a map, one change at a time.
func TestRecords(t *testing.T) {
	const plain = `{"at":"2026-11-24T08:00:00Z","who":"ingrid","verb":"Close","object":"a/b"}`
	for _, tt := range []struct {
		name   string
		bend   func(m *logmap.Map)
		header string
		record string
		want   string // or a part of an error
	}{
		{"plain", nil, "", plain, "2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"everything", nil, "",
			`{"at":"2026-11-24T08:00:00Z","id":"7","who":"ingrid","sub":"robot","verb":"X","object":"o","status":"refused","ip":"10.0.0.1","mfa":true}`,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:x /m/ticket:o refused for robot id 7 from 10.0.0.1 yes"},
		{"a number as an id", nil, "", `{"at":"2026-11-24T08:00:00Z","id":7,"who":"a","verb":"X","object":"o"}`,
			"2026-11-24T08:00:00Z a tickets/ticket:x /m/ticket:o done id 7 no"},
		{"skipped", nil, "", `{"at":"2026-11-24T08:00:00Z","who":"a","verb":"ping","object":"o"}`,
			"skip: skipped by log map tickets"},
		{"not of this log", nil, "", `{"other":1}`, "not matched by log map tickets"},
		{"of another form", nil, "", `a,b,c`, "not of the form json"},
		{"no object", nil, "", `{"at":`, "not a JSON object"},
		{"a field that is missing", nil, "", `{"at":"2026-11-24T08:00:00Z","verb":"X","object":"o"}`,
			"tickets: identity: no such key: who"},
		{"who is null", nil, "", `{"at":"2026-11-24T08:00:00Z","who":null,"verb":"X","object":"o"}`,
			"2026-11-24T08:00:00Z  tickets/ticket:x /m/ticket:o done no"},
		{"who is an object", nil, "", `{"at":"2026-11-24T08:00:00Z","who":{},"verb":"X","object":"o"}`,
			"identity yields map(dyn, dyn), want text"},
		{"escape wants text", nil, "", `{"at":"2026-11-24T08:00:00Z","who":"a","verb":"X","object":3}`,
			"escape wants text"},

		{"seconds", func(m *logmap.Map) { m.Time = "1790000000" }, "", plain,
			"2026-09-21T14:13:20Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"milliseconds", func(m *logmap.Map) { m.Time = "1790000000000.0" }, "", plain,
			"2026-09-21T14:13:20Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"a timestamp", func(m *logmap.Map) { m.Time = "timestamp(r.at)" }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"the year 1", func(m *logmap.Map) { m.Time = `"0001-01-01T00:00:00Z"` }, "", plain, "error: tickets: "},
		{"a time below all", func(m *logmap.Map) { m.Time = "-5" }, "", plain, "is not between 1990 and 2200"},
		{"a time of another kind", func(m *logmap.Map) { m.Time = "true" }, "", plain, "time yields bool"},

		{"refused by false", func(m *logmap.Map) { m.Outcome = "false" }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb refused no"},
		{"done by true", func(m *logmap.Map) { m.Outcome = "true" }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"refused by 403", func(m *logmap.Map) { m.Outcome = "403" }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb refused no"},
		{"failed by 500", func(m *logmap.Map) { m.Outcome = `"500"` }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb failed no"},
		{"done by 204", func(m *logmap.Map) { m.Outcome = "204.0" }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"an outcome that is none", func(m *logmap.Map) { m.Outcome = `"perhaps"` }, "", plain,
			`outcome "perhaps" is none of`},
		{"without one it is done", func(m *logmap.Map) { m.Outcome = "" }, "", plain,
			"2026-11-24T08:00:00Z ingrid tickets/ticket:close /m/ticket:a%2Fb done no"},

		{"several permissions, in order, each once",
			func(m *logmap.Map) { m.Permission = `["t/x:set", "t/x:get", "t/x:set"]` }, "", plain,
			"2026-11-24T08:00:00Z ingrid t/x:get /m/ticket:a%2Fb done no; 2026-11-24T08:00:00Z ingrid t/x:set " +
				"/m/ticket:a%2Fb done no"},
		{"no permission", func(m *logmap.Map) { m.Permission = `[]` }, "", plain, ""},
		{"a permission of another kind", func(m *logmap.Map) { m.Permission = `3` }, "", plain,
			"want text or a list of texts"},
		{"split", func(m *logmap.Map) { m.Identity = `split(r.object, "/")[1]` }, "", plain,
			"2026-11-24T08:00:00Z b tickets/ticket:close /m/ticket:a%2Fb done no"},
		{"an index out of reach", func(m *logmap.Map) { m.Identity = `split(r.object, "/")[9]` }, "", plain,
			"identity: index out of bounds"},

		{"csv with columns", func(m *logmap.Map) {
			m.Form, m.Columns = "csv",
				[]string{"at", "who", "verb", "object"}
		}, "", `2026-11-24T08:00:00Z,"ing,rid",Open,x`,
			"2026-11-24T08:00:00Z ing,rid tickets/ticket:open /m/ticket:x done no"},
		{"csv with a header", func(m *logmap.Map) { m.Form = "csv" }, "\xef\xbb\xbfat,who,verb,object",
			`2026-11-24T08:00:00Z,a,Open,x`,
			"2026-11-24T08:00:00Z a tickets/ticket:open /m/ticket:x done no"},
		{"the header itself", func(m *logmap.Map) { m.Form = "csv" }, "at,who,verb,object", "at,who,verb,object",
			"skip: the header of a CSV file"},
		{"csv with a field too few", func(m *logmap.Map) {
			m.Form, m.Columns = "csv",
				[]string{"at", "who", "verb", "object"}
		}, "", `2026-11-24T08:00:00Z,a,Open`, "3 fields under 4 columns"},
		{"csv with a stray quote", func(m *logmap.Map) {
			m.Form, m.Columns = "csv",
				[]string{"at", "who", "verb", "object"}
		}, "", `2026-11-24T08:00:00Z,a"b,Open,x`, "csv: "},
		{"an expression that costs too much", func(m *logmap.Map) {
			m.Identity = `[1,2,3,4,5,6,7,8,9,10].map(a, [1,2,3,4,5,6,7,8,9,10].map(b, [1,2,3,4,5,6,7,8,9,10].map(c, [1,2,3,4,5,6,7,8,9,10].map(d, [1,2,3,4,5,6,7,8,9,10].map(e, a+b+c+d+e))))).size() > 0 ? "a" : "b"`
		}, "", plain, "cost"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			m := ticket()
			if tt.bend != nil {
				tt.bend(m)
			}
			got := read(t, m, tt.header, tt.record)
			if got != tt.want && !(strings.HasPrefix(got, "error: ") && tt.want != "" &&
				strings.Contains(got, tt.want)) {
				t.Errorf("%q, want %q", got, tt.want)
			}
		})
	}
}

// TestCompile says what is wrong with a map, all of it at once.
func TestCompile(t *testing.T) {
	for _, tt := range []struct {
		name string
		bend func(m *logmap.Map)
		want []string
	}{
		{"fine", func(*logmap.Map) {}, nil},
		{"another version", func(m *logmap.Map) { m.Version = 2 }, []string{"format 2 is not known"}},
		{"another form", func(m *logmap.Map) { m.Form = "xml" }, []string{`"xml" is neither json nor csv`}},
		{"no name", func(m *logmap.Map) { m.Name = "" }, []string{"needs a name"}},
		{"what it must have", func(m *logmap.Map) { m.Time, m.Identity, m.Permission, m.Path = "", "", "", "" },
			[]string{"time: an expression is wanted", "identity: an expression", "permission: an expression",
				"path: an expression"}},
		{"broken CEL", func(m *logmap.Map) { m.Path = "r.a +" },
			[]string{"path: Syntax error", "at character 6 of r.a +"}},
		{"an unknown name", func(m *logmap.Map) { m.Path = "record.a" },
			[]string{"undeclared reference to 'record'", "split(text, separator)"}},
		{"a function by its other form", func(m *logmap.Map) { m.Path = `r.a.split("/")` },
			[]string{"path: found no matching overload for 'split'", "lower(text) and split(text"}},
		{"two at once", func(m *logmap.Map) { m.Path, m.ID = "1 +", "nobody()" },
			[]string{"path: Syntax error", "id: undeclared"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			m := ticket()
			tt.bend(m)
			_, err := m.Compile()
			if (err != nil) != (tt.want != nil) || err != nil && !errors.Is(err, logmap.ErrMap) {
				t.Fatalf("error %v, want %v", err, tt.want)
			}
			for _, w := range tt.want {
				if !strings.Contains(err.Error(), w) {
					t.Errorf("error %v does not say %q", err, w)
				}
			}
		})
	}
}
