package libvirt

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"sync"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// part is how much of a disk is read and written at once, and block what is told apart as changed: 64 KiB, as QEMU's own bitmaps do.
const (
	part  = site.MaxPart
	block = 64 << 10
)

// eachPart reads a disk part by part.
func (h *host) eachPart(ctx context.Context, vol libvirt.StorageVol, size uint64, do func(at uint64, data []byte) error) error {
	for at := uint64(0); at < size; at += part {
		if err := context.Cause(ctx); err != nil {
			return err
		}
		data, err := h.download(ctx, vol, at, min(part, size-at))
		if err == nil {
			err = do(at, data)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// writeChanged writes what of a part is otherwise, so that a disk stays as sparse as it can.
func (h *host) writeChanged(ctx context.Context, vol libvirt.StorageVol, at uint64, data []byte) error {
	was, err := h.download(ctx, vol, at, uint64(len(data)))
	if err != nil || bytes.Equal(was, data) {
		return err
	}
	return h.upload(ctx, vol, at, data)
}

// seeing is how a disk is looked at that is not kept as plain bytes.
type seeing func(ctx context.Context, h *host, l *libvirt.Libvirt, at found) (found, error)

// asItWas and asItIs look at its flat copy, as that was made last or made now; itself is the disk as it is kept.
func asItWas(ctx context.Context, h *host, l *libvirt.Libvirt, at found) (found, error) {
	return h.flat(ctx, l, at, false)
}
func asItIs(ctx context.Context, h *host, l *libvirt.Libvirt, at found) (found, error) {
	return h.flat(ctx, l, at, true)
}
func itself(_ context.Context, _ *host, _ *libvirt.Libvirt, at found) (found, error) { return at, nil }

// ofDisk is what something comes to that is asked of the disk of an id.
func ofDisk[T any](ctx context.Context, d *Driver, doing, id string, see seeing, ask func(ctx context.Context, l *libvirt.Libvirt, h *host, at found) (T, error)) (T, error) {
	return first(d, kinds.Volume, id, func(h *host) (T, error) {
		return answer(ctx, h, copying, doing, func(ctx context.Context, l *libvirt.Libvirt) (T, error) {
			at, err := diskOf(l, id)
			if err == nil {
				at, err = see(ctx, h, l, at)
			}
			if err != nil {
				var none T
				return none, err
			}
			return ask(ctx, l, h, at)
		})
	})
}

// ReadDisk reads a part of a disk.
func (d *Driver) ReadDisk(ctx context.Context, id string, x site.Extent) ([]byte, error) {
	return ofDisk(ctx, d, "read "+id, id, asItWas, func(ctx context.Context, l *libvirt.Libvirt, h *host, at found) ([]byte, error) {
		if err := d.inside(l, at, id, x); err != nil {
			return nil, err
		}
		return h.download(ctx, at.vol, uint64(x.Offset), uint64(x.Length))
	})
}

// inside holds that a part lies in a disk, and is not more than is asked for at once.
func (d *Driver) inside(l *libvirt.Libvirt, at found, id string, x site.Extent) error {
	_, size, _, err := l.StorageVolGetInfo(at.vol)
	if err == nil && (x.Offset < 0 || x.Length < 0 || x.Length > site.MaxPart || uint64(x.Offset)+uint64(x.Length) > size) {
		err = d.fail(site.Refused, "look into "+id, "%d bytes from %d on do not lie in a disk of %d, or are too many at once", x.Length, x.Offset, size)
	}
	return err
}

// WriteDisk writes a part of a disk, whose machine is off.
func (d *Driver) WriteDisk(ctx context.Context, id string, offset int64, data []byte) error {
	_, err := ofDisk(ctx, d, "write "+id, id, itself, func(ctx context.Context, l *libvirt.Libvirt, h *host, at found) (struct{}, error) {
		err := d.inside(l, at, id, site.Extent{Offset: offset, Length: int64(len(data))})
		if err == nil {
			err = d.writable(ctx, l, h, at, id)
		}
		if err == nil {
			at, err = h.flatten(ctx, l, at)
		}
		if err == nil {
			err = h.upload(ctx, at.vol, uint64(offset), data)
		}
		return struct{}{}, err
	})
	return err
}

// writable holds that a disk may be written: it is no snapshot, and nobody runs on it.
func (d *Driver) writable(ctx context.Context, l *libvirt.Libvirt, h *host, at found, id string) error {
	if n, err := find(l, ours+id+noteEnd); err == nil {
		if about, err := h.readNote(ctx, n.vol); err != nil || about.Kind == kinds.Snapshot {
			return d.fail(site.Refused, "write "+id, "what a snapshot keeps stays as it is")
		}
	}
	user, _, err := h.userOf(l, at.vol.Key)
	if err == nil && user != nil && user.on() {
		err = d.fail(site.Conflict, "write "+id, "%s is on: only a disk whose machine is off is written", user.title())
	}
	return err
}

// Hashes are the digests of the blocks of a part of a disk.
func (d *Driver) Hashes(ctx context.Context, id string, x site.Extent, size int64) ([]byte, error) {
	if size <= 0 || size > part {
		return nil, d.fail(site.Refused, "digest "+id, "blocks are of 1 to %d bytes", part)
	}
	return ofDisk(ctx, d, "digest "+id, id, asItWas, func(ctx context.Context, l *libvirt.Libvirt, h *host, at found) ([]byte, error) {
		var out []byte
		for from := x.Offset; from < x.Offset+x.Length; {
			n := min(part/size*size, x.Offset+x.Length-from)
			if err := d.inside(l, at, id, site.Extent{Offset: from, Length: n}); err != nil {
				return nil, err
			}
			data, err := h.download(ctx, at.vol, uint64(from), uint64(n))
			if err != nil {
				return nil, err
			}
			out = append(out, site.Digests(data, int(size))...)
			from += n
		}
		return out, nil
	})
}

// generations are what disks held when they were asked about: hosts do not tell what was written since, so that digests are compared. They are
// forgotten with the driver; then all that a disk holds is listed anew.
type generations struct {
	mu    sync.Mutex
	epoch string
	of    map[string]*generation
}

// generation is the digest of every block of a disk, and in which look it was last found changed.
type generation struct {
	now     uint32
	sums    []byte
	changed []uint32
}

// Changes lists what was written on a disk since a look at it.
func (d *Driver) Changes(ctx context.Context, id, epoch string, since uint32) (site.Changes, error) {
	type look struct {
		size uint64
		sums []byte
	}
	now, err := ofDisk(ctx, d, "list what was written on "+id, id, asItIs, func(ctx context.Context, l *libvirt.Libvirt, h *host, at found) (out look, err error) {
		if _, out.size, _, err = l.StorageVolGetInfo(at.vol); err != nil {
			return out, err
		}
		err = h.eachPart(ctx, at.vol, out.size, func(_ uint64, data []byte) error {
			out.sums = append(out.sums, site.Digests(data, block)...)
			return nil
		})
		return out, err
	})
	if err != nil {
		return site.Changes{}, err
	}
	return d.gens.changes(id, epoch, since, int64(now.size), now.sums), nil
}

func (g *generations) changes(id, epoch string, since uint32, size int64, sums []byte) site.Changes {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.of == nil {
		var b [8]byte
		_, _ = rand.Read(b[:])
		g.epoch, g.of = hex.EncodeToString(b[:]), map[string]*generation{}
	}
	at := g.of[id]
	if at == nil {
		at = &generation{}
		g.of[id] = at
	}
	at.look(sums)
	out := site.Changes{Size: size, Epoch: g.epoch, UpTo: at.now, Layers: 1, Whole: epoch != g.epoch || since == 0 || since > at.now}
	for i := range len(sums) / 32 {
		x := site.Extent{Offset: int64(i) * block, Length: min(block, size-int64(i)*block)}
		empty := bytes.Equal(sums[i*32:i*32+32], site.NoDigest[:])
		switch {
		case out.Whole && !empty, !out.Whole && at.changed[i] > since && !empty:
			out.Written = appended(out.Written, x)
		case !out.Whole && at.changed[i] > since:
			out.Zero = appended(out.Zero, x)
		}
	}
	return out
}

// look takes in what a disk holds now.
func (g *generation) look(sums []byte) {
	g.now++
	for i := range len(sums) / 32 {
		if i >= len(g.changed) {
			g.changed = append(g.changed, g.now)
			g.sums = append(g.sums, sums[i*32:i*32+32]...)
			continue
		}
		if !bytes.Equal(g.sums[i*32:i*32+32], sums[i*32:i*32+32]) {
			copy(g.sums[i*32:], sums[i*32:i*32+32])
			g.changed[i] = g.now
		}
	}
}

// appended adds an extent, to the last if it follows it.
func appended(all []site.Extent, x site.Extent) []site.Extent {
	if n := len(all); n > 0 && all[n-1].Offset+all[n-1].Length == x.Offset {
		all[n-1].Length += x.Length
		return all
	}
	return append(all, x)
}
