package topology

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/golden"
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

// slips are one of a sort each; a line that a slip leaves as it is, it is not made in.
var slips = []slip{
	{"left out", func(string) string { return "" }},
	{"twice", func(line string) string { return line + line }},
	{"key misspelt", func(line string) string {
		if at := keyOf.FindStringIndex(line); at != nil {
			return line[:at[1]-1] + "x" + line[at[1]-1:]
		}
		return line
	}},
	{"another word", func(line string) string { return lastOf.ReplaceAllString(strings.TrimRight(line, "\n"), "other$1") + "\n" }},
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

// slipped makes each slip in each line of a template, and returns sums of what comes of them. Where one is another, SHOW_SLIPS=NAME:LINE writes that out, to be compared
// with what came of it before.
func slipped(t *testing.T, name, text string, work func(string) string) string {
	var out strings.Builder
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if strings.TrimSpace(line) == "" || strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		at := fmt.Sprintf("%s:%d", name, i+1)
		out.WriteString(at)
		for _, s := range slips {
			wrong := s.make(line)
			if wrong == line {
				out.WriteString(" -")
				continue
			}
			got := work(strings.Join(lines[:i], "") + wrong + strings.Join(lines[i+1:], ""))
			if os.Getenv("SHOW_SLIPS") == at {
				t.Logf("%s %s:\n%s", at, s.name, got)
			}
			fmt.Fprintf(&out, " %.2x", sha256.Sum256([]byte(got)))
		}
		out.WriteByte('\n')
	}
	return out.String()
}

// TestSlipsAreAsRecorded makes slips in each line of templates in their trickiest forms, and holds by their sums what is said of each, and what is designed of it.
func TestSlipsAreAsRecorded(t *testing.T) {
	t.Parallel()
	paths, err := filepath.Glob("testdata/tricky/*.txtar")
	require.NoError(t, err)
	var out strings.Builder
	for _, path := range paths {
		c := readTricky(t, path)
		out.WriteString(slipped(t, filepath.Base(path), c.files["template.yaml"], func(text string) string { return recorded(c.design(text)) }))
	}
	golden.Is(t, "testdata/slips.txt", out.String())
}

// TestSlipsInExamplesAreAsRecorded makes them in examples, of which some stand on what a site has already.
func TestSlipsInExamplesAreAsRecorded(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	for _, name := range []string{"borrowed", "by-hand", "gauge-chain", "one-door"} {
		dir := "../../../examples/" + name
		source, err := os.ReadFile(dir + "/template.yaml")
		require.NoError(t, err)
		stands := standing(t, dir)
		out.WriteString(slipped(t, name, string(source), func(text string) string {
			tmpl, diags := tosca.Read("template.yaml", func(name string) ([]byte, error) {
				if name == "template.yaml" {
					return []byte(text), nil
				}
				return os.ReadFile(filepath.Join(dir, name))
			})
			if diags.Errors() > 0 {
				return recorded(nil, diags)
			}
			d, found := Build(tmpl, nil, Options{Standing: stands, Partial: true})
			return recorded(d, append(diags, found...))
		}))
	}
	golden.Is(t, "testdata/slips-examples.txt", out.String())
}
