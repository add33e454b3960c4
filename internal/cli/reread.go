package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

// staleNote offers to read anew what was read with other maps; "" when there is nothing
// that can be.
func staleNote(rows []work.StaleLog) string {
	rows = slices.DeleteFunc(slices.Clone(rows), func(r work.StaleLog) bool { return r.Gone })
	if len(rows) == 0 {
		return ""
	}
	why, all := rows[0].Why, int64(0)
	for _, r := range rows {
		all += r.Lines
		if r.Why != why {
			why = "mapped with an older map, or none"
		}
	}
	return fmt.Sprintf("%s of %s: %s of %s. To count them anew: clipfence survey --reread",
		render.Plural(int(all), "log line"), rows[0].Source, why, render.Plural(len(rows), "file"))
}

// readAnew counts a log anew, and tells what came of it.
func (a *app) readAnew(ctx context.Context, w *work.Workspace, o work.Reread) error {
	row, placed, err := w.ReadAnew(ctx, o)
	if err != nil {
		return err
	}
	d := &render.Doc{Value: []work.RereadRow{*row}, Lines: placedLines(placed),
		Next: []string{"clipfence uses --unplaced", "clipfence coverage"}}
	d.Head = fmt.Sprintf("%s read anew into %s: %s counted anew, %s calls on them now, %s before",
		render.Plural(row.Lines, "log line"), row.Source, render.Plural(row.Days, "day"), render.Count(row.Now),
		render.Count(row.Before))
	if len(row.Kept) > 0 {
		why := "not every call that was counted on them was found again"
		if n := len(row.Gone); n > 0 {
			why += "; these files could not be read: " + strings.Join(row.Gone[:min(n, 5)], ", ")
			if n > 5 {
				why += fmt.Sprintf(" and %d more", n-5)
			}
		}
		if !o.Anyway {
			why += ". Where a map skips more lines or tells events apart otherwise, and the files are whole: --anyway"
		}
		d.Notes = append(d.Notes,
			fmt.Sprintf("%s from %s to %s left as counted before, and marked so in `clipfence survey list`: %s.",
				render.Plural(len(row.Kept), "day"), row.Kept[0], row.Kept[len(row.Kept)-1], why))
	}
	if row.Rejected > 0 {
		d.Notes = append(d.Notes,
			fmt.Sprintf("%s of %s set aside: they could not be read. See: clipfence survey --show-rejected",
				render.Plural(row.Rejected, "log line"), row.Source))
	}
	return a.print(d)
}
