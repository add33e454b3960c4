package change_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
)

// lists is a source with terms of its own: every node has one list of everything that is granted
// there, in short words, and mints a version with each write. A role is just a name with
// permissions.
type lists struct {
	source.Changer
	docs map[source.Ref]listed
	lost int // so many answers get lost on the way, once it was done
}

// listed is one document.
type listed struct {
	Version int                        `json:"version"`
	May     map[string]json.RawMessage `json:"may,omitempty"` // grants, by name
	Do      []model.PermissionPattern  `json:"do,omitempty"`
	Note    string                     `json:"note,omitempty"` // what no word of the model says
}

var errLost = errors.New("the answer got lost")

func (l *lists) Planner() source.Planner                     { return l }
func (l *lists) Says(*model.Grant) []string                  { return nil }
func (l *lists) Peer(context.Context) (source.Peer, error)   { return source.Peer{ID: "lists"}, nil }
func (l *lists) Self(context.Context) (id model.ID, e error) { return id, nil }

func (l *lists) Get(_ context.Context, kind, id string) (source.Document, error) {
	d, ok := l.docs[source.Ref{Kind: kind, ID: id}]
	if !ok {
		return source.Document{}, source.ErrGone
	}
	b, err := json.Marshal(d)
	return source.Document{Body: b}, err
}

func (l *lists) Do(_ context.Context, s source.Step) error {
	ref := source.Ref{Kind: s.Kind, ID: s.ID}
	now, ok := l.docs[ref]
	var before, after listed
	if s.Before != nil && json.Unmarshal(s.Before, &before) != nil || s.After != nil && json.Unmarshal(s.After,
		&after) != nil {
		return errors.New("no such words")
	}
	switch {
	case ok && s.After != nil && sameButVersion(now, after), !ok && s.After == nil:
		return nil
	case ok != (s.Before != nil), ok && now.Version != before.Version:
		return source.ErrConflict
	case s.After == nil:
		delete(l.docs, ref)
	default:
		after.Version = now.Version + 1
		l.docs[ref] = after
	}
	if l.lost > 0 {
		if l.lost--; l.lost == 0 {
			return errLost
		}
	}
	return nil
}

func sameButVersion(a, b listed) bool {
	a.Version = b.Version
	x, err1 := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err1 == nil && err2 == nil && string(x) == string(y)
}

// at is the document that says a record: of a grant that of its node, which its name begins with.
func at(r source.Ref) source.Ref {
	if r.Kind != source.Grants {
		return r
	}
	return source.Ref{Kind: "list", ID: "/t"}
}

func (l *lists) Record(now map[source.Ref]source.Document, r source.Ref) (json.RawMessage, []source.Ref, error) {
	doc, ok := now[at(r)]
	var d listed
	switch {
	case !ok:
		return nil, []source.Ref{at(r)}, nil
	case doc.Body == nil:
		return nil, nil, nil
	case json.Unmarshal(doc.Body, &d) != nil:
		return nil, nil, errors.New("not a list")
	case r.Kind == source.Grants:
		return d.May[r.ID], nil, nil
	}
	b, err := json.Marshal(model.Role{Name: r.ID, Rights: model.Rights{Do: d.Do}})
	return b, nil, err
}

func (l *lists) Stands(s source.Step, now json.RawMessage) bool {
	var want, is listed
	if s.After == nil || now == nil {
		return s.After == nil && now == nil
	}
	return json.Unmarshal(s.After, &want) == nil && json.Unmarshal(now, &is) == nil && sameButVersion(want, is)
}

func (l *lists) Plan(now map[source.Ref]source.Document, want source.Diff) (p source.Plan, err error) {
	var refs []source.Ref
	for _, r := range want.Put {
		refs = append(refs, source.Ref{Kind: r.Kind, ID: r.ID})
	}
	for _, r := range append(refs, want.Drop...) {
		if _, ok := now[at(r)]; !ok && !slices.Contains(p.Missing, at(r)) {
			p.Missing = append(p.Missing, at(r))
		}
	}
	if p.Missing != nil {
		return p, nil
	}
	edited := map[source.Ref]listed{}
	edit := func(r source.Ref) listed {
		d, ok := edited[at(r)]
		if !ok && now[at(r)].Body != nil {
			err = errors.Join(err, json.Unmarshal(now[at(r)].Body, &d))
		}
		return d
	}
	for _, r := range want.Put {
		ref := source.Ref{Kind: r.Kind, ID: r.ID}
		d := edit(ref)
		switch v := r.Value.(type) {
		case model.Grant:
			d.May = maps.Clone(d.May)
			if d.May == nil {
				d.May = map[string]json.RawMessage{}
			}
			if d.May[r.ID], err = json.Marshal(v); err != nil {
				return p, err
			}
		case model.Role:
			d.Do = v.Do
		default:
			return p, fmt.Errorf("%T has no words", v)
		}
		edited[at(ref)] = d
	}
	// One step a document: roles that come first, then the list, then roles that go.
	var last []source.Step
	step := func(ref source.Ref, d listed) error {
		after, err := json.Marshal(d)
		p.Steps = append(p.Steps, source.Step{Kind: ref.Kind, ID: ref.ID, Before: now[ref].Body, After: after})
		return err
	}
	for _, r := range want.Drop {
		d := edit(r)
		if r.Kind != source.Grants {
			last = append(last, source.Step{Kind: r.Kind, ID: r.ID, Before: now[at(r)].Body})
			continue
		}
		if _, ok := d.May[r.ID]; !ok {
			return p, source.ErrGone
		}
		d.May = maps.Clone(d.May)
		delete(d.May, r.ID)
		edited[at(r)] = d
	}
	for _, ref := range slices.SortedFunc(maps.Keys(edited), func(a, b source.Ref) int {
		return -slices.Compare([]string{a.Kind, a.ID}, []string{b.Kind, b.ID}) // roles before lists
	}) {
		if err := step(ref, edited[ref]); err != nil {
			return p, err
		}
	}
	p.Steps = append(p.Steps, last...)
	return p, err
}

// estate is what the lists say, in the words of the model.
func (l *lists) estate(t *testing.T) *model.Estate {
	t.Helper()
	e := &model.Estate{Source: "t",
		Nodes:      []model.Node{{Path: model.MustPath("/t")}, {Path: model.MustPath("/t/box:a")}},
		Identities: []model.Identity{{ID: model.MustID("person/ann")}, {ID: model.MustID("person/bob")}},
		Catalogue: []model.CatalogueEntry{{Permission: model.MustPermission("s/n:read"), Level: model.Read},
			{Permission: model.MustPermission("s/n:write"), Level: model.Change}}}
	for ref, d := range l.docs {
		if ref.Kind == source.Roles {
			e.Roles = append(e.Roles, model.Role{Name: ref.ID, Rights: model.Rights{Do: d.Do}})
			continue
		}
		for _, b := range d.May {
			var g model.Grant
			if err := json.Unmarshal(b, &g); err != nil {
				t.Fatal(err)
			}
			e.Grants = append(e.Grants, g)
		}
	}
	return e
}

// give puts a grant into the list by another hand.
func (l *lists) give(t *testing.T, g model.Grant) {
	t.Helper()
	b, err := json.Marshal(g)
	if err != nil {
		t.Fatal(err)
	}
	ref := source.Ref{Kind: "list", ID: "/t"}
	d := l.docs[ref]
	d.May = maps.Clone(d.May)
	if d.May == nil {
		d.May = map[string]json.RawMessage{}
	}
	d.May[g.ID] = b
	d.Version++
	l.docs[ref] = d
}

func newLists(t *testing.T) (*lists, *ledger.Ledger, *ledgertest.Memory) {
	l := &lists{docs: map[source.Ref]listed{{Kind: "list", ID: "/t"}: {Version: 7, Note: "kept"}}}
	l.give(t, model.Grant{ID: "old", To: model.MustID("person/ann"),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("s/n:*")}},
		Where:  []model.PathPattern{model.MustPathPattern("/t/**")}})
	mem := &ledgertest.Memory{}
	return l, &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Book: mem, Now: time.Now,
		By: "test"}, mem
}

// TestNativeTerms: a source in which one document says many grants, and adds a version of its own
// to what is written, is changed and put back in its own terms. What others wrote into the same
// document meanwhile stays, and so does what no word of the model says.
func TestNativeTerms(t *testing.T) {
	list := source.Ref{Kind: "list", ID: "/t"}
	for _, lost := range []int{0, 1, 2} { // the answer to one of the steps
		l, book, _ := newLists(t)
		x, err := index.Build(l.estate(t))
		if err != nil {
			t.Fatal(err)
		}
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("t:person/ann"), Replaces: []string{"old"},
			Allow: []fence.Allow{{Do: []model.PermissionPattern{model.MustPermissionPattern("s/n:read")},
				Where: []model.PathPattern{model.MustPathPattern("/t/box:a")}}}}
		steps, edits, err := change.Plan(t.Context(), l, x, f, time.Now())
		if err != nil || len(steps) != 2 || len(edits) != 3 {
			t.Fatalf("%d steps, %d records: %v", len(steps), len(edits), err)
		}
		c := &change.Change{Source: "t", For: f.For}
		c.Set(steps, edits)
		if len(c.Records) != 3 {
			t.Errorf("records %v", c.Records)
		}
		run := &change.Runner{Changer: l, Ledger: book, Wait: time.Second,
			Estate: func(context.Context) (*index.Index, error) { return index.Build(l.estate(t)) }}
		l.lost = lost
		if err := run.Run(t.Context(), c); (lost > 0) != errors.Is(err, errLost) {
			t.Fatalf("lost %d: %v", lost, err)
		}
		record := func() *change.Record {
			entries, err := book.Read(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			h, err := change.History(entries)
			if err != nil {
				t.Fatal(err)
			}
			return h[0]
		}
		if lost == 2 { // going on finds it done
			if err := run.Resume(t.Context(), &record().Change); err != nil {
				t.Fatal(err)
			}
		}
		if d := l.docs[list]; lost != 1 && (len(d.May) != 1 || d.May["old"] != nil || d.Note != "kept") {
			t.Fatalf("lost %d: the list is %+v", lost, d)
		}
		bob := model.Grant{ID: "bob", To: model.MustID("person/bob"), Rights: model.Rights{
			Do: []model.PermissionPattern{model.MustPermissionPattern("s/n:read")}},
			Where: []model.PathPattern{model.MustPathPattern("/t/**")}}
		l.give(t, bob)
		steps, edits, err = change.PlanUndo(t.Context(), l, record())
		if err != nil {
			t.Fatalf("lost %d: %v", lost, err)
		}
		u := &change.Change{Source: "t", Undoes: "c-1"}
		u.Set(steps, edits)
		if err := run.Run(t.Context(), u); err != nil {
			t.Fatalf("lost %d: taking back: %v", lost, err)
		}
		if d := l.docs[list]; len(l.docs) != 1 || len(d.May) != 2 || d.May["old"] == nil || d.May["bob"] == nil ||
			d.Note != "kept" {
			t.Errorf("lost %d: put back, the lists are %+v", lost, l.docs)
		}
		if record().State != change.StateUndone {
			t.Errorf("lost %d: it is %s", lost, record().State)
		}
	}
}

// TestUndoOfWhatChanged: what others made of a record since is not written over.
func TestUndoOfWhatChanged(t *testing.T) {
	l, book, _ := newLists(t)
	c := &change.Change{Source: "t"}
	steps, edits, err := source.Planned(t.Context(), l,
		source.Diff{Drop: []source.Ref{{Kind: source.Grants, ID: "old"}}})
	if err != nil {
		t.Fatal(err)
	}
	c.Set(steps, edits)
	run := &change.Runner{Changer: l, Ledger: book, Wait: time.Second}
	if err := run.Run(t.Context(), c); err != nil {
		t.Fatal(err)
	}
	l.give(t, model.Grant{ID: "old", To: model.MustID("person/bob"), Where: []model.PathPattern{
		model.MustPathPattern("/t")}, Rights: model.Rights{Do: []model.PermissionPattern{
		model.MustPermissionPattern("s/n:read")}}})
	r := &change.Record{Change: *c, State: change.StateDone, Done: 1}
	if _, _, err := change.PlanUndo(t.Context(), l, r); !errors.Is(err, source.ErrConflict) {
		t.Errorf("somebody made another grant of the same name: %v", err)
	}
}

// TestGateInNativeTerms: a gate opens and closes in the source's own terms, and leaves alone what
// others wrote beside its grant.
func TestGateInNativeTerms(t *testing.T) {
	l, book, mem := newLists(t)
	now := time.Now()
	k := &patrol.Keeper{Requests: mem, Ledger: book, Now: func() time.Time { return now }, Wait: time.Second,
		Changer: func(context.Context, string) (source.Changer, error) { return l, nil }}
	a := model.MustID("person/ann")
	r := &gate.Request{ID: "q-1", Text: gate.TextVersion, Workspace: "w", Gate: "g", Source: "t", By: a, Subject: a,
		Stay: model.Duration(time.Hour), AskedAt: now, State: gate.Approved, Role: "r",
		Rights: []model.Permission{model.MustPermission("s/n:write")},
		Where:  []model.PathPattern{model.MustPathPattern("/t/**")}}
	if err := k.Save(t.Context(), r, "asked", "person/ann"); err != nil {
		t.Fatal(err)
	}
	if err := k.Open(t.Context(), r, now); err != nil {
		t.Fatal(err)
	}
	list := source.Ref{Kind: "list", ID: "/t"}
	if d := l.docs[list]; len(d.May) != 2 || d.May[r.GrantID()] == nil || d.Note != "kept" {
		t.Fatalf("opened, the list is %+v", d)
	}
	l.give(t, model.Grant{ID: "bob", To: model.MustID("person/bob"), Role: "r"})
	now = now.Add(2 * time.Hour)
	round, err := k.Once(t.Context())
	if d := l.docs[list]; err != nil || len(round.Closed) != 1 || len(d.May) != 2 || d.May["old"] == nil ||
		d.May["bob"] == nil || d.Note != "kept" {
		t.Fatalf("closed %+v: %v; the list is %+v", round, err, d)
	}
}
