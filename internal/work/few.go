package work

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
	"clipfence/internal/lookup"
)

// What drafts look at is kept
//
// Whoever drafts, rehearses or applies for one identity needs little of what a comparison of everybody and its past
// tells: see [draft.Few]. So once everybody was compared and learned from, what each is granted, did, and whom it
// works beside is kept in a file beside the snapshot, a source's last one, under a digest of all that it came from;
// and the next question about one reads that of a few, where everything is as it was. What does not hold, or cannot
// be read, is compared anew.

// keeping changes with what is kept, so that what an earlier program kept is not taken.
const keeping = "few 4"

// looked is what a draft, or a rehearsal, looks at.
type looked struct {
	s     *Source
	in    *gauge.Input // of a few: with their uses alone, and without what says of grants how old they are
	res   *gauge.Result
	worth *draft.Worth
	last  time.Time // of all calls
}

// fewHead is the head of the file.
type fewHead struct {
	keptHead
	Last  time.Time // of all calls
	All   json.RawMessage
	Logs  json.RawMessage
	Saw   []model.Path // nodes that the log shows
	Whole draft.Whole

	observed func() (*usage.Observed, error) // reads Logs, once
}

// fewLine is what is kept of one.
type fewLine struct {
	Told json.RawMessage `json:",omitempty"`
	Crew *risk.Crew      `json:",omitempty"` // of a group
	Uses []byte          `json:",omitempty"` // with its rights: see [usage.AppendUses], packed
}

func (w *Workspace) fewFile(src string) string {
	return w.Path(".clipfence/index/" + url.PathEscape(src) + ".few")
}

// lookAt returns what a draft of somebody looks at, or of everybody where that is the zero ID.
func (w *Workspace) lookAt(ctx context.Context, s *Source, who model.ID, window config.Duration) (*looked, error) {
	from, err := w.fewFrom(ctx, s, window)
	if err != nil {
		return nil, err
	}
	if few, ok := draft.Few(s.Index, who); ok {
		out, err := w.fewOf(ctx, s, who, few, window, from)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err == nil && out != nil:
			return out, nil
		case err != nil:
			w.Log.Warn("what was kept of the last comparison cannot be read, and is compared anew", "error", err)
		}
	}
	w.partly = false
	what := everyPath
	if !who.IsZero() {
		what = looking{paths: pathsOf(who)}
	}
	_, in, res, err := w.gaugedOf(ctx, s, window, what)
	if err != nil {
		return nil, err
	}
	worth, err := w.worth(ctx, s, in, res)
	if err != nil {
		return nil, err
	}
	out := &looked{s, in, res, worth, lastOf(in.Uses)}
	if err := w.keepFew(ctx, out, window, from); err != nil { // no answer needs it
		w.Log.Debug("what drafts look at is not kept", "error", err)
	}
	return out, nil
}

// pathsOf returns of which grants a draft of somebody looks at single paths.
func pathsOf(who model.ID) func(*model.Grant) bool {
	return func(g *model.Grant) bool { return g.To == who }
}

// fewFrom is a digest of all that is looked at beside the clock.
func (w *Workspace) fewFrom(ctx context.Context, s *Source, window config.Duration) (string, error) {
	from, err := w.toldFrom(ctx, s, window)
	if err != nil {
		return "", err
	}
	others, err := w.surveysOfAll(ctx)
	return keeping + " " + learning + " " + from + " " + others, err
}

// keepFew writes what drafts of few look at.
func (w *Workspace) keepFew(ctx context.Context, l *looked, window config.Duration, from string) error {
	now, err := w.fewFrom(ctx, l.s, window)
	if err == nil {
		err = w.mayKeep(from, now)
	}
	if err != nil {
		return err
	}
	all, who, tell, err := l.res.Tell(l.in)
	if err != nil {
		return err
	}
	whole, crew, err := l.worth.Whole()
	if err != nil {
		return err
	}
	logs, err := l.in.Coverage.Observed()
	if err != nil {
		return err
	}
	head, err := json.Marshal(fewHead{keptHead: keptHead{from, l.in.AsOf, holdsUntil(l.s, l.in.AsOf)}, Last: l.last,
		All: all, Logs: logs, Saw: l.in.Place.Inventory.Witnessed(), Whole: whole})
	if err != nil {
		return err
	}
	told := map[model.ID]bool{} // everybody of whom something is kept: whether anything is told of it
	for id := range l.in.Uses.Principals() {
		told[id] = false
	}
	for n := range l.s.Identities() {
		if id := l.s.ID(n); id.Kind == model.Group {
			told[id] = false
		}
	}
	for _, id := range who {
		told[id] = true
	}
	type key struct {
		text string
		id   model.ID
	}
	keys := make([]key, 0, len(told))
	for id := range told {
		keys = append(keys, key{id.String(), id})
	}
	slices.SortFunc(keys, func(a, b key) int { return lookup.Compare(a.text, b.text) })
	line := func(id model.ID) (body []byte, err error) {
		var of fewLine
		if told[id] {
			if of.Told, err = tell(id); err != nil {
				return nil, err
			}
		}
		if id.Kind == model.Group {
			of.Crew = crew(id)
		}
		for range l.in.Uses.As(id) { // some have none
			uses, err := usage.AppendUses(nil, l.in.Uses.As(id))
			if err == nil {
				of.Uses, err = lookup.Pack(uses)
			}
			if err != nil {
				return nil, err
			}
			break
		}
		return json.Marshal(&of)
	}
	defer w.progress(Event{Source: l.s.Name, Doing: Finished})
	return lookup.Write(w.fewFile(l.s.Name), head, func(yield func(lookup.Line, error) bool) {
		for i, k := range keys {
			w.progress(Event{Source: l.s.Name, Doing: Keeping, Count: i, Of: len(keys)})
			body, err := line(k.id)
			if err == nil {
				err = ctx.Err()
			}
			if !yield(lookup.Line{Key: k.text, Body: body}, err) {
				return
			}
		}
	})
}

// fewOf returns what is kept of a few, nil where nothing is that holds.
func (w *Workspace) fewOf(ctx context.Context, s *Source, who model.ID, few []model.ID, window config.Duration,
	from string) (*looked, error) {
	var head fewHead
	f, err := w.openKept(w.fewFile(s.Name), from, &head, &head.keptHead)
	if f == nil {
		return nil, err
	}
	defer f.Close()
	head.observed = sync.OnceValues(func() (*usage.Observed, error) { return usage.ReadObserved(head.Logs) })
	go head.observed() // it is asked for below, and of many nodes it takes as long as all the rest
	lines := map[model.ID]*fewLine{}
	read := func(id model.ID) (*fewLine, error) {
		body, found, err := f.Get(id.String())
		l := &fewLine{}
		if err == nil && found {
			err = json.Unmarshal(body, l)
		}
		if err == nil && len(l.Uses) > 0 {
			l.Uses, err = lookup.Unpack(l.Uses)
		}
		if err != nil {
			return nil, fmt.Errorf("of %s: %w", id, err)
		}
		return l, nil
	}
	fetch := func(ids []model.ID) error {
		ids = slices.DeleteFunc(slices.Clone(ids), func(id model.ID) bool { return lines[id] != nil })
		got, errs := make([]*fewLine, len(ids)), make([]error, len(ids))
		parallel.Each(len(ids), func(_, i int) { got[i], errs[i] = read(ids[i]) })
		for i, id := range ids {
			lines[id] = got[i]
		}
		return cmp.Or(errs...)
	}
	groups := draft.Groups(s.Index, few)
	if err := fetch(groups); err != nil {
		return nil, err
	}
	crews := map[model.ID]*risk.Crew{}
	for _, g := range groups {
		if crews[g] = lines[g].Crew; crews[g] == nil {
			return nil, fmt.Errorf("of %s: %w", g, gauge.ErrUntold)
		}
	}
	callers := draft.Callers(few, crews)
	if err := fetch(callers); err != nil {
		return nil, err
	}
	gather := &usage.Gather{}
	for _, id := range callers {
		if uses := lines[id].Uses; len(uses) > 0 {
			if err := gather.AddUses(uses); err != nil {
				return nil, fmt.Errorf("uses of %s: %w", id, err)
			}
		}
	}
	in, err := w.input(ctx, s, gather.Uses(), window, &head)
	if err != nil {
		return nil, err
	}
	in.Paths = pathsOf(who)
	if in.Before, in.Joined, err = w.before(ctx, s); err != nil {
		return nil, err
	}
	res, worth, err := draft.Told(in, few, head.All, func(id model.ID) ([]byte, bool, error) {
		if err := fetch([]model.ID{id}); err != nil {
			return nil, false, err
		}
		return lines[id].Told, lines[id].Told != nil, nil
	}, &head.Whole, crews)
	if err != nil {
		return nil, err
	}
	return &looked{s, in, res, worth, head.Last}, ctx.Err()
}
