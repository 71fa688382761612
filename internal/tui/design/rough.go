package design

import (
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
)

// rough is what a template with mistakes would build, as far as its nodes and what they stand on can be told: each node
// once, over what its requirements name, those with mistakes failed. Nothing of it is planned.
func (v *View) rough() *run.State {
	t := v.template
	level := map[string]int{}
	var height func(n *tosca.Node, depth int) int
	height = func(n *tosca.Node, depth int) int {
		if n == nil || depth > len(t.Nodes) {
			return 0 // a name that leads nowhere, or in a circle
		}
		if level[n.Name] == 0 {
			h := 1
			for _, a := range n.Requirements {
				h = max(h, height(t.Node(a.Target), depth+1)+1)
			}
			level[n.Name] = h
		}
		return level[n.Name]
	}
	p := &plan.Plan{Name: t.Name, Sites: []plan.Site{{Name: "anywhere"}}}
	for _, n := range t.Nodes {
		r := plan.Resource{ID: n.Name, Node: n.Name, Title: n.Name, Site: "anywhere", Level: height(n, 0), Service: v.tierOf(n.Name), Kind: kinds.Software}
		for _, a := range n.Requirements {
			if t.Node(a.Target) != nil && !slices.Contains(r.StandsOn, a.Target) {
				r.StandsOn = append(r.StandsOn, a.Target)
			}
		}
		p.Resources = append(p.Resources, r)
		p.Levels = max(p.Levels, r.Level)
	}
	for _, g := range t.Groups {
		p.Services = append(p.Services, plan.Service{Name: g.Name, Title: g.Name})
	}
	s := run.New(p)
	for i := range s.Resources {
		if v.isWrong(t.Nodes[i].Pos) {
			s.Resources[i].Status = run.Failed
		}
	}
	return s
}

// tierOf is the group that a node is in; what is in none belongs where what it stands on does.
func (v *View) tierOf(name string) string {
	seen := map[string]bool{}
	for name != "" && !seen[name] {
		seen[name] = true
		for _, g := range v.template.Groups {
			if slices.Contains(g.Members, name) {
				return g.Name
			}
		}
		n := v.template.Node(name)
		name = ""
		if n != nil && len(n.Requirements) > 0 {
			name = n.Requirements[0].Target
		}
	}
	return ""
}
