package libvirt

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/site"
)

// Machines that somebody else made have the disk that they start from anywhere, and kept as QEMU keeps disks: mostly as qcow2, in which what the
// machine sees is not what is in the file. Such a disk is read by way of a volume of plain bytes beside it, its flat copy, which is made anew
// whenever it is asked what was written: through the machine, as of one moment, where it is on.

// flatEnd is the ending of flat copies.
const flatEnd = ".flat"

// flatOf is the name of the flat copy of the disk of a path.
func flatOf(path string) string {
	return ours + uuid.NewSHA1(space, []byte("flat\x00"+path)).String() + flatEnd
}

// first is the disk that a machine starts from, or nil.
func (m *domain) first() *libvirtxml.DomainDisk {
	if m.def.Devices == nil {
		return nil
	}
	for i := range m.def.Devices.Disks {
		if d := &m.def.Devices.Disks[i]; d.Device == "" || d.Device == "disk" {
			return d
		}
	}
	return nil
}

// othersDisk is the path of the disk that a machine starts from, where that is none of ours; else "".
func (m *domain) othersDisk() string {
	d := m.first()
	if d == nil {
		return ""
	}
	path := sourceOf(d)
	if _, _, own := parted(path[strings.LastIndexByte(path, '/')+1:]); own {
		return ""
	}
	return path
}

// othersDisks are the disks, by path, that machines of others start from: they are theirs, and no volumes.
func (h *host) othersDisks(l *libvirt.Libvirt) (map[string]bool, error) {
	all, err := h.domains(l)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for i := range all {
		if path := all[i].othersDisk(); path != "" {
			out[path] = true
		}
	}
	return out, nil
}

// othersDisk is the disk of an id that none of ours has: that of a machine, or a volume by its key.
func othersDisk(l *libvirt.Libvirt, id string) (found, error) {
	if m, err := domainOf(l, id); err == nil {
		d := m.first()
		if d == nil {
			return found{}, libvirt.Error{Code: uint32(libvirt.ErrNoStorageVol), Message: m.title() + " starts from no disk"}
		}
		return atPath(l, sourceOf(d))
	}
	return atPath(l, id)
}

// atPath is the volume of a path, which its pool may not have heard of yet.
func atPath(l *libvirt.Libvirt, path string) (found, error) {
	vol, err := l.StorageVolLookupByPath(path)
	if absent(err) {
		pools, _, err := l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive|libvirt.ConnectListStoragePoolsDir)
		if err != nil {
			return found{}, err
		}
		for _, pool := range pools {
			_ = l.StoragePoolRefresh(pool, 0) // one that is busy has it already or not
		}
	}
	if err != nil {
		vol, err = l.StorageVolLookupByPath(path)
	}
	if absent(err) {
		return found{}, libvirt.Error{Code: uint32(libvirt.ErrNoStorageVol), Message: "the disk " + path + " is in no storage pool of the host: define one of the folder where it lies"}
	}
	if err != nil {
		return found{}, err
	}
	pool, err := l.StoragePoolLookupByVolume(vol)
	return found{pool, vol}, err
}

// plain reports that what is in the file of a volume is what its machine sees.
func plain(l *libvirt.Libvirt, vol libvirt.StorageVol) (bool, error) {
	if _, _, own := parted(vol.Name); own {
		return true, nil
	}
	text, err := l.StorageVolGetXMLDesc(vol, 0)
	if err != nil {
		return false, err
	}
	var def libvirtxml.StorageVolume
	if err := def.Unmarshal(text); err != nil {
		return false, fmt.Errorf("%w: %w", errUnread, err)
	}
	return def.Target == nil || def.Target.Format == nil || def.Target.Format.Type == "raw", nil
}

// flat is a disk as its machine sees it: itself, or its flat copy, as that was made last unless it is to be made anew.
func (h *host) flat(ctx context.Context, l *libvirt.Libvirt, at found, anew bool) (found, error) {
	is, err := plain(l, at.vol)
	if err != nil || is {
		return at, err
	}
	name := flatOf(at.vol.Key)
	vol, err := l.StorageVolLookupByName(at.pool, name)
	if err == nil && !anew {
		return found{at.pool, vol}, nil
	}
	if err != nil && !absent(err) {
		return at, err
	}
	if err := h.copyTo(ctx, l, at, name, name+copyEnd); err != nil {
		return at, err
	}
	vol, err = l.StorageVolLookupByName(at.pool, name)
	return found{at.pool, vol}, err
}

// flatten has a machine, which is off, go on with the flat copy of a disk that is to be written: what it was kept in stays as it is.
func (h *host) flatten(ctx context.Context, l *libvirt.Libvirt, at found) (found, error) {
	is, err := plain(l, at.vol)
	if err != nil || is {
		return at, err
	}
	user, _, err := h.userOf(l, at.vol.Key)
	if err != nil {
		return at, err
	}
	if user == nil {
		return at, &site.Error{Site: h.site, Doing: "write " + at.vol.Name, Class: site.Refused, Detail: "it is not kept as plain bytes, and no machine has it"}
	}
	to, err := h.flat(ctx, l, at, false)
	if err != nil {
		return at, err
	}
	text, err := l.DomainGetXMLDesc(user.Domain, libvirt.DomainXMLSecure|libvirt.DomainXMLInactive)
	if err != nil {
		return at, err
	}
	kept := domain{}
	if err := kept.readAs(text); err != nil {
		return at, err
	}
	disk := kept.disk(at.vol.Key)
	if disk == nil {
		return at, &site.Error{Site: h.site, Doing: "write " + at.vol.Name, Class: site.Conflict, Detail: user.title() + " has it no more"}
	}
	disk.Driver, disk.Source, disk.BackingStore = &libvirtxml.DomainDiskDriver{Name: "qemu", Type: "raw"}, &libvirtxml.DomainDiskSource{File: &libvirtxml.DomainDiskSourceFile{File: to.vol.Key}}, nil
	if text, err = kept.def.Marshal(); err != nil {
		return at, err
	}
	_, err = l.DomainDefineXMLFlags(text, libvirt.DomainDefineValidate)
	return to, err
}

// unflat takes away the flat copy of the disk that a machine starts from, if there is one, also where it goes on with that.
func (h *host) unflat(l *libvirt.Libvirt, m *domain) error {
	d := m.first()
	if d == nil {
		return nil
	}
	path := sourceOf(d)
	name := path[strings.LastIndexByte(path, '/')+1:]
	_, end, own := parted(name)
	switch {
	case !own:
		name = flatOf(path)
	case end != flatEnd:
		return nil
	}
	at, err := find(l, name)
	if err == nil {
		err = l.StorageVolDelete(at.vol, 0)
	}
	return gone(err)
}

// sizeOf is how many bytes the disk has that a machine starts from, in figures; "" where that cannot be told.
func sizeOf(l *libvirt.Libvirt, m *domain) string {
	d := m.first()
	if d == nil {
		return ""
	}
	at, err := atPath(l, sourceOf(d))
	if err != nil {
		return ""
	}
	_, capacity, _, err := l.StorageVolGetInfo(at.vol)
	if err != nil {
		return ""
	}
	return strconv.FormatUint(capacity, 10)
}
