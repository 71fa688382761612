package tui_test

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsWrongIsAnsweredFromTheScreen asks as somebody does who is woken: what is wrong, since when, whom does it hit, how was it before, and what would help. A machine is deleted by
// hand at its site; the answers come from Today and Operate, and Today leads to the plan that raises it again.
func TestWhatIsWrongIsAnsweredFromTheScreen(t *testing.T) {
	ws, sites := sandboxed(t)
	plan := filepath.Join(t.TempDir(), "plan.json")
	program(t, "plan", copyExample(t), "-o", plan, "--workspace", ws)
	require.Contains(t, program(t, "run", plan, "--workspace", ws), "standing")
	serving := exec.Command(binary, "serve", "--workspace", ws)
	require.NoError(t, serving.Start())
	t.Cleanup(func() { _ = serving.Process.Signal(os.Interrupt); _ = serving.Wait() })
	x := open(t, 160, 47, nil, "--workspace", ws)
	x.waitFor("0 Today")
	x.press("5")
	x.waitFor(`■ flood-watch`)
	x.press("m")
	x.waitFor(`readings-host +vega +\d+ % +[▁▂▃▄]`)
	x.waitFor(`all of flood-watch +\d+ %`)
	x.press("1")
	x.waitFor(`cores in use +\d[\d.]* of \d+ \(\d+ %\)`)
	x.press("5")
	x.press("m")
	key := regexp.MustCompile(`"instance vega/([^"]+)"`).FindStringSubmatch(program(t, "measure", "readings-host", "--json", "--workspace", ws))
	require.Len(t, key, 2)
	reach, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(reach, http.MethodDelete, sites["vega"].URL+"/compute/"+key[1], nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+sites["vega"].Token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	require.Less(t, resp.StatusCode, 300)
	x.waitFor(`critical +instance readings-host at vega`)
	screen := x.waitFor(`takes down forecasting`)
	assert.Regexp(t, `vega says: it is not there`, screen)
	assert.Regexp(t, `nobody sees to it`, screen)
	screen = x.until(`(?s)as it was at .*forecasting +11 of 11 `, func() { x.press("{") })
	assert.NotContains(t, screen, "critical", "it was well before")
	x.press("Escape")
	x.waitFor(`critical +instance readings-host at vega`)
	x.press("0")
	x.waitFor(`instance readings-host at vega +vega says: it is not there`)
	x.press("a")
	x.waitFor(`2 +build readings-host again`)
	x.press("3")
	x.waitFor("sees to it")
	x.press("a")
	x.waitFor(`2 +build readings-host again`)
	x.press("2")
	x.waitFor("raise readings-host-1 again")
}
