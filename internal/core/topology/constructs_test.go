package topology

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
)

// library opens a case, and what cases import from the folder lib.
func library(path string) tosca.Opener {
	return func(name string) ([]byte, error) {
		if name == filepath.Base(path) {
			return os.ReadFile(path)
		}
		return os.ReadFile(filepath.Join("testdata/lib", name))
	}
}

// work reads a case and works it out without inputs or sites.
func work(path string) (*Design, tosca.Diagnostics) {
	tmpl, diags := tosca.Read(filepath.Base(path), library(path))
	if diags.Errors() > 0 {
		return nil, diags
	}
	d, found := Build(tmpl, nil, Options{Partial: true, NoSites: true})
	diags = append(diags, found...)
	if !strings.HasPrefix(filepath.Base(path), "input-") { // cases are as short as they can be: most declare what they show and do not use it
		diags = slices.DeleteFunc(diags, func(d tosca.Diagnostic) bool { return strings.HasPrefix(d.Message, "nothing uses the input") })
	}
	diags.Sort()
	return d, diags
}

func cases(t *testing.T, kind string) []string {
	t.Helper()
	names, err := filepath.Glob("testdata/" + kind + "/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	return names
}

func TestEveryConstructIsRead(t *testing.T) {
	for _, path := range cases(t, "valid") {
		d, diags := work(path)
		assert.Empty(t, diags, "%s\n%s", path, diags.Error())
		assert.NotNil(t, d, path)
	}
}

// The first line of an invalid case says what must be found: codes with their lines, and nothing else.
func TestEveryMistakeIsFoundWhereItIs(t *testing.T) {
	for _, path := range cases(t, "invalid") {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		first, _, _ := strings.Cut(string(data), "\n")
		want := strings.Fields(strings.TrimPrefix(first, "# want:"))
		_, diags := work(path)
		var got []string
		for _, d := range diags {
			got = append(got, fmt.Sprintf("%s@%d", d.Code, d.Line))
		}
		slices.Sort(want)
		slices.Sort(got)
		assert.Equal(t, want, got, "%s\n%s", path, diags.Error())
	}
}

// Every construct has a case that is read and one that is refused.
func TestCasesComeInPairs(t *testing.T) {
	invalid := map[string]bool{}
	for _, path := range cases(t, "invalid") {
		invalid[filepath.Base(path)] = true
	}
	for _, path := range cases(t, "valid") {
		name := strings.TrimSuffix(filepath.Base(path), ".yaml")
		assert.True(t, slices.ContainsFunc(slices.Collect(mapKeys(invalid)), func(x string) bool { return strings.HasPrefix(x, name) }), name)
	}
}

func mapKeys(m map[string]bool) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}
