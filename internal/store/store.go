package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"modernc.org/sqlite" // the driver, and its error type
	sqlite3 "modernc.org/sqlite/lib"

	"clipfence/internal/core/model"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
)

// Errors that callers decide on.
var (
	// ErrNewer: a newer Clip Fence made this store.
	ErrNewer = errors.New("workspace was made by a newer clipfence")
	// ErrDamaged: the file is no store, or no longer one.
	ErrDamaged = errors.New("store is damaged")
	// ErrUnwritable: the file could not be written; nothing of the attempt is kept.
	ErrUnwritable = errors.New("workspace could not be written (is the disk full?); what was kept before is whole")
	// ErrNone: what was asked for is not there.
	ErrNone = errors.New("not in the store")
)

// A migration brings a store from one version to the next.
type migration struct {
	sql  string
	then func(*sql.Tx) error // what SQL cannot say; may be nil
}

// migrations are never changed once released, only added to.
var migrations = []migration{{sql: `
create table surveys(id integer primary key, source text not null, started text not null, finished text, cursor text not null default '', version text not null default '');
create table records(survey integer not null, kind text not null, id text not null, etag text not null, value blob not null, primary key(survey, kind, id)) without rowid;
create table folds(id integer primary key, source text not null, rows integer not null, body blob not null);
create index folds_of on folds(source);
create table seen(source text not null, day integer not null, part integer not null, events blob not null, primary key(source, day, part)) without rowid;
create table logs(source text primary key, cursor text not null, first integer not null, last integer not null, lines integer not null, rejected integer not null, repeated integer not null) without rowid;
create table rejected(source text not null, file text not null, line integer not null, why text not null, primary key(source, file, line)) without rowid;
create table tallies(source text not null, kind text not null, name text not null, n integer not null, primary key(source, kind, name)) without rowid;
create table unmapped(source text not null, permission text not null, file text not null, line integer not null, example text not null, primary key(source, permission)) without rowid;
create table waivers(finding text primary key, reason text not null, by text not null, until text not null, at text not null) without rowid;
create table gates(id text primary key, body blob not null) without rowid;
create table settings(name text primary key, value text not null) without rowid;
`}, {sql: `
alter table records add column format integer not null default 2;
alter table gates add column format integer not null default 2;
`, then: toFormat2}, {sql: `
create table origins(source text not null, file text not null, maps text not null, by_hand integer not null, lines integer not null, rejected integer not null, tallies blob not null, days blob not null, gone integer not null default 0, primary key(source, file, maps, by_hand)) without rowid;
insert into origins select source, '', '', 0, lines, rejected, (select coalesce(json_group_object(kind || ':' || name, n), '{}') from tallies where tallies.source = logs.source), x'', 0 from logs;
`}, {sql: `
create table ledger(n integer primary key, kind text not null, hash text not null, starts integer not null, line blob not null);
create index ledger_kinds on ledger(kind);
create unique index ledger_starts on ledger(starts);
alter table gates add column version integer not null default 1;
alter table waivers add column signature text not null default '';
create table leases(source text primary key, holder text not null, change text not null, until text not null) without rowid;
`}, {sql: `
create table held(source text not null, kind text not null, id text not null, first integer not null,
	last integer not null, value blob not null, format integer not null,
	primary key(source, kind, id, first)) without rowid;
alter table surveys add column records integer not null default 0;
`, then: toHeld}, {
	sql: `select 1`, // the folds may hold tables that know hours, which no earlier program reads
}, {sql: `
create table groups(source text not null, identity text not null, grp text not null, first integer not null,
	last integer not null, primary key(source, identity, grp)) without rowid;
`}, {sql: `
create table past_nodes(source text not null, id text not null, until text not null,
	primary key(source, id)) without rowid;
`}, {sql: `
create index held_gone on held(source, kind) where ` + gone + `;
`}}

// Surveys are kept as what holds from one to another: a row says of a record from which
// survey on it was so, and to which (forever: it still is). So twenty surveys of an estate
// that does not change cost hardly more than one. While a survey is read its records lie in a
// table of their own; finishing it compares the two, in one transaction.

// forever is the last survey of what still holds.
const forever = math.MaxInt64

// hold makes the records of a survey those that hold, from it on; prev is the finished one
// before it, or 0.
func hold(tx *sql.Tx, src string, survey, prev int64) error {
	const still = int64(forever)
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{`update held set last = ? where source = ? and last = ? and not exists (select 1 from records r where
			r.survey = ? and r.kind = held.kind and r.id = held.id and r.value = held.value and r.format = held.format)`,
			[]any{prev, src, still, survey}},
		{`insert into held select ?1, kind, id, ?2, ?3, value, format from records r where r.survey = ?2 and not exists
			(select 1 from held h where h.source = ?1 and h.kind = r.kind and h.id = r.id and h.last = ?3)`,
			[]any{src, survey, still}},
		{`update surveys set records = (select count(*) from records where survey = ?1) where id = ?1`, []any{survey}},
		{`delete from records where survey = ?`, []any{survey}},
	} {
		if _, err := tx.Exec(q.sql, q.args...); err != nil {
			return err
		}
	}
	return nil
}

// toHeld turns the surveys that were kept as whole copies into what holds.
func toHeld(tx *sql.Tx) error {
	type survey struct {
		id  int64
		src string
	}
	var all []survey
	rows, err := tx.Query(`select id, source from surveys where finished is not null order by id`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var v survey
		if err := rows.Scan(&v.id, &v.src); err != nil {
			return err
		}
		all = append(all, v)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	prev := map[string]int64{}
	for _, v := range all {
		if err := hold(tx, v.src, v.id, prev[v.src]); err != nil {
			return err
		}
		prev[v.src] = v.id
	}
	return nil
}

// toFormat2 brings records and gate requests to the words of [source.FormatVersion] 2.
func toFormat2(tx *sql.Tx) error {
	for _, kind := range []string{source.Permissions, source.Grants, source.Denials, source.Ceilings,
		source.Coverage} {
		err := rewrite(tx, `select survey, id, value from records where kind = '`+kind+`'`,
			`update records set value = ? where kind = '`+kind+`' and survey = ? and id = ?`,
			func(v []byte) ([]byte, error) { return source.FromV1(kind, v) })
		if err != nil {
			return err
		}
	}
	return rewrite(tx, `select 0, id, body from gates`, `update gates set body = ? where ? = 0 and id = ?`,
		func(v []byte) ([]byte, error) { return source.GateFromV1(v) })
}

// rewrite replaces one value of each row that a query finds by a number and a text.
func rewrite(tx *sql.Tx, find, put string, f func([]byte) ([]byte, error)) error {
	type row struct {
		n    int64
		id   string
		body []byte
	}
	var all []row
	rows, err := tx.Query(find)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r row
		if err := rows.Scan(&r.n, &r.id, &r.body); err != nil {
			return err
		}
		all = append(all, r)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	st, err := tx.Prepare(put)
	if err != nil {
		return err
	}
	defer st.Close()
	for _, r := range all {
		body, err := f(r.body)
		if err != nil {
			return fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		if _, err := st.Exec(body, r.n, r.id); err != nil {
			return err
		}
	}
	return nil
}

// A Store is an open store.
type Store struct {
	// Before is the copy that was kept when the store was brought up to date just now;
	// empty when it was of this version already.
	Before string

	file string
	db   *sql.DB
}

// Open opens the store in a file, makes it where there is none, and brings an
// older one up to date.
func Open(ctx context.Context, file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnwritable, err)
	}
	// The driver would make it as everybody's to read; its side files follow it.
	if f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600); err == nil {
		if err := errors.Join(f.Chmod(0o600), f.Close()); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrUnwritable, err)
		}
	} else if _, serr := os.Stat(file); serr != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnwritable, err)
	}
	u := url.URL{Scheme: "file", OmitHost: true, Path: filepath.ToSlash(file)}
	db, err := sql.Open("sqlite", u.String()+
		"?_pragma=journal_mode(wal)&_pragma=synchronous(full)"+
		"&_pragma=busy_timeout(10000)&_pragma=foreign_keys(on)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s := &Store{file: file, db: db}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", file, explain(err)), db.Close())
	}
	return s, nil
}

// OpenToRead opens a store on a disk that is full, or in a folder that cannot be written:
// what has to be closed must be found there all the same. Nothing can be kept in it. Whole says that all that was
// kept must be read: what a process that died left in a side file can be where the folder is written alone.
func OpenToRead(ctx context.Context, file string, whole bool) (*Store, error) {
	var errs []error
	for _, mode := range []string{"mode=ro", "mode=ro&immutable=1"} { // the first wants side files, or makes them
		if side, err := os.Stat(file + "-wal"); whole && len(errs) > 0 && err == nil && side.Size() > 0 {
			errs = append(errs, fmt.Errorf("%w: a part of it is still in %s-wal; run any command where the folder "+
				"can be written, or copy the folder", ErrUnwritable, filepath.Base(file)))
			break
		}
		u := url.URL{Scheme: "file", OmitHost: true, Path: filepath.ToSlash(file)}
		db, err := sql.Open("sqlite", u.String()+"?"+mode+"&_pragma=busy_timeout(10000)")
		if err != nil {
			return nil, err
		}
		db.SetMaxOpenConns(1)
		var version, n int
		if err = db.QueryRowContext(ctx, `pragma user_version`).Scan(&version); err == nil &&
			version == len(migrations) {
			err = db.QueryRowContext(ctx, `select count(*) from gates`).Scan(&n)
		} else if err == nil {
			err = fmt.Errorf("it is of version %d, and cannot be brought up to date", version)
		}
		if err == nil {
			return &Store{file: file, db: db}, nil
		}
		errs = append(errs, explain(err), db.Close())
	}
	return nil, fmt.Errorf("%s: %w", file, errors.Join(errs...))
}

// explain marks the driver's errors that mean a broken file.
func explain(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) {
		switch e.Code() & 0xff {
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
			return fmt.Errorf("%w: %w", ErrDamaged, err)
		case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN,
			sqlite3.SQLITE_PERM:
			return fmt.Errorf("%w: %w", ErrUnwritable, err)
		}
	}
	return err
}

func (s *Store) migrate(ctx context.Context) error {
	var version int
	if err := s.db.QueryRowContext(ctx, `pragma user_version`).Scan(&version); err != nil {
		return err
	}
	if version > len(migrations) {
		return fmt.Errorf("%w (version %d; this program knows %d): use that one, or a fresh folder", ErrNewer, version,
			len(migrations))
	}
	if version == len(migrations) {
		return nil
	}
	if version > 0 {
		if err := s.keepCopy(ctx, version); err != nil {
			return fmt.Errorf("keeping a copy of the store before it is brought up to date: %w", err)
		}
	}
	// All at once: a store is of one version or of another, whenever the program dies.
	return s.tx(ctx, func(tx *sql.Tx) error {
		var now int // another process may have been faster
		if err := tx.QueryRow(`pragma user_version`).Scan(&now); err != nil {
			return err
		}
		for ; now < len(migrations); now++ {
			if _, err := tx.Exec(migrations[now].sql); err != nil {
				return err
			}
			if f := migrations[now].then; f != nil {
				if err := f(tx); err != nil {
					return err
				}
			}
		}
		_, err := tx.Exec(fmt.Sprintf(`pragma user_version = %d`, len(migrations)))
		return err
	})
}

// keepCopy writes the store as it is beside itself, under the version that it has. A
// copy that is there already stays: it is of the same version, and older.
func (s *Store) keepCopy(ctx context.Context, version int) error {
	name := fmt.Sprintf("%s.version-%d", s.file, version)
	if _, err := os.Stat(name); err == nil {
		return nil
	}
	part := name + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := s.db.ExecContext(ctx, `vacuum into ?`, part); err != nil {
		return explain(err)
	}
	if err := os.Chmod(part, 0o600); err != nil {
		return err
	}
	s.Before = name
	return os.Rename(part, name)
}

// Close closes the file.
func (s *Store) Close() error { return s.db.Close() }

func (s *Store) tx(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return explain(err)
	}
	if err := f(tx); err != nil {
		return errors.Join(explain(err), ignoreDone(tx.Rollback()))
	}
	return explain(tx.Commit())
}

// ignoreDone drops the error of rolling back what has ended by itself.
func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// rows runs a query and calls f once a row.
func (s *Store) rows(ctx context.Context, f func(scan func(...any) error) error, query string, args ...any) error {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows.Scan); err != nil {
			return err
		}
	}
	return explain(rows.Err())
}

// A Survey is one reading of a source.
type Survey struct {
	ID       int64     `json:"id"`
	Source   string    `json:"source"`
	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished,omitzero"`
	Cursor   string    `json:"-"`
	Version  string    `json:"version"`
	Records  int       `json:"records"`
}

// stamp reads a time as the store keeps it; one that it cannot have kept is [ErrDamaged].
func stamp(text string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		err = fmt.Errorf("%w: a time: %v", ErrDamaged, err)
	}
	return t, err
}

func stamps(v *Survey, started, finished string) (err error) {
	if v.Started, err = stamp(started); err == nil {
		v.Finished, err = stamp(finished)
	}
	return err
}

// Unfinished returns the survey of a source that was interrupted, if any.
func (s *Store) Unfinished(ctx context.Context, src string) (Survey, bool, error) {
	v := Survey{Source: src}
	var started string
	err := s.db.QueryRowContext(ctx,
		`select id, started, cursor, version from surveys where source = ? and finished is null order by id desc limit 1`, src).
		Scan(&v.ID, &started, &v.Cursor, &v.Version)
	if errors.Is(err, sql.ErrNoRows) {
		return v, false, nil
	}
	if err != nil {
		return v, false, explain(err)
	}
	v.Started, err = stamp(started)
	return v, err == nil, err
}

// BeginSurvey starts a survey and drops unfinished ones of the same source.
func (s *Store) BeginSurvey(ctx context.Context, src string, now time.Time) (Survey, error) {
	v := Survey{Source: src, Started: now}
	err := s.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.Exec(
			`delete from records where survey in (select id from surveys where source = ? and finished is null)`,
			src); err != nil {
			return err
		}
		if _, err := tx.Exec(`delete from surveys where source = ? and finished is null`, src); err != nil {
			return err
		}
		r, err := tx.Exec(`insert into surveys(source, started) values(?, ?)`, src, now.UTC().Format(time.RFC3339Nano))
		if err == nil {
			v.ID, err = r.LastInsertId()
		}
		return err
	})
	return v, err
}

// SaveBatch keeps a part of a survey together with the cursor behind it.
func (s *Store) SaveBatch(ctx context.Context, survey int64, b source.Batch) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		put, err := tx.Prepare(`insert or replace into records(survey, kind, id, etag, value) values(?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		for _, r := range b.Records {
			v, err := json.Marshal(r.Value)
			if err != nil {
				return err
			}
			if _, err := put.Exec(survey, r.Kind, r.ID, r.ETag, v); err != nil {
				return err
			}
		}
		_, err = tx.Exec(`update surveys set cursor = ?, version = ? where id = ?`, b.Cursor, b.Version, survey)
		return err
	})
}

// FinishSurvey makes a survey the newest one of its source. One that another process dropped
// meanwhile, because it began a survey of its own, is an error, and nothing changes.
func (s *Store) FinishSurvey(ctx context.Context, survey int64, now time.Time) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		var src string
		var prev int64
		err := tx.QueryRow(`select source, coalesce((select max(id) from surveys o where o.source = s.source and
			o.finished is not null), 0) from surveys s where id = ? and finished is null`, survey).Scan(&src, &prev)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("survey %d is not going on any more: another process surveyed the source; run it again",
				survey)
		}
		if err != nil {
			return err
		}
		if err := hold(tx, src, survey, prev); err != nil {
			return err
		}
		if _, err := tx.Exec(`update surveys set finished = ? where id = ?`, now.UTC().Format(time.RFC3339Nano),
			survey); err != nil {
			return err
		}
		return thin(tx, src, now)
	})
}

// Surveys lists the finished surveys, newest first. An empty source means all.
func (s *Store) Surveys(ctx context.Context, src string) ([]Survey, error) {
	var out []Survey
	err := s.rows(ctx, func(scan func(...any) error) error {
		var v Survey
		var started, finished string
		if err := scan(&v.ID, &v.Source, &started, &finished, &v.Version, &v.Records); err != nil {
			return err
		}
		if err := stamps(&v, started, finished); err != nil {
			return err
		}
		out = append(out, v)
		return nil
	}, `select id, source, started, finished, version, records
		from surveys where finished is not null and (?1 = '' or source = ?1) order by id desc`, src)
	return out, err
}

// Estate puts a survey together again; survey 0 is the newest finished one of
// the source. It returns [ErrNone] when there is none.
func (s *Store) Estate(ctx context.Context, src string, survey int64) (*model.Estate, Survey, error) {
	all, err := s.Surveys(ctx, src)
	if err != nil {
		return nil, Survey{}, err
	}
	var at *Survey
	for i := range all {
		if survey == 0 || all[i].ID == survey {
			at = &all[i]
			break
		}
	}
	if at == nil {
		if survey != 0 {
			return nil, Survey{}, fmt.Errorf("survey %d of source %q: %w", survey, src, ErrNone)
		}
		return nil, Survey{}, fmt.Errorf("source %q was never surveyed: %w", src, ErrNone)
	}
	e := &model.Estate{Source: src}
	err = s.rows(ctx, func(scan func(...any) error) error {
		var kind string
		var value []byte
		var format int
		if err := scan(&kind, &value, &format); err != nil {
			return err
		}
		if format != source.FormatVersion {
			return fmt.Errorf("%w: survey %d, a record of %s is of format %d", ErrDamaged, at.ID, kind, format)
		}
		if err := source.Parse(e, kind, value); err != nil {
			return fmt.Errorf("%w: survey %d, a record of %s: %v", ErrDamaged, at.ID, kind, err)
		}
		return nil
	}, `select kind, value, format from held where source = ?1 and first <= ?2 and last >= ?2 order by kind, id`, src,
		at.ID)
	return e, *at, err
}

// GoneNodes returns the path of every node that some survey of a source of the last year or so lists, and the
// newest one does not, each once.
func (s *Store) GoneNodes(ctx context.Context, src string) ([]model.Path, error) {
	var out []model.Path
	err := s.rows(ctx, func(scan func(...any) error) error {
		var text string
		if err := scan(&text); err != nil {
			return err
		}
		p, err := model.ParsePath(text)
		if err != nil {
			return fmt.Errorf("%w: a node: %v", ErrDamaged, err)
		}
		out = append(out, p)
		return nil
	}, `select id from (select id from held `+byGone+` where source = ?1 and kind = ?2 and `+gone+` union
		select id from past_nodes where source = ?1) as h where not exists
		(select 1 from held as now where now.source = ?1 and now.kind = ?2 and now.id = h.id and now.last = ?3)`,
		src, source.Nodes, int64(forever))
	return out, err
}

// A Gone is a grant that surveys showed, and that the newest one does not, or does not show so.
type Gone struct {
	model.Grant
	First, Last int64 // the surveys that showed it so
}

// GoneGrants returns the grants of a source that are gone or say something else now.
func (s *Store) GoneGrants(ctx context.Context, src string) ([]Gone, error) {
	var out []Gone
	err := s.held(ctx, src, source.Grants, gone, func(e *model.Estate, first, last int64) bool {
		for _, g := range e.Grants {
			out = append(out, Gone{g, first, last})
		}
		return len(e.Grants) == 1
	})
	return out, err
}

// Shown is a membership that surveys showed.
type Shown struct {
	model.Membership
	First, Last int64 // the surveys that showed it
}

// GoneMembers returns the memberships of a source that are gone.
func (s *Store) GoneMembers(ctx context.Context, src string) ([]Shown, error) {
	return s.members(ctx, src, gone)
}

// Joined returns the memberships of a source that stand, and that the first kept survey does not show.
func (s *Store) Joined(ctx context.Context, src string) ([]Shown, error) {
	return s.members(ctx, src, `last = ?3 and first > (select min(id) from surveys where source = ?1 and
		finished is not null)`)
}

func (s *Store) members(ctx context.Context, src, of string) ([]Shown, error) {
	var out []Shown
	err := s.held(ctx, src, source.Memberships, of, func(e *model.Estate, first, last int64) bool {
		for _, m := range e.Memberships {
			out = append(out, Shown{m, first, last})
		}
		return len(e.Memberships) == 1
	})
	return out, err
}

// EachShown yields the records of a kind that kept surveys showed, each in an estate of its own, with the surveys that
// showed it so, both included: the last of what still stands is greater than any.
func (s *Store) EachShown(ctx context.Context, src, kind string, do func(e *model.Estate, first, last int64)) error {
	return s.held(ctx, src, kind, `true`, func(e *model.Estate, first, last int64) bool {
		do(e, first, last)
		return true
	})
}

// EachNodeShown yields some nodes as [Store.EachShown] does.
func (s *Store) EachNodeShown(ctx context.Context, src string, of []model.Path,
	do func(e *model.Estate, first, last int64)) error {
	ids, err := json.Marshal(of)
	if err != nil {
		return err
	}
	return s.held(ctx, src, source.Nodes, `id in (select value from json_each(?4))`,
		func(e *model.Estate, first, last int64) bool {
			do(e, first, last)
			return len(e.Nodes) == 1
		}, string(ids))
}

// gone is what holds of a record that the newest survey does not show, in the words of the index of such, which is
// named where it is asked for: they are few, and it is not known to be.
const (
	gone   = `last < 9223372036854775807`
	byGone = `indexed by held_gone`
)

// held reads the records of a kind that kept surveys show, of those of which something holds, each in an
// estate of its own. Take says whether it is one. What holds may name one argument more, as ?4.
func (s *Store) held(ctx context.Context, src, kind, of string,
	take func(e *model.Estate, first, last int64) bool, more ...any) error {
	by := ""
	if of == gone {
		by = byGone
	}
	return s.rows(ctx, func(scan func(...any) error) error {
		var first, last int64
		var value []byte
		var format int
		if err := scan(&value, &format, &first, &last); err != nil {
			return err
		}
		e := &model.Estate{Source: src}
		if format != source.FormatVersion {
			return fmt.Errorf("%w: a record of %s is of format %d", ErrDamaged, kind, format)
		}
		if err := source.Parse(e, kind, value); err != nil || !take(e, first, last) {
			return fmt.Errorf("%w: a record of %s: %v", ErrDamaged, kind, err)
		}
		return nil
	}, `select value, format, first, last from held `+by+` where source = ?1 and kind = ?2 and `+of+`
		order by id, first`,
		append([]any{src, kind, int64(forever)}, more...)...)
}

// Differing returns what differs between two kept surveys of a source, each record once, by kind and id: Before is nil
// for what came, After for what went. Of a survey that is not kept it returns [ErrNone].
func (s *Store) Differing(ctx context.Context, src string, from, to int64) ([]source.Edited, error) {
	for _, survey := range []int64{from, to} {
		var n int
		err := s.db.QueryRowContext(ctx, `select count(*) from surveys where source = ? and id = ? and finished is not null`,
			src, survey).Scan(&n)
		if err == nil && n == 0 {
			err = fmt.Errorf("survey %d of source %q: %w", survey, src, ErrNone)
		}
		if err != nil {
			return nil, explain(err)
		}
	}
	var out []source.Edited
	err := s.rows(ctx, func(scan func(...any) error) error {
		var e source.Edited
		var value []byte
		var was, is bool
		if err := scan(&e.Kind, &e.ID, &value, &was, &is); err != nil {
			return err
		}
		if n := len(out); n == 0 || out[n-1].Kind != e.Kind || out[n-1].ID != e.ID {
			out = append(out, e)
		}
		if last := &out[len(out)-1]; is {
			last.After = value
		} else {
			last.Before = value
		}
		return nil
	}, `select kind, id, value, was, stands from (select kind, id, first, value, first <= ?2 and last >= ?2 as was,
		first <= ?3 and last >= ?3 as stands from held where source = ?1) where was <> stands order by kind, id, first`,
		src, from, to)
	return slices.DeleteFunc(out, func(e source.Edited) bool { // it was gone meanwhile
		return e.Before != nil && bytes.Equal(e.Before, e.After)
	}), err
}

// Setting returns a small value kept under a name, or "".
func (s *Store) Setting(ctx context.Context, name string) (string, error) {
	var v string
	err := s.db.QueryRowContext(ctx, `select value from settings where name = ?`, name).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, explain(err)
}

// SetSetting keeps a small value under a name.
func (s *Store) SetSetting(ctx context.Context, name, value string) error {
	_, err := s.db.ExecContext(ctx, `insert or replace into settings values(?, ?)`, name, value)
	return explain(err)
}

// A Waiver sets a finding aside.
type Waiver struct {
	Finding string    `json:"finding"`
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	Until   time.Time `json:"until"`
	At      time.Time `json:"at"`
	// Signature is by a key of whoever waived it; empty where the workspace knew no keys.
	Signature string `json:"signature,omitempty"`
}

// Waive keeps a waiver, in place of an older one for the same finding.
func (s *Store) Waive(p ledger.Page, w Waiver) error {
	_, err := p.(page).tx.Exec(
		`insert or replace into waivers(finding, reason, by, until, at, signature) values(?, ?, ?, ?, ?, ?)`,
		w.Finding, w.Reason, w.By, w.Until.UTC().Format(time.RFC3339), w.At.UTC().Format(time.RFC3339), w.Signature)
	return explain(err)
}

// Waivers returns the waivers by finding.
func (s *Store) Waivers(ctx context.Context) (map[string]Waiver, error) {
	out := map[string]Waiver{}
	err := s.rows(ctx, func(scan func(...any) error) error {
		var w Waiver
		var until, at string
		if err := scan(&w.Finding, &w.Reason, &w.By, &until, &at, &w.Signature); err != nil {
			return err
		}
		var err, aerr error
		w.Until, err = stamp(until)
		w.At, aerr = stamp(at)
		out[w.Finding] = w
		return errors.Join(err, aerr)
	}, `select finding, reason, by, until, at, signature from waivers`)
	return out, err
}

// Newest returns the newest finished survey of a source, without its count of records.
// It returns [ErrNone] when there is none.
func (s *Store) Newest(ctx context.Context, src string) (Survey, error) {
	v := Survey{Source: src}
	var started, finished string
	err := s.db.QueryRowContext(ctx,
		`select id, started, finished, version from surveys where source = ? and finished is not null order by id desc limit 1`, src).
		Scan(&v.ID, &started, &finished, &v.Version)
	if errors.Is(err, sql.ErrNoRows) {
		return v, fmt.Errorf("source %q was never surveyed: %w", src, ErrNone)
	}
	if err != nil {
		return v, explain(err)
	}
	return v, stamps(&v, started, finished)
}
