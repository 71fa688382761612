package api

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/tokens"
)

// packagesIn are the packages that a workspace keeps.
func packagesIn(t *testing.T, dir string) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, "packages", "*"))
	require.NoError(t, err)
	return list
}

// TestPackagesComeAndGoAsStreams packs an instance, builds another of what was packed, lifts one to a site's object storage, and drops it there.
func TestPackagesComeAndGoAsStreams(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	dir := a.Opened().Dir
	x := c.ask("POST", "/runs?confirm=gauges", planOf(c, ""))
	require.Equal(t, http.StatusAccepted, x.status, x.body)
	heard(c, 1, "")

	const file = "/deployments/gauges/instances/gauge-1/package/file"
	got := c.ask("GET", file, "")
	assert.Equal(t, http.StatusConflict, got.status, got.body)
	assert.Contains(t, got.body, "is on")
	assert.Equal(t, http.StatusNotFound, c.ask("GET", "/deployments/gauges/instances/nobody/package/file?running=true", "").status)
	packed := c.ask("GET", file+"?running=true", "")
	require.Equal(t, http.StatusOK, packed.status, packed.body)
	assert.Equal(t, packaged, packed.header.Get("Content-Type"))
	assert.Contains(t, packed.body, ".ovf")
	part := c.ask("GET", file+"?running=true", "", "Range: bytes=0-99")
	assert.Equal(t, http.StatusPartialContent, part.status)
	assert.Len(t, part.body, 100)

	send := func(c client, query, body string) answer {
		return c.ask("POST", "/packages"+query, body, "Content-Type: "+packaged)
	}
	got = send(c, "?site=vega&name=copy", packed.body)
	require.Equal(t, http.StatusOK, got.status, got.body)
	assert.Contains(t, got.body, `"build"`)
	assert.Empty(t, packagesIn(t, dir), "nothing was begun, and nothing is kept")
	for query, want := range map[string]int{"?site=vega&name=copy&confirm=other": http.StatusBadRequest, "?site=nowhere": http.StatusNotFound, "": http.StatusBadRequest, "?site=vega&size=none": http.StatusUnprocessableEntity} {
		assert.Equal(t, want, send(c, query, packed.body).status, query)
	}
	for _, body := range []string{"", "x", packed.body[:len(packed.body)/2], strings.Repeat("\x00", 4096)} {
		got := send(c, "?site=vega", body)
		assert.Equal(t, http.StatusBadRequest, got.status, got.body)
	}
	assert.Empty(t, packagesIn(t, dir))
	reader := c.with(tokenOf(t, a, tokens.Wish{Name: "reads", Limit: guard.Limit{Rights: []guard.Right{guard.Read}}}))
	assert.Equal(t, http.StatusForbidden, send(reader, "?site=vega&name=copy&confirm=copy", packed.body).status)
	assert.Equal(t, http.StatusBadRequest, c.ask("POST", "/packages?site=vega", packed.body, "Content-Type: "+packaged, "Idempotency-Key: one").status)

	got = send(c, "?site=vega&name=copy&confirm=copy", packed.body)
	require.Equal(t, http.StatusAccepted, got.status, got.body)
	heard(c, 2, "")
	assert.Contains(t, c.ask("GET", "/deployments/copy", "").body, `"standing"`)
	require.Eventually(t, func() bool { return len(packagesIn(t, dir)) == 0 }, time.Minute, 20*time.Millisecond, "the run is over, and what it was of is gone")

	lift := func(confirm string, status int) change {
		return changed(c, "/deployments/gauges/package/lift", `{"instance": "gauge-1", "running": true, "site": "vega", "name": "lifted", "confirm": "`+confirm+`"}`, status)
	}
	assert.Zero(t, lift("", http.StatusOK).Run)
	lift("gauges", http.StatusBadRequest) // it is another that is built
	assert.Empty(t, packagesIn(t, dir))
	assert.Equal(t, int64(3), lift("lifted", http.StatusAccepted).Run)
	heard(c, 3, "")
	assert.Contains(t, c.ask("GET", "/deployments/lifted", "").body, `"standing"`)
	assert.Equal(t, int64(4), changed(c, "/deployments/lifted/package/drop", `{"confirm": "lifted"}`, http.StatusAccepted).Run)
	heard(c, 4, "")
}

// TestWhatIsTooLargeIsNotKept sends more than there may be.
func TestWhatIsTooLargeIsNotKept(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.Large = 1000
	a, _, c := opened(t, limits)
	got := c.ask("POST", "/packages?site=vega", strings.Repeat("a", 1001), "Content-Type: "+packaged)
	assert.Equal(t, http.StatusRequestEntityTooLarge, got.status, got.body)
	got = c.ask("PUT", "/instances/gauge-1/file?path=/srv/x", strings.Repeat("a", 1001), "Content-Type: application/octet-stream")
	assert.Equal(t, http.StatusRequestEntityTooLarge, got.status, got.body)
	assert.Empty(t, packagesIn(t, a.Opened().Dir))
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "andamio-api-*", "sent"))
	require.NoError(t, err)
	for _, name := range left {
		info, err := os.Stat(name)
		assert.True(t, err != nil || info.Size() != 1001)
	}
}
