package yamlfile_test

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	yaml "go.yaml.in/yaml/v3"

	"clipfence/internal/yamlfile"
)

func TestReplace(t *testing.T) {
	const block = "# head\na: 1\ngrants:\n  # of the first\n  - {id: x}\n  - id: y # two\n    where:\n" +
		"      - p\n\n# behind\nlast: [1]\n"
	for _, tt := range []struct {
		name, data string
		index      int
		with, want string
	}{
		{"in place", block, 0, `{"id":"z"}`, strings.Replace(block, "- {id: x}", "- {id: z}", 1)},
		{"several lines", block, 1, `{"id":"z"}`, strings.Replace(block, "- id: y # two\n    where:\n      - p\n",
			"- {id: z}\n", 1)},
		{"gone", block, 0, "", strings.Replace(block, "  - {id: x}\n", "", 1)},
		{"the last gone", block, 1, "", strings.Replace(block, "  - id: y # two\n    where:\n      - p\n", "", 1)},
		{"added", block, -1, `{"id":"z","where":["/a/**"]}`,
			strings.Replace(block, "      - p\n", "      - p\n  - {id: z, where: [/a/**]}\n", 1)},
		{"without an end of line", "grants:\n- a", -1, `"b"`, "grants:\n- a\n- b\n"},
		{"the only one gone", "grants:\n- a\nx: 1\n", 0, "", "grants: []\nx: 1\n"},
		{"the first", "x: 1\n", -1, `"b"`, "x: 1\ngrants:\n  - b\n"},
		{"into an empty list", "grants: [] # none\nx: 1\n", -1, `"b"`, "grants:\n  - b\nx: 1\n"},
		{"into no list", "grants:\nx: 1\n", -1, `"b"`, "grants:\n  - b\nx: 1\n"},
		{"what needs quotes", "grants:\n- a\n", -1, `"# no: comment"`, "grants:\n- a\n- '# no: comment'\n"},
		{"JSON, in place", `{"grants": [1, 2,3], "x": {"grants": []}}`, 1, "9",
			`{"grants": [1, 9,3], "x": {"grants": []}}`},
		{"JSON, gone", `{"grants": [1, 2,3]}`, 1, "", `{"grants": [1, 3]}`},
		{"JSON, the last gone", `{"grants": [1, 2,3 ]}`, 2, "", `{"grants": [1, 2 ]}`},
		{"JSON, the only one gone", `{"grants": [1]}`, 0, "", `{"grants": []}`},
		{"JSON, added", "{\"grants\": [\n 1,\n 2\n]}", -1, "3", "{\"grants\": [\n 1,\n 2,\n 3\n]}"},
		{"JSON, the first", `{"x": 1}`, -1, "3", "{\"x\": 1,\n  \"grants\": [3]}"},
		{"JSON, into an empty list", `{"grants": []}`, -1, "3", `{"grants": [3]}`},
	} {
		var with json.RawMessage
		if tt.with != "" {
			with = json.RawMessage(tt.with)
		}
		got, err := yamlfile.Replace([]byte(tt.data), "grants", tt.index, with)
		if err != nil || string(got) != tt.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", tt.name, err, got, tt.want)
		}
	}
	for _, tt := range []struct {
		data  string
		index int
	}{{"grants: 7\n", -1}, {"grants: [1]\n", 1}, {"- 1\n", -1}, {"x: 1\n", 0}, {"a: [", -1}, {`{"grants": 7}`, -1},
		{`{"grants": []}`, 0}, {`{}`, 0}} {
		if got, err := yamlfile.Replace([]byte(tt.data), "grants", tt.index, json.RawMessage("1")); err == nil {
			t.Errorf("%q, %d: %q", tt.data, tt.index, got)
		}
	}
}

// styles are ways to write a document whose list is under grants, between others.
var styles = []func([]any) string{
	func(l []any) string {
		b, _ := json.Marshal(map[string]any{"a": 1, "grants": l, "z": []any{"#"}})
		return string(b)
	},
	func(l []any) string {
		b, _ := json.MarshalIndent(map[string]any{"a": 1, "grants": l, "z": []any{"#"}}, "", "   ")
		return string(b)
	},
	func(l []any) string {
		b, _ := yaml.Marshal(map[string]any{"a": 1, "grants": l, "z": []any{"#"}})
		return string(b)
	},
	func(l []any) string {
		b, _ := json.Marshal(l)
		return "a: 1\ngrants: " + string(b) + "\nz: ['#']\n"
	},
}

// anItem makes up an element.
func anItem(r *rand.Rand) any {
	word := func() string {
		return []string{"x", "# y", "- z", "a: b", "multi\nline", "", "'", "null", "2026-01-01", "*", "very " +
			strings.Repeat("long ", 40)}[r.IntN(11)]
	}
	switch r.IntN(3) {
	case 0:
		return word()
	case 1:
		return map[string]any{"id": word(), "where": []any{word(), word()}}
	}
	return map[string]any{"id": word(), "when": map[string]any{"k": []any{word()}, "b": true}}
}

// TestReplaceMeansIt: whatever the style, what is read after is the list with the one change,
// and everything else as it was.
func TestReplaceMeansIt(t *testing.T) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 0))
	item := func() any { return anItem(r) }
	for n := range 3000 {
		list := []any{}
		for range r.IntN(5) {
			list = append(list, item())
		}
		data := styles[r.IntN(len(styles))](list)
		index, want := -1, append([]any{}, list...)
		var with json.RawMessage
		if len(list) > 0 && r.IntN(3) > 0 {
			index = r.IntN(len(list))
		}
		if index < 0 || r.IntN(2) == 0 {
			v := item()
			with, _ = json.Marshal(v)
			if index < 0 {
				want = append(want, v)
			} else {
				want[index] = v
			}
		} else {
			want = append(want[:index], want[index+1:]...)
		}
		out, err := yamlfile.Replace([]byte(data), "grants", index, with)
		if err != nil {
			t.Fatalf("seed %d, %d: %v\n%s", seed, n, err, data)
		}
		var got map[string]any
		if err := yaml.Unmarshal(out, &got); err != nil {
			t.Fatalf("seed %d, %d: %v\n%s\nfrom\n%s", seed, n, err, out, data)
		}
		if whole := map[string]any{"a": 1, "grants": want, "z": []any{"#"}}; !reflect.DeepEqual(got, whole) {
			t.Fatalf("seed %d, %d: index %d, with %s\n%s\nfrom\n%s\nreads %v, want %v", seed, n, index, with, out,
				data, got, whole)
		}
	}
}

// TestReplaceAll: several edits at once are what they are one by one, whatever the style, and where what comes is
// written before anything goes, to the letter.
func TestReplaceAll(t *testing.T) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	for n := range 3000 {
		list := []any{}
		for range r.IntN(6) {
			list = append(list, anItem(r))
		}
		style := r.IntN(len(styles))
		data := styles[style](list)
		var edits []yamlfile.Edit
		want, gone := append([]any{}, list...), map[int]bool{}
		for range r.IntN(3) {
			v := anItem(r)
			with, _ := json.Marshal(v)
			edits, want = append(edits, yamlfile.Edit{Key: "grants", Index: -1, With: with}), append(want, v)
		}
		for i := range list {
			switch r.IntN(3) {
			case 0:
				edits, gone[i] = append(edits, yamlfile.Edit{Key: "grants", Index: i}), true
			case 1:
				want[i] = anItem(r)
				with, _ := json.Marshal(want[i])
				edits = append(edits, yamlfile.Edit{Key: "grants", Index: i, With: with})
			}
		}
		if r.IntN(2) == 0 { // of another list as well, and of one that is not there
			edits = append(edits, yamlfile.Edit{Key: "z", Index: -1, With: json.RawMessage("1")})
		}
		left := []any{}
		for i, v := range want {
			if !gone[i] {
				left = append(left, v)
			}
		}
		out, err := yamlfile.ReplaceAll([]byte(data), edits)
		if err != nil {
			t.Fatalf("seed %d, %d: %v\n%s", seed, n, err, data)
		}
		one, before := []byte(data), 0
		for _, e := range edits {
			if e.Index >= 0 {
				e.Index -= before
			}
			if one, err = yamlfile.Replace(one, e.Key, e.Index, e.With); err != nil {
				t.Fatalf("seed %d, %d: %v\n%s", seed, n, err, one)
			}
			if e.Index >= 0 && e.With == nil {
				before++
			}
		}
		if len(left) > 0 && string(out) != string(one) {
			t.Fatalf("seed %d, %d: %+v at once\n%s\none by one\n%s\nfrom\n%s", seed, n, edits, out, one, data)
		}
		var got map[string]any
		if err := yaml.Unmarshal(out, &got); err != nil {
			t.Fatalf("seed %d, %d: %v\n%s\nfrom\n%s", seed, n, err, out, data)
		}
		if !reflect.DeepEqual(got["grants"], any(left)) || got["a"] != 1 {
			t.Fatalf("seed %d, %d: %+v\n%s\nfrom\n%s\nreads %v, want %v", seed, n, edits, out, data, got["grants"],
				left)
		}
	}
	for _, bad := range []string{"grants: [1]\n", `{"grants": [1]}`} {
		for _, edits := range [][]yamlfile.Edit{{{Key: "grants", Index: 1}}, {{Key: "none", Index: 0}}} {
			if out, err := yamlfile.ReplaceAll([]byte(bad), edits); err == nil {
				t.Errorf("%s: %s", bad, out)
			}
		}
	}
}
