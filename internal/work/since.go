package work

import (
	"context"
	"encoding/json"
	"math"
	"slices"
	"sync"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// grantedSince returns what says of a grant since when what it gives was granted before it was made: by grants
// that a change of ours took for it, or by one that gave the same, see surveyedSince.
func (w *Workspace) grantedSince(ctx context.Context, s *Source) (func(*model.Grant) time.Time, error) {
	surveyed, err := w.surveyedSince(ctx, s)
	if err != nil {
		return nil, err
	}
	changed := sync.OnceValue(func() *replacements {
		r, err := w.replaced(ctx, s)
		if err != nil { // what is damaged is told by who reads it for its own sake
			w.partly = true
			w.say("What changes replaced cannot be read, so what they made is as old as it says: %v", err)
			return &replacements{}
		}
		return r
	})
	return func(g *model.Grant) time.Time {
		if at := changed().since(s, g); !at.IsZero() {
			return at
		}
		if surveyed == nil {
			return time.Time{}
		}
		return surveyed(g)
	}, nil
}

// replacements are what changes took in the place of what they made.
type replacements struct {
	by    map[string][]*replaced // by the id of a grant that they made, in order
	roles map[string]model.Role
}

// replaced is what one change took.
type replaced struct {
	n      int // which change of the source it is
	grants []model.Grant
	groups []model.ID // that somebody left
}

// replaced reads from the ledger what changes of a source took in the place of what they made.
func (w *Workspace) replaced(ctx context.Context, s *Source) (*replacements, error) {
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, err
	}
	out := &replacements{by: map[string][]*replaced{}, roles: map[string]model.Role{}}
	for n, c := range history {
		if c.Source != s.Name {
			continue
		}
		one := &replaced{n: n}
		for _, e := range c.Edits() {
			var was, is model.Grant
			var m model.Membership
			var r model.Role
			switch {
			case e.Kind == source.Grants:
				if len(e.After) > 0 && json.Unmarshal(e.After, &is) == nil {
					out.by[is.ID] = append(out.by[is.ID], one)
				}
				if len(e.Before) > 0 && json.Unmarshal(e.Before, &was) == nil {
					one.grants = append(one.grants, was)
				}
			case e.Kind == source.Memberships && len(e.After) == 0 && json.Unmarshal(e.Before, &m) == nil:
				one.groups = append(one.groups, m.Group)
			case e.Kind == source.Roles && len(e.Before) > 0 && json.Unmarshal(e.Before, &r) == nil:
				out.roles[r.Name] = r
			}
		}
	}
	return out, nil
}

// mostReplaced is how many changes one after another are looked back over.
const mostReplaced = 20

// since returns since when what a grant gives was granted by what the change that made it took: the time from
// which on all of it was. The zero time: no change made it, or it gives more than that.
func (r *replacements) since(s *Source, g *model.Grant) time.Time {
	at, ok := r.had(s, g, s.SetPerms(r.rights(s, g)), g.Where, math.MaxInt, mostReplaced)
	switch {
	case !ok || at.After(g.Created):
		return time.Time{}
	case at.IsZero(): // of one that does not say
		return gauge.Long
	}
	return at
}

// had returns since when some permissions were granted on some places by what the last change before one took that
// made a grant, if all of them were. The zero time: since a time that nobody says.
func (r *replacements) had(s *Source, g *model.Grant, need access.Set, where []model.PathPattern, before,
	back int) (at time.Time, ok bool) {
	list := r.by[g.ID]
	for len(list) > 0 && list[len(list)-1].n >= before {
		list = list[:len(list)-1]
	}
	if len(list) == 0 || back == 0 {
		return time.Time{}, false
	}
	was := list[len(list)-1]
	type giver struct {
		since time.Time
		perms access.Set
	}
	var givers []giver
	add := func(o *model.Grant) {
		beyond := func(on model.PathPattern) bool { return !model.PathPatternsContain(o.Where, on) }
		perms := s.SetPerms(r.rights(s, o))
		if perms.And(need); slices.ContainsFunc(where, beyond) || perms.Count() == 0 {
			return
		}
		since, ok := r.had(s, o, perms, where, was.n, back-1)
		if !ok {
			since = o.Created
		}
		givers = append(givers, giver{since, perms})
	}
	for i := range was.grants {
		if o := &was.grants[i]; o.ID != g.ID {
			add(o)
		}
	}
	for _, group := range was.groups {
		for _, in := range append(s.GroupsOf(group), group) {
			for _, n := range s.GrantsTo(in) {
				add(s.Grant(n))
			}
		}
	}
	slices.SortFunc(givers, func(a, b giver) int { return a.since.Compare(b.since) })
	rest := need.Clone()
	for _, o := range givers {
		if rest.Meets(o.perms) {
			rest.AndNot(o.perms)
			at = o.since
		}
	}
	return at, rest.Count() == 0
}

// rights returns what a grant of now or before gives.
func (r *replacements) rights(s *Source, g *model.Grant) []model.Rights {
	if g.Role == "" {
		return []model.Rights{g.Rights}
	}
	if sets := s.RoleSets(g.Role); sets != nil {
		return sets
	}
	role := r.roles[g.Role]
	out := []model.Rights{role.Rights}
	for _, in := range role.Includes {
		out = append(out, s.RoleSets(in)...)
	}
	return out
}

// surveyedSince returns what says of a grant since when one that gave the same was in its place: made, by
// what kept surveys show, before one that was there until the survey before it, and so on.
func (w *Workspace) surveyedSince(ctx context.Context, s *Source) (func(*model.Grant) time.Time, error) {
	gone, err := w.store.GoneGrants(ctx, s.Name)
	if err != nil || len(gone) == 0 {
		return nil, err
	}
	surveys, err := w.store.Surveys(ctx, s.Name) // the newest first
	if err != nil {
		return nil, err
	}
	end, next := map[int64]time.Time{}, map[int64]time.Time{} // when a survey was finished, and the one after it
	for i, v := range surveys {
		end[v.ID] = v.Finished
		if i > 0 {
			next[v.ID] = surveys[i-1].Finished
		}
	}
	by := map[string][]store.Gone{}
	for _, g := range gone {
		k := gives(&g.Grant)
		by[k] = append(by[k], g)
	}
	return func(g *model.Grant) time.Time {
		made := g.Created
		list := by[gives(g)]
		for found := true; found; {
			found = false
			for _, o := range list {
				last, after := end[o.Last], next[o.Last]
				was := o.Created
				if was.IsZero() { // it does not say, and was there then
					was = end[o.First]
				}
				// It was there until the survey before the one that may show the other for the first time.
				if was.Before(made) && !last.IsZero() && !after.IsZero() && !made.After(after) &&
					!made.Before(last.Add(-overlap)) {
					made, found = was, true
				}
			}
		}
		if made.Equal(g.Created) {
			return time.Time{}
		}
		return made
	}, nil
}

// overlap is how long both may have been there: whoever replaces a grant makes the new one first.
const overlap = 30 * 24 * time.Hour

// gives is what two grants agree on that give the same.
func gives(g *model.Grant) string {
	c := *g
	c.ID, c.Created, c.At, c.KeptWith = "", time.Time{}, model.Position{}, ""
	b, err := json.Marshal(c)
	if err != nil {
		return g.ID // gives what no other does
	}
	return string(b)
}
