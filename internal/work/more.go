package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
	"clipfence/internal/source"
)

// MoreRequest says what somebody is to have, and has not: by one of Refused, Task and Needs.
type MoreRequest struct {
	For string

	Ends bool // grants that end soon, or ended in the window, and are used; until Until

	Refused bool            // calls that were refused
	Calls   []draft.Refused // or these alone
	Exactly bool            // on the very places, whatever it had before

	Task string
	On   []model.Path // places that the task is done on

	Needs string                // a needs file
	With  []string              // features that are on, besides those that always are
	At    map[string]model.Path // where its places are

	Window model.Duration
	Until  time.Time // what is given ends then; zero: it does not
	File   string    // to write; "": one named after the identity
	Force  bool      // write over a file that is there

	// Lend makes gates in place of a fence: to be asked for and open that long at most.
	Lend      model.Duration
	Approvers []model.ID
}

// More is what was drafted for somebody who is to have more.
type More struct {
	Drafted // Fence is nil where no line is needed, or helps
	Who     model.ID
	In      *Source
	Members int            // of a group: how many others get it by the fence
	Gates   []string       // files of the gates, in place of it
	Answers []draft.Answer // of refused calls: what can be done about each
	Probing int            // permissions of them that look as if somebody tried what works: see [draft.Probing]
	Gap     *draft.Gap     // of tasks and needs

	NeverUsed []draft.Lack // of needs: granted, and not seen used
	Beyond    []Beyond     // of needs: used, and no feature that is on needs it; most calls first
	Product   string
	On, Off   []string // features
}

// Beyond is something that is used and not said to be needed, on a node of the inventory.
type Beyond struct {
	Identity   model.ID
	Permission model.Permission
	Node       model.Path
	Calls      int64
	Last       time.Time
}

// DraftMore writes what somebody is to have, as narrow as what is asked for: a fence that says why
// it widens, or gates. [ErrNoLine]: no line is needed, or none helps; then what was found
// is returned beside it.
func (w *Workspace) DraftMore(ctx context.Context, q MoreRequest) (*More, error) {
	id, named, err := SplitID(q.For)
	if err != nil {
		return nil, err
	}
	src, err := w.pick(named)
	if err != nil {
		return nil, err
	}
	s, uses, ends, err := w.forMore(ctx, src, &q, id)
	if err == nil {
		err = s.Known(id)
	}
	if err != nil {
		return nil, err
	}
	if i, _ := s.Identity(id); i.Disabled {
		return nil, fmt.Errorf("%s is disabled in source %s: nothing that it is given does anything", id, s.Name)
	}
	window := q.Window
	if window == 0 {
		window = w.Window
	}
	span := usage.WindowOf(w.now(), int(time.Duration(window).Hours()/24))
	out := &More{Who: id, In: s}
	switch {
	case q.Ends:
		out.Fence = ends
	case q.Task != "":
		out.Fence, err = w.forTask(s, id, &q, out)
	case q.Needs != "":
		out.Fence, err = w.forNeeds(s, id, &q, out, uses)
	default:
		calls := q.Calls
		if calls == nil {
			calls = refused(uses, func(who model.ID) bool {
				return who == id || id.Kind == model.Group && s.In(who, id)
			}, span)
		}
		why := "calls of it were refused"
		out.Fence, out.Answers = draft.ForRefused(s.Index, id, calls, nil, why, w.now())
		out.Probing = draft.Probing(calls)
		if out.Fence != nil && q.Calls == nil && id.Kind != model.Group && !q.Exactly && q.Lend == 0 &&
			out.Probing == 0 {
			var back []fence.Allow
			if back, err = w.givenBack(ctx, s, uses, id, out.Answers, window); err == nil {
				out.Fence, out.Answers = draft.ForRefused(s.Index, id, calls, back, why, w.now())
			}
		}
	}
	if err != nil {
		return nil, err
	}
	if out.Fence == nil {
		return out, fmt.Errorf("%s: %w", id, ErrNoLine)
	}
	f := out.Fence
	f.Window = window.String()
	for i := range f.Allow {
		f.Allow[i].Until = q.Until
	}
	if why := cannot(planner(s.Source), f, s.Name); len(why) > 0 {
		return nil, fmt.Errorf("source %s %w: %s: %s", s.Name, source.ErrCannot, id, strings.Join(why, "; "))
	}
	if q.Lend > 0 {
		return out, w.lend(s, id, &q, out)
	}
	name := q.File
	if name == "" {
		name = filepath.Join(w.DraftDir(), w.draftName(s.Name, id)+"-more"+fencefile.Suffix)
	}
	if _, err := os.Stat(name); err == nil && !q.Force {
		return nil, fmt.Errorf("%s: %w; to write over it: --force", w.Relative(name), ErrThere)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	f.Survey = s.Survey.ID
	if out.Rehearsal, err = rehearse.Run(s.Index, f, nil, nil, w.weights()); err != nil {
		return nil, err
	}
	if len(out.Rehearsal.Widened)+len(out.Rehearsal.Doubts) > 0 { // never seen, and never to be written down
		return nil, fmt.Errorf("the draft for %s is not proven, a fault of this program: %v %v", id,
			out.Rehearsal.Widened, out.Rehearsal.Doubts)
	}
	f.Prove(s.Index, lastOf(uses), nil)
	if id.Kind == model.Group {
		out.Members = len(s.touched(id))
	}
	out.File, out.Risk = name, &Risk{}
	return out, replaceFile(name, fencefile.Write(f, ""))
}

// givenBack returns what a draft would have left of access that changes of ours took, had calls been known that were
// refused since: of somebody who works on one thing after another each next one would be refused else. What it never
// had it is not given, nor what others took from it, who may have had their reasons.
func (w *Workspace) givenBack(ctx context.Context, s *Source, uses *usage.Uses, id model.ID, calls []draft.Answer,
	window config.Duration) ([]fence.Allow, error) {
	before, joined, err := w.before(ctx, s)
	if err != nil || before == nil {
		return nil, err
	}
	var d access.Edit
	for i := range before.Gone {
		g := &before.Gone[i].Grant
		perms := before.Index.SharedPerms(s.GrantNumbers() + i)
		if g.To != id || !before.Gone[i].Ours || !slices.ContainsFunc(calls, func(a draft.Answer) bool {
			p, ok := before.Index.PermNumber(a.Permission)
			return ok && a.Help == draft.Line && perms.Has(p) && g.Covers(a.Path)
		}) {
			continue
		}
		d.Come.Grants = append(d.Come.Grants, *g)
		if _, there := s.Role(g.Role); g.Role != "" && !there {
			if r, known := before.Index.Role(g.Role); known {
				d.Come.Roles = append(d.Come.Roles, r)
			}
		}
	}
	if len(d.Come.Grants) == 0 {
		return nil, nil
	}
	// What was learned is of the estate of today; what is drafted, of one in which that had stayed, and the calls
	// been let through.
	in, res, err := w.gaugedWith(ctx, s, uses, window, everyPath)
	if err != nil {
		return nil, err
	}
	worth, err := w.worth(ctx, s, in, res)
	if err != nil {
		return nil, err
	}
	learned, err := worth.Learned()
	if err != nil {
		return nil, err
	}
	then, err := s.as(d)
	if err != nil {
		return nil, err
	}
	let := &usage.Gather{}
	let.Expect(uses.Len())
	for _, u := range uses.All() {
		if u.Outcome == usage.Refused && u.Principal() == id &&
			then.Decide(id, u.Permission, u.Path, u.Context()).Outcome != access.Denied {
			u.Outcome = usage.Done
		}
		let.Add(u)
	}
	if in, res, err = w.gaugedWith(ctx, then, let.Uses(), window, everyPath); err != nil {
		return nil, err
	}
	in.Joined = joined
	worth, _ = draft.WorthOf(in, res, learned)
	f, err := draft.FromUse(in, res, id, draft.Options{Worth: worth})
	if errors.Is(err, draft.ErrNothing) || errors.Is(err, draft.ErrProtected) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return f.Allow, nil
}

// forMore reads what is looked at for somebody who is to have more. What ends takes a comparison, to
// know what of it was used: it is drafted here.
func (w *Workspace) forMore(ctx context.Context, src config.Source, q *MoreRequest, id model.ID) (*Source, *usage.Uses,
	*fence.Fence, error) {
	if q.Ends {
		s, err := w.Surveyed(ctx, src)
		if err != nil {
			return nil, nil, nil, err
		}
		var over []string
		for _, g := range s.Over(func(to model.ID) bool { return to == id }) {
			over = append(over, g.Grant)
		}
		_, in, res, err := w.gaugedOf(ctx, s.inForce(s.at, over...), q.Window, everyPath) // as if it were not over
		if err != nil {
			return nil, nil, nil, err
		}
		return s, in.Uses, draft.ForEnds(in, res, id, q.Until), nil
	}
	s, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, nil, nil, err
	}
	uses, _, err := w.uses(ctx, s)
	return s, uses, nil, err
}

// ErrNoLine: no line of a fence is needed, or none helps.
var ErrNoLine = errors.New("no line is needed, or none helps")

// refused gathers the calls that were refused to some in a window, by permission and place.
func refused(uses *usage.Uses, of func(model.ID) bool, span usage.Window) []draft.Refused {
	type key struct {
		do model.Permission
		on model.Path
	}
	byKey := map[key]*draft.Refused{}
	days := map[key]map[usage.Day]bool{}
	var order []key
	for _, u := range uses.By(of) {
		if u.Outcome != usage.Refused {
			continue
		}
		if !u.Within(span.First(), span.Last()) {
			continue
		}
		k := key{u.Permission, u.Path}
		r := byKey[k]
		if r == nil {
			r = &draft.Refused{Permission: u.Permission, Path: u.Path, Context: u.Context(), First: u.First,
				Last: u.Last}
			byKey[k], days[k], order = r, map[usage.Day]bool{}, append(order, k)
		}
		c := u.Context()
		switch { // as little as all of them show
		case c.SecondFactor == model.False:
			r.Context.SecondFactor = model.False
		case c.SecondFactor != r.Context.SecondFactor && r.Context.SecondFactor != model.False:
			r.Context.SecondFactor = model.Open
		}
		if c.Block != r.Context.Block {
			r.Context.Block = model.Context{}.Block
		}
		if c.Times != r.Context.Times {
			r.Context.Times = model.Times{}
		}
		r.Count += u.Count
		for _, d := range u.Days.List() {
			days[k][d] = true
		}
		r.Days = len(days[k])
		if u.First.Before(r.First) {
			r.First = u.First
		}
		if u.Last.After(r.Last) {
			r.Last = u.Last
		}
	}
	out := make([]draft.Refused, len(order))
	for i, k := range order {
		out[i] = *byKey[k]
	}
	return out
}

// Tasks are the tasks that a workspace knows and a source has the permissions for.
func (w *Workspace) Tasks(ctx context.Context) ([]config.Task, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	s, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, err
	}
	return w.tasks(s)
}

func (w *Workspace) tasks(s *Source) ([]config.Task, error) {
	by := map[string]config.Task{}
	for _, t := range config.OwnTasks() {
		known := !slices.ContainsFunc(slices.Concat(t.Steps, t.Companions), func(step config.Step) bool {
			return slices.ContainsFunc(step.Do, func(p model.PermissionPattern) bool {
				return s.SetPerms([]model.Rights{{Do: []model.PermissionPattern{p}}}).Count() == 0
			})
		})
		if known {
			by[t.Name] = t
		}
	}
	for _, name := range w.Config.Tasks {
		name = w.Path(name)
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("tasks: %w", err)
		}
		list, err := config.ParseTasks(name, data)
		if err != nil {
			return nil, err
		}
		for _, t := range list {
			by[t.Name] = t
		}
	}
	var out []config.Task
	for _, name := range slices.Sorted(maps.Keys(by)) {
		out = append(out, by[name])
	}
	return out, nil
}

func (w *Workspace) forTask(s *Source, id model.ID, q *MoreRequest, out *More) (*fence.Fence, error) {
	tasks, err := w.tasks(s)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(tasks, func(t config.Task) bool { return t.Name == q.Task })
	if i < 0 {
		return nil, fmt.Errorf("no task %q; see: clipfence draft --from task", q.Task)
	}
	t := tasks[i]
	if len(q.On) == 0 {
		return nil, fmt.Errorf("say where %s is done: --on PATH, of %s", t.Name, anyOf(t.Kinds))
	}
	var wants []draft.Want
	for _, on := range q.On {
		kind, _ := on.Last()
		if len(t.Kinds) > 0 && !slices.Contains(t.Kinds, kind) {
			return nil, fmt.Errorf("task %s is done on %s, and %s is none", t.Name, anyOf(t.Kinds), on)
		}
		if err := s.there(on); err != nil {
			return nil, err
		}
		for _, step := range t.Steps {
			wants = append(wants, s.wants(&step, on, id, "task "+t.Name)...)
		}
		for _, step := range t.Companions {
			why := "task " + t.Name
			if step.Why != "" {
				why += ", " + step.Why
			}
			wants = append(wants, s.wants(&step, on, id, why)...)
		}
	}
	g := draft.Against(s.Index, id, wants)
	out.Gap = &g
	if len(g.Unlisted) > 0 {
		return nil, fmt.Errorf("task %s: permission %s is not in the catalogue of source %s", t.Name, g.Unlisted[0],
			s.Name)
	}
	return draft.ForTask(s.Index, id, wants, "task "+t.Name+": "+t.Title, w.now()), nil
}

func anyOf(kinds []string) string {
	if len(kinds) == 0 {
		return "any kind of place"
	}
	return strings.Join(kinds, " or ")
}

// there returns an error for a node that the survey does not show.
func (s *Source) there(p model.Path) error {
	if _, ok := s.Node(p); ok {
		return nil
	}
	near := ""
	if n, ok := s.NearestNumber(p); ok {
		near = fmt.Sprintf("; it does show %s", s.Index.Path(int(n)))
	}
	return fmt.Errorf("the survey of source %s shows no %s%s; when it is new: clipfence survey", s.Name, p, near)
}

// wants returns what a step is on one place; permissions that do not apply to the kind of a node
// are left out there.
func (s *Source) wants(step *config.Step, place model.Path, id model.ID, why string) []draft.Want {
	var out []draft.Want
	for _, on := range step.Where(place, id) {
		want := draft.Want{Where: []model.PathPattern{on}, For: why}
		node, single := on.Node()
		for _, p := range step.Do {
			perms := s.SetPerms([]model.Rights{{Do: []model.PermissionPattern{p}}})
			fits := perms.Count() == 0 // told as not listed
			for i := range perms.All() {
				kinds := s.Permission(i).Kinds
				kind, _ := node.Last()
				fits = fits || !single || len(kinds) == 0 || slices.Contains(kinds, kind)
			}
			if fits {
				want.Do = append(want.Do, p)
			}
		}
		if len(want.Do) > 0 {
			out = append(out, want)
		}
	}
	return out
}

func (w *Workspace) forNeeds(s *Source, id model.ID, q *MoreRequest, out *More, uses *usage.Uses) (*fence.Fence,
	error) {
	data, err := os.ReadFile(q.Needs)
	if errors.Is(err, fs.ErrNotExist) {
		data, err = os.ReadFile(w.Path(q.Needs))
	}
	if err != nil {
		return nil, err
	}
	n, err := config.ParseNeeds(q.Needs, data)
	if err != nil {
		return nil, err
	}
	out.Product = n.Product
	for _, name := range q.With {
		if !slices.ContainsFunc(n.Features, func(f config.Feature) bool { return f.Name == name }) {
			return nil, fmt.Errorf("%s: no feature %q", q.Needs, name)
		}
	}
	for name := range q.At {
		if _, ok := n.Places[name]; !ok {
			return nil, fmt.Errorf("%s: no place is called %q", q.Needs, name)
		}
	}
	var wants []draft.Want
	for _, f := range n.Features {
		if !f.Always && !slices.Contains(q.With, f.Name) {
			out.Off = append(out.Off, f.Name)
			continue
		}
		out.On = append(out.On, f.Name)
		for _, step := range f.Needs {
			place, ok := q.At[step.Place]
			if !ok {
				return nil, fmt.Errorf("feature %s needs %q, %s: say where it is with --at %s=PATH", f.Name,
					step.Place,
					n.Places[step.Place], step.Place)
			}
			if err := s.there(place); err != nil {
				return nil, err
			}
			wants = append(wants, s.wants(&step, place, id, n.Product+", "+f.Name)...)
		}
	}
	g := draft.Against(s.Index, id, wants)
	if len(g.Unlisted) > 0 {
		return nil, fmt.Errorf("%s: permission %s is not in the catalogue of source %s", q.Needs, g.Unlisted[0],
			s.Name)
	}
	out.Gap = &g
	var mine []usage.Use
	for _, u := range uses.By(func(who model.ID) bool { return who == id || s.In(who, id) }) {
		if u.Outcome.Allowed() {
			mine = append(mine, u)
		}
	}
	for _, l := range g.Granted {
		if !slices.ContainsFunc(mine, func(u usage.Use) bool {
			return u.Permission == l.Permission && l.Where.Matches(u.Path)
		}) {
			out.NeverUsed = append(out.NeverUsed, l)
		}
	}
	type spot struct {
		who model.ID
		do  model.Permission
		on  model.Path
	}
	beyond := map[spot]*Beyond{}
	for i := range mine {
		u := &mine[i]
		needed := slices.ContainsFunc(slices.Concat(g.Granted, g.Missing), func(l draft.Lack) bool {
			return l.Permission == u.Permission && l.Where.Matches(u.Path)
		})
		if needed {
			continue
		}
		on := u.Path
		if n, ok := s.Nearest(on); ok {
			on = n
		}
		k := spot{u.Principal(), u.Permission, on}
		b := beyond[k]
		if b == nil {
			b = &Beyond{Identity: k.who, Permission: k.do, Node: on}
			beyond[k] = b
		}
		if b.Calls += u.Count; u.Last.After(b.Last) {
			b.Last = u.Last
		}
	}
	for _, b := range beyond {
		out.Beyond = append(out.Beyond, *b)
	}
	slices.SortFunc(out.Beyond, func(a, b Beyond) int {
		return cmp.Or(cmp.Compare(b.Calls, a.Calls), a.Permission.Compare(b.Permission), a.Node.Compare(b.Node),
			a.Identity.Compare(b.Identity))
	})
	if len(g.Missing)+len(g.Excess) == 0 {
		return nil, nil
	}
	return draft.ForNeeds(s.Index, id, wants, "needs of "+n.Product+": "+strings.Join(out.On, ", "), w.now()), nil
}

// lend writes a gate a line, in place of a fence.
func (w *Workspace) lend(s *Source, id model.ID, q *MoreRequest, out *More) error {
	if id.Kind != model.Person && id.Kind != model.Group {
		return fmt.Errorf("%s cannot ask for a gate: only people sign; draft it without --lend", id)
	}
	stem := w.draftName(s.Name, id)
	for i, a := range out.Fence.Allow {
		name := fmt.Sprintf("%s-%d", stem, i+1)
		p := &gate.Policy{Version: 2, Name: name, Source: s.Name, Opens: gate.Opens{Do: a.Do, Where: a.Where},
			MayAsk: []model.ID{id}, Longest: q.Lend, Approvers: q.Approvers, Controls: a.When}
		if err := p.Validate(); err != nil {
			return err
		}
		file := filepath.Join(w.DraftDir(), name+fencefile.GateSuffix)
		if _, err := os.Stat(file); err == nil && !q.Force {
			return fmt.Errorf("%s: %w; to write over it: --force", w.Relative(file), ErrThere)
		}
		if err := replaceFile(file, fencefile.WriteGate(p, out.Fence.Widens)); err != nil {
			return err
		}
		out.Gates = append(out.Gates, file)
	}
	return nil
}
