package change_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/source"
)

// TestDenials: a fence with denials is put up and taken back like any other; it is refused where it
// would deny something to somebody protected, to the tool itself, or to the last one who can hand out
// rights, and not where it spares them.
func TestDenials(t *testing.T) {
	id := model.MustID
	ann, fenced, cy, lords := id("person/ann"), id("workload/fence"), id("person/cy"), id("group/lords")
	for name, tt := range map[string]struct {
		do     string
		unless []model.ID
		want   string // a part of why it is refused
	}{
		"nobody is concerned":              {"hall/shelf:share", []model.ID{ann, fenced}, ""},
		"the tool itself":                  {"hall/shelf:share", []model.ID{ann}, "this tool itself works as"},
		"somebody protected":               {"hall/shelf:read", []model.ID{ann, fenced}, "person/cy"},
		"somebody protected is spared":     {"hall/shelf:read", []model.ID{ann, fenced, cy}, ""},
		"by a group":                       {"hall/shelf:read", []model.ID{ann, fenced, lords}, ""},
		"the last who can hand out rights": {"hall/grant:give", []model.ID{fenced}, "nobody could hand out rights"},
		"and a group is spared":            {"hall/grant:give", []model.ID{fenced, lords}, "nobody could"},
	} {
		c := newTown()
		c.e.Memberships = []model.Membership{{Member: id("person/cy"), Group: id("group/lords")}}
		c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
		c.grant("g-2", "person/bo", "hall/shelf:*", "/t/**", model.Condition{})
		c.grant("g-3", "group/lords", "hall/shelf:read", "/t/**", model.Condition{})
		c.grant("g-4", "workload/fence", "hall/*:*", "/t/**", model.Condition{})
		f := &fence.Fence{Version: fence.FormatVersion, For: id("t:everyone"), Drafted: time.Now()}
		f.Denies = []fence.Deny{{Do: []model.PermissionPattern{model.MustPermissionPattern(tt.do)}, Unless: tt.unless,
			Where: []model.PathPattern{model.MustPathPattern("/t/**")}}}
		x, err := c.read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		steps, edits, err := change.Plan(t.Context(), c, x, f, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		if len(steps) != 1 || steps[0].Kind != source.Denials ||
			!strings.Contains(steps[0].Sentence, "refused to everyone") {
			t.Errorf("%s: %+v", name, steps)
		}
		if !strings.HasSuffix(edits[0].ID, "-denies-1") {
			t.Errorf("%s: the first denial is called %s", name, edits[0].ID)
		}
		protected := map[model.ID]bool{id("person/cy"): true}
		said := change.Guards(change.GuardInput{Index: x, Fence: f, Rehearsal: &rehearse.Result{},
			Protected: protected, Self: []model.ID{fenced}, Surveyed: time.Now(), MaxAge: time.Hour, Now: time.Now()})
		r := newRunner(t, c)
		r.Protected = protected
		ch := &change.Change{Source: "t"}
		ch.Set(steps, edits)
		err = r.Run(t.Context(), ch)
		if (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
		}
		// What the guards of a fence say beforehand, those of its steps say too; who would be the last is
		// seen on the estate as it is then.
		if early := !strings.HasPrefix(tt.want, "nobody") && tt.want != ""; early != (len(said) > 0) {
			t.Errorf("%s: the guards of the fence say %q", name, said)
		}
		if len(c.e.Denials) == 1 != (err == nil) {
			t.Errorf("%s: %d denials stand", name, len(c.e.Denials))
		}
		if err != nil {
			continue
		}
		d := c.e.Denials[0]
		if !slices.Equal(d.To, []model.ID{id("everyone")}) || !slices.Equal(d.Unless, tt.unless) {
			t.Errorf("%s: %+v", name, d)
		}
		undo, edits, err := change.PlanUndo(t.Context(), c, &change.Record{Change: *ch, State: change.StateDone,
			Done: len(ch.Steps)})
		if err != nil || len(undo) != 1 || !strings.HasPrefix(undo[0].Sentence, "lift denial") {
			t.Errorf("%s: %v %+v", name, err, undo)
		}
		back := &change.Change{Source: "t", Undoes: ch.ID}
		back.Set(undo, edits)
		if err := r.Run(t.Context(), back); err != nil || len(c.e.Denials) > 0 {
			t.Errorf("%s: taken back: %v, and %d denials stand", name, err, len(c.e.Denials))
		}
	}
}

// TestDenialChangedMeanwhile: a denial that somebody changed since is not lifted.
func TestDenialChangedMeanwhile(t *testing.T) {
	c := newTown()
	c.grant("g-1", "person/ann", "hall/*:*", "/t/**", model.Condition{})
	d := model.Denial{ID: "d", To: []model.ID{model.MustID("everyone")},
		Unless: []model.ID{model.MustID("person/ann")},
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("hall/shelf:read")}},
		Where:  []model.PathPattern{model.MustPathPattern("/t/**")}}
	body, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	ch := &change.Change{Source: "t", Steps: []source.Step{{Kind: source.Denials, ID: "d", After: body}}}
	if err := newRunner(t, c).Run(t.Context(), ch); err != nil {
		t.Fatal(err)
	}
	c.e.Denials[0].Unless = append(c.e.Denials[0].Unless, model.MustID("person/bo"))
	_, _, err = change.PlanUndo(t.Context(), c, &change.Record{Change: *ch, State: change.StateDone, Done: 1})
	if err == nil || !strings.Contains(err.Error(), "denial d: source was changed meanwhile") {
		t.Errorf("%v", err)
	}
}
