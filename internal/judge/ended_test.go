package judge

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
)

// ended returns an estate without what is over at a time.
func ended(e *model.Estate, at time.Time) *model.Estate {
	over := func(when model.Condition, until time.Time) bool {
		return !until.IsZero() && !until.After(at) || !when.Until.IsZero() && !when.Until.After(at)
	}
	out := *e
	out.Grants = slices.DeleteFunc(slices.Clone(e.Grants), func(g model.Grant) bool { return over(g.When, g.Until) })
	out.Denials = slices.DeleteFunc(slices.Clone(e.Denials),
		func(d model.Denial) bool { return over(d.When, time.Time{}) })
	out.ActAs = slices.DeleteFunc(slices.Clone(e.ActAs), func(a model.ActAs) bool { return over(a.When, a.Until) })
	return &out
}

// TestInForce: what is in force is what the plain engine finds without what is over, in views too; of later
// calls the same is decided with it and without; what is over keeps its name, and may go.
func TestInForce(t *testing.T) {
	gone, whole := 0, 0
	for seed := range uint64(estates(t)) {
		g := newRandom(seed)
		e := g.estate(t)
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		if seed%2 == 0 {
			x = reloaded(t, x)
		}
		if seed%3 == 0 {
			d := g.edit(t, e)
			if x, err = x.With(d); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			e = d.Apply(e)
		}
		at := noon.Add(time.Duration(seed%3-1) * time.Hour)
		left := ended(e, at)
		y, now := x.InForce(at), plain.New(left)
		if same := y == x; same != (len(left.Grants)+len(left.Denials)+len(left.ActAs) ==
			len(e.Grants)+len(e.Denials)+len(e.ActAs)) {
			t.Fatalf("seed %d: is something over? the view says %v", seed, !same)
		} else if same {
			whole++
		}
		callers := append([]string{"person/nobody", "everyone", "signed-in"}, append(g.people, g.groups...)...)
		for i := range questions / 4 {
			q := g.question()
			id, p, path := model.MustID(callers[i%len(callers)]), model.MustPermission(g.pick(g.perms)),
				model.MustPath(q.path)
			ctx := q.context(g.labels(q.path))
			if i%2 == 0 {
				ctx = model.Context{}
			}
			if want, got := told(now.Decide(id, p, path, ctx)), told(y.Decide(id, p, path, ctx)); want != got {
				t.Fatalf("seed %d: %s %s %s:\nplain: %s\nview:  %s", seed, id, p, path, want, got)
			}
			if ctx.Time = at.Add(time.Duration(i%50) * time.Hour); x.Decide(id, p, path, ctx).Outcome !=
				y.Decide(id, p, path, ctx).Outcome {
				t.Fatalf("seed %d: %s %s %s at %s is not decided as before", seed, id, p, path, ctx.Time)
			}
		}
		for _, text := range callers {
			id := model.MustID(text)
			totalsAgree(t, seed, now, y, id)
			holdingsAgree(t, seed, now, y, id)
			if a, b := fmt.Sprint(now.Closure(id)), fmt.Sprint(y.Closure(id)); a != b {
				t.Fatalf("seed %d: %s: closure %s, want %s", seed, id, b, a)
			}
		}
		intoAgrees(t, seed, g, now, y)
		for over := range x.Ended(at) {
			gone++
			_, known := y.GrantNamed(over.ID)
			again := 0
			for o := range y.Ended(at) {
				if o.ID == over.ID {
					again++
				}
			}
			if !known || again != 1 {
				t.Fatalf("seed %d: grant %s, which is over, is known: %v, and told %d times", seed, over.ID, known,
					again)
			}
			z, err := y.With(access.Edit{Gone: access.Gone{Grants: []string{over.ID}}})
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			if _, known = z.GrantNamed(over.ID); known {
				t.Fatalf("seed %d: grant %s is known when it went", seed, over.ID)
			}
			n, _ := x.GrantNamed(over.ID)
			if kept := x.InForce(at, over.ID); !slices.Contains(kept.GrantsTo(over.To), n) ||
				slices.Contains(y.GrantsTo(over.To), n) {
				t.Fatalf("seed %d: grant %s, which is over, stays where it is not named, or goes where it is", seed,
					over.ID)
			}
		}
	}
	if gone == 0 || whole == 0 {
		t.Errorf("%d grants over, %d estates in which nothing is: that says little", gone, whole)
	}
}
