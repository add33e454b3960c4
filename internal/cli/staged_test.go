package cli_test

import (
	"bufio"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// accepted drafts for some workloads of the sample estate and accepts them. It returns them in the
// order of the stages.
func (l *live) accepted(t *testing.T) []string {
	t.Helper()
	must(t, l.dir, "survey")
	for _, who := range []string{"tide-forecast", "crew-report", "dock-signs", "fleet-map"} {
		must(t, l.dir, "draft", "--for", "workload/"+who)
		must(t, l.dir, "review", "decide", "workload/"+who, "accept")
	}
	var order []string
	plan := decode[struct{ Stages [][]struct{ For string } }](t, l.dir, "apply", "--accepted", "--stages", "4",
		"--dry-run")
	for _, s := range plan.Stages {
		if len(s) != 1 {
			t.Fatalf("%+v", plan)
		}
		order = append(order, strings.TrimPrefix(s[0].For, "mooring:"))
	}
	if len(order) != 4 {
		t.Fatalf("%d stages", len(order))
	}
	return order
}

// call makes a call as somebody that a draft takes away.
func (l *live) call(t *testing.T, who string) (allowed bool) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(l.dir, "drafts", strings.Replace(who, "/", "-", 1)+".fence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	_, gone, _ := strings.Cut(string(data), "gives_up:")
	m := regexp.MustCompile(`where: \[([^\],]+)/\*\*[^\n]*\n    do:[^\n]*\n      - (\S+)`).FindStringSubmatch(gone)
	if m == nil {
		t.Fatalf("it gives nothing up:\n%s", data)
	}
	code, _, _ := run(t, l.dir, "sandbox", "call", m[2], m[1], "--url", l.url, "--tokens",
		filepath.Join(l.moor, "tokens.json"), "--who", who)
	return code == 0
}

// changes are the states of the changes, by whom they are for.
func (l *live) changes(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, c := range decode[[]struct {
		For    string `json:"for"`
		State  string `json:"state"`
		Undoes string `json:"undoes"`
	}](t, l.dir, "ledger", "list") {
		if c.Undoes == "" {
			out[strings.TrimPrefix(c.For, "mooring:")] = c.State
		}
	}
	return out
}

// TestStages: a call that is refused in stage two of four takes stage two back, and three and four
// never come.
func TestStages(t *testing.T) {
	t.Parallel()
	l := serveToday(t)
	order := l.accepted(t)
	cmd := command(l.dir, binary, "apply", "--accepted", "--stages", "4", "--watch", "12s", "--every", "1s", "--yes")
	pipe, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	for sc := bufio.NewScanner(pipe); sc.Scan(); {
		said.WriteString(sc.Text() + "\n")
		if strings.Contains(sc.Text(), "stage 2 of 4: c-") && strings.HasSuffix(sc.Text(), " done") {
			if l.call(t, order[1]) {
				t.Error("what the draft takes away is still allowed")
			}
		}
	}
	if _, err := io.Copy(&said, pipe); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait() // its exit code is looked at
	if code := cmd.ProcessState.ExitCode(); code != 1 || !strings.Contains(out.String(), "STOPPED") ||
		!strings.Contains(out.String(), order[1]) {
		t.Errorf("exit code %d\n%s%s", code, out.String(), said.String())
	}
	if got := l.changes(t); len(got) != 2 || got[order[0]] != "done" || got[order[1]] != "undone" {
		t.Errorf("changes: %v, stages %v", got, order)
	}
	if !l.call(t, order[1]) {
		t.Error("after the stage was taken back the call is refused")
	}
	now, _ := states(t, l.dir)
	for i, want := range []string{"applied", "accepted", "accepted", "accepted"} {
		name := "drafts/" + strings.Replace(order[i], "/", "-", 1) + ".fence.yaml"
		if got := now[name]; got.State != want {
			t.Errorf("stage %d: %+v, want %s", i+1, got, want)
		}
	}
	must(t, l.dir, "ledger", "verify")
}

// TestStagesGoOn: killed while a stage is watched, the same command watches it to its end, and sees
// what happened meanwhile.
func TestStagesGoOn(t *testing.T) {
	t.Parallel()
	for name, breaks := range map[string]bool{"nothing happens": false, "a call is refused": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := serveToday(t)
			order := l.accepted(t)
			cmd := command(l.dir, binary, "apply", "--accepted", "--stages", "4", "--watch", "1h", "--every", "1s",
				"--yes")
			pipe, err := cmd.StderrPipe()
			if err == nil {
				err = cmd.Start()
			}
			if err != nil {
				t.Fatal(err)
			}
			for sc := bufio.NewScanner(pipe); sc.Scan(); {
				if strings.Contains(sc.Text(), "stage 1 of 4: c-") {
					break
				}
			}
			_ = cmd.Process.Kill()
			_ = cmd.Wait() // it was killed
			if got := l.changes(t); len(got) != 1 || got[order[0]] != "done" {
				t.Fatalf("changes: %v", got)
			}
			if breaks {
				l.call(t, order[0])
				code, out, errs := run(t, l.dir, "apply", "--accepted", "--every", "1s", "--yes")
				if code != 1 || !strings.Contains(out, "First stage 1 of 4 goes on") {
					t.Errorf("exit code %d\n%s%s", code, out, errs)
				}
				if got := l.changes(t); len(got) != 1 || got[order[0]] != "undone" {
					t.Errorf("changes: %v", got)
				}
				return
			}
			// What is left of the hour is watched: it is interrupted again, politely.
			cmd = command(l.dir, binary, "apply", "--accepted", "--every", "1s", "--yes")
			cmd.Stderr = nil
			pipe2, err := cmd.StdoutPipe()
			if err == nil {
				err = cmd.Start()
			}
			if err != nil {
				t.Fatal(err)
			}
			for sc := bufio.NewScanner(pipe2); sc.Scan(); {
				if strings.Contains(sc.Text(), "First stage 1 of 4 goes on") {
					break
				}
			}
			_ = cmd.Process.Signal(os.Interrupt)
			go func() { _, _ = io.Copy(io.Discard, pipe2) }()
			if err := cmd.Wait(); err == nil {
				t.Error("it ends well within the hour")
			}
			if got := l.changes(t); len(got) != 1 || got[order[0]] != "done" {
				t.Errorf("changes: %v", got)
			}
		})
	}
}

// TestWatched: a draft that is watched is carried out by the keeper once its time is over, if a
// rule says so and no call would have been refused; survey and review say how it stands.
func TestWatched(t *testing.T) {
	t.Parallel()
	l := serveToday(t)
	must(t, l.dir, "survey")
	for _, who := range []string{"tide-forecast", "dock-signs", "fleet-map"} {
		must(t, l.dir, "draft", "--for", "workload/"+who)
	}
	must(t, l.dir, "review", "decide", "workload/tide-forecast", "watch", "--until", "3s")
	must(t, l.dir, "review", "decide", "workload/dock-signs", "watch", "--until", "3s")
	must(t, l.dir, "review", "decide", "workload/fleet-map", "watch", "--until", "9d")
	// What it takes away is used meanwhile, and so would have been refused. What the draft names as
	// given up counts apart; so the name is taken out, and the draft watched anew.
	file := filepath.Join(l.dir, "drafts", "workload-dock-signs.fence.yaml")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !l.call(t, "workload/dock-signs") {
		t.Fatal("the call is refused before anything is changed")
	}
	out := must(t, l.dir, "survey")
	if !strings.Contains(out, "Watched: mooring:workload/dock-signs would have refused 0 of 1 call in 0 days, and "+
		"1 that it names as given up") || !strings.Contains(out, "Watched: mooring:workload/fleet-map") {
		t.Errorf("survey says\n%s", out)
	}
	if out := must(t, l.dir, "status"); !strings.Contains(out, "Watched: mooring:workload/dock-signs would have "+
		"refused 0 of 1 "+
		"call") || !strings.Contains(out, "3 drafts: 3 accepted.") {
		t.Errorf("status says\n%s", out)
	}
	head, _, _ := strings.Cut(string(data), "gives_up:")
	if err := os.WriteFile(file, []byte(head), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run(t, l.dir, "review", "decide", "workload/dock-signs", "watch", "--until", "3s"); code == 0 {
		t.Errorf("a draft that breaks what was used is accepted: %s", errs)
	}
	must(t, l.dir, "review", "decide", "workload/tide-forecast", "watch", "--until", "3s")
	time.Sleep(3500 * time.Millisecond) // so that the time of the others is over
	patrol := func() string { return must(t, l.dir, "patrol", "--once") }
	if out := patrol(); strings.Contains(out, "Carried out") || len(l.changes(t)) > 0 {
		t.Errorf("without a rule something is carried out:\n%s", out)
	}
	config, err := os.ReadFile(filepath.Join(l.dir, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	l.write(t, "clipfence.yaml", string(config)+"apply_watched: true\n")
	// What nobody looked at proves nothing.
	if out := patrol(); strings.Contains(out, "Carried out") {
		t.Errorf("the log was not read since its time was over:\n%s", out)
	}
	if told := must(t, l.dir, "review", "list"); !strings.Contains(told, "the log was not read since") {
		t.Errorf("%s", told)
	}
	// Nor does a log in which nothing came of anybody.
	must(t, l.dir, "survey")
	if out := patrol(); !strings.Contains(out, "Carried out after watching: 0 drafts") ||
		!strings.Contains(out, "the log shows nothing of the end of the days") || len(l.changes(t)) > 0 {
		t.Errorf("the log was silent at the end:\n%s", out)
	}
	if told := must(t, l.dir, "review", "list"); !strings.Contains(told, "the log shows nothing of the end of it") {
		t.Errorf("%s", told)
	}
	l.call(t, "workload/fleet-map")
	must(t, l.dir, "survey")
	if out := patrol(); !strings.Contains(out, "Carried out after watching: 1 draft") {
		t.Errorf("patrol says\n%s", out)
	}
	if got := l.changes(t); len(got) != 1 || got["workload/tide-forecast"] != "done" {
		t.Errorf("changes: %v", got)
	}
	if out := patrol(); strings.Contains(out, "Carried out") {
		t.Errorf("once more:\n%s", out)
	}
	now, _ := states(t, l.dir)
	got := []string{now["drafts/workload-tide-forecast.fence.yaml"].State,
		now["drafts/workload-fleet-map.fence.yaml"].State}
	if !slices.Equal(got, []string{"applied", "accepted"}) {
		t.Errorf("%v", now)
	}
}
