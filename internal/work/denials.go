package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
)

// Denials is a proposal that says by denials what drafts say one by one.
type Denials struct {
	Source   string
	Drafts   int // that it is made of
	Fence    *fence.Fence
	Needless []model.ID // for whom drafts are needless then
	Before   int        // pieces to read and change: of the drafts, and of the proposal
	After    int
	Files    []string
	Joint    *rehearse.Joint // of the proposal
	Left     float64         // danger that the drafts leave, all together
}

// DenialsDir is where the drafts of a proposal are.
func (w *Workspace) DenialsDir() string { return filepath.Join(w.DraftDir(), "denials") }

// DraftDenials looks for what the drafts that are there say and a few denials say as well, and writes
// those, with the drafts that are still needed, into a folder of their own: a proposal to rehearse. It is
// [draft.ErrNoDenial] where denials are not shorter.
func (w *Workspace) DraftDenials(ctx context.Context, force bool) (*Denials, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	s, in, res, err := w.gauged(ctx, src, 0, noPaths)
	if err != nil {
		return nil, err
	}
	if s.Semantics().Additive {
		return nil, fmt.Errorf("source %s knows no denials: what is to go is taken out of its grants, as the drafts "+
			"do: %w", s.Name, draft.ErrNoDenial)
	}
	if err := w.vacant(w.DenialsDir(), force); err != nil {
		return nil, err
	}
	fences, names := w.drafts(ctx, src.Name)
	policies, err := w.policies()
	if err != nil {
		return nil, err
	}
	lent := func(perm int, on model.PathPattern) bool {
		p := s.Permission(perm).Permission
		opens := func(do []model.PermissionPattern, where []model.PathPattern) bool {
			return slices.ContainsFunc(do, func(d model.PermissionPattern) bool { return d.Matches(p) }) &&
				slices.ContainsFunc(where, on.Overlaps)
		}
		for _, g := range policies {
			do := g.Opens.Do
			for _, set := range s.RoleSets(g.Opens.Role) {
				do = append(do[:len(do):len(do)], set.Do...)
			}
			if g.Source == s.Name && opens(do, g.Opens.Where) {
				return true
			}
		}
		return slices.ContainsFunc(fences, func(f *fence.Fence) bool {
			return slices.ContainsFunc(f.Asks, func(a fence.Ask) bool { return opens(a.Do, a.Where) })
		})
	}
	found, err := draft.Denials(in, res, fences, lent)
	if err != nil {
		return nil, fmt.Errorf("of %d drafts of source %s: %w", len(fences), s.Name, err)
	}
	f := found.Fence
	f.Survey = s.Survey.ID
	out := &Denials{Source: s.Name, Drafts: len(fences), Fence: f, Before: found.Before, After: found.After}
	all, kept := []*fence.Fence{f}, []string{w.draftName(s.Name, f.For.In(s.Name)) + fencefile.Suffix}
	for i := range fences {
		if slices.Contains(found.Needless, i) {
			out.Needless = append(out.Needless, fences[i].For.In(s.Name))
			continue
		}
		name := names[i]
		if name == kept[0] { // the draft for everyone, whom the denials are for as well
			name = "crowd-" + name
		}
		all, kept = append(all, fences[i]), append(kept, name)
	}
	stage := rehearse.NewStage(s.Index, in.Weights).Know(res)
	were, err := stage.Together(fences, in.Uses, res.Placement)
	if err != nil {
		return nil, err
	}
	if out.Joint, err = stage.Together(all, in.Uses, res.Placement); err != nil {
		return nil, err
	}
	if were.OK() && !out.Joint.OK() { // never seen, and never to be written down
		return nil, fmt.Errorf("the denials refuse what the drafts do not, a fault of this program: %v %v",
			out.Joint.Only, out.Joint.Each[0].Doubts)
	}
	out.Left = out.Joint.Before - (were.Before - were.After)
	worth, err := w.worth(ctx, s, in, res)
	if err != nil {
		return nil, err
	}
	k, err := riskOf(ctx, s, worth, f.Edit(s.Name), s.touched(f.For), usage.DayOf(in.AsOf), f)
	if err != nil {
		return nil, err
	}
	f.Prove(s.Index, lastOf(in.Uses), k.expects())
	if err := os.RemoveAll(w.DenialsDir()); err != nil { // of an earlier proposal, which is written over
		return nil, err
	}
	for i, f := range all {
		file := filepath.Join(w.DenialsDir(), kept[i])
		if err := replaceFile(file, fencefile.Write(f, "")); err != nil {
			return nil, err
		}
		out.Files = append(out.Files, file)
	}
	return out, nil
}

// vacant refuses a folder of a proposal that holds one, unless it may be written over.
func (w *Workspace) vacant(dir string, force bool) error {
	if es, err := os.ReadDir(dir); err == nil && len(es) > 0 && !force {
		return fmt.Errorf("%s: %w; to write over it: --force", w.Relative(dir), ErrThere)
	}
	return nil
}

// drafts reads the drafts of a source that narrow, with the names of their files; one that cannot be
// read any more is left out, and told.
func (w *Workspace) drafts(ctx context.Context, src string) (fences []*fence.Fence, names []string) {
	open := map[string]*Source{}
	for _, name := range w.DraftNames(ctx) {
		file, f, of, err := w.readFence(ctx, filepath.Join(w.DraftDir(), name+fencefile.Suffix), open)
		if err != nil {
			w.say("remark: left out: %v", err)
			continue
		}
		if of.Name == src && f.Widens == "" {
			fences, names = append(fences, f), append(names, filepath.Base(file))
		}
	}
	return fences, names
}

// RefusedTo counts what the denials of a fence refuse, each permission once.
func RefusedTo(f *fence.Fence) int {
	seen := map[model.PermissionPattern]bool{}
	for _, l := range f.Denies {
		for _, p := range l.Do {
			seen[p] = true
		}
	}
	return len(seen)
}
