package work

import (
	"encoding/json"
	"slices"

	"clipfence/internal/auditlog/logmap"
	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/backtest"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/posture"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
	"clipfence/internal/ledger"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
	"clipfence/internal/trust"
)

// The words of answers, named here so that whoever parses flags and renders needs no other
// package of ours than this one and the model.

// Of what somebody may do, and why.
type (
	Holding = access.Holding
	Way     = access.Way
	Refusal = access.Refusal
	Near    = access.Near
)

const (
	Allowed     = access.Allowed
	Conditional = access.Conditional
	LayerDenial = access.LayerDenial
)

// Of what somebody can give themselves.
type EscalationStep = escalate.Step

// StepActAs is the step of acting as another; the other steps are those of the catalogue.
const StepActAs = escalate.ActAs

// Of what is granted against what is used.
type (
	GaugeInput    = gauge.Input
	GaugeResult   = gauge.Result
	GrantResult   = gauge.GrantResult
	Standing      = gauge.Standing
	StandingState = gauge.State
	WithinReach   = gauge.Reach
	Placement     = gauge.Placement
	Tally         = gauge.Tally
	Reason        = gauge.Reason
)

const (
	Protected = gauge.Protected
	Disabled  = gauge.Disabled
	Idle      = gauge.Idle
	Rare      = gauge.Rare
	New       = gauge.New
	Unproven  = gauge.Unproven

	NoPath      = gauge.NoPath
	NoOperation = gauge.NoOperation
	NoCaller    = gauge.NoCaller
	NoGrant     = gauge.NoGrant
)

// Reasons are all reasons why a call is not placed, in the order in which they are told.
var Reasons = gauge.Reasons

// Of what is wrong.
type (
	FindingKind   = gauge.Kind
	SourceFinding = gauge.Finding
	Waiver        = store.Waiver
)

const (
	IdleIdentity   = gauge.IdleIdentity
	OverBroadPlace = gauge.OverBroadPlace
	OverBroadRole  = gauge.OverBroadRole
	PublicAccess   = gauge.PublicAccess
	RedundantGrant = gauge.RedundantGrant
	EndingAccess   = gauge.EndingAccess
	StandingAdmin  = gauge.StandingAdmin
	UnusedGrant    = gauge.UnusedGrant

	ActAsChain     = posture.ActAsChain
	Administrators = posture.Administrators
	DeadGrant      = posture.DeadGrant
	Escalation     = posture.Escalation
	IdleCeiling    = posture.IdleCeiling
	IdleDenial     = posture.IdleDenial
	Outsider       = posture.Outsider
	Wildcard       = posture.Wildcard
	WorkloadHands  = posture.WorkloadHands
)

// FindingKinds are all kinds of finding.
func FindingKinds() []FindingKind { return slices.Concat(gauge.Kinds, posture.Kinds) }

// OfShape reports whether a finding is proven from the survey alone, whatever is used.
func OfShape(k FindingKind) bool { return slices.Contains(posture.Kinds, k) }

// ParseSeverity reads a severity.
func ParseSeverity(s string) (gauge.Severity, bool) { return gauge.ParseSeverity(s) }

// Of what was used.
type (
	UseFilter = usage.Filter
	UseField  = usage.Field
	Outcome   = usage.Outcome
	Window    = usage.Window
)

const (
	ByIdentity   = usage.ByIdentity
	ByActingFor  = usage.ByActingFor
	ByService    = usage.ByService
	ByPermission = usage.ByPermission
	ByPath       = usage.ByPath
	ByOutcome    = usage.ByOutcome
	ByNetwork    = usage.ByNetwork

	Done    = usage.Done
	Failed  = usage.Failed
	Refused = usage.Refused

	NeverUsed  = usage.Never
	UsedOnce   = usage.Once
	UsedYearly = usage.Yearly
)

// UseFields are what uses can be grouped by, in the order of columns.
var UseFields = usage.Fields

// Caution is what an avoided break is worth.
type Caution = draft.Caution

// Of access that somebody is to have.
type (
	RefusedCall   = draft.Refused
	RefusedAnswer = draft.Answer
	Lack          = draft.Lack
)

const (
	HelpLine      = draft.Line
	HelpAlready   = draft.Already
	HelpSometimes = draft.Sometimes
	HelpCondition = draft.Condition
	HelpRule      = draft.Rule
	HelpTooMany   = draft.TooMany
)

// Of decisions on drafts.
type (
	Decision     = review.Decision
	Verdict      = review.Verdict
	DraftLessons = review.Lessons
)

const (
	DraftAccepted = review.Accepted
	DraftAside    = review.Aside
	DraftNeeded   = review.Needed
	DraftOpen     = review.Open
)

// Bin is how often what was said to be so likely was needed.
type Bin = backtest.Bin

// BacktestRow is what became of one way to narrow everybody's access.
type BacktestRow = backtest.Row

// ErrNoDenial is returned where denials would say nothing shorter than the drafts do.
var ErrNoDenial = draft.ErrNoDenial

// Cautions are how much of a place is kept beyond what was used, by their names.
var Cautions = map[string]draft.Caution{"bold": draft.Bold, "normal": draft.Normal, "careful": draft.Careful}

// Of fences and changes.
type (
	Fence     = fence.Fence
	Rehearsal = rehearse.Result
	Break     = rehearse.Break
	Record    = change.Record
	Step      = source.Step
	Right     = source.Right
	Entry     = ledger.Entry
)

const (
	ChangeDone    = change.StateDone
	ChangeHanded  = change.StateHanded
	ChangeFailed  = change.StateFailed
	ChangeRunning = change.StateRunning
)

// ErrGuard refuses what would go against a guard, or was not agreed to.
var ErrGuard = change.ErrGuard

// Say says a step of a change in a few words.
func Say(s Step) string { return change.Say(s) }

// GivesGrant returns the grant that a step gives.
func GivesGrant(s Step) (*model.Grant, bool) {
	var g model.Grant
	if s.Kind != source.Grants || s.After == nil || json.Unmarshal(s.After, &g) != nil {
		return nil, false
	}
	return &g, true
}

// FindChange finds a change by its id.
func FindChange(history []*Record, id string) (*Record, error) { return change.Find(history, id) }

// AboutGates counts the entries that are about gates.
func AboutGates(entries []Entry) int { return len(ledger.ByKind(entries, "gate.")) }

// Of elevations.
type (
	Policy       = gate.Policy
	Request      = gate.Request
	RequestState = gate.State
	Round        = patrol.Round
)

const (
	RequestAsked    = gate.Asked
	RequestApproved = gate.Approved
	RequestOpen     = gate.Open
)

// ErrState refuses what a request is not in the state for.
var ErrState = gate.ErrState

// Of files and what is kept.
type (
	Config         = config.Config
	SourceConfig   = config.Source
	Secret         = config.Secret
	KeptSurvey     = store.Survey
	TasksFile      = config.TasksFile
	NeedsFile      = config.NeedsFile
	Task           = config.Task
	OperationsFile = config.OperationsFile
	LogMap         = logmap.Map
	EstateFile     = files.EstateFile
	TrustContent   = trust.Content
)

// WholeDays reports an error when a window is no whole number of days.
func WholeDays(d model.Duration) error { return config.WholeDays(d) }
