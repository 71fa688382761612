package editor

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"
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
func spotAt(text string, at position) spot {
	lines := strings.Split(text, "\n")
	if at.Line < 0 || at.Line >= len(lines) {
		return spot{}
	}
	line := []rune(strings.TrimRight(lines[at.Line], "\r"))
	col := runesTo(line, at.Character)
	out := spot{path: above(lines, at.Line, indentOf(string(line)))}
	from, to := col, col
	for from > 0 && inWord(line[from-1]) {
		from--
	}
	for to < len(line) && inWord(line[to]) {
		to++
	}
	out.word, out.begun = string(line[from:to]), string(line[from:col])
	out.from, out.to = unitsOf(line[:from]), unitsOf(line[:to])
	before := string(line[:from])
	if open := strings.LastIndexAny(before, "{"); open >= 0 && !strings.Contains(before[open:], "}") {
		inner := before[open+1:]
		if name, rest, ok := strings.Cut(inner, ":"); ok {
			out.call, out.arg = strings.TrimSpace(name), strings.Count(rest, ",")
		}
	}
	body := strings.TrimLeft(before, " ")
	for strings.HasPrefix(body, "- ") {
		body = strings.TrimLeft(body[2:], " ")
	}
	if key, _, ok := strings.Cut(body, ":"); ok && out.call == "" {
		out.key = strings.Trim(key, `"' {`)
	} else if ok {
		out.key = strings.Trim(key, `"' `)
	}
	return out
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
