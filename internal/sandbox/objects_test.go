package sandbox

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// TestAnObjectIsWhatItWasSaidToBe lifts objects whole, broken off and sent again, and with other bytes than were told.
func TestAnObjectIsWhatItWasSaidToBe(t *testing.T) {
	ctx := context.Background()
	_, sites, volumes := twoSites(t, 1)
	from := sites[0]
	data := bytes.Repeat([]byte("level 2.10 m "), 100_000)
	sum := sha256.Sum256(data)
	expect := func(digest string) site.Resource {
		r, err := from.Create(ctx, site.Request{Kind: kinds.Object, Name: "gauges", Bytes: int64(len(data)), SHA256: digest})
		require.NoError(t, err)
		assert.Equal(t, "0", r.Attributes[site.AttrReceived])
		return r
	}
	send := func(id string, at, n int) int64 {
		got, err := from.Upload(ctx, id, int64(at), int64(len(data)), data[at:at+n])
		require.NoError(t, err)
		return got
	}
	half := len(data) / 2
	whole := expect(hex.EncodeToString(sum[:]))
	require.EqualValues(t, half, send(whole.ID, 0, half))
	assert.EqualValues(t, half, send(whole.ID, 0, half), "what is sent again does no harm, and is told to go on")
	now, err := from.Read(ctx, kinds.Object, whole.ID)
	require.NoError(t, err)
	assert.NotEqual(t, site.Active, now.State)
	require.EqualValues(t, len(data), send(whole.ID, half, len(data)-half))
	now, err = from.Read(ctx, kinds.Object, whole.ID)
	require.NoError(t, err)
	assert.Equal(t, site.Active, now.State)

	other := expect(hex.EncodeToString(digestOf("other")))
	send(other.ID, 0, len(data))
	now, err = from.Read(ctx, kinds.Object, other.ID)
	require.NoError(t, err)
	assert.Equal(t, site.Failed, now.State)
	assert.Contains(t, now.Word, "digest")

	_, err = from.Unpack(ctx, volumes[0], other.ID, 0)
	require.ErrorContains(t, err, "no whole object")
	_, err = from.Unpack(ctx, volumes[0], whole.ID, 0)
	require.Error(t, err, "an object that is no package")
	_, err = from.Changes(ctx, whole.ID, "", 0)
	require.ErrorContains(t, err, "no disk", "objects are not read as disks")
	for name, r := range map[string]site.Request{"no digest": {Kind: kinds.Object, Bytes: 1}, "no size": {Kind: kinds.Object, SHA256: hex.EncodeToString(sum[:])}} {
		_, err := from.Create(ctx, r)
		require.Error(t, err, name)
	}
	_, err = from.Upload(ctx, whole.ID, 10, 20, []byte("beyond"))
	require.Error(t, err)
	require.NoError(t, from.Delete(ctx, kinds.Object, whole.ID))
	_, err = from.Read(ctx, kinds.Object, whole.ID)
	assert.Equal(t, site.NotFound, site.ClassOf(err))
}

func digestOf(text string) []byte { s := sha256.Sum256([]byte(text)); return s[:] }
