package editor

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"

	"andamio/internal/core/tosca"

	"go.lsp.dev/protocol"
)

// spot is a place in a template as far as it is written: the keys that lead to it by their indentation, and what stands there.
type spot struct {
	// path are the keys above, from the outermost on; an entry of a list counts as "-".
	path []string
	// key is the key of the line whose value the place is in; "" if it is in a key, or in an entry of a list.
	key string
	// call is the function whose argument the place is in, and arg which it is.
	call string
	arg  int
	// word is what stands at the place, and begun as much of it as is before it.
	word, begun string
	// from and to are the word's, in UTF-16 units.
	from, to int
}

// spotAt finds out about a place.
func spotAt(text string, at protocol.Position) spot {
	lines := strings.Split(text, "\n")
	if int(at.Line) >= len(lines) {
		return spot{}
	}
	line := []rune(strings.TrimRight(lines[at.Line], "\r"))
	col := runesTo(line, int(at.Character))
	out := spot{path: above(lines, int(at.Line), indentOf(string(line)))}
	from, to := col, col
	for from > 0 && inWord(line[from-1]) {
		from--
	}
	for to < len(line) && inWord(line[to]) {
		to++
	}
	out.word, out.begun = string(line[from:to]), string(line[from:col])
	out.from, out.to = unitsOf(line[:from]), unitsOf(line[:to])
	out.flow(string(line[:from]))
	return out
}

// flow reads a line up to a place: keys, and what is opened by { and [ and not closed again, which leads further down.
func (s *spot) flow(before string) {
	body := strings.TrimLeft(before, " ")
	for strings.HasPrefix(body, "- ") {
		body = strings.TrimLeft(body[2:], " ")
	}
	type level struct {
		open rune
		key  string
		arg  int
	}
	stack := []level{{}}
	from, quote := 0, rune(0)
	for i, r := range body {
		top := &stack[len(stack)-1]
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case (r == '"' || r == '\'') && strings.TrimSpace(body[from:i]) == "":
			quote = r
		case r == ':' && (i+1 == len(body) || strings.ContainsRune(" {[", rune(body[i+1]))) && top.open != '[':
			top.key, from = strings.Trim(body[from:i], `"' `), i+1
		case r == ':' && top.open == '[' && i+1 < len(body) && body[i+1] == ' ': // a mapping of one key, without its braces
			stack, from = append(stack, level{'(', strings.Trim(body[from:i], `"' `), 0}), i+1
		case r == '{' || r == '[':
			stack, from = append(stack, level{open: r}), i+1
		case r == '}' || r == ']' || r == ',':
			if top.open == '(' {
				stack = stack[:len(stack)-1]
				top = &stack[len(stack)-1]
			}
			if from = i + 1; r == ',' {
				top.key, top.arg = "", top.arg+1
			} else if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
		}
	}
	for i, l := range stack {
		if i == len(stack)-1 {
			s.key = l.key
			continue
		}
		if l.key != "" {
			s.path = append(s.path, l.key)
		}
		if stack[i+1].open == '[' {
			s.path = append(s.path, "-")
		}
	}
	s.called(func(i int) (string, int) { return stack[i].key, stack[i].arg }, len(stack))
}

// called notes the function in whose arguments the place is: a key that is one, above the last that is opened or there itself.
func (s *spot) called(level func(i int) (key string, arg int), depth int) {
	for i := depth - 1; i >= 0 && i >= depth-2; i-- {
		key, _ := level(i)
		if tosca.FunctionUsage(key) == "" {
			continue
		}
		s.call, s.key = key, ""
		if i < depth-1 {
			_, s.arg = level(depth - 1)
		}
		return
	}
}

func inWord(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("._-:", r) && r != ':' || r == '_'
}

func indentOf(line string) int {
	return len(line) - len(strings.TrimLeft(line, " "))
}

// above are the keys under which a line of an indentation stands.
func above(lines []string, at, indent int) []string {
	var out []string
	for i := at - 1; i >= 0 && indent > 0; i-- {
		body := strings.TrimLeft(lines[i], " ")
		in := len(lines[i]) - len(body)
		if strings.TrimSpace(body) == "" || body[0] == '#' || in >= indent {
			continue
		}
		dash := strings.HasPrefix(body, "- ")
		for strings.HasPrefix(body, "- ") {
			body = body[2:]
		}
		key, _, ok := strings.Cut(body, ":")
		if !ok {
			continue
		}
		out = append(out, strings.Trim(key, `"' `))
		if dash {
			out = append(out, "-")
		}
		indent = in
	}
	slices.Reverse(out)
	return out
}

// under reports that a place stands right under some keys, of which "*" is any, and returns that one.
func (s *spot) under(keys ...string) (name string, is bool) {
	path := slices.DeleteFunc(slices.Clone(s.path), func(k string) bool { return k == "-" })
	if len(path) != len(keys) {
		return "", false
	}
	for i, k := range keys {
		if k == "*" {
			name = path[i]
		} else if k != path[i] {
			return "", false
		}
	}
	return name, true
}

// runesTo is how many runes there are up to so many UTF-16 units.
func runesTo(line []rune, units int) int {
	n := 0
	for i, r := range line {
		if n >= units {
			return i
		}
		n += len(utf16.Encode([]rune{r}))
	}
	return len(line)
}

func unitsOf(line []rune) int { return len(utf16.Encode(line)) }
