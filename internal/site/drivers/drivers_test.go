package drivers

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/mapping"
)

// TestEveryDriverSaysAllThatIsNeeded holds what screens, commands and files rely on.
func TestEveryDriverSaysAllThatIsNeeded(t *testing.T) {
	names, said := map[string]bool{}, map[string]bool{}
	for _, d := range All {
		assert.False(t, names[d.Name], "%s is there twice", d.Name)
		names[d.Name] = true
		assert.NotEmpty(t, d.About)
		assert.NotEmpty(t, d.Kinds)
		require.NotNil(t, d.Open)
		_, err := mapping.Read(d.Mapping)
		require.NoError(t, err, d.Name)
		require.NotNil(t, d.Field(d.Address))
		if d.Credential != "" {
			require.NotNil(t, d.Field(d.Credential))
			assert.True(t, d.Field(d.Credential).Secret, "%s: a credential is a secret", d.Name)
		}
		assert.False(t, d.Field(d.Address).Secret)
		fields, words := map[string]bool{}, map[string]bool{}
		for _, q := range d.Questions {
			assert.NotEmpty(t, q.Word)
			assert.NotEmpty(t, q.Text)
			assert.NotEmpty(t, q.About)
			assert.False(t, words[q.Word], "%s asks %s twice", d.Name, q.Word)
			words[q.Word] = true
			for _, f := range q.Fields {
				assert.Regexp(t, `^[a-z][a-z-]*$`, f.Name)
				assert.False(t, fields[f.Name], "%s is told %s twice", d.Name, f.Name)
				fields[f.Name] = true
				assert.NotEmpty(t, f.About, f.Name)
				if q.Single() == nil {
					assert.NotEmpty(t, f.Word, f.Name)
					assert.False(t, f.Needed, "%s: what is needed is asked for by itself", f.Name)
					assert.True(t, !f.Secret || f.File, "%s: a secret that is typed is asked for by itself", f.Name)
				}
				kind := f.Name + map[bool]string{true: " switch", false: ""}[f.Switch]
				said[kind] = true
				assert.False(t, said[f.Name] && said[f.Name+" switch"], "%s is a switch of one driver and none of another: options of commands are one for all", f.Name)
			}
		}
	}
	usual, err := Named("")
	require.NoError(t, err)
	assert.Same(t, All[0], usual)
	_, err = Named("semaphore")
	assert.ErrorContains(t, err, "there are occi, libvirt")
}
