package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"golang.org/x/term"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

// open opens the workspace for a command; close it when done.
func (a *app) open(ctx context.Context) (*work.Workspace, error) {
	return work.Open(ctx, work.Options{Folder: a.dir, Only: a.source, Clock: a.clock, AsOf: a.asOf.Time,
		In: &waiting{a.ctx, a.in}, Log: a.log, Events: a.watch(), Hide: a.hides, Passphrase: a.passphrase(),
		Closing: a.closes, Asking: !a.acts.Load()})
}

// with opens the workspace for a command and closes it after.
func (a *app) with(ctx context.Context, f func(*work.Workspace) error) (err error) {
	w, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.Close()) }()
	if a.veiled {
		if a.people, err = w.Pseudonyms(ctx); err != nil {
			return err
		}
	}
	return f(w)
}

// watch returns who hears of events: remarks become lines on stderr, and progress one
// changing line, on a terminal.
func (a *app) watch() func(work.Event) {
	progress := a.progress()
	return func(e work.Event) {
		if e.Doing != "" {
			a.thinks.Store(e.Doing.Thinks())
		}
		switch e.Doing {
		case "":
			a.say("%s", e.Remark)
		case work.Surveying:
			progress("%s: %s read", e.Source, render.Plural(e.Count, "record"))
		case work.Indexing:
			progress("%s: indexing %s", e.Source, render.Plural(e.Count, "node"))
		case work.Reading:
			progress("%s: %s log lines read (%d MB)", e.Source, render.Count(e.Count), e.Bytes/1e6)
		case work.Awaiting:
			progress("waiting for the first event of %s", render.Plural(e.Count, "log"))
		case work.Trying:
			progress("%s: %d of %d ways tried", e.Source, e.Count, e.Of)
		case work.Drafting:
			progress("%s: %d of %d looked at", e.Source, e.Count, e.Of)
		case work.Weighing:
			progress("%s: risk of %d of %d fences weighed", e.Source, e.Count, e.Of)
		case work.Measuring:
			progress("%s: measuring what %s hold", e.Source, render.Plural(e.Of, "identity"))
		case work.Reaching:
			progress("%s: reach of %d of %s measured", e.Source, e.Count, render.Plural(e.Of, "identity"))
		case work.Crediting:
			progress("%s: crediting %s to what allowed them", e.Source, render.Plural(e.Of, "use"))
		case work.Judging:
			progress("%s: judging %s", e.Source, render.Plural(e.Of, "grant"))
		case work.Looking:
			progress("%s: looking for findings among %s", e.Source, render.Plural(e.Of, "grant"))
		case work.Learning:
			progress("%s: learning from the past: %d of %s, as many as are enough", e.Source, e.Count,
				render.Plural(e.Of, "identity"))
		case work.Keeping:
			progress("%s: keeping what drafts look at: %d of %s", e.Source, e.Count, render.Plural(e.Of, "identity"))
		case work.Finished:
			progress("")
		}
	}
}

// passphrase returns how to ask for that of a key file; nil where there is nobody to ask.
func (a *app) passphrase() func(string) ([]byte, error) {
	f, ok := a.in.(*os.File)
	if !ok || !isTerminal(a.in) {
		return nil
	}
	return func(file string) ([]byte, error) {
		fmt.Fprintf(a.err, "Passphrase of %s: ", render.Clean(file))
		defer fmt.Fprintln(a.err)
		return term.ReadPassword(int(f.Fd()))
	}
}
