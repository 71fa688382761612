package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// TestLossesSayWhoseDataGoes looks at volumes and instances that are taken away, rebuilt, kept, and left behind by a move.
func TestLossesSayWhoseDataGoes(t *testing.T) {
	site := plan.Condition{Kind: plan.CheckSite}
	p := &plan.Plan{
		Resources: []plan.Resource{
			{ID: "vol", Kind: kinds.Volume, Site: "vega", Change: plan.Rebuild, Spec: plan.VolumeSpec{DiskGiB: 80}},
			{ID: "host", Kind: kinds.Instance, Site: "vega", Change: plan.Amend, StandsOn: []string{"vol"}, Spec: plan.InstanceSpec{DiskGiB: 8}},
			{ID: "old", Kind: kinds.Instance, Site: "vega", Change: plan.Retire, Spec: plan.InstanceSpec{DiskGiB: 8.5}},
			{ID: "app", Kind: kinds.Software, Site: "vega", Change: plan.Retire, On: "old"},
			{ID: "host@presa", Kind: kinds.Instance, Site: "presa", Change: plan.Retire},
			{ID: "gone@presa", Kind: kinds.Instance, Site: "presa", Change: plan.Retire, Spec: plan.InstanceSpec{DiskGiB: 4}},
			{ID: "lan", Kind: kinds.Network, Site: "vega", Change: plan.Retire},
		},
	}
	for _, id := range []string{"vol", "old", "host@presa", "gone@presa", "lan"} {
		p.Steps = append(p.Steps, plan.Step{ID: id + "/remove", Resource: id, Op: op.Remove, Check: site})
	}
	var said []string
	for _, l := range p.Losses() {
		said = append(said, l.String())
	}
	assert.Equal(t, []string{"what is on vol goes (80 GiB, of host): it is built anew, and empty", "what is on old goes (8.5 GiB, of app)",
		"what is on gone@presa goes (4 GiB)"}, said, "what a move left behind is where it was moved to")
}
