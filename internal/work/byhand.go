package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
	"clipfence/internal/source/files"
)

// A change of a source that is files is, unless its configuration lets the tool edit them,
// handed over: written down as sentences and as a patch of the estate file, for whoever
// carries it out where the file came from. Each survey of the source looks whether it was.

// PatchFile is where a change that is handed over is written down.
func (w *Workspace) PatchFile(id string) string { return w.Path(filepath.Join("changes", id+".patch")) }

// handOver writes a change down and records that.
func (p *Prepared) handOver(ctx context.Context, ch *change.Change) error {
	return p.run.HandOver(ctx, ch, func(ch *change.Change) error {
		text, err := p.w.patch(p.src, ch)
		if err != nil {
			return err
		}
		return replaceFile(p.w.PatchFile(ch.ID), text)
	})
}

// patch says a change as sentences, and as a unified diff of the estate file.
func (w *Workspace) patch(src config.Source, ch *change.Change) ([]byte, error) {
	base, data, edited, err := w.edited(src, ch)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "Change %s of source %s", ch.ID, src.Name)
	if !ch.For.IsZero() {
		fmt.Fprintf(&b, ", for %s", ch.For)
	}
	if ch.Undoes != "" {
		fmt.Fprintf(&b, ", which takes %s back", ch.Undoes)
	}
	if ch.Reason != "" {
		fmt.Fprintf(&b, ": %s", oneLine(ch.Reason))
	}
	b.WriteString("\n\nTo do, in this order; what comes is to stand before anything goes:\n\n")
	for i, s := range ch.Steps {
		fmt.Fprintf(&b, "  %d. %s\n", i+1, oneLine(sentence(s)))
	}
	writePatch(&b, base, data, edited)
	return []byte(b.String()), nil
}

// edited returns the name of an estate file without its folder, the file, and what a change makes
// of it.
func (w *Workspace) edited(src config.Source, ch *change.Change) (base string, data, edited []byte, err error) {
	name := w.Path(src.Estate)
	if data, err = os.ReadFile(name); err == nil {
		edited, err = w.knownOf(src).Edited(name, data, ch.Steps)
	}
	return filepath.Base(name), data, edited, err
}

// writePatch writes what makes one text of a file another.
func writePatch(b *strings.Builder, base string, from, to []byte) {
	fmt.Fprintf(b, "\nThe same as a patch of %s, in its folder: patch -p1 < THIS FILE\n\n", oneLine(base))
	b.WriteString(udiff.Unified("a/"+base, "b/"+base, string(from), string(to)))
}

// sentence says a step; undoings, and those of earlier programs, have none of their own.
func sentence(s source.Step) string {
	if s.Sentence != "" {
		return s.Sentence
	}
	return documents.Sentence(s)
}

// oneLine keeps names from breaking a line, and so from looking like another one.
func oneLine(s string) string {
	q := strconv.Quote(s)
	return q[1 : len(q)-1]
}

// HandedOver is a change that was handed over, as a survey finds it.
type HandedOver struct {
	Change string   `json:"change"`
	Done   bool     `json:"done" doc:"every step is seen now, and the ledger says so"`
	Steps  int      `json:"steps"`
	Open   []string `json:"open,omitempty" doc:"steps that are not seen"`
}

// lookForHanded looks which changes that were handed over a source shows as done, and records
// that of those.
func (w *Workspace) lookForHanded(ctx context.Context, src config.Source, e *model.Estate) ([]HandedOver, error) {
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, err
	}
	var out []HandedOver
	for _, r := range history {
		if r.Source != src.Name || r.State != change.StateHanded {
			continue
		}
		seen, err := files.Seen(e, r.Steps)
		if err != nil {
			return nil, err
		}
		h := HandedOver{Change: r.ID, Steps: len(r.Steps)}
		for i, ok := range seen {
			if !ok {
				h.Open = append(h.Open, sentence(r.Steps[i]))
			}
		}
		if h.Done = len(h.Open) == 0; h.Done {
			if err := change.Found(ctx, w.ledger, r); err != nil {
				return out, err
			}
		}
		out = append(out, h)
	}
	return out, nil
}
