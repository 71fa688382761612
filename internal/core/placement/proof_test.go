package placement_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/placement"
	"andamio/internal/core/placement/sample"
)

// tight are problems of nine workloads that were not proven before what is alike was tried once: equal workloads at hosts that are equally empty, beside a rule
// that tells zones or hosts apart.
var tight = []uint64{32, 76, 168, 206, 232, 294, 460, 462, 480, 508, 560, 731, 832, 1060}

// tightShape is the shape of one of them.
func tightShape(seed uint64) sample.Shape {
	return sample.Shape{Workloads: 9, Sites: 3 + int(seed%4), Sizes: 3, Hosts: 4 + int(seed%5), Fill: []float64{0, 0.6, 0.9, 1.1}[seed%4]}
}

func TestTightProblemsOfNineWorkloadsAreProven(t *testing.T) {
	for _, seed := range tight {
		p := sample.Problem(seed, tightShape(seed))
		got, err := placement.Solve(p, placement.Options{Brief: true})
		require.NoError(t, err, "%d", seed)
		require.NoError(t, check(p, got), "%d", seed)
		assert.True(t, got.Proven, "%d: %v of %v", seed, got.Bound, got.Objective)
	}
}
