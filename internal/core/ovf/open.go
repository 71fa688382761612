package ovf

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Archive is a package that was opened and found to be what it says of itself.
type Archive struct {
	Package
	// Doubts are what nobody can say of it, such as whether it is whole where it has no manifest.
	Doubts []string

	images []*Image
}

// Image is the i-th disk.
func (a *Archive) Image(i int) *Image { return a.images[i] }

// Bounds of archives.
const (
	mostFiles      = 4096
	mostDescriptor = 1 << 20
)

// entry is a file in an archive.
type entry struct{ at, size int64 }

// listing is what an archive holds.
type listing struct {
	r     io.ReaderAt
	files map[string]entry
	order []string
}

// Open reads an archive of so many bytes: its files by plain names, the descriptor first, each with the digest that the manifest says if there is one, a
// signature that is right if there is one, and images that lead nowhere else. What is not so is refused.
func Open(r io.ReaderAt, length int64) (*Archive, error) {
	l, err := list(r, length)
	if err != nil {
		return nil, err
	}
	if len(l.order) == 0 || path.Ext(l.order[0]) != ".ovf" {
		return nil, errors.New("this is no package: the first file of its archive is no descriptor (.ovf)")
	}
	doubts, err := l.verify()
	if err != nil {
		return nil, err
	}
	text, err := l.text(l.order[0])
	if err != nil {
		return nil, err
	}
	p, files, more, err := readDescriptor(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", l.order[0], err)
	}
	a := &Archive{Package: *p, Doubts: append(doubts, more...)}
	for i := range a.Disks {
		m, err := l.image(&a.Disks[i], files[i])
		if err != nil {
			return nil, err
		}
		a.images = append(a.images, m)
	}
	return a, a.check()
}

// image opens the image of a disk, whatever it is kept as.
func (l *listing) image(d *Disk, f xmlFile) (*Image, error) {
	in, size, err := l.file(f)
	if err != nil {
		return nil, fmt.Errorf("the disk %s: %w", d.Name, err)
	}
	if f.Compression == "gzip" {
		if in, size, err = unzipped(in, size, d.Bytes); err != nil {
			return nil, fmt.Errorf("%s: %w", d.File, err)
		}
	} else if f.Compression != "" && f.Compression != "identity" {
		return nil, fmt.Errorf("%s is compressed by %q; gzip is read", d.File, f.Compression)
	}
	m, err := ReadImage(in, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.File, err)
	}
	if m.Size != d.Bytes {
		return nil, fmt.Errorf("%s is of a disk of %d bytes, and the descriptor says %d", d.File, m.Size, d.Bytes)
	}
	return m, nil
}

// file is a file that the descriptor refers to: one, or chunks of one size that follow each other (DSP0243, section 7.1), of which only the last may be smaller.
func (l *listing) file(f xmlFile) (io.ReaderAt, int64, error) {
	if f.ChunkSize <= 0 {
		e, there := l.files[f.Href]
		if !there {
			return nil, 0, fmt.Errorf("it is to be in %q, which the archive does not have", f.Href)
		}
		return io.NewSectionReader(l.r, e.at, e.size), e.size, nil
	}
	c := &chunks{r: l.r, each: f.ChunkSize}
	for n := 0; ; n++ {
		name := fmt.Sprintf("%s.%09d", f.Href, n)
		e, there := l.files[name]
		if !there {
			break
		}
		if n > 0 && c.parts[n-1].size != f.ChunkSize {
			return nil, 0, fmt.Errorf("the chunk before %s has %d bytes, not %d", name, c.parts[n-1].size, f.ChunkSize)
		}
		c.parts = append(c.parts, e)
		c.size += e.size
	}
	switch {
	case c.parts == nil:
		return nil, 0, fmt.Errorf("it is to be in %s.000000000, which the archive does not have", f.Href)
	case f.Size > 0 && f.Size != c.size:
		return nil, 0, fmt.Errorf("its chunks have %d bytes, and the descriptor says %d", c.size, f.Size)
	}
	return c, c.size, nil
}

// chunks are parts of a file that follow each other.
type chunks struct {
	r          io.ReaderAt
	each, size int64
	parts      []entry
}

// ReadAt implements io.ReaderAt.
func (c *chunks) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at < 0 || at >= c.size {
			return done, io.EOF
		}
		part, within := c.parts[at/c.each], at%c.each
		n := int(min(int64(len(p)-done), part.size-within))
		if _, err := c.r.ReadAt(p[done:done+n], part.at+within); err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// text is a small file of an archive.
func (l *listing) text(name string) ([]byte, error) {
	e := l.files[name]
	if e.size > mostDescriptor {
		return nil, fmt.Errorf("%s is larger than %d bytes", name, mostDescriptor)
	}
	text := make([]byte, e.size)
	_, err := l.r.ReadAt(text, e.at)
	return text, err
}

// counter counts what is read, which says where a file of an archive begins.
type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// named is what files of a package that others wrote may be called: any name without a folder.
var named = regexp.MustCompile(`^[\pL\pN][\pL\pN ._()+@,=~-]*$`)

// mostNamed is how many letters a name has at most; a pattern that counted so many would take megabytes, and a third of the program's start.
const mostNamed = 200

// isName reports that a file of a package may be called so.
func isName(name string) bool {
	return named.MatchString(name) && utf8.RuneCountInString(name) <= mostNamed
}

// list finds the files of an archive.
func list(r io.ReaderAt, length int64) (*listing, error) {
	c := &counter{r: io.NewSectionReader(r, 0, length)}
	t := tar.NewReader(c)
	out := &listing{r: r, files: map[string]entry{}}
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the archive is damaged or cut off: %w", err)
		}
		name := strings.TrimPrefix(h.Name, "./")
		_, twice := out.files[name]
		switch {
		case h.Typeflag == tar.TypeDir && name == "":
			continue
		case h.Typeflag != tar.TypeReg:
			return nil, fmt.Errorf("the archive holds %q, which is no plain file", h.Name)
		case !isName(name):
			return nil, fmt.Errorf("the archive holds %q: files of a package stand beside each other, and lead nowhere else", h.Name)
		case len(out.files) == mostFiles:
			return nil, fmt.Errorf("the archive holds more than %d files", mostFiles)
		case twice:
			return nil, fmt.Errorf("the archive holds %q twice", h.Name)
		case h.Size > length-c.n:
			return nil, fmt.Errorf("the archive is cut off in %s", h.Name)
		}
		out.files[name] = entry{c.n, h.Size}
		out.order = append(out.order, name)
	}
}
