package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
)

// A LogState says how far the log of a source was read.
type LogState struct {
	Cursor      string    `json:"-"`
	First, Last time.Time `json:"-"`
	Lines       int64     `json:"lines"`
	Rejected    int64     `json:"rejected"`
}

// LogState returns how far the log of a source was read.
func (s *Store) LogState(ctx context.Context, src string) (LogState, error) {
	var l LogState
	var first, last int64
	err := s.db.QueryRowContext(ctx, `select cursor, first, last, lines, rejected from logs where source = ?`, src).Scan(&l.Cursor, &first, &last, &l.Lines, &l.Rejected)
	if errors.Is(err, sql.ErrNoRows) {
		return LogState{}, nil
	}
	if first != 0 {
		l.First, l.Last = time.UnixMilli(first).UTC(), time.UnixMilli(last).UTC()
	}
	return l, explain(err)
}

// SaveLogs folds a batch of calls into the uses of a source, remembers its
// events and rejected lines, and moves the cursor, all or nothing. It returns
// how many calls were new.
func (s *Store) SaveLogs(ctx context.Context, src string, b source.LogBatch) (int, error) {
	if err := s.loadNames(ctx); err != nil {
		return 0, err
	}
	fresh := 0
	err := s.tx(ctx, func(tx *sql.Tx) error {
		seen, err := loadSeen(tx, src, b.Calls)
		if err != nil {
			return err
		}
		fold := usage.Fold{}
		for i := range b.Calls {
			if seen.Add(&b.Calls[i]) {
				fold.Add(b.Calls[i])
				fresh++
			}
		}
		if err := saveSeen(tx, src, seen); err != nil {
			return err
		}
		if err := s.saveUses(tx, src, fold); err != nil {
			return err
		}
		for _, r := range b.Rejected {
			if _, err := tx.Exec(`insert or replace into rejected values(?, ?, ?, ?)`, src, r.File, r.Line, r.Why); err != nil {
				return err
			}
		}
		first, last := span(b.Calls)
		_, err = tx.Exec(`insert into logs values(?1, ?2, ?3, ?4, ?5, ?6) on conflict do update set cursor = ?2,
			first = case when ?3 != 0 and (first = 0 or ?3 < first) then ?3 else first end, last = max(last, ?4), lines = lines + ?5,
			rejected = (select count(*) from rejected where source = ?1)`, src, b.Cursor, first, last, b.Lines, len(b.Rejected))
		return err
	})
	if err != nil {
		s.names = nil // what the transaction had added is gone again
	}
	return fresh, err
}

func span(calls []usage.Call) (first, last int64) {
	for _, c := range calls {
		t := c.Time.UnixMilli()
		if first == 0 || t < first {
			first = t
		}
		last = max(last, t)
	}
	return first, last
}

func loadSeen(tx *sql.Tx, src string, calls []usage.Call) (usage.Seen, error) {
	seen := usage.Seen{}
	for i := range calls {
		d := usage.DayOf(calls[i].Time)
		if seen[d] != nil {
			continue
		}
		m := map[[16]byte]struct{}{}
		seen[d] = m
		var blob []byte
		err := tx.QueryRow(`select events from seen where source = ? and day = ?`, src, d).Scan(&blob)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
		for ; len(blob) >= 16; blob = blob[16:] {
			m[[16]byte(blob)] = struct{}{}
		}
	}
	return seen, nil
}

func saveSeen(tx *sql.Tx, src string, seen usage.Seen) error {
	for d, m := range seen {
		blob := make([]byte, 0, 16*len(m))
		for id := range m {
			blob = append(blob, id[:]...)
		}
		if _, err := tx.Exec(`insert or replace into seen values(?, ?, ?)`, src, d, blob); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) loadNames(ctx context.Context) error {
	if s.names != nil {
		return nil
	}
	names := map[string]int64{}
	err := s.rows(ctx, func(scan func(...any) error) error {
		var id int64
		var text string
		err := scan(&id, &text)
		names[text] = id
		return err
	}, `select id, text from names`)
	if err == nil {
		s.names = names
	}
	return err
}

// name returns the number of a text, and gives it one if it has none.
func (s *Store) name(add *sql.Stmt, text string) (int64, error) {
	if id, ok := s.names[text]; ok {
		return id, nil
	}
	id := int64(len(s.names) + 1)
	if _, err := add.Exec(id, text); err != nil {
		return 0, err
	}
	s.names[text] = id
	return id, nil
}

func (s *Store) saveUses(tx *sql.Tx, src string, fold usage.Fold) error {
	const where = ` where source = ? and identity = ? and permission = ? and path = ? and acting_for = ? and outcome = ? and network = ? and second_factor = ?`
	stmts := make([]*sql.Stmt, 4)
	for i, q := range []string{
		`insert into names values(?, ?)`,
		`select count, first, last, days from uses` + where,
		`insert into uses(source, identity, permission, path, acting_for, outcome, network, second_factor, count, first, last, days) values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		`update uses set count = ?, first = ?, last = ?, days = ?` + where,
	} {
		var err error
		if stmts[i], err = tx.Prepare(q); err != nil {
			return err
		}
		defer stmts[i].Close()
	}
	add, get, insert, update := stmts[0], stmts[1], stmts[2], stmts[3]
	for _, u := range fold {
		key := make([]any, 0, 8)
		for _, text := range []string{src, u.Identity.String(), u.Permission.String(), u.Path.String(), u.ActingFor.String(), string(u.Outcome), networkText(u.Network)} {
			id, err := s.name(add, text)
			if err != nil {
				return err
			}
			key = append(key, id)
		}
		key = append(key, int(u.SecondFactor))
		var count, first, last int64
		var blob []byte
		err := get.QueryRow(key...).Scan(&count, &first, &last, &blob)
		known := err == nil
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if known {
			old := usage.Use{Key: u.Key, Count: count, First: time.UnixMilli(first), Last: time.UnixMilli(last)}
			if err := old.Days.UnmarshalBinary(blob); err != nil {
				return fmt.Errorf("%w: %v", ErrDamaged, err)
			}
			f := usage.Fold{u.Key: &old}
			f.Merge(*u)
			u = &old
		}
		days, err := u.Days.MarshalBinary()
		if err != nil {
			return err
		}
		vals := []any{u.Count, u.First.UnixMilli(), u.Last.UnixMilli(), days}
		if known {
			_, err = update.Exec(slices.Concat(vals, key)...)
		} else {
			_, err = insert.Exec(slices.Concat(key, vals)...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func networkText(p netip.Prefix) string {
	if !p.IsValid() {
		return ""
	}
	return p.String()
}

// Uses returns all uses of a source, in the order of their keys.
func (s *Store) Uses(ctx context.Context, src string) ([]usage.Use, error) {
	texts := map[int64]string{}
	err := s.rows(ctx, func(scan func(...any) error) error {
		var id int64
		var text string
		err := scan(&id, &text)
		texts[id] = text
		return err
	}, `select id, text from names`)
	if err != nil {
		return nil, err
	}
	ids, perms, paths, nets := memo(texts, model.ParseID), memo(texts, model.ParsePermission), memo(texts, model.ParsePath), memo(texts, netip.ParsePrefix)
	var out []usage.Use
	err = s.rows(ctx, func(scan func(...any) error) error {
		var identity, permission, path, acting, outcome, network, factor, first, last int64
		var u usage.Use
		var days sql.RawBytes
		if err := scan(&identity, &permission, &path, &acting, &outcome, &network, &factor, &u.Count, &first, &last, &days); err != nil {
			return err
		}
		u.Identity, u.ActingFor, u.Permission, u.Path = ids(identity), ids(acting), perms(permission), paths(path)
		u.Outcome, u.Network, u.SecondFactor = usage.Outcome(texts[outcome]), nets(network), model.Truth(factor)
		u.First, u.Last = time.UnixMilli(first).UTC(), time.UnixMilli(last).UTC()
		if err := u.Days.UnmarshalBinary(days); err != nil || u.Identity.IsZero() || u.Permission.IsZero() || u.Path.IsZero() {
			return fmt.Errorf("%w: a use of source %s makes no sense", ErrDamaged, src)
		}
		out = append(out, u)
		return nil
	}, `select identity, permission, path, acting_for, outcome, network, second_factor, count, first, last, days
		from uses where source = (select id from names where text = ?) order by source, identity, permission, path`, src)
	return out, err
}

// memo parses each text once; what does not parse is the zero value.
func memo[T any](texts map[int64]string, parse func(string) (T, error)) func(int64) T {
	known := map[int64]T{}
	return func(id int64) T {
		v, ok := known[id]
		if !ok {
			v, _ = parse(texts[id])
			known[id] = v
		}
		return v
	}
}

// Rejected returns the lines of a source's log that were set aside, oldest file
// first, and how many there are in all.
func (s *Store) Rejected(ctx context.Context, src string, limit int) ([]source.Reject, int, error) {
	var out []source.Reject
	total := 0
	if err := s.db.QueryRowContext(ctx, `select count(*) from rejected where source = ?`, src).Scan(&total); err != nil {
		return nil, 0, explain(err)
	}
	err := s.rows(ctx, func(scan func(...any) error) error {
		var r source.Reject
		err := scan(&r.File, &r.Line, &r.Why)
		out = append(out, r)
		return err
	}, `select file, line, why from rejected where source = ? order by file, line limit ?`, src, limit)
	return out, total, err
}
