package disk

import (
	"errors"
	"io"
	"os"
)

// overwrite writes zeros.
func overwrite(f *os.File, off, n int64) error {
	zeros := make([]byte, min(n, 1<<20))
	for n > 0 {
		part := min(n, int64(len(zeros)))
		if _, err := f.WriteAt(zeros[:part], off); err != nil {
			return err
		}
		off, n = off+part, n-part
	}
	return nil
}

// copied shows a copy of a part of a file.
func copied(f *os.File, off, n int64, use func([]byte) error) error {
	data := make([]byte, n)
	m, err := f.ReadAt(data, off)
	if m < len(data) && err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return use(data)
}
