// Package gate is the life of a time-limited elevation, as a pure state machine.
//
// A [Policy] says who may ask for what, for how long at most, and who approves. A
// [Request] moves asked -> approved -> opening -> open -> closing -> closed, or
// ends as refused or lapsed. The two -ing states are written down before the
// source is touched: whoever finds one after a crash knows what may be half done
// and that closing again is always safe. Nothing here reads a clock.
package gate

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/model"
)

// Errors that callers decide on.
var (
	// ErrNotAllowed: the policy does not let this person do that.
	ErrNotAllowed = errors.New("the gate does not allow it")
	// ErrState: the request is not in a state for that.
	ErrState = errors.New("the request is not ready for it")
)

// A Policy is the content of a gate file.
type Policy struct {
	Version   int             `json:"gate" doc:"version of this format: 2"`
	Name      string          `json:"name" doc:"the gate's name, as its file"`
	Source    string          `json:"source" doc:"in which source it opens"`
	Opens     Opens           `json:"opens" doc:"what is granted while it is open"`
	MayAsk    []model.ID      `json:"may_ask" doc:"people and groups that may ask"`
	Longest   model.Duration  `json:"longest" doc:"the longest stay, such as 4h"`
	Approvers []model.ID      `json:"approvers,omitempty" doc:"people and groups that may approve"`
	Approvals int             `json:"approvals" doc:"how many must approve; 0: none"`
	Controls  model.Condition `json:"controls,omitzero" doc:"the grant holds only under this condition"`
	At        model.Position  `json:"-"`
	Remarks   []model.Remark  `json:"-"` // what to write otherwise now
}

// Opens is what a gate grants.
type Opens struct {
	Role  string                    `json:"role,omitempty" doc:"a role of the source; this or do"`
	Do    []model.PermissionPattern `json:"do,omitempty" doc:"permissions"`
	Where []model.PathPattern       `json:"where" was:"on" doc:"path patterns"`
}

// Validate reports what is wrong with a policy, or nil.
func (p *Policy) Validate() error {
	var why []string
	no := func(s string) { why = append(why, s) }
	if p.Name == "" || strings.ContainsAny(p.Name, "/\\ ") {
		no("name: a gate needs a name without spaces and slashes")
	}
	if (p.Opens.Role == "") == (len(p.Opens.Do) == 0) {
		no("opens: a gate opens a role or do, one of the two")
	}
	if len(p.Opens.Where) == 0 {
		no("opens: a gate names at least one place (where)")
	}
	if len(p.MayAsk) == 0 {
		no("may_ask: nobody may ask")
	}
	if p.Longest <= 0 {
		no("longest: a gate must close")
	}
	if p.Approvals < 0 || p.Approvals > 0 && len(p.Approvers) == 0 {
		no("approvals: nobody may approve")
	}
	if h := p.Controls.Hours; h != nil {
		if err := h.Validate(); err != nil {
			no("controls: " + err.Error())
		}
	}
	if why == nil {
		return nil
	}
	return &model.Fault{At: p.At, What: strings.Join(why, "; ")}
}

// A State is where a request stands.
type State string

// The states of a request.
const (
	Asked    State = "asked"
	Approved State = "approved"
	Opening  State = "opening"
	Open     State = "open"
	Closing  State = "closing"
	Closed   State = "closed"
	Refused  State = "refused"
	Lapsed   State = "lapsed" // nobody answered, or nobody opened, in time
)

// Ended reports whether nothing more can happen.
func (s State) Ended() bool { return s == Closed || s == Refused || s == Lapsed }

// answerWithin is how long a request waits for its approval, and an approved one
// for being opened.
const answerWithin = 24 * time.Hour

// An Answer is one approval or refusal, with the signature that proves it.
type Answer struct {
	By        model.ID  `json:"by"`
	At        time.Time `json:"at"`
	Yes       bool      `json:"yes"`
	Reason    string    `json:"reason,omitempty"`
	Signature string    `json:"signature"`
}

// A Request asks for a gate to be opened for the person who asks.
type Request struct {
	ID        string         `json:"id"`
	Gate      string         `json:"gate"`
	Source    string         `json:"source"`
	By        model.ID       `json:"by"`
	Stay      model.Duration `json:"stay"`
	Reason    string         `json:"reason"`
	AskedAt   time.Time      `json:"asked_at"`
	Signature string         `json:"signature"`
	Answers   []Answer       `json:"answers,omitempty"`
	State     State          `json:"state"`
	Policy    Policy         `json:"policy"` // as it stood when it was asked
	OpenedAt  time.Time      `json:"opened_at,omitzero"`
	Until     time.Time      `json:"until,omitzero"`
	ClosedAt  time.Time      `json:"closed_at,omitzero"`
	ClosedBy  string         `json:"closed_by,omitempty"`
}

// GrantID names the grant that a request opens. It follows from the request, so
// that a patrol finds it after any crash.
func (r *Request) GrantID() string { return "gate-" + r.ID }

// Member reports whether an identity is one of, or in one of, some others.
type Member func(who model.ID, of []model.ID) bool

// Ask makes a request, unsigned.
func Ask(p *Policy, id string, by model.ID, stay time.Duration, reason string, at time.Time, in Member) (*Request, error) {
	switch {
	case !in(by, p.MayAsk):
		return nil, fmt.Errorf("%w: %s may not ask for %s", ErrNotAllowed, by, p.Name)
	case stay <= 0 || stay > time.Duration(p.Longest):
		return nil, fmt.Errorf("%w: a stay of %s is asked, the longest is %s", ErrNotAllowed, model.Duration(stay), p.Longest)
	case strings.TrimSpace(reason) == "":
		return nil, fmt.Errorf("%w: a reason is needed", ErrNotAllowed)
	}
	r := &Request{ID: id, Gate: p.Name, Source: p.Source, By: by, Stay: model.Duration(stay), Reason: reason, AskedAt: at, State: Asked, Policy: *p}
	if p.Approvals == 0 {
		r.State = Approved
	}
	return r, nil
}

// AskText is what the asker signs.
func (r *Request) AskText() []byte {
	return fmt.Appendf(nil, "clipfence gate ask\nrequest %q\ngate %q\nsource %q\nby %q\nstay %q\nreason %q\nat %s\n", r.ID, r.Gate, r.Source, r.By, r.Stay, r.Reason, r.AskedAt.UTC().Format(time.RFC3339Nano))
}

// AnswerText is what an approver signs: the request as asked, and the answer.
func (r *Request) AnswerText(a Answer) []byte {
	return append(r.AskText(), fmt.Appendf(nil, "answer %t\nby %q\nreason %q\nat %s\n", a.Yes, a.By, a.Reason, a.At.UTC().Format(time.RFC3339Nano))...)
}

// Answer adds an approval or a refusal.
func (r *Request) Answer(a Answer, in Member) error {
	switch {
	case r.State != Asked:
		return fmt.Errorf("%w: request %s is %s", ErrState, r.ID, r.State)
	case a.At.Sub(r.AskedAt) > answerWithin:
		return fmt.Errorf("%w: request %s was asked more than %s ago", ErrState, r.ID, model.Duration(answerWithin))
	case !in(a.By, r.Policy.Approvers):
		return fmt.Errorf("%w: %s may not answer for %s", ErrNotAllowed, a.By, r.Gate)
	case a.By == r.By:
		return fmt.Errorf("%w: nobody answers their own request", ErrNotAllowed)
	case slices.ContainsFunc(r.Answers, func(o Answer) bool { return o.By == a.By }):
		return fmt.Errorf("%w: %s has answered request %s already", ErrState, a.By, r.ID)
	}
	r.Answers = append(r.Answers, a)
	yes := 0
	for _, o := range r.Answers {
		if o.Yes {
			yes++
		}
	}
	switch {
	case !a.Yes:
		r.State = Refused
	case yes >= r.Policy.Approvals:
		r.State = Approved
	}
	return nil
}

// StartOpening fixes when the stay ends. It is written down before the grant is
// made.
func (r *Request) StartOpening(at time.Time) error {
	if r.State != Approved && r.State != Opening {
		return fmt.Errorf("%w: request %s is %s, not approved", ErrState, r.ID, r.State)
	}
	if r.State == Approved {
		if at.Sub(r.lastAnswer()) > answerWithin {
			return fmt.Errorf("%w: request %s was approved more than %s ago", ErrState, r.ID, model.Duration(answerWithin))
		}
		r.OpenedAt, r.Until = at, at.Add(time.Duration(r.Stay)).UTC().Truncate(time.Second)
	}
	r.State = Opening
	return nil
}

func (r *Request) lastAnswer() time.Time {
	t := r.AskedAt
	for _, a := range r.Answers {
		if a.At.After(t) {
			t = a.At
		}
	}
	return t
}

// Opened says that the grant is there.
func (r *Request) Opened() { r.State = Open }

// StartClosing is written down before the grant is taken away. Closing what never
// opened, or closing again, is fine.
func (r *Request) StartClosing(by string) error {
	if r.State.Ended() || r.State == Asked || r.State == Approved {
		return fmt.Errorf("%w: request %s is %s; there is nothing to close", ErrState, r.ID, r.State)
	}
	r.State, r.ClosedBy = Closing, by
	return nil
}

// Closed says that the grant is gone.
func (r *Request) Closed(at time.Time) { r.State, r.ClosedAt = Closed, at }

// Due says what time makes of a request: whether it must be closed now, or has
// lapsed.
func (r *Request) Due(now time.Time) (closeIt, lapsed bool) {
	switch r.State {
	case Opening, Closing:
		// Whoever was at it died half-way. Closing is always safe, and whoever is
		// still at it finds the request closed and takes the grant back.
		return true, false
	case Open:
		return !now.Before(r.Until), false
	case Asked:
		return false, now.Sub(r.AskedAt) > answerWithin
	case Approved:
		return false, now.Sub(r.lastAnswer()) > answerWithin
	}
	return false, false
}
