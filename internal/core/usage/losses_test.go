package usage_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A team writes one log: workloads that never rest and people who have weekends, public
// holidays, a week at Christmas and weeks off. Counts vary more than a Poisson process.
type team struct {
	perDay   float64
	people   float64 // share of the events that people make
	weekend  float64 // of what a working day holds, for people
	variance float64 // of a day's common factor, on the log scale
}

// holds returns how many events a usual day of the team has.
func (m team) holds(day time.Time) float64 {
	if w := day.Weekday(); w == time.Saturday || w == time.Sunday {
		return m.perDay * (1 - m.people + m.people*m.weekend)
	}
	return m.perDay
}

var start = time.Date(2020, 1, 1, 12, 0, 0, 0, time.UTC)

// life makes years of uses; lost says which share of a day's events the log lost.
func (m team) life(r *rand.Rand, days int, lost func(d int) float64) []usage.Use {
	const callers = 9
	poisson := func(mean float64) int {
		if mean > 60 {
			return max(0, int(math.Round(mean+math.Sqrt(mean)*r.NormFloat64())))
		}
		n, p := 0, math.Exp(-mean)
		for s, x := p, r.Float64(); x > s && n < 500; n++ {
			p *= mean / float64(n+1)
			s += p
		}
		return n
	}
	holidays := map[int]bool{}
	for d := range days {
		at := start.AddDate(0, 0, d)
		_, month, day := at.Date()
		if month == time.December && day >= 24 || month == time.January && day == 1 || month == time.May &&
			(day == 1 || day == 17) || r.IntN(60) == 0 {
			holidays[d] = true
		}
	}
	var out []usage.Use
	share := make([]float64, callers)
	sum := 0.0
	for i := range share {
		share[i] = 0.3 + r.Float64()
		sum += share[i]
	}
	var common []float64
	for range days {
		common = append(common, math.Exp(math.Sqrt(m.variance)*r.NormFloat64()-m.variance/2))
	}
	for i := range callers {
		person := float64(i) < m.people*callers
		vacation := r.IntN(340)
		var on []time.Time
		var ns []int64
		for d := range days {
			at := start.AddDate(0, 0, d)
			mean := m.perDay * share[i] / sum * common[d]
			if w := at.Weekday(); person && (w == time.Saturday || w == time.Sunday || holidays[d]) {
				mean *= m.weekend
			}
			if person && d%365 >= vacation && d%365 < vacation+21 {
				mean *= 0.02
			}
			if n := poisson(mean * (1 - lost(d)) * math.Exp(0.15*r.NormFloat64())); n > 0 {
				on, ns = append(on, at), append(ns, int64(n))
			}
		}
		total := int64(0)
		for _, n := range ns {
			total += n
		}
		out = append(out, usage.Use{Key: usage.Key{Identity: model.MustID(fmt.Sprintf("workload/w%d", i)),
			Permission: model.MustPermission("a/b:c"), Path: model.MustPath("/m")},
			Count: total, First: on[0], Last: on[len(on)-1], Days: usage.DaysOf(on...), Counts: usage.PackCounts(ns)})
	}
	return out
}

func gaps(uses []usage.Use, days int) []usage.Gap {
	rec := model.CoverageRecord{Node: model.MustPath("/m"), Service: "a", LogClass: "l", Written: true}
	c := usage.NewCoverage([]model.CoverageRecord{rec},
		usage.Read{First: start, Ends: []time.Time{start.AddDate(0, 0, days)}})
	c.Observe(usage.ListOf(uses...), func(model.Permission) string { return "l" }, nil, nil)
	return c.Stream(rec).Gaps
}

var teams = []team{
	{200, 0, 1, 0.01}, {200, 0.5, 0.1, 0.02}, {500, 0.8, 0.05, 0.01}, {2000, 0.3, 0.3, 0.03}, {1000, 1, 0.25, 0.01},
	{300, 1, 0.1, 0.02},
}

// TestQuietYears: in a hundred years of logs of many kinds, holidays included, at most one
// loss is told that was none.
func TestQuietYears(t *testing.T) {
	const seed = 31
	years := 100
	if testing.Short() {
		years = 24
	}
	r := rand.New(rand.NewPCG(seed, 0))
	alarms := 0
	for i := range years / 2 {
		for _, g := range gaps(teams[i%len(teams)].life(r, 2*365, func(int) float64 { return 0 }), 2*365) {
			alarms++
			t.Logf("team %d: %s to %s", i%len(teams), g.From.Time().Format(time.DateOnly),
				g.To.Time().Format(time.DateOnly))
		}
	}
	if alarms > 1 {
		t.Errorf("seed %d: %d alarms in %d years", seed, alarms, years)
	}
}

// TestSteady: a log that hardly varies loses a fifth of its events and no more than that, which is no
// loss, however far out of the usual it is; a third is one.
func TestSteady(t *testing.T) {
	const days = 300
	for _, tt := range []struct {
		lost float64
		told bool
	}{{0.2, false}, {0.35, true}, {0.5, true}} {
		var uses []usage.Use
		for i := range 9 {
			var on []time.Time
			var ns []int64
			for d := range days {
				n := 200.0 + float64(d%3)
				if d >= 200 && d < 203 {
					n *= 1 - tt.lost
				}
				on, ns = append(on, start.AddDate(0, 0, d)), append(ns, int64(n))
			}
			total := int64(0)
			for _, n := range ns {
				total += n
			}
			uses = append(uses, usage.Use{Key: usage.Key{Identity: model.MustID(fmt.Sprintf("workload/w%d", i)),
				Permission: model.MustPermission("a/b:c"), Path: model.MustPath("/m")},
				Count: total, First: on[0], Last: on[days-1], Days: usage.DaysOf(on...), Counts: usage.PackCounts(ns)})
		}
		if told := len(gaps(uses, days)) > 0; told != tt.told {
			t.Errorf("%.0f %% lost: told %t, want %t", 100*tt.lost, told, tt.told)
		}
	}
}

// TestHalving: a log that loses half of its events for three days is found in at least 90
// of 100, and nothing after the time that is asked about is looked at.
func TestHalving(t *testing.T) {
	const seed, days = 32, 400
	r := rand.New(rand.NewPCG(seed, 0))
	tries, found := 0, 0
	for i := range 300 {
		at := 60 + r.IntN(days-130)
		uses := teams[i%len(teams)].life(r, days, func(d int) float64 {
			if d >= at && d < at+3 {
				return 0.5
			}
			return 0
		})
		first := usage.DayOf(start.AddDate(0, 0, at))
		few := false
		for d := at; d < at+3; d++ {
			few = few || teams[i%len(teams)].holds(start.AddDate(0, 0, d)) < 200
		}
		if few {
			continue
		}
		tries++
		hit := false
		for _, g := range gaps(uses, days) {
			hit = hit || g.Partly && g.From <= first+1 && g.To >= first+1
		}
		if hit {
			found++
		} else {
			t.Logf("team %d, day %d (%s): not told", i%len(teams), at,
				start.AddDate(0, 0, at).Format("Mon 2006-01-02"))
		}
		for _, g := range gaps(uses, at) {
			if g.To >= first {
				t.Errorf("asked on the day before it, %v is told", g)
			}
		}
	}
	if found*100 < 90*tries {
		t.Errorf("seed %d: %d of %d found", seed, found, tries)
	}
}

// TestTooShort: of a log too short to say what is usual no loss is told, and of a longer one the same loss is.
func TestTooShort(t *testing.T) {
	for days, want := range map[int]bool{100: false, 200: true} {
		told := 0
		for seed := range uint64(20) {
			uses := teams[3].life(rand.New(rand.NewPCG(seed, 41)), days, func(d int) float64 {
				if d >= 50 && d < 53 {
					return 0.8
				}
				return 0
			})
			if slices.ContainsFunc(gaps(uses, days), func(g usage.Gap) bool { return g.Partly }) {
				told++
			}
		}
		if (told == 20) != want || (told == 0) == want {
			t.Errorf("of 20 logs of %d days a loss is told of %d", days, told)
		}
	}
}
