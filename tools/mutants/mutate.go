package main

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// mutation is one change of a file: what stands from one byte to another is something else.
type mutation struct {
	File, Func string
	Line       int
	From, To   int
	// Sort is what sort of change it is, Old and New what stands there before and after.
	Sort, Old, New string
	// Either is what holds both, for a program of many changes; the zero value is a change that wants a program of its own.
	Either either
}

func (m *mutation) words() string {
	short := func(text string) string {
		text = strings.Join(strings.Fields(text), " ")
		if len(text) > 60 {
			text = text[:57] + "..."
		}
		return text
	}
	return fmt.Sprintf("%s: %s → %s", m.Sort, short(m.Old), short(m.New))
}

// overlay writes the file with the change, and what lays it over the tree, into a folder of its own.
func (m *mutation) overlay() (string, error) {
	dir, err := os.MkdirTemp("", "mutant-")
	if err != nil {
		return "", err
	}
	src, err := os.ReadFile(m.File)
	if err != nil {
		return "", err
	}
	whole, err := filepath.Abs(m.File)
	if err != nil {
		return "", err
	}
	with := filepath.Join(dir, "with.go")
	if err := os.WriteFile(with, slices.Concat(src[:m.From], []byte(m.New), src[m.To:]), 0o600); err != nil {
		return "", err
	}
	text, err := json.Marshal(map[string]map[string]string{"Replace": {whole: with}})
	if err != nil {
		return "", err
	}
	name := filepath.Join(dir, "overlay.json")
	return name, os.WriteFile(name, text, 0o600)
}

// mutations are all changes that could be made in the files of a folder.
func mutations(folder string) ([]mutation, error) {
	files, err := filepath.Glob(filepath.Join(folder, "*.go"))
	if err != nil {
		return nil, err
	}
	var out []mutation
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		src, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		of, err := inFile(name, src)
		if err != nil {
			return nil, err
		}
		out = append(out, of...)
	}
	return out, nil
}

// inFile are those of one file.
func inFile(name string, src []byte) ([]mutation, error) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, name, src, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	m := &maker{set: set, src: src, file: name, beside: map[ast.Expr]bool{}}
	for _, d := range file.Decls {
		f, is := d.(*ast.FuncDecl)
		if !is || f.Body == nil {
			continue
		}
		m.in, m.fails = f.Name.Name, errorLast(f.Type)
		m.walk(f.Body)
	}
	return m.out, nil
}

// maker gathers the changes of a file.
type maker struct {
	set  *token.FileSet
	src  []byte
	file string
	// in is the function that is looked at, and fails says that its last result is an error.
	in    string
	fails bool
	// beside are numbers that are returned beside an error, which mean nothing.
	beside map[ast.Expr]bool
	out    []mutation
}

// errorLast reports that the last result of a function is an error.
func errorLast(t *ast.FuncType) bool {
	if t.Results == nil || len(t.Results.List) == 0 {
		return false
	}
	last, is := t.Results.List[len(t.Results.List)-1].Type.(*ast.Ident)
	return is && last.Name == "error"
}

func (m *maker) walk(n ast.Node) {
	ast.Inspect(n, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit: // its own returns are another's
			was := m.fails
			m.fails = errorLast(n.Type)
			m.walk(n.Body)
			m.fails = was
			return false
		case *ast.BinaryExpr:
			m.operator(n)
		case *ast.IfStmt:
			m.guard(n)
		case *ast.ReturnStmt:
			m.silence(n)
		case *ast.BasicLit:
			m.number(n)
		case *ast.ExprStmt:
			if _, call := n.X.(*ast.CallExpr); call {
				m.add("a call is left out", n, "_ = 0", "if !"+chosen+" { "+m.text(n)+" }")
			}
		case *ast.BranchStmt:
			if n.Tok == token.CONTINUE && n.Label == nil {
				m.add("a loop ends", n, "break", "if "+chosen+" { break } else { continue }")
			}
		}
		return true
	})
}

// turned are operators with what is put in their place.
var turned = map[token.Token]token.Token{token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD, token.MUL: token.QUO, token.QUO: token.MUL}

func (m *maker) operator(n *ast.BinaryExpr) {
	to, known := turned[n.Op]
	if !known || n.Op == token.ADD && isText(n) {
		return
	}
	m.at("an operator is turned", n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to.String())
	m.hold(n, m.eitherOperator(n, to))
}

// isText reports an addition that may be of text: one of its ends is.
func isText(n *ast.BinaryExpr) bool {
	for _, x := range []ast.Expr{n.X, n.Y} {
		switch x := x.(type) {
		case *ast.BasicLit:
			if x.Kind == token.STRING {
				return true
			}
		case *ast.BinaryExpr:
			if x.Op == token.ADD && isText(x) {
				return true
			}
		}
	}
	return false
}

// guard turns a condition, and leaves out what returns early.
func (m *maker) guard(n *ast.IfStmt) {
	cond := m.text(n.Cond)
	m.add("a condition is turned", n.Cond, "!("+cond+")", chosen+" != ("+cond+")")
	if len(n.Body.List) == 0 || n.Else != nil {
		return
	}
	switch n.Body.List[len(n.Body.List)-1].(type) {
	case *ast.ReturnStmt, *ast.BranchStmt:
		m.add("a guard is left out", n.Cond, "false && ("+cond+")", "!"+chosen+" && ("+cond+")")
	}
}

// silence has a function that fails say that it did not.
func (m *maker) silence(n *ast.ReturnStmt) {
	if !m.fails || len(n.Results) == 0 {
		return
	}
	last := n.Results[len(n.Results)-1]
	if id, is := last.(*ast.Ident); is && id.Name == "nil" {
		return
	}
	for _, x := range n.Results[:len(n.Results)-1] {
		m.beside[x] = true
	}
	if len(n.Results) == 1 { // it may be a call of several results
		if _, call := last.(*ast.CallExpr); call && !strings.Contains(m.text(last), "rrorf(") && !strings.Contains(m.text(last), "fault.") {
			return
		}
	}
	m.add("an error is emptied", last, "nil", onOneLine("func() error { if "+chosen+" { return nil }; return "+m.text(last)+" }()"))
}

// number counts one more.
func (m *maker) number(n *ast.BasicLit) {
	if n.Kind != token.INT || m.beside[n] {
		return
	}
	if v, err := strconv.ParseInt(n.Value, 0, 64); err == nil {
		more := strconv.FormatInt(v+1, 10)
		m.add("a number is one more", n, more, "mutantsPick("+number+", "+n.Value+", "+more+")")
	}
}

func (m *maker) text(n ast.Node) string {
	return string(m.src[m.set.Position(n.Pos()).Offset:m.set.Position(n.End()).Offset])
}

// add makes a change of a whole node; both is what holds the change and what was.
func (m *maker) add(sort string, n ast.Node, to, both string) {
	m.at(sort, n.Pos(), n.End(), to)
	m.hold(n, both)
}

func (m *maker) at(sort string, from, to token.Pos, with string) {
	a, b := m.set.Position(from), m.set.Position(to)
	m.out = append(m.out, mutation{File: m.file, Func: m.in, Line: a.Line, From: a.Offset, To: b.Offset, Sort: sort, Old: string(m.src[a.Offset:b.Offset]), New: with})
}

// sample draws some, of all sorts alike and one a line at most; 0 is all of them.
func sample(all []mutation, count int, seed uint64) []mutation {
	if count == 0 {
		return all
	}
	r := rand.New(rand.NewPCG(seed, 40))
	bySort := map[string][]mutation{}
	var sorts []string
	for _, m := range all {
		if bySort[m.Sort] == nil {
			sorts = append(sorts, m.Sort)
		}
		bySort[m.Sort] = append(bySort[m.Sort], m)
	}
	slices.Sort(sorts)
	var out []mutation
	taken := map[string]bool{}
	for len(sorts) > 0 && len(out) < count {
		at := r.IntN(len(sorts))
		of := bySort[sorts[at]]
		if len(of) == 0 {
			sorts = slices.Delete(sorts, at, at+1)
			continue
		}
		i := r.IntN(len(of))
		m := of[i]
		bySort[sorts[at]] = slices.Delete(of, i, i+1)
		if line := fmt.Sprint(m.File, ":", m.Line); !taken[line] {
			taken[line] = true
			out = append(out, m)
		}
	}
	return out
}
