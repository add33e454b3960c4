package files_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
)

const kept = `# Ours, by hand.
estate: 2
source: s
catalogue: [{permission: "s/n:read", level: read}]
nodes: [{path: "/s"}]
identities: [{id: person/a}, {id: group/b}]
memberships:
  - {member: person/a, group: group/b} # since spring
grants:
  # of everybody
  - id: one
    to: group/b
    do: ["s/*:*"] # all
    where: ["/s/**"]
  - {id: two, to: person/a, do: ["s/n:read"], where: ["/s"]}
`

func changer(t *testing.T, text string) files.Changer {
	t.Helper()
	name := filepath.Join(t.TempDir(), "estate.yaml")
	if err := os.WriteFile(name, []byte(text), 0o640); err != nil {
		t.Fatal(err)
	}
	return files.Changer{Reader: &files.Reader{Name: "s", Estate: name, Known: &files.Known{}}}
}

func (f fileOf) text(t *testing.T) string {
	t.Helper()
	b, err := os.ReadFile(f.Estate)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

type fileOf struct{ files.Changer }

// TestEditing does steps and takes them back: only what they are about changes in the file,
// and what they say is what is read back.
func TestEditing(t *testing.T) {
	c := fileOf{changer(t, kept)}
	ctx := t.Context()
	g := model.Grant{ID: "new", To: model.MustID("person/a"),
		Rights: model.Permissions(model.MustPermission("s/n:read")),
		Where:  []model.PathPattern{model.MustPathPattern("/s")}}
	steps, _, err := source.Planned(ctx, c, source.Diff{
		Put: []source.Record{{Kind: source.Grants, ID: "new", Value: g},
			{Kind: source.Roles, ID: "r", Value: model.Role{Name: "r", Rights: g.Rights}}},
		Drop: []source.Ref{{Kind: source.Grants, ID: "one"}, {Kind: source.Memberships, ID: "person/a>group/b"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range steps {
		for range 2 { // again is harmless
			if err := c.Do(ctx, s); err != nil {
				t.Fatal(err)
			}
		}
		if d, err := c.Get(ctx, s.Kind, s.ID); s.After == nil && !errors.Is(err, source.ErrGone) || s.After != nil &&
			!source.Same(d.Body, s.After) {
			t.Errorf("%s %s reads %s, %v", s.Kind, s.ID, d.Body, err)
		}
	}
	want := strings.Replace(kept, "  - {member: person/a, group: group/b} # since spring\n", "", 1)
	want = strings.Replace(want, "memberships:\n", "memberships: []\n", 1)
	want = strings.Replace(want, "  - id: one\n    to: group/b\n    do: [\"s/*:*\"] # all\n    where: [\"/s/**\"]\n",
		"", 1)
	want += "  - {id: new, to: person/a, do: ['s/n:read'], where: [/s]}\nroles:\n  - {name: r, do: ['s/n:read']}\n"
	if got := c.text(t); got != want {
		t.Errorf("the file is\n%s\nwant\n%s", got, want)
	}
	if st, err := os.Stat(c.Estate); err != nil || st.Mode().Perm() != 0o640 {
		t.Errorf("mode %v, %v", st.Mode(), err)
	}
	was, err := files.ParseEstate("was", []byte(kept))
	if err != nil {
		t.Fatal(err)
	}
	is, err := files.ParseEstate("is", []byte(c.text(t)))
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		e    *files.EstateFile
		done bool
	}{{was, false}, {is, true}} {
		seen, err := files.Seen(&tt.e.Estate, steps)
		if err != nil {
			t.Fatal(err)
		}
		for i, s := range seen {
			if s != tt.done {
				t.Errorf("step %d is seen: %t", i, s)
			}
		}
	}
	for i := len(steps) - 1; i >= 0; i-- {
		if err := c.Do(ctx, steps[i].Undo()); err != nil {
			t.Fatal(err)
		}
	}
	for _, s := range steps {
		if d, _ := c.Get(ctx, s.Kind, s.ID); !source.Same(d.Body, s.Before) {
			t.Errorf("taken back, %s %s reads %s", s.Kind, s.ID, d.Body)
		}
	}
}

// TestEditingRefuses leaves the file as it is whenever it is not as it was read, or another
// than it can edit.
func TestEditingRefuses(t *testing.T) {
	ctx := t.Context()
	for _, tt := range []struct {
		name, text string
		step       source.Step
		want       error
		says       string
	}{
		{"somebody changed it", kept, source.Step{Kind: source.Grants, ID: "two",
			Before: json.RawMessage(`{"id":"two"}`)}, source.ErrConflict, "grants \"two\""},
		{"somebody made it", kept, source.Step{Kind: source.Grants, ID: "two", After: json.RawMessage(`{"id":"two"}`)},
			source.ErrConflict, "survey again"},
		{"what is not edited", kept, source.Step{Kind: source.Nodes, ID: "/s/new",
			After: json.RawMessage(`{"path":"/s/new"}`)}, source.ErrCannot, "nodes"},
		{"what would break it", kept, source.Step{Kind: source.Grants, ID: "x",
			After: json.RawMessage(`{"id":"x","to":"person/nobody","do":["s/n:read"],"where":["/elsewhere"]}`)}, nil,
			"x"},
		{"another record than it says", kept, source.Step{Kind: source.Grants, ID: "x",
			After: json.RawMessage(`{"id":"y","to":"person/a","do":["s/n:read"],"where":["/s"]}`)}, nil, "by hand"},
		{"an earlier format", strings.Replace(kept, "estate: 2", "estate: 1", 1),
			source.Step{Kind: source.Grants, ID: "x",
				After: json.RawMessage(`{"id":"x","to":"person/a","do":["s/n:read"],"where":["/s"]}`)}, nil,
			"format 1"},
		{"no estate", "x: [", source.Step{Kind: source.Grants, ID: "two"}, nil, "estate.yaml"},
	} {
		c := fileOf{changer(t, tt.text)}
		err := c.Do(ctx, tt.step)
		if err == nil || tt.want != nil && !errors.Is(err, tt.want) || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%s: %v", tt.name, err)
		}
		if got := c.text(t); got != tt.text {
			t.Errorf("%s: the file is\n%s", tt.name, got)
		}
		if left, _ := filepath.Glob(filepath.Join(filepath.Dir(c.Estate), ".*")); len(left) > 0 {
			t.Errorf("%s: left behind %v", tt.name, left)
		}
	}
	c := changer(t, kept)
	if _, err := c.Peer(ctx); !errors.Is(err, source.ErrReadOnly) {
		t.Errorf("a file lends: %v", err)
	}
	if r, err := c.Check(ctx); err != nil || len(r) != 1 || !r[0].OK {
		t.Errorf("%+v, %v", r, err)
	}
	c.Estate = filepath.Join(c.Estate, "no folder", "x")
	if r, err := c.Check(ctx); err != nil || r[0].OK || r[0].Mend == "" {
		t.Errorf("%+v, %v", r, err)
	}
}

// TestEditedAtOnce: steps done at once make the same file as one after another, and so does a changer that knows
// what it wrote; where somebody else wrote meanwhile, it reads that.
func TestEditedAtOnce(t *testing.T) {
	ids := []string{"one", "two", "three", "four", "five"}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 4))
		c := fileOf{changer(t, kept)}
		var steps []source.Step
		one := []byte(kept)
		for range 1 + r.IntN(6) {
			id := ids[r.IntN(len(ids))]
			d, err := c.Get(t.Context(), source.Grants, id)
			if err != nil && !errors.Is(err, source.ErrGone) {
				t.Fatal(err)
			}
			s := source.Step{Kind: source.Grants, ID: id, Before: d.Body}
			if d.Body == nil || r.IntN(2) == 0 {
				s.After = fmt.Appendf(nil, `{"id":%q,"to":"person/a","do":["s/n:read"],"where":["/s/box:b%d"]}`, id,
					r.IntN(100))
			}
			if err := c.Do(t.Context(), s); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			if one, err = (&files.Known{}).Edited(c.Estate, one, []source.Step{s}); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			steps = append(steps, s)
		}
		all, err := (&files.Known{}).Edited(c.Estate, []byte(kept), steps)
		if err != nil || string(all) != string(one) || c.text(t) != string(one) {
			t.Fatalf("seed %d: at once\n%s\none after another\n%s\nby a changer\n%s\n%v", seed, all, one, c.text(t),
				err)
		}
		if err := os.WriteFile(c.Estate, []byte(kept), 0o640); err != nil {
			t.Fatal(err)
		}
		if d, err := c.Get(t.Context(), source.Grants, "two"); err != nil || !strings.Contains(string(d.Body), "/s") {
			t.Fatalf("seed %d: what somebody else wrote reads %s, %v", seed, d.Body, err)
		}
		if _, err := c.Get(t.Context(), source.Grants, "three"); !errors.Is(err, source.ErrGone) {
			t.Fatalf("seed %d: what somebody else took is there: %v", seed, err)
		}
	}
}

// TestAllAtOnce: the file is written once for several steps, and not at all where one of them is in conflict.
func TestAllAtOnce(t *testing.T) {
	c := fileOf{changer(t, kept)}
	body := func(id string) json.RawMessage {
		d, err := c.Get(t.Context(), source.Grants, id)
		if err != nil {
			t.Fatal(err)
		}
		return d.Body
	}
	one, two := body("one"), body("two")
	made := json.RawMessage(`{"id":"new","to":"person/a","do":["s/n:read"],"where":["/s"]}`)
	steps := []source.Step{{Kind: source.Grants, ID: "new", After: made},
		{Kind: source.Grants, ID: "one", Before: one}, {Kind: source.Grants, ID: "two", Before: one}}
	err := c.DoAll(t.Context(), steps)
	if !errors.Is(err, source.ErrConflict) || !strings.Contains(err.Error(), "two") {
		t.Errorf("of one that is not as it was: %v", err)
	}
	if got := c.text(t); got != kept {
		t.Errorf("half of it was done:\n%s", got)
	}
	before, err := os.Stat(c.Estate)
	if err != nil {
		t.Fatal(err)
	}
	steps[2].Before = two
	for range 2 { // again is harmless
		if err := c.DoAll(t.Context(), steps); err != nil {
			t.Fatal(err)
		}
	}
	if got := c.text(t); strings.Contains(got, "id: one") || strings.Contains(got, "id: two") ||
		!strings.Contains(got, "{id: new") || !strings.Contains(got, "# since spring") {
		t.Errorf("not all of it was done:\n%s", got)
	}
	after, err := os.Stat(c.Estate)
	if err != nil || after.Mode() != before.Mode() {
		t.Errorf("%v, %v", after, err)
	}
	// What was begun and half done by an earlier program is gone on with.
	c = fileOf{changer(t, kept)}
	if err := c.Do(t.Context(), steps[0]); err != nil {
		t.Fatal(err)
	}
	if err := c.DoAll(t.Context(), steps); err != nil || strings.Contains(c.text(t), "id: one") {
		t.Errorf("%v\n%s", err, c.text(t))
	}
	if err := c.DoAll(t.Context(), []source.Step{{Kind: source.Nodes, ID: "/x"}}); !errors.Is(err, source.ErrCannot) {
		t.Errorf("of what is not edited: %v", err)
	}
	if err := c.DoAll(t.Context(), nil); err != nil {
		t.Error(err)
	}
}
