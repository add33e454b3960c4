package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"net/url"
	"os"
	"runtime/debug"
	"slices"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/lookup"
)

// What a comparison of everybody tells is kept
//
// Whoever looks at everybody looks at some of them next, and each question about one would compare the whole source
// anew. So what a comparison told of each is kept in a file beside the snapshot, a source's last one, with what it was
// told from: the program, the surveys, the uses, the ledger, clipfence.yaml, the window. It holds until the day
// is over, or anything that the source lists begins or ends. What does not hold, or cannot be read, is
// compared anew.

// comparing changes with what a comparison tells, so that what an earlier program told is not taken.
const comparing = "compared 2"

// keptHead begins the head of a file in which something is kept of everybody.
type keptHead struct {
	From  string    // a digest of what it came from
	At    time.Time // when
	Until time.Time // it holds before that
}

// toldHead is the head of the file.
type toldHead struct {
	keptHead
	All json.RawMessage
}

// openKept opens a file in which something is kept, and reads its head, which of begins, where it came from what is
// there now, and holds; nil: there is none that does.
func (w *Workspace) openKept(file, from string, head any, of *keptHead) (*lookup.File, error) {
	f, err := lookup.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	body, err := f.Head()
	if err == nil {
		err = json.Unmarshal(body, head)
	}
	if now := w.now(); err != nil || of.From != from || now.Before(of.At) || !now.Before(of.Until) {
		f.Close()
		return nil, err
	}
	return f, nil
}

// mayKeep says why what a comparison found out is not to be kept, if that is so: now is the digest of what it came
// from once it is done.
func (w *Workspace) mayKeep(from, now string) error {
	switch {
	case now != from:
		return errors.New("what it looks at changed meanwhile")
	case w.partly:
		return errors.New("not all that it looks at could be read")
	}
	return nil
}

func (w *Workspace) toldFile(src string) string {
	return w.Path(".clipfence/index/" + url.PathEscape(src) + ".told")
}

// untell removes what was told of a source: it is of calls that are not kept any more.
func (w *Workspace) untell(src string) error {
	for _, file := range []string{w.toldFile(src), w.fewFile(src)} {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// tellAll compares everybody's grants with their uses, and keeps what that tells. No answer needs what is kept.
func (w *Workspace) tellAll(ctx context.Context, s *Source, window config.Duration) (*gauge.Input, *gauge.Result,
	error) {
	from, err := w.toldFrom(ctx, s, window)
	if err != nil {
		return nil, nil, err
	}
	w.partly = false
	s, in, res, err := w.gaugedOf(ctx, s, window, counted)
	if err != nil {
		return nil, nil, err
	}
	err = func() error {
		now, err := w.toldFrom(ctx, s, window)
		if err == nil {
			err = w.mayKeep(from, now)
		}
		if err != nil {
			return err
		}
		all, who, of, err := res.Tell(nil)
		if err != nil {
			return err
		}
		head, err := json.Marshal(toldHead{keptHead{from, in.AsOf, holdsUntil(s, in.AsOf)}, all})
		if err != nil {
			return err
		}
		slices.SortFunc(who, func(a, b model.ID) int { return lookup.Compare(a.String(), b.String()) })
		return lookup.Write(w.toldFile(s.Name), head, func(yield func(lookup.Line, error) bool) {
			for _, id := range who {
				if body, err := of(id); !yield(lookup.Line{Key: id.String(), Body: body}, err) {
					return
				}
			}
		})
	}()
	if err != nil {
		w.Log.Debug("what the comparison tells is not kept", "error", err)
	}
	return in, res, nil
}

// toldBefore opens what is kept of the last comparison, where that holds; nil: nothing is.
func (w *Workspace) toldBefore(ctx context.Context, s *Source, window config.Duration) (*lookup.File, toldHead,
	error) {
	var head toldHead
	from, err := w.toldFrom(ctx, s, window)
	if err != nil {
		return nil, head, err
	}
	f, err := w.openKept(w.toldFile(s.Name), from, &head, &head.keptHead)
	return f, head, err
}

// remember takes from what is kept of the last comparison what everybody holds and gets to. No answer needs it.
func (w *Workspace) remember(ctx context.Context, s *Source, res *gauge.Result, window config.Duration) error {
	f, _, err := w.toldBefore(ctx, s, window)
	if f == nil {
		return err
	}
	defer f.Close()
	byName := map[string]model.ID{}
	for _, st := range res.Standings {
		byName[st.ID.String()] = st.ID
	}
	for l, err := range f.All() {
		if err != nil {
			return err
		}
		if id, listed := byName[l.Key]; listed {
			if err := res.Remember(id, l.Body); err != nil {
				return err
			}
		}
	}
	return nil
}

// retold returns what is kept of one identity, nil where nothing is that holds.
func (w *Workspace) retold(ctx context.Context, s *Source, id model.ID, window config.Duration) (*gauge.Input,
	*gauge.Result, error) {
	f, head, err := w.toldBefore(ctx, s, window)
	var res *gauge.Result
	if f != nil {
		defer f.Close()
		get := func(id model.ID) ([]byte, bool, error) { return f.Get(id.String()) }
		res, err = gauge.Retell(s.Index, w.weights(), []model.ID{id}, head.All, get)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		w.Log.Warn("what the last comparison told cannot be read, and is compared anew", "error", err)
	}
	if res == nil {
		return nil, nil, nil
	}
	return &gauge.Input{Index: s.Index, AsOf: w.now(), Window: w.days(window), Protected: w.ProtectedIn(s.Name),
		Weights: w.weights()}, res, nil
}

// holdsUntil returns when the day is over, or before that something begins or ends that a source lists.
func holdsUntil(s *Source, at time.Time) time.Time {
	until := (usage.DayOf(at) + 1).Time()
	if next := s.Listed().NextTurn(at); !next.IsZero() && next.Before(until) {
		return next
	}
	return until
}

// toldFrom is a digest of all that a comparison looks at beside the clock.
func (w *Workspace) toldFrom(ctx context.Context, s *Source, window config.Duration) (string, error) {
	h := sha256.New()
	fmt.Fprintln(h, comparing, w.days(window), w.AsOf.IsZero())
	program(h)
	_, key, err := w.snapshotOf(ctx, s.Source, s.Survey)
	if err != nil {
		return "", err
	}
	fmt.Fprintln(h, key)
	surveys, err := w.store.Surveys(ctx, s.Name)
	if err != nil {
		return "", err
	}
	for _, v := range surveys {
		fmt.Fprintln(h, surveyKey(v))
	}
	marks, err := w.store.UsesMark(ctx, s.Name)
	if err != nil {
		return "", err
	}
	head, err := w.store.Head(ctx)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(h, "%s\n%d %s\n", marks, head.Number, head.Hash)
	forgotten, err := w.forgotten(ctx)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(h, "%q\n", forgotten)
	names := []string{"clipfence.yaml"}
	if s.Operations != "" {
		names = append(names, s.Operations)
	}
	for _, name := range names {
		data, err := os.ReadFile(w.Path(name))
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%d\n", len(data))
		h.Write(data)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// program adds which program it is.
func program(h hash.Hash) {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return
	}
	fmt.Fprintln(h, info.Main.Version)
	for _, s := range info.Settings {
		if slices.Contains([]string{"vcs.revision", "vcs.modified", "vcs.time"}, s.Key) {
			fmt.Fprintln(h, s.Key, s.Value)
		}
	}
}
