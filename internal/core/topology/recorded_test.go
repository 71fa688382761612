package topology

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/golden"
)

// recorded is what a template comes to: what is said of it, in full, and its design.
func recorded(d *Design, diags tosca.Diagnostics) string {
	var out strings.Builder
	for _, x := range diags {
		fmt.Fprintf(&out, "%d:%d %s %s %s\n", x.Line, x.Col, x.Severity, x.Code, x.Message)
		if x.Hint != "" {
			fmt.Fprintf(&out, "   %s\n", x.Hint)
		}
	}
	if d != nil {
		out.WriteString(written(d))
	}
	return out.String()
}

// TestConstructsAreAsRecorded writes down the design of each construct and what is said of each mistake, word for word and where.
func TestConstructsAreAsRecorded(t *testing.T) {
	for _, kind := range []string{"valid", "invalid"} {
		var out strings.Builder
		for _, path := range cases(t, kind) {
			d, diags := work(path)
			fmt.Fprintf(&out, "== %s\n%s", filepath.Base(path), recorded(d, diags))
		}
		golden.Is(t, "testdata/constructs-"+kind+".txt", out.String())
	}
}

// TestTrickyTemplatesAreAsRecorded writes down the design of each template in its trickiest form, and what is said of each mistake in it.
func TestTrickyTemplatesAreAsRecorded(t *testing.T) {
	paths, err := filepath.Glob("testdata/tricky/*.txtar")
	require.NoError(t, err)
	var out strings.Builder
	for _, path := range paths {
		c := readTricky(t, path)
		source := c.files["template.yaml"]
		d, diags := c.design(source)
		fmt.Fprintf(&out, "== %s\n%s", filepath.Base(path), recorded(d, diags))
		for _, b := range c.breaks {
			d, diags := c.design(strings.Replace(source, b.was, b.is, 1))
			if diags.Errors() > 0 {
				d = nil
			}
			fmt.Fprintf(&out, "-- %q instead of %q\n%s", b.is, b.was, recorded(d, diags))
		}
	}
	golden.Is(t, "testdata/tricky.txt", out.String())
}
