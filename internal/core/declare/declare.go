// Package declare says what deployments declare, as records that can be compared with the inventory and with what
// surveys see.
//
// In goes what stands of a deployment; out come records of its instances, volumes, networks and interfaces, under the
// ids DEPLOYMENT/RESOURCE. Software and endpoints are declared too, but no survey of a site sees them; see package
// servicemap.
package declare

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Deployment is what a deployment is called, and what everything of it bears at the sites.
type Deployment struct {
	ID                   int64
	Name, Mark, Template string
	// Since is when something was done last to each resource at its site.
	Since map[string]time.Time
}

// ID is the id of what a deployment declares of a resource.
func (d Deployment) RecordID(resource string) string { return fmt.Sprintf("d%d/%s", d.ID, resource) }

// Resource reads such an id.
func Resource(id string) (deployment int64, resource string, ok bool) {
	head, resource, ok := strings.Cut(strings.TrimPrefix(id, "d"), "/")
	deployment, err := strconv.ParseInt(head, 10, 64)
	return deployment, resource, ok && err == nil && strings.HasPrefix(id, "d")
}

// Records are what a deployment declares.
func Records(d Deployment, p *plan.Plan) inventory.Records {
	b := &builder{d: d, p: p, step: map[string]string{}, volumeOn: map[string]string{}}
	for i := range p.Steps {
		s := &p.Steps[i]
		switch s.Op {
		case op.Create, op.Plug:
			b.step[s.Resource] = s.ID
		case op.Attach:
			b.volumeOn[s.Volume] = s.Resource
		}
	}
	var out inventory.Records
	for i := range p.Resources {
		if r, ok := b.record(&p.Resources[i]); ok {
			out = append(out, r)
		}
	}
	return out
}

type builder struct {
	d              Deployment
	p              *plan.Plan
	step, volumeOn map[string]string
}

// known is what a site told of a resource.
func (b *builder) known(resource, attribute string) string { return b.p.Known[resource][attribute] }

func (b *builder) record(r *plan.Resource) (inventory.Record, bool) {
	out := inventory.Record{ID: b.d.RecordID(r.ID), Name: cmp.Or(b.known(r.ID, plan.AttrFound), r.ID), Site: r.Site, Region: r.Zone, Provider: b.known(r.ID, "site.id"),
		Attributes: map[string]string{}, Origin: inventory.Origin{Deployment: b.d.Name, Template: b.d.Template, When: b.d.Since[r.ID]}}
	if s := b.step[r.ID]; s != "" {
		out.Mark = fmt.Sprintf("andamio %s %s", b.d.Mark, s)
	}
	if origin := b.p.Origins[r.ID]; origin != "" { // what a move keeps goes by the name and the mark that its site knows
		out.Name = cmp.Or(b.known(r.ID, plan.AttrFound), origin)
		if s := b.step[r.ID]; s != "" {
			out.Mark = fmt.Sprintf("andamio %s %s%s", b.d.Mark, origin, strings.TrimPrefix(s, r.ID))
		}
	}
	set := out.Set
	switch r.Kind {
	case kinds.Instance:
		out.Class = kinds.Instance
		b.instance(r, set)
	case kinds.Volume:
		out.Class = kinds.Volume
		set(inventory.AttrDisk, inventory.Number(r.DiskGiB()))
		set(inventory.AttrAttached, b.known(b.volumeOn[r.ID], "site.id"))
	case kinds.Snapshot:
		out.Class = kinds.Snapshot
		set(inventory.AttrDisk, inventory.Number(r.DiskGiB()))
	case kinds.Network:
		out.Class, out.Name = kinds.Network, r.AsNetwork().Label
		set("cidr", r.AsNetwork().CIDR)
		set("vlan", r.AsNetwork().VLAN)
	case kinds.Interface:
		out.Class = kinds.Interface
		b.link(r, set)
	default:
		return out, false
	}
	set(inventory.AttrService, r.Service)
	if cost := r.Costs(); cost > 0 {
		set(inventory.AttrCost, cost.String())
	}
	return out.Normal(), out.Provider != ""
}

func (b *builder) instance(r *plan.Resource, set func(name, value string)) {
	set(inventory.AttrState, "active")
	switch {
	case r.Off && r.Suspended:
		set(inventory.AttrState, "suspended")
	case r.Off:
		set(inventory.AttrState, "stopped")
	}
	if r.AsInstance().Cores > 0 {
		set(inventory.AttrCores, strconv.Itoa(r.AsInstance().Cores))
		set(inventory.AttrMemory, inventory.Number(r.AsInstance().MemoryGiB))
	}
	if r.DiskGiB() > 0 {
		set(inventory.AttrDisk, inventory.Number(r.DiskGiB()))
	}
	set(inventory.AttrSize, r.AsInstance().Size)
	set(inventory.AttrImage, r.AsInstance().Image)
	set(inventory.AttrHostname, r.AsInstance().Hostname)
	set(inventory.AttrZone, r.Zone)
}

func (b *builder) link(r *plan.Resource, set func(name, value string)) {
	set(inventory.AttrState, "active")
	if on := b.p.Resource(r.AsInterface().Instance); b.p.Origins[r.ID] != "" && on != nil && on.Off {
		set(inventory.AttrState, "stopped") // given up, and kept for going back
	}
	set(inventory.AttrInstance, b.known(r.AsInterface().Instance, "site.id"))
	set(inventory.AttrNetwork, b.known(r.AsInterface().Network, "site.id"))
	set(inventory.AttrInside, r.AsInterface().Address)
	set(inventory.AttrAddress, b.known(r.ID, "address"))
	set(inventory.AttrMAC, b.known(r.ID, "mac"))
	ports := make([]string, len(r.AsInterface().Ports))
	for i, p := range r.AsInterface().Ports {
		ports[i] = strconv.Itoa(p)
	}
	set(inventory.AttrPorts, strings.Join(ports, ","))
}
