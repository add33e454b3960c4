package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"clipfence/internal/config"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// EscalationFrom is what an identity can give itself.
type EscalationFrom struct {
	Nodes   []AdministeredNode // of those that matter: that it can become administrator of
	Matter  int                // how many matter
	Becomes []Becoming         // whom it can become
	Anybody *escalate.Route    // how it can become anybody; nil: it cannot
}

// AdministeredNode is a node whose administrator an identity is, or can become.
type AdministeredNode struct {
	Node    model.Path
	Already bool
	Steps   []escalate.Step
}

// Becoming is an identity, and steps: by which another becomes it, or it becomes something.
type Becoming struct {
	Identity model.ID
	Steps    []escalate.Step
}

// EscalationFrom says what an identity can give itself.
func (s *Source) EscalationFrom(id model.ID) (*EscalationFrom, error) {
	nodes := s.matter()
	n, ok := s.Number(id)
	if !ok {
		return nil, s.Known(id)
	}
	g := escalate.New(s.Index, nodes)
	routes, anybody := g.From(n)
	out := &EscalationFrom{Matter: len(nodes), Anybody: anybody}
	for i, p := range nodes {
		if steps, already := g.Route(i, n); already || len(steps) > 0 {
			if already {
				steps = nil
			}
			out.Nodes = append(out.Nodes, AdministeredNode{p, already, steps})
		}
	}
	for _, r := range routes {
		out.Becomes = append(out.Becomes, Becoming{s.ID(r.Identity), r.Steps})
	}
	return out, nil
}

// EscalationInto is who can become administrator of a node.
type EscalationInto struct {
	Administrators []model.ID                    // who can edit grants on it already
	CanBecome      []Becoming                    // the shortest ways first
	Cut            *Cut                          // nil: nothing that may be taken away breaks every way
	Used           map[string]*gauge.GrantResult // how grants are used
	Days           int                           // over how many days
}

// Cut is the smallest set to take away so that nobody can make itself administrator.
type Cut struct {
	Grants []*model.Grant
	ActAs  []*model.ActAs
	Lose   []model.ID // who can edit grants there now, and could no longer
}

// EscalationInto says who can become administrator of a node, of a kind where one is named,
// and what to take away so that nobody can.
func (w *Workspace) EscalationInto(ctx context.Context, src config.Source, s *Source, path model.Path,
	kind string) (*EscalationInto, error) {
	if _, ok := s.Node(path); !ok {
		return nil, fmt.Errorf("the inventory of source %s lists no node %s: nobody can be its administrator", s.Name,
			path)
	}
	g := escalate.New(s.Index, []model.Path{path})
	out := &EscalationInto{Administrators: []model.ID{}}
	for _, a := range g.Administrators(0) {
		out.Administrators = append(out.Administrators, s.ID(a))
	}
	for _, r := range g.CanBecome(0) {
		if id := s.ID(r.Identity); kind == "" || string(id.Kind) == kind {
			out.CanBecome = append(out.CanBecome, Becoming{id, r.Steps})
		}
	}
	slices.SortStableFunc(out.CanBecome, func(a, b Becoming) int { return cmp.Compare(len(a.Steps), len(b.Steps)) })
	if len(out.CanBecome) == 0 {
		return out, nil
	}
	costs, used, days, err := w.costs(ctx, src)
	if err != nil {
		return nil, err
	}
	out.Used, out.Days = used, days
	cut, err := g.SmallestCut(costs)
	if errors.Is(err, escalate.ErrUncuttable) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Cut = &Cut{Grants: cut.Grants, ActAs: cut.ActAs}
	for _, i := range cut.Lose {
		out.Cut.Lose = append(out.Cut.Lose, s.ID(i))
	}
	return out, nil
}

// matter returns the nodes whose administrators matter most: the top ones and the two
// levels below them that have something below themselves.
func (s *Source) matter() []model.Path {
	const most = 64
	out := s.Tops()
	for i, depth := 0, 0; i < len(out) && len(out) < most; i++ {
		if i == 0 {
			depth = out[0].Depth()
		}
		if out[i].Depth() < depth+2 {
			s.Scopes(out[i], func(p model.Path) {
				if len(out) < most {
					out = append(out, p)
				}
			})
		}
	}
	return out
}

// costs weighs what may be taken away by how much it was used, and returns how grants are
// used, over how many days.
func (w *Workspace) costs(ctx context.Context, src config.Source) (escalate.Costs, map[string]*gauge.GrantResult, int,
	error) {
	_, in, res, err := w.gauged(ctx, src, 0, unmeasured)
	if err != nil {
		return escalate.Costs{}, nil, 0, err
	}
	by := map[string]*gauge.GrantResult{}
	for _, g := range res.Grants {
		if g != nil {
			by[g.Grant.ID] = g
		}
	}
	protected := maps.Clone(in.Protected)
	if protected == nil {
		protected = map[model.ID]bool{}
	}
	for _, i := range in.Index.Everybody() {
		if i.BreakGlass() {
			protected[i.ID] = true
		}
	}
	var under func(id model.ID, seen map[model.ID]bool) bool // whether somebody protected is in it
	under = func(id model.ID, seen map[model.ID]bool) bool {
		if protected[id] {
			return true
		}
		seen[id] = true
		return slices.ContainsFunc(in.Index.MembersOf(id), func(m model.ID) bool { return !seen[m] && under(m, seen) })
	}
	costs := escalate.Costs{Protected: protected,
		Grant: func(g *model.Grant) int64 {
			if under(g.To, map[model.ID]bool{}) {
				return -1
			}
			r := by[g.ID]
			if r == nil {
				return 10
			}
			return int64(1 + 3*r.Used.Count() + r.Rare.Count() + min(r.Unobservable.Count(), 5))
		},
		ActAs: func(a *model.ActAs) int64 {
			if under(a.From, map[model.ID]bool{}) {
				return -1
			}
			return 20 // no log tells how much it is used
		}}
	return costs, by, in.Window, nil
}
