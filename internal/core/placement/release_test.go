package placement

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
)

// What an image says of its release rules a site out, what it does not say rules nothing out, and workloads that differ in it alone are not alike.
func TestAReleaseRulesSitesOut(t *testing.T) {
	e := two(9, 9)
	e.Sites[0].Images[0].Release = estate.Release{Distribution: "debian", Version: "12"}
	old := Workload{Name: "old", Node: "old", OS: "linux", Release: estate.Release{Distribution: "debian", Version: "11.0"}, Need: estate.Capacity{Cores: 1}}
	now := old
	now.Name, now.Node, now.Release.Version = "now", "now", "12.1"

	a, err := Solve(Problem{Estate: e, Workloads: []Workload{now, old}, Weights: Weights{Cost: 1}}, Options{})
	require.NoError(t, err)
	for _, spot := range a.Choices {
		if spot.Workload == "old" {
			assert.Equal(t, "b", spot.Site)
		}
	}
	e.Sites[1].Images[0].Release = estate.Release{Distribution: "fedora"}
	_, err = Solve(Problem{Estate: e, Workloads: []Workload{now, old}, Weights: Weights{Cost: 1}}, Options{})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "linux (debian 11.0)")
}
