package gauge

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
)

// What a comparison tells of one identity
//
// A comparison of everything takes minutes on a large estate, and whoever asks about one identity waits nearly as
// long: who else may have made a call, and what no log shows, takes all of it. So what a comparison says of
// each identity, and of each grant to it, can be kept and read again, one by one. The uses are not kept with it:
// whoever has those of the few that it asks about credits them anew, see [Result.Credit].

// toldAll is what is told of a comparison besides.
type toldAll struct {
	Window     usage.Window
	Observable float64
	Drafts     bool     // with the grants that others make needless, which drafts look at
	Pillars    *pillars `json:",omitempty"`
}

// toldOf is what is told of one whom the estate lists or grants name.
type toldOf struct {
	Standing *Standing   `json:",omitempty"` // without its grants and what the estate says of it
	Calls    *Tally      `json:",omitempty"`
	Grants   []toldGrant `json:",omitempty"`
}

type toldGrant struct {
	Number       int
	Since        time.Time
	Used         access.Few `json:",omitempty"`
	Rare         access.Few `json:",omitempty"`
	TooNew       access.Few `json:",omitempty"`
	Undecidable  access.Few `json:",omitempty"`
	Unobservable access.Few `json:",omitempty"`
	Unused       access.Few `json:",omitempty"`
	Held         access.Few `json:",omitempty"`
	HeldBy       State      `json:",omitempty"`
	Refused      access.Few `json:",omitempty"`
	Frozen       access.Few `json:",omitempty"`
	Danger       float64
	Blind        float64
	Kept         float64
	Nodes        int
	UsedNodes    int

	Spare []int `json:",omitempty"` // see [Result.Redundant]
}

// Tell writes what a whole comparison tells: of itself, and one by one of each whom the estate lists or grants name;
// where drafts is given, which is what was compared, with the grants that others make needless. It is an error of one
// that did not measure everybody.
func (r *Result) Tell(drafts *Input) (all []byte, who []model.ID, of func(model.ID) ([]byte, error), err error) {
	if all, err = json.Marshal(toldAll{r.Window, r.Observable, drafts != nil, r.pillars}); err != nil {
		return nil, nil, nil, err
	}
	var spare map[int][]int
	if drafts != nil {
		spare = r.Redundant(drafts)
	}
	for _, s := range r.Standings {
		if !s.reached {
			return nil, nil, nil, errors.New("not everybody was measured")
		}
		who = append(who, s.ID)
	}
	others := map[model.ID][]*GrantResult{} // whom the estate does not list
	for _, g := range r.Grants {
		if g == nil || r.byID[g.Grant.To] != nil {
			continue
		}
		if others[g.Grant.To] == nil {
			who = append(who, g.Grant.To)
		}
		others[g.Grant.To] = append(others[g.Grant.To], g)
	}
	return all, who, func(id model.ID) ([]byte, error) {
		t, grants := toldOf{}, others[id]
		if s := r.byID[id]; s != nil {
			one := *s
			one.Grants, one.Identity = nil, model.Identity{ID: id} // which is one to read it again
			t.Standing, t.Calls, grants = &one, r.Placement.Of[id], s.Grants
		}
		for _, g := range grants {
			one := toldGrant{g.Number, g.Since, g.Used, g.Rare, g.TooNew, g.Undecidable, g.Unobservable, g.Unused,
				g.Held, g.HeldBy, g.Refused, g.Frozen, g.Danger, g.Blind, g.Kept, g.Nodes, g.UsedNodes, nil}
			one.Spare = spare[g.Number]
			t.Grants = append(t.Grants, one)
		}
		return json.Marshal(&t)
	}, nil
}

// ErrUntold: what was kept is not what a comparison of the estate tells.
var ErrUntold = errors.New("this was not told of the estate")

// Retell reads what was told of a comparison of the same estate about some identities: their standing, how their calls
// could be placed, and the grants that reach them. Get returns what was told of one; false: nothing was. [ErrUntold].
func Retell(x *index.Index, w Weights, ids []model.ID, all []byte, get func(model.ID) ([]byte, bool, error)) (*Result,
	error) {
	var head toldAll
	if err := json.Unmarshal(all, &head); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUntold, err)
	}
	r := &Result{Window: head.Window, Observable: head.Observable, byID: map[model.ID]*Standing{},
		Grants: make([]*GrantResult, x.GrantNumbers()), Placement: &Placement{Of: map[model.ID]*Tally{}},
		Scale: NewScale(x, w), pillars: head.Pillars}
	if head.Drafts {
		r.redundant.Do(func() { r.spare = map[int][]int{} })
	}
	read := map[int]bool{}
	for _, id := range ids {
		for _, n := range x.Givers(id) {
			if read[n] {
				continue
			}
			read[n] = true
			if err := r.retell(x, x.ID(n), get); err != nil {
				return nil, err
			}
		}
	}
	return r, nil
}

// retell reads what was told of one, by name.
func (r *Result) retell(x *index.Index, to model.ID, get func(model.ID) ([]byte, bool, error)) error {
	own := x.GrantsTo(to)
	body, told, err := get(to)
	if err != nil {
		return err
	}
	identity, known := x.Identity(to)
	if !told {
		if len(own) > 0 || known && to.Source == "" {
			return fmt.Errorf("%w: nothing of %s", ErrUntold, to)
		}
		return nil
	}
	var t toldOf
	if err := json.Unmarshal(body, &t); err != nil {
		return fmt.Errorf("%w: of %s: %w", ErrUntold, to, err)
	}
	var grants []*GrantResult
	var holders []model.ID
	if len(t.Grants) > 0 {
		holders = holdersOf(x, to)
	}
	for i := range t.Grants {
		g := &t.Grants[i]
		if !slices.Contains(own, g.Number) {
			return fmt.Errorf("%w: a grant to %s", ErrUntold, to)
		}
		r.Grants[g.Number] = &GrantResult{Number: g.Number, Grant: x.Grant(g.Number), Since: g.Since, Holders: holders,
			Perms: x.SharedPerms(g.Number), Used: g.Used, Rare: g.Rare, TooNew: g.TooNew,
			Undecidable: g.Undecidable, Unobservable: g.Unobservable, Unused: g.Unused, Held: g.Held,
			HeldBy: g.HeldBy, Refused: g.Refused, Frozen: g.Frozen, Danger: g.Danger, Blind: g.Blind,
			Kept: g.Kept, Nodes: g.Nodes, UsedNodes: g.UsedNodes}
		if len(g.Spare) > 0 {
			r.spare[g.Number] = g.Spare
		}
		grants = append(grants, r.Grants[g.Number])
	}
	if len(grants) != len(own) {
		return fmt.Errorf("%w: %d of %d grants to %s", ErrUntold, len(grants), len(own), to)
	}
	if t.Standing != nil {
		t.Standing.ID, t.Standing.Identity, t.Standing.Grants, t.Standing.reached = to, identity, grants, true
		r.Standings, r.byID[to] = append(r.Standings, t.Standing), t.Standing
	}
	if t.Calls != nil {
		r.Placement.Of[to] = t.Calls
	}
	return nil
}

// Remember takes from what a comparison of the same estate told of somebody what it holds and what is within its
// reach, so that [Scale.HeldDanger] and [Result.Reach] need not work it out. It is not for several goroutines.
func (r *Result) Remember(id model.ID, body []byte) error {
	var t struct {
		Standing *struct {
			Danger float64
			Within Reach
		}
	}
	if err := json.Unmarshal(body, &t); err != nil {
		return fmt.Errorf("%w: of %s: %w", ErrUntold, id, err)
	}
	if t.Standing != nil {
		r.Scale.held[id], r.reaches[id] = holds{danger: t.Standing.Danger}, t.Standing.Within
	}
	return nil
}

// Credit places uses and credits them to the grants that were told of, as the comparison did that was told, and sees
// where no log shows those: many share long lists of such places, which are not kept. Of a grant that is all its use
// where all that its holders did is among them.
func (r *Result) Credit(in *Input) {
	run := &runner{in: in, x: in.Index, span: r.Window, now: usage.DayOf(in.AsOf), activity: activities{}, out: r}
	for range parallel.Workers() {
		run.parts = append(run.parts, newPart(run))
	}
	told := r.Placement.Of
	run.attribute()
	r.Placement.Of = told
	run.numberLogs()
	for _, g := range r.Grants {
		if g == nil {
			continue
		}
		part := run.parts[0]
		part.begin()
		for p := range g.Perms.All() {
			part.log(p, g.Grant)
		}
		g.Dark = part.shadows()
	}
}
