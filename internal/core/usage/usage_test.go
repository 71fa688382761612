package usage

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
)

func TestLoadsBeforeAndAfter(t *testing.T) {
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	before := Of(e, nil, nil)
	require.Len(t, before, 5)
	assert.Equal(t, Load{128, 67, 0}, before[1].Cores, "vega: 61 of 128 cores are free")
	p := placement.Problem{Estate: e}
	for _, name := range []string{"a", "b", "c"} {
		p.Workloads = append(p.Workloads, placement.Workload{Name: name, Node: name, OS: "linux", Addresses: 1, Pin: &placement.Spot{Site: "vega"},
			Need: estate.Capacity{Cores: 4, MemoryGiB: 8, DiskGiB: 100}})
	}
	got, err := placement.Solve(p, placement.Options{})
	require.NoError(t, err)
	after := Of(e, got, nil)
	assert.Equal(t, Load{128, 67, 12}, after[1].Cores)
	assert.Equal(t, 49.0, after[1].Cores.Free())
	assert.Equal(t, Load{512, 256, 24}, after[1].Memory)
	assert.Equal(t, 3, after[1].Instances)
	assert.Equal(t, got.CostPerHour, after[1].CostPerHour)
	rooms := 0
	for _, r := range after[1].Rooms {
		rooms += r.Instances
	}
	assert.Equal(t, 3, rooms)
	sum := Sum(after)
	assert.Equal(t, 12.0, sum.Cores.Plan)
	assert.Equal(t, 3, sum.Instances)
	again := Sum(Of(e, got, got))
	assert.Equal(t, [3]float64{0, sum.Cores.Used + 12, 0}, [3]float64{again.Cores.Plan, again.Cores.Used, float64(again.Instances)}, "what stands is used, and nothing new")
	e.Sites[0].Zones[0].Hosts[0].Total = estate.Capacity{}
	assert.Equal(t, Load{4, 0, 0}, Of(e, nil, nil)[0].Rooms[0].Cores, "what is free counts as the whole where that was not said")
}
