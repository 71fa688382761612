package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/plan/op"
)

func TestEveryOperationHasAHandler(t *testing.T) {
	for _, r := range op.All() {
		assert.NotNil(t, handlers[r.Op], r.Op)
	}
	assert.Len(t, handlers, len(op.All()), "and nothing else is handled")
}
