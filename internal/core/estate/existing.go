package estate

// Existing is something at the site that a template may take instead of building it. Type is a TOSCA node type;
// Attributes["site.id"] is the site's own id of it.
type Existing struct {
	Name         string                    `json:"name"`
	Type         string                    `json:"type"`
	Properties   map[string]any            `json:"properties,omitempty"`
	Capabilities map[string]map[string]any `json:"capabilities,omitempty"`
	Attributes   map[string]string         `json:"attributes,omitempty"`
}

// Naming is a rule that names of instances must match. An advisory rule is a doubt, not a mistake.
//
// Template, if given, makes the names instead: ${service}, ${node}, ${index}, ${site}, ${zone} and ${deployment} stand for
// what they say; see package naming.
type Naming struct {
	Pattern  string `json:"pattern"`
	Template string `json:"template,omitempty"`
	Example  string `json:"example,omitempty"`
	Advisory bool   `json:"advisory,omitempty"`
}
