package work

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"clipfence/internal/ledger"
)

// Head is what a witness keeps: where a ledger ended, at a time.
type Head struct {
	Workspace string    `json:"workspace"`
	Number    int       `json:"n"`
	Hash      string    `json:"hash"`
	At        time.Time `json:"at"`
}

// Verified is what was proven of the ledger.
type Verified struct {
	Entries   int      `json:"entries"`
	Whole     bool     `json:"whole"`
	Keys      []string `json:"keys"`   // that sign it, the first of all first
	Pinned    bool     `json:"pinned"` // the first of them is known to this account, or was given
	Unsigned  int      `json:"unsigned"`
	Witnessed int      `json:"witnessed"` // heads kept elsewhere that agree
	Head      string   `json:"head"`
}

// Verify proves that no entry of the ledger was edited, removed, moved or added: by its own
// hashes and signatures, the heads in files that were kept elsewhere, and the keys that are
// given. What does not hold is [ledger.ErrBroken].
func (w *Workspace) Verify(ctx context.Context, files, keys []string) (*Verified, error) {
	w.thorough = true
	entries, _, err := w.History(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w\n%d entries before that place are whole; the file is %s", err, len(entries),
			w.LedgerFile())
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return nil, err
	}
	p, err := w.pins()
	if err != nil {
		return nil, err
	}
	v := &Verified{Entries: len(entries), Whole: true, Keys: append([]string{}, ledger.Keys(entries)...)}
	for _, e := range entries {
		if e.Key == "" {
			v.Unsigned++
		}
		v.Head = e.Hash
	}
	for _, name := range files {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		for i, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
			var h Head
			if err := json.Unmarshal([]byte(line), &h); err != nil {
				return nil, fmt.Errorf("%s:%d: not a head: %w", name, i+1, err)
			}
			if h.Workspace != id {
				continue
			}
			v.Witnessed++
			switch {
			case h.Number > len(entries):
				return nil, fmt.Errorf("%w: at %s it had %d entries, and now it has %d: an older store and ledger "+
					"were put back together (witness %s:%d)", ledger.ErrBroken, h.At.Format(time.RFC3339), h.Number,
					len(entries), name, i+1)
			case h.Number > 0 && entries[h.Number-1].Hash != h.Hash:
				return nil, fmt.Errorf("%w: at %s entry %d was another one: the ledger was put back and went on "+
					"otherwise (witness %s:%d)", ledger.ErrBroken, h.At.Format(time.RFC3339), h.Number, name, i+1)
			}
		}
	}
	if len(files) > 0 && v.Witnessed == 0 {
		return nil, fmt.Errorf("%w: no head of this workspace (%s) is in %s", ledger.ErrBroken, id,
			strings.Join(files, ", "))
	}
	v.Pinned = len(v.Keys) > 0 && (slices.Contains(p.Ledger, v.Keys[0]) || slices.Contains(keys, v.Keys[0]))
	if len(keys) > 0 && !v.Pinned {
		return nil, fmt.Errorf("%w: it is signed by %v, not by the key that was given", ledger.ErrBroken, v.Keys)
	}
	return v, nil
}

// Head returns where the ledger ends now, and the line that a witness keeps of it.
func (w *Workspace) Head(ctx context.Context) (Head, []byte, error) {
	entries, _, err := w.History(ctx)
	if err != nil {
		return Head{}, nil, damaged(err)
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return Head{}, nil, err
	}
	h := Head{Workspace: id, Number: len(entries), At: w.Clock().UTC().Truncate(time.Millisecond)}
	if len(entries) > 0 {
		h.Hash = entries[len(entries)-1].Hash
	}
	line, err := json.Marshal(h)
	return h, append(line, '\n'), err
}

// KeepHead appends a head to a file, or gives it to a command, whose words come one by one,
// on its standard input; what that prints goes to out. It returns where the head is.
func (w *Workspace) KeepHead(ctx context.Context, line []byte, to string, with []string, out io.Writer) (string,
	error) {
	if to == "" {
		c := exec.CommandContext(ctx, with[0], with[1:]...)
		c.Stdin, c.Stdout, c.Stderr = bytes.NewReader(line), out, out
		c.Env = w.WithoutTokens(os.Environ())
		if err := c.Run(); err != nil {
			return "", fmt.Errorf("%s: %w", with[0], err)
		}
		return with[0], nil
	}
	f, err := os.OpenFile(to, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	_, err = f.Write(line)
	return to, errors.Join(err, f.Sync(), f.Close())
}
