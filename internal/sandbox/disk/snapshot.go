package disk

import "fmt"

// Take has a disk that was never written hold what another holds at this moment, and returns how many bytes hold something. Nobody writes to
// the other meanwhile. What was written when is taken too, so that [Disk.Changes] says of it what it would have said of the other then; a new generation
// begins there.
func (d *Disk) Take(from *Disk) (int64, error) {
	from.mu.Lock()
	defer from.mu.Unlock()
	total := int64(0)
	err := from.eachHeld(func(data []byte, off int64) error {
		total += int64(len(data))
		_, err := d.WriteAt(data, off)
		return err
	})
	if err == nil {
		d.inherit(from)
	}
	return total, err
}

// inherit takes what another disk notes of its pages. The other's lock is held.
func (d *Disk) inherit(from *Disk) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.Epoch, d.gen, d.still = from.Epoch, from.gen, true
	for at := range from.chunks {
		mine, theirs := d.chunk(at*chunkPages, true), from.chunks[at]
		for i := range theirs {
			mine[i].Store(theirs[i].Load())
		}
	}
	from.gen++
}

// Become has a disk hold what another holds, which nobody writes to, and nothing else. Where it breaks off, doing it again does all of it.
func (d *Disk) Become(from *Disk) error {
	if from.Size() > d.Size() {
		return fmt.Errorf("a disk of %d bytes does not hold what one of %d does", d.Size(), from.Size())
	}
	mine, _, _ := d.Changes(0)
	for _, x := range mine {
		n := x.Length
		if rest := n % Page; rest != 0 { // the end of a disk may be within a page
			if _, err := d.WriteAt(make([]byte, rest), x.Offset+n-rest); err != nil {
				return err
			}
			n -= rest
		}
		if err := d.Zero(x.Offset, n); err != nil {
			return err
		}
	}
	from.mu.Lock()
	defer from.mu.Unlock()
	return from.eachHeld(func(data []byte, off int64) error {
		_, err := d.WriteAt(data, off)
		return err
	})
}

// heldPart is how much is read at once of what a disk holds.
const heldPart = 1 << 20

// eachHeld goes through what a disk holds, in parts of it that hold something. The lock is held.
func (d *Disk) eachHeld(do func(data []byte, off int64) error) error {
	buf := make([]byte, heldPart)
	for _, x := range d.held() {
		for off := x.Offset; off < x.Offset+x.Length; off += heldPart {
			part := buf[:min(heldPart, x.Offset+x.Length-off)]
			if len(d.layers.tops) > 0 {
				d.readLayers(part, off)
			} else {
				readFile(d.file.Load(), part, off)
			}
			if err := eachRun(part, off, do); err != nil {
				return err
			}
		}
	}
	return nil
}

// eachRun goes through the runs of pages that hold something.
func eachRun(data []byte, at int64, do func(data []byte, off int64) error) error {
	for off := int64(0); off < int64(len(data)); {
		end := min(off+Page, int64(len(data)))
		if AllZero(data[off:end]) {
			off = end
			continue
		}
		for end < int64(len(data)) && !AllZero(data[end:min(end+Page, int64(len(data)))]) {
			end = min(end+Page, int64(len(data)))
		}
		if err := do(data[off:end], at+off); err != nil {
			return err
		}
		off = end
	}
	return nil
}

// held are the pages that were written and hold something still. The lock is held.
func (d *Disk) held() []Extent {
	var out []Extent
	for first := int64(0); first*Page < d.size; first += chunkPages {
		c := d.chunk(first, false)
		if c == nil {
			continue
		}
		for i := range c {
			if v := c[i].Load(); v != 0 && v&zeroed == 0 && (first+int64(i))*Page < d.size {
				out = extend(out, (first+int64(i))*Page, d.size)
			}
		}
	}
	return out
}
