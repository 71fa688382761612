package reconcile

import (
	"context"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/servicemap"
	"andamio/internal/draw"
	"andamio/internal/service/deployments"
)

// ServiceMap is the map of what is recorded, declared and was seen to talk.
func (svc *Service) ServiceMap(ctx context.Context, inv *Inventory) (*servicemap.Map, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	all, err := svc.deployments.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	in := servicemap.Input{Records: withDeployed(inv.RecordedRecords, all), Gone: map[string]bool{}, Talks: talks(inv.ObservedRecords), Deployments: standing(all)}
	for i := range inv.Findings {
		if f := &inv.Findings[i]; f.Type == inventory.Missing && f.Recorded != nil {
			in.Gone[f.Recorded.ID] = true
		}
	}
	return servicemap.New(in), nil
}

// ServiceMapAt is the map as it was at a moment: of what stood then by the journals, over the machines that are recorded now but for those that deployments have built since.
func (svc *Service) ServiceMapAt(ctx context.Context, inv *Inventory, at time.Time) (*servicemap.Map, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	past, err := svc.deployments.AsOf(ctx, at)
	if err != nil {
		return nil, err
	}
	all := make([]deployments.Deployment, len(past))
	for i := range past {
		all[i] = past[i].Deployment
	}
	now, err := svc.deployments.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	then, built := deployedMachines(all), deployedMachines(now)
	records := slices.DeleteFunc(slices.Clone(inv.RecordedRecords), func(r inventory.Record) bool {
		key := r.Site + "/" + r.Provider
		return built[key] != nil && then[key] == nil
	})
	return servicemap.New(servicemap.Input{Records: withDeployed(records, all), Talks: talks(inv.ObservedRecords), Deployments: standing(all)}), nil
}

// deployedMachines are the instances of deployments, by SITE/PROVIDER.
func deployedMachines(all []deployments.Deployment) map[string]*plan.Resource {
	out := map[string]*plan.Resource{}
	for i := range all {
		p := all[i].Stand.Plan
		for k := range p.Resources {
			r := &p.Resources[k]
			if id := p.Known[r.ID]["site.id"]; r.Kind == kinds.Instance && id != "" {
				out[r.Site+"/"+id] = r
			}
		}
	}
	return out
}

// withDeployed are records with those of the instances of deployments that no survey has seen yet: the map has what runs stand on something.
func withDeployed(records inventory.Records, all []deployments.Deployment) inventory.Records {
	recorded := map[string]bool{}
	for i := range records {
		recorded[records[i].Site+"/"+records[i].Provider] = true
	}
	machines := deployedMachines(all)
	out := slices.Clone(records)
	for _, key := range slices.Sorted(maps.Keys(machines)) {
		if recorded[key] {
			continue
		}
		r := machines[key]
		_, provider, _ := strings.Cut(key, "/")
		out = append(out, inventory.Record{ID: "deployed " + key, Class: kinds.Instance, Name: r.ID, Site: r.Site, Provider: provider,
			Attributes: map[string]string{inventory.AttrZone: r.Zone, inventory.AttrHost: r.Host}})
	}
	return out
}

// standing are deployments as a map takes them.
func standing(all []deployments.Deployment) []servicemap.Deployment {
	out := make([]servicemap.Deployment, len(all))
	for i := range all {
		out[i] = servicemap.Deployment{ID: all[i].ID, Name: all[i].Name, Plan: all[i].Stand.Plan}
	}
	return out
}

// talks are the connections that deep surveys saw, between instances.
func talks(records inventory.Records) [][2]string {
	var out [][2]string
	for i := range records {
		r := &records[i]
		for _, x := range r.Relations {
			if r.Class == kinds.Instance && x.Kind == inventory.ConnectsTo {
				out = append(out, [2]string{r.Site + "/" + r.Provider, x.To})
			}
		}
	}
	return out
}

// ExportMap writes the service map in every format into a folder, and returns the files' names. The selected node, if it
// is not "", is drawn with what it needs and what needs it.
func (svc *Service) ExportMap(m *servicemap.Map, selected, dir string) ([]string, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	var files []string
	for _, format := range draw.Formats {
		file := filepath.Join(dir, "service-map."+format)
		if err := deployments.WritePicture(draw.ServiceMap(m, selected), file, format); err != nil {
			return files, err
		}
		files = append(files, file)
	}
	return files, nil
}
