package libvirt

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// A link's id is that of its machine and, after a point, the hardware address of an interface without its colons, or the id of the
// volume that is attached.

func linkID(machine, rest string) string { return machine + "." + strings.ReplaceAll(rest, ":", "") }

// shortSerial is what a disk in a machine bears of the id of its volume: a serial number has room for twenty letters.
func shortSerial(volume string) string {
	bare := strings.ReplaceAll(volume, "-", "")
	return bare[:min(20, len(bare))]
}

func (m *domain) nics() []libvirtxml.DomainInterface {
	if m.def.Devices == nil {
		return nil
	}
	return m.def.Devices.Interfaces
}

// macOf is a hardware address that follows from an id, of those that QEMU's makers set apart for it.
func macOf(id string) string {
	sum := sha256.Sum256([]byte(id))
	return fmt.Sprintf("52:54:00:%02x:%02x:%02x", sum[0], sum[1], sum[2])
}

// createInterface plugs a machine into a network: an address is kept for it there, what it is is noted in the machine's definition, and
// the interface put in, into the running machine too.
func (d *Driver) createInterface(ctx context.Context, r site.Request) (site.Resource, error) {
	mac := classOr(strings.ToLower(r.MAC), macOf(d.idOf(r)))
	id := linkID(r.Source, mac)
	return first(d, kinds.Instance, r.Source, func(h *host) (site.Resource, error) {
		err := h.call(ctx, "create interface "+r.Name, func(ctx context.Context, l *libvirt.Libvirt) error {
			m, err := domainOf(l, r.Source)
			if err != nil {
				return err
			}
			n, err := netOf(l, r.Target)
			if absent(err) {
				return d.fail(site.Refused, "create interface "+r.Name, "there is no network %s", r.Target)
			} else if err != nil {
				return err
			}
			address, err := h.reserve(ctx, l, n, r.Target, mac, r.Address)
			if err != nil {
				return err
			}
			own := mark{Name: r.Name, Mark: r.Mark, Kind: string(kinds.Interface), Target: r.Target, Address: address, MAC: mac, Ports: joined(r.Ports), Begun: time.Now().Unix()}
			if err := keep(l, m, linkSpace(id), &own); err != nil {
				return err
			}
			return put(l, m, m.nic(mac) != nil, &libvirtxml.DomainInterface{MAC: &libvirtxml.DomainInterfaceMAC{Address: mac}, Model: &libvirtxml.DomainInterfaceModel{Type: "virtio"},
				Source: &libvirtxml.DomainInterfaceSource{Network: &libvirtxml.DomainInterfaceSourceNetwork{Network: n.Name}}})
		})
		if err != nil {
			return site.Resource{}, err
		}
		return h.link(ctx, kinds.Interface, id)
	})
}

// device is what can be put into a machine.
type device interface{ Marshal() (string, error) }

// put puts a device into a machine that has not got it.
func put(l *libvirt.Libvirt, m *domain, has bool, what device) error {
	if has {
		return nil
	}
	text, err := what.Marshal()
	if err != nil {
		return err
	}
	return l.DomainAttachDeviceFlags(m.Domain, text, uint32(m.both()))
}

func joined(ports []int) string {
	words := make([]string, len(ports))
	for i, p := range ports {
		words[i] = strconv.Itoa(p)
	}
	return strings.Join(words, ",")
}

// createAttachment puts a volume into a machine as a disk.
func (d *Driver) createAttachment(ctx context.Context, r site.Request) (site.Resource, error) {
	id := linkID(r.Source, r.Target)
	return first(d, kinds.Instance, r.Source, func(h *host) (site.Resource, error) {
		err := h.call(ctx, "attach "+r.Name, func(ctx context.Context, l *libvirt.Libvirt) error {
			defer h.alone("devices of " + r.Source)() // two would be given one name
			m, err := domainOf(l, r.Source)
			if err != nil {
				return err
			}
			at, err := find(l, ours+r.Target+dataEnd)
			if absent(err) {
				return d.fail(site.Refused, "attach "+r.Name, "there is no volume %s at %s", r.Target, h.name)
			} else if err != nil {
				return err
			}
			user, _, err := h.userOf(l, at.vol.Key)
			if err != nil {
				return err
			}
			if user != nil && user.id() != r.Source {
				return d.fail(site.Conflict, "attach "+r.Name, "it is attached to %s", user.title())
			}
			own := mark{Name: r.Name, Mark: r.Mark, Kind: string(kinds.Attachment), Target: r.Target, Location: r.Location, Begun: time.Now().Unix()}
			if err := keep(l, m, linkSpace(id), &own); err != nil {
				return err
			}
			where, err := keptAt(l, at.vol)
			if err != nil {
				return err
			}
			n, err := h.noteOf(ctx, l, r.Target)
			if err != nil {
				return err
			}
			return put(l, m, user != nil, n.bounded(plainDisk(where, m.freeDev(), shortSerial(r.Target))))
		})
		if err != nil {
			return site.Resource{}, err
		}
		return h.link(ctx, kinds.Attachment, id)
	})
}

// freeDev is the first name that no disk of a machine has. The guest need not follow it: it knows its disks by their serial numbers.
func (m *domain) freeDev() string {
	for c := 'b'; c <= 'z'; c++ {
		dev := "vd" + string(c)
		if !slices.ContainsFunc(m.def.Devices.Disks, func(d libvirtxml.DomainDisk) bool { return d.Target != nil && d.Target.Dev == dev }) {
			return dev
		}
	}
	return "vdz"
}

// link is an interface or attachment.
func (h *host) link(ctx context.Context, kind kinds.Kind, id string) (site.Resource, error) {
	machine, _, _ := strings.Cut(id, ".")
	return told(ctx, h, "read "+string(kind), func(_ context.Context, l *libvirt.Libvirt) (site.Resource, error) {
		m, err := domainOf(l, machine)
		if err != nil {
			return site.Resource{}, err
		}
		nets, err := namedNets(l, kind)
		if err != nil {
			return site.Resource{}, err
		}
		for _, r := range h.linksOf(m, kind, nets) {
			if r.ID == id {
				return r, nil
			}
		}
		return site.Resource{}, libvirt.Error{Code: uint32(libvirt.ErrDeviceMissing), Message: "it is not there"}
	})
}

// links are all interfaces or attachments of a host.
func (h *host) links(ctx context.Context, kind kinds.Kind) ([]site.Resource, error) {
	return answer(ctx, h, copying, "list "+string(kind), func(_ context.Context, l *libvirt.Libvirt) ([]site.Resource, error) {
		nets, err := namedNets(l, kind)
		if err != nil {
			return nil, err
		}
		var out []site.Resource
		all, err := h.domains(l)
		for i := range all {
			out = append(out, h.linksOf(&all[i], kind, nets)...)
		}
		return out, err
	})
}

// namedNets are the networks of a host by the names that machines know them by; attachments have none.
func namedNets(l *libvirt.Libvirt, kind kinds.Kind) (map[string]*subnet, error) {
	out := map[string]*subnet{}
	if kind != kinds.Interface {
		return out, nil
	}
	all, _, err := l.ConnectListAllNetworks(1, 0)
	if err != nil {
		return nil, err
	}
	for _, of := range all {
		n := &subnet{Network: of}
		err := n.describe(l)
		if err == nil {
			out[n.Name] = n
			err = n.lease(l)
		}
		if gone(err) != nil {
			return nil, err
		}
	}
	return out, nil
}

// linksOf are the interfaces or attachments of a machine, with those of which there is but the note.
func (h *host) linksOf(m *domain, kind kinds.Kind, nets map[string]*subnet) []site.Resource {
	var out []site.Resource
	seen := map[string]bool{}
	add := func(r site.Resource) {
		seen[r.ID] = true
		out = append(out, r)
	}
	switch kind {
	case kinds.Interface:
		for i := range m.nics() {
			if nic := &m.nics()[i]; nic.MAC != nil {
				add(h.interfaceAs(m, nic, nets))
			}
		}
	case kinds.Attachment:
		if m.def.Devices == nil {
			break
		}
		for i := range m.def.Devices.Disks {
			disk := &m.def.Devices.Disks[i]
			if sourceOf(disk) == m.othersDisk() {
				continue // what it starts from is its own
			}
			if vol := volumeOf(disk); vol != "" {
				add(h.attachmentAs(m, disk, vol))
			}
		}
	}
	for id, own := range m.marks {
		if own.Kind != string(kind) || seen[id] {
			continue
		}
		r := h.linkAs(m, kind, id, own)
		r.State, r.Word = site.Building, "being put in"
		if time.Since(time.Unix(own.Begun, 0)) > silence {
			r.State, r.Word = site.Failed, "half made: whoever asked for it broke off"
		}
		out = append(out, r)
	}
	return out
}

// volumeOf is the id of the volume that a disk is, "" for a machine's own disk and its seed.
func volumeOf(disk *libvirtxml.DomainDisk) string {
	source := sourceOf(disk)
	id, end, own := parted(source[strings.LastIndexByte(source, '/')+1:])
	switch {
	case own && end == dataEnd:
		return id
	case own || disk.Device != "disk":
		return ""
	}
	return source
}

// linkAs is what the note of a link says.
func (h *host) linkAs(m *domain, kind kinds.Kind, id string, own mark) site.Resource {
	return site.Resource{Kind: kind, ID: id, Name: own.Name, Mark: own.Mark, State: site.Active, Word: "active", Attributes: map[string]string{},
		Details: &site.Details{Region: h.name, Source: m.id(), Target: own.Target, Raw: map[string]string{}}}
}

func (h *host) interfaceAs(m *domain, nic *libvirtxml.DomainInterface, nets map[string]*subnet) site.Resource {
	mac := strings.ToLower(nic.MAC.Address)
	id := linkID(m.id(), mac)
	own := m.marks[id]
	r := h.linkAs(m, kinds.Interface, id, own)
	r.Details.Type, r.Details.Raw["mac"], r.Details.Raw["ports"] = "interface", mac, own.Ports
	r.Attributes[site.AttrMAC] = mac
	if r.Name == "" {
		r.Name = m.title() + " " + mac
	}
	address := own.Address
	if nic.Source != nil && nic.Source.Network != nil {
		if n := nets[nic.Source.Network.Network]; n != nil {
			r.Details.Target = n.id()
			address = classOr(n.reserved()[mac], classOr(address, n.leases[mac]))
		}
	}
	if address != "" {
		r.Details.Raw["address"] = address
		r.Attributes[site.AttrAddress], r.Attributes[site.AttrSSHPort], r.Attributes[site.AttrSSHUser] = address, "22", "root"
		for _, port := range strings.FieldsFunc(own.Ports, func(c rune) bool { return c == ',' }) {
			r.Attributes[site.AttrPort+port] = port
		}
	}
	if key := m.marks[""].HostKey; key != "" {
		r.Attributes[site.AttrHostKey] = key
	}
	return r
}

func (h *host) attachmentAs(m *domain, disk *libvirtxml.DomainDisk, volume string) site.Resource {
	id := linkID(m.id(), volume)
	own := m.marks[id]
	own.Target = volume
	r := h.linkAs(m, kinds.Attachment, id, own)
	r.Details.Type, r.Details.Raw["location"] = "attachment", own.Location
	if r.Name == "" {
		r.Name = m.title() + " " + volume
	}
	if disk.Serial != "" {
		r.Attributes[site.AttrDevice] = "/dev/disk/by-id/virtio-" + disk.Serial
	} else if disk.Target != nil {
		r.Attributes[site.AttrDevice] = "/dev/" + disk.Target.Dev
	}
	if own.Location != "" {
		r.Attributes[site.AttrMount] = own.Location
	}
	return r
}

// changeInterface gives an interface another address, which its machine asks for at its next start.
func (h *host) changeInterface(ctx context.Context, id string, r site.Request) (site.Resource, error) {
	machine, _, _ := strings.Cut(id, ".")
	err := h.call(ctx, "change interface", func(ctx context.Context, l *libvirt.Libvirt) error {
		m, err := domainOf(l, machine)
		if err != nil {
			return err
		}
		own, is := m.marks[id]
		if !is {
			return libvirt.Error{Code: uint32(libvirt.ErrDeviceMissing), Message: "it is not there, or not ours"}
		}
		if r.Address != "" && r.Address != own.Address {
			if err := h.unreserve(ctx, l, own.Target, own.MAC); err != nil {
				return err
			}
			n, err := netOf(l, own.Target)
			if err != nil {
				return err
			}
			if own.Address, err = h.reserve(ctx, l, n, own.Target, own.MAC, r.Address); err != nil {
				return err
			}
		}
		own.Name = classOr(r.Rename, own.Name)
		own.retag(r.Tags)
		return keep(l, m, linkSpace(id), &own)
	})
	if err != nil {
		return site.Resource{}, err
	}
	return h.link(ctx, kinds.Interface, id)
}

// deleteLink takes an interface or a disk out of a machine. A running machine gives it up when its system does, so that it may be there
// for a while yet; its note goes last.
func (h *host) deleteLink(ctx context.Context, kind kinds.Kind, id string) error {
	machine, rest, _ := strings.Cut(id, ".")
	return h.call(ctx, "delete "+string(kind), func(ctx context.Context, l *libvirt.Libvirt) error {
		m, err := domainOf(l, machine)
		if err != nil {
			return err
		}
		own, noted := m.marks[id]
		what, has := m.device(kind, rest)
		if !has && !noted {
			return libvirt.Error{Code: uint32(libvirt.ErrDeviceMissing), Message: "it is not there"}
		}
		if has {
			return h.pull(l, m, what)
		}
		if own.Kind == string(kinds.Interface) {
			if err := h.unreserve(ctx, l, own.Target, own.MAC); err != nil {
				return err
			}
		}
		return gone(keep(l, m, linkSpace(id), nil))
	})
}

// device is what of a machine a link is.
func (m *domain) device(kind kinds.Kind, rest string) (device, bool) {
	if kind == kinds.Interface {
		for i := range m.nics() {
			if nic := &m.nics()[i]; nic.MAC != nil && strings.EqualFold(strings.ReplaceAll(nic.MAC.Address, ":", ""), rest) {
				return nic, true
			}
		}
		return nil, false
	}
	if m.def.Devices != nil {
		for i := range m.def.Devices.Disks {
			if disk := &m.def.Devices.Disks[i]; volumeOf(disk) == rest {
				return disk, true
			}
		}
	}
	return nil, false
}

// pull takes a device out of what the machine is at its next start, and has the running one give it up.
func (h *host) pull(l *libvirt.Libvirt, m *domain, what device) error {
	text, err := what.Marshal()
	if err != nil {
		return err
	}
	if !m.on() {
		return l.DomainDetachDeviceFlags(m.Domain, text, uint32(libvirt.DomainAffectConfig))
	}
	err = l.DomainDetachDeviceFlags(m.Domain, text, uint32(libvirt.DomainAffectConfig))
	if err != nil && !absent(err) && !is(err, libvirt.ErrInvalidArg) && !is(err, libvirt.ErrOperationFailed) {
		return err
	}
	err = l.DomainDetachDeviceFlags(m.Domain, text, uint32(libvirt.DomainAffectLive))
	if err != nil && !absent(err) && !is(err, libvirt.ErrOperationFailed) && !is(err, libvirt.ErrOperationInvalid) {
		return err
	}
	return nil
}
