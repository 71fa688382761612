package watch

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/health"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

// known is what there is to be asked, what stands on what, and what rests.
type known struct {
	stamp  string
	things map[string]*measure.Thing
	nodes  map[string]alarm.Node
	graph  *alarm.Graph
	probes []probe
	doors  []door
	wholes []*whole
	// works are deployments that a run works on.
	works map[int64]bool
	// rests are things that nobody expects to be well now, with why.
	rests map[string]string
	// wants are the thresholds of each thing, worked out as they are needed.
	wants map[string][]*alarm.Threshold
	file  *alarm.File
	wrong error
}

// probe is an endpoint of a deployment.
type probe struct {
	thing string
	deployments.Probe
}

// knownFor is how long what is known is taken as it is, though nothing seems to have changed.
const knownFor = 5 * time.Minute

// know works out what there is, if anything has changed since.
func (svc *Service) know(ctx context.Context, now time.Time) (*known, error) {
	stamp, err := svc.stamp(ctx, now)
	if err != nil {
		return nil, err
	}
	if k := svc.memory.known; k != nil && k.stamp == stamp {
		return k, nil
	}
	k := &known{stamp: stamp, nodes: map[string]alarm.Node{}, things: map[string]*measure.Thing{}, works: map[int64]bool{}, rests: map[string]string{}, wants: map[string][]*alarm.Threshold{}}
	if k.file, k.wrong = svc.workspace.Thresholds(); k.wrong != nil {
		k.file = alarm.Default() // a mistake in the file leaves nobody unwatched
	}
	records, err := svc.store.Records(ctx)
	if err != nil {
		return nil, err
	}
	all, err := svc.deployments.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	k.add(measure.Thing{Key: measure.SelfKey, Kind: measure.OfRun, Name: "andamio"}, alarm.Node{Rank: alarm.Self})
	for i := range connections {
		name := connections[i].Site
		k.add(measure.Thing{Key: measure.SiteKey(name), Kind: measure.OfSite, Name: name, Site: name}, alarm.Node{Rank: alarm.Site})
	}
	k.recorded(records)
	for i := range all {
		k.deployment(&all[i])
	}
	k.join()
	k.graph = alarm.NewGraph(slices.SortedFunc(maps.Values(k.nodes), func(a, b alarm.Node) int { return cmp.Compare(a.ID, b.ID) }))
	svc.memory.known = k
	svc.memory.forget(k)
	return k, nil
}

// forget has what was worked out of things be no more that are not there any more.
func (m *Memory) forget(k *known) {
	for key, o := range m.outlooks {
		if k.things[o.thing] == nil {
			delete(m.outlooks, key)
		}
	}
	m.counters.forget(k)
}

// stamp changes whenever anything does that what is asked depends on.
func (svc *Service) stamp(ctx context.Context, now time.Time) (string, error) {
	inventory, err := svc.store.InventoryStamp(ctx)
	if err != nil {
		return "", err
	}
	runs, err := svc.store.Runs(ctx)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s %v %v %d;", inventory, svc.workspace.Changed(fileSites), svc.workspace.Changed(fileThresholds), now.Unix()/int64(knownFor.Seconds()))
	for _, r := range runs {
		fmt.Fprintf(&b, "%d %s;", r.ID, r.State)
	}
	return b.String(), nil
}

// add has a thing be known, with its node. What is known of it already is filled up.
func (k *known) add(t measure.Thing, n alarm.Node) *measure.Thing {
	if was := k.things[t.Key]; was != nil {
		return was
	}
	k.things[t.Key] = &t
	n.ID, n.Name, n.Site, n.Deployment, n.Of, n.Resource = t.Key, t.Name, t.Site, t.Deployment, t.Of, t.Resource
	k.nodes[n.ID] = n
	return &t
}

// place has the host and the zone of a machine be known, and returns what the machine stands on.
func (k *known) place(site, zone, host string) string {
	on := measure.SiteKey(site)
	for _, x := range []struct {
		rank alarm.Rank
		name string
	}{{alarm.Zone, zone}, {alarm.Host, host}} {
		if x.name == "" {
			continue
		}
		id := fmt.Sprintf("%s %s/%s", x.rank.Word(), site, zone)
		if x.rank == alarm.Host {
			id += "/" + host
		}
		k.nodes[id] = alarm.Node{ID: id, Rank: x.rank, Name: x.name, Site: site, On: []string{on}}
		on = id
	}
	return on
}

// recorded has all machines of the inventory be known, whoever made them.
func (k *known) recorded(records inventory.Records) {
	for i := range records {
		r := &records[i]
		if r.Class != kinds.Instance || r.Provider == "" {
			continue
		}
		t := measure.Thing{Key: measure.InstanceKey(r.Site, r.Provider), Kind: measure.OfInstance, Name: r.Name, Site: r.Site, Zone: r.Attributes[inventory.AttrZone], Host: r.Attributes[inventory.AttrHost],
			Service: r.Attributes[inventory.AttrService]}
		for name, v := range r.Attributes {
			if tag, is := strings.CutPrefix(name, inventory.TagPrefix); is {
				if t.Tags == nil {
					t.Tags = map[string]string{}
				}
				t.Tags[tag] = v
			}
		}
		k.add(t, alarm.Node{Rank: alarm.Instance, On: []string{k.place(t.Site, t.Zone, t.Host)}})
	}
}

// deployment has what stands of a deployment be known.
func (k *known) deployment(d *deployments.Deployment) {
	p := d.Stand.Plan
	if len(p.Resources) == 0 || p.Arrange() != nil {
		return
	}
	s := run.Stood(p, d.Stand.Unsure)
	tiers, titles := health.TiersOf(p), titlesOf(p)
	why := ""
	if d.State() == run.UnderWay {
		why = underWay
		k.works[d.ID] = true
	}
	thing := func(r *plan.Resource, kind measure.Kind, key string) measure.Thing {
		return measure.Thing{Key: key, Kind: kind, Name: r.Title, Site: r.Site, Deployment: d.ID, Of: d.Name, Resource: r.ID, Tier: tiers[r.ID], Service: cmp.Or(titles[r.Service], r.Service, titles[tiers[r.ID]]),
			Team: d.Owner.Team, Zone: r.Zone, Host: r.Host, Tags: d.Owner.Tags}
	}
	for i := range s.Resources {
		r := s.Resources[i].Resource
		switch r.Kind {
		case kinds.Instance:
			id := s.Resources[i].Attributes["site.id"]
			if id == "" {
				continue
			}
			t := thing(r, measure.OfInstance, measure.InstanceKey(r.Site, id))
			k.own(t, alarm.Node{Rank: alarm.Instance, On: []string{k.place(r.Site, r.Zone, r.Host)}, Service: t.Service})
			k.rest(t.Key, why, r)
		case kinds.Software:
			k.part(d, s, r, titles)
		}
	}
	for _, x := range deployments.ProbesOf(s) {
		k.endpoint(d, s, x, thing, why)
	}
	k.opened(d)
}

// own has a machine be known as that of a deployment, whatever the inventory says of it: only its tags and where it is are added.
func (k *known) own(t measure.Thing, n alarm.Node) {
	if was := k.things[t.Key]; was != nil {
		t.Host, t.Zone = cmp.Or(was.Host, t.Host), cmp.Or(was.Zone, t.Zone)
		tags := maps.Clone(t.Tags)
		if tags == nil {
			tags = map[string]string{}
		}
		maps.Copy(tags, was.Tags)
		t.Tags = tags
		n.On = []string{k.place(t.Site, t.Zone, t.Host)}
		delete(k.things, t.Key)
	}
	k.add(t, n)
}

// underWay is why everything of a deployment rests while a run works on it.
const underWay = "a run of it is under way"

// rest says why a thing of a machine rests; "" and on, it does not.
func (k *known) rest(key, why string, machine *plan.Resource) {
	switch {
	case why != "":
		k.rests[key] = why
	case machine != nil && machine.Off:
		k.rests[key] = "it is switched off, as was asked for"
	}
}

func partID(deployment int64, resource string) string {
	return fmt.Sprintf("part d%d/%s", deployment, resource)
}

func groupID(deployment int64, node string) string { return fmt.Sprintf("d%d/%s", deployment, node) }

// part is software on a machine, which talks to what it stands on of other tiers.
func (k *known) part(d *deployments.Deployment, s *run.State, r *plan.Resource, titles map[string]string) {
	n := alarm.Node{ID: partID(d.ID, r.ID), Rank: alarm.Part, Name: r.Title, Site: r.Site, Deployment: d.ID, Of: d.Name, Resource: r.ID, Service: cmp.Or(titles[r.Service], r.Service), Group: groupID(d.ID, r.Node)}
	if on := s.Resource(r.On); on != nil {
		n.On = []string{measure.InstanceKey(on.Site, on.Attributes["site.id"])}
	}
	for _, id := range r.StandsOn {
		below := s.Plan.Resource(id)
		if below != nil && below.AsEndpoint().EndpointOf != "" {
			below = s.Plan.Resource(below.AsEndpoint().EndpointOf)
		}
		if below == nil || below.Kind != kinds.Software || below.Node == r.Node || below.On == r.On {
			continue
		}
		if group := groupID(d.ID, below.Node); !slices.Contains(n.Needs, group) {
			n.Needs = append(n.Needs, group)
		}
	}
	k.nodes[n.ID] = n
}

// endpoint is one that is asked.
func (k *known) endpoint(d *deployments.Deployment, s *run.State, x deployments.Probe, thing func(*plan.Resource, measure.Kind, string) measure.Thing, why string) {
	r := s.Plan.Resource(x.Resource)
	if r == nil || x.Where == "" {
		return
	}
	t := thing(r, measure.OfEndpoint, measure.EndpointKey(d.ID, r.ID))
	t.Address = x.Where
	n := alarm.Node{Rank: alarm.Endpoint, Service: t.Service}
	of := s.Plan.Resource(r.AsEndpoint().EndpointOf)
	if of == nil { // software that is asked itself
		of = r
	}
	machine := of
	if of.Kind == kinds.Instance {
		n.On = []string{measure.InstanceKey(of.Site, s.Resource(of.ID).Attributes["site.id"])}
	} else {
		machine = s.Plan.Resource(of.On)
		n.On = []string{partID(d.ID, of.ID)}
	}
	k.add(t, n)
	k.rest(t.Key, why, machine)
	k.probes = append(k.probes, probe{t.Key, x})
}

// titlesOf are the titles of the services of a plan.
func titlesOf(p *plan.Plan) map[string]string {
	out := map[string]string{}
	for _, s := range p.Services {
		out[s.Name] = cmp.Or(s.Title, s.Name)
	}
	return out
}

// thresholds are those of a thing.
func (k *known) thresholds(t *measure.Thing) []*alarm.Threshold {
	of, has := k.wants[t.Key]
	if !has {
		of, _ = k.file.For(t) // one that cannot be worked out fits nothing; checking the file says so
		k.wants[t.Key] = of
	}
	return of
}
