package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/mine"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/fencefile"
)

// RolesRequest says how few roles drafts are to share.
type RolesRequest struct {
	Number int     // of roles; 0: as few as Most lets
	Most   float64 // share of the danger that drafts keep by which it may grow
	Force  bool    // write over a proposal that is there
}

// RolePoint is one number of roles on the curve.
type RolePoint struct {
	Roles      int     `json:"roles"`
	Shared     int     `json:"shared" doc:"roles that several lines have"`
	Extra      float64 `json:"danger_added" doc:"of what lines have beyond their need, counted line by line"`
	Share      float64 `json:"share" doc:"of the danger that the drafts keep"`
	Perms      int     `json:"permissions" doc:"of all roles together"`
	Complexity int     `json:"complexity" doc:"roles, lines and permissions of roles, all weighted 1"`
}

// Roles is a proposal of roles that drafts share.
type Roles struct {
	Source string
	Lines  int // of drafts, and grants of roles that no draft replaces
	Kept   float64
	Curve  []RolePoint
	Chosen int // of the curve
	Made   []SharedRole
	There  []SharedRole // roles of the estate that lines of drafts have as they are
	Files  []string
	Joint  *rehearse.Joint // of the proposal
}

// SharedRole is a role of a proposal.
type SharedRole struct {
	Name  string                    `json:"name"`
	Do    []model.PermissionPattern `json:"do"`
	Lines int                       `json:"lines"`
	For   []model.ID                `json:"for"`
}

// RolesDir is where the drafts of a proposal are.
func (w *Workspace) RolesDir() string { return filepath.Join(w.DraftDir(), "roles") }

// DraftRoles looks for few roles that all drafts can share, with little danger added, and writes
// the drafts with them into a folder of their own: a proposal to rehearse. No line gets what the
// grants that it replaces do not give, so nothing is widened.
func (w *Workspace) DraftRoles(ctx context.Context, q RolesRequest) (*Roles, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	s, in, res, err := w.gauged(ctx, src, 0, unmeasured)
	if err != nil {
		return nil, err
	}
	if err := w.vacant(w.RolesDir(), q.Force); err != nil {
		return nil, err
	}
	fences, names := w.drafts(ctx, src.Name)
	type at struct{ fence, line int }
	var lines []mine.Line
	var spots []at
	out := &Roles{Source: src.Name}
	scale := gauge.NewScale(s.Index, in.Weights)
	for n, f := range fences {
		holders := max(1, len(s.touched(f.For)))
		for i := range f.Allow {
			a := &f.Allow[i]
			if a.Role != "" {
				continue
			}
			cost := func(p int) float64 {
				return float64(holders) * in.Weights.Of(s.Level(p), scale.Nodes(p, a.Where))
			}
			l := mine.Line{Need: s.SetPerms(a.Sets(s.Index)), May: mayHave(s, f, a), Cost: cost}
			l.May.Or(l.Need)
			for p := range l.Need.All() {
				out.Kept += cost(p)
			}
			lines, spots = append(lines, l), append(spots, at{n, i})
		}
	}
	drafted := len(lines)
	// What nobody drafts for stays as it is, and its roles are there for lines that need as much.
	fixed := map[int]string{} // the role of a line
	for _, g := range s.Grants() {
		if g.Role == "" || slices.ContainsFunc(fences, func(f *fence.Fence) bool {
			return slices.Contains(f.Replaces,
				g.ID)
		}) {
			continue
		}
		role, ok := s.Role(g.Role)
		if !ok || role.Builtin || len(role.Includes)+len(role.Except) > 0 || !plainRights(role.Do) {
			continue // what it holds is not the permissions of today alone
		}
		holders := max(1, len(s.touched(g.To)))
		need := s.SetPerms([]model.Rights{role.Rights})
		cost := func(p int) float64 { return float64(holders) * in.Weights.Of(s.Level(p), scale.Nodes(p, g.Where)) }
		for p := range need.All() {
			out.Kept += cost(p)
		}
		fixed[len(lines)] = g.Role
		lines = append(lines, mine.Line{Need: need, May: need.Clone(), Cost: cost})
	}
	if out.Lines = len(lines); drafted == 0 {
		return nil, fmt.Errorf("no draft of source %s has lines to share roles; write some with: clipfence draft "+
			"--all",
			src.Name)
	}
	curve := mine.Curve(lines)
	for _, p := range curve {
		count := make([]int, len(p.Roles))
		for _, r := range p.Of {
			count[r]++
		}
		x := RolePoint{Roles: len(p.Roles), Extra: p.Extra, Perms: p.Permissions, Complexity: p.Complexity()}
		for _, n := range count {
			if n > 1 {
				x.Shared++
			}
		}
		if out.Kept > 0 {
			x.Share = p.Extra / out.Kept
		}
		if q.Number == x.Roles || q.Number == 0 && x.Share <= q.Most {
			out.Chosen = len(out.Curve)
		}
		out.Curve = append(out.Curve, x)
	}
	if q.Number > 0 && out.Curve[out.Chosen].Roles != q.Number {
		return nil, fmt.Errorf("the drafts can share from %d to %d roles, not %d: with fewer, a line would have "+
			"more than "+
			"what it replaces gives", out.Curve[len(out.Curve)-1].Roles, out.Curve[0].Roles, q.Number)
	}
	p := &curve[out.Chosen]
	byRole := make([][]int, len(p.Roles))
	for l, r := range p.Of {
		byRole[r] = append(byRole[r], l)
	}
	for r, of := range byRole {
		of, there := splitFixed(of, fixed)
		if there != "" { // a role of the estate that is there already
			for _, l := range of {
				a := &fences[spots[l].fence].Allow[spots[l].line]
				a.Role, a.Do = there, nil
				a.Evidence = fence.Evidence{Class: "mined", For: fmt.Sprintf("a role that is there; %d of %d "+
					"permissions for others",
					p.Roles[r].Count()-lines[l].Need.Count(), p.Roles[r].Count())}
			}
			if len(of) > 0 {
				out.There = append(out.There, SharedRole{Name: there, Lines: len(of), For: forWhom(fences, spots, of,
					func(x at) int { return x.fence })})
			}
			continue
		}
		if len(of) < 2 {
			continue // it stays the line's own
		}
		made := SharedRole{Do: patternsOf(s, p.Roles[r]), Lines: len(of)}
		made.Name = sharedName(made.Do)
		for _, l := range of {
			f := fences[spots[l].fence]
			a := &f.Allow[spots[l].line]
			more := p.Roles[r].Count() - lines[l].Need.Count()
			a.Do, a.As = made.Do, made.Name
			a.Evidence = fence.Evidence{Class: "mined", For: fmt.Sprintf("shared by %d lines; %d of %d permissions "+
				"for others",
				len(of), more, len(made.Do))}
		}
		made.For = forWhom(fences, spots, of, func(x at) int { return x.fence })
		out.Made = append(out.Made, made)
	}
	stage := rehearse.NewStage(s.Index, in.Weights).Know(res)
	if out.Joint, err = stage.Together(fences, in.Uses, res.Placement); err != nil {
		return nil, err
	}
	for i, r := range out.Joint.Each {
		if len(r.Widened)+len(r.Doubts) > 0 { // never seen, and never to be written down
			return nil, fmt.Errorf("the proposal for %s is not proven, a fault of this program: %v %v", fences[i].For,
				r.Widened, r.Doubts)
		}
	}
	if err := os.RemoveAll(w.RolesDir()); err != nil { // of an earlier proposal, which is written over
		return nil, err
	}
	for i, f := range fences {
		f.Prove(s.Index, f.Proven.Until, f.Proven.Expects)
		file := filepath.Join(w.RolesDir(), names[i])
		if err := replaceFile(file, fencefile.Write(f, "")); err != nil {
			return nil, err
		}
		out.Files = append(out.Files, file)
	}
	return out, nil
}

// splitFixed returns the lines that are of drafts, and the role of the others.
func splitFixed(lines []int, fixed map[int]string) (drafted []int, role string) {
	for _, l := range lines {
		if r, ok := fixed[l]; !ok {
			drafted = append(drafted, l)
		} else if role == "" || r < role {
			role = r
		}
	}
	return drafted, role
}

// forWhom returns for whom the drafts of some lines are, each once.
func forWhom[T any](fences []*fence.Fence, spots []T, lines []int, of func(T) int) []model.ID {
	var out []model.ID
	for _, l := range lines {
		if id := fences[of(spots[l])].For; !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	return out
}

// plainRights reports whether each of some patterns is one permission.
func plainRights(do []model.PermissionPattern) bool {
	return !slices.ContainsFunc(do, func(p model.PermissionPattern) bool {
		_, err := model.ParsePermission(p.String())
		return err != nil
	})
}

// mayHave returns what a line could give without widening: what the grants that its fence replaces
// give on all of its places under its condition.
func mayHave(s *Source, f *fence.Fence, a *fence.Allow) access.Set {
	out := s.NewSet()
	cond := a.When.WithUntil(a.Until)
	on := map[int][]model.PathPattern{}
	for _, i := range s.GrantsTo(f.For.In(s.Name)) {
		g := s.Grant(i)
		if !slices.Contains(f.Replaces, g.ID) || !cond.Implies(g.Condition()) {
			continue
		}
		for p := range s.SetPerms(s.GrantSets(i)).All() {
			on[p] = append(on[p], g.Where...)
		}
	}
	for p, where := range on {
		if !slices.ContainsFunc(a.Where, func(x model.PathPattern) bool {
			return !model.PathPatternsContain(where,
				x)
		}) {
			out.Add(p)
		}
	}
	return out
}

func patternsOf(s *Source, set access.Set) []model.PermissionPattern {
	var out []model.PermissionPattern
	for p := range set.All() {
		out = append(out, s.Permission(p).Permission.Pattern())
	}
	return out
}

// sharedName names a role after what it holds, so that the same one has the same name everywhere.
func sharedName(do []model.PermissionPattern) string {
	h := sha256.New()
	for _, p := range do {
		fmt.Fprintln(h, p)
	}
	return "shared-" + hex.EncodeToString(h.Sum(nil)[:4])
}
