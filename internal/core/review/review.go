// Package review is what people decide about drafts, and what follows from it.
//
// A [Decision] is about one fence file as it was read: another content is another draft, which
// nobody has decided on. The last decision on it counts ([Standing]). Who accepts it may want it
// watched first: as long as its days are not over, or a call would have been refused meanwhile, it
// is not carried out ([Decision.Watching], [Shadow]). What is refused as needed is learned from
// ([Lessons]): the same cut is not proposed to the same identity again, and such cuts less to
// others. [Order] says which draft to look at first, and [Stages] in which order many are carried
// out.
package review

import (
	"cmp"
	"math"
	"slices"
	"time"

	"clipfence/internal/core/model"
)

// A Verdict is what somebody decided.
type Verdict string

// The verdicts.
const (
	Accepted Verdict = "accepted" // it may be carried out
	Aside    Verdict = "aside"    // not now
	Needed   Verdict = "needed"   // what it takes away is needed
	Open     Verdict = "open"     // taken back: nothing is decided
)

// Verdicts are all of them.
var Verdicts = []Verdict{Accepted, Aside, Needed, Open}

// A Decision is one verdict on one draft.
type Decision struct {
	Fence   string    `json:"fence"`  // its file, as the workspace names it
	Digest  string    `json:"digest"` // SHA-256 of the file, in hexadecimal digits
	For     model.ID  `json:"for"`
	Verdict Verdict   `json:"verdict"`
	Reason  string    `json:"reason,omitempty"`
	Until   time.Time `json:"until,omitzero"` // aside and needed: as long as that; accepted: it is watched so long
	At      time.Time `json:"at"`

	// What was shown with it.
	Removes float64            `json:"removes"`             // danger that goes
	Expects float64            `json:"expects"`             // identities that are expected to have a call refused
	Goes    []model.Permission `json:"goes,omitempty"`      // altogether
	Widens  string             `json:"widens,omitempty"`    // why it gives more, of one that does
	By      model.ID           `json:"by,omitzero"`         // who signed it, of people with keys
	Sig     string             `json:"signature,omitempty"` // armored, over Text
}

// Watching reports whether an accepted draft is still watched.
func (d *Decision) Watching(now time.Time) bool {
	return d.Verdict == Accepted && now.Before(d.Until) // which no time is before where it is zero
}

// Stands reports whether a decision holds at a time: what is set aside, or called needed, comes
// back when its time is over.
func (d *Decision) Stands(now time.Time) bool {
	switch d.Verdict {
	case Accepted:
		return true
	case Aside, Needed:
		return d.Until.IsZero() || now.Before(d.Until)
	}
	return false
}

// Standing returns the last decision on a content of a fence that still stands, or nil.
func Standing(all []Decision, digest string, now time.Time) *Decision {
	for i := range slices.Backward(all) {
		if all[i].Digest == digest {
			if all[i].Stands(now) {
				return &all[i]
			}
			return nil
		}
	}
	return nil
}

// An Item is a draft to decide on.
type Item struct {
	For     model.ID
	Removes float64 // danger that goes
	Expects float64 // identities that are expected to have a call refused
	Holds   bool    // its rehearsal
	Widens  bool
}

// Order sorts drafts by the danger that goes for the risk of it, the most first; those that do
// not hold, and those that widen, come last. Items are named by their number.
func Order(items []Item) []int {
	out := make([]int, len(items))
	for i := range out {
		out[i] = i
	}
	worth := func(i Item) float64 { return i.Removes / (i.Expects + leastRisk) }
	slices.SortStableFunc(out, func(a, b int) int {
		x, y := items[a], items[b]
		return cmp.Or(compareBools(y.Holds, x.Holds), compareBools(x.Widens, y.Widens), cmp.Compare(worth(y),
			worth(x)),
			x.For.Compare(y.For))
	})
	return out
}

// leastRisk is what no draft is taken to be safer than: one identity in a hundred.
const leastRisk = 0.01

func compareBools(a, b bool) int {
	if a == b {
		return 0
	}
	if a {
		return 1
	}
	return -1
}

// Stages splits drafts into so many stages, at most, in which they are carried out: the safest
// first, and of them a few only; then about as many in each as stand before it together, so that
// what goes wrong goes wrong for few.
func Stages(items []Item, stages int) [][]int {
	order := make([]int, len(items))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := items[a], items[b]
		return cmp.Or(compareBools(x.Widens, y.Widens), cmp.Compare(x.Expects, y.Expects),
			cmp.Compare(x.Removes, y.Removes), x.For.Compare(y.For))
	})
	stages = max(1, min(stages, len(items)))
	var out [][]int
	for left := stages; len(order) > 0; left-- {
		// The sizes grow by doubling: of what is left, this stage has 1 of 2^left-1 parts.
		// That leaves one or more for each of the others.
		n := max(1, int(math.Round(float64(len(order))/(math.Exp2(float64(left))-1))))
		out = append(out, order[:n])
		order = order[n:]
	}
	return out
}

// Lessons are what decisions teach about cuts.
type Lessons struct {
	own   map[own]Decision
	share map[model.Permission][2]int // refused as needed, and accepted
}

type own struct {
	who  model.ID
	perm model.Permission
}

// Learn gathers what the decisions that stand at a time teach. Of one content the last counts.
func Learn(all []Decision, now time.Time) *Lessons {
	l := &Lessons{own: map[own]Decision{}, share: map[model.Permission][2]int{}}
	seen := map[string]bool{}
	settled := map[own]bool{} // by a newer decision on another draft for the same
	for _, d := range slices.Backward(all) {
		if seen[d.Digest] {
			continue
		}
		if seen[d.Digest] = true; !d.Stands(now) || d.Widens != "" {
			continue
		}
		for _, p := range d.Goes {
			n := l.share[p]
			switch d.Verdict {
			case Needed:
				n[0]++
				if k := (own{d.For, p}); !settled[k] {
					l.own[k], settled[k] = d, true
				}
			case Accepted:
				n[1]++
				settled[own{d.For, p}] = true
			}
			l.share[p] = n
		}
	}
	return l
}

// Keeps returns the decision that somebody needs a permission, of the source that its name says.
func (l *Lessons) Keeps(who model.ID, p model.Permission) (Decision, bool) {
	if l == nil {
		return Decision{}, false
	}
	d, ok := l.own[own{who, p}]
	return d, ok
}

// Of returns what somebody was said to need, with the decision that says so.
func (l *Lessons) Of(who model.ID) map[model.Permission]Decision {
	out := map[model.Permission]Decision{}
	for k, d := range l.own {
		if k.who == who {
			out[k.perm] = d
		}
	}
	return out
}

// priorCuts is how many accepted cuts it is taken to have seen before it saw any.
const priorCuts = 10

// Chance is how likely a cut of a permission is refused as needed: the share of those that were,
// shrunken to none by ten cuts that were accepted.
func (l *Lessons) Chance(p model.Permission) float64 {
	if l == nil {
		return 0
	}
	n := l.share[p]
	return float64(n[0]) / float64(n[0]+n[1]+priorCuts)
}

// Refused returns how many cuts of a permission were refused as needed, and how many accepted.
func (l *Lessons) Refused(p model.Permission) (refused, accepted int) {
	if l == nil {
		return 0, 0
	}
	n := l.share[p]
	return n[0], n[1]
}

// Empty reports whether nothing was learned.
func (l *Lessons) Empty() bool { return l == nil || len(l.share) == 0 }

// A Shadow is what a draft that is watched would have done to the calls since it was accepted.
type Shadow struct {
	Since   time.Time
	Until   time.Time
	Calls   int64 // that were tried
	Refused int64 // of them
	Named   int64 // that it names as given up, besides
	Days    int   // so far
	Unread  bool  // its days are over, and the log was not read to its end since
	Silent  bool  // they are over, and the log shows nothing of the end of them, whoever called
	Over    bool  // they are over, and all of it was seen
}
