package plan_test

import (
	"fmt"

	"andamio/internal/core/change"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

const template = `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: gauge }
topology_template:
  inputs:
    gauges: { type: integer, default: 1 }
  node_templates:
    lan: { type: tosca.nodes.network.Network, properties: { network_name: lan } }
    gauge:
      type: tosca.nodes.Compute
      capabilities:
        host: { properties: { num_cpus: 2, mem_size: 4 GiB, disk_size: 10 GiB } }
        scalable: { properties: { min_instances: 1, max_instances: 4, default_instances: { get_input: gauges } } }
    port: { type: tosca.nodes.network.Port, requirements: [ binding: gauge, link: lan ] }
`

const oneSite = `
version: andamio.estate/1
currency: cr
sites:
  - name: vega
    kind: private
    network: address
    pace: 1
    free_form: true
    zones: [ { name: a, free: { cores: 40, memory_gib: 80, disk_gib: 900 } } ]
    images: [ { name: base, os: linux } ]
    prices: { core: 0.1, memory_gib: 0, disk_gib: 0, address: 0 }
    timings: { network: 2, volume: 4, instance: 20, interface: 2, attachment: 2 }
`

// compiled is the plan of the template with so many gauges, through all that leads to it.
func compiled(gauges string) *plan.Plan {
	t, diags := tosca.Read("template.yaml", func(string) ([]byte, error) {
		return []byte(template), nil
	})
	n, more := tosca.ParseInput("gauges", gauges)
	e, err := estate.Read([]byte(oneSite))
	if len(diags)+len(more) > 0 || err != nil {
		panic(fmt.Sprint(diags, more, err))
	}
	design, diags := topology.Build(t, tosca.Inputs{"gauges": n}, topology.Options{})
	if design == nil {
		panic(diags)
	}
	placed, err := placement.Solve(plan.Problem(design, e), placement.Options{Seed: 1})
	if err != nil {
		panic(err)
	}
	p, err := plan.Compile(design, placed, e, plan.Options{})
	if err != nil {
		panic(err)
	}
	return p
}

// A plan is compiled of a design and a placement over an estate: every step, after which others, and for how long.
func ExampleCompile() {
	p := compiled("1")
	for _, s := range p.Steps {
		fmt.Printf("%-24s after %v\n", s.ID, s.After)
	}
	fmt.Printf("%.0f s, %s %s an hour\n", p.Seconds, p.CostPerHour, p.Currency)
	// Output:
	// lan@vega/create          after []
	// gauge-1/create           after []
	// port-1/plug              after [gauge-1/create lan@vega/create]
	// 22 s, 0.2 cr an hour
}

// A change is the difference from what stands to another plan.
func Example_change() {
	one, two := compiled("1"), compiled("2")
	stands, err := change.Done(change.Nothing(one), one)
	if err != nil {
		panic(err)
	}
	more, err := change.Compile(stands, two, "one gauge more")
	if err != nil {
		panic(err)
	}
	for _, s := range more.Steps {
		fmt.Println(s.ID)
	}
	// Output:
	// gauge-2/create
	// port-2/plug
}

// What runs when, the engine and the rehearsal ask alike.
func Example_dispatch() {
	p := compiled("2")
	none := func(int) bool { return false }
	d := dispatch.New(p, dispatch.Limits{Steps: 2}, none, none)
	for round := 1; ; round++ {
		var begun []int
		for i, any := d.Next(); any; i, any = d.Next() {
			begun = append(begun, i)
		}
		if len(begun) == 0 {
			break
		}
		for _, i := range begun {
			fmt.Println(round, p.Steps[i].ID)
			d.Done(i)
		}
	}
	// Output:
	// 1 gauge-1/create
	// 1 gauge-2/create
	// 2 lan@vega/create
	// 3 port-1/plug
	// 3 port-2/plug
}

// How a run stands is worked out of the events of its journal alone.
func Example_state() {
	p := compiled("1")
	s := run.New(p)
	for i, e := range []run.Event{{Kind: run.RunStarted}, {Kind: run.StepStarted, Step: op.Create.On("lan@vega"), Resource: "lan@vega"},
		{Kind: run.StepDone, Step: op.Create.On("lan@vega"), Resource: "lan@vega"}} {
		e.Seq = int64(i + 1)
		s.Apply(e)
	}
	fmt.Println(s.Status, s.Done, s.Resource("lan@vega").Status, s.Resource("gauge-1").Status)
	// Output:
	// under way 1 standing planned
}

// An id is made and taken apart in one place.
func ExampleStep() {
	id := op.Attach.For("gauge-1", "disk-1")
	fmt.Println(id, op.ParseID(id).Resource, op.ParseID(id).Op.Row().Inverse)
	// Output:
	// gauge-1/attach:disk-1 gauge-1 detach
}
