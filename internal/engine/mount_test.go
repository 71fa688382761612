package engine

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// TestWhereAVolumeIsMountedIsLearnedAndForgotten holds that what a site does not mount itself is known by machine and volume until it is
// detached, and that sites that do it themselves have us mount nothing.
func TestWhereAVolumeIsMountedIsLearnedAndForgotten(t *testing.T) {
	attach := &plan.Step{Op: op.Attach, Resource: "vm-1", Volume: "vol-1"}
	got := site.Resource{Attributes: map[string]string{site.AttrDevice: "/dev/vdc", site.AttrMount: "/srv/levels"}}
	assert.Equal(t, map[string]string{site.AttrDevice: "/dev/vdc", "mount.vol-1": "/dev/vdc /srv/levels"}, learned(attach, got))
	assert.Equal(t, got.Attributes, learned(&plan.Step{Op: op.Create}, got), "of anything else all is learned as it is")
	itself := site.Resource{Attributes: map[string]string{site.AttrDevice: "/dev/vdc"}}
	assert.Equal(t, itself.Attributes, learned(attach, itself))
	assert.Equal(t, map[string]string{"site.id.vol-1": "", "mount.vol-1": ""}, forgotten(&plan.Step{Op: op.Detach, Volume: "vol-1"}))
	assert.Equal(t, map[string]string{"site.id": ""}, forgotten(&plan.Step{Op: op.Remove}))
}

// TestOnlyWhatIsDetachedIsUnmounted holds which volumes of a machine are let go of, and that a machine nobody can log in to loses them all
// the same.
func TestOnlyWhatIsDetachedIsUnmounted(t *testing.T) {
	p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "vm-1", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}}, {ID: "a", Site: "vega", Level: 1, Kind: kinds.Volume, Spec: plan.VolumeSpec{DiskGiB: 1}}},
		Steps: []plan.Step{{ID: "vm-1/detach:a", Site: "vega", Level: 1, Seconds: 0.01, Resource: "vm-1", Op: op.Detach, Volume: "a", Check: plan.Condition{Kind: plan.CheckSite}}}}
	e, _ := engineFor(t, p, &scripted{})
	require.NoError(t, e.ready())
	defer e.pool.close()
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{"mount.a": "/dev/vdc /a", "mount.b": "/dev/vdd /b", "mount.c": ""}}))
	assert.Equal(t, map[string]string{"a": "/dev/vdc /a", "b": "/dev/vdd /b"}, e.mounts("vm-1"))
	assert.True(t, e.detaches("vm-1", "a"))
	assert.False(t, e.detaches("vm-1", "b"))
	assert.False(t, e.detaches("vm-2", "a"))
	require.NoError(t, e.part(t.Context(), &p.Steps[0], &p.Resources[0]), "nobody knows how to log in there")
	assert.True(t, e.marked("away vm-1 a /dev/vdc /a"))
	assert.False(t, e.marked("away vm-1 b /dev/vdd /b"))
}

// TestAMachineIsWaitedForUntilItLetsUsIn holds that a machine whose system has not started yet is waited for, not for ever, and that why is
// said; one of which nobody knows how to log in is left to the step.
func TestAMachineIsWaitedForUntilItLetsUsIn(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, l.Close(), "nobody listens")
	p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "vm-1", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}},
		{ID: "vm-1.if", Site: "vega", Level: 1, Kind: kinds.Interface, Spec: plan.InterfaceSpec{Instance: "vm-1"}}},
		Steps: []plan.Step{{ID: "vm-1/create", Site: "vega", Level: 1, Seconds: 0.01, Resource: "vm-1", Op: op.Create, Check: plan.Condition{Kind: plan.CheckSite}}}}
	e, m := engineFor(t, p, &scripted{})
	e.Patience = Patience{Least: time.Second, Times: 1, Most: time.Millisecond, Tries: 1, Wait: time.Millisecond, Shell: time.Second}
	require.NoError(t, e.ready())
	defer e.pool.close()
	s := &plan.Step{ID: "vm-1/configure", Site: "vega", Resource: "vm-1", Op: op.Configure, Script: &plan.Script{}}
	require.NoError(t, e.letIn(t.Context(), s), "the step itself says that the site told nothing")
	key := publicKey(signer(t))
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1.if", Attributes: map[string]string{site.AttrAddress: "127.0.0.1", site.AttrSSHPort: port, site.AttrSSHUser: "root", site.AttrHostKey: key}}))
	require.NoError(t, e.letIn(t.Context(), s), "one that stands for long is not waited for")
	require.NoError(t, e.record(run.Event{Kind: run.StepStarted, Step: "vm-1/create", Resource: "vm-1"}, run.Event{Kind: run.StepDone, Step: "vm-1/create", Resource: "vm-1"}))
	err = e.letIn(t.Context(), s)
	assert.ErrorContains(t, err, "vm-1 let nobody in for 1s")
	assert.ErrorContains(t, err, "refused")
	said := 0
	for _, ev := range m.events {
		if ev.Kind == run.Logged && ev.Step == s.ID {
			said++
		}
	}
	assert.Equal(t, 1, said, "the same reason is said once")
	require.NoError(t, e.letIn(t.Context(), &plan.Step{Resource: "vm-1"}), "what needs no shell does not wait for one")
}
