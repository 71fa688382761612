// Package slips makes the mistakes in templates that people make, for tests: of what comes of them it keeps sums, since there are more than a person would read.
package slips

import (
	"fmt"
	"regexp"
	"strings"
)

// slip is a mistake that people make in a line.
type slip struct {
	name string
	make func(line string) string
}

var (
	keyOf   = regexp.MustCompile(`[\w.-]+:`)
	lastOf  = regexp.MustCompile(`[\w.-]+([^\w.-]*)$`)
	number  = regexp.MustCompile(`\d+`)
	firstOf = regexp.MustCompile(`([\[{] ?)[^\[\]{},]+, ?`)
)

// all are one of a sort each; a line that a slip leaves as it is, it is not made in.
var all = []slip{
	{"left out", func(string) string { return "" }},
	{"twice", func(line string) string { return line + line }},
	{"key misspelt", func(line string) string {
		if at := keyOf.FindStringIndex(line); at != nil {
			return line[:at[1]-1] + "x" + line[at[1]-1:]
		}
		return line
	}},
	{"another word", func(line string) string {
		return lastOf.ReplaceAllString(strings.TrimRight(line, "\n"), "other$1") + "\n"
	}},
	{"another number", func(line string) string { return number.ReplaceAllString(line, "7$0") }},
	{"first of several left out", func(line string) string {
		if at := firstOf.FindStringSubmatchIndex(line); at != nil {
			return line[:at[3]] + line[at[1]:]
		}
		return line
	}},
	{"first of several last", func(line string) string {
		if at := firstOf.FindStringSubmatchIndex(line); at != nil {
			if end := strings.LastIndexAny(line, "]}"); end > at[1] {
				return line[:at[3]] + line[at[1]:end] + ", " + strings.Trim(line[at[3]:at[1]], " ,") + line[end:]
			}
		}
		return line
	}},
}

// Sums makes each slip in each line of a template, or in one of so many, and returns sums of what comes of them, line by line. The one to show, NAME:LINE, is logged as it is, to be
// compared with what came of it before.
func Sums(every int, sum func(string) string, show string, log func(format string, args ...any), name, text string, work func(string) string) string {
	var out strings.Builder
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if i%every != 0 || strings.TrimSpace(line) == "" || strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		at := fmt.Sprintf("%s:%d", name, i+1)
		out.WriteString(at)
		for _, s := range all {
			wrong := s.make(line)
			if wrong == line {
				out.WriteString(" -")
				continue
			}
			got := work(strings.Join(lines[:i], "") + wrong + strings.Join(lines[i+1:], ""))
			if show == at {
				log("%s %s:\n%s", at, s.name, got)
			}
			out.WriteString(" " + sum(got))
		}
		out.WriteByte('\n')
	}
	return out.String()
}
