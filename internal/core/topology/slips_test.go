package topology

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/core/tosca/slips"
	"andamio/internal/golden"
)

// TestSlipsAreAsRecorded makes slips in each line of templates in their trickiest forms, and holds by their sums what is said of each, and what is designed of it.
func TestSlipsAreAsRecorded(t *testing.T) {
	t.Parallel()
	paths, err := filepath.Glob("testdata/tricky/*.txtar")
	require.NoError(t, err)
	var out strings.Builder
	for _, path := range paths {
		c := readTricky(t, path)
		out.WriteString(slips.Sums(1, golden.Sum, os.Getenv("SHOW_SLIPS"), t.Logf, filepath.Base(path), c.files["template.yaml"], func(text string) string { return recorded(c.design(text)) }))
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
		out.WriteString(slips.Sums(1, golden.Sum, os.Getenv("SHOW_SLIPS"), t.Logf, name, string(source), func(text string) string {
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
