// Package libvirt is the driver for hosts with libvirt and QEMU: one or many make a site, and each is a zone of it. It speaks libvirt's
// remote protocol itself, so that nothing need be installed where it runs.
//
// What is made at a host says whose it is: machines in the metadata element of their domain, networks in that of their definition, and
// volumes, for which libvirt has none, in a small volume beside them (see note). Ids follow from the idempotency key of the request,
// so that asking twice makes one thing.
package libvirt

import (
	"context"
	"errors"
	"fmt"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// Driver speaks to one site.
type Driver struct {
	name  string
	hosts []*host
	// pool is where disks are made that name no class of storage, images where images lie.
	pool, images string
	// emulated machines run without KVM.
	emulated bool
	// overcommit is how many cores of machines share one of a host's.
	overcommit int

	gens generations
}

var (
	_ site.Site     = (*Driver)(nil)
	_ site.Surveyor = (*Driver)(nil)
	_ site.Disks    = (*Driver)(nil)

	_ site.MemoryKeeper = (*Driver)(nil)
)

// Name is the site's name.
func (d *Driver) Name() string { return d.name }

// Namespace is that of what is written into definitions: XML namespaces begin with it.
const Namespace = "https://schemas.andamio.example/libvirt/1"

// space is the namespace of ids that follow from keys (RFC 9562, section 5.5).
var space = uuid.NewSHA1(uuid.NameSpaceURL, []byte(Namespace))

// idOf is the id of what is asked for: it follows from the key, where there is one.
func (d *Driver) idOf(r site.Request) string {
	if r.Key == "" {
		return uuid.NewString()
	}
	return uuid.NewSHA1(space, []byte(d.name+"\x00"+string(r.Kind)+"\x00"+r.Key)).String()
}

// fail is an error of the driver's own.
func (d *Driver) fail(class site.Class, doing, format string, args ...any) error {
	return &site.Error{Site: d.name, Doing: doing, Class: class, Detail: fmt.Sprintf(format, args...)}
}

// missing says that there is no such thing.
func (d *Driver) missing(kind kinds.Kind, id string) error {
	return d.fail(site.NotFound, "find "+string(kind), "%s is not there", id)
}

// unknown says that the site has no things of a kind.
func (d *Driver) unknown(kind kinds.Kind) error {
	return d.fail(site.Refused, "ask for "+string(kind), "hosts with libvirt have no such things")
}

// Create asks for a resource.
func (d *Driver) Create(ctx context.Context, r site.Request) (site.Resource, error) {
	switch r.Kind {
	case kinds.Network:
		return d.createNetwork(ctx, r)
	case kinds.Volume:
		return d.createVolume(ctx, r)
	case kinds.Instance:
		return d.createInstance(ctx, r)
	case kinds.Interface:
		return d.createInterface(ctx, r)
	case kinds.Attachment:
		return d.createAttachment(ctx, r)
	case kinds.Snapshot:
		return d.createSnapshot(ctx, r)
	}
	return site.Resource{}, d.unknown(r.Kind)
}

// Read says how a resource is now.
func (d *Driver) Read(ctx context.Context, kind kinds.Kind, id string) (site.Resource, error) {
	switch kind {
	case kinds.Network:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.network(ctx, id) })
	case kinds.Volume, kinds.Snapshot:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.volume(ctx, d, kind, id) })
	case kinds.Instance:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.instance(ctx, d, id) })
	case kinds.Interface, kinds.Attachment:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.link(ctx, kind, id) })
	}
	return site.Resource{}, d.missing(kind, id)
}

// List says all resources of a kind. A host that does not answer fails it: what it has must not seem to be gone.
func (d *Driver) List(ctx context.Context, kind kinds.Kind) ([]site.Resource, error) {
	var out []site.Resource
	seen := map[string]bool{}
	for _, h := range d.hosts {
		all, err := d.listed(ctx, h, kind)
		if err != nil {
			return nil, err
		}
		for _, r := range all {
			if !seen[r.ID] { // networks are at every host
				seen[r.ID] = true
				out = append(out, r)
			}
		}
	}
	return out, nil
}

func (d *Driver) listed(ctx context.Context, h *host, kind kinds.Kind) ([]site.Resource, error) {
	switch kind {
	case kinds.Network:
		return h.networks(ctx)
	case kinds.Volume, kinds.Snapshot:
		return h.volumes(ctx, d, kind)
	case kinds.Instance:
		return h.instances(ctx, d)
	case kinds.Interface, kinds.Attachment:
		return h.links(ctx, kind)
	}
	return nil, nil // hosts have no such things
}

// Invoke starts, stops or suspends an instance.
func (d *Driver) Invoke(ctx context.Context, kind kinds.Kind, id, action string) (site.Resource, error) {
	if kind == kinds.Interface && action == site.ActReclaim {
		return d.reclaim(ctx, id)
	}
	if kind != kinds.Instance {
		return site.Resource{}, d.fail(site.Refused, action, "only instances are switched")
	}
	return first(d, kind, id, func(h *host) (site.Resource, error) {
		if err := h.power(ctx, id, action); err != nil {
			return site.Resource{}, err
		}
		return h.instance(ctx, d, id)
	})
}

// Change makes a resource what the request says, in place.
func (d *Driver) Change(ctx context.Context, kind kinds.Kind, id string, r site.Request) (site.Resource, error) {
	switch kind {
	case kinds.Volume, kinds.Snapshot:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.changeVolume(ctx, d, kind, id, r) })
	case kinds.Instance:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.changeInstance(ctx, d, id, r) })
	case kinds.Network:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.changeNetwork(ctx, id, r) })
	case kinds.Interface:
		return first(d, kind, id, func(h *host) (site.Resource, error) { return h.changeInterface(ctx, id, r) })
	}
	return site.Resource{}, d.fail(site.Refused, "change "+string(kind), "this cannot be changed in place")
}

// Delete removes a resource.
func (d *Driver) Delete(ctx context.Context, kind kinds.Kind, id string) error {
	var remove func(h *host) error
	switch kind {
	case kinds.Network:
		return d.deleteNetwork(ctx, id)
	case kinds.Volume, kinds.Snapshot:
		remove = func(h *host) error { return h.deleteVolume(ctx, d, kind, id) }
	case kinds.Instance:
		remove = func(h *host) error { return h.deleteInstance(ctx, d, id) }
	case kinds.Interface, kinds.Attachment:
		remove = func(h *host) error { return h.deleteLink(ctx, kind, id) }
	default:
		return d.missing(kind, id)
	}
	_, err := first(d, kind, id, func(h *host) (struct{}, error) { return struct{}{}, remove(h) })
	return err
}

// first is what the first host says that has a thing. A host that does not answer may have it: then nobody says that it is gone.
func first[T any](d *Driver, kind kinds.Kind, id string, ask func(h *host) (T, error)) (T, error) {
	var silent error
	for _, h := range d.hosts {
		got, err := ask(h)
		switch {
		case err == nil:
			return got, nil
		case site.ClassOf(err) == site.NotFound:
		case site.ClassOf(err) == site.Transient:
			silent = err
		default:
			return got, err
		}
	}
	var none T
	if silent != nil {
		return none, silent
	}
	return none, d.missing(kind, id)
}

// zone is the host that a request is for; the only one where it names none.
func (d *Driver) zone(r site.Request) (*host, error) {
	for _, h := range d.hosts {
		if h.name == r.Zone || h.name == r.Host {
			return h, nil
		}
	}
	if r.Zone == "" || len(d.hosts) == 1 {
		return d.hosts[0], nil
	}
	return nil, d.fail(site.Refused, "create "+string(r.Kind), "no host is called %s", r.Zone)
}

// uuidOf is an id as the protocol has it.
func uuidOf(id string) (libvirt.UUID, error) {
	u, err := uuid.Parse(id)
	if err != nil {
		return libvirt.UUID{}, libvirt.Error{Code: uint32(libvirt.ErrNoDomain), Message: "this is no id"}
	}
	return libvirt.UUID(u), nil
}

var errUnread = errors.New("what the host says of it cannot be read")
