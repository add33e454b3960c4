package generate

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"clipfence/internal/sandbox"
)

// Files that [Write] leaves beside Mooring's own.
const (
	TruthFile  = "ground-truth.json"
	TokensFile = "tokens.json"
)

// Written says what [Write] wrote.
type Written struct {
	Events, Refused, Unlogged int
	Bytes                     int64 // of JSON lines, before compression
}

// Write makes the estate's Mooring in a folder, plays its life into the audit
// log and leaves the ground truth and the tokens beside it. The folder must not
// hold a Mooring yet. progress is called once a day of the log; it may be nil.
func Write(ctx context.Context, dir string, f *Founded, progress func(done, of int)) (w Written, err error) {
	if _, err := os.Stat(filepath.Join(dir, "mooring.db")); err == nil {
		return w, fmt.Errorf("%s holds a Mooring already; choose a fresh folder", dir)
	}
	c, err := sandbox.Open(dir)
	if err != nil {
		return w, err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	tokens := map[string]string{}
	for who, t := range f.Tokens {
		tokens[t] = who
	}
	if err := c.Fill(f.Docs, tokens); err != nil {
		return w, err
	}
	if err := writeJSON(filepath.Join(dir, TruthFile), f.Truth); err != nil {
		return w, err
	}
	if err := writeJSON(filepath.Join(dir, TokensFile), f.Tokens); err != nil {
		return w, err
	}
	return w, f.play(ctx, c.AuditDir(), &w, progress)
}

func writeJSON(name string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(name, append(b, '\n'), 0o600)
}

type judged struct {
	v      sandbox.Verdict
	logged bool
}

// play writes a file a day: the last month plain, what is older compressed.
func (f *Founded) play(ctx context.Context, dir string, w *Written, progress func(done, of int)) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	until := f.opts.Until.UTC()
	memo := map[[3]string]judged{}
	var written atomic.Int64
	writers, ctx := errgroup.WithContext(ctx)
	writers.SetLimit(runtime.NumCPU()) // days are made one after the other, and written side by side
	for n := range f.opts.Days {
		if ctx.Err() != nil {
			break
		}
		d := day(until).AddDate(0, 0, n-f.opts.Days+1)
		r := rand.New(rand.NewPCG(f.opts.Seed, uint64(d.Unix())))
		var events []*sandbox.Event
		for _, s := range f.scripts {
			for range s.calls(d, r) {
				at := d.Add(time.Duration(s.from)*time.Hour +
					time.Duration(r.Int64N(int64(time.Duration(min(s.hours, 24-s.from))*time.Hour))))
				do, on := s.do[r.IntN(len(s.do))], s.on[r.IntN(len(s.on))]
				if at.After(until) {
					continue
				}
				path := fillIn(on, d, r)
				whose := s.who
				if s.as != "" {
					whose = s.as
				}
				// Verdicts differ by box, not by object: no condition of the
				// sample estate asks for a time, a network or an object's label.
				k := [3]string{whose, do, on}
				j, ok := memo[k]
				if !ok {
					ctx := sandbox.CallContext{Time: at, SecondFactor: s.mfa}
					ctx.Network, _ = netip.ParseAddr(s.network)
					j.v = f.World.Decide(whose, do, path, ctx)
					service, _, _ := strings.Cut(do, "/")
					j.logged = f.World.Logged(path, service, f.World.Catalogue[do].LogClass, at)
					memo[k] = j
				}
				if !j.logged || at.Before(f.since(path, do)) || f.silent(path, at) {
					w.Unlogged++
					continue
				}
				if !j.v.Allowed {
					w.Refused++
				}
				uid := fmt.Sprintf("mo-%x-%012x", d.Unix()/86400, r.Uint64()>>16)
				events = append(events, sandbox.NewEvent(uid, at, s.who, s.as, do, path,
					f.World.Catalogue[do].LogClass, j.v, s.network, s.mfa))
			}
		}
		slices.SortStableFunc(events, func(a, b *sandbox.Event) int { return int(a.Time - b.Time) })
		w.Events += len(events)
		writers.Go(func() error {
			size, err := writeDay(dir, d, until, events)
			written.Add(size)
			return err
		})
		if progress != nil {
			progress(n+1, f.opts.Days)
		}
	}
	outer := ctx.Err()
	if err := writers.Wait(); err != nil || outer != nil {
		return cmp.Or(err, outer)
	}
	w.Bytes += written.Load()
	return nil
}

// since returns when the log that shows do at path was switched on.
func (f *Founded) since(path, do string) time.Time {
	service, _, _ := strings.Cut(do, "/")
	class := f.World.Catalogue[do].LogClass
	for p := path; p != ""; p = p[:strings.LastIndexByte(p, '/')] {
		if s := f.World.LogSettings[p]; s != nil {
			for _, l := range s.Logs {
				if l.Service == service && l.LogClass == class {
					return l.Since
				}
			}
		}
	}
	return time.Time{}
}

func fillIn(on string, d time.Time, r *rand.Rand) string {
	if !strings.Contains(on, "{") {
		return on
	}
	on = strings.ReplaceAll(on, "{date}", d.Format(time.DateOnly))
	return strings.ReplaceAll(on, "{n}", strconv.Itoa(1+r.IntN(3)))
}

func writeDay(dir string, d, until time.Time, events []*sandbox.Event) (int64, error) {
	var buf bytes.Buffer
	for _, e := range events {
		b, err := json.Marshal(e)
		if err != nil {
			return 0, err
		}
		buf.Write(b)
		buf.WriteByte('\n')
	}
	size := int64(buf.Len())
	name := filepath.Join(dir, d.Format(time.DateOnly)+".jsonl")
	age := int(until.Sub(d).Hours() / 24)
	switch {
	case age > 100:
		name += ".zst"
	case age > 30:
		name += ".gz"
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	bw := bufio.NewWriter(f)
	var z io.WriteCloser
	switch filepath.Ext(name) {
	case ".zst":
		z, err = zstd.NewWriter(bw, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(1<<20))
	case ".gz":
		z, err = gzip.NewWriterLevel(bw, gzip.BestSpeed)
	}
	if err == nil && z != nil {
		_, err = z.Write(buf.Bytes())
		err = errors.Join(err, z.Close())
	} else if err == nil {
		_, err = bw.Write(buf.Bytes())
	}
	return size, errors.Join(err, bw.Flush(), f.Close())
}

// outage is a span in which the log of a part of the tree did not arrive.
type outage struct {
	under    string
	from, to time.Time
}

// silent reports whether the log of a path did not arrive at a time.
func (f *Founded) silent(path string, at time.Time) bool {
	for _, o := range f.outages {
		if strings.HasPrefix(path+"/", o.under+"/") && !at.Before(o.from) && at.Before(o.to) {
			return true
		}
	}
	return false
}
