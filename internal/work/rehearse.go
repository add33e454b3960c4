package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"clipfence/internal/config"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
)

// Rehearse replays what was observed against a fence, proves that it widens nothing, and weighs
// its risk.
func (w *Workspace) Rehearse(ctx context.Context, f *fence.Fence, s *Source, accept bool) (*rehearse.Result, *Risk,
	error) {
	at, err := w.lookAt(ctx, s, f.For.In(s.Name), 0)
	if err != nil {
		return nil, nil, err
	}
	return w.rehearsed(ctx, f, at, rehearse.NewStage(s.Index, at.in.Weights).Know(at.res), accept)
}

// rehearsed rehearses a fence on a stage of what is looked at.
func (w *Workspace) rehearsed(ctx context.Context, f *fence.Fence, at *looked, stage *rehearse.Stage,
	accept bool) (*rehearse.Result, *Risk, error) {
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	s, span, placed := at.s, at.in.Span(), at.res.Placement
	if d, err := model.ParseDuration(f.Window); err == nil && config.WholeDays(d) == nil && w.days(d) != at.in.Window {
		span = usage.WindowOf(w.now(), w.days(d))
		placed = gauge.Place(s.Index, at.in.Uses, span, at.in.Place)
	}
	r, k, err := besides(func() (*rehearse.Result, error) { return stage.Run(f, at.in.Uses, placed) },
		func() (*Risk, error) {
			return riskOf(ctx, s, at.worth, f.Edit(s.Name), s.touched(f.For), usage.DayOf(at.in.AsOf), f)
		})
	if err != nil {
		return nil, nil, err
	}
	r.Accepted, r.Cannot, r.Riskier = accept, cannot(planner(s.Source), f, s.Name), riskier(f, k)
	r.Going, r.Lately = rehearse.GoingOn(r.Broken, span), rehearse.Often(r.Ending, span)
	return r, k, nil
}

// besides does two things at once, of which neither looks at what the other changes, and returns the first error.
func besides[A, B any](one func() (A, error), other func() (B, error)) (a A, b B, err error) {
	done := make(chan error, 1)
	go func() {
		var err error
		b, err = other()
		done <- err
	}()
	a, err = one()
	otherwise := <-done // also where the one failed
	return a, b, cmp.Or(err, otherwise)
}

// Joint is what several fences do alone and together.
type Joint struct {
	Source string
	Names  []string // of the files
	Fences []*fence.Fence
	*rehearse.Joint
	Risk  *Risk   // of all together
	Going int     // of the given-up uses of all together, those that go on
	Left  []error // of each draft that was left out: what it is about is not there any more, or it is no fence

	Applied int // so many drafts were applied: they are left out as well
}

// twice returns an error where one of some of the fences takes away what another one does.
func (j *Joint) twice(of []int, name string, f *fence.Fence) error {
	for _, i := range of {
		switch {
		case !rehearse.TakeSame(j.Fences[i], f):
		case j.Names[i] == name:
			return fmt.Errorf("%s is named twice: %w", name, rehearse.ErrTwice)
		default:
			return fmt.Errorf("%s and %s: %w; delete one of them", j.Names[i], name, rehearse.ErrTwice)
		}
	}
	return nil
}

// RehearseTogether rehearses several fences of one source, each alone and all as if they stood
// together: see [rehearse.Together]. Of no names those of all drafts are taken, of the source in question where one
// is, but for what was applied; one that cannot be read or rehearsed, or takes away what another does, is left out,
// and told.
func (w *Workspace) RehearseTogether(ctx context.Context, names []string, accept bool) (*Joint, error) {
	out := &Joint{}
	var s *Source
	every := len(names) == 0
	applied, open := map[string]*Record{}, map[string]*Source{}
	if every {
		names = w.DraftNames(ctx)
		_, history, err := w.History(ctx)
		if err != nil {
			return nil, damaged(err)
		}
		applied = carried(history)
	}
	whose := map[model.ID][]int{} // which of them are for whom
	for _, arg := range names {
		var err error
		if every {
			arg = filepath.Join(w.DraftDir(), arg+fencefile.Suffix)
			f, by := carriedOut(arg, applied)
			if f != nil && w.Only != "" && f.For.Source != w.Only {
				continue
			}
			if by != nil && by.State == ChangeDone {
				out.Applied++
				continue
			}
			_, err = os.Stat(arg)
		}
		var name string
		var f *fence.Fence
		var of *Source
		if err == nil {
			name, f, of, err = w.readFence(ctx, arg, open)
		}
		if err == nil && s != nil && s.Name != of.Name {
			one := "rehearse those of one source together"
			if every {
				one += ", with: --source " + s.Name
			}
			return nil, fmt.Errorf("%s is for source %s, and %s for %s; %s", out.Names[0], s.Name, w.Relative(name),
				of.Name, one)
		}
		if err == nil {
			err = out.twice(whose[f.For], w.Relative(name), f)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil && every {
			out.Left = append(out.Left, err)
			continue
		}
		if err != nil {
			return nil, err
		}
		s, whose[f.For] = of, append(whose[f.For], len(out.Fences))
		out.Names, out.Fences = append(out.Names, w.Relative(name)), append(out.Fences, f)
	}
	if s == nil && out.Applied > 0 && len(out.Left) == 0 {
		return nil, fmt.Errorf("nothing is left to rehearse: all drafts (%d) are applied", out.Applied)
	}
	if s == nil {
		const most = 3 // of thousands, mostly with the same to say
		n := min(len(out.Left), most)
		left := out.Left[:n:n]
		if n := len(out.Left) - n; n > 0 {
			left = append(left, fmt.Errorf("and %d more", n))
		}
		return nil, errors.Join(append(left, errors.New("no draft can be rehearsed"))...)
	}
	out.Source = s.Name
	_, in, res, err := w.gauged(ctx, s.Source, 0, everyPath)
	if err != nil {
		return nil, err
	}
	worth, err := w.worth(ctx, s, in, res)
	if err != nil {
		return nil, err
	}
	at := &looked{s, in, res, worth, lastOf(in.Uses)}
	stage := rehearse.NewStage(s.Index, in.Weights).Know(res)
	each := make([]*rehearse.Result, len(out.Fences))
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	for i, f := range out.Fences {
		w.progress(Event{Source: s.Name, Doing: Weighing, Count: i, Of: len(out.Fences)})
		if each[i], _, err = w.rehearsed(ctx, f, at, stage, accept); err != nil {
			return nil, err
		}
		each[i].Goes, each[i].Stays = nil, nil // of several nobody is told of it
	}
	if out.Joint, err = stage.Joint(out.Fences, each, in.Uses, res.Placement); err != nil {
		return nil, err
	}
	out.Going = rehearse.GoingOn(out.Broken, in.Span())
	out.Risk, err = riskOf(ctx, s, worth, out.Edit, out.Touched, usage.DayOf(in.AsOf), out.Fences...)
	return out, err
}

// planner returns how a source says things, which needs no connection to it: both kinds of
// source have one document a record.
func planner(config.Source) source.Planner { return documents.Planner{} }

// cannot returns what a source cannot say of a fence, line by line.
func cannot(p source.Planner, f *fence.Fence, src string) []string {
	var out []string
	for i, g := range f.Edit(src).Come.Grants {
		for _, why := range p.Says(&g) {
			out = append(out, fmt.Sprintf("line %d of allow: %s", i+1, why))
		}
	}
	return out
}

// KeptElsewhere counts the given-up permissions that other grants still give.
func KeptElsewhere(f *fence.Fence, r *rehearse.Result) int {
	n, given := 0, f.GivenUp()
	for _, c := range r.Stays {
		if slices.ContainsFunc(given, func(p model.PermissionPattern) bool { return p.Matches(c.Permission) }) {
			n++
		}
	}
	return n
}
