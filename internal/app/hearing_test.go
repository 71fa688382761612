package app

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/workspace"
)

// TestWhereNoticesAreHeard sets it in every way, and holds what is listened at and what sites are told.
func TestWhereNoticesAreHeard(t *testing.T) {
	t.Parallel()
	w := workspace.New(t.TempDir())
	for _, c := range []struct {
		h              workspace.Hearing
		at, told, says string
	}{
		{workspace.Hearing{}, "127.0.0.1:80", "127.0.0.1:80", ""},
		{workspace.Hearing{Tell: "ops.ribera.test"}, "127.0.0.1:80", "127.0.0.1:80", ""},
		{workspace.Hearing{Listen: "10.0.0.5"}, "10.0.0.5:80", "10.0.0.5:80", ""},
		{workspace.Hearing{Listen: "10.0.0.5", Tell: "ops.ribera.test"}, "10.0.0.5:80", "ops.ribera.test:80", ""},
		{workspace.Hearing{Listen: "0.0.0.0", Tell: "10.0.0.5"}, "0.0.0.0:80", "10.0.0.5:80", ""},
		{workspace.Hearing{Listen: "::", Tell: "fd00::5"}, "[::]:80", "[fd00::5]:80", ""},
		{workspace.Hearing{Listen: "0.0.0.0"}, "", "", "which name, sites are told"},
		{workspace.Hearing{Listen: "ops"}, "", "", "no address of this machine"},
		{workspace.Hearing{Listen: "10.0.0.5:80"}, "", "", "no address of this machine"},
		{workspace.Hearing{Tell: "ops:80"}, "", "", "without a port"},
		{workspace.Hearing{Tell: "http://ops"}, "", "", "neither a name nor an address"},
		{workspace.Hearing{Tell: "-x"}, "", "", "neither a name nor an address"},
	} {
		before, err := w.Hearing()
		require.NoError(t, err)
		err = w.SetHearing(c.h)
		now, readErr := w.Hearing()
		require.NoError(t, readErr)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, "%+v", c.h)
			assert.Equal(t, before, now, "and nothing is changed")
			continue
		}
		require.NoError(t, err, "%+v", c.h)
		assert.Equal(t, c.h, now)
		assert.Equal(t, c.at, now.At("80"))
		assert.Equal(t, c.told, now.Advertised(now.At("80")))
	}
}

// TestSitesAreToldWhereNoticesAreHeard has notices come to another address than the usual, by a name: those that are listened for.
func TestSitesAreToldWhereNoticesAreHeard(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	require.NoError(t, a.workspace.SetHearing(workspace.Hearing{Listen: "127.0.0.2"}))
	l, err := a.Listen(ctx, Listening{})
	require.NoError(t, err)
	assert.Regexp(t, `^http://127\.0\.0\.2:\d+/$`, l.URL())
	assert.NotEmpty(t, l.Sites)
	require.NoError(t, l.Close(ctx))
}
