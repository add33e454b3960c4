package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
	"clipfence/internal/ledger"
	"clipfence/internal/sshsig"
)

// KindDecided is the kind of ledger entry that tells of a decision on a draft.
const KindDecided = "draft.decided"

// Decisions returns every decision on a draft, the oldest first. As long as the workspace lists
// people, only what one of them signed counts; the others are left out, and told.
func (w *Workspace) Decisions(ctx context.Context) ([]review.Decision, error) {
	entries, _, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return nil, err
	}
	var out []review.Decision
	void := map[string][]string{} // entries that do not count, by why
	for _, e := range ledger.ByKind(entries, KindDecided) {
		if e.Kind != KindDecided {
			continue
		}
		var d review.Decision
		if err := json.Unmarshal(e.Body, &d); err != nil {
			return nil, fmt.Errorf("%w: entry %d: %w", ledger.ErrBroken, e.Number, err)
		}
		if why := w.decides(id, &d); why != nil {
			void[why.Error()] = append(void[why.Error()], strconv.Itoa(e.Number))
			continue
		}
		out = append(out, d)
	}
	for _, why := range slices.Sorted(maps.Keys(void)) {
		if told := "decisions: " + why; !w.told[told] { // several questions ask for them
			w.told[told] = true
			w.say("remark: decisions on drafts that do not count: %s (entries %s of the ledger)", why,
				strings.Join(void[why], ", "))
		}
	}
	return out, nil
}

// decisionText is what a person signs: all that decides, and in which workspace.
func decisionText(workspace string, d *review.Decision) []byte {
	x := *d
	x.Sig = ""
	b, err := json.Marshal(x)
	if err != nil {
		panic(err) // plain fields: cannot fail
	}
	return append([]byte("clipfence decision 1\n"+workspace+"\n"), b...)
}

// decides reports why a decision does not count, or nil.
func (w *Workspace) decides(workspace string, d *review.Decision) error {
	if d.By.IsZero() {
		if len(w.People) > 0 {
			return errors.New("it is signed by nobody, and this workspace lists people")
		}
		return nil
	}
	key, err := sshsig.Verify(d.Sig, decideNamespace, decisionText(workspace, d))
	if err != nil {
		return err
	}
	who, err := w.person(key, decideNamespace, d.At)
	if err == nil && who != d.By {
		err = fmt.Errorf("it is signed by %s, not by %s", who, d.By)
	}
	return err
}

// A Decider is who decides on drafts: a person with a key, or whoever runs the program where the
// workspace lists nobody.
type Decider struct {
	signer *signer
	done   func()
}

// Close lets go of the key.
func (d *Decider) Close() { d.done() }

// Decider finds who decides: by the key in a file, or in the ssh-agent. Where the workspace lists
// people, it must be one of them.
func (w *Workspace) Decider(ctx context.Context, file string) (*Decider, error) {
	d := &Decider{done: func() {}}
	if len(w.People) == 0 && file == "" {
		return d, nil
	}
	if _, err := w.trusted(ctx); err != nil { // who counts as it was signed
		return nil, err
	}
	var err error
	if d.signer, d.done, err = w.signer(file, decideNamespace); err != nil {
		d.done()
		return nil, err
	}
	return d, nil
}

// Reviewed is a draft as somebody looks at it.
type Reviewed struct {
	review.Item
	Name      string // of its file
	Fence     *fence.Fence
	Rehearsal *rehearse.Result
	Risk      *Risk
	Decision  *review.Decision // that stands; nil: none
	Applied   string           // the change that carried out just this content, where it stands
	Handed    bool             // that change was handed over, and no survey saw it done
	Shadow    *review.Shadow   // of one that is watched
	Lines     []LineUse        // of each line, in their order
	Bad       error            // it cannot be looked at; the rest is empty then
	Source    *Source
}

// LineUse is how the places of a line were used: a share for each cell of the window.
type LineUse struct {
	Calls int64
	Days  int
	Strip []float64
}

// stripCells is how many cells the strip of a line has.
const stripCells = 36

// Review looks at every draft, in the order in which they are best decided on: by the danger that
// goes for the risk of it. It tells of progress.
func (w *Workspace) Review(ctx context.Context) ([]*Reviewed, error) {
	decisions, err := w.Decisions(ctx)
	if err != nil {
		return nil, err
	}
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	applied := carried(history)
	type at struct {
		looked
		stage *rehearse.Stage
	}
	sources := map[string]*at{}
	names := w.DraftNames(ctx)
	var out []*Reviewed
	defer w.progress(Event{Doing: Finished})
	for i, arg := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		w.progress(Event{Doing: Weighing, Count: i, Of: len(names)})
		file := filepath.Join(w.DraftDir(), arg+fencefile.Suffix)
		r := &Reviewed{Name: w.Relative(file)}
		out = append(out, r)
		// What was carried out fits no survey any more.
		if f, by := carriedOut(file, applied); by != nil {
			r.Fence, r.For = f, f.For
			r.Applied, r.Handed = by.ID, by.State == ChangeHanded
			continue
		}
		var known *at
		_, f, s, err := w.fenceOf(file, func(f *fence.Fence) (*Source, error) {
			src, err := w.Source(f.For.Source)
			if err != nil {
				return nil, err
			}
			if known = sources[src.Name]; known == nil {
				known = &at{}
				if known.s, known.in, known.res, err = w.gauged(ctx, src, 0, everyPath); err != nil {
					return nil, err
				}
				if known.worth, err = w.worth(ctx, known.s, known.in, known.res); err != nil {
					return nil, err
				}
				known.stage = rehearse.NewStage(known.s.Index, known.in.Weights).Know(known.res)
				sources[src.Name] = known
			}
			return known.s, nil
		})
		if err != nil {
			r.Bad = err
			continue
		}
		r.Fence, r.Source, r.For = f, s, f.For
		r.Decision = review.Standing(decisions, f.Digest, w.now())
		if r.Rehearsal, r.Risk, err = w.rehearsed(ctx, f, &known.looked, known.stage, false); err != nil {
			return nil, err
		}
		r.Removes, r.Expects = r.Rehearsal.Before-r.Rehearsal.After, r.Risk.Expected
		r.Holds, r.Widens = r.Rehearsal.OK(), len(r.Rehearsal.Gives) > 0
		if d := r.Decision; d != nil && d.Verdict == review.Accepted && !d.Until.IsZero() {
			var end LogEnd
			if end, err = w.LogEnd(ctx, s.Name); err != nil {
				return nil, err
			}
			r.Shadow = shadow(s, f, known.in.Uses, d, end, w.now())
		}
		r.lines(s, known.in)
	}
	items := make([]review.Item, len(out))
	for i, r := range out {
		items[i] = r.Item
	}
	sorted := make([]*Reviewed, 0, len(out))
	for _, i := range review.Order(items) {
		sorted = append(sorted, out[i])
	}
	return sorted, nil
}

// carried returns the changes that carried out what a fence file holds, or handed it over, by its digest.
func carried(history []*Record) map[string]*Record {
	out := map[string]*Record{}
	for _, r := range history {
		if r.Digest != "" && (r.State == ChangeDone || r.State == ChangeHanded) {
			out[r.Digest] = r
		}
	}
	return out
}

// carriedOut returns a fence and the change that carried out just this content, of those that did; nil: none.
func carriedOut(file string, changes map[string]*Record) (*fence.Fence, *Record) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, nil
	}
	f, err := fencefile.Read(file, data)
	if err != nil {
		return nil, nil
	}
	return f, changes[f.Digest]
}

// Waits reports whether nobody has decided on a draft that is still to be decided on.
func (r *Reviewed) Waits() bool { return r.Bad == nil && r.Decision == nil && r.Applied == "" }

// Goes lists what goes, most powerful first.
func (r *Reviewed) Goes() []model.CatalogueEntry { return r.Rehearsal.Goes }

// lines counts how the places of each line were used.
func (r *Reviewed) lines(s *Source, in *gauge.Input) {
	r.Lines = make([]LineUse, len(r.Fence.Allow))
	who := r.Fence.For.In(s.Name)
	window := usage.WindowOf(in.AsOf, in.Window)
	sets := make([]func(model.Permission) bool, len(r.Fence.Allow))
	for i := range r.Fence.Allow {
		perms := s.SetPerms(r.Fence.Allow[i].Sets(s.Index))
		sets[i] = func(p model.Permission) bool {
			n, ok := s.PermNumber(p)
			return ok && perms.Has(n)
		}
	}
	days := make([]usage.Days, len(sets))
	for _, u := range in.Uses.By(func(of model.ID) bool { return of == who || who.Open() || s.In(of, who) }) {
		if !u.Outcome.Allowed() {
			continue
		}
		of := u.Principal()
		for n := range sets {
			a := &r.Fence.Allow[n]
			if to := r.Fence.Receiver(a, s.Name); to != who && to != of {
				continue
			}
			if sets[n](u.Permission) && slices.ContainsFunc(a.Where,
				func(on model.PathPattern) bool { return on.Matches(u.Path) }) {
				x := u
				if x.Within(window.First(), window.Last()) {
					r.Lines[n].Calls += x.Count
					days[n] = days[n].Union(x.Days)
				}
			}
		}
	}
	for n := range r.Lines {
		r.Lines[n].Days, r.Lines[n].Strip = days[n].Count(), days[n].Strip(window, stripCells)
	}
}

// shadow makes the calls again that came since a draft was accepted. What nobody looked at is not
// over, nor what no log shows any more, [Quiet] days or half of them at the end: a log that stopped
// refuses nobody.
func shadow(s *Source, f *fence.Fence, uses *usage.Uses, d *review.Decision, end LogEnd,
	now time.Time) *review.Shadow {
	out := &review.Shadow{Since: d.At, Until: d.Until, Days: int(now.Sub(d.At).Hours() / 24)}
	if !now.Before(d.Until) {
		quiet := min(Quiet, d.Until.Sub(d.At)/2)
		out.Unread = end.Read.Before(d.Until)
		out.Silent = !out.Unread && end.Newest.Before(d.Until.Add(-quiet))
		out.Over = !out.Unread && !out.Silent
	}
	after, err := s.With(f.Edit(s.Name))
	if err != nil {
		out.Refused = -1 // cannot happen to a fence that was rehearsed
		return out
	}
	touched := map[model.ID]bool{}
	for _, id := range s.touched(f.For) {
		touched[id] = true
	}
	for _, u := range uses.By(func(who model.ID) bool { return touched[who] }) {
		if !u.Outcome.Allowed() || u.Last.Before(d.At) {
			continue
		}
		// Of the day on which it was accepted all count: when each was is not kept.
		n, _ := u.Between(usage.DayOf(d.At), usage.DayOf(now))
		n = max(1, n)
		out.Calls += n
		ctx := u.Context()
		if after.Decide(u.Principal(), u.Permission, u.Path, ctx).Outcome >= s.Decide(u.Principal(), u.Permission,
			u.Path,
			ctx).Outcome {
			continue
		}
		switch from, named := f.Names(u.Permission, u.Path); {
		case !named:
			out.Refused += n
		case from.IsZero():
			out.Named += n
		}
	}
	return out
}

// Decide writes down what somebody decided on a draft as it was shown: in the ledger, signed by
// this account's key as every entry is, and by the person who decides. A draft that is another
// one by now is refused.
func (w *Workspace) Decide(ctx context.Context, r *Reviewed, v review.Verdict, reason string, until time.Time,
	who *Decider) (*review.Decision, error) {
	if !slices.Contains(review.Verdicts, v) {
		return nil, fmt.Errorf("%q is no verdict", v)
	}
	_, f, _, err := w.fence(w.Path(r.Name), r.Source)
	if err != nil {
		return nil, err
	}
	if f.Digest != r.Fence.Digest {
		return nil, fmt.Errorf("%s %w since it was shown; look at it again", r.Name, ErrChanged)
	}
	if v == review.Accepted && !r.Holds {
		return nil, fmt.Errorf("%w: %s does not hold its rehearsal (clipfence rehearse %s); mend it first", ErrGuard,
			r.Name,
			r.Name)
	}
	d := &review.Decision{Fence: r.Name, Digest: f.Digest, For: f.For, Verdict: v, Reason: reason,
		Until: until.UTC().Truncate(time.Second), At: w.Clock().UTC().Truncate(time.Millisecond),
		Removes: float64(int(10*r.Removes+.5)) / 10, Expects: float64(int(1000*r.Expects+.5)) / 1000, Widens: f.Widens}
	if until.IsZero() {
		d.Until = time.Time{}
	}
	for _, c := range r.Goes() {
		d.Goes = append(d.Goes, c.Permission)
	}
	by := ""
	if who.signer != nil {
		id, err := w.store.Workspace(ctx)
		if err != nil {
			return nil, err
		}
		d.By = who.signer.who
		if d.Sig, err = sshsig.Sign(who.signer.key, decideNamespace, decisionText(id, d)); err != nil {
			return nil, err
		}
		by = d.By.String()
	}
	if err := w.ledger.AppendWith(ctx, KindDecided, by, func(ledger.Page) (any, error) { return d, nil }); err != nil {
		return nil, damaged(err)
	}
	if v != review.Open {
		r.Decision = d
	} else {
		r.Decision = nil
	}
	return d, nil
}

// ErrChanged: a draft is not what was shown any more.
var ErrChanged = errors.New("was changed")

// Shadows returns the drafts of a source that are watched, with what they would have done so far.
func (w *Workspace) Shadows(ctx context.Context, source string) ([]*Reviewed, error) {
	decisions, err := w.Decisions(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(decisions, func(d review.Decision) bool {
		return d.Verdict == review.Accepted && !d.Until.IsZero()
	}) {
		return nil, nil
	}
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	var out []*Reviewed
	var uses *usage.Uses
	var s *Source
	var end LogEnd
	open := map[string]*Source{}
	for _, arg := range w.DraftNames(ctx) {
		file := filepath.Join(w.DraftDir(), arg+fencefile.Suffix)
		_, f, of, err := w.readFence(ctx, file, open)
		if err != nil || of.Name != source {
			continue // what cannot be read, review tells
		}
		d := review.Standing(decisions, f.Digest, w.now())
		if d == nil || d.Verdict != review.Accepted || d.Until.IsZero() ||
			slices.ContainsFunc(history, func(r *Record) bool {
				return r.Digest == f.Digest &&
					r.State == ChangeDone
			}) {
			continue
		}
		if s == nil {
			s = of
			if uses, _, err = w.uses(ctx, s); err != nil {
				return nil, err
			}
			if end, err = w.LogEnd(ctx, s.Name); err != nil {
				return nil, err
			}
		}
		out = append(out, &Reviewed{Item: review.Item{For: f.For}, Name: w.Relative(file), Fence: f, Decision: d,
			Source: s, Shadow: shadow(s, f, uses, d, end, w.now())})
	}
	return out, nil
}

// LessonsOf says what reviews taught that a draft keeps, a sentence each.
func LessonsOf(f *fence.Fence, l *review.Lessons) []string {
	if l.Empty() {
		return nil
	}
	said := map[string][]string{}
	var out []string
	told := map[model.PermissionPattern]bool{}
	for _, a := range f.Allow {
		if a.Evidence.Class != "decided" {
			for _, p := range a.Do {
				q, err := model.ParsePermission(p.String())
				if err != nil || told[p] {
					continue
				}
				told[p] = true
				if no, yes := l.Refused(q); no > 0 {
					out = append(out, fmt.Sprintf("%s is kept more readily: of %d cuts of it that were decided on, "+
						"%d were refused "+
						"as needed", q, no+yes, no))
				}
			}
			continue
		}
		for _, p := range a.Do {
			for q, d := range l.Of(f.For) {
				if !p.Matches(q) {
					continue
				}
				who := "somebody"
				if !d.By.IsZero() {
					who = d.By.String()
				}
				why := ""
				if d.Reason != "" {
					why = ": " + d.Reason
				}
				key := fmt.Sprintf("%s said on %s%s", who, d.At.Format(time.DateOnly), why)
				said[key] = append(said[key], q.String())
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(said)) {
		out = append(out, fmt.Sprintf("%s: kept, since it is needed, %s", strings.Join(said[key], ", "), key))
	}
	return out
}

// ReviewPlace is where a walk through the drafts stands, so that it goes on there.
type ReviewPlace struct {
	At      string   `json:"at,omitempty"`      // the draft that is looked at
	Skipped []string `json:"skipped,omitempty"` // and those that were passed over
}

func (w *Workspace) placeFile() string { return w.Path(filepath.Join(".clipfence", "review.json")) }

// ReviewPlace returns where the last walk stood; nowhere, where none is known.
func (w *Workspace) ReviewPlace() ReviewPlace {
	var p ReviewPlace
	data, err := os.ReadFile(w.placeFile())
	if err != nil || json.Unmarshal(data, &p) != nil {
		return ReviewPlace{} // it begins anew then
	}
	return p
}

// KeepReviewPlace writes down where a walk stands.
func (w *Workspace) KeepReviewPlace(p ReviewPlace) error {
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return replaceFile(w.placeFile(), append(data, '\n'))
}
