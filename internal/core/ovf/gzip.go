package ovf

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"sync"
)

// zipped is a file that is compressed by gzip (RFC 1952), read at any place: what comes later is read on to, for what came before it is begun again. Images
// are read from front to back mostly, their tables first.
type zipped struct {
	from io.ReaderAt
	size int64

	mu   sync.Mutex
	in   *gzip.Reader
	at   int64
	left int64
}

// mostAnew is how many times the size of a file is read in all: one whose parts lie in too wild an order is refused.
const mostAnew = 256

// unzipped is a compressed file, with the size that it has otherwise, which is bounded by that of its disk.
func unzipped(from io.ReaderAt, length, disk int64) (io.ReaderAt, int64, error) {
	in, err := gzip.NewReader(io.NewSectionReader(from, 0, length))
	if err != nil {
		return nil, 0, fmt.Errorf("it is said to be compressed by gzip, and is not: %w", err)
	}
	most := disk + disk/4 + 16<<20
	size, err := io.Copy(io.Discard, io.LimitReader(in, most+1))
	switch {
	case err != nil:
		return nil, 0, fmt.Errorf("what is compressed is damaged: %w", err)
	case size > most:
		return nil, 0, fmt.Errorf("it is larger than %d bytes when it is unpacked, and its disk has %d", most, disk)
	}
	return &zipped{from: io.NewSectionReader(from, 0, length), size: size, left: mostAnew * max(size, 1<<20)}, size, nil
}

// ReadAt implements io.ReaderAt.
func (z *zipped) ReadAt(p []byte, off int64) (int, error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	if off >= z.size {
		return 0, io.EOF
	}
	if z.in == nil || off < z.at {
		in, err := gzip.NewReader(io.NewSectionReader(z.from, 0, 1<<62))
		if err != nil {
			return 0, err
		}
		z.in, z.at = in, 0
	}
	if z.left -= off - z.at + int64(len(p)); z.left < 0 {
		return 0, errors.New("its parts lie in too wild an order to be read compressed: unpack it first")
	}
	n, err := io.CopyN(io.Discard, z.in, off-z.at)
	z.at += n
	if err != nil {
		return 0, err
	}
	k, err := io.ReadFull(z.in, p)
	z.at += int64(k)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = io.EOF
	}
	return k, err
}
