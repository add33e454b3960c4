package work

import (
	"context"
	"fmt"
	"sync"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// placing gathers what tells whether a call of a source can be placed: the nodes of every
// survey of the last year or so, and those of which the log shows that they were made or thrown away, the
// strangers that clipfence.yaml waives, and the grants that are gone since, by earlier surveys and
// the ledger. Of uses of a few, which nodes the log shows is kept.
func (w *Workspace) placing(ctx context.Context, s *Source, uses *usage.Uses, kept *fewHead) (gauge.PlaceInput,
	error) {
	gone, err := w.store.GoneNodes(ctx, s.Name)
	if err != nil {
		return gauge.PlaceInput{}, err
	}
	waived, err := usage.NewStrangers(s.Strangers)
	if err != nil {
		return gauge.PlaceInput{}, fmt.Errorf("source %s: strangers: %w", s.Name, err)
	}
	seen, err := w.sighted(ctx, s.Source, s.Index)
	if err != nil {
		return gauge.PlaceInput{}, err
	}
	grouped := map[model.ID]bool{}
	for in := range seen {
		grouped[in.who] = true
	}
	nodes := usage.InventoryOf(s.Index, gone, s.Semantics().Complete)
	if kept == nil {
		nodes.Witness(uses, func(p model.Permission) []string { e, _ := s.Entry(p); return e.Kinds })
	} else {
		nodes.Recall(kept.Saw)
	}
	nodes.ComeAndGo(s.Fleeting)
	left := sync.OnceValue(func() map[model.ID]bool { // nobody asks where each group has a member
		out := map[model.ID]bool{}
		then, err := w.formerly(ctx, s)
		if err != nil { // what is damaged is told by who reads it for its own sake
			w.partly = true
			return out
		}
		for _, m := range then.members {
			out[m.it.Group] = true
		}
		return out
	})
	past := func(n int, use func(int) usage.Use) []bool { return w.onceExplained(ctx, s, n, use) }
	return gauge.PlaceInput{Inventory: nodes, Waived: waived.Has, Past: past,
		Grouped: func(id model.ID) bool { return grouped[id] },
		Emptied: func(group model.ID) bool { return left()[group] }}, nil
}

// placed works out which calls of a source can be placed, over all that is kept.
func (w *Workspace) placed(ctx context.Context, src config.Source) (*gauge.Placement, error) {
	s, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, err
	}
	uses, _, err := w.uses(ctx, s)
	if err != nil {
		return nil, err
	}
	in, err := w.placing(ctx, s, uses, nil)
	if err != nil {
		return nil, err
	}
	return gauge.Place(s.Index, uses, usage.WindowOf(w.now(), int(time.Duration(w.Window).Hours()/24)), in), nil
}

// PlacedCalls says which calls could be placed, and why the rest could not.
type PlacedCalls struct {
	Calls  int64                  `json:"let_through"`
	Placed int64                  `json:"placed"`
	Past   int64                  `json:"explained_by_the_past" doc:"of placed, those whose grant is gone since"`
	Why    map[gauge.Reason]int64 `json:"not_placed,omitempty" doc:"by what keeps them from it: path, operation, caller or grant"`
}

func PlacedCallsOf(t *gauge.Tally) PlacedCalls {
	if t == nil {
		return PlacedCalls{}
	}
	return PlacedCalls{t.Calls, t.Placed, t.Past, t.Why}
}
