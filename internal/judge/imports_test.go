package judge_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"
)

// mayImport is the architecture: for each folder of internal, what else of ours it
// may import. A folder that ends in "/" stands for itself and all below it. What
// is not listed may be imported by nobody but those who list it.
var mayImport = map[string][]string{
	"core/model":         {},
	"core/access":        {"core/model"},
	"core/access/plain":  {"core/model", "core/access"},
	"core/access/index":  {"core/model", "core/access", "core/parallel"},
	"core/parallel":      {},
	"core/access/bygone": {"core/model", "core/access", "core/access/index", "core/parallel"},
	"core/escalate":      {"core/model", "core/access", "core/access/index", "core/parallel"},
	"core/usage":         {"core/model", "core/parallel"},
	"core/fence":         {"core/model", "core/access", "core/access/index"},
	"core/gauge": {"core/model", "core/access", "core/access/index", "core/escalate", "core/parallel",
		"core/usage"},
	"core/gauge/gaugetest": {"core/"},
	"core/posture": {"core/model", "core/access", "core/access/index", "core/escalate", "core/gauge",
		"core/parallel"},
	"core/risk": {"core/model", "core/access", "core/access/index", "core/usage"},
	"core/draft": {"core/model", "core/access", "core/access/index", "core/usage", "core/gauge",
		"core/fence", "core/risk", "core/review", "core/escalate"},
	"core/review": {"core/model"},
	"core/mine":   {"core/access"},
	"core/backtest": {"core/model", "core/access", "core/access/index", "core/usage", "core/gauge",
		"core/fence", "core/risk", "core/draft"},
	"core/check": {"core/model", "core/access/index", "core/usage", "core/fence"},
	"core/rehearse": {"core/model", "core/access", "core/access/index", "core/usage", "core/gauge", "core/fence",
		"core/check"},
	"core/gate":         {"core/model"},
	"auditlog":          {"core/"},
	"auditlog/":         {"core/", "auditlog/"},
	"source":            {"core/", "auditlog/"},
	"source/":           {"core/", "auditlog/", "source", "source/documents", "yamlfile"},
	"yamlfile":          {"core/model"},
	"fencefile":         {"core/", "yamlfile", "render"},
	"accessfile":        {"core/model", "yamlfile", "render"},
	"config":            {"core/model", "core/usage", "yamlfile", "sshsig", "trust"},
	"trust":             {"sshsig"},
	"kept":              {}, // of tests
	"lookup":            {},
	"render":            {},
	"report":            {},
	"sshsig":            {},
	"uses":              {"core/", "auditlog/"},
	"uses/usestest":     {"core/", "auditlog/", "uses"},
	"snapshot":          {"core/access/index"},
	"store":             {"core/", "auditlog/", "source", "uses", "ledger"},
	"ledger":            {},
	"ledger/ledgertest": {"ledger"},
	"change":            {"core/", "source", "ledger"},
	"patrol":            {"core/", "source", "ledger", "change"},
	"sandbox":           {}, // it judges the core, so it shares nothing with it
	"sandbox/generate":  {"sandbox"},
	"work": {"core/", "auditlog/", "source/", "yamlfile", "fencefile", "accessfile", "config", "sshsig", "snapshot",
		"lookup", "store", "ledger", "change", "patrol", "trust"},
	"cli":    {"work", "render", "report", "core/model", "yamlfile", "sandbox/"},
	"judge":  {},
	"bench/": {"core/", "auditlog/", "source/", "snapshot", "store", "work", "bench/workdir"},
}

// heavy packages belong to one place each; none reaches the core.
var owner = map[string][]string{
	"github.com/spf13/cobra":         {"cli"},
	"modernc.org/sqlite":             {"store", "sandbox"},
	"charm.land/lipgloss/":           {"render"},
	"charm.land/bubbletea/":          {"cli"},
	"go.yaml.in/yaml":                {"yamlfile", "render", "work"},
	"golang.org/x/crypto/ssh":        {"sshsig", "trust", "work", "cli"},
	"golang.org/x/term":              {"cli"},
	"github.com/klauspost/compress/": {"auditlog", "store", "lookup", "sandbox", "bench"},
	"github.com/parquet-go/":         {"auditlog/columns", "render", "bench"},
	"gonum.org/v1/gonum/":            {"core/risk"},
	"git.sr.ht/~sbinet/gg":           {"report"},
	"golang.org/x/image/":            {"report"},
	"net/http":                       {"source/bridge", "sandbox", "cli"},
	"database/sql":                   {"store", "sandbox"},
	"cel.dev/":                       {"auditlog/logmap"},
}

// pure is what the core may use of the standard library besides what computes.
var impure = []string{"os", "io/fs", "net", "net/http", "os/exec", "log/slog", "database/sql", "path/filepath",
	"embed", "testing"}

func TestArrowsGoDownOnly(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		pkg := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(filepath.ToSlash(name), "../")))
		allowed, rule := rulesOf(pkg)
		if rule == "" {
			t.Errorf("internal/%s has no rule: say in mayImport what it may import", pkg)
			return nil
		}
		seen[rule] = true
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, im := range f.Imports {
			path, err := strconv.Unquote(im.Path.Value)
			if err != nil {
				return err
			}
			if ours, ok := strings.CutPrefix(path, "clipfence/internal/"); ok && !within(allowed, ours) {
				t.Errorf("%s imports %s: internal/%s may import %v", name, path, pkg, allowed)
			}
			for lib, places := range owner {
				if (path == lib || strings.HasPrefix(path, lib+"/") || strings.HasSuffix(lib, "/") &&
					strings.HasPrefix(path, lib)) &&
					!slices.ContainsFunc(places, func(p string) bool {
						return pkg == p ||
							strings.HasPrefix(pkg, p+"/")
					}) {
					t.Errorf("%s imports %s, which only %v may", name, path, places)
				}
			}
			if path == "clipfence/internal/core/access/plain" {
				t.Errorf("%s imports %s, which is for tests to hold the index against", name, path)
			}
			if strings.HasPrefix(pkg, "core/") && slices.Contains(impure, path) {
				t.Errorf("%s imports %s: the core is pure", name, path)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for rule := range mayImport {
		if !seen[rule] {
			t.Errorf("mayImport has a rule for %q, where nothing is", rule)
		}
	}
}

func rulesOf(pkg string) ([]string, string) {
	if r, ok := mayImport[pkg]; ok {
		return r, pkg
	}
	for dir := pkg; strings.Contains(dir, "/"); {
		dir = dir[:strings.LastIndexByte(dir, '/')]
		if r, ok := mayImport[dir+"/"]; ok {
			return r, dir + "/"
		}
	}
	return nil, ""
}

func within(allowed []string, pkg string) bool {
	return slices.ContainsFunc(allowed, func(a string) bool {
		return a == pkg || strings.HasSuffix(a, "/") &&
			(strings.HasPrefix(pkg, a) || pkg == strings.TrimSuffix(a, "/"))
	})
}

// TestCoreTakesNoClock: time and chance are arguments.
func TestCoreTakesNoClock(t *testing.T) {
	err := filepath.WalkDir("../core", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			return err
		}
		used := selectors(f)
		for _, bad := range []string{"time.Now", "time.Since", "time.Until", "rand.N", "rand.IntN", "fmt.Print",
			"fmt.Println", "fmt.Printf"} {
			if used[bad] {
				t.Errorf("%s calls %s: clock, chance and text are arguments of the core", name, bad)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// selectors returns every name of the form package.Name that a file uses.
func selectors(f *ast.File) map[string]bool {
	out := map[string]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok {
			if x, ok := s.X.(*ast.Ident); ok {
				out[x.Name+"."+s.Sel.Name] = true
			}
		}
		return true
	})
	return out
}

// TestLinesFit: a line is read at once, so it has fewer than 120 columns; but for what cannot
// be broken, texts in back quotes.
func TestLinesFit(t *testing.T) {
	for _, root := range []string{"..", "../../cmd", "../../scripts"} {
		err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") {
				return err
			}
			text, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			quoted := false
			for n, line := range strings.Split(string(text), "\n") {
				in := quoted || strings.Contains(line, "`")
				quoted = quoted != (strings.Count(line, "`")%2 == 1)
				if w := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); w >= 120 && !in {
					t.Errorf("%s:%d has %d columns", name, n+1, w)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}
