package host

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/afero"

	"andamio/internal/sandbox/disk"
)

// filesystem is a machine's files. They are held in memory, and kept on the disks below them from the moment on at which
// somebody looks at such a disk: a disk that is copied elsewhere starts a machine with the same files there.
type filesystem struct {
	afero.Fs

	mu sync.Mutex
	// mounts are the disks with the folders they hold, the machine's own, which holds "/", first.
	mounts []*mount
	// frozen holds writing up while the machine is suspended.
	frozen sync.RWMutex
}

// mount is one disk and its table of files.
type mount struct {
	at    string
	disk  *disk.Disk
	table table
	side  int
	// stands is the table as the disk has it.
	stands string
}

// table is what stands at the beginning of a disk: which files it holds and where. It is written to two places in turn,
// and the first page says which of them counts.
type table struct {
	Format string          `json:"format"`
	Files  map[string]file `json:"files"`
	// Next is where free room begins.
	Next int64 `json:"next"`
}

type file struct {
	Dir  bool        `json:"dir,omitempty"`
	Mode fs.FileMode `json:"mode,omitempty"`
	Size int64       `json:"size,omitempty"`
	At   int64       `json:"at,omitempty"`
	// Room is how many bytes the file may grow to where it is.
	Room int64 `json:"room,omitempty"`
	// Link is where a link leads; "" is a file or a folder.
	Link string `json:"link,omitempty"`
}

// firstPage is what the first page of a disk says.
type firstPage struct {
	Format string `json:"format"`
	At     int64  `json:"at"`
	Length int64  `json:"length"`
}

// The layout of a disk: a page for the head, two tables, then files.
const (
	format    = "andamio.stand-in.files/1"
	tableRoom = 1 << 20
	firstFile = disk.Page + 2*tableRoom
)

func newFilesystem() *filesystem { return &filesystem{Fs: newLinks()} }

// add puts a disk under a folder. Files that are on the disk appear; if it holds none, those of the folder go there.
func (f *filesystem) add(at string, d *disk.Disk) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	m := &mount{at: path.Clean(at), disk: d, table: table{Format: format, Files: map[string]file{}, Next: firstFile}}
	if err := f.Fs.MkdirAll(m.at, 0o755); err != nil {
		return err
	}
	if err := m.load(f.Fs); err != nil {
		return err
	}
	f.mounts = append(f.mounts, m)
	if d.Live() {
		return f.syncAll(m)
	}
	return nil
}

// look is what a disk holds, without touching it.
func look(d *disk.Disk) (afero.Fs, error) {
	fs := newLinks()
	m := &mount{at: "/", disk: d}
	return fs, m.load(fs)
}

// drop takes a disk away with its files, which stay on it.
func (f *filesystem) drop(d *disk.Disk) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	i := slices.IndexFunc(f.mounts, func(m *mount) bool { return m.disk == d })
	if i < 0 {
		return nil
	}
	m := f.mounts[i]
	if err := f.syncAll(m); err != nil {
		return err
	}
	f.mounts = slices.Delete(f.mounts, i, i+1)
	if m.at == "/" {
		return nil
	}
	return f.Fs.RemoveAll(m.at)
}

// sync has all files of a disk put on it.
func (f *filesystem) sync(d *disk.Disk) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, m := range f.mounts {
		if m.disk == d {
			_ = f.syncAll(m)
		}
	}
}

// of is the disk that holds a path.
func (f *filesystem) of(name string) *mount {
	var best *mount
	for _, m := range f.mounts {
		if m.holds(name) && (best == nil || len(m.at) > len(best.at)) {
			best = m
		}
	}
	return best
}

func (m *mount) holds(name string) bool {
	return m.at == "/" || name == m.at || strings.HasPrefix(name, m.at+"/")
}

// load reads the files of a disk, if it holds any.
func (m *mount) load(into afero.Fs) error {
	var h firstPage
	page := make([]byte, disk.Page)
	if _, err := m.disk.ReadAt(page, 0); err != nil || json.Unmarshal(trim(page), &h) != nil || h.Format != format {
		return nil // it was never written to
	}
	if h.At < 0 || h.Length < 0 || h.Length > tableRoom || h.At > m.disk.Size()-h.Length {
		return fmt.Errorf("the disk's table of files is damaged")
	}
	text := make([]byte, h.Length)
	if _, err := m.disk.ReadAt(text, h.At); err != nil {
		return err
	}
	if err := json.Unmarshal(text, &m.table); err != nil {
		return fmt.Errorf("the disk's table of files is damaged: %w", err)
	}
	m.stands = string(text)
	if h.At > disk.Page {
		m.side = 1
	}
	for name, x := range m.table.Files {
		full := path.Join(m.at, name)
		if x.Dir {
			if err := into.MkdirAll(full, 0o755); err != nil {
				return err
			}
			continue
		}
		if x.Link != "" {
			if err := into.MkdirAll(path.Dir(full), 0o755); err != nil {
				return err
			}
			if err := symlink(into, x.Link, full); err != nil {
				return err
			}
			continue
		}
		if x.Size < 0 || x.Size > 64<<20 {
			return fmt.Errorf("the disk's table of files is damaged at %s", name)
		}
		data := make([]byte, x.Size)
		if _, err := m.disk.ReadAt(data, x.At); err != nil {
			return fmt.Errorf("%s cannot be read: %w", name, err)
		}
		if err := into.MkdirAll(path.Dir(full), 0o755); err != nil {
			return err
		}
		if err := afero.WriteFile(into, full, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// symlink makes a link among files that have some; one that is there already stays.
func symlink(in afero.Fs, to, name string) error {
	l, can := in.(afero.Linker)
	if !can {
		return fmt.Errorf("%s: there are no links here", name)
	}
	if err := l.SymlinkIfPossible(to, name); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

func trim(page []byte) []byte {
	if i := slices.Index(page, 0); i >= 0 {
		return page[:i]
	}
	return page
}

// syncAll puts all files of a disk on it.
func (f *filesystem) syncAll(m *mount) error {
	seen := map[string]bool{}
	err := afero.Walk(f.Fs, m.at, func(name string, info fs.FileInfo, err error) error {
		if err != nil || f.of(name) != m || strings.HasPrefix(name, "/dev") || strings.HasPrefix(name, "/tmp") {
			return nil
		}
		rel := m.relative(name)
		seen[rel] = true
		return m.store(f.Fs, rel, name, info)
	})
	for name := range m.table.Files {
		if !seen[name] {
			delete(m.table.Files, name)
		}
	}
	if err != nil {
		return err
	}
	return m.commit()
}

func (m *mount) relative(name string) string {
	return strings.TrimPrefix(strings.TrimPrefix(name, m.at), "/")
}

// store writes one file's bytes, where they differ from what the disk has.
func (m *mount) store(from afero.Fs, rel, name string, info fs.FileInfo) error {
	if info.IsDir() {
		m.table.Files[rel] = file{Dir: true}
		return nil
	}
	if l, has := from.(afero.LinkReader); has && info.Mode()&fs.ModeSymlink != 0 {
		to, err := l.ReadlinkIfPossible(name)
		if err == nil {
			m.table.Files[rel] = file{Link: to}
		}
		return nil // or it went meanwhile
	}
	data, err := afero.ReadFile(from, name)
	if err != nil {
		return nil // it went meanwhile
	}
	x, had := m.table.Files[rel]
	if !had || x.Dir || x.Link != "" || int64(len(data)) > x.Room {
		x = file{At: m.table.Next, Room: room(int64(len(data)))}
		m.table.Next += x.Room
	}
	x.Size = int64(len(data))
	m.table.Files[rel] = x
	return m.patch(data, x.At)
}

// room is how much a file is given: whole pages, with some to grow.
func room(n int64) int64 {
	out := int64(disk.Page)
	for out < n {
		out *= 2
	}
	return out
}

// patch writes the pages that differ.
func (m *mount) patch(data []byte, at int64) error {
	now := make([]byte, disk.Page)
	for off := 0; off < len(data); off += disk.Page {
		part := data[off:min(off+disk.Page, len(data))]
		if _, err := m.disk.ReadAt(now[:len(part)], at+int64(off)); err != nil {
			return err
		}
		if slices.Equal(now[:len(part)], part) {
			continue
		}
		if _, err := m.disk.WriteAt(part, at+int64(off)); err != nil {
			return err
		}
	}
	return nil
}

// commit writes the table to the side that does not count, and then has it count.
func (m *mount) commit() error {
	text, err := json.Marshal(m.table)
	if err != nil {
		return err
	}
	if len(text) > tableRoom {
		return fmt.Errorf("there are too many files for a stand-in's disk")
	}
	if string(text) == m.stands {
		return nil
	}
	m.stands = string(text)
	m.side = 1 - m.side
	h := firstPage{Format: format, At: disk.Page + int64(m.side)*tableRoom, Length: int64(len(text))}
	if _, err := m.disk.WriteAt(text, h.At); err != nil {
		return err
	}
	first, err := json.Marshal(h)
	if err != nil {
		return err
	}
	_, err = m.disk.WriteAt(append(first, 0), 0)
	return err
}

// changed puts a file or folder that was written, or is gone, on its disk if that is looked at from outside.
func (f *filesystem) changed(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	name = path.Clean(name)
	m := f.of(name)
	if m == nil || !m.disk.Live() || strings.HasPrefix(name, "/dev") || strings.HasPrefix(name, "/tmp") {
		return
	}
	rel := m.relative(name)
	info, _, err := f.Fs.(afero.Lstater).LstatIfPossible(name)
	if err != nil || info.IsDir() {
		_ = f.syncAll(m) // a whole folder may have come or gone
		return
	}
	if m.store(f.Fs, rel, name, info) == nil {
		_ = m.commit()
	}
}

// What changes files waits while the machine is suspended, and is put on the disk.

// Create implements afero.Fs.
func (f *filesystem) Create(name string) (afero.File, error) {
	return f.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o666)
}

// OpenFile implements afero.Fs.
func (f *filesystem) OpenFile(name string, flag int, perm os.FileMode) (afero.File, error) {
	writes := flag&(os.O_WRONLY|os.O_RDWR|os.O_CREATE|os.O_TRUNC|os.O_APPEND) != 0
	if writes {
		f.frozen.RLock()
		defer f.frozen.RUnlock()
	}
	x, err := f.Fs.OpenFile(name, flag, perm)
	if err != nil || !writes {
		return x, err
	}
	return &written{File: x, f: f, name: name}, nil
}

// written is a file open for writing.
type written struct {
	afero.File
	f    *filesystem
	name string
}

// Write waits while the machine is suspended.
func (w *written) Write(p []byte) (int, error) {
	w.f.frozen.RLock()
	defer w.f.frozen.RUnlock()
	return w.File.Write(p)
}

// WriteAt waits while the machine is suspended.
func (w *written) WriteAt(p []byte, off int64) (int, error) {
	w.f.frozen.RLock()
	defer w.f.frozen.RUnlock()
	return w.File.WriteAt(p, off)
}

// Close puts what was written on the disk.
func (w *written) Close() error {
	w.f.frozen.RLock()
	defer w.f.frozen.RUnlock()
	err := w.File.Close()
	w.f.changed(w.name)
	return err
}

func (f *filesystem) do(name string, act func() error) error {
	f.frozen.RLock()
	defer f.frozen.RUnlock()
	err := act()
	f.changed(name)
	return err
}

// Mkdir implements afero.Fs.
func (f *filesystem) Mkdir(name string, perm os.FileMode) error {
	return f.do(name, func() error { return f.Fs.Mkdir(name, perm) })
}

// MkdirAll implements afero.Fs.
func (f *filesystem) MkdirAll(name string, perm os.FileMode) error {
	return f.do(name, func() error { return f.Fs.MkdirAll(name, perm) })
}

// Remove implements afero.Fs.
func (f *filesystem) Remove(name string) error {
	return f.do(name, func() error { return f.Fs.Remove(name) })
}

// RemoveAll implements afero.Fs.
func (f *filesystem) RemoveAll(name string) error {
	return f.do(name, func() error { return f.Fs.RemoveAll(name) })
}

// Rename implements afero.Fs.
func (f *filesystem) Rename(from, to string) error {
	err := f.do(from, func() error { return f.Fs.Rename(from, to) })
	f.changed(to)
	return err
}

// SymlinkIfPossible implements afero.Linker.
func (f *filesystem) SymlinkIfPossible(to, name string) error {
	return f.do(name, func() error { return f.Fs.(afero.Linker).SymlinkIfPossible(to, name) })
}

// ReadlinkIfPossible implements afero.LinkReader.
func (f *filesystem) ReadlinkIfPossible(name string) (string, error) {
	return f.Fs.(afero.LinkReader).ReadlinkIfPossible(name)
}

// LstatIfPossible implements afero.Lstater.
func (f *filesystem) LstatIfPossible(name string) (fs.FileInfo, bool, error) {
	return f.Fs.(afero.Lstater).LstatIfPossible(name)
}

// Chtimes implements afero.Fs.
func (f *filesystem) Chtimes(name string, a, m time.Time) error { return f.Fs.Chtimes(name, a, m) }
