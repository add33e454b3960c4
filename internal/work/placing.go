package work

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
)

// placing gathers what tells whether a call of a source can be placed: the nodes of every
// survey of the last year or so, and those of which the log shows that they were made or thrown away, the
// strangers that clipfence.yaml waives, and the grants that are gone since, by earlier surveys and
// the ledger.
func (w *Workspace) placing(ctx context.Context, s *Source, uses *usage.Uses) (gauge.PlaceInput, error) {
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
	nodes.Witness(uses, func(p model.Permission) []string { e, _ := s.Entry(p); return e.Kinds })
	nodes.ComeAndGo(s.Fleeting)
	past := &pastGrants{w: w, ctx: ctx, s: s}
	left := sync.OnceValue(func() map[model.ID]bool { // nobody asks where each group has a member
		out := map[model.ID]bool{}
		if then, err := w.formerly(ctx, s); err == nil { // what is damaged is told by who reads it for its own sake
			for _, m := range then.members {
				out[m.it.Group] = true
			}
		}
		return out
	})
	return gauge.PlaceInput{Inventory: nodes, Waived: waived.Has, Past: past.explains,
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
	in, err := w.placing(ctx, s, uses)
	if err != nil {
		return nil, err
	}
	return gauge.Place(s.Index, uses, usage.WindowOf(w.now(), int(time.Duration(w.Window).Hours()/24)), in), nil
}

// pastGrants answers from surveys and changes of before. They are read when the first
// Question comes, which is rarely.
type pastGrants struct {
	w       *Workspace
	ctx     context.Context
	s       *Source
	indexes []*index.Index
	read    bool
}

func (p *pastGrants) explains(u *usage.Use) bool {
	if !p.read {
		p.read = true
		if err := p.load(); err != nil {
			p.w.say("What was granted before cannot be read, so calls that only that explains are not placed: %v", err)
		}
	}
	on := append([]model.Path{u.Path}, p.s.Moved.Before(u.Path)...) // what was granted was granted there
	return slices.ContainsFunc(p.indexes, func(x *index.Index) bool {
		return slices.ContainsFunc(on, func(at model.Path) bool {
			return explainedBy(x, u, at)
		})
	})
}

func (p *pastGrants) load() error {
	surveys, err := p.w.store.Surveys(p.ctx, p.s.Name)
	if err != nil {
		return err
	}
	entries, history, err := p.w.History(p.ctx)
	if err != nil {
		return err
	}
	// What changes and gates gave, on top of the estate of today; what they took is looked at besides.
	var d access.Edit
	grant := func(g model.Grant) {
		g.ID = fmt.Sprintf("past:%d:%s", len(d.Come.Grants)+1, g.ID)
		d.Come.Grants = append(d.Come.Grants, g)
	}
	known := func(role string) bool {
		_, ok := p.s.Role(role)
		return ok || slices.ContainsFunc(d.Come.Roles, func(r model.Role) bool { return r.Name == role })
	}
	for _, c := range history {
		if c.Source != p.s.Name {
			continue
		}
		for _, st := range c.Edits() {
			var g model.Grant
			var r model.Role
			switch {
			case st.Kind == source.Grants && json.Unmarshal(st.After, &g) == nil:
				grant(g)
			case st.Kind == source.Roles && json.Unmarshal(st.After, &r) == nil && !known(r.Name):
				d.Come.Roles = append(d.Come.Roles, r)
			}
		}
	}
	for _, en := range entries {
		var r gate.Request
		if !strings.HasPrefix(en.Kind, "gate.") || json.Unmarshal(en.Body, &r) != nil || r.Source != p.s.Name ||
			r.OpenedAt.IsZero() {
			continue
		}
		grant(r.Grant())
	}
	if listed := p.s.Listed(); listed != p.s.Index {
		p.indexes = append(p.indexes, listed)
	}
	if len(d.Come.Grants) > 0 {
		x, err := p.s.With(d)
		if err != nil {
			return err
		}
		p.indexes = append(p.indexes, x)
	}
	before, _, err := p.w.before(p.ctx, p.s) // who left a group, too
	if err != nil {
		return err
	}
	if before != nil {
		p.indexes = append(p.indexes, before.Index)
	}
	mark, err := p.w.store.SightingsMark(p.ctx, p.s.Name)
	if err != nil {
		return err
	}
	for _, v := range surveys {
		if v.ID == p.s.Survey.ID && mark == "" {
			continue // it is what does not explain the call; but who was in which group then, may
		}
		old, _, err := p.w.store.Estate(p.ctx, p.s.Name, v.ID)
		if err == nil {
			old, err = p.w.everSighted(p.ctx, p.s.Source, old)
		}
		if err != nil {
			return err
		}
		x, err := index.Build(old)
		if err != nil {
			return err
		}
		p.indexes = append(p.indexes, x)
	}
	return nil
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
