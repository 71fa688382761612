package alarm

import (
	"cmp"
	"slices"

	"andamio/internal/core/measure"
)

// Rank is how deep something stands: what is deeper carries what is less deep.
type Rank int

// The ranks, from what users reach down to the site.
const (
	Endpoint Rank = iota
	Part
	Instance
	Host
	Zone
	Site
	Self
	// Whole is what is measured together; it carries nothing and stands on nothing.
	Whole
)

// Word names a rank.
func (r Rank) Word() string {
	return [...]string{"endpoint", "part", "instance", "host", "zone", "site", "andamio", "whole"}[r]
}

// Node is something that can be a cause.
type Node struct {
	// ID is the key of the thing, where it is measured (measure.Thing).
	ID   string
	Rank Rank
	Name string
	Site string
	// Deployment is the number of the one that it belongs to, Of its name, Resource its id there.
	Deployment int64
	Of         string
	Resource   string
	Service    string
	// Group is what stands in for each other: when all of a group fail, what needs it fails.
	Group string
	// Holds are the things that a whole is made of.
	Holds []string
	// On is what carries it, each without which it is not there.
	On []string
	// Needs are the groups that it talks to.
	Needs []string
}

// Graph is what stands on what.
type Graph struct {
	nodes   map[string]*Node
	carries map[string][]string
	groups  map[string][]string
}

// NewGraph is the graph of nodes. What a node names and is not among them is left out.
func NewGraph(nodes []Node) *Graph {
	g := &Graph{nodes: make(map[string]*Node, len(nodes)), carries: map[string][]string{}, groups: map[string][]string{}}
	for i := range nodes {
		g.nodes[nodes[i].ID] = &nodes[i]
	}
	for i := range nodes {
		n := &nodes[i]
		for _, on := range n.On {
			g.carries[on] = append(g.carries[on], n.ID)
		}
		if n.Group != "" {
			g.groups[n.Group] = append(g.groups[n.Group], n.ID)
		}
	}
	return g
}

// Node is the node of an id; nil if there is none.
func (g *Graph) Node(id string) *Node { return g.nodes[id] }

// Of is the node of an alarm, which is there though the graph does not know it.
func (g *Graph) of(a *Alarm) *Node {
	if n := g.nodes[a.Thing]; n != nil {
		return n
	}
	return &Node{ID: a.Thing, Rank: rankOf(a.Kind), Name: a.Name}
}

func rankOf(k measure.Kind) Rank {
	switch k {
	case measure.OfInstance:
		return Instance
	case measure.OfSite:
		return Site
	case measure.OfRun:
		return Self
	case measure.OfWhole:
		return Whole
	}
	return Endpoint
}

// under are all that carry a node, itself first, from the least deep to the deepest.
func (g *Graph) under(id string) []*Node {
	seen := map[string]bool{id: true}
	var out []*Node
	for next := []string{id}; len(next) > 0; next = next[1:] {
		n := g.nodes[next[0]]
		if n == nil {
			continue
		}
		out = append(out, n)
		for _, on := range n.On {
			if !seen[on] {
				seen[on] = true
				next = append(next, on)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b *Node) int { return cmp.Compare(a.Rank, b.Rank) })
	return out
}

// isUnder reports that one node carries another.
func (g *Graph) isUnder(deep, id string) bool {
	return slices.ContainsFunc(g.under(id), func(n *Node) bool { return n.ID == deep })
}
