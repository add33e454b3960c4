package change_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
)

// town is an estate in memory that is a source at the same time: every document is what the
// estate says.
type town struct {
	mu   sync.Mutex
	e    model.Estate
	stop func(s source.Step) // before a step is done
}

func (c *town) Check(context.Context) ([]source.Right, error) { return nil, nil }
func (c *town) Self(context.Context) (model.ID, error)        { return model.MustID("workload/fence"), nil }
func (c *town) Planner() source.Planner                       { return documents.Planner{} }
func (c *town) Peer(context.Context) (source.Peer, error)     { return source.Peer{ID: "town"}, nil }

func (c *town) document(kind, id string) json.RawMessage {
	var v any
	switch kind {
	case source.Grants:
		if i := slices.IndexFunc(c.e.Grants, func(g model.Grant) bool { return g.ID == id }); i >= 0 {
			v = c.e.Grants[i]
		}
	case source.Roles:
		if i := slices.IndexFunc(c.e.Roles, func(r model.Role) bool { return r.Name == id }); i >= 0 {
			v = c.e.Roles[i]
		}
	case source.Memberships:
		if i := slices.IndexFunc(c.e.Memberships, func(m model.Membership) bool {
			return m.Member.String()+">"+
				m.Group.String() == id
		}); i >= 0 {
			v = c.e.Memberships[i]
		}
	case source.Denials:
		if i := slices.IndexFunc(c.e.Denials, func(d model.Denial) bool { return d.ID == id }); i >= 0 {
			v = c.e.Denials[i]
		}
	}
	if v == nil {
		return nil
	}
	b, _ := json.Marshal(v)
	return b
}

func (c *town) Get(_ context.Context, kind, id string) (source.Document, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if b := c.document(kind, id); b != nil {
		return source.Document{Body: b}, nil
	}
	return source.Document{}, source.ErrGone
}

func (c *town) Do(_ context.Context, s source.Step) error {
	if c.stop != nil {
		c.stop(s)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.document(s.Kind, s.ID)
	if string(now) == string(s.After) {
		return nil
	}
	if string(now) != string(s.Before) {
		return source.ErrConflict
	}
	d, err := change.Edit([]source.Edited{{Kind: s.Kind, ID: s.ID, Before: s.Before, After: s.After}})
	if err == nil {
		c.e = *d.Apply(&c.e)
	}
	return err
}

func (c *town) read(context.Context) (*index.Index, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.e
	e.Grants, e.Roles, e.Memberships, e.Identities = slices.Clone(e.Grants), slices.Clone(e.Roles),
		slices.Clone(e.Memberships), slices.Clone(e.Identities)
	e.Denials = slices.Clone(e.Denials)
	return index.Build(&e)
}

func newTown() *town {
	p := func(s string) model.Path { return model.MustPath(s) }
	c := &town{e: model.Estate{Source: "t",
		Catalogue: []model.CatalogueEntry{
			{Permission: model.MustPermission("hall/grant:give"), Level: model.HandOut, Escalates: model.EditGrants,
				Kinds: []string{"quarter", "house"}},
			{Permission: model.MustPermission("hall/shelf:share"), Level: model.HandOut, Escalates: model.EditGrants,
				Kinds: []string{"shelf"}},
			{Permission: model.MustPermission("hall/shelf:read"), Level: model.Read},
		},
		Nodes: []model.Node{{Path: p("/t")}, {Path: p("/t/quarter:a")}, {Path: p("/t/quarter:a/house:1")},
			{Path: p("/t/quarter:a/house:1/shelf:s")}, {Path: p("/t/quarter:b")}},
	}}
	for _, id := range []string{"person/ann", "person/bo", "person/cy", "workload/fence", "workload/job",
		"group/lords"} {
		c.e.Identities = append(c.e.Identities, model.Identity{ID: model.MustID(id)})
	}
	return c
}

func (c *town) grant(id, to, do, where string, when model.Condition) {
	c.e.Grants = append(c.e.Grants, model.Grant{ID: id, To: model.MustID(to),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(do)}},
		Where:  []model.PathPattern{model.MustPathPattern(where)}, When: when})
}

func (c *town) remove(kind, id string) source.Step {
	return source.Step{Kind: kind, ID: id, Before: c.document(kind, id)}
}

func newRunner(t *testing.T, c *town) *change.Runner {
	t.Helper()
	return &change.Runner{Changer: c, Wait: time.Minute, Estate: c.read,
		Self: []model.ID{model.MustID("workload/fence")},
		Ledger: &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Book: &ledgertest.Memory{},
			Now: time.Now, By: "test"}}
}

// TestLastSteward: whoever is left must be a person, unaided, without a condition, there,
// and by a right that is one there.
func TestLastSteward(t *testing.T) {
	for _, tt := range []struct {
		name  string
		other func(c *town) // who else is there, besides ann who loses g-1
		want  string        // a node that is named; "": it may go
	}{
		{"another person", func(c *town) { c.grant("g-2", "person/bo", "hall/*:*", "/t/**", model.Condition{}) }, ""},
		{"nobody", func(*town) {}, "/t/quarter:a"},
		{"the tool itself", func(c *town) { c.grant("g-2", "workload/fence", "hall/*:*", "/t/**", model.Condition{}) },
			"/t/quarter:a"},
		{"a workload", func(c *town) { c.grant("g-2", "workload/job", "hall/*:*", "/t/**", model.Condition{}) },
			"/t/quarter:a"},
		{"somebody who is disabled", func(c *town) {
			c.e.Identities[1].Disabled = true
			c.grant("g-2", "person/bo", "hall/*:*", "/t/**", model.Condition{})
		}, "/t/quarter:a"},
		{"a holder of one shelf's sharing right", func(c *town) {
			c.grant("g-2", "person/bo", "hall/shelf:share",
				"/t/**", model.Condition{})
		}, "/t/quarter:a"},
		{"under a condition that nobody may meet", func(c *town) {
			c.grant("g-2", "person/bo", "hall/*:*", "/t/**", model.Condition{SecondFactor: true})
		}, "/t/quarter:a"},
		{"for a time", func(c *town) {
			c.grant("g-2", "person/bo", "hall/*:*", "/t/**", model.Condition{Until: time.Now().Add(time.Hour)})
		}, "/t/quarter:a"},
		{"elsewhere in the tree", func(c *town) {
			c.grant("g-2", "person/bo", "hall/*:*", "/t/quarter:b/**",
				model.Condition{})
		}, "/t/quarter:a"},
		{"everywhere but on a shelf", func(c *town) {
			c.grant("g-2", "person/bo", "hall/grant:give", "/t/**",
				model.Condition{})
		}, "/t/quarter:a/house:1/shelf:s"},
		{"under a denial", func(c *town) {
			c.grant("g-2", "person/bo", "hall/*:*", "/t/**", model.Condition{})
			c.e.Denials = []model.Denial{{ID: "d", To: []model.ID{model.MustID("person/bo")},
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("hall/grant:give")}},
				Where:  []model.PathPattern{model.MustPathPattern("/t/quarter:a/**")}}}
		}, "/t/quarter:a"},
		{"by a group", func(c *town) {
			c.e.Memberships = []model.Membership{{Member: model.MustID("person/bo"),
				Group: model.MustID("group/lords")}}
			c.grant("g-2", "group/lords", "hall/*:*", "/t/**", model.Condition{})
		}, ""},
		{"by a group of nobody", func(c *town) {
			c.grant("g-2", "group/lords", "hall/*:*", "/t/**",
				model.Condition{})
		}, "/t/quarter:a"},
	} {
		c := newTown()
		c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
		tt.other(c)
		err := newRunner(t, c).Run(t.Context(), &change.Change{Source: "t",
			Steps: []source.Step{c.remove(source.Grants, "g-1")}})
		if tt.want == "" && err != nil || tt.want != "" &&
			(!errors.Is(err, change.ErrGuard) || !strings.Contains(err.Error(), tt.want+" any more")) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
		if still := c.document(source.Grants, "g-1") != nil; still != (tt.want != "") {
			t.Errorf("%s: the grant is there: %t", tt.name, still)
		}
	}
}

// TestStepGuards: an undo, a resumed change and a mending are held to the guards, whatever
// their steps are.
func TestStepGuards(t *testing.T) {
	for _, tt := range []struct {
		name  string
		steps func(c *town) []source.Step
		guard func(r *change.Runner)
		want  string
	}{
		{"a grant of a protected one", func(c *town) []source.Step {
			return []source.Step{c.remove(source.Grants,
				"g-2")}
		}, func(r *change.Runner) {
			r.Protected = map[model.ID]bool{model.MustID("person/bo"): true}
		}, "person/bo is protected"},
		{"a group of a protected one", func(c *town) []source.Step {
			return []source.Step{c.remove(source.Grants,
				"g-3")}
		}, func(r *change.Runner) {
			r.Protected = map[model.ID]bool{model.MustID("person/cy"): true}
		}, "person/cy is protected"},
		{"a membership of a protected one", func(c *town) []source.Step {
			return []source.Step{c.remove(source.Memberships, "person/cy>group/lords")}
		}, func(r *change.Runner) {
			r.Protected = map[model.ID]bool{model.MustID("person/cy"): true}
		}, "person/cy is protected"},
		{"a role that a protected one holds, by another",
			func(c *town) []source.Step {
				return []source.Step{c.remove(source.Roles,
					"inner")}
			}, func(r *change.Runner) {
				r.Protected = map[model.ID]bool{model.MustID("person/bo"): true}
			}, "person/bo is protected"},
		{"the tool's own rights", func(c *town) []source.Step { return []source.Step{c.remove(source.Grants, "g-4")} },
			func(*change.Runner) {}, "this tool itself works as"},
		{"a right for the tool", func(*town) []source.Step {
			return []source.Step{{Kind: source.Grants, ID: "g-9",
				After: json.RawMessage(`{"id":"g-9","to":"workload/fence","do":["hall/*:*"],"where":["/t/**"]}`)}}
		}, func(*change.Runner) {}, "this tool itself works as"},
		{"a document that is not changed here", func(*town) []source.Step {
			return []source.Step{{Kind: source.Ceilings, ID: "d", After: json.RawMessage(`{}`)}}
		}, func(*change.Runner) {}, "are not changed"},
		{"a role that another's grant gives, and that goes", func(c *town) []source.Step {
			return []source.Step{c.remove(source.Roles, "spare")}
		}, func(*change.Runner) {}, "grant g-6 of workload/job gives role spare"},
		{"one that is edited", func(c *town) []source.Step {
			s := c.remove(source.Roles, "spare")
			s.After, _ = json.Marshal(model.Role{Name: "spare",
				Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("hall/grant:give")}}})
			return []source.Step{s}
		}, func(*change.Runner) {}, ""},
		{"nobody's", func(c *town) []source.Step { return []source.Step{c.remove(source.Grants, "g-5")} },
			func(*change.Runner) {}, ""},
	} {
		c := newTown()
		c.e.Memberships = []model.Membership{{Member: model.MustID("person/cy"), Group: model.MustID("group/lords")}}
		c.e.Roles = []model.Role{{Name: "outer", Includes: []string{"inner"}},
			{Name: "spare", Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(
				"hall/shelf:read")}}},
			{Name: "inner", Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(
				"hall/shelf:read")}}}}
		c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
		c.grant("g-2", "person/bo", "hall/shelf:read", "/t/**", model.Condition{})
		c.e.Grants[1].Rights, c.e.Grants[1].Role = model.Rights{}, "outer"
		c.grant("g-3", "group/lords", "hall/shelf:read", "/t/**", model.Condition{})
		c.grant("g-4", "workload/fence", "hall/*:*", "/t/**", model.Condition{})
		c.grant("g-5", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
		c.grant("g-6", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
		c.e.Grants[5].Rights, c.e.Grants[5].Role = model.Rights{}, "spare"
		r := newRunner(t, c)
		tt.guard(r)
		before := fmt.Sprint(c.e)
		err := r.Run(t.Context(), &change.Change{Source: "t", Steps: tt.steps(c)})
		if (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
		if err != nil && fmt.Sprint(c.e) != before {
			t.Errorf("%s: refused, and something was changed", tt.name)
		}
	}
}

// TestOrder: numbers, undos and resumings in an order that would lose something are refused,
// in the transaction that would begin them.
func TestOrder(t *testing.T) {
	c := newTown()
	c.grant("g-1", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	c.grant("g-2", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	r := newRunner(t, c)
	narrow := source.Step{Kind: source.Grants, ID: "g-1", Before: c.document(source.Grants, "g-1"),
		After: json.RawMessage(
			`{"id":"g-1","to":"workload/job","do":["hall/shelf:read"],"where":["/t/quarter:a/**"]}`)}
	one := &change.Change{Source: "t", Steps: []source.Step{narrow}}
	if err := r.Run(t.Context(), one); err != nil || one.ID != "c-1" {
		t.Fatal(one.ID, err)
	}
	narrower := source.Step{Kind: source.Grants, ID: "g-1", Before: c.document(source.Grants, "g-1"),
		After: json.RawMessage(
			`{"id":"g-1","to":"workload/job","do":["hall/shelf:read"],"where":["/t/quarter:a/house:1/**"]}`)}
	two := &change.Change{ID: "c-1", Source: "t", Steps: []source.Step{narrower}} // planned when there was none
	if err := r.Run(t.Context(), two); err != nil || two.ID != "c-2" {
		t.Fatalf("two changes got one number: %s, %v", two.ID, err)
	}
	if err := r.Run(t.Context(), one.Undo("")); !errors.Is(err, change.ErrGuard) ||
		!strings.Contains(err.Error(), "take back c-2 first") {
		t.Errorf("an older change is undone below a newer one: %v", err)
	}
	if err := r.Resume(t.Context(), two); !errors.Is(err, change.ErrGuard) ||
		!strings.Contains(err.Error(), "nothing to resume") {
		t.Errorf("what is done is resumed: %v", err)
	}
	if err := r.Run(t.Context(), two.Undo("")); err != nil {
		t.Fatal(err)
	}
	if err := r.Run(t.Context(), one.Undo("")); err != nil {
		t.Errorf("nothing stands in the way any more: %v", err)
	}
	if err := r.Run(t.Context(), one.Undo("")); !errors.Is(err, change.ErrGuard) ||
		!strings.Contains(err.Error(), "undone already") {
		t.Errorf("undone twice: %v", err)
	}
	// A change breaks off, its undo breaks off, and somebody resumes the change.
	three := &change.Change{Source: "t", Steps: []source.Step{c.remove(source.Grants, "g-1"),
		c.remove(source.Grants, "g-2")}}
	r.Changer = &flaky{c, 1}
	if err := r.Run(t.Context(), three); !errors.Is(err, errCrash) {
		t.Fatal(err)
	}
	r.Changer = &flaky{c, 0}
	if err := r.Run(t.Context(), three.Undo("")); !errors.Is(err, errCrash) {
		t.Fatal(err)
	}
	r.Changer = c
	if err := r.Resume(t.Context(), three); !errors.Is(err, change.ErrGuard) ||
		!strings.Contains(err.Error(), "has begun") {
		t.Errorf("resumed below a begun undo: %v", err)
	}
	if err := r.Run(t.Context(), three.Undo("")); !errors.Is(err, change.ErrGuard) ||
		!strings.Contains(err.Error(), "go on with it") {
		t.Errorf("a second undo beside a begun one: %v", err)
	}
}

// leases keeps leases in memory.
type leases struct {
	mu   sync.Mutex
	held map[string][2]string
	end  map[string]time.Time
	lost bool // another took it over
}

func (l *leases) Leased(_ ledger.Page, src string) (string, string, time.Time, bool, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	h, ok := l.held[src]
	return h[0], h[1], l.end[src], ok, nil
}

func (l *leases) Lend(_ ledger.Page, src, holder, what string, until time.Time) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.held[src], l.end[src] = [2]string{holder, what}, until
	return nil
}

func (l *leases) Renew(context.Context, string, string, time.Time) (bool, error) { return !l.lost, nil }

func (l *leases) Release(_ context.Context, src, holder string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held[src][0] == holder {
		delete(l.held, src)
	}
	return nil
}

// TestLeases: one change at a time in a source; that of the dead is taken over.
func TestLeases(t *testing.T) {
	c := newTown()
	c.grant("g-1", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	c.grant("g-2", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	l := &leases{held: map[string][2]string{}, end: map[string]time.Time{}}
	r := newRunner(t, c)
	r.Leases, r.Holder = l, "one"
	other := *r
	other.Holder = "two"
	other.Ledger = r.Ledger
	var inside error
	c.stop = func(source.Step) {
		c.stop = nil
		inside = other.Run(t.Context(), &change.Change{Source: "t",
			Steps: []source.Step{c.remove(source.Grants, "g-2")}})
	}
	if err := r.Run(t.Context(), &change.Change{Source: "t",
		Steps: []source.Step{c.remove(source.Grants, "g-1")}}); err != nil {
		t.Fatal(err)
	}
	if !errors.Is(inside, change.ErrGuard) ||
		!strings.Contains(inside.Error(), "a change is being carried out in t just now, by one") {
		t.Errorf("two at once: %v", inside)
	}
	_ = l.Lend(nil, "t", "one", "c-7", time.Now().Add(time.Hour))
	if err := other.Run(t.Context(), &change.Change{Source: "t",
		Steps: []source.Step{c.remove(source.Grants, "g-2")}}); !errors.Is(err, change.ErrGuard) ||
		!strings.Contains(err.Error(), "c-7 is being carried out in t just now, by one") {
		t.Errorf("beside one that has a name: %v", err)
	}
	_ = l.Release(t.Context(), "t", "one")
	if len(l.held) > 0 {
		t.Errorf("a lease is left: %v", l.held)
	}
	_ = l.Lend(nil, "t", "dead", "c-9", time.Now().Add(time.Hour))
	other.Alive = func(who string) bool { return who != "dead" }
	if err := other.Run(t.Context(), &change.Change{Source: "t",
		Steps: []source.Step{c.remove(source.Grants, "g-2")}}); err != nil {
		t.Errorf("the lease of the dead holds: %v", err)
	}
}

// TestLeaseLost: whoever loses the lease while a step takes long goes on with nothing; and what a change waited
// with is let go of when it is over.
func TestLeaseLost(t *testing.T) {
	for _, lost := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			c := newTown()
			c.grant("g-1", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
			c.grant("g-2", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
			r := newRunner(t, c)
			r.Leases = &leases{held: map[string][2]string{}, end: map[string]time.Time{}, lost: lost}
			r.Holder = "one"
			var ctx context.Context
			r.Changer = watched{c, func(of context.Context) { ctx = of }}
			c.stop = func(source.Step) { time.Sleep(time.Minute) }
			err := r.Run(t.Context(), &change.Change{Source: "t", Steps: []source.Step{
				c.remove(source.Grants, "g-1"), c.remove(source.Grants, "g-2")}})
			if errors.Is(err, change.ErrGuard) != lost || lost != (len(c.e.Grants) > 0) || !lost && err != nil {
				t.Errorf("lost %t: %v, and %d grants are left", lost, err, len(c.e.Grants))
			}
			if ctx == nil || ctx.Err() == nil {
				t.Errorf("lost %t: what was done goes on waiting", lost)
			}
		})
	}
}

// watched is a source that tells with which context it is changed.
type watched struct {
	*town
	tell func(context.Context)
}

func (w watched) Do(ctx context.Context, s source.Step) error {
	w.tell(ctx)
	return w.town.Do(ctx, s)
}

// TestLastWord: of several edits of one record the last counts.
func TestLastWord(t *testing.T) {
	a, b := json.RawMessage(`{"id":"g-1","to":"person/a","role":"r","where":["/t"]}`),
		json.RawMessage(`{"id":"g-1","to":"person/a","role":"s","where":["/t"]}`)
	d, err := change.Edit([]source.Edited{{Kind: source.Grants, ID: "g-1", After: a},
		{Kind: source.Grants, ID: "g-1", Before: a, After: b}, {Kind: source.Grants, ID: "g-2", After: a},
		{Kind: source.Grants, ID: "g-2", Before: a}})
	if err != nil || len(d.Come.Grants) != 1 || d.Come.Grants[0].Role != "s" || !slices.Equal(d.Gone.Grants,
		[]string{"g-2"}) {
		t.Errorf("%+v, %v", d, err)
	}
}

// TestUndoOfDoubt: what may have been done, and is not seen, is taken back as well, beside what was done of
// the same kind.
func TestUndoOfDoubt(t *testing.T) {
	c := newTown()
	c.grant("g-1", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	c.grant("g-2", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	steps := []source.Step{c.remove(source.Grants, "g-1"), c.remove(source.Grants, "g-2")}
	c.e.Grants = c.e.Grants[1:]
	r := &change.Record{Change: change.Change{Source: "t", Steps: steps}, State: change.StateFailed, Done: 1}
	undo, edits, err := change.PlanUndo(t.Context(), c, r)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, s := range undo {
		got = append(got, change.Say(s))
	}
	if want := "add grant g-2, add grant g-1"; strings.Join(got, ", ") != want || len(edits) != 2 {
		t.Errorf("taken back by %q, want %q; %d edits", got, want, len(edits))
	}
}

// TestNotSurveyed: a grant that is in the source and not in the survey that a fence rests on is not replaced.
func TestNotSurveyed(t *testing.T) {
	c := newTown()
	c.grant("g-1", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	x, err := c.read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	c.grant("g-2", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
	for id, want := range map[string]error{"g-1": nil, "g-2": source.ErrGone} {
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("workload/job"), Replaces: []string{id}}
		if _, _, err := change.Plan(t.Context(), c, x, f, time.Now()); !errors.Is(err, want) {
			t.Errorf("replacing %s: %v, want %v", id, err, want)
		}
	}
}

// TestNarrowIsThere: what is broad goes only while what is narrow stands.
func TestNarrowIsThere(t *testing.T) {
	for _, tt := range []struct {
		name    string
		between func(c *town)
		goes    bool
	}{
		{"it stands", func(*town) {}, true},
		{"somebody took it away", func(c *town) { c.e.Grants = c.e.Grants[:1] }, false},
		{"somebody narrowed it more",
			func(c *town) { c.e.Grants[1].Where = []model.PathPattern{model.MustPathPattern("/t/quarter:b/**")} },
			false},
		{"somebody emptied its role", func(c *town) { c.e.Roles[0].Rights = model.Rights{} }, false},
	} {
		c := newTown()
		c.grant("g-1", "workload/job", "hall/*:*", "/t/**", model.Condition{})
		r := newRunner(t, c)
		r.Estate = nil
		steps := []source.Step{
			{Kind: source.Roles, ID: "own", After: json.RawMessage(`{"name":"own","do":["hall/shelf:read"]}`)},
			{Kind: source.Grants, ID: "g-2",
				After: json.RawMessage(`{"id":"g-2","to":"workload/job","role":"own","where":["/t/quarter:a/**"]}`)},
			c.remove(source.Grants, "g-1"),
		}
		r.Progress = func(n int, _ source.Step, done bool) {
			if n == 1 && done {
				tt.between(c)
			}
		}
		err := r.Run(t.Context(), &change.Change{Source: "t", Steps: steps})
		if gone := c.document(source.Grants, "g-1") == nil; gone != tt.goes || tt.goes != (err == nil) || err != nil &&
			!errors.Is(err, source.ErrConflict) {
			t.Errorf("%s: the broad grant is gone: %t, %v", tt.name, gone, err)
		}
	}
}

// TestRoleOfAFence: a role that a fence gives is the one that was rehearsed.
func TestRoleOfAFence(t *testing.T) {
	r := newRig(t)
	d, err := r.changer.Get(t.Context(), source.Roles, "look-into-boxes")
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.estate.Roles { // the survey saw a smaller one
		if r.estate.Roles[i].Name == "look-into-boxes" {
			r.estate.Roles[i].Do = r.estate.Roles[i].Do[:1]
		}
	}
	r.survey(t)
	if _, _, err := change.Plan(t.Context(), r.changer, r.index, r.fence, time.Now()); !errors.Is(err,
		source.ErrConflict) || !strings.Contains(err.Error(), "look-into-boxes") {
		t.Errorf("planned with a role that was swapped (%s): %v", d.Body, err)
	}
}

// TestEveryNodeKeepsOne: random estates, and two changes at once from two workspaces that
// know nothing of each other, their steps in any order: every node on which a person could
// hand out rights is one on which a person can.
func TestEveryNodeKeepsOne(t *testing.T) {
	seed := rand.Uint64()
	rounds := 400
	if testing.Short() {
		rounds = 80
	}
	put := 0
	for n := range rounds {
		r := rand.New(rand.NewPCG(seed, uint64(n)))
		c := newTown()
		people := []string{"person/ann", "person/bo", "person/cy", "group/lords", "workload/job"}
		where := []string{"/t/**", "/t/quarter:a/**", "/t/quarter:b/**", "/t/quarter:a/house:1/**"}
		for i := range 2 + r.IntN(5) {
			when := model.Condition{SecondFactor: r.IntN(5) == 0}
			c.grant(fmt.Sprint("g-", i), people[r.IntN(len(people))],
				[]string{"hall/*:*", "hall/grant:give", "hall/shelf:share"}[r.IntN(3)], where[r.IntN(len(where))],
				when)
		}
		for _, p := range people[:3] {
			if r.IntN(2) == 0 {
				c.e.Memberships = append(c.e.Memberships,
					model.Membership{Member: model.MustID(p), Group: model.MustID("group/lords")})
			}
		}
		had := stewarded(&c.e)
		step := func() source.Step {
			if len(c.e.Memberships) > 0 && r.IntN(3) == 0 {
				m := c.e.Memberships[r.IntN(len(c.e.Memberships))]
				return c.remove(source.Memberships, m.Member.String()+">"+m.Group.String())
			}
			return c.remove(source.Grants, c.e.Grants[r.IntN(len(c.e.Grants))].ID)
		}
		one, two := []source.Step{step()}, []source.Step{step()}
		if n == 0 { // whatever the seed: two who keep the town, and each change takes one away
			c.e.Grants, c.e.Memberships = nil, nil
			c.grant("g-0", "person/ann", "hall/*:*", "/t/**", model.Condition{})
			c.grant("g-1", "person/bo", "hall/*:*", "/t/**", model.Condition{})
			had = stewarded(&c.e)
			one = []source.Step{c.remove(source.Grants, "g-0")}
			two = []source.Step{c.remove(source.Grants, "g-1")}
		}
		var wg sync.WaitGroup
		gap := make(chan struct{})
		arrived := 0
		var mu sync.Mutex
		// Both have decided before either does anything: whoever comes to its first step
		// waits until the other comes to its own, or has ended without one.
		arrive := func() {
			mu.Lock()
			defer mu.Unlock()
			if arrived++; arrived == 2 {
				close(gap)
			}
		}
		c.stop = func(source.Step) {
			arrive()
			<-gap
		}
		for _, steps := range [][]source.Step{one, two} {
			run := newRunner(t, c)
			wg.Go(func() {
				err := run.Run(t.Context(), &change.Change{Source: "t", Steps: steps})
				arrive()
				if err != nil && strings.Contains(err.Error(), "it was put back") {
					mu.Lock()
					put++
					mu.Unlock()
				}
			})
		}
		wg.Wait()
		has := stewarded(&c.e)
		for node := range had {
			if !has[node] {
				t.Fatalf("seed %d, round %d: nobody is left on %s\nwith %+v and %+v", seed, n, node, one, two)
			}
		}
	}
	if put == 0 {
		t.Errorf("seed %d: no two changes ever met; the test proves nothing", seed)
	}
}

// stewarded is the same question asked in the plainest way: of every person and permission.
func stewarded(e *model.Estate) map[string]bool {
	g := plain.New(e)
	out := map[string]bool{}
	for _, n := range e.Nodes {
		kind, _ := n.Path.Last()
		for _, id := range e.Identities {
			for _, entry := range e.Catalogue {
				if id.ID.Kind == model.Person && entry.Escalates == model.EditGrants &&
					slices.Contains(entry.Kinds, kind) &&
					g.Decide(id.ID, entry.Permission, n.Path, model.Context{}).Outcome == access.Allowed {
					out[n.Path.String()] = true
				}
			}
		}
	}
	return maps.Clone(out)
}

// deaf is a town whose answers get lost: what was done is done, and the answer says that it could
// not be.
type deaf struct {
	*town
	says error
}

func (c deaf) Do(ctx context.Context, s source.Step) error {
	if err := c.town.Do(ctx, s); err != nil {
		return err
	}
	return c.says
}

// TestDoneBefore: a source that says that a document is not as it was, or not there, is asked
// whether it is as wanted, since an earlier try may have come through; any other trouble is one.
func TestDoneBefore(t *testing.T) {
	for _, tt := range []struct {
		says error
		ok   bool
	}{{nil, true}, {source.ErrConflict, true}, {fmt.Errorf("gate g-5: %w", source.ErrGone), true},
		{errors.New("out of paper"), false}} {
		c := newTown()
		c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
		c.grant("g-5", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
		r := newRunner(t, c)
		steps := []source.Step{c.remove(source.Grants, "g-5")}
		r.Changer = deaf{c, tt.says}
		told := ""
		r.Progress = func(i int, s source.Step, done bool) { told += fmt.Sprint(i, s.ID, done, " ") }
		if err := r.Run(t.Context(), &change.Change{Source: "t", Steps: steps}); (err == nil) != tt.ok {
			t.Errorf("the source says %v: %v", tt.says, err)
		}
		if want := map[bool]string{true: "0g-5false 0g-5true ", false: "0g-5false "}[tt.ok]; told != want {
			t.Errorf("the source says %v: told %q, want %q", tt.says, told, want)
		}
	}
}

// TestFirst: what must be done before the first step is, and when it fails nothing is changed and
// the change is over.
func TestFirst(t *testing.T) {
	for _, fails := range []bool{false, true} {
		c := newTown()
		c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
		c.grant("g-5", "workload/job", "hall/shelf:read", "/t/**", model.Condition{})
		r := newRunner(t, c)
		said := ""
		r.First = func(is *change.Change) error {
			said += is.ID
			if len(c.e.Grants) != 2 {
				t.Error("a step was done before the first thing")
			}
			if fails {
				return errors.New("no room")
			}
			return nil
		}
		err := r.Run(t.Context(), &change.Change{Source: "t", Steps: []source.Step{c.remove(source.Grants, "g-5")}})
		if (err != nil) != fails || said != "c-1" || (len(c.e.Grants) == 2) != fails {
			t.Errorf("fails %t: %v; said %q, %d grants", fails, err, said, len(c.e.Grants))
		}
	}
}

// TestSharedRole: a role that several lines of a fence share is made once.
func TestSharedRole(t *testing.T) {
	c := newTown()
	c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
	x, err := c.read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	line := func(as, where string) fence.Allow {
		return fence.Allow{As: as, Do: []model.PermissionPattern{model.MustPermissionPattern("hall/shelf:read")},
			Where: []model.PathPattern{model.MustPathPattern(where)}}
	}
	f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("t:person/ann"), Replaces: []string{"g-1"},
		Allow: []fence.Allow{line("readers", "/t/quarter:q/**"), line("readers", "/t/quarter:r/**"),
			line("", "/t/quarter:s/**")}}
	plan, _, err := change.Plan(t.Context(), c, x, f, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, s := range plan {
		kinds[s.Kind]++
	}
	if kinds[source.Roles] != 2 || kinds[source.Grants] != 4 {
		t.Errorf("%v, want two roles, three grants that come and one that goes", kinds)
	}
}
