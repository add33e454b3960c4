package judge

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
)

// once gives some estates grants that are gone since, one of which a change of ours took, and newcomers.
func once(t *testing.T, in *gauge.Input, seed uint64) {
	if seed%3 == 0 {
		return
	}
	var d access.Edit
	before := &gauge.Before{}
	for i, g := range in.Index.Grants() {
		if i%3 != int(seed%3) || len(d.Come.Grants) > 3 {
			continue
		}
		was := *g
		was.ID, was.Where = fmt.Sprintf("before:%d", i), []model.PathPattern{model.MustPath("/m").Below()}
		before.Gone = append(before.Gone, gauge.Former{Grant: was, From: noon.AddDate(0, 0, -380),
			To: noon.AddDate(0, 0, -30*(1+i)), Ours: i%2 == 0})
		d.Come.Grants = append(d.Come.Grants, was)
	}
	var err error
	if before.Index, err = in.Index.With(d); err != nil {
		t.Fatal(err)
	}
	if len(before.Gone) > 0 {
		in.Before = before
	}
	in.Joined = map[model.Membership]time.Time{}
	for i, id := range in.Index.Everybody() {
		for _, g := range in.Index.GroupsOf(id.ID) {
			if i%5 == 0 {
				in.Joined[model.Membership{Member: id.ID, Group: g}] = noon.AddDate(0, 0, -i)
			}
		}
	}
}

// TestFew: what is drafted for one, what a rehearsal of it says and what is expected of it, by what was told of
// those few that a draft looks at, is to the letter what the whole comparison and all uses give, on random estates.
func TestFew(t *testing.T) {
	drafts, refused, groups := 0, 0, 0
	for i := range uint64(max(8, estates(t)/16)) {
		seed := 700_001 + i
		in := crowded(t, seed)
		once(t, in, seed)
		res := gauge.Run(in)
		worth := draft.NewWorth(in, res)
		all, of := tellsOf(t, res, in)
		get := func(id model.ID) ([]byte, bool, error) { body, told := of[id]; return body, told, nil }
		whole, crew, err := worth.Whole()
		if err != nil {
			t.Fatal(err)
		}
		observed, err := in.Coverage.Observed()
		if err != nil {
			t.Fatal(err)
		}
		o := draft.Options{Conditions: seed%3 == 0, Limits: seed%4 == 0,
			Caution:            []draft.Caution{0, draft.Bold, draft.Careful, 1e-6}[seed%4],
			GiveUpUnobservable: seed%7 == 0, KeepUnobservable: seed%7 == 1, Gates: seed%5 < 2}
		for _, one := range in.Index.Everybody() {
			if one.ID.Source != "" {
				continue
			}
			id := one.ID
			few, ok := draft.Few(in.Index, id)
			if !ok {
				if !in.Index.Empty(id) {
					t.Fatalf("estate %d: %s is not asked of few", seed, id)
				}
				continue
			}
			crews := map[model.ID]*risk.Crew{}
			for _, g := range draft.Groups(in.Index, few) {
				crews[g] = crew(g)
			}
			callers := draft.Callers(few, crews)
			less := *in
			less.Since, less.Uses = nil, in.Uses.Select(func(u *usage.Use) bool {
				_, found := slices.BinarySearchFunc(callers, u.Principal(), model.ID.Compare)
				return found
			})
			less.Paths = func(g *model.Grant) bool { return g.To == id }
			if err := less.Coverage.Recall(observed); err != nil {
				t.Fatal(err)
			}
			r, w, err := draft.Told(&less, few, all, get, &whole, crews)
			if err != nil {
				t.Fatalf("estate %d, %s: %v", seed, id, err)
			}
			o.Worth = worth
			want, err := draft.FromUse(in, res, id, o)
			o.Worth = w
			got, errFew := draft.FromUse(&less, r, id, o)
			if fmt.Sprint(err) != fmt.Sprint(errFew) || errors.Is(err, draft.ErrNothing) != errors.Is(errFew,
				draft.ErrNothing) {
				t.Fatalf("estate %d, %s: %v, by few: %v", seed, id, err, errFew)
			}
			if err != nil {
				refused++
				continue
			}
			if drafts++; id.Kind == model.Group {
				groups++
			}
			if a, b := fencefile.Write(want, ""), fencefile.Write(got, ""); !bytes.Equal(a, b) {
				t.Fatalf("estate %d: it is\n%s\nby few\n%s", seed, a, b)
			}
			said := func(in *gauge.Input, res *gauge.Result, s *rehearse.Stage, w *draft.Worth,
				f *fence.Fence) string {
				r, err := s.Run(f, in.Uses, res.Placement)
				if err != nil {
					t.Fatal(err)
				}
				after, err := in.Index.With(f.Edit("m"))
				if err != nil {
					t.Fatal(err)
				}
				past, model := w.Risk()
				now := usage.DayOf(in.AsOf)
				var losses [][]risk.Loss
				for _, id := range few {
					losses = append(losses, risk.Lost(past, model, after, id, now, w.Having(id, now)))
				}
				b, err := json.Marshal([]any{r, losses})
				if err != nil {
					t.Fatal(err)
				}
				return string(b)
			}
			stage := func() *rehearse.Stage { return rehearse.NewStage(in.Index, gauge.DefaultWeights) }
			if a, b := said(in, res, stage(), worth, want), said(&less, r, stage().Know(r), w, got); a != b {
				t.Fatalf("estate %d, %s: it says\n%s\nby few\n%s", seed, id, a, b)
			}
		}
	}
	t.Logf("%d drafts, %d of groups, %d refused", drafts, groups, refused)
	if drafts < estates(t)/6 || groups < estates(t)/30 || refused < estates(t) {
		t.Error("too few to say much")
	}
}
