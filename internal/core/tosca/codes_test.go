package tosca

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// files opens from a map, as a test's file system.
func files(m map[string]string) Opener {
	return func(p string) ([]byte, error) {
		if s, ok := m[p]; ok {
			return []byte(s), nil
		}
		return nil, errors.New("no such file")
	}
}

// read reads a single-file template.
func read(text string) (*Template, Diagnostics) {
	return Read("t.yaml", files(map[string]string{"t.yaml": text, "ok.sh": "true\n"}))
}

func TestEveryCodeIsTriggeredByItsExample(t *testing.T) {
	for _, e := range Explanations {
		if e.Later {
			continue // triggered when it is worked out: see the test of the same name in app
		}
		t.Run(string(e.Code), func(t *testing.T) {
			_, diags := read(e.Example)
			var codes []Code
			for _, d := range diags {
				codes = append(codes, d.Code)
				assert.Positive(t, d.Line)
				assert.Positive(t, d.Col)
				assert.NotEmpty(t, d.Message)
			}
			require.Contains(t, codes, e.Code, "got: %v", diags.Error())
			assert.Len(t, diags, 1, "an example shows one thing: %v", diags.Error())
			assert.NotEmpty(t, e.Meaning)
		})
	}
}

func TestThreeMistakesYieldThreePositionedDiagnostics(t *testing.T) {
	_, diags := read(header + `topology_template:
  inputs:
    port: { type: integer, default: often }
  node_templates:
    web:
      type: Compute
      capabilities:
        host: { properties: { num_cpus: 2, mem_size: 16 } }
    app:
      type: SoftwareComponent
      requirements:
        - host: wbe
`)
	require.Len(t, diags, 3, diags.Error())
	assert.Equal(t, 3, diags.Errors())
	assert.Equal(t, Pos{"t.yaml", 4, 37}, diags[0].Pos)
	assert.Equal(t, CodeValueType, diags[0].Code)
	assert.Equal(t, Pos{"t.yaml", 9, 54}, diags[1].Pos)
	assert.Equal(t, CodeUnitMissing, diags[1].Code)
	assert.Equal(t, "write 16 GB (1000³ bytes) or 16 GiB (1024³ bytes)", diags[1].Hint)
	assert.Equal(t, Pos{"t.yaml", 13, 17}, diags[2].Pos)
	assert.Equal(t, `did you mean "web"?`, diags[2].Hint)
	assert.Equal(t, &Pos{"t.yaml", 6, 5}, diags[2].Related)
	assert.Equal(t, 3, diags[2].Width)
}
