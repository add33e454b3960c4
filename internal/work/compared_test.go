package work

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/usage"
)

// TestToldAgain: what a comparison of everybody told of one is told again, word for word, until anything that it
// looked at changes: the day, what begins or ends, the window, the configuration, the survey, the calls, the ledger.
func TestToldAgain(t *testing.T) {
	begin := time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC)
	const estate = `estate: 2
source: m
catalogue: [{permission: "s/box:put", level: change, log_class: all}, {permission: "s/box:get", level: read, log_class: all}]
nodes: [{path: "/m"}, {path: "/m/box:a"}, {path: "/m/box:b"}]
identities: [{id: person/ash}, {id: person/bo}, {id: group/inner}, {id: group/outer}, {id: group/none}]
memberships: [{member: person/ash, group: group/inner}, {member: group/inner, group: group/outer}]
grants:
  - {id: own, to: person/ash, do: ["s/box:*"], where: ["/m/**"], created: 2025-01-01T00:00:00Z}
  - {id: theirs, to: group/outer, do: ["s/box:get"], where: ["/m/box:a"], created: 2025-01-01T00:00:00Z}
  - {id: all, to: signed-in, do: ["s/box:get"], where: ["/m/box:b"], created: 2025-01-01T00:00:00Z}
  - {id: ends, to: person/bo, do: ["s/box:put"], where: ["/m/**"], until: 2026-11-24T18:00:00Z}
coverage: [{node: "/m", written: true}]
`
	var log strings.Builder
	for d := range 200 {
		fmt.Fprintf(&log, `{"t":%d,"n":"c%d","who":"ash","do":"s/box:get","on":"/m/box:a"}`+"\n",
			begin.AddDate(0, 0, -d-1).Unix(), d)
	}
	fmt.Fprintf(&log, `{"t":%d,"n":"odd","who":"bo","do":"s/box:get","on":"/m/box:a"}`+"\n",
		begin.AddDate(0, 0, -9).Unix()) // nothing of today explains it
	dir := t.TempDir()
	w := madeUp(t, dir, begin, estate, log.String())
	now := begin
	w.Clock = func() time.Time { return now }
	survey := func() {
		t.Helper()
		if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
			t.Fatal(err)
		}
	}
	survey()
	// ask returns what is told of one, and whether that is what was told before.
	ask := func(who string, window config.Duration) (string, bool) {
		t.Helper()
		id, s, in, res, err := w.GaugedFor(t.Context(), who, window)
		if err != nil {
			t.Fatal(err)
		}
		st := *res.Of(id)
		own := st.Grants
		st.Grants = nil
		parts := []any{st, res.Placement.Of[id], res.Observable, in.Span(), res.Sums([]*Standing{&st})}
		for _, h := range s.Holdings(id) {
			g := *res.Grants[h.Number]
			g.Holders, g.Use, g.Dark = nil, nil, nil
			parts = append(parts, g)
		}
		b, err := json.Marshal(append(parts, len(own)))
		if err != nil {
			t.Fatal(err)
		}
		return string(b), in.Coverage == nil
	}
	all := func() {
		t.Helper()
		if _, _, in, _, err := w.GaugedFor(t.Context(), "", 0); err != nil || in.Coverage == nil {
			t.Fatalf("everybody was not compared: %v", err)
		}
	}
	who := []string{"person/ash", "person/bo", "group/inner", "group/outer", "group/none"}
	fresh := map[string]string{}
	for _, id := range who {
		text, again := ask(id, 0)
		if again {
			t.Fatalf("%s was told before anything was", id)
		}
		fresh[id] = text
	}
	all()
	for _, id := range who {
		if text, again := ask(id, 0); !again || text != fresh[id] {
			t.Errorf("%s: told again %v:\n%s\nand first:\n%s", id, again, text, fresh[id])
		}
	}
	if _, again := ask("m:person/ash", 0); !again {
		t.Error("with its source it is not told again")
	}
	if _, _, _, _, err := w.GaugedFor(t.Context(), "person/asch", 0); err == nil {
		t.Error("whom the estate does not list is told of")
	}

	still := func(when string, want bool) {
		t.Helper()
		if _, again := ask("person/ash", 0); again != want {
			t.Errorf("%s: told again %v", when, again)
		}
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	now = begin.Add(11 * time.Hour)
	still("later that day", true)
	now = begin.Add(12 * time.Hour)
	still("as a grant ends", false)
	all()
	still("compared anew", true)
	now = begin.Add(18*time.Hour - time.Second)
	still("before midnight", true)
	now = begin.Add(18 * time.Hour)
	still("at midnight", false)
	all()
	now = now.Add(-time.Second)
	still("as of before it was compared", false)
	now = now.Add(time.Second)
	if _, again := ask("person/ash", config.Duration(30*24*time.Hour)); again {
		t.Error("another window is told as if it were that")
	}
	w.AsOf = now
	still("as of a time, when it was of today", false)
	w.AsOf = time.Time{}
	still("of today", true)

	conf, err := os.ReadFile(filepath.Join(dir, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	write("clipfence.yaml", string(conf)+"protected: [person/ash]\n")
	still("with another configuration", false)
	write("clipfence.yaml", string(conf))
	still("with the old one", true)

	survey()
	still("after a survey", false)
	all()
	still("compared anew after it", true)
	id, s, _, _, err := w.GaugedFor(t.Context(), "person/ash", 0)
	if err != nil {
		t.Fatal(err)
	}
	was, err := w.toldFrom(t.Context(), s, 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.ledger.Append(t.Context(), "note", map[string]string{"for": id.String()}); err != nil {
		t.Fatal(err)
	}
	if is, err := w.toldFrom(t.Context(), s, 0); err != nil || is == was {
		t.Errorf("with something new in the ledger it is told from the same: %v", err)
	}
	all()
	still("compared anew with that", true)

	file := w.toldFile(s.Name)
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	broken := []byte(string(whole))
	for i := range broken {
		if broken[i] == '7' {
			broken[i] = '8'
		}
	}
	for name, data := range map[string][]byte{"changed": broken, "cut": whole[:len(whole)/2], "empty": nil} {
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
		still("with its file "+name, false)
	}
	all()
	still("written anew", true)

	// What could not be read whole, or was interrupted, is not kept.
	if err := w.untell(s.Name); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, _, err := w.gaugedWith(ctx, s, &usage.Uses{}, 0, noPaths); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
	db, err := sql.Open("sqlite", w.StoreFile())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec(`update ledger set line = 'x' where n = (select max(n) from ledger)`); err != nil {
		t.Fatal(err)
	}
	all()
	still("with a ledger that cannot be read", false)
}
