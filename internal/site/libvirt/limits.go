package libvirt

import (
	"context"
	"math"
	"strconv"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

var _ site.Limiter = (*Driver)(nil)

// Limit bounds a volume. It is noted with the volume, and holds for the disk that it is in a machine at once.
func (d *Driver) Limit(ctx context.Context, volume string, want site.IOLimit) error {
	_, err := first(d, kinds.Volume, volume, func(h *host) (struct{}, error) {
		return struct{}{}, h.call(ctx, "limit volume", func(ctx context.Context, l *libvirt.Libvirt) error {
			at, err := find(l, ours+volume+noteEnd)
			if err != nil {
				return err
			}
			n, err := h.readNote(ctx, at.vol)
			if err != nil {
				return err
			}
			n.IOPerSecond, n.IOMiBPerSecond = want.PerSecond, want.MiBPerSecond
			if err := h.keepNote(ctx, l, at.pool, volume, n); err != nil {
				return err
			}
			vol, err := l.StorageVolLookupByName(at.pool, ours+volume+dataEnd)
			if err != nil {
				return err
			}
			user, disk, err := h.userOf(l, vol.Key)
			if err != nil || user == nil {
				return err
			}
			return l.DomainSetBlockIOTune(user.Domain, disk.Target.Dev, n.tune(), uint32(user.both()))
		})
	})
	return err
}

// bytesPerSecond is how many bytes go to and from a volume at most; 0 does not bound it.
func (n *note) bytesPerSecond() uint64 { return uint64(math.Round(n.IOMiBPerSecond * (1 << 20))) }

// tune is what bounds a volume as the daemon takes it: 0 lifts what there was.
func (n *note) tune() []libvirt.TypedParam {
	return []libvirt.TypedParam{
		{Field: libvirt.DomainBlockIotuneTotalIopsSec, Value: *libvirt.NewTypedParamValueUllong(uint64(n.IOPerSecond))},
		{Field: libvirt.DomainBlockIotuneTotalBytesSec, Value: *libvirt.NewTypedParamValueUllong(n.bytesPerSecond())},
	}
}

// bounded is the disk of a volume with what bounds that.
func (n *note) bounded(disk *libvirtxml.DomainDisk) *libvirtxml.DomainDisk {
	if n.IOPerSecond > 0 || n.IOMiBPerSecond > 0 {
		disk.IOTune = &libvirtxml.DomainDiskIOTune{TotalIopsSec: uint64(n.IOPerSecond), TotalBytesSec: n.bytesPerSecond()}
	}
	return disk
}

// limits are what bounds a volume as attributes.
func (n *note) limits(into map[string]string) {
	if n.IOPerSecond > 0 {
		into[site.AttrIOPerSecond] = strconv.Itoa(n.IOPerSecond)
	}
	if n.IOMiBPerSecond > 0 {
		into[site.AttrIOMiBPerSecond] = strconv.FormatFloat(n.IOMiBPerSecond, 'g', -1, 64)
	}
}

// noteOf is what is noted of a volume; of one that somebody else made nothing is.
func (h *host) noteOf(ctx context.Context, l *libvirt.Libvirt, volume string) (note, error) {
	at, err := find(l, ours+volume+noteEnd)
	if absent(err) {
		return note{}, nil
	} else if err != nil {
		return note{}, err
	}
	return h.readNote(ctx, at.vol)
}
