package main

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// A fault is one small change of the code.
type fault struct {
	number   int
	pkg      string
	file     string
	line     int
	name     string // stays the same while the function around it does not change much
	was, is  string
	from, to int // bytes of the file that it replaces
	text     string
}

// next is the operator that a comparison has as a fault.
var next = map[token.Token]string{token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=",
	token.NEQ: "=="}

// planter collects the faults of one file.
type planter struct {
	fset   *token.FileSet
	src    []byte
	file   string
	pkg    string
	consts map[string]bool // numbers of the package
	found  []*fault
	names  map[string]int
	not    map[string]bool
	first  int
	fn     string
}

// plantIn puts every fault into the copy of a package.
func plantIn(dir, pkg string, first int, not map[string]bool) ([]*fault, error) {
	files, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil {
		return nil, err
	}
	fset := token.NewFileSet()
	consts := map[string]bool{}
	parsed := map[string]*ast.File{}
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(fset, name, nil, parser.SkipObjectResolution|parser.ParseComments)
		if err != nil {
			return nil, err
		}
		parsed[name] = f
		numbers(f, consts)
	}
	var all []*fault
	for _, name := range files {
		f := parsed[name]
		if f == nil || ast.IsGenerated(f) {
			continue
		}
		src, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		p := &planter{fset: fset, src: src, file: filepath.ToSlash(name), pkg: pkg, consts: consts,
			names: map[string]int{}, not: not, first: first + len(all)}
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok && fn.Body != nil {
				p.fn = fn.Name.Name
				p.visit(fn.Body)
			}
		}
		text := p.write()
		if len(p.found) > 0 {
			at := int(fset.Position(f.Name.End()).Offset)
			text = text[:at] + "; import \"clipfence/internal/fault\"" + text[at:]
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return nil, err
		}
		all = append(all, p.found...)
	}
	return all, nil
}

// numbers collects the names of constants that are numbers.
func numbers(f *ast.File, into map[string]bool) {
	for _, d := range f.Decls {
		g, ok := d.(*ast.GenDecl)
		if !ok || g.Tok != token.CONST {
			continue
		}
		for _, s := range g.Specs {
			v := s.(*ast.ValueSpec)
			for i, n := range v.Names {
				if i < len(v.Values) && number(v.Values[i], nil) {
					into[n.Name] = true
				}
			}
		}
	}
}

// number reports whether an expression is a number that is written out, or a constant's name.
func number(e ast.Expr, consts map[string]bool) bool {
	switch x := e.(type) {
	case *ast.BasicLit:
		return x.Kind == token.INT || x.Kind == token.FLOAT
	case *ast.Ident:
		return consts[x.Name]
	case *ast.BinaryExpr:
		return number(x.X, consts) && number(x.Y, consts)
	case *ast.ParenExpr:
		return number(x.X, consts)
	}
	return false
}

func (p *planter) text(n ast.Node) string {
	return string(p.src[p.fset.Position(n.Pos()).Offset:p.fset.Position(n.End()).Offset])
}

// visit finds faults in a function. What lies inside a part that is replaced is left as it
// is, so that no text is written over twice.
func (p *planter) visit(body ast.Node) {
	ast.Inspect(body, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.IfStmt:
			if failed(x.Cond) { // whether an error is passed on is asked by other tests
				return true
			}
			// The branch is never taken; the condition may hold faults of its own.
			p.wrap("branch", x.Cond, "never", func(number int) (before, after string) {
				return "(", fmt.Sprintf(") && !fault.Is(%d)", number)
			})
		case *ast.CaseClause, *ast.IndexExpr:
		case *ast.BinaryExpr:
			if failed(x) {
				return false
			}
			if op, ok := next[x.Op]; ok && !calls(x) {
				p.compare(x, op)
				return false
			}
			if (x.Op == token.LAND || x.Op == token.LOR) && !calls(x.Y) {
				p.half(x)
			}
			if slices.Contains([]token.Token{token.ADD, token.SUB, token.MUL, token.QUO}, x.Op) &&
				number(x.Y, p.consts) && !number(x.X, p.consts) && !does(x.X) {
				p.moved(x)
				return false
			}
		case *ast.ExprStmt:
			if c, ok := x.X.(*ast.CallExpr); ok && p.text(c.Fun) != "panic" {
				p.wrap("call", x, "left out", func(number int) (before, after string) {
					return fmt.Sprintf("if !fault.Is(%d) { ", number), " }"
				})
			}
		}
		return true
	})
}

// failed reports whether a condition just asks for an error.
func failed(e ast.Expr) bool {
	x, ok := e.(*ast.BinaryExpr)
	if !ok {
		return false
	}
	id, ok1 := x.X.(*ast.Ident)
	none, ok2 := x.Y.(*ast.Ident)
	return ok1 && ok2 && strings.HasPrefix(id.Name, "err") && none.Name == "nil"
}

// calls reports whether evaluating an expression may do something, or is long.
func calls(e ast.Expr) bool {
	found := false
	ast.Inspect(e, func(n ast.Node) bool {
		switch n.(type) {
		case *ast.FuncLit, *ast.UnaryExpr:
			if u, ok := n.(*ast.UnaryExpr); !ok || u.Op == token.ARROW {
				found = true
			}
		}
		return !found
	})
	return found
}

// does reports whether evaluating an expression twice may be other than doing so once.
func does(e ast.Expr) bool {
	found := calls(e)
	ast.Inspect(e, func(n ast.Node) bool {
		_, call := n.(*ast.CallExpr)
		found = found || call
		return !found
	})
	return found
}

// add notes a fault, unless it is one that does not compile.
func (p *planter) add(kind string, n ast.Node, was, is string, text func(number int) string) {
	one := func(s string) string { return strings.Join(strings.Fields(s), " ") } // wherever lines are broken
	h := sha256.Sum256([]byte(kind + "\x00" + one(was) + "\x00" + one(is)))
	name := fmt.Sprintf("%s/%s/%s-%s", strings.TrimSuffix(p.file, ".go"), p.fn, kind, hex.EncodeToString(h[:3]))
	p.names[name]++
	if k := p.names[name]; k > 1 {
		name = fmt.Sprintf("%s-%d", name, k)
	}
	if p.not[name] {
		return
	}
	f := &fault{number: p.first + len(p.found), pkg: p.pkg, file: p.file, line: p.fset.Position(n.Pos()).Line,
		name: name, was: oneLine(was), is: oneLine(is),
		from: p.fset.Position(n.Pos()).Offset, to: p.fset.Position(n.End()).Offset}
	f.text = text(f.number)
	p.found = append(p.found, f)
}

func oneLine(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 160 {
		s = s[:160] + "..."
	}
	return s
}

// compare gives a comparison the next operator or, where one side is a number, another one.
func (p *planter) compare(x *ast.BinaryExpr, op string) {
	was := p.text(x)
	is := p.text(x.X) + " " + op + " " + p.text(x.Y)
	kind := "compare"
	if number(x.Y, p.consts) && p.text(x.Y) != "0" && len(was)%2 == 0 {
		kind, is = "constant", p.text(x.X)+" "+x.Op.String()+" (("+p.text(x.Y)+")*2+1)"
	}
	p.add(kind, x, was, is, func(n int) string {
		return fmt.Sprintf("((fault.Is(%d) && %s) || (!fault.Is(%d) && %s))", n, is, n, was)
	})
}

// half leaves the second part of a condition out.
func (p *planter) half(x *ast.BinaryExpr) {
	neutral := "||"
	if x.Op == token.LOR {
		neutral = "&&"
	}
	p.wrap("half", x.Y, "left out", func(n int) (before, after string) {
		if neutral == "||" {
			return fmt.Sprintf("(fault.Is(%d) || (", n), "))"
		}
		return fmt.Sprintf("(!fault.Is(%d) && (", n), "))"
	})
}

// moved gives a sum or a product another number.
func (p *planter) moved(x *ast.BinaryExpr) {
	was := p.text(x)
	is := p.text(x.X) + " " + x.Op.String() + " ((" + p.text(x.Y) + ")*2+1)"
	p.add("constant", x, was, is, func(n int) string { return fmt.Sprintf("fault.Or(%d, %s, %s)", n, was, is) })
}

// wrap puts text around a node, which may hold faults of its own.
func (p *planter) wrap(kind string, n ast.Node, is string, around func(number int) (before, after string)) {
	p.add(kind, n, p.text(n), is, func(number int) string {
		before, after := around(number)
		return before + "\x00" + after
	})
}

// write returns the file with its faults.
func (p *planter) write() string {
	type piece struct {
		at   int
		rank int // of two at one place, which comes first
		text string
		skip int
	}
	var pieces []piece
	for i, f := range p.found {
		if before, after, around := strings.Cut(f.text, "\x00"); around {
			pieces = append(pieces, piece{f.from, i, before, 0}, piece{f.to, -i, after, 0})
		} else {
			pieces = append(pieces, piece{f.from, i + 1<<20, f.text, f.to - f.from})
		}
	}
	slices.SortStableFunc(pieces, func(a, b piece) int {
		if a.at != b.at {
			return a.at - b.at
		}
		return a.rank - b.rank
	})
	var b strings.Builder
	at := 0
	for _, x := range pieces {
		b.Write(p.src[at:x.at])
		b.WriteString(x.text)
		at = x.at + x.skip
	}
	b.Write(p.src[at:])
	return b.String()
}
