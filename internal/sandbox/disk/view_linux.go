package disk

import (
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
