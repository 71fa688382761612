package ovf

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Features without which an image of version 3 is not understood (docs/interop/qcow2.txt of QEMU): that it was not closed changes nothing for who reads,
// and how clusters are compressed is said in the header.
const (
	featureDirty       = 1 << 0
	featureCompression = 1 << 3
)

// compressedBit says of an entry that its cluster is compressed.
const compressedBit = 1 << 62

// readQCOW2 reads the tables of QEMU's format.
func (m *Image) readQCOW2() error {
	h := make([]byte, headerSize+8)
	if n, err := m.r.ReadAt(h, 0); n < headerSize && err != nil {
		return errTooShort
	}
	be := binary.BigEndian
	version := be.Uint32(h[4:])
	m.bits, m.Size = uint(be.Uint32(h[20:])), int64(be.Uint64(h[24:]))
	entries, l1 := int64(be.Uint32(h[36:])), int64(be.Uint64(h[40:]))
	switch {
	case version != 2 && version != 3:
		return fmt.Errorf("the disk image is qcow2 of version %d; 2 and 3 are read", version)
	case be.Uint64(h[8:]) != 0:
		return errors.New("the disk image builds on another file, which may be anything: pack the whole disk")
	case be.Uint32(h[32:]) != 0:
		return errors.New("the disk image is encrypted")
	case version == 3 && be.Uint64(h[72:])&^(featureDirty|featureCompression) != 0:
		return errors.New("the disk image needs something that is not known here")
	case m.bits < 9 || m.bits > 21 || m.Size <= 0 || m.Size > mostDisk:
		return errors.New("the disk image says of itself what cannot be")
	}
	m.inflate = inflated
	if version == 3 && be.Uint64(h[72:])&featureCompression != 0 {
		if be.Uint32(h[100:]) <= headerSize || h[104] > 1 {
			return errors.New("the disk image is compressed by what is not known here")
		}
		if h[104] == 1 {
			m.inflate = unpackedZstd
		}
	}
	per := int64(1) << (m.bits - 3)
	if want := (m.Size + per<<m.bits - 1) / (per << m.bits); entries < want || entries > want+per || l1 < 0 || l1 > m.length-entries*8 {
		return errors.New("the disk image's tables lie outside it")
	}
	first := make([]byte, entries*8)
	if _, err := m.r.ReadAt(first, l1); err != nil {
		return errors.New("the disk image ends before its tables do")
	}
	for i := range entries {
		if err := m.second(int64(be.Uint64(first[i*8:])&^copied), i*per, per); err != nil {
			return err
		}
	}
	return nil
}

// second reads one table of the second level.
func (m *Image) second(at, from, per int64) error {
	if at == 0 {
		return nil
	}
	size := int64(1) << m.bits
	if at%size != 0 || at > m.length-size {
		return errors.New("the disk image's tables lie outside it")
	}
	table := make([]byte, size)
	if _, err := m.r.ReadAt(table, at); err != nil {
		return errors.New("the disk image ends before its tables do")
	}
	for i := range per {
		entry := binary.BigEndian.Uint64(table[i*8:])
		p := piece{where: int64(entry &^ (copied | compressedBit | 1))}
		switch {
		case entry == 0 || entry&1 != 0 && entry&compressedBit == 0: // nothing, or zeros
			continue
		case entry&compressedBit != 0:
			p = m.compressed(entry)
		case p.where%size != 0:
			return errors.New("the disk image leads outside itself")
		}
		if err := m.holds(from+i, p); err != nil {
			return err
		}
	}
	return nil
}

// compressed is where a compressed cluster stands: its entry has an offset in its lower bits, and above these how many sectors of 512 bytes it goes on for.
func (m *Image) compressed(entry uint64) piece {
	split := 62 - (m.bits - 8)
	where := int64(entry & (1<<split - 1))
	sectors := int64(entry&^(copied|compressedBit)) >> split
	return piece{where, (sectors+1)*512 - where&511}
}

// inflated fills a cluster from what deflate made of it (RFC 1951).
func inflated(into, from []byte) error {
	_, err := io.ReadFull(flate.NewReader(bytes.NewReader(from)), into)
	return err
}

// unpackedZstd fills a cluster from what Zstandard made of it (RFC 8878).
func unpackedZstd(into, from []byte) error {
	d, err := zstd.NewReader(bytes.NewReader(from), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return err
	}
	defer d.Close()
	_, err = io.ReadFull(d, into)
	return err
}
