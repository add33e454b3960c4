package store

import (
	"context"
	"database/sql"
	"errors"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Trimmed says what went out of the uses of a source.
type Trimmed struct {
	Uses  int   // that went altogether, or lost some of their days
	Calls int64 // the counts of them
}

// Trim takes out of the uses of a source what is older than a day, and everything of callers that
// drop names, all or nothing; what is not asked for is the zero day and nil. The log counts as
// known from that day on. Of a caller that is dropped, records and lines that were set aside and
// hold its name go as well.
func (s *Store) Trim(ctx context.Context, src string, from usage.Day, drop func(model.ID) bool,
	names []string) (Trimmed, error) {
	var out Trimmed
	ids, err := s.foldIDs(ctx, src)
	if err != nil {
		return out, err
	}
	all, err := s.Uses(ctx, src)
	if err != nil {
		return out, err
	}
	left := &usage.Table{}
	var tables []*usage.Table
	for _, u := range all.All() {
		before := u.Count
		switch {
		case drop != nil && (drop(u.Identity) || drop(u.ActingFor)), !u.Within(from, maxDay):
			out.Uses++
			out.Calls += before
			continue
		case u.Count < before:
			out.Uses++
			out.Calls += before - u.Count
		}
		if left.Len() >= mostRows {
			tables, left = append(tables, left), &usage.Table{}
		}
		left.MergeUse(u)
	}
	tables = append(tables, left)
	return out, s.tx(ctx, func(tx *sql.Tx) error {
		now, err := foldIDs(tx, src)
		if err != nil {
			return err
		}
		if len(now) != len(ids) {
			return errors.New("another process read the log meanwhile; run it again")
		}
		if out.Uses > 0 {
			if _, err := tx.Exec(`delete from folds where source = ?`, src); err != nil {
				return err
			}
			for _, t := range tables {
				if t.Len() == 0 {
					continue
				}
				if err := insertFold(tx, src, t); err != nil {
					return err
				}
			}
		}
		first := int64(from) * 86400_000
		if _, err := tx.Exec(`update logs set first = ?2 where source = ?1 and first != 0 and first < ?2`, src,
			first); err != nil {
			return err
		}
		if err := trimSightings(tx, src, from, drop); err != nil {
			return err
		}
		for _, name := range names {
			for _, q := range []string{`delete from unmapped where source = ?1 and instr(example, ?2) > 0`,
				`delete from rejected where source = ?1 and instr(why, ?2) > 0`} {
				if _, err := tx.Exec(q, src, name); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// maxDay is after every day that a use can have.
const maxDay = usage.Day(1 << 30)
