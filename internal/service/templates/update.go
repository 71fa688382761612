package templates

import (
	"encoding/json"
	"maps"
	"path/filepath"
	"slices"

	"andamio/internal/core/plan"
	"andamio/internal/core/tosca"
)

// Origin is how a deployment keeps where its template was opened.
func (t *Template) Origin() string {
	if t.Folder == "" && t.Dir == DemoName {
		return DemoName
	}
	if t.Folder == "" {
		return t.Dir
	}
	if whole, err := filepath.Abs(t.Folder); err == nil {
		return whole // it is opened again from wherever that may be
	}
	return t.Folder
}

// InputsOf are the inputs that a plan was made with, under others that are given now.
func InputsOf(p *plan.Plan, given tosca.Inputs) tosca.Inputs {
	out := tosca.Inputs{}
	for name, v := range p.Inputs {
		text, err := json.Marshal(v)
		if err != nil || slices.Contains(p.Secrets, name) {
			continue
		}
		if value, diags := tosca.ParseInput(name, string(text)); diags.Errors() == 0 && value != nil {
			out[name] = value
		}
	}
	maps.Copy(out, given)
	return out
}

// CountedBy is the input that says how many instances a node has; "" if none does.
func (t *Template) CountedBy(node string) string {
	for _, n := range t.Nodes {
		if n.Name != node {
			continue
		}
		if v := n.Capabilities["scalable"]["default_instances"]; v != nil && v.Func == "get_input" && len(v.Items) == 1 {
			name, _ := v.Items[0].Literal.(string)
			return name
		}
	}
	return ""
}
