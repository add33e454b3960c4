package draft

import (
	"fmt"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// ForEnds drafts what puts off the end of grants of one identity: of those that end soon, or ended in
// the window, and were used in it. Each is given again as it was, until then; nothing else of it
// changes. It returns nil where there are none.
func ForEnds(in *gauge.Input, r *gauge.Result, who model.ID, until time.Time) *fence.Fence {
	x := in.Index
	f := &fence.Fence{Version: fence.FormatVersion, For: model.ID{Source: x.Source(), Kind: who.Kind, Name: who.Name},
		Drafted: in.AsOf}
	span := in.Span()
	for _, n := range x.GrantsTo(who) {
		t := r.Grants[n]
		end := t.Grant.Condition().Until
		if end.IsZero() || end.Before(span.From) || !gauge.EndsSoon(t.Grant, in.AsOf) && end.After(in.AsOf) ||
			!until.After(end) || t.Used.Count() == 0 {
			continue
		}
		a := fence.Allow{Role: t.Grant.Role, Do: t.Grant.Do, Where: t.Grant.Where, When: t.Grant.When, Until: until,
			Evidence: used(in, t)}
		a.When.Until = time.Time{}
		if a.Role == "" && len(t.Grant.Except) > 0 { // a line names what it gives
			a.Do = (&drafter{x: x}).names(t.Perms)
		}
		f.Replaces, f.Allow = append(f.Replaces, t.Grant.ID), append(f.Allow, a)
	}
	if len(f.Allow) == 0 {
		return nil
	}
	f.Widens = "what it has ends, and it was used: " + ended(len(f.Allow))
	return f
}

func ended(n int) string {
	if n == 1 {
		return "1 grant"
	}
	return fmt.Sprintf("%d grants", n)
}

// used sums up what was done by a grant in the window.
func used(in *gauge.Input, t *gauge.GrantResult) fence.Evidence {
	e := fence.Evidence{Class: "used"}
	span := in.Span()
	for i := range t.Use {
		pu := &t.Use[i]
		for _, on := range in.PathsOf(pu) {
			if on.InWindow > 0 {
				note(&e, on.InWindow, on)
			}
		}
		e.Days = max(e.Days, pu.Days.Between(span.First(), span.Last()).Count())
	}
	return e
}
