package moves

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatAMachineStartsFrom(t *testing.T) {
	first := make([]byte, sector)
	assert.False(t, bootable(first))
	first[510], first[511] = 0x55, 0xaa
	assert.True(t, bootable(first))
	assert.False(t, bootable(first[:511]), "half a sector")
	assert.False(t, bootable(append(first, 0)))
	assert.False(t, bootable(nil))
}
