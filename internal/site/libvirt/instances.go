package libvirt

import (
	"context"
	"fmt"
	"math"
	"path"
	"regexp"
	"strconv"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/core/kinds"
	"andamio/internal/nocloud"
	"andamio/internal/site"
)

// The names that a system and a seed take (RFC 1123, section 2.1).
var hostname = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$`)

// createInstance makes a machine: a note that it is in the making, its disk from the image, its seed, its definition; it is switched on,
// and the note taken away. Whatever is broken off in between leaves the note, by which it is found and removed.
func (d *Driver) createInstance(ctx context.Context, r site.Request) (site.Resource, error) {
	h, err := d.zone(r)
	if err != nil {
		return site.Resource{}, err
	}
	if !hostname.MatchString(r.Hostname) {
		return site.Resource{}, d.fail(site.Refused, "create instance "+r.Name, "%q is no host name", r.Hostname)
	}
	if r.Cores < 1 || r.MemoryGiB <= 0 {
		return site.Resource{}, d.fail(site.Refused, "create instance "+r.Name, "cores and memory must be said: hosts with libvirt have no named sizes")
	}
	kvm, err := d.accelerated(ctx, h)
	if err != nil {
		return site.Resource{}, err
	}
	id := d.idOf(r)
	err = h.within(ctx, copying, "create instance "+r.Name, func(ctx context.Context, l *libvirt.Libvirt) error {
		there, err := domainOf(l, id)
		if err == nil {
			return d.finish(l, there, r.Asleep)
		}
		if !absent(err) {
			return err
		}
		return d.build(ctx, l, h, id, r, kvm)
	})
	if err != nil {
		return site.Resource{}, err
	}
	return h.instance(ctx, d, id)
}

// build makes a machine that is not there.
func (d *Driver) build(ctx context.Context, l *libvirt.Libvirt, h *host, id string, r site.Request, kvm bool) error {
	pool, err := h.poolNamed(l, classOr(r.Class, d.pool))
	if err != nil {
		return err
	}
	image, err := d.imageNamed(l, h, r.Image)
	if err != nil {
		return err
	}
	err = h.make(ctx, l, pool, id, note{Kind: kinds.Instance, Name: r.Name, Mark: r.Mark}, func() error {
		def, err := d.prepare(ctx, l, h, pool, image, id, r, kvm)
		if err != nil {
			return err
		}
		text, err := def.Marshal()
		if err != nil {
			return err
		}
		if _, err := l.DomainDefineXMLFlags(text, libvirt.DomainDefineValidate); err != nil {
			return err
		}
		m, err := domainOf(l, id)
		if err == nil && !r.Asleep {
			_, err = l.DomainCreateWithFlags(m.Domain, 0)
		}
		if err != nil && m != nil {
			_ = l.DomainUndefineFlags(m.Domain, 0)
		}
		return err
	})
	if err != nil {
		return err
	}
	made, err := l.StorageVolLookupByName(pool, ours+id+noteEnd)
	if err == nil {
		err = l.StorageVolDelete(made, 0) // its definition says all by now
	}
	return gone(err)
}

// prepare makes the disk and the seed of a machine, and says what it is to be.
func (d *Driver) prepare(ctx context.Context, l *libvirt.Libvirt, h *host, pool libvirt.StoragePool, image libvirt.StorageVol, id string, r site.Request, kvm bool) (*libvirtxml.Domain, error) {
	disk, err := d.diskFrom(l, pool, image, id, r.DiskGiB)
	if err != nil {
		return nil, err
	}
	s, err := nocloud.New(id, r.Hostname, r.PublicKey)
	if err != nil {
		return nil, err
	}
	seed, err := h.fill(ctx, l, pool, ours+id+seedEnd, s)
	if err != nil {
		return nil, err
	}
	keptDisk, err := keptAt(l, disk)
	if err != nil {
		return nil, err
	}
	keptSeed, err := keptAt(l, seed)
	if err != nil {
		return nil, err
	}
	return machine(id, r, mark{Name: r.Name, Mark: r.Mark, HostKey: s.Public, Image: r.Image, Hostname: r.Hostname, Asleep: r.Asleep}, keptDisk, keptSeed, kvm), nil
}

// finish switches a machine on that is in the making, and has it be no more so. One that is made already stays as it is.
func (d *Driver) finish(l *libvirt.Libvirt, m *domain, asleep bool) error {
	at, err := find(l, ours+m.id()+noteEnd)
	if err != nil {
		return gone(err)
	}
	if !m.on() && !asleep {
		if _, err := l.DomainCreateWithFlags(m.Domain, 0); err != nil {
			return err
		}
	}
	return gone(l.StorageVolDelete(at.vol, 0))
}

// imageNamed is an image by its name, with or without the ending of its file.
func (d *Driver) imageNamed(l *libvirt.Libvirt, h *host, name string) (libvirt.StorageVol, error) {
	pool, err := h.poolNamed(l, d.images)
	if err != nil {
		return libvirt.StorageVol{}, err
	}
	all, _, err := l.StoragePoolListAllVolumes(pool, 1, 0)
	if err != nil {
		return libvirt.StorageVol{}, err
	}
	for _, vol := range all {
		if vol.Name == name || imageName(vol.Name) == name {
			return vol, nil
		}
	}
	return libvirt.StorageVol{}, d.fail(site.Refused, "create instance", "%s has no image called %s in pool %s", h.name, name, d.images)
}

// imageName is the name of an image by that of its volume.
func imageName(volume string) string {
	switch end := path.Ext(volume); end {
	case ".qcow2", ".img", ".raw":
		return strings.TrimSuffix(volume, end)
	}
	return volume
}

// diskFrom copies an image to a disk of plain bytes, which is as large as was asked for, and no smaller than the image. A copy that was
// broken off is made anew.
func (d *Driver) diskFrom(l *libvirt.Libvirt, pool libvirt.StoragePool, image libvirt.StorageVol, id string, size float64) (libvirt.StorageVol, error) {
	name := ours + id + diskEnd
	if was, err := l.StorageVolLookupByName(pool, name); err == nil {
		if err := l.StorageVolDelete(was, 0); err != nil {
			return was, err
		}
	}
	_, least, _, err := l.StorageVolGetInfo(image)
	if err != nil {
		return image, err
	}
	disk, err := l.StorageVolCreateXMLFrom(pool, raw(name, least), image, 0)
	if more := bytesOf(size); err == nil && more > least {
		err = l.StorageVolResize(disk, more, 0) // a copy is never larger than what it is of
	}
	return disk, err
}

// kept is where a disk is, and whether that is a device.
type kept struct {
	path  string
	block bool
}

// keptAt is where a volume is.
func keptAt(l *libvirt.Libvirt, vol libvirt.StorageVol) (kept, error) {
	kind, _, _, err := l.StorageVolGetInfo(vol)
	return kept{path: vol.Key, block: libvirt.StorageVolType(kind) == libvirt.StorageVolBlock}, err
}

// fill writes a seed to a volume.
func (h *host) fill(ctx context.Context, l *libvirt.Libvirt, pool libvirt.StoragePool, name string, s *nocloud.Seed) (libvirt.StorageVol, error) {
	data, err := s.Image()
	if err != nil {
		return libvirt.StorageVol{}, err
	}
	vol, err := l.StorageVolCreateXML(pool, raw(name, uint64(len(data))), 0)
	if is(err, libvirt.ErrStorageVolExist) {
		vol, err = l.StorageVolLookupByName(pool, name)
	}
	if err != nil {
		return vol, err
	}
	return vol, h.upload(ctx, vol, 0, data)
}

// machine is the definition of one.
func machine(id string, r site.Request, own mark, disk, seed kept, kvm bool) *libvirtxml.Domain {
	port := uint(0)
	by, cpu := "qemu", "maximum"
	if kvm {
		by, cpu = "kvm", "host-passthrough"
	}
	return &libvirtxml.Domain{
		Type: by, UUID: id, Name: libvirtName(r.Hostname, id), Title: r.Name, Metadata: &libvirtxml.DomainMetadata{XML: own.text(Namespace)},
		Memory: &libvirtxml.DomainMemory{Value: kib(r.MemoryGiB), Unit: "KiB"}, VCPU: &libvirtxml.DomainVCPU{Value: uint(r.Cores)},
		OS:       &libvirtxml.DomainOS{Type: &libvirtxml.DomainOSType{Arch: "x86_64", Machine: "pc", Type: "hvm"}, BootDevices: []libvirtxml.DomainBootDevice{{Dev: "hd"}}},
		Features: &libvirtxml.DomainFeatureList{ACPI: &libvirtxml.DomainFeature{}, APIC: &libvirtxml.DomainFeatureAPIC{}},
		CPU:      &libvirtxml.DomainCPU{Mode: cpu}, Clock: &libvirtxml.DomainClock{Offset: "utc"},
		OnPoweroff: "destroy", OnReboot: "restart", OnCrash: "destroy",
		Devices: &libvirtxml.DomainDeviceList{
			Disks: []libvirtxml.DomainDisk{*plainDisk(disk, "vda", ""), *readOnly(plainDisk(seed, "vdb", ""))},
			Serials: []libvirtxml.DomainSerial{{Source: &libvirtxml.DomainChardevSource{Pty: &libvirtxml.DomainChardevSourcePty{}},
				Log: consoleLog(disk, id), Target: &libvirtxml.DomainSerialTarget{Port: &port}}},
			RNGs: []libvirtxml.DomainRNG{{Model: "virtio", Backend: &libvirtxml.DomainRNGBackend{Random: &libvirtxml.DomainRNGBackendRandom{Device: "/dev/urandom"}}}},
		},
	}
}

func kib(size float64) uint { return uint(math.Round(size * (1 << 20))) }

// libvirtName is a name that no other machine of the host has, and that people know again.
func libvirtName(name, id string) string { return name + "-" + id[:8] }

// plainDisk is a disk of plain bytes.
func plainDisk(of kept, dev, serial string) *libvirtxml.DomainDisk {
	out := &libvirtxml.DomainDisk{Device: "disk", Driver: &libvirtxml.DomainDiskDriver{Name: "qemu", Type: "raw", Discard: "unmap"},
		Source: &libvirtxml.DomainDiskSource{File: &libvirtxml.DomainDiskSourceFile{File: of.path}}, Target: &libvirtxml.DomainDiskTarget{Dev: dev, Bus: "virtio"}, Serial: serial}
	if of.block {
		out.Source = &libvirtxml.DomainDiskSource{Block: &libvirtxml.DomainDiskSourceBlock{Dev: of.path}}
	}
	return out
}

func readOnly(disk *libvirtxml.DomainDisk) *libvirtxml.DomainDisk {
	disk.ReadOnly = &libvirtxml.DomainDiskReadOnly{}
	return disk
}

// consoleLog is where what a machine writes to its serial console is kept: beside its disk, where that is a file.
func consoleLog(disk kept, id string) *libvirtxml.DomainChardevLog {
	if disk.block {
		return nil
	}
	return &libvirtxml.DomainChardevLog{File: path.Join(path.Dir(disk.path), ours+id+logEnd), Append: "on"}
}

// instance is a machine.
func (h *host) instance(ctx context.Context, d *Driver, id string) (site.Resource, error) {
	return told(ctx, h, "read instance", func(ctx context.Context, l *libvirt.Libvirt) (site.Resource, error) {
		n, err := h.noted(ctx, l, id)
		if err != nil {
			return site.Resource{}, err
		}
		m, err := domainOf(l, id)
		if err != nil && (n == nil || !absent(err)) {
			return site.Resource{}, err
		}
		r := h.instanceAs(m, id, n)
		if m != nil {
			if size := sizeOf(l, m); size != "" {
				r.Details.Raw["disk"] = size
			}
		}
		return r, nil
	})
}

// noted is the note of a machine in the making; nil if it is not.
func (h *host) noted(ctx context.Context, l *libvirt.Libvirt, id string) (*note, error) {
	at, err := find(l, ours+id+noteEnd)
	if err != nil {
		return nil, gone(err)
	}
	n, err := h.readNote(ctx, at.vol)
	if err != nil || n.Kind != kinds.Instance {
		return nil, gone(err)
	}
	return &n, nil
}

// instances are all machines of a host, with those in the making.
func (h *host) instances(ctx context.Context, d *Driver) ([]site.Resource, error) {
	return answer(ctx, h, copying, "list instance", func(ctx context.Context, l *libvirt.Libvirt) ([]site.Resource, error) {
		var out []site.Resource
		made, err := h.inTheMaking(ctx, l)
		if err != nil {
			return nil, err
		}
		all, err := h.domains(l)
		if err != nil {
			return nil, err
		}
		for i := range all {
			id := all[i].id()
			out = append(out, h.instanceAs(&all[i], id, made[id]))
			delete(made, id)
		}
		for id, n := range made {
			out = append(out, h.instanceAs(nil, id, n))
		}
		return out, nil
	})
}

// inTheMaking are the notes of machines.
func (h *host) inTheMaking(ctx context.Context, l *libvirt.Libvirt) (map[string]*note, error) {
	out := map[string]*note{}
	pools, _, err := l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive)
	if err != nil {
		return nil, err
	}
	for _, pool := range pools {
		all, _, err := l.StoragePoolListAllVolumes(pool, 1, 0)
		if err != nil {
			return nil, err
		}
		of := map[string]bool{}
		for _, vol := range all {
			if id, end, own := parted(vol.Name); own && end == dataEnd {
				of[id] = true // a volume's or snapshot's
			}
		}
		for _, vol := range all {
			id, end, own := parted(vol.Name)
			if !own || end != noteEnd || of[id] {
				continue
			}
			n, err := h.readNote(ctx, vol)
			if err != nil && !absent(err) {
				return nil, err
			}
			if err == nil && n.Kind == kinds.Instance {
				out[id] = &n
			}
		}
	}
	return out, nil
}

// instanceAs is a machine as a site's resource; m is nil where it is not defined yet, and n where it is not in the making.
func (h *host) instanceAs(m *domain, id string, n *note) site.Resource {
	r := site.Resource{Kind: kinds.Instance, ID: id, Attributes: map[string]string{}, Details: &site.Details{Type: "domain", Region: h.name, Raw: map[string]string{"host": h.name}}}
	if m != nil {
		r.Name, r.Mark = m.title(), m.marks[""].Mark
		r.State, r.Word = states[m.state].state, states[m.state].word
		h.detail(m, r.Details.Raw)
	} else {
		r.Name, r.Mark = n.Name, n.Mark
	}
	if n != nil {
		r.State, r.Word = site.Building, "being made"
		if n.stale() {
			r.State, r.Word = site.Failed, "half made: whoever asked for it broke off"
		}
	}
	return r
}

// detail is what a host tells of a machine beside its state.
func (h *host) detail(m *domain, raw map[string]string) {
	own := m.marks[""]
	set := func(name, value string) {
		if value != "" {
			raw[name] = value
		}
	}
	set("name", m.Name)
	set("hostname", own.Hostname)
	set("image", own.Image)
	if m.def.VCPU != nil {
		set("cores", strconv.Itoa(int(m.def.VCPU.Value)))
	}
	if mem := m.def.Memory; mem != nil {
		set("memory", strconv.FormatUint(inBytes(uint64(mem.Value), mem.Unit), 10))
	}
	set("hypervisor", m.def.Type)
	for _, t := range own.Tags {
		set("tag."+t.Name, t.Value)
	}
}

// inBytes is an amount of memory in bytes; without a unit it is KiB.
func inBytes(n uint64, unit string) uint64 {
	switch unit {
	case "b", "bytes":
		return n
	case "MiB", "M":
		return n << 20
	case "GiB", "G":
		return n << 30
	}
	return n << 10
}

// changeInstance renames, tags or resizes a machine; it is resized while it is off.
func (h *host) changeInstance(ctx context.Context, d *Driver, id string, r site.Request) (site.Resource, error) {
	err := h.call(ctx, "change instance", func(ctx context.Context, l *libvirt.Libvirt) error {
		m, err := domainOf(l, id)
		if err != nil {
			return err
		}
		if r.Rename != "" || len(r.Tags) > 0 {
			own := m.marks[""]
			own.Name = classOr(r.Rename, m.title())
			own.retag(r.Tags)
			if err := keep(l, m, Namespace, &own); err != nil {
				return err
			}
		}
		if r.Cores == 0 {
			return nil
		}
		return h.resize(l, m, r)
	})
	if err != nil {
		return site.Resource{}, err
	}
	return h.instance(ctx, d, id)
}

// resize gives a machine that is off other cores, memory and a larger disk.
func (h *host) resize(l *libvirt.Libvirt, m *domain, r site.Request) error {
	if m.on() {
		return &site.Error{Site: h.site, Doing: "change instance", Class: site.Conflict, Detail: "it is on: switch it off first"}
	}
	if len(m.def.Devices.Disks) > 0 && r.DiskGiB > 0 {
		if vol, err := l.StorageVolLookupByPath(sourceOf(&m.def.Devices.Disks[0])); err == nil {
			_, capacity, _, err := l.StorageVolGetInfo(vol)
			if err != nil {
				return err
			}
			if more := bytesOf(r.DiskGiB); more > capacity {
				if err := l.StorageVolResize(vol, more, 0); err != nil {
					return err
				}
			}
		}
	}
	text, err := l.DomainGetXMLDesc(m.Domain, libvirt.DomainXMLSecure|libvirt.DomainXMLInactive)
	if err != nil {
		return err
	}
	var def libvirtxml.Domain
	if err := def.Unmarshal(text); err != nil {
		return fmt.Errorf("%w: %w", errUnread, err)
	}
	def.VCPU = &libvirtxml.DomainVCPU{Value: uint(r.Cores)}
	def.Memory, def.CurrentMemory = &libvirtxml.DomainMemory{Value: kib(r.MemoryGiB), Unit: "KiB"}, nil
	if text, err = def.Marshal(); err != nil {
		return err
	}
	_, err = l.DomainDefineXMLFlags(text, libvirt.DomainDefineValidate)
	return err
}

// deleteInstance removes a machine with its disk, its seed and the addresses that it was given; the definition goes last but for the
// note, so that what is broken off can be gone on with.
func (h *host) deleteInstance(ctx context.Context, d *Driver, id string) error {
	return h.call(ctx, "delete instance", func(ctx context.Context, l *libvirt.Libvirt) error {
		m, err := domainOf(l, id)
		if err != nil && !absent(err) {
			return err
		}
		if err == nil {
			if err := h.undo(ctx, l, m); err != nil {
				return err
			}
		}
		if err == nil {
			if err := h.unflat(l, m); err != nil {
				return err
			}
		}
		if at, err := find(l, ours+id+diskEnd); err == nil {
			_ = l.StoragePoolRefresh(at.pool, 0) // what QEMU wrote beside it is not known yet
		}
		was := 0
		for _, end := range []string{diskEnd, seedEnd, logEnd} {
			at, err := find(l, ours+id+end)
			if err == nil {
				was++
				err = l.StorageVolDelete(at.vol, 0)
			}
			if gone(err) != nil {
				return err
			}
		}
		if m != nil {
			was++
			err := l.DomainUndefineFlags(m.Domain, libvirt.DomainUndefineManagedSave|libvirt.DomainUndefineSnapshotsMetadata|libvirt.DomainUndefineNvram|libvirt.DomainUndefineCheckpointsMetadata)
			if gone(err) != nil {
				return err
			}
		}
		at, err := find(l, ours+id+noteEnd)
		if err == nil {
			was++
			err = l.StorageVolDelete(at.vol, 0)
		}
		if was == 0 && absent(err) {
			return err
		}
		return gone(err)
	})
}

// undo switches a machine off at once, and gives back the addresses that it was given.
func (h *host) undo(ctx context.Context, l *libvirt.Libvirt, m *domain) error {
	if m.on() {
		if err := l.DomainDestroyFlags(m.Domain, 0); err != nil && !is(err, libvirt.ErrOperationInvalid) {
			return gone(err)
		}
	}
	for id, of := range m.marks {
		if id != "" && of.Kind == string(kinds.Interface) {
			if err := h.unreserve(ctx, l, of.Target, of.MAC); err != nil {
				return err
			}
		}
	}
	return nil
}
