package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"clipfence/internal/ledger"
)

// headSetting is where programs before kept the ledger's head.
const headSetting = "ledger.head"

var _ ledger.Book = (*Store)(nil)

// Write runs f in one transaction, while no other process can write to the store.
func (s *Store) Write(ctx context.Context, f func(ledger.Page) error) error {
	return s.tx(ctx, func(tx *sql.Tx) error { return f(page{tx}) })
}

// Earlier returns the ledger's head as a program before kept it.
func (s *Store) Earlier(ctx context.Context) (string, error) { return s.Setting(ctx, headSetting) }

// Head returns where the ledger ends.
func (s *Store) Head(ctx context.Context) (ledger.Head, error) {
	return headOf(s.db.QueryRowContext(ctx, lastLine))
}

const lastLine = `select n, hash, starts + length(line) from ledger order by n desc limit 1`

func headOf(row *sql.Row) (h ledger.Head, err error) {
	if err = row.Scan(&h.Number, &h.Hash, &h.Size); errors.Is(err, sql.ErrNoRows) {
		return h, nil
	}
	return h, explain(err)
}

// Lines returns the ledger's lines that end behind an offset.
func (s *Store) Lines(ctx context.Context, behind int64) (lines [][]byte, begin int64, err error) {
	err = s.rows(ctx, func(scan func(...any) error) error {
		var at int64
		var line []byte
		if err := scan(&at, &line); err != nil {
			return err
		}
		if len(lines) == 0 {
			begin = at
		}
		lines = append(lines, line)
		return nil
	}, `select starts, line from ledger where starts >= coalesce((select max(starts) from ledger where starts <= ?1), 0) and starts + length(line) > ?1 order by starts`, behind)
	return lines, begin, err
}

// page is a transaction in which entries and rows are written together.
type page struct{ tx *sql.Tx }

func (p page) Head() (ledger.Head, error) { return headOf(p.tx.QueryRow(lastLine)) }

func (p page) OfKind(kind string) ([][]byte, error) {
	rows, err := p.tx.Query(`select line from ledger where kind = ? order by n`, kind)
	if err != nil {
		return nil, explain(err)
	}
	defer rows.Close()
	var out [][]byte
	for rows.Next() {
		var line []byte
		if err := rows.Scan(&line); err != nil {
			return nil, err
		}
		out = append(out, bytes.Clone(line))
	}
	return out, explain(rows.Err())
}

func (p page) Count(kind string) (n int, err error) {
	return n, explain(p.tx.QueryRow(`select count(*) from ledger where kind = ?`, kind).Scan(&n))
}

func (p page) Put(h ledger.Head, kind string, line []byte) error {
	_, err := p.tx.Exec(`insert into ledger(n, kind, hash, starts, line) values(?, ?, ?, ?, ?)`, h.Number, kind,
		h.Hash, h.Size-int64(len(line)), line)
	return explain(err)
}

// PutGate keeps the body of a gate request in place of the version that was read; version
// 0 is a new one. It returns [ledger.ErrStale] when somebody was faster.
func (s *Store) PutGate(p ledger.Page, id string, body []byte, version int64) error {
	tx := p.(page).tx
	if version == 0 {
		if _, err := tx.Exec(`insert into gates(id, body, version) values(?, ?, 1)`, id, body); err != nil {
			return fmt.Errorf("gate request %s: %w: %w", id, ledger.ErrStale, explain(err))
		}
		return nil
	}
	r, err := tx.Exec(`update gates set body = ?, version = version + 1 where id = ? and version = ?`, body, id,
		version)
	if err != nil {
		return explain(err)
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(fmt.Errorf("gate request %s: %w", id, ledger.ErrStale), err)
	}
	return nil
}

// Gates returns the bodies of all gate requests and their versions, by id.
func (s *Store) Gates(ctx context.Context) (bodies map[string][]byte, versions map[string]int64, err error) {
	bodies, versions = map[string][]byte{}, map[string]int64{}
	err = s.rows(ctx, func(scan func(...any) error) error {
		var id string
		var body []byte
		var version int64
		if err := scan(&id, &body, &version); err != nil {
			return err
		}
		bodies[id], versions[id] = body, version
		return nil
	}, `select id, body, version from gates`)
	return bodies, versions, err
}

// Leased returns who carries out a change in a source, which one, and until when that counts
// without being renewed; false when nobody does.
func (s *Store) Leased(p ledger.Page, src string) (holder, change string, until time.Time, held bool, err error) {
	var end string
	err = p.(page).tx.QueryRow(`select holder, change, until from leases where source = ?`, src).Scan(&holder, &change,
		&end)
	if errors.Is(err, sql.ErrNoRows) {
		return "", "", until, false, nil
	}
	if err == nil {
		until, err = time.Parse(time.RFC3339Nano, end)
	}
	return holder, change, until, err == nil, explain(err)
}

// Lend keeps a lease in place of what was there.
func (s *Store) Lend(p ledger.Page, src, holder, change string, until time.Time) error {
	_, err := p.(page).tx.Exec(`insert or replace into leases values(?, ?, ?, ?)`, src, holder, change,
		until.UTC().Format(time.RFC3339Nano))
	return explain(err)
}

// Renew moves the end of a lease; false when another holds it by now.
func (s *Store) Renew(ctx context.Context, src, holder string, until time.Time) (bool, error) {
	r, err := s.db.ExecContext(ctx, `update leases set until = ? where source = ? and holder = ?`,
		until.UTC().Format(time.RFC3339Nano), src, holder)
	if err != nil {
		return false, explain(err)
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

// Release ends a lease of that holder.
func (s *Store) Release(ctx context.Context, src, holder string) error {
	_, err := s.db.ExecContext(ctx, `delete from leases where source = ? and holder = ?`, src, holder)
	return explain(err)
}

const workspaceSetting = "workspace.id"

// Workspace returns the id of this store, 128 random bits, which is made when it is asked
// for first.
func (s *Store) Workspace(ctx context.Context) (string, error) {
	id, err := s.Setting(ctx, workspaceSetting)
	if err != nil || id != "" {
		return id, err
	}
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	if _, err := s.db.ExecContext(ctx, `insert or ignore into settings values(?, ?)`, workspaceSetting,
		hex.EncodeToString(b[:])); err != nil {
		return "", explain(err)
	}
	return s.Setting(ctx, workspaceSetting)
}
