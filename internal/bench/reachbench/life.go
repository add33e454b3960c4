package main

import (
	"fmt"
	"iter"
	"math"
	"math/rand/v2"
	"net/netip"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// uses of the whole estate, over so many days up to [lived].
const (
	folded   = 10_000_000
	livedFor = 400
)

// lived is the end of the made-up life.
var lived = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

// life makes uses of an estate: about a share of [folded] rows in all, each of grants that
// somebody has. A tenth of the rows are of every day; of the others half have three days or
// fewer. How many rows somebody has is skewed, up to a thousand paths. They come identity
// after identity, so that whoever reads them keeps one identity at a time.
func life(x *index.Index, part int, seed uint64) iter.Seq2[model.ID, []usage.Use] {
	people := everybody(x)
	mean := float64(folded/part) / float64(len(people))
	end := usage.DayOf(lived)
	network := netip.MustParsePrefix("10.1.2.0/24")
	return func(yield func(model.ID, []usage.Use) bool) {
		for n, id := range people {
			r := rand.New(rand.NewPCG(seed, uint64(n)))
			given := x.Given(id)
			rows := int(mean * math.Exp(r.NormFloat64()-0.5)) // log-normal of that mean
			rows = min(rows, 12*int(mean))
			if len(given) == 0 || rows == 0 {
				if !yield(id, nil) {
					return
				}
				continue
			}
			fold := usage.Fold{}
			for tries := 4 * rows; len(fold) < rows && tries > 0; tries-- { // there may be no more places
				g := given[r.IntN(len(given))]
				grant := x.Grant(g)
				perm, ok := pickPerm(x.GrantPerms(g), r)
				if !ok || grant.To.Open() {
					continue
				}
				p := x.Permission(perm).Permission
				burst := 1 + r.IntN(20)
				if r.IntN(100) == 0 {
					burst = 1000
				}
				for range min(burst, rows-len(fold)) {
					u := usage.Use{Key: usage.Key{Identity: id, Permission: p, Path: below(grant.Where[0], r),
						Outcome: usage.Done, Network: network}}
					if fold[u.Key] != nil {
						continue
					}
					var days []time.Time
					if r.IntN(10) == 0 {
						for d := range livedFor {
							days = append(days, (end - usage.Day(d)).Time())
						}
					} else {
						for range 1 + r.IntN(3) + r.IntN(3)*r.IntN(4) {
							days = append(days, (end - usage.Day(r.IntN(livedFor))).Time())
						}
					}
					u.Days = usage.DaysOf(days...)
					list := u.Days.List()
					u.Count = int64(len(list))
					u.First, u.Last = list[0].Time().Add(time.Hour), list[len(list)-1].Time().Add(time.Hour)
					fold.Merge(u)
				}
			}
			if !yield(id, fold.Uses()) {
				return
			}
		}
	}
}

func pickPerm(perms access.Set, r *rand.Rand) (int, bool) {
	n := perms.Count()
	if n == 0 {
		return 0, false
	}
	at := r.IntN(n)
	for i := range perms.All() {
		if at == 0 {
			return i, true
		}
		at--
	}
	return 0, false
}

// below makes a path that a pattern holds, as the estate names its nodes.
func below(on model.PathPattern, r *rand.Rand) model.Path {
	at, ok := on.Node()
	if !ok {
		at, _ = on.Anchor()
	}
	kind, _ := at.Last()
	if kind == "harbour" {
		at = at.Child("unit", "u0")
		kind = "unit"
	}
	if kind == "unit" {
		at = at.Child("project", fmt.Sprintf("p%d", r.IntN(50)))
		kind = "project"
	}
	if kind == "project" {
		i := r.IntN(40)
		at = at.Child(nouns[i%len(nouns)], fmt.Sprintf("r%d", i))
	}
	return at
}
