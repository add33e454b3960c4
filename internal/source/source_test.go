package source_test

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
)

// fussy is a source that has no words for conditions, and looks at one document at a time.
type fussy struct {
	source.Changer
	read []source.Ref
	fail error
}

func (f *fussy) Planner() source.Planner { return f }

func (f *fussy) Says(g *model.Grant) []string {
	if !g.Condition().IsZero() {
		return []string{"it has no conditions"}
	}
	return nil
}

func (f *fussy) Plan(now map[source.Ref]source.Document, want source.Diff) (p source.Plan, err error) {
	for _, r := range want.Put {
		if g, ok := r.Value.(model.Grant); ok {
			p.Cannot = append(p.Cannot, f.Says(&g)...)
		}
		ref := source.Ref{Kind: r.Kind, ID: r.ID}
		if _, ok := now[ref]; !ok {
			p.Missing = []source.Ref{ref}
			return p, nil
		}
		p.Steps = append(p.Steps, source.Step{Kind: r.Kind, ID: r.ID, Before: now[ref].Body,
			After: json.RawMessage(`"` + r.ID + `"`)})
	}
	return p, nil
}

func (f *fussy) Record(now map[source.Ref]source.Document, r source.Ref) (json.RawMessage, []source.Ref, error) {
	if _, ok := now[r]; !ok {
		return nil, []source.Ref{r}, nil
	}
	return now[r].Body, nil, nil
}

func (f *fussy) Stands(s source.Step, now json.RawMessage) bool { return source.Same(s.After, now) }

func (f *fussy) Get(_ context.Context, kind, id string) (source.Document, error) {
	f.read = append(f.read, source.Ref{Kind: kind, ID: id})
	if id == "new" {
		return source.Document{}, source.ErrGone
	}
	return source.Document{Body: json.RawMessage(`1`)}, f.fail
}

func TestPlanned(t *testing.T) {
	put := func(ids ...string) (d source.Diff) {
		for _, id := range ids {
			d.Put = append(d.Put, source.Record{Kind: source.Grants, ID: id, Value: model.Grant{ID: id}})
		}
		return d
	}
	f := &fussy{}
	steps, edits, err := source.Planned(t.Context(), f, put("a", "new", "c"))
	if err != nil || len(edits) != 3 || string(edits[0].Before) != "1" || edits[1].Before != nil ||
		string(edits[2].After) != `"c"` || len(steps) != 3 || len(f.read) != 3 || steps[0].Before == nil || steps[1].Before != nil {
		t.Errorf("%+v, read %v: %v", steps, f.read, err)
	}
	d := put("a")
	d.Put[0].Value = model.Grant{When: model.Condition{SecondFactor: true}}
	if _, _, err := source.Planned(t.Context(), f, d); !errors.Is(err, source.ErrCannot) {
		t.Errorf("a condition that it cannot say: %v", err)
	}
	f.fail = errors.New("broken")
	if _, _, err := source.Planned(t.Context(), f, put("a")); !errors.Is(err, f.fail) {
		t.Errorf("a document that cannot be read: %v", err)
	}
}

func TestSame(t *testing.T) {
	for _, tt := range []struct {
		a, b string
		want bool
	}{
		{`{"a":1,"b":[1,2]}`, `{ "b": [1, 2], "a": 1.0 }`, true}, {`{"a":1}`, `{"a":2}`, false},
		{`[1,2]`, `[2,1]`, false},
		{``, ``, true}, {``, `{}`, false}, {`{}`, ``, false}, {`{`, `{`, false}, {`null`, `null`, true},
	} {
		if got := source.Same(json.RawMessage(tt.a), json.RawMessage(tt.b)); got != tt.want {
			t.Errorf("%s and %s: %t", tt.a, tt.b, got)
		}
	}
}

func TestUntil(t *testing.T) {
	n, bad := 0, errors.New("bad")
	for _, tt := range []struct {
		name string
		ask  func(context.Context) (bool, error)
		yes  bool
		err  error
	}{
		{"at once", func(context.Context) (bool, error) { return true, nil }, true, nil},
		{"in time", func(context.Context) (bool, error) { n++; return n > 2, nil }, true, nil},
		{"never", func(context.Context) (bool, error) { return false, nil }, false, nil},
		{"an error", func(context.Context) (bool, error) { return true, bad }, false, bad},
		{"an error of its end", func(ctx context.Context) (bool, error) { <-ctx.Done(); return true, ctx.Err() },
			false, nil},
	} {
		yes, err := source.Until(t.Context(), 400*time.Millisecond, tt.ask)
		if yes != tt.yes || !errors.Is(err, tt.err) || tt.err == nil && err != nil {
			t.Errorf("%s: %t, %v", tt.name, yes, err)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if yes, err := source.Until(ctx, time.Minute, func(context.Context) (bool, error) { return false, nil }); yes ||
		!errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %t, %v", yes, err)
	}
}
