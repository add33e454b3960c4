package cli_test

import (
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// orchard is a workspace whose source is files: a bottler that may do everything everywhere,
// and reads two vats.
func orchard(t *testing.T, field string) string {
	t.Helper()
	dir := t.TempDir()
	var log strings.Builder
	for d := range 200 {
		for _, vat := range []string{"one", "two"} {
			fmt.Fprintf(&log, `{"t":%q,"who":"bottler","op":"juice:read","at":"/orchard/barn:north/vat:%s"}`+"\n",
				time.Now().AddDate(0, 0, -d).UTC().Format(time.RFC3339), vat)
		}
	}
	for name, text := range map[string]string{
		"estate.yaml": orchardEstate, "log.jsonl": log.String(),
		"map.yaml": "logmap: 1\nname: orchard\nform: json\ntime: r.t\nidentity: r.who\n" +
			"permission: '\"press/\" + r.op'\npath: r.at\n",
		"clipfence.yaml": "clipfence: 2\nsources:\n  - {name: orchard, kind: files, " + field +
			"estate: estate.yaml, logs: [log.jsonl], log_maps: [map.yaml]}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if strings.Contains(field, "ops.yaml") {
		if err := os.WriteFile(filepath.Join(dir, "ops.yaml"), []byte(noOperations), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	must(t, dir, "survey")
	must(t, dir, "draft", "--for", "workload/bottler")
	return dir
}

const orchardEstate = `# The orchard. Kept in git.
estate: 2
source: orchard
catalogue:
  - {permission: "press/juice:read", level: read, log_class: all, kinds: [vat]}
  - {permission: "press/vat:scrap", level: administer, log_class: all, kinds: [vat]}
nodes:
  - {path: "/orchard"}
  - {path: "/orchard/barn:north"}
  - {path: "/orchard/barn:north/vat:one"}
  - {path: "/orchard/barn:north/vat:two"}
  - {path: "/orchard/barn:south"}
  - {path: "/orchard/barn:south/vat:three"}
identities:
  - {id: workload/bottler}
roles: []
grants:
  # The bottler was set up in a hurry.
  - id: g-bottler # see ticket 7
    to: workload/bottler
    do: ["press/*:*"]
    where: ["/orchard/**"]
    created: 2020-01-01T00:00:00Z

# What is logged
coverage:
  - {node: "/orchard", service: press, log_class: all, written: true}
`

func estateText(t *testing.T, dir string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestHandedOver: a change of a source that is files is written down for whoever carries it
// out; surveys say what of it is seen, and the ledger that it was done, and undone.
func TestHandedOver(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "")
	type change struct{ ID, State string }
	state := func(id string) string {
		for _, c := range decode[[]change](t, dir, "ledger", "list") {
			if c.ID == id {
				return c.State
			}
		}
		return ""
	}
	type row struct {
		Handed []struct {
			Change string
			Done   bool
			Steps  int
			Open   []string
		} `json:"handed_over"`
	}
	survey := func() row { return decode[[]row](t, dir, "survey", "--no-logs")[0] }
	out := must(t, dir, "apply", "workload/bottler", "--yes", "--reason", "a\nb")
	if !strings.Contains(out, "handed over, nothing is changed yet: changes/c-1.patch") ||
		estateText(t, dir) != orchardEstate {
		t.Fatalf("%s\n%s", out, estateText(t, dir))
	}
	if got := state("c-1"); got != "handed over" {
		t.Errorf("c-1 is %q", got)
	}
	if h := survey().Handed; len(h) != 1 || h[0].Done || h[0].Steps != 3 || len(h[0].Open) != 3 ||
		!strings.HasPrefix(h[0].Open[2], "take grant g-bottler away") {
		t.Errorf("not done yet: %+v", h)
	}
	patch := func(id string) {
		t.Helper()
		if code, out, errs := exitOf(t, command(dir, "git", "apply",
			filepath.Join("changes", id+".patch"))); code != 0 {
			t.Fatal(out, errs)
		}
	}
	patch("c-1")
	if text := estateText(t, dir); !strings.HasPrefix(text, "# The orchard. Kept in git.\n") ||
		!strings.Contains(text, "# What is logged") || strings.Contains(text, "g-bottler") {
		t.Errorf("patched:\n%s", text)
	}
	if h := survey().Handed; len(h) != 1 || !h[0].Done || state("c-1") != "done" {
		t.Errorf("done: %+v, %s", h, state("c-1"))
	}
	if h := survey().Handed; len(h) != 0 {
		t.Errorf("told again: %+v", h)
	}
	if out := must(t, dir, "why", "workload/bottler", "press/vat:scrap",
		"/orchard/barn:north/vat:one"); !strings.Contains(out, "DENIED") {
		t.Error(out)
	}
	must(t, dir, "undo", "c-1", "--yes")
	patch("c-2")
	if h := survey().Handed; len(h) != 1 || !h[0].Done || state("c-1") != "undone" || state("c-2") != "done" {
		t.Errorf("undone: %+v, c-1 %s, c-2 %s", h, state("c-1"), state("c-2"))
	}
	if out := must(t, dir, "why", "workload/bottler", "press/vat:scrap",
		"/orchard/barn:north/vat:one"); !strings.Contains(out, "ALLOWED") {
		t.Error(out)
	}
	// Whoever may not write the ledger surveys all the same.
	must(t, dir, "apply", "workload/bottler", "--yes")
	patch("c-3")
	cmd := command(dir, binary, "survey", "--no-logs")
	cmd.Env = append(cmd.Env, "CLIPFENCE_HOME="+t.TempDir())
	if code, out, errs := exitOf(t, cmd); code != 0 || !strings.Contains(errs, "cannot be recorded") {
		t.Errorf("%d\n%s\n%s", code, out, errs)
	}
	if survey(); state("c-3") != "done" {
		t.Errorf("c-3 is %s", state("c-3"))
	}
	must(t, dir, "ledger", "verify")
	if code, _, errs := exitOf(t, command(dir, binary, "apply", "--resume", "c-3")); code != 4 ||
		!strings.Contains(errs, "nothing to resume") {
		t.Errorf("%d %s", code, errs)
	}
}

// TestEstateEdited: where the configuration says so the estate file itself is edited, read
// back, and edited back.
func TestEstateEdited(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "changes: edit, ")
	must(t, dir, "source", "check")
	must(t, dir, "apply", "workload/bottler", "--dry-run")
	if estateText(t, dir) != orchardEstate {
		t.Fatal("a dry run edits")
	}
	must(t, dir, "apply", "workload/bottler", "--yes")
	text := estateText(t, dir)
	for _, keeps := range []string{"# The orchard. Kept in git.\n", "  # The bottler was set up in a hurry.\n",
		"# What is logged\n"} {
		if !strings.Contains(text, keeps) {
			t.Errorf("%q is gone:\n%s", keeps, text)
		}
	}
	if strings.Contains(text, "g-bottler") || strings.Count(text, "fence-workload-bottler-") < 3 {
		t.Errorf("edited:\n%s", text)
	}
	// What it left takes it back without this program, byte by byte.
	back, err := os.ReadFile(filepath.Join(dir, "changes", "c-1.back.patch"))
	if err != nil || !strings.Contains(string(back), "\n+  - id: g-bottler # see ticket 7\n") ||
		!strings.Contains(string(back), "  1. grant g-bottler: ") {
		t.Errorf("the way back: %v\n%s", err, back)
	}
	// Somebody edits what an undo would put back.
	name := filepath.Join(dir, "estate.yaml")
	if err := os.WriteFile(name, []byte(strings.Replace(text, "roles:\n",
		"roles:\n  - {name: mine, do: [\"press/juice:read\"]}\n", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "undo", "c-1", "--yes")
	if text := estateText(t, dir); !strings.Contains(text, "name: mine") || !strings.Contains(text, "id: g-bottler") ||
		strings.Contains(text, "fence-workload") {
		t.Errorf("undone:\n%s", text)
	}
	if code, _, errs := exitOf(t, command(dir, binary, "coverage", "--mend")); code != 4 ||
		!strings.Contains(errs, "made of files") {
		t.Errorf("%d %s", code, errs)
	}
}

// TestUnread: whatever changes something goes on to its end though nobody reads what it prints, as behind a
// `| head`; a question ends with that, and says nothing.
func TestUnread(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "changes: edit, ")
	unread := func(args ...string) (int, string) {
		t.Helper()
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		_ = r.Close()
		defer func() { _ = w.Close() }()
		cmd := command(dir, binary, args...)
		var errs strings.Builder
		cmd.Stdout, cmd.Stderr = w, &errs
		if err := cmd.Run(); err != nil && cmd.ProcessState.ExitCode() < 0 {
			t.Fatalf("%v: %v", args, err)
		}
		return cmd.ProcessState.ExitCode(), errs.String()
	}
	if code, errs := unread("apply", "workload/bottler", "--yes"); code != 0 || strings.Contains(errs, "pipe") {
		t.Fatalf("%d %s", code, errs)
	}
	if text := estateText(t, dir); strings.Contains(text, "g-bottler") {
		t.Fatal("it was not carried out")
	}
	if code, errs := unread("undo", "c-1", "--yes"); code != 0 || strings.Contains(errs, "pipe") {
		t.Fatalf("%d %s", code, errs)
	}
	if text := estateText(t, dir); !strings.Contains(text, "id: g-bottler") ||
		strings.Contains(text, "fence-workload") {
		t.Errorf("undone:\n%s", text)
	}
	if out := must(t, dir, "status"); strings.Contains(out, "interrupted") {
		t.Error(out)
	}
	if code, errs := unread("gauge"); code != 141 || errs != "" {
		t.Errorf("%d %s", code, errs)
	}
}

// TestUnwritable: where nothing can be written questions are answered all the same, and what changes something
// is not begun; what a process that died left to be written is missed by no answer.
func TestUnwritable(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "changes: edit, ")
	full := func(args ...string) (int, string, string) {
		return exitOf(t, command(dir, "sh", append([]string{"-c", `ulimit -f 0; exec "$0" "$@"`, binary}, args...)...))
	}
	for _, args := range [][]string{{"gauge"}, {"why", "workload/bottler", "press/juice:read",
		"/orchard/barn:north/vat:one"}, {"findings"}, {"rehearse", "workload/bottler"}, {"ledger", "list"}} {
		want := must(t, dir, args...)
		code, out, errs := full(args...)
		if code != 0 || out != want ||
			!strings.Contains(errs, "cannot be written; questions are answered all the same") {
			t.Errorf("%v: %d %s\n%s", args, code, errs, out)
		}
	}
	for _, args := range [][]string{{"apply", "workload/bottler", "--yes"}, {"survey"}} {
		if code, out, errs := full(args...); code == 0 || !strings.Contains(errs, "could not be written") {
			t.Errorf("%v: %d %s\n%s", args, code, errs, out)
		}
	}
	if text := estateText(t, dir); text != orchardEstate {
		t.Errorf("edited:\n%s", text)
	}
	side := filepath.Join(dir, ".clipfence", "store.db-wal")
	if err := os.WriteFile(side, []byte("what was not brought in"), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := full("gauge"); code == 0 || !strings.Contains(errs, "a part of it is still in store.db-wal") {
		t.Errorf("%d %s", code, errs)
	}
}

// TestHungUp: a terminal that goes away ends a command as an interrupt does, but not one that was started to
// outlive it.
func TestHungUp(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "")
	// Tests that were themselves started to outlive a terminal hand that on, unless they hear of it.
	heard := make(chan os.Signal, 1)
	signal.Notify(heard, syscall.SIGHUP)
	defer signal.Stop(heard)
	for wait := 500 * time.Millisecond; ; wait *= 2 { // it may not have begun yet
		code, err := hungUp(t, dir, wait, "")
		if err != nil {
			t.Fatal(err)
		}
		if code >= 0 {
			break
		}
		if wait > 10*time.Second {
			t.Fatal("the signal kills it")
		}
	}
	if _, err := hungUp(t, dir, time.Second, "HUP"); err == nil {
		t.Error("it ended, though it was started to outlive its terminal")
	}
}

// hungUp starts a patrol that ignores some signal, hangs up after a while, and returns its exit code; an error
// where it goes on.
func hungUp(t *testing.T, dir string, wait time.Duration, ignores string) (int, error) {
	t.Helper()
	script := `exec "$0" "$@"`
	if ignores != "" {
		script = `trap "" ` + ignores + "; " + script
	}
	cmd := command(dir, "sh", "-c", script, binary, "patrol", "--every", "1h")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(wait)
	_ = cmd.Process.Signal(syscall.SIGHUP)
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	patience := 30 * time.Second
	if ignores != "" {
		patience = 2 * time.Second
	}
	select {
	case <-ended:
		return cmd.ProcessState.ExitCode(), nil
	case <-time.After(patience):
		_ = cmd.Process.Kill()
		<-ended
		return 0, errors.New("it goes on")
	}
}

// TestDraftOutlived: a grant that changed since a draft was written is not replaced unseen.
func TestDraftOutlived(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "changes: edit, ")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		must(t, dir, "survey")
	}
	refused := func(want string) {
		t.Helper()
		for _, args := range [][]string{{"rehearse", "workload/bottler"}, {"apply", "workload/bottler", "--yes"}} {
			code, out, errs := exitOf(t, command(dir, binary, args...))
			if code == 0 || !strings.Contains(out+errs, want) {
				t.Errorf("%v: exit code %d, without %q:\n%s%s", args, code, want, out, errs)
			}
		}
		if text := estateText(t, dir); !strings.Contains(text, "g-bottler") {
			t.Fatal("it was put up all the same")
		}
	}
	must(t, dir, "apply", "workload/bottler", "--dry-run")
	write(strings.Replace(orchardEstate, "do: [\"press/*:*\"]", "do: [\"press/*:*\", \"press/vat:scrap\"]", 1))
	refused("grant g-bottler, which it replaces, is not what it was when it was drafted")
	write(orchardEstate)
	must(t, dir, "apply", "workload/bottler", "--yes")
}

// TestLearnedIsKept: what was learned is kept in one file of a source, and drafts are the same with
// it, without it and with a broken one; other uses, another day and another estate make another.
func TestLearnedIsKept(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "")
	kept := func() string {
		files, err := filepath.Glob(filepath.Join(dir, ".clipfence", "learned-*"))
		if err != nil || len(files) != 1 {
			t.Fatalf("kept: %v, %v", files, err)
		}
		return files[0]
	}
	read := func(name string) string {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	now := time.Now().UTC()
	asOf := now.Format(time.RFC3339)
	draft := func(at string) string {
		// Which is asked first.
		if err := os.RemoveAll(filepath.Join(dir, ".clipfence", "index", "orchard.few")); err != nil {
			t.Fatal(err)
		}
		must(t, dir, "draft", "--for", "workload/bottler", "--force", "--as-of", at)
		return read(filepath.Join(dir, "drafts", "workload-bottler.fence.yaml"))
	}
	first := draft(asOf)
	learned := read(kept())
	digest, _, _ := strings.Cut(learned, "\n")
	began := now.Truncate(24 * time.Hour)
	for _, minute := range []time.Duration{1, 1439} { // what was learned on a day holds all day
		if draft(began.Add(minute * time.Minute).Format(time.RFC3339)); read(kept()) != learned {
			t.Errorf("learned anew after %d minutes of the day", minute)
		}
	}
	if is := draft(asOf); is != first || read(kept()) != learned {
		t.Errorf("drafted again:\n%s\nwas\n%s", is, first)
	}
	for name, text := range map[string]string{"gone": "", "cut short": learned[:len(learned)/2],
		"of something else": "0" + learned[1:], "no model": digest + "\n{}"} {
		if err := os.WriteFile(kept(), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if is := draft(asOf); is != first || read(kept()) != learned {
			t.Errorf("%s: drafted\n%s\nwas\n%s", name, is, first)
		}
	}
	other := map[string]bool{digest: true}
	changed := func(what string) {
		t.Helper()
		d, _, _ := strings.Cut(read(kept()), "\n")
		if other[d] {
			t.Errorf("%s, and what was learned is taken for the same", what)
		}
		other[d] = true
	}
	draft(time.Now().AddDate(0, 0, -3).UTC().Format(time.RFC3339))
	changed("another day")
	draft(asOf)
	must(t, dir, "survey")
	if before := read(kept()); draft(asOf) == "" || read(kept()) != before {
		t.Error("learned anew of a survey that shows the same")
	}
	edit := func(old, new string) {
		t.Helper()
		name := filepath.Join(dir, "estate.yaml")
		text := strings.Replace(read(name), old, new, 1)
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		must(t, dir, "survey")
	}
	edit("grants:\n", "grants:\n  - {id: another, to: workload/bottler, do: [\"press/vat:scrap\"], where: "+
		"[/orchard]}\n")
	draft(asOf)
	changed("another grant, by somebody else")
	more := filepath.Join(dir, "more.jsonl")
	line := fmt.Sprintf(`{"t":%q,"who":"bottler","op":"juice:read","at":"/orchard/barn:south/vat:three"}`+"\n",
		time.Now().AddDate(0, 0, -9).UTC().Format(time.RFC3339))
	if err := os.WriteFile(more, []byte(line), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "survey", "--read", more)
	draft(asOf)
	changed("one more call")
}

// TestFewIsKept: once everybody was compared and learned from, drafts, rehearsals and changes of one read what is
// kept of few, which says the same to the letter; of what changed, and of what is damaged, all is compared anew.
func TestFewIsKept(t *testing.T) {
	t.Parallel()
	dir := orchard(t, "operations: ops.yaml, ")
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	few := filepath.Join(dir, ".clipfence", "index", "orchard.few")
	at := time.Now().UTC().Format(time.RFC3339)
	// What was learned is written anew by whoever looks at everybody, and by nobody else.
	ask := func(what string, whole bool, args ...string) string {
		t.Helper()
		learned, err := filepath.Glob(filepath.Join(dir, ".clipfence", "learned-*"))
		if err != nil || len(learned) > 1 {
			t.Fatal(learned, err)
		}
		for _, name := range learned {
			if err := os.Remove(name); err != nil {
				t.Fatal(err)
			}
		}
		_, out, errs := run(t, dir, append(args, "--as-of", at)...)
		learned, err = filepath.Glob(filepath.Join(dir, ".clipfence", "learned-*"))
		if err != nil || whole != (len(learned) == 1) {
			t.Errorf("%s, %v: everybody was looked at: %t, %v\n%s", what, args, len(learned) == 1, err, errs)
		}
		return out + errs
	}
	fenceOf := func(what string, whole bool) string {
		t.Helper()
		out := ask(what, whole, "draft", "--for", "workload/bottler", "--force")
		data, err := os.ReadFile(filepath.Join(dir, "drafts", "workload-bottler.fence.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		return out + string(data)
	}
	first := fenceOf("first", true)
	if is := fenceOf("again", false); is != first {
		t.Errorf("by few:\n%s\nwas\n%s", is, first)
	}
	rehearsed := ask("again", false, "rehearse", "workload/bottler")
	kept, err := os.ReadFile(few)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(few); err != nil {
		t.Fatal(err)
	}
	if is := ask("nothing is kept", true, "rehearse", "workload/bottler"); is != rehearsed {
		t.Errorf("rehearsed:\n%s\nby few:\n%s", is, rehearsed)
	}
	for name, text := range map[string]string{"cut short": string(kept[:len(kept)/2]), "nothing in it": "",
		"of something else": strings.Replace(string(kept), "workload/bottler", "workload/bottles", 1)} {
		write(".clipfence/index/orchard.few", text)
		is, told := []string(nil), false
		for line := range strings.Lines(fenceOf(name, true)) {
			if strings.Contains(line, "what was kept of the last comparison cannot be read") {
				told = true
			} else {
				is = append(is, line)
			}
		}
		if !told || strings.Join(is, "") != first {
			t.Errorf("%s: told %t\n%s\nwas\n%s", name, told, is, first)
		}
		if is := fenceOf("after it was "+name, false); is != first {
			t.Errorf("after it was %s:\n%s\nwas\n%s", name, is, first)
		}
	}
	ask("another window", true, "draft", "--for", "workload/bottler", "--force", "--window", "30d")
	// What else it comes from.
	fenceOf("the window of before", true)
	write("ops.yaml", "operations: 1\nmap: [{log: \"press/juice:*\", is: [\"press/vat:scrap\"]}]\n")
	fenceOf("another map of operations", true)
	write("ops.yaml", noOperations)
	if is := fenceOf("the first map", true); is != first {
		t.Errorf("by the first map of operations:\n%s\nwas\n%s", is, first)
	}
	must(t, dir, "survey")
	fenceOf("another survey", true)
	fenceOf("the same survey", false)
	write("more.jsonl", fmt.Sprintf(`{"t":%q,"who":"bottler","op":"juice:read","at":"/orchard/barn:south/vat:three"}`+"\n",
		time.Now().AddDate(0, 0, -9).UTC().Format(time.RFC3339)))
	must(t, dir, "survey", "--read", "more.jsonl")
	if is := fenceOf("one more call", true); is == first {
		t.Error("one more call draws the same draft")
	}
	at = time.Now().AddDate(0, 0, -3).UTC().Format(time.RFC3339)
	fenceOf("another day", true)
}

// noOperations maps nothing.
const noOperations = "operations: 1\nmap: []\n"
