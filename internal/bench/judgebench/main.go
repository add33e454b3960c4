// Command judgebench judges drafts on made-up lives: everybody is drafted for as of a day, all
// drafts stand together, and the next 90 days are replayed against them. Simple rules are
// judged beside them.
package main

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
	"clipfence/internal/core/usage"
)

func main() {
	seeds := flag.Int("seeds", 20, "so many lives")
	first := flag.Int("first", 100, "the seed of the first; below 100 are those that are tuned on")
	only := flag.String("only", "", "one row only")
	why := flag.Bool("why", false, "with -only: also why danger stays, and what broke")
	var shape world
	flag.BoolVar(&shape.deep, "deep", false, "projects have folders")
	flag.BoolVar(&shape.plain, "plain", false, "names without numbers")
	flag.BoolVar(&shape.hospital, "hospital", false, "another life altogether")
	flag.BoolVar(&shape.works, "works", false, "a third life, of an organisation in which programs do most")
	flag.BoolVar(&shape.once, "once", false, "no survey of before is kept")
	flag.BoolVar(&shape.churn, "churn", false, "things are thrown away when they are not used any more")
	flag.BoolVar(&shape.undated, "undated", false, "nothing says when it was made")
	flag.IntVar(&shape.logs, "logs", 0, "so many days of logs are kept; 0: all")
	flag.BoolVar(&shape.again, "again", false, "all grants were made again three weeks ago")
	as := flag.String("as", "", "how the life is written down: "+strings.Join(shapes, ", "))
	flag.IntVar(&shape.things, "things", 0, "with -as objects: so many below each node; 0: one for each call")
	side := flag.Int("side", 1, "so many lives side by side are one")
	town := flag.String("town", "",
		"only make a workspace here in which so many lives were surveyed side by side, to time commands in")
	carryOut := flag.Bool("campaign", false, "carry the drafts out, month by month, as the commands do it")
	months := flag.Int("months", (livedFor-firstMonth)/monthLong+1, "with -campaign: so many months of it")
	surveys := flag.Int("surveys", 0, "with -town: survey it so many times, and not four")
	later := flag.Bool("later", false, "with -town: read what happened there in the 90 days after")
	flag.Parse()
	shape.as = map[string]bool{}
	for _, word := range strings.FieldsFunc(*as, func(r rune) bool { return r == ',' }) {
		if !slices.Contains(shapes, word) {
			fmt.Fprintf(os.Stderr, "-as %s: there are %s\n", word, strings.Join(shapes, ", "))
			os.Exit(2)
		}
		shape.as[word] = true
	}
	if (shape.hospital || shape.works) && (*town != "" || *side > 1) {
		fmt.Fprintln(os.Stderr, "-hospital, -works: these do not stand side by side; leave out -town and -side")
		os.Exit(2)
	}
	judge := func() error { return run(*first, *seeds, *side, *only, *why && *only != "", shape) }
	if *carryOut {
		judge = func() error { return campaigns(*first, *seeds, *side, firstMonth+monthLong*(*months-1), shape) }
	}
	if *town != "" {
		judge = func() error { return makeTown(*town, *first, *seeds, *surveys, shape) }
		if *later {
			judge = func() error { return liveOn(*town, *first, *seeds, shape) }
		}
	}
	if err := judge(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// score is what became of one way to narrow.
type score struct {
	soon, late, triples float64     // identities broken in 30 and in 90 days; identity, permission and place in 90
	removed             float64     // share of the danger beyond hindsight
	expected, hasty     float64     // identities broken in 90 and in 30 days, as the draft's own chances say
	asks                float64     // a month: one of one person a day
	lost                calibration // of what was taken away
}

// days on which each life is judged.
var days = []int{livedFor - 181, livedFor - 91}

// shapedAs returns a world as it is built, written down and known.
func shapedAs(w, shape world) world {
	w.deep, w.plain, w.hospital, w.works = shape.deep, shape.plain, shape.hospital, shape.works
	w.once, w.churn, w.again = shape.once, shape.churn, shape.again
	w.undated, w.logs, w.as = shape.undated, shape.logs, shape.as
	w.things = shape.things
	return w
}

func run(first, seeds, side int, only string, why bool, shape world) error {
	every := ways(only)
	type result struct {
		scores  []score
		callers float64
		risk    *calibration
		why     *anatomy
	}
	results := make([]result, seeds*len(days))
	var wg sync.WaitGroup
	var mu sync.Mutex
	var failed error
	next := 0
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for {
				mu.Lock()
				i := next
				next++
				mu.Unlock()
				if i >= len(results) || failed != nil {
					return
				}
				seed := first + i/len(days)
				j, err := newJudged(joined(first+i/len(days)*side, side, shape), days[i%len(days)])
				for _, w := range every {
					if err != nil {
						break
					}
					var s score
					if s, err = j.score(w.edit); err == nil {
						results[i].scores = append(results[i].scores, s)
					}
					var edit access.Edit
					if err == nil && why {
						if edit, err = w.edit(j); err == nil {
							results[i].why, err = j.anatomy(edit)
						}
					}
				}
				if err != nil {
					mu.Lock()
					failed = errors.Join(failed, fmt.Errorf("seed %d: %w", seed, err))
					mu.Unlock()
					return
				}
				results[i].callers, results[i].risk = float64(len(j.callers)), j.calibrate()
			}
		})
	}
	wg.Wait()
	if failed != nil {
		return failed
	}
	n := float64(len(results))
	callers := 0.0
	for _, r := range results {
		callers += r.callers / n
	}
	fmt.Printf("%d lives, two days each; %.0f calling identities\n", seeds, callers)
	t := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, "way\tids broken in 30 / 90 days\t95 %\texpected in 30 / 90\ttriples in 90"+
		"\tdanger removed\t95 %")
	for k, w := range every {
		var s score
		for _, r := range results {
			s.soon += r.scores[k].soon / n
			s.late += r.scores[k].late / n
			s.triples += r.scores[k].triples / n
			s.removed += r.scores[k].removed / n
			s.expected += r.scores[k].expected / n
			s.hasty += r.scores[k].hasty / n
			s.asks += r.scores[k].asks / n
		}
		late, removed := make([]float64, seeds), make([]float64, seeds)
		for i, r := range results {
			late[i/len(days)] += r.scores[k].late / float64(len(days))
			removed[i/len(days)] += r.scores[k].removed / float64(len(days))
		}
		a, b := interval(late)
		c, d := interval(removed)
		name := w.name
		if s.asks > 0 {
			name += fmt.Sprintf(", %.1f asks a month", s.asks)
		}
		fmt.Fprintf(t, "%s\t%.1f / %.1f\t%.1f to %.1f\t%.1f / %.1f\t%.1f\t%.3f\t%.3f to %.3f\n", name,
			s.soon, s.late, a, b, s.hasty, s.expected, s.triples, s.removed, c, d)
	}
	all := calibration{}
	for _, r := range results {
		all.add(r.risk)
	}
	all.print(t, "sort of place")
	if only != "" {
		for k, w := range every {
			lost := calibration{}
			for _, r := range results {
				lost.add(&r.scores[k].lost)
			}
			lost.print(t, "dropped by "+w.name)
		}
	}
	if why {
		sum := newAnatomy()
		for _, r := range results {
			sum.add(r.why, 1/n)
		}
		sum.print(t)
	}
	return t.Flush()
}

// interval returns between which two values the mean of a figure lies, with 95 %: the percentile
// bootstrap over lives (Efron and Tibshirani, An Introduction to the Bootstrap, 1993), the days of
// one life being one. The same lives are drawn for every row.
func interval(of []float64) (low, high float64) {
	r := rand.New(rand.NewPCG(1, 1))
	means := make([]float64, 2000)
	for i := range means {
		for range of {
			means[i] += of[r.IntN(len(of))] / float64(len(of))
		}
	}
	slices.Sort(means)
	return means[len(means)/40], means[len(means)-1-len(means)/40]
}

// judged is one life as of a day, and what came after.
type judged struct {
	life    *life
	day     int
	x       *index.Index
	in      *gauge.Input
	callers []model.ID
	after   []call // that were allowed as of the day
	held    float64
	least   float64 // with hindsight
	res     *gauge.Result
	worth   *draft.Worth
	lent    []*fence.Fence // that offer to be asked, of the way that is judged
}

// asks reports whether somebody may ask for what a call needs.
func (j *judged) asks(c call) bool {
	return fence.Lends(j.lent, j.x, j.life.who[c.who], j.life.perms[c.perm], []model.PathPattern{c.path.Exactly()})
}

func newJudged(l *life, day int) (*judged, error) {
	e := l.at(day)
	x, err := index.Build(e)
	if err != nil {
		return nil, err
	}
	j := &judged{life: l, day: day, x: x}
	now, begin := dayTime(day), dayTime(0)
	if n := l.known.logs; n > 0 {
		begin = dayTime(day - n)
	}
	end := now
	if l.known.as["late"] {
		end = dayTime(day - 10)
	}
	cover := usage.NewCoverage(e.Coverage, usage.Read{First: begin, Ends: []time.Time{end}, Until: end})
	j.in = &gauge.Input{Index: x, Uses: usage.ListOf(l.uses(day)...), Coverage: cover, AsOf: now, Window: 90,
		History: begin,
		Place: gauge.PlaceInput{Past: func(n int, _ func(int) usage.Use) []bool { // surveys of then are kept
			return slices.Repeat([]bool{true}, n)
		}}}
	if !l.known.once { // so each joining shows
		j.in.Joined = map[model.Membership]time.Time{}
		for _, m := range l.joined {
			if m.from > 0 && m.from <= day && day < m.to {
				j.in.Joined[m.Membership] = dayTime(m.from)
			}
		}
	}
	class := func(p model.Permission) string { c, _ := x.Entry(p); return c.LogClass }
	cover.Observe(j.in.Uses, class, func(_, class string) bool { return class == "read" }, nil)
	var gone []model.Path
	for at, end := range l.ended {
		if end <= day {
			gone = append(gone, at)
		}
	}
	if len(gone) > 0 {
		j.in.Place.Inventory = usage.InventoryOf(x, gone, nil)
	}
	if l.known.once {
		var nodes []model.Path
		for _, n := range e.Nodes {
			nodes = append(nodes, n.Path)
		}
		j.in.Place = gauge.PlaceInput{Inventory: usage.NewInventory(e.Source, nodes, nil)}
	}
	calling := map[model.ID]bool{}
	for _, u := range j.in.Uses.All() {
		calling[u.Identity] = true
	}
	for id := range calling {
		j.callers = append(j.callers, id)
	}
	slices.SortFunc(j.callers, model.ID.Compare)
	for _, c := range l.calls {
		if c.day > day && c.day <= day+90 && x.Decide(l.who[c.who], l.perms[c.perm], c.path,
			model.Context{}).Outcome == access.Allowed {
			j.after = append(j.after, c)
		}
	}
	j.res = gauge.Run(j.in)
	j.worth = draft.NewWorth(j.in, j.res)
	j.held = j.danger(x)
	best, err := x.With(j.hindsight())
	if err != nil {
		return nil, err
	}
	j.least = j.danger(best)
	return j, nil
}

// danger is what the callers of the life hold together.
func (j *judged) danger(x *index.Index) float64 {
	s := gauge.NewScale(x, gauge.DefaultWeights)
	d := 0.0
	for _, id := range j.callers {
		one, _ := s.Held(id)
		d += one
	}
	return d
}

func (j *judged) score(narrow func(*judged) (access.Edit, error)) (score, error) {
	j.lent = nil
	edit, err := narrow(j)
	if err != nil {
		return score{}, err
	}
	x, err := j.x.With(edit)
	if err != nil {
		return score{}, err
	}
	type triple struct {
		who, perm int
		at        model.Path
	}
	asked := map[[2]int]bool{}
	soon, late, triples := map[int]bool{}, map[int]bool{}, map[triple]bool{}
	refused := map[model.ID]map[int][]model.Path{}
	for _, c := range j.after {
		if x.Decide(j.life.who[c.who], j.life.perms[c.perm], c.path, model.Context{}).Outcome != access.Denied {
			continue
		}
		if j.asks(c) {
			asked[[2]int{c.who, c.day}] = true
			continue
		}
		late[c.who], triples[triple{c.who, c.perm, c.path}] = true, true
		j.need(refused, c)
		if c.day <= j.day+30 {
			soon[c.who] = true
		}
	}
	now := usage.DayOf(dayTime(j.day))
	past, learned := j.worth.Risk()
	expected, hasty := 0.0, 0.0
	var lost calibration
	for _, id := range j.life.who { // also of whom no log knows yet
		if _, there := j.x.Number(id); !there {
			continue
		}
		losses := risk.Lost(past, learned, x, id, now, j.worth.Having(id, now))
		losses = slices.DeleteFunc(losses, func(l risk.Loss) bool {
			return fence.Lends(j.lent, j.x, id, j.x.Permission(l.Perm).Permission, l.Part.Where)
		})
		lost.lose(losses, refused[id])
		late, soon := learned.Broken(losses)
		expected, hasty = expected+late, hasty+soon
	}
	return score{float64(len(soon)), float64(len(late)), float64(len(triples)),
		(j.held - j.danger(x)) / (j.held - j.least), expected, hasty, float64(len(asked)) / 3, lost}, nil
}

// drafted is what our drafts for everybody do together.
func drafted(c draft.Caution) func(*judged) (access.Edit, error) { return draftedWith(c, false) }

// draftedWith is drafted, with gates where they are offered.
func draftedWith(c draft.Caution, gates bool) func(*judged) (access.Edit, error) {
	return func(j *judged) (access.Edit, error) {
		fences, err := draft.Everybody(j.in, j.res, draft.Options{Caution: c, Worth: j.worth, Gates: gates})
		for _, f := range fences {
			if len(f.Asks) > 0 {
				j.lent = append(j.lent, f)
			}
		}
		return fence.EditOf(fences, "w"), err
	}
}
