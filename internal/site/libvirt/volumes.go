package libvirt

import (
	"context"
	"encoding/xml"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

const gib = 1 << 30

func escaped(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}

// poolNamed is a storage pool that is on, or what to do about one that is not.
func (h *host) poolNamed(l *libvirt.Libvirt, name string) (libvirt.StoragePool, error) {
	pool, err := l.StoragePoolLookupByName(name)
	if is(err, libvirt.ErrNoStoragePool) {
		return pool, &site.Error{Site: h.site, Doing: "find the storage pool " + name, Class: site.Refused,
			Detail: fmt.Sprintf("%s has no storage pool called %s: make one there, or say which to use (--pool, --images)", h.name, name)}
	}
	return pool, err
}

// found is a volume of ours, and the pool that it is in.
type found struct {
	pool libvirt.StoragePool
	vol  libvirt.StorageVol
}

// find looks through the pools that are on for a volume. That it is in none is an error of the class not found.
func find(l *libvirt.Libvirt, name string) (found, error) {
	pools, _, err := l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive)
	if err != nil {
		return found{}, err
	}
	for _, pool := range pools {
		vol, err := l.StorageVolLookupByName(pool, name)
		if err == nil {
			return found{pool, vol}, nil
		}
		if !absent(err) {
			return found{}, err
		}
	}
	return found{}, libvirt.Error{Code: uint32(libvirt.ErrNoStorageVol), Message: "no pool has " + name}
}

// createVolume makes a volume of plain bytes, and its note before it.
func (d *Driver) createVolume(ctx context.Context, r site.Request) (site.Resource, error) {
	h, err := d.zone(r)
	if err != nil {
		return site.Resource{}, err
	}
	id := d.idOf(r)
	err = h.call(ctx, "create volume "+r.Name, func(ctx context.Context, l *libvirt.Libvirt) error {
		if _, err := find(l, ours+id+dataEnd); !absent(err) {
			return err // it is there already, or nobody knows
		}
		pool, err := h.poolNamed(l, classOr(r.Class, d.pool))
		if err != nil {
			return err
		}
		return h.make(ctx, l, pool, id, note{Kind: kinds.Volume, Name: r.Name, Mark: r.Mark}, func() error {
			_, err := l.StorageVolCreateXML(pool, raw(ours+id+dataEnd, bytesOf(r.DiskGiB)), 0)
			if is(err, libvirt.ErrStorageVolExist) {
				return nil
			}
			return err
		})
	})
	if err != nil {
		return site.Resource{}, err
	}
	return h.volume(ctx, d, kinds.Volume, id)
}

func classOr(class, usual string) string {
	if class == "" {
		return usual
	}
	return class
}

func bytesOf(size float64) uint64 { return uint64(math.Ceil(size*gib/(1<<20))) << 20 }

// extent is what a host says of the size of a volume.
type extent struct {
	capacity, allocation uint64
	// there says that there is more than its note.
	there bool
}

// volume is a volume or snapshot of ours.
func (h *host) volume(ctx context.Context, d *Driver, kind kinds.Kind, id string) (site.Resource, error) {
	return told(ctx, h, "read "+string(kind), func(ctx context.Context, l *libvirt.Libvirt) (site.Resource, error) {
		at, err := find(l, ours+id+noteEnd)
		if absent(err) && kind == kinds.Volume {
			return h.foreign(l, id)
		}
		if err != nil {
			return site.Resource{}, err
		}
		n, err := h.readNote(ctx, at.vol)
		if err != nil {
			return site.Resource{}, err
		}
		if n.Kind != kind {
			return site.Resource{}, libvirt.Error{Code: uint32(libvirt.ErrNoStorageVol), Message: "it is another sort of thing"}
		}
		var of extent
		if vol, err := l.StorageVolLookupByName(at.pool, ours+id+dataEnd); err == nil {
			of.there = true
			if _, of.capacity, of.allocation, err = l.StorageVolGetInfo(vol); err != nil {
				return site.Resource{}, err
			}
		} else if !absent(err) {
			return site.Resource{}, err
		}
		return h.volumeAs(id, at.pool.Name, n, of), nil
	})
}

// volumeAs is a volume or snapshot as a site's resource.
func (h *host) volumeAs(id, pool string, n note, of extent) site.Resource {
	r := site.Resource{Kind: n.Kind, ID: id, Name: n.Name, Mark: n.Mark, State: site.Active, Word: "in pool " + pool, Attributes: map[string]string{},
		Details: &site.Details{Type: string(n.Kind), Region: h.name, Raw: map[string]string{"pool": pool, "capacity": strconv.FormatUint(of.capacity, 10),
			"allocation": strconv.FormatUint(of.allocation, 10)}}}
	for name, v := range n.Tags {
		r.Details.Raw["tag."+name] = v
	}
	n.limits(r.Attributes)
	if n.Kind == kinds.Snapshot {
		r.Details.Raw["of"] = n.Of
		r.Details.Raw["taken"] = n.Taken.UTC().Format(time.RFC3339Nano)
		r.Attributes[site.AttrTaken], r.Attributes[site.AttrHeld] = r.Details.Raw["taken"], r.Details.Raw["allocation"]
	}
	if whole := of.there && (n.Kind != kinds.Snapshot || !n.Taken.IsZero()); !whole {
		r.State, r.Word = site.Building, "being made"
		if n.stale() {
			r.State, r.Word = site.Failed, "half made: whoever asked for it broke off"
		}
	}
	return r
}

// foreign is a volume that somebody else made, by its key, which is its path mostly.
func (h *host) foreign(l *libvirt.Libvirt, key string) (site.Resource, error) {
	vol, err := l.StorageVolLookupByKey(key)
	if err != nil {
		return site.Resource{}, err
	}
	_, capacity, allocation, err := l.StorageVolGetInfo(vol)
	return h.foreignAs(vol, capacity, allocation), err
}

func (h *host) foreignAs(vol libvirt.StorageVol, capacity, allocation uint64) site.Resource {
	return site.Resource{Kind: kinds.Volume, ID: vol.Key, Name: vol.Name, State: site.Active, Word: unmarked, Attributes: map[string]string{},
		Details: &site.Details{Type: string(kinds.Volume), Region: h.name, Raw: map[string]string{"pool": vol.Pool, "capacity": strconv.FormatUint(capacity, 10),
			"allocation": strconv.FormatUint(allocation, 10)}}}
}

// volumes are all volumes or snapshots of a host. The disks that machines start from are theirs, and images are none.
func (h *host) volumes(ctx context.Context, d *Driver, kind kinds.Kind) ([]site.Resource, error) {
	return answer(ctx, h, copying, fmt.Sprintf("list %s", kind), func(ctx context.Context, l *libvirt.Libvirt) ([]site.Resource, error) {
		var out []site.Resource
		theirs, err := h.othersDisks(l)
		if err != nil {
			return nil, err
		}
		pools, _, err := l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive)
		for _, pool := range pools {
			if pool.Name == d.images {
				continue
			}
			var of []site.Resource
			if of, err = h.pooled(ctx, l, pool, kind); err != nil {
				return nil, err
			}
			out = append(out, slices.DeleteFunc(of, func(r site.Resource) bool { return theirs[r.ID] })...)
		}
		return out, err
	})
}

// pooled are the volumes or snapshots in a pool.
func (h *host) pooled(ctx context.Context, l *libvirt.Libvirt, pool libvirt.StoragePool, kind kinds.Kind) ([]site.Resource, error) {
	all, _, err := l.StoragePoolListAllVolumes(pool, 1, 0)
	if err != nil {
		return nil, err
	}
	named := map[string]libvirt.StorageVol{}
	for _, vol := range all {
		named[vol.Name] = vol
	}
	var out []site.Resource
	for _, name := range slices.Sorted(maps.Keys(named)) {
		id, end, own := parted(name)
		if own && end != noteEnd || !own && kind != kinds.Volume {
			continue
		}
		about := named[name]
		if own {
			about = named[ours+id+dataEnd]
		}
		var of extent
		if of.there = about.Name != ""; of.there {
			if _, of.capacity, of.allocation, err = l.StorageVolGetInfo(about); absent(err) {
				continue // it went since it was listed
			} else if err != nil {
				return nil, err
			}
		}
		if !own {
			out = append(out, h.foreignAs(about, of.capacity, of.allocation))
			continue
		}
		n, err := h.readNote(ctx, named[name])
		if err != nil && !absent(err) {
			return nil, err
		}
		if err == nil && n.Kind == kind {
			out = append(out, h.volumeAs(id, pool.Name, n, of))
		}
	}
	return out, nil
}

// changeVolume renames, tags or grows a volume.
func (h *host) changeVolume(ctx context.Context, d *Driver, kind kinds.Kind, id string, r site.Request) (site.Resource, error) {
	err := h.call(ctx, "change "+string(kind), func(ctx context.Context, l *libvirt.Libvirt) error {
		at, err := find(l, ours+id+noteEnd)
		if err != nil {
			return err
		}
		n, err := h.readNote(ctx, at.vol)
		if err != nil {
			return err
		}
		if r.Rename != "" || len(r.Tags) > 0 {
			n.Name, n.Tags = classOr(r.Rename, n.Name), tagged(n.Tags, r.Tags)
			if err := h.keepNote(ctx, l, at.pool, id, n); err != nil {
				return err
			}
		}
		if r.DiskGiB == 0 {
			return nil
		}
		return h.grow(l, at.pool, id, bytesOf(r.DiskGiB))
	})
	if err != nil {
		return site.Resource{}, err
	}
	return h.volume(ctx, d, kind, id)
}

// tagged are tags with those changed that are said anew; "" takes one away.
func tagged(was, now map[string]string) map[string]string {
	out := maps.Clone(was)
	if out == nil {
		out = map[string]string{}
	}
	for name, v := range now {
		if out[name] = v; v == "" {
			delete(out, name)
		}
	}
	return out
}

// grow makes a volume larger, with its machine told where it is on.
func (h *host) grow(l *libvirt.Libvirt, pool libvirt.StoragePool, id string, bytes uint64) error {
	vol, err := l.StorageVolLookupByName(pool, ours+id+dataEnd)
	if err != nil {
		return err
	}
	_, capacity, _, err := l.StorageVolGetInfo(vol)
	if err != nil || capacity == bytes {
		return err
	}
	if capacity > bytes {
		return &site.Error{Site: h.site, Doing: "change volume", Class: site.Refused, Detail: "a volume is not made smaller"}
	}
	user, disk, err := h.userOf(l, vol.Key)
	if err != nil {
		return err
	}
	if user != nil && user.on() {
		return l.DomainBlockResize(user.Domain, disk.Target.Dev, bytes, libvirt.DomainBlockResizeBytes)
	}
	return l.StorageVolResize(vol, bytes, 0)
}

// userOf is the machine that has the disk of a path, and that disk of it; nil if none has.
func (h *host) userOf(l *libvirt.Libvirt, path string) (*domain, *libvirtxml.DomainDisk, error) {
	all, err := h.domains(l)
	if err != nil {
		return nil, nil, err
	}
	for i := range all {
		if disk := all[i].disk(path); disk != nil {
			return &all[i], disk, nil
		}
	}
	return nil, nil, nil
}

// deleteVolume removes a volume or snapshot that no machine has, and its note after it.
func (h *host) deleteVolume(ctx context.Context, d *Driver, kind kinds.Kind, id string) error {
	return h.call(ctx, "delete "+string(kind), func(ctx context.Context, l *libvirt.Libvirt) error {
		at, err := find(l, ours+id+noteEnd)
		if absent(err) && kind == kinds.Volume {
			return h.deleteForeign(l, id)
		}
		if err != nil {
			return err
		}
		for _, end := range []string{copyEnd, dataEnd} {
			vol, err := l.StorageVolLookupByName(at.pool, ours+id+end)
			if err == nil {
				err = h.deleteUnused(l, vol)
			}
			if err != nil && !absent(err) {
				return err
			}
		}
		return gone(l.StorageVolDelete(at.vol, 0))
	})
}

// deleteForeign removes a volume that somebody else made.
func (h *host) deleteForeign(l *libvirt.Libvirt, key string) error {
	vol, err := l.StorageVolLookupByKey(key)
	if err != nil {
		return err
	}
	return h.deleteUnused(l, vol)
}

func (h *host) deleteUnused(l *libvirt.Libvirt, vol libvirt.StorageVol) error {
	user, _, err := h.userOf(l, vol.Key)
	if err != nil {
		return err
	}
	if user != nil {
		return &site.Error{Site: h.site, Doing: "delete volume", Class: site.Conflict, Detail: "it is attached to " + user.title()}
	}
	return l.StorageVolDelete(vol, 0)
}

// gone takes what is not there any more for done.
func gone(err error) error {
	if absent(err) {
		return nil
	}
	return err
}
