package work

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
	"clipfence/internal/source"
)

const askedEstate = `estate: 2
source: m
catalogue:
  - {permission: "s/box:read", level: read, log_class: r}
  - {permission: "s/box:scrap", level: administer, log_class: w}
nodes: [{path: /m}, {path: "/m/box:a"}]
identities: [{id: person/a}, {id: person/b}, {id: group/g}]
memberships: [{member: person/b, group: group/g}]
roles: [{name: scrapper, do: ["s/box:scrap"]}]
grants:
  - {id: one, to: person/a, do: ["s/*:*"], where: ["/m/**"]}
  - {id: two, to: person/b, do: ["s/*:*"], where: ["/m/**"]}
`

// TestAskedForThroughAGate: what a fence leaves to be asked for must be opened by a gate that lies in
// the folder of gates, of that source, for those people, for all of it.
func TestAskedForThroughAGate(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		file := filepath.Join(dir, filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o700), os.WriteFile(file, []byte(text),
			0o600)); err != nil {
			t.Fatal(err)
		}
	}
	write("estate.yaml", askedEstate)
	write("clipfence.yaml", "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.yaml}]\n")
	w, err := Open(t.Context(), Options{Folder: dir, Clock: time.Now})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = w.Close() }()
	if err := w.Survey(t.Context(), true, func(SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	s, err := w.Surveyed(t.Context(), w.Sources[0])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Draft(t.Context(), DraftRequest{All: true, Gates: true}); !errors.Is(err, source.ErrReadOnly) {
		t.Errorf("gates for an estate file: %v", err)
	}
	ask := func(who string, do ...string) *fence.Fence {
		a := fence.Ask{Where: []model.PathPattern{model.MustPathPattern("/m/box:a")}, Expected: 1.5}
		for _, p := range do {
			a.Do = append(a.Do, model.MustPermissionPattern(p))
		}
		return &fence.Fence{Version: fence.FormatVersion, For: model.MustID("m:" + who), Asks: []fence.Ask{a}}
	}
	gate := func(source, opens, where, who string) string {
		return fmt.Sprintf("gate: 2\nname: x\nsource: %s\nopens: {%s, where: [%q]}\nmay_ask: [%s]\nlongest: 1h\n",
			source, opens, where, who)
	}
	for name, tt := range map[string]struct {
		gate  string
		fence *fence.Fence
		open  bool
	}{
		"none":              {"", ask("person/a", "s/box:scrap"), false},
		"just that":         {gate("m", `do: ["s/box:scrap"]`, "/m/box:a", "person/a"), ask("person/a", "s/box:scrap"), true},
		"by a role":         {gate("m", "role: scrapper", "/m/**", "person/a"), ask("person/a", "s/box:scrap"), true},
		"by a group":        {gate("m", "role: scrapper", "/m/**", "group/g"), ask("person/b", "s/box:scrap"), true},
		"a group asks":      {gate("m", "role: scrapper", "/m/**", "group/g"), ask("group/g", "s/box:scrap"), true},
		"for another":       {gate("m", "role: scrapper", "/m/**", "group/g"), ask("person/a", "s/box:scrap"), false},
		"of another source": {gate("n", "role: scrapper", "/m/**", "person/a"), ask("person/a", "s/box:scrap"), false},
		"elsewhere": {gate("m", "role: scrapper", "/m/box:b", "person/a"), ask("person/a", "s/box:scrap"),
			false},
		"less": {gate("m", "role: scrapper", "/m/**", "person/a"), ask("person/a", "s/box:scrap", "s/box:read"),
			false},
	} {
		if err := os.RemoveAll(w.GateDir()); err != nil {
			t.Fatal(err)
		}
		if tt.gate != "" {
			write("gates/x.gate.yaml", tt.gate)
		}
		why, err := w.unlent(tt.fence, s)
		if err != nil {
			t.Fatal(err)
		}
		if (len(why) == 0) != tt.open || len(why) > 0 && !strings.Contains(why[0], "no gate lets") {
			t.Errorf("%s: %q", name, why)
		}
	}
	// What a draft writes beside its fence is such a gate.
	if err := os.RemoveAll(w.GateDir()); err != nil {
		t.Fatal(err)
	}
	f := ask("person/a", "s/box:scrap")
	f.Asks[0].When.SecondFactor = true
	files, err := w.offer(f, "m", false)
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	data, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	if p, err := fencefile.ReadGate(files[0], data); err != nil || !p.Controls.SecondFactor ||
		!strings.Contains(string(data), "about 1.5 times in 90 days") {
		t.Errorf("%v\n%s", err, data)
	}
	if _, err := w.offer(f, "m", false); err != nil { // as after an interruption
		t.Errorf("the same again: %v", err)
	}
	other := ask("person/a", "s/box:read")
	if _, err := w.offer(other, "m", false); !errors.Is(err, ErrThere) {
		t.Errorf("another is there: %v", err)
	}
	write("gates/x.gate.yaml", string(data))
	if why, err := w.unlent(f, s); err != nil || len(why) > 0 {
		t.Errorf("%v, %v", why, err)
	}
	// And the fence says it, and is read as it was written.
	text := fencefile.Write(f, "")
	if got, err := fencefile.Read("x", text); err != nil || len(got.Asks) != 1 || got.Asks[0].Expected != 1.5 ||
		!got.Asks[0].When.SecondFactor || !got.AsksFor(model.MustPermission("s/box:scrap"), f.Asks[0].Where[0]) {
		t.Errorf("%v\n%s", err, text)
	}
}
