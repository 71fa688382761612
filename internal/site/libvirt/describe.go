package libvirt

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// Describe says what the hosts offer: each is a zone, with the cores and memory it has, the room of the pool that disks are made in, and
// the images that all of them have.
func (d *Driver) Describe(ctx context.Context) (*estate.Site, error) {
	s := &estate.Site{Name: d.name, Title: counted(len(d.hosts), "host") + " with libvirt", Kind: estate.Private, Network: estate.Address, Pace: 1, FreeForm: true,
		Timings: estate.Timings{Network: 1, Volume: 0.5, Instance: 5, Interface: 1, Attachment: 1}}
	images, classes := map[string]int{}, map[string]int{}
	for _, h := range d.hosts {
		has, err := answer(ctx, h, 4*h.patience, "describe", func(_ context.Context, l *libvirt.Libvirt) (offer, error) { return h.offers(l, d) })
		if err != nil {
			return nil, err
		}
		s.Zones = append(s.Zones, has.zone)
		for _, name := range has.images {
			images[name]++
		}
		for _, name := range has.classes {
			classes[name]++
		}
	}
	for _, name := range slices.Sorted(maps.Keys(images)) {
		if images[name] == len(d.hosts) { // a machine may be placed at any
			s.Images = append(s.Images, estate.Image{Name: name, OS: "linux"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(classes)) {
		if classes[name] == len(d.hosts) {
			s.Storage = append(s.Storage, estate.StorageClass{Name: name})
		}
	}
	return s, nil
}

// zone is the host as a zone: what it has, and what its machines leave.
func (h *host) zone(l *libvirt.Libvirt, d *Driver) (estate.Zone, error) {
	_, memory, cpus, _, _, _, _, _, err := l.NodeGetInfo()
	if err != nil {
		return estate.Zone{}, err
	}
	pool, err := h.poolNamed(l, d.pool)
	if err != nil {
		return estate.Zone{}, err
	}
	_, capacity, _, available, err := l.StoragePoolGetInfo(pool)
	if err != nil {
		return estate.Zone{}, err
	}
	total := estate.Capacity{Cores: int(cpus) * d.overcommit, MemoryGiB: float64(memory) / (1 << 20), DiskGiB: float64(capacity) / gib}
	free := total
	free.DiskGiB = float64(min(available, capacity)) / gib // daemons miscount what grew since it was made
	all, err := h.domains(l)
	for i := range all {
		if def := &all[i].def; all[i].on() {
			if def.VCPU != nil {
				free.Cores -= int(def.VCPU.Value)
			}
			if def.Memory != nil {
				free.MemoryGiB -= float64(inBytes(uint64(def.Memory.Value), def.Memory.Unit)) / gib
			}
		}
	}
	free.Cores, free.MemoryGiB = max(free.Cores, 0), max(free.MemoryGiB, 0)
	return estate.Zone{Name: h.name, Free: free, Total: total}, err
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// offer is what a host has.
type offer struct {
	zone            estate.Zone
	images, classes []string
}

func (h *host) offers(l *libvirt.Libvirt, d *Driver) (offer, error) {
	zone, err := h.zone(l, d)
	if err != nil {
		return offer{}, err
	}
	out := offer{zone: zone}
	pools, _, err := l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive)
	if err != nil {
		return out, err
	}
	for _, p := range pools {
		if p.Name != d.images && p.Name != d.pool {
			out.classes = append(out.classes, p.Name)
		}
	}
	pool, err := h.poolNamed(l, d.images)
	if err != nil {
		return out, err
	}
	all, _, err := l.StoragePoolListAllVolumes(pool, 1, 0)
	for _, vol := range all {
		out.images = append(out.images, imageName(vol.Name))
	}
	return out, err
}

// Access says as whom the hosts are spoken to. libvirt lets whoever may write do everything.
func (d *Driver) Access(ctx context.Context) (site.Access, error) {
	out := site.Access{May: []string{"read", "create", "change", "delete"}}
	var names []string
	for _, h := range d.hosts {
		name, err := told(ctx, h, "ask for the rights", func(_ context.Context, l *libvirt.Libvirt) (string, error) { return l.ConnectGetHostname() })
		if err != nil {
			return site.Access{}, err
		}
		names = append(names, name)
		out.Regions = append(out.Regions, h.name)
	}
	out.Account = strings.Join(slices.Compact(names), ", ")
	return out, nil
}

// Rotate is refused: hosts are reached with keys, which they are not told by the protocol.
func (d *Driver) Rotate(context.Context, string) (string, error) {
	return "", d.fail(site.Refused, "change the credential", "hosts with libvirt are reached with keys: change those there, and connect the site with the new one")
}

// Page lists some things of a host, in the order of their ids: what comes and goes between two pages shifts none of the others.
func (d *Driver) Page(ctx context.Context, q site.Query) (site.Page, error) {
	var all []site.Resource
	for _, h := range d.hosts {
		if h.name == q.Region || q.Region == "" {
			some, err := d.listed(ctx, h, q.Kind)
			if err != nil {
				return site.Page{}, err
			}
			all = append(all, some...)
		}
	}
	if q.Kind == kinds.Network && q.Region != "" && q.Region != d.hosts[0].name {
		all = slices.DeleteFunc(all, func(r site.Resource) bool { return r.Mark != "" }) // told of with the first host
	}
	slices.SortFunc(all, func(a, b site.Resource) int { return cmp.Compare(a.ID, b.ID) })
	all = slices.DeleteFunc(all, func(r site.Resource) bool { return r.ID <= q.After && q.After != "" })
	size := cmp.Or(q.Size, pageSize)
	if len(all) <= size {
		return site.Page{Resources: all}, nil
	}
	return site.Page{Resources: all[:size], Next: all[size-1].ID}, nil
}

// pageSize is how many things a page has where nobody says.
const pageSize = 5000
