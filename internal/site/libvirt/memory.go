package libvirt

import (
	"context"
	"encoding/xml"
	"path/filepath"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// keepMemory keeps what is in the memory of a machine that is suspended in a file of the pool of its disk, beside a note. The machine stays as it is.
func (d *Driver) keepMemory(ctx context.Context, r site.Request) (site.Resource, error) {
	doing, id := "keep the memory "+r.Name, d.idOf(r)
	out, err := first(d, kinds.Instance, r.Source, func(h *host) (site.Resource, error) {
		err := h.within(ctx, copying, doing, func(ctx context.Context, l *libvirt.Libvirt) error {
			m, err := domainOf(l, r.Source)
			if err != nil {
				return err
			}
			at, err := diskOf(l, r.Source)
			if err != nil {
				return err
			}
			n := note{Kind: kinds.Snapshot, Name: r.Name, Mark: r.Mark, Of: r.Source, Memory: true}
			return h.taken(ctx, l, at.pool, id, n, func() error { return h.saveMemory(l, m, at, id) })
		})
		if err != nil {
			return site.Resource{}, err
		}
		return h.volume(ctx, d, kinds.Snapshot, id)
	})
	if site.ClassOf(err) == site.NotFound && err != nil {
		return out, d.fail(site.Refused, doing, "there is no machine %s", r.Source)
	}
	return out, err
}

// saveMemory writes the memory of a machine to the file of an id, unless all of it is there: whoever asked for it may have broken off before that was noted,
// and the emulator writes the memory of a machine that stands still once alone.
func (h *host) saveMemory(l *libvirt.Libvirt, m *domain, at found, id string) error {
	dir, err := folderOf(l, at.pool)
	if err != nil {
		return err
	}
	if dir == "" {
		return &site.Error{Site: h.site, Doing: "keep memory", Class: site.Refused, Detail: "the pool " + at.pool.Name + " of its disk keeps no files, which memory is kept in"}
	}
	if m.state != libvirt.DomainPaused {
		return &site.Error{Site: h.site, Doing: "keep memory", Class: site.Conflict, Detail: m.title() + " does not stand still: suspend it first"}
	}
	unlock := h.alone(m.id()) // a machine does not copy its disks meanwhile
	defer unlock()
	file := filepath.Join(dir, ours+id+dataEnd)
	if _, err := l.DomainSaveImageGetXMLDesc(file, 0); err != nil { // there is none, or it breaks off
		if was, err := l.StorageVolLookupByName(at.pool, ours+id+dataEnd); err == nil {
			if err := l.StorageVolDelete(was, 0); err != nil {
				return err
			}
		}
		text, err := memoryOnly(m, file)
		if err != nil {
			return err
		}
		if _, err := l.DomainSnapshotCreateXML(m.Domain, text, uint32(libvirt.DomainSnapshotCreateNoMetadata)); err != nil {
			return err
		}
	}
	return l.StoragePoolRefresh(at.pool, 0) // it is not the pool that wrote it
}

// memoryOnly describes a snapshot of the memory of a machine and of none of its disks.
func memoryOnly(m *domain, file string) (string, error) {
	want := libvirtxml.DomainSnapshot{Memory: &libvirtxml.DomainSnapshotMemory{Snapshot: "external", File: file}, Disks: &libvirtxml.DomainSnapshotDisks{}}
	for _, disk := range m.def.Devices.Disks {
		want.Disks.Disks = append(want.Disks.Disks, libvirtxml.DomainSnapshotDisk{Name: disk.Target.Dev, Snapshot: "no"})
	}
	return want.Marshal()
}

// folderOf is the folder of a pool that keeps files, "" of any other.
func folderOf(l *libvirt.Libvirt, pool libvirt.StoragePool) (string, error) {
	text, err := l.StoragePoolGetXMLDesc(pool, 0)
	if err != nil {
		return "", err
	}
	var def libvirtxml.StoragePool
	if err := xml.Unmarshal([]byte(text), &def); err != nil {
		return "", err
	}
	switch def.Type {
	case "dir", "fs", "netfs":
		return def.Target.Path, nil
	}
	return "", nil
}

// Recall has a machine that is off go on from what a snapshot keeps of its memory.
func (d *Driver) Recall(ctx context.Context, snapshot, instance string) error {
	doing := "recall " + snapshot
	_, err := first(d, kinds.Snapshot, snapshot, func(h *host) (struct{}, error) {
		return struct{}{}, h.within(ctx, copying, doing, func(ctx context.Context, l *libvirt.Libvirt) error {
			from, n, err := h.kept(ctx, l, snapshot)
			if err != nil {
				return err
			}
			if !n.Memory || n.Of != instance {
				return d.fail(site.Refused, doing, "it is not of the memory of %s", instance)
			}
			m, err := domainOf(l, instance)
			if absent(err) {
				return d.fail(site.Refused, doing, "there is no machine %s at %s", instance, h.name)
			} else if err != nil {
				return err
			}
			if m.on() {
				return d.fail(site.Conflict, doing, "%s is on: switch it off first", m.title())
			}
			return l.DomainRestoreFlags(from.vol.Key, nil, uint32(libvirt.DomainSaveRunning))
		})
	})
	return err
}

// kept is what a snapshot keeps, and its note.
func (h *host) kept(ctx context.Context, l *libvirt.Libvirt, snapshot string) (found, note, error) {
	from, err := find(l, ours+snapshot+dataEnd)
	if err != nil {
		return from, note{}, err
	}
	about, err := l.StorageVolLookupByName(from.pool, ours+snapshot+noteEnd)
	if err != nil {
		return from, note{}, err
	}
	n, err := h.readNote(ctx, about)
	return from, n, err
}
