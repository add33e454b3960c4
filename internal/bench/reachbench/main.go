// Command reachbench measures questions about access on a large made-up estate.
package main

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/pprof"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/escalate"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
	"clipfence/internal/snapshot"
)

func main() {
	part := flag.Int("part", 1, "one part in so many of the whole estate")
	file := flag.String("snapshot", filepath.Join(os.TempDir(), "reachbench.index"), "where to keep the snapshot")
	ask := flag.Bool("ask", false, "only ask the snapshot one question, as a cold command does")
	pass := flag.Bool("pass", false, "only sum up the whole estate of the snapshot")
	climb := flag.Bool("escalation", false,
		"only work out who can give itself what, for all identities of the snapshot")
	compare := flag.Bool("gauge", false,
		"only compare what is granted with a made-up life, for all identities of the snapshot")
	drafts := flag.Int("draft", 0, "with -gauge: draft for so many, of the most danger that can go")
	dir := flag.String("workspace", "",
		"only make a workspace here in which the estate was surveyed and its made-up life read, to time commands in")
	profile := flag.String("profile", "", "write a CPU profile here")
	heap := flag.String("heap", "", "with -gauge: write a profile of the memory that a comparison keeps here")
	flag.Parse()
	run := func() error { return measureAll(*part, *file) }
	switch {
	case *dir != "":
		run = func() error { return makeWorkspace(*part, *dir) }
	case *ask:
		run = func() error { return askOnce(*file) }
	case *pass:
		run = func() error { return sumUp(*file) }
	case *compare:
		run = func() error { return gaugeAll(*part, *file, *drafts, *heap) }
	case *climb:
		run = func() error { return climbAll(*file) }
	}
	if err := profiled(*profile, run); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func profiled(file string, run func() error) error {
	if file == "" {
		return run()
	}
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := pprof.StartCPUProfile(f); err != nil {
		return err
	}
	defer pprof.StopCPUProfile()
	return run()
}

const key = "bench"

// askOnce is what a cold command does: open the snapshot, check it, answer.
func askOnce(file string) error {
	start := time.Now()
	x, err := snapshot.Open(file, key)
	if err != nil {
		return err
	}
	opened := time.Since(start)
	id := x.ID(x.Identities() / 2)
	d := x.Decide(id, x.Permission(1).Permission, x.Path(x.Nodes()/2), model.Context{})
	fmt.Printf("opened and verified in %s, answered %q in %s\n", opened.Round(time.Microsecond), d.Outcome,
		(time.Since(start) - opened).Round(time.Microsecond))
	return x.Close()
}

func measureAll(part int, file string) error {
	start := time.Now()
	e := generate(part, 1)
	fmt.Printf("estate 1/%d: %d nodes, %d identities, %d grants, made in %s\n", part, len(e.Nodes), len(e.Identities),
		len(e.Grants), time.Since(start).Round(time.Millisecond))
	qs, people := questions(e, 20000, 3), callers(e)
	built, written, err := build(e, file)
	if err != nil {
		return err
	}
	fmt.Printf("index built: %s; snapshot written: %s\n", built.Round(time.Millisecond),
		written.Round(time.Millisecond))
	e = nil // from here on there is the snapshot only
	debug.FreeOSMemory()
	x, err := snapshot.Open(file, key)
	if err != nil {
		return err
	}
	defer x.Close()
	given := 0
	for i := range 500 {
		given += len(x.Given(people[i*len(people)/500]))
	}
	fmt.Printf("%d MB of columns; %d grants an identity, after groups\n", x.Size()>>20, given/500)
	allowed := 0
	why := func(i int) {
		if x.Decide(qs[i].id, qs[i].p, qs[i].path, model.Context{}).Outcome != access.Denied {
			allowed++
		}
	}
	measure(len(qs), why)
	report("why, warm", measure(len(qs), why))
	fmt.Printf("  %d of %d allowed\n", allowed/2, len(qs))
	n := 0
	who := func(i int) { n += len(x.Who(qs[i].p, qs[i].path)) }
	measure(500, who)
	n = 0
	report("who can do P at N, warm", measure(2000, who))
	fmt.Printf("  %d holders on average\n", n/2000)
	w := x.NewWalk(index.Possible)
	w.Pieces(qs[0].id)
	n = 0
	report("one identity's answer in pieces, warm", measure(1000, func(i int) { n += len(w.Pieces(qs[i].id)) }))
	fmt.Printf("  %d pieces on average\n", n/1000)
	return nil
}

// everybody returns every identity of an index but groups.
func everybody(x *index.Index) []model.ID {
	var out []model.ID
	for i := range x.Identities() {
		if x.Kind(i) != model.Group && x.Known(i) {
			out = append(out, x.ID(i))
		}
	}
	return out
}

// sumUp sums up every identity of a snapshot.
func sumUp(file string) error {
	x, err := snapshot.Open(file, key)
	if err != nil {
		return err
	}
	defer x.Close()
	start := time.Now()
	pairs := wholeEstate(x.Index, everybody(x.Index))
	fmt.Printf("whole estate: %s on %d cores, %.3g pairs of permission and node; %d MB at the peak\n",
		time.Since(start).Round(time.Millisecond), runtime.GOMAXPROCS(0), float64(pairs), peak())
	return nil
}

// climbAll works out what everybody can give itself, and who can become administrator
// of the top and of twenty nodes below it.
func climbAll(file string) error {
	x, err := snapshot.Open(file, key)
	if err != nil {
		return err
	}
	defer x.Close()
	start := time.Now()
	nodes := x.Tops()
	x.Scopes(nodes[0], func(p model.Path) {
		if len(nodes) < 21 {
			nodes = append(nodes, p)
		}
	})
	g := escalate.New(x.Index, nodes)
	some := g.States()
	routes := 0
	for i := range nodes {
		routes += len(g.Climbers(i))
	}
	fmt.Printf("escalation: %s for all identities; %d can take some step, %d times somebody can become "+
		"administrator of one of %d nodes; %d MB at the peak\n", time.Since(start).Round(time.Millisecond), some,
		routes, len(nodes), peak())
	return nil
}

// peak returns the most memory that the process has had, in MB (proc(5), VmHWM).
func peak() int {
	data, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	n := 0
	if _, rest, ok := strings.Cut(string(data), "VmHWM:"); ok {
		_, _ = fmt.Sscan(rest, &n) // 0 where it is not told
	}
	return n >> 10
}

func build(e *model.Estate, file string) (built, written time.Duration, err error) {
	start := time.Now()
	x, err := index.Build(e)
	if err != nil {
		return 0, 0, err
	}
	built = time.Since(start)
	err = snapshot.Write(file, key, x)
	return built, time.Since(start) - built, err
}

// wholeEstate sums every identity up and returns how many pairs that makes.
func wholeEstate(x *index.Index, people []model.ID) uint64 {
	walks, sums := make([]*index.Walk, parallel.Workers()), make([]uint64, parallel.Workers())
	parallel.Each(len(people), func(k, i int) {
		if walks[k] == nil {
			walks[k] = x.NewWalk(index.Possible)
		}
		for _, p := range walks[k].Pairs(people[i]) {
			sums[k] += p
		}
	})
	pairs := uint64(0)
	for _, p := range sums {
		pairs += p
	}
	return pairs
}

type question struct {
	id   model.ID
	p    model.Permission
	path model.Path
}

// questions draws some from a seed; a quarter is about paths that no inventory lists.
func questions(e *model.Estate, n int, seed uint64) []question {
	r := rand.New(rand.NewPCG(seed, 3))
	people := callers(e)
	qs := make([]question, n)
	for i := range qs {
		qs[i] = question{people[r.IntN(len(people))], e.Catalogue[r.IntN(len(e.Catalogue))].Permission,
			e.Nodes[r.IntN(len(e.Nodes))].Path}
		if i%4 == 0 {
			qs[i].path = qs[i].path.Child("", "new")
		}
	}
	return qs
}

// callers returns every identity but groups.
func callers(e *model.Estate) []model.ID {
	var out []model.ID
	for _, i := range e.Identities {
		if i.ID.Kind != model.Group {
			out = append(out, i.ID)
		}
	}
	return out
}

// measure times each call; the times come sorted.
func measure(n int, f func(i int)) []time.Duration {
	out := make([]time.Duration, n)
	for i := range n {
		start := time.Now()
		f(i)
		out[i] = time.Since(start)
	}
	slices.Sort(out)
	return out
}

func report(what string, t []time.Duration) {
	fmt.Printf("%s: median %s, p99 %s\n", what, t[len(t)/2], t[len(t)*99/100])
}

// logged returns records that say that every permission is logged everywhere.
func logged(x *index.Index) []model.CoverageRecord {
	var out []model.CoverageRecord
	seen := map[model.CoverageRecord]bool{}
	for i := range x.Numbers() {
		c := x.Permission(i)
		for _, top := range x.Tops() {
			r := model.CoverageRecord{Node: top, Service: c.Permission.Service(), LogClass: c.LogClass, Written: true}
			if !seen[r] {
				seen[r] = true
				out = append(out, r)
			}
		}
	}
	return out
}

// writeHeap writes a profile of the memory in use, where a file is named.
func writeHeap(file string) error {
	if file == "" {
		return nil
	}
	runtime.GC() // what is in use is as of the last one
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	return errors.Join(pprof.WriteHeapProfile(f), f.Close())
}

// gaugeAll compares what everybody is granted with what they used.
func gaugeAll(part int, file string, drafts int, heap string) error {
	x, err := snapshot.Open(file, key)
	if err != nil {
		return err
	}
	defer x.Close()
	debug.SetGCPercent(25) // while they are read, as for any source with so many uses
	if drafts == 0 {
		debug.SetMemoryLimit(int64(8*x.Size()) + int64(160*folded/part))
	}
	g := &usage.Gather{}
	g.Expect(folded / part)
	start := time.Now()
	for _, list := range life(x.Index, part, 5) {
		for _, u := range list {
			g.Add(u)
		}
	}
	uses := g.Uses()
	fmt.Printf("%d uses made in %s; %d MB\n", uses.Len(), time.Since(start).Round(time.Millisecond), peak())
	start = time.Now()
	in := &gauge.Input{Index: x.Index, Uses: uses, Coverage: usage.NewCoverage(nil, usage.Read{}), AsOf: lived,
		Window: 90, History: lived.AddDate(0, 0, -livedFor), Paths: func(*model.Grant) bool { return drafts > 0 }}
	if drafts > 0 { // everything is logged, from the first day on
		in.Coverage = usage.NewCoverage(logged(x.Index), usage.Read{First: in.History, Ends: []time.Time{lived},
			Until: lived})
	}
	if drafts == 0 { // and then as long as there is room
		debug.SetGCPercent(100)
	}
	res := gauge.Run(in)
	fmt.Printf("gauge: %s for %d identities and %d grants; %d MB at the peak\n",
		time.Since(start).Round(time.Millisecond), len(res.Standings), len(res.Grants), peak())
	if err := writeHeap(heap); err != nil {
		return err
	}
	start = time.Now()
	found := gauge.Findings(in, res)
	fmt.Printf("findings: %s, %d; %d MB at the peak\n", time.Since(start).Round(time.Millisecond), len(found), peak())
	if drafts == 0 {
		return nil
	}
	start = time.Now()
	worth := draft.NewWorth(in, res)
	who := draft.Candidates(in, res, worth)
	fmt.Printf("learned: %s, %d candidates; %d MB at the peak\n", time.Since(start).Round(time.Millisecond), len(who),
		peak())
	var took []time.Duration
	for _, id := range who[:min(drafts, len(who))] {
		start = time.Now()
		if _, err := draft.FromUse(in, res, id, draft.Options{Worth: worth}); err != nil &&
			!errors.Is(err, draft.ErrNothing) && !errors.Is(err, draft.ErrProtected) {
			return err
		}
		took = append(took, time.Since(start))
	}
	slices.Sort(took)
	report(fmt.Sprintf("%d drafts", len(took)), took)
	return nil
}
