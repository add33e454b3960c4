package judge

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"math"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
	"clipfence/internal/sandbox"
	"clipfence/internal/sandbox/generate"
	"clipfence/internal/source/files"
	"clipfence/internal/work"
)

func TestMain(m *testing.M) {
	home, err := os.MkdirTemp("", "clipfence-judge-")
	if err == nil {
		err = os.Setenv("CLIPFENCE_HOME", home) // keys and pins of the tests' workspaces
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	_ = os.RemoveAll(home) // what is left lies in a folder for what is temporary
	os.Exit(code)
}

// put writes the files of a workspace.
func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		name = filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// TestJobThroughWork does the whole job on the sample estate by calls, without a command
// line: connect, survey, look, narrow, apply, undo, lend, take back, verify.
func TestJobThroughWork(t *testing.T) {
	ctx := t.Context()
	f := generate.Estate(generate.Options{Seed: 3, Scale: 1, Days: 120, Until: time.Now().UTC().Truncate(time.Second)})
	dir := t.TempDir()
	if _, err := generate.Write(ctx, filepath.Join(dir, "mooring"), f, nil); err != nil {
		t.Fatal(err)
	}
	cloud, err := sandbox.Open(filepath.Join(dir, "mooring"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cloud.Close() }()
	srv := httptest.NewServer(cloud.Handler())
	defer srv.Close()

	ws, err := work.Init(ctx, filepath.Join(dir, "ws"))
	if err != nil {
		t.Fatal(err)
	}
	var asker, boss string
	for _, m := range f.Docs[sandbox.KindMembership] {
		switch m := m.(*sandbox.Membership); {
		case m.Group == "group/platform-oncall" && asker == "":
			asker = m.Member
		case m.Group == "group/security-leads" && boss == "":
			boss = m.Member
		}
	}
	config, err := os.ReadFile(filepath.Join(ws, "clipfence.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(config), "protected: []",
		"protected: [workload/clip-fence-survey, workload/clip-fence-change]\nwait: 10s\npeople:\n"+
			newPerson(t, ws, "asker", asker)+newPerson(t, ws, "boss", boss), 1)
	put(t, ws, map[string]string{"clipfence.yaml": text,
		"read": f.Tokens["workload/clip-fence-survey"], "change": f.Tokens["workload/clip-fence-change"],
		"gates/night.gate.yaml": fmt.Sprintf("gate: 2\nname: night\nsource: mooring\nopens: {role: skipper, where: "+
			"[/mooring/harbour:ternhaven/pier:commercial/**]}\nmay_ask: [%s]\nlongest: 1h\napprovers: [%s]\n", asker,
			boss)})
	if _, err := work.AddSource(ws, work.SourceConfig{Name: "mooring", Kind: "bridge", URL: srv.URL,
		Token: work.Secret{File: "read"}, ChangeToken: work.Secret{File: "change"}}); err != nil {
		t.Fatal(err)
	}
	doing := map[work.Doing]bool{}
	w, err := work.Open(ctx, work.Options{Folder: ws, Clock: time.Now,
		Events: func(e work.Event) { doing[e.Doing] = true }})
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := w.Close(); err != nil {
			t.Error(err)
		}
	}()
	checked, err := w.Check(ctx)
	if err != nil || slices.ContainsFunc(checked[0].Rights, func(r work.Right) bool { return !r.OK }) {
		t.Fatal(err, checked)
	}
	var surveyed *work.SurveyResult
	if err := w.Survey(ctx, false, func(r work.SurveyResult) { surveyed = &r }); err != nil {
		t.Fatal(err)
	}
	if surveyed == nil || surveyed.Row.Events == 0 || surveyed.Placed.Share() < 0.9 || !doing[work.Surveying] ||
		!doing[work.Indexing] {
		t.Fatalf("surveyed %+v; told of %v", surveyed, doing)
	}
	const who, thrown, where = "workload/ticket-export", "stow/item:throw-out",
		"/mooring/harbour:ternhaven/pier:commercial/berth:ticketing/box:sales/2026-11-01/1.csv"
	may := func() bool {
		world, err := cloud.World()
		if err != nil {
			t.Fatal(err)
		}
		return world.Decide(who, thrown, where, sandbox.CallContext{Time: time.Now()}).Allowed
	}
	if !may() {
		t.Fatal("nothing to take away")
	}
	found, err := w.Findings(ctx, 0)
	if err != nil || !slices.ContainsFunc(found.List,
		func(f work.Finding) bool { return f.Identity.String() == who }) {
		t.Fatalf("nothing found of %s: %v", who, err)
	}
	drafts, err := w.Draft(ctx, work.DraftRequest{For: who})
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range []work.Doing{work.Measuring, work.Reaching, work.Crediting, work.Judging, work.Looking,
		work.Learning} {
		if !doing[d] || !d.Thinks() {
			t.Errorf("told of %v, and of %s %t", doing, d, doing[d])
		}
	}
	if r := drafts.Written[0].Rehearsal; r.After >= r.Before {
		t.Errorf("the draft takes danger from %g to %g", r.Before, r.After)
	}
	p, err := w.PrepareApply(ctx, who, "a test", false)
	if err != nil {
		t.Fatal(err)
	}
	if !may() {
		t.Fatal("preparing changed something")
	}
	steps := 0
	rec, err := p.Run(ctx, func(int, work.Step) { steps++ })
	if err != nil || steps != len(rec.Steps) || may() {
		t.Fatalf("applied: %v; %d of %d steps told; it may still: %t", err, steps, len(rec.Steps), may())
	}
	if p, err = w.PrepareUndo(ctx, rec.ID); err != nil {
		t.Fatal(err)
	}
	if rec, err = p.Run(ctx, nil); err != nil || !may() {
		t.Fatal("undone:", err, may())
	}
	if _, err := w.PrepareUndo(ctx, rec.Undoes); work.BlameOf(err) != work.BlameRefused {
		t.Errorf("undone twice: %v", err)
	}

	if _, err := w.Ask(ctx, "night", 2*time.Hour, "too long",
		filepath.Join(ws, "asker")); work.BlameOf(err) != work.BlameRefused {
		t.Errorf("asked for two hours: %v", err)
	}
	asked, err := w.Ask(ctx, "night", time.Minute, "a test", filepath.Join(ws, "asker"))
	if err != nil {
		t.Fatal(err)
	}
	no := errors.New("no")
	if _, _, err := w.Answer(ctx, asked.Request.ID, true, "", filepath.Join(ws, "boss"),
		func(*work.Question) error { return no }); !errors.Is(err, no) {
		t.Errorf("answered without agreement: %v", err)
	}
	if _, _, err := w.OpenRequest(ctx, asked.Request.ID); work.BlameOf(err) != work.BlameRefused {
		t.Errorf("opened before it was approved: %v", err)
	}
	if _, _, err := w.Answer(ctx, asked.Request.ID, true, "", filepath.Join(ws, "boss"), func(q *work.Question) error {
		if q.Who.String() != boss || len(q.Gives) == 0 {
			t.Errorf("asked %+v", q)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	grant := func() bool { _, err := cloud.Get(sandbox.KindGrant, asked.Request.GrantID()); return err == nil }
	lent := errors.New("lent")
	if err := w.Lend(ctx, asked.Request.ID, func(context.Context, *work.Request) error {
		if !grant() {
			t.Error("lent, and no grant is there")
		}
		return lent
	}); !errors.Is(err, lent) || grant() {
		t.Errorf("lent: %v; the grant is left: %t", err, grant())
	}
	if round, err := w.Patrol(ctx); err != nil || len(round.Open) > 0 {
		t.Errorf("patrol: %+v, %v", round, err)
	}
	if v, err := w.Verify(ctx, nil, nil); err != nil || !v.Pinned || v.Entries < 6 {
		t.Errorf("verified: %+v, %v", v, err)
	}
}

// newPerson writes a key, and returns the entry of whoever it belongs to.
func newPerson(t *testing.T, dir, file, who string) string {
	t.Helper()
	pub, priv, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(priv, "test")
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, map[string]string{file: string(pem.EncodeToMemory(block))})
	return fmt.Sprintf("  - {id: %s, keys: [%q]}\n", who, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))))
}

// TestCommandsAgree asks of random estates, surveyed from files with a log, what commands ask:
// whatever is granted, usable, used, and by whom, all of them say the same.
func TestCommandsAgree(t *testing.T) {
	var next, narrowed, idle atomic.Int64
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for {
				seed := next.Add(1)
				if seed > int64(estates(t)) || t.Failed() {
					return
				}
				commandsAgree(t, uint64(seed)+80_000, &narrowed, &idle)
			}
		})
	}
	wg.Wait()
	t.Logf("%d drafts, %d unused grants", narrowed.Load(), idle.Load())
	if n := int64(estates(t)); narrowed.Load() < n/10 || idle.Load() < n/10 {
		t.Errorf("only %d drafts and %d unused grants: that says little", narrowed.Load(), idle.Load())
	}
}

const agreeMap = `logmap: 1
name: ours
form: json
time: r.t
identity: r.who
kind: r.kind
permission: r.do
path: r.at
network: r.net
second_factor: r.factor
`

func commandsAgree(t *testing.T, seed uint64, narrowed, idle *atomic.Int64) {
	ctx := t.Context()
	g := newRandom(seed)
	e := g.estate(t)
	for _, service := range services {
		e.Coverage = append(e.Coverage, model.CoverageRecord{Node: model.MustPath("/m"), Service: service,
			LogClass: "all", Written: true})
	}
	dir := t.TempDir()
	body, err := json.Marshal(files.EstateFile{Version: 2, Estate: *e})
	if err != nil {
		t.Error(err)
		return
	}
	var log strings.Builder
	calls := map[string]int64{} // that were let through, by whom
	var made []usage.Call
	for i := range 60 {
		q := g.question()
		if !g.world.Decide(q.who, q.permission, q.path, q.ctx).Allowed {
			continue
		}
		c := g.call(q, 1+(7*i)%120)
		line, err := json.Marshal(map[string]any{"t": c.Time.Format(time.RFC3339Nano), "who": c.Identity.Name,
			"kind": c.Identity.Kind, "do": q.permission, "at": q.path, "net": q.ctx.Network.String(),
			"factor": q.ctx.SecondFactor, "n": i})
		if err != nil {
			t.Error(err)
			return
		}
		log.Write(append(line, '\n'))
		calls[q.who]++
		made = append(made, c)
	}
	put(t, dir, map[string]string{"estate.json": string(body), "log.jsonl": log.String(), "map.yaml": agreeMap,
		"clipfence.yaml": "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.json, logs: [log.jsonl], " +
			"log_maps: [map.yaml]}]\n"})
	w, err := work.Open(ctx, work.Options{Folder: dir, Clock: func() time.Time { return noon }})
	if err != nil {
		t.Error(err)
		return
	}
	defer func() {
		if err := w.Close(); err != nil {
			t.Error(err)
		}
	}()
	fail := func(format string, args ...any) { t.Errorf("seed %d: %s", seed, fmt.Sprintf(format, args...)) }
	if err := w.Survey(ctx, false, func(work.SurveyResult) {}); err != nil {
		fail("%v", err)
		return
	}
	_, s, in, res, err := w.GaugedFor(ctx, "", 0)
	if err != nil {
		fail("%v", err)
		return
	}
	all, err := work.NewPart("", "", "")
	if err != nil {
		fail("%v", err)
		return
	}
	for _, st := range res.Standings {
		held, perms, nodes := callByCall(s, e, st.ID, res.Scale)
		if math.Abs(held-st.Danger) > 1e-6 {
			fail("%s: decided call by call it holds danger %g, gauge says %g", st.ID, held, st.Danger)
		}
		if r := s.From(st.ID, all, false); r.Permissions != perms || r.Nodes != nodes {
			fail("%s: decided call by call it can use %d permissions on %d nodes, reach says %d on %d", st.ID, perms,
				nodes, r.Permissions, r.Nodes)
		}
		if tally := res.Placement.Of[st.ID]; st.ID.Kind != model.Group &&
			(tally == nil && calls[st.ID.String()] > 0 || tally != nil && tally.Calls != calls[st.ID.String()]) {
			fail("%s: gauge counts %+v, the log has %d", st.ID, tally, calls[st.ID.String()])
		}
	}
	// Into each place, against why.
	for _, n := range e.Nodes {
		got := map[model.ID]int{}
		for _, r := range s.Into(nil, []model.Path{n.Path}, all, false).Rows {
			got[r.Identity] = r.Certain + r.Conditional
		}
		kinds := s.Kinds(n.Path)
		for _, i := range e.Identities {
			want := 0
			for k := range s.Numbers() {
				c := s.Permission(k)
				fits := len(c.Kinds) == 0 || slices.ContainsFunc(c.Kinds,
					func(kind string) bool { return kinds[kind] })
				if fits && s.Decide(i.ID, c.Permission, n.Path, model.Context{}).Outcome != access.Denied {
					want++
				}
			}
			if i.ID.Kind != model.Group && got[i.ID] != want {
				fail("%s on %s: why allows %d permissions, reach --into %d", i.ID, n.Path, want, got[i.ID])
			}
		}
	}
	// Uses.
	_, _, groups, err := w.GroupUses(ctx, "", &work.UseFilter{Outcomes: []work.Outcome{work.Done}},
		[]work.UseField{work.ByIdentity}, model.Duration(400*24*time.Hour), false)
	if err != nil {
		fail("%v", err)
	}
	counted := map[string]int64{}
	for _, u := range groups {
		counted[u.Key.Identity.String()] = u.Count
	}
	if !maps.Equal(counted, calls) {
		fail("uses counts %v, the log has %v", counted, calls)
	}
	// What is called unused was not used.
	found, err := w.Findings(ctx, 0)
	if err != nil {
		fail("%v", err)
		return
	}
	for _, f := range found.List {
		if f.Grant == nil || f.Kind != work.UnusedGrant || f.Grant.Grant.To.Kind == model.Group ||
			f.Grant.Grant.To.Open() {
			continue
		}
		idle.Add(1)
		gr := f.Grant.Grant
		for _, c := range made {
			if c.Identity != gr.To || usage.DayOf(c.Time) < in.Span().First() {
				continue
			}
			ways := s.Decide(c.Identity, c.Permission, c.Path,
				model.Context{Time: c.Time, Network: c.Network, SecondFactor: c.SecondFactor}).Ways
			if slices.ContainsFunc(ways, func(w work.Way) bool {
				return w.Grant == gr || w.Grant != nil &&
					w.Grant.ID == gr.ID
			}) {
				fail("grant %s is called unused, and %s did %s on %s", gr.ID, c.Identity, c.Permission, c.Path)
			}
		}
	}
	// What is drafted, rehearsed and asked as it would be.
	for _, st := range res.Standings {
		if st.Removable < 1 || st.ID.Open() || st.ID.Kind == model.Group {
			continue
		}
		out, err := w.Draft(ctx, work.DraftRequest{For: st.ID.String(), Force: true})
		if errors.Is(err, draft.ErrNothing) {
			continue
		}
		if err != nil {
			fail("%s: %v", st.ID, err)
			return
		}
		d := out.Written[0]
		r, _, err := w.Rehearse(ctx, d.Fence, s, true)
		if err != nil {
			fail("%s: %v", st.ID, err)
			return
		}
		then, err := w.Question(ctx, s.Source, &work.WhatIf{With: []string{d.File}})
		if err != nil {
			fail("%s: %v", st.ID, err)
			return
		}
		held, perms, nodes := callByCall(then, e, st.ID, gauge.NewScale(then.Index, gauge.DefaultWeights))
		switch x := then.From(st.ID, all, false); {
		case math.Abs(r.Before-st.Danger) > 1e-6 || math.Abs(r.ReachBefore.Danger-st.Within.Danger) > 1e-6:
			fail("%s: gauge says danger %g held and %g within reach, rehearse %g and %g", st.ID, st.Danger,
				st.Within.Danger, r.Before, r.ReachBefore.Danger)
		case math.Abs(r.After-held) > 1e-6 || math.Abs(d.Rehearsal.After-held) > 1e-6:
			fail("%s: decided call by call it would hold danger %g, draft says %g, rehearse %g", st.ID, held,
				d.Rehearsal.After, r.After)
		case x.Permissions != perms || x.Nodes != nodes:
			fail("%s: it could use %d permissions on %d nodes then, reach --with says %d on %d", st.ID, perms, nodes,
				x.Permissions, x.Nodes)
		case len(r.Widened) > 0 || slices.ContainsFunc(r.Broken, func(b rehearse.Break) bool { return !b.GivenUp }):
			fail("%s: its own draft widens %v or breaks %v", st.ID, r.Widened, r.Broken)
		}
		narrowed.Add(1)
	}
}

// callByCall decides call by call what an identity can use on the inventory: its danger, how many
// permissions, and on how many nodes. What it is granted on places alone that nobody lists
// counts as one place, and is in no number of permissions.
func callByCall(s *work.Source, e *model.Estate, id model.ID, scale *gauge.Scale) (danger float64, perms, nodes int) {
	places := map[int]int{}
	for _, n := range e.Nodes {
		any := false
		for k := range s.Numbers() {
			c := s.Permission(k)
			if applies(c, n.Path) && s.Decide(id, c.Permission, n.Path, model.Context{}).Outcome != access.Denied {
				places[k]++
				any = true
			}
		}
		if any {
			nodes++
		}
	}
	for k, n := range places {
		danger += gauge.DefaultWeights[s.Permission(k).Weighs()] * math.Log2(1+float64(n))
	}
	_, granted := scale.Held(id)
	for k := range granted.All() {
		if places[k] == 0 {
			danger += gauge.DefaultWeights[s.Permission(k).Weighs()]
		}
	}
	return danger, len(places), nodes
}
