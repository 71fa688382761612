package app

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/durable"
	"andamio/internal/service/workspace"
	"andamio/internal/store/sqlite"
	"andamio/internal/vault"
)

// A backup is a tar archive (POSIX.1-2024, pax), compressed with gzip (RFC 1952): a manifest that names every file with its
// size and digest, then the files. The database in it is as it was at one moment, whatever went on meanwhile.

// backupFormat says what the manifest means, manifestName where it is.
const (
	backupFormat = "andamio.backup/1"
	manifestName = "manifest.json"
)

// mostBackup bounds what is unpacked of a backup, in bytes.
const mostBackup = 256 << 30

// backedUp are the files of a workspace beside the database. The key that opens the credentials is among them only if that
// is asked for. What stand-ins hold, and what steps printed beyond the journal, is not.
var backedUp = []string{workspace.FileSites, workspace.FileZone, workspace.FileMapping, workspace.FileRules, workspace.FileSettling,
	workspace.FileTeams, workspace.FileQuotas, workspace.FileApprovals, workspace.FileRates, workspace.FileHooks, workspace.FileLevels, workspace.FileWindows, workspace.FileThresholds, workspace.FileReactions, workspace.FileFronts, workspace.FileBus, vault.File}

// Backup says what is in a backup.
type Backup struct {
	Format string    `json:"format"`
	Made   time.Time `json:"made"`
	// Schema is that of the database.
	Schema int64        `json:"schema"`
	Files  []BackupFile `json:"files"`
	// Key says that the key which opens the credentials is in it.
	Key bool `json:"key"`
	// Database is what is in the database.
	Database sqlite.Verified `json:"database"`
}

// BackupFile is a file of a backup.
type BackupFile struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Backup writes a backup of the workspace to a file that is not there yet, while runs go on. Without the key, what opens the
// credentials must be kept elsewhere.
func (a *App) Backup(ctx context.Context, name string, withKey bool) (out *Backup, err error) {
	err = a.desk.Do(ctx, guard.BackUp, guard.Named(name), func() (err error) {
		out, err = a.backup(ctx, name, withKey)
		return err
	})
	return out, err
}

func (a *App) backup(ctx context.Context, name string, withKey bool) (*Backup, error) {
	if _, err := os.Lstat(name); err == nil {
		return nil, fault.Conflictf("%s is there already, and is not overwritten", name)
	}
	dir, err := os.MkdirTemp(a.workspace.Dir, ".backup-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := a.copyAll(ctx, dir, withKey); err != nil {
		return nil, err
	}
	b := &Backup{Format: backupFormat, Made: time.Now().UTC().Truncate(time.Second), Key: withKey}
	found, err := sqlite.Verify(ctx, filepath.Join(dir, workspace.FileDatabase))
	if err != nil {
		return nil, fmt.Errorf("the database is damaged, and a backup of it would be: %w", err)
	}
	b.Database, b.Schema = *found, found.Schema
	if b.Files, err = filesOf(dir); err != nil {
		return nil, err
	}
	return b, b.write(dir, name)
}

// copyAll copies what is backed up to a folder, as it is at one moment: nobody changes what is kept of sites meanwhile.
func (a *App) copyAll(ctx context.Context, dir string, withKey bool) error {
	files := a.workspace.Files()
	unlock, err := files.Lock(ctx, workspace.FileSitesLock, workspace.ChangePatience)
	if err != nil {
		return err
	}
	defer unlock()
	names, err := filesAt(files)
	if err != nil {
		return err
	}
	to := durable.In(dir)
	for _, name := range names {
		if err := copyFile(files, to, name); err != nil {
			return err
		}
	}
	if withKey {
		if err := copyFile(durable.In(a.workspace.Dir), to, vault.KeyFile); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return a.kept.copyTo(ctx, filepath.Join(dir, workspace.FileDatabase))
}

func copyFile(from, to durable.Files, name string) error {
	data, err := from.Read(name)
	if err != nil {
		return err
	}
	return to.Write(name, data)
}

// filesOf lists the files of a folder, and of those in it, with their digests, in order.
func filesOf(dir string) (out []BackupFile, err error) {
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		size, sum, err := digest(path)
		out = append(out, BackupFile{filepath.ToSlash(name), size, sum})
		return err
	})
	return out, err
}

func digest(name string) (size int64, sum string, err error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	size, err = io.Copy(h, f)
	return size, hex.EncodeToString(h.Sum(nil)), err
}

// write writes the archive; it takes its name when all of it is on the disk.
func (b *Backup) write(dir, name string) error {
	part := name + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, durable.FileMode)
	if err != nil {
		return err
	}
	defer os.Remove(part) // unless it took its name
	z := gzip.NewWriter(f)
	t := tar.NewWriter(z)
	err = b.pack(t, dir)
	if err = errors.Join(err, t.Close(), z.Close(), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Link(part, name); err != nil { // which does not take the place of another
		return err
	}
	return durable.SyncFolder(filepath.Dir(name))
}

func (b *Backup) pack(t *tar.Writer, dir string) error {
	text, err := json.MarshalIndent(b, "", "  ")
	if err != nil {
		return err
	}
	head := func(name string, size int64) error {
		return t.WriteHeader(&tar.Header{Name: name, Size: size, Mode: int64(durable.FileMode), ModTime: b.Made, Format: tar.FormatPAX})
	}
	if err := head(manifestName, int64(len(text))); err != nil {
		return err
	}
	if _, err := t.Write(text); err != nil {
		return err
	}
	for _, x := range b.Files {
		if err := head(x.Name, x.Size); err != nil {
			return err
		}
		f, err := os.Open(filepath.Join(dir, x.Name))
		if err != nil {
			return err
		}
		_, err = io.Copy(t, f)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// VerifyBackup looks whether a backup is whole: the archive, the digests, and the database in it. Nothing is restored.
func VerifyBackup(ctx context.Context, name string) (*Backup, error) {
	dir, err := os.MkdirTemp("", "andamio-verify-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	return unpackBackup(ctx, name, dir)
}

// Restore unpacks a backup as a workspace that is not there yet, or is an empty folder, once all of it was found whole.
func Restore(ctx context.Context, name, workspace string) (*Backup, error) {
	if entries, err := os.ReadDir(workspace); err == nil && len(entries) > 0 {
		return nil, fault.Conflictf("%s has something in it (%s), and nothing is overwritten: name a folder that is empty or not there yet with --workspace", workspace, entries[0].Name())
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	parent := filepath.Dir(workspace)
	if err := os.MkdirAll(parent, durable.FolderMode); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(parent, ".restore-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	b, err := unpackBackup(ctx, name, dir)
	if err != nil {
		return nil, err
	}
	if err := os.Remove(workspace); err != nil && !errors.Is(err, fs.ErrNotExist) { // an empty folder
		return nil, err
	}
	return b, errors.Join(durable.SyncFolder(dir), os.Rename(dir, workspace), durable.SyncFolder(parent))
}

// unpackBackup unpacks a backup to an empty folder and looks at everything in it.
func unpackBackup(ctx context.Context, name, dir string) (*Backup, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(fault.Invalidf("%s is no backup: it is no file", name), err)
	}
	z, err := gzip.NewReader(f)
	if err != nil {
		return nil, fault.Invalidf("%s is no backup, or its beginning is damaged: %w", name, err)
	}
	t := tar.NewReader(z)
	b, err := readManifest(t)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", name, err))
	}
	if err := b.unpack(t, dir); err != nil {
		return nil, fault.Invalidf("%s is damaged: %w", name, err)
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(z, 1<<20)); err != nil { // the checksum at its end
		return nil, fault.Invalidf("%s is damaged: %w", name, err)
	}
	found, err := sqlite.Verify(ctx, filepath.Join(dir, workspace.FileDatabase))
	if err != nil {
		return nil, fault.Invalidf("the database in %s is damaged: %w", name, err)
	}
	if *found != b.Database {
		return nil, fault.Invalidf("the database in %s holds %+v, and its manifest says %+v", name, *found, b.Database)
	}
	return b, nil
}

// mostManifest bounds the bytes of a manifest.
const mostManifest = 1 << 20

func readManifest(t *tar.Reader) (*Backup, error) {
	h, err := t.Next()
	if err != nil || h.Name != manifestName || h.Size > mostManifest {
		return nil, errors.Join(fault.Invalidf("it is no backup: it does not begin with a manifest"), err)
	}
	var b Backup
	if err := json.NewDecoder(io.LimitReader(t, mostManifest)).Decode(&b); err != nil {
		return nil, fault.Invalidf("its manifest cannot be read: %w", err)
	}
	if b.Format != backupFormat {
		return nil, fault.Invalidf("it is of %q, which this program does not know: use the version that made it", b.Format)
	}
	total := int64(0)
	for _, f := range b.Files {
		if !ofAWorkspace(f.Name) || f.Size < 0 || f.Size > mostBackup {
			return nil, fault.Invalidf("its manifest names %q of %d bytes, which is no file of a workspace", f.Name, f.Size)
		}
		total += f.Size
	}
	if total > mostBackup {
		return nil, fault.Invalidf("it would unpack to %d GiB, more than is read", total>>30)
	}
	return &b, nil
}

// ofAWorkspace reports that a backup may have a file of a name.
func ofAWorkspace(name string) bool {
	folder, file, in := strings.Cut(name, "/")
	if in {
		overview, is := strings.CutSuffix(file, ".json")
		return folder == workspace.FolderOverviews && is && workspace.CheckOverviewName(overview) == nil
	}
	return slices.Contains(sharedFiles(), name) || name == workspace.FileDatabase || name == vault.KeyFile
}

// unpack writes the files, in the order of the manifest and nothing beside them, and compares their digests.
func (b *Backup) unpack(t *tar.Reader, dir string) error {
	for _, x := range b.Files {
		h, err := t.Next()
		if err != nil {
			return fault.Invalidf("%s is missing: %w", x.Name, err)
		}
		if h.Name != x.Name || h.Size != x.Size || h.Typeflag != tar.TypeReg {
			return fault.Invalidf("there is %q of %d bytes where %q of %d should be", h.Name, h.Size, x.Name, x.Size)
		}
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, x.Name)), durable.FolderMode); err != nil {
			return err
		}
		f, err := os.OpenFile(filepath.Join(dir, x.Name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, durable.FileMode)
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(io.MultiWriter(f, sum), io.LimitReader(t, x.Size))
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return fmt.Errorf("%s: %w", x.Name, err)
		}
		if got := hex.EncodeToString(sum.Sum(nil)); got != x.SHA256 {
			return fault.Invalidf("%s has the digest %s, and the manifest says %s", x.Name, got, x.SHA256)
		}
	}
	if h, err := t.Next(); err != io.EOF {
		return errors.Join(fault.Invalidf("there is more in it than its manifest says: %+v", h), err)
	}
	return nil
}
