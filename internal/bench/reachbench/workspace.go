package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"clipfence/internal/bench/workdir"
	"clipfence/internal/core/access/index"
)

// makeWorkspace makes a workspace in which the estate was surveyed and a log of its life was read.
func makeWorkspace(part int, dir string) (err error) {
	e := generate(part, 1)
	x, err := index.Build(e)
	if err != nil {
		return err
	}
	e.Coverage = logged(x)
	ctx := context.Background()
	w, err := workdir.Make(ctx, dir, e.Source)
	if err != nil {
		return err
	}
	// The source forgets nothing: what it remembered at the first reading is all there is.
	defer func() { err = errors.Join(err, w.Close(ctx, lived.AddDate(0, 0, -livedFor), lived)) }()
	start := time.Now()
	if err := w.Survey(ctx, e, lived); err != nil {
		return err
	}
	e = nil
	fmt.Printf("survey kept in %s\n", time.Since(start).Round(time.Millisecond))
	start = time.Now()
	for _, list := range life(x, part, 5) {
		if err := w.Use(ctx, list); err != nil {
			return err
		}
	}
	fmt.Printf("%d uses kept in %s; %d MB at the peak\nclipfence -C %s --as-of %s gauge\n", w.Rows,
		time.Since(start).Round(time.Millisecond), peak(), dir, lived.Format(time.RFC3339))
	return nil
}
