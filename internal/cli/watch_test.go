package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
)

// TestWhatIsWrongFromTheCommandLine measures stand-ins, loads a machine until that is wrong, sees to it and silences it, and tries and keeps thresholds.
func TestWhatIsWrongFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	assert.Contains(t, run(0, "measure"), "nothing was measured within five minutes")
	assert.Contains(t, run(0, "alert"), "nothing is wrong")
	run(0, "run", planFile(t, ws))
	a, err := app.Open(t.Context(), ws, app.Idle())
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	now := time.Now().Add(-2 * time.Minute)
	measured := func(times int) {
		for range times {
			require.NoError(t, a.MeasureAll(t.Context(), now))
			now = now.Add(15 * time.Second)
		}
	}
	measured(2)
	said := run(0, "measure")
	assert.Regexp(t, `instance +map-host 1 +alisio-norte +flood-watch +cores \d+ % · memory \d+ % · disk \d+ %`, said)
	assert.Regexp(t, `endpoint +river-map 1 http +alisio-norte +flood-watch +time to answer`, said)
	assert.Regexp(t, `site +vega +vega +time to answer`, said)
	assert.Regexp(t, `cores in use +[\d.]+ of 2 \(\d+ %\) +[▁▂▃▄▅▆▇█]`, run(0, "measure", "map-host 1"))
	assert.Regexp(t, `AT +LEAST +MEAN +MOST`, run(0, "measure", "map-host 1", "cores", "--since", "1h"))
	assert.Contains(t, run(0, "measure", "map-host 1", "cores", "--json"), `"unit": "cores"`)
	assert.Contains(t, run(0, "measure", "map-host 1", "heat"), "nothing is known of heat")
	assert.Contains(t, run(3, "measure", "nobody"), `nothing is measured that is called "nobody"`)
	assert.Contains(t, run(2, "measure", "forecast"), "name one of them")
	assert.Contains(t, run(2, "measure", "map-host 1", "cores", "--since", "soon"), "--since")
	assert.Contains(t, run(2, "measure", "map-host 1", "cores", "--step", "soon"), "--step")
	assert.Contains(t, run(2, "measure", "map-host 1", "cores", "--since", "300d", "--step", "1s"), "more than 20,000 points")

	assert.Contains(t, run(0, "measure", "overview"), "no overview is kept")
	run(0, "measure", "overview", "keep", "the two", "map-host 1:cores", "river-map 1 http:answer_time", "--over", "1h")
	assert.Regexp(t, `the two +2 +1h0m0s`, run(0, "measure", "overview"))
	assert.Regexp(t, `map-host 1 +alisio-norte +cores in use +[\d.]+ of 2 .*\n *river-map 1 http +alisio-norte +time to answer +[\d.]+ ms`, run(0, "measure", "overview", "the two"))
	assert.Contains(t, run(0, "measure", "overview", "the two", "--since", "7d", "--json"), `"measure": "answer_time"`)
	pictures := t.TempDir()
	assert.Contains(t, run(0, "measure", "overview", "the two", "--draw", "-o", pictures), filepath.Join(pictures, "the two.svg"))
	assert.Contains(t, run(3, "measure", "overview", "none"), `there is no overview "none"`)
	assert.Contains(t, run(2, "measure", "overview", "keep", "../x", "map-host 1:cores"), "cannot be an overview's name")
	assert.Contains(t, run(2, "measure", "overview", "keep", "x", "map-host 1"), "write THING:MEASURE")
	assert.Contains(t, run(2, "measure", "overview", "keep", "x", "map-host 1:queue{river=upper}"), "labels that are not whole")
	assert.Contains(t, run(3, "measure", "overview", "keep", "x", "nobody:cores"), "nothing is measured that is called")
	run(0, "measure", "overview", "keep", "own", `map-host 1:queue{river="a:b"}`)
	assert.Contains(t, run(0, "measure", "overview", "own"), "not measured")
	run(0, "measure", "overview", "drop", "own")
	assert.Contains(t, run(3, "measure", "overview", "drop", "own"), "there is no overview")
	assert.Contains(t, run(0, "measure", "forward"), "sent nowhere")
	assert.Contains(t, run(2, "measure", "forward", "http://192.0.2.1/x", "--off"), "and not both")
	assert.Contains(t, run(0, "measure", "forward", "https://ledge.test/x", "--secret", "ledge"), "sent on to https://ledge.test/x, with the secret ledge")
	assert.Contains(t, run(0, "measure", "forward", "--off"), "sent nowhere")
	assert.Contains(t, run(0, "log", "--from", "1h"), "kept the overview the two")
	assert.NotContains(t, run(0, "log", "--until", "1d"), "kept the overview")
	assert.Contains(t, run(2, "log", "--from", "soon"), "is no moment")

	assert.Contains(t, run(2, "sandbox", "load", "alisio-norte", "map-host-1", "cores=lots"), `"cores=lots" is no share`)
	assert.Contains(t, run(2, "sandbox", "load", "alisio-norte", "map-host-1", "cores=200"), "between 0 and 100 %")
	assert.Contains(t, run(0, "sandbox", "load", "alisio-norte", "map-host-1", "disk=97%"), "is busy for 10m")
	measured(2)
	said = run(1, "alert")
	assert.Regexp(t, `1 +critical +.* +instance map-host 1 at alisio-norte +disk in use .* \(97 %\) +weakens map +nobody sees to it`, said)
	assert.Regexp(t, `instance map-host 1 .*disk, shipped:\d+`, run(0, "alert", "show", "1"))
	assert.Regexp(t, `(in the hour before|done about it)\n +.* flood-watch run 1 raised it: done`, run(0, "alert", "show", "1"))
	assert.Contains(t, run(3, "alert", "show", "9"), "there is no alert 9")
	assert.Contains(t, run(2, "alert", "show", "one"), `"one" is no number of an alert`)
	assert.Contains(t, run(0, "alert", "acknowledge", "1", "--note", "at it"), "sees to it")
	assert.Contains(t, run(2, "alert", "silence", "1", "--for", "4h"), "--note")
	assert.Contains(t, run(2, "alert", "silence", "1", "--note", "x"), "say when it ends")
	assert.Contains(t, run(2, "alert", "silence", "1", "--note", "x", "--for", "300d"), "within a month")
	assert.Contains(t, run(0, "alert", "silence", "1", "--note", "a larger disk is on its way", "--for", "4h"), "silenced until")
	assert.Contains(t, run(0, "alert"), "silenced until", "what is silenced is no no")
	assert.Contains(t, run(0, "alert", "unsilence", "1"), "sees to it")
	var all []alarm.Alert
	require.NoError(t, json.Unmarshal([]byte(run(1, "alert", "--json", "--since", "7d")), &all))
	require.Len(t, all, 1)
	assert.Equal(t, "at it", all[0].Known.Say)
	assert.Contains(t, run(2, "alert", "--since", "monday"), "no span of time")
	assert.Contains(t, run(0, "log"), "silenced alert 1: silenced: a larger disk is on its way")

	file := "../../examples/flood-watch/thresholds.yaml"
	assert.Contains(t, run(0, "threshold", "check", file), "4 thresholds: nothing is wrong")
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.thresholds/1\nthresholds:\n- { name: a, measure: cores, critical: { above: lots } }"), 0o644))
	assert.Contains(t, run(2, "threshold", "set", bad), `line 3, "a": critical: above: "lots" is no figure of cores`)
	assert.Contains(t, run(0, "threshold", "preview", file, "--since", "1h"), "it would have been over at no time")
	tight := filepath.Join(t.TempDir(), "tight.yaml")
	require.NoError(t, os.WriteFile(tight, []byte("version: andamio.thresholds/1\nthresholds:\n- { name: full, measure: disk, critical: { above: 95% } }"), 0o644))
	assert.Regexp(t, `it would have been over once within the last 1h:\n.*still +critical +map-host 1 +full +disk in use`, run(0, "threshold", "preview", tight, "--since", "1h"))
	assert.Contains(t, run(2, "threshold", "preview", tight, "--since", "never"), "--since")
	assert.Contains(t, run(0, "threshold", "set", file), "4 thresholds kept, over those that ship")
	assert.Regexp(t, `cores +cores +not watched +not watched +– +thing.tier == "forecasting" +thresholds.yaml:\d+`, run(0, "threshold"))
	assert.Contains(t, run(0, "threshold", "shipped"), "version: andamio.thresholds/1")
	for _, printed := range [][]string{{"threshold", "--json"}, {"threshold", "preview", tight, "--json"}, {"measure", "--json"}, {"alert", "show", "1", "--json"}, {"sandbox", "load", "alisio-norte", "map-host-1", "disk=20%", "--json"}} {
		assert.True(t, json.Valid([]byte(run(0, printed...))), printed)
	}
}
