package source

import (
	"andamio/internal/core/fault"
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// metaFile says which file of an archive is the template (section 6.2).
const metaFile = "TOSCA-Metadata/TOSCA.meta"

// isArchive tells an archive by its name or by how it begins.
func isArchive(name string) bool {
	if ext := strings.ToLower(filepath.Ext(name)); ext == ".csar" || ext == ".zip" {
		return true
	}
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [4]byte
	_, err = io.ReadFull(f, head[:])
	return err == nil && string(head[:]) == "PK\x03\x04"
}

func openArchive(name string) (*Tree, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	t, err := ReadArchive(f, info.Size())
	if err != nil {
		return nil, fmt.Errorf("the archive %s: %w", name, err)
	}
	t.Dir = name
	return t, nil
}

// ReadArchive reads a CSAR into memory. It refuses paths that lead out of the archive, links, and archives that unpack
// to more than they should, whatever sizes they claim.
func ReadArchive(r io.ReaderAt, size int64) (*Tree, error) {
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, fmt.Errorf("it is no zip archive: %w", err)
	}
	if len(z.File) > maxFiles {
		return nil, fmt.Errorf("it has %d entries, more than the %d that are read", len(z.File), maxFiles)
	}
	if err := bomb(z.File, size); err != nil {
		return nil, err
	}
	files := fileMap{}
	left := int64(maxTotal)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		data, err := unpack(f, min(left, MaxFile))
		if err != nil {
			return nil, fmt.Errorf("%q: %w", f.Name, err)
		}
		if _, twice := files[f.Name]; twice {
			return nil, fmt.Errorf("%q is in it twice", f.Name)
		}
		files[f.Name] = data
		left -= int64(len(data))
	}
	root, err := FindRoot(files)
	if err != nil {
		return nil, err
	}
	return &Tree{Files: files, Root: root}, checkMeta(files, root)
}

// An archive is taken for a bomb if it would unpack to more than mostRatio of what it is, unless that is little all the same.
const (
	mostRatio = 200
	little    = 32 << 20
)

// bomb refuses an archive by what it says of itself, before anything of it is unpacked. What says less than is in it is
// refused by unpack.
func bomb(files []*zip.File, size int64) error {
	total := uint64(0)
	for _, f := range files {
		if f.UncompressedSize64 > maxTotal {
			return fmt.Errorf("%q: it would unpack to %d MiB, more than is read", f.Name, f.UncompressedSize64>>20)
		}
		total += f.UncompressedSize64
	}
	if total > maxTotal || total > little && total > uint64(size)*mostRatio {
		return fmt.Errorf("it would unpack to %d MiB from %d KiB, more than is read: at most %d MiB, and %d times what it is", total>>20, size>>10, maxTotal>>20, mostRatio)
	}
	return nil
}

// unpack reads one entry, never more than the limit.
func unpack(f *zip.File, limit int64) ([]byte, error) {
	switch {
	case !fs.ValidPath(f.Name) || strings.ContainsAny(f.Name, "\\\x00"):
		return nil, errors.New("this path leads out of the archive")
	case !f.Mode().IsRegular():
		return nil, errors.New("this is a link or a device, and only files are read")
	case f.UncompressedSize64 > uint64(limit):
		return nil, fmt.Errorf("it would unpack to %d MiB, more than is read", f.UncompressedSize64>>20)
	}
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	says := int64(f.UncompressedSize64)
	data, err := io.ReadAll(io.LimitReader(r, says+1))
	if int64(len(data)) > says {
		return nil, errors.New("it unpacks to more than it says")
	}
	if err != nil {
		return nil, err
	}
	return data, nil
}

// entryOf reads Entry-Definitions of a TOSCA.meta file.
func entryOf(data []byte, files fs.FS) (string, error) {
	meta, err := readMeta(data)
	if err != nil {
		return "", err
	}
	if meta[keyEntry] == "" {
		return "", fmt.Errorf("%s has no line %s", metaFile, keyEntry)
	}
	entry := path.Clean(meta[keyEntry])
	if !fs.ValidPath(entry) {
		return "", fmt.Errorf("%s names %q, which leads out of the archive", metaFile, entry)
	}
	if _, err := fs.Stat(files, entry); err != nil {
		return "", fmt.Errorf("%s names %q, which is not there", metaFile, entry)
	}
	return entry, nil
}

// Pack writes files as a CSAR with a TOSCA.meta file. Equal files give equal bytes: entries are sorted, and have no
// times.
func Pack(files map[string][]byte, root string) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	meta := "TOSCA-Meta-File-Version: 1.1\nCSAR-Version: 1.1\nCreated-By: Andamio\nEntry-Definitions: " + root + "\n"
	names := make([]string, 0, len(files)+1)
	for name := range files {
		if name != metaFile {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range append([]string{metaFile}, names...) {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate})
		if err != nil {
			return nil, err
		}
		data := files[name]
		if name == metaFile {
			data = []byte(meta)
		}
		if _, err := w.Write(data); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return out.Bytes(), err
}

// All reads every file of a tree. Files and folders whose names begin with a dot stay out: they belong to tools.
func All(files fs.FS) (map[string][]byte, error) {
	out := map[string][]byte{}
	total := 0
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case name != "." && strings.HasPrefix(d.Name(), "."):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		case d.IsDir():
			return nil
		}
		data, err := Read(files, name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		out[name] = data
		if total += len(data); total > maxTotal || len(out) > maxFiles {
			return fmt.Errorf("these are more than %d files or %d MiB, which is no template", maxFiles, maxTotal>>20)
		}
		return nil
	})
	return out, err
}

// Unpack writes the files of a tree into a folder that is new or empty. The folder confines what is written.
func Unpack(files fs.FS, dir string) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return fault.Conflictf("%s is not empty; nothing was written", dir)
	}
	all, err := All(files)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for name, data := range all {
		if parent := path.Dir(name); parent != "." {
			if err := root.MkdirAll(parent, 0o755); err != nil {
				return err
			}
		}
		if err := root.WriteFile(name, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}
