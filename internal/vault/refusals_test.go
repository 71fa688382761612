package vault_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/vault"
)

// encrypted writes a text as a vault's file, for the key that is there.
func encrypted(t *testing.T, dir, text string) {
	t.Helper()
	key, err := os.ReadFile(filepath.Join(dir, vault.KeyFile))
	require.NoError(t, err)
	ids, err := age.ParseIdentities(bytes.NewReader(key))
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := age.Encrypt(&out, ids[0].(*age.X25519Identity).Recipient())
	require.NoError(t, err)
	_, err = io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, vault.File), out.Bytes(), 0o600))
}

// instead has a folder with something in it be where a file is expected.
func instead(t *testing.T, name string) {
	t.Helper()
	require.NoError(t, os.RemoveAll(name))
	require.NoError(t, os.MkdirAll(filepath.Join(name, "in it"), 0o700))
}

func write(t *testing.T, name, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
}

// TestWhatCannotBeOpenedIsRefused has every call say what is wrong, quote nothing of what is inside, and change nothing.
func TestWhatCannotBeOpenedIsRefused(t *testing.T) {
	for name, c := range map[string]struct {
		spoil  func(t *testing.T, dir string)
		says   string
		locked bool
	}{
		"a folder in the place of the file": {func(t *testing.T, dir string) { instead(t, filepath.Join(dir, vault.File)) }, "is a directory", false},
		"a folder in the place of the key":  {func(t *testing.T, dir string) { instead(t, filepath.Join(dir, vault.KeyFile)) }, "is a directory", false},
		"no key":                            {func(t *testing.T, dir string) { require.NoError(t, os.Remove(filepath.Join(dir, vault.KeyFile))) }, "neither a passphrase in ANDAMIO_PASSPHRASE nor the key file", true},
		"no key in the key file":            {func(t *testing.T, dir string) { write(t, filepath.Join(dir, vault.KeyFile), "# nothing\n") }, "is no key file of age", false},
		"another's key": {func(t *testing.T, dir string) {
			id, err := age.GenerateX25519Identity()
			require.NoError(t, err)
			write(t, filepath.Join(dir, vault.KeyFile), id.String()+"\n")
		}, "needs its passphrase in ANDAMIO_PASSPHRASE, or its key file in ANDAMIO_KEY_FILE or beside it", true},
		"a file that is cut": {func(t *testing.T, dir string) {
			data, err := os.ReadFile(filepath.Join(dir, vault.File))
			require.NoError(t, err)
			write(t, filepath.Join(dir, vault.File), string(data[:len(data)-5]))
		}, "is damaged, put a copy of it back", false},
		"no credentials":             {func(t *testing.T, dir string) { encrypted(t, dir, "["+secret) }, "holds no credentials", false},
		"a shelf that is none":       {func(t *testing.T, dir string) { encrypted(t, dir, `{"sites":"`+secret+`"}`) }, "holds no credentials", false},
		"a value that is none":       {func(t *testing.T, dir string) { encrypted(t, dir, `{"sites":{"vega":["`+secret+`"]}}`) }, "holds no credentials", false},
		"bytes that are none":        {func(t *testing.T, dir string) { encrypted(t, dir, `{"sites":{"vega":{"bytes":5}}}`) }, "holds no credentials", false},
		"something that is no age":   {func(t *testing.T, dir string) { write(t, filepath.Join(dir, vault.File), "hello") }, "cannot be opened", true},
		"an empty file":              {func(t *testing.T, dir string) { write(t, filepath.Join(dir, vault.File), "") }, "cannot be opened", true},
		"a folder that is not there": {func(t *testing.T, dir string) { require.NoError(t, os.RemoveAll(dir)); write(t, dir, "") }, "not a directory", false},
	} {
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "vault")
			require.NoError(t, os.Mkdir(dir, 0o700))
			require.NoError(t, vault.New(dir).Set("sites", map[string]string{"vega": secret}))
			c.spoil(t, dir)
			before, _ := os.ReadFile(filepath.Join(dir, vault.File))
			v := vault.New(dir)
			_, get := v.Get("sites", "vega")
			_, names := v.Names("sites")
			for call, err := range map[string]error{"get": get, "names": names, "set": v.Set("sites", map[string]string{"presa": "x"}), "all": v.SetAll(nil), "lock": v.Lock("a long passphrase"), "unlock": v.Lock(" ")} {
				require.ErrorContains(t, err, c.says, call)
				assert.Equal(t, c.locked, strings.Contains(err.Error(), "cannot be opened"), call)
				assert.NotContains(t, err.Error(), secret, call)
				if c.locked {
					assert.ErrorIs(t, err, vault.ErrLocked, call)
				}
			}
			after, _ := os.ReadFile(filepath.Join(dir, vault.File))
			assert.Equal(t, before, after, "nothing is changed")
		})
	}
}

// TestANewVaultIsForThePassphraseThatThereIs makes no key file beside one.
func TestANewVaultIsForThePassphraseThatThereIs(t *testing.T) {
	was := vault.WorkFactor(10)
	t.Cleanup(func() { vault.WorkFactor(was) })
	t.Setenv(vault.EnvPassphrase, "a long passphrase")
	dir := t.TempDir()
	require.NoError(t, vault.New(dir).Set("sites", map[string]string{"vega": secret}))
	_, err := os.Stat(filepath.Join(dir, vault.KeyFile))
	require.ErrorIs(t, err, os.ErrNotExist)
	got, err := vault.New(dir).Get("sites", "vega")
	require.NoError(t, err)
	assert.Equal(t, secret, got)
	vault.WorkFactor(8)
	_, err = vault.New(dir).Get("sites", "vega")
	require.NoError(t, err, "made where more work is done, up to two more")
	vault.WorkFactor(7)
	_, err = vault.New(dir).Get("sites", "vega")
	require.ErrorIs(t, err, vault.ErrLocked, "nobody is made to work for days")
}

// TestAKeyFileOfAnyPlaceAndSort opens and keeps a vault with a key file elsewhere, which is left there when a passphrase takes its place.
func TestAKeyFileOfAnyPlaceAndSort(t *testing.T) {
	was := vault.WorkFactor(10)
	t.Cleanup(func() { vault.WorkFactor(was) })
	for name, generate := range map[string]func() (string, error){
		"usual":  func() (string, error) { id, err := age.GenerateX25519Identity(); return id.String(), err },
		"hybrid": func() (string, error) { id, err := age.GenerateHybridIdentity(); return id.String(), err },
	} {
		dir, key := t.TempDir(), filepath.Join(t.TempDir(), "key")
		text, err := generate()
		require.NoError(t, err, name)
		write(t, key, text+"\n")
		t.Setenv(vault.EnvKeyFile, key)
		require.NoError(t, vault.New(dir).Set("sites", map[string]string{"vega": secret}), name)
		_, err = os.Stat(filepath.Join(dir, vault.KeyFile))
		require.ErrorIs(t, err, os.ErrNotExist, name)
		got, err := vault.New(dir).Get("sites", "vega")
		require.NoError(t, err, name)
		assert.Equal(t, secret, got, name)
		require.NoError(t, vault.New(dir).Lock("a long passphrase"), name)
		_, err = os.Stat(key)
		require.NoError(t, err, "what lies elsewhere is somebody's")
	}
	dir, key := t.TempDir(), filepath.Join(t.TempDir(), "key")
	t.Setenv(vault.EnvKeyFile, key)
	require.NoError(t, vault.New(dir).Set("sites", map[string]string{"vega": secret}))
	_, err := os.Stat(key)
	require.NoError(t, err, "a new one is made where it is to be")
	instead(t, filepath.Join(dir, vault.KeyFile))
	require.Error(t, vault.New(dir).Lock("a long passphrase"), "what lies in its place cannot be removed")
	instead(t, key)
	t.Setenv(vault.EnvPassphrase, "a long passphrase")
	require.ErrorContains(t, vault.New(dir).Lock(""), "is a directory")
}

// TestAVaultIsLockedBeforeAnythingIsKept has what is set later be kept under the passphrase.
func TestAVaultIsLockedBeforeAnythingIsKept(t *testing.T) {
	was := vault.WorkFactor(10)
	t.Cleanup(func() { vault.WorkFactor(was) })
	dir := t.TempDir()
	require.NoError(t, vault.New(dir).Lock("a long passphrase"))
	require.ErrorIs(t, vault.New(dir).Set("sites", map[string]string{"vega": secret}), vault.ErrLocked)
	t.Setenv(vault.EnvPassphrase, "a long passphrase")
	require.NoError(t, vault.New(dir).SetAll(map[string]map[string]string{"sites": {"vega": secret, "presa": ""}, "keys": {"a": "\xff\x00", "b": ""}}))
	v := vault.New(dir)
	for range 2 { // what was read, and what is remembered
		got, err := v.Get("keys", "a")
		require.NoError(t, err)
		assert.Equal(t, "\xff\x00", got)
	}
	names, err := v.Names("sites")
	require.NoError(t, err)
	assert.Equal(t, []string{"vega"}, names)
	names, err = v.Names("nowhere")
	require.NoError(t, err)
	assert.Empty(t, names)
}
