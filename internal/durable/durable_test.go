package durable

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func names(t *testing.T, dir string) (out []string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

// TestAFileIsTheOldOneOrTheNew replaces a file, and fails to: it is one or the other, and nothing is left beside it.
func TestAFileIsTheOldOneOrTheNew(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "f")
	require.NoError(t, Write(name, []byte("one")))
	info, err := os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, FileMode, info.Mode().Perm())
	require.NoError(t, os.Chmod(name, 0o644))
	require.NoError(t, WriteJSON(name, map[string]int{"two": 2}))
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, "{\n  \"two\": 2\n}\n", string(data))
	info, err = os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, FileMode, info.Mode().Perm(), "what replaces a loose file is not")
	require.Error(t, WriteJSON(name, func() {}), "which is no JSON")
	after, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, data, after)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "folder", "x"), nil, 0o600))
	require.Error(t, Write(filepath.Join(dir, "folder"), nil), "nothing takes the name of a folder")
	require.Error(t, Write(filepath.Join(dir, "none", "f"), nil))
	assert.Equal(t, []string{"f", "folder"}, names(t, dir))
}

// TestAFullDiskLeavesTheFile bounds how large files may become, as a full disk does.
func TestAFullDiskLeavesTheFile(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "f")
	require.NoError(t, Write(name, []byte("old")))
	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_FSIZE, &was))
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: 1000, Max: was.Max}))
	err := Write(name, make([]byte, 5000))
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &was))
	require.Error(t, err)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, "old", string(data))
	assert.Equal(t, []string{"f"}, names(t, dir))
}

func TestAFolderIsMadeItsOwnersAlone(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0))
	dir := filepath.Join(t.TempDir(), "a", "b")
	require.NoError(t, Folder(dir))
	for _, d := range []string{dir, filepath.Dir(dir)} {
		info, err := os.Stat(d)
		require.NoError(t, err)
		assert.Equal(t, FolderMode, info.Mode().Perm(), d)
	}
	require.NoError(t, os.Chmod(dir, 0o777))
	require.NoError(t, Folder(dir))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, FolderMode, info.Mode().Perm(), "one that was there is tightened")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), nil, 0o600))
	require.Error(t, Folder(filepath.Join(dir, "f")))
}

func TestWhatIsLooseIsTightenedAndTold(t *testing.T) {
	dir := t.TempDir()
	for name, mode := range map[string]os.FileMode{"tight": 0o600, "loose": 0o644, "script": 0o755, "others": 0o602} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
		require.NoError(t, os.Chmod(filepath.Join(dir, name), mode))
	}
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, nil, 0o600))
	require.NoError(t, os.Chmod(outside, 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "link")))
	require.NoError(t, os.Chmod(dir, 0o700))
	loose, err := Tighten(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(dir, "loose"), filepath.Join(dir, "others"), filepath.Join(dir, "script")}, loose)
	for name, want := range map[string]os.FileMode{"tight": 0o600, "loose": 0o600, "script": 0o700, "others": 0o600} {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode().Perm(), name)
	}
	info, err := os.Stat(outside)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), info.Mode().Perm(), "no link is followed")
	loose, err = Tighten(dir)
	require.NoError(t, err)
	assert.Empty(t, loose)
	loose, err = Tighten(filepath.Join(dir, "none"))
	require.NoError(t, err)
	assert.Empty(t, loose)
}

// TestALockIsOneHoldersAtATime has many count under a lock.
func TestALockIsOneHoldersAtATime(t *testing.T) {
	name := filepath.Join(t.TempDir(), "lock")
	count := filepath.Join(t.TempDir(), "count")
	require.NoError(t, os.WriteFile(count, []byte("0"), 0o600))
	var group sync.WaitGroup
	for range 20 {
		group.Go(func() {
			unlock, err := Lock(t.Context(), name, time.Minute)
			if !assert.NoError(t, err) {
				return
			}
			defer unlock()
			var n int
			data, _ := os.ReadFile(count)
			_, _ = fmt.Sscan(string(data), &n)
			_ = os.WriteFile(count, fmt.Appendf(nil, "%d", n+1), 0o600)
		})
	}
	group.Wait()
	data, err := os.ReadFile(count)
	require.NoError(t, err)
	assert.Equal(t, "20", string(data))
	info, err := os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, FileMode, info.Mode().Perm())
}

func TestALockIsWaitedForNoLongerThanPatienceLasts(t *testing.T) {
	name := filepath.Join(t.TempDir(), "lock")
	unlock, err := TryLock(name)
	require.NoError(t, err)
	_, err = TryLock(name)
	require.ErrorIs(t, err, ErrHeld)
	_, err = Lock(t.Context(), name, 30*time.Millisecond)
	require.ErrorContains(t, err, "another process has kept "+name)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Lock(ctx, name, time.Minute)
	require.ErrorIs(t, err, context.Canceled)
	unlock()
	again, err := TryLock(name)
	require.NoError(t, err)
	again()
	_, err = Lock(t.Context(), filepath.Join(name, "none"), time.Minute)
	require.Error(t, err)
	_, err = TryLock(filepath.Join(name, "none"))
	require.Error(t, err)
	require.NotErrorIs(t, err, ErrHeld)
}
