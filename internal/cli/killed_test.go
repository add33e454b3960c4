package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// workKills says how many commands are run to be killed; CLIPFENCE_KILLS makes it more.
func workKills(t *testing.T) int {
	t.Helper()
	n := 200
	if testing.Short() {
		n = 30
	}
	if s := os.Getenv("CLIPFENCE_KILLS"); s != "" {
		var err error
		if n, err = strconv.Atoi(s); err != nil {
			t.Fatalf("CLIPFENCE_KILLS: %v", err)
		}
	}
	return n
}

// killable runs the program and kills it at a random moment within a time; it reports whether
// it was killed.
func (l *lending) killable(t *testing.T, r *rand.Rand, within time.Duration, args ...string) bool {
	t.Helper()
	cmd := command(l.dir, binary, args...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case <-time.After(time.Duration(r.Int64N(int64(within)))):
		_ = cmd.Process.Kill() // it may have ended
		<-ended
		return true
	case <-ended:
		return false
	}
}

// rights is everything that says who may do what in Mooring.
func (l *lending) rights(t *testing.T) string {
	t.Helper()
	var b strings.Builder
	for _, kind := range []string{"roles", "grants", "memberships"} {
		var list struct {
			Items []struct {
				ID    string
				Value json.RawMessage
			}
		}
		if err := json.Unmarshal([]byte(l.admin(t, "GET", "/collections/"+kind+"?limit=1000", "", "")),
			&list); err != nil {
			t.Fatal(err)
		}
		for _, it := range list.Items {
			fmt.Fprintf(&b, "%s %s %s\n", kind, it.ID, it.Value)
		}
	}
	return b.String()
}

// TestKilledWork kills apply, undo, resume, gate and patrol at random moments, one upon the
// other: what is finished and taken back in the end leaves Mooring as it was, and nothing of
// an elevation.
func TestKilledWork(t *testing.T) {
	t.Parallel()
	l := lend(t)
	must(t, l.dir, "survey")
	must(t, l.dir, "draft", "--for", "workload/ticket-export")
	before := l.rights(t)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d", seed)
	type change struct{ ID, State, Undoes string }
	changes := func() []change { return decode[[]change](t, l.dir, "ledger", "list") }
	killed, applied, opened := 0, 0, 0
	// Of four commands about one comes to its end. What a first one does for all that follow
	// is not counted.
	must(t, l.dir, "apply", "workload/ticket-export", "--yes")
	start := time.Now()
	must(t, l.dir, "undo", "c-1", "--yes")
	lasts := time.Since(start) * 4 / 3
	tried := 0
	// How long each command takes is learned as it goes: the machine may be far busier at the
	// first than later, when nothing would be killed, or the other way round, when all would be.
	within := map[string]time.Duration{}
	try := func(args ...string) {
		tried++
		verb := strings.Join(args[:2], " ")
		if within[verb] == 0 {
			within[verb] = lasts
		}
		begun := time.Now()
		if l.killable(t, r, within[verb], args...) {
			killed++
			within[verb] += within[verb] / 16
			return
		}
		within[verb] = (within[verb] + time.Since(begun)*4/3) / 2
	}
	for round := 0; tried < workKills(t) || killed < workKills(t)/4 || applied == 0 || opened == 0; round++ {
		if r.IntN(2) == 0 {
			try("apply", "workload/ticket-export", "--yes")
			for step := 0; ; step++ { // whatever is half done is finished or taken back, perhaps killed again
				all := changes()
				if len(all) == 0 {
					break
				}
				last := all[len(all)-1]
				if i := slices.IndexFunc(all, func(c change) bool {
					return c.State == "interrupted" ||
						c.State == "failed"
				}); i >= 0 {
					last = all[i]
					for _, c := range all[i+1:] { // an undoing that has begun is what is gone on with
						if c.Undoes == last.ID {
							last = c
						}
					}
				}
				verb := []string{"undo", last.ID, "--yes"}
				switch half := last.State == "interrupted" || last.State == "failed"; {
				case half && (last.Undoes != "" || r.IntN(2) == 0):
					verb = []string{"apply", "--resume", last.ID, "--yes"}
				case !half && (last.Undoes != "" || last.State == "undone"):
					verb = nil
				case last.State == "done":
					applied++
				}
				if verb == nil {
					break
				}
				if step < 4 {
					try(verb...)
				} else {
					must(t, l.dir, verb...)
				}
			}
			if now := l.rights(t); now != before {
				t.Fatalf("round %d, after %d kills: Mooring is not as it was\n%s\nwas\n%s", round, killed, now, before)
			}
			continue
		}
		id := l.approved(t)
		switch r.IntN(3) {
		case 0:
			try("gate", "open", id, "--yes")
		case 1:
			try("gate", "run", id, "--yes", "--", "sleep", "0.2")
		case 2:
			must(t, l.dir, "gate", "open", id, "--yes")
			try("gate", "close", id)
		}
		if l.opened(t, id) {
			opened++
		}
		try("patrol", "--once")
		if slices.ContainsFunc(decode[struct{ Requests []asked }](t, l.dir, "gate", "list").Requests,
			func(q asked) bool { return q.ID == id && q.State == "open" }) {
			try("gate", "close", id)
		}
		must(t, l.dir, "patrol", "--once")
		for _, q := range decode[struct{ Requests []asked }](t, l.dir, "gate", "list").Requests {
			if q.ID == id && q.State == "open" {
				must(t, l.dir, "gate", "close", id)
			}
		}
		if l.opened(t, id) {
			t.Fatalf("round %d, after %d kills: request %s is left open", round, killed, id)
		}
	}
	must(t, l.dir, "ledger", "verify")
	t.Logf("%d commands, %d kills, %d changes done, %d gates open at a kill", tried, killed, applied, opened)
}
