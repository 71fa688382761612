package source

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"
	"time"
)

// fileMap is files by path, as a file system.
type fileMap map[string][]byte

// Memory is files by path, as a file system.
func Memory(files map[string][]byte) fs.FS { return fileMap(files) }

// Open implements fs.FS.
func (m fileMap) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	if data, ok := m[name]; ok {
		return &memoryFile{info: memoryInfo{path.Base(name), int64(len(data)), 0o444}, Reader: bytes.NewReader(data)}, nil
	}
	entries := m.list(name)
	if len(entries) == 0 && name != "." {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &memoryDir{memoryFile{info: memoryInfo{path.Base(name), 0, fs.ModeDir | 0o555}}, entries}, nil
}

// has reports whether there is anything in a folder.
func (m fileMap) has(dir string) bool {
	for name := range m {
		if strings.HasPrefix(name, dir+"/") {
			return true
		}
	}
	return false
}

// list are the entries of a folder, sorted.
func (m fileMap) list(dir string) []fs.DirEntry {
	prefix := dir + "/"
	if dir == "." {
		prefix = ""
	}
	infos := map[string]memoryInfo{}
	for name, data := range m {
		rest, ok := strings.CutPrefix(name, prefix)
		if !ok {
			continue
		}
		if first, _, deeper := strings.Cut(rest, "/"); deeper {
			infos[first] = memoryInfo{first, 0, fs.ModeDir | 0o555}
		} else {
			infos[first] = memoryInfo{first, int64(len(data)), 0o444}
		}
	}
	var out []fs.DirEntry
	for _, i := range infos {
		out = append(out, fs.FileInfoToDirEntry(i))
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name() < out[j].Name() })
	return out
}

type memoryInfo struct {
	name string
	size int64
	mode fs.FileMode
}

func (i memoryInfo) Name() string       { return i.name }
func (i memoryInfo) Size() int64        { return i.size }
func (i memoryInfo) Mode() fs.FileMode  { return i.mode }
func (i memoryInfo) ModTime() time.Time { return time.Time{} }
func (i memoryInfo) IsDir() bool        { return i.mode.IsDir() }
func (i memoryInfo) Sys() any           { return nil }

type memoryFile struct {
	info memoryInfo
	*bytes.Reader
}

func (f *memoryFile) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *memoryFile) Close() error               { return nil }

// Read refuses folders, which have no bytes.
func (f *memoryFile) Read(p []byte) (int, error) {
	if f.Reader == nil {
		return 0, &fs.PathError{Op: "read", Path: f.info.name, Err: fs.ErrInvalid}
	}
	return f.Reader.Read(p)
}

type memoryDir struct {
	memoryFile
	left []fs.DirEntry
}

// ReadDir implements fs.ReadDirFile.
func (d *memoryDir) ReadDir(n int) ([]fs.DirEntry, error) {
	if n <= 0 || n > len(d.left) {
		if n > 0 && len(d.left) == 0 {
			return nil, io.EOF
		}
		n = len(d.left)
	}
	out := d.left[:n]
	d.left = d.left[n:]
	return out, nil
}

// overlay is a folder with files in place of some of its own.
type overlay struct {
	dir  string
	over fileMap
}

// Overlay is the files of a folder with others in place of some. Links out of the folder are not followed.
func Overlay(dir string, over map[string][]byte) fs.FS { return overlay{dir, over} }

// Open implements fs.FS.
func (o overlay) Open(name string) (fs.File, error) {
	if _, ok := o.over[name]; ok {
		return o.over.Open(name)
	}
	root, err := os.OpenRoot(o.dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.FS().Open(name)
}
