package work

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/fence"
)

// TestNarrowedBefore: what is drafted for some, and what is expected of it, is the same whether others were
// narrowed before or not: by changes of our own, of which the ledger tells however many surveys came
// since, and by what somebody else did to the estate.
func TestNarrowedBefore(t *testing.T) {
	t.Run("a year of logs", func(t *testing.T) { narrowedBefore(t, 400) })
	t.Run("of a third of that", func(t *testing.T) { narrowedBefore(t, 130) })
}

func narrowedBefore(t *testing.T, days int) {
	t.Setenv("CLIPFENCE_HOME", t.TempDir())
	dir, r := t.TempDir(), rand.New(rand.NewPCG(3, 1))
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	const people, projects = 24, 8
	var estate, log strings.Builder
	fmt.Fprint(&estate, "estate: 2\nsource: m\ncatalogue:\n")
	for _, p := range []string{"read, level: read", "put, level: change", "scrap, level: administer",
		"share, level: hand-out", "wipe, level: administer", "move, level: change"} {
		name, level, _ := strings.Cut(p, ",")
		fmt.Fprintf(&estate, "  - {permission: \"s/item:%s\",%s, log_class: all}\n", name, level)
	}
	fmt.Fprintf(&estate, "nodes:\n  - {path: /m}\n")
	for i := range projects {
		fmt.Fprintf(&estate, "  - {path: \"/m/project:p%d\"}\n", i)
		for j := range 4 {
			fmt.Fprintf(&estate, "  - {path: \"/m/project:p%d/box:b%d\"}\n", i, j)
		}
	}
	who := func(i int) string { return fmt.Sprintf("person/p%02d", i) }
	fmt.Fprint(&estate, "identities:\n  - {id: group/team}\n")
	for i := range people {
		fmt.Fprintf(&estate, "  - {id: %s, created: 2024-01-01T00:00:00Z}\n", who(i))
	}
	fmt.Fprint(&estate, "memberships:\n")
	for i := range people / 2 {
		fmt.Fprintf(&estate, "  - {member: %s, group: group/team}\n", who(i))
	}
	fmt.Fprint(&estate, "roles: [{name: all, do: [\"s/*:*\"]}, {name: most, do: [\"s/item:read\", \"s/item:put\", "+
		"\"s/item:wipe\"]}]\ngrants:\n  - {id: team, to: group/team, role: most, where: [\"/m/project:p1/**\"], "+
		"created: 2024-01-01T00:00:00Z}\n")
	const member = 5 // has what the team has, and nothing else
	for i := range people {
		if i == member {
			continue
		}
		fmt.Fprintf(&estate, "  - {id: g%d, to: %s, role: all, where: [\"/m/**\"], created: "+
			"2024-01-01T00:00:00Z}\n", i, who(i))
	}
	fmt.Fprint(&estate, "coverage: [{node: /m, service: s, log_class: all, written: true}]\n")
	n := 0
	for d := days - 1; d >= 0; d-- {
		for i := range people {
			do := func(chance float64, what string) {
				if n++; r.Float64() < chance {
					on := fmt.Sprintf("/m/project:p%d/box:b%d", (i+r.IntN(2))%projects, r.IntN(4))
					if i == member {
						on = "/m/project:p1/box:b0"
					}
					fmt.Fprintf(&log, `{"t":%d,"n":"c%d","who":"p%02d","do":"s/item:%s","on":%q}`+"\n",
						now.AddDate(0, 0, -d).Unix()-3600, n, i, what, on)
				}
			}
			if i%6 == 5 && d < days*3/8 {
				continue // left
			}
			do(.5, "read")
			do(.2, "put")
			if i%4 == 0 {
				do(.01, "scrap")
			}
			if i != member {
				do(.0004, "move")
			}
		}
	}
	w := madeUp(t, dir, now, estate.String(), log.String())
	survey := func() {
		t.Helper()
		if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
			t.Fatal(err)
		}
	}
	type drafted struct {
		fence    *fence.Fence
		expected float64
	}
	all := func() map[string]drafted {
		t.Helper()
		out := map[string]drafted{}
		made, err := w.Draft(t.Context(), DraftRequest{Top: 100, Force: true})
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range made.Written {
			out[d.Fence.For.In("m").String()] = drafted{d.Fence, d.Risk.Expected}
		}
		return out
	}
	survey()
	first := all()
	if len(first) < people {
		t.Fatalf("%d drafts", len(first))
	}
	same := func(when string, gone func(i int) bool) {
		t.Helper()
		kept, err := filepath.Glob(filepath.Join(dir, ".clipfence", "learned-*")) // it is learned anew
		for _, name := range kept {
			err = errors.Join(err, os.Remove(name))
		}
		if err != nil || len(kept) != 1 {
			t.Fatal(kept, err)
		}
		later, left := all(), 0
		for i := range people {
			if gone(i) {
				continue
			}
			left++
			was, is := first[who(i)], later[who(i)]
			if was.fence == nil && is.fence == nil {
				continue // too little is known of it
			}
			lines := func(a, b fence.Allow) bool {
				return fmt.Sprint(a.Do, a.Where) == fmt.Sprint(b.Do, b.Where)
			}
			if was.fence == nil || is.fence == nil || !slices.EqualFunc(was.fence.Allow, is.fence.Allow, lines) {
				t.Errorf("%s %s is drafted as\n%+v\nand was as\n%+v", when, who(i), is.fence, was.fence)
			} else if is.expected > was.expected+.004 || is.expected < was.expected-.004 {
				t.Errorf("%s of the draft for %s %.3f is expected, and was %.3f", when, who(i), is.expected,
					was.expected)
			}
		}
		if left == 0 {
			t.Fatal("nobody is left")
		}
	}
	same("at once", func(int) bool { return false })
	for i := range people / 2 { // members of the team first
		if first[who(i)].fence == nil {
			continue
		}
		p, err := w.PrepareApply(t.Context(), who(i), "a test", false)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := p.Run(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
	}
	ours := func(i int) bool { return i < people/2 }
	same("after our changes", ours)
	for range 21 { // no survey of before is kept any more
		survey()
	}
	same("after many surveys", ours)
	if f := first[who(member)].fence; days > 300 && len(f.Leaves) != 1 {
		t.Errorf("who has what the team has, and left, is drafted as %+v", f)
	}
	if _, _, _, res, err := w.GaugedFor(t.Context(), "", 0); err != nil || res.Placement.Share() < 1 {
		t.Errorf("of the calls of who left a group not all are placed: %v, %v", res.Placement.Why, err)
	}
	text, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	edited := string(text)
	for i := people / 2; i < people*3/4; i++ { // somebody else is at it as well
		old := fmt.Sprintf("{id: g%d, to: %s, role: all, where: [\"/m/**\"], created: '2024-01-01T00:00:00Z'}", i,
			who(i))
		if !strings.Contains(edited, old) {
			t.Fatalf("the estate does not hold %s:\n%s", old, edited)
		}
		edited = strings.Replace(edited, old, fmt.Sprintf("{id: h%d, to: %s, role: most, where: "+
			"[\"/m/project:p%d/**\"], created: 2026-11-20T11:00:00Z}", i, who(i), i%projects), 1)
	}
	if err := os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(edited), 0o600); err != nil {
		t.Fatal(err)
	}
	survey()
	same("after others' changes", func(i int) bool { return i < people*3/4 })
}

// madeUp opens a workspace of one made-up source, whose estate changes may edit.
func madeUp(t *testing.T, dir string, now time.Time, estate, log string) *Workspace {
	t.Helper()
	return opened(t, dir, now, map[string]string{"estate.yaml": estate, "log.jsonl": log,
		"map.yaml": "logmap: 1\nname: m\nform: json\nmatch: has(r.t)\ntime: r.t\nid: r.n\nidentity: r.who\n" +
			"kind: '\"person\"'\npermission: r.do\npath: r.on\noutcome: '\"done\"'\n",
		"clipfence.yaml": "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.yaml, changes: edit, " +
			"logs: [log.jsonl], log_maps: [map.yaml]}]\n"})
}

// opened writes the files of a workspace and opens it as of a time.
func opened(t *testing.T, dir string, now time.Time, files map[string]string) *Workspace {
	t.Helper()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w, err := Open(t.Context(), Options{Folder: dir, Clock: func() time.Time { return now }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = w.Close() })
	return w
}
