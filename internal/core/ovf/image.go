package ovf

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
)

// Image is a disk image that can be read, of one of the formats that packages have.
type Image struct {
	// Size is how many bytes the disk has.
	Size int64

	r      io.ReaderAt
	length int64
	// bits is the size of a cluster as a power of two, at where each guest cluster stands that holds something.
	bits uint
	at   map[int64]piece
	// inflate makes a compressed cluster as large as it is; nil where none is.
	inflate func(into, from []byte) error

	// The cluster that was inflated last.
	mu    sync.Mutex
	last  int64
	plain []byte
}

// piece is where a cluster stands in the image; packed is how many bytes it has there at most if it is compressed, else 0.
type piece struct{ where, packed int64 }

// Bounds of images that are read.
const (
	mostDisk     = 1 << 46
	mostClusters = 1 << 24
)

// ReadImage reads the tables of an image of so many bytes: qcow2 (versions 2 and 3, compressed by deflate or zstd too), or VMDK of one file (sparse, or
// compressed as a stream). Images that build on another, are encrypted, or lead outside themselves are refused.
func ReadImage(r io.ReaderAt, length int64) (*Image, error) {
	h := make([]byte, 4)
	if _, err := r.ReadAt(h, 0); err != nil {
		return nil, errTooShort
	}
	m := &Image{r: r, length: length, at: map[int64]piece{}, last: -1}
	switch string(h) {
	case "QFI\xfb":
		return m, m.readQCOW2()
	case "KDMV":
		return m, m.readVMDK()
	}
	return nil, errors.New("the disk image is not of a format that is read: qcow2, and VMDK of one file")
}

var errTooShort = errors.New("the disk image is too short to be one")

// holds notes where a cluster stands.
func (m *Image) holds(guest int64, p piece) error {
	size := int64(1) << m.bits
	end := p.where + size
	if p.packed > 0 {
		end = p.where + 1 // which ends within the file, or is cut off by its end
	}
	switch {
	case p.where <= 0 || end > m.length || guest<<m.bits >= m.Size:
		return errors.New("the disk image leads outside itself")
	case len(m.at) == mostClusters:
		return errors.New("the disk image holds more than can be taken in")
	}
	m.at[guest] = p
	return nil
}

// Held are the parts that hold something, in order, each a cluster.
func (m *Image) Held() []Extent {
	var out []Extent
	for guest := range m.at {
		off := guest << m.bits
		out = append(out, Extent{off, min(1<<m.bits, m.Size-off)})
	}
	slices.SortFunc(out, func(a, b Extent) int { return int(min(max(a.Offset-b.Offset, -1), 1)) })
	return out
}

// ReadAt reads bytes of the disk, as io.ReaderAt; parts that hold nothing are zero.
func (m *Image) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= m.Size {
			return done, io.EOF
		}
		within := at & (1<<m.bits - 1)
		n := int(min(int64(len(p)-done), 1<<m.bits-within, m.Size-at))
		if err := m.read(p[done:done+n], at>>m.bits, within); err != nil {
			return done, fmt.Errorf("the disk image cannot be read: %w", err)
		}
		done += n
	}
	return done, nil
}

// read reads a part of a cluster.
func (m *Image) read(into []byte, guest, within int64) error {
	p, held := m.at[guest]
	switch {
	case !held:
		clear(into)
		return nil
	case p.packed == 0:
		_, err := m.r.ReadAt(into, p.where+within)
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.last != guest {
		packed := make([]byte, min(p.packed, m.length-p.where))
		if _, err := m.r.ReadAt(packed, p.where); err != nil {
			return err
		}
		if m.plain == nil {
			m.plain = make([]byte, 1<<m.bits)
		}
		m.last = -1
		if err := m.inflate(m.plain, packed); err != nil {
			return fmt.Errorf("what is compressed at %d is damaged: %w", p.where, err)
		}
		m.last = guest
	}
	copy(into, m.plain[within:])
	return nil
}
