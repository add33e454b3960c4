package cli

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestDifferences(t *testing.T) {
	for _, tt := range []struct{ before, after, want string }{
		{`{"a":1}`, `{"a":1}`, ""},
		{`{"a":1,"b":"x"}`, `{"a":2,"c":true}`, `a: 1 -> 2 | b: "x" -> nothing | c: nothing -> true`},
		{`{"l":[{"k":"x","written": false},{"k":"y","written": true}]}`,
			`{"l":[{"k":"x","written": true},{"k":"y","written": true}]}`, `l[k=x].written: false -> true`},
		{`{"l":[1,2]}`, `{"l":[1,3]}`, `l[1]: 2 -> 3`},
		{`{"l":[1]}`, `{"l":[1,2]}`, `l: [1] -> [1,2]`},
		{`{"a":{"b":{"c":1}}}`, `{"a":{"b":{"c":null}}}`, `a.b.c: 1 -> nothing`},
		{`broken`, `{}`, ""},
	} {
		if got := strings.Join(differences(json.RawMessage(tt.before), json.RawMessage(tt.after)),
			" | "); got != tt.want {
			t.Errorf("%s and %s: %s, want %s", tt.before, tt.after, got, tt.want)
		}
	}
}
