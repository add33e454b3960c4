package work

import (
	"context"
	"errors"
	"slices"

	"clipfence/internal/change"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/gate"
	"clipfence/internal/ledger"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
	"clipfence/internal/store"
	"clipfence/internal/trust"
)

// Blame says what an error is about, whoever made it.
type Blame int

const (
	BlameCall    Blame = iota // the call, or a file that it names
	BlameCheck                // what was asked for does not hold, or there is nothing of it
	BlameSource               // a source failed
	BlameRefused              // a guard refused it
	BlameDamaged              // the workspace or the ledger is damaged, or cannot be written
)

// BlameOf sorts an error.
func BlameOf(err error) Blame {
	is := func(targets ...error) bool {
		return slices.ContainsFunc(targets, func(t error) bool { return errors.Is(err, t) })
	}
	switch {
	case is(change.ErrGuard, gate.ErrNotAllowed, gate.ErrState, gate.ErrAskAgain, gate.ErrClock, draft.ErrProtected,
		source.ErrReadOnly, trust.ErrUntrusted, trust.ErrForeign, ledger.ErrKey, ledger.ErrStale, patrol.ErrForeign):
		return BlameRefused
	case is(ledger.ErrBroken, ledger.ErrFile, ledger.ErrUnseen, trust.ErrHome, store.ErrDamaged, store.ErrNewer,
		store.ErrUnwritable):
		return BlameDamaged
	case is(source.ErrUnreachable, source.ErrDenied, source.ErrLog, source.ErrConflict, source.ErrGone,
		change.ErrUnconfirmed, ErrUnseen, context.Canceled, context.DeadlineExceeded):
		return BlameSource
	case is(draft.ErrNothing):
		return BlameCheck
	}
	return BlameCall
}
