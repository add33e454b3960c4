// Package ledger keeps the append-only history of what was changed, asked and
// approved, and proves that nobody edited it or added to it.
//
// An [Entry] is one JSON line. Each carries the hash of the one before it, its own hash
// over everything else it holds, and a signature of that hash (Ed25519, RFC 8032) by a key
// that is kept outside the workspace: an edited, removed, moved or added line breaks the
// chain at a place that [Ledger.Read] names. The first key enrols itself; each further one
// is an entry that a person vouches for.
//
// An entry is committed in the [Book], in one transaction with whatever row it tells of,
// and the file is written from there before anything else is touched. So the file may be
// behind the book, after a crash, and is never ahead of it: what is ahead is forged. An
// append reads the head and the file's size, no matter how many entries there are.
//
// What no such proof can show is that an old book and an old file were put back together.
// A head that was kept elsewhere shows it: see [Head].
package ledger

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Errors that callers decide on.
var (
	// ErrBroken: the ledger is not what was written.
	ErrBroken = errors.New("ledger is damaged")
	// ErrKey: the key at hand is not one that the ledger knows.
	ErrKey = errors.New("this account's key is not one of the ledger's")
	// ErrStale: a row was changed since it was read, by somebody who was faster.
	ErrStale = errors.New("it was changed meanwhile")
	// ErrFile: an entry is committed, and the file could not be written.
	ErrFile = errors.New("the ledger's file could not be read or written")
	// ErrUnseen: nobody can say what the file holds, and nothing was written down.
	ErrUnseen = errors.New("the ledger's file could not be looked at, so nothing was written down")
)

// An Entry is one line of the ledger.
type Entry struct {
	Number int             `json:"n"` // from 1
	At     time.Time       `json:"at"`
	By     string          `json:"by"` // whose signature the entry tells of, or who ran the command
	Kind   string          `json:"kind"`
	Body   json.RawMessage `json:"body"`
	Prev   string          `json:"prev"` // hash of the entry before; empty for the first
	Hash   string          `json:"hash"`
	Key    string          `json:"key,omitempty"` // public key that signed, base64
	Sig    string          `json:"sig,omitempty"` // over the hash, base64
}

// sum is the hash of an entry: SHA-256 over its number, time, author, kind and
// body, each with its length, the hash before, and the key that signs it.
func (e *Entry) sum() string {
	h := sha256.New()
	parts := []string{e.Prev, fmt.Sprint(e.Number), e.At.UTC().Format(time.RFC3339Nano), e.By, e.Kind, string(e.Body)}
	if e.Key != "" {
		parts = append(parts, e.Key)
	}
	for _, part := range parts {
		fmt.Fprintf(h, "%d:%s", len(part), part)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// purpose keeps a signature of an entry from being one of anything else.
const purpose = "clipfence ledger entry 1\n"

func (e *Entry) sign(k ed25519.PrivateKey) {
	e.Sig = base64.StdEncoding.EncodeToString(ed25519.Sign(k, []byte(purpose+e.Hash)))
}

func (e *Entry) signed() bool {
	key, kerr := base64.StdEncoding.DecodeString(e.Key)
	sig, serr := base64.StdEncoding.DecodeString(e.Sig)
	return kerr == nil && serr == nil && len(key) == ed25519.PublicKeySize &&
		ed25519.Verify(key, []byte(purpose+e.Hash), sig)
}

// Public returns how a key is written in entries and pins.
func Public(k ed25519.PrivateKey) string {
	return base64.StdEncoding.EncodeToString(k.Public().(ed25519.PublicKey))
}

// A Head says where a ledger ends. Kept elsewhere, it proves later that nothing up to it
// was put back or taken away.
type Head struct {
	Number int    `json:"n"`
	Hash   string `json:"hash"`
	Size   int64  `json:"-"` // bytes of all lines
}

// A Book keeps the entries and commits them together with the rows that they tell of.
type Book interface {
	// Write runs f in one transaction, which no other process shares: everything that f
	// wrote is kept when f returns nil, and nothing otherwise.
	Write(ctx context.Context, f func(Page) error) error
	// Head returns where the ledger ends; the zero Head for an empty one.
	Head(ctx context.Context) (Head, error)
	// Lines returns the lines that end behind an offset into all of them, in order, and
	// where the first begins.
	Lines(ctx context.Context, behind int64) (lines [][]byte, begin int64, err error)
	// Earlier returns the head that an earlier program kept apart from the file,
	// "number hash", or "".
	Earlier(ctx context.Context) (string, error)
}

// A Page is a transaction of a [Book].
type Page interface {
	Head() (Head, error)
	// OfKind returns the lines of one kind, in order.
	OfKind(kind string) ([][]byte, error)
	Count(kind string) (int, error)
	// Put appends a line; the head is the one after it.
	Put(h Head, kind string, line []byte) error
}

// A Ledger is a ledger in a book and a file.
type Ledger struct {
	File string
	Book Book
	Now  func() time.Time
	By   string // who runs the command, as the system tells it
	// Key signs; nil signs nothing, which a ledger that knows a key does not take.
	Key ed25519.PrivateKey
	// NewKey brings Key when it is wanted first; may be nil.
	NewKey func() (ed25519.PrivateKey, error)
	// Vouched checks a person's word for a further key; nil trusts none.
	Vouched func(KeyEntry) error
	// Verified is a head up to which all signatures were checked before, as whoever keeps it
	// outside of the workspace says: up to there only the chain of hashes is checked, which
	// that head's hash binds. Where it is not the ledger's, everything is checked.
	Verified Head

	once  sync.Once
	noKey error

	mu   sync.Mutex
	last *chain // that was read last, and holds
}

// A chain is lines that were checked, one after the other.
type chain struct {
	entries []Entry
	lines   [][]byte
	size    int             // bytes of all lines
	known   map[string]bool // keys that were enrolled
	trusted int             // of so many the signatures were not checked
}

// grown checks what the store's ledger holds: of what was read before, and is there to the byte, only what came since.
func (l *Ledger) grown(data []byte) ([]Entry, [][]byte, error) {
	const name = "the store's ledger"
	l.mu.Lock()
	defer l.mu.Unlock()
	if c := l.last; c != nil && c.trusted <= l.Verified.Number && c.heads(data) {
		more := *c
		if l.check(data[c.size:], name, l.Verified, &more) == nil && more.leadsBy(l.Verified) {
			l.last = &more
			return slices.Clip(more.entries), slices.Clip(more.lines), nil
		}
	}
	c, err := l.parse(data, name)
	if l.last = nil; err == nil {
		l.last = c
	}
	return slices.Clip(c.entries), slices.Clip(c.lines), err
}

// leadsBy reports whether a head is one of the chain's; the zero one is of each.
func (c *chain) leadsBy(h Head) bool {
	return h.Number == 0 || h.Number <= len(c.entries) && c.entries[h.Number-1].Hash == h.Hash
}

// heads reports whether a text begins with what was checked.
func (c *chain) heads(data []byte) bool {
	if len(data) < c.size {
		return false
	}
	for _, line := range c.lines {
		if !bytes.HasPrefix(data, line) {
			return false
		}
		data = data[len(line):]
	}
	return true
}

// ready brings the key.
func (l *Ledger) ready() error {
	l.once.Do(func() {
		if l.Key == nil && l.NewKey != nil {
			l.Key, l.noKey = l.NewKey()
		}
	})
	return l.noKey
}

// KindKey is the kind of entry that enrols a key.
const KindKey = "ledger.key"

// A KeyEntry enrols a key. The first of a ledger has no voucher.
type KeyEntry struct {
	Key       string `json:"key"`
	Workspace string `json:"workspace"`
	After     string `json:"after,omitempty"` // hash of the entry before: a voucher is for one place
	By        string `json:"by,omitempty"`
	Signature string `json:"signature,omitempty"`
}

// Append adds an entry and returns when it is on the disk.
func (l *Ledger) Append(ctx context.Context, kind string, body any) error {
	return l.AppendWith(ctx, kind, "", func(Page) (any, error) { return body, nil })
}

// AppendWith adds an entry whose body is made in the transaction that keeps it, with
// whatever rows are to be kept with it. by is whose signature it tells of; "" is whoever
// runs the command. After [ErrFile] the entry is kept all the same.
func (l *Ledger) AppendWith(ctx context.Context, kind, by string, body func(Page) (any, error)) error {
	if err := errors.Join(l.ready(), l.bring(ctx)); err != nil {
		return err
	}
	if by == "" {
		by = l.By
	}
	err := l.Book.Write(ctx, func(p Page) error {
		head, err := p.Head()
		if err != nil {
			return err
		}
		if size, err := sizeOf(l.File); err != nil {
			return fmt.Errorf("%w: %w", ErrUnseen, err)
		} else if size > head.Size {
			return fmt.Errorf("%w: %s holds %d bytes more than were written: entries were added to it, or the "+
				"store is an older one", ErrBroken, l.File, size-head.Size)
		}
		if head, err = l.enrol(p, head, kind); err != nil {
			return err
		}
		b, err := body(p)
		if err != nil {
			return err
		}
		_, err = l.put(p, head, kind, by, b)
		return err
	})
	if err != nil {
		return err
	}
	return l.catchUp(ctx)
}

// enrol sees to it that the key which signs is one of the ledger's.
func (l *Ledger) enrol(p Page, head Head, kind string) (Head, error) {
	lines, err := p.OfKind(KindKey)
	if err != nil || kind == KindKey {
		return head, err
	}
	if l.Key == nil {
		if len(lines) > 0 {
			return head, fmt.Errorf("%w: the ledger's entries are signed, and no key is at hand", ErrKey)
		}
		return head, nil
	}
	key := Public(l.Key)
	for _, line := range lines {
		var e Entry
		var k KeyEntry
		if err := json.Unmarshal(line, &e); err == nil && json.Unmarshal(e.Body, &k) == nil && k.Key == key {
			return head, nil
		}
	}
	if len(lines) > 0 {
		return head, fmt.Errorf("%w: a person vouches for a new one with: clipfence ledger key", ErrKey)
	}
	return l.put(p, head, KindKey, l.By, KeyEntry{Key: key})
}

func (l *Ledger) put(p Page, head Head, kind, by string, body any) (Head, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return head, err
	}
	e := Entry{Number: head.Number + 1, At: l.Now().UTC().Truncate(time.Millisecond), By: by, Kind: kind, Body: raw,
		Prev: head.Hash}
	if l.Key != nil {
		e.Key = Public(l.Key)
	}
	e.Hash = e.sum()
	if l.Key != nil {
		e.sign(l.Key)
	}
	line, err := json.Marshal(e)
	if err != nil {
		return head, err
	}
	line = append(line, '\n')
	head = Head{e.Number, e.Hash, head.Size + int64(len(line))}
	return head, p.Put(head, kind, line)
}

func sizeOf(file string) (int64, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// catchUp writes what the book holds and the file does not. A line has one place in the
// file, so that two processes which do it at once write the same.
func (l *Ledger) catchUp(ctx context.Context) error {
	size, err := sizeOf(l.File)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrFile, err)
	}
	lines, at, err := l.Book.Lines(ctx, size)
	if err != nil || len(lines) == 0 {
		return err
	}
	err = func() error {
		if err := os.MkdirAll(filepath.Dir(l.File), 0o700); err != nil {
			return err
		}
		f, err := os.OpenFile(l.File, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return err
		}
		_, err = f.WriteAt(bytes.Join(lines, nil), at)
		if err == nil {
			err = f.Sync()
		}
		return errors.Join(err, f.Close())
	}()
	if err != nil {
		return fmt.Errorf("%w: %w", ErrFile, err)
	}
	return nil
}

// bring takes the file of an earlier program into the book, up to the head that was kept
// for it. What a killed process wrote behind that was never carried out; it is kept beside.
func (l *Ledger) bring(ctx context.Context) error {
	head, err := l.Book.Head(ctx)
	if err != nil || head.Number > 0 {
		return err
	}
	kept, err := l.Book.Earlier(ctx)
	if err != nil || kept == "" {
		return err
	}
	var n int
	var hash string
	if _, err := fmt.Sscanf(kept, "%d %s", &n, &hash); err != nil || n < 1 {
		return fmt.Errorf("%w: the kept head %q makes no sense", ErrBroken, kept)
	}
	data, err := os.ReadFile(l.File)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	c, err := l.parse(data, l.File)
	entries, lines := c.entries, c.lines
	switch {
	case len(entries) < n && err != nil:
		return err
	case len(entries) < n:
		return fmt.Errorf("%w: it ends after entry %d, but entry %d was written", ErrBroken, len(entries), n)
	case entries[n-1].Hash != hash:
		return fmt.Errorf("%w: entry %d is not the one that was written", ErrBroken, n)
	}
	size := int64(0)
	for _, line := range lines[:n] {
		size += int64(len(line))
	}
	if rest := data[size:]; len(rest) > 0 {
		if err := os.WriteFile(l.File+".never-committed", rest, 0o600); err != nil {
			return err
		}
		if err := os.Truncate(l.File, size); err != nil {
			return err
		}
	}
	return l.Book.Write(ctx, func(p Page) error {
		if h, err := p.Head(); err != nil || h.Number > 0 { // another process was faster
			return err
		}
		h := Head{}
		for i, e := range entries[:n] {
			h = Head{e.Number, e.Hash, h.Size + int64(len(lines[i]))}
			if err := p.Put(h, e.Kind, lines[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// Read returns every entry, or [ErrBroken] with the place where the chain breaks
// and the entries before it. A file that is behind the book is written.
func (l *Ledger) Read(ctx context.Context) ([]Entry, error) {
	if err := l.bring(ctx); err != nil {
		return nil, err
	}
	// The file first: whatever others write meanwhile, the book is never behind it.
	data, err := os.ReadFile(l.File)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %w", ErrFile, err)
	}
	head, err := l.Book.Head(ctx)
	if err != nil {
		return nil, err
	}
	lines, _, err := l.Book.Lines(ctx, 0)
	if err != nil {
		return nil, err
	}
	all := bytes.Join(lines, nil)
	entries, _, err := l.grown(all)
	switch {
	case err != nil:
		return entries, err
	case len(entries) < head.Number:
		return entries, fmt.Errorf("%w: the store ends after entry %d, but entry %d was written", ErrBroken,
			len(entries), head.Number)
	case head.Number > 0 && entries[head.Number-1].Hash != head.Hash:
		return entries, fmt.Errorf("%w: the store's last entry is not the one that was written", ErrBroken)
	}
	if n := min(len(data), len(all)); !bytes.Equal(data[:n], all[:n]) {
		good := 0
		for ; good < len(entries) && bytes.HasPrefix(data, lines[good]); good++ {
			data = data[len(lines[good]):]
		}
		return entries[:good], fmt.Errorf("%w: %s:%d: the line is not the one that was written: %s", ErrBroken, l.File,
			good+1, l.why(data, good+1))
	}
	if len(data) > len(all) {
		return entries, fmt.Errorf("%w: %s:%d: entries were added behind the last one that was written, or the "+
			"store is an older one", ErrBroken, l.File, len(entries)+1)
	}
	if len(data) < len(all) { // the process that wrote last did not get so far; who cannot write only reads
		if err := l.catchUp(ctx); err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, ErrFile) {
			return entries, err
		}
	}
	return entries, nil
}

// why says what is wrong with a line that is not the one that was written.
func (l *Ledger) why(data []byte, n int) string {
	line, _, whole := bytes.Cut(data, []byte{'\n'})
	var e Entry
	if !whole {
		return "it has no end"
	}
	if err := json.Unmarshal(line, &e); err != nil {
		return "it is not an entry"
	}
	if e.Number != n {
		return fmt.Sprintf("here stands entry %d: one was removed, added or moved", e.Number)
	}
	return "it was edited"
}

// parse checks lines one after the other and returns the entries before the first fault.
// A last line without its newline was never finished and does not count.
func (l *Ledger) parse(data []byte, name string) (*chain, error) {
	c := &chain{known: map[string]bool{}}
	err := l.check(data, name, l.Verified, c)
	if !c.leadsBy(l.Verified) {
		c = &chain{known: map[string]bool{}}
		err = l.check(data, name, Head{}, c)
	}
	return c, err
}

// check does so with the lines behind a chain, which it takes in, and trusts the signatures of what lies up to a head.
func (l *Ledger) check(data []byte, name string, verified Head, c *chain) error {
	prev := ""
	if n := len(c.entries); n > 0 {
		prev = c.entries[n-1].Hash
	}
	in := bufio.NewReader(bytes.NewReader(data))
	for n := len(c.entries) + 1; ; n++ {
		line, err := in.ReadBytes('\n')
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		broken := func(why string) error { return fmt.Errorf("%w: %s:%d: %s", ErrBroken, name, n, why) }
		var e Entry
		dec := json.NewDecoder(bytes.NewReader(line))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&e); err != nil {
			return broken("the line is not an entry: " + err.Error())
		}
		canonical, err := json.Marshal(e)
		switch {
		case err != nil || !bytes.Equal(append(canonical, '\n'), line):
			return broken("the line was rewritten")
		case e.Number != n:
			return broken(fmt.Sprintf("here stands entry %d: one was removed, added or moved", e.Number))
		case e.Prev != prev:
			return broken("it does not follow the entry before it")
		case e.Hash != e.sum():
			return broken("the entry was edited: its hash does not match")
		case e.Key == "" && (e.Sig != "" || len(c.known) > 0):
			return broken("the entry is not signed, as those before it are")
		case e.Key != "" && n > verified.Number && !e.signed():
			return broken("its signature does not hold")
		}
		if e.Kind == KindKey {
			if why := l.vouch(e, c.known); why != "" {
				return broken(why)
			}
		}
		if e.Key != "" && !c.known[e.Key] {
			return broken("it is signed by a key that nobody enrolled")
		}
		if n <= verified.Number {
			c.trusted = n
		}
		prev = e.Hash
		c.entries, c.lines, c.size = append(c.entries, e), append(c.lines, line), c.size+len(line)
	}
}

// vouch takes in a new key, or says why not.
func (l *Ledger) vouch(e Entry, known map[string]bool) string {
	var k KeyEntry
	if err := json.Unmarshal(e.Body, &k); err != nil || k.Key == "" || k.Key != e.Key {
		return "it enrols no key, or not its own"
	}
	if len(known) > 0 {
		if k.After != e.Prev {
			return "it enrols a key that was vouched for elsewhere"
		}
		if l.Vouched == nil {
			return "it enrols a further key, and who vouches for it cannot be checked here"
		}
		if err := l.Vouched(k); err != nil {
			return "it enrols a further key: " + err.Error()
		}
	}
	known[k.Key] = true
	return ""
}

// Keys returns the keys that the entries are signed by, in the order in which they were
// enrolled.
func Keys(entries []Entry) []string {
	var out []string
	for _, e := range entries {
		if e.Key != "" && !slices.Contains(out, e.Key) {
			out = append(out, e.Key)
		}
	}
	return out
}

// Enrol adds the ledger's own key to one that knows others; the entry carries a person's
// word, which vouch makes for what is to be enrolled.
func (l *Ledger) Enrol(ctx context.Context, workspace, by string, vouch func(KeyEntry) (string, error)) error {
	if err := l.ready(); err != nil {
		return err
	}
	return l.AppendWith(ctx, KindKey, by, func(p Page) (any, error) {
		head, err := p.Head()
		if err != nil {
			return nil, err
		}
		k := KeyEntry{Key: Public(l.Key), Workspace: workspace, After: head.Hash, By: by}
		k.Signature, err = vouch(k)
		return k, err
	})
}

// ByKind returns the entries whose kind begins with a prefix.
func ByKind(entries []Entry, prefix string) []Entry {
	var out []Entry
	for _, e := range entries {
		if strings.HasPrefix(e.Kind, prefix) {
			out = append(out, e)
		}
	}
	return out
}
