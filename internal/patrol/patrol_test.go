package patrol_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
)

// cloud is a source of grants in memory. Trouble is asked before each call.
type cloud struct {
	mu      sync.Mutex
	grants  map[string]json.RawMessage
	trouble func(call, id string) error
	late    int // this many reads do not show yet what was done
	shown   map[string]json.RawMessage
}

func (c *cloud) Check(context.Context) ([]source.Right, error) { return nil, nil }
func (c *cloud) Self(context.Context) (model.ID, error)        { return model.MustID("workload/fence"), nil }
func (c *cloud) Planner() source.Planner                       { return documents.Planner{} }
func (c *cloud) Peer(context.Context) (source.Peer, error)     { return source.Peer{ID: "cloud"}, nil }
func (c *cloud) fails(call, id string) error {
	if c.trouble == nil {
		return nil
	}
	return c.trouble(call, id)
}

func (c *cloud) Get(_ context.Context, _, id string) (source.Document, error) {
	if err := c.fails("get", id); err != nil {
		return source.Document{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	show := c.grants
	if c.late > 0 {
		c.late--
		show = c.shown
	}
	if b, ok := show[id]; ok {
		return source.Document{Body: b}, nil
	}
	return source.Document{}, source.ErrGone
}

func (c *cloud) Do(_ context.Context, s source.Step) error {
	if err := c.fails("do", s.ID); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.late > 0 && c.shown == nil {
		c.shown = maps.Clone(c.grants)
	}
	if string(c.grants[s.ID]) != string(s.Before) {
		return source.ErrConflict
	}
	if s.After == nil {
		delete(c.grants, s.ID)
	} else {
		c.grants[s.ID] = s.After
	}
	return nil
}

var start = time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)

type rig struct {
	*patrol.Keeper
	cloud *cloud
	mem   *ledgertest.Memory
	now   time.Time
}

func newRig(t *testing.T) *rig {
	t.Helper()
	r := &rig{cloud: &cloud{grants: map[string]json.RawMessage{}}, mem: &ledgertest.Memory{}, now: start}
	r.Keeper = &patrol.Keeper{Requests: r.mem, Now: func() time.Time { return r.now }, Wait: 300 * time.Millisecond,
		Ledger: &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Book: r.mem,
			Now: func() time.Time { return r.now }, By: "test"},
		Changer: func(context.Context, string) (source.Changer, error) { return r.cloud, nil }}
	return r
}

// asked is a request of person/a, for half an hour, in a state.
func asked(id string, state gate.State) *gate.Request {
	a := model.MustID("person/a")
	return &gate.Request{ID: id, Text: gate.TextVersion, Workspace: "0123456789abcdef", Gate: "g", Source: "s", By: a,
		Subject: a, Stay: model.Duration(30 * time.Minute), AskedAt: start, State: state,
		Role: "skipper", Rights: []model.Permission{model.MustPermission("stow/item:read")},
		Where: []model.PathPattern{model.MustPathPattern("/s/harbour:o/**")}}
}

// grantOf is the name of what a request opens.
func grantOf(id string) string { return asked(id, "").GrantID() }

// request is one that was approved at the start, for half an hour.
func (r *rig) request(t *testing.T, id string) *gate.Request {
	t.Helper()
	q := asked(id, gate.Approved)
	if err := r.Save(t.Context(), q, "asked", "person/a"); err != nil {
		t.Fatal(err)
	}
	return q
}

func names(list []*gate.Request) string {
	var out []string
	for _, q := range list {
		out = append(out, q.ID)
	}
	return strings.Join(out, " ")
}

func say(r patrol.Round) string {
	return fmt.Sprintf("closed %s; lapsed %s; open %s; strays %s", names(r.Closed), names(r.Lapsed), names(r.Open),
		names(r.Strays))
}

// TestLife opens, looks, closes and looks again.
func TestLife(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	if err := r.Open(t.Context(), q, r.now); err != nil {
		t.Fatal(err)
	}
	var g model.Grant
	if err := json.Unmarshal(r.cloud.grants[grantOf("q-1")], &g); err != nil || g.To != q.By ||
		!g.Until.Equal(start.Add(30*time.Minute)) {
		t.Errorf("the grant is %+v, %v", g, err)
	}
	for _, tt := range []struct {
		after time.Duration
		want  string
	}{
		{0, "closed ; lapsed ; open q-1; strays "},
		{29 * time.Minute, "closed ; lapsed ; open q-1; strays "},
		{30 * time.Minute, "closed q-1; lapsed ; open ; strays "},
		{31 * time.Minute, "closed ; lapsed ; open ; strays "},
	} {
		r.now = start.Add(tt.after)
		round, err := r.Once(t.Context())
		if err != nil || say(round) != tt.want {
			t.Errorf("after %s: %s, %v; want %s", tt.after, say(round), err, tt.want)
		}
	}
	if len(r.cloud.grants) > 0 {
		t.Errorf("left behind: %s", slices.Collect(maps.Keys(r.cloud.grants)))
	}
	if q, err := r.Find(t.Context(), "q-1"); err != nil || q.State != gate.Closed || q.ClosedBy != "patrol" {
		t.Errorf("%+v, %v", q, err)
	}
	if _, err := r.Find(t.Context(), "q-9"); !errors.Is(err, patrol.ErrUnknown) {
		t.Errorf("an unknown request: %v", err)
	}
}

// TestStray: a grant that comes back after its request ended is taken away again, for a
// week.
func TestStray(t *testing.T) {
	for _, tt := range []struct {
		after time.Duration
		want  string
		left  int
	}{
		{time.Hour, "closed ; lapsed ; open ; strays q-1", 0},
		{6 * 24 * time.Hour, "closed ; lapsed ; open ; strays q-1", 0},
		{7 * 24 * time.Hour, "closed ; lapsed ; open ; strays ", 1},
		{8 * 24 * time.Hour, "closed ; lapsed ; open ; strays ", 1},
	} {
		r := newRig(t)
		q := r.request(t, "q-1")
		if err := r.Open(t.Context(), q, r.now); err != nil {
			t.Fatal(err)
		}
		body := r.cloud.grants[grantOf("q-1")]
		if err := r.Close(t.Context(), q, "person/a"); err != nil {
			t.Fatal(err)
		}
		r.cloud.grants[grantOf("q-1")] = body // somebody restored a backup
		r.now = start.Add(tt.after)
		round, err := r.Once(t.Context())
		if err != nil || say(round) != tt.want || len(r.cloud.grants) != tt.left {
			t.Errorf("after %s: %s, %d grants, %v; want %s", tt.after, say(round), len(r.cloud.grants), err, tt.want)
		}
	}
}

var errDown = errors.New("down")

// TestTrouble: whatever fails while a gate opens or closes, a patrol that runs when the
// trouble and the time are over leaves nothing; and one request's trouble does not keep
// it from the others.
func TestTrouble(t *testing.T) {
	for _, tt := range []struct {
		name    string
		trouble func(n *int) func(call, id string) error
	}{
		{"the first change", func(n *int) func(call, id string) error {
			return func(call, id string) error {
				if call == "do" && id == grantOf("q-1") {
					return errDown
				}
				return nil
			}
		}},
		{"reading it back", func(n *int) func(call, id string) error {
			return func(call, id string) error {
				if call == "get" && id == grantOf("q-1") {
					return errDown
				}
				return nil
			}
		}},
		{"everything after the third call", func(n *int) func(call, id string) error {
			return func(_, id string) error {
				if *n++; *n > 3 && id == grantOf("q-1") {
					return errDown
				}
				return nil
			}
		}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := newRig(t)
			n := 0
			r.cloud.trouble = tt.trouble(&n)
			one, two := r.request(t, "q-1"), r.request(t, "q-2")
			oneErr := r.Open(t.Context(), one, r.now)
			if err := r.Open(t.Context(), two, r.now); err != nil {
				t.Fatal(err)
			}
			r.now = start.Add(time.Hour)
			round, err := r.Once(t.Context())
			if names(round.Closed) == "" || !strings.Contains(names(round.Closed), "q-2") {
				t.Errorf("q-2 was not closed: %s (%v, %v)", say(round), oneErr, err)
			}
			r.cloud.trouble = nil
			if _, err := r.Once(t.Context()); err != nil {
				t.Errorf("the trouble is over: %v", err)
			}
			if len(r.cloud.grants) > 0 {
				t.Errorf("left behind: %s", slices.Collect(maps.Keys(r.cloud.grants)))
			}
			for _, id := range []string{"q-1", "q-2"} {
				if q, err := r.Find(t.Context(), id); err != nil || !q.State.Ended() {
					t.Errorf("%s is %+v, %v", id, q, err)
				}
			}
		})
	}
}

// TestForeign: what bears the name of a request's grant and is not what the request makes is neither written
// over by opening nor taken for open; what it makes itself, opened twice, is.
func TestForeign(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	theirs := q.Grant()
	theirs.To = model.MustID("person/root")
	body, err := json.Marshal(theirs)
	if err != nil {
		t.Fatal(err)
	}
	r.cloud.grants[q.GrantID()] = body
	if err := r.Open(t.Context(), q, r.now); !errors.Is(err, patrol.ErrForeign) {
		t.Errorf("opened over somebody else's grant: %v", err)
	}
	if string(r.cloud.grants[q.GrantID()]) != string(body) {
		t.Errorf("it is %s now", r.cloud.grants[q.GrantID()])
	}
	ours := newRig(t)
	q = ours.request(t, "q-1")
	if body, err = json.Marshal(q.Grant()); err != nil {
		t.Fatal(err)
	}
	ours.cloud.grants[q.GrantID()] = body // a keeper that was killed had made it
	if err := ours.Open(t.Context(), q, ours.now); err != nil || len(ours.cloud.grants) != 1 {
		t.Errorf("%v, %d grants", err, len(ours.cloud.grants))
	}
}

// TestEditedMeanwhile: a grant whose end or date somebody edits while it is removed is
// removed all the same; what the request cannot have made is left alone, and told.
func TestEditedMeanwhile(t *testing.T) {
	for _, tt := range []struct {
		name string
		edit func(g *model.Grant)
		ours bool
	}{
		{"made to last", func(g *model.Grant) { g.Until = time.Time{} }, true},
		{"dated anew", func(g *model.Grant) { g.Created = start.AddDate(-1, 0, 0) }, true},
		{"for somebody else", func(g *model.Grant) { g.To = model.MustID("person/root") }, false},
		{"a role", func(g *model.Grant) { g.Rights, g.Role = model.Rights{}, "skipper" }, false},
		{"another right", func(g *model.Grant) {
			g.Rights = model.Permissions(model.MustPermission(
				"stow/item:find"))
		}, false},
		{"another place", func(g *model.Grant) { g.Where = []model.PathPattern{model.MustPathPattern("/s/**")} },
			false},
		{"under a condition", func(g *model.Grant) { g.When.SecondFactor = true }, false},
	} {
		r := newRig(t)
		q := r.request(t, "q-1")
		if err := r.Open(t.Context(), q, r.now); err != nil {
			t.Fatal(err)
		}
		edits := 0
		r.cloud.trouble = func(call, id string) error {
			if call == "do" && edits < 2 {
				edits++
				g := q.Grant()
				g.Until = g.Until.Add(time.Duration(edits) * time.Hour)
				tt.edit(&g)
				b, err := json.Marshal(g)
				r.cloud.grants[id] = b
				return err
			}
			return nil
		}
		err := r.Close(t.Context(), q, "person/a")
		if tt.ours && (err != nil || len(r.cloud.grants) > 0) {
			t.Errorf("%s: %v, left behind: %s", tt.name, err, r.cloud.grants)
		}
		if !tt.ours && (!errors.Is(err, patrol.ErrForeign) || len(r.cloud.grants) != 1) {
			t.Errorf("%s: %v, left: %s", tt.name, err, r.cloud.grants)
		}
	}
}

// TestLapse: what nobody answers lapses, and what was refused stays so.
func TestLapse(t *testing.T) {
	r := newRig(t)
	if err := r.Save(t.Context(), asked("q-1", gate.Asked), "asked", "person/a"); err != nil {
		t.Fatal(err)
	}
	r.now = start.Add(60 * 24 * time.Hour)
	round, err := r.Once(t.Context())
	if err != nil || names(round.Lapsed) != "q-1" {
		t.Errorf("%s, %v", say(round), err)
	}
	if err := r.Open(t.Context(), round.Lapsed[0], r.now); err == nil {
		t.Error("a lapsed request opens")
	}
}

// TestFaster: whoever read a row before another changed it changes nothing: no answer is
// lost, no end is taken back, and nothing lapses that is open.
func TestFaster(t *testing.T) {
	r := newRig(t)
	if err := r.Save(t.Context(), asked("q-1", gate.Asked), "asked", "person/a"); err != nil {
		t.Fatal(err)
	}
	one, _ := r.Find(t.Context(), "q-1")
	two, _ := r.Find(t.Context(), "q-1")
	one.State = gate.Refused
	if err := r.Save(t.Context(), one, "refuse", "person/b"); err != nil {
		t.Fatal(err)
	}
	two.State = gate.Approved
	if err := r.Save(t.Context(), two, "approve", "person/c"); !errors.Is(err, ledger.ErrStale) {
		t.Errorf("a refusal vanishes: %v", err)
	}
	if n := len(r.mem.Kept); n != 2 {
		t.Errorf("the ledger tells of what was not kept: %d entries", n)
	}
	// Two approvers at once, each sees the other's answer.
	if err := r.Save(t.Context(), asked("q-2", gate.Asked), "asked", "person/a"); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			_, err := r.Update(t.Context(), "q-2", "approve", "", func(q *gate.Request) error {
				q.Answers = append(q.Answers, gate.Answer{By: model.MustID("person/b"), Reason: fmt.Sprint(i)})
				return nil
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if q, err := r.Find(t.Context(), "q-2"); err != nil || len(q.Answers) != 20 {
		t.Errorf("%d answers, %v", len(q.Answers), err)
	}
	// A patrol that read "approved" while it was opened does not call it lapsed.
	q := r.request(t, "q-3")
	if err := r.Open(t.Context(), q, r.now); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Update(t.Context(), "q-3", "lapsed", "", (*gate.Request).Lapse); !errors.Is(err, gate.ErrState) {
		t.Errorf("an open gate lapses: %v", err)
	}
	if _, err := r.Update(t.Context(), "q-3", "back", "",
		func(q *gate.Request) error { q.State = gate.Approved; return nil }); !errors.Is(err, gate.ErrState) {
		t.Errorf("an open gate goes back: %v", err)
	}
}

// TestSavedWithoutFile: where the ledger's file cannot be written what was saved is saved all the same,
// and the request can be saved again.
func TestSavedWithoutFile(t *testing.T) {
	r := newRig(t)
	good := r.Ledger.File
	q := asked("q-1", gate.Asked)
	if err := r.Save(t.Context(), q, "asked", "person/a"); err != nil {
		t.Fatal(err)
	}
	// Where it cannot even be looked at nothing is saved, and that is told.
	q.State = gate.Refused
	r.Ledger.File = filepath.Join(good, "not", "a", "folder")
	if err := r.Save(t.Context(), q, "refuse", "person/b"); !errors.Is(err, ledger.ErrUnseen) ||
		errors.Is(err, ledger.ErrFile) {
		t.Errorf("of a file that nobody can look at: %v", err)
	}
	if got, err := r.Find(t.Context(), "q-1"); err != nil || got.State != gate.Asked {
		t.Errorf("%+v, %v", got, err)
	}
	r.Ledger.File = filepath.Join(filepath.Dir(good), "nowhere")
	if err := os.Symlink(filepath.Join(filepath.Dir(good), "no", "folder"), r.Ledger.File); err != nil {
		t.Fatal(err)
	}
	if err := r.Save(t.Context(), q, "refuse", "person/b"); !errors.Is(err, ledger.ErrFile) {
		t.Errorf("no word of the file: %v", err)
	}
	r.Ledger.File = good
	q.Reason = "again"
	if err := r.Save(t.Context(), q, "refuse", "person/b"); err != nil {
		t.Errorf("it is taken for stale: %v", err)
	}
	if got, err := r.Find(t.Context(), "q-1"); err != nil || got.State != gate.Refused || got.Reason != "again" {
		t.Errorf("%+v, %v", got, err)
	}
}

// TestClosingComesFirst: whatever is broken here, what is due is closed there.
func TestClosingComesFirst(t *testing.T) {
	for _, tt := range []struct {
		name   string
		break_ func(t *testing.T, r *rig)
		says   string
	}{
		{"a ledger that was edited", func(t *testing.T, r *rig) {
			data, err := os.ReadFile(r.Ledger.File)
			if err != nil {
				t.Fatal(err)
			}
			data[10] ^= 1
			if err := os.WriteFile(r.Ledger.File, data, 0o600); err != nil {
				t.Fatal(err)
			}
		}, "ledger is damaged"},
		{"a ledger that cannot be written", func(_ *testing.T, r *rig) { r.Ledger.File += "/in/no/folder" }, ""},
		{"a book that cannot be written", func(_ *testing.T, r *rig) { r.Ledger.Book = full{r.mem} }, "disk is full"},
		{"an unreadable request", func(_ *testing.T, r *rig) {
			r.mem.Rows["q-0"] = ledgertest.Stored{Body: []byte("{"), Version: 1}
		}, "q-0 cannot be read"},
		{"a request of another workspace", func(_ *testing.T, r *rig) {
			r.Workspace = "0123456789abcdef"
			r.mem.Rows["q-0"] = ledgertest.Stored{Body: []byte(
				`{"id":"q-0","text":1,"workspace":"other","source":"s","state":"open","by":"person/a"}`), Version: 1}
		}, "asked in another workspace"},
		{"a request under another's name", func(_ *testing.T, r *rig) {
			r.mem.Rows["q-0"] = ledgertest.Stored{Body: []byte(`{"id":"q-1","state":"closed"}`), Version: 1}
		}, "q-0 cannot be read"},
		{"its row taken away", func(_ *testing.T, r *rig) { delete(r.mem.Rows, "q-1") }, ""},
		{"its row set to an end", func(_ *testing.T, r *rig) {
			r.mem.Rows["q-1"] = ledgertest.Stored{Body: []byte(strings.Replace(string(r.mem.Rows["q-1"].Body),
				`"open"`, `"closed"`, 1)), Version: 1}
		}, ""},
		{"two hundred old requests", func(t *testing.T, r *rig) {
			for i := range 200 {
				q := asked(fmt.Sprintf("q-1%03d", i), gate.Closed)
				q.AskedAt, q.ClosedAt = start.Add(-time.Hour), start
				if err := r.Save(t.Context(), q, "asked", ""); err != nil {
					t.Fatal(err)
				}
			}
		}, ""},
		{"another source that is dead", func(t *testing.T, r *rig) {
			q := asked("q-0", gate.Open)
			q.Source = "dead"
			if err := r.Save(t.Context(), q, "open", ""); err != nil {
				t.Fatal(err)
			}
			alive := r.Changer
			r.Changer = func(ctx context.Context, src string) (source.Changer, error) {
				if src != "dead" {
					return alive(ctx, src)
				}
				<-ctx.Done()
				return nil, ctx.Err()
			}
		}, "deadline"},
	} {
		r := newRig(t)
		if err := r.Open(t.Context(), r.request(t, "q-1"), r.now); err != nil {
			t.Fatal(err)
		}
		tt.break_(t, r)
		r.now = start.Add(time.Hour)
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		_, err := r.Once(ctx)
		cancel()
		if len(r.cloud.grants) > 0 {
			t.Errorf("%s: it stays open: %v", tt.name, err)
		}
		if tt.says != "" && (err == nil || !strings.Contains(err.Error(), tt.says)) {
			t.Errorf("%s: no word of it: %v", tt.name, err)
		}
	}
}

// full is a book on a full disk.
type full struct{ *ledgertest.Memory }

func (full) Write(context.Context, func(ledger.Page) error) error {
	return errors.New("the disk is full")
}

// TestLate: a grant that the source shows only after everybody stopped waiting leaves
// nothing open, and is not called closed before it can be known.
func TestLate(t *testing.T) {
	r := newRig(t)
	r.Settle = 30 * time.Second
	q := r.request(t, "q-1")
	r.cloud.late = 1000
	if err := r.Open(t.Context(), q, r.now); err == nil || !strings.Contains(err.Error(), "does not show the change") {
		t.Fatalf("it is called open: %v", err)
	}
	r.now = start.Add(3 * time.Second)
	round, err := r.Once(t.Context())
	if err != nil || names(round.Closing) != "q-1" || len(round.Closed) > 0 {
		t.Errorf("nothing is seen yet: %s, closing %s, %v", say(round), names(round.Closing), err)
	}
	r.cloud.late = 0 // now it shows
	r.now = start.Add(8 * time.Second)
	if round, err = r.Once(t.Context()); err != nil || names(round.Closed) != "q-1" || len(r.cloud.grants) > 0 {
		t.Errorf("it shows: %s, %v, left %s", say(round), err, r.cloud.grants)
	}
	// One that never comes is closed when it cannot come any more.
	two := r.request(t, "q-2")
	r.cloud.trouble = func(call, _ string) error {
		if call == "do" {
			return errDown
		}
		return nil
	}
	if err := r.Open(t.Context(), two, r.now); err == nil {
		t.Error("it is called open")
	}
	r.now = r.now.Add(time.Minute)
	if round, err = r.Once(t.Context()); err != nil || names(round.Closed) != "q-2" {
		t.Errorf("it never came: %s, %v", say(round), err)
	}
}

// FuzzRows: whatever stands in a stored row, the other rows are read, and a patrol takes
// nothing away that is not its own.
func FuzzRows(f *testing.F) {
	f.Add([]byte(`{"id":"q-1","state":"open","source":"s","by":"person/a","until":"2026-01-01T00:00:00Z"}`))
	f.Add([]byte(`{"id":"q-1","text":1,"workspace":"w","state":"closing","source":"s","by":"person/a","subject":"person/a","rights":["a/b:c"],"where":["/s/**"]}`))
	f.Add([]byte(`{"id":"q-1","state":"open","source":"s","by":"person/a","policy":{"opens":{"role":"r","where":["/s/**"]}}}`))
	f.Add([]byte(`{`))
	f.Fuzz(func(t *testing.T, row []byte) {
		r := newRig(t)
		r.Wait = time.Millisecond
		other := `{"id":"theirs","to":"person/b","do":["a/b:c"],"where":["/s/**"]}`
		for _, name := range []string{"gate-q-1", "gate-w-q-1", "theirs"} {
			r.cloud.grants[name] = json.RawMessage(other)
		}
		if err := r.Save(t.Context(), asked("q-2", gate.Asked), "asked", ""); err != nil {
			t.Fatal(err)
		}
		r.mem.Rows["q-1"] = ledgertest.Stored{Body: row, Version: 1}
		all, _ := r.All(t.Context())
		if !slices.ContainsFunc(all, func(q *gate.Request) bool { return q.ID == "q-2" }) {
			t.Fatal("a row keeps others from being read")
		}
		_, _ = r.Once(t.Context()) // what it says of the row is not the point
		var q gate.Request
		mine := json.Unmarshal(row, &q) == nil && q.Grant().To.String() == "person/b"
		if len(r.cloud.grants) != 3 && !mine {
			t.Errorf("taken away on the word of %s: left %s", row, r.cloud.grants)
		}
	})
}

// TestOfBefore: what an earlier version opened is closed, by the name and with the content
// that it had; what it approved opens nothing.
func TestOfBefore(t *testing.T) {
	for _, tt := range []struct{ state, body string }{
		{"open", `{"id":"ab12cd34","gate":"g","source":"s","by":"person/a","stay":"30m","reason":"x","asked_at":"2026-11-24T08:00:00Z","signature":"","state":"open","policy":{"gate":2,"name":"g","source":"s","opens":{"role":"skipper","where":["/s/**"]},"may_ask":["person/a"],"longest":"1h","approvals":1},"opened_at":"2026-11-24T08:00:00Z","until":"2026-11-24T08:30:00Z"}`},
		{"approved", `{"id":"ab12cd34","gate":"g","source":"s","by":"person/a","stay":"30m","reason":"x","asked_at":"2026-11-24T08:00:00Z","signature":"","state":"approved","policy":{"gate":2,"name":"g","source":"s","opens":{"do":["a/b:c"],"where":["/s/**"]},"may_ask":["person/a"],"longest":"1h","approvals":0}}`},
	} {
		r := newRig(t)
		r.mem.Rows = map[string]ledgertest.Stored{"ab12cd34": {Body: []byte(tt.body), Version: 1}}
		r.cloud.grants["gate-ab12cd34"] = json.RawMessage(
			`{"id":"gate-ab12cd34","to":"person/a","role":"skipper","where":["/s/**"],"until":"2026-11-24T08:30:00Z","kept_with":"holder","created":"2026-11-24T08:00:00Z"}`)
		q, err := r.Find(t.Context(), "ab12cd34")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := q.Ready(&gate.Policy{Name: "g", Source: "s"}, gate.Evidence{}); err == nil {
			t.Errorf("%s: it may open", tt.state)
		}
		r.now = start.Add(time.Hour)
		round, err := r.Once(t.Context())
		if tt.state == "open" && (err != nil || names(round.Closed) != "ab12cd34" || len(r.cloud.grants) > 0) {
			t.Errorf("%s, %v, left %s", say(round), err, r.cloud.grants)
		}
		r.now = start.Add(25 * time.Hour)
		if round, err = r.Once(t.Context()); tt.state == "approved" &&
			(err != nil || names(round.Lapsed) != "ab12cd34") {
			t.Errorf("%s, %v", say(round), err)
		}
	}
}

// TestCloseIsWrittenFirst: that a gate is being closed is written down before anything is done,
// and whoever closes what somebody else has closed meanwhile finds it closed.
func TestCloseIsWrittenFirst(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	if err := r.Open(t.Context(), q, r.now); err != nil {
		t.Fatal(err)
	}
	old := *q
	r.cloud.trouble = func(call, _ string) error {
		if call == "do" {
			return errDown
		}
		return nil
	}
	if err := r.Close(t.Context(), q, "person/a"); !errors.Is(err, errDown) {
		t.Errorf("closing while the source is down: %v", err)
	}
	if is, err := r.Find(t.Context(), "q-1"); err != nil || is.State != gate.Closing || is.ClosedBy != "person/a" {
		t.Errorf("after a try that failed: %+v, %v", is, err)
	}
	r.cloud.trouble = nil
	if err := r.Close(t.Context(), q, "person/a"); err != nil {
		t.Error(err)
	}
	for _, by := range []string{"person/b", "person/c"} { // from a copy of when it was open
		late := old
		err := r.Close(t.Context(), &late, by)
		if err != nil || late.State != gate.Closed || late.ClosedBy != "person/a" {
			t.Errorf("closed once more by %s: %+v, %v", by, late, err)
		}
	}
	if len(r.cloud.grants) > 0 {
		t.Errorf("left behind: %v", r.cloud.grants)
	}
}

// TestClosedMeanwhile: where a request was closed while its grant was being made, the grant does not stay.
func TestClosedMeanwhile(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	r.cloud.trouble = func(call, id string) error {
		if call != "get" || id != grantOf("q-1") || r.cloud.grants[id] == nil {
			return nil
		}
		r.cloud.trouble = nil // it is seen to be there, and just then somebody closes it
		for _, step := range []func(*gate.Request) error{
			func(q *gate.Request) error { return q.StartClosing("patrol") },
			func(q *gate.Request) error { q.Closed(r.now); return nil }} {
			if _, err := r.Update(t.Context(), "q-1", "closed", "patrol", step); err != nil {
				return err
			}
		}
		return nil
	}
	if err := r.Open(t.Context(), q, r.now); err == nil || !strings.Contains(err.Error(), "closed meanwhile") {
		t.Errorf("opening what was closed: %v", err)
	}
	if len(r.cloud.grants) > 0 {
		t.Errorf("left behind: %v", r.cloud.grants)
	}
}

// TestTriesEnd: a grant that somebody edits again and again is tried six times, within half a minute, and told.
func TestTriesEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		q := r.request(t, "q-1")
		if err := r.Open(t.Context(), q, r.now); err != nil {
			t.Fatal(err)
		}
		tries := 0
		r.cloud.trouble = func(call, _ string) error {
			if call == "do" {
				tries++
				return source.ErrConflict
			}
			return nil
		}
		began := time.Now()
		if err := r.Close(t.Context(), q, "person/a"); !errors.Is(err, source.ErrConflict) {
			t.Errorf("closing what is edited all the time: %v", err)
		}
		if took := time.Since(began); tries != 6 || took > 30*time.Second {
			t.Errorf("%d tries in %s", tries, took)
		}
	})
}

// TestStrayUnseen: a round that could not look whether what it closed has come back says so.
func TestStrayUnseen(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	if err := r.Open(t.Context(), q, r.now); err != nil {
		t.Fatal(err)
	}
	if err := r.Close(t.Context(), q, "person/a"); err != nil {
		t.Fatal(err)
	}
	r.cloud.trouble = func(call, _ string) error {
		if call == "get" {
			return errDown
		}
		return nil
	}
	if round, err := r.Once(t.Context()); !errors.Is(err, errDown) {
		t.Errorf("%s, %v", say(round), err)
	}
	r.cloud.trouble = nil
	if round, err := r.Once(t.Context()); err != nil {
		t.Errorf("%s, %v", say(round), err)
	}
}

// TestNameless: an entry that is of no request is none that no row tells of.
func TestNameless(t *testing.T) {
	r := newRig(t)
	for _, body := range []any{asked("", gate.Open), map[string]string{"source": "m"}} {
		if err := r.Ledger.Append(t.Context(), "gate.opened", body); err != nil {
			t.Fatal(err)
		}
	}
	r.now = start.Add(24 * time.Hour)
	round, err := r.Once(t.Context())
	if err != nil || len(round.Rowless)+len(round.Closing)+len(round.Closed) > 0 {
		t.Errorf("rowless %q, %s, %v", names(round.Rowless), say(round), err)
	}
}

// TestRowless: what the ledger knows as begun and no row tells of, since somebody took the row away,
// set it to an end, or put an older store back, is closed when it is due; what ended by the ledger
// is not begun again, and a row that says the same is enough.
func TestRowless(t *testing.T) {
	for _, tt := range []struct {
		name  string
		state gate.State // by the ledger, last of all
		row   gate.State // "": none; "same": as it was
		after time.Duration
		want  bool // closed, as one that no row tells of
		stays bool // the grant
	}{
		{"open, and no row", gate.Open, "", 31 * time.Minute, true, false},
		{"open, no row, and within its time", gate.Open, "", 29 * time.Minute, false, true},
		{"opening, and no row", gate.Opening, "", time.Minute, true, false},
		{"closing, and no row", gate.Closing, "", time.Minute, true, false},
		{"open, and the row says closed", gate.Open, gate.Closed, 31 * time.Minute, true, false},
		{"open, and the row says refused", gate.Open, gate.Refused, 31 * time.Minute, true, false},
		{"open, and the row is of before that", gate.Open, gate.Approved, 31 * time.Minute, true, false},
		{"open, and the row is of when it was asked", gate.Open, gate.Asked, 31 * time.Minute, true, false},
		{"opening, and the row is of before that", gate.Opening, gate.Approved, time.Minute, true, false},
		{"open, and the row says so", gate.Open, "same", 31 * time.Minute, false, false},
		{"closed by the ledger, and no row", gate.Closed, "", 31 * time.Minute, false, true},
		{"refused by the ledger, and no row", gate.Refused, "", 31 * time.Minute, false, true},
	} {
		r := newRig(t)
		q := r.request(t, "q-1")
		if err := r.Open(t.Context(), q, r.now); err != nil {
			t.Fatal(err)
		}
		q.State = tt.state
		if err := r.Save(t.Context(), q, string(tt.state), ""); err != nil {
			t.Fatal(err)
		}
		switch tt.row {
		case "same":
		case "":
			delete(r.mem.Rows, "q-1")
		default:
			old := *q
			old.State = tt.row
			body, err := json.Marshal(old)
			if err != nil {
				t.Fatal(err)
			}
			r.mem.Rows["q-1"] = ledgertest.Stored{Body: body, Version: r.mem.Rows["q-1"].Version}
		}
		r.now = start.Add(tt.after)
		round, err := r.Once(t.Context())
		if err != nil || (names(round.Rowless) == "q-1") != tt.want {
			t.Errorf("%s: rowless %q, %s, %v", tt.name, names(round.Rowless), say(round), err)
		}
		if _, stays := r.cloud.grants[grantOf("q-1")]; stays != tt.stays {
			t.Errorf("%s: the grant stays: %t", tt.name, stays)
		}
	}
}

// TestOtherWorkspace: what was asked in another workspace is that one's to keep; the first requests did not
// say in which they were asked.
func TestOtherWorkspace(t *testing.T) {
	for _, tt := range []struct {
		text  int
		asked string
		taken bool
	}{{0, "", true}, {0, "there", true}, {1, "here", true}, {1, "there", false}, {1, "", false}} {
		r := newRig(t)
		r.Workspace = "here"
		q := r.request(t, "q-1")
		q.Text, q.Workspace = tt.text, tt.asked
		body, err := json.Marshal(q)
		if err != nil {
			t.Fatal(err)
		}
		r.mem.Rows["q-1"] = ledgertest.Stored{Body: body, Version: r.mem.Rows["q-1"].Version}
		all, err := r.All(t.Context())
		if (len(all) == 1) != tt.taken || (err == nil) != tt.taken {
			t.Errorf("text %d, asked in %q: %d, %v", tt.text, tt.asked, len(all), err)
		}
	}
}

// TestCloseWhatIsGone: a grant that was seen to be there and that somebody took away since is closed at once, while of
// one that was never seen it must be waited whether it shows up yet.
func TestCloseWhatIsGone(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	if err := r.Open(t.Context(), q, r.now); err != nil {
		t.Fatal(err)
	}
	r.Settle = time.Hour
	delete(r.cloud.grants, grantOf("q-1"))
	if err := r.Close(t.Context(), q, "person/a"); err != nil || q.State != gate.Closed {
		t.Errorf("what was open, and somebody took away: %v, %s", err, q.State)
	}
}
