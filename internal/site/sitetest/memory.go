package sitetest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// memory holds that what is in the memory of an instance is kept while it stands still, asked for once or twice, and that the instance goes on from it: but not while it is on, and
// no other instance.
func (u *suite) memory(t *testing.T) {
	keeps, can := site.Can[site.MemoryKeeper](u.ctx(t), u.d)
	if !can {
		u.without("it keeps no memory")
		return
	}
	ctx := u.ctx(t)
	machine := u.made(t, u.named(u.Instance, kinds.Instance))
	ask := u.named(site.Request{Source: machine.ID, Memory: true}, kinds.Snapshot)
	_, err := u.d.Create(ctx, ask)
	assert.Equal(t, site.Conflict, classOf(err), "it does not stand still: %v", err)
	assert.Empty(t, u.marked(t, kinds.Snapshot, ask.Mark), "and nothing is left of that")
	u.switched(t, machine.ID, site.ActSuspend, site.Suspended)
	kept := u.made(t, ask)
	assert.NotEmpty(t, kept.Attributes[site.AttrTaken])
	assert.NotEqual(t, "0", kept.Attributes[site.AttrHeld])
	again, err := u.d.Create(ctx, ask)
	require.NoError(t, err)
	assert.Equal(t, kept.ID, again.ID, "asked for twice with a key it is one")
	u.becomes(t, machine.ID, site.Suspended)
	disk := u.made(t, u.named(site.Request{Source: machine.ID}, kinds.Snapshot))

	u.switched(t, machine.ID, "start", site.Active)
	assert.Equal(t, site.Conflict, classOf(keeps.Recall(ctx, kept.ID, machine.ID)), "it is on")
	u.switched(t, machine.ID, "stop", site.Stopped)
	assert.Equal(t, site.Refused, classOf(keeps.Restore(ctx, kept.ID, machine.ID)), "it is of no disk")
	assert.Equal(t, site.Refused, classOf(keeps.Recall(ctx, disk.ID, machine.ID)), "it is of a disk")
	other := u.made(t, u.named(u.Instance, kinds.Instance))
	assert.Equal(t, site.Refused, classOf(keeps.Recall(ctx, kept.ID, other.ID)), "it is of another")
	assert.Equal(t, site.NotFound, classOf(keeps.Recall(ctx, "no-such-snapshot", machine.ID)))
	_, err = u.d.Create(ctx, u.named(site.Request{Source: "no-such-machine", Memory: true}, kinds.Snapshot))
	assert.Equal(t, site.Refused, classOf(err))

	require.NoError(t, keeps.Restore(ctx, disk.ID, machine.ID))
	require.NoError(t, keeps.Recall(ctx, kept.ID, machine.ID))
	u.becomes(t, machine.ID, site.Active)
}

// switched has an instance do what it is told, and be so then.
func (u *suite) switched(t *testing.T, id, action string, then site.State) {
	_, err := u.d.Invoke(u.ctx(t), kinds.Instance, id, action)
	require.NoError(t, err)
	u.becomes(t, id, then)
}
