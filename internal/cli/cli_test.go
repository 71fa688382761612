package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/testprogram"
	"andamio/schemas"
)

// binary is the program, built once: runs go on in processes of their own.
var binary string

const example = "../../examples/flood-watch"

// call runs a command line in this process.
func call(args ...string) (code int, out, errOut string) {
	var o, e bytes.Buffer
	code = Main(args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

// program runs a command line in a process of its own.
func program(t *testing.T, args ...string) (int, string) {
	t.Helper()
	cmd := exec.Command(binary, args...)
	var all, out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &all, &all // which keeps the order of what is written
	if slices.Contains(args, "--json") {
		cmd.Stdout = &out
	}
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); !exited {
		require.NoError(t, err)
	}
	if cmd.Stdout == &out {
		assert.NoError(t, heldToOne(args, out.Bytes()), "%v", args)
	}
	return cmd.ProcessState.ExitCode(), out.String() + all.String()
}

func TestExitStatuses(t *testing.T) {
	ws := t.TempDir()
	bad := filepath.Join(t.TempDir(), "t.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("tosca_definitions_version: tosca_simple_yaml_1_3\nnode_typos: {}\n"), 0o644))
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"--version"}, 0, "andamio version"},
		{[]string{"--help"}, 0, "Without a command it opens the screens"},
		{[]string{"check", example}, 0, "nothing wrong"},
		{[]string{"check", bad}, 1, `did you mean "node_types"?`},
		{[]string{"check"}, 2, "name a template"},
		{[]string{"check", "--nonsense", example}, 2, "unknown flag"},
		{[]string{"check", "/nowhere"}, 3, "cannot be opened"},
		{[]string{"check", "--preset", "gale", example}, 2, "there are: drill, storm-season"},
		{[]string{"frobnicate"}, 2, `there is no command "andamio frobnicate"`},
		{[]string{"exprt"}, 2, "andamio export may have been meant"},
		{[]string{"level", "giv", "basin"}, 2, "andamio level give may have been meant"},
		{[]string{"team", "set"}, 2, "it is used as andamio team set FILE"},
		{[]string{"pair", "vega"}, 2, "name two sites, or none"},
		{[]string{"watch", "1", "2"}, 2, "it is used as andamio watch [RUN]"},
		{[]string{"deployments", "x"}, 2, "it is used as andamio deployments"},
		{[]string{"run", "/nowhere/plan.json"}, 3, `there is no file "/nowhere/plan.json"`},
		{[]string{"plan", example, "--input", "forecast_workers"}, 2, "NAME=VALUE"},
		{[]string{"plan", example, "--input", "forecast_workers=99"}, 1, "1 to 32"},
		{[]string{"plan", example, "--estate", bad}, 2, "this is no estate"},
		{[]string{"run", bad}, 2, "this is no plan"},
		{[]string{"watch", "--workspace", ws}, 3, "there are no runs"},
		{[]string{"watch", "x", "--workspace", ws}, 2, "no number of a run"},
		{[]string{"watch", "7", "--workspace", ws}, 3, "run 7: not found"},
		{[]string{"export", "nothing", "--workspace", ws}, 2, "neither a plan file nor the number of a run"},
		{[]string{"export", bad, "--as", "portrait"}, 2, "there are elevation, timeline"},
		{[]string{"export", bad, "--as", "timeline"}, 2, "this is no plan"},
		{[]string{"demo", "--headless", "--pace", "0"}, 2, "--pace is above 0"},
		{[]string{"demo", "--stop", "--workspace", ws}, 0, "no stand-ins run"},
	} {
		code, out, errOut := call(c.args...)
		assert.Equal(t, c.code, code, "%v: %s%s", c.args, out, errOut)
		assert.Contains(t, out+errOut, c.says, "%v", c.args)
	}
}

// TestMistakesAreOneValue has commands go wrong in each way, and reads what programs are told.
func TestMistakesAreOneValue(t *testing.T) {
	dir := t.TempDir()
	inputs := filepath.Join(dir, "inputs.yaml")
	require.NoError(t, os.WriteFile(inputs, []byte("a: [\n"), 0o644))
	for _, c := range []struct {
		args              []string
		code, where, hint string
		status            int
	}{
		{[]string{"plan", "--nosuch", "--json"}, "invalid", "andamio plan", "andamio plan --help says what it takes", 2},
		{[]string{"--json", "frobnicate"}, "invalid", "andamio", "andamio --help says what it takes", 2},
		{[]string{"level", "giv", "--json"}, "invalid", "andamio level", "andamio level give may have been meant", 2},
		{[]string{"run", "/nowhere/plan.json", "--json"}, "not found", "/nowhere/plan.json", "", 3},
		{[]string{"check", "/nowhere", "--json"}, "not found", "/nowhere", "", 3},
		{[]string{"explain", "nothing", "--json"}, "invalid", "andamio explain", "andamio explain lists them all", 2},
		{[]string{"watch", "--json", "--workspace", dir}, "not found", "andamio watch", "andamio run PLAN begins one", 3},
	} {
		status, out, errOut := call(c.args...)
		assert.Equal(t, c.status, status, "%v", c.args)
		assert.Empty(t, out, "%v", c.args)
		valid(t, "error.schema.json", errOut)
		var m mistake
		require.NoError(t, json.Unmarshal([]byte(errOut), &m), "%v: %s", c.args, errOut)
		assert.Equal(t, c.code, string(m.Code), "%v", c.args)
		assert.Equal(t, c.where, m.Where, "%v", c.args)
		assert.Equal(t, c.hint, m.Hint, "%v", c.args)
		assert.NotEmpty(t, m.What, "%v", c.args)
	}
	_, out, errOut := call("shell", "a/b-1", "--nosuch", "--", "--json")
	assert.Empty(t, out)
	assert.Contains(t, errOut, "andamio: unknown flag", "what is passed on says nothing of us")
}

// valid holds a value that a command printed against its schema.
func valid(t *testing.T, name, text string) {
	t.Helper()
	data, err := schemas.Files.ReadFile(name)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource(name, doc))
	s, err := c.Compile(name)
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(t, err, text)
	assert.NoError(t, s.Validate(value), text)
}

// TestValuesAreAsTheirSchemasSay holds what commands print against the schemas that docs/cli.md promises, and the classes against the table there.
func TestValuesAreAsTheirSchemasSay(t *testing.T) {
	bad := filepath.Join(t.TempDir(), "t.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  inputs: { a: { type: string, default: x } }\n  node_templates:\n    web:\n      type: Compute\n      requirements: [ dependency: wbe ]\n"), 0o600))
	estate := "../../examples/flood-watch/estate.json"
	for _, c := range []struct {
		schema string
		args   []string
	}{
		{"check.schema.json", []string{"check", bad}},
		{"check.schema.json", []string{"plan", bad}},
		{"check.schema.json", []string{"check", example}},
		{"plan.schema.json", []string{"plan", example, "--estate", estate}},
		{"placement.schema.json", []string{"place", "--problem", "../../examples/placement/basin.yaml"}},
		{"estate.schema.json", []string{"estate", "import", estate}},
	} {
		_, out, errOut := call(append(c.args, "--json")...)
		assert.Empty(t, errOut, "%v", c.args)
		valid(t, c.schema, out)
	}
	guide, err := os.ReadFile("../../docs/cli.md")
	require.NoError(t, err)
	for code, status := range statuses {
		assert.Contains(t, string(guide), fmt.Sprintf("| %d | %s |", status, code))
	}
	assert.Len(t, statuses, len(fault.Codes)+1, "every class has a status")
}

// TestTheEditorsServerEndsWhenItIsTold has its input stay open, as that of an editor that hangs, and ends it by a signal.
func TestTheEditorsServerEndsWhenItIsTold(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, "editor")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	body := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{}}`
	_, err = fmt.Fprintf(in, "Content-Length: %d\r\n\r\n%s", len(body), body)
	require.NoError(t, err)
	_, err = out.Read(make([]byte, 1)) // it is there
	require.NoError(t, err)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	_ = cmd.Wait()
	assert.NoError(t, ctx.Err(), "it went by itself")
	assert.Equal(t, 1, cmd.ProcessState.ExitCode(), "it was not shut down")

	exit := `{"jsonrpc":"2.0","method":"exit"}`
	var o, e bytes.Buffer
	assert.Equal(t, 1, Main([]string{"editor"}, strings.NewReader(fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(exit), exit)), &o, &e), "nor was this")
}

// TestWhatEveryCommandTakes gives every command too many words: it says how it is used, whatever it is.
func TestWhatEveryCommandTakes(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, below := range c.Commands() {
			walk(below)
		}
		words := strings.Fields("a b c d e f g")
		if c.Args == nil || c.Args(c, words) == nil {
			return
		}
		assert.ErrorAs(t, c.Args(c, words), new(usageError), c.CommandPath())
		assert.NotContains(t, c.Args(c, words).Error(), "arg(s)", c.CommandPath())
	}
	walk(newRoot(&shared{}))
}

func TestDiagnosticsShowTheirLine(t *testing.T) {
	dir := t.TempDir()
	text := "tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n    web:\n      type: Compute\n      requirements: [ dependency: wbe ]\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(text), 0o644))
	code, out, _ := call("check", dir)
	assert.Equal(t, 1, code)
	assert.Equal(t, filepath.Join(dir, "template.yaml")+`:6:35: mistake: there is no node template "wbe" [unknown-node]
      6 │       requirements: [ dependency: wbe ]
        │                                   ^^^
        → did you mean "web"?
      4 │     web:
        │     ^
1 mistake, 0 doubts
`, out)
	code, out, _ = call("check", "--json", dir)
	assert.Equal(t, 1, code)
	var v struct {
		Mistakes    int
		Diagnostics []struct {
			Line, Column int
			Code, Hint   string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &v), out)
	assert.Equal(t, 1, v.Mistakes)
	assert.Equal(t, 35, v.Diagnostics[0].Column)
}

func TestPlansAreEqualByteForByte(t *testing.T) {
	code, first, _ := call("plan", example, "--preset", "storm-season", "--json")
	require.Zero(t, code)
	_, second, _ := call("plan", example, "--preset", "storm-season", "--json")
	assert.Equal(t, first, second)
	assert.Equal(t, plantest.JSON(t, "storm-season"), withoutTemplate(first), "the command line and the library give the same plan")
	_, err := plan.Read([]byte(first))
	assert.NoError(t, err)
}

// withoutTemplate is a plan without where its template was opened and what its files were, which the library does not know.
func withoutTemplate(text string) string {
	return regexp.MustCompile(`(?m)^  "(template|source)": .*\n`).ReplaceAllString(text, "")
}

func TestPlanForPeople(t *testing.T) {
	file := filepath.Join(t.TempDir(), "p.json")
	inputs := filepath.Join(t.TempDir(), "i.yaml")
	require.NoError(t, os.WriteFile(inputs, []byte("map_fronts: 1\n"), 0o644))
	code, out, _ := call("plan", example, "--inputs", inputs, "--input", "forecast_workers=1", "-o", file)
	require.Zero(t, code)
	assert.Regexp(t, `(?m)^3\s+vega\s+software\s+contacts\s+tcp 5432`, out)
	assert.Contains(t, out, "decided by readings-host-1/create →")
	assert.Contains(t, out, "andamio run "+file+" builds it")
	_, err := os.Stat(file)
	require.NoError(t, err)
	picture := filepath.Join(t.TempDir(), "e.svg")
	code, out, _ = call("export", file, "--by", "service", "-o", picture)
	assert.Zero(t, code, out)
	data, err := os.ReadFile(picture)
	require.NoError(t, err)
	assert.Contains(t, string(data), "alerting")
	code, _, errOut := call("export", file, "-o", "x.gif")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, ".svg or .pdf")
}

func TestHeadlessDemoReports(t *testing.T) {
	code, out, errOut := call("demo", "--headless", "--pace", "0.02", "--json")
	require.Zero(t, code, errOut)
	var r Report
	require.NoError(t, json.Unmarshal([]byte(out), &r), "one JSON value and nothing else: %s", out)
	assert.Equal(t, "standing", r.Status)
	assert.Equal(t, 96, r.Done)
	assert.Equal(t, 7, r.Levels)
	assert.Equal(t, 5, r.Sites)
	assert.Positive(t, r.Calls)
	assert.Positive(t, r.CostPerHour)
	assert.Positive(t, r.Makespan)
	assert.Len(t, r.Endpoints, 16)
	for _, e := range r.Endpoints {
		assert.True(t, e.Good, "%+v", e)
	}
	code, out, errOut = call("demo", "--headless", "--pace", "0.02", "--one-address")
	require.Zero(t, code, errOut)
	for _, want := range []string{"96 of 96 done", "levels        7", "critical path", "cr/h", "200 · http://127.0.0.1:", "map_url"} {
		assert.Contains(t, out, want)
	}
}

// commands gives commands on a workspace, each with the status that it is to end with; it returns what they print.
func commands(t *testing.T, ws string) func(code int, args ...string) string {
	return func(code int, args ...string) string {
		t.Helper()
		got, out := program(t, append(args, "--workspace", ws)...)
		require.Equal(t, code, got, "%v: %s", args, out)
		return out
	}
}

// standIns starts a sandbox process for a workspace.
func standIns(t *testing.T, pace string) (ws string) {
	t.Helper()
	ws = testprogram.Workspace(t)
	cmd := exec.Command(binary, "sandbox", "--workspace", ws, "--pace", pace)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
	buffer := make([]byte, 4096)
	for text := ""; !strings.Contains(text, "connected to the workspace"); {
		n, err := out.Read(buffer)
		require.NoError(t, err)
		text += string(buffer[:n])
	}
	go func() {
		for {
			if _, err := out.Read(buffer); err != nil {
				return
			}
		}
	}()
	return ws
}

func planFile(t *testing.T, ws string, more ...string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(example)))
	require.NoError(t, os.Remove(filepath.Join(dir, "estate.json"))) // the connected sites are the estate
	file := filepath.Join(dir, "p.json")
	code, out := program(t, append([]string{"plan", dir, "--preset", "drill", "-o", file, "--workspace", ws}, more...)...)
	require.Zero(t, code, out)
	return file
}

func TestRunWatchAndExport(t *testing.T) {
	ws := standIns(t, "0.02")
	file := planFile(t, ws)
	code, out := program(t, "run", file, "--workspace", ws)
	require.Zero(t, code, out)
	assert.Contains(t, out, "standing   river-map-1.app_endpoint/answer")
	assert.Contains(t, out, "run 1: standing (everything stands)")
	assert.NotContains(t, out, "\x1b", "plain lines in a pipe")
	code, out = program(t, "watch", "1", "--workspace", ws)
	assert.Zero(t, code)
	assert.Contains(t, out, "96 of 96 done")
	picture := filepath.Join(t.TempDir(), "t.pdf")
	code, out = program(t, "export", "1", "--as", "timeline", "-o", picture, "--workspace", ws)
	assert.Zero(t, code, out)
	code, out = program(t, "watch", "--json", "--workspace", ws)
	assert.Zero(t, code)
	var r Report
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, int64(1), r.Run)
}

func TestDetachAndInterrupt(t *testing.T) {
	ws := standIns(t, "0.4")
	file := planFile(t, ws)
	code, out := program(t, "run", file, "--detach", "--json", "--workspace", ws)
	require.Zero(t, code, out)
	assert.JSONEq(t, `{"run": 1}`, out)
	goesOn(t, ws, 1)
	file = planFile(t, ws, "--name", "another") // the first run has taken its room by now
	cmd := exec.Command(binary, "run", file, "--workspace", ws)
	var both bytes.Buffer
	cmd.Stdout, cmd.Stderr = &both, &both
	require.NoError(t, cmd.Start())
	goesOn(t, ws, 2)
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	_ = cmd.Wait()
	assert.Equal(t, 1, cmd.ProcessState.ExitCode())
	assert.Contains(t, both.String(), "run 2: stopped (cancelled with")
	code, out = program(t, "watch", "1", "--workspace", ws)
	assert.Zero(t, code, out)
	assert.Contains(t, out, "run 1: standing", "the other run went on")
}

// goesOn waits until a run has done its first steps.
func goesOn(t *testing.T, ws string, id int64) {
	t.Helper()
	a, err := app.Open(t.Context(), ws)
	require.NoError(t, err)
	defer a.Close()
	require.Eventually(t, func() bool {
		s, err := a.Replay(t.Context(), id)
		return err == nil && s.Done > 0
	}, 2*time.Minute, 10*time.Millisecond)
}

func TestAKilledWorkerIsNoticed(t *testing.T) {
	ws := standIns(t, "1")
	file := planFile(t, ws)
	code, _ := program(t, "run", file, "--detach", "--workspace", ws)
	require.Zero(t, code)
	goesOn(t, ws, 1)
	worker := testprogram.Process(t, "work", "1", "--workspace", ws)
	require.NoError(t, worker.Kill())
	code, text := program(t, "watch", "1", "--workspace", ws)
	assert.Equal(t, statuses[fault.Unavailable], code)
	assert.Contains(t, text, "has been silent since")
}
