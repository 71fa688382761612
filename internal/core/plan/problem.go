package plan

import (
	"strconv"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

const gib = 1 << 30

// Problem states what of a design is to be placed: each instance with its volumes, what passes between them, and the
// design's rules.
func Problem(d *topology.Design, e *estate.Estate) placement.Problem {
	p := placement.Problem{Estate: e, Weights: placement.Usual}
	answers, appliances := answersOf(d), appliancesOf(d)
	for _, n := range d.Nodes {
		if n.Builds != kinds.Instance {
			continue
		}
		need, volumes := needOf(n)
		for i := range n.Count {
			p.Workloads = append(p.Workloads, placement.Workload{Name: instanceID(n, i), Node: n.Name, Tier: n.Service, Need: need,
				VolumesGiB: volumes, OS: osOf(n), Release: releaseOf(n), Image: n.Image, Appliance: appliances[n.Name], Addresses: 1, Answers: answers[n.Name]})
		}
	}
	p.Traffic = trafficOf(d)
	for _, r := range d.Rules {
		if rule, ok := ruleOf(r, d); ok {
			p.Rules = append(p.Rules, rule)
		}
	}
	for _, n := range d.Nodes {
		if rule, ok := bound(n); ok {
			p.Rules = append(p.Rules, rule)
		}
	}
	return p
}

// bound is the rule that an instance is where the network stands that its interface links to.
func bound(n *topology.Node) (placement.Rule, bool) {
	net := target(n, topology.Links)
	if n.Builds != kinds.Interface || net == nil || net.Standing == nil {
		return placement.Rule{}, false
	}
	return placement.Rule{Name: n.Name + " links to " + net.Standing.Name, Nodes: []string{n.Base.Name}, Sites: []string{net.Standing.Site},
		Because: net.Standing.Name + " stands there"}, true
}

func instanceID(n *topology.Node, i int) string { return n.Name + "-" + strconv.Itoa(i+1) }

// Defaults for a compute node that does not say what it needs.
const (
	defaultCores  = 1
	defaultMemory = 1
	defaultDisk   = 8
)

// needOf reads what an instance needs from its host capability, and the GiB of its volumes.
func needOf(n *topology.Node) (estate.Capacity, float64) {
	need := estate.Capacity{Cores: defaultCores, MemoryGiB: defaultMemory, DiskGiB: defaultDisk}
	for _, c := range n.Capabilities {
		if cores, ok := c.Properties["num_cpus"].(int64); ok {
			need.Cores = int(cores)
		}
		need.MemoryGiB = inGiB(c.Properties["mem_size"], need.MemoryGiB)
		need.DiskGiB = inGiB(c.Properties["disk_size"], need.DiskGiB)
	}
	volumes := 0.0
	for _, r := range n.Relations {
		if r.Order == topology.Attaches {
			volumes += inGiB(r.Target.Properties["size"], 0)
		}
	}
	need.DiskGiB += volumes
	return need, volumes
}

func inGiB(v any, fallback float64) float64 {
	if s, ok := v.(tosca.Scalar); ok {
		return s.Float() / gib
	}
	return fallback
}

func osOf(n *topology.Node) string {
	for _, c := range n.Capabilities {
		if os, ok := c.Properties["type"].(string); ok {
			return os
		}
	}
	return ""
}

// releaseOf is what a node says of the release of its system, beside what kind it is: properties of the capability OperatingSystem, or of one that derives
// from it.
func releaseOf(n *topology.Node) estate.Release {
	for _, c := range n.Capabilities {
		var r estate.Release
		_, system := c.Properties["type"].(string)
		r.Architecture, _ = c.Properties["architecture"].(string)
		r.Distribution, _ = c.Properties["distribution"].(string)
		if !system && r == (estate.Release{}) {
			continue
		}
		if v, ok := c.Properties["version"].(tosca.Version); ok {
			r.Version = v.Text
		}
		return r
	}
	return estate.Release{}
}

// ruleOf turns a placement policy into a rule. Targets above an instance count for the instance they stand on.
func ruleOf(r topology.Rule, d *topology.Design) (placement.Rule, bool) {
	out := placement.Rule{Name: r.Name, Because: r.Because}
	for _, t := range r.Targets {
		if n := d.Node(t); n != nil && n.Base != nil {
			out.Nodes = append(out.Nodes, n.Base.Name)
		}
	}
	if len(r.Targets) > 0 && len(out.Nodes) == 0 {
		return out, false // it covers nothing that is placed
	}
	out.Weight, _ = r.Properties["weight"].(float64)
	switch r.Kind {
	case "together":
		out.Together, _ = r.Properties["over"].(string)
		return out, true
	case "allow":
		out.Sites, out.Kinds = texts(r.Properties["sites"]), texts(r.Properties["site_kinds"])
		out.Jurisdictions, out.Features = texts(r.Properties["jurisdictions"]), texts(r.Properties["features"])
		return out, true
	case "spread":
		out.Apart, _ = r.Properties["over"].(string)
		most, _ := r.Properties["most"].(int64)
		out.Most = int(most)
		out.Jointly, _ = r.Properties["jointly"].(bool)
		return out, true
	}
	return out, false
}

func texts(v any) []string {
	list, _ := v.([]any)
	var out []string
	for _, x := range list {
		if s, ok := x.(string); ok {
			out = append(out, s)
		}
	}
	return out
}
