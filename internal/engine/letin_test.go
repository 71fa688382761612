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

// TestAMachineThatLetsNobodyInIsSaidWithItsReason holds that the reason is what the machine did, not that our own time was up: here it hangs
// up on the first who calls, and keeps the second waiting until the end.
func TestAMachineThatLetsNobodyInIsSaidWithItsReason(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for held := []net.Conn(nil); ; {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if held == nil {
				c.Close()
			}
			held = append(held, c)
		}
	}()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "vm-1", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}},
		{ID: "vm-1.if", Site: "vega", Level: 1, Kind: kinds.Interface, Spec: plan.InterfaceSpec{Instance: "vm-1"}}},
		Steps: []plan.Step{{ID: "vm-1/create", Site: "vega", Level: 1, Seconds: 0.01, Resource: "vm-1", Op: op.Create, Check: plan.Condition{Kind: plan.CheckSite}}}}
	e, m := engineFor(t, p, &scripted{})
	e.Patience = Patience{Least: time.Second, Times: 1, Most: time.Millisecond, Tries: 1, Wait: time.Millisecond, Shell: time.Second}
	require.NoError(t, e.ready())
	defer e.pool.close()
	require.NoError(t, e.record(run.Event{Kind: run.StepStarted, Step: "vm-1/create", Resource: "vm-1"}, run.Event{Kind: run.StepDone, Step: "vm-1/create", Resource: "vm-1"},
		run.Event{Kind: run.Learned, Resource: "vm-1.if", Attributes: map[string]string{site.AttrAddress: "127.0.0.1", site.AttrSSHPort: port, site.AttrSSHUser: "root", site.AttrHostKey: publicKey(signer(t))}}))
	err = e.letIn(t.Context(), &plan.Step{ID: "vm-1/configure", Site: "vega", Resource: "vm-1", Op: op.Configure, Script: &plan.Script{}})
	require.ErrorContains(t, err, "vm-1 let nobody in for 1s")
	var said []string
	for _, ev := range m.events {
		if ev.Kind == run.Logged && ev.Step == "vm-1/configure" {
			said = append(said, ev.Text)
		}
	}
	require.Len(t, said, 1, "the end of our own time is no reason")
	assert.ErrorContains(t, err, said[0][len("not let in yet: "):])
	assert.NotContains(t, err.Error(), "timeout")
}

// TestOnlyWhatWasSwitchedOnLatelyIsStarting tells a machine that this run made or switched on a short while ago from one that it did something else with, did so long ago, or has not done so yet.
func TestOnlyWhatWasSwitchedOnLatelyIsStarting(t *testing.T) {
	for name, c := range map[string]struct {
		step   plan.Step
		before time.Duration // 0 is never
		want   bool
	}{
		"made":               {plan.Step{Resource: "vm-1", Op: op.Create}, time.Second, true},
		"switched on":        {plan.Step{Resource: "vm-1", Op: op.Boot}, time.Second, true},
		"changed":            {plan.Step{Resource: "vm-1", Op: op.Alter}, time.Second, false},
		"made long ago":      {plan.Step{Resource: "vm-1", Op: op.Create}, time.Hour, false},
		"to be made":         {plan.Step{Resource: "vm-1", Op: op.Create}, 0, false},
		"another was made":   {plan.Step{Resource: "vm-2", Op: op.Create}, time.Second, false},
		"another was booted": {plan.Step{Resource: "vm-2", Op: op.Boot}, time.Second, false},
	} {
		s := c.step
		s.ID, s.Site, s.Level, s.Seconds, s.Check = s.Op.On(s.Resource), "vega", 1, 0.01, plan.Condition{Kind: plan.CheckSite}
		p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "vm-1", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}},
			{ID: "vm-2", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}}}, Steps: []plan.Step{s}}
		e, _ := engineFor(t, p, &scripted{})
		require.NoError(t, e.ready())
		if c.before > 0 {
			e.state.Steps[0].Ended = time.Now().Add(-c.before)
		}
		assert.Equal(t, c.want, e.starting("vm-1", time.Minute), name)
		e.pool.close()
	}
}
