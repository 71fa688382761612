package cli

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/service/workspace"
	"andamio/internal/testprogram"
)

// deployedFrom is a workspace with the scenario deployed on stand-ins of its own.
func deployedFrom(t *testing.T) string {
	t.Helper()
	ws := standIns(t, "0.01")
	code, out := program(t, "run", planFile(t, ws), "--workspace", ws)
	require.Zero(t, code, out)
	return ws
}

func TestTheInventoryIsKeptFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := deployedFrom(t)
	run := func(code int, args ...string) string {
		t.Helper()
		got, out, errOut := call(append(args, "--workspace", ws)...)
		require.Equal(t, code, got, "%v\n%s%s", args, out, errOut)
		return out + errOut
	}
	assert.Contains(t, run(0, "survey"), "0 findings")
	assert.Contains(t, run(0, "survey", "vega", "--deep"), "in instances")
	assert.Contains(t, run(0, "reconcile"), "nothing disagrees")
	assert.Contains(t, run(3, "survey", "altair"), `no site "altair"; there are presa`)
	assert.Contains(t, run(1, "survey", "vega", "--region", "z"), `no region "z"`)

	drifted := run(0, "sandbox", "drift", "--count", "5", "--only", "created,tagged", "--seed", "3")
	assert.Equal(t, 5, strings.Count(drifted, "\n"))
	run(0, "survey")
	found := run(1, "reconcile")
	assert.Regexp(t, `unmanaged\s+\S+\s+(instance|volume)`, found)
	var report struct {
		Findings []brief `json:"findings"`
	}
	require.NoError(t, json.Unmarshal([]byte(run(1, "reconcile", "--json")), &report))
	require.Len(t, report.Findings, 5)

	// What would be done is shown, and done with --yes alone.
	assert.Contains(t, run(1, "reconcile", "--type", "unmanaged", "--settle", "adopt"), "--yes does it")
	assert.Contains(t, run(0, "reconcile", "--type", "unmanaged", "--settle", "adopt", "--propose"), "andamio confirm 1 begins it")
	assert.Contains(t, run(1, "confirm", "1"), "--confirm findings runs it")
	assert.Contains(t, run(0, "withdraw", "1"), "1")
	assert.NotContains(t, run(0, "clock"), "end of proposal", "nothing is due for it any more")
	assert.Contains(t, run(5, "reconcile", "--type", "missing", "--settle", "retire"), "no finding that was picked")
	assert.Contains(t, run(2, "reconcile", "--settle", "forget"), `there is no "forget"`)
	assert.Contains(t, run(2, "reconcile", "--settle", "ignore", "--until", "soon"), "no day")
	assert.Contains(t, run(2, "reconcile", "--settle", "ignore"), "needs a reason")
	act := regexp.MustCompile(`act (\d+) is done`).FindStringSubmatch(run(0, "reconcile", "--type", "unmanaged", "--settle", "adopt", "--yes"))
	require.NotNil(t, act)
	left := 0
	for _, f := range report.Findings {
		if f.Type != "unmanaged" {
			left++
		}
	}
	if left > 0 {
		assert.NotContains(t, run(1, "reconcile"), "unmanaged")
	}
	assert.Contains(t, run(0, "reconcile", "--undo", act[1]), "is undone")
	assert.Contains(t, run(3, "reconcile", "--undo", act[1]), "undone already")
	assert.Contains(t, run(1, "reconcile"), "unmanaged")
	code, out := program(t, "reconcile", "--attribute", "tag.*", "--settle", "correct-site", "--yes", "--workspace", ws) // its run's worker is a process
	assert.Zero(t, code, out)
	run(0, "survey")
	assert.NotContains(t, run(1, "reconcile"), "changed")

	// The inventory goes out and comes back.
	file := filepath.Join(t.TempDir(), "all.csv")
	run(0, "records", "export", file)
	assert.Contains(t, run(0, "records", "import", file), "0 records are added, 0 changed")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	line := strings.Split(strings.TrimSpace(string(data)), "\n")[1]
	id, _, _ := strings.Cut(line, ",")
	assert.Regexp(t, `\d{4}-\d\d-\d\d .*(built by|seen at)`, run(0, "records", "show", id))
	assert.Contains(t, run(3, "records", "show", "nothing"), "never was a record")
	assert.Contains(t, run(1, "reconcile", "--recorded", file, "--observed", os.DevNull), "missing", "everything is gone")
	assert.Contains(t, run(3, "reconcile", "--recorded", filepath.Join(ws, "none.csv")), "there is no file")
	assert.Contains(t, run(0, "mapping"), "instance")
	assert.Contains(t, run(0, "mapping", "--shipped"), "andamio.mapping/1")
	bad := filepath.Join(t.TempDir(), "m.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.mapping/1\nclasses: [{type: compute}]\n"), 0o600))
	assert.Contains(t, run(2, "mapping", bad), "classes[0].class: is missing")
}

func TestSitesAreConnectedFromTheCommandLine(t *testing.T) {
	t.Parallel()
	from := standIns(t, "0.01")
	c, err := workspace.New(from).Connection("tramonta")
	require.NoError(t, err)
	ws := testprogram.Workspace(t)
	token := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(token, []byte(c.Credential()+"\n"), 0o600))
	run := func(code int, args ...string) string {
		t.Helper()
		got, out, errOut := call(append(args, "--workspace", ws)...)
		require.Equal(t, code, got, "%v\n%s%s", args, out, errOut)
		assert.NotContains(t, out+errOut, c.Credential(), "a credential is never shown")
		return out + errOut
	}
	assert.Contains(t, run(3, "site", "test"), "no site is connected")
	assert.Contains(t, run(2, "site", "add", "tramonta"), "--kind and --url")
	assert.Contains(t, run(2, "site", "add", "tramonta", "--kind", "public", "--url", c.Address()), "there is no credential")
	assert.Contains(t, run(2, "site", "add", "Tramonta", "--kind", "public", "--url", c.Address(), "--token-file", token), "small letters")
	assert.Contains(t, run(7, "site", "add", "tramonta", "--kind", "public", "--url", "http://127.0.0.1:9", "--token-file", token), "does not answer")
	out := run(0, "site", "add", "tramonta", "--kind", "public", "--url", c.Address(), "--token-file", token, "--schedule", "FREQ=DAILY;BYHOUR=3", "--time-zone", "Europe/Lisbon")
	assert.Contains(t, out, "may read, create, change, delete")
	assert.Contains(t, out, "tramonta is connected")
	assert.Contains(t, out, "done", "it was surveyed")
	assert.Regexp(t, `tramonta\s+public\s+http.*deploy-bot\s+surveyed`, run(0, "site", "list"))
	assert.Contains(t, run(0, "site", "test", "tramonta"), "answers in")
	assert.Contains(t, run(0, "site", "rotate", "tramonta"), "has a new credential")
	assert.Contains(t, run(0, "site", "test"), "answers in", "with the new one")
	assert.Contains(t, run(5, "site", "rotate", "tramonta", "--token-file", token), "does not take the credential", "the old one is worth nothing")
	assert.Contains(t, run(1, "site", "remove", "tramonta"), "--confirm tramonta")
	assert.Contains(t, run(0, "site", "remove", "tramonta", "--confirm", "tramonta"), "is removed")
	assert.Equal(t, "[]\n", run(0, "site", "list", "--json"))

	private := run(0, "credentials", "key", "bastion")
	assert.Contains(t, private, "PRIVATE KEY", "given out once")
	listed := run(0, "credentials", "key")
	assert.NotContains(t, listed, "PRIVATE")
	assert.Contains(t, listed, "bastion")
	assert.Contains(t, run(4, "credentials", "key", "bastion"), "already")
}

// TestServeHearsAndEnds serves a workspace, has it refuse a forged notice, and interrupts it.
func TestServeHearsAndEnds(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	cmd := exec.Command(binary, "serve", "--address", "127.0.0.1:0", "--json", "--workspace", ws)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill() }()
	var told struct {
		Address       string
		Sites, Silent []string
	}
	require.NoError(t, json.NewDecoder(out).Decode(&told))
	assert.ElementsMatch(t, []string{"vega", "alisio-norte", "alisio-sur"}, told.Sites)
	resp, err := http.Post("http://"+told.Address+"/vega", "application/cloudevents+json", strings.NewReader("{}"))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	code, _, errOut := call("serve", "--address", "127.0.0.1:0", "--workspace", ws)
	assert.Equal(t, statuses[fault.Conflict], code, errOut)
	require.Eventually(t, func() bool { // each is surveyed at once, since none ever was
		_, text, _ := call("clock", "--workspace", ws)
		return strings.Count(text, ": done, ") == 5
	}, 2*time.Minute, 50*time.Millisecond)
	code, text, _ := call("clock", "--workspace", ws)
	assert.Zero(t, code)
	assert.Regexp(t, `served by \S+/\d+ since`, text)
	assert.Regexp(t, `survey of vega +20\d\d-\d\d-\d\d \d\d:00:00 +FREQ=HOURLY`, text)
	code, _, errOut = call("serve", "--stop", "--workspace", ws)
	assert.Zero(t, code, errOut)
	require.NoError(t, cmd.Wait())
	_, text, _ = call("clock", "--workspace", ws)
	assert.Contains(t, text, "nobody serves this workspace")
}

// TestASurveyKilledLeavesWhatWasSeen kills a survey's process in its middle; the next one goes on with it.
func TestASurveyKilledLeavesWhatWasSeen(t *testing.T) {
	t.Parallel()
	ws := deployedFrom(t)
	_, _, _ = call("survey", "--workspace", ws)
	_, before, _ := call("reconcile", "--json", "--workspace", ws)
	_, _, _ = call("sandbox", "drift", "--count", "6", "--workspace", ws)
	a, err := app.Open(t.Context(), ws)
	require.NoError(t, err)
	defer a.Close()
	for range 8 {
		had, err := a.Surveys(t.Context(), 1000)
		require.NoError(t, err)
		cmd := exec.Command(binary, "survey", "--workspace", ws)
		require.NoError(t, cmd.Start())
		ended := make(chan struct{})
		go func() { _ = cmd.Wait(); close(ended) }()
		require.Eventually(t, func() bool { // one more was begun, or none could be beside the one that was killed
			select {
			case <-ended:
				return true
			default:
			}
			now, err := a.Surveys(t.Context(), 1000)
			return err == nil && len(now) > len(had)
		}, 2*time.Minute, time.Millisecond)
		_ = cmd.Process.Kill()
		<-ended
	}
	code, after, errOut := call("reconcile", "--json", "--workspace", ws)
	assert.Contains(t, []int{0, 1}, code, errOut)
	if code == 0 {
		assert.Equal(t, before, after, "nothing of a survey that was killed counts")
	}
	var out string
	require.Eventually(t, func() bool { // until it is believed dead
		code, out, errOut = call("survey", "--workspace", ws)
		return code == 0
	}, 2*time.Minute, 200*time.Millisecond)
	assert.Contains(t, out, "findings")
}
