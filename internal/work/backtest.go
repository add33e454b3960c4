package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/backtest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/store"
)

// BacktestRequest says what drafts of the past are tried on.
type BacktestRequest struct {
	Ago    config.Duration // as of when is drafted
	Window config.Duration
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
}

// ErrShortPast is returned where no log goes back far enough to be tried on.
var ErrShortPast = errors.New("the past is too short")

// leastPast is how many days of logs must lie before the day that is drafted as of.
const leastPast = 30

// Backtest drafts for everybody as of some days ago and makes the calls since again. Nothing is
// changed or written.
func (w *Workspace) Backtest(ctx context.Context, q BacktestRequest) (*Backtested, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	s, in, _, err := w.gauged(ctx, src, q.Window, everyPath)
	if err != nil {
		return nil, err
	}
	days := int(time.Duration(q.Ago).Hours() / 24)
	out := &Backtested{Source: s.Name, Days: days, Then: in.AsOf.AddDate(0, 0, -days)}
	if in.History.IsZero() {
		return nil, fmt.Errorf("%w: source %s has no log that was read; run: clipfence survey", ErrShortPast, s.Name)
	}
	if before := int(out.Then.Sub(in.History).Hours() / 24); before < leastPast {
		return nil, fmt.Errorf("%w: the logs of source %s begin on %s, %d days before %s, which would be drafted "+
			"as of, and %d are needed; try a shorter --ago", ErrShortPast, s.Name,
			in.History.UTC().Format(time.DateOnly), max(0, before), out.Then.UTC().Format(time.DateOnly), leastPast)
	}
	called := map[model.ID]bool{}
	for _, u := range in.Uses.All() {
		if u.Within(usage.DayOf(out.Then)+1, usage.DayOf(in.AsOf)) {
			called[u.Identity], called[u.Principal()] = true, true
		}
	}
	old, err := w.estateOf(ctx, s, out, called)
	if err != nil {
		return nil, err
	}
	then := *in
	then.Index, then.AsOf, then.Uses = old.Index, out.Then, nil
	last := usage.DayOf(then.AsOf)
	then.Uses = in.Uses.Select(func(u *usage.Use) bool { return u.Within(usage.DayOf(in.History), last) })
	after := in.Uses.Select(func(u *usage.Use) bool { return u.Within(last+1, usage.DayOf(in.AsOf)) })
	for _, u := range after.All() {
		out.Since += u.Count
	}
	logs, err := w.store.LogState(ctx, src.Name)
	if err != nil {
		return nil, err
	}
	then.Coverage = old.covered(then.Uses, usage.Read{First: logs.First, Ends: []time.Time{then.AsOf},
		Until: then.AsOf})
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	out.Result, err = backtest.Run(&then, after, func(done, of int) {
		w.progress(Event{Source: s.Name, Doing: Trying, Count: done, Of: of})
	})
	if err != nil {
		return nil, fmt.Errorf("source %s as of %s: %w", s.Name, out.Then.UTC().Format(time.DateOnly), err)
	}
	return out, ctx.Err()
}

// estateOf returns the estate as it was: as the newest survey of then shows it, else today's
// without the grants that were made since, and with the accounts open that called since.
func (w *Workspace) estateOf(ctx context.Context, s *Source, b *Backtested, called map[model.ID]bool) (*Source,
	error) {
	surveys, err := w.store.Surveys(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	for _, v := range surveys { // the newest first
		if v.Finished.After(b.Then) {
			continue
		}
		e, _, err := w.store.Estate(ctx, s.Name, v.ID)
		if errors.Is(err, store.ErrNone) {
			break
		}
		if err != nil {
			return nil, err
		}
		b.Survey = v.ID
		return w.built(ctx, s.Source, e, v)
	}
	e, _, err := w.store.Estate(ctx, s.Name, s.Survey.ID)
	if err != nil {
		return nil, err
	}
	then := *e
	then.Grants, then.Identities = nil, nil
	for _, g := range e.Grants {
		if !g.Created.After(b.Then) {
			then.Grants = append(then.Grants, g)
		}
	}
	for _, i := range e.Identities {
		if i.Created.After(b.Then) {
			i.Created = b.Then // memberships name it
		}
		if i.LastSeen.After(b.Then) {
			i.LastSeen = time.Time{}
		}
		i.Disabled = i.Disabled && !called[i.ID] // who called since was not closed then
		then.Identities = append(then.Identities, i)
	}
	return w.built(ctx, s.Source, &then, s.Survey)
}
