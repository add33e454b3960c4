package main

import (
	"encoding/json"
	"maps"
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
	"clipfence/internal/kept"
)

// keptDrafts holds what the drafts of a life give together, a case for each who gets or loses
// something, against what was kept: it says what moved where the figures of a life still agree.
func keptDrafts(t *testing.T, edit access.Edit, of func(grant string) model.ID) {
	t.Helper()
	by := map[model.ID]*access.Edit{}
	at := func(id model.ID) *access.Edit {
		if by[id] == nil {
			by[id] = &access.Edit{}
		}
		return by[id]
	}
	for _, g := range edit.Come.Grants {
		d := at(g.To)
		d.Come.Grants = append(d.Come.Grants, g)
	}
	for _, id := range edit.Gone.Grants {
		d := at(of(id))
		d.Gone.Grants = append(d.Gone.Grants, id)
	}
	for _, m := range edit.Gone.Memberships {
		d := at(m.Member)
		d.Gone.Memberships = append(d.Gone.Memberships, m)
	}
	ids := slices.SortedFunc(maps.Keys(by), model.ID.Compare)
	kept.Same(t, len(ids), func(i int) (name, text string) {
		b, err := json.Marshal(by[ids[i]])
		if err != nil {
			t.Error(err)
		}
		return ids[i].String(), string(b)
	})
}
