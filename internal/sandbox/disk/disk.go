// Package disk is the disks of stand-in instances: real bytes in sparse files, which nobody else can see and which vanish
// with the process, unless a disk is kept: see [At].
//
// A disk notes which of its pages were written, and when, by generations: [Disk.Changes] says what was written since a
// generation and begins the next one, so that nothing that is written meanwhile is ever missed.
package disk

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"

	"github.com/zeebo/blake3"
)

// Page is the grain, in bytes, at which a disk notes what was written.
const Page = 4096

// chunkPages is how many pages are noted together, so that a large empty disk costs nothing.
const chunkPages = 4096

// zeroed marks, in what is noted of a page, that it holds nothing but zeros.
const zeroed = 1 << 31

// DigestSize is how many bytes the digest of a block has.
const DigestSize = 32

// Extent is a run of bytes.
type Extent struct {
	Offset int64
	Length int64
}

// Disk is one disk.
type Disk struct {
	// Epoch changes when what was noted is lost; generations of another epoch say nothing.
	Epoch string
	// OnFirst is called before the disk is first looked at from outside, once.
	OnFirst func()

	size  int64
	first sync.Once
	live  atomic.Bool

	// mu is held for reading while pages are noted and written, so that no generation begins between the two.
	mu     sync.RWMutex
	gen    uint32
	file   atomic.Pointer[os.File]
	chunks map[int64]*[chunkPages]atomic.Uint32
	grow   sync.Mutex
	closed bool
	// still says that nobody writes to it: no generation begins.
	still  bool
	layers layers
	// one writes at a time to a disk of several layers.
	one sync.Mutex
	// path is the file of a kept disk, "" for one that goes with the process; marks notes its pages.
	path  string
	marks *os.File
}

// New makes a disk that holds nothing.
func New(size int64, epoch string) *Disk {
	return &Disk{Epoch: epoch, size: size, gen: 1, chunks: map[int64]*[chunkPages]atomic.Uint32{}}
}

// Size is how many bytes the disk holds.
func (d *Disk) Size() int64 {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.size
}

// Grow makes a disk larger.
func (d *Disk) Grow(size int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.size = max(d.size, size)
	if f := d.file.Load(); f != nil {
		_ = f.Truncate(d.size) // if it cannot grow, writing there says so
	}
	for _, f := range d.layers.tops {
		_ = f.Truncate(d.size)
	}
}

// Open has everything put on the disk that belongs there. Whoever looks at the disk from outside calls it before.
func (d *Disk) Open() {
	d.first.Do(func() {
		d.live.Store(true)
		if d.OnFirst != nil {
			d.OnFirst()
		}
	})
}

// Live reports that the disk was looked at from outside: from then on it is kept up to date.
func (d *Disk) Live() bool { return d.live.Load() }

// Close gives back what the disk takes.
func (d *Disk) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	var errs []error
	for _, f := range append(d.layers.tops, d.file.Swap(nil), d.marks) {
		if f != nil {
			errs = append(errs, f.Close())
		}
	}
	d.layers, d.marks = layers{}, nil
	return errors.Join(errs...)
}

// within refuses what lies outside the disk. The lock is held.
func (d *Disk) within(off, n int64) error {
	switch {
	case d.closed:
		return fmt.Errorf("the disk is gone")
	case off < 0 || n < 0 || off > d.size-n:
		return fmt.Errorf("bytes %d to %d lie outside a disk of %d", off, off+n, d.size)
	}
	return nil
}

// open makes the file that holds the bytes. Unless the disk is kept it has no name, so that it goes with the process
// whatever ends it.
func (d *Disk) open() (*os.File, error) {
	if f := d.file.Load(); f != nil {
		return f, nil
	}
	d.grow.Lock()
	defer d.grow.Unlock()
	if f := d.file.Load(); f != nil {
		return f, nil
	}
	f, err := d.backing(0)
	if err == nil {
		d.file.Store(f)
	}
	return f, err
}

// unnamed makes a file that nobody else can see.
func unnamed(size int64) (*os.File, error) {
	f, err := os.CreateTemp("", "andamio-disk-*")
	if err != nil {
		return nil, err
	}
	if err := errors.Join(os.Remove(f.Name()), f.Truncate(size)); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// chunk is what is noted of the pages around one.
func (d *Disk) chunk(page int64, make bool) *[chunkPages]atomic.Uint32 {
	d.grow.Lock()
	defer d.grow.Unlock()
	c := d.chunks[page/chunkPages]
	if c == nil && make {
		c = new([chunkPages]atomic.Uint32)
		d.chunks[page/chunkPages] = c
	}
	return c
}

// note marks pages as written in this generation.
func (d *Disk) note(off, n int64, flag uint32) {
	for page := off / Page; page*Page < off+n; {
		c := d.chunk(page, true)
		for ; page*Page < off+n; page++ {
			c[page%chunkPages].Store(d.gen | flag)
			if page%chunkPages == chunkPages-1 {
				page++
				break
			}
		}
	}
}

// WriteAt writes bytes, as io.WriterAt.
func (d *Disk) WriteAt(p []byte, off int64) (int, error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	if err := d.within(off, int64(len(p))); err != nil {
		return 0, err
	}
	var n int
	var err error
	if len(d.layers.tops) > 0 && len(p) > 0 {
		n, err = d.writeLayers(p, off)
	} else {
		var f *os.File
		if f, err = d.open(); err != nil {
			return 0, err
		}
		// What is noted and was not written reads as zeros; the other way round it would be there and never be copied.
		if err = d.mark(off, int64(len(p)), 1); err == nil {
			n, err = f.WriteAt(p, off)
		}
	}
	d.note(off, int64(n), 0)
	return n, err
}

// Zero makes whole pages hold nothing.
func (d *Disk) Zero(off, n int64) error {
	d.mu.RLock()
	defer d.mu.RUnlock()
	f := d.file.Load()
	layered := len(d.layers.tops) > 0
	if err := d.within(off, n); err != nil || f == nil && !layered || n == 0 {
		return err
	}
	if layered {
		d.one.Lock()
		defer d.one.Unlock()
		f = d.layers.tops[len(d.layers.tops)-1]
	}
	if err := punch(f, off, n); err != nil {
		return err
	}
	var err error
	if layered {
		err = d.raise(off, n, uint32(len(d.layers.tops)))
	} else {
		err = d.mark(off, n, 0)
	}
	d.note(off, n, zeroed)
	return err
}

// ReadAt reads bytes, as io.ReaderAt; what was never written is zero.
func (d *Disk) ReadAt(p []byte, off int64) (int, error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	if err := d.within(off, int64(len(p))); err != nil {
		return 0, err
	}
	if len(d.layers.tops) > 0 {
		d.readLayers(p, off)
	} else {
		readFile(d.file.Load(), p, off)
	}
	return len(p), nil
}

// View shows bytes as they are on the disk, without copying them where they begin at a page. They may change while they
// are looked at, and are not to be kept.
func (d *Disk) View(off, n int64, use func([]byte) error) error {
	d.mu.RLock()
	if err := d.within(off, n); err != nil {
		d.mu.RUnlock()
		return err
	}
	f, layered := d.file.Load(), len(d.layers.tops) > 0
	d.mu.RUnlock()
	if f == nil || layered || off%Page != 0 || n == 0 {
		data := make([]byte, n)
		if _, err := d.ReadAt(data, off); err != nil {
			return err
		}
		return use(data)
	}
	return view(f, off, n, use)
}

// Reader reads a part of the disk from a file of its own, so that it can be sent without being copied; nil where the disk
// is in no one file. Whoever has it closes it.
func (d *Disk) Reader(off int64) *os.File {
	d.mu.RLock()
	defer d.mu.RUnlock()
	f := d.file.Load()
	if f == nil || len(d.layers.tops) > 0 {
		return nil
	}
	return reopened(f, off)
}

// Changes lists what was written after a generation, in order, those apart that hold nothing any more, and the
// generation up to which it says so; 0 lists all that the disk holds. A new generation begins with it.
func (d *Disk) Changes(since uint32) (written, zero []Extent, upTo uint32) {
	d.mu.Lock()
	defer d.mu.Unlock()
	upTo = d.gen
	if !d.still {
		d.gen++
	}
	for first := int64(0); first*Page < d.size; first += chunkPages {
		c := d.chunks[first/chunkPages]
		if c == nil {
			continue
		}
		for i := range c {
			v := c[i].Load()
			g := v &^ zeroed
			switch {
			case g == 0 || g <= since:
			case v&zeroed != 0:
				if since > 0 {
					zero = extend(zero, (first+int64(i))*Page, d.size)
				}
			default:
				written = extend(written, (first+int64(i))*Page, d.size)
			}
		}
	}
	return written, zero, upTo
}

// extend adds a page to extents in order.
func extend(list []Extent, off, size int64) []Extent {
	n := min(Page, size-off)
	if last := len(list) - 1; last >= 0 && list[last].Offset+list[last].Length == off {
		list[last].Length += n
		return list
	}
	return append(list, Extent{off, n})
}

// Hashes are the BLAKE3 digests, of 256 bits, of the blocks from an offset on, one after another; a block that was never written, or
// holds nothing any more, has a digest of zeros, which costs nothing to find out.
func (d *Disk) Hashes(off, n int64, block int) ([]byte, error) {
	out := make([]byte, 0, (n/int64(block)+1)*DigestSize)
	for at := off; at < off+n; at += int64(block) {
		length := min(int64(block), off+n-at)
		if d.empty(at, length) {
			out = append(out, make([]byte, DigestSize)...)
			continue
		}
		var sum [DigestSize]byte
		err := d.View(at, length, func(data []byte) error {
			if !AllZero(data) {
				sum = blake3.Sum256(data)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		out = append(out, sum[:]...)
	}
	return out, nil
}

// empty reports that nothing of a run of pages holds anything.
func (d *Disk) empty(off, n int64) bool {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for page := off / Page; page*Page < off+n; page++ {
		c := d.chunk(page, false)
		if c == nil {
			continue
		}
		if v := c[page%chunkPages].Load(); v != 0 && v&zeroed == 0 {
			return false
		}
	}
	return true
}

// AllZero reports that bytes are all zero.
func AllZero(p []byte) bool {
	for len(p) >= 8 {
		if p[0]|p[1]|p[2]|p[3]|p[4]|p[5]|p[6]|p[7] != 0 {
			return false
		}
		p = p[8:]
	}
	for _, b := range p {
		if b != 0 {
			return false
		}
	}
	return true
}
