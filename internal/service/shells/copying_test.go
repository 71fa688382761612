package shells

import (
	"crypto/rand"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/remote"
	"andamio/internal/testprogram"
)

// elsewhere is a connection to a server of OpenSSH, with a folder there.
func elsewhere(t *testing.T) (*sftp.Client, string) {
	t.Helper()
	server := testprogram.StartOpenSSH(t)
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(server.HostKeys[ssh.KeyAlgoED25519]))
	require.NoError(t, err)
	client, err := remote.Usual.Dial(t.Context(), net.JoinHostPort(server.Address, server.Port), remote.KnownBy(key, ssh.ClientConfig{User: server.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(server.Key)}}))
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	there, err := sftp.NewClient(client.Client)
	require.NoError(t, err)
	return there, t.TempDir()
}

// tree says of all that is in a folder what it is, as far as copying keeps it.
func tree(t *testing.T, dir string) []string {
	t.Helper()
	var out []string
	require.NoError(t, filepath.Walk(dir, func(name string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, name)
		switch {
		case info.Mode()&os.ModeSymlink != 0:
			text, err := os.Readlink(name)
			out = append(out, rel+" -> "+text)
			return err
		case info.Mode().IsRegular():
			text, err := os.ReadFile(name)
			out = append(out, strings.Join([]string{rel, info.Mode().String(), info.ModTime().UTC().Format(time.RFC3339), string(text)}, " "))
			return err
		}
		out = append(out, strings.Join([]string{rel, info.Mode().String(), info.ModTime().UTC().Format(time.RFC3339)}, " "))
		return nil
	}))
	slices.Sort(out)
	return out
}

// planted is a folder with files, folders and links of many kinds.
func planted(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "station")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bin", "empty"), 0o755))
	then := time.Date(2027, 3, 1, 2, 0, 0, 0, time.UTC)
	for name, mode := range map[string]os.FileMode{"bin/gauge": 0o755, "secret": 0o600, "read only": 0o444, "Pegel größer": 0o644} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name+" is what it says"), 0o600))
		require.NoError(t, os.Chmod(filepath.Join(dir, name), mode))
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), then, then))
	}
	require.NoError(t, os.Symlink("bin/gauge", filepath.Join(dir, "run")))
	require.NoError(t, os.Symlink("/nowhere/at/all", filepath.Join(dir, "away")))
	for _, name := range []string{"bin/empty", "bin", ""} {
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), then.Add(time.Hour), then.Add(time.Hour)))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "bin"), 0o750))
	return dir
}

func silently(Copied) {}

// TestWhatIsCopiedIsLikeWhatItIsOf sends a folder to a server of OpenSSH and has it back, twice.
func TestWhatIsCopiedIsLikeWhatItIsOf(t *testing.T) {
	there, away := elsewhere(t)
	from := planted(t)
	for range 2 {
		n, err := send(t.Context(), there, from, away+"/", silently)
		require.NoError(t, err)
		assert.Equal(t, 6, n)
		assert.Equal(t, tree(t, from), tree(t, filepath.Join(away, "station")))
	}
	back := t.TempDir()
	for range 2 {
		n, err := fetch(t.Context(), there, filepath.Join(away, "station"), back, silently)
		require.NoError(t, err)
		assert.Equal(t, 6, n)
		assert.Equal(t, tree(t, from), tree(t, filepath.Join(back, "station")))
	}
	require.NoError(t, os.Symlink(filepath.Join(away, "station"), filepath.Join(away, "named")))
	_, err := fetch(t.Context(), there, filepath.Join(away, "named"), filepath.Join(back, "other"), silently)
	require.NoError(t, err)
	assert.Equal(t, tree(t, from), tree(t, filepath.Join(back, "other")), "what is named is meant, not the link to it")
	_, err = fetch(t.Context(), there, filepath.Join(away, "none"), back, silently)
	assert.ErrorContains(t, err, "none")
	_, err = send(t.Context(), there, filepath.Join(away, "none"), away, silently)
	assert.ErrorContains(t, err, "none")
}

// TestWhatBrokeOffGoesOn ends a copy in the middle, and looks that the next one copies the rest alone; unless the file is another by then.
func TestWhatBrokeOffGoesOn(t *testing.T) {
	there, away := elsewhere(t)
	from, to := filepath.Join(t.TempDir(), "levels"), filepath.Join(away, "levels")
	text := make([]byte, 3<<20)
	_, _ = rand.Read(text)
	write := func() { require.NoError(t, os.WriteFile(from, text, 0o640)) }
	write()
	broken := func() (copied int64, err error) {
		first := int64(-1)
		_, err = send(t.Context(), there, from, to, func(c Copied) {
			if first < 0 {
				first = c.Done
			}
			copied = c.Done - first
			if copied >= 1<<20 && first == 0 {
				panic("cut off")
			}
		})
		return copied, err
	}
	assert.Panics(t, func() { _, _ = broken() })
	_, err := os.Stat(to)
	require.ErrorIs(t, err, os.ErrNotExist, "what is there in part is not there yet")
	n, err := broken()
	require.NoError(t, err)
	assert.LessOrEqual(t, n, int64(2<<20), "the rest alone")
	got, err := os.ReadFile(to)
	require.NoError(t, err)
	assert.True(t, string(text) == string(got))
	n, err = broken()
	require.NoError(t, err)
	assert.Zero(t, n, "it is there")

	_, _ = rand.Read(text)
	write()
	require.NoError(t, os.Chtimes(from, time.Now(), time.Now().Add(time.Minute)))
	assert.Panics(t, func() { _, _ = broken() })
	_, _ = rand.Read(text)
	write()
	require.NoError(t, os.Chtimes(from, time.Now(), time.Now().Add(2*time.Minute)))
	_, err = send(t.Context(), there, from, to, silently)
	require.NoError(t, err)
	got, err = os.ReadFile(to)
	require.NoError(t, err)
	assert.True(t, string(text) == string(got), "nothing of what it was before")
}

// TestAMachineWritesNothingOutsideTheTarget has a folder there be full of traps.
func TestAMachineWritesNothingOutsideTheTarget(t *testing.T) {
	there, away := elsewhere(t)
	back, outside := t.TempDir(), t.TempDir()
	trap := filepath.Join(away, "trap")
	require.NoError(t, os.MkdirAll(filepath.Join(trap, "a"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(trap, "a", "planted"), []byte("got you"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(back, "trap"), 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(back, "trap", "a"))) // as one that was copied before
	_, err := fetch(t.Context(), there, trap, back, silently)
	assert.Error(t, err)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is written through a link")

	deep := filepath.Join(away, "deep")
	require.NoError(t, os.MkdirAll(filepath.Join(deep, strings.Repeat("d/", deepest+5)), 0o755))
	_, err = fetch(t.Context(), there, deep, t.TempDir(), silently)
	assert.ErrorContains(t, err, "lies deeper than")
}
