package tosca

// Code names a kind of diagnostic. Codes are stable: scripts may depend on them. Every code has an entry in
// [Explanations] whose example triggers it; a test runs them all.
type Code string

// The codes, by the phase that reports them.
const (
	// Load.
	CodeSyntax       Code = "yaml-syntax"
	CodeDuplicateKey Code = "duplicate-key"
	CodeTooLarge     Code = "too-large"
	CodeVersion      Code = "version"
	CodeImport       Code = "import"
	// Shape of any construct.
	CodeShape       Code = "shape"
	CodeUnknownKey  Code = "unknown-key"
	CodeMissingKey  Code = "missing-key"
	CodeUnsupported Code = "unsupported"
	// Types.
	CodeUnknownType   Code = "unknown-type"
	CodeTypeRedefined Code = "type-redefined"
	CodeTypeCycle     Code = "type-cycle"
	CodeTypeKind      Code = "type-kind"
	// Values.
	CodeValueType   Code = "value-type"
	CodeUnitMissing Code = "unit-missing"
	CodeUnitUnknown Code = "unit-unknown"
	CodeUnitDoubt   Code = "unit-doubt"
	CodeConstraint  Code = "constraint"
	// Templates.
	CodeName               Code = "name"
	CodeUnknownProperty    Code = "unknown-property"
	CodeMissingProperty    Code = "missing-property"
	CodeUnknownCapability  Code = "unknown-capability"
	CodeUnknownRequirement Code = "unknown-requirement"
	CodeUnknownNode        Code = "unknown-node"
	CodeUnfulfilled        Code = "requirement-unfulfilled"
	CodeMismatch           Code = "capability-mismatch"
	CodeUnknownOperation   Code = "unknown-operation"
	CodeArtifact           Code = "artifact-missing"
	CodeCycle              Code = "cycle"
	// Functions.
	CodeFunction     Code = "function"
	CodeUnknownInput Code = "unknown-input"
	CodeUnknownRef   Code = "unknown-reference"
)

// Explanation documents a code: what it means and the smallest template that triggers it.
type Explanation struct {
	Code    Code
	Meaning string
	Example string
}

// header starts every example.
const header = "tosca_definitions_version: tosca_simple_yaml_1_3\n"

// Explanations lists every code with its meaning and an example, in the order of the phases.
var Explanations = []Explanation{
	{CodeSyntax, "The file is not YAML.", header + "topology_template: {inputs: [}\n"},
	{CodeDuplicateKey, "A mapping has the same key twice; YAML readers would keep one of them silently.",
		header + "topology_template:\n  inputs:\n    port: {type: integer}\n    port: {type: string}\n"},
	{CodeTooLarge, "The file nests deeper, or its aliases expand further, than any template needs.",
		header + "metadata: {x: &a [&b [*a]]}\n"},
	{CodeVersion, "tosca_definitions_version is missing or is not tosca_simple_yaml_1_3.",
		"tosca_definitions_version: tosca_simple_yaml_9_9\n"},
	{CodeImport, "An import cannot be opened, or leads out of the template's folder.",
		header + "imports: [nowhere.yaml]\n"},
	{CodeShape, "A construct has another YAML shape than the standard gives it, a list where a mapping belongs, say.",
		header + "topology_template: {inputs: [port]}\n"},
	{CodeUnknownKey, "A keyname that the standard does not know at this place.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute, propertys: {}}\n"},
	{CodeMissingKey, "A keyname that the standard requires is not there.",
		header + "topology_template:\n  node_templates:\n    web: {properties: {}}\n"},
	{CodeUnsupported, "A construct of the standard that Andamio does not read yet; nothing is ignored silently.",
		header + "topology_template:\n  substitution_mappings: {node_type: Compute}\n"},
	{CodeUnknownType, "No type of this name and kind is defined or imported.",
		header + "topology_template:\n  node_templates:\n    web: {type: tosca.nodes.Compute2}\n"},
	{CodeTypeRedefined, "A type is defined twice.",
		header + "node_types:\n  tosca.nodes.Compute: {derived_from: tosca.nodes.Root}\n"},
	{CodeTypeCycle, "A type derives from itself, directly or through others.",
		header + "node_types:\n  a.A: {derived_from: a.B}\n  a.B: {derived_from: a.A}\n"},
	{CodeTypeKind, "A type stands where another kind of type belongs.",
		header + "node_types:\n  a.A: {derived_from: tosca.capabilities.Node}\n"},
	{CodeValueType, "A value does not have the type its property declares.",
		header + "topology_template:\n  inputs:\n    port: {type: integer, default: often}\n"},
	{CodeUnitMissing, "A size, time, frequency or bit rate without its unit.",
		header + "topology_template:\n  inputs:\n    room: {type: scalar-unit.size, default: 40}\n"},
	{CodeUnitUnknown, "A unit that the standard does not list (section 3.3.6).",
		header + "topology_template:\n  inputs:\n    room: {type: scalar-unit.size, default: 40 buckets}\n"},
	{CodeUnitDoubt, "A unit that is valid but a thousand times off from what such a node needs.",
		header + "topology_template:\n  node_templates:\n    web:\n      type: Compute\n" +
			"      capabilities: {host: {properties: {num_cpus: 2, mem_size: 16 MB}}}\n"},
	{CodeConstraint, "A value breaks a constraint of its definition.",
		header + "topology_template:\n  inputs:\n    port: {type: integer, default: 70000, constraints: [in_range: [1, 65535]]}\n"},
	{CodeName, "A name with characters that names of resources cannot have.",
		header + "topology_template:\n  node_templates:\n    map host: {type: Compute}\n"},
	{CodeUnknownProperty, "A property that the type does not declare.",
		header + "topology_template:\n  node_templates:\n    vol: {type: BlockStorage, properties: {size: 1 GB, sise: 2 GB}}\n"},
	{CodeMissingProperty, "A required property without value or default.",
		header + "node_types:\n  a.A: {derived_from: tosca.nodes.Root, properties: {n: {type: integer}}}\n" +
			"topology_template:\n  node_templates:\n    x: {type: a.A}\n"},
	{CodeUnknownCapability, "A capability that the node's type does not declare.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute, capabilities: {hosts: {}}}\n"},
	{CodeUnknownRequirement, "A requirement that the node's type does not declare.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute, requirements: [hosts: web]}\n"},
	{CodeUnknownNode, "No node template of this name.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute, requirements: [dependency: wbe]}\n"},
	{CodeUnfulfilled, "A requirement that must be fulfilled and is not.",
		header + "topology_template:\n  node_templates:\n    web: {type: SoftwareComponent}\n"},
	{CodeMismatch, "The node named by a requirement has no capability that fulfils it.",
		header + "topology_template:\n  node_templates:\n    vol: {type: BlockStorage, properties: {size: 1 GB}}\n" +
			"    web: {type: SoftwareComponent, requirements: [host: vol]}\n"},
	{CodeUnknownOperation, "An interface or operation that the type does not declare.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute, interfaces: {Standard: {begin: {}}}}\n"},
	{CodeArtifact, "A script that an operation names cannot be opened.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute, interfaces: {Standard: {start: nowhere.sh}}}\n"},
	{CodeCycle, "Nodes that stand on each other in a circle can never be built.",
		header + "topology_template:\n  node_templates:\n    a: {type: Compute, requirements: [dependency: b]}\n" +
			"    b: {type: Compute, requirements: [dependency: a]}\n"},
	{CodeFunction, "A function with the wrong arguments.",
		header + "topology_template:\n  outputs:\n    o: {value: {get_property: web}}\n"},
	{CodeUnknownInput, "get_input names an input that is not declared.",
		header + "topology_template:\n  outputs:\n    o: {value: {get_input: prot}}\n"},
	{CodeUnknownRef, "get_property or get_attribute names something that is not there.",
		header + "topology_template:\n  node_templates:\n    web: {type: Compute}\n" +
			"  outputs:\n    o: {value: {get_attribute: [web, colour]}}\n"},
}
