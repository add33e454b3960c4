package rehearse

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// ErrTwice is returned for two fences that replace the same grant, or leave the same group.
var ErrTwice = errors.New("two fences take away the same")

// Joint is what several fences do when all of them stand: what one leaves to another grant, the
// fence of that grant's holder may take.
type Joint struct {
	Each   []*Result // what each does alone
	Broken []Break   // by all of them together, most used first; given-up ones last
	// Only are those of Broken that no fence breaks alone, as far as none names them as given up.
	Only    []Break
	Ending  []Break // go on until a line ends
	Calls   int64   // that were tried
	Touched []model.ID
	Before  float64 // danger held by those who are touched and no group, together
	After   float64

	Edit access.Edit // what all of them do
}

// OK reports whether each fence holds alone and nothing more breaks when all stand.
func (j *Joint) OK() bool {
	return len(j.Only) == 0 && !slices.ContainsFunc(j.Each, func(r *Result) bool { return !r.OK() })
}

// Together rehearses several fences of one source, each alone and all together. Placement and
// weights are as for [Run].
func Together(before *index.Index, fs []*fence.Fence, uses *usage.Uses, p *gauge.Placement,
	w gauge.Weights) (*Joint, error) {
	return NewStage(before, w).Together(fs, uses, p)
}

// Together rehearses several fences: see [Together].
func (s *Stage) Together(fs []*fence.Fence, uses *usage.Uses, p *gauge.Placement) (*Joint, error) {
	each := make([]*Result, len(fs))
	for i, f := range fs {
		var err error
		if each[i], err = s.Run(f, uses, p); err != nil {
			return nil, err
		}
	}
	return s.Joint(fs, each, uses, p)
}

// Joint does what Together does, with what each does alone as [Stage.Run] said.
func (s *Stage) Joint(fs []*fence.Fence, each []*Result, uses *usage.Uses, p *gauge.Placement) (*Joint, error) {
	before, w := s.before, s.weights
	j := &Joint{Each: each}
	all := map[model.ID]bool{}
	of := map[model.ID][]*fence.Fence{}
	for _, f := range fs {
		for id := range touched(before, f) {
			all[id] = true
			if slices.ContainsFunc(of[id], func(o *fence.Fence) bool { return TakeSame(o, f) }) {
				return nil, fmt.Errorf("%s: %w", f.For, ErrTwice)
			}
			of[id] = append(of[id], f)
		}
	}
	j.Edit = fence.EditOf(fs, before.Source())
	after, err := before.With(j.Edit)
	if err != nil {
		return nil, err
	}
	alone := map[usage.Key]bool{}
	for _, r := range j.Each {
		for _, b := range r.Broken {
			alone[b.Use.Key] = true
		}
	}
	together := &Result{}
	together.replay(before, after, all, func(u *usage.Use) (from time.Time, named bool) {
		for _, f := range of[u.Principal()] {
			if at, ok := f.Names(u.Permission, u.Path); ok && (!named || at.Before(from)) {
				from, named = at, true
			}
		}
		return from, named
	}, uses, p)
	j.Broken, j.Ending, j.Calls = together.Broken, together.Ending, together.Calls
	for i, b := range j.Broken {
		j.Broken[i].Asked = b.asked(before, of[b.Use.Principal()]...)
		if !b.GivenUp && !alone[b.Use.Key] {
			j.Only = append(j.Only, b)
		}
	}
	one, two := s.scale, gauge.NewScale(after, w)
	for _, id := range slices.SortedFunc(maps.Keys(all), model.ID.Compare) {
		if id.Kind == model.Group || id.Open() {
			continue
		}
		had, _ := one.Held(id)
		has, _ := two.Held(id)
		j.Before, j.After = j.Before+had, j.After+has
		j.Touched = append(j.Touched, id)
	}
	return j, nil
}

// TakeSame reports whether two fences are for the same identity and take the same away: [ErrTwice].
func TakeSame(a, b *fence.Fence) bool {
	return a.For == b.For &&
		(slices.ContainsFunc(a.Replaces, func(id string) bool { return slices.Contains(b.Replaces, id) }) ||
			slices.ContainsFunc(a.Leaves, func(g model.ID) bool { return slices.Contains(b.Leaves, g) }))
}
