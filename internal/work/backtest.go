package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/backtest"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/store"
)

// BacktestRequest says what drafts of the past are tried on.
type BacktestRequest struct {
	Ago    config.Duration // as of when is drafted
	Window config.Duration
	// Most is how many identities of so many callers drafts may break, and nil for no such question:
	// the caution that removes most danger at that is picked on the days before Ago, as many of them.
	Most func(callers int) int
	// Conditions tries also what drafts with the conditions that calls met would have broken.
	Conditions bool
}

// Backtested is what drafts of some days ago would have done since.
type Backtested struct {
	*backtest.Result
	Source string
	Then   time.Time
	Days   int
	Since  int64 // calls
	// Survey is the number of the survey of then, 0 where none was kept: then it is today's,
	// without the grants that are younger.
	Survey int64
	Picked *Picked // where one was to be picked
}

// Picked is the caution that was picked on an earlier stretch of the past.
type Picked struct {
	Most   int // identities that may break
	Then   time.Time
	Survey int64
	// Before is what it did on the days until [Backtested.Then], of so many callers; Now, of
	// Backtested.Callers, what it did since. Met is false where each caution broke more, and the
	// one of those that broke fewest stands for it.
	Before, Now backtest.Row
	Callers     int
	Met         bool
}

// ErrShortPast is returned where no log goes back far enough to be tried on.
var ErrShortPast = errors.New("the past is too short")

// leastRemoved is how much of the danger one of the drafts that are picked from must remove.
const leastRemoved = 0.01

// leastPast is how many days of logs must lie before the day that is drafted as of.
const leastPast = 30

// Backtest drafts for everybody as of some days ago and makes the calls since again. Nothing is
// changed or written.
func (w *Workspace) Backtest(ctx context.Context, q BacktestRequest) (*Backtested, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	s, in, res, err := w.gauged(ctx, src, q.Window, everyPath)
	if err != nil {
		return nil, err
	}
	days := int(time.Duration(q.Ago).Hours() / 24)
	out := &Backtested{Source: s.Name, Days: days, Then: in.AsOf.AddDate(0, 0, -days)}
	first, twice := out.Then, ""
	if q.Most != nil {
		first, twice = first.AddDate(0, 0, -days), ", since --at-most picks on days before those that it tells of"
	}
	if in.History.IsZero() {
		return nil, fmt.Errorf("%w: source %s has no log that was read; run: clipfence survey", ErrShortPast, s.Name)
	}
	if before := int(first.Sub(in.History).Hours() / 24); before < leastPast {
		return nil, fmt.Errorf("%w: the logs of source %s begin on %s, %d days before %s, which would be drafted "+
			"as of%s, and %d are needed; try a shorter --ago", ErrShortPast, s.Name,
			in.History.UTC().Format(time.DateOnly), max(0, before), first.UTC().Format(time.DateOnly), twice,
			leastPast)
	}
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	if q.Most != nil {
		r, survey, _, err := w.tried(ctx, s, in, res, first, out.Then, backtest.Curve)
		if err != nil {
			return nil, err
		}
		removes := func(row backtest.Row) bool { return row.Removed >= leastRemoved }
		if !slices.ContainsFunc(r.Rows, removes) {
			return nil, fmt.Errorf("%w: as of %s, from where --at-most would pick, hardly anybody's access could "+
				"be narrowed: what is granted was too new or not in any log then; try a shorter --ago",
				ErrShortPast, first.UTC().Format(time.DateOnly))
		}
		p := &Picked{Most: q.Most(r.Callers), Then: first, Survey: survey, Callers: r.Callers}
		out.Picked = p
		if p.Before, p.Met = backtest.Boldest(r.Rows, p.Most); !p.Met {
			p.Before = slices.MinFunc(r.Rows, func(a, b backtest.Row) int {
				return cmp.Compare(a.Broken, b.Broken)
			})
		}
	}
	run := func(in *gauge.Input, after *usage.Uses, tell func(done, of int) error) (*backtest.Result, error) {
		return backtest.Run(in, after, q.Conditions, tell)
	}
	out.Result, out.Survey, out.Since, err = w.tried(ctx, s, in, res, out.Then, in.AsOf, run)
	if err != nil {
		return nil, err
	}
	if p := out.Picked; p != nil {
		p.Now = out.Rows[slices.IndexFunc(out.Rows, func(r backtest.Row) bool {
			return r.Caution == p.Before.Caution && r.Curved()
		})]
	}
	return out, nil
}

// tried tries drafts of a day that is gone by on the days from then until another. It returns
// besides the survey that shows the estate of then (see Backtested.Survey), and how many calls were
// made since.
func (w *Workspace) tried(ctx context.Context, s *Source, in *gauge.Input, now *gauge.Result, at, until time.Time,
	try func(*gauge.Input, *usage.Uses, func(done, of int) error) (*backtest.Result, error)) (r *backtest.Result,
	survey, calls int64, err error) {
	last, end := usage.DayOf(at), usage.DayOf(until)
	then := *in
	then.AsOf = at
	then.Uses = in.Uses.Cut(usage.DayOf(in.History), last)
	after := in.Uses.Cut(last+1, end)
	called := map[model.ID]bool{}
	for _, u := range after.All() {
		calls += u.Count
	}
	for _, u := range in.Uses.All() {
		if u.Within(last+1, usage.DayOf(in.AsOf)) {
			called[u.Identity], called[u.Principal()] = true, true
		}
	}
	old, survey, err := w.estateOf(ctx, s, now, at, called)
	if err != nil {
		return nil, 0, 0, err
	}
	then.Index = old.Index
	logs, err := w.store.LogState(ctx, s.Name)
	if err != nil {
		return nil, 0, 0, err
	}
	then.Coverage = old.covered(then.Uses, usage.Read{First: logs.First, Ends: []time.Time{at}, Until: at})
	if r, err = try(&then, after, func(done, of int) error {
		w.progress(Event{Source: s.Name, Doing: Trying, Count: done, Of: of})
		return ctx.Err()
	}); err != nil {
		return nil, 0, 0, fmt.Errorf("source %s as of %s: %w", s.Name, at.UTC().Format(time.DateOnly), err)
	}
	return r, survey, calls, ctx.Err()
}

// estateOf returns the estate as it was, and the survey that shows it, 0 for none: as the newest
// survey of then shows it, else today's without the grants that were made since, and with the
// accounts open that called since.
func (w *Workspace) estateOf(ctx context.Context, s *Source, now *gauge.Result, at time.Time,
	called map[model.ID]bool) (old *Source, survey int64, err error) {
	surveys, err := w.store.Surveys(ctx, s.Name)
	if err != nil {
		return nil, 0, err
	}
	for _, v := range surveys { // the newest first
		if v.Finished.After(at) {
			continue
		}
		e, _, err := w.store.Estate(ctx, s.Name, v.ID)
		if errors.Is(err, store.ErrNone) {
			break
		}
		if err != nil {
			return nil, 0, err
		}
		old, err = w.built(ctx, s.Source, e, v, at)
		return old, v.ID, err
	}
	e, _, err := w.store.Estate(ctx, s.Name, s.Survey.ID)
	if err != nil {
		return nil, 0, err
	}
	then := *e
	then.Grants, then.Identities = nil, nil
	since := map[string]time.Time{}
	for _, t := range now.Grants {
		if t != nil {
			since[t.Grant.ID] = t.Since
		}
	}
	for _, g := range e.Grants {
		if made, ok := since[g.ID]; ok {
			g.Created = made // it may have been made again since
		}
		if !g.Created.After(at) {
			then.Grants = append(then.Grants, g)
		}
	}
	for _, i := range e.Identities {
		then.Identities = append(then.Identities, asOf(i, at, called[i.ID]))
	}
	old, err = w.built(ctx, s.Source, &then, s.Survey, at)
	return old, 0, err
}

// asOf returns an identity as it was at a time, as far as that can be told today.
func asOf(i model.Identity, at time.Time, called bool) model.Identity {
	if i.Created.After(at) {
		i.Created = at // memberships name it
	}
	if i.LastSeen.After(at) {
		i.LastSeen = at // when before is not known: it is not taken for somebody who never signed in
	}
	i.Disabled = i.Disabled && !called // who called since was not closed then
	return i
}
