package vault_test

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/vault"
)

const secret = "a token that nobody must see"

func TestValuesAreKeptEncryptedAndForTheirOwnerAlone(t *testing.T) {
	dir := t.TempDir()
	v := vault.New(dir)
	got, err := v.Get("sites", "vega")
	require.NoError(t, err)
	assert.Empty(t, got, "there is nothing yet, and nothing is made")
	require.NoError(t, v.Set("sites", map[string]string{"vega": secret, "presa": "other"}))
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.Len(t, files, 3)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.NotContains(t, string(data), secret)
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f)
	}
	data, err := os.ReadFile(filepath.Join(dir, vault.File))
	require.NoError(t, err)
	assert.Contains(t, string(data), "age-encryption.org/v1", "an open format")

	again := vault.New(dir)
	got, err = again.Get("sites", "vega")
	require.NoError(t, err)
	assert.Equal(t, secret, got)
	require.NoError(t, again.Set("sites", map[string]string{"vega": ""}))
	got, err = v.Get("sites", "vega")
	require.NoError(t, err)
	assert.Empty(t, got, "the first one sees what the other changed")
	names, err := v.Names("sites")
	require.NoError(t, err)
	assert.Equal(t, []string{"presa"}, names)
}

func TestAPassphraseTakesThePlaceOfTheKeyFile(t *testing.T) {
	was := vault.WorkFactor(10) // the same, without the seconds
	t.Cleanup(func() { vault.WorkFactor(was) })
	require.Equal(t, 18, was)
	dir := t.TempDir()
	v := vault.New(dir)
	require.NoError(t, v.Set("sites", map[string]string{"vega": secret}))
	require.NoError(t, v.Lock("a long passphrase"))
	_, err := os.Stat(filepath.Join(dir, vault.KeyFile))
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = vault.New(dir).Get("sites", "vega")
	assert.ErrorIs(t, err, vault.ErrLocked)
	assert.ErrorContains(t, err, vault.EnvPassphrase, "it says what to do")
	assert.NotContains(t, err.Error(), secret)

	t.Setenv(vault.EnvPassphrase, "a wrong one")
	_, err = vault.New(dir).Get("sites", "vega")
	assert.ErrorIs(t, err, vault.ErrLocked)
	t.Setenv(vault.EnvPassphrase, "a long passphrase")
	got, err := vault.New(dir).Get("sites", "vega")
	require.NoError(t, err)
	assert.Equal(t, secret, got)
	require.NoError(t, vault.New(dir).Set("sites", map[string]string{"presa": "x"}), "it stays with the passphrase")
	_, err = os.Stat(filepath.Join(dir, vault.KeyFile))
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, vault.New(dir).Lock(""))
	t.Setenv(vault.EnvPassphrase, "")
	got, err = vault.New(dir).Get("sites", "vega")
	require.NoError(t, err)
	assert.Equal(t, secret, got)
}

func TestDamageIsSaidWithoutTellingWhatIsInside(t *testing.T) {
	dir := t.TempDir()
	v := vault.New(dir)
	require.NoError(t, v.Set("sites", map[string]string{"vega": secret}))
	file := filepath.Join(dir, vault.File)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	data[len(data)-1] ^= 1
	require.NoError(t, os.WriteFile(file, data, 0o600))
	_, err = vault.New(dir).Get("sites", "vega")
	require.Error(t, err)
	assert.NotContains(t, err.Error(), secret)
	require.NoError(t, os.WriteFile(filepath.Join(dir, vault.KeyFile), []byte("AGE-SECRET-KEY-1 broken\n"), 0o600))
	_, err = vault.New(dir).Get("sites", "vega")
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "AGE-SECRET-KEY", "the key is not quoted")
}

// TestManyMayChangeItAtOnce has several set values of their own at one time: none is lost.
func TestManyMayChangeItAtOnce(t *testing.T) {
	dir := t.TempDir()
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() {
			v := vault.New(dir)
			for k := range 5 {
				assert.NoError(t, v.Set("sites", map[string]string{fmt.Sprintf("%d-%d", i, k): "x"}))
			}
		})
	}
	group.Wait()
	names, err := vault.New(dir).Names("sites")
	require.NoError(t, err)
	assert.Len(t, names, 40)
}

func TestAnyValueComesBackUnchanged(t *testing.T) {
	dir := t.TempDir()
	values := map[string]string{"text": "ünï \u202e\n", "bytes": "\xff\xfe\x00\x80end", "looks so": `{"bytes":"eA=="}`}
	require.NoError(t, vault.New(dir).Set("s", values))
	for name, want := range values {
		got, err := vault.New(dir).Get("s", name)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
	}
}
