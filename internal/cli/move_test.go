package cli

import (
	"archive/tar"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/migrate"
)

// levels is a workspace in which the page of levels stands at vega, with the folder of its template.
func levels(t *testing.T) string {
	t.Helper()
	ws := standIns(t, "0.02")
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../examples/level-log")))
	file := filepath.Join(t.TempDir(), "plan.json")
	code, out := program(t, "plan", dir, "--workspace", ws, "-o", file)
	require.Equal(t, 0, code, out)
	code, out = program(t, "run", file, "--template", dir, "--workspace", ws)
	require.Equal(t, 0, code, out)
	return ws
}

// TestWorkloadsAreMovedFromTheCommandLine pairs, plans, moves, goes back and commits as a script would, and packs and
// lifts what was moved.
func TestWorkloadsAreMovedFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := levels(t)
	ova := filepath.Join(t.TempDir(), "log.ova")
	plan := filepath.Join(t.TempDir(), "move.json")
	// A window that is open on a day on which nobody runs this test: in one that is open, a move begins at once.
	day := strings.ToUpper(time.Now().AddDate(0, 0, 3).Weekday().String()[:2])
	rule := "FREQ=WEEKLY;BYDAY=" + day + ";BYHOUR=22;BYMINUTE=0;BYSECOND=0"
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"pair"}, 0, "no sites are paired"},
		{[]string{"pair", "vega", "nowhere"}, 3, "nowhere"},
		{[]string{"pair", "vega", "tramonta"}, 0, `vega\s+tramonta\s+reached\s+[\d.]+ ms\s+[+-][\d.]+ s\s+\d+ MB/s\s+both`},
		{[]string{"move", "status"}, 0, "nothing was moved yet"},
		{[]string{"move", "status", "7"}, 3, "7"},
		{[]string{"move", "status", "seven"}, 2, `"seven" is no number of a move`},
		{[]string{"move", "plan", "level-log", "--what", "log-host", "--to", "presa"}, 3, "andamio pair vega presa pairs them"},
		{[]string{"move", "plan", "level-log", "--what", "log-host", "--to", "tramonta", "--mode", "tepid"}, 2, "there are cold, warm, live"},
		{[]string{"move", "plan", "level-log", "--what", "log-host", "--to", "tramonta", "--put", "log-host-1"}, 2, "--put takes INSTANCE=SITE"},
		{[]string{"move", "plan", "level-log", "--what", "log-host", "--put", "log-host-1=tramonta,colour=red"}, 2, "there are address, host, hostname, mac, network, size, storage-class, zone"},
		{[]string{"move", "plan", "level-log", "--what", "log-host", "--put", "log-host-1=tramonta,hostname=Big_Log"}, 5, `"Big_Log" is no host name`},
		{[]string{"move", "plan", "level-log", "--what", "log-host", "--to", "tramonta", "--window", rule, "--hours", "6", "--keep-layers", "-o", plan}, 0, `(?s)port 8085.*another one.*worse.*rounds are kept apart.*begins .* 22:00:00`},
		{[]string{"move", "start", "level-log"}, 2, "say what is to be moved"},
		{[]string{"move", "start"}, 2, "name a deployment"},
		{[]string{"move", "start", "level-log", "--what", "log-host", "--to", "tramonta", "--limit", "200", "--propose"}, 0, "andamio confirm 1 begins it"},
		{[]string{"confirm", "1", "--confirm", "level-log"}, 0, "the move has begun, as run"},
		{[]string{"move", "start", "level-log", "--what", "log-host", "--to", "tramonta"}, 4, "going on|under way|is not over"},
	} {
		args := append([]string{"--workspace", ws}, c.args...)
		code, out := program(t, args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, out)
		assert.Regexp(t, regexp.MustCompile(c.says), out, "%v", c.args)
	}
	// The plan that was written is one like others.
	code, out := program(t, "rehearse", plan, "--workspace", ws)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "imagined runs")

	var status struct {
		Workloads []workloadRow `json:"workloads"`
		Waves     []string      `json:"waves"`
	}
	require.Eventually(t, func() bool {
		_, out := program(t, "move", "status", "1", "--json", "--workspace", ws)
		return json.Unmarshal([]byte(out), &status) == nil && status.Workloads[0].Phase == migrate.Ready
	}, 2*time.Minute, 100*time.Millisecond)
	assert.Equal(t, []string{"moving"}, status.Waves)
	assert.Len(t, status.Workloads[0].Disks, 2)
	require.NotNil(t, status.Workloads[0].Ready)
	assert.Zero(t, *status.Workloads[0].Ready, "it is ready")
	assert.Greater(t, *status.Workloads[0].Down, 0.0)

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"move", "pause", "1"}, 0, "move 1: pause"},
		{[]string{"move", "limit", "1", "some"}, 2, `"some" is no number of megabytes`},
		{[]string{"move", "limit", "1", "0"}, 0, "move 1"},
		{[]string{"move", "resume", "1"}, 0, "move 1: go-on"},
		{[]string{"move", "commit", "1"}, 4, "only what has been moved is committed"},
		{[]string{"move", "cutover", "1"}, 0, "everything stands"},
		{[]string{"move", "status", "1"}, 0, "moved, not committed"},
		{[]string{"move", "back", "1"}, 1, "nothing was done; --confirm level-log does it"},
		{[]string{"move", "back", "1", "--confirm", "level-log"}, 0, "everything stands"},
		{[]string{"move", "back", "1", "--confirm", "level-log"}, 4, "there is nothing to go back from"},
		{[]string{"move", "start", "level-log", "--what", "log-host", "--to", "tramonta", "--mode", "live", "--at-once"}, 0, "everything stands"},
		{[]string{"move", "commit", "2", "--confirm", "level-log"}, 0, "everything stands"},
		{[]string{"package", "export", "level-log", "log-host-1", ova}, 4, "stop it first"},
		{[]string{"package", "export", "level-log", "nobody", ova}, 3, `no instance "nobody"`},
		{[]string{"package", "export", "level-log", "log-host-1", ova, "--running"}, 0, `log.ova: [\d.]+ MB`},
		{[]string{"package", "import", ova, "--site", "nowhere"}, 3, "nowhere"},
		{[]string{"package", "import", ova, "--site", "vega", "--name", "beside"}, 0, "everything stands"},
		{[]string{"package", "lift", "level-log", "log-host-1", "--running", "--site", "presa", "--name", "lifted"}, 0, "everything stands"},
		{[]string{"package", "drop", "lifted"}, 1, "--confirm lifted runs it"},
		{[]string{"package", "drop", "lifted", "--confirm", "lifted"}, 0, "everything stands"},
		{[]string{"package", "drop", "lifted"}, 3, "nothing of deployment"},
		{[]string{"deployments"}, 0, "(?s)lifted.*beside.*level-log"},
		{[]string{"retire", "lifted", "--confirm", "lifted"}, 0, "everything is gone"},
	} {
		args := append([]string{"--workspace", ws}, c.args...)
		code, out := program(t, args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, out)
		assert.Regexp(t, regexp.MustCompile(c.says), out, "%v", c.args)
	}
	assert.Equal(t, []string{"log-host-1.ovf", "log-host-1.mf", "log-host-1-disk1.qcow2", "log-host-1-disk2.qcow2"}, members(t, ova))
	left, err := filepath.Glob(filepath.Join(ws, "packages", "*"))
	require.NoError(t, err)
	assert.Empty(t, left, "what was packed to be lifted is not left lying")
}

// members are the names of the files in an archive.
func members(t *testing.T, file string) (out []string) {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	for r := tar.NewReader(f); ; {
		h, err := r.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		out = append(out, h.Name)
	}
}

func TestWhatIsPutWhereIsRead(t *testing.T) {
	t.Parallel()
	like := migrate.Choice{Zone: "a", KeepMAC: true}
	id, c, err := putting("host-1=vega,size=m,zone=b,network=lan,storage-class=fast,host=b-1,mac=02:00:5e:00:53:01,hostname=x,address=keep", like)
	require.NoError(t, err)
	assert.Equal(t, "host-1", id)
	assert.Equal(t, migrate.Choice{Site: "vega", Zone: "b", Host: "b-1", Size: "m", Network: "lan", Class: "fast", MAC: "02:00:5e:00:53:01", Hostname: "x", Address: "keep", KeepMAC: true}, c)
	_, c, err = putting("host-1=vega", like)
	require.NoError(t, err)
	assert.Equal(t, "a", c.Zone, "what is not said is as for all")
	for _, wrong := range []string{"host-1", "=vega", "host-1=vega,size"} {
		_, _, err := putting(wrong, like)
		assert.Equal(t, slices.Contains([]string{"host-1=vega,size"}, wrong), err == nil, "%s: %v", wrong, err)
	}
}
