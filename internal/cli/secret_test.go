package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/workspace"
)

// TestSecretsAreKeptAndNeverArguments keeps a secret from a file, has a plan name it, and refuses it as an argument.
func TestSecretsAreKeptAndNeverArguments(t *testing.T) {
	ws := t.TempDir()
	file := filepath.Join(t.TempDir(), "value")
	require.NoError(t, os.WriteFile(file, []byte("heron\n"), 0o600))
	code, out, errOut := call("credentials", "secret", "register_key", "--file", file, "--workspace", ws)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "register_key is kept")
	assert.NotContains(t, out, "heron")
	got, err := workspace.New(ws).Secrets([]string{"register_key"})
	require.NoError(t, err)
	assert.Equal(t, "heron", got["register_key"])

	code, out, errOut = call("plan", example, "--preset", "drill", "--workspace", ws)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "needs the secrets register_key")
	code, _, errOut = call("plan", example, "--preset", "drill", "--input", "register_key=heron", "--workspace", ws)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "register_key is a secret and is not given as an argument")
	assert.NotContains(t, errOut, "heron")

	code, out, errOut = call("credentials", "secret", "register_key", "--forget", "--workspace", ws)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "register_key is forgotten")
	_, err = workspace.New(ws).Secrets([]string{"register_key"})
	assert.ErrorContains(t, err, "andamio credentials secret register_key keeps it")
	code, _, errOut = call("credentials", "secret", "register_key", "--file", os.DevNull, "--workspace", ws)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "nothing was given")
}
