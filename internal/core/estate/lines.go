package estate

import "go.yaml.in/yaml/v4"

// Lines are the lines, from 1, in which the entries of a list at the top of a file (YAML or JSON) begin; none where it cannot be read, or has no such list.
func Lines(data []byte, list string) (out []int) {
	var doc yaml.Node
	if yaml.Unmarshal(data, &doc) != nil || len(doc.Content) == 0 {
		return nil
	}
	top := doc.Content[0].Content
	for i := 0; i+1 < len(top); i += 2 {
		if top[i].Value == list {
			for _, n := range top[i+1].Content {
				out = append(out, n.Line)
			}
		}
	}
	return out
}
