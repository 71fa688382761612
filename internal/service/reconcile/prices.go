package reconcile

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/service/workspace"
)

// prices are what sites said they offer, by site.
type prices map[string]*estate.Site

func (svc *Service) prices(ctx context.Context) (prices, error) {
	facts, err := svc.store.Facts(ctx)
	if err != nil {
		return nil, err
	}
	out := prices{}
	for site, body := range facts {
		s := &estate.Site{}
		if err := json.Unmarshal(body, s); err != nil {
			return nil, fmt.Errorf("what %s offers cannot be read: %w", site, err)
		}
		out[site] = s
	}
	return out, nil
}

// currency is what the prices are in.
func (p prices) currency(connections []workspace.Connection) string {
	var sites []*estate.Site
	for _, c := range connections {
		if s := p[c.Site]; s != nil {
			sites = append(sites, s)
		}
	}
	unit, _ := estate.OneCurrency(sites)
	return unit
}

// currency is what costs are in at the connected sites, as they said last.
func (svc *Service) currency(ctx context.Context) (string, error) {
	connections, err := svc.workspace.Connections()
	if err != nil {
		return "", err
	}
	p, err := svc.prices(ctx)
	return p.currency(connections), err
}

// seen says of observations what they cost an hour, by the prices of their sites. What a deployment declares costs what
// its plan says, which knows of traffic too: an observation of it costs that, and what it has more or less than declared.
func (p prices) seen(observed, declared inventory.Records) {
	by := map[string]*inventory.Record{}
	for i := range declared {
		if r := &declared[i]; r.Mark != "" {
			by[r.Site+" "+r.Mark] = r
		}
	}
	for i := range observed {
		r := &observed[i]
		cost := p.of(r)
		if d := by[r.Site+" "+r.Mark]; d != nil && r.Mark != "" {
			cost += d.Cost() - p.of(d)
		}
		if cost > 0 {
			r.Set(inventory.AttrCost, cost.String())
		}
	}
}

// of is what something costs an hour by the prices of its site.
func (p prices) of(r *inventory.Record) money.Amount {
	s := p[r.Site]
	if s == nil {
		return 0
	}
	switch r.Class {
	case kinds.Volume, kinds.Snapshot:
		return s.VolumeCosts(r.Number(inventory.AttrDisk), "")
	case kinds.Instance:
		on, off := s.Costs(r.Attributes[inventory.AttrSize], "", estate.Capacity{Cores: int(r.Number(inventory.AttrCores)), MemoryGiB: r.Number(inventory.AttrMemory), DiskGiB: r.Number(inventory.AttrDisk)})
		if r.Attributes[inventory.AttrState] == "stopped" {
			return off
		}
		return on
	}
	return 0
}

// standing are the hosts and images that sites said they have: facts, and records like others.
func (p prices) standing() inventory.Records {
	var out inventory.Records
	for name, s := range p {
		add := func(class kinds.Kind, id, title, zone string, attributes map[string]string) {
			out = append(out, inventory.Record{ID: fmt.Sprintf("%s/%s", name, id), Class: class, Name: title, Site: name, Provider: id, Attributes: attributes}.Normal())
		}
		for _, z := range s.Zones {
			for _, h := range z.Hosts {
				add(kinds.Host, "host/"+z.Name+"/"+h.Name, h.Name, z.Name, map[string]string{inventory.AttrZone: z.Name,
					"total_cores": fmt.Sprint(h.Total.Cores), "total_memory_gib": inventory.Number(h.Total.MemoryGiB)})
			}
		}
		for _, i := range s.Images {
			add(kinds.Image, "image/"+i.Name, i.Name, "", map[string]string{"os": i.OS})
		}
	}
	slices.SortFunc(out, func(a, b inventory.Record) int { return strings.Compare(a.ID, b.ID) })
	return out
}
