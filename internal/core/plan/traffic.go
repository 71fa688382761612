package plan

import (
	"andamio/internal/core/placement"
	"andamio/internal/core/topology"
)

// answersOf are the answers that a design gives to plain questions, by the node of the instance they are about.
func answersOf(d *topology.Design) map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for _, r := range d.Rules {
		given, _ := r.Properties["answers"].(map[string]any)
		if r.Kind != "answers" || len(given) == 0 {
			continue
		}
		for _, node := range basesOf(r, d) {
			if out[node] == nil {
				out[node] = map[string]bool{}
			}
			for question, v := range given {
				out[node][question], _ = v.(bool)
			}
		}
	}
	return out
}

// basesOf are the instances that the targets of a rule stand on, each once; all, if it has no targets.
func basesOf(r topology.Rule, d *topology.Design) []string {
	var out []string
	seen := map[string]bool{}
	add := func(n *topology.Node) {
		if n != nil && n.Base != nil && !seen[n.Base.Name] {
			seen[n.Base.Name] = true
			out = append(out, n.Base.Name)
		}
	}
	if len(r.Targets) == 0 {
		for _, n := range d.Nodes {
			add(n)
		}
	}
	for _, t := range r.Targets {
		add(d.Node(t))
	}
	return out
}

// pairOf is an ordered pair of instance nodes.
type pairOf struct{ from, to string }

// trafficOf is what passes between instances: where one connects to another, and what policies say of how much.
func trafficOf(d *topology.Design) []placement.Traffic {
	said := map[pairOf]placement.Traffic{}
	var order []pairOf
	note := func(k pairOf, t placement.Traffic) {
		if _, known := said[k]; !known {
			order = append(order, k)
		}
		said[k] = t
	}
	for _, n := range d.Nodes {
		for _, r := range n.Relations {
			if r.Order != topology.Connects && r.Order != topology.Routes || n.Base == nil || r.Target.Base == nil || n.Base == r.Target.Base {
				continue
			}
			note(pairOf{n.Base.Name, r.Target.Base.Name}, placement.Traffic{Weight: 1})
		}
	}
	for _, r := range d.Rules {
		bases := basesOf(r, d)
		if r.Kind != "traffic" || len(bases) != 2 {
			continue
		}
		t := placement.Traffic{Weight: 1, GiB: number(r, "gib_per_hour"), BackGiB: number(r, "back_gib_per_hour"), MaxMs: number(r, "max_ms")}
		note(pairOf{bases[0], bases[1]}, t)
	}
	var out []placement.Traffic
	for _, k := range order {
		from, to := d.Node(k.from), d.Node(k.to)
		for i := range max(from.Count, to.Count) {
			t := said[k]
			t.From, t.To = instanceID(from, i%max(from.Count, 1)), instanceID(to, i%max(to.Count, 1))
			if from.Count > 0 && to.Count > 0 && t.From != t.To {
				out = append(out, t)
			}
		}
	}
	return out
}

func number(r topology.Rule, property string) float64 {
	x, _ := r.Properties[property].(float64)
	return x
}
