package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
	"clipfence/internal/source"
)

// DraftRequest says whose access is narrowed, and how.
type DraftRequest struct {
	For    string // an identity; or
	Top    int    // so many with the most danger that can go; or
	All    bool   // everybody
	Window model.Duration
	// GiveUpUnobservable drops also what no log could have shown.
	GiveUpUnobservable bool
	// KeepUnobservable keeps all of it.
	KeepUnobservable bool
	// Limits ends what rests on no use of the window.
	Limits bool
	// Conditions adds to lines what each of their calls met.
	Conditions bool
	// Gates offers to lend, through gates that it writes beside the fence, what has power and
	// people use rarely.
	Gates bool
	// Caution says how much an avoided break is worth; 0 stands for [draft.Normal].
	Caution draft.Caution
	File    string // to write; "": one named after the identity
	Force   bool   // write over a file that is there
}

// ErrThere is returned for a file that is not written over.
var ErrThere = errors.New("is there already")

// Drafted is a fence that was written.
type Drafted struct {
	Fence     *fence.Fence
	Rehearsal *rehearse.Result // without replay: the danger before and after, and of one draft alone what goes
	Risk      *Risk
	File      string
	Gates     []string // files that go into the folder of gates
}

// Drafts are the fences that were written, and why others were not.
type Drafts struct {
	Source  string
	Written []Drafted
	Left    []error
	Lessons *review.Lessons // what reviews taught
	Limits  bool            // lines end that rest on no use of the window
	Beside  int             // so many drafts were there before, and are stood beside

	Observable float64 // the share of what is granted that the evidence is complete for
}

// Thin reports whether the evidence is not complete for all that is granted.
func (d *Drafts) Thin() bool { return !usage.Observable(d.Observable) }

// Draft writes fences from what was used. Of those for the most dangerous, who cannot be
// narrowed is left, and told; one who is named is an error: [draft.ErrNothing],
// [draft.ErrProtected]. Of everybody those are left, and told, whose file is there already, so
// that what was interrupted can go on.
func (w *Workspace) Draft(ctx context.Context, q DraftRequest) (*Drafts, error) {
	id, src, err := w.about(q.For)
	if err != nil {
		return nil, err
	}
	s, err := w.Surveyed(ctx, src)
	if err == nil && q.For != "" {
		err = s.Known(id)
	}
	if err != nil {
		return nil, err
	}
	if q.Gates && s.Source.Kind == "files" {
		return nil, fmt.Errorf("source %s is made of files: %w; a gate opens in a system that is connected as a "+
			"bridge, so draft without gates", s.Name, source.ErrReadOnly)
	}
	at, err := w.lookAt(ctx, s, id, q.Window)
	if err != nil {
		return nil, err
	}
	in, res, worth := at.in, at.res, at.worth
	ids, most := []model.ID{id}, 1
	if q.For == "" {
		ids, most = draft.Candidates(in, res, worth), q.Top
		if q.All {
			most = len(ids)
		}
		defer w.progress(Event{Source: s.Name, Doing: Finished})
	}
	decisions, err := w.Decisions(ctx)
	if err != nil {
		return nil, err
	}
	lessons := review.Learn(decisions, w.now())
	o := draft.Options{GiveUpUnobservable: q.GiveUpUnobservable, KeepUnobservable: q.KeepUnobservable,
		Caution: q.Caution, Worth: worth, Lessons: lessons, Conditions: q.Conditions, Limits: q.Limits, Gates: q.Gates}
	out := &Drafts{Source: s.Name, Lessons: lessons, Limits: q.Limits, Observable: res.Observable}
	beside := &beside{s: s, worth: worth, now: usage.DayOf(in.AsOf), made: map[model.ID][]placed{}}
	stage := rehearse.NewStage(s.Index, in.Weights).Know(res)
	first := min(most, len(ids))
	fileOf := func(id model.ID) string {
		if q.File != "" {
			return q.File
		}
		return filepath.Join(w.DraftDir(), w.draftName(s.Name, id)+fencefile.Suffix)
	}
	// What is there already and stays is stood beside.
	anew := map[model.ID]bool{} // whose drafts are written over
	for _, id := range ids[:first] {
		anew[id] = q.Force || q.For != ""
	}
	var near []string
	if q.For == "" || id.Open() {
		near = w.DraftNames(ctx)
	} else {
		for _, other := range s.around(id) {
			near = append(near, w.draftName(s.Name, other))
		}
	}
	stands := map[model.ID]string{} // whose drafts are there and stay
	for _, name := range near {
		name = filepath.Join(w.DraftDir(), name+fencefile.Suffix)
		if f := beside.read(name, anew); f != nil {
			stands[f.For.In(s.Name)] = name
		}
	}
	if out.Beside = len(beside.all.Fences()); q.For == "" || out.Beside > 0 {
		o.Made = &beside.all
	}
	for i, id := range slices.Concat(draft.Order(res, s.Index, ids[:first]), ids[first:]) {
		if len(out.Written) == most {
			break
		}
		if err := ctx.Err(); err != nil {
			return nil, fmt.Errorf("%w; %d drafts are written and stay, and the same command goes on", err,
				len(out.Written))
		}
		if q.For == "" {
			w.progress(Event{Source: s.Name, Doing: Drafting, Count: i, Of: len(ids)})
		}
		name := fileOf(id)
		_, err := os.Stat(name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		var there error
		if err == nil && !q.Force {
			there = fmt.Errorf("%s: %w; to write over it: --force", w.Relative(name), ErrThere)
		}
		was := stands[id] // under another name, or one beyond the first, beside which they were drafted
		if was != "" && there == nil {
			there = fmt.Errorf("%s: %w for %s", w.Relative(was), ErrThere, id)
		}
		if there != nil && (q.All || was != "" && i >= first) {
			out.Left = append(out.Left, there)
			continue
		}
		if was != "" {
			return nil, there
		}
		f, err := draft.FromUse(in, res, id, o)
		if err != nil {
			if q.For == "" {
				out.Left = append(out.Left, err)
				continue
			}
			return nil, err
		}
		if why := cannot(planner(s.Source), f, s.Name); len(why) > 0 {
			err := fmt.Errorf("source %s %w: %s: %s", s.Name, source.ErrCannot, id, strings.Join(why, "; "))
			if q.For == "" {
				out.Left = append(out.Left, err)
				continue
			}
			return nil, err
		}
		if there != nil {
			return nil, there
		}
		f.Survey = s.Survey.ID
		r, k, err := besides(func() (*rehearse.Result, error) { return stage.Run(f, nil, nil) },
			func() (*Risk, error) { return beside.risk(ctx, f) })
		if err != nil {
			return nil, err
		}
		if len(r.Widened)+len(r.Doubts) > 0 { // never seen, and never to be written down
			return nil, fmt.Errorf("the draft for %s is not proven, a fault of this program: %v %v", id, r.Widened,
				r.Doubts)
		}
		f.Prove(s.Index, at.last, k.expects())
		gates, err := w.offer(f, s.Name, q.Force)
		if q.All && errors.Is(err, ErrThere) {
			out.Left = append(out.Left, err)
			continue
		}
		if err != nil {
			return nil, err
		}
		if err := replaceFile(name, fencefile.Write(f, fencefile.Evidence(res.Observable))); err != nil {
			return nil, err
		}
		if q.For == "" { // of thousands nobody reads what goes and stays, permission by permission
			r.Goes, r.Stays = nil, nil
		}
		out.Written = append(out.Written, Drafted{f, r, k, name, gates})
		if err := beside.add(f); err != nil {
			return nil, err
		}
	}
	if in.Uses.Len() > manyUses {
		debug.FreeOSMemory() // of all that is needed no more, before tens of thousands of drafts are told of
	}
	nth := map[model.ID]int{}
	for i, id := range ids {
		nth[id] = i
	}
	slices.SortStableFunc(out.Written, func(a, b Drafted) int {
		return cmp.Compare(nth[a.Fence.For.In(s.Name)], nth[b.Fence.For.In(s.Name)])
	})
	return out, nil
}

// beside are the drafts of one run, which are to stand beside each other.
type beside struct {
	s     *Source
	worth *draft.Worth
	now   usage.Day
	all   draft.Made
	made  map[model.ID][]placed // by whom they are for
}

// placed is one of some drafts.
type placed struct {
	at int // which of them
	*fence.Fence
}

// add adds a draft.
func (b *beside) add(f *fence.Fence) error {
	to, at := f.For.In(b.s.Name), len(b.all.Fences())
	if err := b.all.Add(b.s.Index, f); err != nil {
		return err
	}
	b.made[to] = append(b.made[to], placed{at, f})
	return nil
}

// near returns the drafts, in the order in which they were made, that are for somebody, for a group that it is
// in, or for a crowd; all, of a crowd.
func (b *beside) near(to model.ID) []*fence.Fence {
	if to.Open() {
		return slices.Clone(b.all.Fences())
	}
	var list []placed
	for _, st := range b.s.Closure(to) {
		list = append(list, b.made[st.ID]...)
	}
	slices.SortFunc(list, func(a, b placed) int { return cmp.Compare(a.at, b.at) })
	var out []*fence.Fence
	for _, p := range list {
		out = append(out, p.Fence)
	}
	return out
}

// read adds a draft if it is there already, narrows, is for none of some, and can be read and stand beside the others;
// it returns nil where it does not. Of one that cannot, whoever rehearses it is told why.
func (b *beside) read(name string, but map[model.ID]bool) *fence.Fence {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil
	}
	f, err := fencefile.Read(name, data)
	if err != nil || f.For.Source != b.s.Name || f.Widens != "" || f.Validate(b.s.Index) != nil {
		return nil
	}
	id := f.For.In(b.s.Name)
	if but[id] || slices.ContainsFunc(b.made[id], func(o placed) bool { return rehearse.TakeSame(o.Fence, f) }) ||
		b.add(f) != nil {
		return nil
	}
	return f
}

// around returns those by whose drafts somebody has less as well: its groups and the crowds, and who is in it.
func (s *Source) around(who model.ID) (out []model.ID) {
	note := func(id model.ID) {
		if id != who {
			out = append(out, id)
		}
	}
	for _, st := range s.Closure(who) {
		note(st.ID)
	}
	if n, ok := s.Number(who); ok {
		s.Members(n, func(i int) { note(s.ID(i)) })
	}
	return out
}

// risk returns the risk of a draft, alone or together with those that were made before it, where what it
// takes away is given by what they take away: the greater one.
func (b *beside) risk(ctx context.Context, f *fence.Fence) (*Risk, error) {
	who := b.s.touched(f.For)
	k, err := riskOf(ctx, b.s, b.worth, f.Edit(b.s.Name), who, b.now, f)
	if err != nil {
		return nil, err
	}
	near := b.near(f.For.In(b.s.Name))
	if len(near) == 0 {
		return k, nil
	}
	before, err := riskOf(ctx, b.s, b.worth, fence.EditOf(near, b.s.Name), who, b.now, near...)
	if err != nil {
		return nil, err
	}
	near = append(near, f)
	after, err := riskOf(ctx, b.s, b.worth, fence.EditOf(near, b.s.Name), who, b.now, near...)
	if err != nil {
		return nil, err
	}
	if more := after.Expected - before.Expected; more > k.Expected {
		if k.Expected, k.Touched = more, max(k.Touched, after.Touched); len(k.Worst) == 0 {
			k.Worst = after.Worst // alone it takes nothing that others do not give
		}
	}
	k.Soon = max(k.Soon, after.Soon-before.Soon)
	return k, nil
}

// lastOf returns when the last of some calls was.
func lastOf(uses *usage.Uses) time.Time {
	_, last := uses.Span()
	return last
}

// DraftNames lists the drafts that are there.
func (w *Workspace) DraftNames(context.Context) []string {
	es, _ := os.ReadDir(w.DraftDir())
	var out []string
	for _, e := range es {
		if name, is := strings.CutSuffix(e.Name(), fencefile.Suffix); is {
			out = append(out, name)
		}
	}
	return out
}

// IdentityNames lists the identities of every source, as far as they can be read.
func (w *Workspace) IdentityNames(ctx context.Context) []string {
	var out []string
	for _, src := range w.Sources {
		e, _, err := w.store.Estate(ctx, src.Name, 0)
		if err != nil {
			continue
		}
		for _, i := range e.Identities {
			out = append(out, i.ID.String())
		}
	}
	return out
}

// draftName is the name of the draft for somebody, a file without its ending. Where there are several sources it
// begins with the source's: one name is often in many.
func (w *Workspace) draftName(source string, id model.ID) string {
	if len(w.Sources) > 1 {
		return source + "-" + fileName(id)
	}
	return fileName(id)
}

func fileName(id model.ID) string {
	return strings.NewReplacer("/", "-", "%", "_", ":", "-").Replace(id.String())
}

// Relative shortens a file of the workspace to how one would type it there.
func (w *Workspace) Relative(name string) string {
	if r, err := filepath.Rel(w.Dir, name); err == nil && !strings.HasPrefix(r, "..") {
		return r
	}
	return name
}

// ReadFence reads a fence file named by its path, its name, or an identity, and
// holds it against the survey.
func (w *Workspace) ReadFence(ctx context.Context, arg string) (string, *fence.Fence, *Source, error) {
	return w.readFence(ctx, arg, map[string]*Source{})
}

// readFence does what ReadFence does, and keeps the sources that it opens.
func (w *Workspace) readFence(ctx context.Context, arg string, open map[string]*Source) (string, *fence.Fence,
	*Source, error) {
	return w.fenceOf(arg, func(f *fence.Fence) (*Source, error) {
		src, err := w.Source(f.For.Source)
		if err != nil {
			return nil, err
		}
		s := open[src.Name]
		if s == nil {
			if s, err = w.Surveyed(ctx, src); err != nil {
				return nil, err
			}
			open[src.Name] = s
		}
		return s, nil
	})
}

// fence reads a fence file and holds it against a survey that is at hand.
func (w *Workspace) fence(arg string, s *Source) (string, *fence.Fence, *Source, error) {
	return w.fenceOf(arg, func(f *fence.Fence) (*Source, error) {
		if f.For.Source != s.Name {
			return nil, fmt.Errorf("it is for source %s, and the question is about %s", f.For.Source, s.Name)
		}
		return s, nil
	})
}

func (w *Workspace) fenceOf(arg string, survey func(*fence.Fence) (*Source, error)) (string, *fence.Fence, *Source,
	error) {
	candidates := []string{arg, w.Path(arg), filepath.Join(w.DraftDir(), arg),
		filepath.Join(w.DraftDir(), arg+fencefile.Suffix)}
	byName := map[string]bool{} // the file of an identity's name must hold that identity's fence
	named, err := model.ParseID(arg)
	if err == nil {
		id := named
		id.Source = ""
		var there []string
		for _, src := range w.Sources {
			name := filepath.Join(w.DraftDir(), w.draftName(src.Name, id)+fencefile.Suffix)
			byName[name] = true
			if wanted := cmp.Or(named.Source, w.Only); wanted != "" && wanted != src.Name && len(w.Sources) > 1 {
				continue
			}
			candidates = append(candidates, name)
			if _, err := os.Stat(name); err == nil {
				there = append(there, w.Relative(name))
			}
		}
		if len(there) > 1 {
			return "", nil, nil, fmt.Errorf("%s: there are drafts of several sources: %s; say which: SOURCE:%s", arg,
				strings.Join(there, ", "), id)
		}
		name := filepath.Join(w.DraftDir(), fileName(id)+fencefile.Suffix) // as long as there was one source
		byName[name] = true
		candidates = append(candidates, name)
	}
	for _, name := range candidates {
		data, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", nil, nil, err
		}
		f, err := fencefile.Read(name, data)
		if err != nil {
			return "", nil, nil, err
		}
		w.remark(f.Remarks...)
		if byName[name] && (f.For.Kind != named.Kind || f.For.Name != named.Name || named.Source != "" &&
			named.Source != f.For.Source) {
			return "", nil, nil, fmt.Errorf("%w: %s is for %s, not for %s; name the file to use it all the same",
				change.ErrGuard, name, f.For, named)
		}
		s, err := survey(f)
		if err != nil {
			return "", nil, nil, fmt.Errorf("%s: for: %w", name, err)
		}
		id := f.For
		id.Source = ""
		if err := s.Known(id); err != nil {
			return "", nil, nil, fmt.Errorf("%s: for: %w", name, err)
		}
		if err := f.Validate(s.Index); err != nil {
			return "", nil, nil, err
		}
		return name, f, s, nil
	}
	return "", nil, nil, fmt.Errorf("no fence file %q, here or in %s; write one with: clipfence draft --for IDENTITY",
		arg, w.DraftDir())
}

// SameReach reports whether a fence leaves as much within reach as there was, which is more than
// what is held then.
func SameReach(r *rehearse.Result) bool {
	return r.ReachAfter.Danger >= r.ReachBefore.Danger-0.5 && r.ReachAfter.Further(r.After)
}
