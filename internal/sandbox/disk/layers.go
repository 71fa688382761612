package disk

import (
	"errors"
	"fmt"
	"os"
	"sync/atomic"
)

// maxLayers bounds the layers of a disk: what would begin one more goes on in the last.
const maxLayers = 64

// layers are what was written round by round, each round apart from what was there before, so that a round that broke
// off has spoilt nothing and none but the newest can be half there. They cost: whoever reads looks through them.
// [Disk.Consolidate] makes them one.
type layers struct {
	// tops are the files of the layers above the first, which is the disk's own file.
	tops []*os.File
	// level says in which layer a page is, by chunks; where there is none, in the first.
	level map[int64]*[chunkPages]atomic.Uint32
	// round is the round whose layer is the last.
	round int
}

// Layers is how many layers the disk is kept in.
func (d *Disk) Layers() int {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return len(d.layers.tops) + 1
}

// Apart has what is written from now on kept in a layer for a round of copying; within one round it stays the same one.
func (d *Disk) Apart(round int) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if round == d.layers.round || len(d.layers.tops)+1 >= maxLayers {
		return nil
	}
	if _, err := d.open(); d.path != "" && err != nil {
		return err // a kept disk is found by its first file
	}
	f, err := d.backing(len(d.layers.tops) + 1)
	if err != nil {
		return err
	}
	if d.layers.level == nil {
		d.layers.level = map[int64]*[chunkPages]atomic.Uint32{}
	}
	d.layers.tops, d.layers.round = append(d.layers.tops, f), round
	return nil
}

// file is that of a layer; nil for a first one that was never written. The lock is held.
func (d *Disk) fileOf(level uint32) *os.File {
	if level == 0 {
		return d.file.Load()
	}
	return d.layers.tops[level-1]
}

// levelOf is the layer of a page, levels what is noted of the pages around it.
func (d *Disk) levelOf(page int64) uint32 {
	if c := d.levels(page, false); c != nil {
		return c[page%chunkPages].Load()
	}
	return 0
}

func (d *Disk) levels(page int64, make bool) *[chunkPages]atomic.Uint32 {
	d.grow.Lock()
	defer d.grow.Unlock()
	c := d.layers.level[page/chunkPages]
	if c == nil && make {
		c = new([chunkPages]atomic.Uint32)
		d.layers.level[page/chunkPages] = c
	}
	return c
}

// run is how many bytes from an offset on are in the same layer, at most n.
func (d *Disk) run(off, n int64) (level uint32, length int64) {
	level = d.levelOf(off / Page)
	length = min(Page-off%Page, n)
	for length < n && d.levelOf((off+length)/Page) == level {
		length = min(length+Page, n)
	}
	return level, length
}

// readLayers reads bytes from whichever layers they are in. The lock is held.
func (d *Disk) readLayers(p []byte, off int64) {
	for len(p) > 0 {
		level, n := d.run(off, int64(len(p)))
		readFile(d.fileOf(level), p[:n], off)
		p, off = p[n:], off+n
	}
}

// writeLayers writes bytes to the last layer, taking along what else is on the pages at either end. The lock is held for
// reading; one writes at a time, since two may be at the same page.
func (d *Disk) writeLayers(p []byte, off int64) (int, error) {
	d.one.Lock()
	defer d.one.Unlock()
	top := uint32(len(d.layers.tops))
	end := off + int64(len(p))
	for _, page := range []int64{off / Page, (end - 1) / Page} {
		whole := page*Page >= off && min((page+1)*Page, d.size) <= end
		if !whole && d.levelOf(page) != top {
			if err := d.lift(page, top); err != nil {
				return 0, err
			}
		}
	}
	n, err := d.fileOf(top).WriteAt(p, off)
	if err == nil {
		err = d.raise(off, int64(n), top)
	}
	return n, err
}

// lift copies a page to a layer.
func (d *Disk) lift(page int64, level uint32) error {
	buf := make([]byte, min(Page, d.size-page*Page))
	readFile(d.fileOf(d.levelOf(page)), buf, page*Page)
	if _, err := d.fileOf(level).WriteAt(buf, page*Page); err != nil {
		return err
	}
	return d.raise(page*Page, int64(len(buf)), level)
}

// raise notes that pages are in a layer now.
func (d *Disk) raise(off, n int64, level uint32) error {
	for page := off / Page; page*Page < off+n; page++ {
		d.levels(page, true)[page%chunkPages].Store(level)
	}
	return d.mark(off, n, byte(level+1))
}

// mergePart bounds what is merged while nobody else can use the disk.
const mergePart = 1 << 20

// Consolidate makes the layers one, and returns how many bytes it had to bring together. The disk can be used meanwhile;
// wherever it breaks off, every page is where it is noted to be.
func (d *Disk) Consolidate() (int64, error) {
	total := int64(0)
	for pass := 0; ; pass++ {
		n, done, err := d.merge(pass == maxPasses)
		if total += n; err != nil || done {
			return total, err
		}
	}
}

// maxPasses is how often what was written meanwhile is merged again, before others have to wait for the rest.
const maxPasses = 3

// merge brings together what is not in the first layer. The last pass keeps others out, and then gives up the layers.
func (d *Disk) merge(last bool) (total int64, done bool, err error) {
	if last {
		d.mu.Lock()
		defer d.mu.Unlock()
	}
	for _, x := range d.raised(last) {
		for off := x.Offset; off < x.Offset+x.Length; off += mergePart {
			n := min(mergePart, x.Offset+x.Length-off)
			if err := d.mergePart(off, n, last); err != nil {
				return total, false, fmt.Errorf("bytes %d to %d cannot be brought together: %w", off, off+n, err)
			}
			total += n
		}
	}
	if !last {
		return total, total == 0 && d.Layers() == 1, nil
	}
	var errs []error
	for i, f := range d.layers.tops {
		errs = append(errs, f.Close())
		if d.path != "" {
			errs = append(errs, os.Remove(layerOf(d.path, i+1)))
		}
	}
	d.layers = layers{round: d.layers.round}
	return total, true, errors.Join(errs...)
}

// raised are the parts of a disk that are not in its first layer.
func (d *Disk) raised(locked bool) []Extent {
	if !locked {
		d.mu.RLock()
		defer d.mu.RUnlock()
	}
	var out []Extent
	for first := int64(0); first*Page < d.size && len(d.layers.tops) > 0; first += chunkPages {
		c := d.levels(first, false)
		if c == nil {
			continue
		}
		for i := range c {
			if c[i].Load() != 0 {
				out = extend(out, (first+int64(i))*Page, d.size)
			}
		}
	}
	return out
}

// mergePart brings one part together.
func (d *Disk) mergePart(off, n int64, locked bool) error {
	if !locked {
		d.mu.Lock()
		defer d.mu.Unlock()
	}
	if err := d.within(off, n); err != nil {
		return err
	}
	f, err := d.open()
	if err != nil {
		return err
	}
	buf := make([]byte, n)
	d.readLayers(buf, off)
	for at := int64(0); at < n; {
		empty := AllZero(buf[at:min(at+Page, n)])
		end := min(at+Page, n)
		for end < n && AllZero(buf[end:min(end+Page, n)]) == empty {
			end = min(end+Page, n)
		}
		if empty {
			err = punch(f, off+at, end-at)
		} else {
			_, err = f.WriteAt(buf[at:end], off+at)
		}
		if err != nil {
			return err
		}
		at = end
	}
	return d.raise(off, n, 0)
}

// readFile reads bytes of a file, zeros where there is none or it ends.
func readFile(f *os.File, p []byte, off int64) {
	n := 0
	if f != nil {
		n, _ = f.ReadAt(p, off)
	}
	clear(p[n:])
}
