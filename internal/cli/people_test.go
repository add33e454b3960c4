package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// hostelPeople have names that are hard to find again in what is printed.
var hostelPeople = []string{"anna.berg", "o'*nei/l.x", "jörg.ä", "a b.c", "x$(id).y", "anna.berg.2", `q"q.z`,
	"bo@host.example"}

// hostel is an estate of people; each reads its own room.
func hostel(t *testing.T, days int) string {
	t.Helper()
	dir := t.TempDir()
	id := func(name string) string {
		return "person/" + strings.NewReplacer("/", "%2F", "*", "%2A", " ", "%20", "%", "%25").Replace(name)
	}
	quoted := func(s string) string {
		b, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	var estate, log strings.Builder
	estate.WriteString("estate: 2\nsource: h\ncatalogue:\n" +
		"  - {permission: \"room/door:open\", level: read, log_class: all}\n" +
		"  - {permission: \"room/door:lock\", level: administer, log_class: all}\nnodes:\n  - {path: \"/h\"}\n")
	for i := range hostelPeople {
		fmt.Fprintf(&estate, "  - {path: \"/h/room:%d\"}\n", i)
	}
	estate.WriteString("identities:\n  - {id: workload/porter}\n")
	for i, name := range hostelPeople {
		fmt.Fprintf(&estate, "  - {id: %s, title: \"Guest Number-%d\"}\n", quoted(id(name)), i)
	}
	estate.WriteString("grants:\n")
	for i, name := range hostelPeople {
		fmt.Fprintf(&estate, "  - {id: g-%d, to: %s, do: [\"room/*:*\"], where: [\"/h/room:%d/**\", "+
			"\"/h/room:%d/**\"], created: 2020-01-01T00:00:00Z}\n", i, quoted(id(name)), i, (i+1)%len(hostelPeople))
	}
	estate.WriteString("coverage:\n  - {node: \"/h\", service: room, log_class: all, written: true}\n")
	for d := range days {
		for i, name := range hostelPeople {
			line, err := json.Marshal(map[string]string{"t": time.Now().AddDate(0, 0, -d).UTC().Format(time.RFC3339),
				"who": name, "op": "door:open", "at": fmt.Sprintf("/h/room:%d", i)})
			if err != nil {
				t.Fatal(err)
			}
			log.Write(append(line, '\n'))
		}
	}
	for name, text := range map[string]string{"estate.yaml": estate.String(), "log.jsonl": log.String(),
		"map.yaml": "logmap: 1\nname: h\nform: json\ntime: r.t\nidentity: r.who\nkind: '\"person\"'\npermission: " +
			"'\"room/\" + r.op'\npath: r.at\n",
		"clipfence.yaml": "clipfence: 2\nsources:\n  - {name: h, kind: files, changes: edit, estate: estate.yaml, " +
			"logs: [log.jsonl], log_maps: [map.yaml]}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	must(t, dir, "survey")
	return dir
}

// TestPseudonyms: with --pseudonyms nothing that is printed or exported names anybody, in any
// form, however hard the name; the same person has the same one everywhere, and only the key tells.
func TestPseudonyms(t *testing.T) {
	t.Parallel()
	dir := hostel(t, 150)
	must(t, dir, "draft", "--all")
	must(t, dir, "review", "decide", "person/anna.berg", "accept")
	must(t, dir, "apply", "person/anna.berg", "--yes")
	betrays := []string{"anna.b", "anna-b", "nei/l", "nei%2F", "-nei-", "jörg", "a b.c", "a%20b", "(id)", "bo@",
		"Guest",
		"Number"} // none can be in a pseudonym
	commands := [][]string{{"gauge"}, {"findings"}, {"uses"}, {"uses", "--by", "identity,path"}, {"review", "list"},
		{"reach", "--into", "/h/room:1"}, {"rehearse", "--all"}, {"ledger", "list"}, {"ledger", "show",
			"c-1"}, {"survey"},
		{"draft", "--all"}, {"why", "person/anna.berg", "room/door:lock", "/h/room:0"}, {"reach", "person/jörg.ä"},
		{"apply", "--accepted", "--dry-run"}, {"reach", "person/no.body"}}
	for _, c := range commands {
		for _, format := range []string{"table", "json", "yaml", "csv", "markdown"} {
			_, out, errs := run(t, dir, append(slices.Clone(c), "--pseudonyms", "--format", format)...)
			for _, b := range betrays {
				if strings.Contains(out+errs, b) {
					t.Errorf("%v as %s tells %q:\n%s%s", c, format, b, out, errs)
					break
				}
			}
		}
	}
	must(t, dir, "export", "access", "veiled", "--pseudonyms")
	err := filepath.WalkDir(filepath.Join(dir, "veiled"), func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		for _, b := range betrays {
			if strings.Contains(strings.TrimPrefix(name, dir), b) || strings.Contains(string(data), b) {
				t.Errorf("%s tells %q:\n%s", name, b, data)
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	// The same everywhere, and told by the key alone.
	p := regexp.MustCompile(`person/(p-[a-z0-9]{12})`)
	of := func(args ...string) string {
		m := p.FindStringSubmatch(must(t, dir, append(args, "--pseudonyms")...))
		if m == nil {
			t.Fatalf("%v shows no pseudonym", args)
		}
		return m[1]
	}
	one := of("uses", "person/anna.berg")
	if two := of("reach", "person/anna.berg"); one != two {
		t.Errorf("%s here and %s there", one, two)
	}
	if three := of("uses", "person/anna.berg.2"); one == three {
		t.Error("two people have one pseudonym")
	}
	if out := must(t, dir, "uses", "reveal", one); !strings.Contains(out, one+" is person/anna.berg\n") {
		t.Errorf("%s", out)
	}
	if n := entriesOf(t, dir, "people.revealed"); n != 1 {
		t.Errorf("the ledger tells of %d revelations", n)
	}
	if code, _, errs := run(t, dir, "export", "compare", "veiled", "--pseudonyms"); code == 0 ||
		!strings.Contains(errs, "names people") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	if err := os.Remove(filepath.Join(dir, ".clipfence", "people.key")); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run(t, dir, "uses", "reveal", one); code == 0 || !strings.Contains(errs,
		"no person that is known") {
		t.Errorf("without the key: exit code %d: %s", code, errs)
	}
}

// calls counts calls by identity.
func calls(t *testing.T, dir string) map[string]int {
	t.Helper()
	out := map[string]int{}
	for _, r := range decode[[]struct {
		Identity string `json:"identity"`
		Calls    int    `json:"calls"`
	}](t, dir, "uses", "--by", "identity", "--window", "1000d", "--all") {
		out[r.Identity] = r.Calls
	}
	return out
}

// TestForget: what one did goes, and only that; it does not come back, the ledger does not name
// who it was, and silence proves nothing of it.
func TestForget(t *testing.T) {
	t.Parallel()
	dir := hostel(t, 150)
	before := calls(t, dir)
	if before["person/anna.berg"] != 150 || len(before) != len(hostelPeople) {
		t.Fatalf("%v", before)
	}
	ledger := func() string {
		data, err := os.ReadFile(filepath.Join(dir, ".clipfence", "ledger.jsonl"))
		if err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
		return string(data)
	}
	must(t, dir, "gauge")
	must(t, dir, "draft", "--for", "person/anna.berg.2")
	if n := told(t, dir); n != 2 {
		t.Fatalf("%d files keep what was told", n)
	}
	code, _, errs := run(t, dir, "uses", "forget", "person/anna.berg")
	if code == 0 || !strings.Contains(errs, "--yes") || ledger() != "" {
		t.Errorf("exit code %d: %s", code, errs)
	}
	out := must(t, dir, "uses", "forget", "person/anna.berg", "--yes", "--reason", "asked for it")
	if !strings.Contains(out, "Forgotten: 150 calls of person/anna.berg; the ledger calls it p-") {
		t.Errorf("%s", out)
	}
	if n := told(t, dir); n > 0 {
		t.Error("what was told of it is kept")
	}
	same := func(what string) {
		t.Helper()
		now := calls(t, dir)
		if now["person/anna.berg"] != 0 || len(now) != len(before)-1 {
			t.Errorf("%s: %v", what, now)
		}
		for who, n := range now {
			if n != before[who] {
				t.Errorf("%s: %s has %d calls, and had %d", what, who, n, before[who])
			}
		}
	}
	same("forgotten")
	must(t, dir, "survey", "--reread")
	same("read anew")
	must(t, dir, "survey", "--read", "log.jsonl")
	same("read by hand")
	if strings.Contains(ledger(), "anna") || entriesOf(t, dir, "people.forgotten") != 1 {
		t.Errorf("the ledger:\n%s", ledger())
	}
	code, _, errs = run(t, dir, "draft", "--for", "person/anna.berg")
	if code == 0 || !strings.Contains(errs, "its silence proves nothing yet") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	must(t, dir, "draft", "--for", "person/anna.berg.2", "--force")
	// One whom the log calls otherwise, by an alias.
	config := filepath.Join(dir, "clipfence.yaml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	with := strings.Replace(string(text), "log_maps:", "aliases: [{log: \"person/bo@host.example\", is: "+
		"\"person/anna.berg.2\"}], log_maps:",
		1)
	if err := os.WriteFile(config, []byte(with), 0o600); err != nil {
		t.Fatal(err)
	}
	if now := calls(t, dir); now["person/anna.berg.2"] != 300 {
		t.Fatalf("%v", now)
	}
	if out := must(t, dir, "uses", "forget", "person/anna.berg.2", "--yes"); !strings.Contains(out,
		"Forgotten: 300 calls") {
		t.Errorf("%s", out)
	}
	must(t, dir, "survey", "--reread")
	if now := calls(t, dir); now["person/anna.berg.2"]+now["person/bo@host.example"] != 0 {
		t.Errorf("by an alias: %v", now)
	}
	if err := os.WriteFile(config, text, 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "survey", "--reread")
	if now := calls(t, dir); now["person/bo@host.example"] != 0 {
		t.Errorf("what the log called it comes back without the alias: %v", now)
	}
	if code, _, errs := run(t, dir, "uses", "forget", "person/no.body", "--yes"); code == 0 ||
		!strings.Contains(errs, "no survey lists person/no.body") {
		t.Errorf("exit code %d: %s", code, errs)
	}
}

// told returns how many files keep what was told of a source.
func told(t *testing.T, dir string) int {
	t.Helper()
	n := 0
	for _, name := range []string{"*.told", "*.few"} {
		list, err := filepath.Glob(filepath.Join(dir, ".clipfence", "index", name))
		if err != nil {
			t.Fatal(err)
		}
		n += len(list)
	}
	return n
}

// TestKeepUses: calls older than they are kept go with the next survey, and the log counts as
// known from then on.
func TestKeepUses(t *testing.T) {
	t.Parallel()
	dir := hostel(t, 250)
	config := filepath.Join(dir, "clipfence.yaml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	keep := func(d string) {
		if err := os.WriteFile(config, append(slices.Clone(text), "keep_uses: "+d+"\n"...), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for d, want := range map[string]string{"100d": "less than twice the window", "5h": "calls are kept by day"} {
		keep(d)
		if code, _, errs := run(t, dir, "survey"); code != 2 || !strings.Contains(errs, want) {
			t.Errorf("%s: exit code %d: %s", d, code, errs)
		}
	}
	keep("200d")
	must(t, dir, "gauge")
	if n := told(t, dir); n != 1 {
		t.Fatalf("%d files keep what was told", n)
	}
	must(t, dir, "survey")
	if n := told(t, dir); n > 0 {
		t.Error("what was told by calls that are not kept any more is")
	}
	for who, n := range calls(t, dir) {
		if n != 201 { // the day that began 200 days ago, and those since
			t.Errorf("%s has %d calls", who, n)
		}
	}
	row := decode[[]struct {
		LogFrom time.Time `json:"log_from"`
	}](t, dir, "survey")
	if want := time.Now().UTC().AddDate(0, 0,
		-200).Format(time.DateOnly); row[0].LogFrom.Format(time.DateOnly) != want {
		t.Errorf("the log is known from %s, want %s", row[0].LogFrom, want)
	}
	if n := entriesOf(t, dir, "people.trimmed"); n != 1 {
		t.Errorf("the ledger tells %d times", n)
	}
}
