package work

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/fencefile"
	"clipfence/internal/store"
)

// Status is where a workspace stands, without looking at anything anew.
type Status struct {
	Sources    []SourceStatus
	Drafts     map[string]int // by state: open, accepted, aside, needed, handed over, applied or unreadable
	ByHand     []string       // of the accepted ones that are not watched those whose change people make, by name
	Watched    []*Reviewed    // drafts that are watched, with what they would have done
	Unfinished []*Record      // changes that broke off, failed, or were handed over and are not seen
	Requests   map[gate.State]int
}

// SourceStatus is how much of a source is known.
type SourceStatus struct {
	Name     string    `json:"name"`
	Survey   int64     `json:"survey" doc:"the newest; 0: none"`
	Surveyed time.Time `json:"surveyed,omitzero"`
	Old      string    `json:"too_old,omitempty" doc:"why nothing is changed on the strength of it"`
	LogTo    time.Time `json:"log_to,omitzero" doc:"the last call that is known"`
	LogRead  time.Time `json:"log_read,omitzero" doc:"when it was last read to its end"`
	LogLines int64     `json:"log_lines,omitempty" doc:"that were read"`
	Rejected int64     `json:"log_lines_set_aside,omitempty" doc:"of those, the ones that could not be read"`
	NoLogs   bool      `json:"no_logs,omitempty" doc:"clipfence.yaml names none, and none was ever read"`
	Ending   []Ending  `json:"ending,omitempty" doc:"grants that end within 30 days, the first to end first"`
	Over     []Ending  `json:"over,omitempty" doc:"grants that are over and still listed, the last to end first"`
}

// Ending is a grant with an end that is near, or is over.
type Ending struct {
	Grant string    `json:"grant"`
	To    model.ID  `json:"to"`
	Until time.Time `json:"until"`
}

// ending returns the grants of a survey that end soon, but for what was lent for a time.
func (s *Source) ending(now time.Time) []Ending {
	var out []Ending
	for _, g := range s.Grants() {
		if gauge.EndsSoon(g, now) {
			out = append(out, Ending{g.ID, g.To, g.Condition().Until.UTC()})
		}
	}
	slices.SortStableFunc(out, func(a, b Ending) int { return a.Until.Compare(b.Until) })
	return out
}

// Status says where the workspace stands.
func (w *Workspace) Status(ctx context.Context) (*Status, error) {
	sources, err := w.each()
	if err != nil {
		return nil, err
	}
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	decisions, err := w.Decisions(ctx)
	if err != nil {
		return nil, err
	}
	out := &Status{Drafts: map[string]int{}, Requests: map[gate.State]int{}}
	applied, byHand := carried(history), map[string]bool{}
	for _, r := range history {
		switch r.State {
		case change.StateRunning, change.StateFailed, change.StateHanded:
			out.Unfinished = append(out.Unfinished, r)
		}
	}
	for _, src := range sources {
		byHand[src.Name] = ChangesOf(src) == ByPeople
		s := SourceStatus{Name: src.Name}
		survey, err := w.store.Newest(ctx, src.Name)
		switch {
		case err == nil:
			s.Survey, s.Surveyed = survey.ID, survey.Finished
			// Asked about a day before it, no clock is wrong.
			if w.AsOf.IsZero() || !survey.Finished.After(w.AsOf) {
				s.Old = change.TooOld(survey.Finished, w.now(), time.Duration(w.MaxAge))
			}
			of, err := w.Surveyed(ctx, src)
			if err != nil {
				return nil, err
			}
			s.Ending, s.Over = of.ending(w.now()), of.Over(func(model.ID) bool { return true })
		case !errors.Is(err, store.ErrNone):
			return nil, err
		}
		logs, err := w.store.LogState(ctx, src.Name)
		if err != nil {
			return nil, err
		}
		s.LogTo, s.LogLines, s.Rejected = logs.Last, logs.Lines, logs.Rejected
		if n := len(logs.Reads); n > 0 {
			s.LogRead = logs.Reads[n-1]
		}
		s.NoLogs = s.LogRead.IsZero() && logless(src)
		out.Sources = append(out.Sources, s)
		watched, err := w.Shadows(ctx, src.Name)
		if err != nil {
			return nil, err
		}
		out.Watched = append(out.Watched, watched...)
	}
	for _, name := range w.DraftNames(ctx) {
		file := filepath.Join(w.DraftDir(), name+fencefile.Suffix)
		var f *fence.Fence
		data, err := os.ReadFile(file)
		if err == nil {
			f, err = fencefile.Read(file, data)
		}
		state := "open"
		switch {
		case err != nil:
			state = "unreadable"
		case applied[f.Digest] != nil && applied[f.Digest].State == ChangeHanded:
			state = ChangeHanded
		case applied[f.Digest] != nil:
			state = "applied"
		default:
			if d := review.Standing(decisions, f.Digest, w.now()); d != nil {
				state = string(d.Verdict)
				if d.Verdict == review.Accepted && byHand[f.For.Source] && !d.Watching(w.now()) {
					out.ByHand = append(out.ByHand, name)
				}
			}
		}
		out.Drafts[state]++
	}
	all, err := w.keeper(ctx).All(ctx)
	if err != nil && all == nil {
		return nil, err
	}
	for _, r := range all {
		if !r.State.Ended() {
			out.Requests[r.State]++
		}
	}
	return out, nil
}
