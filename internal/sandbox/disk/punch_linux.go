package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

// punch gives back the room of a part of a file, which reads as zeros then. Where a file system cannot, zeros are
// written.
func punch(f *os.File, off, n int64) error {
	err := unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
	if err != nil {
		return overwrite(f, off, n)
	}
	return nil
}
