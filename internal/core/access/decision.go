package access

import (
	"slices"

	"clipfence/internal/core/model"
)

// Has reports whether some set holds p.
func Has(sets []model.Rights, p model.Permission) bool {
	return slices.ContainsFunc(sets, func(s model.Rights) bool { return s.Has(p) })
}

// A Member is one member of a closure and how it was reached.
type Member struct {
	ID    model.ID
	Chain []model.ID // from the identity asked about to ID, both included
}

// Outcome is the three-valued answer of a decision.
type Outcome int

// The outcomes. The zero Outcome is Denied: the safe one.
const (
	Denied Outcome = iota
	Conditional
	Allowed
)

// String returns "denied", "allowed if" or "allowed".
func (o Outcome) String() string { return [...]string{"denied", "allowed if", "allowed"}[o] }

// A Way is one grant that would allow the call.
type Way struct {
	Grant  *model.Grant    // nil for a bypass
	Chain  []model.ID      // from the identity to whom the grant names
	Met    model.Truth     // True, or Open with Rest
	Rest   model.Condition // what is left of the grant's condition
	Bypass bool            // the source lets this identity through every check
}

// The layers that can refuse a call.
const (
	LayerDenial    = "denial"
	LayerGuardrail = "guardrail"
	LayerCeiling   = "ceiling"
)

// A Refusal is one rule that refuses the call, or would under its condition.
type Refusal struct {
	Layer  string
	ID     string
	Rights model.Rights        // of a denial those that it refuses, of the others those that they admit
	Where  []model.PathPattern // the places of the rule
	Chain  []model.ID          // from the identity to whom a denial names
	Met    model.Truth         // True, or Open with Rest
	Rest   model.Condition     // what is left of a denial's condition
}

// Denies is the refusal by a denial.
func Denies(d *model.Denial, chain []model.ID, met model.Truth, rest model.Condition) Refusal {
	return Refusal{LayerDenial, d.ID, d.Rights, d.Where, chain, met, rest}
}

// Bars is the refusal by a guardrail.
func Bars(g *model.Guardrail) Refusal {
	return Refusal{Layer: LayerGuardrail, ID: g.ID, Rights: g.Rights, Where: []model.PathPattern{g.Node.Below()},
		Met: model.True}
}

// Caps is the refusal by a ceiling.
func Caps(c *model.Ceiling) Refusal {
	return Refusal{Layer: LayerCeiling, ID: c.ID, Rights: c.Rights, Where: c.Where, Met: model.True}
}

// A Decision is the answer to one question with every rule that had a say.
type Decision struct {
	Outcome  Outcome
	Refusals []Refusal // in the order of the layers
	Ways     []Way     // unconditional ones first
	Unmet    []Way     // grants that cover it, whose condition does not hold here
}

// Settle puts the unconditional ways first and draws the outcome from what was found.
func (d *Decision) Settle() {
	slices.SortStableFunc(d.Ways, func(a, b Way) int { return int(b.Met) - int(a.Met) })
	d.Outcome = outcome(*d)
}

// outcome is allowed when some grant gives it and nothing stands against it.
func outcome(d Decision) Outcome {
	refused := model.False
	for _, r := range d.Refusals {
		if r.Met == model.True {
			return Denied
		}
		refused = model.Open
	}
	switch {
	case len(d.Ways) == 0:
		return Denied
	case refused == model.False && d.Ways[0].Met == model.True:
		return Allowed
	}
	return Conditional
}

// A Mask is an identity that another can act as, with the steps that lead there.
type Mask struct {
	ID    model.ID
	Steps []*model.ActAs // from the identity asked about to ID
}

// A Holding is one grant as it reaches an identity, with the permissions that it gives
// there after the layers that take away.
type Holding struct {
	Number  int // of the grant
	Grant   *model.Grant
	Chain   []model.ID
	Perms   Set // by number
	Blocked int // permissions of the grant that no layer lets through anywhere it reaches
}

// A Near is one step that would turn a refusal into an allowance.
type Near struct {
	Grant *model.Grant // gives the permission elsewhere, or is given to a group
	Group model.ID     // whoever joins it may
	Depth int          // of the place that the grant and the path share
}

// Shared returns the depth of the deepest node that a path and one of some places lie
// under.
func Shared(on []model.PathPattern, path model.Path) int {
	depth := 0
	for _, p := range on {
		if at, ok := p.Anchor(); ok {
			for up, more := path, true; more; up, more = up.Parent() {
				if up.Covers(at) {
					depth = max(depth, up.Depth())
					break
				}
			}
		}
	}
	return depth
}
