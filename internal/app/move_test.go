package app

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/site"
)

// paired is a workspace whose stand-ins keep names and are all paired with each other.
func paired(t *testing.T, pace float64) (*App, *sandbox.Sandbox) {
	t.Helper()
	return pairedWith(t, pace, 64<<10)
}

// pairedWith is one whose machines write so many bytes a second.
func pairedWith(t *testing.T, pace float64, churn int64) (*App, *sandbox.Sandbox) {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	for _, s := range e.Sites {
		s.Bandwidth = nil
	}
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: pace, Seed: 1, Zone: "ribera.test", System: 2 << 20, Churn: churn, Record: true})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	a, err := Open(ctx, t.TempDir(), InProcess(ctx))
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	require.NoError(t, a.ConnectSandbox(box))
	z, err := a.workspace.Zone()
	require.NoError(t, err)
	z.TTL = 0 // how long others may keep an answer is tried where it matters
	require.NoError(t, a.workspace.SetZone(*z))
	for i, x := range e.Sites {
		for _, y := range e.Sites[:i] {
			p, err := a.MakePair(ctx, x.Name, y.Name, sites.Both)
			require.NoError(t, err)
			require.True(t, p.Well(), p.Trouble())
		}
	}
	return a, box
}

// theLog is the page of levels raised, and where it is.
func theLog(t *testing.T, a *App) (deployment int64, at string) {
	t.Helper()
	tmpl, err := templates.ReadTemplate(os.DirFS("../../examples/level-log"), "level-log", "template.yaml")
	require.NoError(t, err)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	require.NotNil(t, d.Plan, "%v %v", d.Err, d.Diagnostics)
	id := worked(t, a, d)
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, r.State)
	return r.Deployment, d.Plan.Resource("log-host-1").Site
}

// byName asks the page by its name, as a user would.
func byName(t *testing.T, a *App) (string, error) {
	t.Helper()
	z, err := a.workspace.Zone()
	require.NoError(t, err)
	address, port, _, err := z.Ask(ctx, z.Resolvers[0], "level-log-1", "http")
	if err != nil {
		return "", err
	}
	web := http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := web.Get("http://" + net.JoinHostPort(address, strconv.Itoa(port)) + "/levels/")
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	return string(body), err
}

func serves(t *testing.T, a *App) {
	t.Helper()
	page, err := byName(t, a)
	require.NoError(t, err)
	require.Equal(t, "level 2.10 m at the dam\n", page)
}

// active are the machines of a title that are on, by site.
func active(box *sandbox.Sandbox, title string) []string {
	var out []string
	for _, h := range box.Holds() {
		if h.Term == "compute" && h.Title == title && h.Word == "active" {
			out = append(out, h.Site)
		}
	}
	return out
}

// moving begins a move of the log that cuts over as soon as it can.
func moving(t *testing.T, a *App, dep int64, to string, mode change.Mode) (id, runID int64) {
	t.Helper()
	d, err := a.DraftMove(ctx, dep, moves.Request{What: []string{"log-host"}, To: to, Mode: mode, AtOnce: true})
	require.NoError(t, err)
	id, runID, err = a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	return id, runID
}

// tour is a way through all ordered pairs of sites that begins at one: every pair once, each move from where the last
// ended.
func tour(sites []string, at string) []string {
	left := map[string][]string{}
	for _, s := range sites {
		for _, o := range sites {
			if o != s {
				left[s] = append(left[s], o)
			}
		}
	}
	var way []string
	var visit func(string)
	visit = func(s string) {
		for len(left[s]) > 0 {
			next := left[s][0]
			left[s] = left[s][1:]
			visit(next)
		}
		way = append(way, s)
	}
	visit(at)
	slices.Reverse(way)
	return way[1:]
}

// TestEveryPairOfSitesInBothDirections moves one workload twenty times, so that every site was both ends with every other,
// in all three modes in turn.
func TestEveryPairOfSitesInBothDirections(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	dep, at := theLog(t, a)
	serves(t, a)
	way := tour([]string{"presa", "vega", "alisio-norte", "alisio-sur", "tramonta"}, at)
	require.Len(t, way, 20)
	for i, to := range way {
		mode := []change.Mode{change.Warm, change.Cold, change.Live}[i%3]
		id, runID := moving(t, a, dep, to, mode)
		ended(t, a, runID)
		serves(t, a)
		assert.Equal(t, []string{to}, active(box, "log-host-1"), "%s from %s to %s", mode, at, to)
		d, err := a.Deployment(ctx, dep)
		require.NoError(t, err)
		sameDisks(t, box, d, at)
		for _, r := range d.Stand.Plan.Resources {
			if _, kept := moves.KeptOf(&r); !kept && r.Kind != kinds.Network {
				assert.Equal(t, to, r.Site, r.ID)
			}
		}
		assert.NotNil(t, d.Stand.Plan.Resource(KeptID("log-host-1", at)), "the source is kept")
		_, err = a.Powering(ctx, dep, "", false)
		require.ErrorContains(t, err, "is not over")

		commit, err := a.Commit(ctx, id, 0)
		require.NoError(t, err)
		ended(t, a, commit)
		for _, h := range box.Holds() {
			assert.NotEqual(t, at, h.Site, "something is left of the move from %s to %s: %+v", at, to, h)
		}
		held, err := a.store.Reservations(ctx)
		require.NoError(t, err)
		for _, r := range held {
			assert.NotEqual(t, at, r.Site, "%+v", r)
		}
		at = to
	}
	serves(t, a)
}

// KeptID is change.KeptID.
func KeptID(id, site string) string { return change.KeptID(id, site) }

// sameDisks compares what was on the disks when the workload was switched on with what is on those that are kept, by
// digests that the stand-ins make without the code that copies.
func sameDisks(t *testing.T, box *sandbox.Sandbox, d *deployments.Deployment, from string) {
	t.Helper()
	there := box.Digests()
	for _, id := range []string{"log-host-1", "log-vol-1"} {
		kept := d.Stand.Plan.Known[KeptID(id, from)]["site.id"]
		now := d.Stand.Plan.Known[id]["site.id"]
		require.NotEmpty(t, kept)
		digest, err := box.DiskDigest(from, kept)
		require.NoError(t, err)
		if digest == there[now] {
			continue
		}
		// A machine that is switched off closes its own account of what ran, and one that was suspended wakes up.
		t.Errorf("%s: %s at %s and %s where it went", id, digest, from, there[now])
	}
}

// TestGoingBackFromEveryStep breaks a move off after each of its steps in turn and goes back.
func TestGoingBackFromEveryStep(t *testing.T) {
	t.Parallel()
	for _, mode := range []change.Mode{change.Warm, change.Cold, change.Live} {
		t.Run(string(mode), func(t *testing.T) {
			t.Parallel()
			a, box := paired(t, 0.01)
			dep, at := theLog(t, a)
			d, err := a.DraftMove(ctx, dep, moves.Request{What: []string{"log-host"}, To: "tramonta", Mode: mode, AtOnce: true})
			require.NoError(t, err)
			for _, s := range d.Order.Plan.Steps {
				brokenOffAfter(t, a, box, dep, at, mode, s.ID)
			}
		})
	}
}

func brokenOffAfter(t *testing.T, a *App, box *sandbox.Sandbox, dep int64, at string, mode change.Mode, step string) {
	t.Helper()
	id, runID := moving(t, a, dep, "tramonta", mode)
	t.Log(step)
	s, err := a.Replay(ctx, runID)
	require.NoError(t, err)
	st := s.Step(step)
	require.NotNil(t, st, step)
	require.Eventually(t, func() bool {
		events, err := a.store.Events(ctx, runID, s.LastSeq, deployments.MaxBatch)
		require.NoError(t, err)
		for _, e := range events {
			s.Apply(e)
		}
		require.Zero(t, s.Failures, explainRun(s))
		return st.Status == run.Standing || st.Status == run.Passed
	}, 2*time.Minute, time.Millisecond)
	back, err := a.GoBack(ctx, id, 0)
	require.NoError(t, err, step)
	ended(t, a, back)
	_, err = byName(t, a)
	require.NoError(t, err, "after %s", step)
	serves(t, a)
	assert.Equal(t, []string{at}, active(box, "log-host-1"), "after %s", step)
	for _, h := range box.Holds() {
		assert.NotEqual(t, "tramonta", h.Site, "left after going back from %s: %+v", step, h)
	}
	m, err := a.Move(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []moves.WaveState{moves.WaveBack}, m.States)
	d, err := a.Deployment(ctx, dep)
	require.NoError(t, err)
	assert.Empty(t, d.Stand.Unsure, "after %s", step)
	for _, r := range d.Stand.Plan.Resources {
		_, kept := moves.KeptOf(&r)
		assert.False(t, kept, "after %s: %s", step, r.ID)
	}
}

// TestWhatWasWrittenThereComesBack goes back from a move that was finished, after its workload wrote something.
func TestWhatWasWrittenThereComesBack(t *testing.T) {
	t.Parallel()
	a, _ := paired(t, 0.01)
	dep, at := theLog(t, a)
	for _, mode := range []change.Mode{change.Warm, change.Live} {
		id, runID := moving(t, a, dep, "tramonta", mode)
		ended(t, a, runID)
		line := "level 3.05 m at the weir, " + string(mode)
		onHost(t, a, dep, "echo '"+line+"' >> /var/lib/levels/page/levels/index.html")
		back, err := a.GoBack(ctx, id, 0)
		require.NoError(t, err)
		ended(t, a, back)
		page, err := byName(t, a)
		require.NoError(t, err)
		assert.Contains(t, page, line)
		d, err := a.Deployment(ctx, dep)
		require.NoError(t, err)
		assert.Equal(t, at, d.Stand.Plan.Resource("log-host-1").Site)
	}
}

// onHost runs a command where the log is.
func onHost(t *testing.T, a *App, dep int64, command string) {
	t.Helper()
	d, err := a.Deployment(ctx, dep)
	require.NoError(t, err)
	readThere(t, a, d, command)
}

// readThere runs a command on the log's host and returns what it prints.
func readThere(t *testing.T, a *App, d *deployments.Deployment, command string) string {
	t.Helper()
	key, err := a.workspace.Key()
	require.NoError(t, err)
	known := d.Stand.Plan.Known["log-port-1"]
	if known == nil {
		known = d.Stand.Plan.Known["log-host-1.if"]
	}
	client, err := engine.Dial(ctx, func(name string) (string, bool) { v, ok := known[name]; return v, ok }, "log-host-1", key)
	require.NoError(t, err)
	defer client.Close()
	session, err := client.NewSession()
	require.NoError(t, err)
	out, err := session.CombinedOutput(command)
	require.NoError(t, err, string(out))
	return string(out)
}

// TestALiveMoveIsHardlyNoticed has a client that never stops asking by name while the workload moves and its disk changes.
func TestALiveMoveIsHardlyNoticed(t *testing.T) {
	a, box := paired(t, 0.01)
	dep, _ := theLog(t, a)
	z, err := a.workspace.Zone()
	require.NoError(t, err)
	z.TTL = 1
	require.NoError(t, a.workspace.SetZone(*z))
	box.Busy("log-host-1", 8<<20, 4<<20)
	serves(t, a)
	asking, stop := context.WithCancel(ctx)
	var asked atomic.Int64
	var client sync.WaitGroup
	missed := 0
	t.Cleanup(func() { stop(); client.Wait() })
	client.Go(func() {
		for asking.Err() == nil {
			asked.Add(1)
			if page, err := byName(t, a); err != nil || !strings.HasPrefix(page, "level 2.10") {
				missed++
				t.Logf("missed: %v %q", err, page)
			}
		}
	})
	_, runID := moving(t, a, dep, "alisio-sur", change.Live)
	ended(t, a, runID)
	before := asked.Load()
	require.Eventually(t, func() bool { return asked.Load() > before+20 }, 2*time.Minute, time.Millisecond, "it goes on asking where it is now")
	stop()
	client.Wait()
	t.Logf("%d asked, %d missed", asked.Load(), missed)
	assert.Greater(t, asked.Load(), int64(100))
	assert.LessOrEqual(t, missed, 1)
}

// TestCopyingKeepsToWhatItIsTold has copying wait for its window, then keep to a limit, then rest, and go on.
func TestCopyingKeepsToWhatItIsTold(t *testing.T) {
	t.Parallel()
	a, _ := paired(t, 0.01)
	dep, _ := theLog(t, a)
	const limit = 4 << 20
	d, err := a.DraftMove(ctx, dep, moves.Request{What: []string{"log-host"}, To: "tramonta", Limit: limit, Compress: "off"})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, d.Forecasts["log-host-1"].Copy, float64(d.Loads["log-host-1"].Used)/limit)
	opens := time.Now().Add(1500 * time.Millisecond)
	for i := range d.Order.Plan.Steps {
		if c := d.Order.Plan.Steps[i].Copying; c != nil && d.Order.Plan.Steps[i].Op != op.Finish {
			c.Windows = []plan.Window{{From: opens, To: opens.Add(time.Hour)}}
		}
	}
	move, runID, err := a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	disk := func() (run.Disk, migrate.Phase) {
		s, err := a.Replay(ctx, runID)
		require.NoError(t, err)
		require.Zero(t, s.Failures, explainRun(s))
		if x := s.Disks["log-host-1"]; x != nil {
			return *x, migrate.PhaseOf(s, "log-host-1")
		}
		return run.Disk{}, migrate.PhaseOf(s, "log-host-1")
	}
	require.Never(t, func() bool { x, _ := disk(); return x.Bytes > 0 }, time.Until(opens.Add(-100*time.Millisecond)), 50*time.Millisecond, "before the window opens")
	require.Eventually(t, func() bool { x, _ := disk(); return x.Bytes > 0 }, 2*time.Minute, 10*time.Millisecond)
	require.NoError(t, a.Steer(ctx, move, run.Pause))
	require.Eventually(t, func() bool { return ordersSince(t, a, runID, run.Pause) >= 0 }, 2*time.Minute, 10*time.Millisecond, "it is heard")
	require.Never(t, func() bool { return ordersSince(t, a, runID, run.Pause) > 1 }, 4*time.Second, 50*time.Millisecond,
		"an order that is on its way ends, which takes a second or so, and no other begins")
	require.NoError(t, a.Steer(ctx, move, run.GoOn))
	require.Eventually(t, func() bool { _, phase := disk(); return phase == migrate.Ready }, 2*time.Minute, 10*time.Millisecond)
	x, _ := disk()
	first := x.Past[0]
	assert.Greater(t, first.At.Sub(first.Began).Seconds(), float64(x.Whole)/limit, "no faster than it may, and longer by the rest")
	back, err := a.GoBack(ctx, move, 0)
	require.NoError(t, err)
	ended(t, a, back)
	serves(t, a)
}

// ordersSince counts the orders of copying that ended after a run was told something; -1 if it did not hear it yet.
func ordersSince(t *testing.T, a *App, runID int64, verb string) int {
	t.Helper()
	events, err := a.store.Events(ctx, runID, 0, 1e6)
	require.NoError(t, err)
	n := -1
	for _, e := range events {
		switch {
		case e.Kind == run.Decided && e.Text == verb:
			n = 0
		case e.Kind == run.Copied && n >= 0:
			n++
		}
	}
	return n
}

// TestAColdMoveStopsInItsWindow has a workload that is to stand still go on until its window opens.
func TestAColdMoveStopsInItsWindow(t *testing.T) {
	t.Parallel()
	a, _ := paired(t, 0.01)
	dep, at := theLog(t, a)
	opens := time.Now().Add(4 * time.Second).Truncate(time.Second)
	rule := fmt.Sprintf("FREQ=MINUTELY;BYSECOND=%d", opens.Second())
	for _, wrong := range []moves.Request{{Window: "FREQ=SOMETIMES", Hours: 1}, {Window: rule}, {Window: rule, Hours: 1, TimeZone: "Europe/Nowhere"}} {
		wrong.What, wrong.To = []string{"log-host"}, "tramonta"
		_, err := a.DraftMove(ctx, dep, wrong)
		require.Error(t, err, "%+v", wrong)
	}
	d, err := a.DraftMove(ctx, dep, moves.Request{What: []string{"log-host"}, To: "tramonta", Mode: change.Cold, Window: rule, Hours: 30.0 / 3600})
	require.NoError(t, err)
	require.NotEmpty(t, d.Windows)
	assert.WithinDuration(t, opens, d.Windows[0].From, 0)
	assert.False(t, d.Fit.End.IsZero())
	_, runID, err := a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	ended(t, a, runID)
	s, err := a.Replay(ctx, runID)
	require.NoError(t, err)
	assert.False(t, s.Step(op.Halt.On(KeptID("log-host-1", at))).Started.Before(opens), "it is stopped before its window opens")
	serves(t, a)
}

// TestRoundsAreKeptApartUntilTheyAreMadeOne moves what changes all the time, with its rounds kept in layers until the
// commit, and with each made one at once.
func TestRoundsAreKeptApartUntilTheyAreMadeOne(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	dep, _ := theLog(t, a)
	layers := func(at string) int {
		d, err := a.Deployment(ctx, dep)
		require.NoError(t, err)
		drivers, err := a.Sites()
		require.NoError(t, err)
		c, err := drivers[at].(site.Disks).Changes(ctx, d.Stand.Plan.Known["log-host-1"]["site.id"], "", 0)
		require.NoError(t, err)
		return c.Layers
	}
	for to, keep := range map[string]bool{"tramonta": true, "presa": false} {
		box.Busy("log-host-1", 8<<20, 4<<20)
		d, err := a.DraftMove(ctx, dep, moves.Request{What: []string{"log-host"}, To: to, AtOnce: true, KeepLayers: keep})
		require.NoError(t, err)
		f := d.Forecasts["log-host-1"]
		assert.Equal(t, keep, f.Layers > 1, "%+v", f)
		assert.Equal(t, !keep, f.Merging > 0, "%+v", f)
		id, runID, err := a.StartMove(ctx, d, nil)
		require.NoError(t, err)
		ended(t, a, runID)
		serves(t, a)
		assert.Equal(t, keep, layers(to) > 1)
		commit, err := a.Commit(ctx, id, 0)
		require.NoError(t, err)
		ended(t, a, commit)
		s, err := a.Replay(ctx, commit)
		require.NoError(t, err)
		assert.Equal(t, keep, s.Step("log-host-1/"+string(op.Consolidate)) != nil)
		assert.Equal(t, 1, layers(to))
		serves(t, a)
	}
}

func TestTheScenariosRegisterIsMovedWhenSaid(t *testing.T) {
	t.Parallel()
	a, _ := paired(t, pace)
	id, err := a.NewRun(ctx, deployments.Order{Plan: draft(t, a, nil).Plan, Template: templates.DemoName})
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	wish := moves.Request{What: []string{"contacts-host-1"}, To: "alisio-norte"}
	_, err = a.DraftMove(ctx, r.Deployment, wish)
	var breaking *moves.Breaking
	require.ErrorAs(t, err, &breaking)
	assert.Equal(t, []string{"sensitive-data-stays-home"}, breaking.Rules())
	wish.Lift = breaking.Rules()
	d, err := a.DraftMove(ctx, r.Deployment, wish)
	require.NoError(t, err)
	assert.Equal(t, "lifted", d.Differences[0].There, "what is lifted is said first")
	assert.Equal(t, []string{"register_key"}, d.Secrets)
	_, _, err = a.StartMove(ctx, d, nil)
	require.ErrorContains(t, err, "secrets do not travel")
	move, runID, err := a.StartMove(ctx, d, map[string]string{"register_key": "given again"})
	require.NoError(t, err)
	state := func() *run.State {
		s, err := a.Replay(ctx, runID)
		require.NoError(t, err)
		require.Zero(t, s.Failures, explainRun(s))
		return s
	}
	require.Eventually(t, func() bool { return migrate.PhaseOf(state(), "contacts-host-1") == migrate.Ready }, 2*time.Minute, 10*time.Millisecond)
	waits, err := a.Waiting(ctx, time.Now())
	require.NoError(t, err)
	require.Len(t, waits, 1)
	assert.True(t, waits[0].Ready)
	assert.Greater(t, waits[0].Down, 0.0)
	require.NoError(t, a.Steer(ctx, move, run.Pause))
	require.NoError(t, a.Steer(ctx, move, run.LimitTo+"50000000"))
	require.NoError(t, a.Steer(ctx, move, run.GoOn))
	require.NoError(t, a.CutOver(ctx, move))
	ended(t, a, runID)
	s := state()
	assert.Equal(t, migrate.There, migrate.PhaseOf(s, "contacts-host-1"))
	assert.Equal(t, run.Standing, s.Step("alert-dispatch-1/configure").Status, "those who were given the address are told")
	require.ErrorContains(t, a.CutOver(ctx, move), "nothing to steer")
	waits, err = a.Waiting(ctx, time.Now())
	require.NoError(t, err)
	assert.Equal(t, moves.WaveMoved, waits[0].State)
	for _, x := range s.Plan.Resources {
		if strings.HasPrefix(x.ID, "contacts") && !strings.Contains(x.ID, "@") {
			assert.Equal(t, plan.Moved, x.Change, x.ID)
		}
	}
}

// TestWhatIsChosenIsHadThere moves the log with everything chosen by hand, and asks the site what it has.
func TestWhatIsChosenIsHadThere(t *testing.T) {
	t.Parallel()
	a, _ := paired(t, 0.01)
	dep, at := theLog(t, a)
	require.Equal(t, "vega", at)
	id, runID := moving(t, a, dep, "tramonta", change.Warm)
	ended(t, a, runID)
	commit, err := a.Commit(ctx, id, 0)
	require.NoError(t, err)
	ended(t, a, commit)
	known := func() map[string]string {
		d, err := a.Deployment(ctx, dep)
		require.NoError(t, err)
		return d.Stand.Plan.Known["log-port-1"]
	}
	mac := known()["mac"]
	require.NotEmpty(t, mac)
	wish := moves.Request{What: []string{"log-host"}, To: "vega", AtOnce: true,
		Like: migrate.Choice{Zone: "b", Hostname: "levels", Class: "archive", KeepMAC: true, Address: "10.20.4.77"}}
	d, err := a.DraftMove(ctx, dep, wish)
	require.NoError(t, err)
	_, runID, err = a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	ended(t, a, runID)
	serves(t, a)
	assert.Equal(t, mac, known()["mac"])
	sites, err := a.Sites()
	require.NoError(t, err)
	now, err := a.Deployment(ctx, dep)
	require.NoError(t, err)
	at1 := now.Stand.Plan.Known
	host, err := sites["vega"].Read(ctx, kinds.Instance, at1["log-host-1"]["site.id"])
	require.NoError(t, err)
	for name, want := range map[string]string{"occi.compute.hostname": "levels", "andamio.placed.zone": "b", "andamio.storage.class": "archive"} {
		assert.Equal(t, want, host.Details.Raw[name], "%s of %v", name, host.Details.Raw)
	}
	vol, err := sites["vega"].Read(ctx, kinds.Volume, at1["log-vol-1"]["site.id"])
	require.NoError(t, err)
	assert.Equal(t, "archive", vol.Details.Raw["andamio.storage.class"])
	iface, err := sites["vega"].Read(ctx, kinds.Interface, at1["log-port-1"]["site.id"])
	require.NoError(t, err)
	assert.Equal(t, "10.20.4.77", iface.Details.Raw["andamio.reach.inside"], "%v", iface.Details.Raw)
}
