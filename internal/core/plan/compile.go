package plan

import (
	"fmt"
	"slices"
	"strconv"

	"andamio/internal/core/address"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
)

// compiler builds one plan. Its methods run in the order of the lifecycle, so that what a resource stands on is there
// before it.
type compiler struct {
	design *topology.Design
	placed *placement.Placement
	estate *estate.Estate
	plan   *Plan
	at     map[string]int
	stepAt map[string]int
	// last is the step after which a resource is usable by others.
	last map[string]string
	// stood are the last steps before targets are told of their sources.
	stood map[string]string
	// expected are the expected seconds of scripts at pace 1, by node and operation.
	expected map[string]map[op.Op]float64
	// plugged is the first interface of an instance resource.
	plugged map[string]string
	// waits are the resources that a step must wait for, whose last steps are known only when all is added.
	waits map[string][]string
	// ready are the steps after which software may be put on an instance resource.
	ready map[string][]string
	// putOut are the attributes, NODE.ATTRIBUTE, that operations put out; provides the steps that do so, by
	// RESOURCE.ATTRIBUTE; asked the attributes that a step's script is given.
	putOut   map[string]bool
	provides map[string]string
	asked    map[string][]asking
	// incoming are the relations that lead to a node and have operations, by the node.
	incoming map[*topology.Node][]incoming
	onBase   map[*topology.Node][]*topology.Node
	sequence []*topology.Node
	outputs  map[string][]string
	// appliances are the services of a site's own that may take the place of instances, by node.
	appliances map[string]string
	// books are what is handed out of the pools of each site.
	books map[string]*address.Book
	// suffix ends the names that are published.
	suffix string
	// like is a plan that stands already; nil for none.
	like *Plan
	// ids are the ids of instances, by the node's place in the design.
	ids [][]string
}

// asking is an attribute that a step's script is given.
type asking struct{ resource, attribute string }

// incoming is a relation with its source.
type incoming struct {
	source *topology.Node
	rel    topology.Relation
}

// Options says how a design is compiled.
type Options struct {
	// Preset is named in the plan.
	Preset string
	// Workflow is the imperative workflow to follow; "" takes the design's own named deploy, and without one the
	// declarative workflow.
	Workflow string
	// Like is a plan that stands already: what it has stays at its addresses and VLANs.
	Like *Plan
	// Name is that of the deployment, "" for the design's. Names that are published end with it where it is another than
	// the design's, since one name stands for one thing.
	Name string
}

// Compile makes the plan that raises a design where the placement puts it. The error names what cannot be built.
func Compile(d *topology.Design, placed *placement.Placement, e *estate.Estate, o Options) (*Plan, error) {
	c := newCompiler(d, placed, e, o.Preset)
	c.like = o.Like
	if o.Name != "" && o.Name != d.Name {
		c.plan.Name, c.suffix = o.Name, "."+label(o.Name)
	}
	c.keepAddresses()
	c.reserve()
	for _, build := range []func() error{c.networks, c.volumes, c.instances, c.interfaces, c.software} {
		if err := build(); err != nil {
			return nil, err
		}
	}
	c.endpoints()
	c.settleWaits()
	if err := c.settleAsked(); err != nil {
		return nil, err
	}
	if w := d.Workflow(o.workflow(d)); w != nil {
		if err := c.follow(w); err != nil {
			return nil, err
		}
	} else if o.Workflow != "" {
		return nil, fault.NotFoundf("the template has no workflow %q", o.Workflow)
	}
	if err := c.addActions(); err != nil {
		return nil, err
	}
	if err := c.finish(); err != nil {
		return nil, err
	}
	return c.plan, c.plan.Check()
}

// workflow is the name of the workflow to follow.
func (o Options) workflow(d *topology.Design) string {
	if o.Workflow == "" && d.Workflow("deploy") != nil {
		return "deploy"
	}
	return o.Workflow
}

func newCompiler(d *topology.Design, placed *placement.Placement, e *estate.Estate, preset string) *compiler {
	n := len(d.Nodes)
	c := &compiler{
		design: d, placed: placed, estate: e, ids: make([][]string, n), appliances: appliancesOf(d),
		plan: &Plan{Version: Version, Name: d.Name, Preset: preset, Currency: e.Currency, Zone: e.Zone, Inputs: map[string]any{},
			Secrets: d.Secrets, Scripts: map[string]string{}, Files: map[string][]byte{}, Notes: d.Notes},
		at: make(map[string]int, n), stepAt: make(map[string]int, 2*n), last: make(map[string]string, n),
		plugged: map[string]string{}, books: map[string]*address.Book{}, ready: map[string][]string{}, waits: map[string][]string{},
		putOut: map[string]bool{}, provides: map[string]string{}, asked: map[string][]asking{},
		incoming: map[*topology.Node][]incoming{}, onBase: map[*topology.Node][]*topology.Node{},
	}
	for _, name := range sortedKeys(d.Inputs) {
		c.plan.Inputs[name] = plain(d.Inputs[name])
	}
	for _, t := range d.Triggers {
		c.plan.Triggers = append(c.plan.Triggers, Trigger(t))
		c.plan.Notes = append(c.plan.Notes, fmt.Sprintf("policy %s: nothing acts on the event %s yet", t.Policy, t.Event))
	}
	c.readDurations()
	c.readRelations()
	return c
}

// reserve makes room for what a design comes to, about.
func (c *compiler) reserve() {
	resources, steps := 0, 0
	for _, n := range c.design.Nodes {
		resources += n.Count
		switch n.Builds {
		case kinds.Instance:
			steps += n.Count
			for _, r := range n.Relations {
				if r.Order == topology.Attaches {
					steps += n.Count
				}
			}
		case kinds.Software:
			steps += (len(n.Operations) + 1) * n.Count
		default:
			steps += n.Count
		}
	}
	c.plan.Resources = make([]Resource, 0, resources)
	c.plan.Steps = make([]Step, 0, steps)
}

// readRelations gathers what leads to each node, what runs on each, and which attributes are put out.
func (c *compiler) readRelations() {
	note := func(ops topology.Operations) {
		for _, op := range ops {
			for _, o := range op.Outputs {
				c.putOut[o.Node+"."+o.Attribute] = true
			}
		}
	}
	for _, n := range c.design.Nodes {
		note(n.Operations)
		if n.Base != nil && n.Base != n {
			c.onBase[n.Base] = append(c.onBase[n.Base], n)
		}
		for _, r := range n.Relations {
			if len(r.Operations) > 0 {
				note(r.Operations)
				c.incoming[r.Target] = append(c.incoming[r.Target], incoming{n, r})
			}
		}
	}
}

// readDurations gathers the Duration policies.
func (c *compiler) readDurations() {
	c.expected = map[string]map[op.Op]float64{}
	for _, r := range c.design.Rules {
		if r.Kind != "duration" {
			continue
		}
		for _, n := range c.design.Nodes {
			if !r.Covers(n.Name) {
				continue
			}
			ops := map[op.Op]float64{}
			for _, op := range []op.Op{op.Create, op.Configure, op.Start} {
				if s, ok := r.Properties[string(op)].(interface{ Float() float64 }); ok {
					ops[op] = s.Float()
				}
			}
			c.expected[n.Name] = ops
		}
	}
}

// Expected seconds at pace 1 where nothing else is said.
const (
	scriptSeconds = 4
	checkSeconds  = 0.5
)

func (c *compiler) scriptSeconds(node string, op op.Op) float64 {
	if s, ok := c.expected[node][op]; ok {
		return s
	}
	return scriptSeconds
}

func (c *compiler) add(r Resource) *Resource {
	c.at[r.ID] = len(c.plan.Resources)
	c.plan.Resources = append(c.plan.Resources, r)
	return &c.plan.Resources[len(c.plan.Resources)-1]
}

func (c *compiler) resource(id string) *Resource { return &c.plan.Resources[c.at[id]] }

// step adds a step on a resource and makes it the resource's last. Part tells it from others that do the same to the resource.
func (c *compiler) step(s Step, part string, seconds float64, after ...string) string {
	r := c.resource(s.Resource)
	s.ID = s.Op.For(s.Resource, part)
	s.Site = r.Site
	s.Seconds = c.estate.Site(r.Site).Seconds(seconds)
	s.After = unique(after)
	c.stepAt[s.ID] = len(c.plan.Steps)
	c.plan.Steps = append(c.plan.Steps, s)
	c.last[s.Resource] = s.ID
	return s.ID
}

// unique drops repeats and blanks, keeping the order.
func unique(ids []string) []string {
	var out []string
	var seen map[string]bool
	for i, id := range ids {
		if id == "" {
			continue
		}
		if len(ids) <= 8 {
			if slices.Contains(out, id) {
				continue
			}
		} else {
			if seen == nil {
				seen = make(map[string]bool, len(ids))
			}
			if seen[id] {
				continue
			}
			seen[id] = true
		}
		if out == nil {
			out = make([]string, 0, len(ids)-i)
		}
		out = append(out, id)
	}
	return out
}

// resourceID is the id of a node's i-th instance. Networks exist once at a site and have ids of their own.
func (c *compiler) resourceID(n *topology.Node, i int) string {
	known := c.ids[n.Index]
	for k := len(known); k <= i; k++ {
		known = append(known, instanceID(n, k))
	}
	c.ids[n.Index] = known
	return known[i]
}

func networkID(node, site string) string { return node + "@" + site }

// title is how people see a resource: the number only where there are several.
func title(n *topology.Node, i int) string {
	if n.Count <= 1 {
		return n.Name
	}
	return n.Name + " " + strconv.Itoa(i+1)
}

// siteOf is where the i-th instance of a node runs: where the instance it stands on is placed.
func (c *compiler) siteOf(n *topology.Node, i int) *placement.Choice {
	if n.Builds == kinds.Volume && n.Base == nil {
		return nil
	}
	base := n
	if n.Base != nil {
		base = n.Base
	}
	return c.placed.Choice(c.resourceID(base, i))
}

func (c *compiler) each(b kinds.Kind, build func(n *topology.Node, i int, at *placement.Choice) error) error {
	for _, n := range c.design.Nodes {
		if n.Builds != b {
			continue
		}
		for i := range n.Count {
			at := c.siteOf(n, i)
			if at == nil {
				return fmt.Errorf("%s: %s has no place: it is attached to nothing", n.Pos, n.Name)
			}
			if err := build(n, i, at); err != nil {
				return err
			}
		}
	}
	return nil
}
