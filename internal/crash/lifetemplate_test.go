package crash

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
)

// lifeDesign says what a small design of two tiers is like; every part may be with or without.
type lifeDesign struct {
	// door is a load balancer before the fronts: HAProxy on an instance, or one that a site runs itself, as it is placed.
	volume, stop, remove, public, door bool
	// slow is for how long its scripts sleep that stop something, in seconds.
	slow int
}

func drawDesign(r *rand.Rand) lifeDesign {
	return lifeDesign{volume: r.IntN(3) > 0, stop: r.IntN(3) > 0, remove: r.IntN(2) == 0, public: r.IntN(3) > 0, slow: r.IntN(2), door: r.IntN(2) == 0}
}

// door is the load balancer as a template has it.
const door = `    door:
      type: tosca.nodes.LoadBalancer
      capabilities: { client: { properties: { port: 8086, protocol: http } } }
      requirements:
        - application: { node: front, capability: page }
`

// write writes the design as a template: a store that keeps its first word on a disk, and fronts that are told where it
// is.
func (d lifeDesign) write(dir string) error {
	ops := func(name string) string {
		out := fmt.Sprintf("          create: scripts/create.sh\n          configure: { implementation: scripts/%s.sh, inputs: { WORD: { get_input: word }%s } }\n          start: scripts/start.sh\n", name,
			map[bool]string{true: ", STORE: { get_attribute: [ SELF, store, ip_address ] }"}[name == "front"])
		if d.stop {
			out += "          stop: scripts/stop.sh\n"
		}
		if d.remove {
			out += "          delete: scripts/delete.sh\n"
		}
		return out
	}
	endpoint := "tosca.capabilities.Endpoint"
	if d.public {
		endpoint += ".Public"
	}
	text := `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: life }
node_types:
  life.nodes.Store:
    derived_from: tosca.nodes.SoftwareComponent
    capabilities:
      page: { type: ` + endpoint + `, properties: { port: { type: PortDef, default: 8085 }, protocol: { type: string, default: http }, url_path: { type: string, default: / } } }
  life.nodes.Front:
    derived_from: tosca.nodes.SoftwareComponent
    capabilities:
      page: { type: tosca.capabilities.Endpoint, properties: { port: { type: PortDef, default: 8085 } } }
    requirements:
      - store: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo }
topology_template:
  inputs:
    word: { type: string, default: one }
    fronts: { type: integer, default: 1, constraints: [ in_range: [ 1, 3 ] ] }
  node_templates:
    store-host:
      type: tosca.nodes.Compute
      capabilities: { host: { properties: { num_cpus: 1, mem_size: 1 GiB, disk_size: 8 GiB } }, os: { properties: { type: linux } } }
VOLUME    store:
      type: life.nodes.Store
      requirements: [ host: store-host ]
      interfaces:
        Standard:
STORE    front-host:
      type: tosca.nodes.Compute
      capabilities:
        host: { properties: { num_cpus: 1, mem_size: 1 GiB, disk_size: 8 GiB } }
        os: { properties: { type: linux } }
        scalable: { properties: { min_instances: 1, max_instances: 3, default_instances: { get_input: fronts } } }
    front:
      type: life.nodes.Front
      requirements: [ host: front-host, store: store ]
      interfaces:
        Standard:
FRONT`
	volume := ""
	if d.volume {
		volume = `      requirements:
        - local_storage: { node: store-vol, relationship: { type: tosca.relationships.AttachesTo, properties: { location: /srv/kept } } }
    store-vol:
      type: tosca.nodes.Storage.BlockStorage
      properties: { size: 1 GiB }
`
	}
	text = strings.NewReplacer("VOLUME", volume, "STORE    ", ops("store")+"    ", "FRONT", ops("front")+map[bool]string{true: door}[d.door]).Replace(text)
	files := map[string]string{
		"template.yaml":        text,
		"scripts/create.sh":    "set -e\nmkdir -p /srv/kept/www\n",
		"scripts/store.sh":     "set -e\nif [ ! -f /srv/kept/www/index.html ]; then\n  echo \"$WORD\" > /srv/kept/www/index.html\nfi\n",
		"scripts/front.sh":     "set -e\ntest -n \"$STORE\"\necho \"$WORD of $STORE\" > /srv/kept/www/index.html\n",
		"scripts/start.sh":     "set -e\nfuser -k 8085/tcp >/dev/null 2>&1 || true\nhttpd -p 8085 -h /srv/kept/www\n",
		"scripts/stop.sh":      fmt.Sprintf("fuser -k 8085/tcp >/dev/null 2>&1 || true\nsleep %d\ntest -d /srv/kept/www\n", d.slow),
		"scripts/delete.sh":    fmt.Sprintf("sleep %d\nrm -f /srv/kept/www/nothing\n", d.slow),
		"presets/default.yaml": "",
	}
	for name, data := range files {
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, []byte(data), 0o644); err != nil {
			return err
		}
	}
	return nil
}
