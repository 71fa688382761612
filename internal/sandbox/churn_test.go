package sandbox

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestManyMachinesWriteLessEach: what all of a site's machines write is bounded, and each writes a little.
func TestManyMachinesWriteLessEach(t *testing.T) {
	for _, c := range []struct{ pages, machines, want int }{{33, 0, 0}, {33, 1, 33}, {33, 31, 33}, {33, 400, 2}, {1700, 1, 1024}, {33, 5000, 1}, {0, 10, 0}} {
		assert.Equal(t, c.want, share(c.pages, c.machines), "%+v", c)
	}
}
