package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"syscall"
	"testing"
	"time"

	"andamio/internal/app"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADeploymentIsOperatedFromTheCommandLine takes a deployment through everything that the command line does to one,
// as a script would: nothing is asked, and nothing is changed before its name is given.
func TestADeploymentIsOperatedFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.02")
	file := filepath.Join(t.TempDir(), "plan.json")
	folder, err := filepath.Abs(example)
	require.NoError(t, err)
	code, out := program(t, "plan", example, "--preset", "drill", "--workspace", ws, "-o", file)
	require.Equal(t, 0, code, out)
	// The plan was made for sites of ordinary pace: what is expected is far off, and the run must bear it.
	code, out = program(t, "run", file, "--template", folder, "--workspace", ws, "--at-once", "40", "--at-once-per-kind", "instance=8")
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "everything stands")

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"deployments"}, 0, `1  flood-watch  standing  47 resources`},
		// The plan's estate keeps no names, and the workspace does: an update adds them.
		{[]string{"diff", "flood-watch"}, 1, "name map-host-1 has not been done"},
		{[]string{"diff", "flood-watch", "--confirm", "flood-watch"}, 0, "everything stands"},
		{[]string{"diff", "flood-watch"}, 0, "stands as it is wanted: nothing is to be done"},
		{[]string{"diff", "flood-watch", "--input", "forecast_workers=2"}, 1, `retire\s+alisio-norte\s+forecast-host-3\s+it is no longer wanted`},
		{[]string{"diff", "nobody"}, 3, `no deployment that stands is called "nobody"`},
		{[]string{"diff", "flood-watch", "--input", "forecast_workers=99"}, 1, "1 to 32"},
		{[]string{"scale", "flood-watch", "forecast-host", "many"}, 2, `"many" is no number`},
		{[]string{"scale", "flood-watch", "contacts-host", "2"}, 5, "no input says how many instances contacts-host has"},
		{[]string{"scale", "flood-watch", "forecast-host", "2", "--confirm", "flood"}, 1, `"flood" is not the deployment's name`},
		{[]string{"scale", "flood-watch", "forecast-host", "2", "--confirm", "flood-watch"}, 0, "everything stands"},
		{[]string{"rollback"}, 1, "roll back run 3: 7 steps"},
		{[]string{"rollback", "1"}, 4, "run 3 came after run 1"},
		{[]string{"resume"}, 4, "everything stands: there is nothing to go on with"},
		{[]string{"stop", "flood-watch", "map", "--confirm", "flood-watch"}, 0, "everything is as it is wanted, 2 instances switched off"},
		{[]string{"estate", "rooms"}, 0, `alisio-sur: flood-watch sleeps: 1 machine, 2 cores, 8 GiB`},
		{[]string{"estate", "rooms", "--json"}, 0, `"sleeping": \[\s*{\s*"of": "flood-watch",\s*"instances": 1`},
		{[]string{"stop", "flood-watch", "maps"}, 3, "no instance of a tier"},
		{[]string{"shell", "contacts-host", "--", "echo", "it", "is", "here; exit 4"}, 4, "it is here"},
		{[]string{"shell", "map-host"}, 4, "map-host-1 is switched off"},
		{[]string{"start", "flood-watch", "map", "--confirm", "flood-watch"}, 0, "everything stands"},
		{[]string{"copy", file, "contacts-host:/srv/plan.json"}, 0, `1 file, \d+ bytes copied`},
		{[]string{"copy", "contacts-host:/srv/plan.json", file + ".back"}, 0, "1 file,"},
		{[]string{"rehearse", file}, 0, "imagined runs: half end within"},
		{[]string{"clone", "flood-watch", "Bad Name!"}, 2, "cannot be a deployment's name"},
		{[]string{"clone", "flood-watch", "flood-watch"}, 2, "the clone needs a name of its own"},
		{[]string{"run", file}, 1, `build\s+alisio-norte\s+forecast-host-3`}, // of what stands the difference is shown
		{[]string{"run", file, "--deployment", "flood-watch"}, 1, "nothing was done; --confirm flood-watch runs it"},
		{[]string{"plan", example, "--preset", "drill", "--name", "Not A Name"}, 2, "cannot be a deployment's name"},
		{[]string{"capture", "flood-watch", file + ".captured"}, 0, "files written to"},
		{[]string{"check", file + ".captured"}, 0, "nothing wrong"},
		{[]string{"retire", "flood-watch", "-o", file + ".retire"}, 1, "--confirm flood-watch runs it"},
		{[]string{"run", file + ".retire"}, 4, "this plan is to retire flood-watch, and changes what stood when it was made"},
		{[]string{"run", file + ".retire", "--deployment", "flood-watch", "--confirm", "flood-watch"}, 4, "changes what stood when it was made"},
		{[]string{"run", file, "--deployment", "flood-watch"}, 1, `build\s+alisio-norte\s+forecast-host-3`},
		{[]string{"retire", "flood-watch", "--confirm", "flood-watch"}, 0, "everything is gone"},
		{[]string{"retire", "1"}, 3, "nothing stands of deployment 1"},
		{[]string{"deployments"}, 0, `1  flood-watch  retired  0 resources`},
	} {
		args := append([]string{"--workspace", ws}, c.args...)
		code, out := program(t, args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, out)
		assert.Regexp(t, regexp.MustCompile(c.says), out, "%v", c.args)
	}
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	after, err := os.ReadFile(file + ".back")
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	code, out = program(t, "deployments", "--json", "--workspace", ws)
	require.Equal(t, 0, code)
	var list []struct{ State string }
	require.NoError(t, json.Unmarshal([]byte(out), &list), out)
	assert.Equal(t, "retired", list[0].State)
}

// TestAKilledRunIsResumed kills a run's worker, finds it abandoned, and goes on with it.
func TestAKilledRunIsResumed(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.1")
	file := filepath.Join(t.TempDir(), "plan.json")
	code, out := program(t, "plan", example, "--preset", "drill", "--workspace", ws, "-o", file)
	require.Equal(t, 0, code, out)
	code, out = program(t, "run", file, "--detach", "--workspace", ws)
	require.Equal(t, 0, code, out)
	a, err := (&shared{workspace: ws}).open(t.Context())
	require.NoError(t, err)
	defer a.Close()
	require.Eventually(t, func() bool {
		s, err := a.Replay(t.Context(), 1)
		return err == nil && s.Done > 12
	}, 2*time.Minute, 20*time.Millisecond)
	r, err := a.Run(t.Context(), 1)
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(processOn(t, r), syscall.SIGKILL))
	require.Eventually(t, func() bool { return syscall.Kill(processOn(t, r), 0) != nil }, 2*time.Minute, 10*time.Millisecond)
	code, out = program(t, "resume", "--workspace", ws)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "everything stands")
	s, err := a.Replay(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, 1, s.Resumes)
}

// processOn is the process of a run's worker on this machine.
func processOn(t *testing.T, r app.Run) int {
	t.Helper()
	host, err := os.Hostname()
	require.NoError(t, err)
	process, here := r.Worker.On(host)
	require.True(t, here, r.Worker)
	return process
}
