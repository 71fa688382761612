package reconcile

import (
	"context"
	"fmt"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/search"
	"andamio/internal/core/servicemap"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
)

// ThingKind is a sort of thing that can be found.
type ThingKind string

// The kinds.
const (
	ASite       ThingKind = "site"
	ADeployment ThingKind = "deployment"
	AResource   ThingKind = "resource"
	ARun        ThingKind = "run"
	AFinding    ThingKind = "finding"
	ARecord     ThingKind = "record"
	ATemplate   ThingKind = "template"
)

// ThingKinds are all of them.
var ThingKinds = []ThingKind{ASite, ADeployment, AResource, ARun, AFinding, ARecord, ATemplate}

// Thing is something that has a name, and that the screens can go to.
type Thing struct {
	Kind ThingKind `json:"kind"`
	// What is the sort in the trade's word: an instance, a volume, a node of a template.
	What string `json:"what"`
	Name string `json:"name"`
	// Where says where it is, in a few words.
	Where string `json:"where,omitempty"`
	// Addresses are those it is reached at.
	Addresses []string `json:"addresses,omitempty"`
	// ID is its own within its kind; Deployment that it is part of.
	ID         string `json:"id"`
	Deployment int64  `json:"deployment,omitempty"`
}

// words are what it is found by, the name first.
func (t *Thing) words() []string {
	return append([]string{t.Name, t.What, t.Where, t.ID}, t.Addresses...)
}

// Things are all that can be found now: sites, deployments with all that stands of them, runs, the findings and records of
// an inventory, and the nodes of a template; both may be nil.
func (svc *Service) Things(ctx context.Context, inv *Inventory, t *templates.Template) ([]Thing, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	var out []Thing
	for _, c := range connections {
		out = append(out, Thing{Kind: ASite, What: "site", Name: c.Site, Where: string(c.Kind), ID: c.Site, Addresses: []string{c.Address()}})
	}
	deployments, err := svc.deployments.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	for i := range deployments {
		out = append(out, thingsOf(&deployments[i])...)
	}
	runs, err := svc.store.Runs(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		out = append(out, Thing{Kind: ARun, What: "run", Name: fmt.Sprintf("run %d", r.ID), Where: fmt.Sprintf("%s %s, %s", r.Purpose, r.Name, r.State), ID: fmt.Sprint(r.ID), Deployment: r.Deployment})
	}
	if inv != nil {
		out = append(out, inv.things()...)
	}
	return append(out, templateThings(t)...), nil
}

// Find returns the things that a text may mean, the likeliest first.
func Find(text string, all []Thing) []Thing {
	words := make([][]string, len(all))
	for i := range all {
		words[i] = all[i].words()
	}
	var out []Thing
	for _, i := range search.Rank(text, words) {
		out = append(out, all[i])
	}
	return out
}

// thingsOf are the deployment, all that stands of it, and the names that it publishes.
func thingsOf(d *deployments.Deployment) []Thing {
	out := []Thing{{Kind: ADeployment, What: "deployment", Name: d.Name, Where: fmt.Sprintf("deployment %d, %s", d.ID, d.State()), ID: fmt.Sprint(d.ID), Deployment: d.ID}}
	p := d.Stand.Plan
	addresses := reachedAt(d)
	for i := range p.Resources {
		r := &p.Resources[i]
		out = append(out, Thing{Kind: AResource, What: string(r.Kind), Name: r.ID, Where: r.Site + ", " + d.Name, Addresses: addresses[r.ID], ID: r.ID, Deployment: d.ID})
	}
	for i := range p.Steps {
		if n := p.Steps[i].Naming; n != nil && p.Resource(n.Interface) != nil {
			out = append(out, Thing{Kind: AResource, What: "name", Name: n.Name, Where: d.Name, Addresses: addresses[n.Interface], ID: p.Steps[i].Resource, Deployment: d.ID})
		}
	}
	return out
}

// reachedAt is where what stands of a deployment is reached, by resource; an instance at those of its interfaces.
func reachedAt(d *deployments.Deployment) map[string][]string {
	out := map[string][]string{}
	add := func(id, address string) {
		if address != "" && !slices.Contains(out[id], address) {
			out[id] = append(out[id], address)
		}
	}
	p := d.Stand.Plan
	for i := range p.Resources {
		r := &p.Resources[i]
		for _, address := range []string{r.AsInterface().Address, p.Known[r.ID]["address"]} {
			add(r.ID, address)
			if r.Kind == kinds.Interface {
				add(r.AsInterface().Instance, address)
			}
		}
	}
	return out
}

// things are the findings, and the records.
func (inv *Inventory) things() []Thing {
	var out []Thing
	for i := range inv.Findings {
		f := &inv.Findings[i]
		out = append(out, Thing{Kind: AFinding, What: "finding", Name: f.Name, Where: fmt.Sprintf("%s %s at %s", f.Type, f.Class, f.Site), ID: f.ID})
	}
	for i := range inv.RecordedRecords {
		r := &inv.RecordedRecords[i]
		x := Thing{Kind: ARecord, What: "record", Name: r.Name, Where: fmt.Sprintf("%s at %s", r.Class, r.Site), ID: r.ID}
		if address, known := r.Value("address"); known {
			x.Addresses = []string{address}
		}
		out = append(out, x)
	}
	return out
}

// templateThings are the template and its nodes, in their order.
func templateThings(t *templates.Template) []Thing {
	if t == nil {
		return nil
	}
	out := []Thing{{Kind: ATemplate, What: "template", Name: t.Name, Where: t.Root}}
	for _, n := range t.Nodes {
		out = append(out, Thing{Kind: ATemplate, What: "node template", Name: n.Name, Where: t.Name, ID: n.Name})
	}
	return out
}

// MapNode is the node of the service map that stands for a record, "" if none does.
func (inv *Inventory) MapNode(m *servicemap.Map, record string) string {
	for i := range inv.RecordedRecords {
		r := &inv.RecordedRecords[i]
		if r.ID != record {
			continue
		}
		for k := range m.Nodes {
			if n := &m.Nodes[k]; n.Name == r.Name && (n.Site == "" || n.Site == r.Site) {
				return n.ID
			}
		}
	}
	return ""
}
