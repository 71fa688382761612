package tuitest

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestKeysHaveTheNamesTheyAreAskedBy(t *testing.T) {
	for _, name := range []string{"a", "N", "é", "[", "+", "enter", "esc", "space", "ctrl+w", "alt+left", "shift+tab", "ctrl+right", "home"} {
		assert.Equal(t, name, Key(name).String())
	}
	assert.Panics(t, func() { Key("nokey") })
	assert.Len(t, Typed("a b"), 3)
}
