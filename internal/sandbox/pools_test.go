package sandbox

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi"
)

// TestPoolsAreHeldByWhatIsThere asks a stand-in for an address twice: the second is refused, and the site's facts say what is
// taken until the first is gone.
func TestPoolsAreHeldByWhatIsThere(t *testing.T) {
	s := &estate.Site{Name: "hall", Kind: estate.Private, Network: estate.Ports, Pace: 1, FreeForm: true, Images: []estate.Image{{Name: "i", OS: "linux"}},
		Zones:    []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 8, MemoryGiB: 8, DiskGiB: 80}, Total: estate.Capacity{Cores: 9, MemoryGiB: 9, DiskGiB: 90}}},
		Networks: []estate.Network{{Name: "lan", Pools: []estate.Pool{{From: "10.0.0.4", To: "10.0.0.9"}}, VLANs: &estate.VLANRange{From: 7, To: 9}}}}
	box, err := Start(Config{Estate: &estate.Estate{Currency: "cr", Sites: []*estate.Site{s}}, Pace: 0.001, Seed: 1})
	require.NoError(t, err)
	defer box.Close()
	ctx := context.Background()
	d := occi.New("hall", box.Endpoints[0].URL, box.Endpoints[0].Token)
	net, err := d.Create(ctx, site.Request{Kind: kinds.Network, Name: "lan", VLAN: "8"})
	require.NoError(t, err)
	vm, err := d.Create(ctx, site.Request{Kind: kinds.Instance, Name: "box", Hostname: "box", Image: "i", Cores: 1, MemoryGiB: 1})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		r, err := d.Read(ctx, kinds.Instance, vm.ID)
		return err == nil && r.State == site.Active
	}, 2*time.Minute, 5*time.Millisecond)
	link := site.Request{Kind: kinds.Interface, Name: "if", Source: vm.ID, Target: net.ID, Address: "10.0.0.5"}
	first, err := d.Create(ctx, link)
	require.NoError(t, err)
	_, err = d.Create(ctx, link)
	assert.Equal(t, site.Conflict, site.ClassOf(err))
	assert.ErrorContains(t, err, "the address 10.0.0.5 is if's")
	facts, err := d.Describe(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"10.0.0.5"}, facts.Networks[0].Pools[0].Taken)
	assert.Equal(t, []int{8}, facts.Networks[0].VLANs.Taken)
	assert.Equal(t, 9, facts.Zones[0].Total.Cores)
	assert.Equal(t, 7, facts.Zones[0].Free.Cores)
	require.NoError(t, d.Delete(ctx, kinds.Interface, first.ID))
	facts, err = d.Describe(ctx)
	require.NoError(t, err)
	assert.Empty(t, facts.Networks[0].Pools[0].Taken, "what is gone is given back")
}
