package session

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/fault"
)

// Use is what a command does with what a word names.
type Use uint8

// The uses. What is written goes back to where the word says; what is read comes along.
const (
	Reads Use = iota
	// Template reads a template: a folder, an archive, or a file with all that lies beside it.
	Template
	Writes
	// WritesNew is a folder that is not there yet, or has nothing in it.
	WritesNew
	// Works reads a template that is worked on: what is written beside it goes back.
	Works
)

// File is a file or folder that a word of a command names.
type File struct {
	Word string `json:"word"`
	// Name is what it goes by below a folder of its own.
	Name string `json:"name"`
	// Folder says that it is one, Sent that it comes along, Written that what is written there goes back.
	Folder  bool `json:"folder,omitempty"`
	Sent    bool `json:"sent,omitempty"`
	Written bool `json:"written,omitempty"`

	// at is where it is here: what of it comes along, and whether version control is left out.
	at       string
	template bool
}

// mostFiles bounds how many files come along, and how many go back; mostTemplate how many bytes of a template do.
const (
	mostFiles    = 20_000
	mostTemplate = 64 << 20
)

// Named is what a word names here. That nothing is there is for the command to say.
func Named(word string, use Use) (File, error) {
	whole, err := filepath.Abs(word)
	if err != nil {
		return File{}, err
	}
	f := File{Word: word, Name: filepath.Base(whole), Written: use >= Writes, at: whole}
	if f.Name == string(filepath.Separator) {
		return File{}, fault.Invalidf("%s is all that there is; name what is meant below it", word)
	}
	info, err := os.Stat(whole)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return File{}, err
	}
	f.Folder = info.IsDir()
	switch {
	case !f.Folder && !info.Mode().IsRegular():
		return File{}, fault.Invalidf("%s is neither a file nor a folder", word)
	case use == WritesNew:
		return f, f.isNew()
	case use == Writes:
		return f, nil
	case use == Template || use == Works:
		f.template = true
		if ext := filepath.Ext(whole); !f.Folder && (ext == ".yaml" || ext == ".yml") { // with what it imports
			folder := filepath.Dir(whole)
			f.Name, f.at = filepath.Join(filepath.Base(folder), f.Name), folder
		}
	}
	f.Sent = true
	return f, nil
}

// isNew holds that nothing that is there would be written over.
func (f *File) isNew() error {
	if !f.Folder {
		return fault.Conflictf("%s is there already, and is no folder", f.Word)
	}
	list, err := os.ReadDir(f.at)
	if err == nil && len(list) > 0 {
		err = fault.Conflictf("the folder %s is not empty: name one that is not there yet", f.Word)
	}
	return err
}

// send writes what comes along to an archive: each file below the number of its word.
func send(to io.Writer, files []File) error {
	w := tar.NewWriter(to)
	for i := range files {
		f := &files[i]
		if !f.Sent {
			continue
		}
		if err := f.pack(w, i); err != nil {
			return err
		}
	}
	return w.Close()
}

// pack writes what a word names to an archive, once all of it has been found to be what may come along.
func (f *File) pack(w *tar.Writer, i int) error {
	info, err := os.Stat(f.at)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(filepath.Dir(f.at))
	if err != nil {
		return err
	}
	defer root.Close()
	base := filepath.Base(f.at)
	if !info.IsDir() {
		return packOne(w, root, base, path.Join(strconv.Itoa(i), base))
	}
	n, bytes := 0, int64(0)
	return fs.WalkDir(root.FS(), base, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return fault.Invalidf("%s cannot be sent whole: %w", f.Word, err)
		}
		if f.template && d.IsDir() && d.Name() == ".git" {
			return fs.SkipDir
		}
		info, err := root.Stat(name)
		switch {
		case err != nil: // a link that leads outside, or nowhere
			return fault.Invalidf("%s cannot be sent whole: %w", f.Word, err)
		case d.IsDir():
			h := &tar.Header{Typeflag: tar.TypeDir, Name: path.Join(strconv.Itoa(i), name) + "/", Mode: 0o700}
			return w.WriteHeader(h)
		case !info.Mode().IsRegular():
			return fault.Invalidf("%s cannot be sent whole: %s is no file", f.Word, name)
		}
		n, bytes = n+1, bytes+info.Size()
		if n > mostFiles || f.template && bytes > mostTemplate {
			return fault.Invalidf("too much lies in %s for a template, of which %d files and %d MiB are sent at most: have it in a folder of its own", filepath.Dir(filepath.Join(f.at, "x")), mostFiles, mostTemplate>>20)
		}
		return packOne(w, root, name, path.Join(strconv.Itoa(i), name))
	})
}

// packOne writes a file of a folder to an archive.
func packOne(w *tar.Writer, root *os.Root, name, as string) error {
	in, err := root.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	h := &tar.Header{Typeflag: tar.TypeReg, Name: filepath.ToSlash(as), Size: info.Size(), Mode: int64(info.Mode().Perm()), ModTime: info.ModTime(), Format: tar.FormatPAX}
	if err := w.WriteHeader(h); err != nil {
		return err
	}
	n, err := io.Copy(w, io.LimitReader(in, info.Size()))
	if err == nil && n < info.Size() {
		err = fmt.Errorf("%s became shorter while it was sent", name)
	}
	return err
}

// unpack writes the files of an archive below a folder: those that are allowed, and no more bytes than may be.
func unpack(from io.Reader, root *os.Root, most int64, allowed func(name string) (as string, err error)) error {
	r := tar.NewReader(from)
	for n := 0; ; n++ {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, from) // what fills its last block
			return err
		}
		if err != nil {
			return err
		}
		if n > 2*mostFiles {
			return fault.Invalidf("more than %d files are too many", mostFiles)
		}
		name, err := allowed(strings.TrimSuffix(h.Name, "/"))
		if err != nil {
			return err
		}
		switch {
		case h.Typeflag == tar.TypeDir:
			err = root.MkdirAll(name, 0o755)
		case h.Typeflag != tar.TypeReg:
			err = fault.Invalidf("%q is neither a file nor a folder", h.Name)
		case h.Size > most:
			err = fault.Invalidf("the files are too large")
		default:
			most -= h.Size
			err = unpackOne(r, root, name, h)
		}
		if err != nil {
			return err
		}
	}
}

// unpackOne writes a file, which has its name once all of it is there.
func unpackOne(from io.Reader, root *os.Root, name string, h *tar.Header) error {
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	part := name + ".part"
	out, err := root.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, fs.FileMode(h.Mode).Perm()|0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, from)
	if err = errors.Join(err, out.Close()); err == nil {
		err = root.Rename(part, name)
	}
	if err != nil {
		return errors.Join(err, root.Remove(part))
	}
	return root.Chtimes(name, h.ModTime, h.ModTime)
}

// below splits the name of a file in an archive into the number of its word and what it goes by there.
func below(name string, files []File) (i int, rest string, err error) {
	number, rest, _ := strings.Cut(name, "/")
	i, err = strconv.Atoi(number)
	if err != nil || i < 0 || i >= len(files) || !filepath.IsLocal(filepath.FromSlash(rest)) || rest == "." {
		return 0, "", fault.Invalidf("%q is no file that the command names", name)
	}
	return i, rest, nil
}

// isOf reports that a file is one that a word names, or lies below it.
func (f *File) isOf(rest string) bool {
	top, _, _ := strings.Cut(filepath.ToSlash(f.Name), "/")
	first, _, deeper := strings.Cut(rest, "/")
	return first == top && (!deeper || f.Folder || f.Written || strings.Contains(f.Name, "/"))
}

// take writes what comes back to where the words say: what they say is written, and nothing else.
func take(from io.Reader, files []File, most int64) (written []string, err error) {
	roots := map[int]*os.Root{}
	defer func() {
		for _, r := range roots {
			r.Close()
		}
	}()
	r := tar.NewReader(from)
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return written, nil
		}
		if err != nil {
			return written, err
		}
		i, rest, err := below(h.Name, files)
		if err == nil && (!files[i].Written || !files[i].isOf(rest) || h.Typeflag != tar.TypeReg) {
			err = fault.Refusedf("the server sends %q, which is nothing that the command writes; it was not written", h.Name)
		}
		if err == nil && h.Size > most {
			err = fault.Refusedf("the server sends more than %d MiB", most>>20)
		}
		if err == nil && roots[i] == nil {
			err = os.MkdirAll(filepath.Dir(files[i].at), 0o755)
		}
		if err == nil && roots[i] == nil {
			roots[i], err = os.OpenRoot(filepath.Dir(files[i].at))
		}
		if err == nil {
			most -= h.Size
			err = unpackOne(r, roots[i], rest, h)
		}
		if err != nil {
			return written, err
		}
		if written = append(written, rest); len(written) > mostFiles {
			return written, fault.Refusedf("the server sends more than %d files", mostFiles)
		}
	}
}

// sorted are the keys of a map, in order.
func sorted[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
