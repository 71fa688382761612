package main

import (
	"bytes"
	"go/ast"
	"go/token"
	"slices"
	"strconv"
	"strings"
)

// either is what stands from one byte of a file to another in a program that holds both what was and a change of it. Which of the two it does is chosen when it is begun, so
// that many changes are built once.
type either struct {
	From, To   int
	First, End int // its lines
	Text       string
}

// number stands in the text of an either for the number of its change, and chosen for whether it is the one that was chosen.
const (
	number = "\x00"
	chosen = "mutantsChosen(" + number + ")"
)

// helpers is what a program of many changes needs: which change was chosen, and a note of each that was come by.
const helpers = `
import (
	mutantsos "os"
	mutantsconv "strconv"
	mutantssync "sync"
)

var mutantsNow, mutantsNote = mutantsos.Getenv("MUTANTS_CHOSEN"), mutantsos.Getenv("MUTANTS_NOTE")

var mutantsNumber, _ = mutantsconv.Atoi(mutantsNow)

var mutantsSeen mutantssync.Map

func mutantsChosen(n int) bool {
	if mutantsNote != "" {
		mutantsCome(n)
	}
	return n == mutantsNumber
}

func mutantsPick[T any](n int, was, with T) T {
	if mutantsChosen(n) {
		return with
	}
	return was
}

func mutantsCome(n int) {
	if _, before := mutantsSeen.LoadOrStore(n, true); before {
		return
	}
	if f, err := mutantsos.OpenFile(mutantsNote, mutantsos.O_APPEND|mutantsos.O_CREATE|mutantsos.O_WRONLY, 0o600); err == nil {
		_, _ = f.WriteString(mutantsconv.Itoa(n) + "\n")
		_ = f.Close()
	}
}
`

// onOneLine is a text, if it stands on one line: one that says something twice would move the lines after it otherwise, and mistakes are told by their lines.
func onOneLine(text string) string {
	if strings.Contains(text, "\n") {
		return ""
	}
	return text
}

// hold says of the last change that was made what holds both; "" is nothing.
func (m *maker) hold(n ast.Node, text string) {
	if text == "" {
		return
	}
	a, b := m.set.Position(n.Pos()), m.set.Position(n.End())
	m.out[len(m.out)-1].Either = either{From: a.Offset, To: b.Offset, First: a.Line, End: b.Line, Text: text}
}

// eitherOperator holds an operation and what it is turned into. A product and a quotient are not held together: both would be worked out, and one by zero ends the program.
func (m *maker) eitherOperator(n *ast.BinaryExpr, to token.Token) string {
	x, y := m.text(n.X), m.text(n.Y)
	was, with := x+" "+n.Op.String()+" "+y, x+" "+to.String()+" "+y
	switch n.Op {
	case token.EQL, token.NEQ:
		return "(" + chosen + " != (" + was + "))"
	case token.MUL, token.QUO:
		return ""
	case token.ADD, token.SUB:
		if strings.Contains(was, "(") { // both are worked out: a call would be made twice
			return ""
		}
		return onOneLine("mutantsPick(" + number + ", " + was + ", " + with + ")")
	}
	return onOneLine("func() bool { if " + chosen + " { return " + with + " }; return " + was + " }()")
}

// together puts changes into as few programs as can hold them: in one, no two stand on the same lines. What wants a program of its own is in none.
func together(all []*mutation) [][]*mutation {
	var out [][]*mutation
	for _, m := range all {
		if m.Either.Text == "" {
			continue
		}
		at := slices.IndexFunc(out, func(in []*mutation) bool {
			return !slices.ContainsFunc(in, func(o *mutation) bool {
				return o.File == m.File && o.Either.First <= m.Either.End && m.Either.First <= o.Either.End
			})
		})
		if at < 0 {
			at, out = len(out), append(out, nil)
		}
		out[at] = append(out[at], m)
	}
	return out
}

// holding is the text of a file with all changes of it in it, each by its number.
func holding(src []byte, of map[int]*mutation) []byte {
	var numbers []int
	for n := range of {
		numbers = append(numbers, n)
	}
	slices.SortFunc(numbers, func(a, b int) int { return of[a].Either.From - of[b].Either.From })
	var out bytes.Buffer
	at := 0
	for _, n := range numbers {
		e := of[n].Either
		out.Write(src[at:e.From])
		out.WriteString(strings.ReplaceAll(e.Text, number, strconv.Itoa(n)))
		at = e.To
	}
	out.Write(src[at:])
	return out.Bytes()
}
