package topology

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// TestMistakesAreSaidOfTheirLines has templates as people write them, a key a line: each has one mistake, on the line that ends with #!, and what must be said of it
// stands behind its name.
func TestMistakesAreSaidOfTheirLines(t *testing.T) {
	data, err := os.ReadFile("testdata/lines.txt")
	require.NoError(t, err)
	all := strings.Split("\n"+string(data), "\n=== ")[1:]
	require.Greater(t, len(all), 50)
	for _, one := range all {
		head, text, _ := strings.Cut(one, "\n")
		name, says, _ := strings.Cut(head, " |")
		c := tricky{path: name, files: map[string]string{}}
		if strings.HasPrefix(text, "-- ") {
			for _, f := range txtar.Parse([]byte(text)).Files {
				c.files[f.Name] = string(f.Data)
			}
			text = c.files["template.yaml"]
		}
		line := 1 + strings.Count(text[:strings.Index(text, "#!")], "\n")
		diags := c.work(strings.ReplaceAll(text, "#!", ""))
		says = strings.TrimSpace(says)
		assert.True(t, saidOn(diags, line, says), "%s: nothing on line %d says %q:\n%s", name, line, says, diags.Error())
	}
}
