package app

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/shells"
	"andamio/internal/service/templates"
)

var updateReliability = flag.Bool("update-reliability", false, "rewrite docs/reliability.md")

// misfortune is a way in which a site misbehaves, and what is done about it.
type misfortune struct {
	fault sandbox.Fault
	name  string
	// answer is what the engine does, as the document says it.
	answer string
	times  int
}

var misfortunes = []misfortune{
	{sandbox.Unavailable, "answers that it is unavailable", "tried again, each time after a longer pause with some chance in it", 3},
	{sandbox.Throttle, "says that there were too many requests", "all calls to the site wait as long as it asks, and come less often from then on", 2},
	{sandbox.Silent, "is silent and does nothing", "given up on after the call's patience, looked for by its mark, tried again with the same key", 1},
	{sandbox.Lost, "does it, and the answer never comes", "looked for by its mark, and taken on", 1},
	{sandbox.Phantom, "says that it did it, and did nothing", "read again; what is not there is asked for anew, what is still there removed again", 2},
	{sandbox.Deny, "says that it failed, and did it", "looked for by its mark before it is asked for again; what is gone counts as removed", 2},
	{sandbox.Broken, "leaves something half built, in error", "removed, so that nothing is left over, and built anew", 2},
	{sandbox.Crashed, "crashes when it has done it, with all that runs there, and comes back", "given up on after the call's patience, looked for by its mark, and taken on; a script that was cut off is run again", 1},
	{sandbox.Refuse, "refuses for good", "held, with what stands on it; the rest goes on; a person retries, skips, changes or rolls back", 1},
}

// deeds are what a run does at a site, by what its stand-in is asked for.
var deeds = []struct{ name, call, term string }{
	{"create", "create", "compute"}, {"configure", "", ""}, {"attach", "create", "storagelink"}, {"delete", "delete", "compute"},
}

// TestEveryFaultAtEveryDeed raises and retires the scenario once for each fault at each deed, and checks that the sites
// hold what is declared, once, and nothing in the end. With -update-reliability the table in docs/reliability.md is
// written of what was seen.
func TestEveryFaultAtEveryDeed(t *testing.T) {
	t.Parallel()
	type cell struct {
		deed, outcome string
	}
	table := make([][]cell, len(misfortunes))
	var group sync.WaitGroup
	gate := make(chan struct{}, 2)
	for m, misfortune := range misfortunes {
		table[m] = make([]cell, len(deeds))
		for d, deed := range deeds {
			group.Go(func() {
				gate <- struct{}{}
				defer func() { <-gate }()
				outcome := ""
				t.Run(misfortune.name+"/"+deed.name, func(t *testing.T) {
					if deed.name == "configure" {
						outcome = configureFault(t, misfortune)
					} else {
						outcome = siteFault(t, misfortune, deed.call, deed.term)
					}
				})
				table[m][d] = cell{deed.name, outcome}
			})
		}
	}
	group.Wait()
	var text strings.Builder
	text.WriteString("| the site, at | create | configure | attach | delete | what is done |\n|---|---|---|---|---|---|\n")
	for m, row := range table {
		fmt.Fprintf(&text, "| %s |", misfortunes[m].name)
		for _, c := range row {
			fmt.Fprintf(&text, " %s |", c.outcome)
		}
		fmt.Fprintf(&text, " %s |\n", misfortunes[m].answer)
	}
	checkReliability(t, text.String())
}

const (
	tableBegins = "<!-- made by TestEveryFaultAtEveryDeed -->\n"
	tableEnds   = "<!-- end -->\n"
)

// checkReliability holds the document against what was seen.
func checkReliability(t *testing.T, table string) {
	t.Helper()
	const file = "../../docs/reliability.md"
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, ok := strings.Cut(string(data), tableBegins)
	require.True(t, ok)
	old, after, ok := strings.Cut(rest, tableEnds)
	require.True(t, ok)
	if *updateReliability {
		require.NoError(t, os.WriteFile(file, []byte(before+tableBegins+table+tableEnds+after), 0o644))
		return
	}
	assert.Equal(t, table, old, "docs/reliability.md says otherwise; go test ./internal/app -run EveryFault -update-reliability writes it")
}

// impatient is a workspace whose calls give up soon.
func impatient(t *testing.T) (*App, *sandbox.Sandbox) { return impatientOf(t, false) }

// impatientOf is the same, with stand-ins that keep what they hold if that is asked for.
func impatientOf(t *testing.T, kept bool) (*App, *sandbox.Sandbox) {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	cfg := sandbox.Config{Estate: e, Pace: 0.01, Seed: 1}
	if kept {
		cfg.Folder = t.TempDir()
	}
	a, box := connectedTo(t, cfg)
	c, err := a.workspace.Connections()
	require.NoError(t, err)
	for i := range c {
		c[i].Timeout = 0.5
	}
	require.NoError(t, a.workspace.SetConnections(c))
	a.Patience = engine.Patience{Least: 20 * time.Second, Times: 15, Wait: 30 * time.Millisecond, Most: time.Second, Tries: 8}
	return a, box
}

// siteFault has one deed meet a fault at a site, and returns what came of it.
func siteFault(t *testing.T, m misfortune, call, term string) string {
	if m.fault == sandbox.Broken && call == "delete" {
		return "does not arise"
	}
	a, box := impatientOf(t, m.fault == sandbox.Crashed)
	rule := sandbox.Rule{Fault: m.fault, Site: "vega", Call: call, Term: term, Times: m.times}
	if call != "delete" {
		box.Misbehave(rule)
	}
	id := worked(t, a, draft(t, a, nil))
	outcome := ""
	if call != "delete" {
		outcome = settled(t, a, id, m)
	}
	declares(t, a, box, id)
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	o, err := a.Retiring(ctx, r.Deployment)
	require.NoError(t, err)
	if call == "delete" {
		box.Misbehave(rule)
	}
	back, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	_ = a.Work(ctx, back)
	if call == "delete" {
		outcome = settled(t, a, back, m)
	}
	assert.Empty(t, box.Holds(), "everything was retired")
	return outcome
}

// settled checks how a run ended: well by itself, or held until a person had it tried again.
func settled(t *testing.T, a *App, id int64, m misfortune) string {
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	if m.fault != sandbox.Refuse {
		assert.Equal(t, run.Standing, s.Status, explainRun(s))
		return "mended"
	}
	assert.Equal(t, run.Failed, s.Status)
	assert.Equal(t, 1, s.Failures)
	assert.Greater(t, s.Done, 20, "independent branches went on")
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Status == run.Failed {
			require.NoError(t, a.Decide(ctx, id, st.ID, run.Retry))
		}
	}
	require.Eventually(t, func() bool {
		r, err := a.Run(ctx, id)
		return err == nil && r.State == run.Standing
	}, 2*time.Minute, 20*time.Millisecond)
	return "held"
}

// declares checks that the sites hold each thing that a run's plan builds once, and nothing else.
func declares(t *testing.T, a *App, box *sandbox.Sandbox, id int64) {
	t.Helper()
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	var want, got []string
	for i := range s.Plan.Steps {
		if st := &s.Plan.Steps[i]; st.Check.Kind == plan.CheckSite {
			want = append(want, st.Site+" "+st.ID)
		}
	}
	for _, h := range box.Holds() {
		step, _, _ := strings.Cut(strings.Join(strings.Fields(h.Mark)[2:], " "), " #")
		got = append(got, h.Site+" "+step)
	}
	slices.Sort(want)
	slices.Sort(got)
	assert.Equal(t, want, got)
}

// configureFault has scripts meet what corresponds to a fault on an instance: the connection breaks, the script fails
// for a while, or for good.
func configureFault(t *testing.T, m misfortune) string {
	switch m.fault {
	case sandbox.Throttle, sandbox.Phantom, sandbox.Broken:
		return "does not arise"
	case sandbox.Refuse:
		return scriptFails(t)
	}
	if m.fault == sandbox.Crashed {
		return siteCrashes(t)
	}
	return connectionBreaks(t, m)
}

// siteCrashes has the site crash, and come back, while a script runs on an instance of it.
func siteCrashes(t *testing.T) string {
	a, box := impatientOf(t, true)
	d := draft(t, a, map[string]string{"scripts/store-create.sh": "#!/bin/sh\nset -e\necho run >> /srv/runs\nsleep 40\nmkdir -p \"$HOME_DIR/lines\" /opt/store\n"})
	at := d.Plan.Resource("contacts-host-1").Site
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	require.NoError(t, err)
	var group sync.WaitGroup
	group.Go(func() { _ = a.Work(ctx, id) })
	require.Eventually(t, func() bool { return box.Disconnect("contacts-host-1") > 0 }, 2*time.Minute, 10*time.Millisecond)
	require.NoError(t, box.Crash(at))
	group.Wait()
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Standing, s.Status, explainRun(s))
	declares(t, a, box, id)
	return "mended"
}

// connectionBreaks restarts the shell's server of an instance while a script runs on it: the script runs on, or is lost.
func connectionBreaks(t *testing.T, m misfortune) string {
	a, box := impatient(t)
	slow := "#!/bin/sh\nset -e\necho run >> /srv/runs\nsleep 40\n"
	d := draft(t, a, map[string]string{"scripts/store-create.sh": slow + "mkdir -p \"$HOME_DIR/lines\" /opt/store\n"})
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	require.NoError(t, err)
	var group sync.WaitGroup
	group.Go(func() { _ = a.Work(ctx, id) })
	require.Eventually(t, func() bool { return box.Disconnect("contacts-host-1") > 0 }, 2*time.Minute, 10*time.Millisecond)
	group.Wait()
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Standing, s.Status, explainRun(s))
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	dep, err := a.Deployment(ctx, r.Deployment)
	require.NoError(t, err)
	for _, h := range shells.HostsOf(dep) {
		if h.ID == "contacts-host-1" {
			var out, errOut strings.Builder
			_, err := a.Command(ctx, h, "cat /srv/runs", nil, &out, &errOut)
			require.NoError(t, err)
			assert.Equal(t, "run\n", out.String(), "the script was run once, though the connection broke: %s", m.name)
		}
	}
	return "mended"
}

// scriptFails has a script exit with an error once.
func scriptFails(t *testing.T) string {
	a, _ := impatient(t)
	once := "#!/bin/sh\nif [ ! -f /srv/tried ]; then touch /srv/tried; echo no; exit 3; fi\n"
	old, err := os.ReadFile("../../examples/flood-watch/scripts/intake-configure.sh")
	require.NoError(t, err)
	d := draft(t, a, map[string]string{"scripts/intake-configure.sh": once + string(old)})
	id := worked(t, a, d)
	return settled(t, a, id, misfortune{fault: sandbox.Refuse})
}
