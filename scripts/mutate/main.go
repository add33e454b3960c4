// Command mutate asks whether the tests would notice: it puts small faults into the code, one
// at a time, and runs the tests of the package and then those that hold the parts against
// each other. A fault that no test fails on is told.
//
//	go run ./scripts/mutate -n 400 -seed 1
//
// All faults are compiled in at once, in a copy of the module; which of them is awake is said
// by a number when a test binary is started (mutation schemata: Untch, Offutt and Harrold,
// Mutation analysis using mutant schemata, ISSTA 1993). So a fault costs no build.
//
// First every test runs by itself with no fault awake and says which places of faults it
// reaches: a test that does not get there can notice nothing. Then each fault is shown to the
// tests that reach it, those that end soonest first.
//
// The faults: a comparison with the next operator, a branch that is never taken, half of a
// condition, a constant that is another, a call that is left out; not whether an error is
// passed on. Those that change nothing that anybody could see are listed with the reason in
// equivalent.txt, by the name that the output gives them.
package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// packages are where faults are put.
var packages = []string{
	"internal/core/access", "internal/core/access/index", "internal/core/escalate", "internal/core/gauge",
	"internal/core/posture", "internal/core/draft",
	"internal/core/fence", "internal/core/check", "internal/core/rehearse", "internal/core/gate",
	"internal/core/usage", "internal/core/risk", "internal/core/backtest", "internal/core/mine",
	"internal/core/review",
	"internal/core/model",
	"internal/change", "internal/ledger", "internal/patrol", "internal/sshsig",
}

// besides are packages whose tests are shown a fault of a package, too.
var besides = map[string][]string{
	"internal/core/access":       {"internal/core/access/index", "internal/change"},
	"internal/core/access/index": {"internal/core/escalate", "internal/core/gauge", "internal/snapshot"},
	"internal/core/fence":        {"internal/core/draft", "internal/core/rehearse", "internal/fencefile"},
	"internal/core/check":        {"internal/core/rehearse"},
	"internal/core/gate":         {"internal/patrol", useCases},
	"internal/core/review":       {useCases},
	"internal/core/rehearse":     {useCases},
	"internal/change":            {useCases},
	"internal/ledger":            {"internal/patrol", useCases},
	"internal/core/usage":        {"internal/core/gauge", "internal/core/draft"},
	"internal/core/model":        {"internal/core/access/index", "internal/core/rehearse", "internal/source/files"},
	"internal/core/gauge":        {"internal/core/draft", lives},
	"internal/core/draft":        {lives},
	"internal/core/risk":         {"internal/core/draft", lives},
}

const (
	useCases = "internal/work"
	lives    = "internal/bench/judgebench" // drafts for whole lives
	last     = "internal/judge"
)

// skipped are tests about the text of the program, which the faults change.
const skipped = "TestArrowsGoDownOnly|TestCoreTakesNoClock|TestLinesFit"

func main() {
	n := flag.Int("n", 400, "how many faults")
	seed := flag.Uint64("seed", 1, "which ones")
	only := flag.String("package", "", "only faults in packages whose folder holds this")
	keep := flag.String("one", "", "only the fault of this name")
	least := flag.Float64("least", 0.90, "exit with 1 when a smaller share is found")
	flag.Parse()
	if err := run(*n, *seed, *only, *keep, *least); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run(n int, seed uint64, only, keep string, least float64) error {
	start := time.Now()
	dir, err := os.MkdirTemp("", "mutate-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := copyModule(dir); err != nil {
		return err
	}
	equivalent, err := readEquivalent("scripts/mutate/equivalent.txt")
	if err != nil {
		return err
	}
	all, err := plant(dir)
	if err != nil {
		return err
	}
	var chosen []*fault
	for _, f := range all {
		if strings.Contains(f.pkg, only) && (keep == "" || f.name == keep) {
			chosen = append(chosen, f)
		}
	}
	chosen = sample(chosen, n, seed)
	bins, err := binaries(dir, chosen)
	if err != nil {
		return err
	}
	built := time.Since(start)
	tests, err := known(dir, bins) // tests that fail by themselves notice nothing
	if err != nil {
		return err
	}
	fmt.Printf("%d faults of %d in %d packages, built in %s; %d tests run alone by %s\n", len(chosen), len(all),
		len(packages), built.Round(time.Second), len(tests), time.Since(start).Round(time.Second))
	found, same := 0, 0
	var missed []*fault
	var mu sync.Mutex
	each(chosen, func(_ int, f *fault) {
		by, asked, took := f.noticed(dir, tests)
		mu.Lock()
		switch why, known := equivalent[f.name]; {
		case by != "":
			found++
			if took > long {
				fmt.Printf("slow      %s:%d  %s, by %s (%s)\n", f.file, f.line, f.name, by, took.Round(time.Second))
			}
		case known:
			same++
			fmt.Printf("the same  %s (%s)\n", f.name, why)
		default:
			missed = append(missed, f)
			fmt.Printf("MISSED    %s:%d  %s\n          %s\n          -> %s (%d tests, %s)\n", f.file, f.line,
				f.name, f.was, f.is, asked, took.Round(time.Millisecond))
		}
		mu.Unlock()
	})
	real := len(chosen) - same
	share := 1.0
	if real > 0 {
		share = float64(found) / float64(real)
	}
	fmt.Printf("%d of %d faults were noticed (%.1f %%), %d not, %d change nothing; %s\n", found, real, 100*share,
		len(missed), same, time.Since(start).Round(time.Second))
	if share < least {
		return fmt.Errorf("less than %.0f %% were noticed", 100*least)
	}
	return nil
}

// sample takes n faults, as many of each package as of any other where it has them. Which they are goes
// by their names, so that a seed means the same faults as long as the code around them is the same.
func sample(all []*fault, n int, seed uint64) []*fault {
	drawn := map[string][sha256.Size]byte{}
	for _, f := range all {
		drawn[f.name] = sha256.Sum256([]byte(fmt.Sprintf("%d %s", seed, f.name)))
	}
	slices.SortFunc(all, func(a, b *fault) int {
		x, y := drawn[a.name], drawn[b.name]
		return bytes.Compare(x[:], y[:])
	})
	by := map[string][]*fault{}
	for _, f := range all {
		by[f.pkg] = append(by[f.pkg], f)
	}
	var out []*fault
	for len(out) < n {
		more := false
		for _, p := range packages {
			if list := by[p]; len(list) > 0 && len(out) < n {
				out, by[p], more = append(out, list[0]), list[1:], true
			}
		}
		if !more {
			break
		}
	}
	return out
}

// readEquivalent reads lines "name: reason".
func readEquivalent(file string) (map[string]string, error) {
	out := map[string]string{}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		name, why, ok := strings.Cut(line, ": ")
		if !ok {
			return nil, fmt.Errorf("%s: want \"name: reason\", got %q", file, line)
		}
		out[name] = why
	}
	return out, nil
}

// copyModule copies what is needed to build and test.
func copyModule(to string) error {
	return filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name == ".git" || name == "docs/screenshots" {
				return filepath.SkipDir
			}
			return os.MkdirAll(filepath.Join(to, name), 0o755)
		}
		if !d.Type().IsRegular() {
			return nil
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(to, name), data, 0o644)
	})
}

var place = regexp.MustCompile(`(?m)^(?:vet: )?(internal/\S+\.go):(\d+):`)

// plant writes the faults into the copy. Those that do not compile are left out.
func plant(dir string) ([]*fault, error) {
	not := map[string]bool{}
	for range 12 {
		var all []*fault
		for _, pkg := range packages {
			list, err := plantIn(dir, pkg, len(all), not)
			if err != nil {
				return nil, err
			}
			all = append(all, list...)
		}
		if err := os.MkdirAll(filepath.Join(dir, "internal/fault"), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(dir, "internal/fault/fault.go"), []byte(awake), 0o644); err != nil {
			return nil, err
		}
		out, err := command(context.Background(), dir, "go", "build", "./internal/...").CombinedOutput()
		if err == nil {
			return all, nil
		}
		before := len(not)
		for _, m := range place.FindAllSubmatch(out, -1) {
			line, _ := strconv.Atoi(string(m[2]))
			for _, f := range all {
				if f.file == string(m[1]) && f.line == line {
					not[f.name] = true
				}
			}
		}
		if len(not) == before {
			return nil, fmt.Errorf("the copy does not build:\n%s", out)
		}
	}
	return nil, errors.New("the copy does not build after leaving out faults many times")
}

// awake is the package that says which fault is.
const awake = `// Package fault says which fault is awake.
package fault

import (
	"os"
	"strconv"
	"sync/atomic"
)

// at is the number of the fault that is awake; -1: none.
var at = func() int {
	if n, err := strconv.Atoi(os.Getenv("FAULT")); err == nil {
		return n
	}
	return -1
}()

// file is where places that are reached are noted; nil: nobody asks.
var file = func() *os.File {
	name := os.Getenv("FAULTS_REACHED")
	if name == "" {
		return nil
	}
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		panic(err)
	}
	return f
}()

// reached is a flag for every fault: a test passes some of them a thousand million times.
var reached [1 << 16]atomic.Bool

// Is reports whether a fault is awake.
func Is(n int) bool {
	if file != nil {
		note(n)
	}
	return at == n
}

func note(n int) {
	if !reached[n].Load() && reached[n].CompareAndSwap(false, true) {
		file.WriteString(strconv.Itoa(n) + "\n")
	}
}

// Or returns one of two values.
func Or[T any](n int, was, is T) T {
	if Is(n) {
		return is
	}
	return was
}
`

func command(ctx context.Context, dir, name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, name, args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=-mod=mod")
	return c
}

// tests returns the packages whose tests may notice a fault.
func (f *fault) tests() []string {
	return slices.Concat([]string{f.pkg}, besides[f.pkg], []string{last})
}

// binaries builds the test binaries that are needed.
func binaries(dir string, faults []*fault) (map[string]string, error) {
	out := map[string]string{}
	for _, f := range faults {
		for _, p := range f.tests() {
			if _, ok := out[p]; ok {
				continue
			}
			bin := filepath.Join(dir, strings.ReplaceAll(p, "/", "-")+".test")
			if text, err := command(context.Background(), dir, "go", "test", "-c", "-o", bin, "./"+
				p).CombinedOutput(); err != nil {
				return nil, fmt.Errorf("%s: %w\n%s", p, err, text)
			}
			if _, err := os.Stat(bin); err != nil { // it has no tests
				bin = ""
			}
			out[p] = bin
		}
	}
	return out, nil
}

// A proof is one test of a package, and what it reaches.
type proof struct {
	pkg, bin, name string
	took           time.Duration
	reaches        map[int]bool // numbers of faults
}

// long is what a fault may take without being told.
const long = time.Minute

// known runs every test by itself without a fault, and notes how long it takes and what it
// reaches.
func known(dir string, bins map[string]string) ([]*proof, error) {
	var out []*proof
	for _, pkg := range slices.Sorted(maps.Keys(bins)) {
		if bins[pkg] == "" {
			continue
		}
		c := command(context.Background(), filepath.Join(dir, pkg), bins[pkg], "-test.list", "^(Test|Fuzz|Example)",
			"-test.skip", skipped)
		text, err := c.Output()
		if err != nil {
			return nil, fmt.Errorf("the tests of %s: %w", pkg, err)
		}
		for name := range strings.Lines(string(text)) {
			name = strings.TrimSpace(name)
			if token.IsIdentifier(name) && !slices.Contains(strings.Split(skipped, "|"), name) {
				out = append(out, &proof{pkg: pkg, bin: bins[pkg], name: name})
			}
		}
	}
	errs := make([]error, len(out))
	each(out, func(i int, t *proof) {
		notes := filepath.Join(dir, fmt.Sprintf("reached-%d", i))
		start := time.Now()
		text, err := test(dir, []*proof{t}, -1, "FAULTS_REACHED="+notes)
		if t.took = time.Since(start); err != nil {
			errs[i] = fmt.Errorf("%s of %s fails without any fault: %w\n%s", t.name, t.pkg, err, text)
			return
		}
		t.reaches = map[int]bool{}
		data, err := os.ReadFile(notes)
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // it reaches no fault
			errs[i] = err
		}
		for line := range strings.Lines(string(data)) {
			n, err := strconv.Atoi(strings.TrimSpace(line))
			if err != nil {
				errs[i] = fmt.Errorf("%s: %w", notes, err)
			}
			t.reaches[n] = true
		}
	})
	return out, errors.Join(errs...)
}

// each calls f for every element, as many at a time as there are processors.
func each[T any](list []T, f func(i int, x T)) {
	next := make(chan int)
	var wg sync.WaitGroup
	for range max(1, runtime.NumCPU()) {
		wg.Go(func() {
			for i := range next {
				f(i, list[i])
			}
		})
	}
	for i := range list {
		next <- i
	}
	close(next)
	wg.Wait()
}

// noticed runs the tests that reach a fault until one fails, and returns its package; "": none
// did. It says how many there are. A test that does not end any more has noticed as well.
func (f *fault) noticed(dir string, tests []*proof) (by string, asked int, took time.Duration) {
	start := time.Now()
	for _, batch := range f.batches(tests) {
		asked += len(batch)
		if _, err := test(dir, batch, f.number); err != nil {
			return batch[0].pkg, asked, time.Since(start)
		}
	}
	return "", asked, time.Since(start)
}

// batches returns the tests that reach a fault: those of one package together that take as
// long as all before them did, so that few binaries are started and a quick test that notices
// is soon asked.
func (f *fault) batches(tests []*proof) [][]*proof {
	mine := f.tests()
	by := map[string][]*proof{}
	for _, t := range tests {
		if slices.Contains(mine, t.pkg) && t.reaches[f.number] {
			by[t.pkg] = append(by[t.pkg], t)
		}
	}
	type batch struct {
		tests []*proof
		took  time.Duration
	}
	var all []batch
	for _, list := range by {
		slices.SortFunc(list, func(a, b *proof) int {
			return cmp.Or(cmp.Compare(a.took, b.took), cmp.Compare(a.name, b.name))
		})
		most := time.Second / 2
		var next batch
		for _, t := range list {
			if len(next.tests) > 0 && next.took+t.took > most {
				all, next, most = append(all, next), batch{}, 2*most
			}
			next.tests, next.took = append(next.tests, t), next.took+t.took
		}
		all = append(all, next)
	}
	slices.SortFunc(all, func(a, b batch) int {
		return cmp.Or(cmp.Compare(a.took, b.took), cmp.Compare(a.tests[0].pkg, b.tests[0].pkg))
	})
	var out [][]*proof
	for _, b := range all {
		out = append(out, b.tests)
	}
	return out
}

// test runs some tests of one package with a fault awake.
func test(dir string, tests []*proof, fault int, env ...string) (text []byte, err error) {
	names := make([]string, len(tests))
	limit := 20 * time.Second
	for i, t := range tests {
		names[i] = t.name
		limit += 10 * t.took
	}
	if fault < 0 {
		limit = 10 * time.Minute
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	c := command(ctx, filepath.Join(dir, tests[0].pkg), tests[0].bin, "-test.short", "-test.failfast",
		"-test.skip", skipped, "-test.run", "^("+strings.Join(names, "|")+")$")
	c.Env = append(append(c.Env, "FAULT="+strconv.Itoa(fault)), env...)
	c.WaitDelay = time.Second
	return c.CombinedOutput()
}
