package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/review"
	"clipfence/internal/source"
)

// stageOf makes a workspace in which six people are granted everything and read one box each, a seventh holds what its
// group gives as well, and a draft for each, and for the group, is accepted. It returns what is to be carried out at
// once, in its order.
func stageOf(t *testing.T, names ...string) (*Workspace, *Stages, func(file, old, with string)) {
	t.Helper()
	t.Setenv("CLIPFENCE_HOME", t.TempDir())
	dir, now := t.TempDir(), time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	var estate, log strings.Builder
	fmt.Fprint(&estate, "estate: 2\nsource: m\ncatalogue:\n"+
		"  - {permission: \"s/box:get\", level: read, log_class: all}\n"+
		"  - {permission: \"s/box:put\", level: change, log_class: all}\nnodes:\n  - {path: /m}\n")
	for i := range 7 {
		fmt.Fprintf(&estate, "  - {path: \"/m/box:b%d\"}\n", i)
	}
	fmt.Fprint(&estate, "identities:\n  - {id: group/g}\n")
	for i := range 7 {
		fmt.Fprintf(&estate, "  - {id: person/p%d, created: 2024-01-01T00:00:00Z}\n", i)
	}
	fmt.Fprint(&estate, "memberships: [{member: person/p6, group: group/g}]\n"+
		"coverage: [{node: /m, service: s, log_class: all, written: true}]\ngrants:\n"+
		"  - {id: gg, to: group/g, do: [\"s/box:get\"], where: [\"/m/**\"], created: 2024-01-01T00:00:00Z}\n")
	for i := range 7 {
		fmt.Fprintf(&estate, "  - {id: g%d, to: person/p%d, do: [\"s/box:*\"], where: [\"/m/**\"], created: "+
			"2024-01-01T00:00:00Z}\n", i, i)
		for d := range 200 {
			fmt.Fprintf(&log, `{"t":%d,"n":"%d-%d","who":"p%d","do":"s/box:get","on":"/m/box:b%d"}`+"\n",
				now.AddDate(0, 0, -d).Unix()-3600, i, d, i, i)
		}
	}
	w := madeUp(t, dir, now, estate.String(), log.String())
	if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(w.DraftDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		name, more := strings.CutSuffix(name, "+") // gives it the box of its neighbour as well
		allow := fmt.Sprintf("allow:\n  - {do: [\"s/box:get\"], where: [\"/m/box:b%s\"]}\n", name[len(name)-1:])
		if name == "person/p6" || name == "group/g" {
			allow = "allow: []\n"
		}
		text := fmt.Sprintf("fence: 2\nfor: m:%s\nreplaces: [g%s]\n%s", name, name[len(name)-1:], allow)
		if more {
			text = fmt.Sprintf("fence: 2\nfor: m:%s\nwidens: for a test\nreplaces: []\nallow:\n"+
				"  - {do: [\"s/box:put\"], where: [\"/m\"]}\n", name)
		}
		file := filepath.Join(w.DraftDir(), strings.ReplaceAll(name, "/", "-")+".fence.yaml")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	all, err := w.Review(t.Context())
	if err != nil || len(all) != len(names) {
		t.Fatalf("%d drafts: %v", len(all), err)
	}
	for _, r := range all {
		if _, err := w.Decide(t.Context(), r, review.Accepted, "", time.Time{}, &Decider{}); err != nil {
			t.Fatal(err)
		}
	}
	p, err := w.PlanStages(t.Context(), StagedRequest{Stages: 1, Every: time.Millisecond})
	if err != nil || len(p.List) != 1 || len(p.List[0]) != len(names) {
		t.Fatalf("%+v: %v", p, err)
	}
	return w, p, func(file, old, with string) {
		t.Helper()
		data, err := os.ReadFile(w.Path(file))
		if err == nil {
			if out := strings.Replace(string(data), old, with, 1); out == string(data) {
				err = errors.New("nothing is replaced")
			} else {
				err = os.WriteFile(w.Path(file), []byte(out), 0o600)
			}
		}
		if err == nil {
			err = w.Survey(context.Background(), false, func(SurveyResult) {})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestRehearsedTogether: what is carried out at once is compared once, and anew where anything but that changed
// meanwhile; what would break a call then is refused, as it is where only two together break it.
func TestRehearsedTogether(t *testing.T) {
	people := []string{"person/p0", "person/p1", "person/p2", "person/p3"}
	const grants = "grants:\n"
	for _, tt := range []struct {
		name      string
		fences    []string
		meanwhile func(p *Stages, change func(file, old, with string)) // after the first
		compared  int
		left      int
		why       string
	}{
		{"nothing else", people, nil, 1, 0, ""},
		{"there are a new node and a new identity", people, func(_ *Stages, change func(file, old, with string)) {
			change("estate.yaml", "identities:\n", "  - {path: \"/m/box:b9\"}\nidentities:\n  - {id: person/new}\n")
		}, 1, 0, ""},
		{"somebody was seen", people, func(_ *Stages, change func(file, old, with string)) {
			change("estate.yaml", "{id: person/p5,", "{id: person/p5, last_seen: 2026-11-20T11:00:00Z,")
		}, 1, 0, ""},
		{"somebody is closed", people, func(_ *Stages, change func(file, old, with string)) {
			change("estate.yaml", "{id: person/p5,", "{id: person/p5, disabled: true,")
		}, 2, 0, ""},
		{"somebody else grants something", people, func(_ *Stages, change func(file, old, with string)) {
			change("estate.yaml", grants, grants+"  - {id: x, to: person/p5, do: [\"s/box:get\"], where: [/m]}\n")
		}, 2, 0, ""},
		{"what was carried out is taken back", people, func(p *Stages, _ func(file, old, with string)) {
			u, err := p.w.PrepareUndo(context.Background(), "c-1")
			if err == nil {
				_, err = u.Run(context.Background(), nil)
			}
			if err != nil {
				panic(err)
			}
		}, 2, 0, ""},
		{"the log shows a call that goes", people, func(p *Stages, change func(file, old, with string)) {
			last := p.List[0][3].For.Name
			change("log.jsonl", "", fmt.Sprintf(`{"t":%d,"n":"new","who":%q,"do":"s/box:put","on":"/m/box:b0"}`+"\n",
				time.Date(2026, 11, 20, 11, 59, 0, 0, time.UTC).Unix(), last))
		}, 3, 1, "uses would break"}, // and once more for what did not hold before others were carried out
		{"two break a call together", []string{"person/p6", "group/g"}, nil, 2, 1, "uses would break"},
		{"one alone", people[:1], nil, 1, 0, ""},
		{"one gives more", []string{"person/p0", "person/p1", "person/p2", "person/p3+"}, nil, 2, 0, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			w, p, change := stageOf(t, tt.fences...)
			opened := len(w.closers)
			compared, at := 0, Doing("")
			w.Events = func(e Event) {
				if e.Doing == Crediting && at != Crediting {
					compared++
				}
				at = e.Doing
			}
			done, left := []string{}, []string{}
			err := p.Run(t.Context(), func(e StageEvent) {
				switch {
				case e.Applied != "":
					if done = append(done, e.For.Name); len(done) == 1 && tt.meanwhile != nil {
						tt.meanwhile(p, change)
					}
				case e.Left != nil:
					left = append(left, e.Left.Why)
				}
			})
			if err != nil {
				t.Fatal(err)
			}
			if compared != tt.compared || len(left) != tt.left || len(done)+len(left) != len(tt.fences) {
				t.Errorf("compared %d times, %d carried out, %d left; want %d and %d left\n%s", compared,
					len(done), len(left), tt.compared, tt.left, strings.Join(left, "\n"))
			}
			for _, why := range left {
				if !strings.Contains(why, tt.why) {
					t.Errorf("%s", why)
				}
			}
			// Each was carried out as it says, on what there was then.
			s, err := w.Surveyed(t.Context(), w.Sources[0])
			if err != nil {
				t.Fatal(err)
			}
			for _, name := range done {
				if old, there := s.GrantNamed("g" + name[1:]); there && !strings.Contains(tt.name, "taken back") &&
					!slices.Contains(tt.fences, "person/"+name+"+") {
					t.Errorf("%s stands: %+v", name, s.Grant(old))
				}
			}
			if len(w.closers) > opened+4 { // what stood before, and what the test and the watching look at
				t.Errorf("%d estates are open, and were %d", len(w.closers), opened)
			}
		})
	}
}

func TestOnlyMade(t *testing.T) {
	const was, is = `{"id":"g","to":"person/a","do":["s/x:y"],"where":["/m"]}`,
		`{"id":"g","to":"person/a","do":["s/x:y"],"where":["/m/n:1"]}`
	dated := strings.Replace(is, `{`, `{"created":"2026-11-20T12:00:00Z",`, 1)
	seen := func(at string) string { return `{"id":"person/a","last_seen":"` + at + `"}` }
	e := func(kind, id, before, after string) source.Edited {
		return source.Edited{Kind: kind, ID: id, Before: json.RawMessage(before), After: json.RawMessage(after)}
	}
	for _, tt := range []struct {
		name         string
		differ, made []source.Edited
		want         bool
	}{
		{"nothing", nil, nil, true},
		{"as it was made", []source.Edited{e(source.Grants, "g", was, is)},
			[]source.Edited{e(source.Grants, "g", was, is)}, true},
		{"dated by the source", []source.Edited{e(source.Grants, "g", was, dated)},
			[]source.Edited{e(source.Grants, "g", was, is)}, true},
		{"taken", []source.Edited{e(source.Grants, "g", was, "")},
			[]source.Edited{e(source.Grants, "g", was, "")}, true},
		{"taken, and it stands", nil, []source.Edited{e(source.Grants, "g", was, "")}, false},
		{"taken, and it stands otherwise", []source.Edited{e(source.Grants, "g", was, is)},
			[]source.Edited{e(source.Grants, "g", was, "")}, false},
		{"made, and it is gone", []source.Edited{e(source.Grants, "g", was, "")},
			[]source.Edited{e(source.Grants, "g", was, is)}, false},
		{"made, as it was before", nil, []source.Edited{e(source.Grants, "g", is, dated)}, true},
		{"another's", []source.Edited{e(source.Grants, "g", was, is)}, nil, false},
		{"another's is gone", []source.Edited{e(source.Grants, "g", was, "")}, nil, false},
		{"another's grant is new", []source.Edited{e(source.Grants, "g", "", is)}, nil, false},
		{"a new node", []source.Edited{e(source.Nodes, "/m", "", `{"path":"/m"}`)}, nil, true},
		{"a node is gone", []source.Edited{e(source.Nodes, "/m", `{"path":"/m"}`, "")}, nil, false},
		{"somebody came", []source.Edited{e(source.Identities, "person/a", "", seen("2026-11-20T12:00:00Z"))}, nil,
			true},
		{"somebody was seen", []source.Edited{e(source.Identities, "person/a", seen("2026-11-20T12:00:00Z"),
			seen("2026-11-21T12:00:00Z"))}, nil, true},
		{"somebody was closed", []source.Edited{e(source.Identities, "person/a", `{"id":"person/a"}`,
			`{"id":"person/a","disabled":true}`)}, nil, false},
		{"somebody is gone", []source.Edited{e(source.Identities, "person/a", `{"id":"person/a"}`, "")}, nil, false},
		{"somebody joined", []source.Edited{e(source.Memberships, "a>g", "", `{"member":"person/a","group":"group/g"}`)},
			nil, false},
		{"a role", []source.Edited{e(source.Roles, "r", `{"name":"r"}`, `{"name":"r","do":["s/x:y"]}`)}, nil, false},
	} {
		made := map[source.Ref]source.Edited{}
		for _, m := range tt.made {
			made[source.Ref{Kind: m.Kind, ID: m.ID}] = m
		}
		if got := onlyMade(tt.differ, made); got != tt.want {
			t.Errorf("%s: %t", tt.name, got)
		}
	}
	// What is made twice is as it was at first, and as it is at last.
	b := &basis{made: map[source.Ref]source.Edited{}}
	for _, x := range [][2]string{{was, is}, {is, ""}} {
		c := &change.Change{}
		was, is := json.RawMessage(x[0]), json.RawMessage(x[1])
		c.Set([]source.Step{{Kind: source.Grants, ID: "g", Before: was, After: is}},
			[]source.Edited{e(source.Grants, "g", x[0], x[1])})
		b.did(c)
	}
	if m := b.made[source.Ref{Kind: source.Grants, ID: "g"}]; string(m.Before) != was || len(m.After) > 0 || b.fresh {
		t.Errorf("%+v", m)
	}
	if !onlyMade([]source.Edited{e(source.Grants, "g", was, "")}, b.made) {
		t.Error("both at once are not what was made")
	}
}

// TestLearnedThroughChanges: what was learned holds through changes of our own and their undoing, on as many surveys
// as come of them, and through surveys that show nothing else; not through what somebody else changes.
func TestLearnedThroughChanges(t *testing.T) {
	w, p, change := stageOf(t, "person/p0", "person/p1", "person/p2", "person/p3")
	learned := false
	w.Events = func(e Event) { learned = learned || e.Doing == Learning }
	draft := func(what string, want bool) {
		t.Helper()
		learned = false
		if err := w.untell("m"); err != nil { // what was told of everybody
			t.Fatal(err)
		}
		if _, err := w.Draft(t.Context(), DraftRequest{For: "person/p5", Force: true}); err != nil {
			t.Fatal(err)
		}
		if learned != want {
			t.Errorf("%s: learned anew: %t", what, learned)
		}
	}
	run := func(p *Prepared, err error) {
		t.Helper()
		if err == nil {
			_, err = p.Run(t.Context(), nil)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	draft("what was learned for the review", false)
	for _, r := range p.List[0] {
		run(w.PrepareApply(t.Context(), w.Path(r.Name), "", false))
		draft("a change of our own", false)
	}
	run(w.PrepareUndo(t.Context(), "c-4"))
	draft("undone", false)
	if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	draft("surveyed again", false)
	change("estate.yaml", "grants:\n", "grants:\n  - {id: x, to: person/p5, do: [\"s/box:get\"], where: [/m]}\n")
	draft("a grant by somebody else", true)
	draft("and again", false)
	run(w.PrepareUndo(t.Context(), "c-3"))
	draft("undone", false)
	change("log.jsonl", "", fmt.Sprintf(`{"t":%d,"n":"new","who":"p4","do":"s/box:put","on":"/m/box:b0"}`+"\n",
		time.Date(2026, 11, 20, 11, 59, 0, 0, time.UTC).Unix()))
	draft("a call", true)
	at := w.Clock().Add(24 * time.Hour)
	w.Clock = func() time.Time { return at }
	draft("another day", true)
}
