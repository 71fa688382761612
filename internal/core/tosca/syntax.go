package tosca

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// directive is what a file may begin with that says which version of YAML it is written in (YAML 1.2.2, section 6.8.1).
var directive = regexp.MustCompile(`\A(?:\s*(?:#[^\n]*)?\n)*%(YAML 1\.[12])[ \t]*(?:#[^\n]*)?\r?\n`)

// withoutDirective is a text in which the version of YAML is a comment: the library knows one of the two that mean the same here.
func withoutDirective(data []byte) []byte {
	at := directive.FindSubmatchIndex(data)
	if at == nil {
		return data
	}
	out := bytes.Clone(data)
	out[at[2]-1] = '#'
	return out
}

// another finds where a second document begins in a text; false if there is none. A line that begins so stands in no block of text, since that would be
// indented.
func another(data []byte) (line int, found bool) {
	begun, n := false, 0
	for text := range bytes.Lines(data) {
		n++
		text = bytes.TrimRight(text, " \t\r\n")
		marker := bytes.Equal(text, []byte("---")) || bytes.HasPrefix(text, []byte("--- "))
		switch body := bytes.TrimLeft(text, " \t"); {
		case marker && begun:
			return n, true
		case marker || bytes.Equal(text, []byte("...")):
			begun = begun || len(text) > len("---") && !marker
		case len(body) > 0 && body[0] != '#' && (begun || text[0] != '%'):
			begun = true
		}
	}
	return 0, false
}

// wrong is where a text is no YAML, and why in our own words; false leaves it to the library's.
func wrong(data []byte, line int, message string) (at int, col int, width int, why, hint string, ok bool) {
	lines := strings.Split(string(data), "\n")
	text := ""
	if line >= 1 && line <= len(lines) {
		text = strings.TrimRight(lines[line-1], "\r")
	}
	switch {
	case strings.Contains(message, "cannot start any token") && strings.HasPrefix(strings.TrimLeft(text, " "), "\t"):
		col = strings.IndexByte(text, '\t') + 1
		return line, col, 1, "a tab stands where the line is indented", "YAML is indented by blanks alone (YAML 1.2.2, section 6.1)", true
	case strings.Contains(message, "unknown anchor"):
		name := regexp.MustCompile(`'([^']+)'`).FindStringSubmatch(message)
		if name == nil {
			break
		}
		for n := range lines { // the library says where what holds it begins
			if i := aliasIn(lines[n], name[1]); i >= 0 {
				return n + 1, utf8.RuneCountInString(lines[n][:i]) + 1, len(name[1]) + 1, fmt.Sprintf("nothing before this is marked &%s", name[1]), "an alias (*NAME) stands for what was marked with &NAME further up", true
			}
		}
	case strings.Contains(message, "did not find expected ',' or"):
		if at, col, bracket := unclosed(lines); bracket != 0 {
			return at, col, 1, fmt.Sprintf("this %c is not closed, or an entry in it is not parted from the next by a comma", bracket), "", true
		}
	}
	return 0, 0, 0, "", "", false
}

// aliasIn finds an alias in a line; -1 if it is not there.
func aliasIn(line, name string) int {
	for from := 0; ; {
		i := strings.Index(line[from:], "*"+name)
		if i < 0 {
			return -1
		}
		i += from
		end := i + 1 + len(name)
		before := i == 0 || strings.ContainsRune(" [{,:-", rune(line[i-1]))
		if before && (end == len(line) || strings.ContainsRune(" ,]}#\r", rune(line[end]))) {
			return i
		}
		from = i + 1
	}
}

// unclosed finds the innermost bracket that is open when the text ends, or when another sort closes it; 0 if all are closed.
func unclosed(lines []string) (line, col int, bracket rune) {
	type open struct {
		line, col int
		bracket   rune
	}
	var stack []open
	closes := map[rune]rune{'}': '{', ']': '['}
	quote := rune(0)
	for n, text := range lines {
		last := ' '
		for i, c := range []rune(text) {
			switch {
			case quote != 0:
				if c == quote && (quote == '\'' || last != '\\') {
					quote = 0
				}
			case c == '#' && (last == ' ' || last == '\t'):
			case (c == '"' || c == '\'') && strings.ContainsRune(" [{,:", last):
				quote = c
			case (c == '{' || c == '[') && (len(stack) > 0 || strings.ContainsRune(" :-", last)):
				stack = append(stack, open{n + 1, i + 1, c})
			case closes[c] != 0 && len(stack) > 0:
				top := stack[len(stack)-1]
				if top.bracket != closes[c] {
					return top.line, top.col, top.bracket
				}
				stack = stack[:len(stack)-1]
			}
			if c == '#' && (last == ' ' || last == '\t') && quote == 0 {
				break
			}
			last = c
		}
	}
	if len(stack) == 0 {
		return 0, 0, 0
	}
	top := stack[len(stack)-1]
	return top.line, top.col, top.bracket
}
