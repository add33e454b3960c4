package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"clipfence/internal/auditlog/formats"
	"clipfence/internal/config"
	"clipfence/internal/core/usage"
	"clipfence/internal/render"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

// mapsVersion names what the log of a source is read with: its log maps as they are now,
// and what its zone is.
func (w *workspace) mapsVersion(s config.Source) (string, error) {
	if len(s.LogMaps) == 0 && s.LogZone == "" {
		return "none", nil
	}
	h := sha256.New()
	for _, name := range s.LogMaps {
		data, err := os.ReadFile(w.Path(name))
		if err != nil {
			return "", fmt.Errorf("source %s: log_maps: %w", s.Name, err)
		}
		fmt.Fprintf(h, "%d\n%s", len(data), data)
	}
	io.WriteString(h, s.LogZone)
	return hex.EncodeToString(h.Sum(nil)[:6]), nil
}

// staleRow is what a file gave that was read with other log maps than those of now.
type staleRow struct {
	Source string `json:"source"`
	File   string `json:"file" doc:"empty: an earlier clipfence read it, and did not keep which"`
	Days   int    `json:"days" doc:"on which it gave events; 0: none, or not known"`
	Lines  int64  `json:"lines"`
	Why    string `json:"why"`
	Gone   bool   `json:"gone,omitempty" doc:"it could not be read again"`
}

// stale lists the files of a source that were read with other log maps than those of now.
func (w *workspace) stale(ctx context.Context, s config.Source) ([]staleRow, error) {
	now, err := w.mapsVersion(s)
	if err != nil {
		return nil, err
	}
	origins, err := w.store.Origins(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	out := []staleRow{}
	for _, o := range origins {
		r := staleRow{s.Name, o.File, o.Days.Count(), o.Lines, "mapped with an older map", o.Gone}
		switch {
		case o.Maps == now && !o.Gone:
			continue
		case o.File != "" && !mayMap(&o, s):
			continue
		case o.File == "":
			r.Why = "read by an earlier clipfence, without counts a day or what it came from"
		case o.Maps == "none":
			r.Why = "read without the log map"
		case now == "none":
			r.Why = "mapped with a log map that is not named any more"
		}
		if o.File == "" && o.Lines == 0 {
			continue
		}
		if o.Gone {
			r.Why += "; not all of it was found again, so its days stay as they are"
		}
		out = append(out, r)
	}
	return out, nil
}

// mayMap reports whether another log map may change what a file gave: it has lines that
// no format of ours reads.
func mayMap(o *store.Origin, s config.Source) bool {
	ours := map[string]bool{"parquet": true}
	for _, f := range formats.For(s.Name, nil)() {
		ours[f.Name()] = f.Name() != "postgresql" || s.LogZone == ""
	}
	return o.Rejected > 0 || slices.ContainsFunc(o.Formats(), func(name string) bool { return !ours[name] })
}

// staleNote offers to read anew what was read with other maps; "" when there is nothing
// that can be.
func staleNote(rows []staleRow) string {
	rows = slices.DeleteFunc(slices.Clone(rows), func(r staleRow) bool { return r.Gone })
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
	return fmt.Sprintf("%s of %s: %s of %s. To count them anew: clipfence survey --reread", render.Plural(int(all), "log line"), rows[0].Source, why, render.Plural(len(rows), "file"))
}

type reread struct {
	files  []string
	days   string
	anyway bool
}

// span reads FROM..TO, days that are both included.
func (r reread) span() (first, last usage.Day, err error) {
	from, to, ok := strings.Cut(r.days, "..")
	if !ok {
		to = from
	}
	var at [2]time.Time
	for i, text := range []string{from, to} {
		if at[i], err = time.Parse(time.DateOnly, text); err != nil {
			return 0, 0, fmt.Errorf("--days %q: want a day or FROM..TO, such as 2026-09-01..2026-09-30", r.days)
		}
	}
	if first, last = usage.DayOf(at[0]), usage.DayOf(at[1]); last < first {
		return 0, 0, fmt.Errorf("--days %q: it ends before it begins", r.days)
	}
	return first, last, nil
}

// rereadRow is what reading a log anew came to.
type rereadRow struct {
	surveyRow
	Days   int      `json:"days" doc:"counted anew"`
	Before int64    `json:"calls_before" doc:"on these days"`
	Now    int64    `json:"calls_now" doc:"on these days"`
	Kept   []string `json:"days_kept,omitempty" doc:"left as they were: not all of their log could be read again"`
	Gone   []string `json:"files_gone,omitempty"`
}

// errUnchanged: what was begun left nothing behind.
var errUnchanged = errors.New("nothing was changed")

// readAnew folds the log of a source anew, beside what is kept, and swaps it in at the end.
func (w *workspace) readAnew(ctx context.Context, s config.Source, o reread) (err error) {
	done := false
	defer func() {
		if err != nil && !done {
			err = fmt.Errorf("%w; %w", err, errUnchanged)
		}
	}()
	if s.Kind != "files" && len(o.files) > 0 {
		return fmt.Errorf("source %s reads its log from a server, which is asked for all of it; choose days instead: --days FROM..TO", s.Name)
	}
	if _, err := w.surveyed(ctx, s); err != nil {
		return err
	}
	origins, err := w.store.Origins(ctx, s.Name)
	if err != nil {
		return err
	}
	if err := w.store.Unstage(ctx, s.Name); err != nil { // of one that was killed
		return err
	}
	defer func() {
		if !done { // best effort: the next one forgets it too
			_ = w.store.Unstage(context.WithoutCancel(ctx), s.Name)
		}
	}()
	start := w.app.clock()
	row := rereadRow{surveyRow: surveyRow{Source: s.Name}}
	read := map[string]bool{}
	also := func(names []string) error { // files, by name
		names = slices.DeleteFunc(slices.Clone(names), func(n string) bool {
			_, err := os.Stat(n)
			return read[n] || n == "-" || errors.Is(err, os.ErrNotExist)
		})
		for _, n := range names {
			read[n] = true
		}
		if len(names) == 0 {
			return nil
		}
		return w.readFrom(ctx, s, &files.Reader{Name: s.Name, LogFiles: names}, into{store.Staged(s.Name), false}, &row.surveyRow)
	}
	byHand := func(asked func(usage.Day) bool) (names []string) {
		for _, o := range origins {
			if o.ByHand && (o.Days.Count() == 0 || slices.ContainsFunc(o.Days.List(), asked)) {
				names = append(names, o.File)
			}
		}
		return slices.Compact(names)
	}
	asked := func(usage.Day) bool { return true }
	whole := o.days == "" && len(o.files) == 0
	if o.days != "" {
		first, last, err := o.span()
		if err != nil {
			return err
		}
		asked = func(d usage.Day) bool { return first <= d && d <= last }
	}
	if len(o.files) > 0 {
		var names []string
		for _, f := range o.files {
			if f, err = filepath.Abs(f); err != nil {
				return err
			}
			found, err := files.Find(f)
			if err != nil {
				return err
			}
			if len(found) == 0 {
				return fmt.Errorf("--file %s: no file is there", f)
			}
			names = append(names, found...)
		}
		if err := also(names); err != nil {
			return err
		}
		staged, err := w.store.Origins(ctx, store.Staged(s.Name))
		if err != nil {
			return err
		}
		theirs := map[usage.Day]bool{}
		for _, o := range slices.Concat(staged, origins) {
			if slices.Contains(names, o.File) {
				for _, d := range o.Days.List() {
					theirs[d] = true
				}
			}
		}
		within := asked
		asked = func(d usage.Day) bool { return within(d) && theirs[d] }
		// What else gave to these days is read too, so that they are whole.
		var others []string
		for _, o := range origins {
			if slices.ContainsFunc(o.Days.List(), asked) {
				others = append(others, o.File)
			}
		}
		if err := also(slices.Compact(others)); err != nil {
			return err
		}
	} else {
		r, err := w.reader(ctx, s)
		if err != nil {
			return err
		}
		if err := w.readFrom(ctx, s, r, into{store.Staged(s.Name), true}, &row.surveyRow); err != nil {
			return err
		}
		staged, err := w.store.Origins(ctx, store.Staged(s.Name))
		if err != nil {
			return err
		}
		for _, o := range staged {
			read[o.File] = true
		}
		if err := also(byHand(asked)); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	swapped, err := w.store.Swap(ctx, s.Name, asked, whole, o.anyway)
	if err != nil {
		return err
	}
	done = true
	if whole {
		if err := w.store.LogRead(ctx, s.Name, start); err != nil {
			return err
		}
	}
	row.Days, row.Before, row.Now, row.Gone = swapped.Days, swapped.Before, swapped.After, swapped.Gone
	for _, d := range swapped.Kept {
		row.Kept = append(row.Kept, d.Time().Format(time.DateOnly))
	}
	state, err := w.store.LogState(ctx, s.Name)
	if err != nil {
		return err
	}
	row.LogFrom, row.LogTo, row.Rejected = state.First, state.Last, int(state.Rejected)
	placed, err := w.placed(ctx, s)
	if err != nil {
		return err
	}
	row.Calls = placedRowOf(&placed.Tally)
	row.Seconds = w.app.clock().Sub(start).Seconds()
	d := &render.Doc{Value: []rereadRow{row}, Lines: placedLines(placed), Next: []string{"clipfence uses --unplaced", "clipfence coverage"}}
	d.Head = fmt.Sprintf("%s read anew into %s: %s counted anew, %s calls on them now, %s before", render.Plural(row.Lines, "log line"), s.Name, render.Plural(row.Days, "day"), render.Count(row.Now), render.Count(row.Before))
	if len(row.Kept) > 0 {
		why := "not every call that was counted on them was found again"
		if n := len(row.Gone); n > 0 {
			why += "; these files could not be read: " + strings.Join(row.Gone[:min(n, 5)], ", ")
			if n > 5 {
				why += fmt.Sprintf(" and %d more", n-5)
			}
		}
		if !o.anyway {
			why += ". Where a map skips more lines or tells events apart otherwise, and the files are whole: --anyway"
		}
		d.Notes = append(d.Notes, fmt.Sprintf("%s from %s to %s left as counted before, and marked so in `clipfence survey list`: %s.", render.Plural(len(row.Kept), "day"), row.Kept[0], row.Kept[len(row.Kept)-1], why))
	}
	if row.Rejected > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s of %s set aside: they could not be read. See: clipfence survey --show-rejected", render.Plural(row.Rejected, "log line"), s.Name))
	}
	return w.app.print(d)
}

// into says where a log is folded to.
type into struct {
	name   string // of the source, or what is kept beside it
	cursor bool   // from its cursor on; else as something read by hand
}
