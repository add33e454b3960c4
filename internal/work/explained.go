package work

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/bygone"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
)

// onceExplained says of calls that no grant of today explains whether what was in force once does: what the source
// lists and is over, what changes and gates gave, what is gone by kept surveys and by who left a group, and
// else what one of those surveys shows.
func (w *Workspace) onceExplained(ctx context.Context, s *Source, n int, use func(i int) usage.Use) []bool {
	out := make([]bool, n)
	calls := make([]bygone.Question, n)
	parallel.Each(n, func(_, i int) {
		u := use(i)
		calls[i] = bygone.Question{Who: u.Principal(),
			At: append([]model.Path{u.Path}, s.Moved.Before(u.Path)...)} // what was granted was granted there
	})
	by := func(x *index.Index, i int) bool {
		u := use(i)
		return slices.ContainsFunc(calls[i].At, func(at model.Path) bool { return explainedBy(x, &u, at) })
	}
	err := w.onceByViews(ctx, s, n, out, by)
	if err == nil {
		err = w.onceBySurveys(ctx, s, calls, out, by)
	}
	if err != nil {
		w.partly = true
		w.say("What was granted before cannot be read, so calls that only that explains are not placed: %v", err)
	}
	return out
}

// onceByViews asks estates that hardly differ from that of today.
func (w *Workspace) onceByViews(ctx context.Context, s *Source, n int, out []bool,
	by func(x *index.Index, i int) bool) error {
	var views []*index.Index
	if listed := s.Listed(); listed != s.Index {
		views = append(views, listed)
	}
	given, err := w.onceGiven(ctx, s)
	if err != nil {
		return err
	}
	if given != nil {
		views = append(views, given)
	}
	before, _, err := w.before(ctx, s) // who left a group, too
	if err != nil {
		return err
	}
	if before != nil {
		views = append(views, before.Index)
	}
	parallel.Each(n, func(_, i int) {
		out[i] = slices.ContainsFunc(views, func(x *index.Index) bool { return by(x, i) })
	})
	return nil
}

// onceGiven returns the estate of today with all that changes and gates ever gave; nil where they gave nothing. What
// they took is among what is gone.
func (w *Workspace) onceGiven(ctx context.Context, s *Source) (*index.Index, error) {
	entries, history, err := w.History(ctx)
	if err != nil {
		return nil, err
	}
	var d access.Edit
	grant := func(g model.Grant) {
		g.ID = fmt.Sprintf("past:%d:%s", len(d.Come.Grants)+1, g.ID)
		d.Come.Grants = append(d.Come.Grants, g)
	}
	known := func(role string) bool {
		_, ok := s.Role(role)
		return ok || slices.ContainsFunc(d.Come.Roles, func(r model.Role) bool { return r.Name == role })
	}
	for _, c := range history {
		if c.Source != s.Name {
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
		if !strings.HasPrefix(en.Kind, "gate.") || json.Unmarshal(en.Body, &r) != nil || r.Source != s.Name ||
			r.OpenedAt.IsZero() {
			continue
		}
		grant(r.Grant())
	}
	if len(d.Come.Grants) == 0 {
		return nil, nil
	}
	return s.With(d)
}

// onceBySurveys asks of the calls that nothing explains yet what any kept survey showed.
func (w *Workspace) onceBySurveys(ctx context.Context, s *Source, calls []bygone.Question, out []bool,
	by func(x *index.Index, i int) bool) error {
	var open []int
	var of []bygone.Question
	on := map[model.Path]bool{}
	for i, explained := range out {
		if explained {
			continue
		}
		open, of = append(open, i), append(of, calls[i])
		for _, at := range calls[i].At {
			on[at] = true
		}
	}
	mark, err := w.store.SightingsMark(ctx, s.Name)
	if err != nil {
		return err
	}
	surveys, err := w.store.Surveys(ctx, s.Name) // the newest first
	if err != nil {
		return err
	}
	var ids []int64
	for _, v := range slices.Backward(surveys) {
		// The one of today does not explain the call; but who was in which group before, may.
		if v.ID != s.Survey.ID || mark != "" {
			ids = append(ids, v.ID)
		}
	}
	if len(open) == 0 || len(ids) == 0 {
		return nil
	}
	r := bygone.New(s.Name, ids, of)
	if err := w.everSighted(ctx, s.Source, r); err != nil {
		return err
	}
	for _, kind := range []string{source.Memberships, source.Identities, source.Roles, source.Grants, source.Denials,
		source.Ceilings, source.Guardrails, source.Permissions} {
		if err := w.store.EachShown(ctx, s.Name, kind, r.Add); err != nil {
			return err
		}
	}
	if err := w.store.EachShown(ctx, s.Name, source.Semantics, func(e *model.Estate, first, last int64) {
		r.AddSemantics(e.Semantics, first, last)
	}); err != nil {
		return err
	}
	if err := w.store.EachNodeShown(ctx, s.Name, slices.Collect(maps.Keys(on)), r.Add); err != nil {
		return err
	}
	allowed, err := r.Allowed(ctx, func(x *index.Index, k int) bool { return by(x, open[k]) })
	if err != nil {
		return err
	}
	for k, i := range open {
		out[i] = allowed[k]
	}
	return nil
}

// everSighted notes whom the log ever showed in a group, in the words of all that surveys listed.
func (w *Workspace) everSighted(ctx context.Context, src config.Source, r *bygone.Records) error {
	list, err := w.store.AllSightings(ctx, src.Name)
	if err != nil || len(list) == 0 {
		return err
	}
	ever, at := &model.Estate{Source: src.Name}, map[model.ID]int{}
	err = w.store.EachShown(ctx, src.Name, source.Identities, func(e *model.Estate, _, _ int64) {
		for _, id := range e.Identities {
			if i, known := at[id.ID]; known {
				ever.Identities[i] = id // as it was seen last
				continue
			}
			at[id.ID] = len(ever.Identities)
			ever.Identities = append(ever.Identities, id)
		}
	})
	for in := range w.namesOf(src, listing{ever}, list) {
		if in.who != in.group && in.group.Kind == model.Group && in.group.Source == "" {
			r.Sighted(in.who, in.group)
		}
	}
	return err
}
