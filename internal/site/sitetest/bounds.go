package sitetest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// bounds holds that what a volume is bounded by is kept with it, attached or not, replaced by what is said next, and lifted by nothing.
func (u *suite) bounds(t *testing.T) {
	at, can := u.d.(site.Limiter)
	if !can {
		u.without("it does not bound how much volumes are read and written")
		return
	}
	ctx := u.ctx(t)
	volume := u.made(t, u.named(u.Volume, kinds.Volume))
	has := func() [2]string {
		got, err := u.d.Read(ctx, kinds.Volume, volume.ID)
		require.NoError(t, err)
		return [2]string{got.Attributes[site.AttrIOPerSecond], got.Attributes[site.AttrIOMiBPerSecond]}
	}
	assert.Equal(t, [2]string{}, has(), "nothing bounds it")
	require.NoError(t, at.Limit(ctx, volume.ID, site.IOLimit{PerSecond: 500, MiBPerSecond: 12.5}))
	assert.Equal(t, [2]string{"500", "12.5"}, has())
	machine := u.made(t, u.named(u.Instance, kinds.Instance))
	u.made(t, u.named(site.Request{Source: machine.ID, Target: volume.ID, Location: "/data"}, kinds.Attachment))
	assert.Equal(t, [2]string{"500", "12.5"}, has(), "attaching it changes nothing of that")
	require.NoError(t, at.Limit(ctx, volume.ID, site.IOLimit{MiBPerSecond: 40}))
	assert.Equal(t, [2]string{"", "40"}, has(), "what was said before counts no more")
	require.NoError(t, at.Limit(ctx, volume.ID, site.IOLimit{}))
	assert.Equal(t, [2]string{}, has())
	assert.Equal(t, site.NotFound, classOf(at.Limit(ctx, "no-such-volume", site.IOLimit{PerSecond: 1})))
}
