package patrol_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/ledger/ledgertest"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
)

// cloud is a source of grants in memory. Trouble is asked before each call.
type cloud struct {
	grants  map[string]json.RawMessage
	trouble func(call, id string) error
}

func (c *cloud) Check(context.Context) ([]source.Right, error) { return nil, nil }
func (c *cloud) Self(context.Context) (model.ID, error)        { return model.MustID("workload/fence"), nil }
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
	if b, ok := c.grants[id]; ok {
		return source.Document{Body: b}, nil
	}
	return source.Document{}, source.ErrGone
}

func (c *cloud) Do(_ context.Context, s source.Step) error {
	if err := c.fails("do", s.ID); err != nil {
		return err
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
		Ledger:  &ledger.Ledger{File: filepath.Join(t.TempDir(), "ledger.jsonl"), Anchor: r.mem, Now: func() time.Time { return r.now }, By: "test"},
		Changer: func(context.Context, string) (source.Changer, error) { return r.cloud, nil }}
	return r
}

// request is one that was approved at the start, for half an hour.
func (r *rig) request(t *testing.T, id string) *gate.Request {
	t.Helper()
	q := &gate.Request{ID: id, Gate: "g", Source: "s", By: model.MustID("person/a"), Stay: model.Duration(30 * time.Minute), AskedAt: start, State: gate.Approved,
		Policy: gate.Policy{Version: 1, Name: "g", Source: "s", Longest: model.Duration(time.Hour), Opens: gate.Opens{Role: "skipper", Where: []model.PathPattern{model.MustPathPattern("/s/harbour:o/**")}}}}
	if err := r.Save(t.Context(), q, "asked"); err != nil {
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
	return fmt.Sprintf("closed %s; lapsed %s; open %s; strays %s", names(r.Closed), names(r.Lapsed), names(r.Open), names(r.Strays))
}

// TestLife opens, looks, closes and looks again.
func TestLife(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	if err := r.Open(t.Context(), q); err != nil {
		t.Fatal(err)
	}
	var g model.Grant
	if err := json.Unmarshal(r.cloud.grants["gate-q-1"], &g); err != nil || g.To != q.By || !g.Until.Equal(start.Add(30*time.Minute)) {
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
		{8 * 24 * time.Hour, "closed ; lapsed ; open ; strays ", 1},
	} {
		r := newRig(t)
		q := r.request(t, "q-1")
		if err := r.Open(t.Context(), q); err != nil {
			t.Fatal(err)
		}
		body := r.cloud.grants["gate-q-1"]
		if err := r.Close(t.Context(), q, "person/a"); err != nil {
			t.Fatal(err)
		}
		r.cloud.grants["gate-q-1"] = body // somebody restored a backup
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
				if call == "do" && id == "gate-q-1" {
					return errDown
				}
				return nil
			}
		}},
		{"reading it back", func(n *int) func(call, id string) error {
			return func(call, id string) error {
				if call == "get" && id == "gate-q-1" {
					return errDown
				}
				return nil
			}
		}},
		{"everything after the third call", func(n *int) func(call, id string) error {
			return func(_, id string) error {
				if *n++; *n > 3 && id == "gate-q-1" {
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
			oneErr := r.Open(t.Context(), one)
			if err := r.Open(t.Context(), two); err != nil {
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

// TestEditedMeanwhile: a grant that somebody edits while it is removed is removed all
// the same.
func TestEditedMeanwhile(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	if err := r.Open(t.Context(), q); err != nil {
		t.Fatal(err)
	}
	edits := 0
	r.cloud.trouble = func(call, id string) error {
		if call == "do" && edits < 2 {
			edits++
			r.cloud.grants[id] = json.RawMessage(fmt.Sprintf(`{"edited":%d}`, edits))
		}
		return nil
	}
	if err := r.Close(t.Context(), q, "person/a"); err != nil {
		t.Fatal(err)
	}
	if len(r.cloud.grants) > 0 || edits != 2 {
		t.Errorf("%d edits, left behind: %v", edits, r.cloud.grants)
	}
}

// TestLapse: what nobody answers lapses, and what was refused stays so.
func TestLapse(t *testing.T) {
	r := newRig(t)
	q := r.request(t, "q-1")
	q.State = gate.Asked
	if err := r.Save(t.Context(), q, "asked"); err != nil {
		t.Fatal(err)
	}
	r.now = start.Add(60 * 24 * time.Hour)
	round, err := r.Once(t.Context())
	if err != nil || names(round.Lapsed) != "q-1" {
		t.Errorf("%s, %v", say(round), err)
	}
	if err := r.Open(t.Context(), round.Lapsed[0]); err == nil {
		t.Error("a lapsed request opens")
	}
}
