// Package uses is the seam behind which folded logs are held.
//
// A [Holder] keeps, for each source, what batches of its logs folded to, which
// events they counted, and the cursor behind the last. The embedded one is
// store.Store: compressed tables in SQLite, folded in this process. One on a
// distributed engine answers the same questions by pushing the folding down to where
// the rows are. Package usestest holds every Holder to the contract.
package uses

import (
	"context"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/usage"
)

// A Holder holds uses by source. Its methods may be called by several processes at
// once; what one has kept, the others see.
type Holder interface {
	// Seen returns the memory of which events of a source were counted, for folding
	// the next batch. It goes back at least [fold.Horizon] days.
	Seen(ctx context.Context, src string) *fold.Seen
	// SaveFold keeps a batch: its uses, its events and its cursor, all or nothing.
	// An empty cursor leaves the kept one as it is.
	SaveFold(ctx context.Context, src string, b *fold.Batch) error
	// Cursor returns the cursor behind the last batch; "" before the first.
	Cursor(ctx context.Context, src string) (string, error)
	// Uses returns all uses of a source, ordered by their keys. It does not depend
	// on how the log was cut into batches.
	Uses(ctx context.Context, src string) (*usage.Uses, error)
	// Groups answers [usage.GroupBy] over all uses of a source, with paths whole.
	Groups(ctx context.Context, src string, f *usage.Filter, by []usage.Field) ([]usage.Group, error)
	// Compact may reorganise what is held. Answers stay the same.
	Compact(ctx context.Context, src string) error
}
