package plan_test

import (
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/golden"
)

// TestAClonedDeploymentIsAsRecorded clones the scenario beside itself, and where a site has less than it needs.
func TestAClonedDeploymentIsAsRecorded(t *testing.T) {
	t.Parallel()
	known := func() *estate.Estate {
		data, err := os.ReadFile(example + "/estate.json")
		require.NoError(t, err)
		e, err := estate.Read(data)
		require.NoError(t, err)
		return e
	}
	p := compile(t, example, "drill")
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Endpoint { // names go with what serves
			p.Steps = append(p.Steps, plan.Step{ID: r.ID + "/name", Op: op.Name, Resource: r.ID, Site: r.Site, Title: "name it", Naming: &plan.Naming{Name: "page-" + r.ID + ".flood-watch"}, Check: plan.Condition{Kind: plan.CheckNone}})
		}
	}
	require.NoError(t, plan.Reindexed(p).Arrange())
	first, err := plan.Clone(p, "Other One", known())
	require.NoError(t, err)
	text, err := first.Write()
	require.NoError(t, err)
	golden.Is(t, "testdata/clone.json", string(text))
	for _, s := range first.Steps {
		if s.Naming != nil {
			assert.Regexp(t, `\.other-one$`, s.Naming.Name)
			assert.NotContains(t, s.Naming.Name, ".flood-watch.", "it is another's name")
		}
	}

	without := known()
	gone := p.Resources[slices.IndexFunc(p.Resources, func(r plan.Resource) bool { return r.Kind == kinds.Instance })]
	without.Sites = slices.DeleteFunc(without.Sites, func(s *estate.Site) bool { return s.Name == gone.Site })
	_, err = plan.Clone(p, "b", without)
	assert.ErrorContains(t, err, "has no place at "+gone.Site+": the site is not connected")
	full := known()
	for i := range full.Sites {
		for j := range full.Sites[i].Zones {
			full.Sites[i].Zones[j].Free = estate.Capacity{}
			for k := range full.Sites[i].Zones[j].Hosts {
				full.Sites[i].Zones[j].Hosts[k].Free = estate.Capacity{}
			}
		}
	}
	_, err = plan.Clone(p, "b", full)
	assert.ErrorContains(t, err, "there is no room for")
	unaddressed := known()
	for _, s := range unaddressed.Sites {
		for i := range s.Networks {
			for j := range s.Networks[i].Pools {
				s.Networks[i].Pools[j].To = s.Networks[i].Pools[j].From
			}
		}
	}
	_, err = plan.Clone(p, "b", unaddressed)
	assert.Error(t, err)
}
