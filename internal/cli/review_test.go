package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
)

// warehouse is an estate of a hundred clerks, each with more than it uses; every clerk has a draft.
func warehouse(t *testing.T, clerks int) string {
	t.Helper()
	dir := t.TempDir()
	var estate, log strings.Builder
	estate.WriteString("estate: 2\nsource: w\ncatalogue:\n")
	for _, p := range []string{"look read", "fetch read", "stack change", "burn administer"} {
		do, level, _ := strings.Cut(p, " ")
		fmt.Fprintf(&estate, "  - {permission: \"store/shelf:%s\", level: %s, log_class: all, kinds: [shelf]}\n", do,
			level)
	}
	estate.WriteString("nodes:\n  - {path: \"/w\"}\n")
	for i := range clerks {
		fmt.Fprintf(&estate, "  - {path: \"/w/shelf:%03d\"}\n", i)
	}
	estate.WriteString("identities:\n")
	for i := range clerks {
		fmt.Fprintf(&estate, "  - {id: workload/clerk-%03d}\n", i)
	}
	estate.WriteString("grants:\n")
	for i := range clerks {
		on := fmt.Sprintf("\"/w/shelf:%03d/**\"", i)
		for j := range i % 7 {
			on += fmt.Sprintf(", \"/w/shelf:%03d/**\"", (i+j+1)%clerks)
		}
		fmt.Fprintf(&estate, "  - {id: g-%03d, to: workload/clerk-%03d, do: [\"store/*:*\"], where: [%s], created: "+
			"2020-01-01T00:00:00Z}\n", i, i, on)
	}
	estate.WriteString("coverage:\n  - {node: \"/w\", service: store, log_class: all, written: true}\n")
	for d := range 200 {
		for i := range clerks {
			if (d+i)%3 == 0 {
				fmt.Fprintf(&log, `{"t":%q,"who":"clerk-%03d","op":"shelf:look","at":"/w/shelf:%03d"}`+"\n",
					time.Now().AddDate(0, 0, -d).UTC().Format(time.RFC3339), i, i)
			}
		}
	}
	for name, text := range map[string]string{"estate.yaml": estate.String(), "log.jsonl": log.String(),
		"map.yaml": "logmap: 1\nname: w\nform: json\ntime: r.t\nidentity: r.who\npermission: '\"store/\" + r.op'\n" +
			"path: r.at\n",
		"clipfence.yaml": "clipfence: 2\nsources:\n  - {name: w, kind: files, changes: edit, estate: estate.yaml, " +
			"logs: [log.jsonl], log_maps: [map.yaml]}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	must(t, dir, "survey")
	must(t, dir, "draft", "--all")
	return dir
}

type reviewState struct {
	For     string `json:"for"`
	File    string `json:"file"`
	State   string `json:"state"`
	Told    string `json:"decision"`
	Removes int    `json:"danger_removed"`
}

func states(t *testing.T, dir string) (byFile map[string]reviewState, order []string) {
	t.Helper()
	byFile = map[string]reviewState{}
	for _, r := range decode[[]reviewState](t, dir, "review", "list") {
		byFile[r.File] = r
		order = append(order, r.File)
	}
	return byFile, order
}

// at is where a walk stands, as it keeps it.
func at(t *testing.T, dir string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, ".clipfence", "review.json"))
	if os.IsNotExist(err) {
		return ""
	}
	var p struct{ At string }
	if err == nil {
		err = json.Unmarshal(data, &p)
	}
	if err != nil {
		t.Fatal(err)
	}
	return p.At
}

// A seat is the program at a terminal.
type seat struct {
	cmd  *exec.Cmd
	f    *os.File
	mu   sync.Mutex
	seen bytes.Buffer
	done chan struct{}
}

func sit(t *testing.T, dir string, args ...string) *seat {
	t.Helper()
	s := &seat{cmd: command(dir, binary, args...), done: make(chan struct{})}
	s.cmd.Env = append(s.cmd.Env, "TERM=xterm-256color", "COLUMNS=", "EDITOR=true")
	var err error
	if s.f, err = pty.StartWithSize(s.cmd, &pty.Winsize{Rows: 40, Cols: 110}); err != nil {
		t.Fatal(err)
	}
	go func() {
		defer close(s.done)
		b := make([]byte, 4096)
		for {
			n, err := s.f.Read(b)
			s.mu.Lock()
			s.seen.Write(b[:n])
			s.mu.Unlock()
			if err != nil { // the terminal is gone
				return
			}
		}
	}()
	t.Cleanup(s.kill)
	return s
}

func (s *seat) kill() {
	_ = s.cmd.Process.Kill() // it may have ended
	_ = s.cmd.Wait()
	_ = s.f.Close()
}

func (s *seat) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen.String()
}

// wait waits until something is so.
func (s *seat) wait(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 1200 {
		if is() {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatalf("never: %s\n%s", what, s.text())
}

func (s *seat) press(t *testing.T, keys string) {
	t.Helper()
	if _, err := io.WriteString(s.f, keys); err != nil {
		t.Fatal(err)
	}
}

// TestReviewAtTerminal walks through a hundred drafts at a terminal, is killed now and then, and
// goes on at the same draft. Every decision is in the ledger, once.
func TestReviewAtTerminal(t *testing.T) {
	t.Parallel()
	clerks := 100
	if testing.Short() {
		clerks = 20
	}
	dir := warehouse(t, clerks)
	_, order := states(t, dir)
	if len(order) != clerks {
		t.Fatalf("%d drafts of %d clerks", len(order), clerks)
	}
	r := rand.New(rand.NewPCG(9, 9))
	want := map[string]string{}
	var s *seat
	killed := 0
	for i, name := range order {
		if s == nil {
			s = sit(t, dir, "review")
			clerk := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(name), "workload-"), ".fence.yaml")
			s.wait(t, "draft "+clerk+" is shown", func() bool {
				return strings.Contains(s.text(), clerk) && strings.Contains(s.text(), "GOES") && at(t, dir) == name
			})
		}
		if got := at(t, dir); got != name {
			t.Fatalf("draft %d is %s, want %s", i+1, got, name)
		}
		next := func() bool { return at(t, dir) != name }
		switch k := r.IntN(6); {
		case k == 0 && i+1 < len(order):
			s.press(t, "k")
			s.wait(t, "passed over", next)
			want[name] = "passed over"
		case k == 1:
			s.press(t, "s")
			s.press(t, "30d after the fair\r")
			s.wait(t, "set aside", next)
			want[name] = "aside"
		case k == 2:
			s.press(t, "n")
			s.press(t, "nobody asked themm\x7f!\r")
			s.wait(t, "needed", next)
			want[name] = "needed"
		case k == 3: // it is thought about, looked at, not decided, and then accepted
			s.press(t, "?")
			s.press(t, "s")
			said := strings.Count(s.text(), "Nothing")
			s.press(t, "30d\x1b") // an escape is a key of its own when nothing comes behind it
			s.wait(t, "nothing is decided", func() bool { return strings.Count(s.text(), "Nothing") > said })
			s.press(t, "a")
			s.wait(t, "accepted", next)
			want[name] = "accepted"
		default:
			s.press(t, "a")
			s.wait(t, "accepted", next)
			want[name] = "accepted"
		}
		if r.IntN(8) == 0 && i+1 < len(order) {
			s.kill()
			s = nil
			killed++
		}
	}
	s.wait(t, "the walk is over", func() bool {
		select {
		case <-s.done:
			return true
		default:
			return false
		}
	})
	if err := s.cmd.Wait(); err != nil {
		t.Errorf("%v\n%s", err, s.text())
	}
	now, _ := states(t, dir)
	decided := 0
	for name, state := range want {
		if now[name].State != state {
			t.Errorf("%s is %s (%s), want %s", name, now[name].State, now[name].Told, state)
		}
		if state != "passed over" {
			decided++
		}
		if state == "needed" && !strings.HasSuffix(now[name].Told, "nobody asked them!") {
			t.Errorf("%s: %s", name, now[name].Told)
		}
	}
	must(t, dir, "ledger", "verify")
	if n := entriesOf(t, dir, "draft.decided"); n != decided {
		t.Errorf("%d decisions are in the ledger, %d were made", n, decided)
	}
	if killed == 0 {
		t.Error("never killed")
	}
	t.Logf("%d drafts, killed %d times", len(order), killed)
}

func entriesOf(t *testing.T, dir, kind string) int {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, ".clipfence", "ledger.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	return strings.Count(string(data), `"kind":"`+kind+`"`)
}

// typed runs a review with lines on its standard input, which is no terminal.
func typed(t *testing.T, dir string, lines ...string) string {
	t.Helper()
	cmd := command(dir, binary, "review")
	cmd.Stdin = strings.NewReader(strings.Join(lines, ""))
	code, out, errs := exitOf(t, cmd)
	if code != 0 {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	return out
}

// TestReviewByLines decides without a terminal; where the lines end it goes on the next time.
// What is needed stays in later drafts, and what is wrong is told.
func TestReviewByLines(t *testing.T) {
	t.Parallel()
	dir := warehouse(t, 12)
	_, order := states(t, dir)
	out := typed(t, dir, "a\n", "x\n", "s\n", "s 1999-01-01 late\n", "s 30d\n", "n\n", "w soon\n",
		"n it is asked for every spring\n", "k\n")
	for _, want := range []string{`"x" is none of the letters below`, "until when?", "1999-01-01 is over",
		"say why it is set aside", "say why what it takes away is needed", "for how long?", "Draft 4 of 12",
		"Passed over: " + order[2]} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	if got := at(t, dir); got != order[3] {
		t.Errorf("it stands at %s, want %s", got, order[3])
	}
	// The end of the lines without a line's end, and a way back.
	out = typed(t, dir, "w 14d\n", "b\n", "u\n", "a")
	now, _ := states(t, dir)
	for i, want := range []string{"accepted", "needed", "passed over", "accepted", "open"} {
		if got := now[order[i]].State; got != want {
			t.Errorf("draft %d is %s, want %s\n%s", i+1, got, want, out)
		}
	}
	if told := now[order[3]].Told; told != "accepted" {
		t.Errorf("what was to be watched, taken back and accepted is %q", told)
	}
	// Learned: the same cut is not drafted again for it.
	fenceOf := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	who := func(name string) string {
		return strings.Replace(strings.TrimSuffix(filepath.Base(name), ".fence.yaml"), "workload-", "workload/", 1)
	}
	if was := fenceOf(order[1]); strings.Contains(was, "a review said") {
		t.Fatalf("before anything was said:\n%s", was)
	}
	code, out, errs := run(t, dir, "draft", "--force", "--for", who(order[1]))
	if code == 0 && !strings.Contains(fenceOf(order[1]), "a review said that it is needed") ||
		code != 0 && !strings.Contains(errs, "nothing to narrow") {
		t.Errorf("exit code %d\n%s%s\n%s", code, out, errs, fenceOf(order[1]))
	}
	// A draft that changed since is another one: nobody has decided on it.
	name := filepath.Join(dir, order[0])
	if err := os.WriteFile(name, []byte("# mine\n"+fenceOf(order[0])), 0o600); err != nil {
		t.Fatal(err)
	}
	if now, _ := states(t, dir); now[order[0]].State != "open" {
		t.Errorf("what was edited is %s", now[order[0]].State)
	}
	// A file of the same name where the program happens to run is not the draft.
	other := t.TempDir()
	if err := os.Mkdir(filepath.Join(other, "drafts"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(other, order[7]), []byte(fenceOf(order[7])+"# another\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	must(t, other, "-C", dir, "review", "decide", order[7], "accept")
	if now, _ := states(t, dir); now[order[7]].State != "accepted" {
		t.Errorf("the draft of the workspace is %+v", now[order[7]])
	}
	if out := must(t, other, "-C", dir, "apply", "--accepted", "--watch", "1s", "--every", "1s",
		"--yes"); !strings.Contains(out,
		"carried out") {
		t.Errorf("%s", out)
	}
	if now, _ := states(t, dir); now[order[7]].State != "applied" {
		t.Errorf("the draft of the workspace is %+v", now[order[7]])
	}
	// One that does not hold cannot be accepted.
	cut, _, _ := strings.Cut(fenceOf(order[5]), "allow:")
	if err := os.WriteFile(filepath.Join(dir, order[5]), []byte(cut+"allow: []\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, _, errs = run(t, dir, "review", "decide", order[5], "accept")
	if code == 0 || !strings.Contains(errs, "does not hold its rehearsal") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	for _, bad := range [][]string{{"decide", order[6], "aside"}, {"decide", order[6], "yes"},
		{"decide", order[6], "accept", "--until", "3d"}, {"decide", "nobody", "accept"}} {
		if code, _, errs := run(t, dir, append([]string{"review"}, bad...)...); code == 0 {
			t.Errorf("%v passes: %s", bad, errs)
		}
	}
	must(t, dir, "ledger", "verify")
}

// TestReviewHundredByLines decides on a hundred drafts in pieces, which end where they end.
func TestReviewHundredByLines(t *testing.T) {
	t.Parallel()
	clerks := 100
	if testing.Short() {
		clerks = 20
	}
	dir := warehouse(t, clerks)
	_, order := states(t, dir)
	r := rand.New(rand.NewPCG(4, 4))
	for done := 0; done < clerks; {
		if got := at(t, dir); done > 0 && got != order[done] {
			t.Fatalf("after %d it stands at %s, want %s", done, got, order[done])
		}
		n := min(1+r.IntN(30), clerks-done)
		lines := slices.Repeat([]string{"a\n"}, n)
		if r.IntN(2) == 0 && done+n < clerks { // it ends while somebody looks
			lines = append(lines, "?\n")
		}
		typed(t, dir, lines...)
		done += n
	}
	now, _ := states(t, dir)
	for _, name := range order {
		if now[name].State != "accepted" {
			t.Errorf("%s is %s", name, now[name].State)
		}
	}
	if n := entriesOf(t, dir, "draft.decided"); n != clerks {
		t.Errorf("%d decisions in the ledger", n)
	}
}

// TestReviewEdits: a draft is edited in the middle of a walk, is rehearsed anew, and is another one.
func TestReviewEdits(t *testing.T) {
	t.Parallel()
	dir := warehouse(t, 3)
	_, order := states(t, dir)
	editor := filepath.Join(dir, "edit.sh")
	if err := os.WriteFile(editor, []byte("#!/bin/sh\necho '# mine' >>\"$2\"\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ editor, want string }{{editor + " -w", "Edited, and rehearsed anew"},
		{filepath.Join(dir, "none"), "Not edited"}, {"", "no editor is known"}} {
		cmd := command(dir, binary, "review")
		cmd.Env = append(cmd.Env, "VISUAL="+tt.editor, "EDITOR=")
		cmd.Stdin = strings.NewReader("e\nq\n")
		if code, out, errs := exitOf(t, cmd); code != 0 || !strings.Contains(out, tt.want) || at(t, dir) != order[0] {
			t.Errorf("%q: exit code %d\n%s%s", tt.editor, code, out, errs)
		}
	}
	text, err := os.ReadFile(filepath.Join(dir, order[0]))
	if err != nil || strings.Count(string(text), "# mine") != 1 {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestReviewSigned: a person's signature counts as long as the person is one of the workspace.
func TestReviewSigned(t *testing.T) {
	t.Parallel()
	dir := warehouse(t, 4)
	_, order := states(t, dir)
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
		filepath.Join(dir, "boss")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	pub, err := os.ReadFile(filepath.Join(dir, "boss.pub"))
	if err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(dir, "clipfence.yaml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	code, _, errs := run(t, dir, "review", "decide", order[0], "accept", "--key", "boss")
	if code == 0 || !strings.Contains(errs, "belongs to none of the people") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	must(t, dir, "review", "decide", order[2], "accept")
	if now, _ := states(t, dir); now[order[2]].State != "accepted" {
		t.Errorf("where nobody is listed: %+v", now[order[2]])
	}
	with := fmt.Sprintf("%speople:\n  - {id: person/boss, keys: [%q]}\n", text, strings.TrimSpace(string(pub)))
	if err := os.WriteFile(config, []byte(with), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "review", "decide", order[0], "accept", "--key", "boss")
	code, _, errs = run(t, dir, "review", "decide", order[1], "accept")
	if code == 0 || !strings.Contains(errs, "no key to sign with") {
		t.Errorf("unsigned, and people are listed: exit code %d: %s", code, errs)
	}
	now, _ := states(t, dir)
	if got := now[order[2]]; got.State != "open" {
		t.Errorf("what nobody signed counts: %+v", got)
	}
	if got := now[order[0]]; got.State != "accepted" || !strings.Contains(got.Told, "(person/boss)") {
		t.Errorf("%+v", got)
	}
	if err := os.WriteFile(config, text, 0o600); err != nil {
		t.Fatal(err)
	}
	now, _ = states(t, dir)
	if got := []string{now[order[0]].State, now[order[2]].State}; !slices.Equal(got, []string{"open", "accepted"}) {
		t.Errorf("when the person is nobody any more: %v", got)
	}
}
