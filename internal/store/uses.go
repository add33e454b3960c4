package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
	"clipfence/internal/uses"
)

// Uses are kept as folded batches, each a compressed table, in the order in which
// they were read. Adding one is one insert; a few are merged into one when there
// are many ([Store.Compact]). What they fold to together does not depend on how
// they are cut.

// A LogState says how far the log of a source was read.
type LogState struct {
	Cursor      string    `json:"-"`
	First, Last time.Time `json:"-"`
	Lines       int64     `json:"lines"`
	Rejected    int64     `json:"rejected"`
	Repeated    int64     `json:"repeated"`
	// When it was read to its end, once a day, in order.
	Reads []time.Time `json:"-"`
}

// readsSetting is where the times are kept at which the log of a source was read.
func readsSetting(src string) string { return "logs.read." + src }

// mostReads are kept: three years of readings each day.
const mostReads = 1100

// LogRead notes that the log of a source was read to its end.
func (s *Store) LogRead(ctx context.Context, src string, at time.Time) error {
	reads, err := s.reads(ctx, src)
	if err != nil {
		return err
	}
	if n := len(reads); n > 0 && usage.DayOf(reads[n-1]) == usage.DayOf(at) {
		reads = reads[:n-1]
	}
	reads = append(reads, at.UTC())
	if n := len(reads); n > mostReads { // the first one says how old the evidence can be
		reads = append(reads[:1:1], reads[n-mostReads+1:]...)
	}
	body, err := json.Marshal(reads)
	if err != nil {
		return err
	}
	return s.SetSetting(ctx, readsSetting(src), string(body))
}

func (s *Store) reads(ctx context.Context, src string) ([]time.Time, error) {
	text, err := s.Setting(ctx, readsSetting(src))
	if err != nil || text == "" {
		return nil, err
	}
	var out []time.Time
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		return nil, fmt.Errorf("%w: when logs were read: %w", ErrDamaged, err)
	}
	return out, nil
}

// LogState returns how far the log of a source was read.
func (s *Store) LogState(ctx context.Context, src string) (LogState, error) {
	var l LogState
	var first, last int64
	err := s.db.QueryRowContext(ctx,
		`select cursor, first, last, lines, rejected, repeated from logs where source = ?`, src).Scan(&l.Cursor,
		&first, &last, &l.Lines, &l.Rejected, &l.Repeated)
	if errors.Is(err, sql.ErrNoRows) {
		return LogState{}, nil
	}
	if err != nil {
		return l, explain(err)
	}
	if first != 0 {
		l.First, l.Last = time.UnixMilli(first).UTC(), time.UnixMilli(last).UTC()
	}
	if l.Reads, err = s.reads(ctx, src); err == nil && len(l.Reads) == 0 && !l.Last.IsZero() {
		l.Reads = []time.Time{l.Last} // read by hand only
	}
	return l, err
}

// SaveFold keeps what a part of a log folded to, with the events it counted, the
// records it set aside and the cursor behind it, all or nothing.
func (s *Store) SaveFold(ctx context.Context, src string, b *fold.Batch) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		if b.Table.Len() > 0 {
			if err := insertFold(tx, src, b.Table); err != nil {
				return err
			}
		}
		for d, hashes := range b.Seen {
			blob := make([]byte, 0, 8*len(hashes))
			for _, h := range hashes {
				blob = binary.LittleEndian.AppendUint64(blob, h)
			}
			if _, err := tx.Exec(
				`insert into seen values(?1, ?2, (select count(*) from seen where source = ?1 and day = ?2), ?3)`, src,
				d, blob); err != nil {
				return err
			}
		}
		for _, r := range b.Rejected {
			if _, err := tx.Exec(`insert or replace into rejected values(?, ?, ?, ?)`, src, r.File, r.Line,
				r.Why); err != nil {
				return err
			}
		}
		for kind, m := range map[string]map[string]int{"skipped": b.Skipped, "format": b.Formats} {
			for name, n := range m {
				if _, err := tx.Exec(`insert into tallies values(?1, ?2, ?3, ?4) on conflict do update set n = n + ?4`,
					src, kind, name, n); err != nil {
					return err
				}
			}
		}
		if err := addOrigins(tx, src, b); err != nil {
			return err
		}
		if err := addSightings(tx, src, b.InGroups); err != nil {
			return err
		}
		for _, u := range b.Unmapped {
			if _, err := tx.Exec(`insert or ignore into unmapped values(?, ?, ?, ?, ?)`, src, u.Permission.String(),
				u.File, u.Line, u.Example); err != nil {
				return err
			}
		}
		first, last := b.Table.Span()
		if _, err := tx.Exec(`insert into logs values(?1, ?2, ?3, ?4, ?5, ?6, ?7) on conflict do update set cursor = case when ?2 = '' then cursor else ?2 end,
			first = case when ?3 != 0 and (first = 0 or ?3 < first) then ?3 else first end, last = max(last, ?4), lines = lines + ?5, rejected = rejected + ?6, repeated = repeated + ?7`,
			src, b.Cursor, first, last, b.Records, b.Rejects, b.Repeated); err != nil {
			return err
		}
		// Beyond the horizon a repeated delivery is no longer known.
		_, err := tx.Exec(
			`delete from seen where source = ?1 and day < (select last / 86400000 from logs where source = ?1) - ?2`,
			src, fold.Horizon)
		return err
	})
}

func insertFold(tx *sql.Tx, src string, t *usage.Table) error {
	raw, err := t.AppendBinary(nil)
	if err != nil {
		return err
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	_, err = tx.Exec(`insert into folds(source, rows, body) values(?, ?, ?)`, src, t.Len(), enc.EncodeAll(raw, nil))
	return errors.Join(err, enc.Close())
}

// Seen returns the memory of which events of a source were counted.
func (s *Store) Seen(ctx context.Context, src string) *fold.Seen {
	return fold.NewSeen(func(d usage.Day) ([]uint64, error) {
		var out []uint64
		err := s.rows(ctx, func(scan func(...any) error) error {
			var blob sql.RawBytes
			if err := scan(&blob); err != nil {
				return err
			}
			for ; len(blob) >= 8; blob = blob[8:] {
				out = append(out, binary.LittleEndian.Uint64(blob))
			}
			return nil
		}, `select events from seen where source = ? and day = ?`, src, d)
		return out, err
	})
}

// merge folds batches of a source into a table: those of some ids.
func (s *Store) merge(ctx context.Context, src string, ids []int64) (*usage.Table, error) {
	t := &usage.Table{}
	return t, s.eachFold(ctx, src, ids, t.MergeBinary)
}

// eachFold yields the tables of the batches of a source: those of some ids, or all for none. The next one is read and
// unpacked meanwhile.
func (s *Store) eachFold(ctx context.Context, src string, ids []int64, do func(table []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	tables, spent := make(chan []byte), make(chan []byte, 2)
	var readErr error // once tables is closed
	go func() {
		defer close(tables)
		readErr = s.readFolds(ctx, src, ids, func(body []byte, dec *zstd.Decoder) error {
			var room []byte
			select {
			case room = <-spent:
			default:
			}
			raw, err := dec.DecodeAll(body, room[:0])
			if err != nil {
				return damagedUses(src, err)
			}
			select {
			case tables <- raw:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	for raw := range tables {
		if err := do(raw); err != nil {
			cancel()
			for range tables { // until it has stopped reading
			}
			return damagedUses(src, err)
		}
		select {
		case spent <- raw:
		default:
		}
	}
	return readErr
}

func damagedUses(src string, err error) error {
	return fmt.Errorf("%w: uses of source %s: %v", ErrDamaged, src, err)
}

func (s *Store) readFolds(ctx context.Context, src string, ids []int64,
	do func(body []byte, dec *zstd.Decoder) error) error {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer dec.Close()
	return s.rows(ctx, func(scan func(...any) error) error {
		var id int64
		var body sql.RawBytes
		if err := scan(&id, &body); err != nil {
			return err
		}
		if ids != nil && !slices.Contains(ids, id) {
			return nil
		}
		return do(body, dec)
	}, `select id, body from folds where source = ? order by id`, src)
}

const (
	manyFolds = 8       // batches of a source, from which on some are merged
	mostRows  = 400_000 // uses of a merged batch: merging must not need more memory than folding
)

// Compact merges batches of a source when there are many, the smallest first. What
// they fold to stays the same.
func (s *Store) Compact(ctx context.Context, src string) error {
	type batch struct {
		id   int64
		rows int
	}
	var all []batch
	err := s.rows(ctx, func(scan func(...any) error) error {
		var b batch
		err := scan(&b.id, &b.rows)
		all = append(all, b)
		return err
	}, `select id, rows from folds where source = ? order by rows, id`, src)
	if err != nil || len(all) < manyFolds {
		return err
	}
	var ids []int64
	for sum := 0; len(ids) < len(all) && sum+all[len(ids)].rows <= mostRows; {
		sum += all[len(ids)].rows
		ids = append(ids, all[len(ids)].id)
	}
	if len(ids) < 2 {
		return nil
	}
	t, err := s.merge(ctx, src, ids)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		for _, id := range ids {
			r, err := tx.Exec(`delete from folds where id = ?`, id)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n != 1 {
				return errors.Join(err, errors.New("another process merged the uses meanwhile; run the survey again"))
			}
		}
		return insertFold(tx, src, t)
	})
}

// Rows returns how many rows the batches of a source have together: at least as many as it has uses.
func (s *Store) Rows(ctx context.Context, src string) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `select coalesce(sum(rows), 0) from folds where source = ?`, src).Scan(&n)
	return n, explain(err)
}

// UsesMark tells what is held of the logs of a source at one time from what is at others.
func (s *Store) UsesMark(ctx context.Context, src string) (string, error) {
	h := sha256.New()
	err := s.rows(ctx, func(scan func(...any) error) error {
		var id, rows, size int64
		err := scan(&id, &rows, &size)
		fmt.Fprintln(h, id, rows, size)
		return err
	}, `select id, rows, length(body) from folds where source = ? order by id`, src)
	if err != nil {
		return "", err
	}
	logs, err := s.LogState(ctx, src)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(h, "%q\n", fmt.Sprint(logs))
	mark, err := s.SightingsMark(ctx, src)
	if err != nil {
		return "", err
	}
	fmt.Fprintln(h, mark)
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Uses returns all uses of a source, in the order of their keys.
func (s *Store) Uses(ctx context.Context, src string) (*usage.Uses, error) {
	n, err := s.Rows(ctx, src)
	if err != nil {
		return nil, err
	}
	g := &usage.Gather{}
	g.Expect(n)
	if err := s.eachFold(ctx, src, nil, g.AddBinary); err != nil {
		return nil, err
	}
	return g.Uses(), nil
}

// Rejected returns the records of a source's log that were set aside, oldest file
// first, and how many there are in all; of very many only the first are kept.
func (s *Store) Rejected(ctx context.Context, src string, limit int) ([]source.Reject, int64, error) {
	var out []source.Reject
	state, err := s.LogState(ctx, src)
	if err != nil {
		return nil, 0, err
	}
	err = s.rows(ctx, func(scan func(...any) error) error {
		var r source.Reject
		err := scan(&r.File, &r.Line, &r.Why)
		out = append(out, r)
		return err
	}, `select file, line, why from rejected where source = ? order by file, line limit ?`, src, limit)
	return out, state.Rejected, err
}

// Tallies returns counts of records by name: of kind "format" or "skipped".
func (s *Store) Tallies(ctx context.Context, src, kind string) (map[string]int64, error) {
	out := map[string]int64{}
	err := s.rows(ctx, func(scan func(...any) error) error {
		var name string
		var n int64
		err := scan(&name, &n)
		out[name] = n
		return err
	}, `select name, n from tallies where source = ? and kind = ?`, src, kind)
	return out, err
}

// Examples returns a record for each operation that was no permission of the
// catalogue when it was met first.
func (s *Store) Examples(ctx context.Context, src string) (map[model.Permission]fold.Unmapped, error) {
	out := map[model.Permission]fold.Unmapped{}
	err := s.rows(ctx, func(scan func(...any) error) error {
		var text string
		var u fold.Unmapped
		if err := scan(&text, &u.File, &u.Line, &u.Example); err != nil {
			return err
		}
		p, err := model.ParsePermission(text)
		if err != nil {
			return fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		u.Permission = p
		out[p] = u
		return nil
	}, `select permission, file, line, example from unmapped where source = ?`, src)
	return out, err
}

var _ uses.Holder = (*Store)(nil)

// Cursor returns the cursor behind the last batch of a source.
func (s *Store) Cursor(ctx context.Context, src string) (string, error) {
	l, err := s.LogState(ctx, src)
	return l.Cursor, err
}

// Groups answers [usage.GroupBy] over all uses of a source.
func (s *Store) Groups(ctx context.Context, src string, f *usage.Filter, by []usage.Field) ([]usage.Group, error) {
	all, err := s.Uses(ctx, src)
	if err != nil {
		return nil, err
	}
	return usage.GroupBy(all.All(), f, by, nil), nil
}
