package work

import (
	"context"
	"errors"

	"clipfence/internal/ledger"
	"clipfence/internal/patrol"
)

// Patrol makes one round of the keeper: closes what is due, lets lapse what nobody answered,
// and looks whether anything of a closed gate is left. A history that cannot be trusted is an
// error of the round, and never keeps a closing from being done.
func (w *Workspace) Patrol(ctx context.Context) (patrol.Round, error) {
	_, _, broken := w.History(ctx)
	round, err := w.keeper(ctx).Once(ctx)
	if !errors.Is(err, ledger.ErrBroken) {
		err = errors.Join(err, damaged(broken))
	}
	return round, err
}
