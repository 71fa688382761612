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
	assert.Equal(t, Load{Total: 128, Used: 67, Plan: 0}, before[1].Cores, "vega: 61 of 128 cores are free")
	p := placement.Problem{Estate: e}
	for _, name := range []string{"a", "b", "c"} {
		p.Workloads = append(p.Workloads, placement.Workload{Name: name, Node: name, OS: "linux", Addresses: 1, Pin: &placement.Spot{Site: "vega"},
			Need: estate.Capacity{Cores: 4, MemoryGiB: 8, DiskGiB: 100}})
	}
	got, err := placement.Solve(p, placement.Options{})
	require.NoError(t, err)
	after := Of(e, got, nil)
	assert.Equal(t, Load{Total: 128, Used: 67, Plan: 12}, after[1].Cores)
	assert.Equal(t, 49.0, after[1].Cores.Free())
	assert.Equal(t, Load{Total: 512, Used: 256, Plan: 24}, after[1].Memory)
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
	assert.Equal(t, Load{Total: 4, Used: 0, Plan: 0}, Of(e, nil, nil)[0].Rooms[0].Cores, "what is free counts as the whole where that was not said")
}

func TestWhatSleepsAndWhatIsHeldIsNeitherUsedNorFree(t *testing.T) {
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	sites := Of(e, nil, nil)
	room := sites[1].Rooms[0]
	claim := func(of string, cores int, held bool) Claim {
		return Claim{Site: "vega", Zone: room.Zone, Host: room.Host, Of: of, Takes: estate.Capacity{Cores: cores, MemoryGiB: 1}, Held: held}
	}
	Claimed(sites, []Claim{claim("night", 2, false), claim("map", 3, false), claim("map", 4, false), claim("new", 5, true), {Site: "nowhere"}, {Site: "vega", Zone: "none"}})
	now := sites[1].Rooms[0]
	assert.Equal(t, Load{Total: room.Cores.Total, Used: room.Cores.Used - 9, Paused: 9, Held: 5}, now.Cores)
	assert.Equal(t, room.Cores.Free()-5, now.Cores.Free(), "what sleeps was not free before")
	assert.Equal(t, room.Memory.Used-3, now.Memory.Used)
	assert.Equal(t, Load{Total: 128, Used: 67 - 9, Paused: 9, Held: 5}, sites[1].Cores)
	assert.Equal(t, []Sleeper{{Of: "map", Instances: 2, Takes: estate.Capacity{Cores: 7, MemoryGiB: 2}}, {Of: "night", Instances: 1, Takes: estate.Capacity{Cores: 2, MemoryGiB: 1}}}, sites[1].Sleepers())
	Claimed(sites, []Claim{claim("more than is used", 1000, false)})
	assert.Zero(t, sites[1].Rooms[0].Cores.Used)
	assert.Equal(t, room.Cores.Used, sites[1].Rooms[0].Cores.Paused)
	assert.Equal(t, 9.0, Sum(sites).Cores.Paused-(room.Cores.Used-9))
}
