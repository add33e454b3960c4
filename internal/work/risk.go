package work

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

// Risk is how likely it is that what a fence takes away is needed within 90 days, as the past of
// the estate says.
type Risk struct {
	Touched  int     // identities whose access the fence makes smaller
	Expected float64 // how many of them are expected to have a call refused
	Soon     float64 // and how many within 30 days
	Asks     float64 // how often somebody is expected to ask for what goes, within 90 days
	Worst    []Miss  // what is likeliest to be missed
	Assumed  bool    // there was too little past, so priors speak
	Seasons  []Season
}

// A Season is the time within which somebody who loses what it used did all that it ever did: that may come
// every year, and no chance of the next 90 days says so.
type Season struct {
	Identity model.ID
	From, To time.Time // the first day and the last one
}

// Miss is something that goes and may be needed: permissions on the same places.
type Miss struct {
	Identity   model.ID
	Do         []model.Permission // the likeliest first
	Class      risk.Class
	Where      []model.PathPattern // the zero pattern stands for everywhere else
	Chance     float64             // of the likeliest
	Like, Came int                 // so many parts like it there were, and so many of them were needed
	Days       int                 // within so many days
	Few        bool                // so few that mostly an assumption speaks
}

// mostMisses is how many are listed.
const mostMisses = 5

// riskier says how much more is expected of a fence now than when it was drafted, as far as it
// says what that was; "" where it is not much more.
func riskier(f *fence.Fence, k *Risk) string {
	was := f.Proven.Expects
	if was == nil || k.Assumed || k.Expected <= *was+max(leastWorse, *was/2) {
		return ""
	}
	return fmt.Sprintf("its risk grew: of %.2f identities a call is expected to be refused within 90 days, where it "+
		"was %.2f when it was drafted", k.Expected, *was)
}

// leastWorse is how many more identities must be expected to have a call refused for a risk to be
// one that nobody agreed to.
const leastWorse = 0.1

// expects is what a fence says of its risk: nothing where the past is too short.
func (k *Risk) expects() *float64 {
	if k.Assumed {
		return nil
	}
	x := math.Round(1000*k.Expected) / 1000
	return &x
}

// riskOf returns the risk of an edit, which some fences make, for some identities. What they offer to
// ask for is not missed by whoever may ask.
func riskOf(ctx context.Context, s *Source, worth *draft.Worth, d access.Edit, who []model.ID, now usage.Day,
	fences ...*fence.Fence) (*Risk, error) {
	after, err := s.With(d)
	if err != nil {
		return nil, err
	}
	past, learned := worth.Risk()
	out := &Risk{Assumed: !learned.KnowsUsed()}
	offers := map[model.ID][]*fence.Fence{} // that offer anything, by whom they are for: of forty thousand few
	for _, f := range fences {
		for _, a := range f.Asks {
			out.Asks += a.Expected
		}
		if to := f.For.In(s.Name); len(f.Asks) > 0 {
			offers[to] = append(offers[to], f)
		}
	}
	for _, id := range who {
		if ctx.Err() != nil { // of thousands this takes minutes
			return nil, ctx.Err()
		}
		if i, _ := s.Identity(id); i.Disabled {
			continue // it calls nothing any more
		}
		losses := risk.Lost(past, learned, after, id, now, worth.Having(id, now))
		if len(losses) == 0 {
			continue
		}
		if len(offers) > 0 {
			var mine []*fence.Fence
			for _, in := range s.Closure(id) {
				mine = append(mine, offers[in.ID]...)
			}
			losses = slices.DeleteFunc(losses, func(l risk.Loss) bool { // it can ask for that
				return fence.Lends(mine, s.Index, id, s.Permission(l.Perm).Permission, l.Part.Where)
			})
		}
		out.Touched++
		if slices.ContainsFunc(losses, func(l risk.Loss) bool { return l.Part.Class == risk.Used }) {
			if from, to, is := past.Season(id, now); is {
				out.Seasons = append(out.Seasons, Season{id, from.Time(), to.Time()})
			}
		}
		late, soon := learned.Broken(losses)
		out.Expected, out.Soon = out.Expected+late, out.Soon+soon
		var own []Miss
		for _, l := range losses {
			p := s.Permission(l.Perm).Permission
			i := slices.IndexFunc(own, func(m Miss) bool {
				return m.Class == l.Part.Class && slices.Equal(m.Where, l.Part.Where)
			})
			switch {
			case i >= 0:
				own[i].Do = append(own[i].Do, p)
			case len(own) < mostMisses:
				n, came, days := learned.Like(l.Part)
				own = append(own, Miss{id, []model.Permission{p}, l.Part.Class, l.Part.Where, l.Needed(), n, came,
					days, n < risk.Enough})
			}
		}
		out.Worst = append(out.Worst, own...)
		slices.SortStableFunc(out.Worst, func(a, b Miss) int { return cmp.Compare(b.Chance, a.Chance) })
		out.Worst = out.Worst[:min(len(out.Worst), mostMisses)]
	}
	return out, nil
}

// touched returns who has what is given to somebody: itself, the members of a group, everybody.
func (s *Source) touched(to model.ID) []model.ID {
	to.Source = ""
	var out []model.ID
	if !to.Open() {
		n, ok := s.Number(to)
		if !ok {
			return nil
		}
		var in []int
		s.Members(n, func(i int) { in = append(in, i) })
		slices.Sort(in)
		for _, i := range in {
			if id := s.ID(i); s.Index.Known(i) && id.Kind != model.Group {
				out = append(out, id)
			}
		}
		return out
	}
	for n := range s.Everybody() {
		if id := s.ID(n); id.Kind != model.Group {
			out = append(out, id)
		}
	}
	return out
}
