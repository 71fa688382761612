package main

import (
	"fmt"
	"runtime"
	"runtime/metrics"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"andamio/internal/core/estate"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// large is a template of n node templates: a network, and for each part of a service a host with its disk, an interface
// and a server, written as people write them.
func large(n int) []byte {
	var b strings.Builder
	b.WriteString("tosca_definitions_version: tosca_simple_yaml_1_3\nmetadata: { template_name: large }\n\ntopology_template:\n" +
		"  inputs:\n    port: { type: integer, default: 8080 }\n  node_templates:\n    lan:\n      type: tosca.nodes.network.Network\n" +
		"      properties: { network_name: lan, cidr: 10.0.0.0/16 }\n")
	for i := 1; 4*i < n; i++ {
		fmt.Fprintf(&b, `
    # part %[1]d of the basin
    vol-%[1]d:
      type: tosca.nodes.Storage.BlockStorage
      properties: { size: 20 GiB }
    host-%[1]d:
      type: tosca.nodes.Compute
      capabilities:
        host:
          properties: { num_cpus: 2, mem_size: 4 GiB, disk_size: 16 GiB }
        os: { properties: { type: linux } }
      requirements:
        - local_storage:
            node: vol-%[1]d
            relationship: { type: tosca.relationships.AttachesTo, properties: { location: /srv } }
    port-%[1]d:
      type: tosca.nodes.network.Port
      requirements: [ binding: host-%[1]d, link: lan ]
    app-%[1]d:
      type: tosca.nodes.WebServer
      description: Serves the levels of part %[1]d to whoever asks
      capabilities:
        data_endpoint: { properties: { port: { get_input: port } } }
      requirements: [ host: host-%[1]d ]
      interfaces:
        Standard:
          inputs: { PORT: { get_input: port } }
          create: scripts/create.sh
          start: scripts/start.sh
`, i)
	}
	return []byte(b.String())
}

// roomy is an estate with room for any of them.
func roomy() *estate.Estate {
	e := &estate.Estate{Version: estate.Version, Currency: "cr"}
	for _, name := range []string{"vega", "alisio", "tramonta"} {
		e.Sites = append(e.Sites, &estate.Site{Name: name, Kind: estate.Public, Network: estate.Address, Pace: 1,
			Zones:  []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 1e6, MemoryGiB: 1e7, DiskGiB: 1e9}}},
			Sizes:  []estate.Size{{Name: "s", Cores: 2, MemoryGiB: 4, PricePerHour: 0.1}},
			Images: []estate.Image{{Name: "debian-12", OS: "linux"}}})
	}
	return e
}

// compile reads, checks, resolves and plans a template.
func compile(text []byte, e *estate.Estate) error {
	files := source.Memory(map[string][]byte{"template.yaml": text, "scripts/create.sh": []byte("true\n"), "scripts/start.sh": []byte("true\n")})
	t, err := templates.ReadTemplate(files, "large", "template.yaml")
	if err != nil {
		return err
	}
	d := templates.NewDraft(t, templates.DraftRequest{}, e)
	if d.Plan == nil {
		return fmt.Errorf("no plan: %w %s", d.Err, d.Diagnostics.Error())
	}
	return nil
}

// decode decodes a template to the library's nodes and does nothing with them.
func decode(text []byte) error {
	var y yaml.Node
	return yaml.Unmarshal(text, &y)
}

// compileRounds is how often each is measured, in turn.
const compileRounds = 9

// compilations measures the compiler on templates of 10,000 and 20,000 nodes, against the library's decoding in the same run.
func compilations() ([]result, error) {
	e := roomy()
	var whole, bare [2]time.Duration
	texts := [2][]byte{large(10_000), large(20_000)}
	var times [2][2][]time.Duration
	for range compileRounds { // in turn, so that all are measured under the same conditions
		for i, text := range texts {
			for k, do := range []func() error{func() error { return decode(text) }, func() error { return compile(text, e) }} {
				runtime.GC()
				start := time.Now()
				if err := do(); err != nil {
					return nil, err
				}
				times[i][k] = append(times[i][k], time.Since(start))
			}
		}
	}
	for i := range texts {
		bare[i], whole[i] = percentile(times[i][0], 50), percentile(times[i][1], 50)
	}
	peak, err := peakOf(func() error { return compile(texts[0], e) })
	if err != nil {
		return nil, err
	}
	size := float64(len(texts[0]))
	return []result{
		{name: "decode 10,000 nodes, the YAML library alone", figure: bare[0], ratio: 1, base: "itself"},
		{name: "read, check, resolve, plan 10,000 nodes", figure: whole[0], ratio: ratio(whole[0], bare[0]), base: "the library's decoding", most: 1.6},
		{name: "read, check, resolve, plan 20,000 nodes", figure: whole[1], ratio: ratio(whole[1], whole[0]), base: "10,000 nodes", most: 2.2},
		{name: fmt.Sprintf("peak memory at 10,000 nodes, %.1f MB", float64(peak)/1e6), ratio: float64(peak) / size, base: fmt.Sprintf("the file's %.1f MB", size/1e6), most: 12},
	}, nil
}

// peakOf is the most memory that live objects and garbage took at a time while something was done, above what there was.
func peakOf(do func() error) (uint64, error) {
	runtime.GC()
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	read := func() uint64 { metrics.Read(sample); return sample[0].Value.Uint64() }
	before := read()
	var seen []uint64
	stop, done := make(chan bool), make(chan bool)
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
				seen = append(seen, read())
			}
		}
	}()
	err := do()
	close(stop)
	<-done
	return slices.Max(append(seen, before)) - before, err
}
