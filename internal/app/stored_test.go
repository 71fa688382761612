package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/vault"
)

// inUse is a workspace in which much was done.
func inUse(t *testing.T) *App {
	t.Helper()
	a, _ := aWorkspace(t, 0.003)
	for _, name := range []string{workspace.FileQuotas, workspace.FileApprovals, workspace.FileRates, workspace.FileLevels, workspace.FileThresholds, workspace.FileReactions} {
		text, err := os.ReadFile("../../examples/flood-watch/" + name)
		require.NoError(t, err)
		require.NoError(t, a.workspace.Files().Write(name, text))
	}
	require.NoError(t, a.workspace.KeepOverview("the river", watch.Kept{Name: "the river", Over: 3600}))
	d := draft(t, a, nil)
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan, Template: d.Template.Origin()})
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	for _, c := range []string{"vega", "presa"} {
		_, err := a.Survey(ctx, reconcile.SurveyRequest{Site: c, Deep: true})
		require.NoError(t, err)
	}
	for i := range 3 {
		require.NoError(t, a.MeasureAll(ctx, time.Now().Add(time.Duration(i)*15*time.Second)))
	}
	return a
}

// contentsOf is what a workspace tells of all that is in it.
func contentsOf(t *testing.T, a *App) map[string]any {
	t.Helper()
	out := map[string]any{}
	keep := func(name string, v any, err error) {
		require.NoError(t, err, name)
		out[name] = v
	}
	all, err := a.store.Runs(ctx)
	keep("runs", all, err)
	for _, r := range all {
		events, err := a.store.Events(ctx, r.ID, 0, 100_000)
		keep(fmt.Sprint("events of ", r.ID), events, err)
		p, err := a.store.PlanDigest(ctx, r.Plan)
		keep(fmt.Sprint("plan of ", r.ID), p, err)
	}
	entries, err := a.store.Trail(ctx, 0, 100_000)
	keep("log", entries, err)
	seen, err := a.store.Observations(ctx)
	keep("observations", seen, err)
	records, err := a.store.Records(ctx)
	keep("records", records, err)
	held, err := a.store.Reservations(ctx)
	keep("reservations", held, err)
	took, err := a.store.Durations(ctx, 10)
	keep("durations", took, err)
	facts, err := a.store.Facts(ctx)
	keep("facts", facts, err)
	books, err := a.store.Books(ctx)
	keep("books", books, err)
	m, err := a.openMeasures(ctx)
	require.NoError(t, err)
	things, err := m.Things(ctx)
	keep("things", things, err)
	tails, err := m.Tails(ctx, -1)
	keep("tails", tails, err)
	require.NoError(t, m.Close())
	connections, err := a.workspace.Connections()
	require.NoError(t, err)
	for i := range connections {
		connections[i].Renew = nil
	}
	out["connections"] = connections
	names, err := filesAt(a.workspace.Files())
	keep("files", names, err)
	return out
}

// TestAWorkspaceIsCopiedThereAndBack copies one from its folder to a database and from there to another folder: it is what it was, and goes on at each.
func TestAWorkspaceIsCopiedThereAndBack(t *testing.T) {
	t.Parallel()
	a := inUse(t)
	ofAFolder(t, a)
	was := contentsOf(t, a)
	folder, key := a.workspace.Dir, a.workspace.Path(vault.KeyFile)
	address := anAddress(t)
	c, err := CopyWorkspace(ctx, folder, address, "")
	require.NoError(t, err)
	assert.Equal(t, 1, c.Rows["runs"])
	assert.Contains(t, c.Files, "overviews/the river.json")
	assert.NotContains(t, c.Files, vault.KeyFile)
	assert.Equal(t, was, contentsOf(t, a), "it stays as it was")
	_, err = CopyWorkspace(ctx, folder, address, "")
	require.ErrorContains(t, err, "nothing is overwritten")

	_, err = Join(ctx, filepath.Join(t.TempDir(), "x"), address, "", "")
	require.Equal(t, fault.NotAllowed, fault.CodeOf(err), "%v", err)
	require.ErrorContains(t, err, "--key")
	b, err := Open(ctx, joined(t, address, key), InProcess(ctx))
	require.NoError(t, err)
	defer b.Close()
	require.Equal(t, was, contentsOf(t, b))
	in, err := b.StoredIn(ctx)
	require.NoError(t, err)
	assert.True(t, in.Machines)
	assert.Equal(t, 1, in.Deployments)

	// Numbers go on where they were, and what is done is of this workspace.
	d, err := b.FindDeployment(ctx, "flood-watch")
	require.NoError(t, err)
	o, err := b.Scaling(ctx, d.ID, "forecast-host", 3)
	require.NoError(t, err)
	carriedOut(t, b, o)
	all, err := b.store.Runs(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 2, all[0].ID)

	back := filepath.Join(t.TempDir(), "back")
	was = contentsOf(t, b)
	_, err = CopyWorkspace(ctx, address, back, "")
	require.NoError(t, err)
	text, err := os.ReadFile(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(back, vault.KeyFile), text, 0o600))
	third, err := Open(ctx, back, InProcess(ctx))
	require.NoError(t, err)
	defer third.Close()
	require.Equal(t, was, contentsOf(t, third))
	o, err = third.Scaling(ctx, d.ID, "forecast-host", 2)
	require.NoError(t, err)
	carriedOut(t, third, o)
	v, err := third.VerifyTrail(ctx, "")
	require.NoError(t, err)
	require.Empty(t, v.Wrong)
}

func TestABackupOfAWorkspaceInADatabaseIsOneOfAny(t *testing.T) {
	t.Parallel()
	a := inUse(t)
	ofAFolder(t, a)
	address := anAddress(t)
	_, err := CopyWorkspace(ctx, a.workspace.Dir, address, "")
	require.NoError(t, err)
	b, err := Open(ctx, joined(t, address, a.workspace.Path(vault.KeyFile)), Idle())
	require.NoError(t, err)
	defer b.Close()
	file := filepath.Join(t.TempDir(), "w.backup")
	made, err := b.Backup(ctx, file, true)
	require.NoError(t, err)
	found, err := VerifyBackup(ctx, file)
	require.NoError(t, err)
	require.Equal(t, made, found)
	dir := filepath.Join(t.TempDir(), "restored")
	_, err = Restore(ctx, file, dir)
	require.NoError(t, err)
	c, err := Open(ctx, dir, Idle())
	require.NoError(t, err)
	defer c.Close()
	was, is := contentsOf(t, b), contentsOf(t, c)
	for _, of := range []string{"things", "tails"} { // what was measured is in no backup
		delete(was, of)
		delete(is, of)
	}
	was["log"] = was["log"].([]Entry)[:len(is["log"].([]Entry))] // that it was backed up was noted after
	require.Equal(t, was, is)
}

// TestTwoMachinesWorkOnOneWorkspace has each see at once what the other does, and one go on with what the other began.
func TestTwoMachinesWorkOnOneWorkspace(t *testing.T) {
	t.Parallel()
	a := inUse(t)
	ofAFolder(t, a)
	address := anAddress(t)
	_, err := CopyWorkspace(ctx, a.workspace.Dir, address, "")
	require.NoError(t, err)
	machine := func() *App {
		m, err := Open(ctx, joined(t, address, a.workspace.Path(vault.KeyFile)), InProcess(ctx))
		require.NoError(t, err)
		t.Cleanup(func() { m.Close() })
		return m
	}
	one, two := machine(), machine()

	teams := fmt.Appendf(nil, "version: andamio.teams/1\npeople: { ana: { user: %q } }\ngrants: [ { to: ana, role: engineer } ]", acting.Whoami())
	require.NoError(t, one.workspace.SetDirectory(teams))
	require.Eventually(t, func() bool { d, err := two.workspace.Directory(); return err == nil && d != nil }, 20*time.Second, 5*time.Millisecond, "what one is told holds for the other")
	require.NoError(t, one.workspace.Files().Remove(workspace.FileTeams))
	require.NoError(t, one.SetSecrets(ctx, map[string]string{"beacon": "green"}))
	got, err := two.workspace.Secrets([]string{"beacon"})
	require.NoError(t, err)
	require.Equal(t, "green", got["beacon"])

	d, err := one.FindDeployment(ctx, "flood-watch")
	require.NoError(t, err)
	o, err := one.Scaling(ctx, d.ID, "forecast-host", 4)
	require.NoError(t, err)
	id, err := one.NewRun(ctx, o)
	require.NoError(t, err)
	heard := two.Watch(ctx, id, 0)
	broken, stop := context.WithCancel(ctx)
	over := make(chan error, 1)
	go func() { over <- one.Work(broken, id) }()
	require.Eventually(t, func() bool { events, err := two.Events(ctx, id, 0, 10); return err == nil && len(events) > 3 }, 20*time.Second, time.Millisecond)
	stop()
	<-over
	if r, err := two.Run(ctx, id); err == nil && r.State != run.Standing {
		require.NoError(t, two.Resume(ctx, id), "the other goes on")
	}
	n, last := 0, false
	for b := range heard {
		require.NoError(t, b.Err)
		n, last = n+len(b.Events), b.Last
	}
	assert.True(t, last)
	require.Eventually(t, func() bool { r, err := one.Run(ctx, id); return err == nil && r.State == run.Standing }, time.Minute, 10*time.Millisecond)
	events, err := one.Events(ctx, id, 0, 100_000)
	require.NoError(t, err)
	assert.Len(t, events, n, "whoever watches elsewhere hears all of it")
}

func TestAWorkspaceThatIsUsedIsNotCopied(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	ofAFolder(t, a)
	to := filepath.Join(t.TempDir(), "to")
	s, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, nil)
	require.NoError(t, err)
	_, err = CopyWorkspace(ctx, a.workspace.Dir, to, "")
	require.Equal(t, fault.Conflict, fault.CodeOf(err), "%v", err)
	require.ErrorContains(t, err, "is served by")
	require.NoError(t, s.close(ctx))
	d := draft(t, a, nil)
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan, Template: d.Template.Origin()})
	require.NoError(t, err)
	epoch, err := a.store.Claim(ctx, id, 0, runs.ThisWorker(), runs.Alive)
	require.NoError(t, err)
	_, err = CopyWorkspace(ctx, a.workspace.Dir, to, "")
	require.ErrorContains(t, err, fmt.Sprintf("run %d is under way", id))
	require.NoError(t, a.store.Finish(ctx, id, epoch, run.Stopped))
	_, err = CopyWorkspace(ctx, a.workspace.Dir, to, "")
	require.NoError(t, err)
}

func TestWhatIsNoPlaceForAWorkspaceIsRefused(t *testing.T) {
	t.Parallel()
	empty, full := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(full, "notes"), []byte("mine"), 0o600))
	for _, c := range []struct {
		from, to string
		code     fault.Code
		want     string
	}{
		{empty, full, fault.NotFound, "is no workspace"},
		{filepath.Join(empty, "none"), full, fault.NotFound, "cannot be read"},
		{full, full, fault.Invalid, "to itself"},
		{"mysql://db/x", empty, fault.Invalid, "neither a folder nor the address"},
		{"postgres://a:river@db/x", empty, fault.Invalid, "holds a password"},
	} {
		_, err := CopyWorkspace(ctx, c.from, c.to, "")
		assert.Equal(t, c.code, fault.CodeOf(err), "%v", err)
		assert.ErrorContains(t, err, c.want)
		assert.NotContains(t, fmt.Sprint(err), "river")
	}
	_, err := Join(ctx, full, "postgres://andamio@127.0.0.1:1/x", "", "")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err), "%v", err)
	require.NoError(t, os.WriteFile(filepath.Join(full, workspace.FileStore), []byte(`{"format":"andamio.store/9","address":"x"}`), 0o600))
	_, err = Open(ctx, full)
	assert.ErrorContains(t, err, "use the one that made it")
	require.NoError(t, os.WriteFile(filepath.Join(full, workspace.FileStore), []byte(`{"format":"andamio.store/1","address":"postgres://a:river@db/x"}`), 0o600))
	_, err = Open(ctx, full)
	assert.ErrorContains(t, err, "holds a password")
	data, err := os.ReadFile(filepath.Join(full, "notes"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
}
