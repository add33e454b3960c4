package gate_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
)

var (
	start  = time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	policy = gate.Policy{Version: 1, Name: "night", Source: "m", Opens: gate.Opens{Role: "admin", Where: []model.PathPattern{model.MustPathPattern("/m/**")}},
		MayAsk: []model.ID{model.MustID("person/a"), model.MustID("person/b")}, Longest: model.Duration(time.Hour), Approvers: []model.ID{model.MustID("person/b"), model.MustID("person/c"), model.MustID("person/d")}, Approvals: 2}
)

func in(who model.ID, of []model.ID) bool { return slices.Contains(of, who) }

// TestLife walks requests through lives written in a small language: ask WHO STAY,
// yes WHO, no WHO, open, opened, close, closed, and +DURATION for time that passes.
// A step with ! must be refused.
func TestLife(t *testing.T) {
	for _, tt := range []struct {
		life string
		want gate.State
	}{
		{"ask a 30m; yes b; yes c; open; opened; close; closed", gate.Closed},
		{"ask a 30m; yes b; !open", gate.Asked},
		{"ask a 30m; !yes a; yes b; !yes b; yes d", gate.Approved},
		{"ask b 30m; !yes b; yes c; yes d", gate.Approved},
		{"ask a 30m; yes b; no c; !yes d; !open", gate.Refused},
		{"ask a 30m; !yes z", gate.Asked},
		{"ask a 30m; +25h; !yes b", gate.Asked},
		{"ask a 30m; yes b; yes c; +25h; !open", gate.Approved},
		{"ask a 30m; !close", gate.Asked},
		// closing is always possible once an opening began, and again
		{"ask a 30m; yes b; yes c; open; close; close; closed; !close; !open", gate.Closed},
		{"ask a 30m; yes b; yes c; open; opened; !open", gate.Open},
	} {
		var r *gate.Request
		now := start
		for _, step := range strings.Split(tt.life, "; ") {
			step, wrong := strings.CutPrefix(step, "!")
			f := strings.Fields(step)
			var err error
			switch {
			case f[0] == "ask":
				d, _ := time.ParseDuration(f[2])
				r, err = gate.Ask(&policy, "q-1", model.MustID("person/"+f[1]), d, "because", now, in)
			case f[0] == "yes" || f[0] == "no":
				err = r.Answer(gate.Answer{By: model.MustID("person/" + f[1]), At: now, Yes: f[0] == "yes"}, in)
			case f[0] == "open":
				err = r.StartOpening(now)
			case f[0] == "opened":
				r.Opened()
			case f[0] == "close":
				err = r.StartClosing("somebody")
			case f[0] == "closed":
				r.Closed(now)
			case f[0][0] == '+':
				d, _ := time.ParseDuration(f[0][1:])
				now = now.Add(d)
			}
			if (err != nil) != wrong || err != nil && !errors.Is(err, gate.ErrState) && !errors.Is(err, gate.ErrNotAllowed) {
				t.Errorf("%s: at %q: %v", tt.life, step, err)
			}
			now = now.Add(time.Second)
		}
		if r.State != tt.want {
			t.Errorf("%s: %s, want %s", tt.life, r.State, tt.want)
		}
	}
}

func TestAsk(t *testing.T) {
	for _, tt := range []struct {
		who, reason, want string
		stay              time.Duration
	}{
		{"person/a", "x", "", time.Hour},
		{"person/c", "x", "may not ask", time.Hour},
		{"person/a", " ", "reason", time.Hour},
		{"person/a", "x", "the longest is 1h", time.Hour + time.Second},
		{"person/a", "x", "the longest is 1h", 0},
	} {
		_, err := gate.Ask(&policy, "q", model.MustID(tt.who), tt.stay, tt.reason, start, in)
		if (err == nil) != (tt.want == "") || err != nil && (!strings.Contains(err.Error(), tt.want) || !errors.Is(err, gate.ErrNotAllowed)) {
			t.Errorf("%+v: %v", tt, err)
		}
	}
	free := policy
	free.Approvals = 0
	if r, err := gate.Ask(&free, "q", model.MustID("person/a"), time.Minute, "x", start, in); err != nil || r.State != gate.Approved {
		t.Errorf("a gate without approvals: %v %v", r, err)
	}
}

// TestDue: what never ends by itself is closed, at once when half done.
func TestDue(t *testing.T) {
	for _, tt := range []struct {
		state  gate.State
		after  time.Duration
		closes bool
		lapses bool
	}{
		{gate.Asked, time.Hour, false, false}, {gate.Asked, 25 * time.Hour, false, true},
		{gate.Approved, time.Hour, false, false}, {gate.Approved, 25 * time.Hour, false, true},
		{gate.Opening, 0, true, false}, {gate.Closing, 0, true, false},
		{gate.Open, 59 * time.Minute, false, false}, {gate.Open, time.Hour, true, false},
		{gate.Closed, 100 * time.Hour, false, false}, {gate.Refused, 100 * time.Hour, false, false}, {gate.Lapsed, 100 * time.Hour, false, false},
	} {
		r := &gate.Request{State: tt.state, AskedAt: start, Until: start.Add(time.Hour)}
		if c, l := r.Due(start.Add(tt.after)); c != tt.closes || l != tt.lapses {
			t.Errorf("%s after %s: close %t, lapse %t", tt.state, tt.after, c, l)
		}
	}
}

// TestSignedTexts: every field that matters changes what is signed.
func TestSignedTexts(t *testing.T) {
	r, err := gate.Ask(&policy, "q-1", model.MustID("person/a"), time.Minute, "x", start, in)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{string(r.AskText()): true}
	for _, change := range []func(*gate.Request){
		func(r *gate.Request) { r.ID = "q-2" }, func(r *gate.Request) { r.Gate = "day" }, func(r *gate.Request) { r.By = model.MustID("person/b") },
		func(r *gate.Request) { r.Stay *= 2 }, func(r *gate.Request) { r.Reason = "x\ngate \"day\"" }, func(r *gate.Request) { r.Source = "n" }, func(r *gate.Request) { r.AskedAt = start.Add(1) },
	} {
		c := *r
		change(&c)
		if text := string(c.AskText()); seen[text] {
			t.Errorf("two requests sign the same text %q", text)
		} else {
			seen[text] = true
		}
	}
	yes, no := r.AnswerText(gate.Answer{Yes: true}), r.AnswerText(gate.Answer{})
	if string(yes) == string(no) {
		t.Error("yes and no sign the same text")
	}
}
