package work

import (
	"context"
	"encoding/json"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/store"
)

// grantedSince returns what says of a grant since when one that gave the same was in its place: made, by
// what kept surveys show, before one that was there until the survey before it, and so on.
func (w *Workspace) grantedSince(ctx context.Context, s *Source) (func(*model.Grant) time.Time, error) {
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
