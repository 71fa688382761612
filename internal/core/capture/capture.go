// Package capture makes a template of what stands.
//
// In goes the plan of a deployment as it stands; out come the files of a TOSCA template that raises its like: instances,
// volumes, networks and software with their scripts, counts where several instances are alike, and the values that were
// given. Attributes of other resources stay what they are in a template, functions; secrets become inputs. What a plan
// does not keep is not in it: the reasons for its placement, and the wishes behind its measures.
package capture

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v4"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/tosca"
)

// Files are a template's files by path; template.yaml is the template.
type Files map[string][]byte

// Template makes the files of a template of what stands.
func Template(p *plan.Plan) (Files, error) {
	c := &capturer{plan: p, nodes: map[string]*node{}, files: Files{}, attributes: map[string]any{}, relations: map[relation]map[string]any{}}
	for i := range p.Resources {
		c.resource(&p.Resources[i])
	}
	for i := range p.Steps {
		c.step(&p.Steps[i])
	}
	c.balancers()
	text, err := yaml.Marshal(c.document())
	if err != nil {
		return nil, err
	}
	c.files["template.yaml"] = text
	return c.files, nil
}

// capturer gathers the nodes of a template.
type capturer struct {
	plan  *plan.Plan
	nodes map[string]*node
	order []string
	files Files
	// attributes are those that scripts put out, as the types of a template declare them.
	attributes map[string]any
	// relations are the operations of relationships; ends are the keywords of the ends of the one that is looked at, of the
	// node whose script is.
	relations map[relation]map[string]any
	ends      map[string]string
	of        string
	// left are the titles of steps that a template of parts cannot say.
	left []string
}

// node is one node template, made from one or more like resources.
type node struct {
	kind  kinds.Kind
	first *plan.Resource
	count int
	// interfaces are its operations by name, endpoints the ports that it answers on.
	operations map[string]map[string]any
	artifacts  map[string]any
	port       int64
	metrics    *plan.Step // looks that it tells figures of itself; nil if it does not
	web        bool       // it is asked as web pages are
	path       string
	public     *plan.Resource
	host       string
	connects   []string
	// balances says that it is a load balancer which its site runs itself, and balancing what that does.
	balances  bool
	balancing *plan.Balancing
	sites     []string // where its instances stand
}

// endpoint is the capability under which its software answers: that by which users know it, where there is one.
func (n *node) endpoint() string {
	if n.public != nil {
		if _, name, found := strings.Cut(n.public.ID, "."); found {
			return name[strings.LastIndexByte(name, '.')+1:]
		}
	}
	return endpointName
}

func (c *capturer) resource(r *plan.Resource) {
	if r.IsCopy() { // what is kept of it elsewhere
		return
	}
	switch r.Kind {
	case kinds.Action, kinds.Snapshot:
		return
	case kinds.Endpoint:
		if n := c.nodes[r.Node]; n != nil && n.public == nil {
			n.public = r
		}
		return
	}
	if c.implied(r) {
		return
	}
	n := c.nodes[r.Node]
	if n == nil || n.kind != r.Kind && r.Kind == kinds.Instance {
		n = &node{kind: r.Kind, first: r, operations: map[string]map[string]any{}}
		c.nodes[r.Node] = n
		c.order = append(c.order, r.Node)
	}
	n.count++
	if !slices.Contains(n.sites, r.Site) {
		n.sites = append(n.sites, r.Site)
	}
	if on := c.plan.Resource(r.On); on != nil && n.host == "" {
		n.host = on.Node
	}
	for _, id := range r.StandsOn {
		on := c.plan.Resource(id)
		if r.Kind == kinds.Software && on != nil && on.Kind == kinds.Software && on.Node != r.Node && !slices.Contains(n.connects, on.Node) {
			n.connects = append(n.connects, on.Node)
		}
	}
}

// implied reports that a resource is built without the template asking for it: the interface of an instance for which it
// names none, and the network that only such are in.
func (c *capturer) implied(r *plan.Resource) bool {
	if r.Kind == kinds.Interface {
		return c.plan.Resource(r.AsInterface().Instance).Node == r.Node
	}
	if r.Kind != kinds.Network {
		return false
	}
	named, linked := false, false
	for i := range c.plan.Resources {
		if f := &c.plan.Resources[i]; f.Kind == kinds.Interface && f.AsInterface().Network == r.ID {
			linked = true
			named = named || !c.implied(f)
		}
	}
	return linked && !named
}

// step takes a script of a node's lifecycle over, of its first instance.
func (c *capturer) step(s *plan.Step) {
	if s.Op == op.Connect {
		c.relate(s)
		return
	}
	n := c.nodes[c.plan.Resource(s.Resource).Node]
	if n == nil || n.first.ID != s.Resource {
		return
	}
	if s.Script != nil && s.Op == op.Call {
		c.left = append(c.left, s.Title)
	}
	if s.Script == nil || s.Op != op.Create && s.Op != op.Configure && s.Op != op.Start {
		return
	}
	node := n.first.Node
	n.operations[string(s.Op)] = c.operation(node, s.Script)
	undo := map[op.Op]string{op.Create: "delete", op.Start: "stop"}[s.Op]
	if s.Undo != nil && undo != "" {
		n.operations[undo] = c.operation(node, s.Undo)
	}
	if s.Quiesce != nil {
		c.left = append(c.left, "how "+node+" is quiesced for snapshots")
	}
}

// fileOf is where a file of what stands is in a template of it: those that came with Andamio are files of that template, like its own.
func fileOf(name string) string {
	if inside, ships := tosca.Inside(name); ships {
		return "shipped/" + inside
	}
	return name
}

func (c *capturer) operation(node string, s *plan.Script) map[string]any {
	c.of = node
	script := fileOf(s.Path)
	c.files[script] = []byte(c.plan.Scripts[s.Path])
	op := map[string]any{"implementation": script}
	if len(s.Files) > 0 {
		var files []string
		for _, f := range s.Files {
			c.files[fileOf(f.File)] = c.plan.Files[f.File]
			files = append(files, fileOf(f.File))
		}
		op["implementation"] = map[string]any{"primary": script, "dependencies": files}
	}
	inputs := map[string]any{}
	for _, in := range s.Inputs {
		inputs[in.Name] = c.value(in.Value)
	}
	if len(inputs) > 0 {
		op["inputs"] = inputs
	}
	outputs := map[string]any{}
	for _, out := range s.Outputs {
		if r := c.plan.Resource(out.Resource); r != nil && !strings.HasPrefix(out.Attribute, "output.") {
			name := c.end(r.Node)
			if name == node {
				name = "SELF"
			}
			outputs[out.Name] = []any{name, out.Attribute}
			c.attributes[out.Attribute] = map[string]any{"type": "string"}
		}
	}
	if len(outputs) > 0 {
		op["outputs"] = outputs
	}
	return op
}

// portOf is the port that a node's software answers on, as its check has it; 0 if it has none.
func (n *node) portOf(p *plan.Plan) int64 {
	if n.port != 0 {
		return n.port
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Resource == n.first.ID && s.Op == op.Check && s.Check.Metrics {
			n.metrics = s
			continue
		}
		if s.Resource == n.first.ID && s.Op == op.Check && s.Check.Port != nil && len(s.Check.Port.Args) > 1 {
			n.port = portIn(s)
			n.web, n.path = strings.HasPrefix(n.first.Detail, "http"), s.Check.Path
		}
	}
	return n.port
}

// portIn is the port of a machine that a step asks; 0 if that is not said.
func portIn(s *plan.Step) (port int64) {
	if s.Check.Port != nil && len(s.Check.Port.Args) > 1 {
		_, _ = fmt.Sscanf(fmt.Sprint(s.Check.Port.Args[1].Literal), "port.%d", &port)
	}
	return port
}

// with has a mapping within another have an entry more.
func with(in map[string]any, name, key string, value any) {
	within, is := in[name].(map[string]any)
	if !is {
		within = map[string]any{}
		in[name] = within
	}
	within[key] = value
}

// metricsName is the capability under which captured software tells figures of itself.
const metricsName = "metrics"

// endpointName is the capability under which captured software answers.
const endpointName = "service"

// Types of a captured template: software that answers, for other software and for users.
const (
	typeInner  = "captured.nodes.Service"
	typePublic = "captured.nodes.PublicService"
	typeSilent = "captured.nodes.Software"
)

func (c *capturer) document() map[string]any {
	templates := map[string]any{}
	for _, name := range c.order {
		templates[c.named(name)] = c.template(name, c.nodes[name])
	}
	topology := map[string]any{"node_templates": templates}
	if inputs := c.secrets(); len(inputs) > 0 {
		topology["inputs"] = inputs
	}
	if outputs := c.outputs(); len(outputs) > 0 {
		topology["outputs"] = outputs
	}
	if policies := c.policies(); len(policies) > 0 {
		topology["policies"] = policies
	}
	description := "Made from the deployment " + c.plan.Name + " as it stood."
	if len(c.left) > 0 {
		description += " Not in it, for a template of parts cannot say it: " + strings.Join(c.left, ", ") + "."
	}
	return map[string]any{
		"tosca_definitions_version": "tosca_simple_yaml_1_3",
		"metadata":                  map[string]any{"template_name": c.plan.Name},
		"description":               description,
		"node_types":                c.nodeTypes(),
		"topology_template":         topology,
	}
}

// outputs are what the deployment exposes, asked of the nodes of the template.
func (c *capturer) outputs() map[string]any {
	out := map[string]any{}
	for _, o := range c.plan.Outputs {
		out[o.Name] = without("", map[string]any{"description": o.Description, "value": c.value(o.Value)})
	}
	return out
}

// typeOf is the type of a node's software: what answers under a name of its own has a type of its own.
func (c *capturer) typeOf(n *node) string {
	t := typePublic
	switch {
	case n.portOf(c.plan) == 0:
		t = typeSilent
	case n.public == nil:
		t = typeInner
	case n.endpoint() != endpointName:
		t += "." + n.endpoint()
	}
	if n.metrics != nil {
		t += ".Metered"
	}
	return t
}

func (c *capturer) nodeTypes() map[string]any {
	out := map[string]any{}
	for _, name := range c.order {
		n := c.nodes[name]
		if n.kind != kinds.Software || n.balances {
			continue
		}
		def := map[string]any{"derived_from": "tosca.nodes.SoftwareComponent"}
		if len(c.attributes) > 0 {
			def["attributes"] = c.attributes
		}
		if n.portOf(c.plan) != 0 {
			capability := "tosca.capabilities.Endpoint"
			if n.public != nil {
				capability += ".Public"
			}
			def["capabilities"] = map[string]any{n.endpoint(): map[string]any{"type": capability}}
		}
		if n.metrics != nil {
			with(def, "capabilities", metricsName, map[string]any{"type": "andamio.capabilities.Metrics"})
		}
		def["requirements"] = []any{map[string]any{"uses": map[string]any{"capability": "tosca.capabilities.Endpoint",
			"relationship": "tosca.relationships.ConnectsTo", "occurrences": []any{0, "UNBOUNDED"}}}}
		out[c.typeOf(n)] = def
	}
	return out
}

// policies keep what stands where it stands: the reasons for it are not in a plan.
func (c *capturer) policies() []any {
	var out []any
	for _, name := range c.order {
		n := c.nodes[name]
		if n.kind != kinds.Instance && !n.balances {
			continue
		}
		sites := slices.Sorted(slices.Values(n.sites))
		name = c.named(name)
		out = append(out, map[string]any{name + "-where-it-stood": map[string]any{"type": "andamio.policies.Allow", "targets": []string{name},
			"properties": map[string]any{"sites": sites, "because": "it stood there when this was made"}}})
		if len(sites) > 1 {
			out = append(out, map[string]any{name + "-spread-as-it-was": map[string]any{"type": "andamio.policies.Spread", "targets": []string{name},
				"properties": map[string]any{"over": "site", "most": (n.count + len(sites) - 1) / len(sites)}}})
		}
	}
	return out
}

func (c *capturer) secrets() map[string]any {
	out := map[string]any{}
	for _, name := range c.plan.Secrets {
		out[name] = map[string]any{"type": "string", "metadata": map[string]any{"secret": "true"}}
	}
	return out
}

func (c *capturer) template(name string, n *node) map[string]any {
	out := map[string]any{}
	if n.first.Description != "" {
		out["description"] = n.first.Description
	}
	switch n.kind {
	case kinds.Network:
		out["type"] = "tosca.nodes.network.Network"
		out["properties"] = without("", map[string]any{"network_name": n.first.AsNetwork().Label, "cidr": n.first.AsNetwork().CIDR})
	case kinds.Volume:
		out["type"], out["properties"] = "tosca.nodes.Storage.BlockStorage", map[string]any{"size": gib(n.first.DiskGiB())}
	case kinds.Interface:
		out["type"] = "tosca.nodes.network.Port"
		out["requirements"] = []any{map[string]any{"binding": c.plan.Resource(n.first.AsInterface().Instance).Node}, map[string]any{"link": c.plan.Resource(n.first.AsInterface().Network).Node}}
	case kinds.Instance:
		c.instance(n, out)
	case kinds.Software:
		if n.balances {
			c.balancer(n, out)
			break
		}
		c.software(n, out)
	}
	return out
}

func (c *capturer) instance(n *node, out map[string]any) {
	sp := n.first.AsInstance()
	out["type"] = "tosca.nodes.Compute"
	need := plan.Need{Cores: sp.Cores, MemoryGiB: sp.MemoryGiB, DiskGiB: sp.DiskGiB}
	if n.first.Need != nil { // what was asked for, of which its site may have given more
		need = *n.first.Need
	}
	capabilities := map[string]any{"host": map[string]any{"properties": map[string]any{"num_cpus": need.Cores, "mem_size": gib(need.MemoryGiB), "disk_size": gib(need.DiskGiB)}}}
	if n.count > 1 {
		capabilities["scalable"] = map[string]any{"properties": map[string]any{"min_instances": 1, "max_instances": max(n.count, 2) * 4, "default_instances": n.count}}
	}
	out["capabilities"] = capabilities
	var attached []any
	for i := range c.plan.Steps {
		s := &c.plan.Steps[i]
		if s.Op != op.Attach || s.Resource != n.first.ID {
			continue
		}
		attached = append(attached, map[string]any{"local_storage": map[string]any{"node": c.plan.Resource(s.Volume).Node,
			"relationship": map[string]any{"type": "tosca.relationships.AttachesTo", "properties": map[string]any{"location": s.Location}}}})
	}
	if attached != nil {
		out["requirements"] = attached
	}
}

func (c *capturer) software(n *node, out map[string]any) {
	out["type"] = c.typeOf(n)
	if n.portOf(c.plan) != 0 {
		out["capabilities"] = map[string]any{n.endpoint(): map[string]any{"properties": n.endpointProperties()}}
	}
	if n.metrics != nil {
		with(out, "capabilities", metricsName, map[string]any{"properties": map[string]any{"port": portIn(n.metrics), "url_path": n.metrics.Check.Path}})
	}
	requirements := []any{map[string]any{"host": n.host}}
	sort.Strings(n.connects)
	for _, to := range n.connects {
		if c.nodes[to].portOf(c.plan) != 0 {
			requirements = append(requirements, map[string]any{"uses": c.uses(n.first.Node, to)})
		} else {
			requirements = append(requirements, map[string]any{"dependency": to})
		}
	}
	out["requirements"] = requirements
	if len(n.artifacts) > 0 {
		out["artifacts"] = n.artifacts
	}
	if len(n.operations) > 0 {
		standard := map[string]any{}
		for _, op := range slices.Sorted(maps.Keys(n.operations)) {
			standard[op] = n.operations[op]
		}
		out["interfaces"] = map[string]any{"Standard": standard}
	}
}

// endpointProperties say how its software is asked.
func (n *node) endpointProperties() map[string]any {
	out := map[string]any{"port": n.port, "protocol": "tcp"}
	if n.web {
		out["protocol"] = "http"
	}
	where := n.path
	if n.public != nil {
		out["protocol"], where = n.public.AsEndpoint().Protocol, n.public.AsEndpoint().Path
	}
	if where != "" {
		out["url_path"] = where
	}
	return out
}

func gib(x float64) string { return fmt.Sprintf("%g GiB", x) }

// without is a map without the entries that have a value.
func without(value string, m map[string]any) map[string]any {
	maps.DeleteFunc(m, func(_ string, v any) bool { return v == value })
	return m
}
