package operate

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/react"
	"andamio/internal/service/reactions"
)

// TestWhatIsDoneByItselfIsShown holds that each reaction to the selected deployment says whether it does something, and why, or calls a person.
func TestWhatIsDoneByItselfIsShown(t *testing.T) {
	v := standing(t)
	v.Update(recalled{reacting: []reactions.Status{
		{Reaction: "what fell", Words: "raises what fell", Mode: react.Do, Deployment: v.all[0].ID},
		{Reaction: "by load", Words: "has 2 to 6", Mode: react.Do, Deployment: v.all[0].ID, State: react.State{Says: "run 4: 7.20 cores are used: 4 of map would do"}},
		{Reaction: "hosts evenly", Words: "evens hosts out", Mode: react.Propose, Deployment: v.all[0].ID},
		{Reaction: "the map", Words: "has 1 to 2", Mode: react.Do, Deployment: v.all[0].ID, State: react.State{Called: noon, CalledFor: "more than 2 may not be"}},
		{Reaction: "of another", Mode: react.Do, Deployment: 99},
	}})
	text := draw(v, 160, 60)
	assert.Regexp(t, `done by itself`, text)
	assert.Regexp(t, `■ what fell +does`, text)
	assert.Regexp(t, `◩ by load +does`, text)
	assert.Contains(t, text, "run 4: 7.20 cores are used: 4")
	assert.Regexp(t, `■ hosts evenly +proposes`, text)
	assert.Regexp(t, `✕ the map +calls a person`, text)
	assert.NotContains(t, text, "of another")
	var lines []string
	for _, l := range v.overTime() {
		lines = append(lines, l.Text)
	}
	assert.Contains(t, lines, "  the map has 1 to 2: a person is called: more than 2 may not be")
	assert.Contains(t, lines, "  what fell raises what fell: nothing is to be done")
}
