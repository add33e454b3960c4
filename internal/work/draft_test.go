package work

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
)

// TestDraftsGoOn: drafts of one run know of each other, told most dangerous first, and so does one that is made
// when the others are there already: it is the same to the letter. What is expected of it is what is when
// those are carried out as well.
func TestDraftsGoOn(t *testing.T) {
	t.Setenv("CLIPFENCE_HOME", t.TempDir())
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	dir := t.TempDir()
	var estate, log strings.Builder
	fmt.Fprint(&estate, "estate: 2\nsource: m\ncatalogue:\n")
	for i := range 4 {
		fmt.Fprintf(&estate, "  - {permission: \"s/item:do%d\", level: change, kinds: [box], log_class: all}\n", i)
	}
	fmt.Fprint(&estate, "nodes:\n  - {path: /m}\n")
	for i := range 12 {
		fmt.Fprintf(&estate, "  - {path: \"/m/box:%c\"}\n", 'a'+i)
	}
	fmt.Fprint(&estate, "identities:\n  - {id: group/all}\n  - {id: group/team}\n")
	members := "memberships:\n  - {member: group/team, group: group/all}\n"
	n := 0
	for i := range 8 {
		fmt.Fprintf(&estate, "  - {id: person/p%d, created: 2024-01-01T00:00:00Z}\n", i)
		group := "all"
		if i < 2 {
			group = "team"
		}
		members += fmt.Sprintf("  - {member: person/p%d, group: group/%s}\n", i, group)
		for day := 390; day >= 0; day -= 3 {
			call := func(do, on int) {
				n++
				fmt.Fprintf(&log, `{"t":%d,"n":"c%d","who":"p%d","do":"s/item:do%d","on":"/m/box:%c"}`+"\n",
					now.AddDate(0, 0, -day).Unix()-3600, n, i, do, 'a'+on)
			}
			call(i%2, i)
			if day > 200 {
				call(2, (i+3)%12) // a habit that is over
			}
		}
	}
	fmt.Fprint(&estate, members, "grants:\n")
	for _, g := range []string{"all", "team"} {
		fmt.Fprintf(&estate, "  - {id: g-%s, to: group/%s, do: [\"s/item:*\"], where: [\"/m/**\"], created: "+
			"2024-01-01T00:00:00Z}\n", g, g)
	}
	fmt.Fprint(&estate, "coverage: [{node: /m, written: true}]\n")
	w := madeUp(t, dir, now, estate.String(), log.String())
	if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	all, err := w.Draft(t.Context(), DraftRequest{All: true, Caution: .01})
	if err != nil || len(all.Written) != 2 {
		t.Fatalf("%v: %+v", err, all)
	}
	team := all.Written[0]
	if team.Fence.For != (model.ID{Source: "m", Kind: model.Group, Name: "team"}) {
		team = all.Written[1]
	}
	was, err := os.ReadFile(team.File)
	if err != nil {
		t.Fatal(err)
	}
	if len(team.Fence.GivesUp) == 0 {
		t.Errorf("nothing goes by name, where the group above gives it up: %s", was)
	}
	if err := os.Remove(team.File); err != nil {
		t.Fatal(err)
	}
	again, err := w.Draft(t.Context(), DraftRequest{All: true, Caution: .01})
	if err != nil || len(again.Written) != 1 || len(again.Left) != 1 {
		t.Fatalf("%v: %+v", err, again)
	}
	is, err := os.ReadFile(team.File)
	if err != nil || string(is) != string(was) {
		t.Errorf("drafted beside what is there: %v\n%s\nin one run:\n%s", err, is, was)
	}
	// By its name as well.
	named, err := w.Draft(t.Context(), DraftRequest{For: "group/team", Force: true, Caution: .01})
	if err != nil || len(named.Written) != 1 || named.Beside != 1 {
		t.Fatalf("%v: %+v", err, named)
	}
	if is, err := os.ReadFile(team.File); err != nil || string(is) != string(was) {
		t.Errorf("drafted by its name beside what is there: %v\n%s\nin one run:\n%s", err, is, was)
	}
	// It is not drafted for once more where its draft has another name.
	other := filepath.Join(filepath.Dir(team.File), "other.fence.yaml")
	if err := os.Rename(team.File, other); err != nil {
		t.Fatal(err)
	}
	none, err := w.Draft(t.Context(), DraftRequest{All: true, Caution: .01})
	if err != nil || len(none.Written) != 0 || len(none.Left) != 2 || !errors.Is(none.Left[0], ErrThere) {
		t.Errorf("%v: %+v", err, none)
	}
	// By itself the group above gives all of it.
	for _, d := range all.Written {
		if err := os.Remove(d.File); err != nil && d.File != team.File {
			t.Fatal(err)
		}
	}
	alone, err := w.Draft(t.Context(), DraftRequest{For: "group/team", Force: true, Caution: .01})
	if err != nil || len(alone.Written) != 1 || alone.Beside != 0 {
		t.Fatal(err)
	}
	if f := alone.Written[0]; len(f.Fence.Allow)+len(f.Fence.GivesUp) > 0 || f.Risk.Expected >= team.Risk.Expected {
		t.Errorf("alone it expects %.4f, beside the other %.4f, and leaves %v", f.Risk.Expected, team.Risk.Expected,
			f.Fence.Allow)
	}
}
