// Package ledgertest keeps for tests what the store keeps for a ledger, in memory, where a
// test can look at it and change it: the lines, and the requests of gates.
package ledgertest

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"sync"

	"clipfence/internal/ledger"
)

// A Stored is a request of a gate as it is kept.
type Stored struct {
	Body    []byte
	Version int64
}

// Memory is a [ledger.Book] and a keeper of gate requests. The zero value is one with
// nothing in it.
type Memory struct {
	Old   string // the head that an earlier program kept
	Kept  [][]byte
	Kinds []string
	End   ledger.Head
	Rows  map[string]Stored

	mu sync.Mutex
}

// Write runs f against a copy, which takes the place of what was there unless f fails.
func (m *Memory) Write(_ context.Context, f func(ledger.Page) error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	p := &page{kept: slices.Clone(m.Kept), kinds: slices.Clone(m.Kinds), end: m.End, rows: maps.Clone(m.Rows)}
	if err := f(p); err != nil {
		return err
	}
	m.Kept, m.Kinds, m.End, m.Rows = p.kept, p.kinds, p.end, p.rows
	return nil
}

// Head returns the head.
func (m *Memory) Head(context.Context) (ledger.Head, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.End, nil
}

// Earlier returns Old.
func (m *Memory) Earlier(context.Context) (string, error) { return m.Old, nil }

// Lines returns the lines that end behind an offset.
func (m *Memory) Lines(_ context.Context, behind int64) (lines [][]byte, begin int64, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	at := int64(0)
	for _, l := range m.Kept {
		if end := at + int64(len(l)); end > behind {
			if len(lines) == 0 {
				begin = at
			}
			lines = append(lines, bytes.Clone(l))
		}
		at += int64(len(l))
	}
	return lines, begin, nil
}

// Gates returns all requests by id.
func (m *Memory) Gates(context.Context) (map[string][]byte, map[string]int64, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	bodies, versions := map[string][]byte{}, map[string]int64{}
	for id, r := range m.Rows {
		bodies[id], versions[id] = r.Body, r.Version
	}
	return bodies, versions, nil
}

// PutGate keeps a request in place of the version that was read; 0 is none.
func (m *Memory) PutGate(p ledger.Page, id string, body []byte, version int64) error {
	rows := p.(*page)
	if rows.rows == nil {
		rows.rows = map[string]Stored{}
	}
	if rows.rows[id].Version != version {
		return ledger.ErrStale
	}
	rows.rows[id] = Stored{body, version + 1}
	return nil
}

type page struct {
	kept  [][]byte
	kinds []string
	end   ledger.Head
	rows  map[string]Stored
}

func (p *page) Head() (ledger.Head, error) { return p.end, nil }

func (p *page) OfKind(kind string) (out [][]byte, err error) {
	for i, k := range p.kinds {
		if k == kind {
			out = append(out, p.kept[i])
		}
	}
	return out, nil
}

func (p *page) Count(kind string) (int, error) {
	out, err := p.OfKind(kind)
	return len(out), err
}

func (p *page) Put(h ledger.Head, kind string, line []byte) error {
	p.kept, p.kinds, p.end = append(p.kept, line), append(p.kinds, kind), h
	return nil
}
