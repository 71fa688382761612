package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// answering is a site that says of one thing, call after call, what a test has it say, and notes when it was asked what. When nothing is left, it says the last again.
type answering struct {
	scripted
	began   time.Time
	answers []string
	said    string
	notes   []string
}

func (a *answering) answer(call string) (site.Resource, error) {
	a.notes = append(a.notes, fmt.Sprintf("%s %s", time.Since(a.began).Round(time.Millisecond), call))
	if len(a.answers) > 0 {
		a.said, a.answers = a.answers[0], a.answers[1:]
	}
	for _, class := range []site.Class{site.Conflict, site.Refused, site.NotFound, site.RateLimited, site.Transient} {
		if a.said == strings.ReplaceAll(string(class), " ", "-") {
			return site.Resource{}, &site.Error{Site: "vega", Doing: call, Class: class, Detail: "it is " + a.said, After: 3 * time.Second}
		}
	}
	return site.Resource{Kind: kinds.Instance, ID: "vm", State: site.State(a.said), Word: "so " + a.said, Attributes: map[string]string{"address": "10.0.0.1"}}, nil
}

func (a *answering) Invoke(_ context.Context, _ kinds.Kind, _, action string) (site.Resource, error) {
	return a.answer(action)
}
func (a *answering) Read(context.Context, kinds.Kind, string) (site.Resource, error) {
	return a.answer("read")
}

// waitingFor is an engine for a machine of which the site's id is known, over a site that answers.
func waitingFor(t *testing.T, answers string) (*Engine, *answering, *memory) {
	t.Helper()
	p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "vm-1", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}}},
		Steps: []plan.Step{{ID: "vm-1/create", Site: "vega", Level: 1, Seconds: 10, Resource: "vm-1", Op: op.Create, Check: plan.Condition{Kind: plan.CheckSite}}}}
	a := &answering{answers: strings.Fields(answers)}
	e, m := engineFor(t, p, &scripted{})
	e.Sites["vega"] = a
	e.Patience = Patience{Least: time.Hour, Times: 1, Wait: 4 * time.Nanosecond, Most: 8 * time.Nanosecond, Tries: 3}
	require.NoError(t, e.ready())
	t.Cleanup(e.pool.close)
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{"site.id": "vm"}}))
	m.events, a.began = nil, time.Now()
	return e, a, m
}

// TestHowASiteMayAnswer has a site answer whoever waits for a machine in every way: when it is asked again, what is journalled of it, and what is made of it.
func TestHowASiteMayAnswer(t *testing.T) {
	power := func(o op.Op) func(*Engine, context.Context) error {
		return func(e *Engine, ctx context.Context) error {
			return e.power(ctx, &plan.Step{ID: string(o), Op: o, Resource: "vm-1", Site: "vega", Seconds: 8}, &e.Plan.Resources[0])
		}
	}
	suspend := func(e *Engine, ctx context.Context) error {
		return e.suspend(ctx, &plan.Step{ID: "suspend", Op: op.Suspend, Resource: "vm-1", Site: "vega"}, &e.Plan.Resources[0])
	}
	wait := func(e *Engine, ctx context.Context) error {
		got, err := e.read(ctx, &e.Plan.Steps[0], kinds.Instance, "vm")
		require.NoError(t, err)
		return e.waitActive(ctx, &e.Plan.Steps[0], &e.Plan.Resources[0], got)
	}
	asleep := func(e *Engine, ctx context.Context) error {
		e.Plan.Resources[0].Spec = plan.InstanceSpec{Asleep: true}
		return wait(e, ctx)
	}
	pushed := func(e *Engine, ctx context.Context) error {
		e.Wakes.Pushes("vega")
		return wait(e, ctx)
	}
	quickly := func(e *Engine, ctx context.Context) error {
		e.Plan.Steps[0].Seconds = 0.01
		return wait(e, ctx)
	}
	for _, c := range []struct {
		name, answers string
		do            func(*Engine, context.Context) error
		asked         string
		fails         string
	}{
		{"stopped at once", "stopped", power(op.Halt), "0s stop", ""},
		{"started at once", "active", power(op.Boot), "0s start", ""},
		{"on its way", "working working stopped", power(op.Halt), "0s stop, 8s read, 10s read", ""},
		{"on its way for long", "working working working working working stopped", power(op.Halt), "0s stop, 8s read, 10s read, 10.5s read, 10.625s read, 10.665s read", ""},
		{"it is so already", "conflict stopped", power(op.Halt), "0s stop, 0s read", ""},
		{"it is busy with something else, and asked again when it is at rest", "conflict working active stopped", power(op.Halt), "0s stop, 0s read, 8s read, 8s stop", ""},
		{"it stands still, and is asked again", "conflict working suspended active", power(op.Boot), "0s start, 0s read, 8s read, 8s start", ""},
		{"it is stopped again, and asked again", "working stopped working active", power(op.Boot), "0s start, 8s read, 8s start, 10s read", ""},
		{"it fails", "working failed", power(op.Halt), "0s stop, 8s read", "vega says it failed: so failed"},
		{"it has failed", "failed", power(op.Boot), "0s start", "vega says it failed: so failed"},
		{"it is not to be", "refused", power(op.Halt), "0s stop", "it is refused"},
		{"it is not to be asked", "working refused", power(op.Halt), "0s stop, 8s read", "it is refused"},
		{"it is not to be asked again", "working active refused", power(op.Halt), "0s stop, 8s read, 8s stop", "it is refused"},
		{"it says nothing of what it has", "conflict refused", power(op.Halt), "0s stop, 0s read", "it is refused"},
		{"it comes and goes", "transient transient stopped", power(op.Halt), "0s stop, 0s stop, 0s stop", ""},
		{"it comes and goes too often", "transient", power(op.Halt), "0s stop, 0s stop, 0s stop", "it is transient"},
		{"it wants to be left alone", "rate-limited rate-limited stopped", power(op.Halt), "0s stop, 3s stop, 6s stop", ""},

		{"still at once", "suspended", suspend, "0s suspend", ""},
		{"still already", "conflict suspended", suspend, "0s suspend, 0s read", ""},
		{"it cannot stand still", "conflict active", suspend, "0s suspend, 0s read", "vega was asked to suspend it and says so active"},
		{"it does not stand still", "active", suspend, "0s suspend", "vega was asked to suspend it and says so active"},
		{"it may not stand still", "refused", suspend, "0s suspend", "it is refused"},
		{"nobody knows whether it stands still", "conflict refused", suspend, "0s suspend, 0s read", "it is refused"},

		{"there at once", "active", wait, "0s read", ""},
		{"there in the end", "building building building building building building active", wait, "0s read, 5.25s read, 10.5s read, 11.5s read, 13s read, 15.25s read, 18.625s read", ""},
		{"there after a long time", "building building building building building building building building active", wait,
			"0s read, 5.25s read, 10.5s read, 11.5s read, 13s read, 15.25s read, 18.625s read, 23.625s read, 28.625s read", ""},
		{"there very soon", "building building building building active", quickly, "0s read, 10ms read, 50ms read, 90ms read, 150ms read", ""},
		{"it says so itself", "building building building active", pushed, "0s read, 20s read, 40s read, 41s read", ""},
		{"built and not switched on", "building stopped", asleep, "0s read, 5.25s read", ""},
		{"it could not be built", "building failed", wait, "0s read, 5.25s read", "vega says it failed: so failed"},
		{"it is not seen at first", "building not-found not-found building not-found not-found active", wait, "0s read, 5.25s read, 10.5s read, 11.5s read, 13s read, 15.25s read, 18.625s read", ""},
		{"it was never there", "building not-found", wait, "0s read, 5.25s read, 10.5s read, 11.5s read", "vega said that it made vm, and has no such thing"},
		{"it is not told", "building refused", wait, "0s read, 5.25s read", "it is refused"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				e, a, m := waitingFor(t, c.answers)
				ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
				defer cancel()
				err := c.do(e, ctx)
				assert.Equal(t, c.asked, strings.Join(a.notes, ", "))
				assert.Empty(t, a.answers, "nothing is left unasked")
				if c.fails != "" {
					assert.ErrorContains(t, err, c.fails)
					return
				}
				require.NoError(t, err)
				last := state(e.Plan, m).Resource("vm-1")
				if strings.Contains(c.asked, "stop") || strings.Contains(c.asked, "start") || strings.Contains(c.asked, "suspend") {
					assert.Equal(t, "so "+a.said, last.SiteSaid.Text)
					assert.Equal(t, a.said == "active", last.SiteSaid.Good)
				}
			})
		})
	}
}
