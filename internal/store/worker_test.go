package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/store"
)

func TestOnlyTheMachineOfAWorkerKnowsItsProcess(t *testing.T) {
	process, here := store.WorkerOn("alto", 41).On("alto")
	assert.True(t, here)
	assert.Equal(t, 41, process)
	for _, w := range []store.Worker{"", "41", "alto", "alto/", "alto/x", "alto/-1", "bajo/41", "alto/41/2"} {
		_, here := w.On("alto")
		assert.False(t, here, w)
	}
}
