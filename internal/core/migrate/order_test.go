package migrate

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/plan/op"
)

// TestTheOrderMovesAlong has what is moved come after what it stands on where it goes, in the whole of what is wanted, too, by which the next change goes: a network is not taken away from under what is plugged into it.
func TestTheOrderMovesAlong(t *testing.T) {
	stand, e := standing(t), scenario(t)
	const host, plug = "contacts-host-1", "contacts-port-1/plug"
	to, err := Relocate(stand.Plan, e, []Choice{{Instance: host, Site: "alisio-sur"}}, nil)
	require.NoError(t, err)
	there := to.Resource("contacts-port-1").AsInterface().Network
	require.Equal(t, "contacts-lan@alisio-sur", there)
	known := map[string]bool{}
	for i := range to.Steps {
		known[to.Steps[i].ID] = true
	}
	for i := range to.Steps {
		s := &to.Steps[i]
		for _, a := range append(append([]string(nil), s.After...), s.Whole...) {
			assert.True(t, known[a], "%s comes after %s, which nobody does", s.ID, a)
		}
	}
	assert.Contains(t, to.Step(plug).After, op.Create.On(there))
	assert.Contains(t, to.Step(plug).Whole, op.Create.On(there))

	move, whole, err := change.Move(stand, to, change.Moving{Mode: change.Cold, Instances: []string{host}}, "move")
	require.NoError(t, err)
	stand, err = change.Done(stand, move)
	require.NoError(t, err)
	commit, err := change.Compile(stand, WithoutKept(whole, move.Renames), "commit")
	require.NoError(t, err)
	stand, err = change.Done(stand, commit)
	require.NoError(t, err)
	assert.Contains(t, stand.Plan.Step(plug).After, op.Create.On(there))
	retire, err := change.Compile(stand, change.Nothing(stand.Plan).Plan, "retire")
	require.NoError(t, err)
	assert.Contains(t, retire.Step(op.Remove.On(there)).After, op.Unplug.On("contacts-port-1"))
}
