package cli_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	_ "modernc.org/sqlite"
)

// lending is a workspace in which a person may ask for a gate and two others approve.
type lending struct {
	*live
	asker, boss, chief string // who they are
}

const nightGate = `gate: 2
name: night
source: mooring
opens:
  role: %s
  where: [/mooring/harbour:ternhaven/pier:commercial/**]
may_ask: [%s]
longest: 1h
approvers: [%s, %s]
`

func lend(t *testing.T) *lending {
	t.Helper()
	l := &lending{live: serveToday(t)}
	var people struct{ Items []struct{ ID string } }
	if err := json.Unmarshal([]byte(l.admin(t, "GET", "/collections/identities?limit=1000", "", "")),
		&people); err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, p := range people.Items {
		if strings.HasPrefix(p.ID, "person/") && p.ID != "person/harbour-master" {
			names = append(names, p.ID)
		}
	}
	l.asker, l.boss, l.chief = names[0], names[1], names[2]
	config, err := os.ReadFile(filepath.Join(l.dir, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	text := string(config) + "wait: 5s\npeople:\n"
	for _, p := range []struct{ file, kind, who string }{{"asker", "ed25519", l.asker}, {"boss", "rsa", l.boss},
		{"chief", "ecdsa", l.chief}, {"trustee", "ed25519", ""}, {"eve", "ed25519", ""}} {
		if code, out, errs := exitOf(t, command(l.dir, "ssh-keygen", "-q", "-t", p.kind, "-N", "", "-f",
			p.file)); code != 0 {
			t.Fatal(out, errs)
		}
		if p.who != "" {
			text += fmt.Sprintf("  - {id: %s, keys: [%q]}\n", p.who, l.key(t, p.file))
		}
	}
	l.write(t, "clipfence.yaml", text)
	if err := os.Mkdir(filepath.Join(l.dir, "gates"), 0o700); err != nil {
		t.Fatal(err)
	}
	l.write(t, "gates/night.gate.yaml", fmt.Sprintf(nightGate, "hold-master", l.asker, l.boss, l.chief))
	must(t, l.dir, "survey", "--no-logs")
	return l
}

func (l *lending) key(t *testing.T, file string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(l.dir, file+".pub"))
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(b))
}

type asked struct{ ID, State string }

func (l *lending) ask(t *testing.T) string {
	t.Helper()
	return decode[asked](t, l.dir, "gate", "ask", "night", "--for", "30m", "--reason", "x", "--key", "asker").ID
}

func (l *lending) approved(t *testing.T) string {
	t.Helper()
	id := l.ask(t)
	must(t, l.dir, "gate", "approve", id, "--key", "boss", "--yes")
	return id
}

// opened reports whether Mooring holds a grant of the request.
func (l *lending) opened(t *testing.T, id string) bool {
	t.Helper()
	return strings.Contains(l.admin(t, "GET", "/collections/grants?limit=1000", "", ""), id)
}

// sql changes the workspace's store behind the tool's back.
func (l *lending) sql(t *testing.T, query string, args ...any) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(l.dir, ".clipfence", "store.db"))
	if err == nil {
		_, err = db.Exec(query, args...)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
}

// edit changes a stored request as JSON.
func (l *lending) edit(t *testing.T, id string, change func(r map[string]any)) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(l.dir, ".clipfence", "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var body []byte
	if err := db.QueryRow(`select body from gates where id = ?`, id).Scan(&body); err != nil {
		t.Fatal(err)
	}
	r := map[string]any{}
	if err := json.Unmarshal(body, &r); err != nil {
		t.Fatal(err)
	}
	change(r)
	b, err := json.Marshal(r)
	if err == nil {
		_, err = db.Exec(`update gates set body = ? where id = ?`, b, id)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestOnlyWhatWasApprovedOpens: whatever somebody writes into store, gate file, people or
// source between asking and opening, what opens is what was approved, or nothing.
func TestOnlyWhatWasApprovedOpens(t *testing.T) {
	t.Parallel()
	l := lend(t)
	gateFile := fmt.Sprintf(nightGate, "hold-master", l.asker, l.boss, l.chief)
	config, err := os.ReadFile(filepath.Join(l.dir, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	restore := func(t *testing.T) {
		l.write(t, "gates/night.gate.yaml", gateFile)
		l.write(t, "clipfence.yaml", string(config))
	}
	for _, tt := range []struct {
		name string
		does func(t *testing.T) string // returns the request that is to be opened
		says string                    // "" it opens
	}{
		{"as it was approved", l.approved, ""},
		{"not approved", l.ask, "not approved"},
		{"a row set to approved", func(t *testing.T) string {
			id := l.ask(t)
			l.edit(t, id, func(r map[string]any) { r["state"] = "approved" })
			return id
		}, "is not what entry"},
		{"a widened row", func(t *testing.T) string {
			id := l.approved(t)
			l.edit(t, id, func(r map[string]any) { r["rights"] = append(r["rights"].([]any), "muster/grant:give") })
			return id
		}, "is not what entry"},
		{"a row for somebody else", func(t *testing.T) string {
			id := l.approved(t)
			l.edit(t, id, func(r map[string]any) { r["subject"] = l.chief })
			return id
		}, "is not what entry"},
		{"until 2099", func(t *testing.T) string {
			id := l.approved(t)
			l.edit(t, id, func(r map[string]any) { r["stay"], r["until"] = "30000d", "2099-01-01T00:00:00Z" })
			return id
		}, "is not what entry"},
		{"an approval taken from another request", func(t *testing.T) string {
			from, to := l.approved(t), l.ask(t)
			var answers any
			l.edit(t, from, func(r map[string]any) { answers = r["answers"] })
			l.edit(t, to, func(r map[string]any) { r["answers"], r["state"] = answers, "approved" })
			return to
		}, "is not what entry"},
		{"a closed request set back", func(t *testing.T) string {
			id := l.approved(t)
			must(t, l.dir, "gate", "open", id, "--yes")
			must(t, l.dir, "gate", "close", id)
			l.edit(t, id, func(r map[string]any) {
				r["state"] = "approved"
				for _, k := range []string{"opened_at", "until", "closed_at", "closed_by"} {
					delete(r, k)
				}
			})
			return id
		}, "is not what entry"},
		{"a row that the ledger does not know", func(t *testing.T) string {
			id := l.approved(t)
			l.sql(t, `insert into gates(id, body) select 'q-new', replace(body, ?, 'q-new') from gates where id = ?`,
				id, id)
			return "q-new"
		}, "the ledger knows nothing of request"},
		{"a gate widened for the moment of asking", func(t *testing.T) string {
			l.write(t, "gates/night.gate.yaml", fmt.Sprintf(nightGate, "skipper", l.asker, l.boss, l.chief))
			id := l.approved(t)
			l.write(t, "gates/night.gate.yaml", gateFile)
			return id
		}, "ask again"},
		{"approvals taken out of the gate", func(t *testing.T) string {
			id := l.ask(t)
			l.write(t, "gates/night.gate.yaml", strings.Replace(gateFile, "approvers: ["+l.boss+", "+l.chief+"]",
				"approvals: 0", 1))
			l.edit(t, id, func(r map[string]any) { r["state"] = "approved" })
			return id
		}, "is not what entry"},
		{"a longer stay written into the gate", func(t *testing.T) string {
			id := l.approved(t)
			l.write(t, "gates/night.gate.yaml", strings.Replace(gateFile, "1h", "9h", 1))
			return id
		}, "ask again"},
		{"two files of one gate", func(t *testing.T) string {
			id := l.approved(t)
			l.write(t, "gates/other.gate.yaml", strings.Replace(gateFile, "hold-master", "skipper", 1))
			return id
		}, "is in two files"},
		{"the approver's key is another's by now", func(t *testing.T) string {
			if err := os.Remove(filepath.Join(l.dir, "gates", "other.gate.yaml")); err != nil {
				t.Fatal(err)
			}
			id := l.approved(t)
			l.write(t, "clipfence.yaml", strings.Replace(string(config), l.key(t, "boss"), l.key(t, "eve"), 1))
			return id
		}, "not signed by " + l.boss},
		{"the approver is a link of the asker", func(t *testing.T) string {
			id := l.approved(t)
			l.write(t, "clipfence.yaml", string(config)+
				fmt.Sprintf("links:\n  - {a: \"mooring:%s\", b: \"other:person/x\"}\n  - {a: \"other:person/x\", "+
					"b: \"mooring:%s\"}\n", l.asker, l.boss))
			return id
		}, "nobody answers their own request"},
		{"the asker is protected by now", func(t *testing.T) string {
			id := l.approved(t)
			l.write(t, "clipfence.yaml", strings.Replace(string(config), "protected: [", "protected: ["+l.asker+", ",
				1))
			return id
		}, "is protected"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			defer restore(t)
			id := tt.does(t)
			code, _, errs := run(t, l.dir, "gate", "open", id, "--yes")
			if tt.says == "" {
				if code != 0 || !l.opened(t, id) {
					t.Errorf("%d %s", code, errs)
				}
				must(t, l.dir, "gate", "close", id)
				return
			}
			if code != 4 || !strings.Contains(errs, tt.says) {
				t.Errorf("exit %d, want 4 and %q: %s", code, tt.says, errs)
			}
			if l.opened(t, id) {
				t.Error("it is open")
			}
		})
	}
	must(t, l.dir, "ledger", "verify")
}

// TestRoleSwapped: a role that was widened after it was approved opens nothing; and what is
// open stays what was approved when a role is widened later.
func TestRoleSwapped(t *testing.T) {
	t.Parallel()
	l := lend(t)
	role := func(do string) {
		const path = "/collections/roles/item?id=night-shift"
		now := struct{ ETag string }{"new"}
		if do != "stow/item:read" { // it is there already
			if err := json.Unmarshal([]byte(l.admin(t, "GET", path, "", "")), &now); err != nil {
				t.Fatal(err)
			}
		}
		l.admin(t, "PUT", path, fmt.Sprintf(`{"name":"night-shift","title":"x","do":[%q]}`, do), now.ETag)
		must(t, l.dir, "survey", "--no-logs")
	}
	role("stow/item:read")
	l.write(t, "gates/night.gate.yaml", fmt.Sprintf(nightGate, "night-shift", l.asker, l.boss, l.chief))
	one, two := l.approved(t), l.approved(t)
	must(t, l.dir, "gate", "open", one, "--yes")
	role("stow/item:*")
	if code, _, errs := run(t, l.dir, "gate", "open", two, "--yes"); code != 4 ||
		!strings.Contains(errs, "ask again") {
		t.Errorf("%d %s", code, errs)
	}
	var g struct {
		Value struct {
			Do   []string
			Role string
		}
	}
	for _, x := range strings.Split(l.admin(t, "GET", "/collections/grants?limit=1000", "", ""), `"id":"`) {
		if name, _, ok := strings.Cut(x, `"`); ok && strings.Contains(name, one) {
			if err := json.Unmarshal([]byte(l.admin(t, "GET", "/collections/grants/item?id="+name, "", "")),
				&g); err != nil {
				t.Fatal(err)
			}
		}
	}
	if g.Value.Role != "" || !slices.Equal(g.Value.Do, []string{"stow/item:read"}) {
		t.Errorf("the open grant gives %+v", g.Value)
	}
	must(t, l.dir, "gate", "close", one)
}

// TestTrustees: once a trustee is pinned, people, gates and protected count as they were
// signed, and nothing else.
func TestTrustees(t *testing.T) {
	t.Parallel()
	l := lend(t)
	if out := must(t, l.dir, "gate", "ask", "night", "--for", "30m", "--reason", "x", "--key",
		"asker"); !strings.Contains(out, "No trustee is pinned") {
		t.Errorf("asking says nothing of trustees:\n%s", out)
	}
	must(t, l.dir, "trust", "pin", "trustee.pub")
	refused := func(says string, args ...string) {
		t.Helper()
		if code, _, errs := run(t, l.dir, args...); code != 4 || !strings.Contains(errs, says) {
			t.Errorf("%v: %d %s, want %q", args, code, errs, says)
		}
	}
	refused("there is no clipfence.trust.json", "gate", "ask", "night", "--for", "30m", "--reason", "x", "--key",
		"asker")
	must(t, l.dir, "trust", "sign", "--key", "eve", "--yes")
	refused("is not pinned on this account", "gate", "ask", "night", "--for", "30m", "--reason", "x", "--key", "asker")
	must(t, l.dir, "trust", "sign", "--key", "trustee", "--yes")
	id := l.ask(t)
	if out := must(t, l.dir, "gate", "list"); strings.Contains(out, "No trustee") {
		t.Errorf("a pinned trustee is not seen:\n%s", out)
	}
	config, err := os.ReadFile(filepath.Join(l.dir, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	// eve makes herself the approver
	l.write(t, "clipfence.yaml", strings.Replace(string(config), l.key(t, "boss"), l.key(t, "eve"), 1))
	refused("the keys of "+l.boss+" were changed", "gate", "approve", id, "--key", "eve", "--yes")
	if code, out, _ := run(t, l.dir, "trust", "show"); code != 1 || !strings.Contains(out, "were changed") {
		t.Errorf("trust show: %d %s", code, out)
	}
	l.write(t, "clipfence.yaml", string(config))
	must(t, l.dir, "gate", "approve", id, "--key", "boss", "--yes")
	gate := fmt.Sprintf(nightGate, "hold-master", l.asker, l.boss, l.chief)
	l.write(t, "gates/night.gate.yaml", gate+"# nothing else\n")
	refused("gates: night.gate.yaml was changed", "gate", "open", id, "--yes")
	l.write(t, "gates/night.gate.yaml", gate)
	must(t, l.dir, "gate", "open", id, "--yes")
	must(t, l.dir, "gate", "close", id)
	must(t, l.dir, "trust", "show")
}

// TestTogether: many answers at once are all kept or refused, none is lost; two openings of
// one request make one; two changes never get one number.
func TestTogether(t *testing.T) {
	t.Parallel()
	l := lend(t)
	l.write(t, "gates/night.gate.yaml", fmt.Sprintf(nightGate, "hold-master", l.asker, l.boss, l.chief)+
		"approvals: 2\n")
	rounds := 6
	if testing.Short() {
		rounds = 2
	}
	for range rounds {
		id := l.ask(t)
		together(t, func() { must(t, l.dir, "gate", "approve", id, "--key", "boss", "--yes") },
			func() { must(t, l.dir, "gate", "approve", id, "--key", "chief", "--yes") })
		var codes [2]int
		together(t, func() { codes[0], _, _ = run(t, l.dir, "gate", "open", id, "--yes") },
			func() { codes[1], _, _ = run(t, l.dir, "gate", "open", id, "--yes") })
		slices.Sort(codes[:])
		if codes != [2]int{0, 4} {
			t.Errorf("opened twice at once: exit codes %v", codes)
		}
		together(t, func() { must(t, l.dir, "gate", "close", id) }, func() { must(t, l.dir, "patrol", "--once") })
		if l.opened(t, id) {
			t.Error("it is left open")
		}
		id = l.ask(t)
		together(t, func() { must(t, l.dir, "gate", "refuse", id, "--key", "boss", "--yes") },
			func() { run(t, l.dir, "gate", "approve", id, "--key", "chief", "--yes") })
		if code, _, errs := run(t, l.dir, "gate", "open", id, "--yes"); code != 4 ||
			!strings.Contains(errs, "is refused") {
			t.Errorf("a refusal vanished: %d %s", code, errs)
		}
	}
	must(t, l.dir, "ledger", "verify")
}

func together(t *testing.T, fs ...func()) {
	t.Helper()
	var wg sync.WaitGroup
	for _, f := range fs {
		wg.Go(f)
	}
	wg.Wait()
}

// TestClosing: a patrol closes what is due whatever is broken here: the ledger, a request,
// a row that is gone.
func TestClosing(t *testing.T) {
	t.Parallel()
	l := lend(t)
	for _, tt := range []struct {
		name   string
		breaks func(t *testing.T, id string)
		code   int
		full   bool
	}{
		{"nothing", func(*testing.T, string) {}, 0, false},
		{"a full disk", func(*testing.T, string) {}, 5, true},
		{"the disk is free again", func(*testing.T, string) {}, 0, false},
		{"the ledger's file", func(t *testing.T, _ string) {
			name := filepath.Join(l.dir, ".clipfence", "ledger.jsonl")
			b, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			b[20] ^= 1
			l.write(t, ".clipfence/ledger.jsonl", string(b))
			t.Cleanup(func() { b[20] ^= 1; l.write(t, ".clipfence/ledger.jsonl", string(b)) })
		}, 5, false},
		{"another request", func(t *testing.T, _ string) {
			l.sql(t,
				`insert into gates(id, body) values('q-bad', '{')`)
		}, 2, false},
		{"its row", func(t *testing.T, id string) {
			l.sql(t, `delete from gates where id in ('q-bad', ?)`, id)
		}, 0, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			id := decode[asked](t, l.dir, "gate", "ask", "night", "--for", "1s", "--reason", "x", "--key", "asker").ID
			must(t, l.dir, "gate", "approve", id, "--key", "boss", "--yes")
			must(t, l.dir, "gate", "open", id, "--yes")
			tt.breaks(t, id)
			time.Sleep(1100 * time.Millisecond)
			patrol := command(l.dir, binary, "patrol", "--once")
			if tt.full { // no file may grow: a full disk, for this command
				patrol = command(l.dir, "sh", "-c", "ulimit -f 0; exec \"$0\" patrol --once", binary)
			}
			code, out, errs := exitOf(t, patrol)
			if code != tt.code || l.opened(t, id) {
				t.Errorf("exit %d, want %d; open: %t\n%s%s", code, tt.code, l.opened(t, id), out, errs)
			}
		})
	}
}

// TestOneAtATime: while a change is carried out, slowly, in a source, another change, its
// own undoing and a mending wait for it to end; and then what stands is what it left.
func TestOneAtATime(t *testing.T) {
	t.Parallel()
	l := lend(t)
	must(t, l.dir, "survey")
	before := l.rights(t)
	must(t, l.dir, "draft", "--for", "workload/ticket-export")
	must(t, l.dir, "draft", "--for", "workload/camera-sync")
	must(t, l.dir, "apply", "workload/ticket-export", "--yes")
	must(t, l.dir, "undo", "c-1", "--yes")
	config, err := os.ReadFile(filepath.Join(l.dir, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	l.write(t, "clipfence.yaml", strings.Replace(string(config), "wait: 5s", "wait: 60s", 1))
	l.faults(t, map[string]any{"visible_after_ms": 5000}) // three steps: long enough on a busy machine
	apply := command(l.dir, binary, "apply", "workload/ticket-export", "--yes")
	if err := apply.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		if changes := decode[[]struct{ ID, State string }](t, l.dir, "ledger", "list"); len(changes) == 3 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the change does not begin")
		}
	}
	for _, args := range [][]string{{"apply", "workload/camera-sync", "--yes"}, {"undo", "c-3", "--yes"},
		{"apply", "--resume", "c-3", "--yes"}} {
		if code, _, errs := run(t, l.dir, args...); code != 4 ||
			!strings.Contains(errs, "being carried out in mooring just now") {
			t.Errorf("%v meanwhile: %d %s", args, code, errs)
		}
	}
	if err := apply.Wait(); err != nil {
		t.Errorf("the change itself: %v", err)
	}
	l.faults(t, map[string]any{})
	must(t, l.dir, "undo", "c-3", "--yes")
	if now := l.rights(t); now != before {
		t.Errorf("Mooring is not as it was\n%s\nwas\n%s", now, before)
	}
	// Two from two workspaces, which know nothing of each other's lease, stay two.
	other := copied(t, l.dir, "clipfence.yaml", "read", "change")
	must(t, other, "survey")
	must(t, other, "draft", "--for", "workload/camera-sync")
	together(t, func() { must(t, l.dir, "apply", "workload/ticket-export", "--yes") },
		func() { run(t, other, "apply", "workload/camera-sync", "--yes") })
	must(t, l.dir, "ledger", "verify")
	must(t, other, "ledger", "verify")
}

// TestTwoWorkspaces: on one source two workspaces close what is theirs and nothing else.
func TestTwoWorkspaces(t *testing.T) {
	t.Parallel()
	l := lend(t)
	must(t, l.dir, "gate", "list")
	other := copied(t, l.dir, "clipfence.yaml", "read", "change", "asker", "boss")
	if err := os.CopyFS(filepath.Join(other, "gates"), os.DirFS(filepath.Join(l.dir, "gates"))); err != nil {
		t.Fatal(err)
	}
	must(t, other, "survey", "--no-logs")
	ours := l.approved(t)
	must(t, l.dir, "gate", "open", ours, "--yes")
	theirs := decode[asked](t, other, "gate", "ask", "night", "--for", "1s", "--reason", "x", "--key", "asker").ID
	must(t, other, "gate", "approve", theirs, "--key", "boss", "--yes")
	must(t, other, "gate", "open", theirs, "--yes")
	time.Sleep(1100 * time.Millisecond)
	must(t, other, "patrol", "--once")
	if l.opened(t, theirs) || !l.opened(t, ours) {
		t.Errorf("theirs open: %t, ours: %t", l.opened(t, theirs), l.opened(t, ours))
	}
	// A row of ours, taken into their store, opens nothing and closes nothing.
	db, err := sql.Open("sqlite", filepath.Join(other, ".clipfence", "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`attach ? as ours; insert into gates select * from ours.gates where id = '`+ours+`'`,
		filepath.Join(l.dir, ".clipfence", "store.db")); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run(t, other, "gate", "approve", ours, "--key", "boss", "--yes"); code == 0 ||
		!strings.Contains(errs, "asked in another workspace") {
		t.Errorf("a row of another workspace is approved: %d %s", code, errs)
	}
	must(t, l.dir, "gate", "close", ours)
}
