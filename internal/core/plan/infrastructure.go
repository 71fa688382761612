package plan

import (
	"fmt"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
)

// networks adds each network once at every site where an interface links to it.
func (c *compiler) networks() error {
	linked := map[string]bool{}
	err := c.each(kinds.Interface, func(n *topology.Node, i int, at *placement.Choice) error {
		net := target(n, topology.Links)
		if net == nil {
			return fmt.Errorf("%s: %s links to no network", n.Pos, n.Name)
		}
		linked[net.Name] = true
		return c.network(net, at.Site)
	})
	for _, n := range c.design.Nodes {
		if n.Builds == kinds.Network && !linked[n.Name] {
			c.plan.Notes = append(c.plan.Notes, fmt.Sprintf("network %s is not built: no interface links to it", n.Name))
		}
	}
	return err
}

func (c *compiler) network(n *topology.Node, site string) error {
	id := networkID(n.Name, site)
	if _, done := c.at[id]; done {
		return nil
	}
	if n.Standing != nil {
		return c.takeNetwork(n, id, site)
	}
	cidr, _ := n.Properties["cidr"].(string)
	label, _ := n.Properties["network_name"].(string)
	vlan, _ := n.Properties["segmentation_id"].(string)
	if label == "" {
		label = n.Name
	}
	vlan, err := c.vlan(n, site, vlan)
	if err != nil {
		return err
	}
	c.addNetwork(Resource{ID: id, Node: n.Name, Title: n.Name, Service: n.Service, Description: n.Description, Site: site,
		Detail: cidr, Spec: NetworkSpec{Label: label, CIDR: cidr, VLAN: vlan}})
	return nil
}

// takeNetwork adds a network that stands already.
func (c *compiler) takeNetwork(n *topology.Node, id, site string) error {
	st := n.Standing
	if st.Site != site {
		return fmt.Errorf("%s: the network %s stands at %s only, and an instance linked to it is placed at %s", n.Pos, st.Name, st.Site, site)
	}
	c.add(Resource{ID: id, Node: n.Name, Title: n.Name, Kind: kinds.Network, Service: n.Service, Description: n.Description, Site: site,
		Detail: "stands as " + st.Name, Spec: NetworkSpec{Label: st.Name, Existing: st.Attributes["site.id"]}, Why: []string{st.Name + " stands there"}})
	c.step(Step{Resource: id, Op: op.Take, Title: "take " + st.Name, Check: Condition{Kind: CheckNone},
		Sets: map[string]string{"site.id": st.Attributes["site.id"]}}, "", 0)
	return nil
}

func (c *compiler) addNetwork(r Resource) {
	r.Kind = kinds.Network
	r.Why = []string{"instances linked to it are at " + r.Site}
	c.add(r)
	created := c.step(Step{Resource: r.ID, Op: op.Create, Title: "create network", Check: Condition{Kind: CheckSite}}, "",
		c.estate.Site(r.Site).Timings.Network)
	if n := c.design.Node(r.Node); n != nil {
		c.waitFor(n, created)
	}
}

func target(n *topology.Node, order topology.Ordering) *topology.Node {
	for _, r := range n.Relations {
		if r.Order == order {
			return r.Target
		}
	}
	return nil
}

func (c *compiler) volumes() error {
	return c.each(kinds.Volume, func(n *topology.Node, i int, at *placement.Choice) error {
		size := inGiB(n.Properties["size"], 1)
		site := c.estate.Site(at.Site)
		need := Need{DiskGiB: size}
		if r := c.unchanged(c.resourceID(n, i), at.Site, need); r != nil {
			size = r.DiskGiB()
		}
		r := c.add(Resource{ID: c.resourceID(n, i), Node: n.Name, Title: title(n, i), Kind: kinds.Volume, Service: n.Service,
			Description: n.Description, Site: at.Site, Zone: at.Zone, Detail: estate.GiB(size), Need: &need,
			CostPerHour: money.Of(size * site.Prices.Disk), Spec: VolumeSpec{DiskGiB: size, Label: c.resourceID(n, i)},
			Why: []string{"with the instance it is attached to"}})
		c.waitFor(n, c.step(Step{Resource: r.ID, Op: op.Create, Title: "create volume", Check: Condition{Kind: CheckSite}}, "",
			site.Timings.Volume))
		return nil
	})
}

func (c *compiler) instances() error {
	return c.each(kinds.Instance, func(n *topology.Node, i int, at *placement.Choice) error {
		return c.instance(n, i, at)
	})
}

func (c *compiler) instance(n *topology.Node, i int, at *placement.Choice) error {
	site := c.estate.Site(at.Site)
	if service := c.applianceAt(n, at); service != "" {
		return c.appliance(n, i, at, service)
	}
	need, volumes := needOf(n)
	cores, memory := need.Cores, need.MemoryGiB
	for _, s := range site.Sizes {
		if s.Name == at.Size {
			cores, memory = s.Cores, s.MemoryGiB
		}
	}
	id := c.resourceID(n, i)
	size, disk := at.Size, need.DiskGiB-volumes
	beside := money.Of(volumes * site.Prices.Disk) // its volumes are resources of their own
	price, off := at.CostPerHour-beside, at.Cost.Storage+at.Cost.Address-beside
	asked := Need{need.Cores, need.MemoryGiB, disk}
	if r := c.unchanged(id, at.Site, asked); r != nil {
		size, cores, memory, disk, price, off = r.AsInstance().Size, r.AsInstance().Cores, r.AsInstance().MemoryGiB, r.DiskGiB(), r.CostPerHour, r.CostOff
	}
	detail := estate.Cores(cores) + " " + estate.GiB(memory)
	if size != "" {
		detail = size + " " + detail
	}
	name, err := c.hostname(n, i, at)
	if err != nil {
		return err
	}
	c.add(Resource{ID: id, Node: n.Name, Title: title(n, i), Kind: kinds.Instance, Service: n.Service, Description: n.Description,
		Site: at.Site, Zone: at.Zone, Host: at.Host, Detail: detail,
		CostPerHour: price, CostOff: off, Why: at.Reasons, Elsewhere: at.Elsewhere, Need: &asked,
		Spec: InstanceSpec{Hostname: name, Cores: cores, MemoryGiB: memory, DiskGiB: disk, Size: size,
			Image: imageOf(site, n)}})
	created := c.step(Step{Resource: id, Op: op.Create, Title: "create instance", Check: Condition{Kind: CheckSite}}, "",
		site.Timings.Instance)
	c.waitFor(n, created)
	c.ready[id] = []string{created}
	for _, rel := range n.Relations {
		if rel.Order == topology.Attaches {
			c.attach(id, created, rel, i)
		}
	}
	return nil
}

// unchanged is what stands of a resource at a site, if no more and no less is asked for than when it was sized: whatever
// size it has been given since is kept.
func (c *compiler) unchanged(id, site string, need Need) *Resource {
	r := c.stands(id, site)
	if r == nil || r.Need == nil || *r.Need != need {
		return nil
	}
	return r
}

// imageOf is what an instance starts from: the image it names, or the site's first of its system.
func imageOf(site *estate.Site, n *topology.Node) string {
	if n.Image != "" {
		return n.Image
	}
	if image := site.Image(osOf(n), releaseOf(n)); image != nil {
		return image.Name
	}
	return ""
}

func (c *compiler) attach(instance, created string, rel topology.Relation, i int) {
	volume := c.resourceID(rel.Target, i)
	location, _ := rel.Properties["location"].(string)
	r := c.resource(instance)
	r.StandsOn = append(r.StandsOn, volume)
	done := c.step(Step{Resource: instance, Op: op.Attach, Title: "attach " + c.resource(volume).Title, Volume: volume,
		Location: location, Check: Condition{Kind: CheckSite}}, volume,
		c.estate.Site(r.Site).Timings.Attachment, created, c.last[volume])
	c.ready[instance] = append(c.ready[instance], done)
}
