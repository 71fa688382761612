package disk

import (
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// view shows a part of a file that begins at a page, without copying it.
func view(f *os.File, off, n int64, use func([]byte) error) error {
	data, err := unix.Mmap(int(f.Fd()), off, int(n), unix.PROT_READ, unix.MAP_SHARED|unix.MAP_POPULATE)
	if err != nil {
		return copied(f, off, n, use)
	}
	defer func() { _ = unix.Munmap(data) }()
	return use(data)
}

// reopened opens a file once more, with a place of its own in it; nil if that cannot be.
func reopened(f *os.File, off int64) *os.File {
	own, err := os.Open(fmt.Sprintf("/proc/self/fd/%d", f.Fd()))
	if err != nil {
		return nil
	}
	if _, err := own.Seek(off, io.SeekStart); err != nil {
		own.Close()
		return nil
	}
	return own
}
