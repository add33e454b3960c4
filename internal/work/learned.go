package work

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"os"
	"path/filepath"
	"slices"
	"time"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/usage"
	"clipfence/internal/store"
)

// What was learned is kept
//
// Learning what places are worth takes longer than comparing on a large estate, and drafting,
// rehearsing, reviewing and applying each want it. So it is kept in a file beside the store, a
// source's last one, under a digest of all that it was learned from: the program's way of learning,
// the surveys, the uses one and all, the window and the day. What is kept under another digest, or
// cannot be read, is learned anew.
//
// But for changes of our own. What they took is learned from all the same, as it was before (see formerly), so to
// learn again after each of a campaign's says what the first said, but for less than a draft tells. So what was
// learned holds also where the newest survey differs from the one that it was learned on by what the ledger says
// that was changed since, and by nothing else.

// learning changes with the way of learning, so that what an earlier program learned is not taken.
const learning = "learned 12"

// worth returns what places are worth, from what was kept where it holds still.
func (w *Workspace) worth(ctx context.Context, s *Source, in *gauge.Input, res *gauge.Result) (*draft.Worth, error) {
	before, joined, err := w.before(ctx, s)
	if err != nil {
		return nil, err
	}
	in.Before, in.Joined = before, joined
	digest, base, err := w.learnedFrom(ctx, in, res)
	if err != nil {
		return nil, err
	}
	name := sha256.Sum256([]byte(s.Name))
	file := filepath.Join(filepath.Dir(w.StoreFile()), "learned-"+hex.EncodeToString(name[:6])+".json")
	data, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		w.Log.Debug("what was learned cannot be read", "file", file, "error", err)
	}
	head, rest, _ := bytes.Cut(data, []byte("\n"))
	if holds, err := w.learnedHolds(ctx, s, string(head), digest, base); err != nil {
		return nil, err
	} else if !holds {
		rest = nil
	}
	worth, anew := draft.WorthOf(in, res, rest)
	w.progress(Event{Source: s.Name, Doing: Finished})
	if anew {
		// A workspace that can only be read is one all the same.
		entries, err := w.store.Head(ctx)
		if err == nil {
			err = keepLearned(file, fmt.Sprint(digest, " ", base, " ", s.Survey.ID, " ", entries.Number), worth)
		}
		if err != nil {
			w.Log.Debug("what was learned is not kept", "file", file, "error", err)
		}
	}
	return worth, nil
}

// learnedHolds reports whether what was learned holds still, by the line above it.
func (w *Workspace) learnedHolds(ctx context.Context, s *Source, line, digest, base string) (bool, error) {
	var was, on string
	var survey int64
	var entries int
	if _, err := fmt.Sscan(line, &was, &on, &survey, &entries); err != nil {
		return false, nil
	}
	if was == digest {
		return true, nil
	}
	if on != base || survey == s.Survey.ID {
		return false, nil
	}
	made, whole, err := w.madeSince(ctx, s.Name, entries)
	if err != nil || !whole {
		return false, err
	}
	differ, err := w.store.Differing(ctx, s.Name, survey, s.Survey.ID)
	if errors.Is(err, store.ErrNone) {
		return false, nil
	}
	return err == nil && onlyMade(differ, made), err
}

// keepLearned writes what was learned under a line, at once or not at all.
func keepLearned(file, line string, worth *draft.Worth) error {
	learned, err := worth.Learned()
	if err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(file), "learned-*.tmp")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name()) // it is gone where it was renamed
	_, err = tmp.Write(append([]byte(line+"\n"), learned...))
	if end := tmp.Close(); err == nil {
		err = end
	}
	if err != nil {
		return err
	}
	return os.Rename(tmp.Name(), file)
}

// learnedFrom is a digest of what is learned from, and one of that but for the source's own survey, and for what
// changes and earlier surveys tell.
func (w *Workspace) learnedFrom(ctx context.Context, in *gauge.Input, res *gauge.Result) (all, base string,
	err error) {
	h := sha256.New()
	fmt.Fprintln(h, learning, usage.DayOf(in.AsOf), in.Window, in.History.UTC().Format(time.RFC3339Nano))
	config, err := os.ReadFile(w.Path("clipfence.yaml"))
	if err != nil {
		return "", "", err
	}
	fmt.Fprintf(h, "%d\n", len(config))
	h.Write(config)
	digestUses(h, in)
	// Not the share, which moves with the clock: what counts is whether it is enough.
	for _, r := range in.Index.Coverage() {
		enough := in.Coverage.Enough(r.Node, r.Service, r.LogClass, in.Span())
		fmt.Fprintf(h, "%s %q %q %t\n", r.Node, r.Service, r.LogClass, enough)
	}
	others, err := w.surveysBut(ctx, in.Index.Source())
	if err != nil {
		return "", "", err
	}
	fmt.Fprint(h, others)
	base = hex.EncodeToString(h.Sum(nil))
	own, err := w.surveysOfAll(ctx)
	if err != nil {
		return "", "", err
	}
	fmt.Fprint(h, own)
	for _, t := range res.Grants { // which earlier surveys are kept counts as well
		if t != nil && !t.Since.Equal(t.Grant.Created) {
			fmt.Fprintf(h, "%d %s\n", t.Number, t.Since.UTC().Format(time.RFC3339Nano))
		}
	}
	if b := in.Before; b != nil {
		for _, g := range b.Gone {
			fmt.Fprintf(h, "%s %d %d %t\n", gives(&g.Grant), usage.DayOf(g.From), usage.DayOf(g.To), g.Ours)
		}
	}
	var joined []string
	for m, at := range in.Joined {
		joined = append(joined, fmt.Sprintf("%s %s %d\n", m.Member, m.Group, usage.DayOf(at)))
	}
	slices.Sort(joined)
	for _, s := range joined {
		fmt.Fprint(h, s)
	}
	return hex.EncodeToString(h.Sum(nil)), base, nil
}

// surveysOfAll says which surveys are the newest: people of other sources may be linked into one.
func (w *Workspace) surveysOfAll(ctx context.Context) (string, error) { return w.surveysBut(ctx, "") }

// surveysBut says so of all sources but one.
func (w *Workspace) surveysBut(ctx context.Context, not string) (string, error) {
	out := ""
	for _, src := range w.Sources {
		if src.Name == not {
			continue
		}
		survey, err := w.store.Newest(ctx, src.Name)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return "", err
		}
		out += fmt.Sprintf("%q %d %s\n", src.Name, survey.ID, survey.Finished.UTC().Format(time.RFC3339Nano))
	}
	return out, nil
}

func digestUses(h hash.Hash, in *gauge.Input) {
	var b []byte
	for _, u := range in.Uses.All() {
		b = fmt.Appendf(b[:0], "%s\x00%s\x00%s\x00%s\x00%s\x00", u.Identity, u.ActingFor, u.Permission, u.Path,
			u.Outcome)
		days, err := u.Days.MarshalBinary()
		if err != nil {
			panic(err) // of words in memory: cannot fail
		}
		b = binary.AppendUvarint(b, uint64(len(days)))
		h.Write(append(b, days...))
	}
}
