package tosca

// Explanation documents a code: what it means and the smallest template that triggers it.
type Explanation struct {
	Code    Code   `json:"code"`
	Meaning string `json:"meaning"`
	Example string `json:"example"`
	// More are files beside the example, by name: what it imports, a script, an estate.json to check it against.
	More map[string]string `json:"more,omitempty"`
	// Later says that not reading the template triggers it, but working it out.
	Later bool `json:"-"`
}

// header starts every example.
const header = "tosca_definitions_version: tosca_simple_yaml_1_3\n"

func explain(code Code, meaning, example string) Explanation {
	return Explanation{Code: code, Meaning: meaning, Example: example}
}

// with puts a file beside the example.
func (e Explanation) with(name, text string) Explanation {
	e.More = map[string]string{name: text}
	return e
}

// later marks an example that is triggered when the template is worked out.
func (e Explanation) later() Explanation {
	e.Later = true
	return e
}

// smallEstate is one site, for what is checked against an estate.
const smallEstate = `{"version":"andamio.estate/1","currency":"cr","sites":[{"name":"vega","kind":"private","network":"address","pace":1,
 "zones":[{"name":"a","free":{"cores":64,"memory_gib":256,"disk_gib":4000}}],
 "sizes":[{"name":"small","cores":2,"memory_gib":4,"price_per_hour":0.1}],
 "images":[{"name":"debian-12","os":"linux"}],"naming":{"pattern":"[a-z][a-z0-9-]*","example":"contacts-1"},
 "prices":{"core":0,"memory_gib":0,"disk_gib":0,"address":0},
 "timings":{"network":1,"volume":1,"instance":1,"interface":1,"attachment":1}}]}
`

// Explanations lists every code with its meaning and an example, in the order of the phases.
var Explanations = []Explanation{
	explain(CodeSyntax, "The file is not YAML.", header+"topology_template: {inputs: [}\n"),
	explain(CodeDuplicateKey, "A mapping has the same key twice; YAML readers would keep one of them silently.",
		header+"topology_template:\n  inputs:\n    port: {type: integer}\n    port: {type: string}\n"),
	explain(CodeTooLarge, "The file nests deeper, its aliases expand further, or the design has more nodes, than any template needs.",
		header+"metadata: {x: &a [&b [*a]]}\n"),
	explain(CodeVersion, "tosca_definitions_version is missing or is not tosca_simple_yaml_1_3.",
		"tosca_definitions_version: tosca_simple_yaml_9_9\n"),
	explain(CodeImport, "An import cannot be opened, or leads out of the template's folder.",
		header+"imports: [nowhere.yaml]\n"),
	explain(CodeShape, "A construct has another YAML shape than the standard gives it, a list where a mapping belongs, say.",
		header+"topology_template: {inputs: [port]}\n"),
	explain(CodeUnknownKey, "A keyname that the standard does not know at this place.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, propertys: {}}\n"),
	explain(CodeMissingKey, "A keyname that the standard requires is not there.",
		header+"topology_template:\n  node_templates:\n    web: {properties: {}}\n"),
	explain(CodeUnsupported, "A construct of the standard that Andamio does not carry out; nothing is ignored silently.",
		header+"topology_template:\n  node_templates: {web: {type: Compute}}\n  workflows:\n    clear:\n      steps:\n"+
			"        one: {target: web, activities: [delegate: undeploy]}\n"),
	explain(CodeUnknownType, "No type of this name and kind is defined or imported.",
		header+"topology_template:\n  node_templates:\n    web: {type: tosca.nodes.Compute2}\n"),
	explain(CodeTypeRedefined, "A type is defined twice.",
		header+"node_types:\n  tosca.nodes.Compute: {derived_from: tosca.nodes.Root}\n"),
	explain(CodeTypeCycle, "A type derives from itself, directly or through others.",
		header+"node_types:\n  a.A: {derived_from: a.B}\n  a.B: {derived_from: a.A}\n"),
	explain(CodeTypeKind, "A type stands where another kind of type belongs.",
		header+"node_types:\n  a.A: {derived_from: tosca.capabilities.Node}\n"),
	explain(CodeWidened, "A derived type allows what the type it derives from does not; it may only narrow it.",
		header+"node_types:\n  a.A: {derived_from: tosca.nodes.Root, properties: {n: {type: integer, constraints: [in_range: [1, 8]]}}}\n"+
			"  a.B: {derived_from: a.A, properties: {n: {type: integer, constraints: [in_range: [1, 16]]}}}\n"),
	explain(CodeValueType, "A value does not have the type its property declares.",
		header+"topology_template:\n  inputs:\n    port: {type: integer, default: often}\n"),
	explain(CodeUnitMissing, "A size, time, frequency or bit rate without its unit.",
		header+"topology_template:\n  inputs:\n    room: {type: scalar-unit.size, default: 40}\n"),
	explain(CodeUnitUnknown, "A unit that the standard does not list (section 3.3.6).",
		header+"topology_template:\n  inputs:\n    room: {type: scalar-unit.size, default: 40 buckets}\n"),
	explain(CodeUnitDoubt, "A unit that is valid but a thousand times off from what such a node needs.",
		header+"topology_template:\n  node_templates:\n    web:\n      type: Compute\n"+
			"      capabilities: {host: {properties: {num_cpus: 2, mem_size: 16 MB}}}\n"),
	explain(CodeConstraint, "A value breaks a constraint of its definition.",
		header+"topology_template:\n  inputs:\n    port: {type: integer, default: 70000, constraints: [in_range: [1, 65535]]}\n"),
	explain(CodeName, "A name with characters that names of resources cannot have.",
		header+"topology_template:\n  node_templates:\n    map host: {type: Compute}\n"),
	explain(CodeUnknownProperty, "A property that the type does not declare.",
		header+"topology_template:\n  node_templates:\n    vol: {type: BlockStorage, properties: {size: 1 GB, sise: 2 GB}}\n"),
	explain(CodeMissingProperty, "A required property without value or default.",
		header+"node_types:\n  a.A: {derived_from: tosca.nodes.Root, properties: {n: {type: integer}}}\n"+
			"topology_template:\n  node_templates:\n    x: {type: a.A}\n"),
	explain(CodeUnknownCapability, "A capability that the node's type does not declare.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, capabilities: {hosts: {}}}\n"),
	explain(CodeUnknownRequirement, "A requirement that the node's type does not declare.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, requirements: [hosts: web]}\n"),
	explain(CodeUnknownNode, "No node template of this name.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, requirements: [dependency: wbe]}\n"),
	explain(CodeUnfulfilled, "A requirement that must be fulfilled and is not.",
		header+"topology_template:\n  node_templates:\n    web: {type: SoftwareComponent}\n"),
	explain(CodeMismatch, "The node named by a requirement has no capability that fulfils it.",
		header+"topology_template:\n  node_templates:\n    vol: {type: BlockStorage, properties: {size: 1 GB}}\n"+
			"    web: {type: SoftwareComponent, requirements: [host: vol]}\n"),
	explain(CodeUnknownOperation, "An interface or operation that the type does not declare.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, interfaces: {Standard: {begin: {}}}}\n"),
	explain(CodeArtifact, "A script that an operation names cannot be opened.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, interfaces: {Standard: {start: nowhere.sh}}}\n"),
	explain(CodeCycle, "Nodes that stand on each other in a circle can never be built.",
		header+"topology_template:\n  node_templates:\n    a: {type: Compute, requirements: [dependency: b]}\n"+
			"    b: {type: Compute, requirements: [dependency: a]}\n"),
	explain(CodeAbstract, "A node template of an abstract type, of which nothing can be built.",
		header+"topology_template:\n  node_templates:\n    web: {type: tosca.nodes.Abstract.Compute}\n"),
	explain(CodeStatus, "A property is used that the type declares deprecated or unsupported.",
		header+"node_types:\n  a.A: {derived_from: tosca.nodes.Root, properties: {n: {type: integer, status: deprecated, required: false}}}\n"+
			"topology_template:\n  node_templates:\n    x: {type: a.A, properties: {n: 1}}\n"),
	explain(CodeCopy, "A copy of a template that is a copy itself.",
		header+"topology_template:\n  node_templates:\n    a: {type: Compute}\n    b: {type: Compute, copy: a}\n    c: {type: Compute, copy: b}\n"),
	explain(CodeUnused, "Something that has no effect, which is hardly what was meant.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute, node_filter: {properties: []}}\n"),
	explain(CodeWorkflow, "An imperative workflow whose steps or activities lead nowhere.",
		header+"topology_template:\n  node_templates: {web: {type: Compute}}\n  workflows:\n    deploy:\n      steps:\n"+
			"        one: {target: web, activities: [delegate: deploy], on_success: [two]}\n"),
	explain(CodeSubstitution, "No template can stand for a node, or one that does maps what is not there.",
		header+"topology_template:\n  node_templates:\n    db: {type: tosca.nodes.Abstract.Compute, directives: [substitute]}\n"),
	explain(CodeSelect, "Nothing stands at the sites that a node with the directive select could be.",
		header+"topology_template:\n  node_templates:\n    lan: {type: tosca.nodes.network.Network, directives: [select]}\n").
		with("estate.json", smallEstate).later(),
	explain(CodeFunction, "A function with the wrong arguments.",
		header+"topology_template:\n  outputs:\n    o: {value: {get_property: web}}\n"),
	explain(CodeUnknownInput, "get_input names an input that is not declared.",
		header+"topology_template:\n  outputs:\n    o: {value: {get_input: prot}}\n"),
	explain(CodeUnknownRef, "get_property or get_attribute names something that is not there.",
		header+"topology_template:\n  node_templates:\n    web: {type: Compute}\n"+
			"  outputs:\n    o: {value: {get_attribute: [web, colour]}}\n"),
	explain(CodeMissingInput, "A required input is given no value when the template is planned.",
		header+"topology_template:\n  inputs: {port: {type: integer}}\n  outputs: {at: {value: {get_input: port}}}\n").later(),
	explain(CodeNotOffered, "No site that a node may use offers what it asks for: a size, an image, a feature.",
		header+"topology_template:\n  node_templates:\n    big: {type: Compute, capabilities: {host: {properties: {num_cpus: 2, mem_size: 96 GiB}}}}\n").
		with("estate.json", smallEstate).later(),
	explain(CodeNaming, "A name that the naming rule of every site a node may use forbids.",
		header+"topology_template:\n  node_templates:\n    Contacts: {type: Compute, capabilities: {host: {properties: {num_cpus: 1, mem_size: 1 GiB}}}}\n").
		with("estate.json", smallEstate).later(),
}
