package storetest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/react"
)

// reactionsKnowWhatTheyDid holds that what a reaction did to one deployment is known after the store was opened anew, and is of no other, and who set their file.
func reactionsKnowWhatTheyDid(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	none, err := s.ReactionStates(ctx)
	require.NoError(t, err)
	assert.Empty(t, none)
	a := react.Kept{Reaction: "load", Deployment: 2, State: react.State{Acts: []react.Act{{At: noon, Do: react.Scaling, On: []string{"map"}, From: 2, Count: 3, Why: "busy"}}, Says: "grows"}}
	b := react.Kept{Reaction: "load", Deployment: 1, State: react.State{Called: noon, CalledFor: "it does not help", Since: noon, About: "x"}}
	c := react.Kept{Reaction: "fell", Deployment: 2, State: react.State{Says: "waits"}}
	for _, k := range []react.Kept{a, b, c} {
		require.NoError(t, s.KeepReactionState(ctx, k))
	}
	a.State.Says = "rests"
	require.NoError(t, s.KeepReactionState(ctx, a))
	require.NoError(t, s.SetReactor(ctx, "abc", guard.Actor{Name: "ana", Way: guard.Command}))
	require.NoError(t, s.SetReactor(ctx, "def", guard.Actor{Name: "eva", Way: guard.Screen}))
	s = open(t, name)
	all, err := s.ReactionStates(ctx)
	require.NoError(t, err)
	assert.Equal(t, []react.Kept{b, c, a}, all)
	by, err := s.Reactor(ctx, "def")
	require.NoError(t, err)
	assert.Equal(t, guard.Actor{Name: "eva", Way: guard.Screen}, by)
	by, err = s.Reactor(ctx, "abc")
	require.NoError(t, err)
	assert.Zero(t, by, "another file is nobody's")
	require.NoError(t, s.DropReactionState(ctx, "load", 2))
	require.NoError(t, s.DropReactionState(ctx, "load", 9))
	all, err = s.ReactionStates(ctx)
	require.NoError(t, err)
	assert.Equal(t, []react.Kept{b, c}, all)
}
