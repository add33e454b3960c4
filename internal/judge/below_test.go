package judge

import (
	"math/rand/v2"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestBelow: once somebody has less, what is within reach of each is by those few by whom everybody got furthest
// before just what it is without them, on random estates on which permissions let their holders give themselves more.
func TestBelow(t *testing.T) {
	same, less := 0, 0
	for seed := range uint64(max(2000, 4*estates(t))) {
		e := escalating(t, 910_000+seed)
		x := built(t, e)
		res := gauge.Run(&gauge.Input{Index: x, Uses: usage.ListOf(), AsOf: noon, Window: 90,
			Coverage: usage.NewCoverage(e.Coverage, usage.Read{First: noon.AddDate(-1, 0, 0)})})
		r := rand.New(rand.NewPCG(seed, 31))
		var d access.Edit
		for i := range e.Grants {
			if r.IntN(4) > 0 {
				continue
			}
			g := e.Grants[i]
			d.Gone.Grants = append(d.Gone.Grants, g.ID)
			if r.IntN(2) == 0 || g.Role != "" { // some of it stays, on some place of it
				continue
			}
			g.ID += "-less"
			g.Do = g.Do[:1+r.IntN(len(g.Do))]
			g.Where = g.Where[:1+r.IntN(len(g.Where))]
			d.Come.Grants = append(d.Come.Grants, g)
		}
		after, err := x.With(d)
		if err != nil {
			t.Fatal(err)
		}
		w := func() *gauge.Within { return gauge.NewWithin(gauge.NewScale(after, gauge.DefaultWeights)) }
		by, without := w(), w()
		by.Below(res)
		for _, i := range e.Identities {
			got, want := by.Of(i.ID), without.Of(i.ID)
			if got != want {
				t.Fatalf("seed %d, %s: within reach is %+v, want %+v; before %+v", seed, i.ID, got, want,
					res.Of(i.ID).Within)
			}
			if s := res.Of(i.ID); want.Anybody && s != nil && s.Within.Anybody && i.ID.Kind != model.External {
				if want.Danger == s.Within.Danger {
					same++
				} else {
					less++
				}
			}
		}
	}
	t.Logf("of those who can become anybody before and after %d get as far, %d less far", same, less)
	if same < 200 || less < 30 {
		t.Error("too few to say much")
	}
}
