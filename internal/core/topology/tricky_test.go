package topology

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"andamio/internal/core/tosca"
)

// A tricky template is an archive: the section of the standard that it is around, its files, and a line for each way it is broken.
type tricky struct {
	path   string
	files  map[string]string
	breaks []brokenWay
}

// A brokenWay is a mistake: what is written in the place of what was right, the word that must be said, and the line, which is the
// changed one where no text of another is given.
type brokenWay struct {
	was, is string
	says    string
	at      string
}

func readTricky(t *testing.T, path string) tricky {
	t.Helper()
	archive, err := txtar.ParseFile(path)
	require.NoError(t, err)
	c := tricky{path: path, files: map[string]string{}}
	for _, f := range archive.Files {
		if f.Name != "broken" {
			c.files[f.Name] = string(f.Data)
			continue
		}
		for line := range strings.Lines(string(f.Data)) {
			c.breaks = append(c.breaks, readBroken(t, path, line))
		}
	}
	return c
}

// readBroken reads "was => is | says @ at"; an end of line is written \n.
func readBroken(t *testing.T, path, line string) brokenWay {
	t.Helper()
	was, rest, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " => ")
	require.True(t, ok, "%s: %s", path, line)
	cut := strings.LastIndex(rest, " | ")
	require.Positive(t, cut, "%s: %s", path, line)
	says, at, _ := strings.Cut(rest[cut+3:], " @ ")
	require.NotEmpty(t, strings.TrimSpace(says), "%s: %s", path, line)
	unfold := func(s string) string { return strings.ReplaceAll(s, `\n`, "\n") }
	return brokenWay{was: unfold(was), is: unfold(rest[:cut]), says: says, at: unfold(at)}
}

func (c tricky) work(source string) tosca.Diagnostics {
	_, diags := c.design(source)
	return diags
}

func (c tricky) design(source string) (*Design, tosca.Diagnostics) {
	open := func(name string) ([]byte, error) {
		if name == "template.yaml" {
			return []byte(source), nil
		}
		if text, ok := c.files[name]; ok {
			return []byte(text), nil
		}
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	tmpl, diags := tosca.Read("template.yaml", open)
	if diags.Errors() > 0 {
		return nil, diags
	}
	d, found := Build(tmpl, nil, Options{Partial: true, NoSites: true})
	return d, append(diags, found...)
}

// Each section of the standard in its trickiest form that is legal is read, and each of three mistakes in it is found on its line,
// by the word.
func TestTrickyTemplates(t *testing.T) {
	paths, err := filepath.Glob("testdata/tricky/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(paths), 40)
	for _, path := range paths {
		c := readTricky(t, path)
		source := c.files["template.yaml"]
		diags := c.work(source)
		assert.Zero(t, diags.Errors(), "%s\n%s", path, diags.Error())
		assert.GreaterOrEqual(t, len(c.breaks), 3, path)
		for _, b := range c.breaks {
			if assert.Equal(t, 1, strings.Count(source, b.was), "%s: %q stands not once", path, b.was) {
				c.refuses(t, b)
			}
		}
	}
}

func (c tricky) refuses(t *testing.T, b brokenWay) {
	t.Helper()
	source := c.files["template.yaml"]
	broken := strings.Replace(source, b.was, b.is, 1)
	line := 1 + strings.Count(source[:strings.Index(source, b.was)], "\n")
	if b.at != "" {
		at := strings.Index(broken, b.at)
		require.GreaterOrEqual(t, at, 0, "%s: %q", c.path, b.at)
		line = 1 + strings.Count(broken[:at], "\n")
	}
	diags := c.work(broken)
	assert.True(t, saidOn(diags, line, b.says), "%s: %q => %q: nothing on line %d says %q:\n%s", c.path, b.was, b.is, line, b.says, diags.Error())
}

// saidOn reports whether a mistake on a line is told with a word, in what is wrong or what to do.
func saidOn(diags tosca.Diagnostics, line int, word string) bool {
	return slices.ContainsFunc(diags, func(d tosca.Diagnostic) bool {
		return d.Severity == tosca.Mistake && d.Line == line && strings.Contains(d.Message+"\n"+d.Hint, word)
	})
}
