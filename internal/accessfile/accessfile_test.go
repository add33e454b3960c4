package accessfile_test

import (
	"strings"
	"testing"

	"clipfence/internal/accessfile"
	"clipfence/internal/core/model"
)

// TestRead tells what is wrong in files that somebody wrote.
func TestRead(t *testing.T) {
	for _, tt := range []struct{ name, text, want string }{
		{"access/person/a.yaml", "holder: person/b\n", `the file of "person/b" is access/person/b.yaml`},
		{"access/person/a.yaml", "holder: person/a\ngrants:\n  - {id: g, to: person/b, do: [a/b:c], where: [/x]}\n",
			`access/person/a.yaml:3:5: grant "g" is person/b's`},
		{"access/person/a.yaml", "holder: person/a\ngroups: [group/x]\n", "groups"},
		{"access/person/a.yaml", "", "empty"},
		{"roles/a.yaml", "name: b\n", `the file of role "b" is roles/b.yaml`},
		{"rules/denials.yaml", "denials: 3\n", "denials"},
		{"rules/other.yaml", "x: 1\n", "no such file"},
	} {
		_, err := accessfile.Read("s", map[string][]byte{tt.name: []byte(tt.text)})
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s %q: error %v, want one that says %q", tt.name, tt.text, err, tt.want)
		}
	}
}

// FuzzName: different holders have different files, inside the folder, that differ also where case
// does not count.
func FuzzName(f *testing.F) {
	f.Add("a", "A")
	f.Add("..", "../x")
	f.Add("", "%")
	f.Add(strings.Repeat("x", 300), strings.Repeat("x", 299)+"y")
	f.Fuzz(func(t *testing.T, a, b string) {
		one := accessfile.Name(model.ID{Kind: model.Person, Name: a})
		two := accessfile.Name(model.ID{Kind: model.Person, Name: b})
		if (a == b) != (strings.EqualFold(one, two)) {
			t.Errorf("%q is %s and %q is %s", a, one, b, two)
		}
		if rest, ok := strings.CutPrefix(one, "access/person/"); !ok || strings.ContainsAny(rest, `/\`) ||
			len(rest) > 255 ||
			strings.HasPrefix(rest, ".") {
			t.Errorf("%q is %s", a, one)
		}
		for _, c := range one {
			if c < ' ' || c > '~' {
				t.Errorf("%q is %q", a, one)
			}
		}
	})
}

// FuzzRead: what cannot be read is an error, and what can be is written and read again alike.
func FuzzRead(f *testing.F) {
	f.Add("holder: person/a\nin: [group/g]\ngrants:\n  - {id: g, to: person/a, do: [\"a/b:*\"], where: [\"/x/**\"]}\n")
	f.Add("holder: person/a\nceilings:\n  - {id: c, of: person/a, do: [\"a/b:c\"], where: [\"/x\"]}\n")
	f.Fuzz(func(t *testing.T, text string) {
		e, err := accessfile.Read("s", map[string][]byte{"access/person/a.yaml": []byte(text)})
		if err != nil {
			return
		}
		files, err := accessfile.Files(e)
		if err != nil {
			return // two of one name
		}
		back, err := accessfile.Read("s", files)
		if err != nil {
			t.Fatalf("%q is written so that it cannot be read: %v\n%s", text, err, files)
		}
		if d, err := accessfile.Differences(e, back); err != nil || len(d) > 0 {
			t.Fatalf("%q is read back otherwise: %+v, %v", text, d, err)
		}
	})
}
