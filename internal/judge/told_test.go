package judge

import (
	"encoding/json"
	"errors"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// tellsOf returns what a comparison tells, of itself and of each; with what drafts look at where it is given.
func tellsOf(t *testing.T, res *gauge.Result, drafts *gauge.Input) (all []byte, of map[model.ID][]byte) {
	t.Helper()
	all, who, tell, err := res.Tell(drafts)
	of = map[model.ID][]byte{}
	for _, id := range who {
		if err == nil {
			of[id], err = tell(id)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	return all, of
}

// TestRetold: what was kept of a comparison tells of each identity, on random estates, what the comparison did; and
// where anything of it is missing, or it was told of another estate, it tells nothing.
func TestRetold(t *testing.T) {
	grants := 0
	for i := range uint64(estates(t) / 4) {
		in := crowded(t, 600_001+i)
		res := gauge.Run(in)
		all, of := tellsOf(t, res, nil)
		get := func(id model.ID) ([]byte, bool, error) { body, told := of[id]; return body, told, nil }
		said := func(v any) string {
			b, err := json.Marshal(v)
			if err != nil {
				t.Fatal(err)
			}
			return string(b)
		}
		same := func(id model.ID, what string, got, want any) {
			if g, w := said(got), said(want); g != w {
				t.Fatalf("estate %d, %s: %s is %s, and was %s", i, id, what, g, w)
			}
		}
		for _, one := range in.Index.Everybody() {
			id := one.ID
			if id.Source != "" {
				continue
			}
			got, err := gauge.Retell(in.Index, in.Weights, []model.ID{id}, all, get)
			if err != nil {
				t.Fatalf("estate %d, %s: %v", i, id, err)
			}
			same(id, "the window", got.Window, res.Window)
			same(id, "the share", got.Observable, res.Observable)
			same(id, "its calls", got.Placement.Of[id], res.Placement.Of[id])
			mine, was := *got.Of(id), *res.Of(id)
			if len(mine.Grants) != len(was.Grants) {
				t.Fatalf("estate %d, %s: %d grants, and had %d", i, id, len(mine.Grants), len(was.Grants))
			}
			mine.Grants, was.Grants = nil, nil
			same(id, "it", mine, was)
			same(id, "what it sums up to", got.Sums([]*gauge.Standing{&mine}), res.Sums([]*gauge.Standing{&was}))
			same(id, "its reach", got.Reach(id), res.Reach(id))
			in.Index.EachHolding(id, func(h *access.Holding) {
				grants++
				mine, was := *got.Grants[h.Number], *res.Grants[h.Number]
				was.Use, was.Dark = nil, nil
				same(id, "a grant", mine, was)
			})
			for _, n := range in.Index.Givers(id) {
				lost := in.Index.ID(n)
				less := func(id model.ID) ([]byte, bool, error) {
					body, told := of[id]
					return body, told && id != lost, nil
				}
				_, err := gauge.Retell(in.Index, in.Weights, []model.ID{id}, all, less)
				_, listed := in.Index.Identity(lost)
				if missed := listed || len(in.Index.GrantsTo(lost)) > 0; missed != errors.Is(err, gauge.ErrUntold) {
					t.Fatalf("estate %d, %s: without what was told of %s: %v", i, id, lost, err)
				}
			}
		}
		for _, g := range in.Index.Grants() { // what was told of an estate is not what is told of one with less
			if _, listed := in.Index.Identity(g.To); !listed || g.To.Source != "" {
				continue
			}
			less, err := in.Index.With(access.Edit{Gone: access.Gone{Grants: []string{g.ID}}})
			if err != nil {
				t.Fatal(err)
			}
			if _, err := gauge.Retell(less, in.Weights, []model.ID{g.To}, all, get); !errors.Is(err, gauge.ErrUntold) {
				t.Fatalf("estate %d: without grant %s of %s: %v", i, g.ID, g.To, err)
			}
			break
		}
		in.Measured = func(model.ID) bool { return false }
		if _, _, _, err := gauge.Run(in).Tell(nil); err == nil && len(res.Standings) > 0 {
			t.Fatalf("estate %d: it tells what was not measured", i)
		}
	}
	if grants < 10*estates(t) {
		t.Errorf("%d grants were told of: too few", grants)
	}
}
