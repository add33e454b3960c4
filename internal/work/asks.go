package work

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
)

// offered is how long a gate that a draft offers stays open at most.
const offered = model.Duration(4 * time.Hour)

// offer writes a gate beside a fence for each thing that it leaves to be asked for. They open
// nothing where they are.
func (w *Workspace) offer(f *fence.Fence, src string, force bool) ([]string, error) {
	var out []string
	who := f.For.In(src)
	stem := w.draftName(src, who)
	for i, a := range f.Asks {
		name := fmt.Sprintf("%s-rare-%d", stem, i+1)
		p := &gate.Policy{Version: 2, Name: name, Source: src, Opens: gate.Opens{Do: a.Do, Where: a.Where},
			MayAsk: []model.ID{who}, Longest: offered, Controls: a.When}
		if err := p.Validate(); err != nil {
			return nil, err
		}
		file := filepath.Join(w.DraftDir(), name+fencefile.GateSuffix)
		why := fmt.Sprintf("In place of what %s has all the time and uses rarely: about %.1f times in 90 days, a "+
			"guess. Say who approves (approvers).", who, a.Expected)
		text := fencefile.WriteGate(p, why)
		// What was interrupted between the gate and its fence left the same text.
		if was, err := os.ReadFile(file); err == nil && !force && !bytes.Equal(was, text) {
			return nil, fmt.Errorf("%s: %w; to write over it: --force", w.Relative(file), ErrThere)
		}
		if err := replaceFile(file, text); err != nil {
			return nil, err
		}
		out = append(out, file)
	}
	return out, nil
}

// unlent returns what a fence leaves to be asked for and no gate of the workspace opens.
func (w *Workspace) unlent(f *fence.Fence, s *Source) ([]string, error) {
	if len(f.Asks) == 0 {
		return nil, nil
	}
	policies, err := w.policies()
	if err != nil {
		return nil, err
	}
	who := f.For.In(s.Name)
	var out []string
	for _, a := range f.Asks {
		for _, p := range a.Do {
			one := []model.Rights{{Do: []model.PermissionPattern{p}}}
			opens := func(g *gate.Policy) bool {
				sets := []model.Rights{{Do: g.Opens.Do}}
				if g.Opens.Role != "" {
					sets = s.RoleSets(g.Opens.Role)
				}
				return g.Source == s.Name && slices.ContainsFunc(g.MayAsk, func(by model.ID) bool {
					return by == who || s.In(who, by)
				}) && fence.Within(one, sets) && !slices.ContainsFunc(a.Where, func(on model.PathPattern) bool {
					return !model.PathPatternsContain(g.Opens.Where, on)
				})
			}
			if !slices.ContainsFunc(policies, opens) {
				out = append(out, fmt.Sprintf("no gate lets %s ask for %s on %s, which goes and is to be asked for: "+
					"put one into %s (the draft wrote it beside the fence), say in it who approves, and sign it "+
					"(clipfence trust sign); or take it out of asks", who, p, a.Where[0], w.Relative(w.GateDir())))
				break
			}
		}
	}
	return out, nil
}
