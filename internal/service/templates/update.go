package templates

import (
	"encoding/json"
	"maps"
	"path/filepath"
	"slices"
	"strconv"

	"andamio/internal/core/plan"
	"andamio/internal/core/tosca"
)

// Origin is how a deployment keeps where its template was opened.
func (t *Template) Origin() string {
	if t.sent {
		return SentName
	}
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

// ScaledWithin is between how many instances a node may have, as far as its template says so in numbers; 0 where it does not.
func (t *Template) ScaledWithin(node string) (least, most int) {
	for _, n := range t.Nodes {
		if n.Name == node {
			scalable := n.Capabilities["scalable"]
			return whole(scalable["min_instances"]), whole(scalable["max_instances"])
		}
	}
	return 0, 0
}

// whole is a number that stands there as it is; 0 if none does.
func whole(v *tosca.Value) int {
	if v == nil || v.Kind != tosca.Literal {
		return 0
	}
	n, err := strconv.Atoi(tosca.Show(v.Plain()))
	if err != nil {
		return 0
	}
	return n
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
