package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/model"
)

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

// next is every step that a request can take. Asked may stay, with another answer, and so
// may closing, with another try.
var next = map[State][]State{
	"":       {Asked, Approved},
	Asked:    {Asked, Approved, Refused, Lapsed},
	Approved: {Opening, Lapsed},
	Opening:  {Open, Closing},
	Open:     {Closing},
	Closing:  {Closing, Closed},
}

// Follows reports whether a request may go from one state to another; "" is none yet.
func Follows(from, to State) bool { return slices.Contains(next[from], to) }

// answerWithin is how old a request may be when it is answered, and when it opens.
const answerWithin = 24 * time.Hour

// skew is how far clocks may differ.
const skew = 5 * time.Minute

// An Answer is one approval or refusal, with the signature that proves it.
type Answer struct {
	By        model.ID  `json:"by"`
	At        time.Time `json:"at"`
	Yes       bool      `json:"yes"`
	Reason    string    `json:"reason,omitempty"`
	Signature string    `json:"signature"`
}

// TextVersion is that of the texts that are signed. Requests of before have none, and can
// only be closed.
const TextVersion = 1

// A Request asks for a gate to be opened for the person who asks.
type Request struct {
	ID        string              `json:"id"`
	Text      int                 `json:"text,omitempty"`      // version of what was signed
	Workspace string              `json:"workspace,omitempty"` // in which it was asked
	Gate      string              `json:"gate"`
	Digest    string              `json:"policy_sha256,omitempty"`
	Source    string              `json:"source"`
	Peer      string              `json:"source_id,omitempty"` // the source's own identity
	By        model.ID            `json:"by"`
	Subject   model.ID            `json:"subject,omitzero"` // who gets it, in the source's words
	Role      string              `json:"role,omitempty"`   // of the policy; what opens is Rights
	Rights    []model.Permission  `json:"rights,omitempty"`
	Where     []model.PathPattern `json:"where,omitempty"`
	Controls  model.Condition     `json:"controls,omitzero"`
	Stay      model.Duration      `json:"stay"`
	Reason    string              `json:"reason"`
	AskedAt   time.Time           `json:"asked_at"`
	Signature string              `json:"signature"`
	Answers   []Answer            `json:"answers,omitempty"`
	State     State               `json:"state"`
	Policy    *Policy             `json:"policy,omitempty"` // of requests of before
	OpenedAt  time.Time           `json:"opened_at,omitzero"`
	Until     time.Time           `json:"until,omitzero"`
	ClosedAt  time.Time           `json:"closed_at,omitzero"`
	ClosedBy  string              `json:"closed_by,omitempty"`

	Row int64 `json:"-"` // version of the stored row that it was read from; 0: none
}

// GrantID names the grant that a request opens. It follows from workspace and request, so
// that a patrol finds it after any crash, and no other workspace takes it for its own.
func (r *Request) GrantID() string {
	if r.Text == 0 {
		return "gate-" + r.ID
	}
	return "gate-" + r.Workspace[:min(12, len(r.Workspace))] + "-" + r.ID
}

// Grant returns what a request opens.
func (r *Request) Grant() model.Grant {
	g := model.Grant{ID: r.GrantID(), To: r.Subject, Where: r.Where, When: r.Controls, Until: r.Until,
		KeptWith: model.WithHolder, Created: r.OpenedAt.UTC().Truncate(time.Second)}
	if r.Text == 0 && r.Policy != nil {
		g.To, g.Role, g.Rights, g.Where, g.When = r.By, r.Policy.Opens.Role, model.Rights{Do: r.Policy.Opens.Do},
			r.Policy.Opens.Where, r.Policy.Controls
		return g
	}
	g.Rights = model.Permissions(r.Rights...)
	return g
}

// Opens says in a few words what a request opens.
func (r *Request) Opens() string {
	switch {
	case r.Text == 0 && r.Policy != nil && r.Policy.Opens.Role != "":
		return r.Policy.Opens.Role
	case r.Role != "":
		return r.Role
	case len(r.Rights) == 1:
		return r.Rights[0].String()
	}
	return fmt.Sprintf("%d permissions", len(r.Rights))
}

// Member reports whether an identity is enabled, and one of, or in one of, some others.
type Member func(who model.ID, of []model.ID) bool

// Same reports whether two identities are one person, by links between sources.
type Same func(a, b model.ID) bool

// Wanted is what somebody asks for.
type Wanted struct {
	ID        string // "q-" and 128 random bits in hex
	Workspace string
	Peer      string
	By        model.ID
	Subject   model.ID
	Rights    []model.Permission // what the policy opens, as the source defines it now
	Stay      time.Duration
	Reason    string
	At        time.Time
}

// Ask makes a request, unsigned.
func Ask(p *Policy, w Wanted, in Member) (*Request, error) {
	switch {
	case !in(w.By, p.MayAsk):
		return nil, fmt.Errorf("%w: %s may not ask for %s", ErrNotAllowed, w.By, p.Name)
	case w.Stay <= 0 || w.Stay > time.Duration(p.Longest):
		return nil, fmt.Errorf("%w: a stay of %s is asked, the longest is %s", ErrNotAllowed, model.Duration(w.Stay),
			p.Longest)
	case strings.TrimSpace(w.Reason) == "":
		return nil, fmt.Errorf("%w: a reason is needed", ErrNotAllowed)
	case len(w.Rights) == 0:
		return nil, fmt.Errorf("%w: %s opens nothing that the source knows", ErrNotAllowed, p.Name)
	}
	r := &Request{ID: w.ID, Text: TextVersion, Workspace: w.Workspace, Gate: p.Name, Digest: p.Digest,
		Source: p.Source, Peer: w.Peer, By: w.By, Subject: w.Subject, Role: p.Opens.Role,
		Rights: sorted(w.Rights), Where: p.Opens.Where, Controls: p.Controls, Stay: model.Duration(w.Stay),
		Reason: w.Reason, AskedAt: w.At.UTC().Truncate(time.Millisecond), State: Asked}
	if p.Need() == 0 {
		r.State = Approved
	}
	return r, nil
}

func sorted(ps []model.Permission) []model.Permission {
	out := slices.Clone(ps)
	slices.SortFunc(out, model.Permission.Compare)
	return slices.Compact(out)
}

// current reports why a policy is not the one that was asked for, or nil.
func (r *Request) current(p *Policy) error {
	switch {
	case r.Text != TextVersion:
		return fmt.Errorf("%w: request %s was made by an earlier version", ErrAskAgain, r.ID)
	case p.Name != r.Gate || p.Source != r.Source || p.Digest != r.Digest:
		return fmt.Errorf("%w: the file of gate %s was changed since request %s", ErrAskAgain, r.Gate, r.ID)
	}
	return nil
}

// mayAnswer reports why somebody may not answer a request, or nil.
func (r *Request) mayAnswer(by model.ID, p *Policy, in Member, same Same) error {
	switch {
	case !in(by, p.Approvers):
		return fmt.Errorf("%w: %s may not answer for %s", ErrNotAllowed, by, r.Gate)
	case by == r.By || by == r.Subject || same(by, r.By) || same(by, r.Subject):
		return fmt.Errorf("%w: nobody answers their own request", ErrNotAllowed)
	}
	return nil
}

// Answer adds an approval or a refusal.
func (r *Request) Answer(a Answer, p *Policy, in Member, same Same) error {
	if r.State != Asked {
		return fmt.Errorf("%w: request %s is %s", ErrState, r.ID, r.State)
	}
	if err := r.current(p); err != nil {
		return err
	}
	if d := a.At.Sub(r.AskedAt); d > answerWithin || d < -skew {
		return fmt.Errorf("%w: request %s was asked at %s, more than %s from now", ErrState, r.ID,
			r.AskedAt.Format(time.RFC3339), model.Duration(answerWithin))
	}
	if err := r.mayAnswer(a.By, p, in, same); err != nil {
		return err
	}
	for _, o := range r.Answers {
		if o.By == a.By || same(o.By, a.By) {
			return fmt.Errorf("%w: %s has answered request %s already", ErrState, o.By, r.ID)
		}
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
	case yes >= p.Need():
		r.State = Approved
	}
	return nil
}

// A Proof says whose key a signature is by. The zero Proof is that of one which does not
// hold, or is by nobody who is known.
type Proof struct {
	By  model.ID
	Key string // its fingerprint
}

// Evidence is what an opening is checked against: what the workspace, its ledger, the
// source and the clocks say now.
type Evidence struct {
	Workspace, Peer string
	Rights          []model.Permission // what the policy opens, as the source defines it now
	Member          Member
	Same            Same
	Asked           Proof
	Answered        []Proof // one for each answer

	Local  time.Time // this machine's clock
	Ledger time.Time // of the last entry; zero for none
	Server time.Time // the source's; zero where it tells none
}

// Now returns the time that counts, the latest that anybody knows of; [ErrClock] when they
// differ too much.
func (e Evidence) Now() (time.Time, error) {
	now := e.Local
	if e.Ledger.Sub(e.Local) > skew {
		return now, fmt.Errorf("%w: the ledger's last entry is of %s, and here it is %s", ErrClock,
			e.Ledger.Format(time.RFC3339), e.Local.Format(time.RFC3339))
	}
	if d := e.Server.Sub(e.Local).Abs(); !e.Server.IsZero() && d > skew {
		return now, fmt.Errorf("%w: the source says it is %s, and here it is %s", ErrClock,
			e.Server.Format(time.RFC3339), e.Local.Format(time.RFC3339))
	}
	for _, t := range []time.Time{e.Ledger, e.Server} {
		if t.After(now) {
			now = t
		}
	}
	return now, nil
}

// Ready checks everything about an approved request anew, and returns the time that counts.
func (r *Request) Ready(p *Policy, e Evidence) (time.Time, error) {
	no := func(format string, args ...any) (time.Time, error) {
		return time.Time{}, fmt.Errorf("%w: request %s: %s", ErrNotAllowed, r.ID, fmt.Sprintf(format, args...))
	}
	if r.State != Approved {
		return time.Time{}, fmt.Errorf("%w: request %s is %s, not approved", ErrState, r.ID, r.State)
	}
	if err := r.current(p); err != nil {
		return time.Time{}, err
	}
	now, err := e.Now()
	if err != nil {
		return now, err
	}
	switch {
	case r.Workspace != e.Workspace:
		return no("it was asked in another workspace")
	case r.Peer != e.Peer:
		return no("source %s is not the one that it was asked for", r.Source)
	case !slices.Equal(r.Rights, sorted(e.Rights)):
		return time.Time{}, fmt.Errorf("%w: what %s opens in %s was changed since request %s", ErrAskAgain, r.Gate,
			r.Source, r.ID)
	case !slices.EqualFunc(r.Where, p.Opens.Where, func(a, b model.PathPattern) bool { return a == b }):
		return no("its places are not those of the gate")
	case r.Stay <= 0 || r.Stay > p.Longest:
		return no("its stay is not one that the gate allows")
	case e.Asked.By != r.By:
		return no("the request is not signed by %s", r.By)
	case r.Subject != r.By && !e.Same(r.Subject, r.By):
		return no("%s is not %s", r.Subject, r.By)
	case !e.Member(r.By, p.MayAsk):
		return no("%s may not ask for %s any more", r.By, r.Gate)
	case now.Sub(r.AskedAt) > answerWithin:
		return no("it was asked more than %s ago", model.Duration(answerWithin))
	case r.AskedAt.Sub(now) > skew:
		return no("it was asked in the future, at %s", r.AskedAt.Format(time.RFC3339))
	case len(e.Answered) != len(r.Answers):
		return no("its answers were not checked")
	}
	var counted []Proof
	for i, a := range r.Answers {
		proof := e.Answered[i]
		switch {
		case proof.By != a.By || a.By.IsZero():
			return no("an answer is not signed by %s", a.By)
		case !a.Yes:
			return no("%s refused it", a.By)
		case a.At.Sub(r.AskedAt) < -skew || a.At.Sub(now) > skew:
			return no("the answer of %s is of %s", a.By, a.At.Format(time.RFC3339))
		case proof.Key == e.Asked.Key:
			return no("it is answered by the key that asked")
		}
		if err := r.mayAnswer(a.By, p, e.Member, e.Same); err != nil {
			return time.Time{}, err
		}
		for _, o := range counted {
			if o.By == a.By || o.Key == proof.Key || e.Same(o.By, a.By) {
				return no("%s answered twice", a.By)
			}
		}
		counted = append(counted, proof)
	}
	if len(counted) < p.Need() {
		return no("it has %d of %d approvals", len(counted), p.Need())
	}
	return now, nil
}

// StartOpening fixes when the stay ends: the stay from now. It is written down before the
// grant is made.
func (r *Request) StartOpening(now time.Time) error {
	if r.State != Approved {
		return fmt.Errorf("%w: request %s is %s, not approved", ErrState, r.ID, r.State)
	}
	if now.Sub(r.AskedAt) > answerWithin {
		return fmt.Errorf("%w: request %s was asked more than %s ago", ErrState, r.ID, model.Duration(answerWithin))
	}
	r.OpenedAt, r.Until = now, now.Add(time.Duration(r.Stay)).UTC().Truncate(time.Second)
	r.State = Opening
	return nil
}

// Opened says that the grant is there.
func (r *Request) Opened() error {
	if r.State != Opening {
		return fmt.Errorf("%w: request %s is %s, not opening", ErrState, r.ID, r.State)
	}
	r.State = Open
	return nil
}

// StartClosing is written down before the grant is taken away. Closing what never
// opened, or closing again, is fine.
func (r *Request) StartClosing(by string) error {
	if r.State != Opening && r.State != Open && r.State != Closing {
		return fmt.Errorf("%w: request %s is %s; there is nothing to close", ErrState, r.ID, r.State)
	}
	r.State, r.ClosedBy = Closing, by
	return nil
}

// Closed says that the grant is gone.
func (r *Request) Closed(at time.Time) { r.State, r.ClosedAt = Closed, at }

// Lapse ends a request that nobody answered or opened.
func (r *Request) Lapse() error {
	if r.State != Asked && r.State != Approved {
		return fmt.Errorf("%w: request %s is %s", ErrState, r.ID, r.State)
	}
	r.State = Lapsed
	return nil
}

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
	case Asked, Approved:
		return false, now.Sub(r.AskedAt) > answerWithin
	}
	return false, false
}
