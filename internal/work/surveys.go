package work

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

// Surveys lists the surveys that are kept of a source, or of all where it is "", the newest
// first.
func (w *Workspace) Surveys(ctx context.Context, src string) ([]store.Survey, error) {
	return w.store.Surveys(ctx, src)
}

// StaleLogs are the log files of a source that were read with other maps than those of now.
type StaleLogs struct {
	Logs []StaleLog
	Err  error // they cannot be told
}

// Stale lists, source by source, the log files that were read with other maps than those of
// now.
func (w *Workspace) Stale(ctx context.Context) ([]StaleLogs, error) {
	sources, err := w.each()
	if err != nil {
		return nil, err
	}
	var out []StaleLogs
	for _, s := range sources {
		var x StaleLogs
		x.Logs, x.Err = w.stale(ctx, s)
		out = append(out, x)
	}
	return out, nil
}

// CompareSurveys says what differs between two surveys of a source, by number; 0 stands for
// the last but one, and for the newest.
func (w *Workspace) CompareSurveys(ctx context.Context, ids [2]int64) (src string, v [2]store.Survey,
	changes []RecordChange, err error) {
	s, err := w.pick("")
	if err != nil {
		return "", v, nil, err
	}
	list, err := w.store.Surveys(ctx, s.Name)
	if err != nil {
		return "", v, nil, err
	}
	if len(list) < 2 && (ids[0] == 0 || ids[1] == 0) {
		return "", v, nil, fmt.Errorf("source %s keeps fewer than two surveys, and two are needed (run: clipfence "+
			"survey)", s.Name)
	}
	if ids[0] == 0 {
		ids[0] = list[1].ID
	}
	if ids[1] == 0 {
		ids[1] = list[0].ID
	}
	var e [2]*model.Estate
	for i := range e {
		if e[i], v[i], err = w.estate(ctx, s, ids[i]); err != nil {
			return "", v, nil, err
		}
	}
	changes, err = compareEstates(e[0], e[1])
	return s.Name, v, changes, err
}

// RecordChange is one record that differs between two surveys.
type RecordChange struct {
	Change string          `json:"change" doc:"added, removed or changed"`
	Kind   string          `json:"kind"`
	ID     string          `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

func compareEstates(a, b *model.Estate) ([]RecordChange, error) {
	type key struct{ kind, id string }
	read := func(e *model.Estate) (map[key]json.RawMessage, error) {
		out := map[key]json.RawMessage{}
		for _, r := range files.Records(e) {
			body, err := json.Marshal(r.Value)
			if err != nil {
				return nil, err
			}
			out[key{r.Kind, r.ID}] = body
		}
		return out, nil
	}
	before, err := read(a)
	if err != nil {
		return nil, err
	}
	after, err := read(b)
	if err != nil {
		return nil, err
	}
	out := []RecordChange{}
	union := maps.Clone(before)
	maps.Copy(union, after)
	for k := range union {
		was, is := before[k], after[k]
		switch {
		case was == nil:
			out = append(out, RecordChange{"added", k.kind, k.id, nil, is})
		case is == nil:
			out = append(out, RecordChange{"removed", k.kind, k.id, was, nil})
		case string(was) != string(is):
			out = append(out, RecordChange{"changed", k.kind, k.id, was, is})
		}
	}
	// What gives access first, then what the rest of it hangs on.
	order := []string{source.Grants, source.Memberships, source.ActAs, source.Roles, source.Denials, source.Ceilings,
		source.Guardrails, source.Identities, source.Nodes, source.Coverage, source.Permissions, source.Semantics}
	slices.SortFunc(out, func(x, y RecordChange) int {
		if d := slices.Index(order, x.Kind) - slices.Index(order, y.Kind); d != 0 {
			return d
		}
		if x.ID < y.ID {
			return -1
		}
		return 1
	})
	return out, nil
}
