package cli

import (
	"bytes"
	"context"
	"io"
	"sync"
)

// veil is an output on which a token is never written, whoever says it: an error, a log
// line, or a source that gives it back as a name.
type veil struct {
	mu      sync.Mutex
	w       io.Writer
	secrets [][]byte
}

// shortestSecret is how long a token must be to be looked for: shorter ones stand in words.
const shortestSecret = 8

func (q *veil) hide(secret string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(secret) >= shortestSecret {
		q.secrets = append(q.secrets, []byte(secret))
	}
}

func (q *veil) Write(b []byte) (int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	clean := b
	for _, s := range q.secrets {
		clean = bytes.ReplaceAll(clean, s, []byte("[token]"))
	}
	if _, err := q.w.Write(clean); err != nil {
		return 0, err
	}
	return len(b), nil
}

// bare returns what lies below a veil: a terminal, for whoever runs on it.
func bare(w io.Writer) io.Writer {
	if q, ok := w.(*veil); ok {
		w = q.w
	}
	if u, ok := w.(*unread); ok {
		w = u.w
	}
	return w
}

// hides keeps a token from every output.
func (a *app) hides(secret string) {
	for _, w := range []io.Writer{a.out, a.err} {
		if q, ok := w.(*veil); ok {
			q.hide(secret)
		}
	}
}

// waiting reads from somebody who may never answer, until the context ends. What comes
// later is lost: nobody reads on after an interrupt.
type waiting struct {
	ctx context.Context
	in  io.Reader
}

func (w *waiting) Read(b []byte) (int, error) {
	if w.ctx == nil {
		return w.in.Read(b)
	}
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	type got struct {
		b   []byte
		err error
	}
	ch := make(chan got, 1)
	go func() {
		own := make([]byte, len(b))
		n, err := w.in.Read(own)
		ch <- got{own[:n], err}
	}()
	select {
	case g := <-ch:
		return copy(b, g.b), g.err
	case <-w.ctx.Done():
		return 0, w.ctx.Err()
	}
}
