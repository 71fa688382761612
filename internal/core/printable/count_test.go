package printable

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOneIsOne(t *testing.T) {
	assert.Equal(t, []string{"0 steps", "1 step", "2 steps"}, []string{Count(0, "step"), Count(1, "step"), Count(2, "step")})
}
