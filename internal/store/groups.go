package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"slices"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Some sources list nobody in their groups, and their logs say of each call in which groups its
// caller was. Of each identity and group is kept when an event showed it first and last.

// stillIn is how long, in milliseconds, before somebody's newest event that tells groups another one
// may lie for its groups to count still: who leaves a group calls on without it, and tokens live on
// for a while.
const stillIn = 30 * 86_400_000

// Sightings returns who is in which group as the log of a source showed it: of each identity the
// groups of the thirty days up to its newest event that tells any, in order.
func (s *Store) Sightings(ctx context.Context, src string) ([]fold.Sighting, error) {
	out, err := s.AllSightings(ctx, src)
	return slices.DeleteFunc(out, over(out)), err
}

// AllSightings returns who ever was in which group as the log of a source showed it, in order.
func (s *Store) AllSightings(ctx context.Context, src string) (out []fold.Sighting, err error) {
	err = s.tx(ctx, func(tx *sql.Tx) error {
		out, err = sightings(tx, src)
		return err
	})
	return out, err
}

// over tells of which of some sightings it is known that they are over.
func over(all []fold.Sighting) func(fold.Sighting) bool {
	newest := map[model.ID]int64{}
	for i := range all {
		newest[all[i].Identity] = max(newest[all[i].Identity], all[i].Last)
	}
	return func(s fold.Sighting) bool { return s.Last < newest[s.Identity]-stillIn }
}

// sightings returns every sighting that is kept of a source, in order.
func sightings(tx *sql.Tx, src string) ([]fold.Sighting, error) {
	rows, err := tx.Query(`select identity, grp, first, last from groups where source = ? order by identity, grp`, src)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []fold.Sighting
	for rows.Next() {
		var who, group string
		var g fold.Sighting
		if err := rows.Scan(&who, &group, &g.First, &g.Last); err != nil {
			return nil, err
		}
		if g.Identity, err = model.ParseID(who); err == nil {
			g.Group, err = model.ParseID(group)
		}
		if err != nil {
			return nil, fmt.Errorf("%w: groups of source %s: %v", ErrDamaged, src, err)
		}
		out = append(out, g)
	}
	return out, rows.Err()
}

// addSightings keeps what a batch saw of groups.
func addSightings(tx *sql.Tx, src string, list []fold.Sighting) error {
	if len(list) == 0 {
		return nil
	}
	st, err := tx.Prepare(`insert into groups values(?, ?, ?, ?, ?)
		on conflict do update set first = min(first, excluded.first), last = max(last, excluded.last)`)
	if err != nil {
		return err
	}
	defer st.Close()
	for i := range list {
		g := &list[i]
		if _, err := st.Exec(src, g.Identity.String(), g.Group.String(), g.First, g.Last); err != nil {
			return err
		}
	}
	return markSightings(tx, src)
}

func sightingsSetting(src string) string { return "groups." + src }

// markSightings keeps what tells the sightings of now from those of other times.
func markSightings(tx *sql.Tx, src string) error {
	all, err := sightings(tx, src)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, over(all))
	mark := ""
	if len(all) > 0 {
		h := sha256.New()
		for i := range all {
			fmt.Fprintf(h, "%s in %s\n", all[i].Identity, all[i].Group)
		}
		mark = hex.EncodeToString(h.Sum(nil)[:12])
	}
	_, err = tx.Exec(`insert or replace into settings values(?, ?)`, sightingsSetting(src), mark)
	return err
}

// SightingsMark tells [Store.Sightings] of one time from those of another; empty where there are none.
func (s *Store) SightingsMark(ctx context.Context, src string) (string, error) {
	return s.Setting(ctx, sightingsSetting(src))
}

// trimSightings takes out of the sightings of a source what is older than a day, and those of callers
// that drop names.
func trimSightings(tx *sql.Tx, src string, from usage.Day, drop func(model.ID) bool) error {
	all, err := sightings(tx, src)
	if err != nil || len(all) == 0 {
		return err
	}
	for _, g := range all {
		switch first := int64(from) * 86_400_000; {
		case drop != nil && drop(g.Identity), g.Last < first:
			_, err = tx.Exec(`delete from groups where source = ? and identity = ? and grp = ?`, src,
				g.Identity.String(), g.Group.String())
		case g.First < first:
			_, err = tx.Exec(`update groups set first = ? where source = ? and identity = ? and grp = ?`, first, src,
				g.Identity.String(), g.Group.String())
		}
		if err != nil {
			return err
		}
	}
	return markSightings(tx, src)
}

// swapSightings puts what was seen of groups anew beside what was seen before, less what lies on days
// that were all read again.
func swapSightings(tx *sql.Tx, src string, swapped map[usage.Day]bool) error {
	old, err := sightings(tx, src)
	if err != nil {
		return err
	}
	anew, err := sightings(tx, Staged(src))
	if err != nil || len(old)+len(anew) == 0 {
		return err
	}
	for _, g := range old {
		again := true
		for d := usage.Day(g.First / 86_400_000); again && d <= usage.Day(g.Last/86_400_000); d++ {
			again = swapped[d]
		}
		if again {
			if _, err := tx.Exec(`delete from groups where source = ? and identity = ? and grp = ?`, src,
				g.Identity.String(), g.Group.String()); err != nil {
				return err
			}
		}
	}
	return cmp.Or(addSightings(tx, src, anew), markSightings(tx, src))
}
