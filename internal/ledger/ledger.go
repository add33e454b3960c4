// Package ledger keeps the append-only history of what was changed, asked and
// approved, and proves that nobody edited it.
//
// An [Entry] is one JSON line. Each carries the hash of the one before it, and
// its own hash over everything else it holds, so that an edited, removed, added
// or reordered line breaks the chain at a place that [Read] names. The hash of
// the last entry is also kept elsewhere, behind [Anchor]: without it, cutting off
// the end could not be seen.
package ledger

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// ErrBroken: the ledger is not what was written.
var ErrBroken = errors.New("ledger is damaged")

// An Entry is one line of the ledger.
type Entry struct {
	Number int             `json:"n"` // from 1
	At     time.Time       `json:"at"`
	By     string          `json:"by"` // who ran the command, as the system tells it
	Kind   string          `json:"kind"`
	Body   json.RawMessage `json:"body"`
	Prev   string          `json:"prev"` // hash of the entry before; empty for the first
	Hash   string          `json:"hash"`
}

// sum is the hash of an entry: SHA-256 over its number, time, author, kind and
// body, each with its length, and the hash before.
func (e *Entry) sum() string {
	h := sha256.New()
	for _, part := range []string{e.Prev, fmt.Sprint(e.Number), e.At.UTC().Format(time.RFC3339Nano), e.By, e.Kind, string(e.Body)} {
		fmt.Fprintf(h, "%d:%s", len(part), part)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// An Anchor keeps the head of the ledger, "number hash", apart from its file.
// Locked runs f while no other process can, and keeps what it returns.
type Anchor interface {
	Locked(ctx context.Context, f func(head string) (string, error)) error
	Head(ctx context.Context) (string, error)
}

// A Ledger is a ledger in a file.
type Ledger struct {
	File   string
	Anchor Anchor
	Now    func() time.Time
	By     string
}

// Append adds an entry and returns when it is on the disk.
func (l *Ledger) Append(ctx context.Context, kind string, body any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return l.Anchor.Locked(ctx, func(head string) (string, error) {
		entries, whole, err := read(l.File)
		if err != nil {
			return "", err
		}
		if err := follows(entries, head); err != nil {
			return "", err
		}
		e := Entry{Number: len(entries) + 1, At: l.Now().UTC().Truncate(time.Millisecond), By: l.By, Kind: kind, Body: raw}
		if len(entries) > 0 {
			e.Prev = entries[len(entries)-1].Hash
		}
		e.Hash = e.sum()
		line, err := json.Marshal(e)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%d %s", e.Number, e.Hash), write(l.File, whole, append(line, '\n'))
	})
}

// write appends at an offset, over the torn line of a write that never finished.
func write(file string, at int64, line []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	err = f.Truncate(at)
	if err == nil {
		_, err = f.WriteAt(line, at)
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// Read returns every entry, or [ErrBroken] with the place where the chain breaks
// and the entries before it.
func (l *Ledger) Read(ctx context.Context) ([]Entry, error) {
	entries, _, err := read(l.File)
	if err != nil {
		return entries, err
	}
	head, err := l.Anchor.Head(ctx)
	if err != nil {
		return nil, err
	}
	return entries, follows(entries, head)
}

// follows holds the chain against the head that was kept elsewhere. The file may
// be ahead of it by what a killed process wrote last.
func follows(entries []Entry, head string) error {
	if head == "" {
		return nil
	}
	var n int
	var hash string
	if _, err := fmt.Sscanf(head, "%d %s", &n, &hash); err != nil {
		return fmt.Errorf("%w: the kept head %q makes no sense", ErrBroken, head)
	}
	switch {
	case n > len(entries):
		return fmt.Errorf("%w: it ends after entry %d, but entry %d was written", ErrBroken, len(entries), n)
	case entries[n-1].Hash != hash:
		return fmt.Errorf("%w: entry %d is not the one that was written", ErrBroken, n)
	}
	return nil
}

// read returns the entries of a file and how many bytes they take. A last line
// without its newline was never finished and does not count.
func read(file string) ([]Entry, int64, error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	var entries []Entry
	var size int64
	prev := ""
	r := bufio.NewReader(f)
	for n := 1; ; n++ {
		line, err := r.ReadBytes('\n')
		if err == io.EOF {
			return entries, size, nil
		}
		if err != nil {
			return entries, size, err
		}
		broken := func(why string) ([]Entry, int64, error) {
			return entries, size, fmt.Errorf("%w: %s:%d: %s", ErrBroken, file, n, why)
		}
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
		}
		prev = e.Hash
		size += int64(len(line))
		entries = append(entries, e)
	}
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
