package app

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

// alone is a template of one machine with one script.
func alone(t *testing.T, a *App, script string) int64 {
	t.Helper()
	d := draft(t, a, map[string]string{
		"template.yaml": fmt.Sprintf(`tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: alone-%d }
topology_template:
  node_templates:
    host: { type: Compute }
    part: { type: SoftwareComponent, requirements: [ host: host ], interfaces: { Standard: { create: x.sh } } }
`, len(script)), "x.sh": script, "presets/drill.yaml": ""})
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	require.NoError(t, err)
	return id
}

func logOf(t *testing.T, a *App, id int64) []string {
	t.Helper()
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	var out []string
	for _, l := range s.Step("part-1/create").Log {
		out = append(out, l.Text)
	}
	return out
}

func TestWhatScriptsPrintCannotHarmTheTerminal(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	id := alone(t, a, `printf '\033[2J\033]0;owned\007gone\n\tindented\r\n\302\2332Jodd\n\377\376bytes\n'`)
	require.NoError(t, a.Work(ctx, id))
	assert.Equal(t, []string{"gone", " indented", "odd", "��bytes"}, logOf(t, a, id))
}

func TestEndlessLinesAndManyLinesDoNotStopARun(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	id := alone(t, a, "x=0123456789\nfor i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15; do x=$x$x; done\necho before\necho $x\necho after\n")
	require.NoError(t, a.Work(ctx, id))
	assert.Equal(t, "before", logOf(t, a, id)[0])
	id = alone(t, a, "i=0\nwhile [ $i -lt 900 ]; do echo line $i; i=$((i+1)); done\n")
	require.NoError(t, a.Work(ctx, id))
	lines := logOf(t, a, id)
	assert.Equal(t, "line 899", lines[len(lines)-1])
}

func TestErrorAndOutputKeepTheirOrder(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	id := alone(t, a, "echo one\necho two >&2\necho three\nls /none\nexit 3\n")
	assert.Error(t, a.Work(ctx, id))
	assert.Equal(t, []string{"one", "two", "three", "ls: /none: no such file", "x.sh exited with 3: ls: /none: no such file"}, logOf(t, a, id))
}

func TestScriptsThatAreNoneFailWithTheirReason(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	id := alone(t, a, "eval 'if then'\n") // what no shell could read is refused with the template
	assert.Error(t, a.Work(ctx, id))
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Contains(t, s.Step("part-1/create").Error, "x.sh exited with ")
}

// TestWatchersInOtherProcessesSeeTheSame opens the workspace several times, as other processes would, and watches one
// run from all of them at once, one of them late.
func TestWatchersInOtherProcessesSeeTheSame(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	id, err := a.NewRun(ctx, deployments.Order{Plan: draft(t, a, nil).Plan})
	require.NoError(t, err)
	seen := make([][]run.Event, 3)
	begun := make(chan struct{}) // the first has heard something
	var group sync.WaitGroup
	for i := range seen {
		other, err := Open(ctx, a.workspace.Dir)
		require.NoError(t, err)
		defer other.Close()
		group.Go(func() {
			if i == 2 {
				<-begun
			}
			for b := range other.Watch(ctx, id, 0) {
				assert.NoError(t, b.Err)
				if i == 0 && len(seen[i]) == 0 {
					close(begun)
				}
				seen[i] = append(seen[i], b.Events...)
			}
		})
	}
	require.NoError(t, a.Work(ctx, id))
	group.Wait()
	require.NotEmpty(t, seen[0])
	assert.Equal(t, seen[0], seen[1])
	assert.Equal(t, seen[0], seen[2], "who comes late hears it all")
	assert.Equal(t, run.RunEnded, seen[0][len(seen[0])-1].Kind)
}

func TestNamesFromOutsideAreRefusedOrCleaned(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	require.NoError(t, a.workspace.SetSecrets(map[string]string{"register_key": strings.Repeat("k", 20) + "\nsecond line of it"}))
	p := draft(t, a, map[string]string{"scripts/store-configure.sh": "echo \"$KEY\"\nexit 1\n"}).Plan
	id, err := a.NewRun(ctx, deployments.Order{Plan: p})
	require.NoError(t, err)
	assert.Error(t, a.Work(ctx, id))
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	var log []string
	for _, l := range s.Step("contacts-1/configure").Log {
		log = append(log, l.Text)
	}
	assert.Equal(t, []string{"•••", "•••", "scripts/store-configure.sh exited with 1: •••"}, log, "a secret of several lines is masked line by line")
}
