package ovf

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"regexp"
)

// The layout of VMDK in one file (Virtual Disk Format 5.0, sparse extents): a header, in sectors of 512 bytes, leads to a directory of tables of grains. One
// that was written as a stream has its directory last, and its grains compressed, each behind a marker.
const (
	sector     = 512
	vmdkHeader = 79
	// atEnd says that the header with the directory is the last but one of the sectors.
	atEnd = ^uint64(0)
	// zeroGrain is an entry of a table that says that a grain is zeros.
	zeroGrain  = 1
	packedFlag = 1 << 16
	markerSize = 12
	// Bounds: a grain is 4 KiB to 1 MiB, a table has at most so many entries.
	mostEntries = 1 << 16
)

// builds finds on what an image builds, in the description that it has of itself.
var builds = regexp.MustCompile(`(?m)^\s*parentCID\s*=\s*([0-9a-fA-F]+)`)

// readVMDK reads the tables of an image.
func (m *Image) readVMDK() error {
	h, err := m.vmdkHeader(0)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	if at, n := le.Uint64(h[28:]), le.Uint64(h[36:]); at != 0 && n != 0 {
		text := make([]byte, min(n, 2048)*sector)
		if at > uint64(m.length)/sector {
			return errors.New("the disk image leads outside itself")
		}
		k, _ := m.r.ReadAt(text, int64(at)*sector)
		if of := builds.FindSubmatch(text[:k]); of != nil && !bytes.EqualFold(of[1], []byte("ffffffff")) {
			return errors.New("the disk image builds on another file, which may be anything: pack the whole disk")
		}
	}
	if le.Uint64(h[56:]) == atEnd {
		if h, err = m.vmdkHeader(m.length - 2*sector); err != nil {
			return err
		}
	}
	capacity, grain, per, directory := le.Uint64(h[12:]), le.Uint64(h[20:]), uint64(le.Uint32(h[44:])), le.Uint64(h[56:])
	switch {
	case capacity == 0 || capacity > mostDisk/sector || grain < 8 || grain > 2048 || grain&(grain-1) != 0 || per == 0 || per > mostEntries:
		return errors.New("the disk image says of itself what cannot be")
	case le.Uint32(h[8:])&packedFlag != 0 && le.Uint16(h[77:]) > 1:
		return errors.New("the disk image is compressed by what is not known here")
	}
	m.Size, m.bits = int64(capacity)*sector, uint(bits.TrailingZeros64(grain*sector))
	packed := le.Uint32(h[8:])&packedFlag != 0 && le.Uint16(h[77:]) == 1
	m.inflate = unzlibbed
	tables := (capacity + grain*per - 1) / (grain * per)
	first, err := m.sectors(directory, int64(tables)*4)
	if err != nil {
		return err
	}
	for i := range tables {
		if err := m.grains(uint64(le.Uint32(first[i*4:])), int64(i*per), int64(per), packed); err != nil {
			return err
		}
	}
	return nil
}

// vmdkHeader is a header at an offset.
func (m *Image) vmdkHeader(at int64) ([]byte, error) {
	h := make([]byte, vmdkHeader)
	if at < 0 {
		return nil, errTooShort
	}
	if _, err := m.r.ReadAt(h, at); err != nil {
		return nil, errTooShort
	}
	if v := binary.LittleEndian.Uint32(h[4:]); string(h[:4]) != "KDMV" || v < 1 || v > 3 {
		return nil, fmt.Errorf("the disk image is VMDK of version %d; 1 to 3 are read", v)
	}
	return h, nil
}

// sectors are bytes of a table at a sector.
func (m *Image) sectors(at uint64, length int64) ([]byte, error) {
	if at == 0 || at > uint64(m.length)/sector || length > m.length-int64(at)*sector {
		return nil, errors.New("the disk image's tables lie outside it")
	}
	out := make([]byte, length)
	if _, err := m.r.ReadAt(out, int64(at)*sector); err != nil {
		return nil, errors.New("the disk image ends before its tables do")
	}
	return out, nil
}

// grains reads one table of grains; 0 is none.
func (m *Image) grains(at uint64, from, per int64, packed bool) error {
	if at == 0 {
		return nil
	}
	table, err := m.sectors(at, per*4)
	if err != nil {
		return err
	}
	for i := range per {
		entry := binary.LittleEndian.Uint32(table[i*4:])
		if entry == 0 || entry == zeroGrain {
			continue
		}
		p := piece{where: int64(entry) * sector}
		if packed {
			marker := make([]byte, markerSize)
			if _, err := m.r.ReadAt(marker, p.where); err != nil {
				return errors.New("the disk image leads outside itself")
			}
			n := int64(binary.LittleEndian.Uint32(marker[8:]))
			if n == 0 || n > 2<<m.bits {
				return errors.New("the disk image says of itself what cannot be")
			}
			p = piece{p.where + markerSize, n}
		}
		if err := m.holds(from+i, p); err != nil {
			return err
		}
	}
	return nil
}

// unzlibbed fills a grain from what zlib made of it (RFC 1950). The last of a disk may be shorter.
func unzlibbed(into, from []byte) error {
	z, err := zlib.NewReader(bytes.NewReader(from))
	if err != nil {
		return err
	}
	data, err := io.ReadAll(io.LimitReader(z, int64(len(into))+1)) // to its end, where its digest is
	switch {
	case err != nil:
		return err
	case len(data) > len(into):
		return errors.New("it is larger than a grain")
	}
	clear(into[copy(into, data):])
	return nil
}
