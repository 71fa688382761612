package today

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/react"
	"andamio/internal/service/reactions"
)

// TestAReactionThatCallsAPersonIsInTheQueue holds that it says why, what it did before, and can be let act again.
func TestAReactionThatCallsAPersonIsInTheQueue(t *testing.T) {
	v := &View{now: now}
	v.Update(done{reacting: []reactions.Status{
		{Reaction: "what fell", Words: "raises what fell", Deployment: 1, Name: "flood-watch", State: react.State{Called: now.Add(-time.Minute), CalledFor: "m-1 is gone: it has disks",
			Acts: []react.Act{{At: now.Add(-time.Hour), Do: react.Raising, On: []string{"m-1"}, Why: "m-1 is off"}}}},
		{Reaction: "by load", Deployment: 1, Name: "flood-watch", State: react.State{Says: "all the same"}},
	}})
	items := v.items(now)
	require.Len(t, items, 1)
	assert.Equal(t, "flood-watch: what fell needs a person", items[0].title)
	assert.Equal(t, "m-1 is gone: it has disks", items[0].why)
	assert.Equal(t, "m-1 is gone: it has disks.", items[0].reason[0], "whole, however narrow the screen is")
	assert.Contains(t, items[0].reason[3], "raise m-1: m-1 is off")
	acts := v.reactionActs(items[0].reaction)
	require.Len(t, acts, 1)
	assert.Equal(t, "let what fell act again", acts[0].Name)
	assert.Empty(t, v.reactionActs(nil))
}
