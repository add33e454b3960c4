package work

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
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/usage"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

// mapsVersion names what the log of a source is read with: its log maps as they are now,
// and what its zone is.
func (w *Workspace) mapsVersion(s config.Source) (string, error) {
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

// StaleLog is what a file gave that was read with other log maps than those of now.
type StaleLog struct {
	Source string `json:"source"`
	File   string `json:"file" doc:"empty: an earlier clipfence read it, and did not keep which"`
	Days   int    `json:"days" doc:"on which it gave events; 0: none, or not known"`
	Lines  int64  `json:"lines"`
	Why    string `json:"why"`
	Gone   bool   `json:"gone,omitempty" doc:"it could not be read again"`
}

// stale lists the files of a source that were read with other log maps than those of now.
func (w *Workspace) stale(ctx context.Context, s config.Source) ([]StaleLog, error) {
	now, err := w.mapsVersion(s)
	if err != nil {
		return nil, err
	}
	origins, err := w.store.Origins(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	out := []StaleLog{}
	for _, o := range origins {
		r := StaleLog{s.Name, o.File, o.Days.Count(), o.Lines, "mapped with an older map", o.Gone}
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

type Reread struct {
	Files  []string
	Days   string
	Anyway bool
}

// span reads FROM..TO, days that are both included.
func (r Reread) span() (first, last usage.Day, err error) {
	from, to, ok := strings.Cut(r.Days, "..")
	if !ok {
		to = from
	}
	var at [2]time.Time
	for i, text := range []string{from, to} {
		if at[i], err = time.Parse(time.DateOnly, text); err != nil {
			return 0, 0, fmt.Errorf("--days %q: want a day or FROM..TO, such as 2026-09-01..2026-09-30", r.Days)
		}
	}
	if first, last = usage.DayOf(at[0]), usage.DayOf(at[1]); last < first {
		return 0, 0, fmt.Errorf("--days %q: it ends before it begins", r.Days)
	}
	return first, last, nil
}

// RereadRow is what reading a log anew came to.
type RereadRow struct {
	SurveyRow
	Days   int      `json:"days" doc:"counted anew"`
	Before int64    `json:"calls_before" doc:"on these days"`
	Now    int64    `json:"calls_now" doc:"on these days"`
	Kept   []string `json:"days_kept,omitempty" doc:"left as they were: not all of their log could be read again"`
	Gone   []string `json:"files_gone,omitempty"`
}

// errUnchanged: what was begun left nothing behind.
var ErrUnchanged = errors.New("nothing was changed")

// ReadAnew folds the log of a source anew, beside what is kept, and swaps it in at the end.
func (w *Workspace) ReadAnew(ctx context.Context, o Reread) (out *RereadRow, placed *gauge.Placement, err error) {
	s, err := w.pick("")
	if err != nil {
		return nil, nil, err
	}
	done := false
	defer func() {
		if err != nil && !done {
			err = fmt.Errorf("%w; %w", err, ErrUnchanged)
		}
	}()
	if s.Kind != "files" && len(o.Files) > 0 {
		return nil, nil, fmt.Errorf("source %s reads its log from a server, which is asked for all of it; choose "+
			"days instead: --days FROM..TO", s.Name)
	}
	if _, err := w.Surveyed(ctx, s); err != nil {
		return nil, nil, err
	}
	origins, err := w.store.Origins(ctx, s.Name)
	if err != nil {
		return nil, nil, err
	}
	if err := w.store.Unstage(ctx, s.Name); err != nil { // of one that was killed
		return nil, nil, err
	}
	defer func() {
		if !done { // best effort: the next one forgets it too
			_ = w.store.Unstage(context.WithoutCancel(ctx), s.Name)
		}
	}()
	start := w.Clock()
	row := RereadRow{SurveyRow: SurveyRow{Source: s.Name}}
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
		return w.readFrom(ctx, s, &files.Reader{Name: s.Name, LogFiles: names}, into{store.Staged(s.Name), false},
			&row.SurveyRow)
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
	whole := o.Days == "" && len(o.Files) == 0
	if o.Days != "" {
		first, last, err := o.span()
		if err != nil {
			return nil, nil, err
		}
		asked = func(d usage.Day) bool { return first <= d && d <= last }
	}
	if len(o.Files) > 0 {
		var names []string
		for _, f := range o.Files {
			if f, err = filepath.Abs(f); err != nil {
				return nil, nil, err
			}
			found, err := files.Find(f)
			if err != nil {
				return nil, nil, err
			}
			if len(found) == 0 {
				return nil, nil, fmt.Errorf("--file %s: no file is there", f)
			}
			names = append(names, found...)
		}
		if err := also(names); err != nil {
			return nil, nil, err
		}
		staged, err := w.store.Origins(ctx, store.Staged(s.Name))
		if err != nil {
			return nil, nil, err
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
			return nil, nil, err
		}
	} else {
		r, err := w.reader(ctx, s)
		if err != nil {
			return nil, nil, err
		}
		if err := w.readFrom(ctx, s, r, into{store.Staged(s.Name), true}, &row.SurveyRow); err != nil {
			return nil, nil, err
		}
		staged, err := w.store.Origins(ctx, store.Staged(s.Name))
		if err != nil {
			return nil, nil, err
		}
		for _, o := range staged {
			read[o.File] = true
		}
		if err := also(byHand(asked)); err != nil {
			return nil, nil, err
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	swapped, err := w.store.Swap(ctx, s.Name, asked, whole, o.Anyway)
	if err != nil {
		return nil, nil, err
	}
	done = true
	if whole {
		if err := w.store.LogRead(ctx, s.Name, start); err != nil {
			return nil, nil, err
		}
	}
	row.Days, row.Before, row.Now, row.Gone = swapped.Days, swapped.Before, swapped.After, swapped.Gone
	for _, d := range swapped.Kept {
		row.Kept = append(row.Kept, d.Time().Format(time.DateOnly))
	}
	state, err := w.store.LogState(ctx, s.Name)
	if err != nil {
		return nil, nil, err
	}
	row.LogFrom, row.LogTo, row.Rejected = state.First, state.Last, int(state.Rejected)
	if placed, err = w.placed(ctx, s); err != nil {
		return nil, nil, err
	}
	row.Calls = PlacedCallsOf(&placed.Tally)
	row.Seconds = w.Clock().Sub(start).Seconds()
	return &row, placed, nil
}
