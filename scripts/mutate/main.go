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
// The faults: a comparison with the next operator, a branch that is never taken, half of a
// condition, a constant that is another, a call that is left out; not whether an error is
// passed on. Those that change nothing
// that anybody could see are listed with the reason in equivalent.txt, by the name that the
// output gives them.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
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

// besides are packages whose tests are run when those of the package itself, which come
// first, find nothing; the dearest come last.
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
	for p, bin := range bins { // tests that fail by themselves notice nothing
		if bin == "" {
			continue
		}
		if text, err := test(dir, p, bin, -1); err != nil {
			return fmt.Errorf("the tests of %s fail without any fault: %w\n%s", p, err, text)
		}
	}
	fmt.Printf("%d faults of %d in %d packages, built in %s\n", len(chosen), len(all), len(packages),
		time.Since(start).Round(time.Second))
	found, same := 0, 0
	var missed []*fault
	var mu sync.Mutex
	var wg sync.WaitGroup
	next := make(chan *fault)
	for range max(1, runtime.NumCPU()) {
		wg.Go(func() {
			for f := range next {
				by, took := f.noticed(dir, bins)
				mu.Lock()
				switch why, known := equivalent[f.name]; {
				case by != "":
					found++
				case known:
					same++
					fmt.Printf("the same  %s (%s)\n", f.name, why)
				default:
					missed = append(missed, f)
					fmt.Printf("MISSED    %s:%d  %s\n          %s\n          -> %s (%s)\n", f.file, f.line, f.name,
						f.was, f.is, took.Round(time.Millisecond))
				}
				mu.Unlock()
			}
		})
	}
	for _, f := range chosen {
		next <- f
	}
	close(next)
	wg.Wait()
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

// sample takes n faults, as many of each package as of any other where it has them.
func sample(all []*fault, n int, seed uint64) []*fault {
	r := rand.New(rand.NewPCG(seed, 0))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
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
)

// At is the number of the fault that is awake; -1: none.
var At = func() int {
	if n, err := strconv.Atoi(os.Getenv("FAULT")); err == nil {
		return n
	}
	return -1
}()

// Or returns one of two values.
func Or[T any](n int, was, is T) T {
	if At == n {
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

// tests returns the packages whose tests may notice a fault, in order.
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

// noticed runs tests until one fails, and returns the package of it; "": none did. A test
// that does not end any more has noticed as well.
func (f *fault) noticed(dir string, bins map[string]string) (by string, took time.Duration) {
	start := time.Now()
	for _, p := range f.tests() {
		if bins[p] == "" {
			continue
		}
		_, err := test(dir, p, bins[p], f.number)
		if err != nil {
			return p, time.Since(start)
		}
	}
	return "", time.Since(start)
}

// test runs the tests of a package with a fault awake.
func test(dir, pkg, bin string, fault int) (text []byte, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	c := command(ctx, filepath.Join(dir, pkg), bin, "-test.short", "-test.failfast", "-test.skip", skipped)
	c.Env = append(c.Env, "FAULT="+strconv.Itoa(fault))
	c.WaitDelay = time.Second
	return c.CombinedOutput()
}
