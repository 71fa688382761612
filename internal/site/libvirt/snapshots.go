package libvirt

import (
	"context"
	"encoding/xml"
	"strings"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// diskOf is the disk of an id: a volume's, a snapshot's, or a machine's own.
func diskOf(l *libvirt.Libvirt, id string) (found, error) {
	at, err := find(l, ours+id+dataEnd)
	if absent(err) {
		at, err = find(l, ours+id+diskEnd)
	}
	if absent(err) {
		return othersDisk(l, id)
	}
	return at, err
}

// createSnapshot keeps what a disk holds in a volume of its own, in the same pool: by copying where nobody writes, and through the machine
// that has it, as of one moment, where it is on.
func (d *Driver) createSnapshot(ctx context.Context, r site.Request) (site.Resource, error) {
	if r.Memory {
		return d.keepMemory(ctx, r)
	}
	id := d.idOf(r)
	out, err := first(d, kinds.Volume, r.Source, func(h *host) (site.Resource, error) {
		err := h.within(ctx, copying, "create snapshot "+r.Name, func(ctx context.Context, l *libvirt.Libvirt) error {
			at, err := diskOf(l, r.Source)
			if err != nil {
				return err
			}
			n := note{Kind: kinds.Snapshot, Name: r.Name, Mark: r.Mark, Of: r.Source}
			return h.taken(ctx, l, at.pool, id, n, func() error { return h.copyDisk(ctx, l, at, id) })
		})
		if err != nil {
			return site.Resource{}, err
		}
		return h.volume(ctx, d, kinds.Snapshot, id)
	})
	if site.ClassOf(err) == site.NotFound && err != nil {
		return out, d.fail(site.Refused, "create snapshot "+r.Name, "there is no disk %s", r.Source)
	}
	return out, err
}

// taken has a snapshot be taken that a note stands for, unless it was: whoever asked for it may not have heard that.
func (h *host) taken(ctx context.Context, l *libvirt.Libvirt, pool libvirt.StoragePool, id string, n note, take func() error) error {
	if was, err := l.StorageVolLookupByName(pool, ours+id+noteEnd); err == nil {
		if kept, err := h.readNote(ctx, was); err != nil || !kept.Taken.IsZero() {
			return err
		}
	} else if !absent(err) {
		return err
	}
	if err := h.make(ctx, l, pool, id, n, take); err != nil {
		return err
	}
	n.Taken = time.Now()
	return h.keepNote(ctx, l, pool, id, n)
}

// copyEnd is the ending of what a running machine copies to: qcow2, in which it need not write what is empty.
const copyEnd = ".copy"

// copyDisk copies a disk to the volume of an id. What was begun before is thrown away.
func (h *host) copyDisk(ctx context.Context, l *libvirt.Libvirt, at found, id string) error {
	return h.copyTo(ctx, l, at, ours+id+dataEnd, ours+id+copyEnd)
}

// copyTo copies a disk to a volume of plain bytes of a name, by way of one of another where it is that of a running machine.
func (h *host) copyTo(ctx context.Context, l *libvirt.Libvirt, at found, name, way string) error {
	for _, one := range []string{name, way} {
		if was, err := l.StorageVolLookupByName(at.pool, one); err == nil {
			if err := l.StorageVolDelete(was, 0); err != nil {
				return err
			}
		}
	}
	_, capacity, _, err := l.StorageVolGetInfo(at.vol)
	if err != nil {
		return err
	}
	user, disk, err := h.userOf(l, at.vol.Key)
	if err != nil {
		return err
	}
	if user == nil || !user.on() {
		_, err = l.StorageVolCreateXMLFrom(at.pool, raw(name, capacity), at.vol, 0)
		return err
	}
	to, err := l.StorageVolCreateXML(at.pool, strings.Replace(raw(way, capacity), "'raw'", "'qcow2'", 1), 0)
	if err != nil {
		return err
	}
	if err := h.backUp(ctx, l, user, disk.Target.Dev, to.Key); err != nil {
		return err
	}
	if _, err := l.StorageVolCreateXMLFrom(at.pool, raw(name, capacity), to, 0); err != nil {
		return err
	}
	err = l.StorageVolDelete(to, 0)
	_ = l.StoragePoolRefresh(at.pool, 0) // the daemon takes the copy off the pool's sum as large as it was when it was made
	return err
}

// backup is what a machine is told to copy while it runs; see "Backup XML format" of libvirt.
type backup struct {
	XMLName xml.Name     `xml:"domainbackup"`
	Mode    string       `xml:"mode,attr"`
	Disks   []backupDisk `xml:"disks>disk"`
}

type backupDisk struct {
	Name   string        `xml:"name,attr"`
	Backup string        `xml:"backup,attr"`
	Type   string        `xml:"type,attr,omitempty"`
	Target *backupTarget `xml:"target"`
	Driver *backupDriver `xml:"driver"`
}

type backupTarget struct {
	File string `xml:"file,attr"`
}

type backupDriver struct {
	Type string `xml:"type,attr"`
}

// backUp has a running machine copy one of its disks, as it is when the copy begins, and waits for that. A machine makes one such copy at a
// time.
func (h *host) backUp(ctx context.Context, l *libvirt.Libvirt, m *domain, dev, file string) error {
	want := backup{Mode: "push"}
	for _, disk := range m.def.Devices.Disks {
		one := backupDisk{Name: disk.Target.Dev, Backup: "no"}
		if one.Name == dev {
			one.Backup, one.Type, one.Target, one.Driver = "yes", "file", &backupTarget{file}, &backupDriver{"qcow2"}
		}
		want.Disks = append(want.Disks, one)
	}
	text, err := xml.Marshal(want)
	if err != nil {
		return err
	}
	unlock := h.alone(m.id())
	defer unlock()
	for {
		err := l.DomainBackupBegin(m.Domain, string(text), nil, libvirt.DomainBackupBeginReuseExternal)
		if err == nil {
			return h.backedUp(ctx, l, m)
		}
		if !is(err, libvirt.ErrOperationInvalid) { // another copy is on its way
			return err
		}
		if err := wait(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

// alone keeps others of this process from copying disks of a machine meanwhile.
func (h *host) alone(machine string) (unlock func()) {
	h.mu.Lock()
	if h.jobs == nil {
		h.jobs = map[string]*sync.Mutex{}
	}
	one := h.jobs[machine]
	if one == nil {
		one = &sync.Mutex{}
		h.jobs[machine] = one
	}
	h.mu.Unlock()
	one.Lock()
	return one.Unlock
}

// backedUp waits until the copy of a machine's disk is whole; one that is waited for no more is ended.
func (h *host) backedUp(ctx context.Context, l *libvirt.Libvirt, m *domain) error {
	for {
		kind, _, err := l.DomainGetJobStats(m.Domain, 0)
		if err != nil {
			return err
		}
		if libvirt.DomainJobType(kind) == libvirt.DomainJobNone {
			return h.copied(l, m)
		}
		if err := wait(ctx, 50*time.Millisecond); err != nil {
			_ = l.DomainAbortJob(m.Domain)
			return err
		}
	}
}

// copied says what came of a machine's last copy.
func (h *host) copied(l *libvirt.Libvirt, m *domain) error {
	kind, _, err := l.DomainGetJobStats(m.Domain, libvirt.DomainJobStatsCompleted|libvirt.DomainJobStatsKeepCompleted)
	if err == nil && libvirt.DomainJobType(kind) != libvirt.DomainJobCompleted {
		err = &site.Error{Site: h.site, Doing: "copy a disk", Class: site.Transient, Detail: m.title() + " did not copy it to the end"}
	}
	return err
}

// wait waits, at most until the context ends.
func wait(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Restore has a disk, whose machine is off, hold what a snapshot keeps, and nothing else.
func (d *Driver) Restore(ctx context.Context, snapshot, disk string) error {
	_, err := first(d, kinds.Snapshot, snapshot, func(h *host) (struct{}, error) {
		return struct{}{}, h.within(ctx, copying, "restore "+snapshot, func(ctx context.Context, l *libvirt.Libvirt) error {
			from, n, err := h.kept(ctx, l, snapshot)
			if err != nil {
				return err
			}
			if n.Memory {
				return d.fail(site.Refused, "restore "+snapshot, "it is of memory, and of no disk")
			}
			to, err := diskOf(l, disk)
			if absent(err) {
				return d.fail(site.Refused, "restore "+snapshot, "there is no disk %s at %s", disk, h.name)
			} else if err != nil {
				return err
			}
			user, _, err := h.userOf(l, to.vol.Key)
			if err != nil {
				return err
			}
			if user != nil && user.on() {
				return d.fail(site.Conflict, "restore "+snapshot, "%s is on: switch it off first", user.title())
			}
			return h.refill(ctx, l, from.vol, to.vol)
		})
	})
	return err
}

// refill writes what one disk holds to another, and zeros where it holds nothing.
func (h *host) refill(ctx context.Context, l *libvirt.Libvirt, from, to libvirt.StorageVol) error {
	_, size, _, err := l.StorageVolGetInfo(from)
	if err != nil {
		return err
	}
	_, room, _, err := l.StorageVolGetInfo(to)
	if err != nil {
		return err
	}
	if room < size {
		if err := l.StorageVolResize(to, size, 0); err != nil {
			return err
		}
	}
	return h.eachPart(ctx, from, size, func(at uint64, data []byte) error { return h.writeChanged(ctx, to, at, data) })
}
