package cli_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
)

// asOf is when the life of the generated estate ends.
const asOf = "2026-11-24T08:00:00Z"

// ternhaven makes the sample estate once, with a life that ends at one moment; tests copy it.
var ternhaven = sync.OnceValues(func() (string, error) { return generated("mooring", asOf) })

// today makes it with a life that ends now, for what looks at the log of today: of a life that ended
// long ago nothing is known since.
var today = sync.OnceValues(func() (string, error) {
	return generated("today", time.Now().UTC().Format(time.RFC3339))
})

func generated(name, until string) (string, error) {
	dir := filepath.Join(filepath.Dir(binary), name)
	out, err := exec.Command(binary, "sandbox", "generate", dir, "--until", until).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return dir, nil
}

// A live is a Mooring that serves, and a workspace connected to it.
type live struct {
	dir, url, moor string
	tokens         map[string]string
}

// keepCalling makes a person call something again and again for four seconds and more;
// the channel is closed at the end. Refused or not, it is logged.
func keepCalling(l *live, permission, path string) <-chan struct{} {
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 40 {
			time.Sleep(100 * time.Millisecond)
			_ = command(l.dir, binary, "sandbox", "call", permission, path, "--url", l.url, "--tokens",
				filepath.Join(l.moor, "tokens.json"), "--who", "person/ingrid.vaage").Run()
		}
	}()
	return done
}

// serve starts a Mooring with the sample estate on a free port, and serveToday with one whose life
// ends now.
func serve(t *testing.T) *live {
	t.Helper()
	return serveOf(t, ternhaven)
}

func serveToday(t *testing.T) *live {
	t.Helper()
	return serveOf(t, today)
}

func serveOf(t *testing.T, made func() (string, error)) *live {
	t.Helper()
	from, err := made()
	if err != nil {
		t.Fatal(err)
	}
	l := &live{dir: t.TempDir()}
	l.moor = filepath.Join(l.dir, "mooring")
	if err := os.CopyFS(l.moor, os.DirFS(from)); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(filepath.Join(l.moor, "tokens.json"))
	if err == nil {
		err = json.Unmarshal(data, &l.tokens)
	}
	if err != nil {
		t.Fatal(err)
	}
	cmd := command(l.dir, binary, "sandbox", "serve", l.moor, "--listen", "127.0.0.1:0")
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt) // it may have ended
		_ = cmd.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	l.url = strings.TrimSpace(strings.TrimPrefix(line, "Mooring serves "))
	l.write(t, "clipfence.yaml",
		fmt.Sprintf("clipfence: 2\nprotected: [workload/clip-fence-survey, workload/clip-fence-change]\nsources:\n "+
			" - {name: mooring, kind: bridge, url: %q, token: {file: read}, change_token: {file: change}}\n", l.url))
	l.write(t, "read", l.tokens["workload/clip-fence-survey"])
	l.write(t, "change", l.tokens["workload/clip-fence-change"])
	return l
}

func (l *live) write(t *testing.T, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(l.dir, name), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

// faults switches troubles on, as an administrator of the whole estate would.
func (l *live) faults(t *testing.T, f map[string]any) {
	t.Helper()
	b, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	l.admin(t, "PUT", "/faults", string(b), "")
}

// admin asks the bridge with the rights of an administrator of the whole estate.
func (l *live) admin(t *testing.T, method, path, body, etag string) string {
	t.Helper()
	req, err := http.NewRequest(method, l.url+"/bridge/v2"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+l.tokens["workload/clip-fence-change"])
	switch etag {
	case "":
	case "new":
		req.Header.Set("If-None-Match", "*")
	default:
		req.Header.Set("If-Match", etag)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode >= 300 {
		t.Fatalf("%s %s: %s %s, %v", method, path, res.Status, b, err)
	}
	return string(b)
}

// decode runs the program with --format json and reads what it prints.
func decode[T any](t *testing.T, dir string, args ...string) T {
	t.Helper()
	var v T
	if err := json.Unmarshal([]byte(must(t, dir, append(args, "--format", "json")...)), &v); err != nil {
		t.Fatalf("%v: %v", args, err)
	}
	return v
}

// TestDemo runs the whole job: it must check itself and end well.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "demo")
	out := must(t, t.TempDir(), "demo", dir)
	if n := strings.Count(out, "[ok]"); n < 11 || strings.Contains(out, "FAILED") ||
		!strings.Contains(out, "Every check held") {
		t.Errorf("%d checks held\n%s", n, out)
	}
	must(t, filepath.Join(dir, "workspace"), "ledger", "verify")
	must(t, filepath.Join(dir, "workspace"), "findings")
	gateDies(t, dir)
	if code, _, errs := run(t, t.TempDir(), "demo", dir); code != 2 || !strings.Contains(errs, "fresh folder") {
		t.Errorf("over an older demo: %d %s", code, errs)
	}
}

type planted struct{ Kind, Identity, Grant string }

// TestGroundTruth holds the findings against what the generator planted and what
// it says must be kept.
func TestGroundTruth(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	var truth struct {
		Planted []planted
		Keep    []struct{ Identity, Grant, Why string }
	}
	data, err := os.ReadFile(filepath.Join(l.moor, "ground-truth.json"))
	if err == nil {
		err = json.Unmarshal(data, &truth)
	}
	if err != nil {
		t.Fatal(err)
	}
	found := decode[[]planted](t, l.dir, "findings", "--as-of", asOf)
	all := map[string][3]int{} // kind: planted, found, both
	for _, p := range truth.Planted {
		n := all[p.Kind]
		n[0]++
		if slices.Contains(found, p) {
			n[2]++
		} else {
			t.Errorf("planted and not found: %+v", p)
		}
		all[p.Kind] = n
	}
	for _, f := range found {
		n := all[f.Kind]
		n[1]++
		all[f.Kind] = n
		for _, k := range truth.Keep {
			if k.Identity == f.Identity && (k.Grant == "" || k.Grant == f.Grant) {
				t.Errorf("flagged, though it must be kept (%s): %+v", k.Why, f)
			}
		}
	}
	for kind, n := range all {
		if n[1] == 0 {
			continue
		}
		t.Logf("%-16s planted %2d, found %2d: recall %.2f, precision %.2f", kind, n[0], n[1],
			float64(n[2])/float64(max(1, n[0])), float64(n[2])/float64(n[1]))
		if 4*n[2] < 3*n[1] {
			t.Errorf("%s: of %d findings only %d were planted", kind, n[1], n[2])
		}
	}
	// The drafts of everybody whom a finding names keep their work going.
	seen := map[string]bool{}
	for _, f := range found {
		if seen[f.Identity] || !strings.Contains(f.Identity, "/") {
			continue
		}
		seen[f.Identity] = true
		code, out, errs := run(t, l.dir, "draft", "--for", f.Identity, "--as-of", asOf)
		if code == 1 { // nothing to narrow: a standing right that is used
			continue
		}
		if code != 0 {
			t.Errorf("draft for %s: %d %s%s", f.Identity, code, out, errs)
			continue
		}
		must(t, l.dir, "rehearse", f.Identity, "--as-of", asOf)
	}
}

func TestServerTroubles(t *testing.T) {
	t.Parallel()
	l := serveToday(t) // a change is looked at as of now, and so is what it is about
	// A wrong token: which source, what it said, and the token is not shown.
	l.write(t, "read", "moor-wrong-token")
	code, out, errs := run(t, l.dir, "survey")
	if code != 3 || !strings.Contains(errs, "source mooring") || !strings.Contains(errs, "token is not known") ||
		strings.Contains(out+errs, "moor-wrong") {
		t.Errorf("wrong token: %d %s", code, errs)
	}
	l.write(t, "read", l.tokens["workload/clip-fence-survey"])
	// Cut connections and refusals for a while are waited out.
	l.faults(t, map[string]any{"queue": []string{"drop", "500", "ok", "429", "drop", "ok", "500"}})
	code, _, errs = run(t, l.dir, "survey", "--no-logs")
	if code != 0 || !strings.Contains(errs, "trying again") {
		t.Errorf("troubles: %d %s", code, errs)
	}
	// A right that is missing, and the grant that mends it.
	l.write(t, "change", l.tokens["workload/clip-fence-survey"])
	code, out, _ = run(t, l.dir, "source", "check")
	if code != 1 || !strings.Contains(out, "grant workload/clip-fence-survey: do [muster/grant:give]") {
		t.Errorf("missing rights: %d %s", code, out)
	}
	if !strings.Contains(out, "only denials take it") || strings.Contains(out, "do [muster/denial:impose]") {
		t.Errorf("what only denials take is no lack: %s", out)
	}
	// Somebody else's guardrail: the tool's own rights stay.
	l.write(t, "change", l.tokens["workload/clip-fence-change"])
	must(t, l.dir, "survey")
	l.write(t, "own.fence.yaml",
		"fence: 2\nfor: mooring:workload/clip-fence-survey\ndrafted: 2026-11-24T08:00:00Z\nwindow: 90d\n"+
			"replaces: [g-0452]\nallow: []\ngives_up: []\n")
	if code, _, errs = run(t, l.dir, "apply", "own.fence.yaml", "--yes"); code != 4 ||
		!strings.Contains(errs, "protected by clipfence.yaml") ||
		!strings.Contains(errs, "what this tool itself works as") {
		t.Errorf("its own rights: %d %s", code, errs)
	}
	// Without a terminal a change needs --yes.
	must(t, l.dir, "draft", "--for", "workload/ticket-export")
	if code, _, errs = run(t, l.dir, "apply", "workload/ticket-export"); code != 4 ||
		!strings.Contains(errs, "--yes") {
		t.Errorf("unasked: %d %s", code, errs)
	}
	must(t, l.dir, "apply", "workload/ticket-export", "--dry-run")
	// Mooring shows a change late: it is waited for.
	l.faults(t, map[string]any{"visible_after_ms": 700})
	must(t, l.dir, "apply", "workload/ticket-export", "--yes")
	must(t, l.dir, "undo", "c-1", "--yes")
	l.faults(t, map[string]any{})
}

// TestDenialOnABridge: what a fence denies is denied by the system itself, to those whom it does not
// spare, and allowed again when the fence is taken back.
func TestDenialOnABridge(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	const who = "workload/ticket-export"
	must(t, l.dir, "draft", "--for", who, "--as-of", asOf)
	draft, err := os.ReadFile(filepath.Join(l.dir, "drafts", "workload-ticket-export.fence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	_, gone, _ := strings.Cut(string(draft), "gives_up:")
	m := regexp.MustCompile(`where: \[([^\],]+)/\*\*[^\n]*\n    do:[^\n]*\n      - (\S+)`).FindStringSubmatch(gone)
	if m == nil {
		t.Fatalf("it gives nothing up:\n%s", draft)
	}
	deny := func(name, unless string) {
		l.write(t, name, fmt.Sprintf("fence: 2\nfor: mooring:everyone\ndrafted: %s\nwindow: 90d\nallow: []\ndenies:\n"+
			"  - {do: [%q], where: [%q], unless: [%s]}\ngives_up: [{do: [%q], where: [%q]}]\n", asOf, m[2], m[1]+"/**",
			unless, m[2], m[1]+"/**"))
	}
	spared := []string{"workload/clip-fence-change", "workload/clip-fence-survey", "person/harbour-master"}
	deny("spares.fence.yaml", strings.Join(append(spared, who), ", "))
	deny("all.fence.yaml", strings.Join(spared, ", "))
	if !l.call(t, who) {
		t.Fatalf("%s may not %s on %s to begin with", who, m[2], m[1])
	}
	for i, tt := range []struct {
		file string
		may  bool
	}{{"spares.fence.yaml", true}, {"all.fence.yaml", false}} {
		out := must(t, l.dir, "apply", tt.file, "--yes", "--accept-unplaced")
		if !strings.Contains(out, "add denial fence-everyone-") {
			t.Errorf("%s:\n%s", tt.file, out)
		}
		if may := l.call(t, who); may != tt.may {
			t.Errorf("%s: %s may %t, want %t", tt.file, who, may, tt.may)
		}
		must(t, l.dir, "undo", fmt.Sprintf("c-%d", 2*i+1), "--yes")
		if !l.call(t, who) {
			t.Errorf("%s is taken back, and %s may not", tt.file, who)
		}
		must(t, l.dir, "survey", "--no-logs")
	}
}

// kills says how many surveys are killed at the least; CLIPFENCE_KILLS makes it more.
func kills(t *testing.T) int {
	t.Helper()
	n := 12
	if testing.Short() {
		n = 6
	}
	if s := os.Getenv("CLIPFENCE_KILLS"); s != "" {
		var err error
		if n, err = strconv.Atoi(s); err != nil {
			t.Fatalf("CLIPFENCE_KILLS: %v", err)
		}
	}
	return n
}

// copied makes a folder with some files of another.
func copied(t *testing.T, from string, names ...string) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range names {
		data, err := os.ReadFile(filepath.Join(from, f))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, f), data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// TestKilledSurvey kills surveys of a Mooring at random moments.
func TestKilledSurvey(t *testing.T) {
	t.Parallel()
	l := serve(t)
	killSurveys(t, func() string { return copied(t, l.dir, "clipfence.yaml", "read", "change") })
}

// TestKilledSurveyOfFiles does the same where the log is one file of a gigabyte, which is
// kept in several parts. Packed it is small: most of it is one letter.
func TestKilledSurveyOfFiles(t *testing.T) {
	t.Parallel()
	from := gigabyte(t)
	killSurveys(t, func() string { return copied(t, from, "clipfence.yaml", "estate.yaml") })
}

// TestInterruptedSurvey: what was folded before somebody interrupts is kept, and the next
// survey reads on there.
func TestInterruptedSurvey(t *testing.T) {
	t.Parallel()
	from := gigabyte(t)
	whole := copied(t, from, "clipfence.yaml", "estate.yaml")
	start := time.Now()
	must(t, whole, "survey")
	lasts := time.Since(start)
	want := must(t, whole, "uses", "--by", "identity,permission,path", "--whole-paths", "--all", "--format", "csv",
		"--as-of", asOf)
	for _, signal := range []os.Signal{os.Interrupt, syscall.SIGTERM} {
		for share := 6; ; share-- {
			if share == 0 {
				t.Fatalf("%s: it was never in the middle", signal)
			}
			dir := copied(t, from, "clipfence.yaml", "estate.yaml")
			cmd := command(dir, binary, "survey")
			var errs bytes.Buffer
			cmd.Stderr = &errs
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			time.Sleep(lasts * time.Duration(share) / 10)
			_ = cmd.Process.Signal(signal) // it may have ended
			if cmd.Wait() == nil {
				continue // too late
			}
			if !strings.Contains(errs.String(), "interrupted") {
				t.Fatalf("%s: it says %s", signal, errs.String())
			}
			rows := decode[[]struct {
				Lines  int `json:"log_lines"`
				Events int `json:"new_events"`
			}](t, dir, "survey")
			if rows[0].Lines > 79_000 {
				continue // too early: before the first cursor
			}
			t.Logf("%s after %d tenths: %d of 80,000 lines were left", signal, share, rows[0].Lines)
			if got := must(t, dir, "uses", "--by", "identity,permission,path", "--whole-paths", "--all", "--format",
				"csv", "--as-of", asOf); got != want {
				t.Fatalf("%s: there are other uses than an undisturbed survey leaves", signal)
			}
			break
		}
	}
	// Counting anew leaves what is kept alone until its end, however it is cut short.
	uses := func() string {
		return must(t, whole, "uses", "--by", "identity,permission,path", "--whole-paths", "--all", "--format", "csv",
			"--as-of", asOf)
	}
	for _, signal := range []os.Signal{os.Interrupt, os.Kill} {
		cmd := command(whole, binary, "survey", "--reread")
		var errs bytes.Buffer
		cmd.Stderr = &errs
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(lasts / 3)
		_ = cmd.Process.Signal(signal) // it may have ended, which is as well
		if err := cmd.Wait(); err != nil && signal == os.Interrupt &&
			!strings.Contains(errs.String(), "nothing was changed") {
			t.Errorf("it says %s", errs.String())
		}
		if uses() != want {
			t.Fatalf("%s: counting anew left other uses behind", signal)
		}
	}
	must(t, whole, "survey", "--reread")
	if uses() != want {
		t.Fatal("counted anew, the log says something else")
	}
}

// gigabyte makes a workspace whose log is one file of a gigabyte.
func gigabyte(t *testing.T) string {
	t.Helper()
	from := t.TempDir()
	estate, err := os.ReadFile("../../docs/examples/estate.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	packed, err := zstd.NewWriter(&log)
	if err != nil {
		t.Fatal(err)
	}
	note := strings.Repeat("-", 15_000)
	begin := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
	for i := range 80_000 {
		who := []string{"person/ingrid.vaage", "workload/tide-forecast", "workload/night-batch"}[i%3]
		fmt.Fprintf(packed, `{"class_uid":6003,"time":%d,"metadata":{"uid":"e-%d"},"actor":{"user":{"uid":%q}},"api":{"operation":"stow/item:read"},"resources":[{"uid":"/ferry/berth:tides/box:gauges/%d"}],"unmapped":{"note":%q}}`+"\n", begin+int64(i)*1500, i, who, i%501, note)
	}
	if err := packed.Close(); err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"estate.yaml": estate, "log.zst": log.Bytes(),
		"clipfence.yaml": []byte("clipfence: 2\nsources:\n" +
			"  - {name: ferry, kind: files, estate: estate.yaml, logs: [" + filepath.Join(from, "log.zst") + "]}\n")} {
		if err := os.WriteFile(filepath.Join(from, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return from
}

// killSurveys kills surveys at random moments, each fresh workspace until one comes to its
// end; the uses are those of a survey that nobody disturbed.
func killSurveys(t *testing.T, fresh func() string) {
	t.Helper()
	found := func(dir string) string {
		return must(t, dir, "uses", "--by", "identity,acting-for,permission,path,outcome,network", "--whole-paths",
			"--all", "--format", "csv", "--as-of", asOf) +
			must(t, dir, "coverage", "--all", "--as-of", asOf)
	}
	undisturbed := fresh()
	start := time.Now()
	must(t, undisturbed, "survey")
	lasts := time.Since(start)
	want := found(undisturbed)
	seed := uint64(start.UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d; an undisturbed survey takes %s", seed, lasts.Round(time.Millisecond))
	killed, rounds := 0, 0
	for ; killed < kills(t); rounds++ {
		dir := fresh()
		for range 6 {
			cmd := command(dir, binary, "survey")
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			ended := make(chan error, 1)
			go func() { ended <- cmd.Wait() }()
			select {
			case <-time.After(time.Duration(r.Int64N(int64(lasts)))):
				_ = cmd.Process.Kill() // it may have ended
				<-ended
				killed++
				continue
			case err := <-ended:
				if err != nil {
					t.Fatalf("round %d: the survey after %d kills: %v", rounds, killed, err)
				}
			}
			break
		}
		must(t, dir, "survey")
		if got := found(dir); got != want {
			t.Fatalf("round %d: after %d kills there are other uses than an undisturbed survey leaves", rounds, killed)
		}
	}
	t.Logf("%d surveys killed in %d workspaces", killed, rounds)
}

// gateDies opens gates in the workspace that a demo left, and kills the program at
// many moments: one run of the patrol later nothing of the elevation is left.
func gateDies(t *testing.T, dir string) {
	t.Helper()
	ws := filepath.Join(dir, "workspace")
	config, err := os.ReadFile(filepath.Join(ws, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(config), "url: ")
	url := strings.Fields(rest)[0]
	moor := command(dir, binary, "sandbox", "serve", filepath.Join(dir, "mooring"), "--listen",
		strings.TrimPrefix(url, "http://"))
	out, err := moor.StdoutPipe()
	if err == nil {
		err = moor.Start()
	}
	if err == nil {
		_, err = bufio.NewReader(out).ReadString('\n')
	}
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = moor.Process.Signal(os.Interrupt) // it may have ended
		_ = moor.Wait()
	}()
	asker, approver := filepath.Join("keys", "asker"), filepath.Join("keys", "approver")
	type request struct{ ID, By, State string }
	gateGrants := func() int {
		var g struct{ Grants []struct{ Grant string } }
		who := decode[request](t, ws, "gate", "ask", "ticketing-admin", "--for", "1h", "--reason", "who am I", "--key",
			asker).By
		must(t, ws, "survey", "--no-logs")
		g = decode[struct{ Grants []struct{ Grant string } }](t, ws, "gauge", who)
		n := 0
		for _, x := range g.Grants {
			if strings.HasPrefix(x.Grant, "gate-") {
				n++
			}
		}
		return n
	}
	for i := range 8 {
		r := decode[request](t, ws, "gate", "ask", "ticketing-admin", "--for", "1h", "--reason", "refunds are stuck",
			"--key", asker)
		if code, _, errs := run(t, ws, "gate", "approve", r.ID, "--key", asker, "--yes"); code != 4 ||
			!strings.Contains(errs, "may not answer") && !strings.Contains(errs, "own request") {
			t.Errorf("approved by whom it is for: %d %s", code, errs)
		}
		if code, _, errs := run(t, ws, "gate", "open", r.ID, "--yes"); code != 4 ||
			!strings.Contains(errs, "not approved") {
			t.Errorf("opened without approval: %d %s", code, errs)
		}
		must(t, ws, "gate", "approve", r.ID, "--key", approver, "--yes")
		verb := []string{"gate", "open", r.ID, "--yes"}
		if i%2 == 1 { // open for as long as a command runs
			verb = []string{"gate", "run", r.ID, "--yes", "--", "sleep", "5"}
		}
		cmd := command(ws, binary, verb...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(15+25*i) * time.Millisecond)
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		// Whatever state it died in: the patrol closes what is half done, and what
		// is open within its time can be given back.
		must(t, ws, "patrol", "--once")
		for _, q := range decode[struct{ Requests []request }](t, ws, "gate", "list").Requests {
			if q.State == "open" {
				must(t, ws, "gate", "close", q.ID)
			} else if q.State == "opening" { // closing: nothing is seen of it, and it may still come
				t.Errorf("after a patrol request %s is %s", q.ID, q.State)
			}
		}
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(time.Second) {
		must(t, ws, "patrol", "--once")
		left := 0
		for _, q := range decode[struct{ Requests []request }](t, ws, "gate", "list").Requests {
			if q.State == "closing" {
				left++
			}
		}
		if left == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d requests are closing for ever", left)
		}
	}
	if n := gateGrants(); n != 0 {
		t.Errorf("%d grants of closed gates are left", n)
	}
	must(t, ws, "ledger", "verify")
}

// TestMend finds the log that did not arrive, switches on one that is off, sees its
// events come, and takes it back.
func TestMend(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	type row struct {
		Node, Service, State string
		LogClass             string  `json:"log_class"`
		Share                float64 `json:"share_of_window"`
		Undecided            int     `json:"undecided_permissions"`
		Gaps                 []struct{ Days int }
	}
	var silent, off []string
	for _, r := range decode[[]row](t, l.dir, "coverage", "--as-of", asOf) {
		switch r.State {
		case "silent":
			silent = append(silent, r.Node[strings.LastIndexByte(r.Node, ':')+1:]+" "+r.Service+"/"+r.LogClass)
			if len(r.Gaps) != 1 || r.Gaps[0].Days != 3 {
				t.Errorf("the gap of %s is %+v; three days are planted", r.Node, r.Gaps)
			}
		case "off":
			off = append(off, r.Node+" "+r.Service+"/"+r.LogClass)
			if r.Undecided == 0 {
				t.Errorf("%+v makes nothing undecidable", r)
			}
		}
	}
	for _, s := range silent {
		if !strings.HasPrefix(s, "tides ") {
			t.Errorf("%s is called silent, and was not", s)
		}
	}
	if len(silent) == 0 || len(off) != 4 {
		t.Errorf("silent %v, off %v", silent, off)
	}
	before := must(t, l.dir, "survey", "compare", "--format", "json", "1", "1")
	crew := "/mooring/harbour:ternhaven/pier:operations/berth:crew"
	if code, _, errs := run(t, l.dir, "coverage", "--mend", "--node", crew); code != 4 ||
		!strings.Contains(errs, "--yes") {
		t.Errorf("unasked: %d %s", code, errs)
	}
	out := must(t, l.dir, "coverage", "--mend", "--node", crew, "--service", "stow", "--dry-run")
	if !strings.Contains(out, "logs[log_class=looking service=stow].written: false -> true") ||
		strings.Contains(out, "secrets].written") {
		t.Errorf("dry run:\n%s", out)
	}
	// Somebody reads there while it is waited for.
	done := keepCalling(l, "stow/item:read", crew+"/box:rosters/1")
	out = must(t, l.dir, "coverage", "--mend", "--node", crew, "--service", "stow", "--yes", "--arrive", "20s")
	if !strings.Contains(out, "c-1 done") || !strings.Contains(out, "Events of 1 log arrive") {
		t.Errorf("mend:\n%s", out)
	}
	<-done
	must(t, l.dir, "undo", "c-1", "--yes")
	must(t, l.dir, "survey", "--no-logs")
	n := len(decode[struct{ Surveys []struct{ ID int64 } }](t, l.dir, "survey", "list").Surveys)
	if after := must(t, l.dir, "survey", "compare", "--format", "json", "1", fmt.Sprint(n)); after != before {
		t.Errorf("mended and taken back, the source is not as it was:\n%s", after)
	}

	// Now the writer loses its right: every log falls silent and nobody is told.
	out = must(t, l.dir, "reach", "workload/log-writer", "--format", "json")
	var reach struct {
		Ways []struct{ Grant, Role string }
	}
	if err := json.Unmarshal([]byte(out), &reach); err != nil {
		t.Fatal(err)
	}
	for _, way := range reach.Ways {
		if way.Role == "write-the-logbook" {
			item := "/collections/grants/item?id=" + way.Grant
			var it struct{ ETag string }
			if err := json.Unmarshal([]byte(l.admin(t, "GET", item, "", "")), &it); err != nil {
				t.Fatal(err)
			}
			l.admin(t, "DELETE", item, "", it.ETag)
		}
	}
	must(t, l.dir, "survey")
	for _, r := range decode[[]row](t, l.dir, "coverage", "--node", crew) {
		if r.State != "refused" && r.State != "off" {
			t.Errorf("without a writer: %+v", r)
		}
	}
	out = must(t, l.dir, "coverage", "--node", crew)
	if !strings.Contains(out, "let workload/log-writer write it: --mend") {
		t.Errorf("coverage:\n%s", out)
	}
	out = must(t, l.dir, "coverage", "--mend", "--node", crew, "--service", "stow", "--class", "handling", "--dry-run")
	if !strings.Contains(out, "WIDENS what workload/log-writer may do, by role write-the-logbook on 1 node") ||
		strings.Contains(out, "log settings") {
		t.Errorf("dry run:\n%s", out)
	}
	done = keepCalling(l, "stow/item:put", crew+"/box:rosters/1")
	out = must(t, l.dir, "coverage", "--mend", "--node", crew, "--service", "stow", "--class", "handling", "--yes",
		"--arrive", "20s")
	if !strings.Contains(out, "Events of 1 log arrive") {
		t.Errorf("mend:\n%s", out)
	}
	<-done
	if out := must(t, l.dir, "undo", "c-3", "--dry-run"); !strings.Contains(out,
		"remove grant log-workload-log-writer-") {
		t.Errorf("undo:\n%s", out)
	}
}

// TestRiskGrew: where more is expected to break than what somebody agreed to, nothing is put up
// until they did again.
func TestRiskGrew(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	must(t, l.dir, "draft", "--for", "person/torleif.fjeldal", "--caution", "bold", "--as-of", asOf)
	name := filepath.Join(l.dir, "drafts", "person-torleif.fjeldal.fence.yaml")
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	text := string(data)
	at := strings.Index(text, "  expects: ")
	if at < 0 {
		t.Fatalf("it does not say what it expects:\n%s", text)
	}
	must(t, l.dir, "rehearse", name, "--as-of", asOf)
	for expects, code := range map[string]int{"0.01": 1, "9": 0} {
		line := "  expects: " + expects + text[at+strings.Index(text[at:], " #"):]
		if err := os.WriteFile(name, []byte(text[:at]+line), 0o600); err != nil {
			t.Fatal(err)
		}
		got, out, _ := run(t, l.dir, "rehearse", name, "--as-of", asOf)
		if got != code || strings.Contains(out, "its risk grew") != (code == 1) {
			t.Errorf("with %s expected before: exit code %d, want %d\n%s", expects, got, code, out)
		}
	}
}

// TestRehearsedTogether: several fences are rehearsed alone and all at once.
func TestRehearsedTogether(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	must(t, l.dir, "draft", "--top", "4", "--as-of", asOf)
	names, err := filepath.Glob(filepath.Join(l.dir, "drafts", "*.fence.yaml"))
	if err != nil || len(names) != 4 {
		t.Fatalf("%d drafts: %v", len(names), err)
	}
	type joint struct {
		OK     bool `json:"ok"`
		Fences []struct {
			For           string `json:"for"`
			OK            bool   `json:"ok"`
			Before, After int
		} `json:"fences"`
		Before  int `json:"danger_before"`
		After   int `json:"danger_after"`
		Touched int `json:"identities_touched"`
		Only    []struct{ Path string }
		Left    []string `json:"left_out"`
	}
	v := decode[joint](t, l.dir, append([]string{"rehearse", "--as-of", asOf}, names...)...)
	if !v.OK || len(v.Fences) != 4 || v.Touched < 4 || v.After >= v.Before || len(v.Only) > 0 {
		t.Errorf("%+v", v)
	}
	for _, f := range v.Fences {
		if !f.OK {
			t.Errorf("%+v", f)
		}
	}
	for _, tt := range []struct {
		args []string
		want string
	}{
		{[]string{names[0], names[0]}, "is named twice: two fences take away the same"},
		{[]string{names[0], "nobody"}, `no fence file "nobody"`},
		{[]string{"--backtest", names[0], names[1]}, "say no fence with it"},
	} {
		code, _, errs := run(t, l.dir, append([]string{"rehearse"}, tt.args...)...)
		if code == 0 || !strings.Contains(errs, tt.want) {
			t.Errorf("%v: exit code %d, %s", tt.args, code, errs)
		}
	}
	// The rest is drafted without what is there already, which stays as it is.
	was, err := os.ReadFile(names[1])
	if err != nil {
		t.Fatal(err)
	}
	out := must(t, l.dir, "draft", "--all", "--as-of", asOf)
	more := must(t, l.dir, "draft", "--all", "--as-of", asOf)
	if now, err := os.ReadFile(names[1]); err != nil || string(now) != string(was) ||
		!strings.Contains(out, "is there already") || !strings.Contains(more, "No draft written:") {
		t.Errorf("%v\n%s\n%s", err, out, more)
	}
	if v := decode[joint](t, l.dir, "rehearse", "--all", "--as-of", asOf); len(v.Fences) < 10 || !v.OK {
		t.Errorf("of all drafts: %+v", v)
	}
	// One that is drafted anew stands beside those that are there: what its group's draft gives up it keeps.
	for _, again := range [][]string{{"--top", "3", "--force"}, {"--for", "person/ingrid.vaage", "--force"},
		{"--for", "group/timetable-team", "--force"}, {"--for", "signed-in", "--force"}} {
		out := must(t, l.dir, append([]string{"draft", "--as-of", asOf}, again...)...)
		if !strings.Contains(out, "Drafted to stand beside ") {
			t.Errorf("draft %v:\n%s", again, out)
		}
		if v := decode[joint](t, l.dir, "rehearse", "--all", "--as-of", asOf); len(v.Fences) < 10 || !v.OK {
			t.Errorf("of all drafts after draft %v: %+v", again, v)
		}
	}
	if err := os.WriteFile(names[1], was, 0o600); err != nil {
		t.Fatal(err)
	}
	// What cannot be read is left out and told, and status counts it.
	for name, want := range map[string]string{"broken": "for: want source:kind/name", "empty": "the file is empty",
		"bytes": "not YAML", "nowhere": "no such file", "twice": "two fences take away the same"} {
		file := filepath.Join(l.dir, "drafts", name+".fence.yaml")
		text := map[string]string{"broken": "fence: 1\nfor: person/x\n", "bytes": "\xff\xfe\x00", "twice": string(was)}
		var err error
		if name == "nowhere" {
			err = os.Symlink("nothing", file)
		} else {
			err = os.WriteFile(file, []byte(text[name]), 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
		v := decode[joint](t, l.dir, "rehearse", "--all", "--as-of", asOf)
		if len(v.Left) != 1 || !strings.Contains(v.Left[0], want) || !v.OK {
			t.Errorf("with the draft %s: left out %q, want %q; %t", name, v.Left, want, v.OK)
		}
		if out := must(t, l.dir, "status"); name != "twice" && !strings.Contains(out, "1 unreadable") {
			t.Errorf("with the draft %s:\n%s", name, out)
		}
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
	}
	// What is about something that is not there any more is left out of all drafts and told; by its name
	// it cannot be rehearsed.
	gone := strings.Replace(string(was), "replaces: [", "replaces: [g-gone, ", 1)
	if err := os.WriteFile(names[1], []byte(gone), 0o600); err != nil {
		t.Fatal(err)
	}
	v = decode[joint](t, l.dir, "rehearse", "--all", "--as-of", asOf)
	if len(v.Left) != 1 || !strings.Contains(v.Left[0], `no grant "g-gone"`) || !v.OK {
		t.Errorf("one of all is gone: %+v", v.Left)
	}
	if out := must(t, l.dir, "rehearse", "--all", "--as-of", asOf); !strings.Contains(out, "; 1 draft is left out\n") {
		t.Errorf("the first line does not say what was left out:\n%s", out)
	}
	if code, _, errs := run(t, l.dir, "rehearse", names[0], names[1]); code == 0 || !strings.Contains(errs, "g-gone") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	if err := os.WriteFile(names[1], was, 0o600); err != nil {
		t.Fatal(err)
	}
	// One of them breaks: the others still hold, and it is told which.
	data, err := os.ReadFile(names[0])
	if err != nil {
		t.Fatal(err)
	}
	cut, _, _ := strings.Cut(string(data), "allow:")
	if err := os.WriteFile(names[0], []byte(cut+"allow: []\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, text, _ := run(t, l.dir, append([]string{"rehearse", "--as-of", asOf}, names...)...)
	if code != 1 || !strings.Contains(text, "DO NOT HOLD: 1 of 4 fences alone") ||
		!strings.Contains(text, "Next: clipfence rehearse drafts/"+filepath.Base(names[0])) {
		t.Errorf("exit code %d\n%s", code, text)
	}
}

// TestWayBack: what an apply leaves takes it back without this program, and nothing is changed
// where it cannot be left.
func TestWayBack(t *testing.T) {
	t.Parallel()
	l := serveToday(t)
	must(t, l.dir, "survey")
	must(t, l.dir, "draft", "--for", "workload/camera-sync")
	grants := func() string { return l.admin(t, "GET", "/collections/grants?limit=1000", "", "") }
	before := grants()
	// A file where the folder should be.
	l.write(t, "changes", "")
	code, _, errs := run(t, l.dir, "apply", "workload/camera-sync", "--yes")
	if code == 0 || !strings.Contains(errs, "writing the way back") ||
		!strings.Contains(errs, "nothing was changed") || grants() != before {
		t.Fatalf("exit code %d: %s", code, errs)
	}
	if err := os.Remove(filepath.Join(l.dir, "changes")); err != nil {
		t.Fatal(err)
	}
	out := must(t, l.dir, "apply", "workload/camera-sync", "--yes", "--reason", "it's `true`\n$(false)")
	if grants() == before || !strings.Contains(out, "c-2.back.sh") {
		t.Fatalf("nothing changed, or it does not say where the way back is:\n%s", out)
	}
	cmd := exec.Command("sh", filepath.Join(l.dir, "changes", "c-2.back.sh"))
	cmd.Dir = t.TempDir()
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "TOKEN=" + l.tokens["workload/clip-fence-change"]}
	if text, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	same := func(text string) string { // but for versions
		var page struct {
			Items []struct {
				ID    string          `json:"id"`
				Value json.RawMessage `json:"value"`
			} `json:"items"`
		}
		if err := json.Unmarshal([]byte(text), &page); err != nil || len(page.Items) < 30 {
			t.Fatalf("%d grants: %v", len(page.Items), err)
		}
		return fmt.Sprintf("%s", page.Items)
	}
	if same(grants()) != same(before) {
		t.Errorf("the grants are not as they were:\n%s\n%s", same(before), same(grants()))
	}
}

// TestGaugeNext: a draft is pointed to only where it has something to go by.
func TestGaugeNext(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	for who, want := range map[string]string{"workload/ticket-export": "clipfence draft --for workload/ticket-export",
		"workload/year-end-closing": "clipfence coverage", "workload/clip-fence-survey": ""} {
		out := must(t, l.dir, "gauge", who, "--as-of", asOf)
		_, next, _ := strings.Cut(out, "\nNext: ")
		if !strings.HasPrefix(next, want) || want == "" && next != "" {
			t.Errorf("after gauge %s comes %q, want %q", who, next, want)
		}
		code, _, errs := run(t, l.dir, "draft", "--for", who, "--as-of", asOf)
		if drafted := strings.HasPrefix(want, "clipfence draft"); (code == 0) != drafted {
			t.Errorf("draft --for %s: exit code %d, %s", who, code, errs)
		}
	}
}
