package reconcile

import (
	"context"
	"path/filepath"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
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
	in := servicemap.Input{Records: inv.RecordedRecords, Gone: map[string]bool{}, Talks: talks(inv.ObservedRecords), Deployments: standing(all)}
	for i := range inv.Findings {
		if f := &inv.Findings[i]; f.Type == inventory.Missing && f.Recorded != nil {
			in.Gone[f.Recorded.ID] = true
		}
	}
	return servicemap.New(in), nil
}

// ServiceMapAt is the map as it was at a moment: of what stood then by the journals, over the machines that are recorded now.
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
	return servicemap.New(servicemap.Input{Records: inv.RecordedRecords, Talks: talks(inv.ObservedRecords), Deployments: standing(all)}), nil
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
