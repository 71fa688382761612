package schemas

import (
	"encoding/json"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

// strictly compiles every schema with a validator that others wrote, in its strict mode: nothing that it does not know, nothing that means nothing.
const strictly = `
const Ajv = require("ajv/dist/2020"), formats = require("ajv-formats")
const all = JSON.parse(require("fs").readFileSync(0, "utf8"))
const ajv = new Ajv({ strict: true, strictTypes: true, strictTuples: true, strictRequired: false, allErrors: true })
formats(ajv)
for (const s of Object.values(all)) ajv.addSchema(s)
for (const [name, s] of Object.entries(all)) {
  try { ajv.getSchema(s.$id) } catch (e) { console.log(name + ": " + e.message) }
}
`

func TestSchemasAreStrict(t *testing.T) {
	all := map[string]json.RawMessage{}
	require.NoError(t, fs.WalkDir(Files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		all[path], err = Files.ReadFile(path)
		return err
	}))
	require.Greater(t, len(all), 80)
	given, err := json.Marshal(all)
	require.NoError(t, err)
	assert.Empty(t, strings.TrimSpace(testprogram.Node(t, strictly, string(given))))
}
