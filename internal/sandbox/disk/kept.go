package disk

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
)

// A kept disk has its bytes in a file that stays, one more for each of its layers, and beside them what is noted of its
// pages, so that it comes back after the end of the process, whatever ended it: a byte a page, 0 for one that holds
// nothing, else the number of the layer that it is in, of which the first is 1.

// marksOf is the file that notes the pages of a kept disk.
func marksOf(path string) string { return path + ".pages" }

func layerOf(path string, n int) string { return path + "." + strconv.Itoa(n) }

// At is the disk that is kept in a file: as it was if the file is there, else one that holds nothing. It is always live.
func At(path string, size int64, epoch string) (*Disk, error) {
	d := New(size, epoch)
	d.path = path
	d.live.Store(true)
	marks, err := os.OpenFile(marksOf(path), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	d.marks = marks
	if err := errors.Join(d.reopen(), d.recall()); err != nil {
		_ = d.Close()
		return nil, fmt.Errorf("the disk %s cannot be read: %w", path, err)
	}
	return d, nil
}

// reopen opens the files that are there.
func (d *Disk) reopen() error {
	f, err := os.OpenFile(d.path, os.O_RDWR, 0o600)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return err
	}
	d.file.Store(f)
	for n := 1; ; n++ {
		f, err := os.OpenFile(layerOf(d.path, n), os.O_RDWR, 0o600)
		if errors.Is(err, os.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		d.layers.tops = append(d.layers.tops, f)
		d.layers.level = map[int64]*[chunkPages]atomic.Uint32{}
	}
}

// recall reads what is noted of the pages: all of them were written in the first generation.
func (d *Disk) recall() error {
	info, err := d.marks.Stat()
	if err != nil {
		return err
	}
	buf := make([]byte, chunkPages)
	for first := int64(0); first < info.Size() && first*Page < d.size; first += chunkPages {
		n, _ := d.marks.ReadAt(buf, first)
		if AllZero(buf[:n]) {
			continue
		}
		for i, mark := range buf[:n] {
			if mark == 0 {
				continue
			}
			if int(mark) > len(d.layers.tops)+1 {
				return fmt.Errorf("a page is said to be in layer %d of %d", mark, len(d.layers.tops)+1)
			}
			page := first + int64(i)
			d.chunk(page, true)[i].Store(d.gen)
			if mark > 1 {
				d.levels(page, true)[i].Store(uint32(mark) - 1)
			}
		}
	}
	d.gen++
	return nil
}

// mark notes for good where pages are.
func (d *Disk) mark(off, n int64, as byte) error {
	if d.marks == nil || n <= 0 {
		return nil
	}
	first, last := off/Page, (off+n-1)/Page
	text := make([]byte, last-first+1)
	for i := range text {
		text[i] = as
	}
	_, err := d.marks.WriteAt(text, first)
	return err
}

// backing makes the file of a layer: one that goes with the process, or one that stays if the disk is kept.
func (d *Disk) backing(layer int) (*os.File, error) {
	if d.path == "" {
		return unnamed(d.size)
	}
	name, flag := d.path, os.O_RDWR|os.O_CREATE
	if layer > 0 { // one of that number may be left of what was made one
		name, flag = layerOf(d.path, layer), flag|os.O_TRUNC
	}
	f, err := os.OpenFile(name, flag, 0o600)
	if err != nil {
		return nil, err
	}
	if err := f.Truncate(d.size); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Remove gives back what the disk takes, for good.
func (d *Disk) Remove() error {
	err := d.Close()
	if d.path == "" {
		return err
	}
	names, globErr := filepath.Glob(strings.NewReplacer("[", `\[`, "*", `\*`, "?", `\?`).Replace(d.path) + "*")
	errs := []error{err, globErr}
	for _, name := range names {
		if rest := strings.TrimPrefix(name, d.path); rest == "" || rest[0] == '.' {
			errs = append(errs, os.Remove(name))
		}
	}
	return errors.Join(errs...)
}
