package fronts

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/front"
	"andamio/internal/core/plan"
	"andamio/internal/service/deployments"
)

// behindOneDoor is a load balancer with two pages that stands, with some nodes switched off.
func behindOneDoor(t *testing.T, off ...string) *deployments.Deployment {
	t.Helper()
	data, err := os.ReadFile("../../core/plan/testdata/one-door.plan.json")
	require.NoError(t, err)
	p, err := plan.Read(data)
	require.NoError(t, err)
	p = change.Rest(p, func(r *plan.Resource) bool {
		for _, node := range off {
			if r.Node == node {
				return true
			}
		}
		return false
	})
	stand, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	at := map[string]map[string]string{}
	for _, r := range stand.Plan.Resources {
		at[r.ID] = map[string]string{"address": "192.0.2.7", "port.8000": "8000", "port.8080": "8080", "port.9101": "9101"}
	}
	stand.Plan.Known = at
	return &deployments.Deployment{Stand: stand}
}

func TestAMemberIsAskedByWhatSaysMostOfIt(t *testing.T) {
	for _, endpoint := range []string{"door", "door.balancer", "door.client"} {
		got := membersOf(&front.Front{Endpoint: endpoint}, behindOneDoor(t))
		require.Len(t, got, 1, endpoint)
		assert.Equal(t, "door.balancer-1", got[0].Name, endpoint)
		assert.True(t, got[0].Check.HTTP, "%s: that its port is open says little", endpoint)
	}
}

func TestWhatIsOffOrIdleIsNoMember(t *testing.T) {
	for _, off := range []string{"door.host", "page-host"} {
		assert.Empty(t, membersOf(&front.Front{Endpoint: "door"}, behindOneDoor(t, off)), off)
	}
}
