package ovf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Extent is a run of bytes on a disk.
type Extent struct{ Offset, Length int64 }

// The layout of the disk images that are written: QEMU's copy-on-write format, version 3 (docs/interop/qcow2.txt of QEMU),
// with clusters of 64 KiB, reference counts of 16 bits, nothing compressed and no backing file.
const (
	magic       = 0x514649fb
	clusterBits = 16
	cluster     = 1 << clusterBits
	perL2       = cluster / 8 // clusters that one table of the second level covers
	perCount    = cluster / 2 // clusters whose references one block counts
	headerSize  = 104
	copied      = 1 << 63
)

// image is where everything of an image stands, in clusters.
type image struct {
	size                      int64
	data                      []int64 // guest clusters that hold something, in order
	l1Entries, l2             int64
	tableAt, countsAt, counts int64
	tableClusters             int64
	l1At, l1Clusters, l2At    int64
	dataAt, total             int64
}

// lay arranges an image of a disk that holds something in some extents.
func lay(size int64, held []Extent) (*image, error) {
	m := &image{size: size, l1Entries: (size + cluster*perL2 - 1) / (cluster * perL2)}
	if size <= 0 || size > 1<<46 {
		return nil, fmt.Errorf("a disk of %d bytes cannot be packed", size)
	}
	last := int64(-1)
	tables := map[int64]bool{}
	for _, x := range held {
		if x.Offset < 0 || x.Length <= 0 || x.Offset > size-x.Length {
			return nil, fmt.Errorf("bytes %d to %d lie outside a disk of %d", x.Offset, x.Offset+x.Length, size)
		}
		for c := x.Offset / cluster; c*cluster < x.Offset+x.Length; c++ {
			if c > last {
				m.data, last = append(m.data, c), c
				tables[c/perL2] = true
			}
		}
	}
	m.l2 = int64(len(tables))
	m.l1Clusters = max((m.l1Entries*8+cluster-1)/cluster, 1)
	for { // the counts count themselves
		m.tableClusters = max((m.counts*8+cluster-1)/cluster, 1)
		m.total = 1 + m.tableClusters + m.counts + m.l1Clusters + m.l2 + int64(len(m.data))
		if need := (m.total + perCount - 1) / perCount; need > m.counts {
			m.counts = need
			continue
		}
		break
	}
	m.tableAt = 1
	m.countsAt = m.tableAt + m.tableClusters
	m.l1At = m.countsAt + m.counts
	m.l2At = m.l1At + m.l1Clusters
	m.dataAt = m.l2At + m.l2
	return m, nil
}

// ImageSize is how many bytes [WriteImage] writes.
func ImageSize(size int64, held []Extent) (int64, error) {
	m, err := lay(size, held)
	if err != nil {
		return 0, err
	}
	return m.total * cluster, nil
}

// WriteImage writes the image of a disk, reading what it holds from front to back; parts that hold nothing take no room.
// The extents are in order.
func WriteImage(w io.Writer, size int64, held []Extent, read func(p []byte, off int64) error) error {
	m, err := lay(size, held)
	if err != nil {
		return err
	}
	for _, part := range [][]byte{m.header(), m.countTable(), m.countBlocks(), m.firstLevel(), m.secondLevel()} {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	buf := make([]byte, cluster)
	for _, c := range m.data {
		n := min(cluster, size-c*cluster)
		clear(buf)
		if err := read(buf[:n], c*cluster); err != nil {
			return err
		}
		if _, err := w.Write(buf); err != nil {
			return err
		}
	}
	return nil
}

func (m *image) header() []byte {
	b := make([]byte, cluster)
	be := binary.BigEndian
	be.PutUint32(b[0:], magic)
	be.PutUint32(b[4:], 3)
	be.PutUint32(b[20:], clusterBits)
	be.PutUint64(b[24:], uint64(m.size))
	be.PutUint32(b[36:], uint32(m.l1Entries))
	be.PutUint64(b[40:], uint64(m.l1At*cluster))
	be.PutUint64(b[48:], uint64(m.tableAt*cluster))
	be.PutUint32(b[56:], uint32(m.tableClusters))
	be.PutUint32(b[96:], 4) // reference counts of 1<<4 bits
	be.PutUint32(b[100:], headerSize)
	return b
}

func (m *image) countTable() []byte {
	b := make([]byte, m.tableClusters*cluster)
	for i := range m.counts {
		binary.BigEndian.PutUint64(b[i*8:], uint64((m.countsAt+i)*cluster))
	}
	return b
}

func (m *image) countBlocks() []byte {
	b := make([]byte, m.counts*cluster)
	for i := range m.total {
		binary.BigEndian.PutUint16(b[i*2:], 1)
	}
	return b
}

func (m *image) firstLevel() []byte {
	b := make([]byte, m.l1Clusters*cluster)
	next, last := m.l2At, int64(-1)
	for _, c := range m.data {
		if t := c / perL2; t != last {
			binary.BigEndian.PutUint64(b[t*8:], uint64(next*cluster)|copied)
			next, last = next+1, t
		}
	}
	return b
}

func (m *image) secondLevel() []byte {
	b := make([]byte, m.l2*cluster)
	table, last := int64(-1), int64(-1)
	for i, c := range m.data {
		if t := c / perL2; t != last {
			table, last = table+1, t
		}
		binary.BigEndian.PutUint64(b[table*cluster+c%perL2*8:], uint64((m.dataAt+int64(i))*cluster)|copied)
	}
	return b
}

// Image is a disk image that can be read.
type Image struct {
	// Size is how many bytes the disk has.
	Size int64
	r    io.ReaderAt
	// bits is the size of a cluster as a power of two, at where each guest cluster stands that holds something.
	bits uint
	at   map[int64]int64
}

// Bounds of images that are read.
const (
	mostDisk     = 1 << 46
	mostClusters = 1 << 24
)

// ReadImage reads the tables of an image of so many bytes. Images with a backing file, that are encrypted or compressed,
// or that lead outside themselves are refused.
func ReadImage(r io.ReaderAt, length int64) (*Image, error) {
	h := make([]byte, headerSize)
	if _, err := r.ReadAt(h, 0); err != nil {
		return nil, errors.New("the disk image is too short to be one")
	}
	be := binary.BigEndian
	version := be.Uint32(h[4:])
	m := &Image{r: r, bits: uint(be.Uint32(h[20:])), Size: int64(be.Uint64(h[24:])), at: map[int64]int64{}}
	entries, l1 := int64(be.Uint32(h[36:])), int64(be.Uint64(h[40:]))
	switch {
	case be.Uint32(h) != magic || version != 2 && version != 3:
		return nil, errors.New("the disk image is not of the format qcow2, version 2 or 3")
	case be.Uint64(h[8:]) != 0:
		return nil, errors.New("the disk image builds on another file, which may be anything: pack the whole disk")
	case be.Uint32(h[32:]) != 0:
		return nil, errors.New("the disk image is encrypted")
	case version == 3 && be.Uint64(h[72:]) != 0:
		return nil, errors.New("the disk image needs something that is not known here")
	case m.bits < 9 || m.bits > 21 || m.Size <= 0 || m.Size > mostDisk:
		return nil, errors.New("the disk image says of itself what cannot be")
	}
	per := int64(1) << (m.bits - 3)
	if want := (m.Size + per<<m.bits - 1) / (per << m.bits); entries < want || entries > want+per || l1 < 0 || l1 > length-entries*8 {
		return nil, errors.New("the disk image's tables lie outside it")
	}
	first := make([]byte, entries*8)
	if _, err := r.ReadAt(first, l1); err != nil {
		return nil, errors.New("the disk image ends before its tables do")
	}
	for i := range entries {
		if err := m.second(int64(be.Uint64(first[i*8:])&^copied), i*per, per, length); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// second reads one table of the second level.
func (m *Image) second(at, from, per, length int64) error {
	if at == 0 {
		return nil
	}
	size := int64(1) << m.bits
	if at%size != 0 || at > length-size {
		return errors.New("the disk image's tables lie outside it")
	}
	table := make([]byte, size)
	if _, err := m.r.ReadAt(table, at); err != nil {
		return errors.New("the disk image ends before its tables do")
	}
	for i := range per {
		entry := binary.BigEndian.Uint64(table[i*8:])
		guest := from + i
		where := int64(entry &^ (copied | 1<<62 | 1))
		switch {
		case entry == 0 || entry&1 != 0 && entry&(1<<62) == 0: // nothing, or zeros
			continue
		case entry&(1<<62) != 0:
			return errors.New("the disk image is compressed; pack it without")
		case where%size != 0 || where > length-size || guest<<m.bits >= m.Size:
			return errors.New("the disk image leads outside itself")
		case len(m.at) == mostClusters:
			return errors.New("the disk image holds more than can be taken in")
		}
		m.at[guest] = where
	}
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
		if where, held := m.at[at>>m.bits]; held {
			if _, err := m.r.ReadAt(p[done:done+n], where+within); err != nil {
				return done, fmt.Errorf("the disk image cannot be read: %w", err)
			}
		} else {
			clear(p[done : done+n])
		}
		done += n
	}
	return done, nil
}
