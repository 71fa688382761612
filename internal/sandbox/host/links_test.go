package host

import (
	"io/fs"
	"testing"

	"github.com/spf13/afero"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/sandbox/disk"
)

func TestLinksLead(t *testing.T) {
	f := newFilesystem()
	require.NoError(t, f.MkdirAll("/srv/levels", 0o755))
	require.NoError(t, afero.WriteFile(f, "/srv/levels/dam", []byte("2.10"), 0o644))
	require.NoError(t, f.SymlinkIfPossible("levels", "/srv/now"))
	require.NoError(t, f.SymlinkIfPossible("../srv/now/dam", "/srv/latest"))
	assert.ErrorIs(t, f.SymlinkIfPossible("x", "/srv/latest"), fs.ErrExist)

	read := func(name string) string {
		t.Helper()
		data, err := afero.ReadFile(f, name)
		require.NoError(t, err, name)
		return string(data)
	}
	assert.Equal(t, "2.10", read("/srv/latest"), "through two of them, one of which is a folder's")
	require.NoError(t, afero.WriteFile(f, "/srv/latest", []byte("2.20"), 0o644))
	assert.Equal(t, "2.20", read("/srv/levels/dam"), "what is written goes to where it leads")
	to, err := f.ReadlinkIfPossible("/srv/latest")
	require.NoError(t, err)
	assert.Equal(t, "../srv/now/dam", to)
	_, err = f.ReadlinkIfPossible("/srv/levels/dam")
	assert.ErrorIs(t, err, fs.ErrInvalid)

	require.NoError(t, f.Rename("/srv/latest", "/srv/last"))
	assert.Equal(t, "2.20", read("/srv/last"))
	_, err = f.Stat("/srv/latest")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, f.Remove("/srv/last"))
	assert.Equal(t, "2.20", read("/srv/levels/dam"), "a link that is removed takes nothing along")

	require.NoError(t, f.SymlinkIfPossible("b", "/a"))
	require.NoError(t, f.SymlinkIfPossible("a", "/b"))
	_, err = f.Open("/a")
	assert.ErrorIs(t, err, errLoop)
	require.NoError(t, f.RemoveAll("/srv"))
	require.NoError(t, f.Mkdir("/srv", 0o755))
	require.NoError(t, afero.WriteFile(f, "/srv/now", []byte("a file"), 0o644))
	assert.Equal(t, "a file", read("/srv/now"), "what was a link once is none for good")
}

// Links are on the disk of a machine, and stay links where it is copied to.
func TestLinksAreKeptOnDisks(t *testing.T) {
	d := disk.New(1<<30, "e")
	t.Cleanup(func() { d.Close() })
	f := newFilesystem()
	require.NoError(t, f.add("/", d))
	require.NoError(t, afero.WriteFile(f, "/levels", []byte("2.10"), 0o644))
	require.NoError(t, f.SymlinkIfPossible("levels", "/now"))
	f.sync(d)
	again, err := look(d)
	require.NoError(t, err)
	info, _, err := again.(afero.Lstater).LstatIfPossible("/now")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeSymlink)
	data, err := afero.ReadFile(again, "/now")
	require.NoError(t, err)
	assert.Equal(t, "2.10", string(data))
}
