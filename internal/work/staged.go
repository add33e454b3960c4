package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
)

// Accepted drafts are carried out in stages: a few of the safest first; then the log is watched
// for calls that are refused and were allowed before; then more. A stage that breaks a call is
// taken back, and nothing comes after it. What has begun stands in the ledger, so that the same
// command goes on where it was interrupted.

// Kinds of ledger entry.
const (
	kindStageBegin = "stage.begin"
	kindStageEnd   = "stage.end"
)

// How a stage ended.
const (
	StageHeld   = "held"
	StageBroke  = "broke"
	StageNobody = "nobody" // a guard let none of it pass
)

type stageEntry struct {
	Source  string         `json:"source"`
	Stage   int            `json:"stage"` // from 1
	Of      int            `json:"of"`
	Fences  []string       `json:"fences,omitempty"` // of begin: what is to be carried out
	Watch   model.Duration `json:"watch,omitempty"`
	Changes []string       `json:"changes,omitempty"` // of end
	State   string         `json:"state,omitempty"`
	Refused []RefusedSince `json:"refused,omitempty"`
	Undone  []string       `json:"undone_by,omitempty"`
}

// RefusedSince is a call that was refused since a change, and allowed before it.
type RefusedSince struct {
	Identity   model.ID         `json:"identity"`
	Permission model.Permission `json:"permission"`
	Path       model.Path       `json:"path"`
	Calls      int64            `json:"calls"`
	Last       time.Time        `json:"last"`
	Change     string           `json:"change,omitempty" doc:"of the identity, or a group of it"`
}

// StagedRequest says how accepted drafts are carried out.
type StagedRequest struct {
	Stages int
	Watch  time.Duration // after each stage
	Every  time.Duration // the log is read so often meanwhile
	Reason string
}

// LeftOut is an accepted draft that is not carried out, and why.
type LeftOut struct {
	Name string `json:"fence"`
	Why  string `json:"why"`
}

// Stages are accepted drafts in the order in which they are carried out.
type Stages struct {
	Source string
	List   [][]*Reviewed
	Left   []LeftOut
	First  int // stage that comes first, from 1: what is open of an earlier run comes before

	open *stageEntry // begun, and not ended
	at   time.Time
	w    *Workspace
	q    StagedRequest
}

// PlanStages sorts the accepted drafts of one source into stages.
func (w *Workspace) PlanStages(ctx context.Context, q StagedRequest) (*Stages, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	if ChangesOf(src) != ByTool {
		return nil, fmt.Errorf("source %s: %w: stages are for a source that this tool changes; hand its drafts "+
			"over one by one: clipfence apply FENCE", src.Name, source.ErrReadOnly)
	}
	all, err := w.Review(ctx)
	if err != nil {
		return nil, err
	}
	p := &Stages{Source: src.Name, First: 1, w: w, q: q}
	var take []*Reviewed
	for _, r := range all {
		if r.Bad != nil || r.Applied != "" || r.Source.Name != src.Name || r.Decision == nil ||
			r.Decision.Verdict != review.Accepted {
			continue
		}
		why := ""
		switch s := r.Shadow; {
		case !r.Holds:
			why = "its rehearsal does not hold any more (clipfence rehearse " + r.Name + ")"
		case s != nil && s.Unread:
			why = "its watching is over, and the log was not read since (clipfence survey)"
		case s != nil && s.Silent:
			why = "its watching is over, and the log shows nothing of the end of it (clipfence coverage)"
		case s != nil && !s.Over:
			why = fmt.Sprintf("it is watched until %s", s.Until.Format(time.DateOnly))
		case s != nil && s.Refused != 0:
			why = fmt.Sprintf("it would have refused %d calls while it was watched; decide anew (clipfence review)",
				s.Refused)
		}
		if why != "" {
			p.Left = append(p.Left, LeftOut{r.Name, why})
			continue
		}
		take = append(take, r)
	}
	items := make([]review.Item, len(take))
	for i, r := range take {
		items[i] = r.Item
	}
	for _, stage := range review.Stages(items, q.Stages) {
		var list []*Reviewed
		for _, i := range stage {
			list = append(list, take[i])
		}
		p.List = append(p.List, list)
	}
	entries, _, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	for _, e := range ledger.ByKind(entries, "stage.") {
		var s stageEntry
		if err := json.Unmarshal(e.Body, &s); err != nil {
			return nil, fmt.Errorf("%w: entry %d: %w", ledger.ErrBroken, e.Number, err)
		}
		if s.Source != src.Name {
			continue
		}
		if p.open = nil; e.Kind == kindStageBegin {
			p.open, p.at = &s, e.At
		}
	}
	return p, nil
}

// Open returns what an interrupted run has begun and not ended: the number of the stage, of how
// many; 0 for nothing.
func (p *Stages) Open() (stage, of int) {
	if p.open == nil {
		return 0, 0
	}
	return p.open.Stage, p.open.Of
}

// StageEvent is told while stages are carried out.
type StageEvent struct {
	Stage, Of int
	Applied   string         // this change was carried out, for
	For       model.ID       //
	Left      *LeftOut       // this draft was not
	Watching  time.Duration  // so long still
	Held      bool           // the stage is over, and broke nothing
	Broke     []RefusedSince // it broke these, and is taken back
	Undone    string         // by this change
}

// ErrBroke: a stage broke calls, and was taken back.
var ErrBroke = errors.New("a stage broke calls")

// Run carries the stages out. After [ErrBroke] the stage that broke calls is taken back, and
// those after it are not carried out.
func (p *Stages) Run(ctx context.Context, tell func(StageEvent)) error {
	w := p.w
	src, err := w.Source(p.Source)
	if err != nil {
		return err
	}
	if o := p.open; o != nil { // what was begun is watched to its end first
		if err := p.goOn(ctx, o, tell); err != nil {
			return err
		}
		p.open = nil
	}
	of := len(p.List)
	for i, list := range p.List {
		if err := ctx.Err(); err != nil {
			return err
		}
		begin := stageEntry{Source: src.Name, Stage: i + 1, Of: of, Watch: model.Duration(p.q.Watch)}
		for _, r := range list {
			begin.Fences = append(begin.Fences, r.Name)
		}
		before, err := w.Surveyed(ctx, src)
		if err != nil {
			return err
		}
		at := w.Clock().UTC()
		if err := w.ledger.Append(ctx, kindStageBegin, begin); err != nil {
			return damaged(err)
		}
		var done []*Record
		err = w.carryOut(ctx, src, list, p.q.Reason, func(r *Reviewed, rec *Record, refused error) {
			if refused != nil {
				tell(StageEvent{Stage: i + 1, Of: of, Left: &LeftOut{r.Name, refused.Error()}})
				return
			}
			done = append(done, rec)
			tell(StageEvent{Stage: i + 1, Of: of, Applied: rec.ID, For: rec.For})
		})
		if err != nil {
			return err
		}
		if err := p.watch(ctx, &begin, before, done, at, w.Clock().UTC(), tell); err != nil {
			return err
		}
	}
	return nil
}

// prepareDecided plans what makes an accepted draft true: the very file that was looked at, as it
// was then.
func (w *Workspace) prepareDecided(ctx context.Context, r *Reviewed, reason string, by rehearsing) (*Prepared, error) {
	p, err := w.prepareApply(ctx, w.Path(r.Name), reason, false, by)
	if err == nil && p.Change.Digest != r.Fence.Digest {
		err = fmt.Errorf("%w: %s %w since it was accepted", change.ErrGuard, r.Name, ErrChanged)
	}
	return p, err
}

// goOn watches a stage to its end that an interrupted run has begun. What of it was not carried
// out yet is planned anew with the rest.
func (p *Stages) goOn(ctx context.Context, o *stageEntry, tell func(StageEvent)) error {
	w := p.w
	src, err := w.Source(p.Source)
	if err != nil {
		return err
	}
	_, history, err := w.History(ctx)
	if err != nil {
		return damaged(err)
	}
	var done []*Record
	for _, r := range history {
		if r.Source == p.Source && r.Undoes == "" && !r.At.Before(p.at) && slices.Contains(o.Fences, r.Fence) {
			switch r.State {
			case change.StateDone:
				done = append(done, r)
			case change.StateRunning, change.StateFailed:
				return fmt.Errorf("%w: change %s of stage %d was interrupted: first go on with it (clipfence apply "+
					"--resume %s) or take it back (clipfence undo %s)", change.ErrGuard, r.ID, o.Stage, r.ID, r.ID)
			}
		}
	}
	// What stood before is the newest survey from before the stage began.
	before, err := w.surveyedBefore(ctx, src, p.at)
	if err != nil {
		return err
	}
	from := p.at // it was carried out at the latest then
	for _, r := range done {
		if r.At.After(from) {
			from = r.At
		}
	}
	return p.watch(ctx, o, before, done, p.at, from, tell)
}

// surveyedBefore returns a source as the last survey before a time found it.
func (w *Workspace) surveyedBefore(ctx context.Context, src SourceConfig, at time.Time) (*Source, error) {
	list, err := w.store.Surveys(ctx, src.Name)
	if err != nil {
		return nil, err
	}
	for _, s := range list { // the newest first
		if s.Finished.IsZero() || s.Finished.After(at) {
			continue
		}
		e, survey, err := w.estate(ctx, src, s.ID)
		if err != nil {
			return nil, err
		}
		return w.built(ctx, src, e, survey, at)
	}
	return nil, fmt.Errorf("source %s: no survey from before %s is kept, so nobody knows what the stage took; look "+
		"at the refused calls since: clipfence uses --denied", src.Name, at.Format(time.RFC3339))
}

// watch reads the log until a stage has held long enough since it was carried out, or broke a call
// since it began.
func (p *Stages) watch(ctx context.Context, o *stageEntry, before *Source, done []*Record, at, from time.Time,
	tell func(StageEvent)) error {
	w := p.w
	end := stageEntry{Source: o.Source, Stage: o.Stage, Of: o.Of, State: StageHeld}
	for _, r := range done {
		end.Changes = append(end.Changes, r.ID)
	}
	if len(done) == 0 {
		end.State = StageNobody
		return damaged(w.ledger.Append(ctx, kindStageEnd, end))
	}
	until := from.Add(time.Duration(o.Watch))
	every := max(p.q.Every, 100*time.Millisecond)
	for {
		now := w.Clock().UTC()
		left := until.Sub(now)
		tell(StageEvent{Stage: o.Stage, Of: o.Of, Watching: max(left, time.Nanosecond)})
		if wait := min(every, left); wait > 0 {
			select {
			case <-ctx.Done():
				return fmt.Errorf("%w; stage %d of %d stands and is not watched now: the same command goes on with it",
					ctx.Err(), o.Stage, o.Of)
			case <-time.After(wait):
			}
		}
		refused, err := w.refusedSince(ctx, before, done, at)
		if err != nil {
			return err
		}
		if len(refused) > 0 {
			end.State, end.Refused = StageBroke, refused
			tell(StageEvent{Stage: o.Stage, Of: o.Of, Broke: refused})
			if err := p.takeBack(ctx, o, done, &end, tell); err != nil {
				return err
			}
			if err := w.ledger.Append(ctx, kindStageEnd, end); err != nil {
				return damaged(err)
			}
			return fmt.Errorf("%w: stage %d of %d is taken back, and nothing comes after it", ErrBroke, o.Stage, o.Of)
		}
		if !w.Clock().UTC().Before(until) {
			if err := p.saw(ctx, o, at); err != nil {
				return err
			}
			tell(StageEvent{Stage: o.Stage, Of: o.Of, Held: true})
			return damaged(w.ledger.Append(ctx, kindStageEnd, end))
		}
	}
}

// ErrUnseen: a stage was watched, and the log showed nothing at all meanwhile.
var ErrUnseen = errors.New("nothing was watched")

// saw reports that the log shows nothing since a stage began: that nobody was refused means nothing
// then. The tool's own changes are events as well.
func (p *Stages) saw(ctx context.Context, o *stageEntry, at time.Time) error {
	const skew = time.Minute // by which the clocks of a source and of this machine may differ
	end, err := p.w.LogEnd(ctx, o.Source)
	if err != nil || o.Watch <= 0 || !end.Newest.Before(at.Add(-skew)) {
		return err
	}
	since := "no event at all"
	if !end.Newest.IsZero() {
		since = "no event since " + end.Newest.UTC().Format(time.RFC3339)
	}
	return fmt.Errorf("%w: stage %d of %d stands, and the log shows %s; find out whether events arrive (clipfence "+
		"coverage), then the same command goes on with it, or take it back (clipfence ledger list, clipfence undo)",
		ErrUnseen, o.Stage, o.Of, since)
}

// takeBack undoes the changes of a stage, the last first.
func (p *Stages) takeBack(ctx context.Context, o *stageEntry, done []*Record, end *stageEntry,
	tell func(StageEvent)) error {
	for _, r := range slices.Backward(done) {
		prep, err := p.w.PrepareUndo(ctx, r.ID)
		if err != nil {
			return fmt.Errorf("stage %d broke calls, and %s could not be taken back: %w", o.Stage, r.ID, err)
		}
		prep.Change.Reason = fmt.Sprintf("stage %d of %d broke calls", o.Stage, o.Of)
		back, err := prep.Run(ctx, nil)
		if err != nil {
			return fmt.Errorf("stage %d broke calls, and %s could not be taken back: %w", o.Stage, r.ID, err)
		}
		end.Undone = append(end.Undone, back.ID)
		tell(StageEvent{Stage: o.Stage, Of: o.Of, Undone: back.ID, For: r.For})
	}
	return nil
}

// refusedSince reads the new part of the log and returns which calls were refused since a time to
// whom changes were made, that would have been allowed before them and are not now.
func (w *Workspace) refusedSince(ctx context.Context, before *Source, done []*Record,
	at time.Time) ([]RefusedSince, error) {
	src := before.Source
	var row SurveyRow
	if err := w.readLogs(ctx, src, &row); err != nil {
		return nil, err
	}
	now, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, err
	}
	uses, _, err := w.uses(ctx, now)
	if err != nil {
		return nil, err
	}
	by := map[model.ID]string{}
	for _, r := range done {
		for _, id := range before.touched(r.For) {
			by[id] = r.ID
		}
	}
	var out []RefusedSince
	for _, u := range uses.By(func(who model.ID) bool { return by[who] != "" }) {
		who := u.Principal()
		if u.Outcome != usage.Refused || u.Last.Before(at) {
			continue
		}
		c := u.Context()
		was := before.Decide(who, u.Permission, u.Path, c).Outcome
		if was == access.Denied || now.Decide(who, u.Permission, u.Path, c).Outcome >= was {
			continue
		}
		n, _ := u.Between(usage.DayOf(at), usage.DayOf(u.Last))
		out = append(out, RefusedSince{who, u.Permission, u.Path, max(1, n), u.Last, by[who]})
	}
	slices.SortStableFunc(out, func(a, b RefusedSince) int { return int(b.Calls - a.Calls) })
	return out, nil
}

// ApplyWatched carries out what was accepted and watched, once its days are over and it would have
// refused nothing, where clipfence.yaml has apply_watched. It returns the changes, and what was
// left, and why.
func (w *Workspace) ApplyWatched(ctx context.Context) (done []*Record, left []LeftOut, err error) {
	if !w.Config.ApplyWatched {
		return nil, nil, nil
	}
	for _, src := range w.Sources {
		if ChangesOf(src) != ByTool {
			continue
		}
		list, err := w.Shadows(ctx, src.Name)
		if err != nil {
			return done, left, err
		}
		var ready []*Reviewed
		for _, r := range list {
			if s := r.Shadow; s.Silent {
				left = append(left, LeftOut{r.Name, "the log shows nothing of the end of the days for which it was " +
					"watched (clipfence coverage)"})
				continue
			} else if !s.Over {
				continue
			} else if s.Refused != 0 {
				left = append(left, LeftOut{r.Name, fmt.Sprintf("it would have refused %d calls while it was "+
					"watched; decide anew (clipfence review)", s.Refused)})
				continue
			}
			ready = append(ready, r)
		}
		err = w.carryOut(ctx, src, ready, "accepted, and watched without a refused call",
			func(r *Reviewed, rec *Record, refused error) {
				if refused != nil {
					left = append(left, LeftOut{r.Name, refused.Error()})
					return
				}
				done = append(done, rec)
			})
		if err != nil {
			return done, left, err
		}
	}
	return done, left, nil
}
