package cli

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/hook"
	"andamio/internal/store"
)

// TestHooksFromTheCommandLine checks, keeps and lists hooks, and has one tell again what it could not.
func TestHooksFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	assert.Contains(t, run(0, "hook"), "there are no hooks")
	scenario := "../../examples/flood-watch/hooks.yaml"
	assert.Contains(t, run(0, "hook", "check", scenario), "4 hooks: nothing is wrong")

	calls := make(chan string, 10)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls <- r.Header.Get("Content-Type")
		if len(calls) == 1 { // the first is refused
			http.Error(w, "not now, thank you", http.StatusForbidden)
		}
	}))
	t.Cleanup(s.Close)
	file := filepath.Join(t.TempDir(), "hooks.yaml")
	require.NoError(t, os.WriteFile(file, []byte("version: andamio.hooks/1\nhooks: [ { hook: channel, on: [run.stands], call: \""+s.URL+"/in\", secret: channel } ]"), 0o600))
	said := run(0, "hook", "set", file)
	assert.Contains(t, said, "kept: 1 hook; what happens from now on sets them off")
	assert.Contains(t, said, "the secret channel is not kept yet: andamio credentials secret channel keeps it")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("s3cret"), 0o600))
	run(0, "credentials", "secret", "channel", "--file", secret)
	assert.Contains(t, run(0, "hook", "set", file), "kept: 1 hook")
	assert.Contains(t, run(0, "log"), "set what changes set off, in 1 hooks")
	run(0, "run", planFile(t, ws))
	assert.Contains(t, run(3, "hook", "again", "1"), "delivery 1", "nothing was told yet: nobody serves the workspace")
	serve := exec.Command(binary, "serve", "--workspace", ws)
	require.NoError(t, serve.Start())
	t.Cleanup(func() { _ = serve.Process.Signal(os.Interrupt); _ = serve.Wait() })
	require.Eventually(t, func() bool {
		_, out := program(t, "hook", "--workspace", ws)
		return strings.Contains(out, "failed  it says 403 Forbidden not now, thank you")
	}, 2*time.Minute, 100*time.Millisecond)
	assert.Contains(t, run(0, "hook", "again", "1"), "1 event told")
	assert.Regexp(t, `1 +channel +run.stands +flood-watch +sent`, run(0, "hook"))
	scripted := filepath.Join(t.TempDir(), "scripted.yaml")
	require.NoError(t, os.WriteFile(scripted, []byte("version: andamio.hooks/1\nhooks: [ { hook: log, on: [run.stands], script: 'true' }, { hook: few, on: [run.failed], at: [store*], script: 'true' } ]"), 0o600))
	run(0, "hook", "set", scripted)
	assert.Regexp(t, `log +run.stands +runs a script on every instance`, run(0, "hook"))
	assert.Regexp(t, `few +run.failed +runs a script on store\*`, run(0, "hook"))
	run(0, "hook", "set", file)
	assert.Equal(t, "application/cloudevents+json", <-calls)
	assert.Contains(t, run(2, "hook", "again", "x"), `"x" is no number`)

	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.hooks/1\nhooks: [ { hook: a, on: [run.flew], call: \"https://x.test\", secret: x } ]"), 0o600))
	assert.Contains(t, run(2, "hook", "check", bad), `bad.yaml: hooks[0]: on: there is no "run.flew"`)
	run(2, "hook", "set", bad)
	var out struct {
		Hooks      []hook.Hook
		Deliveries []store.Delivery
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "hook", "--json")), &out))
	assert.Len(t, out.Hooks, 1)
	assert.NotContains(t, run(0, "hook", "--json"), "s3cret")
}
