package capture

import (
	"fmt"
	"maps"
	"slices"

	"go.yaml.in/yaml/v4"
)

// Given is the text of a template in which the values that were given to its inputs are their defaults; comments and all
// else stay. Inputs that the template does not have are left out.
func Given(text []byte, inputs map[string]any) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, fmt.Errorf("the template cannot be read: %w", err)
	}
	if len(doc.Content) == 0 {
		return nil, fmt.Errorf("the template is empty")
	}
	declared := entry(entry(doc.Content[0], "topology_template"), "inputs")
	if declared == nil {
		return text, nil
	}
	for _, name := range slices.Sorted(maps.Keys(inputs)) {
		in := entry(declared, name)
		if in == nil || in.Kind != yaml.MappingNode {
			continue
		}
		var value yaml.Node
		if err := value.Encode(inputs[name]); err != nil {
			return nil, fmt.Errorf("input %s: %w", name, err)
		}
		if in.Style&yaml.FlowStyle != 0 {
			value.Style |= yaml.FlowStyle
		}
		if was := entry(in, "default"); was != nil {
			value.HeadComment, value.LineComment, value.FootComment = was.HeadComment, was.LineComment, was.FootComment
			*was = value
			continue
		}
		in.Content = append(in.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "default"}, &value)
	}
	return yaml.Marshal(&doc)
}

// entry is the value of a mapping's key; nil if there is none.
func entry(m *yaml.Node, key string) *yaml.Node {
	if m == nil || m.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	return nil
}
