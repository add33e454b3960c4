// Package patrol keeps time-limited elevation to its time.
//
// A [Keeper] opens and closes gates against a source. It writes down what it is
// about to do before it does it, and names the grant after workspace and request, so
// that one run of [Keeper.Once] after any crash leaves nothing of an elevation whose
// time is over.
//
// Closing comes first: no ledger that cannot be written, unreadable request, dead
// source or pile of old requests keeps it from taking a grant away; what could not be
// written down is, by a later round. And closing is no weapon: it takes away only what
// the request could have made, see [Keeper.own].
package patrol

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
)

// Errors that callers decide on.
var (
	// ErrUnknown: there is no such request.
	ErrUnknown = errors.New("no such gate request")
	// ErrForeign: what bears a request's name is not what the request made.
	ErrForeign = errors.New("it is not what the request opened, and was left alone")
	// ErrUnsettled: nothing of the request is seen, but it may still come.
	ErrUnsettled = errors.New("nothing of it is seen; a source that is late may show it yet, so it is looked for " +
		"again")
)

// Requests keeps requests by id, with the version of each.
type Requests interface {
	// PutGate keeps a request in place of the version that was read, 0 for none, in the
	// transaction of a ledger's entry; [ledger.ErrStale] when somebody was faster.
	PutGate(p ledger.Page, id string, body []byte, version int64) error
	Gates(ctx context.Context) (bodies map[string][]byte, versions map[string]int64, err error)
}

// A Keeper opens and closes gates.
type Keeper struct {
	Requests Requests
	Ledger   *ledger.Ledger
	Changer  func(ctx context.Context, src string) (source.Changer, error)
	Now      func() time.Time
	Wait     time.Duration // until a grant is visible, or gone
	// Settle is how long after a grant was asked for a source may show it for the first
	// time. Until then a request whose grant nobody ever saw is not called closed.
	Settle time.Duration
	// Workspace is whose requests are kept; those of another are left alone. "" is every one's.
	Workspace string
}

// All returns every request that can be read, oldest first, and what is wrong with the
// others, joined.
func (k *Keeper) All(ctx context.Context) ([]*gate.Request, error) {
	bodies, versions, err := k.Requests.Gates(ctx)
	if err != nil {
		return nil, err
	}
	var out []*gate.Request
	var errs []error
	for _, id := range slices.Sorted(maps.Keys(bodies)) {
		r := &gate.Request{}
		err := json.Unmarshal(bodies[id], r)
		switch {
		case err != nil:
		case r.ID != id:
			err = fmt.Errorf("it says that it is %q", r.ID)
		case k.Workspace != "" && r.Text > 0 && r.Workspace != k.Workspace:
			err = errors.New("it was asked in another workspace, which keeps it")
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("gate request %s cannot be read: %w", id, err))
			continue
		}
		r.Row = versions[id]
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b *gate.Request) int { return a.AskedAt.Compare(b.AskedAt) })
	return out, errors.Join(errs...)
}

// Find returns a request by id.
func (k *Keeper) Find(ctx context.Context, id string) (*gate.Request, error) {
	all, err := k.All(ctx)
	for _, r := range all {
		if r.ID == id {
			return r, nil
		}
	}
	return nil, errors.Join(fmt.Errorf("%w: %q (see: clipfence gate list)", ErrUnknown, id), err)
}

// Save keeps a request and tells the ledger what happened to it, in one transaction; by is
// whose signature it rests on. It returns [ledger.ErrStale] when the row is no longer as it
// was read.
func (k *Keeper) Save(ctx context.Context, r *gate.Request, event, by string) error {
	err := k.Ledger.AppendWith(ctx, "gate."+event, by, func(p ledger.Page) (any, error) {
		body, err := json.Marshal(r)
		if err != nil {
			return nil, err
		}
		return r, k.Requests.PutGate(p, r.ID, body, r.Row)
	})
	if err == nil || errors.Is(err, ledger.ErrFile) {
		r.Row++
	}
	return err
}

// Update reads a request, changes it and keeps it, anew while others are faster.
func (k *Keeper) Update(ctx context.Context, id, event, by string, change func(*gate.Request) error) (*gate.Request,
	error) {
	for {
		r, err := k.Find(ctx, id)
		if err != nil {
			return nil, err
		}
		was := r.State
		if err := change(r); err != nil {
			return r, err
		}
		if !gate.Follows(was, r.State) {
			return r, fmt.Errorf("%w: request %s cannot go from %s to %s", gate.ErrState, id, was, r.State)
		}
		if err := k.Save(ctx, r, event, by); !errors.Is(err, ledger.ErrStale) {
			return r, err
		}
	}
}

// Open grants what a request was approved for, and waits until it is visible. now is the
// time that counts.
func (k *Keeper) Open(ctx context.Context, r *gate.Request, now time.Time) error {
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return err
	}
	if err := r.StartOpening(now); err != nil {
		return err
	}
	if err := k.Save(ctx, r, string(gate.Opening), ""); errors.Is(err, ledger.ErrStale) {
		return fmt.Errorf("%w: request %s was answered, opened or closed just now", gate.ErrState, r.ID)
	} else if err != nil {
		return err
	}
	if err := k.give(ctx, c, r); err != nil {
		return fmt.Errorf("opening %s: %w; a patrol will tidy up, ask again", r.ID, err)
	}
	if err := k.visible(ctx, c, r, true); err != nil {
		return fmt.Errorf("%w; a patrol will tidy up, ask again", err)
	}
	if err := r.Opened(); err != nil {
		return err
	}
	// A patrol may have taken us for dead meanwhile; then the grant must not stay.
	if err := k.Save(ctx, r, string(gate.Open), ""); errors.Is(err, ledger.ErrStale) {
		return errors.Join(fmt.Errorf("opening %s: it was closed meanwhile", r.ID), k.remove(ctx, c, r))
	} else if err != nil {
		return fmt.Errorf("%w; a patrol will tidy up, ask again", err)
	}
	return nil
}

// Close takes away what a request opened, and waits until it is gone. It does so also when
// nothing can be written down; then that is the error, and a later round writes it.
func (k *Keeper) Close(ctx context.Context, r *gate.Request, by string) error {
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return err
	}
	was := r.State
	if err := r.StartClosing(by); err != nil {
		return err
	}
	var unwritten error
	if was != gate.Closing { // a try that failed said so already
		if unwritten = k.Save(ctx, r, string(gate.Closing), ""); errors.Is(unwritten, ledger.ErrStale) {
			now, err := k.Find(ctx, r.ID)
			if err != nil {
				return err
			}
			if *r = *now; r.State == gate.Approved || r.State.Ended() {
				return nil
			}
			return k.Close(ctx, r, by)
		}
	}
	seen := was == gate.Open
	gone, err := k.take(ctx, c, r)
	if err != nil {
		return errors.Join(fmt.Errorf("closing %s: %w; run clipfence patrol --once again", r.ID, err), unwritten)
	}
	if err := k.visible(ctx, c, r, false); err != nil {
		return errors.Join(err, unwritten)
	}
	if !gone && !seen && k.Now().Before(r.OpenedAt.Add(k.Settle)) {
		return errors.Join(fmt.Errorf("closing %s: %w until %s", r.ID, ErrUnsettled,
			r.OpenedAt.Add(k.Settle).Format(time.TimeOnly)), unwritten)
	}
	r.Closed(k.Now())
	switch err := k.Save(ctx, r, string(gate.Closed), ""); {
	case errors.Is(err, ledger.ErrStale): // another keeper was at it as well
		now, err := k.Find(ctx, r.ID)
		if err == nil && !now.State.Ended() {
			err = fmt.Errorf("closing %s: %w", r.ID, ledger.ErrStale)
		}
		return err
	case err != nil:
		return fmt.Errorf("closing %s: its grant is gone from %s, and that could not be written down: %w", r.ID,
			r.Source, errors.Join(err, unwritten))
	}
	return nil
}

// give makes the request's grant. What bears its name and is not what the request made is left
// alone.
func (k *Keeper) give(ctx context.Context, c source.Changer, r *gate.Request) error {
	steps, edits, err := source.Planned(ctx, c, source.Diff{Put: []source.Record{{Kind: source.Grants,
		ID: r.GrantID(), Value: r.Grant()}}})
	if err != nil {
		return err
	}
	if was := edits[0].Before; was != nil && !k.own(r, was) {
		return fmt.Errorf("grant %s: %w", r.GrantID(), ErrForeign)
	}
	return do(ctx, c, steps)
}

// do carries out steps, one after another.
func do(ctx context.Context, c source.Changer, steps []source.Step) error {
	for _, s := range steps {
		if err := c.Do(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// own reports whether a record is what a request made: its own grant, or that with the
// words of an earlier reading of it.
func (k *Keeper) own(r *gate.Request, body json.RawMessage) bool {
	var g model.Grant
	if json.Unmarshal(body, &g) != nil {
		return false
	}
	want := r.Grant()
	for _, x := range []*model.Grant{&g, &want} {
		// The time that ended it, or when it was made, may be told otherwise; neither is
		// whose grant it is, nor what it gives.
		x.Until, x.Created, x.KeptWith, x.At = time.Time{}, time.Time{}, "", model.Position{}
	}
	one, err := json.Marshal(g)
	two, err2 := json.Marshal(want)
	return err == nil && err2 == nil && bytes.Equal(one, two)
}

// take deletes the request's grant and reports whether there was one. It leaves alone what
// the request cannot have made.
func (k *Keeper) take(ctx context.Context, c source.Changer, r *gate.Request) (bool, error) {
	for try := 0; ; try++ {
		steps, edits, err := source.Planned(ctx, c, source.Diff{Drop: []source.Ref{{Kind: source.Grants,
			ID: r.GrantID()}}})
		if errors.Is(err, source.ErrGone) {
			return false, nil
		}
		if err == nil {
			if !k.own(r, edits[0].Before) {
				return false, fmt.Errorf("grant %s in %s: %w; look at it, and take it away by hand", r.GrantID(),
					r.Source, ErrForeign)
			}
			err = do(ctx, c, steps)
		}
		// Somebody edited it between reading and removing: read it again.
		if err == nil || try == 5 || !errors.Is(err, source.ErrConflict) && !errors.Is(err, source.ErrGone) {
			return err == nil, err
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(200 * time.Millisecond << try):
		}
	}
}

func (k *Keeper) remove(ctx context.Context, c source.Changer, r *gate.Request) error {
	_, err := k.take(ctx, c, r)
	return err
}

func (k *Keeper) visible(ctx context.Context, c source.Changer, r *gate.Request, want bool) error {
	seen, err := source.Until(ctx, k.Wait, func(ctx context.Context) (bool, error) {
		now, err := source.RecordOf(ctx, c, source.Grants, r.GrantID())
		return (now != nil) == want, err
	})
	if err == nil && !seen {
		err = fmt.Errorf("gate %s: the source does not show the change after %s", r.ID, k.Wait)
	}
	return err
}

// A Round is what one run of the patrol did.
type Round struct {
	Closed   []*gate.Request `json:"closed"`
	Lapsed   []*gate.Request `json:"lapsed"`
	Open     []*gate.Request `json:"open"`     // still within their time
	Closing  []*gate.Request `json:"closing"`  // not seen, and not settled
	Strays   []*gate.Request `json:"strays"`   // ended before, and their grant was still there
	Rowless  []*gate.Request `json:"rowless"`  // open by the ledger, in no row of the store, and closed
	Unlooked int             `json:"unlooked"` // ended lately, and not looked at in this round
}

const (
	// straysFor is for how long an ended request's grant is looked for.
	straysFor = 7 * 24 * time.Hour
	// strayTime is how long a round looks for strays of one source at the most.
	strayTime = 20 * time.Second
)

// Once closes what is due, lets lapse what nobody answered, and looks whether
// anything of an ended request is left, in this order: sources side by side, each
// request on its own. It goes on after a failure and returns all of them, joined.
func (k *Keeper) Once(ctx context.Context) (Round, error) {
	var round Round
	all, err := k.All(ctx)
	if err != nil && all == nil {
		return round, err
	}
	errs := []error{err}
	var mu sync.Mutex
	note := func(list *[]*gate.Request, r *gate.Request, err error) {
		mu.Lock()
		defer mu.Unlock()
		if list != nil {
			*list = append(*list, r)
		}
		errs = append(errs, err)
	}
	rowless, err := k.rowless(ctx, all)
	errs = append(errs, err)
	now := k.Now()
	bySource := map[string][]*gate.Request{}
	for _, r := range append(slices.Clone(all), rowless...) {
		bySource[r.Source] = append(bySource[r.Source], r)
	}
	var lapsing []*gate.Request
	for _, r := range all {
		switch _, lapsed := r.Due(now); {
		case lapsed:
			lapsing = append(lapsing, r)
		case r.State == gate.Open && now.Before(r.Until):
			round.Open = append(round.Open, r)
		}
	}
	var wg sync.WaitGroup
	for _, rs := range bySource {
		wg.Go(func() { // one that does not answer keeps no other waiting
			var ended []*gate.Request
			for _, r := range rs {
				if r.State == gate.Closed && now.Sub(r.ClosedAt) < straysFor {
					ended = append(ended, r)
				}
				if due, _ := r.Due(now); !due {
					continue
				}
				switch err := k.Close(ctx, r, "patrol"); {
				case errors.Is(err, ErrUnsettled):
					note(&round.Closing, r, nil)
				case err != nil:
					note(nil, r, err)
				case slices.Contains(rowless, r):
					note(&round.Rowless, r, nil)
				default:
					note(&round.Closed, r, nil)
				}
			}
			until := time.Now().Add(strayTime) // how long looking takes, whatever day it is
			for n, r := range ended {
				if time.Now().After(until) || ctx.Err() != nil {
					mu.Lock()
					round.Unlooked += len(ended) - n
					mu.Unlock()
					break
				}
				if stray, err := k.stray(ctx, r); stray {
					note(&round.Strays, r, err)
				} else {
					note(nil, r, err)
				}
			}
		})
	}
	wg.Wait()
	for _, r := range lapsing {
		now, err := k.Update(ctx, r.ID, string(gate.Lapsed), "", (*gate.Request).Lapse)
		if err == nil {
			note(&round.Lapsed, now, nil)
		} else if !errors.Is(err, gate.ErrState) { // answered or opened just now
			note(nil, r, err)
		}
	}
	return round, errors.Join(errs...)
}

// rowless returns the requests that the ledger knows as opening, open or closing and that
// no row tells of as such: a store that was put back, also one in which it was only asked for
// yet, or a row that somebody took away or set to an end. A ledger that is damaged tells as far
// as it can be read.
func (k *Keeper) rowless(ctx context.Context, rows []*gate.Request) ([]*gate.Request, error) {
	entries, err := k.Ledger.Read(ctx)
	last := map[string]*gate.Request{}
	for _, e := range ledger.ByKind(entries, "gate.") {
		r := &gate.Request{}
		if json.Unmarshal(e.Body, r) == nil && r.ID != "" {
			if r.State != "" {
				last[r.ID] = r
			}
		}
	}
	begun := func(r *gate.Request) bool {
		return r.State == gate.Open || r.State == gate.Opening || r.State == gate.Closing
	}
	for _, r := range rows {
		if begun(r) {
			delete(last, r.ID)
		}
	}
	var out []*gate.Request
	for _, id := range slices.Sorted(maps.Keys(last)) {
		if r := last[id]; begun(r) {
			for _, row := range rows { // the ledger knows better
				if row.ID == id {
					r.Row = row.Row
				}
			}
			out = append(out, r)
		}
	}
	return out, err
}

func (k *Keeper) stray(ctx context.Context, r *gate.Request) (bool, error) {
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return false, err
	}
	gone, err := k.take(ctx, c, r)
	if err != nil || !gone {
		return false, err
	}
	return true, k.Ledger.Append(ctx, "gate.stray", map[string]string{"request": r.ID, "grant": r.GrantID()})
}
