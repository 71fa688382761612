package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// TestWhatIsFoundIsNotBuilt: a step that finds something takes note of it where it is there and on; whatever else is the matter, nothing is asked for and
// nothing removed.
func TestWhatIsFoundIsNotBuilt(t *testing.T) {
	for name, c := range map[string]struct {
		read func(id string, n int) (site.Resource, error)
		off  bool
		says string
	}{
		"it is there": {read: func(id string, _ int) (site.Resource, error) {
			return site.Resource{ID: id, Name: "the well", State: site.Active, Word: "running", Attributes: map[string]string{"address": "10.0.0.9"}}, nil
		}},
		"it is there, and off as it was": {off: true, read: func(id string, _ int) (site.Resource, error) {
			return site.Resource{ID: id, Name: "the well", State: site.Stopped, Word: "shut off", Attributes: map[string]string{"address": "10.0.0.9"}}, nil
		}},
		"it was off, and is on": {off: true, read: func(id string, _ int) (site.Resource, error) {
			return site.Resource{ID: id, State: site.Active, Word: "running"}, nil
		}, says: "survey it again"},
		"it is off": {read: func(id string, _ int) (site.Resource, error) {
			return site.Resource{ID: id, State: site.Stopped, Word: "shut off"}, nil
		}, says: "survey it again"},
		"it failed": {read: func(id string, _ int) (site.Resource, error) {
			return site.Resource{ID: id, State: site.Failed, Word: "crashed"}, nil
		}, says: "survey it again"},
		"it is gone": {read: func(string, int) (site.Resource, error) {
			return site.Resource{}, &site.Error{Site: "vega", Class: site.NotFound}
		}, says: "survey it again"},
		"it may not be looked at": {read: func(string, int) (site.Resource, error) {
			return site.Resource{}, &site.Error{Site: "vega", Class: site.Refused, Detail: "not you"}
		}, says: "not you"},
	} {
		t.Run(name, func(t *testing.T) {
			s := &scripted{read: c.read, create: func(site.Request) (site.Resource, error) {
				t.Error("something is asked for")
				return site.Resource{}, nil
			}}
			p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "well", Title: "well", Site: "vega", Level: 1, Kind: kinds.Instance, Off: c.off, Spec: plan.InstanceSpec{}}},
				Steps: []plan.Step{{ID: "well/create", Site: "vega", Level: 1, Seconds: 0.01, Resource: "well", Op: op.Create, Finds: "i-1", Check: plan.Condition{Kind: plan.CheckSite}}}}
			e, m := engineFor(t, p, s)
			err := e.Execute(ctx)
			require.Equal(t, c.says == "", err == nil, "%v", err)
			got := state(p, m)
			if c.says == "" {
				require.Equal(t, run.Standing, got.Status)
				known := got.Resource("well").Attributes
				assert.Equal(t, map[string]string{"site.id": "i-1", "address": "10.0.0.9", "found.name": "the well"}, known)
				return
			}
			assert.Equal(t, run.Failed, got.Status)
			assert.Contains(t, got.Step("well/create").Error, c.says)
		})
	}
}
