package capture

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
)

// word is what of a name cannot be part of a node's name.
var word = regexp.MustCompile(`[^a-z0-9_-]+`)

// Fragment is the part of a template that declares a thing like the one recorded, to be put under node_templates. What
// the inventory does not know of it, such as its software, is not in it.
func Fragment(r *inventory.Record) (string, error) {
	name := strings.Trim(word.ReplaceAllString(strings.ToLower(r.Name), "-"), "-")
	if name == "" {
		name = string(r.Class)
	}
	var node map[string]any
	gib := func(attribute string) string { return inventory.Number(r.Number(attribute)) + " GiB" }
	switch r.Class {
	case kinds.Instance:
		host := map[string]any{}
		if cores, err := strconv.Atoi(r.Attributes[inventory.AttrCores]); err == nil {
			host["num_cpus"] = cores
		}
		if r.Number(inventory.AttrMemory) > 0 {
			host["mem_size"] = gib(inventory.AttrMemory)
		}
		if r.Number(inventory.AttrDisk) > 0 {
			host["disk_size"] = gib(inventory.AttrDisk)
		}
		node = map[string]any{"type": "tosca.nodes.Compute", "capabilities": map[string]any{"host": map[string]any{"properties": host}}}
	case kinds.Volume:
		node = map[string]any{"type": "tosca.nodes.Storage.BlockStorage", "properties": map[string]any{"size": gib(inventory.AttrDisk)}}
	case kinds.Network:
		properties := map[string]any{"network_name": r.Name}
		if v := r.Attributes["cidr"]; v != "" {
			properties["cidr"] = v
		}
		node = map[string]any{"type": "tosca.nodes.network.Network", "properties": properties}
	default:
		return "", fmt.Errorf("a template does not declare a %s by itself", r.Class)
	}
	node["description"] = fmt.Sprintf("taken over from %s, where it is %s", r.Site, r.Provider)
	text, err := yaml.Marshal(map[string]any{name: node})
	return string(text), err
}
