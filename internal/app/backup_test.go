package app

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/workspace"
)

// TestABackupIsWholeWhileRunsGoOn backs up again and again under a run, restores each, and replays what is in it.
func TestABackupIsWholeWhileRunsGoOn(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.01)
	written := []string{workspace.FileTeams, workspace.FileQuotas, workspace.FileApprovals, workspace.FileRates}
	for _, name := range written[1:] {
		text, err := os.ReadFile("../../examples/flood-watch/" + name)
		require.NoError(t, err)
		require.NoError(t, a.workspace.Files().Write(name, text))
	}
	require.NoError(t, a.workspace.Files().Write(written[0], fmt.Appendf(nil, "version: andamio.teams/1\npeople: { ana: { user: %q } }\ngrants: [ { to: ana, role: engineer } ]", acting.Whoami())))
	a = another(t, a)
	d := draft(t, a, nil)
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan, Template: d.Template.Origin()})
	require.NoError(t, err)
	var group sync.WaitGroup
	group.Go(func() { assert.NoError(t, a.Work(ctx, id)) })
	dir := t.TempDir()
	for n := range 6 {
		file := filepath.Join(dir, fmt.Sprintf("%d.tgz", n))
		made, err := a.Backup(ctx, file, n%2 == 0)
		require.NoError(t, err)
		assert.Equal(t, n%2 == 0, made.Key)
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077)
		found, err := VerifyBackup(ctx, file)
		require.NoError(t, err)
		assert.Equal(t, made, found)
		ws := filepath.Join(dir, fmt.Sprintf("ws-%d", n))
		_, err = Restore(ctx, file, ws)
		require.NoError(t, err)
		b, err := Open(ctx, ws, Idle())
		require.NoError(t, err)
		s, err := b.Replay(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, int64(made.Database.Events), s.LastSeq)
		assert.Empty(t, b.workspace.Loose)
		for _, name := range written { // who may do what, and how much, is not lost
			was, err := a.workspace.Files().Read(name)
			require.NoError(t, err)
			is, err := b.workspace.Files().Read(name)
			require.NoError(t, err, name)
			assert.Equal(t, string(was), string(is), name)
		}
		if n%2 == 0 {
			all, err := b.workspace.Connections()
			require.NoError(t, err)
			assert.NotEmpty(t, all[0].Credential())
		} else {
			_, err := b.workspace.Connections()
			require.Error(t, err, "the key is elsewhere")
		}
		require.NoError(t, b.Close())
	}
	group.Wait()
	last := filepath.Join(dir, "last.tgz")
	_, err = a.Backup(ctx, last, true)
	require.NoError(t, err)
	_, err = a.Backup(ctx, last, true)
	require.ErrorContains(t, err, "is not overwritten")
	_, err = Restore(ctx, last, a.workspace.Dir)
	require.ErrorContains(t, err, "nothing is overwritten")
	left, err := filepath.Glob(filepath.Join(a.workspace.Dir, ".backup-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// packed makes an archive of entries as they come.
func packed(t *testing.T, entries ...tar.Header) []byte {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for _, h := range entries {
		text := h.PAXRecords["TEST.text"]
		h.PAXRecords, h.Mode = nil, 0o600
		if h.Typeflag == 0 {
			h.Typeflag = tar.TypeReg
		}
		if h.Typeflag == tar.TypeReg {
			h.Size = int64(len(text))
		}
		require.NoError(t, w.WriteHeader(&h))
		if h.Typeflag == tar.TypeReg {
			_, err := w.Write([]byte(text))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return out.Bytes()
}

func entry(name, text string) tar.Header {
	return tar.Header{Name: name, PAXRecords: map[string]string{"TEST.text": text}}
}

func manifestOf(t *testing.T, format string, files ...BackupFile) tar.Header {
	t.Helper()
	text, err := json.Marshal(Backup{Format: format, Files: files})
	require.NoError(t, err)
	return entry(manifestName, string(text))
}

func sumOf(text string) string { s := sha256.Sum256([]byte(text)); return hex.EncodeToString(s[:]) }

func TestHostileAndDamagedBackupsAreRefused(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	good := filepath.Join(t.TempDir(), "good.tgz")
	_, err := a.Backup(ctx, good, true)
	require.NoError(t, err)
	whole, err := os.ReadFile(good)
	require.NoError(t, err)
	sites := BackupFile{workspace.FileSites, 2, sumOf("[]")}
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"nothing":            {nil, "no backup"},
		"another file":       {[]byte("dear reader"), "no backup"},
		"no manifest":        {packed(t, entry("sites.json", "[]")), "does not begin with a manifest"},
		"another format":     {packed(t, manifestOf(t, "andamio.backup/9")), "does not know"},
		"a file outside":     {packed(t, manifestOf(t, backupFormat, BackupFile{"../evil", 1, "x"})), "no file of a workspace"},
		"a huge claim":       {packed(t, manifestOf(t, backupFormat, BackupFile{workspace.FileSites, 1 << 60, "x"})), "no file of a workspace"},
		"a link":             {packed(t, manifestOf(t, backupFormat, BackupFile{workspace.FileSites, 0, "x"}), tar.Header{Name: workspace.FileSites, Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}), "where"},
		"another digest":     {packed(t, manifestOf(t, backupFormat, sites), entry(workspace.FileSites, "{}")), "digest"},
		"another size":       {packed(t, manifestOf(t, backupFormat, sites), entry(workspace.FileSites, "[ ]")), "where"},
		"a file missing":     {packed(t, manifestOf(t, backupFormat, sites)), "missing"},
		"a file more":        {packed(t, manifestOf(t, backupFormat, sites), entry(workspace.FileSites, "[]"), entry("more", "x")), "more in it"},
		"no database":        {packed(t, manifestOf(t, backupFormat, sites), entry(workspace.FileSites, "[]")), "database"},
		"cut in its middle":  {whole[:len(whole)/2], "damaged"},
		"cut at its end":     {whole[:len(whole)-4], "damaged"},
		"a flipped checksum": {append(append([]byte{}, whole[:len(whole)-6]...), append([]byte{whole[len(whole)-6] ^ 1}, whole[len(whole)-5:]...)...), "damaged"},
	} {
		file := filepath.Join(t.TempDir(), "b.tgz")
		require.NoError(t, os.WriteFile(file, c.data, 0o600))
		_, err := VerifyBackup(ctx, file)
		assert.ErrorContains(t, err, c.says, name)
		ws := filepath.Join(t.TempDir(), "ws")
		_, err = Restore(ctx, file, ws)
		assert.Error(t, err, name)
		assert.NoDirExists(t, ws, name)
	}
	_, err = VerifyBackup(ctx, t.TempDir())
	require.ErrorContains(t, err, "no file")
}

// TestWhatSomebodyWroteIsInABackup holds that every file of the workspace that people write is backed up: one that is forgotten is missed only when it is needed.
func TestWhatSomebodyWroteIsInABackup(t *testing.T) {
	t.Parallel()
	names, err := filepath.Glob("../service/workspace/*.go")
	require.NoError(t, err)
	written := 0
	for _, name := range names {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			if lit, is := n.(*ast.BasicLit); is && lit.Kind == token.STRING && strings.HasSuffix(lit.Value, `.yaml"`) {
				written++
				assert.Contains(t, backedUp, strings.Trim(lit.Value, `"`), name)
			}
			return true
		})
	}
	assert.Greater(t, written, 8)
}
