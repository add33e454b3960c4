package change_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
	"clipfence/internal/patrol"
	"clipfence/internal/sandbox"
	"clipfence/internal/source"
	"clipfence/internal/source/bridge"
)

// rig is a small Mooring, the tool's way into it, and a ledger.
type rig struct {
	cloud   *sandbox.Cloud
	changer bridge.Changer
	estate  *model.Estate
	index   *index.Index
	ledger  *ledger.Ledger
	fence   *fence.Fence
	gates   ledgertest.Memory
}

func newRig(t *testing.T) *rig {
	t.Helper()
	c, err := sandbox.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	created := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	docs := map[string][]any{}
	for _, p := range sandbox.Catalogue() {
		docs[sandbox.KindPermission] = append(docs[sandbox.KindPermission], p)
	}
	for _, r := range sandbox.BuiltinRoles() {
		docs[sandbox.KindRole] = append(docs[sandbox.KindRole], r)
	}
	for _, p := range []string{"/mooring/harbour:t", "/mooring/harbour:t/berth:p",
		"/mooring/harbour:t/berth:p/box:b"} {
		docs[sandbox.KindNode] = append(docs[sandbox.KindNode], &sandbox.Node{Path: p})
	}
	for _, i := range []string{"person/admin", "person/asker", "workload/x", "workload/fence", "group/g"} {
		docs[sandbox.KindIdentity] = append(docs[sandbox.KindIdentity], &sandbox.Identity{ID: i})
	}
	docs[sandbox.KindMembership] = []any{&sandbox.Membership{Member: "workload/x", Group: "group/g"}}
	docs[sandbox.KindGrant] = []any{
		&sandbox.Grant{ID: "g-1", To: "workload/x", Role: "hold-master",
			Where: []string{"/mooring/harbour:t/berth:p/**"}, Created: created, KeptWith: "holder"},
		&sandbox.Grant{ID: "g-2", To: "workload/x", Do: []string{"post/rack:find"},
			Where: []string{"/mooring/harbour:t/**"}, Created: created, KeptWith: "holder"},
		&sandbox.Grant{ID: "g-3", To: "person/admin", Role: "skipper", Where: []string{"/mooring/harbour:t/**"},
			Created: created},
		&sandbox.Grant{ID: "g-4", To: "workload/fence", Role: "skipper", Where: []string{"/mooring/harbour:t/**"},
			Created: created},
	}
	if err := c.Fill(docs, map[string]string{"secret": "workload/fence"}); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(c.Handler())
	t.Cleanup(func() { srv.Close(); c.Close() })
	cl, err := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL, Token: "secret",
		Pause: time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	r := &rig{cloud: c, changer: bridge.Changer{Client: cl}}
	r.ledger = &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Book: &r.gates, Now: time.Now,
		By: "test"}
	e := &model.Estate{Source: "mooring"}
	for kind, into := range map[string]any{sandbox.KindPermission: &e.Catalogue, sandbox.KindNode: &e.Nodes,
		sandbox.KindIdentity: &e.Identities, sandbox.KindMembership: &e.Memberships, sandbox.KindRole: &e.Roles,
		sandbox.KindGrant: &e.Grants} {
		b, _ := json.Marshal(docs[kind])
		if err := json.Unmarshal(b, into); err != nil {
			t.Fatal(err)
		}
	}
	r.estate = e
	r.survey(t)
	r.fence = &fence.Fence{Version: 1, For: model.MustID("mooring:workload/x"), Drafted: created,
		Replaces: []string{"g-1", "g-2"}, Leaves: []model.ID{model.MustID("group/g")},
		Allow: []fence.Allow{
			{Do: []model.PermissionPattern{model.MustPermissionPattern("stow/item:read")},
				Where: []model.PathPattern{model.MustPathPattern("/mooring/harbour:t/berth:p/box:b/**")}},
			{Role: "look-into-boxes",
				Where: []model.PathPattern{model.MustPathPattern("/mooring/harbour:t/berth:p/box:b/**")}},
		}}
	return r
}

// survey looks at the estate anew.
func (r *rig) survey(t *testing.T) {
	t.Helper()
	var err error
	if r.index, err = index.Build(r.estate); err != nil {
		t.Fatal(err)
	}
}

// dump is everything that a change can touch, as the source says it.
func (r *rig) dump(t *testing.T) string {
	t.Helper()
	var b strings.Builder
	for _, kind := range []string{sandbox.KindRole, sandbox.KindGrant, sandbox.KindMembership} {
		w, err := r.cloud.World()
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for _, g := range w.Grants {
			ids = append(ids, g.ID)
		}
		for n := range w.Roles {
			ids = append(ids, n)
		}
		for _, m := range w.Memberships {
			ids = append(ids, m.Member+">"+m.Group)
		}
		slices.Sort(ids)
		for _, id := range ids {
			if it, err := r.cloud.Get(kind, id); err == nil {
				b.WriteString(kind + " " + id + " " + it.ETag + " " + string(it.Value) + "\n")
			}
		}
	}
	return b.String()
}

func (r *rig) may(t *testing.T, who, permission string) bool {
	t.Helper()
	return r.mayOn(t, who, permission, "/mooring/harbour:t/berth:p/box:b/o")
}

func (r *rig) mayOn(t *testing.T, who, permission, path string) bool {
	t.Helper()
	w, err := r.cloud.World()
	if err != nil {
		t.Fatal(err)
	}
	return w.Decide(who, permission, path, sandbox.CallContext{Time: time.Now()}).Allowed
}

func (r *rig) plan(t *testing.T) *change.Change {
	t.Helper()
	steps, _, err := change.Plan(t.Context(), r.changer, r.index, r.fence, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return &change.Change{ID: "c-1", Source: "mooring", For: r.fence.For, Steps: steps}
}

// flaky lets only so many changes through and then fails, as a crash would.
type flaky struct {
	source.Changer
	left int
}

var errCrash = errors.New("crash")

func (f *flaky) Do(ctx context.Context, s source.Step) error {
	if f.left == 0 {
		return errCrash
	}
	f.left--
	return f.Changer.Do(ctx, s)
}

// TestChangeAndUndo is law 6, with a crash before every step: whatever was done,
// resuming finishes the change and undoing leaves the source as it was, byte for
// byte, ETags and all. The work is allowed at every moment.
func TestChangeAndUndo(t *testing.T) {
	steps := len(newRig(t).plan(t).Steps)
	for crash := 0; crash <= steps; crash++ {
		for _, resume := range []bool{true, false} {
			r := newRig(t)
			before := r.dump(t)
			c := r.plan(t)
			run := &change.Runner{Changer: &flaky{r.changer, crash}, Ledger: r.ledger, Wait: time.Minute,
				Progress: func(int, source.Step, bool) {
					if !r.may(t, "workload/x", "stow/item:read") {
						t.Errorf("crash %d: the work is cut in the middle of the change", crash)
					}
				}}
			err := run.Run(t.Context(), c)
			if (crash < steps) != errors.Is(err, errCrash) {
				t.Fatalf("crash %d: %v", crash, err)
			}
			rec := r.record(t, "c-1")
			if rec.Done != crash || (rec.State == change.StateDone) != (crash == steps) {
				t.Fatalf("crash %d: the ledger says %d steps, %s", crash, rec.Done, rec.State)
			}
			if got, want := r.steps(t), said(crash, steps); !slices.Equal(got, want) {
				t.Fatalf("crash %d: the ledger tells %v, want %v", crash, got, want)
			}
			run.Changer = r.changer
			if resume && crash < steps {
				if err := run.Resume(t.Context(), &rec.Change); err != nil {
					t.Fatalf("crash %d: resuming: %v", crash, err)
				}
			}
			if (resume || crash == steps) && (r.may(t, "workload/x", "stow/item:throw-out") ||
				!r.may(t, "workload/x", "stow/item:read")) {
				t.Fatalf("crash %d: the fence does not stand", crash)
			}
			run.Progress = nil
			if err := run.Run(t.Context(), r.undo(t, "c-1")); err != nil {
				t.Fatalf("crash %d: undoing: %v", crash, err)
			}
			if after := r.dump(t); after != before {
				t.Fatalf("crash %d: undone, but not as it was:\n%s\nwas\n%s", crash, after, before)
			}
			if rec := r.record(t, "c-1"); rec.State != change.StateUndone {
				t.Fatalf("crash %d: the ledger says %s", crash, rec.State)
			}
		}
	}
}

// together does several steps at once, or none, and fails before or after that.
type together struct {
	source.Changer
	crash string
	calls int
}

func (c *together) DoAll(ctx context.Context, steps []source.Step) error {
	c.calls++
	if c.crash == "before" {
		return errCrash
	}
	for _, s := range steps {
		if err := c.Do(ctx, s); err != nil {
			return err
		}
	}
	if c.crash == "after" {
		return errCrash
	}
	return nil
}

// TestAtOnce: of a source that does all steps in one nobody knows, after a crash, whether it did them. Whatever it
// was, resuming finishes the change and undoing leaves the source as it was.
func TestAtOnce(t *testing.T) {
	for _, crash := range []string{"", "before", "after"} {
		for _, resume := range []bool{true, false} {
			r := newRig(t)
			before := r.dump(t)
			c := r.plan(t)
			all, told := &together{r.changer, crash, 0}, 0
			run := &change.Runner{Changer: all, Ledger: r.ledger, Wait: time.Minute,
				Progress: func(_ int, _ source.Step, done bool) {
					if done {
						told++
					}
				}}
			n := len(c.Steps)
			if err := run.Run(t.Context(), c); (crash != "") != errors.Is(err, errCrash) {
				t.Fatalf("%q: %v", crash, err)
			}
			rec := r.record(t, "c-1")
			want := []string{fmt.Sprintf("c-1 %d doing", n)}
			if crash == "" {
				want = append(want, fmt.Sprintf("c-1 %d done", n))
			}
			if got := r.steps(t); !slices.Equal(got, want) || all.calls != 1 || rec.Begun != n ||
				rec.Done != map[bool]int{true: n}[crash == ""] || told != rec.Done {
				t.Fatalf("%q: the ledger tells %v; %d begun, %d done, %d told, in %d", crash, got, rec.Begun, rec.Done,
					told, all.calls)
			}
			all.crash = ""
			if resume && crash != "" {
				if err := run.Resume(t.Context(), &rec.Change); err != nil {
					t.Fatalf("%q: resuming: %v", crash, err)
				}
			}
			if stands := resume || crash != "before"; r.may(t, "workload/x", "stow/item:throw-out") == stands ||
				!r.may(t, "workload/x", "stow/item:read") {
				t.Fatalf("%q: the fence does not stand, or does", crash)
			}
			if err := run.Run(t.Context(), r.undo(t, "c-1")); err != nil {
				t.Fatalf("%q: undoing: %v", crash, err)
			}
			if after := r.dump(t); after != before {
				t.Fatalf("%q, resumed %t: undone, but not as it was:\n%s\nwas\n%s", crash, resume, after, before)
			}
			if rec := r.record(t, "c-1"); rec.State != change.StateUndone {
				t.Fatalf("%q: the ledger says %s", crash, rec.State)
			}
		}
	}
	// What somebody else took before any of it was done cannot be told from what it did, and is put back.
	r := newRig(t)
	before, c, all := r.dump(t), r.plan(t), &together{r.changer, "before", 0}
	run := &change.Runner{Changer: all, Ledger: r.ledger, Wait: time.Minute}
	if err := run.Run(t.Context(), c); !errors.Is(err, errCrash) {
		t.Fatal(err)
	}
	other := c.Steps[len(c.Steps)-1]
	if other.After != nil || other.Kind == source.Roles {
		t.Fatalf("the last step is %+v", other)
	}
	other.Sentence = ""
	if err := r.changer.Do(t.Context(), other); err != nil {
		t.Fatal(err)
	}
	all.crash = ""
	if err := run.Run(t.Context(), r.undo(t, "c-1")); err != nil {
		t.Fatal(err)
	}
	lines := func(s string) int { return strings.Count(s, "\n") }
	if got := r.dump(t); lines(got) != lines(before) {
		t.Errorf("undone, but not as it was:\n%s\nwas\n%s", got, before)
	}
}

// TestLeftAlone: of a change that came to its second step nothing is taken back but what was begun, whatever others
// did to the rest; and what was made before must stand when the rest is done at once.
func TestLeftAlone(t *testing.T) {
	begun := func() (*rig, *change.Change, *change.Runner) {
		r := newRig(t)
		c := r.plan(t)
		run := &change.Runner{Changer: &flaky{r.changer, 1}, Ledger: r.ledger, Wait: time.Minute}
		if err := run.Run(t.Context(), c); !errors.Is(err, errCrash) {
			t.Fatal(err)
		}
		return r, c, run
	}
	takes := func(r *rig, s source.Step) {
		t.Helper()
		d, err := r.changer.Get(t.Context(), s.Kind, s.ID)
		if err == nil {
			err = r.changer.Do(t.Context(), source.Step{Kind: s.Kind, ID: s.ID, Before: d.Body})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	r, c, run := begun()
	last := c.Steps[len(c.Steps)-1]
	takes(r, last)
	u := r.undo(t, "c-1")
	for _, e := range u.Edits() {
		if e.ID != c.Steps[0].ID && e.ID != c.Steps[1].ID {
			t.Errorf("taken back though it was not begun: %+v", e)
		}
	}
	run.Changer = r.changer
	if err := run.Run(t.Context(), u); err != nil {
		t.Fatal(err)
	}
	if _, err := r.changer.Get(t.Context(), last.Kind, last.ID); !errors.Is(err, source.ErrGone) {
		t.Errorf("what somebody else took is put back: %v", err)
	}

	r, c, run = begun()
	takes(r, c.Steps[0])
	all := &together{r.changer, "", 0}
	run.Changer = all
	rec := r.record(t, "c-1")
	err := run.Resume(t.Context(), &rec.Change)
	if !errors.Is(err, source.ErrConflict) || !strings.Contains(err.Error(), "is no longer as it was made") {
		t.Errorf("what was made is gone: %v", err)
	}
	if all.calls != 0 || !r.may(t, "workload/x", "stow/item:throw-out") {
		t.Error("something was taken away")
	}
}

// steps is what the ledger tells of steps, in order.
func (r *rig) steps(t *testing.T) (out []string) {
	t.Helper()
	entries, err := r.ledger.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range ledger.ByKind(entries, "change.step") {
		var s struct {
			Change, State string
			Step          int
		}
		if err := json.Unmarshal(e.Body, &s); err != nil {
			t.Fatal(err)
		}
		out = append(out, fmt.Sprint(s.Change, " ", s.Step, " ", s.State))
	}
	return out
}

// said is what a ledger tells of a change of which so many steps were done: each is said before it
// is done and after.
func said(done, of int) (out []string) {
	for i := range min(done+1, of) {
		out = append(out, fmt.Sprintf("c-1 %d doing", i+1))
		if i < done {
			out = append(out, fmt.Sprintf("c-1 %d done", i+1))
		}
	}
	return out
}

// undo plans what takes a change back.
func (r *rig) undo(t *testing.T, id string) *change.Change {
	t.Helper()
	steps, edits, err := change.PlanUndo(t.Context(), r.changer, r.record(t, id))
	if err != nil {
		t.Fatal(err)
	}
	u := &change.Change{Source: "mooring", Undoes: id}
	u.Set(steps, edits)
	return u
}

func (r *rig) record(t *testing.T, id string) *change.Record {
	t.Helper()
	entries, err := r.ledger.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	h, err := change.History(entries)
	if err != nil {
		t.Fatal(err)
	}
	rec, err := change.Find(h, id)
	if err != nil {
		t.Fatal(err)
	}
	return rec
}

// TestTroubles makes the change through a source that answers late, refuses and
// cuts the line.
func TestTroubles(t *testing.T) {
	for name, f := range map[string]sandbox.Faults{
		"late":     {VisibleAfterMS: 150},
		"drops":    {Every: 3, Kind: "drop"},
		"errors":   {Every: 3, Kind: "500"},
		"all told": {Queue: []string{"500", "ok", "drop", "ok", "drop", "500"}, VisibleAfterMS: 60},
	} {
		r := newRig(t)
		before := r.dump(t)
		c := r.plan(t)
		r.cloud.SetFaults(f)
		run := &change.Runner{Changer: r.changer, Ledger: r.ledger, Wait: time.Minute}
		if err := run.Run(t.Context(), c); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if r.may(t, "workload/x", "stow/item:throw-out") || !r.may(t, "workload/x", "stow/item:read") {
			t.Errorf("%s: said to be visible, and is not", name)
		}
		if err := run.Run(t.Context(), r.undo(t, "c-1")); err != nil {
			t.Errorf("%s: undoing: %v", name, err)
		}
		if after := r.dump(t); after != before {
			t.Errorf("%s: not as it was:\n%s\nwas\n%s", name, after, before)
		}
	}
	// What never becomes visible is told, and stays resumable.
	r := newRig(t)
	c := r.plan(t)
	r.cloud.SetFaults(sandbox.Faults{VisibleAfterMS: 60_000})
	err := (&change.Runner{Changer: r.changer, Ledger: r.ledger, Wait: 200 * time.Millisecond}).Run(t.Context(), c)
	if !errors.Is(err, change.ErrUnconfirmed) || r.record(t, "c-1").State != change.StateFailed {
		t.Errorf("invisible: %v", err)
	}
}

// TestConcurrentEdit: what somebody else changed meanwhile is not overwritten.
func TestConcurrentEdit(t *testing.T) {
	r := newRig(t)
	c, before := r.plan(t), r.dump(t)
	d, err := r.changer.Get(t.Context(), source.Grants, "g-1")
	if err != nil {
		t.Fatal(err)
	}
	edited := strings.Replace(string(d.Body), "hold-master", "work-the-hold", 1)
	if err := r.changer.Do(t.Context(), source.Step{Kind: source.Grants, ID: "g-1", Before: d.Body,
		After: json.RawMessage(edited)}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := change.Plan(t.Context(), r.changer, r.index, r.fence, time.Now()); !errors.Is(err,
		source.ErrConflict) {
		t.Errorf("planning on a grant that changed since the survey: %v", err)
	}
	run := &change.Runner{Changer: r.changer, Ledger: r.ledger, Wait: 300 * time.Millisecond}
	if err := run.Run(t.Context(), c); !errors.Is(err, source.ErrConflict) {
		t.Errorf("carrying out: %v", err)
	}
	if d, err := r.changer.Get(t.Context(), source.Grants, "g-1"); err != nil ||
		!strings.Contains(string(d.Body), "work-the-hold") {
		t.Errorf("the edit is lost: %s, %v", d.Body, err)
	}
	// The undo takes our own part back and leaves the edit.
	if err := run.Run(t.Context(), r.undo(t, "c-1")); err != nil {
		t.Errorf("taking back what was done: %v", err)
	}
	if after := r.dump(t); strings.Count(after, "\n") != strings.Count(before, "\n") ||
		!strings.Contains(after, edited) {
		t.Errorf("it is now\n%s\nwas\n%s", after, before)
	}
}

func TestGuards(t *testing.T) {
	now := time.Now()
	for _, tt := range []struct {
		name string
		bend func(*change.GuardInput)
		want string
	}{
		{"fine", func(*change.GuardInput) {}, ""},
		{"protected", func(in *change.GuardInput) {
			in.Protected = map[model.ID]bool{model.MustID(
				"workload/x"): true}
		}, "is protected"},
		{"break-glass", func(in *change.GuardInput) {
			d := access.Edit{Come: access.Come{Identities: []model.Identity{{ID: model.MustID("workload/x"),
				Labels: map[string]string{"purpose": "break-glass"}}}}}
			var err error
			if in.Index, err = in.Index.With(d); err != nil {
				t.Fatal(err)
			}
		}, "kept for emergencies"},
		{"ourselves", func(in *change.GuardInput) { in.Self = []model.ID{model.MustID("workload/x")} },
			"this tool itself works as"},
		{"our group", func(in *change.GuardInput) {
			in.Fence.For, in.Fence.Replaces = model.MustID("mooring:group/g"), nil
			in.Self = []model.ID{model.MustID("workload/x")}
		}, "this tool itself works as"},
		{"group of a protected one", func(in *change.GuardInput) {
			in.Fence.For = model.MustID("mooring:group/g")
			in.Protected = map[model.ID]bool{model.MustID("workload/x"): true}
		}, "is a member of group/g, and protected"},
		{"stale", func(in *change.GuardInput) { in.Surveyed = now.Add(-25 * time.Hour) }, "the survey is 25h old"},
		{"wider", func(in *change.GuardInput) { in.Rehearsal.Widened = make([]rehearse.Widening, 2) },
			"2 lines allow more"},
		{"breaks", func(in *change.GuardInput) { in.Rehearsal.Broken = []rehearse.Break{{}, {GivenUp: true}} },
			"1 uses would break"},
		{"what the source cannot say", func(in *change.GuardInput) {
			in.Rehearsal.Cannot = []string{"line 1 of allow: no hours", "line 2"}
		}, "the source cannot say 2 lines: line 1 of allow: no hours"},
		{"another grant", func(in *change.GuardInput) { in.Rehearsal.Changed = []string{"g is not what it was"} },
			"not what it was"},
		{"a greater risk", func(in *change.GuardInput) { in.Rehearsal.Riskier = "its risk grew" }, "its risk grew"},
		{"perhaps used", func(in *change.GuardInput) { in.Rehearsal.Unplaced = make([]rehearse.Unplaced, 3) },
			"3 uses are not placed"},
		{"perhaps used, and accepted", func(in *change.GuardInput) {
			in.Rehearsal.Unplaced, in.Rehearsal.Accepted = make([]rehearse.Unplaced, 3), true
		}, ""},
		{"surveyed tomorrow", func(in *change.GuardInput) { in.Surveyed = now.Add(24 * time.Hour) },
			"which is to come"},
	} {
		r := newRig(t)
		in := change.GuardInput{Index: r.index, Fence: r.fence, Rehearsal: &rehearse.Result{},
			Self: []model.ID{model.MustID("workload/fence")}, Surveyed: now, MaxAge: 24 * time.Hour, Now: now}
		tt.bend(&in)
		got := change.Guards(in)
		if tt.want == "" && len(got) > 0 || tt.want != "" && !strings.Contains(strings.Join(got, "\n"), tt.want) {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
	r := newRig(t)
	res, err := rehearse.Run(r.index, r.fence, nil, nil, gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	if len(res.Widened) != 0 {
		t.Errorf("the rig's fence widens: %v", res.Widened)
	}
}

// TestElevationCloses is law 8: after its time, after a close, and after a crash
// at any point of opening or closing followed by one round of the patrol, nothing
// of an elevation is left.
func TestElevationCloses(t *testing.T) {
	policy := &gate.Policy{Version: 1, Name: "g", Source: "mooring",
		Opens: gate.Opens{Role: "hold-master",
			Where: []model.PathPattern{model.MustPathPattern("/mooring/harbour:t/**")}},
		MayAsk: []model.ID{model.MustID("person/asker")}, Longest: model.Duration(time.Hour)}
	anybody := func(model.ID, []model.ID) bool { return true }
	for fail := 0; fail <= 14; fail++ {
		for _, closing := range []bool{false, true} {
			r := newRig(t)
			now := time.Now()
			var broken patrol.Requests = &r.gates
			calls := 0
			dying := &dyingRequests{Requests: &r.gates, die: func() bool { calls++; return calls > fail }}
			k := &patrol.Keeper{Requests: dying, Ledger: r.ledger, Now: func() time.Time { return now },
				Wait: time.Minute,
				Changer: func(context.Context, string) (source.Changer,
					error) {
					return &dyingChanger{r.changer, dying}, nil
				}}
			asker := model.MustID("person/asker")
			q, err := gate.Ask(policy, gate.Wanted{ID: "q-1", Workspace: "0123456789abcdef", By: asker, Subject: asker,
				Rights: []model.Permission{model.MustPermission("stow/item:throw-out")},
				Stay:   30 * time.Minute, Reason: "why not", At: now}, anybody)
			if err != nil {
				t.Fatal(err)
			}
			k.Requests = broken
			if err := k.Save(t.Context(), q, "asked", ""); err != nil {
				t.Fatal(err)
			}
			k.Requests = dying
			opened := k.Open(t.Context(), q, now)
			if opened == nil && !r.may(t, "person/asker", "stow/item:throw-out") {
				t.Fatalf("fail %d: said to be open, and is not", fail)
			}
			if closing && opened == nil {
				_ = k.Close(t.Context(), q, "test")
			} else if !closing {
				now = now.Add(31 * time.Minute)
			}
			// The process is gone; a patrol comes by.
			k.Requests = broken
			k.Changer = func(context.Context, string) (source.Changer, error) { return r.changer, nil }
			if closing {
				now = now.Add(31 * time.Minute)
			}
			if _, err := k.Once(t.Context()); err != nil {
				t.Fatalf("fail %d: patrol: %v", fail, err)
			}
			if _, err := r.cloud.Get(sandbox.KindGrant, q.GrantID()); !errors.Is(err, sandbox.ErrNotFound) {
				t.Fatalf("fail %d, closing %t: something is left (%v)", fail, closing, opened)
			}
		}
	}
}

// dyingRequests and dyingChanger stop working, both at once, after some calls.
type dyingRequests struct {
	patrol.Requests
	die func() bool
}

func (d *dyingRequests) PutGate(p ledger.Page, id string, b []byte, version int64) error {
	if d.die() {
		return errCrash
	}
	return d.Requests.PutGate(p, id, b, version)
}

type dyingChanger struct {
	source.Changer
	d *dyingRequests
}

func (c *dyingChanger) Do(ctx context.Context, s source.Step) error {
	if c.d.die() {
		return errCrash
	}
	err := c.Changer.Do(ctx, s)
	if err == nil && c.d.die() { // done there, and nobody heard of it here
		return errCrash
	}
	return err
}

func (c *dyingChanger) Get(ctx context.Context, kind, id string) (source.Document, error) {
	if c.d.die() {
		return source.Document{}, errCrash
	}
	return c.Changer.Get(ctx, kind, id)
}

// TestChangeOfBefore: the ledger of an earlier version is read as it is, and its
// documents are in the words of now, so that an old change can be undone.
func TestChangeOfBefore(t *testing.T) {
	body := `{"id":"c-1","source":"m","for":"m:workload/x","steps":[{"kind":"grants","id":"g","before":{"id":"g","to":"workload/x","role":"r","on":["/m/**"],"side":"identity"}},
		{"kind":"log-settings","id":"/m","before":{"node":"/m","logs":[{"service":"a","log_class":"b","on":false}]},"after":{"node":"/m","logs":[{"service":"a","log_class":"b","on":true}]}},
		{"kind":"roles","id":"r","after":{"name":"r","do":["a/b:c"]}}]}`
	h, err := change.History([]ledger.Entry{{Number: 1, Kind: "change.begin", Body: []byte(body)}})
	if err != nil || len(h) != 1 {
		t.Fatal(h, err)
	}
	got, err := json.Marshal(h[0].Steps)
	want := `[{"kind":"grants","id":"g","before":{"id":"g","kept_with":"holder","role":"r","to":"workload/x","where":["/m/**"]}},` +
		`{"kind":"log-settings","id":"/m","before":{"logs":[{"log_class":"b","service":"a","written":false}],"node":"/m"},"after":{"logs":[{"log_class":"b","service":"a","written":true}],"node":"/m"}},` +
		`{"kind":"roles","id":"r","after":{"name":"r","do":["a/b:c"]}}]`
	if err != nil || string(got) != want {
		t.Errorf("steps\n%s, %v, want\n%s", got, err, want)
	}
	for _, bad := range []string{`{"id":"c-1","format":3,"steps":[]}`,
		`{"id":"c-1","steps":[{"kind":"grants","id":"g","before":[1]}]}`} {
		if _, err := change.History([]ledger.Entry{{Number: 1, Kind: "change.begin",
			Body: []byte(bad)}}); !errors.Is(err, ledger.ErrBroken) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// TestEdited: where steps and records are the same, what is left of a change is what becomes of those of the
// steps from one on; where a step may be about several records, all of them.
func TestEdited(t *testing.T) {
	step := func(id string) source.Step { return source.Step{Kind: source.Grants, ID: id} }
	ids := func(list []source.Edited) string {
		var out []string
		for _, e := range list {
			out = append(out, e.ID)
		}
		return strings.Join(out, " ")
	}
	plain := &change.Change{Steps: []source.Step{step("a"), step("b"), step("c")}}
	native := &change.Change{Steps: []source.Step{step("x"), step("y")},
		Records: []source.Edited{{ID: "a"}, {ID: "b"}, {ID: "c"}}}
	for _, tt := range []struct {
		c    *change.Change
		from int
		want string
	}{{plain, 0, "a b c"}, {plain, 1, "b c"}, {plain, 3, ""}, {native, 0, "a b c"}, {native, 1, "a b c"},
		{native, 2, "a b c"}} {
		if got := ids(tt.c.Left(tt.from)); got != tt.want {
			t.Errorf("left from %d of %d steps: %q, want %q", tt.from, len(tt.c.Steps), got, tt.want)
		}
		if got := ids(tt.c.Edits()); got != "a b c" {
			t.Errorf("edits: %q", got)
		}
	}
}

// TestMayUndo: what stands in the way of taking the first of some changes back.
func TestMayUndo(t *testing.T) {
	on := func(ids ...string) (out []source.Step) {
		for _, id := range ids {
			out = append(out, source.Step{Kind: source.Grants, ID: id})
		}
		return out
	}
	record := func(id, src, state string, done int, undoes string, steps []source.Step) *change.Record {
		return &change.Record{Change: change.Change{ID: id, Source: src, Undoes: undoes, Steps: steps}, State: state,
			Done: done}
	}
	first := record("c-1", "s", change.StateDone, 1, "", on("a"))
	edits := func(r *change.Record, doc, id string) *change.Record { // a record in a document of that name
		c := change.Change{ID: r.ID, Source: r.Source}
		c.Set(on(doc), []source.Edited{{Kind: source.Grants, ID: id, Before: []byte(`{"id":"was"}`)}})
		return &change.Record{Change: c, State: r.State, Done: r.Done}
	}
	for _, tt := range []struct {
		name    string
		history []*change.Record
		says    string // "": it may be
	}{
		{"nothing came after", []*change.Record{first}, ""},
		{"undone", []*change.Record{record("c-1", "s", change.StateUndone, 1, "", on("a"))}, "undone already"},
		{"its undoing broke off", []*change.Record{first, record("c-2", "s", change.StateFailed, 0, "c-1", on("a"))},
			"has begun"},
		{"another on the same grant", []*change.Record{first,
			record("c-2", "s", change.StateDone, 1, "", on("b", "a"))},
			"take back c-2 first"},
		{"another that broke off in the midst",
			[]*change.Record{first, record("c-2", "s", change.StateFailed, 1, "", on("a"))}, "take back c-2 first"},
		{"another that failed before it did anything",
			[]*change.Record{first, record("c-2", "s", change.StateFailed, 0, "", on("a"))}, ""},
		{"another that is handed over", []*change.Record{first,
			record("c-2", "s", change.StateHanded, 0, "", on("a"))},
			"take back c-2 first"},
		{"another on the same record, in another document", []*change.Record{edits(first, "a", "x"),
			edits(record("c-2", "s", change.StateDone, 1, "", on("b")), "b", "x")}, "take back c-2 first"},
		{"another on the same document, and another record", []*change.Record{edits(first, "a", "x"),
			edits(record("c-2", "s", change.StateDone, 1, "", on("a")), "a", "y")}, ""},
		{"another on the same document, of which one knows no records", []*change.Record{first,
			edits(record("c-2", "s", change.StateDone, 1, "", on("a")), "a", "y")}, "take back c-2 first"},
		{"and the other way round", []*change.Record{edits(first, "a", "x"),
			record("c-2", "s", change.StateDone, 1, "", on("a"))}, "take back c-2 first"},
		{"another that is undone", []*change.Record{first, record("c-2", "s", change.StateUndone, 1, "", on("a"))},
			""},
		{"another grant", []*change.Record{first, record("c-2", "s", change.StateDone, 1, "", on("b"))}, ""},
		{"another source", []*change.Record{first, record("c-2", "t", change.StateDone, 1, "", on("a"))}, ""},
		{"one of before", []*change.Record{record("c-0", "s", change.StateDone, 1, "", on("a")), first}, ""},
	} {
		err := change.MayUndo(tt.history, "c-1")
		if tt.says == "" && err != nil || tt.says != "" && (!errors.Is(err, change.ErrGuard) ||
			!strings.Contains(err.Error(), tt.says)) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.says)
		}
	}
	if err := change.MayUndo(nil, "c-9"); !errors.Is(err, change.ErrUnknown) {
		t.Errorf("of none: %v", err)
	}
}
