// Package patrol keeps time-limited elevation to its time.
//
// A [Keeper] opens and closes gates against a source. It writes down what it is
// about to do before it does it, and names the grant after the request, so that
// one run of [Keeper.Once] after any crash leaves nothing of an elevation whose
// time is over.
package patrol

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
)

// ErrUnknown: there is no such request.
var ErrUnknown = errors.New("no such gate request")

// Requests keeps requests by id.
type Requests interface {
	SaveGate(ctx context.Context, id string, body []byte) error
	Gates(ctx context.Context) (map[string][]byte, error)
}

// A Keeper opens and closes gates.
type Keeper struct {
	Requests Requests
	Ledger   *ledger.Ledger
	Changer  func(ctx context.Context, src string) (source.Changer, error)
	Now      func() time.Time
	Wait     time.Duration // until a grant is visible, or gone
}

// All returns every request, oldest first.
func (k *Keeper) All(ctx context.Context) ([]*gate.Request, error) {
	bodies, err := k.Requests.Gates(ctx)
	if err != nil {
		return nil, err
	}
	var out []*gate.Request
	for _, id := range slices.Sorted(maps.Keys(bodies)) {
		r := &gate.Request{}
		if err := json.Unmarshal(bodies[id], r); err != nil {
			return nil, fmt.Errorf("gate request %s: %w", id, err)
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b *gate.Request) int { return a.AskedAt.Compare(b.AskedAt) })
	return out, nil
}

// Find returns a request by id.
func (k *Keeper) Find(ctx context.Context, id string) (*gate.Request, error) {
	all, err := k.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if r.ID == id {
			return r, nil
		}
	}
	return nil, fmt.Errorf("%w: %q (see: clipfence gate list)", ErrUnknown, id)
}

// Save keeps a request and tells the ledger what happened to it.
func (k *Keeper) Save(ctx context.Context, r *gate.Request, event string) error {
	if err := k.Ledger.Append(ctx, "gate."+event, r); err != nil {
		return err
	}
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return k.Requests.SaveGate(ctx, r.ID, body)
}

func grant(r *gate.Request) model.Grant {
	return model.Grant{ID: r.GrantID(), To: r.By, Role: r.Policy.Opens.Role, Rights: model.Rights{Do: r.Policy.Opens.Do},
		Where: r.Policy.Opens.Where, When: r.Policy.Controls, Until: r.Until, KeptWith: model.WithHolder, Created: r.OpenedAt.UTC().Truncate(time.Second)}
}

// Open grants what a request was approved for, and waits until it is visible.
func (k *Keeper) Open(ctx context.Context, r *gate.Request) error {
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return err
	}
	if err := r.StartOpening(k.Now()); err != nil {
		return err
	}
	if err := k.Save(ctx, r, string(gate.Opening)); err != nil {
		return err
	}
	body, err := json.Marshal(grant(r))
	if err != nil {
		return err
	}
	if err := c.Do(ctx, source.Step{Kind: source.Grants, ID: r.GrantID(), After: body}); err != nil {
		return fmt.Errorf("opening %s: %w; a patrol will tidy up, ask again", r.ID, err)
	}
	// A patrol may have taken us for dead meanwhile; then the grant must not stay.
	if now, err := k.Find(ctx, r.ID); err != nil || now.State != gate.Opening {
		return errors.Join(err, fmt.Errorf("opening %s: it was closed meanwhile", r.ID), k.remove(ctx, c, r))
	}
	if err := k.visible(ctx, c, r, true); err != nil {
		return err
	}
	r.Opened()
	return k.Save(ctx, r, string(gate.Open))
}

// Close takes away what a request opened, and waits until it is gone.
func (k *Keeper) Close(ctx context.Context, r *gate.Request, by string) error {
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return err
	}
	if err := r.StartClosing(by); err != nil {
		return err
	}
	if err := k.Save(ctx, r, string(gate.Closing)); err != nil {
		return err
	}
	if err := k.remove(ctx, c, r); err != nil {
		return fmt.Errorf("closing %s: %w; run clipfence patrol --once again", r.ID, err)
	}
	if err := k.visible(ctx, c, r, false); err != nil {
		return err
	}
	r.Closed(k.Now())
	return k.Save(ctx, r, string(gate.Closed))
}

// remove deletes the request's grant, whatever became of it since.
func (k *Keeper) remove(ctx context.Context, c source.Changer, r *gate.Request) error {
	for try := 0; ; try++ {
		d, err := c.Get(ctx, source.Grants, r.GrantID())
		if errors.Is(err, source.ErrGone) {
			return nil
		}
		if err == nil {
			err = c.Do(ctx, source.Step{Kind: source.Grants, ID: r.GrantID(), Before: d.Body})
		}
		// Somebody edited it between reading and removing: read it again.
		if err == nil || try == 5 || !errors.Is(err, source.ErrConflict) && !errors.Is(err, source.ErrGone) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond << try):
		}
	}
}

func (k *Keeper) visible(ctx context.Context, c source.Changer, r *gate.Request, want bool) error {
	ctx, cancel := context.WithTimeout(ctx, k.Wait)
	defer cancel()
	for {
		_, err := c.Get(ctx, source.Grants, r.GrantID())
		switch {
		case err == nil && want, errors.Is(err, source.ErrGone) && !want:
			return nil
		case err != nil && !errors.Is(err, source.ErrGone) && ctx.Err() == nil:
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("gate %s: the source does not show the change after %s", r.ID, k.Wait)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// A Round is what one run of the patrol did.
type Round struct {
	Closed []*gate.Request `json:"closed"`
	Lapsed []*gate.Request `json:"lapsed"`
	Open   []*gate.Request `json:"open"`   // still within their time
	Strays []*gate.Request `json:"strays"` // ended before, and their grant was still there
}

// straysFor is for how long an ended request's grant is looked for.
const straysFor = 7 * 24 * time.Hour

// Once closes what is due, lets lapse what nobody answered, and looks whether
// anything of an ended request is left. It goes on after a failure and returns
// all of them, joined.
func (k *Keeper) Once(ctx context.Context) (Round, error) {
	var round Round
	all, err := k.All(ctx)
	if err != nil {
		return round, err
	}
	var errs []error
	for _, r := range all {
		now := k.Now()
		due, lapsed := r.Due(now)
		switch {
		case due:
			if err := k.Close(ctx, r, "patrol"); err != nil {
				errs = append(errs, err)
				continue
			}
			round.Closed = append(round.Closed, r)
		case lapsed:
			r.State = gate.Lapsed
			if err := k.Save(ctx, r, string(gate.Lapsed)); err != nil {
				errs = append(errs, err)
				continue
			}
			round.Lapsed = append(round.Lapsed, r)
		case r.State == gate.Open:
			round.Open = append(round.Open, r)
		case r.State == gate.Closed && now.Sub(r.ClosedAt) < straysFor:
			stray, err := k.stray(ctx, r)
			if err != nil {
				errs = append(errs, err)
			} else if stray {
				round.Strays = append(round.Strays, r)
			}
		}
	}
	return round, errors.Join(errs...)
}

func (k *Keeper) stray(ctx context.Context, r *gate.Request) (bool, error) {
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return false, err
	}
	if _, err := c.Get(ctx, source.Grants, r.GrantID()); errors.Is(err, source.ErrGone) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	if err := k.remove(ctx, c, r); err != nil {
		return true, err
	}
	return true, k.Ledger.Append(ctx, "gate.stray", map[string]string{"request": r.ID, "grant": r.GrantID()})
}
