package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/access/index"
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

// makeWorkspace makes a workspace in which the estate was surveyed and a log of its life was read, so
// that commands can be timed as their users run them.
func makeWorkspace(part int, dir string) (err error) {
	e := generate(part, 1)
	x, err := index.Build(e)
	if err != nil {
		return err
	}
	e.Coverage = logged(x)
	config := "clipfence: 2\nsources:\n" +
		fmt.Sprintf("  - {name: %s, kind: bridge, url: \"http://127.0.0.1:1\", token: {env: NONE}}\n", e.Source)
	if err := os.MkdirAll(filepath.Join(dir, ".clipfence"), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "clipfence.yaml"), []byte(config), 0o600); err != nil {
		return err
	}
	ctx := context.Background()
	s, err := store.Open(ctx, filepath.Join(dir, ".clipfence", "store.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	start := time.Now()
	if err := keepSurvey(ctx, s, e); err != nil {
		return err
	}
	src, rows := e.Source, 0
	e = nil
	fmt.Printf("survey kept in %s\n", time.Since(start).Round(time.Millisecond))
	start = time.Now()
	t := &usage.Table{}
	keep := func() error {
		rows += t.Len()
		err := s.SaveFold(ctx, src, &fold.Batch{Table: t, Records: t.Len()})
		t = &usage.Table{}
		return err
	}
	for _, list := range life(x, part, 5) {
		for _, u := range list {
			t.MergeUse(u)
		}
		if t.Len() >= usesABatch {
			if err := keep(); err != nil {
				return err
			}
		}
	}
	if err := keep(); err != nil {
		return err
	}
	// The source forgets nothing: what it remembered at the first reading is all there is.
	for _, at := range []time.Time{lived.AddDate(0, 0, -livedFor), lived} {
		if err := s.LogRead(ctx, src, at); err != nil {
			return err
		}
	}
	fmt.Printf("%d uses kept in %s; %d MB at the peak\nclipfence -C %s --as-of %s gauge\n", rows,
		time.Since(start).Round(time.Millisecond), peak(), dir, lived.Format(time.RFC3339))
	return nil
}

// keepSurvey keeps an estate as a survey found it.
func keepSurvey(ctx context.Context, s *store.Store, e *model.Estate) error {
	v, err := s.BeginSurvey(ctx, e.Source, lived)
	if err != nil {
		return err
	}
	for list := range slices.Chunk(files.Records(e), recordsABatch) {
		if err := s.SaveBatch(ctx, v.ID, source.Batch{Records: list, Cursor: "end", Version: "made"}); err != nil {
			return err
		}
	}
	return s.FinishSurvey(ctx, v.ID, lived)
}
