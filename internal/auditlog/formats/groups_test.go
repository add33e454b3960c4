package formats_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/auditlog/logmap"
)

// inGroups returns who is in which group as a log shows it, sorted.
func inGroups(t *testing.T, name string, data []byte, also ...func() auditlog.Format) []string {
	t.Helper()
	out := map[string]bool{}
	for b, err := range fold.Run(t.Context(), one(name, data), fold.Options{Formats: formats.For("x", nil, also...)}) {
		if err != nil {
			t.Fatal(err)
		}
		for i, g := range b.InGroups {
			out[g.Identity.String()+" in "+g.Group.String()] = true
			if g.First > g.Last || i > 0 && b.InGroups[i-1].Identity.Compare(g.Identity) > 0 {
				t.Errorf("%s: %+v is out of order", name, g)
			}
		}
	}
	return sorted(out)
}

func sorted(set map[string]bool) []string {
	var out []string
	for s := range set {
		out = append(out, s)
	}
	slices.Sort(out)
	return out
}

// TestGroupsOfRecords: in which groups one record shows its caller.
func TestGroupsOfRecords(t *testing.T) {
	kube := func(user, more string) string {
		return `{"kind":"Event","apiVersion":"audit.k8s.io/v1","auditID":"1","stage":"ResponseComplete","verb":"get",` +
			`"user":` + user + `,"objectRef":{"resource":"pods","namespace":"shop","name":"p1"},` +
			`"responseStatus":{"code":200},"requestReceivedTimestamp":"2026-11-24T08:00:00Z"` + more + `}`
	}
	list := func(n int) string { // g00, g01, ...
		var names []string
		for i := range n {
			names = append(names, fmt.Sprintf(`"g%02d"`, i))
		}
		return "[" + strings.Join(names, ",") + "]"
	}
	all := func(who string, n int) string {
		var out []string
		for i := range n {
			out = append(out, fmt.Sprintf("%s in group/g%02d", who, i))
		}
		return strings.Join(out, "; ")
	}
	objects := func(n int) string {
		return strings.NewReplacer(`"g`, `{"uid":"g`, `",`, `"},`, `"]`, `"}]`).Replace(list(n))
	}
	ocsf := func(user string) string {
		return `{"class_uid":6003,"time":1790000000000,"metadata":{"uid":"e"},"actor":{"user":` + user +
			`},"api":{"operation":"a/b:c"},"resources":[{"uid":"/x/y:z"}]}`
	}
	for _, tt := range []struct{ record, want string }{
		{kube(`{"username":"ada"}`, ""), ""},
		{kube(`{"username":"ada","groups":[]}`, ""), ""},
		{kube(`{"username":"ada","groups":null}`, ""), ""},
		{kube(`{"username":"ada","groups":["dev"]}`, ""), "person/ada in group/dev"},
		{kube(`{"username":"ada","groups":["dev","","dev"]}`, ""), "person/ada in group/dev"},
		{kube(`{"username":"ada","groups":["everyone","group/x","a:b"]}`, ""),
			"person/ada in group/a%3Ab; person/ada in group/everyone; person/ada in group/group%2Fx"},
		{kube(`{"username":"ada","groups":`+list(12)+`}`, ""), all("person/ada", 12)},
		{kube(`{"username":"ada","groups":`+list(13)+`}`, ""), all("person/ada", 13)},
		{kube(`{"username":"ada","groups":`+list(70)+`}`, ""), all("person/ada", 70)},
		{kube(`{"username":"system:anonymous","groups":["system:unauthenticated"]}`, ""), ""},
		// Whom one impersonates is in the groups that one asked for, which proves nothing.
		{kube(`{"username":"ada","groups":["dev"]}`, `,"impersonatedUser":{"username":"bob","groups":["boss"]}`),
			"person/ada in group/dev"},
		{ocsf(`{"uid":"person/ada"}`), ""},
		{ocsf(`{"uid":"person/ada","groups":[{"uid":"g1","name":"Crew"},{"name":"Cooks"}]}`),
			"person/ada in group/Cooks; person/ada in group/g1"},
		{ocsf(`{"uid":"person/ada","groups":` + objects(8) + `}`), all("person/ada", 8)},
		{ocsf(`{"uid":"person/ada","groups":` + objects(9) + `}`), all("person/ada", 9)},
		{ocsf(`{"uid":"person/ada","groups":` + objects(40) + `}`), all("person/ada", 40)},
		{strings.Replace(ocsf(`{"groups":[{"uid":"g1"}]}`), `"actor":{`, `"actor":{"app_name":"cron",`, 1), ""},
		// Of a sign-in that somebody else tells of, the groups are somebody else's.
		{`{"class_uid":3002,"activity_id":1,"time":1790000000000,"metadata":{"uid":"e"},"actor":{"user":` +
			`{"name":"boss","groups":[{"uid":"g1"}]}},"user":{"uid":"person/ada"}}`, ""},
	} {
		if got := strings.Join(inGroups(t, "x.log", []byte(tt.record+"\n")), "; "); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.record, got, tt.want)
		}
	}
}

// TestGroupsOfEach: groups of one event do not stay with the next, whatever the order.
func TestGroupsOfEach(t *testing.T) {
	var log strings.Builder
	want := map[string]bool{}
	for i := range 300 {
		who, names := fmt.Sprintf("p%d", i%7), []string{}
		for g := range (i * 5) % 31 {
			if (i+g)%(2+i%7) == 0 {
				names = append(names, fmt.Sprintf("g%d", g))
				want[fmt.Sprintf("person/%s in group/g%d", who, g)] = true
			}
		}
		text, err := json.Marshal(names)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&log, `{"kind":"Event","apiVersion":"audit.k8s.io/v1","auditID":"%d","stage":"ResponseComplete","verb":"get","user":{"username":"%s","groups":%s},"objectRef":{"resource":"pods"},"requestReceivedTimestamp":"2026-11-24T08:00:00Z"}`+"\n", i, who, text)
	}
	if got := inGroups(t, "x.log", []byte(log.String())); !slices.Equal(got, sorted(want)) {
		t.Errorf("got %v\nwant %v", got, sorted(want))
	}
}

// TestGroupsByLogMap: a log map may say the groups, as one text or a list.
func TestGroupsByLogMap(t *testing.T) {
	for _, tt := range []struct{ groups, record, want string }{
		{"r.g", `"g":["b","a","b"]`, "person/ada in group/a; person/ada in group/b"},
		{"r.g", `"g":"a"`, "person/ada in group/a"},
		{"r.?g.orValue([])", `"h":1`, ""},
		{"r.g", `"g":null`, ""},
		{"split(r.g, ',')", `"g":"a,b"`, "person/ada in group/a; person/ada in group/b"},
	} {
		m := &logmap.Map{Version: 1, Name: "m", Form: "json", Time: "r.t", Identity: "r.who", Kind: `"person"`,
			Permission: `"a/b:c"`, Path: `"/x/y"`, Groups: tt.groups}
		mk, err := m.Compile()
		if err != nil {
			t.Fatal(err)
		}
		record := `{"t":"2026-11-24T08:00:00Z","who":"ada",` + tt.record + "}\n"
		if got := strings.Join(inGroups(t, "x.log", []byte(record), mk), "; "); got != tt.want {
			t.Errorf("%s of %s: got %q, want %q", tt.groups, tt.record, got, tt.want)
		}
	}
	m := &logmap.Map{Version: 1, Name: "m", Form: "json", Time: "r.t", Identity: "r.who", Permission: `"a/b:c"`,
		Path: `"/x/y"`, Groups: "r.g"}
	mk, err := m.Compile()
	if err != nil {
		t.Fatal(err)
	}
	if got := inGroups(t, "x.log", []byte(`{"t":"2026-11-24T08:00:00Z","who":"ada","g":7}`+"\n"), mk); len(got) > 0 {
		t.Errorf("groups that are a number: %v", got)
	}
}

// TestGroupsOfRecorded: of what real API servers wrote, every caller is in the groups that the events
// name, read once more by the library and another way.
func TestGroupsOfRecorded(t *testing.T) {
	for _, name := range recordedKubernetes(t) {
		data := unpackedOr(t, name)
		want := map[string]bool{}
		for line := range bytes.Lines(data) {
			var e struct {
				Stage string
				User  struct {
					Username string
					Groups   []string
				}
			}
			if err := json.Unmarshal(line, &e); err != nil {
				t.Fatal(err)
			}
			if e.Stage == "RequestReceived" || e.User.Username == "system:anonymous" {
				continue
			}
			for _, g := range e.User.Groups {
				want[e.User.Username+" "+g] = true
			}
		}
		got := inGroups(t, name, data)
		if len(got) != len(want) || len(got) == 0 {
			t.Errorf("%s: %d pairs, want %d: %v", name, len(got), len(want), got)
		}
	}
}

func recordedKubernetes(t *testing.T) []string {
	t.Helper()
	out := []string{"testdata/kubernetes-recorded.jsonl"}
	more, err := os.ReadDir("../kubernetes/testdata")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range more {
		if strings.HasSuffix(e.Name(), ".jsonl.gz") {
			out = append(out, "../kubernetes/testdata/"+e.Name())
		}
	}
	if len(out) < 2 {
		t.Fatal("no log of a real server is there")
	}
	return out
}

func unpackedOr(t *testing.T, name string) []byte {
	t.Helper()
	if strings.HasSuffix(name, ".gz") {
		return unpacked(t, name)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
