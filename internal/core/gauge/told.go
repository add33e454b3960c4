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
	"clipfence/internal/core/usage"
)

// What a comparison tells of one identity
//
// A comparison of everything takes minutes on a large estate, and whoever asks about one identity waits nearly as
// long: who else may have made a call, and what no log shows, takes all of it. So what a comparison says of
// each identity, and of each grant to it, can be kept and read again, one by one. The uses are not kept.

// toldAll is what is told of a comparison besides.
type toldAll struct {
	Window     usage.Window
	Observable float64
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
}

// Tell writes what a whole comparison tells: of itself, and one by one of each whom the estate lists or grants name.
// It is an error of one that did not measure everybody.
func (r *Result) Tell() (all []byte, who []model.ID, of func(model.ID) ([]byte, error), err error) {
	if all, err = json.Marshal(toldAll{r.Window, r.Observable}); err != nil {
		return nil, nil, nil, err
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
			t.Grants = append(t.Grants, toldGrant{g.Number, g.Since, g.Used, g.Rare, g.TooNew, g.Undecidable,
				g.Unobservable, g.Unused, g.Held, g.HeldBy, g.Refused, g.Frozen, g.Danger, g.Blind, g.Kept, g.Nodes,
				g.UsedNodes})
		}
		return json.Marshal(&t)
	}, nil
}

// ErrUntold: what was kept is not what a comparison of the estate tells.
var ErrUntold = errors.New("this was not told of the estate")

// Retell reads what was told of a comparison of the same estate about an identity: its standing, how its calls could
// be placed, and the grants that reach it. Get returns what was told of one; false: nothing was. [ErrUntold].
func Retell(x *index.Index, w Weights, id model.ID, all []byte, get func(model.ID) ([]byte, bool, error)) (*Result,
	error) {
	var head toldAll
	if err := json.Unmarshal(all, &head); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUntold, err)
	}
	r := &Result{Window: head.Window, Observable: head.Observable, byID: map[model.ID]*Standing{},
		Grants: make([]*GrantResult, x.GrantNumbers()), Placement: &Placement{Of: map[model.ID]*Tally{}},
		Scale: NewScale(x, w)}
	for _, n := range x.Givers(id) {
		to := x.ID(n)
		own := x.GrantsTo(to)
		body, told, err := get(to)
		if err != nil {
			return nil, err
		}
		identity, known := x.Identity(to)
		if !told {
			if len(own) > 0 || known && to.Source == "" {
				return nil, fmt.Errorf("%w: nothing of %s", ErrUntold, to)
			}
			continue
		}
		var t toldOf
		if err := json.Unmarshal(body, &t); err != nil {
			return nil, fmt.Errorf("%w: of %s: %w", ErrUntold, to, err)
		}
		var grants []*GrantResult
		for i := range t.Grants {
			g := &t.Grants[i]
			if !slices.Contains(own, g.Number) {
				return nil, fmt.Errorf("%w: a grant to %s", ErrUntold, to)
			}
			r.Grants[g.Number] = &GrantResult{Number: g.Number, Grant: x.Grant(g.Number), Since: g.Since,
				Perms: x.SharedPerms(g.Number), Used: g.Used, Rare: g.Rare, TooNew: g.TooNew,
				Undecidable: g.Undecidable, Unobservable: g.Unobservable, Unused: g.Unused, Held: g.Held,
				HeldBy: g.HeldBy, Refused: g.Refused, Frozen: g.Frozen, Danger: g.Danger, Blind: g.Blind,
				Kept: g.Kept, Nodes: g.Nodes, UsedNodes: g.UsedNodes}
			grants = append(grants, r.Grants[g.Number])
		}
		if len(grants) != len(own) {
			return nil, fmt.Errorf("%w: %d of %d grants to %s", ErrUntold, len(grants), len(own), to)
		}
		if t.Standing != nil {
			t.Standing.ID, t.Standing.Identity, t.Standing.Grants, t.Standing.reached = to, identity, grants, true
			r.Standings, r.byID[to] = append(r.Standings, t.Standing), t.Standing
		}
		if t.Calls != nil {
			r.Placement.Of[to] = t.Calls
		}
	}
	return r, nil
}
