// Package gate is the life of a time-limited elevation, as a pure state machine.
//
// A [Policy] says who may ask for what, for how long at most, and who approves. A
// [Request] moves asked -> approved -> opening -> open -> closing -> closed, or
// ends as refused or lapsed; each state is reached once and never left backwards
// ([Follows]). The two -ing states are written down before the source is touched:
// whoever finds one after a crash knows what may be half done and that closing again
// is always safe.
//
// What is signed is what opens: [Request.AskText] and [Request.AnswerText] are made of
// every field that decides, the rights themselves and not a role's name. And it is
// checked again at opening ([Request.Ready]), against the policy, the people and the
// clocks of then. Nothing here reads a clock.
package gate

import (
	"errors"
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
	// ErrAskAgain: what was approved is not what would open now.
	ErrAskAgain = errors.New("it is no longer what was approved; ask again")
	// ErrClock: the clocks do not agree on what time it is.
	ErrClock = errors.New("the clocks do not agree")
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
	Approvals *int            `json:"approvals,omitempty" doc:"how many must approve; default: 1 where approvers are named, else none"`
	Controls  model.Condition `json:"controls,omitzero" doc:"the grant holds only under this condition"`
	Digest    string          `json:"-"` // SHA-256 of the file as it was read, in hex
	At        model.Position  `json:"-"`
	Remarks   []model.Remark  `json:"-"` // what to write otherwise now
}

// Need returns how many must approve.
func (p *Policy) Need() int {
	switch {
	case p.Approvals != nil:
		return *p.Approvals
	case len(p.Approvers) > 0:
		return 1
	}
	return 0
}

// Opens is what a gate grants.
type Opens struct {
	Role  string                    `json:"role,omitempty" doc:"a role of the source; this or do"`
	Do    []model.PermissionPattern `json:"do,omitempty" doc:"permissions"`
	Where []model.PathPattern       `json:"where" was:"on" doc:"path patterns"`
}

// longestStay is the longest stay that a policy may allow.
const longestStay = model.Duration(30 * 24 * time.Hour)

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
	switch n := p.Need(); {
	case n < 0 || n > 0 && len(p.Approvers) == 0:
		no("approvals: nobody may approve")
	case n == 0 && len(p.Approvers) > 0:
		no("approvals: 0, though approvers are named; leave one of the two out")
	}
	if p.Longest > longestStay {
		no("longest: a stay of more than " + model.Duration(longestStay).String() + " is no elevation; write a grant")
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
