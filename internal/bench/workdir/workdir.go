// Package workdir makes workspaces as surveys leave them behind, of estates and lives that were made
// up, so that the commands can be timed as their users run them: with the store, the placing of every
// call and the looking for holes in the logs.
package workdir

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

const (
	recordsABatch = 50_000
	usesABatch    = 400_000 // as many as a survey folds at once
)

// Workspace is one that is being made, with one source that nobody can reach.
type Workspace struct {
	Rows  int // of uses that were kept
	src   string
	store *store.Store
	table *usage.Table
}

// Make begins a workspace in a folder, or goes on with the one that is there.
func Make(ctx context.Context, dir, src string) (*Workspace, error) {
	config := "clipfence: 2\nsources:\n" +
		fmt.Sprintf("  - {name: %s, kind: bridge, url: \"http://127.0.0.1:1\", token: {env: NONE}}\n", src)
	if err := os.MkdirAll(filepath.Join(dir, ".clipfence"), 0o700); err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, "clipfence.yaml"), []byte(config), 0o600); err != nil {
		return nil, err
	}
	s, err := store.Open(ctx, filepath.Join(dir, ".clipfence", "store.db"))
	if err != nil {
		return nil, err
	}
	return &Workspace{src: src, store: s, table: &usage.Table{}}, nil
}

// Survey keeps an estate as a survey found it at a time.
func (w *Workspace) Survey(ctx context.Context, e *model.Estate, at time.Time) error {
	v, err := w.store.BeginSurvey(ctx, w.src, at)
	if err != nil {
		return err
	}
	for list := range slices.Chunk(files.Records(e), recordsABatch) {
		batch := source.Batch{Records: list, Cursor: "end", Version: "made"}
		if err := w.store.SaveBatch(ctx, v.ID, batch); err != nil {
			return err
		}
	}
	return w.store.FinishSurvey(ctx, v.ID, at)
}

// Use keeps uses.
func (w *Workspace) Use(ctx context.Context, uses []usage.Use) error {
	for _, u := range uses {
		w.table.MergeUse(u)
	}
	if w.table.Len() < usesABatch {
		return nil
	}
	return w.keep(ctx)
}

func (w *Workspace) keep(ctx context.Context) error {
	w.Rows += w.table.Len()
	err := w.store.SaveFold(ctx, w.src, &fold.Batch{Table: w.table, Records: w.table.Len()})
	w.table = &usage.Table{}
	return err
}

// Close ends a workspace whose log was read to its end at some times, in order.
func (w *Workspace) Close(ctx context.Context, reads ...time.Time) error {
	err := w.keep(ctx)
	for i := 0; i < len(reads) && err == nil; i++ {
		err = w.store.LogRead(ctx, w.src, reads[i])
	}
	return errors.Join(err, w.store.Close())
}
