package work

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/source"
)

// TestGivenBack: whoever works on one thing after another, and was left those that it had used by a fence, is given
// back what a draft would have left it had the next ones been known, and no more than it had; whoever never had that,
// had it taken by somebody else, tries what works, or is to have the very places only, gets those.
func TestGivenBack(t *testing.T) {
	now := time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC)
	cut := now.AddDate(0, 0, -20)
	const head = `estate: 2
source: m
catalogue:
  - {permission: "s/box:put", level: change, log_class: all, kinds: [box]}
  - {permission: "s/box:get", level: read, log_class: all, kinds: [box]}
  - {permission: "s/box:a", level: read, log_class: all, kinds: [box]}
  - {permission: "s/box:b", level: read, log_class: all, kinds: [box]}
  - {permission: "s/box:c", level: read, log_class: all, kinds: [box]}
  - {permission: "s/box:d", level: read, log_class: all, kinds: [box]}
coverage: [{node: "/m", written: true}]
identities:
  - {id: workload/weekly, created: 2024-01-01T00:00:00Z}
  - {id: workload/tries, created: 2024-01-01T00:00:00Z}
  - {id: workload/revoked, created: 2024-01-01T00:00:00Z}
  - {id: workload/never, created: 2024-01-01T00:00:00Z}
`
	var nodes, log strings.Builder
	nodes.WriteString("nodes:\n  - {path: /m}\n  - {path: /m/unit:u}\n  - {path: /m/unit:v}\n")
	for _, unit := range []string{"u", "v"} {
		for i := range 60 {
			fmt.Fprintf(&nodes, "  - {path: \"/m/unit:%s/box:run-%02d\"}\n", unit, i)
			fmt.Fprintf(&nodes, "  - {path: \"/m/unit:%s/box:kept%d\"}\n", unit, i*i)
		}
	}
	n := 0
	call := func(at time.Time, who, do, on, outcome string) {
		n++
		fmt.Fprintf(&log, `{"t":%d,"n":"c%d","who":%q,"do":%q,"on":%q,"out":%q}`+"\n", at.Unix(), n, who, do, on,
			outcome)
	}
	for d := 350; d > 0; d-- { // a new box each week
		at, box := now.AddDate(0, 0, -d), fmt.Sprintf("/m/unit:u/box:run-%02d", (350-d)/7)
		for _, who := range []string{"weekly", "tries", "revoked"} {
			if out := "done"; at.Before(cut) {
				call(at, who, "s/box:put", box, out)
				call(at, who, "s/box:get", box, out)
			} else if d%7 == 3 {
				call(at, who, "s/box:put", box, "refused")
			}
		}
	}
	call(now.AddDate(0, 0, -3), "never", "s/box:put", "/m/unit:u/box:run-07", "refused")
	call(now.AddDate(0, 0, -3), "weekly", "s/box:put", "/m/unit:v/box:run-07", "refused") // where it never was
	for _, do := range []string{"a", "b", "c", "d", "get"} {
		call(now.AddDate(0, 0, -2), "tries", "s/box:"+do, "/m/unit:u/box:run-50", "refused")
	}
	grant := func(id, who, do, where string) string {
		return fmt.Sprintf("  - {id: %s, to: workload/%s, do: %s, where: [%q], created: 2024-01-01T00:00:00Z}\n", id,
			who, do, where)
	}
	revoked := grant("revoked", "revoked", `["s/box:*"]`, "/m/unit:u/**")
	grants := "grants:\n" + revoked
	var places []string
	for i := range 48 {
		places = append(places, fmt.Sprintf("%q", fmt.Sprintf("/m/unit:u/box:run-%02d", i)))
	}
	fences := map[string]string{}
	for _, who := range []string{"weekly", "tries"} {
		grants += grant(who, who, `["s/box:*"]`, "/m/unit:u/**")
		fences[who+".fence.yaml"] = fmt.Sprintf("fence: 2\nfor: m:workload/%s\nreplaces: [%s]\nallow:\n"+
			"  - {do: [\"s/box:put\", \"s/box:get\"], where: [%s]}\n", who, who, strings.Join(places, ", "))
	}
	dir := t.TempDir()
	w := opened(t, dir, now, map[string]string{"estate.yaml": head + nodes.String() + grants,
		"log.jsonl": log.String(),
		"map.yaml": "logmap: 1\nname: m\nform: json\nmatch: has(r.t)\ntime: r.t\nid: r.n\nidentity: r.who\n" +
			"kind: '\"workload\"'\npermission: r.do\npath: r.on\noutcome: r.out\n",
		"clipfence.yaml": "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.yaml, changes: edit, " +
			"logs: [log.jsonl], log_maps: [map.yaml]}]\n"})
	survey := func(at time.Time) {
		t.Helper()
		w.Clock = func() time.Time { return at }
		if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
			t.Fatal(err)
		}
	}
	survey(cut)
	for name, text := range fences {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		p, err := w.PrepareApply(t.Context(), name, "", true)
		if err == nil {
			_, err = p.Run(t.Context(), func(int, source.Step) {})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "estate.yaml")
	estate, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	less := strings.Replace(string(estate), revoked, "", 1)
	if less == string(estate) {
		t.Fatal("the grant that somebody takes is not there")
	}
	if err := os.WriteFile(file, []byte(less), 0o600); err != nil {
		t.Fatal(err)
	}
	survey(now)
	lines := func(q MoreRequest) (out []string, m *More) {
		t.Helper()
		q.Refused, q.Force = true, true
		m, err := w.DraftMore(t.Context(), q)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range m.Fence.Allow {
			for _, on := range l.Where {
				out = append(out, fmt.Sprintf("%v %v", l.Do, on))
			}
		}
		slices.Sort(out)
		return out, m
	}
	exact := func(unit string, runs ...int) (out []string) {
		for _, n := range runs {
			out = append(out, fmt.Sprintf("[s/box:put] /m/unit:%s/box:run-%02d", unit, n))
		}
		return out
	}
	got, m := lines(MoreRequest{For: "workload/weekly"})
	if want := append([]string{"[s/box:put] /m/unit:u/box:run-*/**"}, exact("v", 7)...); !slices.Equal(got, want) {
		t.Errorf("given back: %v, want %v", got, want)
	}
	wider := 0
	for _, a := range m.Answers {
		if !a.Where.IsZero() {
			wider++
		}
	}
	if wider != 2 || len(m.Answers) != 4 { // one is allowed, and one is where it never was
		t.Errorf("of %d calls %d are said to be given back further", len(m.Answers), wider)
	}
	got, _ = lines(MoreRequest{For: "workload/weekly", Exactly: true})
	if want := append(exact("u", 48, 49), exact("v", 7)...); !slices.Equal(got, want) {
		t.Errorf("the very places: %v, want %v", got, want)
	}
	if got, _ = lines(MoreRequest{For: "workload/never"}); !slices.Equal(got, exact("u", 7)) {
		t.Errorf("of what it never had it is given %v", got)
	}
	if got, _ = lines(MoreRequest{For: "workload/revoked"}); !slices.Equal(got, exact("u", 47, 48, 49)) {
		t.Errorf("of what somebody took it is given %v", got)
	}
	if got, m = lines(MoreRequest{For: "workload/tries"}); slices.ContainsFunc(got, func(s string) bool {
		return strings.Contains(s, "*")
	}) || m.Probing != 6 {
		t.Errorf("who tries %d permissions is given %v", m.Probing, got)
	}
}
