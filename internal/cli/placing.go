package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

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
		return "No call that was let through is known."
	case t.Placed == 1 && t.Calls == 1:
		return "The one call that was let through, on all days kept, is placed."
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

// staleLine says where the logs of a source end and what that means; "" where they go up to now.
func staleLine(e work.LogEnd, now time.Time) string {
	read, last := now.Sub(e.Read), now.Sub(e.Newest)
	switch {
	case e.Read.IsZero() && e.None:
		return "clipfence.yaml names no logs of " + e.Source + ": what is used there cannot be judged."
	case e.Read.IsZero():
		return "No log was read yet: nothing can be judged. Run: clipfence survey"
	case read > 48*time.Hour:
		return fmt.Sprintf("The log was last read %d days ago: what came since is not known, and counts as blind. "+
			"Run: clipfence survey", int(read.Hours()/24))
	case !e.Newest.IsZero() && last > work.Quiet:
		return fmt.Sprintf("The newest event of the log is %d days old: find out whether events still arrive, for "+
			"what was used since is not known. To ask as of then: --as-of %s", int(last.Hours()/24),
			e.Newest.Truncate(time.Second).Add(time.Second).UTC().Format(time.RFC3339))
	}
	return ""
}

// stale returns the line of [staleLine] for a source, or none.
func (a *app) stale(ctx context.Context, w *work.Workspace, src string) ([]string, error) {
	e, err := w.LogEnd(ctx, src)
	if err != nil {
		return nil, err
	}
	if l := staleLine(e, a.now()); l != "" {
		return []string{l}, nil
	}
	return nil, nil
}

// ofLogs says of the logs of a source what every answer that rests on them rests on: where they end,
// if that is long ago, and of which groups only they show who is in them.
func (a *app) ofLogs(ctx context.Context, w *work.Workspace, src string) ([]string, error) {
	out, err := a.stale(ctx, w, src)
	if err != nil {
		return nil, err
	}
	groups, err := w.LogGroups(ctx, src)
	return append(out, groupsLine(groups)...), err
}

// groupsLine says of which groups only the log shows who is in them.
func groupsLine(groups []work.LogGroup) []string {
	const most = 3
	if len(groups) == 0 {
		return nil
	}
	var names []string
	members := 0
	for i := range groups {
		members += groups[i].Members
		if i < most {
			names = append(names, groups[i].Group.String())
		}
	}
	text := strings.Join(names, ", ")
	if more := len(groups) - len(names); more > 0 {
		text += fmt.Sprintf(" and %s more", render.Plural(more, "group"))
	}
	are := "are"
	if members == 1 {
		are = "is"
	}
	return []string{fmt.Sprintf("The source lists nobody in %s; %s %s known from the log.", text,
		render.Plural(members, "member"), are)}
}

// seenWords says of memberships that only the log shows them, and when it did last.
func seenWords(seen []work.SeenIn) []string {
	var out []string
	for _, s := range seen {
		out = append(out, fmt.Sprintf("The source lists nobody in %s. That %s is in it the log showed last on %s.",
			s.Group, s.Member, s.Last.Format(time.DateOnly)))
	}
	return out
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
