package sandbox

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the state survives a restart
)

// Errors that callers decide on.
var (
	ErrNotFound     = errors.New("no such document")
	ErrPrecondition = errors.New("precondition failed: the document is not the one you read")
	ErrBadDocument  = errors.New("document refused")
	ErrOtherFormat  = errors.New("its documents are of another version")
)

type doc struct {
	etag      string
	body      []byte // nil: deleted
	visibleAt time.Time
	before    *doc // what is visible until then
}

// at returns the version that is visible at now, or nil.
func (d *doc) at(now time.Time) *doc {
	for d != nil && now.Before(d.visibleAt) {
		d = d.before
	}
	if d == nil || d.body == nil {
		return nil
	}
	return d
}

// docFormat is the version of the documents in the folder; of the first one no folder
// names it.
const docFormat = 2

// A Cloud is one Mooring, kept in a folder.
type Cloud struct {
	Now func() time.Time

	dir string
	db  *sql.DB

	mu       sync.Mutex
	docs     map[string]map[string]*doc
	tokens   map[string]string // hash of token -> identity
	revision int64
	instance string        // tells this Mooring from every other
	delay    time.Duration // until a change is visible
	faults   Faults
	world    *World
	worldTil time.Time // the world is stale from then on; zero: never
}

// Open opens the Mooring in a folder, and makes an empty one where there is none.
func Open(dir string) (*Cloud, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	dsn := "file:" + (&url.URL{Path: filepath.ToSlash(filepath.Join(dir, "mooring.db"))}).EscapedPath() +
		"?_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=busy_timeout(5000)"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	c := &Cloud{Now: time.Now, dir: dir, db: db, docs: map[string]map[string]*doc{}, tokens: map[string]string{}}
	for _, k := range Kinds {
		c.docs[k] = map[string]*doc{}
	}
	if err := c.load(); err != nil {
		return nil, errors.Join(fmt.Errorf("mooring in %s: %w", dir, err), db.Close())
	}
	return c, nil
}

// Close gives the folder back.
func (c *Cloud) Close() error { return c.db.Close() }

// AuditDir returns the folder of the audit log.
func (c *Cloud) AuditDir() string { return filepath.Join(c.dir, "audit") }

func (c *Cloud) load() error {
	var format, tables int
	if err := errors.Join(c.db.QueryRow(`pragma user_version`).Scan(&format),
		c.db.QueryRow(`select count(*) from sqlite_master`).Scan(&tables)); err != nil {
		return err
	}
	if tables > 0 && format != docFormat {
		return fmt.Errorf("%w (%d; this program knows %d): make a fresh one with: clipfence sandbox generate",
			ErrOtherFormat, format, docFormat)
	}
	_, err := c.db.Exec(fmt.Sprintf(`pragma user_version = %d;`, docFormat) + `
		create table if not exists docs(kind text, id text, body blob, primary key(kind, id)) without rowid;
		create table if not exists tokens(hash text primary key, identity text) without rowid;
		create table if not exists meta(name text primary key, value text) without rowid;`)
	if err != nil {
		return err
	}
	err = each(c.db, `select kind, id, body from docs`, func(scan func(...any) error) error {
		var kind, id string
		var body []byte
		if err := scan(&kind, &id, &body); err != nil {
			return err
		}
		if c.docs[kind] == nil {
			return fmt.Errorf("unknown kind of document %q: made by a newer Mooring?", kind)
		}
		c.docs[kind][id] = &doc{etag: etagOf(body), body: body}
		return nil
	})
	if err != nil {
		return err
	}
	err = each(c.db, `select hash, identity from tokens`, func(scan func(...any) error) error {
		var hash, id string
		if err := scan(&hash, &id); err != nil {
			return err
		}
		c.tokens[hash] = id
		return nil
	})
	if err != nil {
		return err
	}
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	if _, err := c.db.Exec(`insert or ignore into meta values('instance', ?)`, hex.EncodeToString(b[:])); err != nil {
		return err
	}
	if err := c.db.QueryRow(`select value from meta where name = 'instance'`).Scan(&c.instance); err != nil {
		return err
	}
	err = c.db.QueryRow(`select value from meta where name = 'revision'`).Scan(&c.revision)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

func each(db *sql.DB, query string, row func(scan func(...any) error) error) error {
	rows, err := db.Query(query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := row(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

func etagOf(body []byte) string {
	h := sha256.Sum256(body)
	return `"` + hex.EncodeToString(h[:8]) + `"`
}

// Fill writes documents and tokens at once, without preconditions, checks of
// rights or log entries: it founds an estate.
func (c *Cloud) Fill(docs map[string][]any, tokens map[string]string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	tx, err := c.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	put, err := tx.Prepare(`insert or replace into docs values(?, ?, ?)`)
	if err != nil {
		return err
	}
	for kind, list := range docs {
		for _, d := range list {
			body, err := json.Marshal(d)
			if err != nil {
				return err
			}
			if _, err := put.Exec(kind, key(d), body); err != nil {
				return err
			}
			c.docs[kind][key(d)] = &doc{etag: etagOf(body), body: body}
		}
	}
	for token, id := range tokens {
		if _, err := tx.Exec(`insert or replace into tokens values(?, ?)`, tokenHash(token), id); err != nil {
			return err
		}
		c.tokens[tokenHash(token)] = id
	}
	c.revision++
	if _, err := tx.Exec(`insert or replace into meta values('revision', ?)`, c.revision); err != nil {
		return err
	}
	c.world = nil
	return tx.Commit()
}

func tokenHash(token string) string {
	h := sha256.Sum256([]byte(token))
	return hex.EncodeToString(h[:])
}

// NewToken returns a fresh bearer token.
func NewToken() string { return "moor-" + rand.Text() }

// put writes (or with a nil body deletes) a document. want is the ETag that must
// be there now: "" for none, "*" for any or none.
func (c *Cloud) put(kind, id string, body []byte, want string) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.Now()
	old := c.docs[kind][id]
	have := ""
	if old != nil && old.body != nil {
		have = old.etag
	}
	switch {
	case body == nil && have == "":
		return "", ErrNotFound
	case want != "*" && want != have:
		return "", fmt.Errorf("%w (it has %s now)", ErrPrecondition, cmpOr(have, "no version"))
	}
	if bytes.Equal(body, bodyOf(old)) {
		return have, nil
	}
	tx, err := c.db.Begin()
	if err != nil {
		return "", err
	}
	defer tx.Rollback()
	if body == nil {
		_, err = tx.Exec(`delete from docs where kind = ? and id = ?`, kind, id)
	} else {
		_, err = tx.Exec(`insert or replace into docs values(?, ?, ?)`, kind, id, body)
	}
	if err == nil {
		_, err = tx.Exec(`insert or replace into meta values('revision', ?)`, c.revision+1)
	}
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return "", err
	}
	c.revision++
	d := &doc{body: body, visibleAt: now.Add(c.delay), before: old}
	if body != nil {
		d.etag = etagOf(body)
	}
	c.docs[kind][id] = d
	c.world = nil
	return d.etag, nil
}

func bodyOf(d *doc) []byte {
	if d == nil {
		return nil
	}
	return d.body
}

func cmpOr(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

// An Item is a document with its ETag, as the bridge protocol lists it.
type Item struct {
	ID    string          `json:"id"`
	ETag  string          `json:"etag"`
	Value json.RawMessage `json:"value"`
}

// Get returns a visible document.
func (c *Cloud) Get(kind, id string) (Item, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	d := c.docs[kind][id].at(c.Now())
	if d == nil {
		return Item{}, ErrNotFound
	}
	return Item{id, d.etag, d.body}, nil
}

// list returns visible documents after an id, in order.
func (c *Cloud) list(kind, after string, limit int) (items []Item, more bool, revision int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.Now()
	ids := make([]string, 0, len(c.docs[kind]))
	for id, d := range c.docs[kind] {
		if id > after && d.at(now) != nil {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	if len(ids) > limit {
		ids, more = ids[:limit], true
	}
	for _, id := range ids {
		d := c.docs[kind][id].at(now)
		items = append(items, Item{id, d.etag, d.body})
	}
	return items, more, c.revision
}

// World returns the visible state as the evaluator sees it.
func (c *Cloud) World() (*World, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.Now()
	if c.world != nil && (c.worldTil.IsZero() || now.Before(c.worldTil)) {
		return c.world, nil
	}
	w := NewWorld()
	c.worldTil = time.Time{}
	for kind, docs := range c.docs {
		for _, id := range sortedKeys(docs) {
			d := docs[id]
			if now.Before(d.visibleAt) && (c.worldTil.IsZero() || d.visibleAt.Before(c.worldTil)) {
				c.worldTil = d.visibleAt
			}
			if d = d.at(now); d == nil {
				continue
			}
			v := blank(kind)
			if err := json.Unmarshal(d.body, v); err != nil {
				return nil, fmt.Errorf("%s %q: %w", kind, id, err)
			}
			w.Add(v)
		}
	}
	c.world = w
	return w, nil
}

func sortedKeys(m map[string]*doc) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// NewWorld returns an empty world.
func NewWorld() *World {
	return &World{Nodes: map[string]*Node{}, Identities: map[string]*Identity{}, Roles: map[string]*Role{},
		LogSettings: map[string]*LogSetting{}, Catalogue: map[string]*Permission{}}
}

// Add puts a document into a world that is still being made.
func (w *World) Add(v any) {
	switch d := v.(type) {
	case *Node:
		w.Nodes[d.Path] = d
	case *Identity:
		w.Identities[d.ID] = d
	case *Membership:
		w.Memberships = append(w.Memberships, d)
	case *ActAs:
		w.ActAs = append(w.ActAs, d)
	case *Permission:
		w.Catalogue[d.Permission] = d
	case *Role:
		w.Roles[d.Name] = d
	case *Grant:
		w.Grants = append(w.Grants, d)
	case *Denial:
		w.Denials = append(w.Denials, d)
	case *Ceiling:
		w.Ceilings = append(w.Ceilings, d)
	case *Guardrail:
		w.Guardrails = append(w.Guardrails, d)
	case *LogSetting:
		w.LogSettings[d.Node] = d
	}
}

// Root returns the shortest node path: the harbour.
func (w *World) Root() string {
	root := ""
	for p := range w.Nodes {
		if root == "" || len(p) < len(root) || len(p) == len(root) && p < root {
			root = p
		}
	}
	return root
}

// Logged reports whether a call at a path is written to the audit log: the
// switch of the nearest setting is on and its writer may write there. Where no setting
// says anything, looking is not logged and the rest is.
func (w *World) Logged(path, service, class string, at time.Time) bool {
	for p := path; p != ""; p = p[:strings.LastIndexByte(p, '/')] {
		s := w.LogSettings[p]
		if s == nil {
			continue
		}
		for _, l := range s.Logs {
			if l.Service == service && l.LogClass == class {
				if !l.Written {
					return false
				}
				return s.Writer == "" || w.Decide(s.Writer, Rights["log:write"], p, CallContext{Time: at}).Allowed
			}
		}
	}
	return class != ClassLooking
}

// Record writes a call to the audit log when its class is logged there.
func (c *Cloud) Record(w *World, at time.Time, who, as, permission, path string, v Verdict, network string,
	mfa bool) error {
	class := ClassSteering
	if p := w.Catalogue[permission]; p != nil {
		class = p.LogClass
	}
	service, _, _ := strings.Cut(permission, "/")
	if !w.Logged(path, service, class, at) {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return AppendEvent(c.AuditDir(), NewEvent("mo-"+rand.Text(), at, who, as, permission, path, class, v, network,
		mfa))
}

// check reports why a document cannot stand, or nil. It returns the document in
// its canonical form.
func (w *World) check(kind, id string, body []byte) (any, []byte, error) {
	v := blank(kind)
	if v == nil {
		return nil, nil, fmt.Errorf("%w: no collection %q", ErrBadDocument, kind)
	}
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.DisallowUnknownFields()
	if err := dec.Decode(v); err != nil {
		return nil, nil, fmt.Errorf("%w: %v", ErrBadDocument, err)
	}
	if key(v) != id {
		return nil, nil, fmt.Errorf("%w: it names itself %q, the address says %q", ErrBadDocument, key(v), id)
	}
	bad := func(format string, args ...any) (any, []byte, error) {
		return nil, nil, fmt.Errorf("%w: %s", ErrBadDocument, fmt.Sprintf(format, args...))
	}
	known := func(who string) bool { return who == "everyone" || who == "signed-in" || w.Identities[who] != nil }
	switch d := v.(type) {
	case *Grant:
		switch {
		case !known(d.To):
			return bad("no identity %q", d.To)
		case d.Role != "" && w.Roles[d.Role] == nil:
			return bad("no role %q", d.Role)
		case (d.Role == "") == (len(d.Do) == 0):
			return bad("a grant has a role or permissions, one of the two")
		case len(d.Where) == 0:
			return bad("a grant names at least one place")
		}
	case *Role:
		if old := w.Roles[d.Name]; d.Builtin || old != nil && old.Builtin {
			return bad("built-in roles cannot be made or changed")
		}
		for _, p := range d.Do {
			if !strings.Contains(p, "*") && w.Catalogue[p] == nil {
				return bad("no permission %q", p)
			}
		}
	case *Membership:
		if !known(d.Member) || w.Identities[d.Group] == nil || !strings.HasPrefix(d.Group, "group/") {
			return bad("no identity %q or no group %q", d.Member, d.Group)
		}
	case *Permission:
		return bad("the catalogue cannot be changed")
	}
	canonical, err := json.Marshal(v)
	return v, canonical, err
}

// wait waits, unless the client goes away.
func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// SetFaults switches troubles on from inside the process, as a PUT of the faults
// does from outside.
func (c *Cloud) SetFaults(f Faults) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.faults = f
	c.delay = time.Duration(f.VisibleAfterMS) * time.Millisecond
}
