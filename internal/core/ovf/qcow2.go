package ovf

import (
	"encoding/binary"
	"fmt"
	"io"
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
