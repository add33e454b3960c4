package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// What is carried out together is rehearsed together
//
// Drafts that were accepted are carried out one after the other, and each is rehearsed on what the one before it left.
// To compare everybody for each takes days where there are hundreds, and says the same each time: as long as
// nothing but those drafts changed anything, what they do alone and all together was known before the first. So they
// are rehearsed at once, and that is the basis of each as long as every survey since shows what they did and
// nothing else, and no more of the log was read. Then what is left is rehearsed anew. While some are carried out and
// others are not yet, or are refused by a guard, everybody has what all of them leave or more, since each narrows.

// basis is what several fences were rehearsed on, and what became of it.
type basis struct {
	src   string
	seen  store.Survey // the newest survey that was as it had to be
	uses  string       // mark of the uses that were looked at
	at    time.Time
	until time.Time // it holds so long at most
	fresh bool      // nothing was carried out since
	each  map[string]rehearsed
	made  map[source.Ref]source.Edited // what was carried out since the survey
}

// rehearsed is what a rehearsal says of one fence.
type rehearsed struct {
	result   *rehearse.Result
	risk     *Risk
	together bool // it holds, and with all others that do nothing more breaks
}

// rehearseAll rehearses drafts, by the names of their files, on the newest survey of a source.
func (w *Workspace) rehearseAll(ctx context.Context, src config.Source, names []string) (*basis, error) {
	mark, err := w.store.UsesMark(ctx, src.Name)
	if err != nil {
		return nil, err
	}
	s, in, res, err := w.gauged(ctx, src, 0, everyPath)
	if err != nil {
		return nil, err
	}
	worth, err := w.worth(ctx, s, in, res)
	if err != nil {
		return nil, err
	}
	at := &looked{s, in, res, worth, lastOf(in.Uses)}
	stage := rehearse.NewStage(s.Index, in.Weights).Know(res)
	out := &basis{src: src.Name, seen: s.Survey, uses: mark, at: in.AsOf, until: holdsUntil(s, in.AsOf), fresh: true,
		each: map[string]rehearsed{}, made: map[source.Ref]source.Edited{}}
	var good []*fence.Fence
	var alone []*rehearse.Result
	defer w.progress(Event{Source: s.Name, Doing: Finished})
	for i, name := range names {
		w.progress(Event{Source: s.Name, Doing: Weighing, Count: i, Of: len(names)})
		_, f, _, err := w.fence(w.Path(name), s)
		if err != nil { // whoever prepares it says so
			continue
		}
		r, k, err := w.rehearsed(ctx, f, at, stage, false)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out.each[f.Digest] = rehearsed{r, k, false}
		// One that gives more may be what makes another hold, and may yet be refused or come later.
		if r.OK() && f.Widens == "" {
			good, alone = append(good, f), append(alone, r)
		}
	}
	if len(good) < 2 {
		return out, ctx.Err()
	}
	joint, err := stage.Joint(good, alone, in.Uses, res.Placement)
	if errors.Is(err, rehearse.ErrTwice) || err == nil && len(joint.Only) > 0 {
		return out, ctx.Err() // one by one
	}
	if err != nil {
		return nil, err
	}
	for _, f := range good {
		one := out.each[f.Digest]
		one.together = true
		out.each[f.Digest] = one
	}
	return out, ctx.Err()
}

// did notes what was carried out.
func (b *basis) did(c *change.Change) {
	b.fresh = false
	takeIn(b.made, c)
}

// takeIn adds what a change made to what was made before.
func takeIn(made map[source.Ref]source.Edited, c *change.Change) {
	for _, e := range c.Edits() {
		ref := source.Ref{Kind: e.Kind, ID: e.ID}
		if was, twice := made[ref]; twice {
			e.Before = was.Before
		}
		made[ref] = e
	}
}

// madeSince returns what changes made of which records of a source that were begun behind so many entries of the
// ledger; false: it has fewer.
func (w *Workspace) madeSince(ctx context.Context, src string, n int) (map[source.Ref]source.Edited, bool, error) {
	entries, history, err := w.History(ctx)
	if err != nil {
		return nil, false, damaged(err)
	}
	made := map[source.Ref]source.Edited{}
	for _, r := range history {
		if r.Source == src && r.Entry > n && r.State != ChangeHanded { // nobody saw that done
			takeIn(made, &r.Change)
		}
	}
	return made, n <= len(entries), nil
}

// of returns what was said of a fence, where that holds still.
func (b *basis) of(ctx context.Context, w *Workspace, f *fence.Fence) (rehearsed, bool, error) {
	r, known := b.each[f.Digest]
	if now := w.now(); !known || !b.fresh && !r.together || now.Before(b.at) || !now.Before(b.until) {
		return rehearsed{}, false, nil
	}
	mark, err := w.store.UsesMark(ctx, b.src)
	if err != nil || mark != b.uses {
		return rehearsed{}, false, err
	}
	now, err := w.store.Newest(ctx, b.src)
	if err != nil {
		return rehearsed{}, false, err
	}
	if now.ID != b.seen.ID {
		differ, err := w.store.Differing(ctx, b.src, b.seen.ID, now.ID)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return rehearsed{}, false, err
		}
		if err != nil || !onlyMade(differ, b.made) {
			return rehearsed{}, false, nil
		}
		b.seen = now
		clear(b.made)
	}
	return r, len(b.made) == 0, nil // what was made and is not surveyed yet is not known to stand
}

// onlyMade reports whether what differs between two surveys is what was made and nothing else. New nodes and
// identities by themselves give nobody anything, nor does it that somebody was seen.
func onlyMade(differ []source.Edited, made map[source.Ref]source.Edited) bool {
	shown := map[source.Ref]bool{}
	for _, d := range differ {
		ref := source.Ref{Kind: d.Kind, ID: d.ID}
		if m, ours := made[ref]; ours {
			if shown[ref] = true; !sameRecord(d.Kind, m.After, d.After) {
				return false
			}
			continue
		}
		switch {
		case len(d.Before) == 0 && (d.Kind == source.Nodes || d.Kind == source.Identities):
		case d.Kind == source.Identities && sameRecord(d.Kind, d.Before, d.After):
		default:
			return false
		}
	}
	for ref, m := range made {
		if !shown[ref] && !sameRecord(ref.Kind, m.Before, m.After) {
			return false
		}
	}
	return true
}

// sameRecord reports whether a record says the same twice, but for when a grant was made, which is the source's to
// say, and when an identity was seen.
func sameRecord(kind string, a, b json.RawMessage) bool {
	if source.Same(a, b) {
		return true
	}
	if len(a) == 0 || len(b) == 0 {
		return false
	}
	switch kind {
	case source.Grants:
		return sameBut(a, b, func(g *model.Grant) { g.Created = time.Time{} })
	case source.Identities:
		return sameBut(a, b, func(i *model.Identity) { i.LastSeen = time.Time{} })
	}
	return false
}

// sameBut reports whether two records say the same but for what is taken out of both.
func sameBut[T any](a, b json.RawMessage, out func(*T)) bool {
	var one, two T
	if json.Unmarshal(a, &one) != nil || json.Unmarshal(b, &two) != nil {
		return false
	}
	out(&one)
	out(&two)
	x, err := json.Marshal(one)
	y, yerr := json.Marshal(two)
	return err == nil && yerr == nil && string(x) == string(y)
}

// carryOut carries accepted drafts of one source out, one after the other: the very files that were looked at, as they
// were then. Did is told of each change, or of what a guard refused.
func (w *Workspace) carryOut(ctx context.Context, src config.Source, list []*Reviewed, reason string,
	did func(r *Reviewed, rec *Record, refused error)) error {
	var on *basis
	for i, r := range list {
		said := func(ctx context.Context, f *fence.Fence, s *Source, accept bool) (*rehearse.Result, *Risk, error) {
			for range 2 {
				if on != nil {
					if one, holds, err := on.of(ctx, w, f); err != nil || holds {
						return one.result, one.risk, err
					}
				}
				var names []string
				for _, r := range list[i:] {
					names = append(names, r.Name)
				}
				var err error
				if on, err = w.rehearseAll(ctx, src, names); err != nil {
					return nil, nil, err
				}
			}
			return w.Rehearse(ctx, f, s, accept) // it changes while it is looked at
		}
		rec, refused, err := w.carryOne(ctx, r, reason, said)
		if err != nil {
			return err
		}
		if rec != nil && on != nil {
			on.did(&rec.Change)
		}
		did(r, rec, refused)
	}
	return nil
}

// carryOne carries one accepted draft out, or says why a guard refuses it.
func (w *Workspace) carryOne(ctx context.Context, r *Reviewed, reason string, by rehearsing) (rec *Record,
	refused, err error) {
	// What is opened for it is an estate that is not there any more then, and may be large.
	opened := len(w.closers)
	defer func() { err = errors.Join(err, w.closeSince(opened)) }()
	p, err := w.prepareDecided(ctx, r, reason, by)
	if errors.Is(err, change.ErrGuard) {
		return nil, err, nil
	}
	if err != nil {
		return nil, nil, err
	}
	rec, err = p.Run(ctx, nil)
	return rec, nil, err
}
