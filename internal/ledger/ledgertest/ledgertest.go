// Package ledgertest keeps for tests what the store keeps for a ledger: its head and the
// requests of gates, in memory, where a test can look at them and change them.
package ledgertest

import "context"

// Memory is a [ledger.Anchor] and a keeper of gate requests, for one goroutine. The zero
// value is one with nothing in it.
type Memory struct {
	Last string // the head
	gate map[string][]byte
}

// Locked keeps what f returns as the head, unless it fails.
func (m *Memory) Locked(_ context.Context, f func(head string) (string, error)) error {
	head, err := f(m.Last)
	if err == nil {
		m.Last = head
	}
	return err
}

// Head returns the head.
func (m *Memory) Head(context.Context) (string, error) { return m.Last, nil }

// SaveGate keeps a request under its id, in place of what was there.
func (m *Memory) SaveGate(_ context.Context, id string, request []byte) error {
	if m.gate == nil {
		m.gate = map[string][]byte{}
	}
	m.gate[id] = request
	return nil
}

// Gates returns all requests by id; the caller may change them there.
func (m *Memory) Gates(context.Context) (map[string][]byte, error) { return m.gate, nil }
