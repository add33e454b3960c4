package cli

import (
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

var reasonWords = map[work.Reason]string{
	work.NoPath:      "on a path that names a node which is not there",
	work.NoOperation: "with an operation that is no permission of the catalogue",
	work.NoCaller:    "by a caller that nobody knows",
	work.NoGrant:     "that no grant of then or now explains",
}

// placedWords says which share of some calls is placed, and why the rest is not.
func placedWords(t *work.Tally) string {
	switch {
	case t == nil || t.Calls == 0:
		return "No call was let through."
	case t.Placed == t.Calls:
		return fmt.Sprintf("All %s that were let through, on all days kept, are placed.",
			render.Plural(int(t.Calls), "call"))
	}
	var why []string
	for _, r := range work.Reasons {
		if n := t.Why[r]; n > 0 {
			why = append(why, render.Count(n)+" "+reasonWords[r])
		}
	}
	return fmt.Sprintf("%s of %s that were let through, on all days kept, are placed; not placed: %s.",
		share(t.Share()), render.Plural(int(t.Calls), "call"), strings.Join(why, ", "))
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
func placedLines(res *work.Placement) []string {
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
		out = append(out, "They are of "+strings.Join(who, ", ")+
			". What they may have been is not called unused. See: clipfence uses --unplaced")
	}
	return out
}
