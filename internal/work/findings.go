package work

import (
	"cmp"
	"context"
	"slices"
	"time"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/posture"
	"clipfence/internal/core/usage"
	"clipfence/internal/ledger"
	"clipfence/internal/store"
)

// Finding is what is wrong, in a source.
type Finding struct {
	*gauge.Finding
	Source  string
	Waived  *store.Waiver // set aside, and not over yet
	Window  usage.Window
	History time.Time // since when the log is known
}

// Findings are those of all sources in question, the worst first.
type Findings struct {
	List   []Finding
	Placed []PlacedSource
}

// PlacedSource says which calls of a source could be placed.
type PlacedSource struct {
	Source    string
	Placement *gauge.Placement
}

// Findings returns what is wrong in every source in question; 0 stands for the window of
// clipfence.yaml.
func (w *Workspace) Findings(ctx context.Context, window model.Duration) (*Findings, error) {
	sources, err := w.each()
	if err != nil {
		return nil, err
	}
	waivers, err := w.store.Waivers(ctx)
	if err != nil {
		return nil, err
	}
	out := &Findings{}
	for _, src := range sources {
		s, in, res, err := w.gauged(ctx, src, window, shapes)
		if err != nil {
			return nil, err
		}
		if err := w.remember(ctx, s, res, window); err != nil { // what is not remembered is worked out
			w.Log.Debug("what the last comparison told is not used", "error", err)
		}
		out.Placed = append(out.Placed, PlacedSource{src.Name, res.Placement})
		w.progress(Event{Source: s.Name, Doing: Looking, Of: len(res.Grants)})
		found := gauge.Findings(in, res)
		for _, g := range res.Grants {
			if g != nil {
				g.Use = nil // likewise: what follows looks at what is granted
			}
		}
		found = append(found, posture.Findings(in, res, s.matter(), found)...)
		w.progress(Event{Source: s.Name, Doing: Finished})
		out.List = slices.Grow(out.List, len(found))
		for i := range found {
			f := &found[i]
			x := Finding{Finding: f, Source: src.Name, Window: in.Span(), History: in.History}
			if wv, ok := waivers[f.ID]; ok && w.now().Before(wv.Until) {
				if err := w.waives(ctx, wv.Finding, wv.Reason, wv.By, wv.Until, wv.At, wv.Signature); err != nil {
					w.say("remark: finding %s is not set aside, whatever the store says: %v", f.ID, err)
				} else {
					x.Waived = &wv
				}
			}
			out.List = append(out.List, x)
		}
	}
	out.List = parallel.Sorted(out.List, func(a, b *Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(int(b.Danger+0.5), int(a.Danger+0.5)))
	})
	return out, nil
}

// Waive sets a finding aside until a time, signed where the workspace knows people's keys.
func (w *Workspace) Waive(ctx context.Context, finding, reason string, until time.Time, key string) (*store.Waiver,
	error) {
	wv := store.Waiver{Finding: finding, Reason: reason, By: systemUser(), Until: until.UTC().Truncate(time.Second),
		At: w.Clock().UTC().Truncate(time.Second)}
	by, sig, err := w.waiver(ctx, key, wv.Finding, wv.Reason, wv.Until, wv.At)
	if err != nil {
		return nil, err
	}
	if sig != "" {
		wv.By, wv.Signature = by.String(), sig
	}
	err = w.ledger.AppendWith(ctx, "finding.waived", wv.By,
		func(p ledger.Page) (any, error) { return wv, w.store.Waive(p, wv) })
	if err != nil {
		return nil, damaged(err)
	}
	return &wv, nil
}
