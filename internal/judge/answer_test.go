package judge

import (
	"math"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/core/usage"
)

// TestOneAnswer asks everything that says what somebody has, on random estates, and compares:
// what is decided call by call, summed up, listed into each place, gauged, rehearsed, and
// gauged again on the estate as it would be.
func TestOneAnswer(t *testing.T) {
	narrowed := 0
	for seed := range uint64(estates(t) / 2) {
		g := newRandom(seed + 40_000)
		e := g.estate(t)
		x := built(t, e)
		in := &gauge.Input{Index: x, Uses: g.uses(60, seed%2 == 0), Coverage: usage.NewCoverage(nil, usage.Read{}),
			AsOf: noon, Window: 90, History: noon.AddDate(0, 0, -400)}
		res := gauge.Run(in)
		walk := x.NewWalk(index.Possible)
		for _, st := range res.Standings {
			// Call by call against the sums and against what is listed into each place.
			places := map[int]uint32{}
			for _, n := range e.Nodes {
				eff := x.Effective(st.ID, n.Path)
				eff.Certain.Or(eff.Conditional)
				for i := range x.Numbers() {
					c := x.Permission(i)
					may := x.Decide(st.ID, c.Permission, n.Path, model.Context{}).Outcome != access.Denied
					if may != eff.Certain.Has(i) {
						t.Fatalf("seed %d: %s %s on %s: decided %t, listed %t", seed, st.ID, c.Permission, n.Path, may,
							!may)
					}
					if may && applies(c, n.Path) {
						places[i]++
					}
				}
			}
			// What is summed up grant by grant, and group by group.
			var sets [3]access.Set
			apart, want := [3]access.Set{}, index.Sum{}
			for i := range sets {
				sets[i], apart[i] = x.NewSet(), x.NewSet()
			}
			x.EachHolding(st.ID, func(h *access.Holding) {
				want.Holdings++
				switch {
				case h.Grant.To == st.ID:
					apart[0].Or(h.Perms)
				case h.Grant.To.Open():
					apart[2].Or(h.Perms)
				default:
					apart[1].Or(h.Perms)
				}
			})
			want.ByName, want.ByGroups, want.ByCrowds = apart[0].Count(), apart[1].Count(), apart[2].Count()
			if got := x.Sum(st.ID, &sets); got != want {
				t.Fatalf("seed %d: %s: %+v, want %+v", seed, st.ID, got, want)
			}
			sum := walk.Totals(st.ID)
			for i := range x.Numbers() {
				if sum.Places[i] != places[i] {
					t.Fatalf("seed %d: %s %s: summed up on %d nodes, decided on %d", seed, st.ID,
						x.Permission(i).Permission, sum.Places[i], places[i])
				}
			}
			// What is gauged, and what a fence is weighed against.
			f := &fence.Fence{Version: fence.FormatVersion,
				For: model.ID{Source: "m", Kind: st.ID.Kind, Name: st.ID.Name}}
			for _, gr := range st.Grants {
				if g.r.IntN(2) == 0 {
					f.Replaces = append(f.Replaces, gr.Grant.ID)
				}
			}
			r, err := rehearse.Run(x, f, in.Uses, nil, gauge.DefaultWeights)
			if err != nil {
				t.Fatal(err)
			}
			if same := math.Abs(r.Before-st.Danger) < 1e-6 && math.Abs(r.ReachBefore.Danger-st.Within.Danger) < 1e-6 &&
				len(r.Goes)+len(r.Stays) == st.Granted; !same {
				t.Fatalf("seed %d: %s: gauged %g held, %g within reach, %d permissions; rehearsed %g, %g, %d", seed,
					st.ID, st.Danger, st.Within.Danger, st.Granted, r.Before, r.ReachBefore.Danger, len(r.Goes)+
						len(r.Stays))
			}
			if len(f.Replaces) == 0 || seed%5 > 0 {
				continue
			}
			after, err := x.With(f.Edit("m"))
			if err != nil {
				t.Fatal(err)
			}
			then := *in
			then.Index = after
			if s := gauge.Run(&then).Of(st.ID); math.Abs(s.Danger-r.After) > 1e-6 ||
				math.Abs(s.Within.Danger-r.ReachAfter.Danger) > 1e-6 || s.Granted != len(r.Stays) {
				t.Fatalf("seed %d: %s: rehearsed %g held, %g within reach, %d permissions; gauged then %g, %g, %d",
					seed, st.ID, r.After, r.ReachAfter.Danger, len(r.Stays), s.Danger, s.Within.Danger, s.Granted)
			}
			narrowed++
		}
	}
	if narrowed < estates(t)/20 {
		t.Errorf("only %d were narrowed", narrowed)
	}
}

// TestDangerLaws: danger never falls when access grows, never grows when a rule takes away,
// and is the same when what others give as well is taken away.
func TestDangerLaws(t *testing.T) {
	spare := 0
	for seed := range uint64(estates(t) / 2) {
		g := newRandom(seed + 60_000)
		e := g.estate(t)
		x := built(t, e)
		var more, less access.Edit
		into(t, []any{g.grant()}, &more.Come.Grants)
		into(t, []any{g.denial()}, &less.Come.Denials)
		grown, err := x.With(more)
		if err != nil {
			t.Fatal(err)
		}
		shrunk, err := x.With(less)
		if err != nil {
			t.Fatal(err)
		}
		in := &gauge.Input{Index: x, Coverage: usage.NewCoverage(nil, usage.Read{}), AsOf: noon, Window: 90,
			History: noon.AddDate(0, 0, -400)}
		res := gauge.Run(in)
		was, up, down := res.Scale, gauge.NewScale(grown, gauge.DefaultWeights), gauge.NewScale(shrunk,
			gauge.DefaultWeights)
		for _, st := range res.Standings {
			now, _ := was.Held(st.ID)
			if d, _ := up.Held(st.ID); d < now-1e-9 {
				t.Fatalf("seed %d: %s: danger falls from %g to %g by a grant more", seed, st.ID, now, d)
			}
			if d, _ := down.Held(st.ID); d > now+1e-9 {
				t.Fatalf("seed %d: %s: danger grows from %g to %g by a denial", seed, st.ID, now, d)
			}
		}
		var gone access.Edit
		for i := range res.Redundant(in) {
			gone.Gone.Grants = append(gone.Gone.Grants, x.Grant(i).ID)
		}
		if len(gone.Gone.Grants) == 0 {
			continue
		}
		spare++
		rest, err := x.With(gone)
		if err != nil {
			t.Fatal(err)
		}
		left := gauge.NewScale(rest, gauge.DefaultWeights)
		for _, st := range res.Standings {
			a, _ := was.Held(st.ID)
			if b, _ := left.Held(st.ID); math.Abs(a-b) > 1e-9 {
				t.Fatalf("seed %d: %s: danger %g, and %g without what is redundant: %v", seed, st.ID, a, b,
					gone.Gone.Grants)
			}
		}
	}
	if spare == 0 {
		t.Error("nothing was ever redundant")
	}
}
