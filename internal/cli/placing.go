package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/render"
	"clipfence/internal/source"
)

// placing gathers what tells whether a call of a source can be placed: the nodes of every
// survey that is kept, the strangers that clipfence.yaml waives, and the grants that are
// gone since, by earlier surveys and the ledger.
func (w *workspace) placing(ctx context.Context, s *surveyed) (gauge.PlaceInput, error) {
	nodes, err := w.store.KnownNodes(ctx, s.Name)
	if err != nil {
		return gauge.PlaceInput{}, err
	}
	waived, err := usage.NewStrangers(s.Strangers)
	if err != nil {
		return gauge.PlaceInput{}, fmt.Errorf("source %s: strangers: %w", s.Name, err)
	}
	past := &pastGrants{w: w, ctx: ctx, s: s}
	return gauge.PlaceInput{Inventory: usage.NewInventory(s.Name, nodes, s.engine.Estate.Semantics.Complete), Waived: waived.Has, Past: past.explains}, nil
}

// placed works out which calls of a source can be placed, over all that is kept.
func (w *workspace) placed(ctx context.Context, src config.Source) (*gauge.Placement, error) {
	s, err := w.surveyed(ctx, src)
	if err != nil {
		return nil, err
	}
	uses, _, err := w.uses(ctx, s)
	if err != nil {
		return nil, err
	}
	in, err := w.placing(ctx, s)
	if err != nil {
		return nil, err
	}
	return gauge.Place(s.engine, uses, usage.WindowOf(w.app.now(), int(time.Duration(w.Window).Hours()/24)), in), nil
}

// pastGrants answers from surveys and changes of before. They are read when the first
// question comes, which is rarely.
type pastGrants struct {
	w       *workspace
	ctx     context.Context
	s       *surveyed
	engines []*engine.Engine
	read    bool
}

func (p *pastGrants) explains(u *usage.Use) bool {
	if !p.read {
		p.read = true
		if err := p.load(); err != nil {
			p.w.app.say("What was granted before cannot be read, so calls that only that explains are not placed: %v", err)
		}
	}
	return slices.ContainsFunc(p.engines, func(g *engine.Engine) bool {
		return g.Decide(u.Principal(), u.Permission, u.Path, u.Context()).Outcome != engine.Denied
	})
}

func (p *pastGrants) load() error {
	surveys, err := p.w.store.Surveys(p.ctx, p.s.Name)
	if err != nil {
		return err
	}
	entries, history, err := p.w.history(p.ctx)
	if err != nil {
		return err
	}
	// What changes and gates gave and took, on top of the estate of today.
	e := *p.s.engine.Estate
	e.Grants, e.Roles = slices.Clone(e.Grants), slices.Clone(e.Roles)
	more := 0
	grant := func(g model.Grant) {
		more++
		g.ID = fmt.Sprintf("past:%d:%s", more, g.ID)
		e.Grants = append(e.Grants, g)
	}
	for _, c := range history {
		if c.Source != p.s.Name {
			continue
		}
		for _, st := range c.Steps {
			for _, doc := range []json.RawMessage{st.Before, st.After} {
				var g model.Grant
				var r model.Role
				switch {
				case st.Kind == source.Grants && json.Unmarshal(doc, &g) == nil:
					grant(g)
				case st.Kind == source.Roles && json.Unmarshal(doc, &r) == nil && !slices.ContainsFunc(e.Roles, func(o model.Role) bool { return o.Name == r.Name }):
					e.Roles = append(e.Roles, r)
				}
			}
		}
	}
	for _, en := range entries {
		var r gate.Request
		if !strings.HasPrefix(en.Kind, "gate.") || json.Unmarshal(en.Body, &r) != nil || r.Source != p.s.Name || r.OpenedAt.IsZero() {
			continue
		}
		g := model.Grant{ID: r.GrantID(), To: r.By, Role: r.Policy.Opens.Role, Where: r.Policy.Opens.Where, When: r.Policy.Controls}
		g.Do = r.Policy.Opens.Do
		grant(g)
	}
	if more > 0 {
		p.engines = append(p.engines, engine.New(&e))
	}
	for _, v := range surveys {
		if v.ID == p.s.survey.ID {
			continue
		}
		old, _, err := p.w.store.Estate(p.ctx, p.s.Name, v.ID)
		if err != nil {
			return err
		}
		p.engines = append(p.engines, engine.New(old))
	}
	return nil
}

var reasonWords = map[gauge.Reason]string{
	gauge.NoPath:      "on a path that names a node which is not there",
	gauge.NoOperation: "with an operation that is no permission of the catalogue",
	gauge.NoCaller:    "by a caller that nobody knows",
	gauge.NoGrant:     "that no grant of then or now explains",
}

// placedWords says which share of some calls is placed, and why the rest is not.
func placedWords(t *gauge.Tally) string {
	switch {
	case t == nil || t.Calls == 0:
		return "No call was let through."
	case t.Placed == t.Calls:
		return fmt.Sprintf("All %s that were let through, on all days kept, are placed.", render.Plural(int(t.Calls), "call"))
	}
	var why []string
	for _, r := range gauge.Reasons {
		if n := t.Why[r]; n > 0 {
			why = append(why, render.Count(n)+" "+reasonWords[r])
		}
	}
	return fmt.Sprintf("%s of %s that were let through, on all days kept, are placed; not placed: %s.", share(t.Share()), render.Plural(int(t.Calls), "call"), strings.Join(why, ", "))
}

// share is a percentage that says 100 only of all.
func share(x float64) string {
	if x < 1 && x > 0.99 {
		return "over 99 %"
	}
	return render.Percent(x)
}

// placedLines tell of a source which share of its calls is placed, and of whom the rest
// is, most calls first.
func placedLines(res *gauge.Placement) []string {
	out := []string{placedWords(&res.Tally)}
	type row struct {
		id model.ID
		n  int64
	}
	var rows []row
	for id, t := range res.Of {
		if n := t.Calls - t.Placed; n > 0 {
			rows = append(rows, row{id, n})
		}
	}
	slices.SortFunc(rows, func(a, b row) int {
		if a.n != b.n {
			return int(b.n - a.n)
		}
		return a.id.Compare(b.id)
	})
	var who []string
	for i, r := range rows {
		if i == 3 {
			who = append(who, fmt.Sprintf("%d more", len(rows)-i))
			break
		}
		who = append(who, fmt.Sprintf("%s (%s of %s)", r.id, render.Count(r.n), render.Count(res.Of[r.id].Calls)))
	}
	if len(who) > 0 {
		out = append(out, "They are of "+strings.Join(who, ", ")+". What they may have been is not called unused. See: clipfence uses --unplaced")
	}
	return out
}
