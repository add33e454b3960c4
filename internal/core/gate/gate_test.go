package gate_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
)

var (
	start  = time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	two    = 2
	none   = 0
	rights = []model.Permission{model.MustPermission("ferry/ticket:refund"), model.MustPermission("ferry/ticket:find")}
	policy = gate.Policy{Version: 2, Name: "night", Source: "m", Digest: "d1",
		Opens:  gate.Opens{Role: "admin", Where: []model.PathPattern{model.MustPathPattern("/m/**")}},
		MayAsk: []model.ID{model.MustID("person/a"), model.MustID("person/b")}, Longest: model.Duration(time.Hour),
		Approvers: []model.ID{model.MustID("person/b"), model.MustID("person/c"), model.MustID("person/d")},
		Approvals: &two}
)

func in(who model.ID, of []model.ID) bool { return slices.Contains(of, who) }

func nobody(model.ID, model.ID) bool { return false }

func wanted(who, reason string, stay time.Duration) gate.Wanted {
	return gate.Wanted{ID: "q-1", Workspace: "ws", Peer: "peer", By: model.MustID(who), Subject: model.MustID(who),
		Rights: rights, Stay: stay, Reason: reason, At: start}
}

// TestLife walks requests through lives written in a small language: ask WHO STAY,
// yes WHO, no WHO, open, opened, close, closed, lapse, and +DURATION for time that passes.
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
		{"ask a 30m; yes b; no c; !yes d; !open; !lapse", gate.Refused},
		{"ask a 30m; !yes z", gate.Asked},
		{"ask a 30m; +25h; !yes b", gate.Asked},
		{"ask a 30m; yes b; yes c; +25h; !open; lapse; !open", gate.Lapsed},
		{"ask a 30m; +23h; yes b; yes c; +2h; !open", gate.Approved}, // a day from asking, not from the answer
		{"ask a 30m; !close; !opened", gate.Asked},
		// closing is always possible once an opening began, and again
		{"ask a 30m; yes b; yes c; open; !open; close; close; closed; !close; !open; !opened; !lapse", gate.Closed},
		{"ask a 30m; yes b; yes c; open; opened; !open; !opened; !lapse", gate.Open},
	} {
		var r *gate.Request
		now := start
		for _, step := range strings.Split(tt.life, "; ") {
			step, wrong := strings.CutPrefix(step, "!")
			f := strings.Fields(step)
			var err error
			was := gate.State("")
			if r != nil {
				was = r.State
			}
			switch {
			case f[0] == "ask":
				d, _ := time.ParseDuration(f[2])
				r, err = gate.Ask(&policy, wanted("person/"+f[1], "because", d), in)
			case f[0] == "yes" || f[0] == "no":
				err = r.Answer(gate.Answer{By: model.MustID("person/" + f[1]), At: now, Yes: f[0] == "yes"}, &policy,
					in, nobody)
			case f[0] == "open":
				err = r.StartOpening(now)
			case f[0] == "opened":
				err = r.Opened()
			case f[0] == "close":
				err = r.StartClosing("somebody")
			case f[0] == "closed":
				r.Closed(now)
			case f[0] == "lapse":
				err = r.Lapse()
			case f[0][0] == '+':
				d, _ := time.ParseDuration(f[0][1:])
				now = now.Add(d)
			}
			if (err != nil) != wrong || err != nil && !errors.Is(err, gate.ErrState) &&
				!errors.Is(err, gate.ErrNotAllowed) {
				t.Errorf("%s: at %q: %v", tt.life, step, err)
			}
			if r.State != was && !gate.Follows(was, r.State) {
				t.Errorf("%s: at %q it goes from %q to %q", tt.life, step, was, r.State)
			}
			now = now.Add(time.Second)
		}
		if r.State != tt.want {
			t.Errorf("%s: %s, want %s", tt.life, r.State, tt.want)
		}
	}
}

// TestFollows: no state is left backwards, and from an end nothing goes on.
func TestFollows(t *testing.T) {
	all := []gate.State{gate.Asked, gate.Approved, gate.Opening, gate.Open, gate.Closing, gate.Closed, gate.Refused,
		gate.Lapsed}
	for i, a := range all {
		for j, b := range all {
			if gate.Follows(a, b) && (a.Ended() || j < i || i == j && a != gate.Asked && a != gate.Closing) {
				t.Errorf("%s goes to %s", a, b)
			}
		}
		if gate.Follows("", a) != (a == gate.Asked || a == gate.Approved) {
			t.Errorf("a request begins as %s", a)
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
		{"person/a", "x", "the longest is 1h", -time.Hour},
	} {
		_, err := gate.Ask(&policy, wanted(tt.who, tt.reason, tt.stay), in)
		if (err == nil) != (tt.want == "") || err != nil &&
			(!strings.Contains(err.Error(), tt.want) || !errors.Is(err, gate.ErrNotAllowed)) {
			t.Errorf("%+v: %v", tt, err)
		}
	}
	w := wanted("person/a", "x", time.Minute)
	w.Rights = nil
	if _, err := gate.Ask(&policy, w, in); err == nil || !strings.Contains(err.Error(), "opens nothing") {
		t.Errorf("a gate that opens nothing: %v", err)
	}
	free := policy
	free.Approvals, free.Approvers = nil, nil
	if r, err := gate.Ask(&free, wanted("person/a", "x", time.Minute), in); err != nil || r.State != gate.Approved {
		t.Errorf("a gate without approvals: %v %v", r, err)
	}
	named := policy
	named.Approvals = nil
	if r, err := gate.Ask(&named, wanted("person/a", "x", time.Minute), in); err != nil || r.State != gate.Asked ||
		named.Need() != 1 {
		t.Errorf("a gate that names approvers and no number: %v %v", r, err)
	}
}

func TestPolicy(t *testing.T) {
	for _, tt := range []struct {
		change func(*gate.Policy)
		want   string
	}{
		{func(*gate.Policy) {}, ""},
		{func(p *gate.Policy) { p.Approvals = &none }, "though approvers are named"},
		{func(p *gate.Policy) { p.Approvals, p.Approvers = &none, nil }, ""},
		{func(p *gate.Policy) { p.Approvers = nil }, "nobody may approve"},
		{func(p *gate.Policy) { n := -1; p.Approvals = &n }, "nobody may approve"},
		{func(p *gate.Policy) { p.Longest = model.Duration(1000 * time.Hour) }, "is no elevation"},
		{func(p *gate.Policy) { p.Longest = model.Duration(30 * 24 * time.Hour) }, ""},
		{func(p *gate.Policy) { p.Longest = model.Duration(30*24*time.Hour + 1) }, "is no elevation"},
		{func(p *gate.Policy) { p.Longest = -1 }, "must close"},
		{func(p *gate.Policy) { p.Opens.Do = []model.PermissionPattern{rights[0].Pattern()} }, "one of the two"},
		{func(p *gate.Policy) { p.Opens.Where = nil }, "at least one place"},
		{func(p *gate.Policy) { p.MayAsk = nil }, "nobody may ask"},
		{func(p *gate.Policy) { p.Name = "a/b" }, "without spaces and slashes"},
		{func(p *gate.Policy) { p.Controls.Hours = &model.Hours{From: "25:00"} }, "controls"},
	} {
		p := policy
		tt.change(&p)
		if err := p.Validate(); (err == nil) != (tt.want == "") || err != nil &&
			!strings.Contains(err.Error(), tt.want) {
			t.Errorf("want %q: %v", tt.want, err)
		}
	}
}

// approved is a request of a, approved by c and d, and the evidence with which it opens.
func approved(t *testing.T) (*gate.Request, *gate.Policy, *gate.Evidence) {
	t.Helper()
	p := policy
	r, err := gate.Ask(&p, wanted("person/a", "x", time.Hour), in)
	if err != nil {
		t.Fatal(err)
	}
	for i, who := range []string{"person/c", "person/d"} {
		if err := r.Answer(gate.Answer{By: model.MustID(who), At: start.Add(time.Duration(i+1) * time.Minute),
			Yes: true}, &p, in, nobody); err != nil {
			t.Fatal(err)
		}
	}
	return r, &p, &gate.Evidence{Workspace: "ws", Peer: "peer", Rights: slices.Clone(rights), Member: in, Same: nobody,
		Asked:    gate.Proof{By: r.By, Key: "ka"},
		Answered: []gate.Proof{{By: model.MustID("person/c"), Key: "kc"}, {By: model.MustID("person/d"), Key: "kd"}},
		Local:    start.Add(time.Hour), Server: start.Add(time.Hour + time.Second), Ledger: start}
}

// TestSecondAnswer: who has answered, or is the same person under another name, answers no more.
func TestSecondAnswer(t *testing.T) {
	same := func(a, b model.ID) bool { return a.Name == "c" && b.Name == "d" }
	for _, tt := range []struct {
		who  string
		same gate.Same
		ok   bool
	}{{"person/d", nobody, true}, {"person/c", nobody, false}, {"person/d", same, false}} {
		r, err := gate.Ask(&policy, wanted("person/a", "x", time.Hour), in)
		if err != nil {
			t.Fatal(err)
		}
		first := gate.Answer{By: model.MustID("person/c"), At: start.Add(time.Minute), Yes: true}
		if err := r.Answer(first, &policy, in, nobody); err != nil {
			t.Fatal(err)
		}
		second := gate.Answer{By: model.MustID(tt.who), At: start.Add(time.Minute), Yes: true}
		err = r.Answer(second, &policy, in, tt.same)
		if (err == nil) != tt.ok || err != nil && !strings.Contains(err.Error(), "has answered request") {
			t.Errorf("%s: %v", tt.who, err)
		}
	}
}

// TestOwnAnswer: who asked, or is to have it, does not answer, under whatever name.
func TestOwnAnswer(t *testing.T) {
	as := func(other string) gate.Same {
		return func(a, b model.ID) bool { return a == model.MustID("person/c") && b == model.MustID(other) }
	}
	p := policy
	p.Approvers = append(slices.Clone(p.Approvers), model.MustID("person/a"), model.MustID("person/b"))
	for _, tt := range []struct {
		who  string
		same gate.Same
		ok   bool
	}{{"person/c", nobody, true}, {"person/c", as("person/z"), true}, {"person/a", nobody, false},
		{"person/b", nobody, false}, {"person/c", as("person/a"), false}, {"person/c", as("person/b"), false}} {
		r, err := gate.Ask(&p, wanted("person/a", "x", time.Hour), in)
		if err != nil {
			t.Fatal(err)
		}
		r.Subject = model.MustID("person/b")
		err = r.Answer(gate.Answer{By: model.MustID(tt.who), At: start.Add(time.Minute), Yes: true}, &p, in, tt.same)
		if (err == nil) != tt.ok || err != nil && !errors.Is(err, gate.ErrNotAllowed) {
			t.Errorf("%s: %v", tt.who, err)
		}
	}
}

// TestReady: everything is checked anew when it opens.
func TestReady(t *testing.T) {
	for _, tt := range []struct {
		name   string
		change func(*gate.Request, *gate.Policy, *gate.Evidence)
		want   error
		says   string
	}{
		{"as approved", func(*gate.Request, *gate.Policy, *gate.Evidence) {}, nil, ""},
		{"a row set to approved", func(r *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			r.Answers,
				e.Answered = nil, nil
		}, gate.ErrNotAllowed, "0 of 2 approvals"},
		{"closed, and set back", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) { r.State = gate.Closed },
			gate.ErrState, "is closed"},
		{"of an earlier version", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) { r.Text = 0 },
			gate.ErrAskAgain, "earlier version"},
		{"the gate's file was changed", func(_ *gate.Request, p *gate.Policy, _ *gate.Evidence) { p.Digest = "d2" },
			gate.ErrAskAgain, "was changed"},
		{"another gate", func(_ *gate.Request, p *gate.Policy, _ *gate.Evidence) { p.Name = "day" }, gate.ErrAskAgain,
			""},
		{"another source", func(_ *gate.Request, p *gate.Policy, _ *gate.Evidence) { p.Source = "n" },
			gate.ErrAskAgain, ""},
		{"another workspace", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) { e.Workspace = "other" },
			gate.ErrNotAllowed, "another workspace"},
		{"another system behind the name", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Peer = "other"
		}, gate.ErrNotAllowed, "not the one"},
		{"the role was widened", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Rights = append(e.Rights, model.MustPermission("ferry/crew:hire"))
		}, gate.ErrAskAgain, "what night opens"},
		{"the role was swapped", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Rights = []model.Permission{model.MustPermission("ferry/crew:hire"), rights[1]}
		}, gate.ErrAskAgain, ""},
		{"the row was widened", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) {
			r.Rights = append(r.Rights, model.MustPermission("ferry/crew:hire"))
		}, gate.ErrAskAgain, ""},
		{"another place", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) {
			r.Where = []model.PathPattern{model.MustPathPattern("/m/x/**")}
		}, gate.ErrNotAllowed, "places"},
		{"a longer stay", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) { r.Stay *= 2 }, gate.ErrNotAllowed,
			"stay"},
		{"no stay", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) { r.Stay = 0 }, gate.ErrNotAllowed,
			"stay"},
		{"asked by a stranger's key", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Asked = gate.Proof{}
		}, gate.ErrNotAllowed, "not signed by person/a"},
		{"for somebody else", func(r *gate.Request, _ *gate.Policy,
			_ *gate.Evidence) {
			r.Subject = model.MustID("person/z")
		}, gate.ErrNotAllowed, "is not person/a"},
		{"the asker was disabled", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Member = func(who model.ID, of []model.ID) bool { return who.Name != "a" && in(who, of) }
		}, gate.ErrNotAllowed, "may not ask"},
		{"the approver left", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Member = func(who model.ID, of []model.ID) bool { return who.Name != "d" && in(who, of) }
		}, gate.ErrNotAllowed, "person/d may not answer"},
		{"old", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Local, e.Server = start.Add(25*time.Hour), start.Add(25*time.Hour)
		}, gate.ErrNotAllowed, "more than 1d ago"},
		{"a day old, and not a moment more", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Local, e.Server = start.Add(24*time.Hour), start.Add(24*time.Hour)
		}, nil, ""},
		{"old by the source's clock", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Local, e.Server = start.Add(24*time.Hour), start.Add(24*time.Hour+time.Minute)
		}, gate.ErrNotAllowed, "more than 1d ago"},
		{"old by the ledger, the clock set back", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Ledger = start.Add(48 * time.Hour)
		}, gate.ErrClock, "ledger"},
		{"the source's clock is ahead", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Server = e.Local.Add(6 * time.Minute)
		}, gate.ErrClock, "source"},
		{"the source's clock is behind", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Server = e.Local.Add(-6 * time.Minute)
		}, gate.ErrClock, "source"},
		{"asked in the future", func(r *gate.Request, _ *gate.Policy,
			_ *gate.Evidence) {
			r.AskedAt = start.AddDate(73, 0, 0)
		}, gate.ErrNotAllowed, "in the future"},
		{"one refused", func(r *gate.Request, _ *gate.Policy, _ *gate.Evidence) { r.Answers[1].Yes = false },
			gate.ErrNotAllowed, "refused"},
		{"an answer by nobody", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Answered[1] = gate.Proof{}
		}, gate.ErrNotAllowed, "not signed by person/d"},
		{"an answer by another", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Answered[1].By = model.MustID("person/b")
		}, gate.ErrNotAllowed, "not signed"},
		{"answers without proof", func(_ *gate.Request, _ *gate.Policy,
			e *gate.Evidence) {
			e.Answered = e.Answered[:1]
		}, gate.ErrNotAllowed, "not checked"},
		{"one answer copied", func(r *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			r.Answers[1], e.Answered[1] = r.Answers[0], e.Answered[0]
		}, gate.ErrNotAllowed, "answered twice"},
		{"two people of one key", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) { e.Answered[1].Key = "kc" },
			gate.ErrNotAllowed, "answered twice"},
		{"the asker's key", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) { e.Answered[1].Key = "ka" },
			gate.ErrNotAllowed, "the key that asked"},
		{"the asker's own answer", func(r *gate.Request, p *gate.Policy, e *gate.Evidence) {
			p.Approvers = append(p.Approvers, r.By)
			r.Answers[1].By, e.Answered[1] = r.By, gate.Proof{By: r.By, Key: "other"}
		}, gate.ErrNotAllowed, "own request"},
		{"a link of the asker", func(r *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Same = func(a, b model.ID) bool { return a.Name == "c" && b == r.By }
		}, gate.ErrNotAllowed, "own request"},
		{"two links of one approver", func(_ *gate.Request, _ *gate.Policy, e *gate.Evidence) {
			e.Same = func(a, b model.ID) bool { return a.Name == "c" && b.Name == "d" }
		}, gate.ErrNotAllowed, "answered twice"},
		{"an answer of long before", func(r *gate.Request, _ *gate.Policy,
			_ *gate.Evidence) {
			r.Answers[0].At = start.Add(-time.Hour)
		}, gate.ErrNotAllowed, "the answer of"},
		{"an answer of tomorrow", func(r *gate.Request, _ *gate.Policy,
			_ *gate.Evidence) {
			r.Answers[0].At = start.Add(24 * time.Hour)
		}, gate.ErrNotAllowed, "the answer of"},
	} {
		r, p, e := approved(t)
		tt.change(r, p, e)
		now, err := r.Ready(p, *e)
		if tt.want == nil {
			if err != nil || !now.Equal(e.Server) {
				t.Errorf("%s: %s, %v; the latest clock counts", tt.name, now, err)
			}
		} else if !errors.Is(err, tt.want) || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%s: %v, want %v … %q", tt.name, err, tt.want, tt.says)
		}
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
		{gate.Closed, 100 * time.Hour, false, false}, {gate.Refused, 100 * time.Hour, false, false},
		{gate.Lapsed, 100 * time.Hour, false, false},
	} {
		r := &gate.Request{State: tt.state, AskedAt: start, Until: start.Add(time.Hour)}
		if c, l := r.Due(start.Add(tt.after)); c != tt.closes || l != tt.lapses {
			t.Errorf("%s after %s: close %t, lapse %t", tt.state, tt.after, c, l)
		}
	}
}

// TestSignedTexts: every field that decides changes what is signed, and what an answer
// signs changes with what was asked.
func TestSignedTexts(t *testing.T) {
	base, _, _ := approved(t)
	seen := map[string]bool{string(base.AskText()): true}
	answers := map[string]bool{string(base.AnswerText(base.Answers[0])): true}
	more := model.MustPermission("ferry/crew:hire")
	for i, change := range []func(*gate.Request){
		func(r *gate.Request) { r.ID = "q-2" }, func(r *gate.Request) { r.Gate = "day" },
		func(r *gate.Request) { r.By = model.MustID("person/b") },
		func(r *gate.Request) { r.Subject = model.MustID("person/b") },
		func(r *gate.Request) { r.Stay *= 2 }, func(r *gate.Request) { r.Reason = "x\ngate \"day\"" },
		func(r *gate.Request) { r.Source = "n" }, func(r *gate.Request) { r.AskedAt = start.Add(time.Millisecond) },
		func(r *gate.Request) { r.Workspace = "other" }, func(r *gate.Request) { r.Peer = "other" },
		func(r *gate.Request) { r.Digest = "d2" },
		// nothing runs into the next field
		func(r *gate.Request) { r.Workspace, r.ID = "wsq", "-1" },
		func(r *gate.Request) { r.Source, r.Gate = "mn", "ight" },
		func(r *gate.Request) { r.Rights = append(slices.Clone(r.Rights), more) },
		func(r *gate.Request) { r.Rights = r.Rights[:1] },
		func(r *gate.Request) { r.Where = append(slices.Clone(r.Where), model.MustPathPattern("/n/**")) },
		func(r *gate.Request) { r.Where = nil },
		func(r *gate.Request) { r.Controls.SecondFactor = true },
		func(r *gate.Request) { r.Controls.Networks = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")} },
		func(r *gate.Request) {
			r.Controls.Hours = &model.Hours{Days: []string{"mon"}, From: "08:00", To: "09:00", Zone: "UTC"}
		},
		func(r *gate.Request) {
			r.Controls.Hours = &model.Hours{Days: []string{"mon"}, From: "08:00", To: "10:00", Zone: "UTC"}
		},
		func(r *gate.Request) {
			r.Controls.Hours = &model.Hours{Days: []string{"tue"}, From: "08:00", To: "10:00", Zone: "UTC"}
		},
		func(r *gate.Request) { r.Controls.Labels = map[string]string{"a": "b"} },
		func(r *gate.Request) { r.Controls.Labels = map[string]string{"ab": ""} },
		func(r *gate.Request) { r.Controls.From = start }, func(r *gate.Request) { r.Controls.Until = start },
		func(r *gate.Request) { r.Controls.Opaque = []string{"x"} },
	} {
		c := *base
		change(&c)
		text := string(c.AskText())
		if seen[text] {
			t.Errorf("change %d: two requests sign the same text", i)
		}
		seen[text] = true
		if text := string(c.AnswerText(c.Answers[0])); answers[text] {
			t.Errorf("change %d: two answers sign the same text", i)
		} else {
			answers[text] = true
		}
	}
	for i, change := range []func(*gate.Request, *gate.Answer){
		func(r *gate.Request, _ *gate.Answer) { r.Signature = "another ask of the same" },
		func(_ *gate.Request, a *gate.Answer) { a.Yes = false },
		func(_ *gate.Request, a *gate.Answer) { a.By = model.MustID("person/d") },
		func(_ *gate.Request, a *gate.Answer) { a.Reason = "y" },
		func(_ *gate.Request, a *gate.Answer) { a.At = start },
	} {
		c, a := *base, base.Answers[0]
		change(&c, &a)
		if text := string(c.AnswerText(a)); answers[text] {
			t.Errorf("answer %d: two answers sign the same text", i)
		} else {
			answers[text] = true
		}
	}
	w := gate.WaiveText("ws", "f-1", "r", "person/a", start, start)
	for _, other := range [][]byte{gate.WaiveText("w", "sf-1", "r", "person/a", start, start),
		gate.WaiveText("ws", "f-1", "r", "person/a", start.Add(time.Hour), start),
		gate.WaiveText("ws", "f-1", "r", "person/a", start, start.Add(time.Hour)),
		gate.WaiveText("ws", "f-1", "r", "person/b", start, start)} {
		if bytes.Equal(w, other) {
			t.Error("two waivers sign the same text")
		}
	}
	keys := map[string]bool{}
	for _, of := range [][4]string{{"w", "k", "h", "b"}, {"v", "k", "h", "b"}, {"w", "l", "h", "b"},
		{"w", "k", "i", "b"}, {"w", "k", "h", "c"}, {"wk", "", "h", "b"}} {
		keys[string(gate.KeyText(of[0], of[1], of[2], of[3]))] = true
	}
	if len(keys) != 6 {
		t.Errorf("6 vouchings for a key sign %d texts", len(keys))
	}
}

// fieldsOf reads a signed text back by nothing but the rule of RFC 4251.
func fieldsOf(t *testing.T, text []byte) (out []string) {
	t.Helper()
	for len(text) > 0 {
		if len(text) < 4 || uint64(len(text)-4) < uint64(binary.BigEndian.Uint32(text)) {
			t.Fatalf("not a row of strings: %q", text)
		}
		n := binary.BigEndian.Uint32(text)
		out, text = append(out, string(text[4:4+n])), text[4+n:]
	}
	return out
}

// FuzzText: whatever stands in the fields, the text is a row of strings in which each is
// found again, so no two requests share one.
func FuzzText(f *testing.F) {
	f.Add("ws", "q-1", "because", "peer")
	f.Add("\x00\x00\x00\x01", "", "\n\"\xff", "a\x00b")
	f.Fuzz(func(t *testing.T, workspace, id, reason, peer string) {
		r := &gate.Request{ID: id, Workspace: workspace, Reason: reason, Peer: peer, Rights: rights, AskedAt: start}
		got := fieldsOf(t, r.AskText())
		if got[0] != "clipfence gate ask 1" || got[1] != workspace || got[2] != id || got[3] != peer ||
			got[len(got)-2] != reason {
			t.Errorf("%q", got)
		}
		a := fieldsOf(t, r.AnswerText(gate.Answer{Reason: reason, At: start}))
		if len(a) != 8 || a[1] != workspace || a[2] != id || len(a[3]) != 32 || a[6] != reason {
			t.Errorf("%q", a)
		}
	})
}

// TestOpens: what a request opens is said by the role that it gives, as its version reads it.
func TestOpens(t *testing.T) {
	read, write := model.MustPermission("stow/box:read"), model.MustPermission("stow/box:write")
	asked := &gate.Policy{Opens: gate.Opens{Role: "keeper"}}
	for _, tt := range []struct {
		name string
		r    gate.Request
		want string
	}{
		{"of the first text, by its policy", gate.Request{Policy: asked, Role: "other"}, "keeper"},
		{"of a later one, by itself", gate.Request{Text: 1, Policy: asked, Role: "other"}, "other"},
		{"of a policy without a role", gate.Request{Policy: &gate.Policy{}, Rights: []model.Permission{read}},
			"stow/box:read"},
		{"of a later text without a role", gate.Request{Text: 1, Policy: asked,
			Rights: []model.Permission{read, write}}, "2 permissions"},
		{"of no policy", gate.Request{Role: "other", Rights: []model.Permission{read}}, "other"},
	} {
		if got := tt.r.Opens(); got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}
